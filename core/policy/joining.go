package policy

import (
	"time"

	"ostiarius/core/document"
)

// JoiningBy says how people get an account by themselves.
type JoiningBy string

// How people get an account by themselves.
const (
	ByNobody     JoiningBy = "nobody"     // not at all: stewards make the accounts
	ByInvitation JoiningBy = "invitation" // whoever was invited
	ByApproval   JoiningBy = "approval"   // whoever asks and is approved
	ByAnybody    JoiningBy = "anybody"
)

// Joining is how people join, and what they have then.
type Joining struct {
	By JoiningBy
	// Unproven says that an account counts before its owner has shown to read the mail of its address; the address
	// counts only after that in any case.
	Unproven bool
	Grants   []JoinGrant
	Terms    string        // the page with the terms of use that one agrees to; "" for none
	Leave    time.Duration // after which an account is deleted whose owner wants that
	// NeverLeave says that only stewards delete accounts.
	NeverLeave bool
	// NamesRest is how long the name of an account that was removed or renamed is given to nobody else: it may be named in the policy, in
	// what happened, and at upstream servers.
	NamesRest time.Duration
	Privacy   string // the page with the notice of what becomes of one's data; "" for none
	document.Position
}

// Asks reports whether somebody who joins agrees to something.
func (j *Joining) Asks() bool { return j.Terms != "" || j.Privacy != "" }

// A JoinGrant is a role that people have who join.
type JoinGrant struct {
	Role string
	For  time.Duration // 0 for no end
}

// Until returns when the role ends for somebody who joins now; zero for never.
func (g JoinGrant) Until(now time.Time) time.Time {
	if g.For == 0 {
		return time.Time{}
	}
	return now.Add(g.For)
}
