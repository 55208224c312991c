package apply

import (
	"bytes"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSeals(t *testing.T) {
	mine := sealer{[]byte("key"), "/p"}
	j := &journal{ID: "20260101T000000.000000001", Kind: KindWrite, State: forward, Ops: []op{{Path: "store/hive.go", Pre: Absent, Post: StateOf([]byte("x")), Mode: 0o644}}}
	text, err := mine.encode(j)
	require.NoError(t, err)
	back, err := mine.decode(text)
	require.NoError(t, err)
	assert.Equal(t, j, back)
	for name, other := range map[string]sealer{"another key": {[]byte("other"), "/p"}, "another folder": {[]byte("key"), "/q"}, "no key": {nil, "/p"}} {
		_, err := other.decode(text)
		require.ErrorIs(t, err, errForeign, name)
	}
	_, err = mine.decode(bytes.Replace(text, []byte("hive.go"), []byte("mine.go"), 1))
	require.ErrorIs(t, err, errForeign, "a step was changed")
	for _, broken := range []string{"", "{", "[]", `{"journal":7}`} {
		_, err := mine.decode([]byte(broken))
		require.ErrorIs(t, err, errDamaged, broken)
	}
	for _, path := range []string{"../x", "/etc/passwd", "a/../../x", "", "a\nb", "con"} {
		j.Ops[0].Path = path
		text, err := mine.encode(j)
		require.NoError(t, err)
		_, err = mine.decode(text)
		require.ErrorIs(t, err, errDamaged, "%q, sealed or not", path)
	}
}

// TestTheKeyIsMadeOnce has many runs ask for a key that is not there yet.
func TestTheKeyIsMadeOnce(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "settings")
	keys := make([][]byte, 20)
	var group sync.WaitGroup
	for i := range keys {
		group.Go(func() { keys[i], _ = keyIn(folder) })
	}
	group.Wait()
	for _, key := range keys {
		assert.Equal(t, keys[0], key)
		assert.Len(t, key, 32)
	}
	info, err := os.Stat(filepath.Join(folder, keyFile))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, os.WriteFile(filepath.Join(folder, keyFile), []byte("short"), 0o600))
	_, err = keyIn(folder)
	require.ErrorContains(t, err, "is no key")
}

// FuzzJournal reads journals that anybody may have written: nothing but a sealed
// one comes without an error.
func FuzzJournal(f *testing.F) {
	mine := sealer{[]byte("key"), "/p"}
	text, err := mine.encode(&journal{ID: "20260101T000000.000000001", State: forward, Ops: []op{{Path: "a"}}})
	require.NoError(f, err)
	f.Add(text)
	f.Add([]byte(`{"journal":{"id":"../x","ops":[{"path":"../y"}]},"seal":""}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		j, err := mine.decode(text)
		if err == nil {
			again, err := mine.encode(j)
			require.NoError(t, err)
			_, err = mine.decode(again)
			require.NoError(t, err)
		}
	})
}
