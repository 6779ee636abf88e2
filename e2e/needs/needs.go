// Package needs is for tests that need what not every machine has.
package needs

import (
	"os"
	"testing"
)

// Skip skips a test since something is missing here. Where all tests are to run (REQUIRE_ALL is set, as in CI), it fails.
func Skip(t testing.TB, format string, args ...any) {
	t.Helper()
	if os.Getenv("REQUIRE_ALL") != "" {
		t.Fatalf("all tests are to run (REQUIRE_ALL), and this one would be skipped: "+format, args...)
	}
	t.Skipf(format, args...)
}
