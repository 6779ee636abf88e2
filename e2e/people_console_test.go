package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

func TestConsolePeople(t *testing.T) {
	t.Parallel()
	s, _ := keepers(t)
	ctx := tab(t)
	do(ctx, t, SignIn(s.URL, "agnes", "amber-lantern-shelf"), chromedp.Navigate(s.URL+"/door/console/"))
	look(ctx, t, "main", "Requests in the last 24 hours")
	accessible(ctx, t, "today")
	do(ctx, t, chromedp.Click(`//nav//a[.="People"]`))
	look(ctx, t, "table", "ines@marram.example")
	accessible(ctx, t, "people")

	// Add one with a link.
	do(ctx, t, chromedp.Click(`//button[.="Add an account"]`), chromedp.WaitVisible(`[role=dialog] input`))
	accessible(ctx, t, "add an account")
	do(ctx, t, keys(`//label[contains(., "Name")]/input`, "walt"), chromedp.Click(`//label[contains(., "keeper")]/input`),
		chromedp.Click(`//button[.="Add"]`))
	look(ctx, t, "[data-testid=secret]", s.URL+"/door/recover?link=")
	do(ctx, t, chromedp.Click(`//button[.="Done"]`), chromedp.WaitNotPresent(`[role=dialog]`))
	look(ctx, t, "table", "no password yet")

	// Somebody who is signed in loses a role, is disabled and enabled.
	p := newPerson(t, s.URL)
	p.signIn("ines", "seven-brass-prisms", "")
	do(ctx, t, chromedp.Click(`//button[.="ines"]`), chromedp.WaitVisible(`//h3[.="Sessions"]`))
	look(ctx, t, "[role=dialog]", "Signed in on 1 device")
	accessible(ctx, t, "one account")
	do(ctx, t, chromedp.Click(`//button[@aria-label="Revoke the role keeper"]`))
	look(ctx, t, "[role=dialog] + *, body", "Revoke the role keeper from ines?")
	do(ctx, t, chromedp.Click(`//button[.="Revoke role"]`))
	look(ctx, t, "[role=dialog]", "The role keeper was revoked")
	p.is("/log/", 403, "")
	do(ctx, t, choose(`[role=dialog] select`, "keeper"), chromedp.Click(`//button[.="Grant"]`))
	look(ctx, t, "[role=dialog]", "The role keeper was granted")
	p.is("/log/", 200, "")
	do(ctx, t, chromedp.Click(`//button[.="Disable"]`), chromedp.WaitVisible(`//button[.="Disable account"]`),
		chromedp.Click(`//button[.="Disable account"]`))
	look(ctx, t, "[role=dialog]", "Disabled. All sessions have ended")
	p.is("/log/", 303, "/door/sign-in?next=%2Flog%2F")
	do(ctx, t, chromedp.Click(`//button[.="Close"]`), chromedp.WaitNotPresent(`[role=dialog]`))
	look(ctx, t, "table", "disabled")
	do(ctx, t, keys(`input[type=search]`, "zzz"))
	look(ctx, t, "main", "No account matches")

	// The last steward does not shut everybody out: by no way that there is here, but by the command line.
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/people"), chromedp.Click(`//button[.="agnes"]`),
		chromedp.Click(`//button[@aria-label="Revoke the role steward"]`))
	look(ctx, t, "body", "Revoke the role steward from yourself?")
	do(ctx, t, chromedp.Click(`//button[.="Revoke role"]`))
	look(ctx, t, "[role=alert]", "agnes is the last who can sign in with the role steward")
	do(ctx, t, chromedp.Click(`//button[.="Cancel"]`), chromedp.WaitNotPresent(`[role=alert]`))
	for _, way := range []string{"Disable", "Remove"} {
		do(ctx, t, chromedp.Click(`//button[.="`+way+`"]`), chromedp.Click(`//button[.="`+way+` account"]`))
		look(ctx, t, "[role=alert]", "agnes is the last")
		do(ctx, t, chromedp.Click(`//button[.="Cancel"]`), chromedp.WaitNotPresent(`[role=alert]`))
	}
	do(ctx, t, chromedp.Click(`//button[.="Close"]`), chromedp.WaitNotPresent(`[role=dialog]`))

	// Sessions and activity.
	p.signIn("tobias", "quiet-harbour-ledger", "")
	do(ctx, t, chromedp.Click(`//nav//a[.="Sessions"]`))
	look(ctx, t, "table", "tobias")
	accessible(ctx, t, "sessions")
	do(ctx, t, chromedp.Click(`//button[starts-with(@aria-label, "End the session of tobias")]`),
		chromedp.WaitVisible(`//button[.="End session"]`), chromedp.Click(`//button[.="End session"]`), chromedp.WaitNotPresent(`[role=dialog]`))
	p.is("/office/", 303, "/door/sign-in?next=%2Foffice%2F")
	do(ctx, t, chromedp.Click(`//nav//a[.="Activity"]`))
	look(ctx, t, "table", "session ended")
	look(ctx, t, "table", "account disabled")
	accessible(ctx, t, "activity")
	p.signIn("tobias", "not-this-one", "") // comes by itself
	look(ctx, t, "table", "wrong password")
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/activity?kind=role"))
	look(ctx, t, "table", "role granted")
	do(ctx, t, chromedp.WaitNotPresent(`//td[.="account disabled"]`))
	// From a refusal to Try: as ines was then; her account has been disabled since.
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/activity?kind=refused"), chromedp.Click(`//button[.="Why?"]`))
	look(ctx, t, "[data-testid=outcome]", "denied")
	look(ctx, t, "[data-testid=since]", "The account ines is disabled now.")
	accessible(ctx, t, "why")
	if at, err := chromedp.Run(ctx, chromedp.Evaluate[string](`new URLSearchParams(location.search).get("as")`)); err != nil ||
		!strings.HasPrefix(at, "user:ines") || strings.Contains(at, "role") {
		t.Errorf("tried as %q: %v", at, err)
	}
	do(ctx, t, chromedp.Click(`//button[.="Use the active policy"]`))
	look(ctx, t, "[role=alert]", "the account ines is disabled")
}

// choose takes an option of a select as a person does.
func choose(selector, option string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := chromedp.Run(ctx, chromedp.Evaluate[bool](fmt.Sprintf(`(() => {
			const s = document.querySelector(%q);
			Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, %q);
			return s.dispatchEvent(new Event("change", { bubbles: true }));
		})()`, selector, option)))
		return err
	})
}
