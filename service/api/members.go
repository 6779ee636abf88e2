package api

import (
	"net/http"
	"strconv"
	"time"

	"ostiarius/client"
	"ostiarius/store"
)

func (a *API) listMembers(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	offset, limit, err := part(query)
	q := store.MemberQuery{Role: query.Get("role"), Begins: query.Get("search"), Past: query.Get("past") == "true", Soon: query.Get("sort") == "until", Offset: offset, Limit: limit}
	if ending := query.Get("ending"); ending != "" && err == nil {
		var n int64
		n, err = strconv.ParseInt(ending, 10, 64)
		q.Ending = a.Now().Add(time.Duration(min(max(n, 0), 1e9)) * time.Second)
	}
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	found, total, err := a.Members.List(r.Context(), q)
	if err != nil {
		a.fail(w, err)
		return
	}
	all := client.Members{Members: []client.Member{}, Total: total}
	for _, m := range found {
		all.Members = append(all.Members, client.Member{
			Account: m.Account, Email: m.Email, Role: m.Grant.Role, Since: m.Grant.From, Until: moment(m.Grant.Until), By: m.Grant.By, Order: m.Grant.Order, Joined: m.MadeBy, Disabled: m.Disabled,
		})
	}
	a.answer(w, http.StatusOK, all)
}

// The most weeks of which it is told how many members there were.
const mostWeeks = 260

func (a *API) memberWeeks(w http.ResponseWriter, r *http.Request) {
	n := 26
	if text := r.URL.Query().Get("weeks"); text != "" {
		var err error
		if n, err = strconv.Atoi(text); err != nil || n < 1 || n > mostWeeks {
			a.problem(w, http.StatusUnprocessableEntity, "weeks is a number from 1 to 260.")
			return
		}
	}
	weeks, err := a.Members.Weeks(r.Context(), n)
	if err != nil {
		a.fail(w, err)
		return
	}
	all := make([]client.MembersWeek, len(weeks))
	for i, week := range weeks {
		all[i] = client.MembersWeek{Begins: week.Begins, Counts: week.Counts}
	}
	a.answer(w, http.StatusOK, all)
}
