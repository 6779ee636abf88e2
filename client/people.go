package client

import "time"

// What can be asked about accounts.
var (
	ListPeople   = Get[PeopleQuery, People]("/people", "The accounts, a part at a time", AtRest, Fails(422))
	ShowPerson   = Get[ByName, Person]("/people/{name}", "An account with its roles", AtRest, Fails(404))
	AddPerson    = Post[NewPerson, Person]("/people", "Add an account", Created, Fails(409, 422))
	EditPerson   = Patch[PersonEdit, Person]("/people/{name}", "Change the name, address or notes of an account", Fails(404, 409, 422))
	RemovePerson = Delete[ByName, None]("/people/{name}", "Remove an account with its roles and sessions", Fails(404))
	SetPassword  = Put[NewPassword, None]("/people/{name}/password",
		"Set another password and end the account's sessions", Fails(404, 422))
	DisablePerson = Put[Disabled, None]("/people/{name}/disabled",
		"Disable an account, which ends its sessions, or enable it again", Fails(404))
	GrantRole  = Post[NewGrant, None]("/people/{name}/grants", "Give an account a role, until a time or for good", Fails(404, 422))
	RevokeRole = Delete[RoleOf, None]("/people/{name}/grants/{role}", "Take a role from an account", Fails(404))
	LinkPerson = Post[ByName, Link]("/people/{name}/link",
		"Make a link with which the password of an account is set, once", Created, Fails(404, 422))
	MailLink = Post[ByName, None]("/people/{name}/link/mail",
		"Mail the owner of an account a link to set the password, once", Fails(404, 422))
	EndSessionsOf = Delete[ByName, Ended]("/people/{name}/sessions", "End all sessions of an account", Fails(404))
	ImportPeople  = Post[Import, Imported]("/people/import",
		"Import accounts, all or none, or say what would happen", MaxBody(64<<20), Fails(422))
	ExportPeople = Get[None, File]("/people.json", "All accounts without their passwords, as JSON that can be imported again",
		AtRest, Holds[[]Exported])
	ExportPeopleCSV = Get[None, File]("/people.csv", "All accounts without their passwords, as CSV", AtRest, Media("text/csv"))
	FirstLink       = Post[None, Link]("/first-link",
		"Make a link with which the first steward makes an account, once and within an hour", Created, Fails(409))
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
	Search string `json:"-" query:"search"`                              // words in the name, the address or the notes
	Role   string `json:"-" query:"role"`                                // only accounts that have it now
	State  string `json:"-" query:"state" enum:"enabled|disabled|never"` // never signed in
	Sort   string `json:"-" query:"sort" enum:"name|email|made|signed-in"`
	Down   bool   `json:"-" query:"down"` // the other way round
	Offset int    `json:"-" query:"offset" most:"1000000000"`
	Limit  int    `json:"-" query:"limit" most:"1000"` // 100 unless given
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
	Account string  `json:"-" path:"name"`
	Name    *string `json:"name,omitempty"`
	Email   *string `json:"email,omitempty"`
	Notes   *string `json:"notes,omitempty"`
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
	Action string `json:"action" enum:"add|change|same|error"`
	Detail string `json:"detail,omitempty"`
}

// NewPassword asks for another password.
type NewPassword struct {
	Account  string `json:"-" path:"name"`
	Password string `json:"password"`
}

// NewGrant asks for a role, until a time or for good.
type NewGrant struct {
	Account string     `json:"-" path:"name"`
	Role    string     `json:"role"`
	From    *time.Time `json:"from,omitempty"`
	Until   *time.Time `json:"until,omitempty"`
}

// Disabled says whether an account is to be disabled.
type Disabled struct {
	Account  string `json:"-" path:"name"`
	Disabled bool   `json:"-" body:""`
}

// RoleOf is a role of an account.
type RoleOf struct {
	Account string `json:"-" path:"name"`
	Role    string `json:"-" path:"role"`
}

// Exported is an account as it is exported.
type Exported struct {
	Name     string         `json:"name"`
	Email    string         `json:"email,omitempty"`
	Notes    string         `json:"notes,omitempty"`
	Roles    []ExportedRole `json:"roles,omitempty"`
	Disabled bool           `json:"disabled"`
}

// ExportedRole is a role of an account that is exported.
type ExportedRole struct {
	Role  string     `json:"role"`
	From  time.Time  `json:"from"`
	Until *time.Time `json:"until,omitempty"`
}
