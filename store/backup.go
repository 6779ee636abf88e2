package store

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"ostiarius/core/message"
)

// counted are the records that are counted to say what there is, by the word for them.
var counted = map[string]string{
	"accounts": "accounts", "keyring_entries": "names in keyrings", "passes": "passes", "events": "events of the shop",
	"versions": "versions of the policy", "activity": "records of activity",
}

// Census returns how many records there are of some kinds, by the words for them.
func (s *Store) Census(ctx context.Context) (map[string]int, error) {
	var tables []string
	if err := s.long.all(ctx, &tables, `SELECT name FROM sqlite_master WHERE type = 'table'`); err != nil {
		return nil, err
	}
	counts := map[string]int{}
	for _, table := range tables { // those of an earlier version may lack some
		word, is := counted[table]
		if !is {
			continue
		}
		var n int
		if err := s.long.get(ctx, &n, `SELECT COUNT(*) FROM `+table); err != nil {
			return nil, err
		}
		counts[word] = n
	}
	return counts, nil
}

// Snapshot writes all records, as they are at one moment, into a new file that only this user can read. Others may go on
// to read and write the records meanwhile.
func (s *Store) Snapshot(ctx context.Context, path string) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	file.Close()
	own, err := openFile(s.path, "rw") // what takes long holds up nobody who writes
	if err != nil {
		return err
	}
	defer own.close()
	if _, err := own.exec(ctx, `VACUUM INTO ?`, path); err != nil {
		return err
	}
	copied, err := openFile(path, "rw")
	if err != nil {
		return err
	}
	defer copied.close()
	used, err := copied.isInUse(ctx)
	if err == nil && used { // it is whole by itself
		err = copied.layDown()
	}
	return err
}

// CheckWhole reads all records and reports whether they are as they were written.
func (s *Store) CheckWhole(ctx context.Context) error {
	var says []string
	rows, err := s.long.rows(ctx, `PRAGMA integrity_check(3)`) // which takes as long as it takes
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var said string
		if err := rows.Scan(&said); err != nil {
			return err
		}
		says = append(says, said)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if len(says) != 1 || says[0] != "ok" {
		return fmt.Errorf("the records are damaged: %s", strings.Join(says, "; "))
	}
	return nil
}

// Resume readies restored records. What has ended or was sent since they were saved is not known here, so, unless the
// service they are of goes on here, whatever lets a browser in has ended, and what waited to be sent is given up, of which a
// steward may say that it is to be sent all the same.
func (s *Store) Resume(ctx context.Context, goesOn bool, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		var changes []string
		if !goesOn {
			changes = []string{
				`DELETE FROM sessions`, `DELETE FROM links`, `DELETE FROM unlocks`, `DELETE FROM address_links WHERE undo = 0`,
				`DELETE FROM recoveries`,
				`UPDATE activity SET told = 1 WHERE told = 0`, `UPDATE grants SET told = 1 WHERE told = 0`,
			}
		}
		for _, change := range changes {
			if _, err := tx.exec(ctx, change); err != nil {
				return err
			}
		}
		if !goesOn {
			_, err := tx.exec(ctx, `UPDATE messages SET state = ?, problem = ?, ended_at = ? WHERE state = ?`, message.Failed,
				"it waited when the backup was made, and may have been sent since", millis(time.Now()), message.Waiting)
			if err != nil {
				return err
			}
		}
		return nil
	})
}
