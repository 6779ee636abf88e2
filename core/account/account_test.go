package account

import (
	"slices"
	"strings"
	"testing"
	"time"
)

func TestKey(t *testing.T) {
	for name, want := range map[string]string{
		"ines": "ines", "Ines": "ines", "ＩＮＥＳ": "ines", "Jose\u0301": "jos\u00e9", "ines@marram.example": "ines@marram.example",
		"tide-gauge": "tide-gauge",
	} {
		if got, err := Key(name); err != nil || got != want {
			t.Errorf("Key(%q) = %q, %v; want %q", name, got, err, want)
		}
	}
	for _, bad := range []string{"", " ", "a b", "a,b", "a+b", "a:b", "a/b", `a\b`, "a%b", "a\x00", "a\u202eb", string(make([]byte, 300)),
		"bob＠marram.example", "a／b", "a：b", "a，b", "a％b", "a？b", "a＃b", "a＼b", "a；b", "a＋b", ".", "..", "...", "．．", "(walk)", "(WALK)",
		"（walk）"} {
		if key, err := Key(bad); err == nil {
			t.Errorf("Key(%q) = %q", bad, key)
		}
	}
}

func TestRolesBeginAndEnd(t *testing.T) {
	noon := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	a := Account{Grants: []Grant{
		{Role: "keeper", From: noon}, {Role: "guide", From: noon, Until: noon.Add(time.Hour)}, {Role: "trustee", From: noon.Add(time.Hour)},
	}}
	for after, want := range map[time.Duration][]string{
		-time.Nanosecond: nil, 0: {"keeper", "guide"}, time.Hour - 1: {"keeper", "guide"}, time.Hour: {"keeper", "trustee"},
	} {
		if got := a.Roles(noon.Add(after)); !slices.Equal(got, want) {
			t.Errorf("after %v: %v, want %v", after, got, want)
		}
	}
}

// Names that look alike have one skeleton, and others have not.
func TestSkeleton(t *testing.T) {
	for _, alike := range [][]string{{"agnes", "аgnes", "agnes.", "ɑgnes", "a.gnes", "agnes-", "AGNES"}, {"walt", "wa1t"},
		{"bo0", "boo", "b0o"}} {
		want := ""
		for _, name := range alike {
			key, err := Key(name)
			if err != nil {
				t.Fatal(err)
			}
			if got := Skeleton(key); want == "" {
				want = got
			} else if got != want {
				t.Errorf("%q looks like %q, not %q", name, got, want)
			}
		}
	}
	for _, pair := range [][2]string{{"ines", "agnes"}, {"name2", "name3"}, {"bo", "bob"}, {"ines", "inés"}} {
		if Skeleton(pair[0]) == Skeleton(pair[1]) {
			t.Errorf("%v look alike", pair)
		}
	}
}

// Whatever a name is, its key is a name with the same key, and nothing that stands for something else.
func FuzzKey(f *testing.F) {
	for _, seed := range []string{"ines", "bob＠marram.example", "a／b", "..", "аgnes", "Jose\u0301", "ẞ", "İnes", "ﬁn", "(walk)"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, name string) {
		key, err := Key(name)
		if err != nil {
			return
		}
		if again, err := Key(key); err != nil || again != key {
			t.Errorf("%q has the key %q, which has the key %q (%v)", name, key, again, err)
		}
		if strings.ContainsAny(key, reserved) || strings.Trim(key, ".") == "" || key == Walking {
			t.Errorf("%q has the key %q", name, key)
		}
		if strings.Contains(key, "@") && !strings.Contains(name, "@") {
			t.Errorf("%q reads as an address: %q", name, key)
		}
	})
}
