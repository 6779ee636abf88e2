package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"mime"
	"net"
	"net/http"
	"net/mail"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
	"ostiarius/e2e/needs"
)

// A mailed is a mail in the demo's mailbox.
type mailed struct{ To, Subject, Text, HTML string }

// link is the address that a mail leads to.
func (m mailed) link() string { return regexp.MustCompile(`https?://\S+/door/\S+`).FindString(m.Text) }

// arrived waits for a mail to an address with a text in its subject.
func arrived(t *testing.T, to, subject string) mailed {
	t.Helper()
	_, page, _ := strings.Cut(lamp.Output, "All e-mail arrives at ")
	page, _, _ = strings.Cut(page, "\n")
	for end := time.Now().Add(15 * time.Second); time.Now().Before(end); {
		answer, err := http.Get(page + "mails.json")
		if err != nil {
			t.Fatal(err)
		}
		var all []mailed
		err = json.NewDecoder(answer.Body).Decode(&all)
		answer.Body.Close()
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range all {
			if m.To == to && strings.Contains(m.Subject, subject) {
				return m
			}
		}
	}
	t.Fatalf("no mail to %s about %q at %s", to, subject, page)
	return mailed{}
}

// member adds an account with an address to the demo.
func member(t *testing.T, name, password string) {
	t.Helper()
	_, err := client.AddPerson.Ask(t.Context(), client.New(lampDir),
		client.NewPerson{Name: name, Email: name + "@marram.example", Password: password, Roles: []string{"volunteer"}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { client.RemovePerson.Do(context.Background(), client.New(lampDir), client.ByName{Name: name}) })
}

// Whoever forgot a password is back in by themselves, without JavaScript, in either language.
func TestForgottenPassword(t *testing.T) {
	t.Parallel()
	for language, says := range map[string]struct{ name, asks, mail, sets, done string }{
		"en": {"mette", "Forgot your password?", "Reset your password", "Set the password of the account", "Your password is set."},
		"de": {"jorun", "Passwort vergessen?", "Ein neues Passwort", "Hier setzen Sie das Passwort des Kontos", "Ihr Passwort ist gesetzt."},
	} {
		member(t, says.name, "paint-and-lentil-soup")
		before := newPerson(t, lamp.URL)
		before.signIn(says.name, "paint-and-lentil-soup", "")
		p := newPerson(t, lamp.URL)
		accept := []string{"Accept-Language", language}
		if a := p.get("/door/sign-in", accept...); !strings.Contains(a.body, `<html lang="`+language+`">`) ||
			!strings.Contains(a.body, says.asks) {
			t.Errorf("%s: the sign-in page says\n%s", language, a.body)
		}
		if a := p.get("/door/recover", accept...); a.status != 200 || !strings.Contains(a.body, says.asks) {
			t.Errorf("%s: %d\n%s", language, a.status, a.body)
		}
		asked := p.do("POST", "/door/recover", "username="+says.name, accept...)
		unknown := p.do("POST", "/door/recover", "username=nobody-of-that-name", accept...)
		if asked.status != 303 || asked.location != "/door/recover?asked" || unknown.status != asked.status ||
			unknown.location != asked.location || unknown.body != asked.body {
			t.Errorf("%s: %+v, and for a name that nobody has %+v", language, asked, unknown)
		}
		m := arrived(t, says.name+"@marram.example", says.mail)
		path := strings.TrimPrefix(m.link(), lamp.URL)
		if path == m.link() || !strings.Contains(m.HTML, `href="`+m.link()+`"`) {
			t.Fatalf("%s: the mail says\n%s\n%s", language, m.Text, m.HTML)
		}
		if a := p.get(path, accept...); a.status != 200 || !strings.Contains(a.body, says.sets+" <strong>"+says.name+"</strong>") ||
			a.header.Get("Referrer-Policy") != "no-referrer" {
			t.Errorf("%s: %d\n%s", language, a.status, a.body)
		}
		_, token, _ := strings.Cut(path, "link=")
		set := url.Values{"link": {token}, "password": {"brambles-in-the-fog"}, "again": {"brambles-in-the-fog"}}.Encode()
		if a := p.do("POST", "/door/recover", set, accept...); a.status != 303 || a.location != "/door/sign-in?set&other" {
			t.Errorf("%s: %d %s\n%s", language, a.status, a.location, a.body)
		}
		if a := p.get("/door/sign-in?set&other", accept...); !strings.Contains(a.body, says.done) {
			t.Errorf("%s:\n%s", language, a.body)
		}
		if a := p.do("POST", "/door/recover", set, accept...); a.status != 410 {
			t.Errorf("%s: the link again: %d", language, a.status)
		}
		before.is("/rota/", 303, "/door/sign-in?next=%2Frota%2F")
		if a := p.signIn(says.name, "brambles-in-the-fog", "/rota/"); a.location != "/rota/" {
			t.Errorf("%s: %+v", language, a)
		}
		arrived(t, says.name+"@marram.example", map[string]string{"en": "was changed", "de": "wurde geändert"}[language])
	}
}

// Scripts, and forms of the site's own, ask as they sign in: with the same fields, and are answered with codes.
func TestForgottenPasswordForPrograms(t *testing.T) {
	t.Parallel()
	p := newPerson(t, lamp.URL)
	for _, c := range []struct {
		body, kind string
		status     int
		says       string
	}{
		{`{"username": "nobody-here"}`, "application/json", 204, ""},
		{`{"email": "nobody-here@marram.example"}`, "application/json", 204, ""},
		{`{}`, "application/json", 422, `"code":"missing"`},
		{`{"username": 7}`, "application/json", 400, `"code":"malformed"`},
		{"username=&form=/join-in/", "application/x-www-form-urlencoded", 303, "/join-in/?error=missing"},
		{"username=nobody-there&form=/join-in/", "application/x-www-form-urlencoded", 303, "/join-in/?done=asked"},
		{"username=nobody-there&form=https://elsewhere.example/", "application/x-www-form-urlencoded", 303, "/door/recover?asked"},
	} {
		if a := p.do("POST", "/door/recover", c.body, "Content-Type", c.kind); a.status != c.status || c.status == 303 &&
			a.location != c.says || c.status > 303 && !strings.Contains(a.body, c.says) {
			t.Errorf("%s: %d %s %s", c.body, a.status, a.location, a.body)
		}
	}
	slowed := 0
	for range 12 {
		if a := p.do("POST", "/door/recover", `{"username": "somebody-else"}`, "Content-Type", "application/json"); a.status == 429 &&
			a.header.Get("Retry-After") != "" && strings.Contains(a.body, `"code":"too-many"`) {
			slowed++
		}
	}
	if slowed == 0 {
		t.Error("nobody is slowed")
	}
}

// An address is proven by the new one, and taken back by the one before.
func TestAnotherAddressInTheBrowser(t *testing.T) {
	member(t, "sigrid", "paint-and-lentil-soup")
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate(lamp.URL+"/door/sign-in?next=/door/account"))
	do(ctx, t, keys("#username", "sigrid"), keys("#password", "paint-and-lentil-soup\r"))
	look(ctx, t, "dl", "sigrid@marram.example")
	accessible(ctx, t, "account")
	do(ctx, t, keys("#email", "sigrid.new@marram.example"), keys("#email-password", "not-mine\r"))
	look(ctx, t, "[role=alert]", "not the password of sigrid")
	do(ctx, t, keys("#email-password", "paint-and-lentil-soup\r"))
	look(ctx, t, "[role=status]", "Check your e-mail")
	look(ctx, t, "dl", "sigrid@marram.example")
	do(ctx, t, chromedp.Navigate(arrived(t, "sigrid.new@marram.example", "Confirm your e-mail address").link()))
	look(ctx, t, "main", "The account sigrid will get the address sigrid.new@marram.example.")
	accessible(ctx, t, "address")
	do(ctx, t, chromedp.Click(`//button[.="Confirm this address"]`))
	look(ctx, t, "dl", "sigrid.new@marram.example")
	told := arrived(t, "sigrid@marram.example", "was changed")
	do(ctx, t, chromedp.Click(`//button[.="Deutsch"]`))
	look(ctx, t, "h1", "Ihr Konto")
	do(ctx, t, chromedp.Navigate(told.link()))
	look(ctx, t, "h1", "Neue Adresse zurücknehmen")
	do(ctx, t, chromedp.Click(`//button[.="Zurücknehmen"]`))
	look(ctx, t, "[role=status]", "Ihre Adresse ist wieder die von vorher")
	accessible(ctx, t, "asking for a link")
	p, err := client.ShowPerson.Ask(t.Context(), client.New(lampDir), client.ByName{Name: "sigrid"})
	if err != nil || p.Email != "sigrid@marram.example" {
		t.Errorf("%+v, %v", p, err)
	}
	newPerson(t, lamp.URL).is(strings.TrimPrefix(told.link(), lamp.URL), 410, "")
}

