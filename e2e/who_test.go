package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// What the scripts of a page are told of who is here, and where they may go.
func TestWhoIsHere(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, page := range []string{"index.html", "rota/index.html", "office/index.html", "press/index.html"} {
		write(t, dir, "site/"+page, "<!doctype html><html lang=en><title>t</title><h1>"+page+"</h1>")
	}
	write(t, dir, "doors.yaml", `
site: Marram Point
roles: { volunteer: , keeper: { includes: [volunteer] } }
keyrings: { outer: }
shared: { press-kit: }
joining: { by: approval }
sources: [ { path: /, files: ./site } ]
unlisted: public
doors:
  - { path: /rota/**, admit: signed-in }
  - { path: /rota/new, methods: POST, admit: { role: keeper } }
  - { path: /log/**, admit: { role: keeper }, otherwise: { refused: { go: /rota/ask } } }
  - { path: /office/**, admit: { role: keeper }, otherwise: hide }
  - { path: /press/**, admit: { shared: press-kit } }
  - { path: /gate/**, admit: { keyring: outer } }
  - { path: /vault, admit: { role: keeper, proof-within: 1ms } }
sessions: { idle: 20m, lifetime: 8h }
`)
	s := start(t, dir)
	api := client.New(s.Data)
	if _, err := client.AddPerson.Ask(t.Context(), api,
		client.NewPerson{Name: "ines", Password: "seven-brass-prisms", Roles: []string{"keeper"}}); err != nil {
		t.Fatal(err)
	}
	if _, err := client.AddPerson.Ask(t.Context(), api, client.NewPerson{Name: "walt", Password: "paint-and-lentil-soup"}); err != nil {
		t.Fatal(err)
	}
	run(t, "copper-kettle-moss\n", "shared", "set", "press-kit", "--password-stdin", "--data", s.Data)
	me := func(p *person) (m client.Me, a answer) {
		t.Helper()
		a = p.get("/door/me")
		if err := json.Unmarshal([]byte(a.body), &m); err != nil || a.status != 200 {
			t.Fatal(a.status, a.body)
		}
		return m, a
	}
	stranger, ines, walt := newPerson(t, s.URL), newPerson(t, s.URL), newPerson(t, s.URL)
	is, a := me(stranger)
	if is.SignedIn || is.Name != "" || len(is.Roles) > 0 || is.Proven != nil || is.Ways.SignIn != "/door/sign-in" ||
		is.Ways.Join != "/door/join" || is.Ways.Recover != "" || is.Ways.Account != "" ||
		a.header.Get("Cache-Control") != "private, no-store" || a.header.Get("Set-Cookie") != "" {
		t.Errorf("a stranger: %+v %v", is, a.header)
	}
	ines.signIn("ines", "seven-brass-prisms", "")
	walt.signIn("walt", "paint-and-lentil-soup", "")
	is, a = me(ines)
	if !is.SignedIn || is.Name != "ines" || !slices.Equal(is.Roles, []string{"volunteer", "keeper"}) || is.Proven == nil ||
		time.Since(*is.Proven) > time.Minute || is.Ends == nil || is.Ends.Sub(*is.Proven).Round(time.Minute) != 8*time.Hour ||
		is.Idle != 1200 || is.Ways.Account != "/door/account" {
		t.Errorf("ines: %+v", is)
	}
	if again := ines.get("/door/me", "If-None-Match", a.header.Get("ETag")); again.status != 304 || again.body != "" {
		t.Errorf("unchanged: %d %q", again.status, again.body)
	}
	ines.do("POST", "/door/unlock", "name=press-kit&password=copper-kettle-moss")
	if is, changed := me(ines); !slices.Equal(is.Unlocked, []string{"press-kit"}) || changed.header.Get("ETag") == a.header.Get("ETag") {
		t.Errorf("unlocked: %+v", is)
	}

	for _, test := range []struct {
		who  *person
		ask  string // "METHOD PATH"
		want string // "OUTCOME CODE GO"
	}{
		{stranger, "GET /", "admit  "},
		{stranger, "GET /rota/?week=2", "challenge sign-in-needed /door/sign-in?next=%2Frota%2F%3Fweek%3D2"},
		{stranger, "GET /office/", "missing  "},
		{stranger, "GET /office/x/y", "missing  "},
		{stranger, "GET /nothing", "missing  "},
		{stranger, "GET /gate/", "challenge credentials-needed /gate/"},
		{stranger, "GET /press/", "challenge unlock-needed /door/unlock?next=%2Fpress%2F"},
		{stranger, "GET /a%2Fb", "reject  "},
		{stranger, "GET //elsewhere.example/", "missing  "},
		{stranger, "POST /rota/new", "challenge sign-in-needed /door/sign-in?next=%2Frota%2Fnew"},
		{walt, "GET /rota/", "admit  "},
		{walt, "GET /log/", "refuse  /rota/ask"},
		{walt, "POST /rota/new", "refuse  "},
		{walt, "GET /office/", "missing  "},
		{ines, "GET /office/", "admit  "},
		{ines, "GET /office/none", "missing  "},
		{ines, "GET /press/", "admit  "},
		{ines, "GET /vault", "challenge proof-needed /door/prove-again?next=%2Fvault"},
	} {
		method, path, _ := strings.Cut(test.ask, " ")
		body, _ := json.Marshal(client.AskedPlaces{Places: []client.AskedPlace{{Method: method, Path: path}, {Path: "/"}}})
		var told client.May
		a := test.who.do("POST", "/door/may", string(body), "Content-Type", "application/json")
		if err := json.Unmarshal([]byte(a.body), &told); err != nil || len(told.Places) != 2 || !told.Places[1].May {
			t.Fatalf("%s: %d %s", test.ask, a.status, a.body)
		}
		one := told.Places[0]
		if got := fmt.Sprintf("%s %s %s", one.Outcome, one.Code, one.Go); got != test.want || one.May != strings.HasPrefix(test.want, "admit") {
			t.Errorf("%s: %s, want %s", test.ask, got, test.want)
		}
		if method == "GET" { // the two ways of asking agree
			var same client.May
			query := test.who.get("/door/may?" + url.Values{"path": {path}}.Encode())
			if json.Unmarshal([]byte(query.body), &same); len(same.Places) != 1 || same.Places[0] != one {
				t.Errorf("%s: asked in the query, %s", test.ask, query.body)
			}
		}
	}
	many := client.AskedPlaces{Places: make([]client.AskedPlace, 501)}
	tooMany, _ := json.Marshal(many)
	for _, body := range []string{"", "{}", `{"places": []}`, `{"place": []}`, string(tooMany), `{"places": [{"path": 3}]}`} {
		if a := stranger.do("POST", "/door/may", body, "Content-Type", "application/json"); a.status != http.StatusBadRequest ||
			!strings.Contains(a.body, `"code":"malformed"`) {
			t.Errorf("%.30s: %d %s", body, a.status, a.body)
		}
	}
}

