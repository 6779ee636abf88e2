package source

import (
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"ostiarius/core/policy"
	"ostiarius/service/rule/inspect"
)

// What a server behind answers may name that server: its own address and port, to which people
// would then go, around the guard; or paths as it knows them, without the prefix under which it
// stands. An outside is how such answers are told: as what was asked for.
type outside struct {
	host, port string // of the server; "" for a socket
	prefix     string // what was left out of the path, "" for nothing
}

func newOutside(s policy.Source, upstream *url.URL) outside {
	o := outside{host: upstream.Hostname(), port: inspect.PortOf(upstream)}
	if strings.HasPrefix(s.Proxy, "unix:") {
		o.host, o.port = "", ""
	}
	if s.StripPrefix && s.Path != "/" {
		o.prefix = s.Path
	}
	return o
}

// rewrite changes the fields of an answer that name the server, for the request as it was asked.
func (o outside) rewrite(h http.Header, asked *http.Request) {
	// Another address for all of the site, beside the guard (RFC 7838).
	delete(h, "Alt-Svc")
	for _, name := range [...]string{"Location", "Content-Location"} {
		for i, address := range h[name] {
			h[name][i] = o.address(address, asked)
		}
	}
	for i, text := range h["Refresh"] {
		h["Refresh"][i] = o.refresh(text, asked)
	}
	if set := h["Set-Cookie"]; len(set) > 0 {
		for i, text := range set {
			set[i] = o.cookie(text)
		}
	}
}

// address makes an address that the server gives into one of the site. What is not the server's
// own stays.
func (o outside) address(given string, asked *http.Request) string {
	u, err := url.Parse(strings.TrimSpace(given))
	if err != nil || u.Opaque != "" {
		return given
	}
	host := hostname(asked.Host)
	switch {
	case u.Host == "" && u.Scheme == "":
		if !strings.HasPrefix(u.Path, "/") || o.prefix == "" {
			return given // relative to what was asked for
		}
	case u.Scheme != "" && u.Scheme != "http" && u.Scheme != "https":
		return given
	case o.isServer(u, host):
		u.Scheme, u.Host, u.User = "", "", nil
	case o.prefix != "" && strings.EqualFold(u.Host, asked.Host):
		// The site's own address, as the server learned it.
	default:
		return given
	}
	if u.Path == "" {
		u.Path = "/"
	}
	if o.prefix != "" && u.Path != o.prefix && !strings.HasPrefix(u.Path, o.prefix+"/") {
		u.Path = o.prefix + u.Path
		if u.RawPath != "" {
			u.RawPath = (&url.URL{Path: o.prefix}).EscapedPath() + u.RawPath
		}
	}
	if u.Host == "" {
		// Two slashes at the beginning would name another host.
		path := u.EscapedPath()
		u.Path, u.RawPath = "", ""
		return "/" + strings.TrimLeft(path, "/\\") + u.String()
	}
	return u.String()
}

// isServer reports whether an address names the server behind: by its own host, by the host that
// was asked for with the server's port, as servers do that put together both, or by another name
// of this machine if the server is on it.
func (o outside) isServer(u *url.URL, asked string) bool {
	host := u.Hostname()
	if o.host == "" { // a socket, of which servers tell no port
		return strings.EqualFold(host, "upstream") || u.Port() == "" && strings.EqualFold(host, asked)
	}
	if inspect.PortOf(u) != o.port {
		return false
	}
	return strings.EqualFold(host, o.host) || strings.EqualFold(host, asked) || isLoopback(host) && isLoopback(o.host)
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return strings.EqualFold(host, "localhost") || ip != nil && (ip.IsLoopback() || ip.IsUnspecified())
}

func hostname(hostport string) string {
	if host, _, err := net.SplitHostPort(hostport); err == nil {
		return host
	}
	return strings.Trim(hostport, "[]")
}

// refresh is address for the field Refresh, such as "5; url=/log/".
func (o outside) refresh(text string, asked *http.Request) string {
	at := strings.IndexAny(text, ";,")
	if at < 0 {
		return text
	}
	rest := strings.TrimLeft(text[at+1:], " \t")
	if len(rest) >= 3 && strings.EqualFold(rest[:3], "url") {
		if after, ok := strings.CutPrefix(strings.TrimLeft(rest[3:], " \t"), "="); ok {
			rest = strings.TrimLeft(after, " \t")
		}
	}
	if len(rest) > 1 && (rest[0] == '"' || rest[0] == '\'') {
		rest, _, _ = strings.Cut(rest[1:], rest[:1])
	}
	return text[:at] + "; url=" + o.address(rest, asked)
}

// cookie makes the attributes of a cookie fit what was asked for: a Domain that is the server's
// own is left out, and the Path gets the prefix. One with a name that binds it to the path / keeps
// that.
func (o outside) cookie(text string) string {
	pair, rest, more := strings.Cut(text, ";")
	if !more {
		return text
	}
	bound := strings.HasPrefix(strings.ToLower(strings.TrimSpace(pair)), "__host-")
	kept := []string{pair}
	for attribute := range strings.SplitSeq(rest, ";") {
		name, value, _ := strings.Cut(attribute, "=")
		value = strings.TrimSpace(value)
		switch strings.ToLower(strings.TrimSpace(name)) {
		case "domain":
			if d := strings.TrimPrefix(value, "."); o.host != "" && (strings.EqualFold(d, o.host) || isLoopback(d)) {
				continue
			}
		case "path":
			if o.prefix != "" && !bound && strings.HasPrefix(value, "/") && value != o.prefix && !strings.HasPrefix(value, o.prefix+"/") {
				attribute = " Path=" + strings.TrimSuffix(o.prefix+value, "/")
			}
		}
		kept = append(kept, attribute)
	}
	return strings.Join(kept, ";")
}

// setNoCookies takes out the Set-Cookie fields for cookies that are ours: an application
// could sign somebody in as somebody else.
func setNoCookies(h http.Header, ours func(name string) bool) {
	set, there := h["Set-Cookie"]
	if !there || ours == nil {
		return
	}
	h["Set-Cookie"] = slices.DeleteFunc(set, func(field string) bool {
		pair, _, _ := strings.Cut(field, ";")
		// One without a name is sent back as its value alone, which may look like a cookie.
		name, _, _ := strings.Cut(strings.TrimLeft(pair, " \t="), "=")
		return ours(strings.TrimSpace(name))
	})
}
