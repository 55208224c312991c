package live

import (
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/ncruces/go-sqlite3/driver"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/sqltext"
)

func readText(t *testing.T, text string) *catalog.Catalog {
	t.Helper()
	path := filepath.Join(t.TempDir(), "schema.sql")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	files, err := sqltext.Find([]string{path})
	require.NoError(t, err)
	c, err := ReadScripts(t.Context(), files)
	require.NoError(t, err)
	return c
}

func table(t *testing.T, c *catalog.Catalog, name string) *catalog.Table {
	t.Helper()
	found, ok := c.Table("", name)
	require.True(t, ok, name)
	return found
}

func TestKeysAndReferences(t *testing.T) {
	c := readText(t, `
		CREATE TABLE "Hive Stand" ("the id" INTEGER, row_no INT, CONSTRAINT stand_key PRIMARY KEY (row_no, "the id")) WITHOUT ROWID;
		CREATE TABLE hive (
			id INTEGER PRIMARY KEY,
			stand_row INT, stand_id INT,
			mother INTEGER REFERENCES HIVE ON DELETE SET NULL,
			code TEXT CONSTRAINT code_once UNIQUE,
			name TEXT NOT NULL COLLATE NOCASE,
			CONSTRAINT on_stand FOREIGN KEY (stand_row, stand_id) REFERENCES "Hive Stand" (row_no, "the id") ON UPDATE CASCADE,
			CONSTRAINT named UNIQUE (stand_id, name)
		);
		CREATE UNIQUE INDEX hive_name ON hive (name) WHERE code IS NULL;
		CREATE INDEX hive_lower ON hive (lower(name), code);
		CREATE TRIGGER t AFTER INSERT ON hive BEGIN UPDATE hive SET code = CASE WHEN 1 THEN 'x' END; SELECT 1; END;
		CREATE TABLE last (id INT);`)
	stand := table(t, c, "Hive Stand")
	assert.Equal(t, &catalog.Key{Name: "stand_key", Columns: []string{"row_no", "the id"}}, stand.PrimaryKey)
	hive := table(t, c, "hive")
	assert.Equal(t, []catalog.Reference{
		{Name: "on_stand", Columns: []string{"stand_row", "stand_id"}, Table: "Hive Stand", Target: []string{"row_no", "the id"}, OnUpdate: "cascade"},
		{Columns: []string{"mother"}, Table: "hive", Target: []string{"id"}, OnDelete: "set null"},
	}, hive.References)
	assert.Equal(t, []catalog.Key{{Name: "code_once", Columns: []string{"code"}}, {Name: "named", Columns: []string{"stand_id", "name"}}}, hive.Uniques)
	require.Len(t, hive.Indexes, 2)
	assert.Equal(t, catalog.Index{Name: "hive_lower", Columns: []string{"(expression)", "code"}, Definition: "CREATE INDEX hive_lower ON hive (lower(name), code)"}, hive.Indexes[0])
	assert.Equal(t, catalog.Index{Name: "hive_name", Columns: []string{"name"}, Unique: true, Where: "code IS NULL", Definition: "CREATE UNIQUE INDEX hive_name ON hive (name) WHERE code IS NULL"}, hive.Indexes[1])
	table(t, c, "last")
}

