package migration_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"widegate/internal/migration"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/read"
)

// schemaOf reads DDL without a server.
func schemaOf(t *testing.T, engine, ddl string) *catalog.Catalog {
	t.Helper()
	file := filepath.Join(t.TempDir(), "schema.sql")
	require.NoError(t, os.WriteFile(file, []byte(ddl), 0o644))
	c, err := read.Read(t.Context(), read.Source{Engine: engine, DDL: []string{file}})
	require.NoError(t, err)
	return c
}

func draftOf(t *testing.T, engine, before, after string, o migration.Options) (*migration.Script, string) {
	t.Helper()
	s, err := draft(schemaOf(t, engine, before), schemaOf(t, engine, after), o)
	require.NoError(t, err)
	return s, string(s.Text("Test."))
}

const hive = "CREATE TABLE hive (id bigint PRIMARY KEY, title varchar(40) NOT NULL, frames int);\n"

// TestDecisions looks at each kind of place that only a person can decide.
func TestDecisions(t *testing.T) {
	for _, engine := range []string{dialects.Postgres, dialects.MySQL, dialects.SQLite} {
		for _, c := range []struct{ what, before, after, question, proposal string }{
			{"a new mandatory column", hive, strings.Replace(hive, "frames int", "frames int, paint varchar(20) NOT NULL", 1), "paint of hive is new, must have a value and has no default", "paint"},
			{"a mandatory reference", hive, strings.Replace(hive, "frames int", "frames int, split_from bigint NOT NULL REFERENCES hive (id)", 1), "split_from of hive is new", "(SELECT min(id) FROM hive)"},
			{"a column that is gone", hive, strings.Replace(hive, ", frames int", "", 1), "frames of hive is gone. What becomes of its values?", "SELECT id, frames FROM hive"},
			{"a table that is gone", hive + "CREATE TABLE note (id bigint PRIMARY KEY);", hive, "The table note is gone", "TO note_kept"},
			{"nulls that may not be", hive, strings.Replace(hive, "frames int", "frames int NOT NULL", 1), "frames of hive must have a value now", "DELETE FROM hive WHERE frames IS NULL"},
			{"a split", hive, strings.Replace(hive, "title varchar(40) NOT NULL", "head varchar(40), tail varchar(40)", 1), "title of hive is gone, and head and tail are new. Do its words go into them?", "UPDATE hive SET head = coalesce("},
			{"a table of pairs in place of a reference",
				hive + "CREATE TABLE keeper (id bigint PRIMARY KEY, hive_id bigint REFERENCES hive (id));",
				hive + "CREATE TABLE keeper (id bigint PRIMARY KEY);\nCREATE TABLE hive_keeper (hive_id bigint NOT NULL REFERENCES hive (id), keeper_id bigint NOT NULL REFERENCES keeper (id), PRIMARY KEY (hive_id, keeper_id));",
				"hive_id of keeper is gone", "INSERT INTO hive_keeper (keeper_id, hive_id) SELECT id, hive_id FROM keeper WHERE hive_id IS NOT NULL"},
		} {
			s, text := draftOf(t, engine, c.before, c.after, migration.Options{})
			require.NotEmpty(t, s.Open(), "%s: %s", engine, c.what)
			assert.Contains(t, s.Decisions[0].Question, c.question, engine)
			assert.Contains(t, strings.ReplaceAll(text, "\n--      ", " "), c.proposal, "%s: %s", engine, c.what)
			assert.Regexp(t, `(?s)DECIDE 1[,;].*DECIDE 1;`, text, "ahead of all steps, and at the place")
			assert.Error(t, s.Run(t.Context(), func(context.Context, string) error { t.Error("it runs"); return nil }))
			_, taken := draftOf(t, engine, c.before, c.after, migration.Options{Decide: func(*migration.Decision) int { return 0 }})
			assert.NotContains(t, taken, "\nDECIDE")
		}
	}
}

