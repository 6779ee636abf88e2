// Package patrol walks a running site as every kind of visitor, and tells what does not hold: pages that were forgotten, guards that only
// pretend, ways that never arrive, closed pages that are kept by caches, and answers that are not what the policy decides.
//
// It sends GET alone unless it is told otherwise, to the hosts that it is given, and leaves addresses out that sound as if they
// signed out or changed something. What it has seen is read by rules, each of which knows nothing of the others; docs/patrol.md has
// them. Whatever a site answers, a patrol ends: addresses, hops, bytes, time and questions are bounded, and what was left out for
// it is said.
package patrol

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"ostiarius/core/document"
	"ostiarius/core/policy"
)

// A Visitor is somebody as whom the site is walked.
type Visitor struct {
	Who     string         // in the notation for visitors, or any name
	As      policy.Visitor // what the policy is asked for, if there is one
	Cookies []*http.Cookie // that are sent, and kept fresh
	Fields  http.Header    // that are sent besides, such as Authorization
}

func (v *Visitor) stranger() bool {
	return len(v.Cookies) == 0 && len(v.Fields) == 0
}

// Options say what is walked, and how far. The zero values of numbers are usual ones.
type Options struct {
	Sites     []*url.URL // the first is walked from; the hosts of all of them may be asked
	Visitors  []Visitor  // a stranger is added if there is none
	Book      *policy.Book
	Addresses []string   // further ones to try, from the root of the first site
	Around    []*url.URL // where the same content might be reached around the guard: other ports, the server behind
	Mark      string     // stands at the end of User-Agent; "" for nothing
	Methods   []string   // others than GET that a stranger sends to closed addresses; who names one says that it may be sent
	Most      int        // addresses
	Together  int        // requests at once
	PerSecond float64    // requests; 0 for as many as are answered
	Patience  time.Duration
	Lasts     time.Duration // in all
	Drawn     *Browser      // for pages that are drawn by script; nil for none
	Progress  func(done, known int)
	mostHeld  int // bytes of pages that are held
}

// Usual limits.
const (
	UsualMost     = 10_000
	UsualTogether = 8
	UsualPatience = 10 * time.Second
	UsualLasts    = 30 * time.Minute
	mostBytes     = 2 << 20 // of an answer that are read
	mostHops      = 20
	mostLinks     = 2000 // of one page
	mostQueries   = 60   // of one path
	mostDeep      = 14   // segments
	mostLong      = 1500 // bytes of an address
)

// A Severity says how bad a finding is, in the words of findings in policies.
type Severity = document.Severity

// A Finding is something that does not hold on the site.
type Finding struct {
	Rule     string   `json:"rule"`
	Severity Severity `json:"severity"`
	Path     string   `json:"path"` // where it is, without a query
	Message  string   `json:"message"`
	As       string   `json:"as"`             // for whom it does not hold
	Door     string   `json:"door,omitempty"` // what the policy says there
	Requests []Shown  `json:"requests"`       // that show it, usually two
}

// Key is the same for the same finding of another patrol, however many other pages have it too.
func (f *Finding) Key() string {
	message, _, _ := strings.Cut(f.Message, "; so do")
	return f.Rule + " " + f.Path + " " + f.As + " " + message
}

// Shown is a request and its answer, without what would be a secret.
type Shown struct {
	As       string `json:"as"`
	Method   string `json:"method"`
	URL      string `json:"url"`
	With     string `json:"with,omitempty"` // fields that were sent besides
	Status   int    `json:"status"`         // 0 for no answer
	Location string `json:"location,omitempty"`
	Fields   string `json:"fields,omitempty"` // of the answer, that matter
	Begins   string `json:"begins,omitempty"` // how its content begins, or the part that matters
}

// Left is what was not walked.
type Left struct {
	Path   string `json:"path"`
	Reason string `json:"reason"`
}

// A Result is what a patrol has found, the worst first.
type Result struct {
	Site     string    `json:"site"`
	Findings []Finding `json:"findings"`
	Visited  int       `json:"visited"`  // addresses
	Requests int       `json:"requests"` // with the questions that rules have asked
	Visitors []string  `json:"visitors"`
	LeftOut  []Left    `json:"left-out"`
	Began    time.Time `json:"began"`
	Took     string    `json:"took"`
}

