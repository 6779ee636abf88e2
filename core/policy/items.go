package policy

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/event"
	"ostiarius/core/pattern"
	"ostiarius/core/place"
)

// An Item is something that a shop sells, and what it opens for who has paid for it.
type Item struct {
	Name   string
	Title  string // for people
	Roles  []string
	Passes []string
	Paths  []string      // canonical, to which the passes are narrowed; none for all that they open
	For    time.Duration // how long it opens that; 0 for no end, and of passes for as long as their kind lasts
	Grace  time.Duration // how long roles stay after that
	After  JoinGrant     // the role that its owner has afterwards; none with Role ""
	Go     string        // where it is sold; "" for where the offer of what it opens leads
	Position
}

// An Offer says what opens doors for whoever has not got it, and where to get it.
type Offer struct {
	Name string // of a role or a kind of pass
	Say  string
	Go   string // an address of this site or of one of the shops; "" for none
	Position
}

// Events says how the events of a shop are read.
type Events struct {
	Fields event.Fields
	Position
}

// Names of items are those of the shop, which are not like ours.
const itemPattern = `^[A-Za-z0-9][A-Za-z0-9._:/+-]{0,99}$`

var itemName = pattern.New(itemPattern)

// The address of a shop, and an address there, as the schema of the policy file has them too.
const (
	shopOrigin       = `https?://(?:[A-Za-z0-9](?:[A-Za-z0-9.-]*[A-Za-z0-9])?|\[[0-9A-Fa-f:.]+\])(?::[0-9]{1,5})?`
	shopPattern      = `^` + shopOrigin + `$`
	elsewherePattern = `^` + shopOrigin + `(?:[/?](?:[A-Za-z0-9._~!$&'()*+,;=:@/?#-]|%[0-9A-Fa-f]{2})*)?$`
)

var (
	shop     = pattern.New(shopPattern)
	atShop   = pattern.New(elsewherePattern)
	originOf = pattern.New(`^` + shopOrigin)
)

func (p *reader) shops(n ast.Node) {
	names, nodes := p.texts(n, "shops")
	for i, name := range names {
		if !shop.MatchString(name) {
			p.at(nodes[i], "bad-value", "%q is no address of a shop; write it as https://shop.example, without a path", name)
			continue
		}
		p.book.Shops = append(p.book.Shops, name)
	}
}

// sale reads where something is sold: an address of this site, or of one of the shops.
func (p *reader) sale(n ast.Node) string {
	s, ok := p.text(n, "go")
	if !ok {
		return ""
	}
	if !strings.HasPrefix(s, "http:") && !strings.HasPrefix(s, "https:") {
		return p.target(n)
	}
	if !atShop.MatchString(s) {
		p.at(n, "bad-value", "go %q: it is a path on this site, or an address of one of the shops", s)
		return ""
	}
	if origin := originOf.FindString(s); !slices.Contains(p.book.Shops, origin) {
		p.at(n, "unknown-shop", "go %q leads away from the site; if it may, name %q under the key shops", s, origin)
		return ""
	}
	return s
}

func (p *reader) items(n ast.Node) {
	if _, empty := n.(*ast.NullNode); empty {
		return
	}
	for _, f := range p.fields(n, "items", nil) {
		if !itemName.MatchString(f.name) {
			p.at(f.key, "bad-value", "item %q: the name of an item is as the shop has it, of letters, digits and . _ : / + -", f.name)
			continue
		}
		item := Item{Name: f.name, Title: f.name, Position: position(f.key)}
		before := len(p.findings)
		fields := p.fields(f.value, "item "+f.name, []string{"title", "role", "pass", "path", "for", "grace", "after", "go"})
		spelt := len(p.findings) == before // else a key that is missing may be a misspelt one
		for _, inner := range fields {
			p.itemKey(&item, inner)
		}
		has := func(key string) ast.Node {
			if i := slices.IndexFunc(fields, func(f field) bool { return f.name == key }); i >= 0 {
				return fields[i].value
			}
			return nil
		}
		if role, pass := has("role"), has("pass"); spelt {
			for _, key := range []string{"grace", "after"} {
				if at := has(key); at != nil && (role == nil || has("for") == nil) {
					p.at(at, "bad-value", "%s goes with role and for: it says what becomes of a role at its end", key)
				}
			}
			switch path := has("path"); {
			case path != nil && pass == nil:
				p.at(path, "bad-value", "path goes with pass: it says what of its places the pass opens")
			case role == nil && pass == nil:
				p.at(f.value, "missing-key", "an item says what it opens: role, pass or both")
			}
		}
		p.book.Items = append(p.book.Items, item)
	}
}

