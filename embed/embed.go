// Package embed puts Ostiarius into a Go program: the doors of a policy in front of the program's own handlers, with sign-in, sessions,
// HTTP Basic, the pages that people meet and the console.
//
//	doors, err := embed.Open(embed.Options{Policy: "doors.yaml", Data: "./data"})
//	if err != nil {
//		log.Fatal(err)
//	}
//	defer doors.Close()
//	http.ListenAndServe("localhost:8080", doors.Guard(mux))
//
// Who is calling is told by Visitor, and what may be linked to by Doors.May. The commands of ostiarius work on the records of a
// running program as on those of the service: ostiarius people add ines --data ./data.
//
// The handlers behind see the canonical path, which is what was judged. A program that hands requests on to another one must not hand on
// the fields in which Ostiarius says who is calling; see package ostiarius/service/base/guard for a guard without records.
package embed

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/service"
	"ostiarius/service/base/guard"
	"ostiarius/service/rooms"
	"ostiarius/service/rule/inforce"
)

// Options say what is guarded, and where the records are.
type Options struct {
	// Policy is the policy file. A new version is taken when it is saved.
	Policy string
	// FS is where Policy is, such as an embed.FS; nil for the file system. It is copied into Data when the program starts, so what is
	// changed in the console lasts until then.
	FS fs.FS
	// Text is the policy itself, in place of a file, and likewise copied.
	Text string
	// Data is the directory of the records, which nobody else uses at the time.
	Data string
	// URL is the address at which people reach the site, for the links in mails: https://marram.example.
	URL string
	// TrustedPeers are the networks of the servers in front, whose X-Forwarded-For and X-Forwarded-Proto are believed.
	TrustedPeers []netip.Prefix
	// Checks are the names of the checks that the program makes itself with Require. Each stands in the policy under checks, so that what is
	// explained and proven knows of it; Open fails if one does not, and so does bringing a version into force.
	Checks []string
	// Secrets are this site's at the providers of accounts elsewhere, by the names that the policy has for them.
	Secrets map[string]string
	// Log is where the service logs; slog.Default if nil.
	Log *slog.Logger
}

// Doors are the doors of a policy in a running program, from Open to Close.
type Doors struct {
	service *service.Service
	end     context.CancelFunc
	ended   chan error
	once    sync.Once
	data    string
	checks  []string
	log     *slog.Logger
	mu      sync.Mutex
	site    http.Handler
	partly  []string // routes of a router in front, which lets only these come to the doors
}

// Open reads the policy and opens the records. The errors say what to do; for a policy with errors it has each of them with its
// line.
func Open(o Options) (*Doors, error) {
	if o.Data == "" {
		return nil, errors.New("embed: Data is missing: name a directory for the records")
	}
	file, err := o.file()
	if err != nil {
		return nil, err
	}
	d := &Doors{ended: make(chan error, 1), data: o.Data, checks: o.Checks}
	log := o.Log
	if log == nil {
		log = slog.Default()
	}
	d.log = log
	d.service, err = service.Open(service.Settings{
		Policy: file, Data: o.Data, Log: log, URL: o.URL, Version: "embedded", KeepActivity: 90 * 24 * time.Hour,
		Front: &guard.Front{Peers: o.TrustedPeers}, Site: http.HandlerFunc(d.serve), Checks: o.Checks,
		Elsewhere: rooms.Elsewhere{Secrets: o.Secrets},
	})
	var unfit *inforce.Unfit
	if errors.As(err, &unfit) {
		var all []error
		for _, f := range unfit.Findings {
			if f.Severity == document.SeverityError {
				all = append(all, fmt.Errorf("%s:%d: %s [%s]", f.File, f.Line, f.Message, f.Rule))
			}
		}
		return nil, fmt.Errorf("embed: the policy cannot come into force: %w", errors.Join(all...))
	}
	if err != nil {
		return nil, fmt.Errorf("embed: %w", err)
	}
	ctx, end := context.WithCancel(context.Background())
	d.end = end
	go func() { d.ended <- d.service.Serve(ctx) }()
	return d, nil
}

// file returns the policy file, written first if the program brings the text.
func (o *Options) file() (string, error) {
	text := []byte(o.Text)
	switch {
	case o.Text != "" && (o.Policy != "" || o.FS != nil):
		return "", errors.New("embed: Text is the policy itself; leave Policy and FS away, or Text")
	case o.Text == "" && o.Policy == "":
		return "", errors.New("embed: Policy is missing: name the policy file, or give its Text")
	case o.Text == "" && o.FS == nil:
		return o.Policy, nil
	case o.Text == "":
		var err error
		if text, err = fs.ReadFile(o.FS, o.Policy); err != nil {
			return "", fmt.Errorf("embed: the policy cannot be read: %w", err)
		}
	}
	if err := os.MkdirAll(o.Data, 0o700); err != nil {
		return "", fmt.Errorf("embed: %w", err)
	}
	file := filepath.Join(o.Data, "doors.yaml")
	fresh := file + ".new" // renamed, so that nobody reads a half of it
	if err := os.WriteFile(fresh, text, 0o600); err != nil {
		return "", fmt.Errorf("embed: %w", err)
	}
	if err := os.Rename(fresh, file); err != nil {
		return "", fmt.Errorf("embed: %w", err)
	}
	return file, nil
}