// A real mail server takes what is sent, as it is, and says what it does not take.
func TestRealMailServer(t *testing.T) {
	if os.Getuid() != 0 {
		needs.Skip(t, "the mail server is started by root only")
	}
	dir := t.TempDir()
	box, address := filepath.Join(dir, "box"), freePort(t)
	host, port, _ := net.SplitHostPort(address)
	for _, open := range []string{filepath.Dir(dir), dir} { // whoever keeps the mail is not root
		if err := os.Chmod(open, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Mkdir(box, 0o777); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(box, 0o777); err != nil {
		t.Fatal(err)
	}
	settings := filepath.Join(dir, "smtpd.conf")
	if err := os.WriteFile(settings, []byte(fmt.Sprintf("table known { \"@marram.example\" = \"nobody\" }\nlisten on %s port %s "+
		"hostname mail.marram.example\naction \"keep\" maildir %q virtual <known>\nmatch from any for domain \"marram.example\" action "+
		"\"keep\"\n", host, port, box)), 0o644); err != nil {
		t.Fatal(err)
	}
	serverProgram(t, "tcp", address, "smtpd", "-d", "-f", settings)
	data, policy := filepath.Join(dir, "d"), filepath.Join(dir, "doors.yaml")
	if err := os.WriteFile(policy, []byte("site: Märram <Point>\nroles: {keeper: }\ndoors: [{path: /**, admit: {role: keeper}}]\n"),
		0o644); err != nil {
		t.Fatal(err)
	}
	s, err := Start("serve", "--policy", policy, "--listen", "127.0.0.1:0", "--data", data, "--url", "https://doors.marram.example",
		"--mail", "smtp://"+address, "--mail-from", "Wärter <door@marram.example>")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop() })
	api := client.New(data)
	for name, email := range map[string]string{"ines": "ines@marram.example", "bo": "bo@elsewhere.example"} {
		if _, err := client.AddPerson.Ask(t.Context(), api,
			client.NewPerson{Name: name, Email: email, Password: "seven-brass-prisms"}); err != nil {
			t.Fatal(err)
		}
		if code, out, errOut := run(t, "", "people", "link", name, "--mail", "--data", data); code != 0 {
			t.Fatalf("%d %s%s", code, out, errOut)
		}
	}
	var all client.Messages
	for end := time.Now().Add(20 * time.Second); all.Sent+all.Failed < 2 && time.Now().Before(end); {
		if all, err = client.ListMessages.Ask(t.Context(), api, client.MessageQuery{State: "", Search: "", Before: 0, Limit: 10}); err != nil {
			t.Fatal(err)
		}
	}
	if all.Sent != 1 || all.Failed != 1 {
		t.Fatalf("%+v", all)
	}
	if code, out, _ := run(t, "", "messages", "list", "--state", "failed", "--data", data); code != 0 ||
		!strings.Contains(out, "bo@elsewhere.example") || !strings.Contains(out, "550") {
		t.Errorf("%d\n%s", code, out)
	}
	var kept []byte
	for end := time.Now().Add(20 * time.Second); kept == nil && time.Now().Before(end); {
		if names, _ := filepath.Glob(filepath.Join(box, "new", "*")); len(names) == 1 {
			if kept, err = os.ReadFile(names[0]); err != nil {
				t.Fatal(err)
			}
		}
	}
	read, err := mail.ReadMessage(bytes.NewReader(kept))
	if err != nil {
		t.Fatalf("%v\n%s", err, kept)
	}
	words := &mime.WordDecoder{}
	subject, err := words.DecodeHeader(read.Header.Get("Subject"))
	if err != nil || subject != "Set the password of your account at Märram <Point>" || read.Header.Get("To") != "<ines@marram.example>" ||
		read.Header.Get("Auto-Submitted") != "auto-generated" {
		t.Errorf("%q, %v\n%s", subject, err, kept)
	}
	if from, err := mail.ParseAddress(read.Header.Get("From")); err != nil || from.Name != "Wärter" || from.Address != "door@marram.example" {
		t.Errorf("%v, %v", from, err)
	}
	if !bytes.Contains(kept, []byte("https://doors.marram.example/door/recover?link=3D")) {
		t.Errorf("no link in\n%s", kept)
	}
	if log := s.Log(); strings.Contains(log, "link=") {
		t.Errorf("the log has a link:\n%s", log)
	}
}

