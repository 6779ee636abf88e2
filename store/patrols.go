package store

import (
	"context"
	"time"

	"ostiarius/core/message"
)

// A Patrol is a walk through the running site, as it was written down.
type Patrol struct {
	ID      int64
	Began   time.Time
	Ended   time.Time // zero if it was not
	By      string    // "" for the timetable
	Problem string
	Visited int
	Fresh   int // findings that the one before has not told
	Found   int
	Result  string // JSON; "" in lists
}

type patrolRow struct {
	ID      int64  `db:"id"`
	Began   int64  `db:"began_at"`
	Ended   int64  `db:"ended_at"`
	By      string `db:"by_whom"`
	Problem string `db:"problem"`
	Visited int    `db:"visited"`
	Fresh   int    `db:"fresh"`
	Found   int    `db:"found"`
	Result  string `db:"result"`
}

func (r patrolRow) patrol() Patrol {
	return Patrol{r.ID, moment(r.Began), moment(r.Ended), r.By, r.Problem, r.Visited, r.Fresh, r.Found, r.Result}
}

// Patrols returns the latest patrols without their results, the newest first.
func (s *Store) Patrols(ctx context.Context, most int) ([]Patrol, error) {
	var rows []patrolRow
	err := s.long.all(ctx, &rows, `SELECT id, began_at, ended_at, by_whom, problem, visited, fresh, found, '' AS result FROM patrols `+
		`ORDER BY id DESC LIMIT ?`, most)
	all := make([]Patrol, len(rows))
	for i, r := range rows {
		all[i] = r.patrol()
	}
	return all, err
}

// Patrol returns one with its result. The error is ErrNone if there is none of that number.
func (s *Store) Patrol(ctx context.Context, id int64) (Patrol, error) {
	var r patrolRow
	err := s.get(ctx, &r, `SELECT id, began_at, ended_at, by_whom, problem, visited, fresh, found, result FROM patrols WHERE id = ?`, id)
	return r.patrol(), none(err)
}

// AddPatrol writes down a patrol that has ended, with the messages that tell of it, and keeps so many of all.
func (s *Store) AddPatrol(ctx context.Context, p Patrol, keep int, mails []message.Message, e Activity) (id int64, err error) {
	err = s.inTransaction(ctx, func(tx speaker) error {
		row := patrolRow{0, millis(p.Began), millis(p.Ended), p.By, p.Problem, p.Visited, p.Fresh, p.Found, p.Result}
		if _, err := tx.named(ctx, `INSERT INTO patrols (began_at, ended_at, by_whom, problem, visited, fresh, found, result) VALUES `+
			`(:began_at, :ended_at, :by_whom, :problem, :visited, :fresh, :found, :result)`, row); err != nil {
			return err
		}
		if err := tx.get(ctx, &id, `SELECT MAX(id) FROM patrols`); err != nil {
			return err
		}
		if _, err := tx.exec(ctx, `DELETE FROM patrols WHERE id <= ?`, id-int64(keep)); err != nil {
			return err
		}
		if err := post(ctx, tx, mails); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
	return id, err
}

// Accepted is that somebody lives with a finding.
type Accepted struct {
	Finding string
	Reason  string
	By      string
	At      time.Time
	Until   time.Time // zero for no end
}

type acceptedRow struct {
	Finding string `db:"finding"`
	Reason  string `db:"reason"`
	By      string `db:"by_whom"`
	At      int64  `db:"at"`
	Until   int64  `db:"until_at"`
}

// AcceptedFindings returns all findings that somebody lives with.
func (s *Store) AcceptedFindings(ctx context.Context) ([]Accepted, error) {
	var rows []acceptedRow
	err := s.all(ctx, &rows, `SELECT finding, reason, by_whom, at, until_at FROM patrol_accepted ORDER BY at`)
	all := make([]Accepted, len(rows))
	for i, r := range rows {
		all[i] = Accepted{r.Finding, r.Reason, r.By, moment(r.At), moment(r.Until)}
	}
	return all, err
}

// AcceptFinding notes that somebody lives with a finding, in place of what was noted of it before.
func (s *Store) AcceptFinding(ctx context.Context, a Accepted, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if _, err := tx.exec(ctx, `DELETE FROM patrol_accepted WHERE finding = ?`, a.Finding); err != nil {
			return err
		}
		if _, err := tx.named(ctx, `INSERT INTO patrol_accepted (finding, reason, by_whom, at, until_at) VALUES (:finding, :reason, `+
			`:by_whom, :at, :until_at)`, acceptedRow{a.Finding, a.Reason, a.By, millis(a.At), millis(a.Until)}); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// RejectFinding takes that back. The error is ErrNone if nobody has accepted it.
func (s *Store) RejectFinding(ctx context.Context, finding string, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM patrol_accepted WHERE finding = ?`, finding)); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}
