package api

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"ostiarius/client"
	kind "ostiarius/core/activity"
	"ostiarius/core/document"
	"ostiarius/core/policy"
	"ostiarius/service/keep/activity"
	"ostiarius/service/rooms"
	"ostiarius/service/rule/inforce"
	"ostiarius/service/who/people"
)

func init() {
	On(client.ListActivity, (*API).listActivity)
	On(client.ShowToday, (*API).today)
	On(client.ListUpstreams, (*API).upstreams)
}

func (a *API) listActivity(by Caller, q client.ActivityQuery) ([]client.ActivityRecord, error) {
	events, rest, err := a.Activity.Events(by, activity.Query{
		Kind: q.Kind, Account: q.Account, Network: q.Network, Door: q.Door, Reference: q.Reference, Words: q.Search,
		Since: q.Since, Until: q.Until, After: q.After, Before: q.Before, Limit: limitOf(q.Limit),
	})
	if rest > 0 { // RFC 8288
		next := by.Request.URL.Query()
		next.Set("before", strconv.FormatInt(rest, 10))
		by.Header.Set("Link", "<activity?"+next.Encode()+`>; rel="next"`)
	}
	return showEvents(events), err
}

func showEvents(events []activity.Record) []client.ActivityRecord {
	shown := make([]client.ActivityRecord, len(events))
	for i, e := range events {
		shown[i] = client.ActivityRecord{
			ID: e.ID, At: e.At, Kind: string(e.Kind), Account: e.Account, Actor: e.Actor, Network: e.Network, Door: e.Door,
			Place: e.Place, Detail: e.Detail, Reference: e.Reference,
		}
	}
	return shown
}

// today says what happened in the last 24 hours and what somebody should look at.
func (a *API) today(by Caller, _ client.None) (t client.Today, err error) {
	now := a.Now()
	first := now.Truncate(time.Hour).Add(-23 * time.Hour)
	counts, err := a.Activity.Counts(by, first)
	if err != nil {
		return t, err
	}
	book := a.Policy.Book()
	t = client.Today{Hours: make([]client.Hour, 24), Attention: []string{}, Doorways: len(book.Doors), Guarantees: len(book.Guarantees)}
	for i := range t.Hours {
		t.Hours[i] = client.Hour{At: first.Add(time.Duration(i) * time.Hour), Outcomes: map[string]int64{}}
	}
	doors := map[string]map[string]int64{}
	for _, c := range counts {
		if i := int(c.Hour.Sub(first) / time.Hour); i >= 0 && i < len(t.Hours) {
			t.Hours[i].Outcomes[c.Outcome] += c.N
		}
		if c.Outcome == string(policy.Admit) || c.Door == "" {
			continue
		}
		if doors[c.Door] == nil {
			doors[c.Door] = map[string]int64{}
		}
		doors[c.Door][c.Outcome] += c.N
	}
	t.Doors = mostOf(doors, func(o string) bool { return o != string(policy.Challenge) })
	t.Asking = mostOf(doors, func(o string) bool { return o == string(policy.Challenge) })

	refusals, _, err := a.Activity.Events(by, activity.Query{Kind: string(kind.Refused), Limit: 8})
	if err == nil {
		t.Refusals = showEvents(refusals)
		_, t.Sessions, err = a.Sessions.List(by, nil, "", 0, 1)
	}
	if err == nil {
		_, t.People, err = a.People.List(by, people.Query{Limit: 1})
	}
	if err == nil {
		t.Attention, err = a.attention(by, book, now)
	}
	return t, err
}

// The most doors of a list of today.
const mostDoors = 8

// mostOf returns the doors with the most requests of some outcomes, with those alone.
func mostOf(doors map[string]map[string]int64, counts func(outcome string) bool) []client.DoorHits {
	all, sums := []client.DoorHits{}, map[string]int64{}
	for door, outcomes := range doors {
		d := client.DoorHits{Door: door, Outcomes: map[string]int64{}}
		for outcome, n := range outcomes {
			if counts(outcome) && n > 0 {
				d.Outcomes[outcome] = n
				sums[door] += n
			}
		}
		if sums[door] > 0 {
			all = append(all, d)
		}
	}
	slices.SortFunc(all, func(x, y client.DoorHits) int {
		return cmp.Or(cmp.Compare(sums[y.Door], sums[x.Door]), cmp.Compare(x.Door, y.Door))
	})
	return all[:min(mostDoors, len(all))]
}

