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
		return Request{}, "", fmt.Errorf("%q isn't an address; use a path such as /rota/ or a complete address such as "+
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
	return "", fmt.Errorf("%q isn't a kind of client; use browser, script or api", s)
}
