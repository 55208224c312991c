package read_test

import (
	"encoding/json"
	"net/url"
	"os"
	program "os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	engines "widegate/internal/engine"
	"widegate/internal/engine/registry"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/examples/beekeeping"
	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/read"
	"widegate/internal/sqltext"
	"widegate/internal/testdb"
)

var width = regexp.MustCompile(`(int|year)\(\d+\)`)

// alike takes out of a catalog what scripts and servers print differently, as
// the package ddl states.
func alike(c *catalog.Catalog) *catalog.Catalog {
	for i := range c.Tables {
		t := &c.Tables[i]
		t.Definition, t.Rows, t.Extras = "", 0, nil // which scripts leave out
		for k := range t.Triggers {
			t.Triggers[k].Definition, t.Triggers[k].Session = "", ""
		}
		if c.Engine.Name == dialects.MySQL {
			t.Partition = strings.ToLower(t.Partition)
			t.Updatable = false // the server takes some joins for updatable too
		}
		for k := range t.Columns {
			col := &t.Columns[k]
			col.Collation = ""
			if col.Generated != "" {
				col.Generated = "…"
			}
			if col.Default != nil {
				col.Default.Options = "" // which scripts rarely tell
			}
			if col.Default != nil && col.Default.Kind == catalog.Expression {
				col.Default.Text = "…"
			}
			if c.Engine.Name == dialects.MySQL {
				col.Declared = width.ReplaceAllString(col.Declared, "$1")
				if t.IsView() {
					col.Declared, col.Type = "", catalog.Type{Kind: col.Type.Kind}
				}
				if t.IsView() && col.Type.Kind == catalog.JSON || col.Name == "two" {
					col.Type.Kind = catalog.Text // MariaDB forgets what a view's text was
				}
			}
		}
		for k := range t.Checks {
			t.Checks[k].Expr = "…"
		}
		for k := range t.Indexes {
			in := &t.Indexes[k]
			in.Definition = ""
			if in.Where != "" {
				in.Where = "…"
			}
			for n := range in.Columns {
				if strings.HasPrefix(in.Columns[n], "(") {
					in.Columns[n] = "…"
				}
			}
		}
	}
	for i := range c.Domains {
		for k := range c.Domains[i].Checks {
			c.Domains[i].Checks[k].Expr = "…"
		}
	}
	for i := range c.Routines {
		r := &c.Routines[i]
		r.Definition, r.Session = "", ""
		r.Returns = width.ReplaceAllString(r.Returns, "$1")
		for k := range r.Arguments {
			r.Arguments[k].Declared = width.ReplaceAllString(r.Arguments[k].Declared, "$1")
		}
	}
	c.Notes = nil
	return c
}

func sameCatalog(t *testing.T, live, offline *catalog.Catalog) {
	t.Helper()
	require.Equal(t, len(live.Tables), len(offline.Tables))
	for i := range live.Tables {
		a, err := json.MarshalIndent(live.Tables[i], "", " ")
		require.NoError(t, err)
		b, err := json.MarshalIndent(offline.Tables[i], "", " ")
		require.NoError(t, err)
		assert.Equal(t, string(a), string(b), live.Tables[i].FullName())
	}
	assert.Equal(t, live.Enums, offline.Enums)
	assert.Equal(t, live.Domains, offline.Domains)
	assert.Equal(t, live.Composites, offline.Composites)
	assert.Equal(t, live.Sequences, offline.Sequences)
	assert.Equal(t, live.Routines, offline.Routines)
}

// schemasOf are those of the torture schema.
var schemasOf = map[string][]string{dialects.Postgres: {"public", "stock"}}

func writeScript(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "schema.sql")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	return path
}

