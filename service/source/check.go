package source

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"ostiarius/core/policy"
)

// Check returns what is wrong with the sources of a Book on this machine: directories
// that are not there. Relative ones are relative to the directory of the policy file.
func Check(book *policy.Book, policyFile string) []policy.Finding {
	var findings []policy.Finding
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
			Severity: policy.Error, Rule: "no-source", Message: message,
			File: policyFile, Line: s.Line, Column: s.Column, Length: len(s.Files),
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
