package source

import (
	"mime"
	"net/http"
	"path"
	"strings"
	"sync"
	"time"

	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
)

// A coding is a way in which a file is made smaller, and lies beside itself under its name with an ending.
type coding struct {
	name   []string // RFC 9110, section 8.4.1
	ending string
}

// of returns the name of a file in that coding; nil is none.
func (c *coding) of(name string) string {
	if c == nil {
		return name
	}
	return name + c.ending
}

// The codings, those first that make files smallest.
var codings = []*coding{{[]string{"br"}, ".br"}, {[]string{"zstd"}, ".zst"}, {[]string{"gzip"}, ".gz"}}

// How long it is remembered which files lie beside another.
const looked = 2 * time.Second

// beside remembers which codings of files there are.
type beside struct {
	mu    sync.RWMutex
	known map[string]codedNames
}

type codedNames struct {
	at  time.Time
	all []*coding
}

// The most names that are remembered.
const mostBeside = 20_000

func newBeside() *beside { return &beside{known: map[string]codedNames{}} }

// of returns the codings of a file that there are.
func (b *beside) of(name string, now time.Time, there func(ending string) bool) []*coding {
	b.mu.RLock()
	found, ok := b.known[name]
	b.mu.RUnlock()
	if ok && now.Sub(found.at) < looked {
		return found.all
	}
	found = codedNames{at: now}
	for _, c := range codings {
		if there(c.ending) {
			found.all = append(found.all, c)
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.known) >= mostBeside {
		clear(b.known)
	}
	b.known[name] = found
	return found.all
}

// coded returns how the answer for a file is coded, nil for not at all: the first coding that the client takes, that lies
// beside the file, and that this visitor may have under its own address as well. What is beside a file may be another thing, for
// somebody else: so a public file is only answered with what is public. Where there are any, the answer depends on what
// the client takes.
func (f *Files) coded(r *http.Request, t *guard.Turn, name string) (c *coding, depends bool) {
	if f.beside == nil || t == nil || len(t.Passes) > 0 {
		return nil, false
	}
	all := f.beside.of(name, f.now(), func(ending string) bool {
		m, err := f.root.mark(name + ending)
		return err == nil && m.regular && mime.TypeByExtension(path.Ext(name)) != "" // what it is cannot be told by what it is coded as
	})
	visitor := &t.Visitor
	if t.Public {
		visitor = &policy.Visitor{} // from nowhere: a cache may hand it to anybody
	}
	for _, c := range all {
		if accepts(r.Header["Accept-Encoding"], c.name[0]) &&
			t.Book.Decide(policy.Request{Method: "GET", Host: r.Host, Path: f.below + "/" + name + c.ending}, visitor).Outcome == policy.Admit {
			return c, true
		}
	}
	return nil, len(all) > 0
}

// accepts reports whether a client takes a coding, by name (RFC 9110, section 12.5.3).
func accepts(fields []string, coding string) bool {
	for _, field := range fields {
		for offer := range strings.SplitSeq(field, ",") {
			name, weight, _ := strings.Cut(offer, ";")
			if !strings.EqualFold(strings.TrimSpace(name), coding) {
				continue
			}
			key, q, _ := strings.Cut(strings.ReplaceAll(weight, " ", ""), "=")
			return !strings.EqualFold(key, "q") || strings.Trim(q, "0.") != ""
		}
	}
	return false
}
