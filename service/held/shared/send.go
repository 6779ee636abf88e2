package shared

import (
	"context"
	"fmt"
	"strings"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	rules "ostiarius/core/shared"
	"ostiarius/core/words"
	"ostiarius/service/base/mistake"
)

// A Letter is what people are told a shared password with.
type Letter struct {
	To       []message.Recipient
	Password string // which must count: only its hash is known here
	Text     string // in words of one's own, with gaps such as {title}; "" for the usual ones
	Language words.Language
}

const longestText = 10_000

// Send has people mailed the address and the password of a name, and notes who was told. It returns how many.
func (p *Passwords) Send(ctx context.Context, actor, name string, l Letter) (int, error) {
	d, err := p.declared(name)
	if err != nil {
		return 0, err
	}
	if len(l.To) == 0 {
		return 0, mistake.Invalid("there is nobody to tell it to")
	}
	for _, to := range l.To {
		if to.Err != nil {
			return 0, mistake.Invalid("line %d: %v", to.Line, to.Err)
		}
	}
	if len(l.Text) > longestText || strings.ContainsRune(l.Text, 0) {
		return 0, mistake.Invalid("the text has more than %d bytes", longestText)
	}
	if err := p.IsPassword(ctx, name, l.Password); err != nil {
		return 0, err
	}
	now := p.o.Now()
	var told []rules.Telling
	var mails []message.Message
	for _, to := range l.To {
		told = append(told, rules.Telling{Name: name, Address: to.Address, At: now, Actor: actor})
		mails = append(mails, p.Message(d, l, to, now))
	}
	if err := p.o.Store.TellShared(ctx, told, mails, p.event(kind.SharedTold, actor, fmt.Sprintf("%s, to %d", name, len(told)))); err != nil {
		return 0, err
	}
	return len(told), nil
}

// IsPassword returns an error if a password is none that opens a name now.
func (p *Passwords) IsPassword(ctx context.Context, name, password string) error {
	kept, err := p.o.Store.SharedPasswords(ctx, name)
	if err != nil {
		return err
	}
	var hashes []string
	for _, k := range kept {
		if k.Counts(p.o.Now()) {
			hashes = append(hashes, k.Hash)
		}
	}
	if len(hashes) == 0 {
		return mistake.Invalid("the shared password %s has no password yet; set one first", name)
	}
	right, err := p.o.Hashing.Compare(ctx, hashes, rules.MostValid, password)
	if err == nil && right == "" {
		err = mistake.Invalid("this is not the password of %s; only its hash is known here, so give it, or set another one first", name)
	}
	return err
}

// Message makes the message that tells somebody a shared password.
func (p *Passwords) Message(d *policy.DeclaredShared, l Letter, to message.Recipient, now time.Time) message.Message {
	book := p.o.Book()
	in := l.Language
	if in == "" {
		in = words.English
	}
	m := message.New(message.SharedTold, to.Address, "", in, now)
	m.Gaps["name"] = to.Name
	if to.Name == "" {
		m.Gaps["name"] = to.Address
	}
	m.Gaps["title"], m.Gaps["password"], m.Gaps["own"] = d.Title, l.Password, l.Text
	if strings.TrimSpace(l.Text) == "" {
		m.Gaps["own"] = book.Words.Sentence(in, "shared.own")
	}
	place := policy.Opened(book, policy.Shared, d.Name)
	m.Gaps["place"] = place
	return m.With(place, now.Add(message.Lasts))
}

// Told returns who was told a shared password, the latest first, at most so many, and how many in all.
func (p *Passwords) Told(ctx context.Context, name string, most int) ([]rules.Telling, int, error) {
	return p.o.Store.SharedTellings(ctx, name, most)
}
