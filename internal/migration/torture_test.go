package migration_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/sqltext"
)

// TestTortureSchemaIsMadeAgain makes the schemas with everything in them from
// their catalogs alone.
func TestTortureSchemaIsMadeAgain(t *testing.T) {
	for _, engine := range []string{dialects.Postgres, dialects.MySQL, dialects.SQLite} {
		t.Run(engine, func(t *testing.T) {
			text, err := os.ReadFile(filepath.Join("..", "generate", "testdata", "torture", engine+".sql"))
			require.NoError(t, err)
			db, other := open(t, engine), open(t, engine)
			if engine == dialects.Postgres {
				other.run(t, []string{"CREATE TYPE temperature_range AS RANGE (subtype = numeric)"}) // a catalog has none
				db.schemas, other.schemas = []string{"public", "stock"}, []string{"public", "stock"}
			}
			for _, s := range sqltext.Split(&sqltext.File{Path: engine, Text: string(text)}, dialects.Of(engine)) {
				_, err := db.ExecContext(t.Context(), s.Text)
				require.NoError(t, err, s.Text)
			}
			want := db.read(t)
			got, err := made(t, workspace{other, t}, want)
			require.NoError(t, err)
			want.Notes = nil // a view of a table that is gone
			for i := range want.Tables {
				for k := range want.Tables[i].Columns { // nor how many dimensions an array has
					if c := &want.Tables[i].Columns[k]; strings.HasSuffix(c.Declared, "[]") {
						c.Type = got.Tables[i].Columns[k].Type
					}
				}
				if want.Tables[i].Partition != "" { // of which the parts are not known
					want.Tables[i].Partition, got.Tables[i].Partition = "", ""
				}
			}
			assert.Equal(t, plain(t, want), plain(t, got))
		})
	}
}
