package generate

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/project"
)

// manyTables is a DDL script of n tables of twelve columns, two of which refer
// to tables before.
func manyTables(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, `CREATE TABLE hive_part_%[1]d (
  id INTEGER PRIMARY KEY,
  owner_id BIGINT NOT NULL REFERENCES hive_part_%[2]d (id), -- Who has it.
  spare_for_id BIGINT REFERENCES hive_part_%[3]d (id),
  code VARCHAR(20) NOT NULL UNIQUE,
  name VARCHAR(80) NOT NULL,
  remark TEXT,
  weight_kg DECIMAL(10,2) CHECK (weight_kg >= 0),
  warmth_c DOUBLE PRECISION,
  is_new BOOLEAN NOT NULL DEFAULT TRUE,
  made_on DATE,
  seen_at TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT CURRENT_TIMESTAMP,
  facts JSON
);
`, i, i/2, i/3)
	}
	return b.String()
}

// newProject makes a project on a DDL script.
func newProject(t testing.TB, ddl string) *project.Project {
	t.Helper()
	root := t.TempDir()
	for name, text := range map[string]string{
		"schema.sql": ddl, "go.mod": "module bees\n\ngo 1.26.0\n\nrequire github.com/ncruces/go-sqlite3 v0.999.0\n",
		project.FileName: "database: {ddl: [schema.sql]}\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
	}
	return load(t, root)
}

func load(t testing.TB, root string) *project.Project {
	t.Helper()
	p, err := project.Load(filepath.Join(root, project.FileName))
	require.NoError(t, err)
	return p
}

func TestOneChangedColumnChangesFewFiles(t *testing.T) {
	ddl := manyTables(40)
	p := newProject(t, ddl)
	lock, _, err := Open(p)
	require.NoError(t, err)
	defer lock.Close()
	_, _, err = Open(p)
	require.ErrorContains(t, err, "is at work")
	plan, err := Make(t.Context(), p, Source(p), Options{Full: true})
	require.NoError(t, err)
	assert.Len(t, plan.Model.Entities, 40)
	_, err = plan.Apply(t.Context(), lock)
	require.NoError(t, err)

	plan, err = Make(t.Context(), p, Source(p), Options{Full: true})
	require.NoError(t, err)
	assert.Zero(t, plan.Count(New, Changed, Merged, Removed))

	changed := strings.Replace(ddl, "remark TEXT,", "remark TEXT,\n  nickname TEXT,", 1)
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "schema.sql"), []byte(changed), 0o644))
	plan, err = Make(t.Context(), p, Source(p), Options{Full: true})
	require.NoError(t, err)
	var files []string
	for _, d := range plan.Decisions {
		if d.Action != Same {
			files = append(files, d.Path)
		}
	}
	assert.Equal(t, []string{"api/openapi.json", "store/hive_part_0.go"}, files)
}

// BenchmarkWrite plans and writes 300 tables, first anew, then with nothing to
// do.
func BenchmarkWrite(b *testing.B) {
	ddl := manyTables(300)
	for b.Loop() {
		b.StopTimer()
		p := newProject(b, ddl)
		b.StartTimer()
		writeOnce(b, p)
	}
}

func BenchmarkWriteAgain(b *testing.B) {
	p := newProject(b, manyTables(300))
	writeOnce(b, p)
	for b.Loop() {
		writeOnce(b, p)
	}
}

func writeOnce(b *testing.B, p *project.Project) {
	b.Helper()
	lock, _, err := Open(p)
	require.NoError(b, err)
	defer lock.Close()
	plan, err := Make(b.Context(), p, Source(p), Options{})
	require.NoError(b, err)
	_, err = plan.Apply(b.Context(), lock)
	require.NoError(b, err)
}
