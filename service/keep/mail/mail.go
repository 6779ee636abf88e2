// Package mail hands the messages that are waiting in the records to a mail server, and lets stewards see what has
// become of them.
//
// A message is written down with what it is about. It is handed over then, and noted as sent as soon as the server has taken
// it. SMTP cannot tell whether a server took a message whose answer was lost: if the process ends in that moment, the message
// is handed over once more, the same to the byte and with the same Message-ID, by which mailboxes know it.
package mail

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"
	"unicode"

	gomail "github.com/wneessen/go-mail"
	"golang.org/x/time/rate"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/looks"
	"ostiarius/core/message"
	"ostiarius/core/words"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/mistake"
	"ostiarius/store"
)

// Options are what an Outbox needs.
type Options struct {
	Store  *store.Store
	Now    func() time.Time
	Log    *slog.Logger
	Server *Server               // nil if there is none: messages then wait, and stewards can see their links
	Sender func() message.Sender // what of the site stands in messages now
	// PerMinute is how many messages are handed over in a minute at most; 0 for any number.
	PerMinute int
	Keep      time.Duration // how long it is kept what has become of a message; 0 for ever
}

// An Outbox is the messages of a service.
type Outbox struct {
	o     Options
	wake  chan struct{}
	limit *rate.Limiter

	mu      sync.Mutex
	problem string    // why the server could not be reached the last time; "" if it could
	since   time.Time // for how long

	// unnoted are messages whose outcome could not be written down. Until it is, nothing is handed over: it would be
	// again and again. Of Deliver alone.
	unnoted []message.Message
}

// New returns the Outbox of the records in o.Store.
func New(o Options) *Outbox {
	limit := rate.NewLimiter(rate.Inf, 1)
	if o.PerMinute > 0 {
		limit = rate.NewLimiter(rate.Limit(float64(o.PerMinute)/60), max(1, o.PerMinute/60))
	}
	b := &Outbox{o: o, wake: make(chan struct{}, 1), limit: limit}
	o.Store.Subscribe(func(n store.News) {
		if n.Mail {
			b.Wake()
		}
	})
	return b
}

// Server is the address of the mail server, "" if there is none.
func (b *Outbox) Server() string {
	if b.o.Server == nil {
		return ""
	}
	return b.o.Server.String()
}

// Sends reports whether there is a mail server.
func (b *Outbox) Sends() bool { return b.o.Server != nil }

// Wake says that a message was written down.
func (b *Outbox) Wake() {
	select {
	case b.wake <- struct{}{}:
	default:
	}
}

// The longest time after which it is looked whether a message is waiting, and how many are taken at once.
const (
	lookAgain = 20 * time.Second
	atOnce    = 50
)

// Run hands over what is waiting until ctx ends; a message that is under way is finished. It returns at once if there
// is no mail server.
func (b *Outbox) Run(ctx context.Context) {
	if b.o.Server == nil {
		return
	}
	failed := 0
	for ctx.Err() == nil {
		handed, err := b.round(ctx)
		wait := time.Duration(0)
		switch {
		case err != nil && ctx.Err() == nil:
			failed++
			wait = min(message.Wait(failed)/12, 5*time.Minute) // 5 s, and longer each time
			b.trouble(err)
		case err == nil && handed == 0:
			failed, wait = 0, b.untilNext(ctx)
		default:
			failed = 0
		}
		if wait == 0 {
			continue
		}
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
		case <-timer.C:
		case <-b.wake:
		}
		timer.Stop()
	}
}

// trouble notes that nothing can be handed over at the moment.
func (b *Outbox) trouble(err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.problem == "" {
		b.since = b.o.Now()
		b.o.Log.Warn("messages can't be sent", "server", b.o.Server.String(), "error", reason(err))
	}
	b.problem = reason(err)
}

func (b *Outbox) untilNext(ctx context.Context) time.Duration {
	at, err := b.o.Store.NextMessage(ctx, message.ByMail)
	if err != nil {
		return lookAgain
	}
	return max(100*time.Millisecond, min(lookAgain, at.Sub(b.o.Now())))
}

// round hands over some of the messages that are due. The error says that the server cannot be reached, or the records
// not be read or written; then the messages wait as they are.
func (b *Outbox) round(ctx context.Context) (int, error) {
	for len(b.unnoted) > 0 {
		if err := b.note(ctx, b.unnoted[0]); err != nil {
			return 0, err
		}
		b.unnoted = b.unnoted[1:]
	}
	due, err := b.o.Store.DueMessages(ctx, message.ByMail, b.o.Now(), atOnce)
	if err != nil || len(due) == 0 {
		return 0, err
	}
	if late, err := b.giveUp(ctx, due); late > 0 || err != nil {
		return late, err
	}
	connection, err := b.o.Server.dial(ctx)
	if err != nil {
		return 0, err
	}
	defer connection.Close()
	b.mu.Lock()
	b.problem = ""
	b.mu.Unlock()
	for i, m := range due {
		if b.limit.Wait(ctx) != nil {
			return i, nil
		}
		outcome, broken := b.hand(connection, m)
		if err := b.note(context.WithoutCancel(ctx), outcome); err != nil {
			b.unnoted = append(b.unnoted, outcome)
			return i, err
		}
		if broken {
			return i + 1, nil // the next round begins with a new connection
		}
	}
	return len(due), nil
}

