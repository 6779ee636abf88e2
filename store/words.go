package store

import (
	"context"
	"strings"

	"ostiarius/core/account"
)

// What is searched is kept twice: as it was written, and with its letters as names are compared, so that
// a search finds what people mean, in any database.

// wordsOf makes one text to search in of several.
func wordsOf(texts ...string) string { return account.Fold(strings.Join(texts, "\n")) }

var escapeLike = strings.NewReplacer("!", "!!", "%", "!%", "_", "!_")

// containing is the pattern of texts that contain a word, for LIKE ? ESCAPE '!'.
func containing(word string) string { return "%" + beginning(account.Fold(word)) }

// beginning is the pattern of texts that begin with one.
func beginning(text string) string { return escapeLike.Replace(text) + "%" }

// after is a text that comes after all that begin with one, in the order of the database.
func after(text string) string { return text + "\U0010ffff" }

// foldWords writes anew what an earlier version of the records had with letters of ASCII alone.
func foldWords(ctx context.Context, tx speaker) error {
	for _, table := range []struct{ read, write string }{
		{`SELECT id, words, '' AS account_key, '' AS actor_key FROM accounts`, `UPDATE accounts SET words = :words WHERE id = :id`},
		{`SELECT id, words, account_key, actor_key FROM activity`,
			`UPDATE activity SET words = :words, account_key = :account_key, actor_key = :actor_key WHERE id = :id`},
	} {
		rows, err := tx.rows(ctx, table.read)
		if err != nil {
			return err
		}
		type row struct {
			ID      int64  `db:"id"`
			Words   string `db:"words"`
			Account string `db:"account_key"`
			Actor   string `db:"actor_key"`
		}
		var changed []row
		for rows.Next() {
			var r row
			if err := rows.StructScan(&r); err != nil {
				rows.Close()
				return err
			}
			if folded := (row{r.ID, account.Fold(r.Words), account.Fold(r.Account), account.Fold(r.Actor)}); folded != r {
				changed = append(changed, folded)
			}
		}
		if err := rows.Err(); err != nil {
			return err
		}
		for _, r := range changed {
			if _, err := tx.named(ctx, table.write, r); err != nil {
				return err
			}
		}
	}
	return nil
}
