package secret

import (
	"encoding/base64"
	"math"
	"strings"
	"testing"

	"golang.org/x/crypto/argon2"
)

var quick = Cost{Memory: 64, Passes: 1, Threads: 1}

func TestHashVerifies(t *testing.T) {
	hash := Hash("fog-bell-at-night", quick)
	if !strings.HasPrefix(hash, "$argon2id$v=19$m=64,t=1,p=1$") {
		t.Errorf("hash %s", hash)
	}
	if !Verify(hash, "fog-bell-at-night") || Verify(hash, "fog-bell-at-nighT") || Verify(hash, "") {
		t.Error("verification is wrong")
	}
	if Hash("fog-bell-at-night", quick) == hash {
		t.Error("two hashes share a salt")
	}
	if !Verify(Hash("caf\u00e9-au-lait", quick), "cafe\u0301-au-lait") {
		t.Error("the form of an accent matters")
	}
}

// Vector of RFC 9106 form, made with the reference command line of argon2:
// password "password", salt "somesalt", -id -t 2 -k 65536 -p 1 -l 32.
func TestVerifyReadsTheReferenceFormat(t *testing.T) {
	const reference = "$argon2id$v=19$m=65536,t=2,p=1$c29tZXNhbHQ$CTFhFdXPJO1aFaMaO6Mm5c8y7cJHAph8ArZWb2GRPPc"
	if !Verify(reference, "password") || Verify(reference, "Password") {
		t.Error("the reference hash does not verify")
	}
}

func TestVerifyRefusesWhatItCannotRead(t *testing.T) {
	good := Hash("x", quick)
	for _, hash := range []string{
		"", "x", "$argon2i$" + good[10:], strings.Replace(good, "v=19", "v=18", 1), strings.Replace(good, "m=64", "m=99999999", 1),
		strings.Replace(good, "t=1", "t=0", 1), strings.Replace(good, "p=1", "p=0", 1), good[:len(good)-30], good + "$", good[:len(good)-1] + "!",
	} {
		if Verify(hash, "x") {
			t.Errorf("%q verifies", hash)
		}
	}
}

func TestToken(t *testing.T) {
	token, hash := NewToken()
	other, _ := NewToken()
	if got, ok := HashToken(token); !ok || got != hash || token == other || len(token) != 43 {
		t.Errorf("token %q: %v", token, ok)
	}
	for _, bad := range []string{"", "x", token + "A", token[:42], token[:42] + "!", token[:42] + "=", token[:42] + "\n",
		strings.Repeat("A", 42) + "B"} {
		if _, ok := HashToken(bad); ok {
			t.Errorf("%q is a token", bad)
		}
	}
}

func TestGenerateAndCheckNew(t *testing.T) {
	seen := map[string]bool{}
	for range 100 {
		p := Generate()
		if len(p) != 23 || CheckNew(p) != nil || seen[p] {
			t.Fatalf("generated %q", p)
		}
		seen[p] = true
	}
	words, err := GenerateWords(5)
	if err != nil || strings.Count(words, "-") < 4 || CheckNew(words) != nil {
		t.Errorf("generated %q, %v", words, err)
	}
	for password, good := range map[string]bool{
		"seven77": false, "xk7qmw2p": true, "ééééééé": false, "éàüöñçøå": true, "": false,
		strings.Repeat("kettle-moth-", 6): true, strings.Repeat("x", 64): false, strings.Repeat("q7 wn", 201): false,
		"password": false, "Passw0rd!": false, "qwertyuiop": false, "12345678": false, "aaaaaaaa": false, "abababab": false, "lighthouse": false,
		"Marram-Point-1": false, "ines.orkney": false, "orkney2026": false, "fog-bell-at-night": true,
	} {
		if err := CheckNew(password, "Marram Point Lighthouse Trust", "ines", "ines.orkney@marram.example"); (err == nil) != good {
			t.Errorf("%q: %v", password, err)
		}
	}
}

