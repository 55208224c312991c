package generate_test

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/cli"
)

var update = flag.Bool("update", false, "write the golden copy of the generated demo anew")

const golden = "../../examples/beekeeping/service"

// The runtime is in this repository already. Of the copy that a project gets, the
// golden copy keeps the sums, in the form that sha256sum checks.
const (
	runtimeFolder = "store/gate/"
	runtimeSums   = "runtime.sha256"
)

// summed puts the sums of the runtime in place of its files.
func summed(files map[string]string) map[string]string {
	var sums []string
	kept := map[string]string{}
	for name, text := range files {
		if !strings.HasPrefix(name, runtimeFolder) {
			kept[name] = text
			continue
		}
		sums = append(sums, fmt.Sprintf("%x  %s\n", sha256.Sum256([]byte(text)), name))
	}
	if len(sums) > 0 {
		slices.SortFunc(sums, func(a, b string) int { return cmp.Compare(a[64:], b[64:]) })
		kept[runtimeSums] = strings.Join(sums, "")
	}
	return kept
}

// TestGoldenCopy compares what the generator writes for the demo with the copy
// in this folder.
func TestGoldenCopy(t *testing.T) {
	if *update {
		require.NoError(t, os.RemoveAll(golden))
		var out bytes.Buffer
		require.Equal(t, 0, cli.Run([]string{"demo", "--folder", golden, "--no-start"}, nil, &out, &out), out.String())
		for _, own := range []string{"bees.db", filepath.Join(".widegate", "base"), filepath.Join(".widegate", "lock"), filepath.Join(".widegate", "fresh"), filepath.Join(".widegate", "history")} {
			require.NoError(t, os.RemoveAll(filepath.Join(golden, own)))
		}
		sums := summed(readTree(t, golden))[runtimeSums]
		require.NoError(t, os.RemoveAll(filepath.Join(golden, filepath.FromSlash(runtimeFolder))))
		require.NoError(t, os.WriteFile(filepath.Join(golden, runtimeSums), []byte(sums), 0o644))
		return
	}
	want, got := readTree(t, golden), summed(readTree(t, makeDemo(t, "sqlite")))
	require.Greater(t, strings.Count(got[runtimeSums], "\n"), 20)
	for name, text := range got {
		if assert.Contains(t, want, name, "the generator writes a file that the golden copy lacks") {
			assert.Equal(t, want[name], text, "%s differs; `make golden` writes the copy anew", name)
		}
	}
	for name := range want {
		assert.Contains(t, got, name, "the generator does not write this file")
	}
}

// readTree reads all files of a folder but the databases and what the ledger
// keeps for merging.
func readTree(t *testing.T, root string) map[string]string {
	t.Helper()
	files := map[string]string{}
	require.NoError(t, filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name, _ := filepath.Rel(root, path)
		if at := filepath.ToSlash(name); entry.IsDir() && (at == ".widegate/base" || at == ".widegate/history") {
			return fs.SkipDir
		}
		if entry.IsDir() || strings.HasPrefix(name, "bees.db") || entry.Name() == "lock" || entry.Name() == "fresh" {
			return nil
		}
		text, err := os.ReadFile(path)
		files[filepath.ToSlash(name)] = string(text)
		return err
	}))
	return files
}
