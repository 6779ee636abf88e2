package house

import (
	"bytes"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"ostiarius/service/base/guard"
	"ostiarius/service/held/passes"
)

// Handed is a policy that hands out shared passwords and passes.
const Handed = `shared: { press-kit: { title: Press kit, lasts: 7d }, all: { title: Everything }, gone: }
passes:
  recordings: { title: Sound recordings, lasts: 14d, downloads: 3, networks: 4, spread: pause }
  notes: { title: Notes, lasts: 2d, counts-from: first-use, networks: 2 }
doors:
  - { path: /press/**, admit: { shared: [press-kit, all] } }
  - { path: /recordings/**, admit: { pass: recordings } }
  - { path: /notes/**, admit: { pass: notes } }
  - { path: /hidden/**, admit: { pass: recordings }, otherwise: hide }
  - { path: /, admit: public }
`

// Handing is a house from which access is handed out, and its front, behind which each file has its size in its name.
func Handing(t testing.TB) (*House, *Clock, http.Handler) {
	h, _, c := Open(t)
	h.Book = BookOf(t, Handed)
	h = h.Start(t)
	return h, c, h.Front()
}

// Front is the guard before the site.
func (h *House) Front() http.Handler {
	return &guard.Guard{
		House: func() *guard.House { return &guard.House{Book: h.Book, Site: http.HandlerFunc(serveSized)} },
		Who:   h.Visitors.Who, Again: h.Visitors.Again, Present: h.Visitors.Present, Unlocked: h.Visitors.Unlocked,
		UsedUp: func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "used up", http.StatusForbidden) },
		Own:    http.NotFoundHandler(),
		Turned: func(w http.ResponseWriter, _ *http.Request, t *guard.TurnedAway) { w.WriteHeader(t.Answer.Status) },
	}
}

// serveSized serves /any/NAME-SIZE.bin.
func serveSized(w http.ResponseWriter, r *http.Request) {
	var size int
	name := r.URL.Path[strings.LastIndexByte(r.URL.Path, '-')+1:]
	if _, err := fmt.Sscanf(name, "%d.bin", &size); err != nil {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, "<p>a page</p>")
		return
	}
	w.Header().Set("Content-Type", "audio/wav")
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(make([]byte, size)))
}

// Issue issues a pass of a kind, to an address of the tests if none is named.
func (h *House) Issue(t testing.TB, kind string, n passes.NewPass) passes.Issued {
	t.Helper()
	if n.Address == "" {
		n.Address = "ada@carrow.example"
	}
	issued, err := h.Passes.Issue(ctx, "test", kind, n)
	if err != nil {
		t.Fatal(err)
	}
	return issued
}

// Used is how many downloads a pass has been used for.
func (h *House) Used(t testing.TB, id string) int {
	t.Helper()
	is, err := h.Records.Pass(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	return is.Used
}
