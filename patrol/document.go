package patrol

import (
	"bytes"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/net/html"

	"ostiarius/core/brief"
	"ostiarius/core/pattern"
)

// Contents are what was read of an answer: where it leads, and what rules look at. It is the same for all who got it.
type contents struct {
	html     bool
	links    []named
	base     string
	title    string
	begins   string          // of the visible text
	words    map[string]bool // of it
	content  int             // letters of it that are no link, heading, button or form
	scripts  string          // in the page itself, with those in attributes
	comments string
	styles   string
	styled   int // bytes of styles in attributes that were read
	forms    []form
	secrets  []string // names or ids of inputs for a password
	joins    bool     // a password is chosen here, not typed
	refresh  *refresh
	blocks   []block
	listing  bool
	read     *signs // what was found in it, once it was looked for
	raw      string // what is no HTML, or the text without examples, for signs of faults
}

// Signs are what is found in a document, wherever it stands.
type signs struct {
	key, keyPart, check string
	told                bool // at the first address that it stands at
}

// Named is an address as it stands in a page.
type named struct {
	way  way
	text string
	// shown to some only, by the script that the page brings for that.
	sometimes bool
}

type form struct {
	action   string
	method   string
	password int
	hidden   map[string]string
	submits  string // the page's own code that runs when it is submitted
	clicks   string // the code of its other controls
}

// A refresh is what a meta element says of going on.
type refresh struct {
	after float64 // seconds
	to    string
}

// A block is an element with text of its own.
type block struct {
	id, class string
	hidden    bool
	text      string
	content   int
}

// size is about how many bytes a document takes.
func (d *contents) size() int {
	n := 1000 + len(d.scripts) + len(d.comments) + len(d.styles) + len(d.raw) + 40*len(d.words)
	for _, l := range d.links {
		n += 40 + len(l.text)
	}
	for i := range d.blocks {
		n += 100 + len(d.blocks[i].text)
	}
	for i := range d.forms {
		n += 200 + len(d.forms[i].action) + len(d.forms[i].submits) + len(d.forms[i].clicks)
		for name, value := range d.forms[i].hidden {
			n += 40 + len(name) + len(value)
		}
	}
	for _, secret := range d.secrets {
		n += 20 + len(secret)
	}
	return n + len(d.title) + len(d.begins)
}

// forget lets go of all but what a walk needs to go on, and returns the size that is left.
func (d *contents) forget() int {
	d.scripts, d.comments, d.styles, d.raw, d.blocks, d.words = "", "", "", "", nil, map[string]bool{}
	d.links = slices.Clone(d.links[:min(len(d.links), 100)])
	d.forms = slices.Clone(d.forms[:min(len(d.forms), 5)])
	for i := range d.forms {
		d.forms[i].submits, d.forms[i].clicks = "", ""
	}
	d.secrets = slices.Clone(d.secrets[:min(len(d.secrets), 5)])
	return d.size()
}

// signsIn reports whether somebody signs in here.
func (d *contents) signsIn() bool { return len(d.secrets) == 1 && !d.joins }

const (
	mostWords  = 600
	mostBlocks = 400
	mostScript = 400 << 10
	mostStyle  = 400 << 10
	mostForms  = 200     // of one page, and of its inputs for passwords
	mostField  = 300     // bytes of a name or value
	mostCode   = 4 << 10 // bytes of code in the attributes of one form
	mostLabel  = 500
	mostOpen   = 200 // elements within each other
	enough     = 40  // letters that are content, and not a word on the way
)

