package e2e

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// sited starts the demo for one test, and opens the page Site as its steward.
func sited(t *testing.T) (s *Process, ctx context.Context, text func() string) {
	t.Helper()
	data, err := os.MkdirTemp("", "sited")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(data) })
	if s, err = Start("demo", "--listen", "127.0.0.1:0", "--data", data); err != nil {
		t.Fatal(err)
	}
	s.Data = data
	t.Cleanup(func() {
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
	})
	ctx = tab(t)
	do(ctx, t, SignIn(s.URL, "agnes", agnes), chromedp.Navigate(s.URL+"/door/console/site"), chromedp.WaitVisible(`[role=tree]`))
	return s, ctx, func() string {
		text, err := os.ReadFile(filepath.Join(data, "doors.yaml"))
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
}

// point chooses a place of the tree. Its lines are drawn anew whenever the site is looked at again.
func point(path string) chromedp.Action[chromedp.Void] {
	return chromedp.Evaluate[chromedp.Void](`document.querySelector('[role=treeitem][data-path="` + path + `"]').click()`)
}

// word opens the choices of a word of the sentence. The words move when the site is looked at again.
func word(about string) chromedp.Action[chromedp.Void] {
	return chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('[data-testid=sentence] [data-about=` + about +
		`]')].at(-1).click()`)
}

// pick takes one of the choices.
func pick(label string) chromedp.Action[chromedp.Void] {
	return chromedp.Click(`//*[@data-testid="choices"]//label[contains(., "` + label + `")]//input`)
}

// press clicks a button as soon as it can be pressed.
func press(label string) []chromedp.Action[chromedp.Void] {
	button := `//section//button[.="` + label + `"][not(@disabled)]`
	return []chromedp.Action[chromedp.Void]{chromedp.WaitVisible(button), chromedp.Click(button)}
}

// A directory is closed for a role by pointing at it, and opened again by Undo; the file is then what it
// was, to the byte, and in between it has one door more.
func TestSiteClosesADirectory(t *testing.T) {
	t.Parallel()
	s, ctx, text := sited(t)
	before, stranger := text(), newPerson(t, s.URL)
	stranger.is("/news/", http.StatusOK, "")
	accessible(ctx, t, "site")
	do(ctx, t, point("/news"))
	look(ctx, t, "[data-testid=sentence]", "Everyone can see /news/ and everything below.")
	do(ctx, t, word("who"), pick("people with a role"), pick("keeper"))
	look(ctx, t, "[data-testid=sentence]", "Only people with the role keeper can see /news/ and everything below.")
	look(ctx, t, "section[aria-label]", "GET /news to anonymous")
	accessible(ctx, t, "site, the panel")
	do(ctx, t, press("Require a role for /news/")...)
	look(ctx, t, "section[aria-label] [role=status]", "It is active now.")
	stranger.is("/news/", http.StatusSeeOther, "/door/sign-in?next=%2Fnews%2F")
	if changed := text(); strings.Replace(changed, "\n\n  - path: /news/**\n    admit: { role: keeper }", "",
		1) != strings.Replace(before, "/news/**, ", "", 1) {
		t.Errorf("the file is now\n%s", changed)
	}
	do(ctx, t, press("Undo")...)
	look(ctx, t, "[data-testid=sentence]", "Everyone can see /news/ and everything below.")
	stranger.is("/news/", http.StatusOK, "")
	if text() != before {
		t.Errorf("undone, the file is\n%s", text())
	}
	// What is guaranteed cannot be taken back here.
	do(ctx, t, point("/visit"))
	look(ctx, t, "section[aria-label] h2", "/visit")
	do(ctx, t, word("who"), pick("nobody"))
	look(ctx, t, "section[aria-label]", "This can't be applied: it breaks a guarantee")
	// A role that nobody has, an account that is not there: said before it is applied.
	do(ctx, t, pick("people with a role"), pick("a new one"), Insert("warden"))
	look(ctx, t, "section[aria-label]", "Everyone can see")
	do(ctx, t, point("/tides"))
	look(ctx, t, "section[aria-label] h2", "/tides")
	do(ctx, t, word("who"), pick("people with a role"), pick("a new one"),
		keys(`//label[contains(., "Name of the new role")]//input`, "warden"))
	look(ctx, t, "section[aria-label]", "Nobody has the role warden yet")
	do(ctx, t, pick("certain people"), keys(`//label[contains(., "Names of accounts")]//input`, "agnes, nemo"))
	look(ctx, t, "section[aria-label]", "There is no account nemo yet.")
	look(ctx, t, "[data-testid=sentence]", "the account agnes or nemo")
	// A name with characters that stand for others in a policy.
	write(t, s.Data, "site/news/50% off.html", "<main>half</main>")
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/site?place=/news/50%25+off.html"))
	look(ctx, t, "section[aria-label] h2", "/news/50% off.html")
	look(ctx, t, "section[aria-label]", "the door matches /news/50* off.html")
	do(ctx, t, word("who"), pick("nobody"))
	look(ctx, t, "[data-testid=sentence]", "Nobody can see everything that matches /news/50* off.html.")
	if text() != before {
		t.Error("looking changed the file")
	}
}

