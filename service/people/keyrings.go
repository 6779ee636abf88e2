package people

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/htpasswd"
	"ostiarius/core/keyring"
	"ostiarius/core/secret"
	"ostiarius/store"
)

// An Entry is a name with a password in a keyring.
type Entry = keyring.Entry

// A NewEntry is an entry as it is asked for.
type NewEntry struct {
	Name     string
	Password string
	Note     string
	Until    time.Time // zero for no end
}

// Entries returns the entries of a keyring, or of all if the name is "".
func (r *Register) Entries(ctx context.Context, ring string) ([]*Entry, error) {
	if ring != "" {
		if err := r.checkRing(ring, true); err != nil {
			return nil, err
		}
	}
	return r.store.Entries(ctx, ring)
}

// checkRing says if there is no such keyring. One that has gone from the policy can still
// be looked at and emptied.
func (r *Register) checkRing(ring string, gone bool) error {
	var names []string
	for _, k := range r.book().Keyrings {
		if k.Name == ring {
			return nil
		}
		names = append(names, k.Name)
	}
	if gone {
		if left, err := r.store.Entries(context.Background(), ring); err != nil || len(left) > 0 {
			return err
		}
	}
	has := "it has none; they are declared under keyrings"
	if len(names) > 0 {
		has = "it has " + strings.Join(names, ", ")
	}
	return &Mistake{"unknown", fmt.Sprintf("the policy has no keyring %q; %s", ring, has)}
}

func entryMistake(ring, name string, err error) error {
	switch {
	case errors.Is(err, store.ErrNone):
		return &Mistake{"unknown", fmt.Sprintf("there is no %q in the keyring %s", name, ring)}
	case errors.Is(err, store.ErrTaken):
		return &Mistake{"taken", fmt.Sprintf("there is a %q in the keyring %s already; change that one, or choose another name", name, ring)}
	}
	return err
}

// AddEntry adds a name with a password to a keyring.
func (r *Register) AddEntry(ctx context.Context, actor, ring string, n NewEntry) (*Entry, error) {
	if err := r.checkRing(ring, false); err != nil {
		return nil, err
	}
	name, err := entryName(n.Name)
	if err != nil {
		return nil, err
	}
	if err := r.checkEntry(n.Password, name, n.Note, n.Until); err != nil {
		return nil, err
	}
	hash, err := r.hashing.Hash(ctx, n.Password)
	if err != nil {
		return nil, err
	}
	e := &Entry{Keyring: ring, Name: name, Hash: hash, Note: n.Note, MadeAt: r.now(), MadeBy: actor, Until: n.Until}
	return e, r.entryChanged(ring, name, r.store.AddEntries(ctx, []*Entry{e}, false, r.ringEvent("credentials added", ring, name, actor, "")))
}

func (r *Register) checkEntry(password, name, note string, until time.Time) error {
	if !until.IsZero() && !until.After(r.now()) {
		return invalid("the end, %s, is not in the future", until.Format(time.RFC3339))
	}
	if err := checkNotes(note); err != nil {
		return err
	}
	return r.checkPassword(password, &account.Account{Name: name})
}

func (r *Register) ringEvent(kind, ring, name, actor, detail string) store.Event {
	what := "keyring " + ring
	if detail != "" {
		what += ", " + detail
	}
	return store.Event{At: r.now(), Kind: kind, Account: name, Actor: actor, Detail: what}
}

// entryChanged tidies up after a change of an entry: what was verified before counts no longer.
func (r *Register) entryChanged(ring, name string, err error) error {
	r.basic.clear()
	return entryMistake(ring, name, err)
}

// Rotate gives an entry another password. The one before counts for as long as grace, so
// that whoever has it can change over.
func (r *Register) Rotate(ctx context.Context, actor, ring, name, password string, grace time.Duration) error {
	if grace < 0 || grace > 90*24*time.Hour {
		return invalid("both passwords can count for at most 90 days")
	}
	name, err := entryName(name)
	if err != nil {
		return err
	}
	if err := r.checkEntry(password, name, "", time.Time{}); err != nil {
		return err
	}
	hash, err := r.hashing.Hash(ctx, password)
	if err != nil {
		return err
	}
	detail, old := "another password", time.Time{}
	if grace > 0 {
		old = r.now().Add(grace)
		detail += "; the one before counts until " + old.UTC().Format(time.RFC3339)
	}
	return r.entryChanged(ring, name, r.store.RotateEntry(ctx, ring, name, hash, old, r.ringEvent("credentials changed", ring, name, actor, detail)))
}

// entryName reads the name of an entry.
func entryName(text string) (string, error) {
	name, err := htpasswd.Name(text)
	if err != nil {
		return "", invalid("%q: %v", text, err)
	}
	return name, nil
}

