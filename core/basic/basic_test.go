package basic

import (
	"encoding/base64"
	"errors"
	"strings"
	"testing"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

func encode(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) }

func TestRead(t *testing.T) {
	for _, test := range []struct {
		values         []string
		user, password string
		err            error
	}{
		{nil, "", "", nil},
		{[]string{"Basic QWxhZGRpbjpvcGVuIHNlc2FtZQ=="}, "Aladdin", "open sesame", nil}, // RFC 7617, section 2
		{[]string{"bAsIc " + encode("test:123\u00a3")}, "test", "123£", nil},            // section 2.1
		{[]string{"Basic  " + encode("a:b:c:")}, "a", "b:c:", nil},
		{[]string{"Basic " + encode("cafe\u0301:")}, "caf\u00e9", "", nil},
		{[]string{"Bearer abc"}, "", "", nil},
		{[]string{"Digest username=\"Basic\""}, "", "", nil},
		{[]string{"Basic " + encode("a:b"), "Basic " + encode("a:b")}, "", "", ErrSeveral},
		{[]string{"Basic " + encode("a:b"), "Bearer x"}, "", "", ErrSeveral},
		{[]string{"Basic"}, "", "", ErrMalformed},
		{[]string{"Basic "}, "", "", ErrMalformed},
		{[]string{"Basic\t" + encode("a:b")}, "", "", ErrMalformed},
		{[]string{"Basic, Basic " + encode("a:b")}, "", "", ErrMalformed},
		{[]string{"Basic " + encode("a:b") + " "}, "", "", ErrMalformed},
		{[]string{"Basic " + encode("a:b") + ", Basic " + encode("c:d")}, "", "", ErrMalformed},
		{[]string{"Basic " + strings.TrimRight(encode("a:bc"), "=")}, "", "", ErrMalformed},
		{[]string{"Basic " + encode("nocolon")}, "", "", ErrMalformed},
		{[]string{"Basic " + encode("a\x00:b")}, "", "", ErrMalformed},
		{[]string{"Basic " + encode("a:b\r\nX: y")}, "", "", ErrMalformed},
		{[]string{"Basic " + encode("a:\xff\xfe")}, "", "", ErrMalformed},
		{[]string{"Basic YTpi\n"}, "", "", ErrMalformed},
		{[]string{"Basic \nYTpi"}, "", "", ErrMalformed},
		{[]string{"Basic \rYTpi"}, "", "", ErrMalformed},
		{[]string{"Basic Y\rTpi"}, "", "", ErrMalformed},
		{[]string{"Basic YTpi!"}, "", "", ErrMalformed},
		{[]string{"Basic=YTpi"}, "", "", ErrMalformed},
		{[]string{"Basix YTpi"}, "", "", nil},
		{[]string{"Bas YTpi"}, "", "", nil},
		{[]string{"Basic " + encode("a:\u0080")}, "", "", ErrMalformed},
		{[]string{"Basic " + encode("a\x7f:b")}, "", "", ErrMalformed},
		{[]string{"Basic " + encode("\u212b:\u212b")}, "\u00c5", "\u00c5", nil}, // the sign for Angstrom is a letter in form NFC
		{[]string{"Basic " + encode("\xff:b")}, "", "", ErrMalformed},
		{[]string{"Basic " + encode("\u0301a:b")}, "\u0301a", "b", nil},
		{[]string{"Basic   " + encode("a:"+strings.Repeat("x", 3064))}, "a", strings.Repeat("x", 3064), nil}, // 4,096 bytes in all
		{[]string{"Basic    " + encode("a:"+strings.Repeat("x", 3064))}, "", "", ErrMalformed},
		{[]string{"Basic " + encode("a:"+strings.Repeat("x", 5000))}, "", "", ErrMalformed},
	} {
		c, ok, err := Read(test.values)
		if c.User != test.user || c.Password != test.password || !errors.Is(err, test.err) || ok != (test.user != "") {
			t.Errorf("%.60q: %.60q %v %v", test.values, c.User, ok, err)
		}
	}
	// What browsers send when nothing is typed: wrong credentials, and no malformed request.
	for _, empty := range []string{":", ":password"} {
		if c, ok, err := Read([]string{"Basic " + encode(empty)}); c.User != "" || !ok || err != nil {
			t.Errorf("%q: %+v %v %v", empty, c, ok, err)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add("Basic QWxhZGRpbjpvcGVuIHNlc2FtZQ==", "")
	f.Add("basic  YTpiOmM=", "Bearer x")
	f.Add("Basic", "Basic")
	f.Fuzz(func(t *testing.T, one, other string) {
		values := []string{one}
		if other != "" {
			values = append(values, other)
		}
		c, ok, err := Read(values)
		if ok && err != nil || !ok && c != (Credentials{}) || ok && len(values) != 1 {
			t.Fatalf("%q: %+v %v %v", values, c, ok, err)
		}
		if !ok {
			return
		}
		if c.User == "" || strings.Contains(c.User, ":") || !utf8.ValidString(c.User+c.Password) || norm.NFC.String(c.User) != c.User {
			t.Fatalf("%q: %+v", values, c)
		}
		again, ok, err := Read([]string{"Basic " + encode(c.User+":"+c.Password)})
		if !ok || err != nil || again != c {
			if len(one) < Longest/2 { // else what is longer in normal form may be too long
				t.Fatalf("%+v is read again as %+v %v", c, again, err)
			}
		}
	})
}
