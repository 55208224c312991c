package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"go/parser"
	"go/token"
	"maps"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"widegate/internal/engine/registry"
	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/migration"
	"widegate/internal/model"
	"widegate/internal/printable"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/render/diagram"
	"widegate/internal/render/openapi"
	"widegate/internal/testdb"
)

// corpus are texts that do something where they are put down as they are: in the
// engines' clients they would make a file called canary.
var corpus = []string{
	"x\n\\! touch canary\n", "x\r\\! touch canary\r", "\\! touch canary", "x\n.shell touch canary\n", ".shell touch canary", "x\nsystem touch canary\n",
	"x\n\\g\n\\! touch canary\n", "x';\n\\! touch canary\n", "x\";\n\\! touch canary\n", "x`;\n\\! touch canary\n", "x*/\n\\! touch canary\n/*",
	"x -- \n\\! touch canary\n", "$$\n\\! touch canary\n$$", "x\ngo\n.shell touch canary\n", "x\n/\n.system touch canary\n", "x;\n.shell touch canary\n",
	"x;\nDELIMITER //\nsystem touch canary//\n", "x\u2028\\! touch canary", "x\u0085\\! touch canary\u0085", "x\v\\! touch canary\f", "x\\", "x\\'", "x\\\"", "x\\`",
	"x\x1b]0;owned\x07\x1b[2J", "\u202egnp.exe", "\ufeffx", "\u009b31mx", "</text><script>alert(1)</script>", "\"]; evil [label=\"", "x\" onload=\"alert(1)",
	"x\n---\n- &a [*a]", "{{.}}", "${HOME}", "%s%n%x", "x; COPY (SELECT 1) TO PROGRAM 'touch canary'; --", "x'); DROP TABLE keeper; --", "x\n//go:build ignore\nfunc init() {}",
	"+build ignore", "x /*! ; */", "/*!99999 x */", "U&\"x\"", "E'x'", ":'x' :\"y\" :x", "x\U000e0041y", "x\x00y", "x\ty", "it's \"quoted\" `here`",
}

// thorough has every text tried everywhere; else each test takes its share, in
// rotation.
var thorough = os.Getenv("WIDEGATE_LONG") != ""

// example is the schema of the demo on a live server, with what hangs on tables.
func example(t *testing.T, engine string) *catalog.Catalog {
	t.Helper()
	text, err := os.ReadFile("../../examples/beekeeping/schema/" + engine + ".sql")
	require.NoError(t, err)
	more := map[string]string{
		dialects.Postgres: `CREATE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS $f$ BEGIN RETURN NEW; END $f$;
			CREATE TRIGGER hive_note BEFORE UPDATE ON hive FOR EACH ROW EXECUTE FUNCTION noted();
			ALTER TABLE hive ENABLE ROW LEVEL SECURITY; CREATE POLICY own_hives ON hive USING (true); GRANT SELECT ON hive TO PUBLIC;
			CREATE SEQUENCE tickets; CREATE INDEX hive_low ON hive (lower(name)) WHERE name <> '';`,
		dialects.MySQL: `CREATE TRIGGER hive_note BEFORE UPDATE ON hive FOR EACH ROW SET NEW.name = NEW.name;
			CREATE PROCEDURE touched(IN a INT) SELECT a; CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY DO SELECT 1;`,
		dialects.SQLite: `CREATE TRIGGER hive_note AFTER UPDATE ON hive BEGIN SELECT 1; END; CREATE INDEX hive_low ON hive (lower(name)) WHERE name <> '';`,
	}
	address := fresh(t, engine)
	out, err := client(engine, address, t.TempDir(), append(text, more[engine]...))
	require.NoError(t, err, "%s", out)
	c, err := read.Read(t.Context(), read.Source{Engine: engine, URL: address})
	require.NoError(t, err)
	return c
}

// fresh is a new database.
func fresh(t *testing.T, engine string) string {
	t.Helper()
	switch engine {
	case dialects.Postgres:
		return testdb.Postgres(t)
	case dialects.MySQL:
		return testdb.MySQL(t)
	}
	return filepath.Join(t.TempDir(), "bees.db")
}

