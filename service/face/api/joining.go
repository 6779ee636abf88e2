package api

import (
	"time"

	"ostiarius/client"
	"ostiarius/core/words"
	"ostiarius/service/who/joining"
)

func init() {
	On(client.ListJoining, (*API).listJoining)
	Do(client.ApproveApplication, func(a *API, by Caller, of client.ByName) error { return a.Joining.Approve(by, by.Actor, of.Name) })
	Do(client.DeclineApplication, func(a *API, by Caller, d client.Declining) error {
		return a.Joining.Decline(by, by.Actor, d.Account, d.Text)
	})
	On(client.Invite, func(a *API, by Caller, n client.NewInvitation) (client.Invited, error) {
		path, until, err := a.Joining.Invite(by, by.Actor, joining.Invite{
			Email: n.Email, Roles: n.Roles, Ends: timeOf(n.Ends), Lasts: time.Duration(min(n.Lasts, 1<<32)) * time.Second,
			Language: words.Language(n.Language), Mail: n.Mail,
		})
		return client.Invited{Path: path, Until: until}, err
	})
	Do(client.RevokeInvitation, func(a *API, by Caller, of client.ByEmail) error { return a.Joining.Revoke(by, by.Actor, of.Email) })
}

func (a *API) listJoining(by Caller, _ client.None) (all client.Joining, err error) {
	applications, err := a.Joining.Applications(by)
	if err != nil {
		return all, err
	}
	invitations, err := a.Joining.Invitations(by)
	all = client.Joining{By: string(a.Policy.Book().Joining.By), Applications: []client.Application{}, Invitations: []client.Invitation{}}
	for _, p := range applications {
		all.Applications = append(all.Applications, client.Application{
			Name: p.Name, Email: p.Email, State: string(p.State), MadeAt: p.MadeAt, Until: p.Until,
		})
	}
	for _, i := range invitations {
		all.Invitations = append(all.Invitations, client.Invitation{
			Email: i.Email, Roles: append([]string{}, i.Roles...), Ends: moment(i.Ends), MadeAt: i.MadeAt, MadeBy: i.MadeBy, Until: i.Until,
		})
	}
	return all, err
}
