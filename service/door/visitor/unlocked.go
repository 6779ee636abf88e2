package visitor

import (
	"net/http"
	"slices"
	"strings"

	"ostiarius/core/policy"
	rules "ostiarius/core/shared"
	"ostiarius/service/base/guard"
	"ostiarius/service/held/passes"
)

// What a browser holds beside a session has a cookie each: of each shared password by its name, of each pass by its own.
// So each lasts as long as it is to, and none replaces another.
const (
	unlockCookie = "ostiarius-unlock-"
	passCookie   = "ostiarius-pass-"
)

// The most passes of one browser that are looked at.
const mostPasses = 8

// HoldsBeside reports whether a browser may hold something beside a session: it sends such a cookie, or an Authorization header.
func (f *Finder) HoldsBeside(r *http.Request) bool {
	for _, line := range r.Header["Cookie"] {
		if strings.Contains(line, unlockCookie) || strings.Contains(line, passCookie) {
			return true
		}
	}
	return len(r.Header["Authorization"]) > 0
}

// Unlocked is for guard.Guard.
func (f *Finder) Unlocked(r *http.Request, want policy.Wanted, t *guard.Turn) error {
	err := f.unlocked(r, want, t)
	if err != nil && r.Context().Err() == nil {
		f.o.Log.Error("what was unlocked could not be read", "error", err)
	}
	return err
}

func (f *Finder) unlocked(r *http.Request, want policy.Wanted, t *guard.Turn) error {
	if len(r.Header["Cookie"]) == 0 {
		return nil
	}
	for _, name := range want.Shared {
		holds, err := f.o.Shared.Holds(r.Context(), t.Book, name, cookieOf(r, cookieName(unlockCookie+name, t.Secure)))
		if err != nil {
			return err
		}
		if holds {
			t.Visitor.Shared = append(t.Visitor.Shared, name)
		}
	}
	if len(want.Passes) == 0 {
		return nil
	}
	for _, token := range passTokens(r, t.Secure) {
		held, err := f.o.Passes.Gate().ByToken(r.Context(), t.Book, want.Passes, t.Place.Path, token)
		if err != nil {
			return err
		}
		if held != nil {
			if err := f.hold(r, held, t); err != nil {
				return err
			}
		}
	}
	return nil
}

// hold adds a pass to a turn, if it opens the place and the visitor has no other of its kind.
func (f *Finder) hold(r *http.Request, held *passes.Held, t *guard.Turn) error {
	if slices.Contains(t.Visitor.Passes, held.Kind()) {
		return nil
	}
	opens, err := held.Opens(r.Context(), len(r.Header["Range"]) > 0)
	switch {
	case !opens:
	case t.Passes == nil && t.Visitor.Passes == nil:
		t.Passes, t.Visitor.Passes = held.Alone()
	default:
		t.Visitor.Passes = append(t.Visitor.Passes, held.Kind())
		t.Passes = append(t.Passes, held)
	}
	return err
}

// passTokens are the tokens of passes that a browser sends. One that comes twice is none.
func passTokens(r *http.Request, secure bool) (tokens []string) {
	prefix := cookieName(passCookie, secure)
	var names []string
	for _, line := range r.Header["Cookie"] {
		for pair := range strings.SplitSeq(line, ";") {
			name, value, ok := strings.Cut(pair, "=")
			if name = strings.TrimLeft(name, " \t"); !ok || !strings.HasPrefix(name, prefix) {
				continue
			}
			if at := slices.Index(names, name); at >= 0 {
				tokens[at] = ""
				continue
			}
			if len(names) < mostPasses {
				names, tokens = append(names, name), append(tokens, strings.TrimRight(value, " \t"))
			}
		}
	}
	return tokens
}

// Held returns the passes of some kinds that somebody has shown at a place, whatever they are worth there.
func (f *Finder) Held(r *http.Request, book *policy.Book, kinds []string, path string) (all []*passes.Held) {
	t := guard.TurnOf(r)
	secure := f.o.Front.Secure(r)
	if t != nil {
		secure = t.Secure
	}
	for _, token := range passTokens(r, secure) {
		if held, err := f.o.Passes.Gate().ByToken(r.Context(), book, kinds, path, token); err == nil && held != nil {
			all = append(all, held)
		}
	}
	if headers := r.Header["Authorization"]; len(headers) == 1 {
		if held := f.o.Passes.Gate().Known(book, kinds, path, headers[0]); held != nil {
			all = append(all, held)
		}
	}
	return all
}

