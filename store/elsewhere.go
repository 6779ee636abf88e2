package store

import (
	"context"
	"slices"
	"strings"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/factor"
	"ostiarius/core/message"
	"ostiarius/core/secret"
)

// An ElsewhereLink is an account that is held elsewhere, and whose it is here.
type ElsewhereLink struct {
	Issuer, Subject, Provider string
	Account                   int64
	KnownAs                   string
	MadeAt                    time.Time
	UsedAt                    time.Time // zero for never
}

var elsewhereLinks = tableOf[ElsewhereLink]("elsewhere_links", `issuer, subject, provider, account_id Account, known_as, made_at, used_at`)

// ElsewhereLink returns the link of a subject of an issuer. The error is ErrNone if there is none.
func (s *Store) ElsewhereLink(ctx context.Context, issuer, subject string) (ElsewhereLink, error) {
	return elsewhereLinks.one(ctx, s.speaker, `WHERE issuer = ? AND subject = ?`, issuer, subject)
}

// ElsewhereLinks returns the links of an account.
func (s *Store) ElsewhereLinks(ctx context.Context, account int64) ([]ElsewhereLink, error) {
	return elsewhereLinks.all(ctx, s.speaker, `WHERE account_id = ? ORDER BY made_at, provider`, account)
}

// AddElsewhereLink adds a link to an account that has had so many changes of what proves who somebody is. The error is ErrTaken if
// the subject is linked already, or the account has a link with the provider; and ErrNone if the account has changed.
func (s *Store) AddElsewhereLink(ctx context.Context, l ElsewhereLink, proofs int64, mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		if err := addElsewhere(ctx, tx, l); err != nil {
			return err
		}
		return proofsAre(ctx, tx, l.Account, proofs)
	})
}

func addElsewhere(ctx context.Context, tx speaker, l ElsewhereLink) error {
	var n int
	if err := tx.get(ctx, &n,
		`SELECT COUNT(*) FROM elsewhere_links WHERE issuer = ? AND subject = ? OR account_id = ? AND provider = ?`,
		l.Issuer, l.Subject, l.Account, l.Provider); err != nil {
		return err
	}
	if n > 0 {
		return ErrTaken
	}
	tx.changed(l.Account)
	return elsewhereLinks.addOne(ctx, tx, l)
}

// JoinElsewhere adds an account with its link. The error is ErrTaken if somebody has its name or its address, or the subject is
// linked already.
func (s *Store) JoinElsewhere(ctx context.Context, a *account.Account, keys Keys, proven bool, l ElsewhereLink,
	e Activity) (id int64, err error) {
	err = s.inTransaction(ctx, func(tx speaker) error {
		if err := nameFree(ctx, tx, keys.Name, e.At); err != nil {
			return err
		}
		if id, err = addAccount(ctx, tx, a, keys, "", e); err != nil {
			return err
		}
		if proven {
			if err := proveAddress(ctx, tx, id, e.At); err != nil {
				return err
			}
		}
		l.Account = id
		return addElsewhere(ctx, tx, l)
	})
	return id, err
}

