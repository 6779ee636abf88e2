package policy

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ostiarius/core/words"
)

// A Sentence is how a door is told to people: who may go where, and what everybody else gets. It is made of
// the door itself, so that it cannot say anything else, and of parts, so that each can be a choice where it
// is changed.
type Sentence []Phrase

// A Phrase is a part of a Sentence. One that says something of the door names what: "who", "do", "where",
// "also", "anonymous", "refused"; the words between have "".
type Phrase struct {
	About string `json:"about,omitempty"`
	Text  string `json:"text"`
}

// String returns the sentence as plain text.
func (s Sentence) String() string {
	var b strings.Builder
	for _, p := range s {
		b.WriteString(p.Text)
	}
	return b.String()
}

// Sentence says a door in English.
func (d *Door) Sentence() Sentence {
	s := d.admits(d.where())
	plain := func(text string) { s = append(s, Phrase{"", text}) }
	say := func(about, text string) { s = append(s, Phrase{about, text}) }
	plain(". ")
	if d.Admit.Kind == Public {
		if text := d.Otherwise.Text(); text != "" {
			plain("(Nobody is turned away, so ")
			say("refused", "otherwise: "+text)
			plain(" says nothing.) ")
		}
		return s.trim()
	}
	anonymous, refused := d.Otherwise.Anonymous, d.Otherwise.Refused
	if anonymous.Hide && refused.Hide {
		plain("Everybody else ")
		say("anonymous", "is told that nothing is there")
	} else {
		plain("Who is not signed in ")
		say("anonymous", anonymous.told(d.question()))
		plain("; who may not ")
		say("refused", refused.told("is told so"))
	}
	plain(".")
	if d.Basic && !anonymous.none() && d.Admit.Kind != Nobody {
		plain(" A name and a password are taken with HTTP Basic, for “" + d.Realm + "”.")
	}
	return s
}

// Admits says in a sentence who may go to a page, to somebody who stands before it.
func (d *Door) Admits(page string) string { return d.admits(page).String() + "." }

// admits is the beginning of the sentence: who may go where, and what they do for it.
func (d *Door) admits(where string) (s Sentence) {
	plain := func(text string) { s = append(s, Phrase{"", text}) }
	say := func(about, text string) { s = append(s, Phrase{about, text}) }
	main, also := d.Admit.Split()
	switch main.Kind {
	case Public:
		say("who", "Everybody")
	case Nobody:
		say("who", "Nobody")
	default:
		plain("Only ")
		say("who", main.people(words.English))
	}
	plain(" may ")
	if d.Methods.Any() {
		say("do", "see")
	} else {
		say("do", "send "+AnyOf(d.Methods.Names())+" to")
	}
	plain(" ")
	say("where", where)
	for i, part := range also {
		switch {
		case i == 0:
			plain(", and must ")
		case i == len(also)-1:
			plain(" and ")
		default:
			plain(", ")
		}
		say("also", part.must(words.English))
	}
	return s
}

func (s Sentence) trim() Sentence {
	last := &s[len(s)-1]
	last.Text = strings.TrimRight(last.Text, " ")
	return s
}

// Split takes a demand apart into who may come in, and what they must do besides.
func (d Demand) Split() (main Demand, also []Demand) {
	if d.Kind != All {
		return d, nil
	}
	found := false
	for _, part := range d.Parts {
		switch {
		case !saysWho(part.Kind):
			also = append(also, part)
		case found:
			return d, nil // two of a kind; they are told as one
		default:
			main, found = part, true
		}
	}
	// "In the last ten minutes" is said after what it is about.
	slices.SortStableFunc(also, func(a, b Demand) int { return cmp.Compare(len(a.Factors), len(b.Factors)) })
	if !found {
		main, also = also[0], also[1:]
	}
	return main, also
}

// people names those who meet a demand, in a language.
func (d *Demand) people(in words.Language) string {
	switch d.Kind {
	case Public, Nobody:
		return told(in, "demand."+string(d.Kind), nil)
	case Any:
		return d.list(in, "demand.or")
	case All:
		return told(in, "demand.all.people", map[string]string{"list": d.list(in, "demand.and")})
	}
	return d.sentence(in, "people")
}

// must says what somebody does who meets a demand, in a language.
func (d *Demand) must(in words.Language) string {
	if saysWho(d.Kind) {
		return told(in, "demand.be", map[string]string{"people": d.people(in)})
	}
	return d.sentence(in, "must")
}

