package people

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"strings"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/roster"
	"ostiarius/core/secret"
	"ostiarius/service/base/mistake"
	"ostiarius/store"
)

// Import brings in accounts: those that are new are added, of the others the details that
// are given are changed and the roles added; nothing is taken away. With dry, it only says
// what would happen. If one line cannot be taken, nothing is.
func (r *Register) Import(ctx context.Context, actor string, all []roster.Entry, dry bool) (results []roster.Done, done bool, err error) {
	now := r.o.Now()
	known, err := r.known(ctx, all)
	if err != nil {
		return nil, false, err
	}
	seen := map[string]int{}
	var imports []store.Import
	ok := true
	for _, t := range all {
		result := roster.Done{Line: t.Line, Name: strings.TrimSpace(t.Name)}
		i, detail, err := r.transfer(known, actor, t, now)
		if err == nil {
			for _, key := range keysIn(i.Keys) {
				if line, twice := seen[key]; twice {
					err = mistake.Invalid("%q stands in line %d already", key, line)
				} else if owner, taken := known[key]; taken && owner.ID != i.Account.ID {
					err = mistake.Invalid("%q is the name or the address of %s already", key, owner.Name)
				}
			}
		}
		if err == nil {
			for _, key := range keysIn(i.Keys) {
				seen[key] = t.Line
			}
		}
		var mistake *mistake.Error
		switch {
		case errors.As(err, &mistake):
			result.Action, result.Detail, ok = "error", mistake.Text, false
		case err != nil:
			return nil, false, err
		case i.Account.ID == 0:
			result.Action, result.Detail = "add", detail
		case detail == "":
			result.Action = "same"
		default:
			result.Action, result.Detail = "change", detail
		}
		results = append(results, result)
		if err == nil && result.Action != "same" {
			imports = append(imports, i)
		}
	}
	if !ok || dry {
		return results, false, nil
	}
	if err := r.o.Store.Import(ctx, imports); err != nil {
		return results, false, explain("one of these", err)
	}
	return results, true, r.o.Hashing.LearnAll(ctx, r.o.Store.Hashes)
}

// keysIn returns the keys that there are.
func keysIn(k store.Keys) []string {
	if k.Email == "" || k.Email == k.Name {
		return []string{k.Name}
	}
	return []string{k.Name, k.Email}
}

// known returns the accounts that have a name or address of the list, by those.
func (r *Register) known(ctx context.Context, all []roster.Entry) (map[string]store.KeyedAccount, error) {
	var keys []string
	for _, t := range all {
		if k, err := KeysOf(strings.TrimSpace(t.Name), strings.TrimSpace(t.Email)); err == nil {
			keys = append(keys, keysIn(k)...)
		}
	}
	found, err := r.o.Store.AccountsByKeys(ctx, keys)
	known := map[string]store.KeyedAccount{}
	for _, a := range found {
		for _, key := range keysIn(a.Keys) {
			known[key] = a
		}
	}
	return known, err
}

// transfer plans what is done for one line, and says it in words; "" for nothing.
func (r *Register) transfer(known map[string]store.KeyedAccount, actor string, t roster.Entry, now time.Time) (i store.Import,
	detail string, err error) {
	if t.Err != nil {
		return i, "", mistake.Of(t.Err)
	}
	name, email := strings.TrimSpace(t.Name), strings.TrimSpace(t.Email)
	if i.Keys, err = KeysOf(name, email); err != nil {
		return i, "", err
	}
	if err := mistake.Note(t.Notes); err != nil {
		return i, "", err
	}
	if t.Hash != "" {
		if err := secret.CheckKept(t.Hash, r.o.Hashing.Cost()); err != nil {
			return i, "", mistake.Of(err)
		}
	}
	for _, g := range t.Roles {
		if err := r.checkRole(g.Role); err != nil {
			return i, "", err
		}
	}
	i.Hash = t.Hash
	found, is := known[i.Keys.Name]
	if !is || found.Keys.Name != i.Keys.Name {
		a := &account.Account{Name: name, Email: email, Notes: t.Notes, MadeAt: now, MadeBy: actor + ", import"}
		a.Disabled = t.Disabled != nil && *t.Disabled
		var roles []string
		for _, g := range t.Roles {
			a.Grants = append(a.Grants, grantOf(g, actor, now))
			roles = append(roles, spelt(g))
		}
		i.Account = a
		detail = "no roles"
		if len(roles) > 0 {
			detail = "roles " + strings.Join(roles, ", ")
		}
		if t.Hash == "" {
			detail += "; no password yet"
		}
		i.Event = r.event(kind.AccountAdded, a, actor, detail)
		return i, detail, nil
	}
	old := *found.Account // of which known keeps what it was
	var changes []string
	change := func(what string, to string, in *string) {
		if to != "" && to != *in {
			if *in = to; what != "notes" {
				what += " " + to
			}
			changes = append(changes, what)
		}
	}
	before := old.Name
	change("name", name, &old.Name)
	change("e-mail", email, &old.Email)
	change("notes", t.Notes, &old.Notes)
	if i.Keys.Email == "" {
		if i.Keys, err = KeysOf(old.Name, old.Email); err != nil {
			return i, "", err
		}
	}
	for _, g := range t.Roles {
		next := grantOf(g, actor, now)
		has := false
		for _, h := range old.Grants {
			begun := !h.From.After(now) && !next.From.After(now)
			has = has || h.Role == g.Role && h.Until.Equal(next.Until) && (begun || h.From.Equal(next.From))
		}
		if !has {
			i.Grants = append(i.Grants, next)
			changes = append(changes, "role "+spelt(g))
		}
	}
	if t.Disabled != nil && *t.Disabled != old.Disabled {
		old.Disabled, i.Switch = *t.Disabled, true
		changes = append(changes, map[bool]string{true: "disabled", false: "enabled"}[*t.Disabled])
	}
	if t.Hash != "" {
		changes = append(changes, "password")
	}
	i.Account = &old
	detail = strings.Join(changes, ", ")
	i.Event = r.event(kind.AccountChanged, &old, actor, fmt.Sprintf("import: %s", detail))
	i.Event.Account = before
	return i, detail, nil
}

// spelt says which role is granted, and its beginning and end if they are said.
func spelt(g account.Grant) string {
	text := g.Role
	if !g.From.IsZero() {
		text += " from " + g.From.Local().Format("2006-01-02 15:04")
	}
	if !g.Until.IsZero() {
		text += " until " + g.Until.Local().Format("2006-01-02 15:04")
	}
	return text
}

func grantOf(g account.Grant, actor string, now time.Time) account.Grant {
	if g.From.IsZero() {
		g.From = now
	}
	if g.By == "" {
		g.By = actor
	}
	return g
}

// Export returns all accounts, by name, one after the other; the error ends it.
func (r *Register) Export(ctx context.Context) iter.Seq2[*account.Account, error] {
	return r.o.Store.EachAccount(ctx)
}
