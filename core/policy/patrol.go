package policy

import (
	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/pattern"
)

// How often the site may be walked through by timetable: in hours or days.
const patrolPattern = `^(?:[1-9][0-9]{0,3}h|[1-9][0-9]{0,3}d)$`

var patrolEvery = pattern.New(patrolPattern)

// patrol reads how often the site is walked through.
func (p *reader) patrol(n ast.Node) {
	before := len(p.findings)
	has := false
	for _, f := range p.fields(n, "patrol", []string{"every"}) {
		has = true
		if text, ok := p.text(f.value, f.name); ok && !patrolEvery.MatchString(text) {
			p.at(f.value, "bad-value", "a patrol by timetable is every so many hours or days; write one like 24h or 7d")
		} else if every, ok := p.duration(f.value, f.name); ok {
			p.book.Patrol = every
		}
	}
	if !has && len(p.findings) == before && isMapping(n) {
		p.at(n, "missing-key", "patrol says how often: { every: 24h }")
	}
}
