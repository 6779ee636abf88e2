package patrol

import (
	"context"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/pattern"
	"ostiarius/core/policy"
)

// traces are what programs write for their developers when they fail.
var traces = pattern.New(strings.Join([]string{
	`Traceback \(most recent call last\)`,
	`goroutine \d+ \[[\w ]+\]:`,
	`\bat [\w$.<>]+\([\w$]+\.(?:java|kt|scala|groovy):\d+\)`,
	`\bat [^\n]{1,200}\(?(?:/|[A-Za-z]:\\|file:)[^\s)]{1,300}\.[cm]?[jt]s:\d+:\d+\)?`,
	`(?:Fatal error|Parse error|Warning|Notice|Deprecated)\s*:\s+[^\n]{1,400}\sin\s+(?:/|[A-Za-z]:\\)\S+\s+on line\s+\d+`,
	`\b[\w./-]+\.rb:\d+:in [` + "`" + `']`,
	`\bat [\w.` + "`" + `<>]+\([^)\n]{0,200}\) in [^\n]{1,300}:line \d+`,
	`thread '[^'\n]+' panicked at`,
	`You have an error in your SQL syntax|SQLSTATE\[\w+\]|ORA-\d{5}:|pq: syntax error|sqlite3\.OperationalError|unclosed quotation mark ` +
		`after the character string`,
	`panic: runtime error:`,
}, "|"))

// Each of traces has one of these in it; to look for them is a hundred times quicker.
var traceSigns = []string{"Traceback", "goroutine ", ".java:", ".kt:", ".scala:", ".groovy:", "js:", "ts:", " on line ", ".rb:",
	":line ", "panicked at", "SQL", "ORA-", "pq: ", "sqlite3.", "nclosed quotation", "panic:"}

// traceIn returns what a text has of what programs write when they fail, "" for nothing.
func traceIn(text string) string {
	if !slices.ContainsFunc(traceSigns, func(sign string) bool { return strings.Contains(text, sign) }) {
		return ""
	}
	return traces.FindString(text)
}

// Files that are left behind, as somebody finds them who knows the usual names: with what shows that it is them.
var leftovers = []struct {
	name string
	what string
	is   func(a *answered, text string) bool
}{
	{".git/HEAD", "the history of the site's source", has(`^(ref: refs/|[0-9a-f]{40})`)},
	{".git/config", "the history of the site's source", has(`(?m)^\[core\]`)},
	{".svn/entries", "a version control's records", has(`^(\d+\s|<\?xml)`)},
	{".svn/wc.db", "a version control's records", has(`^SQLite format 3`)},
	{".hg/requires", "a version control's records", has(`(?m)^(revlogv1|store|dotencode)`)},
	{".env", "settings with secrets", has(`(?m)^[A-Z][A-Z0-9_]{2,}\s*=`)},
	{".env.local", "settings with secrets", has(`(?m)^[A-Z][A-Z0-9_]{2,}\s*=`)},
	{".htpasswd", "names with hashes of passwords", has(`(?m)^[^:\s<]+:(\$|\{SHA\}|[./0-9A-Za-z]{13}$)`)},
	{".htaccess", "the server's own configuration", has(`(?mi)^\s*(RewriteEngine|AuthType|Require|Deny|Options|AuthUserFile|Order)\b`)},
	{".DS_Store", "a list of the files in a directory", has(`^\x00\x00\x00\x01Bud1`)},
	{"web.config", "the server's own configuration", has(`(?i)<configuration[\s>]`)},
	{"backup.zip", "an archive", has(`^PK\x03\x04`)}, {"site.zip", "an archive", has(`^PK\x03\x04`)},
	{"www.zip", "an archive", has(`^PK\x03\x04`)}, {"public.zip", "an archive", has(`^PK\x03\x04`)},
	{"backup.tar.gz", "an archive", has(`^\x1f\x8b`)}, {"backup.tgz", "an archive", has(`^\x1f\x8b`)},
	{"site.tar.gz", "an archive", has(`^\x1f\x8b`)}, {"www.tar.gz", "an archive", has(`^\x1f\x8b`)},
	{"dump.sql", "a dump of a database", isDump}, {"backup.sql", "a dump of a database", isDump},
	{"db.sql", "a dump of a database", isDump}, {"database.sql", "a dump of a database", isDump}, {"data.sql", "a dump of a database", isDump},
	{"dump.sql.gz", "a dump of a database", has(`^\x1f\x8b`)}, {"backup.sql.gz", "a dump of a database", has(`^\x1f\x8b`)},
	{"database.sqlite", "a database", has(`^SQLite format 3`)}, {"db.sqlite3", "a database", has(`^SQLite format 3`)},
	{"data.db", "a database", has(`^SQLite format 3`)},
	{"phpinfo.php", "all settings of the server", has(`PHP Version|phpinfo\(\)`)},
	{"info.php", "all settings of the server", has(`PHP Version|phpinfo\(\)`)},
	{"error.log", "a log", isLog}, {"error_log", "a log", isLog}, {"access.log", "a log", isLog}, {"debug.log", "a log", isLog},
	{"id_rsa", "a private key", has(`-----BEGIN [A-Z ]*PRIVATE KEY-----`)},
	{"server.key", "a private key", has(`-----BEGIN [A-Z ]*PRIVATE KEY-----`)},
	{".idea/workspace.xml", "an editor's settings", has(`<project `)}, {".vscode/settings.json", "an editor's settings", has(`^\s*\{`)},
	{"config.php.bak", "the source of a page", has(`<\?php`)}, {"index.php.bak", "the source of a page", has(`<\?php`)},
	{"config.bak", "settings", notPage}, {"config.old", "settings", notPage},
}

