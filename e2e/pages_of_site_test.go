package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
	"ostiarius/service/face/pages"
)

// A script of the site, viewed by a steward who has just signed in, sends each of our forms, and changes nothing by it.
func TestScriptsOfTheSiteSendNoForms(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "<title>t</title><main>the lighthouse</main>")
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\nelsewhere: {harbour: {title: Harbour, issuer: "+
		"\"https://id.example\", client: x}}\ndoors: [{path: /**, admit: public}]\n")
	s := start(t, dir)
	api := client.New(s.Data)
	if _, err := client.AddPerson.Ask(t.Context(), api,
		client.NewPerson{Name: "agnes", Password: agnes, Roles: []string{"steward"}}); err != nil {
		t.Fatal(err)
	}
	ctx := tab(t)
	do(ctx, t, SignIn(s.URL, "agnes", agnes), chromedp.Navigate(s.URL+"/"))
	look(ctx, t, "main", "the lighthouse")
	var paths []string
	for _, c := range pages.Changes() {
		if c.By == pages.ByMark || c.By == pages.ByPassword {
			paths = append(paths, "/door"+strings.Replace(c.Path, "{name}", "harbour", 1))
		}
	}
	listed, err := json.Marshal(paths)
	if err != nil || len(paths) < 15 {
		t.Fatal(paths, err)
	}
	said, err := chromedp.Run(ctx, chromedp.Evaluate[string](fmt.Sprintf(`(async () => {
		const faults = [];
		// What a script can read of our pages: fetched, in a frame, in a window of its own.
		const marks = [""];
		const find = (text) => {
			const found = /name="mark" value="([^"]*)"/.exec(text ?? "");
			if (found) { marks.push(found[1]); faults.push("a mark was read"); }
		};
		for (const page of ["/door/account", "/door/account/factors", "/door/account/access-keys", "/door/account/code"]) {
			find(await (await fetch(page)).text());
			const frame = document.createElement("iframe");
			frame.src = page;
			await new Promise((done) => { frame.onload = done; document.body.append(frame); });
			try { find(frame.contentDocument?.documentElement.outerHTML); } catch {}
			const opened = window.open(page);
			await new Promise((done) => setTimeout(done, 500));
			try { find(opened?.document.documentElement.outerHTML); } catch {}
		}
		for (const path of %s) {
			for (const mark of marks) {
				const body = new URLSearchParams({ mark, name: "x", role: "steward", days: "90", to: "link", email: "m@evil.example", new:
				  "kettle-moth-anvil", again: "kettle-moth-anvil", end: "others", provider: "harbour" });
				const answer = await fetch(path, { method: "POST", body });
				const text = await answer.text();
				const refused = answer.status >= 400 || answer.url.includes("/door/prove-again?unsent");
				if (!refused || text.includes("ostiarius_key_")) faults.push(path + ": " + answer.status + " " + answer.url);
			}
		}
		return faults.join("\n");
	})()`, listed), chromedp.EvalAwaitPromise))
	if err != nil || said != "" {
		t.Errorf("%s %v", said, err)
	}
	a, err := client.ShowPerson.Ask(t.Context(), api, client.ByName{Name: "agnes"})
	if err != nil || a.Email != "" {
		t.Errorf("%+v %v", a, err)
	}
	if keys, err := client.ListAccessKeys.Ask(t.Context(), api,
		client.AccessKeysQuery{Account: "agnes", Offset: 0, Limit: 10}); err != nil || keys.Total != 0 {
		t.Errorf("%+v %v", keys, err)
	}
	// The person in front of the browser does, on the page itself.
	do(ctx, t, chromedp.Navigate(s.URL+"/door/account/access-keys"), keys("#name", "weather station"),
		chromedp.Click(`//form[.//input[@id="days"]]//button`))
	look(ctx, t, "[role=status]", "ostiarius_key_")
}
