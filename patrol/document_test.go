package patrol

import (
	"net/url"
	"strings"
	"testing"
)

// What is kept of a page is counted and bounded, whatever the page is made to hold.
func TestPagesThatTakeAll(t *testing.T) {
	const size = 512 << 10
	for what, part := range map[string]string{
		"forms": `<form action="/x" method="post">`, "hidden inputs": `<form><input type="hidden" name="a" value="` + strings.Repeat("v",
			1000) + `">`, "passwords": `<input type="password" id="p">`,
		"styles": "<style>a{b:c}</style>", "labels": `<a href="/x">` + strings.Repeat("word ", 20), "open elements": "<b>word ",
		"blocks":   `<div id="a" class="b">some words that are more than forty letters long, all of them `,
		"comments": "<!-- x -->", "scripts": `<script>x("/y")</script>`, "titles": "<title>" + strings.Repeat("t", 500),
		"handlers": `<i onclick="go('/z')">`, "style attributes": `<i style="background:url(/a)">`,
	} {
		d := readDocument("text/html", []byte(strings.Repeat(part, size/len(part))))
		if kept := d.size(); kept > 1500<<10 {
			t.Errorf("%s: %d bytes are kept", what, kept)
		}
		if left := d.forget(); left > 64<<10 {
			t.Errorf("%s: %d bytes are left", what, left)
		}
	}
}

// BenchmarkHostilePage reads pages of one and of two megabytes that are made to take time: twice as much takes twice as long.
func BenchmarkHostilePage(b *testing.B) {
	for what, part := range map[string]string{"styles": "<style>a{b:c}</style>", "labels": `<a href="/x">` + strings.Repeat("word ", 20)} {
		for _, size := range []int{1 << 20, 2 << 20} {
			body := []byte(strings.Repeat(part, size/len(part)))
			b.Run(what+map[bool]string{true: "/half", false: "/whole"}[size == 1<<20], func(b *testing.B) {
				for b.Loop() {
					readDocument("text/html", body)
				}
			})
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
