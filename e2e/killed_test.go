package e2e

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ostiarius/client"
)

// Killed at any moment, the service has for each joining and each recovery that it confirmed exactly one mail, waiting or sent,
// and nothing that is half made.
func TestKilledWhilePeopleJoin(t *testing.T) {
	t.Parallel()
	box, err := client.ListMessages.Ask(t.Context(), client.New(lampDir), client.MessageQuery{State: "", Search: "", Before: 0, Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	policy, data := filepath.Join(dir, "doors.yaml"), filepath.Join(dir, "d")
	if err := os.WriteFile(policy, []byte("roles: { friend: }\nunlisted: hide\ndoors: [{ path: /, admit: { role: friend } }]\njoining: "+
		"{ by: anybody, grants: [ { role: friend } ] }\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	start := func() *Process {
		t.Helper()
		s, err := Start("serve", "--policy", policy, "--listen", "127.0.0.1:0", "--data", data, "--trusted-peer", "127.0.0.0/8", "--mail",
			"smtp://"+box.Server, "--mail-from", "door@marram.example", "--mail-per-minute", "0")
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s := start()
	const joins, recoveries = 120, 80
	for i := range recoveries {
		if _, err := client.AddPerson.Ask(t.Context(), client.New(data),
			client.NewPerson{Name: fmt.Sprintf("known%d", i), Email: fmt.Sprintf("known%d@marram.example", i)}); err != nil {
			t.Fatal(err)
		}
	}
	var mu sync.Mutex
	confirmed := map[string]bool{} // by the address of whom
	todo := rand.Perm(joins + recoveries)
	for len(todo) > 0 {
		var next, done atomic.Int64
		enough := int64(5 + rand.IntN(40))
		killed := make(chan struct{})
		var once sync.Once
		var workers sync.WaitGroup
		for range 8 {
			workers.Go(func() {
				for {
					n := int(next.Add(1)) - 1
					select {
					case <-killed:
						next.Add(-1)
						return
					default:
					}
					if n >= len(todo) {
						return
					}
					i := todo[n]
					path, body, to := "/door/recover", fmt.Sprintf(`{"username": "known%d"}`, i-joins), fmt.Sprintf("known%d@marram.example", i-joins)
					if i < joins {
						to = fmt.Sprintf("new%d@marram.example", i)
						path, body = "/door/join", fmt.Sprintf(`{"username": "new%d", "email": %q, "password": "brambles-in-the-fog"}`, i, to)
					}
					ask, err := http.NewRequest("POST", s.URL+path, bytes.NewReader([]byte(body)))
					if err != nil {
						t.Error(err)
						return
					}
					ask.Header.Set("Content-Type", "application/json")
					ask.Header.Set("X-Forwarded-For", fmt.Sprintf("10.%d.%d.9", i/250, i%250))
					answer, err := http.DefaultClient.Do(ask)
					if err == nil {
						_, err = io.Copy(io.Discard, answer.Body)
						answer.Body.Close()
						if err == nil && answer.StatusCode < 300 {
							mu.Lock()
							confirmed[to] = true
							mu.Unlock()
						}
					}
					if done.Add(1) >= enough {
						once.Do(func() { s.Kill(); close(killed) })
					}
				}
			})
		}
		workers.Wait()
		todo = todo[min(len(todo), int(next.Load())):]
		once.Do(s.Kill)
		s = start()
	}
	t.Cleanup(func() { s.Stop() })
	if len(confirmed) < (joins+recoveries)/3 {
		t.Fatalf("only %d were confirmed", len(confirmed))
	}
	api := client.New(data)
	var all client.Messages
	for end := time.Now().Add(60 * time.Second); time.Now().Before(end); {
		if all, err = client.ListMessages.Ask(t.Context(), api, client.MessageQuery{State: "", Search: "", Before: 0, Limit: 1000}); err != nil {
			t.Fatal(err)
		}
		if all.Waiting == 0 && all.Sent == len(all.Messages) && len(all.Messages) >= len(confirmed) {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	written := map[string]int{}
	for _, m := range all.Messages {
		written[m.To]++
	}
	for to := range confirmed {
		if written[to] != 1 {
			t.Errorf("%s was confirmed, and has %d messages", to, written[to])
		}
	}
	joining, err := client.ListJoining.Ask(t.Context(), api, client.None{})
	if err != nil {
		t.Fatal(err)
	}
	applied := map[string]bool{}
	for _, a := range joining.Applications {
		applied[a.Email] = true
	}
	for to, n := range written {
		if n != 1 || applied[to] != (to[:3] == "new") {
			t.Errorf("%s has %d messages, and an application: %v", to, n, applied[to])
		}
	}
	if len(applied) > joins {
		t.Errorf("%d applications", len(applied))
	}
}
