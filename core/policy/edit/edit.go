// Package edit changes the text of a policy file: one thing, where it stands, and nothing else. The result is read again and compared.
package edit

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

// An Edit changes one thing of the text of a policy. Every byte that it does not concern stays as it is:
// comments, blank lines, quotes, the order of keys, the ends of lines. What is new takes the style of what
// stands beside it.
//
// The rule that makes this safe: nothing is believed of the text that was made. It is read again, and if what
// it says is not what was said before with the one change, the edit is refused and the text stays.
type Edit interface {
	apply(e *editor) error
	// wanted says all that the policy must say afterwards, see told.
	wanted(before *policy.Book) map[string]string
}

// Unsafe is the error for an edit that cannot be made without rewriting what somebody wrote.
type Unsafe struct {
	File string
	document.Position
	Why string
}

func (u *Unsafe) Error() string {
	return fmt.Sprintf("%s:%d:%d: this cannot be edited without rewriting it: %s; change it in the file", u.File, u.Line, u.Column, u.Why)
}

// ErrNoDoor says that there is no door for just these places.
var ErrNoDoor = errors.New("there is no such door")

// ErrLastDoor says that a policy has at least one door.
var ErrLastDoor = errors.New("it is the last door, and a policy has at least one; say in its place who may come in")

// Edited is a text after an edit, and its Book.
type Edited struct {
	Text []byte
	Book *policy.Book
	// Findings are the warnings of the text; none if it stayed as it was.
	Findings []document.Finding
}

// Apply makes edits in the text of a policy, one after the other, all or none. The name is used in errors
// only. The error is *Unsafe, ErrNoDoor, ErrLastDoor, or says why the text, or what would become of it, cannot
// be read.
func Apply(file string, text []byte, edits ...Edit) (*Edited, error) {
	book, findings := read.Parse(file, text)
	if book == nil {
		return nil, unreadable(file, findings)
	}
	return ApplyTo(book, file, text, edits...)
}

// ApplyTo is Apply for a text of which the Book is known. If it is another text's, the edit is refused.
func ApplyTo(book *policy.Book, file string, text []byte, edits ...Edit) (*Edited, error) {
	windows := bytes.Contains(text, []byte("\r\n"))
	if windows {
		if bytes.Count(text, []byte("\r\n")) != bytes.Count(text, []byte("\n")) {
			return nil, &Unsafe{file, document.Position{Line: 1, Column: 1}, "its lines end in two ways"}
		}
		text = bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
	}
	done := &Edited{Text: text, Book: book}
	for _, edit := range edits {
		e := &editor{file: file, text: done.Text, book: done.Book}
		if err := e.open(); err != nil {
			return nil, err
		}
		if err := edit.apply(e); err != nil {
			return nil, err
		}
		next := e.result()
		if string(next) == string(done.Text) {
			continue
		}
		book, findings := read.Parse(file, next)
		if book == nil {
			return nil, unreadable(file, findings)
		}
		if !sameTold(toldBy(book), edit.wanted(done.Book)) {
			return nil, &Unsafe{file, document.Position{Line: 1, Column: 1}, "afterwards the policy would not say what it is to say"}
		}
		done = &Edited{next, book, findings}
	}
	if windows {
		done.Text = bytes.ReplaceAll(done.Text, []byte("\n"), []byte("\r\n"))
	}
	return done, nil
}

func unreadable(file string, findings []document.Finding) error {
	for _, f := range findings {
		if f.Severity == document.SeverityError {
			return fmt.Errorf("%s:%d:%d: %s", file, f.Line, f.Column, f.Message)
		}
	}
	return fmt.Errorf("%s cannot be read", file)
}

