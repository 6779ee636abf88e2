// Package access writes a line for each request into a file, in a form that other programs read.
package access

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// A Form is how a line is written.
type Form string

const (
	Combined Form = "combined" // the Combined Log Format, as web servers have it
	JSON     Form = "json"     // an object a line
)

// Forms are all of them.
var Forms = []string{string(Combined), string(JSON)}

// A Log is a file with a line for each request. What a line says is never what opens something: of an address
// the query is left out, where links have their secrets, also of the page that led here.
//
// Nobody waits for the file: if it takes lines more slowly than they come, lines are left out, and
// that is told.
type Log struct {
	path  string
	form  Form
	fail  func(string, error)
	lines chan []byte
	lost  atomic.Int64
	again chan chan error
	ended chan struct{}
	close func()
}

// Lines that wait for the file at most.
const mostWaiting = 4096

// Open opens a file, to which lines are added, or makes it, readable by this user and group. It calls fail with what goes wrong
// later, at most once until it goes right again.
func Open(path string, form Form, fail func(what string, err error)) (*Log, error) {
	file, err := open(path)
	if err != nil {
		return nil, err
	}
	l := &Log{
		path: path, form: form, fail: fail, lines: make(chan []byte, mostWaiting), again: make(chan chan error), ended: make(chan struct{}),
	}
	stop := make(chan struct{})
	l.close = sync.OnceFunc(func() { close(stop); <-l.ended })
	go l.write(file, stop)
	return l, nil
}

func open(path string) (*os.File, error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o640)
	if err != nil {
		return nil, fmt.Errorf("the access log cannot be written: %w", err)
	}
	return file, nil
}

// Reopen lets go of the file and opens it anew by its name, since it was given another. If that fails, the file is
// written on.
func (l *Log) Reopen() error {
	answer := make(chan error)
	select {
	case l.again <- answer:
		return <-answer
	case <-l.ended:
		return os.ErrClosed
	}
}

// Close writes what waits, and closes the file.
func (l *Log) Close() { l.close() }

func (l *Log) write(file *os.File, stop <-chan struct{}) {
	defer close(l.ended)
	out := bufio.NewWriter(file)
	failing := false
	note := func(err error) {
		if err != nil && !failing {
			l.fail("the access log cannot be written", err)
		}
		if failing = err != nil; failing {
			out.Reset(file) // which forgets its error
		}
	}
	one := func(line []byte) {
		if lost := l.lost.Swap(0); lost > 0 && !failing {
			l.fail("the access log takes lines too slowly", fmt.Errorf("%d were left out", lost))
		}
		out.Write(line)
		if len(l.lines) == 0 {
			note(out.Flush())
		}
	}
	for {
		select {
		case line := <-l.lines:
			one(line)
		case answer := <-l.again:
			note(out.Flush())
			next, err := open(l.path)
			if err == nil {
				file.Close()
				file = next
				out.Reset(file)
			}
			answer <- err
		case <-stop:
			for len(l.lines) > 0 {
				one(<-l.lines)
			}
			note(out.Flush())
			file.Close()
			return
		}
	}
}

// judged is what is known of a request when it has been judged.
type judged struct {
	client  netip.Addr
	account string
	outcome string
	door    string
}

type key struct{}

// Note says of a request that is being answered who sent it, and what it came to.
func Note(ctx context.Context, client netip.Addr, account, outcome, door string) {
	if j, ok := ctx.Value(key{}).(*judged); ok {
		*j = judged{client, account, outcome, door}
	}
}

// Around returns a handler that writes a line for each request that next has answered.
func (l *Log) Around(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		begun, j, counted := time.Now(), &judged{}, &counting{ResponseWriter: w}
		defer func() { // also if what is behind breaks off
			line := l.line(r, begun, time.Now(), j, counted)
			select {
			case l.lines <- line:
			default:
				l.lost.Add(1)
			}
		}()
		next.ServeHTTP(counted, r.WithContext(context.WithValue(r.Context(), key{}, j)))
	})
}

