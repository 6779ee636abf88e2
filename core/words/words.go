// Package words is what pages and mails say to people, sentence by sentence, in the languages that there are. Each
// sentence has a key; a site may put sentences of its own in the place of the usual ones.
package words

import (
	"embed"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"github.com/goccy/go-yaml"
	"golang.org/x/text/feature/plural"
	"golang.org/x/text/language"
)

// A Language is one that all sentences are there in.
type Language string

// The languages. The first is used where nothing else is known.
const (
	English Language = "en"
	German  Language = "de"
)

// Languages are all of them.
var Languages = []Language{English, German}

//go:embed *.yaml
var files embed.FS

// usual returns all sentences. They are read when the first is asked for: most commands need none.
var usual = sync.OnceValue(func() map[Language]map[string]string {
	all := map[Language]map[string]string{}
	for _, in := range Languages {
		text, err := files.ReadFile(string(in) + ".yaml")
		if err != nil {
			panic(err)
		}
		sentences := map[string]string{}
		if err := yaml.Unmarshal(text, &sentences); err != nil {
			panic(err)
		}
		for key, sentence := range sentences {
			sentences[key] = strings.TrimSpace(sentence)
		}
		all[in] = sentences
	}
	return all
})

// Keys returns the keys of all sentences, in order.
func Keys() []string { return slices.Sorted(maps.Keys(usual()[English])) }

// Usual returns a sentence as it is without words of a site's own; false if there is none with that key.
func Usual(in Language, key string) (string, bool) {
	sentence, ok := usual()[in][key]
	return sentence, ok
}

// A Set is the sentences of a site. The zero Set has the usual ones.
type Set struct {
	own map[Language]map[string]string
}

// NewSet returns the sentences of a site: the usual ones, with some of its own in their place.
func NewSet(own map[Language]map[string]string) Set { return Set{own} }

// Own returns how many sentences of its own a Set has in a language.
func (s Set) Own(in Language) int { return len(s.own[in]) }

// Say returns a sentence with its gaps filled: {name} is the value of name in gaps. A gap without a value is left
// as it stands. The key is one of Keys.
func (s Set) Say(in Language, key string, gaps map[string]string) string {
	return Fill(s.Sentence(in, key), gaps)
}

// Sentence returns a sentence with its gaps unfilled.
func (s Set) Sentence(in Language, key string) string {
	sentence, ok := s.own[in][key]
	if !ok {
		if sentence, ok = usual()[in][key]; !ok {
			panic(fmt.Sprintf("there is no sentence %q in %q", key, in))
		}
	}
	return sentence
}

// Fill fills the gaps of a sentence once: what a value says is not looked at again.
func Fill(sentence string, gaps map[string]string) string {
	if !strings.Contains(sentence, "{") {
		return sentence
	}
	var b strings.Builder
	for {
		before, rest, ok := strings.Cut(sentence, "{")
		b.WriteString(before)
		if !ok {
			return b.String()
		}
		name, after, ok := strings.Cut(rest, "}")
		value, known := gaps[name]
		if !ok || !known {
			b.WriteByte('{')
			sentence = rest
			continue
		}
		b.WriteString(value)
		sentence = after
	}
}

// Gaps returns the names of the gaps of a sentence, in order and each once.
func Gaps(sentence string) (names []string) {
	for {
		_, rest, ok := strings.Cut(sentence, "{")
		if !ok {
			slices.Sort(names)
			return slices.Compact(names)
		}
		name, after, ok := strings.Cut(rest, "}")
		if sentence = rest; ok && name != "" && strings.Trim(name, "abcdefghijklmnopqrstuvwxyz") == "" {
			names, sentence = append(names, name), after
		}
	}
}

var matcher = language.NewMatcher([]language.Tag{language.English, language.German})

// Choose returns the language that suits somebody best: the first of wishes that is one, or what their browser accepts
// (the field Accept-Language, RFC 9110, section 12.5.4), or English.
func Choose(accepted string, wishes ...string) Language {
	for _, wish := range wishes {
		if slices.Contains(Languages, Language(wish)) {
			return Language(wish)
		}
	}
	tags, _, err := language.ParseAcceptLanguage(accepted)
	if err != nil || len(tags) == 0 {
		return English
	}
	_, i, _ := matcher.Match(tags...)
	return Languages[i]
}

// Form returns the plural form that a language has for a number of things, as the end of a key: "one", "other", or one more of
// CLDR's ("zero", "two", "few", "many") where the language has it.
func Form(in Language, n int) string {
	forms := map[plural.Form]string{plural.Zero: "zero", plural.One: "one", plural.Two: "two", plural.Few: "few", plural.Many: "many"}
	if form, ok := forms[plural.Cardinal.MatchPlural(language.Make(string(in)), n, 0, 0, 0, 0)]; ok {
		return form
	}
	return "other"
}