// Stewards see what became of each mail, what each kind says, and how the pages look.
func TestConsoleMessagesAndLooks(t *testing.T) {
	member(t, "ragna", "paint-and-lentil-soup")
	ctx := tab(t)
	do(ctx, t, SignIn(lamp.URL, "agnes", agnes), chromedp.Navigate(lamp.URL+"/door/console/messages?search=ragna"))
	look(ctx, t, "main", "No message matches.")
	newPerson(t, lamp.URL).do("POST", "/door/recover", "username=ragna")
	arrived(t, "ragna@marram.example", "Reset your password")
	look(ctx, t, "table", "ragna@marram.example")
	look(ctx, t, "table", "sent")
	accessible(ctx, t, "messages")
	do(ctx, t, chromedp.Click(`//button[.="ragna@marram.example"]`))
	look(ctx, t, "[role=dialog]", "The text isn't kept once the message is sent.")
	accessible(ctx, t, "a message")
	do(ctx, t, chromedp.Click(`//button[.="Close"]`), chromedp.WaitNotPresent(`[role=dialog]`),
		chromedp.Click(`//button[.="Show samples"]`))
	look(ctx, t, "[role=dialog]", "Reset your password at Marram Point Lighthouse Trust")
	accessible(ctx, t, "kinds of message")
	do(ctx, t, chromedp.Click(`//button[.="Close"]`), chromedp.WaitNotPresent(`[role=dialog]`),
		keys(`input[type=email]`, "agnes.tests@marram.example"), chromedp.Click(`//button[.="Send test"]`))
	look(ctx, t, "main", "Sending a message")
	arrived(t, "agnes.tests@marram.example", "Test message from")

	do(ctx, t, chromedp.Navigate(lamp.URL+"/door/console/looks"))
	look(ctx, t, "main", "All text is readable.")
	accessible(ctx, t, "looks")
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`(() => { const i = document.querySelector("input[type=color]"); `+
		`Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(i, "#e8e0c0"); return i.dispatchEvent(new `+
		`Event("input", { bubbles: true })) })()`)); err != nil {
		t.Fatal(err)
	}
	look(ctx, t, "main", "has a contrast ratio of 1.3 to 1; text needs at least 4.5")
	look(ctx, t, "pre", `looks: { accent: "#e8e0c0"`)
	do(ctx, t, chromedp.EmulateViewport(390, 844))
	for _, page := range []string{"looks", "messages", "people"} {
		do(ctx, t, chromedp.Navigate(lamp.URL+"/door/console/"+page), chromedp.WaitVisible("main h1"))
		wide, err := chromedp.Run(ctx, chromedp.Evaluate[int](`document.documentElement.scrollWidth`))
		if err != nil || wide > 390 {
			t.Errorf("%s is %d wide on a phone, %v", page, wide, err)
		}
	}
}

