// Package authorizer answers web servers that ask by FastCGI, in the role of an authorizer, as guard.Beside answers those that ask
// over HTTP.
package authorizer

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"ostiarius/core/fastcgi"
	"ostiarius/service/base/guard"
)

// How long a web server may take to ask, and to take the answer; and how many ask at once.
const (
	patience = 10 * time.Second
	most     = 1024
)

// The longest body that web servers take from an authorizer.
const mostBody = 8192

// Serve answers the declared peers that connect to l, until that is closed.
func Serve(l net.Listener, b *guard.Beside, log *slog.Logger) error {
	room := make(chan struct{}, most)
	var under sync.WaitGroup
	defer under.Wait()
	for {
		conn, err := l.Accept()
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return nil
			}
			return err
		}
		if !b.Guard.Front.Trusts(guard.PeerOf(conn)) {
			conn.Close()
			continue
		}
		room <- struct{}{}
		under.Go(func() {
			defer func() { <-room }()
			defer conn.Close()
			defer func() {
				if p := recover(); p != nil && p != http.ErrAbortHandler { // no answer, so nobody is admitted
					log.Error("a question of a web server could not be answered", "error", p)
				}
			}()
			if err := answer(conn, b); err != nil && !errors.Is(err, io.EOF) {
				log.Warn("a web server asked in a way that cannot be read", "error", err)
			}
		})
	}
}

func answer(conn net.Conn, b *guard.Beside) error {
	conn.SetDeadline(time.Now().Add(patience))
	asked, err := fastcgi.Read(bufio.NewReader(conn))
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	w := &written{header: http.Header{}}
	r, err := request(ctx, asked.Params)
	if err != nil {
		return err
	}
	b.Decide(w, r, "whole", asked.Params["OSTIARIUS_AUDIENCE"])
	_, err = conn.Write(asked.Answer(w.answer(r.Method)))
	return err
}

// request makes a request of what CGI says of it (RFC 3875, section 4.1). The web server itself says who the client is, and how it
// came; what the client says of that is its own.
func request(ctx context.Context, params map[string]string) (*http.Request, error) {
	r := &http.Request{
		Method: params["REQUEST_METHOD"], RequestURI: params["REQUEST_URI"], Host: params["HTTP_HOST"], Proto: "HTTP/1.1", ProtoMajor: 1,
		ProtoMinor: 1,
		RemoteAddr: net.JoinHostPort(params["REMOTE_ADDR"], "1"), Header: http.Header{}, Body: http.NoBody,
	}
	if r.Method == "" || r.RequestURI == "" || params["REMOTE_ADDR"] == "" {
		return nil, errors.New("REQUEST_METHOD, REQUEST_URI or REMOTE_ADDR is missing")
	}
	for name, value := range params {
		if field, ok := strings.CutPrefix(name, "HTTP_"); ok && field != "HOST" {
			r.Header.Set(strings.ReplaceAll(field, "_", "-"), value)
		}
	}
	for _, field := range []string{guard.XForwardedFor, guard.XForwardedProto, guard.XForwardedHost, guard.XRealIP, guard.Forwarded,
		"Connection"} {
		r.Header.Del(field)
	}
	if params["REQUEST_SCHEME"] == "https" || strings.EqualFold(params["HTTPS"], "on") {
		r.TLS = &tls.ConnectionState{}
	}
	var err error
	if r.URL, err = url.ParseRequestURI(r.RequestURI); err != nil {
		r.URL = &url.URL{Path: "/"} // what cannot be read is rejected when it is judged
	}
	return r.WithContext(ctx), nil
}

// written is an answer that is kept until it is whole.
type written struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (w *written) Header() http.Header { return w.header }

func (w *written) WriteHeader(status int) {
	if w.status == 0 {
		w.status = status
	}
}

func (w *written) Write(b []byte) (int, error) {
	w.WriteHeader(http.StatusOK)
	return w.body.Write(b)
}

// answer returns what the web server is told. Who is admitted is told in variables, by the names of the fields with _ for -; and in
// OSTIARIUS_VISITOR, which is never empty, since some web servers admit nobody without a name: "-" is nobody, as in access logs.
func (w *written) answer(method string) []byte {
	var b bytes.Buffer
	if admitted := w.header.Get("Ostiarius-Public") != ""; admitted && (w.status == 0 || w.status == http.StatusOK) {
		b.WriteString("Status: 200\r\n")
		user := w.header.Get("Ostiarius-User")
		if user == "" {
			user = "-"
		}
		fmt.Fprintf(&b, "Variable-OSTIARIUS_VISITOR: %s\r\n", user)
		for name, values := range w.header {
			if rest, ok := strings.CutPrefix(name, "Ostiarius-"); ok && len(values) > 0 {
				fmt.Fprintf(&b, "Variable-OSTIARIUS_%s: %s\r\n", strings.ToUpper(strings.ReplaceAll(rest, "-", "_")), values[0])
			}
		}
		b.WriteString("\r\n")
		return b.Bytes()
	}
	if w.status < 300 { // nothing that was written says that somebody is admitted
		w.status = http.StatusForbidden
	}
	fmt.Fprintf(&b, "Status: %d %s\r\n", w.status, http.StatusText(w.status))
	w.header.Del("Content-Length")
	if kind := w.header.Get("Content-Type"); kind != "" {
		w.header.Set(guard.TypeField, kind)
	}
	w.header.Write(&b)
	b.WriteString("\r\n")
	body := w.body.Bytes()
	if len(body) > mostBody {
		body = fmt.Appendf(nil, "%d %s", w.status, http.StatusText(w.status))
	}
	b.Write(body)
	return b.Bytes()
}
