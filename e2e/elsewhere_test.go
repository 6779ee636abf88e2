package e2e

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ostiarius/demo/provider"
)

// harbourSite is a service whose people may come from a provider.
func harbourSite(t *testing.T, more string) (*Process, *provider.Provider) {
	t.Helper()
	p := provider.New("", "marram", "the secret of the site",
		provider.Person{Subject: "h-1", Username: "ines", Name: "Ines", Email: "ines@marram.example", Verified: true, Groups: []string{"crew"}},
		provider.Person{Subject: "h-2", Username: "edda", Name: "Edda", Email: "edda@harbour.example", Verified: true})
	there := httptest.NewServer(p)
	t.Cleanup(there.Close)
	p.Issuer = there.URL
	dir := t.TempDir()
	for name, text := range map[string]string{
		"doors.yaml": "site: Marram\nroles: { keeper: }\nsources: [ { path: /, files: ./site } ]\ndoors: [ { path: /, admit: public }, { " +
			"path: /log/**, admit: signed-in } ]\n" +
			"elsewhere: { harbour: { title: Harbour account, issuer: \"" + there.URL +
			"\", client: marram, joins: true, grants: [ { claim: groups, holds: crew, role: keeper } ] } }\n" + more,
		"site/index.html": "first", "site/log/index.html": "the log", "secret": "the secret of the site\n",
	} {
		file := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	s := start(t, dir, "--elsewhere-secret-file", "harbour="+filepath.Join(dir, "secret"))
	s.URL = strings.Replace(s.URL, "127.0.0.1", "localhost", 1)
	return s, p
}

// In a browser: from a closed page to the provider and back, an account made, signed out there too, and back in.
func TestElsewhereRoad(t *testing.T) {
	t.Parallel()
	s, p := harbourSite(t, "")
	ctx := tab(t)
	do := func(actions ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		do(ctx, t, actions...)
	}
	do(chromedp.Navigate(s.URL+"/log/"), chromedp.Click("form.elsewhere button"), chromedp.WaitVisible("button[value=h-2]"),
		chromedp.Click("button[value=h-2]"), chromedp.WaitVisible("#username"))
	at(ctx, t, s.URL+"/door/elsewhere/harbour/first?next=%2Flog%2F")
	accessible(ctx, t, "first time from elsewhere")
	do(chromedp.Submit("#username"), chromedp.WaitNotPresent("#username"))
	at(ctx, t, s.URL+"/log/")
	do(chromedp.Navigate(s.URL+"/door/account/factors"), chromedp.WaitVisible("button[name=provider]"))
	accessible(ctx, t, "factors with an account elsewhere")
	do(chromedp.Navigate(s.URL+"/door/account/access-keys"), chromedp.WaitVisible("#days"))
	accessible(ctx, t, "access keys")
	do(chromedp.Navigate(s.URL+"/door/sign-out"), chromedp.Submit("main form"), chromedp.WaitNotPresent("main form"))
	eventually(t, func() bool { // led there, and from there back
		text, err := chromedp.Run(ctx, chromedp.Evaluate[string](`location.pathname + document.body.innerText`))
		return err == nil && text == "/first"
	})
	if len(p.SignedOut()) != 1 {
		t.Errorf("signed out there: %v", p.SignedOut())
	}
	do(chromedp.Navigate(s.URL+"/log/"), chromedp.Click("form.elsewhere button"), chromedp.WaitVisible("button[value=h-2]"),
		chromedp.Click("button[value=h-2]"))
	eventually(t, func() bool {
		text, err := chromedp.Run(ctx, chromedp.Evaluate[string](`document.body.innerText`))
		return err == nil && text == "the log"
	})
}

// There and back by requests alone.
func (p *person) thereAndBack(t *testing.T, provider, next, subject string) answer {
	t.Helper()
	sent := p.do("POST", "/door/elsewhere/harbour", url.Values{"next": {next}}.Encode())
	to, ok := strings.CutPrefix(sent.header.Get("Refresh"), "0; url=")
	u, err := url.Parse(to)
	if sent.status != 200 || !ok || err != nil || !strings.HasPrefix(to, provider+"/authorize?") {
		t.Fatalf("sent there: %d %q", sent.status, sent.header.Get("Refresh"))
	}
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	back, err := client.PostForm(provider+"/authorize", url.Values{"query": {u.RawQuery}, "subject": {subject}})
	if err != nil {
		t.Fatal(err)
	}
	back.Body.Close()
	return p.get(strings.TrimPrefix(back.Header.Get("Location"), p.base))
}

// Nobody is signed in by what another browser was given, and nobody is led to another site.
func TestElsewhereFromOutside(t *testing.T) {
	t.Parallel()
	s, there := harbourSite(t, "")
	if code, _, wrong := run(t, ines, "people", "add", "ines", "--password-stdin", "--data", s.Data); code != 0 {
		t.Fatal(wrong)
	}
	for _, next := range []string{"//evil.example/", "https://evil.example/", `/\evil.example`, "/%5cevil.example",
		"javascript:alert(1)", "/door/../..//evil.example", " /evil", "/log/\r\nLocation: https://evil.example"} {
		p := newPerson(t, s.URL)
		a := p.thereAndBack(t, there.Issuer, next, "h-2")
		if a.status != 303 || !strings.HasPrefix(a.location, "/door/elsewhere/harbour/first?next=") ||
			strings.Contains(a.location, "evil.example") && !strings.Contains(a.location, "%2Fevil.example") ||
			strings.Contains(a.location, "next=%2F%2F") {
			t.Errorf("%q leads to %d %q", next, a.status, a.location)
		}
	}
	// What an attacker has begun and broken off is brought to an end in nobody else's browser.
	attacker, victim := newPerson(t, s.URL), newPerson(t, s.URL)
	sent := attacker.do("POST", "/door/elsewhere/harbour", "")
	u, _ := url.Parse(strings.TrimPrefix(sent.header.Get("Refresh"), "0; url="))
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	back, err := client.PostForm(there.Issuer+"/authorize", url.Values{"query": {u.RawQuery}, "subject": {"h-2"}})
	if err != nil {
		t.Fatal(err)
	}
	back.Body.Close()
	link := strings.TrimPrefix(back.Header.Get("Location"), s.URL)
	if a := victim.get(link); a.status != 400 || strings.Contains(a.header.Get("Set-Cookie"), "ostiarius-session") ||
		!strings.Contains(a.body, "another window") {
		t.Errorf("in the victim's browser: %d %v", a.status, a.header["Set-Cookie"])
	}
	if a := attacker.get(link); a.status != 303 {
		t.Errorf("in the attacker's own: %d", a.status)
	}
	if a := attacker.get(link); a.status != 400 {
		t.Errorf("and again: %d", a.status)
	}
	// From another site nobody is sent on their way.
	if a := victim.do("POST", "/door/elsewhere/harbour", "", "Origin", "https://evil.example", "Sec-Fetch-Site",
		"cross-site"); a.status != 403 {
		t.Errorf("from another site: %d", a.status)
	}
	if a := victim.get("/door/elsewhere/harbour"); a.status != 200 || a.header.Get("Refresh") != "" {
		t.Errorf("looking changes nothing: %d %v", a.status, a.header)
	}
	for _, path := range []string{"/door/elsewhere/nowhere", "/door/elsewhere/nowhere/back?state=x", "/door/elsewhere/nowhere/first"} {
		if a := victim.get(path); a.status != 404 {
			t.Errorf("%s: %d", path, a.status)
		}
	}
	// Signing in once, to link: with the password, and then a word.
	p := newPerson(t, s.URL)
	first := p.thereAndBack(t, there.Issuer, "/log/", "h-1")
	if a := p.signIn("ines", ines, first.location); a.status != 303 || a.location != first.location {
		t.Fatalf("%d %s", a.status, a.location)
	}
	if a := p.get(first.location); a.status != 200 || !strings.Contains(a.body, "here you are ines") {
		t.Errorf("%d %s", a.status, a.body)
	}
	if a := p.do("POST", "/door/elsewhere/harbour/first", "next=%2Flog%2F&password="+ines); a.status != 303 || a.location != "/log/" {
		t.Errorf("linking: %d %s", a.status, a.location)
	}
	again := newPerson(t, s.URL)
	if a := again.thereAndBack(t, there.Issuer, "/log/", "h-1"); a.status != 303 || a.location != "/log/" {
		t.Errorf("the next time: %d %s", a.status, a.location)
	}
	if a := again.get("/door/me"); !strings.Contains(a.body, `"name":"ines","roles":["keeper"]`) {
		t.Error(a.body)
	}
	// The provider says that she has signed out.
	for token, want := range map[string]int{there.LogoutToken("h-1"): 200, "nonsense": 400} {
		if a := newPerson(t, s.URL).do("POST", "/door/elsewhere/harbour/sign-out",
			url.Values{"logout_token": {token}}.Encode()); a.status != want || a.header.Get("Cache-Control") != "no-store" {
			t.Errorf("a logout token: %d %v", a.status, a.header)
		}
	}
	again.is("/log/", 303, "/door/sign-in?next=%2Flog%2F")
	if code, out, _ := run(t, "", "people", "show", "ines", "--data", s.Data); code != 0 ||
		!strings.Contains(out, "harbour, as ines@marram.example") {
		t.Error(out)
	}
	if log := s.Log(); strings.Contains(log, "the secret of the site") || strings.Contains(log, "code=") {
		t.Errorf("a secret is in the log: %s", log)
	}
}
