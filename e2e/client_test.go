package e2e

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// scripted is a site whose pages use the module, and the plain script.
func scripted(t *testing.T) *Process {
	t.Helper()
	dir := t.TempDir()
	const marked = `<nav><a href="/office/" data-door-may="/office/">Office</a> <a href="/rota/" data-door-may="/rota/">Rota</a> <b ` +
		`data-door-in>in</b> <i data-door-out>out</i></nav>`
	for name, text := range map[string]string{
		"index.html": `<!doctype html><html lang=en><title>t</title><h1>Home</h1>` + marked + `<script type=module>import * as door ` +
			`from "/door/client.js"; globalThis.door = door; globalThis.heard = []; door.watch(me => heard.push(me.name))</script>`,
		"plain.html":     `<!doctype html><html lang=en><title>t</title><script src="/door/client.js?plain"></script><h1>Plain</h1>` + marked,
		"rota/week.json": `{"week": 48}`, "rota/index.html": "<h1>Rota</h1>", "office/index.html": "<h1>Office</h1>",
		"vault/x.json": `{"x": 1}`, "press/kit.json": `{"kit": 2}`,
	} {
		write(t, dir, "site/"+name, text)
	}
	write(t, dir, "doors.yaml", `
site: Marram Point
roles: { keeper: , trustee: { includes: [keeper] } }
shared: { press-kit: }
sources: [ { path: /, files: ./site } ]
doors:
  - { path: [/, /plain.html], admit: public }
  - { path: /rota/**, admit: signed-in }
  - { path: /office/**, admit: { role: trustee }, otherwise: hide }
  - { path: /vault/**, admit: { role: keeper, proof-within: 1h } }
  - { path: /press/**, admit: { shared: press-kit } }
sessions: { lifetime: 1h }
origins: [ "http://localhost:8123" ]
`)
	s := start(t, dir)
	api := client.New(s.Data)
	for _, p := range []client.NewPerson{{Name: "ines", Password: "seven-brass-prisms", Roles: []string{"keeper"}},
		{Name: "tobias", Password: "quiet-harbour-ledger", Roles: []string{"trustee"}}} {
		if _, err := client.AddPerson.Ask(t.Context(), api, p); err != nil {
			t.Fatal(err)
		}
	}
	run(t, "copper-kettle-moss\n", "shared", "set", "press-kit", "--password-stdin", "--data", s.Data)
	return s
}

// said evaluates a script in a page and returns what comes of it, as JSON.
func said(ctx context.Context, t *testing.T, script string) string {
	t.Helper()
	limited, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	text, err := chromedp.Run(limited,
		chromedp.Evaluate[string](`(async () => JSON.stringify(await (async () => { `+script+
			` })()) ?? "nothing")().catch(e => "error " + (e.code ?? e))`, chromedp.EvalAwaitPromise))
	if err != nil {
		t.Fatalf("%s: %v", script, err)
	}
	return text
}

