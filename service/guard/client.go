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
	if strings.EqualFold(header("X-Requested-With"), "XMLHttpRequest") || header("Upgrade") != "" { // such as a WebSocket
		return policy.Script
	}
	accept := strings.ToLower(header("Accept"))
	if strings.Contains(accept, "text/html") || strings.Contains(accept, "application/xhtml+xml") {
		return policy.Browser // also one that brings credentials, as older ones do behind two layers
	}
	if header("Authorization") != "" {
		return policy.API
	}
	if accept == "" {
		return policy.Browser
	}
	if strings.Contains(accept, "json") || !strings.Contains(accept, "*/*") && !strings.Contains(accept, "text/*") {
		return policy.API
	}
	return policy.Browser
}
