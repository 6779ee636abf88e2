// Package guard stands in front of a site: it reads each request as a place, finds out
// who asks, has the Book decide, and answers or hands the request on.
//
// A Guard is an http.Handler, and the way to put Ostiarius into a Go program of one's
// own.
package guard

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"ostiarius/core/accesskey"
	"ostiarius/core/keyring"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/throttle"
)

// A Guard lets admitted requests through to what is behind it. Its fields must be set, but where they
// say what it is like without.
type Guard struct {
	// House returns the policy now in force with the site behind it. A request is judged
	// and answered by one House from beginning to end.
	House func() *House
	// Who returns the visitor, as far as the request proves it, and may add a cookie to the header of
	// the answer. An error means that nobody can be recognised at the moment.
	Who func(http.Header, *http.Request) (policy.Visitor, error)
	// Again returns the visitor of a request under way, as Who does for a new one, and sets
	// nothing. The session counts as in use only if used.
	Again func(r *http.Request, used bool) (policy.Visitor, error)
	// Present takes the Authorization headers of a request for a place that asks for
	// credentials of HTTP Basic, adds to the visitor of the turn what they prove, and reports whether they
	// are such credentials. What is wrong proves nothing. The error is one of package basic,
	// *Later, or says that nobody can be recognised at the moment. It may be nil.
	Present func(r *http.Request, headers []string, want policy.Wanted, t *Turn) (ours bool, err error)
	// Unlocked adds to the visitor of the turn what cookies show beside the session, at a place that asks
	// for shared passwords or passes. The error means that nobody can be recognised at the moment. It may be nil.
	Unlocked func(r *http.Request, want policy.Wanted, t *Turn) error
	// Walking returns the walk through the site that a request belongs to, nil for none, and may add a cookie to the header of the
	// answer. It may be nil.
	Walking func(http.Header, *http.Request, *policy.Book) *Walk
	// UsedUp answers in the place of a download that the pass of the visitor no longer has.
	UsedUp func(w http.ResponseWriter, r *http.Request)
	// Note is told what each request came to, before it is answered, and returns the
	// reference under which that can be found again, "" for none. It may be nil.
	Note func(r *http.Request, t *Turn, outcome policy.Outcome) (reference string)
	// Took is told how long it took to judge a request; nil to tell nobody.
	Took func(time.Duration)
	// Own answers the admitted requests for Ostiarius's own pages, below the prefix.
	Own http.Handler
	// Apart reports whether a request came to an origin where the site is not, so that Own answers for
	// everything; nil for none.
	Apart func(*http.Request) bool
	// Turned answers the requests that are not admitted: with the answer's status, and
	// what the client can use to understand it.
	Turned func(w http.ResponseWriter, r *http.Request, t *TurnedAway)
	// Unable answers where nobody can be recognised at the moment: with the status, to be tried again after a while, and nothing
	// that the site would say. Without it the answer is plain text.
	Unable func(w http.ResponseWriter, r *http.Request, book *policy.Book, later *Later)
	// Front tells what stands in front, and what is believed of it; nil for nothing.
	Front *Front
	// BodyIdle is the longest time that a client may send nothing of a body; 30 seconds if
	// zero.
	BodyIdle time.Duration
	// Bodies bounds how many requests are under way whose bodies have not come yet; nil for no
	// bound.
	Bodies *throttle.Bound
}

// A House is a policy and the site that it guards. They are swapped together.
type House struct {
	Book    *policy.Book
	Version int64        // of the policy
	Site    http.Handler // answers the admitted requests for places of the site
	// Shell answers with the page of an application that everybody may have; nil if there is none.
	Shell http.Handler
}

// A Turn is what the Guard knows of a request, for the handlers behind it. There is one for
// each request, so it has no more than they need.
type Turn struct {
	Book    *policy.Book
	Place   place.Place  // what was judged; without a path if the request was rejected
	Door    *policy.Door // that decided; nil if the request was rejected
	Visitor policy.Visitor
	Address string // of the page asked for, percent-encoded, with its query; "" if rejected
	// Public says that everybody is admitted here, so that the answer is no secret.
	Public bool
	// Secure says that the client came over HTTPS.
	Secure bool
	// Passes are those that the visitor holds here: while it is judged all of them, afterwards those
	// without which they would not be admitted.
	Passes []Pass
	// Over says that the visitor brings credentials of HTTP Basic that are right, and open nothing any more; nil if not.
	Over *keyring.Over
	// DropCredentials says that the Authorization header was meant for the door, and not for
	// what is behind it.
	DropCredentials bool
	// Walk is the walk as somebody else that the request belongs to; nil for none.
	Walk *Walk
}

