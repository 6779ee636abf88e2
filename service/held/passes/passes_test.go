package passes_test

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/core/message"
	"ostiarius/core/pass"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/mistake"
	"ostiarius/service/held/passes"
	"ostiarius/service/rooms/house"
	"ostiarius/store"
)

// A fetch asks for a path with the credentials of a pass.
type fetch struct {
	method, path, network, bytes string
	user, password               string
	cookie                       string
	header                       http.Header
}

func (f fetch) of(front http.Handler) *httptest.ResponseRecorder {
	if f.method == "" {
		f.method = "GET"
	}
	r := httptest.NewRequest(f.method, f.path, nil)
	r.RemoteAddr = "192.0.2.7:4711"
	if f.network != "" {
		r.RemoteAddr = f.network + ":4711"
	}
	if f.user != "" {
		r.SetBasicAuth(f.user, f.password)
	}
	if f.bytes != "" {
		r.Header.Set("Range", "bytes="+f.bytes)
	}
	if f.cookie != "" {
		r.Header.Set("Cookie", f.cookie)
	}
	for name, values := range f.header {
		r.Header[name] = values
	}
	w := httptest.NewRecorder()
	front.ServeHTTP(w, r)
	return w
}

// Once for each file and day, however it was resumed; a preview, a HEAD and a page count nothing.
func TestDownloadsAreCounted(t *testing.T) {
	h, c, front := house.Handing(t)
	i := h.Issue(t, "recordings", passes.NewPass{Downloads: 4})
	get := func(method, path, part string, status, used int) {
		t.Helper()
		w := fetch{method: method, path: path, bytes: part, user: i.Pass.ID, password: i.Password}.of(front)
		if w.Code != status || h.Used(t, i.Pass.ID) != used {
			t.Errorf("%s %s %s: %d, and %d downloads; want %d, %d", method, path, part, w.Code, h.Used(t, i.Pass.ID), status, used)
		}
	}
	get("HEAD", "/recordings/bell-1000.bin", "", 200, 0)
	get("GET", "/recordings/", "", 200, 0)
	get("GET", "/recordings/bell-1000.bin", "0-499", 206, 0)
	get("GET", "/recordings/bell-1000.bin", "0-948", 206, 0)   // the same once more, and 949 of 1000
	get("GET", "/recordings/bell-1000.bin", "949-949", 206, 1) // 950
	get("GET", "/recordings/bell-1000.bin", "950-", 206, 1)
	get("GET", "/recordings/bell-1000.bin", "", 200, 1) // again, on the same day
	get("GET", "/recordings/tide-3000000.bin", "2000000-", 206, 1)
	get("GET", "/recordings/tide-3000000.bin", "0-1999999", 206, 2)
	get("GET", "/recordings/tide-3000000.bin", "0-9,20-29", 200, 2) // several parts at once are all of it
	get("GET", "/recordings/empty-0.bin", "", 200, 2)
	get("GET", "/recordings/bell-1000.bin", "2000-", 416, 2)
	c.Pass(24 * time.Hour)
	get("GET", "/recordings/bell-1000.bin", "", 200, 3)
	get("GET", "/recordings/bell-1000.bin", "", 200, 3)
	get("GET", "/recordings/lamp-100.bin", "0-94", 206, 4)
	get("GET", "/recordings/lamp-100.bin", "0-94", 206, 4) // on the same day as often as one likes, though the pass is used up
	get("GET", "/recordings/lamp-100.bin", "", 200, 4)
	get("POST", "/recordings/lamp-100.bin", "", 200, 4)
	get("GET", "/recordings/", "", 401, 4)
	get("GET", "/recordings/other-100.bin", "", 401, 4)
	if is, _ := h.Passes.Is(ctx, i.Pass.ID); h.Passes.StateOf(is) != pass.UsedUp {
		t.Errorf("it is %s", h.Passes.StateOf(is))
	}
	story, err := h.Passes.Story(ctx, i.Pass.ID)
	if err != nil || len(story.Story) != 6 { // issued, first used, and the downloads
		t.Errorf("%+v %v", story.Story, err)
	}
	if _, err := h.Passes.Renew(ctx, "test", i.Pass.ID, time.Time{}, 1); err != nil {
		t.Fatal(err)
	}
	get("GET", "/recordings/other-100.bin", "", 200, 5)
}

