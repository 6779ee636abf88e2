package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"ostiarius/core/event"
	"ostiarius/core/signature"
	"ostiarius/service/base/mistake"
	"ostiarius/service/shop/events"
	"ostiarius/service/who/people"
)

// A Shop stands in for the shop of the trust: what is bought there is paid for with play money. It tells Ostiarius of each order,
// signed, and again until it is heard. Buyers see it on the site, at /shop/counter/; what a shopkeeper does has a page on loopback.
type Shop struct {
	URL string // of the shopkeeper's page

	directory string
	shell     [2]string // a page of the site before and after its content
	stop      []func() error
	ctx       context.Context
	sending   sync.WaitGroup

	mu     sync.Mutex
	to     string // where events are told, "" before that is known
	secret signature.Secret
	orders []shopOrder // the oldest first
	log    []string    // what was told, the latest first
}

// A shopOrder is what somebody has ordered.
type shopOrder struct {
	Number, Name, Address, Account, Item string
	At                                   time.Time
	Story                                []string
}

// What the shop sells.
var goods = []struct{ Item, Title, Price, About string }{
	{"fog-bell", "The fog bell, a recording", "3 play pounds", "A link comes by mail; it is for ten downloads within two weeks."},
	{"year-of-support", "A year of support", "60 play pounds", "All recordings, for a year. Paying again before the end makes it longer."},
}

// StartShop starts the shop, with its orders from before.
func StartShop(directory string) (*Shop, error) {
	page, err := fs.ReadFile(files, "site/shop/index.html")
	if err != nil {
		return nil, err
	}
	before, rest, ok := strings.Cut(string(page), `<main id="content">`)
	_, after, ok2 := strings.Cut(rest, "</main>")
	if !ok || !ok2 {
		return nil, errors.New("the page of the shop has no content")
	}
	ctx, cancel := context.WithCancel(context.Background())
	s := &Shop{directory: directory, shell: [2]string{before + `<main id="content">`, "</main>" + after}, ctx: ctx}
	s.stop = append(s.stop, func() error { cancel(); s.sending.Wait(); return nil })
	if text, err := os.ReadFile(filepath.Join(directory, "shop.json")); err == nil {
		if err := json.Unmarshal(text, &s.orders); err != nil {
			return nil, fmt.Errorf("the orders of the demo's shop cannot be read: %w", err)
		}
	}
	socket := filepath.Join(directory, "shop.sock")
	if err := os.Remove(socket); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	counter, err := net.Listen("unix", socket)
	if err != nil {
		return nil, fmt.Errorf("the demo's shop cannot be started: %w", err)
	}
	office, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		counter.Close()
		return nil, fmt.Errorf("the page of the demo's shop cannot be started: %w", err)
	}
	s.URL = "http://" + office.Addr().String() + "/"
	buyers := http.NewServeMux()
	buyers.HandleFunc("GET /shop/counter/{$}", s.counter)
	buyers.HandleFunc("GET /shop/counter", s.counter)
	buyers.HandleFunc("POST /shop/counter/buy", s.buy)
	keepers := http.NewServeMux()
	keepers.HandleFunc("GET /{$}", s.office)
	keepers.HandleFunc("POST /{order}/{what}", s.happen)
	for listener, handler := range map[net.Listener]http.Handler{counter: buyers, office: s.onlyHere(keepers)} {
		server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}
		go server.Serve(listener)
		s.stop = append(s.stop, server.Close)
	}
	return s, nil
}

// member is who has paid for a year of support.
const member = "sunniva"

// sell brings in what was paid for before there was a shop that tells of it.
func sell(ctx context.Context, register *people.Register, books *events.Inbox) error {
	at := time.Now().AddDate(0, -4, 0).Format("2006-01-02")
	done, err := books.Import(ctx, "demo", "order,account,address,name,item,at\n2026-071,"+member+","+member+"@marram.example,Sunniva,"+
		"year-of-support,"+at+"\n", time.Local, false)
	if err != nil {
		return fmt.Errorf("the demo's payments: %w", err)
	}
	if len(done) == 1 && done[0].Action == "add" {
		return nil
	}
	// Somebody has changed what is sold.
	var gone *mistake.Error
	if err := register.Grant(ctx, "demo", member, "supporter", time.Time{}, time.Time{}); err != nil && !errors.As(err, &gone) {
		return fmt.Errorf("the demo's member: %w", err)
	}
	return nil
}

// Stop stops the shop.
func (s *Shop) Stop() {
	for _, stop := range slices.Backward(s.stop) {
		stop()
	}
}

