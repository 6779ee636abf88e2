package visitor_test

import (
	"context"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/basic"
	"ostiarius/core/policy"
	"ostiarius/core/throttle"
	"ostiarius/core/words"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/hashing"
	"ostiarius/service/door/visitor"
	"ostiarius/service/held/keyrings"
	"ostiarius/service/held/passes"
	"ostiarius/service/held/shared"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/accesskeys"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
)

var ctx = context.Background()

// request is one for a path, with cookies.
func request(path string, cookies ...string) *http.Request {
	r := httptest.NewRequest("GET", path, nil)
	r.RemoteAddr = "192.0.2.7:4711"
	for i := 0; i+1 < len(cookies); i += 2 {
		r.Header.Add("Cookie", cookies[i]+"="+cookies[i+1])
	}
	return r
}

func typed(user, password string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
}

// A request is one visitor's: an access key beside a session of somebody else is nobody's.
func TestAKeyBesideASession(t *testing.T) {
	h, _, _ := house.Open(t)
	house.Add(t, h, people.NewAccount{Name: "walt", Password: "paint-and-lentil-soup"})
	key, _ := h.Key(t, accesskeys.NewKey{})
	hers, his := house.SignIn(t, h, false), house.SignInAs(t, h, "walt", "paint-and-lentil-soup")
	for _, test := range []struct{ authorization, session, want string }{
		{"", "", ""}, {"", hers, "ines"}, {"", his, "walt"}, {"Bearer " + key, "", "ines"}, {"Bearer " + key, hers, "ines"},
		{"Bearer " + key, his, ""}, {"Bearer " + key, "made-up", "ines"}, {"Bearer ", hers, "ines"}, {"Basic eDp5", hers, "ines"},
		{"Bearer " + key[:len(key)-1] + "A", hers, ""},
	} {
		r := request("/")
		if test.session != "" {
			r.Header.Set("Cookie", "ostiarius-session="+test.session)
		}
		if test.authorization != "" {
			r.Header.Set("Authorization", test.authorization)
		}
		v, err := h.Visitors.Who(http.Header{}, r)
		again, errAgain := h.Visitors.Again(r, true)
		if err != nil || errAgain != nil || v.Account != test.want || v.SignedIn != (test.want != "") || again.Account != v.Account ||
			again.SignedIn != v.SignedIn {
			t.Errorf("%.20q, session of %q: %+v %v, and again %+v %v", test.authorization, test.want, v, err, again, errAgain)
		}
	}
	// A session that cannot be looked at may be anybody's.
	r := request("/", "ostiarius-session", his)
	r.Header.Set("Authorization", "Bearer "+key)
	gone, cancel := context.WithCancel(ctx)
	cancel()
	if v, _ := h.Visitors.Who(http.Header{}, r.WithContext(gone)); v.SignedIn {
		t.Errorf("%+v", v)
	}
}

