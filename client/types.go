// Package client is the Go client of the administration API, and the words of that API:
// the types that go over the wire.
package client

import (
	"time"

	"ostiarius/core/policy"
	"ostiarius/core/prove"
	"ostiarius/core/site"
)

// Person is an account as the API shows it. It never has a password or its hash.
type Person struct {
	Name       string     `json:"name"`
	Email      string     `json:"email,omitempty"`
	LeavesAt   *time.Time `json:"leavesAt,omitempty"` // when it is deleted, since its owner wants that
	Notes      string     `json:"notes,omitempty"`
	Disabled   bool       `json:"disabled"`
	NoPassword bool       `json:"noPassword,omitempty"` // none is set yet; a link is needed to set one
	Roles      []string   `json:"roles"`                // those that hold now
	Grants     []Grant    `json:"grants"`
	MadeAt     time.Time  `json:"madeAt"`
	MadeBy     string     `json:"madeBy"`
	LastSignIn *time.Time `json:"lastSignIn"`
}

// People is a part of the accounts.
type People struct {
	People []Person `json:"people"`
	Total  int      `json:"total"` // how many the query means
}

// PeopleQuery says which accounts are meant, and in which order.
type PeopleQuery struct {
	Search string // words that stand in name, address or notes
	Role   string // granted now
	State  string // "enabled", "disabled", "never" (signed in); "" for any
	Sort   string // "name", "email", "made", "signed-in"
	Down   bool
	Offset int
	Limit  int // at most 1000; 0 for 100
}

// Grant is a role given to an account.
type Grant struct {
	Role  string     `json:"role"`
	From  time.Time  `json:"from"`
	Until *time.Time `json:"until"`
	By    string     `json:"by"`
}

// NewPerson asks for an account. Without a password, a link is needed to set one.
type NewPerson struct {
	Name     string   `json:"name"`
	Email    string   `json:"email,omitempty"`
	Notes    string   `json:"notes,omitempty"`
	Password string   `json:"password,omitempty"`
	Roles    []string `json:"roles,omitempty"`
	// Until is when the roles end; nil for never.
	Until *time.Time `json:"until,omitempty"`
	// Anyway takes the name though it was another's until recently, or looks like another.
	Anyway bool `json:"anyway,omitempty"`
}

// PersonEdit says what of an account is to be changed; nil leaves it.
type PersonEdit struct {
	Name  *string `json:"name,omitempty"`
	Email *string `json:"email,omitempty"`
	Notes *string `json:"notes,omitempty"`
	// Anyway takes the name though it was another's until recently, or looks like another.
	Anyway bool `json:"anyway,omitempty"`
}

// Link is an address at which a password can be set, once.
type Link struct {
	Path  string    `json:"path"` // below the site's address
	Until time.Time `json:"until"`
}

// Import asks to bring in accounts, all or none; with Dry, only what would happen.
type Import struct {
	Dry  bool   `json:"dry,omitempty"`
	File string `json:"file"` // CSV or JSON
}

// Imported says what became of the lines, or what would.
type Imported struct {
	Done    bool           `json:"done"`
	Results []ImportedLine `json:"results"`
}

// ImportedLine says what became of one line: "add", "change", "same" or "error".
type ImportedLine struct {
	Line   int    `json:"line"`
	Name   string `json:"name"`
	Action string `json:"action"`
	Detail string `json:"detail,omitempty"`
}

// AccessKey is what is known of an access key; its token is shown once, when it is made.
type AccessKey struct {
	Handle   string     `json:"handle"`
	Account  string     `json:"account"`
	Name     string     `json:"name"`
	Roles    []string   `json:"roles"`    // that it carries
	AllRoles bool       `json:"allRoles"` // or all that the account has
	Networks []string   `json:"networks"` // from which it counts; none for all
	MadeAt   time.Time  `json:"madeAt"`
	MadeBy   string     `json:"madeBy"`
	Until    *time.Time `json:"until,omitempty"`
	Ended    bool       `json:"ended"`
	UsedAt   *time.Time `json:"usedAt,omitempty"` // roughly
	UsedFrom string     `json:"usedFrom,omitempty"`
}

// AccessKeys is a part of the access keys.
type AccessKeys struct {
	Keys  []AccessKey `json:"keys"`
	Total int         `json:"total"`
}

// NewAccessKey says what an access key is to be.
type NewAccessKey struct {
	Account string `json:"account"`
	Name    string `json:"name"`
	// Roles are those that it carries; left away for all that the account has.
	Roles []string `json:"roles,omitempty"`
	// NoRoles says that it carries none.
	NoRoles  bool       `json:"noRoles,omitempty"`
	Networks []string   `json:"networks,omitempty"`
	Until    *time.Time `json:"until,omitempty"`
}

