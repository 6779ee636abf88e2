// Package inforce keeps the policy in force: it reads the file, takes new versions that
// are free of errors, records them, and swaps policy and site in one step.
package inforce

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ostiarius/core/activity"
	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/prove"
	"ostiarius/service/base/guard"
	"ostiarius/service/rule/inspect"
	"ostiarius/service/rule/replace"
	"ostiarius/service/rule/source"
	"ostiarius/store"
)

// A Policy is the policy of a running service: the file, the version in force, and the
// versions before.
type Policy struct {
	file     string
	store    *store.Store
	missing  http.Handler
	lister   source.Lister
	site     http.Handler
	proxying source.ProxyOptions
	log      *slog.Logger
	quiet    time.Duration
	keep     Kept
	metrics  []netip.Prefix
	checks   []string // that the program makes
	copy     string

	house    atomic.Pointer[guard.House]
	pending  atomic.Pointer[Pending]            // why the file is not in force
	rejected atomic.Pointer[[]document.Finding] // of the file's newest text, if it was not taken
	unfit    []byte                             // what stood in the file at the start, if that was faulty; by applying
	applying sync.Mutex                         // held while a version comes into force
	text     []byte                             // of the version in force; by applying
	workers  source.Workers                     // that were refused
	seen     source.Seen
	behind   source.Transports
}

// Options are what a Policy needs: all but Proxying, Quiet, Copy and Keep.
type Options struct {
	File    string // the policy file
	Store   *store.Store
	Missing http.Handler // answers for files that are not there
	// Lister answers for directories whose source has listing: true.
	Lister source.Lister
	// Site answers for the site in place of sources; nil for the sources of the policy.
	Site http.Handler
	// Proxying is what proxied sources need, but for the file and the log. What Itself names there
	// is nothing that any source may give away.
	Proxying source.ProxyOptions
	Log      *slog.Logger
	// Quiet is how long a text stands in the file unchanged before it is taken if it opens something.
	Quiet time.Duration
	// Copy is where the text before is kept while the file is written in place.
	Copy string
	Keep Kept
	// MetricsFrom are the networks that may read the metrics without signing in.
	MetricsFrom []netip.Prefix
	// Checks are the names of the checks that the program makes itself, which every version has to have; nil for none.
	Checks []string
}

// Kept says how many versions are kept at most, and how many bytes all their texts have; 0 is as
// many as there are. The newest 20 are always kept.
type Kept struct {
	Versions int
	Bytes    int64
}

const keptAlways = 20

// Open reads the file and brings its text into force; it is recorded if it is not the
// latest version already. A file that somebody is at just now comes into force when it is whole
// (Follow); until then the latest version is. So it is where the file cannot be read or has errors, which is
// said loudly. The error is *Unfit if there is no version that could be.
func Open(ctx context.Context, o Options) (*Policy, error) {
	p := &Policy{
		file: o.File, store: o.Store, missing: o.Missing, lister: o.Lister, site: o.Site, proxying: o.Proxying, log: o.Log,
		quiet: o.Quiet, copy: o.Copy, keep: o.Keep, metrics: o.MetricsFrom, checks: o.Checks,
	}
	p.proxying.PolicyFile, p.proxying.Log = o.File, o.Log
	p.proxying.Workers, p.proxying.Seen, p.proxying.Transports = &p.workers, &p.seen, &p.behind
	if err := p.mend(); err != nil {
		return nil, err
	}
	latest, err := p.store.LatestVersion(ctx)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return nil, err
	}
	recorded := err == nil
	text, settled, err := p.readSettled(recorded)
	if err != nil {
		return p, p.fallBack(latest, nil, "it can't be read: "+reason(err), []document.Finding{unreadable(p.file, err)})
	}
	if recorded && !settled && latest.Text != string(text) {
		if book, _ := p.Check([]byte(latest.Text)); book != nil {
			p.log.Warn("the policy file is being written; the previous version stays active until it is complete", "version", latest.ID)
			return p, p.resume(latest, book)
		}
		// Nothing else can be in force, so what somebody is at must be waited for.
		for end := time.Now().Add(2 * p.quiet); !settled && err == nil && time.Now().Before(end); time.Sleep(soon) {
			text, settled, err = p.readSettled(true)
		}
		if err != nil {
			return nil, &Unfit{[]document.Finding{unreadable(p.file, err)}, nil}
		}
	}
	if !settled && latest.Text != string(text) {
		return nil, fmt.Errorf("another program has the policy file %s open for writing, so it may be incomplete; start again when that is "+
			"done", p.file)
	}
	book, findings := p.Check(text)
	switch {
	case book == nil:
		return p, p.fallBack(latest, text, "it has errors", findings)
	case recorded && latest.Text == string(text):
		return p, p.resume(latest, book)
	}
	_, err = p.enforce(ctx, "file", "found when the service started", text, book)
	return p, err
}

