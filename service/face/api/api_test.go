package api

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"log/slog"
	"os"

	"github.com/go-chi/chi/v5"
	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"ostiarius/client"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/hashing"
	"ostiarius/service/rooms"
	"ostiarius/service/rule/inforce"
	"ostiarius/store/fresh"
)

func server(t testing.TB, change ...func(*API)) chi.Router {
	t.Helper()
	dir := t.TempDir()
	file := filepath.Join(dir, "doors.yaml")
	if err := os.WriteFile(file, []byte("roles: {keeper: }\nkeyrings: {outer: {realm: Office}}\ndoors:\n  - { path: /log/**, admit: { "+
		"role: keeper } }\n  - { path: /**/*.map, admit: nobody }\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	records := fresh.Records(t, dir)
	log := slog.New(slog.DiscardHandler)
	policy, err := inforce.Open(t.Context(), inforce.Options{File: file, Store: records, Missing: http.NotFoundHandler(), Log: log})
	if err != nil {
		t.Fatal(err)
	}
	pool := hashing.New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, nil)
	behind, err := rooms.Open(rooms.Options{
		Store: records, Book: policy.Book, Now: time.Now, Hashing: pool, Front: &guard.Front{}, Log: log,
		Mail: rooms.Mail{Site: func() string { return "https://marram.example" }},
	})
	if err != nil {
		t.Fatal(err)
	}
	api := &API{
		Rooms: behind, Policy: policy, Status: func() client.Status { return client.Status{Policy: file} }, Now: time.Now, Log: log,
		Actor: func(*http.Request) string { return "test" },
	}
	for _, c := range change {
		c(api)
	}
	r := chi.NewRouter()
	api.Routes(r)
	return r
}

func request(method, path, body string) *http.Request {
	r := httptest.NewRequest(method, path, strings.NewReader(body))
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set(client.RequestedWith, "test")
	return r
}

// Whatever changes something asks for a proof of the password of the last 15 minutes; what only
// looks does not.
func TestWhatAsksForAProof(t *testing.T) {
	age := time.Duration(0)
	r := server(t, func(a *API) { a.ProofAge = func(*http.Request) time.Duration { return age } })
	ask := func(method, path, body string) (int, string) {
		w := httptest.NewRecorder()
		r.ServeHTTP(w, request(method, path, body))
		return w.Code, w.Body.String()
	}
	if code, text := ask("POST", "/people", `{"name": "ines", "password": "seven-brass-prisms", "roles": ["steward"]}`); code != 201 {
		t.Fatal(code, text)
	}
	looks := map[string]string{
		"POST /matrix": `{}`, "POST /matrix/marks": `{}`, "POST /policy/check": `{"text": "doors: []"}`,
		"POST /policy/replay": `{"text": "doors: []"}`, "POST /policy/edit": `{"edits": [{"kind": "unlisted", "admit": "hide"}]}`,
		"POST /passwords/estimate": `{"password": "x"}`, "POST /passwords/generate": "", "POST /shared/{name}/preview": `{"password": "x"}`,
	}
	asked := 0
	for _, old := range []time.Duration{ProofLasts + time.Second, session.Unknown} {
		age = old
		err := chi.Walk(r, func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
			path := strings.NewReplacer("{name}", "ines", "{ring}", "outer", "{id}", "1", "{role}", "steward", "{handle}", "x").Replace(route)
			body, look := looks[method+" "+route]
			look = look || method == "GET" && !strings.HasSuffix(route, "/export")
			code, text := ask(method, path, body)
			if asks := code == 403 && strings.Contains(text, `"code":"proof-needed"`); asks == look {
				t.Errorf("%s %s after %v: %d %s", method, path, old, code, text)
			}
			if !look {
				asked++
			}
			return nil
		})
		if err != nil || asked < 20 {
			t.Fatal(asked, err)
		}
	}
	age = ProofLasts
	if code, text := ask("PUT", "/people/ines/password", `{"password": "kettle-moth-anvil"}`); code != 204 {
		t.Errorf("after a proof: %d %s", code, text)
	}
}

// Each operation is carried out by one function, and nothing else is.
func TestEachOperationIsCarriedOut(t *testing.T) {
	declared := map[string]bool{}
	for _, o := range client.Operations() {
		if o.Under == "" {
			declared[o.Method+" "+o.Path] = true
		}
	}
	all := len(declared)
	err := chi.Walk(server(t), func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		if !declared[method+" "+route] {
			t.Errorf("%s %s is carried out twice, or is not declared", method, route)
		}
		delete(declared, method+" "+route)
		return nil
	})
	if err != nil || len(declared) > 0 || all < 100 || len(carriers) != all {
		t.Errorf("of %d operations, declared and not carried out: %v; carried out: %d (%v)", all, declared, len(carriers), err)
	}
}

