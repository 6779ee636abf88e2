package service

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"time"

	"ostiarius/service/base/guard"
)

// asks starts a server whose connections begin in an asking, and one whose do not.
func asks(t *testing.T, handler http.Handler, peers string) (with, without string) {
	t.Helper()
	front := &guard.Front{Peers: []netip.Prefix{netip.MustParsePrefix(peers)}}
	for _, at := range []*string{&with, &without} {
		s := httptest.NewUnstartedServer(onlyClear(handler))
		s.Config.ConnState, s.Config.MaxHeaderBytes = headState, maxHeader
		s.Config.ConnContext, s.Config.ErrorLog = withHead, log.New(io.Discard, "", 0)
		if at == &with {
			s.Listener = headedListener{newAsking(s.Listener, "/door/decide", func(c net.Conn) bool { return front.Trusts(guard.PeerOf(c)) },
				onlyClear(handler), func(c net.Conn) context.Context { return guard.ConnContext(context.Background(), c) },
				slog.New(slog.DiscardHandler))}
		} else {
			s.Listener = headedListener{s.Listener}
		}
		s.Start()
		t.Cleanup(s.Close)
		*at = s.Listener.Addr().String()
	}
	return with, without
}

// Questions on a connection, in whatever pieces, alone or among other requests, are answered as the server would, or refused as it would.
func TestQuestionsAreAnsweredAlike(t *testing.T) {
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Ostiarius-User", r.Header.Get("X-Name"))
		w.Header().Add("Ostiarius-Set-Cookie", "a=1")
		w.Header().Add("Ostiarius-Set-Cookie", "b=2")
		if r.Header.Get("X-Refuse") != "" {
			w.WriteHeader(http.StatusForbidden)
			fmt.Fprint(w, "no: ", r.Method, r.RequestURI, r.Host, r.ProtoMinor)
		}
	})
	with, without := asks(t, handler, "127.0.0.0/8")
	say := func(address, text string) string {
		c, err := net.Dial("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(10 * time.Second))
		for i := 0; i < len(text); i += 7 { // in pieces
			io.WriteString(c, text[i:min(i+7, len(text))])
		}
		c.(*net.TCPConn).CloseWrite()
		in, told := bufio.NewReader(c), ""
		for {
			resp, err := http.ReadResponse(in, &http.Request{Method: "GET"})
			if err != nil {
				return told
			}
			body, err := io.ReadAll(resp.Body)
			if resp.StatusCode == 400 || resp.StatusCode == 431 {
				return told + fmt.Sprint(resp.StatusCode, " ")
			}
			told += fmt.Sprint(resp.StatusCode, resp.Header["Ostiarius-User"], resp.Header["Ostiarius-Set-Cookie"],
				resp.Header.Get("Content-Type"), string(body), err, resp.Close, " ")
		}
	}
	question := func(more string) string {
		return "GET /door/decide?plain HTTP/1.1\r\nHost: marram.example\r\n" + more + "\r\n"
	}
	for name, text := range map[string]string{
		"one": question("X-Name: ines\r\n"), "two at once": question("X-Name: ines\r\n") + question("X-Name: walt\r\nX-Refuse: 1\r\n"),
		"then another request": question("") + "GET /door/sign-in HTTP/1.1\r\nHost: marram.example\r\nX-Refuse: 1\r\n\r\n" +
			question("X-Name: late\r\n"),
		"another one":    "GET / HTTP/1.1\r\nHost: marram.example\r\n\r\n",
		"a longer path":  "GET /door/decided HTTP/1.1\r\nHost: marram.example\r\nX-Refuse: 1\r\n\r\n",
		"another method": "POST /door/decide HTTP/1.1\r\nHost: marram.example\r\nContent-Length: 2\r\n\r\nok",
		"a body":         question("Content-Length: 2\r\n") + "ok",
		"a coding":       question("Transfer-Encoding: chunked\r\n") + "0\r\n\r\n",
		"both":           question("Transfer-Encoding: chunked\r\nContent-Length: 3\r\n") + "0\r\n\r\n",
		"folded":         question("X-Name: a\r\n b\r\n"), "a space before the colon": question("X-Name : a\r\n"),
		"two hosts": question("Host: elsewhere.example\r\n"),
		"no host":   "GET /door/decide HTTP/1.1\r\n\r\n", "a strange host": "GET /door/decide HTTP/1.1\r\nHost: a b\r\n\r\n",
		"an old one": "GET /door/decide HTTP/1.0\r\nX-Refuse: 1\r\n\r\n",
		"the last":   question("Connection: close\r\n") + question(""), "a raw byte": question("X-Name: a\x01b\r\n"),
		"too long":   question("X-Name: " + strings.Repeat("x", maxHeader+10_000) + "\r\n"),
		"no version": "GET /door/decide\r\n\r\n", "half": "GET /door/decide HTTP/1.1\r\nHost: mar", "nothing": "",
		"lines end with LF": "GET /door/decide HTTP/1.1\nHost: marram.example\nX-Name: ines\n\n",
	} {
		if one, other := say(with, text), say(without, text); one != other && name != "a body" && name != "a coding" {
			t.Errorf("%s:\n%s\n%s", name, one, other)
		} else if (name == "a body" || name == "a coding") && !strings.HasPrefix(one, "400") {
			t.Errorf("%s: %s", name, one)
		} else if name == "one" && !strings.Contains(one, "[ines] [a=1 b=2]") {
			t.Errorf("%s: %s", name, one)
		}
	}
}

