// Package source is what stands behind the doors: directories of files.
package source

import (
	"errors"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"net/url"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/text/unicode/norm"

	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
)

// Files serves the files of a directory and nothing outside it: symbolic links that
// lead out are as good as missing. Files and directories whose name begins with a dot do
// not exist. What is in a directory is shown only by a Lister.
type Files struct {
	root     *directory
	below    string // the canonical path at which the directory stands
	fold     bool   // the site does not distinguish letter case
	missing  http.Handler
	saved    map[string]bool // endings of the names of files that browsers save instead of showing
	kept     *kept           // nil where letter case makes no difference: there a name is looked for each time
	beside   *beside         // nil as well
	fallback string          // the file that answers for routes that are no files; "" for none
	alike    bool            // everybody has that file at every route, so nothing tells which of them are closed
	cache    []string        // what caches are told of public files; nil for nothing
	now      func() time.Time
	spent    *Spent
	// Lister answers for directories without an index.html; nil if those are missing.
	Lister Lister
}

// NewFiles opens the directory of a source. With fold, letter case in names makes no difference. What is not
// there is answered by missing.
func NewFiles(directory string, of *policy.Source, fold bool, missing http.Handler, spent *Spent) (*Files, error) {
	root, err := openDirectory(directory)
	if exhausted(err) {
		spent.shed()
		root, err = openDirectory(directory)
	}
	if err != nil {
		return nil, err
	}
	f := &Files{
		now: time.Now, fallback: of.Fallback, alike: of.Shell, root: root, below: strings.TrimSuffix(of.Path, "/"), fold: fold,
		missing: missing, spent: spent,
	}
	if !fold {
		f.kept, f.beside = newKept(), newBeside()
	}
	if of.Cache > 0 { // RFC 9111, section 5.2.2
		f.cache = []string{"public, max-age=" + strconv.FormatInt(int64(of.Cache.Seconds()), 10)}
	}
	for _, ending := range of.Attachment {
		if f.saved == nil {
			f.saved = map[string]bool{}
		}
		f.saved["."+ending] = true
	}
	return f, nil
}

// Close closes the directory.
func (f *Files) Close() error { return f.root.Close() }

// ServeHTTP answers with the file at r.URL.Path, which must be canonical.
//
// A directory is answered with its index.html, at the address with a slash; a file, at
// the address without. Other spellings are redirected there, so that a file has one
// address, and one door.
func (f *Files) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	address := r.URL.Path
	name := strings.Trim(strings.TrimPrefix(address, f.below), "/")
	for segment := range strings.SplitSeq(name, "/") {
		if strings.HasPrefix(segment, ".") {
			f.missing.ServeHTTP(w, r)
			return
		}
	}
	if name == "" {
		name = "."
	}
	slash := strings.HasSuffix(address, "/")
	t := guard.TurnOf(r)
	if f.fromMemory(w, r, t, answeredBy(name, slash)) {
		return
	}
	// What is not there, may not be read or leads out of the directory is missing, all
	// alike: the reason is nobody's business. That comes before anything else, so that
	// what is missing and what a door hides cannot be told apart by another method either.
	file, err := f.open(name)
	if err != nil {
		f.not(w, r, err)
		return
	}
	defer func() { file.Close() }()
	read := r.Method == http.MethodGet || r.Method == http.MethodHead
	switch {
	case !read: // what would be read is looked for all the same
	case !file.mode.IsDir() && path.Base(name) == "index.html":
		if slash {
			redirect(w, r, "../")
		} else {
			redirect(w, r, "./")
		}
		return
	case file.mode.IsDir() && !slash:
		redirect(w, r, path.Base(address)+"/")
		return
	case !file.mode.IsDir() && slash:
		redirect(w, r, "../"+path.Base(name))
		return
	}
	if file.mode.IsDir() {
		name = path.Join(name, "index.html")
		index, err := f.open(name)
		if err == nil && index.mode.IsDir() {
			index.Close()
			err = fs.ErrNotExist
		}
		if err != nil {
			if exhausted(err) || !f.list(w, r, path.Dir(name)) {
				f.not(w, r, err)
			}
			return
		}
		file.Close()
		file = index
	}
	if !file.mode.IsRegular() {
		f.missing.ServeHTTP(w, r)
		return
	}
	if !read {
		w.Header().Set("Allow", "GET, HEAD")
		http.Error(w, "Only GET and HEAD can be used here.", http.StatusMethodNotAllowed)
		return
	}
	file = f.send(w, r, t, name, file)
}

// not answers for a file that could not be opened.
func (f *Files) not(w http.ResponseWriter, r *http.Request, err error) {
	if exhausted(err) {
		f.spent.answer(w, r)
		return
	}
	f.orFallback(w, r)
}

// orFallback answers for what is no file: with the page of an application, if there is one and a browser asks for a page at
// what can be one of its routes.
func (f *Files) orFallback(w http.ResponseWriter, r *http.Request) {
	if f.fallback == "" || r.Method != http.MethodGet && r.Method != http.MethodHead || !policy.IsRoute(r.URL.Path) ||
		guard.ClientOf(r.Header) != policy.Browser {
		f.missing.ServeHTTP(w, r)
		return
	}
	f.Shell(w, r)
}

