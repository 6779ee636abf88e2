package policy_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/factor"
	"ostiarius/core/policy"
	"ostiarius/core/policy/sample"
)

func TestDecideAndAnswer(t *testing.T) {
	book := sample.Parse(t, sample.Lighthouse)
	signIn := func(next string) string { return "303 /door/sign-in?next=" + next }
	for _, test := range []struct {
		request, who string
		outcome      policy.Outcome
		answer       string // status and location or challenge
	}{
		{"GET /", "anonymous", policy.Admit, "200"},
		{"GET /visit/x/y", "anonymous", policy.Admit, "200"},
		{"GET /rota/?week=3&x=a%20b", "anonymous", policy.Challenge, signIn("%2Frota%2F%3Fweek%3D3%26x%3Da%2520b")},
		{"GET /rota", "signed-in", policy.Admit, "200"},
		{"GET /elsewhere", "anonymous", policy.Challenge, signIn("%2Felsewhere")},
		{"GET /elsewhere", "signed-in", policy.Admit, "200"},
		{"GET /log/", "role:volunteer", policy.Refuse, "303 /rota/ask"},
		{"GET /log/", "role:keeper", policy.Admit, "200"},
		{"HEAD /log/", "role:trustee", policy.Admit, "200"},
		{"POST /log/", "role:keeper", policy.Refuse, "403"},
		{"POST /log/", "role:trustee", policy.Admit, "200"},
		{"PUT /log/", "role:keeper", policy.Admit, "200"},
		// Two layers and a fresh proof: from the outside in.
		{"GET /vault", "anonymous", policy.Challenge, `401 Basic realm="Trust \"office\"", charset="UTF-8"`},
		{"GET /vault", "anonymous,keyring:outer", policy.Challenge, signIn("%2Fvault")},
		{"GET /vault", "role:trustee", policy.Challenge, `401 Basic realm="Trust \"office\"", charset="UTF-8"`},
		{"GET /vault", "role:trustee,keyring:outer", policy.Admit, "200"},
		{"GET /vault", "role:trustee,keyring:outer,proof-age:10m", policy.Admit, "200"},
		{"GET /vault", "role:trustee,keyring:outer,proof-age:10m1s", policy.Challenge, "303 /door/prove-again?next=%2Fvault"},
		{"GET /vault", "role:keeper", policy.Refuse, "403"},
		{"GET /vault", "role:keeper,keyring:outer", policy.Refuse, "403"},
		{"GET /office/", "anonymous", policy.Hide, "404"},
		{"GET /office/", "role:keeper", policy.Hide, "404"},
		{"GET /office/", "role:trustee,keyring:outer,proof-age:1h", policy.Challenge, "303 /door/prove-again?next=%2Foffice%2F"},
		{"GET /sensors/", "anonymous", policy.Challenge, `401 Basic realm="Sensor feed", charset="UTF-8"`},
		{"GET /press/kit", "anonymous", policy.Challenge, "303 /door/unlock?next=%2Fpress%2Fkit"},
		{"GET /press/kit", "role:trustee", policy.Challenge, "303 /door/unlock?next=%2Fpress%2Fkit"},
		{"GET /press/kit", "anonymous,shared:press-kit", policy.Admit, "200"},
		{"GET /press/kit", "anonymous,shared:other", policy.Challenge, "303 /door/unlock?next=%2Fpress%2Fkit"},
		{"GET /recordings/a", "anonymous", policy.Challenge, "303 /door/unlock?next=%2Frecordings%2Fa"},
		{"GET /recordings/a", "anonymous,pass:recordings", policy.Admit, "200"},
		{"GET /recordings/a", "role:volunteer", policy.Challenge, "303 /door/unlock?next=%2Frecordings%2Fa"},
		{"GET /diary", "user:ines", policy.Admit, "200"},
		{"GET /diary", "user:INES", policy.Admit, "200"},
		{"GET /diary", "user:agnes", policy.Refuse, "403"},
		{"GET /diary", "anonymous", policy.Challenge, signIn("%2Fdiary")},
		{"GET /hut/", "role:device,from:192.0.2.7", policy.Admit, "200"},
		{"GET /hut/", "role:trustee,from:2001:db8::9", policy.Admit, "200"},
		{"GET /hut/", "role:device,from:::ffff:192.0.2.7", policy.Admit, "200"},
		{"GET /hut/", "role:device,from:198.51.100.7", policy.Refuse, "403"},
		{"GET /hut/", "role:device", policy.Refuse, "403"},
		{"GET /hut/", "anonymous", policy.Refuse, "403"},
		{"GET /hut/", "anonymous,from:192.0.2.7", policy.Challenge, signIn("%2Fhut%2F")},
		{"GET /closed", "role:steward", policy.Refuse, "403"},
		{"GET /closed", "anonymous", policy.Refuse, "403"},
		{"GET /members", "anonymous", policy.Challenge, "403"},
		{"GET /members", "signed-in", policy.Hide, "404"},
		// Two doors cross here, and both must admit.
		{"GET /assets/site.map", "anonymous", policy.Challenge, signIn("%2Fassets%2Fsite.map")},
		{"GET /assets/site.map", "role:keeper", policy.Admit, "200"},
		{"GET /deep/a.map", "role:keeper", policy.Challenge, "303 /door/unlock?next=%2Fdeep%2Fa.map"},
		{"GET /deep/a.map", "anonymous,shared:press-kit", policy.Challenge, signIn("%2Fdeep%2Fa.map")},
		{"GET /deep/a.map", "role:keeper,shared:press-kit", policy.Admit, "200"},
		{"GET /deep/a.map", "role:supporter,shared:press-kit", policy.Refuse, "403"},
		// A door for some hosts crosses the doors for some paths.
		{"GET http://a.staff.example:8460/rota/", "signed-in", policy.Refuse, "403"},
		{"GET http://A.Staff.Example./rota/", "role:keeper", policy.Admit, "200"},
		{"GET http://staff.example/rota/", "signed-in", policy.Admit, "200"},
		{"GET http://a.staff.example/nowhere", "anonymous", policy.Challenge, signIn("%2Fnowhere")},
		// Own pages: no policy locks them up or opens them.
		{"GET /door/sign-in", "anonymous", policy.Admit, "200"},
		{"GET /door/console/", "anonymous", policy.Challenge, signIn("%2Fdoor%2Fconsole%2F")},
		{"GET /door/console/", "role:trustee", policy.Refuse, "403"},
		{"GET /door/api/v1/people", "role:steward", policy.Admit, "200"},
		{"GET http://x.staff.example/door/sign-in", "anonymous", policy.Admit, "200"},
		{"GET /office%2f", "role:trustee", policy.Reject, "400"},
		{"GET /visit/../office/", "anonymous", policy.Hide, "404"},
	} {
		method, address, _ := strings.Cut(test.request, " ")
		r, query, err := policy.ReadRequest(method, address)
		if err != nil {
			t.Fatal(err)
		}
		v := sample.Visitor(t, test.who)
		d := book.Decide(r, v)
		a := book.Answer(d, policy.Browser, query)
		answer := strings.TrimSpace(fmt.Sprint(a.Status, " ", a.Location, a.Authenticate))
		if d.Outcome != test.outcome || answer != test.answer {
			t.Errorf("%s as %s: %s, %s; want %s, %s", test.request, test.who, d.Outcome, answer, test.outcome, test.answer)
		}
		if e := book.Explain(r, v, policy.Browser, query); e.Outcome != d.Outcome || e.Answer.Status != a.Status || len(e.Steps) < 2 {
			t.Errorf("%s as %s: explained as %s %d in %d steps, decided %s %d", test.request, test.who, e.Outcome, e.Answer.Status,
				len(e.Steps), d.Outcome, a.Status)
		}
	}
}

