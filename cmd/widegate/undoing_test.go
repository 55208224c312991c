package main

import (
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestUndoWalks walks at random through writes, edits, undos and redos. Every edit is
// there after each step; a step that ends with an error changed nothing; and what was
// not edited since is as it was before the write, or after it.
func TestUndoWalks(t *testing.T) {
	walks := 4
	if thorough {
		walks = 300
	}
	if n, err := strconv.Atoi(os.Getenv("WIDEGATE_WALKS")); err == nil {
		walks = n
	}
	result := &outcome{counts: map[string]int{}}
	start := startRepository(t)
	t.Run("walks", func(t *testing.T) {
		for i := range walks {
			t.Run(fmt.Sprint(i), func(t *testing.T) {
				t.Parallel()
				r := &repository{t, filepath.Join(t.TempDir(), "bees"), start.home}
				require.NoError(t, os.CopyFS(r.folder, os.DirFS(start.folder)))
				require.NoError(t, os.RemoveAll(filepath.Join(r.folder, ".widegate", "history"))) // made in another folder
				w := &walk{repository: r, random: rand.New(rand.NewPCG(uint64(i), 5)), schema: newApiary(), tokens: map[string]string{}, result: result}
				for range 9 {
					w.step()
				}
			})
		}
	})
	for _, line := range slices.Sorted(maps.Keys(result.counts)) {
		t.Logf("%s: %d", line, result.counts[line])
	}
}

// walk is a walk so far.
type walk struct {
	*repository
	random *rand.Rand
	schema *apiary
	tokens map[string]string // edits, by the files they were made in
	made   int
	result *outcome

	writes []moment // that are not taken back, the newest last
	undone []moment
}

// editedSince reports whether a file that a write changed is neither as it was before
// nor as it was after.
func editedSince(now map[string]string, m moment) bool {
	names := maps.Clone(m.before)
	maps.Copy(names, m.after)
	for name := range names {
		was, wasThere := m.before[name]
		is, isThere := m.after[name]
		text, there := now[name]
		if (was != is || wasThere != isThere) && (text != was || there != wasThere) && (text != is || there != isThere) {
			return true
		}
	}
	return false
}

// moment is the code before a write and after it.
type moment struct{ before, after map[string]string }

// code is all code and all records.
func (w *walk) code() map[string]string {
	w.t.Helper()
	files := map[string]string{}
	require.NoError(w.t, filepath.WalkDir(w.folder, func(at string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name, err := filepath.Rel(w.folder, at)
		if entry.IsDir() && (name == ".git" || name == filepath.Join(".widegate", "history")) {
			return filepath.SkipDir
		}
		if err != nil || entry.IsDir() || slices.Contains([]string{"lock", "fresh", "schema.sql", "go.mod", "go.sum"}, entry.Name()) {
			return err
		}
		text, err := os.ReadFile(at)
		files[name] = string(text)
		return err
	}))
	return files
}

func (w *walk) step() {
	w.t.Helper()
	switch n := w.random.IntN(10); {
	case n < 3:
		w.edit()
	case n < 6:
		w.change()
	case n < 8:
		w.undo(n == 7)
	default:
		w.redo(n == 9)
	}
	for token, file := range w.tokens {
		require.True(w.t, w.has(token), "%s of %s is gone", token, file)
	}
}

func (w *walk) edit() {
	w.t.Helper()
	token := fmt.Sprintf("Ours%d", w.made)
	e := branchEdits[w.random.IntN(len(branchEdits))]
	if w.random.IntN(3) == 0 && len(w.writes) > 0 { // in what the last write made
		for name := range w.writes[len(w.writes)-1].after {
			if _, old := w.writes[len(w.writes)-1].before[name]; !old && strings.HasPrefix(name, "store"+string(filepath.Separator)) && w.read(filepath.ToSlash(name)) != "" {
				e = branchEdit{filepath.ToSlash(name), "`json:\"id\"`", "`json:\"id\" xml:\"TOKEN\"`"}
			}
		}
	}
	if e.make(w.repository, token) {
		w.tokens[token] = e.file
		w.made++
		w.result.add("edit")
	}
}

// change changes the schema and writes.
func (w *walk) change() {
	w.t.Helper()
	before := w.code()
	was := w.schema.clone()
	w.made++
	schemaSteps[w.random.IntN(len(schemaSteps))](w.schema, fmt.Sprintf("n%d", w.made), w.random)
	w.write("schema.sql", w.schema.sql())
	out, status := w.run("widegate", "write", "--yes")
	if status == 3 {
		require.Equal(w.t, before, w.code(), out)
		w.schema = was
		w.write("schema.sql", was.sql())
		w.result.add("write waits for a decision")
		return
	}
	require.Zero(w.t, status, out)
	if strings.Contains(out, "Nothing to write") && maps.Equal(before, w.code()) {
		w.result.add("nothing to write")
		return
	}
	w.writes, w.undone = append(w.writes, moment{before, w.code()}), nil
	w.result.add("write")
}

func (w *walk) undo(merge bool) {
	w.t.Helper()
	w.back("undo", merge, &w.writes, &w.undone, func(m moment) (from, to map[string]string) { return m.after, m.before })
}

func (w *walk) redo(merge bool) {
	w.t.Helper()
	w.back("redo", merge, &w.undone, &w.writes, func(m moment) (from, to map[string]string) { return m.before, m.after })
}

// back takes a write back, or brings one back.
func (w *walk) back(what string, merge bool, from, to *[]moment, ends func(m moment) (map[string]string, map[string]string)) {
	w.t.Helper()
	args := []string{"undo"}
	if what == "redo" {
		args = append(args, "--redo")
	}
	if merge {
		args, what = append(args, "--merge"), what+" --merge"
	}
	before := w.code()
	out, status := w.run("widegate", args...)
	if len(*from) == 0 {
		require.NotZero(w.t, status, out)
		require.Equal(w.t, before, w.code(), out)
		w.result.add(what + " of nothing")
		return
	}
	m := (*from)[len(*from)-1]
	if status != 0 {
		require.Equal(w.t, before, w.code(), out)
		assert.True(w.t, editedSince(before, m), "%s failed though nothing was edited since\n%s", what, out)
		w.result.add(fmt.Sprintf("%s refused (%d)", what, status))
		return
	}
	*from, *to = (*from)[:len(*from)-1], append(*to, m)
	left, reached := ends(m)
	after := w.code()
	for name, text := range reached {
		if before[name] == left[name] {
			require.Equal(w.t, text, after[name], "%s: %s", what, name)
		}
	}
	for name := range left {
		if _, was := reached[name]; !was {
			require.NotContains(w.t, after, name, "%s left %s there, and said nothing", what, name)
		}
	}
	w.result.add(what)
}
