package replay

import (
	"bytes"
	"cmp"
	"hash/maphash"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ostiarius/core/policy"
)

// Options say by what a log is judged.
type Options struct {
	New *policy.Book
	// Old is the policy of the time; nil if it is not known, and then the status says whether a request was answered.
	Old *policy.Book
	// Host is taken where the log does not say which was asked for.
	Host string
	// Kinds are the visitors that are tried where the log does not say who asked. The first has proven nothing.
	Kinds []policy.Visitor
	// Who returns who somebody was at a time, by the name in the log; false if that is not known. It may be nil.
	Who func(name string, at time.Time) (policy.Visitor, bool)
}

// An Effect is what the new policy changes for a request.
type Effect string

const (
	Closed  Effect = "closed"  // it was answered, and would be turned away, whoever it was
	Opened  Effect = "opened"  // it was turned away, and would be answered, whoever it was
	Depends Effect = "depends" // that depends on who it was, which the log does not say
)

// A Group is requests for one address that are changed alike.
type Group struct {
	Effect   Effect         `json:"effect"`
	Door     policy.DoorRef `json:"door"` // of the new policy
	Method   string         `json:"method"`
	Host     string         `json:"host"`
	Path     string         `json:"path"` // canonical; "..." for more addresses than are told apart
	Requests int64          `json:"requests"`
	People   int            `json:"people"` // by their names, or else by their network addresses; about, if there are more than 96
	First    *time.Time     `json:"first"`
	Last     *time.Time     `json:"last"`
	Before   string         `json:"before"` // the outcome, or the status in the log
	After    string         `json:"after"`
	Visitors []string       `json:"visitors"` // for whom it is so, of those that it may have been
}

// A group is a Group that is being counted.
type group struct {
	Group
	people crowd
	from   int64
	until  int64
}

// An Uncovered address is one that no door of the new policy covers.
type Uncovered struct {
	Method   string `json:"method"`
	Host     string `json:"host"`
	Path     string `json:"path"`
	Requests int64  `json:"requests"`
}

// A Result is what a replay has found.
type Result struct {
	Lines     int64       `json:"lines"`
	Requests  int64       `json:"requests"`
	Unread    int64       `json:"unread"`   // lines that are none of a log
	Rejected  int64       `json:"rejected"` // requests that the policy rejects as malformed, and that were answered
	Unknown   int64       `json:"unknown"`  // requests of which the log does not say who sent them
	Named     int64       `json:"named"`    // requests of which it does
	First     *time.Time  `json:"first"`
	Last      *time.Time  `json:"last"`
	Changed   int64       `json:"changed"` // requests that would be answered otherwise for certain
	People    int         `json:"people"`  // who sent those
	Groups    []Group     `json:"groups"`
	Uncovered []Uncovered `json:"uncovered"`
	Example   string      `json:"example,omitempty"` // a line that could not be read
}

// Bounds of what is held in memory.
const (
	mostGroups   = 4000
	mostVerdicts = 8000
)

// A Replay judges lines, and holds what it has found so far. It is for one goroutine; several are merged.
type Replay struct {
	o        Options
	r        Result
	verdicts map[string]*verdict
	groups   map[groupKey]*group
	bare     map[addressKey]int64
	seed     maphash.Seed
	from     int64
	until    int64
	key      []byte
	names    []string // of o.Kinds
	changed  crowd    // who sent what would be answered otherwise
}

type addressKey struct{ method, host, path string }

type groupKey struct {
	effect Effect
	addressKey
	before, after, visitors string
}

// A verdict is what each kind of visitor gets at an address, under the new policy and the old.
type verdict struct {
	address   addressKey
	visitors  []string
	after     []policy.Outcome
	before    []policy.Outcome // nil without an old policy
	door      policy.DoorRef
	uncovered bool
	known     bool // who it was
}

// New returns a Replay.
func New(o Options) *Replay {
	if len(o.Kinds) == 0 {
		o.Kinds = []policy.Visitor{{}}
	}
	return &Replay{
		o: o, verdicts: map[string]*verdict{}, groups: map[groupKey]*group{}, bare: map[addressKey]int64{}, seed: maphash.MakeSeed(),
	}
}