func oracle(b *policy.Book, r policy.Request, v *policy.Visitor) (policy.Outcome, policy.ProofKind) {
	d := b.Decide(r, v) // for the place only
	if d.Outcome == policy.Reject {
		return policy.Reject, ""
	}
	var counting []*policy.Door
	for i := range b.Doors {
		door := &b.Doors[i]
		if !door.Covers(d.Place) {
			continue
		}
		inner := false
		for j := range b.Doors {
			if b.Doors[j].Covers(d.Place) && b.Relate(j, i).String() == "inside" {
				inner = true
			}
		}
		if !inner {
			counting = append(counting, door)
		}
	}
	if len(counting) == 0 {
		counting = []*policy.Door{&b.Unlisted}
	}
	admitted := func(v *policy.Visitor) bool {
		return !slices.ContainsFunc(counting, func(door *policy.Door) bool { return !meets(b, &door.Admit, v) })
	}
	if admitted(v) {
		return policy.Admit, ""
	}
	// Everything that this visitor could prove, cheapest first within each number.
	type proof struct {
		kind policy.ProofKind
		cost int
		give func(*policy.Visitor)
	}
	var proofs []proof
	for _, s := range []string{"s1", "s2"} {
		proofs = append(proofs, proof{policy.ProveShared, 104, func(v *policy.Visitor) { v.Shared = append(slices.Clone(v.Shared), s) }})
	}
	proofs = append(proofs, proof{policy.ProvePass, 102, func(v *policy.Visitor) { v.Passes = append(slices.Clone(v.Passes), "p1") }})
	for _, k := range []string{"k1", "k2"} {
		proofs = append(proofs, proof{policy.ProveKeyring, 105, func(v *policy.Visitor) { v.Keyrings = append(slices.Clone(v.Keyrings), k) }})
	}
	if v.SignedIn {
		proofs = append(proofs, proof{policy.ProveAgain, 101, func(v *policy.Visitor) {
			shown := v.Shown()
			if shown.Kinds.Has(factor.Password) {
				v.Showing(shown.With(factor.Password, 0))
			}
			v.ProofAge = 0
		}})
		proofs = append(proofs, proof{policy.ProveFactor, 102, func(v *policy.Visitor) { v.Showing(v.Shown().With(factor.Password, 0)) }})
	} else {
		// Signing in can make anybody of a stranger: one of the accounts, with any roles.
		for _, name := range []string{"", "ann", "bob"} {
			proofs = append(proofs, proof{policy.ProveSignIn, 103, func(v *policy.Visitor) {
				if v.SignedIn {
					v.Account = "twice" // one cannot sign in as two people
					v.Roles = nil
					v.SignedIn = false
					return
				}
				v.SignedIn, v.Account, v.Roles, v.ProofAge = true, name, []string{"a", "b", "c"}, 0
			}})
		}
	}
	for _, k := range []factor.Kind{factor.Passkey, factor.Code} {
		cost := 150
		if v.Enrolled.Has(k) {
			cost = 102
		}
		proofs = append(proofs, proof{policy.ProveFactor, cost, func(v *policy.Visitor) {
			if v.SignedIn {
				v.Showing(v.Shown().With(k, 0))
			}
		}})
	}
	best, bestSet := 1<<30, 0
	for set := 1; set < 1<<len(proofs); set++ {
		cost := 0
		given := *v
		for i, p := range proofs {
			if set&(1<<i) != 0 {
				cost += p.cost
				p.give(&given)
			}
		}
		if cost < best && admitted(&given) {
			best, bestSet = cost, set
		}
	}
	if bestSet == 0 {
		return policy.Refuse, ""
	}
	var kinds []policy.ProofKind
	for i, p := range proofs {
		if bestSet&(1<<i) != 0 {
			kinds = append(kinds, p.kind)
		}
	}
	for _, first := range []policy.ProofKind{policy.ProveKeyring, policy.ProveSignIn, policy.ProveAgain, policy.ProveFactor,
		policy.ProveShared, policy.ProvePass} {
		if slices.Contains(kinds, first) {
			return policy.Challenge, first
		}
	}
	panic("no proof")
}

