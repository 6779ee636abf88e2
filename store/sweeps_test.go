package store

import (
	"context"
	"crypto/rand"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/secret"
	"ostiarius/core/session"
)

// put writes a row into a table, of which the columns that matter are given; all others that must have something have a text that
// no other row has, or zero.
func put(t *testing.T, s *Store, table string, given map[string]any) {
	t.Helper()
	var columns []struct {
		Name    string  `db:"name"`
		Type    string  `db:"type"`
		NotNull bool    `db:"notnull"`
		Default *string `db:"dflt_value"`
		CID     int     `db:"cid"`
		Key     int     `db:"pk"`
	}
	if err := s.all(t.Context(), &columns,
		`SELECT cid, name, type, "notnull", dflt_value, pk FROM pragma_table_info('`+table+`')`); err != nil || len(columns) == 0 {
		t.Fatalf("%s: %v", table, err)
	}
	row := maps.Clone(given)
	for _, c := range columns {
		if _, is := row[c.Name]; is || c.Default != nil || !c.NotNull {
			continue
		}
		if row[c.Name] = any(rand.Text()); strings.Contains(c.Type, "INT") {
			row[c.Name] = 0
		}
	}
	names, values := slices.Sorted(maps.Keys(row)), []any{}
	for _, name := range names {
		values = append(values, row[name])
	}
	marks := strings.TrimSuffix(strings.Repeat("?, ", len(names)), ", ")
	if _, err := s.exec(t.Context(), `INSERT INTO `+table+` (`+strings.Join(names, ", ")+`) VALUES (`+marks+`)`, values...); err != nil {
		t.Fatalf("%s: %v", table, err)
	}
}

// kept are the values of a column that are still in a table, in order.
func kept(t *testing.T, s *Store, table, column string) string {
	t.Helper()
	var all []string
	if err := s.all(t.Context(), &all, `SELECT CAST(`+column+` AS TEXT) FROM `+table+` ORDER BY 1`); err != nil {
		t.Fatal(err)
	}
	return strings.Join(all, " ")
}

