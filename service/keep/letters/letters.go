// Package letters makes the messages to owners of accounts: to which address, in which language, and of what
// they are told at all.
package letters

import (
	"time"

	"ostiarius/core/account"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/words"
)

// Options are what Letters need.
type Options struct {
	Book func() *policy.Book // the policy now in force
	Now  func() time.Time
	// Notices are the kinds of message that tell owners of an account what was done to it.
	Notices map[message.Kind]bool
}

// Letters are the messages to owners of accounts. They are handed to the store with what they tell of, and sent
// by the outbox.
type Letters struct{ o Options }

// New returns the Letters of a service.
func New(o Options) *Letters { return &Letters{o: o} }

// To makes a message of a kind to the owner of an account: in the language that they have chosen, or else the one that
// they were seen to read just now. There is none for an account without an address.
func (l *Letters) To(a *account.Account, what message.Kind, in words.Language) []message.Message {
	if a.Email == "" {
		return nil
	}
	m := message.New(what, a.Email, a.Name, words.Choose("", string(a.Language), string(in)), l.o.Now())
	m.AccountID = a.ID
	return []message.Message{m}
}

// Notice is To, with the way back into the account, for what the settings say that owners are told; none for the rest.
func (l *Letters) Notice(a *account.Account, what message.Kind, in words.Language) []message.Message {
	if !l.o.Notices[what] {
		return nil
	}
	mails := l.To(a, what, in)
	for i := range mails {
		mails[i].Link = l.o.Book().Prefix + "/recover"
	}
	return mails
}

// SignedIn is the Notice that a browser is signed in which was not seen before.
func (l *Letters) SignedIn(a *account.Account, network, agent string, in words.Language) []message.Message {
	mails := l.Notice(a, message.SignedIn, in)
	for i := range mails {
		mails[i].Gaps["network"], mails[i].Gaps["device"] = network, l.o.Book().Words.Device(mails[i].Language, agent)
	}
	return mails
}

// FactorsChanged is the message of what has changed in how one comes in: a sentence of the words, with the names and
// texts of its gaps. It is sent whatever the settings say.
func (l *Letters) FactorsChanged(a *account.Account, in words.Language, sentence string, gaps ...string) []message.Message {
	mails := l.To(a, message.FactorsChanged, in)
	for i := range mails {
		filled := map[string]string{}
		for j := 0; j+1 < len(gaps); j += 2 {
			filled[gaps[j]] = gaps[j+1]
		}
		mails[i].Gaps["what"] = l.o.Book().Words.Say(mails[i].Language, sentence, filled)
		mails[i].Link = l.o.Book().Prefix + "/account"
	}
	return mails
}
