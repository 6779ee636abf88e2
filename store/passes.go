package store

import (
	"context"
	"strings"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/message"
	"ostiarius/core/pass"
	"ostiarius/core/secret"
)

// A keptPass is a pass as it is kept, with what it is searched by.
type keptPass struct {
	pass.Pass
	ReferenceKey, AddressKey, NameKey, FamilyKey string
}

// What of a pass changes after it was issued.
const passChanges = `until_at Until, lasts, allowed, used, first_used_at FirstUsed, last_used_at LastUsed, revoked_at Revoked, ` +
	`paused_at Paused, why, spread_at Spread, link_hash Link, password_hash Password, since, old_link, old_password Old, old_since, ` +
	`old_until, again_hash Again`

const passColumns = `id, kind, reference, address, name, note, language, paths Paths lines, made_at, made_by, ` + passChanges

var (
	passes        = tableOf[pass.Pass]("passes", passColumns)
	newPasses     = tableOf[keptPass]("passes", passColumns+`, reference_key, address_key, name_key, family_key`)
	changedPasses = tableOf[pass.Pass]("passes", passChanges)
)

func newPass(p *pass.Pass) keptPass {
	family := p.Name[strings.LastIndex(p.Name, " ")+1:]
	return keptPass{*p, account.Fold(p.Reference), account.Fold(p.Address), account.Fold(p.Name), account.Fold(family)}
}

// AddPasses adds passes with the messages that bring them, all or none.
func (s *Store) AddPasses(ctx context.Context, all []*pass.Pass, mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		return addPasses(ctx, tx, all)
	})
}

func addPasses(ctx context.Context, tx speaker, all []*pass.Pass) error {
	for _, p := range all {
		if err := newPasses.addOne(ctx, tx, newPass(p)); err != nil {
			return err
		}
		if err := tell(ctx, tx, p.ID, pass.StoryEntry{At: p.MadeAt, What: pass.Issued, Actor: p.MadeBy}); err != nil {
			return err
		}
	}
	return nil
}

// A keptStory is an entry of the story of a pass.
type keptStory struct {
	Pass string
	pass.StoryEntry
}

var passStory = tableOf[keptStory]("pass_story", `pass_id Pass, at, what, actor, detail`)

func tell(ctx context.Context, tx speaker, id string, story ...pass.StoryEntry) error {
	for _, t := range story {
		if err := passStory.addOne(ctx, tx, keptStory{id, t}); err != nil {
			return err
		}
	}
	return nil
}

// A PassChange is a pass as it is from now on, and what is written down with that.
type PassChange struct {
	Pass    *pass.Pass
	Story   []pass.StoryEntry
	Mails   []message.Message
	Network string     // from which it is used, "" for none that is new
	Opening *Opening   // in a browser, nil for none
	Close   bool       // it counts no longer in browsers in which it was opened
	Afresh  bool       // from where it was used is forgotten
	File    *pass.File // of which more was delivered, nil for none
	Event   *Activity  // nil for nothing that is recorded beside it
	UsedUp  *Activity  // likewise, of the last download
	At      time.Time
}

// An Opening is that the link of a pass was opened in a browser, which has a token for it.
type Opening struct {
	Hash    secret.TokenHash
	Pass    string
	Since   time.Time // when the link was made
	MadeAt  time.Time
	Network string
	Agent   string
}

var openings = tableOf[Opening]("pass_openings", `token_hash Hash, pass_id Pass, since, made_at, network, agent`)

// The most browsers in which a pass is open at a time; the latest count.
const mostOpenings = 200

// ChangePass writes down what has become of a pass. The error is ErrNone if it is gone.
func (s *Store) ChangePass(ctx context.Context, changes ...PassChange) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		for _, c := range changes {
			if err := changePass(ctx, tx, c); err != nil {
				return err
			}
		}
		return nil
	})
}