// What is delivered counts, whatever the method and the parts: a file is not fetched again and again in pieces that
// each come to too little, and what is left of the last download is its end alone.
func TestPartsAreNoWayAround(t *testing.T) {
	h, c, front := house.Handing(t)
	i := h.Issue(t, "recordings", passes.NewPass{Downloads: 2})
	get := func(method, part string) int {
		return fetch{method: method, path: "/recordings/tide-1000.bin", bytes: part, user: i.Pass.ID, password: i.Password}.of(front).Code
	}
	used := func(what string, want int) {
		t.Helper()
		if got := h.Used(t, i.Pass.ID); got != want {
			t.Errorf("%s: %d downloads, want %d", what, got, want)
		}
	}
	for range 3 {
		get("GET", "0-939") // 94 of 100
	}
	used("nearly all, three times", 1)
	c.Pass(24 * time.Hour)
	if get("POST", "") != 200 {
		t.Error("by POST")
	}
	used("by POST", 2)
	c.Pass(24 * time.Hour)
	for _, part := range []string{"", "0-", "1-", "0-500", "400-", "999-"} {
		if code := get("GET", part); code < 400 {
			t.Errorf("of a pass that is used up, bytes %q: %d", part, code)
		}
	}
	// Of a download that was broken off near its end the rest can be fetched later, and nothing beside it.
	i = h.Issue(t, "recordings", passes.NewPass{Downloads: 1})
	get("GET", "0-959")
	used("nearly all", 1)
	c.Pass(24 * time.Hour)
	for _, part := range []string{"959-", "0-", "950-999", "100-965"} {
		if code := get("GET", part); code < 400 {
			t.Errorf("more than what is left, bytes %q: %d", part, code)
		}
	}
	if code := get("GET", "960-"); code != 206 {
		t.Errorf("what is left: %d", code)
	}
	used("with the rest", 1)
}

// Ten at once that would each be the last download: one is, and the others are refused; of one file, all are it.
func TestTheLastDownloadIsOne(t *testing.T) {
	for _, same := range []bool{true, false} {
		h, _, _ := house.Handing(t)
		i := h.Issue(t, "recordings", passes.NewPass{Downloads: 1})
		begun, goOn := make(chan bool, 10), make(chan bool)
		slow := h.Front().(*guard.Guard)
		slow.House = func() *guard.House {
			return &guard.House{Book: h.Book, Site: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w.Header().Set("Content-Length", "1000")
				w.Header().Set("Content-Type", "audio/wav")
				w.WriteHeader(200)
				begun <- true
				<-goOn
				w.Write(make([]byte, 1000))
			})}
		}
		var wait sync.WaitGroup
		codes := make([]int, 10)
		for n := range 10 {
			wait.Add(1)
			go func() {
				defer wait.Done()
				path := "/recordings/a"
				if !same {
					path = fmt.Sprintf("/recordings/%d", n)
				}
				codes[n] = fetch{path: path, user: i.Pass.ID, password: i.Password}.of(slow).Code
			}()
		}
		for range 10 {
			<-begun
		}
		close(goOn)
		wait.Wait()
		ok := 0
		for _, code := range codes {
			if code == 200 {
				ok++
			}
		}
		if want := map[bool]int{true: 10, false: 1}[same]; ok != want || h.Used(t, i.Pass.ID) != 1 {
			t.Errorf("the same file %v: %v, %d counted", same, codes, h.Used(t, i.Pass.ID))
		}
	}
}

// What was delivered before the process was killed counts after it, and at most what was about to be sent beside it.
func TestCountingSurvivesTheProcess(t *testing.T) {
	h, _, front := house.Handing(t)
	i := h.Issue(t, "recordings", passes.NewPass{})
	by := fetch{path: "/recordings/tide-1000.bin", user: i.Pass.ID, password: i.Password}
	by.bytes = "0-599"
	by.of(front)
	by.bytes = "600-"
	if w := by.of(h.Start(t).Front()); w.Code != 206 || h.Used(t, i.Pass.ID) != 1 {
		t.Errorf("%d, %d counted", w.Code, h.Used(t, i.Pass.ID))
	}
}

