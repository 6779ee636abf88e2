package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"ostiarius/client"
	"ostiarius/core/account"
	"ostiarius/core/policy"
	"ostiarius/core/roster"
	"ostiarius/core/secret"
	"ostiarius/service/mistake"
	"ostiarius/service/people"
)

func (a *API) show(p *account.Account) client.Person {
	now := a.Now()
	shown := client.Person{
		Name: p.Name, Email: p.Email, Notes: p.Notes, NoPassword: p.Unset, Disabled: p.Disabled, Roles: p.Roles(now), Grants: []client.Grant{},
		MadeAt: p.MadeAt, MadeBy: p.MadeBy, LastSignIn: moment(p.SignedIn), LeavesAt: moment(p.LeavesAt),
	}
	if shown.Roles == nil {
		shown.Roles = []string{}
	}
	for _, g := range p.Grants {
		shown.Grants = append(shown.Grants, client.Grant{Role: g.Role, From: g.From, Until: moment(g.Until), By: g.By})
	}
	return shown
}

func moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// The most of a list that is shown at once.
const maxPart = 1000

// part reads which part of a list is asked for.
func part(q url.Values) (offset, limit int, err error) {
	number := func(name string, usual, most int) int {
		text := q.Get(name)
		if text == "" {
			return usual
		}
		n, wrong := strconv.Atoi(text)
		if wrong != nil || n < 0 || n > most {
			err = fmt.Errorf("%s is a number from 0 to %d, not %q", name, most, text)
		}
		return n
	}
	offset, limit = number("offset", 0, 1<<30), number("limit", 100, maxPart)
	return offset, max(1, limit), err
}

// partOf reads whose things are asked for, nil for everybody's, and which part of the list. If that cannot be, it has answered.
func (a *API) partOf(w http.ResponseWriter, r *http.Request) (of *account.Account, offset, limit int, ok bool) {
	q := r.URL.Query()
	offset, limit, err := part(q)
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, err.Error())
		return nil, 0, 0, false
	}
	if name := q.Get("account"); name != "" {
		if of, err = a.People.Find(r.Context(), name); err != nil {
			a.fail(w, err)
			return nil, 0, 0, false
		}
	}
	return of, offset, limit, true
}

func (a *API) listPeople(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	offset, limit, err := part(q)
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	all, total, err := a.People.List(r.Context(), people.Query{
		Words: strings.Fields(q.Get("search")), Role: q.Get("role"), State: q.Get("state"), Sort: q.Get("sort"), Down: q.Get("down") == "true",
		Offset: offset, Limit: limit,
	})
	if err != nil {
		a.fail(w, err)
		return
	}
	shown := client.People{People: make([]client.Person, len(all)), Total: total}
	for i, p := range all {
		shown.People[i] = a.show(p)
	}
	a.answer(w, http.StatusOK, shown)
}

func (a *API) addPerson(w http.ResponseWriter, r *http.Request) {
	var n client.NewPerson
	if !a.read(w, r, &n, maxBody) {
		return
	}
	added, err := a.People.Add(r.Context(), a.Actor(r),
		people.NewAccount{Name: n.Name, Email: n.Email, Notes: n.Notes, Password: n.Password, Roles: n.Roles, Until: timeOf(n.Until),
			Anyway: n.Anyway})
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusCreated, a.show(added))
}

func (a *API) showPerson(w http.ResponseWriter, r *http.Request) {
	p, err := a.People.Find(r.Context(), parameter(r, "name"))
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, a.show(p))
}

func (a *API) removePerson(w http.ResponseWriter, r *http.Request) {
	a.done(w, a.unlessLast(r, func() error { return a.People.Remove(r.Context(), a.Actor(r), parameter(r, "name")) }))
}

func (a *API) setPassword(w http.ResponseWriter, r *http.Request) {
	var n client.NewPassword
	if a.read(w, r, &n, maxBody) {
		a.done(w, a.People.SetPassword(r.Context(), a.Actor(r), parameter(r, "name"), n.Password))
	}
}