func readDocument(mime string, body []byte) *contents {
	d := &contents{words: map[string]bool{}}
	switch {
	case strings.Contains(mime, "html") || mime == "" || mime == "application/octet-stream":
		d.html = true
		d.readHTML(body)
	case mime == "text/css":
		d.styles = string(body)
		d.readStyle(d.styles)
	case strings.HasSuffix(mime, "javascript") || strings.HasSuffix(mime, "json"):
		d.scripts = string(body[:min(len(body), mostScript)])
		d.readScript(d.scripts)
		d.hear(string(body[:min(len(body), 4096)]))
	case strings.HasSuffix(mime, "xml"):
		for _, found := range inXML.FindAllSubmatch(body, mostLinks) {
			d.link(link, html.UnescapeString(strings.TrimSpace(string(bytes.Join(found[1:], nil)))))
		}
	default:
		for _, found := range forRobots.FindAllSubmatch(body, 500) {
			if text := strings.TrimRight(string(found[1]), "*$"); text != "" && !strings.Contains(text, "*") {
				d.link(guess, text)
			}
		}
		d.hear(string(body[:min(len(body), 64<<10)]))
	}
	if !d.html {
		d.raw = string(body[:min(len(body), 256<<10)])
	}
	return d
}

var (
	inXML     = pattern.New(`<loc>([^<]+)</loc>|<link>([^<]+)</link>|\bhref="([^"]+)"`)
	forRobots = pattern.New(`(?mi)^\s*(?:disallow|allow|sitemap)\s*:\s*(\S+)`)
	inStyle   = pattern.New(`url\(\s*["']?([^"')\s]{1,1000})["']?\s*\)|@import\s+["']([^"']{1,1000})["']`)
	// What looks like an address among the texts of a script: it begins with a slash, or has an ending of pages and files.
	inScript = pattern.New("[\"'`](/[\\w./~%@-]{1,300}(?:\\?[^\"'`\\s<>]{0,200})?|(?:\\.{1,2}/)?[\\w/~%-]{1,200}\\.(?:html?|php|aspx?|" +
		"jsp|cgi|json|xml|csv|txt|pdf|zip|js|css|md)(?:\\?[^\"'`\\s<>]{0,200})?)[\"'`]")
)

func (d *contents) link(how way, text string) {
	if text = strings.TrimSpace(text); text != "" && len(d.links) < mostLinks && !strings.HasPrefix(text, "#") {
		d.links = append(d.links, named{way: how, text: text})
	}
}

func (d *contents) readStyle(text string) {
	for _, found := range inStyle.FindAllStringSubmatch(text, 300) {
		if to := found[1] + found[2]; !strings.HasPrefix(to, "data:") {
			d.link(part, to)
		}
	}
}

func (d *contents) readScript(text string) {
	for _, found := range inScript.FindAllStringSubmatch(text, 300) {
		if to := found[1]; !strings.HasPrefix(to, "//") && to != "/" {
			d.link(guess, to)
		}
	}
}

// hear takes words into what the document says.
func (d *contents) hear(text string) {
	if len(d.begins) < 300 {
		d.begins = strings.TrimSpace(d.begins + " " + strings.TrimSpace(text[:min(len(text), 400)]))
	}
	for _, word := range strings.Fields(text) {
		if len(d.words) >= mostWords {
			return
		}
		d.words[word] = true
	}
}

// alike reports whether two documents say the same, but for a few words.
func (d *contents) alike(other *contents) bool {
	if len(d.words) == 0 && len(other.words) == 0 {
		return false // nothing is said, so nothing can be told
	}
	both := 0
	for word := range d.words {
		if other.words[word] {
			both++
		}
	}
	apart := len(d.words) + len(other.words) - 2*both
	return both > 0 && (apart <= 4 && both >= apart || apart*10 <= both)
}

// The elements that have no end.
var void = map[string]bool{
	"area": true, "base": true, "br": true, "col": true, "embed": true, "hr": true, "img": true, "input": true, "link": true,
	"meta": true, "source": true, "track": true, "wbr": true,
}

// Text within these is no content of the page.
var aside = map[string]bool{
	"a": true, "button": true, "label": true, "option": true, "nav": true, "footer": true, "h1": true, "form": true, "noscript": true,
	"template": true, "title": true, "script": true, "style": true, "textarea": true, "iframe": true, "summary": true,
}

