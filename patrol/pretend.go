package patrol

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/pattern"
)

// pretending finds guards that only pretend: those that stand in the page, which the browser has been sent already.
func (w *walk) pretending(ctx context.Context) {
	w.each(func(a *address) {
		got := a.answers[w.stranger]
		for _, other := range a.answers {
			if got == nil || got.page == nil {
				got = other
			}
		}
		if got == nil || got.page == nil {
			return
		}
		d := got.page
		if d.read != nil && d.read.told {
			return // at another address
		}
		say := func(message string, part string, more ...*answered) {
			if d.read != nil {
				d.read.told = true
			}
			f := Finding{
				Rule: "pretend-guard", Severity: document.SeverityError, Path: a.path(), Message: message, As: w.o.Visitors[got.visitor].Who,
				Requests: []Shown{w.shown(got)},
			}
			if part != "" {
				f.Requests[0].Begins = excerpt(part)
			}
			for _, m := range more {
				f.Requests = append(f.Requests, w.shown(m))
			}
			w.tell(f)
		}
		if d.read == nil { // the same page may stand at many addresses
			d.read = &signs{}
			d.read.key, d.read.keyPart = keyIn(d)
			d.read.check = checkIn(d.scripts, d.secrets)
		}
		if what, part := d.read.key, d.read.keyPart; what != "" {
			say("the source of the page has "+what+", which everybody who gets the page can read", part)
		}
		if got.visitor != w.stranger {
			return
		}
		if got.status >= 300 && got.status < 400 && d.html && d.content >= 2*enough && !onTheWay.MatchString(d.begins) {
			say("the answer leads elsewhere, but has the content all the same: whoever does not follow reads it", d.begins)
		}
		if w.state(got) != open {
			for _, insider := range a.answers {
				if insider != nil && insider != got && w.state(insider) == open && insider.page != nil && got.page.content >= enough &&
					same(got, insider) && len(got.page.secrets) == 0 {
					say("who is turned away gets the content all the same", d.begins, insider)
				}
			}
			return
		}
		scripts := d.scripts
		for _, to := range w.loaded(a, d) {
			scripts += "\n" + to.page.scripts
		}
		if part := d.read.check; part != "" {
			say("a script compares what is typed with a text that it brings along: the check and its answer are in the browser's hands, and "+
				"what it opens can be had without it", part)
		}
		if !d.html {
			return
		}
		if part := leavesAfter(d); part != "" {
			say("the content is sent first, and then the browser is asked to go elsewhere; whoever does not run scripts or stops the page "+
				"reads it", part)
		}
		if part := hiddenIn(d, scripts, w.stylesOf(a, d)); part != "" {
			say("content for some is sent to everybody, and only hidden by script or style", part)
		}
		w.entered(ctx, a, got, say)
	})
}

// loaded returns the answers of scripts that a page brings along.
func (w *walk) loaded(a *address, d *contents) (all []*answered) {
	for _, l := range d.links {
		if l.way != part || len(all) > 20 {
			continue
		}
		if u, err := a.url.Parse(l.text); err == nil {
			if to := w.at(u.String()); to != nil && to.answers != nil {
				if got := to.answers[w.stranger]; got != nil && got.page != nil && !got.page.html && strings.HasSuffix(got.mime, "javascript") {
					all = append(all, got)
				}
			}
		}
	}
	return all
}

func (w *walk) stylesOf(a *address, d *contents) string {
	all := d.styles
	for _, l := range d.links {
		if l.way != part || len(all) > 1<<20 {
			continue
		}
		if u, err := a.url.Parse(l.text); err == nil {
			if to := w.at(u.String()); to != nil && to.answers != nil {
				if got := to.answers[w.stranger]; got != nil && got.page != nil && got.mime == "text/css" {
					all += "\n" + got.page.styles
				}
			}
		}
	}
	return all
}

// at returns the walked address of a URL, or nil.
func (w *walk) at(text string) *address {
	u, err := w.base.Parse(text)
	if err != nil {
		return nil
	}
	if u.Path == "" {
		u.Path = "/"
	}
	key := u.Scheme + "://" + hostOf(u) + u.EscapedPath()
	if u.RawQuery != "" {
		key += "?" + u.RawQuery
	}
	return w.known[key]
}

