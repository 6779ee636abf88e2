package e2e

import (
	"context"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// shortLived is a site whose sessions end after some seconds, and where anybody can join.
func shortLived(t *testing.T, sessions string) *Process {
	t.Helper()
	dir := t.TempDir()
	const page = `<!doctype html><html lang=en><title>t</title><h1>Home</h1><script type=module>import * as door from ` +
		`"/door/client.js"; globalThis.heard = []; door.watch(me => heard.push(me.name)); globalThis.door = door</script>`
	for name, text := range map[string]string{"site/index.html": page, "site/rota/week.json": `{"week": 48}`} {
		write(t, dir, name, text)
	}
	write(t, dir, "doors.yaml", `
site: Marram Point
sources: [ { path: /, files: ./site } ]
joining: { by: anybody, address: unproven }
doors:
  - { path: /, admit: public }
  - { path: /rota/**, admit: signed-in }
sessions: `+sessions+"\n")
	s := start(t, dir)
	if _, err := client.AddPerson.Ask(t.Context(), client.New(s.Data),
		client.NewPerson{Name: "ines", Password: "seven-brass-prisms"}); err != nil {
		t.Fatal(err)
	}
	return s
}

func is(ctx context.Context, t *testing.T, script, want string) {
	t.Helper()
	if got := said(ctx, t, script); got != want {
		t.Errorf("%s\nis   %s\nwant %s", script, got, want)
	}
}

// A session's end is heard of without a request, by the service's clock and not by that of the browser, which may be hours off.
func TestSessionsEndByTheClock(t *testing.T) {
	t.Parallel()
	s := shortLived(t, "{ lifetime: 8s }")
	for _, hours := range []string{"0", "5", "-5"} {
		t.Run(hours, func(t *testing.T) {
			t.Parallel()
			ctx := tab(t)
			onEachPage(ctx, t, `const now = Date.now.bind(Date), moved = `+hours+` * 3600e3; Date.now = () => now() + moved`)
			do(ctx, t, chromedp.Navigate(s.URL+"/"))
			until(ctx, t, "!!globalThis.door")
			is(ctx, t, `return (await door.signIn({ username: "ines", password: "seven-brass-prisms" })).name`, `"ines"`)
			is(ctx, t, `return heard`, `["ines"]`)
			until(ctx, t, `heard.length === 2`)
			is(ctx, t, `return [heard, (await door.here()).signedIn]`, `[["ines",""],false]`)
			is(ctx, t, `return (await door.may("/rota/week.json")).outcome`, `"challenge"`)
		})
	}
}

// A browser whose timers run early asks the service, and throws nobody out.
func TestTimersThatRunEarly(t *testing.T) {
	t.Parallel()
	s := shortLived(t, "{ lifetime: 1h, idle: 30m }")
	ctx := tab(t)
	onEachPage(ctx, t, `const wait = setTimeout; globalThis.early = 0; globalThis.setTimeout = (f, ms, ...more) => wait(() => { if (ms `+
		`> 60000) early++; f(...more) }, early < 3 && ms > 60000 ? 10 : ms)`)
	do(ctx, t, chromedp.Navigate(s.URL+"/"))
	until(ctx, t, "!!globalThis.door")
	is(ctx, t, `return (await door.signIn({ username: "ines", password: "seven-brass-prisms" })).name`, `"ines"`)
	until(ctx, t, `early >= 3`)
	is(ctx, t, `return [heard, (await door.here()).signedIn]`, `[["ines"],true]`)
}

// Without a network nobody is thrown out, nothing is believed to be open, and what is asked afterwards is answered.
func TestOffline(t *testing.T) {
	t.Parallel()
	s := shortLived(t, "{ lifetime: 1h }")
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate(s.URL+"/"))
	until(ctx, t, "!!globalThis.door")
	is(ctx, t, `return (await door.signIn({ username: "ines", password: "seven-brass-prisms" })).name`, `"ines"`)
	offline := func(yes bool) {
		t.Helper()
		do(ctx, t, chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
			_, err := cdp.Call(ctx, target, cdp.Command[map[string]any, cdp.Empty]{Method: "Network.emulateNetworkConditions"},
				map[string]any{"offline": yes, "latency": 0, "downloadThroughput": -1, "uploadThroughput": -1})
			return err
		}))
		// The network of a browser is a process of its own, and hears of it a little later.
		eventually(t, func() bool {
			return valueOf(ctx, t, `String(await fetch("/", { cache: "no-store" }).then(() => false, () => true))`) == strconv.FormatBool(yes)
		})
	}
	offline(true)
	is(ctx, t, `return (await door.here()).name`, `"ines"`)
	for _, ask := range []string{`door.may("/rota/week.json")`, `door.lead("/rota/")`, `door.refresh()`, `door.signOut()`,
		`door.unlock("press-kit", "x")`} {
		is(ctx, t, "return await "+ask, `error offline`)
	}
	is(ctx, t, `return await door.knock("/rota/week.json").catch(e => e.name)`, `"TypeError"`)
	is(ctx, t, `return heard`, `["ines"]`)
	offline(false)
	is(ctx, t, `return [(await door.may("/rota/week.json")).outcome, (await door.here()).name, (await (await `+
		`door.knock("/rota/week.json")).json()).week]`, `["admit","ines",48]`)
	is(ctx, t, `return heard`, `["ines"]`)
}

