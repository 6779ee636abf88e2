package pass

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/secret"
)

var noon = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

// Spans are compared with a file of which each byte is marked by itself.
func TestSpansAgainstMarkedBytes(t *testing.T) {
	random := rand.New(rand.NewPCG(17, 3))
	for range 2000 {
		size := 1 + random.Int64N(120)
		marked := make([]bool, size)
		var s Spans
		for range 1 + random.IntN(12) {
			from := random.Int64N(size)
			to := from + random.Int64N(size-from+1)
			before := slices.Clone(s)
			next := s.Add(Span{from, to})
			if !slices.Equal(before, s) {
				t.Fatalf("adding changed %v to %v", before, s)
			}
			s = next
			for i := from; i < to; i++ {
				marked[i] = true
			}
		}
		total := int64(0)
		for i, has := range marked {
			if has {
				total++
			}
			if s.Holds(int64(i)) != has {
				t.Fatalf("%v holds %d: %v", s, i, !has)
			}
		}
		if s.Total() != total {
			t.Fatalf("%v has %d, want %d", s, s.Total(), total)
		}
		for i := 1; i < len(s); i++ {
			if s[i].From <= s[i-1].To {
				t.Fatalf("%v is not in order", s)
			}
		}
		read, err := ReadSpans(s.String())
		if err != nil || !slices.Equal(read, s) {
			t.Fatalf("%v is read as %v, %v", s, read, err)
		}
		from, room := random.Int64N(size), random.Int64N(size)
		end := from + random.Int64N(size-from+1)
		want, left := from, room
		for want < end && (marked[want] || left > 0) {
			if !marked[want] {
				left--
			}
			want++
		}
		if got := s.Reach(from, end, room); got != want {
			t.Fatalf("from %d to %d with room for %d, %v reaches %d, want %d", from, end, room, s, got, want)
		}
	}
}

// A file that comes in any number of pieces counts once when 95 of 100 bytes have come, and with the very byte.
func TestAFileCountsWhenEnoughHasCome(t *testing.T) {
	random := rand.New(rand.NewPCG(17, 4))
	for range 1000 {
		f := File{Size: 1 + random.Int64N(40<<20)}
		counts := 0
		for f.Has.Total() < f.Size && counts < 2 {
			from := random.Int64N(f.Size)
			if f.Has.Holds(from) {
				from = f.Has.Reach(0, f.Size, 0)
			}
			end := min(f.Size, from+1+random.Int64N(f.Size))
			for from < end {
				step := f.Step(f.Has, from, end)
				if step.To <= from || step.To > end {
					t.Fatalf("%d bytes: a step from %d to %d, before %d", f.Size, from, step.To, end)
				}
				before, after := f.Has.Total(), f.Has.Add(Span{from, step.To})
				enough := (f.Size*95 + 99) / 100
				if step.Counts != (before < enough && after.Total() >= enough) {
					t.Fatalf("%d bytes, %d there, %d then: counts %v", f.Size, before, after.Total(), step.Counts)
				}
				if step.Counts {
					counts++
					if before != enough-1 && before+lastStep < enough {
						t.Fatalf("%d bytes: it counted with %d there", f.Size, before)
					}
				}
				f.Has, from = after, step.To
			}
		}
		if counts != 1 {
			t.Fatalf("%d bytes counted %d times", f.Size, counts)
		}
	}
}

// Whoever fetches a file in more pieces than are told apart has no more than if they were, and is not refused.
func TestManyPieces(t *testing.T) {
	var s Spans
	for i := range int64(1000) {
		s = s.Add(Span{i * 10, i*10 + 1})
	}
	if len(s) > mostSpans || s.Total() < 1000 || s.Total() > 10_000 {
		t.Errorf("%d spans of %d bytes", len(s), s.Total())
	}
	if read, err := ReadSpans(s.String()); err != nil || !slices.Equal(read, s) {
		t.Errorf("they are read as %d spans, %v", len(read), err)
	}
}

