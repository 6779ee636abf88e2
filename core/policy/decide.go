package policy

import (
	"slices"
	"strings"
	"time"

	"ostiarius/core/factor"
	"ostiarius/core/place"
)

// An Outcome is what a request comes to.
type Outcome string

const (
	Admit     Outcome = "admit"
	Challenge Outcome = "challenge" // something can still be proven
	Refuse    Outcome = "refuse"    // known, and not allowed
	Hide      Outcome = "hide"      // as if nothing were there
	Reject    Outcome = "reject"    // the request is malformed or ambiguous
)

// Outcomes are all outcomes.
var Outcomes = [...]Outcome{Admit, Challenge, Refuse, Hide, Reject}

// A Request is what a decision is about.
type Request struct {
	Method string // as sent
	Host   string // the Host header, or :authority; may have a port
	Path   string // the path of the request target as sent, percent-encoded, without the query
}

// A Decision is what the Book says about one request of one visitor.
type Decision struct {
	Outcome Outcome
	Place   place.Place // what was judged; without a path if the request was rejected
	Door    *Door       // the door that decided; the Book's Unlisted when none covers the place; nil when rejected
	Pass    string      // of a challenge: the kind of pass that alone would lead in; "" for none
	Public  bool        // of an admission: everybody is admitted here, so the answer is no secret
	Proof   Proof       // of a challenge: what is asked for next
	Instead Instead     // what the door says otherwise, if that applies
	Fault   error       // of a rejection: why
}

// A Proof is one thing a visitor can be asked for.
type Proof struct {
	Kind  ProofKind
	Name  string // of an unlock: the shared password or pass; of a keyring: its name; of factors: the words for them, any one of which will do
	Basic bool   // asked for with HTTP Basic
	Realm string // of HTTP Basic
	// Within is how recently a factor has to be shown; 0 for any time.
	Within time.Duration
}

// A ProofKind says how something is proven.
type ProofKind string

const (
	ProveSignIn  ProofKind = "sign-in"
	ProveAgain   ProofKind = "prove-again"
	ProveFactor  ProofKind = "factor" // beside, or once more
	ProveShared  ProofKind = "unlock"
	ProvePass    ProofKind = "pass"
	ProveKeyring ProofKind = "keyring"
)

// An Asked is a request as it was read: a place, and the doors that decide about it.
type Asked struct {
	Place place.Place
	n     int
	few   [8]*Door
	many  []*Door // instead, if they are more
}

// Doors returns the doors that decide, in file order. Who calls changes nothing of them.
func (a *Asked) Doors() []*Door {
	if a.many != nil {
		return a.many
	}
	return a.few[:a.n]
}

// Read is the first of three steps to a decision. It reads a request into a place, and finds the
// doors that decide about it: of those that cover the place the ones that contain no other
// covering door, or Unlisted where none does; and all checks that cover it. Below the prefix of Ostiarius's own pages only the
// built-in doors are asked. The error says why the request is malformed or ambiguous; it is then to
// be rejected, whoever sends it.
func (b *Book) Read(r Request) (a Asked, err error) {
	if a.Place, err = place.Read(r.Method, r.Host, r.Path, b.Rules); err != nil {
		return a, err
	}
	var buffer [16]int32
	doors, counting := b.counting(&a.Place, buffer[:0])
	switch {
	case len(counting) == 0:
		a.few[0], a.n = &b.Unlisted, 1
		a.with(b.checksAt(&a.Place))
		return a, nil
	case len(counting) > 1:
		slices.Sort(counting)
	}
	if a.n = len(counting); a.n > len(a.few) {
		a.many = make([]*Door, a.n)
		for at, i := range counting {
			a.many[at] = &doors[i]
		}
		a.with(b.checksAt(&a.Place))
		return a, nil
	}
	for at, i := range counting {
		a.few[at] = &doors[i]
	}
	a.with(b.checksAt(&a.Place))
	return a, nil
}

