package pages

import (
	"io"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"ostiarius/core/exact"
	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
)

// A sent is what somebody sends to sign in, or to one of its sister pages: from our own form; from a form of the
// site's own, which names its page in the field form; or as JSON from a script.
type sent struct {
	Name       string `json:"name"` // of a shared password
	Username   string `json:"username"`
	Email      string `json:"email"`
	Password   string `json:"password"`
	Remember   bool   `json:"remember"`
	Agree      bool   `json:"agree"`   // to the terms, when joining
	Code       string `json:"code"`    // of an app, or one that was kept
	Passkey    string `json:"passkey"` // the browser's answer, as JSON
	Browser    bool   `json:"browser"` // that is not asked for a second factor for a while
	Next       string `json:"next"`
	again      string // the password once more, of our own forms
	link       string // the token of a link
	invitation string // the token of one
	mark, trap string // of the form to join
	kept       string // what was typed into a form of the site, sealed
	form       string // the page of the site that has the form; "" for ours
	json       bool
}

// readSent reads what was sent, with the names of somebody as they typed them without the spaces around, and own paths only.
func readSent(w http.ResponseWriter, r *http.Request, book *policy.Book) (s sent, err error) {
	kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if s.json = kind == "application/json"; s.json {
		var text []byte
		if text, err = io.ReadAll(http.MaxBytesReader(w, r.Body, 64<<10)); err == nil {
			err = exact.UnmarshalKnown(text, &s)
		}
	} else if err = readForm(w, r); err == nil {
		f := r.PostForm
		s = sent{
			Name: f.Get("name"), Username: f.Get("username"), Email: f.Get("email"), Password: f.Get("password"),
			Remember: f.Get("remember") != "", Agree: f.Get("agree") != "", Next: f.Get("next"),
			Code: f.Get("code"), Passkey: f.Get("passkey"), Browser: f.Get("browser") != "",
			again: f.Get("again"), link: f.Get("link"), invitation: f.Get("invitation"), mark: f.Get("mark"), trap: f.Get("website"),
			form: f.Get("form"), kept: f.Get("kept"),
		}
	}
	s.Username, s.Email = strings.TrimSpace(s.Username), strings.TrimSpace(s.Email)
	s.Next, s.form = guard.Next(book, s.Next), guard.OwnPath(book, s.form)
	return s, err
}

// refuse tells somebody why what they sent was not taken: a program with a status and a code, a form of the site's
// own with the code in the address of its page, and with show whoever sent our own form.
func (s *sent) refuse(w http.ResponseWriter, wrong trouble, show func()) {
	wrong.header(w)
	switch {
	case s.json:
		wrong.tell(w)
	case s.form != "":
		values := url.Values{"error": {wrong.Code}}
		if wrong.Wait > 0 {
			values.Set("wait", strconv.Itoa(seconds(wrong.Wait)))
		}
		if s.Next != "" {
			values.Set("next", s.Next)
		}
		redirect(w, withQuery(s.form, values))
	default:
		show()
	}
}

// withQuery adds values to the address of a page.
func withQuery(page string, add url.Values) string {
	page, query, _ := strings.Cut(page, "?")
	values, err := url.ParseQuery(query)
	if err != nil {
		values = url.Values{}
	}
	for name, all := range add {
		values[name] = all
	}
	return page + "?" + values.Encode()
}
