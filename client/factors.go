package client

import "time"

// What can be asked about what accounts have set up besides a password.
var (
	ShowFactors = Get[ByName, HeldFactors]("/people/{name}/factors",
		"What an account has set up besides its password", AtRest, Fails(404))
	ResetFactors = Post[ByName, FactorReset]("/people/{name}/factors/reset",
		"Remove what an account has set up besides its password, for somebody who has lost it; after a while, if the policy says so",
		Fails(404, 409, 422))
	CancelFactorReset = Delete[ByName, None]("/people/{name}/factors/reset", "Cancel a reset that is still waiting", Fails(404))
)

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
