package inforce

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"time"

	"ostiarius/core/place"
	layout "ostiarius/core/site"
	"ostiarius/service/base/guard"
	"ostiarius/service/rule/inspect"
	"ostiarius/service/rule/source"
)

// Known are the places of the site that are known of, and how many are so from where.
type Known struct {
	Places  []place.Place
	Files   int  // have a file
	Sitemap int  // stand in the site's sitemap
	Asked   int  // a server behind has answered for, of late
	More    bool // there are more files than were asked for
}

// The most bytes of a sitemap that are read, and how long the server behind may take for it.
const (
	mostSitemap    = 5 << 20
	sitemapTimeout = 2 * time.Second
)

// Known returns the places of the site that are known of: its files, what stands in its sitemap.xml, and what
// servers behind have answered for. There are at most about as many as asked for.
func (p *Policy) Known(ctx context.Context, most int) (k Known) {
	house := p.House()
	book := house.Book
	k.Places, k.More = inspect.Addresses(book, p.file, most)
	k.Files = len(k.Places)
	if text := p.sitemap(ctx, house); text != nil {
		requests, _ := layout.ReadSitemap(text) // one with mistakes is somebody else's affair
		for _, r := range requests {
			if at, err := place.Read("GET", "", r.Path, book.Rules); err == nil && len(k.Places) < most && !book.IsOwn(at) {
				k.Places = append(k.Places, at)
				k.Sitemap++
			}
		}
	}
	for _, at := range p.seen.Places() {
		if source := book.SourceOf(at); source != nil && source.Proxy != "" {
			k.Places = append(k.Places, at)
			k.Asked++
		}
	}
	return k
}

// sitemap returns the text of the site's sitemap.xml, nil if there is none.
func (p *Policy) sitemap(ctx context.Context, house *guard.House) []byte {
	behind := house.Book.SourceOf(place.Place{Method: "GET", Path: "/sitemap.xml"})
	switch {
	case behind == nil:
		return nil
	case behind.Files != "":
		root, err := os.OpenRoot(inspect.Directory(*behind, p.file))
		if err != nil {
			return nil
		}
		defer root.Close()
		relative, err := filepath.Rel(behind.Path, "/sitemap.xml")
		if err != nil {
			return nil
		}
		if info, err := root.Stat(relative); err != nil || !info.Mode().IsRegular() {
			return nil
		}
		file, err := root.Open(relative)
		if err != nil {
			return nil
		}
		defer file.Close()
		text, err := io.ReadAll(io.LimitReader(file, mostSitemap))
		if err != nil {
			return nil
		}
		return text
	}
	site, _ := house.Site.(*site)
	proxy, _ := site.handlers[behind].(*source.Proxy)
	if proxy == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, sitemapTimeout)
	defer cancel()
	text, err := proxy.Fetch(ctx, "/sitemap.xml", mostSitemap)
	if err != nil {
		return nil
	}
	return text
}
