package e2e

import (
	"context"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// joined starts a service where people join as a policy says, whose mail goes to the demo's mailbox.
func joined(t *testing.T, joining string) *Process {
	t.Helper()
	box, err := client.ListMessages.Ask(t.Context(), client.New(lampDir), client.MessageQuery{State: "", Search: "", Before: 0, Limit: 1})
	if err != nil || box.Server == "" {
		t.Fatalf("%+v, %v", box, err)
	}
	dir := t.TempDir()
	text := `site: Marram Point
unlisted: hide
roles: { friend: , keeper: }
sources: [ { path: /, files: ./site } ]
doors:
  - { path: [/, /privacy/**], admit: public }
  - { path: /friends/**, admit: { role: friend } }
  - { path: /letter, admit: { role: friend } }
landings: { join: [ { go: /friends/ } ] }
joining: ` + joining + "\n"
	for name, page := range map[string]string{
		"doors.yaml": text, "site/index.html": "<h1>first</h1>", "site/friends/index.html": "<h1>friends</h1>",
		"site/letter": "<h1>letter</h1>", "site/privacy/index.html": "<h1>privacy</h1>",
	} {
		file := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(page), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	data := filepath.Join(dir, "d")
	s, err := Start("serve", "--policy", filepath.Join(dir, "doors.yaml"), "--listen", "127.0.0.1:0", "--data", data, "--mail",
		"smtp://"+box.Server, "--mail-from", "door@marram.example", "--mail-per-minute", "0")
	if err != nil {
		t.Fatal(err)
	}
	s.Data = data
	t.Cleanup(func() { s.Stop() })
	return s
}

// patient waits until a form was open as long as a person takes.
func patient(t *testing.T, p *person, path string, fields url.Values) answer {
	t.Helper()
	form := p.get(path)
	mark := regexp.MustCompile(`name="mark" value="([^"]+)"`).FindStringSubmatch(form.body)
	if mark == nil {
		t.Fatalf("%s: %d\n%s", path, form.status, form.body)
	}
	fields.Set("mark", mark[1])
	for end := time.Now().Add(15 * time.Second); time.Now().Before(end); {
		a := p.do("POST", "/door/join", fields.Encode())
		if !strings.Contains(a.body, "was sent too fast") {
			return a
		}
		time.Sleep(100 * time.Millisecond)
	}
	t.Fatal("nobody is slow enough")
	return answer{}
}

// Anybody joins without JavaScript, in a minute, and stands where they wanted to go.
func TestJoiningByMail(t *testing.T) {
	t.Parallel()
	s := joined(t, "{ by: anybody, grants: [ { role: friend, for: 365d } ], privacy: /privacy/ }")
	p := newPerson(t, s.URL)
	if a := p.get("/door/sign-in?next=/letter"); !strings.Contains(a.body, `href="/door/join?next=%2fletter"`) {
		t.Errorf("signing in says nothing of joining:\n%s", a.body)
	}
	fields := url.Values{
		"username": {"mette"}, "email": {"mette.joins@marram.example"}, "password": {"brambles-in-the-fog"},
		"again": {"brambles-in-the-fog"}, "next": {"/letter"},
	}
	if a := patient(t, p, "/door/join?next=/letter", fields); a.status != 422 || !strings.Contains(a.body, "agree to the terms") {
		t.Errorf("without agreeing: %d\n%s", a.status, a.body)
	}
	fields.Set("agree", "yes")
	trap := url.Values{}
	for name, value := range fields {
		trap[name] = value
	}
	trap.Set("website", "https://elsewhere.example")
	if a := p.do("POST", "/door/join", trap.Encode()); a.status != 422 {
		t.Errorf("a robot: %d", a.status)
	}
	if a := patient(t, p, "/door/join", fields); a.status != 303 || a.location != "/door/join?sent" {
		t.Fatalf("%d %s\n%s", a.status, a.location, a.body)
	}
	if a := p.signIn("mette", "brambles-in-the-fog", ""); a.status != 403 || !strings.Contains(a.body, "Follow the link we sent") {
		t.Errorf("before the link: %d\n%s", a.status, a.body)
	}
	m := arrived(t, "mette.joins@marram.example", "Confirm your account at Marram Point")
	path := strings.TrimPrefix(m.link(), s.URL)
	_, token, _ := strings.Cut(path, "link=")
	for range 2 { // looking does not use it up
		if a := p.get(path); a.status != 200 || !strings.Contains(a.body, "<strong>mette</strong>") {
			t.Errorf("%d\n%s", a.status, a.body)
		}
	}
	if a := p.do("POST", "/door/join", url.Values{"link": {token}, "password": {"not-that"}}.Encode()); a.status != 422 ||
		!strings.Contains(a.body, "not the password you chose") {
		t.Errorf("with a wrong password: %d\n%s", a.status, a.body)
	}
	if a := p.do("POST", "/door/join", url.Values{"link": {token}, "password": {"brambles-in-the-fog"}}.Encode()); a.status != 303 ||
		a.location != "/letter" {
		t.Fatalf("%d %s\n%s", a.status, a.location, a.body)
	}
	p.is("/letter", 200, "")
	if a := newPerson(t, s.URL).get(path); a.status != 410 {
		t.Errorf("the link again: %d", a.status)
	}
	// As a script, and from a form of the site's own.
	q := newPerson(t, s.URL)
	for _, c := range []struct {
		kind, body string
		status     int
		says       string
	}{
		{"application/json", `{"username": "METTE", "email": "other@marram.example", "password": "brambles-in-the-fog", "agree": true}`,
			409, `"code":"taken"`},
		{"application/json", `{"username": "bo", "email": "bo", "password": "brambles-in-the-fog", "agree": true}`, 422, `"code":"refused"`},
		{"application/json", `{"username": "bo", "email": "bo.joins@marram.example", "password": "brambles-in-the-fog"}`, 422, `"code":"agree"`},
		{"application/json", `{"username": "bo", "email": "Mette.joins@marram.example", "password": "brambles-in-the-fog", "agree": true}`,
			200, `{"joined":false,"state":"unproven"}`},
		{"application/x-www-form-urlencoded",
			"username=jo&email=jo.joins@marram.example&password=brambles-in-the-fog&agree=yes&form=/privacy/", 303, "/privacy/?done=sent"},
		{"application/x-www-form-urlencoded", "username=&form=/privacy/", 303, "/privacy/?error=missing"},
	} {
		if a := q.do("POST", "/door/join", c.body, "Content-Type", c.kind); a.status != c.status || !strings.Contains(a.location+a.body, c.says) {
			t.Errorf("%s: %d %s %s", c.body, a.status, a.location, a.body)
		}
	}
	if m := arrived(t, "mette.joins@marram.example", "You already have an account at Marram Point"); strings.Contains(m.Text,
		"link=") || strings.Contains(m.Text, "bo") && !strings.Contains(m.Text, "mette") {
		t.Errorf("the owner is told\n%s", m.Text)
	}
}

// In a browser, in German, with the approval of a steward in the console.
func TestJoiningInTheBrowser(t *testing.T) {
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate(lamp.URL+"/door/join?next=/friends/"))
	accessible(ctx, t, "joining")
	do(ctx, t, chromedp.Click(`//button[.="Deutsch"]`))
	look(ctx, t, "h1", "Konto anlegen")
	do(ctx, t, keys("#username", "jorunn"), keys("#email", "jorunn@marram.example"), keys("#password", "brambles-in-the-fog"),
		keys("#again", "brambles-in-the-fog"), chromedp.Click(`[name=agree]`))
	do(ctx, t, chromedp.Func(func(ctx context.Context, target *chromedp.Target) error { // as long as a person takes
		for {
			open, err := chromedp.Evaluate[bool]("performance.now() > 3500")(ctx, target)
			if open || err != nil {
				return err
			}
		}
	}), chromedp.Click(`//button[.="Konto anlegen"]`))
	look(ctx, t, "h1", "Sehen Sie in Ihre E-Mail")
	do(ctx, t, chromedp.Navigate(arrived(t, "jorunn@marram.example", "Ihr Konto").link()))
	look(ctx, t, "main", "ein Konto mit dem Namen jorunn")
	accessible(ctx, t, "proving the address")
	do(ctx, t, keys("#password", "brambles-in-the-fog\r"))
	look(ctx, t, "h1", "Danke")
	accessible(ctx, t, "waiting")

	steward := tab(t)
	do(steward, t, chromedp.Navigate(lamp.URL+"/door/sign-in?next=/door/console/people"), keys("#username", "agnes"),
		keys("#password", agnes+"\r"))
	look(steward, t, "[data-testid=waiting]", "jorunn@marram.example")
	accessible(steward, t, "people with somebody who waits")
	do(steward, t, chromedp.Click(`button[aria-label="Approve jorunn"]`))
	look(steward, t, "table", "jorunn")
	approved := arrived(t, "jorunn@marram.example", "Willkommen")
	do(ctx, t, chromedp.Navigate(approved.link()+"?next=/friends/"), keys("#username", "jorunn"), keys("#password", "brambles-in-the-fog\r"))
	look(ctx, t, "h1", "For friends of the light")

	// An invitation, from the console.
	do(steward, t, chromedp.Click(`//button[.="Invite someone"]`), chromedp.WaitVisible(`[role=dialog] input[type=email]`))
	do(steward, t, keys(`[role=dialog] input[type=email]`, "torbjorn@marram.example"),
		chromedp.Click(`//label[contains(., "keeper")]/input`), chromedp.Click(`//button[.="Send invitation"]`))
	look(steward, t, "[role=dialog]", "It was sent")
	accessible(steward, t, "an invitation")
	guest := tab(t)
	do(guest, t, chromedp.Navigate(arrived(t, "torbjorn@marram.example", "Invitation to").link()))
	look(guest, t, "main", "invited with the address torbjorn@marram.example")
	if code, out, _ := run(t, "", "people", "list", "--state", "invited", "--data", lampDir); code != 0 ||
		!strings.Contains(out, "torbjorn@marram.example") || !strings.Contains(out, "keeper") {
		t.Errorf("%d\n%s", code, out)
	}
	if code, _, _ := run(t, "", "people", "uninvite", "torbjorn@marram.example", "--data", lampDir); code != 0 {
		t.Errorf("uninvite: %d", code)
	}
	do(guest, t, chromedp.Reload())
	look(guest, t, "h1", "This link has expired")
	for _, name := range []string{"jorunn"} {
		client.RemovePerson.Do(t.Context(), client.New(lampDir), client.ByName{Name: name})
	}
}
