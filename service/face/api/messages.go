package api

import (
	"encoding/json"
	"net/http"

	"ostiarius/client"
	"ostiarius/core/message"
	"ostiarius/core/words"
	"ostiarius/service/base/mistake"
	"ostiarius/service/keep/mail"
)

func init() {
	On(client.ListMessages, (*API).listMessages)
	On(client.MessageKinds, func(*API, Caller, client.None) ([]string, error) {
		var all []string
		for _, kind := range message.Kinds {
			all = append(all, string(kind))
		}
		return all, nil
	})
	Write(client.SampleMessage, (*API).sampleMessage)
	Do(client.TestMail, func(a *API, by Caller, t client.TestMessage) error {
		return a.Mail.Test(by, by.Actor, t.To, words.Choose("", t.Language))
	})
	On(client.ShowMessage, (*API).showMessage)
	Do(client.RetryMessage, func(a *API, by Caller, of client.ByNumber) error { return a.Mail.Retry(by, by.Actor, of.ID) })
	Do(client.DropMessage, func(a *API, by Caller, of client.ByNumber) error { return a.Mail.Drop(by, by.Actor, of.ID) })
	On(client.RevealMailLink, func(a *API, by Caller, of client.ByNumber) (client.Link, error) {
		path, until, err := a.Mail.Reveal(by, by.Actor, of.ID)
		return client.Link{Path: path, Until: until}, err
	})
}

func (a *API) listMessages(by Caller, q client.MessageQuery) (client.Messages, error) {
	all, counts, err := a.Mail.List(by, mail.Query{
		State: message.State(q.State), Words: q.Search, Before: q.Before, Limit: limitOf(q.Limit),
	})
	shown := client.Messages{
		Messages: make([]client.Message, len(all)), Server: a.Mail.Server(),
		Waiting: counts[message.Waiting], Sent: counts[message.Sent], Failed: counts[message.Failed], Dropped: counts[message.Dropped],
	}
	for i, m := range all {
		shown.Messages[i] = showMessage(m)
	}
	return shown, err
}

func showMessage(m message.Message) client.Message {
	shown := client.Message{
		ID: m.ID, Kind: string(m.Kind), To: m.To, Account: m.Account, Language: string(m.Language), State: string(m.State),
		MadeAt: m.MadeAt, Until: m.Until, Tries: m.Tries, Problem: m.Problem, EndedAt: moment(m.EndedAt), HasLink: m.Link != "",
	}
	if m.State == message.Waiting {
		shown.NextAt = moment(m.NextAt)
	}
	return shown
}

func (a *API) showMessage(by Caller, of client.ByNumber) (client.Message, error) {
	m, err := a.Mail.Find(by, of.ID)
	if err != nil {
		return client.Message{}, err
	}
	shown, letter := showMessage(m), a.Mail.Show(m)
	shown.Subject, shown.Text = letter.Subject, letter.Text
	return shown, nil
}

// sampleMessage shows what a kind of message looks like, as a page that is shown within the console.
func (a *API) sampleMessage(by Caller, asked client.Sample, w http.ResponseWriter) error {
	kind := message.Kind(asked.Kind)
	if !message.IsKind(kind) {
		return mistake.Unknown("There is no kind of message of that name.")
	}
	l, err := a.looksOf(asked.Colours)
	if err != nil {
		return err
	}
	letter := a.Mail.Sample(kind, words.Choose("", asked.Language), l)
	by.Header.Set("Cache-Control", "private, no-store")
	if asked.As != "page" {
		by.Header.Set("Content-Type", client.SampleMessage.Media)
		return json.NewEncoder(w).Encode(client.Letter{Language: string(letter.Language), Subject: letter.Subject, Text: letter.Text})
	}
	by.Header.Set("Content-Type", "text/html; charset=utf-8")
	// Its looks stand in its elements, as mail programs want it; beyond that it may do nothing.
	by.Header.Set("Content-Security-Policy",
		"default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'self'; base-uri 'none'; form-action 'none'; sandbox")
	_, err = w.Write([]byte(letter.HTML))
	return err
}
