package passes

import (
	"context"
	"errors"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/pass"
	"ostiarius/service/base/guard"
	"ostiarius/store"
)

// What is delivered to a pass is counted before it is sent, in steps: each is written down, then sent. So a process
// that is killed has never counted less than was delivered, and at most one download more. A step that would make a
// download is short, and comes only when all before it has been sent.

// A progress is how much of a file has been delivered to a pass. Its live's lock guards it.
type progress struct {
	file  pass.File               // as it is written down
	sent  pass.Spans              // what has been sent
	under map[*delivery]pass.Span // deliveries under way, and the step that each is at
	again int64                   // bytes that were sent though they had been before, since it counted last
}

// has returns what has been sent, and what is being sent.
func (f *progress) has() pass.Spans {
	has := f.sent
	for _, span := range f.under {
		has = has.Add(span)
	}
	return has
}

// day is the day on which a download counts once.
func day(now time.Time) string { return now.Local().Format(time.DateOnly) }

// filesOf returns what has been delivered to a pass. The lock of l is held.
func (p *Passes) filesOf(ctx context.Context, l *live) (map[string]*progress, error) {
	if l.files == nil {
		kept, err := p.o.Store.PassFiles(ctx, l.id)
		if err != nil {
			return nil, err
		}
		l.files = map[string]*progress{}
		for _, f := range kept {
			l.files[f.Key] = &progress{file: f, sent: f.Has, under: map[*delivery]pass.Span{}}
		}
	}
	return l.files, nil
}

// finishing reports whether a file at a place has counted today, and so may be fetched; or, for somebody who resumes, has been downloaded
// but for its end.
func (p *Passes) finishing(ctx context.Context, l *live, path string, resumes bool) (bool, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	files, err := p.filesOf(ctx, l)
	today := day(p.o.Now())
	for key, f := range files {
		if at, _, _ := strings.Cut(key, "\n"); at == path && (f.file.Day == today || resumes && f.file.Counted() && !f.file.Finished()) {
			return true, nil
		}
	}
	return false, err
}

// A delivery is one answer that is sent to the holder of a pass.
type delivery struct {
	http.ResponseWriter
	held   *Held
	r      *http.Request
	refuse func(http.ResponseWriter, *http.Request)

	begun   bool
	refused bool      // the answer is another one, and what was meant to be sent is dropped
	f       *progress // nil if it is not counted
	whole   bool      // its size is not known; it counts when it has been sent to its end
	at, end int64     // what of the file is still to be sent
	step    int64     // before this byte is written down
	cut     bool      // it was taken away meanwhile, or could not be counted
}

// Deliver returns what the answer to a request is written to, so that it is counted. What can be downloaded no more is
// answered by refuse instead.
func (h *Held) Deliver(w http.ResponseWriter, r *http.Request, refuse func(http.ResponseWriter, *http.Request)) guard.Delivery {
	if strings.Contains(r.Header.Get("Range"), ",") {
		// Several parts in one answer cannot be told apart; a server may send all instead (RFC 9110, 14.2).
		r.Header.Del("Range")
	}
	h.delivery = delivery{ResponseWriter: w, held: h, r: r, refuse: refuse}
	return &h.delivery
}

// ctx is a context that goes on when the client has gone.
func (d *delivery) ctx() context.Context { return context.WithoutCancel(d.r.Context()) }

// Unwrap is for http.ResponseController.
func (d *delivery) Unwrap() http.ResponseWriter { return d.ResponseWriter }

// FlushError is for http.ResponseController.
func (d *delivery) FlushError() error {
	if !d.begun {
		d.WriteHeader(http.StatusOK)
	}
	if d.refused {
		return nil
	}
	return http.NewResponseController(d.ResponseWriter).Flush()
}

