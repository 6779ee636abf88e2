package faults

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ostiarius/client"
	"ostiarius/e2e"
)

// A place of the site, and what of it is a secret: who may see it, and what anybody else is answered.
type guarded struct {
	path   string
	role   string // "" for everybody
	secret string // is in the page
	behind bool   // a server behind answers
	hidden bool
}

var places = []guarded{
	{path: "/", secret: "index.html"},
	{path: "/log/", role: "keeper", secret: "log/index.html"},
	{path: "/minutes/", role: "trustee", secret: "minutes/index.html"},
	{path: "/app/list", role: "keeper", secret: "the list", behind: true},
	{path: "/open/page", secret: "the page", behind: true},
	{path: "/open/draft/plan", role: "trustee", secret: "the draft", behind: true, hidden: true},
}

// may says what may be answered to whoever has a role, or "" for none: statuses; and whether the page may be in it.
func (g guarded) may(signedIn bool, role string) (statuses []int, page bool) {
	page = g.role == "" || g.role == role
	statuses = []int{503} // at any time, with when to try again
	if g.behind && (page || g.hidden) {
		statuses = append(statuses, 500, 502, 504)
	}
	switch {
	case page:
		statuses = append(statuses, 200)
	case g.hidden:
		statuses = append(statuses, 404)
	case signedIn:
		statuses = append(statuses, 403)
	default:
		statuses = append(statuses, 303)
	}
	return statuses, page
}

// A chaos is a site around which things go wrong, and a checker that knows for every answer what may have been said.
type chaos struct {
	*site
	url     atomic.Pointer[string]
	mode    atomic.Int64 // of the server behind
	mu      sync.Mutex
	told    map[string]time.Time // references
	answers map[string]int
	slowest map[string]time.Duration
	faults  map[string]int
	disk    *Disk
}

func (c *chaos) count(what string, took time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.answers[what]++
	c.slowest[what] = max(c.slowest[what], took)
}

