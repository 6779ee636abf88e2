package hashing

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/core/secret"
)

const word = "hash-worker"

// The test is its own worker.
func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == word {
		if err := Work(os.Stdin, os.Stdout); err != nil {
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

var (
	ctx     = context.Background()
	current = secret.Cost{Memory: 4 << 10, Passes: 2, Threads: 1}
)

// pools calls do with a Pool that works in this process, and with one that works apart.
func pools(t *testing.T, cost secret.Cost, do func(t *testing.T, p *Pool)) {
	for name, command := range map[string][]string{"here": nil, "apart": Command(word)} {
		t.Run(name, func(t *testing.T) {
			p := New(cost, command)
			defer p.Close()
			do(t, p)
		})
	}
}

func TestHashAndCompare(t *testing.T) {
	pools(t, secret.Cost{Memory: 64, Passes: 1, Threads: 1}, func(t *testing.T, p *Pool) {
		one, err := p.Hash(ctx, "seven-brass-prisms")
		if err != nil || !secret.Verify(one, "seven-brass-prisms") {
			t.Fatal(one, err)
		}
		two, err := p.Hash(ctx, "kettle-moth-anvil")
		if err != nil {
			t.Fatal(err)
		}
		for password, want := range map[string]string{
			"seven-brass-prisms": one, "kettle-moth-anvil": two, "neither": "", "": "", strings.Repeat("x", 5000): "",
		} {
			if right, err := p.Compare(ctx, []string{one, two}, 2, password); right != want || err != nil {
				t.Errorf("%.20q: %q %v", password, right, err)
			}
		}
		if right, err := p.Compare(ctx, nil, 1, "seven-brass-prisms"); right != "" || err != nil {
			t.Errorf("a name that nobody has: %q %v", right, err)
		}
		if _, err := p.Compare(ctx, []string{one, two}, 1, "x"); err == nil {
			t.Error("more hashes than slots")
		}
	})
}

// A wrong password takes as long whatever the hash, and where there is none: as the dearest that
// there is. The least is compared, of tries that take turns: other programs on the machine disturb it least. Of what works apart
// the time of the processor is taken, which is what it measures by: on a busy machine the time that passes says little.
func TestTimeTellsNoNames(t *testing.T) {
	pools(t, current, func(t *testing.T, p *Pool) {
		kept := map[string][]string{
			"unknown":              nil,
			"current":              {secret.Hash("right", current)},
			"older":                {secret.Hash("right", secret.Cost{Memory: 512, Passes: 1, Threads: 1})},
			"dearer, imported":     {secret.Hash("right", secret.Cost{Memory: 6 << 10, Passes: 2, Threads: 1})},
			"SHA-1, imported":      {"{SHA}5en6G6MezRroT3XKqkdPOmY/BfQ="},
			"bcrypt, imported":     {"$2y$05$abcdefghijklmnopqrstuu5Lo0g67CiD3M4RpN1BmBb4Crp5w7dbK"},
			"two while it rotates": {secret.Hash("right", current), secret.Hash("before", current)},
		}
		for _, hashes := range kept {
			p.Learn(hashes...)
		}
		took := map[string][]time.Duration{}
		tries := 11
		if strings.HasSuffix(t.Name(), "/apart") {
			tries = 4 // their times hardly differ, and they stand back behind all other programs
		}
		for range tries {
			for name, hashes := range kept {
				began := clockOf(t, p)
				if right, err := p.Compare(ctx, hashes, 2, "not-this-one"); right != "" || err != nil {
					t.Fatal(name, right, err)
				}
				took[name] = append(took[name], clockOf(t, p)-began)
			}
		}
		unknown := slices.Min(took["unknown"])
		for name := range kept {
			ratio := float64(slices.Min(took[name])) / float64(unknown)
			t.Logf("%s: %.3f of an unknown name, which takes %v", name, ratio, unknown)
			if ratio < 0.6 || ratio > 1.6 {
				t.Errorf("%s: a wrong password takes %.2f times as long as for an unknown name", name, ratio)
			}
		}
	})
}

// clockOf returns the time of the processor that the workers of a Pool have had, and the time if they are none of their own.
func clockOf(t *testing.T, p *Pool) (had time.Duration) {
	t.Helper()
	apart := false
	for range cap(p.workers) {
		w := <-p.workers
		defer func() { p.workers <- w }()
		if len(w.command) == 0 || w.process == nil {
			apart = apart || len(w.command) > 0
			continue
		}
		apart = true
		threads, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/schedstat", w.process.Process.Pid))
		if err != nil || len(threads) == 0 {
			return time.Since(started)
		}
		for _, file := range threads {
			text, err := os.ReadFile(file)
			if errors.Is(err, fs.ErrNotExist) {
				continue // a thread that has ended
			}
			var ns int64
			if _, scanned := fmt.Sscan(string(text), &ns); err != nil || scanned != nil {
				t.Fatal(err, scanned)
			}
			had += time.Duration(ns)
		}
	}
	if !apart {
		return time.Since(started)
	}
	return had
}

func TestBusy(t *testing.T) {
	p := New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, nil)
	var held []*worker
	for range cap(p.workers) {
		held = append(held, <-p.workers)
	}
	waiting, leave := context.WithCancel(ctx)
	var working sync.WaitGroup
	for range longestQueue {
		working.Go(func() {
			if _, err := p.Compare(waiting, nil, 1, "x"); !errors.Is(err, context.Canceled) {
				t.Errorf("a client that goes away: %v", err)
			}
		})
	}
	for p.waiting.Load() < longestQueue {
	}
	if _, err := p.Compare(ctx, nil, 1, "x"); !errors.Is(err, ErrBusy) {
		t.Errorf("when the queue is full: %v", err)
	}
	leave()
	working.Wait()
	for _, w := range held {
		p.workers <- w
	}
	if _, err := p.Compare(ctx, nil, 1, "x"); err != nil {
		t.Errorf("afterwards: %v", err)
	}
}

// A process that is killed is started again; one that cannot be started lets nobody in.
func TestWorkersThatDie(t *testing.T) {
	command := Command(word)
	if command == nil {
		t.Log("there are no processes on this system")
		return
	}
	p := New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, command)
	defer p.Close()
	hash, err := p.Hash(ctx, "seven-brass-prisms")
	if err != nil {
		t.Fatal(err)
	}
	w := <-p.workers
	killed := w.process.Process
	killed.Kill()
	p.workers <- w
	if right, err := p.Compare(ctx, []string{hash}, 1, "seven-brass-prisms"); right != hash || err != nil {
		t.Errorf("after it was killed: %q %v", right, err)
	}
	w = <-p.workers
	if nice := niceOf(t, w.process.Process.Pid); nice != niceness {
		t.Errorf("its priority is %d", nice)
	}
	w.process.Process.Kill()
	w.command = []string{"/nowhere/at-all"}
	p.workers <- w
	if right, err := p.Compare(ctx, []string{hash}, 1, "seven-brass-prisms"); right != "" || err == nil {
		t.Errorf("where it cannot be started: %q %v", right, err)
	}
}

func niceOf(t *testing.T, pid int) (nice int) {
	t.Helper()
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		t.Fatal(err)
	}
	_, behind, _ := strings.Cut(string(stat), ") ")
	fmt.Sscan(strings.Fields(behind)[16], &nice)
	return nice
}

// What one try costs, beside a hash alone.
func BenchmarkCompare(b *testing.B) {
	hash := secret.Hash("right", secret.DefaultCost)
	b.Run("hash", func(b *testing.B) {
		for b.Loop() {
			secret.Verify(hash, "wrong")
		}
	})
	for name, command := range map[string][]string{"here": nil, "apart": Command(word)} {
		b.Run(name, func(b *testing.B) {
			p := New(secret.DefaultCost, command)
			defer p.Close()
			for b.Loop() {
				if _, err := p.Compare(ctx, []string{hash}, 1, "wrong"); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
