// Package patrols is the walks through the running site that the service makes itself: when a steward says so, or by timetable. What they
// have found is written down, and what somebody lives with is told no more.
package patrols

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/patrol"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/mistake"
	"ostiarius/service/walk/walks"
	"ostiarius/service/who/people"
	"ostiarius/store"
)

// Options are what Patrols need.
type Options struct {
	Store  *store.Store
	Book   func() *policy.Book
	Now    func() time.Time
	Site   func() string   // the address of the site
	Files  func() []string // addresses of files behind; nil for none
	Cookie func(secure bool) string
	Walks  *walks.Walks
	People *people.Register
	Log    *slog.Logger
}

// Patrols makes patrols, one at a time, and keeps what they have found.
type Patrols struct {
	o       Options
	mu      sync.Mutex
	running *running
	ended   sync.WaitGroup
}

type running struct {
	began       time.Time
	by          string
	done, known int
	stop        context.CancelFunc
}

// How many patrols are kept, and how many findings of each.
const (
	keep         = 20
	mostFindings = 1000
)

// New returns the Patrols in which nobody walks.
func New(o Options) *Patrols { return &Patrols{o: o} }

// Progress is a patrol under way.
type Progress struct {
	Began       time.Time
	By          string // "" for the timetable
	Done, Known int    // addresses
}

// Running returns the patrol under way; nil if there is none.
func (r *Patrols) Running() *Progress {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.running == nil {
		return nil
	}
	return &Progress{r.running.began, r.running.by, r.running.done, r.running.known}
}

// Start begins a patrol, which goes on by itself. The error says that there is one already, or that the site has no address.
func (r *Patrols) Start(by string) error {
	site, err := url.Parse(r.o.Site())
	if err != nil || site.Host == "" {
		return &mistake.Error{Kind: "invalid", Text: "The address of the site is unknown. Set it with --url."}
	}
	ctx, stop := context.WithCancel(context.Background())
	now := r.o.Now()
	r.mu.Lock()
	if r.running != nil {
		r.mu.Unlock()
		stop()
		return &mistake.Error{Kind: "taken", Text: "A patrol is already running."}
	}
	under := &running{began: now, by: by, stop: stop}
	r.running = under
	r.mu.Unlock()
	r.ended.Go(func() {
		defer stop()
		if err := r.walk(ctx, site, under); err != nil {
			r.o.Log.Error("the findings of a patrol could not be saved", "error", err)
		}
		r.mu.Lock()
		r.running = nil
		r.mu.Unlock()
	})
	return nil
}

// Stop ends the patrol under way; what it has found until then counts.
func (r *Patrols) Stop() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.running == nil {
		return &mistake.Error{Kind: "unknown", Text: "No patrol is running."}
	}
	r.running.stop()
	return nil
}

// Close ends the patrol under way, and waits for it.
func (r *Patrols) Close() {
	r.Stop()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		r.ended.Wait()
	}()
	select {
	case <-ended:
	case <-time.After(closesWithin): // a page that takes its time doesn't hold up the end
	}
}

// closesWithin is how long the end of the service waits for a patrol.
const closesWithin = 3 * time.Second

// walk makes one patrol and writes it down.
func (r *Patrols) walk(ctx context.Context, site *url.URL, under *running) error {
	book := r.o.Book()
	kinds := patrol.Kinds(book)[1:] // who has nothing needs nothing
	actor := under.by
	if actor == "" {
		actor = "timetable"
	}
	kept := store.Patrol{Began: under.began, By: under.by}
	var found *patrol.Result
	begun, err := r.o.Walks.Begin(actor, kinds)
	if err == nil {
		o := patrol.Options{
			Sites: []*url.URL{site}, Book: book, Around: patrol.Elsewhere(book, site), Addresses: patrol.Examples(book), Together: 2,
			Mark: begun.Mark,
		}
		if r.o.Files != nil {
			o.Addresses = append(o.Addresses, r.o.Files()...)
		}
		if !patrol.OnThisMachine(site.Hostname()) {
			o.PerSecond = 50
		}
		for i, v := range kinds {
			o.Visitors = append(o.Visitors,
				patrol.Visitor{Who: v.String(), As: v, Cookies: []*http.Cookie{{Name: r.o.Cookie(site.Scheme == "https"), Value: begun.Tokens[i]}}})
		}
		o.Progress = func(done, known int) {
			r.mu.Lock()
			defer r.mu.Unlock()
			under.done, under.known = max(under.done, done), known
		}
		found, err = patrol.Run(ctx, o)
		if ended := r.o.Walks.End(actor, begun.ID); ended != nil {
			r.o.Log.Error("a walk could not be ended", "error", ended)
		}
	}
	kept.Ended = r.o.Now()
	writing, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer cancel()
	e := store.Activity{At: kept.Ended, Kind: kind.PatrolMade, AccountID: store.NoAccount, Actor: actor}
	if err != nil {
		kept.Problem, kept.Result = err.Error(), "{}"
		e.Detail = "it failed: " + kept.Problem
		_, err := r.o.Store.AddPatrol(writing, kept, keep, nil, e)
		return err
	}
	return r.record(writing, kept, found, e)
}

