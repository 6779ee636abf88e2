// Package docs has no code: its tests hold the documentation to itself.
package docs

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// pages returns the README and all pages of the documentation, by their names from the root.
func pages(t *testing.T) map[string]string {
	t.Helper()
	found, err := filepath.Glob("*.md")
	if err != nil || len(found) < 20 {
		t.Fatalf("%d pages: %v", len(found), err)
	}
	all := map[string]string{}
	for _, file := range append(found, "../README.md") {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		all[filepath.Join("docs", file)] = string(text)
	}
	return all
}

var (
	links    = regexp.MustCompile(`\]\(([^)\s]+)\)`)
	headings = regexp.MustCompile(`(?m)^#+ (.*)$`)
	fenced   = regexp.MustCompile("(?s)```.*?```")
	unmarked = regexp.MustCompile(`[^\p{L}\p{N} _-]`)
)

// anchors returns the names of the headings of a page, as the usual programs that show Markdown make them.
func anchors(text string) map[string]bool {
	all := map[string]bool{}
	for _, h := range headings.FindAllStringSubmatch(fenced.ReplaceAllString(text, ""), -1) {
		all[strings.ReplaceAll(unmarked.ReplaceAllString(strings.ToLower(h[1]), ""), " ", "-")] = true
	}
	return all
}

// Every link leads to a file that is there, and to a heading that it has.
func TestLinks(t *testing.T) {
	all := pages(t)
	count := 0
	for name, text := range all {
		for _, link := range links.FindAllStringSubmatch(fenced.ReplaceAllString(text, ""), -1) {
			if strings.Contains(link[1], "://") {
				continue
			}
			count++
			path, anchor, _ := strings.Cut(link[1], "#")
			to := name
			if path != "" {
				to = filepath.Join(filepath.Dir(name), path)
			}
			if _, err := os.Stat(filepath.Join("..", to)); err != nil {
				t.Errorf("%s links to %s, which isn't there", name, link[1])
			} else if anchor != "" && !anchors(all[to])[anchor] {
				t.Errorf("%s links to %s, and %s has no such heading", name, link[1], to)
			}
		}
	}
	if count < 100 {
		t.Errorf("only %d links", count)
	}
}

// The index leads to every page, and the README to every picture; the README stays short.
func TestIndex(t *testing.T) {
	all := pages(t)
	for name := range all {
		if page := filepath.Base(name); page != "README.md" && !strings.Contains(all["docs/README.md"], "("+page+")") {
			t.Errorf("docs/README.md doesn't list %s", page)
		}
	}
	pictures, err := filepath.Glob("screenshots/*.png")
	if err != nil || len(pictures) < 10 {
		t.Fatalf("%d pictures: %v", len(pictures), err)
	}
	for _, picture := range pictures {
		if !strings.Contains(all["README.md"], "(docs/"+picture+")") {
			t.Errorf("README.md doesn't link to %s", picture)
		}
	}
	if lines := strings.Count(all["README.md"], "\n"); lines > 120 {
		t.Errorf("README.md has %d lines; it should have at most 120", lines)
	}
}
