//go:build !linux

package source

import (
	"errors"
	"os"
)

// A directory opens files in it, and nothing outside of it.
type directory struct{ root *os.Root }

func openDirectory(path string) (*directory, error) {
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	return &directory{root}, nil
}

// open opens a file for reading. A named pipe is not waited for.
func (d *directory) open(name string) (*opened, error) { return openIn(d.root, name) }

// mark is of no use where nothing is kept.
func (d *directory) mark(name string) (mark, error) { return mark{}, errors.ErrUnsupported }

func (d *directory) same(name string, m mark) bool { return false }

func (d *directory) Close() error { return d.root.Close() }
