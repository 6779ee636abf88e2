package throttle

import (
	"net/netip"
	"sync"
)

// A Bound keeps what is held at once, such as connections, in number: in all, and for each
// network, so that one network cannot take what is there for all. It may be used by several
// goroutines.
type Bound struct {
	most, each int

	mu   sync.Mutex
	held map[netip.Prefix]int
	all  int
}

// NewBound returns a Bound of so many in all, of which one network has at most so many.
func NewBound(most, each int) *Bound {
	return &Bound{most: most, each: each, held: map[netip.Prefix]int{}}
}

// Take takes one more for a network and reports whether there was room. What is shared says that
// a network stands for many, and is bounded only with all.
func (b *Bound) Take(network netip.Prefix, shared bool) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.all >= b.most || !shared && b.held[network] >= b.each {
		return false
	}
	b.all++
	b.held[network]++
	return true
}

// Give gives one back.
func (b *Bound) Give(network netip.Prefix) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.all--
	if b.held[network]--; b.held[network] <= 0 {
		delete(b.held, network)
	}
}

// Held returns how many are held in all.
func (b *Bound) Held() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.all
}

// NetworkOf returns what a client can hardly change about its address: all of it, or the first
// half of one of IP version 6, whose second half it chooses itself. That of an unknown address
// is the zero Prefix.
func NetworkOf(a netip.Addr) netip.Prefix {
	if !a.IsValid() {
		return netip.Prefix{}
	}
	bits := a.BitLen()
	if a.Is6() && !a.Is4In6() {
		bits = 64
	}
	network, err := a.WithZone("").Prefix(bits)
	if err != nil {
		return netip.Prefix{}
	}
	return network
}

// NetworkNamed is NetworkOf for an address in words; words that are none are a network of their own.
func NetworkNamed(address string) string {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	return NetworkOf(a).String()
}
