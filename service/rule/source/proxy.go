package source

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
	"ostiarius/service/rule/inspect"
)

// A Proxy hands requests on to a server, and learns how that server is.
type Proxy struct {
	source   policy.Source
	upstream *url.URL
	options  ProxyOptions
	proxy    *httputil.ReverseProxy
	own      *httputil.ReverseProxy // each answer with a buffer of its own
	health   health
	direct   *http.Transport
}

// pseudonym is the name by which this process is known to servers behind, and by which it
// recognises what it has handed on itself.
var (
	pseudonym = "ostiarius-" + rand.Text()[:10]
	viaOnce   = []string{"1.1 " + pseudonym}
)

// ProxyOptions are what a Proxy needs: all but Own, Itself, Workers, Seen, Stopping, Transports and RefuseOdd.
type ProxyOptions struct {
	PolicyFile string // paths of sockets are relative to its directory
	// Own reports whether a name is that of a cookie that no server behind receives or sets.
	Own func(name string) bool
	Log *slog.Logger
	// Still reports whether the visitor of a request under way would be admitted now; used says
	// that the client has sent something since it was last asked.
	Still  func(ctx context.Context, used bool) bool
	Itself inspect.Own // where no server behind may be
	// Stopping reports whether the service is to stop; nil if it never is.
	Stopping   func() bool
	Transports *Transports // to be kept for other versions of the policy; nil for none
	Workers    *Workers    // that were refused
	Seen       *Seen       // what the servers behind answered for; nil to note nothing
	// RefuseOdd says that a request with a field whose name has other characters than letters,
	// digits and "-" is refused. Otherwise such fields are left out.
	RefuseOdd bool
	// Sign returns a token that says who is calling, for the audience of a source, with the method and target that the server behind
	// receives; nil where no source asks for it.
	Sign func(t *guard.Turn, audience, method, target string) (string, error)
	// Failed answers a request for which the server behind has no answer: 502 or 504; 508 if it was
	// this service itself; or 400 or 408 if the client is at fault.
	Failed func(w http.ResponseWriter, r *http.Request, status int)
	// Took is told after how long a server behind, by its address, has begun to answer, or that it did not; nil to tell nobody.
	Took  func(proxy string, d time.Duration, answered bool)
	Spent *Spent // also of files
}

// slow is after how long a server behind is logged as slow to answer.
const slow = 5 * time.Second

// errLoop says that a server behind is this service.
var errLoop = errors.New("the server behind is this service itself")

// refuse closes a connection to a server behind that has turned out to lead here, whatever its
// name was.
func refuse(conn net.Conn, err error, itself inspect.Own) (net.Conn, error) {
	if err != nil {
		return nil, err
	}
	if at, ok := conn.RemoteAddr().(*net.TCPAddr); ok && itself.Hears(at.IP, fmt.Sprint(at.Port)) {
		conn.Close()
		return nil, errLoop
	}
	return conn, nil
}

// How long a server behind may take to begin its answer, or may take nothing of what is sent to it, unless the policy says otherwise.
const usualTimeout = 60 * time.Second

func timeoutOf(s *policy.Source) time.Duration { return cmp.Or(s.Timeout, usualTimeout) }

