package elsewhere_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/activity"
	"ostiarius/core/factor"
	"ostiarius/core/policy"
	"ostiarius/demo/provider"
	"ostiarius/service/base/guard"
	"ostiarius/service/rooms"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/elsewhere"
	"ostiarius/service/who/people"
	"ostiarius/service/who/signin"
	"ostiarius/store"
)

var ctx = context.Background()

// A harbour is a provider of the tests, with the house that knows it.
type harbour struct {
	*house.House
	t     testing.TB
	clock *house.Clock
	p     *provider.Provider
	at    string
}

var (
	inesThere = provider.Person{
		Subject: "h-1", Username: "ines.harbour", Name: "Ines", Email: "ines@marram.example", Verified: true, Groups: []string{"crew"},
	}
	edithThere = provider.Person{Subject: "h-2", Username: "edith", Name: "Edith", Email: "edith@marram.example", Verified: true}
)

func openHarbour(t testing.TB, more string) *harbour {
	t.Helper()
	h, _, c := house.Open(t)
	p := provider.New("", "marram", "a secret of the site", inesThere, edithThere)
	p.Now = c.Now
	server := httptest.NewServer(p)
	t.Cleanup(server.Close)
	p.Issuer = server.URL
	g := &harbour{House: h, t: t, clock: c, p: p, at: server.URL}
	g.rules(more)
	return g
}

// rules has the policy say more of the harbour.
func (g *harbour) rules(more string) {
	g.t.Helper()
	g.Book = house.BookOf(g.t, "doors: [{path: /, admit: public}]\nroles: {keeper: , friend: }\nelsewhere: { harbour: { title: Harbour "+
		"account, issuer: \""+g.at+"\", client: marram"+more+" } }\n")
	rooms, err := rooms.Open(rooms.Options{Store: g.Records, Book: func() *policy.Book { return g.Book }, Now: g.Time, Hashing: g.Pool,
		Front: &guard.Front{}, Log: slog.New(slog.DiscardHandler), Mail: rooms.Mail{Site: func() string { return "https://marram.example" }},
		Elsewhere: rooms.Elsewhere{Secrets: map[string]string{"harbour": "a secret of the site"}}})
	if err != nil {
		g.t.Fatal(err)
	}
	g.Rooms = rooms
}

const backTo = "https://marram.example/door/elsewhere/harbour/back"

// there is what the provider answers somebody who is sent to an address of it, and says who they are: the query with which they come back.
func (g *harbour) there(to, subject string) url.Values {
	g.t.Helper()
	u, err := url.Parse(to)
	if err != nil {
		g.t.Fatal(err)
	}
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := client.PostForm(g.at+"/authorize", url.Values{"query": {u.RawQuery}, "subject": {subject}})
	if err != nil {
		g.t.Fatal(err)
	}
	answer.Body.Close()
	back, err := answer.Location()
	if err != nil || !strings.HasPrefix(back.String(), backTo+"?") {
		g.t.Fatalf("led to %v (%v)", back, err)
	}
	return back.Query()
}

// come goes there and back.
func (g *harbour) come(purpose elsewhere.Purpose, a *account.Account, session, subject string) (elsewhere.Came, error) {
	g.t.Helper()
	to, token, err := g.Elsewhere.Begin(ctx, "harbour", purpose, a, backTo, "/log/")
	if err != nil {
		return elsewhere.Came{}, err
	}
	return g.Elsewhere.Back(ctx, "harbour", token, session, g.there(to, subject), house.HerHome)
}

// An address that is perhaps another's is not taken along: not even where nobody has it, since its owner would be led into the
// account of somebody else.
func TestAnUnprovenAddressIsNotTakenAlong(t *testing.T) {
	for _, trusts := range []bool{true, false} {
		g := openHarbour(t, fmt.Sprintf(", joins: true, trusts-address: %v", trusts))
		if trusts {
			g.p.Misbehave(provider.Unproven)
		}
		came, err := g.come(elsewhere.ToSignIn, nil, "", "h-2")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := g.Elsewhere.Join(ctx, "harbour", came.First, "edith", false, house.HerHome); err != nil {
			t.Fatal(err)
		}
		if a := g.Account(t, "edith"); a.Email != "" {
			t.Errorf("trusts %v: has %s", trusts, a.Email)
		}
	}
}

