package e2e

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ostiarius/core/signature"
)

// What a steward does about a shop, by mouse and keyboard: its secret, what it told, what could not be carried out, a list of
// payments, who is a member, and another program that is told.
func TestConsoleOfAShop(t *testing.T) {
	t.Parallel()
	ctx := tab(t)
	told := make(chan string, 10)
	desk := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		told <- r.Header.Get(signature.ID) + " " + string(body)
	}))
	defer desk.Close()
	dir := t.TempDir()
	write(t, dir, "doors.yaml", selling)
	write(t, dir, "site/index.html", "<h1>The Point</h1>")
	s := start(t, dir, "--events-to", "127.0.0.1", "--events-private")
	run(t, agnes+"\n", "people", "add", "agnes", "--role", "steward", "--email", "agnes@marram.example", "--password-stdin", "--data", s.Data)
	do(ctx, t, SignIn(s.URL, "agnes", agnes), chromedp.Navigate(s.URL+"/door/console/events"))
	look(ctx, t, "main", "No events yet")
	accessible(ctx, t, "no events")

	do(ctx, t, chromedp.Click(`//button[.="The shop's secrets"]`))
	look(ctx, t, "[role=dialog]", "There is no secret yet")
	do(ctx, t, chromedp.Click(`//button[.="Create a secret"]`), chromedp.WaitVisible(`[data-testid=secret]`))
	accessible(ctx, t, "a secret")
	text, err := chromedp.Run(ctx, chromedp.Text(`[data-testid=secret]`))
	if err != nil {
		t.Fatal(err)
	}
	secret, err := signature.ReadSecret(text)
	if err != nil {
		t.Fatal(err)
	}
	do(ctx, t, chromedp.Click(`//button[.="Close"]`))
	shop := &shop{s.URL + "/door/events", secret}
	for i, body := range []string{paid("o1", "mo@marram.example", "bell"), paid("o2", "mo@marram.example", "lamp"),
		`{"type":"paid","order":"o3","buyer":{"account":"agnes"},"items":[{"item":"year"}]}`} {
		if got := shop.tell(fmt.Sprint("m", i), body); got != 204 {
			t.Fatal(got)
		}
	}
	look(ctx, t, "table", `the policy has no item "lamp"`)
	accessible(ctx, t, "events")
	do(ctx, t, chromedp.Click(`//button[.="o2"]`))
	look(ctx, t, "[role=dialog]", "This event can't be processed yet")
	do(ctx, t, chromedp.Click(`//button[.="Process it"]`))
	look(ctx, t, "[role=dialog]", "still can't be processed")
	accessible(ctx, t, "an event that is kept")
	do(ctx, t, chromedp.Click(`//button[.="Discard it"]`))
	look(ctx, t, "body", "Discard this event for order o2?")
	do(ctx, t, chromedp.Click(`//button[.="Discard event"]`))
	look(ctx, t, "[role=dialog]", "Discarded.")
	do(ctx, t, chromedp.Click(`//button[.="Close"]`))

	do(ctx, t, chromedp.Click(`//button[.="Import payments"]`),
		keys(`textarea`, "order,address,item\nb1,tess@quay.example,bell\nb2,tess@quay.example,lamp\n"),
		chromedp.Click(`//button[.="Preview"]`))
	look(ctx, t, "[role=dialog]", "it would be kept")
	accessible(ctx, t, "a list of payments")
	do(ctx, t, chromedp.Click(`//button[starts-with(., "Import 1")]`))
	look(ctx, t, "[role=dialog]", "Done.")
	do(ctx, t, chromedp.Click(`//button[.="Close"]`))
	look(ctx, t, "table", "b1")

	do(ctx, t, chromedp.Click(`//button[.="Notify other programs"]`))
	look(ctx, t, "[role=dialog]", "No program is notified yet")
	do(ctx, t, keys(`input[type=url]`, desk.URL+"/in"), chromedp.Click(`//label[contains(., "a membership has begun")]//input`),
		chromedp.Click(`//button[.="Add"]`), chromedp.WaitVisible(`[data-testid=secret]`))
	accessible(ctx, t, "a program that is told")
	do(ctx, t, chromedp.Click(`//button[.="Test"]`))
	select {
	case got := <-told:
		if !strings.Contains(got, `"type":"test"`) {
			t.Error(got)
		}
	case <-time.After(20 * time.Second):
		t.Error("the program is told nothing")
	}
	do(ctx, t, chromedp.Click(`//button[.="Close"]`), chromedp.Navigate(s.URL+"/door/console/messages"))
	look(ctx, t, "table", desk.URL+"/in")

	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/members"))
	look(ctx, t, "table", "order o3")
	look(ctx, t, "main", "supporter 1")
	accessible(ctx, t, "members")
	do(ctx, t, chromedp.Click(`//button[.="end within 30 days"]`))
	look(ctx, t, "main", "Nobody matches.")
	do(ctx, t, chromedp.Click(`//button[.="all now"]`), chromedp.Click(`//a[.="order o3"]`))
	look(ctx, t, "h1", "Events")
	look(ctx, t, "table", "o3")
	do(ctx, t, chromedp.EmulateViewport(390, 844), chromedp.Navigate(s.URL+"/door/console/members"), chromedp.WaitVisible("table"))
	accessible(ctx, t, "members on a phone")
}
