package inspect

import (
	"io/fs"
	"net/url"
	"os"
	"path"
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
		root, err := os.OpenRoot(Directory(*s, policyFile))
		if err != nil {
			continue
		}
		w := &walk{book: book, source: s, files: root.FS(), most: most}
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
	files     fs.FS
	addresses []place.Place
	most      int
	more      bool
}

// directory adds the files in and below a directory. A symbolic link may lead to a
// directory that is being walked already; that is not followed in a circle.
func (w *walk) directory(name string, within []fs.FileInfo) {
	entries, err := fs.ReadDir(w.files, name)
	if err != nil {
		return
	}
	for _, entry := range entries {
		if strings.HasPrefix(entry.Name(), ".") {
			continue
		}
		if w.more {
			return
		}
		below := path.Join(name, entry.Name())
		info, err := fs.Stat(w.files, below)
		switch {
		case err != nil:
		case info.IsDir():
			circle := false
			for _, outer := range within {
				circle = circle || os.SameFile(outer, info)
			}
			if !circle {
				w.directory(below, append(within, info))
			}
		case info.Mode().IsRegular():
			w.file(below)
		}
	}
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
	w.addresses = append(w.addresses, p)
}
