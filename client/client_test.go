package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// serve answers on the socket of a data directory as a service would.
func serve(t *testing.T, handler http.HandlerFunc) *Client {
	t.Helper()
	dir := t.TempDir()
	l, err := net.Listen("unix", filepath.Join(dir, SocketName))
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: handler}
	go server.Serve(l)
	t.Cleanup(func() { server.Close() })
	return New(dir)
}

// What goes over the wire is what was asked for, names whole; a change carries the field without which
// it is not carried out.
func TestCallsGoOverTheWire(t *testing.T) {
	var got string
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		got = fmt.Sprintf("%s %s %s %s", r.Method, r.RequestURI, r.Header.Get(RequestedWith), body)
		w.Header().Set("Content-Type", "application/json")
		if r.Method == "GET" {
			fmt.Fprint(w, `{"people": [{"name": "ines"}], "total": 1, "sessions": [], "text": "doors: []"}`)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
	ctx := t.Context()
	for _, step := range []struct {
		call func() error
		want string
	}{
		{func() error {
			all, err := ListPeople.Ask(ctx, c, PeopleQuery{Search: "a&b", Limit: 5})
			if err == nil && (all.Total != 1 || all.People[0].Name != "ines") {
				err = fmt.Errorf("%+v", all)
			}
			return err
		}, "GET /api/v1/people?limit=5&search=a%26b ostiarius "},
		{func() error { return RemovePerson.Do(ctx, c, ByName{Name: "a/b ç"}) }, "DELETE /api/v1/people/a%2Fb%20%C3%A7 ostiarius "},
		{func() error { return DisablePerson.Do(ctx, c, Disabled{Account: "ines", Disabled: true}) },
			"PUT /api/v1/people/ines/disabled ostiarius true"},
		{func() error {
			return DisableEntry.Do(ctx, c, DisabledEntry{Keyring: "outer", Entry: "gate", Disabled: false})
		}, "PUT /api/v1/keyrings/outer/entries/gate/disabled ostiarius false"},
		{func() error { return EndSession.Do(ctx, c, ByHandle{Handle: "0123"}) }, "DELETE /api/v1/sessions/0123 ostiarius "},
		{func() error { _, err := ShowPolicy.Ask(ctx, c, None{}); return err }, "GET /api/v1/policy ostiarius "},
	} {
		if err := step.call(); err != nil || got != step.want {
			t.Errorf("%q, want %q: %v", got, step.want, err)
		}
	}
}

// What is wrong is said as the service says it, or so that one knows what to do.
func TestWhatIsWrong(t *testing.T) {
	status, answer := 0, ""
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(status)
		fmt.Fprint(w, answer)
	})
	var p *Problem
	status, answer = 409, `{"status": 409, "detail": "the name is taken", "code": "taken"}`
	if _, err := ShowStatus.Ask(t.Context(), c, None{}); !errors.As(err, &p) || p.Code != "taken" || err.Error() != "the name is taken" {
		t.Errorf("%v", err)
	}
	status, answer = 502, "<html>"
	if _, err := ShowStatus.Ask(t.Context(), c, None{}); err == nil || errors.As(err, &p) || !strings.Contains(err.Error(), "502") {
		t.Errorf("%v", err)
	}
	status, answer = 200, "<html>"
	if _, err := ShowStatus.Ask(t.Context(), c, None{}); err == nil {
		t.Error("nonsense is taken for a status")
	}
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := ShowStatus.Ask(gone, c, None{}); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	nobody := New(t.TempDir())
	if _, err := ShowStatus.Ask(t.Context(), nobody, None{}); !errors.Is(err, ErrNotRunning) ||
		!strings.Contains(err.Error(), "ostiarius serve") {
		t.Errorf("%v", err)
	}
	left := t.TempDir() // by a service that was killed
	l, err := net.Listen("unix", filepath.Join(left, SocketName))
	if err != nil {
		t.Fatal(err)
	}
	l.(*net.UnixListener).SetUnlinkOnClose(false)
	l.Close()
	if _, err := ShowStatus.Ask(t.Context(), New(left), None{}); !errors.Is(err, ErrNotRunning) {
		t.Errorf("%v", err)
	}
	if _, err := os.Stat(filepath.Join(left, SocketName)); err != nil {
		t.Error("a client removes the socket")
	}
}
