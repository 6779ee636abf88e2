package source

import (
	"cmp"
	"net/http"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/text/unicode/norm"

	"ostiarius/core/place"
)

// An Entry is what a directory has under a name.
type Entry struct {
	Name      string // in Unicode NFC, as addresses have it
	Directory bool
	Size      int64 // in bytes, of a file
}

// A Lister answers for a directory that shows what is in it. More says that there is more than it is given.
type Lister func(w http.ResponseWriter, r *http.Request, entries []Entry, more bool)

// mostListed is how many names of a directory are read.
const mostListed = 5000

// entries returns what can be had in a directory: directories first, then by name. Names that begin with a dot, that no address reaches,
// and links that lead out are left out.
func (f *Files) entries(name string) (entries []Entry, more bool) {
	if f.fold {
		var err error
		if name, err = f.realName(name); err != nil {
			return nil, false
		}
	}
	directory, err := f.root.root.Open(filepath.FromSlash(name))
	if err != nil {
		return nil, false
	}
	defer directory.Close()
	names, _ := directory.Readdirnames(mostListed + 1)
	more = len(names) > mostListed
	for _, entry := range names[:min(len(names), mostListed)] {
		shown := norm.NFC.String(entry)
		canonical, _, err := place.Canonical("/"+url.PathEscape(shown), place.Rules{Semicolons: true})
		if strings.HasPrefix(entry, ".") || err != nil || canonical != "/"+shown {
			continue
		}
		// It follows links, and none that lead out.
		info, err := f.root.root.Stat(filepath.FromSlash(path.Join(name, entry)))
		if err != nil || !info.IsDir() && !info.Mode().IsRegular() {
			continue
		}
		entries = append(entries, Entry{shown, info.IsDir(), info.Size()})
	}
	slices.SortFunc(entries, func(a, b Entry) int {
		if a.Directory != b.Directory {
			if a.Directory {
				return -1
			}
			return 1
		}
		return cmp.Or(cmp.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), cmp.Compare(a.Name, b.Name))
	})
	return entries, more
}

// list answers for a directory without a page of its own, if it may show what is in it, and reports whether it did.
func (f *Files) list(w http.ResponseWriter, r *http.Request, name string) bool {
	if f.Lister == nil {
		return false
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		w.Header().Set("Allow", "GET, HEAD")
		http.Error(w, "Only GET and HEAD can be used here.", http.StatusMethodNotAllowed)
		return true
	}
	entries, more := f.entries(name)
	f.Lister(w, r, entries, more)
	return true
}

// Answers returns an address at which the directory is known to answer: the one given, if something is there; for a directory without a
// page of its own the first file in or below it; else "".
func (f *Files) Answers(address string) string {
	if !f.Lacks(address) {
		return address
	}
	budget := 20 // directories that are looked into
	return f.first(strings.TrimSuffix(address, "/"), &budget)
}

func (f *Files) first(address string, budget *int) string {
	if *budget--; *budget < 0 {
		return ""
	}
	entries, _ := f.entries(cmp.Or(strings.Trim(strings.TrimPrefix(address, f.below), "/"), "."))
	for _, entry := range entries {
		if !entry.Directory {
			return address + "/" + entry.Name
		}
	}
	for _, entry := range entries {
		if entry.Directory {
			if at := f.first(address+"/"+entry.Name, budget); at != "" {
				return at
			}
		}
	}
	return ""
}
