package edit

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/policy"
)

// Terms are what a door says, taken apart into what people choose one by one: who may go there, what they must
// do besides, how they are asked, and what others get. Most doors can be told so; one whose demand nests
// alternatives cannot.
type Terms struct {
	Who     policy.Kind `json:"who" enum:"public|signed-in|nobody|role|user|keyring|shared|pass"`
	Names   []string    `json:"names,omitempty"`   // of roles, accounts, keyrings, shared passwords or passes; any one of them
	Keyring string      `json:"keyring,omitempty"` // that has to be opened besides, "" for none
	From    []string    `json:"from,omitempty"`    // networks, in one of which the visitor has to be; none for all
	Factor  string      `json:"factor,omitempty"`  // that has to be shown besides: passkey, code or two; "" for none
	Within  string      `json:"within,omitempty"`  // how long ago the password was typed at most, such as 10m; "" for any time
	Basic   bool        `json:"basic,omitempty"`   // the browser's own question instead of the sign-in page
	Realm   string      `json:"realm,omitempty"`   // what that question says; "" for the name of the site

	Anonymous Reply `json:"anonymous,omitzero"` // to whom has not signed in
	Refused   Reply `json:"refused,omitzero"`   // to whom has, and may not go there
}

// A Reply is what others get instead of the usual answer: nothing of it, or one of three.
type Reply struct {
	Go   string `json:"go,omitempty"`   // the page that they are led to
	Say  string `json:"say,omitempty"`  // the text that they are told
	Hide bool   `json:"hide,omitempty"` // as if nothing were there
}

// Terms takes the door apart. It returns false if the door says something that Terms have no place for.
func TermsOf(d *policy.Door, book *policy.Book) (t Terms, ok bool) {
	main, also := d.Admit.Split()
	t.Who, t.Names = main.Kind, slices.Clone(main.Names)
	switch main.Kind {
	case policy.Any, policy.All:
		return Terms{}, false
	case policy.Network: // everybody who comes from there
		t.Who, also = policy.Public, append(also, main)
	case policy.ProofWithin, policy.Factor: // everybody who has typed it, or shown it
		t.Who, also = policy.SignedIn, append(also, main)
	}
	for _, part := range also {
		switch {
		case part.Kind == policy.Keyring && t.Keyring == "" && len(part.Names) == 1 && t.Who != policy.Public:
			t.Keyring = part.Names[0]
		case part.Kind == policy.Keyring && t.Who == policy.Public:
			t.Who, t.Names = policy.Keyring, slices.Clone(part.Names)
		case part.Kind == policy.Network && t.From == nil:
			for _, n := range part.Nets {
				t.From = append(t.From, n.String())
			}
		case part.Kind == policy.Factor && t.Factor == "" && len(part.Names) == 1:
			t.Factor = part.Names[0]
		case part.Kind == policy.ProofWithin && t.Within == "":
			t.Within = document.FormatDuration(part.Within)
		default:
			return Terms{}, false
		}
	}
	switch { // who has typed it is signed in
	case t.proves() && t.Who == policy.Public:
		t.Who = policy.SignedIn
	case t.proves() && t.Who == policy.Keyring && t.Keyring == "" && len(t.Names) == 1:
		t.Who, t.Names, t.Keyring = policy.SignedIn, nil, t.Names[0]
	}
	if t.Basic = d.Basic; d.Basic && d.Realm != book.Site {
		t.Realm = d.Realm
	}
	t.Anonymous, t.Refused = reply(d.Otherwise.Anonymous), reply(d.Otherwise.Refused)
	_, err := t.demand()
	return t, err == nil
}

// proves reports whether an account has to prove something that only an account can.
func (t *Terms) proves() bool { return t.Within != "" || t.Factor != "" }

func reply(i policy.Instead) Reply { return Reply{i.Go, i.Say, i.Hide} }

func (r Reply) instead() policy.Instead { return policy.Instead{Go: r.Go, Say: r.Say, Hide: r.Hide} }

// demand puts the demand together. The error says what does not go together.
func (t *Terms) demand() (policy.Demand, error) {
	var parts []policy.Demand
	if t.Keyring != "" {
		parts = append(parts, policy.Demand{Kind: policy.Keyring, Names: []string{t.Keyring}})
	}
	switch t.Who {
	case policy.Public, policy.Nobody:
		if t.Keyring != "" || t.proves() || len(t.From) > 0 && t.Who == policy.Nobody {
			return policy.Demand{}, fmt.Errorf("nothing more can be asked of %s",
				map[policy.Kind]string{policy.Public: "everybody", policy.Nobody: "nobody"}[t.Who])
		}
		if len(t.From) == 0 {
			parts = append(parts, policy.Demand{Kind: t.Who})
		}
	case policy.SignedIn:
		if !t.proves() {
			parts = append(parts, policy.Demand{Kind: policy.SignedIn})
		}
	case policy.Role, policy.User, policy.Keyring, policy.Shared, policy.Pass:
		if len(t.Names) == 0 || slices.Contains(t.Names, "") {
			return policy.Demand{}, fmt.Errorf("the name of the %s is missing", t.Who)
		}
		parts = append(parts, policy.Demand{Kind: t.Who, Names: t.Names})
	default:
		return policy.Demand{}, fmt.Errorf("%q does not say who", t.Who)
	}
	if len(t.From) > 0 {
		network := policy.Demand{Kind: policy.Network}
		for _, text := range t.From {
			n, err := netip.ParsePrefix(strings.TrimSpace(text))
			if err != nil {
				return policy.Demand{}, fmt.Errorf("%q is no network; one is written like 192.0.2.0/24", text)
			}
			network.Nets = append(network.Nets, n.Masked())
		}
		parts = append(parts, network)
	}
	if t.Factor != "" {
		parts = append(parts, policy.Demand{Kind: policy.Factor, Names: []string{t.Factor}})
	}
	if t.Within != "" {
		within, err := document.ParseDuration(t.Within)
		if err != nil || within <= 0 {
			return policy.Demand{}, fmt.Errorf("%q is no time; one is written like 10m", t.Within)
		}
		parts = append(parts, policy.Demand{Kind: policy.ProofWithin, Within: within})
	}
	if len(parts) == 1 {
		return parts[0], nil
	}
	return policy.Demand{Kind: policy.All, Parts: parts}, nil
}

// SetTerms makes the door say what the terms say. What it says already, of the door that the book has for just
// these places, keeps its wording. The error says what is wrong with the terms.
func (s *SetDoor) SetTerms(book *policy.Book, t Terms) error {
	demand, err := t.demand()
	if err != nil {
		return err
	}
	// What was put together is read like what people write, so that the same is asked of it.
	if s.Admit, err = policy.ParseDemand(demand.Text()); err != nil {
		return err
	}
	s.Basic, s.Realm = t.Basic, t.Realm
	for _, r := range []Reply{t.Anonymous, t.Refused} {
		if r.Hide && (r.Go != "" || r.Say != "") || r.Go != "" && r.Say != "" {
			return errors.New("others are led to a page, or told a text, or nothing is there for them: one of these")
		}
	}
	if s.Otherwise, err = policy.ParseOtherwise(policy.Otherwise{
		Anonymous: t.Anonymous.instead(), Refused: t.Refused.instead(),
	}.Text()); err != nil {
		return err
	}
	if is := book.DoorFor(s.Set); is != nil {
		if already, ok := TermsOf(is, book); ok {
			if before, err := already.demand(); err == nil && before.String() == demand.String() {
				s.Admit = is.Admit
			}
		}
	}
	return nil
}