// NewProxy returns a handler that hands requests on to the server of a source.
//
// The server receives the canonical path; who is calling, in Ostiarius-User,
// Ostiarius-Roles and Ostiarius-Door; and from where, in Forwarded (RFC 7239) and
// X-Forwarded-For, -Host and -Proto. What a request claims in fields of these names, in
// whatever spelling, is removed, and so are all fields that speak for others (package fields),
// Ostiarius's own cookies, and the credentials that were meant for a door. What the server
// answers sets no cookie of Ostiarius's, does not lead to the server's own address, and changes
// the protocol of the connection to WebSocket at most.
func NewProxy(s policy.Source, o ProxyOptions) (*Proxy, error) {
	dialer := &net.Dialer{Timeout: 5 * time.Second, KeepAlive: 30 * time.Second}
	var dial func(ctx context.Context, network, address string) (net.Conn, error)
	upstream := &url.URL{Scheme: "http", Host: "upstream"}
	if socket, ok := strings.CutPrefix(s.Proxy, "unix:"); ok {
		socket = inspect.SocketPath(socket, o.PolicyFile)
		dial = func(ctx context.Context, _, _ string) (net.Conn, error) {
			if o.Itself.IsSocket(socket) {
				return nil, errLoop
			}
			return dialer.DialContext(ctx, "unix", socket)
		}
	} else {
		dial = func(ctx context.Context, network, address string) (net.Conn, error) {
			conn, err := dialer.DialContext(ctx, network, address)
			return refuse(conn, err, o.Itself)
		}
		var err error
		if upstream, err = url.Parse(s.Proxy); err != nil {
			return nil, err
		}
	}
	timeout := timeoutOf(&s)
	direct := o.Transports.of(&s, func() *http.Transport {
		return &http.Transport{
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				conn, err := dial(ctx, network, address)
				if err != nil {
					return nil, err
				}
				return &pressed{conn, timeout}, nil
			},
			ResponseHeaderTimeout: timeout, TLSHandshakeTimeout: 10 * time.Second, ExpectContinueTimeout: time.Second,
			MaxIdleConns: 512, MaxIdleConnsPerHost: 256, IdleConnTimeout: 90 * time.Second,
			DisableCompression:     true, // what the client accepts is for the client and the server to settle
			MaxResponseHeaderBytes: 1 << 20,
		}
	})
	p := &Proxy{source: s, upstream: upstream, options: o, direct: direct}
	answers := newOutside(s, upstream)
	p.proxy = &httputil.ReverseProxy{
		Transport:  untraced{p.direct},
		BufferPool: buffers{},
		// Of answers whose length is not known everything is handed on as it comes; of others too, if they take their time.
		FlushInterval: 50 * time.Millisecond,
		Rewrite:       p.handOn,
		ModifyResponse: func(resp *http.Response) error {
			if resp.StatusCode == http.StatusSwitchingProtocols && !isWebSocketAnswer(resp.Request, resp) {
				return errUpgrade
			}
			p.health.worked()
			p.took(resp.Request, true)
			t := guard.TurnOf(resp.Request)
			handBack(resp, t, handingOf(resp.Request).to.Header(), &p.source)
			if t != nil {
				t.SetHeaders(resp.Header)
				if o.Seen != nil && resp.StatusCode == http.StatusOK && t.Place.Method == http.MethodGet {
					o.Seen.note(t.Place)
				}
			}
			setNoCookies(resp.Header, o.Own)
			o.Workers.allow(resp, t, &p.source)
			answers.rewrite(resp.Header, resp.Request)
			endWithAdmission(resp, o.Still)
			if resp.StatusCode != http.StatusSwitchingProtocols {
				moveFields(handingOf(resp.Request).to.Header(), resp.Header)
			}
			return nil
		},
		ErrorLog:     slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug),
		ErrorHandler: p.fail,
	}
	own := *p.proxy
	own.BufferPool = pieces{}
	p.own = &own
	return p, nil
}

func (p *Proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	for _, line := range r.Header["Via"] {
		if strings.Contains(line, pseudonym) {
			p.options.Failed(w, r, http.StatusLoopDetected)
			return
		}
	}
	if p.options.RefuseOdd && hasOdd(r.Header) {
		p.options.Failed(w, r, http.StatusBadRequest)
		return
	}
	h := &handing{Context: r.Context(), asked: r, to: w, begun: time.Now()}
	h.request = *r.WithContext(h)
	if !ofConnection(r.Header) {
		h.request.Header = nil
	}
	if r.ContentLength != 0 {
		// A server may begin its answer before it has read all of the request.
		http.NewResponseController(w).EnableFullDuplex()
		h.sent = &sent{ReadCloser: r.Body}
		h.request.Body = h.sent
		if r.ProtoMajor == 1 { // over HTTP/2 it is noticed
			ctx, giveUp := context.WithCancel(h.Context)
			h.Context = ctx
			defer giveUp()
			defer h.sent.watch(r, p.options.Stopping, giveUp)()
		}
	}
	proxy := p.proxy
	if r.ProtoMajor != 1 {
		proxy = p.own
	}
	proxy.ServeHTTP(w, &h.request)
}

