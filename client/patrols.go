package client

import "time"

// What can be asked about patrols.
var (
	ListPatrols = Get[None, Patrols]("/patrols", "The patrols that the service has made, the newest first")
	StartPatrol = Post[None, None]("/patrols", "Start a patrol, which goes on by itself", Fails(409, 422))
	StopPatrol  = Delete[None, None]("/patrols/running", "End the running patrol; what it has found until then counts", Fails(404))
	ShowPatrol  = Get[ByNumber, PatrolResult]("/patrols/{id}", "A patrol with all that it has found", Fails(404))
	Accept      = Post[AcceptFinding, None]("/patrols/{id}/accepted",
		"Accept a finding, with a reason; it isn't reported any more", Fails(404, 422))
	Reject = Post[RejectFinding, None]("/patrols/rejected", "Report a finding again that was accepted", Fails(404))
)

// Patrols are the walks through the running site that the service has made.
type Patrols struct {
	Every   string         `json:"every,omitempty"` // by timetable, such as 24h; "" for not
	Running *PatrolRunning `json:"running,omitempty"`
	Patrols []PatrolMade   `json:"patrols"` // the newest first
}

// PatrolRunning is a patrol under way.
type PatrolRunning struct {
	Began time.Time `json:"began"`
	By    string    `json:"by,omitempty"` // "" for the timetable
	Done  int       `json:"done"`         // addresses
	Known int       `json:"known"`
}

// PatrolMade is a patrol that has ended.
type PatrolMade struct {
	ID      int64     `json:"id"`
	Began   time.Time `json:"began"`
	Ended   time.Time `json:"ended"`
	By      string    `json:"by,omitempty"`      // "" for the timetable
	Problem string    `json:"problem,omitempty"` // why it could not be made
	Visited int       `json:"visited"`
	Found   int       `json:"found"`
	Fresh   int       `json:"fresh"` // that the one before has not told
}

// PatrolResult is a patrol with all that it has found.
type PatrolResult struct {
	PatrolMade
	Visitors []string        `json:"visitors"`
	Requests int             `json:"requests"`
	Findings []PatrolFinding `json:"findings"`
	LeftOut  []PatrolLeft    `json:"leftOut"`
}

// PatrolFinding is something that does not hold on the site.
type PatrolFinding struct {
	Key      string          `json:"key"` // names it, also in later patrols
	Rule     string          `json:"rule"`
	About    string          `json:"about"` // what the rule finds
	Severity string          `json:"severity"`
	Path     string          `json:"path"`
	Message  string          `json:"message"`
	As       string          `json:"as"`
	Door     string          `json:"door,omitempty"` // what the policy says there
	Requests []PatrolRequest `json:"requests"`
	Accepted *PatrolAccepted `json:"accepted,omitempty"`
}

// PatrolRequest is a request that shows a finding, with its answer. What not everybody gets is left away.
type PatrolRequest struct {
	As       string `json:"as"`
	Method   string `json:"method"`
	URL      string `json:"url"`
	With     string `json:"with,omitempty"`
	Status   int    `json:"status"`
	Location string `json:"location,omitempty"`
	Fields   string `json:"fields,omitempty"`
	Begins   string `json:"begins,omitempty"`
}

// PatrolAccepted is that somebody lives with a finding.
type PatrolAccepted struct {
	Reason string     `json:"reason"`
	By     string     `json:"by"`
	At     time.Time  `json:"at"`
	Until  *time.Time `json:"until,omitempty"`
}

// PatrolLeft is what was not walked.
type PatrolLeft struct {
	Path   string `json:"path"`
	Reason string `json:"reason"`
}

// AcceptFinding asks that a finding is told no more.
type AcceptFinding struct {
	Patrol int64      `json:"-" path:"id"`
	Key    string     `json:"key"`
	Reason string     `json:"reason"`
	Until  *time.Time `json:"until,omitempty"` // nil for no end
}

// RejectFinding asks that it is told again.
type RejectFinding struct {
	Key string `json:"key"`
}