// WriteHeader looks at the answer before anything of it is sent.
func (d *delivery) WriteHeader(status int) {
	if status < 200 {
		d.ResponseWriter.WriteHeader(status)
		return
	}
	if d.begun {
		return
	}
	d.begun = true
	if delivers(d.r.Method, status) {
		if err := d.begin(status); err != nil {
			if !errors.Is(err, errUsedUp) {
				d.held.passes.o.Log.Error("a download could not be counted", "error", err)
			}
			d.refused = true
			h := d.Header()
			for _, name := range []string{"Content-Length", "Content-Range", "Content-Type", "Content-Disposition", "Content-Encoding",
				"Etag", "Last-Modified", "Accept-Ranges"} {
				h.Del(name)
			}
			d.refuse(d.ResponseWriter, d.r)
			return
		}
	}
	d.ResponseWriter.WriteHeader(status)
}

// delivers reports whether an answer brings what was asked for, by whatever method: servers behind answer POST with files too.
func delivers(method string, status int) bool {
	return method != http.MethodHead && status < 300 && status != http.StatusNoContent && status != http.StatusResetContent
}

var errUsedUp = errors.New("as often as it allows has been downloaded")

// begin finds out what is to be sent, and whether it may be.
func (d *delivery) begin(status int) error {
	h := d.Header()
	if !isFile(first(h["Content-Type"])) {
		return nil
	}
	size := int64(-1)
	length := first(h["Content-Length"])
	if length != "" && status != http.StatusPartialContent {
		if n, err := strconv.ParseInt(length, 10, 64); err == nil {
			size, d.end = n, n
		}
	}
	if status == http.StatusPartialContent {
		d.at, d.end, size = contentRange(first(h["Content-Range"]))
	}
	if size == 0 {
		return nil
	}
	d.step = d.at
	p, l := d.held.passes, d.held.of
	now, tag := d.held.at, first(h["Etag"])
	if c := l.counted.Load(); c != nil && c.size == size && c.path == d.held.path && c.tag == tag && now.Before(c.until) &&
		!now.Before(c.from) {
		return nil
	}
	key := d.held.path + "\n" + strconv.FormatInt(size, 10) + "\n" + tag
	l.mu.Lock()
	defer l.mu.Unlock()
	files, err := p.filesOf(d.ctx(), l)
	if err != nil {
		return err
	}
	f := files[key]
	today, is := day(now), l.is.Load()
	if f == nil {
		if len(files) >= mostFiles {
			if err := p.forgetFiles(d.ctx(), l, today); err != nil {
				return err
			}
		}
		f = &progress{file: pass.File{Key: key}, under: map[*delivery]pass.Span{}}
		files[key] = f
	}
	f.file.Size = max(size, 0)
	// Whoever goes on with what has counted asks for what is missing, and for nothing else.
	switch goesOn := size > 0 && f.file.Counted() && f.has().Within(pass.Span{From: d.at, To: d.end}) == 0; {
	case f.file.Day == today && f.file.Finished() && len(f.under) == 0:
		y, m, date := now.Local().Date()
		l.counted.Store(&counted{d.held.path, size, tag, now, time.Date(y, m, date+1, 0, 0, 0, 0, time.Local)})
		return nil // it has counted, and may be fetched as often as somebody likes on that day
	case f.file.Day == today, goesOn:
		// it counts once for each day; or it is the rest of what has counted
	default:
		others := 0
		for _, other := range files {
			if other != f && len(other.under) > 0 && other.file.Day != today {
				others++
			}
		}
		if is.Allowed > 0 && is.Used+others >= is.Allowed {
			return errUsedUp
		}
		if f.file.Counted() && len(f.under) == 0 { // a download is behind, and this is another one
			f.file.Has, f.sent = nil, nil
		}
	}
	d.f, d.whole = f, size < 0
	f.under[d] = pass.Span{}
	return nil
}

func first(values []string) string {
	if len(values) == 0 {
		return ""
	}
	return values[0]
}

// mostFiles is of how many files it is known what was delivered to a pass. With more, what belongs to other days is
// forgotten: a server behind may give what it makes another tag each time.
const mostFiles = 2000

