package source

import (
	"crypto/sha1"
	"encoding/base64"
	"errors"
	"net/http"
	"strings"
)

// Through an upgrade a connection speaks another protocol, in which no door is asked any more.
// So only WebSocket may be upgraded to, whose connection stays what it was admitted for. What
// else a client offers, such as HTTP/2 in clear text (h2c), in which whole requests could follow, is
// not handed on; and a server behind that changes the protocol unasked, or to another than was
// asked for, has failed.

var errUpgrade = errors.New("the server behind changed the protocol of the connection, and not to a WebSocket that was asked for")

// isWebSocket reports whether a request asks for a WebSocket just as RFC 6455 has it (section
// 4.2.1), and for nothing else.
func isWebSocket(r *http.Request) bool {
	h := r.Header
	key, err := base64.StdEncoding.Strict().DecodeString(single(h, "Sec-Websocket-Key"))
	return r.Method == http.MethodGet && r.ProtoMajor == 1 && r.ProtoMinor == 1 && r.ContentLength == 0 &&
		strings.EqualFold(single(h, "Upgrade"), "websocket") && hasToken(h["Connection"], "upgrade") &&
		single(h, "Sec-Websocket-Version") == "13" && err == nil && len(key) == 16
}

// upgrading reports whether a field is handed on although it is about one connection.
func upgrading(r *http.Request, name string) bool {
	return (name == "Upgrade" || name == "Connection") && isWebSocket(r)
}

// isWebSocketAnswer reports whether a server has agreed to the WebSocket that was asked for (RFC
// 6455, section 4.1).
func isWebSocketAnswer(asked *http.Request, resp *http.Response) bool {
	h := resp.Header
	sum := sha1.Sum([]byte(single(asked.Header, "Sec-Websocket-Key") + "258EAFA5-E914-47DA-95CA-C5AB0DC85B11"))
	return isWebSocket(asked) && strings.EqualFold(single(h, "Upgrade"), "websocket") && hasToken(h["Connection"], "upgrade") &&
		single(h, "Sec-Websocket-Accept") == base64.StdEncoding.EncodeToString(sum[:])
}

// single returns the value of a field that is there once, else "".
func single(h http.Header, name string) string {
	if values := h[name]; len(values) == 1 {
		return strings.Trim(values[0], " \t")
	}
	return ""
}

func hasToken(values []string, token string) bool {
	for _, line := range values {
		for item := range strings.SplitSeq(line, ",") {
			if strings.EqualFold(strings.Trim(item, " \t"), token) {
				return true
			}
		}
	}
	return false
}
