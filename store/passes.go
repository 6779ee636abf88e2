package store

import (
	"context"
	"encoding/hex"
	"strings"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/message"
	"ostiarius/core/pass"
	"ostiarius/core/secret"
	"ostiarius/core/words"
)

type passRow struct {
	ID        string         `db:"id"`
	Kind      string         `db:"kind"`
	Reference string         `db:"reference"`
	Address   string         `db:"address"`
	Name      string         `db:"name"`
	Note      string         `db:"note"`
	Language  words.Language `db:"language"`
	Paths     string         `db:"paths"`
	MadeAt    int64          `db:"made_at"`
	MadeBy    string         `db:"made_by"`
	Until     int64          `db:"until_at"`
	Lasts     int64          `db:"lasts"`
	Allowed   int            `db:"allowed"`
	Used      int            `db:"used"`
	FirstUsed int64          `db:"first_used_at"`
	LastUsed  int64          `db:"last_used_at"`
	Revoked   int64          `db:"revoked_at"`
	Paused    int64          `db:"paused_at"`
	Why       string         `db:"why"`
	Spread    int64          `db:"spread_at"`
	Link      string         `db:"link_hash"`
	Password  string         `db:"password_hash"`
	Since     int64          `db:"since"`
	OldLink   string         `db:"old_link"`
	Old       string         `db:"old_password"`
	OldSince  int64          `db:"old_since"`
	OldUntil  int64          `db:"old_until"`
	Again     string         `db:"again_hash"`

	ReferenceKey string `db:"reference_key"`
	AddressKey   string `db:"address_key"`
	NameKey      string `db:"name_key"`
	FamilyKey    string `db:"family_key"`
}

const passColumns = `id, kind, reference, address, name, note, language, paths, made_at, made_by, until_at, lasts, allowed, used, ` +
	`first_used_at, last_used_at, revoked_at, paused_at, why, spread_at, link_hash, password_hash, since, old_link, old_password, ` +
	`old_since, old_until, again_hash`

const insertPass = `INSERT INTO passes (` + passColumns + `, reference_key, address_key, name_key, family_key)
	VALUES (:id, :kind, :reference, :address, :name, :note, :language,
		:paths, :made_at, :made_by, :until_at, :lasts, :allowed, :used, :first_used_at, :last_used_at, :revoked_at, :paused_at, :why,
		  :spread_at, :link_hash, :password_hash, :since, :old_link, :old_password, :old_since, :old_until, :again_hash, :reference_key,
		    :address_key, :name_key, :family_key)`

// What of a pass changes after it was issued.
const updatePass = `UPDATE passes SET until_at = :until_at, lasts = :lasts,
	allowed = :allowed, used = :used, first_used_at = :first_used_at, last_used_at = :last_used_at, revoked_at = :revoked_at,
	paused_at = :paused_at, why = :why, spread_at = :spread_at, link_hash = :link_hash, password_hash = :password_hash, since =
	  :since, old_link = :old_link, old_password = :old_password, old_since = :old_since, old_until = :old_until, again_hash =
	    :again_hash WHERE id = :id`

func passRowOf(p *pass.Pass) passRow {
	family := p.Name[strings.LastIndex(p.Name, " ")+1:]
	return passRow{
		ID: p.ID, Kind: p.Kind, Reference: p.Reference, Address: p.Address, Name: p.Name, Note: p.Note, Language: p.Language,
		Paths: strings.Join(p.Paths, "\n"), MadeAt: millis(p.MadeAt), MadeBy: p.MadeBy,
		Until: millis(p.Until), Lasts: p.Lasts.Milliseconds(), Allowed: p.Allowed, Used: p.Used, FirstUsed: millis(p.FirstUsed),
		LastUsed: millis(p.LastUsed), Revoked: millis(p.Revoked), Paused: millis(p.Paused), Why: p.Why, Spread: millis(p.Spread),
		Link: hexOf(p.Link), Password: hashText(p.Password), Since: millis(p.Since), OldLink: tokenText(p.OldLink), Old: hashText(p.Old),
		OldSince: millis(p.OldSince), OldUntil: millis(p.OldUntil), Again: tokenText(p.Again),
		ReferenceKey: account.Fold(p.Reference), AddressKey: account.Fold(p.Address), NameKey: account.Fold(p.Name),
		FamilyKey: account.Fold(family),
	}
}

func tokenText(h secret.TokenHash) string {
	if h == (secret.TokenHash{}) {
		return ""
	}
	return hexOf(h)
}

func hashText(h pass.Hash) string {
	if h == (pass.Hash{}) {
		return ""
	}
	return hex.EncodeToString(h[:])
}