type element struct {
	tag    string
	aside  bool
	unseen bool // script, style and the like
	quotes bool // pre or code
	hides  bool
	block  *block
	links  bool
}

// readHTML reads a page: one token after the other, with the elements that are open.
func (d *contents) readHTML(body []byte) {
	z := html.NewTokenizer(bytes.NewReader(body))
	var opened []element
	var scripts, styles, raw strings.Builder
	var blocks []*block
	l := listing{names: 0}
	inForm := -1
	is := func(test func(e *element) bool) bool {
		for i := range opened {
			if test(&opened[i]) {
				return true
			}
		}
		return false
	}
	for {
		switch z.Next() {
		case html.ErrorToken:
			d.scripts, d.styles = scripts.String(), styles.String()
			d.readScript(d.scripts)
			d.raw = raw.String()
			d.listing = l.is(d)
			d.joins = d.joins || joining.MatchString(d.title+" "+d.begins) && !signingIn.MatchString(d.title+" "+d.begins)
			for _, b := range blocks {
				if b.content >= enough {
					d.blocks = append(d.blocks, *b)
				}
			}
			return
		case html.CommentToken:
			text := string(z.Text())
			if len(d.comments) < 64<<10 {
				d.comments += text + "\n"
			}
			for _, found := range inXML.FindAllStringSubmatch(text, 50) {
				d.link(guess, html.UnescapeString(strings.Join(found[1:], "")))
			}
			d.readScript(text)
		case html.TextToken:
			if len(opened) > 0 {
				switch opened[len(opened)-1].tag {
				case "script":
					if scripts.Len() < mostScript {
						scripts.Write(z.Raw())
						scripts.WriteByte('\n')
					}
					continue
				case "style":
					text := string(z.Raw())
					if styles.Len() < mostStyle {
						styles.WriteString(text)
						styles.WriteByte('\n')
						d.readStyle(text)
					}
					continue
				case "title":
					d.title = brief.Cut(strings.TrimSpace(string(z.Text())), mostField)
					continue
				}
			}
			if is(func(e *element) bool { return e.unseen }) {
				continue
			}
			text := string(z.Text())
			if raw.Len() < 256<<10 && !is(func(e *element) bool { return e.quotes }) {
				raw.WriteString(text)
			}
			words := strings.Join(strings.Fields(text), " ")
			if words == "" {
				continue
			}
			d.hear(words)
			if is(func(e *element) bool { return e.links }) {
				if len(l.label) < mostLabel {
					l.label += brief.Cut(words, mostLabel)
				}
			} else {
				l.rest += len(words)
			}
			if is(func(e *element) bool { return e.aside }) {
				continue
			}
			said := len(words)
			if said < 200 { // a longer text is no word on the way
				said = len(onTheWay.ReplaceAllString(words, ""))
			}
			d.content += said
			for i := range opened {
				if b := opened[i].block; b != nil {
					b.content += said
					if len(b.text) < 200 {
						b.text += words + " "
					}
				}
			}
		case html.EndTagToken:
			name, _ := z.TagName()
			tag := string(name)
			for i := len(opened) - 1; i >= 0; i-- {
				if opened[i].tag == tag {
					opened = opened[:i]
					break
				}
			}
			switch tag {
			case "form":
				inForm = -1
			case "a":
				l.end()
			}
			raw.WriteByte('\n')
		case html.StartTagToken, html.SelfClosingTagToken:
			tag, fields := attributes(z)
			e := element{
				tag: tag, aside: aside[tag], unseen: tag == "script" || tag == "style" || tag == "template" || tag == "noscript",
				quotes: tag == "pre" || tag == "code", links: tag == "a",
			}
			_, e.hides = fields["hidden"]
			e.hides = e.hides || hiding.MatchString(fields["style"])
			d.element(tag, fields, &inForm, &l)
			for name, value := range fields {
				if strings.HasPrefix(name, "on") && scripts.Len() < mostScript {
					scripts.WriteString(value + "\n")
				}
			}
			if inForm >= 0 {
				d.forms[inForm].handles(tag, fields)
			}
			if void[tag] {
				continue
			}
			if len(blocks) < mostBlocks && (e.hides || fields["id"] != "" || fields["class"] != "") && tag != "html" && tag != "body" {
				e.block = &block{id: fields["id"], class: fields["class"], hidden: e.hides}
				blocks = append(blocks, e.block)
			}
			if len(opened) < mostOpen {
				opened = append(opened, e)
			}
		}
	}
}

