package guard

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"strings"
)

// Peers are the networks of the reverse proxies that stand in front of Ostiarius. Only
// what they say of a client's address and scheme is believed; from anybody else the
// forwarding headers are a stranger's claim.
type Peers []netip.Prefix

func (p Peers) trust(a netip.Addr) bool {
	for _, n := range p {
		if n.Contains(a) {
			return true
		}
	}
	return false
}

type peerKey struct{}

// ConnContext is for http.Server.ConnContext: the address at the other end is then read once
// for each connection, and not for each request.
func ConnContext(ctx context.Context, c net.Conn) context.Context {
	return context.WithValue(ctx, peerKey{}, readPeer(c.RemoteAddr().String()))
}

func peer(r *http.Request) netip.Addr {
	if a, ok := r.Context().Value(peerKey{}).(netip.Addr); ok {
		return a
	}
	return readPeer(r.RemoteAddr)
}

func readPeer(address string) netip.Addr {
	port, err := netip.ParseAddrPort(address)
	if err != nil {
		return netip.Addr{} // such as a Unix socket
	}
	return port.Addr().Unmap().WithZone("")
}

// Client returns the address of the client. Behind trusted peers it is the last address
// in the Forwarded header (RFC 7239) or, without one, in X-Forwarded-For, that is not
// itself a trusted peer's. An entry that cannot be read makes the address unknown.
func (p Peers) Client(r *http.Request) netip.Addr {
	at := peer(r)
	if len(p) == 0 || !p.trust(at) {
		return at
	}
	var hops []string
	if values := r.Header.Values("Forwarded"); len(values) > 0 {
		for _, element := range strings.Split(strings.Join(values, ","), ",") {
			hops = append(hops, parameter(element, "for"))
		}
	} else if values := r.Header.Values("X-Forwarded-For"); len(values) > 0 {
		hops = strings.Split(strings.Join(values, ","), ",")
	} else {
		return at
	}
	for i := len(hops) - 1; i >= 0; i-- {
		at = hop(hops[i])
		if !at.IsValid() || !p.trust(at) {
			break
		}
	}
	return at
}

// Secure reports whether the client came over HTTPS, to this service or to a trusted
// peer in front of it.
func (p Peers) Secure(r *http.Request) bool {
	if r.TLS != nil {
		return true
	}
	if len(p) == 0 || !p.trust(peer(r)) {
		return false
	}
	if values := r.Header.Values("Forwarded"); len(values) > 0 {
		elements := strings.Split(values[len(values)-1], ",")
		return strings.EqualFold(parameter(elements[len(elements)-1], "proto"), "https")
	}
	values := r.Header.Values("X-Forwarded-Proto")
	return len(values) == 1 && strings.EqualFold(strings.TrimSpace(values[0]), "https")
}

// parameter returns a parameter of one element of a Forwarded header (RFC 7239, section
// 4), without its quotes.
func parameter(element, name string) string {
	for _, pair := range strings.Split(element, ";") {
		key, value, ok := strings.Cut(strings.TrimSpace(pair), "=")
		if ok && strings.EqualFold(key, name) {
			return strings.Trim(value, `"`)
		}
	}
	return ""
}

// hop reads the address of one hop: "192.0.2.7", "192.0.2.7:4711", "[2001:db8::7]:4711".
func hop(s string) netip.Addr {
	s = strings.TrimSpace(s)
	if port, err := netip.ParseAddrPort(s); err == nil {
		return port.Addr().Unmap().WithZone("")
	}
	a, err := netip.ParseAddr(strings.Trim(s, "[]"))
	if err != nil {
		return netip.Addr{}
	}
	return a.Unmap().WithZone("")
}