// One page inside a closed directory is opened: what opens is asked for by its name, twice, and can be left.
func TestSiteOpensAPage(t *testing.T) {
	t.Parallel()
	s, ctx, text := sited(t)
	before, stranger := text(), newPerson(t, s.URL)
	stranger.is("/rota/ask", http.StatusSeeOther, "/door/sign-in?next=%2Frota%2Fask")
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/site?place=/rota/ask"))
	look(ctx, t, "section[aria-label]", "Inherited from")
	do(ctx, t, word("who"), pick("everyone"))
	look(ctx, t, "[data-testid=sentence]", "Everyone can see /rota/ask/ and everything below.")
	look(ctx, t, "section[aria-label]", "Opens")
	do(ctx, t, press("Open /rota/ask/ to everyone")...)
	look(ctx, t, "[role=dialog]", "Open /rota/ask/ to everyone?")
	look(ctx, t, "[role=dialog]", "/rota/ask (as anonymous)")
	do(ctx, t, chromedp.Click(`//button[.="Cancel"]`), chromedp.WaitNotPresent(`[role=dialog]`))
	if text() != before {
		t.Fatal("it was applied all the same")
	}
	do(ctx, t, press("Open /rota/ask/ to everyone")...)
	do(ctx, t, chromedp.Click(`//*[@role="dialog"]//button[.="Open /rota/ask/ to everyone"]`))
	look(ctx, t, "section[aria-label] [role=status]", "It is active now.")
	if a := stranger.get("/rota/ask"); a.status == http.StatusSeeOther {
		t.Errorf("it is still closed: %d", a.status)
	}
	stranger.is("/rota/", http.StatusSeeOther, "/door/sign-in?next=%2Frota%2F")
	gone := strings.Split(before, "\n")
	for _, line := range strings.Split(text(), "\n") {
		if len(gone) > 0 && line == gone[0] {
			gone = gone[1:]
		}
	}
	if len(gone) > 0 || strings.Count(text(), "\n") > strings.Count(before, "\n")+3 {
		t.Errorf("the file has lost %q, or gained much:\n%s", gone, text())
	}
}

