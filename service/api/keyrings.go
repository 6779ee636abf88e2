package api

import (
	"net/http"
	"time"

	"ostiarius/client"
	"ostiarius/core/htpasswd"
	"ostiarius/core/keyring"
	"ostiarius/core/roster"
	"ostiarius/service/keyrings"
)

func (a *API) listKeyrings(w http.ResponseWriter, r *http.Request) {
	entries, err := a.Keyrings.Entries(r.Context(), "")
	if err != nil {
		a.fail(w, err)
		return
	}
	all := []client.Keyring{}
	at := map[string]int{}
	for _, k := range a.Policy.Book().Keyrings {
		at[k.Name] = len(all)
		all = append(all, client.Keyring{Name: k.Name, Realm: k.Realm, Entries: []client.Entry{}})
	}
	for _, e := range entries {
		i, ok := at[e.Keyring]
		if !ok {
			i = len(all)
			at[e.Keyring] = i
			all = append(all, client.Keyring{Name: e.Keyring, Gone: true, Entries: []client.Entry{}})
		}
		all[i].Entries = append(all[i].Entries, a.showEntry(e))
	}
	a.answer(w, http.StatusOK, all)
}

func (a *API) showEntry(e *keyring.Entry) client.Entry {
	kind, weak := htpasswd.Kind(e.Hash)
	shown := client.Entry{
		Name: e.Name, Note: e.Note, Disabled: e.Disabled, Kind: kind, Weak: weak, MadeAt: e.MadeAt, MadeBy: e.MadeBy,
		UsedAt: moment(e.UsedAt), Until: moment(e.Until),
	}
	if e.OldHash != "" && a.Now().Before(e.OldUntil) {
		shown.OldUntil = &e.OldUntil
	}
	return shown
}

func (a *API) addEntry(w http.ResponseWriter, r *http.Request) {
	var n client.NewEntry
	if !a.read(w, r, &n, maxBody) {
		return
	}
	e, err := a.Keyrings.Add(r.Context(), a.Actor(r), parameter(r, "ring"), keyrings.NewEntry{Name: n.Name, Password: n.Password, Note: n.Note, Until: timeOf(n.Until)})
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusCreated, a.showEntry(e))
}

func (a *API) editEntry(w http.ResponseWriter, r *http.Request) {
	var to client.EntryEdit
	if a.read(w, r, &to, maxBody) {
		a.done(w, a.Keyrings.Edit(r.Context(), a.Actor(r), parameter(r, "ring"), parameter(r, "name"), keyrings.Edit{Note: to.Note, Until: timeOf(to.Until), Endless: to.Endless}))
	}
}

func (a *API) removeEntry(w http.ResponseWriter, r *http.Request) {
	a.done(w, a.Keyrings.Remove(r.Context(), a.Actor(r), parameter(r, "ring"), parameter(r, "name")))
}

func (a *API) setEntryPassword(w http.ResponseWriter, r *http.Request) {
	var n client.NewEntryPassword
	if a.read(w, r, &n, maxBody) {
		a.done(w, a.Keyrings.Rotate(r.Context(), a.Actor(r), parameter(r, "ring"), parameter(r, "name"), n.Password, time.Duration(min(n.Grace, 1<<32))*time.Second))
	}
}

func (a *API) setEntryDisabled(w http.ResponseWriter, r *http.Request) {
	var disabled bool
	if a.read(w, r, &disabled, maxBody) {
		a.done(w, a.Keyrings.Switch(r.Context(), a.Actor(r), parameter(r, "ring"), parameter(r, "name"), disabled))
	}
}

func (a *API) importEntries(w http.ResponseWriter, r *http.Request) {
	var asked client.EntriesImport
	if !a.read(w, r, &asked, 2*htpasswd.MaxSize) {
		return
	}
	results, err := a.Keyrings.Import(r.Context(), a.Actor(r), parameter(r, "ring"), []byte(asked.File), asked.Dry)
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, showLines(results))
}

func showLines(results []roster.Done) []client.ImportedLine {
	lines := make([]client.ImportedLine, len(results))
	for i, result := range results {
		lines[i] = client.ImportedLine(result)
	}
	return lines
}

func (a *API) exportEntries(w http.ResponseWriter, r *http.Request) {
	file, left, err := a.Keyrings.Export(r.Context(), parameter(r, "ring"))
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, client.EntriesExport{File: file, Left: showLines(left)})
}

func (a *API) upstreams(w http.ResponseWriter, r *http.Request) {
	all := []client.Upstream{}
	for _, h := range a.Policy.Upstreams() {
		all = append(all, client.Upstream{Address: h.Address, Answered: moment(h.Answered), Failed: moment(h.Failed), Why: h.Why, InARow: h.InARow})
	}
	a.answer(w, http.StatusOK, all)
}
