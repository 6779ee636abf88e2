package connect

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

func parse(t testing.TB, text string) *policy.Book {
	t.Helper()
	book, findings := read.Parse("doors.yaml", []byte(text))
	if book == nil {
		t.Fatal(findings, text)
	}
	return book
}

var compiled = map[string]*regexp.Regexp{}

// matches compiles an expression once, for the tests that hold many subjects against it.
func matches(expression, subject string) bool {
	re := compiled[expression]
	if re == nil {
		re = regexp.MustCompile(expression)
		compiled[expression] = re
	}
	return re.MatchString(subject)
}

// lets reports what a web server makes of an opening: the same steps as in the configurations, with Go's expressions.
func (o *opening) lets(method, host, target string, fold bool) bool {
	subject := host + "|" + target
	match := func(expression string) bool {
		if fold {
			expression = "(?i)" + expression
		}
		return matches(expression, subject)
	}
	open := o.all
	for _, door := range o.public {
		open = open || match(door.String())
	}
	for _, c := range o.closed {
		shut := match(c.door.String())
		for _, inner := range c.inner {
			shut = shut && !match(inner.String())
		}
		open = open && !shut
	}
	return open && method == "GET" && matches(place.Plain, subject)
}

var nginxSteps = regexp.MustCompile(`(?m)^ *(?:set \$(\w+) ([^;]*);|if \(\$(\w+)(?: (!?~\*?|!=) ("[^"]*"|\S+))?\) \{ set \$(\w+) ` +
	`"(\w*)"; \})$`)

