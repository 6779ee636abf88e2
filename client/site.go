package client

import (
	"ostiarius/core/policy"
	"ostiarius/core/policy/edit"
	"ostiarius/core/site"
)

// What can be asked about the site and its doors.
var (
	ShowSite      = Get[SiteQuery, Site]("/site", "The whole site as a tree, with what a stranger gets at each place")
	ListDoors     = Get[None, Doors]("/doors", "The doors of the active policy in the order of the file, and the built-in ones")
	ShowRelations = Get[ByNumber, Relations]("/doors/{id}/relations",
		"How a door lies to all others; it is named by its index", Fails(404))
	Explain = Get[Question, policy.Explanation]("/explain", "What a visitor would get at an address, and why", Fails(404, 422))
)

// SiteQuery says more about the places that are shown.
type SiteQuery struct {
	As    string `json:"-" query:"as"`    // a visitor, to be told what that one gets as well
	Place string `json:"-" query:"place"` // the canonical path of a place that is to be among them, decoded
}

// Question is about a request and who sends it.
type Question struct {
	URL     string `json:"-" query:"url" required:""` // a path, or a whole address
	Method  string `json:"-" query:"method"`          // GET unless given
	As      string `json:"-" query:"as"`              // a visitor, such as role:keeper,proof-age:5m; anonymous unless given
	Client  string `json:"-" query:"client" enum:"browser|script|api"`
	Version int64  `json:"-" query:"version"` // of the policy; the active one unless given
}

// Site is the whole site as the policy in force has it.
type Site struct {
	URL      string         `json:"url"` // at which people reach it
	Unlisted string         `json:"unlisted"`
	Spots    []site.Spot    `json:"spots"`    // each before what is below it
	Deciders []site.Decider `json:"deciders"` // that spots name by their index
	More     bool           `json:"more,omitempty"`
	Files    int            `json:"files"`   // places that have a file
	Sitemap  int            `json:"sitemap"` // that stand in the site's sitemap.xml
	Asked    int            `json:"asked"`   // that a server behind has answered for, of late

	Proposals []site.Proposal `json:"proposals"` // doors that the site may need, and does not have
}

// Doors is the policy in force, door by door.
type Doors struct {
	Site     string      `json:"site"`
	Prefix   string      `json:"prefix"`
	File     string      `json:"file"`
	Roles    []string    `json:"roles"`
	Unlisted string      `json:"unlisted" enum:"public|signed-in|refuse|hide"`
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
	Terms    *edit.Terms     `json:"terms,omitempty"` // what people choose one by one; missing if it says more than these can
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
