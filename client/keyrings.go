package client

import (
	"time"

	"ostiarius/core/htpasswd"
)

// What can be asked about keyrings.
var (
	ListKeyrings = Get[None, []Keyring]("/keyrings", "All keyrings with their entries", AtRest)
	AddEntry     = Post[NewEntry, Entry]("/keyrings/{ring}/entries", "Add a name with a password", Created, Fails(404, 409, 422))
	EditEntry    = Patch[EntryEdit, None]("/keyrings/{ring}/entries/{name}", "Change the note or the end of an entry", Fails(404, 422))
	RemoveEntry  = Delete[EntryOf, None]("/keyrings/{ring}/entries/{name}", "Remove an entry", Fails(404, 422))
	RotateEntry  = Put[NewEntryPassword, None]("/keyrings/{ring}/entries/{name}/password",
		"Set another password; the one before may count for a while", Fails(404, 422))
	DisableEntry  = Put[DisabledEntry, None]("/keyrings/{ring}/entries/{name}/disabled", "Disable or enable an entry", Fails(404, 422))
	ImportEntries = Post[EntriesImport, []ImportedLine]("/keyrings/{ring}/import",
		"Import an htpasswd file", MaxBody(2*htpasswd.MaxSize), Fails(404, 422))
	ExportEntries = Get[RingNamed, EntriesExport]("/keyrings/{ring}/export",
		"A keyring as an htpasswd file, and what couldn't be written", Proof, AtRest, Fails(404))
)

// RingNamed names a keyring.
type RingNamed struct {
	Keyring string `json:"-" path:"ring"`
}

// EntryOf names an entry of a keyring.
type EntryOf struct {
	Keyring string `json:"-" path:"ring"`
	Entry   string `json:"-" path:"name"`
}

// DisabledEntry says whether an entry is to be disabled.
type DisabledEntry struct {
	Keyring  string `json:"-" path:"ring"`
	Entry    string `json:"-" path:"name"`
	Disabled bool   `json:"-" body:""`
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
	Keyring  string     `json:"-" path:"ring"`
	Name     string     `json:"name"`
	Password string     `json:"password"`
	Note     string     `json:"note,omitempty"`
	Until    *time.Time `json:"until,omitempty"`
}

// EntryEdit says what of an entry is to be changed; nil leaves it.
type EntryEdit struct {
	Keyring string     `json:"-" path:"ring"`
	Entry   string     `json:"-" path:"name"`
	Note    *string    `json:"note,omitempty"`
	Until   *time.Time `json:"until,omitempty"`
	Endless bool       `json:"endless,omitempty"` // it has no end any more
}

// NewEntryPassword asks for another password of an entry; the one before counts for as many
// seconds as Grace.
type NewEntryPassword struct {
	Keyring  string `json:"-" path:"ring"`
	Entry    string `json:"-" path:"name"`
	Password string `json:"password"`
	Grace    int64  `json:"grace,omitempty"`
}

// EntriesImport asks to bring in an htpasswd file.
type EntriesImport struct {
	Keyring string `json:"-" path:"ring"`
	File    string `json:"file"`
	Dry     bool   `json:"dry,omitempty"`
}

// EntriesExport is a keyring as an htpasswd file, and what could not be written.
type EntriesExport struct {
	File string         `json:"file"`
	Left []ImportedLine `json:"left"`
}
