package identity

import (
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/service/base/guard"
)

func TestTokens(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	s := New(func() time.Time { return now })
	book, findings := read.Parse("doors.yaml", []byte("roles: {keeper: , trustee: {includes: [keeper]}}\ndoors: [ { path: /**, admit: "+
		"public } ]\n"))
	if book == nil {
		t.Fatal(findings)
	}
	turn := &guard.Turn{
		Book: book, Place: place.Place{Host: "marram.example"}, Door: &book.Doors[0], Secure: true,
		Visitor: policy.Visitor{SignedIn: true, Account: "käthe", Roles: []string{"trustee"}},
	}
	sign := func() string {
		t.Helper()
		token, err := s.Sign(turn, "stock", "GET", "/log/?x=1")
		if err != nil {
			t.Fatal(err)
		}
		return token
	}
	check := func(token string) (c Claims, err error) {
		t.Helper()
		parsed, err := jwt.ParseSigned(token, []jose.SignatureAlgorithm{jose.EdDSA})
		if err != nil {
			t.Fatal(err)
		}
		keys, err := s.Keys()
		if err != nil {
			t.Fatal(err)
		}
		return c, parsed.Claims(keys, &c)
	}
	token := sign()
	c, err := check(token)
	if err != nil {
		t.Fatal(err)
	}
	if c.Subject != "käthe" || len(c.Roles) != 2 || c.Issuer != "https://marram.example" || c.Door != "/**" ||
		c.Request != RequestHash("GET", "/log/?x=1") || c.Request == RequestHash("POST", "/log/?x=1") {
		t.Errorf("%+v", c)
	}
	if err := c.Validate(jwt.Expected{AnyAudience: jwt.Audience{"stock"}, Time: now.Add(30 * time.Second)}); err != nil {
		t.Error(err)
	}
	for name, expected := range map[string]jwt.Expected{
		"late": {Time: now.Add(3 * time.Minute)}, "for another": {AnyAudience: jwt.Audience{"shop"}, Time: now},
	} {
		if c.Validate(expected) == nil {
			t.Errorf("a token that is %s counts", name)
		}
	}
	turn.Visitor = policy.Visitor{}
	if c, err := check(sign()); err != nil || c.Subject != "" || c.Roles == nil || len(c.Roles) != 0 {
		t.Errorf("nobody: %+v %v", c, err)
	}

	// Keys change, and the one before is given out for a while.
	now = now.Add(signs)
	fresh := sign()
	for _, token := range []string{token, fresh} {
		if _, err := check(token); err != nil {
			t.Errorf("just after: %v", err)
		}
	}
	now = now.Add(overlap)
	if _, err := check(token); err == nil {
		t.Error("an old key is given out for ever")
	}
	if _, err := check(fresh); err != nil {
		t.Error(err)
	}
	if keys, _ := s.Keys(); len(keys.Keys) != 1 || !keys.Keys[0].IsPublic() {
		t.Errorf("%+v", keys)
	}
}

func BenchmarkSign(b *testing.B) {
	s := New(time.Now)
	book, _ := read.Parse("doors.yaml", []byte("doors: [ { path: /**, admit: public } ]\n"))
	turn := &guard.Turn{Book: book, Door: &book.Doors[0]}
	for b.Loop() {
		s.Sign(turn, "stock", "GET", "/log/")
	}
}
