package guard

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/net/http/httpguts"
)

// A Front is what stands in front of the service. Only what declared peers say of a client is
// believed; from anybody else it is a stranger's claim.
//
// Of a peer, one field is believed for each thing, which the operator names, and no other: a
// server that sets X-Forwarded-For may well hand on a Forwarded that a stranger wrote. What is
// not believed is not handed on either.
//
// The zero Front has no peers, and nor has a nil one. A Front must not be copied after its first use.
type Front struct {
	Peers []netip.Prefix
	// Address is the field that has the client's address: XForwardedFor if empty, or Forwarded
	// or XRealIP.
	Address string
	// Scheme is the field that says how the client came: XForwardedProto if empty, or Forwarded.
	Scheme string
	// Host is the field that has the host that was asked for: the Host field itself if empty, or
	// XForwardedHost or Forwarded.
	Host string
	// Socket says that connections marked by OnSocket are those of declared peers too.
	Socket bool

	heard heard
}

// The fields that a Front can believe.
const (
	XForwardedFor   = "X-Forwarded-For"
	XForwardedProto = "X-Forwarded-Proto"
	XForwardedHost  = "X-Forwarded-Host"
	XRealIP         = "X-Real-Ip" // as net/http writes it
	Forwarded       = "Forwarded"
)

var addressFields = [...]string{XForwardedFor, Forwarded, XRealIP}

// Trusts reports whether an address is a declared peer's.
func (f *Front) Trusts(a netip.Addr) bool {
	for _, n := range f.Peers {
		if n.Contains(a) {
			return true
		}
	}
	return false
}

// Declared reports whether a request comes from a declared peer.
func (f *Front) Declared(r *http.Request) bool {
	if f == nil || len(f.Peers) == 0 && !f.Socket {
		return false
	}
	at := peer(r)
	return f.Trusts(at) || f.Socket && onSocket(r, at)
}

type peerKey struct{}

// ConnContext is for http.Server.ConnContext: the address at the other end is then read once
// for each connection, and not for each request. Conns that wrap others have a method NetConn.
func ConnContext(ctx context.Context, c net.Conn) context.Context {
	if raw := rawOf(c); raw != nil {
		ctx = context.WithValue(ctx, connKey{}, raw)
	}
	return context.WithValue(ctx, peerKey{}, PeerOf(c))
}

// Peer returns who is at the other end of the connection of a request, not valid for a Unix socket.
func Peer(r *http.Request) netip.Addr { return peer(r) }

func peer(r *http.Request) netip.Addr {
	if a, ok := r.Context().Value(peerKey{}).(netip.Addr); ok {
		return a
	}
	return readPeer(r.RemoteAddr)
}

// PeerOf returns the address at the other end of a connection; the zero Addr if it has none,
// such as a Unix socket.
func PeerOf(c net.Conn) netip.Addr { return readPeer(c.RemoteAddr().String()) }

func readPeer(address string) netip.Addr {
	port, err := netip.ParseAddrPort(address)
	if err != nil {
		return netip.Addr{}
	}
	return port.Addr().Unmap().WithZone("")
}

// Client returns the address of the client. Behind declared peers it is the last address in the
// field that is believed which is not itself a declared peer's. If that cannot be read without
// guessing, or is missing, the address is unknown.
func (f *Front) Client(r *http.Request) netip.Addr {
	at := peer(r)
	if f == nil {
		return at
	}
	if !f.Declared(r) {
		f.heard.stranger(at, r.Header)
		return at
	}
	believed := or(f.Address, XForwardedFor)
	f.heard.peer(at, believed, r.Header)
	values := r.Header[believed]
	switch {
	case len(values) == 0, believed == XRealIP && len(values) > 1:
		return netip.Addr{}
	case believed == XRealIP:
		return hop(values[0])
	case believed == Forwarded:
		elements, err := readForwarded(values)
		for i := len(elements) - 1; i >= 0 && err == nil; i-- {
			if at = hop(elements[i].client); !at.IsValid() || !f.Trusts(at) {
				return at
			}
		}
		if err != nil || len(elements) == 0 {
			return netip.Addr{}
		}
		return at
	}
	if len(values) == 1 && !strings.Contains(values[0], ",") {
		return hop(values[0])
	}
	hops := strings.Split(strings.Join(values, ","), ",")
	for i := len(hops) - 1; i >= 0; i-- {
		if at = hop(hops[i]); !at.IsValid() || !f.Trusts(at) {
			break
		}
	}
	return at
}

// Secure reports whether the client came over HTTPS, to this service or to a declared peer in
// front of it.
func (f *Front) Secure(r *http.Request) bool {
	if r.TLS != nil {
		return true
	}
	if !f.Declared(r) {
		return false
	}
	return strings.EqualFold(f.last(r, or(f.Scheme, XForwardedProto), func(e forwarded) string { return e.scheme }), "https")
}

// noHost is a host that no place has.
const noHost = "?"

