package policy

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/pattern"
)

// Text returns the demand as it stands behind admit in a policy: public, { role: keeper },
// { any: [ { role: supporter }, { pass: recordings } ] }.
func (d Demand) Text() string {
	switch d.Kind {
	case Public, SignedIn, Nobody:
		return string(d.Kind)
	}
	return "{ " + d.keys() + " }"
}

// keys returns the demand as keys of a mapping.
func (d Demand) keys() string {
	list := func(parts []Demand) string {
		texts := make([]string, len(parts))
		for i, part := range parts {
			texts[i] = part.Text()
		}
		return "[ " + strings.Join(texts, ", ") + " ]"
	}
	switch d.Kind {
	case Any:
		return "any: " + list(d.Parts)
	case All:
		seen := map[Kind]bool{}
		var keys []string
		for _, part := range d.Parts {
			if seen[part.Kind] || part.Kind == Public || part.Kind == SignedIn || part.Kind == Nobody {
				return "all: " + list(d.Parts)
			}
			seen[part.Kind] = true
			keys = append(keys, part.keys())
		}
		return strings.Join(keys, ", ")
	}
	return string(d.Kind) + ": " + document.ScalarList(d.values())
}

// Text returns what happens otherwise as it stands in a policy; "" for the usual answers.
func (o Otherwise) Text() string {
	text := func(i Instead) string {
		switch {
		case i.Hide:
			return "hide"
		case i.Go != "":
			return "{ go: " + document.Scalar(i.Go) + " }"
		}
		return "{ say: " + document.Scalar(i.Say) + " }"
	}
	switch {
	case o.Anonymous.Hide && o.Refused.Hide:
		return "hide"
	case o.Anonymous.none() && o.Refused.none():
		return ""
	case o.Anonymous.none():
		return "{ refused: " + text(o.Refused) + " }"
	case o.Refused.none():
		return "{ anonymous: " + text(o.Anonymous) + " }"
	}
	return "{ anonymous: " + text(o.Anonymous) + ", refused: " + text(o.Refused) + " }"
}

// ParseDemand reads a demand as it stands behind admit in a policy, or for short: public, role:keeper,
// keyring:outer+role:trustee, where + is and. The error says what is wrong with it; whether a role is
// known is seen when it stands in a policy.
func ParseDemand(text string) (Demand, error) {
	text = strings.TrimSpace(text)
	if short.MatchString(text) {
		var keys []string
		for part := range strings.SplitSeq(text, "+") {
			kind, value, _ := strings.Cut(part, ":")
			if slices.ContainsFunc(keys, func(k string) bool { return strings.HasPrefix(k, kind+":") }) {
				return Demand{}, fmt.Errorf("%q lists %s twice; for alternatives use { %s: [a, b] }", text, kind, kind)
			}
			if value == "" {
				return Demand{}, fmt.Errorf("%q says nothing of the %s", text, kind)
			}
			keys = append(keys, kind+": "+document.Scalar(value))
		}
		text = "{ " + strings.Join(keys, ", ") + " }"
	}
	p := NewPartReader("the demand", &Book{})
	body, ok := p.Document([]byte(text), "a demand")
	if ok && body == nil {
		return Demand{}, errors.New("the demand is empty; use public to let everyone in")
	}
	var d Demand
	if ok {
		d = p.Demand(body, 0)
	}
	for _, f := range p.Findings {
		return Demand{}, errors.New(f.Message)
	}
	return d, d.Entangled()
}

// short is a demand that is written for short.
var short = pattern.New(`^[a-z-]+:[^\s{}\[\],+]*(\+[a-z-]+:[^\s{}\[\],+]*)*$`)

// ParseOtherwise reads what happens otherwise as it stands in a policy: hide, { refused: { go: /ask/ } }.
// "" is the usual answers.
func ParseOtherwise(text string) (Otherwise, error) {
	if text = strings.TrimSpace(text); text == "" {
		return Otherwise{}, nil
	}
	p := NewPartReader("otherwise", &Book{})
	body, ok := p.Document([]byte(text), "an answer")
	var o Otherwise
	if ok && body != nil {
		o = p.Otherwise(body)
	}
	for _, f := range p.Findings {
		return Otherwise{}, errors.New(f.Message)
	}
	return o, nil
}
