package pass

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strconv"
	"strings"
	"testing"
	"time"

	"ostiarius/core/secret"
)

// marks are the bytes of a small file, one by one: what Spans say in a few numbers.
type marks [64]bool

func (m *marks) count(from, to int64) (n int64) {
	for at := max(0, from); at < min(to, int64(len(m))); at++ {
		if m[at] {
			n++
		}
	}
	return n
}

// reach is Spans.Reach byte by byte.
func (m *marks) reach(from, end, room int64) int64 {
	for at := from; at < end; at++ {
		if at < int64(len(m)) && m[at] {
			continue
		}
		if room--; room < 0 {
			return at
		}
	}
	return end
}

// Spans say of each byte, each part and each way what marks say, whatever has been added in whatever order, and in one form.
func TestSpansAgainstMarks(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for range 3000 {
		var spans Spans
		var m marks
		for range random.IntN(9) {
			from := random.Int64N(60)
			n := Span{from, from + random.Int64N(6) - 1} // also none, and less than none
			before := spans.String()
			added := spans.Add(n)
			if spans.String() != before {
				t.Fatal("the spans before were changed")
			}
			spans = added
			for at := n.From; at < n.To; at++ {
				m[at] = true
			}
		}
		if spans.Total() != m.count(0, 64) {
			t.Fatalf("%s has %d bytes, want %d", spans, spans.Total(), m.count(0, 64))
		}
		for i, s := range spans {
			if s.From >= s.To || i > 0 && s.From <= spans[i-1].To {
				t.Fatalf("%s are not in one form", spans)
			}
		}
		if again, err := ReadSpans(spans.String()); err != nil || again.String() != spans.String() {
			t.Fatalf("%s is read as %s, %v", spans, again, err)
		}
		for at := range int64(64) {
			if spans.Holds(at) != m[at] {
				t.Fatalf("%s holds %d: %v", spans, at, !m[at])
			}
			for range 3 {
				to, room := at+random.Int64N(12), random.Int64N(8)
				if got, want := spans.Within(Span{at, to}), m.count(at, to); got != want {
					t.Fatalf("%s have %d of %d to %d, want %d", spans, got, at, to, want)
				}
				if got, want := spans.Reach(at, to, room), m.reach(at, to, room); got != want {
					t.Fatalf("%s reach %d from %d to %d with %d, want %d", spans, got, at, to, room, want)
				}
			}
		}
	}
}

