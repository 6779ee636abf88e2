package store

import (
	"context"
	"time"

	"ostiarius/core/secret"
)

// A Browser is one in which a second factor was shown, and that is not asked for it for a while.
type Browser struct {
	Hash    secret.TokenHash
	Account int64
	Proofs  int64 // how many changes of what proves who somebody is there had been
	MadeAt  time.Time
	UsedAt  time.Time
	Until   time.Time
	Network string
	Agent   string
}

var browsers = tableOf[Browser]("remembered_browsers", `hash, account_id Account, proofs, made_at, used_at, until_at Until, network, agent`)

// Handle names a browser without giving its token away.
func (b *Browser) Handle() string { return hexOf(b.Hash)[:20] }

// AddBrowser remembers a browser.
func (s *Store) AddBrowser(ctx context.Context, b Browser, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		return browsers.addOne(ctx, tx, b)
	})
}

// UseBrowser notes that a browser is used that was remembered for an account. The error is ErrNone if it was not, or no longer.
func (s *Store) UseBrowser(ctx context.Context, hash secret.TokenHash, account, proofs int64, now time.Time) error {
	return one(s.exec(ctx, `UPDATE remembered_browsers SET used_at = ? WHERE hash = ? AND account_id = ? AND proofs = ? AND until_at > `+
		`? AND made_at <= ?`,
		millis(now), hexOf(hash), account, proofs, millis(now), millis(now)))
}

// Browsers returns those that are remembered for an account, the latest used first.
func (s *Store) Browsers(ctx context.Context, account int64, now time.Time) ([]Browser, error) {
	return browsers.all(ctx, s.speaker, `WHERE account_id = ? AND until_at > ? AND proofs = (SELECT proofs FROM accounts WHERE id = `+
		`account_id) ORDER BY used_at DESC, hash`, account, millis(now))
}

// ForgetBrowser forgets one that is remembered for an account, by its handle, or all with "". The error is ErrNone if there is none.
func (s *Store) ForgetBrowser(ctx context.Context, account int64, handle string, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		result, err := tx.exec(ctx, `DELETE FROM remembered_browsers WHERE account_id = ? AND hash >= ? AND hash < ?`, account, handle,
			handle+"g")
		if err != nil {
			return err
		}
		n, err := result.RowsAffected()
		if err == nil && n == 0 {
			err = ErrNone
		}
		if err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// SweepBrowsers forgets those whose time is over.
func (s *Store) SweepBrowsers(ctx context.Context, now time.Time) error {
	return s.sweep(ctx, "remembered_browsers", "hash", `until_at <= ?`, millis(now))
}
