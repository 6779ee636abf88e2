package connect

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

func parse(t testing.TB, text string) *policy.Book {
	t.Helper()
	book, findings := policy.Parse("doors.yaml", []byte(text))
	if book == nil {
		t.Fatal(findings, text)
	}
	return book
}

// lets reports what a web server makes of an opening: the same steps as in the configurations, with Go's expressions.
func (o *opening) lets(method, host, target string, fold bool) bool {
	subject := host + "|" + target
	match := func(expression string) bool {
		if fold {
			expression = "(?i)" + expression
		}
		return regexp.MustCompile(expression).MatchString(subject)
	}
	open := o.all
	for _, door := range o.public {
		open = open || match(door)
	}
	for _, c := range o.closed {
		shut := match(c.door)
		for _, inner := range c.inner {
			shut = shut && !match(inner)
		}
		open = open && !shut
	}
	return open && method == "GET" && regexp.MustCompile(place.Plain).MatchString(subject)
}

// Where nobody is asked, everybody is admitted; and of what is plainly spelled all of it is left out. This holds the expressions to the
// one decision, on policies and addresses that are made by chance.
func TestOpenIsWhatEverybodyMay(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	of := func(all ...string) string { return all[r.IntN(len(all))] }
	segment := func() string {
		return of("a", "b", "a.b", "A", "a+(b)", "*", "a*", "*.b", "**", "ü", "a b", ".a", `"`, "a-b", "[a]")
	}
	pattern := func() string {
		p := ""
		for range r.IntN(4) {
			p += "/" + segment()
		}
		if p == "" {
			return "/"
		}
		return p
	}
	asked, open := 0, 0
	for range 1500 {
		fold := r.IntN(4) == 0
		text := fmt.Sprintf("site: T\ncase: %s\nunlisted: %s\ndoors:\n", map[bool]string{false: "sensitive", true: "insensitive"}[fold], of("public", "signed-in", "hide"))
		seen := map[string]bool{}
		for range 1 + r.IntN(6) {
			host, methods, p := of("", "", "x.example", "*.x.example"), of("", "", "[GET]", "[POST]", "[HEAD]", "[GET, POST]"), pattern()
			key := strings.ToLower(host + methods + strings.TrimSuffix(strings.ReplaceAll(p, "/**/**", "/**"), "/"))
			if seen[key] {
				continue
			}
			seen[key] = true
			text += fmt.Sprintf("  - { path: %q, admit: %s", p, of("public", "public", "signed-in", "nobody"))
			if host != "" {
				text += fmt.Sprintf(", host: %q", host)
			}
			if methods != "" {
				text += ", methods: " + methods
			}
			text += " }\n"
		}
		book, _ := policy.Parse("doors.yaml", []byte(text))
		if book == nil {
			continue // two doors for the same, after all
		}
		site := Site{Book: book, SkipPublic: true}
		o := site.open()
		for range 60 {
			method, host := of("GET", "GET", "GET", "HEAD", "POST", "get"), of("x.example", "y.x.example", "other.example", "X.example", "x.example|/a", "x.example|/a?", "x.example|/?b|", "")
			target := ""
			for range r.IntN(5) {
				target += "/" + of("a", "b", "a.b", "A", "c", "a+(b)", "", ".", "..", ".a", "%61", "%2e%2e", "a;b", "a%2fb", "%C3%BC", "ü", "axb", "a|b", "a-b")
			}
			target += of("", "/", "?x=/a", "?|/a", "#a")
			path, _, _ := strings.Cut(target, "?")
			d := book.Decide(policy.Request{Method: method, Host: host, Path: path}, &policy.Visitor{})
			admitted := d.Outcome == policy.Admit && d.Public
			lets := o.lets(method, host, target, fold)
			if lets && !admitted {
				t.Fatalf("%s %s %q is let in unasked, and comes to %s public %t\n%s\n%+v", method, host, target, d.Outcome, d.Public, text, o)
			}
			plain := method == "GET" && regexp.MustCompile(place.Plain).MatchString(host+"|"+target)
			if plain && admitted && !lets {
				t.Fatalf("%s %s %q is asked about, though everybody may have it\n%s\n%+v", method, host, target, text, o)
			}
			if asked++; lets {
				open++
			}
		}
	}
	if asked < 10_000 || open < 500 {
		t.Errorf("of %d requests only %d were open, so this shows little", asked, open)
	}
}

