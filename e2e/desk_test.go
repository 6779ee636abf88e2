package e2e

import (
	"context"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	cdppage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// The demo's application as its users meet it.
func TestDesk(t *testing.T) {
	ctx := tab(t)
	at := func(want string) {
		t.Helper()
		until(ctx, t, `location.pathname + location.search === "`+want+`"`)
	}
	nav := func(want string) {
		t.Helper()
		until(ctx, t, `[...document.querySelectorAll("nav a")].map(a => a.innerText).join() === "`+want+`"`)
	}
	// A stranger on a closed route gets the desk's own form, is told what was wrong, and comes back to the route.
	do(ctx, t, chromedp.Navigate(lamp.URL+"/desk/messages"))
	at("/desk?next=%2Fdesk%2Fmessages")
	look(ctx, t, "h1", "Volunteers' desk")
	nav("")
	accessible(ctx, t, "the desk's form")
	do(ctx, t, keys("#username", "walt"), keys("#password", "wrong\r"))
	look(ctx, t, "[role=alert]", "Wrong username or password")
	do(ctx, t, chromedp.Focus("#password"), chromedp.Evaluate[chromedp.Void](`document.querySelector("#password").select()`),
		chromedp.KeyEvent(walt+"\r"))
	at("/desk/messages")
	look(ctx, t, "article", "kettle")
	nav("Shifts,Messages")
	accessible(ctx, t, "the desk's messages")
	// A refresh stays there; what is for others is refused, and hidden from the line above.
	do(ctx, t, chromedp.Reload())
	look(ctx, t, "h1", "Messages")
	at("/desk/messages")
	do(ctx, t, chromedp.Navigate(lamp.URL+"/desk/board"))
	look(ctx, t, "h1", "This is not for you")
	do(ctx, t, chromedp.Navigate(lamp.URL+"/desk/nothing"))
	look(ctx, t, "h1", "There is nothing here")
	// Data is closed by route and method, whatever the browser shows.
	if got := said(ctx, t,
		`return (await Promise.all(["/desk/api/board", "/desk/api/shifts"].map(a => fetch(a)))).map(a => a.status)`); got != "[403,200]" {
		t.Errorf("data: %s", got)
	}

	// The session ends while something is being typed: nothing is lost, and it is sent after signing in again, in a dialogue.
	do(ctx, t, chromedp.Navigate(lamp.URL+"/desk/messages"))
	look(ctx, t, "h1", "Messages")
	do(ctx, t, keys("#text", "The gulls have eaten the "), keys("#text", "cake."))
	service := client.New(lampDir)
	all, err := client.ListSessions.Ask(t.Context(), service, client.SessionsQuery{Account: "walt", Limit: 50})
	if err != nil || len(all.Sessions) == 0 {
		t.Fatal(err)
	}
	for _, s := range all.Sessions {
		if err := client.EndSession.Do(t.Context(), service, client.ByHandle{Handle: s.Handle}); err != nil {
			t.Fatal(err)
		}
	}
	do(ctx, t, chromedp.Click(`//button[.="Send"]`))
	inDialogue(ctx, t, "Sign in", map[string]string{"username": "walt", "password": walt})
	look(ctx, t, "article", "The gulls have eaten the cake.")
	until(ctx, t, `document.querySelector("#text").value === ""`)

	// Asked before what was typed is left behind.
	do(ctx, t, keys("#text", "half"), chromedp.Click(`//a[.="Shifts"]`))
	look(ctx, t, "[role=alert]", "Your message is not sent")
	do(ctx, t, chromedp.Click(`//button[.="Leave it"]`))
	look(ctx, t, "h1", "Shifts")
	do(ctx, t, chromedp.Click(`//button[@aria-label="Take: Tea room, Sunday, 10 to 13"]`))
	look(ctx, t, "table", "walt Give back")

	// Signing out in another tab closes this one; going back shows nothing of before.
	other := second(ctx, t)
	do(other, t, chromedp.Navigate(lamp.URL+"/desk"))
	look(other, t, "h1", "Good to see you, walt")
	do(other, t, chromedp.Click(`//button[.="Sign out"]`))
	look(other, t, "main", "Come in")
	look(ctx, t, "main", "Come in")
	nav("")
	script(ctx, t, "history.back()")
	until(ctx, t, `!document.body.innerText.includes("Tea room")`)
	look(ctx, t, "main", "Come in")
}

// Refreshed on each route as each kind of visitor, with an answer of /door/me that is slow: nothing closed is ever drawn, and nobody
// is thrown out who may stay.
func TestRoutesAreRefreshed(t *testing.T) {
	t.Parallel()
	rounds := 6 // of each visitor
	if os.Getenv("ORACLE") == "long" {
		rounds = 50
	}
	routes := []struct{ path, closed, title string }{{"/desk/shifts", "Tea room", "Shifts"}, {"/desk/messages", "kettle", "Messages"},
		{"/desk/board", "Lamp fund", "Board"}}
	for _, visitor := range []struct {
		name, password string
		sees           string
	}{{"", "", ""}, {"walt", walt, "Shifts Messages"}, {"tobias", tobias, "Shifts Messages Board"}, {"sunniva", "fog-bell-at-night", ""}} {
		ctx := tab(t)
		if visitor.name != "" {
			do(ctx, t, SignIn(lamp.URL, visitor.name, visitor.password))
		}
		slowMe(ctx, t)
		for round := range rounds {
			r := routes[round%len(routes)]
			sees := strings.Contains(visitor.sees, r.title)
			do(ctx, t, chromedp.Navigate(lamp.URL+r.path))
			until(ctx, t, `document.querySelector("h1") && !document.querySelector("main [role=status]")`)
			if sees {
				look(ctx, t, "main", r.closed)
			} else {
				look(ctx, t, "main", map[bool]string{true: "Come in", false: "This is not for you"}[visitor.name == ""])
			}
			flashed := said(ctx, t, `return [flashed.some(s => s.includes("`+r.closed+`")), flashed.some(s => s.includes("Come in"))]`)
			if want := map[bool]string{
				true: "[true,false]", false: "[false," + map[bool]string{true: "true", false: "false"}[visitor.name == ""] + "]",
			}[sees]; flashed != want {
				t.Errorf("%s as %q: what was drawn %s, want %s", r.path, visitor.name, flashed, want)
			}
		}
	}
}

// slowMe makes answers about who is here slow, and notes all that is ever drawn.
func slowMe(ctx context.Context, t *testing.T) {
	t.Helper()
	onEachPage(ctx, t, `
		globalThis.flashed = [];
		new MutationObserver(() => document.body && flashed.push(document.body.innerText)).observe(document, { subtree: true, childList:
		  true, characterData: true });
		const fast = fetch;
		globalThis.fetch = (...asked) => String(asked[0]).endsWith("/door/me") ? new Promise(r => setTimeout(r, 60)).then(() =>
		  fast(...asked)) : fast(...asked);
	`)
}

// onEachPage runs a script before those of every page that is opened from now on.
func onEachPage(ctx context.Context, t *testing.T, script string) {
	t.Helper()
	do(ctx, t, chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := cdp.Call(ctx, target, cdppage.AddScriptToEvaluateOnNewDocument, cdppage.AddScriptToEvaluateOnNewDocumentParams{Source: script})
		return err
	}))
}
