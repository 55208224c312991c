package apply

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/fault"
)

func write(t *testing.T, root, name, text string) {
	t.Helper()
	path := filepath.Join(root, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o640))
}

// tree reads all files below root but the state folder.
func tree(t *testing.T, root string) map[string]string {
	t.Helper()
	files := map[string]string{}
	require.NoError(t, filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() {
			if entry.Name() == ".state" {
				return fs.SkipDir
			}
			return nil
		}
		text, err := os.ReadFile(path)
		name, _ := filepath.Rel(root, path)
		files[filepath.ToSlash(name)] = string(text)
		return err
	}))
	return files
}

func open(t *testing.T, root string) *Store {
	t.Helper()
	s, _, err := Open(root, ".state")
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func TestRunUndoRedo(t *testing.T) {
	root := t.TempDir()
	write(t, root, "a/kept.go", "kept")
	write(t, root, "a/changed.go", "old")
	write(t, root, "gone/gone.go", "gone")
	before := tree(t, root)
	s := open(t, root)
	_, _, err := Open(root, ".state")
	require.ErrorContains(t, err, fmt.Sprintf("another run (process %d) is at work", os.Getpid()))

	require.NoError(t, s.Run(t.Context(), KindWrite, []Change{
		{Path: "gone/gone.go", Old: []byte("gone"), Mode: 0o640},
		{Path: "a/changed.go", Old: []byte("old"), New: []byte("new"), Mode: 0o640},
		{Path: "b/c/added.go", New: []byte("added")},
	}))
	after := map[string]string{"a/kept.go": "kept", "a/changed.go": "new", "b/c/added.go": "added"}
	assert.Equal(t, after, tree(t, root))
	info, err := os.Stat(filepath.Join(root, "a/changed.go"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o640), info.Mode().Perm(), "a file keeps its mode")

	require.NoError(t, s.Run(t.Context(), KindWrite, []Change{{Path: "a/changed.go", Old: []byte("new"), New: []byte("newer"), Mode: 0o640}}))
	undo := func(redo bool) *Entry {
		e, err := s.Undo(t.Context(), redo, nil, nil)
		require.NoError(t, err)
		return e
	}
	undo(false)
	assert.Equal(t, after, tree(t, root))
	e := undo(false)
	assert.Equal(t, []int{1, 1, 1}, []int{e.New, e.Changed, e.Removed})
	assert.Equal(t, before, tree(t, root))
	_, err = s.Undo(t.Context(), false, nil, nil)
	require.ErrorContains(t, err, "no write to take back")
	undo(true)
	assert.Equal(t, after, tree(t, root))
	undo(true)
	assert.Equal(t, "newer", tree(t, root)["a/changed.go"])
	_, err = s.Undo(t.Context(), true, nil, nil)
	require.ErrorContains(t, err, "no undo to take back")

	list, err := s.History(func(string) bool { return true })
	require.NoError(t, err)
	assert.Len(t, list, 6)
}

func TestUndoOfAnEditedFile(t *testing.T) {
	root := t.TempDir()
	write(t, root, "a.go", "old")
	s := open(t, root)
	require.NoError(t, s.Run(t.Context(), KindWrite, []Change{{Path: "a.go", Old: []byte("old"), New: []byte("new"), Mode: 0o640}}))
	write(t, root, "a.go", "new and edited")
	_, err := s.Undo(t.Context(), false, nil, nil)
	require.ErrorContains(t, err, "changed since the write: a.go")
	assert.Contains(t, fault.Next(err), "--merge")
	_, err = s.Undo(t.Context(), false, func(files map[string]Versions) (map[string][]byte, error) {
		assert.Equal(t, map[string]Versions{"a.go": {[]byte("new"), []byte("new and edited"), []byte("old")}}, files)
		return map[string][]byte{"a.go": []byte("old and edited")}, nil
	}, nil)
	require.NoError(t, err)
	assert.Equal(t, "old and edited", tree(t, root)["a.go"])
}

func TestWhatChangedMeanwhileStopsAll(t *testing.T) {
	root := t.TempDir()
	write(t, root, "a.go", "old")
	write(t, root, "b.go", "edited since")
	s := open(t, root)
	err := s.Run(t.Context(), KindWrite, []Change{
		{Path: "a.go", Old: []byte("old"), New: []byte("new")}, {Path: "b.go", Old: []byte("old"), New: []byte("new")},
	})
	require.EqualError(t, err, "b.go changed on disk meanwhile; nothing was written")
	assert.Equal(t, map[string]string{"a.go": "old", "b.go": "edited since"}, tree(t, root))
	names, err := os.ReadDir(filepath.Join(root, ".state"))
	require.NoError(t, err)
	assert.Len(t, names, 1, "only the lock is left")
}

func TestHistoryIsPruned(t *testing.T) {
	root := t.TempDir()
	s := open(t, root)
	was := []byte(nil)
	for i := range keptWrites + 5 {
		now := []byte(fmt.Sprint(i))
		require.NoError(t, s.Run(t.Context(), KindWrite, []Change{{Path: "a.go", Old: was, New: now}}))
		_, err := s.Undo(t.Context(), false, nil, nil)
		require.NoError(t, err)
		_, err = s.Undo(t.Context(), true, nil, nil)
		require.NoError(t, err)
		was = now
	}
	list, err := s.History(func(string) bool { return true })
	require.NoError(t, err)
	writes := slices.DeleteFunc(list, func(e Entry) bool { return e.Kind != KindWrite })
	require.Len(t, writes, keptWrites, "what took them back does not count")
	for range keptWrites {
		_, err := s.Undo(t.Context(), false, nil, nil)
		require.NoError(t, err)
	}
}

const manyFiles = 120

func changes(from, to string) []Change {
	var list []Change
	for i := range manyFiles {
		list = append(list, Change{Path: fmt.Sprintf("folder%d/file%d.go", i%7, i), Old: fmt.Appendf(nil, "%s %d", from, i), New: fmt.Appendf(nil, "%s %d", to, i), Mode: 0o640})
	}
	return list
}

// TestKilled kills processes at random moments. After the next run has begun,
// the files are wholly those of before or those of after.
func TestKilled(t *testing.T) {
	if root := os.Getenv("APPLY_TEST_ROOT"); root != "" {
		s := open(t, root)
		fmt.Println("begun")
		require.NoError(t, s.Run(t.Context(), KindWrite, changes("old", "new")))
		return
	}
	self, err := os.Executable()
	require.NoError(t, err)
	counts := map[string]int{}
	for try := range 24 {
		root := t.TempDir()
		for _, c := range changes("old", "new") {
			write(t, root, c.Path, string(c.Old))
		}
		before := tree(t, root)
		cmd := exec.Command(self, "-test.run", "^TestKilled$")
		cmd.Env = append(os.Environ(), "APPLY_TEST_ROOT="+root)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		_, err = out.Read(make([]byte, 6))
		require.NoError(t, err)
		time.Sleep(time.Duration(try) * 4 * time.Millisecond)
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait() // it was killed
		s := open(t, root)
		require.NoError(t, s.Close())
		after := tree(t, root)
		if strings.HasPrefix(after["folder0/file0.go"], "old") {
			counts["old"]++
			assert.Equal(t, before, after)
			continue
		}
		counts["new"]++
		for _, c := range changes("old", "new") {
			assert.Equal(t, string(c.New), after[c.Path])
		}
	}
	t.Logf("%v", counts)
}

// TestWithoutExchange makes replacements by links, on the real disk.
func TestWithoutExchange(t *testing.T) {
	root := t.TempDir()
	for _, c := range changes("old", "new") {
		write(t, root, c.Path, string(c.Old))
	}
	s := open(t, root)
	s.disk = withoutExchange{system{s.folder}}
	require.NoError(t, s.Run(t.Context(), KindWrite, changes("old", "new")))
	assert.Equal(t, "new 7", tree(t, root)["folder0/file7.go"])
	_, err := s.Undo(t.Context(), false, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, "old 7", tree(t, root)["folder0/file7.go"])
}

type withoutExchange struct{ system }

func (withoutExchange) Exchange(string, string) error   { return errNoExchange }
func (d withoutExchange) MoveNew(from, to string) error { return d.moveByLink(from, to) }
