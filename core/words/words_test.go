package words

import (
	"maps"
	"slices"
	"strings"
	"testing"
	"time"
	_ "time/tzdata" // also where the machine knows no zones
)

// No sentence is missing in a language, and none has other gaps than in English: what is to be said could not be.
func TestEverySentenceIsThereInEachLanguage(t *testing.T) {
	if len(Keys()) < 10 {
		t.Fatalf("%d sentences", len(Keys()))
	}
	for _, in := range Languages {
		if keys := slices.Sorted(maps.Keys(usual()[in])); !slices.Equal(keys, Keys()) {
			t.Errorf("%s has %q, and English %q", in, keys, Keys())
		}
		for _, key := range Keys() {
			said, ok := Usual(in, key)
			if !ok || said == "" {
				t.Errorf("%s: %s says nothing", in, key)
			}
			if in != English && said == usual()[English][key] && strings.Contains(said, " ") {
				t.Errorf("%s: %s is still English", in, key)
			}
			if want := Gaps(usual()[English][key]); !slices.Equal(Gaps(said), want) {
				t.Errorf("%s: %s has the gaps %q, and English %q", in, key, Gaps(said), want)
			}
		}
	}
}

func TestGapsAreFilledOnce(t *testing.T) {
	gaps := map[string]string{"name": "{link} {name}", "link": "https://marram.example"}
	for sentence, want := range map[string]string{
		"Hello {name}!": "Hello {link} {name}!", "{link}": "https://marram.example", "{": "{", "{}": "{}", "{{name}": "{{link} {name}",
		"{other} {link}": "{other} https://marram.example", "": "",
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
		{"de-CH,de;q=0.9,en;q=0.8", nil, German}, {"en-GB", nil, English}, {"fr", nil, English}, {"fr, de;q=0.4", nil, German},
		{"", nil, English}, {"\x00;;q=", nil, English},
		{"en", []string{"", "de"}, German}, {"de", []string{"../en"}, German}, {"de;q=0, en", nil, English},
	} {
		if got := Choose(c.accepted, c.wishes...); got != c.want {
			t.Errorf("Choose(%q, %q) = %q, want %q", c.accepted, c.wishes, got, c.want)
		}
	}
}

// An end is told as the last day that counts, in whatever zone, also where a day has 23 hours.
func TestEnd(t *testing.T) {
	somewhere, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Fatal(err)
	}
	for _, zone := range []*time.Location{time.UTC, somewhere} {
		for at, want := range map[time.Time]string{
			time.Date(2027, 4, 1, 0, 0, 0, 0, zone):         "31 March 2027",
			time.Date(2027, 3, 29, 0, 0, 0, 0, zone):        "28 March 2027",
			time.Date(2027, 1, 1, 0, 0, 0, 0, zone):         "31 December 2026",
			time.Date(2027, 4, 1, 18, 30, 0, 0, zone):       "1 April 2027, 18:30",
			time.Date(2027, 4, 1, 0, 0, 0, 1_000_000, zone): "1 April 2027, 00:00",
		} {
			if got := End(English, at); got != want {
				t.Errorf("%v: %s, want %s", at, got, want)
			}
		}
	}
}