func (p *reader) itemKey(item *Item, f field) {
	switch f.name {
	case "title":
		p.textInto(&item.Title, f)
	case "role":
		names, nodes := p.texts(f.value, "role")
		for i, name := range names {
			p.soldRole(name, nodes[i])
		}
		item.Roles = names
	case "pass":
		names, nodes := p.texts(f.value, "pass")
		for i, name := range names {
			p.passUses = append(p.passUses, use{name, nodes[i]})
		}
		item.Passes = names
	case "path":
		texts, nodes := p.texts(f.value, "path")
		for i, text := range texts {
			pattern, err := place.ParsePattern(strings.TrimSuffix(text, "/**"), p.book.Rules)
			if err != nil || !pattern.Literal() {
				p.at(nodes[i], "bad-pattern", "path %q: write one path, or one path and /**, such as /recordings/2026/**", text)
				continue
			}
			item.Paths = append(item.Paths, pattern.String())
		}
	case "for":
		item.For, _ = p.duration(f.value, "for")
	case "grace":
		item.Grace, _ = p.duration(f.value, "grace")
	case "after":
		before := len(p.findings)
		for _, inner := range p.fields(f.value, "after", []string{"role", "for"}) {
			switch inner.name {
			case "role":
				p.textInto(&item.After.Role, inner)
				p.soldRole(item.After.Role, inner.value)
			case "for":
				item.After.For, _ = p.duration(inner.value, "for")
			}
		}
		if item.After.Role == "" && len(p.findings) == before {
			p.at(f.value, "missing-key", "after names a role")
		}
	case "go":
		item.Go = p.sale(f.value)
	}
}

func (p *reader) soldRole(name string, at ast.Node) {
	p.roleUses = append(p.roleUses, use{name, at})
	if name == Steward {
		p.at(at, "bad-value", "the role %s is not sold: whoever paid could administer the site", Steward)
	}
}

func (p *reader) offers(n ast.Node) {
	if _, empty := n.(*ast.NullNode); empty {
		return
	}
	for _, f := range p.fields(n, "offers", nil) {
		if !p.name(f.key, "offer", f.name) {
			continue
		}
		o := Offer{Name: f.name, Position: position(f.key)}
		before := len(p.findings)
		fields := p.fields(f.value, "offer "+f.name, []string{"say", "go"})
		if len(fields) == 0 && len(p.findings) == before {
			p.at(f.value, "missing-key", "an offer says something, or where to go")
		}
		for _, inner := range fields {
			switch inner.name {
			case "say":
				p.textInto(&o.Say, inner)
			case "go":
				o.Go = p.sale(inner.value)
			}
		}
		if !slices.Contains(p.book.RoleNames(), o.Name) && PassNamed(p.book, o.Name) == nil {
			p.at(f.key, "unknown-role", "unknown role or kind of pass %q%s", o.Name, didYouMean(o.Name, p.book.RoleNames()))
		}
		p.book.Offers = append(p.book.Offers, o)
	}
}