// Line judges one line, without its end. It is not held on to.
func (p *Replay) Line(text []byte) {
	p.r.Lines++
	var r Record
	if err := Read(text, &r); err != nil {
		if len(bytes.TrimSpace(text)) == 0 {
			p.r.Lines--
			return
		}
		if p.r.Unread++; p.r.Example == "" {
			p.r.Example = string(text[:min(len(text), 200)])
		}
		return
	}
	p.r.Requests++
	if r.At > 0 {
		if p.from == 0 || r.At < p.from {
			p.from = r.At
		}
		p.until = max(p.until, r.At)
	}
	v := p.verdict(&r)
	if v.known {
		p.r.Named++
	} else {
		p.r.Unknown++
	}
	if v.after[0] == policy.Reject {
		if answered(&r) {
			p.r.Rejected++
		}
		return
	}
	if v.uncovered {
		if _, told := p.bare[v.address]; told || len(p.bare) < mostGroups {
			p.bare[v.address]++
		} else {
			p.bare[addressKey{v.address.method, v.address.host, "..."}]++
		}
	}
	p.weigh(v, &r)
}

// verdict returns what is decided about the address of a record, for who it may have been.
func (p *Replay) verdict(r *Record) *verdict {
	path, _, _ := bytes.Cut(r.Target, []byte("?"))
	host := r.Host
	if len(host) == 0 {
		host = []byte(p.o.Host)
	}
	p.key = append(p.key[:0], r.Method...)
	p.key = append(append(append(append(p.key, ' '), host...), ' '), path...)
	known := len(r.User) > 0 && p.o.Who != nil && len(r.As) == 0
	var as []policy.Visitor // who it was, if the line says that
	if len(r.As) > 0 {
		if who, err := policy.ParseVisitor(string(r.As)); err == nil {
			as = []policy.Visitor{who}
			p.key = append(append(p.key, " ="...), r.As...)
		}
	}
	switch { // who it may have been differs
	case as != nil:
	case len(r.User) > 0:
		p.key = append(p.key, " +"...)
	case len(r.Outcome) > 0:
		p.key = append(p.key, " -"...)
	}
	if known {
		p.key = append(append(p.key, ' '), r.User...)
		if day := r.At / 86400; day != 0 { // what somebody was may change
			p.key = append(p.key, ' ', byte(day), byte(day>>8), byte(day>>16))
		}
	}
	if v := p.verdicts[string(p.key)]; v != nil {
		return v
	}
	if len(p.verdicts) >= mostVerdicts {
		clear(p.verdicts)
	}
	kinds := p.o.Kinds
	if as != nil {
		v := p.decide(policy.Request{Method: string(r.Method), Host: string(host), Path: string(path)}, as)
		v.known = true
		v.visitors = []string{kindOf(as[0])}
		p.verdicts[string(p.key)] = v
		return v
	}
	if known {
		if who, ok := p.o.Who(string(r.User), time.Unix(r.At, 0)); ok {
			kinds = []policy.Visitor{who}
		} else {
			known = false
		}
	}
	if !known && (len(r.User) > 0 || len(r.Outcome) > 0) { // signed in, or for certain not
		kinds = slices.DeleteFunc(slices.Clone(kinds), func(v policy.Visitor) bool { return v.SignedIn != (len(r.User) > 0) })
		if len(kinds) == 0 {
			kinds = p.o.Kinds
		}
	}
	v := p.decide(policy.Request{Method: string(r.Method), Host: string(host), Path: string(path)}, kinds)
	v.known = known
	p.verdicts[string(p.key)] = v
	return v
}

// kindOf names what somebody is, and not who or from where, so that the same is told of all of them together.
func kindOf(v policy.Visitor) string {
	v = v.Aged(func(time.Duration) time.Duration { return 0 })
	v.Account, v.From, v.Enrolled = "", netip.Addr{}, 0
	return v.String()
}

