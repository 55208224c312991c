package docs

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/render/golang"
	"widegate/internal/render/openapi"
)

var engineOf = map[string]string{"## PostgreSQL": dialects.Postgres, "## MySQL and MariaDB": dialects.MySQL, "## SQLite": dialects.SQLite}

// TestTypesAreAsTheTableSays makes a column of each type of the table and
// compares what becomes of it. The torture schemas, whose rows are read,
// written and read again through a generated service, must have each of them.
func TestTypesAreAsTheTableSays(t *testing.T) {
	text, err := os.ReadFile("types.md")
	require.NoError(t, err)
	engine, rows := "", 0
	var tortured string
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "## ") {
			engine = engineOf[line]
			require.NotEmpty(t, engine, line)
			script, err := os.ReadFile(filepath.Join("..", "internal", "generate", "testdata", "torture", engine+".sql"))
			require.NoError(t, err)
			tortured = strings.ToLower(string(script))
		}
		if !strings.HasPrefix(line, "| `") {
			continue
		}
		cells := strings.Split(strings.ReplaceAll(strings.Trim(line, "| "), `\|`, "\x00"), " | ")
		require.Len(t, cells, 4, line)
		for _, m := range inTicks.FindAllStringSubmatch(cells[0], -1) {
			checkType(t, engine, m[1], strings.Trim(cells[1], "`"), strings.ReplaceAll(strings.Trim(cells[3], "`"), "\x00", "|"))
			inTorture(t, tortured, engine, m[1])
			rows++
		}
	}
	assert.Greater(t, rows, 80)
}

var inTicks = regexp.MustCompile("`([^`]+)`")

func checkType(t *testing.T, engine, declared, goType, schema string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "hive.sql")
	require.NoError(t, os.WriteFile(path, []byte("CREATE TABLE hive (id INT PRIMARY KEY, a "+declared+" NOT NULL, b "+strings.ReplaceAll(declared, "serial", "int")+" NULL);"), 0o644))
	c, err := read.Read(t.Context(), read.Source{Engine: engine, DDL: []string{path}})
	require.NoError(t, err, declared)
	m, err := model.Build(c, project.Default(), project.NewNames())
	require.NoError(t, err)
	e := m.Entities[0]
	of := func(name string) string {
		typ := golang.FieldType(e.Field(name))
		if set := e.Field(name).Set; set != nil { // its type is another name for string
			assert.True(t, set.Several)
			typ = strings.Replace(typ, set.Name, "string", 1)
		}
		return typ
	}
	assert.Equal(t, goType, of("a"), "%s %s", engine, declared)
	if !strings.Contains(declared, "serial") {
		assert.Equal(t, "gate.Maybe["+goType+"]", of("b"), "%s %s", engine, declared)
	}
	var doc struct {
		Components struct {
			Schemas map[string]struct {
				Properties map[string]json.RawMessage `json:"properties"`
			} `json:"schemas"`
		} `json:"components"`
	}
	require.NoError(t, json.Unmarshal(openapi.Render(m, "bees"), &doc))
	assert.JSONEq(t, schema, string(doc.Components.Schemas["Hive.part"].Properties["a"]), "%s %s", engine, declared)
}

// spellings are how the torture schemas write a type.
var spellings = map[string]string{
	"character varying(20)": "varchar(20)", "character(3)": "char(3)", "integer": " int", "integer[]": "int[]", "timestamp with time zone": "timestamptz", "time with time zone": "timetz",
	"serial": "bigserial", "numeric(8,2)": "numeric(8,2)", "polygon": "polygon", "decimal(8,2)": "decimal(8,2)", "bigint unsigned": "bigint unsigned",
}

func inTorture(t *testing.T, script, engine, declared string) {
	t.Helper()
	text := strings.ToLower(declared)
	if engine == dialects.Postgres && spellings[text] != "" || text == "timestamp with time zone" && engine == dialects.Postgres {
		text = spellings[text]
	}
	assert.Contains(t, script, text, "no row of a %s is written and read in the tests of %s", declared, engine)
}
