package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
	"ostiarius/core/signature"
)

const selling = `site: Marram Point
roles: { friend: , supporter: { includes: friend } }
passes: { recordings: { title: Sound recordings, downloads: 3 } }
items:
  bell: { title: The fog bell, pass: recordings }
  year: { title: A year of support, role: supporter, for: 365d }
offers: { supporter: { say: "Sixty pounds a year.", go: /shop/?item=year } }
sources: [ { path: /, files: ./site } ]
unlisted: refuse
doors:
  - { path: [/, /shop/**], admit: public }
  - { path: /recordings/**, admit: { any: [ { pass: recordings }, { role: supporter } ] } }
  - { path: /friends/**, admit: { role: friend } }
landings: { paid: [ { role: supporter, go: /friends/ }, { go: / } ] }
joining: { by: anybody, address: unproven }
`

// A shop signs what it tells, and tells it to the service at an address.
type shop struct {
	to     string
	secret signature.Secret
}

func newShop(t *testing.T, s *Process) *shop {
	t.Helper()
	_, out, err := run(t, "", "events", "secret", "--generate", "--data", s.Data)
	secret, failed := signature.ReadSecret(strings.SplitN(out, "\n", 2)[0])
	if failed != nil {
		t.Fatal(failed, out, err)
	}
	_, address, _ := strings.Cut(out, "sends its events to ")
	return &shop{strings.TrimSuffix(strings.TrimSpace(address), "."), secret}
}

// tell tells something under a number, and returns the status of the answer; 0 for none.
func (s *shop) tell(id, body string) int {
	at := time.Now()
	return s.send(id, fmt.Sprint(at.Unix()), s.secret.Sign(id, at, []byte(body)), body)
}