// TestScriptsAndServersAgree reads the torture schemas and the demo from a
// server, from their scripts, from a dump of the server, and from a scratch
// database.
func TestScriptsAndServersAgree(t *testing.T) {
	for _, engine := range []string{dialects.Postgres, dialects.MySQL} {
		t.Run(engine, func(t *testing.T) {
			address, db := server(t, engine)
			for _, statement := range strings.Split(torture(t, engine), ";\n") {
				exec1(t, db, statement)
			}
			live := func() *catalog.Catalog { return alike(readURL(t, address, schemasOf[engine]...)) }
			from := func(s read.Source) *catalog.Catalog {
				s.Engine, s.Schemas = engine, schemasOf[engine]
				c, err := read.Read(t.Context(), s)
				require.NoError(t, err)
				return alike(c)
			}
			text := torture(t, engine)
			if engine == dialects.MySQL { // a view of a table that is gone
				text = strings.Replace(text, "CREATE VIEW broken", "CREATE VIEW gone_too", 1) + "\nDROP VIEW gone_too;\n"
			}
			script := writeScript(t, text)
			t.Run("script", func(t *testing.T) { sameCatalog(t, live(), from(read.Source{DDL: []string{script}})) })
			t.Run("scratch", func(t *testing.T) {
				sameCatalog(t, live(), from(read.Source{DDL: []string{script}, Scratch: address, Trusted: true}))
				for _, name := range databases(t, engine, address) {
					assert.NotContains(t, name, "widegate_scratch_", "the scratch database is gone")
				}
			})
			t.Run("dump", func(t *testing.T) {
				if engine == dialects.MySQL {
					exec1(t, db, "DROP VIEW broken")
				} else {
					exec1(t, db, "ALTER TABLE many_lists DROP COLUMN tt") // whose second dimension is not dumped
				}
				sameCatalog(t, live(), from(read.Source{DDL: []string{writeScript(t, dump(t, engine, address))}}))
			})
		})
	}
}

func TestTheDemoIsReadFromScripts(t *testing.T) {
	for _, engine := range []string{dialects.Postgres, dialects.MySQL} {
		address, db := server(t, engine)
		require.NoError(t, beekeeping.CreateTables(t.Context(), db))
		c, err := read.Read(t.Context(), read.Source{DDL: []string{"../../examples/beekeeping/schema/" + engine + ".sql"}})
		require.NoError(t, err)
		assert.Equal(t, engine, c.Engine.Name, "the dialect is guessed")
		live := alike(readURL(t, address))
		offline := alike(c)
		for i := range live.Tables { // MariaDB keeps JSON as text with a check, and names checks behind columns after them
			for k := range live.Tables[i].Columns {
				for _, c := range []*catalog.Catalog{live, offline} {
					c.Tables[i].Columns[k].Declared = strings.Replace(c.Tables[i].Columns[k].Declared, "longtext", "json", 1)
				}
			}
			require.Len(t, offline.Tables[i].Checks, len(live.Tables[i].Checks))
			if engine == dialects.MySQL {
				live.Tables[i].Checks, offline.Tables[i].Checks = nil, nil
			}
		}
		sameCatalog(t, live, offline)
	}
}

// dump runs the engine's own dump program.
func dump(t *testing.T, engine, address string) string {
	t.Helper()
	u, err := url.Parse(address)
	require.NoError(t, err)
	password, _ := u.User.Password()
	name, args := "pg_dump", []string{"--schema-only", address}
	if engine == dialects.MySQL {
		name = "mariadb-dump"
		args = []string{"-h", u.Hostname(), "-P", u.Port(), "-u", u.User.Username(), "--password=" + password, "--routines", "--no-data", strings.TrimPrefix(u.Path, "/")}
	}
	if _, err := program.LookPath(name); err != nil {
		testdb.Missing(t, name+" is not installed", "the packages are postgresql-client and mariadb-client")
	}
	text, err := program.Command(name, args...).Output()
	require.NoError(t, err)
	return string(text)
}

func databases(t *testing.T, engine, address string) []string {
	t.Helper()
	e, err := registry.Of(engine)
	require.NoError(t, err)
	names, err := engines.Databases(t.Context(), e, address)
	require.NoError(t, err)
	return names
}

