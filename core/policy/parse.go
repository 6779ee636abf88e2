package policy

import (
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"ostiarius/core/account"
	"ostiarius/core/place"
)

// MaxSize is the largest policy file that is read, in bytes.
const MaxSize = 8 << 20

const (
	maxDepth = 50 // of nested lists and mappings
	maxDoors = 100_000
)

// Parse reads the text of a policy file. The name is used in findings only. All findings
// are returned at once, in the order of the file; if one of them is an error there is no
// Book.
func Parse(name string, text []byte) (*Book, []Finding) {
	p := &reader{file: name}
	book := p.read(text)
	if book != nil {
		p.roleUses, p.ringUses = nil, nil
		p.compile()
	}
	sortFindings(p.findings)
	if HasErrors(p.findings) {
		return nil, p.findings
	}
	return book, p.findings
}

type reader struct {
	file     string
	findings []Finding
	book     *Book
	roleUses []roleUse // checked when all roles are known
	ringUses []roleUse
}

type roleUse struct {
	name string
	at   ast.Node
}

func (p *reader) fault(at Position, length int, rule, format string, args ...any) {
	p.findings = append(p.findings, Finding{
		Severity: Error, Rule: rule, Message: fmt.Sprintf(format, args...),
		File: p.file, Line: at.Line, Column: at.Column, Length: length,
	})
}

func (p *reader) warn(at Position, length int, rule, format string, args ...any) {
	p.fault(at, length, rule, format, args...)
	p.findings[len(p.findings)-1].Severity = Warning
}

func (p *reader) at(n ast.Node, rule, format string, args ...any) {
	p.fault(position(n), width(n), rule, format, args...)
}

func position(n ast.Node) Position {
	n = start(n)
	if t := n.GetToken(); t != nil && t.Position != nil {
		return Position{t.Position.Line, t.Position.Column}
	}
	return Position{1, 1}
}

// start returns the node whose token stands first in the text of n.
func start(n ast.Node) ast.Node {
	switch n := n.(type) {
	case *ast.MappingNode:
		if !n.IsFlowStyle && len(n.Values) > 0 {
			return start(n.Values[0])
		}
	case *ast.MappingValueNode:
		return n.Key
	}
	return n
}

func width(n ast.Node) int {
	t := start(n).GetToken()
	if t == nil {
		return 1
	}
	origin := strings.TrimSpace(t.Origin)
	if strings.ContainsAny(origin, "\n") || origin == "" {
		return 1
	}
	return utf8.RuneCountInString(origin)
}

// read returns the Book as far as it can be read; p.findings tell whether it counts.
func (p *reader) read(text []byte) *Book {
	if !p.readable(text) {
		return nil
	}
	file, err := parser.ParseBytes(text, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		at := Position{1, 1}
		message := err.Error()
		var syntax yaml.Error
		if errors.As(err, &syntax) {
			message = syntax.GetMessage()
			if t := syntax.GetToken(); t != nil && t.Position != nil {
				at = Position{t.Position.Line, t.Position.Column}
			}
		}
		p.fault(at, 1, "syntax", "this is not YAML: %s", message)
		return nil
	}
	var body ast.Node
	for _, doc := range file.Docs {
		if doc.Body == nil {
			continue
		}
		if body != nil {
			p.at(doc.Body, "syntax", "a second YAML document; a policy is one document")
			return nil
		}
		body = doc.Body
	}
	if body == nil {
		p.fault(Position{1, 1}, 1, "missing-key", "the policy is empty; it needs at least the key doors")
		return nil
	}
	p.book = &Book{
		Prefix:   "/door",
		Site:     "This site",
		Sessions: Sessions{Idle: 30 * time.Minute, Lifetime: 12 * time.Hour, Remembered: 30 * 24 * time.Hour},
		Unlisted: Door{Written: "unlisted", Admit: Demand{Kind: SignedIn}},
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
			describe(second), describe(first), first.Line, first.Column)
	}
	if !HasErrors(p.findings) {
		p.checkTargets()
	}
}

func describe(d Door) string {
	s := d.Written
	if !d.Methods.Any() {
		s = d.Methods.String() + " " + s
	}
	if !d.Host.Any() {
		s += " on " + d.Host.String()
	}
	return s
}

