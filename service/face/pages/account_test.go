package pages

import (
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/secret"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/hashing"
	"ostiarius/service/door/visitor"
	"ostiarius/service/rooms"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/store/fresh"
)

// stand stands the pages up behind a guard, with a policy that says more than one door, files of looks where beside says, and
// rooms whose clock is now.
func stand(t *testing.T, more string, beside func(string) string, now func() time.Time) (*rooms.Rooms, http.Handler) {
	t.Helper()
	records := fresh.Records(t, t.TempDir())
	book, findings := read.Parse("doors.yaml", []byte("doors: [{path: /, admit: public}]\n"+more))
	if book == nil {
		t.Fatal(findings)
	}
	log := slog.New(slog.DiscardHandler)
	r, err := rooms.Open(rooms.Options{
		Store: records, Book: func() *policy.Book { return book }, Now: now, Front: &guard.Front{}, Log: log,
		Hashing: hashing.New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, nil),
		Mail:    rooms.Mail{Site: func() string { return "https://marram.example" }},
	})
	if err != nil {
		t.Fatal(err)
	}
	pages := New(Options{Mails: true, People: r.People, Sessions: r.Sessions, SignIn: r.SignIn, Visitors: r.Visitors, Recovery: r.Recovery,
		Factors: r.Factors, Keys: r.AccessKeys, Elsewhere: r.Elsewhere, Joining: r.Joining, Leaving: r.Leaving, Events: r.Events, Log: log,
		Beside: beside})
	own := chi.NewRouter()
	own.NotFound(pages.Missing)
	own.Route(book.Prefix, pages.Routes)
	house := &guard.House{Book: book, Site: http.NotFoundHandler()}
	return r, &guard.Guard{House: func() *guard.House { return house }, Own: own, Turned: pages.Turned, Who: r.Visitors.Who}
}

// serve is stand without a word about the rooms.
func serve(t *testing.T, more string, beside func(string) string) http.Handler {
	t.Helper()
	_, g := stand(t, more, beside, time.Now)
	return g
}

// Ending other sessions asks for a recent proof of the password; signing out does not.
func TestOtherSessionsEndAfterAProof(t *testing.T) {
	now := time.Now()
	r, g := stand(t, "", nil, func() time.Time { return now })
	const password = "seven-brass-prisms"
	if _, err := r.People.Add(t.Context(), "test", people.NewAccount{Name: "ines", Password: password}); err != nil {
		t.Fatal(err)
	}
	in, err := r.SignIn.SignIn(context.Background(), "ines", password, sessions.Origin{}, false)
	if err != nil {
		t.Fatal(err)
	}
	token := in.Token
	post := func(path string, form url.Values) *httptest.ResponseRecorder {
		r := httptest.NewRequest("POST", path, strings.NewReader(form.Encode()))
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		r.AddCookie(&http.Cookie{Name: visitor.SessionCookie(false), Value: token})
		w := httptest.NewRecorder()
		g.ServeHTTP(w, r)
		for _, c := range w.Result().Cookies() {
			if c.Name == visitor.SessionCookie(false) {
				token = c.Value
			}
		}
		return w
	}
	others := func() int {
		_, all, err := r.Sessions.List(t.Context(), nil, "", 0, 10)
		if err != nil {
			t.Fatal(err)
		}
		return all - 1
	}
	again := func() (handle string) {
		other, err := r.SignIn.SignIn(context.Background(), "ines", password, sessions.Origin{}, false)
		if err != nil {
			t.Fatal(err)
		}
		return r.Sessions.Handle(other.Token)
	}
	ends := func(end string, status int, location string, left int) {
		t.Helper()
		w := post("/door/account/sessions", url.Values{"end": {end}, "mark": {markOn(t, g, token, "/door/account")}})
		if w.Code != status || !strings.HasPrefix(w.Header().Get("Location"), location) || others() != left {
			t.Errorf("ending %s: %d %s, %d others left; want %d %s, %d", end, w.Code, w.Header().Get("Location"), others(), status, location, left)
		}
	}
	again()
	ends("others", 303, "/door/account?done=others", 0)
	now = now.Add(20 * time.Minute)
	handle := again()
	again()
	ends("others", 303, "/door/prove-again?", 2)
	ends(handle, 303, "/door/prove-again?", 2)
	if w := post("/door/prove-again", url.Values{"password": {password}, "next": {"/door/account"}}); w.Code != 303 ||
		w.Header().Get("Location") != "/door/account" {
		t.Fatalf("proving again: %d %s", w.Code, w.Header().Get("Location"))
	}
	ends(handle, 303, "/door/account?done=ended", 1)
	now = now.Add(20 * time.Minute)
	ends(r.Sessions.Handle(token), 303, "/", 0) // one's own session, whose end is a sign-out; one other is left
}

// markOn returns the mark of a page, as somebody gets it who navigates there.
func markOn(t *testing.T, g http.Handler, token, page string) string {
	t.Helper()
	q := httptest.NewRequest("GET", page, nil)
	q.AddCookie(&http.Cookie{Name: visitor.SessionCookie(false), Value: token})
	q.Header.Set("Sec-Fetch-Mode", "navigate")
	q.Header.Set("Sec-Fetch-Dest", "document")
	w := httptest.NewRecorder()
	g.ServeHTTP(w, q)
	_, rest, _ := strings.Cut(w.Body.String(), `name="mark" value="`)
	mark, _, found := strings.Cut(rest, `"`)
	if !found {
		t.Fatalf("%s has no mark: %d %s", page, w.Code, w.Body)
	}
	return mark
}
