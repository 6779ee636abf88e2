package source

import (
	"io"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"

	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
)

// A service worker answers in a browser for all pages of its scope, as the site. One whose scope
// covers Ostiarius's own pages could show a sign-in page of its own and be told passwords. Its scope
// is at most the directory of its script, or what the answer with the script allows (Service
// Workers, W3C, "Register" and "Update"); so it is the script that is refused.
//
// A browser that has such a worker from earlier times asks for its script again, past the worker
// itself, whenever one of its pages is visited. To be told that there is none does not end it; to be
// given another one does. So the answer is a worker that ends itself.
const farewell = `// Ostiarius does not hand out this service worker: its scope would cover the sign-in pages.
// This one takes its place and ends itself.
self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (event) => event.waitUntil(self.registration.unregister()));
console.error("Ostiarius did not hand out a service worker, since its scope would cover the sign-in pages. " +
  "Put its script into a directory beside them, or see service-worker in the documentation.");
`

// asksForWorker reports whether a browser asks for the script of a service worker.
func asksForWorker(r *http.Request) bool {
	if dest := r.Header["Sec-Fetch-Dest"]; len(dest) > 0 && dest[0] == "serviceworker" {
		return true
	}
	return len(r.Header["Service-Worker"]) > 0
}

// covers reports whether a scope has own pages in it, or is among them. Letter case is not looked at,
// since there are sites that do not.
func covers(scope, prefix string) bool {
	scope, prefix = strings.ToLower(scope), strings.ToLower(prefix)+"/"
	return strings.HasPrefix(prefix, scope) || strings.HasPrefix(scope, prefix)
}

// Workers are the scripts of service workers that were refused. The zero value is ready for use, by
// several goroutines; a nil one remembers nothing.
type Workers struct {
	mu    sync.Mutex
	paths []string
}

// The most scripts that are remembered.
const mostWorkers = 10

func (w *Workers) note(path string) {
	if w == nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if !slices.Contains(w.paths, path) && len(w.paths) < mostWorkers {
		w.paths = append(w.paths, path)
	}
}

// Paths returns the paths of the first few scripts that were refused.
func (w *Workers) Paths() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Clone(w.paths)
}

// Refuse answers a request for a script whose worker would cover own pages, unless its source may
// have such, and reports whether it did. Every other request is left alone. It does not matter who
// asks, nor whether there is such a script: a worker from earlier times must end.
func (w *Workers) Refuse(to http.ResponseWriter, r *http.Request, t *guard.Turn) bool {
	if !asksForWorker(r) || t.Place.Path == "" {
		return false
	}
	scope, _ := path.Split(t.Place.Path)
	if s := t.Book.SourceOf(t.Place); s != nil && s.ServiceWorker || t.Book.IsOwn(t.Place) || !covers(scope, t.Book.Prefix) {
		return false
	}
	w.note(t.Place.Path)
	sayFarewell(to.Header(), scope)
	io.WriteString(to, farewell)
	return true
}

func sayFarewell(h http.Header, scope string) {
	h.Set("Content-Type", "text/javascript; charset=utf-8")
	h.Set("Content-Length", strconv.Itoa(len(farewell)))
	h.Set("Cache-Control", "private, no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Service-Worker-Allowed", scope)
}

// allow leaves out of an answer that a worker may have a wider scope than its script gives it by
// itself. If the scope would cover own pages, the answer becomes that of a worker that ends itself: a
// browser may have one from the time before.
func (w *Workers) allow(resp *http.Response, t *guard.Turn, s *policy.Source) {
	allowed, there := resp.Header["Service-Worker-Allowed"]
	if !there || s.ServiceWorker {
		return
	}
	delete(resp.Header, "Service-Worker-Allowed")
	if t == nil || !asksForWorker(resp.Request) {
		return
	}
	scope, script := "/", &url.URL{Path: t.Place.Path}
	if u, err := script.Parse(allowed[0]); err == nil && u.Path != "" {
		scope = u.EscapedPath()
	}
	if !covers(scope, t.Book.Prefix) {
		return
	}
	w.note(t.Place.Path)
	resp.Body.Close()
	resp.Body = io.NopCloser(strings.NewReader(farewell))
	resp.StatusCode, resp.Status, resp.ContentLength, resp.TransferEncoding = http.StatusOK, "200 OK", int64(len(farewell)), nil
	for _, name := range [...]string{"Content-Encoding", "Etag", "Last-Modified", "Accept-Ranges", "Content-Range", "Trailer"} {
		delete(resp.Header, name)
	}
	sayFarewell(resp.Header, scope)
}
