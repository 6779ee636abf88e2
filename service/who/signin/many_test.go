package signin_test

import (
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"ostiarius/core/basic"
	"ostiarius/core/policy/read"
	"ostiarius/core/throttle"
	"ostiarius/service/base/hashing"
	"ostiarius/service/held/keyrings"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
	"ostiarius/store"
)

// Strangers everywhere who guess do not keep the owner out where the password was right before, also after the next start.
func TestOwnersAreKnownAtTheirPlaces(t *testing.T) {
	h, _, _ := house.Open(t)
	h.Book, _ = read.Parse("doors.yaml", []byte("roles: {keeper: }\nkeyrings: {outer: }\ndoors: [{path: /, admit: {keyring: outer}}]"))
	if _, err := h.Keyrings.Add(ctx, "test", "outer", keyrings.NewEntry{Name: "smith", Password: "creaky-third-step"}); err != nil {
		t.Fatal(err)
	}
	for _, way := range []struct {
		name string
		try  func(password, from string) error
		good string
	}{
		{"a keyring", func(password, from string) error {
			_, ok, err := h.Keyrings.Open(ctx, "outer", basic.Credentials{User: "smith", Password: password}, from)
			if err == nil && !ok {
				err = signin.ErrWrong
			}
			return err
		}, "creaky-third-step"},
		{"an account", func(password, from string) error {
			_, _, err := h.SignIn.Prove(ctx, "ines", password, sessions.Origin{Network: from})
			return err
		}, "seven-brass-prisms"},
	} {
		var slow *throttle.Slow
		if err := way.try(way.good, "192.0.2.7"); err != nil {
			t.Fatalf("%s: %v", way.name, err)
		}
		h = h.Start(t)
		for i := range 85 {
			way.try("not-this-one", fmt.Sprintf("203.0.113.%d", i))
		}
		if err := way.try(way.good, "203.0.113.200"); !errors.As(err, &slow) {
			t.Errorf("%s: strangers are not slowed: %v", way.name, err)
		}
		if err := way.try(way.good, "192.0.2.7"); err != nil {
			t.Errorf("%s: the owner, where it was right before: %v", way.name, err)
		}
		for range 10 { // strangers in the owner's network are slowed there too
			way.try("not-this-one", "192.0.2.7")
		}
		if err := way.try(way.good, "192.0.2.7"); !errors.As(err, &slow) {
			t.Errorf("%s: guessing where it is known: %v", way.name, err)
		}
	}
	// Whoever gets the name later is known nowhere.
	if err := h.Keyrings.Remove(ctx, "test", "outer", "smith"); err != nil {
		t.Fatal(err)
	}
	if knows, err := h.Records.KnowsPlace(ctx, store.PlaceOfEntry("outer", "smith"), throttle.NetworkNamed("192.0.2.7"),
		time.Time{}); knows || err != nil {
		t.Error(knows, err)
	}
}

// Many people of one office may sign in at the same time; many who guess there may not.
func TestAnOfficeSignsInAtOnce(t *testing.T) {
	h, _, _ := house.Open(t)
	const many = 36
	for i := range many {
		if _, err := h.People.Add(ctx, "test", people.NewAccount{Name: fmt.Sprint("clerk", i), Password: "seven-brass-prisms"}); err != nil {
			t.Fatal(err)
		}
	}
	try := func(password string) (all []error) {
		all = make([]error, many)
		var under sync.WaitGroup
		for i := range all {
			under.Go(func() {
				for {
					if _, _, all[i] = h.SignIn.Prove(ctx, fmt.Sprint("clerk", i), password,
						sessions.Origin{Network: "192.0.2.7"}); !errors.Is(all[i], hashing.ErrBusy) {
						return
					}
				}
			})
		}
		under.Wait()
		return all
	}
	for i, err := range try("seven-brass-prisms") {
		if err != nil {
			t.Errorf("clerk%d: %v", i, err)
		}
	}
	try("not-this-one")
	var slow *throttle.Slow
	for i, err := range try("not-this-one") {
		if !errors.As(err, &slow) {
			t.Errorf("after 36 failures, clerk%d: %v", i, err)
		}
	}
}