func has(source string) func(*answered, string) bool {
	re := pattern.New(source)
	return func(_ *answered, text string) bool { return re.MatchString(text) }
}

func isDump(a *answered, text string) bool {
	return notPage(a, text) && regexp.MustCompile(`(?i)\b(create table|insert into|drop table|pg_dump|mysqldump)\b`).MatchString(text)
}

func isLog(a *answered, text string) bool {
	return notPage(a, text) && regexp.MustCompile(`(?m)\d{1,4}[-/:.]\w{2,3}[-/:.]\d{2,4}|\b(GET|POST) /|\[error\]|\bERROR\b`).MatchString(text)
}

func notPage(a *answered, text string) bool {
	return !strings.Contains(a.mime, "html") && !strings.HasPrefix(strings.TrimSpace(strings.ToLower(text)), "<!doctype") &&
		!strings.HasPrefix(strings.TrimSpace(strings.ToLower(text)), "<html") && text != ""
}

// textOf returns what an answer begins with, as bytes in a string.
func textOf(a *answered) string {
	switch {
	case a.body != nil:
		return string(a.body[:min(len(a.body), 4096)])
	case a.page != nil && !a.page.html:
		return a.page.raw[:min(len(a.page.raw), 4096)]
	case a.page != nil:
		return a.page.raw
	}
	return ""
}

// endings that editors and careful people leave behind a page's name.
var endings = []string{"~", ".bak", ".old", ".orig", ".save", ".swp", ".copy", ".1"}

var pageFile = pattern.New(`(?i)/[^/]+\.(html?|php\d?|aspx?|jsp|cgi|pl|py|rb|inc|shtml|xhtml|ya?ml|conf|ini|json)$`)

// leftOver asks for files that people leave behind, in each directory and beside each page.
func (w *walk) leftOver(ctx context.Context) {
	dirs, pages := map[string]*address{}, []*address{}
	w.each(func(a *address) {
		if w.own(a.path()) || a.url.RawQuery != "" {
			return
		}
		there := false // for anybody: a door of its own may open what was left behind beside a closed page
		for _, got := range a.answers {
			switch w.state(got) {
			case open, asks, refused:
				there = true
			}
		}
		if !there {
			return
		}
		path := a.path()
		dirs[hostOf(a.url)+path[:strings.LastIndexByte(path, '/')+1]] = a
		if pageFile.MatchString(path) {
			pages = append(pages, a)
		}
	})
	for i, key := range sample(inOrder(dirs), 60) {
		a := dirs[key]
		path := a.path()
		dir := path[:strings.LastIndexByte(path, '/')+1]
		var questions []question
		var what []int
		for n, l := range leftovers {
			if dir == "/" || i < 20 || n < 10 {
				questions, what = append(questions, question{url: at(a.url, dir+l.name)}), append(what, n)
			}
		}
		for k, got := range w.together(ctx, w.stranger, questions) {
			l := leftovers[what[k]]
			if got.status == http.StatusOK && l.is(got, textOf(got)) && w.is(ctx, got) {
				w.tells(got, document.SeverityError, "it was left behind, and has "+l.what)
			}
		}
		var olds []question
		for _, name := range []string{"index.html.bak", "index.html~", "index.html.old", "index.php~", "index.php.old", "index.old",
			"index.bak"} {
			olds = append(olds, question{url: at(a.url, dir+name)})
		}
		for _, got := range w.together(ctx, w.stranger, olds) {
			if got.status == http.StatusOK && got.size > 0 && w.is(ctx, got) && !w.isHome(got) {
				w.tells(got, document.SeverityError, "an older or unfinished page was left behind")
			}
		}
		if dir != "/" {
			name := strings.TrimSuffix(dir, "/")
			var archives []question
			for _, ending := range []string{".zip", ".tar.gz", ".tgz", ".bak", ".old"} {
				archives = append(archives, question{url: at(a.url, name+ending)})
			}
			for _, got := range w.together(ctx, w.stranger, archives) {
				if text := textOf(got); got.status == http.StatusOK && (strings.HasPrefix(text, "PK\x03\x04") || strings.HasPrefix(text, "\x1f\x8b")) {
					w.tells(got, document.SeverityError, "it was left behind, and has an archive of "+dir)
				}
			}
		}
		if ctx.Err() != nil {
			return
		}
	}
	for _, a := range sample(pages, 200) {
		path := a.path()
		slash := strings.LastIndexByte(path, '/')
		var questions []question
		for _, ending := range endings {
			questions = append(questions, question{url: at(a.url, path+ending)})
		}
		questions = append(questions, question{url: at(a.url, path[:slash+1]+"."+path[slash+1:]+".swp")},
			question{url: at(a.url, path[:slash+1]+"%23"+path[slash+1:]+"%23")})
		for _, got := range w.together(ctx, w.stranger, questions) {
			if w.state(got) == open && got.size > 0 && got.status == http.StatusOK && w.is(ctx, got) && !w.isHome(got) {
				w.tells(got, document.SeverityError, "an older or unfinished "+path+" was left behind")
			}
		}
	}
}

