package policy

import (
	"fmt"
	"slices"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/factor"
)

// An Explanation is a decision with its reasons. Its JSON form is what scripts rely on.
type Explanation struct {
	Outcome Outcome     `json:"outcome"`
	Path    string      `json:"path"` // canonical; "" if the request was rejected
	Visitor string      `json:"visitor"`
	Doors   []DoorRef   `json:"doors"` // those that count, in file order; none if no door covers the place
	Decided *DoorRef    `json:"decided,omitempty"`
	Says    string      `json:"says,omitempty"` // the sentence of the door that decided
	Answer  AnswerShown `json:"answer"`
	Steps   []Step      `json:"steps"`
	Since   []string    `json:"since,omitempty"` // what has changed since, where an earlier version decides; whoever knows adds it
}

// A DoorRef says which door is meant.
type DoorRef struct {
	Line  int    `json:"line"` // 0 for what is built in
	Path  string `json:"path"`
	Admit string `json:"admit"`
}

// AnswerShown is an Answer as it is shown to people and scripts.
type AnswerShown struct {
	Status       int    `json:"status"`
	Location     string `json:"location,omitempty"`
	Authenticate string `json:"authenticate,omitempty"`
	Say          string `json:"say,omitempty"`
	Shell        bool   `json:"shell,omitempty"` // the page of the application, which is public
}

// A Step is one step of the reasoning, for people.
type Step struct {
	About string `json:"about"` // address, doors, count, demand, visitor, missing, answer
	Text  string `json:"text"`
}

// Refer names a door in explanations and comparisons.
func Refer(d *Door) DoorRef {
	return DoorRef{Line: d.Line, Path: d.Written, Admit: d.Admit.String()}
}

// Explain decides a request with Decide and says why, step by step.
func (b *Book) Explain(r Request, v *Visitor, client Client, query string) Explanation {
	d := b.Decide(r, v)
	answer := b.Answer(d, client, query)
	e := Explanation{
		Outcome: d.Outcome, Path: d.Place.Path, Visitor: v.String(), Doors: []DoorRef{},
		Answer: AnswerShown(answer),
	}
	say := func(about, format string, args ...any) {
		e.Steps = append(e.Steps, Step{about, fmt.Sprintf(format, args...)})
	}
	if d.Outcome == Reject {
		say("address", "The request can't be read safely: %v.", d.Fault)
		say("answer", "Outcome: reject. %s", b.inWords(d, answer, client))
		return e
	}
	ref := Refer(d.Door)
	e.Decided, e.Says = &ref, d.Door.Sentence().String()
	p := d.Place

	reading := fmt.Sprintf("%s %s is read as the place %s", r.Method, r.Path, p.Path)
	if r.Path == p.Address() {
		reading = fmt.Sprintf("%s %s is the place %s", r.Method, r.Path, p.Path)
	}
	if p.Host != "" {
		reading += " on the host " + p.Host
	}
	if p.Slash && p.Path != "/" {
		reading += " (with or without the slash at its end)"
	}
	say("address", "%s.", reading)

	doors, counting := b.counting(&p, nil)
	slices.Sort(counting)
	matcher := b.matcher
	if b.IsOwn(p) {
		matcher = b.ownMatch
	}
	covering := matcher.Covering(nil, &p)
	slices.Sort(covering)
	deciding := []*Door{&b.Unlisted}
	switch {
	case len(covering) == 0:
		where := "the default"
		if b.Unlisted.Line > 0 {
			where = fmt.Sprintf("line %d", b.Unlisted.Line)
		}
		say("doors", "No door covers it.")
		say("count", "The rule for places without a door applies (%s): %s.", where, b.UnlistedWord())
	default:
		deciding = nil
		var names []string
		for _, i := range covering {
			names = append(names, doors[i].Named())
		}
		say("doors", "%s cover%s it: %s.", count(len(covering), "door"), plural(len(covering), "s", ""), strings.Join(names, "; "))
		for _, i := range counting {
			deciding = append(deciding, &doors[i])
			e.Doors = append(e.Doors, Refer(&doors[i]))
		}
		if len(covering) > len(counting) {
			var why []string
			for _, i := range covering {
				if slices.Contains(counting, i) {
					continue
				}
				for _, inner := range counting {
					if matcher.Inside(int(inner), int(i)) {
						why = append(why, fmt.Sprintf("%s doesn't apply, because %s is more specific", doors[i].Named(), doors[inner].Named()))
						break
					}
				}
			}
			say("count", "The most specific decides: %s.", strings.Join(why, "; "))
		}
		if len(counting) > 1 {
			say("count", "%s apply: they overlap, and neither is inside the other, so all of them must allow the request.",
				count(len(counting), "door"))
		} else if len(covering) == 1 {
			say("count", "It decides.")
		}
	}
	if checks := b.checksAt(&p); len(checks) > 0 {
		var names []string
		for _, c := range checks {
			names = append(names, c.Named())
			e.Doors = append(e.Doors, Refer(c))
		}
		say("count", "The application has additional checks in its handlers, which must allow the request, too: %s.", strings.Join(names, "; "))
		deciding = append(deciding, checks...)
	}
	for _, door := range deciding {
		if door == &b.Unlisted {
			say("demand", "Places without a door require %s.", door.Ask())
		} else {
			say("demand", "%s requires %s.", capital(door.Named()), door.Ask())
		}
	}
	say("visitor", "The visitor is %s.", b.visitorInWords(v))
	for _, door := range deciding {
		switch text, met := b.missing(door, v); {
		case met:
			say("missing", "%s allows this visitor.", capital(door.Named()))
		default:
			say("missing", "%s doesn't allow this visitor (%s).", capital(door.Named()), text)
		}
	}
	switch {
	case d.Outcome == Challenge:
		say("missing", "The visitor can still prove this: %s.", d.Proof.inWords())
	case d.Outcome == Refuse:
		say("missing", "This visitor can't prove anything that would help.")
	case d.Outcome == Hide:
		say("missing", "%s hides the place: the answer is the same as for a missing page.", capital(d.Door.Named()))
	}
	say("answer", "Outcome: %s. %s", d.Outcome, b.inWords(d, answer, client))
	return e
}

