package service

import (
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/activity"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/service/inforce"
	"ostiarius/service/keyrings"
	"ostiarius/service/people"
	"ostiarius/store"
)

// Whatever happens leaves one trace, of its kind, without a secret; what changes nothing leaves none.
func TestEverythingLeavesATrace(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "doors.yaml")
	text := "roles: {keeper: }\nkeyrings: {outer: }\ndoors: [{path: /log, admit: {role: keeper}}]\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	s, err := Open(Settings{Policy: file, Listen: "127.0.0.1:0", Data: filepath.Join(dir, "d"), Log: slog.New(slog.DiscardHandler), Cost: cheap})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ctx, r, k := t.Context(), s.register, s.keyrings
	const secret, other = "seven-brass-prisms", "kettle-moth-anvil"
	last := int64(0)
	seen := map[activity.Kind]bool{}
	tokens := []string{secret, other, "by-mistake"}
	// leaves does something and says what traces that must leave.
	leaves := func(what string, do func() error, kinds ...activity.Kind) {
		t.Helper()
		if err := do(); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		events, err := s.activity.Events(ctx, store.EventQuery{After: last, Limit: 1000})
		if err != nil {
			t.Fatal(err)
		}
		var got []activity.Kind
		for _, e := range events {
			got, last = append(got, e.Kind), max(last, e.ID)
			seen[e.Kind] = true
			for _, token := range tokens {
				if token != "" && strings.Contains(fmt.Sprintf("%+v", e), token) {
					t.Errorf("%s: a secret is in the activity: %+v", what, e)
				}
			}
		}
		slices.Sort(got)
		if slices.Sort(kinds); !slices.Equal(got, kinds) {
			t.Errorf("%s leaves %q, want %q", what, got, kinds)
		}
	}
	wrong := func(do func() error) func() error {
		return func() error {
			if err := do(); err == nil {
				return errors.New("it went well")
			}
			return nil
		}
	}
	from := people.Origin{Network: "192.0.2.7"}
	var token string
	signIn := func(name, password string) error {
		in, err := r.SignIn(ctx, name, password, from, false)
		if err == nil {
			token = in.Token
			tokens = append(tokens, in.Token)
		}
		return err
	}
	leaves("the start", func() error { return nil }, activity.PolicyApplied)
	leaves("an account", func() error {
		_, err := r.Add(ctx, "test", people.NewAccount{Name: "ines", Password: secret})
		return err
	}, activity.AccountAdded)
	notes, same := "keeps the rota", "ines"
	leaves("an edit", func() error { _, err := r.Edit(ctx, "test", "ines", people.Edit{Notes: &notes}); return err }, activity.AccountChanged)
	leaves("an edit without a change", func() error {
		_, err := r.Edit(ctx, "test", "ines", people.Edit{Notes: &notes, Name: &same})
		return err
	})
	leaves("a grant", func() error { return r.Grant(ctx, "test", "ines", "keeper", time.Time{}, time.Time{}) }, activity.RoleGranted)
	leaves("the same grant", func() error { return r.Grant(ctx, "test", "ines", "keeper", time.Time{}, time.Time{}) })
	leaves("a wrong password", wrong(func() error { return signIn("ines", "by-mistake") }), activity.SignInFailed)
	leaves("a name that nobody has", wrong(func() error { return signIn("by-mistake", secret) }), activity.SignInFailed)
	leaves("signing in", func() error { return signIn("ines", secret) }, activity.SignIn)
	leaves("a wrong proof", wrong(func() error { _, err := r.ProveAgain(ctx, token, "by-mistake", from); return err }), activity.ProofFailed)
	leaves("a proof", func() error {
		fresh, err := r.ProveAgain(ctx, token, secret, from)
		if err == nil {
			token = fresh.Token
			tokens = append(tokens, token)
		}
		return err
	}, activity.ProvenAgain)
	leaves("a change with a wrong password", wrong(func() error { _, err := r.ChangePassword(ctx, token, "by-mistake", other, from); return err }), activity.PasswordChangeFailed)
	leaves("a change of the password", func() error {
		in, err := r.ChangePassword(ctx, token, secret, other, from)
		token = in.Token
		return err
	}, activity.PasswordChanged)
	leaves("signing out", func() error { return r.SignOut(ctx, token, "") }, activity.SignOut)
	leaves("signing out twice", func() error { return r.SignOut(ctx, token, "") })
	leaves("a password that is set", func() error { return r.SetPassword(ctx, "test", "ines", secret) }, activity.PasswordSet)
	link := ""
	leaves("a link", func() (err error) {
		link, _, err = r.Link(ctx, "test", "ines")
		tokens = append(tokens, link)
		return err
	}, activity.LinkMade)
	leaves("the use of a link", func() error { return r.UseLink(ctx, link, other, "") }, activity.PasswordSet)
	leaves("signing in again", func() error { return signIn("ines", other) }, activity.SignIn)
	leaves("an end of the session", func() error { return r.EndSession(ctx, "test", r.Handle(token), "ines") }, activity.SessionEnded)
	leaves("an end of no session", func() error { _, err := r.EndSessions(ctx, "test", "ines", ""); return err })
	leaves("an end of nobody's sessions", func() error { _, err := r.EndAllSessions(ctx, "test"); return err })
	leaves("and again", func() error { return signIn("ines", other) }, activity.SignIn)
	leaves("an end of all sessions", func() error { _, err := r.EndAllSessions(ctx, "test"); return err }, activity.SessionsDone)
	leaves("disabling", func() error { return r.SetDisabled(ctx, "test", "ines", true) }, activity.AccountDisabled)
	leaves("disabling twice", func() error { return r.SetDisabled(ctx, "test", "ines", true) })
	leaves("enabling", func() error { return r.SetDisabled(ctx, "test", "ines", false) }, activity.AccountEnabled)
	leaves("enabling twice", func() error { return r.SetDisabled(ctx, "test", "ines", false) })
	leaves("taking a role", func() error { return r.Revoke(ctx, "test", "ines", "keeper") }, activity.RoleRevoked)
	leaves("taking it twice", wrong(func() error { return r.Revoke(ctx, "test", "ines", "keeper") }))
	leaves("too many tries", func() error {
		for err := people.ErrWrong; errors.Is(err, people.ErrWrong); { // until it is too many
			_, err = r.SignIn(ctx, "nobody", "by-mistake", people.Origin{Network: "198.51.100.9"}, false)
		}
		return nil
	}, append(slices.Repeat([]activity.Kind{activity.SignInFailed}, 5), activity.SignInSlowed)...)
	leaves("removing", func() error { return r.Remove(ctx, "test", "ines") }, activity.AccountRemoved)
	leaves("removing twice", wrong(func() error { return r.Remove(ctx, "test", "ines") }))

	leaves("credentials", func() error {
		_, err := k.Add(ctx, "test", "outer", keyrings.NewEntry{Name: "smith", Password: secret})
		return err
	}, activity.CredentialsAdded)
	leaves("other credentials", func() error { return k.Rotate(ctx, "test", "outer", "smith", other, 0) }, activity.CredentialsChanged)
	leaves("disabled credentials", func() error { return k.Switch(ctx, "test", "outer", "smith", true) }, activity.CredentialsChanged)
	leaves("disabled credentials, twice", func() error { return k.Switch(ctx, "test", "outer", "smith", true) })
	leaves("removed credentials", func() error { return k.Remove(ctx, "test", "outer", "smith") }, activity.CredentialsRemoved)

	leaves("a policy", func() error {
		_, err := s.policy.Apply(ctx, "test", inforce.Draft{Text: []byte(text + "# more\n")})
		return err
	}, activity.PolicyApplied)
	leaves("a faulty policy", wrong(func() error {
		_, err := s.policy.Apply(ctx, "test", inforce.Draft{Text: []byte("doors: [")})
		return err
	}))
	door := &policy.Door{Written: "/log", Admit: policy.Demand{Kind: policy.Nobody}}
	leaves("a refusal, and a place that is hidden", func() error {
		for _, outcome := range []policy.Outcome{policy.Refuse, policy.Hide, policy.Admit, policy.Challenge} {
			s.activity.Note(outcome, door, place.Place{Method: "GET", Path: "/log"}, &policy.Visitor{})
		}
		return nil
	}, activity.Refused, activity.Hidden)
	leaves("more than are recorded", func() error {
		for i := range 200 {
			s.activity.Note(policy.Refuse, door, place.Place{Method: "GET", Path: "/log"}, &policy.Visitor{Account: fmt.Sprint("a", i)})
		}
		return nil
	}, append(slices.Repeat([]activity.Kind{activity.Refused}, 100), activity.MoreRefused)...)
	for _, kind := range activity.Kinds {
		if !seen[kind] {
			t.Errorf("nothing here leaves %q", kind)
		}
	}
}