func (w *walk) tells(got *answered, severity Severity, message string) {
	shown := w.shown(got)
	if strings.Contains(message, "secrets") || strings.Contains(message, "private key") || strings.Contains(message, "hashes") {
		shown.Begins = hideMost(shown.Begins)
	}
	w.tell(Finding{
		Rule: "tells", Severity: severity, Path: got.question.url.EscapedPath(), As: w.o.Visitors[got.visitor].Who, Message: message,
		Requests: []Shown{shown},
	})
}

// telling finds answers that tell what nobody asked for: lists of files, what programs write when they fail, and hidden places that
// look other than missing ones.
func (w *walk) telling(ctx context.Context) {
	w.each(func(a *address) {
		for _, visitor := range w.byNeed() {
			got := a.answers[visitor]
			if got == nil || got.status == 0 {
				continue
			}
			if got.page != nil {
				if got.page.listing && w.state(got) == open {
					w.tells(got, document.SeverityWarning, "it lists the files of a directory")
				}
				text := got.page.raw
				if got.page.html && got.status >= 500 {
					text = got.page.raw + "\n" + got.page.begins
				}
				if strings.HasSuffix(got.mime, "javascript") || got.mime == "text/css" {
					continue
				}
				if part := traceIn(oneLine(text, got)); part != "" {
					w.tells(got, document.SeverityError, "it shows what the program behind writes for its developers: "+excerpt(part))
				}
				continue
			}
			if got.status >= 500 {
				if part := traceIn(strings.ToValidUTF8(string(got.body), "")); part != "" {
					w.tells(got, document.SeverityError, "it shows what the program behind writes for its developers: "+excerpt(part))
				}
			}
		}
	})
	for _, key := range inOrder(w.missing) {
		if got := w.missing[key]; got.page != nil && !static.MatchString(got.question.url.Path) {
			if part := traceIn(oneLine(got.page.raw+"\n"+got.page.begins, got)); part != "" {
				w.tells(got, document.SeverityError, "where nothing is, it shows what the program behind writes for its developers: "+excerpt(part))
				break
			}
		}
	}
	w.hidden(ctx)
}

// oneLine leaves the line ends away that stand between the elements of a page.
func oneLine(text string, got *answered) string {
	if got.page.html {
		return strings.Join(strings.Fields(text), " ")
	}
	return text
}

// hidden compares what is hidden with what is missing.
func (w *walk) hidden(ctx context.Context) {
	if w.o.Book == nil {
		return
	}
	var all []*address
	w.each(func(a *address) {
		if w.o.Book.Decide(w.requestFor(a), &policy.Visitor{}).Outcome == policy.Hide && !static.MatchString(a.path()) {
			all = append(all, a)
		}
	})
	for _, a := range sample(all, 40) {
		got := a.answers[w.stranger]
		none := w.ask(ctx, w.stranger, question{url: at(a.url, "/no-such-page-7h2k9q")})
		if got.status == 0 || none.status == 0 {
			continue
		}
		if w.o.Book.Decide(policy.Request{Method: "GET", Host: a.url.Host, Path: "/no-such-page-7h2k9q"},
			&policy.Visitor{}).Outcome != policy.Admit && none.status != 404 {
			continue // nothing there answers as missing
		}
		if apart := difference(got, none); apart != "" {
			w.tell(Finding{
				Rule: "tells", Severity: document.SeverityWarning, Path: a.path(), As: w.o.Visitors[w.stranger].Who, Door: w.says(a),
				Message: "it is hidden, but can be told from what is missing: " + apart, Requests: []Shown{w.shown(got), w.shown(none)},
			})
		}
	}
}

// difference says how two answers can be told apart, "" if they cannot.
func difference(a, b *answered) string {
	if a.status != b.status {
		return fmt.Sprintf("by their status, %d and %d", a.status, b.status)
	}
	for _, name := range inOrder(a.header) {
		if !slices.Contains([]string{"Date", "Content-Length", "Set-Cookie", "Etag", "Last-Modified"}, name) &&
			a.header.Get(name) != b.header.Get(name) && !strings.Contains(strings.ToLower(name), "request-id") {
			return fmt.Sprintf("by the field %s", name)
		}
	}
	for _, name := range inOrder(b.header) {
		if a.header[name] == nil && !slices.Contains([]string{"Date", "Content-Length", "Set-Cookie", "Etag", "Last-Modified"}, name) {
			return fmt.Sprintf("by the field %s", name)
		}
	}
	if !same(a, b) {
		return "by what they say"
	}
	return ""
}
