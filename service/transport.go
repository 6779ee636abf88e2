package service

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"
)

// A certificate is a pair of PEM files, read again when they change.
type certificate struct {
	cert, key string
	log       *slog.Logger

	mu      sync.Mutex
	pair    *tls.Certificate
	changed [2]fileMark // of the files that the pair was read from
	looked  time.Time
}

// A fileMark tells a file from another that takes its place, also within the same second and of the same length.
type fileMark struct {
	modified time.Time
	size     int64
	content  [sha256.Size]byte
}

// openCertificate reads the files. The error says what is wrong with them.
func openCertificate(cert, key string, log *slog.Logger) (*certificate, error) {
	c := &certificate{cert: cert, key: key, log: log}
	c.changed = c.marks()
	pair, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		return nil, fmt.Errorf("the certificate in %s and the key in %s cannot be used: %w", cert, key, err)
	}
	c.pair = &pair
	return c, nil
}

func (c *certificate) marks() (all [2]fileMark) {
	for i, name := range []string{c.cert, c.key} {
		info, err := os.Stat(name)
		if err != nil {
			continue
		}
		all[i] = fileMark{modified: info.ModTime(), size: info.Size()}
		// A clock may tell seconds only, and a file that was written just now may be written again.
		if since := time.Since(info.ModTime()); since < 3*time.Second {
			if text, err := os.ReadFile(name); err == nil {
				all[i].content = sha256.Sum256(text)
			}
		} else {
			all[i].content = c.changed[i].content // as it was
		}
	}
	return all
}

// covers reports whether the certificate is for a host.
func (c *certificate) covers(host string) bool {
	pair, err := c.get(nil)
	if err != nil || pair.Leaf == nil {
		return false
	}
	return pair.Leaf.VerifyHostname(host) == nil
}

// get returns the pair for a new connection. Changed files are read at most once a second;
// while they cannot be read, as when only one of them has been replaced, the pair before is
// used on.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.looked) > time.Second || now.Before(c.looked) {
		c.looked = now
		if changed := c.marks(); changed != c.changed {
			pair, err := tls.LoadX509KeyPair(c.cert, c.key)
			if err != nil {
				c.log.Warn("the new certificate cannot be used; the one before is used on", "error", err)
			} else {
				c.pair, c.changed = &pair, changed
				c.log.Info("another certificate is used from now on", "file", c.cert)
			}
		}
	}
	return c.pair, nil
}

// config is how TLS is spoken: version 1.2 or later, and HTTP/2 where the client can.
func (c *certificate) config() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.get, NextProtos: []string{"h2", "http/1.1"}}
}

// The longest time that a client may take for the handshake of TLS.
const longestHandshake = 10 * time.Second

// speaking are the connections of one protocol, out of those that a listener takes.
type speaking struct {
	net.Listener
	conns  chan net.Conn
	closed context.Context
	close  context.CancelFunc
}

func (s *speaking) Accept() (net.Conn, error) {
	select {
	case c := <-s.conns:
		return c, nil
	case <-s.closed.Done():
		return nil, net.ErrClosed
	}
}

// Close closes the listener, and so the other protocol's too.
func (s *speaking) Close() error {
	s.close()
	return s.Listener.Close()
}

// byProtocol takes connections from l, shakes hands with them, and tells those of HTTP/2, which
// are *tls.Conn, from those of HTTP/1, which are *headed.
func byProtocol(l net.Listener, config *tls.Config, log *slog.Logger) (one, two net.Listener) {
	closed, end := context.WithCancel(context.Background())
	h1 := &speaking{l, make(chan net.Conn), closed, end}
	h2 := &speaking{l, make(chan net.Conn), closed, end}
	welcome := func(c net.Conn) {
		limited, done := context.WithTimeout(closed, longestHandshake)
		defer done()
		secured := tls.Server(c, config)
		if err := secured.HandshakeContext(limited); err != nil {
			var record tls.RecordHeaderError
			if errors.As(err, &record) && record.Conn != nil && record.RecordHeader[0] >= 'A' && record.RecordHeader[0] <= 'Z' {
				record.Conn.SetWriteDeadline(time.Now().Add(time.Second))
				io.WriteString(record.Conn, "HTTP/1.0 400 Bad Request\r\nContent-Type: text/plain\r\n\r\nThis service speaks HTTPS.\n")
			}
			log.Debug("TLS could not be agreed on", "error", err)
			c.Close()
			return
		}
		state, to, conn := secured.ConnectionState(), h2, net.Conn(secured)
		if state.NegotiatedProtocol != "h2" {
			to, conn = h1, &headed{Conn: secured, tls: &state}
		}
		select {
		case to.conns <- conn:
		case <-closed.Done():
			conn.Close()
		}
	}
	go func() {
		defer end()
		for {
			c, err := l.Accept()
			switch {
			case err == nil:
				go welcome(c)
			case errors.Is(err, net.ErrClosed):
				return
			default: // such as too many open files
				log.Error("a connection could not be taken", "error", err)
				select {
				case <-time.After(100 * time.Millisecond):
				case <-closed.Done():
					return
				}
			}
		}
	}()
	return h1, h2
}