// Of more than 200 parts those become one that have the least between them, the first of several; no byte is lost.
func TestMostSpans(t *testing.T) {
	var s Spans
	for i := range int64(200) {
		s = s.Add(Span{i * 100, i*100 + 10})
	}
	if len(s) != 200 {
		t.Fatalf("%d parts", len(s))
	}
	for what, test := range map[string]struct{ add, has, not Span }{
		"the nearest, in the middle": {Span{550, 560}, Span{500, 560}, Span{560, 600}},
		"the nearest, at the end":    {Span{19912, 19920}, Span{19900, 19920}, Span{19810, 19900}},
		"the nearest, at the start":  {Span{12, 20}, Span{0, 20}, Span{20, 100}},
		"the first of all alike":     {Span{20000, 20010}, Span{0, 110}, Span{110, 200}},
	} {
		got := s.Add(test.add)
		if len(got) != 200 || got.Within(test.has) != test.has.To-test.has.From || got.Within(test.not) != 0 {
			t.Errorf("%s: %d parts, %d of %v, %d of %v", what, len(got), got.Within(test.has), test.has, got.Within(test.not), test.not)
		}
		if got.Within(test.add) != test.add.To-test.add.From {
			t.Errorf("%s: what was added is not all there", what)
		}
		for _, span := range s {
			if got.Within(span) != span.To-span.From {
				t.Errorf("%s: %v is not there any more", what, span)
			}
		}
	}
	if _, err := ReadSpans(s.String()); err != nil {
		t.Error(err)
	}
	if _, err := ReadSpans(s.String() + ",30000-30001"); err == nil {
		t.Error("201 parts are read")
	}
	for text, want := range map[string]bool{
		"": true, "0-1": true, "0-1,2-3": true, "0-9223372036854775807": true, "0-0": false, "1-0": false, "-1-2": false,
		"0-1,1-2": false, "0-2,1-3": false,
		"5-6,0-1": false, "0": false, "0-": false, "-": false, "x-1": false, "0-x": false, "0-1,": false, ",0-1": false,
		"0-9223372036854775808": false, " 0-1": false,
	} {
		if _, err := ReadSpans(text); (err == nil) != want {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// A file counts with 95 of 100 of its bytes, rounded up; it is finished with all of them, and counts again with as many.
func TestWhatMakesADownload(t *testing.T) {
	for size, want := range map[int64]int64{0: 0, 1: 1, 19: 19, 20: 19, 21: 20, 39: 38, 40: 38, 100: 95, 1000: 950} {
		for has := range size + 1 {
			f := File{Size: size, Day: "2026-11-25"}
			f.Has = f.Has.Add(Span{0, has})
			if f.Finished() != (has == size) || f.Counted() != (has >= want) || f.CountsAgain(has) != (size > 0 && has >= want) {
				t.Errorf("%d of %d bytes: finished %v, counted %v, again %v", has, size, f.Finished(), f.Counted(), f.CountsAgain(has))
			}
			if f.Day = ""; f.Counted() {
				t.Errorf("%d of %d bytes have counted, and on no day", has, size)
			}
		}
	}
}

// Steps are at most a megabyte, or a sixteenth of the file; the one that makes the file count has 32 kB, and begins just before that.
func TestSteps(t *testing.T) {
	const mega = 1 << 20
	for what, test := range map[string]struct {
		size, from, end int64
		has             Spans
		want            Step
	}{
		"a small file":                {1000, 0, 1000, nil, Step{949, false}},
		"its last step":               {1000, 949, 1000, Spans{{0, 949}}, Step{1000, true}},
		"what was asked for":          {1000, 0, 100, nil, Step{100, false}},
		"a part that was had":         {1000, 0, 1000, Spans{{0, 949}}, Step{949, false}},
		"after it has counted":        {1000, 0, 1000, Spans{{0, 950}}, Step{1000, false}},
		"the end, after it has":       {1000, 950, 1000, Spans{{0, 950}}, Step{1000, false}},
		"up to just before it counts": {1000, 0, 949, nil, Step{949, false}},
		"so much that it counts":      {1000, 0, 950, nil, Step{949, false}},
		"a large file":                {10 * mega, 0, 10 * mega, nil, Step{mega, false}},
		"a larger one":                {32 * mega, 0, 32 * mega, nil, Step{2 * mega, false}},
		"one of sixteen megabytes":    {16 * mega, 0, 16 * mega, nil, Step{mega, false}},
		"from within":                 {32 * mega, 5, 32 * mega, nil, Step{2*mega + 5, false}},
		"the step that counts":        {100 * mega, 95*mega - 1, 100 * mega, Spans{{0, 95*mega - 1}}, Step{95*mega - 1 + 32<<10, true}},
		"a byte before that":          {100 * mega, 95*mega - 2, 100 * mega, Spans{{0, 95*mega - 2}}, Step{95*mega - 1, false}},
		"nothing":                     {1000, 10, 10, nil, Step{10, false}},
	} {
		f := File{Size: test.size}
		if got := f.Step(test.has, test.from, test.end); got != test.want {
			t.Errorf("%s: %+v, want %+v", what, got, test.want)
		}
	}
}

// A list has at most 100,000 passes, and says of each line what is wrong with it first.
func TestLinesOfAList(t *testing.T) {
	for line, want := range map[string]string{
		"a@x.example,1,":                    "1 ok",
		"a@x.example,2147483647,":           "2147483647 ok",
		"a@x.example,2147483648,":           `0 "2147483648" is no number of downloads`,
		"a@x.example,0,":                    `0 "0" is no number of downloads`,
		"a@x.example,-1,":                   `0 "-1" is no number of downloads`,
		"a@x.example,99999999999999999999,": `0 "99999999999999999999" is no number of downloads`,
		"a@x.example,x,":                    `0 "x" is no number of downloads`,
		"a@x.example,,":                     "0 ok",
		",x,":                               `0 "x" is no number of downloads`,
		"nobody,x,soon":                     "0 ",
		",,":                                "0 there is no address",
	} {
		entries, err := ReadList("address,downloads,until\n"+line+"\n", time.UTC)
		if err != nil || len(entries) != 1 {
			t.Fatalf("%q: %v %v", line, entries, err)
		}
		said := "ok"
		if entries[0].Err != nil {
			said = entries[0].Err.Error()
		}
		if got := strconv.Itoa(entries[0].Downloads) + " " + said; !strings.HasPrefix(got, want) || want == "0 " &&
			strings.Contains(said, "downloads") {
			t.Errorf("%q: %s, want %s", line, got, want)
		}
	}
	entries, err := ReadList("address,name\na@x.example,A,B,C\n", time.UTC)
	if err != nil || len(entries) != 1 || entries[0].Err == nil {
		t.Errorf("a line with too much: %+v %v", entries, err)
	}
	const line = "a@x.example\n"
	if entries, err := ReadList("address\n"+strings.Repeat(line, MostEntries), time.UTC); err != nil || len(entries) != 100_000 {
		t.Errorf("%d entries: %v", len(entries), err)
	}
	if _, err := ReadList("address\n"+strings.Repeat(line, MostEntries+1), time.UTC); err == nil {
		t.Error("100,001 entries are taken")
	}
	if _, err := ReadList("address\n\"a@x.example\n", time.UTC); err == nil {
		t.Log("a quote that does not end is a fault of its line")
	}
}

// The shortest grace and life count, as long as they last; credentials have times of their own, to the millisecond.
func TestBoundsOfPasses(t *testing.T) {
	p := Pass{Allowed: 1}
	if p.State(noon) != Waiting {
		t.Error(p.State(noon))
	}
	if p.Used = 1; p.State(noon) != UsedUp {
		t.Error(p.State(noon))
	}
	if p := (Pass{Lasts: 1}); !p.Starts(noon).Equal(noon.Add(1)) {
		t.Error(p.Starts(noon))
	}
	if p := (Pass{Until: noon}); !p.Starts(noon.Add(-time.Hour)).Equal(noon) {
		t.Error("a pass that does not count from its first use begins with it")
	}
	p = Pass{}
	p.Give(secret.TokenHash{1}, Hash{1}, noon.Add(1500*time.Microsecond), 0)
	if !p.Since.Equal(noon.Add(time.Millisecond)) {
		t.Errorf("made at %s", p.Since)
	}
	first := p.Since
	p.Give(secret.TokenHash{2}, Hash{2}, noon.Add(time.Hour), time.Nanosecond)
	if !p.Since.Equal(noon.Add(time.Hour)) || !p.Counts(first, noon.Add(time.Hour)) || p.Counts(first, noon.Add(time.Hour+1)) {
		t.Errorf("%+v", p)
	}
	if SpreadWithin != 24*time.Hour {
		t.Error("a network counts for a day")
	}
	for _, n := range []netip.Addr{{}, netip.MustParseAddr("::"), netip.MustParseAddr("0.0.0.0")} {
		if n.IsValid() != Network(n).IsValid() {
			t.Errorf("%s is in %s", n, Network(n))
		}
	}
	text, hash, err := NewPassword("k7")
	if err != nil || len(strings.FieldsFunc(text, func(r rune) bool { return r == '-' })) < 7 {
		t.Fatal(text, err)
	}
	for _, between := range []string{" ", "_", ".", ",", "--", " - ", ", "} {
		if HashPassword("k7", strings.ReplaceAll(text, "-", between)) != hash {
			t.Errorf("words with %q between them are others", between)
		}
	}
	for _, between := range []string{"", "+", "/", "x"} {
		if HashPassword("k7", strings.ReplaceAll(text, "-", between)) == hash {
			t.Errorf("words with %q between them are the same", between)
		}
	}
	if fmt.Sprint(States) != "[waiting open used-up ended paused revoked]" {
		t.Error(States)
	}
}
