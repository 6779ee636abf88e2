package api

import (
	"cmp"

	"ostiarius/client"
	"ostiarius/store"
)

func init() {
	On(client.ListMembers, (*API).listMembers)
	On(client.MemberWeeks, func(a *API, by Caller, q client.WeeksQuery) ([]client.MembersWeek, error) {
		weeks, err := a.Members.Weeks(by, cmp.Or(q.Weeks, 26))
		all := make([]client.MembersWeek, len(weeks))
		for i, week := range weeks {
			all[i] = client.MembersWeek{Begins: week.Begins, Counts: week.Counts}
		}
		return all, err
	})
}

func (a *API) listMembers(by Caller, asked client.MemberQuery) (client.Members, error) {
	q := store.MemberQuery{
		Role: asked.Role, Begins: asked.Search, Past: asked.Past, Soon: asked.Sort == "until", Offset: asked.Offset, Limit: limitOf(asked.Limit),
	}
	if asked.Ending > 0 {
		q.Ending = a.Now().Add(asked.Ending)
	}
	found, total, err := a.Members.List(by, q)
	all := client.Members{Members: []client.Member{}, Total: total}
	for _, m := range found {
		all.Members = append(all.Members, client.Member{
			Account: m.Account, Email: m.Email, Role: m.Grant.Role, Since: m.Grant.From, Until: moment(m.Grant.Until), By: m.Grant.By,
			Order: m.Grant.Order, Joined: m.MadeBy, Disabled: m.Disabled,
		})
	}
	return all, err
}