func meets(b *policy.Book, d *policy.Demand, v *policy.Visitor) bool {
	holds := func(p policy.Demand) bool { return meets(b, &p, v) }
	switch d.Kind {
	case policy.Public:
		return true
	case policy.Any:
		return slices.ContainsFunc(d.Parts, holds)
	case policy.All:
		return !slices.ContainsFunc(d.Parts, func(p policy.Demand) bool { return !holds(p) })
	case policy.Shared:
		return slices.ContainsFunc(d.Names, func(n string) bool { return slices.Contains(v.Shared, n) })
	case policy.Pass:
		return slices.ContainsFunc(d.Names, func(n string) bool { return slices.Contains(v.Passes, n) })
	case policy.Keyring:
		return slices.ContainsFunc(d.Names, func(n string) bool { return slices.Contains(v.Keyrings, n) })
	case policy.Network:
		return v.From.IsValid() && slices.ContainsFunc(d.Nets, func(n netip.Prefix) bool { return n.Contains(v.From) })
	case policy.SignedIn:
		return v.SignedIn
	case policy.User:
		return v.SignedIn && slices.Contains(d.Names, v.Account)
	case policy.Role: // a includes b, b includes c
		rank := map[string]int{"a": 3, "b": 2, "c": 1}
		return v.SignedIn && slices.ContainsFunc(d.Names, func(asked string) bool {
			return slices.ContainsFunc(v.Roles, func(has string) bool { return rank[has] >= rank[asked] })
		})
	case policy.ProofWithin:
		if d.Factors != nil {
			return v.SignedIn && slices.ContainsFunc(d.Factors, func(word string) bool { return showsFactor(v, word, d.Within) })
		}
		return v.SignedIn && v.ProofAge <= d.Within
	case policy.Factor:
		return v.SignedIn && slices.ContainsFunc(d.Names, func(word string) bool { return showsFactor(v, word, factor.Unknown) })
	}
	return false
}