// A server behind that does not say how long its answers are: each counts when it has been sent to its end, and of many
// that would each be the last one is; and what is known of answers that never come again has an end.
func TestAnswersOfUnknownLength(t *testing.T) {
	h, c, _ := house.Handing(t)
	i := h.Issue(t, "recordings", passes.NewPass{Downloads: 3})
	tags := 0
	var mu sync.Mutex
	var begun chan bool
	var goOn chan bool
	front := h.Front().(*guard.Guard)
	front.House = func() *guard.House {
		return &guard.House{Book: h.Book, Site: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/zip")
			if strings.HasPrefix(r.URL.Path, "/recordings/made") {
				mu.Lock()
				tags++
				w.Header().Set("ETag", fmt.Sprintf("%q", fmt.Sprint(tags)))
				mu.Unlock()
				w.Header().Set("Content-Length", "1000")
				w.Write(make([]byte, 10))
				return
			}
			w.Write(make([]byte, 1000))
			if begun != nil {
				begun <- true
				<-goOn
			}
			if r.URL.Path == "/recordings/broken" {
				panic(http.ErrAbortHandler)
			}
		})}
	}
	get := func(path string) int {
		defer func() { recover() }()
		return fetch{path: path, user: i.Pass.ID, password: i.Password}.of(front).Code
	}
	if get("/recordings/broken"); h.Used(t, i.Pass.ID) != 0 {
		t.Error("an answer that broke off counts")
	}
	get("/recordings/a")
	get("/recordings/a")
	if get("/recordings/b"); h.Used(t, i.Pass.ID) != 2 {
		t.Errorf("%d counted", h.Used(t, i.Pass.ID))
	}
	c.Pass(24 * time.Hour) // each of them would be another download now, of which one is left
	begun, goOn = make(chan bool, 10), make(chan bool)
	codes := make(chan int, 10)
	for n := range 10 {
		go func() { codes <- get([]string{"/recordings/a", "/recordings/b", "/recordings/c"}[n%3]) }()
	}
	for range 10 {
		<-begun
	}
	close(goOn)
	in := 0
	for range 10 {
		if <-codes == 200 {
			in++
		}
	}
	if h.Used(t, i.Pass.ID) != 3 || in == 0 || in > 4 {
		t.Errorf("%d got in, %d counted", in, h.Used(t, i.Pass.ID))
	}
	begun = nil
	if _, err := h.Passes.Renew(ctx, "test", i.Pass.ID, time.Time{}, 10); err != nil {
		t.Fatal(err)
	}
	for n := range 2100 {
		get(fmt.Sprintf("/recordings/made%d", n))
	}
	if files, err := h.Records.PassFiles(ctx, i.Pass.ID); err != nil || len(files) > 2000 {
		t.Errorf("%d files are known of, %v", len(files), err)
	}
}

// A client that breaks off has what was sent to it, and not what was meant to be.
func TestBreakingOff(t *testing.T) {
	h, _, front := house.Handing(t)
	i := h.Issue(t, "recordings", passes.NewPass{})
	r := httptest.NewRequest("GET", "/recordings/tide-10000000.bin", nil)
	r.SetBasicAuth(i.Pass.ID, i.Password)
	front.ServeHTTP(&cutOff{ResponseWriter: httptest.NewRecorder(), left: 5_000_000}, r)
	files, err := h.Records.PassFiles(ctx, i.Pass.ID)
	if err != nil || len(files) != 1 || files[0].Has.Total() != 5_000_000 || h.Used(t, i.Pass.ID) != 0 {
		t.Errorf("%+v %v, %d counted", files, err, h.Used(t, i.Pass.ID))
	}
}

type cutOff struct {
	http.ResponseWriter
	left int
}