func FuzzReadSpans(f *testing.F) {
	for _, text := range []string{"", "0-1", "0-100,250-300", "5-5", "1-0", "-1-2", "0-1,1-2",
		"9223372036854775807-9223372036854775808", "0-9223372036854775807"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s, err := ReadSpans(text)
		if err != nil {
			return
		}
		if again, err := ReadSpans(s.String()); err != nil || !slices.Equal(again, s) {
			t.Fatalf("%q is %v, and then %v, %v", text, s, again, err)
		}
		if s.Total() < 0 {
			t.Fatalf("%v has %d bytes", s, s.Total())
		}
		s.Add(Span{3, 7}).Reach(0, 100, 10)
	})
}

func TestStates(t *testing.T) {
	later, before := noon.Add(time.Hour), noon.Add(-time.Hour)
	for _, test := range []struct {
		pass Pass
		want State
	}{
		{Pass{}, Waiting},
		{Pass{Until: later}, Waiting},
		{Pass{FirstUsed: before, Until: later, Allowed: 2, Used: 1}, Open},
		{Pass{FirstUsed: before, Until: noon}, Ended},
		{Pass{FirstUsed: before, Until: later, Allowed: 2, Used: 2}, UsedUp},
		{Pass{FirstUsed: before, Paused: before, Allowed: 2, Used: 2}, Paused},
		{Pass{Until: before, Paused: before}, Ended},
		{Pass{Until: before, Revoked: before}, Revoked},
		{Pass{Lasts: time.Hour}, Waiting},
	} {
		if got := test.pass.State(noon); got != test.want || got.Opens() != (got == Open || got == Waiting) {
			t.Errorf("%+v is %s, want %s", test.pass, got, test.want)
		}
	}
	if p := (Pass{Lasts: time.Hour}); !p.Starts(noon).Equal(later) {
		t.Error("a pass that counts from its first use begins with it")
	}
	if p := (Pass{Lasts: time.Hour, FirstUsed: before, Until: noon}); !p.Starts(noon).Equal(noon) {
		t.Error("a pass that has begun begins again")
	}
}

func TestCovers(t *testing.T) {
	p := Pass{Paths: []string{"/recordings/tide", "/recordings/fog-bell.wav"}}
	for path, want := range map[string]bool{
		"/recordings/tide": true, "/recordings/tide/low.wav": true, "/recordings/fog-bell.wav": true,
		"/recordings": false, "/recordings/tides": false, "/": false, "/recordings/fog-bell.wave": false,
	} {
		if p.Covers(path) != want {
			t.Errorf("%s: %v", path, !want)
		}
	}
	if !(&Pass{}).Covers("/x") || !(&Pass{Paths: []string{"/"}}).Covers("/x") {
		t.Error("a pass that is not narrowed covers all")
	}
}

// Of credentials those count that the pass has, and those before while they do; those before them never again.
func TestCredentialsThatCount(t *testing.T) {
	p := Pass{}
	n := byte(0)
	give := func(now time.Time, grace time.Duration) time.Time {
		n++
		p.Give(secret.TokenHash{n}, Hash{n}, now, grace)
		return p.Since
	}
	first := give(noon, 0)
	second := give(noon, time.Hour) // in the same millisecond
	if first.Equal(second) || !p.Counts(first, noon) || !p.Counts(second, noon) || p.Counts(first, noon.Add(time.Hour)) {
		t.Errorf("first %v, second %v", first, second)
	}
	third := give(noon.Add(time.Minute), time.Hour)
	if p.Counts(first, noon.Add(time.Minute)) || !p.Counts(second, noon.Add(time.Minute)) || !p.Counts(third, noon.Add(time.Minute)) {
		t.Error("what was before those before counts again")
	}
	give(noon.Add(2*time.Minute), 0)
	if p.Counts(third, noon.Add(2*time.Minute)) || p.Counts(second, noon.Add(2*time.Minute)) {
		t.Error("without grace those before count")
	}
	if p.OldLink != (secret.TokenHash{}) || p.Old != (Hash{}) || !p.OldSince.IsZero() || !p.OldUntil.IsZero() {
		t.Errorf("something of those before is left: %+v", p)
	}
}