// AtRest returns the policy that was in force last, as the records have it, without a site. The error is store.ErrNone if
// there was none.
func AtRest(ctx context.Context, records *store.Store, log *slog.Logger) (*Policy, error) {
	latest, err := records.LatestVersion(ctx)
	if err != nil {
		return nil, err
	}
	p := &Policy{file: "doors.yaml", store: records, log: log}
	book, findings := read.Parse(p.file, []byte(latest.Text))
	if book == nil {
		return nil, &Unfit{findings, []byte(latest.Text)}
	}
	p.text = []byte(latest.Text)
	p.house.Store(&guard.House{Book: book, Version: latest.ID})
	return p, nil
}

// fallBack brings the latest version into force in the place of a file that cannot be. No version before it would do:
// that could open what was closed since. The error is *Unfit if there is none that can be.
func (p *Policy) fallBack(latest store.Version, text []byte, why string, findings []document.Finding) error {
	book, _ := p.Check([]byte(latest.Text))
	if latest.ID == 0 || book == nil {
		return &Unfit{findings, text}
	}
	if err := p.resume(latest, book); err != nil {
		return err
	}
	for _, f := range findings {
		if f.Severity == document.SeverityError {
			p.log.Error("the policy file has an error; the last good version, from the records, is active", "version", latest.ID, "file",
				f.File, "line", f.Line, "column", f.Column, "message", f.Message)
		}
	}
	p.unfit = text
	p.rejected.Store(&findings)
	p.pending.Store(&Pending{time.Now(), why, true})
	return nil
}

// resume brings a version into force that is recorded.
func (p *Policy) resume(v store.Version, book *policy.Book) error {
	house, err := p.furnish(book)
	if err == nil {
		p.text = []byte(v.Text)
		house.Version = v.ID
		p.house.Store(house)
	}
	return err
}

// ShedIdle closes the connections to servers behind that nobody uses at the moment.
func (p *Policy) ShedIdle() { p.behind.CloseIdle() }

// File returns the path of the policy file.
func (p *Policy) File() string { return p.file }

// House returns the policy in force with the site behind it.
func (p *Policy) House() *guard.House { return p.house.Load() }

// Book returns the policy in force.
func (p *Policy) Book() *policy.Book { return p.house.Load().Book }

// Upstreams returns how the servers behind have been of late, in file order.
func (p *Policy) Upstreams() []source.Health {
	var all []source.Health
	if site, ok := p.house.Load().Site.(*site); ok {
		for _, proxy := range site.proxies {
			all = append(all, proxy.Health())
		}
	}
	return all
}

// RefuseWorker answers a request for the script of a service worker that could answer for own pages,
// for whomever, and reports whether it did.
func (p *Policy) RefuseWorker(w http.ResponseWriter, r *http.Request, t *guard.Turn) bool {
	return p.workers.Refuse(w, r, t)
}

// RefusedWorkers returns the paths of some scripts of service workers that were refused.
func (p *Policy) RefusedWorkers() []string { return p.workers.Paths() }

// Version returns the number of the version in force.
func (p *Policy) Version() int64 { return p.house.Load().Version }

// Rejected returns what is wrong with the file's newest text, if it was not taken.
func (p *Policy) Rejected() []document.Finding {
	if rejected := p.rejected.Load(); rejected != nil {
		return *rejected
	}
	return nil
}

// Check reads a text of the policy and says all that is wrong with it here. There is no
// Book if there are errors.
func (p *Policy) Check(text []byte) (*policy.Book, []document.Finding) {
	book, findings := read.Parse(p.file, text)
	if book == nil {
		return nil, findings
	}
	book.LetReadMetrics(p.metrics)
	book.Words, _ = inspect.Words(book, p.file) // what is wrong with them is told with all else
	findings = append(findings, p.here(book)...)
	if now := p.house.Load(); now != nil && now.Book.Prefix != book.Prefix {
		findings = append(findings, document.Finding{
			Severity: document.SeverityError, Rule: "prefix-changed", File: p.file, Line: 1, Column: 1,
			Message: "the prefix of Ostiarius's own pages only changes when the service restarts",
		})
	}
	if p.site != nil && len(book.Sources) > 0 {
		findings = append(findings, document.Finding{
			Severity: document.SeverityError, Rule: "source-not-used", File: p.file, Line: book.Sources[0].Line, Column: 1,
			Message: "the application that embeds Ostiarius serves the site itself; remove sources",
		})
	}
	for _, name := range p.checks {
		if len(policy.ChecksNamed(book, name)) == 0 {
			findings = append(findings, document.Finding{
				Severity: document.SeverityError, Rule: "check-missing", File: p.file, Line: 1, Column: 1,
				Message: fmt.Sprintf("the application uses the check %q, which the policy doesn't have under checks", name),
			})
		}
	}
	if document.HasErrors(findings) {
		return nil, findings
	}
	return book, findings
}

