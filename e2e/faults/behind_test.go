package faults

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ostiarius/client"
)

// What a server behind says to caches, to a server in front and to the browser of its keeping counts at public places alone.
func TestAnswersThatSteer(t *testing.T) {
	t.Parallel()
	const fields = "Cache-Control: public, max-age=600\r\nCDN-Cache-Control: max-age=600\r\nHarbour-CDN-Cache-Control: " +
		"max-age=600\r\nSurrogate-Control: max-age=600\r\nX-Accel-Expires: 600\r\nPragma: cache\r\nAge: 3\r\n" +
		"Expires: Fri, 01 Jan 2027 00:00:00 GMT\r\nX-Accel-Redirect: /inside/minutes.pdf\r\nX-Sendfile: /etc/hostname\r\nClear-Site-Data: " +
		"\"cache\", \"cookies\"\r\nStrict-Transport-Security: max-age=1\r\nX-Harbour: yes\r\n"
	behind := must(NewBehind(Answering(func(r *http.Request) string {
		if strings.HasSuffix(r.URL.Path, "/trailer") {
			return "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nTrailer: Set-Cookie, X-Sum\r\n\r\n2\r\nok\r\n0\r\nSet-Cookie: " +
				"ostiarius-session=forged\r\nCache-Control: public\r\nX-Sum: 7\r\n\r\n"
		}
		return Text(200, fields, "ok")
	})))(t)
	defer behind.Close()
	s := newSite(t, behind.URL).start()
	s.add("ines", "keeper")
	cookie := s.signIn("ines")
	closed, public := s.get("/app/", cookie), s.get("/open/", "")
	if closed.status != 200 || public.status != 200 {
		t.Fatal(closed.status, public.status)
	}
	for _, name := range []string{"CDN-Cache-Control", "Harbour-CDN-Cache-Control", "Surrogate-Control", "X-Accel-Expires", "Pragma",
		"Age", "Expires", "X-Accel-Redirect", "X-Sendfile"} {
		if closed.header.Get(name) != "" {
			t.Errorf("a closed answer has %s", name)
		}
		if public.header.Get(name) == "" {
			t.Errorf("a public answer lost %s", name)
		}
	}
	if got := closed.header.Values("Cache-Control"); fmt.Sprint(got) != "[private, no-store]" {
		t.Errorf("closed: Cache-Control %q", got)
	}
	if got := closed.header.Get("Clear-Site-Data"); got != `"cache"` {
		t.Errorf("closed: Clear-Site-Data %q", got)
	}
	if closed.header.Get("X-Harbour") != "yes" || public.header.Get("Cache-Control") != "public, max-age=600" {
		t.Errorf("%v %v", closed.header, public.header)
	}
	// A public answer that brings a fresh cookie is for one visitor.
	if err := client.GrantRole.Do(t.Context(), s.api(), client.NewGrant{Account: "ines", Role: "trustee"}); err != nil {
		t.Fatal(err)
	}
	fresh := s.get("/open/", cookie)
	if fresh.header.Get("Set-Cookie") == "" || fmt.Sprint(fresh.header.Values("Cache-Control")) != "[private, no-store]" ||
		fresh.header.Get("Surrogate-Control") != "" {
		t.Errorf("with a fresh cookie: %v", fresh.header)
	}
	r, err := stranger.Get(s.process.URL + "/open/trailer")
	if err != nil {
		t.Fatal(err)
	}
	io.Copy(io.Discard, r.Body)
	r.Body.Close()
	if r.Trailer.Get("Set-Cookie") != "" || r.Trailer.Get("Cache-Control") != "" || r.Trailer.Get("X-Sum") != "7" {
		t.Errorf("trailer: %v", r.Trailer)
	}
	s.write("site/log/long.txt", strings.Repeat("fog ", 100_000))
	if a := s.get("/log/long.txt", cookie, "Range", "bytes=99999999-"); a.status != 416 ||
		a.header.Get("Cache-Control") != "private, no-store" {
		if a = s.get("/log/long.txt", s.signIn("ines"), "Range", "bytes=99999999-"); a.status != 416 ||
			a.header.Get("Cache-Control") != "private, no-store" {
			t.Errorf("416: %d %v", a.status, a.header)
		}
	}
}