func (c *cutOff) Write(b []byte) (int, error) {
	n := min(len(b), c.left)
	c.left -= n
	if n < len(b) {
		return n, errors.New("the client is gone")
	}
	return n, nil
}

// What is taken back counts with the next byte; an end and a count with the next request.
func TestTakenBackWhileItIsDownloaded(t *testing.T) {
	h, c, _ := house.Handing(t)
	i := h.Issue(t, "recordings", passes.NewPass{})
	stop := make(chan func(), 1)
	front := h.Front().(*guard.Guard)
	front.House = func() *guard.House {
		return &guard.House{Book: h.Book, Site: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Length", "1000")
			w.Header().Set("Content-Type", "audio/wav")
			w.Write(make([]byte, 500))
			(<-stop)()
			w.Write(make([]byte, 500))
		})}
	}
	run := func(meanwhile func()) (w *httptest.ResponseRecorder, aborted any) {
		defer func() { aborted = recover() }()
		stop <- meanwhile
		r := httptest.NewRequest("GET", "/recordings/a", nil)
		r.SetBasicAuth(i.Pass.ID, i.Password)
		w = httptest.NewRecorder()
		front.ServeHTTP(w, r)
		return w, nil
	}
	if w, aborted := run(func() { c.Pass(20 * 24 * time.Hour) }); aborted != nil || w.Body.Len() != 1000 {
		t.Errorf("its end in the middle: %d bytes, %v", w.Body.Len(), aborted)
	}
	if w, _ := run(func() {}); w.Code != 401 {
		t.Errorf("after its end: %d", w.Code)
	}
	<-stop // nobody came so far
	if _, err := h.Passes.Renew(ctx, "test", i.Pass.ID, time.Time{}, 0); err != nil {
		t.Fatal(err)
	}
	if w, aborted := run(func() { h.Passes.Revoke(ctx, "test", i.Pass.ID) }); aborted != http.ErrAbortHandler || w.Body.Len() > 500 {
		t.Errorf("revoked in the middle: %d bytes, %v", w.Body.Len(), aborted)
	}
	if h.Used(t, i.Pass.ID) != 1 {
		t.Errorf("%d counted", h.Used(t, i.Pass.ID))
	}
}

func TestEndsOfPasses(t *testing.T) {
	h, c, front := house.Handing(t)
	code := func(i passes.Issued, path string) int {
		return fetch{path: path, user: i.Pass.ID, password: i.Password}.of(front).Code
	}
	fixed, first := h.Issue(t, "recordings", passes.NewPass{}), h.Issue(t, "notes", passes.NewPass{})
	c.Pass(13 * 24 * time.Hour)
	if code(fixed, "/recordings/") != 200 || code(first, "/notes/") != 200 {
		t.Error("they end too early")
	}
	c.Pass(36 * time.Hour)
	if code(fixed, "/recordings/") != 401 || code(first, "/notes/") != 200 {
		t.Error("one counts from its issue, and has ended; the other from its first use")
	}
	c.Pass(13 * time.Hour)
	if code(first, "/notes/") != 401 {
		t.Error("two days after its first use it is open")
	}
	until := c.Now().Add(time.Hour)
	if is, err := h.Passes.Renew(ctx, "test", fixed.Pass.ID, until, 0); err != nil || !is.Until.Equal(until) ||
		code(fixed, "/recordings/") != 200 {
		t.Errorf("renewed: %v %v", is, err)
	}
	narrow := h.Issue(t, "recordings", passes.NewPass{Paths: []string{"/recordings/tide"}})
	if code(narrow, "/recordings/tide/low") != 200 || code(narrow, "/recordings/tides") != 401 || code(narrow, "/recordings/") != 401 {
		t.Error("a narrowed pass")
	}
	for _, path := range []string{"/notes", "/recordings/../x", "recordings", "/"} {
		var wrong *mistake.Error
		if _, err := h.Passes.Issue(ctx, "test", "recordings",
			passes.NewPass{Address: "a@b.example", Paths: []string{path}}); !errors.As(err, &wrong) {
			t.Errorf("a pass for %s: %v", path, err)
		}
	}
}

