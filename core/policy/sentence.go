package policy

import (
	"cmp"
	"slices"
	"strconv"
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

// Sentence describes a door in English.
func (d *Door) Sentence() Sentence { return d.SentenceIn(words.English) }

// SentenceIn describes a door in a language: who may go where, and what all others get.
func (d *Door) SentenceIn(in words.Language) Sentence {
	s := d.admits(in, d.where(in))
	add := func(key string, gaps map[string]Phrase) { s = append(s, filled(" "+told(in, key, nil), gaps)...) }
	if d.Admit.Kind == Public {
		if text := d.Otherwise.Text(); text != "" {
			add("door.public.otherwise", map[string]Phrase{"refused": {"refused", "otherwise: " + text}})
		}
		return s
	}
	anonymous, refused := d.Otherwise.Anonymous, d.Otherwise.Refused
	if anonymous.Hide && refused.Hide {
		add("door.hidden", map[string]Phrase{"anonymous": {"anonymous", anonymous.told(in, "")}})
	} else {
		asked := told(in, "door.asked."+d.question(), map[string]string{"realm": d.Realm})
		add("door.others", map[string]Phrase{
			"anonymous": {"anonymous", anonymous.told(in, asked)},
			"refused":   {"refused", refused.told(in, told(in, "door.asked.nobody", nil))},
		})
	}
	if d.Basic && !anonymous.none() && d.Admit.Kind != Nobody {
		add("door.basic", map[string]Phrase{"realm": {"", d.Realm}})
	}
	return s
}

// Admits says in an English sentence who may go to a page.
func (d *Door) Admits(page string) string { return d.AdmitsIn(words.English, page) }

// AdmitsIn says in a sentence of a language who may go to a page.
func (d *Door) AdmitsIn(in words.Language, page string) string { return d.admits(in, page).String() }

// admits is the beginning of the sentence: who may go where, and what they must do besides.
func (d *Door) admits(in words.Language, where string) Sentence {
	main, also := d.Admit.Split()
	key, who := "door.some", main.people(in)
	if main.Kind == Public || main.Kind == Nobody {
		key = "door." + string(main.Kind)
		who = told(in, key+".who", nil)
	}
	do := told(in, "door.see", nil)
	if !d.Methods.Any() {
		do = told(in, "door.send", map[string]string{"methods": inList(in, "demand.or", d.Methods.Names())})
	}
	s := filled(told(in, key, nil), map[string]Phrase{"who": {"who", who}, "do": {"do", do}, "where": {"where", where}})
	if len(also) == 0 {
		return s
	}
	gaps := make(map[string]Phrase, len(also))
	marks := make([]string, len(also))
	for i := range also {
		name := strconv.Itoa(i)
		gaps[name], marks[i] = Phrase{"also", also[i].must(in)}, "{"+name+"}"
	}
	return append(s, filled(" "+told(in, "door.also", map[string]string{"also": inList(in, "demand.and", marks)}), gaps)...)
}

// filled is a sentence of a language with phrases in its gaps.
func filled(sentence string, gaps map[string]Phrase) (s Sentence) {
	for {
		before, rest, more := strings.Cut(sentence, "{")
		if before != "" {
			s = append(s, Phrase{"", before})
		}
		if !more {
			return s
		}
		name, after, _ := strings.Cut(rest, "}")
		s, sentence = append(s, gaps[name]), after
	}
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
		if gap == "time" {
			all = []string{lately(in, all[0])}
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

// lately is a duration of the policy, such as 10m, as the time before now: "in the last 10 minutes". One that is not so many of one
// unit is written as in the policy.
func lately(in words.Language, short string) string {
	unit, known := map[byte]string{'s': "second", 'm': "minute", 'h': "hour", 'd': "day"}[short[len(short)-1]]
	n, err := strconv.Atoi(short[:len(short)-1])
	if !known || err != nil {
		return told(in, "last.span", map[string]string{"time": short})
	}
	return told(in, "last."+unit+"."+words.Form(in, n), map[string]string{"n": strconv.Itoa(n)})
}

// AnyOf is names in words, of which any will do.
func AnyOf(names []string) string {
	if len(names) == 1 {
		return names[0]
	}
	return strings.Join(names[:len(names)-1], ", ") + " or " + names[len(names)-1]
}

// where names the places of a door.
func (d *Door) where(in words.Language) string {
	path, below := strings.CutSuffix(d.Path.String(), "/**")
	text := d.Path.String()
	is := func(key, path string) string { return told(in, "door.where."+key, map[string]string{"path": path}) }
	switch {
	case below && path == "":
		text = is("all", "")
	case below && !strings.Contains(path, "*"):
		text = is("below", path+"/")
	case strings.Contains(text, "*"):
		text = is("pattern", text)
	case text == "/":
		text = is("home", "")
	}
	if !d.Host.Any() {
		text = told(in, "door.where.host", map[string]string{"where": text, "host": d.Host.String()})
	}
	return text
}

// question says how visitors who are not signed in are asked, as the end of a key.
func (d *Door) question() string {
	kind := d.Admit.Kind
	if d.Basic && kind != Nobody {
		return "basic"
	}
	if _, there := words.Usual(words.English, "door.asked."+string(kind)); there {
		return string(kind)
	}
	switch {
	case d.Admit.Mentions(Shared) || d.Admit.Mentions(Pass) || d.Admit.Mentions(Network):
		return "missing"
	case d.Admit.Mentions(Keyring) && kind == All:
		return "both"
	case d.Admit.Mentions(Keyring):
		return "missing"
	}
	return "sign-in"
}

// told says what visitors get instead of the usual answer.
func (i Instead) told(in words.Language, usual string) string {
	switch {
	case i.Hide:
		return told(in, "door.reply.hide", nil)
	case i.Go != "":
		return told(in, "door.reply.go", map[string]string{"page": i.Go})
	case i.Say != "":
		return told(in, "door.reply.say", map[string]string{"text": i.Say})
	}
	return usual
}
