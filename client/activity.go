package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// What can be asked about what happened.
var (
	ListActivity  = Get[ActivityQuery, []ActivityRecord]("/activity", "What happened, the newest first", AtRest, Fails(422), Paged)
	ShowToday     = Get[None, Today]("/today", "What happened in the last 24 hours, and what needs attention")
	ListUpstreams = Get[None, []Upstream]("/upstreams", "How the servers behind have answered recently")
)

// ActivityRecord is a record of what happened.
type ActivityRecord struct {
	ID        int64     `json:"id"`
	At        time.Time `json:"at"`
	Kind      string    `json:"kind"`
	Account   string    `json:"account,omitempty"`
	Actor     string    `json:"actor,omitempty"`
	Network   string    `json:"network,omitempty"`
	Door      string    `json:"door,omitempty"`
	Place     string    `json:"place,omitempty"`
	Detail    string    `json:"detail,omitempty"`
	Reference string    `json:"reference,omitempty"`
}

// ActivityQuery says which events are meant. Empty fields mean any.
type ActivityQuery struct {
	Kind      string    `json:"-" query:"kind"` // a kind, or how several begin
	Account   string    `json:"-" query:"account"`
	Network   string    `json:"-" query:"network"`
	Door      string    `json:"-" query:"door"`
	Reference string    `json:"-" query:"reference"`
	Search    string    `json:"-" query:"search"`
	Since     time.Time `json:"-" query:"since"`
	Until     time.Time `json:"-" query:"until"`
	After     int64     `json:"-" query:"after"`             // only events with a higher number
	Before    int64     `json:"-" query:"before"`            // only events with a lower number
	Limit     int       `json:"-" query:"limit" most:"1000"` // 100 unless given
}

// Today is what happened in the last 24 hours, and what needs attention.
type Today struct {
	Hours     []Hour           `json:"hours"`  // 24, the present one last
	Doors     []DoorHits       `json:"doors"`  // those that refuse most, or hide from most
	Asking    []DoorHits       `json:"asking"` // those that ask most for a proof, as for signing in
	Refusals  []ActivityRecord `json:"refusals"`
	Sessions  int              `json:"sessions"`
	People    int              `json:"people"`
	Attention []string         `json:"attention"`
	// of the active policy; a door with several paths counts as several, as in the list of doors
	Doorways   int `json:"doorways"`
	Guarantees int `json:"guarantees"` // that hold
}

// Hour is what requests came to in an hour.
type Hour struct {
	At       time.Time        `json:"at"` // its beginning
	Outcomes map[string]int64 `json:"outcomes"`
}

// DoorHits says how many requests a door has turned away, by outcome.
type DoorHits struct {
	Door     string           `json:"door"`
	Outcomes map[string]int64 `json:"outcomes"`
}

// Upstream says how a server behind has been of late.
type Upstream struct {
	Address  string     `json:"address"`
	Answered *time.Time `json:"answered"` // when it last answered
	Failed   *time.Time `json:"failed"`   // when it last failed
	Why      string     `json:"why,omitempty"`
	InARow   int        `json:"inARow"` // failures without an answer between
}

// Activity returns the latest events that a query means, newest first. A search that takes the service long is continued until there
// are q.Limit.
func (c *Client) Activity(ctx context.Context, q ActivityQuery) (events []ActivityRecord, err error) {
	for {
		var some []ActivityRecord
		header, err := c.ask(ctx, ListActivity.Operation, q, &some)
		if err != nil {
			return nil, err
		}
		if events = append(events, some...); q.Limit > 0 && len(events) >= q.Limit {
			return events[:q.Limit], nil
		}
		if q.Before = nextOf(header); q.Before == 0 || q.Limit == 0 && len(events) > 0 {
			return events, nil
		}
	}
}

// nextOf returns before which event the next part of a list is (RFC 8288, section 3); 0 if there is none.
func nextOf(h http.Header) int64 {
	for link := range strings.SplitSeq(h.Get("Link"), ",") {
		target, rest, ok := strings.Cut(strings.TrimPrefix(strings.TrimSpace(link), "<"), ">")
		if !ok || !strings.Contains(rest, `rel="next"`) {
			continue
		}
		if to, err := url.Parse(target); err == nil {
			before, _ := strconv.ParseInt(to.Query().Get("before"), 10, 64)
			return before
		}
	}
	return 0
}
