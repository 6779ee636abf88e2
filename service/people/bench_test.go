package people

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/core/throttle"
	"ostiarius/service/activity"
	"ostiarius/service/ending"
	"ostiarius/service/hashing"
	"ostiarius/store"
)

func benchBook(b *testing.B) func() *policy.Book {
	b.Helper()
	book, findings := policy.Parse("doors.yaml", []byte("roles: {keeper: }\ndoors: [{path: /, admit: {role: keeper}}]\nsessions: {idle: 0, lifetime: 0}"))
	if book == nil {
		b.Fatal(findings)
	}
	return func() *policy.Book { return book }
}

// A million live sessions in the store: how long it takes to open it and recognise one, and
// how much memory the process then has; and each of 100,000 different sessions recognised
// from the records, then from memory.
func BenchmarkMillionSessions(b *testing.B) {
	path := filepath.Join(b.TempDir(), "records.db")
	records, err := store.Open(path)
	if err != nil {
		b.Fatal(err)
	}
	book := benchBook(b)
	r, err := New(Options{Store: records, Book: book, Now: time.Now, Hashing: hashing.New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, nil), Limiter: &throttle.Limiter{}, Endings: &ending.List{}, Activity: activity.New(activity.Options{Store: records, Now: time.Now})})
	if err != nil {
		b.Fatal(err)
	}
	a, err := r.Add(ctx, "bench", NewAccount{Name: "ines", Password: "seven-brass-prisms", Roles: []string{"keeper"}})
	if err != nil {
		b.Fatal(err)
	}
	const all, used = 1_000_000, 100_000
	tokens := make([]string, used)
	now := time.Now()
	batch := make([]*session.Session, 0, 10_000)
	for i := range all {
		token, hash := secret.NewToken()
		if i < used {
			tokens[i] = token
		}
		batch = append(batch, &session.Session{Hash: hash, Account: a.ID, MadeAt: now, SeenAt: now, ProvedAt: now, Rights: "keeper", Network: "192.0.2.7", Agent: "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"})
		if len(batch) == cap(batch) {
			if err := records.LoadSessions(ctx, batch); err != nil {
				b.Fatal(err)
			}
			batch = batch[:0]
		}
	}
	records.Close()
	runtime.GC()
	b.ResetTimer()
	for range b.N {
		began := time.Now()
		records, err := store.Open(path)
		if err != nil {
			b.Fatal(err)
		}
		r, err := New(Options{Store: records, Book: book, Now: time.Now, Hashing: hashing.New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, nil), Limiter: &throttle.Limiter{}, Endings: &ending.List{}, Activity: activity.New(activity.Options{Store: records, Now: time.Now})})
		if err != nil {
			b.Fatal(err)
		}
		if v, _, err := r.Visitor(ctx, tokens[0], nil); err != nil || !v.SignedIn {
			b.Fatal(v, err)
		}
		b.ReportMetric(float64(time.Since(began).Milliseconds()), "ms-to-start")
		for _, pass := range []string{"from-records", "from-memory"} {
			began = time.Now()
			for _, token := range tokens {
				if v, _, err := r.Visitor(ctx, token, nil); err != nil || !v.SignedIn {
					b.Fatal(v, err)
				}
			}
			b.ReportMetric(float64(time.Since(began).Nanoseconds())/used, "ns/"+pass)
		}
		b.ReportMetric(resident(b), "MB-resident")
		began = time.Now()
		if err := r.Flush(ctx); err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(float64(time.Since(began).Milliseconds()), "ms-to-flush-100k")
		records.Close()
	}
}

// resident returns the resident memory of this process in megabytes.
func resident(b *testing.B) float64 {
	runtime.GC()
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		b.Skip("no /proc: ", err)
	}
	_, rest, _ := strings.Cut(string(text), "VmRSS:")
	kilobytes, err := strconv.Atoi(strings.Fields(rest)[0])
	if err != nil {
		b.Fatal(err)
	}
	return float64(kilobytes) / 1024
}

// The time of a wrong password of an account that there is, and of one that there is not,
// in turns, so that the machine's moods hit both alike.
func BenchmarkWrongSignIn(b *testing.B) {
	records, err := store.Open(filepath.Join(b.TempDir(), "records.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer records.Close()
	r, err := New(Options{Store: records, Book: benchBook(b), Now: time.Now, Hashing: hashing.New(secret.DefaultCost, nil), Limiter: &throttle.Limiter{}, Endings: &ending.List{}, Activity: activity.New(activity.Options{Store: records, Now: time.Now})})
	if err != nil {
		b.Fatal(err)
	}
	if _, err := r.Add(ctx, "bench", NewAccount{Name: "ines", Password: "seven-brass-prisms"}); err != nil {
		b.Fatal(err)
	}
	var known, unknown time.Duration
	n := 0
	for b.Loop() {
		names := []string{"ines", "nobody"}
		if n%2 == 1 {
			slices.Reverse(names)
		}
		for _, name := range names {
			began := time.Now()
			_, err := r.SignIn(ctx, name, "not-this-one", Origin{Network: fmt.Sprintf("10.%d.%d.%d", n>>16, n>>8&255, n&255)}, false)
			if !errors.Is(err, ErrWrong) {
				// The account itself is slowed after many failures; that is not measured here.
				r.limiter.Forget()
				continue
			}
			if name == "ines" {
				known += time.Since(began)
			} else {
				unknown += time.Since(began)
			}
		}
		if n++; n%50 == 0 {
			r.limiter.Forget()
		}
	}
	b.ReportMetric(float64(known.Microseconds())/float64(n), "us-wrong-password")
	b.ReportMetric(float64(unknown.Microseconds())/float64(n), "us-unknown-account")
	b.ReportMetric(float64(unknown)/float64(known), "ratio")
}
