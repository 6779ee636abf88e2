package api

import (
	"time"

	"ostiarius/client"
	"ostiarius/core/htpasswd"
	"ostiarius/core/keyring"
	"ostiarius/core/roster"
	"ostiarius/service/held/keyrings"
)

func init() {
	On(client.ListKeyrings, (*API).listKeyrings)
	On(client.AddEntry, func(a *API, by Caller, n client.NewEntry) (shown client.Entry, err error) {
		e, err := a.Keyrings.Add(by, by.Actor, n.Keyring, keyrings.NewEntry{
			Name: n.Name, Password: n.Password, Note: n.Note, Until: timeOf(n.Until),
		})
		if err != nil {
			return shown, err
		}
		return a.showEntry(e), nil
	})
	Do(client.EditEntry, func(a *API, by Caller, to client.EntryEdit) error {
		return a.Keyrings.Edit(by, by.Actor, to.Keyring, to.Entry, keyrings.Edit{Note: to.Note, Until: timeOf(to.Until), Endless: to.Endless})
	})
	Do(client.RemoveEntry, func(a *API, by Caller, of client.EntryOf) error {
		return a.Keyrings.Remove(by, by.Actor, of.Keyring, of.Entry)
	})
	Do(client.RotateEntry, func(a *API, by Caller, n client.NewEntryPassword) error {
		grace := time.Duration(min(n.Grace, 1<<32)) * time.Second
		return a.Keyrings.Rotate(by, by.Actor, n.Keyring, n.Entry, n.Password, grace)
	})
	Do(client.DisableEntry, func(a *API, by Caller, to client.DisabledEntry) error {
		return a.Keyrings.Switch(by, by.Actor, to.Keyring, to.Entry, to.Disabled)
	})
	On(client.ImportEntries, func(a *API, by Caller, asked client.EntriesImport) ([]client.ImportedLine, error) {
		lines, err := a.Keyrings.Import(by, by.Actor, asked.Keyring, []byte(asked.File), asked.Dry)
		return showLines(lines), err
	})
	On(client.ExportEntries, func(a *API, by Caller, of client.RingNamed) (client.EntriesExport, error) {
		file, left, err := a.Keyrings.Export(by, of.Keyring)
		return client.EntriesExport{File: file, Left: showLines(left)}, err
	})
}

func (a *API) listKeyrings(by Caller, _ client.None) ([]client.Keyring, error) {
	entries, err := a.Keyrings.Entries(by, "")
	if err != nil {
		return nil, err
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
	return all, nil
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

func showLines(results []roster.Done) []client.ImportedLine {
	lines := make([]client.ImportedLine, len(results))
	for i, result := range results {
		lines[i] = client.ImportedLine(result)
	}
	return lines
}
