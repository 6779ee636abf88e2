package leaving

import (
	"context"
	"errors"
	"time"

	"ostiarius/core/account"
	"ostiarius/store"
)

// Held is what somebody has set up to prove who they are, and what is known of where they did. Nothing in it opens anything.
type Held struct {
	Passkeys  []Named    `json:"passkeys"`
	CodeSince *time.Time `json:"codesSince,omitempty"` // of an app
	Kept      int        `json:"codesKept"`
	Browsers  []Browser  `json:"rememberedBrowsers"` // that are not asked for a second factor
	Elsewhere []Linked   `json:"accountsElsewhere"`
	Keys      []Named    `json:"accessKeys"`
	Networks  []string   `json:"knownNetworks"` // where the password was right
}

// Named is a passkey, with the host that it is for, or an access key.
type Named struct {
	Name string     `json:"name"`
	Host string     `json:"host,omitempty"`
	Made time.Time  `json:"made"`
	Used *time.Time `json:"lastUsed,omitempty"`
	From string     `json:"from,omitempty"`
}

// Browser is one that is remembered.
type Browser struct {
	Since   time.Time `json:"since"`
	Until   time.Time `json:"until"`
	Network string    `json:"from,omitempty"`
	Agent   string    `json:"browser,omitempty"`
}

// Linked is an account at a provider.
type Linked struct {
	Provider string    `json:"provider"`
	Subject  string    `json:"subject"`
	KnownAs  string    `json:"knownAs"`
	Since    time.Time `json:"since"`
}

func (f *Leaving) held(ctx context.Context, a *account.Account) (h Held, err error) {
	h = Held{Passkeys: []Named{}, Browsers: []Browser{}, Elsewhere: []Linked{}, Keys: []Named{}, Networks: []string{}}
	used := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	passkeys, err := f.o.Store.Passkeys(ctx, a.ID)
	if err != nil {
		return h, err
	}
	for _, p := range passkeys {
		h.Passkeys = append(h.Passkeys, Named{p.Name, p.Party, p.MadeAt, used(p.UsedAt), ""})
	}
	code, err := f.o.Store.Code(ctx, a.ID)
	switch {
	case err == nil:
		h.CodeSince = &code.MadeAt
	case !errors.Is(err, store.ErrNone):
		return h, err
	}
	if h.Kept, err = f.o.Store.KeptLeft(ctx, a.ID); err != nil {
		return h, err
	}
	browsers, err := f.o.Store.Browsers(ctx, a.ID, f.o.Now())
	if err != nil {
		return h, err
	}
	for _, b := range browsers {
		h.Browsers = append(h.Browsers, Browser{b.MadeAt, b.Until, b.Network, b.Agent})
	}
	links, err := f.o.Store.ElsewhereLinks(ctx, a.ID)
	if err != nil {
		return h, err
	}
	for _, l := range links {
		h.Elsewhere = append(h.Elsewhere, Linked{l.Provider, l.Subject, l.KnownAs, l.MadeAt})
	}
	keys, _, err := f.o.Store.AccessKeys(ctx, a.ID, 0, most)
	if err != nil {
		return h, err
	}
	for _, k := range keys {
		h.Keys = append(h.Keys, Named{k.Name, "", k.MadeAt, used(k.UsedAt), k.UsedFrom})
	}
	places, err := f.o.Store.PlacesOf(ctx, store.PlaceOfAccount(a.ID))
	h.Networks = append(h.Networks, places...)
	return h, err
}
