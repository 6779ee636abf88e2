package source

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

func TestAnswersNameTheSiteAndNotTheServerBehind(t *testing.T) {
	outsideOf := func(s policy.Source) outside {
		u, err := url.Parse(s.Proxy)
		if err != nil {
			t.Fatal(err)
		}
		return newOutside(s, u)
	}
	plain := outsideOf(policy.Source{Path: "/", Proxy: "http://127.0.0.1:8461"})
	stripped := outsideOf(policy.Source{Path: "/stock", Proxy: "http://inner.example:8461", StripPrefix: true})
	socket := newOutside(policy.Source{Path: "/", Proxy: "unix:app.sock"}, &url.URL{Scheme: "http", Host: "upstream"})
	asked := httptest.NewRequest("GET", "http://marram.example/stock/x", nil)
	for _, test := range []struct {
		o           outside
		given, want string
	}{
		{plain, "http://127.0.0.1:8461/log/", "/log/"},
		{plain, "http://localhost:8461/log/?a=b#c", "/log/?a=b#c"},
		{plain, "http://marram.example:8461/log/", "/log/"},
		{plain, "HTTP://127.0.0.1:8461", "/"},
		{plain, "//127.0.0.1:8461/log/", "/log/"},
		{plain, "http://u:p@127.0.0.1:8461/log/", "/log/"},
		{plain, "http://127.0.0.1:8461//evil.example/", "/evil.example/"},
		{plain, `http://127.0.0.1:8461/\evil.example/`, "/%5Cevil.example/"},
		{plain, "http://127.0.0.1:8462/log/", "http://127.0.0.1:8462/log/"},
		{plain, "https://elsewhere.example/", "https://elsewhere.example/"},
		{plain, "/log/", "/log/"},
		{plain, "log/", "log/"},
		{plain, "mailto:ines@marram.example", "mailto:ines@marram.example"},
		{plain, "http://marram.example/log/", "http://marram.example/log/"},
		{stripped, "/list", "/stock/list"},
		{stripped, "/stock/list", "/stock/list"},
		{stripped, "/stockings", "/stock/stockings"},
		{stripped, "list", "list"},
		{stripped, "?a", "?a"},
		{stripped, "/", "/stock/"},
		{stripped, "/a%2Fb%20c", "/stock/a%2Fb%20c"},
		{stripped, "http://inner.example:8461/list", "/stock/list"},
		{stripped, "http://marram.example/list", "http://marram.example/stock/list"},
		{stripped, "http://marram.example:8461/list", "/stock/list"},
		{stripped, "https://elsewhere.example/list", "https://elsewhere.example/list"},
		{socket, "http://upstream/log/", "/log/"},
		{socket, "http://marram.example/log/", "/log/"},
		{socket, "http://marram.example:81/log/", "http://marram.example:81/log/"},
	} {
		h := http.Header{
			"Location": {test.given}, "Content-Location": {test.given},
			"Refresh": {"5; url=" + test.given, `0;URL="` + test.given + `"`, "3"}, "Alt-Svc": {`h2=":8461"`},
		}
		test.o.rewrite(h, asked)
		if got := h.Get("Location"); got != test.want || h.Get("Content-Location") != test.want {
			t.Errorf("%s at %q: %s, want %s", test.given, test.o.prefix, got, test.want)
		}
		if got := h["Refresh"]; got[0] != "5; url="+test.want || got[1] != "0; url="+test.want || got[2] != "3" {
			t.Errorf("%s: refresh %q", test.given, got)
		}
		if h.Get("Alt-Svc") != "" {
			t.Error("another address for the site comes through")
		}
	}
	for given, want := range map[string]string{
		"a=1": "a=1", "a=1; Path=/; HttpOnly": "a=1; Path=/stock; HttpOnly", "a=1; path=/x": "a=1; Path=/stock/x",
		"a=1; Path=/stock/x":         "a=1; Path=/stock/x",
		"__Host-a=1; Path=/; Secure": "__Host-a=1; Path=/; Secure", "a=1; Domain=inner.example; Secure": "a=1; Secure",
		"a=1; domain=.INNER.example": "a=1",
		"a=1; Domain=localhost":      "a=1", "a=1; Domain=marram.example": "a=1; Domain=marram.example",
	} {
		if got := stripped.cookie(given); got != want {
			t.Errorf("%q: %q, want %q", given, got, want)
		}
	}
}

// FuzzAddress: whatever a server behind answers, an address that is made anew leads to this site:
// it is a path, and not one that browsers take for another host.
func FuzzAddress(f *testing.F) {
	f.Add("http://127.0.0.1:8461//evil.example/")
	f.Add("http://127.0.0.1:8461/%2f%2fevil.example")
	f.Add("/\\evil.example")
	u, _ := url.Parse("http://127.0.0.1:8461")
	o := newOutside(policy.Source{Path: "/stock", Proxy: u.String(), StripPrefix: true}, u)
	asked := httptest.NewRequest("GET", "http://marram.example/stock/x", nil)
	f.Fuzz(func(t *testing.T, given string) {
		got := o.address(given, asked)
		if got == given || strings.HasPrefix(got, "http://marram.example/stock") {
			return
		}
		if !strings.HasPrefix(got, "/stock") || strings.ContainsAny(got, "\r\n\x00") {
			t.Fatalf("%q becomes %q", given, got)
		}
	})
}

