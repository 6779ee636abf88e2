package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// An application at another port, whose origin the policy names: its people join, sign in and come back to it, it calls the API of the
// site with the CORS of the API itself, and they sign out.
func TestApplicationAtAnotherOrigin(t *testing.T) {
	t.Parallel()
	site := ""
	application := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<!doctype html><title>desk</title><h1>Desk</h1><p id=who></p><script type=module>
import * as door from "%s/door/client.js"; globalThis.door = door;
const show = me => document.getElementById("who").textContent = me.signedIn ? "here is " + me.name : "nobody is here";
  door.watch(show); door.here().then(show);
globalThis.log = (method) => door.knock("%[1]s/api/log?day=3", { method, headers: { "X-Day": "3" } }).then(r => r.json());
</script>`, site)
	}))
	defer application.Close()
	preflights := 0
	api := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		if r.Header.Get("Origin") == application.URL {
			h.Set("Access-Control-Allow-Origin", application.URL)
			h.Set("Access-Control-Allow-Credentials", "true")
			h.Set("Vary", "Origin")
		}
		if r.Method == http.MethodOptions && r.URL.Path == "/api/log" {
			preflights++
			fmt.Fprint(w, "a secret")
			return
		}
		json.NewEncoder(w).Encode(map[string]string{"method": r.Method, "who": r.Header.Get("Ostiarius-User"), "day": r.Header.Get("X-Day")})
	}))
	defer api.Close()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "<h1>Home</h1>")
	write(t, dir, "doors.yaml", fmt.Sprintf(`
site: Marram Point
roles: { keeper: }
sources: [ { path: /, files: ./site }, { path: /api, proxy: %q } ]
joining: { by: anybody, address: unproven }
origins: [ %q ]
doors:
  - { path: /, admit: public }
  - { path: /api/**, admit: signed-in }
  - { path: /api/nobody, admit: nobody }
  - { path: /api/hidden, admit: { role: keeper }, otherwise: hide }
`, api.URL, application.URL))
	s := start(t, dir)
	site = s.URL

	ctx := tab(t)
	is := func(script, want string) {
		t.Helper()
		if got := said(ctx, t, script); got != want {
			t.Errorf("%s\nis   %s\nwant %s", script, got, want)
		}
	}
	came := func(address, who string) {
		t.Helper()
		look(ctx, t, "#who", who)
		at(ctx, t, address)
	}
	back := application.URL + "/board?week=2"
	do(ctx, t, chromedp.Navigate(back))
	came(back, "nobody is here")
	is(`return await door.lead("/api/log?day=3")`,
		fmt.Sprintf("%q", s.URL+"/door/sign-in?next="+url.QueryEscape(application.URL+"/api/log?day=3")))
	is(`return await door.signIn({ username: "rosa", password: "seven-brass-prisms" })`, "error other-origin")

	// Joining, and back.
	do(ctx, t, chromedp.Navigate(s.URL+"/door/join?next="+url.QueryEscape(back)))
	do(ctx, t, keys("#username", "rosa"), keys("input[name=email]", "rosa@marram.example"), keys("#password", "seven-brass-prisms"),
		keys("#again", "seven-brass-prisms"))
	until(ctx, t, "performance.now() > 3500") // as long as a person takes
	do(ctx, t, chromedp.Click("main form button[type=submit]"))
	came(back, "here is rosa")
	is(`return await log("GET")`, `{"day":"3","method":"GET","who":"rosa"}`)
	is(`return await log("PUT")`, `{"day":"3","method":"PUT","who":"rosa"}`)

	// Signing out, and back; then what is asked for leads to signing in, and back.
	script(ctx, t, `door.signOut()`)
	do(ctx, t, chromedp.Click(`main form button`))
	came(back, "nobody is here")
	script(ctx, t, `log("PUT")`)
	do(ctx, t, keys("#username", "rosa"), keys("#password", "seven-brass-prisms"), chromedp.Click("main form button[type=submit]"))
	came(back, "here is rosa")

	// Nobody is led on to where the policy does not name.
	for _, next := range []string{application.URL + "1/", application.URL + "@evil.example/", application.URL + ".evil.example/",
		application.URL + "//x", application.URL + `/\x`,
		"http://evil.example/" + application.URL, strings.ToUpper(application.URL), application.URL + "?x",
		"https" + strings.TrimPrefix(application.URL, "http") + "/"} {
		p := newPerson(t, s.URL)
		if a := p.signIn("rosa", "seven-brass-prisms", next); a.status != 303 || a.location != "/" {
			t.Errorf("%s: %d %s", next, a.status, a.location)
		}
		if a := p.get("/door/sign-in?next=" + url.QueryEscape(next)); a.location != "/" {
			t.Errorf("%s, signed in: %s", next, a.location)
		}
	}

	// The question that browsers ask first is answered for the named origin, where signing in is asked for. It does not go on.
	preflights = 0
	for _, test := range []struct {
		path, origin string
		may          bool
	}{
		{"/api/log?key=rosa", application.URL, true}, {"/api/nobody", application.URL, false}, {"/api/hidden", application.URL, false},
		{"/api/log", application.URL + "1", false}, {"/api/log", "null", false}, {"/api/log", "", false},
	} {
		a := newPerson(t, s.URL).do("OPTIONS", test.path, "", "Origin", test.origin, "Access-Control-Request-Method", "PUT",
			"Access-Control-Request-Headers", "x-day,content-type")
		said := a.header.Get("Access-Control-Allow-Headers") + a.header.Get("Access-Control-Allow-Methods") +
			a.header.Get("Access-Control-Allow-Origin")
		if may := a.status == 204 && said == "x-day,content-typePUT"+test.origin; may != test.may || !may &&
			strings.Contains(said, "PUT") || strings.Contains(a.body, "secret") {
			t.Errorf("%s from %s: %d %v %q", test.path, test.origin, a.status, a.header, a.body)
		}
	}
	if a := newPerson(t, s.URL).do("OPTIONS", "/api/log", "", "Origin", application.URL); a.status == 204 {
		t.Errorf("what is no such question: %d %v", a.status, a.header)
	}
	if preflights != 0 {
		t.Errorf("%d questions went on", preflights)
	}
}
