// Package read makes a Book of the text of a policy file: its keys, its schema, and what is found wrong with it. What doors ask for is
// read by what asks for it, in package policy.
package read

import (
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/fields"
	"ostiarius/core/pattern"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

const maxDoors = 100_000

// Parse reads the text of a policy file. The name is used in findings only. All findings
// are returned at once, in the order of the file; if one of them is an error there is no
// Book.
func Parse(name string, text []byte) (*policy.Book, []document.Finding) {
	p := &reader{policy.NewPartReader(name, nil)}
	book := p.read(text)
	if book != nil {
		p.RoleUses, p.RingUses, p.SharedUses, p.PassUses = nil, nil, nil, nil
		p.compile()
	}
	document.SortFindings(p.Findings)
	if document.HasErrors(p.Findings) {
		return nil, p.Findings
	}
	return book, p.Findings
}

type reader struct{ policy.PartReader }

// sessions reads how long sessions last. What is not said is as in base.
func (p *reader) sessions(n ast.Node, base policy.Sessions, roles bool) policy.Sessions {
	keys := []string{"idle", "lifetime", "remembered"}
	if roles {
		keys = append(keys, "roles")
	}
	for _, f := range p.Fields(n, "sessions", keys) {
		if f.Name == "roles" {
			for _, role := range p.Fields(f.Value, "roles of sessions", nil) {
				p.UseRole(role.Name, role.Key)
				p.Book.SessionsOf = append(p.Book.SessionsOf,
					policy.RoleSessions{Role: role.Name, Sessions: p.sessions(role.Value, policy.Unsaid, false)})
			}
			continue
		}
		d, ok := p.Duration(f.Value, f.Name)
		if !ok {
			continue
		}
		switch f.Name {
		case "idle":
			base.Idle = d
		case "lifetime":
			base.Lifetime = d
		case "remembered":
			base.Remembered = d
		}
	}
	return base
}

// read returns the Book as far as it can be read; p.findings tell whether it counts.
func (p *reader) read(text []byte) *policy.Book {
	body, ok := p.Document(text, "a policy")
	if !ok {
		return nil
	}
	if body == nil {
		p.Fault(document.Position{Line: 1, Column: 1}, 1, "missing-key", "the policy is empty; it needs at least the key doors")
		return nil
	}
	p.Book = &policy.Book{
		Headers:  slices.Clone(policy.DefaultHeaders),
		Prefix:   policy.DefaultPrefix,
		Joining:  policy.Joining{By: policy.ByNobody, Leave: 7 * 24 * time.Hour, NamesRest: 180 * 24 * time.Hour},
		Site:     "This site",
		Sessions: policy.Sessions{Idle: 30 * time.Minute, Lifetime: 12 * time.Hour, Remembered: 30 * 24 * time.Hour},
		Unlisted: policy.Door{Written: policy.Unlisted, Admit: policy.Demand{Kind: policy.SignedIn}},
	}
	p.policy(body)
	return p.Book
}

// compile makes the book ready to decide. By now the syntax tree, which is larger than the
// book, is no longer needed.
func (p *reader) compile() {
	for _, twin := range policy.Compile(p.Book) {
		first, second := p.Book.Doors[twin[0]], p.Book.Doors[twin[1]]
		p.Fault(second.Position, utf8.RuneCountInString(second.Written), "duplicate-door",
			"%s covers exactly the same places as %s in line %d, column %d; remove one of them",
			second.Label(), first.Label(), first.Line, first.Column)
	}
	if !document.HasErrors(p.Findings) {
		p.checkTargets()
		p.checkJoining()
		p.checkPages()
		p.checkShells()
	}
}

var policyKeys = []string{"site", "case", "semicolons", "prefix", "roles", "keyrings", "shared", "passes", "sources", "unlisted",
	"doors", "checks", "landings", "joining", "factors", "elsewhere", "shops", "items", "offers", "events", "reminders", "patrol",
	"looks", "words", "pages", "entrance", "origins", "sessions", "headers", "guarantees"}

func (p *reader) policy(body ast.Node) {
	fields := p.Fields(body, "the policy", policyKeys)
	b := p.Book
	// What other entries depend on comes first, wherever it stands in the file.
	order := func(f document.Field) int { return slices.Index(policyKeys, f.Name) }
	slices.SortStableFunc(fields, func(x, y document.Field) int { return order(x) - order(y) })
	for _, f := range fields {
		switch f.Name {
		case "site":
			if s, ok := p.Text(f.Value, "site"); ok {
				b.Site = s
			}
		case "case":
			if p.Word(f.Value, "case", "sensitive", "insensitive") == "insensitive" {
				b.Rules.FoldCase = true
			}
		case "semicolons":
			if p.Word(f.Value, "semicolons", "rejected", "allowed") == "allowed" {
				b.Rules.Semicolons = true
			}
		case "prefix":
			p.prefix(f.Value)
		case "roles":
			p.roles(f.Value)
		case "keyrings":
			p.keyrings(f.Value)
		case "shared":
			p.shared(f.Value)
		case "passes":
			p.passes(f.Value)
		case "sources":
			p.sources(f.Value)
		case "unlisted":
			b.Unlisted.Position = document.PositionOf(f.Key)
			switch p.Word(f.Value, "unlisted", "public", "signed-in", "refuse", "hide") {
			case "public":
				b.Unlisted.Admit.Kind = policy.Public
			case "refuse":
				b.Unlisted.Admit.Kind = policy.Nobody
			case "hide":
				b.Unlisted.Admit.Kind = policy.Nobody
				b.Unlisted.Otherwise = policy.Otherwise{Anonymous: policy.Instead{Hide: true}, Refused: policy.Instead{Hide: true}}
			}
		case "doors":
			for _, n := range p.List(f.Value, "doors") {
				p.door(n)
				b.Entries++
				if len(b.Doors) > maxDoors {
					p.At(n, "too-large", "more than %d doors", maxDoors)
					return
				}
			}
		case "checks":
			p.checks(f.Value)
		case "landings":
			p.landings(f.Value)
		case "joining":
			p.joining(f.Value)
		case "shops":
			p.shops(f.Value)
		case "items":
			p.items(f.Value)
		case "offers":
			p.offers(f.Value)
		case "events":
			p.events(f.Value)
		case "reminders":
			p.reminders(f.Value)
		case "factors":
			p.factors(f.Value)
		case "elsewhere":
			p.elsewhere(f.Value)
		case "patrol":
			p.patrol(f.Value)
		case "looks":
			p.looks(f.Value)
		case "pages":
			p.pages(f.Value)
		case "origins":
			p.origins(f.Value)
		case "entrance":
			p.entrance(f.Value)
		case "words":
			p.wordsOrFile(f.Value)
		case "headers":
			p.headers(f.Value)
		case "guarantees":
			for _, n := range p.List(f.Value, "guarantees") {
				p.guarantee(n)
			}
		case "sessions":
			b.Sessions = p.sessions(f.Value, b.Sessions, true)
		}
	}
	if m, ok := body.(*ast.MappingNode); ok && !slices.ContainsFunc(m.Values, func(v *ast.MappingValueNode) bool {
		key, isText := v.Key.(ast.Node).(*ast.StringNode)
		return isText && key.Value == "doors"
	}) {
		p.At(body, "missing-key", "the policy has no doors; add at least doors: [{ path: /**, admit: signed-in }]")
	}
	known := b.RoleNames()
	for _, use := range p.RoleUses {
		if !slices.Contains(known, use.Name) {
			p.At(use.At, "unknown-role", "unknown role %q%s", use.Name, policy.DidYouMeanRole(use.Name, known))
		}
	}
	var rings []string
	for _, k := range b.Keyrings {
		rings = append(rings, k.Name)
	}
	for _, use := range p.RingUses {
		if !slices.Contains(rings, use.Name) {
			p.At(use.At, "unknown-keyring", "unknown keyring %q%s; declare keyrings under the key keyrings", use.Name,
				strings.TrimSuffix(document.DidYouMean(use.Name, rings), "?"))
		}
	}
	p.checkAccess()
}

func (p *reader) prefix(n ast.Node) {
	s, ok := p.Text(n, "prefix")
	if !ok {
		return
	}
	pattern, err := place.ParsePattern(s, p.Book.Rules)
	switch {
	case err != nil:
		p.At(n, "bad-value", "prefix: %v", err)
	case !pattern.Literal() || pattern.String() == "/":
		p.At(n, "bad-value", "prefix is one path without *, such as /door")
	default:
		p.Book.Prefix = pattern.String()
	}
}

func (p *reader) roles(n ast.Node) {
	if _, empty := n.(*ast.NullNode); empty {
		return
	}
	includes := map[string][]string{}
	at := map[string]ast.Node{}
	for _, f := range p.Fields(n, "roles", nil) {
		if !p.Name(f.Key, "role", f.Name) {
			continue
		}
		r := policy.DeclaredRole{Name: f.Name, Position: document.PositionOf(f.Key)}
		if _, empty := f.Value.(*ast.NullNode); !empty {
			for _, inner := range p.Fields(f.Value, "role "+f.Name, []string{"includes"}) {
				names, nodes := p.Texts(inner.Value, "includes")
				for i := range names {
					p.UseRole(names[i], nodes[i])
				}
				r.Includes = names
			}
		}
		includes[r.Name] = r.Includes
		at[r.Name] = f.Key
		p.Book.Roles = append(p.Book.Roles, r)
	}
	// A role that includes itself, on whatever way round.
	for _, r := range p.Book.Roles {
		var way []string
		seen := map[string]bool{}
		var find func(name string) bool
		find = func(name string) bool {
			if seen[name] {
				return false
			}
			seen[name] = true
			for _, inner := range includes[name] {
				if inner == r.Name || find(inner) {
					way = append([]string{inner}, way...)
					return true
				}
			}
			return false
		}
		if find(r.Name) && r.Name == slices.Min(append(slices.Clone(way), r.Name)) { // said once for each circle
			p.At(at[r.Name], "role-circle", "roles include each other in a circle: %s", strings.Join(append([]string{r.Name}, way...), " includes "))
		}
	}
}

func (p *reader) keyrings(n ast.Node) {
	if _, empty := n.(*ast.NullNode); empty {
		return
	}
	for _, f := range p.Fields(n, "keyrings", nil) {
		if !p.Name(f.Key, "keyring", f.Name) {
			continue
		}
		k := policy.DeclaredKeyring{Name: f.Name, Realm: f.Name, Position: document.PositionOf(f.Key)}
		if _, empty := f.Value.(*ast.NullNode); !empty {
			for _, inner := range p.Fields(f.Value, "keyring "+f.Name, []string{"realm"}) {
				if s, ok := p.Text(inner.Value, "realm"); ok {
					k.Realm = s
				}
			}
		}
		p.Book.Keyrings = append(p.Book.Keyrings, k)
	}
}

// audience reads the name by which a server behind is known in what is signed for it.
func (p *reader) audience(n ast.Node) string {
	text, ok := p.Text(n, "identity")
	if ok && !Audience(text) {
		p.At(n, "bad-value", "identity is the name of the server that is told who is calling, such as stock: 1 to 200 of the letters, "+
			"digits and signs that an address may have")
	}
	return text
}

// Audience reports whether a text can be such a name.
func Audience(s string) bool {
	return s != "" && len(s) <= 200 && strings.IndexFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("-._~:/", r))
	}) < 0
}

