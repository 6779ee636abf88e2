package read_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"ostiarius/core/document"
	"ostiarius/core/policy/read"
	"ostiarius/core/policy/sample"
)

func compiledSchema(t testing.TB) *jsonschema.Schema {
	t.Helper()
	var parsed any
	if err := json.Unmarshal(read.Schema(), &parsed); err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("policy.json", parsed); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("policy.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// beyondSchema are the rules of errors that a schema cannot know.
var beyondSchema = []string{
	"unknown-role", "unknown-keyring", "unknown-shared", "unknown-pass", "unknown-shop", "duplicate-door", "duplicate-source",
	"role-circle", "own-pages", "bad-network",
	"impossible-name", "too-entangled", "too-deep",
}

// agree compares schema and decoder on one policy, given as a value.
func agree(t testing.TB, s *jsonschema.Schema, value any) (valid bool) {
	t.Helper()
	text, err := json.Marshal(value) // JSON is YAML
	if err != nil {
		t.Fatal(err)
	}
	text = bytes.ReplaceAll(text, []byte("\u200b"), []byte(`\u200b`)) // what cannot be seen is written out
	invalid := s.Validate(value)
	_, findings := read.Parse("doors.yaml", text)
	var errors []document.Finding
	for _, f := range findings {
		if f.Severity == document.SeverityError && !slices.Contains(beyondSchema, f.Rule) {
			errors = append(errors, f)
		}
	}
	if (invalid == nil) != (len(errors) == 0) {
		t.Errorf("%s\nthe schema says %v\nthe decoder says %+v", text, invalid, errors)
	}
	return invalid == nil
}

// Random policies, most of them nearly right: each place in them is filled by a good
// value or, now and then, by one that is wrong or odd.
type scribe struct{ *rand.Rand }

// pick returns one of the choices, the first two of which are good, most often one of
// these.
func (r scribe) pick(good ...any) any {
	switch n := r.IntN(300); {
	case n == 0:
		odd := []any{nil, 0, 1, -1, 1.5, true, "", " ", "\u00a0", "x", "hide", "public", "**", "//", "/../x", []any{}, []any{"x", "x"},
			map[string]any{}, map[string]any{"x": nil}, "0", "\u200b", "/a\u0085"}
		return odd[r.IntN(len(odd))]
	case n > 25:
		good = good[:min(2, len(good))]
	}
	return good[r.IntN(len(good))]
}

func (r scribe) maybe(into map[string]any, key string, value func() any) {
	if r.IntN(3) == 0 {
		into[key] = value()
	}
	if r.IntN(300) == 0 {
		into[key+"s"] = value()
	}
}

func (r scribe) many(value func() any) any {
	if r.IntN(2) == 0 {
		return value()
	}
	list := []any{}
	for range 1 + r.IntN(3) {
		if v := value(); r.IntN(40) == 0 || !slices.ContainsFunc(list, func(other any) bool { return reflect.DeepEqual(other, v) }) {
			list = append(list, v)
		}
	}
	return list
}

func (r scribe) path() any {
	segments := []string{"a", "b.c", "*", "**", "a*", "*b*", "...", ".a", "..a", ".*", "é", "a b", ".", "..", "", "a**", "%41", "%",
		"a;b", "a?b", "\\", "x\x00", "\u0085"}
	var b strings.Builder
	for range r.IntN(5) {
		n := 12
		if r.IntN(100) == 0 {
			n = len(segments)
		}
		b.WriteString("/" + segments[r.IntN(n)])
	}
	if r.IntN(3) == 0 {
		b.WriteByte('/')
	}
	if r.IntN(60) == 0 {
		b.WriteString(strings.Repeat("/a", 57+r.IntN(8)))
	}
	return r.pick("/"+strings.TrimPrefix(b.String(), "/"), "/x", b.String())
}

func (r scribe) address() any {
	return r.pick("/", "/rota/", "/rota/?week=3&x=%20", "/café", "/a b/", "//x", "/a//b", "/a/../b", "/a%20b", "/*", "/?", "/?a b",
		"/?%4", "https://x/", "/a;b", "/a#b", "/...", "/a?b?c", "/\\x")
}

func (r scribe) duration() any {
	return r.pick("10m", "30d", "1h30m", "1d12h", "0", 0, "0s", "1.5h", "5", "m", "-1m", "99999d", "9999d", "1d1d", "100000h",
		"1h1h1h1h1h1h", "1h1h1h1h1h1h1h", 10)
}

func (r scribe) name() any {
	return r.pick("keeper", "trustee", "a-b_C", "x y", "é", strings.Repeat("n", 64), strings.Repeat("n", 65), "keeper")
}

func (r scribe) demand(depth int) any {
	if depth > 3 || r.IntN(3) == 0 {
		return r.pick("public", "signed-in", "nobody", "publik")
	}
	d := map[string]any{}
	for _, key := range []string{"role", "shared", "pass", "keyring"} {
		r.maybe(d, key, func() any { return r.many(r.name) })
	}
	r.maybe(d, "user", func() any {
		return r.many(func() any {
			return r.pick("ines", "Walt", "a@b.example", "a b", "a,b", "a:b", "é", "a\u00a0b", "a\u2003b")
		})
	})
	r.maybe(d, "network", func() any {
		return r.many(func() any {
			return r.pick("10.0.0.0/8", "2001:db8::/32", "192.0.2.1", "x", "10.0.0.0/8x", "10.0.0.1/8")
		})
	})
	r.maybe(d, "proof-within", r.duration)
	r.maybe(d, "factor", func() any {
		if r.IntN(10) == 0 {
			return r.pick("password", []any{}, []any{"code", "code"})
		}
		return r.pick("passkey", "code", "two", []any{"passkey", "code"})
	})
	for _, key := range []string{"any", "all"} {
		r.maybe(d, key, func() any { return r.pick([]any{r.demand(depth + 1), r.demand(depth + 1)}, []any{r.demand(depth + 1)}) })
	}
	if len(d) == 0 && r.IntN(20) > 0 {
		return "public"
	}
	return d
}

func (r scribe) instead() any {
	return r.pick("hide", map[string]any{"go": r.address()}, map[string]any{"say": r.pick("No.", "Never")},
		map[string]any{"say": "a", "go": "/"}, "away")
}

func (r scribe) policy() any {
	door := func() any {
		d := map[string]any{"path": r.many(r.path), "admit": r.demand(0)}
		if r.IntN(30) == 0 {
			delete(d, []string{"path", "admit"}[r.IntN(2)])
		}
		r.maybe(d, "host", func() any {
			return r.pick("a.example", "*.a.example", "A", "a:80", "a.*.b", "*.", "*", "[::1]", "127.0.0.1", "a..b", "a.", ".a",
				strings.Repeat("a", 254))
		})
		r.maybe(d, "methods", func() any { return r.many(func() any { return r.pick("GET", "POST", "X-Y", "get", "A B", "É") }) })
		r.maybe(d, "ask", func() any { return r.pick("form", "basic", "html") })
		if d["ask"] == "basic" || r.IntN(100) == 0 {
			r.maybe(d, "realm", func() any { return r.pick("Office", "A \"b\"") })
		}
		r.maybe(d, "forward-credentials", func() any { return r.pick(true, false, "yes") })
		r.maybe(d, "otherwise", func() any {
			o := map[string]any{}
			r.maybe(o, "anonymous", r.instead)
			r.maybe(o, "refused", r.instead)
			if len(o) == 0 && r.IntN(20) > 0 {
				return "hide"
			}
			return r.pick("hide", o, o)
		})
		return d
	}
	p := map[string]any{"doors": []any{door(), door()}}
	if r.IntN(50) == 0 {
		p["doors"] = r.pick([]any{}, nil, door())
	}
	r.maybe(p, "site", func() any { return r.pick("Marram", "7") })
	r.maybe(p, "prefix", func() any { return r.pick("/door", "/_/door/", "/", "/a*", "door", "/a;b") })
	r.maybe(p, "case", func() any { return r.pick("sensitive", "insensitive", "both") })
	r.maybe(p, "semicolons", func() any { return r.pick("rejected", "allowed") })
	r.maybe(p, "unlisted", func() any { return r.pick("public", "signed-in", "refuse", "hide", "nobody") })
	r.maybe(p, "roles", func() any {
		roles := map[string]any{}
		for range r.IntN(3) {
			roles[fmt.Sprint(r.name())] = r.pick(nil, map[string]any{}, map[string]any{"includes": r.many(r.name)}, map[string]any{"include": "x"})
		}
		return r.pick(roles, roles, nil)
	})
	r.maybe(p, "keyrings", func() any {
		return r.pick(nil, map[string]any{"outer": nil}, map[string]any{"outer": map[string]any{"realm": r.pick("R")}},
			map[string]any{"ou ter": nil})
	})
	r.maybe(p, "shared", func() any {
		d := map[string]any{}
		r.maybe(d, "title", func() any { return r.pick("Press kit", " ") })
		r.maybe(d, "lasts", func() any { return r.pick(0, "forever", "7d", "0", "ever", 5) })
		r.maybe(d, "say", func() any { return r.pick("Ask us.", 3) })
		return r.pick(nil, map[string]any{"keeper": nil}, map[string]any{"press-kit": d}, map[string]any{"k t": nil})
	})
	r.maybe(p, "passes", func() any {
		d := map[string]any{}
		r.maybe(d, "title", func() any { return r.pick("Recordings", " ") })
		r.maybe(d, "lasts", func() any { return r.pick("forever", "14d", "1d12h", "ever") })
		r.maybe(d, "counts-from", func() any { return r.pick("issue", "first-use", "use") })
		r.maybe(d, "downloads", func() any { return r.pick(1, 10, "any", 0, -1, 1.5, "ten", 1<<40) })
		r.maybe(d, "networks", func() any { return r.pick(4, "any", 0) })
		r.maybe(d, "spread", func() any { return r.pick("note", "pause", "stop") })
		r.maybe(d, "go", r.path)
		return r.pick(nil, map[string]any{"keeper": nil}, map[string]any{"recordings": d}, map[string]any{"recordings": d, "trustee": nil})
	})
	r.maybe(p, "sources", func() any {
		s := map[string]any{}
		r.maybe(s, "path", r.path)
		r.maybe(s, "host", func() any { return r.pick("a.example", "b.example", "a:80") })
		r.maybe(s, "files", func() any { return r.pick("./site", "/srv") })
		if s["files"] != nil {
			r.maybe(s, "cache", r.duration)
			r.maybe(s, "routes", func() any {
				return r.pick("routes.json",
					[]any{map[string]any{"path": "/a"}, map[string]any{"path": "/b", "data": []any{"/api/b", "POST /api/b"}}},
					[]any{map[string]any{"data": "/x"}}, []any{}, 5, "")
			})
			r.maybe(s, "fallback", func() any { return r.pick("index.html", "app.html", ".x", "a/b", "", 1) })
			r.maybe(s, "shell", func() any { return r.pick("public", "public", "closed") })
			r.maybe(s, "attachment", func() any { return r.pick("zip", []any{"wav", "ZIP"}, ".zip", []any{}, 1) })
		}
		if s["path"] != nil && r.IntN(30) > 0 {
			s["path"] = r.pick("/", "/a/b.c/", "/a*")
		}
		if s["files"] != nil && r.IntN(30) > 0 {
			return []any{s}
		}
		s["proxy"] = "http://127.0.0.1:8461"
		r.maybe(s, "strip-prefix", func() any { return r.pick(true, 1) })
		r.maybe(s, "forward-fields", func() any { return []any{r.pick("X-Real-IP", "X_Odd")} })
		r.maybe(s, "timeout", r.duration)
		r.maybe(s, "proxy", func() any {
			return r.pick("http://127.0.0.1:80", "https://x/", "http://[::1]:80", "ftp://x", "http://x/y", "http://a@b", "http://x?y",
				"http://:80", "unix:log.sock", "unix:")
		})
		return r.pick([]any{s}, []any{s, map[string]any{"path": "/only", "files": "x"}})
	})
	r.maybe(p, "landings", func() any {
		l := map[string]any{}
		for _, key := range []string{"sign-in", "sign-out", "join", "password-change", "paid"} {
			r.maybe(l, key, func() any {
				line := map[string]any{"go": r.address()}
				r.maybe(line, "role", r.name)
				r.maybe(line, "user", func() any { return r.pick("ines", "walt", "a b") })
				return r.pick([]any{line}, []any{line}, []any{map[string]any{"role": "x"}})
			})
		}
		return r.pick(l)
	})
	r.maybe(p, "origins", func() any {
		return r.pick("https://desk.marram.example", []any{"http://localhost:8000", "https://a.example"}, "*", "null",
			"https://A.example", "https://a.example/", []any{}, 1)
	})
	r.maybe(p, "entrance", func() any { return r.pick("/keepers-7f3", "/café/", "/", "/a*", "keepers") })
	r.maybe(p, "pages", func() any {
		l := map[string]any{}
		r.maybe(l, "sign-in", r.address)
		r.maybe(l, "missing", r.address)
		r.maybe(l, "other", r.address)
		return r.pick(l)
	})
	r.maybe(p, "looks", func() any {
		l := map[string]any{}
		r.maybe(l, "accent", func() any { return r.pick("#8a6d1c", "#fff", "8a6d1c", "red", "#ffff") })
		r.maybe(l, "dark", func() any {
			return r.pick(map[string]any{"ink": "#eee"}, map[string]any{}, map[string]any{"ink": "white"}, "no")
		})
		r.maybe(l, "scheme", func() any { return r.pick("both", "dark", "dim") })
		r.maybe(l, "logo", func() any { return r.pick("./logo.svg", "x.PNG", "key.pem") })
		return r.pick(l)
	})
	r.maybe(p, "words", func() any {
		return r.pick(map[string]any{"en": map[string]any{"sign-in.title": "Entrance"}}, "./words.yaml", "words.txt", map[string]any{},
			map[string]any{"fr": map[string]any{}}, map[string]any{"de": map[string]any{"sign-in.titel": "x"}},
			map[string]any{"en": map[string]any{"sign-in.title": 7}})
	})
	r.maybe(p, "joining", func() any {
		j := map[string]any{}
		r.maybe(j, "by", func() any { return r.pick("nobody", "invitation", "approval", "anybody", "everybody") })
		r.maybe(j, "address", func() any { return r.pick("proven", "unproven", "known") })
		r.maybe(j, "grants", func() any {
			g := map[string]any{"role": r.name()}
			r.maybe(g, "for", r.duration)
			return r.pick([]any{g}, []any{g}, []any{map[string]any{"for": "3d"}}, []any{})
		})
		r.maybe(j, "leave", func() any { return r.pick("never", "7d", "soon", 0) })
		r.maybe(j, "terms", r.address)
		return r.pick(j)
	})
	sale := func() any {
		return r.pick("/shop/", "https://shop.example/a?b=%20", "https://shop.example", "http://[::1]:80/#x", "https:/x", "ftp://x",
			"https://a@b/", "https://x/ y", "https://x/%zz")
	}
	r.maybe(p, "shops", func() any {
		return r.many(func() any {
			return r.pick("https://shop.example", "http://[::1]:80", "https://shop.example/", "shop.example", "https://-x")
		})
	})
	r.maybe(p, "items", func() any {
		item := map[string]any{}
		r.maybe(item, "title", func() any { return r.pick("A year", " ") })
		r.maybe(item, "role", func() any { return r.many(func() any { return r.pick("keeper", "trustee", "steward") }) })
		r.maybe(item, "pass", func() any { return r.many(r.name) })
		r.maybe(item, "for", r.duration)
		if item["for"] != nil && item["role"] != nil || r.IntN(50) == 0 {
			r.maybe(item, "grace", r.duration)
			r.maybe(item, "after", func() any {
				return r.pick(map[string]any{"role": "keeper", "for": "14d"}, map[string]any{"role": "keeper"}, map[string]any{"for": "14d"},
					map[string]any{"role": "steward"})
			})
		}
		if item["pass"] != nil || r.IntN(50) == 0 {
			r.maybe(item, "path", func() any {
				return r.many(func() any {
					return r.pick("/a/**", "/a/b", "/a/", "/", "/**", "/a*", "/a/**/b", "/..", "/a/../b", "a", "//", "/a//b/**")
				})
			})
		}
		r.maybe(item, "go", sale)
		name := fmt.Sprint(r.pick("year-of-support", "a/b:c.d+1", "x y", "", "-a", strings.Repeat("n", 101)))
		return r.pick(map[string]any{name: item}, nil, map[string]any{name: nil})
	})
	r.maybe(p, "offers", func() any {
		o := map[string]any{}
		r.maybe(o, "say", func() any { return r.pick("Five pounds.", " ") })
		r.maybe(o, "go", sale)
		return r.pick(map[string]any{"keeper": o}, map[string]any{"steward": o}, nil, map[string]any{"k r": o})
	})
	r.maybe(p, "events", func() any {
		fields := map[string]any{}
		r.maybe(fields, "type", func() any { return r.pick("/event", "/a~1b/0", "type", "/~", "/~2", strings.Repeat("/a", 21)) })
		r.maybe(fields, "item-name", func() any { return r.pick("/x", "/", "") })
		r.maybe(fields, "sum", func() any { return "/x" })
		return r.pick(map[string]any{"fields": fields},
			map[string]any{"types": map[string]any{"sale.settled": r.pick("paid", "lapsed", "sold")}}, map[string]any{})
	})
	r.maybe(p, "reminders", func() any { return r.many(func() any { return r.pick("14d", "2d", "12h", "30m", "0d", 0, "1d12h") }) })
	r.maybe(p, "checks", func() any {
		c := map[string]any{"path": "/orders/*", "admit": r.demand(1)}
		r.maybe(c, "methods", func() any { return "POST" })
		name := "approve"
		switch r.IntN(60) {
		case 0:
			c["realm"] = "x"
		case 1:
			name = "a b"
		case 2:
			delete(c, "admit")
		}
		return map[string]any{name: c}
	})
	r.maybe(p, "elsewhere", func() any {
		if r.IntN(4) != 0 {
			return nil
		}
		e := map[string]any{"issuer": r.pick("https://id.example", "https://id.example/a", "http://localhost:8080", "https://id.example",
			"https://id.example/b", "http://[::1]:80", "https://id.example", "http://id.example", "https://id.example?x", "id.example"),
			"client": r.pick("marram", "marram", "marram", "m", "a b")}
		r.maybe(e, "title", func() any { return r.pick("Harbour", "Harbour", " ") })
		r.maybe(e, "joins", func() any { return r.pick(true, false, true, "yes") })
		r.maybe(e, "trusts-address", func() any { return r.pick(true, "true") })
		r.maybe(e, "sign-out", func() any { return r.pick("here", "there", "here", "there", "nowhere") })
		r.maybe(e, "scopes", func() any { return r.many(func() any { return r.pick("groups", "groups", "groups", "a b") }) })
		r.maybe(e, "grants", func() any {
			return r.pick([]any{map[string]any{"claim": "groups", "holds": "crew", "role": "keeper"}}, []any{},
				[]any{map[string]any{"claim": "groups"}}, []any{map[string]any{"claim": "a b", "holds": "x", "role": "keeper"}})
		})
		if r.IntN(10) == 0 {
			delete(e, "client")
		}
		return r.pick(map[string]any{"harbour": e}, nil, map[string]any{"harbour": e}, map[string]any{"harbour": e}, map[string]any{"a b": e})
	})
	r.maybe(p, "factors", func() any {
		f := map[string]any{}
		if r.IntN(2) == 0 {
			return f
		}
		r.maybe(f, "sign-in", func() any { return r.pick("enrolled", "at-doors", "enrolled", "never") })
		r.maybe(f, "remember", r.duration)
		r.maybe(f, "stewards", func() any { return r.pick("passkey", "code", "two", "two", "password") })
		r.maybe(f, "reset", r.duration)
		r.maybe(f, "no-keys", func() any { return r.many(func() any { return r.pick("keeper", "trustee", "steward") }) })
		r.maybe(f, "wanted", func() any {
			return r.pick([]any{map[string]any{"role": "keeper", "factor": "two"}}, []any{}, []any{map[string]any{"role": "keeper"}},
				[]any{map[string]any{"role": "keeper", "factor": "three"}}, map[string]any{})
		})
		return r.pick(f)
	})
	r.maybe(p, "patrol", func() any {
		every := func() any { return map[string]any{"every": r.pick("24h", "7d", "1h", "30m", "0", 0, "24", "1d12h")} }
		return r.pick(every(), every(), map[string]any{}, map[string]any{"evry": "24h"})
	})
	r.maybe(p, "guarantees", func() any {
		g := map[string]any{"path": r.many(r.path)}
		g[[]string{"only", "always", "only", "always", "onli"}[r.IntN(5)]] = r.demand(0)
		if r.IntN(4) == 0 {
			g = map[string]any{"path": "/a", "never": r.pick("public", "public", "signed-in")}
		}
		r.maybe(g, "because", func() any { return r.pick("of the keys", "of the law") })
		r.maybe(g, "methods", func() any { return r.many(func() any { return r.pick("GET", "POST", "get") }) })
		if r.IntN(30) == 0 {
			r.maybe(g, "never", func() any { return "public" })
			r.maybe(g, "path", func() any { return nil })
		}
		return r.pick([]any{g}, []any{g, map[string]any{"path": "/x", "never": "public"}}, []any{})
	})
	r.maybe(p, "headers", func() any {
		h := map[string]any{}
		r.maybe(h, fmt.Sprint(r.pick("X-Frame-Options", "referrer-policy", "X Y", "set-cookie", "X-Own")),
			func() any { return r.pick("DENY", nil, "", "a\nb", "caf\u00e9", 3) })
		return r.pick(h, map[string]any{}, []any{})
	})
	r.maybe(p, "sessions", func() any {
		s := map[string]any{}
		r.maybe(s, "idle", r.duration)
		r.maybe(s, "lifetime", r.duration)
		r.maybe(s, "remembered", r.duration)
		r.maybe(s, "roles", func() any {
			of := map[string]any{}
			r.maybe(of, "idle", r.duration)
			r.maybe(of, "remembered", r.duration)
			return r.pick(map[string]any{"steward": of}, map[string]any{"steward": map[string]any{"roles": of}},
				map[string]any{"steward": nil}, map[string]any{})
		})
		return r.pick(s)
	})
	return p
}

// What the schema admits parses, and what it refuses is refused.
func TestSchemaAgreesWithTheDecoder(t *testing.T) {
	s := compiledSchema(t)
	r := scribe{rand.New(rand.NewPCG(7, 8))}
	valid := 0
	rounds := 1500
	if os.Getenv("ORACLE") == "long" {
		rounds = 10_000
	}
	for range rounds {
		// Through JSON, so that the validator sees the types that JSON has.
		text, _ := json.Marshal(r.policy())
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
		if err != nil {
			t.Fatal(err)
		}
		if agree(t, s, value) {
			valid++
		}
		if t.Failed() {
			break
		}
	}
	if valid < rounds/15 || valid > rounds*9/10 {
		t.Errorf("%d of %d policies were valid; that shows little", valid, rounds)
	}
	var lamp any
	if err := yaml.Unmarshal([]byte(sample.Lighthouse), &lamp); err != nil {
		t.Fatal(err)
	}
	text, _ := json.Marshal(lamp)
	value, _ := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if !agree(t, s, value) {
		t.Error("the schema refuses the lighthouse")
	}
}
