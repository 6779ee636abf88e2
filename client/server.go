package client

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"ostiarius/core/accesskey"
)

// NewServer returns a client of the service at the address of its site, which comes with an access key. If the service has its own pages
// elsewhere than below /door, the address has that path. The key is sent over HTTPS only, or on this machine; a redirect is not followed
// with it.
func NewServer(address, key string) *Client {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.RawQuery != "" || u.User != nil:
		return Failing(fmt.Errorf("--server %q is no address of a site; write one like https://marram.example", address))
	case key == "":
		return Failing(errors.New("--server needs an access key: in the variable OSTIARIUS_ACCESS_KEY, or in a file that --access-key-file " +
			"names; `ostiarius access-keys add` makes one"))
	case u.Scheme == "http" && !onThisMachine(u.Hostname()):
		return Failing(fmt.Errorf("the access key is not sent to %s, since everybody on the way could read it there; use https", address))
	}
	if _, ok := accesskey.Hash(key); !ok {
		return Failing(errors.New("the access key is mistyped, or cut off"))
	}
	if u.Path = strings.TrimRight(u.Path, "/"); u.Path == "" {
		u.Path = "/door"
	}
	return &Client{
		base: u.String() + "/api/v1", server: address,
		http: &http.Client{Transport: bearer{key,
			&http.Transport{Proxy: http.ProxyFromEnvironment, TLSHandshakeTimeout: 10 * time.Second}},
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }},
	}
}

func onThisMachine(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || strings.HasSuffix(host, ".localhost") || ip != nil && ip.IsLoopback()
}

// Failing returns a client that says what is wrong whenever it is asked.
func Failing(err error) *Client { return &Client{wrong: err} }

// bearer sends an access key along (RFC 6750, section 2.1).
type bearer struct {
	key  string
	next http.RoundTripper
}

func (b bearer) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.Header.Set("Authorization", "Bearer "+b.key)
	return b.next.RoundTrip(r)
}
