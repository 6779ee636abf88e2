package patrol

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/pattern"
	"ostiarius/core/policy"
)

// A closed address is one at which a stranger is turned away.
type closed struct {
	*address
	stranger *answered
	insider  *answered // who gets in there; nil if nobody does
}

// closed returns the addresses that are closed to strangers.
func (w *walk) closed() (all []closed) {
	w.each(func(a *address) {
		c := closed{address: a, stranger: a.answers[w.stranger]}
		for _, got := range a.answers {
			if got != nil && got.visitor != w.stranger && w.state(got) == open && got.size > 0 && !(got.page != nil && got.page.signsIn()) {
				c.insider = got
			}
		}
		if w.own(a.path()) {
			return
		}
		switch w.state(c.stranger) {
		case asks, refused:
			all = append(all, c)
		case missing:
			if c.insider != nil {
				all = append(all, c)
			}
		case led:
			if c.insider != nil && a.way != lead {
				all = append(all, c)
			}
		case open:
			// Where one signs in at the same address.
			if c.insider != nil && c.stranger.page != nil && c.stranger.page.signsIn() && !same(c.stranger, c.insider) {
				all = append(all, c)
			}
		}
	})
	return all
}

func (w *walk) own(path string) bool {
	return w.o.Book != nil && (path == w.o.Book.Prefix || strings.HasPrefix(path, w.o.Book.Prefix+"/"))
}

// opens reports whether an answer gives a stranger what is closed.
func (w *walk) opens(ctx context.Context, c closed, got *answered) bool {
	if got == nil || got.status == 0 || w.state(got) != open || got.size == 0 || got.page != nil && got.page.signsIn() {
		return false
	}
	if same(got, c.stranger) || w.isHome(got) {
		return false
	}
	if c.insider != nil {
		return same(got, c.insider)
	}
	if got.page == nil || !got.page.html {
		return w.is(ctx, got) && got.mime != "text/html"
	}
	return got.page.content >= enough && !(got.page.content < 300 && turnedAway.MatchString(got.page.begins)) && w.is(ctx, got)
}

// The most closed addresses at which other ways in are tried.
const mostTried = 60

// around looks for closed content that can be had without a proof: at pages that were forgotten, by other spellings and names of the site,
// by fields and cookies that anybody can send, and at other servers.
func (w *walk) around(ctx context.Context) {
	all := w.closed()
	w.forgotten(ctx, all)
	names := w.cookieNames()
	for _, c := range sample(all, mostTried) {
		if ctx.Err() != nil {
			return
		}
		w.respelled(ctx, c)
		w.forged(ctx, c, names)
	}
	for _, c := range sample(all, 12) {
		w.renamed(ctx, c)
	}
	for _, c := range sample(all, 200) {
		for _, base := range w.o.Around {
			to := *base
			to.Path, to.RawPath, to.RawQuery = c.url.Path, c.url.RawPath, c.url.RawQuery
			got := w.ask(ctx, w.stranger, question{url: &to})
			if w.opens(ctx, c, got) {
				w.tell(Finding{Rule: "forgotten", Severity: document.SeverityError, Path: c.path(), As: w.o.Visitors[w.stranger].Who,
					Door:     w.says(c.address),
					Message:  "what is closed here can be had around the guard, at " + base.Scheme + "://" + base.Host,
					Requests: []Shown{w.shown(c.stranger), w.shown(got)}})
			}
		}
	}
}

// says tells what the policy says of an address, "" without a policy.
func (w *walk) says(a *address) string {
	if w.o.Book == nil {
		return ""
	}
	d := w.o.Book.Decide(w.requestFor(a), &policy.Visitor{})
	if d.Door == nil {
		return ""
	}
	return d.Door.Sentence().String()
}

var (
	static  = pattern.New(`(?i)\.(css|js|mjs|map|png|jpe?g|gif|svg|ico|webp|avif|woff2?|ttf|webmanifest)$`)
	openFor = pattern.New(`(?i)(sign-?_?(in|up|out)|log-?_?(in|out)|register|join|forgot|recover|reset|help|public|about|terms|privacy|` +
		`imprint|impressum|contact|captcha|verify|invite|callback|robots|favicon|anmeld|entrance|lost)`)
)

