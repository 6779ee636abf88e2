package sessions

import (
	"context"
	"time"

	"ostiarius/core/session"
)

// What was used of late is read into memory at the start, so that those who are signed in need not each wait for the records.
const (
	warmSince = 48 * time.Hour
	mostWarm  = 50_000
	warmPart  = 2000 // are put into memory together
)

// Warm reads the sessions that were used last into memory. Those whose tokens are to be replaced are left to their next request.
func (r *Records) Warm(ctx context.Context) error {
	now, book := r.o.Now(), r.o.Book()
	for n := warmPart; n <= mostWarm; n *= 5 { // the latest are ready first
		seen, look := r.kept.version(), r.o.Endings.Look()
		all, err := r.o.Store.LatestSessions(ctx, now.Add(-warmSince), n)
		if err != nil {
			return err
		}
		for _, s := range all {
			if a := s.Account; !a.Disabled && !look.HasSession(s.Hash, s.MadeAt, a.ID) && session.Rights(a.Roles(now)) == s.Rights &&
				!r.kept.has(s.Hash) {
				r.kept.put(seen, s.Session, a, book, now)
			}
		}
		if len(all) < n {
			break
		}
	}
	return nil
}
