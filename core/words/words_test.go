package words

import (
	"maps"
	"slices"
	"strings"
	"testing"
)

// No sentence is missing in a language, and none has other gaps than in English: what is to be said could not be.
func TestEverySentenceIsThereInEachLanguage(t *testing.T) {
	if len(Keys()) < 10 {
		t.Fatalf("%d sentences", len(Keys()))
	}
	for _, in := range Languages {
		if keys := slices.Sorted(maps.Keys(usual[in])); !slices.Equal(keys, Keys()) {
			t.Errorf("%s has %q, and English %q", in, keys, Keys())
		}
		for _, key := range Keys() {
			said, ok := Usual(in, key)
			if !ok || said == "" {
				t.Errorf("%s: %s says nothing", in, key)
			}
			if in != English && said == usual[English][key] && strings.Contains(said, " ") {
				t.Errorf("%s: %s is still English", in, key)
			}
			if want := Gaps(usual[English][key]); !slices.Equal(Gaps(said), want) {
				t.Errorf("%s: %s has the gaps %q, and English %q", in, key, Gaps(said), want)
			}
		}
	}
}

func TestGapsAreFilledOnce(t *testing.T) {
	gaps := map[string]string{"name": "{link} {name}", "link": "https://marram.example"}
	for sentence, want := range map[string]string{
		"Hello {name}!": "Hello {link} {name}!", "{link}": "https://marram.example", "{": "{", "{}": "{}", "{{name}": "{{link} {name}", "{other} {link}": "{other} https://marram.example", "": "",
	} {
		if got := Fill(sentence, gaps); got != want {
			t.Errorf("%q is %q, want %q", sentence, got, want)
		}
	}
}

func TestChoose(t *testing.T) {
	for _, c := range []struct {
		accepted string
		wishes   []string
		want     Language
	}{
		{"de-CH,de;q=0.9,en;q=0.8", nil, German}, {"en-GB", nil, English}, {"fr", nil, English}, {"fr, de;q=0.4", nil, German}, {"", nil, English}, {"\x00;;q=", nil, English},
		{"en", []string{"", "de"}, German}, {"de", []string{"../en"}, German}, {"de;q=0, en", nil, English},
	} {
		if got := Choose(c.accepted, c.wishes...); got != c.want {
			t.Errorf("Choose(%q, %q) = %q, want %q", c.accepted, c.wishes, got, c.want)
		}
	}
}
