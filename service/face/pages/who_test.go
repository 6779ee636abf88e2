package pages

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/url"
	"slices"
	"testing"
	"time"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

// anything is a text for a field of an answer, often one that has to be escaped, or none.
func anything(r *rand.Rand) string {
	texts := []string{"", "", "/rota/", "GET", `a"b\c`, "<b>&amp;", "Käthe", "\x00\n\t", "\xff", "\u2028", "😀", string(rune(r.IntN(0x300)))}
	return texts[r.IntN(len(texts))] + texts[r.IntN(len(texts))]
}

func textsOf(r *rand.Rand) []string {
	all := []string{}
	for range r.IntN(3) {
		all = append(all, anything(r))
	}
	return all
}

// What is written by hand is what encoding/json writes, for each field and without it.
func TestToldAsJSON(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 5000 {
		me := client.Me{
			SignedIn: r.IntN(2) == 0, Name: anything(r), Roles: textsOf(r), Unlocked: textsOf(r), Passes: textsOf(r), Idle: r.IntN(2) * r.IntN(9000),
		}
		for _, at := range []**time.Time{&me.Proven, &me.Ends} {
			if r.IntN(2) == 0 {
				*at = timeOf(time.Unix(r.Int64N(4e9), r.Int64N(1e9)))
			}
		}
		for _, way := range []*string{&me.Ways.SignIn, &me.Ways.SignOut, &me.Ways.Account, &me.Ways.ProveAgain, &me.Ways.Unlock,
			&me.Ways.Join, &me.Ways.Recover} {
			*way = anything(r)
		}
		may := client.May{Places: []client.PlaceToGo{}}
		for range r.IntN(4) {
			may.Places = append(may.Places,
				client.PlaceToGo{
					Path: anything(r), Method: anything(r), May: r.IntN(2) == 0, Outcome: anything(r), Code: anything(r), Name: anything(r),
					Go: anything(r),
				})
		}
		for _, told := range []struct {
			value any
			got   []byte
		}{{me, appendMe(nil, &me)}, {may, appendMay(nil, &may)}} {
			if want, err := json.Marshal(told.value); err != nil || !bytes.Equal(told.got, want) {
				t.Fatalf("is   %s\nwant %s", told.got, want)
			}
		}
	}
}

// Addresses in a query are read as url.ParseQuery reads them.
func FuzzAsked(f *testing.F) {
	for _, query := range []string{"", "path=/a", "path=/a&path=%2Fb%3Fx&method=POST", "p%61th=/x+y", "method=&method=GET&path=/",
		"path=/a;path=/b", "path=%zz", "other=%zz", "path", "&&path==&=path"} {
		f.Add(query)
	}
	f.Fuzz(func(t *testing.T, query string) {
		got, ok := readQuery(query)
		values, err := url.ParseQuery(query)
		if ok != (err == nil) {
			t.Fatalf("%q: read %v, %v", query, ok, err)
		}
		if !ok {
			return
		}
		var want []client.AskedPlace
		for _, path := range values["path"] {
			want = append(want, client.AskedPlace{Path: path, Method: values.Get("method")})
		}
		if !slices.Equal(got, want[:min(len(want), mostAsked+1)]) {
			t.Fatalf("%q: %v, want %v", query, got, want)
		}
	})
}

// What is kept of questions is bounded, and is of one policy and one host.
func TestQuestionsKept(t *testing.T) {
	load := func(doors string) *policy.Book {
		book, findings := read.Parse("doors.yaml", []byte("site: T\nsources: [ { path: /, files: . } ]\ndoors:\n"+doors))
		if book == nil {
			t.Fatal(findings)
		}
		return book
	}
	one, other := load("  - { path: /a, admit: public }\n"), load("  - { path: /a, admit: nobody }\n")
	var kept askings
	outcome := func(book *policy.Book, host, query string) policy.Outcome {
		all, ok := kept.of(book, host, query)
		if !ok || len(all) != 1 {
			t.Fatal(query, all)
		}
		return book.Judge(all[0].read.Place, all[0].read.Doors(), &policy.Visitor{}).Outcome
	}
	for range 2 {
		for book, want := range map[*policy.Book]policy.Outcome{one: policy.Admit, other: policy.Refuse} {
			for range 2 {
				if got := outcome(book, "h", "path=/a"); got != want {
					t.Errorf("%s, want %s", got, want)
				}
			}
		}
	}
	for i := range 1000 {
		outcome(one, fmt.Sprint("h", i), "path=/a")
		if len(kept.kept) > mostQuestions {
			t.Fatal("grows without bound")
		}
	}
	if all, _ := kept.of(one, "x.example", "path=/a"); all[0].read.Place.Host != "x.example" {
		t.Error(all[0].read.Place)
	}
	long := "path=/a&" + string(bytes.Repeat([]byte("x"), mostQuestion))
	outcome(one, "h", long)
	if _, there := kept.kept[asked{"h", long}]; there {
		t.Error("a long question is kept")
	}
}