func TestRises(t *testing.T) {
	hash := Hash("x", quick)
	for cost, want := range map[Cost]bool{
		quick: false, {Memory: 128, Passes: 1, Threads: 1}: true, {Memory: 64, Passes: 2, Threads: 1}: true,
		{Memory: 32, Passes: 1, Threads: 1}: false,
	} {
		if Rises(hash, cost) != want {
			t.Errorf("%+v: %v", cost, !want)
		}
	}
	if !Rises("", quick) || !Rises("$2y$10$x", quick) {
		t.Error("another hash stays")
	}
}

// A hash from elsewhere may not ask for so much that each try stops the service.
func TestImportedHashesAreBounded(t *testing.T) {
	const rest = "$c29tZXNhbHQ$CTFhFdXPJO1aFaMaO6Mm5c8y7cJHAph8ArZWb2GRPPc"
	for asks, good := range map[string]bool{
		"m=19456,t=2,p=1": true, "m=65536,t=3,p=4": true, "m=262144,t=4,p=1": true, "m=64,t=10,p=1": true,
		"m=262145,t=1,p=1": false, "m=262144,t=5,p=1": false, "m=64,t=11,p=1": false, "m=64,t=1,p=5": false, "m=4194304,t=100,p=1": false,
		"m=4294967295,t=1,p=1": false, "m=19456,t=0,p=1": false,
	} {
		if err := CheckKept("$argon2id$v=19$"+asks+rest, DefaultCost); (err == nil) != good {
			t.Errorf("%s: %v", asks, err)
		}
	}
	if err := CheckKept("$argon2id$v=19$m=1048576,t=2,p=1"+rest, Cost{Memory: 1 << 20, Passes: 2, Threads: 1}); err != nil {
		t.Errorf("one as our own: %v", err)
	}
	if Verify("$argon2id$v=19$m=4194304,t=100,p=1"+rest, "x") {
		t.Error("it verifies")
	}
}

// Every letter of a long password counts (OWASP ASVS 5.0, 6.2.8).
func TestPasswordsAreNotCut(t *testing.T) {
	for _, n := range []int{8, 55, 56, 63, 64, 65, 71, 72, 73, 127, 128, 129, 255, 256, 1000} {
		long := strings.Repeat("k", n)
		hash := Hash(long, quick)
		for _, wrong := range []string{long[:n-1], long[:n-1] + "K", long + "k", "K" + long[1:], long[:n/2] + "K" + long[n/2+1:],
			" " + long, long + " ", strings.ToUpper(long)} {
			if Verify(hash, wrong) {
				t.Errorf("of %d letters, %d verify: %.10q...", n, len(wrong), wrong)
			}
		}
		if !Verify(hash, long) {
			t.Errorf("%d letters do not verify", n)
		}
	}
}

// A token has 256 random bits (OWASP ASVS 5.0, 7.2.3, wants 128): none is always the same, and none follows another.
func TestTokensAreRandom(t *testing.T) {
	const n = 4096
	seen, set := map[string]bool{}, [256]int{}
	same := [255]int{} // how often a bit is as the one before it
	for range n {
		token, _ := NewToken()
		raw, err := base64.RawURLEncoding.DecodeString(token)
		if err != nil || len(raw) != 32 || seen[token] {
			t.Fatalf("%q: %v", token, err)
		}
		seen[token] = true
		last := -1
		for i := range 256 {
			bit := int(raw[i/8] >> (i % 8) & 1)
			set[i] += bit
			if last == bit {
				same[i-1]++
			}
			last = bit
		}
	}
	for what, counts := range map[string][]int{"is set": set[:], "is as the one before it": same[:]} {
		for i, c := range counts {
			if c < n/2-320 || c > n/2+320 { // ten times the standard deviation
				t.Errorf("bit %d %s %d times of %d", i, what, c, n)
			}
		}
	}
}

