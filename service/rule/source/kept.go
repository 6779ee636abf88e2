package source

import (
	"bytes"
	"context"
	"hash/maphash"
	"mime"
	"net/http"
	"path"
	"strconv"
	"sync"
	"sync/atomic"
	"time"
)

// How much of a source's files is kept in memory, in bytes.
const mostKept = 64 << 20

// A file that was written so short a time ago is not kept: it could be written once more within one tick of the clock of the
// file system, and look as it did before.
const settled = 2 * time.Second

// kept are small files that are asked for often, in memory. Whether one is still as it was is asked of the file system each
// time; that says more than a watch that could be late.
type kept struct {
	mu     sync.RWMutex
	files  map[representation]*keptFile
	size   int
	before [4096]uint32 // marks of what was asked for once
	seed   maphash.Seed
}

// A representation is a file as it is coded. The same file can be asked for by its own address too, and is another one then.
type representation struct {
	name string
	as   *coding
}

// A mark tells a file from any other, and from itself when it was another: where it is on the disk, how long it is, and when
// it was changed, which nobody can set back.
type mark struct {
	device, inode           uint64
	size, modified, changed int64
	regular                 bool
}

// A keptFile is an answer that is ready.
type keptFile struct {
	mark
	within                      atomic.Int64 // milliseconds; when it was found in the directory, and not behind a link that leads out
	content                     []byte
	kind, length, tag, modified []string
	coding                      []string // nil for none
}

func newKept() *kept { return &kept{files: map[representation]*keptFile{}, seed: maphash.MakeSeed()} }

// get returns what is kept of a file.
func (k *kept) get(name string, as *coding) *keptFile {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.files[representation{name, as}]
}

// put keeps a file that was asked for before, and is read whole now.
func (k *kept) put(name string, as *coding, file *opened, content []byte, now time.Time) {
	kind := mime.TypeByExtension(path.Ext(name))
	if changed := time.Unix(0, file.mark.changed); kind == "" || file.mark.size != int64(len(content)) || now.Sub(changed) < settled ||
		changed.After(now) {
		return
	}
	sum := maphash.String(k.seed, as.of(name))
	k.mu.Lock()
	defer k.mu.Unlock()
	if at, seen := &k.before[sum%uint64(len(k.before))], uint32(sum>>32)|1; *at != seen {
		*at = seen
		return
	}
	this := representation{name, as}
	k.remove(this)
	for other := range k.files {
		if k.size+len(content) <= mostKept {
			break
		}
		k.remove(other)
	}
	k.size += len(content)
	kept := &keptFile{
		mark: file.mark, content: bytes.Clone(content), kind: []string{kind}, length: []string{strconv.Itoa(len(content))},
		tag: []string{file.tag(as)}, modified: []string{file.modified.UTC().Format(http.TimeFormat)},
	}
	if as != nil {
		kept.coding = as.name
	}
	k.files[this] = kept
}

// drop keeps a file no longer.
func (k *kept) drop(name string, as *coding) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.remove(representation{name, as})
}

func (k *kept) remove(one representation) {
	if f := k.files[one]; f != nil {
		k.size -= len(f.content)
		delete(k.files, one)
	}
}

// whole reports whether a request wants all of a file, whatever it was before.
func whole(r *http.Request) bool {
	if r.Method != http.MethodGet {
		return false
	}
	for _, field := range []string{"Range", "If-None-Match", "If-Modified-Since", "If-Match", "If-Unmodified-Since", "If-Range"} {
		if r.Header[field] != nil {
			return false
		}
	}
	return true
}

var acceptRanges = []string{"bytes"}

// A Gatherer is a connection that can hold back what is written to it, so that an answer which is ready goes out in one piece,
// and not in one for each time that a buffer of the server is full.
type Gatherer interface {
	Gather()
	Send() error // what was held back
}

type gathererKey struct{}

// WithGatherer returns the context of the requests of a connection.
func WithGatherer(ctx context.Context, g Gatherer) context.Context {
	return context.WithValue(ctx, gathererKey{}, g)
}

// How long a file counts as being in its directory, in milliseconds. Whether it is still the same file, and unchanged, is asked
// each time; that a directory above it was carried off, and a link to there left behind, is found out so much later.
const withinFor = 100

// unchanged reports whether what has a name is still the file that is kept.
func (f *keptFile) unchanged(d *directory, name string, now time.Time) bool {
	if since := now.UnixMilli() - f.within.Load(); since >= 0 && since < withinFor && d.same(name, f.mark) {
		return true
	}
	m, err := d.mark(name)
	if err != nil || m != f.mark {
		return false
	}
	f.within.Store(now.UnixMilli())
	return true
}

// serve answers with all of the file.
func (f *keptFile) serve(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h["Accept-Ranges"], h["Content-Length"], h["Content-Type"] = acceptRanges, f.length, f.kind
	h["Etag"], h["Last-Modified"] = f.tag, f.modified
	if f.coding != nil {
		h["Content-Encoding"] = f.coding
	}
	if g, _ := r.Context().Value(gathererKey{}).(Gatherer); g != nil {
		g.Gather()
		defer g.Send()
		defer http.NewResponseController(w).Flush()
	}
	w.Write(f.content)
}
