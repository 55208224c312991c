package gomodule

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate"
)

func write(t *testing.T, path, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
}

func TestFind(t *testing.T) {
	root := t.TempDir()
	write(t, filepath.Join(root, "go.mod"), "// Bees.\nmodule bees.example/apiary // ours\n")
	below := filepath.Join(root, "a", "b")
	require.NoError(t, os.MkdirAll(below, 0o755))
	m, err := Find(below)
	require.NoError(t, err)
	assert.Equal(t, "bees.example/apiary/a/b", m.Path())
	write(t, filepath.Join(below, "go.mod"), "go 1.26.0\n")
	_, err = Find(below)
	require.ErrorContains(t, err, "names no module")
}

func TestMake(t *testing.T) {
	for folder, want := range map[string]string{"bees": "bees", "My Bees!": "my-bees", "蜂": "service", "widegate": "service"} {
		root := filepath.Join(t.TempDir(), folder)
		require.NoError(t, os.MkdirAll(root, 0o755))
		m, err := Make(root, "", widegate.Sources)
		require.NoError(t, err)
		assert.Equal(t, want, m.Path())
		found, err := Find(root)
		require.NoError(t, err)
		assert.Equal(t, m.Path(), found.Path())
	}
	_, err := Make(t.TempDir(), "../up", widegate.Sources)
	require.ErrorContains(t, err, "cannot be the name of a Go module")
}

func TestRequire(t *testing.T) {
	for name, c := range map[string]struct {
		before  string
		changed bool
	}{
		"missing": {"module bees\n\ngo 1.26.0\n", true},
		"older":   {"module bees\n\ngo 1.26.0\n\nrequire github.com/jackc/pgx/v5 v5.0.0 // ours\n", true},
		"newer":   {"module bees\n\ngo 1.26.0\n\nrequire github.com/jackc/pgx/v5 v5.999.0\n", false},
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "go.mod")
			write(t, file, c.before)
			m, err := Find(filepath.Dir(file))
			require.NoError(t, err)
			changed, err := m.Require("github.com/jackc/pgx/v5", Needs{}, widegate.Sources)
			require.NoError(t, err)
			assert.Equal(t, c.changed, changed)
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.Contains(t, string(text), "github.com/jackc/pgx/v5 v5.")
			assert.NotContains(t, string(text), "v5.0.0")
			again, err := m.Require("github.com/jackc/pgx/v5", Needs{}, widegate.Sources)
			require.NoError(t, err)
			assert.False(t, again)
		})
	}
	file := filepath.Join(t.TempDir(), "go.mod")
	write(t, file, "module bees\nrequire (\n")
	m, err := Find(filepath.Dir(file))
	require.NoError(t, err)
	_, err = m.Require("github.com/ncruces/go-sqlite3", Needs{}, widegate.Sources)
	require.ErrorContains(t, err, "go.mod cannot be read")
}

func TestTidyWithoutAToolchain(t *testing.T) {
	root := t.TempDir()
	m, err := Make(root, "bees", widegate.Sources)
	require.NoError(t, err)
	t.Setenv("PATH", root)
	require.ErrorIs(t, m.Tidy(t.Context()), ErrNoToolchain)
}