// The answers are as the description says.
func TestAnswersFollowTheDescription(t *testing.T) {
	r := server(t)
	var described map[string]any
	if err := yaml.Unmarshal(description, &described); err != nil {
		t.Fatal(err)
	}
	text, _ := json.Marshal(described)
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("api.json", document); err != nil {
		t.Fatal(err)
	}
	for _, step := range []struct {
		method, path, body string
		status             int
		schema             string // of the answer, or of the elements of a list
	}{
		{"GET", "/doors", "", 200, "Doors"},
		{"GET", "/explain?url=/log/&as=role:keeper", "", 200, "Explanation"},
		{"GET", "/explain?url=nonsense", "", 422, "Problem"},
		{"GET", "/explain?url=/&as=nonsense", "", 422, "Problem"},
		{"GET", "/explain?url=/&client=nonsense", "", 422, "Problem"},
		{"GET", "/doors/0/relations", "", 200, "Relations"},
		{"GET", "/doors/7/relations", "", 404, "Problem"},
		{"POST", "/people", `{"name": "Ines", "password": "seven-brass-prisms", "roles": ["keeper"]}`, 201, "Person"},
		{"POST", "/people", `{"name": "ines", "password": "seven-brass-prisms"}`, 409, "Problem"},
		{"POST", "/people", `{"name": "bo", "password": "short"}`, 422, "Problem"},
		{"POST", "/people", `{"nam": "bo"}`, 400, "Problem"},
		{"POST", "/people", `{"name": "bo"} {}`, 400, "Problem"},
		{"POST", "/people", `{"name": "` + strings.Repeat("x", 100_000) + `"}`, 400, "Problem"},
		{"GET", "/people?search=INE&role=keeper&state=enabled&sort=signed-in&down=true&limit=5", "", 200, "People"},
		{"GET", "/people?limit=5000", "", 422, "Problem"},
		{"PATCH", "/people/ines", `{"email": "Ines@marram.example", "notes": "east lamp"}`, 200, "Person"},
		{"PATCH", "/people/ines", `{"email": "nonsense"}`, 422, "Problem"},
		{"POST", "/people", `{"name": "bo"}`, 201, "Person"},
		{"PATCH", "/people/bo", `{"email": "ines@MARRAM.example"}`, 409, "Problem"},
		{"POST", "/people/bo/link", "", 201, "Link"},
		{"POST", "/people/nobody/link", "", 404, "Problem"},
		{"DELETE", "/people/bo/sessions", "", 200, ""},
		{"POST", "/people/import", `{"dry": true, "file": "name,roles\ncy,keeper\nb o,\n"}`, 200, "Imported"},
		{"POST", "/people/import", `{"dry": true, "file": "password\nx\n"}`, 422, "Problem"},
		{"GET", "/people.json", "", 200, "Exported"},
		{"GET", "/people.csv", "", 200, ""},
		{"GET", "/sessions?account=ines", "", 200, "Sessions"},
		{"GET", "/sessions?account=nobody", "", 404, "Problem"},
		{"DELETE", "/sessions", "", 200, ""},
		{"DELETE", "/sessions/0123456789abcdef0123", "", 404, "Problem"},
		{"POST", "/keyrings/outer/entries", `{"name": "gate", "password": "kettle-moth-prisms", "until": "2999-01-01T00:00:00Z"}`, 201, "Entry"},
		{"POST", "/keyrings/outer/entries", `{"name": "gate", "password": "kettle-moth-prisms"}`, 409, "Problem"},
		{"POST", "/keyrings/outer/entries", `{"name": "ga:te", "password": "kettle-moth-prisms"}`, 422, "Problem"},
		{"POST", "/keyrings/inner/entries", `{"name": "gate", "password": "kettle-moth-prisms"}`, 404, "Problem"},
		{"PUT", "/keyrings/outer/entries/gate/password", `{"password": "anvil-moth-prisms", "grace": 3600}`, 204, ""},
		{"PUT", "/keyrings/outer/entries/gate/disabled", `true`, 204, ""},
		{"PUT", "/keyrings/outer/entries/none/disabled", `true`, 404, "Problem"},
		{"POST", "/keyrings/outer/import", `{"file": "x:plain-prisms\ny:{SHA}W6ph5Mm5Pz8GgiULbPgzG37mj9g=\n"}`, 200, "ImportedLine"},
		{"GET", "/keyrings/outer/export", "", 200, "EntriesExport"},
		{"GET", "/keyrings", "", 200, "Keyring"},
		{"DELETE", "/keyrings/outer/entries/gate", "", 204, ""},
		{"GET", "/upstreams", "", 200, "Upstream"},
		{"GET", "/activity?kind=account&since=2026-01-01T00:00:00Z", "", 200, "ActivityRecord"},
		{"GET", "/activity?since=yesterday", "", 422, "Problem"},
		{"GET", "/today", "", 200, "Today"},
		{"POST", "/passwords/estimate", `{"password": "password1", "name": "ines"}`, 200, "Strength"},
		{"POST", "/passwords/generate", `{"words": 5}`, 200, ""},
		{"POST", "/passwords/generate", `{"words": 50}`, 422, "Problem"},
		{"GET", "/people/INES", "", 200, "Person"},
		{"GET", "/people/nobody", "", 404, "Problem"},
		{"POST", "/people/ines/grants", `{"role": "steward", "until": "2999-01-01T00:00:00Z"}`, 204, ""},
		{"DELETE", "/people/ines/grants/steward", "", 204, ""},
		{"DELETE", "/people/ines/grants/steward", "", 404, "Problem"},
		{"PUT", "/people/ines/disabled", "true", 204, ""},
		{"PUT", "/people/ines/password", `{"password": "eight-brass-prisms"}`, 204, ""},
		{"DELETE", "/people/ines", "", 204, ""},
		{"POST", "/matrix", `{}`, 200, "Matrix"},
		{"POST", "/matrix", `{"files": true, "as": ["role:keeper,proof-age:5m"]}`, 200, "Matrix"},
		{"POST", "/matrix", `{"addresses": [{"method": "GET", "path": "/log/%2f"}]}`, 200, "Matrix"},
		{"POST", "/matrix", `{"as": ["nonsense"]}`, 422, "Problem"},
		{"POST", "/matrix/marks", `{"from": 1, "limit": 2}`, 200, "Marks"},
		{"POST", "/matrix/marks", `{"files": true, "as": ["role:keeper,proof-age:5m"], "from": 100000}`, 200, "Marks"},
		{"POST", "/matrix/marks", `{"limit": 20001}`, 422, "Problem"},
		{"POST", "/matrix/marks", `{"from": -1}`, 422, "Problem"},
		{"GET", "/policy", "", 200, "Version"},
		{"POST", "/policy/check", `{"text": "doors: []"}`, 200, "Checked"},
		{"POST", "/first-link", "", 201, "Link"},
		{"GET", "/site", "", 200, "Site"},
		{"POST", "/policy/edit", `{"edits": [{"kind": "role", "name": "warden"}, {"kind": "door", "path": "/log/old/**", "admit": ` +
			`"role:warden", "otherwise": "hide"}]}`, 200, "Edited"},
		{"POST", "/policy/edit", `{"edits": [{"kind": "remove", "path": "/log/**"}, {"kind": "unlisted", "admit": "hide"}, {"kind": ` +
			`"keyring", "name": "sheds", "realm": "The sheds"}]}`, 200, "Edited"},
		{"POST", "/policy/edit", `{"edits": [{"kind": "remove", "path": "/nothing"}]}`, 422, "Problem"},
		{"POST", "/policy/edit", `{"edits": [{"kind": "door", "path": "nothing", "admit": "public"}]}`, 422, "Problem"},
		{"POST", "/policy/edit", `{"edits": [{"kind": "door", "path": "/x", "admit": "rol:x"}]}`, 422, "Problem"},
		{"POST", "/policy/edit", `{"edits": [{"kind": "sentence"}]}`, 422, "Problem"},
		{"POST", "/policy/edit", `{"edits": []}`, 422, "Problem"},
		{"POST", "/policy", `{"text": "doors: []"}`, 422, "Problem"},
		{"POST", "/policy", `{"text": "doors: [{path: /, admit: public}]", "base": 9}`, 409, "Problem"},
		{"POST", "/policy", `{"text": "doors: [{path: /**, admit: public}]", "noOpening": true}`, 409, "Problem"},
		{"POST", "/policy", `{"text": "doors: [{path: /, admit: public}]", "base": 1}`, 201, "Applied"},
		{"GET", "/policy/versions", "", 200, "Version"},
		{"GET", "/policy/versions/1", "", 200, "Version"},
		{"GET", "/policy/versions/x", "", 404, "Problem"},
		{"POST", "/policy/versions/1/rollback", `{}`, 201, "Applied"},
		{"POST", "/policy/versions/44/rollback", `{}`, 404, "Problem"},
		{"GET", "/nothing", "", 404, "Problem"},
		{"PUT", "/people", "", 405, "Problem"},
	} {
		w := httptest.NewRecorder()
		r.ServeHTTP(w, request(step.method, step.path, step.body))
		if w.Code != step.status {
			t.Errorf("%s %s: %d %s, want %d", step.method, step.path, w.Code, w.Body, step.status)
			continue
		}
		if strings.Contains(w.Body.String(), "$argon2") || strings.Contains(w.Body.String(), "prisms") {
			t.Errorf("%s %s shows a secret: %s", step.method, step.path, w.Body)
		}
		if step.schema == "" {
			continue
		}
		schema, err := compiler.Compile("api.json#/components/schemas/" + step.schema)
		if err != nil {
			t.Fatal(err)
		}
		answer, err := jsonschema.UnmarshalJSON(w.Body)
		if err != nil {
			t.Fatalf("%s %s: %v", step.method, step.path, err)
		}
		all, many := answer.([]any)
		if !many {
			all = []any{answer}
		}
		for _, one := range all {
			if err := schema.Validate(one); err != nil {
				t.Errorf("%s %s: %v", step.method, step.path, err)
			}
		}
	}
}
