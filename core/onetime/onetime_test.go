package onetime

import (
	"net/url"
	"strings"
	"testing"
	"time"
)

// RFC 6238, appendix B, for SHA-1, and RFC 4226, appendix D.
func TestVectors(t *testing.T) {
	secret := []byte("12345678901234567890")
	for at, want := range map[int64]string{
		59: "94287082", 1111111109: "07081804", 1111111111: "14050471", 1234567890: "89005924", 2000000000: "69279037", 20000000000: "65353130",
	} {
		if got := At(secret, Step(time.Unix(at, 0)), 8); got != want {
			t.Errorf("at %d: %s, want %s", at, got, want)
		}
	}
	for step, want := range []string{"755224", "287082", "359152", "969429", "338314", "254676", "287922", "162583", "399871", "520489"} {
		if got := At(secret, int64(step), 6); got != want {
			t.Errorf("step %d: %s, want %s", step, got, want)
		}
	}
}

func TestEachCodeOnceAndOnlyAboutNow(t *testing.T) {
	secret, now := NewSecret(), time.Unix(1_800_000_000, 0)
	for _, test := range []struct {
		steps, latest int64 // of the code from now, and of the latest taken
		ok            bool
	}{{0, -9, true}, {-1, -9, true}, {1, -9, true}, {2, -9, false}, {-2, -9, false}, {0, 0, false}, {-1, 0, false}, {1, 0, true},
		{0, -1, true}} {
		step, ok := Find(secret, At(secret, Step(now)+test.steps, Digits), now, Step(now)+test.latest)
		if ok != test.ok || ok && step != Step(now)+test.steps {
			t.Errorf("%+v: %v at %d", test, ok, step-Step(now))
		}
	}
	code := At(secret, Step(now), Digits)
	for typed, ok := range map[string]bool{
		code[:3] + " " + code[3:]: true, " " + code: true, code + "0": false, code[:5]: false, "": false, "aaaaaa": false,
	} {
		if _, got := Find(secret, typed, now, 0); got != ok {
			t.Errorf("%q: %v", typed, got)
		}
	}
}

func TestAddress(t *testing.T) {
	u, err := url.Parse(Address([]byte("12345678901234567890"), "Marram: Point & Co", "ines"))
	if err != nil || u.Scheme != "otpauth" || u.Host != "totp" || u.Path != "/Marram  Point & Co:ines" ||
		u.Query().Get("issuer") != "Marram  Point & Co" || u.Query().Get("secret") != "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ" {
		t.Errorf("%s %v", u, err)
	}
	if strings.Contains(u.String(), "+") {
		t.Errorf("%s: some apps read a plus as it is", u)
	}
}

func TestKeptCodes(t *testing.T) {
	codes, hashes := NewKept()
	seen := map[string]bool{}
	for i, code := range codes {
		if seen[code] || len(code) != 29 || IsCode(code) {
			t.Errorf("%q", code)
		}
		seen[code] = true
		for _, typed := range []string{code, strings.ToUpper(code), strings.ReplaceAll(code, "-", ""), " " + strings.ReplaceAll(code, "-", " ")} {
			if HashKept(typed) != hashes[i] {
				t.Errorf("%q is not %q", typed, code)
			}
		}
	}
	if len(codes) != Kept || HashKept(codes[0]) == HashKept(codes[1]) {
		t.Errorf("%d codes", len(codes))
	}
}
