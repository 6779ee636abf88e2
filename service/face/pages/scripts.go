package pages

import (
	_ "embed"
	"html/template"
	"net/http"
	"slices"
	"strings"

	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
)

// What a page of the site gives its scripts: a module, its types, and the same as a plain script, which can stand in the head
// of a page so that it is there before anything is drawn.
var (
	//go:embed scripts/client.js
	clientModule string
	//go:embed scripts/client.d.ts
	clientTypes string

	clientPlain = plainScript(clientModule)
)

// plainScript makes a plain script of the module, which has its names in the object door.
func plainScript(module string) string {
	body, names, ok := strings.Cut(module, "\nexport {")
	if !ok {
		panic("the module exports nothing at its end")
	}
	return "(() => {\n" + strings.Replace(body, "import.meta.url", "document.currentScript.src", 1) + "\nglobalThis.door = {" +
		strings.TrimSuffix(strings.TrimSpace(names), ";") + ";\n})();\n"
}

func (p *Pages) clientScript(w http.ResponseWriter, r *http.Request) {
	text := clientModule
	if r.URL.Query().Has("plain") {
		text = clientPlain
	}
	script(w, text, "text/javascript; charset=utf-8")
}

func (p *Pages) clientTypes(w http.ResponseWriter, r *http.Request) {
	script(w, clientTypes, "text/plain; charset=utf-8")
}

func script(w http.ResponseWriter, text, kind string) {
	h := w.Header()
	h.Set("Content-Type", kind)
	h.Set("Cache-Control", "public, max-age=600")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Cross-Origin-Resource-Policy", "cross-origin") // it is no secret, and of use to other origins
	h.Set("Access-Control-Allow-Origin", "*")
	w.Write([]byte(text))
}

// forOrigins lets the scripts of the origins that the policy names read an answer, with the cookies of this browser (Fetch standard,
// section 3.3). Whoever else asks gets the answer, and their browser keeps it from them.
func forOrigins(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h["Vary"] = append(h["Vary"], "Origin")
		if readable(h, r, guard.TurnOf(r).Book) && r.Method == http.MethodOptions {
			h.Set("Access-Control-Allow-Methods", "GET, POST")
			h.Set("Access-Control-Allow-Headers", "Content-Type, Accept, If-None-Match")
			h.Set("Access-Control-Max-Age", "600")
		}
		if r.Method == http.MethodOptions {
			w.WriteHeader(http.StatusNoContent)
			return
		}
		next(w, r)
	}
}

// readable lets the script that has sent a request read the answer, if it is of an origin that the policy names, and reports whether so.
func readable(h http.Header, r *http.Request, book *policy.Book) bool {
	origin := r.Header.Get("Origin")
	if origin == "" || !slices.Contains(book.Origins, origin) {
		return false
	}
	h.Set("Access-Control-Allow-Origin", origin)
	h.Set("Access-Control-Allow-Credentials", "true")
	h.Set("Access-Control-Expose-Headers", "ETag, Date")
	return true
}

// Preflight answers the question of a browser whether a script of an origin that the policy names may send a request (Fetch standard,
// section 3.2.2), where signing in is asked for, and reports whether it did. Browsers ask without credentials, so nobody could ever be
// admitted with it. The request itself comes with them, and is judged; what may be read of its answer, the server behind says. That is not
// asked here, as it may do something whatever the method.
func (p *Pages) Preflight(w http.ResponseWriter, r *http.Request, away *guard.TurnedAway) bool {
	method := r.Header.Get("Access-Control-Request-Method")
	if r.Method != http.MethodOptions || method == "" || away.Decision.Outcome != policy.Challenge || away.Walk != nil {
		return false
	}
	wanted := strings.Join(r.Header["Access-Control-Request-Headers"], ", ")
	if !plainTokens(method) || !plainTokens(wanted) || !readable(w.Header(), r, away.Book) {
		return false
	}
	h := w.Header()
	h.Set("Access-Control-Allow-Methods", method)
	if wanted != "" {
		h.Set("Access-Control-Allow-Headers", wanted)
	}
	h.Set("Access-Control-Max-Age", "600")
	h.Set("Vary", "Origin, Access-Control-Request-Method, Access-Control-Request-Headers")
	w.WriteHeader(http.StatusNoContent)
	return true
}

// plainTokens reports whether a text is a list of names of fields or methods (RFC 9110, section 5.6.2), of letters, digits and hyphens.
func plainTokens(text string) bool {
	return !strings.ContainsFunc(text, func(r rune) bool {
		return r != '-' && r != '_' && r != ',' && r != ' ' && (r < '0' || r > '9') && (r < 'A' || r > 'Z') && (r < 'a' || r > 'z')
	})
}

// Quickly answers what scripts ask with each step of a visitor before a router is asked, and leaves the rest to next.
func (p *Pages) Quickly(prefix string, next http.Handler) http.Handler {
	atMe, me := prefix+"/me", forOrigins(p.me)
	atMay, may := prefix+"/may", forOrigins(p.may)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method != http.MethodGet:
			next.ServeHTTP(w, r)
		case r.URL.Path == atMe:
			me(w, r)
		case r.URL.Path == atMay:
			may(w, r)
		default:
			next.ServeHTTP(w, r)
		}
	})
}

// The script of the page that a dialogue ends with tells the page that has opened it, of this origin alone.
const doneScript = `(opener ?? parent).postMessage("door: done", location.origin); if (opener) close()`

var donePolicy = policyWith(doneScript)

// A doneView is the page with which a dialogue ends.
type doneView struct {
	frame
	Script template.JS
}

func (p *Pages) done(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Security-Policy", framed(r, donePolicy))
	p.render(w, r, http.StatusOK, "done.html", doneView{p.frame(r, "done.title"), doneScript})
}

// framed is the policy of a page's content where a page of this origin has it in a frame.
func framed(r *http.Request, policy string) string {
	if r.Header.Get("Sec-Fetch-Dest") == "iframe" && r.Header.Get("Sec-Fetch-Site") == "same-origin" {
		return strings.Replace(policy, "frame-ancestors 'none'", "frame-ancestors 'self'", 1)
	}
	return policy
}