// MadeAccessKey is an access key with its token, which is not shown again.
type MadeAccessKey struct {
	AccessKey
	Token string `json:"token"`
}

// FactorReset says when what an account can show beside its password is taken away; nothing if that was done at once.
type FactorReset struct {
	Due *time.Time `json:"due,omitempty"`
}

// HeldFactors is what an account has set up beside its password.
type HeldFactors struct {
	Passkeys []HeldPasskey `json:"passkeys"`
	Code     *time.Time    `json:"code,omitempty"` // since when an app for codes is set up
	Kept     int           `json:"kept"`           // codes that are kept and were not used
	Browsers int           `json:"browsers"`       // that are not asked for a while
	Reset    *time.Time    `json:"reset,omitempty"`
	ResetBy  string        `json:"resetBy,omitempty"`
	Wanted   string        `json:"wanted,omitempty"` // what the policy wants and is not set up
	// Elsewhere are accounts at providers that open this one.
	Elsewhere []HeldElsewhere `json:"elsewhere"`
}

// HeldElsewhere is an account at a provider, as stewards see it.
type HeldElsewhere struct {
	Provider string     `json:"provider"`
	KnownAs  string     `json:"knownAs"` // an address or a name there
	MadeAt   time.Time  `json:"madeAt"`
	UsedAt   *time.Time `json:"usedAt,omitempty"`
}

// HeldPasskey is a passkey as stewards see it.
type HeldPasskey struct {
	Name   string     `json:"name"`
	Host   string     `json:"host"` // that it is for
	MadeAt time.Time  `json:"madeAt"`
	UsedAt *time.Time `json:"usedAt,omitempty"`
}

// Session is a sign-in on one device.
type Session struct {
	Handle     string    `json:"handle"`
	Account    string    `json:"account"`
	MadeAt     time.Time `json:"madeAt"`
	SeenAt     time.Time `json:"seenAt"`
	ProvedAt   time.Time `json:"provedAt"` // when its owner last proved to be that
	How        string    `json:"how"`      // and what they have shown, such as "password" or "password code"
	Remembered bool      `json:"remembered"`
	Network    string    `json:"network"`
	Agent      string    `json:"agent"`
}

// Sessions is a part of the sessions that hold now.
type Sessions struct {
	Sessions []Session `json:"sessions"`
	Total    int       `json:"total"`
}

// Event is a record of what happened.
type Event struct {
	ID        int64     `json:"id"`
	At        time.Time `json:"at"`
	Kind      string    `json:"kind"`
	Account   string    `json:"account,omitempty"`
	Actor     string    `json:"actor,omitempty"`
	Network   string    `json:"network,omitempty"`
	Door      string    `json:"door,omitempty"`
	Place     string    `json:"place,omitempty"`
	Detail    string    `json:"detail,omitempty"`
	Reference string    `json:"reference,omitempty"`
}

// EventQuery says which events are meant. Empty fields mean any.
type EventQuery struct {
	Kind, Account, Network, Door, Reference, Search string
	Since, Until                                    time.Time
	After, Before                                   int64
	Limit                                           int // at most 1000; 0 for 100
}

// Keyring is a named list of HTTP Basic credentials.
type Keyring struct {
	Name    string  `json:"name"`
	Realm   string  `json:"realm"`
	Gone    bool    `json:"gone,omitempty"` // the policy has it no more
	Entries []Entry `json:"entries"`
}

// Entry is a name in a keyring. It never has the password or its hash.
type Entry struct {
	Name     string     `json:"name"`
	Note     string     `json:"note,omitempty"`
	Disabled bool       `json:"disabled"`
	Kind     string     `json:"kind"` // of the hash
	Weak     bool       `json:"weak"`
	MadeAt   time.Time  `json:"madeAt"`
	MadeBy   string     `json:"madeBy"`
	UsedAt   *time.Time `json:"usedAt"`
	Until    *time.Time `json:"until"`
	OldUntil *time.Time `json:"oldUntil"` // until when the password before counts too
}

// NewEntry asks for a name in a keyring.
type NewEntry struct {
	Name     string     `json:"name"`
	Password string     `json:"password"`
	Note     string     `json:"note,omitempty"`
	Until    *time.Time `json:"until,omitempty"`
}

