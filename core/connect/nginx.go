package connect

import (
	"fmt"
	"strings"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// Nginx returns what is included in the server block of nginx, with the module auth_request, which Debian builds in.
func (s *Site) Nginx() string {
	c := &config{}
	to, prefix := s.To.nginx(), s.Book.Prefix
	c.head(s, "nginx", "Include it inside the server block of the site, before its locations:\n    include /etc/nginx/ostiarius.conf;",
		"Each request is asked about with a subrequest. What nginx tells a server behind in proxy_set_header, and what it answers by\n"+
			"add_header and error_page, a location takes from here only if it has no such line of its own. So repeat there what stands\n"+
			"here under the same word; ostiarius connect --check tells where that was forgotten.")
	c.line("# The host that nginx goes by is asked about. A request that names another one to the application is refused.")
	c.line(`set $ostiarius_hosts "$http_host|$host";`)
	c.line(`if ($ostiarius_hosts !~* "^([a-z0-9_.-]+|\[[0-9a-f:.]+\])(?::[0-9]*)?\|\1$") { return 400; }`)
	c.line("")
	c.line("auth_request %s/decide;", prefix)
	for _, field := range []string{"user", "roles", "door", "identity", "answer", "cache_control", "vary", "set_cookie"} {
		c.line("auth_request_set $ostiarius_%s $upstream_http_ostiarius_%[1]s;", field)
	}
	c.line("")
	c.line("# What nobody may keep but the visitor's own browser, and not that either.")
	c.line("add_header Cache-Control $ostiarius_cache_control always;")
	c.line("add_header Vary $ostiarius_vary always;")
	c.line("add_header Set-Cookie $ostiarius_set_cookie always;")
	c.line("")
	c.line("# Who is calling, for a server behind. Ostiarius refuses whoever sends one of these.")
	for _, field := range []string{"User", "Roles", "Door", "Identity"} {
		c.line("proxy_set_header Ostiarius-%s $ostiarius_%s;", field, strings.ToLower(field))
	}
	c.line("")
	c.line("# Who is not admitted gets our page, or is led on.")
	c.line("error_page 401 403 = @ostiarius_answer;")
	hides := policy.Hides(s.Book)
	if hides {
		c.line("# As what is hidden, so that nobody can tell one from the other; nginx says 405 without a look for the file.")
		c.line("error_page 404 405 = @ostiarius_missing;")
	}
	c.line("")
	asking := func(block func()) {
		block()
		c.line("proxy_http_version 1.1;")
		c.line(`proxy_set_header Connection "";`)
		c.line("proxy_set_header X-Forwarded-For $remote_addr;")
		c.line("proxy_set_header X-Forwarded-Proto $scheme;")
	}
	quiet := func() {
		c.line("proxy_method GET;")
		c.line("proxy_pass_request_body off;")
		c.line(`proxy_set_header Content-Length "";`)
		c.line("proxy_cache off;")
	}
	decide := prefix + "/decide"
	if s.SkipPublic {
		s.nginxDirectories(c)
		c.block("location = "+decide, func() {
			c.line("internal;")
			c.line("auth_request off;")
			s.nginxOpen(c)
			c.line("if ($ostiarius_open) { return 204; }")
			decide += "/asked"
			c.line("rewrite ^ %s last;", decide)
		})
	}
	c.block("location = "+decide, func() {
		c.line("internal;")
		c.line("auth_request off;")
		asking(func() {
			c.line("# nginx asks again about the index of a directory; by the number that is one request.")
			c.line("rewrite ^ %s/decide?%s? break;", prefix, s.asking("plain&request=$request_id"))
			c.line("proxy_pass %s;", to)
			quiet()
			c.line("proxy_set_header Host $host;")
			c.line("proxy_set_header Upgrade $http_upgrade;")
			c.line("proxy_set_header X-Original-Method $request_method;")
			c.line("proxy_set_header X-Original-Uri $request_uri;")
		})
	})
	answers := func(name, query string) {
		c.block("location @ostiarius_"+name, func() {
			c.line("auth_request off;")
			c.line("add_header Set-Cookie $ostiarius_set_cookie always;")
			asking(func() {
				c.line("rewrite ^ %s/decide?%s? break;", prefix, query)
				c.line("proxy_pass %s;", to)
				quiet()
				c.line("proxy_set_header Host $http_host;")
			})
		})
	}
	answers("answer", "answer=$ostiarius_answer")
	if hides {
		answers("missing", "missing")
	}
	for _, at := range append([]string{"^~ " + prefix + "/", "= " + prefix}, s.ownPaths()...) {
		if !strings.HasPrefix(at, "^~ ") && !strings.HasPrefix(at, "= ") {
			at = "= " + at
		}
		c.block("location "+at, func() {
			c.line("auth_request off;")
			c.line("client_max_body_size 2m;")
			asking(func() {
				c.line("proxy_pass %s;", to)
				c.line("proxy_buffering off;")
				c.line("proxy_set_header Host $http_host;")
				c.line(`proxy_set_header X-Original-Method "";`)
				c.line(`proxy_set_header X-Original-Uri "";`)
			})
		})
	}
	return c.String()
}

// nginxOpen sets $ostiarius_open where everybody is admitted.
func (s *Site) nginxOpen(c *config) {
	o := s.open()
	match := "~"
	if s.Book.Rules.FoldCase {
		match = "~*"
	}
	c.line("# Where everybody is admitted, nobody is asked. This is made of the policy, so write it anew when that changes. It is " +
		"quicker with")
	c.line("# pcre_jit on; outside of all blocks.")
	subject, plain := "$request_uri", place.PlainTarget
	text := func(e place.Expression) string { return e.Path }
	if o.hosts {
		c.line("set $ostiarius_place $host|$request_uri;")
		subject, plain, text = "$ostiarius_place", place.Plain[1:], func(e place.Expression) string { return e.String()[1:] }
	}
	not := func(condition string) { c.line(`if (%s) { set $ostiarius_open ""; }`, condition) }
	when := func(expressions []place.Expression, name, value string) {
		for _, any := range anyOf(expressions, text) {
			if value != "" && name == "open" {
				any = "(?=" + any + ")" + plain
			}
			c.line(`if (%s %s "^%s") { set $ostiarius_%s "%s"; }`, subject, match, any, name, value)
		}
	}
	c.line(`set $ostiarius_open "";`)
	if o.all {
		c.line(`if (%s %s "^%s") { set $ostiarius_open "yes"; }`, subject, match, plain)
	} else {
		when(o.public, "open", "yes")
	}
	var shut []place.Expression
	for _, closed := range o.closed {
		if len(closed.inner) == 0 {
			shut = append(shut, closed.door)
		}
	}
	when(shut, "open", "")
	for _, closed := range o.closed {
		if len(closed.inner) == 0 {
			continue
		}
		c.line(`set $ostiarius_shut "";`)
		when([]place.Expression{closed.door}, "shut", "yes")
		when(closed.inner, "shut", "")
		not("$ostiarius_shut")
	}
	if !o.hosts {
		not(fmt.Sprintf(`$host !~ "^%s$"`, place.PlainHost))
	}
	not("$request_method != GET")
	for _, field := range []string{"user", "roles", "door", "public", "identity"} {
		not(`$http_ostiarius_` + field + ` != ""`)
	}
}

// anyOf returns expressions that match what any of some does: one long expression is quicker than many short ones, and nginx reads
// no word of 4096 bytes.
func anyOf(expressions []place.Expression, text func(place.Expression) string) (all []string) {
	for _, e := range expressions {
		if last := len(all) - 1; last >= 0 && len(all[last])+len(text(e)) < 2000 {
			all[last] += "|" + text(e)
		} else {
			all = append(all, text(e))
		}
	}
	for i := range all {
		all[i] = "(?:" + all[i] + ")"
	}
	return all
}

func (t To) nginx() string {
	if t.Socket != "" {
		return "http://unix:" + t.Socket
	}
	return t.Scheme + "://" + t.Host
}

// A config is the text of a configuration.
type config struct {
	strings.Builder
	indent int
}

func (c *config) line(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); text != "" {
		c.WriteString(strings.Repeat("    ", c.indent) + text)
	}
	c.WriteByte('\n')
}

