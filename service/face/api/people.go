package api

import (
	"cmp"
	"context"
	"errors"
	"io"
	"iter"
	"net/http"
	"slices"
	"strings"
	"time"

	"ostiarius/client"
	"ostiarius/core/account"
	"ostiarius/core/policy"
	"ostiarius/core/roster"
	"ostiarius/service/base/mistake"
	"ostiarius/service/who/people"
)

func init() {
	On(client.ListPeople, (*API).listPeople)
	On(client.AddPerson, func(a *API, by Caller, n client.NewPerson) (client.Person, error) {
		return a.shown(a.People.Add(by, by.Actor, people.NewAccount{
			Name: n.Name, Email: n.Email, Notes: n.Notes, Password: n.Password, Roles: n.Roles, Until: timeOf(n.Until), Anyway: n.Anyway,
		}))
	})
	On(client.ImportPeople, (*API).importPeople)
	exportPeople(client.ExportPeople, "people.json", func(_ *API, w io.Writer, all accounts) error { return roster.WriteJSON(w, all) })
	exportPeople(client.ExportPeopleCSV, "people.csv",
		func(a *API, w io.Writer, all accounts) error { return roster.WriteCSV(w, all, a.Now()) })
	On(client.ShowPerson, func(a *API, by Caller, of client.ByName) (client.Person, error) {
		return a.shown(a.People.Find(by, of.Name))
	})
	On(client.EditPerson, func(a *API, by Caller, to client.PersonEdit) (client.Person, error) {
		return a.shown(a.People.Edit(by, by.Actor, to.Account, people.Edit{
			Name: to.Name, Email: to.Email, Notes: to.Notes, Anyway: to.Anyway,
		}))
	})
	Do(client.RemovePerson, func(a *API, by Caller, of client.ByName) error {
		return a.unlessLast(by, of.Name, true, func() error { return a.People.Remove(by, by.Actor, of.Name) })
	})
	Do(client.SetPassword, func(a *API, by Caller, n client.NewPassword) error {
		return a.People.SetPassword(by, by.Actor, n.Account, n.Password)
	})
	Do(client.DisablePerson, func(a *API, by Caller, to client.Disabled) error {
		return a.unlessLast(by, to.Account, to.Disabled, func() error {
			return a.People.SetDisabled(by, by.Actor, to.Account, to.Disabled)
		})
	})
	Do(client.GrantRole, func(a *API, by Caller, g client.NewGrant) error {
		limits := g.From != nil || g.Until != nil // it may stand in the place of one without an end
		return a.unlessLast(by, g.Account, limits && a.Policy.Book().Satisfies(g.Role, policy.Steward), func() error {
			return a.People.Grant(by, by.Actor, g.Account, g.Role, timeOf(g.From), timeOf(g.Until))
		})
	})
	Do(client.RevokeRole, func(a *API, by Caller, of client.RoleOf) error {
		return a.unlessLast(by, of.Account, a.Policy.Book().Satisfies(of.Role, policy.Steward), func() error {
			return a.People.Revoke(by, by.Actor, of.Account, of.Role)
		})
	})
	On(client.LinkPerson, func(a *API, by Caller, of client.ByName) (client.Link, error) {
		token, until, err := a.People.Link(by, by.Actor, of.Name)
		return client.Link{Path: a.Policy.Book().Prefix + "/recover?link=" + token, Until: until}, err
	})
	Do(client.MailLink, func(a *API, by Caller, of client.ByName) error { return a.People.MailLink(by, by.Actor, of.Name) })
	On(client.EndSessionsOf, func(a *API, by Caller, of client.ByName) (client.Ended, error) {
		p, err := a.People.Find(by, of.Name)
		if err != nil {
			return client.Ended{}, err
		}
		ended, err := a.Sessions.EndOf(by, by.Actor, p, "")
		return client.Ended{Ended: ended}, err
	})
	// Whoever may ask for a link for the first steward commands the service on its machine, for with a session one is a steward already.
	On(client.FirstLink, func(a *API, by Caller, _ client.None) (client.Link, error) {
		token, until, err := a.SignIn.FirstLink(by)
		return client.Link{Path: a.Policy.Book().Prefix + "/first?link=" + token, Until: until}, err
	})
}

// shown shows an account, if there is no error.
func (a *API) shown(p *account.Account, err error) (client.Person, error) {
	if err != nil {
		return client.Person{}, err
	}
	return a.show(p), nil
}

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

func timeOf(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

// limitOf returns how many of a list are shown, where so many are asked for.
func limitOf(asked int) int { return cmp.Or(asked, 100) }

// accountOf returns the account whose things are asked for; nil for everybody's.
func (a *API) accountOf(by Caller, name string) (*account.Account, error) {
	if name == "" {
		return nil, nil
	}
	return a.People.Find(by, name)
}

func (a *API) listPeople(by Caller, q client.PeopleQuery) (client.People, error) {
	all, total, err := a.People.List(by, people.Query{
		Words: strings.Fields(q.Search), Role: q.Role, State: q.State, Sort: q.Sort, Down: q.Down, Offset: q.Offset, Limit: limitOf(q.Limit),
	})
	shown := client.People{People: make([]client.Person, len(all)), Total: total}
	for i, p := range all {
		shown.People[i] = a.show(p)
	}
	return shown, err
}

// unlessLast does what may take access from an account, unless those who administer the site this way would lock themselves out.
func (a *API) unlessLast(by Caller, name string, takes bool, act func() error) error {
	if !a.Shuts || !takes {
		return act()
	}
	return a.People.UnlessLast(by, name, policy.Steward, act)
}

func (a *API) importPeople(by Caller, asked client.Import) (client.Imported, error) {
	all, err := roster.Read([]byte(asked.File), time.Local)
	if err != nil {
		return client.Imported{}, mistake.Invalid("The list cannot be read: %v", err)
	}
	if err := a.shutByList(by, all); err != nil {
		return client.Imported{}, err
	}
	results, done, err := a.People.Import(by, by.Actor, all, asked.Dry)
	return client.Imported{Done: done, Results: showLines(results)}, err
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
			return mistake.Invalid("line %d takes access from %s, who administers this site; do that for them alone, and not by a list",
				e.Line, is.Name)
		}
	}
	return nil
}

type accounts = iter.Seq2[*account.Account, error]

// exportPeople answers with a file of all accounts, in the form that write gives it, as they are read. One that cannot be read to its end
// is broken off, so that nobody takes it for whole.
func exportPeople(op client.Call[client.None, client.File], name string, write func(*API, io.Writer, accounts) error) {
	Write(op, func(a *API, by Caller, _ client.None, w http.ResponseWriter) error {
		begun := false
		begin := func() {
			begun = true
			kind := op.Media
			if strings.HasPrefix(kind, "text/") {
				kind += "; charset=utf-8"
			}
			by.Header.Set("Content-Type", kind)
			by.Header.Set("Content-Disposition", "attachment; filename="+name)
			by.Header.Set("Cache-Control", "private, no-store")
		}
		err := write(a, w, func(yield func(*account.Account, error) bool) {
			for one, err := range a.People.Export(by) {
				if err == nil && !begun {
					begin()
				}
				if !yield(one, err) {
					return
				}
			}
			begin()
		})
		if err != nil && begun {
			a.Log.Error("a list of accounts was broken off", "error", err)
			panic(http.ErrAbortHandler)
		}
		return err
	})
}
