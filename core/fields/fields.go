// Package fields knows what a header field of a request could make a server behind believe.
//
// A server behind learns from Ostiarius who asks and from where. So whatever else a client
// writes must not look like that, in the eyes of the next program either: servers make
// variables of fields, and for many of them Ostiarius-User, Ostiarius_User and Ostiarius.User
// become one and the same (RFC 3875, section 4.1.18, changes only "-" to "_"; servers change
// more). Therefore fields are handed on only if their names are of letters, digits and "-", and
// not if they are of a kind that speaks for somebody else.
package fields

import (
	"slices"
	"strings"
)

// A Kind says what a field is for.
type Kind int

const (
	Free     Kind = iota // handed on as it comes
	Odd                  // its name has other characters than letters, digits and "-"
	Ours                 // Ostiarius writes it, nobody else: Ostiarius-..., Forwarded, X-Forwarded-For and kin
	Hop                  // it is about one connection (RFC 9110, section 7.6.1), or names another protocol
	Override             // with it applications let a path, a host or a method be other than what was asked for
	Address              // with it others say what the client's address is
	User                 // with it others say who is signed in
	Vouched              // with it others vouch for a group, a scheme or a certificate
)

// most is the longest name that can be of any kind but Free.
const most = 40

// KindOf returns the kind of a field by its name, in whatever letter case.
func KindOf(name string) Kind {
	var room [most]byte
	lower := room[:0]
	for i := 0; i < len(name); i++ {
		c := name[i]
		switch {
		case 'A' <= c && c <= 'Z':
			c |= 0x20
		case 'a' <= c && c <= 'z', '0' <= c && c <= '9', c == '-':
		default:
			return Odd
		}
		if i < most {
			lower = append(lower, c)
		}
	}
	if len(lower) == 0 {
		return Odd
	}
	// Most fields of most requests end here.
	switch lower[0] {
	case 'o', 'f', 'x', 'r', 't', 'c', 'h', 'k', 'p', 'u', 'b', 's', 'd', 'w':
	default:
		return Free
	}
	if len(name) <= most {
		if kind, ok := known[string(lower)]; ok {
			return kind
		}
	}
	for _, f := range families {
		if len(lower) >= len(f.begins) && string(lower[:len(f.begins)]) == f.begins {
			return f.kind
		}
	}
	return Free
}

var families = [...]struct {
	begins string
	kind   Kind
}{
	{"ostiarius-", Ours}, {"x-forwarded-", Ours}, {"x-remote-", Vouched}, {"remote-", Vouched}, {"x-authenticated-", Vouched},
	{"x-auth-request-", Vouched}, {"x-webauth-", Vouched}, {"x-client-cert", Vouched}, {"x-ssl-", Vouched}, {"ssl-client-", Vouched},
	{"client-cert", Vouched},
}

var known = kinds()

func kinds() map[string]Kind {
	all := map[string]Kind{}
	for kind, names := range map[Kind]string{
		Ours: "forwarded x-forwarded",
		Hop: "http2-settings upgrade connection keep-alive proxy-connection proxy-authenticate proxy-authorization proxy trailer " +
			"transfer-encoding",
		Override: "x-original-url x-rewrite-url x-original-uri x-original-path x-original-host x-original-method x-override-url " +
			"x-http-method x-http-method-override x-method-override x-http-path-override x-http-host-override x-host x-path base-url destination",
		Address: "x-real-ip x-client-ip client-ip true-client-ip x-true-client-ip x-cluster-client-ip x-originating-ip " +
			"x-original-forwarded-for forwarded-for cf-connecting-ip cf-connecting-ipv6 cf-pseudo-ipv4 fastly-client-ip x-azure-clientip " +
			"x-azure-socketip x-appengine-user-ip x-envoy-external-address x-proxyuser-ip wl-proxy-client-ip",
		User: "remote-user x-remote-user x-authenticated-user x-authenticated-userid x-webauth-user x-auth-request-user x-proxy-user " +
			"x-user-id x-auth-user",
		Vouched: "front-end-https x-scheme x-url-scheme x-proxy-groups",
	} {
		for name := range strings.FieldsSeq(names) {
			all[name] = kind
		}
	}
	return all
}

// Names returns the names of one kind that are known by name, in order, for documents.
func Names(kind Kind) []string {
	var names []string
	for name, k := range known {
		if k == kind {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// Askable says what a source gets that asks for a field of that name: "as sent", "address" (the
// client's, as Ostiarius knows it), "user" (the account's name), or "" if it cannot ask for it.
// A field that is handed on anyway need not be asked for.
func Askable(name string) string {
	switch KindOf(name) {
	case Override, Free:
		return "as sent"
	case Address:
		return "address"
	case User:
		return "user"
	}
	return ""
}
