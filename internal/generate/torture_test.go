package generate_test

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"widegate/internal/testdb"
	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // the driver of the SQLite databases here

	"widegate/gate"
	"widegate/gate/mysql"
	"widegate/gate/postgres"
	"widegate/internal/cli"
)

// makeTorture loads a script of testdata into a new database and returns its
// URL.
func makeTorture(t *testing.T, engine string) string {
	t.Helper()
	return makeOf(t, "torture", engine)
}

// makeOf is makeTorture for a folder of testdata.
func makeOf(t *testing.T, kind, engine string) string {
	t.Helper()
	script, err := os.ReadFile(filepath.Join("testdata", kind, engine+".sql"))
	require.NoError(t, err)
	if engine == dialects.SQLite {
		path := filepath.Join(t.TempDir(), "odd.db")
		db, err := sql.Open("sqlite", path)
		require.NoError(t, err)
		defer db.Close()
		_, err = db.Exec(string(script))
		require.NoError(t, err)
		return "sqlite:" + path
	}
	open := map[string]func(context.Context, string) (gate.DB, error){dialects.Postgres: postgres.Open, dialects.MySQL: mysql.Open}
	address := map[string]func(testing.TB) string{dialects.Postgres: testdb.Postgres, dialects.MySQL: testdb.MySQL}[engine](t)
	db, err := open[engine](t.Context(), address)
	require.NoError(t, err)
	defer db.Close()
	for _, statement := range strings.Split(string(script), ";\n") {
		if strings.TrimSpace(statement) != "" {
			_, err := db.Exec(t.Context(), statement, nil)
			require.NoError(t, err, statement)
		}
	}
	return address
}

// tortureSchemas are the flags that read all of them.
var tortureSchemas = map[string][]string{dialects.Postgres: {"--schema", "public,stock"}}

// TestAwkwardSchemas generates services for schemas full of what is hard to
// name, type and relate. They must compile, and answer for every table, row
// and relation.
func TestAwkwardSchemas(t *testing.T) {
	for _, engine := range []string{dialects.SQLite, dialects.Postgres, dialects.MySQL} {
		t.Run(engine, func(t *testing.T) {
			folder := filepath.Join(t.TempDir(), "beekeeping")
			address := makeTorture(t, engine)
			var out bytes.Buffer
			require.Equal(t, 0, cli.Run(append([]string{"new", "--url", address, "--folder", folder, "--module", "beekeeping"}, tortureSchemas[engine]...), nil, &out, &out), out.String())
			addTo(t, folder, map[string]string{dialects.Postgres: "  expose: {AddUp: [], ListHives: [], DoNothing: []}\n", dialects.MySQL: "  expose: {AddUp: [], Swap: [], Nothing: []}\n"}[engine]+clientSettings)
			s := startService(t, folder)
			testPreviewOf(t, s, folder, engine)
			testRoutines(t, s, engine)
			walkClient(t, s, folder)
			walkByGo(t, s, folder, address)
			text, err := os.ReadFile(filepath.Join(folder, "api", "openapi.json"))
			require.NoError(t, err)
			var doc struct {
				Paths map[string]map[string]any `json:"paths"`
			}
			require.NoError(t, json.Unmarshal(text, &doc))
			rows := 0
			for path := range doc.Paths {
				if !strings.HasPrefix(path, "/api/") || strings.Contains(path, "{") || strings.HasSuffix(path, "/summary") || strings.Contains(path, "/routines/") {
					continue
				}
				if _, reads := doc.Paths[path]["get"]; !reads {
					continue
				}
				s := &service{t, s.base, s.checks, s.document}
				rows += s.walk(path, doc.Paths, s.read())
			}
			assert.Greater(t, rows, 10)
			whole := s.read()
			for _, path := range whole.collections() {
				s.conform(path, whole)
			}
			for path, p := range whole.Paths {
				if p.Post != nil {
					s.conformExamples(path, whole, false)
				}
			}
		})
	}
}

// walk reads a collection, each of its rows and their relations, and stores
// each row again as it was read. It returns the number of rows.
func (s *service) walk(path string, paths map[string]map[string]any, doc apiDocument) int {
	s.t.Helper()
	items := s.get(path).is(200).items()
	row := path + "/{key}"
	if _, keyed := paths[row]; !keyed {
		return len(items)
	}
	key := doc.Paths[row].Parameters[0]
	columns := strings.Split(strings.TrimSuffix(afterLast(key.Description, ": "), "."), ",")
	for _, item := range items {
		var parts []string
		for _, c := range columns {
			parts = append(parts, url.PathEscape(textOf(item[c])))
		}
		at := path + "/" + strings.ReplaceAll(strings.Join(parts, ","), "+", "%2B")
		read := s.get(at).is(200)
		s.sameAs(item, read.body, at)
		for relation := range paths {
			if name, under := strings.CutPrefix(relation, row+"/"); under && !strings.Contains(name, "{") {
				if a := s.get(at + "/" + name); a.status != 404 {
					a.is(200)
				}
			}
		}
		if _, writable := paths[row]["patch"]; writable {
			assert.Equal(s.t, read.body, s.call("PATCH", at, changeable(s.t, read.text, columns)).is(200).body, "%s", at)
		}
	}
	return len(items)
}

func afterLast(s, separator string) string {
	return s[strings.LastIndex(s, separator)+len(separator):]
}

// textOf is a value of JSON as it stands in a path.
func textOf(v any) string {
	if f, ok := v.(float64); ok && f >= 1<<63 {
		return "18446744073709551615" // the test reads numbers as float64, which is not exact here
	}
	return fmt.Sprint(v)
}

// changeable is a row as a patch, without its key and what is computed.
func changeable(t *testing.T, row string, key []string) string {
	t.Helper()
	patch := map[string]any{}
	decoder := json.NewDecoder(strings.NewReader(row))
	decoder.UseNumber()
	require.NoError(t, decoder.Decode(&patch))
	for _, name := range append(key, "g", "fixed", "kept", "computed", "twice", "thrice") {
		delete(patch, name)
	}
	text, err := json.Marshal(patch)
	require.NoError(t, err)
	return string(text)
}
