package connect

import (
	"fmt"
	"regexp"
	"strings"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// Apache returns what is included in the virtual host of the site in Apache 2.4. It asks by FastCGI, with the module authnz_fcgi that
// comes with Apache.
func (s *Site) Apache() string {
	c := &config{}
	prefix := s.Book.Prefix
	c.head(s, "apache", "Switch on what it needs:\n    a2enmod authnz_fcgi authz_user headers setenvif proxy proxy_http\nsay once, "+
		"outside of all virtual hosts, where Ostiarius is asked:\n    AuthnzFcgiDefineProvider authn Ostiarius fcgi://"+s.Authorizer+
		"/\nand include this inside the virtual host of the site, as its last lines:\n    Include /etc/apache2/ostiarius.conf",
		"Each request is asked about where Apache finds out who somebody is. A Location of the site with a Require of its own that comes later\n"+
			"takes the place of ours; ostiarius connect --check tells where that is so. REMOTE_USER is - for nobody, as in the access log: let\n"+
			"applications take OSTIARIUS_USER, which is absent then.")
	pages := func(at string) {
		c.line("ProxyPass \"%s\" \"%s%[1]s\" nocanon", at, s.To.apache())
	}
	c.line("# Fields of which other servers make the same variable as of ours. In our own spelling they are refused.")
	for _, field := range []string{"User", "Roles", "Door", "Public", "Identity"} {
		c.line("RequestHeader unset Ostiarius_%s early", field)
		c.line("RequestHeader unset Ostiarius.%s early", field)
	}
	c.line("TraceEnable off")
	c.line("ProxyPreserveHost On")
	for _, at := range s.ownPaths() {
		pages(at)
	}
	pages(prefix + "/")
	pages(prefix)
	own := make([]string, 0, 2)
	for _, at := range append(s.ownPaths(), prefix) {
		own = append(own, regexp.QuoteMeta(at))
	}
	c.line("")
	c.section("Location", `"/"`, func() {
		c.line("AuthType Ostiarius")
		c.line("AuthName \"Ostiarius\"")
		c.line("AuthnzFcgiCheckAuthnProvider Ostiarius Authoritative On RequireBasicAuth Off UserExpr \"%%{reqenv:OSTIARIUS_VISITOR}\"")
		c.line("# What Apache does not tell by itself: the credentials, and for whom it is signed who is calling.")
		c.line("SetEnvIf Authorization \"(.+)\" HTTP_AUTHORIZATION=$1")
		if s.Identity != "" {
			c.line("SetEnvIf Request_Method . OSTIARIUS_AUDIENCE=%s", s.Identity)
		}
		if s.SkipPublic {
			c.line("# Where everybody is admitted, nobody is asked. This is made of the policy, so write it anew when that changes.")
			c.section("RequireAny", "", func() {
				c.line("Require expr %s", s.apacheOpen())
				c.line("Require valid-user")
			})
		} else {
			c.line("Require valid-user")
		}
		c.line("# Who is calling, for a server behind; and what nobody may keep but the visitor's own browser, and not that either.")
		for _, field := range []string{"User", "Roles", "Door", "Identity"} {
			variable := "OSTIARIUS_" + strings.ToUpper(field)
			c.line("RequestHeader unset Ostiarius-%s", field)
			c.line("RequestHeader set Ostiarius-%s \"expr=%%{reqenv:%s}\" \"expr=-n reqenv('%[2]s')\"", field, variable)
		}
		for _, field := range []string{"Cache-Control", "Vary", "Set-Cookie"} {
			variable := "OSTIARIUS_" + strings.ToUpper(strings.ReplaceAll(field, "-", "_"))
			c.line("Header always add %s \"expr=%%{reqenv:%s}\" \"expr=-n reqenv('%[2]s')\"", field, variable)
		}
	})
	c.line("# Apache takes each refusal for a page in ISO 8859-1.")
	c.line("Header always set Content-Type \"expr=%%{resp:Ostiarius-Content-Type}\" \"expr=-n resp('Ostiarius-Content-Type')\"")
	c.line("# Our own pages decide for themselves.")
	c.section("LocationMatch", `"^(?:`+strings.Join(own, "|")+`)(?:/|$)"`, func() {
		c.line("AuthMerging Off")
		c.line("Require all granted")
		c.line("RequestHeader set X-Forwarded-Proto \"expr=%%{REQUEST_SCHEME}\"")
		for _, field := range []string{"X-Forwarded-For", "X-Original-Method", "X-Original-Uri"} {
			c.line("RequestHeader unset %s early", field)
		}
	})
	c.section("LocationMatch", `"^`+regexp.QuoteMeta(prefix)+`/decide"`, func() {
		c.line("Require expr -n reqenv('REDIRECT_STATUS')")
		c.line("# As for refusals, Apache tells no length where it sends no text.")
		c.line("Header unset Content-Length \"expr=reqenv('REDIRECT_REQUEST_METHOD') == 'HEAD'\"")
	})
	if policy.Hides(s.Book) {
		c.line("# What is not there is answered for as what is hidden, so that nobody can tell one from the other.")
		for _, status := range []int{404, 405} { // Apache does not look whether there is a file before it says 405
			c.line("ErrorDocument %d %s/decide?missing-typed", status, prefix)
		}
	}
	return c.String()
}

// section writes one as Apache has them.
func (c *config) section(name, of string, inside func()) {
	c.line("%s", strings.TrimRight("<"+name+" "+of, " ")+">")
	c.indent++
	inside()
	c.indent--
	c.line("</%s>", name)
}

// apacheOpen is an expression that is true where everybody is admitted. The target as it was received is in the first line of the request
// alone.
func (s *Site) apacheOpen() string {
	o := s.open()
	flags := ""
	if s.Book.Rules.FoldCase {
		flags = "i"
	}
	is := func(expression string) string {
		expression = strings.Replace(expression, `\|`, `(?::[0-9]*)?\|(?-i:GET) `, 1)
		return fmt.Sprintf(`'%%{HTTP_HOST}|%%{THE_REQUEST}' =~ m#%s#%s`, expression, flags)
	}
	terms := []string{is(strings.TrimSuffix(place.Plain, "$") + ` HTTP/[0-9.]+$`)}
	if !o.all {
		any := []string{"false"}
		for _, door := range o.public {
			any = append(any, is(door.String()))
		}
		terms = append(terms, "("+strings.Join(any, " || ")+")")
	}
	for _, c := range o.closed {
		any := []string{"!(" + is(c.door.String()) + ")"}
		for _, inner := range c.inner {
			any = append(any, is(inner.String()))
		}
		terms = append(terms, "("+strings.Join(any, " || ")+")")
	}
	for _, field := range []string{"User", "Roles", "Door", "Public", "Identity"} {
		terms = append(terms, "-z %{HTTP:Ostiarius-"+field+"}")
	}
	return strings.Join(terms, " && ")
}

func (t To) apache() string {
	if t.Socket != "" {
		return "unix:" + t.Socket + "|http://localhost"
	}
	return t.Scheme + "://" + t.Host
}
