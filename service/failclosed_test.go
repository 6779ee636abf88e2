package service

import (
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ostiarius/core/secret"
	"ostiarius/service/who/people"
	"ostiarius/store"
	"ostiarius/store/fresh"
)

// While the records cannot be read, nobody gets in who is not known already, by no way; nothing of that is
// kept by caches, and everybody else goes on.
func TestRecordsThatCannotBeRead(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "doors.yaml")
	text := "roles: {keeper: }\nkeyrings: {outer: {realm: Office}}\nsources: [{path: /, files: ./site}]\ndoors:\n" +
		"  - {path: /, admit: public}\n  - {path: /log/**, admit: {role: keeper}}\n  - {path: /sensors/**, admit: {role: keeper}, ask: " +
		"basic}\n  - {path: /office/**, admit: {keyring: outer}}\n"
	site := filepath.Join(dir, "site")
	for _, page := range []string{"", "log", "sensors", "office"} {
		if err := os.MkdirAll(filepath.Join(site, page), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(site, page, "index.html"), []byte("a page"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	fresh.File(t, filepath.Join(dir, "d", store.FileName))
	s, err := Open(Settings{
		Policy: file, Listen: "127.0.0.1:0", Data: filepath.Join(dir, "d"), Log: slog.New(slog.DiscardHandler), Cost: cheap,
	})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.rooms.People.Add(t.Context(), "test",
		people.NewAccount{Name: "ines", Password: "seven-brass-prisms", Roles: []string{"keeper"}}); err != nil {
		t.Fatal(err)
	}
	ask := func(method, path, cookie, user string, form url.Values) *httptest.ResponseRecorder {
		r := httptest.NewRequest(method, path, strings.NewReader(form.Encode()))
		r.Header.Set("Sec-Fetch-Mode", "navigate")
		r.Header.Set("Sec-Fetch-Dest", "document")
		if form != nil {
			r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		}
		if cookie != "" {
			r.Header.Set("Cookie", cookie)
		}
		if user != "" {
			r.SetBasicAuth(user, "seven-brass-prisms")
		}
		w := httptest.NewRecorder()
		s.handler.ServeHTTP(w, r)
		return w
	}
	signIn := func() *httptest.ResponseRecorder {
		return ask("POST", "/door/sign-in", "", "", url.Values{"username": {"ines"}, "password": {"seven-brass-prisms"}})
	}
	cookieOf := func(w *httptest.ResponseRecorder) string {
		for _, c := range w.Result().Cookies() {
			if strings.Contains(c.Name, "session") {
				return c.Name + "=" + c.Value
			}
		}
		t.Fatalf("no session: %d %s", w.Code, w.Body)
		return ""
	}
	known, unknown := cookieOf(signIn()), cookieOf(signIn())
	if w := ask("GET", "/log/", known, "", nil); w.Code != http.StatusOK {
		t.Fatal(w.Code)
	}
	token, _ := secret.NewToken()
	if err := s.store.Close(); err != nil {
		t.Fatal(err)
	}
	for name, test := range map[string]struct {
		w    *httptest.ResponseRecorder
		want int
	}{
		"a public page":               {ask("GET", "/", "", "", nil), 200},
		"nobody, who is led away":     {ask("GET", "/log/", "", "", nil), 303},
		"a session that is in memory": {ask("GET", "/log/", known, "", nil), 200},
		"a session that is not":       {ask("GET", "/log/", unknown, "", nil), 503},
		"a forged one":                {ask("GET", "/log/", "ostiarius-session="+token, "", nil), 503},
		"the same for a public page":  {ask("GET", "/", unknown, "", nil), 503},
		"signing in":                  {signIn(), 503},
		"Basic for an account":        {ask("GET", "/sensors/", "", "ines", nil), 503},
		"Basic for a keyring":         {ask("GET", "/office/", "", "ines", nil), 503},
		"the account page":            {ask("GET", "/door/account", unknown, "", nil), 503},
		"the API":                     {ask("GET", "/door/api/v1/people", unknown, "", nil), 503},
	} {
		if test.w.Code != test.want {
			t.Errorf("%s: %d, want %d: %s", name, test.w.Code, test.want, test.w.Body)
		}
		if test.want == 503 && !strings.Contains(test.w.Header().Get("Cache-Control"), "no-store") {
			t.Errorf("%s may be kept: %v", name, test.w.Header())
		}
		if strings.Contains(test.w.Body.String(), "sql") {
			t.Errorf("%s tells of the records: %s", name, test.w.Body)
		}
	}
}

// What has ended is swept only by a clock that can be trusted.
func TestTheClockIsNotTrustedBlindly(t *testing.T) {
	began := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	w := newClockwatch(began)
	for _, step := range []struct {
		elapsed, wall time.Duration // since the beginning, by the one clock and by the other
		sweep, jumped bool
	}{
		{10 * time.Second, 10 * time.Second, false, false}, // too early
		{time.Minute, time.Minute, true, false},
		{10 * time.Minute, 10*time.Minute + 5*time.Second, true, false}, // clocks are set right
		{20 * time.Minute, 20*time.Minute + 400*24*time.Hour, false, true},
		{30 * time.Minute, 30*time.Minute + 400*24*time.Hour, false, false}, // and not for a day
		{24 * time.Hour, 24*time.Hour + 400*24*time.Hour, false, false},
		{25 * time.Hour, 25*time.Hour + 400*24*time.Hour, true, false},
		{26 * time.Hour, 26 * time.Hour, false, true}, // put right again
		{27 * time.Hour, 27 * time.Hour, false, false},
		{51 * time.Hour, 51 * time.Hour, true, false},
	} {
		sweep, jumped := w.look(step.elapsed, began.Add(step.wall))
		if sweep != step.sweep || jumped != step.jumped {
			t.Errorf("after %v, by the wall %v: sweep %v, jumped %v", step.elapsed, step.wall, sweep, jumped)
		}
	}
}