// What has ended is removed when it has, at that moment and not before, and nothing else is removed with it.
func TestWhatHasEndedIsRemoved(t *testing.T) {
	now := noon
	at := func(d time.Duration) int64 { return millis(now.Add(d)) }
	for name, test := range map[string]struct {
		table, by string
		rows      map[string]map[string]any // by the value of the column by
		sweep     func(s *Store, ctx context.Context) error
		kept      string
	}{
		"access keys": {"access_keys", "name", map[string]map[string]any{
			"ended": {"account_id": 1, "until_at": at(-time.Hour)}, "ending": {"account_id": 1, "until_at": at(0)},
			"held": {"account_id": 1, "until_at": at(time.Millisecond)}, "endless": {"account_id": 1, "until_at": 0},
		}, func(s *Store, ctx context.Context) error { return s.SweepAccessKeys(ctx, now) }, "endless held"},
		"applications": {"applications", "name", map[string]map[string]any{
			"ended": {"until_at": at(0), "token_hash": "1", "name_key": "a", "email_key": "a"},
			"held":  {"until_at": at(time.Millisecond), "token_hash": "2", "name_key": "b", "email_key": "b"},
		}, func(s *Store, ctx context.Context) error { return s.SweepApplications(ctx, now) }, "held"},
		"invitations": {"invitations", "email", map[string]map[string]any{
			"ended": {"until_at": at(0), "email_key": "a", "token_hash": "1"},
			"held":  {"until_at": at(time.Millisecond), "email_key": "b", "token_hash": "2"},
		}, func(s *Store, ctx context.Context) error { return s.SweepApplications(ctx, now) }, "held"},
		"browsers": {"remembered_browsers", "agent", map[string]map[string]any{
			"ended": {"until_at": at(0), "account_id": 1}, "held": {"until_at": at(time.Millisecond), "account_id": 1},
		}, func(s *Store, ctx context.Context) error { return s.SweepBrowsers(ctx, now) }, "held"},
		"events that were told": {"events", "order_no", map[string]map[string]any{
			"done": {"number": "1", "state": "done", "at": at(0)}, "ignored": {"number": "2", "state": "ignored", "at": at(0)},
			"waiting": {"number": "3", "state": "waiting", "at": at(0)},
			"kept":    {"number": "4", "state": "kept", "at": at(0)}, "later": {"number": "5", "state": "done", "at": at(time.Millisecond)},
		}, func(s *Store, ctx context.Context) error { return s.SweepEvents(ctx, now) }, "kept later waiting"},
		"secrets of a shop": {"event_secrets", "made_by", map[string]map[string]any{
			"ended": {"until_at": at(0)}, "held": {"until_at": at(time.Millisecond)}, "endless": {"until_at": 0},
		}, func(s *Store, ctx context.Context) error { return s.SweepSecrets(ctx, now) }, "endless held"},
		"claims": {"claims", "address", map[string]map[string]any{
			"ended": {"token_hash": "1", "until_at": at(0)}, "held": {"token_hash": "2", "until_at": at(time.Millisecond)},
		}, func(s *Store, ctx context.Context) error { return s.SweepSecrets(ctx, now) }, "held"},
		"reminders": {"reminders", "until_at", map[string]map[string]any{
			"1000": {}, fmt.Sprint(at(0)): {}, fmt.Sprint(at(time.Millisecond)): {},
		}, func(s *Store, ctx context.Context) error { return s.SweepReminders(ctx, now) }, fmt.Sprint(at(time.Millisecond))},
		"messages": {"messages", "to_address", map[string]map[string]any{
			"ended": {"ended_at": at(0)}, "held": {"ended_at": at(time.Millisecond)}, "waits": {"ended_at": 0},
		}, func(s *Store, ctx context.Context) error { return s.SweepMessages(ctx, now, now) }, "held waits"},
		"links of messages that failed": {"messages", "link", map[string]map[string]any{
			"over":  {"state": "failed", "until_at": at(0), "gaps": "{}"},
			"good":  {"state": "failed", "until_at": at(time.Millisecond), "gaps": "{}"},
			"waits": {"state": "waiting", "until_at": at(0), "gaps": "{}"},
		}, func(s *Store, ctx context.Context) error { return s.SweepMessages(ctx, now, now.Add(-time.Hour)) }, " good waits"},
		"places": {"known_places", "network", map[string]map[string]any{
			"before": {"what": "1", "at": at(0)}, "held": {"what": "2", "at": at(time.Millisecond)},
		}, func(s *Store, ctx context.Context) error { return s.SweepPlaces(ctx, now) }, "held"},
		"networks of passes": {"pass_networks", "network", map[string]map[string]any{
			"before": {"pass_id": "1", "at": at(0)}, "held": {"pass_id": "2", "at": at(time.Millisecond)},
		}, func(s *Store, ctx context.Context) error { return s.SweepPasses(ctx, now, now, time.Time{}) }, "held"},
		"passes": {"passes", "name", map[string]map[string]any{
			"ended": {"id": "1", "until_at": at(0)}, "revoked": {"id": "2", "revoked_at": at(0)},
			"held": {"id": "3", "until_at": at(time.Millisecond)}, "endless": {"id": "4"},
		}, func(s *Store, ctx context.Context) error { return s.SweepPasses(ctx, now, now, now) }, "endless held"},
		"passes, if none are to go": {"passes", "name", map[string]map[string]any{
			"ended": {"id": "1", "until_at": at(0)}, "revoked": {"id": "2", "revoked_at": at(0)},
		}, func(s *Store, ctx context.Context) error { return s.SweepPasses(ctx, now, now, time.Time{}) }, "ended revoked"},
		"where passes were opened": {"pass_openings", "agent", map[string]map[string]any{
			"of nothing": {"pass_id": "gone"},
		}, func(s *Store, ctx context.Context) error { return s.SweepPasses(ctx, now, now, time.Time{}) }, ""},
		"sessions elsewhere": {"elsewhere_sessions", "family", map[string]map[string]any{
			"gone": {"issuer": "i"},
		}, func(s *Store, ctx context.Context) error { return s.SweepElsewhere(ctx) }, ""},
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t, filepath.Join(t.TempDir(), "records.db"))
			if _, err := s.AddAccount(t.Context(), &account.Account{Name: "ines", MadeAt: noon}, Keys{Name: "ines"}, "",
				Activity{At: noon, Kind: "account added"}); err != nil {
				t.Fatal(err)
			}
			for _, value := range slices.Sorted(maps.Keys(test.rows)) {
				row := maps.Clone(test.rows[value])
				row[test.by] = value // SQLite makes numbers of what is one
				put(t, s, test.table, row)
			}
			if err := test.sweep(s, t.Context()); err != nil {
				t.Fatal(err)
			}
			if got := kept(t, s, test.table, test.by); got != test.kept {
				t.Errorf("%q are kept, want %q", got, test.kept)
			}
		})
	}
}

