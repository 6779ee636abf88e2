package api

import (
	"context"
	"strings"
	"time"

	"ostiarius/client"
	"ostiarius/core/document"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/service/base/mistake"
	"ostiarius/service/held/shared"
	"ostiarius/service/who/people"
)

func init() {
	On(client.ListShared, (*API).listShared)
	Do(client.SetShared, func(a *API, by Caller, s client.NewShared) error {
		return a.Shared.Set(by, by.Actor, s.Name, shared.Change{Password: s.Password, Grace: seconds(s.Grace), End: s.EndUnlocks})
	})
	Do(client.EndShared, func(a *API, by Caller, of client.ByName) error { return a.Shared.Withdraw(by, by.Actor, of.Name) })
	On(client.ListUnlocks, (*API).listUnlocks)
	Do(client.EndUnlocks, func(a *API, by Caller, of client.ByName) error {
		_, err := a.Shared.EndAll(by, by.Actor, of.Name)
		return err
	})
	Do(client.EndUnlock, func(a *API, by Caller, of client.ByHandle) error { return a.Shared.EndOne(by, by.Actor, of.Handle) })
	On(client.ListTold, func(a *API, by Caller, of client.ByName) (client.Tellings, error) {
		found, total, err := a.Shared.Told(by, of.Name, mostShown)
		all := client.Tellings{Tellings: []client.Telling{}, Total: total}
		for _, t := range found {
			all.Tellings = append(all.Tellings, client.Telling{Address: t.Address, At: t.At, Actor: t.Actor})
		}
		return all, err
	})
	On(client.SendShared, func(a *API, by Caller, t client.TellShared) (client.ToldShared, error) {
		told, l, err := a.letterTo(by, t)
		if err == nil {
			_, err = a.Shared.Send(by, by.Actor, t.Name, l)
		}
		return told, err
	})
	On(client.PreviewShared, func(a *API, by Caller, t client.TellShared) (client.ToldShared, error) {
		told, _, err := a.letterTo(by, t)
		if err == nil && t.Password != "-" && t.Password != "" { // else it is not known yet
			err = a.Shared.IsPassword(by, t.Name, t.Password)
		}
		return told, err
	})
}

// The most of a list that is shown at once.
const mostShown = 1000

func (a *API) listShared(by Caller, _ client.None) ([]client.SharedPassword, error) {
	names, err := a.Shared.List(by)
	all := []client.SharedPassword{}
	for _, n := range names {
		shown := client.SharedPassword{
			Name: n.Name, Title: n.Title, Lasts: lastsText(n.Lasts, n.Forever), Gone: n.Gone, Passwords: []client.SharedValid{}, Unlocks: n.Unlocks,
		}
		if !n.Gone {
			shown.Place = policy.Opened(a.Policy.Book(), policy.Shared, n.Name)
		}
		for _, p := range n.Passwords {
			shown.Passwords = append(shown.Passwords, client.SharedValid{
				MadeAt: p.MadeAt, MadeBy: p.MadeBy, Until: moment(p.Until), UsedAt: moment(p.UsedAt),
			})
		}
		all = append(all, shown)
	}
	return all, err
}

func lastsText(d time.Duration, forever bool) string {
	if forever {
		return "forever"
	}
	return document.FormatDuration(d)
}

// seconds is a time that is given in seconds, as far as it can be one.
func seconds(n int64) time.Duration { return time.Duration(max(-1, min(n, 1<<32))) * time.Second }

func (a *API) listUnlocks(by Caller, of client.ByName) (client.Unlocks, error) {
	found, total, err := a.Shared.Unlocks(by, of.Name, mostShown)
	all := client.Unlocks{Unlocks: []client.Unlock{}, Total: total}
	for _, u := range found {
		shown := client.Unlock{Handle: u.Handle(), Name: u.Name, MadeAt: u.MadeAt, Network: u.Network, Agent: u.Agent, Account: u.Account}
		if d := policy.SharedNamed(a.Policy.Book(), u.Name); d != nil {
			shown.Until = moment(d.Ends(u.MadeAt))
		}
		all.Unlocks = append(all.Unlocks, shown)
	}
	return all, err
}

// letterTo returns the letter by which people are told a shared password, and what is said of it: to whom it goes, and what the first of
// them reads.
func (a *API) letterTo(by Caller, t client.TellShared) (told client.ToldShared, l shared.Letter, err error) {
	in, err := language(t.Language)
	if err != nil {
		return told, l, err
	}
	d := policy.SharedNamed(a.Policy.Book(), t.Name)
	if d == nil {
		return told, l, mistake.Unknown("The policy has no shared password %s.", t.Name)
	}
	to, err := a.recipients(by, t)
	if err != nil {
		return told, l, unprocessable(err)
	}
	l = shared.Letter{To: to, Password: t.Password, Text: t.Text, Language: in}
	told.Recipients = []client.Recipient{}
	for _, one := range to {
		shown := client.Recipient{Line: one.Line, Address: one.Address, Name: one.Name}
		if one.Err != nil {
			shown.Wrong = one.Err.Error()
		} else if told.Letter == nil {
			said := a.Mail.Preview(a.Shared.Message(d, l, one, a.Now()))
			told.Letter = &client.Letter{Language: string(said.Language), Subject: said.Subject, Text: said.Text}
		}
		told.Recipients = append(told.Recipients, shown)
	}
	return told, l, nil
}

// recipients returns those of a list, and whoever has a role and an address.
func (a *API) recipients(ctx context.Context, t client.TellShared) ([]message.Recipient, error) {
	list := t.To
	if t.Role != "" {
		found, _, err := a.People.List(ctx, people.Query{Role: t.Role, State: "enabled", Limit: message.MostRecipients})
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
