package store

import (
	"context"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/words"
)

// A Member is somebody who has a role.
type Member struct {
	ID       int64
	Account  string
	Email    string
	Language words.Language
	Disabled bool
	Grant    account.Grant
	Way      string // "" by somebody, "bought", or "after ROLE"
	MadeBy   string // how the account was made
}

var members = tableOf[Member]("grants g JOIN accounts a ON a.id = g.account_id", `a.id ID, a.name Account, a.email Email, `+
	`a.language Language, a.disabled Disabled, a.made_by MadeBy, g.role Grant.Role, g.way Way, g.from_at Grant.From, `+
	`g.until_at Grant.Until, g.granted_by Grant.By, g.order_no Grant.Order`)

// A MemberQuery says which members are meant. Empty fields mean any.
type MemberQuery struct {
	Role   string
	Ending time.Time // only those whose role ends before
	Begins string    // with which the name or the address begins
	Past   bool      // those whose role has ended, and not those who have it
	Soon   bool      // those whose role ends first come first; else those who have it for the shortest time
	Now    time.Time
	Offset int
	Limit  int
}

// mostCounted is how many are counted where each must be looked at.
const mostCounted = 5000

// Members returns the members that a query means, and how many there are in all; of a search at most mostCounted are counted.
func (s *Store) Members(ctx context.Context, q MemberQuery) ([]Member, int, error) {
	now := millis(q.Now)
	role, of := ``, []any{}
	if q.Role != "" {
		role, of = ` AND g.role = ?`, []any{q.Role}
	}
	// What is meant, in a form in which an index says it.
	where, args := ` WHERE g.from_at <= ? AND (g.until_at = 0 OR g.until_at > ?)`+role, append([]any{now, now}, of...)
	order := ` ORDER BY g.from_at DESC, g.account_id DESC, g.role DESC, g.way DESC`
	ends := ` ORDER BY g.until_at, g.account_id, g.role, g.way`
	switch {
	case q.Past:
		where, args = ` WHERE g.until_at > 0 AND g.until_at <= ?`+role, append([]any{now}, of...)
		order = ` ORDER BY g.until_at DESC, g.account_id DESC, g.role DESC, g.way DESC`
	case !q.Ending.IsZero():
		where, args = ` WHERE g.until_at > ? AND g.until_at < ? AND g.from_at <= ?`+role, append([]any{now, millis(q.Ending), now}, of...)
		order = ends
	case q.Soon:
		where, args = ` WHERE g.until_at > ? AND g.from_at <= ?`+role, append([]any{now, now}, of...)
		order = ends
	}
	count := func(where string, args ...any) (n int, err error) {
		return n, s.long.get(ctx, &n, `SELECT COUNT(*) FROM grants g`+where, args...)
	}
	var total int
	var err error
	switch {
	case q.Begins != "":
		var search string
		var keys []any
		if search, keys, err = s.begins(ctx, q.Begins); err == nil {
			where, args = where+search, append(args, keys...)
			err = s.long.get(ctx, &total, `SELECT COUNT(*) FROM (SELECT 1 FROM grants g`+where+` LIMIT ?) AS some`, append(args, mostCounted)...)
		}
	case q.Past || q.Soon || !q.Ending.IsZero():
		total, err = count(where, args...)
	default: // all but those who have it no more, or not yet
		var all, past, later int
		if all, err = count(` WHERE 1 = 1`+role, of...); err == nil {
			past, err = count(` WHERE g.until_at > 0 AND g.until_at <= ?`+role, append([]any{now}, of...)...)
		}
		if err == nil {
			later, err = count(` WHERE g.from_at > ?`+role, append([]any{now}, of...)...)
		}
		total = all - past - later
	}
	if err != nil {
		return nil, 0, err
	}
	// Of the many, those that are shown are found before it is looked who they are.
	all, err := members.from(ctx, s.long, `(SELECT g.account_id, g.role, g.way FROM grants g`+where+order+` LIMIT ? OFFSET ?) AS shown
		JOIN grants g ON g.account_id = shown.account_id AND g.role = shown.role AND g.way = shown.way JOIN accounts a ON a.id = g.account_id`,
		order, append(args, q.Limit, q.Offset)...)
	return all, total, err
}