type entry struct {
	Time    string  `json:"time"` // when the request came
	Client  string  `json:"client"`
	Account string  `json:"account,omitempty"`
	Method  string  `json:"method"`
	Host    string  `json:"host"`
	Path    string  `json:"path"` // as it was sent, without the query
	Proto   string  `json:"protocol"`
	Status  int     `json:"status"` // 0 if the connection ended before an answer
	Bytes   int64   `json:"bytes"`  // of the answer's content
	Seconds float64 `json:"seconds"`
	Outcome string  `json:"outcome,omitempty"`
	Door    string  `json:"door,omitempty"`
	Referer string  `json:"referer,omitempty"`
	Agent   string  `json:"user_agent,omitempty"`
}

func (l *Log) line(r *http.Request, begun, now time.Time, j *judged, w *counting) []byte {
	client := j.client.String()
	if !j.client.IsValid() {
		if host, _, err := net.SplitHostPort(r.RemoteAddr); err == nil {
			client = host
		} else {
			client = "-"
		}
	}
	path, referer := withoutSecrets(r.RequestURI), withoutSecrets(r.Referer())
	if l.form == JSON {
		text, err := json.Marshal(entry{
			begun.UTC().Format("2006-01-02T15:04:05.000Z07:00"), client, j.account, r.Method, r.Host, path, r.Proto, w.status, w.bytes,
			now.Sub(begun).Seconds(), j.outcome, j.door, referer, r.UserAgent(),
		})
		if err != nil {
			return nil
		}
		return append(text, '\n')
	}
	size := "-"
	if w.bytes > 0 {
		size = fmt.Sprint(w.bytes)
	}
	return fmt.Appendf(nil, "%s - %s [%s] \"%s %s %s\" %d %s \"%s\" \"%s\"\n", client, word(j.account),
		begun.Format("02/Jan/2006:15:04:05 -0700"),
		quoted(r.Method), quoted(path), quoted(r.Proto), w.status, size, orDash(quoted(referer)), orDash(quoted(r.UserAgent())))
}

// withoutSecrets is an address without its query, and without the name and password that one can have before the host.
func withoutSecrets(address string) string {
	address, _, _ = strings.Cut(address, "?")
	if strings.HasPrefix(address, "/") {
		return address
	}
	if scheme, rest, is := strings.Cut(address, "://"); is {
		authority, path, more := strings.Cut(rest, "/")
		if at := strings.LastIndexByte(authority, '@'); at >= 0 {
			authority = authority[at+1:]
		}
		if address = scheme + "://" + authority; more {
			address += "/" + path
		}
	}
	return address
}

func orDash(text string) string {
	if text == "" {
		return "-"
	}
	return text
}

// word is a text as one word of a line.
func word(text string) string { return orDash(strings.ReplaceAll(quoted(text), " ", `\x20`)) }

// quoted is a text as it can stand between quotation marks: whatever could end it, or move a terminal's cursor, is written
// as \xHH.
func quoted(text string) string {
	plain := true
	for i := range len(text) {
		plain = plain && text[i] >= ' ' && text[i] < 0x7f && text[i] != '"' && text[i] != '\\'
	}
	if plain {
		return text
	}
	var b strings.Builder
	for i := range len(text) {
		switch c := text[i]; {
		case c == '"' || c == '\\':
			b.WriteByte('\\')
			b.WriteByte(c)
		case c < ' ' || c >= 0x7f:
			fmt.Fprintf(&b, `\x%02x`, c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// counting counts what is answered.
type counting struct {
	http.ResponseWriter
	status int
	bytes  int64
}

func (c *counting) WriteHeader(status int) {
	if c.status < 200 {
		c.status = status
	}
	c.ResponseWriter.WriteHeader(status)
}

func (c *counting) Write(part []byte) (int, error) {
	if c.status < 200 {
		c.status = http.StatusOK
	}
	n, err := c.ResponseWriter.Write(part)
	c.bytes += int64(n)
	return n, err
}

// ReadFrom lets the system send files by itself.
func (c *counting) ReadFrom(from io.Reader) (int64, error) {
	if c.status < 200 {
		c.status = http.StatusOK
	}
	n, err := io.Copy(c.ResponseWriter, from)
	c.bytes += n
	return n, err
}

// Unwrap is for http.ResponseController.
func (c *counting) Unwrap() http.ResponseWriter { return c.ResponseWriter }