// Decide decides about another place of the site for whoever sends a request, which is at a turn, with all that their
// browser holds.
func (f *Finder) Decide(r *http.Request, at *guard.Turn, q policy.Request) (policy.Decision, error) {
	asked, err := at.Book.Read(q)
	if err != nil {
		return policy.Rejected(err), nil
	}
	return f.Judge(r, at, &asked)
}

// Judge is Decide for a place that was read already.
func (f *Finder) Judge(r *http.Request, at *guard.Turn, asked *policy.Asked) (policy.Decision, error) {
	want := asked.Wanted()
	if len(want.Shared) == 0 && len(want.Passes) == 0 {
		return at.Book.Judge(asked.Place, asked.Doors(), &at.Visitor), nil
	}
	t := guard.Turn{Book: at.Book, Place: asked.Place, Visitor: at.Visitor, Secure: at.Secure}
	if err := f.Unlocked(r, want, &t); err != nil {
		return policy.Decision{}, err
	}
	return t.Book.Judge(asked.Place, asked.Doors(), &t.Visitor), nil
}

// UnlockToken returns the token that a browser has of a shared password, "" for none.
func (f *Finder) UnlockToken(r *http.Request, name string) string {
	return cookieOf(r, cookieName(unlockCookie+name, f.o.Front.Secure(r)))
}

// GiveUnlock gives a browser the token of what was unlocked with a shared password.
func (f *Finder) GiveUnlock(h http.Header, r *http.Request, d *policy.DeclaredShared, u *rules.Unlock, token string) {
	maxAge := 0 // until the browser is closed
	if d.Lasts > 0 {
		maxAge = min(int(d.Lasts.Seconds()), longestCookie)
	} else if d.Forever {
		maxAge = longestCookie
	}
	f.set(h, r, cookieName(unlockCookie+u.Name, f.o.Front.Secure(r)), token, maxAge)
}

// GivePass gives a browser the token of a pass whose link was opened in it.
func (f *Finder) GivePass(h http.Header, r *http.Request, id, token string) {
	f.set(h, r, cookieName(passCookie+id, f.o.Front.Secure(r)), token, longestCookie)
}

// Lock takes from a browser what it holds beside the session, and ends it.
func (f *Finder) Lock(h http.Header, r *http.Request) error {
	secure := f.o.Front.Secure(r)
	network := f.Origin(r).Network
	for _, c := range r.Cookies() {
		switch {
		case strings.HasPrefix(c.Name, cookieName(unlockCookie, secure)):
			if err := f.o.Shared.End(r.Context(), c.Value, network); err != nil {
				return err
			}
		case strings.HasPrefix(c.Name, cookieName(passCookie, secure)):
			if err := f.o.Passes.Gate().Close(r.Context(), c.Value); err != nil {
				return err
			}
		default:
			continue
		}
		f.set(h, r, c.Name, "", -1)
	}
	return nil
}

// bringCookie is the name of the cookie that has the token of a link on the way from its address to the page with the
// button.
func bringCookie(secure bool) string { return cookieName("ostiarius-brought", secure) }

// Bring has a browser bring the token of a link to the next page; "" takes it away.
func (f *Finder) Bring(h http.Header, r *http.Request, what, token string) {
	if token == "" || len(token) > 100 {
		f.set(h, r, bringCookie(f.o.Front.Secure(r)), "", -1)
		return
	}
	f.set(h, r, bringCookie(f.o.Front.Secure(r)), what+"."+token, 15*60)
}

// Brought returns what kind of link a browser brings, and its token.
func (f *Finder) Brought(r *http.Request) (what, token string) {
	what, token, _ = strings.Cut(cookieOf(r, bringCookie(f.o.Front.Secure(r))), ".")
	return what, token
}
