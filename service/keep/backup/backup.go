// Package backup saves the records in one file, and restores them from it.
package backup

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"time"

	"ostiarius/core/activity"
	"ostiarius/service/keep/premises"
	"ostiarius/store"
)

// A backup is a tar file, compressed with gzip, of two files: what is in it, and the records.
const (
	manifestName = "manifest.json"
	recordsName  = "records.db"
	format       = 1
	maxManifest  = 1 << 20
)

// A Manifest says what is in a backup.
type Manifest struct {
	Format  int            `json:"format"`
	Made    time.Time      `json:"made"`
	Version string         `json:"version"` // of Ostiarius
	Counts  map[string]int `json:"counts"`  // of records, by the words for them
	Size    int64          `json:"size"`    // of the records, in bytes
	SHA256  string         `json:"sha256"`  // of the records, in hexadecimal digits
}

// Make saves the records of a data directory, of a service that runs or of none, in a new file that only this user can
// read, and reads it back. What is written meanwhile is in it or not, but nothing by half.
func Make(ctx context.Context, data, file, version string) (m Manifest, err error) {
	taken := fmt.Errorf("%s is there already; nothing was written over it: give another name", file)
	if _, err := os.Lstat(file); err == nil {
		return m, taken
	}
	records, err := store.OpenToRead(store.FileIn(data))
	if err != nil {
		return m, fmt.Errorf("there is nothing to save in %s: %w", data, err)
	}
	defer records.Close()
	desk, err := os.MkdirTemp(filepath.Dir(file), ".backup-") // where there must be room
	if err != nil {
		return m, err
	}
	defer os.RemoveAll(desk)
	snapshot := filepath.Join(desk, recordsName)
	if err := records.Snapshot(ctx, snapshot); err != nil {
		return m, err
	}
	m = Manifest{Format: format, Made: time.Now().UTC().Truncate(time.Second), Version: version}
	if m.Counts, err = inspect(ctx, snapshot); err != nil {
		return m, err
	}
	if m.Size, m.SHA256, err = digest(snapshot); err != nil {
		return m, err
	}
	packed := filepath.Join(desk, "packed")
	if err := pack(packed, snapshot, m); err != nil {
		return m, err
	}
	again := filepath.Join(desk, "again.db")
	if _, err := unpack(ctx, packed, again); err != nil {
		return m, fmt.Errorf("what was written cannot be read back: %w", err)
	}
	if err = place(packed, file); errors.Is(err, fs.ErrExist) {
		err = taken
	}
	return m, err
}

// place gives a finished file its name, unless another has it by now.
func place(from, to string) error {
	err := os.Link(from, to)
	if err != nil && !errors.Is(err, fs.ErrExist) { // a file system without links
		if _, err = os.Lstat(to); err == nil {
			return fs.ErrExist
		}
		err = os.Rename(from, to)
	}
	return errors.Join(err, syncDirectory(filepath.Dir(to)))
}

func syncDirectory(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// inspect reads all records of a file, and counts them.
func inspect(ctx context.Context, path string) (map[string]int, error) {
	records, err := store.OpenToRead(path)
	if err != nil {
		return nil, err
	}
	defer records.Close()
	if err := records.CheckWhole(ctx); err != nil {
		return nil, err
	}
	return records.Census(ctx)
}

func digest(path string) (size int64, sum string, err error) {
	f, err := os.Open(path)
	if err != nil {
		return 0, "", err
	}
	defer f.Close()
	h := sha256.New()
	size, err = io.Copy(h, f)
	return size, hex.EncodeToString(h.Sum(nil)), err
}

func pack(to, snapshot string, m Manifest) (err error) {
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	in, err := os.Open(snapshot)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	zip := gzip.NewWriter(out)
	file := tar.NewWriter(zip)
	add := func(name string, size int64, from io.Reader) error {
		if err := file.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: m.Made, Typeflag: tar.TypeReg}); err != nil {
			return err
		}
		_, err := io.CopyN(file, from, size)
		return err
	}
	text = append(text, '\n')
	if err := add(manifestName, int64(len(text)), bytes.NewReader(text)); err != nil {
		return err
	}
	if err := add(recordsName, m.Size, in); err != nil {
		return err
	}
	return errors.Join(file.Close(), zip.Close(), out.Sync())
}