// EntryEdit says what of an entry is to be changed; nil leaves it.
type EntryEdit struct {
	Note    *string    `json:"note,omitempty"`
	Until   *time.Time `json:"until,omitempty"`
	Endless bool       `json:"endless,omitempty"` // it has no end any more
}

// NewEntryPassword asks for another password of an entry; the one before counts for as many
// seconds as Grace.
type NewEntryPassword struct {
	Password string `json:"password"`
	Grace    int64  `json:"grace,omitempty"`
}

// EntriesImport asks to bring in an htpasswd file.
type EntriesImport struct {
	File string `json:"file"`
	Dry  bool   `json:"dry,omitempty"`
}

// EntriesExport is a keyring as an htpasswd file, and what could not be written.
type EntriesExport struct {
	File string         `json:"file"`
	Left []ImportedLine `json:"left"`
}

// Upstream says how a server behind has been of late.
type Upstream struct {
	Address  string     `json:"address"`
	Answered *time.Time `json:"answered"` // when it last answered
	Failed   *time.Time `json:"failed"`   // when it last failed
	Why      string     `json:"why,omitempty"`
	InARow   int        `json:"inARow"` // failures without an answer between
}

// Today is what happened in the last 24 hours, and what needs attention.
type Today struct {
	Hours      []Hour     `json:"hours"`  // 24, the present one last
	Doors      []DoorHits `json:"doors"`  // those that refuse most, or hide from most
	Asking     []DoorHits `json:"asking"` // those that ask most for a proof, as for signing in
	Refusals   []Event    `json:"refusals"`
	Sessions   int        `json:"sessions"`
	People     int        `json:"people"`
	Attention  []string   `json:"attention"`
	Doorways   int        `json:"doorways"`   // of the active policy; a door with several paths counts as several, as in the list of doors
	Guarantees int        `json:"guarantees"` // that hold
}

// Hour is what requests came to in an hour.
type Hour struct {
	At       time.Time        `json:"at"` // its beginning
	Outcomes map[string]int64 `json:"outcomes"`
}

// DoorHits says how many requests a door has turned away, by outcome.
type DoorHits struct {
	Door     string           `json:"door"`
	Outcomes map[string]int64 `json:"outcomes"`
}

// Strength says how hard a password is to guess.
type Strength struct {
	Bits   float64 `json:"bits"`
	Word   string  `json:"word"`
	Advice string  `json:"advice,omitempty"` // why it is refused
}

// NewPassword asks for another password.
type NewPassword struct {
	Password string `json:"password"`
}

// NewGrant asks for a role, until a time or for good.
type NewGrant struct {
	Role  string     `json:"role"`
	From  *time.Time `json:"from,omitempty"`
	Until *time.Time `json:"until,omitempty"`
}

// Me says who asks, to the scripts of a page: GET /door/me.
type Me struct {
	SignedIn bool       `json:"signedIn"`
	Name     string     `json:"name"`             // "" for nobody
	Roles    []string   `json:"roles"`            // with those that they include
	Proven   *time.Time `json:"proven,omitempty"` // when the password was typed last
	Ends     *time.Time `json:"ends,omitempty"`   // when the session ends, whatever happens
	Idle     int        `json:"idle,omitempty"`   // seconds without a request after which it ends
	Unlocked []string   `json:"unlocked"`         // the shared passwords that are unlocked
	Passes   []string   `json:"passes"`           // the kinds of pass that are held
	Ways     Ways       `json:"ways"`
}

// Ways are the addresses of pages, as far as they are of use to somebody and are told to them.
type Ways struct {
	SignIn     string `json:"signIn,omitempty"`
	SignOut    string `json:"signOut,omitempty"`
	Account    string `json:"account,omitempty"`
	ProveAgain string `json:"proveAgain,omitempty"`
	Unlock     string `json:"unlock,omitempty"`
	Join       string `json:"join,omitempty"`
	Recover    string `json:"recover,omitempty"`
}

// AskedPlaces are the addresses that POST /door/may is asked about, at most 500.
type AskedPlaces struct {
	Places []AskedPlace `json:"places"`
}

// AskedPlace is one of them.
type AskedPlace struct {
	Path   string `json:"path"`             // as in a link, with a query if it has one
	Method string `json:"method,omitempty"` // GET unless given
}

// May says what somebody would get there, in the same order.
type May struct {
	Places []PlaceToGo `json:"places"`
}

// PlaceToGo is what somebody would get at an address.
type PlaceToGo struct {
	Path    string `json:"path"`
	Method  string `json:"method"`
	May     bool   `json:"may"`            // they are let in
	Outcome string `json:"outcome"`        // admit, challenge, refuse, reject, or missing for what is not there for them
	Code    string `json:"code,omitempty"` // what is missing, as a program is told it
	Name    string `json:"name,omitempty"` // of the shared password, or the kind of pass, or the words for a factor
	Go      string `json:"go,omitempty"`   // where to go instead
}

