package store

import (
	"context"
	"fmt"
	"io/fs"
	"path/filepath"
	"testing"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/secret"
)

// Records of each version before are opened, and have all that they had.
func TestRecordsOfEarlierVersions(t *testing.T) {
	ctx := context.Background()
	files, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil || len(files) < 6 {
		t.Fatal(files, err)
	}
	_, hash := secret.NewToken()
	for n := 1; n <= len(files); n++ {
		path := filepath.Join(t.TempDir(), "a.db")
		db, err := sqlx.Open("sqlite", "file:"+path)
		if err != nil {
			t.Fatal(err)
		}
		texts := []string{`CREATE TABLE migrations (name TEXT NOT NULL PRIMARY KEY, at BIGINT NOT NULL)`}
		for i, file := range files[:n] {
			text, err := migrations.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			texts = append(texts, string(text), fmt.Sprintf(`INSERT INTO migrations VALUES ('%s', 0)`, filepath.Base(file)))
			if i == 0 { // what somebody had then
				texts = append(texts,
					`INSERT INTO accounts (id, name, name_key, email, hash, made_at, made_by) VALUES (7, 'Ines', 'ines', 'Ines@Marram.example', `+
						`'hash', 1000, 'agnes')`,
					`INSERT INTO accounts (id, name, name_key, email, hash, made_at, made_by) VALUES (8, 'bob＠marram.example', `+
						`'bob@marram.example', '', 'hash', 1000, 'agnes'), (9, '..', '..', '', 'hash', 1000, 'agnes')`,
					`INSERT INTO grants VALUES (7, 'keeper', 1000, 0, 'agnes')`,
					fmt.Sprintf(`INSERT INTO sessions VALUES ('%s', 7, 1000, 2000, 1000, 1, '192.0.2.7', 'a browser')`, hexOf(hash)),
					`INSERT INTO activity (at, kind, account, actor, network, detail) VALUES (1000, 'sign-in', 'Ines', 'Ines', '192.0.2.7', '')`)
			}
		}
		for _, text := range texts {
			if _, err := db.Exec(text); err != nil {
				t.Fatalf("%d: %v in %s", n, err, text)
			}
		}
		if err := db.Close(); err != nil {
			t.Fatal(err)
		}
		s := open(t, path)
		a, kept, err := s.AccountByKey(ctx, "ines")
		if err != nil || a.ID != 7 || a.Name != "Ines" || a.Email != "Ines@Marram.example" || kept != "hash" || len(a.Grants) != 1 ||
			a.Grants[0].Role != "keeper" {
			t.Errorf("%d: %+v %v", n, a, err)
		}
		for id, name := range map[int64]string{8: "renamed-8", 9: "renamed-9"} { // what reads as somebody's address, or as another place
			if a, err := s.AccountByID(ctx, id); n < 20 && (err != nil || a.Name != name) {
				t.Errorf("%d: %+v %v", n, a, err)
			}
		}
		if held, err := s.Session(ctx, hash); err != nil || held.Account != 7 || !held.Remembered || n <= 5 && held.Family == "" {
			t.Errorf("%d: %+v %v", n, held, err)
		}
		events, err := s.AllEvents(ctx, ActivityQuery{Account: "ines", Limit: 10})
		if err != nil || len(events) != 1 || n < 6 && events[0].AccountID != 7 {
			t.Errorf("%d: %+v %v", n, events, err)
		}
		if a, _, err := s.AccountBySignIn(ctx, Keys{Name: "?", Email: "ines@marram.example"}); n < 3 && (err != nil || a.ID != 7) {
			t.Errorf("%d: the address is not found: %v", n, err)
		}
		s.Close()
		open(t, path) // and once more
	}
}