// toldBy says what a policy says: what all doors do, by what they cover, and all else, by where it stands.
func toldBy(b *policy.Book) map[string]string {
	told := map[string]string{policy.DescribeSet(&b.Unlisted): b.UnlistedWord()}
	for i := range b.Doors {
		d := &b.Doors[i]
		told[policy.DescribeSet(d)] = d.Whole()
	}
	// No door is described so: there is a colon in front.
	for i := range b.Checks {
		c := &b.Checks[i]
		told[fmt.Sprint(":check ", c.Check, " ", i)] = policy.DescribeSet(c) + " " + c.Admit.String()
	}
	told[":site"] = fmt.Sprint(b.Site, b.Prefix, b.Rules, b.Sessions, b.Headers)
	for _, r := range b.Roles {
		told[":role "+r.Name] = strings.Join(r.Includes, " ")
	}
	for _, k := range b.Keyrings {
		told[":keyring "+k.Name] = k.Realm
	}
	for _, d := range b.Shared {
		told[":shared "+d.Name] = toldShared(d)
	}
	for _, d := range b.Passes {
		told[":pass "+d.Name] = toldPass(d)
	}
	for i, s := range b.Sources {
		s.Position = document.Position{}
		told[fmt.Sprint(":source ", i)] = fmt.Sprintf("%+v", s)
	}
	for i, s := range b.SessionsOf {
		told[fmt.Sprint(":sessions ", i)] = fmt.Sprintf("%+v", s)
	}
	for _, word := range policy.LandingWords {
		for i, l := range *b.Landings.On(word) {
			told[fmt.Sprint(":landing ", word, i)] = fmt.Sprintf("%q %q %q", l.Role, l.User, l.Go)
		}
	}
	j := b.Joining
	j.Position = document.Position{}
	told[":looks"] = fmt.Sprintf("%q %q %q %q %v %v", b.Looks.Scheme, b.Looks.Logo, b.Looks.Favicon, b.Looks.Style, b.Looks.InLight(),
		b.Looks.InDark())
	pages := b.Pages
	pages.Position = document.Position{}
	told[":pages"] = fmt.Sprintf("%q %+v", b.Entrance, pages)
	for _, item := range b.Items {
		item.Position = document.Position{}
		told[":item "+item.Name] = fmt.Sprintf("%+v", item)
	}
	for _, o := range b.Offers {
		o.Position = document.Position{}
		told[":offer "+o.Name] = fmt.Sprintf("%+v", o)
	}
	told[":sale"] = fmt.Sprint(b.Shops, b.Reminders, b.Events.Fields)
	told[":words"] = fmt.Sprint(b.WordsFile, b.Words)
	for _, d := range b.Elsewhere {
		told[":elsewhere "+d.Name] = fmt.Sprintf("%q %v %v %v %+v", d.Told(), d.Joins, d.TrustsAddress, d.Here, d.Grants)
	}
	f := b.Factors
	f.Position = document.Position{}
	told[":factors"] = fmt.Sprintf("%+v", f)
	told[":joining"] = fmt.Sprintf("%+v", j)
	for i := range b.Guarantees {
		g := &b.Guarantees[i]
		told[fmt.Sprint(":guarantee ", i)] = fmt.Sprintf("%s %s %q", policy.DescribeSet(&policy.Door{Set: g.Set}), g.Says(), g.Because)
	}
	return told
}

func sameTold(a, b map[string]string) bool {
	if len(a) != len(b) {
		return false
	}
	for door, says := range a {
		if other, there := b[door]; !there || other != says {
			return false
		}
	}
	return true
}

// SetDoor makes the door for just these places say this, and no more; if there is none, it is added.
type SetDoor struct {
	Set       place.Set
	Written   string // the path as it is to stand in the policy
	Admit     policy.Demand
	Basic     bool
	Realm     string // with Basic; "" for the name of the site
	Otherwise policy.Otherwise
	// Because is said behind the door, if it is a new one that stands in lines of its own; "" for nothing.
	Because string
}