func (p *Policy) here(book *policy.Book) []document.Finding {
	return inspect.Check(book, p.file, p.proxying.Itself)
}

// Here returns what is wrong on this machine with the policy in force.
func (p *Policy) Here() []document.Finding { return p.here(p.Book()) }

// furnish opens the sources behind a Book.
func (p *Policy) furnish(book *policy.Book) (*guard.House, error) {
	if p.site != nil {
		return &guard.House{Book: book, Site: p.site}, nil
	}
	site := &site{book: book, handlers: map[*policy.Source]http.Handler{}, missing: p.missing, workers: &p.workers}
	for i := range book.Sources {
		entry := &book.Sources[i]
		var handler http.Handler
		var err error
		if entry.Proxy != "" {
			var proxy *source.Proxy
			if proxy, err = source.NewProxy(*entry, p.proxying); err == nil {
				handler = proxy
				site.proxies = append(site.proxies, proxy)
			}
		} else {
			var files *source.Files
			files, err = source.NewFiles(inspect.Directory(*entry, p.file), entry, book.Rules.FoldCase, site.missing, p.proxying.Spent)
			if err == nil && entry.Listing {
				files.Lister = p.lister
			}
			handler = files
		}
		if err != nil {
			return nil, fmt.Errorf("the source in line %d can't be opened: %w", entry.Line, err)
		}
		site.handlers[entry] = handler
	}
	policy.AnswerBy(book, site.answers)
	return &guard.House{Book: book, Site: site, Shell: http.HandlerFunc(site.shell)}, nil
}

// A site is the sources of one Book.
type site struct {
	book     *policy.Book
	handlers map[*policy.Source]http.Handler
	missing  http.Handler
	proxies  []*source.Proxy
	workers  *source.Workers
}

func (s *site) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	if s.workers.Refuse(w, r, t) {
		return
	}
	entry := s.book.SourceOf(t.Place)
	if handler := s.handlers[entry]; handler != nil {
		if entry.Proxy == "" { // a server behind may say otherwise; it is asked first
			t.SetHeaders(w.Header())
		}
		handler.ServeHTTP(w, r)
		return
	}
	s.missing.ServeHTTP(w, r)
}

// answers returns the address at or below a place that is known to answer, "" if none is. What a server behind has is not known.
func (s *site) answers(at place.Place) string {
	entry := s.book.SourceOf(at)
	if entry == nil {
		return ""
	}
	if files, ok := s.handlers[entry].(*source.Files); ok {
		return files.Answers(at.Address())
	}
	return at.Address()
}

// shell answers with the page of the application at a place.
func (s *site) shell(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	if files, ok := s.handlers[s.book.SourceOf(t.Place)].(*source.Files); ok {
		t.SetHeaders(w.Header())
		files.Shell(w, r)
		return
	}
	s.missing.ServeHTTP(w, r)
}

// Lacks reports whether the site of a Book is known to have nothing at a place. What a server behind has is not known.
func (p *Policy) Lacks(book *policy.Book, at place.Place) bool {
	house := p.House()
	site, ok := house.Site.(*site)
	if !ok || house.Book != book || book.IsOwn(at) {
		return false
	}
	entry := book.SourceOf(at)
	if entry == nil {
		return true
	}
	files, ok := site.handlers[entry].(*source.Files)
	return ok && files.Lacks(at.Address())
}

// Unfit is the error for a text that was to come into force and has errors.
type Unfit struct {
	Findings []document.Finding
	Text     []byte
}

func (u *Unfit) Error() string {
	n, first := 0, document.Finding{}
	for _, f := range u.Findings {
		if f.Severity == document.SeverityError {
			if n++; n == 1 {
				first = f
			}
		}
	}
	more := ""
	if n > 1 {
		more = fmt.Sprintf(" (and %d more)", n-1)
	}
	return fmt.Sprintf("the policy was not applied; %s, line %d, column %d: %s%s", first.File, first.Line, first.Column, first.Message, more)
}

// ErrOvertaken says that another version came into force since the one that the change
// was based on.
var ErrOvertaken = errors.New("another version became active meanwhile; check it and apply again")

// Unwritable is the error for a policy file that the service may not write, or that has no room.
type Unwritable struct {
	File string
	Err  error
}