// What a page writes into the browser opens nothing: neither cookies of ours with other values, nor a second one of the same name.
func TestForgedCookies(t *testing.T) {
	t.Parallel()
	s := shortLived(t, "{ lifetime: 1h }")
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate(s.URL+"/"))
	until(ctx, t, "!!globalThis.door")
	look := `await door.refresh(); return [(await door.here()).name, (await door.may("/rota/week.json")).outcome, (await ` +
		`fetch("/rota/week.json")).status]`
	const stranger, ines = `["","challenge",401]`, `["ines","admit",200]`
	for _, name := range []string{"session", "device", "unlock-press-kit", "pass-1"} {
		for _, value := range []string{"ines", strings.Repeat("A", 43), "0", "", "eyJhbGciOiJub25lIn0.eyJzdWIiOiJpbmVzIn0."} {
			is(ctx, t, `document.cookie = "ostiarius-`+name+`=`+value+`; path=/"; `+look, stranger)
		}
		script(ctx, t, `document.cookie = "ostiarius-`+name+`=; path=/; max-age=0"`)
	}
	is(ctx, t, `await door.signIn({ username: "ines", password: "seven-brass-prisms" }); `+look, ines)
	is(ctx, t, `return document.cookie`, `""`)
	// A cookie of the same name for a longer path comes first; of two, none is believed.
	is(ctx, t, `document.cookie = "ostiarius-session=forged; path=/rota"; document.cookie = "ostiarius-session=forged; path=/door"; `+
		look, stranger)
	is(ctx, t, `for (const p of ["/rota", "/door"]) document.cookie = "ostiarius-session=; max-age=0; path=" + p; `+look, ines)
	is(ctx, t, `localStorage.setItem("door", '{"signedIn":true}'); sessionStorage.setItem("door", "ines"); await door.signOut(); `+
		look, stranger)
}

// Who signs out in one tab while another has a request under way: that is asked for anew, and nobody else sends it.
func TestSignedOutMeanwhile(t *testing.T) {
	t.Parallel()
	s := shortLived(t, "{ lifetime: 1h }")
	ctx := tab(t)
	onEachPage(ctx, t, `const real = fetch; globalThis.fetch = async (...asked) => { if (asked[0].url?.endsWith("week.json")) await `+
		`globalThis.held; return real(...asked) }`)
	do(ctx, t, chromedp.Navigate(s.URL+"/"))
	until(ctx, t, "!!globalThis.door")
	is(ctx, t, `return (await door.signIn({ username: "ines", password: "seven-brass-prisms" })).name`, `"ines"`)
	script(ctx, t, `door.askBy(door.byDialogue); globalThis.held = new Promise(go => globalThis.go = go); globalThis.got = `+
		`door.knock("/rota/week.json").then(r => r.json())`)
	other := second(ctx, t)
	do(other, t, chromedp.Navigate(s.URL+"/"))
	until(other, t, "!!globalThis.door")
	is(other, t, `return await door.signOut()`, `{}`)
	until(ctx, t, `heard.length === 2`)
	script(ctx, t, `go()`)
	inDialogue(ctx, t, "Sign in", map[string]string{"username": "ines", "password": "seven-brass-prisms"})
	is(ctx, t, `return await got`, `{"week":48}`)
}

// The pages work in a small window, and in a frame, also for who joins there; a page of another origin hears nothing.
func TestJoiningInADialogue(t *testing.T) {
	t.Parallel()
	s := shortLived(t, "{ lifetime: 1h }")
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate(s.URL+"/"))
	until(ctx, t, "!!globalThis.door")
	script(ctx, t, `door.askBy(door.byDialogue); globalThis.got = door.knock("/rota/week.json").then(r => r.json())`)
	until(ctx, t, `!!document.querySelector("dialog iframe")?.contentDocument?.querySelector("a[href*='/door/join']")`)
	script(ctx, t, `document.querySelector("dialog iframe").contentDocument.querySelector("a[href*='/door/join']").click()`)
	// What is sent sooner than a person types is refused, and can be sent again.
	until(ctx, t, `!!document.querySelector("dialog iframe").contentDocument?.querySelector("input[name=mark]")`)
	script(ctx, t, `
		const form = () => document.querySelector("dialog iframe")?.contentDocument?.querySelector("form:has(input[name=mark])");
		const mark = form().elements.mark.value;
		globalThis.patient = setInterval(() => {
			if (!form() || form().sent) return;
			for (const [name, value] of Object.entries({ mark, username: "sunniva", email: "sunniva@marram.example", password:
			  "fog-bell-at-night-32", again: "fog-bell-at-night-32" })) form().elements[name].value = value;
			form().sent = true;
			form().requestSubmit();
		}, 100)`)
	until(ctx, t, `!document.querySelector("dialog")`)
	script(ctx, t, `clearInterval(patient)`)
	is(ctx, t, `return await got`, `{"week":48}`)
	is(ctx, t, `return (await door.here()).name`, `"sunniva"`)

	// In a window of its own, which closes itself.
	is(ctx, t, `return await door.signOut()`, `{}`)
	script(ctx, t, `
		globalThis.told = []; addEventListener("message", e => told.push(e.origin === location.origin && e.data));
		const open = document.createElement("button"); open.id = "open"; open.textContent = "Sign in"; document.body.append(open);
		open.onclick = () => globalThis.small = window.open("/door/sign-in?next=/door/done", "door", "popup,width=420,height=560")`)
	do(ctx, t, chromedp.Click("#open"))
	until(ctx, t, `!!small.document.querySelector("input[name=password]")`)
	script(ctx, t, `const page = small.document; page.querySelector("input[name=username]").value = "ines"; `+
		`page.querySelector("input[name=password]").value = "seven-brass-prisms"; `+
		`page.querySelector("input[name=password]").form.requestSubmit()`)
	until(ctx, t, `told.length > 0 && small.closed`)
	is(ctx, t, `return [told, (await door.refresh()).name]`, `[["door: done"],"ines"]`)
}
