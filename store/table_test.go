package store

import (
	"context"
	"errors"
	"net/netip"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"

	"ostiarius/core/factor"
	"ostiarius/core/secret"
)

// A thing has a field of each sort that is kept.
type thing struct {
	ID       int64
	Inner    struct{ Name string }
	At       time.Time
	Lasts    time.Duration
	On       bool
	Hash     secret.TokenHash
	Enrolled factor.Set
	Shown    factor.Times
	Paths    []string
	Nets     []netip.Prefix
	Roles    []string
	Raw, Key []byte
	Gaps     map[string]string
	Told     struct{ Until time.Time }
}

var things = tableOf[thing]("things", `id, title Inner.Name, made_at At, lasts, on_off On, hash, enrolled, shown, paths Paths lines, `+
	`networks Nets words, roles Roles words-or-all, raw Raw hex, public_key Key base64, gaps Gaps json, told Told json`)

func openThings(t *testing.T) *Store {
	t.Helper()
	s := open(t, filepath.Join(t.TempDir(), FileName))
	if _, err := s.exec(t.Context(), `CREATE TABLE things (id INTEGER PRIMARY KEY, title TEXT UNIQUE, made_at BIGINT, lasts BIGINT, `+
		`on_off INTEGER, hash TEXT, enrolled TEXT, shown TEXT, paths TEXT, networks TEXT, roles TEXT, raw TEXT, public_key TEXT, `+
		`gaps TEXT, told TEXT)`); err != nil {
		t.Fatal(err)
	}
	return s
}

// What is written is read again as it was, with the same meaning: zero, empty and full.
func TestRecordsAreReadAsTheyWereWritten(t *testing.T) {
	s := openThings(t)
	at := time.UnixMilli(1_764_633_600_123).UTC()
	full := thing{
		ID: 7, At: at, Lasts: 90 * time.Minute, On: true, Hash: secret.TokenHash{1, 255}, Enrolled: factor.Of(factor.Code),
		Shown: factor.Times{}.At(factor.Password, at), Paths: []string{"/a b", "/c"}, Nets: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")},
		Roles: []string{"keeper", "trustee"}, Raw: []byte{0, 1, 255}, Key: []byte("key"), Gaps: map[string]string{"name": "Ines"},
	}
	full.Inner.Name = "full"
	none := thing{ID: 8, Roles: []string{}, Raw: []byte{}, Key: []byte{}}
	none.Inner.Name = "none"
	all := thing{Raw: []byte{}, Key: []byte{}}
	all.Inner.Name = "all roles"
	for _, one := range []thing{full, none, all} { // the last gets a number
		if err := things.addOne(t.Context(), s.speaker, one); err != nil {
			t.Fatal(err)
		}
	}
	found, err := things.all(t.Context(), s.speaker, `ORDER BY id`)
	if err != nil || len(found) != 3 {
		t.Fatalf("%v, %d", err, len(found))
	}
	found[0].Shown[factor.Password] = found[0].Shown[factor.Password].UTC()
	all.ID = 9
	for i, want := range []thing{full, none, all} {
		if !reflect.DeepEqual(found[i], want) {
			t.Errorf("%+v, want %+v", found[i], want)
		}
	}
	var empty struct{ Hash, Paths, Gaps string }
	err = s.get(t.Context(), &empty, `SELECT hash, paths, gaps FROM things WHERE id = 8`)
	if err != nil || empty.Hash+empty.Paths+empty.Gaps != "" {
		t.Errorf("%v %+v", err, empty)
	}
}

// One that is there already is changed, but for its key and what is to stay.
func TestPutAndChange(t *testing.T) {
	s := openThings(t)
	one := thing{ID: 1, On: true, Lasts: time.Hour}
	one.Inner.Name = "one"
	for range 2 {
		if err := things.put(t.Context(), s.speaker, one, "title", "id", "lasts"); err != nil {
			t.Fatal(err)
		}
		one.ID, one.On, one.Lasts = 2, false, time.Minute
	}
	got, err := things.one(t.Context(), s.speaker, `WHERE title = ?`, "one")
	if err != nil || got.ID != 1 || got.On || got.Lasts != time.Hour {
		t.Errorf("%v %+v", err, got)
	}
	one.Inner.Name = "another"
	if err := things.change(t.Context(), s.speaker, one, `WHERE id = ?`, 3); !errors.Is(err, ErrNone) {
		t.Errorf("nothing is there: %v", err)
	}
	if err := things.change(t.Context(), s.speaker, one, `WHERE id = ?`, 1); err != nil {
		t.Error(err)
	}
	all, err := things.in(t.Context(), s.speaker, `WHERE id IN (?)`, []int{1, 2})
	if err != nil || len(all) != 1 || all[0].Inner.Name != "another" {
		t.Errorf("%v %+v", err, all)
	}
	if _, err := things.one(t.Context(), s.speaker, `WHERE id = ?`, 5); err != ErrNone {
		t.Errorf("%v", err)
	}
}