// Who gets more rights gets a fresh token by a cookie, once.
func TestTokensAreRenewed(t *testing.T) {
	h, _, _ := house.Open(t)
	house.Add(t, h, people.NewAccount{Name: "walt", Password: "paint-and-lentil-soup"})
	in, err := h.SignIn.SignIn(ctx, "walt", "paint-and-lentil-soup", sessions.Origin{}, true)
	if err != nil {
		t.Fatal(err)
	}
	if err := h.People.Grant(ctx, "test", "walt", "keeper", time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	given := http.Header{}
	if v, err := h.Visitors.Who(given, request("/", "ostiarius-session", in.Token)); err != nil || !slices.Equal(v.Roles, []string{"keeper"}) {
		t.Fatalf("%+v %v", v, err)
	}
	fresh := (&http.Response{Header: given}).Cookies()
	if len(fresh) != 1 || fresh[0].Name != "ostiarius-session" || fresh[0].MaxAge != 30*24*3600 || !house.Alive(t, h, fresh[0].Value) {
		t.Fatalf("%+v", fresh)
	}
	given = http.Header{}
	if v, err := h.Visitors.Who(given, request("/", "ostiarius-session", fresh[0].Value)); err != nil || !v.SignedIn || len(given) > 0 {
		t.Errorf("%+v %v %v", v, err, given)
	}
}

// present is what credentials prove at a place that asks for an account or for keyrings.
func present(h *house.House, headers []string, want policy.Wanted, cookies ...string) (guard.Turn, bool, error) {
	t := guard.Turn{Book: h.Book, Visitor: policy.Visitor{From: netip.MustParseAddr("192.0.2.7")}}
	ours, err := h.Visitors.Present(request("/", cookies...), headers, want, &t)
	return t, ours, err
}

// Credentials that were right are remembered for five minutes, and no longer than what they prove is so.
func TestCredentialsAreRemembered(t *testing.T) {
	h, _, c := house.Open(t)
	account, right := policy.Wanted{Accounts: true}, []string{typed("ines", house.InesPassword)}
	looked := func(n int) {
		t.Helper()
		if got := h.Verified(t); got != n {
			t.Fatalf("looked at %d times, want %d", got, n)
		}
	}
	in := func(want bool) {
		t.Helper()
		turn, ours, err := present(h, right, account)
		if turn.Visitor.SignedIn != want || !ours || err != nil {
			t.Fatalf("%+v %v %v", turn.Visitor, ours, err)
		}
		if want && (turn.Visitor.Account != "ines" || !slices.Equal(turn.Visitor.Roles, []string{"keeper"}) || turn.Visitor.ProofAge != 0) {
			t.Fatalf("%+v", turn.Visitor)
		}
	}
	in(true)
	c.Pass(5*time.Minute - time.Second)
	in(true)
	looked(1)
	c.Pass(time.Second)
	in(true)
	looked(2)
	c.Pass(-time.Second) // a clock that goes back makes nothing last longer
	in(true)
	looked(3)
	h.Endings.Take(ctx, ending.Ending{Ring: "outer", Name: "spare"}, func(context.Context) error { return nil }) // whoever is meant by it
	in(true)
	looked(4)
	in(true)
	looked(4)
	if err := h.People.Grant(ctx, "test", "ines", "keeper", time.Time{}, c.Now().Add(time.Minute)); err != nil { // a role that ends soon
		t.Fatal(err)
	}
	in(true)
	looked(5)
	c.Pass(59 * time.Second)
	in(true)
	looked(5)
	c.Pass(time.Second)
	if turn, _, err := present(h, right, account); err != nil || len(turn.Visitor.Roles) != 0 {
		t.Errorf("a role that has ended is remembered: %+v %v", turn.Visitor, err)
	}
	// A password elsewhere proves nothing for a keyring of the same words.
	if turn, ours, err := present(h, right, policy.Wanted{Keyrings: []string{"outer"}}); err == nil &&
		(len(turn.Visitor.Keyrings) > 0 || !ours) {
		t.Errorf("%+v %v", turn.Visitor, ours)
	}
}

// Credentials that are wrong, several, malformed or too long prove nothing, and it is said which are such credentials at all.
func TestCredentialsThatProveNothing(t *testing.T) {
	h, _, _ := house.Open(t)
	right := typed("ines", house.InesPassword)
	for what, test := range map[string]struct {
		headers []string
		ours    bool
		err     error
	}{
		"none":          {nil, false, nil},
		"wrong":         {[]string{typed("ines", "seven-brass-lamps")}, true, nil},
		"nobody":        {[]string{typed("nobody", "seven-brass-lamps")}, true, nil},
		"twice":         {[]string{right, right}, false, basic.ErrSeveral},
		"malformed":     {[]string{"Basic !"}, false, basic.ErrMalformed},
		"another thing": {[]string{"Bearer abc"}, false, nil},
		"too long":      {[]string{typed("ines", strings.Repeat("x", basic.Longest))}, false, basic.ErrMalformed},
	} {
		turn, ours, err := present(h, test.headers, policy.Wanted{Accounts: true})
		if turn.Visitor.SignedIn || ours != test.ours || !errors.Is(err, test.err) {
			t.Errorf("%s: %+v %v %v", what, turn.Visitor, ours, err)
		}
	}
	// Nothing is found out that is not asked for.
	if turn, ours, err := present(h, []string{right}, policy.Wanted{}); turn.Visitor.SignedIn || ours || err != nil || h.Verified(t) != 0 {
		t.Errorf("%+v %v %v", turn.Visitor, ours, err)
	}
	// Whoever tries too much has to wait, and is told how long.
	var later *guard.Later
	for i := 0; i < 100 && later == nil; i++ {
		_, _, err := present(h, []string{typed("ines", fmt.Sprint("guess-", i))}, policy.Wanted{Accounts: true})
		errors.As(err, &later)
	}
	if later == nil || later.Status != 429 || later.Busy || later.Wait < time.Second || !strings.Contains(later.Text, "try again in ") {
		t.Errorf("%+v", later)
	}
}

// What is right and counts no longer is told apart from what is wrong, and remembered as well; a browser that asks for another name is
// asked again.
func TestCredentialsThatAreOver(t *testing.T) {
	h, _, c := house.Open(t)
	want := policy.Wanted{Accounts: true}
	right := []string{typed("ines", house.InesPassword)}
	h.SetUp(t, "ines") // a second factor, which cannot be shown so
	for range 2 {
		if turn, ours, err := present(h, right, want); turn.Over == nil || !turn.Over.Second || turn.Visitor.SignedIn || !ours || err != nil {
			t.Errorf("%+v %+v %v %v", turn.Visitor, turn.Over, ours, err)
		}
	}
	if turn, _, err := present(h, right, want, "ostiarius-other-name", "yes"); turn.Over != nil || turn.Visitor.SignedIn || err != nil {
		t.Errorf("%+v %+v %v", turn.Visitor, turn.Over, err)
	}
	if err := h.People.SetDisabled(ctx, "test", "ines", true); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if turn, ours, err := present(h, right, want); turn.Over == nil || !turn.Over.Disabled || turn.Visitor.SignedIn || !ours || err != nil {
			t.Errorf("%+v %+v %v %v", turn.Visitor, turn.Over, ours, err)
		}
	}
	if err := h.People.SetDisabled(ctx, "test", "ines", false); err != nil {
		t.Fatal(err)
	}
	if turn, _, err := present(h, right, want); turn.Over == nil || !turn.Over.Second || err != nil {
		t.Errorf("it is remembered that she was disabled: %+v %v", turn.Over, err)
	}
	h.Book = house.BookOf(t, "keyrings: {outer: }\ndoors: [{path: /, admit: {keyring: outer}}]")
	h = h.Start(t)
	if _, err := h.Keyrings.Add(ctx, "test", "outer",
		keyrings.NewEntry{Name: "smith", Password: "creaky-third-step", Until: c.Now().Add(time.Minute)}); err != nil {
		t.Fatal(err)
	}
	smith, ring := []string{typed("smith", "creaky-third-step")}, policy.Wanted{Keyrings: []string{"outer"}}
	for passed, opens := range []bool{true, false} {
		turn, ours, err := present(h, smith, ring)
		if slices.Equal(turn.Visitor.Keyrings, []string{"outer"}) != opens || (turn.Over != nil) == opens || !ours || err != nil {
			t.Errorf("after %d minutes: %+v %+v %v %v", passed, turn.Visitor, turn.Over, ours, err)
		}
		c.Pass(time.Minute)
	}
}

