package recall

import (
	"strconv"
	"sync"
	"testing"
)

// What the records said of a token is known until something changes; what was read before a change is not kept, whenever it comes.
func TestMemory(t *testing.T) {
	m := New[int]()
	is := func(token string, want int, known bool) {
		t.Helper()
		if got, ok := m.Get(token); got != want || ok != known {
			t.Errorf("%s: %d %v, want %d %v", token, got, ok, want, known)
		}
	}
	is("a", 0, false)
	before := m.Version()
	m.Put(before, "a", 1)
	m.Put(before, "b", 2)
	is("a", 1, true)
	is("b", 2, true)
	is("A", 0, false)
	is("", 0, false)
	m.Put(before, "a", 3)
	is("a", 3, true)
	m.Forget()
	is("a", 0, false)
	is("b", 0, false)
	m.Put(before, "a", 4) // it was read before the change
	is("a", 0, false)
	m.Put(m.Version(), "a", 5)
	is("a", 5, true)
	for i := range most + 1 {
		m.Put(m.Version(), "t"+strconv.Itoa(i), i)
	}
	if len(m.known) > most {
		t.Errorf("%d tokens are remembered", len(m.known))
	}
	is("t"+strconv.Itoa(most), most, true)
}

// Another token with the same quick hash is not taken for the one that is known.
func TestOneTokenIsNotAnother(t *testing.T) {
	m := New[int]()
	m.Put(m.Version(), "a", 1)
	for key, e := range m.known {
		e.token = "b"
		m.known[key] = e
	}
	if v, ok := m.Get("a"); ok || v != 0 {
		t.Errorf("%d %v", v, ok)
	}
}

// Many look, remember and forget at once, and nobody is told what another token means.
func TestMemoryForMany(t *testing.T) {
	m := New[int]()
	var all sync.WaitGroup
	for worker := range 8 {
		all.Go(func() {
			for i := range 2000 {
				token := strconv.Itoa((worker + i) % 50)
				if v, ok := m.Get(token); ok && strconv.Itoa(v) != token {
					t.Errorf("%s means %d", token, v)
				}
				m.Put(m.Version(), token, (worker+i)%50)
				if i%100 == worker {
					m.Forget()
				}
			}
		})
	}
	all.Wait()
}