func changePass(ctx context.Context, tx speaker, c PassChange) error {
	if err := changedPasses.change(ctx, tx, *c.Pass, `WHERE id = ?`, c.Pass.ID); err != nil {
		return err
	}
	if c.Close {
		if _, err := tx.exec(ctx, `DELETE FROM pass_openings WHERE pass_id = ?`, c.Pass.ID); err != nil {
			return err
		}
	}
	if c.Afresh {
		if _, err := tx.exec(ctx, `DELETE FROM pass_networks WHERE pass_id = ?`, c.Pass.ID); err != nil {
			return err
		}
	}
	if o := c.Opening; o != nil {
		if err := openings.addOne(ctx, tx, *o); err != nil {
			return err
		}
		if _, err := tx.exec(ctx, `DELETE FROM pass_openings WHERE pass_id = ? AND token_hash NOT IN (SELECT token_hash FROM pass_openings `+
			`WHERE pass_id = ? ORDER BY made_at DESC LIMIT ?)`, o.Pass, o.Pass, mostOpenings); err != nil {
			return err
		}
	}
	if c.Network != "" {
		if _, err := tx.exec(ctx, `INSERT INTO pass_networks (pass_id, network, at) VALUES (?, ?, ?) ON CONFLICT (pass_id, network) DO `+
			`UPDATE SET at = excluded.at`, c.Pass.ID, c.Network, millis(c.At)); err != nil {
			return err
		}
	}
	if c.File != nil {
		if err := putFile(ctx, tx, c.Pass.ID, c.File); err != nil {
			return err
		}
	}
	if err := tell(ctx, tx, c.Pass.ID, c.Story...); err != nil {
		return err
	}
	if err := post(ctx, tx, c.Mails); err != nil {
		return err
	}
	for _, e := range []*Activity{c.Event, c.UsedUp} {
		if e == nil {
			continue
		}
		if err := record(ctx, tx, *e); err != nil {
			return err
		}
	}
	return nil
}

// A keptFile is what of a file was delivered to a pass.
type keptFile struct {
	Pass string
	pass.File
}

var passFiles = tableOf[keptFile]("pass_files", `pass_id Pass, file Key, size, spans Has, day`)

func putFile(ctx context.Context, tx speaker, id string, f *pass.File) error {
	return passFiles.put(ctx, tx, keptFile{id, *f}, "pass_id, file")
}

// SetPassFile writes down what of a file was delivered to a pass.
func (s *Store) SetPassFile(ctx context.Context, id string, f *pass.File) error {
	return putFile(ctx, s.speaker, id, f)
}

// DropPassFiles forgets what of some files was delivered to a pass.
func (s *Store) DropPassFiles(ctx context.Context, id string, keys []string) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		for _, key := range keys {
			if _, err := tx.exec(ctx, `DELETE FROM pass_files WHERE pass_id = ? AND file = ?`, id, key); err != nil {
				return err
			}
		}
		return nil
	})
}

// PassFiles returns what was delivered to a pass.
func (s *Store) PassFiles(ctx context.Context, id string) ([]pass.File, error) {
	kept, err := passFiles.all(ctx, s.speaker, `WHERE pass_id = ?`, id)
	files := make([]pass.File, len(kept))
	for i, k := range kept {
		files[i] = k.File
	}
	return files, err
}

// Pass returns one pass. The error is ErrNone if there is none of that name.
func (s *Store) Pass(ctx context.Context, id string) (*pass.Pass, error) {
	return s.onePass(ctx, `id = ?`, id)
}

// PassesFor returns the passes of a kind that were issued to an address, the newest first.
func (s *Store) PassesFor(ctx context.Context, kind, address string) ([]*pass.Pass, error) {
	return s.passes(ctx, s.speaker, `kind = ? AND address_key = ? ORDER BY made_at DESC`, kind, account.Fold(address))
}

