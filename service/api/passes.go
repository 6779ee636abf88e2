package api

import (
	"context"
	"net/http"
	"slices"
	"strconv"
	"time"

	"ostiarius/client"
	"ostiarius/core/pass"
	"ostiarius/core/policy"
	"ostiarius/core/words"
	"ostiarius/service/passes"
	"ostiarius/store"
)

func (a *API) listPassKinds(w http.ResponseWriter, r *http.Request) {
	counts, err := a.Passes.Counts(r.Context())
	if err != nil {
		a.fail(w, err)
		return
	}
	all := []client.PassKind{}
	add := func(k client.PassKind) {
		k.Counts = map[string]int{}
		for _, state := range pass.States {
			k.Counts[string(state)] = counts[k.Name][state]
		}
		delete(counts, k.Name)
		all = append(all, k)
	}
	book := a.Policy.Book()
	for _, d := range book.Passes {
		k := client.PassKind{Name: d.Name, Title: d.Title, Lasts: lastsText(d.Lasts, d.Lasts == 0), CountsFrom: "issue", Downloads: d.Downloads, Networks: d.Networks, Spread: "note", Place: a.Passes.Leads(&pass.Pass{Kind: d.Name})}
		if d.FirstUse {
			k.CountsFrom = "first-use"
		}
		if d.Pause {
			k.Spread = "pause"
		}
		add(k)
	}
	var gone []string
	for name := range counts {
		gone = append(gone, name)
	}
	for _, name := range slices.Sorted(slices.Values(gone)) {
		add(client.PassKind{Name: name, Title: name, CountsFrom: "issue", Spread: "note", Gone: true})
	}
	a.answer(w, http.StatusOK, all)
}

func (a *API) viewPass(is *pass.Pass) client.Pass {
	shown := client.Pass{
		ID: is.ID, Kind: is.Kind, Reference: is.Reference, Recipient: is.Address, Name: is.Name, Note: is.Note, Paths: is.Paths, State: string(a.Passes.StateOf(is)), Why: is.Why,
		MadeAt: is.MadeAt, MadeBy: is.MadeBy, Until: moment(is.Until), FirstUsed: moment(is.FirstUsed), LastUsed: moment(is.LastUsed),
		Downloads: client.PassDownloads{Used: is.Used, Allowed: is.Allowed}, SpreadAt: moment(is.Spread),
	}
	if is.Until.IsZero() && is.Lasts > 0 {
		shown.Lasts = policy.FormatDuration(is.Lasts)
	}
	if is.OldUntil.After(a.Now()) {
		shown.OldUntil = moment(is.OldUntil)
	}
	return shown
}

func (a *API) listPasses(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	limit := 100
	if text := q.Get("limit"); text != "" && text != "0" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > maxPart {
			a.problem(w, http.StatusUnprocessableEntity, "limit is a number from 1 to 1000.")
			return
		}
		limit = n
	}
	state := pass.State(q.Get("state"))
	if state != "" && !slices.Contains(pass.States, state) {
		a.problem(w, http.StatusUnprocessableEntity, "A pass is waiting, open, used-up, ended, paused or revoked, not "+strconv.Quote(string(state))+".")
		return
	}
	found, err := a.Passes.List(r.Context(), store.PassQuery{Kind: q.Get("kind"), State: state, Begins: q.Get("search"), Limit: limit + 1}, q.Get("after"))
	if err != nil {
		a.fail(w, err)
		return
	}
	all := client.Passes{Passes: []client.Pass{}, More: len(found) > limit}
	for _, is := range found[:min(limit, len(found))] {
		all.Passes = append(all.Passes, a.viewPass(is))
	}
	a.answer(w, http.StatusOK, all)
}

func (a *API) showPass(w http.ResponseWriter, r *http.Request) {
	story, err := a.Passes.Story(r.Context(), parameter(r, "id"))
	if err != nil {
		a.fail(w, err)
		return
	}
	shown := a.viewPass(story.Pass)
	shown.Networks = &story.Networks
	for _, e := range story.Story {
		shown.Story = append(shown.Story, client.PassEvent{At: e.At, What: string(e.What), Actor: e.Actor, Detail: e.Detail})
	}
	a.answer(w, http.StatusOK, shown)
}

