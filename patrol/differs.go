package patrol

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/policy"
)

// differing finds answers that are not what the policy decides. What an application behind answers to who is admitted is its own
// business, but where the doors lead, nobody else leads.
func (w *walk) differing(ctx context.Context) {
	b := w.o.Book
	if b == nil {
		return
	}
	w.each(func(a *address) {
		for _, visitor := range w.byNeed() {
			got := a.answers[visitor]
			if got == nil || got.status == 0 {
				continue
			}
			v := w.o.Visitors[visitor].As
			d := b.Decide(w.requestFor(a), &v)
			want := b.Answer(d, policy.Browser, a.url.RawQuery)
			message := w.compare(got, d, want)
			if message == "" {
				continue
			}
			// Asked again, in case the policy or an account changed meanwhile.
			if again := w.ask(ctx, visitor, question{url: a.url}); again.status != 0 && w.compare(again, d, want) == "" {
				continue
			}
			severity := document.SeverityWarning
			if d.Outcome != policy.Admit && w.state(got) == open {
				severity = document.SeverityError
			}
			f := Finding{
				Rule: "differs", Severity: severity, Path: a.path(), As: w.o.Visitors[visitor].Who, Message: message, Requests: []Shown{w.shown(got)},
			}
			if d.Door != nil {
				f.Door = d.Door.Sentence().String()
			}
			if other := w.otherwise(a, visitor); other != nil {
				f.Requests = append(f.Requests, w.shown(other))
			}
			w.tell(f)
		}
	})
}

// otherwise returns what somebody else got there, to be seen beside.
func (w *walk) otherwise(a *address, but int) *answered {
	for i, got := range a.answers {
		if i != but && got != nil && got.status != a.answers[but].status {
			return got
		}
	}
	for i, got := range a.answers {
		if i != but && got != nil {
			return got
		}
	}
	return nil
}

// compare says how an answer differs from what the policy decides, "" if it does not.
func (w *walk) compare(got *answered, d policy.Decision, want policy.Answer) string {
	says := string(d.Outcome)
	ours := got.location != "" && w.oursIn(got)
	switch d.Outcome {
	case policy.Admit:
		if ours && !w.own(d.Place.Path) && !(w.o.Book.Entrance != "" && d.Place.Path == w.o.Book.Entrance) {
			return fmt.Sprintf("the policy admits, but one is led to %s", excerpt(got.location))
		}
		if got.status == 401 && strings.HasPrefix(got.header.Get("Www-Authenticate"), "Session realm=") {
			return "the policy admits, but one is asked to sign in (401)"
		}
		return ""
	case policy.Reject:
		if got.status >= 400 && got.status < 500 {
			return ""
		}
		return fmt.Sprintf("the policy rejects the request, but the answer is %d", got.status)
	}
	if want.Shell && got.status == 200 {
		return ""
	}
	switch {
	case w.state(got) == open:
		return fmt.Sprintf("the policy says %s (%d), but the answer is %d with content", says, want.Status, got.status)
	case want.Status == 303 && got.status >= 300 && got.status < 400:
		if to := resolve(got.question.url, got.location); to != nil && pathOf(to) != pathOf(resolve(got.question.url, want.Location)) {
			return fmt.Sprintf("the policy leads to %s, but the answer to %s", excerpt(want.Location), excerpt(got.location))
		}
		return ""
	case got.status == want.Status, got.status == 304:
		return ""
	case got.status == 429 || got.status >= 500:
		return "" // somebody asked too much, or something is down; told elsewhere
	}
	return fmt.Sprintf("the policy says %s (%d), but the answer is %d", says, want.Status, got.status)
}

func pathOf(u *url.URL) string {
	if u == nil {
		return ""
	}
	return u.EscapedPath()
}

// oursIn reports whether an answer leads to where the policy's own pages are.
func (w *walk) oursIn(got *answered) bool {
	to := resolve(got.question.url, got.location)
	if to == nil || !w.hosts[hostOf(to)] {
		return false
	}
	for _, name := range []string{"/sign-in", "/prove-again", "/unlock"} {
		if to.Path == w.o.Book.Prefix+name {
			return true
		}
	}
	return false
}