func showsFactor(v *policy.Visitor, word string, within time.Duration) bool {
	has := func(k factor.Kind) bool {
		if age, ok := v.Factors.Age(k); ok || v.Factors.Kinds != 0 {
			return ok && age <= within
		}
		return k == factor.Password && v.ProofAge <= within
	}
	known, passkey, code := has(factor.Password) || has(factor.Elsewhere), has(factor.Passkey), has(factor.Code)
	switch word {
	case "passkey":
		return passkey
	case "code":
		return code
	}
	return known && passkey || known && code || passkey && code
}

func TestDecideAgainstOracle(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	paths := []string{"/", "/a", "/a/b", "/a/b/c.map", "/b/x", "/b/a", "/c"}
	patterns := []string{"/", "/a", "/a/**", "/a/b", "/**/*.map", "/**/b/**", "/*/b", "/b/**", "/**", "/*", "/b/a"}
	visitors := []string{
		"anonymous", "signed-in", "role:a", "role:b,proof-age:1h", "role:c", "user:ann,proof-age:1h", "user:bob", "anonymous,shared:s1",
		"anonymous,keyring:k1,from:192.0.2.9", "role:c,keyring:k1+k2,proof-age:10m,from:192.0.2.9", "signed-in,pass:p1,shared:s2",
		"role:b,factor:password+code@1h", "user:ann,role:c,proof-age:1h,factor:passkey,enrolled:passkey+code", "role:b,enrolled:code",
		"role:a,factor:elsewhere+passkey@2h",
	}
	for range 400 {
		var text strings.Builder
		text.WriteString("roles: {a: {includes: b}, b: {includes: c}, c: }\nkeyrings: {k1: , k2: }\nshared: {s1: , s2: }\npasses: {p1: }\n")
		fmt.Fprintf(&text, "unlisted: %s\ndoors:\n", []string{"public", "signed-in", "refuse"}[r.IntN(3)])
		for _, i := range r.Perm(len(patterns))[:2+r.IntN(6)] {
			fmt.Fprintf(&text, "  - {path: %q, admit: %s}\n", patterns[i], sample.Demand(r, 0))
		}
		book := sample.Parse(t, text.String())
		for range 30 {
			request := policy.Request{"GET", "", paths[r.IntN(len(paths))]}
			who := visitors[r.IntN(len(visitors))]
			v := sample.Visitor(t, who)
			want, wantProof := oracle(book, request, v)
			d := book.Decide(request, v)
			if d.Outcome != want || want == policy.Challenge && d.Proof.Kind != wantProof {
				t.Fatalf("%s\n%s as %s: %s by %q, want %s by %q", text.String(), request.Path, who, d.Outcome, d.Proof.Kind, want, wantProof)
			}
		}
	}
}

func TestDecideDoesNotAllocate(t *testing.T) {
	book := sample.Parse(t, sample.Lighthouse)
	for _, test := range []struct{ path, who string }{
		{"/visit/tours/", "anonymous"}, {"/log/2026/11", "role:trustee"}, {"/assets/site.map", "role:keeper"},
		{"/rota/", "anonymous"}, {"/office/", "role:keeper"},
	} {
		v := sample.Visitor(t, test.who)
		r := policy.Request{"GET", "marram.example", test.path}
		if n := testing.AllocsPerRun(100, func() { book.Decide(r, v) }); n != 0 {
			t.Errorf("%s as %s: %v allocations", test.path, test.who, n)
		}
	}
}

func TestOwnPagesWithoutCase(t *testing.T) {
	book := sample.Parse(t, "prefix: /Door\ndoors: [{path: /**, admit: nobody}]\ncase: insensitive")
	for path, want := range map[string]policy.Outcome{
		"/door/sign-in": policy.Admit, "/DOOR/Sign-In": policy.Admit, "/Door/Console/": policy.Challenge,
		"/door/API/v1/people": policy.Challenge, "/Doors": policy.Refuse,
	} {
		if d := book.Decide(policy.Request{"GET", "", path}, &policy.Visitor{}); d.Outcome != want {
			t.Errorf("%s: %s, want %s", path, d.Outcome, want)
		}
	}
}