// readable refuses what would cost the YAML parser more than a policy is worth.
func (p *reader) readable(text []byte) bool {
	if len(text) > MaxSize {
		p.fault(Position{1, 1}, 1, "too-large", "the file has %d bytes; a policy has at most %d", len(text), MaxSize)
		return false
	}
	line, column, depth, dashes, indent := 1, 0, 0, 0, true
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRune(text[i:])
		column++
		switch {
		case r == utf8.RuneError && size <= 1:
			p.fault(Position{line, column}, 1, "syntax", "this is not text in UTF-8 (byte 0x%02x)", text[i])
			return false
		case r == '\n':
			line, column, dashes, indent = line+1, 0, 0, true
		case r < 0x20 && r != '\t' && r != '\r' || r == 0x7f:
			p.fault(Position{line, column}, 1, "syntax", "a control character (U+%04X) does not belong in a policy", r)
			return false
		case r == '[' || r == '{':
			depth++
		case r == ']' || r == '}':
			depth = max(0, depth-1)
		case indent && r == '-':
			dashes++
		}
		if indent && r != '-' && r != ' ' && r != '\n' && r != '?' {
			indent = false
		}
		if depth > maxDepth || dashes > maxDepth || indent && column > 40*maxDepth {
			p.fault(Position{line, column}, 1, "too-deep", "lists and mappings are nested more than %d deep", maxDepth)
			return false
		}
		i += size
	}
	return true
}

// A field is one key of a mapping with its value.
type field struct {
	name  string
	key   ast.Node
	value ast.Node
}

// fields returns the entries of a mapping. Unknown and repeated keys are errors; known
// nil allows any key.
func (p *reader) fields(n ast.Node, what string, known []string) []field {
	var values []*ast.MappingValueNode
	switch n := n.(type) {
	case *ast.MappingNode:
		values = n.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{n}
	default:
		p.at(n, "bad-value", "%s is a mapping (key: value), but this is %s", what, kindOf(n))
		return nil
	}
	var fields []field
	first := map[string]Position{}
	for _, v := range values {
		key, ok := v.Key.(ast.Node).(*ast.StringNode)
		if !ok {
			p.at(v.Key, "bad-value", "a key in %s is a plain word, but this is %s", what, kindOf(v.Key))
			continue
		}
		name := key.Value
		if known != nil && !slices.Contains(known, name) {
			p.at(key, "unknown-key", "unknown key %q in %s%s", name, what, didYouMean(name, known))
			continue
		}
		if at, repeated := first[name]; repeated {
			p.at(key, "repeated-key", "the key %q stands a second time in %s; the first is in line %d", name, what, at.Line)
			continue
		}
		first[name] = position(key)
		if p.plainYAML(v.Value) {
			fields = append(fields, field{name, key, v.Value})
		}
	}
	return fields
}

// plainYAML refuses anchors, aliases, tags and merge keys, which a policy does not need
// and behind which one text can stand for another.
func (p *reader) plainYAML(n ast.Node) bool {
	switch n.(type) {
	case *ast.AnchorNode, *ast.AliasNode, *ast.TagNode, *ast.MergeKeyNode:
		p.at(n, "bad-value", "%s is not used in a policy; write the value out", kindOf(n))
		return false
	}
	return true
}

func isMapping(n ast.Node) bool {
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return true
	}
	return false
}

func kindOf(n ast.Node) string {
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a mapping"
	case *ast.SequenceNode:
		return "a list"
	case *ast.NullNode:
		return "empty"
	case *ast.BoolNode:
		return "true or false"
	case *ast.IntegerNode, *ast.FloatNode, *ast.InfinityNode, *ast.NanNode:
		return "a number"
	case *ast.AnchorNode:
		return "an anchor (&)"
	case *ast.AliasNode:
		return "an alias (*)"
	case *ast.TagNode:
		return "a tag (!)"
	case *ast.MergeKeyNode:
		return "a merge key (<<)"
	}
	return "text"
}

// text returns the value of a node that is text. Empty text is an error.
func (p *reader) text(n ast.Node, what string) (string, bool) {
	var value string
	switch n := n.(type) {
	case *ast.StringNode:
		value = n.Value
	case *ast.LiteralNode:
		value = n.Value.Value
	case *ast.BoolNode, *ast.IntegerNode, *ast.FloatNode, *ast.InfinityNode, *ast.NanNode:
		p.at(n, "bad-value", "%s is text, but this is %s; put it in quotes", what, kindOf(n))
		return "", false
	default:
		p.at(n, "bad-value", "%s is text, but this is %s", what, kindOf(n))
		return "", false
	}
	if strings.TrimSpace(value) == "" {
		p.at(n, "bad-value", "%s is empty", what)
		return "", false
	}
	return value, true
}