// RemoveElsewhereLink takes a link from an account, and the roles that came with it. The error is ErrNone if it has none.
func (s *Store) RemoveElsewhereLink(ctx context.Context, account int64, provider string, mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM elsewhere_links WHERE account_id = ? AND provider = ?`, account, provider)); err != nil {
			return err
		}
		if err := setElsewhereGrants(ctx, tx, account, provider, nil, e); err != nil {
			return err
		}
		return endFactor(ctx, tx, account, factor.Elsewhere)
	})
}

// wayElsewhere is how a role was granted that came with what a provider says.
func wayElsewhere(provider string) string { return "elsewhere " + provider }

// ElsewhereCame notes that somebody came by a link, and gives the account the roles that came with it, and no others of those
// before. It reports whether they have changed.
func (s *Store) ElsewhereCame(ctx context.Context, l ElsewhereLink, roles []string, e Activity) (changed bool, err error) {
	err = s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx,
			`UPDATE elsewhere_links SET used_at = ?, known_as = ? WHERE issuer = ? AND subject = ? AND account_id = ?`,
			millis(e.At), l.KnownAs, l.Issuer, l.Subject, l.Account)); err != nil {
			return err
		}
		before, err := elsewhereGrants(ctx, tx, l.Account, l.Provider)
		if err != nil {
			return err
		}
		after := slices.Sorted(slices.Values(roles))
		if changed = !slices.Equal(before, after); !changed {
			return nil
		}
		return setElsewhereGrants(ctx, tx, l.Account, l.Provider, after, e)
	})
	return changed, err
}

func elsewhereGrants(ctx context.Context, tx speaker, account int64, provider string) (roles []string, err error) {
	err = tx.all(ctx, &roles, `SELECT role FROM grants WHERE account_id = ? AND way = ? ORDER BY role`, account, wayElsewhere(provider))
	slices.Sort(roles)
	return roles, err
}

// setElsewhereGrants makes the roles that come with a provider's word just these, and records which were given and taken.
func setElsewhereGrants(ctx context.Context, tx speaker, account int64, provider string, roles []string, e Activity) error {
	before, err := elsewhereGrants(ctx, tx, account, provider)
	if err != nil {
		return err
	}
	note := func(what kind.Kind, role string) error {
		noted := e
		noted.Kind, noted.Detail = what, "role "+role+", as "+provider+" says"
		return record(ctx, tx, noted)
	}
	for _, role := range before {
		if slices.Contains(roles, role) {
			continue
		}
		if err := endGrants(ctx, tx, e.At, `g.account_id = ? AND g.role = ? AND g.way = ?`, account, role, wayElsewhere(provider)); err != nil {
			return err
		}
		tx.changed(account)
		if _, err := tx.exec(ctx, `DELETE FROM grants WHERE account_id = ? AND role = ? AND way = ?`, account, role,
			wayElsewhere(provider)); err != nil {
			return err
		}
		if err := note(kind.RoleRevoked, role); err != nil {
			return err
		}
	}
	for _, role := range roles {
		if slices.Contains(before, role) {
			continue
		}
		tx.changed(account)
		given := keptGrant{Account: account, Way: wayElsewhere(provider)}
		given.Role, given.From, given.By = role, e.At, provider
		if _, err := newGrants.add(ctx, tx, []keptGrant{given}, replaceGrant); err != nil {
			return err
		}
		if err := note(kind.RoleGranted, role); err != nil {
			return err
		}
	}
	return nil
}

// SettleElsewhere takes the roles that came with what providers said and that come with it no longer, since the policy has changed:
// mapped are those that each may give.
func (s *Store) SettleElsewhere(ctx context.Context, mapped map[string][]string, at time.Time) error {
	var rows []struct {
		Account int64  `db:"account_id"`
		Name    string `db:"name"`
		Role    string `db:"role"`
		Way     string `db:"way"`
	}
	if err := s.all(ctx, &rows, `SELECT account_id, name, role, way FROM grants JOIN accounts ON accounts.id = account_id WHERE way `+
		`LIKE 'elsewhere %'`); err != nil {
		return err
	}
	for _, r := range rows {
		provider := strings.TrimPrefix(r.Way, wayElsewhere(""))
		if slices.Contains(mapped[provider], r.Role) {
			continue
		}
		err := s.inTransaction(ctx, func(tx speaker) error {
			if err := endGrants(ctx, tx, at, `g.account_id = ? AND g.role = ? AND g.way = ?`, r.Account, r.Role, r.Way); err != nil {
				return err
			}
			tx.changed(r.Account)
			if err := one(tx.exec(ctx, `DELETE FROM grants WHERE account_id = ? AND role = ? AND way = ?`, r.Account, r.Role, r.Way)); err != nil {
				return err
			}
			return record(ctx, tx, Activity{
				At: at, Kind: kind.RoleRevoked, Account: r.Name, AccountID: r.Account, Actor: "the policy",
				Detail: "role " + r.Role + ", which " + provider + " gives no longer",
			})
		})
		if err != nil && err != ErrNone {
			return err
		}
	}
	return nil
}

// An ElsewhereSession is what a session here is at a provider.
type ElsewhereSession struct {
	Issuer, Provider, Subject, SID string
}

var elsewhereSessions = tableOf[ElsewhereSession]("elsewhere_sessions", `issuer, provider, subject, sid`)

// SetElsewhereSession notes what a session is at a provider. The error is ErrNone if it has ended.
func (s *Store) SetElsewhereSession(ctx context.Context, token secret.TokenHash, e ElsewhereSession) error {
	return one(s.exec(ctx, `INSERT INTO elsewhere_sessions (family, issuer, provider, subject, sid) SELECT family, ?, ?, ?, ?
		FROM sessions WHERE token_hash = ?
		ON CONFLICT (family) DO UPDATE SET issuer = excluded.issuer,
			provider = excluded.provider, subject = excluded.subject, sid = excluded.sid`, e.Issuer, e.Provider, e.Subject, e.SID, hexOf(token)))
}

// ElsewhereSession returns what a session is at a provider. The error is ErrNone if it did not begin there.
func (s *Store) ElsewhereSession(ctx context.Context, token secret.TokenHash) (e ElsewhereSession, err error) {
	return elsewhereSessions.one(ctx, s.speaker, `WHERE family = (SELECT family FROM sessions WHERE token_hash = ?)`, hexOf(token))
}

// ElsewhereSessions returns the sessions here that are some at a provider: one of that number, or all of a subject.
func (s *Store) ElsewhereSessions(ctx context.Context, issuer, subject, sid string) (tokens []secret.TokenHash, err error) {
	found, err := sessions.all(ctx, s.speaker, `WHERE family IN (SELECT family FROM elsewhere_sessions WHERE issuer = ? `+
		`AND (? = '' OR subject = ?) AND (? = '' OR sid = ?))`, issuer, subject, subject, sid, sid)
	for _, f := range found {
		tokens = append(tokens, f.Hash)
	}
	return tokens, err
}

// SweepElsewhere forgets what sessions were that have ended.
func (s *Store) SweepElsewhere(ctx context.Context) error {
	return s.sweep(ctx, "elsewhere_sessions", "family", `family NOT IN (SELECT family FROM sessions)`)
}

// ProvenBy returns the account that has an address, which its owner has shown to read. The error is ErrNone if there is none.
func (s *Store) ProvenBy(ctx context.Context, emailKey string) (*account.Account, error) {
	a, _, err := s.account(ctx, `email_key = ? AND email_key <> '' AND proven_at > 0`, emailKey)
	return a, err
}
