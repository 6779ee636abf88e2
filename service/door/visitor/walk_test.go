package visitor_test

import (
	"net/http"
	"testing"
	"time"

	"ostiarius/core/policy"
	rules "ostiarius/core/shared"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/people"
)

var unlock = rules.Unlock{Name: "press-kit"}

// A walk in a browser is its steward's, with their session, for a quarter of an hour; a token alone is nobody, and so is that of a walk
// that has ended. Whoever was a steward walks no more.
func TestWalks(t *testing.T) {
	h, _, c := house.Open(t)
	house.Add(t, h, people.NewAccount{Name: "agnes", Password: "amber-lantern-shelf", Roles: []string{policy.Steward}})
	hers, other := house.SignInAs(t, h, "agnes", "amber-lantern-shelf"), house.SignIn(t, h, false)
	walker := h.Visitors.Walks()
	as := policy.Visitor{
		SignedIn: true, Account: "walt", Roles: []string{"keeper"}, Passes: []string{"p"}, Shared: []string{"s"}, Keyrings: []string{"k"},
	}
	begin := func() (token string) {
		t.Helper()
		begun, err := h.Walks.BeginAs("agnes", as, true)
		if err != nil {
			t.Fatal(err)
		}
		return begun.Tokens[0]
	}
	token := begin()
	on := func(session, walk string) (walking, own, forgotten bool) {
		t.Helper()
		cookies := []string{"ostiarius-session", session}
		if walk != "" {
			cookies = append(cookies, "ostiarius-walk", walk)
		}
		given, r := http.Header{}, request("/", cookies...)
		w := walker.Walking(given, r, h.Book)
		if w != nil && w.As.SignedIn {
			walking = true
			if w.As.Account != "walt" || !w.Changes || w.Within == nil || w.Within.Account != "agnes" || !w.Within.From.IsValid() ||
				len(w.Within.Passes) != 1 || len(w.Within.Shared) != 1 || len(w.Within.Keyrings) != 1 {
				t.Errorf("%+v within %+v", w, w.Within)
			}
		} else if (w != nil) != (walk != "") {
			t.Errorf("%+v", w)
		}
		serve(h, request("/door/me", cookies...), func(_ http.ResponseWriter, r *http.Request) {
			walk, is := walker.Of(r)
			if own = is; is && walk.As.Account != "walt" {
				t.Errorf("%+v", walk)
			}
		})
		return walking, own, len(given["Set-Cookie"]) > 0
	}
	for _, test := range []struct {
		what, session, walk     string
		walking, own, forgotten bool
	}{
		{"the steward", hers, token, true, true, false},
		{"without a walk", hers, "", false, false, false},
		{"somebody else", other, token, false, false, true},
		{"nobody", "made-up", token, false, false, true},
		{"a made-up walk", hers, "made-up", false, false, true},
	} {
		if walking, own, forgotten := on(test.session, test.walk); walking != test.walking || own != test.own || forgotten != test.forgotten {
			t.Errorf("%s: walking %v, own %v, forgotten %v", test.what, walking, own, forgotten)
		}
	}
	c.Pass(15*time.Minute - time.Second)
	if walking, own, _ := on(hers, token); !walking || !own {
		t.Error("ended too early")
	}
	c.Pass(time.Second)
	if walking, own, forgotten := on(hers, token); walking || own || !forgotten {
		t.Error("it does not end")
	}
	token = begin()
	walk, _ := h.Walks.Find(token)
	if err := walker.End(walk); err != nil {
		t.Fatal(err)
	}
	if walking, own, _ := on(hers, token); walking || own || walker.End(walk) == nil {
		t.Error("it was ended, and goes on")
	}
	token = begin()
	house.Add(t, h, people.NewAccount{Name: "edith", Password: "amber-lantern-shelf", Roles: []string{policy.Steward}})
	if err := h.People.Revoke(ctx, "test", "agnes", policy.Steward); err != nil {
		t.Fatal(err)
	}
	if walking, own, forgotten := on(hers, token); walking || own || !forgotten {
		t.Errorf("she is no steward any more: walking %v, own %v, forgotten %v", walking, own, forgotten)
	}
	// A patrol's token is enough, and it is nobody's own.
	begun, err := h.Walks.Begin("agnes", []policy.Visitor{as})
	if err != nil {
		t.Fatal(err)
	}
	if w := walker.Walking(http.Header{}, request("/", "ostiarius-walk", begun.Tokens[0]), h.Book); w == nil ||
		w.As.Account != "walt" || w.Within != nil || w.Changes {
		t.Errorf("%+v", w)
	}
	serve(h, request("/door/me", "ostiarius-session", hers, "ostiarius-walk", begun.Tokens[0]), func(_ http.ResponseWriter, r *http.Request) {
		if walk, own := walker.Of(r); own {
			t.Errorf("a patrol is a steward's own walk: %+v", walk)
		}
	})
}