var (
	secretName = `(?:[\w$]*(?:passw(?:or)?d|passwort|passphrase|passcode|kennwort|pwd)s?|pw|pin|secret)\d*`
	// The names of what somebody types, when they end in one of these.
	typedName = pattern.New(`(?i)(^|[.\s(!&|=])` + secretName + `$`)
	// ...and those that tell only where they come from.
	weakName = pattern.New(`([\w$]+)$`)
	compared = pattern.New("([^;{}\\n]{1,160}?)\\s*(?:===?|!==?)\\s*[\"'`]([^\"'`\\n]{3,200})[\"'`]")
	reversed = pattern.New("[\"'`]([^\"'`\\n]{3,200})[\"'`]\\s*(?:===?|!==?)\\s*([\\w$.()\\[\\]'\"-]{1,120})")
	listed   = pattern.New("\\[\\s*[\"'`]([^\"'`\\n]{3,200})[\"'`][^\\]]{0,1000}\\]\\s*\\.\\s*(?:includes|indexOf)\\s*\\(\\s*([\\w$.()" +
		"-]{1,80})")
	switched = pattern.New("switch\\s*\\(([^)]{1,80})\\)\\s*\\{\\s*case\\s*[\"'`]([^\"'`\\n]{3,200})[\"'`]")
	hashed   = pattern.New(`(?i)(btoa|md5|sha-?\d*|hash|digest|hex|crypt)\w*\s*\(.{0,120}$`)
	looksHex = pattern.New(`^(?i)(?:[0-9a-f]{32}|[0-9a-f]{40}|[0-9a-f]{56}|[0-9a-f]{64}|[0-9a-f]{96}|[0-9a-f]{128})$`)
	asksFor  = pattern.New(`(?i)\bprompt\s*\([^)]{0,200}`)
	member   = pattern.New(`(?:\.(?:value|trim\(\)|toLowerCase\(\)|toString\(\)|valueOf\(\)|toUpperCase\(\))|\(\)|\))+$`)
)

// labels are texts that stand where a password might, and are none.
var labels = pattern.New(`(?i)^(password|passwort|kennwort|passphrase|pass|pwd|pin|secret|token|text|string|hidden|current-password|` +
	`new-password|username|user|email|submit|button|input|checkbox|required|weak|strong|medium|ok|valid|invalid|undefined|object|` +
	`function|number|boolean|null|true|false|enter|tab|escape|on|off|show|hide|none|block|[#./].*|.*[<>{}].*|\$\{.*|%\w.*|\*+|x{3,}|` +
	`\.{3,}|…+|your[-_ ].*|.*(example|placeholder).*)$`)

// checkIn returns the part of a script that compares what somebody types with a text in the script; "" if there is none.
func checkIn(script string, inputs []string) string {
	if script == "" || len(inputs) == 0 && !typingWords.MatchString(script) {
		return ""
	}
	script = unpacked(around(script, typingWords, inputs))
	given := map[string]bool{} // variables that were given what somebody typed
	typed := func(left string) bool {
		left = strings.TrimSpace(left)
		whole := left
		for range 4 {
			left = member.ReplaceAllString(strings.TrimSpace(left), "")
			left = strings.TrimSuffix(strings.TrimSuffix(left, `"`), `'`)
		}
		if asksFor.MatchString(whole) || typedName.MatchString(left) {
			return true
		}
		if hashed.MatchString(whole) {
			return true
		}
		name := weakName.FindString(left)
		if name == "" {
			return false
		}
		value := strings.Contains(whole[max(0, len(whole)-40):], ".value")
		if value && slices.Contains(inputs, name) {
			return true
		}
		is, known := given[name]
		if !known {
			is = len(given) < 200 && givenTyped(script, name, inputs)
			given[name] = is
		}
		return is
	}
	for _, c := range compared.FindAllStringSubmatch(script, 400) {
		left := c[1]
		if !labels.MatchString(c[2]) && (typed(left) || looksHex.MatchString(c[2])) && !strings.HasSuffix(strings.TrimSpace(left), "typeof") {
			return strings.TrimSpace(c[0])
		}
	}
	for _, c := range reversed.FindAllStringSubmatch(script, 400) {
		if !labels.MatchString(c[1]) && typed(c[2]) {
			return c[0]
		}
	}
	for _, c := range listed.FindAllStringSubmatch(script, 100) {
		if !labels.MatchString(c[1]) && typed(c[2]) {
			return c[0]
		}
	}
	for _, c := range switched.FindAllStringSubmatch(script, 100) {
		if !labels.MatchString(c[2]) && typed(c[1]) {
			return c[0]
		}
	}
	return ""
}