func (u *Unwritable) Error() string {
	why := u.Err.Error()
	var path *fs.PathError
	if errors.As(u.Err, &path) { // the last one says why the file itself cannot be written
		why = path.Err.Error()
	}
	return fmt.Sprintf("the policy file %s can't be written (%s), so nothing has changed; allow the service's user to write it, or "+
		"edit the file yourself", u.File, why)
}

func (u *Unwritable) Unwrap() error { return u.Err }

// Opens is the error for a text that opens something although it was not to.
type Opens struct{ Differences []prove.Difference }

func (o *Opens) Error() string {
	first := o.Differences[0]
	return fmt.Sprintf("the policy was not applied, because it opens something: %s %s%s to %s", first.Witness.Method, first.Witness.Host,
		first.Witness.Path, first.Witness.Visitor)
}

// A Draft is a text that is to come into force.
type Draft struct {
	Text      []byte
	Comment   string
	Base      int64 // the version that it was made from; 0 for whichever
	NoOpening bool  // only if it opens nothing to anybody
	Over      bool  // also over an edit of the file that is not in force
}

// Apply brings a text into force, if it is free of errors: the file is replaced whole, the
// version recorded, and the next request judged by it. The error is *Unfit, *Opens, *Edited,
// replace.ErrBeingWritten, ErrOvertaken, or says that something failed; then nothing has changed.
func (p *Policy) Apply(ctx context.Context, actor string, draft Draft) (store.Version, error) {
	p.applying.Lock()
	defer p.applying.Unlock()
	text, comment := draft.Text, draft.Comment
	if draft.Base != 0 && draft.Base != p.Version() {
		return store.Version{}, ErrOvertaken
	}
	book, findings := p.Check(text)
	if book == nil {
		return store.Version{}, &Unfit{findings, text}
	}
	if draft.NoOpening {
		differences, err := prove.Compare(p.Book(), book)
		if err != nil {
			return store.Version{}, fmt.Errorf("it could not be proven that the policy opens nothing, so it was not applied: %w", err)
		}
		if opened := slices.DeleteFunc(differences, func(d prove.Difference) bool { return d.Effect != "opened" }); len(opened) > 0 {
			return store.Version{}, &Opens{opened}
		}
	}
	before, err := p.replace(text, draft.Over)
	var edited *Edited
	if errors.As(err, &edited) || errors.Is(err, replace.ErrBeingWritten) {
		return store.Version{}, err
	}
	if err != nil {
		return store.Version{}, &Unwritable{p.file, err}
	}
	v, err := p.enforce(ctx, actor, comment, text, book)
	if err != nil && before != nil {
		_, back := p.replace(before, true)
		err = errors.Join(err, back)
	}
	return v, err
}

// enforce records a version and makes it the one that judges. The caller holds applying.
func (p *Policy) enforce(ctx context.Context, actor, comment string, text []byte, book *policy.Book) (store.Version, error) {
	house, err := p.furnish(book)
	if err != nil {
		return store.Version{}, err
	}
	now := time.Now()
	v, err := p.store.AddVersion(ctx, store.Version{At: now, Actor: actor, Comment: comment, Text: string(text)},
		store.Activity{At: now, Kind: activity.PolicyApplied, Actor: actor, Detail: comment})
	if err != nil {
		return v, err
	}
	p.text = text
	house.Version = v.ID
	p.rejected.Store(nil)
	p.pending.Store(nil)
	p.house.Store(house)
	p.behind.Keep(book)
	if err := p.store.TrimVersions(ctx, p.keep.Versions, p.keep.Bytes, keptAlways); err != nil {
		p.log.Warn("old versions of the policy could not be removed", "error", err)
	}
	p.log.Info("a new version of the policy is active", "version", v.ID, "by", actor, "doors", book.Entries)
	return v, nil
}

// Versions returns all versions without their texts, newest first.
func (p *Policy) Versions(ctx context.Context) ([]store.Version, error) {
	return p.store.Versions(ctx)
}

// Past returns one version. The error is store.ErrNone if there is none of that number.
func (p *Policy) Past(ctx context.Context, id int64) (store.Version, error) {
	return p.store.Version(ctx, id)
}

// Rollback brings the text of an earlier version into force again, as a new version. The
// errors are those of Apply and Past.
func (p *Policy) Rollback(ctx context.Context, actor, comment string, id int64, over bool) (store.Version, error) {
	v, err := p.Past(ctx, id)
	if err != nil {
		return v, err
	}
	if comment == "" {
		comment = fmt.Sprintf("back to version %d", id)
	}
	return p.Apply(ctx, actor, Draft{Text: []byte(v.Text), Comment: comment, Over: over})
}
