package inspect

import (
	"fmt"
	"os"
	"unicode/utf8"

	"ostiarius/core/document"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/prove"
)

// routes compares the routes of applications with their data: those that the policy names, and those of files.
func routes(book *policy.Book, policyFile string) (findings []document.Finding) {
	for _, s := range book.Sources {
		findings = append(findings, prove.CheckRoutes(book, policyFile, s.Routes)...)
		if s.RoutesFile == "" {
			continue
		}
		name := Beside(s.RoutesFile, policyFile)
		text, err := os.ReadFile(name)
		if err != nil {
			findings = append(findings, document.Finding{
				Severity: document.SeverityWarning, Rule: "no-routes", File: policyFile, Line: s.Line, Column: s.Column,
				Length:  utf8.RuneCountInString(s.Files),
				Message: fmt.Sprintf("the routes of this application cannot be read, so nothing is said of its data: %v", err),
			})
			continue
		}
		all, wrong := read.ParseRoutes(name, text, book.Rules)
		for i := range wrong {
			wrong[i].Severity = document.SeverityWarning // the policy can be used all the same
		}
		findings = append(append(findings, wrong...), prove.CheckRoutes(book, name, all)...)
	}
	return findings
}