// fewFound is up to how many accounts a search finds first; of more, each member is looked at.
const fewFound = 1000

// begins is the condition that the name or the address of a member begins with a text.
func (s *Store) begins(ctx context.Context, text string) (condition string, args []any, err error) {
	key := account.Fold(text)
	end := after(key)
	args = []any{key, end, key, end}
	var found int
	err = s.long.get(ctx, &found, `SELECT COUNT(*) FROM (SELECT id FROM (SELECT id FROM accounts WHERE name_key >= ? AND name_key < ? `+
		`LIMIT ?) AS names UNION SELECT id FROM (SELECT id FROM accounts WHERE email_key >= ? AND email_key < ? LIMIT ?) AS addresses) AS found`,
		key, end, fewFound, key, end, fewFound)
	if found < fewFound {
		return ` AND g.account_id IN (SELECT id FROM accounts WHERE name_key >= ? AND name_key < ? UNION SELECT id FROM accounts WHERE ` +
			`email_key >= ? AND email_key < ?)`, args, err
	}
	return ` AND EXISTS (SELECT 1 FROM accounts a WHERE a.id = g.account_id AND (a.name_key >= ? AND a.name_key < ? OR a.email_key >= ? ` +
		`AND a.email_key < ?))`, args, err
}

// A MemberChange says how many began or ended to have a role in a week.
type MemberChange struct {
	Role string `db:"role"`
	Week int64  `db:"week"` // since 1970
	N    int    `db:"n"`
}

const weekMillis = 7 * 24 * 3600 * 1000

// MemberChanges returns how many began to have each role in each week, and how many ended.
func (s *Store) MemberChanges(ctx context.Context) (begun, ended []MemberChange, err error) {
	if err = s.long.all(ctx, &begun, `SELECT role, from_at / ? AS week, COUNT(*) AS n FROM grants GROUP BY role, from_at / ?`,
		weekMillis, weekMillis); err == nil {
		err = s.long.all(ctx, &ended, `SELECT role, until_at / ? AS week, COUNT(*) AS n FROM grants WHERE until_at > 0 GROUP BY role, `+
			`until_at / ?`, weekMillis, weekMillis)
	}
	return begun, ended, err
}

// RecordOf is what is recorded of a membership that has begun or ended.
func (m Member) RecordOf(what activity.Kind, now time.Time) Activity {
	e := Activity{
		At: now, Kind: what, Account: m.Account, AccountID: m.ID, Detail: "role " + m.Grant.Role, Data: map[string]string{"role": m.Grant.Role},
	}
	if !m.Grant.Until.IsZero() {
		until := m.Grant.Until.UTC().Format(time.RFC3339)
		e.Detail += " until " + until
		e.Data["until"] = until
	}
	if m.Grant.Order != "" {
		e.Detail += ", order " + m.Grant.Order
		e.Data["order"] = m.Grant.Order
	}
	if m.Email != "" {
		e.Data["address"] = m.Email
	}
	return e
}

// endGrants has recorded of grants that are taken away, and of which it was told that they have begun, that they have ended.
func endGrants(ctx context.Context, tx speaker, now time.Time, where string, args ...any) error {
	ended, err := members.all(ctx, tx, `WHERE g.told = 1 AND `+where, args...)
	if err != nil {
		return err
	}
	for _, m := range ended {
		m.Grant.Until = now
		if err := record(ctx, tx, m.RecordOf(activity.MembershipEnded, now)); err != nil {
			return err
		}
	}
	return nil
}

// BegunUntold returns grants that hold and of which it is not told that they have begun.
func (s *Store) BegunUntold(ctx context.Context, now time.Time, most int) ([]Member, error) {
	return members.all(ctx, s.speaker, `WHERE g.told = 0 AND g.from_at <= ? AND (g.until_at = 0 OR g.until_at > ?) LIMIT ?`, millis(now),
		millis(now), most)
}

