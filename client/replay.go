package client

import (
	"time"

	"ostiarius/core/replay"
)

// Replayed is a draft as it was tried on what was decided in the last days.
type Replayed struct {
	Kept     string         `json:"kept,omitempty"` // for how long that is kept, such as 7d; "" for not at all
	Whole    bool           `json:"whole"`          // all of it was looked at
	Requests int64          `json:"requests"`
	Changed  int64          `json:"changed"` // that would be answered otherwise
	People   int            `json:"people"`  // who sent those
	First    *time.Time     `json:"first,omitempty"`
	Last     *time.Time     `json:"last,omitempty"`
	Groups   []replay.Group `json:"groups"` // by address, those first that most requests were for
	More     int            `json:"more"`   // groups that are not told
}