func TestNarrowingTypes(t *testing.T) {
	narrow := strings.Replace(hive, "varchar(40)", "varchar(10)", 1)
	for engine, stops := range map[string]string{dialects.Postgres: "char_length(title) > 10", dialects.MySQL: "char_length(title) > 10"} {
		s, text := draftOf(t, engine, hive, narrow, migration.Options{})
		require.Len(t, s.Open(), 1, engine)
		assert.Contains(t, text, stops)
		s, _ = draftOf(t, engine, narrow, hive, migration.Options{})
		assert.Empty(t, s.Open(), "%s: wider needs no decision", engine)
	}
	for _, c := range []struct {
		was, now catalog.Type
		widens   bool
	}{
		{catalog.Type{Kind: catalog.Int, Bits: 32}, catalog.Type{Kind: catalog.Int, Bits: 64}, true},
		{catalog.Type{Kind: catalog.Int, Bits: 32, Unsigned: true}, catalog.Type{Kind: catalog.Int, Bits: 32}, false},
		{catalog.Type{Kind: catalog.Decimal, Precision: 6, Scale: 2}, catalog.Type{Kind: catalog.Decimal, Precision: 8, Scale: 3}, true},
		{catalog.Type{Kind: catalog.Decimal, Precision: 6, Scale: 2}, catalog.Type{Kind: catalog.Decimal, Precision: 6, Scale: 3}, false},
		{catalog.Type{Kind: catalog.Text, Size: 20}, catalog.Type{Kind: catalog.Text}, true},
		{catalog.Type{Kind: catalog.Text}, catalog.Type{Kind: catalog.Int, Bits: 64}, false},
		{catalog.Type{Kind: catalog.TimestampTZ}, catalog.Type{Kind: catalog.Date}, false},
		{catalog.Type{Kind: catalog.EnumKind, Labels: []string{"a"}}, catalog.Type{Kind: catalog.EnumKind, Labels: []string{"b", "a"}}, true},
		{catalog.Type{Kind: catalog.EnumKind, Labels: []string{"a", "b"}}, catalog.Type{Kind: catalog.EnumKind, Labels: []string{"a"}}, false},
	} {
		assert.Equal(t, c.widens, migration.Widens(c.was, c.now), "%v to %v", c.was, c.now)
	}
}

// TestLargeTables has the locks pointed out, of tables that may be large only.
func TestLargeTables(t *testing.T) {
	before := schemaOf(t, dialects.Postgres, hive)
	after := schemaOf(t, dialects.Postgres, strings.Replace(hive, "frames int", "frames bigint UNIQUE CHECK (frames > 0), paint uuid DEFAULT gen_random_uuid(), split_from bigint REFERENCES hive (id)", 1)+"CREATE INDEX hive_title ON hive (title);")
	text := func() string {
		s, err := draft(before, after, migration.Options{})
		require.NoError(t, err)
		return string(s.Text("Test."))
	}
	for _, note := range []string{"This rewrites the table", "CREATE UNIQUE INDEX CONCURRENTLY", "VALIDATE CONSTRAINT", "CREATE INDEX CONCURRENTLY", "Each row gets a value of its own"} {
		assert.Contains(t, text(), note, "the number of rows is not known")
	}
	before.Tables[0].Rows = 200
	assert.NotContains(t, text(), "CONCURRENTLY", "it is small")
}

func TestEnginesMustBeTheSame(t *testing.T) {
	_, err := draft(&catalog.Catalog{Engine: dialects.Of(dialects.MySQL)}, &catalog.Catalog{Engine: dialects.Of(dialects.SQLite)}, migration.Options{})
	require.ErrorContains(t, err, "one schema is of mysql, the other of sqlite")
	assert.NotEmpty(t, fault.Next(err))
	same := schemaOf(t, dialects.SQLite, hive)
	_, err = draft(same, same, migration.Options{})
	assert.ErrorIs(t, err, migration.ErrSame)
}

func TestFileNames(t *testing.T) {
	for _, c := range []struct {
		files       []string
		what        string
		there, back string
	}{
		{nil, "Add the paint!", "0001_add_the_paint.sql", "0001_add_the_paint.down.sql"},
		{[]string{"0009_x.sql", "0010_y.sql", "readme.md"}, "hive", "0011_hive.sql", "0011_hive.down.sql"},
		{[]string{"000007-x.up.sql", "000007-x.down.sql"}, "hive", "000008-hive.up.sql", "000008-hive.down.sql"},
		{[]string{"99.sql"}, "größe", "100.größe.sql", "100.größe.down.sql"},
		{[]string{"00_a.sql"}, "", "01_changes.sql", "01_changes.down.sql"},
	} {
		folder := t.TempDir()
		for _, f := range c.files {
			require.NoError(t, os.WriteFile(filepath.Join(folder, f), nil, 0o644))
		}
		there, back, err := migration.FileNames(folder, c.what)
		require.NoError(t, err)
		assert.Equal(t, c.there, filepath.Base(there))
		assert.Equal(t, c.back, filepath.Base(back))
	}
	there, _, err := migration.FileNames(filepath.Join(t.TempDir(), "nowhere"), "x")
	require.NoError(t, err, "the folder may come later")
	assert.Equal(t, "0001_x.sql", filepath.Base(there))
}

