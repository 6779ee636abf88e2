package patrol

import (
	_ "embed" // the page
	"fmt"
	"html/template"
	"io"
	"strings"
)

//go:embed report.html
var reportPage string

var report = template.Must(template.New("report").Funcs(template.FuncMap{
	"about": func(rule string) string { return About[rule] },
	"shape": func(s Severity) string {
		if s == "error" {
			return "■"
		}
		return "▲"
	},
	"count": func(n int, noun string) string {
		if n == 1 {
			return "1 " + noun
		}
		return fmt.Sprintf("%d %s", n, plural(noun))
	},
	"join": strings.Join,
}).Parse(reportPage))

func plural(noun string) string {
	if strings.HasSuffix(noun, "ss") {
		return noun + "es"
	}
	return noun + "s"
}

// About says what each rule finds, for people.
var About = map[string]string{
	"differs":       "The answer is not what the policy decides.",
	"forgotten":     "Content can be had although it should be closed.",
	"pretend-guard": "A guard only pretends: the content, or what opens it, is given to everybody.",
	"loop":          "Redirects never arrive.",
	"dead-end":      "A way leads nowhere.",
	"kept":          "A closed page may be kept by a cache, or shown by Back after signing out.",
	"tells":         "Something is told that nobody asked for.",
	"open-redirect": "The site leads wherever somebody else says.",
	"cookie":        "A cookie that proves who somebody is can be read, guessed or sent where it should not.",
	"header":        "A field of the answer is missing, or allows too much.",
	"mixed":         "A page loads parts that who sees it may not have.",
	"broken-link":   "A link is shown to who is turned away there, or leads to nothing.",
}

// WriteReport writes a result as one page that needs nothing else.
func WriteReport(w io.Writer, r *Result) error {
	type group struct {
		Rule     string
		Findings []Finding
	}
	var groups []group
	at := map[string]int{}
	errors := 0
	for _, f := range r.Findings {
		if _, known := at[f.Rule]; !known {
			at[f.Rule] = len(groups)
			groups = append(groups, group{Rule: f.Rule})
		}
		groups[at[f.Rule]].Findings = append(groups[at[f.Rule]].Findings, f)
		if f.Severity == "error" {
			errors++
		}
	}
	return report.Execute(w,
		map[string]any{
			"R": r, "Groups": groups, "Errors": errors, "Warnings": len(r.Findings) - errors, "Began": r.Began.Format("2 January 2006, 15:04"),
		})
}
