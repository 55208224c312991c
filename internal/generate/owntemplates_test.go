package generate_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/bufbuild/protocompile"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
	"widegate/gate/mysql"
	"widegate/gate/postgres"
	"widegate/gate/sqlite"
	"widegate/internal/cli"
	"widegate/internal/testdb/dialects"
)

// examplesFolder has the worked examples of templates.
const examplesFolder = "../../examples"

// withExamples makes a project on a database, with all templates that are examples.
func withExamples(t *testing.T, engine, address string) (folder string) {
	t.Helper()
	folder = filepath.Join(t.TempDir(), "beekeeping")
	var out bytes.Buffer
	require.Equal(t, 0, cli.Run(append([]string{"new", "--url", address, "--folder", folder, "--module", "beekeeping"}, tortureSchemas[engine]...), nil, &out, &out), out.String())
	var folders []string
	for _, name := range []string{"templates", "house-style"} {
		full, err := filepath.Abs(filepath.Join(examplesFolder, name))
		require.NoError(t, err)
		folders = append(folders, full)
	}
	at := filepath.Join(folder, "widegate.yaml")
	text, err := os.ReadFile(at)
	require.NoError(t, err)
	text = append(text, fmt.Sprintf("\ntemplates: [%s]\n", strings.Join(folders, ", "))...)
	require.NoError(t, os.WriteFile(at, text, 0o644))
	out.Reset()
	require.Equal(t, 0, cli.Run([]string{"write", "--config", at, "--yes"}, nil, &out, &out), out.String())
	return folder
}

// TestExampleTemplates gives the worked examples of templates awkward schemas on each
// engine: the Go code builds, messages compile, SQL runs, and tables of Markdown have
// the columns of their heads.
func TestExampleTemplates(t *testing.T) {
	for _, engine := range []string{dialects.SQLite, dialects.Postgres, dialects.MySQL} {
		t.Run(engine, func(t *testing.T) {
			address := makeTorture(t, engine)
			folder := withExamples(t, engine, address)
			run(t, folder, "go", "vet", "./...")
			messagesCompile(t, filepath.Join(folder, "proto"))
			viewsRun(t, engine, address, filepath.Join(folder, "sql", "views"))
			tablesHold(t, filepath.Join(folder, "docs", "dictionary.md"))
			requests, err := filepath.Glob(filepath.Join(folder, "requests", "*.http"))
			require.NoError(t, err)
			assert.NotEmpty(t, requests)
		})
	}
}

// messagesCompile compiles the protocol buffer messages of a folder.
func messagesCompile(t *testing.T, folder string) {
	t.Helper()
	compiler := protocompile.Compiler{Resolver: protocompile.WithStandardImports(&protocompile.SourceResolver{ImportPaths: []string{folder}})}
	files, err := compiler.Compile(t.Context(), "store.proto")
	require.NoError(t, err)
	assert.Greater(t, files[0].Messages().Len(), 5)
}

// viewsRun runs the scripts of a folder on the database, twice: they replace what they
// made.
func viewsRun(t *testing.T, engine, address, folder string) {
	t.Helper()
	open := map[string]func(context.Context, string) (gate.DB, error){dialects.SQLite: sqlite.Open, dialects.Postgres: postgres.Open, dialects.MySQL: mysql.Open}[engine]
	db, err := open(t.Context(), address)
	require.NoError(t, err)
	defer db.Close()
	if engine != dialects.SQLite {
		_, _ = db.Exec(t.Context(), "CREATE ROLE reader", nil) // which may be there from another test
	}
	scripts, err := filepath.Glob(filepath.Join(folder, "*.sql"))
	require.NoError(t, err)
	require.NotEmpty(t, scripts)
	for range 2 {
		for _, at := range scripts {
			text, err := os.ReadFile(at)
			require.NoError(t, err)
			for _, statement := range strings.Split(string(text), ";\n") {
				if strings.TrimSpace(statement) != "" {
					_, err := db.Exec(t.Context(), statement, nil)
					assert.NoError(t, err, statement)
				}
			}
		}
	}
}

// tablesHold finds a line of a table in Markdown that has other columns than its head.
func tablesHold(t *testing.T, file string) {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	bar := regexp.MustCompile(`(^|[^\\])\|`)
	columns, lines := 0, 0
	for line := range strings.Lines(string(text)) {
		if !strings.HasPrefix(line, "|") {
			columns = 0
			continue
		}
		n := len(bar.FindAllString(line, -1))
		if columns == 0 {
			columns = n
		}
		assert.Equal(t, columns, n, line)
		lines++
	}
	assert.Greater(t, lines, 20)
}

