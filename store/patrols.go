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

const patrolColumns = `id, began_at Began, ended_at Ended, by_whom By, problem, visited, fresh, found`

var (
	patrols       = tableOf[Patrol]("patrols", patrolColumns+`, result`)
	listedPatrols = tableOf[Patrol]("patrols", patrolColumns)
)

// Patrols returns the latest patrols without their results, the newest first.
func (s *Store) Patrols(ctx context.Context, most int) ([]Patrol, error) {
	return listedPatrols.all(ctx, s.long, `ORDER BY id DESC LIMIT ?`, most)
}

// Patrol returns one with its result. The error is ErrNone if there is none of that number.
func (s *Store) Patrol(ctx context.Context, id int64) (Patrol, error) {
	return patrols.one(ctx, s.speaker, `WHERE id = ?`, id)
}

// AddPatrol writes down a patrol that has ended, with the messages that tell of it, and keeps so many of all.
func (s *Store) AddPatrol(ctx context.Context, p Patrol, keep int, mails []message.Message, e Activity) (id int64, err error) {
	err = s.change(ctx, mails, e, func(tx speaker) error {
		p.ID = 0
		if err := patrols.addOne(ctx, tx, p); err != nil {
			return err
		}
		if err := tx.get(ctx, &id, `SELECT MAX(id) FROM patrols`); err != nil {
			return err
		}
		if _, err := tx.exec(ctx, `DELETE FROM patrols WHERE id <= ?`, id-int64(keep)); err != nil {
			return err
		}
		return nil
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

var accepted = tableOf[Accepted]("patrol_accepted", `finding, reason, by_whom By, at, until_at Until`)

// AcceptedFindings returns all findings that somebody lives with.
func (s *Store) AcceptedFindings(ctx context.Context) ([]Accepted, error) {
	return accepted.all(ctx, s.speaker, `ORDER BY at`)
}

// AcceptFinding notes that somebody lives with a finding, in place of what was noted of it before.
func (s *Store) AcceptFinding(ctx context.Context, a Accepted, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		return accepted.put(ctx, tx, a, "finding")
	})
}

// RejectFinding takes that back. The error is ErrNone if nobody has accepted it.
func (s *Store) RejectFinding(ctx context.Context, finding string, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		return one(tx.exec(ctx, `DELETE FROM patrol_accepted WHERE finding = ?`, finding))
	})
}