// A Pass is one that a visitor holds at a place.
type Pass interface {
	Kind() string
	// Use notes that the pass is used from an address, and reports whether it still opens the place.
	Use(ctx context.Context, from netip.Addr) (bool, error)
	// Deliver returns what the answer is written to, so that downloads are counted. What can be downloaded
	// no more is answered by refuse.
	Deliver(w http.ResponseWriter, r *http.Request, refuse func(http.ResponseWriter, *http.Request)) Delivery
}

// A Delivery is an answer to the holder of a pass.
type Delivery interface {
	http.ResponseWriter
	// Finish is called when it has been written, with whether to its end.
	Finish(whole bool)
}

// A TurnedAway is a Turn that was not admitted.
type TurnedAway struct {
	*Turn
	Decision policy.Decision
	Client   policy.Client
	Answer   policy.Answer
	// Reference is the number under which a refusal is recorded.
	Reference string
}

// SetHeaders sets the fields that the policy has for answers of the site, but for those
// that are there.
func (t *Turn) SetHeaders(h http.Header) {
	for i := range t.Book.Headers {
		field := &t.Book.Headers[i]
		if _, there := h[field.Name]; !there && field.Value != "" {
			h[field.Name] = field.Values()
		}
	}
}

// Later is the error for somebody who has to wait before the next try.
type Later struct {
	Status int // 429 or 503
	Wait   time.Duration
	Text   string // for the person
	Busy   bool   // it is because of many others
}

func (l *Later) Error() string { return l.Text }

// The keys of a turning in its context.
type turnKey struct{}
type turningKey struct{}

// A turning is a request that is handed on, its context, and its Turn, in one piece.
type turning struct {
	context.Context
	turn    Turn
	request http.Request
}

func (t *turning) Value(key any) any {
	switch key.(type) {
	case turnKey:
		return &t.turn
	case turningKey:
		return t
	}
	return t.Context.Value(key)
}

// TurnOf returns what became of a request that a Guard has handed on, and nil for any
// other request.
func TurnOf(r *http.Request) *Turn { return TurnIn(r.Context()) }

// TurnIn is TurnOf for the context of a request.
func TurnIn(ctx context.Context) *Turn {
	t, _ := ctx.Value(turnKey{}).(*Turn)
	return t
}

func (g *Guard) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	house := g.House()
	if endsConnection(r) {
		w.Header().Set("Connection", "close")
	}
	g.Front.setHost(r)
	body := g.receive(w, r)
	if body != nil {
		w = body
		defer body.finish()
	}
	turning := &turning{Context: r.Context()}
	turning.turn.Book = house.Book
	var begun time.Time
	if g.Took != nil {
		begun = time.Now()
	}
	d, err := g.judge(w.Header(), r, &turning.turn)
	if g.Took != nil {
		g.Took(time.Since(begun))
	}
	if err != nil {
		// Fail closed: without the records nobody is known, and a stranger's answer
		// would be wrong for people who are signed in.
		g.unable(w, r, house.Book, err)
		return
	}
	g.answer(w, r, house, turning, d, body)
}

// answer answers a request that was judged, or has it answered by what is behind.
func (g *Guard) answer(w http.ResponseWriter, r *http.Request, house *House, turning *turning, d policy.Decision, body *body) {
	t, book := &turning.turn, house.Book
	path, query, address, asItStands := t.spell(r, d)
	reference := g.note(r, t, d)
	if d.Outcome != policy.Admit {
		g.turnAway(w, r, house, turning, g.away(r, t, d, query, reference), body)
		return
	}

	// What was judged is what is served: the source sees the canonical path and nothing
	// of how it was spelled.
	inner := &turning.request
	*inner = *r.WithContext(turning)
	if !asItStands {
		inner.URL = &url.URL{Path: address, RawQuery: query, ForceQuery: r.URL.ForceQuery}
	}
	inner.RequestURI = t.Address
	if body != nil {
		if !g.hold(body, t) {
			g.unable(w, r, book, tooMuch)
			return
		}
		inner.Body = body
	}
	if book.IsOwn(d.Place) {
		if book.Rules.FoldCase {
			inner.URL = &url.URL{Path: unfolded(path), RawQuery: query, ForceQuery: r.URL.ForceQuery}
		}
		g.Own.ServeHTTP(w, inner)
		return
	}
	if g.Apart != nil && g.Apart(inner) {
		g.Own.ServeHTTP(w, inner)
		return
	}
	if h := w.Header(); !d.Public || h.Get("Set-Cookie") != "" {
		keepPrivate(h)
		h["Vary"] = perVisitor // for caches that do not keep to the rule
	}
	if len(t.Passes) > 0 {
		g.deliver(w, inner, house, t.Passes)
		return
	}
	house.Site.ServeHTTP(w, inner)
}

