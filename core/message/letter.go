package message

import (
	"bytes"
	"html/template"
	"maps"
	"strings"
	"time"

	"github.com/yuin/goldmark"
	"golang.org/x/net/publicsuffix"

	"ostiarius/core/looks"
	"ostiarius/core/words"
)

// A Sender is who sends a message: what of a site stands in each.
type Sender struct {
	Site  string
	URL   string // of the site, without a slash at its end
	Words words.Set
	Looks looks.Looks
	Zone  *time.Location // in which times are told
}

// A Letter is a message as it is read.
type Letter struct {
	Language words.Language
	Subject  string // of one line
	Text     string
	HTML     string
}

// PasswordHidden stands where a password was, in one that is not to be sent.
const PasswordHidden = "(the password is not shown)"

// LinkHidden stands where the link of a message was, in one that is not to be sent.
const LinkHidden = "(the link is not shown)"

// Write makes the letter of a message.
func (s Sender) Write(m Message) Letter {
	link := ""
	if m.Link != "" {
		link = s.URL + m.Link
	}
	return s.write(m, link)
}

// Secret are the gaps that only the reader of a message is to know.
var Secret = []string{"password"}

// Show makes the letter of a message for others than the one it is sent to: without its link, and without a password.
func (s Sender) Show(m Message) Letter {
	shown := m
	shown.Gaps = maps.Clone(m.Gaps)
	for _, gap := range Secret {
		if _, has := shown.Gaps[gap]; has {
			shown.Gaps[gap] = PasswordHidden
		}
	}
	return s.write(shown, "")
}

func (s Sender) write(m Message, link string) Letter {
	gaps := map[string]string{}
	maps.Copy(gaps, m.Gaps)
	gaps["site"], gaps["url"] = s.Site, s.URL
	gaps["until"] = s.time(m.Language, m.Until)
	gaps["at"] = s.time(m.Language, m.MadeAt)
	for name, value := range gaps {
		gaps[name] = line(value)
	}
	gaps["name"] = unlinked(gaps["name"])
	say := func(part string) string { return s.Words.Say(m.Language, "mail."+string(m.Kind)+"."+part, gaps) }
	l := Letter{Language: m.Language, Subject: line(say("subject"))}
	colours := s.Looks.InLight()
	page := page{
		Paper: colours.Paper, Sheet: colours.Sheet(), Ink: colours.Ink, Soft: colours.Soft(), Line: colours.Line(),
		Accent: colours.Accent, OnAccent: colours.OnAccent(), Language: m.Language, Subject: l.Subject, Site: s.Site, URL: s.URL,
		Foot: s.Words.Say(m.Language, "mail.foot", gaps),
	}
	var text []string
	for paragraph := range strings.SplitSeq(s.Words.Sentence(m.Language, "mail."+string(m.Kind)+".text"), "\n\n") {
		switch paragraph = strings.TrimSpace(paragraph); {
		case paragraph == "":
		case paragraph == "{own}": // paragraphs in words of one's own
			for own := range strings.SplitSeq(strings.ReplaceAll(m.Gaps["own"], "\r\n", "\n"), "\n\n") {
				if own = words.Fill(line(own), gaps); own != "" {
					text = append(text, own)
					page.Paragraphs = append(page.Paragraphs, part{Own: own})
				}
			}
		case paragraph != "{link}":
			text = append(text, words.Fill(paragraph, gaps))
			page.Paragraphs = append(page.Paragraphs, part{Rich: rich(paragraph, gaps)})
		case link == "":
			text = append(text, LinkHidden)
			page.Paragraphs = append(page.Paragraphs, part{Text: say("button"), Link: "#"})
		default:
			text = append(text, link)
			page.Paragraphs = append(page.Paragraphs, part{Text: say("button"), Link: link})
		}
	}
	l.Text = strings.Join(text, "\n\n") + "\n\n-- \n" + page.Foot + "\n"
	var b bytes.Buffer
	if err := letter.Execute(&b, page); err != nil {
		panic(err) // the page is made of nothing but texts
	}
	l.HTML = b.String()
	return l
}

// rich makes a paragraph, in Markdown, into part of a page. HTML in it is text, and what fills its gaps too, whatever it
// looks like.
func rich(paragraph string, gaps map[string]string) template.HTML {
	var b strings.Builder
	if err := goldmark.Convert([]byte(strings.ReplaceAll(paragraph, "<", "&lt;")), &b); err != nil {
		return template.HTML(template.HTMLEscapeString(words.Fill(paragraph, gaps)))
	}
	escaped := make(map[string]string, len(gaps))
	for name, value := range gaps {
		escaped[name] = template.HTMLEscapeString(value)
	}
	return template.HTML(words.Fill(b.String(), escaped))
}

// unlinked keeps programs that show mail from making a link of a name that looks like a host: somebody may have chosen it for that.
func unlinked(name string) string {
	_, known := publicsuffix.PublicSuffix(strings.ToLower(name))
	if !strings.Contains(name, ".") || !known && !strings.HasPrefix(strings.ToLower(name), "www.") {
		return name
	}
	return strings.ReplaceAll(name, ".", ".\u2060") // a word joiner, which isn't seen
}

// line makes a text one line that changes nothing around it: it stands in header fields and between paragraphs.
func line(text string) string {
	return strings.Join(strings.FieldsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f || r == '\u2028' || r == '\u2029' }), " ")
}

func (s Sender) time(in words.Language, at time.Time) string {
	zone := s.Zone
	if zone == nil {
		zone = time.UTC
	}
	return words.Zoned(in, at.In(zone))
}

type page struct {
	Language                                        words.Language
	Subject, Site, URL, Foot                        string
	Paragraphs                                      []part
	Paper, Sheet, Ink, Soft, Line, Accent, OnAccent looks.Colour
}

type part struct {
	Text, Link string
	Own        string
	Rich       template.HTML
}

// The looks stand in each element: mail programs take no style sheets.
var letter = template.Must(template.New("letter").Parse(`<!doctype html>
<html lang="{{.Language}}">
<head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{{.Subject}}</title></head>
<body style="margin:0;padding:24px 12px;background:{{.Paper}};color:{{.Ink}};font:17px/1.5 'Atkinson Hyperlegible',Verdana,sans-serif">
<div style="max-width:34em;margin:0 auto;padding:24px 28px;background:{{.Sheet}};border-top:4px solid {{.Accent}}">
<p style="margin:0 0 1.2em;font-weight:bold">{{.Site}}</p>
{{range .Paragraphs}}{{if .Link}}<p style="margin:1.6em 0"><a href="{{.Link}}"
  style="display:inline-block;padding:10px 20px;background:{{$.Accent}};color:{{$.OnAccent}};text-decoration:none;border-radius:4px"
  >{{.Text}}</a></p>
{{else if .Own}}<p>{{.Own}}</p>{{else}}{{.Rich}}{{end}}{{end}}<p
  style="margin:2em 0 0;padding-top:1em;border-top:1px solid {{.Line}};font-size:14px;color:{{.Soft}}">{{.Foot}}</p>
</div>
</body>
</html>
`))
