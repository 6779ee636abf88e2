package e2e

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ostiarius/e2e/needs"
)

// The tests share one browser and, where they change nothing for the others, one demo.
var (
	browser context.Context
	lamp    *Process // the demo
	lampDir string
)

func TestMain(m *testing.M) {
	code, err := runAll(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, "e2e:", err)
		code = 1
	}
	os.Exit(code)
}

func runAll(m *testing.M) (code int, err error) {
	flag.Parse()
	watched := os.Getenv("E2E_BINARY") != "" // the service is looked at, not its pages
	if only := os.Getenv("E2E_ONLY") == "browser"; only || watched {
		names, err := browserTests()
		if err != nil {
			return 1, err
		}
		flag.Set(map[bool]string{true: "test.run", false: "test.skip"}[only], "^("+strings.Join(names, "|")+")$")
	}
	if _, err := os.Stat(Binary()); err != nil {
		return 1, fmt.Errorf("%w; run `make build` first, or `make test` for all", err)
	}
	if lampDir, err = os.MkdirTemp("", "lamp"); err != nil {
		return 1, err
	}
	defer os.RemoveAll(lampDir)
	if lamp, err = Start("demo", "--listen", "127.0.0.1:0", "--data", lampDir); err != nil {
		return 1, err
	}
	defer func() {
		if stopped := lamp.Stop(); stopped != nil && err == nil {
			err = stopped
		}
	}()
	if watched {
		return m.Run(), nil
	}
	var end func()
	if browser, end, err = Browser(context.Background()); err != nil {
		return 1, err
	}
	defer end()
	return m.Run(), nil
}

const (
	agnes   = "amber-lantern-shelf"
	tobias  = "quiet-harbour-ledger"
	ines    = "seven-brass-prisms"
	walt    = "paint-and-lentil-soup"
	sunniva = "fog-bell-at-night"
)

// tab opens a tab of its own profile in the shared browser.
func tab(t *testing.T) context.Context {
	t.Helper()
	if browser == nil {
		needs.Skip(t, "without a browser")
	}
	ctx, end := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	t.Cleanup(end)
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		t.Fatal(err)
	}
	return ctx
}

// A person is an HTTP client with cookies that does not follow redirects.
type person struct {
	t    *testing.T
	base string
	http *http.Client
}

func newPerson(t *testing.T, base string) *person {
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return &person{t, base, &http.Client{
		Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
}

type answer struct {
	status   int
	location string
	header   http.Header
	body     string
}

func (p *person) do(method, path, body string, headers ...string) answer {
	p.t.Helper()
	req, err := http.NewRequest(method, p.base+path, strings.NewReader(body))
	if err != nil {
		p.t.Fatal(err)
	}
	if body != "" {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := p.http.Do(req)
	if err != nil {
		p.t.Fatal(err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		p.t.Fatal(err)
	}
	return answer{resp.StatusCode, resp.Header.Get("Location"), resp.Header, string(text)}
}

func (p *person) get(path string, headers ...string) answer {
	p.t.Helper()
	return p.do("GET", path, "", headers...)
}

func (p *person) signIn(name, password, next string) answer {
	p.t.Helper()
	return p.do("POST", "/door/sign-in", url.Values{"username": {name}, "password": {password}, "next": {next}}.Encode())
}

// is checks the status and, for a redirect, where it leads.
func (p *person) is(path string, status int, location string) {
	p.t.Helper()
	if a := p.get(path); a.status != status || a.location != location {
		p.t.Errorf("%s: %d %s, want %d %s", path, a.status, a.location, status, location)
	}
}