func TestClientScript(t *testing.T) {
	t.Parallel()
	s := scripted(t)
	ctx := tab(t)
	is := func(script, want string) {
		t.Helper()
		if got := said(ctx, t, script); got != want {
			t.Errorf("%s\nis   %s\nwant %s", script, got, want)
		}
	}
	do(ctx, t, chromedp.Navigate(s.URL+"/"))
	until(ctx, t, "!!globalThis.door")
	look(ctx, t, "nav", "out")
	is(`return document.querySelector("nav").innerText.trim()`, `"out"`)
	is(`return (await Promise.all([door.here(), door.here()])).map(m => m.signedIn)`, `[false,false]`)
	is(`return (await Promise.all([door.may("/rota/"), door.may("/office/"), door.may("/")])).map(p => p.outcome)`,
		`["challenge","missing","admit"]`)
	is(`return performance.getEntriesByType("resource").filter(r => r.name.endsWith("/door/me")).length`, `1`)
	is(`return [await door.lead("/"), await door.lead("/rota/?week=2"), await door.lead("/office/")]`,
		`[null,"/door/sign-in?next=%2Frota%2F%3Fweek%3D2",null]`)
	is(`return await door.signIn({ username: "ines", password: "wrong" })`, `error wrong`)
	is(`return (await door.signIn({ username: "ines", password: "seven-brass-prisms" })).name`, `"ines"`)
	is(`return [(await door.here()).roles, (await door.may(["/rota/", "/office/"])).map(p => p.outcome), await door.lead("/vault/"), `+
		`await door.lead("/office/x")]`, `[["keeper"],["admit","missing"],null,null]`)
	look(ctx, t, "nav", "in")
	is(`return document.querySelector("nav").innerText.trim().replace(/\s+/g, " ")`, `"Rota in"`)
	is(`return heard`, `["ines"]`)

	// A second tab knows, and what is stored in the browser is not believed.
	other := second(ctx, t)
	do(other, t, chromedp.Navigate(s.URL+"/plain.html"))
	look(other, t, "nav", "Rota in")
	if got := said(other, t, `localStorage.setItem("me", '{"signedIn":true,"roles":["trustee"]}'); document.cookie = `+
		`"ostiarius-roles=trustee"; await door.refresh(); return (await door.here()).roles`); got != `["keeper"]` {
		t.Error(got)
	}
	if got := said(other, t, `return await door.signOut()`); got != "{}" {
		t.Error(got)
	}
	look(ctx, t, "nav", "out")
	is(`return heard`, `["ines",""]`)
	is(`return (await door.knock("/", { method: "GET" })).status`, `200`)

	// A request that meets a door is asked for in a dialogue, and sent once more.
	script(ctx, t, `door.askBy(door.byDialogue); globalThis.got = door.knock("/rota/week.json").then(r => r.json())`)
	inDialogue(ctx, t, "Sign in", map[string]string{"username": "ines", "password": "seven-brass-prisms"})
	is(`return await got`, `{"week":48}`)
	is(`return document.querySelectorAll("dialog").length`, `0`)
	is(`return (await door.here()).name`, `"ines"`)
	script(ctx, t, `globalThis.got = door.knock("/press/kit.json").then(r => r.json())`)
	inDialogue(ctx, t, "press-kit", map[string]string{"password": "copper-kettle-moss"})
	is(`return await got`, `{"kit":2}`)
	is(`return (await door.here()).unlocked`, `["press-kit"]`)
	// Closing the dialogue gives the answer as it was.
	is(`await door.signOut(); const r = door.knock("/rota/week.json"); const look = setInterval(() => document.querySelector("dialog `+
		`button")?.click(), 20); try { return (await r).status } finally { clearInterval(look) }`, `401`)
	is(`return await door.unlock("press-kit", "wrong")`, `error wrong`)
}

// inDialogue waits for a page in a dialogue, fills in its form and sends it.
func inDialogue(ctx context.Context, t *testing.T, title string, fields map[string]string) {
	t.Helper()
	until(ctx, t, fmt.Sprintf(`(page => page?.readyState === "complete" && `+
		`!!page.querySelector("h1")?.innerText.includes(%q))(document.querySelector("dialog iframe")?.contentDocument)`, title))
	values, _ := json.Marshal(fields)
	script(ctx, t, `const page = document.querySelector("dialog iframe").contentDocument; for (const [name, value] of Object.entries(`+
		string(values)+`)) page.querySelector("input[name=" + name + "]:not([type=hidden])").value = value; `+
		`page.querySelector("input[name=password]").form.requestSubmit()`)
}

// until waits for something to be so in a page.
func until(ctx context.Context, t *testing.T, expression string) {
	t.Helper()
	limited, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	if _, err := chromedp.Run(limited, chromedp.Poll[bool](expression)); err != nil {
		t.Fatalf("%s: %v", expression, err)
	}
}

// second opens another tab of the same browser.
func second(ctx context.Context, t *testing.T) context.Context {
	t.Helper()
	other, end := chromedp.NewContext(ctx)
	t.Cleanup(end)
	if err := chromedp.Do(other); err != nil { // opens the tab, which lives as long as this context
		t.Fatal(err)
	}
	return other
}

// script runs a script in a page, without what comes of it.
func script(ctx context.Context, t *testing.T, text string) {
	t.Helper()
	do(ctx, t, chromedp.Evaluate[chromedp.Void](`void (() => { `+text+` })()`))
}

