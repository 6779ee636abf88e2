package client

import (
	"context"
	"net/url"
	"strconv"
	"time"
)

// PassKind is a kind of pass, as the policy declares it.
type PassKind struct {
	Name       string         `json:"name"`
	Title      string         `json:"title"`
	Lasts      string         `json:"lasts"`      // "14d" or "forever"
	CountsFrom string         `json:"countsFrom"` // "issue" or "first-use"
	Downloads  int            `json:"downloads"`  // 0 for any number
	Networks   int            `json:"networks"`   // from which one may be used within a day; 0 for any number
	Spread     string         `json:"spread"`     // what is done with one that is used from more: "note" or "pause"
	Place      string         `json:"place"`      // where one leads
	Gone       bool           `json:"gone,omitempty"`
	Counts     map[string]int `json:"counts"` // how many are in each state
}

// Pass is access that was issued to one recipient. It never has its link or password.
type Pass struct {
	ID        string        `json:"id"` // also its name for HTTP Basic
	Kind      string        `json:"kind"`
	Reference string        `json:"reference"`
	Recipient string        `json:"recipient"` // the address
	Name      string        `json:"name,omitempty"`
	Note      string        `json:"note,omitempty"`
	Paths     []string      `json:"paths,omitempty"` // to which it is narrowed
	State     string        `json:"state"`           // "waiting", "open", "used-up", "ended", "paused" or "revoked"
	Why       string        `json:"why,omitempty"`   // it is paused: "steward" or "spread"
	MadeAt    time.Time     `json:"madeAt"`
	MadeBy    string        `json:"madeBy"`
	Until     *time.Time    `json:"until"`           // none for no end, or if it counts from the first use
	Lasts     string        `json:"lasts,omitempty"` // from the first use
	FirstUsed *time.Time    `json:"firstUsed"`
	LastUsed  *time.Time    `json:"lastUsed"`
	Downloads PassDownloads `json:"downloads"`
	SpreadAt  *time.Time    `json:"spreadAt,omitempty"` // when it was last used from more networks than its kind allows
	OldUntil  *time.Time    `json:"oldUntil,omitempty"` // as long as its link and password before count too
	Networks  *int          `json:"networks,omitempty"` // from which it was used within a day; of one asked for by its name
	Story     []PassEvent   `json:"story,omitempty"`    // likewise
}

// PassDownloads is how many files were downloaded with a pass, and may be.
type PassDownloads struct {
	Used    int `json:"used"`
	Allowed int `json:"allowed"` // 0 for any number
}

// PassEvent is one thing of the story of a pass.
type PassEvent struct {
	At     time.Time `json:"at"`
	What   string    `json:"what"`
	Actor  string    `json:"actor,omitempty"`
	Detail string    `json:"detail,omitempty"`
}

// Passes are passes, the newest first.
type Passes struct {
	Passes []Pass `json:"passes"`
	More   bool   `json:"more"` // there are others after the last
}

// PassQuery says which passes are meant. Empty fields mean any.
type PassQuery struct {
	Kind   string
	State  string
	Search string // with which the name, the address, the reference or the ID begins
	After  string // the ID of the last that is known
	Limit  int
}

// NewPass asks for a pass.
type NewPass struct {
	Kind      string     `json:"kind"`
	To        string     `json:"to"`
	Name      string     `json:"name,omitempty"`
	Reference string     `json:"reference,omitempty"`
	Note      string     `json:"note,omitempty"`
	Until     *time.Time `json:"until,omitempty"`
	Downloads int        `json:"downloads,omitempty"`
	Paths     []string   `json:"paths,omitempty"`
	Language  string     `json:"language,omitempty"`
	NoMail    bool       `json:"noMail,omitempty"`
}

// IssuedPass is a pass with its credentials, which are shown this once.
type IssuedPass struct {
	ID        string     `json:"id"`
	Kind      string     `json:"kind"`
	Reference string     `json:"reference"`
	Recipient string     `json:"recipient"`
	Until     *time.Time `json:"until"`
	Link      string     `json:"link"`
	User      string     `json:"user"` // of HTTP Basic
	Password  string     `json:"password"`
	Mailed    bool       `json:"mailed"` // they are on their way to the recipient
	// Letter is what to send to the recipient by another way; nil if it is mailed, or one of a list.
	Letter *Letter `json:"letter,omitempty"`
}

