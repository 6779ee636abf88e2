package message

import (
	"strings"
	"testing"
	"time"

	"golang.org/x/net/html"

	"ostiarius/core/words"
)

// Whatever somebody is called or writes, a letter has one line as its subject, one link, and no element that its template has
// not.
func FuzzLetter(f *testing.F) {
	f.Add("ines", "All watches are filled.", "Marram Point")
	f.Add("{link}", "{link}\n\n{name}", "{site}")
	f.Add("<a href=x>", "\r\n.\r\nQUIT", "x\r\nBcc: y@marram.example")
	f.Add("\u2028", "&lt;script&gt;", "\xff\x00")
	f.Fuzz(func(t *testing.T, name, text, site string) {
		sender := Sender{Site: site, URL: "https://marram.example"}
		for _, kind := range []Kind{Declined, JoinProve, Recover} {
			m := New(kind, "ines@marram.example", name, words.English, time.Unix(0, 0)).With("/door/join?link=TOKEN", time.Unix(60, 0))
			m.Gaps["text"] = text
			l := sender.Write(m)
			if strings.ContainsAny(l.Subject, "\r\n\x00") {
				t.Errorf("subject %q", l.Subject)
			}
			if strings.Contains(l.Text, "\r") || strings.Count(l.Text, "link=TOKEN") > 1 && !strings.Contains(name+text+site, "TOKEN") {
				t.Errorf("text %q", l.Text)
			}
			page, err := html.Parse(strings.NewReader(l.HTML))
			if err != nil {
				t.Fatal(err)
			}
			for n := range page.Descendants() {
				if n.Type != html.ElementNode {
					continue
				}
				switch n.Data {
				case "html", "head", "meta", "title", "body", "div", "p":
				case "a":
					if len(n.Attr) == 0 || n.Attr[0].Val != "https://marram.example/door/join?link=TOKEN" {
						t.Errorf("a link %v", n.Attr)
					}
				default:
					t.Errorf("an element %s in\n%s", n.Data, l.HTML)
				}
			}
		}
	})
}

// A name that looks like a host becomes no link in a program that shows mail; others are as they are.
func TestNamesAreNoLinks(t *testing.T) {
	for name, as := range map[string]bool{"www.evil.example": false, "evil.com": false, "EVIL.co.uk": false, "ines": true,
		"ines.rud": true, "dr.ines-rud": true} {
		if got := unlinked(name); (got == name) != as || strings.ReplaceAll(got, "\u2060", "") != name {
			t.Errorf("%q becomes %q", name, got)
		}
	}
}