func (p *reader) sources(n ast.Node) {
	for _, entry := range p.List(n, "sources") {
		s := policy.Source{Path: "/", Position: document.PositionOf(entry)}
		var proxied, served, shell ast.Node // what only goes with a proxied server, or with files
		for _, f := range p.Fields(entry, "a source",
			[]string{"path", "host", "files", "proxy", "strip-prefix", "timeout", "forward-fields", "identity", "personal", "service-worker",
				"attachment", "cache", "fallback", "listing", "shell", "routes"}) {
			switch f.Name {
			case "strip-prefix":
				s.StripPrefix = p.Boolean(f.Value, f.Name)
				proxied = f.Value
				continue
			case "identity":
				s.Identity = p.audience(f.Value)
				proxied = f.Value
				continue
			case "personal":
				s.Personal = p.Word(f.Value, f.Name, policy.PersonalVary, policy.PersonalPrivate)
				proxied = f.Value
				continue
			case "service-worker":
				s.ServiceWorker = p.Boolean(f.Value, f.Name)
				continue
			case "attachment":
				s.Attachment = p.attachment(f.Value)
				served = f.Value
				continue
			case "fallback":
				s.Fallback = p.fallback(f.Value)
				served = f.Value
				continue
			case "listing":
				s.Listing = p.Boolean(f.Value, f.Name)
				served = f.Value
				continue
			case "routes":
				if document.IsText(f.Value) {
					s.RoutesFile, _ = p.Text(f.Value, "routes")
				} else {
					s.Routes = p.routes(f.Value)
				}
				continue
			case "shell":
				s.Shell = p.Word(f.Value, "shell", "public") == "public"
				served, shell = f.Value, f.Value
				continue
			case "cache":
				s.Cache, _ = p.Duration(f.Value, f.Name)
				served = f.Value
				continue
			case "timeout":
				s.Timeout, _ = p.Duration(f.Value, f.Name)
				proxied = f.Value
				continue
			case "forward-fields":
				s.Fields = p.forwarded(f.Value)
				proxied = f.Value
				continue
			}
			text, ok := p.Text(f.Value, f.Name)
			if !ok {
				continue
			}
			switch f.Name {
			case "path":
				pattern, err := place.ParsePattern(text, p.Book.Rules)
				switch {
				case err != nil:
					p.At(f.Value, "bad-pattern", "path %q: %v", text, err)
				case !pattern.Literal():
					p.At(f.Value, "bad-pattern", "path %q: a source stands at one path and has all below it; write it without *", text)
				default:
					s.Path = pattern.String()
				}
			case "host":
				s.Host = p.host(f.Value, text)
			case "files":
				s.Files, s.Position = text, document.PositionOf(f.Value)
			case "proxy":
				s.Proxy, s.Position = text, document.PositionOf(f.Value)
				if !proxyAddress.MatchString(text) {
					p.At(f.Value, "bad-value", "proxy is the address of a server, such as http://127.0.0.1:8461 or unix:log.sock, not %q", text)
				}
			}
		}
		if (s.Files == "") == (s.Proxy == "") {
			p.At(entry, "missing-key", "a source needs either files: DIRECTORY or proxy: ADDRESS")
			continue
		}
		if proxied != nil && s.Proxy == "" {
			p.At(proxied, "bad-value", "strip-prefix, timeout, forward-fields, identity and personal need proxy")
		}
		if served != nil && s.Files == "" {
			p.At(served, "bad-value", "attachment, cache, fallback, listing and shell need files")
		}
		if shell != nil && s.Fallback == "" {
			p.At(shell, "bad-value", "shell says who may have the page of fallback; write fallback: index.html too")
		}
		for _, other := range p.Book.Sources {
			if other.Path == s.Path && other.Host == s.Host {
				p.At(entry, "duplicate-source", "two sources at %s; the other is in line %d", s.Path, other.Line)
			}
		}
		p.Book.Sources = append(p.Book.Sources, s)
	}
}

