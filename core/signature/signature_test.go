package signature

import (
	"errors"
	"strconv"
	"strings"
	"testing"
	"time"
)

var noon = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

func TestCheck(t *testing.T) {
	mine, before, theirs := NewSecret(), NewSecret(), NewSecret()
	body := []byte(`{"type":"paid","order":"o1"}`)
	at := func(d time.Duration) string { return strconv.FormatInt(noon.Add(d).Unix(), 10) }
	head := func(s Secret, d time.Duration) Head { return Head{"m1", at(d), s.Sign("m1", noon.Add(d), body)} }
	both := head(mine, 0)
	both.Signature = "v1a,xyz v1,!! " + theirs.Sign("m1", noon, body) + " " + both.Signature
	with := func(change func(*Head)) Head { h := head(mine, 0); change(&h); return h }
	for _, c := range []struct {
		what string
		head Head
		want error
	}{
		{"signed", head(mine, 0), nil},
		{"with the secret before", head(before, 0), nil},
		{"with one of several signatures", both, nil},
		{"five minutes ago", head(mine, -5*time.Minute), nil},
		{"five minutes ahead", head(mine, 5*time.Minute), nil},
		{"late", head(mine, -5*time.Minute-time.Second), ErrLate},
		{"early", head(mine, 5*time.Minute+time.Second), ErrEarly},
		{"somebody else's", head(theirs, 0), ErrForged},
		{"late and somebody else's", head(theirs, -time.Hour), ErrForged},
		{"another number", with(func(h *Head) { h.ID = "m2" }), ErrForged},
		{"another time", with(func(h *Head) { h.Timestamp = at(time.Second) }), ErrForged},
		{"another version", with(func(h *Head) { h.Signature = strings.Replace(h.Signature, "v1,", "v2,", 1) }), ErrForged},
		{"no version", with(func(h *Head) { h.Signature = strings.TrimPrefix(h.Signature, "v1,") }), ErrForged},
		{"empty signature", with(func(h *Head) { h.Signature = "v1," }), ErrForged},
		{"nothing", Head{}, ErrMissing},
		{"no number", with(func(h *Head) { h.ID = "" }), ErrMissing},
		{"a number of two lines", with(func(h *Head) { h.ID = "m1\nm2" }), ErrMalformed},
		{"a long number", with(func(h *Head) { h.ID = strings.Repeat("m", 201) }), ErrMalformed},
		{"a time with a sign", with(func(h *Head) { h.Timestamp = "+" + h.Timestamp }), ErrMalformed},
		{"a time with a point", with(func(h *Head) { h.Timestamp += ".5" }), ErrMalformed},
		{"a time in words", with(func(h *Head) { h.Timestamp = "now" }), ErrMalformed},
		{"too many signatures", with(func(h *Head) { h.Signature = strings.Repeat("v1,x ", 30) + h.Signature }), ErrMalformed},
	} {
		if err := Check([]Secret{mine, before}, c.head, body, noon); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", c.what, err, c.want)
		}
	}
	if err := Check([]Secret{mine}, head(mine, 0), append(body, ' '), noon); !errors.Is(err, ErrForged) {
		t.Errorf("another body: %v", err)
	}
	if err := Check(nil, head(mine, 0), body, noon); !errors.Is(err, ErrForged) {
		t.Errorf("without a secret: %v", err)
	}
	if err := Check([]Secret{{}}, Head{"m1", at(0), Secret{}.Sign("m1", noon, body)}, body, noon); err != nil {
		t.Fatal(err) // an empty secret is one that ReadSecret does not give
	}
}

func TestReadSecret(t *testing.T) {
	s := NewSecret()
	again, err := ReadSecret(" " + s.Text() + "\n")
	if err != nil || again != s || len(s.Text()) != len("whsec_")+44 {
		t.Errorf("%v, %q", err, s.Text())
	}
	for _, text := range []string{"", "whsec_", "whsec_c2hvcnQ=", "whsec_!", "whsec_" + strings.Repeat("QUFB", 30)} {
		if _, err := ReadSecret(text); err == nil || text != "" && strings.Contains(err.Error(), text) {
			t.Errorf("%q: %v", text, err)
		}
	}
	if text := s.String(); strings.Contains(text, s.key) || strings.Contains(text, "whsec_") {
		t.Errorf("it tells itself: %s", text)
	}
}

// Whatever stands in the fields, nothing is believed that was not signed with the secret.
func FuzzCheck(f *testing.F) {
	mine, theirs := NewSecret(), NewSecret()
	now := strconv.FormatInt(noon.Unix(), 10)
	f.Add("m1", now, theirs.Sign("m1", noon, []byte("{}")), []byte("{}"))
	f.Add("", "", "", []byte(nil))
	f.Add("m1", "9223372036854775807", "v1,", []byte("{"))
	f.Add("m.1", now, "v1,AAAA v1a,x", []byte("1.{}"))
	f.Fuzz(func(t *testing.T, id, at, signature string, body []byte) {
		if Check([]Secret{mine}, Head{id, at, signature}, body, noon) == nil {
			t.Errorf("believed: %q %q %q %q", id, at, signature, body)
		}
		if strings.Trim(id, "abcdefghijklmnopqrstuvwxyz_0123456789") == "" && id != "" && len(id) <= longestID {
			if err := Check([]Secret{theirs, mine}, Head{id, now, signature + " " + mine.Sign(id, noon, body)}, body, noon); err != nil &&
				!errors.Is(err, ErrMalformed) {
				t.Errorf("not believed: %q: %v", id, err)
			}
		}
	})
}
