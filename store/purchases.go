package store

import (
	"context"
	"errors"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/event"
	"ostiarius/core/message"
	"ostiarius/core/pass"
	"ostiarius/core/purchase"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/core/words"
)

// An Order is who has ordered something.
type Order struct {
	Number   string
	Address  string
	Key      string // of the address, as addresses are compared; "" for none
	Name     string
	Language words.Language
	Account  int64 // who has what was bought; 0 for nobody yet
	MadeAt   time.Time
}

var orders = tableOf[Order]("orders", `number, address, address_key Key, name, language, account_id Account, made_at`)

// A keptPayment is a payment with who has what was paid for.
type keptPayment struct {
	purchase.Payment
	Account int64
}

var payments = tableOf[keptPayment]("payments", `id, order_no Order, item, title, seq, at, told, again, role, kind, pass_id Pass, `+
	`lasts For, until_at Until, grace, after_role After, after_lasts AfterFor, taken_at Taken, account_id Account`)

var orderMarks = tableOf[purchase.Mark]("order_marks", `order_no Order, item, what, seq, at, told`)

// Bought is what is known of what somebody has bought.
type Bought struct {
	Orders   []Order
	Payments []purchase.Payment
	Marks    []purchase.Mark
}

// Order returns what is known of one order. The error is ErrNone if it is not known.
func (s *Store) Order(ctx context.Context, number string) (Order, Bought, error) {
	o, err := orders.one(ctx, s.speaker, `WHERE number = ?`, number)
	if err != nil && !errors.Is(err, ErrNone) {
		return Order{}, Bought{}, err
	}
	b, failed := boughtIn(ctx, s.speaker, []string{number})
	if failed != nil {
		return Order{}, b, failed
	}
	return o, b, err
}

// BoughtBy returns what the owner of an account has bought; or, for account 0, what was bought with an address and nobody has yet.
func (s *Store) BoughtBy(ctx context.Context, account int64, addressKey string) (Bought, error) {
	return boughtBy(ctx, s.speaker, account, addressKey)
}

func boughtBy(ctx context.Context, tx speaker, account int64, addressKey string) (b Bought, err error) {
	which, args := `WHERE account_id = ?`, []any{account}
	if account == 0 {
		which, args = which+` AND address_key = ?`, append(args, addressKey)
	}
	found, err := orders.all(ctx, tx, which+` ORDER BY made_at DESC, number`, args...)
	if err != nil {
		return b, err
	}
	var numbers []string
	for _, o := range found {
		numbers = append(numbers, o.Number)
	}
	b, err = boughtIn(ctx, tx, numbers)
	b.Orders = found
	return b, err
}

// boughtIn returns the payments and marks of orders.
func boughtIn(ctx context.Context, tx speaker, numbers []string) (b Bought, err error) {
	if len(numbers) == 0 {
		return b, nil
	}
	paid, err := payments.in(ctx, tx, `WHERE order_no IN (?) ORDER BY id`, numbers)
	if err != nil {
		return b, err
	}
	for _, p := range paid {
		b.Payments = append(b.Payments, p.Payment)
	}
	b.Marks, err = orderMarks.in(ctx, tx, `WHERE order_no IN (?) ORDER BY seq`, numbers)
	return b, err
}

// AccountProven returns the account whose owner has shown to read the mail of an address. The error is ErrNone if there is none.
func (s *Store) AccountProven(ctx context.Context, addressKey string) (int64, error) {
	return accountProven(ctx, s.speaker, addressKey)
}

func accountProven(ctx context.Context, tx speaker, addressKey string) (id int64, err error) {
	if addressKey == "" {
		return 0, ErrNone
	}
	return id, none(tx.get(ctx, &id, `SELECT id FROM accounts WHERE email_key = ? AND proven_at > 0`, addressKey))
}

// ProvenAt returns when the owner of an account has shown to read the mail of its address; zero for not yet.
func (s *Store) ProvenAt(ctx context.Context, id int64) (time.Time, error) {
	var at int64
	err := s.get(ctx, &at, `SELECT proven_at FROM accounts WHERE id = ?`, id)
	return moment(at), none(err)
}

// A Claim is a link with which whoever reads the mail of an address takes what was bought with it.
type Claim struct {
	Hash     secret.TokenHash
	Address  string
	Key      string
	Language words.Language
	MadeAt   time.Time
	Until    time.Time
}

var claims = tableOf[Claim]("claims", `token_hash Hash, address, address_key Key, language, made_at, until_at Until`)

