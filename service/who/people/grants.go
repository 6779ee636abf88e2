package people

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/service/base/mistake"
	"ostiarius/store"
)

func (r *Register) checkRole(role string) error {
	if book := r.o.Book(); !book.KnownRole(role) {
		return mistake.Invalid("unknown role %q; the policy has %s", role, strings.Join(book.RoleNames(), ", "))
	}
	return nil
}

// Grant gives a role to an account, from a time on or, if from is zero, from now, and
// until a time or, if until is zero, for good.
func (r *Register) Grant(ctx context.Context, actor, name, role string, from, until time.Time) error {
	if err := r.checkRole(role); err != nil {
		return err
	}
	now := r.o.Now()
	if from.IsZero() {
		from = now
	}
	if !until.IsZero() && !until.After(now) {
		return mistake.Invalid("the end of the grant, %s, is not in the future", until.Format(time.RFC3339))
	}
	if !until.IsZero() && !until.After(from) {
		return mistake.Invalid("the end of the grant, %s, is not after its beginning, %s", until.Format(time.RFC3339), from.Format(time.RFC3339))
	}
	return r.change(ctx, name, func(a *account.Account) error {
		if slices.ContainsFunc(a.Grants, func(g account.Grant) bool {
			return g.Role == role && g.Until.Equal(until) && (g.From.Equal(from) || !from.After(now) && !g.From.After(now))
		}) {
			return nil // it holds already
		}
		detail := "role " + role
		if from.After(now) {
			detail += " from " + from.UTC().Format(time.RFC3339)
		}
		if !until.IsZero() {
			detail += " until " + until.UTC().Format(time.RFC3339)
		}
		return r.o.Store.Grant(ctx, a.ID, account.Grant{Role: role, From: from, Until: until, By: actor},
			r.event(kind.RoleGranted, a, actor, detail))
	})
}

// remains is how long somebody else has to have a role at least who takes the place of the last: until then it can be given to another.
const remains = 24 * time.Hour

// UnlessLast does what takes a role from an account, unless nobody else could sign in then who has it, or another that
// includes it, and keeps it: who is leaving, or whose role is about to end, is nobody else. One at a time, so that no
// two take it from each other.
func (r *Register) UnlessLast(ctx context.Context, name, role string, act func() error) error {
	a, err := r.Find(ctx, name)
	if err != nil {
		return err
	}
	r.leaving.Lock()
	defer r.leaving.Unlock()
	book, now := r.o.Book(), r.o.Now()
	var roles []string
	for _, other := range book.RoleNames() {
		if book.Satisfies(other, role) {
			roles = append(roles, other)
		}
	}
	has := !a.Disabled && slices.ContainsFunc(a.Roles(now), func(r string) bool { return slices.Contains(roles, r) })
	if has {
		if n, err := r.o.Store.Others(ctx, roles, a.ID, now, now.Add(max(book.Joining.Leave, remains))); err != nil {
			return err
		} else if n == 0 {
			return mistake.Invalid("%s is the last who can sign in with the role %s: without one, nobody could administer this site here. "+
				"Give the role to somebody else first, or do it by the command line", a.Name, role)
		}
	}
	return act()
}

// GrantsEnding returns how many grants that hold now end before a time.
func (r *Register) GrantsEnding(ctx context.Context, before time.Time) (int, error) {
	return r.o.Store.GrantsEnding(ctx, r.o.Now(), before)
}

// Revoke takes a role from an account.
func (r *Register) Revoke(ctx context.Context, actor, name, role string) error {
	return r.change(ctx, name, func(a *account.Account) error {
		err := r.o.Store.Revoke(ctx, a.ID, role, r.event(kind.RoleRevoked, a, actor, "role "+role))
		if errors.Is(err, store.ErrNone) {
			return mistake.Unknown("%s has not been granted the role %q", a.Name, role)
		}
		return err
	})
}