// OldPasses returns passes of a kind whose link and password were made before a time and that are not revoked.
func (s *Store) OldPasses(ctx context.Context, kind string, before, now time.Time, most int) ([]*pass.Pass, error) {
	return s.passes(ctx, s.speaker, `kind = ? AND since < ? AND revoked_at = 0 AND (until_at = 0 OR until_at > ?) ORDER BY made_at `+
		`DESC, id LIMIT ?`, kind, millis(before), millis(now), most)
}

func (s *Store) passes(ctx context.Context, from speaker, where string, args ...any) ([]*pass.Pass, error) {
	found, err := passes.all(ctx, from, `WHERE `+where, args...)
	return pointers(found), err
}

// PassByLink returns the pass that a link is of, or was before it got others.
func (s *Store) PassByLink(ctx context.Context, token secret.TokenHash) (*pass.Pass, error) {
	return s.onePass(ctx, `link_hash = ? OR old_link = ?`, hexOf(token), hexOf(token))
}

// PassByAgain returns the pass that a link opens again.
func (s *Store) PassByAgain(ctx context.Context, token secret.TokenHash) (*pass.Pass, error) {
	return s.onePass(ctx, `again_hash = ?`, hexOf(token))
}

func (s *Store) onePass(ctx context.Context, where string, args ...any) (*pass.Pass, error) {
	return pointer(passes.one(ctx, s.speaker, `WHERE `+where, args...))
}

// Opening returns the opening of a token. The error is ErrNone if there is none.
func (s *Store) Opening(ctx context.Context, hash secret.TokenHash) (*Opening, error) {
	return pointer(openings.one(ctx, s.speaker, `WHERE token_hash = ?`, hexOf(hash)))
}

// EndOpening forgets that the link of a pass was opened in a browser.
func (s *Store) EndOpening(ctx context.Context, hash secret.TokenHash) error {
	_, err := s.exec(ctx, `DELETE FROM pass_openings WHERE token_hash = ?`, hexOf(hash))
	return err
}

// A PassQuery says which passes are meant. Empty fields mean any.
type PassQuery struct {
	Kind   string
	State  pass.State
	Begins string // with which the name, its last word, the address, the reference or the ID begins
	Now    time.Time
	Before *pass.Pass // only those that come after this one in the list
	Limit  int
}

// passStates are the conditions of the states, with so many times the time now.
var passStates = map[pass.State]struct {
	where string
	times int
}{
	pass.Revoked: {`revoked_at > 0`, 0},
	pass.Ended:   {`revoked_at = 0 AND until_at > 0 AND until_at <= ?`, 1},
	pass.Paused:  {`revoked_at = 0 AND (until_at = 0 OR until_at > ?) AND paused_at > 0`, 1},
	pass.UsedUp:  {`revoked_at = 0 AND (until_at = 0 OR until_at > ?) AND paused_at = 0 AND allowed > 0 AND used >= allowed`, 1},
	pass.Waiting: {`revoked_at = 0 AND (until_at = 0 OR until_at > ?) AND paused_at = 0 AND (allowed = 0 OR used < allowed) AND ` +
		`first_used_at = 0`, 1},
	pass.Open: {`revoked_at = 0 AND (until_at = 0 OR until_at > ?) AND paused_at = 0 AND (allowed = 0 OR used < allowed) AND ` +
		`first_used_at > 0`, 1},
}

