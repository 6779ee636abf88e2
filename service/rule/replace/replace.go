// Package replace puts a text in the place of a file's, so that nobody ever sees it half written, and nothing
// that somebody else has saved meanwhile is lost.
package replace

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"ostiarius/service/rule/inspect"
)

// ErrBeingWritten says that somebody writes the file just now, or has between the last look at it and its
// replacement.
var ErrBeingWritten = errors.New("another program writes the policy file just now; nothing was changed. Try again when it is done")

// File replaces the text of a file, if it still has the text before. A link stays one: what it leads to
// is replaced. The error is ErrBeingWritten, or says that the file cannot be written; then it stays.
func File(path string, before, text []byte) error {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	if now, err := inspect.ReadFile(path); err != nil || !bytes.Equal(now, before) {
		return errors.Join(err, ErrBeingWritten)
	}
	like, err := os.Stat(path)
	if err != nil {
		return err
	}
	next := Beside(path)
	if err = Write(next, text, like); err == nil {
		err = Exchange(next, path, before)
	}
	if err != nil {
		os.Remove(next)
	}
	return err
}

// Beside is the name of the file that is to take the place of another.
func Beside(path string) string {
	return filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".new")
}

// Write makes a file that nobody has, with the mode and owner of another one, if there is one.
func Write(path string, text []byte, like fs.FileInfo) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) { // left over from a process that was killed
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	mode := os.FileMode(0o644)
	if like != nil {
		mode = like.Mode().Perm()
		own(f, like)
	}
	_, err = f.Write(text)
	return errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
}
