package e2e

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// takeover is a service worker that answers for every page it may answer for.
const takeover = `
self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (e) => e.waitUntil(clients.claim()));
self.addEventListener("fetch", (e) => {
	if (e.request.mode === "navigate") e.respondWith(new Response("<title>t</title><main>the application's page</main>", { headers: {
	  "Content-Type": "text/html" } }));
});`

// register registers a service worker as a page would, and says how that went and when it was active.
func register(ctx context.Context, t *testing.T, script, scope string) string {
	t.Helper()
	said, err := chromedp.Run(ctx, chromedp.Evaluate[string](fmt.Sprintf(`(async () => {
		try {
			const r = await navigator.serviceWorker.register(%q, { scope: %q });
			const w = r.installing ?? r.waiting ?? r.active;
			if (!w) return "no worker";
			if (w.state !== "activated" && w.state !== "redundant") await new Promise((done) => w.addEventListener("statechange", () =>
			  (w.state === "activated" || w.state === "redundant") && done()));
			return w.state;
		} catch (e) { return String(e.name); }
	})()`, script, scope), chromedp.EvalAwaitPromise))
	if err != nil {
		t.Fatal(err)
	}
	return said
}

// workers returns how many service workers the browser has for a page.
func workers(ctx context.Context, t *testing.T) int {
	t.Helper()
	n, err := chromedp.Run(ctx,
		chromedp.Evaluate[int](`navigator.serviceWorker.getRegistrations().then((all) => all.length)`, chromedp.EvalAwaitPromise))
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// An application, or a file of the site, gets no service worker that could answer for the sign-in
// page; one that a browser has from earlier times ends.
func TestServiceWorkersDoNotAnswerForOwnPages(t *testing.T) {
	t.Parallel()
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, ".js") {
			w.Header().Set("Content-Type", "text/javascript")
			if r.URL.Path == "/app/wide.js" {
				w.Header().Set("Service-Worker-Allowed", "/")
			}
			io.WriteString(w, takeover)
			return
		}
		w.Header().Set("Content-Type", "text/html")
		io.WriteString(w, "<title>t</title><main>the real application</main>")
	}))
	defer app.Close()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "<title>t</title><main>the lighthouse</main>")
	write(t, dir, "site/worker.js", takeover)
	policy := func(allowed bool) string {
		return fmt.Sprintf("sources: [{path: /, files: ./site, service-worker: %v}, {path: /app, proxy: %q, service-worker: %v}]\ndoors: "+
			"[{path: /**, admit: public}]\n", allowed, app.URL, allowed)
	}
	write(t, dir, "doors.yaml", policy(true))
	s := start(t, dir)
	for _, earlier := range []bool{true, false} {
		for _, script := range []string{"/app/wide.js", "/worker.js"} {
			write(t, dir, "draft.yaml", policy(earlier))
			if code, _, errOut := run(t, "", "apply", filepath.Join(dir, "draft.yaml"), "--over-edit", "--data", s.Data); code != 0 {
				t.Fatal(errOut)
			}
			ctx := tab(t)
			do(ctx, t, chromedp.Navigate(s.URL+"/app/"))
			look(ctx, t, "main", "the real application")
			if state := register(ctx, t, script, "/"); earlier && state != "activated" {
				t.Fatalf("%s where it is allowed: %s", script, state)
			}
			if earlier {
				do(ctx, t, chromedp.Navigate(s.URL+"/door/sign-in"))
				look(ctx, t, "main", "the application's page") // what this is about
				write(t, dir, "draft.yaml", policy(false))
				if code, _, errOut := run(t, "", "apply", filepath.Join(dir, "draft.yaml"), "--over-edit", "--data", s.Data); code != 0 {
					t.Fatal(errOut)
				}
				// It is found out at a visit, and is gone for the next.
				do(ctx, t, chromedp.Navigate(s.URL+"/door/sign-in"))
				eventually(t, func() bool { return workers(ctx, t) == 0 })
			}
			do(ctx, t, chromedp.Navigate(s.URL+"/door/sign-in"), chromedp.WaitVisible("#password"))
			eventually(t, func() bool { return workers(ctx, t) == 0 })
		}
	}
	// Who is turned away is told the same: a worker must end also when its owner has signed out.
	write(t, dir, "draft.yaml", strings.Replace(policy(false), "doors: [", "doors: [{path: /closed/**, admit: nobody}, {path: /asks.js, "+
		"admit: signed-in}, ", 1))
	if code, _, errOut := run(t, "", "apply", filepath.Join(dir, "draft.yaml"), "--data", s.Data); code != 0 {
		t.Fatal(errOut)
	}
	for path, ends := range map[string]bool{
		"/asks.js": true, "/nothing.js": true, "/closed/x.js": false, "/app/narrow.js": false, "/door/me": false,
	} {
		if a := newPerson(t, s.URL).get(path, "Service-Worker", "script"); strings.Contains(a.body, "unregister") != ends {
			t.Errorf("%s: %d %s", path, a.status, a.body)
		}
	}
	// One for the application's own pages is its own affair.
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate(s.URL+"/app/"))
	if state := register(ctx, t, "/app/narrow.js", "/app/"); state != "activated" {
		t.Errorf("a worker of its own pages: %s", state)
	}
	if state := register(ctx, t, "/app/narrow.js", "/"); state != "SecurityError" {
		t.Errorf("a scope that the script does not give: %s", state)
	}
	do(ctx, t, chromedp.Navigate(s.URL+"/app/x"))
	look(ctx, t, "main", "the application's page")
	do(ctx, t, chromedp.Navigate(s.URL+"/door/sign-in"), chromedp.WaitVisible("#password"))

	asked := newPerson(t, s.URL)
	if a := asked.get("/worker.js"); !strings.Contains(a.body, "the application's page") {
		t.Errorf("a script that is asked for as any other: %s", a.body)
	}
	if a := asked.get("/worker.js", "Service-Worker", "script"); !strings.Contains(a.body, "unregister") ||
		a.header.Get("Service-Worker-Allowed") != "/" {
		t.Errorf("as a worker: %s %v", a.body, a.header)
	}
	if a := asked.get("/app/wide.js"); a.header.Get("Service-Worker-Allowed") != "" {
		t.Errorf("a wide scope is handed on: %v", a.header)
	}
}

