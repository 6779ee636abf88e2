package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"ostiarius/client"
	"ostiarius/core/document"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/prove"
	"ostiarius/service/rule/inforce"
	"ostiarius/service/rule/replace"
	"ostiarius/store"
)

func init() {
	On(client.ShowPolicy, func(a *API, by Caller, _ client.None) (client.Version, error) {
		v, err := a.Policy.Past(by, a.Policy.Version())
		return showVersion(v), err
	})
	On(client.CheckPolicy, (*API).checkPolicy)
	On(client.ApplyPolicy, func(a *API, by Caller, draft client.Draft) (client.Applied, error) {
		before := a.Policy.Book()
		v, err := a.Policy.Apply(by, by.Actor, inforce.Draft{
			Text: []byte(draft.Text), Comment: draft.Comment, Base: draft.Base, NoOpening: draft.NoOpening, Over: draft.OverEdit,
		})
		return a.applied(by, v, err, before)
	})
	On(client.Rollback, func(a *API, by Caller, to client.OlderVersion) (client.Applied, error) {
		before := a.Policy.Book()
		v, err := a.Policy.Rollback(by, by.Actor, to.Draft.Comment, to.ID, to.Draft.OverEdit)
		return a.applied(by, v, err, before)
	})
	On(client.ListVersions, func(a *API, by Caller, _ client.None) ([]client.Version, error) {
		all, err := a.Policy.Versions(by)
		shown := make([]client.Version, len(all))
		for i, v := range all {
			shown[i] = showVersion(v)
		}
		return shown, err
	})
	On(client.ShowVersion, func(a *API, by Caller, of client.ByNumber) (client.Version, error) {
		v, err := a.Policy.Past(by, of.ID)
		if err != nil {
			return client.Version{}, a.unapplied(by, err)
		}
		return showVersion(v), nil
	})
}

func showVersion(v store.Version) client.Version {
	return client.Version{ID: v.ID, At: v.At, By: v.Actor, Comment: v.Comment, Text: v.Text}
}

func (a *API) checkPolicy(_ Caller, draft client.Draft) (client.Checked, error) {
	book, findings := a.Policy.Check([]byte(draft.Text))
	checked := client.Checked{
		OK: book != nil, Findings: append([]document.Finding{}, findings...), Changes: []policy.Change{}, Guarantees: []prove.Guarantee{},
	}
	if read, _ := read.Parse(a.Policy.File(), []byte(draft.Text)); read != nil {
		checked.Guarantees = prove.Guarantees(read)
	}
	if book != nil {
		checked.Changes = policy.Changes(a.Policy.Book(), book)
		checked.Compared = compared(a.Policy.Book(), book)
	}
	return checked, nil
}

// compared says what is opened and closed between two policies, or why that cannot be said.
func compared(before, after *policy.Book) client.Compared {
	differences, err := prove.Compare(before, after)
	if err != nil {
		return client.Compared{Unproven: err.Error(), Differences: []prove.Difference{}}
	}
	return client.Compared{Differences: differences}
}

// applied returns the new version and how its doors differ, or why there is none.
func (a *API) applied(ctx context.Context, v store.Version, err error, before *policy.Book) (client.Applied, error) {
	if err != nil {
		return client.Applied{}, a.unapplied(ctx, err)
	}
	now := a.Policy.Book()
	shown := client.Applied{Version: showVersion(v), Changes: policy.Changes(before, now), Compared: compared(before, now)}
	shown.Version.Text = ""
	return shown, nil
}

// unapplied says why there is no version, as a problem.
func (a *API) unapplied(ctx context.Context, err error) error {
	var faulty *inforce.Unfit
	var opens *inforce.Opens
	var edited *inforce.Edited
	var unwritable *inforce.Unwritable
	switch {
	case errors.As(err, &unwritable):
		a.Log.Error("the policy file cannot be written", "error", unwritable.Err)
		return &client.Problem{Status: http.StatusInternalServerError, Code: "file-unwritable", Detail: sentence(err)}
	case errors.As(err, &edited), errors.Is(err, replace.ErrBeingWritten):
		return &client.Problem{Status: http.StatusConflict, Code: "file-edited", Detail: sentence(err)}
	case errors.As(err, &opens):
		return &client.Problem{Status: http.StatusConflict, Detail: err.Error(), Opened: opens.Differences}
	case errors.As(err, &faulty):
		return &client.Problem{Status: http.StatusUnprocessableEntity, Detail: err.Error(), Findings: faulty.Findings}
	case errors.Is(err, inforce.ErrOvertaken):
		return &client.Problem{Status: http.StatusConflict, Code: "overtaken", Detail: a.overtaken(ctx)}
	case errors.Is(err, store.ErrNone):
		return refuse(http.StatusNotFound, "There is no such version; `ostiarius history` lists them.")
	}
	return err
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
	return fmt.Sprintf("Meanwhile %s has brought another version into force%s. "+
		"Nothing of yours is lost: look at it on top of that, and apply again.", v.Actor, why)
}

// sentence makes an error one.
func sentence(err error) string {
	text := err.Error()
	return strings.ToUpper(text[:1]) + text[1:] + "."
}