func (r passRow) pass() *pass.Pass {
	p := &pass.Pass{
		ID: r.ID, Kind: r.Kind, Reference: r.Reference, Address: r.Address, Name: r.Name, Note: r.Note, Language: r.Language,
		MadeAt: moment(r.MadeAt), MadeBy: r.MadeBy,
		Until: moment(r.Until), Lasts: time.Duration(r.Lasts) * time.Millisecond, Allowed: r.Allowed, Used: r.Used,
		FirstUsed: moment(r.FirstUsed), LastUsed: moment(r.LastUsed), Revoked: moment(r.Revoked), Paused: moment(r.Paused), Why: r.Why,
		Spread: moment(r.Spread),
		Since:  moment(r.Since), OldSince: moment(r.OldSince), OldUntil: moment(r.OldUntil),
	}
	if r.Paths != "" {
		p.Paths = strings.Split(r.Paths, "\n")
	}
	// What cannot be read is the hash of nothing.
	hex.Decode(p.Link[:], []byte(r.Link))
	hex.Decode(p.Password[:], []byte(r.Password))
	hex.Decode(p.OldLink[:], []byte(r.OldLink))
	hex.Decode(p.Old[:], []byte(r.Old))
	hex.Decode(p.Again[:], []byte(r.Again))
	return p
}

// AddPasses adds passes with the messages that bring them, all or none.
func (s *Store) AddPasses(ctx context.Context, all []*pass.Pass, mails []message.Message, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := addPasses(ctx, tx, all); err != nil {
			return err
		}
		if err := post(ctx, tx, mails); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

func addPasses(ctx context.Context, tx speaker, all []*pass.Pass) error {
	for _, p := range all {
		if _, err := tx.named(ctx, insertPass, passRowOf(p)); err != nil {
			return err
		}
		if err := tell(ctx, tx, p.ID, pass.StoryEntry{At: p.MadeAt, What: pass.Issued, Actor: p.MadeBy}); err != nil {
			return err
		}
	}
	return nil
}

func tell(ctx context.Context, tx speaker, id string, story ...pass.StoryEntry) error {
	for _, t := range story {
		if _, err := tx.exec(ctx, `INSERT INTO pass_story (pass_id, at, what, actor, detail) VALUES (?, ?, ?, ?, ?)`, id, millis(t.At),
			string(t.What), t.Actor, t.Detail); err != nil {
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
	if err := one(tx.named(ctx, updatePass, passRowOf(c.Pass))); err != nil {
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
		if _, err := tx.exec(ctx,
			`INSERT INTO pass_openings (token_hash, pass_id, since, made_at, network, agent) VALUES (?, ?, ?, ?, ?, ?)`, hexOf(o.Hash),
			o.Pass, millis(o.Since), millis(o.MadeAt), o.Network, o.Agent); err != nil {
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

func putFile(ctx context.Context, tx speaker, id string, f *pass.File) error {
	_, err := tx.exec(ctx, `INSERT INTO pass_files (pass_id, file, size, spans, day) VALUES (?, ?, ?, ?, ?) ON CONFLICT (pass_id, file) `+
		`DO UPDATE SET size = excluded.size, spans = excluded.spans, day = excluded.day`,
		id, f.Key, f.Size, f.Has.String(), f.Day)
	return err
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
	var rows []struct {
		File  string `db:"file"`
		Size  int64  `db:"size"`
		Spans string `db:"spans"`
		Day   string `db:"day"`
	}
	if err := s.all(ctx, &rows, `SELECT file, size, spans, day FROM pass_files WHERE pass_id = ?`, id); err != nil {
		return nil, err
	}
	files := make([]pass.File, len(rows))
	for i, r := range rows {
		has, err := pass.ReadSpans(r.Spans)
		if err != nil {
			return nil, err
		}
		files[i] = pass.File{Key: r.File, Size: r.Size, Has: has, Day: r.Day}
	}
	return files, nil
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
	var rows []passRow
	err := from.all(ctx, &rows, `SELECT `+passColumns+` FROM passes WHERE `+where, args...)
	all := make([]*pass.Pass, len(rows))
	for i, r := range rows {
		all[i] = r.pass()
	}
	return all, err
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
	var r passRow
	if err := s.get(ctx, &r, `SELECT `+passColumns+` FROM passes WHERE `+where, args...); err != nil {
		return nil, none(err)
	}
	return r.pass(), nil
}

// Opening returns the opening of a token. The error is ErrNone if there is none.
func (s *Store) Opening(ctx context.Context, hash secret.TokenHash) (*Opening, error) {
	var r struct {
		Pass    string `db:"pass_id"`
		Since   int64  `db:"since"`
		MadeAt  int64  `db:"made_at"`
		Network string `db:"network"`
		Agent   string `db:"agent"`
	}
	if err := s.get(ctx, &r, `SELECT pass_id, since, made_at, network, agent FROM pass_openings WHERE token_hash = ?`,
		hexOf(hash)); err != nil {
		return nil, none(err)
	}
	return &Opening{hash, r.Pass, moment(r.Since), moment(r.MadeAt), r.Network, r.Agent}, nil
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
	var rows []struct {
		At     int64  `db:"at"`
		What   string `db:"what"`
		Actor  string `db:"actor"`
		Detail string `db:"detail"`
	}
	err := s.long.all(ctx, &rows, `SELECT at, what, actor, detail FROM pass_story WHERE pass_id = ? ORDER BY id`, id)
	story := make([]pass.StoryEntry, len(rows))
	for i, r := range rows {
		story[i] = pass.StoryEntry{At: moment(r.At), What: pass.What(r.What), Actor: r.Actor, Detail: r.Detail}
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
