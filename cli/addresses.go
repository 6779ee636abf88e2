package cli

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"ostiarius/core/policy"
)

// The largest list of addresses that is read, in bytes: what the protocol of sitemaps allows.
const maxList = 50 << 20

// readAddresses reads a list of addresses: the locations of a sitemap (the protocol of
// sitemaps.org), or text with an address on each line, with or without a method before it.
// Empty lines and lines that begin with # are left out.
func readAddresses(name string, in io.Reader) ([]policy.Request, error) {
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return nil, fmt.Errorf("the addresses cannot be read: %w", err)
		}
		defer file.Close()
		in = file
	}
	text, err := io.ReadAll(io.LimitReader(in, maxList+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("the addresses cannot be read: %w", err)
	case len(text) > maxList:
		return nil, fmt.Errorf("%s has more than %d MiB; split it", name, maxList>>20)
	}
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	read := readLines
	if bytes.HasPrefix(bytes.TrimSpace(text), []byte("<")) {
		read = readSitemap
	}
	requests, err := read(name, text)
	if err == nil && len(requests) == 0 {
		err = fmt.Errorf("%s has no address", name)
	}
	return requests, err
}

func readLines(name string, text []byte) ([]policy.Request, error) {
	var requests []policy.Request
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, 1<<20)
	for n := 1; lines.Scan(); n++ {
		words := strings.Fields(lines.Text())
		if len(words) == 0 || strings.HasPrefix(words[0], "#") {
			continue
		}
		if len(words) == 1 {
			words = []string{"GET", words[0]}
		}
		if len(words) != 2 {
			return nil, fmt.Errorf("%s:%d: a line has an address, or a method and an address", name, n)
		}
		request, _, err := policy.ReadRequest(words[0], words[1])
		if err != nil {
			return nil, fmt.Errorf("%s:%d: %w", name, n, err)
		}
		requests = append(requests, request)
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return requests, nil
}

// readSitemap returns the locations of a urlset.
func readSitemap(name string, text []byte) ([]policy.Request, error) {
	var requests []policy.Request
	decoder := xml.NewDecoder(bytes.NewReader(text))
	within := []string{}
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("%s is no sitemap: %w", name, err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			within = append(within, t.Name.Local)
			if within[0] == "sitemapindex" {
				return nil, fmt.Errorf("%s is an index of sitemaps; name one of the sitemaps that it lists", name)
			}
			if within[0] != "urlset" {
				return nil, fmt.Errorf("%s is XML, but no sitemap: its root is %q and not urlset", name, within[0])
			}
		case xml.EndElement:
			within = within[:len(within)-1]
		case xml.CharData:
			if strings.Join(within, "/") != "urlset/url/loc" || len(bytes.TrimSpace(t)) == 0 {
				continue
			}
			request, _, err := policy.ReadRequest("GET", string(bytes.TrimSpace(t)))
			if err != nil {
				line, _ := decoder.InputPos()
				return nil, fmt.Errorf("%s:%d: %w", name, line, err)
			}
			requests = append(requests, request)
		}
	}
	return requests, nil
}
