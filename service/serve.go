package service

import (
	"context"
	"errors"
	"log"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"ostiarius/core/throttle"
	"ostiarius/service/base/guard"
	"ostiarius/service/listen/authorizer"
	"ostiarius/service/rooms"
)

// siteServer returns a server of the site, for connections of either protocol.
func siteServer(handler http.Handler, log *log.Logger) *http.Server {
	return &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: maxHeader,
		DisableGeneralOptionsHandler: true, ErrorLog: log, ConnState: headState,
		ConnContext: func(ctx context.Context, c net.Conn) context.Context {
			return withHead(guard.ConnContext(ctx, c), c)
		},
	}
}

// connections is the most connections at once. Unless it is set, there are no more than fit with what the system lets
// the process open: for each connection one for itself, one for a file or a connection behind, and one for a request of
// HTTP/2 on it.
func (s *Service) connections() int {
	if s.settings.Connections > 0 {
		return s.settings.Connections
	}
	if open := openFiles(); open > 0 {
		return max(leastConnections, min(usualConnections, (open-ownFiles)/filesForEach))
	}
	return usualConnections
}

// What the process needs for itself, and how many files a connection may come to.
const (
	ownFiles         = 200
	filesForEach     = 3
	leastConnections = 64
)

// boundStreams bounds the requests of HTTP/2 that are under way, in all and of one network: their connections are few.
// Those of HTTP/1 are as many as the connections.
func boundStreams(handler http.Handler, bound *throttle.Bound, front *guard.Front) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.ProtoMajor < 2 {
			handler.ServeHTTP(w, r)
			return
		}
		peer := guard.Peer(r)
		network := throttle.NetworkOf(peer)
		if !bound.Take(network, front.Trusts(peer)) {
			w.Header().Set("Retry-After", "2")
			w.Header().Set("Cache-Control", "no-store")
			http.Error(w, "Too many requests are under way. Please try again.", http.StatusServiceUnavailable)
			return
		}
		defer bound.Give(network)
		handler.ServeHTTP(w, r)
	})
}

// mostStreams is how many requests of HTTP/2 a connection may have under way.
const mostStreams = 100

