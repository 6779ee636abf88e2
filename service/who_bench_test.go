package service

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"
)

// What it costs to be told who is here, and where one may go, beside a bare handler that writes the same bytes.
func BenchmarkWho(b *testing.B) {
	s := benchService(b, cheap)
	cookie := "Cookie: ostiarius-session=" + s.token
	query := url.Values{}
	for i := range 50 {
		query.Add("path", fmt.Sprintf("/rota/%d/week.html", i))
	}
	for name, path := range map[string]string{"me": "/door/me", "may-50": "/door/may?" + query.Encode()} {
		b.Run(name, func(b *testing.B) {
			req, _ := http.NewRequest("GET", s.URL()+path, nil)
			req.Header.Set("Cookie", "ostiarius-session="+s.token)
			resp, err := http.DefaultClient.Do(req)
			if err != nil {
				b.Fatal(err)
			}
			body, err := io.ReadAll(resp.Body)
			resp.Body.Close()
			if err != nil || resp.StatusCode != 200 {
				b.Fatal(resp.StatusCode, err)
			}
			bare := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				for _, field := range []string{"Content-Type", "Cache-Control", "Etag", "X-Content-Type-Options", "Vary"} {
					w.Header()[field] = resp.Header[field]
				}
				w.Write(body)
			}))
			defer bare.Close()
			against(b, func() measure { return rate(b, 1, bare.URL+path, cookie) }, func() measure { return rate(b, 1, s.URL()+path, cookie) })
		})
	}
}
