package connect

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// A Question is a request of a stranger to the web server, and what the policy says of it.
type Question struct {
	Method string
	Target string // as it is sent
	Host   string // as it is sent; "" for that of the site
	Fields [][2]string
	About  string // why it is asked
	// Outcome is what the policy decides.
	Outcome policy.Outcome
	at      string // the path of the door that it is about
}

// String returns it as people read it.
func (q *Question) String() string {
	text := q.Method + " " + q.Target
	if q.Host != "" {
		text += ", Host: " + q.Host
	}
	for _, f := range q.Fields {
		text += ", " + f[0] + ": " + f[1]
	}
	return text
}

// MostQuestions is how many questions are asked at most.
const MostQuestions = 300

// Questions returns what shows whether the doors hold at a web server for strangers at a host: each door's own address, and addresses
// near it spelled as people who want in spell them, with claims that are none of theirs.
func Questions(book *policy.Book, host string) (all []Question) {
	seen := map[string]bool{}
	var at string
	add := func(about, method, target string, fields ...[2]string) {
		q := Question{Method: method, Target: target, Fields: fields, About: about, at: at}
		if len(all) >= MostQuestions || seen[q.String()] {
			return
		}
		seen[q.String()] = true
		path, _, _ := strings.Cut(target, "?")
		q.Outcome = book.Decide(policy.Request{Method: method, Host: host, Path: path}, &policy.Visitor{}).Outcome
		if slices.ContainsFunc(fields, func(f [2]string) bool { return strings.HasPrefix(strings.ToLower(f[0]), "ostiarius") }) {
			q.Outcome = policy.Reject
		}
		all = append(all, q)
	}
	type example struct {
		path string
		shut bool
	}
	var examples []example
	for i := range book.Doors {
		d := &book.Doors[i]
		if !d.Host.Covers(host) && !d.Host.Any() {
			continue
		}
		for _, path := range []string{d.Path.Example(), strings.ReplaceAll(strings.TrimSuffix(d.Written, "/**"), "*", "x")} {
			if path == "" || strings.Contains(path, "%") {
				continue
			}
			path = (&url.URL{Path: path}).EscapedPath()
			e := example{path, book.Decide(policy.Request{Method: "GET", Host: host, Path: path}, &policy.Visitor{}).Outcome != policy.Admit}
			if !slices.Contains(examples, e) {
				examples = append(examples, e)
			}
		}
	}
	for _, e := range examples {
		at = e.path
		add("the address of a door", "GET", e.path)
		add("with a query", "GET", e.path+"?next=/")
	}
	var open string
	for _, e := range examples {
		if !e.shut {
			open = e.path
			break
		}
	}
	// All ways round of the first closed door come before the same ways of the next: when the questions run out, each way was asked.
	for _, e := range examples {
		if !e.shut {
			continue
		}
		at = e.path
		p := strings.TrimPrefix(e.path, "/")
		for _, target := range []string{
			"//" + p, "/./" + p, "/x/../" + p, "/x/%2e%2e/" + p, "/x/..%2f" + p, "/x/.%2e/" + p, "/%2f" + p, "/x%2f..%2f" + p, "/x/..;/" + p,
			"/x;/../" + p, "/x//../" + p,
			e.path + "/", e.path + "/.", e.path + "//", e.path + ";", e.path + ";a=1", e.path + "%00", e.path + "%20", e.path + "/..;/",
			e.path + "/%2e", e.path + ".", e.path + "%2f", e.path + `\`, e.path + "%5c", e.path + "%3f", e.path + "%23", e.path + "%2520",
			encoded(e.path), upper(e.path),
			"http://" + host + e.path,
		} {
			add("another spelling", "GET", target)
		}
		if open != "" && open != "/" {
			add("out of an open place", "GET", strings.TrimSuffix(open, "/")+"/../"+p)
			add("out of an open place", "GET", strings.TrimSuffix(open, "/")+"/..%2f"+p)
			add("out of an open place", "GET", strings.TrimSuffix(open, "/")+"../"+p)
		}
		q := Question{Method: "GET", Target: e.path, Host: "unknown.example", About: "a host that no site of the server has", at: at}
		if len(all) < MostQuestions && !seen[q.String()] {
			seen[q.String()] = true
			path, _, _ := strings.Cut(e.path, "?")
			q.Outcome = book.Decide(policy.Request{Method: "GET", Host: q.Host, Path: path}, &policy.Visitor{}).Outcome
			all = append(all, q)
		}
		for _, method := range []string{"HEAD", "POST", "PUT", "DELETE", "OPTIONS", "PROPFIND", "TRACE", "get"} {
			add("another method", method, e.path)
		}
		for _, name := range []string{"Ostiarius-User", "Ostiarius-Roles", "Ostiarius-Door", "Ostiarius-Public", "Ostiarius-Identity"} {
			add("claims who it is", "GET", e.path, [2]string{name, policy.Steward})
		}
		other := open
		if other == "" {
			other = "/door/sign-in"
		}
		for _, name := range []string{"X-Original-URI", "X-Original-URL", "X-Rewrite-URL", "X-Forwarded-Uri", "X-Forwarded-Path"} {
			add("claims another address", "GET", e.path, [2]string{name, other})
			add("claims another address", "GET", strings.TrimSuffix(e.path, "/")+"/", [2]string{name, other})
		}
		for _, f := range [][2]string{{"X-Forwarded-For", "127.0.0.1"}, {"X-Real-IP", "127.0.0.1"},
			{"Forwarded", "for=127.0.0.1;proto=https"}, {"X-Forwarded-Method", "OPTIONS"}, {"X-Original-Method", "HEAD"},
			{"X-HTTP-Method-Override", "GET"}, {"X-Forwarded-Host", "localhost"}} {
			add("claims what is none of its business", "GET", e.path, f)
		}
		for _, cookie := range []string{"ostiarius-session=", "ostiarius-session=" + strings.Repeat("A", 43),
			"ostiarius-session=a; ostiarius-session=b", "__Host-ostiarius-session=" + strings.Repeat("A", 43)} {
			add("with a cookie that is nobody's", "GET", e.path, [2]string{"Cookie", cookie})
		}
		for _, claim := range []string{host + "|" + other + "?", host + "|GET " + other + " HTTP/1.1"} {
			if q := (Question{
				Method: "GET", Target: e.path, Host: claim, About: "a host that looks like a request", Outcome: policy.Reject,
			}); len(all) < MostQuestions && !seen[q.String()] {
				seen[q.String()] = true
				all = append(all, q)
			}
		}
		add("with credentials that are nobody's", "GET", e.path, [2]string{"Authorization", "Basic YTpi"})
		add("the script of a service worker", "GET", e.path, [2]string{"Service-Worker", "script"}, [2]string{"Sec-Fetch-Dest", "serviceworker"})
		add("upgraded", "GET", e.path, [2]string{"Upgrade", "websocket"}, [2]string{"Connection", "Upgrade"})
	}
	at = firstShut(book, host)
	for _, target := range []string{book.Prefix + "/../" + strings.TrimPrefix(firstShut(book, host), "/"),
		book.Prefix + "/%2e%2e" + firstShut(book, host)} {
		add("out of our own pages", "GET", target)
	}
	return all
}

func firstShut(book *policy.Book, host string) string {
	for i := range book.Doors {
		p := (&url.URL{Path: book.Doors[i].Path.Example()}).EscapedPath()
		if book.Decide(policy.Request{Method: "GET", Host: host, Path: p}, &policy.Visitor{}).Outcome != policy.Admit {
			return p
		}
	}
	return "/"
}

// encoded percent-encodes a letter that need not be.
func encoded(path string) string {
	for i := 1; i < len(path); i++ {
		if c := path[i]; c >= 'a' && c <= 'z' && path[i-1] != '%' && (i < 2 || path[i-2] != '%') {
			return path[:i] + fmt.Sprintf("%%%02X", c) + path[i+1:]
		}
	}
	return path
}

func upper(path string) string {
	if strings.Contains(path, "%") {
		return path
	}
	return strings.ToUpper(path)
}

// Holds says what is wrong with an answer to a question, "" if nothing is: whoever is not admitted gets no content, and who is, is
// not turned away. The location is that of a redirect.
func (q *Question) Holds(book *policy.Book, status int, location string) string {
	led := strings.HasPrefix(location, book.Prefix+"/") || book.Entrance != "" && strings.HasPrefix(location, book.Entrance)
	switch {
	case status >= 500:
		return fmt.Sprintf("the web server says %d; Ostiarius may not run, or may not be asked by it", status)
	case q.Outcome == policy.Admit && (status == 401 || status == 403 || led):
		return fmt.Sprintf("everybody may have it, and it is answered with %d", status)
	case q.Outcome != policy.Admit && status < 300:
		return fmt.Sprintf("the policy says %s, and it is answered with %d", q.Outcome, status)
	case q.Outcome != policy.Admit && status < 400 && !led && !goesTo(book, location) && !q.addsSlash(location):
		return fmt.Sprintf("the policy says %s, and the web server itself leads to %.100q, before it asks", q.Outcome, location)
	case q.Outcome == policy.Hide && status != 404:
		return fmt.Sprintf("it is hidden, and answered with %d, which tells that something is there", status)
	case q.Outcome == policy.Challenge && status == 404:
		return "the policy asks for something, and it is answered with 404"
	}
	return ""
}

// addsSlash reports whether an address is that of the door asked about with a slash at its end, as web servers add it for directories.
func (q *Question) addsSlash(location string) bool {
	_, path, _ := place.SplitTarget(location)
	return q.at != "" && path == strings.TrimSuffix(q.at, "/")+"/"
}

// goesTo reports whether a door of the policy leads visitors to an address.
func goesTo(book *policy.Book, location string) bool {
	leads := func(d *policy.Door) bool {
		return location != "" && (d.Otherwise.Anonymous.Go == location || d.Otherwise.Refused.Go == location)
	}
	for i := range book.Doors {
		if leads(&book.Doors[i]) {
			return true
		}
	}
	return leads(&book.Unlisted)
}
