package message

import (
	"strings"
	"testing"
	"time"

	"ostiarius/core/looks"
	"ostiarius/core/words"
)

var noon = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

var trust = Sender{Site: "Marram Point Lighthouse Trust", URL: "https://marram.example"}

// Each kind has its sentences, in each language, and says nothing that has a gap left.
func TestEveryKindCanBeWritten(t *testing.T) {
	for _, kind := range Kinds {
		for _, in := range words.Languages {
			m := Sample(kind, in, noon).With("/door/recover?link=abc", noon.Add(time.Hour))
			l := trust.Write(m)
			if l.Subject == "" || strings.Contains(l.Subject+l.Text+l.HTML, "{") {
				t.Errorf("%s in %s says:\n%s\n%s", kind, in, l.Subject, l.Text)
			}
			usual, _ := words.Usual(in, "mail."+string(kind)+".text")
			leads := strings.Contains(usual, "{link}")
			if link := "https://marram.example/door/recover?link=abc"; strings.Contains(l.Text, "\n"+link+"\n") != leads ||
				strings.Contains(l.HTML, `href="`+link+`"`) != leads {
				t.Errorf("%s in %s: a link should be there: %v\n%s\n%s", kind, in, leads, l.Text, l.HTML)
			}
			if shown := trust.Show(m); strings.Contains(shown.Text+shown.HTML, "abc") {
				t.Errorf("%s in %s shows its link to others:\n%s", kind, in, shown.Text)
			}
			if password := m.Gaps["password"]; strings.Contains(l.Text, password) &&
				strings.Contains(trust.Show(m).Text+trust.Show(m).HTML, password) {
				t.Errorf("%s in %s shows its password to others", kind, in)
			}
		}
	}
}

// Nothing that somebody chose as a name, or is called, makes a header field, a paragraph, a link or markup of its own.
func TestValuesStayWithinTheirGaps(t *testing.T) {
	hostile := "x\r\nBcc: all@marram.example\r\n\r\n{link}\n\n<script>\u2028"
	site := Sender{Site: hostile, URL: "https://marram.example"}
	l := site.Write(New(Recover, "ines@marram.example", hostile, words.English, noon).With("/door/recover?link=abc", noon))
	if strings.ContainsAny(l.Subject, "\r\n\u2028") {
		t.Errorf("subject %q", l.Subject)
	}
	if strings.Contains(l.Text, "\r") || strings.Contains(l.Text, "\nBcc") || strings.Count(l.Text, "link=abc") != 1 {
		t.Errorf("text:\n%s", l.Text)
	}
	if strings.Contains(l.HTML, "<script>") || strings.Count(l.HTML, "link=abc") != 1 {
		t.Errorf("page:\n%s", l.HTML)
	}
}

func TestAMessageIsTriedUntilItsTimeIsOver(t *testing.T) {
	m := New(Recover, "ines@marram.example", "ines", words.English, noon).With("/door/recover?link=abc", noon.Add(time.Hour))
	at, before := noon, time.Duration(0)
	for m.State == Waiting {
		if m = m.Tried(at, "nobody answers", false); m.State == Waiting {
			wait := m.NextAt.Sub(at)
			if wait < before || wait > longestWait {
				t.Fatalf("after %d tries it waits for %v, and before for %v", m.Tries, wait, before)
			}
			at, before = m.NextAt, wait
		}
		if m.Tries > 20 {
			t.Fatal("it never ends")
		}
	}
	if m.State != Failed || at.After(noon.Add(time.Hour)) || m.Tries < 4 {
		t.Errorf("%d tries, %s at %v", m.Tries, m.State, at)
	}
	if m := New(Test, "ines@marram.example", "", words.English, noon).Tried(noon, "no such mailbox", true); m.State != Failed ||
		m.Problem == "" {
		t.Errorf("what the server will never take is %s", m.State)
	}
	if Wait(1) != time.Minute || Wait(100) != longestWait {
		t.Errorf("it waits from %v to %v", Wait(1), Wait(100))
	}
}

// Sentences of a site's own may be in Markdown; what fills their gaps is not, and neither makes an element that is not asked for.
func TestLettersInMarkdown(t *testing.T) {
	site := trust
	site.Words = words.NewSet(map[words.Language]map[string]string{words.English: {
		"mail.recover.text": "Hello **{name}**,\n\n<script>x</script> see [our page](https://marram.example/help) " +
			"or [this](javascript:x).\n\n{link}",
	}})
	l := site.Write(New(Recover, "ines@marram.example", "*ines* <b>", words.English, noon).With("/door/recover?link=abc", noon))
	for _, want := range []string{"<strong>*ines* &lt;b&gt;</strong>", `<a href="https://marram.example/help">our page</a>`} {
		if !strings.Contains(l.HTML, want) {
			t.Errorf("no %s in\n%s", want, l.HTML)
		}
	}
	if strings.Contains(l.HTML, "<script") || strings.Contains(l.HTML, "javascript:") ||
		!strings.HasPrefix(l.Text, "Hello ***ines* <b>**,\n\n") {
		t.Errorf("%s\n%s", l.Text, l.HTML)
	}
}

// Mails have the colours of the site.
func TestLettersWearTheLooks(t *testing.T) {
	site := trust
	site.Looks.Light = &looks.Palette{
		Paper: looks.Colour{R: 0xff, G: 0xfa, B: 0xf3}, Ink: looks.Colour{R: 0x2b, G: 0x20, B: 0x24},
		Accent: looks.Colour{R: 0x7a, G: 0x1f, B: 0x3d},
	}
	l := site.Write(New(Recover, "ines@marram.example", "ines", words.English, noon).With("/door/recover?link=abc", noon))
	for _, want := range []string{"background:#fffaf3", "color:#2b2024", "background:#7a1f3d;color:#ffffff"} {
		if !strings.Contains(l.HTML, want) {
			t.Errorf("no %s in\n%s", want, l.HTML)
		}
	}
	if strings.Contains(trust.Write(New(Test, "ines@marram.example", "", words.English, noon)).HTML, "Zgotmpl") {
		t.Error("a colour is not taken")
	}
}