// A Carried is an event that is carried out: what it comes to.
type Carried struct {
	Event    event.Record // as it was
	Problem  string       // what is to be known of it, "" for nothing
	At       time.Time
	Order    Order // as it is from now on; without a Number for none
	Payments []purchase.Payment
	Marks    []purchase.Mark
	Passes   []*pass.Pass // that are new
	Changed  []PassChange
	Claim    *Claim
	Mails    []message.Message
	Records  []Activity
}

// ErrChanged says that something else has changed meanwhile, on which what was to be written rests.
var ErrChanged = errors.New("the records have changed meanwhile")

// CarryOut writes down all that an event comes to, and that it is done. The error is ErrNone if it is done already, and ErrChanged
// if the account that has the address is another by now: then nothing is written.
func (s *Store) CarryOut(ctx context.Context, c Carried) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `UPDATE events SET state = ?, problem = ?, done_at = ? WHERE id = ? AND state = ?`, event.Done,
			c.Problem, millis(c.At), c.Event.ID, c.Event.State)); err != nil {
			return err
		}
		if err := putOrder(ctx, tx, c.Order); err != nil {
			return err
		}
		for _, p := range c.Payments {
			p.ID = 0
			if err := payments.addOne(ctx, tx, keptPayment{p, c.Order.Account}); err != nil {
				return err
			}
		}
		if _, err := tx.exec(ctx, `UPDATE payments SET account_id = ? WHERE order_no = ? AND account_id <> ?`, c.Order.Account,
			c.Order.Number, c.Order.Account); err != nil {
			return err
		}
		for _, m := range c.Marks {
			if err := orderMarks.addOne(ctx, tx, m); err != nil {
				return err
			}
		}
		if err := addPasses(ctx, tx, c.Passes); err != nil {
			return err
		}
		for _, change := range c.Changed {
			if err := changePass(ctx, tx, change); err != nil {
				return err
			}
		}
		if c.Order.Account != 0 {
			if err := settle(ctx, tx, c.Order.Account, c.At); err != nil {
				return err
			}
		}
		if l := c.Claim; l != nil {
			if err := claims.addOne(ctx, tx, *l); err != nil {
				return err
			}
		}
		if err := post(ctx, tx, c.Mails); err != nil {
			return err
		}
		for _, e := range c.Records {
			if err := record(ctx, tx, e); err != nil {
				return err
			}
		}
		return nil
	})
}

// putOrder writes down an order. The one who has it must be the account whose proven address it is now, if nobody had it before.
func putOrder(ctx context.Context, tx speaker, o Order) error {
	if o.Number == "" {
		return nil
	}
	if o.Account == 0 {
		if _, err := accountProven(ctx, tx, o.Key); !errors.Is(err, ErrNone) {
			return errors.Join(err, ErrChanged)
		}
	} else {
		if err := isThere(ctx, tx, o.Account); err != nil {
			return errors.Join(err, ErrChanged)
		}
	}
	return orders.put(ctx, tx, o, "number", "made_at")
}

// settle works out anew what the owner of an account has bought, and writes down what they have for that.
func settle(ctx context.Context, tx speaker, owner int64, now time.Time) error {
	tx.changed(owner)
	b, err := boughtBy(ctx, tx, owner, "")
	if err != nil {
		return err
	}
	for role, terms := range purchase.OfRoles(b.Payments, b.Marks) {
		span, has := purchase.Latest(terms)
		if !has {
			if err := endGrants(ctx, tx, now, `g.account_id = ? AND g.role = ? AND g.way = ?`, owner, role, wayBought); err != nil {
				return err
			}
			if _, err := tx.exec(ctx, `DELETE FROM grants WHERE account_id = ? AND (role = ? AND way = ? OR way = ?)`, owner, role,
				wayBought, wayAfter+role); err != nil {
				return err
			}
			continue
		}
		g := keptGrant{Account: owner, Way: wayBought, Grant: account.Grant{
			Role: role, From: span.From, Until: span.Until, By: boughtBySomebody, Order: span.Last.Payment.Order,
		}}
		if err := bought(ctx, tx, g, now); err != nil {
			return err
		}
		if _, err := tx.exec(ctx, `DELETE FROM grants WHERE account_id = ? AND way = ?`, owner, wayAfter+role); err != nil {
			return err
		}
		after := span.Last.Payment
		if after.After == "" || span.Until.IsZero() || span.Last.Taken {
			continue
		}
		g.Role, g.Way, g.From, g.Until = after.After, wayAfter+role, g.Until, time.Time{}
		if after.AfterFor > 0 {
			g.Until = g.From.Add(after.AfterFor)
		}
		if err := bought(ctx, tx, g, now); err != nil {
			return err
		}
	}
	return nil
}

