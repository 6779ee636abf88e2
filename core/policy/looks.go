package policy

import (
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/looks"
	"ostiarius/core/words"
)

// Which kinds of file looks take, by their endings: so that none of them can be a key or the records.
var looksFiles = map[string][]string{
	"logo": {".svg", ".png", ".jpg", ".jpeg", ".webp", ".gif"}, "favicon": {".svg", ".png", ".ico"}, "style": {".css"},
}

var paletteKeys = []string{"accent", "paper", "ink"}

func (p *reader) looks(n ast.Node) {
	l := &p.book.Looks
	p.book.LooksAt = position(n)
	light, dark := looks.Light, looks.Dark
	for _, f := range p.fields(n, "looks", append(slices.Clone(paletteKeys), "dark", "scheme", "logo", "favicon", "style")) {
		switch f.name {
		case "dark":
			for _, inner := range p.fields(f.value, "dark", paletteKeys) {
				p.colour(inner, &dark)
				l.Dark = &dark
			}
		case "scheme":
			l.Scheme = looks.Scheme(p.word(f.value, "scheme", string(looks.Both), string(looks.OnlyLight), string(looks.OnlyDark)))
		case "logo":
			l.Logo = p.looksFile(f)
		case "favicon":
			l.Favicon = p.looksFile(f)
		case "style":
			l.Style = p.looksFile(f)
		default:
			p.colour(f, &light)
			l.Light = &light
		}
	}
	// Colours that were given together must be told apart together.
	for name, palette := range map[string]*looks.Palette{"light": l.Light, "dark": l.Dark} {
		if palette == nil {
			continue
		}
		for _, fault := range palette.Faults() {
			p.warn(position(n), 1, "low-contrast",
				"in %s pages %s has a contrast of %.1f to 1; text needs %.1f to be read (WCAG 2.2, 1.4.3)", name, fault.What, fault.Ratio,
				looks.Readable)
		}
	}
}

func (p *reader) colour(f field, into *looks.Palette) {
	s, ok := p.text(f.value, f.name)
	if !ok {
		return
	}
	c, err := looks.ParseColour(s)
	if err != nil {
		p.at(f.value, "bad-value", "%s: %v", f.name, err)
		return
	}
	switch f.name {
	case "accent":
		into.Accent = c
	case "paper":
		into.Paper = c
	case "ink":
		into.Ink = c
	}
}

func (p *reader) looksFile(f field) string {
	s, ok := p.text(f.value, f.name)
	if !ok {
		return ""
	}
	if strings.ContainsRune(s, 0) ||
		!slices.ContainsFunc(looksFiles[f.name], func(end string) bool { return strings.HasSuffix(strings.ToLower(s), end) }) {
		p.at(f.value, "bad-value", "%s %q: it is a file whose name ends in %s", f.name, s, orList(looksFiles[f.name]))
		return ""
	}
	return s
}

// ParseWords reads sentences of the site's own from a file of theirs. The name is used in findings only.
func ParseWords(name string, text []byte) (words.Set, []Finding) {
	p := &reader{newPartReader(name, &Book{})}
	if body, ok := p.document(text, "sentences"); ok && body != nil {
		p.words(body)
	}
	SortFindings(p.findings)
	return p.book.Words, p.findings
}

// wordsOrFile reads sentences of the site's own, or the name of the file that has them.
func (p *reader) wordsOrFile(n ast.Node) {
	p.book.WordsAt = position(n)
	if _, isText := n.(*ast.StringNode); !isText {
		p.words(n)
		return
	}
	s, ok := p.text(n, "words")
	if ok && (!strings.HasSuffix(s, ".yaml") && !strings.HasSuffix(s, ".yml") || strings.ContainsRune(s, 0)) {
		p.at(n, "bad-value", "words %q: it is a file whose name ends in .yaml, or the sentences themselves", s)
		return
	}
	p.book.WordsFile = s
}

// words reads sentences of the site's own.
func (p *reader) words(n ast.Node) {
	own := map[words.Language]map[string]string{}
	var languages []string
	for _, in := range words.Languages {
		languages = append(languages, string(in))
	}
	for _, f := range p.fields(n, "words", languages) {
		in := words.Language(f.name)
		own[in] = map[string]string{}
		for _, s := range p.fields(f.value, "words in "+f.name, words.Keys()) {
			text, ok := p.text(s.value, s.name)
			if !ok {
				continue
			}
			usual, _ := words.Usual(in, s.name)
			allowed := words.Gaps(usual)
			if strings.HasPrefix(s.name, "mail.") {
				allowed = append(allowed, "site", "url", "name", "until", "link")
			}
			for _, gap := range words.Gaps(text) {
				if !slices.Contains(allowed, gap) {
					p.at(s.value, "bad-value", "%s has no {%s}%s", s.name, gap, didYouMean(gap, allowed))
				}
			}
			if slices.Contains(words.Gaps(usual), "link") && strings.HasPrefix(s.name, "mail.") && !slices.Contains(words.Gaps(text), "link") {
				p.at(s.value, "bad-value", "%s needs {link} in a paragraph of its own: without it the mail leads nowhere", s.name)
			}
			own[in][s.name] = strings.TrimSpace(text)
		}
	}
	p.book.Words = words.NewSet(own)
}
