package client

// What can be asked about the looks of pages.
var (
	ShowLooks = Get[Colours, Looks]("/looks",
		"How pages look, with other colours if some are given, and which of them can't be read", Fails(422))
	SamplePage = Get[SampleOf, File]("/looks/pages/{page}",
		"A page with sample data, and with other colours if some are given", Media("text/html"), Fails(404, 422))
)

// Colours are tried in the place of the active ones, as #rrggbb.
type Colours struct {
	Accent     string `json:"-" query:"accent"`
	Paper      string `json:"-" query:"paper"`
	Ink        string `json:"-" query:"ink"`
	DarkAccent string `json:"-" query:"dark-accent"`
	DarkPaper  string `json:"-" query:"dark-paper"`
	DarkInk    string `json:"-" query:"dark-ink"`
	Scheme     string `json:"-" query:"scheme" enum:"light|dark"`
	Language   string `json:"-" query:"language" enum:"en|de"`
}

// SampleOf says how a page is to be shown.
type SampleOf struct {
	Page string `json:"-" path:"page"`
	Colours
}

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
	Scheme string  `json:"scheme" enum:"light|dark"`
	What   string  `json:"what"`
	Ratio  float64 `json:"ratio"` // text needs 4.5
}