func TestColumns(t *testing.T) {
	c := readText(t, `CREATE TABLE hive (
		-- The number on the lid.
		id INTEGER PRIMARY KEY,
		name VARCHAR(60) NOT NULL DEFAULT 'it''s', -- Painted; in front, "here".
		/* grams */ weight DECIMAL(6,2) DEFAULT 1.50 CHECK (weight > 0),
		active BOOLEAN DEFAULT TRUE,
		flag BOOLEAN DEFAULT 0,
		made TIMESTAMP DEFAULT CURRENT_TIMESTAMP,
		absent TEXT DEFAULT NULL,
		double_weight REAL GENERATED ALWAYS AS (weight * 2) STORED,
		untyped,
		odd "FLYING SAUCER",
		CONSTRAINT light CHECK (weight < 100 AND name <> ')')
	)`)
	hive := table(t, c, "hive")
	byName := map[string]catalog.Column{}
	for _, col := range hive.Columns {
		byName[col.Name] = col
	}
	constant := func(text string) *catalog.Default { return &catalog.Default{Kind: catalog.Constant, Text: text} }
	assert.Equal(t, &catalog.Default{Kind: catalog.Identity}, byName["id"].Default)
	assert.False(t, byName["id"].Nullable)
	assert.Equal(t, "The number on the lid.", byName["id"].Comment)
	assert.Equal(t, constant("it's"), byName["name"].Default)
	assert.Equal(t, `Painted; in front, "here".`, byName["name"].Comment)
	assert.Equal(t, catalog.Type{Kind: catalog.Text, Size: 60}, byName["name"].Type)
	assert.Equal(t, constant("1.50"), byName["weight"].Default)
	assert.Equal(t, catalog.Type{Kind: catalog.Decimal, Precision: 6, Scale: 2}, byName["weight"].Type)
	assert.Equal(t, constant("true"), byName["active"].Default)
	assert.Equal(t, constant("false"), byName["flag"].Default)
	assert.Equal(t, &catalog.Default{Kind: catalog.Expression, Text: "CURRENT_TIMESTAMP"}, byName["made"].Default)
	assert.Nil(t, byName["absent"].Default)
	assert.Equal(t, "weight * 2", byName["double_weight"].Generated)
	assert.Equal(t, catalog.Other, byName["untyped"].Type.Kind)
	assert.Equal(t, catalog.Other, byName["odd"].Type.Kind)
	assert.Equal(t, []catalog.Check{{Expr: "weight > 0"}, {Name: "light", Expr: "weight < 100 AND name <> ')'"}}, hive.Checks)
}

func TestViewsAreTyped(t *testing.T) {
	c := readText(t, `
		CREATE TABLE hive (id INTEGER PRIMARY KEY, name TEXT, weight DECIMAL(6,2), seen DATE);
		CREATE VIEW summary AS
		SELECT name, count(*) AS n, sum(h.weight) AS total, avg(weight), max(seen) AS last, (SELECT min(seen) FROM hive) AS first,
			coalesce(sum(weight), 0) AS safe, weight + 1 AS more
		FROM hive AS h GROUP BY name;`)
	var kinds []catalog.TypeKind
	for _, col := range table(t, c, "summary").Columns {
		kinds = append(kinds, col.Type.Kind)
	}
	assert.Equal(t, []catalog.TypeKind{
		catalog.Text, catalog.Int, catalog.Decimal, catalog.Float, catalog.Date, catalog.Date, catalog.Decimal, catalog.Other,
	}, kinds)
}

func TestBrokenViewsDoNotStopTheReading(t *testing.T) {
	c := readText(t, `
		CREATE TABLE hive (id INTEGER PRIMARY KEY);
		CREATE VIEW fine AS SELECT id FROM hive;
		CREATE VIEW broken AS SELECT id FROM missing;`)
	table(t, c, "fine")
	_, there := c.Table("", "broken")
	assert.False(t, there)
	require.Len(t, c.Notes, 1)
	assert.Equal(t, "broken", c.Notes[0].Table)
	assert.Contains(t, c.Notes[0].Text, "no such table: main.missing")
}

func TestScriptErrorsHaveALine(t *testing.T) {
	path := filepath.Join(t.TempDir(), "bad.sql")
	require.NoError(t, os.WriteFile(path, []byte("-- one; two\nCREATE TABLE a (id INT);\n\n  CREATE INDEX ON nowhere (x);"), 0o644))
	files, err := sqltext.Find([]string{path})
	require.NoError(t, err)
	_, err = ReadScripts(t.Context(), files)
	require.ErrorContains(t, err, "bad.sql:4:16: CREATE INDEX ON nowhere (x): near \"ON\"")
	assert.NotEmpty(t, fault.Next(err))
}