// givenTyped reports whether a variable is given what somebody has typed for a password.
func givenTyped(script, name string, inputs []string) bool {
	for _, from := range regexp.MustCompile(`\b`+regexp.QuoteMeta(name)+`\s*=\s*([^;\n]{1,200})`).FindAllStringSubmatch(script, 5) {
		if asksFor.MatchString(from[1]) {
			return true
		}
		if !strings.Contains(from[1], ".value") {
			continue
		}
		if slices.ContainsFunc(inputs, func(input string) bool { return input != "" && strings.Contains(from[1], input) }) {
			return true
		}
		if strings.Contains(strings.ToLower(from[1]), "passw") || strings.Contains(from[1], "type=password") {
			return true
		}
	}
	return false
}

// around returns of a long script what stands near some words, so that what programs bundle takes no longer than what people write.
func around(script string, words *pattern.Pattern, more []string) string {
	const short, near, most = 24 << 10, 1500, 64 << 10
	if len(script) <= short {
		return script
	}
	places := words.FindAllStringIndex(script, 400)
	for _, word := range more {
		if at := strings.Index(script, word); len(word) > 2 && at >= 0 {
			places = append(places, []int{at, at + len(word)})
		}
	}
	slices.SortFunc(places, func(a, b []int) int { return a[0] - b[0] })
	var b strings.Builder
	end := 0
	for _, at := range places {
		from, to := max(end, at[0]-near), min(len(script), at[1]+near)
		if from < to && b.Len() < most {
			if from > end {
				b.WriteByte('\n')
			}
			b.WriteString(script[from:to])
			end = to
		}
	}
	return b.String()
}

// unpacked returns a script with what it has packed beside it, and in the places where it unpacks it.
func unpacked(script string) string {
	plain := packed.ReplaceAllStringFunc(script, func(call string) string {
		found := packed.FindStringSubmatch(call)
		text, err := url.PathUnescape(found[2])
		if found[1] == "atob" {
			var raw []byte
			raw, err = base64.StdEncoding.DecodeString(found[2])
			text = string(raw)
		}
		if err != nil {
			return call
		}
		return strconv.Quote(text) + "\n" + text + "\n"
	})
	if plain == script {
		return script
	}
	return script + "\n" + plain
}

var packed = pattern.New(`\b(atob|unescape|decodeURIComponent|decodeURI)\s*\(\s*["']([^"'\n]{8,})["']\s*\)`)

var typingWords = pattern.New(`(?i)passw|kennwort|passphrase|passcode|prompt\s*\(|\bpwd?\b|\bpin\b`)

var keys = []struct {
	what string
	re   *pattern.Pattern
}{
	{"a private key", pattern.New(`-----BEGIN (?:[A-Z]+ )*PRIVATE KEY-----`)},
	{"an access key", pattern.New(`\b(?:AKIA|ASIA)[0-9A-Z]{16}\b`)},
	{"a secret token", pattern.New(`\b(?:sk_live_[0-9A-Za-z]{10,}|ghp_[0-9A-Za-z]{30,}|github_pat_\w{30,}|xox[abp]-[\w-]{12,}|` +
		`glpat-[\w-]{16,})`)},
	{"a name and a password in an address", pattern.New(`\b(?:https?|ftp|postgres(?:ql)?|mysql|mongodb(?:\+srv)?|redis|amqp|ldap)` +
		`://[^\s/:@"'<>]{1,60}:[^\s/:@"'<>]{2,80}@[\w.-]+`)},
}

