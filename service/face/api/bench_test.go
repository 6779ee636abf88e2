package api

import (
	"fmt"
	"io/fs"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"ostiarius/service/rule/inforce"
)

// The tree of a site of 20,000 files, as the console asks for it, beside walking their directory alone.
func BenchmarkSite(b *testing.B) {
	dir := b.TempDir()
	for i := range 200 {
		sub := filepath.Join(dir, fmt.Sprintf("part%d", i%20), fmt.Sprintf("room%d", i))
		if err := os.MkdirAll(sub, 0o755); err != nil {
			b.Fatal(err)
		}
		for n := range 100 {
			if err := os.WriteFile(filepath.Join(sub, fmt.Sprintf("page%d.html", n)), nil, 0o644); err != nil {
				b.Fatal(err)
			}
		}
	}
	walk := func(b *testing.B, walk func(count func(fs.FileMode)) error) {
		for b.Loop() {
			files := 0
			if err := walk(func(kind fs.FileMode) {
				if kind.IsRegular() {
					files++
				}
			}); err != nil || files != 20_000 {
				b.Fatal(files, err)
			}
		}
	}
	b.Run("walk the directory and look at each file", func(b *testing.B) {
		walk(b, func(count func(fs.FileMode)) error {
			return filepath.Walk(dir, func(_ string, info fs.FileInfo, err error) error {
				if err == nil {
					count(info.Mode())
				}
				return err
			})
		})
	})
	b.Run("walk the directory for its names", func(b *testing.B) {
		walk(b, func(count func(fs.FileMode)) error {
			return filepath.WalkDir(dir, func(_ string, entry fs.DirEntry, err error) error {
				if err == nil {
					count(entry.Type())
				}
				return err
			})
		})
	})
	b.Run("tree", func(b *testing.B) {
		r := server(b, func(a *API) {
			text := "sources: [ { path: /, files: " + dir +
				" } ]\nroles: {keeper: }\ndoors:\n  - { path: /**, admit: public }\n  - { path: /part7/**, admit: { role: keeper } }\n"
			if _, err := a.Policy.Apply(b.Context(), "test", inforce.Draft{Text: []byte(text)}); err != nil {
				b.Fatal(err)
			}
		})
		b.ResetTimer()
		for b.Loop() {
			w := httptest.NewRecorder()
			r.ServeHTTP(w, request("GET", "/site", ""))
			if w.Code != 200 || w.Body.Len() < 1<<20 {
				b.Fatal(w.Code, w.Body.Len())
			}
		}
	})
}
