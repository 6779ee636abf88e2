package client

import (
	"time"
)

// What can be asked about passes.
var (
	ListPassKinds = Get[None, []PassKind]("/passes/kinds", "The kinds of pass", AtRest)
	ListPasses    = Get[PassQuery, Passes]("/passes", "Passes, the newest first", AtRest, Fails(422))
	IssuePass     = Post[NewPass, IssuedPass]("/passes", "Issue a pass", Created, Fails(404, 422))
	ImportPasses  = Post[PassesImport, ImportedPasses]("/passes/import", "Issue the passes of a list", MaxBody(32<<20), Fails(404, 422))
	RotatePasses  = Post[PassRotation, RotatedPasses]("/passes/rotate",
		"Give passes of a kind new credentials, a part of them at a time", Fails(404, 422))
	ShowPass   = Get[ByID, Pass]("/passes/{id}", "A pass with its story", AtRest, Fails(404))
	RevokePass = Post[ByID, None]("/passes/{id}/revoke", "Take a pass back for good", Fails(404, 409))
	PausePass  = Post[ByID, None]("/passes/{id}/pause", "Close a pass until it is resumed", Fails(404, 409))
	ResumePass = Post[ByID, None]("/passes/{id}/resume", "Open a paused pass again", Fails(404, 409))
	RenewPass  = Post[PassRenewal, Pass]("/passes/{id}/renew", "Give a pass another end, and more downloads", Fails(404, 409, 422))
	ResendPass = Post[PassResending, IssuedPass]("/passes/{id}/resend",
		"Give a pass new credentials and mail them", Fails(404, 409, 422))
)

// PassKind is a kind of pass, as the policy declares it.
type PassKind struct {
	Name       string         `json:"name"`
	Title      string         `json:"title"`
	Lasts      string         `json:"lasts"` // "14d" or "forever"
	CountsFrom string         `json:"countsFrom" enum:"issue|first-use"`
	Downloads  int            `json:"downloads"`                // 0 for any number
	Networks   int            `json:"networks"`                 // from which one may be used within a day; 0 for any number
	Spread     string         `json:"spread" enum:"note|pause"` // what is done with one that is used from more: "note" or "pause"
	Place      string         `json:"place"`                    // where one leads
	Gone       bool           `json:"gone,omitempty"`
	Counts     map[string]int `json:"counts"` // how many are in each state
}

// Pass is access that was issued to one recipient. It never has its link or password.
type Pass struct {
	ID        string           `json:"id"` // also its name for HTTP Basic
	Kind      string           `json:"kind"`
	Reference string           `json:"reference"`
	Recipient string           `json:"recipient"` // the address
	Name      string           `json:"name,omitempty"`
	Note      string           `json:"note,omitempty"`
	Paths     []string         `json:"paths,omitempty"` // to which it is narrowed
	State     string           `json:"state" enum:"waiting|open|used-up|ended|paused|revoked"`
	Why       string           `json:"why,omitempty" enum:"steward|spread"` // it is paused
	MadeAt    time.Time        `json:"madeAt"`
	MadeBy    string           `json:"madeBy"`
	Until     *time.Time       `json:"until"`           // none for no end, or if it counts from the first use
	Lasts     string           `json:"lasts,omitempty"` // from the first use
	FirstUsed *time.Time       `json:"firstUsed"`
	LastUsed  *time.Time       `json:"lastUsed"`
	Downloads PassDownloads    `json:"downloads"`
	SpreadAt  *time.Time       `json:"spreadAt,omitempty"` // when it was last used from more networks than its kind allows
	OldUntil  *time.Time       `json:"oldUntil,omitempty"` // as long as its link and password before count too
	Networks  *int             `json:"networks,omitempty"` // from which it was used within a day; of one asked for by its name
	Story     []PassStoryEntry `json:"story,omitempty"`    // likewise
}

// PassDownloads is how many files were downloaded with a pass, and may be.
type PassDownloads struct {
	Used    int `json:"used"`
	Allowed int `json:"allowed"` // 0 for any number
}

// PassStoryEntry is one thing of the story of a pass.
type PassStoryEntry struct {
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
	Kind   string `json:"-" query:"kind"`
	State  string `json:"-" query:"state" enum:"waiting|open|used-up|ended|paused|revoked"`
	Search string `json:"-" query:"search"`            // how the name, the address, the reference or the ID begins
	After  string `json:"-" query:"after"`             // the ID of the last that is known
	Limit  int    `json:"-" query:"limit" most:"1000"` // 100 unless given
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

// PassRenewal asks for another end, and for more downloads.
type PassRenewal struct {
	ID        string     `json:"-" path:"id"`
	Until     *time.Time `json:"until,omitempty"`
	Downloads int        `json:"downloads,omitempty"` // so many more
}

// PassResending asks for other credentials of a pass.
type PassResending struct {
	ID     string `json:"-" path:"id"`
	Grace  int64  `json:"grace,omitempty"` // seconds for which those before count too
	NoMail bool   `json:"noMail,omitempty"`
}

// PassRotation asks for other credentials of the passes of a kind, a part of them at a time.
type PassRotation struct {
	Kind   string    `json:"kind"`
	Grace  int64     `json:"grace,omitempty"` // seconds for which those before count too
	Before time.Time `json:"before"`          // only those whose credentials were made before: when this began
}

// RotatedPasses is how many have others now; 0 when all are done.
type RotatedPasses struct {
	Rotated int `json:"rotated"`
}