var (
	assigned = pattern.New("(?i)([\\w$-]*(?:passw(?:or)?d|passwort|passphrase|passcode|kennwort|pwd))[\"']?\\s*(?::|=)" +
		"\\s*[\"'`]([^\"'`\\n]{3,120})[\"'`]")
	assignedK = pattern.New("(?i)([\\w$-]*(?:api_?-?key|secret_?-?key|client_?-?secret|access_?-?key|auth_?-?token|access_?-?token|" +
		"private_?-?key|secret))[\"']?\\s*(?::|=)\\s*[\"'`]([\\w+/=.-]{12,400})[\"'`]")
	commented = pattern.New(`(?i)\b(?:password|passwort|kennwort|passphrase|passcode|pwd|pw)\b[^\n.:=]{0,40}?(?:\s+is\s+|\s*[:=]\s*|` +
		`\s+lautet\s+|\s+ist\s+)["'“„]?([^\s"'<>,;]{3,80})`)
	entrance = pattern.New(`(?i)\b(?:login|credentials?|zugang(?:sdaten)?)\b\s*[:=]\s*["']?([\w.@-]{2,40})\s*(?:/|:|\s)\s*([^\s"'<>]{3,60})`)
	pairs    = pattern.New("(?i)\\b(?:user(?:_?name)?|login|name|account)[\"']?\\s*:\\s*[\"'`][^\"'`\\n]{1,60}[\"'`]\\s*," +
		"\\s*[\"']?(?:pass(?:w\\w*)?|pwd?|passphrase)[\"']?\\s*:\\s*[\"'`]([^\"'`\\n]{3,80})[\"'`]")
	lists = pattern.New("(?i)\\b(?:[\\w$]*passwords|passwds|pwds|passcodes)\\s*[:=]\\s*[\\[{]\\s*(?:[\"']?[\\w@.-]+[\"']?\\s*:\\s*)" +
		"?[\"'`]([^\"'`\\n]{3,80})[\"'`]")
	twoParts = pattern.New(`(?i)\b(?:admin|administrator|root|webmaster|superuser)\s*[:/]\s*[^\s"'<>/]*[0-9!$%&][^\s"'<>/]*`)
	public   = pattern.New(`(?i)csrf|xsrf|nonce|public|publish|site_?key|\bpk_|captcha|integrity|(header|name|label|field|hint|` +
		`placeholder|title|error|message|text|url|path|param|type|regex|pattern|length)$`)
	mixedText = pattern.New(`[0-9].*[A-Za-z]|[A-Za-z].*[0-9]`)
	wordLike  = pattern.New(`^(?:\p{Lu}?\p{Ll}+|[\p{L} ,.!?'’:…-]* [\p{L} ,.!?'’:…-]*)$`)
)

var keyWords = pattern.New(`(?i)passw|passphrase|passcode|kennwort|\bpwd?\b|\bpass\b|secret|api_?-?key|access_?-?key|private[ ` +
	`_-]?key|AKIA|ASIA|sk_live|ghp_|github_pat|xox[abp]-|glpat-|@[a-z][\w-]+\.[a-z]`)