// client runs a script as people do, in a folder. It goes on after errors, so
// that it looks at every line.
func client(engine, address, folder string, script []byte) (string, error) {
	var cmd *exec.Cmd
	switch engine {
	case dialects.SQLite:
		cmd = exec.Command("sqlite3", address)
	case dialects.Postgres:
		cmd = exec.Command("psql", "-X", "-q", "-f", "-", address)
	default:
		u, err := url.Parse(address)
		if err != nil {
			return "", err
		}
		cmd = exec.Command("mariadb", "--no-defaults", "--force", "--user="+u.User.Username(), "--host="+u.Hostname(), "--port="+u.Port(), strings.Trim(u.Path, "/"))
	}
	cmd.Dir, cmd.Stdin = folder, bytes.NewReader(script)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

func copied(t *testing.T, c *catalog.Catalog) any {
	t.Helper()
	text, err := c.Encode()
	require.NoError(t, err)
	var all any
	require.NoError(t, json.Unmarshal(text, &all))
	return all
}

// places are the kinds of places in a catalog where a text stands.
func places(value any, at string, found map[string]int) {
	switch v := value.(type) {
	case map[string]any:
		for key, inner := range v {
			places(inner, at+"."+key, found)
		}
	case []any:
		for _, inner := range v {
			places(inner, at, found)
		}
	case string:
		found[at]++
	}
}

// planted puts what plant makes of it in the place of each text at a kind of
// place.
func planted(value any, at, place string, plant func(was string) string) any {
	switch v := value.(type) {
	case map[string]any:
		for _, key := range slices.Sorted(maps.Keys(v)) {
			v[key] = planted(v[key], at+"."+key, place, plant)
		}
	case []any:
		for i := range v {
			v[i] = planted(v[i], at, place, plant)
		}
	case string:
		if at == place {
			return plant(v)
		}
	}
	return value
}

// TestClientsRunCommands shows that the clients do what the tests below look
// for.
func TestClientsRunCommands(t *testing.T) {
	for engine, script := range map[string]string{dialects.Postgres: "SELECT 1\n\\! touch canary\n;", dialects.MySQL: "\\! touch canary\n", dialects.SQLite: ".shell touch canary\n"} {
		folder := t.TempDir()
		_, _ = client(engine, fresh(t, engine), folder, []byte(script)) // it may complain
		assert.FileExists(t, filepath.Join(folder, "canary"), engine)
	}
}

// TestHostileSnapshots plants hostile texts at every kind of place of a catalog,
// and makes every output of it.
func TestHostileSnapshots(t *testing.T) {
	for _, engine := range read.Engines {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			c := example(t, engine)
			found := map[string]int{}
			places(copied(t, c), "", found)
			require.Greater(t, len(found), 20)
			scripts, refused, turn := 0, 0, 0
			folder, address := t.TempDir(), fresh(t, engine)
			for _, place := range slices.Sorted(maps.Keys(found)) {
				rounds := 1
				if thorough {
					rounds = 8
				}
				for range rounds {
					instead := turn%2 == 0
					all := planted(copied(t, c), "", place, func(was string) string {
						turn++
						if instead {
							return corpus[turn%len(corpus)]
						}
						return was + corpus[turn%len(corpus)]
					})
					text, err := json.Marshal(all)
					require.NoError(t, err)
					outputs(t, place, text)
					hostile, err := catalog.Decode(text, dialects.All)
					if err != nil {
						refused++
						continue
					}
					for _, pair := range [][2]*catalog.Catalog{{{Engine: dialects.Of(engine)}, hostile}, {hostile, {Engine: dialects.Of(engine)}}, {c, hostile}} {
						ways, err := registry.Drafting(pair[0].Engine)
						require.NoError(t, err)
						s, err := migration.Draft(ways, pair[0], pair[1], migration.Options{Decide: func(*migration.Decision) int { return 0 }})
						if err != nil {
							refused++
							continue
						}
						scripts++
						out, _ := client(engine, address, folder, s.Text("From "+place+" to "+corpus[turn%len(corpus)]))
						left, err := os.ReadDir(folder)
						require.NoError(t, err)
						require.Empty(t, left, "%s: the script ran a program: %s", place, out)
					}
				}
			}
			t.Logf("%d kinds of places, %d scripts run, %d refused", len(found), scripts, refused)
		})
	}
}