// closedName is what people call places that are not for everybody.
var closedName = pattern.New(`(?i)(^|[/_.-])(admin|administration|backoffice|private|privat|internal|intern|intranet|secret|geheim|` +
	`confidential|members?|staff|office|secure|protected|restricted|dashboard|hidden|backups?)([/_.-]|$)`)

// forgotten finds pages that are open in a directory that is closed: its own page is, and more than one in it. Where there is a
// policy, that is what it says only of places that no door covers.
func (w *walk) forgotten(ctx context.Context, all []closed) {
	byDir := map[string][]closed{}
	for _, c := range all {
		path := c.path()
		dir := path[:strings.LastIndexByte(path, '/')+1]
		byDir[hostOf(c.url)+dir] = append(byDir[hostOf(c.url)+dir], c)
	}
	robots := w.named(ctx)
	w.each(func(a *address) {
		got, path := a.answers[w.stranger], a.path()
		if w.state(got) != open || got.size == 0 || w.own(path) || static.MatchString(path) || openFor.MatchString(path) ||
			got.page != nil && (got.page.signsIn() || got.page.joins) {
			return
		}
		if w.o.Book != nil && w.o.Book.Decide(w.requestFor(a), &policy.Visitor{}).Door != &w.o.Book.Unlisted {
			return // a door was written for it
		}
		if robots[path] && a.way == guess && closedName.MatchString(path) && got.page != nil && got.page.content >= enough &&
			w.is(ctx, got) && !w.isHome(got) {
			w.tell(Finding{Rule: "forgotten", Severity: document.SeverityWarning, Path: path, As: w.o.Visitors[w.stranger].Who, Door: w.says(a),
				Message:  "robots.txt asks robots to stay away from it, and so tells everybody where it is, but it is open",
				Requests: []Shown{w.shown(got)}})
			return
		}
		dir := path[:strings.LastIndexByte(path, '/')+1]
		for ; dir != "/" && dir != ""; dir = dir[:strings.LastIndexByte(strings.TrimSuffix(dir, "/"), '/')+1] {
			around := byDir[hostOf(a.url)+dir]
			index := slices.IndexFunc(around, func(c closed) bool { return c.path() == dir })
			if index < 0 || len(around) < 2 && !closedName.MatchString(dir) {
				continue
			}
			if !w.is(ctx, got) || w.isHome(got) {
				return
			}
			w.tell(Finding{Rule: "forgotten", Severity: document.SeverityError, Path: path, As: w.o.Visitors[w.stranger].Who, Door: w.says(a),
				Message:  fmt.Sprintf("it is open to everybody, though %s is closed, with %d of the pages in it", dir, len(around)),
				Requests: []Shown{w.shown(got), w.shown(around[index].stranger)}})
			return
		}
	})
}

// named returns the paths that robots.txt asks robots to stay away from.
func (w *walk) named(ctx context.Context) map[string]bool {
	all := map[string]bool{}
	if got := w.guessed(ctx, "/robots.txt"); got != nil && got.page != nil && !got.page.html && got.status == 200 {
		for _, found := range disallowed.FindAllStringSubmatch(got.page.raw, 200) {
			all[found[1]] = true
		}
	}
	return all
}

var disallowed = pattern.New(`(?mi)^\s*disallow\s*:\s*(/\S*)`)

// spellings returns other ways to write a path, which some server may take for the same.
func spellings(path string) (all []string) {
	add := func(s string) {
		if s != path && !slices.Contains(all, s) {
			all = append(all, s)
		}
	}
	trimmed := strings.TrimSuffix(path, "/")
	if trimmed == "" {
		return nil
	}
	at := strings.LastIndexByte(trimmed, '/')
	last := trimmed[at+1:]
	if strings.HasSuffix(path, "/") {
		add(trimmed)
		add(path + "index.html")
		add(path + "index.php")
		add(path + "index.htm")
		add(path + "default.html")
	} else {
		add(path + "/")
	}
	add("/" + path)
	add(trimmed[:at+1] + "/" + last)
	add("/." + path)
	add("/x/.." + path)
	add("/x/%2e%2e" + path)
	add(trimmed + "/.")
	add(trimmed + "%2f")
	add(trimmed + "//")
	add(trimmed + ";x=1")
	add(trimmed + "..;/")
	add(trimmed + "%20")
	add(trimmed + ".")
	add(strings.ToUpper(path))
	if last != "" {
		add(trimmed[:at+1] + strings.ToUpper(last[:1]) + last[1:])
		add(trimmed[:at+1] + fmt.Sprintf("%%%02x", last[0]) + last[1:])
		add(trimmed[:at+1] + fmt.Sprintf("%%25%02x", last[0]) + last[1:])
	}
	if !strings.Contains(last, ".") {
		add(trimmed + ".html")
		add(trimmed + ".php")
		add(trimmed + ".json")
	}
	return all
}

