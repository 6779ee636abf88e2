// Package api is the administration API, for the commands and the console.
package api

import (
	_ "embed" // the description
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"ostiarius/client"
	"ostiarius/core/account"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/roster"
	"ostiarius/service/activity"
	"ostiarius/service/ending"
	"ostiarius/service/hashing"
	"ostiarius/service/inforce"
	"ostiarius/service/keyrings"
	"ostiarius/service/mistake"
	"ostiarius/service/people"
)

// An API answers administration requests. Whoever reaches it may do everything; who may
// reach it is decided in front of it, by a built-in door or the socket's file mode.
type API struct {
	Register *people.Register
	Activity *activity.Log
	Keyrings *keyrings.Keyrings
	Endings  *ending.List // what has been taken away and is not written down
	Policy   *inforce.Policy
	Status   func() client.Status
	Now      func() time.Time
	Log      *slog.Logger
	// Actor names who sends a request, for the activity.
	Actor func(*http.Request) string
	// Origins are the origins from which a browser may ask for changes; nil for none.
	Origins func(*http.Request) []string
	// ProofAge is how long ago whoever asks has typed the password; nil where nobody has to.
	ProofAge func(*http.Request) time.Duration
	// Remarks are what somebody should look at beside what the records say; nil for nothing.
	Remarks func() []string

	checked *lastCheck
}

//go:embed openapi.yaml
var description []byte

// Routes adds the API's routes to r.
func (a *API) Routes(r chi.Router) {
	a.checked = &lastCheck{}
	r.Use(a.onlyMeant)
	changes := r.With(a.fresh)
	r.Get("/status", a.status)
	r.Get("/doors", a.doors)
	r.Get("/doors/{id}/relations", a.relations)
	r.Get("/explain", a.explain)
	r.Post("/matrix", a.matrix)
	r.Get("/policy", a.showPolicy)
	changes.Post("/policy", a.applyPolicy)
	r.Post("/policy/check", a.checkPolicy)
	r.Get("/policy/versions", a.listVersions)
	r.Get("/policy/versions/{id}", a.showVersion)
	changes.Post("/policy/versions/{id}/rollback", a.rollbackPolicy)
	r.Get("/people", a.listPeople)
	changes.Post("/people", a.addPerson)
	changes.Post("/people/import", a.importPeople)
	r.Get("/people.json", a.exportPeople("application/json", "people.json", roster.WriteJSON))
	r.Get("/people.csv", a.exportPeople("text/csv; charset=utf-8", "people.csv", func(w io.Writer, all []*account.Account) error {
		return roster.WriteCSV(w, all, a.Now())
	}))
	r.Get("/people/{name}", a.showPerson)
	changes.Patch("/people/{name}", a.editPerson)
	changes.Post("/people/{name}/link", a.linkPerson)
	changes.Delete("/people/{name}/sessions", a.endSessionsOf)
	changes.Delete("/people/{name}", a.removePerson)
	changes.Put("/people/{name}/password", a.setPassword)
	changes.Put("/people/{name}/disabled", a.setDisabled)
	changes.Post("/people/{name}/grants", a.grant)
	changes.Delete("/people/{name}/grants/{role}", a.revoke)
	r.Get("/sessions", a.listSessions)
	changes.Delete("/sessions", a.endAllSessions)
	changes.Delete("/sessions/{handle}", a.endSession)
	r.Get("/keyrings", a.listKeyrings)
	changes.Post("/keyrings/{ring}/entries", a.addEntry)
	changes.Delete("/keyrings/{ring}/entries/{name}", a.removeEntry)
	changes.Put("/keyrings/{ring}/entries/{name}/password", a.setEntryPassword)
	changes.Put("/keyrings/{ring}/entries/{name}/disabled", a.setEntryDisabled)
	changes.Post("/keyrings/{ring}/import", a.importEntries)
	changes.Get("/keyrings/{ring}/export", a.exportEntries)
	r.Get("/upstreams", a.upstreams)
	r.Get("/activity", a.activity)
	r.Get("/today", a.today)
	r.Post("/passwords/estimate", a.estimate)
	r.Post("/passwords/generate", a.generate)
	r.Get("/openapi.yaml", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/yaml")
		w.Write(description)
	})
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		a.problem(w, http.StatusNotFound, "The API has nothing at this address.")
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		a.problem(w, http.StatusMethodNotAllowed, "The API does not have this method at this address.")
	})
}

func (a *API) answer(w http.ResponseWriter, status int, value any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "private, no-store")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(value)
}

func (a *API) problem(w http.ResponseWriter, status int, detail string) {
	a.answerProblem(w, client.Problem{Status: status, Detail: detail})
}

func (a *API) answerProblem(w http.ResponseWriter, p client.Problem) {
	p.Type, p.Title = "about:blank", http.StatusText(p.Status)
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Set("Cache-Control", "private, no-store")
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p)
}

