package service

import (
	"crypto/rand"
	"fmt"
	"io/fs"
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5"

	"ostiarius/console"
	"ostiarius/service/base/guard"
)

// consoleRoutes serves the console. Its page is the same at every address below; the
// rest are files that carry their hash in their name.
//
// To whom has typed the password of late the page brings a mark that shows it, made by mark; only
// to somebody who goes to it with a browser, not to a script of another page that reads it.
func consoleRoutes(r chi.Router, mark func(r *http.Request) string) {
	files := console.Files()
	index, err := fs.ReadFile(files, "index.html")
	r.Get("/console", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, guard.TurnOf(r).Book.Prefix+"/console/", http.StatusSeeOther)
	})
	r.Get("/console/*", func(w http.ResponseWriter, r *http.Request) {
		base := guard.TurnOf(r).Book.Prefix + "/console/"
		name := strings.TrimPrefix(r.URL.Path, base)
		if info, err := fs.Stat(files, name); err == nil && info.Mode().IsRegular() && name != "index.html" {
			w.Header().Set("Cache-Control", "private, max-age=31536000, immutable")
			w.Header().Set("X-Content-Type-Options", "nosniff")
			http.ServeFileFS(w, r, files, name)
			return
		}
		if err != nil {
			http.Error(w, "This binary was built without the console; `make build` puts it in.", http.StatusNotFound)
			return
		}
		// The editor adds its style sheets by script; only those that carry the nonce count.
		nonce := rand.Text()
		h := w.Header()
		h.Set("Content-Type", "text/html; charset=utf-8")
		h.Set("Cache-Control", "private, no-store")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-"+nonce+"'; font-src 'self'; "+
			"img-src 'self' data:; connect-src 'self'; frame-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'self'")
		h.Set("Cross-Origin-Opener-Policy", "same-origin") // nobody who opened it in a window can look into it
		head := `<head><base href="` + base + `"><meta name="style-nonce" content="` + nonce + `">`
		if r.Header.Get("Sec-Fetch-Mode") == "navigate" && r.Header.Get("Sec-Fetch-Dest") == "document" {
			if proof := mark(r); proof != "" {
				head += `<meta name="proof" content="` + proof + `">`
			}
		}
		fmt.Fprint(w, strings.Replace(string(index), "<head>", head, 1))
	})
}