// setHost makes the Host of a request what a declared peer says that the client asked for, if
// that is believed. What cannot be read is no host at all, and the request is then rejected.
func (f *Front) setHost(r *http.Request) {
	if f == nil || f.Host == "" || !f.Declared(r) {
		return
	}
	host := f.last(r, f.Host, func(e forwarded) string { return e.host })
	if r.Host = host; host == "" || !httpguts.ValidHostHeader(host) {
		r.Host = noHost
	}
}

// last returns what the nearest peer says in a field that has one value, or in an element of
// Forwarded; "" if that cannot be read without guessing.
func (f *Front) last(r *http.Request, name string, of func(forwarded) string) string {
	values := r.Header[name]
	if name == Forwarded {
		elements, err := readForwarded(values)
		if err != nil || len(elements) == 0 {
			return ""
		}
		return of(elements[len(elements)-1])
	}
	if len(values) != 1 {
		return ""
	}
	return strings.TrimSpace(values[0])
}

func or(s, usual string) string {
	if s == "" {
		return usual
	}
	return s
}

// hop reads the address of one hop: "192.0.2.7", "192.0.2.7:4711", "[2001:db8::7]:4711".
func hop(s string) netip.Addr {
	s = strings.TrimSpace(s)
	if port, err := netip.ParseAddrPort(s); err == nil {
		return port.Addr().Unmap().WithZone("")
	}
	if inner, ok := strings.CutPrefix(s, "["); ok {
		if inner, ok = strings.CutSuffix(inner, "]"); !ok || !strings.Contains(inner, ":") {
			return netip.Addr{}
		}
		s = inner
	}
	a, err := netip.ParseAddr(s)
	if err != nil {
		return netip.Addr{}
	}
	return a.Unmap().WithZone("")
}

// heard is what the requests say of what stands in front, for the people who run the site.
type heard struct {
	total  atomic.Int64 // requests from others than declared peers
	mu     sync.Mutex
	claims map[netip.Addr]int64 // of those, with fields such as servers in front set
	peers  map[netip.Addr]*told
}

// told is what a declared peer has told.
type told struct {
	besides string // a field that is not believed, beside the one that is
	missing string // the field that is believed
}

// The most addresses that are remembered.
const mostHeard = 64

// stranger notes a request from somebody who is no declared peer.
func (h *heard) stranger(at netip.Addr, header http.Header) {
	total := h.total.Add(1)
	if len(header[XForwardedFor]) == 0 && len(header[Forwarded]) == 0 && len(header[XRealIP]) == 0 {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.claims == nil || len(h.claims) >= mostHeard && h.claims[at] == 0 {
		h.claims = map[netip.Addr]int64{}
	}
	h.claims[at]++
	if total > 10_000 { // what was long ago counts less and less
		h.total.Store(total / 2)
		for a := range h.claims {
			h.claims[a] /= 2
		}
	}
}

// peer notes a request from a declared peer.
func (h *heard) peer(at netip.Addr, believed string, header http.Header) {
	besides, missing := "", ""
	if len(header[believed]) == 0 {
		missing = believed
	}
	for _, name := range addressFields {
		if name != believed && len(header[name]) > 0 {
			// X-Real-IP beside X-Forwarded-For is a usual pair, and neither is a stranger's.
			if name != XRealIP || believed == Forwarded || missing != "" {
				besides = name
			}
		}
	}
	if besides == "" && missing == "" {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.peers == nil || len(h.peers) >= mostHeard {
		h.peers = map[netip.Addr]*told{}
	}
	t := h.peers[at]
	if t == nil {
		t = &told{}
		h.peers[at] = t
	}
	t.besides, t.missing = or(besides, t.besides), or(missing, t.missing)
}

// Remarks returns what the people who run the site should know of what stands in front, in
// sentences.
func (f *Front) Remarks() []string {
	h := &f.heard
	h.mu.Lock()
	defer h.mu.Unlock()
	var all []string
	for at, t := range h.peers {
		believed := or(f.Address, XForwardedFor)
		if t.besides != "" {
			all = append(all, fmt.Sprintf("The server in front at %s sends %s too. Only %s is trusted (--address-from). If that isn't the "+
				"header that it sets, visitors can choose their own address.", at, t.besides, believed))
		}
		if t.missing != "" {
			all = append(all, fmt.Sprintf("Requests come from the server in front at %s without %s. Their address is unknown, so no door "+
				"for a network lets them in.", at, believed))
		}
	}
	total := h.total.Load()
	for at, n := range h.claims {
		if n >= 20 && n*10 >= total*9 {
			all = append(all, fmt.Sprintf("Nearly all requests come from %s and name other clients, so it seems to be a server in front. "+
				"All visitors share its address: one who guesses passwords slows down all others, and doors for a network can't tell "+
				"visitors apart. If that server is yours, start with --trusted-peer %s.", at, at))
		}
	}
	return all
}
