// Package keyrings is what the service does with the names of keyrings and their passwords.
package keyrings

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/basic"
	"ostiarius/core/htpasswd"
	"ostiarius/core/keyring"
	"ostiarius/core/policy"
	"ostiarius/core/roster"
	"ostiarius/core/secret"
	"ostiarius/core/throttle"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/hashing"
	"ostiarius/service/base/known"
	"ostiarius/service/base/mistake"
	"ostiarius/service/keep/activity"
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

// Options are what Keyrings need.
type Options struct {
	Store    *store.Store
	Book     func() *policy.Book // the policy now in force
	Now      func() time.Time
	Hashing  *hashing.Pool
	Limiter  *throttle.Limiter // of tries
	Places   *known.Places
	Activity *activity.Log
	Endings  *ending.List
	Log      *slog.Logger
}

// Keyrings are the keyrings of a service.
type Keyrings struct{ o Options }

// New returns the Keyrings of the records in o.Store.
func New(o Options) *Keyrings { return &Keyrings{o} }

// Entries returns the entries of a keyring, or of all if the name is "".
func (k *Keyrings) Entries(ctx context.Context, ring string) ([]*Entry, error) {
	if ring != "" {
		if err := k.checkRing(ring, true); err != nil {
			return nil, err
		}
	}
	return k.o.Store.Entries(ctx, ring)
}

// checkRing says if there is no such keyring. One that has gone from the policy can still
// be looked at and emptied.
func (k *Keyrings) checkRing(ring string, gone bool) error {
	var names []string
	for _, declared := range k.o.Book().Keyrings {
		if declared.Name == ring {
			return nil
		}
		names = append(names, declared.Name)
	}
	if gone {
		if left, err := k.o.Store.Entries(context.Background(), ring); err != nil || len(left) > 0 {
			return err
		}
	}
	has := "it has none; they are declared under keyrings"
	if len(names) > 0 {
		has = "it has " + strings.Join(names, ", ")
	}
	return mistake.Unknown("the policy has no keyring %q; %s", ring, has)
}

func entryMistake(ring, name string, err error) error {
	switch {
	case errors.Is(err, store.ErrNone):
		return mistake.Unknown("there is no %q in the keyring %s", name, ring)
	case errors.Is(err, store.ErrTaken):
		return mistake.Taken("there is a %q in the keyring %s already; change that one, or choose another name", name, ring)
	}
	return err
}

// Add adds a name with a password to a keyring.
func (k *Keyrings) Add(ctx context.Context, actor, ring string, n NewEntry) (*Entry, error) {
	if err := k.checkRing(ring, false); err != nil {
		return nil, err
	}
	name, err := entryName(n.Name)
	if err != nil {
		return nil, err
	}
	if err := k.checkEntry(n.Password, name, n.Note, n.Until); err != nil {
		return nil, err
	}
	hash, err := k.o.Hashing.Hash(ctx, n.Password)
	if err != nil {
		return nil, err
	}
	e := &Entry{Keyring: ring, Name: name, Hash: hash, Note: n.Note, MadeAt: k.o.Now(), MadeBy: actor, Until: n.Until}
	return e, k.entryChanged(ring, name,
		k.o.Store.AddEntries(ctx, []*Entry{e}, false, k.ringEvent(kind.CredentialsAdded, ring, name, actor, "")))
}

func (k *Keyrings) checkEntry(password, name, note string, until time.Time) error {
	if err := k.checkTerms(&note, until); err != nil {
		return err
	}
	if err := secret.CheckNew(password, k.o.Book().Site, name, "ostiarius"); err != nil {
		return mistake.Of(err)
	}
	return nil
}

func (k *Keyrings) checkTerms(note *string, until time.Time) error {
	if !until.IsZero() && !until.After(k.o.Now()) {
		return mistake.Invalid("the end, %s, is not in the future", until.Format(time.RFC3339))
	}
	if note != nil {
		return mistake.Note(*note)
	}
	return nil
}

func (k *Keyrings) ringEvent(of kind.Kind, ring, name, actor, detail string) store.Activity {
	what := "keyring " + ring
	if detail != "" {
		what += ", " + detail
	}
	return store.Activity{At: k.o.Now(), Kind: of, Account: name, AccountID: store.NoAccount, Actor: actor, Detail: what}
}

// entryChanged tidies up after a change of an entry: what was verified before counts no longer.
func (k *Keyrings) entryChanged(ring, name string, err error) error {
	return entryMistake(ring, name, err)
}