// Equal compares whole texts.
func TestEqual(t *testing.T) {
	for _, test := range []struct {
		a, b string
		want bool
	}{
		{"", "", true}, {"a", "a", true}, {"a", "b", false}, {"a", "", false}, {"", "a", false}, {"ab", "abc", false}, {"abc", "ab", false},
		{"abc", "abd", false}, {"abc", "bbc", false}, {"abc", "acc", false}, {"ab", "ba", false}, {"\x00", "\x01", false},
		{"aa", "bb", false}, {"abc", "abc", true},
	} {
		if Equal(test.a, test.b) != test.want {
			t.Errorf("%q %q: %v", test.a, test.b, !test.want)
		}
	}
}

// What a hash is made of: OWASP's first choice for the cost, 128 bits of salt, 256 of the hash (RFC 9106, sections 3.1 and 4).
func TestWhatAHashIsMadeOf(t *testing.T) {
	if DefaultCost != (Cost{Memory: 19456, Passes: 2, Threads: 1}) {
		t.Errorf("%+v", DefaultCost)
	}
	k, ok := read(Hash("x", quick))
	if !ok || len(k.salt) != 16 || len(k.key) != 32 || k.cost != quick {
		t.Errorf("%+v", k)
	}
	for bytes, want := range map[int]bool{15: false, 16: true, 64: true, 65: false} {
		key := argon2.IDKey([]byte("x"), []byte("somesalt"), 1, 64, 1, uint32(bytes))
		hash := "$argon2id$v=19$m=64,t=1,p=1$c29tZXNhbHQ$" + base64.RawStdEncoding.EncodeToString(key)
		if Verify(hash, "x") != want {
			t.Errorf("one of %d bytes verifies: %v", bytes, !want)
		}
	}
	// However much is asked for, Verify computes no more than this.
	for cost, want := range map[Cost]bool{most: true, {1<<20 + 1, 1, 1}: false, {64, 21, 1}: false, {64, 1, 17}: false} {
		if cost.within(Cost{Memory: 1 << 20, Passes: 20, Threads: 16}) != want || cost.within(most) != want {
			t.Errorf("%+v is within the bound: %v", cost, !want)
		}
	}
	if kind, asks, ok := Asks(Hash("x", quick)); kind != "argon2id" || asks != quick || !ok {
		t.Error(kind, asks, ok)
	}
	if _, _, ok := Asks("$argon2id$v=19$m=64,t=1$c29tZXNhbHQ$CTFhFdXPJO1aFaMaO6Mm5c8y7cJHAph8ArZWb2GRPPc"); ok {
		t.Error("a hash that lacks a part is read")
	}
	if _, ok := read("$argon2id$v=19$m=64,t=1,p=1,x=2$c29tZXNhbHQ$!"); ok {
		t.Error("a hash that is no Base64 is read")
	}
	err := CheckKept("$argon2id$v=19$m=524288,t=11,p=1$c29tZXNhbHQ$CTFhFdXPJO1aFaMaO6Mm5c8y7cJHAph8ArZWb2GRPPc", DefaultCost)
	if err == nil || !strings.Contains(err.Error(), "asks for 512 MiB and 11 passes; at most 256 MiB, 10 passes") {
		t.Error(err)
	}
}

// A password has at most 1,000 bytes, of which each counts.
func TestTheLongestPassword(t *testing.T) {
	long := strings.Repeat("q7wn-", 200)
	if err := CheckNew(long); err != nil || !Verify(Hash(long, quick), long) {
		t.Errorf("1,000 bytes: %v", err)
	}
	if err := CheckNew(long + "x"); err == nil || err.(*Unfit).Why != "long" || Verify(Hash(long+"x", quick), long+"x") {
		t.Errorf("1,001 bytes: %v", err)
	}
}