// Other origins are let ask if the policy names them, and no others.
func TestOrigins(t *testing.T) {
	t.Parallel()
	s := scripted(t)
	p := newPerson(t, s.URL)
	p.signIn("ines", "seven-brass-prisms", "")
	for origin, may := range map[string]bool{
		"http://localhost:8123": true, "https://localhost:8123": false, "http://localhost:8123.evil.example": false, "null": false,
		"http://LOCALHOST:8123": false, "": false,
	} {
		for _, ask := range [][3]string{{"GET", "/door/me"}, {"GET", "/door/may?path=/rota/"},
			{"POST", "/door/may", `{"places":[{"path":"/rota/"}]}`}, {"OPTIONS", "/door/may"}, {"OPTIONS", "/door/me"}} {
			a := p.do(ask[0], ask[1], ask[2], "Origin", origin, "Sec-Fetch-Site", "same-site", "Content-Type", "application/json")
			allowed := a.header.Get("Access-Control-Allow-Origin")
			if (allowed == origin && origin != "" && a.header.Get("Access-Control-Allow-Credentials") == "true") != may || !may &&
				allowed != "" || a.status >= 300 || !strings.Contains(strings.Join(a.header.Values("Vary"), ","), "Origin") {
				t.Errorf("%q, %s %s: %d %v", origin, ask[0], ask[1], a.status, a.header)
			}
		}
		// What changes something stays closed to them.
		if a := p.do("POST", "/door/sign-out", "{}", "Origin", "http://localhost:8123", "Sec-Fetch-Site", "same-site", "Content-Type",
			"application/json"); a.status != 403 || a.header.Get("Access-Control-Allow-Origin") != "" {
			t.Errorf("sign out: %d %v", a.status, a.header)
		}
	}
}

// The module is small, and its types are what examples expect of them.
func TestClientScriptIsSmallAndTyped(t *testing.T) {
	t.Parallel()
	s := scripted(t)
	p := newPerson(t, s.URL)
	for _, path := range []string{"/door/client.js", "/door/client.js?plain"} {
		var small bytes.Buffer
		zip, _ := gzip.NewWriterLevel(&small, gzip.BestCompression)
		a := p.get(path)
		zip.Write([]byte(a.body))
		zip.Close()
		if a.status != 200 || small.Len() > 6<<10 || !strings.HasPrefix(a.header.Get("Content-Type"), "text/javascript") {
			t.Errorf("%s: %d, %d bytes, %v", path, a.status, small.Len(), a.header)
		}
	}
	compiler := filepath.Join(Root(), "console", "node_modules", ".bin", "tsc")
	if _, err := os.Stat(compiler); err != nil {
		t.Fatal(err) // the console is built by it
	}
	dir := t.TempDir()
	write(t, dir, "client.d.ts", p.get("/door/client.d.ts").body)
	write(t, dir, "good.ts", `import { here, may, lead, knock, signIn, watch, DoorError, askBy, byDialogue } from "./client";
const end: () => void = watch((me) => me.roles.includes("keeper"));
async function all(): Promise<string | null> {
  const places = await may(["/a", "/b"], { method: "POST" });
  const one: "admit" | "challenge" | "refuse" | "reject" | "missing" = (await may("/a")).outcome;
  askBy(byDialogue);
  try { await signIn({ username: "a", password: "b" }); } catch (e) { if (e instanceof DoorError && e.wait) throw e; }
  return (await knock("/x")).ok ? lead(places[0]!.go ?? one) : (await here()).name;
}
`)
	write(t, dir, "bad.ts", `import { may, signIn } from "./client"; may(3); signIn({ username: "a" });`)
	for file, errors := range map[string]int{"good.ts": 0, "bad.ts": 2} {
		out, _ := exec.Command(compiler, "--noEmit", "--strict", "--target", "es2022", "--module", "esnext", "--moduleResolution",
			"bundler", "--lib", "es2022,dom", filepath.Join(dir, file)).CombinedOutput()
		if n := strings.Count(string(out), "error TS"); n != errors {
			t.Errorf("%s: %d errors\n%s", file, n, out)
		}
	}
	var me client.Me
	if err := json.Unmarshal([]byte(p.get("/door/me").body), &me); err != nil {
		t.Error(err)
	}
	for _, name := range []string{"here", "may", "lead", "knock", "signIn", "signOut", "join", "recover", "proveAgain", "unlock",
		"watch", "refresh", "askBy", "byPage", "byDialogue", "DoorError"} {
		if types := p.get("/door/client.d.ts").body; !strings.Contains(types, fmt.Sprintf(" %s", name)) {
			t.Errorf("%s has no type", name)
		}
	}
}
