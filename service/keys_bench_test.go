package service

import (
	"testing"

	"ostiarius/service/who/accesskeys"
	"ostiarius/service/who/sessions"
)

// A guarded page of a program that comes with an access key, beside the same with the cookie of a session, in turns.
func BenchmarkBearer(b *testing.B) {
	s := benchService(b, cheap)
	a, err := s.rooms.People.Find(b.Context(), "ines")
	if err != nil {
		b.Fatal(err)
	}
	key, _, err := s.rooms.AccessKeys.Make(b.Context(), "bench", a, accesskeys.NewKey{Name: "bench"}, sessions.Origin{})
	if err != nil {
		b.Fatal(err)
	}
	page := s.URL() + "/rota/week.html"
	against(b, func() measure { return rate(b, 1, page, "Cookie: ostiarius-session="+s.token) },
		func() measure { return rate(b, 1, page, "Authorization: Bearer "+key) })
}
