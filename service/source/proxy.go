package source

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ostiarius/core/policy"
	"ostiarius/service/guard"
)

// A Proxy hands requests on to a server, and learns how that server is.
type Proxy struct {
	address string
	proxy   *httputil.ReverseProxy
	own     *httputil.ReverseProxy // each answer with a buffer of its own
	health  health
}

// ProxyOptions are what a Proxy needs. All must be set.
type ProxyOptions struct {
	PolicyFile string   // paths of sockets are relative to its directory
	Own        []string // names of cookies that no server behind receives or sets
	Log        *slog.Logger
	// Still reports whether the visitor of a request under way would be admitted now; used says
	// that the client has sent something since it was last asked.
	Still func(ctx context.Context, used bool) bool
	// Failed answers a request for which the server behind has no answer: 502 or 504.
	Failed func(w http.ResponseWriter, r *http.Request, status int)
}

// How long a server behind may take to begin its answer, unless the policy says otherwise.
const usualTimeout = 60 * time.Second

// NewProxy returns a handler that hands requests on to the server of a source.
//
// The server receives the canonical path; who is calling, in Ostiarius-User,
// Ostiarius-Roles and Ostiarius-Door; and from where, in Forwarded (RFC 7239) and
// X-Forwarded-For, -Host and -Proto. What a request claims in fields of these names, in
// whatever spelling, is removed. So are Ostiarius's own cookies, and the credentials that
// were meant for a door. What the server answers sets no cookie of Ostiarius's.
func NewProxy(s policy.Source, o ProxyOptions) (*Proxy, error) {
	dialer := &net.Dialer{Timeout: 5 * time.Second, KeepAlive: 30 * time.Second}
	dial := dialer.DialContext
	upstream := &url.URL{Scheme: "http", Host: "upstream"}
	if socket, ok := strings.CutPrefix(s.Proxy, "unix:"); ok {
		if !filepath.IsAbs(socket) {
			socket = filepath.Join(filepath.Dir(o.PolicyFile), socket)
		}
		dial = func(ctx context.Context, _, _ string) (net.Conn, error) {
			return dialer.DialContext(ctx, "unix", socket)
		}
	} else {
		var err error
		if upstream, err = url.Parse(s.Proxy); err != nil {
			return nil, err
		}
	}
	timeout := s.Timeout
	if timeout == 0 {
		timeout = usualTimeout
	}
	p := &Proxy{address: s.Proxy}
	p.proxy = &httputil.ReverseProxy{
		Transport: untraced{&http.Transport{
			DialContext: dial, ResponseHeaderTimeout: timeout, TLSHandshakeTimeout: 10 * time.Second, ExpectContinueTimeout: time.Second,
			MaxIdleConns: 512, MaxIdleConnsPerHost: 256, IdleConnTimeout: 90 * time.Second,
			DisableCompression:     true, // what the client accepts is for the client and the server to settle
			MaxResponseHeaderBytes: 1 << 20,
		}},
		BufferPool: buffers{},
		Rewrite: func(r *httputil.ProxyRequest) {
			r.Out.URL.Scheme, r.Out.URL.Host = upstream.Scheme, upstream.Host
			if s.StripPrefix && s.Path != "/" {
				stripped := strings.TrimPrefix(r.Out.URL.Path, s.Path)
				r.Out.URL.Path, r.Out.URL.RawPath = "/"+strings.TrimPrefix(stripped, "/"), ""
			}
			// The query as it was asked: no door looks at it, so none can be misled by it.
			r.Out.URL.RawQuery = r.In.URL.RawQuery
			r.Out.Host = r.In.Host
			r.Out.Trailer = nil // fields that come after the body would go around handOn
			handOn(r.Out.Header, r.In, o.Own)
			if s.StripPrefix && s.Path != "/" {
				r.Out.Header.Set("X-Forwarded-Prefix", s.Path)
			}
		},
		ModifyResponse: func(resp *http.Response) error {
			p.health.worked()
			t := guard.TurnOf(resp.Request)
			// Of a guarded answer the guard has said that nobody may store it; what the
			// server behind says of that does not count.
			if t == nil || !t.Public {
				resp.Header.Del("Cache-Control")
				resp.Header.Del("Expires")
			}
			if t != nil {
				t.SetHeaders(resp.Header)
			}
			setNoCookies(resp.Header, o.Own)
			endWithAdmission(resp, o.Still)
			return nil
		},
		ErrorLog: slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug),
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			status := http.StatusBadGateway
			var timeout net.Error
			late := errors.As(err, &timeout) && timeout.Timeout()
			body, _ := r.Context().Value(sentKey{}).(*sent)
			switch {
			case r.Context().Err() != nil:
				return // the client has gone; nobody reads an answer
			case body != nil && body.bad.Load():
				// The client's fault, and none of the server behind.
				if status = http.StatusBadRequest; late {
					status = http.StatusRequestTimeout
				}
				w.Header().Set("Connection", "close")
				o.Failed(w, r, status)
				return
			case late:
				status = http.StatusGatewayTimeout
			}
			p.health.failed(err)
			o.Log.Warn("the server behind did not answer", "proxy", s.Proxy, "path", r.URL.Path, "error", err)
			o.Failed(w, r, status)
		},
	}
	own := *p.proxy
	own.BufferPool = nil
	p.own = &own
	return p, nil
}

