package elsewhere

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"golang.org/x/oauth2"

	"ostiarius/core/openid"
	"ostiarius/core/policy"
)

// RFC 7636, appendix B: what is sent ahead for a verifier.
func TestVectorOfTheCodeChallenge(t *testing.T) {
	const verifier = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
	p := &provider{o: &Options{}, name: "harbour"}
	config := p.config(&policy.DeclaredElsewhere{Client: "marram"}, openid.Provider{Authorization: "https://id.example/a"},
		"https://marram.example/back")
	u, err := url.Parse(config.AuthCodeURL("s", oauth2.S256ChallengeOption(verifier)))
	if err != nil || u.Query().Get("code_challenge") != "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM" ||
		u.Query().Get("code_challenge_method") != "S256" {
		t.Errorf("%s %v", u, err)
	}
}

// A provider that says too much, leads elsewhere or says nothing costs no more than it may.
func TestAProviderThatIsNone(t *testing.T) {
	now := time.Now()
	asked := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		switch {
		case strings.HasPrefix(r.URL.Path, "/endless"):
			for range 3 << 10 {
				if _, err := w.Write(make([]byte, 1<<10)); err != nil {
					return
				}
			}
		case strings.HasPrefix(r.URL.Path, "/elsewhere"):
			http.Redirect(w, r, "/right"+r.URL.Path[len("/elsewhere"):], http.StatusFound)
		default:
			http.Error(w, "no", http.StatusNotFound)
		}
	}))
	defer server.Close()
	for _, path := range []string{"/endless", "/elsewhere", "/nothing"} {
		p := &provider{o: &Options{Now: func() time.Time { return now }, client: newClient()}, name: "x"}
		asked = 0
		for range 3 {
			if _, _, err := p.described(t.Context(), server.URL+path); err == nil {
				t.Errorf("%s is a provider", path)
			}
		}
		if asked != 1 {
			t.Errorf("%s was asked %d times within a moment", path, asked)
		}
		now = now.Add(failsFor)
		p.described(t.Context(), server.URL+path)
		if asked != 2 {
			t.Errorf("%s was not asked again after a while", path)
		}
	}
}
