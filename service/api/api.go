// Package api is the administration API, for the commands and the console.
package api

import (
	"cmp"
	"context"
	_ "embed" // the description
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"log/slog"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"ostiarius/client"
	"ostiarius/core/account"
	"ostiarius/core/exact"
	"ostiarius/core/looks"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/roster"
	"ostiarius/core/words"
	"ostiarius/service/accesskeys"
	"ostiarius/service/activity"
	"ostiarius/service/decisions"
	"ostiarius/service/elsewhere"
	"ostiarius/service/ending"
	"ostiarius/service/events"
	"ostiarius/service/factors"
	"ostiarius/service/inforce"
	"ostiarius/service/joining"
	"ostiarius/service/keyrings"
	"ostiarius/service/mail"
	"ostiarius/service/members"
	"ostiarius/service/mistake"
	"ostiarius/service/outgoing"
	"ostiarius/service/passes"
	"ostiarius/service/patrols"
	"ostiarius/service/people"
	"ostiarius/service/problem"
	"ostiarius/service/sessions"
	"ostiarius/service/shared"
	"ostiarius/service/signin"
	"ostiarius/service/visitor"
	"ostiarius/service/walks"
	"ostiarius/store"
)

// An API answers administration requests. Whoever reaches it may do everything; who may
// reach it is decided in front of it, by a built-in door or the socket's file mode.
type API struct {
	People    *people.Register
	Sessions  *sessions.Records
	Desk      *signin.Desk
	Activity  *activity.Log
	Keyrings  *keyrings.Keyrings
	Shared    *shared.Passwords
	Passes    *passes.Passes
	Mail      *mail.Outbox
	Joining   *joining.Office
	Keys      *accesskeys.Keys
	Factors   *factors.Office
	Elsewhere *elsewhere.Room
	Events    *events.Books
	Members   *members.Roll
	Teller    *outgoing.Teller
	Walks     *walks.Walks
	Patrols   *patrols.Room
	Decided   *decisions.Record // nil for none
	Endings   *ending.List      // what has been taken away and is not written down
	Policy    *inforce.Policy
	Status    func() client.Status
	Now       func() time.Time
	Log       *slog.Logger
	// Actor names who sends a request, for the activity.
	Actor func(*http.Request) string
	// Shuts says that whoever asks is let in by the role of a steward, and could shut everybody out.
	Shuts bool
	// Origins are the origins from which a browser may ask for changes; nil for none.
	Origins func(*http.Request) []string
	// ProofAge is how long ago whoever asks has typed the password; nil where nobody has to.
	ProofAge func(*http.Request) time.Duration
	// ByKey reports whether whoever asks comes with an access key; nil where nobody does.
	ByKey func(*http.Request) bool
	// GiveWalk gives the browser of whoever asks the token of a walk; nil where there is none.
	GiveWalk func(h http.Header, r *http.Request, token string, lasts time.Duration)
	// Remarks are what somebody should look at beside what the records say; nil for nothing.
	Remarks func() []string

	// Samples are the names of the pages that people meet, and Sample shows one with sample data.
	Samples []string
	Sample  func(w http.ResponseWriter, page string, in words.Language, l looks.Looks) bool

	checked  *lastCheck
	surveyor *surveyor
}

//go:embed openapi.yaml
var description []byte

