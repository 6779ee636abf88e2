package pages

import (
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"html/template"
	"io"
	"mime"
	"net/http"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/chacha20poly1305"

	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
)

// The most of a form that is kept, in bytes as it is sent, and for how long.
const (
	mostOfForm  = 64 << 10
	formKeptFor = 30 * time.Minute
)

// A keeping keeps what was typed into a form of the site while its sender types a password once more. It is not kept here:
// the page that asks for the password has it, sealed for that account, that host and a while, by a key that ends with the
// process. Nobody else can read it there or put something else in its place, and it comes out once.
type keeping struct {
	seal cipher.AEAD
	mu   sync.Mutex
	out  map[string]time.Time // what came out, by nonce, with when it would have ended
}

func newKeeping() *keeping {
	key := make([]byte, chacha20poly1305.KeySize)
	rand.Read(key)
	seal, err := chacha20poly1305.NewX(key)
	if err != nil {
		panic(err) // the key has that size
	}
	return &keeping{seal: seal, out: map[string]time.Time{}}
}

// put returns what was typed, sealed: for an address of the site, as it was sent.
func (k *keeping) put(account, host, address, body string, now time.Time) string {
	nonce := make([]byte, k.seal.NonceSize())
	rand.Read(nonce)
	plain := binary.BigEndian.AppendUint64(nil, uint64(now.Unix()))
	plain = append(plain, address+"\n"+body...) // an address has no line
	return base64.RawURLEncoding.EncodeToString(k.seal.Seal(nonce, nonce, plain, []byte(host+"\n"+account)))
}

// take returns what was kept; false if it is none of ours, of somebody else, too old, or came out before.
func (k *keeping) take(account, host, sealed string, now time.Time) (address, body string, ok bool) {
	raw, err := base64.RawURLEncoding.Strict().DecodeString(sealed)
	size := k.seal.NonceSize()
	if err != nil || len(raw) < size {
		return "", "", false
	}
	plain, err := k.seal.Open(nil, raw[:size], raw[size:], []byte(host+"\n"+account))
	if err != nil || len(plain) < 8 {
		return "", "", false
	}
	ends := time.Unix(int64(binary.BigEndian.Uint64(plain)), 0).Add(formKeptFor)
	if !now.Before(ends) {
		return "", "", false
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for nonce, ends := range k.out {
		if !now.Before(ends) {
			delete(k.out, nonce)
		}
	}
	if _, before := k.out[string(raw[:size])]; before {
		return "", "", false
	}
	k.out[string(raw[:size])] = ends
	return strings.Cut(string(plain[8:]), "\n")
}

// A typed is one field of a form.
type typed struct{ Name, Value string }

// fieldsOf returns what a form has sent, in its order; false where a browser would not send the same again from a page that
// has these fields hidden (URL standard, section 5; HTML, sections 4.10.5.1.1 and 4.10.21.4).
func fieldsOf(body string) (fields []typed, ok bool) {
	for pair := range strings.SplitSeq(body, "&") {
		name, value, _ := strings.Cut(pair, "=")
		f := typed{}
		var bad [2]error
		f.Name, bad[0] = url.QueryUnescape(name)
		f.Value, bad[1] = url.QueryUnescape(value)
		if bad[0] != nil || bad[1] != nil || f.Name == "" || f.Name == "_charset_" || !plainText(f.Name) || !plainText(f.Value) {
			return nil, false
		}
		fields = append(fields, f)
	}
	return fields, len(fields) > 0
}

// plainText reports whether a text comes out of a page as it is written into it.
func plainText(s string) bool {
	if !utf8.ValidString(s) || strings.Count(s, "\r") != strings.Count(s, "\r\n") || strings.Count(s, "\n") != strings.Count(s, "\r\n") {
		return false
	}
	return !strings.ContainsFunc(s, func(r rune) bool {
		return r < 0x20 && r != '\r' && r != '\n' && r != '\t' || r == 0xfeff || r == 0xfffe || r == 0xffff
	})
}

// keep returns what a form of the site has sent that was not carried out for want of a fresh proof, sealed; "" if it cannot be kept, or
// does not come from a page of this site.
func (p *Pages) keep(r *http.Request, t *guard.TurnedAway) string {
	kind, params, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	charset := params["charset"]
	if t.Client != policy.Browser || t.Decision.Proof.Kind != policy.ProveAgain || r.Method != http.MethodPost || !fromHere(r, t.Secure) ||
		err != nil || kind != "application/x-www-form-urlencoded" || charset != "" && !strings.EqualFold(charset, "utf-8") ||
		r.ContentLength <= 0 || r.ContentLength > mostOfForm {
		return ""
	}
	body, err := io.ReadAll(io.LimitReader(&hurried{r.Body, time.Now().Add(time.Minute)}, mostOfForm+1))
	if err != nil || int64(len(body)) != r.ContentLength {
		return ""
	}
	if _, ok := fieldsOf(string(body)); !ok {
		return ""
	}
	return p.kept.put(t.Visitor.Account, r.Host, t.Address, string(body), time.Now())
}

// A hurried is read until a time; what comes later is not waited for.
type hurried struct {
	io.Reader
	until time.Time
}

func (h *hurried) Read(p []byte) (int, error) {
	if time.Now().After(h.until) {
		return 0, os.ErrDeadlineExceeded
	}
	return h.Reader.Read(p)
}

// fromHere reports whether a browser says that a request comes from a page of this origin.
func fromHere(r *http.Request, secure bool) bool {
	if site := r.Header.Get("Sec-Fetch-Site"); site != "" {
		return site == "same-origin"
	}
	scheme := "http://"
	if secure {
		scheme = "https://"
	}
	return r.Header.Get("Origin") == scheme+r.Host
}

// A sendOnView is the page that sends on what was typed.
type sendOnView struct {
	frame
	To     string
	Fields []typed
	Script template.JS
}

// The script presses the button. A field may have any name, so no field is asked for anything.
const sendOnScript = `HTMLFormElement.prototype.submit.call(document.getElementById("send-on"))`

var sendOnPolicy = policyWith(sendOnScript)

// sendOn sends on what was kept, by a page that has it in a form: so it is judged as what it is, an ordinary request of this
// browser to that place.
func (p *Pages) sendOn(w http.ResponseWriter, r *http.Request, sealed, next string) {
	t := guard.TurnOf(r)
	address, body, ok := p.kept.take(t.Visitor.Account, r.Host, sealed, time.Now())
	fields, readable := fieldsOf(body)
	if !ok || !readable {
		f := p.frame(r, "again.lost-title")
		p.render(w, r, http.StatusOK, "notice.html", notice{frame: f, Lead: f.Say("again.lost"), Back: next})
		return
	}
	w.Header().Set("Content-Security-Policy", framed(r, sendOnPolicy))
	p.render(w, r, http.StatusOK, "send-on.html", sendOnView{p.frame(r, "again.sending"), address, fields, sendOnScript})
}
