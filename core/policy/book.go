// Package policy holds what a policy says: the Book, which never changes, decides who may go where and explains its decisions.
// Package read makes it of a text, package edit changes that text.
//
// Nothing here touches HTTP, files or a clock; whoever asks brings the request and the visitor.
package policy

import (
	"net/netip"
	"net/url"
	"slices"
	"time"

	"ostiarius/core/document"
	"ostiarius/core/looks"
	"ostiarius/core/place"
	"ostiarius/core/words"
)

// DefaultPrefix is the path below which the own pages are, where a policy names no other.
const DefaultPrefix = "/door"

// A Book is a policy that has been read and found free of errors. It never changes; a
// new version of the policy is a new Book.
type Book struct {
	Site       string // the site's name, for people
	Prefix     string // where Ostiarius's own pages live, such as /door
	Rules      place.Rules
	Roles      []DeclaredRole
	Keyrings   []DeclaredKeyring
	Shared     []DeclaredShared
	Passes     []DeclaredPass
	Sources    []Source
	Doors      []Door // in file order; a door with several paths is several doors
	Checks     []Door // that a program makes itself, beside the doors
	Entries    int    // doors as the file writes them: one that names several paths is one
	Unlisted   Door   // decides the places that no door covers
	Landings   Landings
	Joining    Joining
	Factors    Factors
	Elsewhere  []DeclaredElsewhere
	Shops      []string // to which offers and items may lead, such as https://shop.example
	Items      []Item
	Offers     []Offer
	Events     Events
	Reminders  []time.Duration // how long before an end people are reminded of it, the longest first
	Patrol     time.Duration   // how often the site is walked through by timetable; 0 for not
	Pages      Pages
	Origins    []string // whose scripts may ask who is here, beside the site's own
	Entrance   string   // the canonical path of the sign-in page, for those who know it; "" for the usual address
	Looks      looks.Looks
	LooksAt    document.Position
	Words      words.Set // what pages and mails say
	WordsFile  string    // the file that has them, relative to the policy; "" for none
	WordsAt    document.Position
	Sessions   Sessions
	SessionsOf []RoleSessions
	Guarantees []Guarantee // to be proven by core/prove
	Headers    []Header    // set on the answers of the site, in order of their names

	satisfies map[string]map[string]bool // role asked for -> roles that satisfy it
	matcher   *place.Matcher
	own       []Door // the built-in doors of Ostiarius's own pages
	ownMatch  *place.Matcher
	hides     bool                     // something from somebody
	answers   func(place.Place) string // the address at or below a place that answers; nil if that is not known

	checkMatch *place.Matcher
}

// Steward is the built-in role that may administer Ostiarius itself.
const Steward = "steward"

// A DeclaredRole is a role as the policy declares it.
type DeclaredRole struct {
	Name     string
	Includes []string
	document.Position
}

// A DeclaredKeyring is a keyring as the policy declares it.
type DeclaredKeyring struct {
	Name  string
	Realm string
	document.Position
}

// A Door is one entry of the policy, for one of its paths: the places it covers and
// what it asks.
type Door struct {
	place.Set
	document.Position        // of the path
	Entry             int    // line of the entry; doors written as one entry share it
	Written           string // the path as it stands in the policy
	Check             string // the name, of a check that a program makes itself; "" for a door
	Admit             Demand
	Basic             bool   // an account is asked for with HTTP Basic instead of the form
	Realm             string // the realm of that question
	Otherwise         Otherwise
	// ForwardCredentials hands the credentials of HTTP Basic on to what is behind the door.
	ForwardCredentials bool
	keyrings           []string // that Admit names
	shared             []string
	passes             []string
	ways               []way
	public             bool   // one of the ways asks nothing
	told               string // see Told
}

// Otherwise is what happens instead of the usual answer.
type Otherwise struct {
	Anonymous Instead // to a visitor who is not signed in
	Refused   Instead // to a visitor who is known, and not allowed
}