// Named names a door in running text.
func (d *Door) Named() string {
	switch {
	case d.Written == Unlisted:
		return "the rule for places without a door"
	case d.Check != "":
		return fmt.Sprintf("the check %s (line %d, %s)", d.Check, d.Line, d.Written)
	case d.Line == 0:
		return "the built-in door " + d.Label()
	}
	return fmt.Sprintf("line %d (%s)", d.Line, d.Label())
}

// UnlistedWord returns what the policy says of places that no door covers.
func (b *Book) UnlistedWord() string {
	switch {
	case b.Unlisted.Otherwise.Refused.Hide:
		return "hide"
	case b.Unlisted.Admit.Kind == Nobody:
		return "refuse"
	}
	return string(b.Unlisted.Admit.Kind)
}

// missing says what a visitor lacks at a door, way by way.
func (b *Book) missing(door *Door, v *Visitor) (text string, met bool) {
	if b.admits(door, v) {
		return "", true
	}
	if len(door.ways) == 0 {
		return "it allows nobody", false
	}
	var ways []string
	for _, w := range door.ways {
		var lacks []string
		for _, want := range w {
			if b.shows(v, want) {
				continue
			}
			lack := inWords(want)
			if want.Kind == ProofWithin && want.Factors == nil && v.SignedIn {
				lack += " (it was " + document.FormatDuration(v.ProofAge) + " ago)"
			}
			lacks = append(lacks, lack)
		}
		if text := strings.Join(lacks, " and "); !slices.Contains(ways, text) {
			ways = append(ways, text)
		}
		if len(ways) == 6 && len(door.ways) > 7 {
			ways = append(ways, fmt.Sprintf("one of %d other ways", len(door.ways)-6))
			break
		}
	}
	return "missing: " + strings.Join(ways, ", or "), false
}

// Ask says what the door asks for, in words for people who do not know the policy: what follows "asks for" in a
// sentence.
func (d *Door) Ask() string { return inWords(&d.Admit) }

// inWords says what a demand asks for, for people who do not know the policy's words. It is a noun with what belongs to
// it, so that it can follow "asks for" and "missing: ".
func inWords(d *Demand) string {
	join := func(word string) string {
		var parts []string
		for i := range d.Parts {
			part := inWords(&d.Parts[i])
			if inner := d.Parts[i]; (inner.Kind == Any || inner.Kind == All) && len(inner.Parts) > 1 {
				part = "(" + part + ")"
			}
			parts = append(parts, part)
		}
		return strings.Join(parts, word)
	}
	switch d.Kind {
	case Public:
		return "nothing; it is public"
	case Nobody:
		return "something that nobody has"
	case Any:
		return join(" or ")
	case All:
		return join(" and ")
	}
	if r := ruleOf(d.Kind); r != nil {
		return r.noun(d)
	}
	return "something unknown"
}

