package site

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"ostiarius/core/policy"
)

// ReadSitemap returns the locations of a sitemap, as the protocol of sitemaps.org has it. The error says what is
// wrong, and in which line.
func ReadSitemap(text []byte) ([]policy.Request, error) {
	var requests []policy.Request
	decoder := xml.NewDecoder(bytes.NewReader(text))
	var within []string
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("it is no sitemap: %w", err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			within = append(within, t.Name.Local)
			if within[0] == "sitemapindex" {
				return nil, errors.New("it is an index of sitemaps; name one of the sitemaps that it lists")
			}
			if within[0] != "urlset" {
				return nil, fmt.Errorf("it is XML, but no sitemap: its root is %q and not urlset", within[0])
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
				return nil, fmt.Errorf("line %d: %w", line, err)
			}
			requests = append(requests, request)
		}
	}
	return requests, nil
}