// Instead is one of three things, or none of them: send to a page, say a text, hide.
type Instead struct {
	Go   string
	Say  string
	Hide bool
	document.Position
}

// String returns what is done in the policy's words, "" for nothing.
func (i Instead) String() string {
	switch {
	case i.Hide:
		return "hide"
	case i.Go != "":
		return "go: " + i.Go
	case i.Say != "":
		return "say: " + i.Say
	}
	return ""
}

func (i Instead) none() bool { return i.Go == "" && i.Say == "" && !i.Hide }

// Landings say where a person is sent after an event when no page was asked for. In
// each list the first fitting line wins.
type Landings struct {
	SignIn         []Landing
	SignOut        []Landing
	Join           []Landing
	PasswordChange []Landing
	Paid           []Landing
}

// The words for when people land somewhere.
var LandingWords = []string{"sign-in", "sign-out", "join", "password-change", "paid"}

// On returns the lines for when people land somewhere, nil for a word that is none of these.
func (l *Landings) On(word string) *[]Landing {
	switch word {
	case "sign-in":
		return &l.SignIn
	case "sign-out":
		return &l.SignOut
	case "join":
		return &l.Join
	case "password-change":
		return &l.PasswordChange
	case "paid":
		return &l.Paid
	}
	return nil
}

// A Landing fits the visitors that have its role or are its user, if it names one.
type Landing struct {
	Role string
	User string
	Go   string
	document.Position
}

// A Guarantee is a promise of the policy about all places of a set and all visitors. One
// of Only, Always and Never is set.
type Guarantee struct {
	place.Set
	document.Position
	Written string // the path as it stands in the policy
	Only    bool   // nobody gets in who does not meet the demand
	Always  bool   // everybody who meets the demand gets in
	Never   bool   // no place is open to everybody
	Because string // why, for people
	Asking  Door   // what Only or Always ask
}

// Demand returns what an Only or Always guarantee asks.
func (g *Guarantee) Demand() Demand { return g.Asking.Admit }

// Says returns what is promised in the policy's words, such as "only: role: trustee".
func (g *Guarantee) Says() string {
	switch {
	case g.Never:
		return "never: public"
	case g.Only:
		return "only: " + g.Demand().String()
	}
	return "always: " + g.Demand().String()
}

// Kind returns the word of the policy for what is promised: only, always or never.
func (g *Guarantee) Kind() string {
	switch {
	case g.Only:
		return "only"
	case g.Never:
		return "never"
	}
	return "always"
}

// Asks says what the guarantee asks, in words.
func (g *Guarantee) Asks() string { return g.Asking.Ask() }

// Meets reports whether a visitor meets the demand of a guarantee.
func (b *Book) Meets(g *Guarantee, v *Visitor) bool { return b.admits(&g.Asking, v) }

// A Header is a field that is set on each answer of the site that does not have it. An empty
// value leaves it away.
type Header struct {
	Name, Value string
	values      []string
}

// Values returns the value as a header has it. It must not be changed.
func (h *Header) Values() []string { return h.values }

// DefaultHeaders keep browsers from guessing, from telling other sites where somebody has
// been, and from showing the site within another.
var DefaultHeaders = []Header{
	NewHeader("Referrer-Policy", "strict-origin-when-cross-origin"),
	NewHeader("X-Content-Type-Options", "nosniff"),
	NewHeader("X-Frame-Options", "SAMEORIGIN"),
}

// NewHeader returns a field; an empty value leaves it away.
func NewHeader(name, value string) Header { return Header{name, value, []string{value}} }

// has reports whether somebody with the roles granted has the role asked for, directly
// or through a role that includes it.
func (b *Book) has(granted []string, asked string) bool {
	by := b.satisfies[asked]
	for _, role := range granted {
		if by[role] {
			return true
		}
	}
	return false
}

// Has is has for those who read a policy.
func Has(b *Book, granted []string, asked string) bool { return b.has(granted, asked) }

// Satisfies reports whether the role granted is the role asked for or includes it.
func (b *Book) Satisfies(granted, asked string) bool { return b.satisfies[asked][granted] }