// Only declared peers ask so, an answer has no field that its values make, and a panic ends one connection.
func TestQuestionsOfOthers(t *testing.T) {
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("X-Panic") != "" {
			panic("at a question")
		}
		w.Header().Set("Ostiarius-Location", "/a\r\nX-Made: yes")
		if _, direct := w.(*plainAnswer); direct {
			w.Header().Set("X-Direct", "yes")
		}
	})
	for peers, direct := range map[string]string{"127.0.0.0/8": "yes", "192.0.2.0/24": ""} {
		with, _ := asks(t, handler, peers)
		if resp, err := http.Get("http://" + with + "/door/decide"); err != nil || resp.Header.Get("X-Direct") != direct ||
			resp.Header.Get("X-Made") != "" {
			t.Errorf("%s: %v %v", peers, resp, err)
		}
		r, _ := http.NewRequest("GET", "http://"+with+"/door/decide", nil)
		r.Header.Set("X-Panic", "yes")
		if resp, err := http.DefaultTransport.RoundTrip(r); err == nil {
			t.Errorf("%s: after a panic: %d", peers, resp.StatusCode)
		}
		if resp, err := http.Get("http://" + with + "/door/decide"); err != nil || resp.StatusCode != 200 {
			t.Errorf("%s: another one: %v", peers, err)
		}
	}
}

// What is read as a question is read so by the server too.
func FuzzQuestion(f *testing.F) {
	for _, more := range []string{"", "X-Name: ines\r\n", "Cookie: a=1; b=\"2\"\r\nAccept: */*\r\n", "X-Name: a\r\n b\r\n",
		"x-name:\t\r\nX-NAME: b\r\n", "Content-Length: 0\r\n", "Connection: Close, x\r\n", "X: \xff\r\n", ": b\r\n"} {
		f.Add([]byte("GET /door/decide?plain&identity=stock HTTP/1.1\r\nHost: marram.example:80\r\n" + more + "\r\n"))
	}
	f.Add([]byte("GET /door/decide HTTP/1.0\n\n"))
	f.Add([]byte("GET /door/decide HTTP/1.1\r\nHost: [::1]\r\n\r\nGET"))
	f.Fuzz(func(t *testing.T, head []byte) {
		if !bytes.HasPrefix(head, []byte("GET /door/decide")) {
			return
		}
		end, err := readHead(head)
		if err != nil {
			return
		}
		q := &questions{blank: (&http.Request{Method: "GET", ProtoMajor: 1, Body: http.NoBody}).WithContext(t.Context())}
		q.text = bufio.NewReader(&q.head)
		r, wrong := q.parse(head[:end])
		if wrong != "" {
			return
		}
		other, err := http.ReadRequest(bufio.NewReader(bytes.NewReader(head[:end])))
		if err != nil {
			t.Fatalf("%q is no request: %v", head[:end], err)
		}
		if r.Method != other.Method || r.RequestURI != other.RequestURI || r.Host != other.Host || r.ProtoMinor != other.ProtoMinor ||
			r.Close != other.Close || other.ContentLength != 0 || r.URL.Path != other.URL.Path || r.URL.RawQuery != other.URL.RawQuery {
			t.Fatalf("%q:\n%+v\n%+v", head[:end], r, other)
		}
		for _, of := range []http.Header{r.Header, other.Header} { // what is about the connection is not compared
			for _, name := range []string{"Content-Length", "Pragma", "Cache-Control", "Connection"} {
				delete(of, name)
			}
		}
		if !reflect.DeepEqual(r.Header, other.Header) {
			t.Fatalf("%q:\n%v\n%v", head[:end], r.Header, other.Header)
		}
	})
}
