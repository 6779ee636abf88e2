// Package pass holds the rules of passes: access that is issued to one recipient, for the doors of its kind, with an
// end, a count and a revocation.
package pass

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/unicode/norm"

	"ostiarius/core/secret"
	"ostiarius/core/words"
)

// A State is what a pass is worth.
type State string

// The states of a pass.
const (
	Waiting State = "waiting" // it was issued and not used yet
	Open    State = "open"
	UsedUp  State = "used-up" // as often as it allows has been downloaded
	Ended   State = "ended"
	Paused  State = "paused"  // until its recipient or a steward opens it again
	Revoked State = "revoked" // for good
)

// States are all of them.
var States = []State{Waiting, Open, UsedUp, Ended, Paused, Revoked}

// A Pass is access for one recipient. It has two forms that prove the same: a link, and a name with a password.
type Pass struct {
	ID        string // names it, also as the name of HTTP Basic
	Kind      string // in the policy
	Reference string // of who issued it, such as the number of an order
	Address   string // of the recipient
	Name      string // of the recipient; may be ""
	Note      string
	Language  words.Language
	Paths     []string // canonical; it opens only these and what is below them. None for all of its kind
	MadeAt    time.Time
	MadeBy    string

	Until   time.Time     // zero for no end, or while that is not known
	Lasts   time.Duration // from the first use; 0 if Until says it
	Allowed int           // downloads; 0 for any number
	Used    int

	FirstUsed time.Time // zero for never
	LastUsed  time.Time // roughly
	Revoked   time.Time // zero for not
	Paused    time.Time // zero for not
	Why       string    // it is paused: BySteward or BySpread
	Spread    time.Time // when it was last used from more networks than its kind allows; zero for never

	Link     secret.TokenHash
	Password Hash
	Since    time.Time // when these were made
	OldLink  secret.TokenHash
	Old      Hash // the password before
	OldSince time.Time
	OldUntil time.Time        // as long as those before count too
	Again    secret.TokenHash // of the link with which its recipient opens it again; zero for none
}

// Why a pass is paused.
const (
	BySteward = "steward"
	BySpread  = "spread" // it was used from more networks than its kind allows
)

// State returns what the pass is worth at a time.
func (p *Pass) State(now time.Time) State {
	switch {
	case !p.Revoked.IsZero():
		return Revoked
	case !p.Until.IsZero() && !now.Before(p.Until):
		return Ended
	case !p.Paused.IsZero():
		return Paused
	case p.Allowed > 0 && p.Used >= p.Allowed:
		return UsedUp
	case p.FirstUsed.IsZero():
		return Waiting
	}
	return Open
}

// Opens reports whether a pass in that state lets somebody in.
func (s State) Opens() bool { return s == Open || s == Waiting }

// Covers reports whether the pass is for a place, by its canonical path.
func (p *Pass) Covers(path string) bool {
	return len(p.Paths) == 0 || slices.ContainsFunc(p.Paths, func(root string) bool {
		return root == "/" || path == root || strings.HasPrefix(path, root) && path[len(root)] == '/'
	})
}

// Starts says when the pass ends that is used for the first time at a time.
func (p *Pass) Starts(now time.Time) (until time.Time) {
	if p.Lasts > 0 && p.FirstUsed.IsZero() {
		return now.Add(p.Lasts)
	}
	return p.Until
}

// Counts reports whether credentials that were made at a time still count: those that the pass has now, and those
// before while they do.
func (p *Pass) Counts(made, now time.Time) bool {
	return made.Equal(p.Since) || made.Equal(p.OldSince) && now.Before(p.OldUntil)
}

// Give gives the pass other credentials. Those before count for as long as grace.
func (p *Pass) Give(link secret.TokenHash, password Hash, now time.Time, grace time.Duration) {
	p.OldLink, p.Old, p.OldSince, p.OldUntil = secret.TokenHash{}, Hash{}, time.Time{}, time.Time{}
	if grace > 0 {
		p.OldLink, p.Old, p.OldSince, p.OldUntil = p.Link, p.Password, p.Since, now.Add(grace)
	}
	since := now.UTC().Truncate(time.Millisecond)
	if !since.After(p.Since) { // each time of its own
		since = p.Since.Add(time.Millisecond)
	}
	p.Link, p.Password, p.Since = link, password, since
}

// A Hash is what is kept of the password of a pass. It is random and long, so that a plain hash is enough: there is
// nothing to guess.
type Hash [sha256.Size]byte

// wordsOfPassword make about 90 bits.
const wordsOfPassword = 7

// NewPassword returns a password that can be read aloud, and its hash for a pass.
func NewPassword(id string) (string, Hash, error) {
	text, err := secret.GenerateWords(wordsOfPassword)
	return text, HashPassword(id, text), err
}

// HashPassword returns the hash of a password that somebody brings for a pass, however its words are separated and
// whatever letters are large.
func HashPassword(id, password string) Hash {
	words := strings.FieldsFunc(strings.ToLower(norm.NFC.String(password)),
		func(r rune) bool { return r == ' ' || r == '-' || r == '_' || r == '.' || r == ',' })
	return sha256.Sum256([]byte(id + "\x00" + strings.Join(words, "-")))
}

// The letters of names of passes: none is mistaken for another.
const alphabet = "abcdefghjkmnpqrstuvwxyz023456789"

var letters = base32.NewEncoding(alphabet).WithPadding(base32.NoPadding)

// NewID returns a name for a pass, of 50 random bits.
func NewID() string {
	var b [7]byte
	rand.Read(b[:])
	return letters.EncodeToString(b[:])[:10]
}

// ReadID reads the name of a pass as people type it; "" if it is none.
func ReadID(text string) string {
	text = strings.ToLower(strings.TrimSpace(text))
	if len(text) != 10 || strings.Trim(text, alphabet) != "" {
		return ""
	}
	return text
}

// Network returns the part of an address that counts as one network: /24 of IPv4, /48 of IPv6. An unknown address is
// a network of its own.
func Network(a netip.Addr) netip.Prefix {
	if !a.IsValid() {
		return netip.Prefix{}
	}
	a = a.Unmap().WithZone("")
	bits := 48
	if a.Is4() {
		bits = 24
	}
	n, err := a.Prefix(bits)
	if err != nil {
		return netip.Prefix{}
	}
	return n
}

// SpreadWithin is how long a network counts that a pass was used from.
const SpreadWithin = 24 * time.Hour

// A StoryEntry is one thing of the story of a pass.
type StoryEntry struct {
	At     time.Time
	What   What
	Actor  string // who did it; "" for who holds the pass
	Detail string
}

// A What is what happened to a pass.
type What string

// What happens to passes.
const (
	Issued     What = "issued"
	Mailed     What = "mailed"     // to the address in Detail
	Opened     What = "opened"     // with its link, in a browser
	FirstUse   What = "first used" // it counts from now on
	Downloaded What = "downloaded" // Detail is the path
	SpreadOut  What = "spread"     // used from more networks than its kind allows
	PausedNow  What = "paused"
	Resumed    What = "resumed"
	Reopened   What = "opened again" // by its recipient, with other credentials
	Renewed    What = "renewed"      // Detail says what it has now
	Rotated    What = "rotated"      // it has other credentials; Detail says how long those before count
	RevokedNow What = "revoked"
)
