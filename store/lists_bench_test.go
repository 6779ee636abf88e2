package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/activity"
	"ostiarius/core/secret"
	"ostiarius/core/session"
)

// full returns records as a large site has them after some years.
func full(b *testing.B, accounts, sessions, events int) *Store {
	ctx := context.Background()
	path := filepath.Join(b.TempDir(), "large.db")
	if at := os.Getenv("LARGE"); at != "" {
		path = at
		if _, err := os.Stat(path); err == nil {
			return open(b, path)
		}
	}
	s := open(b, path)
	r := rand.New(rand.NewPCG(1, 2))
	roles := []string{"keeper", "trustee", "crew", "member", "member", "member"}
	agents := []string{"Mozilla/5.0 (X11; Linux x86_64) Firefox/%d.0", "Mozilla/5.0 (iPhone) Safari/%d",
		"Mozilla/5.0 (Windows NT 10.0) Chrome/%d.0", "lamp-reader/%d"}
	check := func(err error) {
		if err != nil {
			b.Fatal(err)
		}
	}
	for from := 0; from < accounts; from += 20_000 {
		var all []Import
		for i := from; i < min(from+20_000, accounts); i++ {
			name := fmt.Sprintf("keeper-%06d", i)
			a := &account.Account{
				Name: name, Email: name + "@harbour.example", MadeAt: noon.Add(time.Duration(i) * time.Second),
				Grants: []account.Grant{{Role: roles[i%len(roles)], From: noon}},
			}
			all = append(all, Import{Account: a, Keys: Keys{Name: name, Email: a.Email},
				Event: Activity{At: noon, Kind: "account added", Account: name}})
		}
		check(s.Import(ctx, all))
	}
	for from := 0; from < sessions; from += 50_000 {
		var all []*session.Session
		for i := from; i < min(from+50_000, sessions); i++ {
			_, hash := secret.NewToken()
			seen := noon.Add(-time.Duration(r.IntN(30*24*3600)) * time.Second)
			all = append(all, &session.Session{
				Hash: hash, Account: 1 + r.Int64N(int64(accounts)), MadeAt: seen.Add(-time.Hour), SeenAt: seen, ProvedAt: seen, Remembered: true,
				Network: fmt.Sprintf("198.51.%d.%d", r.IntN(200), r.IntN(256)), Agent: fmt.Sprintf(agents[r.IntN(len(agents))], r.IntN(500)),
			})
		}
		check(s.LoadSessions(ctx, all))
	}
	kinds := []string{"refused", "refused", "sign-in", "sign-in", "sign-in failed", "hidden", "sign-out"}
	for from := 0; from < events; from += 50_000 {
		var all []Activity
		for i := from; i < min(from+50_000, events); i++ {
			name := fmt.Sprintf("keeper-%06d", r.IntN(accounts))
			kind := kinds[r.IntN(len(kinds))]
			if r.IntN(100_000) == 0 {
				kind = "policy changed"
			}
			all = append(all, Activity{
				At: noon.Add(time.Duration(i) * time.Second), Kind: activity.Kind(kind), Account: name, Actor: name,
				Network: fmt.Sprintf("198.51.%d.%d", r.IntN(200), r.IntN(256)),
				Door:    fmt.Sprintf("/door-%d/**", r.IntN(40)), Place: fmt.Sprintf("GET /log/%d", r.IntN(10_000)),
				Reference: fmt.Sprintf("R%07d", i), Detail: "asks for role keeper",
			})
		}
		check(s.Note(ctx, all, nil))
	}
	return s
}

