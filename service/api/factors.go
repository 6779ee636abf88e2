package api

import (
	"net/http"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/service/sessions"
)

func (a *API) showFactors(w http.ResponseWriter, r *http.Request) {
	p, err := a.People.Find(r.Context(), parameter(r, "name"))
	if err != nil {
		a.fail(w, err)
		return
	}
	held, err := a.Factors.Of(r.Context(), p)
	if err != nil {
		a.fail(w, err)
		return
	}
	links, err := a.Elsewhere.Links(r.Context(), p)
	if err != nil {
		a.fail(w, err)
		return
	}
	shown := client.HeldFactors{Elsewhere: []client.HeldElsewhere{}, Passkeys: []client.HeldPasskey{}, Kept: held.Kept, Browsers: len(held.Browsers), Wanted: policy.FactorWantedOf(a.Policy.Book(), p.Roles(a.Now()), p.Enrolled)}
	for _, k := range held.Passkeys {
		shown.Passkeys = append(shown.Passkeys, client.HeldPasskey{Name: k.Name, Host: k.Party, MadeAt: k.MadeAt, UsedAt: moment(k.UsedAt)})
	}
	for _, l := range links {
		shown.Elsewhere = append(shown.Elsewhere, client.HeldElsewhere{Provider: l.Provider, KnownAs: l.KnownAs, MadeAt: l.MadeAt, UsedAt: moment(l.UsedAt)})
	}
	if held.Code != nil {
		shown.Code = &held.Code.MadeAt
	}
	if held.Reset != nil {
		shown.Reset, shown.ResetBy = &held.Reset.Due, held.Reset.By
	}
	a.answer(w, http.StatusOK, shown)
}

func (a *API) resetFactors(w http.ResponseWriter, r *http.Request) {
	p, err := a.People.Find(r.Context(), parameter(r, "name"))
	if err != nil {
		a.fail(w, err)
		return
	}
	due, err := a.Factors.Reset(r.Context(), a.Actor(r), p)
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, client.FactorReset{Due: moment(due)})
}

func (a *API) dropFactorReset(w http.ResponseWriter, r *http.Request) {
	p, err := a.People.Find(r.Context(), parameter(r, "name"))
	if err == nil {
		err = a.Factors.DropReset(r.Context(), a.Actor(r), p, sessions.Origin{})
	}
	a.done(w, err)
}
