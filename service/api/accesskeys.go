package api

import (
	"net/http"

	"ostiarius/client"
	"ostiarius/service/accesskeys"
	"ostiarius/service/sessions"
	"ostiarius/store"
)

func (a *API) showKey(k store.OwnedKey) client.AccessKey {
	shown := client.AccessKey{
		Handle: k.Handle(), Account: k.Owner, Name: k.Name, Roles: k.Roles, AllRoles: k.Roles == nil, Networks: []string{}, MadeAt: k.MadeAt, MadeBy: k.MadeBy,
		Until: moment(k.Until), Ended: !k.Until.IsZero() && !a.Now().Before(k.Until), UsedAt: moment(k.UsedAt), UsedFrom: k.UsedFrom,
	}
	if shown.Roles == nil {
		shown.Roles = []string{}
	}
	for _, n := range k.Networks {
		shown.Networks = append(shown.Networks, n.String())
	}
	return shown
}

func (a *API) listAccessKeys(w http.ResponseWriter, r *http.Request) {
	of, offset, limit, ok := a.partOf(w, r)
	if !ok {
		return
	}
	found, total, err := a.Keys.List(r.Context(), of, offset, limit)
	if err != nil {
		a.fail(w, err)
		return
	}
	shown := client.AccessKeys{Keys: []client.AccessKey{}, Total: total}
	for _, k := range found {
		shown.Keys = append(shown.Keys, a.showKey(k))
	}
	a.answer(w, http.StatusOK, shown)
}

func (a *API) addAccessKey(w http.ResponseWriter, r *http.Request) {
	var n client.NewAccessKey
	if !a.read(w, r, &n, maxBody) {
		return
	}
	if a.ByKey != nil && a.ByKey(r) { // one that is stolen makes no others that outlast it
		a.problem(w, http.StatusForbidden, "An access key makes no access keys. Make it in the console, at the account page, or on the machine of the service.")
		return
	}
	owner, err := a.People.Find(r.Context(), n.Account)
	if err != nil {
		a.fail(w, err)
		return
	}
	roles := n.Roles
	if n.NoRoles {
		roles = []string{}
	} else if len(roles) == 0 {
		roles = nil
	}
	token, made, err := a.Keys.Make(r.Context(), a.Actor(r), owner, accesskeys.NewKey{Name: n.Name, Roles: roles, Networks: n.Networks, Until: timeOf(n.Until)}, sessions.Origin{})
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusCreated, client.MadeAccessKey{AccessKey: a.showKey(store.OwnedKey{Key: made, Owner: owner.Name}), Token: token})
}

func (a *API) removeAccessKey(w http.ResponseWriter, r *http.Request) {
	a.done(w, a.Keys.Remove(r.Context(), a.Actor(r), parameter(r, "handle"), nil, sessions.Origin{}))
}
