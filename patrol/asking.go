package patrol

import (
	"strings"

	"ostiarius/core/pattern"
)

var (
	listens = pattern.New(`addEventListener\(\s*["'](?:submit|change|input|key\w+|click)["']|\.on(?:submit|change|input|key\w+|click)\s*=`)
	defines = pattern.New(`\bfunction\s+([\w$]+)\s*\(|([A-Za-z_$][\w$]*)\s*[=:]\s*(?:async\s*)?(?:function\b|\(|\w+\s*=>)`)
	calls   = pattern.New(`([A-Za-z_$][\w$]*)\s*\(`)
)

// asking returns the code that looks at what somebody types into a field for a password: in the attributes of its form, in scripts
// that listen to a form or field, and in the functions that these call.
func (d *contents) asking(scripts string) string {
	if len(d.secrets) == 0 || d.joins {
		return ""
	}
	var all strings.Builder
	known := functionsOf(scripts)
	for i := range d.forms {
		f := &d.forms[i]
		if f.password == 0 || all.Len() > mostScript/10 {
			continue
		}
		all.WriteString(f.submits + known.calledBy(f.submits))
		if clicks := f.clicks + known.calledBy(f.clicks); strings.Contains(clicks, ".value") {
			all.WriteString(clicks)
		}
	}
	for _, at := range listens.FindAllStringIndex(scripts, 20) {
		code := functionAt(scripts[at[0]:min(len(scripts), at[0]+mostCode)])
		if code += known.calledBy(code); strings.Contains(code, ".value") {
			all.WriteString(code)
		}
	}
	return all.String()
}

// Functions are those of a page's scripts, by name, each with the place where it begins.
type functions struct {
	scripts string
	at      map[string]int
}

func functionsOf(scripts string) functions {
	s := functions{scripts, map[string]int{}}
	for _, found := range defines.FindAllStringSubmatchIndex(scripts, 20_000) {
		name := max(found[2], found[4])
		s.at[scripts[name:max(found[3], found[5])]] = name
	}
	return s
}

// calledBy returns the functions that some code calls, and those that they call. It returns each once.
func (s functions) calledBy(code string) string {
	var found strings.Builder
	for len(code) > 0 && found.Len() < mostScript/10 {
		next := ""
		for _, call := range calls.FindAllStringSubmatch(code, 100) {
			if at, is := s.at[call[1]]; is {
				next += functionAt(s.scripts[at:min(len(s.scripts), at+mostCode)]) + "\n"
				delete(s.at, call[1])
			}
		}
		found.WriteString(next)
		code = next
	}
	return found.String()
}

// functionAt returns a text to the end of the function that it begins with, as far as braces tell.
func functionAt(text string) string {
	depth := 0
	for i, c := range text {
		switch c {
		case '{':
			depth++
		case '}':
			if depth--; depth <= 0 {
				return text[:i+1]
			}
		case '\n':
			if depth == 0 && i > 300 {
				return text[:i]
			}
		}
	}
	return text
}