// sentence says a demand as its rule has it told: as people, or as what they must do.
func (d *Demand) sentence(in words.Language, as string) string {
	r := ruleOf(d.Kind)
	if r == nil {
		return inWords(d)
	}
	forms, values := r.told(d)
	gaps := map[string]string{}
	for gap, all := range values {
		if gap == "time" && in == words.English {
			all = []string{spelt(all[0])}
		}
		gaps[gap] = inList(in, "demand.or", all)
	}
	key := "demand." + string(d.Kind) + "." + as
	if as == "people" && len(forms) > 0 && forms[0] != "" {
		if _, there := words.Usual(in, key+"."+forms[0]); !there { // it is told by what they must do
			gaps["must"] = d.sentence(in, "must")
			return told(in, key, gaps)
		}
	}
	var texts []string
	for _, form := range forms {
		if form != "" {
			form = "." + form
		}
		texts = append(texts, told(in, key+form, gaps))
	}
	return inList(in, "demand.or", texts)
}

// told is a sentence of a language; a kind of demand that it has none for is told by its key.
func told(in words.Language, key string, gaps map[string]string) string {
	sentence, there := words.Usual(in, key)
	if !there {
		return strings.TrimPrefix(key, "demand.") + " " + gaps["names"]
	}
	return words.Fill(sentence, gaps)
}

func (d *Demand) list(in words.Language, joint string) string {
	texts := make([]string, len(d.Parts))
	for i := range d.Parts {
		// What ends with a comma does so for what comes behind the list.
		texts[i] = strings.TrimSuffix(d.Parts[i].people(in), ",")
		if kind := d.Parts[i].Kind; kind == Any || kind == All {
			texts[i] = "(" + texts[i] + ")"
		}
	}
	return inList(in, joint, texts)
}

// inList writes several as one in a language: "a, b or c".
func inList(in words.Language, joint string, all []string) string {
	if len(all) == 0 {
		return ""
	}
	last := all[len(all)-1]
	if len(all) == 1 {
		return last
	}
	return told(in, joint, map[string]string{"list": strings.Join(all[:len(all)-1], ", "), "last": last})
}

// spelt writes a duration of the policy, such as 10m, in words where that is one unit.
func spelt(short string) string {
	units := map[byte]string{'s': "second", 'm': "minute", 'h': "hour", 'd': "day"}
	number := short[:len(short)-1]
	unit, one := units[short[len(short)-1]]
	if !one || strings.Trim(number, "0123456789") != "" {
		return short
	}
	if number == "1" {
		return unit
	}
	return number + " " + unit + "s"
}

// AnyOf is names in words, of which any will do.
func AnyOf(names []string) string {
	if len(names) == 1 {
		return names[0]
	}
	return strings.Join(names[:len(names)-1], ", ") + " or " + names[len(names)-1]
}

// where names the places of a door.
func (d *Door) where() string {
	path, below := strings.CutSuffix(d.Path.String(), "/**")
	text := d.Path.String()
	switch {
	case below && path == "":
		text = "the whole site"
	case below && !strings.Contains(path, "*"):
		text = path + "/ and everything below"
	case strings.Contains(text, "*"):
		text = "whatever fits " + text
	case text == "/":
		text = "the first page"
	}
	if !d.Host.Any() {
		text += " on " + d.Host.String()
	}
	return text
}

// question says how somebody who is not signed in is asked.
func (d *Door) question() string {
	switch {
	case d.Admit.Kind == Nobody:
		return "is told so"
	case d.Basic:
		return fmt.Sprintf("is asked by the browser for a name and a password, for “%s”", d.Realm)
	case d.Admit.Kind == Keyring:
		return "is asked by the browser for a name and a password"
	}
	switch d.Admit.Kind {
	case Shared:
		return "is asked for the password"
	case Pass:
		return "is asked for the pass"
	}
	for _, kind := range []Kind{Shared, Pass, Network} {
		if d.Admit.Mentions(kind) {
			return "is asked for what is missing"
		}
	}
	if d.Admit.Kind == All && d.Admit.Mentions(Keyring) {
		return "is asked by the browser for a name and a password, and then to sign in"
	}
	if d.Admit.Mentions(Keyring) {
		return "is asked for what is missing"
	}
	return "is asked to sign in"
}

// told says what somebody gets instead of the usual answer.
func (i Instead) told(usual string) string {
	switch {
	case i.Hide:
		return "is told that nothing is there"
	case i.Go != "":
		return "is led to " + i.Go
	case i.Say != "":
		return "is told: “" + i.Say + "”"
	}
	return usual
}
