package api

import (
	"net/http"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/core/prove"
	"ostiarius/service/inspect"
)

// The most files, addresses and visitors of a matrix. More make it longer than anybody
// reads, and the work of an answer must end.
const (
	maxMatrixRows     = 100_000
	maxMatrixVisitors = 100
	maxMatrixBody     = 16 << 20
)

func (a *API) matrix(w http.ResponseWriter, r *http.Request) {
	var asked client.MatrixQuery
	if !a.read(w, r, &asked, maxMatrixBody) {
		return
	}
	if len(asked.Addresses) > maxMatrixRows || len(asked.As) > maxMatrixVisitors {
		a.problem(w, http.StatusUnprocessableEntity, "That is more than one matrix can show: ask for at most 100,000 addresses and 100 visitors.")
		return
	}
	book := a.Policy.Book()
	visitors := prove.Kinds(book)
	for _, who := range asked.As {
		v, err := policy.ParseVisitor(who)
		if err != nil {
			a.problem(w, http.StatusUnprocessableEntity, err.Error())
			return
		}
		visitors = append(visitors, v)
	}
	shown := client.Matrix{Site: book.Site}
	var requests []policy.Request
	for _, address := range asked.Addresses {
		requests = append(requests, policy.Request(address))
	}
	switch {
	case len(requests) > 0:
		shown.Matrix = prove.At(book, requests, visitors)
	case asked.Files:
		places, more := inspect.Addresses(book, a.Policy.File(), maxMatrixRows)
		for _, p := range places {
			requests = append(requests, policy.RequestFor(p))
		}
		shown.Matrix, shown.More = prove.At(book, requests, visitors), more
	default:
		ground, err := prove.Survey(book)
		if err != nil {
			a.problem(w, http.StatusUnprocessableEntity, "The regions could not be told apart: "+err.Error())
			return
		}
		shown.Matrix = ground.Regions(visitors)
	}
	a.answer(w, http.StatusOK, shown)
}
