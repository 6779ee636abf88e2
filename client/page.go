package client

import "time"

// What the scripts of a page of the site can ask, as whoever is signed in there. No call of this package asks it.
var (
	ShowMe   = Get[None, Me]("/me", "Who asks", Under("/door"), Cached)
	ShowMay  = Get[MayQuery, May]("/may", "What somebody would get at some addresses", Under("/door"), Cached, Fails(400))
	AskedMay = Post[AskedPlaces, May]("/may", "The same, with a method for each; nothing is changed", Under("/door"), Fails(400))
)

// MayQuery names addresses.
type MayQuery struct {
	Paths  []string `json:"-" query:"path" required:""` // at most 500
	Method string   `json:"-" query:"method"`           // of all of them; GET unless given
}

// Me says who asks, to the scripts of a page: GET /door/me.
type Me struct {
	SignedIn bool       `json:"signedIn"`
	Name     string     `json:"name"`             // "" for nobody
	Roles    []string   `json:"roles"`            // with those that they include
	Proven   *time.Time `json:"proven,omitempty"` // when the password was typed last
	Ends     *time.Time `json:"ends,omitempty"`   // when the session ends, whatever happens
	Idle     int        `json:"idle,omitempty"`   // seconds without a request after which it ends
	Unlocked []string   `json:"unlocked"`         // the shared passwords that are unlocked
	Passes   []string   `json:"passes"`           // the kinds of pass that are held
	Ways     Ways       `json:"ways"`
}

// Ways are the addresses of pages, as far as they are of use to somebody and are told to them.
type Ways struct {
	SignIn     string `json:"signIn,omitempty"`
	SignOut    string `json:"signOut,omitempty"`
	Account    string `json:"account,omitempty"`
	ProveAgain string `json:"proveAgain,omitempty"`
	Unlock     string `json:"unlock,omitempty"`
	Join       string `json:"join,omitempty"`
	Recover    string `json:"recover,omitempty"`
}

// AskedPlaces are the addresses that POST /door/may is asked about, at most 500.
type AskedPlaces struct {
	Places []AskedPlace `json:"places"`
}

// AskedPlace is one of them.
type AskedPlace struct {
	Path   string `json:"path"`             // as in a link, with a query if it has one
	Method string `json:"method,omitempty"` // GET unless given
}

// May says what somebody would get there, in the same order.
type May struct {
	Places []PlaceToGo `json:"places"`
}

// PlaceToGo is what somebody would get at an address.
type PlaceToGo struct {
	Path   string `json:"path"`
	Method string `json:"method"`
	May    bool   `json:"may"` // they are let in
	// admit, challenge, refuse, reject, or missing for what is not there for them
	Outcome string `json:"outcome" enum:"admit|challenge|refuse|reject|missing"`
	Code    string `json:"code,omitempty"` // what is missing, as a program is told it
	Name    string `json:"name,omitempty"` // of the shared password, or the kind of pass, or the words for a factor
	Go      string `json:"go,omitempty"`   // where to go instead
}
