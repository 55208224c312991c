package merge

import (
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestCases merges the folders base, mine and theirs of each archive. They must
// give the folder want, or the conflicts that the file of that name lists as
// class and place; notices lists words that the notices must have.
func TestCases(t *testing.T) {
	archives, err := filepath.Glob("testdata/cases/*.txtar")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(archives), 150)
	for _, archive := range archives {
		t.Run(strings.TrimSuffix(filepath.Base(archive), ".txtar"), func(t *testing.T) {
			t.Parallel()
			runCase(t, archive)
		})
	}
}

func runCase(t *testing.T, archive string) {
	trees := map[string]Tree{"base": {}, "mine": {}, "theirs": {}, "want": {}}
	single := map[string]string{}
	a, err := txtar.ParseFile(archive)
	require.NoError(t, err)
	for _, f := range a.Files {
		folder, name, _ := strings.Cut(f.Name, "/")
		if tree, ok := trees[folder]; ok {
			tree[name] = unescaped(f.Data)
			continue
		}
		single[f.Name] = string(f.Data)
	}
	options := &Options{Module: "bees"}
	if text, ok := single["options.json"]; ok {
		require.NoError(t, json.Unmarshal([]byte(text), options))
	}
	options.Root = t.TempDir()
	result := Trees(t.Context(), trees["base"], trees["mine"], trees["theirs"], options)

	var conflicts []string
	for _, c := range result.Conflicts {
		conflicts = append(conflicts, c.Class+" "+c.Place())
		assert.NotEmpty(t, c.Message)
	}
	require.Equal(t, strings.TrimSpace(single["conflicts"]), strings.Join(conflicts, "\n"), "%v", result.Conflicts)
	if len(conflicts) > 0 {
		return
	}
	got := maps.Clone(trees["mine"])
	for name, text := range result.Changed {
		if text == nil {
			delete(got, name)
			continue
		}
		got[name] = text
	}
	assert.Equal(t, slices.Sorted(maps.Keys(trees["want"])), slices.Sorted(maps.Keys(got)))
	for name, text := range trees["want"] {
		assert.Equal(t, string(text), string(got[name]), name)
	}
	for word := range strings.FieldsSeq(single["notices"]) {
		assert.Contains(t, fmt.Sprint(result.Notices), word)
	}
	if single["notices"] == "" {
		assert.Empty(t, result.Notices)
	}
}

// unescaped makes the characters that an archive cannot show.
func unescaped(text []byte) []byte {
	return []byte(strings.NewReplacer("␍", "\r", "␀BOM", "\ufeff", "␀<", "<", "␀>", ">").Replace(string(text)))
}
