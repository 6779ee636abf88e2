package patrol

import (
	"context"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/pattern"
)

// arriving finds redirects that never arrive, and sign-ins that lead nowhere.
func (w *walk) arriving(ctx context.Context) {
	ends := map[string]bool{} // where ways were found to end badly
	w.each(func(a *address) {
		if a.way == lead && a.hops > 0 {
			return // told where the way begins
		}
		for _, got := range a.answers {
			if got != nil && got.location != "" && got.status >= 300 && got.status < 400 {
				w.goes(ctx, a, got, ends)
			}
		}
	})
}

// goes follows a redirect as a browser does that keeps cookies.
func (w *walk) goes(ctx context.Context, a *address, got *answered, ends map[string]bool) {
	if got.status == http.StatusNotModified {
		return
	}
	first := w.asks(got)
	jar, _ := cookiejar.New(nil)
	at, seen, trail := a.url, map[string]bool{a.key: true}, []*answered{got}
	loop := false
	now := got
	for range mostHops {
		to := resolve(at, now.location)
		if to == nil || to.Host == "" || to.Scheme != "http" && to.Scheme != "https" {
			w.deadEnd(a, trail, "the redirect leads to what is no address: "+excerpt(now.location))
			return
		}
		to.Fragment = ""
		if !w.hosts[hostOf(to)] {
			return // elsewhere
		}
		if changing.MatchString(to.Path) || changing.MatchString(to.RawQuery) {
			return
		}
		jar.SetCookies(at, (&http.Response{Header: now.header}).Cookies())
		var cookies []string
		for _, c := range jar.Cookies(to) {
			cookies = append(cookies, c.Name+"="+c.Value)
		}
		at = to
		now = w.ask(ctx, got.visitor, question{url: to, cookie: strings.Join(cookies, "; ")})
		trail = append(trail, now)
		if now.status == 0 {
			return
		}
		if now.status < 300 || now.status >= 400 || now.location == "" {
			w.endsAt(a, trail, first, ends)
			return
		}
		key := to.String() + " " + strings.Join(cookies, "; ")
		if loop = seen[key]; loop {
			break
		}
		seen[key] = true
	}
	message := fmt.Sprintf("the redirects do not arrive: after %d of them there is another", len(trail)-1)
	if loop {
		message = "the redirects go round in a circle: " + excerpt(roundOf(trail))
	}
	for _, t := range trail[1:] {
		if ends["loop "+t.question.url.EscapedPath()] {
			return
		}
	}
	for _, t := range trail {
		ends["loop "+t.question.url.EscapedPath()] = true
	}
	if loop { // told also where the circle begins
		if round := now.question.url; round.EscapedPath() != a.path() {
			w.tell(Finding{
				Rule: "loop", Severity: document.SeverityError, Path: round.EscapedPath(), As: w.o.Visitors[got.visitor].Who, Message: message,
				Requests: w.firstAndLast(trail),
			})
		}
	}
	w.tell(Finding{
		Rule: "loop", Severity: document.SeverityError, Path: a.path(), As: w.o.Visitors[got.visitor].Who, Door: w.says(a),
		Message: message, Requests: w.firstAndLast(trail),
	})
}

func roundOf(trail []*answered) string {
	var all []string
	for _, t := range trail[:min(len(trail), 5)] {
		all = append(all, t.question.url.RequestURI())
	}
	return strings.Join(all, " -> ")
}

func (w *walk) firstAndLast(trail []*answered) []Shown {
	return []Shown{w.shown(trail[0]), w.shown(trail[len(trail)-1])}
}

// asks reports whether a redirect sounds as if it led to a sign-in.
func (w *walk) asks(got *answered) bool {
	to := resolve(got.question.url, got.location)
	return to != nil && signInAddress(to)
}