// with adds checks to the doors that decide.
func (a *Asked) with(checks []*Door) {
	if len(checks) == 0 {
		return
	}
	a.many = append(slices.Clone(a.Doors()), checks...)
}

// Rejected is the decision about a request that could not be read, or that brings what could not.
func Rejected(fault error) Decision { return Decision{Outcome: Reject, Fault: fault} }

// Decide takes all three steps for a visitor who is known already. Every tool that says what would
// happen asks this function; the service takes the same steps, and finds out between them who asks:
// Read, Asked.Wanted, Judge.
func (b *Book) Decide(r Request, v *Visitor) Decision {
	asked, err := b.Read(r)
	if err != nil {
		return Rejected(err)
	}
	return b.Judge(asked.Place, asked.Doors(), v)
}

// MostKeyrings is the most keyrings that credentials are compared with at one place, since each
// comparison is work on purpose; by those beyond, a door stays closed.
const MostKeyrings = 4

// Wanted says what can be shown at a place besides a session.
type Wanted struct {
	Accounts bool     // an account, with HTTP Basic
	Keyrings []string // that credentials of HTTP Basic are in one of these
	Passes   []string // a pass of one of these kinds, with HTTP Basic or by a cookie
	Shared   []string // that one of these was unlocked, by a cookie
	Forward  bool     // what is behind is given credentials of HTTP Basic too
}

// Any reports whether credentials of HTTP Basic can prove anything there.
func (w *Wanted) Any() bool { return w.Accounts || len(w.Keyrings) > 0 || len(w.Passes) > 0 }

// Wanted is the second step: what can be shown there.
func (a *Asked) Wanted() Wanted {
	w := Wanted{Forward: true}
	for _, d := range a.Doors() {
		w.Accounts = w.Accounts || d.Basic
		w.Forward = w.Forward && d.ForwardCredentials
		w.Keyrings = with(w.Keyrings, d.keyrings)
		w.Passes = with(w.Passes, d.passes)
		w.Shared = with(w.Shared, d.shared)
	}
	return w
}

// with returns names with more of them, each once. Neither list is changed.
func with(names, more []string) []string {
	if names == nil {
		return more
	}
	for _, name := range more {
		if !slices.Contains(names, name) {
			names = append(slices.Clip(names), name)
		}
	}
	return names
}

// Judge is the last step: it decides about a place by the doors given, which are those that Read
// finds, or what it would find if the policy had other doors. All of them must admit.
func (b *Book) Judge(p place.Place, deciding []*Door, v *Visitor) Decision {
	shut := 0
	for _, door := range deciding {
		if !b.admits(door, v) {
			shut++
		}
	}
	if shut == 0 {
		public := !slices.ContainsFunc(deciding, func(d *Door) bool { return !d.public })
		return Decision{Outcome: Admit, Place: p, Door: deciding[0], Public: public}
	}
	closed := deciding
	if shut < len(deciding) {
		closed = slices.DeleteFunc(slices.Clone(deciding), func(d *Door) bool { return b.admits(d, v) })
	}
	return b.turnAway(p, closed, v)
}

// Admits reports whether all doors that decide admit the visitor: it is Judge for who needs to know no more.
func (b *Book) Admits(deciding []*Door, v *Visitor) bool {
	return !slices.ContainsFunc(deciding, func(d *Door) bool { return !b.admits(d, v) })
}

// counting returns the doors that decide about p, as indexes into the doors returned
// with them.
func (b *Book) counting(p *place.Place, buffer []int32) ([]Door, []int32) {
	if b.IsOwn(*p) {
		return b.own, b.ownMatch.MostSpecific(buffer, p)
	}
	return b.Doors, b.matcher.MostSpecific(buffer, p)
}

func (b *Book) admits(door *Door, v *Visitor) bool {
	for _, w := range door.ways {
		if b.walks(w, v) {
			return true
		}
	}
	return false
}

