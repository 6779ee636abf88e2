package policy

import (
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/fields"
	"ostiarius/core/pattern"
	"ostiarius/core/place"
)

const maxDoors = 100_000

// Parse reads the text of a policy file. The name is used in findings only. All findings
// are returned at once, in the order of the file; if one of them is an error there is no
// Book.
func Parse(name string, text []byte) (*Book, []Finding) {
	p := &reader{newPartReader(name, nil)}
	book := p.read(text)
	if book != nil {
		p.roleUses, p.ringUses, p.sharedUses, p.passUses = nil, nil, nil, nil
		p.compile()
	}
	SortFindings(p.findings)
	if HasErrors(p.findings) {
		return nil, p.findings
	}
	return book, p.findings
}

type reader struct{ partReader }

// sessions reads how long sessions last. What is not said is as in base.
func (p *reader) sessions(n ast.Node, base Sessions, roles bool) Sessions {
	keys := []string{"idle", "lifetime", "remembered"}
	if roles {
		keys = append(keys, "roles")
	}
	for _, f := range p.fields(n, "sessions", keys) {
		if f.name == "roles" {
			for _, role := range p.fields(f.value, "roles of sessions", nil) {
				p.roleUses = append(p.roleUses, use{role.name, role.key})
				p.book.SessionsOf = append(p.book.SessionsOf, RoleSessions{role.name, p.sessions(role.value, unsaid, false)})
			}
			continue
		}
		d, ok := p.duration(f.value, f.name)
		if !ok {
			continue
		}
		switch f.name {
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
func (p *reader) read(text []byte) *Book {
	body, ok := p.document(text, "a policy")
	if !ok {
		return nil
	}
	if body == nil {
		p.fault(Position{1, 1}, 1, "missing-key", "the policy is empty; it needs at least the key doors")
		return nil
	}
	p.book = &Book{
		Headers:  slices.Clone(defaultHeaders),
		Prefix:   DefaultPrefix,
		Joining:  Joining{By: ByNobody, Leave: 7 * 24 * time.Hour, NamesRest: 180 * 24 * time.Hour},
		Site:     "This site",
		Sessions: Sessions{Idle: 30 * time.Minute, Lifetime: 12 * time.Hour, Remembered: 30 * 24 * time.Hour},
		Unlisted: Door{Written: Unlisted, Admit: Demand{Kind: SignedIn}},
	}
	p.policy(body)
	return p.book
}

// compile makes the book ready to decide. By now the syntax tree, which is larger than the
// book, is no longer needed.
func (p *reader) compile() {
	for _, twin := range p.book.compile() {
		first, second := p.book.Doors[twin[0]], p.book.Doors[twin[1]]
		p.fault(second.Position, utf8.RuneCountInString(second.Written), "duplicate-door",
			"%s covers exactly the same places as %s in line %d, column %d; remove one of them",
			second.Label(), first.Label(), first.Line, first.Column)
	}
	if !HasErrors(p.findings) {
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
	fields := p.fields(body, "the policy", policyKeys)
	b := p.book
	// What other entries depend on comes first, wherever it stands in the file.
	order := func(f field) int { return slices.Index(policyKeys, f.name) }
	slices.SortStableFunc(fields, func(x, y field) int { return order(x) - order(y) })
	for _, f := range fields {
		switch f.name {
		case "site":
			if s, ok := p.text(f.value, "site"); ok {
				b.Site = s
			}
		case "case":
			if p.word(f.value, "case", "sensitive", "insensitive") == "insensitive" {
				b.Rules.FoldCase = true
			}
		case "semicolons":
			if p.word(f.value, "semicolons", "rejected", "allowed") == "allowed" {
				b.Rules.Semicolons = true
			}
		case "prefix":
			p.prefix(f.value)
		case "roles":
			p.roles(f.value)
		case "keyrings":
			p.keyrings(f.value)
		case "shared":
			p.shared(f.value)
		case "passes":
			p.passes(f.value)
		case "sources":
			p.sources(f.value)
		case "unlisted":
			b.Unlisted.Position = position(f.key)
			switch p.word(f.value, "unlisted", "public", "signed-in", "refuse", "hide") {
			case "public":
				b.Unlisted.Admit.Kind = Public
			case "refuse":
				b.Unlisted.Admit.Kind = Nobody
			case "hide":
				b.Unlisted.Admit.Kind = Nobody
				b.Unlisted.Otherwise = Otherwise{Anonymous: Instead{Hide: true}, Refused: Instead{Hide: true}}
			}
		case "doors":
			for _, n := range p.list(f.value, "doors") {
				p.door(n)
				b.Entries++
				if len(b.Doors) > maxDoors {
					p.at(n, "too-large", "more than %d doors", maxDoors)
					return
				}
			}
		case "checks":
			p.checks(f.value)
		case "landings":
			p.landings(f.value)
		case "joining":
			p.joining(f.value)
		case "shops":
			p.shops(f.value)
		case "items":
			p.items(f.value)
		case "offers":
			p.offers(f.value)
		case "events":
			p.events(f.value)
		case "reminders":
			p.reminders(f.value)
		case "factors":
			p.factors(f.value)
		case "elsewhere":
			p.elsewhere(f.value)
		case "patrol":
			p.patrol(f.value)
		case "looks":
			p.looks(f.value)
		case "pages":
			p.pages(f.value)
		case "origins":
			p.origins(f.value)
		case "entrance":
			p.entrance(f.value)
		case "words":
			p.wordsOrFile(f.value)
		case "headers":
			p.headers(f.value)
		case "guarantees":
			for _, n := range p.list(f.value, "guarantees") {
				p.guarantee(n)
			}
		case "sessions":
			b.Sessions = p.sessions(f.value, b.Sessions, true)
		}
	}
	if m, ok := body.(*ast.MappingNode); ok && !slices.ContainsFunc(m.Values, func(v *ast.MappingValueNode) bool {
		key, isText := v.Key.(ast.Node).(*ast.StringNode)
		return isText && key.Value == "doors"
	}) {
		p.at(body, "missing-key", "the policy has no doors; write at least doors: [{ path: /**, admit: signed-in }]")
	}
	known := b.RoleNames()
	for _, use := range p.roleUses {
		if !slices.Contains(known, use.name) {
			p.at(use.at, "unknown-role", "unknown role %q%s", use.name, didYouMeanRole(use.name, known))
		}
	}
	var rings []string
	for _, k := range b.Keyrings {
		rings = append(rings, k.Name)
	}
	for _, use := range p.ringUses {
		if !slices.Contains(rings, use.name) {
			p.at(use.at, "unknown-keyring", "unknown keyring %q%s; keyrings are declared under the key keyrings", use.name,
				strings.TrimSuffix(didYouMean(use.name, rings), "?"))
		}
	}
	p.checkAccess()
}

func didYouMeanRole(name string, known []string) string {
	if len(known) == 1 { // only the built-in one: none is declared
		return "; roles are declared under the key roles"
	}
	return didYouMean(name, known)
}

func (p *reader) prefix(n ast.Node) {
	s, ok := p.text(n, "prefix")
	if !ok {
		return
	}
	pattern, err := place.ParsePattern(s, p.book.Rules)
	switch {
	case err != nil:
		p.at(n, "bad-value", "prefix: %v", err)
	case !pattern.Literal() || pattern.String() == "/":
		p.at(n, "bad-value", "prefix is one path without *, such as /door")
	default:
		p.book.Prefix = pattern.String()
	}
}

func (p *reader) roles(n ast.Node) {
	if _, empty := n.(*ast.NullNode); empty {
		return
	}
	includes := map[string][]string{}
	at := map[string]ast.Node{}
	for _, f := range p.fields(n, "roles", nil) {
		if !p.name(f.key, "role", f.name) {
			continue
		}
		r := DeclaredRole{Name: f.name, Position: position(f.key)}
		if _, empty := f.value.(*ast.NullNode); !empty {
			for _, inner := range p.fields(f.value, "role "+f.name, []string{"includes"}) {
				names, nodes := p.texts(inner.value, "includes")
				for i := range names {
					p.roleUses = append(p.roleUses, use{names[i], nodes[i]})
				}
				r.Includes = names
			}
		}
		includes[r.Name] = r.Includes
		at[r.Name] = f.key
		p.book.Roles = append(p.book.Roles, r)
	}
	// A role that includes itself, on whatever way round.
	for _, r := range p.book.Roles {
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
			p.at(at[r.Name], "role-circle", "roles include each other in a circle: %s", strings.Join(append([]string{r.Name}, way...), " includes "))
		}
	}
}

func (p *reader) keyrings(n ast.Node) {
	if _, empty := n.(*ast.NullNode); empty {
		return
	}
	for _, f := range p.fields(n, "keyrings", nil) {
		if !p.name(f.key, "keyring", f.name) {
			continue
		}
		k := DeclaredKeyring{Name: f.name, Realm: f.name, Position: position(f.key)}
		if _, empty := f.value.(*ast.NullNode); !empty {
			for _, inner := range p.fields(f.value, "keyring "+f.name, []string{"realm"}) {
				if s, ok := p.text(inner.value, "realm"); ok {
					k.Realm = s
				}
			}
		}
		p.book.Keyrings = append(p.book.Keyrings, k)
	}
}

// audience reads the name by which a server behind is known in what is signed for it.
func (p *reader) audience(n ast.Node) string {
	text, ok := p.text(n, "identity")
	if ok && !Audience(text) {
		p.at(n, "bad-value", "identity is the name of the server that is told who is calling, such as stock: 1 to 200 of the letters, "+
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
	for _, entry := range p.list(n, "sources") {
		s := Source{Path: "/", Position: position(entry)}
		var proxied, served, shell ast.Node // what only goes with a proxied server, or with files
		for _, f := range p.fields(entry, "a source",
			[]string{"path", "host", "files", "proxy", "strip-prefix", "timeout", "forward-fields", "identity", "personal", "service-worker",
				"attachment", "cache", "fallback", "listing", "shell", "routes"}) {
			switch f.name {
			case "strip-prefix":
				s.StripPrefix = p.boolean(f.value, f.name)
				proxied = f.value
				continue
			case "identity":
				s.Identity = p.audience(f.value)
				proxied = f.value
				continue
			case "personal":
				s.Personal = p.word(f.value, f.name, PersonalVary, PersonalPrivate)
				proxied = f.value
				continue
			case "service-worker":
				s.ServiceWorker = p.boolean(f.value, f.name)
				continue
			case "attachment":
				s.Attachment = p.attachment(f.value)
				served = f.value
				continue
			case "fallback":
				s.Fallback = p.fallback(f.value)
				served = f.value
				continue
			case "listing":
				s.Listing = p.boolean(f.value, f.name)
				served = f.value
				continue
			case "routes":
				if isText(f.value) {
					s.RoutesFile, _ = p.text(f.value, "routes")
				} else {
					s.Routes = p.routes(f.value)
				}
				continue
			case "shell":
				s.Shell = p.word(f.value, "shell", "public") == "public"
				served, shell = f.value, f.value
				continue
			case "cache":
				s.Cache, _ = p.duration(f.value, f.name)
				served = f.value
				continue
			case "timeout":
				s.Timeout, _ = p.duration(f.value, f.name)
				proxied = f.value
				continue
			case "forward-fields":
				s.Fields = p.forwarded(f.value)
				proxied = f.value
				continue
			}
			text, ok := p.text(f.value, f.name)
			if !ok {
				continue
			}
			switch f.name {
			case "path":
				pattern, err := place.ParsePattern(text, p.book.Rules)
				switch {
				case err != nil:
					p.at(f.value, "bad-pattern", "path %q: %v", text, err)
				case !pattern.Literal():
					p.at(f.value, "bad-pattern", "path %q: a source stands at one path and has all below it; write it without *", text)
				default:
					s.Path = pattern.String()
				}
			case "host":
				s.Host = p.host(f.value, text)
			case "files":
				s.Files, s.Position = text, position(f.value)
			case "proxy":
				s.Proxy, s.Position = text, position(f.value)
				if !proxyAddress.MatchString(text) {
					p.at(f.value, "bad-value", "proxy is the address of a server, such as http://127.0.0.1:8461 or unix:log.sock, not %q", text)
				}
			}
		}
		if (s.Files == "") == (s.Proxy == "") {
			p.at(entry, "missing-key", "a source has either files: DIRECTORY or proxy: ADDRESS")
			continue
		}
		if proxied != nil && s.Proxy == "" {
			p.at(proxied, "bad-value", "strip-prefix, timeout, forward-fields, identity and personal go with proxy")
		}
		if served != nil && s.Files == "" {
			p.at(served, "bad-value", "attachment, cache, fallback, listing and shell go with files")
		}
		if shell != nil && s.Fallback == "" {
			p.at(shell, "bad-value", "shell says who may have the page of fallback; write fallback: index.html too")
		}
		for _, other := range p.book.Sources {
			if other.Path == s.Path && other.Host == s.Host {
				p.at(entry, "duplicate-source", "two sources at %s; the other is in line %d", s.Path, other.Line)
			}
		}
		p.book.Sources = append(p.book.Sources, s)
	}
}

// fallback reads the name of the file that answers for routes.
func (p *reader) fallback(n ast.Node) string {
	name, ok := p.text(n, "fallback")
	if ok && !fallbackName.MatchString(name) {
		p.at(n, "bad-value", "fallback is the name of a file in the directory, such as index.html, not %q", name)
	}
	return name
}

var fallbackName = pattern.New(fallbackPattern)

// A name without directories that does not begin with a dot.
const fallbackPattern = `^[A-Za-z0-9_-][A-Za-z0-9._-]*$`

// attachment reads the endings of the names of files that are saved and not shown.
func (p *reader) attachment(n ast.Node) (endings []string) {
	names, nodes := p.texts(n, "attachment")
	for i, name := range names {
		if !ending.MatchString(name) {
			p.at(nodes[i], "bad-value", "%q is not the ending of a name; write one without the point, such as zip", name)
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
	for _, entry := range p.list(n, "forward-fields") {
		name, ok := p.text(entry, "forward-fields")
		switch {
		case !ok:
		case fields.KindOf(name) == fields.Odd:
			p.at(entry, "bad-value", "%q is not the name of a header field that is handed on: such names are of letters, digits and -", name)
		case fields.Askable(name) == "":
			p.at(entry, "bad-value", "%s cannot be asked for: Ostiarius writes it itself, or whoever sends it could claim what they like", name)
		default:
			names = append(names, name)
		}
	}
	return names
}

// headers reads the fields that are set on the answers of the site, over the usual ones.
func (p *reader) headers(n ast.Node) {
	for _, f := range p.fields(n, "headers", nil) {
		value := ""
		if _, left := f.value.(*ast.NullNode); !left {
			var ok bool
			if value, ok = p.text(f.value, f.name); !ok {
				continue
			}
		}
		name := canonicalHeader(f.name)
		switch {
		case !headerName.MatchString(f.name):
			p.at(f.key, "bad-value", "%q is no name of a header field", f.name)
		case slices.Contains(ownHeaders, name):
			p.at(f.key, "bad-value", "%s is Ostiarius's own to set", name)
		case value != "" && !headerValue.MatchString(value):
			p.at(f.value, "bad-value", "the value of a header field is one line of ASCII")
		default:
			p.book.Headers = slices.DeleteFunc(p.book.Headers, func(h Header) bool { return h.Name == name })
			p.book.Headers = append(p.book.Headers, newHeader(name, value))
		}
	}
	slices.SortFunc(p.book.Headers, func(a, b Header) int { return strings.Compare(a.Name, b.Name) })
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
