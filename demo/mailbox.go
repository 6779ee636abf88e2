package demo

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// A Mailbox stands in for the mailboxes of everybody: it takes each mail that the demo sends, on loopback, and shows
// them on a page. None leaves the machine.
type Mailbox struct {
	SMTP string // host:port that takes mail
	URL  string // of the page

	directory string
	mu        sync.Mutex
	mails     []mailed
	stop      []func() error
}

// A mailed is a mail that was taken.
type mailed struct {
	ID       int       `json:"id"` // counted from 1
	To       string    `json:"to"`
	From     string    `json:"from"`
	Subject  string    `json:"subject"`
	At       time.Time `json:"at"`
	Text     string    `json:"text"`
	HTML     string    `json:"html"`
	identity string    // its Message-ID
}

// The most mails that are kept, and how large one may be.
const mostMails, largestMail = 500, 1 << 20

// StartMailbox starts the mailbox, with the mails that are in the demo's directory from before.
func StartMailbox(directory string) (*Mailbox, error) {
	m := &Mailbox{directory: filepath.Join(directory, "mailbox")}
	if err := os.MkdirAll(m.directory, 0o700); err != nil {
		return nil, fmt.Errorf("the demo's mailbox cannot be made: %w", err)
	}
	names, err := filepath.Glob(filepath.Join(m.directory, "*.eml"))
	if err != nil {
		return nil, err
	}
	for _, name := range names { // in the order in which they came
		if text, err := os.ReadFile(name); err == nil {
			m.add(text)
		}
	}
	mails, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("the demo's mail server cannot be started: %w", err)
	}
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &delivery{box: m}, nil }))
	server.Domain, server.MaxMessageBytes, server.ReadTimeout, server.WriteTimeout = "localhost", largestMail, time.Minute, time.Minute
	go server.Serve(mails)
	m.stop = append(m.stop, server.Close)
	page, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		m.Stop()
		return nil, fmt.Errorf("the page of the demo's mailbox cannot be started: %w", err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", m.show)
	mux.HandleFunc("GET /mails.json", m.list)
	mux.HandleFunc("GET /{id}", m.body)
	shown := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go shown.Serve(page)
	m.stop = append(m.stop, shown.Close)
	m.SMTP, m.URL = mails.Addr().String(), "http://"+page.Addr().String()+"/"
	return m, nil
}

// Stop stops the mailbox.
func (m *Mailbox) Stop() {
	for _, stop := range m.stop {
		stop()
	}
}

// A delivery is a connection that brings mail.
type delivery struct{ box *Mailbox }

func (d *delivery) Reset()                               {}
func (d *delivery) Logout() error                        { return nil }
func (d *delivery) Mail(string, *smtp.MailOptions) error { return nil }
func (d *delivery) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (d *delivery) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	return d.box.take(text)
}

// take keeps a mail, unless it is there already: the same can be brought twice.
func (m *Mailbox) take(text []byte) error {
	id, added := m.add(text)
	if !added {
		return nil
	}
	return os.WriteFile(filepath.Join(m.directory, fmt.Sprintf("%06d.eml", id)), text, 0o600)
}