func (b *Book) walks(w way, v *Visitor) bool {
	for _, want := range w {
		if !b.shows(v, want) {
			return false
		}
	}
	return true
}

// shows reports whether the visitor shows the one thing that is wanted. What is not known is not shown.
func (b *Book) shows(v *Visitor, want *Demand) bool {
	return want.rule != nil && want.rule.shows(v, want)
}

// turnAway decides what to do with a visitor whom at least one of the doors that count
// does not admit.
//
// The visitor is asked for something only if that can lead in: there is a set of proofs
// which this visitor could still give and which opens all closed doors. The smallest
// such set is chosen, and its first proof asked for. Otherwise the visitor is refused.
func (b *Book) turnAway(p place.Place, closed []*Door, v *Visitor) Decision {
	d := Decision{Outcome: Refuse, Place: p, Door: closed[0]}
	missing, ok := b.cheapest(closed, v)
	if ok {
		d.Outcome = Challenge
		d.Proof, d.Door = b.next(missing, closed, v)
		d.Pass = b.byPass(closed, v)
	} else {
		for _, door := range closed {
			if alone := [1]*Door{door}; !b.opens(alone[:], v) {
				d.Door = door // the one that nothing opens
				break
			}
		}
	}
	// What the doors say otherwise. Hiding wins over everything: one door that must not
	// be seen is enough.
	for _, door := range closed {
		instead := door.instead(d.Outcome, v)
		if instead.Hide {
			d.Outcome, d.Door, d.Instead, d.Proof, d.Pass = Hide, door, instead, Proof{}, ""
			return d
		}
	}
	d.Instead = d.Door.instead(d.Outcome, v)
	return d
}

// instead returns what the door says instead of the usual answer. A visitor who is not
// signed in gets what is said to the anonymous, whether or not something could still be
// proven; what is said to the refused is for everybody who is refused.
func (d *Door) instead(outcome Outcome, v *Visitor) Instead {
	if !v.SignedIn && !d.Otherwise.Anonymous.none() {
		return d.Otherwise.Anonymous
	}
	if outcome == Refuse {
		return d.Otherwise.Refused
	}
	return Instead{}
}

// byPass returns the kind of pass that would lead the visitor in if they had nothing else besides, "" for none. It
// is what a program is told that can show one with HTTP Basic.
func (b *Book) byPass(closed []*Door, v *Visitor) string {
	for _, kind := range closed[0].passes { // what opens all of them opens the first
		holder := *v
		holder.Passes = append(slices.Clip(v.Passes), kind)
		if !slices.ContainsFunc(closed, func(d *Door) bool { return !b.admits(d, &holder) }) {
			return kind
		}
	}
	return ""
}

// A need is a set of proofs that are still missing.
type need struct {
	signIn   bool
	users    []string // nil, or the accounts one of which must sign in
	again    bool
	factors  factor.Set
	shared   []string
	passes   []string
	keyrings []string
}

// cost orders needs: fewer proofs first; then those that are less work. Typing one's
// own password again is less than signing in, that is less than a password that has to
// be looked up, that less than credentials in a browser's own dialogue. Where a pass would
// do, most who come have one and no account; so it is asked for before an account, on a
// page that leads on to signing in.
func (n *need) cost(v *Visitor) int {
	cost := 100 * (len(n.shared) + len(n.passes) + len(n.keyrings))
	cost += 4*len(n.shared) + 5*len(n.keyrings) + 2*len(n.passes)
	if n.signIn {
		cost += 103
	}
	if n.again && !n.factors.Opens() {
		cost += 101
	}
	for _, k := range n.factors.Kinds() {
		if (v.Enrolled | factor.Of(factor.Password)).Has(k) {
			cost += 102
		} else {
			cost += 150 // it has to be set up first, which may take another device
		}
	}
	return cost
}

