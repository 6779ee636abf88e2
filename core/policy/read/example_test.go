package read_test

import (
	"fmt"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

const doors = `
roles: { volunteer: , keeper: { includes: [volunteer] } }
doors:
  - { path: /**, admit: public }
  - { path: /rota/**, admit: { role: volunteer } }
  - { path: /rota/pay/**, admit: { role: keeper }, otherwise: hide }
`

func ExampleBook_Decide() {
	book, findings := read.Parse("doors.yaml", []byte(doors))
	if book == nil {
		fmt.Println(findings)
		return
	}
	for _, who := range []string{"anonymous", "role:volunteer", "role:keeper"} {
		visitor, err := policy.ParseVisitor(who)
		if err != nil {
			fmt.Println(err)
			return
		}
		for _, path := range []string{"/tides", "/rota/", "/rota/pay/"} {
			d := book.Decide(policy.Request{Method: "GET", Path: path}, &visitor)
			fmt.Println(who, path, d.Outcome)
		}
	}
	// Output:
	// anonymous /tides admit
	// anonymous /rota/ challenge
	// anonymous /rota/pay/ hide
	// role:volunteer /tides admit
	// role:volunteer /rota/ admit
	// role:volunteer /rota/pay/ hide
	// role:keeper /tides admit
	// role:keeper /rota/ admit
	// role:keeper /rota/pay/ admit
}

func ExampleParse() {
	_, findings := read.Parse("doors.yaml", []byte("doors:\n  - { path: /rota/**, admit: { rol: keeper } }\n"))
	for _, f := range findings {
		fmt.Printf("%s:%d:%d: %s\n", f.File, f.Line, f.Column, f.Message)
	}
	// Output:
	// doors.yaml:2:32: unknown key "rol" in a demand; did you mean "role"?
}