func (s *shop) send(id, at, signed, body string) int {
	r, err := http.NewRequest("POST", s.to, strings.NewReader(body))
	if err != nil {
		return 0
	}
	r.Header.Set("Content-Type", "application/json")
	for name, value := range map[string]string{signature.ID: id, signature.Timestamp: at, signature.Signature: signed} {
		if value != "" {
			r.Header.Set(name, value)
		}
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil || len(text) > 0 { // nobody is told why
		return 0
	}
	return answer.StatusCode
}

func paid(order, address, item string) string {
	return fmt.Sprintf(`{"type":"paid","order":%q,"buyer":{"address":%q,"name":"Mo"},"items":[{"item":%q}]}`, order, address, item)
}

// shopped starts a service that a shop tells of what was paid.
func shopped(t *testing.T) (*Process, *shop) {
	t.Helper()
	dir := t.TempDir()
	write(t, dir, "doors.yaml", selling)
	write(t, dir, "site/index.html", "<h1>The Point</h1>")
	write(t, dir, "site/friends/index.html", "<h1>Friends</h1>")
	write(t, dir, "site/shop/index.html", "<h1>The shop</h1>")
	write(t, dir, "site/recordings/bell.wav", strings.Repeat("ding", 1000))
	s := start(t, dir)
	return s, newShop(t, s)
}

// What comes over the network: only what is signed is taken, each once, and the answers tell nothing.
func TestEventsOverHTTP(t *testing.T) {
	t.Parallel()
	s, shop := shopped(t)
	now, body := time.Now(), paid("o1", "mo@marram.example", "bell")
	stamp := func(d time.Duration) string { return fmt.Sprint(now.Add(d).Unix()) }
	sign := func(id string, d time.Duration, body string) string {
		return shop.secret.Sign(id, now.Add(d), []byte(body))
	}
	for _, c := range []struct {
		what string
		got  int
		want int
	}{
		{"signed", shop.tell("m1", body), 204},
		{"the same again", shop.tell("m1", body), 204},
		{"something else under that number", shop.tell("m1", paid("o9", "mo@marram.example", "bell")), 204},
		{"unsigned", shop.send("", "", "", body), 400},
		{"without a time", shop.send("m2", "", sign("m2", 0, body), body), 400},
		{"forged", shop.send("m2", stamp(0), signature.NewSecret().Sign("m2", now, []byte(body)), body), 400},
		{"late", shop.send("m2", stamp(-time.Hour), sign("m2", -time.Hour, body), body), 400},
		{"early", shop.send("m2", stamp(time.Hour), sign("m2", time.Hour, body), body), 400},
		{"of another body", shop.send("m2", stamp(0), sign("m2", 0, body+" "), body), 400},
		{"one of several signatures", shop.send("m3", stamp(0), "v1a,x v1,AAAA "+sign("m3", 0, body), body), 204},
		{"half of it", shop.tell("m4", body[:40]), 400},
		{"nothing", shop.tell("m5", ""), 400},
		{"no order", shop.tell("m6", `{"type":"paid"}`), 400},
		{"as large as may be", shop.tell("m7", paid("o7", "mo@marram.example", "bell")+strings.Repeat(" ", 60_000)), 204},
		{"too large", shop.tell("m8", paid("o8", "mo@marram.example", "bell")+strings.Repeat(" ", 70_000)), 413},
	} {
		if c.got != c.want {
			t.Errorf("%s: %d, want %d", c.what, c.got, c.want)
		}
	}
	p := newPerson(t, s.URL)
	for _, method := range []string{"GET", "PUT", "DELETE"} {
		if a := p.do(method, "/door/events", ""); a.status != 405 && a.status != 404 {
			t.Errorf("%s: %d", method, a.status)
		}
	}
	// Twice the field, and a client that hangs up in the middle: neither is taken.
	request := func(length int, fields string) string {
		return fmt.Sprintf("POST /door/events HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: %d\r\nConnection: "+
			"close\r\n%s: m9\r\n%s: %s\r\n%s\r\n%s", length, signature.ID, signature.Timestamp, stamp(0), fields, body)
	}
	right := signature.Signature + ": " + sign("m9", 0, body) + "\r\n"
	if status, _, _ := raw(t, s.URL, request(len(body), right+right)); status != 400 {
		t.Errorf("two signatures in two fields: %d", status)
	}
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	io.WriteString(conn, request(len(body)+1, right))
	conn.Close()
	// Ten at once under one number, and twenty under theirs.
	var all sync.WaitGroup
	for i := range 30 {
		all.Go(func() {
			id := fmt.Sprint("n", max(0, i-9))
			if got := shop.tell(id, paid(id, "mo@marram.example", "bell")); got != 204 {
				t.Errorf("%s: %d", id, got)
			}
		})
	}
	all.Wait()
	var events []client.ShopEvent
	eventually(t, func() bool {
		_, out, _ := run(t, "", "events", "list", "-o", "json", "--data", s.Data)
		if err := json.Unmarshal([]byte(out), &events); err != nil {
			t.Fatal(err)
		}
		for _, e := range events {
			if e.State != "done" {
				return false
			}
		}
		return true
	})
	if len(events) != 3+21 {
		t.Errorf("%d events are in the records, want 24", len(events))
	}
	var passes []client.Pass
	_, out, _ := run(t, "", "passes", "list", "-o", "json", "--data", s.Data)
	if json.Unmarshal([]byte(out), &passes) != nil || len(passes) != 2+21 { // o1 was paid for once
		t.Errorf("%d passes, want 23", len(passes))
	}
	_, out, _ = run(t, "", "activity", "--kind", "event refused", "-o", "json", "--data", s.Data)
	for _, reason := range []string{"no signature is right", "more than five minutes old", "more than five minutes ahead",
		"is missing", "there is no order", "cannot be read as JSON"} {
		if !strings.Contains(out, reason) {
			t.Errorf("it is not recorded that %s", reason)
		}
	}
}

// Killed at any moment, with a shop that tells again what was not heard, each event that was taken has had one effect, and one
// message was written.
func TestKilledWhileAShopTells(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "doors.yaml", selling)
	write(t, dir, "site/index.html", "<h1>The Point</h1>")
	data := filepath.Join(dir, "d")
	open := func() *Process {
		t.Helper()
		s, err := Start("serve", "--policy", filepath.Join(dir, "doors.yaml"), "--listen", "127.0.0.1:0", "--data", data)
		if err != nil {
			t.Fatal(err)
		}
		s.Data = data
		return s
	}
	s := open()
	api := client.New(data)
	shop := newShop(t, s)
	const orders, accounts = 500, 100
	for i := range accounts {
		if _, err := client.AddPerson.Ask(t.Context(), api,
			client.NewPerson{Name: fmt.Sprintf("p%d", i), Email: fmt.Sprintf("p%d@marram.example", i)}); err != nil {
			t.Fatal(err)
		}
	}
	// Passes, roles of accounts that the shop knows, and roles that wait for whoever reads the mail.
	body := func(i int) string {
		switch {
		case i < accounts:
			return fmt.Sprintf(`{"type":"paid","order":"o%d","buyer":{"account":"p%d"},"items":[{"item":"year"}]}`, i, i)
		case i%2 == 0:
			return paid(fmt.Sprintf("o%d", i), fmt.Sprintf("b%d@marram.example", i), "bell")
		}
		return paid(fmt.Sprintf("o%d", i), fmt.Sprintf("b%d@marram.example", i), "year")
	}
	todo := rand.Perm(orders)
	kills := 0
	for len(todo) > 0 {
		var mu sync.Mutex
		var left []int
		told := 0
		enough := 10 + rand.IntN(90)
		killed := make(chan struct{})
		var once sync.Once
		work := make(chan int, len(todo))
		for _, i := range todo {
			work <- i
		}
		close(work)
		var workers sync.WaitGroup
		for range 16 {
			workers.Go(func() {
				for i := range work {
					heard := false
					select {
					case <-killed:
					default:
						heard = shop.tell(fmt.Sprintf("m%d", i), body(i)) == 204
					}
					mu.Lock()
					if told++; !heard {
						left = append(left, i)
					}
					now := told >= enough
					mu.Unlock()
					if now {
						once.Do(func() { s.Kill(); close(killed) })
					}
				}
			})
		}
		workers.Wait()
		once.Do(s.Kill)
		kills++
		todo = left
		s = open()
		shop.to = s.URL + "/door/events"
	}
	t.Cleanup(func() { s.Stop() })
	if kills < 5 {
		t.Errorf("it was killed %d times; that shows little", kills)
	}
	eventually(t, func() bool {
		all, err := client.ListShopEvents.Ask(t.Context(), api, client.ShopEventQuery{State: "", Search: "", Before: 0, Limit: 1})
		if err != nil {
			t.Fatal(err)
		}
		return all.Waiting == 0 && all.Done == orders && all.Kept == 0
	})
	written := map[string]int{}
	for before := int64(0); ; {
		part, err := client.ListMessages.Ask(t.Context(), api, client.MessageQuery{State: "", Search: "", Before: before, Limit: 1000})
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range part.Messages {
			written[m.To]++
			before = m.ID
		}
		if len(part.Messages) < 1000 {
			break
		}
	}
	for i := range orders {
		to := fmt.Sprintf("b%d@marram.example", i)
		if i < accounts {
			to = fmt.Sprintf("p%d@marram.example", i)
		}
		if written[to] != 1 {
			t.Errorf("%s has %d messages", to, written[to])
		}
	}
	passes := map[string]int{}
	for q := (client.PassQuery{Limit: 1000}); ; {
		part, err := client.ListPasses.Ask(t.Context(), api, q)
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range part.Passes {
			passes[p.Reference]++
			q.After = p.ID
		}
		if !part.More {
			break
		}
	}
	for i := accounts; i < orders; i += 2 {
		if n := passes[fmt.Sprintf("o%d", i)]; n != 1 {
			t.Errorf("o%d has %d passes", i, n)
		}
	}
	members, err := client.ListMembers.Ask(t.Context(), api, client.MemberQuery{Role: "supporter", Limit: 1000})
	if err != nil || members.Total != accounts {
		t.Errorf("%d members, want %d: %v", members.Total, accounts, err)
	}
	for _, m := range members.Members {
		if m.Until == nil || m.Until.Sub(m.Since) != 365*24*time.Hour || m.Order != "o"+strings.TrimPrefix(m.Account, "p") {
			t.Errorf("%+v", m)
		}
	}
}