// Routes adds the API's routes to r.
func (a *API) Routes(r chi.Router) {
	a.checked, a.surveyor = &lastCheck{}, &surveyor{}
	r.Use(a.onlyMeant)
	changes := r.With(a.fresh)
	r.Get("/status", a.status)
	r.Get("/doors", a.doors)
	r.Get("/doors/{id}/relations", a.relations)
	r.Get("/explain", a.explain)
	r.Post("/matrix", a.matrix)
	r.Post("/matrix/marks", a.marks)
	r.Get("/policy", a.showPolicy)
	changes.Post("/policy", a.applyPolicy)
	r.Post("/policy/check", a.checkPolicy)
	r.Post("/policy/replay", a.replayPolicy)
	r.Post("/policy/edit", a.editPolicy)
	r.Get("/site", a.site)
	r.Get("/policy/versions", a.listVersions)
	r.Get("/policy/versions/{id}", a.showVersion)
	changes.Post("/policy/versions/{id}/rollback", a.rollbackPolicy)
	r.Get("/people", a.listPeople)
	changes.Post("/people", a.addPerson)
	changes.Post("/people/import", a.importPeople)
	r.Get("/people.json", a.exportPeople("application/json", "people.json", roster.WriteJSON))
	r.Get("/people.csv", a.exportPeople("text/csv; charset=utf-8", "people.csv", func(w io.Writer, all iter.Seq2[*account.Account, error]) error {
		return roster.WriteCSV(w, all, a.Now())
	}))
	r.Get("/people/{name}", a.showPerson)
	changes.Patch("/people/{name}", a.editPerson)
	changes.Post("/people/{name}/link", a.linkPerson)
	changes.Post("/people/{name}/link/mail", a.mailLink)
	changes.Delete("/people/{name}/sessions", a.endSessionsOf)
	changes.Delete("/people/{name}", a.removePerson)
	changes.Put("/people/{name}/password", a.setPassword)
	changes.Put("/people/{name}/disabled", a.setDisabled)
	changes.Post("/people/{name}/grants", a.grant)
	changes.Delete("/people/{name}/grants/{role}", a.revoke)
	r.Get("/people/{name}/factors", a.showFactors)
	changes.Post("/people/{name}/factors/reset", a.resetFactors)
	changes.Delete("/people/{name}/factors/reset", a.dropFactorReset)
	r.Get("/access-keys", a.listAccessKeys)
	changes.Post("/access-keys", a.addAccessKey)
	changes.Delete("/access-keys/{handle}", a.removeAccessKey)
	r.Get("/joining", a.listJoining)
	changes.Post("/joining/applications/{name}/approve", a.approve)
	changes.Post("/joining/applications/{name}/decline", a.decline)
	changes.Post("/joining/invitations", a.invite)
	changes.Delete("/joining/invitations/{email}", a.revokeInvitation)
	r.Get("/members", a.listMembers)
	r.Get("/members/weeks", a.memberWeeks)
	r.Get("/events", a.listShopEvents)
	changes.Post("/events/import", a.importPayments)
	r.Get("/events/secrets", a.listEventSecrets)
	changes.Post("/events/secrets", a.addEventSecret)
	changes.Delete("/events/secrets/{id}", a.removeEventSecret)
	r.Get("/events/{id}", a.showShopEvent)
	changes.Post("/events/{id}/retry", a.retryShopEvent)
	changes.Post("/events/{id}/drop", a.dropShopEvent)
	r.Get("/targets", a.listTargets)
	changes.Post("/targets", a.addTarget)
	changes.Delete("/targets/{id}", a.removeTarget)
	changes.Post("/targets/{id}/test", a.testTarget)
	r.Get("/sessions", a.listSessions)
	changes.Delete("/sessions", a.endAllSessions)
	changes.Delete("/sessions/{handle}", a.endSession)
	r.Get("/keyrings", a.listKeyrings)
	changes.Post("/keyrings/{ring}/entries", a.addEntry)
	changes.Patch("/keyrings/{ring}/entries/{name}", a.editEntry)
	changes.Delete("/keyrings/{ring}/entries/{name}", a.removeEntry)
	changes.Put("/keyrings/{ring}/entries/{name}/password", a.setEntryPassword)
	changes.Put("/keyrings/{ring}/entries/{name}/disabled", a.setEntryDisabled)
	changes.Post("/keyrings/{ring}/import", a.importEntries)
	changes.Post("/first-link", a.firstLink)
	changes.Get("/keyrings/{ring}/export", a.exportEntries)
	r.Get("/shared", a.listShared)
	changes.Put("/shared/{name}/password", a.setShared)
	changes.Delete("/shared/{name}/password", a.withdrawShared)
	r.Get("/shared/{name}/unlocks", a.listUnlocks)
	changes.Delete("/shared/{name}/unlocks", a.endUnlocks)
	changes.Delete("/unlocks/{handle}", a.endUnlock)
	r.Get("/shared/{name}/told", a.toldShared)
	changes.Post("/shared/{name}/send", a.tellShared(false))
	r.Post("/shared/{name}/preview", a.tellShared(true))
	r.Get("/passes/kinds", a.listPassKinds)
	r.Get("/passes", a.listPasses)
	changes.Post("/passes", a.issuePass)
	changes.Post("/passes/import", a.importPasses)
	changes.Post("/passes/rotate", a.rotatePasses)
	r.Get("/passes/{id}", a.showPass)
	changes.Post("/passes/{id}/revoke", a.doPass((*passes.Passes).Revoke))
	changes.Post("/passes/{id}/pause", a.doPass((*passes.Passes).Pause))
	changes.Post("/passes/{id}/resume", a.doPass((*passes.Passes).Resume))
	changes.Post("/passes/{id}/renew", a.renewPass)
	changes.Post("/passes/{id}/resend", a.resendPass)
	r.Get("/looks", a.showLooks)
	r.Get("/looks/pages/{page}", a.samplePage)
	r.Get("/messages", a.listMessages)
	r.Get("/messages/kinds", a.kindsOfMessage)
	r.Get("/messages/kinds/{kind}", a.sampleMessage)
	changes.Post("/messages/test", a.testMessage)
	r.Get("/messages/{id}", a.showMessage)
	changes.Post("/messages/{id}/retry", a.retryMessage)
	changes.Post("/messages/{id}/drop", a.dropMessage)
	changes.Post("/messages/{id}/link", a.linkOfMessage)
	r.Get("/patrols", a.listPatrols)
	changes.Post("/patrols", a.startPatrol)
	changes.Delete("/patrols/running", a.stopPatrol)
	r.Get("/patrols/{id}", a.showPatrol)
	changes.Post("/patrols/{id}/accepted", a.acceptFinding)
	changes.Post("/patrols/rejected", a.rejectFinding)
	changes.Post("/walks", a.beginPatrol)
	changes.Post("/walks/as", a.beginWalk)
	changes.Delete("/walks/{id}", a.endWalk)
	changes.Post("/walks/{id}/made", a.keepPatrol)
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
	problem.Write(w, client.Problem{Status: status, Detail: detail})
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
	if later := visitor.Later(err); later != nil {
		w.Header().Set("Retry-After", strconv.Itoa(int(later.Wait.Seconds())))
		a.problem(w, later.Status, later.Text)
		return
	}
	if errors.Is(err, store.ErrBusy) {
		w.Header().Set("Retry-After", "2")
		a.problem(w, http.StatusServiceUnavailable, "The records do not answer in time, and nothing was changed. Please try again in a moment.")
		return
	}
	a.Log.Error("request of the API failed", "error", err)
	a.problem(w, http.StatusInternalServerError, "The service failed; its log says why.")
}

