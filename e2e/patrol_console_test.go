package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// A steward walks, looks through what was found, and lives with one of it.
func TestConsolePatrol(t *testing.T) {
	t.Parallel()
	s, dir := patrolSite(t)
	write(t, dir, "www/visit/index.html", `<title>visit</title><p>Tours for all who come, on Sundays and on holidays.</p><a `+
		`href="/visit/gone/">Gone</a>`)
	api := client.New(s.Data)
	if _, err := client.AddPerson.Ask(t.Context(), api,
		client.NewPerson{Name: "agnes", Password: "amber-lantern-shelf", Roles: []string{"steward"}}); err != nil {
		t.Fatal(err)
	}
	ctx := tab(t)
	do(ctx, t, SignIn(s.URL, "agnes", "amber-lantern-shelf"), chromedp.Navigate(s.URL+"/door/console/patrol"))
	look(ctx, t, "main", "No patrol yet")
	do(ctx, t, pushed("Start patrol")...)
	look(ctx, t, "main", "names /visit/gone/, where nothing is (404)")
	accessible(ctx, t, "patrol")
	do(ctx, t, pushed("/visit/")...)
	look(ctx, t, "[role=dialog]", "A link is shown to who is turned away there")
	accessible(ctx, t, "a finding")
	do(ctx, t, keys("[role=dialog] form input[maxlength]", "The page comes next week."))
	do(ctx, t, pushed("Accept finding")...)
	look(ctx, t, "main", "Only accepted findings.")
	do(ctx, t, pushed("Show 1 accepted")...)
	look(ctx, t, "main", "accepted by agnes: The page comes next week.")
	// It is told no more by Today, until that is taken back.
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/"))
	look(ctx, t, "main", "Today")
	if text := valueOf(ctx, t, `document.querySelector("main").innerText`); strings.Contains(text, "open finding") {
		t.Error(text)
	}
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/patrol"))
	do(ctx, t, pushed("Show 1 accepted")...)
	do(ctx, t, pushed("/visit/")...)
	do(ctx, t, pushed("Report it again")...)
	look(ctx, t, "[role=dialog]", "Accept this finding")
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/"))
	look(ctx, t, "main", "The last patrol has 1 open finding.")
}

// By timetable, what is new is mailed to the stewards; what was told before is not.
func TestPatrolByTimetable(t *testing.T) {
	t.Parallel()
	s, dir := patrolSite(t)
	api := client.New(s.Data)
	if _, err := client.AddPerson.Ask(t.Context(), api,
		client.NewPerson{Name: "agnes", Email: "agnes@marram.example", Password: "amber-lantern-shelf", Roles: []string{"steward"}}); err != nil {
		t.Fatal(err)
	}
	write(t, dir, "www/visit/index.html", `<title>visit</title><p>Tours for all who come, on Sundays and on holidays.</p><a `+
		`href="/visit/gone/">Gone</a>`)
	write(t, dir, "doors.yaml", patrolPolicy+"patrol: { every: 1h }\n")
	eventually(t, func() bool {
		_, out, _ := run(t, "", "messages", "list", "-o", "json", "--data", s.Data)
		return strings.Contains(out, "patrol-found") && strings.Contains(out, "agnes@marram.example")
	})
	_, out, _ := run(t, "", "activity", "--data", s.Data)
	if !strings.Contains(out, "by timetable") || strings.Count(out, "patrol made") != 1 || !strings.Contains(out, "1 finding, 1 new") {
		t.Error(out)
	}
}

// pushed clicks a button as soon as it can be clicked, wherever it is.
func pushed(label string) []chromedp.Action[chromedp.Void] {
	button := `//button[normalize-space(.)="` + label + `"][not(@disabled)]`
	return []chromedp.Action[chromedp.Void]{chromedp.WaitVisible(button), chromedp.Click(button)}
}
