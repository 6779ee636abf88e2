package api

import (
	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/service/who/sessions"
)

func init() {
	On(client.ShowFactors, (*API).showFactors)
	On(client.ResetFactors, func(a *API, by Caller, of client.ByName) (client.FactorReset, error) {
		p, err := a.People.Find(by, of.Name)
		if err != nil {
			return client.FactorReset{}, err
		}
		due, err := a.Factors.Reset(by, by.Actor, p)
		return client.FactorReset{Due: moment(due)}, err
	})
	Do(client.CancelFactorReset, func(a *API, by Caller, of client.ByName) error {
		p, err := a.People.Find(by, of.Name)
		if err != nil {
			return err
		}
		return a.Factors.DropReset(by, by.Actor, p, sessions.Origin{})
	})
}

func (a *API) showFactors(by Caller, of client.ByName) (shown client.HeldFactors, err error) {
	p, err := a.People.Find(by, of.Name)
	if err != nil {
		return shown, err
	}
	held, err := a.Factors.Of(by, p)
	if err != nil {
		return shown, err
	}
	links, err := a.Elsewhere.Links(by, p)
	shown = client.HeldFactors{
		Elsewhere: []client.HeldElsewhere{}, Passkeys: []client.HeldPasskey{}, Kept: held.Kept, Browsers: len(held.Browsers),
		Wanted: policy.FactorWantedOf(a.Policy.Book(), p.Roles(a.Now()), p.Enrolled),
	}
	for _, k := range held.Passkeys {
		shown.Passkeys = append(shown.Passkeys, client.HeldPasskey{Name: k.Name, Host: k.Party, MadeAt: k.MadeAt, UsedAt: moment(k.UsedAt)})
	}
	for _, l := range links {
		shown.Elsewhere = append(shown.Elsewhere, client.HeldElsewhere{
			Provider: l.Provider, KnownAs: l.KnownAs, MadeAt: l.MadeAt, UsedAt: moment(l.UsedAt),
		})
	}
	if held.Code != nil {
		shown.Code = &held.Code.MadeAt
	}
	if held.Reset != nil {
		shown.Reset, shown.ResetBy = &held.Reset.Due, held.Reset.By
	}
	return shown, err
}