// The largest body of an ordinary request.
const maxBody = 64 << 10

// read decodes the body of a request, strictly. It answers what cannot be read.
func (a *API) read(w http.ResponseWriter, r *http.Request, into any, limit int64) bool {
	text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, limit))
	if err == nil {
		err = exact.UnmarshalKnown(text, into)
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
	asks := a.visitor
	if q.Get("version") != "" { // as they were then
		asks = func(_ context.Context, who string) (policy.Visitor, error) { return policy.ParseVisitor(who) }
	}
	visitor, err := asks(r.Context(), cmp.Or(q.Get("as"), "anonymous"))
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	kind, err := policy.ParseClient(q.Get("client"))
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	now := a.Policy.Book().Explain(request, &visitor, kind, query)
	if q.Get("version") == "" {
		a.answer(w, http.StatusOK, now)
		return
	}
	then, err := a.past(r.Context(), q.Get("version"))
	if err != nil {
		a.fail(w, err)
		return
	}
	shown := then.book.Explain(request, &visitor, kind, query)
	shown.Since, err = a.changedSince(r.Context(), then.id, &visitor, shown.Outcome, now.Outcome)
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, shown)
}

// visitor reads the notation for visitors. The service knows what its accounts have been granted.
func (a *API) visitor(ctx context.Context, who string) (policy.Visitor, error) {
	visitor, err := policy.ParseVisitor(who)
	if err == nil && visitor.Account != "" && len(visitor.Roles) == 0 {
		found, err := a.People.Find(ctx, visitor.Account)
		switch {
		case err != nil:
			return visitor, err
		case found.Disabled:
			return visitor, fmt.Errorf("the account %s is disabled, so nobody comes as %[1]s; enable it, or say who else asks", found.Name)
		}
		visitor.Roles = found.Roles(a.Now())
	}
	return visitor, err
}

func (a *API) doors(w http.ResponseWriter, r *http.Request) {
	book := a.Policy.Book()
	all := client.Doors{
		Site: book.Site, Prefix: book.Prefix, File: a.Policy.File(), Roles: book.RoleNames(), Unlisted: book.UnlistedWord(),
		Doors: []client.Door{}, Checks: []client.Door{}, BuiltIn: []client.Door{}, Sources: []client.SourceRef{},
	}
	for i := range book.Doors {
		all.Doors = append(all.Doors, showDoor(book, i, &book.Doors[i]))
	}
	for i := range book.Checks {
		all.Checks = append(all.Checks, showDoor(book, i, &book.Checks[i]))
	}
	for i, door := range book.BuiltIn() {
		all.BuiltIn = append(all.BuiltIn, showDoor(book, i, &door))
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
			found.Wider = append(found.Wider, showDoor(book, i, other))
		case place.Around:
			found.Narrower = append(found.Narrower, showDoor(book, i, other))
		case place.Crossing:
			example, _ := book.Doors[id].Meet(other.Set)
			found.Crossing = append(found.Crossing, client.Crossing{Door: showDoor(book, i, other), Example: example.String()})
		}
	}
	a.answer(w, http.StatusOK, found)
}

func showDoor(book *policy.Book, id int, d *policy.Door) client.Door {
	methods := d.Methods.Names()
	if methods == nil {
		methods = []string{}
	}
	shown := client.Door{
		ID: id, Line: d.Line, Entry: d.Entry, Label: d.Label(), Check: d.Check, Path: d.Written, Host: d.Host.String(), Methods: methods,
		Admit: d.Admit.String(), Basic: d.Basic,
		Anonymous: d.Otherwise.Anonymous.String(), Refused: d.Otherwise.Refused.String(), Sentence: d.Sentence(),
	}
	if terms, ok := d.Terms(book); ok && d.Check == "" {
		shown.Terms = &terms
	}
	return shown
}

// parameter returns a part of the path. chi has taken it from the decoded path, so a name
// stands in it as it is.
func parameter(r *http.Request, name string) string { return strings.TrimSpace(chi.URLParam(r, name)) }
