// Package sample has policies, demands and visitors for tests.
package sample

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

// AnyDoor is the least that a policy says about doors.
const AnyDoor = "doors: [{ path: /, admit: public }]\n"

// Lighthouse is a policy with doors of all kinds.
const Lighthouse = `
site: Marram Point Lighthouse Trust
roles:
  volunteer:
  keeper:  { includes: [volunteer] }
  trustee: { includes: [keeper] }
  supporter:
  device:
keyrings:
  outer: { realm: "Trust \"office\"" }
sources:
  - { path: /,    files: ./site }
  - { path: /log, proxy: "http://127.0.0.1:8461" }
unlisted: signed-in
doors:
  - { path: [/, /visit/**, /assets/**], admit: public }
  - { path: /rota/**, admit: signed-in }
  - path: /log/**
    admit: { role: keeper }
    otherwise: { refused: { go: /rota/ask } }
  - { path: /log/**, methods: [POST, DELETE], admit: { role: trustee } }
  - path: /office/**
    admit: { keyring: outer, role: trustee, proof-within: 10m }
    otherwise: hide
  - { path: /vault, admit: { keyring: outer, role: trustee, proof-within: 10m } }
  - { path: /sensors/**, admit: { role: device }, ask: basic, realm: "Sensor feed" }
  - { path: /press/**, admit: { shared: press-kit } }
  - { path: /recordings/**, admit: { any: [ { role: supporter }, { pass: recordings } ] } }
  - { path: /diary, admit: { user: [Ines, walt] } }
  - { path: /hut/**, admit: { all: [ { network: [192.0.2.0/24, "2001:db8::/32"] }, { role: [keeper, device] } ] } }
  - { path: /closed, admit: nobody }
  - path: /members
    admit: { role: supporter }
    otherwise: { anonymous: { say: "Supporters only." }, refused: hide }
  - { path: "/**/*.map", admit: { role: keeper } }
  - { path: /deep/**, admit: { shared: press-kit } }
  - { path: /**, host: "*.staff.example", admit: { role: volunteer } }
landings:
  sign-in:  [ { user: ines, go: /log/ }, { role: trustee, go: /office/ }, { go: /rota/ } ]
  sign-out: [ { go: / } ]
shared: { press-kit: { title: Press kit, lasts: 7d } }
passes: { recordings: { title: Sound recordings, lasts: 14d, downloads: 10 } }
sessions: { idle: 30m, lifetime: 12h, remembered: 0 }
`

// Parse reads a policy that has to be sound.
func Parse(t testing.TB, text string) *policy.Book {
	t.Helper()
	book, findings := read.Parse("doors.yaml", []byte(text))
	for _, f := range findings {
		t.Errorf("%d:%d: %s", f.Line, f.Column, f.Message)
	}
	if book == nil {
		t.FailNow()
	}
	return book
}

// Demand makes up a demand.
func Demand(r *rand.Rand, depth int) string {
	if depth < 2 && r.IntN(3) == 0 {
		word := []string{"any", "all"}[r.IntN(2)]
		return fmt.Sprintf("{%s: [%s, %s]}", word, Demand(r, depth+1), Demand(r, depth+1))
	}
	atoms := []string{
		"public", "signed-in", "nobody", "{role: a}", "{role: b}", "{role: c}", "{role: [b, c]}", "{user: ann}", "{user: [ann, bob]}",
		"{shared: s1}", "{shared: [s1, s2]}", "{pass: p1}", "{keyring: k1}", "{keyring: k2}", "{network: 192.0.2.0/24}",
		"{proof-within: 5m}", "{factor: code}", "{factor: [passkey, code], proof-within: 5m}", "{factor: two, role: b}",
		"{role: a, keyring: k1, proof-within: 5m}", "{shared: s1, role: c}",
	}
	return atoms[r.IntN(len(atoms))]
}

// Visitor reads a visitor in the notation for them.
func Visitor(t testing.TB, who string) *policy.Visitor {
	t.Helper()
	v, err := policy.ParseVisitor(who)
	if err != nil {
		t.Fatal(err)
	}
	return &v
}
