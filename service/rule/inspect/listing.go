package inspect

import (
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"
	"unicode/utf8"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// unanswered finds doors that people are sent to with a password or a pass, at whose address nothing answers: a directory without an
// index.html, in a source that doesn't list its files.
func unanswered(book *policy.Book, policyFile string) (findings []document.Finding) {
	for i := range book.Doors {
		d := &book.Doors[i]
		if len(d.Shared())+len(d.Passes())+len(d.Keyrings()) == 0 || leadsElsewhere(book, d) {
			continue
		}
		at, below := strings.CutSuffix(d.Path.String(), "/**")
		if at == "" || !below || strings.Contains(at, "*") {
			continue
		}
		s := book.SourceOf(place.Place{Host: d.Host.String(), Path: at})
		if s == nil || s.Files == "" || s.Listing || s.Fallback != "" {
			continue
		}
		root, err := os.OpenRoot(Directory(*s, policyFile))
		if err != nil {
			continue // which is told
		}
		name := strings.Trim(strings.TrimPrefix(at, s.Path), "/")
		_, page := fs.Stat(root.FS(), path.Join(name, "index.html"))
		root.Close()
		if page == nil {
			continue
		}
		findings = append(findings, document.Finding{
			Severity: document.SeverityWarning, Rule: "nothing-answers", File: policyFile, Line: d.Line, Column: d.Column,
			Length: utf8.RuneCountInString(d.Written),
			Message: fmt.Sprintf("people open %s with a password or pass, and nothing answers at %s/: there is no index.html. "+
				"Add one, or write listing: true for the source. Until then, links lead to the first file there", d.Path, at),
		})
	}
	return findings
}

// leadsElsewhere reports whether all passes that a door takes say themselves where they lead.
func leadsElsewhere(book *policy.Book, d *policy.Door) bool {
	if len(d.Shared())+len(d.Keyrings()) > 0 {
		return false
	}
	for _, name := range d.Passes() {
		if kind := policy.PassNamed(book, name); kind == nil || kind.Go == "" {
			return false
		}
	}
	return true
}

// listedToAll finds directories whose files are listed to everybody.
func listedToAll(book *policy.Book, policyFile string) (findings []document.Finding) {
	for i := range book.Sources {
		s := &book.Sources[i]
		if !s.Listing {
			continue
		}
		root, err := os.OpenRoot(Directory(*s, policyFile))
		if err != nil {
			continue // which is told
		}
		var open []string
		looked := 0
		fs.WalkDir(root.FS(), ".", func(name string, entry fs.DirEntry, err error) error {
			if looked++; looked > maxChecked {
				return fs.SkipAll
			}
			if err != nil || !entry.IsDir() {
				return nil
			}
			if name != "." && strings.HasPrefix(entry.Name(), ".") {
				return fs.SkipDir
			}
			if _, err := fs.Stat(root.FS(), path.Join(name, "index.html")); err == nil {
				return nil
			}
			p := place.Place{Method: "GET", Host: s.Host.String(), Path: path.Join(s.Path, name), Slash: true}
			if book.Decide(policy.RequestFor(p), &policy.Visitor{}).Outcome == policy.Admit {
				open = append(open, p.Address())
			}
			return nil
		})
		root.Close()
		if len(open) == 0 {
			continue
		}
		more := ""
		if n := len(open) - 4; n > 0 {
			more = fmt.Sprintf(" and %d more", n)
		}
		findings = append(findings, document.Finding{
			Severity: document.SeverityWarning, Rule: "listed-to-all", File: policyFile, Line: s.Line, Column: s.Column, Length: len(s.Files),
			Message: "everybody sees a list of the files in " + strings.Join(open[:min(4, len(open))], ", ") + more +
				", since the source has listing: true and they have no index.html",
		})
	}
	return findings
}
