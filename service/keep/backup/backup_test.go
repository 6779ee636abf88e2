package backup

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/store"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// office makes a data directory with records in use.
func office(t *testing.T) (data string, records *store.Store) {
	t.Helper()
	data = filepath.Join(t.TempDir(), "data")
	if err := os.Mkdir(data, 0o700); err != nil {
		t.Fatal(err)
	}
	return data, opened(t, data)
}

func opened(t *testing.T, data string) *store.Store {
	t.Helper()
	records, err := store.Open(filepath.Join(data, store.FileName))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { records.Close() })
	return records
}

func add(t *testing.T, records *store.Store, name string) int64 {
	t.Helper()
	id, err := records.AddAccount(context.Background(), &account.Account{Name: name, MadeAt: noon}, store.Keys{Name: name}, "a hash",
		store.Activity{At: noon, Kind: "account added", Account: name})
	if err != nil {
		t.Error(err)
	}
	return id
}

// What is restored is what was saved, but what lets in browsers or is sent by itself, unless the service goes on.
func TestBackupAndRestore(t *testing.T) {
	ctx := t.Context()
	for _, goesOn := range []bool{false, true} {
		data, records := office(t)
		ines := add(t, records, "ines")
		_, hash := secret.NewToken()
		s := &session.Session{Hash: hash, Family: "f", Account: ines, MadeAt: noon, SeenAt: noon, ProvedAt: noon}
		if err := records.AddSession(ctx, s, 0, nil, nil, store.Activity{At: noon, Kind: "sign-in", Account: "ines"}); err != nil {
			t.Fatal(err)
		}
		m := message.New(message.Recover, "ines@marram.example", "ines", "en", noon)
		if err := records.Post(ctx, m, store.Activity{At: noon, Kind: "message test"}); err != nil {
			t.Fatal(err)
		}
		file := filepath.Join(t.TempDir(), "b.tar.gz")
		made, err := Make(ctx, data, file, "1.2")
		if err != nil {
			t.Fatal(err)
		}
		if made.Version != "1.2" || made.Counts["accounts"] != 1 || made.Counts["records of activity"] != 3 {
			t.Errorf("%+v", made)
		}
		if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
			t.Error(info, err)
		}
		if left, _ := os.ReadDir(filepath.Dir(file)); len(left) != 1 {
			t.Errorf("left behind: %v", left)
		}
		to := filepath.Join(t.TempDir(), "new")
		dry, err := Restore(ctx, file, to, Options{Dry: true})
		if _, there := os.Stat(to); err != nil || there == nil || !maps.Equal(dry.Counts, made.Counts) {
			t.Errorf("dry: %+v %v", dry, err)
		}
		if _, err := Restore(ctx, file, to, Options{GoesOn: goesOn}); err != nil {
			t.Fatal(err)
		}
		for path, mode := range map[string]os.FileMode{to: 0o700, filepath.Join(to, store.FileName): 0o600} {
			if info, err := os.Stat(path); err != nil || info.Mode().Perm() != mode {
				t.Error(path, info, err)
			}
		}
		again := opened(t, to)
		if a, kept, err := again.AccountByKey(ctx, "ines"); err != nil || a.ID != ines || kept != "a hash" {
			t.Errorf("%+v %v", a, err)
		}
		if _, err := again.Session(ctx, hash); (err == nil) != goesOn {
			t.Errorf("goes on %v: the session: %v", goesOn, err)
		}
		due, err := again.DueMessages(ctx, message.ByMail, noon.Add(time.Minute), 10)
		if err != nil || len(due) == 1 != goesOn {
			t.Errorf("goes on %v: %d messages are sent, %v", goesOn, len(due), err)
		}
		if told, err := again.AllEvents(ctx, store.ActivityQuery{Kind: "records restored", Limit: 5}); err != nil || len(told) != 1 ||
			!strings.Contains(told[0].Detail, "from a backup made 20") {
			t.Errorf("%+v %v", told, err)
		}
		if _, err := Restore(ctx, file, to, Options{}); err == nil || !strings.Contains(err.Error(), "is not empty") {
			t.Errorf("over records: %v", err)
		}
		if _, err := Make(ctx, data, file, ""); err == nil || !strings.Contains(err.Error(), "is there already") {
			t.Errorf("over a backup: %v", err)
		}
	}
}

