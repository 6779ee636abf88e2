package service

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// clearServer is a server that refuses heads in which another server could see another request, and
// otherwise answers with the body that it was sent.
func clearServer(t testing.TB) *httptest.Server {
	s := httptest.NewUnstartedServer(onlyClear(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Unread") == "" {
			body, _ := io.ReadAll(r.Body)
			fmt.Fprintf(w, "%q", body)
		}
	})))
	s.Listener = headedListener{s.Listener}
	s.Config.ConnState = headState
	s.Config.ConnContext = func(ctx context.Context, c net.Conn) context.Context { return withHead(ctx, c) }
	s.Start()
	t.Cleanup(s.Close)
	return s
}

// Whatever comes before on a connection, in whatever pieces, and whatever the bodies look like: the
// requests that are clear are answered, and the one that is not is refused.
func TestHeadsAreFound(t *testing.T) {
	s := clearServer(t)
	bodies := []string{"", "x", "\r\n", "a: b\r\n folded\r\n\r\n",
		"GET / HTTP/1.1\r\nHost: x\r\nContent-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\n", strings.Repeat("\r\n\t", 3000),
		strings.Repeat("0123456789", 20_000)}
	fields := []string{"", "Accept: */*\r\n", "cookie: a=b\r\n", "Te: trailers\r\n", "Content-Lengths: 5\r\n",
		"Transfer-Encodings: chunked\r\n", "X-Content-Length: 1\r\n", "T: t\r\n", "C:\r\n", "X: " + strings.Repeat("y", 9000) + "\r\n"}
	unclear := []string{
		"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n",
		"POST / HTTP/1.1\r\nhost: x\r\ntransfer-encoding: chunked\r\ncontent-length: 5\r\n\r\n0\r\n\r\n",
		"POST / HTTP/1.1\nHost: x\nCONTENT-LENGTH:0\nTransfer-Encoding:chunked\n\n0\r\n\r\n",
		"POST / HTTP/1.0\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n",
		"GET / HTTP/1.1\r\nHost: x\r\nA: b\r\n c\r\n\r\n",
		"GET / HTTP/1.1\r\nHost: x\r\nA:\r\n\tb\r\n\r\n",
	}
	for seed := range uint64(150) {
		r := rand.New(rand.NewPCG(seed, 1))
		pick := func(from []string) string { return from[r.IntN(len(from))] }
		var sent strings.Builder
		var want []string
		for range r.IntN(6) {
			body := pick(bodies)
			extra := pick(fields) + pick(fields)
			switch answer := fmt.Sprintf("200 %q", body); {
			case body == "" && r.IntN(2) == 0:
				fmt.Fprintf(&sent, "GET / HTTP/1.1\r\nHost: x\r\n%s\r\n", extra)
				want = append(want, answer)
			case r.IntN(4) == 0:
				fmt.Fprintf(&sent, "PUT / HTTP/1.1\r\nHost: x\r\nUnread: yes\r\n%sContent-Length: %d\r\n\r\n%s", extra, len(body), body)
				want = append(want, "200 ")
			default:
				fmt.Fprintf(&sent, "POST / HTTP/1.1\r\nHost: x\r\n%sContent-Length: %d\r\n\r\n%s", extra, len(body), body)
				want = append(want, answer)
				if r.IntN(4) == 0 && body != "" {
					sent.WriteString("\r\n") // some do
				}
			}
		}
		if r.IntN(2) == 0 {
			sent.WriteString(pick(unclear) + "GET /never HTTP/1.1\r\nHost: x\r\n\r\n")
			want = append(want, "400 ")
		} else {
			sent.WriteString("POST / HTTP/1.1\r\nHost: x\r\nConnection: close\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nfog\r\n0\r\n\r\n")
			want = append(want, `200 "fog"`)
		}
		conn, err := net.Dial("tcp", s.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		conn.SetDeadline(time.Now().Add(20 * time.Second))
		go func() {
			for text := sent.String(); text != ""; {
				n := min(len(text), 1+r.IntN([]int{3, 100, 5000, 100_000}[r.IntN(4)]))
				if len(text) > 300_000 {
					n = min(len(text), 60_000)
				}
				if _, err := io.WriteString(conn, text[:n]); err != nil {
					return
				}
				text = text[n:]
			}
		}()
		answers := bufio.NewReader(conn)
		for i, w := range want {
			resp, err := http.ReadResponse(answers, nil)
			if err != nil {
				t.Fatalf("seed %d: answer %d of %d: %v", seed, i+1, len(want), err)
			}
			body, _ := io.ReadAll(resp.Body)
			if got := fmt.Sprintf("%d %s", resp.StatusCode, body); got != w &&
				(w != "400 " || resp.StatusCode != 400 || !strings.Contains(got, "without guessing")) {
				t.Fatalf("seed %d: answer %d of %d is %.80q, not %.80q", seed, i+1, len(want), got, w)
			}
		}
		if resp, err := http.ReadResponse(answers, nil); err == nil {
			t.Errorf("seed %d: one answer more, %s", seed, resp.Status)
		}
		conn.Close()
	}
}

// What net/http reads as one request and answers, readHead reads as the same head.
func FuzzReadHead(f *testing.F) {
	for _, head := range []string{
		"GET / HTTP/1.1\r\nHost: x\r\n\r\n", "\r\nGET / HTTP/1.0\n\n", "GET / HTTP/1.1\r\nA: b\r\n c\r\n\r\nrest",
		"POST / HTTP/1.1\r\nContent-Length: 1\r\nTransfer-Encoding: chunked\r\n\r\n",
		"GET / HTTP/1.1\r\nHost: x\r\nA: b\r\n\r\n\r\n", "GET / HTTP/1.1\r\nA: \r\r\n\r\n", "GET / HTTP/1.1\r\nContent-Length : 1\r\n\r\n",
	} {
		f.Add([]byte(head))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		end, err := readHead(b)
		start := 0
		for start < len(b) && (b[start] == '\r' || b[start] == '\n') {
			start++
		}
		reader := bufio.NewReaderSize(strings.NewReader(string(b[start:])), len(b)+16)
		r, failed := http.ReadRequest(reader)
		if failed != nil {
			return // is refused in any case
		}
		if err != nil {
			return // is refused by us
		}
		if behind := len(b) - reader.Buffered(); r.ContentLength == 0 && behind != end {
			t.Errorf("%q: the head ends at %d, for net/http at %d", b, end, behind)
		}
		for _, line := range strings.Split(string(b[start:end]), "\n")[1:] {
			if name, _, _ := strings.Cut(line, ":"); strings.EqualFold(name, "Content-Length") && len(r.TransferEncoding) > 0 {
				t.Errorf("%q: a length and a coding", b)
			}
			if strings.HasPrefix(line, " ") || strings.HasPrefix(line, "\t") {
				t.Errorf("%q: a folded line", b)
			}
		}
	})
}
