package guard

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// The fields in which a web server hands on the target of a request that is to be judged, as it was received, each with the
// field beside it that has the method. One is believed, as the operator says, and never both: what the server does
// not set itself may be a stranger's.
const (
	XForwardedURI = "X-Forwarded-Uri" // with X-Forwarded-Method
	XOriginalURI  = "X-Original-Uri"  // with X-Original-Method
)

var methodBeside = map[string]string{XForwardedURI: "X-Forwarded-Method", XOriginalURI: "X-Original-Method"}

// A Beside answers web servers that serve a site themselves, and ask with a subrequest whether a request is admitted. What is no
// such question goes to the Guard.
//
// A question is a request for At from a declared peer, with the header fields of the request that is asked about: the scheme,
// the host and the client's address are where the Front finds them. It is judged as if it had come here, with all that
// belongs to it: sessions are renewed, tries are counted, refusals recorded.
//
// Who is admitted is answered with 200 and the fields Ostiarius-User, -Roles, -Door and -Public, in Ostiarius-Set-Cookie a cookie
// that is to be handed on, and in Ostiarius-Cache-Control and -Vary what the answer of the web server is to have. Everybody else is
// answered with a 4xx. Where they are to be led is in Ostiarius-Location; and in Ostiarius-Answer a word for which, asked once for
// At?answer=WORD, the answer is given that the visitor is to get: a page, a redirect, or a problem.
//
// What the web server itself does not find is answered for by At?missing, so that it looks like what is hidden (or
// ?missing-typed, with TypeField). With ?whole everything is answered at once; with ?whole-399 too, and who is admitted
// gets 399, for web servers that do with each 2xx what they like. With ?plain all refusals are 401 or 403, for web
// servers that know no others. Behind any of these, &identity=AUDIENCE asks for a signed token in Ostiarius-Identity,
// and before that &request=NUMBER says that questions with the same number are about one request of a client, who must
// not know it.
type Beside struct {
	Guard *Guard
	At    string // the path, such as /door/decide
	// Target is XForwardedURI or XOriginalURI. Without it nobody may ask.
	Target string
	// Sign returns a token that says who is calling, for an audience, which goes with the method and target; nil for none.
	Sign func(t *Turn, audience, method, target string) (string, error)

	ready   answers
	repeats repeats
}

func (b *Beside) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	// The path is compared as it was sent: a server that hands on other requests for our pages need close no second spelling.
	at, how, _ := strings.Cut(r.RequestURI, "?")
	how, audience, _ := strings.Cut(how, "&identity=")
	how, number, _ := strings.Cut(how, "&request=")
	if b.Target == "" || at != b.At || !b.Guard.Front.Declared(r) {
		b.Guard.ServeHTTP(w, r)
		return
	}
	h := w.Header()
	h["Cache-Control"] = keptNowhere
	if word, ok := strings.CutPrefix(how, "answer="); ok {
		b.answer(w, word)
		return
	}
	if how == "missing" || how == "missing-typed" { // the web server has nothing there
		b.missing(&refusal{ResponseWriter: &typed{w, how == "missing-typed"}, as: http.StatusNotFound}, r)
		return
	}
	asked, err := b.read(r)
	if err != nil { // the server is not set up as it should be; nobody gets in until it is
		http.Error(w, "This cannot be decided: "+err.Error()+".", http.StatusBadRequest)
		return
	}
	if before := b.repeats.bring(number, asked, time.Now()); before != nil {
		h["Set-Cookie"] = before
	}
	b.decideFor(w, asked, how, audience, number)
}

// Decide answers a question: how is one of the words above, and for an audience, if it is not empty, it is signed who is calling.
func (b *Beside) Decide(w http.ResponseWriter, asked *http.Request, how, audience string) {
	b.decideFor(w, asked, how, audience, "")
}