// nginxLets does what the directives of nginx say, on a host and a target.
func nginxLets(steps [][]string, host, target, method string) bool {
	v := map[string]string{"host": host, "request_uri": target, "request_method": method}
	for _, s := range steps {
		word := strings.Trim(s[5], `"`)
		met := v[s[3]] != ""
		switch s[4] {
		case "!=":
			met = v[s[3]] != word
		case "!~":
			met = !matches(word, v[s[3]])
		case "~", "~*":
			met = true
			rest, ahead := strings.CutPrefix(word, "^(?=") // which Go has not
			parts := []string{word}
			if ahead {
				first, second, _ := strings.Cut(rest, "))(?:")
				parts = []string{"^" + first + ")", "^(?:" + second}
			}
			for _, part := range parts {
				if s[4] == "~*" {
					part = "(?i)" + part
				}
				met = met && matches(part, v[s[3]])
			}
		}
		switch {
		case s[1] != "":
			v[s[1]] = strings.NewReplacer("$host", host, "$request_uri", target, `"`, "").Replace(s[2])
		case met:
			v[s[6]] = s[7]
		}
	}
	return v["ostiarius_open"] != ""
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
		text := fmt.Sprintf("site: T\ncase: %s\nunlisted: %s\ndoors:\n", map[bool]string{false: "sensitive", true: "insensitive"}[fold],
			of("public", "signed-in", "hide"))
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
		book, _ := read.Parse("doors.yaml", []byte(text))
		if book == nil {
			continue // two doors for the same, after all
		}
		site := Site{Book: book, SkipPublic: true}
		o, snippet := site.open(), site.Nginx()
		steps := nginxSteps.FindAllStringSubmatch(snippet, -1)
		if len(steps) < 7 {
			t.Fatalf("only %d steps are read in\n%s", len(steps), snippet)
		}
		for range 60 {
			method, host := of("GET", "GET", "GET", "HEAD", "POST", "get"), of("x.example", "y.x.example", "other.example", "X.example",
				"x.example|/a", "x.example|/a?", "x.example|/?b|", "", "x.example.", "y.x.example.", "x.example,other.example",
				"other.example,x.example")
			target := ""
			for range r.IntN(5) {
				target += "/" + of("a", "b", "a.b", "A", "c", "a+(b)", "", ".", "..", ".a", "%61", "%2e%2e", "a;b", "a%2fb", "%C3%BC", "ü",
					"axb", "a|b", "a-b")
			}
			target += of("", "/", "?x=/a", "?|/a", "#a")
			path, _, _ := strings.Cut(target, "?")
			d := book.Decide(policy.Request{Method: method, Host: host, Path: path}, &policy.Visitor{})
			admitted := d.Outcome == policy.Admit && d.Public
			lets := o.lets(method, host, target, fold)
			if lets && !admitted {
				t.Fatalf("%s %s %q is let in unasked, and comes to %s public %t\n%s\n%+v", method, host, target, d.Outcome, d.Public, text, o)
			}
			if got := nginxLets(steps, strings.ToLower(host), target, method); got && !admitted || lets && !got {
				t.Fatalf("%s %s %q: nginx lets in %t, want %t\n%s\n%s", method, host, target, got, lets, text, snippet)
			}
			plain := method == "GET" && matches(place.Plain, host+"|"+target)
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
	if _, err := ParseContent("root /srv; } location /x { }"); err == nil {
		t.Error("content leaves its block")
	}
	book := parse(t, "site: \"Marram\\nreturn 200 x;\"\nunlisted: hide\nentrance: /keepers-7f3\ndoors:\n  - { path: '/a\"; return "+
		"200;', admit: public }\n  - { path: \"/a'b/**\", admit: public }\n  - { path: /a/**, admit: public }\n  - { path: /a/b/**, admit: "+
		"nobody }\n")
	for _, to := range []string{"http://127.0.0.1:8460", "https://doors.marram.example", "unix:/run/ostiarius/front.sock"} {
		at, err := ParseTo(to)
		if err != nil {
			t.Fatal(err)
		}
		site := Site{Book: book, To: at, SkipPublic: true}
		for name, text := range map[string]string{
			"nginx": site.Nginx(), "caddy": site.Caddy(), "haproxy": site.HAProxy(), "script": site.HAProxyScript(),
		} {
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
	for _, to := range []string{"", "127.0.0.1:8460", "ftp://x", "http://x/path", "http://x?y", "http://u@x", "http://x;y",
		"http://x y", "unix:front.sock", "unix:/a b", "unix:/a;b", "http://$host", "http://x\n"} {
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
	for want, site := range map[string]Site{
		"without encryption":         {Book: book, To: far},
		"nothing that --skip-public": {Book: parse(t, "doors: [{path: /, admit: nobody}]"), SkipPublic: true},
	} {
		if got := strings.Join(site.Warnings("haproxy"), "\n"); !strings.Contains(got, want) {
			t.Errorf("%q, want %s", got, want)
		}
	}
}

// The questions go round each door in many ways, and are bounded.
func TestQuestions(t *testing.T) {
	book := parse(t, "doors:\n  - { path: /, admit: public }\n  - { path: /rota/**, admit: signed-in }\n  - { path: /secret/**, admit: "+
		"nobody, otherwise: hide }\n  - { path: /x, host: other.example, admit: nobody }\n")
	all := Questions(book, "marram.example")
	about := map[string]int{}
	for _, q := range all {
		about[q.About]++
		path, _, _ := strings.Cut(q.Target, "?")
		if q.Outcome == policy.Admit && len(q.Fields) == 0 &&
			book.Decide(policy.Request{Method: q.Method, Host: "marram.example", Path: path}, &policy.Visitor{}).Outcome != policy.Admit {
			t.Errorf("%s is taken as open", q.String())
		}
		if strings.ContainsAny(q.Target, "\r\n ") {
			t.Errorf("%q cannot be sent", q.Target)
		}
	}
	for _, want := range []string{"the address of a door", "another spelling", "another method", "claims who it is",
		"claims another address", "with a cookie that is nobody's", "out of our own pages", "upgraded"} {
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
		{&challenge, 303, "/door/sign-in?next=%2F", true}, {&challenge, 401, "", true}, {&challenge, 200, "", false},
		{&challenge, 404, "", false}, {&challenge, 502, "", false},
		{&hide, 404, "", true}, {&hide, 403, "", false}, {&hide, 200, "", false}, {&hide, 303, "/door/sign-in", false},
		{&admit, 200, "", true}, {&admit, 404, "", true}, {&admit, 301, "/rota/", true}, {&admit, 403, "", false},
		{&admit, 303, "/door/sign-in?next=%2F", false},
	} {
		if got := test.q.Holds(book, test.status, test.location); (got == "") != test.holds {
			t.Errorf("%s with %d %s: %q", test.q.Outcome, test.status, test.location, got)
		}
	}
}

// nginx reads no word of 4096 bytes, and a policy may have many doors.
func TestManyPublicDoors(t *testing.T) {
	text := "doors:\n"
	for i := range 120 {
		text += fmt.Sprintf("  - { path: /walk-on-the-shore-%d/**, admit: public }\n  - { path: /walk-on-the-shore-%[1]d/hut/**, admit: "+
			"nobody }\n", i)
	}
	site := Site{Book: parse(t, text), SkipPublic: true}
	snippet := site.Nginx()
	for _, word := range regexp.MustCompile(`"[^"]*"|\S+`).FindAllString(snippet, -1) {
		if len(word) >= 4096 {
			t.Errorf("a word of %d bytes: %.100s", len(word), word)
		}
	}
	steps := nginxSteps.FindAllStringSubmatch(snippet, -1)
	for i := range 120 {
		at := fmt.Sprintf("/walk-on-the-shore-%d/", i)
		if !nginxLets(steps, "h", at, "GET") || nginxLets(steps, "h", at+"hut/", "GET") {
			t.Errorf("%s is let in %t, the hut %t", at, nginxLets(steps, "h", at, "GET"), nginxLets(steps, "h", at+"hut/", "GET"))
		}
	}
}

// Nothing is asked about a directory only if all in it is public, whatever the host and the method.
func TestPublicDirectories(t *testing.T) {
	for policy, want := range map[string]string{
		"{ path: /open/**, admit: public }":                                                                            "/open",
		"{ path: /a/b/**, admit: public }, { path: /**, admit: signed-in }":                                            "/a/b",
		"{ path: /open/**, admit: public }, { path: /open/in/**, admit: public }, { path: /other, admit: nobody }":     "/open,/open/in",
		"{ path: /open/**, admit: public }, { path: /open/in/**, admit: nobody }, { path: /open/x/**, admit: public }": "/open/x",
		"{ path: /open/**, admit: public }, { path: /**/*.pdf, admit: nobody }":                                        "",
		"{ path: /open/**, admit: public }, { path: /open/x, admit: nobody, methods: [POST] }":                         "",
		"{ path: /open/**, admit: public }, { path: /open/**, admit: nobody, host: y.example }":                        "",
		"{ path: /open/**, admit: public, host: x.example }":                                                           "",
		"{ path: /open/**, admit: public, methods: [GET] }":                                                            "",
		"{ path: /**, admit: public }":                                                                                 "",
		"{ path: /open, admit: public }, { path: /o*/**, admit: public }, { path: /**/x/**, admit: public }, { path: '/a b/**', admit: " +
			"public }, { path: '/a$b/**', admit: public }": "",
	} {
		site := Site{Book: parse(t, "doors: ["+policy+"]"), SkipPublic: true, Content: []string{"root /srv"}}
		if got := strings.Join(site.openDirectories(), ","); got != want {
			t.Errorf("%s: %q, want %q", policy, got, want)
		}
		for _, dir := range site.openDirectories() {
			if !strings.Contains(site.Nginx(), "location "+dir+"/ {\n    auth_request off;\n    root /srv;\n}\n") {
				t.Error(site.Nginx())
			}
		}
	}
}

// What is taken to give out files only gives out files.
func TestParseContent(t *testing.T) {
	for text, want := range map[string]string{
		"root /srv/www;": "root /srv/www",
		"# files\nroot /srv; # here\n index a.html  b.html;\n": "root /srv|index a.html  b.html",
		`add_header X "a;  #b}" always; try_files $uri =404;`:  `add_header X "a;  #b}" always|try_files $uri =404`,
		"root /a#b;":                           "root /a#b",
		"":                                     "no directive",
		"# root /srv;":                         "no directive",
		"root /srv":                            "no end",
		`root "/srv;`:                          "no end",
		";":                                    `"" is none`,
		"proxy_pass http://x;":                 `"proxy_pass" is none`,
		"root /srv; include x;":                `"include" is none`,
		"alias /srv/;":                         `"alias" is none`,
		"root /srv; location /x { }":           "a block",
		"root /srv; } location / {":            "a block",
		"root /srv\\;":                         "backslash",
		"try_files $uri $uri/ $uri.html =404;": "try_files $uri $uri/ $uri.html =404",
		"try_files $uri /rota/week.html;":      "ends with another address",
		"try_files $uri @app;":                 "ends with another address",
		"try_files $uri /rota/week.html =404;": "leads out",
		"try_files $arg_page =404;":            "a stranger's",
		"try_files $uri/../../rota/x =404;":    "leads out",
		"try_files $urix =404;":                "a stranger's",
		"try_files $uri/$arg_x =404;":          "a stranger's",
		"try_files;":                           "says nothing",
		"index /rota/index.html;":              "leads out",
		`index "$arg_page";`:                   "a stranger's",
		"root /srv/$arg_of;":                   "a stranger's",
		"root /srv/$uri;":                      "a stranger's",
		`root /a"; } location / { } #";`:       "within a word",
		"root /srv; fastcgi_pass unix:/x;":     "fastcgi_pass",
	} {
		all, err := ParseContent(text)
		if got := strings.Join(all, "|"); err == nil && got != want || err != nil && (all != nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%q: %q %v, want %q", text, got, err, want)
		}
	}
}

// nginxWords are the first words of directives as nginx reads a text: a quotation mark counts only where a word begins. A brace
// is one too.
func nginxWords(text string) (first []string) {
	word, begun, new := "", false, true
	end := func() {
		if begun && new {
			first, new = append(first, word), false
		}
		word, begun = "", false
	}
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case strings.IndexByte(" \t\r\n", c) >= 0:
			end()
		case c == ';':
			end()
			new = true
		case (c == '{' || c == '}') && (i == 0 || text[i-1] != '$'):
			end()
			first, new = append(first, string(c)), true
		case !begun && c == '#':
			for i < len(text) && text[i] != '\n' {
				i++
			}
		case !begun && (c == '"' || c == '\''):
			begun = true
			for i++; i < len(text) && text[i] != c; i++ {
				word += text[i : i+1]
			}
		default:
			begun, word = true, word+string(c)
		}
	}
	return first
}

// Whatever is taken is taken again as it was, and each of it is a directive of the list: nothing comes in beside one.
func FuzzParseContent(f *testing.F) {
	for _, text := range []string{"root /srv/www;", "# files\nroot /srv; # here\n index a.html  b.html;\n",
		`add_header X "a;  #b}" always;`, "root '/a b';\r\nexpires\t1h;", "root /srv", "root /srv; }", "root /a#b;#c"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		all, err := ParseContent(text)
		if err != nil {
			if all != nil {
				t.Errorf("%q with %v", all, err)
			}
			return
		}
		again, err := ParseContent(strings.Join(all, ";\n") + ";\n")
		if err != nil || !slices.Equal(again, all) {
			t.Errorf("%q is taken as %q, and that as %q, %v", text, all, again, err)
		}
		if words := nginxWords(strings.Join(all, ";\n") + ";\n"); len(words) != len(all) {
			t.Errorf("nginx reads %q of %q", words, text)
		} else {
			for _, first := range words {
				if !slices.Contains(contentDirectives, first) {
					t.Errorf("%q is taken from %q", first, text)
				}
			}
		}
	})
}

// What is closed by a pattern that a matcher may give up on is told by what is around it, which it does not give up on.
func TestClosedPatternsAreSimple(t *testing.T) {
	gives := regexp.MustCompile(`\(\?:/\[\^/\?\]\+\)\*.*\(\?:/\[\^/\?\]\+\)\*|\*[^/]*\[\^/\?\]\*.*\[\^/\?\]\*`)
	for path, want := range map[string]string{
		"/open/**/p/**/q": "/open(?:[/? ]|$)", "/open/a*b*c": "/open(?:[/? ]|$)", "/open/**/q": "", "/open/p/**": "", "/open/a*/b*": "",
	} {
		book := parse(t, fmt.Sprintf("unlisted: public\ndoors:\n  - { path: %q, admit: nobody }\n  - { path: /open/**, admit: public }\n", path))
		site := Site{Book: book, SkipPublic: true}
		o := site.open()
		if len(o.closed) != 1 {
			t.Fatalf("%s: %+v", path, o)
		}
		if got := o.closed[0].door.Path; want != "" && got != want || want == "" && gives.MatchString(got) {
			t.Errorf("%s is told as %s", path, got)
		}
	}
}