// SwitchEntry disables or enables an entry.
func (r *Register) SwitchEntry(ctx context.Context, actor, ring, name string, disabled bool) error {
	name, err := entryName(name)
	if err != nil {
		return err
	}
	if disabled {
		return r.end(ctx, ending{ring: ring, name: name, what: "that " + name + " is disabled in the keyring " + ring}, func(ctx context.Context) error {
			return r.entryChanged(ring, name, r.store.SwitchEntry(ctx, ring, name, true, r.ringEvent("credentials changed", ring, name, actor, "disabled")))
		})
	}
	r.unwritten.revoke(0, ring, name)
	return r.entryChanged(ring, name, r.store.SwitchEntry(ctx, ring, name, false, r.ringEvent("credentials changed", ring, name, actor, "enabled")))
}

// RemoveEntry removes a name from a keyring.
func (r *Register) RemoveEntry(ctx context.Context, actor, ring, name string) error {
	return r.entryChanged(ring, name, r.store.RemoveEntry(ctx, ring, name, r.ringEvent("credentials removed", ring, name, actor, "")))
}

// ImportEntries brings in the lines of an htpasswd file. Lines that cannot be taken are
// told and left out; the others are added, or replace the password of a name that is
// there. With dry, it only says what would happen.
func (r *Register) ImportEntries(ctx context.Context, actor, ring string, file []byte, dry bool) ([]Transferred, error) {
	if err := r.checkRing(ring, false); err != nil {
		return nil, err
	}
	if len(file) > htpasswd.MaxSize {
		return nil, invalid("the file has more than %d MiB", htpasswd.MaxSize>>20)
	}
	now := r.now()
	var results []Transferred
	var entries []*Entry
	first := map[string]int{}
	for _, l := range htpasswd.Read(file) {
		if line, twice := first[l.Name]; twice && l.Err == nil {
			l.Err = fmt.Errorf("the name stands in line %d already, which counts", line)
		}
		if l.Err != nil {
			results = append(results, Transferred{Line: l.Number, Name: l.Name, Action: "error", Detail: l.Err.Error()})
			continue
		}
		first[l.Name] = l.Number
		result := Transferred{Line: l.Number, Name: l.Name, Action: "add", Detail: l.Kind}
		if l.Weak {
			result.Detail += ", weak: it is replaced by argon2id when it is first used"
		}
		e := &Entry{Keyring: ring, Name: l.Name, Hash: l.Hash, MadeAt: now, MadeBy: actor + ", import"}
		old, err := r.store.Entry(ctx, ring, l.Name)
		switch {
		case err == nil && old.Hash == l.Hash:
			result.Action = "same"
		case err == nil:
			result.Action = "change"
		case !errors.Is(err, store.ErrNone):
			return nil, err
		}
		results = append(results, result)
		if result.Action != "same" {
			entries = append(entries, e)
		}
	}
	if dry || len(entries) == 0 {
		return results, nil
	}
	err := r.store.AddEntries(ctx, entries, true, r.ringEvent("credentials added", ring, "", actor, fmt.Sprintf("%d from a file", len(entries))))
	r.basic.clear()
	return results, errors.Join(err, r.learnHashes(ctx))
}

// ExportEntries writes a keyring as an htpasswd file, and says which entries cannot be
// written and why.
func (r *Register) ExportEntries(ctx context.Context, ring string) (file string, left []Transferred, err error) {
	entries, err := r.Entries(ctx, ring)
	if err != nil {
		return "", nil, err
	}
	var b strings.Builder
	for _, e := range entries {
		reason := ""
		switch kind, _ := htpasswd.Kind(e.Hash); {
		case kind == "argon2id":
			reason = "its hash is argon2id, which no htpasswd file can have; its password would have to be set there anew"
		case e.Disabled:
			reason = "it is disabled"
		case len(e.Hashes(r.now())) == 0:
			reason = "it has ended"
		case strings.HasPrefix(e.Name, "#"):
			reason = "its name would be a comment"
		}
		if reason != "" {
			left = append(left, Transferred{Name: e.Name, Action: "error", Detail: reason})
			continue
		}
		fmt.Fprintf(&b, "%s:%s\n", e.Name, e.Hash)
	}
	return b.String(), left, nil
}

// better returns a hash of argon2id for a password whose kept one is of another kind, "" if
// it is good as it is.
func (r *Register) better(ctx context.Context, kept, password string) string {
	if !secret.Rises(kept, r.cost) {
		return ""
	}
	hash, err := r.hashing.Hash(ctx, password)
	if err != nil {
		return "" // the next use tries again
	}
	return hash
}