// endsAt looks at where a way ends.
func (w *walk) endsAt(a *address, trail []*answered, signIn bool, ends map[string]bool) {
	last := trail[len(trail)-1]
	for n := 1; ; n++ { // where many lead to the same end, a few are enough
		if key := fmt.Sprintf("end %d %s", n, last.question.url.EscapedPath()); !ends[key] {
			ends[key] = true
			break
		} else if n == 5 {
			return
		}
	}
	signIn = signIn || signInAddress(last.question.url)
	where := last.question.url.EscapedPath()
	switch {
	case a.way == guess && !signIn: // nobody sends anybody there
	case last.status == http.StatusNotFound || last.status == http.StatusGone:
		w.deadEnd(a, trail, fmt.Sprintf("it leads to %s, where nothing is (%d)", where, last.status))
	case last.status >= 500:
		w.deadEnd(a, trail, fmt.Sprintf("it leads to %s, which answers %d", where, last.status))
	case last.status == http.StatusForbidden && signIn:
		w.deadEnd(a, trail, fmt.Sprintf("one is led to sign in at %s, which is closed itself (%d)", where, last.status))
	case last.status == http.StatusOK && signIn && last.page != nil && last.page.html && len(trail) > 1 && !w.entrance(last):
		w.deadEnd(a, trail, fmt.Sprintf("one is led to sign in at %s, but nothing is there to sign in with", where))
	}
}

// entrance reports whether a page offers a way to sign in: a field, a form, a link that says so or that leads elsewhere, or a script.
func (w *walk) entrance(got *answered) bool {
	d := got.page
	if len(d.forms) > 0 || len(d.secrets) > 0 || d.scripts != "" {
		return true
	}
	for _, l := range d.links {
		u := resolve(got.question.url, l.text)
		if u == nil {
			continue
		}
		if !w.hosts[hostOf(u)] || signInAddress(u) && u.Path != got.question.url.Path || strings.HasSuffix(u.Path, ".js") {
			return true
		}
	}
	return false
}

func (w *walk) deadEnd(a *address, trail []*answered, message string) {
	w.tell(Finding{
		Rule: "dead-end", Severity: document.SeverityError, Path: a.path(), As: w.o.Visitors[trail[0].visitor].Who, Door: w.says(a),
		Message: message, Requests: w.firstAndLast(trail),
	})
}

// elsewhere is a host that is nobody's (RFC 2606, section 2), to which no redirect has a reason to lead.
const elsewhere = "patrol-elsewhere.example"