// Who hangs up while a provider is asked takes it from nobody else.
func TestHangingUpWhileAProviderIsAsked(t *testing.T) {
	g := openHarbour(t, "")
	gone, hangUp := context.WithCancel(ctx)
	hangUp()
	g.Elsewhere.Begin(gone, "harbour", elsewhere.ToSignIn, nil, backTo, "")
	if _, _, err := g.Elsewhere.Begin(ctx, "harbour", elsewhere.ToSignIn, nil, backTo, ""); err != nil {
		t.Error(err)
	}
}

// Whoever comes first joins, if the policy has that, and comes back without being asked.
func TestJoinElsewhere(t *testing.T) {
	g := openHarbour(t, ", joins: true, trusts-address: true, grants: [{claim: groups, holds: crew, role: keeper}]")
	came, err := g.come(elsewhere.ToSignIn, nil, "", "h-2")
	if err != nil || came.First == "" || came.Token != "" || came.Next != "/log/" {
		t.Fatalf("%+v %v", came, err)
	}
	if _, err := g.Elsewhere.Join(ctx, "harbour", came.First, "ines", false, house.HerHome); err == nil {
		t.Error("somebody has the name, and it is given again")
	}
	in, err := g.Elsewhere.Join(ctx, "harbour", came.First, "edith", false, house.HerHome)
	if err != nil || in.Visitor.Account != "edith" || in.Visitor.Shown().Kinds != factor.Of(factor.Elsewhere) {
		t.Fatalf("%+v %v", in.Visitor, err)
	}
	if _, err := g.Elsewhere.Join(ctx, "harbour", came.First, "edith2", false, house.HerHome); !errors.Is(err, elsewhere.ErrLate) {
		t.Errorf("twice: %v", err)
	}
	a := g.Account(t, "edith")
	if a.Email != "edith@marram.example" || a.MadeBy != "elsewhere: harbour" || !a.Unset {
		t.Errorf("%+v", a)
	}
	if came, err = g.come(elsewhere.ToSignIn, nil, "", "h-2"); err != nil || came.Token == "" || came.Visitor.Account != "edith" {
		t.Errorf("the second time: %+v %v", came, err)
	}
	if _, err := g.SignIn.SignIn(ctx, "edith", "", house.HerHome, false); !errors.Is(err, signin.ErrWrong) {
		t.Errorf("with an empty password: %v", err)
	}
}