func (a *API) setDisabled(w http.ResponseWriter, r *http.Request) {
	var disabled bool
	if a.read(w, r, &disabled, maxBody) {
		switched := func() error { return a.People.SetDisabled(r.Context(), a.Actor(r), parameter(r, "name"), disabled) }
		if disabled {
			a.done(w, a.unlessLast(r, switched))
		} else {
			a.done(w, switched())
		}
	}
}

func (a *API) grant(w http.ResponseWriter, r *http.Request) {
	var g client.NewGrant
	if !a.read(w, r, &g, maxBody) {
		return
	}
	grant := func() error {
		return a.People.Grant(r.Context(), a.Actor(r), parameter(r, "name"), g.Role, timeOf(g.From), timeOf(g.Until))
	}
	if limits := g.From != nil || g.Until != nil; limits && a.Policy.Book().Satisfies(g.Role, policy.Steward) {
		a.done(w, a.unlessLast(r, grant)) // in the place of one without an end
	} else {
		a.done(w, grant())
	}
}

func (a *API) revoke(w http.ResponseWriter, r *http.Request) {
	revoke := func() error {
		return a.People.Revoke(r.Context(), a.Actor(r), parameter(r, "name"), parameter(r, "role"))
	}
	if a.Policy.Book().Satisfies(parameter(r, "role"), policy.Steward) {
		a.done(w, a.unlessLast(r, revoke))
	} else {
		a.done(w, revoke())
	}
}

// unlessLast does what takes access from an account, unless those who administer the site this way would lock themselves out.
func (a *API) unlessLast(r *http.Request, act func() error) error {
	if !a.Shuts {
		return act()
	}
	return a.People.UnlessLast(r.Context(), parameter(r, "name"), policy.Steward, act)
}

func timeOf(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

func (a *API) editPerson(w http.ResponseWriter, r *http.Request) {
	var to client.PersonEdit
	if !a.read(w, r, &to, maxBody) {
		return
	}
	edited, err := a.People.Edit(r.Context(), a.Actor(r), parameter(r, "name"), people.Edit(to))
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, a.show(edited))
}

func (a *API) linkPerson(w http.ResponseWriter, r *http.Request) {
	token, until, err := a.People.Link(r.Context(), a.Actor(r), parameter(r, "name"))
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusCreated, client.Link{Path: a.Policy.Book().Prefix + "/recover?link=" + token, Until: until})
}

// mailLink sends a link to set a password to whom it is for.
func (a *API) mailLink(w http.ResponseWriter, r *http.Request) {
	a.done(w, a.People.MailLink(r.Context(), a.Actor(r), parameter(r, "name")))
}

func (a *API) endSessionsOf(w http.ResponseWriter, r *http.Request) {
	of, err := a.People.Find(r.Context(), parameter(r, "name"))
	if err != nil {
		a.fail(w, err)
		return
	}
	ended, err := a.Sessions.EndOf(r.Context(), a.Actor(r), of, "")
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, map[string]int64{"ended": ended})
}

// The largest list of accounts that is brought in at once, in bytes.
const maxImport = 64 << 20

func (a *API) importPeople(w http.ResponseWriter, r *http.Request) {
	var asked client.Import
	if !a.read(w, r, &asked, maxImport) {
		return
	}
	all, err := roster.Read([]byte(asked.File), time.Local)
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, "The list cannot be read: "+err.Error())
		return
	}
	if err := a.shutByList(r.Context(), all); err != nil {
		a.fail(w, err)
		return
	}
	results, done, err := a.People.Import(r.Context(), a.Actor(r), all, asked.Dry)
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, client.Imported{Done: done, Results: showLines(results)})
}

