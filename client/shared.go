package client

import (
	"context"
	"net/url"
	"time"
)

// SharedPassword is one password that opens doors for all who have it, as the policy declares it. It never has the
// password or its hash.
type SharedPassword struct {
	Name      string        `json:"name"`
	Title     string        `json:"title"`
	Lasts     string        `json:"lasts"`          // how long an unlock lasts: "7d", "forever", or "0" until the browser is closed
	Place     string        `json:"place"`          // the first place that it opens
	Gone      bool          `json:"gone,omitempty"` // the policy has it no more
	Passwords []SharedValid `json:"passwords"`      // that count now, the newest first; none if it was never set
	Unlocks   int           `json:"unlocks"`        // in so many browsers
}

// SharedValid is that a password counts.
type SharedValid struct {
	MadeAt time.Time  `json:"madeAt"`
	MadeBy string     `json:"madeBy"`
	Until  *time.Time `json:"until"` // none for no end
	UsedAt *time.Time `json:"usedAt"`
}

// SetShared gives a shared password another password.
type SetShared struct {
	Password string `json:"password"`
	Grace    int64  `json:"grace,omitempty"` // seconds for which those before count too
	// EndUnlocks ends what was unlocked with those before; else it goes on.
	EndUnlocks bool `json:"endUnlocks,omitempty"`
}

// Unlock is that a shared password was typed in a browser.
type Unlock struct {
	Handle  string     `json:"handle"`
	Name    string     `json:"name"`
	MadeAt  time.Time  `json:"madeAt"`
	Until   *time.Time `json:"until"`
	Network string     `json:"network"`
	Agent   string     `json:"agent"`
	Account string     `json:"account,omitempty"` // of who was signed in there
}

// Unlocks are unlocks, the newest first.
type Unlocks struct {
	Unlocks []Unlock `json:"unlocks"`
	Total   int      `json:"total"`
}

// TellShared asks for people to be mailed the address and the password of a shared password.
type TellShared struct {
	To       string `json:"to,omitempty"`   // addresses as people type or paste them, or CSV
	Role     string `json:"role,omitempty"` // and those of whoever has this role
	Password string `json:"password"`
	Text     string `json:"text,omitempty"` // in words of one's own; gaps are {title}, {site}, {name}, {place}, {url}
	Language string `json:"language,omitempty"`
}

// ToldShared is what became of that, or would.
type ToldShared struct {
	Recipients []Recipient `json:"recipients"`
	Letter     *Letter     `json:"letter,omitempty"` // what the first of them reads, without the password
}

// Recipient is an address to which something is sent.
type Recipient struct {
	Line    int    `json:"line"` // of the list; 0 if it was not in it
	Address string `json:"address"`
	Name    string `json:"name,omitempty"`
	Wrong   string `json:"wrong,omitempty"` // why nothing can be sent there
}

// Telling is that somebody was told a shared password.
type Telling struct {
	Address string    `json:"address"`
	At      time.Time `json:"at"`
	Actor   string    `json:"actor"`
}

// Tellings are who was told, the latest first.
type Tellings struct {
	Tellings []Telling `json:"tellings"`
	Total    int       `json:"total"`
}

// SharedCalls are the calls about shared passwords.
type SharedCalls struct{ c *Client }

// Shared returns the calls about shared passwords.
func (c *Client) Shared() SharedCalls { return SharedCalls{c} }

func sharedPath(name string) string { return "/shared/" + url.PathEscape(name) }

// List returns all shared passwords.
func (k SharedCalls) List(ctx context.Context) (all []SharedPassword, err error) {
	return all, k.c.do(ctx, "GET", "/shared", nil, &all)
}

// Set gives one another password.
func (k SharedCalls) Set(ctx context.Context, name string, s SetShared) error {
	return k.c.do(ctx, "PUT", sharedPath(name)+"/password", s, nil)
}

// Withdraw takes its passwords away, and ends what was unlocked with them.
func (k SharedCalls) Withdraw(ctx context.Context, name string) error {
	return k.c.do(ctx, "DELETE", sharedPath(name)+"/password", nil, nil)
}

// Unlocks returns in which browsers one is unlocked.
func (k SharedCalls) Unlocks(ctx context.Context, name string) (all Unlocks, err error) {
	return all, k.c.do(ctx, "GET", sharedPath(name)+"/unlocks", nil, &all)
}

// EndAll ends all unlocks of one.
func (k SharedCalls) EndAll(ctx context.Context, name string) error {
	return k.c.do(ctx, "DELETE", sharedPath(name)+"/unlocks", nil, nil)
}

// EndOne ends one unlock.
func (k SharedCalls) EndOne(ctx context.Context, handle string) error {
	return k.c.do(ctx, "DELETE", "/unlocks/"+url.PathEscape(handle), nil, nil)
}

// Send has people mailed it.
func (k SharedCalls) Send(ctx context.Context, name string, t TellShared) (told ToldShared, err error) {
	return told, k.c.do(ctx, "POST", sharedPath(name)+"/send", t, &told)
}

// Preview returns who would be mailed what.
func (k SharedCalls) Preview(ctx context.Context, name string, t TellShared) (told ToldShared, err error) {
	return told, k.c.do(ctx, "POST", sharedPath(name)+"/preview", t, &told)
}

// Told returns who was told.
func (k SharedCalls) Told(ctx context.Context, name string) (all Tellings, err error) {
	return all, k.c.do(ctx, "GET", sharedPath(name)+"/told", nil, &all)
}
