package store

import (
	"context"

	"ostiarius/core/account"
	"ostiarius/core/factor"
)

// endProofs notes that what proves who the owner of an account is has changed, or that somebody wants nothing that was proven
// before to be valid any more. Whatever was made with the proofs before ends with them: links to choose a password, requests for
// another address, remembered browsers; and, since they name the number of proofs, device marks, half-finished sign-ins and
// whatever is being set up. The table account.EndedBy says what ends what.
func endProofs(ctx context.Context, tx speaker, id int64) error {
	tx.changed(id)
	if err := one(tx.exec(ctx, `UPDATE accounts SET proofs = proofs + 1 WHERE id = ?`, id)); err != nil {
		return err
	}
	for _, query := range []string{
		`DELETE FROM links WHERE account_id = ?`, `DELETE FROM address_links WHERE account_id = ? AND undo = 0`,
		`DELETE FROM remembered_browsers WHERE account_id = ?`,
	} {
		if _, err := tx.exec(ctx, query, id); err != nil {
			return err
		}
	}
	return nil
}

// isThere returns ErrNone if there is no account of that number.
func isThere(ctx context.Context, tx speaker, id int64) error {
	var there int
	return none(tx.get(ctx, &there, `SELECT 1 FROM accounts WHERE id = ?`, id))
}

// stillProven returns ErrNone if what proves who the owner of an account is has changed since it was read, or the account is disabled.
func stillProven(ctx context.Context, tx speaker, a *account.Account) error {
	return proofsAre(ctx, tx, a.ID, a.Proofs)
}

// proofsAre returns ErrNone if an account has had another number of changes of what proves who its owner is, or is disabled.
func proofsAre(ctx context.Context, tx speaker, id, proofs int64) error {
	return one(tx.exec(ctx, `UPDATE accounts SET proofs = proofs WHERE id = ? AND proofs = ? AND disabled = 0`, id, proofs))
}

// endAllProofs is endProofs for all accounts. Links of accounts that have no password yet stay: nobody has proven anything there.
func endAllProofs(ctx context.Context, tx speaker) error {
	tx.news.Everyone = true
	for _, query := range []string{
		`UPDATE accounts SET proofs = proofs + 1`, `DELETE FROM links WHERE account_id IN (SELECT id FROM accounts WHERE hash <> '')`,
		`DELETE FROM address_links WHERE undo = 0`, `DELETE FROM remembered_browsers`,
	} {
		if _, err := tx.exec(ctx, query); err != nil {
			return err
		}
	}
	return nil
}

// endFactor is endProofs after a factor of an account was removed or replaced: what was shown with it in sessions is no proof any more.
func endFactor(ctx context.Context, tx speaker, id int64, kind factor.Kind) error {
	if err := endProofs(ctx, tx, id); err != nil {
		return err
	}
	all, err := sessions.all(ctx, tx, `WHERE account_id = ?`, id)
	if err != nil {
		return err
	}
	for _, s := range all {
		s.Unprove(kind)
		if _, err := tx.exec(ctx, `UPDATE sessions SET proved_at = ?, how = ?, shown = ? WHERE token_hash = ?`, millis(s.ProvedAt),
			string(s.How), s.Shown.String(), hexOf(s.Hash)); err != nil {
			return err
		}
	}
	return nil
}
