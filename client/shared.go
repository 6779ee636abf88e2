package client

import (
	"time"
)

// What can be asked about shared passwords.
var (
	ListShared = Get[None, []SharedPassword]("/shared", "All shared passwords", AtRest)
	SetShared  = Put[NewShared, None]("/shared/{name}/password",
		"Set another password; those before may count for a while", Fails(404, 422))
	EndShared     = Delete[ByName, None]("/shared/{name}/password", "End its passwords, and what was unlocked with them", Fails(404))
	ListUnlocks   = Get[ByName, Unlocks]("/shared/{name}/unlocks", "In which browsers it is unlocked", AtRest)
	EndUnlocks    = Delete[ByName, None]("/shared/{name}/unlocks", "End all its unlocks")
	EndUnlock     = Delete[ByHandle, None]("/unlocks/{handle}", "End an unlock", Fails(404))
	ListTold      = Get[ByName, Tellings]("/shared/{name}/told", "Who was told it", AtRest)
	SendShared    = Post[TellShared, ToldShared]("/shared/{name}/send", "Mail it to people", MaxBody(2<<20), Fails(404, 422))
	PreviewShared = Post[TellShared, ToldShared]("/shared/{name}/preview",
		"Who would be mailed what", Harmless, MaxBody(2<<20), Fails(404, 422))
)

// SharedPassword is one password that opens doors for all who have it, as the policy declares it. It never has the
// password or its hash.
type SharedPassword struct {
	Name      string        `json:"name"`
	Title     string        `json:"title"`
	Lasts     string        `json:"lasts"`          // how long an unlock lasts: "7d", "forever", or "0" until the browser is closed
	Place     string        `json:"place"`          // the first place that it opens
	Gone      bool          `json:"gone,omitempty"` // the policy has it no more
	Passwords []SharedValid `json:"passwords"`      // that count now, the newest first; none if it was never set
	Unlocks   int           `json:"unlocks"`        // in so many browsers
}

// SharedValid is that a password counts.
type SharedValid struct {
	MadeAt time.Time  `json:"madeAt"`
	MadeBy string     `json:"madeBy"`
	Until  *time.Time `json:"until"` // none for no end
	UsedAt *time.Time `json:"usedAt"`
}

// NewShared gives a shared password another password.
type NewShared struct {
	Name     string `json:"-" path:"name"`
	Password string `json:"password"`
	Grace    int64  `json:"grace,omitempty"` // seconds for which those before count too
	// EndUnlocks ends what was unlocked with those before; else it goes on.
	EndUnlocks bool `json:"endUnlocks,omitempty"`
}

// Unlock is that a shared password was typed in a browser.
type Unlock struct {
	Handle  string     `json:"handle"`
	Name    string     `json:"name"`
	MadeAt  time.Time  `json:"madeAt"`
	Until   *time.Time `json:"until"`
	Network string     `json:"network"`
	Agent   string     `json:"agent"`
	Account string     `json:"account,omitempty"` // of who was signed in there
}

// Unlocks are unlocks, the newest first.
type Unlocks struct {
	Unlocks []Unlock `json:"unlocks"`
	Total   int      `json:"total"`
}

// TellShared asks for people to be mailed the address and the password of a shared password.
type TellShared struct {
	Name     string `json:"-" path:"name"`
	To       string `json:"to,omitempty"`   // addresses as people type or paste them, or CSV
	Role     string `json:"role,omitempty"` // and those of whoever has this role
	Password string `json:"password"`
	Text     string `json:"text,omitempty"` // in words of one's own; gaps are {title}, {site}, {name}, {place}, {url}
	Language string `json:"language,omitempty"`
}

// ToldShared is what became of that, or would.
type ToldShared struct {
	Recipients []Recipient `json:"recipients"`
	Letter     *Letter     `json:"letter,omitempty"` // what the first of them reads, without the password
}

// Recipient is an address to which something is sent.
type Recipient struct {
	Line    int    `json:"line"` // of the list; 0 if it was not in it
	Address string `json:"address"`
	Name    string `json:"name,omitempty"`
	Wrong   string `json:"wrong,omitempty"` // why nothing can be sent there
}

// Telling is that somebody was told a shared password.
type Telling struct {
	Address string    `json:"address"`
	At      time.Time `json:"at"`
	Actor   string    `json:"actor"`
}

// Tellings are who was told, the latest first.
type Tellings struct {
	Tellings []Telling `json:"tellings"`
	Total    int       `json:"total"`
}
