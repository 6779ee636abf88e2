package api

import (
	"sync"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/core/prove"
	"ostiarius/service/base/mistake"
	"ostiarius/service/rule/inspect"
)

// The most files, addresses and visitors of a matrix. More make it longer than anybody
// reads, and the work of an answer must end.
const (
	maxMatrixRows     = 100_000
	maxMatrixVisitors = 100
)

func init() {
	On(client.ShowMatrix, (*API).matrix)
	On(client.ShowMarks, (*API).marks)
}

func (a *API) matrix(_ Caller, asked client.MatrixQuery) (shown client.Matrix, err error) {
	book := a.Policy.Book()
	visitors, err := visitorsOf(book, asked.As, len(asked.Addresses))
	if err != nil {
		return shown, err
	}
	shown.Site = book.Site
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
		ground, err := a.ground(book)
		if err != nil {
			return shown, err
		}
		shown.Matrix = ground.Regions(visitors)
	}
	return shown, nil
}

// visitorsOf returns the visitors of a matrix: those of the policy, and others that are asked for.
func visitorsOf(book *policy.Book, as []string, addresses int) ([]policy.Visitor, error) {
	if addresses > maxMatrixRows || len(as) > maxMatrixVisitors {
		return nil, mistake.Invalid("That is more than one matrix can show: ask for at most 100,000 addresses and 100 visitors.")
	}
	visitors := prove.Kinds(book)
	for _, who := range as {
		v, err := policy.ParseVisitor(who)
		if err != nil {
			return nil, unprocessable(err)
		}
		visitors = append(visitors, v)
	}
	return visitors, nil
}

// A surveyor keeps the ground of the policy in force, which is the same for all who ask.
type surveyor struct {
	mu     sync.Mutex
	book   *policy.Book
	ground *prove.Ground
	err    error
}

func (a *API) ground(book *policy.Book) (*prove.Ground, error) {
	s := a.surveyor
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.book != book {
		s.book = book
		s.ground, s.err = prove.Survey(book)
	}
	if s.err != nil {
		return nil, mistake.Invalid("The regions could not be told apart: %v", s.err)
	}
	return s.ground, nil
}

// The most rows that are answered at a time with marks.
const maxMarkedRows = 20_000

// marks answers with a part of a matrix, a letter for each cell.
func (a *API) marks(_ Caller, asked client.MarksQuery) (shown client.Marks, err error) {
	if asked.From < 0 || asked.Limit < 0 || asked.Limit > maxMarkedRows {
		return shown, mistake.Invalid("The first row is 0 or more, and at most 20,000 are asked for at a time.")
	}
	if asked.Limit == 0 {
		asked.Limit = maxMarkedRows
	}
	book := a.Policy.Book()
	visitors, err := visitorsOf(book, asked.As, 0)
	if err != nil {
		return shown, err
	}
	var m prove.Matrix
	shown.Rows = []client.MarkedRow{}
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
		ground, err := a.ground(book)
		if err != nil {
			return shown, err
		}
		m, shown.Total = ground.SomeRegions(visitors, asked.From, asked.Limit)
	}
	shown.Visitors = m.Visitors
	for _, row := range m.Rows {
		marks := make([]byte, len(row.Cells))
		for i, cell := range row.Cells {
			marks[i] = markOf[cell.Outcome]
		}
		shown.Rows = append(shown.Rows, client.MarkedRow{
			Kind: row.Kind, Label: row.Label, Method: row.Method, Host: row.Host, Path: row.Path, Doors: row.Doors, Marks: string(marks),
		})
	}
	return shown, nil
}

// The letters of the outcomes.
var markOf = map[policy.Outcome]byte{policy.Admit: 'a', policy.Challenge: 'c', policy.Refuse: 'r', policy.Hide: 'h', policy.Reject: 'x'}