func (o Otherwise) hides() bool { return o.Anonymous.Hide || o.Refused.Hide }

// Hides reports whether anything is hidden from anybody.
func Hides(b *Book) bool { return b.hides }

// RolesOf returns all roles that a visitor has, with those that they include, in file order.
func (b *Book) RolesOf(v *Visitor) []string {
	if !v.SignedIn {
		return nil
	}
	return slices.DeleteFunc(b.RoleNames(), func(name string) bool { return !b.has(v.Roles, name) })
}

// KnownRole reports whether accounts can be granted the role under this Book.
func (b *Book) KnownRole(name string) bool {
	return b.satisfies[name] != nil
}

// RoleNames returns the roles in file order, the built-in one last.
func (b *Book) RoleNames() []string {
	names := make([]string, 0, len(b.Roles)+1)
	for _, r := range b.Roles {
		if r.Name != Steward {
			names = append(names, r.Name)
		}
	}
	return append(names, Steward)
}

// landing returns the first line that fits the visitor, or "/".
func (b *Book) landing(lines []Landing, v *Visitor) string {
	for _, l := range lines {
		if (l.Role == "" || v.SignedIn && b.has(v.Roles, l.Role)) && (l.User == "" || v.SignedIn && l.User == v.Account) {
			return l.Go
		}
	}
	return "/"
}

// An Occasion is after what people are sent to a page, when they did not ask for one.
type Occasion string

// The occasions.
const (
	AfterSignIn         Occasion = "sign-in"
	AfterSignOut        Occasion = "sign-out" // of who was signed in before
	AfterJoining        Occasion = "join"
	AfterPasswordChange Occasion = "password-change"
	AfterPaying         Occasion = "paid"
)

// After returns where v is sent on an occasion without having asked for a page; "" after a change of the password
// if the policy does not say. Who has joined or paid has signed in, if the policy says nothing else.
func (b *Book) After(o Occasion, v *Visitor) string {
	lines := *b.Landings.On(string(o))
	switch {
	case len(lines) > 0:
		return b.landing(lines, v)
	case o == AfterPasswordChange:
		return ""
	case o == AfterJoining, o == AfterPaying && v.SignedIn:
		return b.landing(b.Landings.SignIn, v)
	}
	return b.landing(nil, v)
}

// IsOwn reports whether a place belongs to Ostiarius's own pages.
func (b *Book) IsOwn(p place.Place) bool {
	return Below(p.Path, b.Prefix) || b.Entrance != "" && p.Path == b.Entrance
}

// Below reports whether the canonical path is root or stands below it.
func Below(path, root string) bool {
	return root == "/" || path == root || len(path) > len(root) && path[:len(root)] == root && path[len(root)] == '/'
}

// Compile builds what deciding needs. It returns the pairs of doors that cover exactly
// the same places.
func Compile(b *Book) (twins [][2]int) {
	b.satisfies = map[string]map[string]bool{}
	includes := map[string][]string{}
	for _, name := range b.RoleNames() {
		b.satisfies[name] = map[string]bool{name: true}
	}
	for _, r := range b.Roles {
		includes[r.Name] = r.Includes
	}
	for _, r := range b.Roles {
		seen := map[string]bool{}
		var include func(name string)
		include = func(name string) {
			for _, inner := range includes[name] {
				if !seen[inner] && b.satisfies[inner] != nil {
					seen[inner] = true
					b.satisfies[inner][r.Name] = true
					include(inner)
				}
			}
		}
		include(r.Name)
	}
	for i := range b.Doors {
		b.prepare(&b.Doors[i])
	}
	b.prepare(&b.Unlisted)
	b.hides = b.Unlisted.Otherwise.hides() || slices.ContainsFunc(b.Doors, func(d Door) bool { return d.Otherwise.hides() })
	for i := range b.Guarantees {
		b.prepare(&b.Guarantees[i].Asking)
	}
	b.matcher, twins = place.NewMatcher(sets(b.Doors))
	for i := range b.Checks {
		b.prepare(&b.Checks[i])
	}
	b.checkMatch, _ = place.NewMatcher(sets(b.Checks)) // several may be for the same places

	b.guardOwn(nil)
	return twins
}

