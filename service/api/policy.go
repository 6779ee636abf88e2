package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/core/prove"
	"ostiarius/service/inforce"
	"ostiarius/service/problem"
	"ostiarius/service/replace"
	"ostiarius/store"
)

// The largest body that carries a policy, which JSON may make longer than the file.
const maxPolicyBody = 2*policy.MaxSize + 1<<16

func (a *API) showPolicy(w http.ResponseWriter, r *http.Request) {
	v, err := a.Policy.Past(r.Context(), a.Policy.Version())
	if err != nil {
		a.fail(w, err)
		return
	}
	a.answer(w, http.StatusOK, showVersion(v))
}

func showVersion(v store.Version) client.Version {
	return client.Version{ID: v.ID, At: v.At, By: v.Actor, Comment: v.Comment, Text: v.Text}
}

func (a *API) checkPolicy(w http.ResponseWriter, r *http.Request) {
	var draft client.Draft
	if !a.read(w, r, &draft, maxPolicyBody) {
		return
	}
	book, findings := a.Policy.Check([]byte(draft.Text))
	checked := client.Checked{OK: book != nil, Findings: append([]policy.Finding{}, findings...), Changes: []policy.Change{}, Guarantees: []prove.Guarantee{}}
	if read, _ := policy.Parse(a.Policy.File(), []byte(draft.Text)); read != nil {
		checked.Guarantees = prove.Guarantees(read)
	}
	if book != nil {
		checked.Changes = policy.Changes(a.Policy.Book(), book)
		checked.Compared = compared(a.Policy.Book(), book)
	}
	a.answer(w, http.StatusOK, checked)
}

// compared says what is opened and closed between two policies, or why that cannot be said.
func compared(before, after *policy.Book) client.Compared {
	differences, err := prove.Compare(before, after)
	if err != nil {
		return client.Compared{Unproven: err.Error(), Differences: []prove.Difference{}}
	}
	return client.Compared{Differences: differences}
}

func (a *API) applyPolicy(w http.ResponseWriter, r *http.Request) {
	var draft client.Draft
	if !a.read(w, r, &draft, maxPolicyBody) {
		return
	}
	before := a.Policy.Book()
	v, err := a.Policy.Apply(r.Context(), a.Actor(r), inforce.Draft{Text: []byte(draft.Text), Comment: draft.Comment, Base: draft.Base, NoOpening: draft.NoOpening, Over: draft.OverEdit})
	a.applied(r.Context(), w, v, err, before)
}

func (a *API) rollbackPolicy(w http.ResponseWriter, r *http.Request) {
	id, ok := a.versionNumber(w, r)
	if !ok {
		return
	}
	var draft client.Draft
	if !a.read(w, r, &draft, maxPolicyBody) {
		return
	}
	before := a.Policy.Book()
	v, err := a.Policy.Rollback(r.Context(), a.Actor(r), draft.Comment, id, draft.OverEdit)
	a.applied(r.Context(), w, v, err, before)
}

// applied answers with the new version and how its doors differ, or with why there is
// none.
func (a *API) applied(ctx context.Context, w http.ResponseWriter, v store.Version, err error, before *policy.Book) {
	var unfit *inforce.Unfit
	var opens *inforce.Opens
	var edited *inforce.Edited
	var unwritable *inforce.Unwritable
	switch {
	case errors.As(err, &unwritable):
		a.Log.Error("the policy file cannot be written", "error", unwritable.Err)
		problem.Write(w, client.Problem{Status: http.StatusInternalServerError, Code: "file-unwritable", Detail: sentence(err)})
	case errors.As(err, &edited), errors.Is(err, replace.ErrBeingWritten):
		problem.Write(w, client.Problem{Status: http.StatusConflict, Code: "file-edited", Detail: sentence(err)})
	case errors.As(err, &opens):
		problem.Write(w, client.Problem{Status: http.StatusConflict, Detail: err.Error(), Opened: opens.Differences})
	case err == nil:
		now := a.Policy.Book()
		shown := client.Applied{Version: showVersion(v), Changes: policy.Changes(before, now), Compared: compared(before, now)}
		shown.Version.Text = ""
		a.answer(w, http.StatusCreated, shown)
	case errors.As(err, &unfit):
		problem.Write(w, client.Problem{Status: http.StatusUnprocessableEntity, Detail: err.Error(), Findings: unfit.Findings})
	case errors.Is(err, inforce.ErrOvertaken):
		problem.Write(w, client.Problem{Status: http.StatusConflict, Code: "overtaken", Detail: a.overtaken(ctx)})
	case errors.Is(err, store.ErrNone):
		a.problem(w, http.StatusNotFound, "There is no such version; `ostiarius history` lists them.")
	default:
		a.fail(w, err)
	}
}

// overtaken says whose version came into force meanwhile.
func (a *API) overtaken(ctx context.Context) string {
	v, err := a.Policy.Past(ctx, a.Policy.Version())
	if err != nil {
		return sentence(inforce.ErrOvertaken)
	}
	why := ""
	if v.Comment != "" {
		why = fmt.Sprintf(" (“%s”)", strings.TrimSuffix(v.Comment, "."))
	}
	return fmt.Sprintf("Meanwhile %s has brought another version into force%s. Nothing of yours is lost: look at it on top of that, and apply again.", v.Actor, why)
}

// sentence makes an error one.
func sentence(err error) string {
	text := err.Error()
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

func (a *API) listVersions(w http.ResponseWriter, r *http.Request) {
	all, err := a.Policy.Versions(r.Context())
	if err != nil {
		a.fail(w, err)
		return
	}
	shown := make([]client.Version, len(all))
	for i, v := range all {
		shown[i] = showVersion(v)
	}
	a.answer(w, http.StatusOK, shown)
}

func (a *API) showVersion(w http.ResponseWriter, r *http.Request) {
	id, ok := a.versionNumber(w, r)
	if !ok {
		return
	}
	v, err := a.Policy.Past(r.Context(), id)
	if err != nil {
		a.applied(r.Context(), w, v, err, nil)
		return
	}
	a.answer(w, http.StatusOK, showVersion(v))
}

func (a *API) versionNumber(w http.ResponseWriter, r *http.Request) (int64, bool) {
	id, err := strconv.ParseInt(parameter(r, "id"), 10, 64)
	if err != nil || id < 1 {
		a.problem(w, http.StatusNotFound, fmt.Sprintf("%q is no version; versions are numbers from 1.", parameter(r, "id")))
		return 0, false
	}
	return id, true
}