// Guard returns a handler that stands in front of a program's own, for all requests; so it can be used as middleware of a router.
// There is one program behind the same doors: a second call panics.
//
// A router in front has chosen what answers by the address as it was sent. So an address that isn't canonical is led to
// the one that is, and nothing is answered where something in front has changed the address, such as http.StripPrefix:
// put that behind.
func (d *Doors) Guard(next http.Handler) http.Handler {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.site != nil {
		panic("embed: Guard is called once for the same doors; put a router behind it")
	}
	d.site = next
	return d.onePath(d.service.Handler())
}

// onePath answers only requests whose address is the one that is judged and by which a router in front has chosen what answers.
func (d *Doors) onePath(handler http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		d.noteRoute(routeOf(r))
		rules := d.service.Guard().House().Book.Rules
		rules.FoldCase = false // letter case is as the program has it
		_, path, query := place.SplitTarget(r.RequestURI)
		canonical, slash, err := place.Canonical(path, rules)
		if err != nil { // it is rejected
			handler.ServeHTTP(w, r)
			return
		}
		address := place.Place{Path: canonical, Slash: slash}.Address()
		sent, err := url.PathUnescape(path)
		switch {
		case err == nil && sent == address && r.URL.Path == address:
			handler.ServeHTTP(w, r)
		case err == nil && sent == address:
			d.log.Error("something in front of the doors has changed the address of a request; put the doors in front of it", "asked", address,
				"changed", r.URL.Path)
			http.Error(w, "This address can't be decided about.", http.StatusInternalServerError)
		case r.Method == http.MethodGet || r.Method == http.MethodHead:
			w.Header().Set("Cache-Control", "private, no-store")
			w.Header().Set("Location", (&url.URL{Path: address, RawQuery: query}).RequestURI())
			w.WriteHeader(http.StatusPermanentRedirect)
		default:
			http.Error(w, "This address can be written in several ways. Use "+(&url.URL{Path: address}).EscapedPath()+".", http.StatusBadRequest)
		}
	})
}

// routeOf returns the route by which a router in front has let a request come here; "" if it lets all come.
func routeOf(r *http.Request) string {
	route := r.Pattern
	if c := chi.RouteContext(r.Context()); route == "" && c != nil {
		route = c.RoutePattern()
	}
	if route == "/" || route == "/*" {
		return ""
	}
	return route
}

// mostPartly is how many routes are noted.
const mostPartly = 100

// noteRoute notes that the doors stand behind a route, and says so once.
func (d *Doors) noteRoute(route string) {
	if route == "" {
		return
	}
	d.mu.Lock()
	known := slices.Contains(d.partly, route) || len(d.partly) >= mostPartly
	if !known {
		d.partly = append(d.partly, route)
	}
	d.mu.Unlock()
	if !known {
		d.log.Warn("the doors stand behind a router and guard only this route of it; put the router behind the doors", "route", route)
	}
}

func (d *Doors) serve(w http.ResponseWriter, r *http.Request) { d.site.ServeHTTP(w, r) }

// Close ends what goes on beside the requests, and closes the records. Stop the server first.
func (d *Doors) Close() error {
	var err error
	d.once.Do(func() {
		d.end()
		err = errors.Join(<-d.ended, d.service.Close())
	})
	return err
}

// A Visitor is who sends a request, as far as that is proven.
type Visitor struct {
	SignedIn bool
	Name     string   // of the account; "" for nobody
	Roles    []string // with those that they include
	From     netip.Addr
	Public   bool // everybody is admitted at this place, so what is answered is no secret
}

// Has reports whether the visitor has a role.
func (v *Visitor) Has(role string) bool {
	for _, has := range v.Roles {
		if has == role {
			return true
		}
	}
	return false
}

// VisitorOf returns who sends the request whose context it is given: nobody, if that has not come through the doors.
func VisitorOf(ctx context.Context) Visitor {
	t := guard.TurnIn(ctx)
	if t == nil {
		return Visitor{}
	}
	return Visitor{
		SignedIn: t.Visitor.SignedIn, Name: t.Visitor.Account, Roles: t.Book.RolesOf(&t.Visitor), From: t.Visitor.From, Public: t.Public,
	}
}

// May reports whether whoever sends the request with this context would be admitted at another place, so that a page shows no link that
// leads to a closed door. The path is as in a link. If it cannot be known, it is false.
func (d *Doors) May(ctx context.Context, method, path string) bool {
	may, err := d.service.Guard().May(ctx, method, path)
	return may && err == nil
}
