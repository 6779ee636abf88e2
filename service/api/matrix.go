package api

import (
	"net/http"
	"sync"

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
	book := a.Policy.Book()
	visitors, ok := a.visitorsOf(w, book, asked.As, len(asked.Addresses))
	if !ok {
		return
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
		ground, ok := a.ground(w, book)
		if !ok {
			return
		}
		shown.Matrix = ground.Regions(visitors)
	}
	a.answer(w, http.StatusOK, shown)
}

// visitorsOf returns the visitors of a matrix: those of the policy, and others that are asked for.
func (a *API) visitorsOf(w http.ResponseWriter, book *policy.Book, as []string, addresses int) (visitors []policy.Visitor, ok bool) {
	if addresses > maxMatrixRows || len(as) > maxMatrixVisitors {
		a.problem(w, http.StatusUnprocessableEntity, "That is more than one matrix can show: ask for at most 100,000 addresses and 100 visitors.")
		return nil, false
	}
	visitors = prove.Kinds(book)
	for _, who := range as {
		v, err := policy.ParseVisitor(who)
		if err != nil {
			a.problem(w, http.StatusUnprocessableEntity, err.Error())
			return nil, false
		}
		visitors = append(visitors, v)
	}
	return visitors, true
}

// A surveyor keeps the ground of the policy in force, which is the same for all who ask.
type surveyor struct {
	mu     sync.Mutex
	book   *policy.Book
	ground *prove.Ground
	err    error
}

func (a *API) ground(w http.ResponseWriter, book *policy.Book) (*prove.Ground, bool) {
	s := a.surveyor
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.book != book {
		s.book = book
		s.ground, s.err = prove.Survey(book)
	}
	if s.err != nil {
		a.problem(w, http.StatusUnprocessableEntity, "The regions could not be told apart: "+s.err.Error())
		return nil, false
	}
	return s.ground, true
}

// The most rows that are answered at a time with marks.
const maxMarkedRows = 20_000

// marks answers with a part of a matrix, a letter for each cell.
func (a *API) marks(w http.ResponseWriter, r *http.Request) {
	var asked client.MarksQuery
	if !a.read(w, r, &asked, maxMatrixBody) {
		return
	}
	if asked.From < 0 || asked.Limit < 0 || asked.Limit > maxMarkedRows {
		a.problem(w, http.StatusUnprocessableEntity, "The first row is 0 or more, and at most 20,000 are asked for at a time.")
		return
	}
	if asked.Limit == 0 {
		asked.Limit = maxMarkedRows
	}
	book := a.Policy.Book()
	visitors, ok := a.visitorsOf(w, book, asked.As, 0)
	if !ok {
		return
	}
	var m prove.Matrix
	shown := client.Marks{Rows: []client.MarkedRow{}}
	if asked.Files {
		places, more := inspect.Addresses(book, a.Policy.File(), maxMatrixRows)
		shown.Total, shown.More = len(places), more
		places = places[min(asked.From, len(places)):]
		var requests []policy.Request
		for _, p := range places[:min(asked.Limit, len(places))] {
			requests = append(requests, policy.RequestFor(p))
		}
		m = prove.At(book, requests, visitors)
	} else {
		ground, ok := a.ground(w, book)
		if !ok {
			return
		}
		m, shown.Total = ground.SomeRegions(visitors, asked.From, asked.Limit)
	}
	shown.Visitors = m.Visitors
	for _, row := range m.Rows {
		marks := make([]byte, len(row.Cells))
		for i, cell := range row.Cells {
			marks[i] = markOf[cell.Outcome]
		}
		shown.Rows = append(shown.Rows, client.MarkedRow{Kind: row.Kind, Label: row.Label, Method: row.Method, Host: row.Host, Path: row.Path, Doors: row.Doors, Marks: string(marks)})
	}
	a.answer(w, http.StatusOK, shown)
}

// The letters of the outcomes.
var markOf = map[policy.Outcome]byte{policy.Admit: 'a', policy.Challenge: 'c', policy.Refuse: 'r', policy.Hide: 'h', policy.Reject: 'x'}
