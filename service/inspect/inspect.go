// Package inspect finds what can be found of a policy beyond its text, on this machine and without
// a running service: the files of its sources, and what of the service a source would give away.
package inspect

import (
	"fmt"
	"unicode/utf8"

	"ostiarius/core/policy"
	"ostiarius/core/prove"
)

// Check returns what is wrong with a Book on this machine, in this version of the
// service: what can be proven about it, directories that are not there, files that no door
// covers, sources that give away what is the service's own, and proofs that nobody can show yet.
func Check(book *policy.Book, file string, own Own) []policy.Finding {
	findings := append(prove.Check(book, file), checkSources(book, file, own)...)
	for i := range book.Doors {
		d := &book.Doors[i]
		if i > 0 && book.Doors[i-1].Entry == d.Entry {
			continue // said once for an entry
		}
		say := func(what string) {
			findings = append(findings, policy.Finding{
				Severity: policy.SeverityWarning, Rule: "cannot-be-shown", File: file, Line: d.Line, Column: d.Column, Length: utf8.RuneCountInString(d.Written),
				Message: fmt.Sprintf("this version of the service cannot take %s; by that way the door stays closed", what),
			})
		}
		if n := len(d.Keyrings()); n > policy.MostKeyrings {
			findings = append(findings, policy.Finding{
				Severity: policy.SeverityWarning, Rule: "many-keyrings", File: file, Line: d.Line, Column: d.Column, Length: utf8.RuneCountInString(d.Written),
				Message: fmt.Sprintf("the door names %d keyrings; credentials are compared with the first %d, and by the others it stays closed", n, policy.MostKeyrings),
			})
		}
		if d.Admit.Mentions(policy.Shared) {
			say("shared passwords")
		}
		if d.Admit.Mentions(policy.Pass) {
			say("passes")
		}
	}
	policy.SortFindings(findings)
	return findings
}
