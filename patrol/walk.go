package patrol

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"ostiarius/core/pattern"
)

// A way is how one address leads to another.
type way int

const (
	link  way = iota // somebody can follow it
	part             // the browser fetches it with the page
	guess            // it may be an address: in a script, a list for robots, above a page
	lead             // a redirect
)

// An address is one that was walked, with what each visitor got there.
type address struct {
	url     *url.URL
	key     string
	way     way // how it was found first
	hops    int // redirects in a row that led here
	from    *address
	answers []*answered // one for each visitor; nil if nobody asked
}

func (a *address) path() string { return a.url.EscapedPath() }

// A walk is a patrol under way.
type walk struct {
	o        *Options
	base     *url.URL
	client   *http.Client
	slowly   *rate.Limiter
	hosts    map[string]bool
	stranger int // the visitor who has nothing
	asked    atomic.Int64
	ends     atomic.Int64 // when rules stop, in nanoseconds

	mu      sync.Mutex
	known   map[string]*address
	order   []*address // in which they were found
	queries map[string]int
	pages   map[[sha256.Size]byte]*contents
	held    int                 // bytes of documents, about
	jars    []map[string]string // of each visitor: the cookies sent
	left    []Left
	leftAt  map[string]int
	found   []Finding
	told    map[string]bool
	set     []setCookie
	missing map[string]*answered // what a stranger gets where nothing is
}

