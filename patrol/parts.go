package patrol

import (
	"context"
	"fmt"
	"slices"

	"ostiarius/core/document"
)

// parts finds pages that load what those who see them may not have, and links to where they are turned away.
func (w *walk) parts(ctx context.Context) {
	type seen struct {
		f     Finding
		pages map[string]bool // others that have it
	}
	links := map[string]*seen{}
	var order []string
	w.each(func(a *address) {
		for _, visitor := range w.byNeed() {
			got := a.answers[visitor]
			if got == nil || got.page == nil || !got.page.html || got.status != 200 {
				continue
			}
			base := a.url
			if b := resolve(a.url, got.page.base); got.page.base != "" && b != nil {
				base = b
			}
			for _, l := range got.page.links {
				if l.way != link && l.way != part || l.sometimes {
					continue
				}
				u := resolve(base, l.text)
				if u == nil {
					continue
				}
				to := w.at(u.String())
				if to == nil || to.answers == nil || to.answers[visitor] == nil {
					continue
				}
				there := to.answers[visitor]
				state := w.state(there)
				who := w.o.Visitors[visitor].Who
				if l.way == part && (state == asks || state == refused || state == missing && w.somebodyGets(to)) {
					w.tell(Finding{Rule: "mixed", Severity: document.SeverityWarning, Path: a.path(), As: who, Door: w.says(to),
						Message:  fmt.Sprintf("the page loads %s, which who sees the page may not have (%d)", u.EscapedPath(), there.status),
						Requests: []Shown{w.shown(got), w.shown(there)}})
					continue
				}
				if state != refused && state != missing {
					continue
				}
				key := to.key
				if links[key] != nil {
					if path := a.path(); path != links[key].f.Path {
						links[key].pages[path] = true
					}
					continue
				}
				message := fmt.Sprintf("it links to %s, where who sees the page is turned away (%d)", u.EscapedPath(), there.status)
				if state == missing && !w.somebodyGets(to) {
					message = fmt.Sprintf("it names %s, where nothing is (%d)", u.EscapedPath(), there.status)
				}
				links[key] = &seen{
					pages: map[string]bool{},
					f: Finding{
						Rule: "broken-link", Severity: document.SeverityWarning, Path: a.path(), As: who, Door: w.says(to), Message: message,
						Requests: []Shown{w.shown(got), w.shown(there)},
					},
				}
				order = append(order, key)
			}
		}
	})
	byPage := map[string]int{}
	for _, key := range order {
		s := links[key]
		switch n := len(s.pages); {
		case n == 1:
			s.f.Message += "; so does another page"
		case n > 1:
			s.f.Message += fmt.Sprintf("; so do %d other pages", n)
		}
		if i, ok := byPage[s.f.Path]; ok { // one finding for a page, with all of its links
			if before := &w.found[i]; len(before.Message) < 400 {
				before.Message += "; " + s.f.Message
			}
			continue
		}
		byPage[s.f.Path] = len(w.found)
		w.tell(s.f)
	}
}

func (w *walk) somebodyGets(a *address) bool {
	return slices.ContainsFunc(a.answers, func(got *answered) bool { return got != nil && w.state(got) == open })
}

// byNeed returns the visitors, the stranger first.
func (w *walk) byNeed() []int {
	all := []int{w.stranger}
	for i := range w.o.Visitors {
		if i != w.stranger {
			all = append(all, i)
		}
	}
	return all
}
