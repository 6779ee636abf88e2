package inspect

import (
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/policy"
)

// Pages of one origin may do in a browser what each of them may: a page of an application, or one
// that somebody uploaded, can send requests in the name of a steward who looks at it, as long as
// the console is at the same origin.

// sharing finds the first source that has pages which others than the people who run the site may
// write, and those that may have service workers for Ostiarius's own pages.
func sharing(book *policy.Book, policyFile string, own Own) (findings []document.Finding) {
	warn := func(s *policy.Source, f document.Finding) {
		f.Severity, f.File, f.Line, f.Column, f.Length = document.SeverityWarning, policyFile, s.Line, s.Column, len(s.Files)+len(s.Proxy)
		findings = append(findings, f)
	}
	told := own.ConsoleApart
	for i := range book.Sources {
		s := &book.Sources[i]
		if s.ServiceWorker {
			warn(s, document.Finding{Rule: "worker-covers-pages", Message: fmt.Sprintf("a service worker of the source at %s may answer for "+
				"Ostiarius's sign-in pages, and be told passwords: it can do what the service itself can", s.Path)})
		}
		what := ""
		switch {
		case told:
		case s.Proxy != "":
			what = "the application at " + s.Path
		default:
			if dir := writable(Directory(*s, policyFile)); dir != "" {
				what = fmt.Sprintf("what is in %s, where others may write,", dir)
			}
		}
		if what != "" {
			told = true
			warn(s, document.Finding{Rule: "shares-origin", Message: what + " shares its origin with the console, so its pages could read what " +
				"a steward who visits them may see, and imitate the console; start the service with --console, which gives the console an origin " +
				"of its own"})
		}
	}
	return findings
}

// The most directories that writable looks at.
const mostDirectories = 2000

// writable returns a directory at or below another one in which others than its owner may write, or
// whose name says that things are uploaded there; "" for none.
func writable(directory string) (found string) {
	looked := 0
	filepath.WalkDir(directory, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return nil
		}
		if looked++; looked > mostDirectories {
			return fs.SkipAll
		}
		info, err := d.Info()
		name := strings.ToLower(d.Name())
		if err == nil && info.Mode().Perm()&0o002 != 0 || path != directory && (name == "upload" || name == "uploads") {
			found = path
			return fs.SkipAll
		}
		return nil
	})
	return found
}