// EndedUntold returns grants that have ended and of which that is not told.
func (s *Store) EndedUntold(ctx context.Context, now time.Time, most int) ([]Member, error) {
	return members.all(ctx, s.speaker, `WHERE g.told = 1 AND g.until_at > 0 AND g.until_at <= ? LIMIT ?`, millis(now), most)
}

// TellGrant notes that it is told that a grant has begun, or that it has ended; each once.
func (s *Store) TellGrant(ctx context.Context, m Member, ended bool, e Activity) error {
	before, after := 0, 1
	if ended {
		before, after = 1, 2
	}
	return s.inTransaction(ctx, func(tx speaker) error {
		result, err := tx.exec(ctx,
			`UPDATE grants SET told = ? WHERE account_id = ? AND role = ? AND way = ? AND told = ? AND until_at = ?`,
			after, m.ID, m.Grant.Role, m.Way, before, millis(m.Grant.Until))
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return err
		}
		return record(ctx, tx, e)
	})
}

// Ending returns grants that end within a time from now, that last longer than that, that nothing else prolongs, and of whose end
// nobody was reminded so shortly before it.
func (s *Store) Ending(ctx context.Context, now time.Time, ahead time.Duration, most int) ([]Member, error) {
	return members.all(ctx, s.speaker,
		`WHERE g.until_at > ? AND g.until_at <= ? AND g.from_at < g.until_at - ? AND a.disabled = 0 AND a.email <> '' AND a.leaves_at = 0
			AND g.way NOT LIKE 'after %'
		AND NOT EXISTS (SELECT 1 FROM grants o WHERE o.account_id = g.account_id AND o.role = g.role AND o.way <> g.way
			AND (o.until_at = 0 OR o.until_at > g.until_at) AND o.from_at <= g.until_at)
		AND NOT EXISTS (SELECT 1 FROM reminders r WHERE r.what = 'account ' || g.account_id || ' ' || g.role AND r.until_at = g.until_at
			AND r.ahead <= ?) LIMIT ?`,
		millis(now), millis(now.Add(ahead)), ahead.Milliseconds(), ahead.Milliseconds(), most)
}

// EndingPasses is Ending for passes.
func (s *Store) EndingPasses(ctx context.Context, now time.Time, ahead time.Duration, most int) (ids []string, err error) {
	return ids, s.all(ctx, &ids, `SELECT id FROM passes WHERE until_at > ? AND until_at <= ? AND made_at < until_at - ?
		AND revoked_at = 0 AND paused_at = 0 AND (allowed = 0 OR used < allowed) AND address <> ''
		AND NOT EXISTS (SELECT 1 FROM reminders r WHERE r.what = 'pass ' || passes.id AND r.until_at = passes.until_at AND r.ahead <= ?) LIMIT ?`,
		millis(now), millis(now.Add(ahead)), ahead.Milliseconds(), ahead.Milliseconds(), most)
}

// Remind notes that somebody is reminded of an end, with the message that does it. Nothing is written if it is noted already.
func (s *Store) Remind(ctx context.Context, what string, until time.Time, ahead time.Duration, mails []message.Message, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		result, err := tx.exec(ctx, `INSERT INTO reminders (what, until_at, ahead) VALUES (?, ?, ?) ON CONFLICT (what, until_at, ahead) DO `+
			`NOTHING`, what, millis(until), ahead.Milliseconds())
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return err
		}
		if err := post(ctx, tx, mails); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// SweepReminders forgets reminders of ends before a time.
func (s *Store) SweepReminders(ctx context.Context, before time.Time) error {
	return s.sweep(ctx, "reminders", "until_at", `until_at <= ?`, millis(before))
}

// TitleOf returns what people call what was bought with an order that gives a role, and as what item; "" if that is not known.
func (s *Store) TitleOf(ctx context.Context, order, role string) (title, item string, err error) {
	var r struct {
		Title string `db:"title"`
		Item  string `db:"item"`
	}
	err = s.get(ctx, &r, `SELECT title, item FROM payments WHERE order_no = ? AND role = ? ORDER BY id DESC LIMIT 1`, order, role)
	if none(err) == ErrNone {
		err = nil
	}
	return r.Title, r.Item, err
}
