// Command shots takes the pictures of the README from the demo: shots DIRECTORY [NAME...].
package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"ostiarius/e2e"
)

type step = chromedp.Action[chromedp.Void]

func main() {
	if err := take(os.Args[1], os.Args[2:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

var agnes, walt, tobias = [2]string{"agnes", "amber-lantern-shelf"}, [2]string{"walt", "paint-and-lentil-soup"}, [2]string{"tobias",
	"quiet-harbour-ledger"}

func take(directory string, only []string) error {
	ctx := context.Background()
	data, err := os.MkdirTemp("", "shots")
	if err != nil {
		return err
	}
	defer os.RemoveAll(data)
	service, err := e2e.Start("demo", "--listen", "127.0.0.1:0", "--data", data)
	if err != nil {
		return err
	}
	defer service.Stop()
	// A second version, for the history.
	if err := anotherVersion(data); err != nil {
		return err
	}
	for _, name := range []string{"walt", "tobias", "sunniva"} { // for the messages
		if _, err := http.PostForm(service.URL+"/door/recover", url.Values{"username": {name}}); err != nil {
			return err
		}
	}
	page, err := exec.Command(e2e.Binary(), "matrix", "--data", data, "-o", "html").Output()
	if err != nil {
		return fmt.Errorf("matrix: %w", err)
	}
	if err := os.WriteFile(filepath.Join(data, "matrix.html"), page, 0o600); err != nil {
		return err
	}
	browser, end, err := e2e.Browser(ctx)
	if err != nil {
		return err
	}
	defer end()

	type picture struct {
		name, path string
		who        [2]string
		named      bool // asked for by a name, and not by an address
		dark       bool
		do         []step
	}
	named := strings.Replace(service.URL, "127.0.0.1", "localhost", 1) // a passkey belongs to a name
	pictures := []picture{
		{name: "sign-in", path: "/rota/"},
		{name: "turned-away", path: "/friends/", who: walt},
		{name: "factors", path: "/door/account/factors?wanted&next=/office/", who: tobias, named: true},
		{name: "console-today", path: "/door/console/", who: agnes, do: []step{chromedp.WaitVisible(`//h2[contains(., "Latest denials")]`)}},
		{name: "console-site", path: "/door/console/site?place=/board", who: agnes, do: []step{
			chromedp.WaitVisible("[role=tree]"), chromedp.Click("[data-about=who]"),
			chromedp.Click(`//label[contains(., "people with a role")]//input`), chromedp.Click(`//label[contains(., "trustee")]//input`),
			chromedp.WaitVisible(`//button[.="Require a shared password for /board/"]`),
		}},
		{name: "console-people", path: "/door/console/people?person=ines", who: agnes, do: []step{chromedp.WaitVisible(`//h3[.="Sessions"]`)}},
		{name: "console-patrol", path: "/door/console/patrol", who: agnes, do: []step{
			chromedp.Click(`//button[.="Start patrol"]`), chromedp.WaitVisible(`//summary[contains(., "Left out")]`),
			chromedp.Click(`//summary[contains(., "Left out")]`),
		}},
		{name: "walk", path: "/door/console/try?url=/log/&as=role:keeper", who: agnes, do: []step{
			chromedp.Click(`//button[.="Preview as role:keeper"]`), chromedp.WaitVisible(`//span[contains(., "The preview opened")]`),
			chromedp.Navigate(service.URL + "/door/walk?next=/rota/"),
			chromedp.Click("summary"), chromedp.WaitVisible("#steps li"), chromedp.Sleep(time.Second),
		}},
		{name: "console-passes", path: "/door/console/passes", who: agnes,
			do: []step{chromedp.Click(`//button[.="Dora Quill"]`), chromedp.WaitVisible(`//h3[.="History"]`)}},
		{name: "console-activity", path: "/door/console/activity", who: agnes, dark: true, do: []step{chromedp.WaitVisible("table")}},
		{name: "console-members", path: "/door/console/members", who: agnes,
			do: []step{chromedp.WaitVisible(`//a[contains(., "order")]`), chromedp.WaitVisible("svg path")}},
		{name: "console-policy", path: "/door/console/policy", who: agnes, do: []step{
			chromedp.WaitVisible(chromedp.CSS(".cm-content")), chromedp.Focus(chromedp.CSS(".cm-content")),
			chromedp.KeyEvent(strings.Repeat(kb.ArrowDown, 34) + kb.End),
			e2e.Insert("\n  - { path: /office/minutes/**, admit: { role: volunter } }"),
			chromedp.WaitVisible(`//p[contains(., "1 error")]`),
		}},
		{name: "console-matrix", path: "/door/console/matrix?as=role:trustee,proof-age:20m", who: agnes,
			do: []step{chromedp.WaitVisible(`//button[@aria-label="Below /board/**"]`)}},
		{name: "console-looks", path: "/door/console/looks", who: agnes, do: []step{chromedp.WaitVisible("iframe"), chromedp.Sleep(time.Second)}},
		{name: "console-messages", path: "/door/console/messages", who: agnes, do: []step{chromedp.WaitVisible(`//td[contains(., "sent")]`)}},
		{name: "console-try", path: "/door/console/try?url=/visit/%252e%252e/office/&as=role:volunteer", who: agnes,
			do: []step{chromedp.WaitVisible(`[data-testid=outcome]`)}},
	}
	for _, p := range pictures {
		if len(only) > 0 && !slices.Contains(only, p.name) {
			continue
		}
		tab, closeTab := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
		scheme := "light"
		if p.dark {
			scheme = "dark"
		}
		actions := []step{
			chromedp.EmulateViewport(1280, 800),
			e2e.ColorScheme(scheme),
		}
		site := service.URL
		if p.named {
			site = named
		}
		if p.who[0] != "" {
			actions = append(actions, e2e.SignIn(site, p.who[0], p.who[1]))
		}
		address := site + p.path
		if !strings.HasPrefix(p.path, "/") {
			address = "file://" + filepath.Join(data, p.path)
		}
		actions = append(actions, chromedp.Navigate(address))
		actions = append(actions, p.do...)
		actions = append(actions, chromedp.Sleep(400*time.Millisecond)) // fonts, transitions
		if err := chromedp.Do(tab); err != nil {                        // opens the tab, which lives as long as this context
			return err
		}
		limited, cancel := context.WithTimeout(tab, 15*time.Second)
		if err := chromedp.Do(limited, actions...); err != nil {
			fmt.Fprintf(os.Stderr, "%s: %v\n", p.name, err) // the picture shows how far it came
		}
		cancel()
		png, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
		if err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		closeTab()
		if err := os.WriteFile(filepath.Join(directory, p.name+".png"), png, 0o644); err != nil {
			return err
		}
		fmt.Println(p.name)
	}
	return nil
}

// anotherVersion applies a policy to the demo that differs a little from the first.
func anotherVersion(data string) error {
	text, err := os.ReadFile(filepath.Join(data, "doors.yaml"))
	if err != nil {
		return err
	}
	const press = "  - { path: /press/**"
	changed := strings.Replace(string(text), press, "  - { path: /log/today, admit: { role: volunteer } }\n\n  - { path: /**/*.map, "+
		"admit: nobody }\n\n  - { path: \"/*/today\", admit: signed-in }\n\n"+press, 1)
	file := filepath.Join(data, "next.yaml")
	if err := os.WriteFile(file, []byte(changed), 0o600); err != nil {
		return err
	}
	out, err := exec.Command(e2e.Binary(), "apply", file, "-m", "volunteers may read the log of today", "--data", data).CombinedOutput()
	if err != nil {
		return fmt.Errorf("apply: %w: %s", err, out)
	}
	return nil
}