// Where public pages depend on who asks, the policy can say so to caches.
func TestPersonalPages(t *testing.T) {
	t.Parallel()
	behind := must(NewBehind(Answering(func(r *http.Request) string {
		return Text(200, "Cache-Control: public, max-age=600\r\n", "ahoy "+r.Header.Get("Ostiarius-User"))
	})))(t)
	defer behind.Close()
	for setting, want := range map[string][2]string{ // what strangers and the keeper get
		"": {"public, max-age=600 /", "public, max-age=600 /"}, "vary": {"public, max-age=600 / Cookie, Authorization",
			"public, max-age=600 / Cookie, Authorization"},
		"private": {"public, max-age=600 / Cookie, Authorization", "private, no-store / Cookie, Authorization"},
	} {
		s := newSite(t, behind.URL)
		if setting != "" {
			text := must(os.ReadFile(filepath.Join(s.dir, "doors.yaml")))(t)
			s.write("doors.yaml", strings.ReplaceAll(string(text), "timeout: 3s", "timeout: 3s, personal: "+setting))
		}
		s.start()
		s.add("ines", "keeper")
		told := func(cookie string) string {
			a := s.get("/open/", cookie)
			return strings.TrimSpace(a.header.Get("Cache-Control") + " / " + a.header.Get("Vary"))
		}
		if got := [2]string{told(""), told(s.signIn("ines"))}; got != want {
			t.Errorf("personal %q: %q, want %q", setting, got, want)
		}
	}
}

// A client that sends nothing more after its request gets an answer or none, but never an empty one that says all went well.
func TestHalfClosingClients(t *testing.T) {
	t.Parallel()
	var asked atomic.Int64
	behind := must(NewBehind(Answering(func(r *http.Request) string {
		asked.Add(1)
		time.Sleep(200 * time.Millisecond)
		return Text(200, "", "the answer")
	})))(t)
	defer behind.Close()
	s := newSite(t, behind.URL).start()
	for range 3 {
		c := must(net.Dial("tcp", strings.TrimPrefix(s.process.URL, "http://")))(t)
		fmt.Fprintf(c, "POST /open/ HTTP/1.1\r\nHost: %s\r\nContent-Length: 2\r\n\r\nok", strings.TrimPrefix(s.process.URL, "http://"))
		c.(*net.TCPConn).CloseWrite()
		c.SetDeadline(time.Now().Add(10 * time.Second))
		got, _ := io.ReadAll(c)
		c.Close()
		if text := string(got); text != "" && !strings.Contains(text, "the answer") && !strings.HasPrefix(text, "HTTP/1.1 5") {
			t.Errorf("%q", text)
		}
	}
	if asked.Load() == 0 {
		t.Error("the server behind was not asked")
	}
}

// What a server behind sends slowly arrives as it comes, also where its length is known.
func TestSlowAnswersArrive(t *testing.T) {
	t.Parallel()
	goOn := make(chan struct{})
	behind := must(NewBehind(func(c net.Conn, r *bufio.Reader) {
		http.ReadRequest(r)
		io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 10\r\nContent-Type: text/plain\r\n\r\nfirst")
		<-goOn
		io.WriteString(c, "other")
	}))(t)
	defer behind.Close()
	s := newSite(t, behind.URL).start()
	r, err := stranger.Get(s.process.URL + "/open/")
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	part := make([]byte, 5)
	if _, err := io.ReadFull(r.Body, part); err != nil || string(part) != "first" {
		t.Fatal(string(part), err)
	}
	close(goOn)
	if rest, err := io.ReadAll(r.Body); err != nil || string(rest) != "other" {
		t.Error(string(rest), err)
	}
}