// The part of a page in the documentation, as it stands there: it shows signing out only to those who are in.
func TestPartOfAPageInTheDocumentation(t *testing.T) {
	text, err := os.ReadFile(filepath.Join(Root(), "docs", "front-ends.md"))
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(text), "## Show “Sign out” only")
	_, rest, _ = strings.Cut(rest, "```html\n")
	part, _, ok := strings.Cut(rest, "```")
	if !ok {
		t.Fatal("there is no such part")
	}
	dir := t.TempDir()
	write(t, dir, "site/index.html", "<!doctype html><html lang=en><title>t</title><h1>Home</h1>"+part)
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\ndoors: [{path: /**, admit: public}]\n")
	s := start(t, dir)
	if _, err := client.AddPerson.Ask(t.Context(), client.New(s.Data),
		client.NewPerson{Name: "ines", Password: "seven-brass-prisms"}); err != nil {
		t.Fatal(err)
	}
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate(s.URL+"/?page=2"), chromedp.Click(`//a[.="Sign in"]`))
	look(ctx, t, "h1", "Sign in")
	do(ctx, t, keys("#username", "ines"), keys("#password", "seven-brass-prisms\r"))
	look(ctx, t, "#door", "Signed in as ines Sign out")
	at(ctx, t, s.URL+"/?page=2")
	do(ctx, t, chromedp.Click(`//a[.="Sign out"]`), chromedp.Click(`//button[.="Sign out"]`))
	look(ctx, t, "#door", "Sign in")
}