// What one request makes the service compute has a bound: by keyrings beyond it a door stays closed.
func TestKeyringsOfARequestAreBounded(t *testing.T) {
	h, _, _ := house.Open(t)
	text, rings := "doors: [{path: /, admit: public}]\nkeyrings:\n", []string{}
	for i := range policy.MostKeyrings + 1 {
		rings = append(rings, fmt.Sprint("ring", i))
		text += "  " + rings[i] + ":\n"
	}
	h.Book = house.BookOf(t, text)
	h = h.Start(t)
	for _, ring := range rings {
		if _, err := h.Keyrings.Add(ctx, "test", ring, keyrings.NewEntry{Name: "smith", Password: "creaky-third-step"}); err != nil {
			t.Fatal(err)
		}
	}
	turn, ours, err := present(h, []string{typed("smith", "creaky-third-step")}, policy.Wanted{Keyrings: rings})
	if !slices.Equal(turn.Visitor.Keyrings, rings[:policy.MostKeyrings]) || !ours || err != nil {
		t.Errorf("%v %v %v", turn.Visitor.Keyrings, ours, err)
	}
}

// What a browser holds beside a session counts where it is asked for, until it is locked.
func TestHeldBesideASession(t *testing.T) {
	h, _, _ := house.Handing(t)
	if err := h.Shared.Set(ctx, "test", "press-kit", shared.Change{Password: "copper-kettle-moss"}); err != nil {
		t.Fatal(err)
	}
	kit, _, err := h.Shared.Unlock(ctx, []string{"press-kit"}, "copper-kettle-moss", shared.Origin{}, func(string) string { return "" })
	if err != nil {
		t.Fatal(err)
	}
	open := func(i passes.Issued) string {
		token, _, err := h.Passes.Gate().Open(ctx, i.Link[strings.Index(i.Link, "link=")+5:], passes.Origin{})
		if err != nil {
			t.Fatal(err)
		}
		return token
	}
	one, two := h.Issue(t, "recordings", passes.NewPass{}), h.Issue(t, "recordings", passes.NewPass{})
	note := h.Issue(t, "notes", passes.NewPass{})
	cookies := []string{
		"ostiarius-unlock-press-kit", kit, "ostiarius-pass-" + one.Pass.ID, open(one), "ostiarius-pass-" + two.Pass.ID, open(two),
		"ostiarius-pass-" + note.Pass.ID, open(note), "app", "kept",
	}
	v := h.Visitors
	at := func(path string, r *http.Request) *guard.Turn {
		t.Helper()
		q := policy.Request{Method: "GET", Host: "marram.example", Path: path}
		asked, err := h.Book.Read(q)
		if err != nil {
			t.Fatal(err)
		}
		turn := &guard.Turn{Book: h.Book, Place: asked.Place}
		if err := v.Unlocked(r, asked.Wanted(), turn); err != nil {
			t.Fatal(err)
		}
		d, err := v.Decide(r, &guard.Turn{Book: h.Book}, q)
		judged := h.Book.Judge(asked.Place, asked.Doors(), &turn.Visitor)
		if err != nil || d.Outcome != judged.Outcome {
			t.Errorf("%s: decided %s, judged %s, %v", path, d.Outcome, judged.Outcome, err)
		}
		return turn
	}
	r := request("/", cookies...)
	for path, want := range map[string]struct{ shared, passes string }{
		"/press/a": {"[press-kit]", "[]"}, "/recordings/a": {"[]", "[recordings]"}, "/notes/a": {"[]", "[notes]"}, "/": {"[]", "[]"},
	} {
		turn := at(path, r)
		if fmt.Sprint(turn.Visitor.Shared) != want.shared || fmt.Sprint(turn.Visitor.Passes) != want.passes ||
			len(turn.Passes) != len(turn.Visitor.Passes) {
			t.Errorf("%s: %v %v %v", path, turn.Visitor.Shared, turn.Visitor.Passes, turn.Passes)
		}
	}
	if d, err := v.Decide(r, &guard.Turn{Book: h.Book},
		policy.Request{Method: "GET", Host: "marram.example", Path: "/%zz"}); d.Outcome != policy.Reject || err != nil {
		t.Errorf("%+v %v", d, err)
	}
	if held := v.Held(r, h.Book, []string{"recordings"}, "/recordings/a"); len(held) != 2 {
		t.Errorf("%d are held", len(held))
	}
	// By credentials: those that were right a moment ago.
	named := request("/recordings/a")
	named.Header.Set("Authorization", typed(one.Pass.ID, one.Password))
	if held := v.Held(named, h.Book, []string{"recordings"}, "/recordings/a"); len(held) != 0 {
		t.Errorf("%d are held that nobody has looked at", len(held))
	}
	for range 2 {
		turn := guard.Turn{Book: h.Book, Visitor: policy.Visitor{From: netip.MustParseAddr("192.0.2.7")}}
		turn.Place.Path = "/recordings/a"
		if ours, err := v.Present(named, named.Header["Authorization"], policy.Wanted{Passes: []string{"recordings"}}, &turn); !ours ||
			err != nil || fmt.Sprint(turn.Visitor.Passes) != "[recordings]" {
			t.Errorf("%v %v %v", ours, err, turn.Visitor.Passes)
		}
	}
	if held := v.Held(named, h.Book, []string{"recordings"}, "/recordings/a"); len(held) != 1 {
		t.Errorf("%d are held", len(held))
	}
	// Over HTTPS the same names are nobody's.
	turn := &guard.Turn{Book: h.Book, Secure: true}
	if err := v.Unlocked(r, policy.Wanted{Shared: []string{"press-kit"}, Passes: []string{"notes"}}, turn); err != nil ||
		turn.Visitor.Shared != nil || turn.Passes != nil {
		t.Errorf("%+v %v", turn, err)
	}
	if got := v.UnlockToken(r, "press-kit"); got != kit || v.UnlockToken(r, "all") != "" {
		t.Error(got)
	}
	taken := http.Header{}
	walking := serve(h, r, func(w http.ResponseWriter, r *http.Request) {
		if err := v.Lock(taken, r); err != nil {
			t.Error(err)
		}
	})
	if walking != 200 || len(taken["Set-Cookie"]) != 4 {
		t.Errorf("%d %v", walking, taken)
	}
	for _, c := range (&http.Response{Header: taken}).Cookies() {
		if c.MaxAge >= 0 || c.Value != "" || c.Name == "app" {
			t.Errorf("%+v", c)
		}
	}
	if turn := at("/press/a", r); turn.Visitor.Shared != nil {
		t.Error("an unlock that was ended counts")
	}
	if turn := at("/notes/a", r); turn.Visitor.Passes != nil {
		t.Error("a pass that was closed here opens")
	}
	for cookie, want := range map[string]bool{
		"app": false, "ostiarius-session": false, "ostiarius-unlock-press-kit": true, "__Host-ostiarius-pass-x": true,
	} {
		if v.HoldsBeside(request("/", cookie, "x")) != want {
			t.Errorf("%s holds something: %v", cookie, !want)
		}
	}
	if !v.HoldsBeside(named) {
		t.Error("an Authorization header holds something")
	}
}

