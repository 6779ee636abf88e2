package connect

import (
	"strings"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// Caddy returns what is imported into the site block of a Caddyfile.
func (s *Site) Caddy() string {
	c := &config{}
	to, prefix := s.To.caddy(), s.Book.Prefix
	c.head(s, "caddy", "Import it into the block of the site:\n    import /etc/caddy/ostiarius.caddy",
		"Each request is asked about before the site's own handle, route, respond, reverse_proxy and file_server. Only redir, rewrite,\n"+
			"uri and header come earlier in Caddy's order: what they do is seen by strangers too.")
	own := append([]string{prefix, prefix + "/*"}, s.ownPaths()...)
	c.line("# A request that names no host is not asked about, since Caddy would name one in its place.")
	c.line("@ostiarius_hostless expression `{http.request.host} == \"\"`")
	c.line("rewrite @ostiarius_hostless %s/decide/hostless", prefix)
	c.block("@ostiarius_site", func() {
		c.line("not path %s", strings.Join(own, " "))
		if s.SkipPublic {
			c.block("not", func() {
				c.line("method GET")
				c.line("expression `%s`", s.caddyOpen())
				for _, field := range []string{"User", "Roles", "Door", "Public", "Identity"} {
					for _, between := range []string{"-", "_", "."} { // which CGI makes the same variable of
						c.line("not header Ostiarius%s%s *", between, field)
					}
				}
			})
		}
	})
	c.block("forward_auth @ostiarius_site "+to, func() {
		c.line("uri %s/decide?%s", prefix, s.asking("whole-399"))
		c.line("header_up X-Forwarded-Method {http.request.orig_method}")
		c.line("header_up X-Forwarded-Uri {http.request.orig_uri}")
		c.line("header_up X-Forwarded-For {remote_host}")
		c.line("header_up -Connection")
		// A placeholder of a field that is not there stands there as it is, so there is a case for each set of fields.
		told := func(name, field, value string, inside func()) {
			c.block("@ostiarius_"+name, func() {
				c.line("status 399")
				if field != "" {
					c.line("header %s %s", field, value)
				}
			})
			c.block("handle_response @ostiarius_"+name, func() {
				inside()
			})
		}
		private := func() {
			c.line("header {")
			c.line("    +Cache-Control \"private, no-store\"")
			c.line("    +Vary \"Cookie, Authorization\"")
			c.line("    defer")
			c.line("}")
		}
		door := func() {
			c.line("request_header Ostiarius-Door {rp.header.Ostiarius-Door}")
			if s.Identity != "" {
				c.line("request_header Ostiarius-Identity {rp.header.Ostiarius-Identity}")
			}
		}
		user := func() {
			c.line("request_header Ostiarius-User {rp.header.Ostiarius-User}")
			c.line("request_header Ostiarius-Roles {rp.header.Ostiarius-Roles}")
			door()
		}
		told("renewed", "Ostiarius-Set-Cookie", "*", func() {
			user()
			c.line("header +Set-Cookie {rp.header.Ostiarius-Set-Cookie}")
			private()
		})
		told("somebody", "Ostiarius-User", "*", func() {
			user()
			private()
		})
		told("anybody", "Ostiarius-Public", "yes", func() {
			door()
		})
		told("holder", "", "", func() {
			door()
			private()
		})
	})
	c.line("@ostiarius_pages path %s", strings.Join(own, " "))
	c.line("@ostiarius_decide path %s/decide %[1]s/decide/*", prefix)
	c.block("handle @ostiarius_decide", func() { c.line("respond 404") })
	c.block("handle @ostiarius_pages", func() {
		c.block("reverse_proxy "+to, func() {
			c.line("header_up X-Forwarded-For {remote_host}")
			c.line("flush_interval -1")
		})
	})
	if policy.Hides(s.Book) {
		c.line("# What is not there is answered for as what is hidden, so that nobody can tell one from the other.")
		c.block("handle_errors", func() {
			c.line("@ostiarius_missing expression `{err.status_code} == 404`")
			c.block("reverse_proxy @ostiarius_missing "+to, func() {
				c.line("method GET")
				c.line("rewrite %s/decide?missing", prefix)
				c.line("header_up X-Forwarded-For {remote_host}")
			})
		})
	}
	return c.String()
}

// caddyOpen is an expression that is true where everybody is admitted.
func (s *Site) caddyOpen() string {
	o := s.open()
	fold := ""
	if s.Book.Rules.FoldCase {
		fold = "(?i)"
	}
	matches := func(expression string) string {
		return `({http.request.host} + "|" + {http.request.orig_uri}).matches(r"` + fold + expression + `")`
	}
	any := func(expressions []place.Expression) string {
		if len(expressions) == 0 {
			return "false"
		}
		all := make([]string, len(expressions))
		for i, e := range expressions {
			all[i] = matches(e.String())
		}
		return strings.Join(all, " || ")
	}
	terms := []string{matches(place.Plain)}
	if !o.all {
		terms = append(terms, "("+any(o.public)+")")
	}
	for _, c := range o.closed {
		terms = append(terms, "(!"+matches(c.door.String())+" || "+any(c.inner)+")")
	}
	return strings.Join(terms, " && ")
}

func (t To) caddy() string {
	if t.Socket != "" {
		return "unix/" + t.Socket
	}
	if t.Scheme == "https" {
		return "https://" + t.Host
	}
	return t.Host
}