func TestPasswordsAreReadAloud(t *testing.T) {
	text, hash, err := NewPassword("abc")
	if err != nil || len(strings.Split(text, "-")) < wordsOfPassword {
		t.Fatal(text, err)
	}
	for _, typed := range []string{text, strings.ToUpper(text), strings.ReplaceAll(text, "-", " "), " " + text + " "} {
		if HashPassword("abc", typed) != hash {
			t.Errorf("%q is not %q", typed, text)
		}
	}
	if HashPassword("abd", text) == hash || HashPassword("abc", text+"x") == hash ||
		HashPassword("abc", strings.ReplaceAll(text, "-", "")) == hash {
		t.Error("another pass or password has the same hash")
	}
	seen := map[string]bool{}
	for range 1000 {
		id := NewID()
		if seen[id] || ReadID(" "+strings.ToUpper(id)) != id {
			t.Fatalf("the name %q", id)
		}
		seen[id] = true
	}
	for _, no := range []string{"", "short", "has a spac", "abcdefghil", "abcdefghjk1", "ébcdefghj"} {
		if ReadID(no) != "" {
			t.Errorf("%q is a name", no)
		}
	}
}

func TestNetworks(t *testing.T) {
	for a, want := range map[string]string{
		"192.0.2.77": "192.0.2.0/24", "::ffff:192.0.2.1": "192.0.2.0/24", "2001:db8:7:1::1": "2001:db8:7::/48", "fe80::1%eth0": "fe80::/48",
	} {
		if got := Network(netip.MustParseAddr(a)).String(); got != want {
			t.Errorf("%s is in %s", a, got)
		}
	}
	if Network(netip.Addr{}).IsValid() {
		t.Error("an unknown address is in a network")
	}
}

func TestReadList(t *testing.T) {
	list := "Address;Name;reference;until;downloads;paths\nada@carrow.example;Ada Carrow;2026-118;2027-03-31;3;/recordings/a " +
		"/recordings/b\n\"b@x.example\";;;;;\nnone;;;;;\n;;;;;\nc@x.example;;;soon;;\nd@x.example;;;;0;\ne@x.example;1;2;3;4;5;6\n"
	entries, err := ReadList(list, time.UTC)
	if err != nil || len(entries) != 7 {
		t.Fatal(entries, err)
	}
	first := entries[0]
	if first.Err != nil || first.Line != 2 || first.Name != "Ada Carrow" ||
		!first.Until.Equal(time.Date(2027, 4, 1, 0, 0, 0, 0, time.UTC)) || first.Downloads != 3 || len(first.Paths) != 2 ||
		entries[1].Err != nil {
		t.Errorf("%+v %+v", first, entries[1])
	}
	for _, e := range entries[2:] {
		if e.Err == nil {
			t.Errorf("%+v", e)
		}
	}
	for _, bad := range []string{"", "name,reference\nx,y\n", "address,colour\n", "address,address\n"} {
		if _, err := ReadList(bad, time.UTC); err == nil {
			t.Errorf("%q was read", bad)
		}
	}
}

func FuzzReadList(f *testing.F) {
	f.Add("address,name\na@b.example,A\n")
	f.Add("address;until\n\"a@b.example;2027-01-01\n")
	f.Add("\ufeffemail\r\na@b.example\r\n")
	f.Fuzz(func(t *testing.T, list string) {
		entries, err := ReadList(list, time.UTC)
		if err != nil {
			return
		}
		for _, e := range entries {
			if e.Err == nil && (e.Address == "" || e.Downloads < 0 || e.Line < 1) {
				t.Fatalf("%q has %+v", list, e)
			}
		}
	})
}