// namesOf names visitors; those that are tried again and again once.
func (p *Replay) namesOf(kinds []policy.Visitor) []string {
	if len(kinds) == len(p.o.Kinds) && p.names != nil && &kinds[0] == &p.o.Kinds[0] {
		return p.names
	}
	names := make([]string, len(kinds))
	for i := range kinds {
		names[i] = kinds[i].String()
	}
	if len(kinds) == len(p.o.Kinds) && &kinds[0] == &p.o.Kinds[0] {
		p.names = names
	}
	return names
}

func (p *Replay) decide(r policy.Request, kinds []policy.Visitor) *verdict {
	v := &verdict{address: addressKey{r.Method, r.Host, r.Path}, visitors: p.namesOf(kinds), after: make([]policy.Outcome, 0, len(kinds))}
	for i := range kinds {
		d := p.o.New.Decide(r, &kinds[i])
		v.after = append(v.after, d.Outcome)
		if d.Outcome != policy.Reject {
			v.address.path = d.Place.Path
		}
		if d.Door != nil && i == 0 {
			v.door = policy.Refer(d.Door)
			v.uncovered = d.Door == &p.o.New.Unlisted
		}
		if p.o.Old != nil {
			v.before = append(v.before, p.o.Old.Decide(r, &kinds[i]).Outcome)
		}
	}
	return v
}

func answered(r *Record) bool {
	if len(r.Outcome) > 0 {
		return string(r.Outcome) == string(policy.Admit)
	}
	return r.Status >= 200 && r.Status < 300 || r.Status == 304
}

func turnedAway(r *Record) bool {
	if len(r.Outcome) > 0 {
		return string(r.Outcome) != string(policy.Admit) && string(r.Outcome) != string(policy.Reject)
	}
	return r.Status == 401 || r.Status == 403
}

// weigh says what changes for a record: of the visitors that it may have been, those under whom the old policy gives the answer
// that is in the log; or all of them without an old policy.
func (p *Replay) weigh(v *verdict, r *Record) {
	was, away := answered(r), turnedAway(r)
	var fits [64]bool
	n := min(len(v.after), len(fits))
	any := false
	for i := range n {
		fits[i] = v.before == nil || was && v.before[i] == policy.Admit || away && v.before[i] != policy.Admit || !was && !away &&
			fitting(r, v.before[i])
		any = any || fits[i]
	}
	if v.before == nil && !was && !away {
		return // a redirect, something missing or broken: nothing can be told
	}
	if !any {
		return // the old policy does not explain the answer
	}
	same, opens, closes := 0, 0, 0
	for i := range n {
		if !fits[i] {
			continue
		}
		admitted := was
		if v.before != nil {
			admitted = v.before[i] == policy.Admit
		}
		switch admits := v.after[i] == policy.Admit; {
		case admits == admitted:
			same++
		case admits:
			opens++
		default:
			closes++
		}
	}
	effect := Depends
	switch {
	case opens+closes == 0:
		return
	case same+opens == 0:
		effect = Closed
	case same+closes == 0:
		effect = Opened
	}
	if same == 0 {
		p.r.Changed++
	}
	p.count(v, r, effect, fits[:n], was)
}

// fitting reports whether an outcome can have given the answer in the log, where that is neither content nor a refusal.
func fitting(r *Record, o policy.Outcome) bool {
	switch {
	case r.Status >= 300 && r.Status < 400:
		return o == policy.Challenge || o == policy.Refuse || o == policy.Admit
	case r.Status == 404:
		return o == policy.Hide || o == policy.Admit
	case r.Status == 400:
		return o == policy.Reject || o == policy.Admit
	}
	return o == policy.Admit
}

