package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

var (
	shellBlocks = regexp.MustCompile("(?s)```sh\n(.*?)```")
	command     = regexp.MustCompile(`(?:^|[|;&(]\s*|sudo (?:-u \S+ )?)\s*(?:\S*/)?ostiarius ([^\n]+)`)
	inlineCode  = regexp.MustCompile("`(ostiarius [^`\n]+)`")
	endOfOne    = regexp.MustCompile(` [|>#;&]|\)`)
)

// Every command that the documentation names is there, with each of its flags.
func TestDocumentedCommandsExist(t *testing.T) {
	pages, err := filepath.Glob("../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	count := 0
	for _, page := range append(pages, "../README.md") {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		var commands []string
		for _, block := range shellBlocks.FindAllStringSubmatch(string(text), -1) {
			for line := range strings.Lines(strings.ReplaceAll(block[1], "\\\n", " ")) {
				if found := command.FindStringSubmatch(line); found != nil {
					commands = append(commands, found[1])
				}
			}
		}
		for _, code := range inlineCode.FindAllStringSubmatch(string(text), -1) {
			commands = append(commands, strings.TrimPrefix(code[1], "ostiarius "))
		}
		for _, command := range commands {
			count++
			words := strings.Fields(endOfOne.Split(command, 2)[0])
			root := newRoot()
			c, _, err := root.Find(words)
			if err != nil || c == root {
				t.Errorf("%s: there is no command for %q (%v)", page, command, err)
				continue
			}
			for _, word := range words {
				name, flag := strings.CutPrefix(word, "--")
				name, _, _ = strings.Cut(name, "=")
				if flag && name != "" && name != "help" && c.Flag(name) == nil {
					t.Errorf("%s: %s has no flag --%s (%q)", page, c.CommandPath(), name, command)
				}
			}
		}
	}
	if count < 150 {
		t.Errorf("only %d commands", count)
	}
}