// What is said by pages that are only on the way to others.
var onTheWay = pattern.New(`(?i)(this page has moved|you are being (led|sent|redirected)|redirecting|weiterleitung|loading|please ` +
	`wait|click here|if you are not (led|sent|redirected)[^.]*|…|\.\.\.)`)

var hiding = pattern.New(`(?i)(display\s*:\s*none|visibility\s*:\s*hidden|opacity\s*:\s*0(\.0+)?\s*(;|$|!)|filter\s*:\s*blur|` +
	`max-height\s*:\s*0)`)

func attributes(z *html.Tokenizer) (tag string, fields map[string]string) {
	name, more := z.TagName()
	tag, fields = string(name), map[string]string{}
	for more {
		var key, value []byte
		key, value, more = z.TagAttr()
		if _, twice := fields[string(key)]; !twice {
			fields[string(key)] = string(value)
		}
	}
	return tag, fields
}

// element takes what one element says.
func (d *contents) element(tag string, fields map[string]string, inForm *int, l *listing) {
	sometimes := false
	for name := range fields {
		sometimes = sometimes || strings.HasPrefix(name, "data-door-")
	}
	add := func(how way, text string) {
		n := len(d.links)
		d.link(how, text)
		if len(d.links) > n {
			d.links[n].sometimes = sometimes
		}
	}
	if style := fields["style"]; style != "" && d.styled < mostStyle {
		d.styled += len(style)
		d.readStyle(style)
	}
	switch tag {
	case "a", "area":
		if _, saves := fields["ping"]; !saves {
			add(link, fields["href"])
		}
		l.begin(fields["href"])
	case "base":
		if d.base == "" {
			d.base = fields["href"]
		}
	case "link":
		rel := strings.ToLower(fields["rel"])
		switch {
		case strings.Contains(rel, "stylesheet") || strings.Contains(rel, "icon") || strings.Contains(rel, "modulepreload"):
			add(part, fields["href"])
		case !strings.Contains(rel, "preconnect") && !strings.Contains(rel, "dns-prefetch"):
			add(guess, fields["href"])
		}
	case "script", "iframe", "frame", "embed", "audio", "video", "source", "track", "img":
		if src := fields["src"]; !strings.HasPrefix(src, "data:") {
			add(part, src)
		}
		add(part, fields["poster"])
		for _, one := range strings.Split(fields["srcset"], ",") {
			if f := strings.Fields(one); len(f) > 0 && !strings.HasPrefix(f[0], "data:") {
				add(part, f[0])
			}
		}
	case "object":
		add(part, fields["data"])
	case "form":
		if len(d.forms) >= mostForms {
			*inForm = -1
			return
		}
		d.forms = append(d.forms, form{action: brief.Cut(fields["action"], mostLong), method: strings.ToLower(fields["method"]),
			hidden: map[string]string{}})
		*inForm = len(d.forms) - 1
		if fields["action"] != "" {
			add(guess, fields["action"])
		}
	case "input":
		d.input(fields, *inForm)
	case "meta":
		if strings.EqualFold(fields["http-equiv"], "refresh") {
			d.refresh = readRefresh(fields["content"])
			if d.refresh != nil && d.refresh.to != "" {
				add(guess, d.refresh.to)
			}
		}
	}
}

