package pages

import (
	"io/fs"
	"net/http/httptest"
	"path"
	"regexp"
	"strings"
	"testing"

	"ostiarius/core/looks"
	"ostiarius/core/policy/read"
	"ostiarius/core/words"
)

var (
	inputs = regexp.MustCompile(`<input[^>]*>`)
	named  = regexp.MustCompile(`\b(name|type|autocomplete)="([^"]*)"`)
)

// Fields for passwords hide what is typed, and say to password managers which password they are for; nothing keeps anybody from pasting.
// The fields for a shared password are no account's, and managers are told so.
func TestPasswordFields(t *testing.T) {
	files, err := fs.Glob(templateFiles, "templates/*.html")
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	for _, file := range files {
		text, err := fs.ReadFile(templateFiles, file)
		if err != nil {
			t.Fatal(err)
		}
		for _, input := range inputs.FindAllString(string(text), -1) {
			is := map[string]string{}
			for _, part := range named.FindAllStringSubmatch(input, -1) {
				is[part[1]] = part[2]
			}
			secret := is["name"] == "password" || is["name"] == "new" || is["name"] == "again"
			if secret != (is["type"] == "password") {
				t.Errorf("%s: %s", file, input)
			}
			if !secret {
				continue
			}
			found++
			shared := path.Base(file) == "unlock.html" && is["autocomplete"] == "off"
			if !shared && is["autocomplete"] != "current-password" && is["autocomplete"] != "new-password" {
				t.Errorf("%s tells managers nothing: %s", file, input)
			}
		}
		if strings.Contains(string(text), "onpaste") {
			t.Errorf("%s looks at what is pasted", file)
		}
	}
	if found < 12 {
		t.Errorf("only %d fields were found", found)
	}
}

// Whoever is signed in finds the way out on the page of their account, before anything else that it offers.
func TestSigningOutIsEasyToFind(t *testing.T) {
	book, findings := read.Parse("doors.yaml", []byte("prefix: /gatehouse\ndoors: [{path: /, admit: public}]"))
	if book == nil {
		t.Fatal(findings)
	}
	w := httptest.NewRecorder()
	New(Options{}).Sample(w, book, "account", words.English, looks.Looks{})
	forms := regexp.MustCompile(`(?s)<form.*?</form>`).FindAllString(w.Body.String(), -1)
	if len(forms) < 3 || !strings.Contains(forms[0], `method="post" action="/gatehouse/sign-out"`) || !strings.Contains(forms[0], "Sign out") {
		t.Errorf("%q", forms)
	}
}