// keyIn returns what secret a page has in its source, and the part that has it.
func keyIn(d *contents) (what, part string) {
	source := around(d.scripts, keyWords, nil) + "\n" + d.comments[:min(len(d.comments), 64<<10)]
	for _, l := range d.links {
		source += "\n" + l.text
	}
	for _, k := range keys {
		if at := k.re.FindString(source); at != "" && !strings.Contains(at, "EXAMPLE") && !strings.Contains(at, "user:pass") &&
			!strings.Contains(at, "${") {
			return k.what, hideMost(at)
		}
	}
	for _, f := range assigned.FindAllStringSubmatch(source, 200) {
		name, value := f[1], f[2]
		declares := strings.Contains(f[0], "=") && !strings.Contains(f[0][:len(f[0])-len(value)-1], ":")
		shouts := strings.ToUpper(name) == name
		switch {
		case labels.MatchString(value) || public.MatchString(strings.ReplaceAll(name, "password", "")):
		case strings.Contains(value, " ") && !strings.ContainsAny(value, "0123456789_"): // words for people
		case strings.Contains(f[0], "=="):
		case declares && !wordy(name, value), shouts && !wordy(name, value), strings.ContainsAny(value, "0123456789!$%&_-") &&
			!strings.Contains(value, " "):
			return "a password (" + name + ")", hideMost(f[0])
		}
	}
	if f := pairs.FindStringSubmatch(source); f != nil && !labels.MatchString(f[1]) && !strings.Contains(f[1], " ") {
		return "a name with its password", hideMost(f[0])
	}
	if f := lists.FindStringSubmatch(source); f != nil && !labels.MatchString(f[1]) && !strings.Contains(f[1], " ") {
		return "a list of passwords", hideMost(f[0])
	}
	for _, f := range assignedK.FindAllStringSubmatch(source, 200) {
		if !public.MatchString(f[1]) && !public.MatchString(f[2][:min(len(f[2]), 12)]) && mixedText.MatchString(f[2]) &&
			!labels.MatchString(f[2]) && len(f[2]) >= 16 {
			return "a key (" + f[1] + ")", hideMost(f[0])
		}
	}
	for _, f := range commented.FindAllStringSubmatch(d.comments, 50) {
		if word := strings.TrimRight(f[1], ".,;!"); !labels.MatchString(word) && !plain.MatchString(word) {
			return "a password in a comment", hideMost(f[0])
		}
	}
	if f := twoParts.FindString(d.comments); f != "" {
		return "credentials in a comment", hideMost(f)
	}
	if f := entrance.FindStringSubmatch(d.comments); f != nil && !plain.MatchString(f[2]) {
		return "credentials in a comment", hideMost(f[0])
	}
	for _, form := range d.forms {
		for _, name := range inOrder(form.hidden) {
			if value := form.hidden[name]; len(value) >= 3 && passwordField.MatchString(name) && !labels.MatchString(value) {
				return "a password in a hidden field", name + "=" + hideMost(value)
			}
		}
	}
	return "", ""
}

var (
	passwordField = pattern.New(`(?i)^` + secretName + `$`)
	// Words that follow "password" in sentences.
	plain = pattern.New(`(?i)^(a|an|the|to|in|on|is|was|not|for|and|or|of|be|by|it|no|yes|required|optional|needed|field|fields|form|` +
		`input|here|there|below|above|wrong|moved|protected|reset|check|checks|checked|removed|hidden|gone|missing|must|should|can|see|` +
		`todo|stored|hashed|only|too|long|short|invalid|valid|correct|incorrect|visible|changed)$`)
)

// wordy reports whether a text is a word for people that names what stands beside it, such as a label in some language.
func wordy(name, value string) bool {
	return strings.EqualFold(name, value) || wordLike.MatchString(value) && strings.HasPrefix(strings.ToLower(value), "pass")
}

// hideMost leaves of what was found just enough to find it again.
func hideMost(text string) string {
	r := []rune(text)
	keep := min(len(r), max(6, len(r)/3), 40)
	return string(r[:keep]) + strings.Repeat("*", min(8, len(r)-keep))
}

var (
	remembered = pattern.New(`(?:(?:local|session)Storage|document\.cookie|getCookie|Cookies|\$cookie)[^;{}\n]{0,120}`)
	keyName    = pattern.New("[\"'`/]\\s*([\\w-]{2,40})\\s*(?:=[^\"'`/]*)?[\"'`/]|[sS]torage\\.(\\w+)")
	authWord   = pattern.New(`(?i)^(is_?-?|has_?-?|my_?)?(logged_?-?in|login|authed|auth(enticated|orized|_?token|_?user)?|(access_?-?|` +
		`id_?-?|user_?-?)?token|jwt|(current_?-?)?user(_?-?(name|id|data|info|role))?|member(ship|_?id)?|admin|role|session(_?id|_?token)?|` +
		`sid|paid|premium|access|unlock(ed)?|passw\w*|pw|subscri(bed|ber|ption)|signed_?-?in)$`)
	goes = pattern.New("location(?:\\.href)?\\s*=\\s*[\"'`]([^\"'`\\n]{1,300})[\"'`]|location\\.(?:replace|assign)" +
		"\\s*\\(\\s*[\"'`]([^\"'`\\n]{1,300})[\"'`]|location\\[[\"']href[\"']\\]\\s*=\\s*[\"'`]([^\"'`\\n]{1,300})[\"'`]")
	negative = pattern.New(`!\s*[\w$(]|[=!]==?\s*(?:null|undefined|false|["'](?:|false|0|no)["'])|[!=]==?\s*["'\w]|==?\s*-1|<\s*0|===?\s*null`)
	reveals  = pattern.New(`(?i)\.style\.|\.hidden\s*=|classList\.|className\s*[+]?=|removeAttribute\(\s*["']hidden|` +
		`setAttribute\(\s*["'](?:class|style)|innerHTML\s*=|\.(?:show|hide|toggle|fadeIn|fadeOut|remove)\s*\(|\.css\s*\(`)
)

