// Package message is the mails that are sent to people: which kinds there are, what each says, and when one that could not
// be handed over is tried again.
package message

import (
	"crypto/rand"
	"slices"
	"time"

	"ostiarius/core/words"
)

// A Kind is what a message is about.
type Kind string

// The kinds of message.
const (
	Test            Kind = "test"             // whether mail arrives
	Password        Kind = "password"         // a link to choose a password, sent by the people who run the site
	Recover         Kind = "recover"          // the same, asked for by whoever forgot theirs
	RecoverDisabled Kind = "recover-disabled" // that none can be chosen, since the account is switched off
	PasswordChanged Kind = "password-changed" // that it was
	SignedIn        Kind = "signed-in"        // that somebody signed in with a browser that was not seen before
	FactorsChanged  Kind = "factors-changed"  // what one can show beside the password was
	FactorsReset    Kind = "factors-reset"    // that a steward takes it away, and when
	JoinProve       Kind = "join-prove"       // a link to prove the address of whoever wants to join
	JoinTaken       Kind = "join-taken"       // that somebody wanted to join with the address of an account
	Invited         Kind = "invited"          // a link to join
	Approved        Kind = "approved"         // that whoever wanted to join is in
	Declined        Kind = "declined"         // that they are not
	Leaving         Kind = "leaving"          // that the account is deleted, as its owner wants
	AddressProve    Kind = "address-prove"    // a link to prove a new address, sent to it
	AddressAsked    Kind = "address-asked"    // that somebody wants another address for the account, sent to the one it has
	AddressTaken    Kind = "address-taken"    // that it is somebody else's, who is told so
	AddressChanged  Kind = "address-changed"  // that it was, sent to the one before
	SharedTold      Kind = "shared-told"      // a shared password, in words of whoever tells it
	PassIssued      Kind = "pass-issued"      // a pass: its link, and a name and a password
	PassRotated     Kind = "pass-rotated"     // that it has others now
	Bought          Kind = "bought"           // what was bought is open, until when
	BoughtClaim     Kind = "bought-claim"     // a link to take what was bought
	Reminder        Kind = "reminder"         // that something ends
	PatrolFound     Kind = "patrol-found"     // what is new on the site that does not hold, to stewards
	PassPaused      Kind = "pass-paused"      // that it is, since it was used from too many networks; a link to open it again
)

// Kinds are all of them.
var Kinds = []Kind{Test, Password, Recover, RecoverDisabled, PasswordChanged, SignedIn, FactorsChanged, FactorsReset, JoinProve,
	JoinTaken, Invited, Approved, Declined, Leaving, AddressProve, AddressAsked, AddressTaken, AddressChanged, SharedTold, PassIssued,
	PassRotated, PassPaused, Bought, BoughtClaim, Reminder, PatrolFound}

// Some kinds are sent to an address because somebody typed it, who may be anybody. At most MostCaused of them go to one address within
// CausedWithin, over all kinds, accounts and networks.
const (
	MostCaused   = 5
	CausedWithin = time.Hour
)

var caused = [][]Kind{{JoinProve, JoinTaken, AddressProve, AddressTaken}, {Recover, RecoverDisabled}}

// CausedWith returns the kinds that count together with a kind that anybody can cause; none for a kind that others can't.
func CausedWith(k Kind) []Kind {
	for _, kinds := range caused {
		if slices.Contains(kinds, k) {
			return kinds
		}
	}
	return nil
}

// IsKind reports whether there is a kind of that name.
func IsKind(k Kind) bool { return slices.Contains(Kinds, k) }

// A Way is how a message goes.
type Way string

// The ways of messages.
const (
	ByMail  Way = "mail"
	ByEvent Way = "event" // to a program, signed; To is the address, and Gaps have what is told
)

// A State is what has become of a message.
type State string

// The states of a message.
const (
	Waiting State = "waiting" // to be handed to the mail server
	Sent    State = "sent"    // the mail server has taken it
	Failed  State = "failed"  // given up: nobody tries any more, unless a steward says so
	Dropped State = "dropped" // a steward said that it is not to be sent
)

// States are all of them.
var States = []State{Waiting, Sent, Failed, Dropped}

// A Message is one mail to one person.
type Message struct {
	ID        int64  // counted up; 0 for one that is not written down yet
	Reference string // makes the Message-ID, which is the same however often it is handed over
	Way       Way
	Kind      Kind
	To        string // the address
	Account   string // the name of whom it is about; "" for nobody
	AccountID int64
	Language  words.Language
	// Gaps are what fills the gaps of its sentences. With Link, they are erased once it is sent or dropped.
	Gaps   map[string]string
	Link   string // the address below that of the site that it leads to, with its token; "" for none
	State  State
	MadeAt time.Time
	Until  time.Time // when the link in it ends, or when sending it makes no sense any more
	// What has been tried: how often, when next, what came of it, and when it came to an end.
	Tries   int
	NextAt  time.Time
	Problem string
	EndedAt time.Time
}

// Lasts is how long sending a message is tried whose link does not end before.
const Lasts = 3 * 24 * time.Hour

// New returns a message of a kind to an address, made now. The name is that of the account that it is about.
func New(kind Kind, to, name string, in words.Language, now time.Time) Message {
	return Message{
		Reference: rand.Text(), Way: ByMail, Kind: kind, To: to, Account: name, Language: in, Gaps: map[string]string{"name": name},
		State: Waiting, MadeAt: now, NextAt: now, Until: now.Add(Lasts),
	}
}

// With returns the message with a link, which ends at a time.
func (m Message) With(link string, until time.Time) Message {
	m.Link, m.Until = link, until
	return m
}

// The first time that is waited after a message could not be handed over, and the longest.
const (
	firstWait   = time.Minute
	longestWait = 4 * time.Hour
)

// Wait returns how long is waited after tries that failed: a minute, and longer each time.
func Wait(tries int) time.Duration {
	wait := firstWait
	for range max(0, tries-1) {
		if wait *= 2; wait >= longestWait {
			return longestWait
		}
	}
	return wait
}

// Tried returns the message after it could not be handed over, for a reason: to be tried again, or failed if that is
// of no use, because the server will never take it (final) or its time is over.
func (m Message) Tried(now time.Time, problem string, final bool) Message {
	m.Tries++
	m.Problem = problem
	if m.NextAt = now.Add(Wait(m.Tries)); final || !m.NextAt.Before(m.Until) {
		m.State, m.EndedAt = Failed, now
	}
	return m
}

// CanBeSent reports whether sending a message makes sense at a time: what it says and leads to is still so.
func (m Message) CanBeSent(now time.Time) bool {
	return now.Before(m.Until) && (m.Link != "" || len(m.Gaps) > 0)
}
