package access

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"ostiarius/e2e/needs"
)

func opened(t *testing.T, form Form) (*Log, string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "access.log")
	l, err := Open(path, form, func(what string, err error) { t.Errorf("%s: %v", what, err) })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(l.Close)
	return l, path
}

func text(t *testing.T, path string) string {
	t.Helper()
	all, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(all)
}

// site answers, and notes some of what was asked.
var site = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path != "/unjudged" {
		Note(r.Context(), netip.MustParseAddr("192.0.2.7"), "ines", "admit", "/**")
	}
	switch r.URL.Path {
	case "/copy":
		io.Copy(w, strings.NewReader("ten bytes."))
	case "/none":
		w.WriteHeader(http.StatusNotFound)
	case "/broken":
		panic(http.ErrAbortHandler)
	default:
		w.Write([]byte("four"))
	}
})

// combined is the form as other programs take it apart.
var combined = regexp.MustCompile(`^(\S+) - (\S+) \[(\d\d/\w{3}/\d{4}:\d\d:\d\d:\d\d [+-]\d{4})\] "(\S+) ((?:[^"\\]|\\.)*) ` +
	`(HTTP/\d\.\d)" (\d+) (\d+|-) "((?:[^"\\]|\\.)*)" "((?:[^"\\]|\\.)*)"$`)

func TestLines(t *testing.T) {
	plain, plainPath := opened(t, Combined)
	objects, objectsPath := opened(t, JSON)
	one, other := httptest.NewServer(plain.Around(site)), httptest.NewServer(objects.Around(site))
	defer one.Close()
	defer other.Close()
	ask := func(of *httptest.Server, target, agent, referer string) {
		t.Helper()
		req, err := http.NewRequest("GET", of.URL+target, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("User-Agent", agent)
		req.Header.Set("Referer", referer)
		resp, err := http.DefaultClient.Do(req)
		if err == nil {
			io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
		}
	}
	want := []struct {
		target, agent, referer string
		path                   string
		status, bytes          int
		account                string
	}{
		{"/a", "tide/1", "http://marram.example/b?link=tokentokentoken", "/a", 200, 4, "ines"},
		{"/door/pass?link=tokentokentoken", "tide/1", "", "/door/pass", 200, 4, "ines"},
		{"/copy", `quo"te \ back`, "", "/copy", 200, 10, "ines"},
		{"/none", "grün", "", "/none", 404, 0, "ines"},
		{"/unjudged", "x", "", "/unjudged", 200, 4, ""},
		{"/%22%0a%20x", "x", "", "/%22%0a%20x", 200, 4, "ines"},
		{"/broken", "x", "", "/broken", 0, 0, "ines"},
	}
	for _, w := range want {
		ask(one, w.target, w.agent, w.referer)
		ask(other, w.target, w.agent, w.referer)
	}
	one.Close()
	other.Close()
	plain.Close()
	objects.Close()
	lines, entries := strings.Split(strings.TrimSpace(text(t, plainPath)), "\n"), strings.Split(strings.TrimSpace(text(t, objectsPath)), "\n")
	lines, entries = once(lines), once(entries)
	if len(lines) != len(want) || len(lines) != len(entries) {
		t.Fatalf("%d lines, %d objects", len(lines), len(entries))
	}
	if all := text(t, plainPath) + text(t, objectsPath); strings.Contains(all, "token") || strings.Contains(text(t, plainPath), "ü") {
		t.Errorf("this says too much:\n%s", all)
	}
	for i, w := range want {
		m := combined.FindStringSubmatch(lines[i])
		if m == nil {
			t.Errorf("this is not of the form: %s", lines[i])
			continue
		}
		account, size, client := "-", "-", "192.0.2.7"
		if w.account != "" {
			account = w.account
		} else {
			client = "127.0.0.1"
		}
		if w.bytes > 0 {
			size = fmt.Sprint(w.bytes)
		}
		if m[1] != client || m[2] != account || m[5] != w.path || m[7] != fmt.Sprint(w.status) || m[8] != size || strings.Contains(m[9], "?") {
			t.Errorf("%s: %s", w.target, lines[i])
		}
		var e entry
		if err := json.Unmarshal([]byte(entries[i]), &e); err != nil || e.Client != client || e.Account != w.account ||
			e.Path != w.path || e.Status != w.status || e.Bytes != int64(w.bytes) || e.Host == "" || e.Seconds < 0 {
			t.Errorf("%s: %+v %v", w.target, e, err)
		}
	}
}

func TestWithoutSecrets(t *testing.T) {
	for address, want := range map[string]string{
		"/a/b?link=x": "/a/b", "/a@b": "/a@b", "http://u:p@marram.example/a@b?q": "http://marram.example/a@b",
		"https://marram.example":        "https://marram.example",
		"https://u@v:w@marram.example/": "https://marram.example/", "marram.example:443": "marram.example:443", "*": "*", "": "",
		"//u:p@x/y": "//u:p@x/y",
	} {
		if got := withoutSecrets(address); got != want {
			t.Errorf("%s: %s, want %s", address, got, want)
		}
	}
}

// once are lines without the second of a request that the client has sent again by itself.
func once(lines []string) []string {
	return slices.CompactFunc(lines, func(a, b string) bool { return strings.Contains(a, "/broken") && strings.Contains(b, "/broken") })
}

// A file that was given another name is let go of, and no line is lost or written twice.
func TestReopen(t *testing.T) {
	l, path := opened(t, Combined)
	server := httptest.NewServer(l.Around(site))
	defer server.Close()
	const askers, each = 4, 50
	var all sync.WaitGroup
	for i := range askers {
		all.Go(func() {
			for j := range each {
				resp, err := http.Get(fmt.Sprintf("%s/p%d-%d", server.URL, i, j))
				if err != nil {
					t.Error(err)
					return
				}
				resp.Body.Close()
			}
		})
	}
	for i := range 5 {
		if err := os.Rename(path, fmt.Sprint(path, ".", i)); err != nil {
			t.Fatal(err)
		}
		if err := l.Reopen(); err != nil {
			t.Fatal(err)
		}
	}
	all.Wait()
	server.Close()
	l.Close()
	files, err := filepath.Glob(path + "*")
	if err != nil || len(files) != 6 {
		t.Fatal(files, err)
	}
	var whole string
	for _, file := range files {
		whole += text(t, file)
	}
	for i := range askers {
		for j := range each {
			if n := strings.Count(whole, fmt.Sprintf("/p%d-%d ", i, j)); n != 1 {
				t.Errorf("p%d-%d is there %d times", i, j, n)
			}
		}
	}
	if err := l.Reopen(); !errors.Is(err, os.ErrClosed) {
		t.Error(err)
	}
}

// A full disk stops nobody, and is told once.
func TestFullDisk(t *testing.T) {
	if _, err := os.Stat("/dev/full"); err != nil {
		needs.Skip(t, "this system has no /dev/full")
	}
	told := 0
	l, err := Open("/dev/full", Combined, func(_ string, err error) { told++ })
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(l.Around(site))
	for range 20 {
		resp, err := http.Get(server.URL)
		if err != nil || resp.StatusCode != 200 {
			t.Fatal(resp, err)
		}
		resp.Body.Close()
	}
	server.Close()
	l.Close()
	if told != 1 {
		t.Errorf("told %d times", told)
	}
	if _, err := Open(filepath.Join(t.TempDir(), "none", "log"), Combined, nil); err == nil {
		t.Error("a log where there is no directory")
	}
}
