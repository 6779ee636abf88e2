package api

import (
	"net/http"
	"slices"
	"strings"
	"time"

	"ostiarius/client"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/words"
	"ostiarius/service/people"
	"ostiarius/service/shared"
)

func (a *API) listShared(w http.ResponseWriter, r *http.Request) {
	names, err := a.Shared.List(r.Context())
	if err != nil {
		a.fail(w, err)
		return
	}
	all := []client.SharedPassword{}
	for _, n := range names {
		shown := client.SharedPassword{Name: n.Name, Title: n.Title, Lasts: lastsText(n.Lasts, n.Forever), Gone: n.Gone, Passwords: []client.SharedValid{}, Unlocks: n.Unlocks}
		if !n.Gone {
			shown.Place = policy.Opened(a.Policy.Book(), policy.Shared, n.Name)
		}
		for _, p := range n.Passwords {
			shown.Passwords = append(shown.Passwords, client.SharedValid{MadeAt: p.MadeAt, MadeBy: p.MadeBy, Until: moment(p.Until), UsedAt: moment(p.UsedAt)})
		}
		all = append(all, shown)
	}
	a.answer(w, http.StatusOK, all)
}

func lastsText(d time.Duration, forever bool) string {
	if forever {
		return "forever"
	}
	return policy.FormatDuration(d)
}

func (a *API) setShared(w http.ResponseWriter, r *http.Request) {
	var s client.SetShared
	if a.read(w, r, &s, maxBody) {
		a.done(w, a.Shared.Set(r.Context(), a.Actor(r), parameter(r, "name"), shared.Change{Password: s.Password, Grace: seconds(s.Grace), End: s.EndUnlocks}))
	}
}

// seconds is a time that is given in seconds, as far as it can be one.
func seconds(n int64) time.Duration { return time.Duration(max(-1, min(n, 1<<32))) * time.Second }

func (a *API) withdrawShared(w http.ResponseWriter, r *http.Request) {
	a.done(w, a.Shared.Withdraw(r.Context(), a.Actor(r), parameter(r, "name")))
}

func (a *API) listUnlocks(w http.ResponseWriter, r *http.Request) {
	found, total, err := a.Shared.Unlocks(r.Context(), parameter(r, "name"), maxPart)
	if err != nil {
		a.fail(w, err)
		return
	}
	all := client.Unlocks{Unlocks: []client.Unlock{}, Total: total}
	for _, u := range found {
		shown := client.Unlock{Handle: u.Handle(), Name: u.Name, MadeAt: u.MadeAt, Network: u.Network, Agent: u.Agent, Account: u.Account}
		if d := policy.SharedNamed(a.Policy.Book(), u.Name); d != nil {
			shown.Until = moment(d.Ends(u.MadeAt))
		}
		all.Unlocks = append(all.Unlocks, shown)
	}
	a.answer(w, http.StatusOK, all)
}

func (a *API) endUnlocks(w http.ResponseWriter, r *http.Request) {
	_, err := a.Shared.EndAll(r.Context(), a.Actor(r), parameter(r, "name"))
	a.done(w, err)
}

func (a *API) endUnlock(w http.ResponseWriter, r *http.Request) {
	a.done(w, a.Shared.EndOne(r.Context(), a.Actor(r), parameter(r, "handle")))
}

func (a *API) toldShared(w http.ResponseWriter, r *http.Request) {
	found, total, err := a.Shared.Told(r.Context(), parameter(r, "name"), maxPart)
	if err != nil {
		a.fail(w, err)
		return
	}
	all := client.Tellings{Tellings: []client.Telling{}, Total: total}
	for _, t := range found {
		all.Tellings = append(all.Tellings, client.Telling{Address: t.Address, At: t.At, Actor: t.Actor})
	}
	a.answer(w, http.StatusOK, all)
}

// tellShared has people mailed a shared password, or with preview only says whom and with what words.
func (a *API) tellShared(preview bool) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var t client.TellShared
		if !a.read(w, r, &t, 2<<20) {
			return
		}
		in := words.Language(t.Language)
		if t.Language != "" && !slices.Contains(words.Languages, in) {
			a.problem(w, http.StatusUnprocessableEntity, "There is no language "+t.Language+".")
			return
		}
		name := parameter(r, "name")
		d := policy.SharedNamed(a.Policy.Book(), name)
		if d == nil {
			a.problem(w, http.StatusNotFound, "The policy has no shared password "+name+".")
			return
		}
		to, err := a.recipients(r, t)
		if err != nil {
			a.problem(w, http.StatusUnprocessableEntity, err.Error())
			return
		}
		l := shared.Letter{To: to, Password: t.Password, Text: t.Text, Language: in}
		if preview && t.Password != "-" && t.Password != "" { // else it is not known yet
			if err := a.Shared.IsPassword(r.Context(), name, t.Password); err != nil {
				a.fail(w, err)
				return
			}
		}
		done := client.ToldShared{Recipients: []client.Recipient{}}
		for _, one := range to {
			shown := client.Recipient{Line: one.Line, Address: one.Address, Name: one.Name}
			if one.Err != nil {
				shown.Wrong = one.Err.Error()
			} else if done.Letter == nil {
				said := a.Mail.Preview(a.Shared.Message(d, l, one, a.Now()))
				done.Letter = &client.Letter{Language: string(said.Language), Subject: said.Subject, Text: said.Text}
			}
			done.Recipients = append(done.Recipients, shown)
		}
		if !preview {
			if _, err := a.Shared.Send(r.Context(), a.Actor(r), name, l); err != nil {
				a.fail(w, err)
				return
			}
		}
		a.answer(w, http.StatusOK, done)
	}
}

// recipients returns those of a list, and whoever has a role and an address.
func (a *API) recipients(r *http.Request, t client.TellShared) ([]message.Recipient, error) {
	list := t.To
	if t.Role != "" {
		found, _, err := a.People.List(r.Context(), people.Query{Role: t.Role, State: "enabled", Limit: message.MostRecipients})
		if err != nil {
			return nil, err
		}
		var lines strings.Builder
		for _, who := range found {
			if who.Email != "" {
				lines.WriteString("\n" + who.Email)
			}
		}
		return message.Recipients(list, lines.String())
	}
	return message.Recipients(list)
}
