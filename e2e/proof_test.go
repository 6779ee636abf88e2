package e2e

import (
	"os"
	"testing"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// The console asks for the password again before it hands out access, and then does what it was
// asked for; nothing that was typed is lost. The service says so after 15 minutes; here, for once,
// the page is told so at the first try.
func TestConsoleAsksForThePassword(t *testing.T) {
	t.Parallel()
	s, api := gated(t)
	if _, err := client.AddPerson.Ask(t.Context(), api,
		client.NewPerson{Name: "agnes", Password: agnes, Roles: []string{"steward"}}); err != nil {
		t.Fatal(err)
	}
	ctx := tab(t)
	do(ctx, t, SignIn(s.URL, "agnes", agnes), chromedp.Navigate(s.URL+"/door/console/keyrings"))
	look(ctx, t, "table", "smith")
	_, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`(() => {
		const real = window.fetch;
		let told = false;
		window.fetch = async (to, how) => {
			const sent = new Request(to, how);
			if (!told && sent.method === "POST" && sent.url.includes("/entries")) {
				told = true;
				return new Response(JSON.stringify({ status: 403, detail: "again", code: "proof-needed" }), { status: 403 });
			}
			return real(sent);
		};
		return true;
	})()`))
	if err != nil {
		t.Fatal(err)
	}
	do(ctx, t, chromedp.Click(`//button[.="Add a name to outer"]`), chromedp.WaitVisible(`[role=dialog] input`),
		keys(`//label[contains(., "Name")]/input`, "baker"), chromedp.Click(`//button[.="Add"]`))
	do(ctx, t, chromedp.WaitVisible("#proof-password"))
	accessible(ctx, t, "the question for the password")
	if picture := os.Getenv("PICTURE"); picture != "" {
		if png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot()); err == nil {
			os.WriteFile(picture, png, 0o644)
		}
	}
	do(ctx, t, keys("#proof-password", agnes+"\r"))
	look(ctx, t, "[role=dialog]", "baker is added")
	if ring, err := client.ListKeyrings.Ask(t.Context(), api, client.None{}); err != nil || len(ring) == 0 || len(ring[0].Entries) != 2 {
		t.Errorf("%+v %v", ring, err)
	}
}
