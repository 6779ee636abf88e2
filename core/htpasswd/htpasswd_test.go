package htpasswd

import (
	"strings"
	"testing"

	"ostiarius/core/secret"
)

// Made with Debian's htpasswd and openssl, for the password "fog bell".
const file = `# the gate
bell-bcrypt:$2y$10$8I9LqZkpaVRWXy3kDzhBYOIE0kMQZGnd3M7q0kqKwTqAhvQkbVyuK

nobody
:empty
plain:secret-in-plain
des:rqXexS6ZhobKA
odd:$argon2d$x
long:$6$rounds=99999999$salt$IxDD3jeSOb5eB1CX5LBsqZFVkJdido3OUILO5Ifz5iwMuTS4XMS130MTSuDDl3aCI6WouIL9AjRbLCelDCy.g.
dear:$2y$31$8I9LqZkpaVRWXy3kDzhBYOIE0kMQZGnd3M7q0kqKwTqAhvQkbVyuK
plain:{SHA}W6ph5Mm5Pz8GgiULbPgzG37mj9g=
`

func TestRead(t *testing.T) {
	want := map[int]string{
		2: "bcrypt", 4: "no colon", 5: "empty", 6: "plain text", 7: "DES", 8: "not known", 9: "rounds", 10: "cost of 31", 11: "line 6 already",
	}
	for _, l := range Read([]byte(file)) {
		said := l.Kind
		if l.Err != nil {
			said = l.Err.Error()
			if strings.Contains(said, "secret") || l.Hash != "" && l.Number != 11 {
				t.Errorf("line %d shows %q %q", l.Number, said, l.Hash)
			}
		}
		if !strings.Contains(said, want[l.Number]) || want[l.Number] == "" {
			t.Errorf("line %d: %+v, want %q", l.Number, l, want[l.Number])
		}
		delete(want, l.Number)
	}
	if len(want) > 0 {
		t.Errorf("not found: %v", want)
	}
}

// Vectors from the specifications of the formats.
func TestVerify(t *testing.T) {
	for hash, password := range map[string]string{
		"$5$saltstring$5B8vYYiY.CVt1RlTTf8KbXBH3hsxY/GNooZaBBGWEc5":                                            "Hello world!",
		"$6$saltstring$svn8UoSVapNtMuq1ukKS4tPQd8iKwSMHWjl/O817G3uBnIFNjnQJuesI68u4OTLiBFdcbYEdFCoEOfaS35inz1": "Hello world!",
		"$2a$10$N9qo8uLOickgx2ZMRZoMyeIjZAgcfl7p92ldGxad68LJZdL17lhWy":                                         "",
		"{SHA}W6ph5Mm5Pz8GgiULbPgzG37mj9g=":                                                                    "password",
		"$apr1$r31.....$HqJZimcKQFAMYayBlzkrA/":                                                                "myPassword",
		secret.Hash("seven-brass-prisms", secret.Cost{Memory: 64, Passes: 1, Threads: 1}):                      "seven-brass-prisms",
	} {
		if password != "" && !Verify(hash, password) {
			t.Errorf("%s does not verify", hash)
		}
		if Verify(hash, password+"x") || Verify(hash, "") {
			t.Errorf("%s takes another password", hash)
		}
	}
	for _, hash := range []string{"", "plain", "rqXexS6ZhobKA", "$1$abc$def", "$2y$99$" + strings.Repeat("a", 53)} {
		if Verify(hash, hash) || Verify(hash, "") {
			t.Errorf("%q verifies", hash)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(file))
	f.Add([]byte("a:{SHA}W6ph5Mm5Pz8GgiULbPgzG37mj9g=:more\r\nb:$apr1$r31.....$HqJZimcKQFAMYayBlzkrA/"))
	f.Fuzz(func(t *testing.T, text []byte) {
		for _, l := range Read(text) {
			if l.Err != nil {
				continue
			}
			kind, weak := Kind(l.Hash)
			if l.Name == "" || strings.Contains(l.Name, ":") || kind != l.Kind || weak != l.Weak || l.Number < 1 {
				t.Fatalf("%+v", l)
			}
			if again := Read([]byte(l.Name + ":" + l.Hash)); !strings.HasPrefix(l.Name, "#") && !strings.HasPrefix(l.Name, "\ufeff") &&
				(len(again) != 1 || again[0].Err != nil || again[0].Hash != l.Hash) {
				t.Fatalf("%+v is read again as %+v", l, again)
			}
		}
	})
}