func factorsInWords(words []string) string {
	texts := make([]string, len(words))
	for i, word := range words {
		texts[i] = map[string]string{
			factor.AskPasskey: "a passkey", factor.AskCode: "a code", factor.AskTwo: "two proofs of different kinds",
		}[word]
	}
	return document.OrList(texts)
}

func (b *Book) visitorInWords(v *Visitor) string {
	text := "not signed in"
	if v.SignedIn {
		text = "signed in"
		if v.Account != "" {
			text += " as " + v.Account
		}
		if len(v.Roles) == 0 {
			text += ", no role"
		} else {
			text += " with the " + plural(len(v.Roles), "role ", "roles ") + strings.Join(v.Roles, ", ")
			var more []string
			for _, name := range b.RoleNames() {
				if !slices.Contains(v.Roles, name) && b.has(v.Roles, name) {
					more = append(more, name)
				}
			}
			if len(more) > 0 {
				text += " (which grants " + strings.Join(more, ", ") + ")"
			}
		}
		switch {
		case v.Factors.Kinds != 0:
			text += ", has shown " + v.shownInWords()
		case v.ProofAge > 0:
			text += ", password entered " + document.FormatDuration(v.ProofAge) + " ago"
		}
	}
	if v.Enrolled != 0 {
		text += ", has set up " + strings.NewReplacer("passkey", "a passkey", "code", "codes", " ", " and ").Replace(v.Enrolled.String())
	}
	for _, proof := range []struct {
		names []string
		text  string
	}{{v.Keyrings, ", has opened the keyring "}, {v.Shared, ", has the shared password "}, {v.Passes, ", has a pass for "}} {
		if len(proof.names) > 0 {
			text += proof.text + strings.Join(proof.names, ", ")
		}
	}
	if v.From.IsValid() {
		text += ", from " + v.From.String()
	}
	return text
}

func (v *Visitor) shownInWords() string {
	var all []string
	for _, k := range v.Factors.Kinds.Kinds() {
		text := map[factor.Kind]string{
			factor.Password: "the password", factor.Elsewhere: "an account elsewhere", factor.Passkey: "a passkey", factor.Code: "a code",
			factor.Key: "an access key",
		}[k]
		if age, _ := v.Factors.Age(k); age > 0 {
			text += " " + document.FormatDuration(age) + " ago"
		}
		all = append(all, text)
	}
	return strings.Join(all, " and ")
}

func (p Proof) inWords() string {
	how := ""
	if p.Basic {
		how = " (HTTP Basic, realm " + p.Realm + ")"
	}
	switch p.Kind {
	case ProveSignIn:
		return "by signing in" + how
	case ProveAgain:
		return "by entering the password again" + how
	case ProveFactor:
		return "by showing " + factorsInWords(strings.Fields(p.Name)) + "; visitors who have none are sent to set it up"
	case ProveShared:
		return "by unlocking with the shared password " + p.Name
	case ProvePass:
		return "by showing a pass for " + p.Name
	default:
		return "by opening the keyring " + p.Name + how
	}
}

func (b *Book) inWords(d Decision, a Answer, client Client) string {
	switch {
	case d.Outcome == Admit:
		return "The request is forwarded to the application."
	case a.Shell:
		return "Answer: 200, with the application's page, which is public: it contains code, but no data."
	case a.Status == 303:
		return "Answer: 303, see " + a.Location + "."
	case a.Status == 400:
		return "Answer: 400, with the reason."
	case a.Status == 401:
		return "Answer: 401, WWW-Authenticate: " + a.Authenticate + "."
	case a.Status == 404:
		return "Answer: 404, as for a missing page."
	case a.Say != "":
		return fmt.Sprintf("Answer: 403, with the text %q.", a.Say)
	}
	return "Answer: 403, with a page that says why."
}

func count(n int, noun string) string {
	return fmt.Sprintf("%d %s", n, plural(n, noun, noun+"s"))
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

func capital(s string) string {
	return strings.ToUpper(s[:1]) + s[1:]
}