// While others write, what is saved is of one moment.
func TestBackupWhileOthersWrite(t *testing.T) {
	data, records := office(t)
	stop, begun := make(chan struct{}), make(chan struct{})
	var writers sync.WaitGroup
	for w := range 2 {
		writers.Go(func() {
			for i := 0; ; i++ {
				select {
				case <-stop:
					return
				default:
					add(t, records, fmt.Sprintf("p%d-%d", w, i))
				}
				if i == 20 && w == 0 {
					close(begun)
				}
			}
		})
	}
	<-begun
	last := 0
	for n := range 2 {
		file := filepath.Join(t.TempDir(), "b")
		if _, err := Make(t.Context(), data, file, ""); err != nil {
			t.Fatal(err)
		}
		m, err := Restore(t.Context(), file, filepath.Join(t.TempDir(), "new"), Options{})
		if err != nil {
			t.Fatal(err)
		}
		if m.Counts["accounts"] != m.Counts["records of activity"] || m.Counts["accounts"] < max(20, last) {
			t.Errorf("%d: %v", n, m.Counts)
		}
		last = m.Counts["accounts"]
	}
	close(stop)
	writers.Wait()
}

// What is cut short or damaged anywhere is not restored, and leaves nothing.
func TestDamagedBackups(t *testing.T) {
	data, records := office(t)
	add(t, records, "ines")
	dir := t.TempDir()
	file := filepath.Join(dir, "b")
	if _, err := Make(t.Context(), data, file, ""); err != nil {
		t.Fatal(err)
	}
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(19, 2))
	spoilt := map[string][]byte{"empty": {}, "text": []byte("doors: []\n")}
	for range 20 {
		cut := random.IntN(len(whole) - 1)
		spoilt[fmt.Sprint("cut at ", cut)] = whole[:cut]
		at := 10 + random.IntN(len(whole)-10) // what comes before says nothing of what is in it
		damaged := append([]byte{}, whole...)
		damaged[at] ^= 1 << random.IntN(8)
		if bytes.Equal(unzipped(damaged), unzipped(whole)) {
			continue // a bit between the end of what is compressed and the next byte, which nobody reads
		}
		spoilt[fmt.Sprint("damaged at ", at)] = damaged
	}
	spoilt["without its last byte"] = whole[:len(whole)-1]
	for what, text := range spoilt {
		bad, to := filepath.Join(dir, "bad"), filepath.Join(dir, "to")
		if err := os.WriteFile(bad, text, 0o600); err != nil {
			t.Fatal(err)
		}
		if m, err := Restore(t.Context(), bad, to, Options{}); err == nil {
			t.Errorf("%s: restored %+v", what, m)
		}
		if _, err := os.Stat(to); err == nil {
			t.Fatalf("%s: something is left", what)
		}
	}
}

// unzipped is what can be read of something that was compressed, nil if it does not come to its end.
func unzipped(file []byte) []byte {
	zip, err := gzip.NewReader(bytes.NewReader(file))
	if err != nil {
		return nil
	}
	text, err := io.ReadAll(zip)
	if err != nil {
		return nil
	}
	return text
}

// Where there is no room or nothing to save, nothing is left that looks like a backup.
func TestBackupsThatFail(t *testing.T) {
	data, _ := office(t)
	dir := t.TempDir()
	ended, end := context.WithCancel(t.Context())
	end()
	for what, make := range map[string]func() error{
		"no records":   func() error { _, err := Make(t.Context(), dir, filepath.Join(dir, "b"), ""); return err },
		"no directory": func() error { _, err := Make(t.Context(), data, filepath.Join(dir, "none", "b"), ""); return err },
		"stopped":      func() error { _, err := Make(ended, data, filepath.Join(dir, "b"), ""); return err },
	} {
		if err := make(); err == nil {
			t.Errorf("%s: no error", what)
		}
		if left, _ := os.ReadDir(dir); len(left) > 0 {
			t.Errorf("%s: left behind: %v", what, left)
		}
	}
}