// Serve answers requests until ctx ends; then it lets those under way finish.
func (s *Service) Serve(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	log := slog.NewLogLogger(s.settings.Log.Handler(), slog.LevelWarn)
	var servers []*http.Server
	var listeners []net.Listener
	var open atomic.Int64
	failed := make(chan error, 9)
	serve := func(server *http.Server, l net.Listener) {
		servers, listeners = append(servers, server), append(listeners, l)
		s.spare.serves(server)
		go func() { failed <- server.Serve(l) }()
	}
	most := s.connections()
	room := func() *throttle.Bound { return throttle.NewBound(most, most/shareOfNetwork) }
	bound, streams := room(), room()
	serveSite := func(l net.Listener, bound *throttle.Bound, mark func(context.Context) context.Context) {
		server := func() *http.Server {
			made := siteServer(s.handler, log)
			if mark != nil {
				connected := made.ConnContext
				made.ConnContext = func(ctx context.Context, c net.Conn) context.Context { return mark(connected(ctx, c)) }
			}
			return made
		}
		front := boundListener{l, bound, s.settings.Front, s.spare, s.cert == nil, &open}
		if s.cert == nil {
			serve(server(), headedListener{s.asking(front, mark == nil,
				func(c net.Conn) bool { return s.settings.Front.Trusts(guard.PeerOf(c)) }, guard.ConnContext)})
			return
		}
		one, two := byProtocol(front, s.cert.config(), s.settings.Log)
		second := server()
		second.Handler = boundStreams(second.Handler, streams, s.settings.Front)
		second.HTTP2 = &http.HTTP2Config{MaxConcurrentStreams: mostStreams}
		second.TLSConfig = s.cert.config()
		serve(server(), one)
		serve(second, two)
	}
	if s.listener != nil {
		serveSite(s.listener, bound, nil)
	}
	if s.front != nil {
		server := siteServer(s.handler, log)
		connected := server.ConnContext
		server.ConnContext = func(ctx context.Context, c net.Conn) context.Context { return guard.OnSocket(connected(ctx, c)) }
		serve(server, headedListener{s.asking(boundListener{s.front, throttle.NewBound(most, most), s.settings.Front, s.spare, true,
			&open}, true, func(net.Conn) bool { return true },
			func(ctx context.Context, c net.Conn) context.Context {
				return guard.OnSocket(guard.ConnContext(ctx, c))
			})})
	}
	if s.console != nil {
		serveSite(s.console, room(), markApart) // whatever becomes of the site
	}
	if s.plain != nil {
		_, port, _ := net.SplitHostPort(s.listener.Addr().String())
		serve(&http.Server{
			Handler: s.challenges(toHTTPS(port, s.meant)), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 15 * time.Second,
			MaxHeaderBytes: maxHeader, ErrorLog: log,
		}, boundListener{s.plain, bound, s.settings.Front, s.spare, true, &open})
	}
	if s.fastcgi != nil {
		go func() { failed <- authorizer.Serve(s.fastcgi, s.beside, s.settings.Log) }()
	}
	serve(&http.Server{Handler: s.admin, ReadHeaderTimeout: 10 * time.Second}, s.socket)
	// The records are tended until the last request is answered, so that it is written down too.
	tending, stopTending := context.WithCancel(context.WithoutCancel(ctx))
	defer stopTending()
	tended := make(chan struct{})
	go func() {
		defer close(tended)
		s.tend(tending, func(err error) { s.settings.Log.Error("records could not be tended", "error", err) })
	}()
	go func() {
		if err := s.rooms.Sessions.Warm(ctx); err != nil && ctx.Err() == nil {
			s.settings.Log.Warn("sessions could not be read at the start; each is read when it is used", "error", err)
		}
	}()
	var working sync.WaitGroup
	for _, room := range rooms.Which[rooms.Runner](s.rooms) {
		working.Go(func() { room.Run(ctx) })
	}
	watched := make(chan struct{})
	go func() {
		defer close(watched)
		s.policy.Follow(ctx)
	}()

	if s.listener != nil {
		s.settings.Log.Info("listening", "address", s.URL(), "version", s.settings.Version, "open files", openFiles())
		if most := openFiles(); most > 0 && most < filesForEach*s.connections()+ownFiles {
			s.settings.Log.Warn("fewer files may be open than connections are taken, so that some may be told to try again; raise the limit "+
				"(LimitNOFILE, ulimit -n) or lower --connections", "open files", most, "connections", s.connections())
		}
	}
	var err error
	select {
	case <-ctx.Done():
		s.settings.Log.Info("stopping; requests under way are finished")
	case err = <-failed:
	}
	s.stopping.Store(true)
	cancel()
	s.rooms.Patrols.Close()
	if s.fastcgi != nil {
		s.fastcgi.Close()
	}
	finish(servers, listeners, &open)
	grace, stop := context.WithTimeout(context.Background(), 15*time.Second)
	defer stop()
	for _, server := range servers {
		if shut := server.Shutdown(grace); shut != nil && !errors.Is(shut, net.ErrClosed) { // its listener is closed already
			s.settings.Log.Warn("requests under way were cut off", "error", shut)
			server.Close()
		}
	}
	stopTending()
	<-tended
	worked := make(chan struct{})
	go func() {
		defer close(worked)
		working.Wait()
	}()
	select {
	case <-worked:
	case <-grace.Done(): // a mail server that takes its time does not hold up the end
	}
	<-watched
	s.settings.Log.Info("stopped")
	return err
}

// asking has the questions of peers answered that come to a listener, if any may ask there.
func (s *Service) asking(l net.Listener, may bool, peer func(net.Conn) bool,
	base func(context.Context, net.Conn) context.Context) net.Listener {
	if !may || s.settings.Beside == "" {
		return l
	}
	return newAsking(l, s.beside.At, peer, s.handler, func(c net.Conn) context.Context { return base(context.Background(), c) },
		s.settings.Log)
}

// finish takes no more connections, and gives those that were taken just now, or are being taken, a moment to be answered: a server that
// is told to shut down closes them.
func finish(servers []*http.Server, listeners []net.Listener, open *atomic.Int64) {
	for _, l := range listeners {
		l.Close()
	}
	for _, server := range servers {
		server.SetKeepAlivesEnabled(false)
	}
	for end := time.Now().Add(time.Second); open.Load() > 0 && time.Now().Before(end); {
		time.Sleep(5 * time.Millisecond)
	}
}