// A second layer is put before a door that is there, and the door removed again: all else in its lines stays.
func TestSitePutsALayerBefore(t *testing.T) {
	t.Parallel()
	s, ctx, text := sited(t)
	before, keeper := text(), newPerson(t, s.URL)
	keeper.signIn("ines", "seven-brass-prisms", "/")
	keeper.is("/log/", http.StatusOK, "")
	do(ctx, t, point("/log"))
	look(ctx, t, "[data-testid=sentence]", "Only people with the role keeper can see /log/ and everything below.")
	do(ctx, t, word("also"), keys(`select[aria-label="Keyring in front"]`, "the keyring outer"), pick("enter the password again"))
	look(ctx, t, "[data-testid=sentence]", "They must also enter a name and password from the keyring outer and have entered "+
		"their password in the last 10 minutes.")
	look(ctx, t, "section[aria-label]", "GET /log to role:keeper")
	do(ctx, t, press("Apply to /log/")...)
	look(ctx, t, "section[aria-label] [role=status]", "It is active now.")
	if a := keeper.get("/log/"); a.status != http.StatusUnauthorized || !strings.Contains(a.header.Get("WWW-Authenticate"), "Basic") {
		t.Errorf("%d %v", a.status, a.header)
	}
	if want := strings.Replace(before, "    admit: { role: keeper }\n    otherwise: { refused: { go: /rota/ask/ } }",
		"    admit: { keyring: outer, role: keeper, proof-within: 10m }\n    otherwise: { refused: { go: /rota/ask/ } }",
		1); text() != want || want == before {
		t.Errorf("the file is now\n%s", text())
	}
	// Somebody else changes the policy meanwhile: the later one is told, keeps what was chosen, and applies it on top.
	look(ctx, t, "section[aria-label]", "Select an underlined word to change it.") // as it is in force
	do(ctx, t, word("others"), chromedp.WaitVisible(`[data-testid=choices]`),
		chromedp.Click(`(//*[@data-testid="choices"]//label[contains(., "get “not found”")]//input)[2]`))
	look(ctx, t, "[data-testid=sentence]", "Other visitors get “not found”.")
	do(ctx, t, chromedp.WaitVisible(`//section//button[.="Apply to /log/"][not(@disabled)]`))
	if code, out, errOut := run(t, "", "doors", "set", "/tides", "--admit", "signed-in", "--data", s.Data); code != 0 {
		t.Fatal(out, errOut)
	}
	do(ctx, t, press("Apply to /log/")...)
	look(ctx, t, "section[aria-label]", "has brought another version into force")
	look(ctx, t, "[data-testid=sentence]", "Other visitors get “not found”.")
	do(ctx, t, press("Apply to /log/")...)
	look(ctx, t, "section[aria-label]", "It is active now.")
	stranger := newPerson(t, s.URL)
	stranger.is("/tides", http.StatusSeeOther, "/door/sign-in?next=%2Ftides")
	if !strings.Contains(text(), "otherwise: { refused: hide }") {
		t.Errorf("the file is now\n%s", text())
	}
	// The file is edited by hand while the panel is open, and cannot be read: nothing of either is lost.
	do(ctx, t, word("who"), pick("nobody"))
	look(ctx, t, "[data-testid=sentence]", "Nobody can see /log/")
	hand := strings.Replace(text(), "doors:", "doors: # by hand\n  - nonsense", 1)
	write(t, s.Data, "doors.yaml", hand)
	do(ctx, t, press("Block /log/ for everyone")...)
	look(ctx, t, "section[aria-label]", "has an edit")
	look(ctx, t, "[data-testid=sentence]", "Nobody can see /log/")
	if text() != hand {
		t.Errorf("the edit by hand is lost:\n%s", text())
	}
}

