package api

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/service/base/mistake"
)

type pastVersion struct {
	id   int64
	book *policy.Book
}

// past reads a version of the policy by its number.
func (a *API) past(ctx context.Context, number int64) (then pastVersion, err error) {
	then.id = number
	if then.id == a.Policy.Version() {
		then.book = a.Policy.Book()
		return then, nil
	}
	v, err := a.Policy.Past(ctx, then.id)
	if err != nil {
		return then, mistake.Unknown("version %d of the policy is no longer kept, so it can't be said what it decided; leave the version "+
			"out to ask "+
			"the active one", then.id)
	}
	book, findings := read.Parse(a.Policy.File(), []byte(v.Text))
	if book == nil {
		return then, mistake.Invalid("version %d of the policy can't be read by this version of Ostiarius: %v", then.id, findings)
	}
	then.book = book
	return then, nil
}

// changedSince says what is otherwise than it was: the version of the policy, the account and its roles, and what they come to.
func (a *API) changedSince(ctx context.Context, version int64, was *policy.Visitor, then, now policy.Outcome) (since []string, err error) {
	say := func(format string, args ...any) { since = append(since, fmt.Sprintf(format, args...)) }
	if active := a.Policy.Version(); active != version {
		say("This was decided by version %d of the policy. Version %d is active now.", version, active)
		if then != now {
			say("By the active version, the same visitor gets: %s.", now)
		}
	}
	if was.Account == "" {
		return since, nil
	}
	found, err := a.People.Find(ctx, was.Account)
	var unknown *mistake.Error
	switch {
	case errors.As(err, &unknown):
		say("There is no account %s any more.", was.Account)
	case err != nil:
		return nil, err
	case found.Disabled:
		say("The account %s is disabled now.", found.Name)
	default:
		before, after := slices.Sorted(slices.Values(was.Roles)), slices.Sorted(slices.Values(found.Roles(a.Now())))
		if !slices.Equal(before, after) {
			say("%s had %s then, and has %s now.", found.Name, rolesIn(before), rolesIn(after))
		}
	}
	return since, nil
}

func rolesIn(names []string) string {
	if len(names) == 0 {
		return "no role"
	}
	return map[bool]string{true: "the role ", false: "the roles "}[len(names) == 1] + strings.Join(names, ", ")
}