// TestScratchIsDroppedWhateverHappens breaks a script in the middle.
func TestScratchIsDroppedWhateverHappens(t *testing.T) {
	for _, engine := range []string{dialects.Postgres, dialects.MySQL} {
		address, _ := server(t, engine)
		script := writeScript(t, "CREATE TABLE hive (id INT PRIMARY KEY);\nDROP DATABASE nowhere;\nINSERT INTO nowhere VALUES (1);\n\n  CREATE TABLE hive (id INT);\n")
		_, err := read.Read(t.Context(), read.Source{Engine: engine, DDL: []string{script}, Scratch: address, Trusted: true})
		require.ErrorContains(t, err, "schema.sql:5:3: CREATE TABLE hive (id INT)")
		assert.NotEmpty(t, fault.Next(err))
		for _, name := range databases(t, engine, address) {
			assert.NotContains(t, name, "widegate_scratch_")
		}
	}
	_, err := read.Read(t.Context(), read.Source{Engine: dialects.Postgres, DDL: []string{"x.sql"}, Scratch: "sqlite:bees.db"})
	require.ErrorContains(t, err, "no scratch database can be made")
}

func TestSnapshotsAreSources(t *testing.T) {
	script := writeScript(t, "CREATE TABLE hive (id serial PRIMARY KEY, name text)")
	c, err := read.Read(t.Context(), read.Source{DDL: []string{script}})
	require.NoError(t, err)
	text, err := c.Encode()
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "schema.json")
	require.NoError(t, os.WriteFile(path, text, 0o644))
	s, err := read.Parse([]string{path}, "")
	require.NoError(t, err)
	back, err := read.Read(t.Context(), s)
	require.NoError(t, err)
	again, err := back.Encode()
	require.NoError(t, err)
	assert.Equal(t, string(text), string(again))
	for text, want := range map[string]string{"{}": "version", "[1": "schema.json"} {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		_, err = read.Read(t.Context(), s)
		require.ErrorContains(t, err, want)
		assert.Contains(t, fault.Next(err), "read URL --json")
	}
	_, err = read.Read(t.Context(), read.Source{Snapshot: "none.json"})
	require.ErrorContains(t, err, "there is no snapshot none.json")
}

