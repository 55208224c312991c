package generate_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatMustNotCompile builds small programs with a mistake each. Their first
// line says what the compiler must tell a developer.
func TestWhatMustNotCompile(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	programs, err := filepath.Glob("testdata/mustnot/*.txt")
	require.NoError(t, err)
	require.Greater(t, len(programs), 10)
	for _, program := range programs {
		t.Run(strings.TrimSuffix(filepath.Base(program), ".txt"), func(t *testing.T) {
			text, err := os.ReadFile(program)
			require.NoError(t, err)
			first, _, _ := strings.Cut(string(text), "\n")
			want, ok := strings.CutPrefix(first, "// want: ")
			require.True(t, ok)
			at := filepath.Join(folder, "cmd", "wrong", "main.go")
			require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
			require.NoError(t, os.WriteFile(at, text, 0o644))
			build := exec.Command("go", "build", "-o", os.DevNull, "./cmd/wrong")
			build.Dir = folder
			said, err := build.CombinedOutput()
			require.Error(t, err, "it compiles")
			assert.Contains(t, string(said), want)
			assert.Equal(t, 1, strings.Count(string(said), "main.go:"), "there is the one mistake: %s", said)
		})
	}
}
