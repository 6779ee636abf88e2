// Package service is the running service: it holds the policy in force, the records and
// the site, and answers for all of them.
package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"ostiarius/client"
	"ostiarius/core/document"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/telling"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/hashing"
	"ostiarius/service/base/mistake"
	"ostiarius/service/door/decisions"
	"ostiarius/service/door/identity"
	"ostiarius/service/door/visitor"
	"ostiarius/service/face/pages"
	"ostiarius/service/keep/mail"
	"ostiarius/service/keep/premises"
	"ostiarius/service/listen/access"
	"ostiarius/service/rooms"
	"ostiarius/service/rule/inforce"
	"ostiarius/service/rule/inspect"
	"ostiarius/service/rule/source"
	"ostiarius/store"
)

// Settings are the settings of the process. They are no part of the policy.
type Settings struct {
	Policy string // the policy file
	Listen string // host:port
	Data   string // the directory of the records
	Socket string // of the administration; in Data if empty
	// Elsewhere is what it takes to speak to the providers that the policy names.
	Elsewhere rooms.Elsewhere
	// AcceptLoss lets the service start though a part of the records is missing, with what is there.
	AcceptLoss bool
	Cert, Key  string // PEM files for HTTPS; empty for plain HTTP
	PlainHTTP  bool   // allow plain HTTP on other addresses than loopback
	Redirect   string // host:port at which plain HTTP is led to HTTPS; empty for none
	// HSTS is how long browsers are told to keep to HTTPS; 0 for not at all.
	HSTS  time.Duration
	Front *guard.Front // what stands in front; nil for nothing
	// FrontSocket is the path of a Unix socket at which the site can be reached too, by servers that are trusted as declared peers;
	// empty for none.
	FrontSocket string
	// Authorizer is an address, host:port, at which declared peers ask by FastCGI; empty for none.
	Authorizer string
	// Beside is the field in which declared peers have the target of a request that they ask about, see guard.Beside; empty if
	// nobody may ask.
	Beside  string
	Version string
	Log     *slog.Logger
	// AccessLog is a file in which there is a line for each request, in AccessForm; empty for none.
	AccessLog  string
	AccessForm access.Form
	// Challenges is a directory with the files of /.well-known/acme-challenge/, given out where plain HTTP is led to HTTPS;
	// empty for none.
	Challenges string
	Cost       secret.Cost // of password hashes; the default if zero
	// BodyIdle is how long a client may send nothing of a body that it has announced; 30 seconds if
	// zero.
	BodyIdle time.Duration
	// Console is where the console has an origin of its own: a host name, or HOST:PORT to listen on; empty
	// for beside the site.
	Console string
	// Connections is the most connections at once; a usual number if zero.
	Connections int
	// RefuseOdd says that requests with fields of odd names are refused where a server is behind,
	// and not handed on without them.
	RefuseOdd bool
	// Private are files besides the data directory, the policy and the key that no source may give
	// away, such as the settings file.
	Private []string
	// HashApart is the command that hashes passwords in a process of its own, see package hashing;
	// nil for this process.
	HashApart []string
	// PolicyQuiet is how long a text stands in the policy file unchanged before it is taken if it
	// opens something; 3 seconds if zero.
	PolicyQuiet time.Duration
	// KeepVersions says how many versions of the policy are kept.
	KeepVersions inforce.Kept
	// KeepActivity is how long activity is kept; 0 for ever.
	KeepActivity time.Duration
	// KeepDecisions is how long what was decided is kept, so that a new policy can be tried on it; 0 for not at all.
	KeepDecisions time.Duration
	// KeepEvents is how many records of activity are kept at most; a usual number if zero.
	KeepEvents int
	// MetricsFrom are the networks that may read the metrics without signing in.
	MetricsFrom []netip.Prefix
	// Mail is where messages are handed to; nil for nowhere.
	Mail *mail.Server
	// MailNotices are the kinds of message that tell owners of an account what was done to it.
	MailNotices map[message.Kind]bool
	// MailPerMinute is how many messages are handed over in a minute at most; 0 for any number.
	MailPerMinute int
	// Telling says which other programs may be told what happens.
	Telling telling.Rules
	// URL is the address at which people reach the site, if it is not the one listened on.
	URL string
	// Site answers for the site in a program that listens itself, in place of sources of the policy; Listen is empty then.
	Site http.Handler
	// Records is the driver of package sql with which the records are opened; the usual one if empty. Tests have one that is slow.
	Records string
	// Checks are the names of the checks that such a program makes itself, which the policy has to have.
	Checks []string
}

