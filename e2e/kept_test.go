package e2e

import (
	"fmt"
	"html"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// logbook is an application with a form, behind a door that wants a fresh proof for what the form sends.
func logbook(t *testing.T) (s *Process, got func() []string) {
	t.Helper()
	entries := make(chan string, 100)
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		if r.Method == "POST" {
			body, _ := io.ReadAll(r.Body)
			entries <- r.RequestURI + " " + string(body)
			fmt.Fprintf(w, "<!doctype html><html lang=en><title>t</title><h1>Written</h1><pre>%s</pre>", html.EscapeString(string(body)))
			return
		}
		io.WriteString(w,
			`<!doctype html><html lang=en><title>t</title><h1>Log</h1><form method=post action="/log/new?day=2"><textarea id=entry
 name=entry></textarea>
<input type=hidden name=id value="send-on"><input type=hidden name=tag value=one><input type=hidden name=tag
  value="two&quot;>"><button id=go name=submit value="Lös">Write</button></form>`)
	}))
	t.Cleanup(app.Close)
	dir := t.TempDir()
	write(t, dir, "doors.yaml", "site: Marram Point\nsources: [ { path: /, proxy: '"+app.URL+"' } ]\ndoors:\n  - { path: /log/**, "+
		"admit: signed-in }\n  - { path: /log/new, admit: { proof-within: 5s } }\n")
	s = start(t, dir)
	if _, err := client.AddPerson.Ask(t.Context(), client.New(s.Data),
		client.NewPerson{Name: "ines", Password: "seven-brass-prisms"}); err != nil {
		t.Fatal(err)
	}
	return s, func() (all []string) {
		for {
			select {
			case e := <-entries:
				all = append(all, e)
			default:
				return all
			}
		}
	}
}

// What somebody has typed is sent on after the password was typed again: once, as it was, to where it was meant for.
func TestFormsSurviveProvingAgain(t *testing.T) {
	t.Parallel()
	s, got := logbook(t)
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate(s.URL+"/log/"))
	do(ctx, t, keys("#username", "ines"), keys("#password", "seven-brass-prisms\r"))
	look(ctx, t, "h1", "Log")
	stale := func() bool {
		t.Helper()
		do(ctx, t, chromedp.Navigate(s.URL+"/log/"), keys("#entry", "lamp <lit>\nat 17:04 & é"), chromedp.Click("#go"))
		look(ctx, t, "h1", "r") // of the answer, whichever it is
		text, err := chromedp.Run(ctx, chromedp.Text("h1"))
		if err != nil {
			t.Fatal(err)
		}
		return text == "Enter your password again"
	}
	for tries := 0; !stale(); tries++ { // the proof grows old
		if tries > 200 {
			t.Fatal("no proof was asked for")
		}
	}
	got()
	look(ctx, t, "main", "Your text is kept on this page")
	do(ctx, t, keys("#password", "wrong\r"))
	look(ctx, t, ".problem", "not the password")
	do(ctx, t, keys("#password", "seven-brass-prisms\r"))
	look(ctx, t, "h1", "Written")
	at(ctx, t, s.URL+"/log/new?day=2")
	want := "/log/new?day=2 " + "entry=lamp+%3Clit%3E%0D%0Aat+17%3A04+%26+%C3%A9&id=send-on&tag=one&tag=two%22%3E&submit=L%C3%B6s"
	if all := got(); len(all) != 1 || all[0] != want {
		t.Errorf("the application got %q, want %q", all, want)
	}
}

var keptField = regexp.MustCompile(`name="kept" value="([^"]*)"`)

func TestWhatIsNotKept(t *testing.T) {
	t.Parallel()
	s, got := logbook(t)
	p := newPerson(t, s.URL)
	p.signIn("ines", "seven-brass-prisms", "")
	for p.get("/log/new", "Accept", "text/html").status == 200 { // until the proof is old
	}
	form := []string{"Accept", "text/html", "Referer", s.URL + "/log/", "Content-Type", "application/x-www-form-urlencoded"}
	here := append([]string{"Origin", s.URL}, form...)
	for why, send := range map[string][]string{
		"from elsewhere":          append([]string{"POST", "entry=x", "Origin", "https://elsewhere.example"}, form...),
		"from a sister":           append([]string{"POST", "entry=x", "Sec-Fetch-Site", "same-site"}, here...),
		"from nowhere":            append([]string{"POST", "entry=x"}, form...),
		"too long":                append([]string{"POST", "entry=" + strings.Repeat("x", 64<<10)}, here...),
		"another method":          append([]string{"PUT", "entry=x"}, here...),
		"what no form would send": append([]string{"POST", "entry=%0A"}, here...),
		"a file": {"POST", "entry=x", "Origin", s.URL, "Accept", "text/html", "Referer", s.URL + "/log/", "Content-Type",
			"multipart/form-data; boundary=x"},
	} {
		if a := p.do(send[0], "/log/new", send[1], send[2:]...); a.status != 303 || a.location != "/door/prove-again?next=%2Flog%2F&unsent" {
			t.Errorf("%s: %d %s", why, a.status, a.location)
		}
	}
	a := p.do("POST", "/log/new", "entry="+strings.Repeat("x", 60<<10), here...)
	kept := keptField.FindStringSubmatch(a.body)
	if a.status != 403 || kept == nil || a.header.Get("Cache-Control") != "private, no-store" {
		t.Fatalf("%d %v", a.status, a.header)
	}
	prove := func(kept string) answer {
		return p.do("POST", "/door/prove-again",
			url.Values{"password": {"seven-brass-prisms"}, "next": {"/log/"}, "kept": {kept}}.Encode(), "Content-Type",
			"application/x-www-form-urlencoded")
	}
	if a := prove(kept[1]); a.status != 200 || !strings.Contains(a.body, `action="/log/new"`) ||
		!strings.Contains(a.header.Get("Content-Security-Policy"), "script-src 'sha256-") {
		t.Errorf("%d %.300s", a.status, a.body)
	}
	for _, again := range []string{kept[1], "rubbish"} {
		if a := prove(again); a.status != 200 || !strings.Contains(a.body, "did not arrive") || strings.Contains(a.body, "send-on") ||
			!strings.Contains(a.body, `href="/log/"`) {
			t.Errorf("%d %.300s", a.status, a.body)
		}
	}
	if all := got(); len(all) > 0 {
		t.Errorf("the application got %d requests that nobody sent", len(all))
	}
}