// done answers a change that returns nothing, or says what was wrong with it.
func (a *API) done(w http.ResponseWriter, err error) {
	if err != nil {
		a.fail(w, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

func (a *API) fail(w http.ResponseWriter, err error) {
	var wrong *mistake.Error
	if errors.As(err, &wrong) {
		status := map[string]int{"unknown": http.StatusNotFound, "taken": http.StatusConflict, "invalid": http.StatusUnprocessableEntity}[wrong.Kind]
		a.problem(w, status, wrong.Text)
		return
	}
	var unwritten *ending.Unwritten
	if errors.As(err, &unwritten) {
		a.Log.Error("a change could not be written down yet", "error", err)
		a.problem(w, http.StatusServiceUnavailable, unwritten.Error())
		return
	}
	if errors.Is(err, hashing.ErrBusy) {
		w.Header().Set("Retry-After", "5")
		a.problem(w, http.StatusServiceUnavailable, err.Error())
		return
	}
	a.Log.Error("request of the API failed", "error", err)
	a.problem(w, http.StatusInternalServerError, "The service failed; its log says why.")
}

// The largest body of an ordinary request.
const maxBody = 64 << 10

// read decodes the body of a request, strictly. It answers what cannot be read.
func (a *API) read(w http.ResponseWriter, r *http.Request, into any, limit int64) bool {
	decoder := json.NewDecoder(http.MaxBytesReader(w, r.Body, limit))
	decoder.DisallowUnknownFields()
	err := decoder.Decode(into)
	if err == nil {
		if _, more := decoder.Token(); more != io.EOF {
			err = errors.New("more than one JSON value")
		}
	}
	if err != nil {
		status := http.StatusBadRequest
		if errors.Is(err, os.ErrDeadlineExceeded) {
			status = http.StatusRequestTimeout
		}
		a.problem(w, status, "The body is not the JSON that is expected here: "+err.Error())
		return false
	}
	return true
}

func (a *API) status(w http.ResponseWriter, r *http.Request) {
	a.answer(w, http.StatusOK, a.Status())
}

func (a *API) explain(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	method := q.Get("method")
	if method == "" {
		method = http.MethodGet
	}
	request, query, err := policy.ReadRequest(method, q.Get("url"))
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	who := q.Get("as")
	if who == "" {
		who = "anonymous"
	}
	visitor, err := policy.ParseVisitor(who)
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	kind, err := policy.ParseClient(q.Get("client"))
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	// The service knows what its accounts have been granted.
	if visitor.Account != "" && len(visitor.Roles) == 0 {
		if found, err := a.Register.Show(r.Context(), visitor.Account); err == nil {
			visitor.Roles = found.Roles(a.Now())
		}
	}
	a.answer(w, http.StatusOK, a.Policy.Book().Explain(request, &visitor, kind, query))
}

func (a *API) doors(w http.ResponseWriter, r *http.Request) {
	book := a.Policy.Book()
	all := client.Doors{
		Site: book.Site, Prefix: book.Prefix, File: a.Policy.File(), Roles: book.RoleNames(), Unlisted: book.UnlistedWord(),
		Doors: []client.Door{}, BuiltIn: []client.Door{}, Sources: []client.SourceRef{},
	}
	for i := range book.Doors {
		all.Doors = append(all.Doors, showDoor(i, &book.Doors[i]))
	}
	for i, door := range book.BuiltIn() {
		all.BuiltIn = append(all.BuiltIn, showDoor(i, &door))
	}
	for _, s := range book.Sources {
		all.Sources = append(all.Sources, client.SourceRef{Path: s.Path, Host: s.Host.String(), Files: s.Files, Proxy: s.Proxy})
	}
	a.answer(w, http.StatusOK, all)
}

// relations says how one door lies to all others.
func (a *API) relations(w http.ResponseWriter, r *http.Request) {
	book := a.Policy.Book()
	id, err := strconv.Atoi(parameter(r, "id"))
	if err != nil || id < 0 || id >= len(book.Doors) {
		a.problem(w, http.StatusNotFound, fmt.Sprintf("There is no door %q in the policy in force.", parameter(r, "id")))
		return
	}
	found := client.Relations{Wider: []client.Door{}, Narrower: []client.Door{}, Crossing: []client.Crossing{}}
	for i := range book.Doors {
		other := &book.Doors[i]
		switch book.Relate(id, i) {
		case place.Inside:
			found.Wider = append(found.Wider, showDoor(i, other))
		case place.Around:
			found.Narrower = append(found.Narrower, showDoor(i, other))
		case place.Crossing:
			example, _ := book.Doors[id].Meet(other.Set)
			found.Crossing = append(found.Crossing, client.Crossing{Door: showDoor(i, other), Example: example.Method + " " + example.Host + example.Path})
		}
	}
	a.answer(w, http.StatusOK, found)
}

func showDoor(id int, d *policy.Door) client.Door {
	methods := d.Methods.Names()
	if methods == nil {
		methods = []string{}
	}
	return client.Door{
		ID: id, Line: d.Line, Entry: d.Entry, Path: d.Written, Host: d.Host.String(), Methods: methods,
		Admit: d.Admit.String(), Asks: d.Ask(), Basic: d.Basic,
		Anonymous: d.Otherwise.Anonymous.String(), Refused: d.Otherwise.Refused.String(),
	}
}

// parameter returns a part of the path. chi has taken it from the decoded path, so a name
// stands in it as it is.
func parameter(r *http.Request, name string) string { return strings.TrimSpace(chi.URLParam(r, name)) }
