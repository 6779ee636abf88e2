package mail

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"math/big"
	"net"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// A taken is a message that a server took.
type taken struct {
	to   string
	text []byte
	tls  bool
	user string
}

// A server is a mail server that does what its fields say.
type server struct {
	mu      sync.Mutex
	taken   []taken
	refuse  map[string]*smtp.SMTPError // by address
	cut     int                        // so many times the connection ends after the message, without an answer
	user    string                     // who may; "" for anybody
	came    chan struct{}
	forgets bool // what it took
}

type dialogue struct {
	s    *server
	c    *smtp.Conn
	to   string
	user string
}

func (d *dialogue) Reset()        {}
func (d *dialogue) Logout() error { return nil }
func (d *dialogue) Mail(string, *smtp.MailOptions) error {
	if d.s.user != d.user {
		return smtp.ErrAuthRequired
	}
	return nil
}
func (d *dialogue) Rcpt(to string, _ *smtp.RcptOptions) error {
	d.s.mu.Lock()
	defer d.s.mu.Unlock()
	if wrong := d.s.refuse[to]; wrong != nil {
		return wrong
	}
	d.to = to
	return nil
}
func (d *dialogue) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	d.s.mu.Lock()
	defer d.s.mu.Unlock()
	_, encrypted := d.c.TLSConnectionState()
	if !d.s.forgets {
		d.s.taken = append(d.s.taken, taken{d.to, text, encrypted, d.user})
	}
	if d.s.cut > 0 {
		d.s.cut--
		d.c.Conn().Close()
		return errors.New("cut")
	}
	select {
	case d.s.came <- struct{}{}:
	default:
	}
	return nil
}
func (d *dialogue) AuthMechanisms() []string { return []string{sasl.Plain} }
func (d *dialogue) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if password != "fog-bell" {
			return smtp.ErrAuthFailed
		}
		d.user = user
		return nil
	}), nil
}

// all is what it took.
func (s *server) all() []taken {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.taken)
}

// start starts a server, with TLS if there is a configuration, from the beginning or by STARTTLS.
func (s *server) start(t testing.TB, config *tls.Config, fromTheBeginning bool) string {
	t.Helper()
	s.came = make(chan struct{}, 1)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	to := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) { return &dialogue{s: s, c: c}, nil }))
	to.Domain, to.TLSConfig, to.AllowInsecureAuth, to.ErrorLog = "mail.marram.example", config, true, quiet{}
	if fromTheBeginning {
		l = tls.NewListener(l, config)
	}
	go to.Serve(l)
	t.Cleanup(func() { to.Close() })
	return l.Addr().String()
}

type quiet struct{}

func (quiet) Printf(string, ...any) {}
func (quiet) Println(...any)        {}

// certificate makes one for 127.0.0.1, and what it is known by.
func certificate(t *testing.T) (config, roots *tls.Config) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true,
		BasicConstraintsValid: true,
		IPAddresses:           []net.IP{net.IPv4(127, 0, 0, 1)}, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	known, err := x509.ParseCertificate(raw)
	if err != nil {
		t.Fatal(err)
	}
	pool := x509.NewCertPool()
	pool.AddCert(known)
	return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{raw}, PrivateKey: key}}}, &tls.Config{RootCAs: pool}
}
