package read_test

import (
	"strings"
	"testing"
	"time"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/policy/sample"
	"ostiarius/core/words"
)

func TestJoining(t *testing.T) {
	const frame = "unlisted: refuse\nroles: { friend: , supporter: { includes: [friend] } }\ndoors: [{ path: /, admit: public }, { " +
		"path: /terms, admit: public }, { path: /friends/**, admit: { role: friend } }]\nlandings: { sign-in: [{ go: / }], join: [{ role: " +
		"friend, go: /friends/ }] }\n"
	book := sample.Parse(t, frame+"joining: { by: anybody, address: unproven, grants: [ { role: friend, for: 365d } ], terms: /terms }\n")
	j := book.Joining
	if j.By != policy.ByAnybody || !j.Unproven || !j.Asks() || j.Terms != "/terms" || len(j.Grants) != 1 ||
		j.Grants[0] != (policy.JoinGrant{Role: "friend", For: 365 * 24 * time.Hour}) {
		t.Errorf("%+v", j)
	}
	noon := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	if got := j.Grants[0].Until(noon); !got.Equal(noon.AddDate(1, 0, 0)) || !(policy.JoinGrant{Role: "x"}).Until(noon).IsZero() {
		t.Errorf("it ends at %v", got)
	}
	friend := policy.Visitor{SignedIn: true, Roles: []string{"friend"}}
	if got := book.After(policy.AfterJoining, &friend); got != "/friends/" {
		t.Errorf("after joining: %s", got)
	}
	book = sample.Parse(t, "doors: [{ path: /, admit: public }]\nlandings: { sign-in: [{ go: /rota/ }] }\n")
	if book.Joining.By != policy.ByNobody || book.After(policy.AfterJoining, &friend) != "/rota/" {
		t.Errorf("without a word about it: %+v, %s", book.Joining, book.After(policy.AfterJoining, &friend))
	}
	for door, want := range map[string]string{"signed-in": "anyone can register and then see everything that only asks for sign-in: line 1 " +
		"(/x), all places without a door;", "public": "only asks for sign-in: all places without a door;"} {
		_, findings := read.Parse("doors.yaml", []byte("doors: [{ path: /x, admit: "+door+" }]\njoining: { by: anybody }\n"))
		if len(findings) != 1 || findings[0].Rule != "open-to-joiners" || !strings.Contains(findings[0].Message, want) {
			t.Errorf("%s: %v", door, findings)
		}
	}
	_, findings := read.Parse("doors.yaml", []byte("unlisted: hide\nroles: { friend: }\ndoors: [{ path: /friends/**, admit: { role: friend } "+
		"}]\nlandings: { join: [{ go: /friends/ }] }\njoining: { by: anybody }\n"))
	if len(findings) != 1 || !strings.Contains(findings[0].Message, "after joining and turned away again") {
		t.Errorf("a landing that nobody may see who joins: %v", findings)
	}
	for text, want := range map[string]string{
		"joining: { by: everybody }":                                               "by is nobody, invitation, approval or anybody",
		"joining: { by: anybody, grants: [ { role: steward } ] }":                  "registration can't grant this role",
		"joining: { by: anybody, grants: [ { role: freind } ] }":                   `unknown role "freind"; did you mean "friend"?`,
		"joining: { by: anybody, grants: [ { for: 3d } ] }":                        "a grant names a role",
		"joining: { by: anybody, grants: [ { role: friend }, { role: friend } ] }": "granted twice",
		"joining: { by: anybody, terms: https://elsewhere.example/ }":              "a path on this site",
		"joining: { by: anybody, terms: /friends/terms }":                          "turned away again",
		"joining: { by: anybody }":                                                 "",
		"joining: { by: nobody }":                                                  "",
		"joining: { by: approval }":                                                "",
		"joining: anybody":                                                         "is a mapping",
	} {
		_, findings := read.Parse("doors.yaml", []byte(frame+text+"\n"))
		var said []string
		for _, f := range findings {
			said = append(said, f.Message)
		}
		if got := strings.Join(said, "\n"); !strings.Contains(got, want) || (want == "") != (got == "") {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
}

// In German, as in English, no two demands say the same.
func TestDoorsInGerman(t *testing.T) {
	book := sample.Parse(t, sample.Lighthouse)
	for i, want := range map[int]string{
		0: "Alle können diese Seite sehen.",
		4: "Nur Leute mit der Rolle keeper können diese Seite sehen.",
		5: "Nur Leute mit der Rolle trustee können diese Seite mit DELETE oder POST aufrufen.",
		6: "Nur Leute mit der Rolle trustee können diese Seite sehen. Sie müssen außerdem einen Namen und ein Passwort aus dem " +
			"Bund outer angeben und ihr Passwort in den letzten 10 Minuten eingegeben haben.",
	} {
		if got := book.Doors[i].AdmitsIn(words.German, "diese Seite"); got != want {
			t.Errorf("%s says\n%s, want\n%s", book.Doors[i].Label(), got, want)
		}
		if got, want := book.Doors[i].AdmitsIn(words.English, "this page"), book.Doors[i].Admits("this page"); got != want {
			t.Errorf("in English %q, want %q", got, want)
		}
	}
	said := map[string]string{}
	for _, demand := range []string{
		"signed-in", "nobody", "public", "{ role: a }", "{ role: [a, b] }", "{ user: ines }", "{ user: [ines, walt] }", "{ keyring: k }",
		"{ shared: s }", "{ pass: p }", "{ network: 192.0.2.0/24 }", "{ proof-within: 5m }", "{ factor: code }", "{ factor: passkey }",
		"{ factor: [passkey, code] }", "{ factor: two }", "{ factor: passkey, proof-within: 5m }",
		"{ any: [ { role: a }, { user: ines } ] }", "{ all: [ { role: a }, { role: b } ] }", "{ role: a, keyring: k }",
		"{ role: a, shared: s, pass: p }", "{ role: a, network: 192.0.2.0/24 }",
		"{ any: [ { role: a }, { all: [ { role: b }, { user: ines } ] } ] }",
	} {
		book, findings := read.Parse("doors.yaml", []byte("roles: { a: , b: }\nkeyrings: { k: }\nshared: { s: , t: }\npasses: { p: , q: "+
			"}\ndoors: [{ path: /x, admit: "+demand+" }]\n"))
		if book == nil {
			t.Fatalf("%s: %v", demand, findings)
		}
		got := book.Doors[0].AdmitsIn(words.German, "diese Seite")
		if other, there := said[got]; there || !strings.HasSuffix(got, ".") || strings.Contains(got, "  ") || strings.Contains(got, ",.") {
			t.Errorf("%s says %q, as %s", demand, got, other)
		}
		said[got] = demand
	}
}
