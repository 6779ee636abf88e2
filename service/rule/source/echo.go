package source

import (
	"bytes"
	"crypto/rand"
	"net/http"
	"path"
	"strconv"
	"strings"

	"ostiarius/core/pattern"
)

// A Drawn is a name that nobody has given to anything, to be asked for instead of another. It differs from that in one run of letters,
// so that whatever a server makes of the two, by their endings, signs or number of parts, is alike.
type Drawn struct {
	Name     string
	run, was string // where the name has the one, the other had that; in lower case
}

// runs are what is replaced: whatever escaping they are put through, they stay as they are.
var runs = pattern.New(`[A-Za-z0-9]+`)

// Draw returns a name for what a path names, below some directory.
func Draw(path string) Drawn {
	const least = 9 // letters that nobody has named something by accident
	first, rest, _ := strings.Cut(path, "/")
	end := ""
	if rest == "" {
		end = ending(first)
	}
	stem := first[:len(first)-len(end)]
	from, to := len(stem), len(stem)
	for _, run := range runs.FindAllStringIndex(stem, -1) {
		if to-from < run[1]-run[0] {
			from, to = run[0], run[1]
		}
	}
	d := Drawn{was: stem[from:to]}
	for len(d.run) < max(least, to-from) {
		d.run += letters(rand.Text())
	}
	d.run = d.run[:max(least, to-from)]
	if strings.ToLower(d.was) != d.was { // so that it shows if a server takes no letter case
		d.run = strings.ToUpper(d.run[:1]) + d.run[1:]
	}
	d.Name = stem[:from] + d.run + stem[to:] + path[len(stem):]
	return d
}

// plain are letters in which no kind of file begins, whether small or capital. A server that guesses what it sends by its text (such as
// Go's http.DetectContentType, which sees a font where the 35th byte is an L and the next a P) could else take one of two answers for
// something, and the other for nothing.
const plain = "acdeghjknqsuvxyz"

// letters returns a text that was drawn, of base 32 (RFC 4648), in plain letters.
func letters(drawn string) string {
	return strings.Map(func(r rune) rune {
		i := int(r - 'A')
		if r <= '9' {
			i = int(r-'2') + 26 // there are 32 signs, so that each letter stands for two
		}
		return rune(plain[i%len(plain)])
	}, drawn)
}

// ending returns the end of a name that servers look at, such as ".html"; "" if there is none.
func ending(name string) string {
	end := path.Ext(name)
	if len(end) < 2 || len(end) > 8 || len(end) == len(name) {
		return ""
	}
	return end
}

// undo puts the name that was asked for where a text has the one that was drawn.
func (d *Drawn) undo(text []byte) []byte {
	for _, as := range []func(string) string{strings.Clone, strings.ToLower, strings.ToUpper} {
		text = bytes.ReplaceAll(text, []byte(as(d.run)), []byte(as(d.was)))
	}
	return text
}

// mostEcho is how much of an answer is held, to be looked at as a whole, in bytes.
const mostEcho = 256 << 10

// An Echo is what an answer is written to that was made for one address and is given for another: where it has the name of the one,
// as pages about what is missing do, it says the other's.
type Echo struct {
	to      http.ResponseWriter
	drawn   Drawn
	status  int
	held    bytes.Buffer
	through bool // it is too long, and goes out as it is
}

// NewEcho returns one for an answer to a request for a name that was drawn.
func NewEcho(to http.ResponseWriter, drawn Drawn) *Echo { return &Echo{to: to, drawn: drawn} }

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
		text := e.held.Bytes()
		if len(e.drawn.run) == len(e.drawn.was) { // else it would not be as long as was said
			text = e.drawn.undo(text)
		}
		_, err := e.to.Write(text)
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
	if h.Get("Content-Encoding") == "" {
		body = e.drawn.undo(body)
	}
	for _, values := range h {
		for i, value := range values {
			if now := string(e.drawn.undo([]byte(value))); now != value { // others are lists that all answers share
				values[i] = now
			}
		}
	}
	after := http.Header{} // what comes behind the body, and was put among the other fields meanwhile
	for _, line := range h["Trailer"] {
		for name := range strings.SplitSeq(line, ",") {
			if name = http.CanonicalHeaderKey(strings.TrimSpace(name)); h[name] != nil {
				after[name] = h[name]
				delete(h, name)
			}
		}
	}
	known := h.Get("Content-Length") != ""
	if known && len(body) > 0 {
		h.Set("Content-Length", strconv.Itoa(len(body)))
	}
	e.to.WriteHeader(e.status)
	if !known && len(body) > 0 { // as its length was not known behind, it is not known here
		http.NewResponseController(e.to).Flush()
	}
	e.to.Write(body)
	for name, values := range after {
		h[name] = values
	}
}