// A page of the site, open while a steward has just signed in and has the console open, changes
// nothing: it has the cookie, but not what only the console's page has.
func TestPagesOfTheSiteDoNotAdminister(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "<title>t</title><main>the lighthouse</main>")
	write(t, dir, "site/uploads/photo.html", "<title>t</title><main>a photo</main>")
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\ndoors: [{path: /**, admit: public}]\n")
	s := start(t, dir)
	api := client.New(s.Data)
	if _, err := client.AddPerson.Ask(t.Context(), api,
		client.NewPerson{Name: "agnes", Password: agnes, Roles: []string{"steward"}}); err != nil {
		t.Fatal(err)
	}
	ctx := tab(t)
	do(ctx, t, SignIn(s.URL, "agnes", agnes), chromedp.Navigate(s.URL+"/door/console/people"))
	look(ctx, t, "main", "agnes")
	// The console itself does, without asking again.
	do(ctx, t, chromedp.Click(`//button[.="Add an account"]`), chromedp.WaitVisible(`[role=dialog] input`),
		keys(`//label[contains(., "Name")]/input`, "ines"), chromedp.Click(`//button[.="Add"]`))
	look(ctx, t, "[data-testid=secret]", "/door/recover?link=")

	do(ctx, t, chromedp.Navigate(s.URL+"/uploads/photo.html"))
	said, err := chromedp.Run(ctx, chromedp.Evaluate[string](`(async () => {
		const page = await (await fetch("/door/console/people")).text();
		const mark = /name="proof" content="([^"]*)"/.exec(page)?.[1] ?? "";
		const tries = [];
		for (const proof of ["", mark]) {
			const answer = await fetch("/door/api/v1/people", {
				method: "POST",
				headers: { "Content-Type": "application/json", "X-Requested-With": "console", "Ostiarius-Proof": proof },
				body: JSON.stringify({ name: "mallory", password: "kettle-moth-anvil", roles: ["steward"] }),
			});
			tries.push(answer.status + " " + (await answer.json()).code);
		}
		const disabled = await fetch("/door/api/v1/people/ines/disabled", { method: "PUT", headers: { "Content-Type": "application/json",
		  "X-Requested-With": "console" }, body: "true" });
		const frame = document.createElement("iframe");
		frame.src = "/door/console/";
		await new Promise((done) => { frame.onload = done; document.body.append(frame); });
		let inside = "";
		try { inside = frame.contentDocument?.querySelector('meta[name="proof"]') ? "a mark" : ""; } catch {}
		return [mark, ...tries, disabled.status, inside].join(", ");
	})()`, chromedp.EvalAwaitPromise))
	if want := ", 403 proof-needed, 403 proof-needed, 403, "; err != nil || said != want {
		t.Errorf("%q, want %q, %v", said, want, err)
	}
	if _, err := client.ShowPerson.Ask(t.Context(), api, client.ByName{Name: "mallory"}); err == nil {
		t.Error("a page made a steward")
	}
	if a := newPerson(t, s.URL); a.signIn("agnes", agnes, "").status != 303 ||
		a.get("/door/console/").header.Get("Cross-Origin-Opener-Policy") != "same-origin" {
		t.Error("who opens the console in a window could look into it")
	}
	if code, out, _ := run(t, "", "check", filepath.Join(dir, "doors.yaml")); code != 0 ||
		!strings.Contains(out, "uploads, where others may write, shares its origin with the console") {
		t.Errorf("%d %s", code, out)
	}
}

// With an origin of its own, the console answers there and nowhere else, and nothing of the site does.
func TestConsoleApart(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "<title>t</title><main>the lighthouse</main>")
	write(t, dir, "site/uploads/photo.html", "<title>t</title><main>a photo</main>")
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\ndoors: [{path: /**, admit: public}]\n")
	args := []string{"serve", "--policy", filepath.Join(dir, "doors.yaml"), "--listen", "127.0.0.1:0"}
	s, err := Start(append(args, "--data", filepath.Join(dir, "data"), "--console", "127.0.0.1:0")...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Kill() })
	console, ok := strings.CutPrefix(strings.TrimSpace(s.Output), "console on ")
	if !ok || !strings.HasSuffix(console, "/door/console/") {
		t.Fatalf("%q", s.Output)
	}
	base := strings.TrimSuffix(console, "/door/console/")
	data := filepath.Join(dir, "data")
	api := client.New(data)
	if _, err := client.AddPerson.Ask(t.Context(), api,
		client.NewPerson{Name: "agnes", Password: agnes, Roles: []string{"steward"}}); err != nil {
		t.Fatal(err)
	}
	site, apart := newPerson(t, s.URL), newPerson(t, base)
	site.signIn("agnes", agnes, "")
	apart.signIn("agnes", agnes, "")
	for path, want := range map[string][2]int{
		"/door/console/": {404, 200}, "/door/console/people": {404, 200}, "/door/api/v1/status": {404, 200},
		"/door/api/v1/people": {404, 200}, "/door/sign-in": {303, 303}, "/door/health": {200, 200},
		"/": {200, 303}, "/index.html": {301, 303}, "/uploads/photo": {404, 303}, "/uploads/photo.html": {200, 303},
		"/door/../uploads/photo.html": {200, 303}, "/nothing": {404, 303},
	} {
		if one, other := site.get(path, "Sec-Fetch-Mode", "navigate", "Accept", "text/html").status, apart.get(path, "Sec-Fetch-Mode",
			"navigate", "Accept", "text/html").status; one/100 != want[0]/100 || other != want[1] {
			t.Errorf("%s: %d at the site, %d at the console, want %v", path, one, other, want)
		}
	}
	if a := apart.get("/uploads/photo.html"); a.status != 404 && a.location != "/door/console/" || strings.Contains(a.body, "a photo") {
		t.Errorf("a page of the site at the console's origin: %d %s", a.status, a.body)
	}
	// A change needs no mark there, and comes from no other origin.
	change := []string{"Content-Type", "application/json", "X-Requested-With", "console", "Sec-Fetch-Site"}
	if a := apart.do("POST", "/door/api/v1/people", `{"name": "ines"}`, append(change, "same-origin", "Origin", base)...); a.status != 201 {
		t.Errorf("%d %s", a.status, a.body)
	}
	if a := apart.do("POST", "/door/api/v1/people", `{"name": "mallory"}`, append(change, "same-site", "Origin", s.URL)...); a.status != 403 {
		t.Errorf("from the site: %d %s", a.status, a.body)
	}
	ctx := tab(t)
	do(ctx, t, SignIn(base, "agnes", agnes), chromedp.Navigate(base+"/"))
	look(ctx, t, "main", "Today")
	do(ctx, t, chromedp.Navigate(s.URL+"/uploads/photo.html"))
	said, err := chromedp.Run(ctx, chromedp.Evaluate[string](fmt.Sprintf(`(async () => {
		const tries = [];
		for (const how of [{ credentials: "include" }, { credentials: "include", mode: "no-cors" },
			{ credentials: "include", method: "POST", headers: { "Content-Type": "application/json", "X-Requested-With": "console" }, body:
			  '{"name": "mallory"}' }])
			try { tries.push((await fetch(%q + "/door/api/v1/people", how)).type); } catch (e) { tries.push("kept off"); }
		return tries.join(", ");
	})()`, base), chromedp.EvalAwaitPromise))
	if err != nil || said != "kept off, opaque, kept off" {
		t.Errorf("%s %v", said, err)
	}
	if _, err := client.ShowPerson.Ask(t.Context(), api, client.ByName{Name: "mallory"}); err == nil {
		t.Error("a page of the site made an account")
	}
	if code, out, _ := run(t, "", "check", "--data", data); code != 0 || strings.Contains(out, "shares-origin") {
		t.Errorf("%d %s", code, out)
	}

	// The same by a host name.
	named, err := Start(append(args, "--data", filepath.Join(dir, "data2"), "--console", "doors.marram.example")...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { named.Kill() })
	if !strings.HasPrefix(named.Output, "console on http://doors.marram.example:") {
		t.Errorf("%q", named.Output)
	}
	if _, err := client.AddPerson.Ask(t.Context(), client.New(filepath.Join(dir, "data2")),
		client.NewPerson{Name: "agnes", Password: agnes, Roles: []string{"steward"}}); err != nil {
		t.Fatal(err)
	}
	steward := newPerson(t, named.URL)
	cookie, _, _ := strings.Cut(steward.signIn("agnes", agnes, "").header.Get("Set-Cookie"), ";")
	stranger := &http.Client{CheckRedirect: steward.http.CheckRedirect} // without cookies of its own
	for host, want := range map[string]string{
		"doors.marram.example": "200 303", "DOORS.marram.example.": "200 303", "marram.example": "404 200", "127.0.0.1": "404 200",
		"x.doors.marram.example": "404 200",
	} {
		got := ""
		for _, path := range []string{"/door/console/", "/uploads/photo.html"} {
			req, err := http.NewRequest("GET", named.URL+path, nil)
			if err != nil {
				t.Fatal(err)
			}
			req.Host = host
			req.Header.Set("Cookie", cookie)
			resp, err := stranger.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			resp.Body.Close()
			got += fmt.Sprint(resp.StatusCode, " ")
		}
		if strings.TrimSpace(got) != want {
			t.Errorf("%s: %s, want %s", host, got, want)
		}
	}
	for _, wrong := range []string{"doors/x", "127.0.0.1:", "0.0.0.0:0"} {
		if one, err := Start(append(args, "--data", filepath.Join(dir, "data3"), "--console", wrong)...); err == nil {
			one.Kill()
			t.Errorf("--console %s is taken", wrong)
		} else if !strings.Contains(err.Error(), wrong) {
			t.Errorf("--console %s: %v", wrong, err)
		}
	}
	os.Remove(filepath.Join(dir, "data3", "lock"))
}

// With a console of its own, the first link leads there, and to the console.
func TestFirstLinkLeadsToTheConsole(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "<title>t</title><main>the lighthouse</main>")
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\ndoors: [{path: /**, admit: public}]\n")
	data := filepath.Join(dir, "data")
	s, err := Start("serve", "--policy", filepath.Join(dir, "doors.yaml"), "--listen", "127.0.0.1:0", "--data", data, "--console",
		"127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Kill() })
	console, _ := strings.CutPrefix(strings.TrimSpace(s.Output), "console on ")
	base := strings.TrimSuffix(console, "/door/console/")
	_, out, errOut := run(t, "", "people", "link", "--first", "--data", data)
	link, _, _ := strings.Cut(out, "\n")
	if base == "" || !strings.HasPrefix(link, base+"/door/first?link=") {
		t.Fatalf("%q leads not to %s: %s", link, base, errOut)
	}
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate(link), keys("#username", "agnes"), keys("#password", agnes), keys("#again", agnes+"\r"))
	look(ctx, t, "h1", "Site")
	at(ctx, t, base+"/door/console/site")
}
