package e2e

import (
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// labelled is the field behind a label.
func labelled(label string) string {
	return `//label[contains(., "` + label + `")]//*[self::input or self::textarea or self::select]`
}

// over types a text over what stands in a field.
func over(field, text string) chromedp.Action[chromedp.Void] {
	return chromedp.Steps(chromedp.Focus(field), chromedp.Evaluate[chromedp.Void](`document.execCommand("selectAll")`), Insert(text))
}

// A directory is closed for whoever knows one shared password, which is made with it, and another for holders of a
// pass; Undo gives back the file to the byte.
func TestSiteAsksForOnePasswordOrAPass(t *testing.T) {
	t.Parallel()
	s, ctx, text := sited(t)
	before, stranger := text(), newPerson(t, s.URL)
	do(ctx, t, point("/board"))
	look(ctx, t, "section[aria-label] h2", "/board")
	do(ctx, t, word("who"), pick("people who know a shared password"), pick("a new one"),
		keys(labelled("Name of the new shared password"), "board-papers"), keys(labelled("Title that visitors see"), "Board papers"))
	look(ctx, t, "[data-testid=sentence]", "Only people who know the shared password board-papers can see /board/ and everything below")
	accessible(ctx, t, "a shared password for a place")
	do(ctx, t, press("Require a shared password for /board/")...)
	look(ctx, t, "section[aria-label]", "The password of Board papers, shown only once.")
	password, err := chromedp.Run(ctx, chromedp.Text(`[data-testid=secret]`))
	if err != nil {
		t.Fatal(err)
	}
	stranger.is("/board/", http.StatusSeeOther, "/door/unlock?next=%2Fboard%2F")
	if a := stranger.do("POST", "/door/unlock",
		url.Values{
			"name": {"board-papers"}, "password": {strings.TrimSpace(password)}, "next": {"/board/"},
		}.Encode()); a.status != http.StatusSeeOther {
		t.Errorf("%d %s", a.status, a.body)
	}
	stranger.is("/board/", http.StatusOK, "")
	for _, line := range []string{"  board-papers: { title: \"Board papers\" }\n",
		"  - path: /board/**\n    admit: { shared: board-papers }\n"} {
		if !strings.Contains(text(), line) {
			t.Errorf("the file has no %q:\n%s", line, text())
		}
	}
	do(ctx, t, press("Undo")...)
	look(ctx, t, "[data-testid=sentence]", "Everyone can see /board/")
	if text() != before {
		t.Errorf("the file is not what it was:\n%s", text())
	}
	do(ctx, t, point("/newsletters"))
	look(ctx, t, "section[aria-label] h2", "/newsletters")
	do(ctx, t, word("who"), pick("people with a pass"), pick("recordings"))
	look(ctx, t, "[data-testid=sentence]", "Only people with a pass for recordings can see /newsletters/ and everything below")
	do(ctx, t, press("Require a pass for /newsletters/")...)
	look(ctx, t, "section[aria-label]", "Issue it on the Passes page.")
	if a := newPerson(t, s.URL).get("/newsletters/"); a.status != http.StatusUnauthorized ||
		!strings.Contains(a.header.Get("WWW-Authenticate"), "Sound recordings") {
		t.Errorf("%d %v", a.status, a.header)
	}
}

// A pass is issued, its story read, and it is revoked; a list is looked at before it is issued; a shared password is
// changed and told.
func TestConsoleHandsOutAccess(t *testing.T) {
	t.Parallel()
	s, ctx, _ := sited(t)
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/passes"))
	look(ctx, t, "table", "Dora Quill")
	look(ctx, t, "table", "used up")
	accessible(ctx, t, "passes")
	do(ctx, t, chromedp.Click(`//button[contains(., "paused")]`), chromedp.WaitNotPresent(`//td[contains(., "Ada Carrow")]`),
		chromedp.Click(`//button[.="Dora Quill"]`))
	look(ctx, t, "[role=dialog]", "It was used from more networks than its kind allows")
	look(ctx, t, "[role=dialog] ol", "paused: since it was used from too many networks")
	accessible(ctx, t, "a pass and its story")
	do(ctx, t, chromedp.Click(`//*[@role="dialog"]//button[.="Reopen"]`))
	look(ctx, t, "[role=dialog] ol", "resumed by agnes")
	do(ctx, t, chromedp.Click(`//*[@role="dialog"]//button[.="Close"]`), chromedp.WaitNotPresent(`[role=dialog]`))

	do(ctx, t, chromedp.Click(`//button[.="Issue a pass"]`), keys(labelled("Recipient's e-mail address"), "tess@marram.example"),
		keys(labelled("Recipient's name"), "Tess Marsh"), chromedp.Click(`//button[.="Issue the pass"]`))
	look(ctx, t, "[role=dialog]", "A message was sent to tess@marram.example")
	accessible(ctx, t, "an issued pass")
	var shown [2]string
	for i, what := range []string{"name", "password"} {
		text, err := chromedp.Run(ctx, chromedp.Text(`[data-testid=`+what+`]`))
		if err != nil {
			t.Fatal(err)
		}
		shown[i] = strings.TrimSpace(text)
	}
	fetched := func() int {
		req, _ := http.NewRequest("GET", s.URL+"/recordings/fog-bell.wav", nil)
		req.SetBasicAuth(shown[0], shown[1])
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	if code := fetched(); code != http.StatusOK {
		t.Errorf("the new pass: %d", code)
	}
	do(ctx, t, chromedp.Click(`//*[@role="dialog"]//button[.="Done"]`), chromedp.Navigate(s.URL+"/door/console/passes?search=marsh"),
		chromedp.WaitVisible(`//button[.="Tess Marsh"]`), chromedp.Click(`//button[.="Tess Marsh"]`))
	do(ctx, t, chromedp.Click(`//*[@role="dialog"]//button[.="Revoke"]`))
	look(ctx, t, "body", "Revoke the pass of Tess Marsh?")
	do(ctx, t, chromedp.Click(`//button[.="Revoke pass"]`))
	look(ctx, t, "[role=dialog] ol", "revoked by agnes")
	if code := fetched(); code != http.StatusUnauthorized {
		t.Errorf("a revoked pass: %d", code)
	}

	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/shared"))
	look(ctx, t, "main", "Press kit")
	accessible(ctx, t, "shared passwords")
	do(ctx, t, chromedp.Click(`//button[.="Change the password"]`), chromedp.WaitVisible(`input[aria-label="The password"]`),
		over(`input[aria-label="The password"]`, "copper-kettle-moss"))
	do(ctx, t, chromedp.WaitVisible(`//*[@role="dialog"]//button[.="Change the password"][not(@disabled)]`),
		chromedp.Click(`//*[@role="dialog"]//button[.="Change the password"]`))
	look(ctx, t, "[role=dialog]", "Press kit has a new password.")
	do(ctx, t, chromedp.Click(`//*[@role="dialog"]//button[.="Send it to people"]`),
		keys(labelled("Recipients"), "editor@gazette.example, nonsense"), chromedp.Click(`//button[.="Preview"]`))
	look(ctx, t, "[role=dialog]", `"nonsense" is no e-mail address`)
	look(ctx, t, "[role=dialog]", "The password is: (the password is not shown)")
	accessible(ctx, t, "telling a shared password")
	do(ctx, t, chromedp.Click(`//button[.="Send"]`))
	look(ctx, t, "[role=dialog]", "line 1")
	do(ctx, t, over(labelled("Recipients"), "editor@gazette.example"), chromedp.Click(`//button[.="Send"]`))
	look(ctx, t, "[role=dialog]", "A message is being sent.")
}
