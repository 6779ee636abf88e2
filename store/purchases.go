package store

import (
	"context"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

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

type orderRow struct {
	Number   string         `db:"number"`
	Address  string         `db:"address"`
	Key      string         `db:"address_key"`
	Name     string         `db:"name"`
	Language words.Language `db:"language"`
	Account  int64          `db:"account_id"`
	MadeAt   int64          `db:"made_at"`
}

const orderColumns = `number, address, address_key, name, language, account_id, made_at`

func (r orderRow) order() Order {
	return Order{r.Number, r.Address, r.Key, r.Name, r.Language, r.Account, moment(r.MadeAt)}
}

type paymentRow struct {
	ID       int64  `db:"id"`
	Order    string `db:"order_no"`
	Item     string `db:"item"`
	Title    string `db:"title"`
	Seq      int64  `db:"seq"`
	At       int64  `db:"at"`
	Told     bit    `db:"told"`
	Again    bit    `db:"again"`
	Role     string `db:"role"`
	Kind     string `db:"kind"`
	Pass     string `db:"pass_id"`
	Lasts    int64  `db:"lasts"`
	Until    int64  `db:"until_at"`
	Grace    int64  `db:"grace"`
	After    string `db:"after_role"`
	AfterFor int64  `db:"after_lasts"`
	Taken    int64  `db:"taken_at"`
	Account  int64  `db:"account_id"`
}

const paymentColumns = `id, order_no, item, title, seq, at, told, again, role, kind, pass_id, lasts, until_at, grace, after_role, ` +
	`after_lasts, taken_at, account_id`

func (r paymentRow) payment() purchase.Payment {
	return purchase.Payment{
		ID: r.ID, Order: r.Order, Item: r.Item, Title: r.Title, Seq: r.Seq, At: moment(r.At), Told: bool(r.Told), Again: bool(r.Again),
		Role: r.Role, Kind: r.Kind, Pass: r.Pass,
		For: time.Duration(r.Lasts) * time.Millisecond, Until: moment(r.Until), Grace: time.Duration(r.Grace) * time.Millisecond,
		After: r.After, AfterFor: time.Duration(r.AfterFor) * time.Millisecond, Taken: moment(r.Taken),
	}
}

// Bought is what is known of what somebody has bought.
type Bought struct {
	Orders   []Order
	Payments []purchase.Payment
	Marks    []purchase.Mark
}

// Order returns what is known of one order. The error is ErrNone if it is not known.
func (s *Store) Order(ctx context.Context, number string) (Order, Bought, error) {
	var r orderRow
	err := s.get(ctx, &r, `SELECT `+orderColumns+` FROM orders WHERE number = ?`, number)
	if err != nil && !errors.Is(none(err), ErrNone) {
		return Order{}, Bought{}, err
	}
	b, failed := boughtIn(ctx, s.speaker, []string{number})
	if failed != nil {
		return Order{}, b, failed
	}
	return r.order(), b, none(err)
}

// BoughtBy returns what the owner of an account has bought; or, for account 0, what was bought with an address and nobody has yet.
func (s *Store) BoughtBy(ctx context.Context, account int64, addressKey string) (Bought, error) {
	return boughtBy(ctx, s.speaker, account, addressKey)
}

func boughtBy(ctx context.Context, tx speaker, account int64, addressKey string) (b Bought, err error) {
	var rows []orderRow
	if account != 0 {
		err = tx.all(ctx, &rows, `SELECT `+orderColumns+` FROM orders WHERE account_id = ? ORDER BY made_at DESC, number`, account)
	} else {
		err = tx.all(ctx, &rows,
			`SELECT `+orderColumns+` FROM orders WHERE account_id = 0 AND address_key = ? ORDER BY made_at DESC, number`, addressKey)
	}
	if err != nil || len(rows) == 0 {
		return b, err
	}
	var numbers []string
	for _, r := range rows {
		numbers = append(numbers, r.Number)
	}
	if b, err = boughtIn(ctx, tx, numbers); err != nil {
		return b, err
	}
	for _, r := range rows {
		b.Orders = append(b.Orders, r.order())
	}
	return b, nil
}

// boughtIn returns the payments and marks of orders.
func boughtIn(ctx context.Context, tx speaker, numbers []string) (b Bought, err error) {
	if len(numbers) == 0 {
		return b, nil
	}
	query, args, err := sqlx.In(`SELECT `+paymentColumns+` FROM payments WHERE order_no IN (?) ORDER BY id`, numbers)
	if err != nil {
		return b, err
	}
	var rows []paymentRow
	if err := tx.all(ctx, &rows, query, args...); err != nil {
		return b, err
	}
	for _, r := range rows {
		b.Payments = append(b.Payments, r.payment())
	}
	if query, args, err = sqlx.In(`SELECT order_no, item, what, seq, at, told FROM order_marks WHERE order_no IN (?) ORDER BY seq`,
		numbers); err != nil {
		return b, err
	}
	var marks []struct {
		Order string        `db:"order_no"`
		Item  string        `db:"item"`
		What  purchase.What `db:"what"`
		Seq   int64         `db:"seq"`
		At    int64         `db:"at"`
		Told  bit           `db:"told"`
	}
	err = tx.all(ctx, &marks, query, args...)
	for _, m := range marks {
		b.Marks = append(b.Marks, purchase.Mark{Order: m.Order, Item: m.Item, What: m.What, Seq: m.Seq, At: moment(m.At), Told: bool(m.Told)})
	}
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
			if _, err := tx.named(ctx, `INSERT INTO payments (order_no,
				item, title, seq, at, told, again, role, kind, pass_id, lasts, until_at, grace, after_role, after_lasts, taken_at, account_id)
				VALUES (:order_no, :item, :title, :seq, :at, :told, :again,
					:role, :kind, :pass_id, :lasts, :until_at, :grace, :after_role, :after_lasts, :taken_at, :account_id)`, paymentRow{
				0, p.Order, p.Item, p.Title, p.Seq, millis(p.At), bit(p.Told), bit(p.Again), p.Role, p.Kind, p.Pass, p.For.Milliseconds(),
				millis(p.Until), p.Grace.Milliseconds(), p.After, p.AfterFor.Milliseconds(), millis(p.Taken), c.Order.Account,
			}); err != nil {
				return err
			}
		}
		if _, err := tx.exec(ctx, `UPDATE payments SET account_id = ? WHERE order_no = ? AND account_id <> ?`, c.Order.Account,
			c.Order.Number, c.Order.Account); err != nil {
			return err
		}
		for _, m := range c.Marks {
			if _, err := tx.exec(ctx, `INSERT INTO order_marks (order_no, item, what, seq, at, told) VALUES (?, ?, ?, ?, ?, ?)`, m.Order,
				m.Item, m.What, m.Seq, millis(m.At), bit(m.Told)); err != nil {
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
			if _, err := tx.exec(ctx,
				`INSERT INTO claims (token_hash, address, address_key, language, made_at, until_at) VALUES (?, ?, ?, ?, ?, ?)`, hexOf(l.Hash),
				l.Address, l.Key, l.Language, millis(l.MadeAt), millis(l.Until)); err != nil {
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
		var there int
		if err := tx.get(ctx, &there, `SELECT COUNT(*) FROM accounts WHERE id = ?`, o.Account); err != nil || there == 0 {
			return errors.Join(err, ErrChanged)
		}
	}
	_, err := tx.named(ctx, `INSERT INTO orders (number, address, address_key, name, language, account_id, made_at)
		VALUES (:number, :address, :address_key, :name, :language, :account_id, :made_at)
		ON CONFLICT (number) DO UPDATE SET address = excluded.address,
			address_key = excluded.address_key, name = excluded.name, language = excluded.language, account_id = excluded.account_id`,
		orderRow{o.Number, o.Address, o.Key, o.Name, o.Language, o.Account, millis(o.MadeAt)})
	return err
}

// settle works out anew what the owner of an account has bought, and writes down what they have for that.
func settle(ctx context.Context, tx speaker, account int64, now time.Time) error {
	tx.changed(account)
	b, err := boughtBy(ctx, tx, account, "")
	if err != nil {
		return err
	}
	byRole := map[string][]purchase.Payment{}
	for _, p := range b.Payments {
		if p.Role != "" {
			byRole[p.Role] = append(byRole[p.Role], p)
		}
	}
	for role, payments := range byRole {
		span, has := purchase.Latest(purchase.Terms(payments, b.Marks))
		if !has {
			if err := endGrants(ctx, tx, now, `g.account_id = ? AND g.role = ? AND g.way = ?`, account, role, wayBought); err != nil {
				return err
			}
			if _, err := tx.exec(ctx, `DELETE FROM grants WHERE account_id = ? AND (role = ? AND way = ? OR way = ?)`, account, role,
				wayBought, wayAfter+role); err != nil {
				return err
			}
			continue
		}
		g := grantRow{account, role, wayBought, millis(span.From), millis(span.Until), boughtBySomebody, span.Last.Payment.Order}
		if err := bought(ctx, tx, g, now); err != nil {
			return err
		}
		if _, err := tx.exec(ctx, `DELETE FROM grants WHERE account_id = ? AND way = ?`, account, wayAfter+role); err != nil {
			return err
		}
		after := span.Last.Payment
		if after.After == "" || span.Until.IsZero() || span.Last.Taken {
			continue
		}
		g.Role, g.Way, g.From, g.Until = after.After, wayAfter+role, g.Until, 0
		if after.AfterFor > 0 {
			g.Until = g.From + after.AfterFor.Milliseconds()
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
func bought(ctx context.Context, tx speaker, g grantRow, now time.Time) error {
	tx.changed(g.Account)
	_, err := tx.exec(ctx, `INSERT INTO grants (account_id, role, way, from_at, until_at, granted_by, order_no, told)
		VALUES (?, ?, ?, ?, ?, ?, ?, 0)
		ON CONFLICT (account_id, role, way) DO UPDATE SET from_at = excluded.from_at, until_at = excluded.until_at, order_no = excluded.order_no,
			told = CASE WHEN grants.told = 2 AND (excluded.until_at = 0 OR excluded.until_at > ?) THEN 0 ELSE grants.told END`,
		g.Account, g.Role, g.Way, g.From, g.Until, g.By, g.Order, millis(now))
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
	var r struct {
		Address  string         `db:"address"`
		Key      string         `db:"address_key"`
		Language words.Language `db:"language"`
		MadeAt   int64          `db:"made_at"`
		Until    int64          `db:"until_at"`
	}
	err := s.get(ctx, &r, `SELECT address, address_key, language, made_at, until_at FROM claims WHERE token_hash = ? AND until_at > ? `+
		`AND made_at <= ?`, hexOf(token), millis(now), millis(now.Add(session.Slack)))
	return Claim{token, r.Address, r.Key, r.Language, moment(r.MadeAt), moment(r.Until)}, none(err)
}

// UseClaim gives the owner of an account what was bought with the address of a link, which has then ended. If it is the address of the
// account, it is proven with that. The error is ErrNone if the link has ended meanwhile.
func (s *Store) UseClaim(ctx context.Context, c Claim, account int64, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM claims WHERE token_hash = ? AND until_at > ?`, hexOf(c.Hash), millis(e.At))); err != nil {
			return err
		}
		tx.changed(account)
		if _, err := tx.exec(ctx, `UPDATE accounts SET proven_at = ? WHERE id = ? AND email_key = ? AND proven_at = 0`, millis(e.At),
			account, c.Key); err != nil {
			return err
		}
		if err := attach(ctx, tx, c.Key, account, e.At); err != nil {
			return err
		}
		return record(ctx, tx, e)
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