func (p *Proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.ContentLength != 0 {
		// A server may begin its answer before it has read all of the request.
		http.NewResponseController(w).EnableFullDuplex()
		body := &sent{ReadCloser: r.Body}
		r = r.WithContext(context.WithValue(r.Context(), sentKey{}, body))
		r.Body = body
	}
	proxy := p.proxy
	if r.ProtoMajor != 1 {
		proxy = p.own
	}
	proxy.ServeHTTP(w, r)
}

// sent is the body that a client sends, and whether it could be read.
type sent struct {
	io.ReadCloser
	bad atomic.Bool
}

type sentKey struct{}

func (s *sent) Read(p []byte) (int, error) {
	n, err := s.ReadCloser.Read(p)
	// The transport closes the body of a request that it has given up.
	if err != nil && err != io.EOF && !errors.Is(err, http.ErrBodyReadAfterClose) {
		s.bad.Store(true)
	}
	return n, err
}

// buffers are shared by all, for copying answers. A writer of HTTP/2 that has failed may
// still use one, which then must not serve for another answer.
type buffers struct{}

var pool = sync.Pool{New: func() any { b := make([]byte, small); return &b }}

func (buffers) Get() []byte  { return *pool.Get().(*[]byte) }
func (buffers) Put(b []byte) { pool.Put(&b) }

// handOn sets what the server behind learns of a request, and removes what strangers claim.
func handOn(h http.Header, in *http.Request, ownCookies []string) {
	for name := range h {
		switch plain := strings.ToLower(strings.ReplaceAll(name, "_", "-")); {
		case strings.HasPrefix(plain, "ostiarius-"), strings.HasPrefix(plain, "x-forwarded-"),
			plain == "forwarded", plain == "x-real-ip", plain == "x-client-ip", plain == "true-client-ip":
			delete(h, name)
		}
	}
	withoutCookies(h, ownCookies)
	t := guard.TurnOf(in)
	if t == nil {
		return
	}
	if t.KeepCredentials {
		h.Del("Authorization")
	}
	scheme := "http"
	if t.Secure {
		scheme = "https"
	}
	forwarded := "proto=" + scheme
	if t.Visitor.From.IsValid() {
		from := t.Visitor.From.String()
		h.Set("X-Forwarded-For", from)
		if t.Visitor.From.Is6() {
			from = `"[` + from + `]"` // RFC 7239, section 6
		}
		forwarded = "for=" + from + ";" + forwarded
	}
	if in.Host != "" && !strings.ContainsAny(in.Host, "\"\\ \t;,") {
		forwarded += `;host="` + in.Host + `"`
		h.Set("X-Forwarded-Host", in.Host)
	}
	h.Set("X-Forwarded-Proto", scheme)
	h.Set("Forwarded", forwarded)
	if t.Visitor.SignedIn {
		// Names may have letters beyond ASCII, which fields of a header cannot carry safely.
		h.Set("Ostiarius-User", url.PathEscape(t.Visitor.Account))
		h.Set("Ostiarius-Roles", strings.Join(t.Book.RolesOf(&t.Visitor), ", "))
	}
	if t.Door != nil {
		h.Set("Ostiarius-Door", (&url.URL{Path: t.Door.Label()}).EscapedPath())
	}
}

// withoutCookies takes the cookies of these names out of the Cookie headers and leaves
// the others as they were spelled.
func withoutCookies(h http.Header, names []string) {
	var kept []string
	for _, line := range h.Values("Cookie") {
		for pair := range strings.SplitSeq(line, ";") {
			name, _, _ := strings.Cut(strings.TrimSpace(pair), "=")
			if pair = strings.TrimSpace(pair); pair != "" && !slices.Contains(names, strings.TrimSpace(name)) {
				kept = append(kept, pair)
			}
		}
	}
	h.Del("Cookie")
	if len(kept) > 0 {
		h.Set("Cookie", strings.Join(kept, "; "))
	}
}

// setNoCookies takes out the Set-Cookie fields for cookies of these names: an application
// could sign somebody in as somebody else.
func setNoCookies(h http.Header, names []string) {
	set, there := h["Set-Cookie"]
	if !there {
		return
	}
	h["Set-Cookie"] = slices.DeleteFunc(set, func(field string) bool {
		pair, _, _ := strings.Cut(field, ";")
		// One without a name is sent back as its value alone, which may look like a cookie.
		name, _, _ := strings.Cut(strings.TrimLeft(pair, " \t="), "=")
		return slices.Contains(names, strings.TrimSpace(name))
	})
}

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
	h := Health{Address: p.address, Failed: p.health.bad, Why: p.health.why, InARow: int(p.health.row.Load())}
	if ms := p.health.ok.Load(); ms != 0 {
		h.Answered = time.UnixMilli(ms)
	}
	return h
}
