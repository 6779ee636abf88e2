package policy_test

import (
	"net/netip"
	"reflect"
	"testing"
	"time"

	"ostiarius/core/policy"
)

func TestVisitorNotation(t *testing.T) {
	for _, who := range []string{
		"anonymous", "signed-in", "role:keeper", "role:keeper+device", "user:ines", "user:ines,role:keeper",
		"role:keeper,proof-age:5m,keyring:outer,shared:press-kit,pass:recordings,from:192.0.2.7",
		"anonymous,shared:a+b,from:2001:db8::1", "signed-in,proof-age:1h30m",
	} {
		v, err := policy.ParseVisitor(who)
		if err != nil || v.String() != who {
			t.Errorf("%s is read as %s, %v", who, v, err)
		}
	}
	v, err := policy.ParseVisitor("role:chief,proof-age:5m,from:192.0.2.7")
	want := policy.Visitor{SignedIn: true, Roles: []string{"chief"}, ProofAge: 5 * time.Minute, From: netip.MustParseAddr("192.0.2.7")}
	if err != nil || !reflect.DeepEqual(v, want) {
		t.Errorf("%+v, %v", v, err)
	}
	for _, bad := range []string{"", "nobody", "role:", "role:a++b", "role", "anonymous:x", "user:a,user:b", "proof-age:5m",
		"role:a,proof-age:-1m", "role:a,from:x", "role:a,anonymous", "role:a,,role:b", "user:a b"} {
		if v, err := policy.ParseVisitor(bad); err == nil {
			t.Errorf("%q was read as %s", bad, v)
		}
	}
}

func FuzzParseVisitor(f *testing.F) {
	f.Add("role:chief+robot,proof-age:5m,keyring:outer,from:192.0.2.7")
	f.Add("user:ann")
	f.Fuzz(func(t *testing.T, who string) {
		v, err := policy.ParseVisitor(who)
		if err != nil {
			return
		}
		again, err := policy.ParseVisitor(v.String())
		if err != nil || again.String() != v.String() {
			t.Fatalf("%q -> %q -> %q, %v", who, v, again, err)
		}
	})
}