// remembersWho reports whether a script reads, from what the browser keeps, who somebody is or what they may.
func remembersWho(script string) bool {
	if !strings.Contains(script, "torage") && !strings.Contains(script, "ookie") {
		return false
	}
	for _, part := range remembered.FindAllString(script, 50) {
		for _, key := range keyName.FindAllStringSubmatch(part, 5) {
			if authWord.MatchString(key[1] + key[2]) {
				return true
			}
		}
	}
	return false
}

// leavesAfter returns what leads a browser away from a page whose content it has got.
func leavesAfter(d *contents) string {
	if d.content < enough {
		return ""
	}
	if r := d.refresh; r != nil && r.to != "" && r.after <= 3 {
		if signInWords.MatchString(r.to) || d.content >= 3*enough && r.after <= 1 {
			return fmt.Sprintf("meta refresh after %g s to %s", r.after, r.to)
		}
	}
	if !strings.Contains(d.scripts, "location") {
		return ""
	}
	for _, to := range goes.FindAllStringSubmatch(d.scripts, 20) {
		where := to[1] + to[2] + to[3]
		signIn := signInWords.MatchString(where)
		if remembersWho(d.scripts) && (signIn || negative.MatchString(d.scripts)) {
			return to[0]
		}
		if signIn && !handled.MatchString(d.scripts) && !typingWords.MatchString(d.scripts) {
			return to[0]
		}
	}
	return ""
}

// handled tells scripts that wait for somebody to do something.
var handled = pattern.New(`(?i)addEventListener|\bon(?:click|submit|change|input)\b|function\b|=>|setTimeout|fetch\s*\(|XMLHttp|` +
	`axios|\.then\s*\(`)

var (
	styleRule  = pattern.New(`([^{}@]{1,300})\{([^{}]{0,1000})\}`)
	printRule  = pattern.New(`(?is)@media[^{]*\bprint\b[^{]*\{(?:[^{}]*\{[^{}]*\})*[^{}]*\}`)
	lastPart   = pattern.New(`[^\s>+~]+$`)
	nameInRule = pattern.New(`([.#])([\w-]+)`)
	gateWord   = pattern.New(`(?i)(^|[\s_-])(members?|members?-?only|premium|paid|paywall(ed)?|private|secret|protected|restricted|` +
		`locked|logged-?in|signed-?in|subscribers?|auth|authed|authenticated|admin|staff|internal|confidential|gated|for-?members)([\s_-]|$)`)
)

// hiddenIn returns text that is sent and only hidden, in an element that is meant for some: by its name, since a script shows it to
// visitors that it remembers, or since a form that asks for a password shows it.
func hiddenIn(d *contents, scripts, styles string) string {
	hiddenBy, shownBy := map[string]bool{}, map[string][]string{}
	for _, rule := range styleRule.FindAllStringSubmatch(printRule.ReplaceAllString(styles, ""), 5000) {
		hides := hiding.MatchString(rule[2])
		for _, one := range strings.Split(rule[1], ",") {
			one = strings.TrimSpace(one)
			last := lastPart.FindString(one)
			outer := strings.TrimSuffix(one, last)
			if strings.Contains(last, ":") { // such as :not(.open), ::before
				last, _, _ = strings.Cut(last, ":")
			}
			for _, name := range nameInRule.FindAllString(last, 4) {
				if hides {
					hiddenBy[name] = true
					continue
				}
				for _, of := range nameInRule.FindAllStringSubmatch(outer+last, 6) {
					if of[0] != name && len(shownBy[name]) < 20 {
						shownBy[name] = append(shownBy[name], of[2])
					}
				}
			}
		}
	}
	remembering, asking := "", d.asking(scripts)
	if remembersWho(scripts) && reveals.MatchString(scripts) {
		remembering = scripts
	}
	if !reveals.MatchString(asking) {
		asking = ""
	}
	for i := range d.blocks {
		b := &d.blocks[i]
		hides, names := b.hidden, strings.Fields(b.class)
		shows := names
		if b.id != "" {
			hides = hides || hiddenBy["#"+b.id]
			shows = append(slices.Clone(shownBy["#"+b.id]), append(names, b.id)...)
		}
		for _, class := range names {
			hides = hides || hiddenBy["."+class]
			shows = append(slices.Clone(shownBy["."+class]), shows...)
		}
		if !hides {
			continue
		}
		if gateWord.MatchString(b.id) || gateWord.MatchString(b.class) {
			return b.text
		}
		named := func(script string) bool {
			return slices.ContainsFunc(shows, func(name string) bool { return len(name) > 2 && strings.Contains(script, name) })
		}
		refuses := b.content < 300 && turnedAway.MatchString(b.text) // what a form shows for a wrong password
		if named(remembering) || named(asking) && !refuses {
			return b.text
		}
	}
	return ""
}

