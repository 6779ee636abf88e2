package client

import (
	"ostiarius/core/document"
	"ostiarius/core/prove"
)

// Problem is an error of the API (RFC 9457).
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	// what is the matter, for programs; "proof-needed": the password must be typed again first
	Code      string             `json:"code,omitempty"`
	Wait      int                `json:"wait,omitempty"`      // seconds before it makes sense to try again
	Reference string             `json:"reference,omitempty"` // the number under which a refusal can be found
	Findings  []document.Finding `json:"findings,omitempty"`  // of a policy that was not taken
	Opened    []prove.Difference `json:"opened,omitempty"`    // by a policy that was to open nothing
}

func (p *Problem) Error() string { return p.Detail }
