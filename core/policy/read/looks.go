package read

import (
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/looks"
	"ostiarius/core/policy"
	"ostiarius/core/words"
)

// Which kinds of file looks take, by their endings: so that none of them can be a key or the records.
var looksFiles = map[string][]string{
	"logo": {".svg", ".png", ".jpg", ".jpeg", ".webp", ".gif"}, "favicon": {".svg", ".png", ".ico"}, "style": {".css"},
}

var paletteKeys = []string{"accent", "paper", "ink"}

func (p *reader) looks(n ast.Node) {
	l := &p.Book.Looks
	p.Book.LooksAt = document.PositionOf(n)
	light, dark := looks.Light, looks.Dark
	for _, f := range p.Fields(n, "looks", append(slices.Clone(paletteKeys), "dark", "scheme", "logo", "favicon", "style")) {
		switch f.Name {
		case "dark":
			for _, inner := range p.Fields(f.Value, "dark", paletteKeys) {
				p.colour(inner, &dark)
				l.Dark = &dark
			}
		case "scheme":
			l.Scheme = looks.Scheme(p.Word(f.Value, "scheme", string(looks.Both), string(looks.OnlyLight), string(looks.OnlyDark)))
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
			p.Warn(document.PositionOf(n), 1, "low-contrast",
				"in %s pages, %s has a contrast ratio of %.1f to 1; text needs at least %.1f (WCAG 2.2, 1.4.3)", name, fault.What, fault.Ratio,
				looks.Readable)
		}
	}
}

func (p *reader) colour(f document.Field, into *looks.Palette) {
	s, ok := p.Text(f.Value, f.Name)
	if !ok {
		return
	}
	c, err := looks.ParseColour(s)
	if err != nil {
		p.At(f.Value, "bad-value", "%s: %v", f.Name, err)
		return
	}
	switch f.Name {
	case "accent":
		into.Accent = c
	case "paper":
		into.Paper = c
	case "ink":
		into.Ink = c
	}
}

func (p *reader) looksFile(f document.Field) string {
	s, ok := p.Text(f.Value, f.Name)
	if !ok {
		return ""
	}
	if strings.ContainsRune(s, 0) ||
		!slices.ContainsFunc(looksFiles[f.Name], func(end string) bool { return strings.HasSuffix(strings.ToLower(s), end) }) {
		p.At(f.Value, "bad-value", "%s %q: it is a file whose name ends in %s", f.Name, s, document.OrList(looksFiles[f.Name]))
		return ""
	}
	return s
}

// ParseWords reads sentences of the site's own from a file of theirs. The name is used in findings only.
func ParseWords(name string, text []byte) (words.Set, []document.Finding) {
	p := &reader{policy.NewPartReader(name, &policy.Book{})}
	if body, ok := p.Document(text, "sentences"); ok && body != nil {
		p.words(body)
	}
	document.SortFindings(p.Findings)
	return p.Book.Words, p.Findings
}

// wordsOrFile reads sentences of the site's own, or the name of the file that has them.
func (p *reader) wordsOrFile(n ast.Node) {
	p.Book.WordsAt = document.PositionOf(n)
	if _, isText := n.(*ast.StringNode); !isText {
		p.words(n)
		return
	}
	s, ok := p.Text(n, "words")
	if ok && (!strings.HasSuffix(s, ".yaml") && !strings.HasSuffix(s, ".yml") || strings.ContainsRune(s, 0)) {
		p.At(n, "bad-value", "words %q: it is a file whose name ends in .yaml, or the sentences themselves", s)
		return
	}
	p.Book.WordsFile = s
}

// words reads sentences of the site's own.
func (p *reader) words(n ast.Node) {
	own := map[words.Language]map[string]string{}
	var languages []string
	for _, in := range words.Languages {
		languages = append(languages, string(in))
	}
	for _, f := range p.Fields(n, "words", languages) {
		in := words.Language(f.Name)
		own[in] = map[string]string{}
		for _, s := range p.Fields(f.Value, "words in "+f.Name, words.Keys()) {
			text, ok := p.Text(s.Value, s.Name)
			if !ok {
				continue
			}
			usual, _ := words.Usual(in, s.Name)
			allowed := words.Gaps(usual)
			if strings.HasPrefix(s.Name, "mail.") {
				allowed = append(allowed, "site", "url", "name", "until", "link")
			}
			for _, gap := range words.Gaps(text) {
				if !slices.Contains(allowed, gap) {
					p.At(s.Value, "bad-value", "%s has no {%s}%s", s.Name, gap, document.DidYouMean(gap, allowed))
				}
			}
			if slices.Contains(words.Gaps(usual), "link") && strings.HasPrefix(s.Name, "mail.") && !slices.Contains(words.Gaps(text), "link") {
				p.At(s.Value, "bad-value", "%s needs {link} in a paragraph of its own: without it the mail leads nowhere", s.Name)
			}
			own[in][s.Name] = strings.TrimSpace(text)
		}
	}
	p.Book.Words = words.NewSet(own)
}
