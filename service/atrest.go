package service

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"time"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/hashing"
	"ostiarius/service/rooms"
	"ostiarius/service/rule/inforce"
	"ostiarius/store"
)

// AtRest returns what answers questions of administration from the records of a data directory on which no service runs;
// nothing of them can be changed. The error says why they cannot be read.
func AtRest(ctx context.Context, data string) (http.Handler, io.Closer, error) {
	records, err := store.OpenToRead(store.FileIn(data))
	if err != nil {
		return nil, nil, err
	}
	log := slog.New(slog.DiscardHandler)
	var p *inforce.Policy
	var r *rooms.Rooms
	if err = records.IsCurrent(ctx); err == nil {
		p, err = inforce.AtRest(ctx, records, log)
	}
	if err == nil {
		r, err = rooms.Open(rooms.Options{
			Store: records, Book: func() *policy.Book { return p.Book() }, Now: time.Now, Hashing: hashing.New(secret.DefaultCost, nil),
			Front: &guard.Front{}, Log: log,
			Mail: rooms.Mail{Site: func() string { return "" }},
		})
	}
	if err != nil {
		records.Close()
		return nil, nil, err
	}
	administration := administrationOf(r, p, log)
	administration.Actor = func(*http.Request) string { return "" }
	administration.Status = func() client.Status { return client.Status{} } // nobody comes to it anywhere
	return bySocketAlone(&administration), records, nil
}
