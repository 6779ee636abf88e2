package client

import "context"

// Looks are how the pages that people meet look, and what of it cannot be read.
type Looks struct {
	Pages  []string        `json:"pages"` // that can be looked at
	Light  Palette         `json:"light"`
	Dark   Palette         `json:"dark"`
	Faults []ContrastFault `json:"faults,omitempty"`
}

// Palette is the colours of pages, as #rrggbb.
type Palette struct {
	Accent string `json:"accent"`
	Paper  string `json:"paper"`
	Ink    string `json:"ink"`
}

// ContrastFault is a pair of colours that can hardly be told apart.
type ContrastFault struct {
	Scheme string  `json:"scheme"` // light or dark
	What   string  `json:"what"`
	Ratio  float64 `json:"ratio"` // text needs 4.5
}

// Looks returns the looks in force.
func (c *Client) Looks(ctx context.Context) (l Looks, err error) {
	return l, c.do(ctx, "GET", "/looks", nil, &l)
}
