package connect

import (
	"fmt"
	"strings"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// The most fields of a request that HAProxy hands on: it has room for 101, of which the question and the answer need some.
const mostHAProxyFields = 80

// HAProxy returns what stands in a frontend of HAProxy, with the backend for our pages.
func (s *Site) HAProxy() string {
	c := &config{}
	prefix := s.Book.Prefix
	c.head(s, "haproxy", "Put the lines of the frontend into that of the site, before all other http-request and use_backend lines, the "+
		"backend\nbeside it, and into the global section:\n    lua-load /etc/haproxy/ostiarius.lua\nwhere the script is written by: "+
		"ostiarius connect haproxy --script",
		"Each request is asked about by the script, with HAProxy's own client. What the site's other lines answer before these, such\nas "+
			"http-request redirect or return, strangers get too.")
	c.line("# in the frontend")
	c.line("# More fields than fit beside those of the question, and requests that name no host or several, are not asked about.")
	c.line("http-request return status 431 if { req.fhdr_cnt gt %d }", mostHAProxyFields)
	c.line("http-request deny deny_status 400 if !{ req.fhdr(host) -m len gt 0 }")
	c.line("http-request deny deny_status 400 if { req.fhdr_cnt(host) gt 1 }")
	c.line("http-request deny deny_status 405 if { method TRACE }")
	c.line("acl ostiarius_pages path %s %s", prefix, strings.Join(s.ownPaths(), " "))
	c.line("acl ostiarius_pages path_beg %s/", prefix)
	c.line("acl ostiarius_decide path_beg %s/decide", prefix)
	c.line("http-request deny deny_status 404 if ostiarius_decide")
	c.line("http-request set-header X-Forwarded-For %%[src]")
	c.line("http-request set-header X-Forwarded-Proto %%[ssl_fc,iif(https,http)]")
	open := ""
	if s.SkipPublic {
		open = s.haproxyOpen(c)
	}
	hides := policy.Hides(s.Book)
	if hides {
		c.line("http-request set-var(txn.ostiarius_own) bool(true) if ostiarius_pages")
		c.line("http-request lua.ostiarius_read if !ostiarius_pages")
	}
	c.line("http-request lua.ostiarius if !ostiarius_pages%s", open)
	c.line("# Only the script marks what is admitted, as its last step. Whatever ended it before that, such as a client that hangs up, " +
		"admits nobody.")
	c.line("http-request deny deny_status 503 if !ostiarius_pages%s !{ var(txn.ostiarius_admitted) -m bool }", open)
	if hides {
		c.line("# What is not there is answered for as what is hidden, so that nobody can tell one from the other.")
		c.line("http-response lua.ostiarius_missing if { status 404 405 } !{ var(txn.ostiarius_own) -m bool }")
	}
	for _, field := range []string{"Cache-Control", "Vary", "Set-Cookie"} {
		name := strings.ToLower(strings.ReplaceAll(field, "-", "_"))
		c.line("http-response add-header %s %%[var(txn.ostiarius_%s)] if { var(txn.ostiarius_%[2]s) -m found }", field, name)
	}
	c.line("use_backend ostiarius if ostiarius_pages")
	c.line("")
	c.line("backend ostiarius")
	c.line("    mode http")
	c.line("    server ostiarius %s", s.To.haproxy())
	return c.String()
}

// haproxyOpen sets a variable where everybody is admitted, and returns the condition that it is not set.
func (s *Site) haproxyOpen(c *config) string {
	o := s.open()
	match := "-m reg"
	if s.Book.Rules.FoldCase {
		match += " -i"
	}
	set := func(name string, value bool, condition string) {
		c.line("http-request set-var(txn.ostiarius_%s) bool(%t)%s", name, value, condition)
	}
	is := func(expression string) string {
		return fmt.Sprintf(" if { var(txn.ostiarius_place) %s '%s' }", match, expression)
	}
	c.line("# Where everybody is admitted, nobody is asked. This is made of the policy, so write it anew when that changes.")
	c.line("http-request set-var-fmt(txn.ostiarius_place) '%%[req.fhdr(host),field(1,:)]|%%[pathq]'")
	set("open", o.all, "")
	for _, door := range o.public {
		set("open", true, is(door.String()))
	}
	for _, closed := range o.closed {
		set("shut", false, "")
		set("shut", true, is(closed.door.String()))
		for _, inner := range closed.inner {
			set("shut", false, is(inner.String()))
		}
		set("open", false, " if { var(txn.ostiarius_shut) -m bool }")
	}
	set("open", false, strings.Replace(is(place.Plain), " if ", " unless ", 1))
	set("open", false, " unless { method -m str GET }")
	set("open", false, " if { req.hdr_names -m sub -i ostiarius }")
	return " !{ var(txn.ostiarius_open) -m bool }"
}

func (t To) haproxy() string {
	switch {
	case t.Socket != "":
		return "unix@" + t.Socket
	case t.Scheme == "https":
		return t.Host + " ssl verify required ca-file @system-ca"
	}
	return t.Host
}

// HAProxyScript returns the script that asks.
func (s *Site) HAProxyScript() string {
	at := s.To.Scheme + "://" + s.To.Host
	dst := ""
	if s.To.Socket != "" {
		at, dst = "http://ostiarius", fmt.Sprintf(", dst = %q", "unix@"+s.To.Socket)
	}
	return fmt.Sprintf(`-- Asks Ostiarius about each request. Written by: ostiarius connect haproxy --script
local decide, missing = %q, %q

-- What speaks of a connection, or of a body, is not handed on with the question.
local left = { ["connection"] = true, ["content-length"] = true, ["transfer-encoding"] = true, ["keep-alive"] = true, ["te"] =
  true, ["expect"] = true, ["trailer"] = true, ["proxy-connection"] = true, ["x-forwarded-method"] = true, ["x-forwarded-uri"] = true }

-- HAProxy answers with no more than fits into its buffer, beside the fields.
local mostOfBody = 12000

local function asked(txn)
    local headers = {}
    for name, values in pairs(txn.http:req_get_headers()) do
        if not left[name] then
            local list = {}
            for i = 0, #values do
                list[#list + 1] = values[i]
            end
            headers[name] = list
        end
    end
    headers["x-forwarded-method"] = { txn.f:method() }
    headers["x-forwarded-uri"] = { txn.f:pathq() }
    return headers
end

-- Asks at an address, and returns the answer; nil if there is none, which the visitor is told.
local function ask(txn, url, headers)
    local answer = core.httpclient():get({ url = url, headers = headers, timeout = 10000%s })
    if answer ~= nil and answer.status ~= nil and answer.status ~= 0 then
        return answer
    end
    local reply = txn:reply({ status = 503, reason = "Service Unavailable" })
    reply:add_header("cache-control", "no-store")
    txn:done(reply)
end

-- Gives the visitor an answer of Ostiarius.
local function give(txn, method, answer)
    local reply = txn:reply({ status = answer.status, reason = answer.reason })
    for name, values in pairs(answer.headers) do
        local typed = name == "content-type" and answer.body and #answer.body > mostOfBody
        if not typed and name ~= "content-length" and name ~= "transfer-encoding" and name ~= "connection" and name ~= "date" then
            for i = 0, #values do
                reply:add_header(name, values[i])
            end
        end
    end
    local renewed = txn:get_var("txn.ostiarius_set_cookie")
    if renewed then
        reply:add_header("set-cookie", renewed)
    end
    if method ~= "HEAD" then
        local body = answer.body
        if body and #body > mostOfBody then
            reply:add_header("content-type", "text/plain; charset=utf-8")
            body = "You can't see this page. Why is too long for the buffer of the web server (tune.bufsize)."
        end
        reply:set_body(body)
    end
    txn:done(reply)
end

-- Keeps what is asked about, for when it turns out to be missing.
core.register_action("ostiarius_read", { "http-req" }, function(txn)
    txn:set_priv(asked(txn))
end)

core.register_action("ostiarius_missing", { "http-res" }, function(txn)
    local headers = txn:get_priv()
    local answer = headers and ask(txn, missing, headers)
    if answer then
        give(txn, headers["x-forwarded-method"][1], answer)
    end
end)

core.register_action("ostiarius", { "http-req" }, function(txn)
    local answer = ask(txn, decide, asked(txn))
    if answer == nil then
        return
    end
    local function field(name)
        local values = answer.headers[name]
        return values and values[0]
    end
    if answer.status ~= 200 or not field("ostiarius-public") then
        give(txn, txn.f:method(), answer)
        return
    end
    for _, name in ipairs({ "ostiarius-user", "ostiarius-roles", "ostiarius-door", "ostiarius-identity" }) do
        txn.http:req_del_header(name)
        if field(name) then
            txn.http:req_set_header(name, field(name))
        end
    end
    for _, name in ipairs({ "cache_control", "vary", "set_cookie" }) do
        local value = field("ostiarius-" .. name:gsub("_", "-"))
        if value then
            txn:set_var("txn.ostiarius_" .. name, value)
        end
    end
    txn:set_var("txn.ostiarius_admitted", true)
end)
`, at+s.Book.Prefix+"/decide?"+s.asking("whole"), at+s.Book.Prefix+"/decide?missing", dst)
}