func newWalk(o *Options) *walk {
	w := &walk{
		o: o, base: o.Sites[0], hosts: map[string]bool{}, known: map[string]*address{}, queries: map[string]int{},
		pages: map[[sha256.Size]byte]*contents{}, leftAt: map[string]int{}, told: map[string]bool{}, missing: map[string]*answered{},
	}
	for _, s := range o.Sites {
		w.hosts[hostOf(s)] = true
	}
	w.client = &http.Client{
		Transport: &http.Transport{
			MaxIdleConnsPerHost: o.Together, MaxConnsPerHost: 4 * o.Together, ResponseHeaderTimeout: o.Patience, MaxResponseHeaderBytes: 256 << 10,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	w.slowly = rate.NewLimiter(rate.Inf, 1)
	if o.PerSecond > 0 {
		w.slowly = rate.NewLimiter(rate.Limit(o.PerSecond), max(1, int(o.PerSecond)))
	}
	for i := range o.Visitors {
		if o.Visitors[i].stranger() {
			w.stranger = i
		}
		jar := map[string]string{}
		for _, c := range o.Visitors[i].Cookies {
			jar[c.Name] = c.Value
		}
		w.jars = append(w.jars, jar)
	}
	return w
}

// hostOf returns the host and port of a URL.
func hostOf(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	return strings.ToLower(u.Hostname()) + ":" + port
}

// reach asks for the first page, so that a wrong address is told at once.
func (w *walk) reach(ctx context.Context) error {
	first := *w.base
	if first.Path == "" {
		first.Path = "/"
	}
	if a := w.ask(ctx, w.stranger, question{url: &first}); a.status == 0 {
		return fmt.Errorf("%s does not answer: %w", w.base, a.err)
	}
	w.offer(nil, &first, link)
	for _, s := range w.o.Sites[1:] {
		w.offer(nil, s, link)
	}
	for _, path := range []string{"/", "/robots.txt", "/sitemap.xml"} {
		w.offer(nil, w.base.ResolveReference(&url.URL{Path: path}), guess)
	}
	for _, text := range w.o.Addresses {
		if u, err := w.base.Parse(text); err == nil {
			w.offer(nil, u, guess)
		}
	}
	return nil
}

// walk asks for each address as each visitor, and goes on with what is found, until there is nothing new.
func (w *walk) walk(ctx context.Context) {
	for done := 0; done < len(w.order) && ctx.Err() == nil; {
		fresh := w.order[done:len(w.order):len(w.order)]
		var next atomic.Int64
		var all sync.WaitGroup
		for range min(w.o.Together, len(fresh)) {
			all.Go(func() {
				for {
					i := int(next.Add(1)) - 1
					if i >= len(fresh) || ctx.Err() != nil {
						return
					}
					w.visit(ctx, fresh[i])
					if w.o.Progress != nil {
						w.o.Progress(done+i+1, done+len(fresh))
					}
				}
			})
		}
		all.Wait()
		for _, a := range fresh {
			w.follow(a)
		}
		done += len(fresh)
	}
}

// visit asks for an address as each visitor: the stranger last, who so is handed what a cache has kept of the others.
func (w *walk) visit(ctx context.Context, a *address) {
	answers := make([]*answered, len(w.o.Visitors))
	for i := range w.o.Visitors {
		if i != w.stranger {
			answers[i] = w.ask(ctx, i, question{url: a.url})
		}
	}
	answers[w.stranger] = w.ask(ctx, w.stranger, question{url: a.url})
	if w.o.Drawn != nil {
		for _, got := range answers {
			w.draw(ctx, got)
		}
	}
	for _, got := range answers { // what is read of them later is how they begin
		if got != nil && len(got.body) > 512 {
			got.body = bytes.Clone(got.body[:512])
		}
	}
	if ctx.Err() == nil {
		a.answers = answers
	}
}

// draw adds to a page what its scripts make of it: the addresses that stand there then.
func (w *walk) draw(ctx context.Context, got *answered) {
	if got == nil || got.page == nil || !got.page.html || got.status != http.StatusOK ||
		!strings.Contains(got.page.scripts, "document") &&
			!slices.ContainsFunc(got.page.links, func(l named) bool { return strings.HasSuffix(l.text, ".js") }) {
		return
	}
	fields := maps.Clone(w.o.Visitors[got.visitor].Fields)
	if fields == nil {
		fields = http.Header{}
	}
	if w.o.Mark != "" {
		fields.Set("User-Agent", "Mozilla/5.0 (compatible; ostiarius patrol) "+w.o.Mark)
	}
	if cookies := w.cookiesOf(got.visitor, ""); cookies != "" {
		fields.Set("Cookie", cookies)
	}
	text, err := w.o.Drawn.Draw(ctx, got.question.url, fields, w.hosts)
	if err != nil {
		w.leave(got.question.url.EscapedPath(), "it was not drawn: "+err.Error())
		return
	}
	drawn := readDocument("text/html", text)
	with := *got.page // the same content may be drawn otherwise for another visitor
	with.links = append(slices.Clone(with.links), drawn.links...)
	with.forms, with.secrets = drawn.forms, drawn.secrets
	got.page = &with
}

// follow offers all addresses that the answers at one of them name.
func (w *walk) follow(a *address) {
	seen := map[*contents]bool{}
	for i, got := range a.answers {
		if got == nil {
			continue
		}
		if got.err != nil && got.status == 0 {
			w.leave(a.path(), "no answer: "+reasonOf(got.err))
			continue
		}
		if got.cut {
			w.leave(a.path(), fmt.Sprintf("only the first %d MB of the answer were read", mostBytes>>20))
		}
		if got.location != "" {
			if to, err := a.url.Parse(got.location); err == nil {
				if got.to = w.offer(a, to, lead); got.to != nil && a.hops+1 > got.to.hops && got.to.from == a {
					got.to.hops = a.hops + 1
				}
			}
		}
		d := got.page
		if d == nil || seen[d] {
			continue
		}
		seen[d] = true
		base := a.url
		if d.base != "" {
			if b, err := base.Parse(d.base); err == nil {
				base = b
			}
		}
		for _, l := range d.links {
			if to, err := base.Parse(l.text); err == nil {
				w.offer(a, to, l.way)
			}
		}
		if i == w.stranger || got.status == 200 {
			w.above(a)
		}
	}
}

// above offers the directories that an address is in.
func (w *walk) above(a *address) {
	path := a.path()
	for {
		at := strings.LastIndexByte(strings.TrimSuffix(path, "/"), '/')
		if at <= 0 {
			return
		}
		path = path[:at+1]
		if u, err := w.base.Parse(path); err == nil && w.hosts[hostOf(a.url)] {
			u.Host, u.Scheme = a.url.Host, a.url.Scheme
			w.offer(a, u, guess)
		}
	}
}

var changing = pattern.New(`(?i)(^|[^a-z])(sign-?_?out|log-?_?out|log-?_?off|sign-?_?off|abmelden|abmeldung|delete|remove|destroy|` +
	`unsubscribe|disable|revoke|drop|purge|loeschen|deconnexion)([^a-z]|$)`)

// offer takes an address for the walk, if it is new, ours to ask for, and within the limits. It returns what stands for it, nil for
// nothing.
func (w *walk) offer(from *address, u *url.URL, how way) *address {
	if u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil
	}
	to := *u
	to.Fragment, to.RawFragment, to.User = "", "", nil
	if to.Path == "" {
		to.Path = "/"
	}
	if !w.hosts[hostOf(&to)] {
		if how != guess {
			w.leave("/", "another host, which was not named: "+to.Host)
		}
		return nil
	}
	key := to.Scheme + "://" + hostOf(&to) + to.EscapedPath()
	if to.RawQuery != "" {
		key += "?" + to.RawQuery
	}
	if known := w.known[key]; known != nil {
		known.way = min(known.way, how)
		return known
	}
	hops := 0
	if how == lead {
		hops = from.hops + 1
	}
	target := to.EscapedPath()
	switch {
	case changing.MatchString(target) || changing.MatchString(to.RawQuery):
		w.leave(target, "it sounds as if it signed out or changed something")
	case len(key) > mostLong:
		w.leave(target[:min(len(target), 80)]+"...", "the address is too long")
	case strings.Count(target, "/") > mostDeep:
		w.leave(target, fmt.Sprintf("it has more than %d segments", mostDeep))
	case hops > mostHops:
		w.leave(target, fmt.Sprintf("more than %d redirects in a row led there", mostHops))
	case to.RawQuery != "" && w.queries[target] >= mostQueries:
		w.leave(target, fmt.Sprintf("%d queries of this address were enough", mostQueries))
	case len(w.order) >= w.o.Most:
		w.leave("/", fmt.Sprintf("more than %d addresses; --max has more walked", w.o.Most))
	default:
		a := &address{url: &to, key: key, way: how, hops: hops, from: from}
		w.known[key] = a
		w.order = append(w.order, a)
		if to.RawQuery != "" {
			w.queries[target]++
		}
		return a
	}
	return nil
}

// leave notes what is not walked, and why; once for each, and not without end.
func (w *walk) leave(path, reason string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.told["left "+path+reason] {
		return
	}
	w.told["left "+path+reason] = true
	const most = 40 // for each reason
	switch w.leftAt[reason]++; {
	case w.leftAt[reason] <= most:
		w.left = append(w.left, Left{path, reason})
	case w.leftAt[reason] == most+1:
		w.left = append(w.left, Left{"...", reason + " (and more of them)"})
	}
}

// tell adds a finding, once for a rule and a path.
func (w *walk) tell(f Finding) {
	if key := f.Rule + " " + f.Path; w.told[key] {
		return
	} else {
		w.told[key] = true
	}
	if f.Requests == nil {
		f.Requests = []Shown{}
	}
	w.found = append(w.found, f)
}

// each calls f for all addresses that somebody has asked for.
func (w *walk) each(f func(a *address)) {
	for _, a := range w.order {
		if time.Now().UnixNano() > w.ends.Load() {
			return
		}
		if a.answers != nil {
			f(a)
		}
	}
}

// inOrder returns the keys of a map, sorted.
func inOrder[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// sample takes at most some of a list, spread over it.
func sample[T any](all []T, most int) []T {
	if len(all) <= most {
		return all
	}
	few := make([]T, 0, most)
	for i := range most {
		few = append(few, all[i*len(all)/most])
	}
	return few
}

func reasonOf(err error) string {
	text := err.Error()
	if at := strings.LastIndex(text, ": "); at >= 0 && strings.HasPrefix(text, "Get ") {
		text = text[at+2:]
	}
	return text
}

// together asks many questions at once, as one visitor, and returns the answers in order.
func (w *walk) together(ctx context.Context, visitor int, questions []question) []*answered {
	answers := make([]*answered, len(questions))
	var next atomic.Int64
	var all sync.WaitGroup
	for range min(w.o.Together, len(questions)) {
		all.Go(func() {
			for {
				i := int(next.Add(1)) - 1
				if i >= len(questions) {
					return
				}
				answers[i] = w.ask(ctx, visitor, questions[i])
			}
		})
	}
	all.Wait()
	return answers
}

// The time of one whole answer, as a multiple of the patience for its beginning.
const wholeAnswer = 2

func deadline(ctx context.Context, patience time.Duration) (context.Context, context.CancelFunc) {
	return context.WithTimeout(ctx, wholeAnswer*patience)
}
