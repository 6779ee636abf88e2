package inforce

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"ostiarius/core/document"
	"ostiarius/service/rule/inspect"
	"ostiarius/service/rule/replace"
)

// readWith returns the text of the policy file, and what can be told of who writes it.
func (p *Policy) readWith(eye *lookout) (text []byte, by writing, info fs.FileInfo, err error) {
	f, err := os.Open(p.file)
	if err != nil {
		return nil, unknown, nil, err
	}
	defer f.Close()
	text, by, err = eye.read(f, func() ([]byte, error) { return inspect.ReadAll(f) })
	if err == nil {
		info, err = f.Stat()
	}
	return text, by, info, err
}

// How long the start waits for a program that has the file open for writing.
const waitForWriter = 2 * time.Second

// readSettled returns the text of the file at the start, and whether it can be taken for whole: not
// if somebody is writing it, or, where a version is recorded, has just written it.
func (p *Policy) readSettled(recorded bool) (text []byte, settled bool, err error) {
	var eye lookout
	defer eye.close()
	for began := time.Now(); ; time.Sleep(soon) {
		text, by, info, err := p.readWith(&eye)
		if err != nil || by != under || time.Since(began) >= waitForWriter {
			return text, err == nil && by != under && (!recorded || time.Since(info.ModTime()) >= p.quiet), err
		}
	}
}

func unreadable(file string, err error) document.Finding {
	return document.Finding{
		Severity: document.SeverityError, Rule: "no-file", Message: "the policy file can't be read: " + err.Error(),
		File: file, Line: 1, Column: 1,
	}
}

// An Edited is the error for a policy that would be written over an edit of the file that is not
// in force, and so was perhaps seen by nobody who applies another.
type Edited struct {
	Line int // from which on the file differs from what is in force, counted from 1
}

func (e *Edited) Error() string {
	return fmt.Sprintf("the policy file has an edit, starting at line %d, that isn't active; nothing was changed. Check the "+
		"file, then include the edit or overwrite it", e.Line)
}

// edited returns an *Edited if the file holds something else than what is in force or is to be.
func (p *Policy) edited(now, next []byte) error {
	if bytes.Equal(now, p.text) || bytes.Equal(now, next) {
		return nil
	}
	same := 0
	for same < len(now) && same < len(p.text) && now[same] == p.text[same] {
		same++
	}
	return &Edited{1 + bytes.Count(now[:same], []byte("\n"))}
}

// replace writes the policy file so that it is never seen half written, and returns what was in it;
// nil if there was none. Unless over is set, an edit that is not in force is not written over.
//
// A file that cannot be replaced, such as one that is mounted by itself, is written in place, with
// a copy of the text before kept until it is whole.
func (p *Policy) replace(text []byte, over bool) (before []byte, err error) {
	var eye lookout
	defer eye.close()
	before, by, _, err := p.readWith(&eye)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		before = nil
	case err != nil:
		return nil, err
	case by == under && !over:
		return nil, replace.ErrBeingWritten // an editor that goes on would write into a file that has no name any more
	case !over:
		if err := p.edited(before, text); err != nil {
			return nil, err
		}
	}
	// Next to the file itself, also where that is a link.
	path := p.file
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	old, err := os.Stat(path)
	if err != nil {
		old = nil
	}
	next := replace.Beside(path)
	err = replace.Write(next, text, old)
	if err == nil {
		err = replace.Exchange(next, path, before)
	}
	if err != nil {
		os.Remove(next)
	}
	var edited *Edited
	switch {
	case err == nil:
		return before, nil
	case errors.Is(err, replace.ErrBeingWritten):
		now, unread := inspect.ReadFile(p.file)
		if unread == nil && errors.As(p.edited(now, text), &edited) {
			return nil, edited
		}
		return nil, errors.Join(err, unread)
	case old == nil || p.copy == "" || errors.Is(err, replace.NoSpace):
		return nil, err
	}
	if inPlace := p.writeInPlace(path, text, before); inPlace != nil {
		return nil, fmt.Errorf("%w; it can't be written in place, either: %w", err, inPlace)
	}
	return before, nil
}

func (p *Policy) writeInPlace(path string, text, before []byte) error {
	if now, err := inspect.ReadFile(path); err != nil || !bytes.Equal(now, before) {
		return errors.Join(err, replace.ErrBeingWritten)
	}
	// A file that may not be written is found out before there is a copy, which says that it is half written.
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := replace.Write(p.copy, before, nil); err != nil {
		return fmt.Errorf("a copy of it can't be kept: %w", err)
	}
	if err := overwrite(f, text); err != nil {
		return errors.Join(err, overwrite(f, before)) // the copy stays if that fails too: see mend
	}
	return os.Remove(p.copy)
}

func overwrite(f *os.File, text []byte) error {
	_, err := f.WriteAt(text, 0)
	if err == nil {
		err = f.Truncate(int64(len(text)))
	}
	return errors.Join(err, f.Sync())
}

// mend puts back the text before if this service was killed while it wrote the file in place.
func (p *Policy) mend() error {
	before, err := inspect.ReadFile(p.copy)
	if p.copy == "" || errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if now, unread := inspect.ReadFile(p.file); err == nil && unread == nil && bytes.Equal(now, before) {
		return os.Remove(p.copy) // not a byte was written
	}
	var f *os.File
	if err == nil {
		f, err = os.OpenFile(p.file, os.O_WRONLY, 0)
	}
	if err == nil {
		err = errors.Join(overwrite(f, before), f.Close())
	}
	if err != nil {
		return fmt.Errorf("the policy file may be incomplete, and the previous text, which is in %s, can't be restored: %w", p.copy, err)
	}
	p.log.Warn("the policy file was not written completely when the service ended; the previous text was restored")
	return os.Remove(p.copy)
}
