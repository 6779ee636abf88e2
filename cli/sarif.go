package cli

import (
	"io"
	"path/filepath"
	"slices"

	"ostiarius/core/document"
)

// writeSARIF writes findings in the Static Analysis Results Interchange Format 2.1.0 of
// OASIS, which code hosts and editors show beside the lines.
func writeSARIF(w io.Writer, findings []document.Finding) error {
	type object = map[string]any
	var names []string
	results := []object{}
	for _, f := range findings {
		if !slices.Contains(names, f.Rule) {
			names = append(names, f.Rule)
		}
		region := object{"startLine": max(1, f.Line), "startColumn": max(1, f.Column)}
		if f.Length > 0 {
			region["endColumn"] = f.Column + f.Length
		}
		message := f.Message
		if f.Witness != nil {
			message += " (" + f.Witness.String() + ")"
		}
		results = append(results, object{
			"ruleId": f.Rule, "ruleIndex": slices.Index(names, f.Rule), "level": string(f.Severity),
			"message": object{"text": message},
			"locations": []object{{"physicalLocation": object{
				"artifactLocation": object{"uri": filepath.ToSlash(f.File)},
				"region":           region,
			}}},
		})
	}
	rules := []object{}
	for _, name := range names {
		rules = append(rules, object{"id": name})
	}
	return writeSARIFRun(w, rules, results)
}

// writeSARIFRun writes one run with its rules and results.
func writeSARIFRun(w io.Writer, rules, results []map[string]any) error {
	type object = map[string]any
	return writeJSON(w, object{
		"$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
		"version": "2.1.0",
		"runs": []object{{
			"tool":       object{"driver": object{"name": "Ostiarius", "version": Version, "rules": rules}},
			"columnKind": "unicodeCodePoints",
			"results":    results,
		}},
	})
}
