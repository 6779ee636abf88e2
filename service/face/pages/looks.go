package pages

import (
	"errors"
	"fmt"
	"hash/fnv"
	"html/template"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"ostiarius/core/looks"
	"ostiarius/service/base/guard"
)

// The largest file of looks, in bytes.
const largestLooks = 4 << 20

// A dress is what a page wears.
type dress struct {
	Scheme               string
	Logo, Favicon, Style string       // addresses; "" for none
	Inline               template.CSS // the same within the page, where it is shown as a sample
	Sheet                string       // the address of the style sheet with the site's colours; "" for the usual ones
}

func dressOf(l looks.Looks, prefix string) dress {
	h := fnv.New32a()
	fmt.Fprintf(h, "%v %v %q %q %q %q", l.InLight(), l.InDark(), l.Scheme, l.Logo, l.Favicon, l.Style)
	version := fmt.Sprintf("?v=%08x", h.Sum32()) // another one when the policy says something else
	d := dress{Scheme: l.ColorScheme()}
	at := func(what, file string) string {
		if file == "" {
			return ""
		}
		return prefix + "/assets/looks/" + what + version
	}
	d.Logo, d.Favicon, d.Style = at("logo", l.Logo), at("favicon", l.Favicon), at("style", l.Style)
	if l.CSS() != "" {
		d.Sheet = prefix + "/assets/looks.css" + version
	}
	return d
}

// looksSheet is the style sheet with the colours of the site.
func (p *Pages) looksSheet(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/css; charset=utf-8")
	w.Header().Set("Cache-Control", "public, max-age=3600")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	io.WriteString(w, guard.TurnOf(r).Book.Looks.CSS())
}

// looksFile gives out a file that the policy names for the looks of these pages, and no other.
func (p *Pages) looksFile(w http.ResponseWriter, r *http.Request) {
	l := guard.TurnOf(r).Book.Looks
	name := map[string]string{"logo": l.Logo, "favicon": l.Favicon, "style": l.Style}[chi.URLParam(r, "what")]
	if name == "" {
		p.Missing(w, r)
		return
	}
	text, err := readLooks(p.o.Beside(name))
	if err != nil {
		p.o.Log.Error("a file of the looks cannot be read", "file", name, "error", err)
		p.Missing(w, r)
		return
	}
	h := w.Header()
	kind := mime.TypeByExtension(strings.ToLower(filepath.Ext(name)))
	if kind == "" {
		kind = "application/octet-stream"
	}
	h.Set("Content-Type", kind)
	h.Set("Cache-Control", "public, max-age=300")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; sandbox") // a picture can be a page with scripts
	http.ServeContent(w, r, "", time.Time{}, strings.NewReader(text))
}

func readLooks(name string) (string, error) {
	info, err := os.Stat(name) // before it is opened: a pipe would wait for somebody who writes
	switch {
	case err != nil:
		return "", err
	case !info.Mode().IsRegular():
		return "", &fs.PathError{Op: "read", Path: name, Err: errors.New("it is no file")}
	case info.Size() > largestLooks:
		return "", fmt.Errorf("%s has more than %d MB", name, largestLooks>>20)
	}
	file, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, largestLooks))
	return string(text), err
}
