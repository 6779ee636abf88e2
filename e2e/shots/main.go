// Command shots takes the pictures of the README from the demo: shots DIRECTORY [NAME...].
package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/chromedp/chromedp"

	"ostiarius/e2e"
)

type step = chromedp.Action[chromedp.Void]

func main() {
	if err := take(os.Args[1], os.Args[2:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

var agnes, walt = [2]string{"agnes", "amber-lantern-shelf"}, [2]string{"walt", "paint-and-lentil-soup"}

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
	browser, end, err := e2e.Browser(ctx)
	if err != nil {
		return err
	}
	defer end()

	type picture struct {
		name, path string
		who        [2]string
		dark       bool
		do         []step
	}
	pictures := []picture{
		{name: "demo-site", path: "/"},
		{name: "sign-in", path: "/rota/"},
		{name: "turned-away", path: "/office/", who: walt},
		{name: "console-doors", path: "/door/console/", who: agnes, do: []step{chromedp.WaitVisible("table")}},
		{name: "console-doors-tree", path: "/door/console/", who: agnes, do: []step{
			chromedp.WaitVisible("table"), chromedp.Click(`//button[contains(., "tree")]`), chromedp.WaitVisible(`//code[.="/office"]`),
		}},
		{name: "console-try", path: "/door/console/try?url=/visit/%252e%252e/office/&as=role:volunteer", who: agnes, do: []step{chromedp.WaitVisible(`[data-testid=outcome]`)}},
		{name: "console-try-dark", path: "/door/console/try?url=/log/&as=anonymous", who: agnes, dark: true, do: []step{chromedp.WaitVisible(`[data-testid=outcome]`)}},
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
		if p.who[0] != "" {
			actions = append(actions, e2e.SignIn(service.URL, p.who[0], p.who[1]))
		}
		actions = append(actions, chromedp.Navigate(service.URL+p.path))
		actions = append(actions, p.do...)
		actions = append(actions, chromedp.Sleep(400*time.Millisecond)) // fonts, transitions
		if err := chromedp.Do(tab, actions...); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
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
