package read

import (
	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/pattern"
)

// How often the site may be walked through by timetable: in hours or days.
const patrolPattern = `^(?:[1-9][0-9]{0,3}h|[1-9][0-9]{0,3}d)$`

var patrolEvery = pattern.New(patrolPattern)

// patrol reads how often the site is walked through.
func (p *reader) patrol(n ast.Node) {
	before := len(p.Findings)
	has := false
	for _, f := range p.Fields(n, "patrol", []string{"every"}) {
		has = true
		if text, ok := p.Text(f.Value, f.Name); ok && !patrolEvery.MatchString(text) {
			p.At(f.Value, "bad-value", "a scheduled patrol needs an interval in hours or days, such as 24h or 7d")
		} else if every, ok := p.Duration(f.Value, f.Name); ok {
			p.Book.Patrol = every
		}
	}
	if !has && len(p.Findings) == before && document.IsMapping(n) {
		p.At(n, "missing-key", "patrol needs an interval: { every: 24h }")
	}
}