// ask asks for a place and checks what is said.
func (c *chaos) ask(by *http.Client, g guarded, who, role, cookie string) {
	began := time.Now()
	a := ask(by, "GET", *c.url.Load()+g.path, cookie, nil, "Accept", "text/html", "Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "document")
	took := time.Since(began)
	if a.err != nil {
		c.count("broken off", 0)
		return
	}
	statuses, page := g.may(cookie != "", role)
	kind := fmt.Sprint(a.status)
	if cookie != "" && !g.behind {
		kind += " of the site, signed in"
	}
	c.count(kind, took)
	if !slices.Contains(statuses, a.status) {
		c.t.Errorf("%s asks for %s and gets %d: %.200s", who, g.path, a.status, a.body)
	}
	if has := strings.Contains(a.body, g.secret); has && !page || a.status == 200 && !has {
		c.t.Errorf("%s asks for %s and gets %d with %.200q", who, g.path, a.status, a.body)
	}
	if a.status == 503 && a.header.Get("Retry-After") == "" && g.role != "" {
		c.t.Errorf("%s asks for %s and is not told when to try again: %v", who, g.path, a.header)
	}
	if cc := a.header.Get("Cache-Control"); g.role != "" && !strings.Contains(cc, "no-store") {
		c.t.Errorf("%s asks for %s, and caches may keep the answer: %d %v", who, g.path, a.status, a.header)
	}
	if a.status == 403 {
		if reference := aReference.FindString(a.body); reference != "" {
			c.mu.Lock()
			c.told[reference] = time.Now()
			c.mu.Unlock()
		}
	}
}

var aReference = regexp.MustCompile(`\b[A-Z2-7]{4}-[A-Z2-7]{4}\b`)

// behind is the server behind, as it is at the moment.
func (c *chaos) behind(conn net.Conn, r *bufio.Reader) {
	for {
		request, err := http.ReadRequest(r)
		if err != nil {
			return
		}
		io.Copy(io.Discard, request.Body)
		answer := Text(404, "Content-Type: text/html\r\nCache-Control: public, max-age=60\r\n", "there is no "+request.URL.Path)
		for path, text := range map[string]string{"/app/list": "the list", "/open/page": "the page", "/open/draft/plan": "the draft"} {
			if request.URL.Path == path {
				answer = Text(200, "Cache-Control: public, max-age=60\r\nCDN-Cache-Control: max-age=60\r\n", text)
			}
		}
		switch c.mode.Load() {
		case 1: // slow
			time.Sleep(200 * time.Millisecond)
		case 2: // says nothing
			time.Sleep(4 * time.Second)
			return
		case 3: // breaks off
			io.WriteString(conn, answer[:20])
			return
		case 4:
			answer = Text(500, "", "it failed")
		}
		if _, err := io.WriteString(conn, answer); err != nil {
			return
		}
	}
}

// start starts the service and says where it is.
func (c *chaos) begin() {
	p, err := e2e.Start(c.args...)
	for end := time.Now().Add(30 * time.Second); err != nil && time.Now().Before(end); { // as while the disk is full
		time.Sleep(100 * time.Millisecond)
		p, err = e2e.Start(c.args...)
	}
	if err != nil {
		c.t.Fatal(err)
	}
	c.process = p
	c.url.Store(&p.URL)
}

// wrong makes one thing go wrong for a while.
func (c *chaos) wrong(ctx context.Context) {
	wait := func(d time.Duration) {
		select {
		case <-time.After(d):
		case <-ctx.Done():
		}
	}
	name := []string{"records locked", "disk full", "killed", "started anew", "another version", "server behind slow",
		"server behind silent", "server behind breaks off", "server behind fails", "nothing"}[rand.IntN(10)]
	c.mu.Lock()
	c.faults[name]++
	c.mu.Unlock()
	switch name {
	case "records locked":
		unlock, err := Lock(c.data, false)
		if err == nil {
			wait(time.Duration(rand.IntN(3000)) * time.Millisecond)
			unlock()
		}
	case "disk full":
		free, err := c.disk.Fill()
		if err == nil {
			wait(time.Duration(rand.IntN(2000)) * time.Millisecond)
			free()
		}
	case "killed":
		c.process.Kill()
		c.mu.Lock() // what was told a moment ago may be lost with it
		for reference, at := range c.told {
			if time.Since(at) < 15*time.Second {
				delete(c.told, reference)
			}
		}
		c.mu.Unlock()
		c.begin()
	case "started anew":
		if err := c.process.Stop(); err != nil {
			c.t.Error(err)
		}
		c.begin()
	case "another version":
		text, err := os.ReadFile(filepath.Join(c.dir, "doors.yaml"))
		if err == nil {
			client.ApplyPolicy.Ask(ctx, c.api(), client.Draft{Text: string(text) + fmt.Sprintf("# %d\n", rand.Int())})
		}
	case "server behind slow", "server behind silent", "server behind breaks off", "server behind fails":
		c.mode.Store(int64(slices.Index([]string{"server behind slow", "server behind silent", "server behind breaks off",
			"server behind fails"}, name) + 1))
		wait(time.Duration(rand.IntN(2000)) * time.Millisecond)
		c.mode.Store(0)
	}
	wait(time.Duration(rand.IntN(500)) * time.Millisecond)
}

// Whatever goes wrong, one thing after the other, nobody is let in who must not be, nothing that is closed may be kept by a cache,
// who has signed out stays out, and who has lost a role has lost it; and when nothing goes wrong any more, all is as before. FAULTS
// says for how long; `make faults` makes it ten minutes.
func TestWhateverGoesWrong(t *testing.T) {
	lasts, err := time.ParseDuration(cmp.Or(os.Getenv("FAULTS"), "6s"))
	if err != nil {
		t.Fatal(err)
	}
	disk := must(NewDisk(60_000))(t)
	t.Cleanup(func() { disk.Close() })
	c := &chaos{
		told: map[string]time.Time{}, answers: map[string]int{}, slowest: map[string]time.Duration{}, faults: map[string]int{}, disk: disk,
	}
	behind := must(NewBehind(c.behind))(t)
	defer behind.Close()
	c.site = siteIn(t, t.TempDir(), filepath.Join(disk.Dir, "d"), behind.URL)
	c.begin()
	t.Cleanup(func() { c.process.Kill() })
	c.add("ines", "keeper")
	c.add("agnes", "trustee")
	c.add("walt", "keeper")
	if _, err := client.AddPerson.Ask(t.Context(), c.api(), client.NewPerson{Name: "piet", Password: good}); err != nil {
		t.Fatal(err)
	}
	roles := map[string]string{"": "", "ines": "keeper", "agnes": "trustee", "piet": ""}
	cookies := map[string]string{"": ""}
	for name := range roles {
		if name != "" {
			cookies[name] = c.signIn(name)
		}
	}
	waltsCookie := c.signIn("walt")
	ctx, end := context.WithTimeout(t.Context(), lasts)
	defer end()
	var under sync.WaitGroup
	by := &http.Client{Timeout: 20 * time.Second, CheckRedirect: stranger.CheckRedirect, Transport: &http.Transport{MaxIdleConnsPerHost: 20}}
	for range 10 { // who go about
		under.Go(func() {
			for ctx.Err() == nil {
				for name, role := range roles {
					c.ask(by, places[rand.IntN(len(places))], cmp.Or(name, "a stranger"), role, cookies[name])
				}
				time.Sleep(time.Duration(rand.IntN(20)) * time.Millisecond)
			}
		})
	}
	under.Go(func() { // who comes and goes
		for ctx.Err() == nil {
			cookie, err := signIn(*c.url.Load(), "ines")
			if err != nil {
				c.count("could not sign in", 0)
				time.Sleep(50 * time.Millisecond)
				continue
			}
			c.ask(by, places[1], "ines", "keeper", cookie)
			out := ask(by, "POST", *c.url.Load()+"/door/sign-out", cookie, nil, "Accept", "text/html")
			for range 5 {
				if out.status != 303 {
					break
				}
				if a := ask(by, "GET", *c.url.Load()+"/log/", cookie, nil, "Accept", "text/html"); a.status == 200 {
					t.Errorf("somebody who has signed out is let in")
				}
			}
			c.count("signed in and out", 0)
			time.Sleep(100 * time.Millisecond) // a try at a password is work
		}
	})
	under.Go(func() { // who has a role, and has it not
		for has := true; ctx.Err() == nil; {
			if has {
				if client.RevokeRole.Do(ctx, c.api(), client.RoleOf{Account: "walt", Role: "keeper"}) != nil {
					time.Sleep(50 * time.Millisecond)
					continue
				}
				has = false
				for range 5 {
					if a := ask(by, "GET", *c.url.Load()+"/log/", waltsCookie, nil, "Accept", "text/html"); a.status == 200 {
						t.Errorf("somebody who has lost the role is let in")
					}
				}
				c.count("a role taken", 0)
			} else if client.GrantRole.Do(ctx, c.api(), client.NewGrant{Account: "walt", Role: "keeper"}) == nil {
				has = true
				c.count("a role given", 0)
			}
			time.Sleep(50 * time.Millisecond)
		}
	})
	for ctx.Err() == nil {
		c.wrong(ctx)
	}
	under.Wait()
	// Nothing goes wrong any more.
	c.mode.Store(0)
	for name, role := range roles {
		for _, g := range places {
			statuses, page := g.may(name != "", role)
			want := statuses[len(statuses)-1]
			eventually(t, fmt.Sprintf("%q gets %d for %s", name, want, g.path), func() bool {
				a := ask(by, "GET", *c.url.Load()+g.path, cookies[name], nil, "Accept", "text/html")
				return a.status == want && strings.Contains(a.body, g.secret) == page
			})
		}
	}
	missing := 0
	for reference := range c.told {
		if found, err := c.api().Activity(t.Context(), client.ActivityQuery{Reference: reference, Limit: 1}); err != nil || len(found) != 1 {
			missing++
		}
	}
	if missing > 0 {
		t.Errorf("%d of %d references that somebody was told are not found", missing, len(c.told))
	}
	if c.answers["200"] < 20 {
		t.Errorf("only %d pages", c.answers["200"])
	}
	t.Logf("in %v: %v", lasts, c.faults)
	for _, what := range slices.Sorted(func(yield func(string) bool) {
		for what := range c.answers {
			if !yield(what) {
				return
			}
		}
	}) {
		t.Logf("%7d %s, the slowest after %v", c.answers[what], what, c.slowest[what].Round(time.Millisecond))
	}
	t.Logf("%d references were told and found", len(c.told)-missing)
}