// forgetFiles forgets what was delivered of files that have not counted today and are not under way. The lock of l is
// held.
func (p *Passes) forgetFiles(ctx context.Context, l *live, today string) error {
	var gone []string
	for key, f := range l.files {
		if len(f.under) == 0 && f.file.Day != today {
			gone = append(gone, key)
		}
	}
	if err := p.o.Store.DropPassFiles(ctx, l.id, gone); err != nil {
		return err
	}
	for _, key := range gone {
		delete(l.files, key)
	}
	return nil
}

// isFile reports whether what has a type is a download: all but pages, and what pages are made of.
func isFile(contentType string) bool {
	t, _, _ := strings.Cut(contentType, ";")
	switch t = strings.ToLower(strings.TrimSpace(t)); t {
	case "text/html", "application/xhtml+xml", "text/css", "text/javascript", "application/javascript", "application/manifest+json",
		"text/event-stream":
		return false
	}
	return !strings.HasPrefix(t, "font/")
}

// contentRange reads what part of a file an answer has (RFC 9110, section 14.4). The size is -1 if it is not known.
func contentRange(text string) (from, to, size int64) {
	text, ok := strings.CutPrefix(text, "bytes ")
	part, whole, ok2 := strings.Cut(text, "/")
	first, last, ok3 := strings.Cut(part, "-")
	from, err := strconv.ParseInt(first, 10, 64)
	to, err2 := strconv.ParseInt(last, 10, 64)
	size, err3 := strconv.ParseInt(whole, 10, 64)
	if !ok || !ok2 || !ok3 || err != nil || err2 != nil || err3 != nil || from < 0 || to < from || size <= to {
		return 0, 0, -1
	}
	return from, to + 1, size
}

var errTaken = errors.New("the pass was taken away")

// Write sends what the pass may have.
func (d *delivery) Write(b []byte) (written int, err error) {
	if !d.begun {
		d.start(b[:min(len(b), sniffed)])
	}
	if d.refused {
		return len(b), nil
	}
	for len(b) > 0 {
		n, err := d.ahead(int64(len(b)))
		if err != nil {
			return written, err
		}
		w, err := d.ResponseWriter.Write(b[:n])
		d.sent(int64(w))
		written += w
		if err != nil {
			return written, err
		}
		b = b[n:]
	}
	return written, nil
}

// start begins an answer whose first bytes are known, of a type that net/http would find out if none is said.
func (d *delivery) start(first []byte) {
	if _, said := d.Header()["Content-Type"]; !said {
		d.Header().Set("Content-Type", http.DetectContentType(first))
	}
	d.WriteHeader(http.StatusOK)
}

// sniffed is how many bytes tell what type something is.
const sniffed = 512

// WriteString is Write for a text.
func (d *delivery) WriteString(text string) (int, error) {
	if !d.begun {
		d.start([]byte(text[:min(len(text), sniffed)]))
	}
	if d.f == nil && !d.refused {
		if _, err := d.ahead(1); err != nil {
			return 0, err
		}
		return io.WriteString(d.ResponseWriter, text)
	}
	return d.Write([]byte(text))
}

// What is sent at once of a file that the system copies.
const piece = 8 << 20

// ReadFrom sends a file as the server does that best.
func (d *delivery) ReadFrom(src io.Reader) (total int64, err error) {
	to, fast := d.ResponseWriter.(io.ReaderFrom)
	limited, ok := src.(*io.LimitedReader)
	if !d.begun || d.refused || !fast || !ok {
		return io.Copy(struct{ io.Writer }{d}, src)
	}
	for limited.N > 0 {
		n, err := d.ahead(min(limited.N, piece))
		if err != nil {
			return total, err
		}
		w, err := to.ReadFrom(&io.LimitedReader{R: limited.R, N: n})
		d.sent(w)
		total += w
		limited.N -= w
		if err != nil || w < n {
			return total, err
		}
	}
	return total, nil
}

