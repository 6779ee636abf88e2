package passes

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/pass"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/roster"
	"ostiarius/core/secret"
	"ostiarius/core/words"
	"ostiarius/service/base/mistake"
	"ostiarius/store"
)

// A NewPass is a pass as it is asked for.
type NewPass struct {
	Address   string
	Name      string
	Reference string // "" for one that is made
	Note      string
	Until     time.Time // zero for as its kind says
	Downloads int       // 0 for as its kind says
	Paths     []string  // none for all of its kind
	Language  words.Language
	NoMail    bool
}

// An Issued is a pass with its credentials, which are shown this once.
type Issued struct {
	Pass     *pass.Pass
	Link     string // below the address of the site
	Password string
}

// The longest texts of a pass.
const (
	longestText = 200
	mostPaths   = 50
)

// Issue issues a pass of a kind, and has it mailed to its recipient.
func (p *Passes) Issue(ctx context.Context, actor, ofKind string, n NewPass) (Issued, error) {
	d, err := p.kindOf(ofKind)
	if err != nil {
		return Issued{}, err
	}
	issued, err := p.prepare(d, actor, n)
	if err != nil {
		return Issued{}, err
	}
	var mails []message.Message
	if !n.NoMail {
		mails = append(mails, p.issued(message.PassIssued, issued))
	}
	if err := p.o.Store.AddPasses(ctx, []*pass.Pass{issued.Pass}, mails,
		p.event(kind.PassIssued, actor, issued.Pass, issued.Pass.Reference)); err != nil {
		return Issued{}, err
	}
	return issued, nil
}

// prepare makes a pass that is not written down.
func (p *Passes) prepare(d *policy.DeclaredPass, actor string, n NewPass) (Issued, error) {
	now := p.o.Now().UTC().Truncate(time.Millisecond)
	if n.Address == "" {
		return Issued{}, mistake.Invalid("a pass has a recipient; give the address")
	}
	if _, err := account.EmailKey(n.Address); err != nil {
		return Issued{}, mistake.Of(err)
	}
	for what, text := range map[string]string{"name": n.Name, "reference": n.Reference} {
		if len(text) > longestText || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f }) {
			return Issued{}, mistake.Invalid("the %s of a pass is one line of at most %d bytes", what, longestText)
		}
	}
	if err := mistake.Note(n.Note); err != nil {
		return Issued{}, err
	}
	if !n.Until.IsZero() && !n.Until.After(now) {
		return Issued{}, mistake.Invalid("the end, %s, is not in the future", n.Until.Format(time.RFC3339))
	}
	if n.Downloads < 0 {
		return Issued{}, mistake.Invalid("a pass is for one download or more")
	}
	paths, err := p.paths(d, n.Paths)
	if err != nil {
		return Issued{}, err
	}
	is := &pass.Pass{
		ID: pass.NewID(), Kind: d.Name, Reference: n.Reference, Address: n.Address, Name: n.Name, Note: n.Note, Language: n.Language,
		Paths: paths, MadeAt: now, MadeBy: actor,
		Until: n.Until, Allowed: n.Downloads,
	}
	if is.Language == "" {
		is.Language = words.English
	}
	if is.Reference == "" {
		is.Reference = strings.ToUpper(is.ID)
	}
	if is.Allowed == 0 {
		is.Allowed = d.Downloads
	}
	switch {
	case !n.Until.IsZero():
	case d.FirstUse:
		is.Lasts = d.Lasts
	case d.Lasts > 0:
		is.Until = now.Add(d.Lasts)
	}
	return p.give(is, now, 0)
}

// give gives a pass credentials.
func (p *Passes) give(is *pass.Pass, now time.Time, grace time.Duration) (Issued, error) {
	password, hash, err := pass.NewPassword(is.ID)
	if err != nil {
		return Issued{}, err
	}
	token, link := secret.NewToken()
	is.Give(link, hash, now, grace)
	return Issued{is, p.o.Book().Prefix + "/pass?link=" + token, password}, nil
}

// paths reads the paths to which a pass is narrowed: places that a pass of the kind opens.
func (p *Passes) paths(d *policy.DeclaredPass, texts []string) (paths []string, err error) {
	book := p.o.Book()
	if len(texts) > mostPaths {
		return nil, mistake.Invalid("a pass is narrowed to at most %d paths", mostPaths)
	}
	for _, text := range texts {
		path, _, err := place.Canonical(text, book.Rules)
		if err != nil || !strings.HasPrefix(text, "/") {
			return nil, mistake.Invalid("%q is no path of the site", text)
		}
		if !slices.ContainsFunc(book.Deciding(place.Place{Method: "GET", Path: path}),
			func(door *policy.Door) bool { return slices.Contains(door.Passes(), d.Name) }) {
			return nil, mistake.Invalid("no pass of the kind %s opens %s: no door there asks for it", d.Name, path)
		}
		if !slices.Contains(paths, path) {
			paths = append(paths, path)
		}
	}
	return paths, nil
}

// Leads returns where a pass leads, percent-encoded.
func (p *Passes) Leads(is *pass.Pass) string {
	book := p.o.Book()
	if len(is.Paths) > 0 {
		return policy.LinkTo(book, is.Paths[0])
	}
	if d := policy.PassNamed(book, is.Kind); d != nil && d.Go != "" {
		return d.Go
	}
	return policy.Opened(book, policy.Pass, is.Kind)
}

