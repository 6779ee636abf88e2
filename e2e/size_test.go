package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// large is a policy of some 10,000 doors and 50 roles.
func large() string {
	var b strings.Builder
	b.WriteString("site: Marram Point\nroles:\n")
	for r := range 50 {
		fmt.Fprintf(&b, "  role%02d:\n", r)
	}
	b.WriteString("sources: [ { path: /, files: ./site } ]\ndoors:\n")
	for part := range 50 {
		fmt.Fprintf(&b, "  - { path: /part%02d/**, admit: { role: role%02d } }\n", part, part)
		for section := range 20 {
			fmt.Fprintf(&b, "  - { path: /part%02d/section%02d/**, admit: { role: [ role%02d, role%02d ] } }\n", part, section, section,
				20+(part+section)%30)
			for page := range 9 {
				admit := []string{"public", "signed-in", fmt.Sprintf("{ role: role%02d, proof-within: 10m }", (part*7+page)%50)}[(part+section+page)%3]
				fmt.Fprintf(&b, "  - { path: /part%02d/section%02d/page%d.html, admit: %s }\n", part, section, page, admit)
			}
		}
	}
	return b.String()
}

// The console with 10,000 doors and 50 roles: that it works is tested, how fast is printed (go test -v).
func TestConsoleAtSize(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "<!doctype html><h1>one</h1>")
	write(t, dir, "doors.yaml", large())
	s := start(t, dir)
	if _, err := client.AddPerson.Ask(t.Context(), client.New(s.Data),
		client.NewPerson{Name: "agnes", Password: agnes, Roles: []string{"steward"}}); err != nil {
		t.Fatal(err)
	}
	ctx := tab(t)
	do(ctx, t, SignIn(s.URL, "agnes", agnes))
	// first waits until there is something on a page, and returns how long that took from its beginning, in milliseconds.
	const first = `new Promise(r => { const look = () => { const e = document.querySelector(%q); e && e.offsetHeight ? ` +
		`r(performance.now()) : setTimeout(look, 5) }; look() })`
	for _, page := range []struct{ path, what string }{
		{"matrix", `[data-cell="1 1"]`}, {"policy", ".cm-line"}, {"doors", "tbody tr"}, {"site", "[role=treeitem]"},
	} {
		do(ctx, t, chromedp.Navigate(s.URL+"/door/console/"+page.path))
		took, err := chromedp.Run(ctx, chromedp.Evaluate[float64](fmt.Sprintf(first, page.what), chromedp.EvalAwaitPromise))
		if err != nil {
			t.Fatalf("%s: %v", page.path, err)
		}
		t.Logf("%s: the first rows after %.0f ms", page.path, took)
	}

	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/matrix"))
	for deadline := time.Now().Add(time.Minute); ; {
		rows, err := chromedp.Run(ctx, chromedp.Evaluate[string](`document.querySelector("[role=grid]")?.getAttribute("aria-rowcount") ?? ""`))
		if err == nil && len(rows) >= 5 { // all of the doors have come
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%q rows: %v", rows, err)
		}
		time.Sleep(20 * time.Millisecond)
	}
	elements, err := chromedp.Run(ctx, chromedp.Evaluate[int](`document.querySelectorAll("*").length`))
	if err != nil || elements > 5000 {
		t.Errorf("%d elements are drawn: %v", elements, err)
	}
	frames, err := chromedp.Run(ctx, chromedp.Evaluate[[]float64](`new Promise(done => {
		const grid = document.querySelector("[role=grid]"), times = []
		let before = performance.now()
		const step = now => {
			times.push(now - before); before = now
			grid.scrollTop += 150
			times.length < 40 ? requestAnimationFrame(step) : done(times.slice(1).sort((a, b) => a - b))
		}
		requestAnimationFrame(step)
	})`, chromedp.EvalAwaitPromise))
	if err != nil || len(frames) == 0 {
		t.Fatal(err)
	}
	t.Logf("matrix: %d elements; scrolling by 150 pixels a frame: median %.1f ms, 95 %% %.1f ms, worst %.1f ms", elements,
		frames[len(frames)/2], frames[len(frames)*95/100], frames[len(frames)-1])
	do(ctx, t, chromedp.Focus("input[type=search]"))
	begun := time.Now()
	do(ctx, t, chromedp.KeyEvent("section19/page8"), chromedp.WaitNotPresent(`//code[.="/page0.html"]`))
	look(ctx, t, "[role=grid]", "/page8.html")
	t.Logf("matrix: filtered by 15 letters within %v", time.Since(begun).Round(time.Millisecond))
}
