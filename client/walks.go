package client

import (
	"encoding/json"
	"time"
)

// What can be asked about walks through the site as somebody else.
var (
	BeginPatrol = Post[NewPatrol, Patrol]("/walks",
		"Begin a patrol as some visitors; over the service's socket only, since a steward may not see all that others may",
		Created, Fails(403, 422))
	BeginWalk = Post[NewWalk, Walk]("/walks/as",
		"Begin a walk through the site as somebody else, in the browser that asks", Created, Fails(403, 422))
	EndWalk    = Delete[ByID, None]("/walks/{id}", "End a walk before its time", Fails(404))
	KeepPatrol = Post[FoundByPatrol, None]("/walks/{id}/made",
		"Keep what a patrol has found that was begun by command, before it ends, and over the service's socket only", MaxBody(16<<20),
		Fails(404, 422))
)

// FoundByPatrol is what a patrol has found, as `ostiarius patrol -o json` prints it.
type FoundByPatrol struct {
	ID     string          `json:"-" path:"id"`
	Result json.RawMessage `json:"-" body:""`
}

// NewPatrol asks for what a patrol sends to be judged as some visitors.
type NewPatrol struct {
	Visitors []string `json:"visitors"` // in the notation for visitors
}

// Patrol is a walk through the site as several visitors.
type Patrol struct {
	ID           string    `json:"id"`
	Cookie       string    `json:"cookie"`       // the name of the cookie that a token is sent in
	SecureCookie string    `json:"secureCookie"` // over HTTPS
	Tokens       []string  `json:"tokens"`       // one for each visitor, in order
	Mark         string    `json:"mark"`         // to stand at the end of User-Agent, so that the patrol isn't counted as visitors
	Until        time.Time `json:"until"`
}

// NewWalk asks for a walk through the site as somebody else, in the browser that asks.
type NewWalk struct {
	As      string `json:"as"`                // in the notation for visitors
	Changes bool   `json:"changes,omitempty"` // requests may change something
}

// Walk is a walk that has begun.
type Walk struct {
	Path  string    `json:"path"` // of the page with the bar
	Until time.Time `json:"until"`
}