// BenchmarkLists shows what the lists of the console ask for, of 20,000 accounts, 100,000 sessions and 300,000 records of activity;
// with LARGE, the path of a file, of ten times as many, which are made there if there is no such file, and kept. That takes a
// quarter of an hour.
func BenchmarkLists(b *testing.B) {
	n := 1
	if os.Getenv("LARGE") != "" {
		n = 10
	}
	s := full(b, n*20_000, n*100_000, n*300_000)
	never := session.Limits{}
	for name, ask := range map[string]func() error{
		"accounts":                 accountsOf(s, AccountQuery{}),
		"accounts/by-sign-in":      accountsOf(s, AccountQuery{Sort: "signed-in", Down: true}),
		"accounts/by-address":      accountsOf(s, AccountQuery{Sort: "email", Down: true, Offset: 150_000}),
		"accounts/made":            accountsOf(s, AccountQuery{Sort: "made"}),
		"accounts/rare-word":       accountsOf(s, AccountQuery{Words: []string{"177123"}}),
		"accounts/no-such-word":    accountsOf(s, AccountQuery{Words: []string{"lantern"}}),
		"accounts/common-word":     accountsOf(s, AccountQuery{Words: []string{"keeper"}}),
		"accounts/role":            accountsOf(s, AccountQuery{Role: "trustee", Now: noon.Add(time.Hour)}),
		"accounts/role-word-never": accountsOf(s, AccountQuery{Role: "member", Words: []string{"99"}, State: "never", Now: noon.Add(time.Hour)}),
		"sessions":                 sessionsOf(s, SessionQuery{Alive: never, Now: noon}),
		"sessions/far":             sessionsOf(s, SessionQuery{Alive: never, Now: noon, Offset: 4900}),
		"sessions/one-name":        sessionsOf(s, SessionQuery{Alive: never, Now: noon, Words: "keeper-012345"}),
		"sessions/many-names":      sessionsOf(s, SessionQuery{Alive: never, Now: noon, Words: "keeper"}),
		"sessions/browser":         sessionsOf(s, SessionQuery{Alive: never, Now: noon, Words: "firefox"}),
		"sessions/rare-browser":    sessionsOf(s, SessionQuery{Alive: never, Now: noon, Words: "lamp-reader/77"}),
		"sessions/network":         sessionsOf(s, SessionQuery{Alive: never, Now: noon, Words: "198.51.77.1"}),
		"sessions/nothing":         sessionsOf(s, SessionQuery{Alive: never, Now: noon, Words: "lantern"}),
		"activity":                 eventsOf(s, ActivityQuery{}),
		"activity/kind":            eventsOf(s, ActivityQuery{Kind: "sign-in"}),
		"activity/rare-kind":       eventsOf(s, ActivityQuery{Kind: "policy"}),
		"activity/no-such-kind":    eventsOf(s, ActivityQuery{Kind: "lantern"}),
		"activity/account":         eventsOf(s, ActivityQuery{Account: "keeper-012345"}),
		"activity/door":            eventsOf(s, ActivityQuery{Door: "/door-7/**"}),
		"activity/network":         eventsOf(s, ActivityQuery{Network: "198.51.77.1"}),
		"activity/reference":       eventsOf(s, ActivityQuery{Reference: "R0001234"}),
		"activity/word":            eventsOf(s, ActivityQuery{Words: "/log/77"}),
		"activity/rare-word":       eventsOf(s, ActivityQuery{Words: "r0001234"}),
		"activity/no-such-word":    eventsOf(s, ActivityQuery{Words: "lantern"}),
		"activity/kind-network":    eventsOf(s, ActivityQuery{Kind: "policy", Network: "198.51.77."}),
		"activity/long-ago":        eventsOf(s, ActivityQuery{Until: noon.Add(1000 * time.Second), Kind: "refused"}),
		"activity/all-of-it": eventsOf(s,
			ActivityQuery{
				Kind: "sign-in", Network: "198", Door: "/door-7/**", Words: "lantern", Since: noon, Until: noon.Add(3_000_000 * time.Second),
			}),
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if err := ask(); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

func accountsOf(s *Store, q AccountQuery) func() error {
	q.Limit = 50
	return func() error {
		_, _, err := s.Accounts(context.Background(), q)
		return err
	}
}

func sessionsOf(s *Store, q SessionQuery) func() error {
	q.Limit = 50
	return func() error {
		_, _, err := s.Sessions(context.Background(), q)
		return err
	}
}

func eventsOf(s *Store, q ActivityQuery) func() error {
	q.Limit = 100
	return func() error {
		_, _, err := s.Events(context.Background(), q)
		return err
	}
}