// Generated passwords have the characters and the groups that are asked for.
func TestGenerateCharacters(t *testing.T) {
	for _, length := range []int{LeastGenerated, 11, 24, MostGenerated} {
		var plain, all strings.Builder
		for range 200 {
			p := GenerateCharacters(length, true)
			groups := strings.Split(p, "-")
			for i, group := range groups {
				if len(group) != 5 && i < len(groups)-1 || len(group) == 0 || len(group) > 5 {
					t.Fatalf("%q", p)
				}
			}
			if len(strings.ReplaceAll(p, "-", "")) != length || strings.Trim(p, readable+"-") != "" {
				t.Fatalf("%q", p)
			}
			plain.WriteString(p)
			p = GenerateCharacters(length, false)
			if len(p) != length || strings.Trim(p, printable) != "" {
				t.Fatalf("%q", p)
			}
			all.WriteString(p)
		}
		for _, c := range readable {
			if !strings.ContainsRune(plain.String(), c) {
				t.Errorf("%c is never among the plain ones", c)
			}
		}
		for _, c := range printable {
			if !strings.ContainsRune(all.String(), c) {
				t.Errorf("%c is never among all", c)
			}
		}
	}
	if LeastGenerated != 10 || MostGenerated != 64 {
		t.Error("about 56 bits at least, and what every form takes at most")
	}
}

// The word for a strength changes where it is said to.
func TestWordsForStrengths(t *testing.T) {
	for bits, want := range map[float64]string{
		0: "refused", 19.9: "refused", 20: "weak", 29.9: "weak", 30: "fair", 39.9: "fair", 40: "good", 54.9: "good", 55: "strong", 200: "strong",
	} {
		if got := wordFor(bits, 8); got != want {
			t.Errorf("%v bits: %s", bits, got)
		}
		if got := wordFor(bits, 7); got != "refused" {
			t.Errorf("%v bits in seven characters: %s", bits, got)
		}
	}
}

// Names of the place, repeated characters and what is beyond the first 64 characters make no password stronger.
func TestEstimate(t *testing.T) {
	bits := func(password string, context ...string) float64 { return Estimate(password, context...).Bits }
	for what, test := range map[string]struct{ weaker, stronger float64 }{
		"a name of the place":          {bits("marrampoint-kq", "Marram Point"), bits("marrampoint-kq")},
		"two of them, and little else": {bits("Marram-Point-k7", "marram point"), bits("k7q-x3m-Point-k7", "marram")},
		"a name of three letters":      {bits("k7q-m3pa-k7q-d4f-k7q", "k7q"), bits("k7q-m3pa-k7q-d4f-k7q")},
		"few letters":                  {bits("zqzqzqzqzqzq"), bits("zqxjvkwpyfgh")},
	} {
		if test.weaker >= test.stronger {
			t.Errorf("%s: %v bits, and %v without", what, test.weaker, test.stronger)
		}
	}
	for what, test := range map[string]struct{ one, other float64 }{
		"a name of two letters":       {bits("k7qx-m3pa-2d4f", "m3 4f"), bits("k7qx-m3pa-2d4f")},
		"an accent typed in two ways": {bits("caf\u00e9-kettle-moth"), bits("cafe\u0301-kettle-moth")},
		"more than 64 characters": {bits(strings.Repeat("k7qx-m3pa-2d4f-h8wz-", 4)[:64]),
			bits(strings.Repeat("k7qx-m3pa-2d4f-h8wz-", 4))},
		"four letters beside names":       {bits("marrammarramkqxz", "marram"), 16},
		"those letters between dashes":    {bits("marram-kqxz-marram!", "marram"), 16},
		"one letter, eleven times":        {bits("zzzzzzzzzzz"), 6},
		"two letters that take turns":     {math.Min(12, bits("zqzqzqzqzqzqzqzqzqzqzq")), bits("zqzqzqzqzqzqzqzqzqzqzq")},
		"a tenth of a bit, and not finer": {bits("kettle-moth-anvil") * 10, math.Round(bits("kettle-moth-anvil") * 10)},
	} {
		if test.one != test.other {
			t.Errorf("%s: %v bits, want %v", what, test.one, test.other)
		}
	}
}