// spell notes the address that was judged, and returns the path and the query as they were sent, the canonical address, and whether
// nothing of it has to be spelled otherwise.
func (t *Turn) spell(r *http.Request, d policy.Decision) (path, query, address string, asItStands bool) {
	_, path, query = place.SplitTarget(r.RequestURI)
	address = d.Place.Address()
	asItStands = address == path && address == r.URL.Path && r.URL.RawPath == ""
	switch {
	case d.Outcome == policy.Reject:
	case asItStands && strings.HasPrefix(r.RequestURI, "/"):
		t.Address = r.RequestURI
	default:
		t.Address = (&url.URL{Path: address, RawQuery: query}).RequestURI()
	}
	return path, query, address, asItStands
}

// note notes what a request that was judged came to, and returns the reference under which that can be found.
func (g *Guard) note(r *http.Request, t *Turn, d policy.Decision) (reference string) {
	if g.Note == nil {
		return ""
	}
	return g.Note(r, t, d.Outcome)
}

// away is what a request comes to that is not admitted.
func (g *Guard) away(r *http.Request, t *Turn, d policy.Decision, query, reference string) *TurnedAway {
	away := &TurnedAway{Turn: t, Decision: d, Client: clientAt(r.Header, d), Reference: reference}
	away.Answer = t.Book.Answer(d, away.Client, query)
	if _, ours := accesskey.In(r.Header["Authorization"]); ours && d.Outcome == policy.Challenge && !t.Visitor.SignedIn {
		// An access key that counts no longer, or none (RFC 6750, section 3.1).
		away.Client, away.Answer = policy.API, policy.Answer{
			Status: http.StatusUnauthorized, Authenticate: "Bearer realm=" + policy.Quote(t.Book.Site) + `, error="invalid_token"`,
		}
	}
	if t.Over != nil && away.Answer.Status == http.StatusUnauthorized && d.Proof.Basic {
		// Whoever has the right password would be asked for it again and again (RFC 9110, section 15.5.4).
		away.Answer = policy.Answer{Status: http.StatusForbidden}
	}
	return away
}

// TurnAway answers a request that was handed on, and that what is behind does not admit after all, as the doors would.
func (g *Guard) TurnAway(w http.ResponseWriter, r *http.Request, d policy.Decision) {
	was, ok := r.Context().Value(turningKey{}).(*turning)
	if !ok {
		http.Error(w, "This is not for you.", http.StatusForbidden)
		return
	}
	t := &was.turn
	t.Door = d.Door
	_, _, query := place.SplitTarget(was.request.RequestURI)
	g.turnAway(w, r, g.House(), was, g.away(r, t, d, query, g.note(r, t, d)), nil)
}

// tooMuch is for a body for which there is no room.
var tooMuch = &Later{Status: http.StatusServiceUnavailable, Wait: time.Second, Busy: true,
	Text: "Too much is being sent at the moment. Please try again."}

// turnAway answers it.
func (g *Guard) turnAway(w http.ResponseWriter, r *http.Request, house *House, turning *turning, away *TurnedAway, body *body) {
	keepPrivate(w.Header())
	if away.Answer.Shell && house.Shell != nil {
		house.Shell.ServeHTTP(w, r.WithContext(turning))
		return
	}
	if away.Answer.Authenticate != "" {
		w.Header().Set("WWW-Authenticate", away.Answer.Authenticate)
	}
	if body != nil {
		r.Body = http.NoBody
		switch hidden := away.Decision.Outcome == policy.Hide; {
		case !hidden && away.Decision.Proof.Kind != policy.ProveAgain:
		case g.hold(body, away.Turn): // what somebody has typed may be kept for them; what is missing is told about all of a request
			r.Body = body
		case hidden:
			g.unable(w, r, away.Book, tooMuch)
			return
		}
	}
	g.Turned(w, r, away)
}

