package inspect

import (
	"cmp"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/net/html"

	"ostiarius/core/document"
	"ostiarius/core/pattern"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// The most pages and style sheets that are read, and the most of each, and of all, in bytes.
const (
	mostRead    = 2000
	mostOfEach  = 1 << 20
	mostOfAll   = 64 << 20
	mostInShort = 3 // files that a message names
)

// arriving finds pages that everybody may see and that arrive without their looks: a style sheet, script, picture or font
// that a page names is a file, too, and a door keeps strangers from it.
func arriving(book *policy.Book, policyFile string, places []place.Place) []document.Finding {
	there := map[string]place.Place{} // by host and address
	for _, p := range places {
		there[p.Host+p.Address()] = p
	}
	closed := map[*policy.Door][]lacking{}
	read, bytes := 0, int64(0)
	for _, p := range places {
		if read == mostRead || bytes > mostOfAll {
			break
		}
		kind := kindOf(p)
		if kind == "" || !seen(book, p) {
			continue
		}
		read++
		all, size := namedIn(book, policyFile, p, kind)
		bytes += size
		for _, named := range all {
			asset, is := there[p.Host+named]
			if !is || seen(book, asset) || asset == p {
				continue
			}
			deciding := book.Deciding(asset)
			door := deciding[len(deciding)-1]
			closed[door] = append(closed[door], lacking{p, asset})
		}
	}
	var findings []document.Finding
	for door, all := range closed {
		findings = append(findings, withoutLooks(book, policyFile, door, all, places))
	}
	return findings
}

// lacking is a page, or a style sheet, that names a file.
type lacking struct{ page, asset place.Place }

// seen reports whether a stranger is shown a place.
func seen(book *policy.Book, p place.Place) bool {
	return book.Decide(policy.RequestFor(p), &policy.Visitor{}).Outcome == policy.Admit
}

func withoutLooks(book *policy.Book, policyFile string, door *policy.Door, all []lacking, places []place.Place) document.Finding {
	slices.SortFunc(all, func(a, b lacking) int {
		return cmp.Or(cmp.Compare(a.asset.Address(), b.asset.Address()), cmp.Compare(a.page.Address(), b.page.Address()))
	})
	var assets []place.Place
	pages := map[string]bool{}
	for _, l := range all {
		pages[l.page.Address()] = true
		if len(assets) == 0 || assets[len(assets)-1] != l.asset {
			assets = append(assets, l.asset)
		}
	}
	names := make([]string, len(assets))
	for i, a := range assets {
		names[i] = a.Address()
	}
	short, more := strings.Join(names[:min(len(names), mostInShort)], ", "), ""
	if len(names) > mostInShort {
		more = fmt.Sprintf(" and %d more files", len(names)-mostInShort)
	}
	who := "is open to everybody and arrives"
	if len(pages) > 1 {
		who = fmt.Sprintf("and %d more are open to everybody and arrive", len(pages)-1)
	}
	length := utf8.RuneCountInString(door.Written)
	line, column := door.Line, door.Column
	if door == &book.Unlisted {
		length, line, column = len("unlisted"), max(1, book.Unlisted.Line), max(1, book.Unlisted.Column)
	}
	request := policy.RequestFor(assets[0])
	return document.Finding{
		Severity: document.SeverityWarning, Rule: "arrives-without", File: policyFile, Line: line, Column: column, Length: length,
		Message: fmt.Sprintf("the page %s %s without %s%s, which strangers may not see here; to let them, add the door - { path: %s, "+
			"admit: public }",
			all[0].page.Address(), who, short, more, doorFor(assets, places)),
		Witness: &document.Witness{
			Method: "GET", Host: request.Host, Path: request.Path, Visitor: "anonymous",
			Outcome: string(book.Decide(request, &policy.Visitor{}).Outcome),
		},
	}
}

// doorFor is the path, or the list of paths, of a door that opens some files: the directory of each if nothing else than
// looks is in that, and otherwise the file itself.
func doorFor(assets, places []place.Place) string {
	var all []string
	for _, a := range assets {
		path := a.Path
		if dir := directoryOf(a); dir != "/" &&
			!slices.ContainsFunc(places, func(p place.Place) bool { return (p.Path == dir || strings.HasPrefix(p.Path, dir+"/")) && !isLooks(p) }) {
			path = dir + "/**"
		}
		if path = quoted(path); !slices.Contains(all, path) {
			all = append(all, path)
		}
	}
	if len(all) == 1 {
		return all[0]
	}
	return "[ " + strings.Join(all, ", ") + " ]"
}

func directoryOf(p place.Place) string { return path.Dir(p.Path) }

func quoted(text string) string {
	if regexp.MustCompile(`^[A-Za-z0-9/._*-]+$`).MatchString(text) {
		return text
	}
	return fmt.Sprintf("%q", text)
}

var looks = []string{".css", ".js", ".mjs", ".png", ".jpg", ".jpeg", ".gif", ".svg", ".webp", ".avif", ".ico", ".woff", ".woff2",
	".ttf", ".otf"}

func isLooks(p place.Place) bool { return slices.Contains(looks, strings.ToLower(path.Ext(p.Path))) }

// kindOf says how the file at a place names others: "html", "css", or "" for not at all.
func kindOf(p place.Place) string {
	switch ext := strings.ToLower(path.Ext(p.Path)); {
	case ext == ".css":
		return "css"
	case ext == ".html" || ext == ".htm" || p.Slash || p.Path == "/":
		return "html"
	}
	return ""
}

// namedIn returns the addresses on the same host that the file at a place names for its looks, each once, and how long
// the file is.
func namedIn(book *policy.Book, policyFile string, p place.Place, kind string) (all []string, size int64) {
	source := book.SourceOf(p)
	if source == nil || source.Files == "" {
		return nil, 0
	}
	name := strings.TrimPrefix(strings.TrimPrefix(p.Path, source.Path), "/")
	if p.Slash || p.Path == "/" || p.Path == source.Path {
		name = path.Join(name, "index.html")
	}
	base := &url.URL{Path: p.Path}
	if p.Slash && !strings.HasSuffix(base.Path, "/") {
		base.Path += "/"
	}
	from, err := readNames(Directory(*source, policyFile), name, kind)
	if err != nil {
		return nil, 0
	}
	if from.base != "" {
		if u, err := base.Parse(from.base); err == nil {
			base = u
		}
	}
	for _, reference := range from.names {
		u, err := base.Parse(strings.TrimSpace(reference))
		if err != nil || u.Scheme != "" || u.Host != "" {
			continue // elsewhere, or in the page itself
		}
		at, err := place.Read("GET", p.Host, u.EscapedPath(), book.Rules)
		if err == nil && !slices.Contains(all, at.Address()) {
			all = append(all, at.Address())
		}
	}
	return all, from.size
}

// names are the references in a file, as they stand there.
type names struct {
	size  int64  // of the file, in bytes
	base  string // to which they are relative, if the page says so
	names []string
}

// readNames reads the references in a file of a directory.
func readNames(directory, name, kind string) (names, error) {
	root, err := os.OpenRoot(directory)
	if err != nil {
		return names{}, err
	}
	defer root.Close()
	info, err := root.Stat(name) // before it is opened: a pipe would wait for somebody who writes
	if err != nil || !info.Mode().IsRegular() || info.Size() > mostOfEach {
		return names{}, fs.ErrInvalid
	}
	file, err := root.Open(name)
	if err != nil {
		return names{}, err
	}
	defer file.Close()
	return remembered.of(path.Join(directory, name), info, func() (n names) {
		text := io.LimitReader(file, mostOfEach)
		if kind == "css" {
			all, _ := io.ReadAll(text)
			return names{names: inStyle(string(all))}
		}
		return inPage(text)
	}), nil
}

// remembered is what was read of files that have not changed since: a policy is checked with each key that is typed.
var remembered = &memory{files: map[string]readOnce{}}

type memory struct {
	mu    sync.Mutex
	files map[string]readOnce
}

type readOnce struct {
	size    int64
	changed time.Time
	names   names
}

func (m *memory) of(name string, info fs.FileInfo, read func() names) names {
	m.mu.Lock()
	defer m.mu.Unlock()
	was, is := m.files[name]
	if is && was.size == info.Size() && was.changed.Equal(info.ModTime()) {
		return was.names
	}
	if len(m.files) >= 2*mostRead {
		clear(m.files)
	}
	found := read()
	found.size = info.Size()
	m.files[name] = readOnce{info.Size(), info.ModTime(), found}
	return found
}

// inPage returns what a page names: style sheets, scripts, pictures, fonts.
func inPage(text io.Reader) (n names) {
	z := html.NewTokenizer(text)
	styled := false
	for {
		switch z.Next() {
		case html.ErrorToken:
			return n
		case html.TextToken:
			if styled {
				n.names = append(n.names, inStyle(string(z.Text()))...)
			}
			styled = false
		case html.StartTagToken, html.SelfClosingTagToken:
			tag := z.Token()
			has := map[string]string{}
			for _, a := range tag.Attr {
				has[a.Key] = a.Val
			}
			styled = tag.Data == "style"
			reference := ""
			switch rel := strings.Fields(strings.ToLower(has["rel"])); tag.Data {
			case "base":
				n.base = has["href"]
			case "link":
				if slices.Contains(rel, "stylesheet") || slices.Contains(rel, "icon") || slices.Contains(rel, "preload") ||
					slices.Contains(rel, "modulepreload") {
					reference = has["href"]
				}
			case "script", "img", "source", "video", "audio", "embed":
				reference = has["src"]
			}
			if poster := has["poster"]; tag.Data == "video" && poster != "" {
				n.names = append(n.names, poster)
			}
			if reference != "" {
				n.names = append(n.names, reference)
			}
			n.names = append(n.names, inStyle(has["style"])...)
		}
	}
}

var (
	inURL    = pattern.New(`url\(\s*(?:"([^"\n]*)"|'([^'\n]*)'|([^"'()\s]*))\s*\)`)
	inImport = pattern.New(`@import\s+(?:"([^"\n]*)"|'([^'\n]*)')`)
	comment  = pattern.New(`(?s)/\*.*?\*/`)
)

// inStyle returns what a style sheet names.
func inStyle(text string) (all []string) {
	text = comment.ReplaceAllString(text, " ")
	for _, found := range append(inURL.FindAllStringSubmatch(text, -1), inImport.FindAllStringSubmatch(text, -1)...) {
		for _, name := range found[1:] {
			if name != "" && !strings.HasPrefix(name, "data:") && !strings.HasPrefix(name, "#") {
				all = append(all, name)
			}
		}
	}
	return all
}
