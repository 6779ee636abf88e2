// Package api is the administration API, for the commands and the console: what carries out the operations that package client declares.
package api

import (
	"cmp"
	"context"
	_ "embed" // the description
	"fmt"
	"log/slog"
	"net/http"
	"time"

	"ostiarius/client"
	"ostiarius/core/looks"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/edit"
	"ostiarius/core/words"
	"ostiarius/service/base/mistake"
	"ostiarius/service/door/decisions"
	"ostiarius/service/rooms"
	"ostiarius/service/rule/inforce"
)

// An API answers administration requests. Whoever reaches it may do everything; who may
// reach it is decided in front of it, by a built-in door or the socket's file mode.
type API struct {
	*rooms.Rooms
	Decided *decisions.Record // nil for none
	Policy  *inforce.Policy
	Status  func() client.Status
	Now     func() time.Time
	Log     *slog.Logger
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

// The description is made of the operations; see package describe.
//
//go:embed openapi.yaml
var description []byte

func init() {
	On(client.ShowStatus, func(a *API, _ Caller, _ client.None) (client.Status, error) { return a.Status(), nil })
	On(client.Explain, (*API).explain)
	On(client.ListDoors, (*API).listDoors)
	On(client.ShowRelations, (*API).relations)
	Write(client.Description, func(_ *API, by Caller, _ client.None, w http.ResponseWriter) error {
		by.Header.Set("Content-Type", client.Description.Media)
		_, err := w.Write(description)
		return err
	})
}

func (a *API) explain(by Caller, asked client.Question) (explained policy.Explanation, err error) {
	request, query, err := policy.ReadRequest(cmp.Or(asked.Method, http.MethodGet), asked.URL)
	if err != nil {
		return explained, unprocessable(err)
	}
	asks := a.visitor
	if asked.Version != 0 { // as they were then
		asks = func(_ context.Context, who string) (policy.Visitor, error) { return policy.ParseVisitor(who) }
	}
	visitor, err := asks(by, cmp.Or(asked.As, "anonymous"))
	if err != nil {
		return explained, unprocessable(err)
	}
	kind, err := policy.ParseClient(asked.Client)
	if err != nil {
		return explained, unprocessable(err)
	}
	now := a.Policy.Book().Explain(request, &visitor, kind, query)
	if asked.Version == 0 {
		return now, nil
	}
	then, err := a.past(by, asked.Version)
	if err != nil {
		return explained, err
	}
	explained = then.book.Explain(request, &visitor, kind, query)
	explained.Since, err = a.changedSince(by, then.id, &visitor, explained.Outcome, now.Outcome)
	return explained, err
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

func (a *API) listDoors(Caller, client.None) (client.Doors, error) {
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
	return all, nil
}

// relations says how one door lies to all others.
func (a *API) relations(_ Caller, of client.ByNumber) (client.Relations, error) {
	book, id := a.Policy.Book(), int(of.ID)
	if of.ID >= int64(len(book.Doors)) {
		return client.Relations{}, mistake.Unknown("There is no door %d in the policy in force.", of.ID)
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
	return found, nil
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
	if terms, ok := edit.TermsOf(d, book); ok && d.Check == "" {
		shown.Terms = &terms
	}
	return shown
}
