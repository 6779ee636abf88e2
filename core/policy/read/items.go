package read

import (
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/event"
	"ostiarius/core/pattern"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

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
	names, nodes := p.Texts(n, "shops")
	for i, name := range names {
		if !shop.MatchString(name) {
			p.At(nodes[i], "bad-value", "%q isn't the address of a shop; use a form like https://shop.example, without a path", name)
			continue
		}
		p.Book.Shops = append(p.Book.Shops, name)
	}
}

// sale reads where something is sold: an address of this site, or of one of the shops.
func (p *reader) sale(n ast.Node) string {
	s, ok := p.Text(n, "go")
	if !ok {
		return ""
	}
	if !strings.HasPrefix(s, "http:") && !strings.HasPrefix(s, "https:") {
		return p.Target(n)
	}
	if !atShop.MatchString(s) {
		p.At(n, "bad-value", "go %q: it is a path on this site, or an address of one of the shops", s)
		return ""
	}
	if origin := originOf.FindString(s); !slices.Contains(p.Book.Shops, origin) {
		p.At(n, "unknown-shop", "go %q leads away from the site; if it may, name %q under the key shops", s, origin)
		return ""
	}
	return s
}

func (p *reader) items(n ast.Node) {
	if _, empty := n.(*ast.NullNode); empty {
		return
	}
	for _, f := range p.Fields(n, "items", nil) {
		if !itemName.MatchString(f.Name) {
			p.At(f.Key, "bad-value", "item %q: the name of an item is as the shop has it, of letters, digits and . _ : / + -", f.Name)
			continue
		}
		item := policy.Item{Name: f.Name, Title: f.Name, Position: document.PositionOf(f.Key)}
		before := len(p.Findings)
		fields := p.Fields(f.Value, "item "+f.Name, []string{"title", "role", "pass", "path", "for", "grace", "after", "go"})
		spelt := len(p.Findings) == before // else a key that is missing may be a misspelt one
		for _, inner := range fields {
			p.itemKey(&item, inner)
		}
		has := func(key string) ast.Node {
			if i := slices.IndexFunc(fields, func(f document.Field) bool { return f.Name == key }); i >= 0 {
				return fields[i].Value
			}
			return nil
		}
		if role, pass := has("role"), has("pass"); spelt {
			for _, key := range []string{"grace", "after"} {
				if at := has(key); at != nil && (role == nil || has("for") == nil) {
					p.At(at, "bad-value", "%s goes with role and for: it says what becomes of a role at its end", key)
				}
			}
			switch path := has("path"); {
			case path != nil && pass == nil:
				p.At(path, "bad-value", "path goes with pass: it says what of its places the pass opens")
			case role == nil && pass == nil:
				p.At(f.Value, "missing-key", "an item needs role, pass or both")
			}
		}
		p.Book.Items = append(p.Book.Items, item)
	}
}

func (p *reader) itemKey(item *policy.Item, f document.Field) {
	switch f.Name {
	case "title":
		p.textInto(&item.Title, f)
	case "role":
		names, nodes := p.Texts(f.Value, "role")
		for i, name := range names {
			p.soldRole(name, nodes[i])
		}
		item.Roles = names
	case "pass":
		names, nodes := p.Texts(f.Value, "pass")
		for i, name := range names {
			p.PassUses = append(p.PassUses, policy.Use{Name: name, At: nodes[i]})
		}
		item.Passes = names
	case "path":
		texts, nodes := p.Texts(f.Value, "path")
		for i, text := range texts {
			pattern, err := place.ParsePattern(strings.TrimSuffix(text, "/**"), p.Book.Rules)
			if err != nil || !pattern.Literal() {
				p.At(nodes[i], "bad-pattern", "path %q: write one path, or one path and /**, such as /recordings/2026/**", text)
				continue
			}
			item.Paths = append(item.Paths, pattern.String())
		}
	case "for":
		item.For, _ = p.Duration(f.Value, "for")
	case "grace":
		item.Grace, _ = p.Duration(f.Value, "grace")
	case "after":
		before := len(p.Findings)
		for _, inner := range p.Fields(f.Value, "after", []string{"role", "for"}) {
			switch inner.Name {
			case "role":
				p.textInto(&item.After.Role, inner)
				p.soldRole(item.After.Role, inner.Value)
			case "for":
				item.After.For, _ = p.Duration(inner.Value, "for")
			}
		}
		if item.After.Role == "" && len(p.Findings) == before {
			p.At(f.Value, "missing-key", "after names a role")
		}
	case "go":
		item.Go = p.sale(f.Value)
	}
}

