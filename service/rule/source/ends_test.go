package source

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ostiarius/core/policy"
)

// An answer of unknown length that is not over after a while ends with the admission; a download of a known length runs on.
func TestLongAnswersEndWithTheAdmission(t *testing.T) {
	was := longAnswer
	longAnswer = 50 * time.Millisecond
	defer func() { longAnswer = was }()
	goOn := make(chan struct{})
	behind := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/download" {
			w.Header().Set("Content-Length", "10")
			io.WriteString(w, "first")
			w.(http.Flusher).Flush()
			<-goOn
			io.WriteString(w, "other")
			return
		}
		for r.Context().Err() == nil {
			if _, err := io.WriteString(w, "fog\n"); err != nil {
				return
			}
			w.(http.Flusher).Flush()
			time.Sleep(10 * time.Millisecond)
		}
	}))
	defer behind.Close()
	var asked atomic.Int64
	proxy, err := NewProxy(policy.Source{Path: "/", Proxy: behind.URL}, ProxyOptions{
		PolicyFile: "doors.yaml", Log: slog.New(slog.DiscardHandler),
		Failed: func(w http.ResponseWriter, _ *http.Request, status int) { w.WriteHeader(status) },
		Still: func(context.Context, bool) bool {
			asked.Add(1)
			return false
		},
	})
	if err != nil {
		t.Fatal(err)
	}
	front := httptest.NewServer(proxy)
	defer front.Close()
	client := &http.Client{Timeout: 20 * time.Second}
	resp, err := client.Get(front.URL + "/stream")
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(resp.Body)
	resp.Body.Close()
	if len(text) == 0 || err != nil && strings.Contains(err.Error(), "Timeout") {
		t.Errorf("%d bytes, %v", len(text), err)
	}
	if asked.Load() == 0 {
		t.Error("nobody asked whether the visitor is still admitted")
	}
	before := asked.Load()
	resp, err = client.Get(front.URL + "/download")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	time.AfterFunc(4*longAnswer, func() { close(goOn) })
	if text, err := io.ReadAll(resp.Body); string(text) != "firstother" || err != nil || asked.Load() > before {
		t.Errorf("%q %v, asked %d times", text, err, asked.Load()-before)
	}
}

// What cannot be read cannot be told from what is missing by another method either.
func TestMethodsTellNothing(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"empty", "full"} {
		if err := os.Mkdir(filepath.Join(dir, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "full", "index.html"), []byte("the lamp"), 0o644); err != nil {
		t.Fatal(err)
	}
	files, err := NewFiles(dir, &policy.Source{Path: "/"}, false, http.NotFoundHandler(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer files.Close()
	for path, want := range map[string]int{"/empty/": 404, "/missing/": 404, "/missing": 404, "/full/": 405} {
		for _, method := range []string{"PUT", "POST", "DELETE", "PROPFIND"} {
			w := httptest.NewRecorder()
			files.ServeHTTP(w, httptest.NewRequest(method, path, nil))
			if w.Code != want {
				t.Errorf("%s %s: %d, want %d", method, path, w.Code, want)
			}
		}
	}
}