func (b *Beside) decideFor(w http.ResponseWriter, asked *http.Request, how, audience, number string) {
	h := w.Header()
	h["Cache-Control"] = keptNowhere
	away, t := b.decide(w, asked)
	b.repeats.give(number, h["Set-Cookie"], time.Now())
	whole := how == "whole" || how == "whole-399"
	if away == nil {
		b.admit(h, t, how == "whole-399")
		if audience != "" && b.Sign != nil {
			token, err := b.Sign(t, audience, asked.Method, asked.RequestURI)
			if err != nil { // the server behind would believe nobody
				http.Error(w, "Who is calling cannot be signed.", http.StatusServiceUnavailable)
				return
			}
			h["Ostiarius-Identity"] = []string{token}
		}
	}
	if renewed := h["Set-Cookie"]; len(renewed) > 0 && (away == nil || !whole) { // it is for the visitor, beside those of the application
		delete(h, "Set-Cookie")
		h["Ostiarius-Set-Cookie"] = renewed
	}
	switch {
	case away == nil && how == "whole-399":
		w.WriteHeader(399)
		return
	case away == nil:
		return
	case whole:
		away.write(away.refusal(w))
		return
	}
	status := away.status
	switch {
	case away.location == "" && status < 400: // whatever it is, it is no admission
		status = http.StatusForbidden
	case away.location != "" && status < 400:
		h.Set("Ostiarius-Location", away.location)
		status = http.StatusUnauthorized
	case how == "plain" && status != http.StatusUnauthorized:
		status = http.StatusForbidden
	}
	if away.authenticate != "" && how != "plain" { // those servers hand it on beside the one of the answer
		h.Set("WWW-Authenticate", away.authenticate)
	}
	h.Set("Ostiarius-Answer", b.ready.keep(away, time.Now()))
	w.WriteHeader(status)
}

// A refusal is an answer to who is not admitted, to a web server that may take 2xx for an admission. Whatever the visitor was to
// get with such a status, they get it with 403, or 404.
type refusal struct {
	http.ResponseWriter
	as    int // 404 for what is hidden or missing, which look alike also so; else 403
	begun bool
}

func (t *turnedAway) refusal(w http.ResponseWriter) *refusal {
	if t.status == http.StatusNotFound {
		return &refusal{ResponseWriter: w, as: http.StatusNotFound}
	}
	return &refusal{ResponseWriter: w, as: http.StatusForbidden}
}

func (r *refusal) WriteHeader(status int) {
	if r.begun = true; status < 300 {
		status = r.as
	}
	r.ResponseWriter.WriteHeader(status)
}

func (r *refusal) Write(b []byte) (int, error) {
	if !r.begun {
		r.WriteHeader(r.as)
	}
	return r.ResponseWriter.Write(b)
}

var keptNowhere = []string{"no-store"}

// read returns the request that is asked about.
func (b *Beside) read(r *http.Request) (*http.Request, error) {
	one := func(name string) (string, error) {
		values := r.Header[name]
		if len(values) != 1 || values[0] == "" {
			return "", fmt.Errorf("the web server sends no %s, or several", name)
		}
		return values[0], nil
	}
	method, err := one(methodBeside[b.Target])
	if err != nil {
		return nil, err
	}
	target, err := one(b.Target)
	if err != nil {
		return nil, err
	}
	asked := *r
	asked.Method, asked.RequestURI = method, target
	asked.Body, asked.ContentLength, asked.TransferEncoding, asked.Trailer = http.NoBody, 0, nil, nil
	asked.URL = urlOf(target)
	b.Guard.Front.setHost(&asked)
	return &asked, nil
}

// urlOf reads a target. What cannot be read is rejected when it is judged; until then it only has to be something.
func urlOf(target string) *url.URL {
	if path, query, _ := strings.Cut(target, "?"); strings.HasPrefix(path, "/") && !strings.ContainsAny(path, "%#") { // as most are
		return &url.URL{Path: path, RawQuery: query}
	}
	if u, err := url.ParseRequestURI(target); err == nil {
		return u
	}
	return &url.URL{Path: "/"}
}

// A turnedAway is the answer to somebody who is not admitted, before it is written.
type turnedAway struct {
	status       int
	location     string
	authenticate string
	write        func(http.ResponseWriter)
}

