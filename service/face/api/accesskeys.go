package api

import (
	"net/http"

	"ostiarius/client"
	"ostiarius/service/who/accesskeys"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

func (a *API) showKey(k store.OwnedKey) client.AccessKey {
	shown := client.AccessKey{
		Handle: k.Handle(), Account: k.Owner, Name: k.Name, Roles: k.Roles, AllRoles: k.Roles == nil, Networks: []string{},
		MadeAt: k.MadeAt, MadeBy: k.MadeBy, Until: moment(k.Until), Ended: !k.Until.IsZero() && !a.Now().Before(k.Until),
		UsedAt: moment(k.UsedAt), UsedFrom: k.UsedFrom,
	}
	if shown.Roles == nil {
		shown.Roles = []string{}
	}
	for _, n := range k.Networks {
		shown.Networks = append(shown.Networks, n.String())
	}
	return shown
}

func init() {
	On(client.ListAccessKeys, (*API).listAccessKeys)
	On(client.AddAccessKey, (*API).addAccessKey)
	Do(client.RemoveAccessKey, func(a *API, by Caller, of client.ByHandle) error {
		return a.AccessKeys.Remove(by, by.Actor, of.Handle, nil, sessions.Origin{})
	})
}

func (a *API) listAccessKeys(by Caller, q client.AccessKeysQuery) (shown client.AccessKeys, err error) {
	of, err := a.accountOf(by, q.Account)
	if err != nil {
		return shown, err
	}
	found, total, err := a.AccessKeys.List(by, of, q.Offset, limitOf(q.Limit))
	shown = client.AccessKeys{Keys: []client.AccessKey{}, Total: total}
	for _, k := range found {
		shown.Keys = append(shown.Keys, a.showKey(k))
	}
	return shown, err
}

func (a *API) addAccessKey(by Caller, n client.NewAccessKey) (made client.MadeAccessKey, err error) {
	if a.ByKey != nil && a.ByKey(by.Request) { // one that is stolen makes no others that outlast it
		return made, refuse(http.StatusForbidden,
			"An access key makes no access keys. Make it in the console, at the account page, or on the machine of the service.")
	}
	owner, err := a.People.Find(by, n.Account)
	if err != nil {
		return made, err
	}
	roles := n.Roles
	if n.NoRoles {
		roles = []string{}
	} else if len(roles) == 0 {
		roles = nil
	}
	token, key, err := a.AccessKeys.Make(by, by.Actor, owner,
		accesskeys.NewKey{Name: n.Name, Roles: roles, Networks: n.Networks, Until: timeOf(n.Until)}, sessions.Origin{})
	if err != nil {
		return made, err
	}
	return client.MadeAccessKey{AccessKey: a.showKey(store.OwnedKey{Key: key, Owner: owner.Name}), Token: token}, nil
}
