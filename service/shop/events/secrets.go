package events

import (
	"context"
	"errors"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/signature"
	"ostiarius/service/base/mistake"
	"ostiarius/store"
)

// The most secrets that count at a time, and how long those before may count.
const (
	mostSecrets  = 10
	longestGrace = 90 * 24 * time.Hour
)

func (b *Inbox) readSecrets(ctx context.Context) error {
	all, err := b.o.Store.EventSecrets(ctx, b.o.Now())
	if err == nil {
		b.secrets.Store(&all)
	}
	return err
}

// Secrets returns the secrets with which events may be signed now, the oldest first.
func (b *Inbox) Secrets(ctx context.Context) ([]store.EventSecret, error) {
	return b.o.Store.EventSecrets(ctx, b.o.Now())
}

// AddSecret adds a secret with which events may be signed: one that is given, in the form whsec_..., or a new one, which is
// returned and shown this once. With a grace, those before count only that much longer; with a negative one they go on to count.
func (b *Inbox) AddSecret(ctx context.Context, actor, given string, grace time.Duration) (string, error) {
	if grace > longestGrace {
		return "", mistake.Invalid("secrets before can count for at most 90 days")
	}
	all, err := b.Secrets(ctx)
	if err != nil {
		return "", err
	}
	if len(all) >= mostSecrets {
		return "", mistake.Invalid("there are %d secrets already; remove one with `ostiarius events secret --remove NUMBER`", len(all))
	}
	secret := signature.NewSecret()
	if given != "" {
		if secret, err = signature.ReadSecret(given); err != nil {
			return "", mistake.Of(err)
		}
		for _, s := range all {
			if s.Secret == secret {
				return "", mistake.Taken("this secret is there already, with the number %d", s.ID)
			}
		}
	}
	now := b.o.Now()
	var others time.Time
	if grace >= 0 {
		others = now.Add(grace)
	}
	e := store.Activity{
		At: now, Kind: kind.SecretAdded, AccountID: store.NoAccount, Actor: actor, Detail: "with which a shop signs its events",
	}
	if err := b.o.Store.AddEventSecret(ctx, store.EventSecret{Secret: secret, MadeAt: now, MadeBy: actor}, others, e); err != nil {
		return "", err
	}
	return secret.Text(), b.readSecrets(ctx)
}

// RemoveSecret removes a secret: what is signed with it is refused from now on.
func (b *Inbox) RemoveSecret(ctx context.Context, actor string, id int64) error {
	err := b.o.Store.RemoveEventSecret(ctx, id,
		store.Activity{At: b.o.Now(), Kind: kind.SecretRemoved, AccountID: store.NoAccount, Actor: actor})
	if errors.Is(err, store.ErrNone) {
		return mistake.Unknown("there is no secret %d; `ostiarius events secret` shows them", id)
	}
	return errors.Join(err, b.readSecrets(ctx))
}
