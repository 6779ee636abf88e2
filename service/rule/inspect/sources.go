package inspect

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/words"
)

// The most files that are looked at.
const maxChecked = 50_000

// checkSources returns what is wrong with the sources of a Book on this machine: directories
// that are not there, files that no door covers, and sources that give away what is the
// service's own or lead to it. Relative directories are relative to the directory of the policy
// file.
func checkSources(book *policy.Book, policyFile string, own Own) []document.Finding {
	findings := append(own.check(book, policyFile), sharing(book, policyFile, own)...)
	findings = append(findings, looksFiles(book, policyFile)...)
	_, wrong := Words(book, policyFile)
	findings = append(findings, wrong...)
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
			message = fmt.Sprintf("the file system of %s does not distinguish letter case, so one file would have many addresses; say case: "+
				"insensitive", directory)
		default:
			continue
		}
		findings = append(findings, document.Finding{
			Severity: document.SeverityError, Rule: "no-source", Message: message,
			File: policyFile, Line: s.Line, Column: s.Column, Length: len(s.Files),
		})
	}
	files, _ := Addresses(book, policyFile, maxChecked)
	findings = append(findings, secondWays(book, policyFile)...)
	findings = append(append(findings, unanswered(book, policyFile)...), listedToAll(book, policyFile)...)
	return append(append(findings, uncovered(book, policyFile, files)...), arriving(book, policyFile, files)...)
}

// uncovered finds the files of each source about which no door says anything.
func uncovered(book *policy.Book, policyFile string, files []place.Place) []document.Finding {
	found := map[*policy.Source][]place.Place{}
	for _, p := range files {
		if book.Deciding(p)[0] == &book.Unlisted {
			found[book.SourceOf(p)] = append(found[book.SourceOf(p)], p)
		}
	}
	var findings []document.Finding
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
		findings = append(findings, document.Finding{
			Severity: document.SeverityWarning, Rule: "only-unlisted",
			Message: fmt.Sprintf("%s covered by no door, so the rule for unlisted places decides (%s): %s%s", what, book.UnlistedWord(),
				strings.Join(names, ", "), more),
			File: policyFile, Line: s.Line, Column: s.Column, Length: len(s.Files),
			Witness: &document.Witness{Method: "GET", Host: request.Host, Path: request.Path, Visitor: "anonymous",
				Outcome: string(book.Decide(request, &policy.Visitor{}).Outcome)},
		})
	}
	return findings
}

// Directory returns where the files of a source are.
func Directory(s policy.Source, policyFile string) string { return Beside(s.Files, policyFile) }

// Beside returns where a file is that a policy names: relative ones are beside the policy file.
func Beside(name, policyFile string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(filepath.Dir(policyFile), name)
}

// Words returns the sentences of a site, which may stand in a file of their own, and what is wrong with that.
func Words(book *policy.Book, policyFile string) (words.Set, []document.Finding) {
	if book.WordsFile == "" {
		return book.Words, nil
	}
	name := Beside(book.WordsFile, policyFile)
	text, err := ReadFile(name)
	if err != nil {
		return book.Words, []document.Finding{{
			Severity: document.SeverityWarning, Rule: "no-looks",
			Message: fmt.Sprintf("the sentences in %s cannot be read, so the usual ones are used: %v", name, err),
			File:    policyFile, Line: book.WordsAt.Line, Column: book.WordsAt.Column, Length: 1,
		}}
	}
	return read.ParseWords(name, text)
}

// looksFiles returns what is wrong with the files that the looks name.
func looksFiles(book *policy.Book, policyFile string) (findings []document.Finding) {
	for _, name := range []string{book.Looks.Logo, book.Looks.Favicon, book.Looks.Style} {
		if name == "" {
			continue
		}
		info, err := os.Stat(Beside(name, policyFile))
		if err == nil && info.Mode().IsRegular() {
			continue
		}
		findings = append(findings, document.Finding{
			Severity: document.SeverityWarning, Rule: "no-looks",
			Message: fmt.Sprintf("there is no file %s, so the pages go without it", Beside(name, policyFile)),
			File:    policyFile, Line: book.LooksAt.Line, Column: book.LooksAt.Column, Length: 1,
		})
	}
	return findings
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
