package pages

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"

	"ostiarius/service/door/visitor"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
)

// Whatever takes a form is in the list of changes, with its protection.
func TestAllFormsNameTheirProtection(t *testing.T) {
	router := chi.NewRouter()
	new(Pages).Routes(router)
	listed := map[string]Protection{}
	for _, c := range Changes() {
		if c.By == "" || listed[c.Path] != "" {
			t.Errorf("%s is protected by %q, and by %q", c.Path, c.By, listed[c.Path])
		}
		listed[c.Path] = c.By
	}
	found := 0
	err := chi.Walk(router, func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		if slices.Contains([]string{"GET", "HEAD", "OPTIONS"}, method) || route == "/may" { // which only asks
			return nil
		}
		if found++; method != "POST" || listed[route] == "" {
			t.Errorf("%s %s is not in the list of changes", method, route)
		}
		return nil
	})
	if err != nil || found != len(listed) {
		t.Errorf("%d routes, %d in the list: %v", found, len(listed), err)
	}
}

// A form that is protected by a mark is carried out neither without one, nor with that of another session or account, nor with
// an old one.
func TestFormsNeedTheMarkOfTheirPage(t *testing.T) {
	now := time.Now()
	r, g := stand(t, "elsewhere: {harbour: {title: Harbour, issuer: \"https://id.example\", client: x}}", nil, func() time.Time { return now })
	const password = "seven-brass-prisms"
	session := func(name string) string {
		in, err := r.SignIn.SignIn(t.Context(), name, password, sessions.Origin{}, false)
		if err != nil {
			t.Fatal(err)
		}
		return in.Token
	}
	for _, name := range []string{"ines", "walt"} {
		if _, err := r.People.Add(t.Context(), "test", people.NewAccount{Name: name, Password: password}); err != nil {
			t.Fatal(err)
		}
	}
	token, another, his := session("ines"), session("ines"), session("walt")
	post := func(path string, form url.Values) *httptest.ResponseRecorder {
		q := httptest.NewRequest("POST", path, strings.NewReader(form.Encode()))
		q.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		q.AddCookie(&http.Cookie{Name: visitor.SessionCookie(false), Value: token})
		w := httptest.NewRecorder()
		g.ServeHTTP(w, q)
		return w
	}
	// In a browser that doesn't say so, the password in the form does.
	if w := post("/door/account/access-keys", url.Values{"name": {"x"}, "days": {"1"}, "password": {password}}); w.Code != 200 ||
		!strings.Contains(w.Body.String(), "ostiarius_key_") {
		t.Errorf("with the password: %d", w.Code)
	}
	const refused = "/door/prove-again?unsent"
	mark := markOn(t, g, token, "/door/account/factors")
	for _, c := range Changes() {
		if c.By != ByMark {
			continue
		}
		path := "/door" + strings.Replace(c.Path, "{name}", "harbour", 1)
		form := func(mark string) url.Values { return url.Values{"to": {"link"}, "mark": {mark}} }
		for what, m := range map[string]string{
			"no mark": "", "one of another session": markOn(t, g, another, "/door/account"),
			"one of another account": markOn(t, g, his, "/door/account"), "a changed one": mark[1:] + "A",
		} {
			if w := post(path, form(m)); w.Code != http.StatusSeeOther || !strings.HasPrefix(w.Header().Get("Location"), refused) {
				t.Errorf("%s with %s: %d %s", c.Path, what, w.Code, w.Header().Get("Location"))
			}
		}
		wrong := form("")
		wrong.Set("password", "not-this-one")
		if w := post(path, wrong); w.Code != http.StatusUnprocessableEntity && w.Code != http.StatusTooManyRequests {
			t.Errorf("%s with a wrong password: %d", c.Path, w.Code)
		}
	}
	// How the page is loaded decides whether it has one.
	for _, how := range [][2]string{{"", ""}, {"cors", "empty"}, {"same-origin", "empty"}, {"navigate", "iframe"},
		{"navigate", "object"}, {"no-cors", "script"}} {
		q := httptest.NewRequest("GET", "/door/account/factors", nil)
		q.AddCookie(&http.Cookie{Name: visitor.SessionCookie(false), Value: token})
		q.Header.Set("Sec-Fetch-Mode", how[0])
		q.Header.Set("Sec-Fetch-Dest", how[1])
		w := httptest.NewRecorder()
		g.ServeHTTP(w, q)
		if body := w.Body.String(); w.Code != 200 || strings.Contains(body, `name="mark"`) || !strings.Contains(body, `name="password"`) {
			t.Errorf("loaded as %v: %d", how, w.Code)
		}
	}
}

// Keys that administer are not created on a page beside the site.
func TestKeysThatAdministerAreNotMadeHere(t *testing.T) {
	r, g := stand(t, "roles: {chief: {includes: [steward]}, keeper: {}}", nil, time.Now)
	const password = "seven-brass-prisms"
	if _, err := r.People.Add(t.Context(), "test", people.NewAccount{Name: "agnes", Password: password,
		Roles: []string{"chief", "keeper"}}); err != nil {
		t.Fatal(err)
	}
	in, err := r.SignIn.SignIn(t.Context(), "agnes", password, sessions.Origin{}, false)
	if err != nil {
		t.Fatal(err)
	}
	for role, made := range map[string]bool{"steward": false, "chief": false, "keeper": true} {
		form := url.Values{"name": {"x"}, "role": {role}, "days": {"90"}, "mark": {markOn(t, g, in.Token, "/door/account/access-keys")}}
		q := httptest.NewRequest("POST", "/door/account/access-keys", strings.NewReader(form.Encode()))
		q.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		q.AddCookie(&http.Cookie{Name: visitor.SessionCookie(false), Value: in.Token})
		w := httptest.NewRecorder()
		g.ServeHTTP(w, q)
		if got := strings.Contains(w.Body.String(), "ostiarius_key_"); got != made || !made && w.Code != http.StatusUnprocessableEntity {
			t.Errorf("a key with the role %s: %d", role, w.Code)
		}
	}
}
