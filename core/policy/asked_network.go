package policy

import (
	"fmt"
	"net/netip"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/pattern"
)

// network: an address in one of some networks. It is nothing that somebody can prove.
type networkRule struct{ plainRule }

func (networkRule) read(p *PartReader, n ast.Node, d *Demand) bool {
	names, nodes := p.Texts(n, string(Network))
	for i, name := range names {
		if !network.MatchString(name) {
			p.At(nodes[i], "bad-value", "%q isn't a network; use one like 192.0.2.0/24 or 2001:db8::/32", name)
			continue
		}
		prefix, err := parseNetwork(name)
		if err != nil {
			p.At(nodes[i], "bad-network", "%v", err)
			continue
		}
		d.Nets = append(d.Nets, prefix)
	}
	return true
}

func (networkRule) values(d *Demand) []string {
	names := make([]string, len(d.Nets))
	for i, n := range d.Nets {
		names[i] = n.String()
	}
	return names
}

func (networkRule) shows(v *Visitor, d *Demand) bool {
	if !v.From.IsValid() {
		return false
	}
	from := v.From.Unmap().WithZone("")
	for _, n := range d.Nets {
		if n.Contains(from) {
			return true
		}
	}
	return false
}

func (networkRule) schema(s SchemaParts) any {
	return s.OneOrMany(s.Pattern(networkPattern, "A network such as 192.0.2.0/24"), "The networks a request may come from")
}

func (r networkRule) noun(d *Demand) string { return "an address in " + document.OrList(r.values(d)) }

func (r networkRule) told(d *Demand) ([]string, map[string][]string) {
	return []string{""}, map[string][]string{"names": r.values(d)}
}

// Which networks an address is in changes only where one begins or has ended.
func (networkRule) cases(d *Demand, c *Cases) {
	for _, n := range d.Nets {
		c.From = append(c.From, n.Addr())
		if after := lastOf(n).Next(); after.IsValid() {
			c.From = append(c.From, after)
		}
	}
}

// lastOf returns the last address of a network.
func lastOf(n netip.Prefix) netip.Addr {
	b := n.Addr().AsSlice()
	for bit := n.Bits(); bit < len(b)*8; bit++ {
		b[bit/8] |= 1 << (7 - bit%8)
	}
	addr, _ := netip.AddrFromSlice(b)
	return addr
}

const networkPattern = `^[0-9A-Fa-f:.]+(?:/[0-9]{1,3})?$`

var network = pattern.New(networkPattern)

// ParseNetwork reads a network as the policy has it.
func ParseNetwork(s string) (netip.Prefix, error) { return parseNetwork(s) }

// parseNetwork reads a network in CIDR notation (RFC 4632, RFC 4291), or one address.
func parseNetwork(s string) (netip.Prefix, error) {
	if address, err := netip.ParseAddr(s); err == nil && address.Zone() == "" {
		address = address.Unmap()
		return netip.PrefixFrom(address, address.BitLen()), nil
	}
	prefix, err := netip.ParsePrefix(s)
	if err != nil || prefix.Addr().Is4In6() {
		return netip.Prefix{}, fmt.Errorf("%q isn't a network; use one like 192.0.2.0/24 or 2001:db8::/32", s)
	}
	if prefix != prefix.Masked() {
		return netip.Prefix{}, fmt.Errorf("%q has bits beyond its length; did you mean %s?", s, prefix.Masked())
	}
	return prefix, nil
}