func (m *Mailbox) add(text []byte) (id int, added bool) {
	read, err := readMail(text)
	if err != nil {
		read = mailed{Subject: "(a mail that cannot be read)", Text: err.Error()}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if read.identity != "" && slices.ContainsFunc(m.mails, func(other mailed) bool { return other.identity == read.identity }) {
		return 0, false
	}
	read.ID = 1
	if n := len(m.mails); n > 0 {
		read.ID = m.mails[n-1].ID + 1
	}
	m.mails = append(m.mails, read)
	if len(m.mails) > mostMails {
		os.Remove(filepath.Join(m.directory, fmt.Sprintf("%06d.eml", m.mails[0].ID)))
		m.mails = m.mails[1:]
	}
	return read.ID, true
}

func readMail(text []byte) (m mailed, err error) {
	read, err := mail.ReadMessage(bytes.NewReader(text))
	if err != nil {
		return m, err
	}
	words := &mime.WordDecoder{}
	field := func(name string) string {
		if decoded, err := words.DecodeHeader(read.Header.Get(name)); err == nil {
			return decoded
		}
		return read.Header.Get(name)
	}
	m = mailed{To: strings.Trim(field("To"), "<>"), From: field("From"), Subject: field("Subject"), identity: read.Header.Get("Message-Id")}
	m.At, _ = read.Header.Date()
	kind, parameters, err := mime.ParseMediaType(read.Header.Get("Content-Type"))
	if err != nil || !strings.HasPrefix(kind, "multipart/") {
		body, err := io.ReadAll(read.Body)
		m.Text = string(body)
		return m, err
	}
	parts := multipart.NewReader(read.Body, parameters["boundary"])
	for {
		part, err := parts.NextRawPart()
		if errors.Is(err, io.EOF) {
			return m, nil
		}
		if err != nil {
			return m, err
		}
		var from io.Reader = part
		if strings.EqualFold(part.Header.Get("Content-Transfer-Encoding"), "quoted-printable") {
			from = quotedprintable.NewReader(part)
		}
		body, err := io.ReadAll(from)
		if err != nil {
			return m, err
		}
		if strings.HasPrefix(part.Header.Get("Content-Type"), "text/html") {
			m.HTML = string(body)
		} else {
			m.Text = string(body)
		}
	}
}

func (m *Mailbox) all() []mailed {
	m.mu.Lock()
	defer m.mu.Unlock()
	all := slices.Clone(m.mails)
	slices.Reverse(all)
	return all
}

// onlyHere answers nobody who comes by another name: a page elsewhere could otherwise read the mails.
func (m *Mailbox) onlyHere(w http.ResponseWriter, r *http.Request) bool {
	if "http://"+r.Host+"/" == m.URL {
		return true
	}
	http.Error(w, "The mailbox is at "+m.URL, http.StatusMisdirectedRequest)
	return false
}

func (m *Mailbox) list(w http.ResponseWriter, r *http.Request) {
	if m.onlyHere(w, r) {
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(m.all())
	}
}

// body shows one mail as a mail program would: it can do nothing but be read, and its links open outside.
func (m *Mailbox) body(w http.ResponseWriter, r *http.Request) {
	if !m.onlyHere(w, r) {
		return
	}
	id, err := strconv.Atoi(r.PathValue("id"))
	for _, one := range m.all() {
		if err == nil && one.ID == id {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; sandbox allow-popups "+
				"allow-popups-to-escape-sandbox allow-top-navigation-by-user-activation")
			w.Header().Set("Referrer-Policy", "no-referrer")
			io.WriteString(w, strings.Replace(one.HTML, "<head>", `<head><base target="_top">`, 1))
			return
		}
	}
	http.NotFound(w, r)
}

func (m *Mailbox) show(w http.ResponseWriter, r *http.Request) {
	if !m.onlyHere(w, r) {
		return
	}
	all := m.all()
	var open *mailed
	for i := range all {
		if strconv.Itoa(all[i].ID) == r.URL.Query().Get("mail") || open == nil {
			open = &all[i]
		}
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Referrer-Policy", "no-referrer")
	mailboxPage.Execute(w, map[string]any{"Mails": all, "Open": open})
}

var mailboxPage = template.Must(template.New("mailbox").Parse(`<!doctype html>
<html lang="en">
<head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Everybody's mailbox</title>
<style>
:root { color-scheme: light dark; --line: light-dark(#d9d4c5, #3c454d); --soft: light-dark(#55606a, #a9b2ba) }
body { margin: 0; font: 17px/1.5 "Atkinson Hyperlegible", Verdana, sans-serif; background: light-dark(#f4f2ec, #1d2226); color:
  light-dark(#26323b, #e8e6df) }
header, main { max-width: 70rem; margin: auto; padding: 1rem }
h1 { font-size: 1.4rem; margin: 0 } p { margin: .3rem 0 } a { color: inherit }
main { display: grid; grid-template-columns: 20rem 1fr; gap: 1.5rem; align-items: start }
ol { list-style: none; margin: 0; padding: 0 } li { border-top: 1px solid var(--line) } li a { display: block; padding: .6rem
  .4rem; text-decoration: none }
li a:hover, li a[aria-current] { background: light-dark(#e9e5d8, #2a3138) } .soft { color: var(--soft); font-size: .9rem; display:
  block; overflow-wrap: anywhere }
iframe { width: 100%; height: 32rem; border: 1px solid var(--line); background: #fff } pre { white-space: pre-wrap; overflow-wrap:
  anywhere; border: 1px solid var(--line); padding: .8rem }
@media (max-width: 45rem) { main { grid-template-columns: 1fr } }
</style></head>
<body>
<header><h1>Everybody's mailbox</h1><p class="soft">All that the lighthouse sends arrives here, and goes nowhere else. <a
  href="/">Look again</a></p></header>
<main>
{{if .Mails}}<ol>{{range .Mails}}<li><a href="/?mail={{.ID}}"{{if eq .ID $.Open.ID}}
  aria-current="true"{{end}}><strong>{{.Subject}}</strong><span class="soft">to {{.To}}, {{.At.Format
    "2 Jan 2006 15:04"}}</span></a></li>{{end}}</ol>
{{with .Open}}<section><h2>{{.Subject}}</h2><p class="soft">from {{.From}} to {{.To}}</p>
{{if .HTML}}<iframe src="/{{.ID}}" title="{{.Subject}}"></iframe>{{end}}
<details><summary>As plain text</summary><pre>{{.Text}}</pre></details></section>{{end}}
{{else}}<p>Nothing has arrived yet.</p>{{end}}
</main>
</body></html>
`))