// with returns what is missing when also w is to be walked, and false if this visitor
// cannot ever walk it.
func (b *Book) with(n need, w way, v *Visitor) (need, bool) {
	for _, want := range w {
		if b.shows(v, want) {
			continue
		}
		if want.rule == nil {
			return n, false
		}
		var can bool
		if n, can = want.rule.needs(n, v, want); !can {
			return n, false
		}
	}
	return n, true
}

// cheapest returns the smallest need that opens all closed doors, and false if nothing
// this visitor could prove does.
func (b *Book) cheapest(closed []*Door, v *Visitor) (need, bool) {
	var s search
	b.try(&s, closed, need{}, v)
	return s.best, s.found
}

func (b *Book) opens(closed []*Door, v *Visitor) bool {
	_, ok := b.cheapest(closed, v)
	return ok
}

type search struct {
	best  need
	found bool
	steps int
}

// try adds the ways of the first door to n, each in turn, and goes on with the others;
// it gives up on what costs more than the best need found.
func (b *Book) try(s *search, doors []*Door, n need, v *Visitor) {
	if s.found && n.cost(v) >= s.best.cost(v) {
		return
	}
	if s.steps++; s.found && s.steps > 20000 {
		return // enough: a need has been found, if perhaps not the smallest
	}
	if len(doors) == 0 {
		s.best, s.found = n, true
		return
	}
	for _, w := range doors[0].ways {
		if more, ok := b.with(n, w, v); ok {
			b.try(s, doors[1:], more, v)
		}
	}
}

// factorFor returns the proof of the first demand for a factor that the visitor does not meet, and its door.
func (b *Book) factorFor(closed []*Door, v *Visitor) (Proof, *Door) {
	for _, door := range closed {
		for _, w := range door.ways {
			for _, want := range w {
				switch {
				case b.shows(v, want):
				case want.Kind == Factor:
					return Proof{Kind: ProveFactor, Name: strings.Join(want.Names, " "), Within: withinIn(w)}, door
				case want.Kind == ProofWithin && want.Factors != nil:
					return Proof{Kind: ProveFactor, Name: strings.Join(want.Factors, " "), Within: want.Within}, door
				}
			}
		}
	}
	return Proof{Kind: ProveFactor}, closed[0]
}

// withinIn returns within what time a factor has to be shown on a way; 0 for any.
func withinIn(w way) time.Duration {
	for _, want := range w {
		if want.Kind == ProofWithin && want.Factors != nil {
			return want.Within
		}
	}
	return 0
}

// next returns the proof to ask for first, and the door that asks for it. Layers come
// from the outside in: the keyring, then the account, then what only adds to it.
func (b *Book) next(n need, closed []*Door, v *Visitor) (Proof, *Door) {
	asks := func(by ProofKind) *Door {
		for _, door := range closed {
			for _, w := range door.ways {
				for _, want := range w {
					if want.rule != nil && want.rule.provenBy(by) && !b.shows(v, want) {
						return door
					}
				}
			}
		}
		return closed[0]
	}
	switch {
	case len(n.keyrings) > 0:
		name := n.keyrings[0]
		proof := Proof{Kind: ProveKeyring, Name: name, Basic: true, Realm: name}
		for _, k := range b.Keyrings {
			if k.Name == name {
				proof.Realm = k.Realm
			}
		}
		return proof, asks(ProveKeyring)
	case n.signIn:
		door := asks(ProveSignIn)
		proof := Proof{Kind: ProveSignIn, Basic: door.Basic}
		if door.Basic {
			proof.Realm = door.Realm
		}
		return proof, door
	case n.again && !n.factors.Opens():
		door := asks(ProveAgain)
		proof := Proof{Kind: ProveAgain, Basic: door.Basic}
		if door.Basic {
			proof.Realm = door.Realm
		}
		return proof, door
	case n.factors != 0:
		return b.factorFor(closed, v)
	case len(n.shared) > 0:
		return Proof{Kind: ProveShared, Name: n.shared[0]}, asks(ProveShared)
	default:
		return Proof{Kind: ProvePass, Name: n.passes[0]}, asks(ProvePass)
	}
}
