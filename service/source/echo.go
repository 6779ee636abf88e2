package source

import (
	"bytes"
	"html"
	"net/http"
	"net/url"
	"strconv"
	"strings"
)

// mostEcho is how much of an answer is held, to be looked at as a whole, in bytes.
const mostEcho = 256 << 10

// An Echo is what an answer is written to that was made for one address and is given for another: where it has the name of the one, as pages about what
// is missing do, it says the other's.
type Echo struct {
	to         http.ResponseWriter
	name, says string
	status     int
	held       bytes.Buffer
	through    bool // it is too long, and goes out as it is
}

// NewEcho returns one for an answer in which name, of ASCII letters and signs, is to become says.
func NewEcho(to http.ResponseWriter, name, says string) *Echo {
	return &Echo{to: to, name: name, says: says}
}

// Header is for http.ResponseWriter.
func (e *Echo) Header() http.Header { return e.to.Header() }

// WriteHeader is for http.ResponseWriter.
func (e *Echo) WriteHeader(status int) {
	if e.status == 0 && status >= 200 {
		e.status = status
	}
}

// Write is for http.ResponseWriter.
func (e *Echo) Write(p []byte) (int, error) {
	e.WriteHeader(http.StatusOK)
	if e.through {
		return e.to.Write(p)
	}
	e.held.Write(p)
	if e.held.Len() > mostEcho {
		e.through = true
		e.to.WriteHeader(e.status)
		_, err := e.to.Write(e.held.Bytes())
		e.held.Reset()
		return len(p), err
	}
	return len(p), nil
}

// Close writes what is held.
func (e *Echo) Close() {
	if e.through || e.status == 0 {
		return
	}
	h := e.to.Header()
	body := e.held.Bytes()
	if h.Get("Content-Encoding") == "" && bytes.Contains(body, []byte(e.name)) {
		says := e.says
		if kind := h.Get("Content-Type"); strings.Contains(kind, "html") || strings.Contains(kind, "xml") {
			says = html.EscapeString(says)
		}
		body = bytes.ReplaceAll(body, []byte(e.name), []byte(says))
	}
	for _, values := range h {
		for i, value := range values {
			if strings.Contains(value, e.name) {
				values[i] = strings.ReplaceAll(value, e.name, (&url.URL{Path: e.says}).EscapedPath())
			}
		}
	}
	if h.Get("Content-Length") != "" && len(body) > 0 {
		h.Set("Content-Length", strconv.Itoa(len(body)))
	}
	e.to.WriteHeader(e.status)
	e.to.Write(body)
}
