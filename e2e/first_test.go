package e2e

import (
	"net/http"
	"net/url"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"
)

// From nothing to a guarded site: one command writes the first policy and prints a link with which the first steward
// makes an account, once, and lands on Site.
func TestFromNothing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "public/index.html", "<main>the lighthouse</main>")
	write(t, dir, "public/dump.sql", "insert")
	file, data := filepath.Join(dir, "conf", "doors.yaml"), filepath.Join(dir, "data")
	write(t, dir, "conf/.keep", "")
	args := []string{"serve", "--files", filepath.Join(dir, "public"), "--policy", file, "--listen", "127.0.0.1:0", "--data", data}
	s, err := Start(args...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop() }) // also where there is no browser to go on with
	link := regexp.MustCompile(`http://\S+/door/first\?link=\S+`)
	first := link.FindString(s.Output)
	if !strings.HasPrefix(first, s.URL) || !strings.Contains(s.Output, "wrote a first policy") {
		t.Fatal(s.Output)
	}
	p := newPerson(t, s.URL)
	p.is("/", http.StatusSeeOther, "/door/sign-in?next=%2F")
	// Another link ends the one before.
	_, out, _ := run(t, "", "people", "link", "--first", "--data", data)
	second := link.FindString(out)
	if second == "" || second == first {
		t.Fatal(out)
	}
	if a := p.get(strings.TrimPrefix(first, s.URL)); a.status != http.StatusGone {
		t.Errorf("the first of two links: %d", a.status)
	}
	token := second[strings.LastIndex(second, "=")+1:]
	post := func(link, name, password string) answer {
		return newPerson(t, s.URL).do("POST", "/door/first",
			url.Values{"link": {link}, "username": {name}, "password": {password}, "again": {password}}.Encode(), "Accept", "text/html")
	}
	for _, bad := range []answer{post("", "eve", "kettle-moth-anvil"), post("nonsense", "eve", "kettle-moth-anvil"),
		post(first[strings.LastIndex(first, "=")+1:], "eve", "kettle-moth-anvil")} {
		if bad.status != http.StatusGone && bad.status != http.StatusUnprocessableEntity ||
			strings.Contains(bad.header.Get("Set-Cookie"), "session") {
			t.Errorf("%d %v", bad.status, bad.header)
		}
	}
	if a := post(token, "a/b", "kettle-moth-anvil"); a.status != http.StatusUnprocessableEntity ||
		strings.Contains(a.header.Get("Set-Cookie"), "session") {
		t.Errorf("a name that cannot be: %d", a.status)
	}
	if a := post(token, "agnes", "password1"); a.status != http.StatusUnprocessableEntity {
		t.Errorf("a common password: %d", a.status)
	}
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate(second), keys("#username", "agnes"), keys("#password", "amber-lantern-shelf"),
		keys("#again", "amber-lantern-shelf"))
	accessible(ctx, t, "the first account")
	do(ctx, t, chromedp.Submit("#username"), chromedp.WaitVisible("[role=tree]"))
	at(ctx, t, s.URL+"/door/console/site")
	look(ctx, t, "[role=tree]", "dump.sql")
	if a := post(token, "eve", "kettle-moth-anvil"); a.status != http.StatusGone && a.status != http.StatusUnprocessableEntity {
		t.Errorf("the link again: %d", a.status)
	}
	if code, _, errOut := run(t, "", "people", "link", "--first", "--data", data); code != 1 ||
		!strings.Contains(errOut, "somebody has the role steward already") {
		t.Errorf("another first steward: %d %s", code, errOut)
	}
	_, out, _ = run(t, "", "people", "list", "--data", data)
	if strings.Contains(out, "eve") || !strings.Contains(out, "agnes") {
		t.Errorf("%s", out)
	}
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	again, err := Start(args...)
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(again.Output, "first?link=") || !strings.Contains(again.Log(), "are only used without a policy file") {
		t.Errorf("the second start says %s%s", again.Output, again.Log())
	}
	if err := again.Stop(); err != nil {
		t.Error(err)
	}
}

// Ten who use the link at once make one account.
func TestOneIsFirst(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "doors.yaml", "doors: [{path: /, admit: public}]\n")
	s := start(t, dir)
	_, out, _ := run(t, "", "people", "link", "--first", "--data", s.Data)
	token := regexp.MustCompile(`link=(\S+)`).FindStringSubmatch(out)
	if token == nil {
		t.Fatal(out)
	}
	var all sync.WaitGroup
	var mu sync.Mutex
	made := 0
	for i := range 10 {
		all.Go(func() {
			name := string(rune('a'+i)) + "nne"
			form := url.Values{"link": {token[1]}, "username": {name}, "password": {"kettle-moth-anvil"}, "again": {"kettle-moth-anvil"}}
			resp, err := newPerson(t, s.URL).http.PostForm(s.URL+"/door/first", form)
			if err != nil {
				t.Error(err)
				return
			}
			resp.Body.Close()
			if resp.StatusCode == http.StatusSeeOther {
				mu.Lock()
				made++
				mu.Unlock()
			}
		})
	}
	all.Wait()
	if _, out, _ := run(t, "", "people", "list", "--role", "steward", "--data", s.Data); made != 1 || strings.Count(out, "steward") != 1 {
		t.Errorf("%d are first: %s", made, out)
	}
}