// Passes returns the passes that a query means, the newest first.
func (s *Store) Passes(ctx context.Context, q PassQuery) ([]*pass.Pass, error) {
	where, args := `1 = 1`, []any{}
	and := func(condition string, values ...any) {
		where, args = where+` AND `+condition, append(args, values...)
	}
	if q.Kind != "" {
		and(`kind = ?`, q.Kind)
	}
	if of, ok := passStates[q.State]; ok {
		var times []any
		for range of.times {
			times = append(times, millis(q.Now))
		}
		and(of.where, times...)
	}
	if q.Begins != "" {
		key := account.Fold(q.Begins)
		end := key + "\U0010ffff"
		and(`(id = ? OR reference_key >= ? AND reference_key < ? OR address_key >= ? AND address_key < ? OR name_key >= ? AND name_key < ? `+
			`OR family_key >= ? AND family_key < ?)`,
			key, key, end, key, end, key, end, key, end)
	}
	if q.Before != nil {
		at := millis(q.Before.MadeAt)
		and(`(made_at < ? OR made_at = ? AND id < ?)`, at, at, q.Before.ID)
	}
	return s.passes(ctx, s.long, where+` ORDER BY made_at DESC, id DESC LIMIT ?`, append(args, q.Limit)...)
}

// CountPasses returns how many passes of each kind are in each state.
func (s *Store) CountPasses(ctx context.Context, now time.Time) (map[string]map[pass.State]int, error) {
	counts := map[string]map[pass.State]int{}
	for state, of := range passStates {
		var args []any
		for range of.times {
			args = append(args, millis(now))
		}
		var rows []struct {
			Kind string
			N    int
		}
		if err := s.long.all(ctx, &rows, `SELECT kind, COUNT(*) AS n FROM passes WHERE `+of.where+` GROUP BY kind`, args...); err != nil {
			return nil, err
		}
		for _, r := range rows {
			if counts[r.Kind] == nil {
				counts[r.Kind] = map[pass.State]int{}
			}
			counts[r.Kind][state] = r.N
		}
	}
	return counts, nil
}

// PassNetworks returns from which networks a pass was used since a time, and when last.
func (s *Store) PassNetworks(ctx context.Context, id string, since time.Time) (map[string]time.Time, error) {
	var rows []struct {
		Network string `db:"network"`
		At      int64  `db:"at"`
	}
	err := s.all(ctx, &rows, `SELECT network, at FROM pass_networks WHERE pass_id = ? AND at > ?`, id, millis(since))
	seen := map[string]time.Time{}
	for _, r := range rows {
		seen[r.Network] = moment(r.At)
	}
	return seen, err
}

// PassStory returns what happened to a pass, from its beginning.
func (s *Store) PassStory(ctx context.Context, id string) ([]pass.StoryEntry, error) {
	kept, err := passStory.all(ctx, s.long, `WHERE pass_id = ? ORDER BY id`, id)
	story := make([]pass.StoryEntry, len(kept))
	for i, k := range kept {
		story[i] = k.StoryEntry
	}
	return story, err
}

// SpreadPasses returns the passes that were used from too many networks since a time, the latest first.
func (s *Store) SpreadPasses(ctx context.Context, since time.Time, most int) ([]*pass.Pass, error) {
	return s.passes(ctx, s.speaker, `spread_at > ? AND revoked_at = 0 ORDER BY spread_at DESC LIMIT ?`, millis(since), most)
}

// SweepPasses removes what is no longer asked for: from where passes were used before a time, and in which browsers
// and how far those were used that have ended; and what ended before another time altogether, unless that is zero.
func (s *Store) SweepPasses(ctx context.Context, now, networks, gone time.Time) error {
	if err := s.sweep(ctx, "pass_networks", "pass_id", `at <= ?`, millis(networks)); err != nil {
		return err
	}
	if !gone.IsZero() {
		if err := s.sweep(ctx, "passes", "id", `revoked_at > 0 AND revoked_at <= ? OR until_at > 0 AND until_at <= ?`, millis(gone),
			millis(gone)); err != nil {
			return err
		}
		if err := s.sweep(ctx, "pass_story", "pass_id", `pass_id NOT IN (SELECT id FROM passes)`); err != nil {
			return err
		}
	}
	for _, table := range []string{"pass_openings", "pass_files"} {
		if err := s.sweep(ctx, table, "pass_id", `pass_id NOT IN (SELECT id FROM passes WHERE revoked_at = 0)`); err != nil {
			return err
		}
	}
	return nil
}
