package inforce

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ostiarius/core/place"
)

const urlset = `<?xml version="1.0"?><urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">` +
	`<url><loc>https://marram.example/visit/tours</loc></url><url><loc>https://marram.` +
	`example/door/sign-in</loc></url><url><loc>/a%2fb</loc></url></urlset>`

func paths(all []place.Place) (paths []string) {
	for _, p := range all {
		paths = append(paths, p.Path)
	}
	return paths
}

// The places that are known are those of files, of a sitemap that is one of them, and of what servers behind answered;
// never own pages, or what cannot be read.
func TestKnownPlaces(t *testing.T) {
	_, o := keep(t, "sources: [ { path: /, files: ./site } ]\ndoors: [ { path: /**, admit: public } ]\n")
	put(t, filepath.Join(filepath.Dir(o.File), "site", "sitemap.xml"), urlset)
	h := follow(t, o)
	if k := h.Known(t.Context(), 100); !slices.Equal(paths(k.Places), []string{"/sitemap.xml", "/visit/tours"}) || k.Files != 1 ||
		k.Sitemap != 1 || k.More {
		t.Errorf("%+v", k)
	}
	if k := h.Known(t.Context(), 1); k.Sitemap != 0 || k.Files != 1 {
		t.Errorf("of at most one: %+v", k)
	}
	if err := os.Remove(filepath.Join(filepath.Dir(o.File), "site", "sitemap.xml")); err != nil {
		t.Fatal(err)
	}
	if k := h.Known(t.Context(), 100); len(k.Places) != 0 {
		t.Errorf("%+v", k)
	}
}

// A server behind may say anything for its sitemap, or nothing: the tree is there all the same.
func TestSitemapBehind(t *testing.T) {
	for name, c := range map[string]struct {
		answer http.HandlerFunc
		want   int
	}{
		"a sitemap": {func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path != "/sitemap.xml" || r.Header.Get("Cookie") != "" || r.Header.Get("Authorization") != "" {
				t.Errorf("asked for %s with %v", r.URL, r.Header)
			}
			io.WriteString(w, urlset)
		}, 1},
		"nothing": {http.NotFound, 0},
		"garbage": {func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "<urlset><url>") }, 0},
		"elsewhere": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://127.0.0.1:1/", http.StatusFound)
		}, 0},
		"without end": {func(w http.ResponseWriter, _ *http.Request) { io.Copy(w, io.LimitReader(endless{}, mostSitemap*2)) }, 0},
		"an expansion": {func(w http.ResponseWriter, _ *http.Request) {
			io.WriteString(w, strings.Replace(urlset, "<urlset", `<!DOCTYPE x [<!ENTITY a "b">]><urlset`, 1)+"&a;")
		}, 0},
	} {
		behind := httptest.NewServer(c.answer)
		_, o := keep(t, "sources: [ { path: /, proxy: \""+behind.URL+"\" } ]\ndoors: [ { path: /**, admit: public } ]\n")
		if k := follow(t, o).Known(t.Context(), 100); k.Sitemap != c.want {
			t.Errorf("%s: %+v", name, k)
		}
		behind.Close()
	}
	hangs := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }))
	defer hangs.Close()
	_, o := keep(t, "sources: [ { path: /, proxy: \""+hangs.URL+"\" } ]\ndoors: [ { path: /**, admit: public } ]\n")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if k := follow(t, o).Known(ctx, 100); len(k.Places) != 0 {
		t.Errorf("%+v", k)
	}
}

type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = ' '
	}
	return len(p), nil
}
