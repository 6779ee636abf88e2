package events_test

import (
	"context"
	"fmt"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/account"
	"ostiarius/core/signature"
	"ostiarius/service/rooms/house"
	"ostiarius/store"
)

var ctx = context.Background()

// Events that are taken in, each answered when it is on the disk, beside a transaction of SQLite alone that writes as much.
func BenchmarkEventsTaken(b *testing.B) {
	body := func(i int) string {
		return fmt.Sprintf(`{"type":"paid","order":"o%d","buyer":{"address":"buyer%d@marram.example","name":"Mo `+
			`Tern"},"items":[{"item":"bell","name":"The fog bell","number":1}]}`, i, i)
	}
	for _, at := range []int{1, 16, 64} {
		b.Run(fmt.Sprintf("taken in, %d at a time", at), func(b *testing.B) {
			s := house.OpenShop(b)
			var next atomic.Int64
			var all sync.WaitGroup
			now := s.Clock.Now()
			b.ResetTimer()
			for range at {
				all.Go(func() {
					for {
						i := int(next.Add(1))
						if i > b.N {
							return
						}
						id, text := fmt.Sprint("m", i), []byte(body(i))
						if err := s.Events.Take(ctx,
							signature.Head{ID: id, Timestamp: fmt.Sprint(now.Unix()), Signature: s.Secret.Sign(id, now, text)}, text, "192.0.2.80"); err != nil {
							b.Error(err)
							return
						}
					}
				})
			}
			all.Wait()
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "events/s")
		})
	}
	b.Run("a transaction of SQLite alone", func(b *testing.B) {
		db, err := sqlx.Open("sqlite", "file:"+filepath.Join(b.TempDir(), "bare.db")+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&"+
			"_txlock=immediate")
		if err != nil {
			b.Fatal(err)
		}
		defer db.Close()
		db.MustExec(`CREATE TABLE events (id INTEGER PRIMARY KEY, number TEXT NOT NULL UNIQUE, at BIGINT NOT NULL, body TEXT NOT NULL)`)
		i := 0
		for b.Loop() {
			tx := db.MustBegin()
			if _, err := tx.Exec(`INSERT INTO events (number, at, body) VALUES (?, ?, ?)`, fmt.Sprint("m", i), i, body(i)); err != nil {
				b.Fatal(err)
			}
			if err := tx.Commit(); err != nil {
				b.Fatal(err)
			}
			i++
		}
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "events/s")
	})
	b.Run("carried out", func(b *testing.B) {
		s := house.OpenShop(b)
		for i := range b.N {
			if err := s.Deliver(fmt.Sprint("m", i), body(i)); err != nil {
				b.Fatal(err)
			}
		}
		b.ResetTimer()
		if err := s.Events.CarryOut(ctx); err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "events/s")
	})
}

// The list of 100,000 members with its filters.
func BenchmarkMembers(b *testing.B) {
	s := house.OpenShop(b)
	now := s.Clock.Now()
	const members = 100_000
	for from := 0; from < members; from += 5000 {
		var part []store.Import
		for i := from; i < from+5000; i++ {
			name := fmt.Sprintf("m%06d", i*7919%members)
			var until time.Time
			if i%4 > 0 {
				until = now.Add(time.Duration(i%400) * 24 * time.Hour)
			}
			part = append(part, store.Import{
				Account: &account.Account{
					Name: name, Email: name + "@marram.example", MadeAt: now, MadeBy: "test",
					Grants: []account.Grant{{
						Role: []string{"friend", "supporter"}[i%2], From: now.Add(-time.Duration(i) * time.Minute), Until: until, By: "test",
					}},
				},
				Keys: store.Keys{Name: name, Email: name + "@marram.example"}, Event: store.Activity{At: now, Kind: "account added", Account: name},
			})
		}
		if err := s.Records.Import(context.Background(), part); err != nil {
			b.Fatal(err)
		}
	}
	for _, c := range []struct {
		what string
		q    store.MemberQuery
	}{
		{"all", store.MemberQuery{}}, {"the last page", store.MemberQuery{Offset: 90_000}},
		{"a role", store.MemberQuery{Role: "supporter"}},
		{"ending within 30 days", store.MemberQuery{Ending: now.Add(30 * 24 * time.Hour), Soon: true}},
		{"a role that ends", store.MemberQuery{Role: "supporter", Ending: now.Add(30 * 24 * time.Hour), Soon: true}},
		{"ended", store.MemberQuery{Past: true}}, {"a name", store.MemberQuery{Begins: "m00012"}},
		{"many names", store.MemberQuery{Begins: "m0"}},
	} {
		b.Run(c.what, func(b *testing.B) {
			c.q.Limit = 50
			for b.Loop() {
				if _, _, err := s.Members.List(ctx, c.q); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
	b.Run("week by week", func(b *testing.B) {
		for b.Loop() {
			if _, err := s.Members.Weeks(ctx, 26); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("looking what has ended", func(b *testing.B) {
		for b.Loop() {
			if _, err := s.Records.EndedUntold(ctx, now, 200); err != nil {
				b.Fatal(err)
			}
		}
	})
}