// took tells after how long the server behind has begun to answer a request, or that it did not.
func (p *Proxy) took(r *http.Request, answered bool) {
	h, ok := r.Context().Value(handingKey{}).(*handing)
	if !ok {
		return
	}
	d := time.Since(h.begun)
	if p.options.Took != nil {
		p.options.Took(p.source.Proxy, d, answered)
	}
	if answered && d >= slow {
		p.options.Log.Warn("the server behind was slow to answer", "proxy", p.source.Proxy, "path", h.asked.URL.Path, "seconds", d.Seconds())
	}
}

// Fetch gets a page from the server behind for Ostiarius itself, as nobody. At most so many bytes are read.
func (p *Proxy) Fetch(ctx context.Context, path string, most int64) ([]byte, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, p.upstream.JoinPath(path).String(), nil)
	if err != nil {
		return nil, err
	}
	r.Header = http.Header{"Via": viaOnce, "User-Agent": {"ostiarius"}}
	resp, err := p.direct.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the server behind answers %d for %s", resp.StatusCode, path)
	}
	return io.ReadAll(io.LimitReader(resp.Body, most))
}

// A handing is a request on its way to a server behind, and its context, in one piece.
// httputil.ReverseProxy copies the fields of a request before it asks which of them go on, and those
// of an answer one by one. So it is given a request without fields, unless some are about the
// connection, which it knows to take out; and handOn and moveFields do the rest.
type handing struct {
	context.Context
	asked   *http.Request // as it came to the Proxy
	request http.Request  // as ReverseProxy gets it
	sent    *sent         // its body; nil for none
	to      http.ResponseWriter
	begun   time.Time
}

type handingKey struct{}

func (h *handing) Value(key any) any {
	if key == (handingKey{}) {
		return h
	}
	return h.Context.Value(key)
}

// handingOf returns the handing of a request that ReverseProxy made.
func handingOf(r *http.Request) *handing { return r.Context().Value(handingKey{}).(*handing) }

// ofConnection reports whether a request has fields that are about the connection, or name others
// that are (RFC 9110, section 7.6.1).
func ofConnection(h http.Header) bool {
	return len(h["Connection"]) > 0 || len(h["Te"]) > 0 || len(h["Upgrade"]) > 0
}

// moveFields moves the fields of an answer to where they will be written. The type stays there too, for
// ReverseProxy looks at it, and adds it itself.
func moveFields(to, from http.Header) {
	for name, values := range from {
		if name != "Content-Type" {
			if there := to[name]; len(there) > 0 {
				values = append(slices.Clip(there), values...)
			}
			to[name] = values
			delete(from, name)
		}
	}
}

// handOn makes the request that the server behind receives.
func (p *Proxy) handOn(r *httputil.ProxyRequest) {
	s := &p.source
	r.Out.URL.Scheme, r.Out.URL.Host = p.upstream.Scheme, p.upstream.Host
	if s.StripPrefix && s.Path != "/" {
		stripped := strings.TrimPrefix(r.Out.URL.Path, s.Path)
		r.Out.URL.Path, r.Out.URL.RawPath = "/"+strings.TrimPrefix(stripped, "/"), ""
	}
	// The query as it was asked: no door looks at it, so none can be misled by it.
	r.Out.URL.RawQuery = r.In.URL.RawQuery
	r.Out.Host = r.In.Host
	r.Out.Trailer = nil // fields that come after the body would go around newFields
	asked, from := handingOf(r.In).asked, r.Out.Header
	if r.In.Header == nil {
		from = asked.Header
	}
	r.Out.Header = newFields(from, asked, p.options.Own, s.Fields)
	if t := guard.TurnOf(r.In); t != nil && policy.Hides(t.Book) && len(r.Out.Header["Accept-Encoding"]) > 0 {
		coding := "identity" // what is said of something missing has to be read; see handBack
		if accepts(r.Out.Header["Accept-Encoding"], "gzip") {
			coding = "gzip"
		}
		r.Out.Header["Accept-Encoding"] = []string{coding}
	}
	// RFC 9110, section 7.6.3. Nobody changes the list that most requests share.
	if len(r.Out.Header["Via"]) == 0 && r.In.ProtoMajor == 1 && r.In.ProtoMinor == 1 {
		r.Out.Header["Via"] = viaOnce
	} else {
		r.Out.Header.Add("Via", strings.TrimPrefix(r.In.Proto, "HTTP/")+" "+pseudonym)
	}
	if s.StripPrefix && s.Path != "/" {
		r.Out.Header.Set("X-Forwarded-Prefix", s.Path)
	}
	if t := guard.TurnOf(r.In); s.Identity != "" && p.options.Sign != nil && t != nil {
		token, err := p.options.Sign(t, s.Identity, r.Out.Method, r.Out.URL.RequestURI())
		if err != nil { // without it the server behind believes nobody
			p.options.Log.Error("who is calling could not be signed", "error", err)
			return
		}
		r.Out.Header.Set(identityField, token)
	}
}

