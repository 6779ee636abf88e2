package patrol

import (
	"net"
	"net/url"
	"slices"
	"strings"

	"ostiarius/core/factor"
	"ostiarius/core/policy"
	"ostiarius/core/prove"
)

// Kinds returns the kinds of visitor that a policy tells apart: somebody anonymous, somebody signed in, each role, whoever has
// opened a keyring, knows a shared password or holds a pass, and those who need several of these at one door.
func Kinds(b *policy.Book) []policy.Visitor {
	all := prove.Kinds(b)
	add := func(v policy.Visitor) {
		if !slices.ContainsFunc(all, func(other policy.Visitor) bool { return other.String() == v.String() }) {
			all = append(all, v)
		}
	}
	for _, k := range b.Keyrings {
		add(policy.Visitor{Keyrings: []string{k.Name}})
	}
	for _, s := range b.Shared {
		add(policy.Visitor{Shared: []string{s.Name}})
	}
	for _, p := range b.Passes {
		add(policy.Visitor{Passes: []string{p.Name}})
	}
	for i := range b.Doors {
		d := &b.Doors[i]
		if d.Admit.Kind != policy.All {
			continue
		}
		v := policy.Visitor{Keyrings: d.Keyrings(), Shared: d.Shared(), Passes: d.Passes()}
		asksAccount, factors := false, false
		for _, part := range d.Admit.Parts {
			switch part.Kind {
			case policy.Role:
				v.SignedIn, v.Roles, asksAccount = true, part.Names[:1], true
			case policy.SignedIn, policy.User, policy.ProofWithin:
				v.SignedIn, asksAccount = true, true
			case policy.Factor:
				v.SignedIn, asksAccount, factors = true, true, true
			}
		}
		if factors { // who has shown all that there is meets whatever is asked
			v.Showing(factor.Shown{}.With(factor.Password, 0).With(factor.Passkey, 0).With(factor.Code, 0))
		}
		if asksAccount && (factors || len(v.Keyrings)+len(v.Shared)+len(v.Passes) > 0) {
			add(v)
		}
	}
	return all
}

// Examples are addresses that the doors of a policy cover.
func Examples(b *policy.Book) (all []string) {
	for i := range b.Doors {
		path := b.Doors[i].Path.String()
		for _, form := range []string{strings.NewReplacer("/**", "", "**", "x", "*", "x").Replace(path),
			strings.NewReplacer("**", "x", "*", "x").Replace(path)} {
			if escaped := (&url.URL{Path: form}).EscapedPath(); strings.HasPrefix(form, "/") && !slices.Contains(all, escaped) {
				all = append(all, escaped)
			}
		}
	}
	return all
}

// Elsewhere are where the servers behind might be asked directly: on other machines, and at their ports under the name of the site, if they
// listen for more than this machine.
func Elsewhere(b *policy.Book, site *url.URL) (all []*url.URL) {
	for _, s := range b.Sources {
		u, err := url.Parse(s.Proxy)
		switch {
		case err != nil || u.Scheme != "http" && u.Scheme != "https":
		case !OnThisMachine(u.Hostname()):
			all = append(all, &url.URL{Scheme: u.Scheme, Host: u.Host})
		case !OnThisMachine(site.Hostname()) && u.Port() != "" && u.Port() != site.Port():
			all = append(all, &url.URL{Scheme: u.Scheme, Host: net.JoinHostPort(site.Hostname(), u.Port())})
		}
	}
	return all
}

// OnThisMachine reports whether a host is the one that asks.
func OnThisMachine(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || strings.HasSuffix(host, ".localhost") || ip != nil && ip.IsLoopback()
}
