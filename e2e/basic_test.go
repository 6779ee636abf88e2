package e2e

import (
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	cdpfetch "github.com/chromedp/cdproto/fetch"
	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// gated is a site with an area for a keyring, one for accounts with Basic, and one with
// both layers.
func gated(t *testing.T) (s *Process, api *client.Client) {
	t.Helper()
	dir := t.TempDir()
	for _, page := range []string{"index.html", "gate/index.html", "feed/latest.json", "office/index.html", "open/index.html"} {
		write(t, dir, "site/"+page, "<!doctype html><html lang=en><title>t</title><h1>"+page+"</h1>")
	}
	write(t, dir, "doors.yaml", `
site: Marram Point
roles: { device: , trustee: }
keyrings: { outer: { realm: 'The "outer" gate' } }
sources: [ { path: /, files: ./site } ]
doors:
  - { path: [/, /open/**], admit: public }
  - { path: /gate/**, admit: { keyring: outer } }
  - { path: /feed/**, admit: { role: device }, ask: basic, realm: Sensor feed }
  - { path: /office/**, admit: { keyring: outer, role: trustee } }
`)
	s = start(t, dir)
	api = client.New(s.Data)
	for _, p := range []client.NewPerson{
		{Name: "tide-gauge", Email: "gauge@marram.example", Password: "refuge:hut:ladder-é", Roles: []string{"device"}},
		{Name: "tobias", Password: "quiet-harbour-ledger", Roles: []string{"trustee"}},
	} {
		if _, err := client.AddPerson.Ask(t.Context(), api, p); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := client.AddEntry.Ask(t.Context(), api,
		client.NewEntry{Keyring: "outer", Name: "smith", Password: "creaky-third-step"}); err != nil {
		t.Fatal(err)
	}
	return s, api
}

func basic(user, password string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
}

func TestBasicHeaders(t *testing.T) {
	t.Parallel()
	s, api := gated(t)
	p := newPerson(t, s.URL)
	page := "text/html"
	for _, test := range []struct {
		path   string
		header []string
		status int
		asks   string
	}{
		{"/gate/", []string{"Accept", page}, 401, `Basic realm="The \"outer\" gate", charset="UTF-8"`},
		{"/feed/latest.json", nil, 401, `Basic realm="Sensor feed", charset="UTF-8"`},
		// no dialogue for a script
		{"/gate/", []string{"Sec-Fetch-Mode", "cors", "Sec-Fetch-Dest", "empty"}, 401, `Session realm="Marram Point"`},
		// OK pressed at once
		{"/gate/", []string{"Authorization", basic("", ""), "Accept", page}, 401, `Basic realm="The \"outer\" gate", charset="UTF-8"`},
		{"/feed/latest.json", []string{"Authorization", basic("", "x")}, 401, `Basic realm="Sensor feed", charset="UTF-8"`},
		{"/gate/", []string{"Authorization", basic("smith", "creaky-third-step")}, 200, ""}, // unasked
		{"/gate/", []string{"Authorization", "bAsIC " + basic("smith", "creaky-third-step")[6:]}, 200, ""},
		{"/feed/latest.json", []string{"Authorization", basic("tide-gauge", "refuge:hut:ladder-é")}, 200, ""},
		{"/feed/latest.json", []string{"Authorization", basic("TIDE-GAUGE", "refuge:hut:ladder-e\u0301")}, 200, ""}, // another form of the accent
		{"/feed/latest.json", []string{"Authorization", basic("gauge@marram.example", "refuge:hut:ladder-é")}, 200, ""},
		{"/feed/latest.json", []string{"Authorization", basic("smith", "creaky-third-step")}, 401, `Basic realm="Sensor feed", charset="UTF-8"`},
		{"/feed/latest.json", []string{"Authorization", basic("tobias", "quiet-harbour-ledger")}, 403, ""},
		{"/gate/", []string{"Authorization", basic("tide-gauge", "refuge:hut:ladder-é")}, 401,
			`Basic realm="The \"outer\" gate", charset="UTF-8"`},
		{"/gate/", []string{"Authorization", "Basic nonsense!"}, 400, ""},
		{"/gate/", []string{"Authorization", "Bearer " + basic("smith", "creaky-third-step")[6:]}, 401,
			`Basic realm="The \"outer\" gate", charset="UTF-8"`},
		// not asked for: the business of what is behind
		{"/open/", []string{"Authorization", "Basic nonsense!"}, 200, ""},
		{"/door/console/", []string{"Authorization", basic("tobias", "quiet-harbour-ledger"), "Accept", page}, 303, ""}, // own pages take none
	} {
		a := p.get(test.path, test.header...)
		if a.status != test.status || a.header.Get("WWW-Authenticate") != test.asks {
			t.Errorf("%s %v: %d %q, want %d %q", test.path, test.header, a.status, a.header.Get("WWW-Authenticate"), test.status, test.asks)
		}
	}
	for _, test := range [][]string{ // what a program is told to do about it
		{"/feed/latest.json", "HTTP Basic, for \\\"Sensor feed\\\"", "Accept", "application/json"},
		{"/gate/", "Open a page there first", "Sec-Fetch-Mode", "cors", "Sec-Fetch-Dest", "empty"},
		{"/office/", "Sign in at /door/sign-in first", "Accept", "application/json", "Authorization", basic("smith", "creaky-third-step")},
	} {
		if a := p.get(test[0], test[2:]...); a.status != 401 || a.header.Get("Content-Type") != "application/problem+json" ||
			!strings.Contains(a.body, test[1]) {
			t.Errorf("%v: %d %s", test, a.status, a.body)
		}
	}
	two := "GET /gate/ HTTP/1.1\r\nHost: x\r\nConnection: close\r\nAuthorization: " + basic("smith", "creaky-third-step") +
		"\r\nAuthorization: " + basic("smith", "creaky-third-step") + "\r\n\r\n"
	if status, _, _ := raw(t, s.URL, two); status != 400 {
		t.Errorf("two Authorization headers: %d", status)
	}
	// What has changed counts with the very next request.
	right := []string{"Authorization", basic("smith", "creaky-third-step")}
	is := func(status int, what string) {
		t.Helper()
		if a := p.get("/gate/", right...); a.status != status {
			t.Errorf("%s: %d, want %d", what, a.status, status)
		}
	}
	is(200, "at first")
	client.DisableEntry.Do(t.Context(), api, client.DisabledEntry{Keyring: "outer", Entry: "smith", Disabled: true})
	is(403, "disabled")
	client.DisableEntry.Do(t.Context(), api, client.DisabledEntry{Keyring: "outer", Entry: "smith", Disabled: false})
	is(200, "enabled")
	if err := client.RotateEntry.Do(t.Context(), api,
		client.NewEntryPassword{Keyring: "outer", Entry: "smith", Password: "squeaky-fourth-step", Grace: 3600}); err != nil {
		t.Fatal(err)
	}
	is(200, "the old one, while both count")
	if a := p.get("/gate/", "Authorization", basic("smith", "squeaky-fourth-step")); a.status != 200 {
		t.Errorf("the new one: %d", a.status)
	}
	client.RotateEntry.Do(t.Context(), api, client.NewEntryPassword{Keyring: "outer", Entry: "smith", Password: "silent-fifth-step"})
	is(401, "the old one, when it is over")
	feed := []string{"Authorization", basic("tide-gauge", "refuge:hut:ladder-é")}
	if a := p.get("/feed/latest.json", feed...); a.status != 200 {
		t.Error(a.status)
	}
	client.RevokeRole.Do(t.Context(), api, client.RoleOf{Account: "tide-gauge", Role: "device"})
	if a := p.get("/feed/latest.json", feed...); a.status != 403 {
		t.Errorf("without the role: %d", a.status)
	}
	client.SetPassword.Do(t.Context(), api, client.NewPassword{Account: "tide-gauge", Password: "another-hut-ladder-kettle"})
	if a := p.get("/feed/latest.json", feed...); a.status != 401 {
		t.Errorf("with the old password: %d", a.status)
	}
	client.RemoveEntry.Do(t.Context(), api, client.EntryOf{Keyring: "outer", Entry: "smith"})
	// Failures are slowed and recorded as at the sign-in page.
	status := 0
	for i := 0; i < 40 && status != 429; i++ { // a slow machine waits out the first of them
		status = p.get("/gate/", "Authorization", basic("nobody", "wrong")).status
	}
	if status != 429 {
		t.Errorf("after many failures: %d", status)
	}
	_, out, _ := run(t, "", "activity", "--kind", "sign-in failed", "--data", s.Data)
	if !strings.Contains(out, "wrong credentials for the keyring outer") || strings.Contains(out, "creaky") ||
		strings.Contains(out, "nobody") {
		t.Errorf("%s", out)
	}
}

func TestBasicWithRealClients(t *testing.T) {
	t.Parallel()
	s, _ := gated(t)
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"curl", "-s", "-o", "/dev/null", "-w", "%{http_code}", "-u", "smith:creaky-third-step", s.URL + "/gate/"}, "200"},
		{[]string{"curl", "-s", "--basic", "-u", "tide-gauge:refuge:hut:ladder-é", s.URL + "/feed/latest.json"}, "feed/latest.json"},
		{[]string{"curl", "-s", "-o", "/dev/null", "-w", "%{http_code}", "-u", "smith:wrong", s.URL + "/gate/"}, "401"},
		{[]string{"wget", "-q", "-O", "-", "--user=smith", "--password=creaky-third-step", s.URL + "/gate/"}, "gate/index.html"},
		{[]string{"wget", "-q", "-O", "-", "--auth-no-challenge", "--user=smith", "--password=creaky-third-step", s.URL + "/gate/"},
			"gate/index.html"},
	} {
		out, err := exec.Command(c.args[0], c.args[1:]...).CombinedOutput()
		if err != nil || !strings.Contains(string(out), c.says) {
			t.Errorf("%v: %v %s", c.args[:3], err, out)
		}
	}
}