// giveUp notes of messages whose time is over that they are not sent any more, and returns how many those are.
func (b *Outbox) giveUp(ctx context.Context, due []message.Message) (late int, err error) {
	for _, m := range due {
		if m.CanBeSent(b.o.Now()) {
			continue
		}
		late++
		if err := b.note(ctx, m.Tried(b.o.Now(), cmp.Or(m.Problem, "it expired before it could be sent"), true)); err != nil {
			return late, err
		}
	}
	return late, nil
}

// hand hands over one message, and returns it as it is then; broken if nothing more can be handed over on that
// connection.
func (b *Outbox) hand(connection *gomail.Client, m message.Message) (outcome message.Message, broken bool) {
	mime, err := b.o.Server.mime(m, b.o.Sender().Write(m))
	if err != nil {
		return m.Tried(b.o.Now(), reason(err), true), false
	}
	err = connection.Send(mime)
	var refused *gomail.SendError
	switch {
	case mime.IsDelivered():
		m.State, m.Problem, m.EndedAt = message.Sent, "", b.o.Now()
		m.Tries++
		return m, err != nil
	case errors.As(err, &refused) && refused.ErrorCode() >= 400:
		return m.Tried(b.o.Now(), reason(err), refused.ErrorCode() >= 500), refused.ErrorCode() == 421
	}
	return m.Tried(b.o.Now(), reason(err), false), true
}

// note writes down what has become of a message that was waiting.
func (b *Outbox) note(ctx context.Context, m message.Message) error {
	var e *store.Activity
	if m.State == message.Failed {
		e = b.event(kind.MessageFailed, m, "", m.Problem)
	}
	err := b.o.Store.SetMessage(ctx, m, message.Waiting, e)
	if errors.Is(err, store.ErrNone) { // dropped meanwhile
		return nil
	}
	return err
}

func (b *Outbox) event(what kind.Kind, m message.Message, actor, detail string) *store.Activity {
	text := fmt.Sprintf("%s to %s", m.Kind, m.To)
	if detail != "" {
		text += ": " + detail
	}
	e := &store.Activity{At: b.o.Now(), Kind: what, Account: m.Account, AccountID: m.AccountID, Actor: actor, Detail: text}
	if m.AccountID == 0 {
		e.AccountID = store.NoAccount
	}
	return e
}

// reason is an error in one line that is not too long: part of it are the words of a server.
func reason(err error) string {
	text := strings.Join(strings.FieldsFunc(err.Error(), func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsGraphic(r) }), " ")
	if runes := []rune(text); len(runes) > 300 {
		text = string(runes[:300]) + " ..."
	}
	return text
}

// A Query says which messages are meant. See store.MessageQuery.
type Query = store.MessageQuery

// List returns the messages that a query means, the newest first, and how many there are in each state in all.
func (b *Outbox) List(ctx context.Context, q Query) ([]message.Message, map[message.State]int, error) {
	all, err := b.o.Store.Messages(ctx, q)
	if err != nil {
		return nil, nil, err
	}
	counts, err := b.o.Store.CountMessages(ctx, "")
	return all, counts, err
}

// Find returns a message. The error is a *mistake.Error if there is none of that number.
func (b *Outbox) Find(ctx context.Context, id int64) (message.Message, error) {
	m, err := b.o.Store.Message(ctx, id)
	if errors.Is(err, store.ErrNone) {
		err = mistake.Unknown("there is no message %d; `ostiarius messages list` shows them", id)
	}
	return m, err
}

// Show returns the letter of a message, without its link; of one whose words are erased there is none.
func (b *Outbox) Show(m message.Message) message.Letter {
	if len(m.Gaps) == 0 && m.Link == "" {
		return message.Letter{}
	}
	if m.Way == message.ByEvent {
		return message.Letter{Language: m.Language, Subject: string(m.Kind), Text: m.Gaps["body"] + "\n"}
	}
	return b.o.Sender().Show(m)
}

// Preview returns the letter of a message that is not written down, as others see it.
func (b *Outbox) Preview(m message.Message) message.Letter { return b.o.Sender().Show(m) }

// ToSend returns the letter of a message that is not written down, whole, for somebody who sends it by another way: without its foot,
// which says that it was sent automatically.
func (b *Outbox) ToSend(m message.Message) message.Letter {
	l := b.o.Sender().Write(m)
	l.Text, _, _ = strings.Cut(l.Text, "\n-- \n")
	return l
}

