package e2e

import (
	"context"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// A steward walks as a keeper: the site shows what a keeper sees, and no more than the steward may; nothing can be changed; it is
// recorded, and it ends.
func TestWalkAs(t *testing.T) {
	t.Parallel()
	s, _ := patrolSite(t)
	api := client.New(s.Data)
	if _, err := client.AddPerson.Ask(t.Context(), api,
		client.NewPerson{Name: "agnes", Password: "amber-lantern-shelf", Roles: []string{"steward", "keeper"}}); err != nil {
		t.Fatal(err)
	}
	ctx := tab(t)
	do(ctx, t, SignIn(s.URL, "agnes", "amber-lantern-shelf"), chromedp.Navigate(s.URL+"/door/console/try?url=/log/&as=role:trustee"))
	do(ctx, t, pushed("Preview as role:trustee")...)
	look(ctx, t, "main", "The preview opened")
	// Headless browsers open no window of their own for it here, so its page is opened by its address.
	do(ctx, t, chromedp.Navigate(s.URL+"/door/walk?next=/log/"))
	look(ctx, t, "header", "Preview as role:trustee")
	look(ctx, t, "#outcome", "allowed")
	look(ctx, t, "#says", "Only people with the role keeper")
	accessible(ctx, t, "a walk")
	inFrame := func() string {
		return valueOf(ctx, t, `document.querySelector("iframe").contentDocument.body.innerText`)
	}
	until(ctx, t, `document.querySelector("iframe").contentDocument?.body?.innerText.includes("about log")`)
	// What a trustee may see and the steward may not is not shown; what is asked for is said, and not led to.
	for at, want := range map[string]string{
		"/office/": "would be asked", "/press/": "would be asked", "/log/": "about log", "/nothing": "nothing",
	} {
		do(ctx, t, chromedp.Evaluate[chromedp.Void](`document.querySelector("iframe").src = "`+at+`"`))
		eventually(t, func() bool {
			return valueOf(ctx, t, `String(`+`(() => { const f = document.querySelector("iframe"), d = f.contentDocument; return `+
				`f.contentWindow.location.pathname === "`+at+`" && d?.readyState === "complete" && !!d.body && (d.body.innerText + `+
				`d.title).toLowerCase().includes("`+want+`") })()`+`)`) == "true"
		})
	}
	if text := inFrame(); strings.Contains(text, "agnes") {
		t.Error("the steward is named:", text)
	}
	// Scripts of the site are told whose walk it is.
	if me := valueOf(ctx, t, `await (await fetch("/door/me")).text()`); !strings.Contains(me, "trustee") || strings.Contains(me, "steward") {
		t.Error(me)
	}
	if status := valueOf(ctx, t, `String((await fetch("/log/", { method: "POST" })).status)`); status != "403" {
		t.Error("a change was let through:", status)
	}
	// The console goes on as the steward's.
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/activity"))
	look(ctx, t, "main", "walk begun")
	do(ctx, t, chromedp.Navigate(s.URL+"/door/walk"))
	do(ctx, t, pushed("End preview")...)
	look(ctx, t, "main", "Try")
	do(ctx, t, chromedp.Navigate(s.URL+"/door/walk"))
	look(ctx, t, "main", "No preview is running")
	do(ctx, t, chromedp.Navigate(s.URL+"/"))
	if me := valueOf(ctx, t, `await (await fetch("/door/me")).text()`); !strings.Contains(me, "agnes") {
		t.Error(me)
	}
}

// A walk is good for nobody but the steward whose it is, in the browser in which they are signed in, as long as they are one.
func TestWalkIsTheStewardsAlone(t *testing.T) {
	t.Parallel()
	s, _ := patrolSite(t, "  - { path: /lan/**, admit: { network: 10.0.0.0/8 } }\n")
	api := client.New(s.Data)
	for name, roles := range map[string][]string{"agnes": {"steward", "keeper"}, "ines": {"keeper"}, "tobias": {"steward", "trustee"}} {
		if _, err := client.AddPerson.Ask(t.Context(), api,
			client.NewPerson{Name: name, Password: "amber-lantern-shelf", Roles: roles}); err != nil {
			t.Fatal(err)
		}
	}
	console := []string{"Content-Type", "application/json", "X-Requested-With", "test"}
	ines := newPerson(t, s.URL)
	ines.signIn("ines", "amber-lantern-shelf", "")
	if a := ines.do("POST", "/door/api/v1/walks/as", `{"as":"role:trustee"}`, console...); a.status != http.StatusForbidden {
		t.Errorf("who is no steward walks: %d", a.status)
	}
	agnes := newPerson(t, s.URL)
	agnes.signIn("agnes", "amber-lantern-shelf", "")
	if a := agnes.do("POST", "/door/api/v1/walks/as", `{"as":"role:trustee"}`, console...); a.status != http.StatusForbidden ||
		!strings.Contains(a.body, "proof-needed") {
		t.Errorf("without a proof in the console: %d %s", a.status, a.body)
	}
	// A proof of the console's own, as its page gets it.
	proven := agnes.do("POST", "/door/prove-again", `{"password":"amber-lantern-shelf"}`, "Content-Type", "application/json", "Accept",
		"application/json")
	_, mark, _ := strings.Cut(proven.body, `"proof":"`)
	mark, _, _ = strings.Cut(mark, `"`)
	begun := agnes.do("POST", "/door/api/v1/walks/as", `{"as":"role:trustee"}`, append(console, "Ostiarius-Proof", mark)...)
	if begun.status != http.StatusCreated || strings.Contains(begun.body, "token") {
		t.Fatalf("%d %s", begun.status, begun.body)
	}
	token := ""
	for _, line := range begun.header["Set-Cookie"] {
		if strings.HasPrefix(line, "ostiarius-walk=") {
			token, _, _ = strings.Cut(line, ";")
			if !strings.Contains(line, "HttpOnly") || !strings.Contains(line, "SameSite=Lax") || !strings.Contains(line, "Max-Age=") {
				t.Error(line)
			}
		}
	}
	agnes.is("/log/", 200, "")
	agnes.is("/office/", 403, "")
	for name, p := range map[string]*person{"nobody": newPerson(t, s.URL), "ines": ines} {
		if a := p.get("/log/", "Cookie", token); a.status == 200 {
			t.Errorf("%s walks with the token of another: %d", name, a.status)
		}
	}
	tobias := newPerson(t, s.URL)
	tobias.signIn("tobias", "amber-lantern-shelf", "")
	if a := tobias.get("/log/", "Cookie", token); a.status == 200 {
		t.Errorf("another steward walks with it: %d", a.status)
	}
	for _, fields := range [][]string{{"Upgrade", "websocket"}, {"Sec-WebSocket-Version", "13"}, {"X-HTTP-Method-Override", "DELETE"}} {
		if a := agnes.get("/log/", fields...); a.status != 403 {
			t.Errorf("%v: %d", fields, a.status)
		}
	}
	// A network that one walks from is none that one is in.
	far := agnes.do("POST", "/door/api/v1/walks/as", `{"as":"role:keeper,from:10.0.0.5"}`, append(console, "Ostiarius-Proof", mark)...)
	if far.status != http.StatusCreated {
		t.Fatalf("%d %s", far.status, far.body)
	}
	agnes.is("/log/", 200, "")
	agnes.is("/lan/", 403, "") // whatever is there: the door is asked first
	if err := client.RevokeRole.Do(t.Context(), api, client.RoleOf{Account: "agnes", Role: "steward"}); err != nil {
		t.Fatal(err)
	}
	if a := agnes.get("/press/"); a.status != 303 || !strings.Contains(a.location, "/door/unlock") {
		t.Errorf("who is no steward any more walks on: %d %s", a.status, a.location)
	}
	agnes.is("/log/", 200, "") // as herself again
}

// valueOf evaluates an expression, which may await.
func valueOf(ctx context.Context, t *testing.T, expression string) string {
	t.Helper()
	text, err := chromedp.Run(ctx, chromedp.Evaluate[string]("(async () => "+expression+")()", chromedp.EvalAwaitPromise))
	if err != nil {
		t.Fatal(err)
	}
	return text
}
