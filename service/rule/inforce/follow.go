package inforce

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"time"

	"github.com/fsnotify/fsnotify"

	"ostiarius/core/activity"
	"ostiarius/core/document"
	"ostiarius/core/policy"
	"ostiarius/core/prove"
	"ostiarius/store"
)

// The file is followed by looking at it: every few seconds whatever happens, and soon after the
// system has told of a change. What the system does not tell, such as of a directory that is
// swapped by a link, of a file mounted over another, or after too many changes, is seen at the
// next look.
const (
	lookEvery  = 2 * time.Second
	checkAgain = 30 * time.Second // a faulty text, since what it names may be there by now
)

// Pending says that the text of the policy file is not the one in force.
type Pending struct {
	Since time.Time // when that was first seen
	Why   string    // in a sentence
	// Stuck says that it does not come into force by itself in a moment.
	Stuck bool
}

// Pending returns why the file is not in force, nil if it is.
func (p *Policy) Pending() *Pending { return p.pending.Load() }

// found is what was found of a text that is not in force.
type found struct {
	at       time.Time
	book     *policy.Book // nil for a faulty one
	findings []document.Finding
	opens    bool
	told     bool
	failed   string // why it could not be brought into force
}

// Follow takes what is saved in the policy file, once it is whole and free of errors, until ctx
// ends. A faulty text is reported, and what is in force stays.
func (p *Policy) Follow(ctx context.Context) {
	f := &following{Policy: p}
	defer f.eye.close()
	events, errs := make(<-chan fsnotify.Event), make(<-chan error)
	var watcher *fsnotify.Watcher
	defer func() {
		if watcher != nil {
			watcher.Close()
		}
	}()
	complained := false
	watch := func() {
		var err error
		if watcher == nil {
			if watcher, err = fsnotify.NewWatcher(); err == nil {
				events, errs = watcher.Events, watcher.Errors
			}
		}
		if err == nil {
			// The directory, since many editors replace the file; again and again, since it may be
			// another one by now.
			err = watcher.Add(filepath.Dir(p.file))
		}
		if err != nil && !complained {
			complained = true
			p.log.Warn("the system doesn't report changes of the policy file; it is checked every few seconds", "error", err)
		}
	}
	watch()
	regular := time.NewTicker(lookEvery)
	defer regular.Stop()
	next := time.NewTimer(0) // what has changed before somebody watched
	defer next.Stop()
	waiting := true // next is running: later events do not put it off
	soonest := func(d time.Duration) {
		if !waiting {
			waiting = true
			next.Reset(d)
		}
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-events:
			soonest(soon / 5)
		case err := <-errs: // such as that there were too many events
			p.log.Debug("watching the policy file", "error", err)
			soonest(0)
		case <-regular.C:
			watch()
			soonest(0)
		case <-next.C:
			waiting = false
			if again := f.look(ctx, time.Now()); again > 0 {
				soonest(again)
			}
		}
	}
}

// following is what is known of the file from one look to the next.
type following struct {
	*Policy
	eye    lookout
	state  settling
	before fs.FileInfo
}