// serve has the guard of a house hand a request on, and returns the status.
func serve(h *house.House, r *http.Request, site http.HandlerFunc) int {
	w := httptest.NewRecorder()
	(&guard.Guard{
		House: func() *guard.House { return &guard.House{Book: h.Book, Site: site} }, Who: h.Visitors.Who,
		Walking: h.Visitors.Walks().Walking, Own: site,
		Turned: func(w http.ResponseWriter, _ *http.Request, t *guard.TurnedAway) { w.WriteHeader(t.Answer.Status) },
	}).ServeHTTP(w, r)
	return w.Code
}

// Our cookies are for this host, for no script and no request of other sites, and last as long as what they stand for.
func TestCookiesThatAreGiven(t *testing.T) {
	h, _, _ := house.Open(t)
	v := h.Visitors
	const longest = 400 * 24 * 3600
	begun := func(remembered bool, lasts time.Duration) signin.SignedIn {
		return signin.SignedIn{Begun: sessions.Begun{Token: "t", Cookie: sessions.Cookie{Remembered: remembered, Lasts: lasts}}, Device: "d"}
	}
	known := begun(false, 0)
	known.Known, known.KnownFor, known.Language = "k", time.Hour, words.German
	lasting := begun(true, 0)
	lasting.Known, lasting.KnownFor = "k", 10_000*24*time.Hour
	for _, test := range []struct {
		give func(h http.Header, r *http.Request)
		want string // name=value; Max-Age, "" for until the browser is closed
	}{
		{func(h http.Header, r *http.Request) { v.Welcome(h, r, begun(false, time.Hour)) }, "session=t | device=d; 34560000"},
		{func(h http.Header, r *http.Request) { v.Welcome(h, r, begun(true, time.Hour)) }, "session=t; 3600 | device=d; 34560000"},
		{func(h http.Header, r *http.Request) { v.Welcome(h, r, lasting) }, "session=t; 34560000 | device=d; 34560000 | known=k; 34560000"},
		{func(h http.Header, r *http.Request) { v.Welcome(h, r, begun(true, (longest+1)*time.Second)) },
			"session=t; 34560000 | device=d; 34560000"},
		{func(h http.Header, r *http.Request) { v.Welcome(h, r, begun(true, longest*time.Second)) }, "session=t; 34560000 | device=d; 34560000"},
		{func(h http.Header, r *http.Request) { v.Welcome(h, r, known) },
			"session=t | device=d; 34560000 | known=k; 3600 | language=de; 34560000"},
		{func(h http.Header, r *http.Request) {
			r.AddCookie(&http.Cookie{Name: "ostiarius-language", Value: "en"})
			r.AddCookie(&http.Cookie{Name: "__Host-ostiarius-language", Value: "en"})
			v.Welcome(h, r, known)
		}, "session=t | device=d; 34560000 | known=k; 3600"},
		{func(h http.Header, r *http.Request) { v.Farewell(h, r) }, "session=; -1"},
		{func(h http.Header, r *http.Request) { v.OtherName(h, r) }, "other-name=yes; 60"},
		{func(h http.Header, r *http.Request) { v.SetLanguage(h, r, words.German) }, "language=de; 34560000"},
		{func(h http.Header, r *http.Request) { visitor.Know(v, h, r, "m") }, "device=m; 34560000"},
		{func(h http.Header, r *http.Request) { visitor.Carry(v, h, r, visitor.Half, "x") }, "half=x"},
		{func(h http.Header, r *http.Request) { visitor.Carry(v, h, r, visitor.Way, "") }, "elsewhere=; -1"},
		{func(h http.Header, r *http.Request) { v.Bring(h, r, "recover", "x") }, "brought=recover.x; 900"},
		{func(h http.Header, r *http.Request) { v.Bring(h, r, "recover", "") }, "brought=; -1"},
		{func(h http.Header, r *http.Request) { v.Bring(h, r, "recover", strings.Repeat("x", 101)) }, "brought=; -1"},
		{func(h http.Header, r *http.Request) { v.GivePass(h, r, "k7", "x") }, "pass-k7=x; 34560000"},
		{func(h http.Header, r *http.Request) { v.Walks().Give(h, r, "w", 15*time.Minute) }, "walk=w; 4500"},
		{func(h http.Header, r *http.Request) { v.Walks().Forget(h, r) }, "walk=; -1"},
	} {
		for _, secure := range []bool{false, true} {
			r, given := request("/"), http.Header{}
			prefix := "ostiarius-"
			if secure {
				r.TLS, prefix = &tls.ConnectionState{}, "__Host-ostiarius-"
			}
			test.give(given, r)
			var got []string
			for _, c := range (&http.Response{Header: given}).Cookies() {
				if c.Path != "/" || c.Domain != "" || !c.HttpOnly || c.SameSite != http.SameSiteLaxMode || c.Secure != secure ||
					!strings.HasPrefix(c.Name, prefix) {
					t.Errorf("%+v", c)
				}
				text := strings.TrimPrefix(c.Name, prefix) + "=" + c.Value
				if c.MaxAge != 0 {
					text += fmt.Sprint("; ", c.MaxAge)
				}
				got = append(got, text)
			}
			if strings.Join(got, " | ") != test.want {
				t.Errorf("secure %v: %s, want %s", secure, strings.Join(got, " | "), test.want)
			}
		}
	}
	for lasts, want := range map[*policy.DeclaredShared]int{
		{Name: "a"}: 0, {Name: "a", Lasts: time.Hour}: 3600, {Name: "a", Forever: true}: longest, {Name: "a", Lasts: 20000 * time.Hour}: longest,
	} {
		given := http.Header{}
		v.GiveUnlock(given, request("/"), lasts, &unlock, "x")
		if c := (&http.Response{Header: given}).Cookies()[0]; c.Name != "ostiarius-unlock-press-kit" || c.Value != "x" || c.MaxAge != want {
			t.Errorf("%+v: %+v", lasts, c)
		}
	}
}

