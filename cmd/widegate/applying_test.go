package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/read"
	"widegate/internal/testdb"
)

// TestKilledApplies kills the program while it runs scripts, at many moments, and
// runs it again: each row is there once in the end.
func TestKilledApplies(t *testing.T) {
	folder := t.TempDir()
	slow := map[string]string{"postgres": "SELECT pg_sleep(0.02)", "mysql": "DO SLEEP(0.02)", "sqlite": "SELECT count(*) FROM (WITH RECURSIVE c (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 20000) SELECT i FROM c)"}
	for engine, url := range map[string]string{"postgres": testdb.Postgres(t), "mysql": testdb.MySQL(t), "sqlite": "sqlite:" + filepath.Join(folder, "bees.db")} {
		t.Run(engine, func(t *testing.T) {
			scripts := filepath.Join(folder, engine)
			require.NoError(t, os.MkdirAll(scripts, 0o755))
			for i := range 4 {
				text := fmt.Sprintf("CREATE TABLE t%d (id INTEGER NOT NULL);\n", i)
				for k := range 6 {
					text += slow[engine] + fmt.Sprintf(";\nINSERT INTO t%d VALUES (%d);\n", i, k)
				}
				text += fmt.Sprintf("ALTER TABLE t%d ADD COLUMN n INTEGER;\nCREATE INDEX i%d ON t%d (n);\n", i, i, i)
				require.NoError(t, os.WriteFile(filepath.Join(scripts, fmt.Sprintf("%d.sql", i)), []byte(text), 0o644))
			}
			killed := 0
			for moment := 60 * time.Millisecond; ; moment += 35 * time.Millisecond {
				cmd := exec.Command("widegate", "apply", url, "--scripts", scripts, "--quiet")
				var out strings.Builder
				cmd.Stdout, cmd.Stderr = &out, &out
				require.NoError(t, cmd.Start())
				timer := time.AfterFunc(moment, func() { _ = cmd.Process.Kill() })
				err := cmd.Wait()
				timer.Stop()
				if err == nil {
					break
				}
				require.Contains(t, err.Error(), "killed", out.String())
				killed++
				require.Less(t, killed, 200)
			}
			require.Positive(t, killed)
			source, err := read.Parse([]string{url}, "")
			require.NoError(t, err)
			for i := range 4 {
				ids, err := read.Names(t.Context(), source, fmt.Sprintf("SELECT concat(id, '') FROM t%d ORDER BY id", i))
				require.NoError(t, err)
				assert.Equal(t, []string{"0", "1", "2", "3", "4", "5"}, ids, "t%d", i)
			}
		})
	}
}