// look looks at the file and takes it if it is due. It returns after how long the next look is
// worth while, 0 for the usual time.
func (f *following) look(ctx context.Context, now time.Time) time.Duration {
	p := f.Policy
	p.applying.Lock()
	defer p.applying.Unlock()
	text, by, info, err := p.readWith(&f.eye)
	if err != nil {
		f.cannotBeRead(err, now)
		return 0
	}
	changed := f.before == nil || !os.SameFile(info, f.before) || info.Size() != f.before.Size() || !info.ModTime().Equal(f.before.ModTime())
	f.before = info
	s := &f.state
	if !s.look(text, p.text, now) {
		p.pending.Store(nil)
		p.rejected.Store(nil)
		return 0
	}
	if changed && by != over {
		s.touched(now)
	}
	say := func(why string, stuck bool) {
		if stuck || p.unfit == nil || !bytes.Equal(text, p.unfit) { // which is known to be faulty
			p.pending.Store(&Pending{s.first, why, stuck})
		}
	}
	if !s.mayLook(now, by, p.quiet) {
		say("it has just been written", false)
		return soon
	}
	if s.found == nil || s.found.book == nil && now.Sub(s.found.at) >= checkAgain {
		told := s.found != nil && s.found.told
		s.found = &found{at: now, told: told}
		if s.found.book, s.found.findings = p.Check(text); s.found.book != nil {
			s.found.opens, s.found.told = opens(p.Book(), s.found.book), false
		}
	}
	opening := s.found.book != nil && s.found.opens
	if opening && !s.found.told {
		s.found.told = true
		p.log.Info("the policy file has changed and opens something; it is applied once it has been unchanged for some time", "quiet", p.quiet)
	}
	switch {
	case !s.isDue(now, by, p.quiet, p.text, opening):
		switch {
		case by == under:
			say("a program has it open and may still be writing it", now.Sub(s.first) >= 10*p.quiet)
		case opening:
			say("it opens something, and is applied once it has been unchanged for "+p.quiet.String(), now.Sub(s.first) >= 20*p.quiet)
		default:
			say("it has just been written", false)
		}
		return max(soon, p.quiet/10)
	case s.found.book == nil:
		say("it has errors", true)
		f.reject(s.found)
		return 0
	}
	comment := "saved in the policy file"
	if opening {
		comment += "; opens something"
	}
	if _, err := p.enforce(ctx, "file", comment, text, s.found.book); err != nil {
		if s.found.failed != err.Error() {
			s.found.failed = err.Error()
			p.log.Error("the new version of the policy file could not be applied; Ostiarius keeps trying", "error", err)
		}
		say("it could not be applied, and Ostiarius keeps trying: "+err.Error(), true)
		return 0
	}
	f.state = settling{}
	return 0
}

func (f *following) reject(of *found) {
	f.rejected.Store(&of.findings)
	if of.told {
		return
	}
	of.told = true
	for _, finding := range of.findings {
		if finding.Severity == document.SeverityError {
			if finding.Rule == "guarantee-broken" {
				f.recordBroken(finding)
			}
			f.log.Error("the policy file has an error; the previous version stays active", "file", finding.File, "line", finding.Line,
				"column", finding.Column, "message", finding.Message)
		}
	}
}

// recordBroken has recorded that the file would break a guarantee.
func (f *following) recordBroken(of document.Finding) {
	e := store.Activity{
		At: time.Now(), Kind: activity.GuaranteeBroken, AccountID: store.NoAccount, Actor: "file",
		Detail: fmt.Sprintf("line %d: %s", of.Line, of.Message),
	}
	if err := f.store.Record(context.Background(), e); err != nil {
		f.log.Error("a broken guarantee could not be recorded", "error", err)
	}
}

func (f *following) cannotBeRead(err error, now time.Time) {
	if f.before != nil || f.state.first.IsZero() {
		f.log.Error("the policy file can't be read; the active policy stays", "error", err)
		f.state, f.before = settling{first: now}, nil
	}
	findings := []document.Finding{unreadable(f.file, err)}
	f.rejected.Store(&findings)
	f.pending.Store(&Pending{f.state.first, "it can't be read: " + reason(err), true})
}

func reason(err error) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err.Error()
	}
	return err.Error()
}

// opens reports whether a policy lets anybody in whom the one before did not, or may show other
// things in the same place.
func opens(before, after *policy.Book) bool {
	differences, err := prove.Compare(before, after)
	if err != nil || slices.ContainsFunc(differences, func(d prove.Difference) bool { return d.Effect == "opened" }) {
		return true
	}
	return !slices.EqualFunc(before.Sources, after.Sources, func(a, b policy.Source) bool {
		a.Position, b.Position = document.Position{}, document.Position{}
		return reflect.DeepEqual(a, b)
	})
}
