package guard

import (
	"context"
	"errors"
	"maps"
	"net/http"
	"slices"

	"ostiarius/core/basic"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// A request is judged and then answered. To judge writes no answer, and can be used apart: what a
// request under way would come to now, and what it would come to if it were sent here.

// judge judges a request under t.Book, and notes in t what was found: a place, who asks, and the door
// that decides. What the answer needs besides, such as the cookie of a session that was renewed, is
// added to h. A request that cannot be read is rejected before anybody is asked who sends it. The
// error means that nobody can be recognised at the moment.
func (g *Guard) judge(h http.Header, r *http.Request, t *Turn) (policy.Decision, error) {
	asked, fault := t.Book.Read(requestOf(r))
	t.Secure = g.Front.Secure(r)
	if fault == nil && r.Host == "" && !t.Book.IsOwn(asked.Place) {
		fault = errNoHost
	}
	if fault != nil {
		t.Visitor.From = g.Front.Client(r)
		return policy.Rejected(fault), nil
	}
	if t.Walk = g.walking(h, r, &asked, t); t.Walk != nil {
		return g.judgeWalk(r, &asked, t), nil
	}
	v, err := g.Who(h, r)
	if err != nil {
		return policy.Decision{}, err
	}
	t.Visitor = v
	t.Visitor.From = g.Front.Client(r)
	d, err := g.decide(r, &asked, t)
	if err == nil && len(t.Passes) > 0 && d.Outcome == policy.Admit {
		d, err = g.use(r, &asked, t, d)
	}
	return d, err
}

// errNoHost is why a request is rejected that names no host: what is behind, or the web server that asks, would choose
// one, perhaps with other doors (RFC 9110, section 7.2). Our own pages are the same at every host, and are asked for so
// by programs that look whether we are there.
var errNoHost = errors.New("the request names no host")

// use notes the use of the passes by which somebody is admitted. Who would be admitted without them uses none. A pass
// that opens nothing any more by being used leaves its holder outside.
func (g *Guard) use(r *http.Request, asked *policy.Asked, t *Turn, d policy.Decision) (policy.Decision, error) {
	held := t.Visitor.Passes
	t.Visitor.Passes = nil
	if t.Book.Admits(asked.Doors(), &t.Visitor) {
		t.Visitor.Passes, t.Passes = held, nil
		return d, nil
	}
	closed := 0
	for i, pass := range t.Passes {
		open, err := pass.Use(r.Context(), t.Visitor.From)
		if err != nil {
			return d, err
		}
		if !open {
			t.Passes[i] = nil
			closed++
		}
	}
	t.Visitor.Passes = held
	if closed == 0 {
		return d, nil
	}
	t.Passes = slices.DeleteFunc(t.Passes, func(pass Pass) bool { return pass == nil })
	t.Visitor.Passes = nil
	for _, pass := range t.Passes {
		t.Visitor.Passes = append(t.Visitor.Passes, pass.Kind())
	}
	d = t.Book.Judge(asked.Place, asked.Doors(), &t.Visitor)
	t.Place, t.Door, t.Public = d.Place, d.Door, d.Public
	return d, nil
}

func requestOf(r *http.Request) policy.Request {
	_, path, _ := place.SplitTarget(r.RequestURI) // net/http has set r.Host already
	return policy.Request{Method: r.Method, Host: r.Host, Path: path}
}

// decide has the Book judge about what was asked. The Authorization header is read where the doors
// ask for credentials of HTTP Basic, and is a fault if it cannot be read without guessing; elsewhere
// it is the business of what is behind.
func (g *Guard) decide(r *http.Request, asked *policy.Asked, t *Turn) (d policy.Decision, err error) {
	want := asked.Wanted()
	t.Place = asked.Place
	if values := r.Header["Authorization"]; len(values) > 0 && g.Present != nil && want.Any() {
		ours, err := g.Present(r, values, want, t)
		t.DropCredentials = ours && !want.Forward // another scheme, such as Bearer, is not meant for the door
		switch {
		case errors.Is(err, basic.ErrSeveral) || errors.Is(err, basic.ErrMalformed):
			d = policy.Rejected(err)
		case err != nil:
			return d, err
		}
	}
	if (len(want.Shared) > 0 || len(want.Passes) > 0) && g.Unlocked != nil && d.Outcome == "" {
		if err := g.Unlocked(r, want, t); err != nil {
			return d, err
		}
	}
	if d.Outcome == "" {
		d = t.Book.Judge(asked.Place, asked.Doors(), &t.Visitor)
	}
	t.Place, t.Door, t.Public = d.Place, d.Door, d.Public
	return d, nil
}

// May reports whether a request that was handed on would be admitted if it were for another place of the site: what somebody is shown links
// to. The path is percent-encoded, and may have a query. What only HTTP Basic would show there is not asked for. An error means that nobody
// can be recognised at the moment, or that the context is of no such request.
func (g *Guard) May(ctx context.Context, method, path string) (bool, error) {
	was, ok := ctx.Value(turningKey{}).(*turning)
	if !ok {
		return false, errNotGuarded
	}
	r := was.request
	r.Method, r.RequestURI, r.Header = method, path, maps.Clone(was.request.Header)
	delete(r.Header, "Authorization") // it was looked at already, and would count as a try
	now := &Turn{Book: was.turn.Book, Secure: was.turn.Secure, Visitor: was.turn.Visitor}
	asked, fault := now.Book.Read(requestOf(&r))
	if fault != nil {
		return false, nil
	}
	if now.Walk = was.turn.Walk; now.Walk != nil {
		return g.judgeWalk(&r, &asked, now).Outcome == policy.Admit, nil
	}
	now.Visitor.Shared, now.Visitor.Passes = nil, nil // what is held there is found out there
	d, err := g.decide(&r, &asked, now)
	return err == nil && d.Outcome == policy.Admit, err
}

var errNotGuarded = errors.New("the context is not of a request that a guard has handed on")

// Still reports whether a request that was handed on, and is not over, would be admitted now: by
// the policy in force now, with what its session and credentials prove now. The age of the
// proof of the password stays what it was at the beginning. The context is that of the
// request. If nobody can be recognised, it would not.
func (g *Guard) Still(ctx context.Context, used bool) bool {
	was, ok := ctx.Value(turningKey{}).(*turning)
	if !ok {
		return false
	}
	r := &was.request
	now := &Turn{Book: g.House().Book, Secure: was.turn.Secure}
	asked, fault := now.Book.Read(requestOf(r))
	if fault != nil {
		return false
	}
	if now.Walk = g.walking(http.Header{}, r, &asked, now); now.Walk != nil || was.turn.Walk != nil {
		return now.Walk != nil && g.judgeWalk(r, &asked, now).Outcome == policy.Admit
	}
	v, err := g.Again(r, used)
	if err != nil {
		return false
	}
	now.Visitor = v
	now.Visitor.From = was.turn.Visitor.From
	if v.SignedIn {
		now.Visitor.ProofAge, now.Visitor.Factors = was.turn.Visitor.ProofAge, was.turn.Visitor.Factors
	}
	d, err := g.decide(r, &asked, now)
	return err == nil && d.Outcome == policy.Admit
}