// partsOf is a script of tables that belong to each other.
func partsOf(tables int) string {
	var b strings.Builder
	for i := range tables {
		fmt.Fprintf(&b, "CREATE TABLE hive_part_%[1]d (id INTEGER PRIMARY KEY, of_id BIGINT NOT NULL REFERENCES hive_part_%[2]d (id), code VARCHAR(20) NOT NULL UNIQUE, remark TEXT);\n", i, i/2)
	}
	return b.String()
}

// TestHouseStyleStory changes a convention in a template that the project has taken:
// all files follow, with edits of the developer's in forty of them. A newer built-in
// template is merged with it, and all is undone.
func TestHouseStyleStory(t *testing.T) {
	const tables = 300
	root := t.TempDir()
	for name, text := range map[string]string{
		"schema.sql": partsOf(tables), "go.mod": "module bees\n\ngo 1.26.0\n\nrequire github.com/ncruces/go-sqlite3 v0.999.0\n",
		"widegate.yaml": "database: {ddl: [schema.sql]}\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
	}
	widegate := func(args ...string) string {
		t.Helper()
		var out bytes.Buffer
		require.Equal(t, 0, cli.Run(append(args, "--config", filepath.Join(root, "widegate.yaml")), nil, &out, &out), out.String())
		return out.String()
	}
	read := func(name string) string {
		t.Helper()
		text, err := os.ReadFile(filepath.Join(root, filepath.FromSlash(name)))
		require.NoError(t, err)
		return string(text)
	}
	change := func(name, old, now string) {
		t.Helper()
		text := read(name)
		require.Contains(t, text, old, name)
		require.NoError(t, os.WriteFile(filepath.Join(root, filepath.FromSlash(name)), []byte(strings.Replace(text, old, now, 1)), 0o644))
	}
	files := func() (list []string) {
		entries, err := filepath.Glob(filepath.Join(root, "store", "hive_part_*.go"))
		require.NoError(t, err)
		for _, at := range entries {
			list = append(list, "store/"+filepath.Base(at))
		}
		return list
	}
	widegate("write")
	require.Len(t, files(), tables)
	edited := files()[:40]
	for i, name := range edited {
		switch i % 4 {
		case 0:
			require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(read(name)+fmt.Sprintf("\n// Mine%d is the developer's.\nfunc Mine%d() int { return %d }\n", i, i, i)), 0o644))
		case 1:
			change(name, "json:\"remark\"`", "json:\"remark\" mine:\"yes\"`")
		case 2:
			change(name, "is a row of the table", "is, as the developer says, a row of the table")
		case 3:
			change(name, "// Related rows, present when asked for with With.", "// Related rows, in the developer's words.")
		}
	}
	kept := map[string]string{}
	for _, name := range edited {
		kept[name] = read(name)
	}

	widegate("templates", "take", "entity.go")
	const template = "templates/entity.go.tmpl"
	const before, after = "returns {{$.Entity.Article}} by its", "finds {{$.Entity.Article}} by its"
	change(template, before, after)
	assert.Contains(t, widegate("write"), fmt.Sprintf("%d changed, 40 merged with your edits", tables-len(edited)))
	all := func(words string) (n int) {
		for _, name := range files() {
			n += strings.Count(read(name), words)
		}
		return n
	}
	assert.Equal(t, []int{0, tables}, []int{all("returns a hive part"), all("finds a hive part")}, "all files follow")
	for i, name := range edited {
		assert.Equal(t, strings.ReplaceAll(kept[name], " returns a hive part", " finds a hive part"), read(name), "edit %d is kept", i)
	}

	// The tool has another built-in template than the one that was taken.
	const record = ".widegate/base/" + template + ".base"
	version := regexp.MustCompile(`version: \w+`).FindString(read(record))
	for _, at := range []string{template, record} {
		change(at, version, "version: 000000000000")
		change(at, "Unique keys, for Upsert.", "Unique keys, as they once were.")
	}
	out := widegate("write")
	assert.Contains(t, out, template)
	assert.Contains(t, read(template), version)
	assert.Contains(t, read(template), "Unique keys, for Upsert.")
	assert.Contains(t, read(template), after, "the convention is kept")
	assert.Equal(t, tables, all("finds a hive part"))
	assert.Contains(t, widegate("write"), "Nothing to write")

	widegate("undo")
	assert.Contains(t, read(template), "as they once were")
	for _, at := range []string{template, record} {
		change(at, "version: 000000000000", version)
		change(at, "Unique keys, as they once were.", "Unique keys, for Upsert.")
	}
	widegate("undo")
	for name, text := range kept {
		assert.Equal(t, text, read(name), "undone")
	}
	assert.Equal(t, tables, all("returns a hive part"))
	assert.True(t, slices.Contains(files(), "store/hive_part_7.go"))
}
