package rooms_test

import (
	"context"
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

	"ostiarius/core/pass"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/core/words"
	"ostiarius/service/base/hashing"
	"ostiarius/service/held/passes"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/joining"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
	"ostiarius/store"
)

var ctx = context.Background()

const benchPolicy = "roles: {keeper: }\ndoors: [{path: /, admit: {role: keeper}}]\nsessions: {idle: 0, lifetime: 0}"

// A million live sessions in the store: how long it takes to open it and recognise one, and
// how much memory the process then has; and each of 100,000 different sessions recognised
// from the records, then from memory.
func BenchmarkMillionSessions(b *testing.B) {
	path := filepath.Join(b.TempDir(), "records.db")
	records, err := store.Open(path)
	if err != nil {
		b.Fatal(err)
	}
	book := house.BookOf(b, benchPolicy)
	h := &house.House{Records: records, Book: book, Pool: hashing.New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, nil), Time: time.Now}
	r := h.Start(b)
	a, err := r.People.Add(ctx, "bench", people.NewAccount{Name: "ines", Password: "seven-brass-prisms", Roles: []string{"keeper"}})
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
		batch = append(batch, &session.Session{
			Hash: hash, Account: a.ID, MadeAt: now, SeenAt: now, ProvedAt: now, Rights: "keeper", Network: "192.0.2.7",
			Agent: "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0",
		})
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
		h.Records = records
		r := h.Start(b)
		if v, _, err := r.Sessions.Recognise(ctx, tokens[0], nil); err != nil || !v.SignedIn {
			b.Fatal(v, err)
		}
		b.ReportMetric(float64(time.Since(began).Milliseconds()), "ms-to-start")
		for _, pass := range []string{"from-records", "from-memory"} {
			began = time.Now()
			for _, token := range tokens {
				if v, _, err := r.Sessions.Recognise(ctx, token, nil); err != nil || !v.SignedIn {
					b.Fatal(v, err)
				}
			}
			b.ReportMetric(float64(time.Since(began).Nanoseconds())/used, "ns/"+pass)
		}
		b.ReportMetric(resident(b), "MB-resident")
		began = time.Now()
		if err := r.Sessions.Flush(ctx); err != nil {
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
	r := (&house.House{
		Records: records, Book: house.BookOf(b, benchPolicy), Pool: hashing.New(secret.DefaultCost, nil), Time: time.Now,
	}).Start(b)
	if _, err := r.People.Add(ctx, "bench", people.NewAccount{Name: "ines", Password: "seven-brass-prisms"}); err != nil {
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
			_, err := r.SignIn.SignIn(ctx, name, "not-this-one", sessions.Origin{Network: fmt.Sprintf("10.%d.%d.%d", n>>16, n>>8&255, n&255)}, false)
			if !errors.Is(err, signin.ErrWrong) {
				// The account itself is slowed after many failures; that is not measured here.
				r.Limiter.Forget()
				continue
			}
			if name == "ines" {
				known += time.Since(began)
			} else {
				unknown += time.Since(began)
			}
		}
		if n++; n%50 == 0 {
			r.Limiter.Forget()
		}
	}
	b.ReportMetric(float64(known.Microseconds())/float64(n), "us-wrong-password")
	b.ReportMetric(float64(unknown.Microseconds())/float64(n), "us-unknown-account")
	b.ReportMetric(float64(unknown)/float64(known), "ratio")
}

// Whether the time tells who exists, of what strangers may ask: in turns, with a name or an address that somebody has and with one that
// nobody has. The ratio of the medians is reported.
func BenchmarkTimeTellsNobody(b *testing.B) {
	r, _, _ := house.Open(b)
	r.Book = house.BookOf(b, "doors: [{ path: /, admit: public }]\njoining: { by: anybody }\n")
	r.Pool = hashing.New(secret.DefaultCost, nil)
	r = r.Start(b)
	if _, err := r.People.Add(ctx, "bench",
		people.NewAccount{Name: "walt", Email: "walt@marram.example", Password: "paint-and-lentil-soup"}); err != nil {
		b.Fatal(err)
	}
	n := 0
	for name, ask := range map[string]func(known bool) error{
		"recovery": func(known bool) error {
			typed := map[bool]string{true: "walt@marram.example", false: "nobody@marram.example"}[known]
			return r.Recovery.Ask(ctx, signin.Keys(typed), fmt.Sprintf("10.%d.%d.1", n/250, n%250), words.English)
		},
		"joining": func(known bool) error {
			email := map[bool]string{true: "walt@marram.example", false: fmt.Sprintf("n%d@marram.example", n)}[known]
			_, err := r.Joining.Ask(ctx, joining.Applicant{Name: fmt.Sprintf("new%d", n), Email: email, Password: "brambles-in-the-fog"},
				sessions.Origin{Network: fmt.Sprintf("10.%d.%d.2", n/250, n%250)})
			return err
		},
	} {
		b.Run(name, func(b *testing.B) {
			took := map[bool][]float64{}
			for b.Loop() {
				for _, known := range []bool{true, false} {
					n++
					begun := time.Now()
					if err := ask(known); err != nil {
						b.Fatal(err)
					}
					took[known] = append(took[known], float64(time.Since(begun)))
				}
			}
			for _, all := range took {
				slices.Sort(all)
			}
			b.ReportMetric(took[true][len(took[true])/2]/took[false][len(took[false])/2], "known/unknown")
		})
	}
}