// How a role was granted, beside by somebody.
const (
	wayBought        = "bought"
	wayAfter         = "after "
	boughtBySomebody = "payment"
)

// bought writes down what somebody has for what they bought. What had ended and goes on has begun anew.
func bought(ctx context.Context, tx speaker, g keptGrant, now time.Time) error {
	tx.changed(g.Account)
	_, err := newGrants.add(ctx, tx, []keptGrant{g}, `ON CONFLICT (account_id, role, way) DO UPDATE SET from_at = excluded.from_at,
		until_at = excluded.until_at, order_no = excluded.order_no,
		told = CASE WHEN grants.told = 2 AND (excluded.until_at = 0 OR excluded.until_at > ?) THEN 0 ELSE grants.told END`, millis(now))
	return err
}

// proveAddress notes that the owner of an account reads the mail of its address, and gives them what was bought with it.
func proveAddress(ctx context.Context, tx speaker, id int64, now time.Time) error {
	var key string
	if err := tx.get(ctx, &key, `SELECT email_key FROM accounts WHERE id = ?`, id); err != nil || key == "" {
		return none(err)
	}
	tx.changed(id)
	if _, err := tx.exec(ctx, `UPDATE accounts SET proven_at = ? WHERE id = ? AND proven_at = 0`, millis(now), id); err != nil {
		return err
	}
	return attach(ctx, tx, key, id, now)
}

// attach gives the owner of an account what was bought with an address and nobody has yet.
func attach(ctx context.Context, tx speaker, addressKey string, id int64, now time.Time) error {
	result, err := tx.exec(ctx, `UPDATE payments SET account_id = ? WHERE account_id = 0 AND order_no IN (SELECT number FROM orders `+
		`WHERE address_key = ? AND account_id = 0)`, id, addressKey)
	if err != nil {
		return err
	}
	if _, err := tx.exec(ctx, `UPDATE orders SET account_id = ? WHERE address_key = ? AND account_id = 0`, id, addressKey); err != nil {
		return err
	}
	if _, err := tx.exec(ctx, `DELETE FROM claims WHERE address_key = ?`, addressKey); err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return err
	}
	return settle(ctx, tx, id, now)
}

// ClaimByToken returns what a link is for with which somebody takes what they bought. The error is ErrNone if it was used, has
// ended or never was.
func (s *Store) ClaimByToken(ctx context.Context, token secret.TokenHash, now time.Time) (Claim, error) {
	return claims.one(ctx, s.speaker, `WHERE token_hash = ? AND until_at > ? AND made_at <= ?`, hexOf(token), millis(now),
		millis(now.Add(session.Slack)))
}

// UseClaim gives the owner of an account what was bought with the address of a link, which has then ended. If it is the address of the
// account, it is proven with that. The error is ErrNone if the link has ended meanwhile.
func (s *Store) UseClaim(ctx context.Context, c Claim, account int64, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM claims WHERE token_hash = ? AND until_at > ?`, hexOf(c.Hash), millis(e.At))); err != nil {
			return err
		}
		tx.changed(account)
		if _, err := tx.exec(ctx, `UPDATE accounts SET proven_at = ? WHERE id = ? AND email_key = ? AND proven_at = 0`, millis(e.At),
			account, c.Key); err != nil {
			return err
		}
		return attach(ctx, tx, c.Key, account, e.At)
	})
}

// JoinByClaim makes the account of whoever brings a link with which they take what they bought; its address is proven with that.
// The errors are those of ClaimByToken and of Join.
func (s *Store) JoinByClaim(ctx context.Context, c Claim, j Joined) (id int64, err error) {
	err = s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM claims WHERE token_hash = ? AND until_at > ?`, hexOf(c.Hash), millis(j.Event.At))); err != nil {
			return err
		}
		if err := nameFree(ctx, tx, j.Keys.Name, j.Event.At); err != nil {
			return err
		}
		if id, err = join(ctx, tx, j); err != nil {
			return err
		}
		return proveAddress(ctx, tx, id, j.Event.At)
	})
	return id, err
}

// forgetOrders takes out of the orders of an account who has ordered.
func forgetOrders(ctx context.Context, tx speaker, account int64) error {
	for _, query := range []string{
		`UPDATE events SET body = '', address = '', words = order_no WHERE state IN ('done', 'ignored') AND order_no IN (SELECT number ` +
			`FROM orders WHERE account_id = ?)`,
		`UPDATE orders SET address = '', address_key = '', name = '' WHERE account_id = ?`,
	} {
		if _, err := tx.exec(ctx, query, account); err != nil {
			return err
		}
	}
	return nil
}