// attention returns what a steward should look at, in sentences.
func (a *API) attention(ctx context.Context, book *policy.Book, now time.Time) ([]string, error) {
	all := []string{}
	say := func(format string, args ...any) { all = append(all, fmt.Sprintf(format, args...)) }
	if p := a.Policy.Pending(); p != nil {
		say("The policy file is newer than the active policy, since %s: %s.", p.Since.Format("15:04:05"), p.Why)
	}
	for _, what := range a.Endings.Words() {
		say("This could not be recorded yet: %s. It already applies, and Ostiarius keeps trying to record it.", what)
	}
	if a.Remarks != nil {
		all = append(all, a.Remarks()...)
	}
	for _, room := range rooms.Which[rooms.Remarker](a.Rooms) {
		remarks, err := room.Remarks(ctx)
		if err != nil {
			return nil, err
		}
		all = append(all, remarks...)
	}
	if paths := a.Policy.RefusedWorkers(); len(paths) > 0 { // in one sentence, since anybody can ask
		say("A page of your site tried to install a service worker at %s that could imitate the sign-in pages. "+
			"It was blocked, and is removed from browsers that have it. If it is yours, see service-worker in the documentation.", few(paths))
	}
	for _, h := range a.Policy.Upstreams() {
		if h.InARow > 0 {
			say("The upstream server at %s failed to answer %s in a row, most recently at %s.", h.Address, count(h.InARow, "time"),
				h.Failed.Format("15:04:05"))
		}
	}
	warnings := 0
	for _, f := range a.checked.of(book, a.Policy) {
		if f.Severity == document.SeverityWarning {
			warnings++
		}
	}
	if warnings > 0 {
		say("The active policy has %s. The Policy page shows them.", count(warnings, "warning"))
	}
	failed, _, err := a.Activity.Events(ctx, activity.Query{Kind: string(kind.SignInFailed), Since: now.Add(-time.Hour), Limit: mostShown})
	if err != nil {
		return nil, err
	}
	if len(failed) >= 10 {
		networks := map[string]bool{}
		for _, e := range failed {
			networks[e.Network] = true
		}
		say("%s to sign in failed in the last hour, from %s.", count(len(failed), "try"), count(len(networks), "address"))
	}
	ending, err := a.People.GrantsEnding(ctx, now.Add(7*24*time.Hour))
	if err != nil {
		return nil, err
	}
	if ending > 0 {
		say("%s within a week.",
			map[bool]string{true: "A role that was granted ends", false: fmt.Sprintf("%d roles that were granted end", ending)}[ending == 1])
	}
	return all, nil
}

// few names a few of some paths, and no long ones whole.
func few(paths []string) string {
	named := []string{}
	for _, path := range paths[:min(3, len(paths))] {
		if len(path) > 80 {
			path = strings.ToValidUTF8(path[:80], "") + "…"
		}
		named = append(named, path)
	}
	if more := len(paths) - len(named); more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(named, ", "), more)
	}
	return strings.Join(named, ", ")
}

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	switch noun[len(noun)-1] {
	case 'y':
		noun = noun[:len(noun)-1] + "ies"
	case 's':
		noun += "es"
	default:
		noun += "s"
	}
	return fmt.Sprintf("%d %s", n, noun)
}

// A lastCheck is what was found in the policy that was looked at last.
type lastCheck struct {
	sync.Mutex
	book     *policy.Book
	findings []document.Finding
}

// of returns what check finds in a policy. It is found anew only for another one.
func (c *lastCheck) of(book *policy.Book, in *inforce.Policy) []document.Finding {
	c.Lock()
	defer c.Unlock()
	if c.book != book {
		c.book, c.findings = book, in.Here()
	}
	return c.findings
}

func (a *API) upstreams(Caller, client.None) ([]client.Upstream, error) {
	all := []client.Upstream{}
	for _, h := range a.Policy.Upstreams() {
		all = append(all, client.Upstream{
			Address: h.Address, Answered: moment(h.Answered), Failed: moment(h.Failed), Why: h.Why, InARow: h.InARow,
		})
	}
	return all, nil
}
