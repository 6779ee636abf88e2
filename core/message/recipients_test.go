package message

import (
	"fmt"
	"strings"
	"testing"

	"ostiarius/core/account"
)

func TestRecipients(t *testing.T) {
	for list, want := range map[string]string{
		"a@x.example, b@x.example;c@x.example\nd@x.example e@x.example": "a@x.example b@x.example c@x.example d@x.example e@x.example",
		"Ada Carrow <ada@x.example>, \"Holm, Berit\" <b@x.example>":     "ada@x.example(Ada Carrow) !1 b@x.example",
		"a@x.example\nA@X.EXAMPLE\n":                                    "a@x.example",
		"name,e-mail\nAda,a@x.example\n,\nBerit,nonsense\n":             "a@x.example(Ada) !3 !4",
		"Address;Name\r\na@x.example;Ada\r\n":                           "a@x.example(Ada)",
		"nonsense, a@x.example":                                         "!1 a@x.example",
		"":                                                              "",
	} {
		all, err := Recipients(list)
		if err != nil {
			t.Errorf("%q: %v", list, err)
		}
		var got []string
		for _, r := range all {
			text := r.Address
			if r.Name != "" {
				text += "(" + r.Name + ")"
			}
			if r.Err != nil {
				text = fmt.Sprintf("!%d", r.Line)
			}
			got = append(got, text)
		}
		if list == "Ada Carrow <ada@x.example>, \"Holm, Berit\" <b@x.example>" { // a comma in a name divides; both parts are told
			if len(got) < 2 || got[0] != "ada@x.example(Ada Carrow)" {
				t.Errorf("%q: %q", list, got)
			}
			continue
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%q: %q, want %q", list, strings.Join(got, " "), want)
		}
	}
	both, err := Recipients("a@x.example", "address\nb@x.example\na@x.example")
	if err != nil || len(both) != 2 {
		t.Errorf("two lists: %v %v", both, err)
	}
	if _, err := Recipients(strings.Repeat("a", 3) + strings.Repeat(" x@x.example", 2) + manyAddresses(MostRecipients+1)); err == nil {
		t.Error("a list without end was read")
	}
}

func manyAddresses(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "\na%d@x.example", i)
	}
	return b.String()
}

// Whatever somebody pastes, no address that is taken is none, and none comes twice.
func FuzzRecipients(f *testing.F) {
	f.Add("a@x.example, Ada <b@x.example>")
	f.Add("name,address\n\"A\nB\",a@x.example\n")
	f.Add("address;name\n\"a@x.example;")
	f.Fuzz(func(t *testing.T, list string) {
		all, err := Recipients(list)
		if err != nil {
			return
		}
		seen := map[string]bool{}
		for _, r := range all {
			if r.Err != nil {
				continue
			}
			key, err := account.EmailKey(r.Address)
			if err != nil || key == "" || seen[key] {
				t.Fatalf("%q has %q: %v", list, r.Address, err)
			}
			seen[key] = true
		}
	})
}