func (p *Replay) count(v *verdict, r *Record, effect Effect, fits []bool, was bool) {
	var visitors []string
	before, after := "", policy.Outcome("")
	for i, is := range fits {
		if !is {
			continue
		}
		admitted := was
		if v.before != nil {
			admitted = v.before[i] == policy.Admit
		}
		if (v.after[i] == policy.Admit) == admitted {
			continue
		}
		visitors = append(visitors, v.visitors[i])
		if after == "" {
			after = v.after[i]
			switch {
			case v.before != nil:
				before = string(v.before[i])
			case len(r.Outcome) > 0:
				before = string(r.Outcome)
			default:
				before = string([]byte{'0' + byte(r.Status/100%10), '0' + byte(r.Status/10%10), '0' + byte(r.Status%10)})
			}
		}
	}
	key := groupKey{effect, v.address, before, string(after), strings.Join(visitors, " ")}
	g := p.groups[key]
	if g == nil {
		if len(p.groups) >= mostGroups {
			key.method, key.path = "", "..."
			g = p.groups[key]
		}
		if g == nil {
			g = &group{Group: Group{
				Effect: effect, Door: v.door, Method: key.method, Host: key.host, Path: key.path, Before: before, After: string(after),
				Visitors: visitors,
			}}
			p.groups[key] = g
		}
	}
	g.Requests++
	if r.At > 0 {
		if g.from == 0 || r.At < g.from {
			g.from = r.At
		}
		g.until = max(g.until, r.At)
	}
	who := r.User
	if len(who) == 0 {
		who = r.Client
	}
	if len(who) > 0 {
		hash := maphash.Bytes(p.seed, who)
		g.people.add(hash)
		if effect != Depends {
			p.changed.add(hash)
		}
	}
}

// Beside returns a Replay for other lines of the same logs, which is merged afterwards.
func (p *Replay) Beside() *Replay {
	other := New(p.o)
	other.seed = p.seed
	return other
}

// Merge takes in what another Replay has found, which is Beside this one.
func (p *Replay) Merge(other *Replay) {
	p.r.Lines += other.r.Lines
	p.r.Requests += other.r.Requests
	p.r.Unread += other.r.Unread
	p.r.Rejected += other.r.Rejected
	p.r.Unknown += other.r.Unknown
	p.r.Named += other.r.Named
	p.r.Changed += other.r.Changed
	p.r.Example = cmp.Or(p.r.Example, other.r.Example)
	p.changed.merge(&other.changed)
	p.from, p.until = earlier(p.from, other.from), max(p.until, other.until)
	for key, n := range other.bare {
		p.bare[key] += n
	}
	for key, g := range other.groups {
		mine := p.groups[key]
		if mine == nil {
			p.groups[key] = g
			continue
		}
		mine.Requests += g.Requests
		mine.from, mine.until = earlier(mine.from, g.from), max(mine.until, g.until)
		mine.people.merge(&g.people)
	}
}

func earlier(a, b int64) int64 {
	if a == 0 || b != 0 && b < a {
		return b
	}
	return a
}

func at(seconds int64) *time.Time {
	if seconds == 0 {
		return nil
	}
	t := time.Unix(seconds, 0).UTC()
	return &t
}

// Result returns what was found: what is closed first, then what is opened; of each what most requests were sent for.
func (p *Replay) Result() Result {
	r := p.r
	r.First, r.Last, r.People = at(p.from), at(p.until), p.changed.count()
	r.Groups, r.Uncovered = []Group{}, []Uncovered{}
	for _, g := range p.groups {
		g.People, g.First, g.Last = g.people.count(), at(g.from), at(g.until)
		r.Groups = append(r.Groups, g.Group)
	}
	rank := map[Effect]int{Closed: 0, Opened: 1, Depends: 2}
	slices.SortFunc(r.Groups, func(a, b Group) int {
		return cmp.Or(cmp.Compare(rank[a.Effect], rank[b.Effect]), cmp.Compare(b.Requests, a.Requests), strings.Compare(a.Path, b.Path),
			strings.Compare(a.Method, b.Method), strings.Compare(a.Host, b.Host), strings.Compare(a.Before, b.Before))
	})
	for key, n := range p.bare {
		r.Uncovered = append(r.Uncovered, Uncovered{key.method, key.host, key.path, n})
	}
	slices.SortFunc(r.Uncovered, func(a, b Uncovered) int {
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), strings.Compare(a.Path, b.Path), strings.Compare(a.Method, b.Method),
			strings.Compare(a.Host, b.Host))
	})
	return r
}
