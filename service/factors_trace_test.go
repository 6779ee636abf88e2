package service

import (
	"context"
	"encoding/base32"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/activity"
	"ostiarius/core/onetime"
	"ostiarius/core/passkey/pretend"
	"ostiarius/service/rule/inforce"
	"ostiarius/service/who/accesskeys"
	"ostiarius/service/who/factors"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
)

// shown is what people do with what they can show beside a password.
func shown(ctx context.Context, t *testing.T, s *Service, text string,
	leaves func(what string, do func() error, kinds ...activity.Kind), wrong func(do func() error) func() error, secret func(string)) {
	const password = "copper-kettle-moss"
	r, from, page := s.rooms, sessions.Origin{Network: "192.0.2.7"}, factors.Page{Origin: "https://marram.example", Host: "marram.example"}
	leaves("an account for that", func() error {
		_, err := r.People.Add(ctx, "test", people.NewAccount{Name: "tobias", Password: password})
		return err
	}, activity.AccountAdded)
	leaves("browsers that are remembered", func() error {
		_, err := s.policy.Apply(ctx, "test", inforce.Draft{Text: []byte(text + "factors: {remember: 30d, reset: 24h}\n")})
		return err
	}, activity.PolicyApplied)
	his := func() *account.Account {
		a, err := r.People.Find(ctx, "tobias")
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	fresh, err := r.Factors.NewCode(his())
	if err != nil {
		t.Fatal(err)
	}
	raw, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(strings.ReplaceAll(fresh.Text, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	secret(fresh.Text)
	var kept []string
	leaves("a wrong first code", wrong(func() error { _, err := r.Factors.SetCode(ctx, his(), fresh.Sealed, "000000", from); return err }))
	leaves("an app", func() (err error) {
		kept, err = r.Factors.SetCode(ctx, his(), fresh.Sealed, onetime.At(raw, onetime.Step(time.Now()), onetime.Digits), from)
		for _, code := range kept {
			secret(code)
		}
		return err
	}, activity.FactorAdded)
	half := func() string {
		_, err := r.SignIn.SignIn(ctx, "tobias", password, from, false)
		var second *signin.Second
		if !errors.As(err, &second) {
			t.Fatal(err)
		}
		secret(second.Token)
		return second.Token
	}
	leaves("half a sign-in", func() error { half(); return nil })
	leaves("a wrong code", wrong(func() error {
		_, err := r.SignIn.Finish(ctx, half(), signin.Shown{Code: "by-mistake"}, from, false)
		return err
	}), activity.FactorFailed)
	leaves("a kept code, in a browser that is remembered", func() error {
		in, err := r.SignIn.Finish(ctx, half(), signin.Shown{Code: kept[0]}, from, true)
		secret(in.Token)
		secret(in.Known)
		return err
	}, activity.KeptCodeUsed, activity.SignIn, activity.BrowserRemembered)
	leaves("forgetting it", func() error { return r.Factors.Forget(ctx, his(), "", from) }, activity.BrowserForgotten)
	leaves("forgetting it twice", wrong(func() error { return r.Factors.Forget(ctx, his(), "", from) }))
	leaves("other codes to keep", func() error { _, err := r.Factors.NewKept(ctx, his(), from); return err }, activity.FactorAdded)
	k := pretend.New(-7, page.Origin, page.Host)
	ask := func(q factors.Question, err error) string {
		text, wrong := json.Marshal(q)
		if err = errors.Join(err, wrong); err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	leaves("a passkey", func() error {
		q, err := r.Factors.AskNew(ctx, his(), page)
		_, err = r.Factors.Add(ctx, his(), page, k.Make(ask(q, err)), "", from)
		return err
	}, activity.FactorAdded)
	k.Uses = 5
	use := func() error {
		_, err := r.SignIn.SignInByPasskey(ctx, signin.Shown{Passkey: k.Use(ask(r.Factors.AskAny(page), nil)), Page: page}, from, false)
		return err
	}
	leaves("its use", use, activity.SignIn)
	k.Uses = 1
	leaves("the use of a copy", wrong(use), activity.PasskeyCopied)
	handle := ""
	leaves("an access key", func() error {
		token, made, err := r.AccessKeys.Make(ctx, "test", his(), accesskeys.NewKey{Name: "report"}, from)
		secret(token)
		handle = made.Handle()
		return err
	}, activity.KeyMade)
	leaves("an access key that cannot be", wrong(func() error {
		_, _, err := r.AccessKeys.Make(ctx, "test", his(), accesskeys.NewKey{}, from)
		return err
	}))
	leaves("its end", func() error { return r.AccessKeys.Remove(ctx, "test", handle, nil, from) }, activity.KeyRemoved)
	leaves("its end, twice", wrong(func() error { return r.AccessKeys.Remove(ctx, "test", handle, nil, from) }))
	leaves("the end of the app", func() error { return r.Factors.RemoveCode(ctx, his(), from) }, activity.FactorRemoved)
	leaves("its end, twice", wrong(func() error { return r.Factors.RemoveCode(ctx, his(), from) }))
	leaves("a reset", func() error { _, err := r.Factors.Reset(ctx, "test", his()); return err }, activity.ResetAsked)
	leaves("a reset, twice", wrong(func() error { _, err := r.Factors.Reset(ctx, "test", his()); return err }))
	leaves("that it is not to be", func() error { return r.Factors.DropReset(ctx, "test", his(), from) }, activity.ResetDropped)
	leaves("that, twice", wrong(func() error { return r.Factors.DropReset(ctx, "test", his(), from) }))
	leaves("resets at once", func() error {
		_, err := s.policy.Apply(ctx, "test", inforce.Draft{Text: []byte(text + "# no factors\n")})
		return err
	}, activity.PolicyApplied)
	leaves("a reset at once", func() error { _, err := r.Factors.Reset(ctx, "test", his()); return err }, activity.FactorsReset)
}