// errForeign says that a file is none that Make has made.
var errForeign = errors.New("this is no backup of Ostiarius")

// unpack writes the records of a backup into a new file and checks that they are those that were saved.
func unpack(ctx context.Context, file, to string) (m Manifest, err error) {
	in, err := os.Open(file)
	if err != nil {
		return m, err
	}
	defer in.Close()
	zip, err := gzip.NewReader(in)
	if err != nil {
		return m, errForeign
	}
	from := tar.NewReader(zip)
	next := func(name string) error {
		h, err := from.Next()
		if err != nil || h.Name != name || h.Typeflag != tar.TypeReg {
			return errForeign
		}
		return nil
	}
	if err := next(manifestName); err != nil {
		return m, err
	}
	if err := json.NewDecoder(io.LimitReader(from, maxManifest)).Decode(&m); err != nil || m.Format < 1 {
		return m, errForeign
	}
	if m.Format > format {
		return m, fmt.Errorf("the backup was made by a later version of Ostiarius (%s); use that one", m.Version)
	}
	if err := next(recordsName); err != nil {
		return m, err
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return m, err
	}
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(out, h), io.LimitReader(from, m.Size+1))
	if err = errors.Join(err, out.Sync(), out.Close()); err != nil {
		return m, fmt.Errorf("the backup is cut short or damaged: %w", err)
	}
	if n != m.Size || hex.EncodeToString(h.Sum(nil)) != m.SHA256 {
		return m, errors.New("the backup is damaged: its records are not those that were saved")
	}
	if _, err := io.Copy(io.Discard, io.LimitReader(zip, maxManifest)); err != nil { // the end, with its checksum
		return m, fmt.Errorf("the backup is cut short or damaged: %w", err)
	}
	counts, err := inspect(ctx, to)
	if err == nil && !maps.Equal(counts, m.Counts) {
		err = errors.New("the backup is damaged: it says of itself that it holds other records than are in it")
	}
	return m, err
}

// Options say how records are restored.
type Options struct {
	// GoesOn says that the service of which they are goes on here: sessions hold, and what waits is sent.
	GoesOn bool
	Dry    bool // only checks the backup and says what is in it
}

// Restore brings the records of a backup into a data directory that is empty or not there yet. If the error is not nil,
// nothing was left there.
func Restore(ctx context.Context, file, data string, o Options) (m Manifest, err error) {
	entries, err := os.ReadDir(data)
	made := errors.Is(err, fs.ErrNotExist)
	if err != nil && !made {
		return m, err
	}
	if len(entries) > 0 {
		return m, fmt.Errorf("%s is not empty; nothing was changed: restore into another directory, and then let the service use that", data)
	}
	if o.Dry {
		desk, err := os.MkdirTemp("", "restore-")
		if err != nil {
			return m, err
		}
		defer os.RemoveAll(desk)
		return unpack(ctx, file, filepath.Join(desk, recordsName))
	}
	if err := os.MkdirAll(data, 0o700); err != nil {
		return m, err
	}
	defer func() {
		if err == nil {
			return
		}
		for _, suffix := range []string{"", "-wal", "-shm"} {
			os.Remove(filepath.Join(data, store.FileName) + ".part" + suffix)
		}
		if made {
			os.Remove(data)
		}
	}()
	if err := premises.Check(data); err != nil {
		return m, err
	}
	if err := os.Chmod(data, 0o700); err != nil {
		return m, err
	}
	path := filepath.Join(data, store.FileName)
	part := path + ".part"
	if m, err = unpack(ctx, file, part); err != nil {
		return m, err
	}
	if err := resume(ctx, part, m, o); err != nil {
		return m, err
	}
	return m, errors.Join(os.Rename(part, path), syncDirectory(data))
}

func resume(ctx context.Context, path string, m Manifest, o Options) error {
	records, err := store.Open(path)
	if err != nil {
		return err
	}
	e := store.Activity{
		At: time.Now(), Kind: activity.RecordsRestored, AccountID: store.NoAccount, Actor: "command line",
		Detail: "from a backup made " + m.Made.Format(time.RFC3339),
	}
	return errors.Join(records.Resume(ctx, o.GoesOn, e), records.Close())
}
