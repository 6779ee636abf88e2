package client

import "time"

// What can be asked about access keys.
var (
	ListAccessKeys = Get[AccessKeysQuery, AccessKeys]("/access-keys", "The access keys, the newest first", AtRest, Fails(404, 422))
	AddAccessKey   = Post[NewAccessKey, MadeAccessKey]("/access-keys",
		"Make an access key for an account; an access key itself can't", Created, Fails(403, 404, 422))
	RemoveAccessKey = Delete[ByHandle, None]("/access-keys/{handle}", "Remove an access key", Fails(404))
)

// AccessKeysQuery says which access keys are meant.
type AccessKeysQuery struct {
	Account string `json:"-" query:"account"`
	Offset  int    `json:"-" query:"offset" most:"1000000000"`
	Limit   int    `json:"-" query:"limit" most:"1000"` // 100 unless given
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
