package demo

import (
	"crypto/rand"
	"net"
	"net/http"
	"time"

	"ostiarius/demo/provider"
)

// HarbourIssuer is the name of the demo's provider of accounts elsewhere, as its policy has it.
const HarbourIssuer = "https://harbour.example"

// A Harbour stands in for a provider of accounts elsewhere: those of the harbour next to the lighthouse.
type Harbour struct {
	URL    string // where it is
	Secret string // of the site there
	server *http.Server
}

// StartHarbour starts it on loopback.
func StartHarbour() (*Harbour, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	h := &Harbour{URL: "http://" + listener.Addr().String(), Secret: rand.Text()}
	p := provider.New(HarbourIssuer, "marram", h.Secret,
		provider.Person{
			Subject: "berth-12", Username: "ines", Name: "Ines of the pilot boat", Email: "ines@marram.example", Verified: true,
			Groups: []string{"crew"},
		},
		provider.Person{
			Subject: "berth-31", Username: "edda", Name: "Edda, who mends nets", Email: "edda@harbour.example", Verified: true,
			Groups: []string{"crew"},
		},
		provider.Person{Subject: "berth-40", Username: "olaf", Name: "Olaf, who visits", Email: "olaf@harbour.example"},
	)
	p.Base = h.URL
	h.server = &http.Server{Handler: p, ReadHeaderTimeout: 10 * time.Second}
	go h.server.Serve(listener)
	return h, nil
}

// Stop ends it.
func (h *Harbour) Stop() { h.server.Close() }
