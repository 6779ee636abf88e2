package inforce

import (
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ostiarius/core/policy"
	"ostiarius/service/rule/replace"
	"ostiarius/store"
	"ostiarius/store/fresh"
)

const quiet = 3 * time.Second

// A house is a policy file that is followed, with a clock of its own.
type house struct {
	*Policy
	*following
	t     *testing.T
	clock time.Time
}

func (h *house) look() {
	h.t.Helper()
	h.following.look(h.t.Context(), h.clock)
}

// passes lets time pass, with looks as often as there would be.
func (h *house) passes(d time.Duration) {
	for end := h.clock.Add(d); h.clock.Before(end); {
		h.clock = h.clock.Add(min(soon, end.Sub(h.clock)))
		h.look()
	}
}

func (h *house) admits(path string) bool {
	return h.Book().Decide(policy.Request{Method: "GET", Path: path}, &policy.Visitor{}).Outcome == policy.Admit
}

func keep(t *testing.T, text string) (*store.Store, Options) {
	t.Helper()
	dir := t.TempDir()
	// Disks take their time for a file that is written again and again.
	if memory, err := os.MkdirTemp("/dev/shm", "doors"); err == nil {
		t.Cleanup(func() { os.RemoveAll(memory) })
		dir = memory
	}
	records := fresh.Records(t, dir)
	o := Options{
		File: filepath.Join(dir, "doors.yaml"), Store: records, Missing: http.NotFoundHandler(), Log: slog.New(slog.DiscardHandler),
		Quiet: quiet, Copy: filepath.Join(dir, "copy"),
	}
	put(t, o.File, text)
	past := time.Now().Add(-time.Hour)
	if err := errors.Join(os.Chtimes(o.File, past, past), os.Mkdir(filepath.Join(dir, "site"), 0o755)); err != nil {
		t.Fatal(err)
	}
	return records, o
}