// list returns the elements of a list. An empty list is an error.
func (p *reader) list(n ast.Node, what string) []ast.Node {
	seq, ok := n.(*ast.SequenceNode)
	if !ok {
		p.at(n, "bad-value", "%s is a list, but this is %s", what, kindOf(n))
		return nil
	}
	if len(seq.Values) == 0 {
		p.at(n, "bad-value", "%s is an empty list", what)
		return nil
	}
	var values []ast.Node
	for _, v := range seq.Values {
		if p.plainYAML(v) {
			values = append(values, v)
		}
	}
	return values
}

// texts returns the elements of a list of text, or the one text that stands for such a
// list.
func (p *reader) texts(n ast.Node, what string) (values []string, nodes []ast.Node) {
	elements := []ast.Node{n}
	if _, ok := n.(*ast.SequenceNode); ok {
		elements = p.list(n, what)
	}
	for _, e := range elements {
		value, ok := p.text(e, what)
		if !ok {
			continue
		}
		if slices.Contains(values, value) {
			p.at(e, "bad-value", "%q stands twice in this list", value)
			continue
		}
		values, nodes = append(values, value), append(nodes, e)
	}
	return values, nodes
}

var policyKeys = []string{"site", "prefix", "case", "semicolons", "roles", "keyrings", "sources", "unlisted", "doors", "landings", "sessions"}

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
				if len(b.Doors) > maxDoors {
					p.at(n, "too-large", "more than %d doors", maxDoors)
					return
				}
			}
		case "landings":
			p.landings(f.value)
		case "sessions":
			for _, s := range p.fields(f.value, "sessions", []string{"idle", "lifetime", "remembered"}) {
				d, ok := p.duration(s.value, s.name)
				if !ok {
					continue
				}
				switch s.name {
				case "idle":
					b.Sessions.Idle = d
				case "lifetime":
					b.Sessions.Lifetime = d
				case "remembered":
					b.Sessions.Remembered = d
				}
			}
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
			p.at(use.at, "unknown-keyring", "unknown keyring %q%s; keyrings are declared under the key keyrings", use.name, strings.TrimSuffix(didYouMean(use.name, rings), "?"))
		}
	}
	b.Unlisted.ways, _ = b.Unlisted.Admit.ways()
}

func didYouMeanRole(name string, known []string) string {
	if len(known) == 1 { // only the built-in one: none is declared
		return "; roles are declared under the key roles"
	}
	return didYouMean(name, known)
}