// A link that is posted: the networks that come first get in, then nobody, until its recipient opens it again with
// other credentials.
func TestAPostedPassIsPaused(t *testing.T) {
	h, c, front := house.Handing(t)
	i := h.Issue(t, "recordings", passes.NewPass{Downloads: 1000})
	token, _, err := h.Passes.Gate().Open(ctx, linkOf(i), passes.Origin{})
	if err != nil {
		t.Fatal(err)
	}
	cookie := "ostiarius-pass-" + i.Pass.ID + "=" + token
	var wait sync.WaitGroup
	codes := make(chan int, 40)
	for n := range 40 {
		wait.Add(1)
		go func() {
			defer wait.Done()
			codes <- fetch{path: "/recordings/a-10.bin", network: fmt.Sprintf("198.51.%d.9", n), cookie: cookie}.of(front).Code
		}()
	}
	wait.Wait()
	close(codes)
	in := 0
	for code := range codes {
		if code == 200 {
			in++
		}
	}
	is, _ := h.Passes.Is(ctx, i.Pass.ID)
	if in > 4 || in == 0 || h.Passes.StateOf(is) != pass.Paused || is.Why != pass.BySpread {
		t.Errorf("%d got in, and it is %s by %s", in, h.Passes.StateOf(is), is.Why)
	}
	mails, err := h.Records.Messages(ctx, store.MessageQuery{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	var again string
	for _, m := range mails {
		if m.Kind == message.PassPaused {
			if again != "" {
				t.Error("it is said twice")
			}
			again = m.Link[strings.Index(m.Link, "again=")+len("again="):]
		}
	}
	if remarks, err := h.Passes.Remarks(ctx); err != nil || len(remarks) != 1 || !strings.Contains(remarks[0], "paused") {
		t.Errorf("%q %v", remarks, err)
	}
	type opened struct {
		given  string
		issued passes.Issued
		err    error
	}
	tries := make(chan opened, 5)
	for range 5 { // by whoever is first
		go func() {
			given, issued, err := h.Passes.Gate().Reopen(ctx, again, passes.Origin{Network: "192.0.2.7"})
			tries <- opened{given, issued, err}
		}()
	}
	var mine opened
	for range 5 {
		if o := <-tries; o.err == nil {
			if mine.given != "" {
				t.Error("it was opened again twice")
			}
			mine = o
		} else if !errors.Is(o.err, store.ErrNone) {
			t.Error(o.err)
		}
	}
	for _, f := range []fetch{{cookie: cookie}, {user: i.Pass.ID, password: i.Password}} {
		f.path = "/recordings/"
		if w := f.of(front); w.Code == 200 {
			t.Errorf("%+v gets in with what it was", f)
		}
	}
	for _, f := range []fetch{{cookie: "ostiarius-pass-" + i.Pass.ID + "=" + mine.given}, {user: i.Pass.ID, password: mine.issued.Password}} {
		f.path = "/recordings/"
		if w := f.of(front); w.Code != 200 {
			t.Errorf("its recipient: %d", w.Code)
		}
	}
	c.Pass(25 * time.Hour)
	if w := (fetch{path: "/recordings/", user: i.Pass.ID, password: mine.issued.Password, network: "203.0.113.1"}).of(front); w.Code != 200 {
		t.Errorf("another network on another day: %d", w.Code)
	}
	noted := h.Issue(t, "notes", passes.NewPass{})
	for n := range 5 {
		if w := (fetch{
			path: "/notes/", user: noted.Pass.ID, password: noted.Password, network: fmt.Sprintf("198.51.%d.9", n),
		}).of(front); w.Code != 200 {
			t.Errorf("a kind that only notes: %d", w.Code)
		}
	}
	if is, _ := h.Passes.Is(ctx, noted.Pass.ID); is.Spread.IsZero() || h.Passes.StateOf(is) != pass.Open {
		t.Error("it is not noted")
	}
}

func linkOf(i passes.Issued) string { return i.Link[strings.Index(i.Link, "link=")+len("link="):] }
