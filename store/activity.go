package store

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/account"
	"ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/telling"
	"ostiarius/core/throttle"
)

// An Activity is one record of what happened at the doors or was changed. It never holds a
// password or a token.
type Activity struct {
	ID        int64 // counted up; 0 for one that is not yet recorded
	At        time.Time
	Kind      activity.Kind
	Account   string // whom it is about
	Actor     string // who did it
	Network   string // from where
	Detail    string
	Door      string // of what happened at a door: as it is written in the policy
	Place     string // the method and the address asked for, without the query
	Reference string // the number that the person was told
	// AccountID is the account that it is about; 0 for the one that has the name now, if there is one,
	// and NoAccount if the name is something else's.
	AccountID int64
	Data      map[string]string // what more other programs are told of it
}

// NoAccount says that what an event is about is no account, though it has a name.
const NoAccount = -1

type eventRow struct {
	ID, At                                                  int64
	Kind                                                    activity.Kind
	Account, Actor, Network, Detail, Door, Place, Reference string
	AccountID                                               int64  `db:"account_id"`
	AccountKey                                              string `db:"account_key"`
	ActorKey                                                string `db:"actor_key"`
	Words                                                   string
	Told                                                    bit
	Data                                                    string
}

func rowOf(e Activity) eventRow {
	data := ""
	if len(e.Data) > 0 {
		text, _ := json.Marshal(e.Data) // of texts alone
		data = string(text)
	}
	_, tells := telling.Of(e.Kind)
	return eventRow{
		0, millis(e.At), e.Kind, e.Account, e.Actor, e.Network, e.Detail, e.Door, e.Place, e.Reference, e.AccountID,
		account.Fold(e.Account), account.Fold(e.Actor),
		wordsOf(string(e.Kind), e.Account, e.Actor, e.Detail, e.Place, e.Network, e.Reference), bit(!tells), data,
	}
}

const insertEvent = `INSERT INTO activity (at, kind, account, actor,
	network, detail, door, place, reference, account_key, actor_key, words, told, data, account_id, actor_id)
	VALUES (:at, :kind, :account, :actor, :network, :detail, :door, :place, :reference, :account_key, :actor_key, :words, :told, :data,
		CASE WHEN :account_id <> 0 THEN :account_id ELSE COALESCE((SELECT id FROM accounts WHERE name_key = :account_key), 0) END,
		COALESCE((SELECT id FROM accounts WHERE name_key = :actor_key), 0))`

func record(ctx context.Context, tx speaker, e Activity) error {
	_, err := tx.named(ctx, insertEvent, rowOf(e))
	return err
}

// change makes a change in one transaction, with the messages that tell of it and the record of it.
func (s *Store) change(ctx context.Context, mails []message.Message, e Activity, do func(tx speaker) error) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := do(tx); err != nil {
			return err
		}
		if err := post(ctx, tx, mails); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// Record writes an event by which no other record changes.
func (s *Store) Record(ctx context.Context, e Activity) error { return record(ctx, s.speaker, e) }

// A Count says how many requests came to an outcome at a door in an hour.
type Count struct {
	Hour    time.Time // its beginning
	Outcome string
	Door    string // as it is written in the policy
	N       int64
}

var counts = tableOf[Count]("counts", `hour, outcome, door, n`)

// Note writes what happened at the doors since it was last called: events, and counts that
// are added to those there are.
func (s *Store) Note(ctx context.Context, events []Activity, counted []Count) error {
	if len(events)+len(counted) == 0 {
		return nil
	}
	return s.inTransaction(ctx, func(tx speaker) error {
		for _, e := range events {
			if err := record(ctx, tx, e); err != nil {
				return err
			}
		}
		for _, c := range counted {
			if _, err := counts.add(ctx, tx, []Count{c}, `ON CONFLICT (hour, outcome, door) DO UPDATE SET n = counts.n + excluded.n`); err != nil {
				return err
			}
		}
		return nil
	})
}

// Counts returns what was counted since a time, by hour.
func (s *Store) Counts(ctx context.Context, since time.Time) ([]Count, error) {
	return counts.all(ctx, s.long, `WHERE hour >= ? ORDER BY hour, outcome, door`, millis(since))
}

// An ActivityQuery says which events are meant. Empty fields mean any.
type ActivityQuery struct {
	Of        int64  // the number of an account; what concerns it or was done by it, and nothing else of its name
	Kind      string // one kind, or the beginning of several, as "sign-in"
	Account   string // whom it is about, or who did it
	Network   string // its beginning
	Door      string
	Reference string
	Words     string // in any text
	Since     time.Time
	Until     time.Time
	After     int64 // only later ones than this
	Before    int64 // only earlier ones than this
	Limit     int
}