// identityField is where a server behind finds the token; see package identity.
const identityField = "Ostiarius-Identity"

// fail answers a request for which there is no answer from behind.
func (p *Proxy) fail(w http.ResponseWriter, r *http.Request, err error) {
	o := &p.options
	hangUp := func() {
		if r.ProtoMajor == 1 { // over HTTP/2 that would end all other requests too
			w.Header().Set("Connection", "close")
		}
	}
	var timeout net.Error
	late := errors.As(err, &timeout) && timeout.Timeout()
	body := handingOf(r).sent
	status := http.StatusBadGateway
	switch {
	case body != nil && body.bad.Load():
		// The client's fault, and none of the server behind. It may have gone by that, or only be slow.
		if status = http.StatusBadRequest; late {
			status = http.StatusRequestTimeout
		}
		hangUp()
		o.Failed(w, r, status)
		return
	case r.Context().Err() != nil:
		// The client has gone, or sends nothing more, which looks the same from here. The server behind may have done what was asked: so
		// nothing is said of it, least of all that it went well.
		panic(http.ErrAbortHandler)
	case exhausted(err):
		o.Spent.shed()
		o.Spent.answer(w, r)
		return
	case errors.Is(err, errLoop):
		status = http.StatusLoopDetected
	case errors.Is(err, errUpgrade):
		hangUp()
	case late:
		status = http.StatusGatewayTimeout
	}
	p.health.failed(err)
	p.took(r, false)
	o.Log.Warn("the server behind did not answer", "proxy", p.source.Proxy, "path", r.URL.Path, "error", err)
	o.Failed(w, r, status)
}

// buffers are shared by all, for copying answers. A writer of HTTP/2 that has failed may
// still use one, which then must not serve for another answer.
type buffers struct{}

var pool = sync.Pool{New: func() any { b := make([]byte, small); return &b }}

func (buffers) Get() []byte  { return *pool.Get().(*[]byte) }
func (buffers) Put(b []byte) { pool.Put(&b) }

// health is how a server behind has been of late.
type health struct {
	ok  atomic.Int64 // milliseconds; when it last answered
	mu  sync.Mutex
	bad time.Time // when it last failed
	why string
	row atomic.Int64 // of failures without an answer between
}

func (h *health) worked() {
	h.ok.Store(time.Now().UnixMilli())
	if h.row.Load() > 0 {
		h.row.Store(0)
	}
}

func (h *health) failed(err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.bad, h.why = time.Now(), err.Error()
	h.row.Add(1)
}

// Health says how the server behind is: when it last answered and last failed (zero for
// never), why, and how often in a row.
type Health struct {
	Address          string
	Answered, Failed time.Time
	Why              string
	InARow           int
}

// Health returns how the server behind has been of late.
func (p *Proxy) Health() Health {
	p.health.mu.Lock()
	defer p.health.mu.Unlock()
	h := Health{Address: p.source.Proxy, Failed: p.health.bad, Why: p.health.why, InARow: int(p.health.row.Load())}
	if ms := p.health.ok.Load(); ms != 0 {
		h.Answered = time.UnixMilli(ms)
	}
	return h
}
