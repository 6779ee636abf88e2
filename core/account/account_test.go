package account

import (
	"slices"
	"testing"
	"time"
)

func TestKey(t *testing.T) {
	for name, want := range map[string]string{"ines": "ines", "Ines": "ines", "ＩＮＥＳ": "ines", "Jose\u0301": "jos\u00e9", "ines@marram.example": "ines@marram.example", "tide-gauge": "tide-gauge"} {
		if got, err := Key(name); err != nil || got != want {
			t.Errorf("Key(%q) = %q, %v; want %q", name, got, err, want)
		}
	}
	for _, bad := range []string{"", " ", "a b", "a,b", "a+b", "a:b", "a/b", `a\b`, "a%b", "a\x00", "a\u202eb", string(make([]byte, 300))} {
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
