package embed_test

import (
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"

	"ostiarius/embed"
)

// A program that closes a part of itself to strangers.
func Example() {
	data, err := os.MkdirTemp("", "doors")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(data)
	mux := http.NewServeMux()
	mux.HandleFunc("/tides", func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "high water at 6") })
	mux.HandleFunc("/log/", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, "the log, for ", embed.VisitorOf(r.Context()).Name)
	})

	doors, err := embed.Open(embed.Options{Data: data, Log: slog.New(slog.DiscardHandler), Text: `
site: Marram Point
roles: { keeper: }
doors:
  - { path: /tides, admit: public }
  - { path: /log/**, admit: { role: keeper } }
`})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer doors.Close()
	site := httptest.NewServer(doors.Guard(mux))
	defer site.Close()

	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	for _, path := range []string{"/tides", "/log/today"} {
		answer, err := client.Get(site.URL + path)
		if err != nil {
			fmt.Println(err)
			return
		}
		body, _ := io.ReadAll(answer.Body)
		answer.Body.Close()
		fmt.Println(answer.StatusCode, answer.Header.Get("Location"), string(body))
	}
	// Output:
	// 200  high water at 6
	// 303 /door/sign-in?next=%2Flog%2Ftoday
}