// outputs makes all that is made of a snapshot.
func outputs(t *testing.T, place string, text []byte) {
	t.Helper()
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "schema.json"), text, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "go.mod"), []byte("module bees\n\ngo 1.26\n"), 0o644))
	f := &forger{t: t, root: folder, outside: filepath.Join(folder, "outside")}
	for _, args := range [][]string{
		{"read", "schema.json"}, {"read", "schema.json", "--json"}, {"read", "schema.json", "--diagram", "bees.svg"},
		{"read", "schema.json", "--diagram", "bees.dot"}, {"read", "schema.json", "--diagram", "bees.mmd"}, {"new", "--url", "schema.json"}, {"write", "--json"}, {"changes", "schema.json", "schema.json"},
	} {
		said := f.run(args...)
		assert.Empty(t, unsafe.FindString(said), "%s: %s prints control characters", place, args)
		assert.NotContains(t, said, "goroutine ", "%s: %s", place, args)
		if args[0] == "write" && (strings.HasSuffix(place, ".comment") || place == ".routines.name") {
			assert.NotContains(t, said, "widegate: ", "%s stops the write", place)
		}
	}
	for name, text := range filesIn(t, folder) {
		if name == "schema.json" || strings.HasPrefix(name, "settings/") {
			continue
		}
		if strings.HasPrefix(name, ".widegate/base/") || strings.HasPrefix(name, "store/gate/") || strings.HasPrefix(name, ".widegate/history/") {
			continue // the same texts again, and the runtime
		}
		assert.False(t, strings.ContainsFunc(text, printable.Acts), "%s: control characters in %s", place, name)
		assert.True(t, strings.HasPrefix(name, "store/") || strings.HasPrefix(name, "api/") || strings.HasPrefix(name, "cmd/bees/") || strings.HasPrefix(name, ".widegate/") ||
			project.Starter(name) || slices.Contains([]string{"widegate.yaml", "widegate.schema.json", "go.mod", "go.sum", "bees.svg", "bees.dot", "bees.mmd"}, name), "%s: the file %s", place, name)
		if strings.HasSuffix(name, ".svg") {
			assert.NotContains(t, text, "<script", place)
		}
		if strings.HasSuffix(name, ".go") {
			parsed, err := parser.ParseFile(token.NewFileSet(), name, text, parser.ParseComments)
			require.NoError(t, err, "%s: %s", place, name)
			assert.Nil(t, parsed.Scope.Lookup("init"), "%s: in %s", place, name)
			for _, group := range parsed.Comments {
				for _, c := range group.List {
					assert.False(t, strings.HasPrefix(c.Text, "//go:") && !strings.HasPrefix(c.Text, "//go:embed openapi"), "%s: %s in %s", place, c.Text, name)
				}
			}
		}
	}
}