// issued shows a pass with its credentials, this once: with the text to send, where no mail server sends it.
func (a *API) issued(i passes.Issued, mail bool) client.IssuedPass {
	shown := a.credentials(i)
	if shown.Mailed = mail && a.Mail.Sends(); !shown.Mailed {
		said := a.Mail.ToSend(a.Passes.Letter(i))
		shown.Letter = &client.Letter{Language: string(said.Language), Subject: said.Subject, Text: said.Text}
	}
	return shown
}

func (a *API) credentials(i passes.Issued) client.IssuedPass {
	return client.IssuedPass{
		ID: i.Pass.ID, Kind: i.Pass.Kind, Reference: i.Pass.Reference, Recipient: i.Pass.Address, Until: moment(i.Pass.Until),
		Link: a.Status().URL + i.Link, User: i.Pass.ID, Password: i.Password,
	}
}

// language reads the language in which somebody is written to. It answers what is none.
func (a *API) language(w http.ResponseWriter, text string) (words.Language, bool) {
	in := words.Language(text)
	if text != "" && !slices.Contains(words.Languages, in) {
		a.problem(w, http.StatusUnprocessableEntity, "There is no language "+strconv.Quote(text)+".")
		return in, false
	}
	return in, true
}

func (a *API) issuePass(w http.ResponseWriter, r *http.Request) {
	var n client.NewPass
	if !a.read(w, r, &n, maxBody) {
		return
	}
	in, ok := a.language(w, n.Language)
	if !ok {
		return
	}
	i, err := a.Passes.Issue(r.Context(), a.Actor(r), n.Kind, passes.NewPass{
		Address: n.To, Name: n.Name, Reference: n.Reference, Note: n.Note, Until: timeOf(n.Until), Downloads: n.Downloads, Paths: n.Paths, Language: in, NoMail: n.NoMail,
	})
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusCreated, a.issued(i, !n.NoMail))
}

func (a *API) importPasses(w http.ResponseWriter, r *http.Request) {
	var n client.PassesImport
	if !a.read(w, r, &n, 32<<20) {
		return
	}
	in, ok := a.language(w, n.Language)
	if !ok {
		return
	}
	lines, issued, err := a.Passes.Import(r.Context(), a.Actor(r), n.Kind, n.File, time.Local, passes.NewPass{Until: timeOf(n.Until), Downloads: n.Downloads, Language: in, NoMail: n.NoMail}, n.Dry)
	if err != nil {
		a.fail(w, err)
		return
	}
	done := client.ImportedPasses{Lines: showLines(lines), Issued: []client.IssuedPass{}}
	if n.NoMail { // somebody has to pass them on
		for _, i := range issued {
			done.Issued = append(done.Issued, a.credentials(i))
		}
	}
	a.answer(w, http.StatusOK, done)
}

func (a *API) doPass(what func(p *passes.Passes, ctx context.Context, actor, id string) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		a.done(w, what(a.Passes, r.Context(), a.Actor(r), parameter(r, "id")))
	}
}

func (a *API) renewPass(w http.ResponseWriter, r *http.Request) {
	var n client.RenewPass
	if !a.read(w, r, &n, maxBody) {
		return
	}
	is, err := a.Passes.Renew(r.Context(), a.Actor(r), parameter(r, "id"), timeOf(n.Until), n.Downloads)
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, a.viewPass(is))
}

func (a *API) resendPass(w http.ResponseWriter, r *http.Request) {
	var n client.ResendPass
	if !a.read(w, r, &n, maxBody) {
		return
	}
	i, err := a.Passes.Resend(r.Context(), a.Actor(r), parameter(r, "id"), seconds(n.Grace), n.NoMail)
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, a.issued(i, !n.NoMail))
}

func (a *API) rotatePasses(w http.ResponseWriter, r *http.Request) {
	var n client.RotatePasses
	if !a.read(w, r, &n, maxBody) {
		return
	}
	rotated, err := a.Passes.RotateKind(r.Context(), a.Actor(r), n.Kind, n.Before, seconds(n.Grace))
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, client.RotatedPasses{Rotated: rotated})
}