// Made keeps what a patrol has found that somebody has made by command.
func (r *Patrols) Made(ctx context.Context, by string, began time.Time, found *patrol.Result) error {
	kept := store.Patrol{Began: began, Ended: r.o.Now(), By: by}
	return r.record(ctx, kept, found, store.Activity{At: kept.Ended, Kind: kind.PatrolMade, AccountID: store.NoAccount, Actor: by})
}

// record writes down what a patrol has found, and mails what is new if nobody waits for it.
func (r *Patrols) record(ctx context.Context, kept store.Patrol, found *patrol.Result, e store.Activity) error {
	hide(found)
	if len(found.Findings) > mostFindings {
		found.LeftOut = append(found.LeftOut,
			patrol.Left{Path: "/", Reason: fmt.Sprintf("%d more findings than are kept", len(found.Findings)-mostFindings)})
		found.Findings = found.Findings[:mostFindings]
	}
	fresh, err := r.fresh(ctx, found)
	if err != nil {
		return err
	}
	text, err := json.Marshal(found)
	if err != nil {
		return err
	}
	kept.Visited, kept.Found, kept.Fresh, kept.Result = found.Visited, len(found.Findings), len(fresh), string(text)
	e.Detail = fmt.Sprintf("%s, %s, %d new", counted(kept.Visited, "address", "addresses"), counted(kept.Found, "finding", "findings"),
		kept.Fresh)
	var mails []message.Message
	if kept.By == "" && len(fresh) > 0 {
		if mails, err = r.mails(ctx, fresh); err != nil {
			return err
		}
	}
	_, err = r.o.Store.AddPatrol(ctx, kept, keep, mails, e)
	return err
}

// hide leaves away what answers begin with that not everybody gets: a steward may not see all that others may.
func hide(found *patrol.Result) {
	for i := range found.Findings {
		for j := range found.Findings[i].Requests {
			if shown := &found.Findings[i].Requests[j]; shown.As != "anonymous" {
				shown.Begins = ""
			}
		}
	}
}

// fresh returns the findings that the last patrol which was not ended early has not told, and that nobody lives with.
func (r *Patrols) fresh(ctx context.Context, found *patrol.Result) ([]patrol.Finding, error) {
	known := map[string]bool{}
	accepted, err := r.Accepted(ctx)
	if err != nil {
		return nil, err
	}
	for finding := range accepted {
		known[finding] = true
	}
	all, err := r.o.Store.Patrols(ctx, keep)
	if err != nil {
		return nil, err
	}
	for _, p := range all {
		if p.Problem != "" {
			continue
		}
		_, before, err := r.Find(ctx, p.ID)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(before.LeftOut, func(l patrol.Left) bool { return l.Reason == patrol.EndedEarly }) {
			continue // it has not seen all, so what it lacks is not new
		}
		for i := range before.Findings {
			known[before.Findings[i].Key()] = true
		}
		break
	}
	var fresh []patrol.Finding
	for _, f := range found.Findings {
		if !known[f.Key()] {
			fresh = append(fresh, f)
		}
	}
	return fresh, nil
}

// mails tell all stewards who have an address of what is new.
func (r *Patrols) mails(ctx context.Context, fresh []patrol.Finding) (mails []message.Message, err error) {
	stewards, _, err := r.o.People.List(ctx, people.Query{Role: policy.Steward, State: "enabled", Now: r.o.Now(), Limit: 100})
	if err != nil {
		return nil, err
	}
	var lines []string
	for _, f := range fresh[:min(len(fresh), 10)] {
		lines = append(lines, fmt.Sprintf("%s %s: %s", f.Rule, f.Path, f.Message))
	}
	if len(fresh) > 10 {
		lines = append(lines, fmt.Sprintf("+ %d", len(fresh)-10))
	}
	for _, a := range stewards {
		if a.Email == "" {
			continue
		}
		m := message.New(message.PatrolFound, a.Email, a.Name, a.Language, r.o.Now())
		m.Gaps["number"], m.Gaps["found"] = fmt.Sprint(len(fresh)), strings.Join(lines, "\n")
		m.AccountID = a.ID
		m.Link = r.o.Book().Prefix + "/console/patrol"
		mails = append(mails, m)
	}
	return mails, nil
}