// Roles by claims are given and taken with each sign-in, are marked, and go when the policy gives them no longer.
func TestRolesByClaims(t *testing.T) {
	g := openHarbour(t, ", joins: true, grants: [{claim: groups, holds: crew, role: keeper}]")
	join := func() {
		t.Helper()
		came, err := g.come(elsewhere.ToSignIn, nil, "", "h-2")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := g.Elsewhere.Join(ctx, "harbour", came.First, "edith", false, house.HerHome); err != nil {
			t.Fatal(err)
		}
	}
	join()
	roles := func(groups ...string) string {
		t.Helper()
		g.p.People[1].Groups = groups
		came, err := g.come(elsewhere.ToSignIn, nil, "", "h-2")
		if err != nil {
			t.Fatal(err)
		}
		return strings.Join(came.Visitor.Roles, " ")
	}
	for _, test := range []struct {
		groups []string
		want   string
	}{{nil, ""}, {[]string{"crew"}, "keeper"}, {[]string{"crew", "x"}, "keeper"}, {[]string{"crews"}, ""}, {[]string{"crew"}, "keeper"}} {
		if got := roles(test.groups...); got != test.want {
			t.Errorf("in %q: %q", test.groups, got)
		}
	}
	a := g.Account(t, "edith")
	if len(a.Grants) != 1 || a.Grants[0].By != "harbour" {
		t.Errorf("%+v", a.Grants)
	}
	if err := g.People.Grant(ctx, "test", "edith", "friend", time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	if got := roles(); got != "friend" {
		t.Errorf("a role by a steward stays: %q", got)
	}
	roles("crew")
	events, _, err := g.Activity.Events(ctx, store.ActivityQuery{Kind: string(activity.RoleRevoked), Limit: 10})
	if err != nil || len(events) != 2 || !strings.Contains(events[0].Detail, "as harbour says") {
		t.Errorf("%+v %v", events, err)
	}
	g.rules("")
	if err := g.Elsewhere.Tend(ctx); err != nil || slices.Contains(g.Account(t, "edith").Roles(g.Time()), "keeper") {
		t.Errorf("a role that the policy gives no longer stays (%v)", err)
	}
}

// Every way in which a provider can misbehave is refused, with an error that people understand and a record that stewards do.
func TestMisbehaviours(t *testing.T) {
	t.Parallel() // one of them takes five seconds
	g := openHarbour(t, ", joins: true")
	for _, test := range []struct {
		fault  string
		told   error
		record string
	}{
		{"", nil, ""}, {provider.WrongNonce, elsewhere.ErrUntrue, "nonce"}, {provider.OldToken, elsewhere.ErrUntrue, "too old"},
		{provider.OtherSite, elsewhere.ErrUntrue, "another site"}, {provider.OtherIssuer, elsewhere.ErrUntrue, "is from"},
		{provider.UnknownKey, elsewhere.ErrUntrue, "does not give out"}, {provider.BadSignature, elsewhere.ErrUntrue, "signature"},
		{provider.NoSignature, elsewhere.ErrUntrue, "signed in no way"}, {provider.WrongHash, elsewhere.ErrUntrue, "at_hash"},
		{provider.OtherIss, elsewhere.ErrUntrue, "another provider"}, {provider.NoIss, elsewhere.ErrUntrue, "another provider"},
		{provider.Refuses, elsewhere.ErrRefused, "access_denied"}, {provider.RotatedKeys, nil, ""},
	} {
		g.clock.Pass(time.Minute) // so that it is asked for its keys again
		g.p.Misbehave()
		to, token, err := g.Elsewhere.Begin(ctx, "harbour", elsewhere.ToSignIn, nil, backTo, "")
		if err != nil {
			t.Fatal(err)
		}
		g.p.Misbehave(test.fault)
		came, err := g.Elsewhere.Back(ctx, "harbour", token, "", g.there(to, "h-2"), house.HerHome)
		if test.told == nil && (err != nil || came.First == "") || test.told != nil &&
			(!errors.Is(err, test.told) || came.First != "" || came.Token != "") {
			t.Errorf("%s: %v", test.fault, err)
		}
		if test.told == nil {
			continue
		}
		if err := g.Activity.Flush(ctx); err != nil {
			t.Fatal(err)
		}
		events, _, err := g.Activity.Events(ctx, store.ActivityQuery{Limit: 1})
		if err != nil || len(events) == 0 || events[0].Kind != activity.ElsewhereFailed || !strings.Contains(events[0].Detail, test.record) {
			t.Errorf("%s is recorded as %+v", test.fault, events)
		}
	}
	g.p.Misbehave(provider.Down)
	g.clock.Pass(48 * time.Hour)
	if _, _, err := g.Elsewhere.Begin(ctx, "harbour", elsewhere.ToSignIn, nil, backTo, ""); !errors.Is(err, elsewhere.ErrDown) {
		t.Errorf("down: %v", err)
	}
	g.p.Misbehave(provider.Slow)
	g.clock.Pass(time.Minute)
	if _, _, err := g.Elsewhere.Begin(ctx, "harbour", elsewhere.ToSignIn, nil, backTo, ""); !errors.Is(err, elsewhere.ErrDown) {
		t.Errorf("slow: %v", err)
	}
	g.p.Misbehave()
	g.clock.Pass(time.Minute)
	if _, err := g.come(elsewhere.ToSignIn, nil, "", "h-2"); err != nil {
		t.Errorf("up again: %v", err)
	}
}

// Nobody comes back who was not sent: another browser, twice, late, with another state, to another provider, or with a code of another way.
func TestComingBackUnsent(t *testing.T) {
	g := openHarbour(t, ", joins: true")
	begin := func() (string, string) {
		t.Helper()
		to, token, err := g.Elsewhere.Begin(ctx, "harbour", elsewhere.ToSignIn, nil, backTo, "")
		if err != nil {
			t.Fatal(err)
		}
		return to, token
	}
	back := func(token string, q url.Values) error {
		came, err := g.Elsewhere.Back(ctx, "harbour", token, "", q, house.HerHome)
		if err != nil && (came.Token != "" || came.First != "") {
			t.Errorf("%v, and yet %+v", err, came)
		}
		return err
	}
	to, token := begin()
	q := g.there(to, "h-2")
	if err := back("", q); !errors.Is(err, elsewhere.ErrLate) {
		t.Errorf("in another browser: %v", err)
	}
	other, otherToken := begin()
	if err := back(otherToken, q); !errors.Is(err, elsewhere.ErrLate) {
		t.Errorf("with the state of another: %v", err)
	}
	if err := back(token, q); err != nil {
		t.Errorf("as it should be: %v", err)
	}
	if err := back(token, q); !errors.Is(err, elsewhere.ErrLate) {
		t.Errorf("twice: %v", err)
	}
	// An attacker's code in the victim's way, and the same code again: the verifier and the provider say no.
	third, thirdToken := begin()
	stolen := g.there(other, "h-1")
	mine := g.there(third, "h-2")
	mine.Set("code", stolen.Get("code"))
	if err := back(thirdToken, mine); !errors.Is(err, elsewhere.ErrUntrue) {
		t.Errorf("with a code of another way: %v", err)
	}
	late, lateToken := begin()
	q = g.there(late, "h-2")
	g.clock.Pass(16 * time.Minute)
	if err := back(lateToken, q); !errors.Is(err, elsewhere.ErrLate) {
		t.Errorf("late: %v", err)
	}
	for _, change := range []func(q url.Values){func(q url.Values) { q.Del("state") }, func(q url.Values) { q.Add("state", "x") },
		func(q url.Values) { q.Set("state", "") }, func(q url.Values) { q.Set("code", "") }, func(q url.Values) { q.Add("iss", g.at) }} {
		to, token := begin()
		q := g.there(to, "h-2")
		change(q)
		if err := back(token, q); err == nil {
			t.Errorf("with %v", q)
		}
	}
	// Strangers fill neither the memory nor the records.
	for range 200 {
		if _, err := g.Elsewhere.Back(ctx, "harbour", "made up", "", url.Values{"state": {"made up"}}, house.HerHome); !errors.Is(err,
			elsewhere.ErrLate) {
			t.Fatal(err)
		}
	}
	if err := g.Activity.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	if events, _, err := g.Activity.Events(ctx,
		store.ActivityQuery{Kind: string(activity.ElsewhereFailed), Limit: 1000}); err != nil || len(events) > 40 {
		t.Errorf("%d records of strangers (%v)", len(events), err)
	}
	if _, err := g.Elsewhere.Back(ctx, "nowhere", token, "", q, house.HerHome); !errors.Is(err, elsewhere.ErrUnknown) {
		t.Errorf("at a provider that there is not: %v", err)
	}
}

// Two providers are not mixed up: what one answers is no answer to what the other was asked.
func TestMixUp(t *testing.T) {
	g := openHarbour(t, ", joins: true")
	evil := provider.New("", "marram", "a secret of the site", provider.Person{Subject: "h-1", Email: "evil@marram.example"})
	evil.Now = g.Time
	server := httptest.NewServer(evil)
	defer server.Close()
	evil.Issuer = server.URL
	g.Book = house.BookOf(t, fmt.Sprintf("doors: [{path: /, admit: public}]\nelsewhere:\n  harbour: { issuer: %q, client: marram, "+
		"joins: true }\n  evil: { issuer: %q, client: marram, joins: true }\n", g.at, server.URL))
	h := g.Start(t)
	to, token, err := h.Elsewhere.Begin(ctx, "evil", elsewhere.ToSignIn, nil, backTo, "")
	if err != nil {
		t.Fatal(err)
	}
	// The evil one sends its visitor on to the honest one, with what it was asked, and gets the code of that back.
	u, _ := url.Parse(to)
	q := g.there(g.at+"/authorize?"+u.RawQuery, "h-1")
	if _, err := h.Elsewhere.Back(ctx, "evil", token, "", q, house.HerHome); !errors.Is(err, elsewhere.ErrUntrue) {
		t.Errorf("an answer of another provider: %v", err)
	}
	to, token, err = h.Elsewhere.Begin(ctx, "evil", elsewhere.ToSignIn, nil, backTo, "")
	if err != nil {
		t.Fatal(err)
	}
	u, _ = url.Parse(to)
	if _, err := h.Elsewhere.Back(ctx, "harbour", token, "", g.there(g.at+"/authorize?"+u.RawQuery, "h-1"),
		house.HerHome); !errors.Is(err, elsewhere.ErrLate) {
		t.Errorf("back at another than one was sent to: %v", err)
	}
}

// An account here is never taken over by one elsewhere: by the address only if both sides have proven it, and the policy says so.
func TestLinkingByAddress(t *testing.T) {
	for _, test := range []struct {
		trusts, there, here bool
		linked              bool
	}{{true, true, true, true}, {true, false, true, false}, {true, true, false, false}, {true, false, false, false},
		{false, true, true, false}} {
		g := openHarbour(t, fmt.Sprintf(", joins: true, trusts-address: %v", test.trusts))
		address := "ines@marram.example"
		if _, err := g.People.Edit(ctx, "test", "ines", people.Edit{Email: &address}); err != nil {
			t.Fatal(err)
		}
		if test.here {
			proveAddressOf(t, g.House, "ines")
		}
		if !test.there {
			g.p.Misbehave(provider.Unproven)
		}
		came, err := g.come(elsewhere.ToSignIn, nil, "", "h-1")
		if err != nil || (came.Token != "") != test.linked || (came.First == "") != test.linked {
			t.Errorf("%+v: %+v %v", test, came, err)
			continue
		}
		if test.linked {
			if came.Visitor.Account != "ines" {
				t.Errorf("%+v: %s", test, came.Visitor)
			}
			continue
		}
		// Whoever joins instead gets an account of their own, without an address that is not theirs to give.
		in, err := g.Elsewhere.Join(ctx, "harbour", came.First, "stranger", false, house.HerHome)
		if err != nil || in.Visitor.Account != "stranger" {
			t.Errorf("%+v: %v", test, err)
		} else if a := g.Account(t, "stranger"); a.Email != "" {
			t.Errorf("%+v: has the address %s", test, a.Email)
		}
	}
}

// proveAddressOf has the owner of an account follow a link that was mailed to its address.
func proveAddressOf(t *testing.T, h *house.House, name string) {
	t.Helper()
	if err := h.People.MailLink(ctx, "test", name); err != nil {
		t.Fatal(err)
	}
	_, token, _ := strings.Cut(house.Mailed(t, h)[0].Link, "link=")
	if err := h.People.UseLink(ctx, token, house.InesPassword, "", ""); err != nil {
		t.Fatal(err)
	}
}

// Who is signed in links; each account elsewhere is one's here; and nobody is left without a way in.
func TestLinkAndUnlink(t *testing.T) {
	g := openHarbour(t, ", joins: true")
	if _, err := g.People.Add(ctx, "test", people.NewAccount{Name: "walt", Password: house.InesPassword}); err != nil {
		t.Fatal(err)
	}
	hers, his := g.Account(t, "ines"), g.Account(t, "walt")
	came, err := g.come(elsewhere.ToLink, hers, "", "h-1")
	if err != nil || came.First == "" {
		t.Fatal(came, err)
	}
	if err := g.Elsewhere.Link(ctx, "harbour", came.First, his, house.HerHome); !errors.Is(err, elsewhere.ErrOther) {
		t.Errorf("he has linked what she came with: %v", err)
	}
	if came, err = g.come(elsewhere.ToLink, hers, "", "h-1"); err != nil {
		t.Fatal(err)
	}
	if _, err := g.Elsewhere.Join(ctx, "harbour", came.First, "third", false, house.HerHome); err == nil {
		t.Error("an account was made of what was to be linked")
	}
	if err := g.Elsewhere.Link(ctx, "harbour", came.First, hers, house.HerHome); err != nil {
		t.Fatal(err)
	}
	if _, err := g.come(elsewhere.ToLink, his, "", "h-1"); !errors.Is(err, elsewhere.ErrOther) {
		t.Errorf("linked twice: %v", err)
	}
	if came, err = g.come(elsewhere.ToSignIn, nil, "", "h-1"); err != nil || came.Visitor.Account != "ines" {
		t.Errorf("%+v %v", came, err)
	}
	hersByPassword := house.SignIn(t, g.House, false)
	another, err := g.come(elsewhere.ToSignIn, nil, "", "h-1")
	if err != nil {
		t.Fatal(err)
	}
	if err := g.Elsewhere.Unlink(ctx, hers, "harbour", another.Token, house.HerHome); err != nil {
		t.Error(err)
	}
	if house.Alive(t, g.House, came.Token) || !house.Alive(t, g.House, another.Token) || !house.Alive(t, g.House, hersByPassword) {
		t.Error("unlinked: not just the other sessions have ended that began by it")
	}
	if came, err = g.come(elsewhere.ToSignIn, nil, "", "h-1"); err != nil || came.Token != "" {
		t.Errorf("unlinked: %+v %v", came, err)
	}
	if kinds := g.Kinds(t); !slices.Contains(kinds, activity.ElsewhereRemoved) || !slices.Contains(kinds, activity.ElsewhereAdded) {
		t.Errorf("recorded as %q", kinds)
	}
	in, err := g.Elsewhere.Join(ctx, "harbour", came.First, "edith", false, house.HerHome)
	if err != nil || in.Token == "" {
		t.Fatal(err)
	}
	edith := g.Account(t, "edith")
	if err := g.Elsewhere.Unlink(ctx, edith, "harbour", "", house.HerHome); err == nil || !strings.Contains(err.Error(), "only way in") {
		t.Errorf("left without a way in: %v", err)
	}
	g.Passkey(t, "edith")
	if err := g.Elsewhere.Unlink(ctx, g.Account(t, "edith"), "harbour", "", house.HerHome); err != nil {
		t.Errorf("with a passkey: %v", err)
	}
}

// A second factor is asked for after an account elsewhere too, and an account that is disabled does not open.
func TestElsewhereAndASecondFactor(t *testing.T) {
	g := openHarbour(t, "")
	came, err := g.come(elsewhere.ToLink, g.Account(t, "ines"), "", "h-1")
	if err != nil {
		t.Fatal(err)
	}
	if err := g.Elsewhere.Link(ctx, "harbour", came.First, g.Account(t, "ines"), house.HerHome); err != nil {
		t.Fatal(err)
	}
	_, kept := g.SetUp(t, "ines")
	_, err = g.come(elsewhere.ToSignIn, nil, "", "h-1")
	var second *signin.Second
	if !errors.As(err, &second) {
		t.Fatalf("not asked: %v", err)
	}
	in, err := g.SignIn.Finish(ctx, second.Token, signin.Shown{Code: kept[0]}, house.HerHome, false)
	if err != nil || !in.Visitor.Shown().Kinds.Meets(factor.AskTwo) {
		t.Fatalf("%+v %v", in.Visitor, err)
	}
	// Signing out there ends it here, also this one.
	if err := g.Elsewhere.LoggedOut(ctx, "harbour", g.p.LogoutToken("h-1"), house.HerHome); err != nil {
		t.Fatal(err)
	}
	if house.Alive(t, g.House, in.Token) {
		t.Error("signed out there, and still in here")
	}
	// So it does for who has not shown the second factor yet; somebody else's sign-out, or one from before, does not.
	before := g.p.LogoutToken("h-1")
	if err := g.Elsewhere.LoggedOut(ctx, "harbour", before, house.HerHome); err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		who  string
		want error
	}{{"h-2", nil}, {"h-1", signin.ErrOver}} {
		if _, err := g.come(elsewhere.ToSignIn, nil, "", "h-1"); !errors.As(err, &second) {
			t.Fatalf("not asked: %v", err)
		}
		if err := g.Elsewhere.LoggedOut(ctx, "harbour", g.p.LogoutToken(test.who), house.HerHome); err != nil {
			t.Fatal(err)
		}
		kept = kept[1:]
		in, err := g.SignIn.Finish(ctx, second.Token, signin.Shown{Code: kept[0]}, house.HerHome, false)
		if !errors.Is(err, test.want) || house.Alive(t, g.House, in.Token) != (test.want == nil) {
			t.Errorf("%s has signed out there: %v", test.who, err)
		}
	}
	// Nor is who they are elsewhere any use after that, where no account here is known.
	if came, err = g.come(elsewhere.ToSignIn, nil, "", "h-2"); err != nil || came.First == "" {
		t.Fatal(err)
	}
	if err := g.Elsewhere.LoggedOut(ctx, "harbour", g.p.LogoutToken("h-2"), house.HerHome); err != nil {
		t.Fatal(err)
	}
	if err := g.Elsewhere.Link(ctx, "harbour", came.First, g.Account(t, "ines"), house.HerHome); !errors.Is(err, elsewhere.ErrLate) {
		t.Errorf("linked after signing out there: %v", err)
	}
	if err := g.People.SetDisabled(ctx, "test", "ines", true); err != nil {
		t.Fatal(err)
	}
	if _, err := g.come(elsewhere.ToSignIn, nil, "", "h-1"); !errors.Is(err, signin.ErrDisabled) {
		t.Errorf("disabled: %v", err)
	}
}

