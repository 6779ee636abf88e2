package main

import (
	"testing"

	"ostiarius/core/pattern"
)

// Every pattern of the program can be compiled: one that can't would be noticed only when it is first used.
func TestPatternsCompile(t *testing.T) {
	if n, err := pattern.Check(); err != nil || n < 100 {
		t.Errorf("%d patterns: %v", n, err)
	}
}