// TitleOf returns what a kind of pass opens, for people.
func (p *Passes) TitleOf(name string) string {
	if d := policy.PassNamed(p.o.Book(), name); d != nil {
		return d.Title
	}
	return name
}

// mail returns a message about a pass to its recipient.
func (p *Passes) mail(of message.Kind, is *pass.Pass, now time.Time) message.Message {
	m := message.New(of, is.Address, "", is.Language, now)
	m.Gaps["name"] = is.Name
	if is.Name == "" {
		m.Gaps["name"] = is.Address
	}
	m.Gaps["title"], m.Gaps["reference"] = p.TitleOf(is.Kind), is.Reference
	return m
}

// issued returns the message that brings the credentials of a pass.
func (p *Passes) issued(of message.Kind, i Issued) message.Message {
	is := i.Pass
	m := p.mail(of, is, is.Since)
	say := p.o.Book().Words
	ends := say.Say(is.Language, "pass.ends-never", nil)
	switch {
	case !is.Until.IsZero():
		ends = say.Say(is.Language, "pass.ends-at", map[string]string{"at": words.Zoned(is.Language, is.Until.Local())})
	case is.Lasts > 0:
		ends = say.Say(is.Language, "pass.ends-after", map[string]string{"time": lasts(say, is.Language, is.Lasts)})
	}
	if is.Allowed > 0 {
		ends += " " + say.Say(is.Language, "pass.for-downloads", map[string]string{"n": strconv.Itoa(is.Allowed - is.Used)})
	}
	m.Gaps["ends"], m.Gaps["user"], m.Gaps["password"], m.Gaps["place"] = ends, is.ID, i.Password, p.Leads(is)
	until := is.Since.Add(message.Lasts)
	if !is.Until.IsZero() && is.Until.Before(until) {
		until = is.Until
	}
	return m.With(i.Link, until)
}

// Letter is what the recipient of a pass is told, for somebody to send by another way.
func (p *Passes) Letter(i Issued) message.Message { return p.issued(message.PassIssued, i) }

// lasts says how long something lasts.
func lasts(say words.Set, in words.Language, d time.Duration) string {
	if d < 48*time.Hour {
		return say.Say(in, "common.hours", map[string]string{"n": strconv.Itoa(int(d.Hours()))})
	}
	return say.Say(in, "common.days", map[string]string{"n": strconv.Itoa(int(d.Hours() / 24))})
}

// Import issues the passes of a list. Lines that cannot be taken are told and left out, and those whose recipient has
// such a pass already, of the same reference or if none is said; the others are issued, all or none. With dry, it
// only says what would happen.
func (p *Passes) Import(ctx context.Context, actor, ofKind, list string, zone *time.Location, as NewPass, dry bool) ([]roster.Done,
	[]Issued, error) {
	d, err := p.kindOf(ofKind)
	if err != nil {
		return nil, nil, err
	}
	entries, err := pass.ReadList(list, zone)
	if err != nil {
		return nil, nil, mistake.Of(err)
	}
	var done []roster.Done
	var all []Issued
	var mails []message.Message
	first := map[string]int{}
	for _, e := range entries {
		result := roster.Done{Line: e.Line, Name: e.Address, Action: "add", Detail: e.Reference}
		fail := func(err error) {
			done = append(done, roster.Done{Line: e.Line, Name: e.Address, Action: "error", Detail: err.Error()})
		}
		if e.Err != nil {
			fail(e.Err)
			continue
		}
		key := account.Fold(e.Address) + "\n" + e.Reference
		if line, twice := first[key]; twice {
			fail(fmt.Errorf("the same stands in line %d already, which counts", line))
			continue
		}
		first[key] = e.Line
		has, err := p.has(ctx, d.Name, e)
		if err != nil {
			return nil, nil, err
		}
		if has != "" {
			result.Action, result.Detail = "same", "has the pass "+has+" already"
			done = append(done, result)
			continue
		}
		n := as
		n.Address, n.Name, n.Reference, n.Note, n.Paths = e.Address, e.Name, e.Reference, e.Note, e.Paths
		if !e.Until.IsZero() {
			n.Until = e.Until
		}
		if e.Downloads > 0 {
			n.Downloads = e.Downloads
		}
		issued, err := p.prepare(d, actor, n)
		var wrong *mistake.Error
		if errors.As(err, &wrong) {
			fail(err)
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		done = append(done, result)
		all = append(all, issued)
		if !n.NoMail {
			mails = append(mails, p.issued(message.PassIssued, issued))
		}
	}
	if dry || len(all) == 0 {
		return done, nil, nil
	}
	passes := make([]*pass.Pass, len(all))
	for i := range all {
		passes[i] = all[i].Pass
	}
	e := store.Activity{
		At: p.o.Now(), Kind: kind.PassIssued, AccountID: store.NoAccount, Actor: actor,
		Detail: fmt.Sprintf("%d of the kind %s from a list", len(all), d.Name),
	}
	if err := p.o.Store.AddPasses(ctx, passes, mails, e); err != nil {
		return nil, nil, err
	}
	return done, all, nil
}

// has returns which pass the recipient of an entry has of a kind already, "" for none.
func (p *Passes) has(ctx context.Context, ofKind string, e pass.Entry) (string, error) {
	known, err := p.o.Store.PassesFor(ctx, ofKind, e.Address)
	if err != nil {
		return "", err
	}
	for _, is := range known {
		if e.Reference != "" && is.Reference == e.Reference || e.Reference == "" && p.StateOf(is).Opens() {
			return is.ID, nil
		}
	}
	return "", nil
}