// NewDoor reads what a door covers: a path, a host or "" for any, methods or none for any. The error says
// what is wrong with them.
func NewDoor(book *policy.Book, path, host string, methods ...string) (SetDoor, error) {
	var s SetDoor
	var err error
	if s.Set.Path, err = place.ParsePattern(path, book.Rules); err != nil {
		return s, fmt.Errorf("path %q: %w", path, err)
	}
	if host != "" {
		if s.Set.Host, err = place.ParseHost(host); err != nil {
			return s, err
		}
	}
	if s.Set.Methods, err = place.ParseMethods(methods...); err != nil {
		return s, err
	}
	s.Written = path
	return s, nil
}

func (s *SetDoor) door(book *policy.Book) policy.Door {
	d := policy.Door{Set: s.Set, Written: s.Written, Admit: s.Admit, Basic: s.Basic, Realm: s.Realm, Otherwise: s.Otherwise}
	if d.Basic && d.Realm == "" {
		d.Realm = book.Site
	}
	return d
}

func (s SetDoor) wanted(before *policy.Book) map[string]string {
	doors, d := toldBy(before), s.door(before)
	doors[policy.DescribeSet(&d)] = d.Whole()
	return doors
}

func (s SetDoor) apply(e *editor) error {
	want := s.door(e.book)
	if err := e.known(want.Admit); err != nil {
		return err
	}
	entry, at := e.find(&want)
	if entry == nil {
		e.because = s.Because
		return e.add(&want, nil)
	}
	if entry.doors[at].Whole() == want.Whole() {
		return nil
	}
	if len(entry.doors) > 1 {
		if err := e.takePath(entry, at); err != nil {
			return err
		}
		want.ForwardCredentials = entry.doors[at].ForwardCredentials // what is not asked for stays
		return e.add(&want, entry)
	}
	return e.change(entry, &want)
}

// known says if a demand names something that the policy does not declare.
func (e *editor) known(d policy.Demand) error {
	for _, part := range d.Parts {
		if err := e.known(part); err != nil {
			return err
		}
	}
	for _, name := range d.Names {
		if err := policy.Undeclared(e.book, d.Kind, name); err != nil {
			return err
		}
	}
	return nil
}

// RemoveDoor removes the door for just these places.
type RemoveDoor struct{ Set place.Set }

func (r RemoveDoor) wanted(before *policy.Book) map[string]string {
	doors := toldBy(before)
	delete(doors, policy.DescribeSet(&policy.Door{Set: r.Set}))
	return doors
}

func (r RemoveDoor) apply(e *editor) error {
	entry, at := e.find(&policy.Door{Set: r.Set})
	if entry == nil {
		return ErrNoDoor
	}
	if len(entry.doors) > 1 {
		return e.takePath(entry, at)
	}
	if len(e.doors.entries) == 1 {
		return ErrLastDoor
	}
	return e.doors.removeEntry(entry)
}

// SetUnlisted says what happens at places that no door covers: "public", "signed-in", "refuse" or "hide".
type SetUnlisted struct{ Word string }

func (s SetUnlisted) wanted(before *policy.Book) map[string]string {
	doors := toldBy(before)
	doors[policy.DescribeSet(&policy.Door{})] = s.Word
	return doors
}

func (s SetUnlisted) apply(e *editor) error {
	if !slices.Contains([]string{"public", "signed-in", "refuse", "hide"}, s.Word) {
		return fmt.Errorf("unlisted is public, signed-in, refuse or hide, not %q", s.Word)
	}
	if f := e.key("unlisted"); f != nil {
		return e.setValue(f, s.Word)
	}
	if e.book.UnlistedWord() == s.Word {
		return nil
	}
	return e.before("doors", "unlisted: "+s.Word)
}

// DeclareRole adds a role, if the policy does not have it.
type DeclareRole struct {
	Name     string
	Includes []string
}

func (d DeclareRole) wanted(before *policy.Book) map[string]string {
	told := toldBy(before)
	if !before.KnownRole(d.Name) {
		told[":role "+d.Name] = strings.Join(d.Includes, " ")
	}
	return told
}

