package client

import (
	"time"
)

// What can be asked about what shops tell, and about the programs that are told what happens.
var (
	ListShopEvents = Get[ShopEventQuery, ShopEvents]("/events", "What shops have told, the newest first", AtRest, Fails(422))
	ShowShopEvent  = Get[ByNumber, ShopEvent]("/events/{id}", "One event", AtRest, Fails(404))
	RetryShopEvent = Post[ByNumber, None]("/events/{id}/retry",
		"Carry out an event that was kept, or send its link again to a buyer who hasn't followed it", Fails(404, 422))
	DropShopEvent    = Post[ByNumber, None]("/events/{id}/drop", "Don't carry out an event that was kept", Fails(404, 422))
	ImportPayments   = Post[PaymentsImport, ImportedPayments]("/events/import", "Import a list of payments", MaxBody(32<<20), Fails(422))
	ListEventSecrets = Get[None, []EventSecret]("/events/secrets",
		"The secrets that events may be signed with, without the secrets themselves", AtRest)
	AddEventSecret = Post[NewEventSecret, MadeSecret]("/events/secrets",
		"Add a secret; it's shown this once", Created, Fails(409, 422))
	RemoveEventSecret = Delete[ByNumber, None]("/events/secrets/{id}", "Remove a secret", Fails(404))
	ListTargets       = Get[None, []Target]("/targets", "The programs that are told what happens", AtRest)
	AddTarget         = Post[NewTarget, MadeTarget]("/targets",
		"Have a program told what happens; its secret is shown this once", Created, Fails(409, 422))
	RemoveTarget = Delete[ByNumber, None]("/targets/{id}", "Have a program told nothing more", Fails(404))
	TestTarget   = Post[ByNumber, None]("/targets/{id}/test", "Have a program told that this is a test", Fails(404))
)

// ShopEventQuery says which events are meant.
type ShopEventQuery struct {
	State  string `json:"-" query:"state" enum:"waiting|done|kept|ignored"`
	Search string `json:"-" query:"search"`            // in the order, the address, the name or the type
	Before int64  `json:"-" query:"before"`            // only events with a lower number
	Limit  int    `json:"-" query:"limit" most:"1000"` // 100 unless given
}

// ShopEvent is what a shop told of an order, as its state is: waiting, done, kept or ignored.
type ShopEvent struct {
	ID       int64      `json:"id"`
	Source   string     `json:"source" enum:"shop|list"`
	Number   string     `json:"number"` // that its sender gave it
	At       time.Time  `json:"at"`     // when it came
	Type     string     `json:"type"`
	Order    string     `json:"order"`
	Address  string     `json:"address,omitempty"`
	Name     string     `json:"name,omitempty"`
	Account  string     `json:"account,omitempty"` // as the shop named it
	Items    []ShopItem `json:"items"`
	Until    *time.Time `json:"until,omitempty"`
	Happened *time.Time `json:"happened,omitempty"` // as the shop says
	State    string     `json:"state" enum:"waiting|done|kept|ignored"`
	Problem  string     `json:"problem,omitempty"` // why it is kept, or what is to be known of it
	DoneAt   *time.Time `json:"doneAt,omitempty"`
}

// ShopItem is something that was bought.
type ShopItem struct {
	Item   string `json:"item"`
	Name   string `json:"name,omitempty"`
	Number int    `json:"number"`
}

// ShopEvents are events, the newest first, and how many there are in each state in all.
type ShopEvents struct {
	Events  []ShopEvent `json:"events"`
	Waiting int         `json:"waiting"`
	Done    int         `json:"done"`
	Kept    int         `json:"kept"`
	Ignored int         `json:"ignored"`
}

// EventSecret is a secret with which events may be signed, without itself.
type EventSecret struct {
	ID     int64      `json:"id"`
	MadeAt time.Time  `json:"madeAt"`
	MadeBy string     `json:"madeBy"`
	Until  *time.Time `json:"until,omitempty"`
}

// NewEventSecret asks for a secret: the one given, or a new one.
type NewEventSecret struct {
	Secret string `json:"secret,omitempty"` // that the shop has made
	Grace  *int64 `json:"grace,omitempty"`  // seconds for which those before count on; without, they do as before
}

// MadeSecret is a new secret, shown this once.
type MadeSecret struct {
	Secret string `json:"secret"`
}

// PaymentsImport brings in a list of payments.
type PaymentsImport struct {
	File string `json:"file"`
	Dry  bool   `json:"dryRun,omitempty"`
}

// ImportedPayments say what became of each line of a list of payments, or would.
type ImportedPayments struct {
	Lines []ImportedLine `json:"lines"`
}

// Target is a program that is told what happens.
type Target struct {
	ID     int64     `json:"id"`
	URL    string    `json:"url"`
	Kinds  []string  `json:"kinds"`
	MadeAt time.Time `json:"madeAt"`
	MadeBy string    `json:"madeBy"`
}

// NewTarget asks for a program to be told what happens.
type NewTarget struct {
	URL   string   `json:"url"`
	Kinds []string `json:"kinds"`
}

// MadeTarget is a new target, with the secret with which it is told, shown this once.
type MadeTarget struct {
	ID     int64  `json:"id"`
	Secret string `json:"secret"`
}
