package policy

import "testing"

const lighthouse = `
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

func parse(t testing.TB, text string) *Book {
	t.Helper()
	book, findings := Parse("doors.yaml", []byte(text))
	for _, f := range findings {
		t.Errorf("%d:%d: %s", f.Line, f.Column, f.Message)
	}
	if book == nil {
		t.FailNow()
	}
	return book
}

// Each policy has its errors marked: the line, the column and words of the message.

// meets is the plain reading of a demand, not by ways.

// On a site without letter case the own pages are found in any case, wherever the keys

// stand in the file.
