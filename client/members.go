package client

import (
	"time"
)

// What can be asked about members.
var (
	ListMembers = Get[MemberQuery, Members]("/members", "Who has a role, since when and until when", AtRest, Fails(422))
	MemberWeeks = Get[WeeksQuery, []MembersWeek]("/members/weeks",
		"How many had each role at the end of each of the last weeks", AtRest, Fails(422))
)

// WeeksQuery says of how many weeks.
type WeeksQuery struct {
	Weeks int `json:"-" query:"weeks" most:"260"` // 26 unless given
}

// Member is somebody who has a role.
type Member struct {
	Account  string     `json:"account"`
	Email    string     `json:"email,omitempty"`
	Role     string     `json:"role"`
	Since    time.Time  `json:"since"`
	Until    *time.Time `json:"until,omitempty"`
	By       string     `json:"by"`              // who or what gave the role
	Order    string     `json:"order,omitempty"` // the latest for which it was given
	Joined   string     `json:"joined"`          // how the account was made
	Disabled bool       `json:"disabled,omitempty"`
}

// Members are members, and how many there are in all.
type Members struct {
	Members []Member `json:"members"`
	Total   int      `json:"total"` // of a search at most 5000
}

// MembersWeek is how many had each role at the end of a week.
type MembersWeek struct {
	Begins time.Time      `json:"begins"`
	Counts map[string]int `json:"counts"`
}

// MemberQuery says which members are meant.
type MemberQuery struct {
	Role   string        `json:"-" query:"role"`
	Ending time.Duration `json:"-" query:"ending"` // only roles that end within so many seconds
	Search string        `json:"-" query:"search"` // how the name or the address begins
	Past   bool          `json:"-" query:"past"`   // only roles that have ended
	Sort   string        `json:"-" query:"sort" enum:"since|until"`
	Offset int           `json:"-" query:"offset" most:"1000000000"`
	Limit  int           `json:"-" query:"limit" most:"1000"` // 100 unless given
}
