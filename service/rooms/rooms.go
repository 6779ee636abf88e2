// Package rooms opens the rooms of the service for what people do: accounts, sessions, keyrings, signing in,
// and finding out who asks.
package rooms

import (
	"context"
	"log/slog"
	"reflect"
	"time"

	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/telling"
	"ostiarius/core/throttle"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/hashing"
	"ostiarius/service/base/known"
	"ostiarius/service/door/visitor"
	"ostiarius/service/held/keyrings"
	"ostiarius/service/held/passes"
	"ostiarius/service/held/shared"
	"ostiarius/service/keep/activity"
	"ostiarius/service/keep/letters"
	"ostiarius/service/keep/mail"
	"ostiarius/service/shop/events"
	"ostiarius/service/shop/members"
	"ostiarius/service/shop/outgoing"
	"ostiarius/service/walk/patrols"
	"ostiarius/service/walk/walks"
	"ostiarius/service/who/accesskeys"
	"ostiarius/service/who/elsewhere"
	"ostiarius/service/who/factors"
	"ostiarius/service/who/joining"
	"ostiarius/service/who/leaving"
	"ostiarius/service/who/people"
	"ostiarius/service/who/recovery"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
	"ostiarius/store"
)

// Options are what Rooms need: all but KeepActivity and KeepEvents.
type Options struct {
	Store        *store.Store
	Book         func() *policy.Book // the policy now in force
	Now          func() time.Time
	Hashing      *hashing.Pool
	Front        *guard.Front
	Mail         Mail
	Log          *slog.Logger
	Telling      telling.Rules   // where other programs may be told something
	Files        func() []string // addresses of files behind, for patrols
	KeepActivity time.Duration   // 0 for ever
	KeepEvents   int             // at most; a usual number if zero
	Elsewhere    Elsewhere
	More         []any // other rooms
}

// Elsewhere is what it takes to speak to providers: this site's secrets there, and where one describes itself if that is not at its
// issuer; by their names.
type Elsewhere struct{ Secrets, At map[string]string }

// Mail is how messages are handed over.
type Mail struct {
	Server    *mail.Server          // nil for none
	Notices   map[message.Kind]bool // what owners of an account are told that was done to it
	PerMinute int                   // at most; 0 for any number
	Site      func() string         // the address of the site
}

// Rooms are the rooms, from below: each knows only those before it.
type Rooms struct {
	Endings    *ending.List
	Limiter    *throttle.Limiter // one for all ways to try a password
	Places     *known.Places
	Activity   *activity.Log
	Mail       *mail.Outbox
	Sessions   *sessions.Records
	People     *people.Register
	Keyrings   *keyrings.Keyrings
	Shared     *shared.Passwords
	Passes     *passes.Passes
	Factors    *factors.Factors
	AccessKeys *accesskeys.Keys
	Recovery   *recovery.Recovery
	Joining    *joining.Joining
	Leaving    *leaving.Leaving
	Events     *events.Inbox
	Members    *members.Members
	Outgoing   *outgoing.Notifier
	SignIn     *signin.Entrance
	Elsewhere  *elsewhere.Providers
	Walks      *walks.Walks
	Patrols    *patrols.Patrols
	Visitors   *visitor.Finder
	More       []any // others that whoever opens them has
}

// Which returns the rooms that can do something, from below: what they have in common is asked of all of them, and no list names them.
func Which[T any](r *Rooms) (all []T) {
	add := func(room any) {
		if is, can := room.(T); can {
			all = append(all, is)
		}
	}
	fields := reflect.ValueOf(r).Elem()
	for i := range fields.NumField() {
		if fields.Field(i).Kind() == reflect.Pointer {
			add(fields.Field(i).Interface())
		}
	}
	for _, room := range r.More {
		add(room)
	}
	return all
}

// What rooms can do besides.
type (
	// A Runner works while the service runs, until ctx ends.
	Runner interface{ Run(ctx context.Context) }
	// A Remarker says what a steward should look at, in sentences.
	Remarker interface {
		Remarks(ctx context.Context) ([]string, error)
	}
)