func (w *walk) respelled(ctx context.Context, c closed) {
	var questions []question
	for _, path := range spellings(c.path()) {
		questions = append(questions, question{url: at(c.url, path)})
	}
	for _, method := range w.o.Methods {
		questions = append(questions, question{url: c.url, method: method})
	}
	for _, got := range w.together(ctx, w.stranger, questions) {
		if w.opens(ctx, c, got) && w.openedByItself(got) {
			if got.question.method != "" {
				w.tell(Finding{Rule: "forgotten", Severity: document.SeverityError, Path: c.path(), As: w.o.Visitors[w.stranger].Who,
					Door:     w.says(c.address),
					Message:  "what is closed here can be had by another method: " + got.question.method,
					Requests: []Shown{w.shown(c.stranger), w.shown(got)}})
				return
			}
			w.tell(Finding{Rule: "forgotten", Severity: document.SeverityError, Path: c.path(), As: w.o.Visitors[w.stranger].Who,
				Door:     w.says(c.address),
				Message:  "what is closed here can be had by writing the address otherwise: " + got.question.url.EscapedPath(),
				Requests: []Shown{w.shown(c.stranger), w.shown(got)}})
			return
		}
	}
}

// openedByItself reports whether the policy, if there is one, does not mean that place to be open.
func (w *walk) openedByItself(got *answered) bool {
	if w.o.Book == nil {
		return true
	}
	d := w.o.Book.Decide(policy.Request{
		Method: cmp.Or(got.question.method, "GET"), Host: got.question.url.Host, Path: got.question.url.EscapedPath(),
	}, &policy.Visitor{})
	return d.Outcome != policy.Admit
}

// cookieNames returns names of cookies that a guard may ask for: those that the site has set, and usual ones.
func (w *walk) cookieNames() []string {
	names := []string{"session", "sessionid", "session_id", "sid", "auth", "token", "user", "username", "logged_in", "loggedin",
		"loggedIn", "isLoggedIn", "login", "authenticated", "admin", "is_admin", "role", "member", "access", "paid"}
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, s := range w.set {
		if !slices.Contains(names, s.Name) && len(names) < 80 {
			names = append(names, s.Name)
		}
	}
	return names
}

