package client

import (
	"ostiarius/core/policy"
	"ostiarius/core/prove"
)

// What can be asked about who gets what.
var (
	ShowMatrix = Post[MatrixQuery, Matrix]("/matrix",
		"What every kind of visitor gets, by region, for each file of the sources, or at some addresses",
		Harmless, MaxBody(maxMatrixBody), Fails(422))
	ShowMarks = Post[MarksQuery, Marks]("/matrix/marks",
		"A part of the matrix, with a letter for each cell", Harmless, MaxBody(maxMatrixBody), Fails(422))
)

const maxMatrixBody = 16 << 20

// MatrixQuery asks for a matrix of the policy in force: its regions, or the files of its
// sources, or some addresses.
type MatrixQuery struct {
	Files     bool      `json:"files,omitempty"`
	Addresses []Address `json:"addresses,omitempty"`
	As        []string  `json:"as,omitempty"` // visitors beside the usual ones
}

// Address is a request that a matrix is asked about.
type Address struct {
	Method string `json:"method"`
	Host   string `json:"host,omitempty"`
	Path   string `json:"path"` // as it would be sent
}

// Matrix says who gets what.
type Matrix struct {
	prove.Matrix
	Site string `json:"site"`
	More bool   `json:"more,omitempty"` // there are more files than are shown
}

// MarksQuery asks for a part of a matrix of the policy in force: of its regions, or of the files of its sources.
type MarksQuery struct {
	Files bool     `json:"files,omitempty"`
	As    []string `json:"as,omitempty"`   // visitors beside the usual ones
	From  int      `json:"from,omitempty"` // the first row, counted from 0
	Limit int      `json:"limit,omitempty"`
}

// Marks is a part of a matrix.
type Marks struct {
	Visitors []string    `json:"visitors"`
	Rows     []MarkedRow `json:"rows"`
	Total    int         `json:"total"`          // of all rows
	More     bool        `json:"more,omitempty"` // there are more files than are counted
}

// MarkedRow is a row of a matrix with a letter for each visitor: a for admit, c challenge, r refuse, h hide, x reject.
type MarkedRow struct {
	Kind   string           `json:"kind" enum:"region|address"`
	Label  string           `json:"label"`
	Method string           `json:"method"`
	Host   string           `json:"host"`
	Path   string           `json:"path"`
	Doors  []policy.DoorRef `json:"doors"`
	Marks  string           `json:"marks"`
}
