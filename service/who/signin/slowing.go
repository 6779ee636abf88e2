package signin

import (
	"context"
	"crypto/sha256"
	"fmt"
	"strings"

	"ostiarius/core/account"
	"ostiarius/core/throttle"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// Keys reads what somebody typed as name: a name, an e-mail address, or nonsense,
// which no account has.
func Keys(typed string) (keys store.Keys) {
	typed = strings.TrimSpace(typed)
	var err error
	if keys.Name, err = account.Key(typed); err != nil {
		keys.Name = fmt.Sprintf("? %x", sha256.Sum256([]byte(strings.ToLower(typed)))) // no key has a question mark
	}
	if keys.Email, err = account.EmailKey(typed); err != nil {
		keys.Email = ""
	}
	return keys
}

// limits returns by what a try at a password is slowed. From one network, a name and an address of
// e-mail count by themselves, in the form in which they are looked up, however they are spelled:
// were they to count together only where they belong to one account, that would tell whether they
// do. Over all networks an account counts as itself, whatever the way.
//
// A browser that has brought the right password before counts by itself alone: strangers in the
// same network, or many from elsewhere, cannot keep its owner out. Nor can many from elsewhere where it was right before.
func (d *Entrance) limits(ctx context.Context, keys store.Keys, a *account.Account, from sessions.Origin) []throttle.Key {
	if a != nil && d.Knows(from.Device, a) {
		return []throttle.Key{{Name: "device " + from.Device, Rule: throttle.Pair}}
	}
	network, typed := networkOf(from), "name "+keys.Name
	if keys.Email != "" {
		typed = "address " + keys.Email
	}
	who := typed
	if a != nil {
		who = store.PlaceOfAccount(a.ID)
	}
	return d.o.Places.Limits(ctx, who, "pair "+typed, network)
}

func networkOf(from sessions.Origin) string { return throttle.NetworkNamed(from.Network) }