// Everything on Doors is changed through the same panel; a door goes with one question more, if that opens something.
func TestDoorsAreChangedAndRemoved(t *testing.T) {
	t.Parallel()
	s, ctx, text := sited(t)
	before := text()
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/doors"), chromedp.WaitVisible(`a[aria-label="Change /office/**"]`),
		chromedp.Click(`a[aria-label="Change /office/**"]`))
	look(ctx, t, "section[aria-label] h2", "/office")
	do(ctx, t, press("Remove this door …")...)
	look(ctx, t, "section[aria-label]", "Without its own door")
	do(ctx, t, press("Cancel")...)
	look(ctx, t, "[data-testid=sentence]", "Only people with the role trustee can see /office/ and everything below")
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/doors"), chromedp.WaitVisible(`a[aria-label="Change /privacy"]`),
		chromedp.Click(`a[aria-label="Change /privacy"]`))
	do(ctx, t, press("Remove this door …")...)
	do(ctx, t, press("Remove the door of /privacy")...)
	look(ctx, t, "section[aria-label]", "It is active now.")
	if text() != strings.Replace(before, "/privacy, ", "", 1) {
		t.Errorf("the file is now\n%s", text())
	}
	newPerson(t, s.URL).is("/privacy", http.StatusSeeOther, "/door/sign-in?next=%2Fprivacy")
}

// With the keyboard alone a directory gets a name and a password of its own, and the browser's own question is
// met with them.
func TestSiteGivesADirectoryItsPassword(t *testing.T) {
	t.Parallel()
	s, ctx, text := sited(t)
	before := text()
	do(ctx, t, chromedp.Focus(`[role=tree]`), chromedp.KeyEvent(kb.Home))
	chosen := func() string {
		label, err := chromedp.Run(ctx, chromedp.Evaluate[string](`document.querySelector('[role=treeitem][aria-selected=true]')?.dataset.`+
			`path ?? ""`))
		if err != nil {
			t.Fatal(err)
		}
		return label
	}
	for at := chosen(); at != "/shop"; at = chosen() { // down to the shop
		do(ctx, t, chromedp.KeyEvent(kb.ArrowDown))
		eventually(t, func() bool { return chosen() != at })
	}
	look(ctx, t, "section[aria-label] h2", "/shop")
	// The words of the sentence follow the tree; the choice is taken with the arrows, and what it needs follows it.
	do(ctx, t, chromedp.Focus(`[data-about=who]`), chromedp.KeyEvent(kb.Enter), chromedp.WaitVisible(`[data-testid=choices]`))
	for range 4 {
		do(ctx, t, chromedp.KeyEvent(kb.ArrowDown))
	}
	do(ctx, t, chromedp.KeyEvent(kb.Tab), chromedp.KeyEvent("a new"), chromedp.KeyEvent(kb.Tab), Insert("counter"),
		chromedp.KeyEvent(kb.Tab), Insert("The shop's counter"))
	look(ctx, t, "[data-testid=sentence]", "a name and password from the keyring counter")
	do(ctx, t, chromedp.Focus(`input[aria-label="First name"]`), Insert("helper"))
	generated := func() (password string) {
		var err error
		if password, err = chromedp.Run(ctx, chromedp.Value(`input[aria-label="The password"]`)); err != nil {
			t.Fatal(err)
		}
		return password
	}
	eventually(t, func() bool { return len(generated()) == 23 })
	first := generated()
	do(ctx, t, chromedp.Focus(`//button[.="Generate another"]`), chromedp.KeyEvent(" "))
	eventually(t, func() bool { return generated() != first && generated() != "" })
	// A browser that is short of time drops a key at times, and a person presses it again. A few words of the list
	// have a hyphen of their own.
	madeOf := `//label[contains(., "Type")]//select`
	do(ctx, t, chromedp.Focus(madeOf))
	for kind := ""; kind != "words"; {
		do(ctx, t, chromedp.KeyEvent(kb.End))
		var err error
		if kind, err = chromedp.Run(ctx, chromedp.Value(madeOf)); err != nil {
			t.Fatal(err)
		}
	}
	eventually(t, func() bool {
		return strings.Count(generated(), "-") >= 4 && strings.ToLower(generated()) == generated()
	})
	look(ctx, t, "section[aria-label]", "strong")
	secret := generated()
	do(ctx, t, chromedp.WaitVisible(`//section//button[.="Require a name and password for /shop/"][not(@disabled)]`),
		chromedp.Focus(`//section//button[.="Require a name and password for /shop/"]`), chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(`[data-testid=secret]`))
	look(ctx, t, "[data-testid=secret]", secret)
	look(ctx, t, "section[aria-label]", s.URL+"/shop")
	look(ctx, t, "section[aria-label]", "Name: helper")
	stranger := newPerson(t, s.URL)
	asked := stranger.get("/shop/")
	if asked.status != http.StatusUnauthorized || !strings.Contains(asked.header.Get("WWW-Authenticate"), `realm="The shop's counter"`) {
		t.Errorf("%d %v", asked.status, asked.header)
	}
	for password, want := range map[string]int{secret: http.StatusOK, "a-guess-of-mine": http.StatusUnauthorized} {
		r, err := http.NewRequest("GET", s.URL+"/shop/", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.SetBasicAuth("helper", password)
		resp, err := stranger.http.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != want {
			t.Errorf("%q: %d, want %d", password, resp.StatusCode, want)
		}
	}
	after := text()
	left := regexp.MustCompile(`(?m)^  counter: .*\n`).ReplaceAllString(after, "")
	left = strings.Replace(left, "\n\n  - path: /shop/**\n    admit: { keyring: counter }", "", 1)
	if left != strings.Replace(before, "/shop/**, ", "", 1) || strings.Contains(after, secret) {
		t.Errorf("the file is now\n%s", after)
	}
}

// A policy that says nothing of single places is offered doors by the names of what is there; what is chosen is made in
// one step, and what is not stays away.
func TestSuggestedDoors(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "public/index.html", "<main>the lighthouse</main>")
	write(t, dir, "public/admin/index.html", "<main>for some</main>")
	write(t, dir, "public/backup-2024.zip", "PK")
	write(t, dir, "public/sitemap.xml", `<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><url><loc>https://marram.`+
		`example/old/dump.sql</loc></url></urlset>`)
	const before = "# ours\nsite: Marram\nsources: [ { path: /, files: ./public } ]\ndoors:\n  - { path: /**, admit: public } # all\n"
	write(t, dir, "doors.yaml", before)
	file, data := filepath.Join(dir, "doors.yaml"), filepath.Join(dir, "data")
	s, err := Start("serve", "--policy", file, "--listen", "127.0.0.1:0", "--data", data)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
	})
	if code, out, errOut := run(t, agnes, "people", "add", "agnes", "--role", "steward", "--password-stdin", "--data", data); code != 0 {
		t.Fatal(out, errOut)
	}
	ctx := tab(t)
	do(ctx, t, SignIn(s.URL, "agnes", agnes), chromedp.Navigate(s.URL+"/door/console/site"), chromedp.WaitVisible(`[role=tree]`))
	look(ctx, t, "main", "The policy has no doors for single places yet. 3 doors are suggested")
	look(ctx, t, "main", "1 addresses of sitemap.xml")
	do(ctx, t, chromedp.Click(`//button[.="3 doors are suggested"]`))
	look(ctx, t, "section[aria-label]", "GET /backup-2024.zip to anonymous")
	do(ctx, t, chromedp.Click(`//label[contains(., "/old/dump.sql")]//input`))
	accessible(ctx, t, "suggested doors")
	do(ctx, t, press("Create these 2 doors")...)
	look(ctx, t, "main", "1 door is suggested")
	stranger := newPerson(t, s.URL)
	stranger.is("/", http.StatusOK, "")
	stranger.is("/backup-2024.zip", http.StatusForbidden, "")
	stranger.is("/admin/", http.StatusSeeOther, "/door/sign-in?next=%2Fadmin%2F")
	text, err := os.ReadFile(file)
	if want := before + "  - { path: /backup-2024.zip, admit: nobody }   # may be a backup\n  - { path: /admin/**, admit: signed-in }  " +
		" # may be for administrators\n"; err != nil || string(text) != want {
		t.Errorf("the file is now\n%s", text)
	}
}
