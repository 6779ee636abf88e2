package patrol

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
)

const usual = "<p>The lighthouse was built in 1871 by the harbour board, and has been cared for by the trust since the last keeper " +
	"left it.</p>"

var lookAlikes = []lookAlike{
	{"/join", one("/join", fielded("X-Frame-Options: DENY\nCache-Control: no-store",
		`<form method=post action="/join"><input name=email><input type=password id=a name=password><input
 type=password id=b><button>Join</button></form>
<script>const a = document.getElementById('a'), b = document.getElementById('b'); function ok() { if (a.value !== b.value)
  return 'The two differ'; if (a.value.length < 8) return 'Too short'; if (a.value === '') return 'Missing'; return '' }</script>`))},
	{"/register", map[string]http.HandlerFunc{"/register": fielded("X-Frame-Options: DENY\nCache-Control: no-store", `<h2>Create an `+
		`account</h2><form method=post action="/welcome"><input name=email><input type=password `+
		`name=password><button>Register</button></form>`), "/welcome": page(usual)}},
	{"/strength", one("/strength", fielded("X-Frame-Options: DENY\nCache-Control: no-store", `<form method=post `+
		`action="/strength"><input type=password id=n name=password></form><script>n.oninput = () => { let score = rate(n.value); if `+
		`(score === 3) { meter.hidden = false; meter.className = "good" } else { meter.hidden = true } }</script>`))},
	{"/entry", one("/entry",
		fielded("X-Frame-Options: DENY\nCache-Control: no-store",
			usual+`<form method=post action="/entry" onsubmit="busy(this.password.value)"><input name=user><input
 type=password name=password autocomplete=current-password>
<button type=button onclick="helping.hidden=!helping.hidden">Help</button><button>Sign in</button></form><p id=helping hidden>If
  you have forgotten your word, ask the office for another one; it is open on Tuesdays.</p>
<p id=refused hidden>The password is wrong. Try it again, or ask the office for another one.</p><script>function busy(v) { if
  (v.length < 8) document.getElementById("refused").hidden = false }</script>`))},
	{"/theme", one("/theme", page(usual+`<div id="dark-note" hidden>You see the dark colours, because you have chosen them here or on `+
		`your device.</div><script>if (localStorage.getItem("theme") === "dark") { document.getElementById("dark-note").hidden = false `+
		`}</script>`))},
	{"/consent", one("/consent", page(usual+`<div id="consent-banner" style="display:none">We count visits without cookies of others; `+
		`you can say no to that here, and nothing is lost by it.</div><script>if (!localStorage.getItem("consent")) `+
		`document.getElementById("consent-banner").style.display = "block"</script>`))},
	{"/menu", one("/menu", headed(`<style>.admin-menu { display: none }</style>`, usual+`<nav class="admin-menu"><a href="/visit">A `+
		`page for everybody who comes here</a> <a href="/tours">All our tours and their times</a></nav>`))},
	{"/visit", one("/visit", page(usual))},
	{"/tours", one("/tours", page(usual+`<details><summary>More</summary><p>Tours begin at ten, at noon and at three, and take an hour `+
		`each, with the stairs.</p></details>`))},
	{"/moved", one("/moved", headed(`<meta http-equiv="refresh" content="0; url=/visit">`, `<p>This page has moved. <a href="/visit">Go `+
		`on</a></p>`))},
	{"/webcam", one("/webcam", headed(`<meta http-equiv="refresh" content="30">`, usual))},
	{"/slides", one("/slides", headed(`<meta http-equiv="refresh" content="8; url=/visit">`, usual))},
	{"/desk", one("/desk", headed(`<script>if (!localStorage.getItem("token")) { location.href = "/sign-in" }</script>`,
		`<div id="app">Loading…</div>`))},
	{"/js/texts.js", one("/js/texts.js", script(`export default { "password": "Password", "wrong": "The password is wrong", `+
		`passwordHint: "At least eight letters", login: "Sign in" }`))},
	{"/js/form.js", one("/js/form.js",
		script(`const passwordField = "#password"; const types = { password: "password", secret: "text" };
			let token = ""; let password = document.querySelector(passwordField).value; if (password === "") warn();
fetch("/sign-in", { method: "POST", body: new URLSearchParams({ password: password }) }).then(() => location.href = "/members/")`))},
	{"/js/guard.js", one("/js/guard.js", script(`const csrfToken = "f00dfeedf00dfeed1234"; const publishableKey = `+
		`"pk_test_51MadeUp00000000"; const siteKey = "6Lc-made-up-000000000000000"; const apiKeyName = "X-Api-Key"; send(csrfToken)`))},
	{"/handbook", one("/handbook", page(`<h2>For developers</h2><p>Write no passwords into pages, such as this:</p><pre><code>const `+
		`password = "example-only"; if (input === "example-only") show()</code></pre>`))},
	{"/handbook/errors", one("/handbook/errors", page(`<p>If you see this, tell us:</p><pre><code>Traceback (most recent call last):
  File "app.py", line 3, in view
NameError: y</code></pre>`))},
	{"/plants", one("/plants", headed("", `<h1>Index of plants</h1>`+usual+`<pre>thrift, marram grass, sea kale</pre>`))},
	{"/colours", one("/colours", fielded("Set-Cookie: theme=dark; Path=/\nSet-Cookie: lang=en; Path=/", usual))},
	{"/feedback", one("/feedback",
		fielded("Set-Cookie: csrftoken=aa01bb02cc03dd04; Path=/; SameSite=Strict\nCache-Control: no-store", usual))},
	{"/shop", one("/shop", func(w http.ResponseWriter, r *http.Request) {
		fielded("Set-Cookie: session="+randomSession()+"; Path=/; HttpOnly; SameSite=Lax\nCache-Control: no-store", usual)(w, r)
	})},
	{"/basket", one("/basket", func(w http.ResponseWriter, r *http.Request) {
		fielded("Set-Cookie: sid="+randomSession()+"; Path=/; HttpOnly; SameSite=Strict\nCache-Control: private, no-store", usual)(w, r)
	})},
	{"/short", map[string]http.HandlerFunc{
		"/short": redirect(302, "/shorter"), "/shorter": redirect(302, "/shortest"), "/shortest": redirect(302, "/visit"),
	}},
	{"/cookie-wall", one("/cookie-wall", func(w http.ResponseWriter, r *http.Request) {
		if _, err := r.Cookie("seen"); err != nil {
			http.SetCookie(w, &http.Cookie{Name: "seen", Value: "yes", Path: "/cookie-wall"})
			redirect(302, "/cookie-wall")(w, r)
			return
		}
		page(usual)(w, r)
	})},
	{"/elsewhere", one("/elsewhere", redirect(302, "https://harbour.marram.example/"))},
	{"/old-admin", one("/old-admin", redirect(302, "/visit"))}, // callers at an address that was given up are sent to an ordinary page
	{"/members/diary", one("/members/diary", kept(secretText))},
	{"/members/film", one("/members/film", members(answer(200, "Cache-Control: private, no-store\nContent-Type: video/mp4", "film")))},
	{"/press", one("/press", fielded("Cache-Control: public, max-age=86400", usual))},
	{"/assets/site.css", one("/assets/site.css",
		answer(200, "Content-Type: text/css\nCache-Control: public, max-age=31536000, immutable", "h1 { color: navy } .note { display: none }"))},
	{"/soft/start", map[string]http.HandlerFunc{"/soft/start": page(usual), "/soft/": func(w http.ResponseWriter, r *http.Request) {
		page(fmt.Sprintf("<p>Nothing is at %s, but here is our home page, as always.</p>", strings.ToUpper(url.PathEscape(r.URL.Path))))(w, r)
	}}},
	{"/safe-go", map[string]http.HandlerFunc{"/safe-go?url=/visit": nil, "/safe-go": func(w http.ResponseWriter, r *http.Request) {
		where := r.URL.Query().Get("url")
		if where != "/visit" {
			where = "/"
		}
		redirect(302, where)(w, r)
	}}},
	{"/out", map[string]http.HandlerFunc{"/out?to=harbour": nil, "/out": func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Query().Get("to") == "harbour" {
			redirect(302, "https://harbour.marram.example/")(w, r)
			return
		}
		answer(400, "", wholePage("", "Unknown."))(w, r)
	}}},
	{"/calendar", one("/calendar", func(w http.ResponseWriter, r *http.Request) {
		if r.URL.RawQuery != "" {
			redirect(302, "/calendar#"+url.QueryEscape(r.URL.RawQuery))(w, r)
			return
		}
		page(usual+`<a href="/calendar?next=https://harbour.marram.example/">Next</a>`)(w, r)
	})},
	{"/api/public-tides", one("/api/public-tides", answer(200, "Content-Type: application/json\nAccess-Control-Allow-Origin: "+
		"*\nCache-Control: public, max-age=60", `{"high":"06:12"}`))},
	{"/api/stations", one("/api/stations", func(w http.ResponseWriter, r *http.Request) {
		if o := r.Header.Get("Origin"); o != "" {
			w.Header().Set("Access-Control-Allow-Origin", o)
		}
		w.Header().Set("Vary", "Origin")
		answer(200, "Content-Type: application/json", `["Marram","Tern Rock"]`)(w, r)
	})},
	{"/sensors", one("/sensors",
		answer(401, "Cache-Control: no-store\nWWW-Authenticate: Basic realm=\"Sensors\", charset=\"UTF-8\"", wholePage("", "Who are you?")))},
	{"/account/", map[string]http.HandlerFunc{"/account/": kept(`<p>Your account with the trust, and all that we know of you</p><a ` +
		`href="/account/sign-in">As another</a> <a href="/account/orders">Orders</a>`), "/account/orders": kept("<p>What you have ordered " +
		"at the shop since you came here first.</p>"),
		"/account/sign-in": fielded("X-Frame-Options: DENY\nCache-Control: no-store", `<form method=post action="/account/sign-in"><input `+
			`name=user><input type=password name=password><button>Sign in</button></form>`)}},
	{"/docs/", map[string]http.HandlerFunc{
		"/docs/": page(usual + `<a href="/docs/a">A</a><a href="/docs/b">B</a>`), "/docs/a": page(usual),
		"/docs/b": kept("<p>The second document is for members of the trust alone.</p>"),
	}},
	{"/vestry", one("/vestry", kept(secretText))},
	{"/members/hall", map[string]http.HandlerFunc{"/members/hall": kept(`<p>The hall can be had by all members</p><script ` +
		`src="/members/hall-data.js"></script>`), "/members/hall-data.js": members(answer(200,
		"Content-Type: text/javascript\nCache-Control: no-store", "show([1, 2, 3])"))}},
	{"/contact", one("/contact",
		page(usual+
			`<a href="mailto:keeper@marram.example">Write</a> <a href="tel:+441632960000">Call</a> <a href="#top">Top</a>
			<a href="/sign-out">Leave</a>
			<a href="/delete?id=1">Remove</a> <a href="javascript:void(0)">Nothing</a>
<form method="post" action="/contact/delete"><button>Remove</button></form> <a href="/members/">For members</a>`))},
	{"/order", one("/order", page(`<form method=post action="/order"><fieldset id=step1><input name=what></fieldset><fieldset id=step2 `+
		`hidden><p>Where shall we send it? We send by post on Mondays, wherever you are.</p><input `+
		`name=where></fieldset></form><script>next.onclick = () => { step1.hidden = true; step2.hidden = false }</script>`))},
	{"/teaser", one("/teaser", page(`<div class="members-only">For members. <a href="/sign-in">Sign in</a></div>`+usual))},
	{"/search", one("/search", page(usual+`<form action="/search" method="get"><input name=q><button>Search</button></form>`))},
	{"/forms", one("/forms", page(usual+`<form method=post action="/forms"><input type=hidden name=csrf `+
		`value="aa00bb11cc22dd33ee44"><input type=hidden name=token value="00ff00ff00ff00ff00ff"><input `+
		`name=text><button>Send</button></form>`))},
	{"/story", one("/story", page(usual+`<!-- the password field was moved to the sign-in page --><!-- next month: write about secret `+
		`tunnels --><script>document.title = "token of affection"; const role = "story"; const user = { name: "Ines" }</script>`))},
	{"/permanent", one("/permanent", redirect(301, "/visit"))},
}
