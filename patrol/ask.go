package patrol

import (
	"bytes"
	"context"
	"crypto/sha256"
	"io"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
)

// A question is a request that a patrol sends.
type question struct {
	url    *url.URL
	method string // GET if empty
	host   string // sent in place of the URL's
	fields [][2]string
	cookie string // sent besides those of the visitor
}

// An answered question.
type answered struct {
	visitor  int
	question question
	status   int // 0 for none
	header   http.Header
	location string
	to       *address // where that is, if it is walked
	mime     string
	body     []byte // of answers that rules ask for; of those that are walked only what is no page
	hash     [sha256.Size]byte
	size     int
	page     *contents // what was read of it; nil for what is no text
	cut      bool
	err      error
}

// inClear reports whether an address is asked over plain HTTP, though no site of the walk is spoken to in that way: a page of an
// https site may name it. What a visitor shows who they are with is not sent there.
func (w *walk) inClear(u *url.URL) bool {
	return u.Scheme == "http" && !slices.ContainsFunc(w.o.Sites, func(site *url.URL) bool { return site.Scheme == "http" })
}

// ask sends a question as a visitor. What the answer has is read up to a limit.
func (w *walk) ask(ctx context.Context, visitor int, q question) *answered {
	a := &answered{visitor: visitor, question: q}
	if a.err = w.slowly.Wait(ctx); a.err != nil {
		return a
	}
	ctx, cancel := deadline(ctx, w.o.Patience)
	defer cancel()
	method := q.method
	if method == "" {
		method = http.MethodGet
	}
	r, err := http.NewRequestWithContext(ctx, method, "/", nil)
	if err != nil {
		a.err = err
		return a
	}
	r.URL = q.url
	r.Host = q.url.Host
	if q.host != "" {
		r.Host = q.host
	}
	r.Header = http.Header{
		"User-Agent": {"Mozilla/5.0 (compatible; ostiarius patrol)"}, "Accept": {"text/html,application/xhtml+xml,*/*;q=0.8"},
		"Accept-Language": {"en"},
		"Sec-Fetch-Mode":  {"navigate"}, "Sec-Fetch-Dest": {"document"}, "Sec-Fetch-Site": {"none"},
	}
	secret := !w.inClear(q.url)
	for name, values := range w.o.Visitors[visitor].Fields {
		if secret {
			r.Header[name] = values
		}
	}
	for _, f := range q.fields {
		r.Header.Set(f[0], f[1])
	}
	r.Header.Set("User-Agent", strings.TrimSpace(r.UserAgent()+" "+w.o.Mark))
	if cookies := w.cookiesOf(visitor, q.cookie); cookies != "" && secret {
		r.Header.Set("Cookie", cookies)
	}
	w.asked.Add(1)
	resp, err := w.client.Do(r)
	if err != nil {
		a.err = err
		return a
	}
	defer resp.Body.Close()
	a.status, a.header, a.location = resp.StatusCode, resp.Header, resp.Header.Get("Location")
	a.mime, _, _ = mime.ParseMediaType(resp.Header.Get("Content-Type"))
	if a.mime == "text/event-stream" || a.mime == "multipart/x-mixed-replace" { // it has no end, and no addresses
		cancel()
		w.refresh(visitor, resp)
		return a
	}
	body, err := io.ReadAll(io.LimitReader(resp.Body, mostBytes+1))
	if len(body) > mostBytes {
		body, a.cut = body[:mostBytes], true
	}
	if err != nil {
		a.err = err // what came of it is read all the same
	}
	a.size, a.hash, a.body = len(body), sha256.Sum256(body), body
	w.refresh(visitor, resp)
	w.read(a)
	if a.page != nil {
		a.body = nil
	} else if len(a.body) > 4096 {
		a.body = bytes.Clone(a.body[:4096])
	}
	return a
}

// cookiesOf returns the cookies of a visitor, with more.
func (w *walk) cookiesOf(visitor int, more string) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	var all []string
	for _, name := range inOrder(w.jars[visitor]) {
		all = append(all, name+"="+w.jars[visitor][name])
	}
	if more != "" {
		all = append(all, more)
	}
	return strings.Join(all, "; ")
}

// refresh takes cookies that take the place of those a visitor came with, and notes all that were set. Others are not kept: each page is
// asked for as in a fresh window.
func (w *walk) refresh(visitor int, resp *http.Response) {
	if len(resp.Header["Set-Cookie"]) == 0 {
		return
	}
	cookies := resp.Cookies()
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, c := range cookies {
		if _, has := w.jars[visitor][c.Name]; has && c.MaxAge >= 0 && c.Value != "" {
			w.jars[visitor][c.Name] = c.Value
		}
		if len(w.set) < 5000 {
			w.set = append(w.set, setCookie{c, visitor, resp.Request.URL})
		}
	}
}

// read reads what an answer has; the same content once.
func (w *walk) read(a *answered) {
	if len(a.body) == 0 || !readable(a) {
		return
	}
	w.mu.Lock()
	known := w.pages[a.hash]
	w.mu.Unlock()
	if known == nil {
		known = readDocument(a.mime, a.body)
		w.mu.Lock()
		full := false
		if before := w.pages[a.hash]; before != nil {
			known = before
		} else if w.held += known.size(); w.held <= w.o.mostHeld {
			w.pages[a.hash] = known
		} else {
			w.held -= known.size() - known.forget()
			full = true
		}
		w.mu.Unlock()
		if full {
			w.leave(a.question.url.EscapedPath(), "the pages are so much together that of this one only the links were looked at")
		}
	}
	a.page = known
}

