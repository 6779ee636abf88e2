package embed

import (
	"strings"

	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/site"
)

// Draft returns a first policy for a program with some routes: closed, with what looks public as comments to take the # from. Routes are
// written as for http.ServeMux ("GET /orders/{id}", "example.com/static/") or chi ("/orders/{id:[0-9]+}", "/static/*").
func Draft(name string, routes ...string) string {
	sketch := site.Sketch{Stance: site.Closed, Site: name, From: "the routes of the program"}
	for _, route := range routes {
		sketch.Places = append(sketch.Places, placesOf(route)...)
	}
	return site.Draft(sketch)
}

// Uncovered returns those of a program's routes that no door of the policy covers, so that the rule for unlisted places decides
// about them. Tell of them when the program starts: somebody may have forgotten a door.
//
// It also returns the routes of a router in front through which requests have come to the doors: those are all that the doors guard then.
// Put the router behind the doors. How they are mounted isn't known before the first request.
func (d *Doors) Uncovered(routes ...string) (all []string) {
	d.mu.Lock()
	for _, route := range d.partly {
		all = append(all, route+" (the doors stand behind a router, and guard only this route of it)")
	}
	d.mu.Unlock()
	book := d.service.Guard().House().Book
	for _, route := range routes {
		for _, p := range placesOf(route) {
			if decides := book.Decide(policy.Request{Method: p.Method, Host: p.Host, Path: p.Path},
				&policy.Visitor{}); decides.Door == &book.Unlisted || decides.Door == nil {
				all = append(all, route)
				break
			}
		}
	}
	return all
}

// placesOf returns places that a route answers for, with x for what may be anything. A route that ends in a subtree has one of them below.
func placesOf(route string) []place.Place {
	method, rest, ok := strings.Cut(strings.TrimSpace(route), " ")
	if !ok {
		method, rest = "GET", method
	}
	rest = strings.TrimLeft(rest, " \t")
	slash := strings.IndexByte(rest, '/')
	if slash < 0 {
		return nil
	}
	p := place.Place{Method: method, Host: rest[:slash]}
	tree := false
	var segments []string
	for _, segment := range split(rest[slash+1:]) {
		switch {
		case segment == "{$}":
		case segment == "*" || strings.HasSuffix(segment, "...}"):
			tree = true
		default:
			segments = append(segments, filled(segment))
		}
	}
	if n := len(segments); n > 0 && segments[n-1] == "" { // ends in a slash
		segments, tree = segments[:n-1], !strings.HasSuffix(rest, "{$}")
	}
	p.Path = "/" + strings.Join(segments, "/")
	if !tree {
		return []place.Place{p}
	}
	below := p
	below.Path = strings.TrimSuffix(p.Path, "/") + "/x"
	return []place.Place{p, below}
}

// split divides a route at its slashes, but for those in braces.
func split(route string) (segments []string) {
	depth, start := 0, 0
	for i := 0; i < len(route); i++ {
		switch route[i] {
		case '{':
			depth++
		case '}':
			depth--
		case '/':
			if depth == 0 {
				segments, start = append(segments, route[start:i]), i+1
			}
		}
	}
	return append(segments, route[start:])
}

// filled puts an x in the place of each variable part.
func filled(segment string) string {
	var b strings.Builder
	depth := 0
	for _, r := range segment {
		switch {
		case r == '{':
			if depth++; depth == 1 {
				b.WriteByte('x')
			}
		case r == '}' && depth > 0:
			depth--
		case depth == 0:
			b.WriteRune(r)
		}
	}
	return b.String()
}