// Who proves anew is who is signed in, and has just proven it there.
func TestProveElsewhere(t *testing.T) {
	g := openHarbour(t, "")
	came, err := g.come(elsewhere.ToLink, g.Account(t, "ines"), "", "h-1")
	if err != nil {
		t.Fatal(err)
	}
	if err := g.Elsewhere.Link(ctx, "harbour", came.First, g.Account(t, "ines"), house.HerHome); err != nil {
		t.Fatal(err)
	}
	token := house.SignIn(t, g.House, false)
	g.clock.Pass(20 * time.Minute)
	if _, err := g.come(elsewhere.ToProve, g.Account(t, "ines"), token, "h-2"); !errors.Is(err, elsewhere.ErrOther) {
		t.Errorf("as somebody else: %v", err)
	}
	g.p.Misbehave(provider.OldProof)
	if _, err := g.come(elsewhere.ToProve, g.Account(t, "ines"), token, "h-1"); !errors.Is(err, elsewhere.ErrUntrue) {
		t.Errorf("with an old proof: %v", err)
	}
	g.p.Misbehave()
	came, err = g.come(elsewhere.ToProve, g.Account(t, "ines"), token, "h-1")
	if err != nil || came.Renewal == nil {
		t.Fatal(err)
	}
	v, _, err := g.Sessions.Recognise(ctx, came.Renewal.Token, nil)
	if err != nil || v.ProofAge != 0 || v.Shown().Kinds.Meets(factor.AskTwo) {
		t.Errorf("%s %v: the password and an account elsewhere are not two kinds", v, err)
	}
}

