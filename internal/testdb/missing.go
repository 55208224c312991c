//go:build unix

package testdb

import (
	"fmt"
	"os"
	"testing"
)

// Missing ends a test for which something is not installed: in CI, where the
// variable CI is set, as failed. Elsewhere it is skipped, and a line is added to the
// file that WIDEGATE_SKIPPED names, so that a run can tell in the end what was left
// out, why, and what gets it.
func Missing(t testing.TB, what, how string) {
	t.Helper()
	if os.Getenv("CI") != "" {
		t.Fatalf("%s: %s", what, how)
	}
	LeftOut(t, what, how)
}

// LeftOut skips a test that only some runs make, and notes it likewise.
func LeftOut(t testing.TB, what, how string) {
	t.Helper()
	if path := os.Getenv("WIDEGATE_SKIPPED"); path != "" {
		f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY|os.O_CREATE, 0o600)
		if err == nil {
			fmt.Fprintf(f, "%s: %s; %s\n", t.Name(), what, how)
			err = f.Close()
		}
		if err != nil {
			t.Errorf("noting what is left out: %v", err)
		}
	}
	t.Skipf("%s: %s", what, how)
}
