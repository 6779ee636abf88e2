package policy

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ostiarius/core/factor"
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
	words := func(text string) { s = append(s, Phrase{"", text}) }
	say := func(about, text string) { s = append(s, Phrase{about, text}) }
	words(". ")
	if d.Admit.Kind == Public {
		if text := d.Otherwise.Text(); text != "" {
			words("(Nobody is turned away, so ")
			say("refused", "otherwise: "+text)
			words(" says nothing.) ")
		}
		return s.trim()
	}
	anonymous, refused := d.Otherwise.Anonymous, d.Otherwise.Refused
	if anonymous.Hide && refused.Hide {
		words("Everybody else ")
		say("anonymous", "is told that nothing is there")
	} else {
		words("Who is not signed in ")
		say("anonymous", anonymous.told(d.question()))
		words("; who may not ")
		say("refused", refused.told("is told so"))
	}
	words(".")
	if d.Basic && !anonymous.none() && d.Admit.Kind != Nobody {
		words(" A name and a password are taken with HTTP Basic, for “" + d.Realm + "”.")
	}
	return s
}

// Admits says in a sentence who may go to a page, to somebody who stands before it.
func (d *Door) Admits(page string) string { return d.admits(page).String() + "." }

// admits is the beginning of the sentence: who may go where, and what they do for it.
func (d *Door) admits(where string) (s Sentence) {
	words := func(text string) { s = append(s, Phrase{"", text}) }
	say := func(about, text string) { s = append(s, Phrase{about, text}) }
	main, also := d.Admit.split()
	switch main.Kind {
	case Public:
		say("who", "Everybody")
	case Nobody:
		say("who", "Nobody")
	default:
		words("Only ")
		say("who", main.people())
	}
	words(" may ")
	if d.Methods.Any() {
		say("do", "see")
	} else {
		say("do", "send "+anyOf(d.Methods.Names())+" to")
	}
	words(" ")
	say("where", where)
	for i, part := range also {
		switch {
		case i == 0:
			words(", and must ")
		case i == len(also)-1:
			words(" and ")
		default:
			words(", ")
		}
		say("also", part.must())
	}
	return s
}

func (s Sentence) trim() Sentence {
	last := &s[len(s)-1]
	last.Text = strings.TrimRight(last.Text, " ")
	return s
}

// split takes a demand apart into who may come in, and what they must do besides.
func (d Demand) split() (main Demand, also []Demand) {
	if d.Kind != All {
		return d, nil
	}
	found := false
	for _, part := range d.Parts {
		switch part.Kind {
		case Keyring, Shared, Pass, Network, ProofWithin, Factor:
			also = append(also, part)
		default:
			if found {
				return d, nil // two of a kind; they are told as one
			}
			main, found = part, true
		}
	}
	// "In the last ten minutes" is said after what it is about.
	slices.SortStableFunc(also, func(a, b Demand) int { return cmp.Compare(len(a.factors), len(b.factors)) })
	if !found {
		main, also = also[0], also[1:]
	}
	return main, also
}

// people names those who meet a demand.
func (d Demand) people() string {
	switch d.Kind {
	case SignedIn:
		return "people who are signed in"
	case Role:
		if len(d.Names) > 1 {
			return "people with one of the roles " + anyOf(d.Names)
		}
		return "people with the role " + d.Names[0]
	case User:
		return "the account " + anyOf(d.Names)
	case Any:
		return d.list("", " or ")
	case All:
		return d.list("whoever is all of this: ", " and ")
	case Public:
		return "everybody"
	case Nobody:
		return "nobody"
	}
	switch d.Kind {
	case Keyring:
		return "people who know a name and a password of the keyring " + anyOf(d.Names)
	case Shared:
		return "people who know the shared password " + anyOf(d.Names)
	case Pass:
		return "holders of a pass for " + anyOf(d.Names)
	}
	return "people who " + d.must()
}

func (d Demand) list(before, word string) string {
	texts := make([]string, len(d.Parts))
	for i, part := range d.Parts {
		texts[i] = part.people()
		if part.Kind == Any || part.Kind == All {
			texts[i] = "(" + texts[i] + ")"
		}
	}
	if len(texts) == 1 {
		return before + texts[0]
	}
	return before + strings.Join(texts[:len(texts)-1], ", ") + word + texts[len(texts)-1]
}

// must says what somebody does who meets a demand.
func (d Demand) must() string {
	switch d.Kind {
	case Keyring:
		return "give a name and a password of the keyring " + anyOf(d.Names)
	case Shared:
		return "give the shared password " + anyOf(d.Names)
	case Pass:
		return "hold a pass for " + anyOf(d.Names)
	case Network:
		return "come from the network " + anyOf(d.networks())
	case ProofWithin:
		if d.factors != nil {
			return "have done so in the last " + spelt(FormatDuration(d.Within))
		}
		return "have typed the password in the last " + spelt(FormatDuration(d.Within))
	case Factor:
		return d.factorMust()
	}
	return "be " + d.people()
}

// factorMust says what somebody does who shows a factor.
func (d Demand) factorMust() string {
	texts := make([]string, len(d.Names))
	for i, word := range d.Names {
		texts[i] = map[string]string{
			factor.AskPasskey: "use a passkey", factor.AskCode: "give a code of their own",
			factor.AskTwo: "show two different proofs of who they are",
		}[word]
	}
	return anyOf(texts)
}

func (d Demand) networks() []string {
	names := make([]string, len(d.Nets))
	for i, n := range d.Nets {
		names[i] = n.String()
	}
	return names
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

func anyOf(names []string) string {
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