// fallback reads the name of the file that answers for routes.
func (p *reader) fallback(n ast.Node) string {
	name, ok := p.Text(n, "fallback")
	if ok && !fallbackName.MatchString(name) {
		p.At(n, "bad-value", "fallback is the name of a file in the directory, such as index.html, not %q", name)
	}
	return name
}

var fallbackName = pattern.New(fallbackPattern)

// A name without directories that does not begin with a dot.
const fallbackPattern = `^[A-Za-z0-9_-][A-Za-z0-9._-]*$`

// attachment reads the endings of the names of files that are saved and not shown.
func (p *reader) attachment(n ast.Node) (endings []string) {
	names, nodes := p.Texts(n, "attachment")
	for i, name := range names {
		if !ending.MatchString(name) {
			p.At(nodes[i], "bad-value", "%q is not the ending of a name; write one without the point, such as zip", name)
			continue
		}
		endings = append(endings, strings.ToLower(name))
	}
	return endings
}

// The grammar of endings, as the schema of the policy file has it too.
const endingPattern = `^[A-Za-z0-9]{1,16}$`

var ending = pattern.New(endingPattern)

// forwarded reads the names of header fields that a source asks for.
func (p *reader) forwarded(n ast.Node) (names []string) {
	for _, entry := range p.List(n, "forward-fields") {
		name, ok := p.Text(entry, "forward-fields")
		switch {
		case !ok:
		case fields.KindOf(name) == fields.Odd:
			p.At(entry, "bad-value", "%q is not the name of a header field that is handed on: such names are of letters, digits and -", name)
		case fields.Askable(name) == "":
			p.At(entry, "bad-value", "%s cannot be asked for: Ostiarius writes it itself, or whoever sends it could claim what they like", name)
		default:
			names = append(names, name)
		}
	}
	return names
}

