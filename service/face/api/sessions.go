package api

import "ostiarius/client"

func init() {
	On(client.ListSessions, (*API).listSessions)
	Do(client.EndSession, func(a *API, by Caller, of client.ByHandle) error {
		return a.Sessions.EndOne(by, by.Actor, of.Handle, nil)
	})
	On(client.EndAllSessions, func(a *API, by Caller, _ client.None) (client.Ended, error) {
		ended, err := a.Sessions.EndAll(by, by.Actor)
		return client.Ended{Ended: ended}, err
	})
}

func (a *API) listSessions(by Caller, q client.SessionsQuery) (shown client.Sessions, err error) {
	of, err := a.accountOf(by, q.Account)
	if err != nil {
		return shown, err
	}
	held, total, err := a.Sessions.List(by, of, q.Search, q.Offset, limitOf(q.Limit))
	shown = client.Sessions{Sessions: []client.Session{}, Total: total}
	for _, s := range held {
		shown.Sessions = append(shown.Sessions, client.Session{
			Handle: s.Handle(), Account: s.Name, MadeAt: s.MadeAt, SeenAt: s.SeenAt, ProvedAt: s.ProvedAt, How: s.Proofs(),
			Remembered: s.Remembered, Network: s.Network, Agent: s.Agent,
		})
	}
	return shown, err
}