// What cannot be written is an error, and nothing of it is there.
func TestWhatCannotBeWrittenIsAnError(t *testing.T) {
	s := openThings(t)
	one := thing{ID: 1}
	one.Told.Until = time.Date(10_000, 1, 1, 0, 0, 0, 0, time.UTC) // which JSON cannot say
	if err := things.addOne(t.Context(), s.speaker, one); err == nil {
		t.Error("it was written")
	}
	if all, err := things.all(t.Context(), s.speaker, ``); err != nil || len(all) > 0 {
		t.Errorf("%v %+v", err, all)
	}
}

// What cannot be read is an error, and never the value of something else. No hash is in it.
func TestWhatCannotBeReadIsAnError(t *testing.T) {
	s := openThings(t)
	for column, value := range map[string]any{
		"made_at": "soon", "lasts": "long", "on_off": 2, "hash": strings.Repeat("ab", 31), "networks": "everywhere",
		"raw": "abc", "public_key": "=", "gaps": "{",
	} {
		one := thing{ID: 1}
		if err := things.addOne(t.Context(), s.speaker, one); err != nil {
			t.Fatal(err)
		}
		if _, err := s.exec(t.Context(), `UPDATE things SET `+column+` = ? WHERE id = 1`, value); err != nil {
			t.Fatal(err)
		}
		if got, err := things.one(t.Context(), s.speaker, `WHERE id = 1`); err == nil {
			t.Errorf("%s: read as %+v", column, got)
		} else if strings.Contains(err.Error(), "abab") {
			t.Errorf("%s: %v", column, err)
		}
		if _, err := s.exec(t.Context(), `DELETE FROM things`); err != nil {
			t.Fatal(err)
		}
	}
}

// Every table has the columns that it is said to have.
func TestTablesHaveTheirColumns(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), FileName))
	asked := map[string]func(context.Context, *Store) error{
		"accessKeys":        columnsOf(accessKeys),
		"ownedKeys":         columnsOf(ownedKeys),
		"accounts":          columnsOf(accounts),
		"newAccounts":       columnsOf(newAccounts),
		"grants":            columnsOf(grants),
		"newGrants":         columnsOf(newGrants),
		"counts":            columnsOf(counts),
		"records":           columnsOf(records),
		"addressLinks":      columnsOf(addressLinks),
		"applications":      columnsOf(applications),
		"newApplications":   columnsOf(newApplications),
		"browsers":          columnsOf(browsers),
		"codes":             columnsOf(codes),
		"elsewhereLinks":    columnsOf(elsewhereLinks),
		"elsewhereSessions": columnsOf(elsewhereSessions),
		"events":            columnsOf(events),
		"newEvents":         columnsOf(newEvents),
		"eventSecrets":      columnsOf(eventSecrets),
		"invitations":       columnsOf(invitations),
		"newInvitations":    columnsOf(newInvitations),
		"entries":           columnsOf(entries),
		"members":           columnsOf(members),
		"messages":          columnsOf(messages),
		"newMessages":       columnsOf(newMessages),
		"passes":            columnsOf(passes),
		"newPasses":         columnsOf(newPasses),
		"changedPasses":     columnsOf(changedPasses),
		"passStory":         columnsOf(passStory),
		"openings":          columnsOf(openings),
		"passFiles":         columnsOf(passFiles),
		"passkeys":          columnsOf(passkeys),
		"patrols":           columnsOf(patrols),
		"listedPatrols":     columnsOf(listedPatrols),
		"accepted":          columnsOf(accepted),
		"orders":            columnsOf(orders),
		"payments":          columnsOf(payments),
		"orderMarks":        columnsOf(orderMarks),
		"claims":            columnsOf(claims),
		"recoveries":        columnsOf(recoveries),
		"resets":            columnsOf(resets),
		"sessions":          columnsOf(sessions),
		"replacedSessions":  columnsOf(replacedSessions),
		"heldSessions":      columnsOf(heldSessions),
		"sharedRecords":     columnsOf(sharedRecords),
		"unlocks":           columnsOf(unlocks),
		"tellings":          columnsOf(tellings),
		"targets":           columnsOf(targets),
		"newTargets":        columnsOf(newTargets),
		"untold":            columnsOf(untold),
		"versions":          columnsOf(versions),
		"listedVersions":    columnsOf(listedVersions),
	}
	declared := regexp.MustCompile(`(?m)^(?:var|\t)\s*(\w+)\s+= tableOf\[`)
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for _, table := range declared.FindAllSubmatch(text, -1) {
			if ask := asked[string(table[1])]; strings.HasSuffix(name, "_test.go") {
				continue
			} else if ask == nil {
				t.Errorf("%s in %s is not asked here", table[1], name)
			} else if err := ask(t.Context(), s); err != nil {
				t.Errorf("%s in %s: %v", table[1], name, err)
			}
			found++
		}
	}
	if found != len(asked) {
		t.Errorf("%d tables are declared, %d asked", found, len(asked))
	}
}

func columnsOf[T any](t *table[T]) func(context.Context, *Store) error {
	return func(ctx context.Context, s *Store) error {
		source := t.name
		if source == "" { // of a part that each query makes
			source = "sessions JOIN accounts ON accounts.id = sessions.account_id"
		}
		_, err := t.from(ctx, s.speaker, source, `LIMIT 1`)
		return err
	}
}