// entered finds a form for a password whose target answers who has typed none.
func (w *walk) entered(ctx context.Context, a *address, got *answered, say func(string, string, ...*answered)) {
	d := got.page
	for _, f := range d.forms {
		if f.password != 1 || d.joins || f.action == "" {
			continue
		}
		u, err := a.url.Parse(f.action)
		if err != nil {
			continue
		}
		to := w.at(u.String())
		if to == nil || to == a || to.answers == nil || to.path() == a.path() {
			continue
		}
		target := to.answers[w.stranger]
		if w.behind(ctx, target) {
			say("the form asks for a password, but its target "+to.path()+" answers without one", "", target)
		}
	}
	if !d.signsIn() {
		return
	}
	// What a sign-in page leads to by default, and nothing else names.
	for _, f := range d.forms {
		for _, name := range inOrder(f.hidden) {
			value := f.hidden[name]
			if f.password != 1 || !leadsOn.MatchString(name) || !strings.HasPrefix(value, "/") {
				continue
			}
			if u, err := a.url.Parse(value); err == nil {
				if to := w.guessed(ctx, u.String()); to != nil && w.behind(ctx, to) && !w.linked(u.String(), a) {
					say("after the password one is led to "+value+", which answers without one", "", to)
				}
			}
		}
	}
}

// behind reports whether an answer is content of its own: no sign-in, no word that one has to, and not what is said where nothing is.
func (w *walk) behind(ctx context.Context, got *answered) bool {
	return got != nil && got.status == http.StatusOK && got.page != nil && got.page.html && len(got.page.secrets) == 0 &&
		got.page.content >= enough &&
		!(got.page.content < 300 && turnedAway.MatchString(got.page.begins)) && w.is(ctx, got) && !w.isHome(got)
}

func (w *walk) isHome(got *answered) bool {
	home := w.known[w.base.Scheme+"://"+hostOf(w.base)+"/"]
	return home != nil && home.answers != nil && home.answers[w.stranger] != nil && home.answers[w.stranger].hash == got.hash
}

var turnedAway = pattern.New(`(?i)\b(sign in|log in|signed in|logged in|denied|forbidden|not allowed|no ` +
	`access|unauthori[sz]ed|expired|anmelden|angemeldet|kein zugriff|invalid|wrong|method)\b`)

// guessed returns what a stranger gets at an address, which need not be walked.
func (w *walk) guessed(ctx context.Context, text string) *answered {
	if to := w.at(text); to != nil && to.answers != nil {
		return to.answers[w.stranger]
	}
	u, err := w.base.Parse(text)
	if err != nil || !w.hosts[hostOf(u)] || changing.MatchString(u.Path) {
		return nil
	}
	return w.ask(ctx, w.stranger, question{url: u})
}

// linked reports whether a page other than one links to an address.
func (w *walk) linked(text string, but *address) (is bool) {
	to := w.at(text)
	if to == nil {
		return false
	}
	w.each(func(a *address) {
		if got := a.answers[w.stranger]; !is && a != but && got != nil && got.page != nil {
			for _, l := range got.page.links {
				if u, err := a.url.Parse(l.text); l.way == link && err == nil && w.at(u.String()) == to {
					is = true
					return
				}
			}
		}
	})
	return is
}