// A cookie is read as it was sent, once; two of one name are none, since one of them was planted.
func TestCookiesThatAreBrought(t *testing.T) {
	h, _, _ := house.Open(t)
	v := h.Visitors
	for line, want := range map[string]string{
		"ostiarius-session=a":                                 "a",
		"app=1; ostiarius-session=a; other=2":                 "a",
		"app=1;ostiarius-session=a ;other=2":                  "a",
		"ostiarius-session=a=b":                               "a=b",
		"ostiarius-session":                                   "",
		"ostiarius-session-x=a":                               "",
		"x-ostiarius-session=a":                               "",
		"Ostiarius-Session=a":                                 "",
		"ostiarius-session =a":                                "",
		"ostiarius-session=a; ostiarius-session=b":            "",
		"ostiarius-session=a; ostiarius-session=a":            "",
		"ostiarius-session=a; ostiarius-session=b; x=c":       "",
		"ostiarius-session=; ostiarius-session=b":             "",
		"ostiarius-session=a\nostiarius-session=b":            "",
		"app=1\nostiarius-session=b":                          "b",
		"__Host-ostiarius-session=a":                          "",
		"__Host-ostiarius-session=a; ostiarius-session=plain": "plain",
	} {
		r := request("/")
		r.Header["Cookie"] = strings.Split(line, "\n")
		if got := v.Token(r); got != want {
			t.Errorf("%q: %q, want %q", line, got, want)
		}
	}
	r := request("/", "__Host-ostiarius-session", "a", "ostiarius-session", "b")
	if r.TLS = (&tls.ConnectionState{}); v.Token(r) != "a" {
		t.Errorf("over HTTPS: %q", v.Token(r))
	}
	for brought, want := range map[string][2]string{"recover.x": {"recover", "x"}, "recover": {"recover", ""}, "a.b.c": {"a", "b.c"}, "": {}} {
		if what, token := v.Brought(request("/", "ostiarius-brought", brought)); what != want[0] || token != want[1] {
			t.Errorf("%q: %q %q", brought, what, token)
		}
	}
	if got := visitor.Carried(v, request("/", "ostiarius-half", "x", "ostiarius-first", "y"), visitor.First); got != "y" {
		t.Error(got)
	}
	german := request("/", "ostiarius-language", "de")
	german.Header.Set("Accept-Language", "en")
	if v.Language(german) != words.German || v.Language(request("/", "ostiarius-language", "xx")) != words.English {
		t.Error("the language that was chosen is not the one that counts")
	}
	r = request("/", "ostiarius-device", "d", "ostiarius-known", "k", "ostiarius-language", "de")
	r.Header.Set("User-Agent", "a browser")
	serve(h, r, func(_ http.ResponseWriter, r *http.Request) {
		want := sessions.Origin{Network: "192.0.2.7", Agent: "a browser", Device: "d", Known: "k", Language: words.German}
		if got := v.Origin(r); got != want {
			t.Errorf("%+v", got)
		}
	})
}