// decide judges a request that is asked about, and adds to the header of w what goes with every answer, such as a renewed cookie.
// Who is admitted is not turned away.
func (b *Beside) decide(w http.ResponseWriter, r *http.Request) (*turnedAway, *Turn) {
	g := b.Guard
	house := g.House()
	turning := &turning{Context: context.WithoutCancel(r.Context())} // the answer may be asked for later
	t := &turning.turn
	t.Book = house.Book
	begun := time.Now()
	var d policy.Decision
	var err error
	switch {
	case forged(r.Header):
		t.Visitor.From = g.Front.Client(r)
		d = policy.Rejected(errForged)
	case namesTwoHosts(r):
		t.Visitor.From = g.Front.Client(r)
		d = policy.Rejected(errTwoHosts)
	default:
		d, err = g.judge(w.Header(), r, t)
	}
	if g.Took != nil {
		g.Took(time.Since(begun))
	}
	whole := r // as it is answered: of HEAD the web server leaves the text away itself, and says how long it is
	if r.Method == http.MethodHead {
		get := *r
		get.Method, whole = http.MethodGet, &get
	}
	if err != nil {
		return &turnedAway{status: laterOf(err).Status, write: func(w http.ResponseWriter) { g.unable(w, whole, house.Book, err) }}, t
	}
	_, query, _, _ := t.spell(r, d)
	reference := g.note(r, t, d)
	if d.Outcome == policy.Admit {
		if used := b.count(turning, r); used != nil {
			return used, t
		}
		return nil, t
	}
	away := g.away(r, t, d, query, reference)
	if away.Answer.Shell { // the web server has the page, and gives it out if it likes
		away.Answer = policy.Usual(t.Book, d, away.Client, query)
	}
	return &turnedAway{
		status: away.Answer.Status, location: away.Answer.Location, authenticate: away.Answer.Authenticate,
		write: func(w http.ResponseWriter) { g.turnAway(w, whole, house, turning, away, nil) },
	}, t
}

var errTwoHosts = errors.New("its target names another host than its Host field")

// namesTwoHosts reports whether the target of a request names a host, and the request another one: then nobody knows by
// which of them the web server goes (RFC 9112, section 3.2.2).
func namesTwoHosts(r *http.Request) bool {
	host, _, _ := place.SplitTarget(r.RequestURI)
	return host != "" && !strings.EqualFold(host, r.Host)
}

var errForged = errors.New("it brings header fields in which Ostiarius says who is calling; nobody else may send them")

// forged reports whether a request claims who is calling, in fields that a server behind would believe, also in spellings of their names of
// which many servers make the same variable. A web server that forgets to replace one hands on nothing false then.
func forged(h http.Header) bool {
	for name := range h {
		if len(name) >= len("Ostiarius") && strings.EqualFold(name[:len("Ostiarius")], "Ostiarius") {
			return true
		}
	}
	return false
}

// A download is counted here as if all but the last byte of a file had been delivered: how much arrives is not known. What breaks off
// can be fetched again on the same day.
const counted = 1000

// count counts a download for the passes without which it would not be admitted. What is a file is told by the end of its name. Who has
// had as many as a pass allows is answered that instead.
func (b *Beside) count(turning *turning, r *http.Request) *turnedAway {
	t := &turning.turn
	if len(t.Passes) == 0 || r.Method == http.MethodHead || r.Method == http.MethodOptions {
		return nil
	}
	switch strings.ToLower(path.Ext(t.Place.Path)) {
	case "", ".html", ".htm", ".xhtml", ".php", ".css", ".js", ".mjs":
		return nil
	}
	inner := r.WithContext(turning)
	for _, pass := range t.Passes {
		refused := false
		delivery := pass.Deliver(&nowhere{http.Header{
			"Content-Type": {"application/octet-stream"}, "Content-Length": {strconv.Itoa(counted)},
		}}, inner, func(http.ResponseWriter, *http.Request) { refused = true })
		delivery.WriteHeader(http.StatusOK)
		delivery.Write(make([]byte, counted-1))
		delivery.Finish(false)
		if refused {
			return &turnedAway{status: http.StatusForbidden, write: func(w http.ResponseWriter) {
				keepPrivate(w.Header())
				b.Guard.UsedUp(w, inner)
			}}
		}
	}
	return nil
}

// nowhere is an answer that nobody reads.
type nowhere struct{ header http.Header }

func (n *nowhere) Header() http.Header         { return n.header }
func (n *nowhere) Write(b []byte) (int, error) { return len(b), nil }
func (n *nowhere) WriteHeader(int)             {}

