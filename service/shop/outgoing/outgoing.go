// Package outgoing tells other programs what happens: signed, to addresses that a steward has named, and nowhere else.
//
// What is told is taken from the records of what happened, each once; it waits in the outbox with the mails, and is handed over by
// HTTP. A program may be told the same twice, if its answer is lost: it has the same number then.
package outgoing

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/signature"
	"ostiarius/core/telling"
	"ostiarius/core/words"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/mistake"
	"ostiarius/store"
)

// Options are what a Notifier needs.
type Options struct {
	Store *store.Store
	Now   func() time.Time
	Log   *slog.Logger
	Rules telling.Rules
}

// A Notifier tells other programs what happens.
type Notifier struct {
	o      Options
	client *http.Client
	wake   chan struct{}

	mu   sync.Mutex
	busy map[string]bool // the addresses at whose queues somebody works
}

// How long a program has for its answer, and how much of that is read.
const (
	answersWithin = 10 * time.Second
	mostAnswered  = 64 << 10
)

// New returns a Notifier over the records in o.Store.
func New(o Options) *Notifier {
	dialer := &net.Dialer{
		Timeout: answersWithin, Control: func(_, address string, _ syscall.RawConn) error { return o.Rules.CheckAddress(address) },
	}
	t := &Notifier{o: o, wake: make(chan struct{}, 1), busy: map[string]bool{}, client: &http.Client{
		Timeout: answersWithin,
		// No proxy of the environment: it would be told everything, and could be anywhere.
		Transport: &http.Transport{
			DialContext: dialer.DialContext, TLSHandshakeTimeout: answersWithin, MaxResponseHeaderBytes: mostAnswered,
			DisableKeepAlives: true, ForceAttemptHTTP2: true,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
	o.Store.Subscribe(func(n store.News) {
		if n.Told {
			t.Wake()
		}
	})
	return t
}

// The most targets.
const mostTargets = 50

// Targets returns the programs that are told something, the oldest first.
func (t *Notifier) Targets(ctx context.Context) ([]telling.Target, error) {
	return t.o.Store.Targets(ctx)
}

// Add adds a program that is told of some kinds, and returns its number and the secret with which that is signed, which is shown this once.
func (t *Notifier) Add(ctx context.Context, actor, address string, kinds []telling.Kind) (int64, string, error) {
	if err := t.o.Rules.CheckURL(address); err != nil {
		return 0, "", mistake.Of(err)
	}
	if len(kinds) == 0 {
		return 0, "", mistake.Invalid("say of what it is told; there are %s", spelt(telling.Kinds))
	}
	for _, k := range kinds {
		if !slices.Contains(telling.Kinds, k) {
			return 0, "", mistake.Invalid("nothing is told of %q; there are %s", k, spelt(telling.Kinds))
		}
	}
	all, err := t.Targets(ctx)
	if err != nil {
		return 0, "", err
	}
	if len(all) >= mostTargets {
		return 0, "", mistake.Invalid("there are %d targets already", len(all))
	}
	if slices.ContainsFunc(all, func(other telling.Target) bool { return other.URL == address }) {
		return 0, "", mistake.Taken("%s is told something already; remove that first", address)
	}
	secret := signature.NewSecret()
	now := t.o.Now()
	id, err := t.o.Store.AddTarget(ctx, telling.Target{URL: address, Kinds: kinds, MadeAt: now, MadeBy: actor}, secret,
		store.Activity{
			At: now, Kind: kind.TargetAdded, AccountID: store.NoAccount, Actor: actor,
			Detail: fmt.Sprintf("%s is told of %s", address, spelt(kinds)),
		})
	return id, secret.Text(), err
}

func spelt(kinds []telling.Kind) string {
	var all []string
	for _, k := range kinds {
		all = append(all, string(k))
	}
	return strings.Join(all, ", ")
}

// Remove removes a program: it is told nothing any more, nor what waits for it.
func (t *Notifier) Remove(ctx context.Context, actor string, id int64) error {
	target, err := t.find(ctx, id)
	if err != nil {
		return err
	}
	return t.o.Store.RemoveTarget(ctx, id,
		store.Activity{At: t.o.Now(), Kind: kind.TargetRemoved, AccountID: store.NoAccount, Actor: actor, Detail: target.URL})
}

// Test tells a program that this is a test.
func (t *Notifier) Test(ctx context.Context, id int64) error {
	target, err := t.find(ctx, id)
	if err != nil {
		return err
	}
	m, err := t.message(target, telling.Test, t.o.Now(), nil)
	if err == nil {
		err = t.o.Store.Told(ctx, []int64{0}, []message.Message{m})
	}
	return err
}

func (t *Notifier) find(ctx context.Context, id int64) (telling.Target, error) {
	all, err := t.Targets(ctx)
	if err != nil {
		return telling.Target{}, err
	}
	if i := slices.IndexFunc(all, func(target telling.Target) bool { return target.ID == id }); i >= 0 {
		return all[i], nil
	}
	return telling.Target{}, mistake.Unknown("there is no target %d; `ostiarius events targets list` shows them", id)
}

func (t *Notifier) message(target telling.Target, k telling.Kind, at time.Time, data map[string]string) (message.Message, error) {
	m := message.New(message.Kind(k), target.URL, data["account"], words.English, t.o.Now())
	body, err := telling.Body(k, at, data)
	m.Way, m.Gaps = message.ByEvent, map[string]string{"body": body, "target": strconv.FormatInt(target.ID, 10)}
	return m, err
}

// mostAtOnce is how many records are taken at once of which something is told.
const mostAtOnce = 200

// Collect writes down what is to be told of what happened since it was last called.
func (t *Notifier) Collect(ctx context.Context) error {
	for {
		untold, err := t.o.Store.Untold(ctx, mostAtOnce)
		if err != nil || len(untold) == 0 {
			return err
		}
		targets, err := t.Targets(ctx)
		if err != nil {
			return err
		}
		var ids []int64
		var all []message.Message
		for _, e := range untold {
			ids = append(ids, e.ID)
			k, is := telling.Of(e.Kind)
			if !is {
				continue
			}
			data := map[string]string{}
			for name, value := range map[string]string{"account": e.Account, "actor": e.Actor, "detail": e.Detail} {
				if value != "" {
					data[name] = value
				}
			}
			for name, value := range e.Data {
				data[name] = value
			}
			for _, target := range targets {
				if !target.Wants(k) {
					continue
				}
				m, err := t.message(target, k, e.At, data)
				if err != nil {
					return err
				}
				all = append(all, m)
			}
		}
		if err := t.o.Store.Told(ctx, ids, all); err != nil {
			return err
		}
	}
}

// Wake says that something waits to be told.
func (t *Notifier) Wake() {
	select {
	case t.wake <- struct{}{}:
	default:
	}
}

// The longest time after which it is looked whether something waits.
const lookAgain = 20 * time.Second

// Run tells what waits until ctx ends. Each program has a queue of its own: one that is slow holds up no other.
func (t *Notifier) Run(ctx context.Context) {
	var all sync.WaitGroup
	defer all.Wait()
	for ctx.Err() == nil {
		wait := lookAgain
		next, err := t.begin(ctx, &all, func(_ int, err error) {
			if err == nil { // else the disk may be full: it is tried again later, and the program not told the same without end
				t.Wake()
			}
		})
		switch {
		case err != nil && ctx.Err() == nil:
			t.o.Log.Error("other programs cannot be told what happened", "error", err)
		case !next.IsZero():
			wait = max(100*time.Millisecond, min(lookAgain, next.Sub(t.o.Now())))
		}
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
		case <-timer.C:
		case <-t.wake:
		}
		timer.Stop()
	}
}

// Round tells all that is due, and returns how much was tried.
func (t *Notifier) Round(ctx context.Context) (tried int, err error) {
	var all sync.WaitGroup
	var mu sync.Mutex
	_, begun := t.begin(ctx, &all, func(n int, failed error) {
		mu.Lock()
		defer mu.Unlock()
		tried, err = tried+n, errors.Join(err, failed)
	})
	all.Wait()
	return tried, errors.Join(begun, err)
}

// begin works at the queues of the programs for which something is due, and at which nobody works yet. When the work at
// one ends, it calls done. It returns when the next of the others is due; zero for nothing.
func (t *Notifier) begin(ctx context.Context, all *sync.WaitGroup, done func(tried int, err error)) (next time.Time, err error) {
	heads, err := t.o.Store.QueueHeads(ctx, message.ByEvent)
	if err != nil {
		return next, err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.o.Now()
	for _, head := range heads {
		switch {
		case t.busy[head.To]:
		case head.NextAt.After(now):
			if next.IsZero() || head.NextAt.Before(next) {
				next = head.NextAt
			}
		default:
			t.busy[head.To] = true
			all.Go(func() {
				tried, err := t.work(ctx, head.To)
				t.mu.Lock()
				delete(t.busy, head.To)
				t.mu.Unlock()
				if err != nil && ctx.Err() == nil {
					t.o.Log.Error("what a program was told could not be noted", "error", err)
				}
				done(tried, err)
			})
		}
	}
	return next, nil
}

// work tells a program what waits for it, one thing after the other in the order in which it happened. What could not
// be told holds up what comes after it.
func (t *Notifier) work(ctx context.Context, to string) (tried int, err error) {
	for {
		head, err := t.o.Store.QueueHead(ctx, message.ByEvent, to)
		if errors.Is(err, store.ErrNone) {
			return tried, nil
		}
		if err != nil || head.NextAt.After(t.o.Now()) {
			return tried, err
		}
		after := t.tell(ctx, head)
		if ctx.Err() != nil && after.State != message.Sent {
			return tried, nil // it was this process that ended, and not the other
		}
		if err := t.note(context.WithoutCancel(ctx), after); err != nil {
			return tried, err
		}
		tried++
	}
}

// tell tells one thing, and returns the message as it is then.
func (t *Notifier) tell(ctx context.Context, m message.Message) message.Message {
	now := t.o.Now()
	if !m.CanBeSent(now) {
		return m.Tried(now, "its time was over before it could be told", true)
	}
	if err := t.o.Rules.CheckURL(m.To); err != nil {
		return m.Tried(now, err.Error(), false)
	}
	id, _ := strconv.ParseInt(m.Gaps["target"], 10, 64)
	secret, err := t.o.Store.TargetSecret(ctx, id)
	switch {
	case errors.Is(err, store.ErrNone):
		return m.Tried(now, "the target was removed", true)
	case err != nil:
		return m.Tried(now, "its secret cannot be read", false)
	}
	body := []byte(m.Gaps["body"])
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, m.To, bytes.NewReader(body))
	if err != nil {
		return m.Tried(now, "the address cannot be used", true)
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("User-Agent", "Ostiarius")
	r.Header[signature.ID] = []string{m.Reference}
	r.Header[signature.Timestamp] = []string{strconv.FormatInt(now.Unix(), 10)}
	r.Header[signature.Signature] = []string{secret.Sign(m.Reference, now, body)}
	answer, err := t.client.Do(r)
	if err != nil {
		return m.Tried(now, reason(err), false)
	}
	defer answer.Body.Close()
	io.Copy(io.Discard, io.LimitReader(answer.Body, mostAnswered))
	if answer.StatusCode >= 200 && answer.StatusCode < 300 {
		m.Tries++
		m.State, m.Problem, m.EndedAt = message.Sent, "", t.o.Now()
		return m
	}
	return m.Tried(t.o.Now(), "it answered "+answer.Status, answer.StatusCode == http.StatusGone)
}

// reason is why somebody could not be told, without the address.
func reason(err error) string {
	text := err.Error()
	var inner interface{ Unwrap() error }
	if errors.As(err, &inner) && inner.Unwrap() != nil {
		text = inner.Unwrap().Error()
	}
	return text[:min(len(text), 300)]
}

func (t *Notifier) note(ctx context.Context, m message.Message) error {
	var e *store.Activity
	if m.State == message.Failed {
		e = &store.Activity{
			At: t.o.Now(), Kind: kind.MessageFailed, AccountID: store.NoAccount, Detail: fmt.Sprintf("%s to %s: %s", m.Kind, m.To, m.Problem),
		}
	}
	err := t.o.Store.SetMessage(ctx, m, message.Waiting, e)
	if errors.Is(err, store.ErrNone) { // dropped meanwhile
		return nil
	}
	return err
}

// Chores is for chores.Room.
func (t *Notifier) Chores() []chores.Chore {
	return []chores.Chore{chores.Each(time.Second, t.Collect)}
}