// Tell says where the shop tells what happens. The secret with which it signs is kept beside its orders; without one it asks for it.
func (s *Shop) Tell(address string, ask func() (string, error)) error {
	file := filepath.Join(s.directory, "shop-secret")
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		var given string
		if given, err = ask(); err == nil {
			text, err = []byte(given), os.WriteFile(file, []byte(given), 0o600)
		}
	}
	if err != nil {
		return fmt.Errorf("the demo's shop has no secret: %w", err)
	}
	secret, err := signature.ReadSecret(string(text))
	s.mu.Lock()
	defer s.mu.Unlock()
	s.to, s.secret = address, secret
	return err
}

// onlyHere answers nobody who comes by another name, or from a page elsewhere.
func (s *Shop) onlyHere(next http.Handler) http.Handler {
	return http.NewCrossOriginProtection().Handler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if "http://"+r.Host+"/" != s.URL {
			http.Error(w, "The shop is at "+s.URL, http.StatusMisdirectedRequest)
			return
		}
		next.ServeHTTP(w, r)
	}))
}

// signedIn is the account of whoever asks, as Ostiarius says who stands in front.
func signedIn(r *http.Request) string {
	name, err := url.PathUnescape(r.Header.Get("Ostiarius-User"))
	if err != nil {
		return ""
	}
	return name
}

