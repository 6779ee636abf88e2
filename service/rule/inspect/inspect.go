// Package inspect finds what can be found of a policy beyond its text, on this machine and without
// a running service: the files of its sources, and what of the service a source would give away.
package inspect

import (
	"fmt"
	"unicode/utf8"

	"ostiarius/core/document"
	"ostiarius/core/policy"
	"ostiarius/core/prove"
)

// Check returns what is wrong with a Book on this machine, in this version of the
// service: what can be proven about it, directories that are not there, files that no door
// covers, and sources that give away what is the service's own.
func Check(book *policy.Book, file string, own Own) []document.Finding {
	findings := append(prove.Check(book, file), checkSources(book, file, own)...)
	findings = append(findings, routes(book, file)...)
	for i := range book.Doors {
		d := &book.Doors[i]
		if i > 0 && book.Doors[i-1].Entry == d.Entry {
			continue // said once for an entry
		}
		warn := func(rule, message string, args ...any) {
			findings = append(findings, document.Finding{
				Severity: document.SeverityWarning, Rule: rule, File: file, Line: d.Line, Column: d.Column, Length: utf8.RuneCountInString(d.Written),
				Message: fmt.Sprintf(message, args...),
			})
		}
		if n := len(d.Keyrings()); n > policy.MostKeyrings {
			warn("many-keyrings", "the door names %d keyrings; credentials are compared with the first %d, and by the others it stays closed",
				n, policy.MostKeyrings)
		}
		if n := len(d.Shared()); n > policy.MostShared {
			warn("many-shared", "the door names %d shared passwords; what is typed is compared with the first %d, and the others open it only "+
				"if they were given elsewhere", n, policy.MostShared)
		}
	}
	document.SortFindings(findings)
	return findings
}
