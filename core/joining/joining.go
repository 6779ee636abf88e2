// Package joining holds the rules of how people get an account by themselves: what they bring, where it stands, and how
// robots give themselves away.
package joining

import (
	"time"

	"ostiarius/core/words"
)

// A State is where an application stands.
type State string

// The states of an application. One that is admitted is an account, and no application any more.
const (
	Unproven State = "unproven" // its address is to be proven
	Waiting  State = "waiting"  // for a steward who approves it
	Declined State = "declined" // its owner is told so, until it is forgotten
)

// An Application is what somebody brings who wants an account, until there is one.
type Application struct {
	ID       int64
	Name     string // as it was written
	Email    string
	Language words.Language
	Network  string // from where
	Next     string // the page on this site that they asked for; "" for none
	State    State
	MadeAt   time.Time
	AgreedAt time.Time // to the terms; zero where there are none
	ProvenAt time.Time // the address; zero for not yet
	Until    time.Time // when it is forgotten
}

// How long an application is kept in each state.
var Lasts = map[State]time.Duration{Unproven: 3 * 24 * time.Hour, Waiting: 90 * 24 * time.Hour, Declined: 30 * 24 * time.Hour}

// In returns the application in another state.
func (a Application) In(state State, now time.Time) Application {
	a.State, a.Until = state, now.Add(Lasts[state])
	return a
}

// An Invitation lets somebody join who brings its link, once.
type Invitation struct {
	ID     int64
	Email  string
	Roles  []string
	Ends   time.Time // when the roles end; zero for never
	MadeAt time.Time
	MadeBy string
	Until  time.Time // when it ends itself
	Mailed bool      // its link was sent to the address and shown to nobody
}

// MostUnproven is how many applications with one address may wait for its proof. A later one takes the place of the oldest.
const MostUnproven = 3

// InvitationLasts is how long an invitation lasts unless something else is said.
const InvitationLasts = 14 * 24 * time.Hour

// A form that was open for a shorter time than Shortest was not filled in by a person; one that was open for longer than
// Longest is to be loaded again.
const (
	Shortest = 3 * time.Second
	Longest  = 12 * time.Hour
)