// mailOf waits for a message to an address, and returns what it leads to: there is no mail server, so a steward may see it.
func mailOf(t *testing.T, s *Process, to, kind string) string {
	t.Helper()
	var link client.Link
	eventually(t, func() bool {
		api := client.New(s.Data)
		all, err := client.ListMessages.Ask(t.Context(), api, client.MessageQuery{State: "", Search: to, Before: 0, Limit: 100})
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range all.Messages {
			if m.To == to && m.Kind == kind {
				if link, err = client.RevealMailLink.Ask(t.Context(), api, client.ByNumber{ID: m.ID}); err != nil {
					t.Fatal(err)
				}
				return true
			}
		}
		return false
	})
	return link.Path
}

// Whoever buys without an account makes one by the link, signs in to the one they have, or takes it to the one they are signed in
// to; forms alone, without scripts.
func TestTakingWhatWasBought(t *testing.T) {
	t.Parallel()
	s, shop := shopped(t)
	buy := func(order, address string) string {
		t.Helper()
		if got := shop.tell(order, paid(order, address, "year")); got != 204 {
			t.Fatal(got)
		}
		return mailOf(t, s, address, "bought-claim")
	}
	// By an account of their own.
	mo := newPerson(t, s.URL)
	link := buy("o1", "mo@marram.example")
	page := mo.get(link)
	if !strings.Contains(page.body, "A year of support") || !strings.Contains(page.body, "mo@marram.example") ||
		page.header.Get("Referrer-Policy") != "no-referrer" {
		t.Fatal(page.status, page.body)
	}
	token := regexp.MustCompile(`name="link" value="([^"]+)"`).FindStringSubmatch(page.body)[1]
	form := url.Values{"link": {token}, "username": {"mo"}, "password": {"brambles-in-the-fog"}, "again": {"other"}}
	if a := mo.do("POST", "/door/claim", form.Encode()); a.status != 422 || !strings.Contains(a.body, `value="mo"`) {
		t.Errorf("two passwords: %d", a.status)
	}
	form.Set("again", "brambles-in-the-fog")
	if a := mo.do("POST", "/door/claim", form.Encode()); a.status != 303 || a.location != "/friends/" {
		t.Fatal(a.status, a.location, a.body)
	}
	mo.is("/friends/", 200, "")
	if a := mo.get("/door/account"); !strings.Contains(a.body, "A year of support") || !strings.Contains(a.body, "Order o1") {
		t.Error(a.body)
	}
	if a := newPerson(t, s.URL).get(link); a.status != 410 {
		t.Errorf("the link, twice: %d", a.status)
	}
	// The address is proven with that: the next payment arrives by itself.
	if got := shop.tell("o2", paid("o2", "MO@marram.example", "year")); got != 204 {
		t.Fatal(got)
	}
	mailOf(t, s, "MO@marram.example", "bought")
	// An account of that address, whose owner has not shown to read its mail.
	run(t, "copper-kettle-moss\n", "people", "add", "ola", "--email", "ola@quay.example", "--password-stdin", "--data", s.Data)
	link = buy("o3", "ola@quay.example")
	ola := newPerson(t, s.URL)
	ola.signIn("ola", "copper-kettle-moss", "/")
	ola.is("/friends/", 403, "")
	stranger := newPerson(t, s.URL)
	if a := stranger.get(link); !strings.Contains(a.body, "There is an account with the address") || strings.Contains(a.body, `name="again"`) {
		t.Error(a.body)
	}
	if a := stranger.do("POST", "/door/claim",
		url.Values{
			"link": {link[strings.Index(link, "link=")+5:]}, "username": {"mine"}, "password": {"brambles-in-the-fog"},
			"again": {"brambles-in-the-fog"},
		}.Encode()); a.status != 409 {
		t.Errorf("an account of an address that another has: %d", a.status)
	}
	if a := ola.get(link); !strings.Contains(a.body, "You are signed in as <strong>ola</strong>") {
		t.Error(a.body)
	}
	if a := ola.do("POST", "/door/claim", url.Values{"link": {link[strings.Index(link, "link=")+5:]}}.Encode()); a.status != 303 ||
		a.location != "/friends/" {
		t.Error(a.status, a.location)
	}
	ola.is("/friends/", 200, "")
	// It was refunded before the link was followed.
	link = buy("o4", "tess@quay.example")
	if got := shop.tell("m4", `{"type":"refunded","order":"o4"}`); got != 204 {
		t.Fatal(got)
	}
	eventually(t, func() bool {
		return strings.Contains(newPerson(t, s.URL).get(link).body, "nothing left to collect")
	})
	// Whoever guesses a link, and whoever guesses the number of an order.
	if a := stranger.get("/door/claim?link=" + strings.Repeat("A", 43)); a.status != 410 {
		t.Errorf("a link that never was: %d", a.status)
	}
	known, unknown := stranger.get("/door/thanks?order=o1"), stranger.get("/door/thanks?order=nothing")
	if !strings.Contains(known.body, "Your order is ready") || strings.Contains(known.body, "mo") && strings.Contains(known.body, "year") ||
		unknown.header.Get("Refresh") == "" || known.header.Get("Refresh") != "" {
		t.Errorf("%s\n%s", known.body, unknown.body)
	}
}