// What else nothing but the service asks of the records.
func TestSmallQuestions(t *testing.T) {
	ctx := t.Context()
	s := open(t, filepath.Join(t.TempDir(), "records.db"))
	if err := s.IsCurrent(ctx); err != nil {
		t.Errorf("new records: %v", err)
	}
	id, err := s.AddAccount(ctx, &account.Account{Name: "ines", MadeAt: noon}, Keys{Name: "ines"}, "hash",
		Activity{At: noon, Kind: "account added"})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.SetLanguage(ctx, id, "de"); err != nil {
		t.Fatal(err)
	}
	if a, err := s.AccountByID(ctx, id); err != nil || a.Language != "de" {
		t.Errorf("%+v %v", a, err)
	}
	put(t, s, "patrol_accepted",
		map[string]any{
			"finding": "later", "reason": "r", "by_whom": "agnes", "at": millis(noon.Add(time.Hour)), "until_at": millis(noon.Add(2 * time.Hour)),
		})
	put(t, s, "patrol_accepted", map[string]any{"finding": "first", "reason": "q", "by_whom": "agnes", "at": millis(noon)})
	all, err := s.AcceptedFindings(ctx)
	if err != nil || len(all) != 2 || all[0] != (Accepted{Finding: "first", Reason: "q", By: "agnes", At: all[0].At}) ||
		!all[0].At.Equal(noon) || !all[1].Until.Equal(noon.Add(2*time.Hour)) {
		t.Errorf("%+v %v", all, err)
	}
	for i, order := range []string{"o1", "o2", "o1"} {
		put(t, s, "events", map[string]any{"number": fmt.Sprint(i), "order_no": order, "state": "done", "body": "{}", "at": millis(noon)})
	}
	if events, err := s.EventsOf(ctx, "o1"); err != nil || len(events) != 2 || events[0].ID >= events[1].ID {
		t.Errorf("%+v %v", events, err)
	}
	put(t, s, "shared_passwords", map[string]any{"name": "kit", "hash": "weak"})
	for _, change := range [][2]string{{"another", "wrong"}, {"weak", "strong"}} {
		if err := s.BetterShared(ctx, 1, change[0], change[1]); err != nil {
			t.Fatal(err)
		}
	}
	if got := kept(t, s, "shared_passwords", "hash"); got != "strong" {
		t.Errorf("the hash is %s", got)
	}
	var hash secret.TokenHash
	hash[0] = 7
	if err := s.LoadSessions(ctx, []*session.Session{{Hash: hash, Account: id, MadeAt: noon, SeenAt: noon}}); err != nil {
		t.Fatal(err)
	}
	if one, err := s.Session(ctx, hash); err != nil || one.Account != id || !one.MadeAt.Equal(noon) {
		t.Errorf("%+v %v", one, err)
	}
}
