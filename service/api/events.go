package api

import (
	"net/http"
	"strconv"
	"time"

	"ostiarius/client"
	"ostiarius/core/event"
	"ostiarius/core/telling"
	"ostiarius/store"
)

func showShopEvent(r event.Record) client.ShopEvent {
	e := r.Event
	shown := client.ShopEvent{
		ID: r.ID, Source: r.Source, Number: r.Number, At: r.At, Type: string(e.Type), Order: e.Order, Address: e.Buyer.Address, Name: e.Buyer.Name, Account: e.Buyer.Account,
		Items: []client.ShopItem{}, Until: moment(e.Until), Happened: moment(e.At), State: string(r.State), Problem: r.Problem, DoneAt: moment(r.DoneAt),
	}
	for _, item := range e.Items {
		shown.Items = append(shown.Items, client.ShopItem{Item: item.Item, Name: item.Name, Number: item.Number})
	}
	return shown
}

func (a *API) listShopEvents(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	_, limit, err := part(query)
	q := store.EventsQuery{State: event.State(query.Get("state")), Words: query.Get("search"), Limit: limit}
	if before := query.Get("before"); before != "" && err == nil {
		q.Before, err = strconv.ParseInt(before, 10, 64)
	}
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	all, counts, err := a.Events.List(r.Context(), q)
	if err != nil {
		a.fail(w, err)
		return
	}
	answer := client.ShopEvents{Events: make([]client.ShopEvent, len(all)), Waiting: counts[event.Waiting], Done: counts[event.Done], Kept: counts[event.Kept], Ignored: counts[event.Ignored]}
	for i, told := range all {
		answer.Events[i] = showShopEvent(told)
	}
	a.answer(w, http.StatusOK, answer)
}

// numbered reads which one is meant; it answers what is no number.
func (a *API) numbered(w http.ResponseWriter, r *http.Request) (int64, bool) {
	id, err := strconv.ParseInt(parameter(r, "id"), 10, 64)
	if err != nil {
		a.problem(w, http.StatusNotFound, "It is named by its number.")
	}
	return id, err == nil
}

func (a *API) showShopEvent(w http.ResponseWriter, r *http.Request) {
	id, ok := a.numbered(w, r)
	if !ok {
		return
	}
	told, err := a.Events.Find(r.Context(), id)
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, showShopEvent(told))
}

func (a *API) retryShopEvent(w http.ResponseWriter, r *http.Request) {
	if id, ok := a.numbered(w, r); ok {
		a.done(w, a.Events.Retry(r.Context(), a.Actor(r), id))
	}
}

func (a *API) dropShopEvent(w http.ResponseWriter, r *http.Request) {
	if id, ok := a.numbered(w, r); ok {
		a.done(w, a.Events.Drop(r.Context(), a.Actor(r), id))
	}
}

func (a *API) importPayments(w http.ResponseWriter, r *http.Request) {
	var i client.PaymentsImport
	if !a.read(w, r, &i, 32<<20) {
		return
	}
	lines, err := a.Events.Import(r.Context(), a.Actor(r), i.File, time.Local, i.Dry)
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, client.ImportedPayments{Lines: showLines(lines)})
}

func (a *API) listEventSecrets(w http.ResponseWriter, r *http.Request) {
	secrets, err := a.Events.Secrets(r.Context())
	if err != nil {
		a.fail(w, err)
		return
	}
	all := []client.EventSecret{}
	for _, s := range secrets {
		all = append(all, client.EventSecret{ID: s.ID, MadeAt: s.MadeAt, MadeBy: s.MadeBy, Until: moment(s.Until)})
	}
	a.answer(w, http.StatusOK, all)
}

func (a *API) addEventSecret(w http.ResponseWriter, r *http.Request) {
	var n client.NewEventSecret
	if !a.read(w, r, &n, maxBody) {
		return
	}
	grace := time.Duration(-1)
	if n.Grace != nil {
		grace = seconds(*n.Grace)
	}
	secret, err := a.Events.AddSecret(r.Context(), a.Actor(r), n.Secret, grace)
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusCreated, client.MadeSecret{Secret: secret})
}

func (a *API) removeEventSecret(w http.ResponseWriter, r *http.Request) {
	if id, ok := a.numbered(w, r); ok {
		a.done(w, a.Events.RemoveSecret(r.Context(), a.Actor(r), id))
	}
}

func (a *API) listTargets(w http.ResponseWriter, r *http.Request) {
	targets, err := a.Teller.Targets(r.Context())
	if err != nil {
		a.fail(w, err)
		return
	}
	all := []client.Target{}
	for _, t := range targets {
		shown := client.Target{ID: t.ID, URL: t.URL, Kinds: []string{}, MadeAt: t.MadeAt, MadeBy: t.MadeBy}
		for _, k := range t.Kinds {
			shown.Kinds = append(shown.Kinds, string(k))
		}
		all = append(all, shown)
	}
	a.answer(w, http.StatusOK, all)
}

func (a *API) addTarget(w http.ResponseWriter, r *http.Request) {
	var n client.NewTarget
	if !a.read(w, r, &n, maxBody) {
		return
	}
	var kinds []telling.Kind
	for _, k := range n.Kinds {
		kinds = append(kinds, telling.Kind(k))
	}
	id, secret, err := a.Teller.Add(r.Context(), a.Actor(r), n.URL, kinds)
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusCreated, client.MadeTarget{ID: id, Secret: secret})
}

func (a *API) removeTarget(w http.ResponseWriter, r *http.Request) {
	if id, ok := a.numbered(w, r); ok {
		a.done(w, a.Teller.Remove(r.Context(), a.Actor(r), id))
	}
}

func (a *API) testTarget(w http.ResponseWriter, r *http.Request) {
	if id, ok := a.numbered(w, r); ok {
		a.done(w, a.Teller.Test(r.Context(), id))
	}
}