// Compared says what a change opens and closes, or why that could not be proven.
type Compared struct {
	Differences []prove.Difference `json:"differences"`
	Unproven    string             `json:"unproven,omitempty"`
}

// Applied is a version that has come into force, and how its doors differ.
type Applied struct {
	Version  Version         `json:"version"`
	Changes  []policy.Change `json:"changes"`
	Compared Compared        `json:"compared"`
}

// Problem is an error of the API (RFC 9457).
type Problem struct {
	Type      string             `json:"type"`
	Title     string             `json:"title"`
	Status    int                `json:"status"`
	Detail    string             `json:"detail"`
	Code      string             `json:"code,omitempty"`      // what is the matter, for programs; "proof-needed": the password must be typed again first
	Wait      int                `json:"wait,omitempty"`      // seconds before it makes sense to try again
	Reference string             `json:"reference,omitempty"` // the number under which a refusal can be found
	Findings  []policy.Finding   `json:"findings,omitempty"`  // of a policy that was not taken
	Opened    []prove.Difference `json:"opened,omitempty"`    // by a policy that was to open nothing
}

func (p *Problem) Error() string { return p.Detail }

// Generate asks for a random password: of so many words, or of so many characters; the usual one if neither is
// said.
type Generate struct {
	Words    int  `json:"words,omitempty"`
	Length   int  `json:"length,omitempty"`
	Readable bool `json:"readable,omitempty"` // without characters that look like others, in groups
}

// Generated is a random password. It is stored nowhere.
type Generated struct {
	Password string   `json:"password"`
	Strength Strength `json:"strength"`
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

// Edit is a change of one thing of the policy's text.
type Edit struct {
	// Kind is "door", "remove", "role", "keyring", "shared", "pass", "unlisted", "landing", "guarantee" or "remove-guarantee".
	Kind      string        `json:"kind"`
	Path      string        `json:"path,omitempty"`
	Host      string        `json:"host,omitempty"`
	Methods   []string      `json:"methods,omitempty"`
	Terms     *policy.Terms `json:"terms,omitempty"` // of a door; or else:
	Admit     string        `json:"admit,omitempty"` // as in a policy, or for short; of unlisted: its word
	Otherwise string        `json:"otherwise,omitempty"`
	Name      string        `json:"name,omitempty"`    // of a role, a keyring, a shared password or a kind of pass that is declared
	Title     string        `json:"title,omitempty"`   // of a shared password or a kind of pass: what it opens, for people
	Lasts     string        `json:"lasts,omitempty"`   // likewise: such as 7d, or forever
	Realm     string        `json:"realm,omitempty"`   // of a keyring
	On        string        `json:"on,omitempty"`      // of a landing: sign-in, sign-out, join, password-change
	Role      string        `json:"role,omitempty"`    // of a landing: who is sent there; or
	User      string        `json:"user,omitempty"`    // this account; or else everybody
	Go        string        `json:"go,omitempty"`      // of a landing: the page; "" takes it out
	Promise   string        `json:"promise,omitempty"` // of a guarantee: only, always, never
	Because   string        `json:"because,omitempty"` // of a guarantee; of a door that is new, in a comment behind it
}

// Edits are changes of the text in force that are to be looked at.
type Edits struct {
	Edits []Edit `json:"edits"`
}

// Edited is what edits make of the text in force. It is not in force itself.
type Edited struct {
	Base       int64             `json:"base"` // the version that was edited
	Text       string            `json:"text"`
	Changed    bool              `json:"changed"`
	Lines      string            `json:"lines,omitempty"` // the difference, in the unified format
	Compared   Compared          `json:"compared"`
	Findings   []policy.Finding  `json:"findings"`
	Guarantees []prove.Guarantee `json:"guarantees"`
	Sentence   []policy.Phrase   `json:"sentence,omitempty"`   // of the door that was set
	Exceptions []Exception       `json:"exceptions,omitempty"` // doors within it, which decide before it
	Remarks    []string          `json:"remarks,omitempty"`    // what is not wrong, and should be known
}

// Exception is a door within another one.
type Exception struct {
	Path     string   `json:"path"`
	Host     string   `json:"host,omitempty"`
	Methods  []string `json:"methods,omitempty"`
	Line     int      `json:"line"`
	Sentence string   `json:"sentence"`
}
