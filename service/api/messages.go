package api

import (
	"net/http"
	"strconv"

	"ostiarius/client"
	"ostiarius/core/message"
	"ostiarius/core/words"
	"ostiarius/service/mail"
)

func (a *API) listMessages(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	_, limit, err := part(query)
	q := mail.Query{State: message.State(query.Get("state")), Words: query.Get("search"), Limit: limit}
	if before := query.Get("before"); before != "" && err == nil {
		q.Before, err = strconv.ParseInt(before, 10, 64)
	}
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	all, counts, err := a.Mail.List(r.Context(), q)
	if err != nil {
		a.fail(w, err)
		return
	}
	answer := client.Messages{
		Messages: make([]client.Message, len(all)), Server: a.Mail.Server(),
		Waiting: counts[message.Waiting], Sent: counts[message.Sent], Failed: counts[message.Failed], Dropped: counts[message.Dropped],
	}
	for i, m := range all {
		answer.Messages[i] = showMessage(m)
	}
	a.answer(w, http.StatusOK, answer)
}

func showMessage(m message.Message) client.Message {
	shown := client.Message{
		ID: m.ID, Kind: string(m.Kind), To: m.To, Account: m.Account, Language: string(m.Language), State: string(m.State), MadeAt: m.MadeAt, Until: m.Until,
		Tries: m.Tries, Problem: m.Problem, EndedAt: moment(m.EndedAt), HasLink: m.Link != "",
	}
	if m.State == message.Waiting {
		shown.NextAt = moment(m.NextAt)
	}
	return shown
}

// messageNumber reads which message is meant; it answers what is none.
func (a *API) messageNumber(w http.ResponseWriter, r *http.Request) (int64, bool) {
	id, err := strconv.ParseInt(parameter(r, "id"), 10, 64)
	if err != nil {
		a.problem(w, http.StatusNotFound, "A message is named by its number.")
	}
	return id, err == nil
}

func (a *API) showMessage(w http.ResponseWriter, r *http.Request) {
	id, ok := a.messageNumber(w, r)
	if !ok {
		return
	}
	m, err := a.Mail.Find(r.Context(), id)
	if err != nil {
		a.fail(w, err)
		return
	}
	shown, letter := showMessage(m), a.Mail.Show(m)
	shown.Subject, shown.Text = letter.Subject, letter.Text
	a.answer(w, http.StatusOK, shown)
}

func (a *API) retryMessage(w http.ResponseWriter, r *http.Request) {
	if id, ok := a.messageNumber(w, r); ok {
		a.done(w, a.Mail.Retry(r.Context(), a.Actor(r), id))
	}
}

func (a *API) dropMessage(w http.ResponseWriter, r *http.Request) {
	if id, ok := a.messageNumber(w, r); ok {
		a.done(w, a.Mail.Drop(r.Context(), a.Actor(r), id))
	}
}

func (a *API) linkOfMessage(w http.ResponseWriter, r *http.Request) {
	id, ok := a.messageNumber(w, r)
	if !ok {
		return
	}
	path, until, err := a.Mail.Reveal(r.Context(), a.Actor(r), id)
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, client.Link{Path: path, Until: until})
}

func (a *API) testMessage(w http.ResponseWriter, r *http.Request) {
	var t client.TestMessage
	if a.read(w, r, &t, maxBody) {
		a.done(w, a.Mail.Test(r.Context(), a.Actor(r), t.To, words.Choose("", t.Language)))
	}
}

// sampleMessage shows what a kind of message looks like, as a page that is shown within the console.
func (a *API) sampleMessage(w http.ResponseWriter, r *http.Request) {
	kind := message.Kind(parameter(r, "kind"))
	if !message.IsKind(kind) {
		a.problem(w, http.StatusNotFound, "There is no kind of message of that name.")
		return
	}
	l, err := a.looksOf(r)
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	letter := a.Mail.Sample(kind, words.Choose("", r.URL.Query().Get("language")), l)
	if r.URL.Query().Get("as") != "page" {
		a.answer(w, http.StatusOK, client.Letter{Language: string(letter.Language), Subject: letter.Subject, Text: letter.Text})
		return
	}
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Cache-Control", "private, no-store")
	// Its looks stand in its elements, as mail programs want it; beyond that it may do nothing.
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'self'; base-uri 'none'; form-action 'none'; sandbox")
	w.Write([]byte(letter.HTML))
}

// kindsOfMessage lists what messages are about.
func (a *API) kindsOfMessage(w http.ResponseWriter, r *http.Request) {
	a.answer(w, http.StatusOK, message.Kinds)
}