func (s *Settings) socket() string {
	if s.Socket != "" {
		return s.Socket
	}
	return filepath.Join(s.Data, client.SocketName)
}

const usualQuiet = 3 * time.Second

// A Service is a running service, from Open to Close.
type Service struct {
	settings Settings
	started  time.Time
	premises *premises.Premises
	store    *store.Store
	rooms    *rooms.Rooms
	hashing  *hashing.Pool
	pages    *pages.Pages
	policy   *inforce.Policy
	listener net.Listener
	console  net.Listener // of the console, if it has an address of its own, or nil
	apart    apart
	spare    *spare
	plain    net.Listener // where plain HTTP is led to HTTPS, or nil
	socket   net.Listener
	front    net.Listener // the front socket, or nil
	fastcgi  net.Listener // where web servers ask by FastCGI, or nil
	beside   *guard.Beside
	signer   *identity.Signer
	cert     *certificate
	handler  http.Handler
	admin    http.Handler
	metrics  *metrics
	guard    *guard.Guard
	access   *access.Log       // nil for none
	decided  *decisions.Record // nil for none
	ready    readiness
	stopping atomic.Bool // answers without an end are to end
}

// Open prepares a service: it reads the policy, opens the records and takes the port and
// the socket. The errors say in one line what to do.
func Open(settings Settings) (s *Service, err error) {
	if settings.Front == nil {
		settings.Front = &guard.Front{}
	}
	s = &Service{settings: settings, started: time.Now(), metrics: newMetrics(settings.Version), signer: identity.New(time.Now)}
	defer func() {
		if err != nil {
			s.Close()
		}
	}()
	if s.apart, err = readApart(settings.Console); err != nil {
		return s, err
	}
	if err := s.checkTransport(); err != nil {
		return s, err
	}
	if s.premises, err = premises.Take(settings.Data, settings.Log); err != nil {
		return s, err
	}
	if err := premises.Check(filepath.Dir(settings.socket())); err != nil {
		return s, err
	}
	if s.socket, err = openSocket(settings.socket()); err != nil {
		return s, err
	}
	if settings.AcceptLoss {
		if err := store.AcceptLoss(filepath.Join(settings.Data, store.FileName)); err != nil {
			return s, err
		}
	}
	if s.store, err = store.OpenBy(cmp.Or(settings.Records, store.UsualDriver), filepath.Join(settings.Data, store.FileName)); err != nil {
		return s, err
	}
	var handed *inherited
	if settings.Site == nil { // or what was handed over is the program's
		if handed, err = inherit(); err != nil {
			return s, err
		}
	}
	if settings.FrontSocket != "" {
		if s.front, err = openFrontSocket(settings.FrontSocket); err != nil {
			return s, err
		}
		s.settings.Front.Socket = true
	}
	if settings.Authorizer != "" {
		if s.fastcgi, err = listen(handed, settings.Authorizer, mostUntaken); err != nil {
			return s, fmt.Errorf("cannot listen on %s for web servers that ask by FastCGI: %w; choose another address with --authorizer",
				settings.Authorizer, err)
		}
	}
	if settings.Site == nil { // or the program listens itself
		if s.listener, err = listen(handed, settings.Listen, mostUntaken); errors.Is(err, syscall.EADDRINUSE) {
			return s, fmt.Errorf("the address %s is taken by another program; choose another port with --listen, such as --listen localhost:0 "+
				"for any free one", settings.Listen)
		} else if err != nil {
			return s, fmt.Errorf("cannot listen on %s: %w; choose another address with --listen", settings.Listen, err)
		}
	}
	if s.apart.listen != "" {
		if s.console, err = listen(handed, s.apart.listen, mostUntaken); err != nil {
			return s, fmt.Errorf("cannot listen on %s for the console: %w; choose another address with --console", s.apart.listen, err)
		}
	}
	if settings.Redirect != "" {
		if s.plain, err = listen(handed, settings.Redirect, mostUntaken); err != nil {
			return s, fmt.Errorf("cannot listen on %s for plain HTTP: %w; choose another address with --redirect-http", settings.Redirect, err)
		}
	}
	for _, l := range handed.left() {
		settings.Log.Warn("a socket was handed over on which nothing listens; name its address with --listen, --redirect-http or "+
			"--console, or take it out of the unit", "address", l.Addr())
		l.Close()
	}
	s.spare = newSpare(settings.Log, func() { s.policy.ShedIdle() })
	spent := &source.Spent{
		Shed: func() { s.spare.shed() }, Answer: func(w http.ResponseWriter, r *http.Request, status int) { s.pages.Upstream(w, r, status) },
	}
	s.policy, err = inforce.Open(context.Background(), inforce.Options{
		File: settings.Policy, Store: s.store, Missing: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { s.pages.Missing(w, r) }),
		Lister: func(w http.ResponseWriter, r *http.Request, entries []source.Entry, more bool) {
			s.pages.Listing(w, r, entries, more)
		}, Log: settings.Log, Site: settings.Site, Checks: settings.Checks,
		Quiet: cmp.Or(settings.PolicyQuiet, usualQuiet), Copy: filepath.Join(settings.Data, "policy.before"), Keep: settings.KeepVersions,
		MetricsFrom: settings.MetricsFrom,
		Proxying: source.ProxyOptions{
			Own: visitor.OwnCookie, Itself: s.itself(), RefuseOdd: settings.RefuseOdd,
			Failed: func(w http.ResponseWriter, r *http.Request, status int) { s.pages.Upstream(w, r, status) },
			Took:   s.metrics.took, Spent: spent,
			Sign:     s.signer.Sign,
			Stopping: s.stopping.Load,
			Still:    func(ctx context.Context, used bool) bool { return !s.stopping.Load() && s.guard.Still(ctx, used) },
		},
	})
	if err != nil {
		return s, err
	}
	cost := settings.Cost
	if cost == (secret.Cost{}) {
		cost = secret.DefaultCost
	}
	s.hashing = hashing.New(cost, settings.HashApart)
	if s.rooms, err = rooms.Open(rooms.Options{
		Store: s.store, Book: s.policy.Book, Now: time.Now, Hashing: s.hashing, Front: settings.Front, Log: settings.Log,
		Telling: settings.Telling, KeepActivity: settings.KeepActivity, KeepEvents: settings.KeepEvents,
		Files: s.files, Elsewhere: settings.Elsewhere,
		Mail: rooms.Mail{Server: settings.Mail, PerMinute: settings.MailPerMinute, Notices: settings.MailNotices, Site: s.publicURL},
	}); err != nil {
		return s, err
	}
	if settings.Cert != "" {
		if s.cert, err = openCertificate(settings.Cert, settings.Key, settings.Log); err != nil {
			return s, err
		}
	}
	if settings.AccessLog != "" {
		if s.access, err = access.Open(settings.AccessLog, settings.AccessForm,
			func(what string, err error) { settings.Log.Error(what, "error", err) }); err != nil {
			return s, err
		}
	}
	if settings.KeepDecisions > 0 {
		if s.decided, err = decisions.Open(filepath.Join(settings.Data, "decisions"), settings.KeepDecisions, time.Now,
			func(what string, err error) { settings.Log.Error(what, "error", err) }); err != nil {
			return s, err
		}
	}
	s.build()
	return s, nil
}