// How long a search in the records of activity lasts before it is said how far it came.
const searchLasts = 250 * time.Millisecond

// How many records are looked at together, at first and at least.
var searchFirst, searchLeast = 20_000, 5_000

// Events returns the latest events that a query means, newest first. A search that takes long stops before it has looked at all:
// then rest is what to go on with as EventQuery.Before; it is 0 when there are no more.
func (s *Store) Events(ctx context.Context, q ActivityQuery) (events []Activity, rest int64, err error) {
	where, args := conditionOf(q)
	if q.After != 0 {
		// Nothing between is left out when there are more than asked for.
		events, err := s.events(ctx, where+` AND id > ? ORDER BY id LIMIT ?`, append(args, q.After, q.Limit)...)
		slices.Reverse(events)
		return events, 0, err
	}
	within, err := s.fewBetween(ctx, q)
	if err != nil {
		return nil, 0, err
	}
	if within != "" { // those of a short time are looked at one by one
		where, args = where+within, append(args, millis(q.Since), endOf(q))
	}
	high := q.Before
	if high == 0 {
		if err := s.long.get(ctx, &high, `SELECT COALESCE(MAX(id), 0) + 1 FROM activity`); err != nil {
			return nil, 0, err
		}
	}
	var lowest int64
	if err := s.long.get(ctx, &lowest, `SELECT COALESCE(MIN(id), 0) FROM activity`); err != nil {
		return nil, 0, err
	}
	width := portion(searchFirst)
	for began := time.Now(); high > lowest && len(events) < q.Limit; {
		if time.Since(began) > searchLasts {
			return events, high, nil
		}
		low := max(high-int64(width), 0)
		if within != "" {
			low = 0
		}
		from := time.Now()
		some, err := s.events(ctx, where+` AND id < ? AND id >= ? ORDER BY id DESC LIMIT ?`,
			append(slices.Clone(args), high, low, q.Limit-len(events))...)
		if err != nil {
			return nil, 0, err
		}
		width.took(time.Since(from), searchLeast, 500_000)
		events, high = append(events, some...), low
	}
	if len(events) == q.Limit && q.Limit > 0 {
		return events, events[len(events)-1].ID, nil
	}
	return events, 0, nil
}

const betweenTimes = ` WHERE at >= ? AND at < ?`

// endOf is the end of the time that a query asks for.
func endOf(q ActivityQuery) int64 {
	if q.Until.IsZero() {
		return math.MaxInt64
	}
	return millis(q.Until)
}

// AllEvents is Events, however long it takes.
func (s *Store) AllEvents(ctx context.Context, q ActivityQuery) (all []Activity, err error) {
	for {
		events, rest, err := s.Events(ctx, q)
		all = append(all, events...)
		if q.Limit -= len(events); err != nil || rest == 0 || q.Limit <= 0 {
			return all, err
		}
		q.Before = rest
	}
}

// fewBetween is the condition that an event is of the time that a query asks for, if that is short; "" if not.
func (s *Store) fewBetween(ctx context.Context, q ActivityQuery) (string, error) {
	const few = 20_000
	if q.Since.IsZero() && q.Until.IsZero() {
		return "", nil
	}
	var n int
	err := s.long.get(ctx, &n, `SELECT COUNT(*) FROM (SELECT 1 FROM activity`+betweenTimes+` LIMIT ?) AS some`, millis(q.Since), endOf(q), few)
	if err != nil || n == few {
		return "", err
	}
	return ` AND id IN (SELECT id FROM activity` + betweenTimes + `)`, nil
}

// conditionOf is the condition of a query, but for where its search begins.
func conditionOf(q ActivityQuery) (where string, args []any) {
	where = ` WHERE 1 = 1`
	and := func(condition string, values ...any) {
		where += " AND " + condition
		args = append(args, values...)
	}
	if q.Kind != "" {
		and(`kind >= ? AND kind < ?`, q.Kind, after(q.Kind))
	}
	if q.Account != "" {
		// Of an account everything, also under names that it had; of a name that none has, what has that.
		key := account.Fold(q.Account)
		and(`(account_id = (SELECT id FROM accounts WHERE name_key = ?) OR actor_id = (SELECT id FROM accounts WHERE name_key = ?)
			OR account_key = ? AND NOT EXISTS (SELECT 1 FROM accounts WHERE id = account_id) OR actor_key = ? AND NOT EXISTS (SELECT 1 FROM
			  accounts WHERE id = actor_id))`, key, key, key, key)
	}
	if q.Of != 0 {
		and(`(account_id = ? OR actor_id = ?)`, q.Of, q.Of)
	}
	if q.Network != "" {
		and(`network >= ? AND network < ?`, q.Network, after(q.Network))
	}
	if q.Door != "" {
		and(`door = ?`, q.Door)
	}
	if q.Reference != "" {
		if meant := activity.References(q.Reference); len(meant) > 0 {
			gaps := make([]any, len(meant))
			for i, reference := range meant {
				gaps[i] = reference
			}
			and(`reference IN (?`+strings.Repeat(`, ?`, len(meant)-1)+`)`, gaps...)
		} else {
			and(`1 = 0`)
		}
	}
	if q.Words != "" {
		and(`words LIKE ? ESCAPE '!'`, containing(q.Words))
	}
	if !q.Since.IsZero() {
		and(`at >= ?`, millis(q.Since))
	}
	if !q.Until.IsZero() {
		and(`at < ?`, millis(q.Until))
	}
	return where, args
}