// word returns the value of a node that is one of a few words.
func (p *reader) word(n ast.Node, what string, words ...string) string {
	s, ok := p.text(n, what)
	if !ok {
		return ""
	}
	if !slices.Contains(words, s) {
		p.at(n, "bad-value", "%s is %s, not %q", what, orList(words), s)
		return ""
	}
	return s
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

// name checks a name that is used in the notation of visitors and on command lines.
func (p *reader) name(n ast.Node, what, s string) bool {
	if !validName(s) {
		p.at(n, "bad-value", "%s %q: a name has 1 to 64 letters, digits, - or _", what, s)
		return false
	}
	return true
}

func validName(s string) bool {
	if s == "" || len(s) > 64 {
		return false
	}
	for _, c := range s {
		if !('a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || c == '-' || c == '_') {
			return false
		}
	}
	return true
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
		r := RoleEntry{Name: f.name, Position: position(f.key)}
		if _, empty := f.value.(*ast.NullNode); !empty {
			for _, inner := range p.fields(f.value, "role "+f.name, []string{"includes"}) {
				names, nodes := p.texts(inner.value, "includes")
				for i := range names {
					p.roleUses = append(p.roleUses, roleUse{names[i], nodes[i]})
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
		k := KeyringEntry{Name: f.name, Realm: f.name, Position: position(f.key)}
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

func (p *reader) sources(n ast.Node) {
	for _, entry := range p.list(n, "sources") {
		s := Source{Path: "/", Position: position(entry)}
		for _, f := range p.fields(entry, "a source", []string{"path", "host", "files", "proxy"}) {
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
					p.at(f.value, "bad-value", "proxy is the address of a server, such as http://127.0.0.1:8461, not %q", text)
				}
			}
		}
		if (s.Files == "") == (s.Proxy == "") {
			p.at(entry, "missing-key", "a source has either files: DIRECTORY or proxy: ADDRESS")
			continue
		}
		for _, other := range p.book.Sources {
			if other.Path == s.Path && other.Host == s.Host {
				p.at(entry, "duplicate-source", "two sources at %s; the other is in line %d", s.Path, other.Line)
			}
		}
		p.book.Sources = append(p.book.Sources, s)
	}
}

// The address of a server, as the schema of the policy file has it too.
const proxyPattern = `^https?://(?:[A-Za-z0-9._-]+|\[[0-9A-Fa-f:.]+\])(?::[0-9]{1,5})?/?$`

var proxyAddress = regexp.MustCompile(proxyPattern)

func (p *reader) host(n ast.Node, text string) place.Host {
	h, err := place.ParseHost(text)
	if err != nil {
		p.at(n, "bad-pattern", "%v", err)
	}
	return h
}

var doorKeys = []string{"path", "host", "methods", "admit", "ask", "realm", "otherwise"}

func (p *reader) door(entry ast.Node) {
	door := Door{Entry: position(entry).Line}
	var paths []string
	var nodes []ast.Node
	hasPath, hasAdmit := false, false
	before := len(p.findings)
	var realm ast.Node
	fields := p.fields(entry, "a door", doorKeys)
	keysKnown := len(p.findings) == before // else a key that is missing may be a misspelt one
	for _, f := range fields {
		switch f.name {
		case "path":
			hasPath = true
			paths, nodes = p.texts(f.value, "path")
		case "host":
			if text, ok := p.text(f.value, "host"); ok {
				door.Host = p.host(f.value, text)
			}
		case "methods":
			names, at := p.texts(f.value, "methods")
			for i, name := range names {
				if _, err := place.ParseMethods(name); err != nil {
					p.at(at[i], "bad-value", "%v", err)
				}
			}
			door.Methods, _ = place.ParseMethods(names...)
		case "admit":
			hasAdmit = true
			door.Admit = p.demand(f.value, 0)
		case "ask":
			door.Basic = p.word(f.value, "ask", "form", "basic") == "basic"
		case "realm":
			realm = f.key
			if s, ok := p.text(f.value, "realm"); ok {
				door.Realm = s
			}
		case "otherwise":
			door.Otherwise = p.otherwise(f.value)
		}
	}
	if !isMapping(entry) {
		return
	}
	if !hasPath && keysKnown {
		p.at(entry, "missing-key", "a door has a path")
	}
	if !hasAdmit && keysKnown {
		p.at(entry, "missing-key", "a door says whom to admit: public, signed-in, nobody, { role: NAME }, ...")
	}
	if realm != nil && !door.Basic {
		p.at(realm, "bad-value", "realm goes with ask: basic")
	}
	if door.Basic && door.Realm == "" {
		door.Realm = p.book.Site
	}
	ways, err := door.Admit.ways()
	if err != nil {
		p.at(entry, "too-entangled", "%v", err)
	}
	door.ways = ways
	whole := len(p.findings) == before
	for i, text := range paths {
		pattern, err := place.ParsePattern(text, p.book.Rules)
		if err != nil {
			p.at(nodes[i], "bad-pattern", "path %q: %v", text, err)
			continue
		}
		one := door
		one.Path, one.Written, one.Position = pattern, text, position(nodes[i])
		if own, err := place.ParsePattern(p.book.Prefix+"/**", p.book.Rules); err == nil && (place.Set{Path: pattern}).Within(place.Set{Path: own}) {
			p.at(nodes[i], "own-pages", "%s is where Ostiarius's own pages live; they have built-in doors (prefix: moves them)", text)
			continue
		}
		if strings.Contains(text, ";") && !p.book.Rules.Semicolons {
			p.warn(one.Position, utf8.RuneCountInString(text), "semicolon", "no place has a semicolon unless the policy says semicolons: allowed; this door covers nothing")
		}
		if whole {
			p.book.Doors = append(p.book.Doors, one)
		}
	}
}

var demandKeys = []string{"role", "user", "shared", "pass", "keyring", "network", "proof-within", "any", "all"}

func (p *reader) demand(n ast.Node, depth int) Demand {
	none := Demand{Kind: Nobody}
	if depth > 8 {
		p.at(n, "too-deep", "any and all are nested more than 8 deep")
		return none
	}
	if _, ok := n.(*ast.StringNode); ok {
		s, _ := p.text(n, "a demand")
		switch Kind(s) {
		case Public, SignedIn, Nobody:
			return Demand{Kind: Kind(s)}
		}
		words := []string{"public", "signed-in", "nobody"}
		hint := didYouMean(s, words)
		if slices.Contains(p.book.RoleNames(), s) {
			hint = fmt.Sprintf("; did you mean { role: %s }?", s)
		}
		p.at(n, "bad-value", "%q is no demand%s", s, hint)
		return none
	}
	before := len(p.findings)
	fields := p.fields(n, "a demand", demandKeys)
	var parts []Demand
	for _, f := range fields {
		d := Demand{Kind: Kind(f.name)}
		switch d.Kind {
		case ProofWithin:
			var ok bool
			if d.Within, ok = p.duration(f.value, f.name); ok && d.Within == 0 {
				p.at(f.value, "bad-value", "proof-within: 0 would ask again for each request; write a time such as 10m")
			}
		case Any, All:
			for _, part := range p.list(f.value, f.name) {
				d.Parts = append(d.Parts, p.demand(part, depth+1))
			}
		case Network:
			names, nodes := p.texts(f.value, f.name)
			for i, name := range names {
				if !network.MatchString(name) {
					p.at(nodes[i], "bad-value", "%q is no network; write one like 192.0.2.0/24 or 2001:db8::/32", name)
					continue
				}
				prefix, err := parseNetwork(name)
				if err != nil {
					p.at(nodes[i], "bad-network", "%v", err)
					continue
				}
				d.Nets = append(d.Nets, prefix)
			}
		default:
			names, nodes := p.texts(f.value, f.name)
			for i, name := range names {
				if d.Kind != User && !p.name(nodes[i], f.name, name) {
					continue
				}
				if d.Kind == User {
					var ok bool
					if name, ok = p.user(nodes[i], name); !ok {
						continue
					}
				}
				switch d.Kind {
				case Role:
					p.roleUses = append(p.roleUses, roleUse{name, nodes[i]})
				case Keyring:
					p.ringUses = append(p.ringUses, roleUse{name, nodes[i]})
				}
				d.Names = append(d.Names, name)
			}
		}
		parts = append(parts, d)
	}
	switch len(parts) {
	case 0:
		if len(p.findings) == before {
			p.at(n, "bad-value", "an empty demand; write public if everybody may come in")
		}
		return none
	case 1:
		return parts[0]
	}
	return Demand{Kind: All, Parts: parts}
}

// The characters of an account's name, as the schema of the policy file has them too.
var userName = regexp.MustCompile(userPattern)

const userPattern = `^[^\s/\\?#%;:,+]{1,200}$`

// user returns the name of an account in the form in which names are compared.
func (p *reader) user(n ast.Node, name string) (string, bool) {
	if !userName.MatchString(name) {
		p.at(n, "bad-value", "user %q: a name has 1 to 200 characters, no spaces and none of / \\ ? # %% ; : , +", name)
		return "", false
	}
	key, err := account.Key(name)
	if err != nil {
		p.at(n, "impossible-name", "no account can have this name: %v", err)
		return "", false
	}
	return key, true
}

var network = regexp.MustCompile(networkPattern)

// parseNetwork reads a network in CIDR notation (RFC 4632, RFC 4291), or one address.
func parseNetwork(s string) (netip.Prefix, error) {
	if address, err := netip.ParseAddr(s); err == nil && address.Zone() == "" {
		address = address.Unmap()
		return netip.PrefixFrom(address, address.BitLen()), nil
	}
	prefix, err := netip.ParsePrefix(s)
	if err != nil || prefix.Addr().Is4In6() {
		return netip.Prefix{}, fmt.Errorf("%q is no network; write one like 192.0.2.0/24 or 2001:db8::/32", s)
	}
	if prefix != prefix.Masked() {
		return netip.Prefix{}, fmt.Errorf("%q has bits beyond its length; did you mean %s?", s, prefix.Masked())
	}
	return prefix, nil
}

func (p *reader) duration(n ast.Node, what string) (time.Duration, bool) {
	if i, ok := n.(*ast.IntegerNode); ok {
		if t := i.GetToken(); t.Value == "0" {
			return 0, true
		}
		p.at(n, "bad-value", "%s is a time with its unit, such as 10m or 30d", what)
		return 0, false
	}
	if t := n.GetToken(); t != nil && t.Type == token.StringType || isText(n) {
		s, ok := p.text(n, what)
		if !ok {
			return 0, false
		}
		d, err := ParseDuration(s)
		if err != nil {
			p.at(n, "bad-value", "%s: %v", what, err)
			return 0, false
		}
		return d, true
	}
	p.at(n, "bad-value", "%s is a time such as 10m or 30d, but this is %s", what, kindOf(n))
	return 0, false
}

func isText(n ast.Node) bool {
	_, ok := n.(*ast.StringNode)
	return ok
}

func (p *reader) otherwise(n ast.Node) Otherwise {
	if isText(n) {
		hide := Instead{Hide: p.word(n, "otherwise", "hide") == "hide", Position: position(n)}
		return Otherwise{Anonymous: hide, Refused: hide}
	}
	var o Otherwise
	before := len(p.findings)
	fields := p.fields(n, "otherwise", []string{"anonymous", "refused"})
	for _, f := range fields {
		switch f.name {
		case "anonymous":
			o.Anonymous = p.instead(f.value, f.name)
		case "refused":
			o.Refused = p.instead(f.value, f.name)
		}
	}
	if len(fields) == 0 && len(p.findings) == before {
		p.at(n, "bad-value", "otherwise says what happens to anonymous or to refused visitors")
	}
	return o
}

func (p *reader) instead(n ast.Node, what string) Instead {
	at := position(n)
	if isText(n) {
		return Instead{Hide: p.word(n, what, "hide") == "hide", Position: at}
	}
	var i Instead
	before := len(p.findings)
	fields := p.fields(n, what, []string{"go", "say"})
	for _, f := range fields {
		switch f.name {
		case "go":
			i.Go = p.target(f.value)
			at = position(f.value)
		case "say":
			i.Say, _ = p.text(f.value, "say")
		}
	}
	if len(fields) != 1 && len(p.findings) == before {
		p.at(n, "bad-value", "%s is one of: hide, { go: PATH }, { say: TEXT }", what)
	}
	i.Position = at
	return i
}

// The query of an address that people are sent to.
var goQuery = regexp.MustCompile(`^(?:[A-Za-z0-9._~!$&'()*+,;=:@/?-]|%[0-9A-Fa-f]{2})*$`)

// target reads an address on this site that people are sent to: a path, written as
// people read it, and perhaps a query. It returns the address as it stands in a link.
func (p *reader) target(n ast.Node) string {
	s, ok := p.text(n, "go")
	if !ok {
		return ""
	}
	path, query, hasQuery := strings.Cut(s, "?")
	pattern, err := place.ParsePattern(path, p.book.Rules)
	switch {
	case err != nil:
		p.at(n, "bad-value", "go %q: %v; it is a path on this site, such as /rota/", s, err)
		return ""
	case !pattern.Literal() || strings.Contains(path, ";"):
		p.at(n, "bad-value", "go %q: it is one path on this site, such as /rota/, without * or ;", s)
		return ""
	case !goQuery.MatchString(query):
		p.at(n, "bad-value", "go %q: the query has characters that are percent-encoded in a link", s)
		return ""
	}
	address := escape(place.Place{Path: pattern.String(), Slash: strings.HasSuffix(path, "/")})
	if hasQuery {
		address += "?" + query
	}
	return address
}

func (p *reader) landings(n ast.Node) {
	for _, f := range p.fields(n, "landings", []string{"sign-in", "sign-out", "join", "password-change"}) {
		var lines []Landing
		for _, entry := range p.list(f.value, f.name) {
			l := Landing{Position: position(entry)}
			before := len(p.findings)
			for _, k := range p.fields(entry, "a landing", []string{"role", "user", "go"}) {
				switch k.name {
				case "role":
					if s, ok := p.text(k.value, "role"); ok {
						l.Role = s
						p.roleUses = append(p.roleUses, roleUse{s, k.value})
					}
				case "user":
					if s, ok := p.text(k.value, "user"); ok {
						l.User, _ = p.user(k.value, s)
					}
				case "go":
					l.Go = p.target(k.value)
					l.Position = position(k.value)
				}
			}
			if l.Go == "" && len(p.findings) == before {
				p.at(entry, "missing-key", "a landing says where to go")
			}
			lines = append(lines, l)
		}
		switch f.name {
		case "sign-in":
			p.book.Landings.SignIn = lines
		case "sign-out":
			p.book.Landings.SignOut = lines
		case "join":
			p.book.Landings.Join = lines
		case "password-change":
			p.book.Landings.PasswordChange = lines
		}
	}
}