// Reopen lets go of the access log, if there is one, and opens it anew by its name.
func (s *Service) Reopen() error {
	if s.access == nil {
		return nil
	}
	return s.access.Reopen()
}

// itself is what of the service no source may give away or lead to.
func (s *Service) itself() inspect.Own {
	own := inspect.Own{
		ConsoleApart: s.apart.isSet(), Paths: append([]string{s.settings.Data}, s.settings.Private...), Socket: s.settings.socket(),
	}
	if s.settings.Key != "" {
		own.Paths = append(own.Paths, s.settings.Key)
	}
	if s.settings.AccessLog != "" {
		own.Paths = append(own.Paths, s.settings.AccessLog)
	}
	own.Listens = func() (all []net.Addr) {
		for _, l := range []net.Listener{s.listener, s.plain, s.console, s.front, s.fastcgi} {
			if l != nil {
				all = append(all, l.Addr())
			}
		}
		return all
	}
	return own
}

// files are the addresses of files behind the doors, for patrols.
func (s *Service) files() (all []string) {
	const most = 20_000
	places, _ := inspect.Addresses(s.policy.Book(), s.policy.File(), most)
	for _, p := range places {
		all = append(all, policy.RequestFor(p).Path)
	}
	return all
}

// Rooms returns the rooms for what people do.
func (s *Service) Rooms() *rooms.Rooms { return s.rooms }