// Sample returns the letter of a kind of message, with sample data and looks that may be others than those in force.
func (b *Outbox) Sample(k message.Kind, in words.Language, l looks.Looks) message.Letter {
	sender := b.o.Sender()
	sender.Looks = l
	return sender.Show(message.Sample(k, in, b.o.Now()))
}

// Retry lets a message be handed over now: one that was given up, or that waits for its next turn.
func (b *Outbox) Retry(ctx context.Context, actor string, id int64) error {
	m, err := b.Find(ctx, id)
	if err != nil {
		return err
	}
	before := m.State
	if before != message.Failed && before != message.Waiting {
		return mistake.Invalid("message %d is %s; only a waiting or failed message can be retried", id, before)
	}
	now := b.o.Now()
	if !m.CanBeSent(now) {
		return mistake.Invalid("message %d has expired, and so has its link; it has to be requested again", id)
	}
	m.State, m.NextAt, m.EndedAt = message.Waiting, now, time.Time{}
	return b.set(ctx, m, before, b.event(kind.MessageRetried, m, actor, ""))
}

// Drop says that a message is not to be sent.
func (b *Outbox) Drop(ctx context.Context, actor string, id int64) error {
	m, err := b.Find(ctx, id)
	if err != nil {
		return err
	}
	before := m.State
	if before != message.Failed && before != message.Waiting {
		return mistake.Invalid("message %d is %s; only a waiting or failed message can be discarded", id, before)
	}
	m.State, m.EndedAt = message.Dropped, b.o.Now()
	return b.set(ctx, m, before, b.event(kind.MessageDropped, m, actor, ""))
}

func (b *Outbox) set(ctx context.Context, m message.Message, before message.State, e *store.Activity) error {
	err := b.o.Store.SetMessage(ctx, m, before, e)
	if errors.Is(err, store.ErrNone) {
		return mistake.Taken("message %d has changed; reload it", m.ID)
	}
	return err
}

// Reveal returns the link of a message, for a steward who passes it on by other means, and records that. That is for
// sites without a mail server.
func (b *Outbox) Reveal(ctx context.Context, actor string, id int64) (path string, until time.Time, err error) {
	m, err := b.Find(ctx, id)
	switch {
	case err != nil:
		return "", until, err
	case b.Sends():
		return "", until, mistake.Invalid("messages are sent by e-mail, so their links aren't shown here")
	case m.Link == "" || !m.CanBeSent(b.o.Now()):
		return "", until, mistake.Invalid("message %d has no link, or it has expired", id)
	}
	return m.Link, m.Until, b.o.Store.Record(ctx, *b.event(kind.MessageShown, m, actor, ""))
}

// Test writes down a message to an address that says nothing but that mail arrives.
func (b *Outbox) Test(ctx context.Context, actor, to string, in words.Language) error {
	if _, _, err := account.SplitEmail(to); err != nil {
		return mistake.Of(err)
	}
	if !b.Sends() {
		return mistake.Invalid("there is no mail server; set one with --mail")
	}
	m := message.New(message.Test, to, "", in, b.o.Now())
	return b.o.Store.Post(ctx, m, *b.event(kind.MessageTest, m, actor, ""))
}

// Remarks says what is to be looked at: that the server cannot be reached, that messages have failed, or that
// there is no server while some are waiting.
func (b *Outbox) Remarks(ctx context.Context) (all []string, err error) {
	counts, err := b.o.Store.CountMessages(ctx, message.ByMail)
	if err != nil {
		return nil, err
	}
	waiting, failed := counts[message.Waiting], counts[message.Failed]
	b.mu.Lock()
	problem, since := b.problem, b.since
	b.mu.Unlock()
	switch {
	case !b.Sends() && waiting > 0:
		all = append(all, fmt.Sprintf("There is no mail server, and %s waiting. Pass on the links on the Messages page, or set a server "+
			"with --mail.", count(waiting, "message is", "messages are")))
	case problem != "":
		all = append(all, fmt.Sprintf("The mail server %s can't be reached since %s, and %s waiting: %s.", b.o.Server,
			since.UTC().Format("15:04 UTC on 2 January"), count(waiting, "message is", "messages are"), problem))
	}
	if failed > 0 {
		all = append(all, fmt.Sprintf("%s not be sent. The Messages page shows why.", count(failed, "message could", "messages could")))
	}
	return all, nil
}

func count(n int, one, several string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, several)
}

// Sweep removes the records of messages that have long come to an end.
func (b *Outbox) Sweep(ctx context.Context) error {
	before := time.Time{}
	if now := b.o.Now(); b.o.Keep > 0 {
		before = now.Add(-b.o.Keep)
	}
	return b.o.Store.SweepMessages(ctx, b.o.Now(), before)
}

// Chores is for chores.Room.
func (b *Outbox) Chores() []chores.Chore {
	return []chores.Chore{chores.Sweep(b.Sweep)}
}