// strict adds Strict-Transport-Security (RFC 6797) to the answers of a handler, for so
// long, where the client came over HTTPS by a name that is meant. Addresses and localhost are left alone.
func strict(lasts time.Duration, secure func(*http.Request) bool, meant func(host string) bool, h http.Handler) http.Handler {
	if lasts == 0 {
		return h
	}
	value := fmt.Sprintf("max-age=%d", int(lasts.Seconds()))
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := hostOf(r.Host)
		if _, err := netip.ParseAddr(host); err != nil && host != "localhost" && !strings.HasSuffix(host, ".localhost") && secure(r) &&
			meant(host) {
			w.Header().Set("Strict-Transport-Security", value)
		}
		h.ServeHTTP(w, r)
	})
}

// meant reports whether a host name is one of the site: of its certificate, of its address (--url), or of a source of the policy.
// Without certificate and address it is not known which are meant, and all are.
func (s *Service) meant(host string) bool {
	said := false
	if s.cert != nil {
		said = true
		if s.cert.covers(host) {
			return true
		}
	}
	if u, err := url.Parse(s.settings.URL); err == nil && u.Host != "" {
		said = true
		if strings.EqualFold(u.Hostname(), host) {
			return true
		}
	}
	for _, source := range s.policy.Book().Sources {
		if !source.Host.Any() && source.Host.Covers(strings.ToLower(host)) {
			return true
		}
	}
	return !said
}

func hostOf(hostport string) string {
	if host, _, err := net.SplitHostPort(hostport); err == nil {
		return host
	}
	return strings.Trim(hostport, "[]")
}

// toHTTPS leads each request on plain HTTP to the same address over HTTPS. The port is that
// at which HTTPS is served. What is not a plain host name, or none of the site, is answered with an error, since
// it could lead elsewhere.
func toHTTPS(port string, meant func(host string) bool) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := hostOf(r.Host)
		if host == "" || strings.ContainsAny(host, "/\\@?#%\" \t<>") || !strings.HasPrefix(r.RequestURI, "/") {
			http.Error(w, "This service speaks HTTPS.", http.StatusBadRequest)
			return
		}
		if !meant(host) {
			http.Error(w, "There is no site of that name here.", http.StatusMisdirectedRequest)
			return
		}
		if strings.Contains(host, ":") {
			host = "[" + host + "]"
		}
		if port != "443" {
			host += ":" + port
		}
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("Location", "https://"+host+r.RequestURI)
		w.WriteHeader(http.StatusPermanentRedirect)
	})
}

const challengePath = "/.well-known/acme-challenge/"

// challenges answers for the files of the challenges of ACME (RFC 8555, section 8.3), which are asked for over plain HTTP,
// if there is a directory of them. All else is next's.
func (s *Service) challenges(next http.Handler) http.Handler {
	if s.settings.Challenges == "" {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		token, is := strings.CutPrefix(r.RequestURI, challengePath)
		if !is {
			next.ServeHTTP(w, r)
			return
		}
		text, err := challenge(s.settings.Challenges, token)
		if err != nil || r.Method != http.MethodGet && r.Method != http.MethodHead {
			http.Error(w, "There is no such challenge.", http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "application/octet-stream")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		w.Header().Set("Cache-Control", "no-store")
		w.Write(text)
	})
}

// mostChallenge is more than any challenge has, in bytes.
const mostChallenge = 4 << 10

// challenge reads the file of a token, which has only the characters of base64url (RFC 8555, section 8.3).
func challenge(dir, token string) ([]byte, error) {
	if token == "" || len(token) > 200 || strings.Trim(token, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_") != "" {
		return nil, fs.ErrNotExist
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	info, err := root.Lstat(token)
	if err != nil || !info.Mode().IsRegular() {
		return nil, errors.Join(err, fs.ErrNotExist)
	}
	file, err := root.Open(token)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return io.ReadAll(io.LimitReader(file, mostChallenge))
}

// checkTransport refuses plain HTTP where others could listen.
func (s *Service) checkTransport() error {
	if (s.settings.Cert == "") != (s.settings.Key == "") {
		return errors.New("--tls-cert and --tls-key go together")
	}
	if s.settings.Challenges != "" {
		if s.settings.Redirect == "" {
			return errors.New("--acme-files is for plain HTTP that is led to HTTPS, and needs --redirect-http")
		}
		if info, err := os.Stat(s.settings.Challenges); err != nil || !info.IsDir() {
			return fmt.Errorf("--acme-files %s is no directory", s.settings.Challenges)
		}
	}
	if s.settings.Redirect != "" && s.settings.Cert == "" {
		return errors.New("--redirect-http leads to HTTPS and needs --tls-cert and --tls-key")
	}
	if s.settings.Cert != "" || s.settings.PlainHTTP {
		return nil
	}
	for _, address := range []string{s.settings.Listen, s.apart.listen} {
		if address == "" {
			continue
		}
		host, _, err := net.SplitHostPort(address)
		if err != nil {
			return fmt.Errorf("%q is no address to listen on; write HOST:PORT, such as localhost:8460", address)
		}
		if ip, err := netip.ParseAddr(host); host != "localhost" && (err != nil || !ip.IsLoopback()) {
			return fmt.Errorf("plain HTTP is served on loopback only, and %s is not; give --tls-cert and --tls-key, or --plain-http if a "+
				"server in front speaks HTTPS", address)
		}
	}
	return nil
}
