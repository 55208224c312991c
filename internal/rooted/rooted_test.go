package rooted

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNothingOutside tries every operation on every way out of a folder.
func TestNothingOutside(t *testing.T) {
	around := t.TempDir()
	inside, outside := filepath.Join(around, "inside"), filepath.Join(around, "outside")
	require.NoError(t, os.MkdirAll(filepath.Join(inside, "own"), 0o755))
	require.NoError(t, os.MkdirAll(outside, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(outside, "secret"), []byte("secret"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(inside, "plain"), []byte("plain"), 0o644))
	for name, to := range map[string]string{"full": outside, "up": "../outside", "file": "../outside/secret", "own/deep": "../../outside", "sideways": "own", "nowhere": "../outside/new"} {
		require.NoError(t, os.Symlink(to, filepath.Join(inside, name)))
	}
	f, err := Open(inside)
	require.NoError(t, err)
	defer f.Close()
	ways := []string{
		"../outside/secret", "own/../../outside/secret", outside + "/secret", "full/secret", "up/secret", "file", "own/deep/secret", "nowhere",
		"sideways/secret", "sideways/../../outside/secret", "full/new", "up/new/newer",
	}
	for _, way := range ways {
		_, err := f.Read(way)
		assert.Error(t, err, way)
		assert.Error(t, f.Write(way, []byte("changed"), 0o644), way)
		_, err = f.OpenFile(way, os.O_CREATE|os.O_RDWR, 0o644)
		assert.Error(t, err, way)
		assert.Error(t, f.Mkdir(way, 0o755), way)
		assert.Error(t, f.Link(way, "taken"), way)
		_, err = f.List(way)
		assert.Error(t, err, way)
		_, err = f.Files(way)
		assert.Error(t, err, way)
		if strings.Contains(way, "/") {
			assert.Error(t, f.Remove(way), way)
			assert.Error(t, f.RemoveAll(way), way)
			assert.Error(t, f.Rename("plain", way), way)
			assert.Error(t, f.Rename(way, "taken"), way)
			assert.Error(t, f.Link("plain", way), way)
			_, err := f.Lstat(way)
			assert.Error(t, err, way)
		}
	}
	names, err := os.ReadDir(outside)
	require.NoError(t, err)
	require.Len(t, names, 1)
	text, err := os.ReadFile(filepath.Join(outside, "secret"))
	require.NoError(t, err)
	assert.Equal(t, "secret", string(text))
	_, err = f.Lstat("taken")
	require.ErrorIs(t, err, os.ErrNotExist)

	require.NoError(t, f.RemoveAll("full"), "a link is removed as such")
	assert.DirExists(t, outside)
}

func TestCheck(t *testing.T) {
	for _, name := range []string{"store/hive.go", "api/openapi-v1.json", "a/.hidden", "größe.go", "console.go", "com10.go"} {
		assert.NoError(t, Check(name), name)
	}
	for _, name := range []string{
		"", ".", "..", "../x", "a/../b", "a/../../b", "/etc/passwd", "a//b", "./a", "a/", `a\b`, `..\x`, "c:x", "a\x00b", "a\nb", "a\xffb",
		"CON", "con.go", "store/nul.txt", "Lpt1", "com¹.go", "aux .go", "a.", "a /b", "a*", "a?b", "<a", strings.Repeat("a", 256),
	} {
		assert.Error(t, Check(name), "%q", name)
	}
}

func FuzzCheck(f *testing.F) {
	for _, name := range []string{"store/hive.go", "../x", `a\..\b`, "con", "a/./b", "\u202e"} {
		f.Add(name)
	}
	f.Fuzz(func(t *testing.T, name string) {
		if Check(name) != nil {
			return
		}
		below := filepath.Join("/root", filepath.FromSlash(name))
		assert.True(t, strings.HasPrefix(below, "/root/"), "%q", name)
	})
}