func (p *reader) soldRole(name string, at ast.Node) {
	p.UseRole(name, at)
	if name == policy.Steward {
		p.At(at, "bad-value", "the role %s can't be sold: buyers could administer the site", policy.Steward)
	}
}

func (p *reader) offers(n ast.Node) {
	if _, empty := n.(*ast.NullNode); empty {
		return
	}
	for _, f := range p.Fields(n, "offers", nil) {
		if !p.Name(f.Key, "offer", f.Name) {
			continue
		}
		o := policy.Offer{Name: f.Name, Position: document.PositionOf(f.Key)}
		before := len(p.Findings)
		fields := p.Fields(f.Value, "offer "+f.Name, []string{"say", "go"})
		if len(fields) == 0 && len(p.Findings) == before {
			p.At(f.Value, "missing-key", "an offer needs say or go")
		}
		for _, inner := range fields {
			switch inner.Name {
			case "say":
				p.textInto(&o.Say, inner)
			case "go":
				o.Go = p.sale(inner.Value)
			}
		}
		if !slices.Contains(p.Book.RoleNames(), o.Name) && policy.PassNamed(p.Book, o.Name) == nil {
			p.At(f.Key, "unknown-role", "unknown role or kind of pass %q%s", o.Name, document.DidYouMean(o.Name, p.Book.RoleNames()))
		}
		p.Book.Offers = append(p.Book.Offers, o)
	}
}

func (p *reader) events(n ast.Node) {
	p.Book.Events.Position = document.PositionOf(n)
	to := &p.Book.Events.Fields
	var names []string
	for name := range event.FieldNames {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, f := range p.Fields(n, "events", []string{"fields", "types"}) {
		switch f.Name {
		case "fields":
			to.At = map[string]string{}
			for _, inner := range p.Fields(f.Value, "fields of events", names) {
				s, ok := p.Text(inner.Value, inner.Name)
				if !ok {
					continue
				}
				if _, err := event.ReadPointer(s); err != nil {
					p.At(inner.Value, "bad-value", "%s: %v", inner.Name, err)
					continue
				}
				to.At[inner.Name] = s
			}
		case "types":
			to.Types = map[string]event.Type{}
			var types []string
			for _, t := range event.Types {
				types = append(types, string(t))
			}
			for _, inner := range p.Fields(f.Value, "types of events", nil) {
				to.Types[inner.Name] = event.Type(p.Word(inner.Value, inner.Name, types...))
			}
		}
	}
}

// How long before an end, as the schema of the policy file has it too.
const reminderPattern = `^[1-9][0-9]{0,3}[dh]$`

var reminder = pattern.New(reminderPattern)

// reminders reads how long before an end people are reminded of it, the longest first.
func (p *reader) reminders(n ast.Node) {
	_, nodes := p.Texts(n, "reminders")
	for _, at := range nodes {
		if s, ok := p.Text(at, "reminders"); ok && !reminder.MatchString(s) {
			p.At(at, "bad-value", "a reminder must come hours or days before the end, such as 14d")
		} else if d, ok := p.Duration(at, "reminders"); ok && !slices.Contains(p.Book.Reminders, d) {
			p.Book.Reminders = append(p.Book.Reminders, d)
		}
	}
	slices.SortFunc(p.Book.Reminders, func(a, b time.Duration) int { return int((b - a) / time.Second) })
}
