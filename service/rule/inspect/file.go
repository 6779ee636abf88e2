package inspect

import (
	"io"
	"os"

	"ostiarius/core/document"
)

// ReadFile reads a policy file, but little more than a policy may have: enough to notice
// that it is too large.
func ReadFile(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return ReadAll(f)
}

// ReadAll reads an open policy file like ReadFile.
func ReadAll(f *os.File) ([]byte, error) { return io.ReadAll(io.LimitReader(f, document.MaxSize+1)) }
