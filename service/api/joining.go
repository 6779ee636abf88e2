package api

import (
	"net/http"
	"time"

	"ostiarius/client"
	"ostiarius/core/words"
	"ostiarius/service/joining"
)

func (a *API) listJoining(w http.ResponseWriter, r *http.Request) {
	applications, err := a.Joining.Applications(r.Context())
	if err != nil {
		a.fail(w, err)
		return
	}
	invitations, err := a.Joining.Invitations(r.Context())
	if err != nil {
		a.fail(w, err)
		return
	}
	all := client.Joining{By: string(a.Policy.Book().Joining.By), Applications: []client.Application{}, Invitations: []client.Invitation{}}
	for _, p := range applications {
		all.Applications = append(all.Applications, client.Application{Name: p.Name, Email: p.Email, State: string(p.State), MadeAt: p.MadeAt, Until: p.Until})
	}
	for _, i := range invitations {
		all.Invitations = append(all.Invitations, client.Invitation{Email: i.Email, Roles: append([]string{}, i.Roles...), Ends: moment(i.Ends), MadeAt: i.MadeAt, MadeBy: i.MadeBy, Until: i.Until})
	}
	a.answer(w, http.StatusOK, all)
}

func (a *API) approve(w http.ResponseWriter, r *http.Request) {
	a.done(w, a.Joining.Approve(r.Context(), a.Actor(r), parameter(r, "name")))
}

func (a *API) decline(w http.ResponseWriter, r *http.Request) {
	var d client.Declining
	if a.read(w, r, &d, maxBody) {
		a.done(w, a.Joining.Decline(r.Context(), a.Actor(r), parameter(r, "name"), d.Text))
	}
}

func (a *API) invite(w http.ResponseWriter, r *http.Request) {
	var n client.NewInvitation
	if !a.read(w, r, &n, maxBody) {
		return
	}
	path, until, err := a.Joining.Invite(r.Context(), a.Actor(r), joining.Invite{
		Email: n.Email, Roles: n.Roles, Ends: timeOf(n.Ends), Lasts: time.Duration(min(n.Lasts, 1<<32)) * time.Second, Language: words.Language(n.Language), Mail: n.Mail,
	})
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusCreated, client.Invited{Path: path, Until: until})
}

func (a *API) revokeInvitation(w http.ResponseWriter, r *http.Request) {
	a.done(w, a.Joining.Revoke(r.Context(), a.Actor(r), parameter(r, "email")))
}