func (s *Shop) counter(w http.ResponseWriter, r *http.Request) {
	var content bytes.Buffer
	if err := counterPage.Execute(&content,
		map[string]any{"Goods": goods, "Who": signedIn(r), "Chosen": r.URL.Query().Get("item")}); err != nil {
		http.Error(w, "the shop cannot be shown", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprintf(w, "%s%s%s", s.shell[0], content.Bytes(), s.shell[1])
}

// buy takes an order, tells of it, and sends the buyer to where they are thanked.
func (s *Shop) buy(w http.ResponseWriter, r *http.Request) {
	o := shopOrder{
		Name: strings.TrimSpace(r.PostFormValue("name")), Address: strings.TrimSpace(r.PostFormValue("email")), Account: signedIn(r),
		Item: r.PostFormValue("item"), At: time.Now(),
	}
	known := false
	for _, g := range goods {
		known = known || g.Item == o.Item
	}
	if !known || o.Account == "" && o.Address == "" || len(o.Name)+len(o.Address) > 200 {
		http.Error(w, "an order has an item and an address", http.StatusUnprocessableEntity)
		return
	}
	s.mu.Lock()
	o.Number = fmt.Sprintf("%d-%d", o.At.Year(), 201+len(s.orders))
	s.orders = append(s.orders, o)
	s.mu.Unlock()
	s.tell(o.Number, event.Paid, "")
	http.Redirect(w, r, "/door/thanks?order="+url.QueryEscape(o.Number), http.StatusSeeOther)
}

// happen lets something become of an order.
func (s *Shop) happen(w http.ResponseWriter, r *http.Request) {
	what := event.Type(r.PathValue("what"))
	if !slices.Contains(event.Types, what) || !s.tell(r.PathValue("order"), what, r.PostFormValue("how")) {
		http.NotFound(w, r)
		return
	}
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// pauses are how long is waited before an event is told once more that was not heard.
var pauses = []time.Duration{time.Second, 2 * time.Second, 5 * time.Second, 15 * time.Second, time.Minute}

// heldBack is how long an event is held back that others are to overtake.
const heldBack = 20 * time.Second

// tell tells of an order, in the way that the shopkeeper wants. It reports whether there is such an order.
func (s *Shop) tell(number string, what event.Type, how string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.IndexFunc(s.orders, func(o shopOrder) bool { return o.Number == number })
	if i < 0 {
		return false
	}
	o := &s.orders[i]
	e := event.Event{
		Type: what, Order: o.Number, Buyer: event.Buyer{Address: o.Address, Name: o.Name, Account: o.Account},
		At: time.Now().UTC().Truncate(time.Second),
	}
	if what == event.Paid || what == event.Renewed {
		e.Items = []event.Item{{Item: o.Item, Number: 1}}
	}
	body, err := json.Marshal(e)
	if err != nil {
		return false
	}
	o.Story = append(o.Story, time.Now().Format("15:04:05")+" "+string(what))
	s.keep()
	id := fmt.Sprintf("shop-%s-%s-%d", o.Number, what, len(o.Story))
	times := 1
	if how == "twice" {
		times = 2
	}
	for range times {
		s.sending.Go(func() { s.deliver(id, body, how) })
	}
	return true
}

// deliver brings an event until it is heard, or the shop closes.
func (s *Shop) deliver(id string, body []byte, how string) {
	if how == "held back" { // so that others overtake it
		select {
		case <-s.ctx.Done():
			return
		case <-time.After(heldBack):
		}
	}
	for try := 0; ; try++ {
		s.mu.Lock()
		to, secret := s.to, s.secret
		s.mu.Unlock()
		at := time.Now()
		switch how {
		case "late":
			at = at.Add(-time.Hour)
		case "forged":
			secret = signature.NewSecret()
		}
		told := "nobody listens"
		if r, err := http.NewRequestWithContext(s.ctx, http.MethodPost, to, bytes.NewReader(body)); err == nil {
			r.Header.Set("Content-Type", "application/json")
			r.Header.Set(signature.ID, id)
			r.Header.Set(signature.Timestamp, fmt.Sprint(at.Unix()))
			r.Header.Set(signature.Signature, secret.Sign(id, at, body))
			if answer, err := http.DefaultClient.Do(r); err == nil {
				io.Copy(io.Discard, io.LimitReader(answer.Body, 1<<16))
				answer.Body.Close()
				told = answer.Status
			}
		}
		s.note(fmt.Sprintf("%s %s: %s", time.Now().Format("15:04:05"), id, told))
		if strings.HasPrefix(told, "2") || how == "late" || how == "forged" {
			return
		}
		select {
		case <-s.ctx.Done():
			return
		case <-time.After(pauses[min(try, len(pauses)-1)]):
		}
	}
}

func (s *Shop) note(line string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.log = append([]string{line}, s.log[:min(len(s.log), 49)]...)
}

// keep writes the orders down. The lock is held.
func (s *Shop) keep() {
	if text, err := json.Marshal(s.orders); err == nil {
		os.WriteFile(filepath.Join(s.directory, "shop.json"), text, 0o600)
	}
}

func (s *Shop) office(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	orders, log := slices.Clone(s.orders), slices.Clone(s.log)
	s.mu.Unlock()
	slices.Reverse(orders)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	officePage.Execute(w, map[string]any{
		"Orders": orders, "Log": log, "What": []event.Type{event.Renewed, event.Cancelled, event.Lapsed, event.Refunded, event.Paid},
	})
}

var counterPage = template.Must(template.New("counter").Parse(`
<h1>At the counter</h1>
<p class="lead">Everything is paid for with play money.</p>
{{range .Goods}}<article><h2 id="{{.Item}}">{{.Title}}</h2><p>{{.About}} {{.Price}}.</p>
<form method="post" action="/shop/counter/buy"><input type="hidden" name="item" value="{{.Item}}">
{{if $.Who}}<p>For your account, {{$.Who}}. <button>Buy for {{.Price}}</button></p>{{else}}
<p><label for="name-{{.Item}}">Your name</label> <input id="name-{{.Item}}" name="name" autocomplete="name" maxlength="80" required></p>
<p><label for="email-{{.Item}}">Your e-mail address</label> <input id="email-{{.Item}}" name="email" type="email"
  autocomplete="email" maxlength="100" required></p>
<p><button>Buy for {{.Price}}</button></p>{{end}}
</form></article>
{{end}}`))

var officePage = template.Must(template.New("office").Parse(`<!doctype html>
<html lang="en">
<head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>The shop, behind the counter</title>
<style>
:root { color-scheme: light dark; --line: light-dark(#d9d4c5, #3c454d); --soft: light-dark(#55606a, #a9b2ba) }
body { margin: 0 auto; max-width: 70rem; padding: 1rem; font: 17px/1.5 "Atkinson Hyperlegible", Verdana, sans-serif; background:
  light-dark(#f4f2ec, #1d2226); color: light-dark(#26323b, #e8e6df) }
h1 { font-size: 1.4rem; margin: 0 } h2 { font-size: 1.1rem; margin-top: 2rem } p { margin: .3rem 0 } a { color: inherit } .soft {
  color: var(--soft); overflow-wrap: anywhere }
article { border-top: 1px solid var(--line); padding: .8rem 0 } form { display: flex; flex-wrap: wrap; gap: .5rem; align-items:
  center; margin-top: .5rem }
button, select { font: inherit; padding: .2rem .7rem } ol { list-style: none; padding: 0 }
</style></head>
<body>
<h1>The shop, behind the counter</h1><p class="soft">What a shopkeeper does, and what was told. <a href="/">Look again</a></p>
{{range $o := .Orders}}<article><strong>{{.Number}}</strong> {{.Item}}, {{if .Account}}account {{.Account}}{{else}}{{.Name}}
  ({{.Address}}){{end}}<p class="soft">{{range .Story}}{{.}} · {{end}}</p>
<form method="post"><label>Tell it <select name="how"><option value="">as usual</option><option>twice</option><option>held
  back</option><option>late</option><option>forged</option></select></label>
{{range $.What}}<button formaction="/{{$o.Number}}/{{.}}">{{.}}</button>{{end}}</form></article>
{{else}}<p>Nobody has ordered anything yet.</p>{{end}}
<h2>What was told</h2>
<ol>{{range .Log}}<li class="soft">{{.}}</li>{{else}}<li class="soft">Nothing yet.</li>{{end}}</ol>
</body></html>
`))
