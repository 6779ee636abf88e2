package client

import (
	"time"

	"ostiarius/core/policy"
	"ostiarius/core/prove"
)

// Doors is the policy in force, door by door.
type Doors struct {
	Site     string      `json:"site"`
	Prefix   string      `json:"prefix"`
	File     string      `json:"file"`
	Roles    []string    `json:"roles"`
	Unlisted string      `json:"unlisted"`
	Doors    []Door      `json:"doors"`
	Checks   []Door      `json:"checks"` // what a program asks in its own handlers; each must admit too
	BuiltIn  []Door      `json:"builtIn"`
	Sources  []SourceRef `json:"sources"`
}

// Door is one door, in the policy's words.
type Door struct {
	ID        int      `json:"id"` // its index in file order
	Line      int      `json:"line"`
	Entry     int      `json:"entry"`           // the line of the entry that it is written in
	Label     string   `json:"label"`           // its methods, host and path, as doors are named everywhere; of a check its name
	Check     string   `json:"check,omitempty"` // the name of a check
	Path      string   `json:"path"`
	Host      string   `json:"host,omitempty"`
	Methods   []string `json:"methods"` // empty for any
	Admit     string   `json:"admit"`   // in the policy's words
	Basic     bool     `json:"basic"`
	Anonymous string   `json:"anonymous,omitempty"` // what is said otherwise
	Refused   string   `json:"refused,omitempty"`

	Sentence []policy.Phrase `json:"sentence"`        // the door in words for everybody
	Terms    *policy.Terms   `json:"terms,omitempty"` // what people choose one by one; missing if it says more than these can
}

// Relations say how a door lies to the others.
type Relations struct {
	Wider    []Door     `json:"wider"`    // those around it: it decides before them
	Narrower []Door     `json:"narrower"` // those inside it: they decide before it
	Crossing []Crossing `json:"crossing"` // those that cross it: where both cover a place, both must admit
}

// Crossing is a door that crosses another, and a request that both cover.
type Crossing struct {
	Door    Door   `json:"door"`
	Example string `json:"example"`
}

// SourceRef says what stands behind a path.
type SourceRef struct {
	Path  string `json:"path"`
	Host  string `json:"host,omitempty"`
	Files string `json:"files,omitempty"`
	Proxy string `json:"proxy,omitempty"`
}

// Status is the state of the running service.
type Status struct {
	Version       string           `json:"version"`
	Site          string           `json:"site"`
	Started       time.Time        `json:"started"`
	URL           string           `json:"url"`               // at which people reach the site
	Console       string           `json:"console,omitempty"` // the origin of the console, if it has one of its own
	Policy        string           `json:"policy"`            // the file
	PolicyVersion int64            `json:"policyVersion"`     // in force
	Doors         int              `json:"doors"`
	Findings      []policy.Finding `json:"findings"` // of the newest version of the file, if it was not taken
	Pending       *Pending         `json:"pending,omitempty"`
}

// Pending says that the text of the policy file is not the one in force.
type Pending struct {
	Since time.Time `json:"since"` // when that was first seen
	Why   string    `json:"why"`
	Stuck bool      `json:"stuck"` // it does not come into force by itself in a moment
}

// Version is one text of the policy that has been in force.
type Version struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	Comment string    `json:"comment"`
	Text    string    `json:"text,omitempty"`
}

// Draft is a text of the policy that is to be checked or applied.
type Draft struct {
	Text      string `json:"text,omitempty"`
	Comment   string `json:"comment,omitempty"`
	Base      int64  `json:"base,omitempty"`      // the version that it was made from; 0 for whichever
	NoOpening bool   `json:"noOpening,omitempty"` // apply it only if it opens nothing to anybody
	OverEdit  bool   `json:"overEdit,omitempty"`  // also over an edit of the file that is not in force
}

// Checked is what was found in a draft, and how its doors differ from those in force.
type Checked struct {
	OK       bool             `json:"ok"`
	Findings []policy.Finding `json:"findings"`
	Changes  []policy.Change  `json:"changes"`
	Compared Compared         `json:"compared"`
	// The draft's guarantees and whether they hold; none if the draft cannot be read.
	Guarantees []prove.Guarantee `json:"guarantees"`
}

// MatrixQuery asks for a matrix of the policy in force: its regions, or the files of its
// sources, or some addresses.
type MatrixQuery struct {
	Files     bool      `json:"files,omitempty"`
	Addresses []Address `json:"addresses,omitempty"`
	As        []string  `json:"as,omitempty"` // visitors beside the usual ones
}

// Address is a request that a matrix is asked about.
type Address struct {
	Method string `json:"method"`
	Host   string `json:"host,omitempty"`
	Path   string `json:"path"` // as it would be sent
}

// Matrix says who gets what.
type Matrix struct {
	prove.Matrix
	Site string `json:"site"`
	More bool   `json:"more,omitempty"` // there are more files than are shown
}

// MarksQuery asks for a part of a matrix of the policy in force: of its regions, or of the files of its sources.
type MarksQuery struct {
	Files bool     `json:"files,omitempty"`
	As    []string `json:"as,omitempty"`   // visitors beside the usual ones
	From  int      `json:"from,omitempty"` // the first row, counted from 0
	Limit int      `json:"limit,omitempty"`
}

// Marks is a part of a matrix.
type Marks struct {
	Visitors []string    `json:"visitors"`
	Rows     []MarkedRow `json:"rows"`
	Total    int         `json:"total"`          // of all rows
	More     bool        `json:"more,omitempty"` // there are more files than are counted
}

// MarkedRow is a row of a matrix with a letter for each visitor: a for admit, c challenge, r refuse, h hide, x reject.
type MarkedRow struct {
	Kind   string           `json:"kind"`
	Label  string           `json:"label"`
	Method string           `json:"method"`
	Host   string           `json:"host"`
	Path   string           `json:"path"`
	Doors  []policy.DoorRef `json:"doors"`
	Marks  string           `json:"marks"`
}