func (d DeclareRole) apply(e *editor) error {
	if !document.ValidName(d.Name) {
		return fmt.Errorf("role %q: a name has 1 to 64 letters, digits, - or _", d.Name)
	}
	if e.book.KnownRole(d.Name) {
		return nil
	}
	value := ""
	if len(d.Includes) > 0 {
		value = "{ includes: [" + strings.Join(document.Scalars(d.Includes), ", ") + "] }"
	}
	return e.declare("roles", d.Name, value)
}

// DeclareKeyring adds a keyring, if the policy does not have it.
type DeclareKeyring struct{ Name, Realm string }

func (d DeclareKeyring) wanted(before *policy.Book) map[string]string {
	told := toldBy(before)
	if _, there := told[":keyring "+d.Name]; !there {
		told[":keyring "+d.Name] = cmp.Or(d.Realm, d.Name)
	}
	return told
}

func (d DeclareKeyring) apply(e *editor) error {
	if !document.ValidName(d.Name) {
		return fmt.Errorf("keyring %q: a name has 1 to 64 letters, digits, - or _", d.Name)
	}
	if slices.ContainsFunc(e.book.Keyrings, func(k policy.DeclaredKeyring) bool { return k.Name == d.Name }) {
		return nil
	}
	value := ""
	if d.Realm != "" {
		value = "{ realm: " + document.Scalar(d.Realm) + " }"
	}
	return e.declare("keyrings", d.Name, value)
}

// find returns the entry that has the door for just the places of d, and which of its doors it is; nil
// if there is none.
func (e *editor) find(d *policy.Door) (*entry, int) {
	set := policy.DescribeSet(d)
	for i := range e.doors.entries {
		for at := range e.doors.entries[i].doors {
			if policy.DescribeSet(e.doors.entries[i].doors[at]) == set {
				return &e.doors.entries[i], at
			}
		}
	}
	return nil, 0
}

// add adds a door: to the list of paths of its nearest relation, or of any entry if it has none, if that says
// the same; or as an entry of its own behind it.
func (e *editor) add(d *policy.Door, behind *entry) error {
	if behind != nil {
		return e.doors.addEntry(behind, e.keysOf(d))
	}
	near, related := e.relation(d)
	if at, ok := e.sameList(near, d); ok {
		return e.addPath(near, at, d.Written)
	}
	for i := range e.doors.entries {
		if at, ok := e.sameList(&e.doors.entries[i], d); ok && !related {
			return e.addPath(&e.doors.entries[i], at, d.Written)
		}
	}
	return e.doors.addEntry(near, e.keysOf(d))
}

// relation returns the entry beside which a new door stands: the one that has the most segments of its
// path in common, the last of several; the last of all, which is no relation, if none has any.
func (e *editor) relation(d *policy.Door) (near *entry, related bool) {
	mine := strings.Split(strings.Trim(d.Written, "/"), "/")
	best, most := &e.doors.entries[len(e.doors.entries)-1], 0
	for i := range e.doors.entries {
		for _, other := range e.doors.entries[i].doors {
			common := 0
			for n, segment := range strings.Split(strings.Trim(other.Written, "/"), "/") {
				if n >= len(mine) || mine[n] != segment || segment == "" || segment == "**" {
					break
				}
				common++
			}
			if common > 0 && common >= most {
				best, most = &e.doors.entries[i], common
			}
		}
	}
	return best, most > 0
}

// sameList reports whether an entry has a list of paths whose doors say all that d says, and behind which
// of them d belongs.
func (e *editor) sameList(near *entry, d *policy.Door) (at int, ok bool) {
	path := near.field("path")
	if path == nil {
		return 0, false
	}
	if _, list := path.Value.(*ast.SequenceNode); !list || len(near.doors) < 2 {
		return 0, false
	}
	for i, other := range near.doors {
		if other.Whole() != d.Whole() || other.Host != d.Host || other.Methods.String() != d.Methods.String() {
			return 0, false
		}
		at = i
	}
	return at, true
}
