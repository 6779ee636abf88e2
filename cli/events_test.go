package cli

import (
	"bytes"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"ostiarius/client"
)

// Whoever makes a secret is told where the shop sends its events, as the policy in force has it.
func TestWhereEventsAreSent(t *testing.T) {
	dir := serving(t, func(w http.ResponseWriter, r *http.Request) {
		answers := map[string]any{
			"/events/secrets": client.MadeSecret{Secret: "whsec_x"},
			"/policy":         client.Version{Text: "prefix: /keep\ndoors: [{path: /, admit: public}]"},
			"/status":         client.Status{URL: "https://marram.example"},
		}
		for path, answer := range answers {
			if strings.HasSuffix(r.URL.Path, path) {
				w.Header().Set("Content-Type", "application/json")
				json.NewEncoder(w).Encode(answer)
				return
			}
		}
		t.Errorf("%s is asked for", r.URL)
		http.NotFound(w, r)
	})
	var out, errOut bytes.Buffer
	code := Main([]string{"events", "secret", "--generate", "--data", dir}, strings.NewReader(""), &out, &errOut)
	if code != 0 || !strings.Contains(out.String(), " https://marram.example/keep/events.\n") {
		t.Errorf("%d %s%s", code, out.String(), errOut.String())
	}
}
