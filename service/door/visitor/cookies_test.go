package visitor

import (
	"net/http"
	"strconv"
	"testing"
)

// No cookie of ours is handed on to what is behind, and no other is held back.
func TestOwnCookies(t *testing.T) {
	for _, secure := range []bool{true, false} {
		names := []string{
			SessionCookie(secure), deviceCookie(secure), languageCookie(secure), bringCookie(secure), otherNameCookie(secure),
			WalkCookie(secure), knownCookie(secure),
			cookieName(unlockCookie, secure) + "press-kit", cookieName(passCookie, secure) + "k7qx3mpa2d",
		}
		for _, what := range carryings {
			names = append(names, cookieName(string(what), secure))
		}
		seen := map[string]bool{}
		for _, name := range names {
			if !OwnCookie(name) {
				t.Errorf("%s is handed on", name)
			}
			if seen[name] {
				t.Errorf("%s is there for two things", name)
			}
			seen[name] = true
		}
	}
	for _, name := range []string{"", "session", "app", "__Host-session", "__Host-", "ostiarius", "x-ostiarius-device", "sid"} {
		if OwnCookie(name) {
			t.Errorf("%q is held back", name)
		}
	}
}

// So many passes are looked at of what a browser sends, and none that comes twice.
func TestPassesOfARequestAreBounded(t *testing.T) {
	r, _ := http.NewRequest("GET", "/", nil)
	for i := range 100 {
		r.Header.Add("Cookie", cookieName(passCookie, false)+"p"+strconv.Itoa(i)+"=t"+strconv.Itoa(i))
	}
	if got := passTokens(r, false); len(got) != mostPasses || got[0] != "t0" {
		t.Errorf("%d: %v", len(got), got)
	}
	if got := passTokens(r, true); len(got) != 0 {
		t.Errorf("over HTTPS: %v", got)
	}
	r.Header.Add("Cookie", cookieName(passCookie, false)+"p0=t0")
	if got := passTokens(r, false); got[0] != "" || got[1] != "t1" {
		t.Errorf("twice: %v", got)
	}
}
