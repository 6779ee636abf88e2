package document

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// A Finding is something that is wrong with a policy, or worth a look.
type Finding struct {
	Severity Severity `json:"severity"`
	Rule     string   `json:"rule"` // the name under which docs/findings.md explains it
	Message  string   `json:"message"`
	File     string   `json:"file"`
	Line     int      `json:"line"`   // counted from 1
	Column   int      `json:"column"` // in characters, counted from 1
	Length   int      `json:"length,omitempty"`
	Witness  *Witness `json:"witness,omitempty"`
}

// A Severity says whether a finding stops a policy from being used.
type Severity string

const (
	SeverityError   Severity = "error"
	SeverityWarning Severity = "warning"
)

// A Witness is a request that shows a finding.
type Witness struct {
	Method  string `json:"method"`
	Host    string `json:"host"`
	Path    string `json:"path"`
	Visitor string `json:"visitor"`
	Outcome string `json:"outcome,omitempty"`
}

// String returns the request in one line, with what came of it.
func (w Witness) String() string {
	s := fmt.Sprintf("%s %s%s as %s", w.Method, w.Host, w.Path, w.Visitor)
	if w.Outcome != "" {
		s += " -> " + w.Outcome
	}
	return s
}

// HasErrors reports whether any finding is an error.
func HasErrors(findings []Finding) bool {
	return slices.ContainsFunc(findings, func(f Finding) bool { return f.Severity == SeverityError })
}

// Excerpt returns the line of text that f is about, with carets below the place:
//
//	12 |   - { path: /log/**, admit: { role: keeeper } }
//	   |                                     ^^^^^^^
func (f Finding) Excerpt(text []byte) string {
	if f.Line < 1 {
		return ""
	}
	rest := string(text)
	for range f.Line - 1 {
		_, after, ok := strings.Cut(rest, "\n")
		if !ok {
			return ""
		}
		rest = after
	}
	line, _, _ := strings.Cut(rest, "\n")
	line = strings.TrimSuffix(strings.ToValidUTF8(line, "\uFFFD"), "\r")
	runes := []rune(line)
	column := min(max(f.Column, 1), len(runes)+1)
	// A very long line is shown around the place.
	from := 0
	if column > 100 {
		from = column - 60
	}
	to := min(len(runes), from+140)
	length := max(1, min(f.Length, to-column+1))
	var carets strings.Builder
	for _, r := range runes[from : column-1] {
		if r == '\t' {
			carets.WriteByte('\t')
		} else {
			carets.WriteByte(' ')
		}
	}
	carets.WriteString(strings.Repeat("^", length))
	shown := strings.Map(func(r rune) rune {
		if r < 0x20 && r != '\t' || r == 0x7f {
			return utf8.RuneError
		}
		return r
	}, string(runes[from:to]))
	return fmt.Sprintf("%5d | %s\n      | %s\n", f.Line, shown, carets.String())
}

// SortFindings puts findings in the order of the file.
func SortFindings(findings []Finding) {
	slices.SortStableFunc(findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
}

// didYouMean returns `; did you mean "x"?` for the known word that is nearest to the
// one written, or else `; expected a, b or c` if the known words are few.
func DidYouMean(written string, known []string) string {
	best, distance := "", 3
	for _, k := range known {
		if d := editDistance(strings.ToLower(written), strings.ToLower(k)); d < distance && d < max(len(k), 2) {
			best, distance = k, d
		}
	}
	switch {
	case best != "":
		return fmt.Sprintf("; did you mean %q?", best)
	case len(known) > 0 && len(known) <= 14:
		return "; expected " + OrList(known)
	}
	return ""
}

// OrList writes a choice in words: a, b or c.
func OrList(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// editDistance counts the insertions, deletions, replacements and swaps of neighbours
// that make a into b.
func editDistance(a, b string) int {
	if len(a) > 64 || len(b) > 64 {
		return 64
	}
	var before, previous, current [65]int
	for j := range len(b) + 1 {
		previous[j] = j
	}
	for i := 1; i <= len(a); i++ {
		current[0] = i
		for j := 1; j <= len(b); j++ {
			change := 1
			if a[i-1] == b[j-1] {
				change = 0
			}
			current[j] = min(previous[j]+1, current[j-1]+1, previous[j-1]+change)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				current[j] = min(current[j], before[j-2]+1)
			}
		}
		before, previous = previous, current
	}
	return previous[len(b)]
}