// readable reports whether an answer is text that can name addresses.
func readable(a *answered) bool {
	switch {
	case a.mime == "" || a.mime == "application/octet-stream":
		return bytes.HasPrefix(bytes.TrimSpace(a.body[:min(len(a.body), 512)]), []byte("<"))
	case strings.HasPrefix(a.mime, "text/"), strings.HasSuffix(a.mime, "javascript"), strings.HasSuffix(a.mime,
		"json"), strings.HasSuffix(a.mime, "xml"), strings.HasSuffix(a.mime, "+html"):
		return true
	}
	return false
}

// State is what an answer comes to for who asked.
type state string

const (
	open    state = "open"    // content
	asks    state = "asks"    // something is to be proven
	refused state = "refused" // nothing can be done about it
	missing state = "missing"
	led     state = "led" // elsewhere
	failed  state = "failed"
)

// state tells what an answer comes to.
func (w *walk) state(a *answered) state {
	switch {
	case a == nil || a.status == 0 || a.status >= 500:
		return failed
	case a.status == http.StatusUnauthorized:
		return asks
	case a.status == http.StatusNotFound || a.status == http.StatusGone:
		return missing
	case a.status >= 400:
		return refused
	case a.status >= 300 && a.location != "":
		if w.leadsToSignIn(a, 0) {
			return asks
		}
		return led
	}
	return open
}

// leadsToSignIn reports whether a redirect ends, for who got it, where one signs in.
func (w *walk) leadsToSignIn(a *answered, hops int) bool {
	to, err := a.question.url.Parse(a.location)
	if err != nil {
		return false
	}
	if signInAddress(to) {
		return true
	}
	if a.to == nil || a.to.answers == nil || hops > 4 {
		return false
	}
	next := a.to.answers[a.visitor]
	switch {
	case next == nil:
		return false
	case next.page != nil && next.status == http.StatusOK && next.page.signsIn():
		return true
	case next.location != "":
		return w.leadsToSignIn(next, hops+1)
	}
	return next.status == http.StatusUnauthorized
}

// shown returns a question and its answer for a finding.
func (w *walk) shown(a *answered) Shown {
	u := *a.question.url
	s := Shown{As: w.o.Visitors[a.visitor].Who, Method: "GET", URL: u.String(), Status: a.status, Location: a.location}
	if a.question.method != "" {
		s.Method = a.question.method
	}
	var besides []string
	if a.question.host != "" {
		besides = append(besides, "Host: "+a.question.host)
	}
	for _, f := range a.question.fields {
		besides = append(besides, f[0]+": "+f[1])
	}
	if a.question.cookie != "" {
		besides = append(besides, "Cookie: "+a.question.cookie)
	}
	s.With = strings.Join(besides, "; ")
	var fields []string
	for _, name := range []string{"Content-Type", "Cache-Control", "Expires", "Age", "Vary", "Www-Authenticate"} {
		if value := a.header.Get(name); value != "" {
			fields = append(fields, name+": "+value)
		}
	}
	s.Fields = strings.Join(fields, "; ")
	switch {
	case a.err != nil && a.status == 0:
		s.Begins = "no answer: " + reasonOf(a.err)
	case a.page != nil:
		s.Begins = excerpt(a.page.begins)
	case len(a.body) > 0 && !strings.HasPrefix(a.mime, "image/"):
		s.Begins = excerpt(printable(a.body[:min(len(a.body), 160)]))
	}
	return s
}

func printable(b []byte) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' {
			return ' '
		}
		if r < ' ' || r == 0xFFFD || r == 0x7f {
			return '.'
		}
		return r
	}, strings.ToValidUTF8(string(b), "."))
}

// excerpt shortens text to what a line holds.
func excerpt(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if r := []rune(text); len(r) > 140 {
		return string(r[:140]) + "…"
	}
	return text
}

// same reports whether two answers have the same content, as far as a patrol can tell: byte for byte, or the same words but for a few that
// pages repeat of the request.
func same(a, b *answered) bool {
	if a.hash == b.hash {
		return true
	}
	if a.page == nil || b.page == nil || a.mime != b.mime {
		return false
	}
	return a.page.alike(b.page)
}

// nothing returns what a stranger gets beside an address where nothing is, so that a site that answers everything alike is known.
func (w *walk) nothing(ctx context.Context, beside *url.URL) *answered {
	path := beside.EscapedPath()
	dir := path[:strings.LastIndexByte(path, '/')+1]
	ending := ""
	if at := strings.LastIndexByte(path, '.'); at > len(dir) {
		ending = path[at:]
	}
	key := hostOf(beside) + dir + ending
	if known := w.missing[key]; known != nil {
		return known
	}
	u := *beside
	u.RawQuery = ""
	u.Path, u.RawPath = unescaped(dir + "no-such-page-7h2k9q" + ending)
	a := w.ask(ctx, w.stranger, question{url: &u})
	w.missing[key] = a
	return a
}

// unescaped returns the path and raw path of a URL that is to be sent as written.
func unescaped(raw string) (path, rawPath string) {
	path, err := url.PathUnescape(raw)
	if err != nil {
		return raw, ""
	}
	return path, raw
}

// at returns a URL of the same host with another raw path, and no query.
func at(u *url.URL, raw string) *url.URL {
	to := *u
	to.RawQuery, to.Fragment = "", ""
	to.Path, to.RawPath = unescaped(raw)
	return &to
}

// is reports whether an answer has content that the place where nothing is has not.
func (w *walk) is(ctx context.Context, a *answered) bool {
	if w.state(a) != open || a.size == 0 {
		return false
	}
	none := w.nothing(ctx, a.question.url)
	return w.state(none) != open || !same(none, a)
}