// Joining for something leads on to where it is sold; the doors say what would open them.
func TestJoiningForSomething(t *testing.T) {
	t.Parallel()
	s, _ := shopped(t)
	p := newPerson(t, s.URL)
	a := p.get("/door/sign-in?next=/friends/")
	if !strings.Contains(a.body, "Sixty pounds a year.") || !strings.Contains(a.body, `href="/shop/?item=year"`) {
		t.Errorf("no offer where one signs in: %s", a.body)
	}
	if a := p.get("/door/sign-in?next=/"); strings.Contains(a.body, "Sixty pounds") {
		t.Error("an offer of what is open already")
	}
	form := p.get("/door/join?item=year")
	next := regexp.MustCompile(`name="next" value="([^"]+)"`).FindStringSubmatch(form.body)
	if next == nil {
		t.Fatal(form.body)
	}
	made := patient(t, p, "/door/join?item=year",
		url.Values{
			"username": {"mo"}, "email": {"mo@marram.example"}, "password": {"brambles-in-the-fog"}, "again": {"brambles-in-the-fog"},
			"next": {strings.ReplaceAll(next[1], "&amp;", "&")},
		})
	if made.status != 303 {
		t.Fatal(made.status, made.body)
	}
	p.is(made.location, 303, "/shop/?item=year")
	if a := p.get("/friends/"); a.status != 403 || !strings.Contains(a.body, "Sixty pounds a year.") {
		t.Errorf("no offer to whom it is closed: %s", a.body)
	}
	if a := newPerson(t, s.URL).get("/door/join?item=decade"); a.status != 200 || !strings.Contains(a.body, `name="next" value=""`) {
		t.Errorf("an item that is not sold: %d %s", a.status, a.body)
	}
}