// One takes one's data along, goes, and may change one's mind; the language that one has chosen comes along to another browser.
func TestLeavingInTheBrowser(t *testing.T) {
	member(t, "solveig", "paint-and-lentil-soup")
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate(lamp.URL+"/door/sign-in?next=/door/account"), keys("#username", "solveig"),
		keys("#password", "paint-and-lentil-soup\r"))
	look(ctx, t, "h1", "Your account")
	do(ctx, t, chromedp.Click(`//button[.="Deutsch"]`))
	look(ctx, t, "h1", "Ihr Konto")
	accessible(ctx, t, "account in German")
	p := newPerson(t, lamp.URL)
	p.signIn("solveig", "paint-and-lentil-soup", "")
	if a := p.get("/door/account"); !strings.Contains(a.body, `<html lang="de">`) {
		t.Errorf("another browser is answered in\n%s", a.body)
	}
	a := p.get("/door/account/data")
	var data struct {
		Name, Email string
		Roles       []struct{ Role string }
		Activity    []struct{ Kind string }
	}
	if err := json.Unmarshal([]byte(a.body), &data); err != nil || a.status != 200 || data.Name != "solveig" ||
		data.Email != "solveig@marram.example" || len(data.Roles) != 1 || len(data.Activity) < 2 ||
		!strings.HasPrefix(a.header.Get("Content-Disposition"), "attachment") {
		t.Errorf("%d %v %v\n%s", a.status, err, a.header, a.body)
	}
	newPerson(t, lamp.URL).is("/door/account/data", 303, "/door/sign-in?next=%2Fdoor%2Faccount")
	do(ctx, t, keys("#leave-password", "not-mine\r"))
	look(ctx, t, "[role=alert]", "nicht das Passwort von solveig")
	do(ctx, t, keys("#leave-password", "paint-and-lentil-soup\r"))
	look(ctx, t, ".problem", "Dieses Konto wird am")
	accessible(ctx, t, "an account that is left")
	arrived(t, "solveig@marram.example", "wird gelöscht")
	do(ctx, t, chromedp.Click(`//button[.="Behalten"]`))
	look(ctx, t, "[role=status]", "Ihr Konto bleibt.")
}
