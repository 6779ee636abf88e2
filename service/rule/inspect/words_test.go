package inspect

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"ostiarius/core/policy/read"
	"ostiarius/core/words"
)

// Sentences may stand in a file of their own; what is wrong there is told with its place, and where there is none the usual ones
// are said.
func TestWordsInAFile(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "doors.yaml")
	book, findings := read.Parse(file, []byte("words: ./words.yaml\nunlisted: hide\ndoors: [{ path: /, admit: public }]\n"))
	if book == nil {
		t.Fatal(findings)
	}
	for text, want := range map[string]string{
		"": "cannot be read", "en: { sign-in.title: Entrance }\nde: { sign-in.title: Eingang }\n": "",
		"en: { sign-in.titel: x }\n": "words.yaml:1:7 unknown-key", "en: { sign-in.as: \"{nme}\" }\n": "words.yaml:1:19 bad-value",
		"[1]\n":                              "is a mapping",
		"en: { mail.recover.text: hello }\n": "needs {link}",
	} {
		name := filepath.Join(dir, "words.yaml")
		if os.Remove(name); text != "" {
			if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		set, found := Words(book, file)
		said := ""
		for _, f := range found {
			said += filepath.Base(f.File) + ":" + strconv.Itoa(f.Line) + ":" + strconv.Itoa(f.Column) + " " + f.Rule + " " + f.Message + "\n"
		}
		if !strings.Contains(said, want) || (want == "") != (said == "") {
			t.Errorf("%q: %s, want %s", text, said, want)
		}
		title := map[string]string{"": "Entrance"}[want]
		if want != "" {
			title = "Sign in"
		}
		if got := set.Say(words.English, "sign-in.title", nil); got != title {
			t.Errorf("%q says %q, want %q", text, got, title)
		}
	}
}