// Pictures that follow each other without an end stop when their viewer has signed out.
func TestEndlessAnswersEnd(t *testing.T) {
	t.Parallel()
	behind := must(NewBehind(func(c net.Conn, r *bufio.Reader) {
		http.ReadRequest(r)
		io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Type: multipart/x-mixed-replace; boundary=x\r\n\r\n")
		for {
			if _, err := io.WriteString(c, "--x\r\nContent-Type: text/plain\r\n\r\nfog\r\n"); err != nil {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
	}))(t)
	defer behind.Close()
	s := newSite(t, behind.URL).start()
	s.add("ines", "keeper")
	cookie := s.signIn("ines")
	r, _ := http.NewRequest("GET", s.process.URL+"/app/camera", nil)
	r.Header.Set("Cookie", cookie)
	resp, err := stranger.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	if _, err := resp.Body.Read(make([]byte, 10)); err != nil {
		t.Fatal(err)
	}
	if a := ask(stranger, "POST", s.process.URL+"/door/sign-out", cookie, nil); a.status != 303 {
		t.Fatal(a.status)
	}
	over := make(chan struct{})
	go func() {
		io.Copy(io.Discard, resp.Body)
		close(over)
	}()
	select {
	case <-over:
	case <-time.After(15 * time.Second):
		t.Error("it goes on after signing out")
	}
}

// A server behind that takes nothing of an upload does not hold the request for ever, nor does it outlive its client, nor hold up a stop.
func TestUploadsNobodyReads(t *testing.T) {
	t.Parallel()
	stay := make(chan struct{})
	defer close(stay)
	behind := must(NewBehind(func(c net.Conn, r *bufio.Reader) { <-stay }))(t)
	defer behind.Close()
	s := newSite(t, behind.URL).start()
	upload := func() net.Conn {
		c := must(net.Dial("tcp", strings.TrimPrefix(s.process.URL, "http://")))(t)
		fmt.Fprintf(c, "POST /open/ HTTP/1.1\r\nHost: %s\r\nContent-Length: 200000000\r\n\r\n", strings.TrimPrefix(s.process.URL, "http://"))
		c.SetWriteDeadline(time.Now().Add(700 * time.Millisecond))
		block := make([]byte, 64<<10)
		for {
			if _, err := c.Write(block); err != nil {
				return c
			}
		}
	}
	// The source waits for 3 seconds.
	c := upload()
	c.SetReadDeadline(time.Now().Add(20 * time.Second))
	if text, _ := io.ReadAll(c); !strings.HasPrefix(string(text), "HTTP/1.1 50") {
		t.Errorf("%.80q", text)
	}
	c.Close()
	for range 10 {
		upload().Close()
	}
	eventually(t, "what clients have left has ended", func() bool {
		sockets := 0
		for _, fd := range must(os.ReadDir(fmt.Sprintf("/proc/%d/fd", s.process.Pid())))(t) {
			if to, _ := os.Readlink(fmt.Sprintf("/proc/%d/fd/%s", s.process.Pid(), fd.Name())); strings.HasPrefix(to, "socket:") {
				sockets++
			}
		}
		return sockets < 12
	})
	upload()
	began := time.Now()
	s.stop()
	if took := time.Since(began); took > 12*time.Second {
		t.Errorf("it took %v to stop", took)
	}
}

// Another version of the policy keeps the connections to a server behind that stays, and closes those to one that does not.
func TestVersionsKeepConnections(t *testing.T) {
	t.Parallel()
	answer := Answering(func(r *http.Request) string { return Text(200, "", "ok") })
	stays, goes := must(NewBehind(answer))(t), must(NewBehind(answer))(t)
	defer stays.Close()
	defer goes.Close()
	s := newSite(t, stays.URL)
	text := string(must(os.ReadFile(filepath.Join(s.dir, "doors.yaml")))(t))
	s.write("doors.yaml", text+"  - {path: /open/other, proxy: "+goes.URL+"}\n")
	s.start()
	for version := range 20 {
		if a := s.get("/open/", ""); a.status != 200 {
			t.Fatal(a.status)
		}
		if version == 0 {
			s.get("/open/other/", "")
		}
		if _, err := client.ApplyPolicy.Ask(t.Context(), s.api(), client.Draft{Text: text + fmt.Sprintf("# %d\n", version)}); err != nil {
			t.Fatal(err)
		}
	}
	if n := stays.Taken.Load(); n > 3 {
		t.Errorf("%d connections to the server that stays", n)
	}
	eventually(t, "the connections to the other one are closed", func() bool { return goes.Open.Load() == 0 })
}

// What is hidden behind a server cannot be told from what is missing there.
func TestHiddenBehindAServer(t *testing.T) {
	t.Parallel()
	behind := must(NewBehind(Answering(func(r *http.Request) string {
		if strings.HasPrefix(r.URL.Path, "/open/draft/") || r.URL.Path == "/open/" {
			return Text(200, "", "the draft")
		}
		return Text(404, "Content-Type: text/html\r\nX-Powered-By: harbour\r\n",
			"<h1>Ahoy "+r.Header.Get("Ostiarius-User")+", no "+r.URL.Path+"</h1>")
	})))(t)
	defer behind.Close()
	s := newSite(t, behind.URL).start()
	s.add("ines", "keeper")
	s.add("agnes", "trustee")
	if a := s.get("/open/draft/plan.html", s.signIn("agnes")); a.body != "the draft" {
		t.Fatalf("who may see it: %d %s", a.status, a.body)
	}
	for who, cookie := range map[string]string{"a stranger": "", "a keeper": s.signIn("ines")} {
		for _, accept := range []string{"text/html", "application/json"} {
			for _, method := range []string{"GET", "HEAD"} {
				hidden := ask(stranger, method, s.process.URL+"/open/draft/plan.html", cookie, nil, "Accept", accept)
				missing := ask(stranger, method, s.process.URL+"/open/xraft/plan.html", cookie, nil, "Accept", accept)
				show := func(a answer) string {
					a.header.Del("Date")
					return fmt.Sprint(a.status, a.header, a.body)
				}
				if h, m := show(hidden), strings.ReplaceAll(show(missing), "xraft", "draft"); h != m {
					t.Errorf("%s, %s %s:\n%s\n%s", who, method, accept, h, m)
				}
			}
		}
	}
	behind.Close()
}
