package inspect

import (
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/text/unicode/norm"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// secondWays finds files that can be had at two addresses about which the doors do not say the same: by links inside of a source,
// by hard links, or since one source is within another; and addresses that stand for two files, whose names differ by Unicode form
// alone; and doors that name a host in front of a source that answers at any.
func secondWays(book *policy.Book, policyFile string) []document.Finding {
	ways := secondly{
		book: book, policyFile: policyFile, first: map[[2]uint64]place.Place{}, named: map[string]string{}, said: map[string]bool{},
	}
	for i := range book.Sources {
		s := &book.Sources[i]
		if s.Files == "" {
			continue
		}
		home := Directory(*s, policyFile)
		root, err := os.OpenRoot(home)
		if err != nil {
			continue
		}
		w := &walk{book: book, source: s, home: home, files: root.FS(), most: maxChecked}
		w.met = func(name string, p place.Place) { ways.file(s, w, name, p) }
		w.directory(".", nil)
		root.Close()
	}
	ways.hosts()
	return ways.findings
}

type secondly struct {
	book       *policy.Book
	policyFile string
	first      map[[2]uint64]place.Place // where a file was met, by what the system knows it by
	named      map[string]string         // its name, by the address
	said       map[string]bool
	findings   []document.Finding
}

// file looks at one file of a source.
func (f *secondly) file(s *policy.Source, w *walk, name string, p place.Place) {
	if other, twice := f.named[p.String()]; twice && other != name && norm.NFC.String(other) == norm.NFC.String(name) {
		f.warn(&s.Position, len(s.Files), "names-alike",
			fmt.Sprintf("two files have names that look the same and differ by Unicode form alone, so only one of them can be had, at %s: %s",
				p.Address(), name), p)
	}
	f.named[p.String()] = name
	info, err := os.Stat(filepath.Join(w.home, filepath.FromSlash(name)))
	if err != nil {
		return
	}
	id, ok := fileID(info)
	if !ok {
		return
	}
	first, met := f.first[id]
	if !met {
		f.first[id] = p
		return
	}
	if f.asks(first) != f.asks(p) {
		f.warn(&s.Position, len(s.Files), "second-way", fmt.Sprintf("one file can be had at two addresses with doors that do not ask for "+
			"the same: at %s (%s) and at %s (%s); remove the link, or give both the same door",
			first.Address(), f.asks(first), p.Address(), f.asks(p)), p)
	}
}

// asks is what the doors at a place ask for, in words.
func (f *secondly) asks(p place.Place) string {
	door := f.book.Deciding(p)[0]
	if door == &f.book.Unlisted {
		return "unlisted: " + f.book.UnlistedWord()
	}
	return door.Ask()
}

// hosts looks at doors that name a host, where what is behind can be had at others too.
func (f *secondly) hosts() {
	for i := range f.book.Doors {
		d := &f.book.Doors[i]
		if d.Host.Any() || i > 0 && f.book.Doors[i-1].Entry == d.Entry {
			continue
		}
		p := place.Place{Method: "GET", Host: d.Host.Example(), Path: d.Path.Example()}
		if len(f.book.Deciding(p)) == 0 || f.book.Deciding(p)[0] != d {
			continue
		}
		behind := f.book.SourceOf(p)
		if behind == nil || !behind.Host.Any() {
			continue
		}
		elsewhere := p
		elsewhere.Host = "another.example"
		if d.Host.Covers(elsewhere.Host) || f.asks(elsewhere) == f.asks(p) {
			continue
		}
		f.warn(&d.Position, len(d.Written), "second-way", fmt.Sprintf("the door is for the host %s, and what is behind it answers at every "+
			"host: at %s as %s it asks for %s, at another host for %s; give the source (line %d) a host, or the door none",
			d.Host, p.Address(), p.Host, f.asks(p), f.asks(elsewhere), behind.Line), elsewhere)
	}
}

// The most findings of one kind in one line of the policy.
const mostWays = 8

func (f *secondly) warn(at *document.Position, length int, rule, message string, p place.Place) {
	for n := range mostWays {
		key := fmt.Sprint(rule, at.Line, n)
		if f.said[key] {
			continue
		}
		f.said[key] = true
		request := policy.RequestFor(p)
		f.findings = append(f.findings, document.Finding{
			Severity: document.SeverityWarning, Rule: rule, Message: message, File: f.policyFile, Line: at.Line, Column: at.Column, Length: length,
			Witness: &document.Witness{
				Method: "GET", Host: request.Host, Path: request.Path, Visitor: "anonymous",
				Outcome: string(f.book.Decide(request, &policy.Visitor{}).Outcome),
			},
		})
		return
	}
}