// ahead returns how much of so many bytes may be sent now, and writes down that it is.
func (d *delivery) ahead(want int64) (int64, error) {
	p, l := d.held.passes, d.held.of
	if is := l.is.Load(); l.barred.Load() || !is.Revoked.IsZero() || is.Why == pass.BySteward { // somebody has taken it away
		d.cut = true
		return 0, errTaken
	}
	if d.f == nil || d.whole || d.at >= d.end {
		return want, nil
	}
	if d.at < d.step {
		return min(want, d.step-d.at), nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	f := d.f
	f.sent = f.sent.Add(f.under[d]) // that step is done
	f.under[d] = pass.Span{}
	has := f.has()
	step := f.file.Step(has, d.at, d.end)
	next := f.file
	next.Has = has.Add(pass.Span{From: d.at, To: step.To})
	again := f.again + has.Within(pass.Span{From: d.at, To: step.To})
	var err error
	if today := day(p.o.Now()); f.file.Day != today && (step.Counts || f.file.CountsAgain(again)) {
		if is := l.is.Load(); !step.Counts && is.Allowed > 0 && is.Used >= is.Allowed {
			d.cut = true
			return 0, errUsedUp
		}
		next.Day, again = today, 0
		err = d.count(l, &next)
	} else {
		err = p.o.Store.SetPassFile(d.ctx(), l.id, &next)
	}
	if err != nil { // what cannot be counted is not sent
		p.o.Log.Error("a download could not be counted", "error", err)
		d.cut = true
		return 0, err
	}
	f.file, f.again = next, again
	d.step = step.To
	f.under[d] = pass.Span{From: d.at, To: step.To}
	return min(want, d.step-d.at), nil
}

// count counts a download. The lock of l is held.
func (d *delivery) count(l *live, next *pass.File) error {
	p := d.held.passes
	return p.changeLocked(d.ctx(), l, func(is *pass.Pass, now time.Time) (store.PassChange, error) {
		is.Used++
		is.LastUsed = now
		e := p.event(kind.PassDownloaded, "", is, d.held.path)
		c := store.PassChange{File: next, Story: []pass.StoryEntry{{At: now, What: pass.Downloaded, Detail: d.held.path}}, Event: &e}
		if is.Used == is.Allowed {
			over := p.event(kind.PassUsedUp, "", is, is.Reference)
			over.Data = map[string]string{"pass": is.ID, "kind": is.Kind, "reference": is.Reference}
			c.UsedUp = &over
		}
		return c, nil
	})
}

// sent notes that bytes were sent.
func (d *delivery) sent(n int64) {
	d.at += n
}

// Finish notes what has been sent in the end.
func (d *delivery) Finish(whole bool) {
	if d.f != nil {
		d.settle(whole)
	}
	if d.cut {
		panic(http.ErrAbortHandler) // the client must not take it for whole
	}
}

func (d *delivery) settle(whole bool) {
	p, l, f := d.held.passes, d.held.of, d.f
	l.mu.Lock()
	defer l.mu.Unlock()
	under := f.under[d]
	delete(f.under, d)
	if d.whole {
		if whole && d.at > 0 && !d.cut && d.r.Context().Err() == nil && f.file.Day != day(p.o.Now()) {
			next := f.file
			next.Day = day(p.o.Now())
			if err := d.count(l, &next); err != nil {
				p.o.Log.Error("a download could not be counted", "error", err)
				d.cut = true
				return
			}
			f.file = next
		}
		return
	}
	f.sent = f.sent.Add(pass.Span{From: under.From, To: min(d.at, under.To)})
	next := f.file
	if next.Has = f.has(); next.Has.String() == f.file.Has.String() {
		return
	}
	if err := p.o.Store.SetPassFile(d.ctx(), l.id, &next); err != nil {
		p.o.Log.Error("what was downloaded could not be noted", "error", err)
		return
	}
	f.file = next
}
