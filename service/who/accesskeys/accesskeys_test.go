package accesskeys_test

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/factor"
	"ostiarius/core/policy"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/accesskeys"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

var ctx = context.Background()

func TestAccessKeys(t *testing.T) {
	h, _, c := house.Open(t)
	h.Book = house.BookOf(t, "roles: {volunteer: , keeper: {includes: [volunteer]}, device: }\ndoors: [{path: /, admit: "+
		"public}]\nfactors: {no-keys: steward}")
	h = h.Start(t)
	for _, role := range []string{"device", "steward"} {
		if err := h.People.Grant(ctx, "test", "ines", role, time.Time{}, time.Time{}); err != nil {
			t.Fatal(err)
		}
	}
	all, _ := h.Key(t, accesskeys.NewKey{})
	few, handle := h.Key(t, accesskeys.NewKey{Roles: []string{"volunteer"}, Networks: []string{"192.0.2.0/24"}, Until: c.Now().Add(time.Hour)})
	none, _ := h.Key(t, accesskeys.NewKey{Roles: []string{}})
	for _, test := range []struct {
		token string
		roles string
	}{{all, "device keeper"}, {few, "volunteer"}, {none, ""}} {
		for range 2 { // the second time from memory
			if v := h.Come(t, "192.0.2.7", test.token, ""); !v.SignedIn || v.Account != "ines" || strings.Join(v.Roles, " ") != test.roles ||
				v.ProofAge != factor.Unknown || v.Shown().Kinds != factor.Of(factor.Key) {
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
	stranger("from elsewhere", h.Come(t, "198.51.100.1", few, ""))
	stranger("a letter less", h.Come(t, "192.0.2.7", few[:len(few)-1], ""))
	session := sessionOf(t, h)
	if v := h.Come(t, "192.0.2.7", few, session); strings.Join(v.Roles, " ") != "volunteer" {
		t.Errorf("with a session beside it: %s", v)
	}
	stranger("a wrong key beside a session", h.Come(t, "198.51.100.1", few, session))
	if v := h.Come(t, "192.0.2.7", "somebody-elses-token", session); !v.SignedIn || len(v.Roles) != 3 {
		t.Errorf("another program's token beside a session: %s", v)
	}
	if err := h.People.Revoke(ctx, "test", "ines", "keeper"); err != nil {
		t.Fatal(err)
	}
	if v := h.Come(t, "192.0.2.7", few, ""); len(v.Roles) != 0 {
		t.Errorf("after the role was taken: %s", v)
	}
	if err := h.People.SetDisabled(ctx, "test", "ines", true); err != nil {
		t.Fatal(err)
	}
	stranger("disabled", h.Come(t, "192.0.2.7", all, ""))
	if err := h.People.SetDisabled(ctx, "test", "ines", false); err != nil {
		t.Fatal(err)
	}
	c.Pass(30 * time.Minute)
	h.Come(t, "192.0.2.9", few, "")
	listed, total, err := h.AccessKeys.List(ctx, h.Account(t, "ines"), 0, 10)
	i := slices.IndexFunc(listed, func(k store.OwnedKey) bool { return k.Handle() == handle })
	if err != nil || total != 3 || i < 0 || listed[i].UsedFrom != "192.0.2.9" || !listed[i].UsedAt.Equal(c.Now()) ||
		listed[i].Owner != "Ines" {
		t.Errorf("%+v %v", listed, err)
	}
	c.Pass(30 * time.Minute)
	stranger("ended", h.Come(t, "192.0.2.7", few, ""))
	if err := h.AccessKeys.Remove(ctx, "ines", listed[0].Handle(), h.Account(t, "ines"), sessions.Origin{}); err != nil {
		t.Fatal(err)
	}
	if err := h.AccessKeys.Remove(ctx, "ines", listed[0].Handle(), h.Account(t, "ines"), sessions.Origin{}); err == nil {
		t.Error("removed twice")
	}
}

func sessionOf(t *testing.T, h *house.House) string {
	t.Helper()
	in, err := h.SignIn.SignIn(ctx, "ines", house.InesPassword, house.HerHome, false)
	if err != nil {
		t.Fatal(err)
	}
	return in.Token
}

// A removed key counts no longer, from memory neither; and what was read while it was being removed is not kept.
func TestRemovedKeysAreGone(t *testing.T) {
	h, _, _ := house.Open(t)
	token, handle := h.Key(t, accesskeys.NewKey{})
	if !h.Come(t, "192.0.2.7", token, "").SignedIn {
		t.Fatal("it does not open")
	}
	if _, err := h.People.Add(ctx, "test", people.NewAccount{Name: "walt", Password: house.InesPassword}); err != nil {
		t.Fatal(err)
	}
	if err := h.AccessKeys.Remove(ctx, "walt", handle, h.Account(t, "walt"), sessions.Origin{}); err == nil {
		t.Error("he has removed her key")
	}
	if err := h.AccessKeys.Remove(ctx, "test", handle, nil, sessions.Origin{}); err != nil {
		t.Fatal(err)
	}
	if h.Come(t, "192.0.2.7", token, "").SignedIn {
		t.Error("it opens still")
	}
	token, _ = h.Key(t, accesskeys.NewKey{})
	h.Come(t, "192.0.2.7", token, "")
	if err := h.People.Remove(ctx, "test", "ines"); err != nil {
		t.Fatal(err)
	}
	if h.Come(t, "192.0.2.7", token, "").SignedIn {
		t.Error("the key of an account that is gone opens still")
	}
}

func TestKeysThatCannotBe(t *testing.T) {
	h, _, c := house.Open(t)
	h.Book = house.BookOf(t, "roles: {keeper: , trustee: }\ndoors: [{path: /, admit: public}]\nfactors: {no-keys: [steward]}")
	h = h.Start(t)
	for name, want := range map[string]accesskeys.NewKey{
		"no name": {Name: " "}, "a long name": {Name: strings.Repeat("x", 61)}, "an end in the past": {Name: "x", Until: c.Now()},
		"a role that there is not":     {Name: "x", Roles: []string{"captain"}},
		"a role that she has not":      {Name: "x", Roles: []string{"trustee"}},
		"a role that keys never carry": {Name: "x", Roles: []string{"steward"}}, "no network": {Name: "x", Networks: []string{"192.0.2.7/24"}},
	} {
		if _, _, err := h.AccessKeys.Make(ctx, "test", h.Account(t, "ines"), want, sessions.Origin{}); err == nil {
			t.Errorf("%s is taken", name)
		}
	}
}
