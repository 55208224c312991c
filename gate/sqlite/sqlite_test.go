package sqlite

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
)

func TestMessages(t *testing.T) {
	table, columns := failedColumns("constraint failed: UNIQUE constraint failed: hive.apiary_id, hive.name")
	assert.Equal(t, "hive", table)
	assert.Equal(t, []string{"apiary_id", "name"}, columns)
	assert.Equal(t, "light", failedRule("constraint failed: CHECK constraint failed: light"))
	assert.Equal(t, "a (b) > 1", failedRule("constraint failed: CHECK constraint failed: a (b) > 1"))
	_, columns = failedColumns("something else")
	assert.Empty(t, columns)
}

func TestPaths(t *testing.T) {
	folder := t.TempDir()
	for _, name := range []string{"bees.db", "odd ?#%.db", "ünïcode 蜂.db"} {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, nil, 0o644))
		for _, url := range []string{path, "sqlite:" + path, "sqlite://" + path} {
			db, err := Open(t.Context(), url)
			require.NoError(t, err, url)
			_, err = db.Exec(t.Context(), "CREATE TABLE IF NOT EXISTS hive (id INTEGER PRIMARY KEY)", nil)
			require.NoError(t, err)
			require.NoError(t, db.Close())
		}
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.NotZero(t, info.Size(), "the file itself was used")
	}
	_, err := Open(t.Context(), filepath.Join(folder, "missing.db"))
	require.ErrorIs(t, err, gate.ErrUnavailable, "a database is not made by a typing error")
	assert.NoFileExists(t, filepath.Join(folder, "missing.db"))
}
