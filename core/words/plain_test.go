package words

import (
	"regexp"
	"strings"
	"testing"
)

var (
	ends = regexp.MustCompile(`[.!?:]\s+|\n+`)
	// Sentences of texts that were translated word for word: they begin with a clause that has no noun.
	clauses = regexp.MustCompile(`^(?:Who|Whoever|Whom|What) [^?]*$`)
	foreign = regexp.MustCompile(`(?i)\b(?:by itself|of late|whom|whoever|is over|is gone|not for you|log in|the same once more|` +
		`with the very next|in force|servers? behind|a stranger|strangers)\b`)
)

// English sentences are short, and plain.
func TestSentencesArePlain(t *testing.T) {
	for key, text := range usual()[English] {
		for _, sentence := range ends.Split(text, -1) {
			if words := len(strings.Fields(sentence)); words > 30 {
				t.Errorf("%s has a sentence of %d words: %s", key, words, sentence)
			}
			if clauses.MatchString(strings.TrimSpace(sentence)) {
				t.Errorf("%s has a sentence without a noun at its beginning: %s", key, sentence)
			}
		}
		if found := foreign.FindString(text); found != "" {
			t.Errorf("%s says %q: %s", key, found, text)
		}
	}
}
