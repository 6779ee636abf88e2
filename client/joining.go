package client

import (
	"time"
)

// What can be asked about who joins.
var (
	ListJoining        = Get[None, Joining]("/joining", "Who wants to join, and who is invited", AtRest)
	ApproveApplication = Post[ByName, None]("/joining/applications/{name}/approve",
		"Let somebody in who asked to join", Fails(404, 409, 422))
	DeclineApplication = Post[Declining, None]("/joining/applications/{name}/decline", "Don't let them in, and tell them so",
		Fails(404, 409, 422))
	Invite = Post[NewInvitation, Invited]("/joining/invitations",
		"Invite somebody; an invitation from before is replaced", Created, Fails(409, 422))
	RevokeInvitation = Delete[ByEmail, None]("/joining/invitations/{email}", "End the invitation to an address", Fails(404, 422))
)

// ByEmail names an invitation by its address.
type ByEmail struct {
	Email string `json:"-" path:"email"`
}

// Joining is who wants to join and is not in, and who is invited; the oldest first.
type Joining struct {
	// nobody, invitation, approval or anybody, as the policy says
	By           string        `json:"by" enum:"nobody|invitation|approval|anybody"`
	Applications []Application `json:"applications"`
	Invitations  []Invitation  `json:"invitations"`
}

// Application is somebody who wants to join.
type Application struct {
	Name   string    `json:"name"`
	Email  string    `json:"email"`
	State  string    `json:"state" enum:"unproven|waiting|declined"` // unproven: the address is to be proven; waiting: for a steward; declined
	MadeAt time.Time `json:"madeAt"`
	Until  time.Time `json:"until"` // when it is forgotten
}

// Invitation lets somebody join, once.
type Invitation struct {
	Email  string     `json:"email"`
	Roles  []string   `json:"roles"`
	Ends   *time.Time `json:"ends,omitempty"` // when the roles end
	MadeAt time.Time  `json:"madeAt"`
	MadeBy string     `json:"madeBy"`
	Until  time.Time  `json:"until"` // when it ends itself
}

// NewInvitation asks for an invitation.
type NewInvitation struct {
	Email    string     `json:"email"`
	Roles    []string   `json:"roles,omitempty"`
	Ends     *time.Time `json:"ends,omitempty"`                  // when the roles end
	Lasts    int64      `json:"lasts,omitempty"`                 // how long it lasts itself, in seconds; 14 days if it is left away
	Language string     `json:"language,omitempty" enum:"en|de"` // of the mail
	Mail     bool       `json:"mail,omitempty"`                  // send it; else its link is answered, once
}

// Invited is an invitation that was made; Path is its link, below the address of the site, unless it was sent.
type Invited struct {
	Path  string    `json:"path,omitempty"`
	Until time.Time `json:"until"`
}

// Declining says why somebody is not let in.
type Declining struct {
	Account string `json:"-" path:"name"`
	Text    string `json:"text,omitempty"`
}
