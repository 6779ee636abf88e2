package people

import (
	"context"

	"ostiarius/core/account"
	"ostiarius/core/message"
	"ostiarius/core/words"
)

// LinkPath is the address, below that of the site, at which a token sets a password.
func (r *Register) LinkPath(token string) string { return r.o.Book().Prefix + "/recover?link=" + token }

// Mail makes a message of a kind to the owner of an account: in the language that they were seen to read just now, or
// else the one that they have chosen. There is none for an account without an address.
func (r *Register) Mail(what message.Kind, a *account.Account, in words.Language) []message.Message {
	if a.Email == "" {
		return nil
	}
	m := message.New(what, a.Email, a.Name, words.Choose("", string(a.Language), string(in)), r.o.Now())
	m.AccountID = a.ID
	return []message.Message{m}
}

// SignedIn is the message to the owner of an account that a browser is signed in which was not seen before; none if the
// settings say so.
func (r *Register) SignedIn(a *account.Account, network, agent string, in words.Language) []message.Message {
	mails := r.notice(message.SignedIn, a, in)
	for i := range mails {
		mails[i].Gaps["network"], mails[i].Gaps["device"] = network, r.o.Book().Words.Device(mails[i].Language, agent)
	}
	return mails
}

// notice is Mail for what the settings say that owners are told.
func (r *Register) notice(what message.Kind, a *account.Account, in words.Language) []message.Message {
	if !r.o.Notices[what] {
		return nil
	}
	mails := r.Mail(what, a, in)
	for i := range mails {
		mails[i].Link = r.o.Book().Prefix + "/recover"
	}
	return mails
}

// SetLanguage notes in which language the owner of an account reads.
func (r *Register) SetLanguage(ctx context.Context, name string, in words.Language) error {
	a, err := r.Find(ctx, name)
	if err != nil || a.Language == in {
		return err
	}
	return r.o.Store.SetLanguage(ctx, a.ID, in)
}
