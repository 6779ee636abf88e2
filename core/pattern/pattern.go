// Package pattern has regular expressions that are compiled when they are first used. A program that contains hundreds of them, and
// needs none for most of its commands, starts without the time and the memory of all.
package pattern

import (
	"regexp"
	"sync"
)

// A Pattern is a regular expression in the syntax of package regexp. Its methods are those of regexp.Regexp.
type Pattern struct {
	source   string
	compiled func() *regexp.Regexp
}

var made []*Pattern

// New returns the Pattern of a source. It is called for the variables of packages only, and compiles nothing: whether each can be
// compiled is what Check tells.
func New(source string) *Pattern {
	p := &Pattern{source, sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(source) })}
	made = append(made, p)
	return p
}

// Check returns how many Patterns there are in a program, and an error for the first that cannot be compiled.
func Check() (int, error) {
	for _, p := range made {
		if _, err := regexp.Compile(p.source); err != nil {
			return len(made), err
		}
	}
	return len(made), nil
}

func (p *Pattern) String() string { return p.source }

func (p *Pattern) MatchString(s string) bool { return p.compiled().MatchString(s) }

func (p *Pattern) FindString(s string) string { return p.compiled().FindString(s) }

func (p *Pattern) FindStringSubmatch(s string) []string { return p.compiled().FindStringSubmatch(s) }

func (p *Pattern) FindAllString(s string, n int) []string { return p.compiled().FindAllString(s, n) }

func (p *Pattern) FindAllStringIndex(s string, n int) [][]int {
	return p.compiled().FindAllStringIndex(s, n)
}

func (p *Pattern) FindAllStringSubmatch(s string, n int) [][]string {
	return p.compiled().FindAllStringSubmatch(s, n)
}

func (p *Pattern) FindAllStringSubmatchIndex(s string, n int) [][]int {
	return p.compiled().FindAllStringSubmatchIndex(s, n)
}

func (p *Pattern) FindAllSubmatch(b []byte, n int) [][][]byte {
	return p.compiled().FindAllSubmatch(b, n)
}

func (p *Pattern) ReplaceAllString(s, with string) string {
	return p.compiled().ReplaceAllString(s, with)
}

func (p *Pattern) ReplaceAllStringFunc(s string, with func(string) string) string {
	return p.compiled().ReplaceAllStringFunc(s, with)
}

func (p *Pattern) Split(s string, n int) []string { return p.compiled().Split(s, n) }