func TestLogoutTokens(t *testing.T) {
	g := openHarbour(t, ", joins: true")
	came, err := g.come(elsewhere.ToSignIn, nil, "", "h-2")
	if err != nil {
		t.Fatal(err)
	}
	in, err := g.Elsewhere.Join(ctx, "harbour", came.First, "edith", false, house.HerHome)
	if err != nil {
		t.Fatal(err)
	}
	if to := g.Elsewhere.SignOut(ctx, g.Elsewhere.SessionOf(ctx, in.Token),
		"https://marram.example/door/elsewhere/"); !strings.HasPrefix(to, g.at+"/sign-out?client_id=marram&"+
		"post_logout_redirect_uri=https%3A%2F%2Fmarram.example%2Fdoor%2Felsewhere%2Fharbour%2Fsigned-out") {
		t.Errorf("signing out there: %s", to)
	}
	token := g.p.LogoutToken("h-1")
	if err := g.Elsewhere.LoggedOut(ctx, "harbour", token, house.HerHome); err != nil || !house.Alive(t, g.House, in.Token) {
		t.Errorf("somebody else has signed out: %v", err)
	}
	if err := g.Elsewhere.LoggedOut(ctx, "harbour", token, house.HerHome); !errors.Is(err, elsewhere.ErrUntrue) {
		t.Errorf("the same token twice: %v", err)
	}
	for _, wrong := range []string{"", "x.y.z", in.Token} {
		if err := g.Elsewhere.LoggedOut(ctx, "harbour", wrong, house.HerHome); !errors.Is(err, elsewhere.ErrUntrue) {
			t.Errorf("%q: %v", wrong, err)
		}
	}
	if err := g.Elsewhere.LoggedOut(ctx, "harbour", g.p.LogoutToken("h-2"), house.HerHome); err != nil || house.Alive(t, g.House, in.Token) {
		t.Errorf("still in: %v", err)
	}
}