// TestCache holds a second reading to what was kept, and a changed script to
// what it says.
func TestCache(t *testing.T) {
	script := writeScript(t, "CREATE TABLE hive (id INTEGER PRIMARY KEY)")
	s := read.Source{DDL: []string{script}, Cache: read.Cache{Folder: filepath.Join(t.TempDir(), "a", "b"), Version: "1"}}
	tables := func() []string {
		c, err := read.Read(t.Context(), s)
		require.NoError(t, err)
		var names []string
		for _, t := range c.Tables {
			names = append(names, t.Name)
		}
		return names
	}
	assert.Equal(t, []string{"hive"}, tables())
	kept, err := filepath.Glob(filepath.Join(s.Cache.Folder, "*.json"))
	require.NoError(t, err)
	require.Len(t, kept, 1)
	text, err := os.ReadFile(kept[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(kept[0], []byte(strings.Replace(string(text), `"hive"`, `"kept"`, 1)), 0o644))
	assert.Equal(t, []string{"kept"}, tables(), "the kept catalog is used")
	require.NoError(t, os.WriteFile(kept[0], []byte("{"), 0o644))
	assert.Equal(t, []string{"hive"}, tables(), "a damaged one is not")
	require.NoError(t, os.WriteFile(script, []byte("CREATE TABLE queen (id INTEGER PRIMARY KEY)"), 0o644))
	assert.Equal(t, []string{"queen"}, tables())
	s.Cache.Version = "2"
	assert.Equal(t, []string{"queen"}, tables())
	kept, err = filepath.Glob(filepath.Join(s.Cache.Folder, "*.json"))
	require.NoError(t, err)
	assert.Len(t, kept, 3)
}

func TestMatches(t *testing.T) {
	for _, engine := range []string{dialects.Postgres, dialects.MySQL} {
		address, db := server(t, engine)
		for _, s := range []string{
			"CREATE TABLE hive (id INT PRIMARY KEY)", "CREATE TABLE visit (id INT PRIMARY KEY, hive_id INT, empty INT)",
			"INSERT INTO hive VALUES (1), (2)", "INSERT INTO visit VALUES (1, 1, NULL), (2, 1, NULL), (3, 7, NULL), (4, NULL, NULL)",
		} {
			exec1(t, db, s)
		}
		s := read.Source{Engine: engine, URL: address}
		c := readURL(t, address)
		visit, _ := c.Table("", "visit")
		hive, _ := c.Table("", "hive")
		list, err := read.Matches(t.Context(), s, []read.Pair{{visit, "hive_id", hive, "id"}, {visit, "empty", hive, "id"}, {visit, "gone", hive, "id"}})
		require.NoError(t, err)
		assert.Equal(t, read.Match{Values: 2, Matched: 1}, list[0])
		assert.Equal(t, read.Match{}, list[1])
		assert.Error(t, list[2].Fault)
	}
	_, err := read.Matches(t.Context(), read.Source{Snapshot: "a.json"}, nil)
	require.ErrorContains(t, err, "no data")
}

// TestMigrationsAgree runs a folder of migrations on a server, and reads it
// without one.
func TestMigrationsAgree(t *testing.T) {
	for _, engine := range []string{dialects.Postgres, dialects.MySQL} {
		t.Run(engine, func(t *testing.T) {
			folder := filepath.Join("testdata", "migrations", engine)
			address, db := server(t, engine)
			files, err := sqltext.Find([]string{folder})
			require.NoError(t, err)
			require.Len(t, files, 3)
			for _, f := range files {
				for _, s := range sqltext.Split(f, dialects.Of(engine)) {
					exec1(t, db, s.Text)
				}
			}
			c, err := read.Read(t.Context(), read.Source{Engine: engine, DDL: []string{folder}})
			require.NoError(t, err)
			live, offline := alike(readURL(t, address)), alike(c)
			if engine == dialects.MySQL { // what MariaDB calls a check that has no name
				for i := range live.Tables {
					require.Len(t, offline.Tables[i].Checks, len(live.Tables[i].Checks))
					live.Tables[i].Checks, offline.Tables[i].Checks = nil, nil
				}
			}
			sameCatalog(t, live, offline)
		})
	}
}

// TestErrorsInScripts has what is wrong, where, and what to do.
func TestErrorsInScripts(t *testing.T) {
	for _, c := range []struct{ engine, text, want string }{
		{dialects.Postgres, "CREATE TABLE hive (id int);\n  CREATE TABLE queen (id int primry key);", `schema.sql:2:30: CREATE TABLE queen (id int …: syntax error at or near "primry"`},
		{dialects.Postgres, "CREATE TABLE größe (id int primry key);", `schema.sql:1:28: `},
		{dialects.Postgres, "ALTER TABLE hive ADD x int;", `schema.sql:1:13: ALTER TABLE hive ADD x …: there is no table "hive" yet`},
		{dialects.Postgres, "CREATE TABLE hive (id int); CREATE TABLE hive (id int)", `there is a table "public.hive" already`},
		{dialects.Postgres, "CREATE TABLE hive (id int); ALTER TABLE hive DROP x", `table "public.hive" has no column "x"`},
		{dialects.Postgres, "CREATE TABLE hive (id int); ALTER TABLE hive ADD id int", `has a column "id" already`},
		{dialects.MySQL, "CREATE TABLE hive (id INT);\n  CREATE TABLE queen (id INT primry key);", `schema.sql:2:30: CREATE TABLE queen (id INT …: syntax error at or near "primry key)"`},
		{dialects.MySQL, "ALTER TABLE hive ADD x int", `there is no table "hive" yet`},
		{dialects.MySQL, "CREATE TABLE hive (id INT); ALTER TABLE hive DROP COLUMN x", `table "hive" has no column "x"`},
		{dialects.MySQL, "CREATE TABLE hive (id INT); CREATE TABLE hive (id INT)", `there is a table "hive" already`},
		{dialects.MySQL, "CREATE TABLE hive (", "the statement ends too early"},
		{dialects.SQLite, "CREATE TABLE hive (id INT,);", `schema.sql:1:27: CREATE TABLE hive (id INT,): near ")"`},
	} {
		_, err := read.Read(t.Context(), read.Source{Engine: c.engine, DDL: []string{writeScript(t, c.text)}})
		require.ErrorContains(t, err, c.want, c.text)
		assert.NotEmpty(t, fault.Next(err))
	}
	_, err := read.Read(t.Context(), read.Source{Engine: dialects.Postgres, Schemas: []string{"yard"}, DDL: []string{writeScript(t, "CREATE TABLE hive (id int)")}})
	require.ErrorContains(t, err, `there is no schema "yard"`)
}