func follow(t *testing.T, o Options) *house {
	t.Helper()
	p, err := Open(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	h := &house{Policy: p, following: &following{Policy: p}, t: t, clock: time.Now()}
	t.Cleanup(h.eye.close)
	h.look()
	return h
}

func put(t *testing.T, file, text string) {
	t.Helper()
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

const (
	closed = "doors:\n  - { path: /**, admit: nobody }\n"
	open   = "doors:\n  - { path: /**, admit: public }\n"
)

// policies are made up, each with a site that is open but for some places.
func policies(n int) (all []string) {
	random := rand.New(rand.NewPCG(13, 13))
	for range n {
		doors := []string{
			"  - { path: /**, admit: public }\n",
			"  - path: /keepers/**\n    admit: { role: keeper }\n",
			"  # minutes and money\n  - { path: [ /trust/**, /accounts/** ], admit: { role: trustee } }\n",
			"  - path: /office/**\n    admit:\n      any:\n        - { role: keeper }\n        - { role: trustee }\n",
			fmt.Sprintf("  - { path: /log/%d/**, admit: signed-in }\n", random.IntN(100)),
		}
		random.Shuffle(len(doors), func(i, j int) { doors[i], doors[j] = doors[j], doors[i] })
		head := "site: The lighthouse\nroles: { keeper: , trustee: }\nsources: [ { path: /, files: ./site } ]\n"
		if random.IntN(2) == 0 {
			head = "# Who may go where.\n" + head + "unlisted: public\n"
		}
		all = append(all, head+"doors:\n"+strings.Join(doors, ""))
	}
	return all
}

// Every beginning of twenty policies, written in pieces at random times: whatever is in force
// meanwhile, it opens nothing that was closed before and is closed in the end.
func TestBeginningsOpenNothing(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	looks, taken := 0, 0
	most := 7
	if os.Getenv("ORACLE") == "long" {
		most = 20
	}
	for n, text := range policies(most) {
		_, o := keep(t, policies(21)[20-n%3])
		h := follow(t, o)
		never := func(what string) {
			t.Helper()
			looks++
			for _, path := range []string{"/keepers/rota", "/trust/minutes", "/accounts/", "/office/"} {
				if h.admits(path) {
					t.Fatalf("policy %d, %s: %s is open", n, what, path)
				}
			}
		}
		before := h.Version()
		for at := range len(text) {
			inPlace := at%2 == 0
			var f *os.File
			var err error
			if inPlace { // one program, which has it open all the while and takes any time
				f, err = os.OpenFile(o.File, os.O_WRONLY|os.O_TRUNC, 0)
			} else {
				put(t, o.File, text[:at])
				f, err = os.OpenFile(o.File, os.O_WRONLY|os.O_APPEND, 0)
			}
			if err != nil {
				t.Fatal(err)
			}
			rest := text[at:]
			if inPlace {
				f.WriteString(text[:at])
			} else { // several programs, one after the other
				f.Close()
			}
			pause := time.Duration(random.Int64N(int64(quiet) - int64(2*soon)))
			if inPlace {
				pause = time.Duration(random.Int64N(int64(5 * quiet)))
			}
			for range 3 {
				h.passes(pause / 3)
				never(fmt.Sprintf("after %d bytes, in place %v", at, inPlace))
			}
			if !inPlace {
				f, _ = os.OpenFile(o.File, os.O_WRONLY|os.O_APPEND, 0)
			}
			f.WriteString(rest)
			f.Close()
			h.passes(soon / 2)
			never("written")
		}
		h.passes(3 * quiet)
		never("in the end")
		if !h.admits("/about") || h.Pending() != nil || string(h.text) != text {
			t.Errorf("policy %d is not in force in the end: %v", n, h.Pending())
		}
		taken += int(h.Version() - before)
	}
	if looks < 10_000 || taken < most {
		t.Errorf("%d looks, %d versions", looks, taken)
	}
	t.Log(looks, taken)
}

// What closes is in force soon, what opens when it has stood for a while; who saves all the time
// delays neither for good.
func TestWhenATextIsTaken(t *testing.T) {
	_, o := keep(t, open)
	h := follow(t, o)
	put(t, o.File, closed)
	h.passes(2 * soon)
	if h.admits("/") {
		t.Error("closing waits")
	}
	put(t, o.File, open)
	h.passes(quiet - soon)
	if h.admits("/") || h.Pending() == nil || h.Pending().Stuck || !strings.Contains(h.Pending().Why, "opens something") {
		t.Errorf("opening does not wait: %v", h.Pending())
	}
	h.passes(2 * soon)
	if !h.admits("/") || h.Pending() != nil {
		t.Errorf("opening waits for ever: %v", h.Pending())
	}
	if v, err := h.Past(t.Context(), h.Version()); err != nil || !strings.Contains(v.Comment, "opens something") {
		t.Errorf("%v %v", v.Comment, err)
	}

	saves := func(text string, within time.Duration) bool {
		for i := range int(within / (soon / 5)) {
			put(t, o.File, fmt.Sprintf("# %d\n%s", i, text))
			h.passes(soon / 5)
			if h.admits("/") == (text == open) {
				return true
			}
		}
		return false
	}
	if !saves(closed, 2*quiet) {
		t.Error("fifty saves a second keep the site open")
	}
	h.passes(2 * quiet)
	if !saves(open, 12*quiet) {
		t.Error("fifty saves a second keep the site closed")
	}

	// One that only has the file open delays what opens, for good, and what closes a little.
	h.passes(2 * quiet)
	f, err := os.OpenFile(o.File, os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		t.Fatal(err)
	}
	put(t, o.File, closed)
	h.passes(quiet + 2*soon)
	if h.admits("/") {
		t.Error("who has the file open keeps the site open")
	}
	put(t, o.File, open)
	h.passes(50 * quiet)
	if h.admits("/") || h.Pending() == nil || !h.Pending().Stuck || !strings.Contains(h.Pending().Why, "a program has it open") {
		t.Errorf("who has the file open may still write, and it is taken: %v", h.Pending())
	}
	f.Close()
	h.passes(2 * soon)
	if !h.admits("/") {
		t.Error("it is not taken when it is whole")
	}

	put(t, o.File, "doors: [\n")
	h.passes(2 * soon)
	if len(h.Rejected()) == 0 || !h.Pending().Stuck || !h.admits("/") {
		t.Errorf("a faulty text: %v %v", h.Rejected(), h.Pending())
	}
	put(t, o.File, open)
	h.passes(soon)
	if len(h.Rejected()) > 0 || h.Pending() != nil {
		t.Errorf("what is in force again: %v %v", h.Rejected(), h.Pending())
	}
}

// Where the system does not tell whether somebody writes, what opens waits twice as long.
func TestWhereWritersAreUnknown(t *testing.T) {
	now := time.Now()
	s := settling{}
	s.look([]byte(open), []byte(closed), now)
	for _, c := range []struct {
		after time.Duration
		state writing
		opens bool
		due   bool
	}{
		{soon, over, false, true}, {soon, unknown, false, false}, {soon, under, false, false}, {quiet, under, false, true},
		{quiet, unknown, false, false}, {2 * quiet, unknown, false, true},
		{quiet, over, true, true}, {quiet - 1, over, true, false}, {quiet, unknown, true, false}, {2 * quiet, unknown, true, true},
		{100 * quiet, under, true, false},
	} {
		if due := s.isDue(now.Add(c.after), c.state, quiet, []byte(closed), c.opens); due != c.due {
			t.Errorf("%+v: %v", c, due)
		}
	}
	beginning := settling{}
	beginning.look([]byte(closed[:10]), []byte(closed), now)
	if beginning.isDue(now.Add(soon), over, quiet, []byte(closed), false) ||
		beginning.isDue(now.Add(2*soon), over, quiet, []byte("x"), false) {
		t.Error("a beginning is taken at once")
	}
}

// Whatever way the file comes to be another one, it is noticed without being told.
func TestWaysToChangeTheFile(t *testing.T) {
	for name, change := range map[string]func(t *testing.T, file string) error{
		"in place": func(t *testing.T, file string) error { return os.WriteFile(file, []byte(closed), 0o644) },
		"renamed over": func(t *testing.T, file string) error {
			put(t, file+".new", closed)
			return os.Rename(file+".new", file)
		},
		"removed and made again": func(t *testing.T, file string) error {
			return errors.Join(os.Remove(file), os.WriteFile(file, []byte(closed), 0o644))
		},
		"by another name of the same file": func(t *testing.T, file string) error {
			return errors.Join(os.Link(file, file+".too"), os.WriteFile(file+".too", []byte(closed), 0o644))
		},
		"a directory replaced": func(t *testing.T, file string) error {
			dir := filepath.Dir(file)
			return errors.Join(os.Rename(dir, dir+"-before"), os.Mkdir(dir, 0o755), os.WriteFile(file, []byte(closed), 0o644))
		},
		"with the same length and time": func(t *testing.T, file string) error {
			info, err := os.Stat(file)
			if err != nil {
				return err
			}
			return errors.Join(os.WriteFile(file, []byte(closed), 0o644), os.Chtimes(file, info.ModTime(), info.ModTime()))
		},
	} {
		t.Run(name, func(t *testing.T) {
			_, o := keep(t, open)
			deep := filepath.Join(filepath.Dir(o.File), "conf")
			if err := errors.Join(os.Mkdir(deep, 0o755), os.Rename(o.File, filepath.Join(deep, "doors.yaml"))); err != nil {
				t.Fatal(err)
			}
			o.File = filepath.Join(deep, "doors.yaml")
			h := follow(t, o)
			if err := change(t, o.File); err != nil {
				t.Fatal(err)
			}
			h.passes(quiet)
			if h.admits("/") {
				t.Error("the file says closed and the site is open")
			}
		})
	}
	t.Run("by links", func(t *testing.T) {
		_, o := keep(t, open)
		dir := filepath.Dir(o.File)
		for _, version := range []string{"one", "two"} {
			if err := os.Mkdir(filepath.Join(dir, version), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		put(t, filepath.Join(dir, "one/doors.yaml"), open)
		put(t, filepath.Join(dir, "two/doors.yaml"), closed)
		if err := errors.Join(os.Remove(o.File), os.Symlink("one", filepath.Join(dir, "..data")),
			os.Symlink("..data/doors.yaml", o.File)); err != nil {
			t.Fatal(err)
		}
		o.Quiet = time.Millisecond // at the start
		h := follow(t, o)
		if err := errors.Join(os.Symlink("two", filepath.Join(dir, "next")),
			os.Rename(filepath.Join(dir, "next"), filepath.Join(dir, "..data"))); err != nil {
			t.Fatal(err)
		}
		h.passes(quiet)
		if h.admits("/") {
			t.Error("the link leads to a closed site, and it is open")
		}
	})
	t.Run("gone and back", func(t *testing.T) {
		_, o := keep(t, open)
		h := follow(t, o)
		if err := os.Rename(o.File, o.File+".away"); err != nil {
			t.Fatal(err)
		}
		h.passes(quiet)
		if p := h.Pending(); p == nil || !p.Stuck || !strings.Contains(p.Why, "can't be read") || len(h.Rejected()) != 1 || !h.admits("/") {
			t.Errorf("a file that is gone: %v", p)
		}
		put(t, o.File+".away", closed)
		if err := os.Rename(o.File+".away", o.File); err != nil {
			t.Fatal(err)
		}
		h.passes(quiet)
		if h.admits("/") || h.Pending() != nil || len(h.Rejected()) > 0 {
			t.Errorf("a file that is back: %v", h.Pending())
		}
	})
}

// A version that cannot be recorded is tried again until it is in force.
func TestAVersionThatMeetsAFailure(t *testing.T) {
	records, o := keep(t, open)
	h := follow(t, o)
	if err := records.Close(); err != nil {
		t.Fatal(err)
	}
	put(t, o.File, closed)
	h.passes(10 * quiet)
	p := h.Pending()
	if p == nil || !p.Stuck || !strings.Contains(p.Why, "keeps trying") || h.clock.Sub(p.Since) < 9*quiet {
		t.Fatalf("%+v", p)
	}
	again, err := store.Open(filepath.Join(filepath.Dir(o.File), store.FileName))
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	h.Policy.store = again
	h.passes(soon)
	if h.admits("/") || h.Pending() != nil {
		t.Errorf("it is not tried again: %+v", h.Pending())
	}
}

// At the start, a file that is being written is not taken; what was in force before is.
func TestStartWhileTheFileIsWritten(t *testing.T) {
	_, o := keep(t, closed)
	follow(t, o)
	put(t, o.File, open)
	h := follow(t, o)
	if h.admits("/") {
		t.Error("a file that was written just now opens the site at the start")
	}
	h.passes(quiet + soon)
	if !h.admits("/") {
		t.Error("and is not taken later")
	}

	// If what was in force cannot be any more, the new text is waited for.
	moved := func(admit, files string) string {
		return strings.Replace(admit, "doors:", "sources: [{path: /, files: ./"+files+"}]\ndoors:", 1)
	}
	_, o = keep(t, moved(closed, "site"))
	o.Quiet = 200 * time.Millisecond
	follow(t, o)
	dir := filepath.Dir(o.File)
	if err := os.Rename(filepath.Join(dir, "site"), filepath.Join(dir, "pages")); err != nil {
		t.Fatal(err)
	}
	put(t, o.File, moved(open, "pages"))
	if h := follow(t, o); !h.admits("/") || h.Version() != 2 {
		t.Errorf("version %d", h.Version())
	}

	_, o = keep(t, open)
	f, err := os.OpenFile(o.File, os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, err := Open(t.Context(), o); err == nil || !strings.Contains(err.Error(), "open for writing") {
		t.Errorf("the first start with half a file: %v", err)
	}
}

// An edit that nobody has seen is not written over; nothing is left beside the file.
func TestApplyAndEdit(t *testing.T) {
	_, o := keep(t, open)
	h := follow(t, o)
	const edit = "# hers\n" + open
	put(t, o.File, edit)
	var edited *Edited
	_, err := h.Apply(t.Context(), "test", Draft{Text: []byte(closed)})
	if !errors.As(err, &edited) || edited.Line != 1 || !h.admits("/") {
		t.Fatalf("%v", err)
	}
	if _, err = h.Rollback(t.Context(), "test", "", 1, false); !errors.As(err, &edited) {
		t.Errorf("a rollback writes over an edit: %v", err)
	}
	if text, err := os.ReadFile(o.File); err != nil || string(text) != edit {
		t.Fatalf("%q %v", text, err)
	}
	if _, err := h.Apply(t.Context(), "test", Draft{Text: []byte(edit)}); err != nil {
		t.Errorf("what stands in the file: %v", err)
	}
	put(t, o.File, "doors: [")
	if _, err := h.Apply(t.Context(), "test", Draft{Text: []byte(closed), Over: true}); err != nil || h.admits("/") {
		t.Errorf("over an edit that is known: %v", err)
	}
	h.passes(3 * quiet)
	if text, err := os.ReadFile(o.File); err != nil || string(text) != closed || h.Pending() != nil {
		t.Fatalf("%q %v", text, err)
	}
	left, err := filepath.Glob(filepath.Join(filepath.Dir(o.File), ".*"))
	if err != nil || len(left) > 0 {
		t.Errorf("%v are left, %v", left, err)
	}
	// Who has it open would go on to write where nobody looks.
	f, err := os.OpenFile(o.File, os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.Apply(t.Context(), "test", Draft{Text: []byte(open)}); !errors.Is(err, replace.ErrBeingWritten) {
		t.Errorf("while somebody writes: %v", err)
	}
	f.Close()
	// Between the last look and the change.
	if err := replace.Write(o.File+".new", []byte(open), nil); err != nil {
		t.Fatal(err)
	}
	if err := replace.Exchange(o.File+".new", o.File, []byte("something else")); !errors.Is(err, replace.ErrBeingWritten) {
		t.Errorf("%v", err)
	}
	if text, _ := os.ReadFile(o.File); string(text) != closed {
		t.Errorf("%q", text)
	}
}

// A service that was killed while it wrote the file in place puts the text before back.
func TestKilledWhileWritingInPlace(t *testing.T) {
	_, o := keep(t, open+closed[:9])
	put(t, o.Copy, closed)
	h := follow(t, o)
	if text, err := os.ReadFile(o.File); err != nil || string(text) != closed || h.admits("/") {
		t.Errorf("%q %v", text, err)
	}
	if _, err := os.Stat(o.Copy); !errors.Is(err, os.ErrNotExist) {
		t.Error("the copy is left")
	}
	before, err := h.replace([]byte(open), false)
	if err != nil || string(before) != closed {
		t.Fatal(err)
	}
	if err := h.writeInPlace(o.File, []byte(closed), []byte(open)); err != nil {
		t.Fatal(err)
	}
	if text, _ := os.ReadFile(o.File); string(text) != closed {
		t.Errorf("%q", text)
	}
	if _, err := os.Stat(o.Copy); !errors.Is(err, os.ErrNotExist) {
		t.Error("the copy is left")
	}
}

// Old versions are forgotten by number and size, but never the newest twenty.
func TestVersionsAreTrimmed(t *testing.T) {
	for _, c := range []struct {
		keep Kept
		left int
	}{{Kept{}, 30}, {Kept{Versions: 25}, 25}, {Kept{Versions: 3}, 20}, {Kept{Bytes: 1}, 20},
		{Kept{Bytes: int64(len(open)+len("# 10\n")) * 22}, 22}} {
		_, o := keep(t, "# 00\n"+open)
		o.Keep = c.keep
		h := follow(t, o)
		for i := 1; i < 30; i++ {
			if _, err := h.Apply(t.Context(), "test", Draft{Text: fmt.Appendf(nil, "# %02d\n%s", i, open)}); err != nil {
				t.Fatal(err)
			}
		}
		all, err := h.Versions(t.Context())
		if err != nil || len(all) != c.left || all[0].ID != 30 {
			t.Errorf("%+v: %d versions are left, %v", c.keep, len(all), err)
		}
	}
}