var records = tableOf[Activity]("activity", `id, at, kind, account, actor, network, detail, door, place, reference, account_id`)

func (s *Store) events(ctx context.Context, where string, args ...any) ([]Activity, error) {
	return records.all(ctx, s.long, where, args...)
}

// SweepActivity removes events and counts from before a time.
func (s *Store) SweepActivity(ctx context.Context, before time.Time) error {
	return errors.Join(s.sweep(ctx, "activity", "id", `at < ?`, millis(before)), s.sweep(ctx, "counts", "hour", `hour < ?`, millis(before)))
}

// BoundActivity removes events beyond so many, with some room for the next ones: first those of kinds that anybody can cause, of the
// networks that caused most, oldest first; only if that is not enough, the oldest of all. So nobody can push out what others did.
func (s *Store) BoundActivity(ctx context.Context, most int) error {
	var n int
	if err := s.long.get(ctx, &n, `SELECT COUNT(*) FROM activity`); err != nil || n <= most {
		return err
	}
	over := n - (most - most/50)
	counts := map[string]int{}
	query, args, err := sqlx.In(`SELECT network, COUNT(*) AS n FROM activity WHERE kind IN (?) GROUP BY network`, activity.Anybodys)
	if err != nil {
		return err
	}
	var rows []struct {
		Network string
		N       int
	}
	if err := s.long.all(ctx, &rows, query, args...); err != nil {
		return err
	}
	for _, r := range rows {
		counts[throttle.NetworkNamed(r.Network)] += r.N
	}
	excess := above(counts, over)
	for after := int64(0); len(excess) > 0; {
		query, args, err := sqlx.In(`SELECT id, network FROM activity WHERE id > ? AND kind IN (?) ORDER BY id LIMIT 5000`, after,
			activity.Anybodys)
		if err != nil {
			return err
		}
		var part []struct {
			ID      int64
			Network string
		}
		if err := s.long.all(ctx, &part, query, args...); err != nil {
			return err
		}
		if len(part) == 0 {
			break
		}
		after = part[len(part)-1].ID
		var gone []int64
		for _, r := range part {
			of := throttle.NetworkNamed(r.Network)
			if excess[of] == 0 {
				continue
			}
			if excess[of]--; excess[of] == 0 {
				delete(excess, of)
			}
			gone = append(gone, r.ID)
		}
		if err := s.dropEvents(ctx, gone); err != nil {
			return err
		}
		over -= len(gone)
	}
	if over <= 0 {
		return nil
	}
	var oldest int64
	if err := s.long.get(ctx, &oldest, `SELECT id FROM activity ORDER BY id LIMIT 1 OFFSET ?`, over-1); err != nil {
		return err
	}
	return s.sweep(ctx, "activity", "id", `id <= ?`, oldest)
}

// above returns how many of each are to go so that as many as possible of over are gone, and none that goes had fewer than one that stays.
func above(counts map[string]int, over int) map[string]int {
	total := 0
	for _, n := range counts {
		total += n
	}
	stay := max(0, total-over)
	low, high := 0, total // the most that each may keep: found by halving
	for low < high {
		each := (low + high + 1) / 2
		kept := 0
		for _, n := range counts {
			kept += min(n, each)
		}
		if kept <= stay {
			low = each
		} else {
			high = each - 1
		}
	}
	excess := map[string]int{}
	for name, n := range counts {
		if n > low {
			excess[name] = n - low
		}
	}
	return excess
}

func (s *Store) dropEvents(ctx context.Context, ids []int64) error {
	for some := range slices.Chunk(ids, 500) {
		query, args, err := sqlx.In(`DELETE FROM activity WHERE id IN (?)`, some)
		if err == nil {
			_, err = s.exec(ctx, query, args...)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