// deliver has a request answered for the holder of passes, each of which counts it.
func (g *Guard) deliver(w http.ResponseWriter, r *http.Request, house *House, passes []Pass) {
	counted := passes[0].Deliver(w, r, g.UsedUp)
	whole := false
	defer func() { counted.Finish(whole) }() // also if what is behind breaks off
	if len(passes) > 1 {
		g.deliver(counted, r, house, passes[1:])
	} else {
		house.Site.ServeHTTP(counted, r)
	}
	whole = true
}

// hold counts a body that is to come, until it is over, and reports whether there was room.
func (g *Guard) hold(b *body, t *Turn) bool {
	if g.Bodies == nil {
		return true
	}
	network := throttle.NetworkOf(t.Visitor.From)
	if !g.Bodies.Take(network, false) {
		return false
	}
	b.done = func() { g.Bodies.Give(network) }
	return true
}

func laterOf(err error) *Later {
	var later *Later
	if errors.As(err, &later) {
		return later
	}
	return &Later{
		Status: http.StatusServiceUnavailable, Wait: 2 * time.Second, Text: "The records cannot be read at the moment. Please try again.",
	}
}

// unable answers where nobody can be recognised at the moment.
func (g *Guard) unable(w http.ResponseWriter, r *http.Request, book *policy.Book, err error) {
	keepPrivate(w.Header())
	later := laterOf(err)
	if later.Wait > 0 {
		w.Header().Set("Retry-After", strconv.Itoa(int((later.Wait+time.Second-1)/time.Second)))
	}
	if g.Unable != nil {
		g.Unable(w, r, book, later)
		return
	}
	http.Error(w, later.Text, later.Status)
}

// unfolded returns the canonical path of an own page in the letters in which it was asked
// for, also on a site that does not distinguish them: files of the console and names in
// the API do. All that is served there in lower case has been judged as that.
func unfolded(path string) string {
	canonical, slash, err := place.Canonical(path, place.Rules{Semicolons: true})
	if err != nil {
		return "/" // the same path could be read before
	}
	return place.Place{Path: canonical, Slash: slash}.Address()
}

// keepPrivate keeps an answer out of caches, also the browser's own: Back after signing
// out shows nothing (RFC 9111, section 5.2.2.5).
func keepPrivate(h http.Header) { h["Cache-Control"] = privately }

// KeepPrivate is keepPrivate for what is behind.
func KeepPrivate(h http.Header) { keepPrivate(h) }

var privately, perVisitor = []string{"private, no-store"}, []string{"Cookie, Authorization"}

// Next returns next if people may be led on to it: a place on this site, as OwnPath has it, or an address at one of the origins that
// the policy names, in full. It returns "" for everything else.
func Next(book *policy.Book, next string) string {
	for _, origin := range book.Origins {
		rest, is := strings.CutPrefix(next, origin)
		if !is || rest != "" && rest[0] != '/' { // of another port, or another host that begins alike
			continue
		}
		path := ownPath(place.Rules{Semicolons: true}, cmp.Or(rest, "/"))
		if path == "" {
			return ""
		}
		return origin + path
	}
	return OwnPath(book, next)
}

// OwnPath returns next if it is a place on this site that people may be led to, in its
// canonical form with its query, and "" otherwise. Whatever could lead elsewhere or be
// read in two ways is none: another host, a scheme, a backslash, control characters.
func OwnPath(book *policy.Book, next string) string { return ownPath(book.Rules, next) }

func ownPath(rules place.Rules, next string) string {
	path, query, hasQuery := strings.Cut(next, "?")
	if len(next) > place.MaxPath || strings.HasPrefix(next, "//") {
		return ""
	}
	canonical, slash, err := place.Canonical(path, rules)
	if err != nil {
		return ""
	}
	for i := 0; i < len(query); i++ {
		if c := query[i]; c <= 0x20 || c >= 0x7f || c == '\\' || c == '#' || c == '"' || c == '<' || c == '>' {
			return ""
		}
	}
	address := (&url.URL{Path: place.Place{Path: canonical, Slash: slash}.Address()}).EscapedPath()
	if hasQuery {
		address += "?" + query
	}
	return address
}
