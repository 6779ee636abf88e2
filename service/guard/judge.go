package guard

import (
	"context"
	"errors"
	"net/http"

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
	if fault != nil {
		t.Visitor.From = g.Front.Client(r)
		return policy.Rejected(fault), nil
	}
	v, err := g.Who(h, r)
	if err != nil {
		return policy.Decision{}, err
	}
	t.Visitor = v
	t.Visitor.From = g.Front.Client(r)
	return g.decide(r, &asked, t)
}

func requestOf(r *http.Request) policy.Request {
	_, path, _ := place.SplitTarget(r.RequestURI) // net/http has set r.Host already
	return policy.Request{Method: r.Method, Host: r.Host, Path: path}
}

// decide has the Book judge about what was asked. The Authorization header is read where the doors
// ask for credentials of HTTP Basic, and is a fault if it cannot be read without guessing; elsewhere
// it is the business of what is behind.
func (g *Guard) decide(r *http.Request, asked *policy.Asked, t *Turn) (d policy.Decision, err error) {
	if values := r.Header["Authorization"]; len(values) > 0 && g.Present != nil {
		if want := asked.Wanted(); want.Any() {
			ours, err := g.Present(r, values, want, &t.Visitor)
			t.DropCredentials = ours && !want.Forward // another scheme, such as Bearer, is not meant for the door
			switch {
			case errors.Is(err, basic.ErrSeveral) || errors.Is(err, basic.ErrMalformed):
				d = policy.Rejected(err)
			case err != nil:
				return d, err
			}
		}
	}
	if d.Outcome == "" {
		d = t.Book.Judge(asked.Place, asked.Doors(), &t.Visitor)
	}
	t.Place, t.Door, t.Public = d.Place, d.Door, d.Public
	return d, nil
}

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
	now := &Turn{Book: g.House().Book}
	asked, fault := now.Book.Read(requestOf(r))
	if fault != nil {
		return false
	}
	v, err := g.Again(r, used)
	if err != nil {
		return false
	}
	now.Visitor = v
	now.Visitor.From = was.turn.Visitor.From
	if v.SignedIn {
		now.Visitor.ProofAge = was.turn.Visitor.ProofAge
	}
	d, err := g.decide(r, &asked, now)
	return err == nil && d.Outcome == policy.Admit
}