// 10,000 passes issued from a list, with a message for each.
func BenchmarkPassesFromAList(b *testing.B) {
	var list strings.Builder
	list.WriteString("address,name,reference\n")
	for i := range 10_000 {
		fmt.Fprintf(&list, "buyer%d@x.example,Buyer %d,2026-%d\n", i, i, i)
	}
	for b.Loop() {
		h, _, _ := house.Handing(b)
		began := time.Now()
		lines, _, err := h.Passes.Import(ctx, "bench", "recordings", list.String(), time.UTC, passes.NewPass{}, false)
		if err != nil || len(lines) != 10_000 {
			b.Fatal(len(lines), err)
		}
		b.ReportMetric(time.Since(began).Seconds(), "s")
	}
}

// A million passes: how long it takes to open the records, and to find one by its name, by its link, by the reference
// and by the beginning of a name.
func BenchmarkMillionPasses(b *testing.B) {
	path := filepath.Join(b.TempDir(), "records.db")
	records, err := store.Open(path)
	if err != nil {
		b.Fatal(err)
	}
	now := time.Now()
	const all = 1_000_000
	var known []*pass.Pass
	batch := make([]*pass.Pass, 0, 10_000)
	for i := range all {
		is := &pass.Pass{
			ID: pass.NewID(), Kind: "recordings", Reference: fmt.Sprintf("2026-%d", i), Address: fmt.Sprintf("buyer%d@x.example", i),
			Name: fmt.Sprintf("Ada Buyer%d", i), MadeAt: now, Until: now.Add(time.Hour),
		}
		_, hash := secret.NewToken()
		is.Give(hash, pass.Hash{1}, now, 0)
		if i%1000 == 0 {
			known = append(known, is)
		}
		if batch = append(batch, is); len(batch) == cap(batch) {
			if err := records.AddPasses(ctx, batch, nil, store.Activity{At: now}); err != nil {
				b.Fatal(err)
			}
			batch = batch[:0]
		}
	}
	records.Close()
	b.ResetTimer()
	for b.Loop() {
		began := time.Now()
		if records, err = store.Open(path); err != nil {
			b.Fatal(err)
		}
		h := &house.House{
			Records: records, Book: house.BookOf(b, house.Handed), Pool: hashing.New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, nil),
			Time: time.Now,
		}
		h = h.Start(b)
		if _, err := h.Passes.Is(ctx, known[0].ID); err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(float64(time.Since(began).Milliseconds()), "ms-to-open")
		for what, find := range map[string]func(is *pass.Pass) (string, error){
			"id": func(is *pass.Pass) (string, error) { found, err := h.Passes.Is(ctx, is.ID); return found.ID, err },
			"link": func(is *pass.Pass) (string, error) {
				found, err := records.PassByLink(ctx, is.Link)
				return found.ID, err
			},
			"reference": func(is *pass.Pass) (string, error) { return firstFound(h, is.Reference) },
			"name":      func(is *pass.Pass) (string, error) { return firstFound(h, is.Name) },
		} {
			began = time.Now()
			for _, is := range known {
				if id, err := find(is); err != nil || what != "name" && what != "reference" && id != is.ID {
					b.Fatal(what, id, is.ID, err)
				}
			}
			b.ReportMetric(float64(time.Since(began).Microseconds())/float64(len(known)), "µs-by-"+what)
		}
		records.Close()
	}
}

func firstFound(h *house.House, begins string) (string, error) {
	found, err := h.Passes.List(ctx, store.PassQuery{Begins: begins, Limit: 50}, "")
	if err != nil || len(found) == 0 {
		return "", errors.Join(err, store.ErrNone)
	}
	return found[0].ID, nil
}
