package house

import (
	"encoding/base32"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"

	"ostiarius/core/account"
	"ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/onetime"
	"ostiarius/core/passkey/pretend"
	"ostiarius/core/policy"
	"ostiarius/core/words"
	"ostiarius/service/keep/mail"
	"ostiarius/service/who/accesskeys"
	"ostiarius/service/who/factors"
	"ostiarius/service/who/joining"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
	"ostiarius/store"
)

// Come is who a request is of that brings a bearer token, from an address; with a session beside it if that is not "".
func (h *House) Come(t testing.TB, from, token, session string) policy.Visitor {
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

// Key makes an access key of Ines, and returns its token and its handle.
func (h *House) Key(t testing.TB, want accesskeys.NewKey) (token, handle string) {
	t.Helper()
	if want.Name == "" {
		want.Name = "tide report"
	}
	token, made, err := h.AccessKeys.Make(ctx, "test", h.Account(t, "ines"), want, sessions.Origin{})
	if err != nil {
		t.Fatal(err)
	}
	return token, made.Handle()
}

// InesPassword is the password of Ines.
const InesPassword = "seven-brass-prisms"

// Where Ines is at home, and the page of the site that asks for her passkeys.
var (
	HerHome = sessions.Origin{Network: "192.0.2.7", Agent: "a browser"}
	HerPage = factors.Page{Origin: "https://marram.example", Host: "marram.example"}
)

// Account is an account as it is now.
func (h *House) Account(t testing.TB, name string) *account.Account {
	t.Helper()
	a, err := h.People.Find(ctx, name)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// SetUp gives an account an app for codes, and returns what makes them, and those that are kept.
func (h *House) SetUp(t testing.TB, name string) (code func() string, kept []string) {
	t.Helper()
	a := h.Account(t, name)
	fresh, err := h.Factors.NewCode(a)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(strings.ReplaceAll(fresh.Text, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	code = func() string { return onetime.At(secret, onetime.Step(h.Time()), onetime.Digits) }
	if kept, err = h.Factors.SetCode(ctx, a, fresh.Sealed, code(), HerHome); err != nil {
		t.Fatal(err)
	}
	return code, kept
}

// Text is a question to a passkey as a browser gets it.
func Text(t testing.TB, q factors.Question, err error) string {
	t.Helper()
	raw, wrong := json.Marshal(q)
	if err != nil || wrong != nil {
		t.Fatal(err, wrong)
	}
	return string(raw)
}

// Passkey gives an account a passkey.
func (h *House) Passkey(t testing.TB, name string) *pretend.Key {
	t.Helper()
	a := h.Account(t, name)
	k := pretend.New(-7, HerPage.Origin, HerPage.Host)
	q, err := h.Factors.AskNew(ctx, a, HerPage)
	if _, err := h.Factors.Add(ctx, a, HerPage, k.Make(Text(t, q, err)), "her key", HerHome); err != nil {
		t.Fatal(err)
	}
	return k
}

// Half is the token of somebody whose password was right and who is asked for more.
func (h *House) Half(t testing.TB, from sessions.Origin) string {
	t.Helper()
	_, err := h.SignIn.SignIn(ctx, "ines", InesPassword, from, false)
	var second *signin.Second
	if !errors.As(err, &second) {
		t.Fatalf("not asked for a second factor: %v", err)
	}
	return second.Token
}

// Kinds are the kinds of all that was noted, the newest first.
func (h *House) Kinds(t testing.TB) (all []activity.Kind) {
	t.Helper()
	events, _, err := h.Activity.Events(ctx, store.ActivityQuery{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range events {
		all = append(all, e.Kind)
	}
	return all
}

// Joins is the house where people join as the policy says.
func Joins(t *testing.T, how string) (*House, *Clock) {
	t.Helper()
	r, _, c := Open(t)
	r.Book = BookOf(t, "roles: { keeper: , friend: }\ndoors: [{ path: /, admit: public }, { path: /terms, admit: public }]\njoining: "+
		how+"\n")
	return r.Start(t), c
}

// Sigrid wants to join.
var Sigrid = joining.Applicant{Name: "Sigrid", Email: "sigrid@marram.example", Password: "brambles-in-the-fog", Next: "/rota/"}

// Elsewheres is where people join from.
var Elsewheres = sessions.Origin{Network: "192.0.2.7", Language: words.German}

// LinkIn is the token in a link of a message, whatever it is called there.
func LinkIn(t *testing.T, m message.Message) string {
	t.Helper()
	_, token, ok := strings.Cut(m.Link, "=")
	if !ok {
		t.Fatalf("%s has no link: %q", m.Kind, m.Link)
	}
	return token
}

// Roles are the roles that an account has now.
func Roles(t *testing.T, r *House, name string) []string {
	t.Helper()
	a, err := r.People.Find(ctx, name)
	if err != nil {
		t.Fatal(err)
	}
	return a.Roles(r.Time())
}

// Must is an account that is there.
func (h *House) Must(name string) *account.Account {
	a, err := h.People.Find(ctx, name)
	if err != nil {
		panic(err)
	}
	return a
}

// Mailed returns the messages that were written down, the newest first.
func Mailed(t *testing.T, r *House) []message.Message {
	t.Helper()
	all, _, err := r.Mail.List(ctx, mail.Query{Limit: 1000})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// TokenOf is the token in the link of a message.
func TokenOf(t *testing.T, m message.Message) string {
	t.Helper()
	_, token, ok := strings.Cut(m.Link, "?link=")
	if !ok {
		t.Fatalf("%s has no link: %q", m.Kind, m.Link)
	}
	return token
}

// Add adds an account.
func Add(t *testing.T, r *House, n people.NewAccount) {
	t.Helper()
	if _, err := r.People.Add(ctx, "test", n); err != nil {
		t.Fatal(err)
	}
}

// SignInAs signs somebody in, and returns the token of the session.
func SignInAs(t *testing.T, r *House, name, password string) string {
	t.Helper()
	in, err := r.SignIn.SignIn(ctx, name, password, sessions.Origin{Network: "192.0.2.7"}, false)
	if err != nil {
		t.Fatal(err)
	}
	return in.Token
}
