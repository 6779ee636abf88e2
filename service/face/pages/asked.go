package pages

import (
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"ostiarius/client"
	"ostiarius/core/exact"
	"ostiarius/core/policy"
)

// The most addresses that are asked about at a time.
const mostAsked = 500

// An asking is an address that is asked about, read as a place. That is the same whoever asks.
type asking struct {
	client.AskedPlace
	query string // of the address
	read  policy.Asked
	fault error // why it cannot be read
}

// An askings keeps what was read: all visitors of an application ask the same, with each page they open. Reading takes twice
// the time of deciding.
type askings struct {
	mu   sync.Mutex
	book *policy.Book // by which everything was read
	kept map[asked][]asking
}

// An asked is a question as it came.
type asked struct{ host, query string }

// What is kept at most: so many questions of so many bytes.
const (
	mostQuestions = 64
	mostQuestion  = 8 << 10
)

// of reads the question in a query; ok is false if it cannot be read. Nobody changes what is returned.
func (a *askings) of(book *policy.Book, host, query string) (all []asking, ok bool) {
	question := asked{host, query}
	a.mu.Lock()
	if a.book == book {
		all, ok = a.kept[question]
	}
	a.mu.Unlock()
	if ok {
		return all, true
	}
	places, ok := readQuery(query)
	if !ok || len(places) == 0 || len(places) > mostAsked {
		return nil, ok
	}
	all = readPlaces(book, host, places)
	if len(query) > mostQuestion {
		return all, true
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.book != book || len(a.kept) >= mostQuestions {
		a.book, a.kept = book, make(map[asked][]asking)
	}
	a.kept[question] = all
	return all, true
}

func readPlaces(book *policy.Book, host string, places []client.AskedPlace) []asking {
	all := make([]asking, len(places))
	for i, place := range places {
		if place.Method == "" {
			place.Method = http.MethodGet
		}
		path, query, _ := strings.Cut(place.Path, "?")
		all[i] = asking{AskedPlace: place, query: query}
		all[i].read, all[i].fault = book.Read(policy.Request{Method: place.Method, Host: host, Path: path})
	}
	return all
}

// readAsked reads what is asked about: in the query, or as JSON. The text says what is wrong.
func (p *Pages) readAsked(w http.ResponseWriter, r *http.Request, book *policy.Book) (all []asking, wrong string) {
	if r.Method == http.MethodPost {
		var body client.AskedPlaces
		text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
		if err == nil {
			err = exact.UnmarshalKnown(text, &body)
		}
		if err != nil {
			return nil, `The body is JSON such as {"places": [{"path": "/rota/"}]}: ` + err.Error() + "."
		}
		if len(body.Places) <= mostAsked {
			all = readPlaces(book, r.Host, body.Places)
		}
	} else {
		var ok bool
		if all, ok = p.askings.of(book, r.Host, r.URL.RawQuery); !ok {
			return nil, "The query cannot be read."
		}
	}
	if len(all) == 0 {
		return nil, "Between 1 and 500 addresses are asked about at a time: path=/rota/ in the query, once for each, or as JSON."
	}
	return all, ""
}

// readQuery reads addresses out of a query as url.ParseQuery does, without making anything of the rest; the first method is
// that of all. It reads no further than one address more than may be asked about.
func readQuery(query string) (places []client.AskedPlace, ok bool) {
	method, methods := "", 0
	for pair := range strings.SplitSeq(query, "&") {
		key, value, _ := strings.Cut(pair, "=")
		key, err := url.QueryUnescape(key)
		value, wrong := url.QueryUnescape(value)
		if err != nil || wrong != nil || strings.Contains(pair, ";") {
			return nil, false
		}
		switch {
		case key == "path" && len(places) <= mostAsked:
			places = append(places, client.AskedPlace{Path: value})
		case key == "method" && methods == 0:
			method, methods = value, 1
		}
	}
	for i := range places {
		places[i].Method = method
	}
	return places, true
}