// Shell answers with the page of the application.
func (f *Files) Shell(w http.ResponseWriter, r *http.Request) {
	file, err := f.open(f.fallback)
	if err != nil || !file.mode.IsRegular() {
		switch {
		case err == nil:
			file.Close()
		case exhausted(err):
			f.spent.answer(w, r)
			return
		}
		f.missing.ServeHTTP(w, r)
		return
	}
	if h := w.Header(); f.alike {
		h["Cache-Control"], h["Vary"] = []string{"private, no-store"}, []string{"Cookie, Authorization"}
	}
	f.send(w, r, guard.TurnOf(r), f.fallback, file).Close()
}

// send answers with an open file, or with what lies beside it, and returns which of them is open then.
func (f *Files) send(w http.ResponseWriter, r *http.Request, t *guard.Turn, name string, file *opened) *opened {
	h := w.Header()
	coding, depends := f.coded(r, t, name)
	f.tell(h, name, depends)
	if coding != nil {
		if smaller, err := f.root.open(coding.of(name)); err == nil && smaller.mode.IsRegular() && !smaller.modified.Before(file.modified) {
			file.Close()
			file = smaller
			h["Content-Encoding"] = coding.name
			h["Content-Type"] = []string{mime.TypeByExtension(path.Ext(name))}
			if whole(r) { // net/http says it only of what is not coded
				h["Content-Length"] = []string{strconv.FormatInt(file.size, 10)}
			}
		} else {
			if err == nil {
				smaller.Close()
			}
			coding = nil
		}
	}
	h["Etag"] = []string{file.tag(coding)}
	if file.buffer != nil {
		if f.kept != nil {
			f.kept.put(name, coding, file, file.buffer[:file.size], f.now())
		}
		if r.ProtoMajor < 2 {
			w = inOneGo{w}
		}
	}
	var content io.ReadSeeker = file
	if r.ProtoMajor >= 2 {
		again, err := f.reopen(coding.of(name), file)
		if err != nil {
			f.not(w, r, err)
			return file
		}
		content = again
	}
	if kept := h["Cache-Control"]; len(kept) > 0 && strings.HasPrefix(kept[0], "private") {
		w = &faithful{w, kept}
	}
	if r.ProtoMajor >= 2 {
		w = inPieces{w}
	}
	http.ServeContent(w, r, path.Base(name), file.modified, content)
	return file
}

// Lacks reports whether nothing of the directory answers at an address.
func (f *Files) Lacks(address string) bool {
	name := strings.Trim(strings.TrimPrefix(address, f.below), "/")
	if slices.ContainsFunc(strings.Split(name, "/"), func(segment string) bool { return strings.HasPrefix(segment, ".") }) {
		return true
	}
	if name == "" {
		name = "."
	}
	route := f.fallback != "" && policy.IsRoute(address)
	for range 2 {
		file, err := f.open(name)
		if err != nil {
			return !route
		}
		file.Close()
		if !file.mode.IsDir() {
			return !file.mode.IsRegular()
		}
		if f.Lister != nil {
			return false
		}
		name = path.Join(name, "index.html")
	}
	return true
}

// fromMemory answers a request for a file that is kept, if it is still as it was.
func (f *Files) fromMemory(w http.ResponseWriter, r *http.Request, t *guard.Turn, name string) bool {
	if f.kept == nil || name == "" || !whole(r) || t != nil && len(t.Passes) > 0 { // what a pass is counted for goes out as it is written
		return false
	}
	coding, depends := f.coded(r, t, name)
	file := f.kept.get(name, coding)
	if file == nil {
		return false
	}
	is := file.unchanged(f.root, coding.of(name), f.now())
	if is && coding != nil { // or it is coded of what was there before
		original, err := f.root.mark(name)
		is = err == nil && original.modified <= file.mark.modified
	}
	if !is {
		f.kept.drop(name, coding)
		return false
	}
	f.tell(w.Header(), name, depends)
	file.serve(w, r)
	return true
}

// answeredBy returns the file that answers for a name; "" if it would be another address that does.
func answeredBy(name string, slash bool) string {
	switch {
	case name == ".":
		return "index.html"
	case slash:
		return name + "/index.html"
	case strings.HasSuffix(name, "index.html") && path.Base(name) == "index.html":
		return ""
	}
	return name
}

// tell writes what the policy says of the files of this source: that browsers save them instead of showing them, and how long
// caches may keep what is public; and whether the answer depends on the codings that the client takes.
func (f *Files) tell(h http.Header, name string, depends bool) {
	if vary := h["Vary"]; depends {
		h["Vary"] = append(vary[:len(vary):len(vary)], "Accept-Encoding")
	}
	if f.saved != nil && f.saved[strings.ToLower(path.Ext(name))] {
		h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": path.Base(name)}))
	}
	if f.cache != nil && h["Cache-Control"] == nil { // the guard has said it of what is not public
		h["Cache-Control"] = f.cache
	}
}

