package rooms

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/factor"
	"ostiarius/core/policy"
	"ostiarius/service/accesskeys"
	"ostiarius/service/people"
	"ostiarius/service/sessions"
	"ostiarius/store"
)

// come is who a request is of that brings a bearer token, from an address; with a session beside it if that is not "".
func (h *house) come(t testing.TB, from, token, session string) policy.Visitor {
	t.Helper()
	r := httptest.NewRequest("GET", "/", nil)
	r.RemoteAddr = netip.AddrPortFrom(netip.MustParseAddr(from), 4711).String()
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	if session != "" {
		r.AddCookie(&http.Cookie{Name: "ostiarius-session", Value: session})
	}
	v, err := h.Visitors.Who(http.Header{}, r)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

func (h *house) key(t testing.TB, want accesskeys.NewKey) (token, handle string) {
	t.Helper()
	if want.Name == "" {
		want.Name = "tide report"
	}
	token, made, err := h.Keys.Make(ctx, "test", h.account(t, "ines"), want, sessions.Origin{})
	if err != nil {
		t.Fatal(err)
	}
	return token, made.Handle()
}

func TestAccessKeys(t *testing.T) {
	h, _, c := open(t)
	h.book = bookOf(t, "roles: {volunteer: , keeper: {includes: [volunteer]}, device: }\ndoors: [{path: /, admit: public}]\nfactors: {no-keys: steward}")
	h = h.start(t)
	for _, role := range []string{"device", "steward"} {
		if err := h.People.Grant(ctx, "test", "ines", role, time.Time{}, time.Time{}); err != nil {
			t.Fatal(err)
		}
	}
	all, _ := h.key(t, accesskeys.NewKey{})
	few, handle := h.key(t, accesskeys.NewKey{Roles: []string{"volunteer"}, Networks: []string{"192.0.2.0/24"}, Until: c.Now().Add(time.Hour)})
	none, _ := h.key(t, accesskeys.NewKey{Roles: []string{}})
	for _, test := range []struct {
		token string
		roles string
	}{{all, "device keeper"}, {few, "volunteer"}, {none, ""}} {
		for range 2 { // the second time from memory
			if v := h.come(t, "192.0.2.7", test.token, ""); !v.SignedIn || v.Account != "ines" || strings.Join(v.Roles, " ") != test.roles || v.ProofAge != factor.Unknown || v.Shown().Kinds != factor.Of(factor.Key) {
				t.Errorf("%s, want %s", v, test.roles)
			}
		}
	}
	stranger := func(what string, v policy.Visitor) {
		t.Helper()
		if v.SignedIn {
			t.Errorf("%s: %s", what, v)
		}
	}
	stranger("from elsewhere", h.come(t, "198.51.100.1", few, ""))
	stranger("a letter less", h.come(t, "192.0.2.7", few[:len(few)-1], ""))
	session := sessionOf(t, h)
	if v := h.come(t, "192.0.2.7", few, session); strings.Join(v.Roles, " ") != "volunteer" {
		t.Errorf("with a session beside it: %s", v)
	}
	stranger("a wrong key beside a session", h.come(t, "198.51.100.1", few, session))
	if v := h.come(t, "192.0.2.7", "somebody-elses-token", session); !v.SignedIn || len(v.Roles) != 3 {
		t.Errorf("another program's token beside a session: %s", v)
	}
	if err := h.People.Revoke(ctx, "test", "ines", "keeper"); err != nil {
		t.Fatal(err)
	}
	if v := h.come(t, "192.0.2.7", few, ""); len(v.Roles) != 0 {
		t.Errorf("after the role was taken: %s", v)
	}
	if err := h.People.SetDisabled(ctx, "test", "ines", true); err != nil {
		t.Fatal(err)
	}
	stranger("disabled", h.come(t, "192.0.2.7", all, ""))
	if err := h.People.SetDisabled(ctx, "test", "ines", false); err != nil {
		t.Fatal(err)
	}
	c.pass(30 * time.Minute)
	h.come(t, "192.0.2.9", few, "")
	listed, total, err := h.Keys.List(ctx, h.account(t, "ines"), 0, 10)
	i := slices.IndexFunc(listed, func(k store.OwnedKey) bool { return k.Handle() == handle })
	if err != nil || total != 3 || i < 0 || listed[i].UsedFrom != "192.0.2.9" || !listed[i].UsedAt.Equal(c.Now()) || listed[i].Owner != "Ines" {
		t.Errorf("%+v %v", listed, err)
	}
	c.pass(30 * time.Minute)
	stranger("ended", h.come(t, "192.0.2.7", few, ""))
	if err := h.Keys.Remove(ctx, "ines", listed[0].Handle(), h.account(t, "ines"), sessions.Origin{}); err != nil {
		t.Fatal(err)
	}
	if err := h.Keys.Remove(ctx, "ines", listed[0].Handle(), h.account(t, "ines"), sessions.Origin{}); err == nil {
		t.Error("removed twice")
	}
}

func sessionOf(t *testing.T, h *house) string {
	t.Helper()
	in, err := h.Desk.SignIn(ctx, "ines", inesPassword, herHome, false)
	if err != nil {
		t.Fatal(err)
	}
	return in.Token
}

// A removed key counts no longer, from memory neither; and what was read while it was being removed is not kept.
func TestRemovedKeysAreGone(t *testing.T) {
	h, _, _ := open(t)
	token, handle := h.key(t, accesskeys.NewKey{})
	if !h.come(t, "192.0.2.7", token, "").SignedIn {
		t.Fatal("it does not open")
	}
	if _, err := h.People.Add(ctx, "test", people.NewAccount{Name: "walt", Password: inesPassword}); err != nil {
		t.Fatal(err)
	}
	if err := h.Keys.Remove(ctx, "walt", handle, h.account(t, "walt"), sessions.Origin{}); err == nil {
		t.Error("he has removed her key")
	}
	if err := h.Keys.Remove(ctx, "test", handle, nil, sessions.Origin{}); err != nil {
		t.Fatal(err)
	}
	if h.come(t, "192.0.2.7", token, "").SignedIn {
		t.Error("it opens still")
	}
	token, _ = h.key(t, accesskeys.NewKey{})
	h.come(t, "192.0.2.7", token, "")
	if err := h.People.Remove(ctx, "test", "ines"); err != nil {
		t.Fatal(err)
	}
	if h.come(t, "192.0.2.7", token, "").SignedIn {
		t.Error("the key of an account that is gone opens still")
	}
}

func TestKeysThatCannotBe(t *testing.T) {
	h, _, c := open(t)
	h.book = bookOf(t, "roles: {keeper: , trustee: }\ndoors: [{path: /, admit: public}]\nfactors: {no-keys: [steward]}")
	h = h.start(t)
	for name, want := range map[string]accesskeys.NewKey{
		"no name": {Name: " "}, "a long name": {Name: strings.Repeat("x", 61)}, "an end in the past": {Name: "x", Until: c.Now()}, "a role that there is not": {Name: "x", Roles: []string{"captain"}},
		"a role that she has not": {Name: "x", Roles: []string{"trustee"}}, "a role that keys never carry": {Name: "x", Roles: []string{"steward"}}, "no network": {Name: "x", Networks: []string{"192.0.2.7/24"}},
	} {
		if _, _, err := h.Keys.Make(ctx, "test", h.account(t, "ines"), want, sessions.Origin{}); err == nil {
			t.Errorf("%s is taken", name)
		}
	}
}
