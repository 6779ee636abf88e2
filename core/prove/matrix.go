package prove

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// A Matrix says what each of some visitors gets at each of some places.
type Matrix struct {
	Visitors []string `json:"visitors"` // in the notation for visitors
	Rows     []Row    `json:"rows"`
}

// A Row is one place, or a region of places at which the same doors decide, so that each
// visitor gets the same at all of them.
type Row struct {
	Kind    string           `json:"kind" enum:"region|address"`
	Label   string           `json:"label"` // the region in the policy's words, or the address
	Method  string           `json:"method"`
	Host    string           `json:"host"`
	Path    string           `json:"path"` // of a region: its shortest place
	Doors   []policy.DoorRef `json:"doors"`
	Cells   []Cell           `json:"cells"`             // one for each visitor
	Problem string           `json:"problem,omitempty"` // of an address that cannot be read
}

// A Cell is what one visitor gets at one place.
type Cell struct {
	Outcome policy.Outcome `json:"outcome"`
	Detail  string         `json:"detail"` // the outcome with what is asked for, or said instead
}

// Kinds returns the visitors that a matrix shows unless told otherwise: somebody
// anonymous, somebody signed in, and each role.
func Kinds(b *policy.Book) []policy.Visitor {
	all := []policy.Visitor{{}, {SignedIn: true}}
	for _, role := range b.RoleNames() {
		all = append(all, policy.Visitor{SignedIn: true, Roles: []string{role}})
	}
	return all
}

// Regions returns a Row for each group of doors that decides anywhere, and one for places
// that no door covers: together they are all places but Ostiarius's own. They stand in
// the order of the file; where doors cross, the region follows the last of them.
func (g *Ground) Regions(visitors []policy.Visitor) Matrix {
	m, _ := g.SomeRegions(visitors, 0, math.MaxInt)
	return m
}

// SomeRegions is Regions without the first of them, and with no more than a number; and how many there are in all.
func (g *Ground) SomeRegions(visitors []policy.Visitor, from, most int) (m Matrix, all int) {
	m = newMatrix(visitors)
	g.once.Do(g.divide)
	from = min(max(from, 0), len(g.regions))
	for _, r := range g.regions[from : from+min(most, len(g.regions)-from)] {
		row := decideRow(g.book, r.example, visitors)
		row.Kind, row.Label = "region", r.label
		m.Rows = append(m.Rows, row)
	}
	return m, len(g.regions)
}

// A region is where the same doors decide.
type region struct {
	order   []int32
	example place.Place
	label   string
}

// divide finds the regions.
func (g *Ground) divide() {
	known := map[string]bool{}
	for _, part := range g.parts {
		covering := g.covering(part)
		narrowest := g.matcher.Narrowest(covering)
		checks := g.checksAt(part)
		if key := fmt.Sprint(narrowest, checks); known[key] {
			continue
		} else {
			known[key] = true
		}
		order := slices.Clone(narrowest)
		slices.SortFunc(order, func(a, b int32) int { return int(b - a) })
		if len(order) == 0 {
			order = []int32{int32(g.doors)}
		}
		deciding := g.deciding(covering)
		for _, id := range checks {
			deciding = append(deciding, &g.book.Checks[int(id)-g.checks])
		}
		g.regions = append(g.regions, region{order, part.Example, label(deciding)})
	}
	slices.SortStableFunc(g.regions, func(a, b region) int { return slices.Compare(a.order, b.order) })
}

// At returns a Row for each of the requests.
func At(b *policy.Book, requests []policy.Request, visitors []policy.Visitor) Matrix {
	m := newMatrix(visitors)
	for _, r := range requests {
		p, err := place.Read(r.Method, r.Host, r.Path, b.Rules)
		if err != nil {
			row := Row{
				Kind: "address", Label: r.Host + r.Path, Method: r.Method, Host: r.Host, Path: r.Path, Doors: []policy.DoorRef{}, Problem: err.Error(),
			}
			for range visitors {
				row.Cells = append(row.Cells, Cell{policy.Reject, string(policy.Reject)})
			}
			m.Rows = append(m.Rows, row)
			continue
		}
		row := decideRow(b, p, visitors)
		row.Kind, row.Label = "address", p.Host+p.Address()
		m.Rows = append(m.Rows, row)
	}
	return m
}

func newMatrix(visitors []policy.Visitor) Matrix {
	m := Matrix{Visitors: []string{}, Rows: []Row{}}
	for _, v := range visitors {
		m.Visitors = append(m.Visitors, v.String())
	}
	return m
}

func decideRow(b *policy.Book, p place.Place, visitors []policy.Visitor) Row {
	request := policy.RequestFor(p)
	row := Row{Method: p.Method, Host: p.Host, Path: request.Path, Doors: refer(b.Deciding(p)), Cells: []Cell{}}
	for i := range visitors {
		d := b.Decide(request, &visitors[i])
		row.Cells = append(row.Cells, Cell{d.Outcome, shown(d)})
	}
	return row
}

// label names the places of some doors in the policy's words.
func label(doors []*policy.Door) string {
	var names []string
	for _, d := range doors {
		names = append(names, d.Label())
	}
	return strings.Join(names, " and ")
}