// FirstLink makes a link for the first steward; nil if there is one already.
func (s *Service) FirstLink(ctx context.Context) (*client.Link, error) {
	token, until, err := s.rooms.SignIn.FirstLink(ctx)
	var steward *mistake.Error
	if errors.As(err, &steward) {
		return nil, nil
	}
	return &client.Link{Path: s.policy.Book().Prefix + "/first?link=" + token, Until: until}, err
}

// URL returns the address at which the service answers.
func (s *Service) URL() string {
	if s.listener == nil {
		return ""
	}
	return s.urlOf(s.settings.Listen, s.listener)
}

func (s *Service) urlOf(listen string, l net.Listener) string {
	scheme := "http"
	if s.settings.Cert != "" {
		scheme = "https"
	}
	host, _, _ := net.SplitHostPort(listen)
	_, port, _ := net.SplitHostPort(l.Addr().String())
	if host == "" {
		host = "localhost"
	}
	return scheme + "://" + net.JoinHostPort(host, port)
}

// ConsoleURL returns the address of the console, if it has an origin of its own; "" if not.
func (s *Service) ConsoleURL() string {
	at := ""
	switch {
	case s.console != nil:
		at = s.urlOf(s.apart.listen, s.console)
	case s.apart.name != "":
		_, port, _ := net.SplitHostPort(s.listener.Addr().String())
		at = s.urlOf(net.JoinHostPort(s.apart.name, port), s.listener)
	default:
		return ""
	}
	return at + s.policy.Book().Prefix + "/console/"
}

// origins are the origins of the site, as a request reached it and as the settings say.
func (s *Service) origins(r *http.Request) []string {
	scheme := "http"
	if guard.TurnOf(r).Secure {
		scheme = "https"
	}
	own := []string{scheme + "://" + r.Host}
	if u, err := url.Parse(s.settings.URL); err == nil && u.Host != "" && u.Host == r.Host {
		own = append(own, u.Scheme+"://"+u.Host)
	}
	return own
}

// Status returns the state of the service.
func (s *Service) Status() client.Status {
	house := s.policy.House()
	var pending *client.Pending
	if p := s.policy.Pending(); p != nil {
		pending = &client.Pending{Since: p.Since, Why: p.Why, Stuck: p.Stuck}
	}
	return client.Status{
		Pending: pending, Version: s.settings.Version, Site: house.Book.Site, Started: s.started, URL: s.publicURL(),
		Console: strings.TrimSuffix(s.ConsoleURL(), house.Book.Prefix+"/console/"),
		Policy:  s.policy.File(), PolicyVersion: house.Version, Doors: house.Book.Entries,
		Findings: append([]document.Finding{}, s.policy.Rejected()...),
	}
}

// publicURL returns the address at which people reach the site.
func (s *Service) publicURL() string {
	if s.settings.URL != "" {
		return strings.TrimSuffix(s.settings.URL, "/")
	}
	return s.URL()
}

// The longest time that a client may take nothing of an answer that is sent to it.
const mostUntaken = 2 * time.Minute

// The largest header of a request, in bytes. More is answered with 431.
const maxHeader = 64 << 10

// PlainURL returns the address at which plain HTTP is led to HTTPS, "" for none.
func (s *Service) PlainURL() string {
	if s.plain == nil {
		return ""
	}
	return "http://" + s.plain.Addr().String()
}

// Handler returns what answers all requests: for the site, and for our own pages.
func (s *Service) Handler() http.Handler { return s.handler }

// Guard returns what decides about them.
func (s *Service) Guard() *guard.Guard { return s.guard }

// Close gives back what Open took.
func (s *Service) Close() error {
	var errs []error
	s.decided.Close()
	if s.listener != nil {
		s.listener.Close()
	}
	if s.plain != nil {
		s.plain.Close()
	}
	if s.console != nil {
		s.console.Close()
	}
	if s.socket != nil {
		s.socket.Close()
	}
	if s.front != nil {
		s.front.Close()
	}
	if s.fastcgi != nil {
		s.fastcgi.Close()
	}
	if s.hashing != nil {
		s.hashing.Close()
	}
	if s.access != nil {
		s.access.Close()
	}
	if s.store != nil {
		errs = append(errs, s.store.Close())
	}
	s.premises.Leave()
	return errors.Join(errs...)
}
