package mail

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	netmail "net/mail"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"

	"ostiarius/core/account"
	"ostiarius/core/message"
)

// A Server is the mail server that messages are handed to.
type Server struct {
	host     string
	port     int
	security security
	user     string
	password string
	from     netmail.Address // with the domain as it stands in the DNS
	patience time.Duration   // with the server, for one step and for one message
	// Roots are the authorities that its certificate is checked against; nil for those of the machine.
	Roots *tls.Config
}

// How the connection to a mail server is kept from others.
type security int

const (
	startTLS security = iota // by STARTTLS (RFC 3207), or not at all
	implicit                 // from the beginning (RFC 8314)
	none                     // it is not: on this machine, or where a setting says so
)

// How long the server may take for one step, and for one message.
const usualPatience = 20 * time.Second

// ReadServer reads where messages are handed to: smtp://USER@HOST:PORT, where STARTTLS must be spoken unless the host is
// this machine, or smtps://, where TLS is spoken from the beginning. from is who they come from, such as
// "Lighthouse <door@marram.example>". The errors say what to write.
func ReadServer(address, from, password string) (*Server, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Path != "" && u.Path != "/" || u.Fragment != "" || u.Scheme != "smtp" && u.Scheme != "smtps" {
		return nil, fmt.Errorf("--mail is an address such as smtp://user@mail.example:587, or smtps:// for TLS from the beginning")
	}
	s := &Server{host: u.Hostname(), port: 587, patience: usualPatience, user: u.User.Username(), password: password}
	if _, ok := u.User.Password(); ok {
		return nil, errors.New("--mail has a password in it, where others can see it; give it in a file, --mail-password-file, or in the " +
			"variable OSTIARIUS_MAIL_PASSWORD")
	}
	if u.Scheme == "smtps" {
		s.port, s.security = 465, implicit
	}
	if u.Port() != "" {
		if s.port, err = strconv.Atoi(u.Port()); err != nil || s.port < 1 || s.port > 65535 {
			return nil, fmt.Errorf("--mail %s has no port from 1 to 65535", u.Redacted())
		}
	}
	query := u.Query()
	if len(query) > 1 || len(query) == 1 && query.Get("tls") != "none" {
		return nil, errors.New("--mail takes nothing behind the address but ?tls=none")
	}
	if ip, err := netip.ParseAddr(s.host); s.security == startTLS &&
		(query.Has("tls") || s.host == "localhost" || err == nil && ip.IsLoopback()) {
		s.security = none
	}
	if query.Has("tls") && (s.user != "" || u.Scheme == "smtps") {
		return nil, errors.New("--mail with ?tls=none is for smtp:// and without a user: the password could be read on the way")
	}
	if (s.user == "") != (s.password == "") {
		return nil, errors.New("a user in --mail and a password, in --mail-password-file or the variable OSTIARIUS_MAIL_PASSWORD, go together")
	}
	if from == "" {
		return nil, errors.New("--mail needs --mail-from, the address that messages come from, such as \"Lighthouse <door@marram.example>\"")
	}
	read, err := netmail.ParseAddress(from)
	if err != nil {
		return nil, fmt.Errorf("--mail-from %q is no address; write one such as \"Lighthouse <door@marram.example>\"", from)
	}
	local, domain, err := account.SplitEmail(read.Address)
	if err != nil {
		return nil, fmt.Errorf("--mail-from: %w", err)
	}
	s.from = netmail.Address{Name: read.Name, Address: local + "@" + domain}
	return s, nil
}

// String is where messages are handed to, without the password.
func (s *Server) String() string { return net.JoinHostPort(s.host, strconv.Itoa(s.port)) }

func (s *Server) domain() string {
	return s.from.Address[strings.LastIndexByte(s.from.Address, '@')+1:]
}

// dial opens a connection to the server.
func (s *Server) dial(ctx context.Context) (*gomail.Client, error) {
	options := []gomail.Option{gomail.WithPort(s.port), gomail.WithTimeout(s.patience), gomail.WithHELO(s.domain()), gomail.WithoutNoop()}
	switch s.security {
	case implicit:
		options = append(options, gomail.WithSSL())
	case startTLS:
		options = append(options, gomail.WithTLSPolicy(gomail.TLSMandatory))
	case none:
		options = append(options, gomail.WithTLSPolicy(gomail.NoTLS))
	}
	if s.security != none {
		config := &tls.Config{}
		if s.Roots != nil {
			config = s.Roots.Clone()
		}
		config.ServerName, config.MinVersion = s.host, tls.VersionTLS12
		options = append(options, gomail.WithTLSConfig(config))
	}
	if s.user != "" {
		how := gomail.SMTPAuthAutoDiscover
		if s.security == none { // on this machine
			how = gomail.SMTPAuthPlainNoEnc
		}
		options = append(options, gomail.WithSMTPAuth(how), gomail.WithUsername(s.user), gomail.WithPassword(s.password))
	}
	c, err := gomail.NewClient(s.host, options...)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, s.patience)
	defer cancel()
	return c, c.DialWithContext(ctx)
}

// mime makes a letter into what is handed over. The same message is the same to the byte, however often that is done.
func (s *Server) mime(m message.Message, l message.Letter) (*gomail.Msg, error) {
	local, domain, err := account.SplitEmail(m.To)
	if err != nil {
		return nil, err
	}
	mail := gomail.NewMsg(gomail.WithBoundary(m.Reference), gomail.WithNoDefaultUserAgent())
	if err := mail.FromFormat(s.from.Name, s.from.Address); err != nil {
		return nil, err
	}
	mail.ToMailAddress(&netmail.Address{Address: local + "@" + domain})
	mail.Subject(l.Subject)
	mail.SetDateWithValue(m.MadeAt)
	mail.SetMessageIDWithValue(m.Reference + "@" + s.domain())
	mail.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834, section 5: nobody answers for themselves
	mail.SetGenHeader("Content-Language", string(l.Language))
	mail.SetBodyString(gomail.TypeTextPlain, l.Text)
	mail.AddAlternativeString(gomail.TypeTextHTML, l.HTML)
	return mail, nil
}
