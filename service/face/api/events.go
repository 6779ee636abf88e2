package api

import (
	"time"

	"ostiarius/client"
	"ostiarius/core/event"
	"ostiarius/core/telling"
	"ostiarius/store"
)

func showShopEvent(r event.Record) client.ShopEvent {
	e := r.Event
	shown := client.ShopEvent{
		ID: r.ID, Source: r.Source, Number: r.Number, At: r.At, Type: string(e.Type), Order: e.Order, Address: e.Buyer.Address,
		Name: e.Buyer.Name, Account: e.Buyer.Account, Items: []client.ShopItem{}, Until: moment(e.Until), Happened: moment(e.At),
		State: string(r.State), Problem: r.Problem, DoneAt: moment(r.DoneAt),
	}
	for _, item := range e.Items {
		shown.Items = append(shown.Items, client.ShopItem{Item: item.Item, Name: item.Name, Number: item.Number})
	}
	return shown
}

func init() {
	On(client.ListShopEvents, (*API).listShopEvents)
	On(client.ShowShopEvent, func(a *API, by Caller, of client.ByNumber) (client.ShopEvent, error) {
		told, err := a.Events.Find(by, of.ID)
		return showShopEvent(told), err
	})
	Do(client.RetryShopEvent, func(a *API, by Caller, of client.ByNumber) error { return a.Events.Retry(by, by.Actor, of.ID) })
	Do(client.DropShopEvent, func(a *API, by Caller, of client.ByNumber) error { return a.Events.Drop(by, by.Actor, of.ID) })
	On(client.ImportPayments, func(a *API, by Caller, i client.PaymentsImport) (client.ImportedPayments, error) {
		lines, err := a.Events.Import(by, by.Actor, i.File, time.Local, i.Dry)
		return client.ImportedPayments{Lines: showLines(lines)}, err
	})
	On(client.ListEventSecrets, (*API).listEventSecrets)
	On(client.AddEventSecret, (*API).addEventSecret)
	Do(client.RemoveEventSecret, func(a *API, by Caller, of client.ByNumber) error { return a.Events.RemoveSecret(by, by.Actor, of.ID) })
	On(client.ListTargets, (*API).listTargets)
	On(client.AddTarget, (*API).addTarget)
	Do(client.RemoveTarget, func(a *API, by Caller, of client.ByNumber) error { return a.Outgoing.Remove(by, by.Actor, of.ID) })
	Do(client.TestTarget, func(a *API, by Caller, of client.ByNumber) error { return a.Outgoing.Test(by, of.ID) })
}

func (a *API) listShopEvents(by Caller, q client.ShopEventQuery) (client.ShopEvents, error) {
	all, counts, err := a.Events.List(by, store.EventsQuery{
		State: event.State(q.State), Words: q.Search, Before: q.Before, Limit: limitOf(q.Limit),
	})
	shown := client.ShopEvents{
		Events: make([]client.ShopEvent, len(all)), Waiting: counts[event.Waiting], Done: counts[event.Done], Kept: counts[event.Kept],
		Ignored: counts[event.Ignored],
	}
	for i, told := range all {
		shown.Events[i] = showShopEvent(told)
	}
	return shown, err
}

func (a *API) listEventSecrets(by Caller, _ client.None) ([]client.EventSecret, error) {
	secrets, err := a.Events.Secrets(by)
	all := []client.EventSecret{}
	for _, s := range secrets {
		all = append(all, client.EventSecret{ID: s.ID, MadeAt: s.MadeAt, MadeBy: s.MadeBy, Until: moment(s.Until)})
	}
	return all, err
}

func (a *API) addEventSecret(by Caller, n client.NewEventSecret) (client.MadeSecret, error) {
	grace := time.Duration(-1)
	if n.Grace != nil {
		grace = seconds(*n.Grace)
	}
	secret, err := a.Events.AddSecret(by, by.Actor, n.Secret, grace)
	return client.MadeSecret{Secret: secret}, err
}

func (a *API) listTargets(by Caller, _ client.None) ([]client.Target, error) {
	targets, err := a.Outgoing.Targets(by)
	all := []client.Target{}
	for _, t := range targets {
		shown := client.Target{ID: t.ID, URL: t.URL, Kinds: []string{}, MadeAt: t.MadeAt, MadeBy: t.MadeBy}
		for _, k := range t.Kinds {
			shown.Kinds = append(shown.Kinds, string(k))
		}
		all = append(all, shown)
	}
	return all, err
}

func (a *API) addTarget(by Caller, n client.NewTarget) (client.MadeTarget, error) {
	var kinds []telling.Kind
	for _, k := range n.Kinds {
		kinds = append(kinds, telling.Kind(k))
	}
	id, secret, err := a.Outgoing.Add(by, by.Actor, n.URL, kinds)
	return client.MadeTarget{ID: id, Secret: secret}, err
}
