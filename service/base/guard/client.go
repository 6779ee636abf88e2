package guard

import (
	"net/http"
	"strings"

	"ostiarius/core/policy"
)

// ClientOf tells what kind of client sends a request, from its Sec-Fetch-Mode,
// Sec-Fetch-Dest, X-Requested-With, Accept and Authorization headers.
//
// Browsers say what a request is for (Fetch Metadata): a navigation is a page. Without
// that, a client is taken for a browser unless it asks for something else than a page,
// such as JSON, or brings credentials as programs do.
func ClientOf(h http.Header) policy.Client {
	header := h.Get
	if mode := header("Sec-Fetch-Mode"); mode != "" {
		switch header("Sec-Fetch-Dest") {
		case "document", "iframe", "frame", "":
			if mode == "navigate" {
				return policy.Browser
			}
		}
		return policy.Script
	}
	if strings.EqualFold(header("X-Requested-With"), "XMLHttpRequest") || header("Upgrade") != "" || opensWebSocket(h) {
		return policy.Script
	}
	if asksForPage(h) {
		return policy.Browser // also one that brings credentials, as older ones do behind two layers
	}
	if header("Authorization") != "" {
		return policy.API
	}
	accept := strings.ToLower(header("Accept"))
	if accept == "" {
		return policy.Browser
	}
	if strings.Contains(accept, "json") || !strings.Contains(accept, "*/*") && !strings.Contains(accept, "text/*") {
		return policy.API
	}
	return policy.Browser
}

// opensWebSocket reports whether a request is for a WebSocket (RFC 6455, section 4.1), also where a web server does not tell of
// Upgrade, and over HTTP/2, which has none (RFC 8441, section 5).
func opensWebSocket(h http.Header) bool {
	return len(h[http.CanonicalHeaderKey("Sec-WebSocket-Version")]) > 0 || len(h[http.CanonicalHeaderKey("Sec-WebSocket-Key")]) > 0
}

// asksForPage reports whether a client says that it wants a page, as each browser does.
func asksForPage(h http.Header) bool {
	accept := strings.ToLower(h.Get("Accept"))
	return strings.Contains(accept, "text/html") || strings.Contains(accept, "application/xhtml+xml")
}

// clientAt is ClientOf for whoever is turned away by a decision. Where a pass would lead in, a client that does not say
// that it wants a page is taken for a program that downloads, and not for a browser: it shows a name and a password
// only if it is asked for them.
func clientAt(h http.Header, d policy.Decision) policy.Client {
	client := ClientOf(h)
	if client == policy.Browser && d.Pass != "" && h.Get("Sec-Fetch-Mode") == "" && !asksForPage(h) {
		return policy.API
	}
	return client
}
