package patrol

import (
	"net/url"
	"strings"
	"testing"
	"time"
)

// A page that is made to take memory or time is read in time, and what is kept of it is counted and bounded.
func TestPagesThatTakeAll(t *testing.T) {
	const size = 2 << 20
	for what, part := range map[string]string{
		"forms": `<form action="/x" method="post">`, "hidden inputs": `<form><input type="hidden" name="a" value="` + strings.Repeat("v", 1000) + `">`, "passwords": `<input type="password" id="p">`,
		"styles": "<style>a{b:c}</style>", "labels": `<a href="/x">` + strings.Repeat("word ", 20), "open elements": "<b>word ", "blocks": `<div id="a" class="b">some words that are more than forty letters long, all of them `,
		"comments": "<!-- x -->", "scripts": `<script>x("/y")</script>`, "titles": "<title>" + strings.Repeat("t", 500), "handlers": `<i onclick="go('/z')">`, "style attributes": `<i style="background:url(/a)">`,
	} {
		body := []byte(strings.Repeat(part, size/len(part)))
		began := time.Now()
		d := readDocument("text/html", body)
		if took := time.Since(began); took > time.Minute {
			t.Errorf("%s: %v", what, took)
		}
		if kept := d.size(); kept > 3<<20 {
			t.Errorf("%s: %d bytes are kept", what, kept)
		}
		if left := d.forget(); left > 64<<10 {
			t.Errorf("%s: %d bytes are left", what, left)
		}
	}
}

// What a visitor shows who they are with goes over plain HTTP only to a site that is spoken to so.
func TestNothingSecretInClear(t *testing.T) {
	https, _ := url.Parse("https://marram.example/")
	http, _ := url.Parse("http://marram.example/x")
	for _, test := range []struct {
		sites []*url.URL
		at    *url.URL
		want  bool
	}{{[]*url.URL{https}, http, true}, {[]*url.URL{https}, https, false}, {[]*url.URL{http}, http, false}} {
		if got := (&walk{o: &Options{Sites: test.sites}}).inClear(test.at); got != test.want {
			t.Errorf("%v of %v: %v", test.at, test.sites, got)
		}
	}
}
