// Package another adds one of each kind of thing that the house has many of, without touching a file of it, and looks for it wherever
// it must appear. What this needs beside the thing itself is what somebody has to know who adds one.
package another

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"

	"ostiarius/client"
	"ostiarius/client/describe"
	"ostiarius/core/secret"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/hashing"
	"ostiarius/service/base/mistake"
	"ostiarius/service/face/api"
	"ostiarius/service/rooms"
	"ostiarius/service/rule/inforce"
	"ostiarius/store/fresh"
)

// A foghorn is a room.
type foghorn struct {
	sounded int
	written bool
}

func (f *foghorn) Chores() []chores.Chore {
	return []chores.Chore{
		chores.Each(time.Second, func(context.Context) error { f.sounded++; return nil }),
		chores.AtEnd(func(context.Context) error { f.written = true; return nil }),
	}
}

func (f *foghorn) Remarks(context.Context) ([]string, error) {
	return []string{"The foghorn needs oil."}, nil
}

func (f *foghorn) Run(context.Context) {}

// What can be asked of it.
type (
	// Sound asks a horn to sound.
	Sound struct {
		Horn  string `json:"-" path:"horn"`
		Times int    `json:"times"` // at most 10
	}
	// Sounded is what it has done.
	Sounded struct {
		Horn string `json:"horn"`
		// Pitch is low or high.
		Pitch string `json:"pitch" enum:"low|high"`
	}
	// Horns asks which there are.
	Horns struct {
		Limit int `json:"-" query:"limit" most:"20"`
	}
)

var (
	soundHorn = client.Post[Sound, Sounded]("/horns/{horn}/sound", "Sound a horn", client.Created, client.Fails(404, 422))
	listHorns = client.Get[Horns, []Sounded]("/horns", "The horns", client.AtRest)
)

func init() {
	api.On(soundHorn, func(_ *api.API, by api.Caller, in Sound) (Sounded, error) {
		if in.Horn != "north" {
			return Sounded{}, mistake.Unknown("there is no horn %s, %s", in.Horn, by.Actor)
		}
		return Sounded{in.Horn, "low"}, nil
	})
	api.On(listHorns, func(*api.API, api.Caller, Horns) ([]Sounded, error) { return []Sounded{{"north", "high"}}, nil })
}

func TestAnotherRoomAndOperation(t *testing.T) {
	horn := &foghorn{}
	dir := t.TempDir()
	file := filepath.Join(dir, "doors.yaml")
	if err := os.WriteFile(file, []byte("doors: [{ path: /, admit: public }]\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	records, log := fresh.Records(t, dir), slog.New(slog.DiscardHandler)
	policy, err := inforce.Open(t.Context(), inforce.Options{File: file, Store: records, Missing: http.NotFoundHandler(), Log: log})
	if err != nil {
		t.Fatal(err)
	}
	house, err := rooms.Open(rooms.Options{
		Store: records, Book: policy.Book, Now: time.Now, Hashing: hashing.New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, nil),
		Front: &guard.Front{}, Log: log, Mail: rooms.Mail{Site: func() string { return "https://marram.example" }}, More: []any{horn},
	})
	if err != nil {
		t.Fatal(err)
	}

	// The room is asked for all that rooms do.
	for _, room := range rooms.Which[chores.Room](house) {
		for _, c := range room.Chores() {
			if c.Every == time.Second || c.Last {
				if err := c.Do(t.Context()); err != nil {
					t.Error(err)
				}
			}
		}
	}
	if horn.sounded != 1 || !horn.written || !slices.Contains(rooms.Which[rooms.Runner](house), rooms.Runner(horn)) {
		t.Errorf("%+v, and it runs with the others: %v", horn, rooms.Which[rooms.Runner](house))
	}

	// The operation is a route with its protections, a call of the client, and described.
	proven := time.Hour
	administration := &api.API{
		Rooms: house, Policy: policy, Status: func() client.Status { return client.Status{} }, Now: time.Now, Log: log,
		Actor: func(*http.Request) string { return "test" }, ProofAge: func(*http.Request) time.Duration { return proven },
	}
	router := chi.NewRouter()
	router.Route("/api/v1", administration.Routes)
	socket, err := net.Listen("unix", filepath.Join(dir, client.SocketName))
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: router}
	go server.Serve(socket)
	defer server.Close()
	at, ctx := client.New(dir), t.Context()
	problem := func(err error) string {
		var p *client.Problem
		if !errors.As(err, &p) {
			return "none"
		}
		return p.Code + p.Detail
	}
	if _, err := soundHorn.Ask(ctx, at, Sound{Horn: "north", Times: 3}); !strings.HasPrefix(problem(err), "proof-needed") {
		t.Errorf("without a recent proof: %v", err)
	}
	proven = 0
	if done, err := soundHorn.Ask(ctx, at, Sound{Horn: "north", Times: 3}); err != nil || done != (Sounded{"north", "low"}) {
		t.Errorf("%+v %v", done, err)
	}
	if _, err := soundHorn.Ask(ctx, at, Sound{Horn: "south"}); problem(err) != "there is no horn south, test" {
		t.Errorf("%v", err)
	}
	if all, err := listHorns.Ask(ctx, at, Horns{Limit: 5}); err != nil || len(all) != 1 {
		t.Errorf("%+v %v", all, err)
	}
	if _, err := listHorns.Ask(ctx, at, Horns{Limit: 21}); !strings.Contains(problem(err), "limit is a number from 0 to 20") {
		t.Errorf("%v", err)
	}
	if today, err := client.ShowToday.Ask(ctx, at, client.None{}); err != nil || !slices.Contains(today.Attention, "The foghorn needs oil.") {
		t.Errorf("the page Today says %q (%v)", today.Attention, err)
	}
	rest := client.New(t.TempDir()) // where no service runs
	rest.AtRest = func(context.Context) (http.Handler, error) { return router, nil }
	if all, err := listHorns.Ask(ctx, rest, Horns{}); err != nil || len(all) != 1 {
		t.Errorf("at rest: %+v %v", all, err)
	}
	if _, err := soundHorn.Ask(ctx, rest, Sound{Horn: "north"}); !errors.Is(err, client.ErrNotRunning) {
		t.Errorf("at rest, a change: %v", err)
	}
	text, err := describe.Document(client.Operations(), "../../..")
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"/horns/{horn}/sound:", "summary: Sound a horn", "#/components/schemas/Sounded", "maximum: 20", "- low"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("the description has no %q", want)
		}
	}
}