// prepare looks up once what is asked for with each request.
func (b *Book) prepare(door *Door) {
	door.told = (&url.URL{Path: door.Label()}).EscapedPath()
	door.keyrings, door.shared, door.passes = namesIn(Keyring, door.Admit), namesIn(Shared, door.Admit), namesIn(Pass, door.Admit)
	door.ways, _ = door.Admit.ways() // none, which opens nothing, if there are too many
	for _, w := range door.ways {
		door.public = door.public || len(w) == 0
		for _, want := range w {
			if want.rule = ruleOf(want.Kind); want.rule != nil {
				want.rule.prepare(b, want)
			}
		}
	}
}

func sets(doors []Door) []place.Set {
	all := make([]place.Set, len(doors))
	for i := range doors {
		all[i] = doors[i].Set
	}
	return all
}

// guardOwn makes the built-in doors. Ostiarius's own pages are outside the policy's doors, so that no
// policy can lock people out of the sign-in page, or let everybody into the console.
func (b *Book) guardOwn(metrics []netip.Prefix) {
	signedIn, steward := Demand{Kind: SignedIn}, Demand{Kind: Role, Names: []string{Steward}}
	if b.Factors.Stewards != "" {
		steward = Demand{Kind: All, Parts: []Demand{steward, {Kind: Factor, Names: []string{b.Factors.Stewards}}}}
	}
	reader, hidden := steward, Otherwise{Anonymous: Instead{Hide: true}, Refused: Instead{Hide: true}}
	if len(metrics) > 0 {
		reader = Demand{Kind: Any, Parts: []Demand{steward, {Kind: Network, Nets: metrics}}}
	}
	type own struct {
		path      string
		admit     Demand
		otherwise Otherwise
	}
	var asked Otherwise // to sign in
	doors := []own{}
	if b.Entrance != "" { // where that is, is told to nobody
		asked.Anonymous.Hide = true
		doors = []own{{b.Entrance, Demand{Kind: Public}, Otherwise{}}, {b.Prefix + "/sign-in", Demand{Kind: Nobody}, hidden}}
	}
	doors = append(doors, []own{
		{b.Prefix + "/**", Demand{Kind: Public}, Otherwise{}},
		{b.Prefix + "/account/**", signedIn, asked},
		{b.Prefix + "/prove-again", signedIn, asked},
		{b.Prefix + "/console/**", steward, asked},
		{b.Prefix + "/api/**", steward, asked},
		{b.Prefix + "/metrics", reader, hidden},
	}...)
	b.own = nil
	for _, d := range doors {
		pattern, err := place.ParsePattern(d.path, b.Rules)
		if err != nil {
			panic("policy: the prefix was not checked: " + err.Error())
		}
		door := Door{Set: place.Set{Path: pattern}, Written: pattern.String(), Admit: d.admit, Otherwise: d.otherwise}
		b.prepare(&door)
		b.own = append(b.own, door)
	}
	b.ownMatch, _ = place.NewMatcher(sets(b.own))
}

// LetReadMetrics has the built-in door of the metrics admit some networks beside stewards. It is for
// a Book that nobody uses yet.
func (b *Book) LetReadMetrics(from []netip.Prefix) { b.guardOwn(from) }

// BuiltIn returns the built-in doors, which guard Ostiarius's own pages.
func (b *Book) BuiltIn() []Door { return slices.Clone(b.own) }

// Relate returns how two doors lie to each other.
func (b *Book) Relate(i, j int) place.Relation { return b.Doors[i].Set.Relate(b.Doors[j].Set) }

