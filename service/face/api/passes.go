package api

import (
	"slices"
	"strconv"
	"time"

	"ostiarius/client"
	"ostiarius/core/document"
	"ostiarius/core/pass"
	"ostiarius/core/words"
	"ostiarius/service/base/mistake"
	"ostiarius/service/held/passes"
	"ostiarius/store"
)

func init() {
	On(client.ListPassKinds, (*API).listPassKinds)
	On(client.ListPasses, (*API).listPasses)
	On(client.ShowPass, (*API).showPass)
	On(client.IssuePass, (*API).issuePass)
	On(client.ImportPasses, (*API).importPasses)
	Do(client.RevokePass, func(a *API, by Caller, of client.ByID) error { return a.Passes.Revoke(by, by.Actor, of.ID) })
	Do(client.PausePass, func(a *API, by Caller, of client.ByID) error { return a.Passes.Pause(by, by.Actor, of.ID) })
	Do(client.ResumePass, func(a *API, by Caller, of client.ByID) error { return a.Passes.Resume(by, by.Actor, of.ID) })
	On(client.RenewPass, func(a *API, by Caller, n client.PassRenewal) (shown client.Pass, err error) {
		is, err := a.Passes.Renew(by, by.Actor, n.ID, timeOf(n.Until), n.Downloads)
		if err != nil {
			return shown, err
		}
		return a.viewPass(is), nil
	})
	On(client.ResendPass, func(a *API, by Caller, n client.PassResending) (shown client.IssuedPass, err error) {
		i, err := a.Passes.Resend(by, by.Actor, n.ID, seconds(n.Grace), n.NoMail)
		if err != nil {
			return shown, err
		}
		return a.issued(i, !n.NoMail), nil
	})
	On(client.RotatePasses, func(a *API, by Caller, n client.PassRotation) (client.RotatedPasses, error) {
		rotated, err := a.Passes.RotateKind(by, by.Actor, n.Kind, n.Before, seconds(n.Grace))
		return client.RotatedPasses{Rotated: rotated}, err
	})
}

func (a *API) listPassKinds(by Caller, _ client.None) ([]client.PassKind, error) {
	counts, err := a.Passes.Counts(by)
	if err != nil {
		return nil, err
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
		k := client.PassKind{
			Name: d.Name, Title: d.Title, Lasts: lastsText(d.Lasts, d.Lasts == 0), CountsFrom: "issue", Downloads: d.Downloads,
			Networks: d.Networks, Spread: "note", Place: a.Passes.Leads(&pass.Pass{Kind: d.Name}),
		}
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
	return all, nil
}

func (a *API) viewPass(is *pass.Pass) client.Pass {
	shown := client.Pass{
		ID: is.ID, Kind: is.Kind, Reference: is.Reference, Recipient: is.Address, Name: is.Name, Note: is.Note, Paths: is.Paths,
		State: string(a.Passes.StateOf(is)), Why: is.Why, MadeAt: is.MadeAt, MadeBy: is.MadeBy, Until: moment(is.Until),
		FirstUsed: moment(is.FirstUsed), LastUsed: moment(is.LastUsed),
		Downloads: client.PassDownloads{Used: is.Used, Allowed: is.Allowed}, SpreadAt: moment(is.Spread),
	}
	if is.Until.IsZero() && is.Lasts > 0 {
		shown.Lasts = document.FormatDuration(is.Lasts)
	}
	if is.OldUntil.After(a.Now()) {
		shown.OldUntil = moment(is.OldUntil)
	}
	return shown
}

func (a *API) listPasses(by Caller, q client.PassQuery) (client.Passes, error) {
	limit := limitOf(q.Limit)
	found, err := a.Passes.List(by, store.PassQuery{
		Kind: q.Kind, State: pass.State(q.State), Begins: q.Search, Limit: limit + 1,
	}, q.After)
	all := client.Passes{Passes: []client.Pass{}, More: len(found) > limit}
	for _, is := range found[:min(limit, len(found))] {
		all.Passes = append(all.Passes, a.viewPass(is))
	}
	return all, err
}

func (a *API) showPass(by Caller, of client.ByID) (shown client.Pass, err error) {
	story, err := a.Passes.Story(by, of.ID)
	if err != nil {
		return shown, err
	}
	shown = a.viewPass(story.Pass)
	shown.Networks = &story.Networks
	for _, e := range story.Story {
		shown.Story = append(shown.Story, client.PassStoryEntry{At: e.At, What: string(e.What), Actor: e.Actor, Detail: e.Detail})
	}
	return shown, nil
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

// language reads the language in which somebody is written to; "" for theirs.
func language(text string) (words.Language, error) {
	in := words.Language(text)
	if text != "" && !slices.Contains(words.Languages, in) {
		return in, mistake.Invalid("There is no language %s.", strconv.Quote(text))
	}
	return in, nil
}

func (a *API) issuePass(by Caller, n client.NewPass) (shown client.IssuedPass, err error) {
	in, err := language(n.Language)
	if err != nil {
		return shown, err
	}
	i, err := a.Passes.Issue(by, by.Actor, n.Kind, passes.NewPass{
		Address: n.To, Name: n.Name, Reference: n.Reference, Note: n.Note, Until: timeOf(n.Until), Downloads: n.Downloads,
		Paths: n.Paths, Language: in, NoMail: n.NoMail,
	})
	if err != nil {
		return shown, err
	}
	return a.issued(i, !n.NoMail), nil
}

func (a *API) importPasses(by Caller, n client.PassesImport) (done client.ImportedPasses, err error) {
	in, err := language(n.Language)
	if err != nil {
		return done, err
	}
	all := passes.NewPass{Until: timeOf(n.Until), Downloads: n.Downloads, Language: in, NoMail: n.NoMail}
	lines, issued, err := a.Passes.Import(by, by.Actor, n.Kind, n.File, time.Local, all, n.Dry)
	done = client.ImportedPasses{Lines: showLines(lines), Issued: []client.IssuedPass{}}
	if n.NoMail { // somebody has to pass them on
		for _, i := range issued {
			done.Issued = append(done.Issued, a.credentials(i))
		}
	}
	return done, err
}