func (c *config) block(head string, inside func()) {
	c.line("%s {", head)
	c.indent++
	inside()
	c.indent--
	c.line("}")
}

// head begins with what people have to know.
func (c *config) head(s *Site, server, use, about string) {
	site := strings.Map(func(r rune) rune {
		if r < 0x20 || r == 0x7f {
			return ' '
		}
		return r
	}, s.Book.Site)
	text := fmt.Sprintf("%s guarded by Ostiarius, beside %s. Written by: ostiarius connect %[2]s\n\n%s\n\nStart Ostiarius so that this "+
		"server may ask:\n    %s\n\n%s\n\nTry it out:\n    ostiarius connect --check https://your.site --policy doors.yaml\n",
		site, server, use, s.serve(server), about)
	for _, line := range strings.Split(text, "\n") {
		c.line("%s", strings.TrimRight("# "+line, " "))
	}
}

// serve is the command that starts the service for a web server.
func (s *Site) serve(server string) string {
	from := map[string]string{"nginx": "x-original-uri", "caddy": "x-forwarded-uri", "haproxy": "x-forwarded-uri"}[server]
	at := "--listen " + s.To.Host + " --trusted-peer 127.0.0.1/32"
	if s.To.Socket != "" {
		at = "--front-socket " + s.To.Socket
	} else if !s.To.local() {
		at = "--listen " + s.To.Host + " --trusted-peer ADDRESS-OF-" + strings.ToUpper(server)
	}
	if server == "apache" {
		return "ostiarius serve --policy doors.yaml " + at + " --authorizer " + s.Authorizer + " --decide-from x-original-uri"
	}
	return "ostiarius serve --policy doors.yaml " + at + " --decide-from " + from
}