// payloads are spellings of an address elsewhere.
func payloads(host string) []string {
	return []string{
		"https://" + elsewhere + "/", "//" + elsewhere + "/", `/\` + elsewhere + "/", "https:" + elsewhere + "/",
		"/\t/" + elsewhere + "/", `\/\/` + elsewhere + "/",
		"https://" + host + "@" + elsewhere + "/", "https://" + host + "." + elsewhere + "/", "https://" + elsewhere + "/" + host,
		"https://" + elsewhere + "?" + host, "////" + elsewhere + "/", "https:/" + elsewhere + "/",
	}
}

// readByBrowser resolves an address as browsers do (WHATWG URL): tabs and line ends are left away, and a backslash is a slash.
func readByBrowser(base *url.URL, text string) string {
	text = strings.TrimFunc(text, func(r rune) bool { return r <= ' ' })
	text = strings.NewReplacer("\t", "", "\n", "", "\r", "").Replace(text)
	head, _, _ := strings.Cut(text, "?")
	head = strings.ReplaceAll(head, `\`, "/")
	scheme, rest, ok := strings.Cut(head, ":")
	if ok && (strings.EqualFold(scheme, "http") || strings.EqualFold(scheme, "https")) {
		if strings.HasPrefix(rest, "/") && !strings.HasPrefix(rest, "//") || !strings.HasPrefix(rest, "/") {
			if strings.EqualFold(scheme, base.Scheme) {
				return "" // relative, to this site
			}
			rest = "//" + strings.TrimLeft(rest, "/")
		}
	} else {
		rest = head
	}
	if !strings.HasPrefix(rest, "//") {
		return ""
	}
	rest = strings.TrimLeft(rest, "/")
	authority, _, _ := strings.Cut(rest, "/")
	authority, _, _ = strings.Cut(authority, "#")
	if at := strings.LastIndexByte(authority, '@'); at >= 0 {
		authority = authority[at+1:]
	}
	host, _, _ := strings.Cut(authority, ":")
	return strings.ToLower(host)
}

func isElsewhere(host string) bool {
	return host == elsewhere || strings.HasSuffix(host, "."+elsewhere)
}

// leading finds redirects to wherever a query says.
func (w *walk) leading(ctx context.Context) {
	type target struct {
		a    *address
		name string
	}
	var all []target
	seen := map[string]bool{}
	add := func(a *address, name string) {
		if key := hostOf(a.url) + a.path() + "?" + name; !seen[key] && len(all) < 150 {
			seen[key] = true
			all = append(all, target{a, name})
		}
	}
	w.each(func(a *address) {
		for _, name := range inOrder(a.url.Query()) {
			value := a.url.Query().Get(name)
			if leadsOn.MatchString(name) || strings.HasPrefix(value, "/") || strings.HasPrefix(value, "http") {
				add(a, name)
			}
		}
		got := a.answers[w.stranger]
		redirects := false
		for _, other := range a.answers {
			redirects = redirects || other != nil && other.location != ""
		}
		if got != nil && got.page != nil && got.page.signsIn() || signInAddress(a.url) || redirects && signInAddress(a.url) {
			for _, name := range []string{"next", "url", "redirect", "return", "return_to", "returnUrl", "continue"} {
				add(a, name)
			}
			for _, f := range formsOf(got) {
				for _, name := range inOrder(f.hidden) {
					if leadsOn.MatchString(name) {
						add(a, name)
					}
				}
			}
		}
	})
	w.each(func(a *address) {
		got := a.answers[w.stranger]
		if got == nil || got.page == nil || !got.page.html && !strings.HasSuffix(got.mime, "javascript") {
			return
		}
		if !strings.Contains(got.page.scripts, "location") {
			return
		}
		if part := wherever.FindString(got.page.scripts); part != "" && askedFor.MatchString(got.page.scripts) &&
			!careful.MatchString(got.page.scripts) {
			shown := w.shown(got)
			shown.Begins = excerpt(part)
			w.tell(Finding{
				Rule: "open-redirect", Severity: document.SeverityError, Path: a.path(), As: w.o.Visitors[w.stranger].Who,
				Message: "a script leads to any site that the query of its page names", Requests: []Shown{shown},
			})
		}
	})
	for _, t := range all {
		if ctx.Err() != nil {
			return
		}
		visitors := []int{w.stranger}
		for i := range w.o.Visitors {
			if i != w.stranger && len(visitors) < 3 {
				visitors = append(visitors, i)
			}
		}
		for _, visitor := range visitors {
			if w.leadsOut(ctx, t.a, t.name, visitor) {
				break
			}
		}
	}
}

var (
	wherever = pattern.New(`location(?:\.href)?\s*=\s*[A-Za-z_$][^;\n]{0,120}|location\.(?:replace|assign)\(\s*[A-Za-z_$][^;\n]{0,120}`)
	askedFor = pattern.New(`(?i)\.get\(\s*["'](?:next|url|to|return\w*|redirect\w*|goto|go|dest\w*|continue|target|back)` +
		`["']\s*\)[^\n]{0,200}|[?&](?:next|url|to|return\w*|redirect\w*|goto|continue|target)=[^\n]{0,80}location\.search`)
	careful = pattern.New(`startsWith\(|charAt\(0\)|\.origin\b|\.host(?:name)?\b|\[0\]\s*===?|/\^|includes\(|encodeURIComponent|allow`)
)

func formsOf(got *answered) []form {
	if got == nil || got.page == nil {
		return nil
	}
	return got.page.forms
}

func (w *walk) leadsOut(ctx context.Context, a *address, name string, visitor int) bool {
	var questions []question
	for _, text := range payloads(a.url.Host) {
		u := *a.url
		q := u.Query()
		q.Set(name, text)
		u.RawQuery = q.Encode()
		questions = append(questions, question{url: &u})
	}
	for _, got := range w.together(ctx, visitor, questions) {
		to := ""
		switch {
		case got.status >= 300 && got.status < 400 && got.location != "":
			to = readByBrowser(got.question.url, got.location)
		case got.page != nil && got.page.refresh != nil:
			to = readByBrowser(got.question.url, got.page.refresh.to)
		}
		if isElsewhere(to) {
			w.tell(Finding{Rule: "open-redirect", Severity: document.SeverityError, Path: a.path(), As: w.o.Visitors[visitor].Who, Door: w.says(a),
				Message: fmt.Sprintf("the address leads to any site that is named in %s: %s", name,
					excerpt(got.question.url.Query().Get(name))), Requests: []Shown{w.shown(got)}})
			return true
		}
	}
	return false
}
