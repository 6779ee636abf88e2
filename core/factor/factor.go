// Package factor holds the kinds of proof of who somebody is, what was shown of them and when, and what an account
// can show.
package factor

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
)

// A Kind is one kind of proof of who somebody is.
type Kind uint8

// The kinds that there are.
const (
	Password  Kind = iota
	Elsewhere      // an account held elsewhere
	Passkey
	Code // of an app that shows one every half minute, or one of those that were kept for when there is none
	Key  // an access key, with which a program comes; nobody has shown who they are
	kinds
)

var names = [kinds]string{"password", "elsewhere", "passkey", "code", "key"}

func (k Kind) String() string { return names[k] }

// KindNamed returns the kind of a name.
func KindNamed(name string) (Kind, bool) {
	i := slices.Index(names[:], name)
	return Kind(max(i, 0)), i >= 0
}

// Opens reports whether somebody can sign in with a proof of that kind alone. A code only adds to another, and an access key is no
// proof of a person.
func (k Kind) Opens() bool { return k != Code && k != Key }

// A Set is some kinds of proof.
type Set uint8

// Of returns the set of some kinds.
func Of(all ...Kind) (s Set) {
	for _, k := range all {
		s |= 1 << k
	}
	return s
}

// Has reports whether a kind is in the set.
func (s Set) Has(k Kind) bool { return s&(1<<k) != 0 }

// Kinds returns the kinds in the set, in their order.
func (s Set) Kinds() (all []Kind) {
	for k := range kinds {
		if s.Has(k) {
			all = append(all, k)
		}
	}
	return all
}

// String writes the names of the kinds, such as "passkey code".
func (s Set) String() string {
	var all []string
	for _, k := range s.Kinds() {
		all = append(all, k.String())
	}
	return strings.Join(all, " ")
}

// ReadSet reads what Set.String has written. What it does not know is not in the set.
func ReadSet(text string) (s Set) {
	for _, name := range strings.Fields(text) {
		if k, ok := KindNamed(name); ok {
			s |= Of(k)
		}
	}
	return s
}

// Shown is what somebody has shown, and how long ago each. The zero Shown is nothing. It can be compared.
type Shown struct {
	Kinds Set
	ages  [kinds]time.Duration
}

// Unknown is the age of a proof whose time cannot be known: older than any that is asked for.
const Unknown = time.Duration(math.MaxInt64)

// With returns what was shown with one proof more, of some age.
func (s Shown) With(k Kind, age time.Duration) Shown {
	s.Kinds |= Of(k)
	s.ages[k] = age
	return s
}

// Age returns how long ago a proof of a kind was shown; false if none was.
func (s Shown) Age(k Kind) (time.Duration, bool) { return s.ages[k], s.Kinds.Has(k) }

// Within returns the kinds that were shown no longer ago than that.
func (s Shown) Within(longest time.Duration) (fresh Set) {
	for k := range kinds {
		if age := s.ages[k]; s.Kinds.Has(k) && age >= 0 && age <= longest {
			fresh |= Of(k)
		}
	}
	return fresh
}

// What a policy can ask for of kinds of proof.
const (
	AskPasskey = "passkey"
	AskCode    = "code"
	AskTwo     = "two" // of different kinds
)

// Asked are the words for what can be asked for.
var Asked = []string{AskPasskey, AskCode, AskTwo}

// Alternatives returns the sets of proofs, each of which is what is asked for by a word; none for an unknown word, which is met by nothing.
func Alternatives(asked string) []Set {
	switch asked {
	case AskPasskey:
		return []Set{Of(Passkey)}
	case AskCode:
		return []Set{Of(Code)}
	case AskTwo:
		return []Set{Of(Password, Code), Of(Password, Passkey), Of(Passkey, Code)}
	}
	return nil
}

// Covers reports whether a set of proofs has all of others. An account elsewhere stands for a password.
func (s Set) Covers(others Set) bool { return s.Missing(others) == 0 }

// Missing returns what a set of proofs has not of others. An account elsewhere stands for a password.
func (s Set) Missing(others Set) Set {
	if s.Has(Elsewhere) {
		s |= Of(Password)
	}
	return others &^ s
}

// Opens reports whether somebody can sign in with one of the set.
func (s Set) Opens() bool { return s&^Of(Code, Key) != 0 }

// Meets reports whether a set of proofs is what is asked for by a word.
func (s Set) Meets(asked string) bool { return slices.ContainsFunc(Alternatives(asked), s.Covers) }

// Lacks returns what is missing of what is asked for by a word: any of these kinds is a step towards it. Nothing is lacking if
// it is that already.
func (s Set) Lacks(asked string) (lacks Set) {
	if s.Meets(asked) {
		return 0
	}
	for _, alternative := range Alternatives(asked) {
		lacks |= s.Missing(alternative)
	}
	return lacks
}

// Times are when somebody has shown what, as a session keeps it. The zero time is never.
type Times [kinds]time.Time

// At returns the times with one more.
func (t Times) At(k Kind, at time.Time) Times {
	t[k] = at
	return t
}

// Kinds returns what was shown.
func (t Times) Kinds() (s Set) {
	for k, at := range t {
		if !at.IsZero() {
			s |= Of(Kind(k))
		}
	}
	return s
}

// String writes the times in milliseconds, such as "password=1764183600000 code=1764183611000".
func (t Times) String() string {
	var all []string
	for k, at := range t {
		if !at.IsZero() {
			all = append(all, fmt.Sprintf("%s=%d", Kind(k), at.UnixMilli()))
		}
	}
	return strings.Join(all, " ")
}

// ReadTimes reads what Times.String has written. What it does not know was not shown.
func ReadTimes(text string) (t Times) {
	for _, part := range strings.Fields(text) {
		var ms int64
		name, number, _ := strings.Cut(part, "=")
		if k, ok := KindNamed(name); ok {
			if _, err := fmt.Sscanf(number, "%d", &ms); err == nil && ms > 0 {
				t[k] = time.UnixMilli(ms)
			}
		}
	}
	return t
}

// Shown returns what was shown as of a time. What lies in the future, since the clock went back, is of an age that cannot be known.
func (t Times) Shown(now time.Time) (s Shown) {
	for k, at := range t {
		switch {
		case at.IsZero():
		case at.After(now):
			s = s.With(Kind(k), Unknown)
		default:
			s = s.With(Kind(k), now.Sub(at))
		}
	}
	return s
}
