package apply

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDecide(t *testing.T) {
	x, y, z := []byte("x"), []byte("y"), []byte("z")
	for _, c := range []struct {
		base, mine, theirs []byte
		want               Action
	}{
		{nil, nil, x, New},
		{nil, x, x, Adopted},
		{nil, x, y, NotOurs},
		{x, x, x, Same},
		{x, x, y, Changed},
		{x, y, x, Kept},
		{x, y, y, Same},
		{x, y, z, EditClash},
		{x, nil, y, LeftOut},
		{x, nil, x, LeftOut},
		{x, x, nil, Removed},
		{x, y, nil, EditClash},
		{x, nil, nil, Same},
		{nil, x, nil, Same},
	} {
		assert.Equal(t, c.want, Decide(c.base, c.mine, c.theirs), "base %q, mine %q, theirs %q", c.base, c.mine, c.theirs)
	}
}

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

func TestRun(t *testing.T) {
	root := t.TempDir()
	state := filepath.Join(root, ".state")
	write(t, root, "a/kept.go", "kept")
	write(t, root, "a/changed.go", "old")
	write(t, root, "gone/deep/gone.go", "gone")
	lock, err := Acquire(root, state)
	require.NoError(t, err)
	_, err = Acquire(root, state)
	require.ErrorContains(t, err, "another run is at work")
	require.NoError(t, lock.Run(root, state, []Change{
		{"a/changed.go", []byte("new")}, {"b/c/added.go", []byte("added")}, {"gone/deep/gone.go", nil}, {"never.go", nil},
	}))
	assert.Equal(t, map[string]string{"a/kept.go": "kept", "a/changed.go": "new", "b/c/added.go": "added"}, tree(t, root))
	assert.NoDirExists(t, filepath.Join(root, "gone"), "folders that a removal empties go too")
	info, err := os.Stat(filepath.Join(root, "a/changed.go"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o640), info.Mode().Perm(), "a file keeps its mode")
	require.NoError(t, lock.Unlock())
	left, err := os.ReadDir(state)
	require.NoError(t, err)
	assert.Len(t, left, 1, "only the lock is left")
}

func TestWhatCannotBeReplacedStopsAll(t *testing.T) {
	root := t.TempDir()
	state := filepath.Join(root, ".state")
	write(t, root, "a.go", "a")
	write(t, root, "target.go", "target")
	require.NoError(t, os.Symlink("target.go", filepath.Join(root, "link.go")))
	write(t, root, "protected.go", "p")
	require.NoError(t, os.Chmod(filepath.Join(root, "protected.go"), 0o400))
	before := tree(t, root)
	for _, name := range []string{"link.go", "protected.go"} {
		lock, err := Acquire(root, state)
		require.NoError(t, err)
		require.ErrorContains(t, lock.Run(root, state, []Change{{"a.go", []byte("new")}, {name, []byte("new")}}), name)
		require.NoError(t, lock.Unlock())
		assert.Equal(t, before, tree(t, root))
	}
}

func TestDamagedJournalStops(t *testing.T) {
	root := t.TempDir()
	state := filepath.Join(root, ".state")
	write(t, root, ".state/journal.json", "{not json")
	_, err := Acquire(root, state)
	require.ErrorContains(t, err, "damaged")
}

const manyFiles = 120

// changes are those of the run that TestKilled kills.
func changes(text string) []Change {
	var list []Change
	for i := range manyFiles {
		list = append(list, Change{fmt.Sprintf("folder%d/file%d.go", i%7, i), []byte(fmt.Sprintf("%s %d", text, i))})
	}
	return list
}

// TestKilled kills runs at random moments. After the next run has begun, the
// files are wholly those of before or those of after.
func TestKilled(t *testing.T) {
	if root := os.Getenv("APPLY_TEST_ROOT"); root != "" {
		state := filepath.Join(root, ".state")
		lock, err := Acquire(root, state)
		require.NoError(t, err)
		fmt.Println("begun")
		require.NoError(t, lock.Run(root, state, changes("new")))
		return
	}
	self, err := os.Executable()
	require.NoError(t, err)
	old, fresh := 0, 0
	for try := range 20 {
		root := t.TempDir()
		state := filepath.Join(root, ".state")
		for _, c := range changes("old") {
			write(t, root, c.Path, string(c.Text))
		}
		before := tree(t, root)
		cmd := exec.Command(self, "-test.run", "^TestKilled$")
		cmd.Env = append(os.Environ(), "APPLY_TEST_ROOT="+root)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		_, err = out.Read(make([]byte, 6))
		require.NoError(t, err)
		time.Sleep(time.Duration(try) * 6 * time.Millisecond)
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait() // it was killed
		lock, err := Acquire(root, state)
		require.NoError(t, err)
		require.NoError(t, lock.Unlock())
		after := tree(t, root)
		if after["folder0/file0.go"] == "old 0" {
			old++
			assert.Equal(t, before, after)
			continue
		}
		fresh++
		for _, c := range changes("new") {
			assert.Equal(t, string(c.Text), after[c.Path])
		}
	}
	t.Logf("%d runs left the old files, %d the new ones", old, fresh)
}