// Tend begins a patrol if the timetable says so.
func (r *Patrols) Tend(ctx context.Context) error {
	every := r.o.Book().Patrol
	if every == 0 || r.Running() != nil {
		return nil
	}
	last, err := r.o.Store.Patrols(ctx, 1)
	if err != nil {
		return err
	}
	now := r.o.Now()
	if len(last) > 0 && now.Sub(last[0].Began) < every && !last[0].Began.After(now) {
		return nil
	}
	err = r.Start("")
	if taken := (*mistake.Error)(nil); errors.As(err, &taken) {
		return nil
	}
	return err
}

// List returns the latest patrols, the newest first.
func (r *Patrols) List(ctx context.Context) ([]store.Patrol, error) {
	return r.o.Store.Patrols(ctx, keep)
}

// Find returns one patrol with what it has found.
func (r *Patrols) Find(ctx context.Context, id int64) (store.Patrol, *patrol.Result, error) {
	p, err := r.o.Store.Patrol(ctx, id)
	if errors.Is(err, store.ErrNone) {
		return p, nil, &mistake.Error{Kind: "unknown", Text: fmt.Sprintf("There is no patrol %d; the last %d are kept.", id, keep)}
	}
	if err != nil {
		return p, nil, err
	}
	var found patrol.Result
	return p, &found, json.Unmarshal([]byte(p.Result), &found)
}

// Accepted returns the findings that somebody lives with at the moment, by their keys.
func (r *Patrols) Accepted(ctx context.Context) (map[string]store.Accepted, error) {
	all, err := r.o.Store.AcceptedFindings(ctx)
	if err != nil {
		return nil, err
	}
	now, accepted := r.o.Now(), map[string]store.Accepted{}
	for _, a := range all {
		if a.Until.IsZero() || now.Before(a.Until) {
			accepted[a.Finding] = a
		}
	}
	return accepted, nil
}

// Accept notes that somebody lives with a finding of a patrol, for a reason, until a time; zero for no end.
func (r *Patrols) Accept(ctx context.Context, actor string, id int64, finding, reason string, until time.Time) error {
	_, found, err := r.Find(ctx, id)
	if err != nil {
		return err
	}
	reason = strings.TrimSpace(reason)
	now := r.o.Now()
	switch {
	case reason == "" || len([]rune(reason)) > 500 || strings.ContainsFunc(reason, func(c rune) bool { return c < ' ' }):
		return &mistake.Error{Kind: "invalid", Text: "Enter a reason, in one line of up to 500 characters."}
	case !until.IsZero() && !until.After(now):
		return &mistake.Error{Kind: "invalid", Text: "The end is not in the future."}
	}
	for i := range found.Findings {
		if f := &found.Findings[i]; f.Key() == finding {
			return r.o.Store.AcceptFinding(ctx, store.Accepted{Finding: finding, Reason: reason, By: actor, At: now, Until: until},
				store.Activity{
					At: now, Kind: kind.FindingAccepted, AccountID: store.NoAccount, Actor: actor, Detail: f.Rule + " at " + f.Path + ": " + reason,
				})
		}
	}
	return &mistake.Error{Kind: "unknown", Text: "The patrol has no such finding."}
}

// Reject takes back that somebody lives with a finding.
func (r *Patrols) Reject(ctx context.Context, actor, finding string) error {
	err := r.o.Store.RejectFinding(ctx, finding,
		store.Activity{At: r.o.Now(), Kind: kind.FindingRejected, AccountID: store.NoAccount, Actor: actor, Detail: finding})
	if errors.Is(err, store.ErrNone) {
		return &mistake.Error{Kind: "unknown", Text: "This finding isn't accepted."}
	}
	return err
}

// Remarks say what a steward should look at.
func (r *Patrols) Remarks(ctx context.Context) ([]string, error) {
	last, err := r.o.Store.Patrols(ctx, 1)
	if err != nil || len(last) == 0 {
		return nil, err
	}
	if last[0].Problem != "" {
		return []string{"The last patrol failed: " + last[0].Problem + "."}, nil
	}
	if last[0].Found == 0 {
		return nil, nil
	}
	_, found, err := r.Find(ctx, last[0].ID)
	if err != nil {
		return nil, err
	}
	accepted, err := r.Accepted(ctx)
	if err != nil {
		return nil, err
	}
	open := 0
	for i := range found.Findings {
		if _, is := accepted[found.Findings[i].Key()]; !is {
			open++
		}
	}
	switch open {
	case 0:
		return nil, nil
	case 1:
		return []string{"The last patrol has 1 open finding. The Patrol page shows it."}, nil
	}
	return []string{fmt.Sprintf("The last patrol has %d open findings. The Patrol page shows them.", open)}, nil
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// Chores is for chores.Room.
func (r *Patrols) Chores() []chores.Chore {
	return []chores.Chore{chores.Each(20*time.Second, r.Tend)}
}