func (p *reader) events(n ast.Node) {
	p.book.Events.Position = position(n)
	to := &p.book.Events.Fields
	var names []string
	for name := range event.FieldNames {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, f := range p.fields(n, "events", []string{"fields", "types"}) {
		switch f.name {
		case "fields":
			to.At = map[string]string{}
			for _, inner := range p.fields(f.value, "fields of events", names) {
				s, ok := p.text(inner.value, inner.name)
				if !ok {
					continue
				}
				if _, err := event.ReadPointer(s); err != nil {
					p.at(inner.value, "bad-value", "%s: %v", inner.name, err)
					continue
				}
				to.At[inner.name] = s
			}
		case "types":
			to.Types = map[string]event.Type{}
			var types []string
			for _, t := range event.Types {
				types = append(types, string(t))
			}
			for _, inner := range p.fields(f.value, "types of events", nil) {
				to.Types[inner.name] = event.Type(p.word(inner.value, inner.name, types...))
			}
		}
	}
}

// How long before an end, as the schema of the policy file has it too.
const reminderPattern = `^[1-9][0-9]{0,3}[dh]$`

var reminder = pattern.New(reminderPattern)

// reminders reads how long before an end people are reminded of it, the longest first.
func (p *reader) reminders(n ast.Node) {
	_, nodes := p.texts(n, "reminders")
	for _, at := range nodes {
		if s, ok := p.text(at, "reminders"); ok && !reminder.MatchString(s) {
			p.at(at, "bad-value", "a reminder comes hours or days before the end, such as 14d")
		} else if d, ok := p.duration(at, "reminders"); ok && !slices.Contains(p.book.Reminders, d) {
			p.book.Reminders = append(p.book.Reminders, d)
		}
	}
	slices.SortFunc(p.book.Reminders, func(a, b time.Duration) int { return int((b - a) / time.Second) })
}

// ItemNamed returns what a shop's item opens; nil if the policy does not have it.
func ItemNamed(b *Book, name string) *Item {
	if i := slices.IndexFunc(b.Items, func(item Item) bool { return item.Name == name }); i >= 0 {
		return &b.Items[i]
	}
	return nil
}

// SoldAt returns where an item is sold; "" if the policy does not say.
func SoldAt(b *Book, item *Item) string {
	if item.Go != "" {
		return item.Go
	}
	for _, name := range slices.Concat(item.Roles, item.Passes) {
		if o := offerOf(b, name); o != nil && o.Go != "" {
			return o.Go
		}
	}
	return ""
}

func offerOf(b *Book, name string) *Offer {
	if i := slices.IndexFunc(b.Offers, func(o Offer) bool { return o.Name == name }); i >= 0 {
		return &b.Offers[i]
	}
	return nil
}

// OffersAt returns the offers of what would open a place for a visitor who is turned away there: each by itself, and none where an account
// would do that everybody may create.
func OffersAt(b *Book, r Request, v *Visitor) (would []Offer) {
	if len(b.Offers) == 0 {
		return nil
	}
	if !v.SignedIn && (b.Joining.By == ByAnybody || b.Joining.By == ByApproval) {
		with := *v
		if with.SignedIn = true; b.Decide(r, &with).Outcome == Admit {
			return nil
		}
	}
	for _, o := range b.Offers {
		with := *v
		if PassNamed(b, o.Name) != nil {
			with.Passes = append(slices.Clone(v.Passes), o.Name)
			if b.Decide(r, &with).Outcome == Admit {
				would = append(would, o)
				continue
			}
			with.Passes = v.Passes
		}
		with.SignedIn, with.Roles = true, append(slices.Clone(v.Roles), o.Name)
		if b.KnownRole(o.Name) && b.Decide(r, &with).Outcome == Admit {
			would = append(would, o)
		}
	}
	return would
}

// saleTold says all that the policy says of what is sold, but where it stands.
func (b *Book) saleTold(told map[string]string) {
	for _, item := range b.Items {
		item.Position = Position{}
		told[":item "+item.Name] = fmt.Sprintf("%+v", item)
	}
	for _, o := range b.Offers {
		o.Position = Position{}
		told[":offer "+o.Name] = fmt.Sprintf("%+v", o)
	}
	told[":sale"] = fmt.Sprint(b.Shops, b.Reminders, b.Events.Fields)
}
