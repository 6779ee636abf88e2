package store

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/secret"
	"ostiarius/core/session"
)

// What is searched is found however its letters are written: as names are compared, and not only those
// of ASCII.
func TestSearchFoldsLetters(t *testing.T) {
	ctx := context.Background()
	s := open(t, filepath.Join(t.TempDir(), "records.db"))
	a := &account.Account{Name: "Ågnes", Notes: "Hält die ÖLLAMPE in Ordnung; 100% \uff2bey", MadeAt: noon}
	id, err := s.AddAccount(ctx, a, Keys{Name: "ågnes"}, "hash", Activity{At: noon, Kind: "account added", Account: "Ågnes", Detail: "ÉLAN"})
	if err != nil {
		t.Fatal(err)
	}
	for word, want := range map[string]int{"öllampe": 1, "ÖL": 1, "A\u030aGNES": 1, "100%": 1, "key": 1, "100_": 0, "agnes": 0, "\n": 1} {
		if _, n, err := s.Accounts(ctx, AccountQuery{Words: []string{word}, Limit: 10}); err != nil || n != want {
			t.Errorf("%q: %d accounts, %v", word, n, err)
		}
	}
	for word, want := range map[string]int{"élan": 1, "E\u0301L": 1, "åGNES": 1, "elan": 0} {
		if events, err := s.AllEvents(ctx, ActivityQuery{Words: word, Limit: 10}); err != nil || len(events) != want {
			t.Errorf("%q: %d events, %v", word, len(events), err)
		}
	}
	a.ID, a.Notes = id, "ÄTHER"
	if err := s.EditAccount(ctx, a, Keys{Name: "ågnes"}, noon, Activity{At: noon, Kind: "account changed"}); err != nil {
		t.Fatal(err)
	}
	if _, n, _ := s.Accounts(ctx, AccountQuery{Words: []string{"äther"}, Limit: 10}); n != 1 {
		t.Error("notes that were edited are not found")
	}
	if _, n, _ := s.Accounts(ctx, AccountQuery{Words: []string{"öllampe"}, Limit: 10}); n != 0 {
		t.Error("notes from before are found")
	}
	// Also of an account that is gone.
	if err := s.RemoveAccount(ctx, id, noon, Activity{At: noon, Kind: "account removed", Account: "Ågnes", AccountID: id}); err != nil {
		t.Fatal(err)
	}
	if events, err := s.AllEvents(ctx, ActivityQuery{Account: "åGNES", Limit: 10}); err != nil || len(events) != 2 {
		t.Errorf("of one that is gone: %+v %v", events, err)
	}
}

// An account that is added after another was removed has a history of its own.
func TestNumbersAreNotGivenAgain(t *testing.T) {
	ctx := context.Background()
	s := open(t, filepath.Join(t.TempDir(), "records.db"))
	add := func(name string) int64 {
		t.Helper()
		id, err := s.AddAccount(ctx, &account.Account{Name: name, MadeAt: noon}, Keys{Name: name}, "hash",
			Activity{At: noon, Kind: "account added", Account: name})
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	first := add("bo")
	if err := s.RemoveAccount(ctx, first, noon, Activity{At: noon, Kind: "account removed", Account: "bo", AccountID: first}); err != nil {
		t.Fatal(err)
	}
	second := add("cy")
	if second == first {
		t.Errorf("%d is given again", first)
	}
	if events, err := s.AllEvents(ctx, ActivityQuery{Account: "cy", Limit: 10}); err != nil || len(events) != 1 {
		t.Errorf("the history of cy: %+v %v", events, err)
	}
	if err := s.RemoveAccount(ctx, second, noon, Activity{At: noon, Kind: "account removed", Account: "cy", AccountID: second}); err != nil {
		t.Fatal(err)
	}
	var many []Import
	for i := range 300 {
		name := fmt.Sprint("name", i)
		many = append(many, Import{Account: &account.Account{
			Name: name, MadeAt: noon, Grants: []account.Grant{{Role: "keeper", From: noon}},
		}, Keys: Keys{Name: name}, Event: Activity{At: noon, Kind: "account added", Account: name}})
	}
	if err := s.Import(ctx, many); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"name0", "name299"} {
		a, _, err := s.AccountByKey(ctx, name)
		if err != nil || a.ID <= second || len(a.Grants) != 1 {
			t.Errorf("%+v %v", a, err)
		}
		if events, err := s.AllEvents(ctx, ActivityQuery{Account: name, Limit: 10}); err != nil || len(events) != 1 {
			t.Errorf("the history of %s: %+v %v", name, events, err)
		}
	}
}

// What was proven before a change of the proofs begins no session, whatever the proof was; a better hash
// of the same password is no change.
func TestProofsOfBefore(t *testing.T) {
	ctx := context.Background()
	s := open(t, filepath.Join(t.TempDir(), "records.db"))
	id, err := s.AddAccount(ctx, &account.Account{Name: "ines", MadeAt: noon}, Keys{Name: "ines"}, "hash", Activity{At: noon})
	if err != nil {
		t.Fatal(err)
	}
	begin := func(proofs int64) error {
		_, hash := secret.NewToken()
		return s.AddSession(ctx, &session.Session{Hash: hash, Account: id, MadeAt: noon, How: "password"}, proofs, nil, nil,
			Activity{At: noon, Kind: "sign-in"})
	}
	if err := s.Rehash(ctx, id, "hash", "better"); err != nil {
		t.Fatal(err)
	}
	if err := begin(0); err != nil {
		t.Errorf("after a better hash: %v", err)
	}
	_, hash := secret.NewToken()
	next := &session.Session{Hash: hash, Account: id, MadeAt: noon, How: "password"}
	if err := s.ChangePassword(ctx, 0, "another", next, nil, Activity{At: noon, Kind: "password changed"}); err != nil {
		t.Fatal(err)
	}
	if held, n, err := s.Sessions(ctx, SessionQuery{Account: id, Now: noon.Add(time.Minute), Limit: 10}); err != nil || n != 1 ||
		held[0].Hash != hash || held[0].How != "password" {
		t.Errorf("%d sessions after a change: %v", n, err)
	}
	if err := s.ChangePassword(ctx, 0, "a third", next, nil, Activity{At: noon}); err == nil {
		t.Error("a change on top of another, by somebody who did not see it")
	}
	if begin(0) == nil {
		t.Error("what was proven before begins a session")
	}
	if err := begin(1); err != nil {
		t.Errorf("what was proven since: %v", err)
	}
	if err := s.SetPassword(ctx, id, "a fourth", nil, Activity{At: noon}); err != nil || begin(1) == nil {
		t.Errorf("after a steward's change: %v", err)
	}
}
