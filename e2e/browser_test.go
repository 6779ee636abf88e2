package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"ostiarius/demo"

	"golang.org/x/net/html"
)

// look waits for the page to show a text.
func look(ctx context.Context, t *testing.T, selector, text string) {
	t.Helper()
	script := fmt.Sprintf(`(() => { const e = document.querySelector(%q); return !!e && e.innerText.includes(%q); })()`, selector, text)
	var err error
	for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline); {
		// An error means that the page is being left for the next one.
		limited, cancel := context.WithTimeout(ctx, 2*time.Second)
		var shown bool
		shown, err = chromedp.Run(limited, chromedp.Evaluate[bool](script))
		cancel()
		if shown {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	limited, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	body, _ := chromedp.Run(limited, chromedp.Text("body"))
	where, _ := chromedp.Run(limited, chromedp.Location())
	t.Fatalf("%s shows no %q at %s: %v\n%s", selector, text, where, err, body)
}

// wasLeft reports whether a step failed since the page was left between looking for an element and doing something with it: then nothing
// was done, and the step can be tried on the next page.
func wasLeft(err error) bool {
	return err != nil &&
		regexp.MustCompile(`node with given id|detached|context with specified id|context was destroyed`).MatchString(err.Error())
}

func do(ctx context.Context, t *testing.T, steps ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	limited, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for _, step := range steps {
		err := chromedp.Do(limited, step)
		for tries := 0; tries < 10 && wasLeft(err); tries++ {
			time.Sleep(50 * time.Millisecond)
			err = chromedp.Do(limited, step)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// keys types into an element. The package's own SendKeys looks at attributes that it is changing meanwhile.
func keys(selector, text string) chromedp.Action[chromedp.Void] {
	return chromedp.Steps(chromedp.Focus(selector, chromedp.NodeVisible), chromedp.KeyEvent(text))
}

func at(ctx context.Context, t *testing.T, want string) {
	t.Helper()
	got, err := chromedp.Run(ctx, chromedp.Location())
	if err != nil || got != want {
		t.Fatalf("at %s, want %s (%v)", got, want, err)
	}
}

// accessible fails for every serious or critical finding of axe-core on the page.
func accessible(ctx context.Context, t *testing.T, page string) {
	t.Helper()
	axe, err := os.ReadFile(filepath.Join(Root(), "console", "node_modules", "axe-core", "axe.min.js"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[any](string(axe)+";0")); err != nil {
		t.Fatal(err)
	}
	// It stumbles over elements that come and go while it looks, and then looks again.
	report, err := chromedp.Run(ctx, chromedp.Evaluate[string](`(function look(tries) {
		return axe.run({ runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"] }).catch(
			(wrong) => tries > 0 && wrong instanceof TypeError ? new Promise((again) => setTimeout(again, 200)).then(() => look(tries - 1))
			  : Promise.reject(wrong));
	})(3).then(r => JSON.stringify(r.violations.map(v => ({ id: v.id, impact: v.impact, help: v.help, nodes: v.nodes.map(n => n.html +
	  " " + n.failureSummary) }))))`, chromedp.EvalAwaitPromise))
	if err != nil {
		t.Fatal(err)
	}
	var violations []struct {
		ID, Impact, Help string
		Nodes            []string
	}
	if err := json.Unmarshal([]byte(report), &violations); err != nil {
		t.Fatal(err)
	}
	for _, v := range violations {
		if v.ID == "scrollable-region-focusable" && len(v.Nodes) == 1 && strings.Contains(v.Nodes[0], "cm-scroller") {
			continue // the editor's text is inside, takes the focus and scrolls with the keyboard
		}
		if v.Impact == "serious" || v.Impact == "critical" {
			t.Errorf("%s: %s (%s): %s", page, v.Help, v.Impact, strings.Join(v.Nodes, " | "))
		} else {
			t.Logf("%s: %s (%s): %s", page, v.Help, v.Impact, strings.Join(v.Nodes, " | "))
		}
	}
}

func TestBrowserWalksTheRoad(t *testing.T) {
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate(lamp.URL+"/"))
	look(ctx, t, "#account", "Sign in")
	accessible(ctx, t, "first page")
	do(ctx, t, chromedp.Navigate(lamp.URL+"/rota/"))
	at(ctx, t, lamp.URL+"/door/sign-in?next=%2Frota%2F")
	accessible(ctx, t, "sign-in")
	do(ctx, t, keys("#username", "walt"), keys("#password", "wrong\r"))
	look(ctx, t, "[role=alert]", "Wrong username or password")
	accessible(ctx, t, "sign-in with a problem")
	do(ctx, t, keys("#password", walt+"\r"))
	look(ctx, t, "h1", "Volunteers' rota")
	at(ctx, t, lamp.URL+"/rota/")
	look(ctx, t, "#account", "walt")
	accessible(ctx, t, "rota")

	// The session is there in a second tab of the same profile, and after loading anew.
	second, end := chromedp.NewContext(ctx)
	defer end()
	if err := chromedp.Do(second); err != nil { // opens the tab, which lives as long as this context
		t.Fatal(err)
	}
	do(second, t, chromedp.Navigate(lamp.URL+"/rota/"), chromedp.Reload())
	look(second, t, "h1", "Volunteers' rota")

	do(ctx, t, chromedp.Navigate(lamp.URL+"/friends/"))
	look(ctx, t, "main", "Only people with the role friend can see this page.")
	accessible(ctx, t, "refusal")
	do(ctx, t, chromedp.Click(`//a[contains(., "another account")]`))
	look(ctx, t, "main", "You are signed in as walt")
	do(ctx, t, keys("#username", "sunniva"), keys("#password", sunniva+"\r"))
	look(ctx, t, "h1", "For friends of the light")
	at(ctx, t, lamp.URL+"/friends/")

	// Sign out; then neither Back nor the second tab shows anything.
	do(ctx, t, chromedp.Click("#account button"))
	look(ctx, t, "h1", "A light at the end of the land")
	do(ctx, t, chromedp.NavigateBack())
	look(ctx, t, "h1", "Sign in")
	do(second, t, chromedp.Reload())
	look(second, t, "h1", "Sign in")
	do(ctx, t, chromedp.Navigate(lamp.URL+"/nothing-here"))
	look(ctx, t, "h1", "Sign in") // unlisted places ask for a sign-in
}

// Every page of the demo and every page that people meet.
func TestAllPagesAreAccessible(t *testing.T) {
	if code, _, errOut := run(t, "lamp-oil-and-wicks\n", "people", "add", "everybody", "--role", "trustee", "--role", "supporter",
		"--role", "device", "--password-stdin", "--data", lampDir); code != 0 {
		t.Fatal(errOut)
	}
	defer run(t, "", "people", "remove", "everybody", "--data", lampDir)
	ctx := tab(t)
	shown := prompted(ctx, t, demo.GateName, demo.GatePassword)
	do(ctx, t, SignIn(lamp.URL, "everybody", "lamp-oil-and-wicks"))
	do(ctx, t, chromedp.Navigate(lamp.URL+"/press/"))
	look(ctx, t, "h1", "Press kit")
	accessible(ctx, t, "unlock")
	do(ctx, t, keys("#password", demo.PressPassword+"\r"))
	look(ctx, t, "main", "For those who write about us.")
	pages := []string{"/door/sign-out", "/door/prove-again", "/door/sign-in?other", "/nothing-here", "/visit%2f"}
	site := filepath.Join(Root(), "demo", "site")
	filepath.WalkDir(site, func(path string, _ fs.DirEntry, _ error) error {
		if name, ok := strings.CutSuffix(path, "index.html"); ok {
			pages = append(pages, strings.TrimPrefix(filepath.ToSlash(name), filepath.ToSlash(site)))
		}
		return nil
	})
	if len(pages) < 18 {
		t.Fatalf("only %d pages: %v", len(pages), pages)
	}
	for _, page := range pages {
		do(ctx, t, chromedp.Navigate(lamp.URL+page))
		look(ctx, t, "body", "")
		if page == "/office/keys/" { // which asks for a second factor; who has none is led to set one up
			page = "/door/account/factors?needed=two&next=%2Foffice%2Fkeys%2F"
		}
		at(ctx, t, lamp.URL+page)
		accessible(ctx, t, page)
	}
	if n := shown.Load(); n != 1 {
		t.Errorf("the browser asked %d times at the gate of the office", n)
	}
}

// Somebody whose browser runs no scripts signs in: the form says by itself what is to be sent, and where.
func TestSignInWithoutJavaScript(t *testing.T) {
	p := newPerson(t, lamp.URL)
	a := p.get("/door/sign-in?next=%2Frota%2F")
	if strings.Contains(a.body, "<script") || !strings.Contains(a.header.Get("Content-Security-Policy"), "default-src 'none'") {
		t.Error("the sign-in page uses scripts")
	}
	page, err := html.Parse(strings.NewReader(a.body))
	if err != nil {
		t.Fatal(err)
	}
	method, action, fields := "", "", url.Values{}
	for n := range page.Descendants() {
		of := map[string]string{}
		for _, attribute := range n.Attr {
			of[attribute.Key] = attribute.Val
		}
		switch n.Data {
		case "form":
			if method != "" { // the one that chooses another language
				break
			}
			method, action = of["method"], of["action"]
		case "input":
			if fields.Has(of["name"]) {
				break
			}
			switch of["type"] {
			case "password":
				fields.Set(of["name"], walt)
			case "checkbox": // left empty
			case "hidden":
				fields.Set(of["name"], of["value"])
			default:
				fields.Set(of["name"], "walt")
			}
		}
	}
	if a := p.do(strings.ToUpper(method), action, fields.Encode()); a.status != 303 || a.location != "/rota/" {
		t.Fatalf("%s %s with %v: %d %s", method, action, fields, a.status, a.location)
	}
	p.is("/rota/", 200, "")
}

func TestConsole(t *testing.T) {
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate(lamp.URL+"/door/console/"))
	look(ctx, t, "h1", "Sign in")
	do(ctx, t, keys("#username", "agnes"), keys("#password", agnes+"\r"))
	look(ctx, t, "h1", "Today")
	do(ctx, t, chromedp.Click(`//nav//a[.="Doors"]`))
	look(ctx, t, "h1", "Doors")
	look(ctx, t, "table", "/recordings/**")
	look(ctx, t, "table", "role: keeper")
	accessible(ctx, t, "doors")
	do(ctx, t, keys("input[type=search]", "office"))
	look(ctx, t, "main", "2 of 28 doors")
	do(ctx, t, chromedp.Clear("input[type=search]"), keys("input[type=search]", "zzz"))
	look(ctx, t, "main", "No door matches")
	do(ctx, t, chromedp.Navigate(lamp.URL+"/door/console/doors"))
	look(ctx, t, "h1", "Doors")
	do(ctx, t, chromedp.Click(`//button[contains(., "tree")]`))
	look(ctx, t, "main", "and everything below, line 45")
	accessible(ctx, t, "doors as a tree")

	do(ctx, t, chromedp.Click(`//nav//a[.="Try"]`))
	look(ctx, t, "h1", "Try")
	do(ctx, t, chromedp.Navigate(lamp.URL+"/door/console/try?url=/visit/%252e%252e/office/&as=role:volunteer"))
	look(ctx, t, "[data-testid=outcome]", "denied")
	accessible(ctx, t, "try")

	// The page says word for word what the command says.
	_, explained, _ := run(t, "", "explain", "GET", "/visit/%2e%2e/office/", "--as", "role:volunteer", "--data", lampDir)
	steps, err := chromedp.Run(ctx, chromedp.Evaluate[[]string](`[...document.querySelectorAll("ol li span:last-child")].map(e => `+
		`e.textContent)`))
	if err != nil || len(steps) < 5 {
		t.Fatalf("%v %v", steps, err)
	}
	for _, step := range steps {
		if !strings.Contains(explained, step) {
			t.Errorf("the command does not say %q:\n%s", step, explained)
		}
	}
	do(ctx, t, ColorScheme("dark"), chromedp.Reload())
	look(ctx, t, "[data-testid=outcome]", "denied")
	accessible(ctx, t, "try in the dark")
	do(ctx, t, chromedp.Navigate(lamp.URL+"/door/console/try?as=nonsense"))
	look(ctx, t, "[role=alert]", "not understood")

	// A volunteer sees no console.
	other := tab(t)
	do(other, t, SignIn(lamp.URL, "walt", walt), chromedp.Navigate(lamp.URL+"/door/console/"))
	look(other, t, "main", "the role steward")
}

func TestConsolePolicy(t *testing.T) {
	t.Parallel()
	data, err := os.MkdirTemp("", "policy")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(data)
	s, err := Start("demo", "--listen", "127.0.0.1:0", "--data", data)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	visitor := newPerson(t, s.URL)
	visitor.is("/rota/", 303, "/door/sign-in?next=%2Frota%2F")

	ctx := tab(t)
	do(ctx, t, SignIn(s.URL, "agnes", agnes), chromedp.Navigate(s.URL+"/door/console/policy"))
	look(ctx, t, "main", "Version 1 is active")
	look(ctx, t, "main", "No errors")
	accessible(ctx, t, "policy")
	// A mistake is found while it is typed, and cannot be applied.
	// at /rota/**
	do(ctx, t, chromedp.Focus(chromedp.CSS(".cm-content")), chromedp.KeyEvent(strings.Repeat(kb.ArrowDown, 34)+kb.End+" # mine"))
	look(ctx, t, "main", "No changes to the doors")
	do(ctx, t, Insert("\n  - nonsense: 5"))
	look(ctx, t, "main", "1 error")
	look(ctx, t, "main", "Shown once the draft has no errors")
	if disabled, err := chromedp.Run(ctx,
		chromedp.Evaluate[bool](`document.querySelector("form button[type=submit].bg-brass").disabled`)); err != nil || !disabled {
		t.Errorf("a faulty draft can be applied (%v)", err)
	}
	accessible(ctx, t, "policy with an error")
	// A draft survives that one leaves the page.
	do(ctx, t, keys(`//label[contains(., "Reason")]//input`, "half done"), chromedp.Navigate(s.URL+"/door/console/doors"),
		chromedp.WaitVisible("table"), chromedp.Navigate(s.URL+"/door/console/policy"))
	look(ctx, t, "main", "was saved in this browser")
	look(ctx, t, "main", "1 error")
	if comment, err := chromedp.Run(ctx,
		chromedp.Evaluate[string](`[...document.querySelectorAll("input")].map(i => i.value).join()`)); err != nil ||
		!strings.Contains(comment, "half done") {
		t.Errorf("the comment is %q (%v)", comment, err)
	}
	do(ctx, t, chromedp.Click(`//button[.="Undo all"]`))
	look(ctx, t, "main", "the draft is the same as the active policy")

	// Words are completed from the schema and the roles.
	do(ctx, t, chromedp.Focus(chromedp.CSS(".cm-content")),
		chromedp.KeyEvent(strings.Repeat(kb.ArrowUp, 60)+strings.Repeat(kb.ArrowDown, 34)+kb.End),
		Insert("\n  - { path: /press/today, admit: "), chromedp.KeyEvent("pub"))
	look(ctx, t, ".cm-tooltip-autocomplete", "public")
	// Where the list stands changes while one types; so the choice is made without aiming.
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`document.querySelector(".cm-tooltip-autocomplete `+
		`li[aria-selected]").dispatchEvent(new MouseEvent("mousedown", {bubbles: true, cancelable: true}))`)); err != nil {
		t.Fatal(err)
	}
	look(ctx, t, ".cm-activeLine", "admit: public")
	do(ctx, t, Insert(" }"))
	look(ctx, t, "main", "added")
	look(ctx, t, "main", "GET /press/today to anonymous")
	do(ctx, t, keys(`//label[contains(., "Reason")]//input`, "today is for everybody"), chromedp.Click(`//button[.="Apply"]`))
	look(ctx, t, "main", "Version 2 is active")
	visitor.is("/press/today", 404, "")
	look(ctx, t, "main", "today is for everybody")

	do(ctx, t, chromedp.Click(`//button[.="History"]`))
	look(ctx, t, ".cm-changedLine", "/press/today")
	accessible(ctx, t, "history")
	do(ctx, t, chromedp.Click(`//button[contains(., "Version 1")]`), chromedp.Click(`//button[.="Restore this version"]`))
	look(ctx, t, "[role=dialog]", "Restore version 1?")
	accessible(ctx, t, "asking before a rollback")
	do(ctx, t, chromedp.Click(`//button[.="Restore it"]`))
	look(ctx, t, "main", "Version 3 is active")
	visitor.is("/press/today", 303, "/door/unlock?next=%2Fpress%2Ftoday")

	// A faulty file is told on every page.
	write(t, data, "doors.yaml", "doors: [{path: /, admit: publik}]")
	look(ctx, t, "[role=alert]", "did you mean \"public\"?")

	// Nor is it written over unseen.
	if code, _, errOut := run(t, "", "rollback", "1", "--data", data); code != 1 || !strings.Contains(errOut, "has an edit") {
		t.Errorf("%d %s", code, errOut)
	}
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/policy"), chromedp.Click(`//button[.="History"]`),
		chromedp.Click(`//button[contains(., "Version 1")]`), chromedp.Click(`//button[.="Restore this version"]`),
		chromedp.Click(`//button[.="Restore it"]`))
	look(ctx, t, "[role=dialog]", "that isn't active")
	accessible(ctx, t, "an edit that would be lost")
	do(ctx, t, chromedp.Click(`//button[.="Overwrite the file"]`))
	look(ctx, t, "main", "Version 4 is active")

	// How a door lies to the others.
	write(t, data, "next.yaml", strings.Replace(demoPolicy(t, data), "doors:\n", "checks: { approve: { path: '/office/*/approve', "+
		"methods: [POST], admit: { role: trustee } } }\ndoors:\n  - { path: /**/*.map, admit: nobody }\n", 1))
	if code, _, errOut := run(t, "", "apply", filepath.Join(data, "next.yaml"), "--data", data); code != 0 {
		t.Fatal(errOut)
	}
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/doors"), chromedp.Click(`//button[contains(@aria-label, "/**/*.map")]`))
	look(ctx, t, "table", "Overlaps with where both cover a place, both must allow the request")
	look(ctx, t, "table", "both cover GET /visit/.map")
	accessible(ctx, t, "a door and its neighbours")

	// What a program asks beside the doors stands below them.
	look(ctx, t, "main", "Checks in the application")
	look(ctx, t, "main", "/office/*/approve")
}

func demoPolicy(t *testing.T, data string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(data, "doors.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}
