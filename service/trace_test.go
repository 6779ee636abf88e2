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

	"ostiarius/core/account"
	"ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/telling"
	"ostiarius/service/held/keyrings"
	"ostiarius/service/keep/mail"
	"ostiarius/service/rule/inforce"
	"ostiarius/service/who/joining"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
	"ostiarius/store"
	"ostiarius/store/fresh"
)

// Whatever happens leaves one trace, of its kind, without a secret; what changes nothing leaves none.
func TestEverythingLeavesATrace(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "doors.yaml")
	text := "roles: {keeper: , member: }\nitems: {year: {role: member, for: 365d}}\nreminders: 2d\nkeyrings: {outer: }\nshared: {kit: " +
		"}\npasses: {files: {networks: 1}}\ndoors: [{path: /log, admit: {role: keeper}}]\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	fresh.File(t, filepath.Join(dir, "d", store.FileName))
	s, err := Open(Settings{Policy: file, Listen: "127.0.0.1:0", Data: filepath.Join(dir, "d"), Log: slog.New(slog.DiscardHandler),
		Cost: cheap, Telling: telling.Rules{Hosts: []string{"desk.example"}},
		MailNotices: map[message.Kind]bool{message.AddressChanged: true}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ctx, r, k := t.Context(), s.rooms, s.rooms.Keyrings
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
		events, _, err := s.rooms.Activity.Events(ctx, store.ActivityQuery{After: last, Limit: 1000})
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
	from := sessions.Origin{Network: "192.0.2.7"}
	var token string
	signIn := func(name, password string) error {
		in, err := r.SignIn.SignIn(ctx, name, password, from, false)
		if err == nil {
			token = in.Token
			tokens = append(tokens, in.Token)
		}
		return err
	}
	leaves("the start", func() error { return nil }, activity.PolicyApplied)
	leaves("an account", func() error {
		_, err := r.People.Add(ctx, "test", people.NewAccount{Name: "ines", Password: secret})
		return err
	}, activity.AccountAdded)
	notes, same := "keeps the rota", "ines"
	leaves("an edit", func() error { _, err := r.People.Edit(ctx, "test", "ines", people.Edit{Notes: &notes}); return err },
		activity.AccountChanged)
	leaves("an edit without a change", func() error {
		_, err := r.People.Edit(ctx, "test", "ines", people.Edit{Notes: &notes, Name: &same})
		return err
	})
	leaves("a grant", func() error { return r.People.Grant(ctx, "test", "ines", "keeper", time.Time{}, time.Time{}) }, activity.RoleGranted)
	leaves("the same grant", func() error { return r.People.Grant(ctx, "test", "ines", "keeper", time.Time{}, time.Time{}) })
	leaves("a wrong password", wrong(func() error { return signIn("ines", "by-mistake") }), activity.SignInFailed)
	leaves("a name that nobody has", wrong(func() error { return signIn("by-mistake", secret) }), activity.SignInFailed)
	leaves("signing in", func() error { return signIn("ines", secret) }, activity.SignIn)
	leaves("a wrong proof", wrong(func() error { _, err := r.SignIn.ProveAgain(ctx, token, "by-mistake", from); return err }),
		activity.ProofFailed)
	leaves("a proof", func() error {
		fresh, err := r.SignIn.ProveAgain(ctx, token, secret, from)
		if err == nil {
			token = fresh.Token
			tokens = append(tokens, token)
		}
		return err
	}, activity.ProvenAgain)
	leaves("a change with a wrong password",
		wrong(func() error {
			_, err := r.SignIn.ChangePassword(ctx, token, "by-mistake", other,
				from)
			return err
		}), activity.PasswordChangeFailed)
	leaves("a change of the password", func() error {
		in, err := r.SignIn.ChangePassword(ctx, token, secret, other, from)
		token = in.Token
		return err
	}, activity.PasswordChanged)
	leaves("signing out", func() error { return r.Sessions.End(ctx, token, "") }, activity.SignOut)
	leaves("signing out twice", func() error { return r.Sessions.End(ctx, token, "") })
	leaves("a password that is set", func() error { return r.People.SetPassword(ctx, "test", "ines", secret) }, activity.PasswordSet)
	link := ""
	leaves("a link", func() (err error) {
		link, _, err = r.People.Link(ctx, "test", "ines")
		tokens = append(tokens, link)
		return err
	}, activity.LinkMade)
	leaves("the use of a link", func() error { return r.People.UseLink(ctx, link, other, "", "") }, activity.PasswordSet)
	leaves("signing in again", func() error { return signIn("ines", other) }, activity.SignIn)
	leaves("an end of the session", func() error { return r.Sessions.EndOne(ctx, "test", r.Sessions.Handle(token), nil) },
		activity.SessionEnded)
	// Without a session other things end: links, marks, sign-ins under way.
	leaves("an end of no session", func() error {
		a, err := r.People.Find(ctx, "ines")
		if err == nil {
			_, err = r.Sessions.EndOf(ctx, "test", a, "")
		}
		return err
	}, activity.SessionsDone)
	leaves("an end of nobody's sessions", func() error { _, err := r.Sessions.EndAll(ctx, "test"); return err }, activity.SessionsDone)
	leaves("and again", func() error { return signIn("ines", other) }, activity.SignIn)
	leaves("an end of all sessions", func() error { _, err := r.Sessions.EndAll(ctx, "test"); return err }, activity.SessionsDone)
	leaves("disabling", func() error { return r.People.SetDisabled(ctx, "test", "ines", true) }, activity.AccountDisabled)
	leaves("disabling twice", func() error { return r.People.SetDisabled(ctx, "test", "ines", true) })
	leaves("enabling", func() error { return r.People.SetDisabled(ctx, "test", "ines", false) }, activity.AccountEnabled)
	leaves("enabling twice", func() error { return r.People.SetDisabled(ctx, "test", "ines", false) })
	leaves("taking a role", func() error { return r.People.Revoke(ctx, "test", "ines", "keeper") }, activity.RoleRevoked)
	leaves("taking it twice", wrong(func() error { return r.People.Revoke(ctx, "test", "ines", "keeper") }))
	leaves("too many tries", func() error {
		for err := signin.ErrWrong; errors.Is(err, signin.ErrWrong); { // until it is too many
			_, err = r.SignIn.SignIn(ctx, "nobody", "by-mistake", sessions.Origin{Network: "198.51.100.9"}, false)
		}
		return nil
	}, append(slices.Repeat([]activity.Kind{activity.SignInFailed}, 5), activity.SignInSlowed)...)
	leaves("removing", func() error { return r.People.Remove(ctx, "test", "ines") }, activity.AccountRemoved)
	leaves("removing twice", wrong(func() error { return r.People.Remove(ctx, "test", "ines") }))

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
	address := "walt@marram.example"
	if _, err := r.People.Add(ctx, "test",
		people.NewAccount{Name: "walt", Email: address, Password: secret, Roles: []string{"keeper"}}); err != nil {
		t.Fatal(err)
	}
	last++ // the account
	mailed := func() (m message.Message) {
		all, _, err := r.Mail.List(ctx, mail.Query{Limit: 1})
		if err != nil || len(all) != 1 {
			t.Fatalf("%+v, %v", all, err)
		}
		_, link, _ := strings.Cut(all[0].Link, "link=")
		tokens = append(tokens, link)
		return all[0]
	}
	asked := func(name string) func() error {
		return func() error {
			return errors.Join(r.Recovery.Ask(ctx, signin.Keys(name), from.Network, ""), r.Recovery.Answer(ctx))
		}
	}
	leaves("a recovery", asked("walt"), activity.RecoveryAsked)
	leaves("the recovery of nobody", asked("by-mistake"), activity.RecoveryAsked)
	leaves("a link by mail", func() error { return r.People.MailLink(ctx, "test", "walt") }, activity.LinkMade)
	leaves("a message that is shown", func() error { _, _, err := r.Mail.Reveal(ctx, "test", mailed().ID); return err }, activity.MessageShown)
	leaves("a message that is tried again", func() error { return r.Mail.Retry(ctx, "test", mailed().ID) }, activity.MessageRetried)
	leaves("a message that is dropped", func() error { return r.Mail.Drop(ctx, "test", mailed().ID) }, activity.MessageDropped)
	leaves("a wish for another address", func() error { return r.Recovery.AskChange(ctx, "walt", "w@marram.example", "", "") },
		activity.AddressAsked)
	follow := func() error {
		_, token, _ := strings.Cut(mailed().Link, "link=")
		a, err := r.People.Find(ctx, "walt")
		if err == nil {
			_, err = r.Recovery.MakeChange(ctx, token, a.ID, "", "")
		}
		return err
	}
	leaves("a proof of it", follow, activity.AddressProven)
	leaves("taking it back", follow, activity.AddressUndone)
	leaves("a test of mail that goes nowhere", wrong(func() error { return r.Mail.Test(ctx, "test", address, "en") }))
	join := func(who joining.Applicant) func() error {
		return func() error { _, err := r.Joining.Ask(ctx, who, from); return err }
	}
	applicant := joining.Applicant{Name: "sigrid", Email: "sigrid@marram.example", Password: other}
	leaves("joining where nobody does", wrong(join(applicant)))
	apply := func(by string) {
		t.Helper()
		leaves("joining by "+by, func() error {
			_, err := s.policy.Apply(ctx, "test", inforce.Draft{Text: []byte(text + "joining: { by: " + by + " }\n")})
			return err
		}, activity.PolicyApplied)
	}
	apply("approval")
	prove := func() error {
		_, token, _ := strings.Cut(mailed().Link, "link=")
		_, err := r.Joining.Prove(ctx, token, other, from)
		return err
	}
	leaves("an application", join(applicant), activity.JoinAsked)
	leaves("the same again", wrong(join(applicant)))
	leaves("a proof of its address", prove, activity.JoinAsked)
	leaves("signing in before that is approved", wrong(func() error { return signIn("sigrid", other) }), activity.SignInFailed)
	leaves("a refusal", func() error { return r.Joining.Decline(ctx, "test", "sigrid", "no") }, activity.JoinDeclined)
	leaves("another application", join(applicant), activity.JoinAsked)
	leaves("a proof of its address", prove, activity.JoinAsked)
	leaves("an approval", func() error { return r.Joining.Approve(ctx, "test", "sigrid") }, activity.Joined)
	leaves("an approval, twice", wrong(func() error { return r.Joining.Approve(ctx, "test", "sigrid") }))
	walts := func() *account.Account {
		a, err := r.People.Find(ctx, "walt")
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	leave := func() error { _, err := r.Leaving.Leave(ctx, walts(), "", ""); return err }
	leaves("leaving", leave, activity.LeaveAsked)
	leaves("leaving twice", leave)
	leaves("staying", func() error { return r.Leaving.Stay(ctx, walts(), "") }, activity.LeaveWithdrawn)
	leaves("staying twice", func() error { return r.Leaving.Stay(ctx, walts(), "") })
	leaves("an invitation", func() error {
		path, _, err := r.Joining.Invite(ctx, "test", joining.Invite{Email: "bo@marram.example"})
		tokens = append(tokens, strings.TrimPrefix(path, "/door/join?invitation="))
		return err
	}, activity.Invited)
	leaves("its end", func() error { return r.Joining.Revoke(ctx, "test", "bo@marram.example") }, activity.InvitationRevoked)
	leaves("its end, twice", wrong(func() error { return r.Joining.Revoke(ctx, "test", "bo@marram.example") }))
	handedOut(ctx, t, s, leaves, wrong, func(secret string) { tokens = append(tokens, secret) })
	sold(ctx, t, s, leaves, wrong, func(secret string) { tokens = append(tokens, secret) })
	walked(ctx, t, s, leaves, wrong, func(secret string) { tokens = append(tokens, secret) })
	shown(ctx, t, s, text, leaves, wrong, func(secret string) { tokens = append(tokens, secret) })
	// With a mail server, in package mail; through a door, in package rooms; by a file, in package inforce; by a command, in package backup.
	for _, elsewhere := range []activity.Kind{activity.MessageTest, activity.MessageFailed, activity.PassDownloaded,
		activity.PassUsedUp, activity.GuaranteeBroken, activity.RecordsRestored, activity.ElsewhereFailed, activity.ElsewhereAdded,
		activity.ElsewhereRemoved} {
		seen[elsewhere] = true
	}
	door := &policy.Door{Written: "/log", Admit: policy.Demand{Kind: policy.Nobody}}
	leaves("a refusal, and a place that is hidden", func() error {
		for _, outcome := range []policy.Outcome{policy.Refuse, policy.Hide, policy.Admit, policy.Challenge} {
			s.rooms.Activity.Note(outcome, door, place.Place{Method: "GET", Path: "/log"}, &policy.Visitor{}, 1)
		}
		return nil
	}, activity.Refused, activity.Hidden)
	leaves("more than are recorded", func() error {
		for i := range 200 {
			s.rooms.Activity.Note(policy.Refuse, door, place.Place{Method: "GET", Path: "/log"}, &policy.Visitor{Account: fmt.Sprint("a", i)}, 1)
		}
		return nil
	}, append(slices.Repeat([]activity.Kind{activity.Refused}, 100), activity.MoreRefused)...)
	for _, kind := range activity.Kinds {
		if !seen[kind] {
			t.Errorf("nothing here leaves %q", kind)
		}
	}
}