func TestReadingAFileLeavesItAlone(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "bees #1?.db")
	db, err := sql.Open("sqlite3", filepath.Join(folder, "made.db"))
	require.NoError(t, err)
	_, err = db.Exec("PRAGMA journal_mode = WAL; CREATE TABLE hive (id INTEGER PRIMARY KEY); INSERT INTO hive VALUES (1), (2), (7)")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	require.NoError(t, os.Rename(filepath.Join(folder, "made.db"), path))
	before, err := os.ReadFile(path)
	require.NoError(t, err)
	c, err := ReadFile(t.Context(), path)
	require.NoError(t, err)
	assert.Equal(t, int64(7), table(t, c, "hive").Rows)
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, before, after)
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Len(t, left, 1)
}

func FuzzCreateTable(f *testing.F) {
	for _, s := range []string{"", "CREATE TABLE a (b)", "CREATE TABLE a (b CHECK (b > 1), -- c\nUNIQUE (b)) WITHOUT ROWID", "create virtual table x using y", "(,)("} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for column := range scanCreateTable(s).columns {
			require.Equal(t, strings.ToLower(column), column)
		}
	})
}

// TestUnknownModulesDoNotStopTheReading has a virtual table of a module that is
// not built in, among others.
func TestUnknownModulesDoNotStopTheReading(t *testing.T) {
	path := filepath.Join(t.TempDir(), "bees.db")
	db, err := driver.Open(path, addModules)
	require.NoError(t, err)
	_, err = db.Exec(`CREATE TABLE hive (id INTEGER PRIMARY KEY, n INT REFERENCES hive) STRICT;
		CREATE TABLE mark (code TEXT PRIMARY KEY) WITHOUT ROWID;
		CREATE VIRTUAL TABLE notes USING fts5 (body);
		PRAGMA writable_schema = 1;
		INSERT INTO sqlite_schema VALUES ('table', 'shapes', 'shapes', 0, 'CREATE VIRTUAL TABLE shapes USING nobody_has_this (a)');`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	c, err := ReadFile(t.Context(), path)
	require.NoError(t, err)
	assert.Equal(t, []string{"strict"}, table(t, c, "hive").Options)
	assert.Len(t, table(t, c, "hive").References, 1)
	assert.Equal(t, []string{"without rowid"}, table(t, c, "mark").Options)
	assert.Equal(t, []string{"virtual"}, table(t, c, "notes").Options)
	assert.Len(t, table(t, c, "notes").Columns, 1, "and not what the module hides")
	require.Len(t, c.Notes, 1)
	assert.Equal(t, "shapes", c.Notes[0].Table)
	assert.Contains(t, c.Notes[0].Text, "no such module")
}

func TestScriptsReachNoOtherFiles(t *testing.T) {
	folder := t.TempDir()
	other := filepath.Join(folder, "other.db")
	c := readText(t, "ATTACH DATABASE '"+other+"' AS o; CREATE TABLE hive (id INTEGER PRIMARY KEY); INSERT INTO nowhere VALUES (1); VACUUM INTO '"+other+"';")
	assert.Len(t, c.Tables, 1)
	assert.NoFileExists(t, other)
}

// TestDumpsOfTheShell has what the shell of SQLite prints and takes.
func TestDumpsOfTheShell(t *testing.T) {
	c, err := ReadScripts(t.Context(), []*sqltext.File{{Path: "a.sql", Text: "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\nCREATE TABLE sqlite_sequence(name,seq);\nCREATE TABLE sqlite_stat1(tbl,idx,stat);\n# a comment\n.print x\nCREATE TABLE hive (id INTEGER PRIMARY KEY AUTOINCREMENT, \"end\" TEXT);\nINSERT INTO sqlite_sequence VALUES('hive',1);\nATTACH 'x.db' AS y;\nANALYZE sqlite_schema;\nCOMMIT;"}})
	require.NoError(t, err)
	require.Len(t, c.Tables, 1)
	require.Len(t, c.Notes, 1)
	assert.Equal(t, "a.sql:9:1: ATTACH 'x.db' AS y: is not run: no other file is opened", c.Notes[0].Text)
}
