package inspect

import (
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// Addresses returns the places at which the files of a Book's sources are served: each
// file at its address, an index.html at that of its directory. There are at most as many
// as asked for; more says whether there would have been more. Files that no canonical
// address reaches are left out, and so are directories that cannot be read.
func Addresses(book *policy.Book, policyFile string, most int) (addresses []place.Place, more bool) {
	for i := range book.Sources {
		s := &book.Sources[i]
		if s.Files == "" {
			continue
		}
		home := Directory(*s, policyFile)
		root, err := os.OpenRoot(home)
		if err != nil {
			continue
		}
		w := &walk{book: book, source: s, home: home, files: root.FS(), most: most}
		w.addresses = addresses
		w.directory(".", nil)
		root.Close()
		addresses, more = w.addresses, more || w.more
	}
	return addresses, more
}

type walk struct {
	book      *policy.Book
	source    *policy.Source
	home      string
	files     fs.FS // in which no link leads out
	addresses []place.Place
	most      int
	more      bool
	met       func(name string, p place.Place) // is told each file; nil to tell nobody
}

// directory adds the files in and below a directory. A symbolic link may lead to a
// directory that is being walked already, which is one of within; that is not followed in a circle.
func (w *walk) directory(name string, within []string) {
	// Only names are read here, and links are followed through files alone; a directory that is listed through
	// it would have each of its entries looked at, which takes several times as long.
	entries, err := os.ReadDir(filepath.Join(w.home, filepath.FromSlash(name)))
	if err != nil {
		return
	}
	within = append(within, name)
	for _, entry := range entries {
		if strings.HasPrefix(entry.Name(), ".") {
			continue
		}
		if w.more {
			return
		}
		below, kind := path.Join(name, entry.Name()), entry.Type()
		if kind&fs.ModeSymlink != 0 {
			info, err := fs.Stat(w.files, below)
			if err != nil || info.IsDir() && w.isAny(info, within) {
				continue
			}
			kind = info.Mode().Type()
		}
		switch {
		case kind.IsDir():
			w.directory(below, within)
		case kind.IsRegular():
			w.file(below)
		}
	}
}

// isAny reports whether something is one of some directories.
func (w *walk) isAny(info fs.FileInfo, directories []string) bool {
	for _, name := range directories {
		if outer, err := fs.Stat(w.files, name); err != nil || os.SameFile(outer, info) {
			return true
		}
	}
	return false
}

func (w *walk) file(name string) {
	address := strings.TrimSuffix(w.source.Path, "/") + "/" + name
	if path.Base(name) == "index.html" {
		address = strings.TrimSuffix(address, "index.html")
	}
	host := ""
	if !w.source.Host.Any() {
		host = w.source.Host.Example()
	}
	p, err := place.Read("GET", host, (&url.URL{Path: address}).EscapedPath(), w.book.Rules)
	if err != nil || w.book.SourceOf(p) != w.source || w.book.IsOwn(p) {
		return
	}
	if len(w.addresses) == w.most {
		w.more = true
		return
	}
	if w.met != nil {
		w.met(name, p)
	}
	w.addresses = append(w.addresses, p)
}
