package rooms_test

import (
	"maps"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"ostiarius/core/account"
	"ostiarius/core/factor"
	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/accesskeys"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
	"ostiarius/store"
)

// made is one of everything that is made with the proofs of an account.
type made struct {
	h                                                        *house.House
	before                                                   *account.Account
	session, device, known, half, link, request, undo, setUp string
	key                                                      string
}

func makeAll(t *testing.T, h *house.House, c *house.Clock) made {
	t.Helper()
	mail := "ines@marram.example"
	if _, err := h.People.Edit(ctx, "test", "ines", people.Edit{Email: &mail}); err != nil {
		t.Fatal(err)
	}
	code, _ := h.SetUp(t, "ines")
	if err := h.Records.AddElsewhereLink(ctx, store.ElsewhereLink{Issuer: "https://id.example", Subject: "h-1", Provider: "harbour",
		Account: h.Account(t, "ines").ID, MadeAt: h.Time()},
		h.Account(t, "ines").Proofs, nil, store.Activity{At: h.Time()}); err != nil {
		t.Fatal(err)
	}
	c.Pass(2 * 60e9) // so that the next code is another one
	m := made{h: h, before: h.Account(t, "ines")}
	in, err := h.SignIn.Finish(ctx, h.Half(t, house.HerHome), signin.Shown{Code: code()}, house.HerHome, true)
	if err != nil {
		t.Fatal(err)
	}
	m.session, m.device, m.known = in.Token, in.Device, in.Known
	m.half = h.Half(t, house.HerHome)
	if err := h.People.MailLink(ctx, "test", "ines"); err != nil {
		t.Fatal(err)
	}
	m.link = house.TokenOf(t, house.Mailed(t, h)[0])
	if err := h.Recovery.AskChange(ctx, "ines", "new@marram.example", "", ""); err != nil {
		t.Fatal(err)
	}
	for _, sent := range house.Mailed(t, h)[:2] {
		switch sent.Kind {
		case message.AddressProve:
			m.request = house.TokenOf(t, sent)
		case message.AddressAsked:
			m.undo = house.TokenOf(t, sent)
		}
	}
	fresh, err := h.Factors.NewCode(m.before)
	if err != nil {
		t.Fatal(err)
	}
	m.setUp = fresh.Sealed
	if m.key, _, err = h.AccessKeys.Make(ctx, "test", m.before, accesskeys.NewKey{Name: "x"}, house.HerHome); err != nil {
		t.Fatal(err)
	}
	return m
}

// valid lists what is still valid.
func (m made) valid(t *testing.T) (valid []account.Proven) {
	t.Helper()
	h := m.h
	add := func(what account.Proven, is bool) {
		if is {
			valid = append(valid, what)
		}
	}
	now, err := h.People.Find(ctx, "ines")
	there := err == nil
	v, _, err := h.Sessions.Recognise(ctx, m.session, nil)
	if err != nil {
		t.Fatal(err)
	}
	add(account.Session, v.SignedIn)
	add(account.CodeProof, v.SignedIn && v.Factors.Kinds.Has(factor.Code))
	_, err = h.SignIn.Half(ctx, m.half)
	add(account.HalfSignIn, err == nil)
	hash, _ := secret.HashToken(m.link)
	_, err = h.Records.AccountByLink(ctx, hash, h.Time())
	add(account.PasswordLink, err == nil)
	_, err = h.Recovery.Change(ctx, m.request)
	add(account.AddressRequest, err == nil)
	_, err = h.Recovery.Change(ctx, m.undo)
	add(account.AddressUndo, err == nil)
	add(account.DeviceMark, there && h.SignIn.Knows(m.device, now))
	remembered := false
	for _, a := range []*account.Account{m.before, now} {
		if a != nil {
			known, err := h.Factors.Knows(ctx, a, m.known)
			remembered = remembered || known && err == nil
		}
	}
	add(account.Remembered, remembered)
	if there {
		_, err = h.Factors.SameCode(now, m.setUp)
		add(account.CodeSetUp, err == nil)
	}
	v, err = h.AccessKeys.Recognise(ctx, m.key, netip.Addr{})
	add(account.AccessKey, v.SignedIn && err == nil)
	slices.Sort(valid)
	return valid
}

// What was made with the proofs of an account ends with them: all pairs of account.EndedBy, and no other.
func TestWhatEndsWhat(t *testing.T) {
	ends := map[account.End]func(t *testing.T, m made) error{
		account.NewPassword: func(_ *testing.T, m made) error {
			return m.h.People.SetPassword(ctx, "test", "ines", "kettle-moth-anvil")
		},
		account.Disabled:      func(_ *testing.T, m made) error { return m.h.People.SetDisabled(ctx, "test", "ines", true) },
		account.Removed:       func(_ *testing.T, m made) error { return m.h.People.Remove(ctx, "test", "ines") },
		account.FactorRemoved: func(_ *testing.T, m made) error { return m.h.Factors.RemoveCode(ctx, m.before, sessions.Origin{}) },
		account.FactorsReset:  func(_ *testing.T, m made) error { _, err := m.h.Factors.Reset(ctx, "test", m.before); return err },
		account.Unlinked: func(_ *testing.T, m made) error {
			defer m.h.Sessions.Forget(m.before.ID)
			return m.h.Records.RemoveElsewhereLink(ctx, m.before.ID, "harbour", nil, store.Activity{At: m.h.Time()})
		},
		account.SessionsEnded: func(_ *testing.T, m made) error { _, err := m.h.Sessions.EndOf(ctx, "test", m.before, ""); return err },
		account.AddressUndone: func(_ *testing.T, m made) error {
			_, err := m.h.Recovery.MakeChange(ctx, m.undo, 0, "", "")
			return err
		},
	}
	if len(ends) != len(account.EndedBy) {
		t.Errorf("%d ways to end something, %d in the table", len(ends), len(account.EndedBy))
	}
	for _, end := range slices.Sorted(maps.Keys(account.EndedBy)) {
		t.Run(strings.ReplaceAll(string(end), " ", "-"), func(t *testing.T) {
			h, _, c := house.Open(t)
			h.Book = house.BookOf(t, "roles: {keeper: }\ndoors: [{path: /, admit: public}]\nfactors: {remember: 30d, reset: 0}")
			h = h.Start(t)
			m := makeAll(t, h, c)
			all := slices.Sorted(slices.Values(account.AllProven))
			if before := m.valid(t); !slices.Equal(before, all) {
				t.Fatalf("before: %v", before)
			}
			if err := ends[end](t, m); err != nil {
				t.Fatal(err)
			}
			want := slices.DeleteFunc(slices.Clone(all), func(p account.Proven) bool { return slices.Contains(account.EndedBy[end], p) })
			if left := m.valid(t); !slices.Equal(left, want) {
				t.Errorf("valid afterwards: %v, want %v", left, want)
			}
			if end != account.Disabled {
				return
			}
			// What has ended does not come back with the account.
			if err := h.People.SetDisabled(ctx, "test", "ines", false); err != nil {
				t.Fatal(err)
			}
			if left := m.valid(t); !slices.Equal(left, []account.Proven{account.AccessKey, account.AddressUndo}) {
				t.Errorf("valid when it is enabled again: %v", left)
			}
		})
	}
}
