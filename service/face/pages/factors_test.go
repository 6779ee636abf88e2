package pages

import (
	"encoding/base32"
	"errors"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/onetime"
	"ostiarius/service/door/visitor"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
)

// What somebody can show is changed only by who has shown it a moment ago; the password alone is not enough where there is more.
func TestChangingFactorsAsksForOne(t *testing.T) {
	now := time.Now()
	r, g := stand(t, "sessions: {idle: 0}", nil, func() time.Time { return now })
	const password = "seven-brass-prisms"
	if _, err := r.People.Add(t.Context(), "test", people.NewAccount{Name: "ines", Password: password}); err != nil {
		t.Fatal(err)
	}
	her := func() *account.Account {
		a, err := r.People.Find(t.Context(), "ines")
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	token := ""
	ask := func(method, path string, form url.Values) *httptest.ResponseRecorder {
		q := httptest.NewRequest(method, path, strings.NewReader(form.Encode()))
		q.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		q.AddCookie(&http.Cookie{Name: visitor.SessionCookie(false), Value: token})
		w := httptest.NewRecorder()
		g.ServeHTTP(w, q)
		for _, c := range w.Result().Cookies() {
			if c.Name == visitor.SessionCookie(false) {
				token = c.Value
			}
		}
		return w
	}
	led := func(what, method, path string, form url.Values, to string) {
		t.Helper()
		if w := ask(method, path, form); w.Code != http.StatusSeeOther || !strings.HasPrefix(w.Header().Get("Location"), to) {
			t.Errorf("%s: %d %s", what, w.Code, w.Header().Get("Location"))
		}
	}
	in, err := r.SignIn.SignIn(t.Context(), "ines", password, sessions.Origin{}, false)
	if err != nil {
		t.Fatal(err)
	}
	token = in.Token
	if w := ask("GET", "/door/account/code", nil); w.Code != 200 ||
		!strings.Contains(w.Body.String(), `src="data:image/png;base64,`) || !strings.Contains(w.Body.String(), `href="otpauth://totp/`) {
		t.Fatalf("with a fresh password: %d %s", w.Code, w.Body)
	}
	now = now.Add(16 * time.Minute)
	led("with an old password", "GET", "/door/account/code", nil, "/door/prove-again?next=%2Fdoor%2Faccount%2Fcode")
	// Somebody else's secret, or one of long ago, is not set up.
	if _, err := r.People.Add(t.Context(), "test", people.NewAccount{Name: "walt", Password: password}); err != nil {
		t.Fatal(err)
	}
	fresh, err := r.Factors.NewCode(her())
	if err != nil {
		t.Fatal(err)
	}
	secret, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(strings.ReplaceAll(fresh.Text, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	code := func() string { return onetime.At(secret, onetime.Step(now), onetime.Digits) }
	walt, err := r.People.Find(t.Context(), "walt")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Factors.SetCode(t.Context(), walt, fresh.Sealed, code(), sessions.Origin{}); err == nil {
		t.Error("her secret was set up for him")
	}
	kept, err := r.Factors.SetCode(t.Context(), her(), fresh.Sealed, code(), sessions.Origin{})
	if err != nil {
		t.Fatal(err)
	}
	now = now.Add(16 * time.Minute)
	if _, err := r.Factors.SetCode(t.Context(), her(), fresh.Sealed, code(), sessions.Origin{}); err == nil {
		t.Error("a secret of long ago was set up")
	}
	if w := ask("POST", "/door/prove-again", url.Values{"password": {password}}); w.Code != http.StatusSeeOther {
		t.Fatal(w.Code)
	}
	wants := "/door/prove-again?factor=code&within=15m&"
	led("the password alone", "GET", "/door/account/code", nil, wants)
	marked := func() url.Values { return url.Values{"mark": {markOn(t, g, token, "/door/account/factors")}} }
	led("to remove it", "POST", "/door/account/code/remove", marked(), wants+"unsent&next=%2Fdoor%2Faccount%2Ffactors")
	led("for other codes", "POST", "/door/account/kept", marked(), wants)
	led("for an access key", "POST", "/door/account/access-keys", marked(), wants+"unsent&next=%2Fdoor%2Faccount%2Faccess-keys")
	if her().Enrolled == 0 {
		t.Fatal("it was removed")
	}
	if w := ask("GET", wants, nil); w.Code != 200 || strings.Contains(w.Body.String(), `name="password"`) ||
		!strings.Contains(w.Body.String(), `name="code"`) {
		t.Errorf("asks for: %d %s", w.Code, w.Body)
	}
	led("with a code", "POST", wants+"next=%2Fdoor%2Faccount%2Ffactors",
		url.Values{"code": {kept[0]}, "next": {"/door/account/factors"}}, "/door/account/factors")
	led("to remove it, now", "POST", "/door/account/code/remove", marked(), "/door/account/factors?done=removed")
	if her().Enrolled != 0 {
		t.Error("it is there still")
	}
}

// Between the password and the code there is a page that knows who it is, and nothing else does.
func TestTheSecondStep(t *testing.T) {
	now := time.Now()
	r, g := stand(t, "", nil, func() time.Time { return now })
	const password = "seven-brass-prisms"
	a, err := r.People.Add(t.Context(), "test", people.NewAccount{Name: "ines", Password: password})
	if err != nil {
		t.Fatal(err)
	}
	fresh, err := r.Factors.NewCode(a)
	if err != nil {
		t.Fatal(err)
	}
	secret, _ := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(strings.ReplaceAll(fresh.Text, " ", ""))
	kept, err := r.Factors.SetCode(t.Context(), a, fresh.Sealed, onetime.At(secret, onetime.Step(now), onetime.Digits), sessions.Origin{})
	if err != nil {
		t.Fatal(err)
	}
	cookies := map[string]string{}
	ask := func(method, path, kind, body string) *httptest.ResponseRecorder {
		q := httptest.NewRequest(method, path, strings.NewReader(body))
		q.Header.Set("Content-Type", kind)
		for name, value := range cookies {
			q.AddCookie(&http.Cookie{Name: name, Value: value})
		}
		w := httptest.NewRecorder()
		g.ServeHTTP(w, q)
		for _, c := range w.Result().Cookies() {
			if cookies[c.Name] = c.Value; c.MaxAge < 0 {
				delete(cookies, c.Name)
			}
			if !c.HttpOnly || c.SameSite != http.SameSiteLaxMode {
				t.Errorf("the cookie %s: %+v", c.Name, c)
			}
		}
		return w
	}
	const form, script = "application/x-www-form-urlencoded", "application/json"
	if w := ask("GET", "/door/sign-in/second", form, ""); w.Code != http.StatusSeeOther ||
		w.Header().Get("Location") != "/door/sign-in?over&next=" {
		t.Errorf("out of nowhere: %d %s", w.Code, w.Header().Get("Location"))
	}
	if w := ask("POST", "/door/sign-in", script, `{"username":"ines","password":"`+password+`"}`); w.Code != 401 ||
		!strings.Contains(w.Body.String(), `"factor-needed"`) || cookies["ostiarius-session"] != "" || cookies["ostiarius-half"] == "" {
		t.Fatalf("a script: %d %s %v", w.Code, w.Body, cookies)
	}
	if w := ask("GET", "/door/account/factors", form, ""); w.Code != http.StatusSeeOther {
		t.Errorf("between: %d", w.Code)
	}
	if w := ask("POST", "/door/sign-in/second", script, `{"code":"123456"}`); w.Code != 422 || !strings.Contains(w.Body.String(), `"wrong"`) {
		t.Errorf("a wrong code: %d %s", w.Code, w.Body)
	}
	if w := ask("POST", "/door/sign-in/second", script, `{"code":"`+kept[0]+`"}`); w.Code != 200 ||
		!strings.Contains(w.Body.String(), `"name":"ines"`) || cookies["ostiarius-session"] == "" || cookies["ostiarius-half"] != "" {
		t.Errorf("a right one: %d %s %v", w.Code, w.Body, cookies)
	}
	if w := ask("GET", "/door/account/factors", form, ""); w.Code != 200 {
		t.Errorf("afterwards: %d", w.Code)
	}
	clear(cookies)
	next := "next=%2Fdoor%2Faccount"
	if w := ask("POST", "/door/sign-in", form, "username=ines&password="+password+"&"+next); w.Code != http.StatusSeeOther ||
		w.Header().Get("Location") != "/door/sign-in/second?"+next {
		t.Fatalf("a form: %d %s", w.Code, w.Header().Get("Location"))
	}
	if w := ask("GET", "/door/sign-in/second?next=//evil.example", form, ""); w.Code != 200 ||
		strings.Contains(w.Body.String(), "evil.example") || !strings.Contains(w.Body.String(), "ines") {
		t.Errorf("its page: %d %s", w.Code, w.Body)
	}
	if w := ask("POST", "/door/sign-in/second", form, "code="+kept[1]+"&"+next); w.Code != http.StatusSeeOther ||
		w.Header().Get("Location") != "/door/account" {
		t.Errorf("the code: %d %s", w.Code, w.Header().Get("Location"))
	}
	if _, err := r.SignIn.SignIn(t.Context(), "ines", password, sessions.Origin{}, false); !errors.As(err, new(*signin.Second)) {
		t.Error(err)
	}
}
