package client

import "time"

// What can be asked about sessions.
var (
	ListSessions = Get[SessionsQuery, Sessions]("/sessions",
		"The current sessions, the last used first; of very many, the total counts up to 5000", AtRest, Fails(404, 422))
	EndSession     = Delete[ByHandle, None]("/sessions/{handle}", "End a session", Fails(404))
	EndAllSessions = Delete[None, Ended]("/sessions", "Sign everybody out")
)

// SessionsQuery says which sessions are meant.
type SessionsQuery struct {
	Account string `json:"-" query:"account"`
	Search  string `json:"-" query:"search"`
	Offset  int    `json:"-" query:"offset" most:"1000000000"`
	Limit   int    `json:"-" query:"limit" most:"1000"` // 100 unless given
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
