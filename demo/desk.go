package demo

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// A Desk is what stands behind the volunteers' desk: its data, which the doors close route by route and method by method. It
// checks nothing itself.
type Desk struct {
	mu       sync.Mutex
	shifts   []shift
	messages []deskMessage
}

type shift struct {
	ID   int    `json:"id"`
	When string `json:"when"`
	What string `json:"what"`
	Who  string `json:"who"`
}

type deskMessage struct {
	By   string `json:"by"`
	At   string `json:"at"`
	Text string `json:"text"`
}

// StartDesk serves the data of the desk at the socket in the demo's directory until stop is called.
func StartDesk(directory string) (stop func(), err error) {
	d := &Desk{
		shifts: []shift{
			{1, "Saturday, 10 to 13", "Tours up the tower", "walt"}, {2, "Saturday, 13 to 16", "Tours up the tower", ""},
			{3, "Sunday, 10 to 13", "Tea room", ""}, {4, "Sunday, 13 to 16", "Tea room", "ines"}, {5, "Monday, 9 to 12", "Paint the railing", ""},
		},
		messages: []deskMessage{{"ines", "25 November, 18:10", "The kettle in the tea room is to be filled below the line. Below."},
			{"walt", "25 November, 20:41", "It was above. It will be below."}},
	}
	socket := filepath.Join(directory, "desk.sock")
	if err := os.Remove(socket); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	listener, err := net.Listen("unix", socket)
	if err != nil {
		return nil, fmt.Errorf("the desk cannot be started: %w", err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /desk/api/shifts", func(w http.ResponseWriter, r *http.Request) { d.tell(w, func() any { return d.shifts }) })
	mux.HandleFunc("POST /desk/api/shifts", d.take)
	mux.HandleFunc("GET /desk/api/messages", func(w http.ResponseWriter, r *http.Request) { d.tell(w, func() any { return d.messages }) })
	mux.HandleFunc("POST /desk/api/messages", d.write)
	mux.HandleFunc("GET /desk/api/board", func(w http.ResponseWriter, r *http.Request) {
		d.tell(w, func() any {
			return []string{"Lamp fund: 4,210 pounds of 9,000.", "The harbour office wants its key back.",
				"Tobias asks who has signed for the gulls."}
		})
	})
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(listener)
	return func() { server.Close() }, nil
}

// tell answers with something that is read while nobody changes it.
func (d *Desk) tell(w http.ResponseWriter, what func() any) {
	d.mu.Lock()
	text, err := json.Marshal(what())
	d.mu.Unlock()
	if err != nil {
		http.Error(w, "the desk cannot be read", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.Write(text)
}

// take writes somebody into a shift that nobody has, or out of their own.
func (d *Desk) take(w http.ResponseWriter, r *http.Request) {
	var asked struct{ ID int }
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<10)).Decode(&asked); err != nil {
		http.Error(w, "which shift?", http.StatusBadRequest)
		return
	}
	who := caller(r)
	d.mu.Lock()
	for i := range d.shifts {
		if s := &d.shifts[i]; s.ID == asked.ID && s.Who == "" {
			s.Who = who
		} else if s.ID == asked.ID && s.Who == who {
			s.Who = ""
		}
	}
	d.mu.Unlock()
	d.tell(w, func() any { return d.shifts })
}

func (d *Desk) write(w http.ResponseWriter, r *http.Request) {
	var asked struct{ Text string }
	err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 8<<10)).Decode(&asked)
	if asked.Text = strings.TrimSpace(asked.Text); err != nil || asked.Text == "" || len(asked.Text) > 1000 {
		http.Error(w, "a message has between 1 and 1,000 characters", http.StatusUnprocessableEntity)
		return
	}
	d.mu.Lock()
	d.messages = append([]deskMessage{{caller(r), time.Now().Format("2 January, 15:04"), asked.Text}},
		d.messages[:min(len(d.messages), 49)]...)
	d.mu.Unlock()
	d.tell(w, func() any { return d.messages })
}
