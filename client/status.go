package client

import (
	"time"

	"ostiarius/core/document"
)

// What can be asked about the service itself.
var (
	ShowStatus  = Get[None, Status]("/status", "The state of the running service")
	Description = Get[None, File]("/openapi.yaml", "This description", Media("application/yaml"))
)

// Status is the state of the running service.
type Status struct {
	Version       string             `json:"version"`
	Site          string             `json:"site"`
	Started       time.Time          `json:"started"`
	URL           string             `json:"url"`               // at which people reach the site
	Console       string             `json:"console,omitempty"` // the origin of the console, if it has one of its own
	Policy        string             `json:"policy"`            // the file
	PolicyVersion int64              `json:"policyVersion"`     // in force
	Doors         int                `json:"doors"`
	Findings      []document.Finding `json:"findings"` // of the newest version of the file, if it was not taken
	Pending       *Pending           `json:"pending,omitempty"`
}

// Pending says that the text of the policy file is not the one in force.
type Pending struct {
	Since time.Time `json:"since"` // when that was first seen
	Why   string    `json:"why"`
	Stuck bool      `json:"stuck"` // it does not come into force by itself in a moment
}