// admit says who is admitted, and by which door. In brief it is not said how what is not public is kept, which such servers know by
// themselves.
func (b *Beside) admit(h http.Header, t *Turn, brief bool) {
	user, roles, door := t.Identity()
	if user != "" {
		h["Ostiarius-User"], h["Ostiarius-Roles"] = []string{user}, []string{roles}
	}
	if door != "" {
		h["Ostiarius-Door"] = []string{door}
	}
	if t.Public && len(h["Set-Cookie"]) == 0 {
		h["Ostiarius-Public"] = yes
		return
	}
	if !brief {
		h["Ostiarius-Public"], h["Ostiarius-Cache-Control"], h["Ostiarius-Vary"] = no, privately, perVisitor
	}
}

var yes, no = []string{"yes"}, []string{"no"}

// Identity says who is calling, in the words in which servers behind are told: the account's name, percent-encoded, and its
// roles with those that they include, "" for nobody; and the door that decided.
func (t *Turn) Identity() (user, roles, door string) {
	if t.Visitor.SignedIn {
		// Names may have letters beyond ASCII, which fields of a header cannot carry safely.
		user, roles = url.PathEscape(t.Visitor.Account), strings.Join(t.Book.RolesOf(&t.Visitor), ", ")
	}
	if t.Door != nil {
		door = t.Door.Told()
	}
	return user, roles, door
}

// missing answers for what the web server does not find, as for what is hidden.
func (b *Beside) missing(w http.ResponseWriter, r *http.Request) {
	keepPrivate(w.Header())
	t := &Turn{Book: b.Guard.House().Book, Secure: b.Guard.Front.Secure(r)}
	b.Guard.Turned(w, r, &TurnedAway{
		Turn: t, Decision: policy.Decision{Outcome: policy.Hide}, Client: ClientOf(r.Header), Answer: policy.Answer{Status: http.StatusNotFound},
	})
}

// TypeField has the type of a refusal for web servers that take each for HTML, beside the usual field.
const TypeField = "Ostiarius-Content-Type"

// typed is an answer that has the field, if it is to.
type typed struct {
	http.ResponseWriter
	is bool
}

func (t *typed) WriteHeader(status int) {
	if t.is {
		t.Header().Set(TypeField, t.Header().Get("Content-Type"))
	}
	t.ResponseWriter.WriteHeader(status)
}

// answer gives the answer for which there is a word.
func (b *Beside) answer(w http.ResponseWriter, word string) {
	away := b.ready.take(word, time.Now())
	if away == nil {
		http.Error(w, "You cannot come in here. Please load the page again.", http.StatusForbidden)
		return
	}
	away.write(away.refusal(w))
}

// answers are those that were found and not asked for yet. A web server asks at once, so they are few, and soon forgotten.
type answers struct {
	mu    sync.Mutex
	kept  map[string]*readyAnswer
	order []string // the oldest first
}

type readyAnswer struct {
	*turnedAway
	until time.Time
}

// What is kept at most, and for how long.
const (
	mostReady  = 4096
	readyLasts = 10 * time.Second
)

// keep keeps an answer, and returns the word for it.
func (a *answers) keep(away *turnedAway, now time.Time) string {
	word := rand.Text()
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.kept == nil {
		a.kept = map[string]*readyAnswer{}
	}
	for len(a.order) > 0 {
		oldest, there := a.kept[a.order[0]]
		if there && len(a.order) < mostReady && now.Before(oldest.until) {
			break
		}
		delete(a.kept, a.order[0])
		a.order = a.order[1:]
	}
	a.kept[word], a.order = &readyAnswer{away, now.Add(readyLasts)}, append(a.order, word)
	return word
}

// take returns the answer for a word, once; nil if there is none.
func (a *answers) take(word string, now time.Time) *turnedAway {
	a.mu.Lock()
	defer a.mu.Unlock()
	kept := a.kept[word]
	delete(a.kept, word)
	if kept == nil || !now.Before(kept.until) {
		return nil
	}
	return kept.turnedAway
}

type socketKey struct{}

// OnSocket marks the connections of a Unix socket at which only servers in front and beside are: whoever may write to it is a declared
// peer.
func OnSocket(ctx context.Context) context.Context { return context.WithValue(ctx, socketKey{}, true) }

func onSocket(r *http.Request, peer netip.Addr) bool {
	return !peer.IsValid() && r.Context().Value(socketKey{}) != nil
}