// shutByList refuses a list that takes access from somebody who administers the site this way: it could take it from all of them.
func (a *API) shutByList(ctx context.Context, all []roster.Entry) error {
	if !a.Shuts {
		return nil
	}
	book, now := a.Policy.Book(), a.Now()
	steward := func(role string) bool { return book.Satisfies(role, policy.Steward) }
	for _, e := range all {
		limits := slices.ContainsFunc(e.Roles, func(g account.Grant) bool { return steward(g.Role) && (!g.Until.IsZero() || g.From.After(now)) })
		if disables := e.Disabled != nil && *e.Disabled; e.Err != nil || !disables && !limits {
			continue
		}
		is, err := a.People.Find(ctx, strings.TrimSpace(e.Name))
		if unknown := new(mistake.Error); errors.As(err, &unknown) {
			continue // nobody yet, or said with its line
		}
		if err != nil {
			return err
		}
		if slices.ContainsFunc(is.Roles(now), steward) {
			return mistake.Invalid("line %d takes access from %s, who administers this site; do that for them alone, and not by a list", e.Line, is.Name)
		}
	}
	return nil
}

// exportPeople answers with a file of all accounts, in the form that write gives it, as they are read. One that cannot be read to its end is broken
// off, so that nobody takes it for whole.
func (a *API) exportPeople(kind, name string, write func(io.Writer, iter.Seq2[*account.Account, error]) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		begun := false
		begin := func() {
			begun = true
			w.Header().Set("Content-Type", kind)
			w.Header().Set("Content-Disposition", "attachment; filename="+name)
			w.Header().Set("Cache-Control", "private, no-store")
		}
		err := write(w, func(yield func(*account.Account, error) bool) {
			for one, err := range a.People.Export(r.Context()) {
				if err == nil && !begun {
					begin()
				}
				if !yield(one, err) {
					return
				}
			}
			begin()
		})
		switch {
		case err != nil && begun:
			a.Log.Error("a list of accounts was broken off", "error", err)
			panic(http.ErrAbortHandler)
		case err != nil:
			a.fail(w, err)
		}
	}
}

func (a *API) listSessions(w http.ResponseWriter, r *http.Request) {
	of, offset, limit, ok := a.partOf(w, r)
	if !ok {
		return
	}
	held, total, err := a.Sessions.List(r.Context(), of, r.URL.Query().Get("search"), offset, limit)
	if err != nil {
		a.fail(w, err)
		return
	}
	shown := client.Sessions{Sessions: []client.Session{}, Total: total}
	for _, s := range held {
		shown.Sessions = append(shown.Sessions, client.Session{
			Handle: s.Handle(), Account: s.Name, MadeAt: s.MadeAt, SeenAt: s.SeenAt, ProvedAt: s.ProvedAt, How: s.Proofs(),
			Remembered: s.Remembered, Network: s.Network, Agent: s.Agent,
		})
	}
	a.answer(w, http.StatusOK, shown)
}

func (a *API) endSession(w http.ResponseWriter, r *http.Request) {
	a.done(w, a.Sessions.EndOne(r.Context(), a.Actor(r), parameter(r, "handle"), nil))
}

func (a *API) endAllSessions(w http.ResponseWriter, r *http.Request) {
	ended, err := a.Sessions.EndAll(r.Context(), a.Actor(r))
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, map[string]int64{"ended": ended})
}

func (a *API) estimate(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Password string `json:"password"`
		Name     string `json:"name"`
	}
	if !a.read(w, r, &asked, maxBody) {
		return
	}
	s := a.People.Strength(asked.Password, asked.Name)
	shown := client.Strength{Bits: s.Bits, Word: s.Word}
	if err := secret.CheckNew(asked.Password, a.Policy.Book().Site, asked.Name); err != nil {
		shown.Word, shown.Advice = "refused", err.Error()
	}
	a.answer(w, http.StatusOK, shown)
}

// firstLink makes a link for the first steward. Whoever may ask for it commands the service on its machine, for
// with a session one is a steward already.
func (a *API) firstLink(w http.ResponseWriter, r *http.Request) {
	token, until, err := a.Desk.FirstLink(r.Context())
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusCreated, client.Link{Path: a.Policy.Book().Prefix + "/first?link=" + token, Until: until})
}