// prompted answers the browser's own dialogue, and counts how often it was shown.
func prompted(ctx context.Context, t *testing.T, user, password string) *atomic.Int64 {
	t.Helper()
	shown := new(atomic.Int64)
	yes := true
	err := chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := cdp.Call(ctx, target, cdpfetch.Enable, cdpfetch.EnableParams{HandleAuthRequests: &yes})
		return err
	}))
	if err != nil {
		t.Fatal(err)
	}
	answer := func(do func(ctx context.Context, target *chromedp.Target) error) {
		go chromedp.Do(ctx, chromedp.Func(do))
	}
	err = chromedp.Listen(ctx, func(ev any) {
		switch ev := ev.(type) {
		case *cdpfetch.EventRequestPaused:
			answer(func(ctx context.Context, target *chromedp.Target) error {
				_, err := cdp.Call(ctx, target, cdpfetch.ContinueRequest, cdpfetch.ContinueRequestParams{RequestID: ev.RequestID})
				return err
			})
		case *cdpfetch.EventAuthRequired:
			response := cdpfetch.AuthChallengeResponse{
				Response: cdpfetch.AuthChallengeResponseResponseProvideCredentials, Username: user, Password: password,
			}
			if shown.Add(1) > 1 {
				response = cdpfetch.AuthChallengeResponse{Response: cdpfetch.AuthChallengeResponseResponseCancelAuth}
			}
			answer(func(ctx context.Context, target *chromedp.Target) error {
				_, err := cdp.Call(ctx, target, cdpfetch.ContinueWithAuth,
					cdpfetch.ContinueWithAuthParams{RequestID: ev.RequestID, AuthChallengeResponse: &response})
				return err
			})
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	return shown
}

// The browser's prompt, then the sign-in page; both are needed, and signing out of the
// second leaves the first.
func TestTwoLayers(t *testing.T) {
	t.Parallel()
	s, _ := gated(t)
	p := newPerson(t, s.URL)
	gate := []string{"Authorization", basic("smith", "creaky-third-step"), "Accept", "text/html", "Sec-Fetch-Mode", "navigate",
		"Sec-Fetch-Dest", "document"}
	if a := p.get("/office/", gate...); a.status != 303 || a.location != "/door/sign-in?next=%2Foffice%2F" {
		t.Errorf("the first layer alone: %d %s", a.status, a.location)
	}
	p.signIn("tobias", "quiet-harbour-ledger", "")
	if a := p.get("/office/", "Accept", "text/html"); a.status != 401 {
		t.Errorf("the second layer alone: %d", a.status)
	}
	if a := p.get("/office/", "Authorization", basic("tobias", "quiet-harbour-ledger")); a.status != 401 {
		t.Errorf("the account's password at the gate: %d", a.status)
	}
	if a := p.get("/office/", gate...); a.status != 200 {
		t.Errorf("both: %d", a.status)
	}

	ctx := tab(t)
	shown := prompted(ctx, t, "smith", "creaky-third-step")
	do(ctx, t, chromedp.Navigate(s.URL+"/office/"))
	look(ctx, t, "h1", "Sign in")
	do(ctx, t, keys("#username", "tobias"), keys("#password", "quiet-harbour-ledger\r"))
	look(ctx, t, "h1", "office/index.html")
	do(ctx, t, chromedp.Navigate(s.URL+"/door/sign-out"), chromedp.Click(`//button[.="Sign out"]`))
	look(ctx, t, "h1", "index.html")
	do(ctx, t, chromedp.Navigate(s.URL+"/office/"))
	look(ctx, t, "h1", "Sign in")
	do(ctx, t, chromedp.Navigate(s.URL+"/gate/"))
	look(ctx, t, "h1", "gate/index.html")
	if n := shown.Load(); n != 1 {
		t.Errorf("the browser asked %d times", n)
	}
}

// Files as Debian's htpasswd and openssl write them.
func TestHtpasswdFiles(t *testing.T) {
	t.Parallel()
	s, _ := gated(t)
	dir := t.TempDir()
	file := filepath.Join(dir, "htpasswd")
	if err := os.WriteFile(file, []byte("# old gate\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	names := map[string]string{
		"b-bcrypt": "-B", "m-apr1": "-m", "s-sha1": "-s", "c-sha256": "-2", "d-sha512": "-5", "p-plain": "-p", "d-des": "-d",
	}
	for name, flag := range names {
		if out, err := exec.Command("htpasswd", "-b", flag, file, name, "fog:bell é").CombinedOutput(); err != nil {
			t.Fatalf("htpasswd %s: %v %s", flag, err, out)
		}
	}
	code, out, _ := run(t, "", "keyrings", "import", "outer", file, "--dry-run", "--data", s.Data)
	for _, says := range []string{"add b-bcrypt bcrypt", "add m-apr1 apr1, weak", "add s-sha1 SHA-1, weak",
		"add c-sha256 SHA-256-crypt", "add d-sha512 SHA-512-crypt",
		"error p-plain a password in plain text", "error d-des a hash of DES"} {
		if code != 1 || !strings.Contains(strings.Join(strings.Fields(out), " "), says) {
			t.Errorf("exit %d, %q is missing in\n%s", code, says, out)
		}
	}
	if strings.Contains(out, "fog") {
		t.Error("a password is shown")
	}
	run(t, "", "keyrings", "import", "outer", file, "--data", s.Data)
	_, exported, left := run(t, "", "keyrings", "export", "outer", "--data", s.Data)
	if strings.Count(exported, "\n") != 5 || !strings.Contains(left, "skipped smith: its hash is argon2id") {
		t.Errorf("%s\n%s", exported, left)
	}
	p := newPerson(t, s.URL)
	for name := range names {
		want := 200
		if strings.HasPrefix(name, "p-") || name == "d-des" {
			want = 401
		}
		if a := p.get("/gate/", "Authorization", basic(name, "fog:bell é")); a.status != want {
			t.Errorf("%s: %d, want %d", name, a.status, want)
		}
	}
	_, list, _ := run(t, "", "keyrings", "list", "outer", "--data", s.Data)
	if strings.Count(list, "argon2id") != 6 || strings.Contains(list, "weak") {
		t.Errorf("after their first use:\n%s", list)
	}
	for _, step := range []struct {
		args string
		code int
		says string
	}{
		{"add outer smith --generate", 1, "there is a \"smith\" in the keyring outer already"},
		{"add inner smith --generate", 1, "the policy has no keyring \"inner\"; it has outer"},
		{"add outer sm:ith --generate", 1, "has a colon"},
		{"add outer late --generate --until 1999-01-01", 1, "not in the future"},
		{"add outer guest --words 5 --note visits --until 2999-01-01", 0, "password  "},
		{"rotate outer guest --generate --grace 24h", 0, "works for another 1d"},
		{"rotate outer guest --generate --grace soon", 2, "--grace soon is not a duration"},
		{"list outer", 0, "two passwords until"},
		{"disable outer guest", 0, "disabled guest"},
		{"remove outer guest", 0, "removed guest"},
		{"remove outer guest", 1, "there is no \"guest\""},
		{"import outer /nowhere", 1, "can't be read"},
		{"list inner", 1, "there is no keyring"},
	} {
		code, out, errOut := run(t, "", append(append([]string{"keyrings"}, strings.Fields(step.args)...), "--data", s.Data)...)
		if code != step.code || !strings.Contains(out+errOut, step.says) {
			t.Errorf("keyrings %s: exit %d %s%s, want %d %q", step.args, code, out, errOut, step.code, step.says)
		}
	}
}

func TestConsoleKeyrings(t *testing.T) {
	t.Parallel()
	s, api := gated(t)
	if _, err := client.AddPerson.Ask(t.Context(), api,
		client.NewPerson{Name: "agnes", Password: agnes, Roles: []string{"steward"}}); err != nil {
		t.Fatal(err)
	}
	ctx := tab(t)
	do(ctx, t, SignIn(s.URL, "agnes", agnes), chromedp.Navigate(s.URL+"/door/console/keyrings"))
	look(ctx, t, "table", "smith")
	accessible(ctx, t, "keyrings")
	do(ctx, t, chromedp.Click(`//button[.="Add a name to outer"]`), chromedp.WaitVisible(`[role=dialog] input`),
		keys(`//label[contains(., "Name")]/input`, "baker"), chromedp.Click(`//button[.="Add"]`))
	look(ctx, t, "[role=dialog]", "baker is added")
	password, err := chromedp.Run(ctx, chromedp.Evaluate[string](`document.querySelector("[data-testid=secret]").textContent`))
	if err != nil {
		t.Fatal(err)
	}
	p := newPerson(t, s.URL)
	is := func(status int) {
		t.Helper()
		if a := p.get("/gate/", "Authorization", basic("baker", password)); a.status != status {
			t.Errorf("%d, want %d", a.status, status)
		}
	}
	is(200)
	do(ctx, t, chromedp.Click(`//button[.="Done"]`), chromedp.WaitNotPresent(`[role=dialog]`), chromedp.Click(`//button[.="baker"]`),
		chromedp.WaitVisible(`//button[.="Generate another"]`))
	accessible(ctx, t, "one of a keyring")
	do(ctx, t, keys(`//label[contains(., "Purpose")]/input`, "bakes for the keepers"), chromedp.Click(`//button[.="Save"]`))
	look(ctx, t, "[role=dialog]", "The password is unchanged")
	is(200)
	if rings, err := client.ListKeyrings.Ask(t.Context(), api, client.None{}); err != nil ||
		!slices.ContainsFunc(rings[0].Entries, func(e client.Entry) bool {
			return e.Name == "baker" && e.Note == "bakes for the keepers" && e.Until == nil
		}) {
		t.Errorf("%+v %v", rings, err)
	}
	do(ctx, t, chromedp.Click(`//button[.="Generate another"]`))
	look(ctx, t, "[role=dialog]", "Password changed")
	is(401) // the one before counts no longer
	if password, err = chromedp.Run(ctx, chromedp.Evaluate[string](`document.querySelector("[data-testid=secret]").textContent`)); err != nil {
		t.Fatal(err)
	}
	is(200)
	do(ctx, t, chromedp.Click(`//button[.="Disable"]`))
	look(ctx, t, "[role=dialog]", "stops working")
	is(403)
	do(ctx, t, chromedp.Click(`//button[.="Remove"]`), chromedp.WaitVisible(`//button[.="Remove name"]`),
		chromedp.Click(`//button[.="Remove name"]`), chromedp.WaitNotPresent(`[role=dialog]`))
	do(ctx, t, chromedp.WaitNotPresent(`//button[.="baker"]`))

	// A file comes in but for the lines that cannot be taken, and goes out again.
	do(ctx, t, chromedp.Click(`//button[.="Import"]`), chromedp.WaitVisible(`[role=dialog] textarea`),
		keys(`[role=dialog] textarea`, "plain:fogbell\nold:{SHA}qUqP5cyxm6YcTAhz05Hph5gvu9M=\nold:{SHA}qUqP5cyxm6YcTAhz05Hph5gvu9M=\n"),
		chromedp.Click(`//button[.="Preview"]`))
	look(ctx, t, "[role=dialog] table", "the name stands in line 2 already")
	do(ctx, t, chromedp.Click(`//button[.="Import 1"]`))
	look(ctx, t, "[role=dialog]", "1 added")
	do(ctx, t, chromedp.Click(`//button[.="Close"]`), chromedp.WaitNotPresent(`[role=dialog]`),
		chromedp.WaitVisible(`//button[.="old"]`), chromedp.Click(`//button[.="Export"]`))
	look(ctx, t, "[role=dialog]", "its hash is argon2id")
	look(ctx, t, "[role=dialog]", "1 name can be written")
	accessible(ctx, t, "export of a keyring")
	if a := p.get("/gate/", "Authorization", basic("old", "test")); a.status != 200 {
		t.Errorf("%d with the name of the file", a.status)
	}
	if err := client.RemoveEntry.Do(t.Context(), api, client.EntryOf{Keyring: "outer", Entry: "old"}); err != nil {
		t.Fatal(err)
	}
	if rings, _ := client.ListKeyrings.Ask(t.Context(), api, client.None{}); len(rings) != 1 ||
		fmt.Sprint(rings[0].Entries[0].Name, len(rings[0].Entries)) != "smith1" {
		t.Errorf("%+v", rings)
	}
}

// Whoever has the right password of a name that is over is told so, and not asked for it again and again.
func TestNamesThatAreOver(t *testing.T) {
	t.Parallel()
	s, api := gated(t)
	ctx := tab(t)
	shown := prompted(ctx, t, "smith", "creaky-third-step")
	do(ctx, t, chromedp.Navigate(s.URL+"/gate/?day=1"))
	look(ctx, t, "h1", "gate/index.html")
	if err := client.DisableEntry.Do(t.Context(), api, client.DisabledEntry{Keyring: "outer", Entry: "smith", Disabled: true}); err != nil {
		t.Fatal(err)
	}
	do(ctx, t, chromedp.Navigate(s.URL+"/gate/?day=1"))
	look(ctx, t, "h1", "Your access has expired")
	look(ctx, t, "main", "The username smith and its password are right, but this access was closed.")
	if n := shown.Load(); n != 1 {
		t.Errorf("the browser asked %d times", n)
	}
	do(ctx, t, chromedp.Click(`//button[.="Use another username"]`))
	look(ctx, t, "h1", "Username and password needed")
	if n := shown.Load(); n != 2 {
		t.Errorf("for another name, the browser asked %d times", n)
	}

	p := newPerson(t, s.URL)
	right := []string{"Authorization", basic("smith", "creaky-third-step")}
	for range 30 { // more than are taken of what is wrong
		if a := p.get("/gate/", right...); a.status != 403 || !strings.Contains(a.body, `"code":"credentials-ended"`) ||
			a.header.Get("WWW-Authenticate") != "" {
			t.Fatalf("%d %s", a.status, a.body)
		}
	}
	if a := p.get("/gate/", "Authorization", basic("smith", "creaky-fourth-step")); a.status != 401 || strings.Contains(a.body, "ended") {
		t.Errorf("a wrong password is told more: %d %s", a.status, a.body)
	}
	code, out, _ := run(t, "", "activity", "--data", s.Data)
	if code != 0 || strings.Count(out, "the name is disabled, in the keyring outer") != 1 {
		t.Errorf("recorded:\n%s", out)
	}
	if err := client.DisableEntry.Do(t.Context(), api, client.DisabledEntry{Keyring: "outer", Entry: "smith", Disabled: false}); err != nil {
		t.Fatal(err)
	}
	if a := p.get("/gate/", right...); a.status != 200 {
		t.Errorf("enabled again: %d", a.status)
	}
	// The same for an account.
	device := []string{"Authorization", basic("tide-gauge", "refuge:hut:ladder-é")}
	for _, step := range []struct {
		disabled bool
		status   int
	}{{true, 403}, {false, 200}} {
		if err := client.DisablePerson.Do(t.Context(), api, client.Disabled{Account: "tide-gauge", Disabled: step.disabled}); err != nil {
			t.Fatal(err)
		}
		for range 2 {
			if a := p.get("/feed/latest.json", device...); a.status != step.status {
				t.Errorf("disabled %v: %d, want %d", step.disabled, a.status, step.status)
			}
		}
	}
	if a := p.do("POST", "/door/other-name", "next=//elsewhere.example/", "Content-Type",
		"application/x-www-form-urlencoded"); a.location != "/" {
		t.Errorf("led to %s", a.location)
	}
}
