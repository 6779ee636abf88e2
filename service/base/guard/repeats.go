package guard

import (
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"
)

// A web server may ask about one request several times: once for the address that was asked for, and once more for the index of the
// directory. When the first answer brings the session another token, the request still has the one before, which by then is worth
// less. So what a web server names as one request, by a number that no client knows, goes on with what it was given. Repeats are
// what was given of late; the zero value is ready.
type repeats struct {
	mu    sync.Mutex
	kept  map[string]*given
	order []string // the oldest first
}

type given struct {
	cookies []string // Set-Cookie fields
	until   time.Time
}

// bring gives a request the cookies that it was given before, and returns their fields.
func (p *repeats) bring(number string, r *http.Request, now time.Time) []string {
	if number == "" {
		return nil
	}
	p.mu.Lock()
	g := p.kept[number]
	p.mu.Unlock()
	if g == nil || now.After(g.until) {
		return nil
	}
	r.Header = r.Header.Clone()
	for _, field := range g.cookies {
		pair, _, _ := strings.Cut(field, ";")
		name, _, _ := strings.Cut(pair, "=")
		lines := r.Header["Cookie"]
		for i, line := range lines {
			pairs := strings.Split(line, ";")
			for j, one := range pairs {
				if is, _, _ := strings.Cut(strings.TrimSpace(one), "="); is == name {
					pairs[j] = " " + pair
				}
			}
			lines[i] = strings.TrimSpace(strings.Join(pairs, ";"))
		}
	}
	return slices.Clone(g.cookies)
}

// give notes what a request was given.
func (p *repeats) give(number string, cookies []string, now time.Time) {
	if number == "" || len(cookies) == 0 {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.kept == nil {
		p.kept = map[string]*given{}
	}
	for len(p.order) > 0 && (len(p.order) >= mostReady || now.After(p.kept[p.order[0]].until)) {
		delete(p.kept, p.order[0])
		p.order = p.order[1:]
	}
	if p.kept[number] == nil {
		p.order = append(p.order, number)
	}
	p.kept[number] = &given{slices.Clone(cookies), now.Add(readyLasts)}
}