// PassesImport asks for the passes of a list in CSV.
type PassesImport struct {
	Kind      string     `json:"kind"`
	File      string     `json:"file"`
	Dry       bool       `json:"dry,omitempty"`
	Until     *time.Time `json:"until,omitempty"`
	Downloads int        `json:"downloads,omitempty"`
	Language  string     `json:"language,omitempty"`
	NoMail    bool       `json:"noMail,omitempty"`
}

// ImportedPasses is what became of each line. Passes that are not mailed are shown, this once.
type ImportedPasses struct {
	Lines  []ImportedLine `json:"lines"`
	Issued []IssuedPass   `json:"issued"`
}

// RenewPass asks for another end, and for more downloads.
type RenewPass struct {
	Until     *time.Time `json:"until,omitempty"`
	Downloads int        `json:"downloads,omitempty"` // so many more
}

// ResendPass asks for other credentials of a pass.
type ResendPass struct {
	Grace  int64 `json:"grace,omitempty"` // seconds for which those before count too
	NoMail bool  `json:"noMail,omitempty"`
}

// RotatePasses asks for other credentials of the passes of a kind, a part of them at a time.
type RotatePasses struct {
	Kind   string    `json:"kind"`
	Grace  int64     `json:"grace,omitempty"` // seconds for which those before count too
	Before time.Time `json:"before"`          // only those whose credentials were made before: when this began
}

// RotatedPasses is how many have others now; 0 when all are done.
type RotatedPasses struct {
	Rotated int `json:"rotated"`
}

// PassCalls are the calls about passes.
type PassCalls struct{ c *Client }

// Passes returns the calls about passes.
func (c *Client) Passes() PassCalls { return PassCalls{c} }

func passPath(id string) string { return "/passes/" + url.PathEscape(id) }

// Kinds returns the kinds of pass.
func (k PassCalls) Kinds(ctx context.Context) (all []PassKind, err error) {
	return all, k.c.do(ctx, "GET", "/passes/kinds", nil, &all)
}

// List returns passes.
func (k PassCalls) List(ctx context.Context, q PassQuery) (all Passes, err error) {
	values := url.Values{"kind": {q.Kind}, "state": {q.State}, "search": {q.Search}, "after": {q.After}, "limit": {strconv.Itoa(q.Limit)}}
	return all, k.c.do(ctx, "GET", "/passes?"+values.Encode(), nil, &all)
}

// Show returns one pass with its story.
func (k PassCalls) Show(ctx context.Context, id string) (p Pass, err error) {
	return p, k.c.do(ctx, "GET", passPath(id), nil, &p)
}

// Issue issues a pass.
func (k PassCalls) Issue(ctx context.Context, n NewPass) (p IssuedPass, err error) {
	return p, k.c.do(ctx, "POST", "/passes", n, &p)
}

// Import issues the passes of a list.
func (k PassCalls) Import(ctx context.Context, i PassesImport) (done ImportedPasses, err error) {
	return done, k.c.do(ctx, "POST", "/passes/import", i, &done)
}

// Do revokes, pauses or resumes a pass.
func (k PassCalls) Do(ctx context.Context, what, id string) error {
	return k.c.do(ctx, "POST", passPath(id)+"/"+what, nil, nil)
}

// Renew gives a pass another end, and more downloads.
func (k PassCalls) Renew(ctx context.Context, id string, r RenewPass) (p Pass, err error) {
	return p, k.c.do(ctx, "POST", passPath(id)+"/renew", r, &p)
}

// Resend gives a pass other credentials and has them mailed.
func (k PassCalls) Resend(ctx context.Context, id string, r ResendPass) (p IssuedPass, err error) {
	return p, k.c.do(ctx, "POST", passPath(id)+"/resend", r, &p)
}

// Rotate gives some passes of a kind other credentials and has them mailed.
func (k PassCalls) Rotate(ctx context.Context, r RotatePasses) (done RotatedPasses, err error) {
	return done, k.c.do(ctx, "POST", "/passes/rotate", r, &done)
}