func TestExtend(t *testing.T) {
	for _, engine := range []string{dialects.Postgres, dialects.MySQL, dialects.SQLite} {
		c := &catalog.Catalog{Engine: dialects.Of(engine)}
		var err error
		c, err = extend(c, "keeper", []string{"name:text(80)", "mail:text(120),unique"})
		require.NoError(t, err)
		c, err = extend(c, "hive", []string{"keeper_id:keeper,cascade", "name:text", "temper:enum(calm|fierce),default=calm", "kg:decimal(6,2),null,index", "made:timestamp,default=CURRENT_TIMESTAMP", "flag:bool,default=true", "doc:json,null", "pic:bytes,null", "at:time,null", "day:date", "n:int", "big:bigint", "f:float", "u:uuid,null"})
		require.NoError(t, err)
		c, err = extend(c, "hive", []string{"paint:text(20),null", "box:int,default=1"})
		require.NoError(t, err)
		s, err := draft(&catalog.Catalog{Engine: dialects.Of(engine)}, c, migration.Options{})
		require.NoError(t, err)
		db := open(t, engine)
		require.NoError(t, s.Run(t.Context(), workspace{db, t}.Exec), "%s", s.Text("x"))
		got := db.read(t)
		hive, ok := got.Table("", "hive")
		require.True(t, ok)
		assert.Equal(t, []string{"id"}, hive.PrimaryKey.Columns)
		require.Len(t, hive.Columns, 17)
		kg, _ := hive.Column("kg")
		assert.True(t, kg.Nullable)
		assert.Equal(t, catalog.Decimal, kg.Type.Kind)
		require.Len(t, hive.References, 1)
		assert.Equal(t, "cascade", hive.References[0].OnDelete)
		flag, _ := hive.Column("flag")
		assert.Equal(t, &catalog.Default{Kind: catalog.Constant, Text: "true"}, flag.Default, engine)
	}
	for wish, want := range map[string]string{
		"name":               `"name" is no column`,
		"name:":              `"name:" is no column`,
		"name:texxt":         `there is no type "texxt", and no table of that name`,
		"name:text,nul":      `there is no option "nul"`,
		"id:bigint,null":     "hive has a column id already",
		"d:decimal":          `there is no type "decimal"`,
		"name:raw inet,null": "",
	} {
		c := schemaOf(t, dialects.Postgres, hive)
		_, err := extend(c, "hive", []string{wish})
		if want == "" {
			assert.NoError(t, err, wish)
			continue
		}
		require.ErrorContains(t, err, want)
		assert.NotEmpty(t, fault.Next(err), wish)
	}
	_, err := extend(schemaOf(t, dialects.Postgres, hive), "hive", nil)
	assert.ErrorContains(t, err, "the table hive is there already")
	_, err = extend(schemaOf(t, dialects.Postgres, hive+"CREATE VIEW v AS SELECT id FROM hive;"), "v", []string{"a:int"})
	assert.ErrorContains(t, err, "v is a view")
}

// TestRebuildsKeepTriggersAndNumbers has a SQLite table made again around what
// hangs on it.
func TestRebuildsKeepTriggersAndNumbers(t *testing.T) {
	before := `CREATE TABLE hive (id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT COLLATE NOCASE, frames TEXT);
CREATE TABLE log (t TEXT);
CREATE TRIGGER hive_log AFTER INSERT ON hive BEGIN INSERT INTO log VALUES (new.name); END;
CREATE INDEX hive_low ON hive (lower(name) DESC);
CREATE VIEW names AS SELECT name FROM hive;
`
	db, other := open(t, dialects.SQLite), open(t, dialects.SQLite)
	for _, s := range []string{before, "INSERT INTO hive (id, name, frames) VALUES (7, 'a', '1'), (9, 'b', '2'); DELETE FROM hive WHERE id = 9"} {
		_, err := db.ExecContext(t.Context(), s)
		require.NoError(t, err)
	}
	_, err := other.ExecContext(t.Context(), strings.Replace(before, "frames TEXT", "frames INTEGER NOT NULL DEFAULT 10", 1))
	require.NoError(t, err)
	move(t, db, db.read(t), other.read(t), nil)
	assert.Equal(t, plain(t, other.read(t)), plain(t, db.read(t)))
	for query, want := range map[string]string{
		"INSERT INTO hive (name) VALUES ('C') RETURNING id":          "10",
		"SELECT count(*) FROM hive WHERE name = 'A'":                 "1",
		"SELECT frames + 1 FROM hive WHERE id = 7":                   "2",
		"SELECT foreign_keys FROM pragma_foreign_keys":               "1",
		"SELECT count(*) FROM sqlite_schema WHERE name = 'hive_low'": "1",
	} {
		var got string
		require.NoError(t, db.QueryRowContext(t.Context(), query).Scan(&got), query)
		assert.Equal(t, want, got, query)
	}
	var last string
	require.NoError(t, db.QueryRowContext(t.Context(), "SELECT t FROM log ORDER BY rowid DESC").Scan(&last))
	assert.Equal(t, "C", last, "the trigger is there")
}

func FuzzExtend(f *testing.F) {
	for _, seed := range []string{"name:text(60)", "kg:decimal(6,2),null", "t:enum(a|b|'),default=a", "x:raw inet,unique", "::", "a:enum(),,", "größe:int,default=now()"} {
		f.Add(seed)
	}
	c := &catalog.Catalog{Engine: dialects.Of(dialects.SQLite)}
	f.Fuzz(func(t *testing.T, wish string) {
		out, err := extend(c, "hive", []string{wish})
		if err != nil {
			require.NotEmpty(t, fault.Next(err))
			return
		}
		s, err := draft(c, out, migration.Options{})
		require.NoError(t, err)
		require.Contains(t, string(s.Text("x")), "CREATE TABLE hive")
	})
}