// Deciding returns the doors that decide about a place, in file order: those that count,
// or Unlisted alone where no door covers the place; then the checks there.
func (b *Book) Deciding(p place.Place) []*Door {
	doors, counting := b.counting(&p, nil)
	checks := b.checksAt(&p)
	if len(counting) == 0 {
		return append([]*Door{&b.Unlisted}, checks...)
	}
	slices.Sort(counting)
	deciding := make([]*Door, len(counting))
	for i, id := range counting {
		deciding[i] = &doors[id]
	}
	return append(deciding, checks...)
}

// DoorFor returns the door for just these places, nil if there is none.
func (b *Book) DoorFor(set place.Set) *Door {
	wanted := DescribeSet(&Door{Set: set})
	for i := range b.Doors {
		if DescribeSet(&b.Doors[i]) == wanted {
			return &b.Doors[i]
		}
	}
	return nil
}

// Covering returns all doors that cover a place, in file order; those that are built in last.
func (b *Book) Covering(p place.Place) (all []*Door) {
	for i := range b.Doors {
		if b.Doors[i].Covers(p) {
			all = append(all, &b.Doors[i])
		}
	}
	for i := range b.own {
		if b.own[i].Covers(p) {
			all = append(all, &b.own[i])
		}
	}
	return append(all, b.checksAt(&p)...)
}

// Unlisted is what is written in place of a path by the rule for places that no door covers.
const Unlisted = "unlisted"

// Label names the places of a door in the policy's words: its methods, host and path.
func (d *Door) Label() string {
	if d.Check != "" {
		return "check " + d.Check
	}
	return d.Where()
}

// Where returns the methods, host and path of a door or check as they are written.
func (d *Door) Where() string {
	where := d.Host.String() + d.Written
	if methods := d.Methods.String(); methods != "" {
		where = methods + " " + where
	}
	return where
}

// Told is the label as servers behind are told it, in a field of a header: percent-encoded. It is made once, since each request has it.
func (d *Door) Told() string { return d.told }

// AsksNobody reports whether the door is written to admit nobody.
func (d *Door) AsksNobody() bool { return d.Admit.Kind == Nobody }

// IsPublic reports whether the door admits everybody.
func (d *Door) IsPublic() bool { return d.public }

// Matters reports whether holding a role can make a difference: a door, a landing or a
// guarantee asks for it, or for a role that it includes.
func (b *Book) Matters(role string) bool {
	var asked func(d Demand) bool
	asked = func(d Demand) bool {
		return d.Kind == Role && slices.ContainsFunc(d.Names, func(name string) bool { return b.Satisfies(role, name) }) ||
			slices.ContainsFunc(d.Parts, asked)
	}
	for i := range b.Doors {
		if asked(b.Doors[i].Admit) {
			return true
		}
	}
	for i := range b.Guarantees {
		if asked(b.Guarantees[i].Demand()) {
			return true
		}
	}
	return slices.ContainsFunc(slices.Concat(b.Landings.SignIn, b.Landings.SignOut, b.Landings.Join, b.Landings.PasswordChange,
		b.Landings.Paid),
		func(l Landing) bool { return l.Role != "" && b.Satisfies(role, l.Role) })
}

// Keyrings returns the keyrings that the door asks for, in any way.
func (d *Door) Keyrings() []string { return d.keyrings }

// Shared returns the shared passwords that the door asks for, in any way.
func (d *Door) Shared() []string { return d.shared }

// Passes returns the kinds of pass that the door asks for, in any way.
func (d *Door) Passes() []string { return d.passes }

// namesIn returns the keyrings, shared passwords or kinds of pass that a demand names.
func namesIn(kind Kind, d Demand) (names []string) {
	if d.Kind == kind {
		names = d.Names
	}
	for _, part := range d.Parts {
		for _, name := range namesIn(kind, part) {
			if !slices.Contains(names, name) {
				names = append(slices.Clip(names), name)
			}
		}
	}
	return names
}

// RequestFor returns a request for a place, spelled as in a link.
func RequestFor(p place.Place) Request {
	return Request{Method: p.Method, Host: p.Host, Path: Escape(p)}
}