// Whoever has to wait is told how long, rounded up; what is no such error is none.
func TestLater(t *testing.T) {
	for wait, want := range map[time.Duration]string{
		0: "in a second.", 900 * time.Millisecond: "in a second.", time.Second: "in 2 seconds.", 118 * time.Second: "in 119 seconds.",
		119 * time.Second: "in 2 minutes.", 120 * time.Second: "in 3 minutes.", 179 * time.Second: "in 3 minutes.",
	} {
		later := visitor.Later(fmt.Errorf("wrapped: %w", &throttle.Slow{Wait: wait}))
		if later == nil || later.Status != 429 || later.Busy || !strings.HasSuffix(later.Text, want) || later.Wait <= wait ||
			later.Wait > wait+time.Second {
			t.Errorf("%s: %+v", wait, later)
		}
	}
	if later := visitor.Later(hashing.ErrBusy); later == nil || later.Status != 503 || !later.Busy || later.Wait != 5*time.Second {
		t.Errorf("%+v", later)
	}
	if visitor.Later(nil) != nil || visitor.Later(errors.New("another")) != nil {
		t.Error("another error says to wait")
	}
}

// Where a pass or a keyring opens, credentials are looked at as the one that they name: a pass by its name, and nothing else then.
func TestPassesBesideKeyrings(t *testing.T) {
	h, c, _ := house.Handing(t)
	h.Book = house.BookOf(t, "passes: { recordings: { lasts: 14d }, notes: }\nkeyrings: { outer: }\ndoors:\n  - { path: /recordings/**, "+
		"admit: { any: [ { pass: recordings }, { keyring: outer } ] } }\n")
	h = h.Start(t)
	if _, err := h.Keyrings.Add(ctx, "test", "outer", keyrings.NewEntry{Name: "smith", Password: "creaky-third-step"}); err != nil {
		t.Fatal(err)
	}
	one, note := h.Issue(t, "recordings", passes.NewPass{}), h.Issue(t, "notes", passes.NewPass{})
	if _, err := h.Keyrings.Add(ctx, "test", "outer", keyrings.NewEntry{Name: note.Pass.ID, Password: "creaky-third-step"}); err != nil {
		t.Fatal(err)
	}
	want := policy.Wanted{Passes: []string{"recordings"}, Keyrings: []string{"outer"}}
	at := func(header string) guard.Turn {
		t.Helper()
		turn := guard.Turn{Book: h.Book, Visitor: policy.Visitor{From: netip.MustParseAddr("192.0.2.7")}}
		turn.Place.Path = "/recordings/a"
		if ours, err := h.Visitors.Present(request("/recordings/a"), []string{header}, want, &turn); err != nil || !ours {
			t.Errorf("%v %v", ours, err)
		}
		return turn
	}
	for range 2 {
		if turn := at(typed("smith", "creaky-third-step")); fmt.Sprint(turn.Visitor.Keyrings, turn.Visitor.Passes) != "[outer] []" {
			t.Errorf("of a keyring: %v %v", turn.Visitor.Keyrings, turn.Visitor.Passes)
		}
		if turn := at(typed(one.Pass.ID, one.Password)); fmt.Sprint(turn.Visitor.Keyrings, turn.Visitor.Passes) != "[] [recordings]" ||
			len(turn.Passes) != 1 {
			t.Errorf("of a pass: %v %v", turn.Visitor.Keyrings, turn.Visitor.Passes)
		}
	}
	if turn := at(typed(one.Pass.ID, "creaky-third-step")); turn.Visitor.Keyrings != nil || turn.Visitor.Passes != nil {
		t.Errorf("a wrong password of a pass: %v %v", turn.Visitor.Keyrings, turn.Visitor.Passes)
	}
	if turn := at(typed("smith", "creaky-fourth-step")); turn.Visitor.Keyrings != nil || turn.Visitor.Passes != nil {
		t.Errorf("a wrong password of a keyring: %v %v", turn.Visitor.Keyrings, turn.Visitor.Passes)
	}
	// By a cookie too, each kind once.
	token, _, err := h.Passes.Gate().Open(ctx, one.Link[strings.Index(one.Link, "link=")+5:], passes.Origin{})
	if err != nil {
		t.Fatal(err)
	}
	turn := at(typed(one.Pass.ID, one.Password))
	if err := h.Visitors.Unlocked(request("/recordings/a", "ostiarius-pass-"+one.Pass.ID, token), want, &turn); err != nil ||
		len(turn.Passes) != 1 {
		t.Errorf("%v %v", turn.Visitor.Passes, err)
	}
	turn = guard.Turn{Book: h.Book}
	turn.Visitor.Passes = []string{"another"} // known from elsewhere
	turn.Place.Path = "/recordings/a"
	if err := h.Visitors.Unlocked(request("/recordings/a", "ostiarius-pass-"+one.Pass.ID, token), want, &turn); err != nil ||
		fmt.Sprint(turn.Visitor.Passes) != "[another recordings]" || len(turn.Passes) != 1 {
		t.Errorf("%v %v", turn.Visitor.Passes, err)
	}
	c.Pass(15 * 24 * time.Hour)
	if turn := at(typed(one.Pass.ID, one.Password)); turn.Visitor.Passes != nil {
		t.Errorf("a pass that has ended: %v", turn.Visitor.Passes)
	}
}

// Changes of an account make credentials be looked at anew that are being verified; those of others stay remembered.
func TestChangedIsAsked(t *testing.T) {
	h, _, _ := house.Open(t)
	right := []string{typed("ines", house.InesPassword)}
	for range 2 {
		if turn, _, err := present(h, right, policy.Wanted{Accounts: true}); !turn.Visitor.SignedIn || err != nil {
			t.Fatal(err)
		}
	}
	if _, err := h.People.Add(t.Context(), "test", people.NewAccount{Name: "walt"}); err != nil {
		t.Fatal(err)
	}
	if turn, _, err := present(h, right, policy.Wanted{Accounts: true}); !turn.Visitor.SignedIn || err != nil || h.Verified(t) != 1 {
		t.Errorf("%v, looked at %d times", err, h.Verified(t))
	}
}
