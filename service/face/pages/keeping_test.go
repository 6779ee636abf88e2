package pages

import (
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"
)

func TestWhatIsKeptComesOutOnce(t *testing.T) {
	t.Parallel()
	k, now := newKeeping(), time.Unix(1_800_000_000, 0)
	const host, address, body = "marram.example", "/log/new?day=2", "entry=lamp+lit&x=%C3%A9%0D%0A"
	fresh := func() string { return k.put("ines", host, address, body, now) }
	if a, b := fresh(), fresh(); a == b || strings.Contains(a, "lamp") {
		t.Errorf("%s, %s", a, b)
	}
	once := fresh()
	if to, what, ok := k.take("ines", host, once, now); !ok || to != address || what != body {
		t.Errorf("%q %q %v", to, what, ok)
	}
	for why, take := range map[string]func(sealed string) (string, string, bool){
		"twice":          func(string) (string, string, bool) { return k.take("ines", host, once, now) },
		"another person": func(s string) (string, string, bool) { return k.take("tobias", host, s, now) },
		"another host":   func(s string) (string, string, bool) { return k.take("ines", "evil.example", s, now) },
		"too late":       func(s string) (string, string, bool) { return k.take("ines", host, s, now.Add(formKeptFor)) },
		"another key":    func(s string) (string, string, bool) { return newKeeping().take("ines", host, s, now) },
		"changed": func(s string) (string, string, bool) {
			return k.take("ines", host, s[:40]+string('A'+(s[40]-'A'+1)%26)+s[41:], now)
		},
		"cut":     func(s string) (string, string, bool) { return k.take("ines", host, s[:len(s)-4], now) },
		"nothing": func(string) (string, string, bool) { return k.take("ines", host, "", now) },
	} {
		if to, what, ok := take(fresh()); ok || to != "" || what != "" {
			t.Errorf("%s: %q %q", why, to, what)
		}
	}
	now = now.Add(2 * formKeptFor)
	if _, _, ok := k.take("ines", host, fresh(), now); !ok || len(k.out) != 1 {
		t.Errorf("%d that came out are remembered for ever", len(k.out))
	}
}

func TestFieldsThatCanBeSentAgain(t *testing.T) {
	t.Parallel()
	for body, want := range map[string][]typed{
		"a=1&b=x+y&a=2":          {{"a", "1"}, {"b", "x y"}, {"a", "2"}},
		"entry=one%0D%0Atwo&go=": {{"entry", "one\r\ntwo"}, {"go", ""}},
		"q=%22%3C%26%C3%BC%09":   {{"q", "\"<&ü\t"}},
		"submit=now&id=send-on":  {{"submit", "now"}, {"id", "send-on"}},
		"":                       nil, "=x": nil, "a=1&": nil, "a=%zz": nil, "a=%0A": nil, "a=%0D": nil, "a=%00": nil, "a=%FF": nil,
		"_charset_=x": nil, "a=%1B": nil, "a%0Ab=1": nil,
	} {
		if got, ok := fieldsOf(body); !slices.Equal(got, want) && want != nil || ok != (want != nil) {
			t.Errorf("%q: %v %v, want %v", body, got, ok, want)
		}
	}
}

// What is read of a form is what every other reader sees in it, in its order.
func FuzzFieldsOf(f *testing.F) {
	for _, seed := range []string{"a=1&b=2&a=3", "x=%0D%0A+%2B", "a;b=1", "%61=%C3%A9", "=", "&&", "a=%"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, body string) {
		fields, ok := fieldsOf(body)
		if !ok {
			return
		}
		values, err := url.ParseQuery(body)
		if strings.Contains(body, ";") { // which that reader refuses
			return
		}
		if err != nil {
			t.Fatalf("%q: %v", body, err)
		}
		again, n := url.Values{}, 0
		for _, f := range fields {
			again.Add(f.Name, f.Value)
		}
		for name := range values {
			n += len(values[name])
		}
		if again.Encode() != values.Encode() || n != len(fields) {
			t.Fatalf("%q is %v, want %v", body, again, values)
		}
	})
}