// Rotate gives an entry another password. The one before counts for as long as grace, so
// that whoever has it can change over.
func (k *Keyrings) Rotate(ctx context.Context, actor, ring, name, password string, grace time.Duration) error {
	if grace < 0 || grace > 90*24*time.Hour {
		return mistake.Invalid("both passwords can count for at most 90 days")
	}
	name, err := entryName(name)
	if err != nil {
		return err
	}
	if err := k.checkEntry(password, name, "", time.Time{}); err != nil {
		return err
	}
	hash, err := k.o.Hashing.Hash(ctx, password)
	if err != nil {
		return err
	}
	detail, old := "another password", time.Time{}
	if grace > 0 {
		old = k.o.Now().Add(grace)
		detail += "; the one before counts until " + old.UTC().Format(time.RFC3339)
	}
	return k.entryChanged(ring, name,
		k.o.Store.RotateEntry(ctx, ring, name, hash, old, k.ringEvent(kind.CredentialsChanged, ring, name, actor, detail)))
}

// entryName reads the name of an entry.
func entryName(text string) (string, error) {
	name, err := htpasswd.Name(text)
	if err != nil {
		return "", mistake.Invalid("%q: %v", text, err)
	}
	return name, nil
}

// Switch disables or enables an entry.
func (k *Keyrings) Switch(ctx context.Context, actor, ring, name string, disabled bool) error {
	name, err := entryName(name)
	if err != nil {
		return err
	}
	if disabled {
		return k.o.Endings.Take(ctx, ending.Ending{Ring: ring, Name: name, What: "that " + name + " is disabled in the keyring " + ring},
			func(ctx context.Context) error {
				return k.entryChanged(ring, name,
					k.o.Store.SwitchEntry(ctx, ring, name, true, k.ringEvent(kind.CredentialsChanged, ring, name, actor, "disabled")))
			})
	}
	k.o.Endings.Revoke(0, ring, name)
	return k.entryChanged(ring, name,
		k.o.Store.SwitchEntry(ctx, ring, name, false, k.ringEvent(kind.CredentialsChanged, ring, name, actor, "enabled")))
}

// An Edit says what of an entry is to be changed.
type Edit struct {
	Note    *string   // nil to leave it
	Until   time.Time // zero to leave it
	Endless bool      // it has no end any more
}

// Edit changes the note or the end of an entry; its password stays. What it let in before and would not now is asked again.
func (k *Keyrings) Edit(ctx context.Context, actor, ring, name string, to Edit) error {
	name, err := entryName(name)
	if err != nil {
		return err
	}
	if to.Endless && !to.Until.IsZero() {
		return mistake.Invalid("a name has an end or none")
	}
	if err := k.checkTerms(to.Note, to.Until); err != nil {
		return err
	}
	var said []string
	if to.Note != nil {
		said = append(said, "another note")
	}
	switch {
	case to.Endless:
		said = append(said, "no end")
	case !to.Until.IsZero():
		said = append(said, "until "+to.Until.UTC().Format(time.RFC3339))
	}
	if said == nil {
		return mistake.Invalid("nothing is said of what to change")
	}
	return k.entryChanged(ring, name,
		k.o.Store.EditEntry(ctx, ring, name, to.Note, to.Until, to.Endless,
			k.ringEvent(kind.CredentialsChanged, ring, name, actor, strings.Join(said, ", "))))
}

// Remove removes a name from a keyring.
func (k *Keyrings) Remove(ctx context.Context, actor, ring, name string) error {
	return k.entryChanged(ring, name, k.o.Store.RemoveEntry(ctx, ring, name, k.ringEvent(kind.CredentialsRemoved, ring, name, actor, "")))
}