func (d *contents) input(fields map[string]string, inForm int) {
	var f *form
	if inForm >= 0 {
		f = &d.forms[inForm]
	}
	switch strings.ToLower(fields["type"]) {
	case "password":
		name := fields["id"]
		if name == "" {
			name = fields["name"]
		}
		if len(d.secrets) < mostForms {
			d.secrets = append(d.secrets, brief.Cut(name, mostField))
		}
		d.joins = d.joins || strings.Contains(fields["autocomplete"], "new-password")
		if f != nil {
			f.password++
		}
	case "hidden":
		if f != nil && len(f.hidden) < 50 {
			f.hidden[brief.Cut(fields["name"], mostField)] = brief.Cut(fields["value"], mostField)
		}
	}
}

// handles takes the code that an element of the form runs.
func (f *form) handles(tag string, fields map[string]string) {
	kind := strings.ToLower(fields["type"])
	submits := tag == "form" || kind == "password" || kind == "submit" || kind == "image" || tag == "button" && kind == ""
	for _, name := range inOrder(fields) {
		code, script := strings.CutPrefix(strings.TrimSpace(fields[name]), "javascript:")
		if !script && !strings.HasPrefix(name, "on") {
			continue
		}
		to := &f.clicks
		if submits {
			to = &f.submits
		}
		*to += brief.Cut(code+"\n", max(0, mostCode-len(*to)))
	}
}

// readRefresh reads what a meta element says, such as "0; url=/elsewhere".
func readRefresh(text string) *refresh {
	after, rest, _ := strings.Cut(strings.ReplaceAll(text, ",", ";"), ";")
	seconds, err := strconv.ParseFloat(strings.TrimSpace(after), 64)
	if err != nil {
		return nil
	}
	rest = strings.TrimSpace(rest)
	if len(rest) >= 3 && strings.EqualFold(rest[:3], "url") {
		rest = strings.TrimLeft(rest[3:], " =")
	}
	return &refresh{seconds, strings.Trim(rest, `"' `)}
}

// A listing is a page that lists the files of a directory: it has links whose words are the names they lead to, and hardly more.
type listing struct {
	href  string
	label string
	names int // links that are named as where they lead
	other int
	rest  int // letters outside of links
}

func (l *listing) begin(href string) { l.href, l.label = href, "" }

func (l *listing) end() {
	if l.href == "" {
		return
	}
	name, err := url.PathUnescape(l.href)
	label := strings.TrimSpace(l.label)
	short := strings.TrimSuffix(strings.TrimSuffix(label, ">"), "..")
	switch {
	case strings.HasPrefix(l.href, "?"): // to sort
	case name == ".." || name == "../" || strings.EqualFold(label, "parent directory"):
	case err == nil && !strings.HasPrefix(name, "/") && label != "" &&
		(strings.Trim(name, "./") == strings.Trim(label, "./") || len(short) > 8 && strings.HasPrefix(name, short)):
		l.names++
	default:
		l.other++
	}
	l.href = ""
}

// What pages say on which an account is made, and those on which one signs in.
var (
	joining   = pattern.New(`(?i)\b(register|sign up|create (an |your )?account|open an account|registrieren|konto anlegen)\b`)
	signingIn = pattern.New(`(?i)\b(sign in|log in|log on|login|sign-in|anmelden|einloggen)\b`)
)

var listingTitle = pattern.New(`(?i)^\s*(index of|directory listing (for|of)|listing of|contents of|verzeichnis(inhalt)?( von)?)\s*:?\s*/`)

func (l *listing) is(d *contents) bool {
	if listingTitle.MatchString(d.title) || listingTitle.MatchString(d.begins) {
		return true
	}
	return l.names > 0 && l.other == 0 && l.rest <= 60+80*l.names && len(d.forms) == 0 && d.title == "" && d.content < 200
}

var signInWords = pattern.New(`(?i)(^|[/_.-])(sign-?_?in|log-?_?in|logon|log-?on|signon|anmeld(en|ung)|connexion|authenticate|auth|` +
	`unlock|prove-again)([/_.?-]|$)`)

// signInAddress reports whether an address sounds as if one signed in there.
func signInAddress(u *url.URL) bool { return signInWords.MatchString(u.Path) }