// EndedEarly is the reason in Left of a patrol that somebody has ended.
const EndedEarly = "the patrol was ended before it was through"

// Run walks a site. The error says that it could not begin; what went wrong on the way is told in the result. A context that ends makes it
// tell what was found until then.
func Run(ctx context.Context, o Options) (*Result, error) {
	if len(o.Sites) == 0 {
		return nil, errors.New("no site is named")
	}
	o.Most, o.Together = cmp.Or(o.Most, UsualMost), cmp.Or(o.Together, UsualTogether)
	o.mostHeld = cmp.Or(o.mostHeld, 192<<20)
	o.Patience, o.Lasts = cmp.Or(o.Patience, UsualPatience), cmp.Or(o.Lasts, UsualLasts)
	if !slices.ContainsFunc(o.Visitors, func(v Visitor) bool { return v.stranger() }) {
		o.Visitors = append([]Visitor{{Who: "anonymous"}}, o.Visitors...)
	}
	began := time.Now()
	bounded, cancel := context.WithTimeout(ctx, o.Lasts)
	defer cancel()
	w := newWalk(&o)
	// What was read by then is still looked at, for a moment.
	w.ends.Store(began.Add(o.Lasts + afterTime).UnixNano())
	defer context.AfterFunc(ctx, func() { w.ends.Store(time.Now().Add(afterEnd).UnixNano()) })()
	defer w.client.CloseIdleConnections()
	if err := w.reach(bounded); err != nil {
		return nil, err
	}
	w.walk(bounded)
	w.leftOver(bounded)
	for _, rule := range rules {
		rule(w, bounded)
	}
	if ctx.Err() != nil {
		w.leave("/", EndedEarly)
	} else if bounded.Err() != nil {
		w.leave("/", "the patrol took more than "+document.FormatDuration(o.Lasts)+", so some of it was not looked at")
	}
	return w.result(began), nil
}

// How long rules may look at what was read, after the time of a patrol and after somebody has ended it.
const (
	afterTime = 10 * time.Second
	afterEnd  = 2 * time.Second
)

// rules look at what was walked, and ask more where they have to.
var rules = []func(*walk, context.Context){
	(*walk).differing, (*walk).pretending, (*walk).around, (*walk).arriving, (*walk).keeping, (*walk).telling, (*walk).leading,
	(*walk).cookies, (*walk).fields, (*walk).parts,
}

func (w *walk) result(began time.Time) *Result {
	rank := map[Severity]int{document.SeverityError: 0, document.SeverityWarning: 1}
	slices.SortStableFunc(w.found, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(rank[a.Severity], rank[b.Severity]), strings.Compare(a.Rule, b.Rule), strings.Compare(a.Path, b.Path),
			strings.Compare(a.As, b.As), strings.Compare(a.Message, b.Message))
	})
	slices.SortStableFunc(w.left, func(a, b Left) int {
		return cmp.Or(strings.Compare(a.Reason, b.Reason), strings.Compare(a.Path, b.Path))
	})
	r := &Result{
		Site: w.base.String(), Findings: w.found, Visited: len(w.order), Requests: int(w.asked.Load()), LeftOut: w.left, Began: began,
		Took: time.Since(began).Round(10 * time.Millisecond).String(), Visitors: []string{},
	}
	if r.Findings == nil {
		r.Findings = []Finding{}
	}
	if r.LeftOut == nil {
		r.LeftOut = []Left{}
	}
	for i := range w.o.Visitors {
		r.Visitors = append(r.Visitors, w.o.Visitors[i].Who)
	}
	return r
}

// Since leaves the findings that another patrol has told already.
func (r *Result) Since(before *Result) {
	known := map[string]bool{}
	for i := range before.Findings {
		known[before.Findings[i].Key()] = true
	}
	r.Findings = slices.DeleteFunc(r.Findings, func(f Finding) bool { return known[f.Key()] })
}
