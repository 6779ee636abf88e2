package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// On a phone nothing of the console is wider than the screen, and tables are lists, however long names are.
func TestConsoleOnAPhone(t *testing.T) {
	t.Parallel()
	long := strings.Repeat("abcdefghij", 6)
	if _, err := client.AddPerson.Ask(t.Context(), client.New(lampDir),
		client.NewPerson{
			Name: long, Email: long + "@" + long[:40] + ".example", Password: "seven-brass-prisms", Roles: []string{"keeper"},
		}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { client.RemovePerson.Do(t.Context(), client.New(lampDir), client.ByName{Name: long}) })
	ctx := tab(t)
	do(ctx, t, chromedp.EmulateViewport(390, 844), SignIn(lamp.URL, "agnes", agnes))
	for page, shows := range map[string]string{
		"": "Requests in the last", "site": "signed in", "doors": "/office/**", "matrix": "/board/**", "policy": "is active", "try": "allowed",
		"people": long[:20], "members": "keeper", "keyrings": "gate", "shared": "Press kit", "passes": "Frida Voss", "sessions": "agnes",
		"looks":    "All text is readable",
		"activity": "sign-in", "events": "Events", "messages": "sent",
	} {
		do(ctx, t, chromedp.Navigate(lamp.URL+"/door/console/"+page))
		look(ctx, t, "main", shows)
		wide, err := chromedp.Run(ctx,
			chromedp.Evaluate[[]string](`[...document.querySelectorAll("main, main *")]
				.filter(e => e.scrollWidth > e.clientWidth + 1 && ["auto", "scroll"].includes(getComputedStyle(e).overflowX) &&
					e.matches(":has(> table)"))
			.map(e => e.className + " " + e.scrollWidth).concat(document.documentElement.scrollWidth > 390 ? ["the page is " +
			  document.documentElement.scrollWidth + " wide"] : [])`))
		if err != nil || len(wide) > 0 {
			t.Errorf("%q: %v %v", page, wide, err)
		}
		accessible(ctx, t, "the console on a phone: "+page)
	}
}
