package e2e

import (
	"bufio"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/gorilla/websocket"

	"ostiarius/client"
)

// A live answer is one that has no end of its own.
type liveAnswer struct {
	who  string
	next func() error // waits for the next piece
}

// over waits until the answer has ended, and reports whether it has.
func (l *liveAnswer) over() bool {
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); {
		if l.next() != nil {
			return true
		}
	}
	return false
}

// Answers that go on and on end when their visitor would be admitted no longer, and only then.
func TestLiveAnswersEndWithAdmission(t *testing.T) {
	t.Parallel()
	upgrader := websocket.Upgrader{}
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ticker := time.NewTicker(100 * time.Millisecond)
		defer ticker.Stop()
		write := func() error {
			_, err := io.WriteString(w, "data: the lamp is lit\n\n")
			w.(http.Flusher).Flush()
			return err
		}
		if websocket.IsWebSocketUpgrade(r) {
			conn, err := upgrader.Upgrade(w, r, nil)
			if err != nil {
				return
			}
			defer conn.Close()
			write = func() error { return conn.WriteMessage(websocket.TextMessage, []byte("the lamp is lit")) }
		} else {
			w.Header().Set("Content-Type", "text/event-stream; charset=utf-8")
		}
		for r.Context().Err() == nil && write() == nil {
			<-ticker.C
		}
	}))
	t.Cleanup(app.Close)
	dir := t.TempDir()
	policy := fmt.Sprintf("roles: {keeper: {includes: hand}, hand: }\nkeyrings: {outer: }\nsources: [ { path: /, proxy: %q } ]\ndoors:\n"+
		"  - { path: /**, admit: { role: hand } }\n  - { path: /recent, admit: { role: hand, proof-within: 1s } }\n"+
		"  - { path: /feed, admit: { role: hand }, ask: basic }\n  - { path: /gate, admit: { keyring: outer } }\n", app.URL)
	write(t, dir, "doors.yaml", policy)
	s := start(t, dir)
	api := client.New(s.Data)
	const password = "kettle-moth-anvil"
	for _, name := range []string{"ines", "walt", "tobias", "sunniva", "agnes", "gauge"} {
		if _, err := client.AddPerson.Ask(t.Context(), api,
			client.NewPerson{Name: name, Password: password, Roles: []string{"keeper"}}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := client.AddEntry.Ask(t.Context(), api,
		client.NewEntry{Keyring: "outer", Name: "smith", Password: "creaky-third-step"}); err != nil {
		t.Fatal(err)
	}
	people := map[string]*person{}
	open := func(who, path, authorization string, socket bool) *liveAnswer {
		t.Helper()
		p := newPerson(t, s.URL)
		header := http.Header{}
		if authorization != "" {
			header.Set("Authorization", authorization)
		} else if p.signIn(who, password, ""); true {
			people[who] = p
			base, _ := url.Parse(s.URL)
			for _, c := range p.http.Jar.Cookies(base) {
				header.Add("Cookie", c.Name+"="+c.Value)
			}
		}
		if socket {
			conn, _, err := websocket.DefaultDialer.Dial("ws"+strings.TrimPrefix(s.URL, "http")+path, header)
			if err != nil {
				t.Fatalf("%s: %v", who, err)
			}
			t.Cleanup(func() { conn.Close() })
			return &liveAnswer{who, func() error { _, _, err := conn.ReadMessage(); return err }}
		}
		req, _ := http.NewRequest("GET", s.URL+path, nil)
		req.Header = header
		resp, err := http.DefaultClient.Do(req)
		if err != nil || resp.StatusCode != 200 {
			t.Fatalf("%s: %v %v", who, err, resp)
		}
		t.Cleanup(func() { resp.Body.Close() })
		lines := bufio.NewReader(resp.Body)
		return &liveAnswer{who, func() error { _, err := lines.ReadString('\n'); return err }}
	}
	signsOut := open("ines", "/events", "", false)
	disabled := open("walt", "/socket", "", true)
	demoted := open("tobias", "/socket", "", true)
	stays := open("sunniva", "/recent", "", false)
	other := open("agnes", "/socket", "", true)
	feed := open("gauge", "/feed", basic("gauge", password), false)
	gate := open("smith", "/gate", basic("smith", "creaky-third-step"), true)
	all := []*liveAnswer{signsOut, disabled, demoted, stays, other, feed, gate}
	// For longer than it takes to be looked at twice, nothing ends.
	for begun := time.Now(); time.Since(begun) < 5*time.Second; {
		for _, l := range all {
			if err := l.next(); err != nil {
				t.Fatalf("the answer for %s ends: %v", l.who, err)
			}
		}
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	people["ines"].do("POST", "/door/sign-out", "")
	must(client.DisablePerson.Do(t.Context(), api, client.Disabled{Account: "walt", Disabled: true}))
	must(client.RevokeRole.Do(t.Context(), api, client.RoleOf{Account: "tobias", Role: "keeper"}))
	must(client.GrantRole.Do(t.Context(), api, client.NewGrant{Account: "sunniva", Role: "steward"})) // another token, the same person
	must(client.SetPassword.Do(t.Context(), api, client.NewPassword{Account: "gauge", Password: "lantern-quill-otter"}))
	must(client.DisableEntry.Do(t.Context(), api, client.DisabledEntry{Keyring: "outer", Entry: "smith", Disabled: true}))
	for _, l := range []*liveAnswer{signsOut, disabled, demoted, feed, gate} {
		if !l.over() {
			t.Errorf("the answer for %s goes on", l.who)
		}
	}
	for _, l := range []*liveAnswer{stays, other} {
		for range 3 {
			must(l.next())
		}
	}
	_, err := client.ApplyPolicy.Ask(t.Context(), api,
		client.Draft{Text: strings.Replace(policy, "/**, admit: { role: hand }", "/**, admit: nobody", 1)})
	must(err)
	if !other.over() {
		t.Error("the policy has closed the door, and the answer goes on")
	}
	must(stays.next()) // its door is another

	// An answer without an end does not keep the service from stopping.
	begun := time.Now()
	must(s.Stop())
	if took := time.Since(begun); took > 10*time.Second {
		t.Errorf("stopping took %v", took)
	}
}