// Files of fewer bytes are read and written, which is less work than to have the system
// copy them.
const small = 32 << 10

// A faithful writer says who may store an answer also where it is none of a file, such as 416: net/http takes that out.
type faithful struct {
	http.ResponseWriter
	kept []string // what Cache-Control says
}

// WriteHeader is for http.ResponseWriter.
func (w *faithful) WriteHeader(status int) {
	if h := w.Header(); w.kept != nil && h["Cache-Control"] == nil {
		h["Cache-Control"] = w.kept
	}
	w.ResponseWriter.WriteHeader(status)
}

// ReadFrom has the system copy files, where it can.
func (w *faithful) ReadFrom(from io.Reader) (int64, error) {
	if to, ok := w.ResponseWriter.(io.ReaderFrom); ok {
		return to.ReadFrom(from)
	}
	return io.Copy(struct{ io.Writer }{w.ResponseWriter}, from)
}

// Unwrap is for http.ResponseController.
func (w *faithful) Unwrap() http.ResponseWriter { return w.ResponseWriter }

type inOneGo struct{ http.ResponseWriter }

// ReadFrom writes a small file. It hides that of the server, which prepares for large ones.
func (w inOneGo) ReadFrom(file io.Reader) (int64, error) {
	buffer := buffers{}.Get()
	n, err := io.CopyBuffer(struct{ io.Writer }{w.ResponseWriter}, file, buffer)
	if err == nil {
		buffers{}.Put(buffer)
	}
	return n, err
}

// Unwrap is for http.ResponseController.
func (w inOneGo) Unwrap() http.ResponseWriter { return w.ResponseWriter }

func (f *Files) open(name string) (*opened, error) {
	if f.fold {
		var err error
		if name, err = f.realName(name); err != nil {
			return nil, err
		}
	}
	file, err := f.root.open(name)
	if exhausted(err) {
		f.spent.shed()
		file, err = f.root.open(name)
	}
	if errors.Is(err, fs.ErrNotExist) {
		// Some systems write the letters of names apart from their accents; a canonical path has them together.
		if apart := norm.NFD.String(name); apart != name {
			return f.root.open(apart)
		}
	}
	return file, err
}

// An opened file or directory.
type opened struct {
	io.ReadSeeker
	mode     fs.FileMode
	modified time.Time
	size     int64
	file     *os.File
	buffer   []byte // what was read, if there is no file
	mark     mark   // if it was read
}

// Close may be called again; a buffer given back twice would serve two answers.
func (o *opened) Close() {
	if o.file != nil {
		o.file.Close()
	}
	if o.buffer != nil {
		buffers{}.Put(o.buffer)
		o.buffer = nil
	}
}

// tag is what tells the file from what it was before (RFC 9110, section 8.8.3): when it was written, to the
// nanosecond, and how long it is; and how it is coded. So a download that was cut off goes on only with the same file.
func (o *opened) tag(as *coding) string {
	b := append(make([]byte, 0, 40), '"')
	b = strconv.AppendInt(b, o.modified.UnixNano(), 36)
	b = append(b, '-')
	b = strconv.AppendInt(b, o.size, 36)
	if as != nil {
		b = append(b, as.ending...)
	}
	return string(append(b, '"'))
}

func openIn(root *os.Root, name string) (*opened, error) {
	file, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	return openedFile(file)
}

func openedFile(file *os.File) (*opened, error) {
	info, err := file.Stat()
	if err != nil {
		file.Close()
		return nil, err
	}
	return &opened{ReadSeeker: file, mode: info.Mode(), modified: info.ModTime(), size: info.Size(), file: file}, nil
}

// realName finds the file that has a name up to letter case. Two files whose names differ
// in nothing else are both missing: which of them is meant cannot be said.
func (f *Files) realName(name string) (string, error) {
	real := "."
	for segment := range strings.SplitSeq(name, "/") {
		if segment == "." {
			continue
		}
		directory, err := f.root.open(real)
		if err != nil {
			return "", err
		}
		if directory.file == nil {
			directory.Close()
			return "", fs.ErrNotExist
		}
		entries, err := directory.file.Readdirnames(-1)
		directory.Close()
		if err != nil {
			return "", err
		}
		found := ""
		for _, entry := range entries {
			if strings.EqualFold(norm.NFC.String(entry), segment) {
				if found != "" {
					return "", fs.ErrNotExist
				}
				found = entry
			}
		}
		if found == "" {
			return "", fs.ErrNotExist
		}
		real = path.Join(real, found)
	}
	return real, nil
}

// redirect sends to another spelling of the same file, relative to the address asked
// for, and keeps the query.
func redirect(w http.ResponseWriter, r *http.Request, to string) {
	u := url.URL{Path: to, RawQuery: r.URL.RawQuery}
	w.Header().Set("Location", u.String())
	w.WriteHeader(http.StatusMovedPermanently)
}
