package cli

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"os"
	"strings"

	"ostiarius/core/policy"
	"ostiarius/core/site"
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
			return nil, fmt.Errorf("the addresses can't be read: %w", err)
		}
		defer file.Close()
		in = file
	}
	text, err := io.ReadAll(io.LimitReader(in, maxList+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("the addresses can't be read: %w", err)
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
		err = fmt.Errorf("%s contains no address", name)
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
			return nil, fmt.Errorf("%s:%d: each line needs an address, or a method and an address", name, n)
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

func readSitemap(name string, text []byte) ([]policy.Request, error) {
	requests, err := site.ReadSitemap(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return requests, nil
}