// Import brings in the lines of an htpasswd file. Lines that cannot be taken are
// told and left out; the others are added, or replace the password of a name that is
// there. With dry, it only says what would happen.
func (k *Keyrings) Import(ctx context.Context, actor, ring string, file []byte, dry bool) ([]roster.Done, error) {
	if err := k.checkRing(ring, false); err != nil {
		return nil, err
	}
	if len(file) > htpasswd.MaxSize {
		return nil, mistake.Invalid("the file has more than %d MiB", htpasswd.MaxSize>>20)
	}
	now := k.o.Now()
	var results []roster.Done
	var entries []*Entry
	first := map[string]int{}
	for _, l := range htpasswd.Read(file) {
		if line, twice := first[l.Name]; twice && l.Err == nil {
			l.Err = fmt.Errorf("the name stands in line %d already, which counts", line)
		}
		if l.Err != nil {
			results = append(results, roster.Done{Line: l.Number, Name: l.Name, Action: "error", Detail: l.Err.Error()})
			continue
		}
		first[l.Name] = l.Number
		result := roster.Done{Line: l.Number, Name: l.Name, Action: "add", Detail: l.Kind}
		if l.Weak {
			result.Detail += ", weak: it is replaced by argon2id when it is first used"
		}
		e := &Entry{Keyring: ring, Name: l.Name, Hash: l.Hash, MadeAt: now, MadeBy: actor + ", import"}
		old, err := k.o.Store.Entry(ctx, ring, l.Name)
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
	err := k.o.Store.AddEntries(ctx, entries, true,
		k.ringEvent(kind.CredentialsAdded, ring, "", actor, fmt.Sprintf("%d from a file", len(entries))))
	return results, errors.Join(err, k.o.Hashing.LearnAll(ctx, k.o.Store.Hashes))
}

// Export writes a keyring as an htpasswd file, and says which entries cannot be
// written and why.
func (k *Keyrings) Export(ctx context.Context, ring string) (file string, left []roster.Done, err error) {
	entries, err := k.Entries(ctx, ring)
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
		case len(e.Hashes(k.o.Now())) == 0:
			reason = "it has ended"
		case strings.HasPrefix(e.Name, "#"):
			reason = "its name would be a comment"
		}
		if reason != "" {
			left = append(left, roster.Done{Name: e.Name, Action: "error", Detail: reason})
			continue
		}
		fmt.Fprintf(&b, "%s:%s\n", e.Name, e.Hash)
	}
	return b.String(), left, nil
}

// Open takes credentials for a keyring. It returns when that will have to be asked again at the latest,
// zero for never, or false if they are not right. The error is *keyring.Over for right ones of a name that has ended or is
// disabled, hashing.ErrBusy or *throttle.Slow, or says that the service failed.
func (k *Keyrings) Open(ctx context.Context, ring string, c basic.Credentials, from string) (until time.Time, ok bool, err error) {
	ctx = context.WithoutCancel(ctx)
	name, err := htpasswd.Name(c.User)
	if err != nil {
		name = "" // no entry has it
	}
	look := k.o.Endings.Look()
	e, err := k.o.Store.Entry(ctx, ring, name)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return until, false, err
	}
	now := k.o.Now()
	network := throttle.NetworkNamed(from)
	limits := k.o.Places.Limits(ctx, store.PlaceOfEntry(ring, c.User), "pair "+ring+" "+c.User, network)
	if wait := k.o.Limiter.Try(now, limits...); wait > 0 {
		k.o.Activity.Add(store.Activity{At: now, Kind: kind.SignInSlowed, Network: from, Detail: "keyring " + ring})
		return until, false, &throttle.Slow{Wait: wait}
	}
	defer k.o.Limiter.Over(limits...)
	var hashes []string
	var over *keyring.Over
	if e != nil {
		if hashes = e.Hashes(now); look.HasEntry(ring, e.Name) {
			hashes = nil
		}
		if hashes == nil { // whoever has the password is told apart from whoever guesses, in the records
			hashes, over = []string{e.Hash}, &keyring.Over{Name: e.Name, Until: e.Until}
			if e.Disabled || look.HasEntry(ring, e.Name) {
				over.Disabled, over.Until = true, time.Time{}
			}
		}
	}
	right, err := k.o.Hashing.Compare(ctx, hashes, keyring.MostHashes, c.Password)
	if errors.Is(err, hashing.ErrBusy) || err == nil && right != "" && over != nil {
		k.o.Limiter.TakeBack(limits...) // nothing was guessed, and what others guess is not forgotten for it
	}
	if err != nil {
		return until, false, err
	}
	if right == "" || over != nil {
		detail := "wrong credentials for the keyring " + ring
		if right != "" {
			detail = over.Error() + ", in the keyring " + ring
		}
		known := ""
		if e != nil {
			known = e.Name
		}
		k.o.Log.Warn(string(kind.SignInFailed), "name", known, "network", from, "reason", detail)
		err := k.o.Store.Record(ctx,
			store.Activity{At: now, Kind: kind.SignInFailed, Account: known, AccountID: store.NoAccount, Network: from, Detail: detail})
		if err == nil && right != "" {
			err = over
		}
		return until, false, err
	}
	k.o.Limiter.Succeeded(limits...)
	k.o.Places.Right(ctx, store.PlaceOfEntry(ring, e.Name), network)
	better := ""
	if right == e.Hash {
		better = k.o.Hashing.Better(ctx, right, c.Password)
	}
	soon, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	if err := k.o.Store.UsedEntry(soon, ring, e.Name, now, right, better); err != nil { // then it is not known when it was last used
		k.o.Log.Warn("that credentials of a keyring were used could not be written down", "keyring", ring, "error", err)
	}
	return e.Changes(now), true, nil
}
