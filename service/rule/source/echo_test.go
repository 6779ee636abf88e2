package source

import (
	"net/http"
	"strings"
	"testing"
)

// What is drawn is no kind of file, wherever in an answer it stands and in whatever letters: two names that are drawn are answered alike by
// servers that guess.
func TestDrawnNamesAreNoKindOfFile(t *testing.T) {
	seen := map[byte]int{}
	const drawn = 400
	for range drawn {
		name := Draw("plan").Name
		if len(name) != 9 || strings.Trim(name, plain) != "" {
			t.Fatalf("%q was drawn", name)
		}
		for i := range len(name) {
			seen[name[i]]++
		}
		for _, name := range []string{name, strings.ToUpper(name)} {
			for at := range 40 {
				text := strings.Repeat("x", at) + name + " is not here"
				if kind := http.DetectContentType([]byte(text)); kind != "text/plain; charset=utf-8" {
					t.Fatalf("%q is taken for %s", text, kind)
				}
			}
		}
	}
	for _, letter := range plain {
		if n := seen[byte(letter)]; n < drawn*9/len(plain)/2 || n > drawn*9/len(plain)*2 {
			t.Errorf("%c was drawn %d times of %d", letter, n, drawn*9)
		}
	}
	// A name with the two letters is answered otherwise; that's the server's own, and is not drawn.
	if http.DetectContentType([]byte(strings.Repeat("x", 34)+"LP")) == "text/plain; charset=utf-8" {
		t.Error("there is no such kind any more")
	}
}