func TestOnlyWebSocketIsUpgradedTo(t *testing.T) {
	good := map[string]string{
		"Connection": "keep-alive, Upgrade", "Upgrade": "websocket", "Sec-Websocket-Version": "13",
		"Sec-Websocket-Key": "dGhlIHNhbXBsZSBub25jZQ==",
	}
	request := func(change ...string) *http.Request {
		r := httptest.NewRequest("GET", "/", nil)
		for name, value := range good {
			r.Header.Set(name, value)
		}
		for i := 0; i < len(change); i += 2 {
			if r.Header.Del(change[i]); change[i+1] != "" {
				r.Header[change[i]] = strings.Split(change[i+1], "|")
			}
		}
		return r
	}
	if !isWebSocket(request()) || !isWebSocket(request("Upgrade", "WebSocket")) {
		t.Error("a WebSocket is refused")
	}
	answer := func(change ...string) *http.Response {
		// The key and its answer are the example of RFC 6455, section 1.3.
		h := http.Header{"Upgrade": {"websocket"}, "Connection": {"Upgrade"}, "Sec-Websocket-Accept": {"s3pPLMBiTxaQ9kYGzzhZRbK+xOo="}}
		for i := 0; i < len(change); i += 2 {
			h[change[i]] = strings.Split(change[i+1], "|")
		}
		return &http.Response{StatusCode: 101, Header: h}
	}
	if !isWebSocketAnswer(request(), answer()) {
		t.Error("the answer of the RFC is refused")
	}
	for _, change := range [][]string{
		{"Upgrade", "h2c"}, {"Upgrade", "websocket, h2c"}, {"Upgrade", "websocket|h2c"}, {"Upgrade", "h2c|websocket"}, {"Upgrade", ""},
		{"Upgrade", "websocket/13"},
		{"Connection", "close"}, {"Connection", ""}, {"Sec-Websocket-Version", "8"}, {"Sec-Websocket-Version", ""},
		{"Sec-Websocket-Version", "13|13"},
		{"Sec-Websocket-Key", "short"}, {"Sec-Websocket-Key", ""}, {"Sec-Websocket-Key", "dGhlIHNhbXBsZSBub25jZQ==|dGhlIHNhbXBsZSBub25jZQ=="},
	} {
		if isWebSocket(request(change...)) || isWebSocketAnswer(request(change...), answer()) {
			t.Errorf("%q is taken for a WebSocket", change)
		}
	}
	post, old, second := request(), request(), request()
	post.Method = "POST"
	old.ProtoMinor = 0
	second.ProtoMajor, second.ProtoMinor = 2, 0
	for _, r := range []*http.Request{post, old, second} {
		if isWebSocket(r) {
			t.Errorf("%s %s is taken for a WebSocket", r.Method, r.Proto)
		}
	}
	for _, change := range [][]string{{"Upgrade", "h2c"}, {"Connection", "close"}, {"Sec-Websocket-Accept", "AAAA"},
		{"Sec-Websocket-Accept", ""}} {
		if isWebSocketAnswer(request(), answer(change...)) {
			t.Errorf("the answer %q is taken for a WebSocket", change)
		}
	}
}

// A source gets the fields that it asks for: those that name the client or the user say what
// Ostiarius knows.
func TestFieldsThatASourceAsksFor(t *testing.T) {
	var got http.Header
	behind := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { got = r.Header }))
	defer behind.Close()
	claim := func(option string, v policy.Visitor) http.Header {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = "192.0.2.7:99"
		for _, name := range []string{"X-HTTP-Method-Override", "X-Original-URL", "Destination", "X-Real-IP", "Remote-User",
			"X-Remote-User", "Remote-Groups", "True-Client-IP", "Proxy", "HTTP2-Settings"} {
			r.Header.Set(name, "agnes")
		}
		proxied(t, behind.URL, "sources: [{path: /, proxy: 'http://x'"+option+"}]\ndoors: [{path: /**, admit: public}]", v, r)
		return got
	}
	for name, values := range claim("", policy.Visitor{}) {
		if slices.Contains(values, "agnes") {
			t.Errorf("%s comes through", name)
		}
	}
	h := claim(", forward-fields: [x-http-method-override, X-Real-IP, Remote-User]", policy.Visitor{SignedIn: true, Account: "inés"})
	if h.Get("X-HTTP-Method-Override") != "agnes" || h.Get("X-Real-IP") != "192.0.2.7" || h.Get("Remote-User") != "in%C3%A9s" ||
		h.Get("X-Remote-User") != "" || h.Get("Destination") != "" {
		t.Errorf("%v", h)
	}
	if h := claim(", forward-fields: [Remote-User]", policy.Visitor{}); h["Remote-User"] != nil {
		t.Errorf("nobody is %q", h["Remote-User"])
	}
	for _, field := range []string{"Ostiarius-User", "X-Forwarded-For", "Remote-Groups", "X_Odd", "Upgrade"} {
		if book, findings := read.Parse("doors.yaml",
			[]byte("sources: [{path: /, proxy: 'http://x', forward-fields: ["+field+
				"]}]\ndoors: [{path: /**, admit: public}]")); book != nil || len(findings) != 1 {
			t.Errorf("%s can be asked for: %v", field, findings)
		}
	}
}
