package demo

import (
	"bytes"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// A KeepersLog is a small application that stands behind a door: a page with a form, and a
// stream of what others write. It checks nothing itself; who is calling it learns from
// Ostiarius.
type KeepersLog struct {
	shell [2]string // the page before and after its content
	mu    sync.Mutex
	lines []logLine
	live  map[chan logLine]bool
}

type logLine struct{ By, At, Text string }

var logPage = template.Must(template.New("log").Parse(`
<h1>Keepers' log</h1>
<p class="lead">Good watch, {{.Who}}.</p>
<form method="post" action="/log/"><p><label for="entry">What happened?</label> <input id="entry" name="entry" maxlength="300"
  required size="40"> <button>Write it down</button></p></form>
<div id="lines" aria-live="polite">{{range .Lines}}
{{template "line" .}}{{end}}
</div>
<p><a href="/log/handover/">Handover list</a></p>
<script>
new EventSource("/log/events").onmessage = (e) => document.getElementById("lines").insertAdjacentHTML("afterbegin", e.data);
</script>
{{define "line"}}<article><p>{{.Text}}</p><p class="date">{{.By}}, {{.At}}</p></article>{{end}}`))

// StartLog serves the keepers' log at the socket in the demo's directory until stop is
// called.
func StartLog(directory string) (stop func(), err error) {
	page, err := fs.ReadFile(files, "site/log/index.html")
	if err != nil {
		return nil, err
	}
	before, rest, ok := strings.Cut(string(page), `<main id="content">`)
	_, after, ok2 := strings.Cut(rest, "</main>")
	if !ok || !ok2 {
		return nil, errors.New("the page of the log has no content")
	}
	l := &KeepersLog{shell: [2]string{before + `<main id="content">`, "</main>" + after}, live: map[chan logLine]bool{}, lines: []logLine{
		{"K.", "Sunday, first watch", "Wind W 6, falling. Lamp turned all night. The third step from the top talks again. Swept the " +
			"gallery; 2 dead moths, 1 live one, moved."},
		{"I.", "Saturday, second watch", "Boiler went out at 02:10, back at 02:55 after persuasion. Gauge at the hut sent nothing between " +
			"03:00 and 03:40, then as if nothing had happened."},
	}}
	socket := filepath.Join(directory, "log.sock")
	if err := os.Remove(socket); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	listener, err := net.Listen("unix", socket)
	if err != nil {
		return nil, fmt.Errorf("the keepers' log cannot be started: %w", err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /log/{$}", l.show)
	mux.HandleFunc("GET /log", l.show)
	mux.HandleFunc("POST /log/{$}", l.write)
	mux.HandleFunc("GET /log/events", l.events)
	site, err := fs.Sub(files, "site")
	if err != nil {
		return nil, err
	}
	mux.Handle("GET /log/handover/", http.FileServerFS(site))
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(listener)
	return func() { server.Close() }, nil
}

func caller(r *http.Request) string {
	name, err := url.PathUnescape(r.Header.Get("Ostiarius-User"))
	if err != nil || name == "" {
		return "whoever you are"
	}
	return name
}

func (l *KeepersLog) show(w http.ResponseWriter, r *http.Request) {
	l.mu.Lock()
	lines := append([]logLine{}, l.lines...)
	l.mu.Unlock()
	var content bytes.Buffer
	if err := logPage.Execute(&content, map[string]any{"Who": caller(r), "Lines": lines}); err != nil {
		http.Error(w, "the log cannot be shown", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprintf(w, "%s%s%s", l.shell[0], content.Bytes(), l.shell[1])
}

func (l *KeepersLog) write(w http.ResponseWriter, r *http.Request) {
	text := strings.TrimSpace(r.PostFormValue("entry"))
	if text == "" || len(text) > 1000 {
		http.Error(w, "an entry has between 1 and 300 characters", http.StatusUnprocessableEntity)
		return
	}
	line := logLine{caller(r), time.Now().Format("2 January, 15:04"), text}
	l.mu.Lock()
	l.lines = append([]logLine{line}, l.lines[:min(len(l.lines), 99)]...)
	for reader := range l.live {
		select {
		case reader <- line:
		default: // one who does not keep up misses it
		}
	}
	l.mu.Unlock()
	http.Redirect(w, r, "/log/", http.StatusSeeOther)
}

// events streams new lines as server-sent events.
func (l *KeepersLog) events(w http.ResponseWriter, r *http.Request) {
	lines := make(chan logLine, 8)
	l.mu.Lock()
	l.live[lines] = true
	l.mu.Unlock()
	defer func() {
		l.mu.Lock()
		delete(l.live, lines)
		l.mu.Unlock()
	}()
	w.Header().Set("Content-Type", "text/event-stream")
	flush := http.NewResponseController(w)
	flush.Flush()
	beat := time.NewTicker(20 * time.Second)
	defer beat.Stop()
	for {
		select {
		case <-r.Context().Done():
			return
		case <-beat.C:
			fmt.Fprint(w, ": still here\n\n")
		case line := <-lines:
			var article bytes.Buffer
			if err := logPage.ExecuteTemplate(&article, "line", line); err != nil {
				return
			}
			fmt.Fprintf(w, "data: %s\n\n", article.Bytes())
		}
		if flush.Flush() != nil {
			return
		}
	}
}
