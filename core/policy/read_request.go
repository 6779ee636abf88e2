package policy

import (
	"fmt"
	"strings"

	"ostiarius/core/place"
)

// ReadRequest makes a Request of what people type: a method and an address with or
// without scheme and host. The path stays as it was spelled. The query is returned
// beside it.
func ReadRequest(method, address string) (r Request, query string, err error) {
	if address == "" || address[0] != '/' && !strings.Contains(address, "://") {
		return Request{}, "", fmt.Errorf("%q is no address; write a path such as /rota/ or a whole one such as "+
			"https://marram.example/rota/", address)
	}
	address, _, _ = strings.Cut(address, "#")
	host, path, query := place.SplitTarget(address)
	return Request{Method: strings.ToUpper(method), Host: host, Path: path}, query, nil
}

// ParseClient reads the name of a kind of client; "" is a browser.
func ParseClient(s string) (Client, error) {
	switch c := Client(s); c {
	case "":
		return Browser, nil
	case Browser, Script, API:
		return c, nil
	}
	return "", fmt.Errorf("%q is no kind of client; write browser, script or api", s)
}
