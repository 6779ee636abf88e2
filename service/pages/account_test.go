package pages

import (
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"

	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/throttle"
	"ostiarius/service/activity"
	"ostiarius/service/ending"
	"ostiarius/service/guard"
	"ostiarius/service/hashing"
	"ostiarius/service/people"
	"ostiarius/store"
)

// Ending other sessions asks for a recent proof of the password; signing out does not.
func TestOtherSessionsEndAfterAProof(t *testing.T) {
	records, err := store.Open(filepath.Join(t.TempDir(), "records.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { records.Close() })
	book, findings := policy.Parse("doors.yaml", []byte("doors: [{path: /, admit: public}]"))
	if book == nil {
		t.Fatal(findings)
	}
	now := time.Now()
	register, err := people.New(people.Options{Store: records, Book: func() *policy.Book { return book }, Now: func() time.Time { return now }, Hashing: hashing.New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, nil), Limiter: &throttle.Limiter{}, Endings: &ending.List{}, Activity: activity.New(activity.Options{Store: records, Now: func() time.Time { return now }})})
	if err != nil {
		t.Fatal(err)
	}
	const password = "seven-brass-prisms"
	if _, err := register.Add(t.Context(), "test", people.NewAccount{Name: "ines", Password: password}); err != nil {
		t.Fatal(err)
	}
	pages := &Pages{Register: register, Log: slog.New(slog.DiscardHandler)}
	own := chi.NewRouter()
	own.Route(book.Prefix, pages.Routes)
	house := &guard.House{Book: book, Site: http.NotFoundHandler()}
	g := &guard.Guard{House: func() *guard.House { return house }, Own: own, Turned: pages.Turned, Who: func(_ http.Header, r *http.Request) (policy.Visitor, error) {
		v, _, err := register.Visitor(r.Context(), pages.Token(r), nil)
		return v, err
	}}
	in, err := register.SignIn(context.Background(), "ines", password, people.Origin{}, false)
	if err != nil {
		t.Fatal(err)
	}
	token := in.Token
	post := func(path string, form url.Values) *httptest.ResponseRecorder {
		r := httptest.NewRequest("POST", path, strings.NewReader(form.Encode()))
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		r.AddCookie(&http.Cookie{Name: CookieName(false), Value: token})
		w := httptest.NewRecorder()
		g.ServeHTTP(w, r)
		for _, c := range w.Result().Cookies() {
			if c.Name == CookieName(false) {
				token = c.Value
			}
		}
		return w
	}
	others := func() int {
		_, all, err := register.Sessions(t.Context(), "ines", "", 0, 10)
		if err != nil {
			t.Fatal(err)
		}
		return all - 1
	}
	again := func() (handle string) {
		other, err := register.SignIn(context.Background(), "ines", password, people.Origin{}, false)
		if err != nil {
			t.Fatal(err)
		}
		return register.Handle(other.Token)
	}
	ends := func(end string, status int, location string, left int) {
		t.Helper()
		w := post("/door/account/sessions", url.Values{"end": {end}})
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
	if w := post("/door/prove-again", url.Values{"password": {password}, "next": {"/door/account"}}); w.Code != 303 || w.Header().Get("Location") != "/door/account" {
		t.Fatalf("proving again: %d %s", w.Code, w.Header().Get("Location"))
	}
	ends(handle, 303, "/door/account?done=ended", 1)
	now = now.Add(20 * time.Minute)
	ends(register.Handle(token), 303, "/", 0) // one's own session, whose end is a sign-out; one other is left
}