// Open opens the rooms. The error says that the records cannot be read.
func Open(o Options) (*Rooms, error) {
	if err := o.Hashing.LearnAll(context.Background(), o.Store.Hashes); err != nil {
		return nil, err
	}
	r := &Rooms{
		More: o.More, Endings: &ending.List{}, Limiter: &throttle.Limiter{}, Places: known.New(known.Options{Store: o.Store, Now: o.Now}),
	}
	r.Activity = activity.New(activity.Options{Store: o.Store, Now: o.Now, Keep: o.KeepActivity, Most: o.KeepEvents})
	r.Mail = mail.New(mail.Options{
		Store: o.Store, Now: o.Now, Log: o.Log, Server: o.Mail.Server, PerMinute: o.Mail.PerMinute, Keep: o.KeepActivity,
		Sender: func() message.Sender {
			return message.Sender{Site: o.Book().Site, URL: o.Mail.Site(), Words: o.Book().Words, Looks: o.Book().Looks, Zone: time.Local}
		},
	})
	r.Sessions = sessions.New(sessions.Options{Store: o.Store, Book: o.Book, Now: o.Now, Endings: r.Endings})
	owners := letters.New(letters.Options{Book: o.Book, Now: o.Now, Notices: o.Mail.Notices})
	r.People = people.New(people.Options{
		Store: o.Store, Book: o.Book, Now: o.Now, Hashing: o.Hashing, Endings: r.Endings, Letters: owners,
	})
	var err error
	if r.Factors, err = factors.New(factors.Options{
		Store: o.Store, Book: o.Book, Now: o.Now, Limiter: r.Limiter, Activity: r.Activity, People: r.People, Letters: owners,
	}); err != nil {
		return nil, err
	}
	r.AccessKeys = accesskeys.New(accesskeys.Options{
		Store: o.Store, Book: o.Book, Now: o.Now, Endings: r.Endings, Activity: r.Activity, Letters: owners, Sessions: r.Sessions,
	})
	r.Keyrings = keyrings.New(keyrings.Options{
		Store: o.Store, Book: o.Book, Now: o.Now, Hashing: o.Hashing, Limiter: r.Limiter, Places: r.Places, Endings: r.Endings,
		Activity: r.Activity, Log: o.Log,
	})
	r.Shared = shared.New(shared.Options{
		Store: o.Store, Book: o.Book, Now: o.Now, Hashing: o.Hashing, Limiter: r.Limiter, Places: r.Places, Endings: r.Endings,
		Activity: r.Activity,
	})
	r.Passes = passes.New(passes.Options{
		Store: o.Store, Book: o.Book, Now: o.Now, Limiter: r.Limiter, Places: r.Places, Endings: r.Endings, Activity: r.Activity,
		Log: o.Log, Keep: o.KeepActivity,
	})
	r.Recovery = recovery.New(recovery.Options{
		Store: o.Store, Book: o.Book, Now: o.Now, Limiter: r.Limiter, Endings: r.Endings, People: r.People, Letters: owners,
	})
	r.Leaving = leaving.New(leaving.Options{Store: o.Store, Book: o.Book, Now: o.Now, Letters: owners, Sessions: r.Sessions})
	if r.Joining, err = joining.New(joining.Options{
		Store: o.Store, Book: o.Book, Now: o.Now, Hashing: o.Hashing, Limiter: r.Limiter, People: r.People,
	}); err != nil {
		return nil, err
	}
	r.Members = members.New(members.Options{Store: o.Store, Book: o.Book, Now: o.Now, Passes: r.Passes})
	r.Outgoing = outgoing.New(outgoing.Options{Store: o.Store, Now: o.Now, Log: o.Log, Rules: o.Telling})
	if r.Events, err = events.New(events.Options{
		Store: o.Store, Book: o.Book, Now: o.Now, Passes: r.Passes, People: r.People, Activity: r.Activity, Log: o.Log, Keep: o.KeepActivity,
	}); err != nil {
		return nil, err
	}
	if r.SignIn, err = signin.New(signin.Options{
		Store: o.Store, Now: o.Now, Hashing: o.Hashing, Limiter: r.Limiter, Places: r.Places, Endings: r.Endings, Activity: r.Activity,
		People: r.People, Letters: owners, Sessions: r.Sessions, Factors: r.Factors, Log: o.Log,
	}); err != nil {
		return nil, err
	}
	if r.Elsewhere, err = elsewhere.New(elsewhere.Options{
		Joining: r.Joining,
		Store:   o.Store, Book: o.Book, Now: o.Now, Limiter: r.Limiter, Activity: r.Activity, Letters: owners, Sessions: r.Sessions,
		SignIn: r.SignIn, Secrets: o.Elsewhere.Secrets, At: o.Elsewhere.At, Log: o.Log,
	}); err != nil {
		return nil, err
	}
	r.Walks = walks.New(walks.Options{Now: o.Now, Activity: r.Activity})
	r.Patrols = patrols.New(patrols.Options{
		Store: o.Store, Book: o.Book, Now: o.Now, Site: o.Mail.Site, Files: o.Files, Cookie: visitor.WalkCookie, Walks: r.Walks,
		People: r.People, Log: o.Log,
	})
	r.Visitors = visitor.New(visitor.Options{
		Store: o.Store, Now: o.Now, Front: o.Front, Endings: r.Endings, Sessions: r.Sessions, Keys: r.AccessKeys, SignIn: r.SignIn,
		Keyrings: r.Keyrings, Shared: r.Shared, Passes: r.Passes, Walks: r.Walks, Activity: r.Activity, Log: o.Log,
	})
	return r, nil
}