// headers reads the fields that are set on the answers of the site, over the usual ones.
func (p *reader) headers(n ast.Node) {
	for _, f := range p.Fields(n, "headers", nil) {
		value := ""
		if _, left := f.Value.(*ast.NullNode); !left {
			var ok bool
			if value, ok = p.Text(f.Value, f.Name); !ok {
				continue
			}
		}
		name := canonicalHeader(f.Name)
		switch {
		case !headerName.MatchString(f.Name):
			p.At(f.Key, "bad-value", "%q is no name of a header field", f.Name)
		case slices.Contains(ownHeaders, name):
			p.At(f.Key, "bad-value", "%s is Ostiarius's own to set", name)
		case value != "" && !headerValue.MatchString(value):
			p.At(f.Value, "bad-value", "the value of a header field is one line of ASCII")
		default:
			p.Book.Headers = slices.DeleteFunc(p.Book.Headers, func(h policy.Header) bool { return h.Name == name })
			p.Book.Headers = append(p.Book.Headers, policy.NewHeader(name, value))
		}
	}
	slices.SortFunc(p.Book.Headers, func(a, b policy.Header) int { return strings.Compare(a.Name, b.Name) })
}

// What a header field may be (RFC 9110, section 5), as the schema of the policy file has
// it too; and those that are not the policy's to set.
const (
	headerNamePattern  = `^[A-Za-z0-9!#$%&'*+.^_|~-]+$`
	headerValuePattern = `^[\x20-\x7e]*[\x21-\x7e][\x20-\x7e]*$`
)

var (
	headerName  = pattern.New(headerNamePattern)
	headerValue = pattern.New(headerValuePattern)
	ownHeaders  = []string{"Set-Cookie", "Cache-Control", "Vary", "Location", "Www-Authenticate", "Content-Length",
		"Transfer-Encoding", "Connection", "Content-Type", "Upgrade", "Trailer", "Service-Worker-Allowed"}
)

// canonicalHeader writes the name of a field as it is usually written: Referrer-Policy.
func canonicalHeader(name string) string {
	b := []byte(strings.ToLower(name))
	for i := range b {
		if (i == 0 || b[i-1] == '-') && 'a' <= b[i] && b[i] <= 'z' {
			b[i] -= 'a' - 'A'
		}
	}
	return string(b)
}

// The address of a server, as the schema of the policy file has it too.
const proxyPattern = `^(?:https?://(?:[A-Za-z0-9._-]+|\[[0-9A-Fa-f:.]+\])(?::[0-9]{1,5})?/?|unix:[^\x00?#]+)$`

var proxyAddress = pattern.New(proxyPattern)
