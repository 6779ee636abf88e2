// Package telling is what other programs are told of what happens here.
package telling

import (
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"ostiarius/core/activity"
)

// A Kind is a kind of what is told.
type Kind string

// The kinds of what is told.
const (
	Joined          Kind = "joined"
	MembershipBegun Kind = "membership-begun"
	MembershipEnded Kind = "membership-ended"
	PassUsedUp      Kind = "pass-used-up"
	RefusedOften    Kind = "refused-often"
	PolicyApplied   Kind = "policy-applied"
	GuaranteeBroken Kind = "guarantee-broken"
	Test            Kind = "test" // is told to every target, when somebody asks for it
)

// Kinds are those that a target can ask for.
var Kinds = []Kind{Joined, MembershipBegun, MembershipEnded, PassUsedUp, RefusedOften, PolicyApplied, GuaranteeBroken}

var of = map[activity.Kind]Kind{
	activity.Joined: Joined, activity.MembershipBegun: MembershipBegun, activity.MembershipEnded: MembershipEnded,
	activity.PassUsedUp:   PassUsedUp,
	activity.SignInSlowed: RefusedOften, activity.MoreRefused: RefusedOften, activity.PolicyApplied: PolicyApplied,
	activity.GuaranteeBroken: GuaranteeBroken,
}

// Of returns what is told of what is recorded; false if it is told to nobody.
func Of(k activity.Kind) (Kind, bool) {
	kind, told := of[k]
	return kind, told
}

// A Target is a program that is told of some kinds.
type Target struct {
	ID     int64
	URL    string
	Kinds  []Kind
	MadeAt time.Time
	MadeBy string
}

// Wants reports whether a target is told of a kind.
func (t *Target) Wants(k Kind) bool { return k == Test || slices.Contains(t.Kinds, k) }

// Body writes what is told.
func Body(k Kind, at time.Time, data map[string]string) (string, error) {
	if data == nil {
		data = map[string]string{}
	}
	text, err := json.Marshal(struct {
		Type Kind              `json:"type"`
		At   time.Time         `json:"at"`
		Data map[string]string `json:"data"`
	}{k, at.UTC(), data})
	return string(text), err
}

// Rules say where something may be told.
type Rules struct {
	Hosts   []string // names of hosts, each perhaps with a port; of one without, any port
	Private bool     // addresses of private networks and of this machine too, and plain HTTP
}

// CheckURL says why nothing is told at an address; nil if something may be.
func (r Rules) CheckURL(address string) error {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "" || u.User != nil || u.Fragment != "" || u.Opaque != "":
		return fmt.Errorf("%q is no address such as https://desk.example/in", address)
	case u.Scheme != "https" && !(u.Scheme == "http" && r.Private):
		return fmt.Errorf("%q does not begin with https://; plain http is for private networks, if the setting --events-private says so", address)
	case u.Port() != "" && !isPort(u.Port()):
		return fmt.Errorf("%q names the port %s; ports are 1 to 65535", address, u.Port())
	case len(r.Hosts) == 0:
		return fmt.Errorf("no other program may be told anything; name its host with --events-to %s", u.Hostname())
	case !slices.ContainsFunc(r.Hosts, func(host string) bool {
		return strings.EqualFold(host, u.Host) || strings.EqualFold(host, u.Hostname())
	}):
		return fmt.Errorf("the host %s is not among those that may be told something (%s); name it with --events-to", u.Host,
			strings.Join(r.Hosts, ", "))
	}
	return nil
}

func isPort(text string) bool {
	port, err := strconv.ParseUint(text, 10, 16)
	return err == nil && port > 0
}

// reserved are networks that are no part of the public network, beside those that netip knows (RFC 6890, with later additions).
var reserved = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("192.88.99.0/24"),
	netip.MustParsePrefix("198.18.0.0/15"), netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("203.0.113.0/24"),
	netip.MustParsePrefix("240.0.0.0/4"),
	netip.MustParsePrefix("64:ff9b::/96"), netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("100::/64"),
	netip.MustParsePrefix("2001::/23"), netip.MustParsePrefix("2001:db8::/32"), netip.MustParsePrefix("2002::/16"),
	netip.MustParsePrefix("fec0::/10"), netip.MustParsePrefix("5f00::/16"),
}

// global is all that is given out of IP version 6 for the public network. Elsewhere are, among others, forms of an address of version 4.
var global = netip.MustParsePrefix("2000::/3")

// CheckAddress says why nothing is told at an address of the network, HOST:PORT with a number as its host; nil if something may be.
// It is asked when the connection is made, whatever the name meant before.
func (r Rules) CheckAddress(address string) error {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return err
	}
	ip, err := netip.ParseAddr(host)
	if err != nil {
		return err
	}
	if r.Private {
		return nil
	}
	ip = ip.Unmap().WithZone("")
	if ip.Is6() && !global.Contains(ip) || !ip.IsGlobalUnicast() || ip.IsPrivate() || ip.IsLoopback() ||
		slices.ContainsFunc(reserved, func(p netip.Prefix) bool { return p.Contains(ip) }) {
		return fmt.Errorf("%s is an address of a private network; nothing is told there unless --events-private says so", ip)
	}
	return nil
}