// forged tries what anybody can send: cookies of the right names, and fields in which a server in front says who is calling, or from where.
func (w *walk) forged(ctx context.Context, c closed, names []string) {
	cookie := func(value string) string {
		var all []string
		for _, name := range names {
			all = append(all, name+"="+value)
		}
		return strings.Join(all, "; ")
	}
	path := c.path()
	self := c.url.Scheme + "://" + c.url.Host
	questions := []question{
		{url: c.url, cookie: cookie("1")}, {url: c.url, cookie: cookie("true")}, {url: c.url, cookie: cookie("admin")},
		{url: c.url, fields: [][2]string{{"X-Forwarded-For", "127.0.0.1"}, {"X-Real-Ip", "127.0.0.1"}, {"Client-Ip", "127.0.0.1"},
			{"True-Client-Ip", "127.0.0.1"}, {"Forwarded", "for=127.0.0.1"}}},
		{url: c.url, fields: [][2]string{{"X-Forwarded-For", "10.0.0.1"}, {"X-Real-Ip", "10.0.0.1"}}},
		{url: c.url, fields: [][2]string{{"Referer", self + path}}},
		{url: c.url, fields: [][2]string{{"Referer", self + "/sign-in"}, {"Origin", self}}},
		{url: c.url, fields: [][2]string{{"X-Forwarded-User", "admin"}, {"X-Remote-User", "admin"}, {"Remote-User", "admin"},
			{"X-User", "admin"}, {"X-Auth-User", "admin"}, {"X-Auth-Request-User", "admin"}, {"X-Role", "admin"}, {"X-Admin", "true"}}},
		{url: c.url, fields: [][2]string{{"Authorization", "Bearer x"}}},
		{url: c.url, fields: [][2]string{{"X-Requested-With", "XMLHttpRequest"}, {"Sec-Fetch-Mode", "cors"}}},
		{url: c.url, fields: [][2]string{{"User-Agent", "Mozilla/5.0 (compatible; Googlebot/2.1; +http://www.google.com/bot.html)"}}},
		{url: queried(c.url, "admin=1&debug=1&auth=1&logged_in=1&loggedin=true&access=1&preview=1&authenticated=true&user=admin&role=admin&"+
			"token=1&key=1&password=1")},
		{url: queried(c.url, "format=json&print=1&view=print&output=json&raw=1")},
		{url: at(c.url, "/"), fields: [][2]string{{"X-Original-Url", path}, {"X-Rewrite-Url", path}, {"X-Original-Uri", path},
			{"X-Forwarded-Uri", path}}},
	}
	for i, got := range w.together(ctx, w.stranger, questions) {
		if !w.opens(ctx, c, got) {
			continue
		}
		if again := w.ask(ctx, w.stranger, question{url: c.url}); w.opens(ctx, c, again) {
			continue // it has opened by itself meanwhile
		}
		what := "a field of the request that anybody can send"
		if i < 3 {
			what = "a cookie that anybody can write, whatever it says"
			got = w.whichCookie(ctx, c, names, got)
		} else if got.question.url.RawQuery != c.url.RawQuery {
			what = "a query that anybody can write"
		}
		shown := w.shown(got)
		w.tell(Finding{Rule: "pretend-guard", Severity: document.SeverityError, Path: path, As: w.o.Visitors[w.stranger].Who,
			Door:     w.says(c.address),
			Message:  "the guard is content with " + what + ": " + excerpt(cmp.Or(shown.With, shown.URL)),
			Requests: []Shown{w.shown(c.stranger), shown}})
		return
	}
}

func queried(u *url.URL, query string) *url.URL {
	to := *u
	if to.RawQuery != "" {
		query = to.RawQuery + "&" + query
	}
	to.RawQuery = query
	return &to
}

// whichCookie finds the one cookie that opened.
func (w *walk) whichCookie(ctx context.Context, c closed, names []string, all *answered) *answered {
	_, value, _ := strings.Cut(all.question.cookie, "=")
	value, _, _ = strings.Cut(value, ";")
	for _, name := range names {
		if got := w.ask(ctx, w.stranger, question{url: c.url, cookie: name + "=" + value}); w.opens(ctx, c, got) {
			return got
		}
	}
	return all
}

// renamed asks the same server by other names of the site.
func (w *walk) renamed(ctx context.Context, c closed) {
	port := ""
	if c.url.Port() != "" {
		port = ":" + c.url.Port()
	}
	for _, host := range []string{"localhost" + port, "127.0.0.1" + port, "www." + c.url.Host, "admin." + c.url.Host,
		"staging." + c.url.Host, "no-such-host.invalid"} {
		if strings.EqualFold(host, c.url.Host) || strings.HasPrefix(host, "www.127.") {
			continue
		}
		got := w.ask(ctx, w.stranger, question{url: c.url, host: host})
		if !w.opens(ctx, c, got) {
			continue
		}
		if w.o.Book != nil && w.o.Book.Decide(policy.Request{Method: "GET", Host: host, Path: c.path()},
			&policy.Visitor{}).Outcome == policy.Admit {
			continue
		}
		w.tell(Finding{Rule: "forgotten", Severity: document.SeverityError, Path: c.path(), As: w.o.Visitors[w.stranger].Who,
			Door:    w.says(c.address),
			Message: "what is closed here can be had by another name of the site: " + host, Requests: []Shown{w.shown(c.stranger), w.shown(got)}})
		return
	}
}

func (w *walk) requestFor(a *address) policy.Request {
	return policy.Request{Method: "GET", Host: a.url.Host, Path: a.path()}
}

var leadsOn = pattern.New(`(?i)^(next|url|uri|to|return(_?-?(to|url|uri|path))?|redirect(_?-?(to|url|uri))?|goto|go|dest(ination)?|` +
	`continue|target|back(_?url)?|forward|out|link|site|view|callback|ref|referer|page|path|r|u|q?after|success|landing)$`)

func resolve(base *url.URL, text string) *url.URL {
	u, err := base.Parse(text)
	if err != nil {
		return nil
	}
	return u
}
