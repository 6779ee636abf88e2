package source

import (
	"log/slog"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strings"

	"ostiarius/service/guard"
)

// NewProxy returns a handler that hands requests on to the server at address, such as
// "http://127.0.0.1:8461". The server receives the canonical path, the client's address
// in X-Forwarded-For, and no cookie whose name one of own is: those are Ostiarius's. Nor
// does it receive headers that claim to be Ostiarius's, in whatever spelling.
func NewProxy(address string, log *slog.Logger, own ...string) (http.Handler, error) {
	upstream, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	return &httputil.ReverseProxy{
		Rewrite: func(p *httputil.ProxyRequest) {
			p.Out.URL.Scheme, p.Out.URL.Host = upstream.Scheme, upstream.Host
			p.Out.Host = p.In.Host
			p.SetXForwarded()
			withoutCookies(p.Out.Header, own)
			for name := range p.Out.Header {
				if strings.HasPrefix(strings.ToLower(strings.ReplaceAll(name, "_", "-")), "ostiarius-") {
					delete(p.Out.Header, name)
				}
			}
		},
		ModifyResponse: func(resp *http.Response) error {
			// Of a guarded answer the guard has said that nobody may store it; what the
			// server behind says of that does not count.
			if t := guard.TurnOf(resp.Request); t == nil || !t.Decision.Public {
				resp.Header.Del("Cache-Control")
				resp.Header.Del("Expires")
			}
			return nil
		},
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn),
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			log.Warn("the server behind did not answer", "proxy", address, "error", err)
			http.Error(w, "The server behind this page does not answer. Please try again in a while.", http.StatusBadGateway)
		},
	}, nil
}

// withoutCookies takes the cookies of these names out of the Cookie headers and leaves
// the others as they were spelled.
func withoutCookies(h http.Header, names []string) {
	var kept []string
	for _, line := range h.Values("Cookie") {
		for pair := range strings.SplitSeq(line, ";") {
			name, _, _ := strings.Cut(strings.TrimSpace(pair), "=")
			own := false
			for _, n := range names {
				own = own || strings.TrimSpace(name) == n
			}
			if !own && strings.TrimSpace(pair) != "" {
				kept = append(kept, strings.TrimSpace(pair))
			}
		}
	}
	h.Del("Cookie")
	if len(kept) > 0 {
		h.Set("Cookie", strings.Join(kept, "; "))
	}
}
