package inspect

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// The most files that are looked at.
const maxChecked = 50_000

// checkSources returns what is wrong with the sources of a Book on this machine: directories
// that are not there, files that no door covers, and sources that give away what is the
// service's own or lead to it. Relative directories are relative to the directory of the policy
// file.
func checkSources(book *policy.Book, policyFile string, own Own) []policy.Finding {
	findings := append(own.check(book, policyFile), sharing(book, policyFile, own)...)
	for _, s := range book.Sources {
		if s.Files == "" {
			continue
		}
		directory := Directory(s, policyFile)
		info, err := os.Stat(directory)
		var message string
		switch {
		case os.IsNotExist(err):
			message = fmt.Sprintf("there is no directory %s", directory)
		case err != nil:
			message = fmt.Sprintf("the directory %s cannot be read: %v", directory, err)
		case !info.IsDir():
			message = fmt.Sprintf("%s is a file; a source is a directory", directory)
		case !book.Rules.FoldCase && foldsCase(directory):
			message = fmt.Sprintf("the file system of %s does not distinguish letter case, so one file would have many addresses; say case: insensitive", directory)
		default:
			continue
		}
		findings = append(findings, policy.Finding{
			Severity: policy.SeverityError, Rule: "no-source", Message: message,
			File: policyFile, Line: s.Line, Column: s.Column, Length: len(s.Files),
		})
	}
	return append(findings, uncovered(book, policyFile)...)
}

// uncovered finds the files of each source about which no door says anything.
func uncovered(book *policy.Book, policyFile string) []policy.Finding {
	files, _ := Addresses(book, policyFile, maxChecked)
	found := map[*policy.Source][]place.Place{}
	for _, p := range files {
		if book.Deciding(p)[0] == &book.Unlisted {
			found[book.SourceOf(p)] = append(found[book.SourceOf(p)], p)
		}
	}
	var findings []policy.Finding
	for i := range book.Sources {
		s := &book.Sources[i]
		places := found[s]
		if len(places) == 0 {
			continue
		}
		var names []string
		for _, p := range places[:min(4, len(places))] {
			names = append(names, p.Address())
		}
		what, more := "1 file is", ""
		if len(places) > 1 {
			what = fmt.Sprintf("%d files are", len(places))
		}
		if len(places) > len(names) {
			more = fmt.Sprintf(" and %d more", len(places)-len(names))
		}
		request := policy.RequestFor(places[0])
		findings = append(findings, policy.Finding{
			Severity: policy.SeverityWarning, Rule: "only-unlisted",
			Message: fmt.Sprintf("%s covered by no door, so the rule for unlisted places decides (%s): %s%s", what, book.UnlistedWord(), strings.Join(names, ", "), more),
			File:    policyFile, Line: s.Line, Column: s.Column, Length: len(s.Files),
			Witness: &policy.Witness{Method: "GET", Host: request.Host, Path: request.Path, Visitor: "anonymous",
				Outcome: string(book.Decide(request, &policy.Visitor{}).Outcome)},
		})
	}
	return findings
}

// Directory returns where the files of a source are.
func Directory(s policy.Source, policyFile string) string {
	if filepath.IsAbs(s.Files) {
		return s.Files
	}
	return filepath.Join(filepath.Dir(policyFile), s.Files)
}

// foldsCase reports whether the file system finds a file of the directory also by its name
// in other letters.
func foldsCase(directory string) bool {
	entries, err := os.ReadDir(directory)
	if err != nil {
		return false
	}
	for _, entry := range entries {
		other := strings.ToUpper(entry.Name())
		if other == entry.Name() {
			if other = strings.ToLower(entry.Name()); other == entry.Name() {
				continue // no letters
			}
		}
		one, err := os.Stat(filepath.Join(directory, entry.Name()))
		two, err2 := os.Stat(filepath.Join(directory, other))
		return err == nil && err2 == nil && os.SameFile(one, two)
	}
	return false
}
