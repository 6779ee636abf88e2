package source

import (
	"compress/gzip"
	"io"
	"net/http"
	"strings"

	"ostiarius/core/fields"
	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
)

// handBack takes out of an answer of a server behind what others than the one who asked would act upon. Own are the fields that were set
// already, by the guard. Of a guarded answer the guard has said that nobody may store it; what the server behind says of that, to whichever
// cache, does not count, nor what it would have a server in front give out instead.
func handBack(resp *http.Response, t *guard.Turn, own http.Header, source *policy.Source) {
	closed := t == nil || !t.Public
	// An answer that brings a fresh cookie of ours is for one visitor, and so is one that was made for somebody who is known there.
	// What is missing is told as what is hidden, which no cache may keep for those who may see it.
	missing := resp.StatusCode >= 300 && resp.StatusCode != http.StatusNotModified && t != nil && policy.Hides(t.Book)
	if missing {
		sayNothingOfLength(resp)
		if resp.Header.Get("Content-Type") == "" {
			own["Content-Type"] = nil // it is not guessed, since that depends on how much of the text has come
		}
	}
	private := closed || missing || len(own["Set-Cookie"]) > 0 || source.Personal == policy.PersonalPrivate && t.Visitor.SignedIn
	for name, values := range resp.Header {
		switch fields.OfAnswer(name) {
		case fields.Caches:
			if private {
				delete(resp.Header, name)
			}
		case fields.Steers:
			if closed {
				delete(resp.Header, name)
			}
		case fields.Wipes:
			if closed {
				delete(resp.Header, name)
				for _, value := range values {
					if left := fields.WithoutWiping(value); left != "" {
						resp.Header.Add(name, left)
					}
				}
			}
		case fields.Sets:
			if name == "Strict-Transport-Security" && len(own[name]) > 0 { // of two, browsers take the first (RFC 6797, section 8.1)
				delete(resp.Header, name)
			}
		}
	}
	if private && !closed {
		guard.KeepPrivate(own)
	}
	if !closed && source.Personal != "" {
		own.Add("Vary", "Cookie, Authorization")
	}
	if resp.Body != nil && resp.Body != http.NoBody && resp.StatusCode != http.StatusSwitchingProtocols {
		plainTrailer(resp.Trailer)
		if resp.ContentLength < 0 { // only such an answer can have one
			resp.Body = &trailed{resp.Body, resp}
		}
	}
}

// sayNothingOfLength takes out of an answer what would tell which name it was made for: fields that are made of its text, and what it is
// packed in, so that the name can be found. (Where places are hidden, servers are asked for no other coding than gzip.)
func sayNothingOfLength(resp *http.Response) {
	for _, name := range []string{"Etag", "Last-Modified", "Content-Md5", "Digest", "Content-Digest", "Repr-Digest"} {
		resp.Header.Del(name)
	}
	head := resp.Request.Method == http.MethodHead
	if strings.EqualFold(resp.Header.Get("Content-Encoding"), "gzip") {
		resp.Header.Del("Content-Encoding")
		if !head {
			resp.Body = &unpacked{ReadCloser: resp.Body}
			resp.ContentLength = -1
		}
	}
	if head || resp.ContentLength < 0 {
		resp.Header.Del("Content-Length")
	}
}

// unpacked is a body that came packed by gzip.
type unpacked struct {
	io.ReadCloser
	plain *gzip.Reader
}

func (u *unpacked) Read(p []byte) (n int, err error) {
	if u.plain == nil {
		if u.plain, err = gzip.NewReader(u.ReadCloser); err != nil {
			return 0, err
		}
	}
	return u.plain.Read(p)
}

// trailed is the body of an answer, after which fields may come.
type trailed struct {
	io.ReadCloser
	resp *http.Response
}

func (b *trailed) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err != nil {
		plainTrailer(b.resp.Trailer)
	}
	return n, err
}

// plainTrailer leaves the fields that do nothing but say something.
func plainTrailer(h http.Header) {
	for name := range h {
		if fields.OfAnswer(name) != fields.Plain {
			delete(h, name)
		}
	}
}