// In a browser, with the demo's shop: bought, thanked, mailed, opened, downloaded, used up, told so. And an area that opens in the
// tab that is open, and closes again.
func TestBrowserBuys(t *testing.T) {
	t.Parallel()
	ctx := tab(t)
	dir := shortDir(t)
	s, err := Start("demo", "--listen", "127.0.0.1:0", "--data", dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop() })
	changed := strings.NewReplacer("downloads: 10", "downloads: 1", "path: /recordings/fog-bell.wav",
		"path: /recordings/**").Replace(demoPolicy(t, dir))
	write(t, dir, "next.yaml", changed)
	if code, out, failed := run(t, "", "apply", filepath.Join(dir, "next.yaml"), "--data", dir); code != 0 {
		t.Fatal(out, failed)
	}
	do(ctx, t, chromedp.Navigate(s.URL+"/shop/counter/"), keys("#name-fog-bell", "Mo Tern"),
		keys("#email-fog-bell", "mo@tern.example"), chromedp.Click(`//button[.="Buy for 3 play pounds"]`))
	look(ctx, t, "main", "Your order is ready.") // automatically, if it was not yet
	accessible(ctx, t, "thanks")
	find := func(to, subject string) mailed {
		t.Helper()
		_, page, _ := strings.Cut(s.Output, "All e-mail arrives at ")
		page, _, _ = strings.Cut(page, "\n")
		var found mailed
		eventually(t, func() bool {
			answer, err := http.Get(page + "mails.json")
			if err != nil {
				t.Fatal(err)
			}
			defer answer.Body.Close()
			var all []mailed
			if err := json.NewDecoder(answer.Body).Decode(&all); err != nil {
				t.Fatal(err)
			}
			for _, m := range all {
				if m.To == to && strings.Contains(m.Subject, subject) {
					found = m
					return true
				}
			}
			return false
		})
		return found
	}
	do(ctx, t, chromedp.Navigate(find("mo@tern.example", "your access").link()))
	look(ctx, t, "main", "It was issued to Mo Tern")
	do(ctx, t, chromedp.Click(`//button[.="Open"]`))
	look(ctx, t, "h1", "Recordings")
	size, err := chromedp.Run(ctx, chromedp.Evaluate[int](`fetch("/recordings/fog-bell.wav").then((r) => r.arrayBuffer()).then((b) => `+
		`b.byteLength)`, chromedp.EvalAwaitPromise))
	if err != nil || size < 1000 {
		t.Fatal(size, err)
	}
	eventually(t, func() bool {
		_, out, _ := run(t, "", "passes", "list", "--state", "used-up", "--search", "mo@tern.example", "--data", dir)
		return strings.Contains(out, "mo@tern.example")
	})
	do(ctx, t, chromedp.Navigate(s.URL+"/recordings/"))
	look(ctx, t, "main", "is used up")

	// The open tab.
	do(ctx, t, SignIn(s.URL, "walt", walt), chromedp.Navigate(s.URL+"/friends/"))
	look(ctx, t, "main", "Supporters hear all recordings")
	accessible(ctx, t, "an offer")
	do(ctx, t, chromedp.Click(`//a[.="Get access"]`), chromedp.Click(`//button[.="Buy for 60 play pounds"]`))
	look(ctx, t, "main", "Your order is ready.")
	do(ctx, t, chromedp.Click(`//a[.="Continue"]`))
	look(ctx, t, "h1", "Recordings")
	do(ctx, t, chromedp.Navigate(s.URL+"/friends/"))
	look(ctx, t, "h1", "For friends")
	do(ctx, t, chromedp.Navigate(s.URL+"/door/account"))
	look(ctx, t, "main", "Your purchases")
	accessible(ctx, t, "an account with what was bought")
	_, office, _ := strings.Cut(s.Output, "Behind the counter of the shop: ")
	office, _, _ = strings.Cut(office, "\n")
	number := regexp.MustCompile(`<strong>(\d+-202)</strong>`).FindStringSubmatch(must(fetchText(office)))
	if number == nil {
		t.Fatal("the shop has no such order")
	}
	post := func(how string) {
		t.Helper()
		answer, err := http.PostForm(office+number[1]+"/refunded", url.Values{"how": {how}})
		if err != nil || answer.StatusCode != 200 {
			t.Fatal(answer, err)
		}
		answer.Body.Close()
	}
	post("forged")
	eventually(t, func() bool { return strings.Contains(must(fetchText(office)), "400 Bad Request") })
	do(ctx, t, chromedp.Navigate(s.URL+"/friends/"))
	look(ctx, t, "h1", "For friends")
	post("twice")
	eventually(t, func() bool {
		_, out, _ := run(t, "", "people", "members", "--role", "supporter", "--search", "walt", "--data", dir)
		return !strings.Contains(out, "walt")
	})
	do(ctx, t, chromedp.Navigate(s.URL+"/friends/"))
	look(ctx, t, "main", "Supporters hear all recordings")
}

func fetchText(address string) (string, error) {
	answer, err := http.Get(address)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	var text bytes.Buffer
	_, err = text.ReadFrom(answer.Body)
	return text.String(), err
}