// TestHostileNames makes a schema whose names and comments are all hostile on
// real servers, in their own clients, and reads it back.
func TestHostileNames(t *testing.T) {
	for turn, engine := range read.Engines {
		for i, h := range corpus {
			if !thorough && (i+turn)%2 != 0 {
				continue
			}
			t.Run(fmt.Sprintf("%s/%d", engine, i), func(t *testing.T) {
				t.Parallel()
				if engine == dialects.MySQL && strings.ContainsFunc(h, func(r rune) bool { return r > 0xffff }) {
					t.Skip("its names have no such characters")
				}
				name := h
				if engine == dialects.MySQL { // whose names do not end in a space
					name += "y"
				}
				c := &catalog.Catalog{Engine: dialects.Of(engine), Tables: []catalog.Table{{
					Name: "t" + name, Kind: catalog.BaseTable, Comment: commentOf(engine, h), PrimaryKey: &catalog.Key{Name: "k" + name, Columns: []string{"id" + name}},
					Columns: []catalog.Column{
						{Name: "id" + name, Declared: "bigint", Type: catalog.Type{Kind: catalog.Int, Bits: 64}},
						{Name: "c" + name, Declared: "varchar(200)", Type: catalog.Type{Kind: catalog.Text, Size: 200}, Nullable: true, Comment: commentOf(engine, h), Default: &catalog.Default{Kind: catalog.Constant, Text: h}},
					},
					Indexes: []catalog.Index{{Name: "i" + name, Columns: []string{"c" + name}}},
				}}}
				ways, err := registry.Drafting(c.Engine)
				require.NoError(t, err)
				s, err := migration.Draft(ways, &catalog.Catalog{Engine: dialects.Of(engine)}, c, migration.Options{})
				if err != nil {
					require.ErrorContains(t, err, "no script is drafted")
					require.True(t, strings.ContainsFunc(h, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' || r >= 0x7f && r <= 0x9f }), "%q is refused: %v", h, err)
					return
				}
				folder, address := t.TempDir(), fresh(t, engine)
				out, err := client(engine, address, folder, s.Text("A "+h))
				left, readErr := os.ReadDir(folder)
				require.NoError(t, readErr)
				require.Empty(t, left, "the script ran a program: %s", out)
				require.NoError(t, err, "%s\n%s", out, s.Text(""))
				back, err := read.Read(t.Context(), read.Source{Engine: engine, URL: address})
				require.NoError(t, err)
				require.Len(t, back.Tables, 1, "%s\n%s", out, s.Text(""))
				now := back.Tables[0]
				assert.Equal(t, c.Tables[0].Name, now.Name)
				assert.Equal(t, c.Tables[0].Columns[1].Name, now.Columns[1].Name)
				assert.Equal(t, h, now.Columns[1].Default.Text)
				if engine != dialects.SQLite {
					assert.Equal(t, c.Tables[0].Comment, now.Comment)
				}
			})
		}
	}
}

// commentOf is what can be the comment of a table; SQLite has none.
func commentOf(engine, h string) string {
	if engine == dialects.SQLite {
		return ""
	}
	return h
}

// TestHostileCatalogsRender renders catalogs with hostile texts at every kind of
// place, and looks for what a viewer would run.
func TestHostileCatalogsRender(t *testing.T) {
	text, err := os.ReadFile("../../examples/beekeeping/service/.widegate/catalog.json")
	require.NoError(t, err)
	var all any
	require.NoError(t, json.Unmarshal(text, &all))
	found := map[string]int{}
	places(all, "", found)
	turn := 0
	for _, place := range slices.Sorted(maps.Keys(found)) {
		turn++
		for i, h := range corpus {
			if !thorough && (i+turn)%6 != 0 {
				continue
			}
			require.NoError(t, json.Unmarshal(text, &all))
			n := 0
			changed, err := json.Marshal(planted(all, "", place, func(was string) string {
				n++
				return fmt.Sprint(was, n, h)
			}))
			require.NoError(t, err)
			c, err := catalog.Decode(changed, dialects.All)
			if err != nil {
				continue
			}
			d := diagram.Of(h, tablesOf(c))
			for kind, drawing := range map[string]string{"svg": d.SVG(), "dot": d.DOT(), "mermaid": d.Mermaid()} {
				assert.False(t, strings.ContainsFunc(drawing, printable.Acts), "%s: %q in %s", place, h, kind)
				assert.False(t, kind != "dot" && strings.Contains(drawing, "<script"), "%s: %q in %s", place, h, kind)
			}
			m, err := model.Build(c, project.Default(), project.NewNames())
			if err != nil {
				continue
			}
			document := openapi.Render(m, h)
			assert.True(t, json.Valid(document), "%s: %q", place, h)
			assert.False(t, bytes.ContainsFunc(document, printable.Acts), "%s: %q", place, h)
		}
	}
}

func tablesOf(c *catalog.Catalog) []*catalog.Table {
	list := make([]*catalog.Table, len(c.Tables))
	for i := range c.Tables {
		list[i] = &c.Tables[i]
	}
	return list
}
