package merge

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/testdb"
)

func TestUnified(t *testing.T) {
	assert.Empty(t, Unified("a", "b", []byte("x\n"), []byte("x\n")))
	assert.Equal(t, "--- a\n+++ b\n@@ -1,2 +1,2 @@\n one\n-two\n+zwei\n", Unified("a", "b", []byte("one\ntwo\n"), []byte("one\nzwei\n")))
	assert.Equal(t, "--- a\n+++ b\n@@ -0,0 +1 @@\n+one\n\\ No newline at end of file\n", Unified("a", "b", nil, []byte("one")))
}

// TestUnifiedIsAPatch lets the patch tool bring one text to the other.
func TestUnifiedIsAPatch(t *testing.T) {
	patch, err := exec.LookPath("patch")
	if err != nil {
		testdb.Missing(t, "there is no patch tool", "install the package patch")
	}
	random := rand.New(rand.NewPCG(1, 2))
	for range 60 {
		var a, b []string
		for i := range 40 {
			line := fmt.Sprintf("line %d\n", random.IntN(12))
			switch random.IntN(6) {
			case 0:
				a = append(a, line)
			case 1:
				b = append(b, fmt.Sprintf("new %d\n", i))
			default:
				a, b = append(a, line), append(b, line)
			}
		}
		file := filepath.Join(t.TempDir(), "f")
		require.NoError(t, os.WriteFile(file, []byte(strings.Join(a, "")), 0o644))
		cmd := exec.Command(patch, "-s", file)
		cmd.Stdin = strings.NewReader(Unified("a", "b", []byte(strings.Join(a, "")), []byte(strings.Join(b, ""))))
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		got, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, strings.Join(b, ""), string(got))
	}
}
