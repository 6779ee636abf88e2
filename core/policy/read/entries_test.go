package read_test

import (
	"slices"
	"strings"
	"testing"

	"ostiarius/core/document"
	"ostiarius/core/policy/read"
	"ostiarius/core/policy/sample"
)

// rulesIn returns the findings about a text as rule and place.
func rulesIn(text string) (all []string) {
	_, findings := read.Parse("doors.yaml", []byte(text))
	for _, f := range findings {
		all = append(all, f.Rule+" "+f.Message)
	}
	return all
}

// Each entry of a list is read, whatever is wrong with those before.
func TestEachEntryIsRead(t *testing.T) {
	for text, want := range map[string][]string{
		sample.AnyDoor + "pages: { sign-in: /door/sign-in }":                                       {"bad-value sign-in"},
		sample.AnyDoor + "roles: { a: { includes: b }, b: { includes: c }, c: { includes: b } }":   {"role-circle"},
		"doors: [{ path: /, admit: { role: [ \"a b\", \"c d\" ] } }]":                              {"\"a b\"", "\"c d\""},
		sample.AnyDoor + "roles: { keeper: }\noffers: { \"x y\": { say: a }, kepper: { say: b } }": {"\"x y\"", "\"kepper\""},
		sample.AnyDoor + "factors: { wanted: [ { role: keeper }, { role: nobody-has, factor: two } ] }": {"names a role and a factor",
			"nobody-has"},
	} {
		said := rulesIn(text)
		for _, w := range want {
			i := slices.IndexFunc(said, func(s string) bool {
				return strings.Contains(s, w)
			})
			if i < 0 {
				t.Errorf("%s: nothing says %s: %q", text, w, said)
				continue
			}
			said = slices.Delete(said, i, i+1)
		}
	}
	book := sample.Parse(t, `roles: { keeper: , trustee: }
doors: [ { path: /log, admit: { role: keeper } }, { path: /office, admit: { role: trustee } } ]
sources: [ { path: /, files: ., fallback: index.html, listing: true } ]
elsewhere: { harbour: { title: Harbour, issuer: "https://id.example", client: marram, grants: [ { claim: groups, holds: crew, role:
  keeper }, { claim: groups, holds: board, role: trustee } ] } }
factors: { wanted: [ { role: keeper, factor: two }, { role: trustee, factor: passkey } ] }
events: { fields: { order: /data/order, type: /kind } }
`)
	if s := book.Sources[0]; s.Fallback != "index.html" || !s.Listing {
		t.Errorf("%+v", s)
	}
	if all := book.Elsewhere[0].Grants; len(all) != 2 || all[1].Role != "trustee" {
		t.Errorf("%+v", all)
	}
	if all := book.Factors.Wanted; len(all) != 2 || all[1].Factor != "passkey" {
		t.Errorf("%+v", all)
	}
	if at := book.Events.Fields.At; len(at) != 2 || at["order"] != "/data/order" {
		t.Errorf("%+v", at)
	}
	_, findings := read.Parse("doors.yaml",
		[]byte("doors: [{ path: /shut, admit: nobody }]\nunlisted: signed-in\npages: { missing: /shut }\n"))
	if !slices.ContainsFunc(findings,
		func(f document.Finding) bool { return strings.Contains(f.Message, "in the place of what is not there") }) {
		t.Errorf("a page that nobody may see is taken: %+v", findings)
	}
}