// What comes from a policy or a flag cannot leave its place in a configuration.
func TestNothingBreaksOut(t *testing.T) {
	book := parse(t, "site: \"Marram\\nreturn 200 x;\"\nunlisted: hide\nentrance: /keepers-7f3\ndoors:\n  - { path: '/a\"; return 200;', admit: public }\n  - { path: \"/a'b/**\", admit: public }\n  - { path: /a/**, admit: public }\n  - { path: /a/b/**, admit: nobody }\n")
	for _, to := range []string{"http://127.0.0.1:8460", "https://doors.marram.example", "unix:/run/ostiarius/front.sock"} {
		at, err := ParseTo(to)
		if err != nil {
			t.Fatal(err)
		}
		site := Site{Book: book, To: at, SkipPublic: true}
		for name, text := range map[string]string{"nginx": site.Nginx(), "caddy": site.Caddy(), "haproxy": site.HAProxy(), "script": site.HAProxyScript()} {
			for _, line := range strings.Split(text, "\n") {
				if strings.Contains(line, "return 200") && !strings.HasPrefix(line, "# ") || strings.Contains(line, "a'b") {
					t.Errorf("%s: %s", name, line)
				}
			}
			if name != "script" && !strings.Contains(text, "/keepers-7f3") {
				t.Errorf("%s does not know the entrance", name)
			}
		}
	}
	for _, to := range []string{"", "127.0.0.1:8460", "ftp://x", "http://x/path", "http://x?y", "http://u@x", "http://x;y", "http://x y", "unix:front.sock", "unix:/a b", "unix:/a;b", "http://$host", "http://x\n"} {
		if at, err := ParseTo(to); err == nil {
			t.Errorf("%q is taken as %+v", to, at)
		}
	}
	if err := (&Site{Book: book}).Check(); err != nil {
		t.Error(err)
	}
	for _, entrance := range []string{"/a b", `/a"`, "/a;b", "/{path}", "/a'", "/$uri", "/(a|b)", "/ü"} {
		site := Site{Book: parse(t, fmt.Sprintf("semicolons: allowed\nentrance: %q\ndoors: [ { path: /, admit: public } ]\n", entrance))}
		if site.Check() == nil {
			t.Errorf("%s is written into a configuration", entrance)
		}
	}
	far, _ := ParseTo("http://192.0.2.7:8460")
	for want, site := range map[string]Site{"without encryption": {Book: book, To: far}, "can be told": {Book: book}} {
		if got := strings.Join(site.Warnings("haproxy"), "\n"); !strings.Contains(got, want) {
			t.Errorf("%q, want %s", got, want)
		}
	}
}

// The questions go round each door in many ways, and are bounded.
func TestQuestions(t *testing.T) {
	book := parse(t, "doors:\n  - { path: /, admit: public }\n  - { path: /rota/**, admit: signed-in }\n  - { path: /secret/**, admit: nobody, otherwise: hide }\n  - { path: /x, host: other.example, admit: nobody }\n")
	all := Questions(book, "marram.example")
	about := map[string]int{}
	for _, q := range all {
		about[q.About]++
		path, _, _ := strings.Cut(q.Target, "?")
		if q.Outcome == policy.Admit && len(q.Fields) == 0 && book.Decide(policy.Request{Method: q.Method, Host: "marram.example", Path: path}, &policy.Visitor{}).Outcome != policy.Admit {
			t.Errorf("%s is taken as open", q.String())
		}
		if strings.ContainsAny(q.Target, "\r\n ") {
			t.Errorf("%q cannot be sent", q.Target)
		}
	}
	for _, want := range []string{"the address of a door", "another spelling", "another method", "claims who it is", "claims another address", "with a cookie that is nobody's", "out of our own pages", "upgraded"} {
		if about[want] == 0 {
			t.Errorf("nothing is asked about %s: %v", want, about)
		}
	}
	many := "doors:\n"
	for i := range 400 {
		many += fmt.Sprintf("  - { path: /p%d/**, admit: signed-in }\n", i)
	}
	if n := len(Questions(parse(t, many), "h")); n != MostQuestions {
		t.Errorf("%d questions", n)
	}
	challenge, hide, admit := Question{Outcome: policy.Challenge}, Question{Outcome: policy.Hide}, Question{Outcome: policy.Admit}
	for _, test := range []struct {
		q        *Question
		status   int
		location string
		holds    bool
	}{
		{&challenge, 303, "/door/sign-in?next=%2F", true}, {&challenge, 401, "", true}, {&challenge, 200, "", false}, {&challenge, 404, "", false}, {&challenge, 502, "", false},
		{&hide, 404, "", true}, {&hide, 403, "", false}, {&hide, 200, "", false}, {&hide, 303, "/door/sign-in", false},
		{&admit, 200, "", true}, {&admit, 404, "", true}, {&admit, 301, "/rota/", true}, {&admit, 403, "", false}, {&admit, 303, "/door/sign-in?next=%2F", false},
	} {
		if got := test.q.Holds(book, test.status, test.location); (got == "") != test.holds {
			t.Errorf("%s with %d %s: %q", test.q.Outcome, test.status, test.location, got)
		}
	}
}
