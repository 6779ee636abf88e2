package place_test

import (
	"fmt"

	"ostiarius/core/place"
)

func ExampleCanonical() {
	for _, raw := range []string{"/rota//2026/./plan%2Epdf", "/rota/", "/log/%2e%2e/office/", "/a%2Fb"} {
		path, slash, err := place.Canonical(raw, place.Rules{})
		if err != nil {
			fmt.Println(err)
			continue
		}
		fmt.Println(path, slash)
	}
	// Output:
	// /rota/2026/plan.pdf false
	// /rota true
	// /office true
	// path "/a%2Fb" at byte 2: an encoded slash; some programs read it as a separator and some do not
}

func sets(paths ...string) (all []place.Set) {
	for _, path := range paths {
		pattern, err := place.ParsePattern(path, place.Rules{})
		if err != nil {
			panic(err)
		}
		all = append(all, place.Set{Path: pattern})
	}
	return all
}

func ExampleMatcher_MostSpecific() {
	paths := []string{"/**", "/rota/**", "/rota/*.pdf", "/**/*.pdf"}
	m, _ := place.NewMatcher(sets(paths...))
	for _, address := range []string{"/log", "/rota/plan", "/rota/plan.pdf", "/rota/2026/plan.pdf"} {
		fmt.Print(address)
		for _, i := range m.MostSpecific(nil, &place.Place{Path: address, Method: "GET"}) {
			fmt.Print(" ", paths[i])
		}
		fmt.Println()
	}
	// Output:
	// /log /**
	// /rota/plan /rota/**
	// /rota/plan.pdf /rota/*.pdf
	// /rota/2026/plan.pdf /rota/** /**/*.pdf
}

func ExampleMatcher_Parts() {
	paths := []string{"/rota/**", "/rota/*.pdf", "/log"}
	m, _ := place.NewMatcher(sets(paths...))
	parts, err := m.Parts(1000)
	if err != nil {
		panic(err)
	}
	for _, part := range parts {
		fmt.Print(part.Example.Path)
		for _, i := range part.Covering {
			fmt.Print(" ", paths[i])
		}
		fmt.Println()
	}
	// Output:
	// /
	// /log /log
	// /rota /rota/**
	// /rota/.pdf /rota/** /rota/*.pdf
}
