package read_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/examples/beekeeping"
	"widegate/gate"
	"widegate/gate/mysql"
	"widegate/gate/postgres"
	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/read"
	"widegate/internal/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// server is an engine with a new database.
func server(t *testing.T, engine string) (string, gate.DB) {
	t.Helper()
	var url string
	var db gate.DB
	var err error
	switch engine {
	case dialects.Postgres:
		url = testdb.Postgres(t)
		db, err = postgres.Open(t.Context(), url)
	case dialects.MySQL:
		url = testdb.MySQL(t)
		db, err = mysql.Open(t.Context(), url)
	}
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return url, db
}

func readURL(t *testing.T, url string, schemas ...string) *catalog.Catalog {
	t.Helper()
	c, err := read.Read(t.Context(), read.Source{URL: url, Schemas: schemas})
	require.NoError(t, err)
	return c
}

// TestTheDemoIsUnderstoodAlike reads the demo from three engines. What is left
// of the differences is what the engines themselves name or keep differently.
func TestTheDemoIsUnderstoodAlike(t *testing.T) {
	lite, err := read.Read(t.Context(), read.Source{DDL: []string{"../../examples/beekeeping/schema/sqlite.sql"}})
	require.NoError(t, err)
	for _, engine := range []string{dialects.Postgres, dialects.MySQL} {
		url, db := server(t, engine)
		require.NoError(t, beekeeping.CreateTables(t.Context(), db))
		c := readURL(t, url)
		require.Len(t, c.Tables, len(lite.Tables))
		for i, want := range lite.Tables {
			got := c.Tables[i]
			require.Equal(t, want.Name, got.Name)
			assert.Equal(t, want.Kind, got.Kind)
			assert.Equal(t, want.Comment, got.Comment)
			require.Len(t, got.Columns, len(want.Columns), want.Name)
			for k, column := range want.Columns {
				assert.Equal(t, column.Name, got.Columns[k].Name)
				assert.Equal(t, column.Nullable, got.Columns[k].Nullable, "%s.%s", want.Name, column.Name)
				assert.Equal(t, column.Default == nil, got.Columns[k].Default == nil, "%s.%s", want.Name, column.Name)
				if column.Default != nil {
					assert.Equal(t, column.Default.Kind, got.Columns[k].Default.Kind, "%s.%s", want.Name, column.Name)
				}
				if !want.IsView() {
					assert.Equal(t, column.Comment, got.Columns[k].Comment)
				}
			}
			assert.Equal(t, want.PrimaryKey == nil, got.PrimaryKey == nil)
			if want.PrimaryKey != nil {
				assert.Equal(t, want.PrimaryKey.Columns, got.PrimaryKey.Columns)
			}
			assert.Equal(t, columnsOfKeys(want.Uniques), columnsOfKeys(got.Uniques), want.Name)
			require.Len(t, got.References, len(want.References), want.Name)
			for k, ref := range want.References {
				assert.Equal(t, ref.Columns, got.References[k].Columns)
				assert.Equal(t, ref.Table, got.References[k].Table)
				assert.Equal(t, ref.Target, got.References[k].Target)
				assert.Equal(t, ref.OnDelete, got.References[k].OnDelete)
			}
		}
	}
}

func columnsOfKeys(keys []catalog.Key) map[string]bool {
	set := map[string]bool{}
	for _, k := range keys {
		set[catalog.Qualify("", k.Columns[0])+"/"+k.Columns[len(k.Columns)-1]] = true
	}
	return set
}

func exec(t *testing.T, db gate.DB, statements ...string) {
	t.Helper()
	for _, s := range statements {
		_, err := db.Exec(context.Background(), s, nil)
		require.NoError(t, err, s)
	}
}

func exec1(t *testing.T, db gate.DB, statement string) {
	t.Helper()
	if strings.TrimSpace(statement) != "" {
		exec(t, db, statement)
	}
}

func TestPostgres(t *testing.T) {
	url, db := server(t, dialects.Postgres)
	exec(t, db,
		`CREATE SCHEMA stock`,
		`CREATE TYPE stock.size AS ENUM ('small', 'it''s big')`,
		`CREATE DOMAIN weight AS numeric(8,3) CHECK (VALUE >= 0)`,
		`CREATE DOMAIN honey_weight AS weight`,
		`CREATE TABLE jar (id serial PRIMARY KEY, size stock.size DEFAULT 'it''s big', w honey_weight, half numeric(8,3) GENERATED ALWAYS AS (1.5) STORED,
			label varchar(30) DEFAULT 'a''b', tags text[], spot point, small int DEFAULT -5, taken timestamptz DEFAULT now(), code char(3), UNIQUE (label, small) DEFERRABLE)`,
		`CREATE TABLE stock.jar ("Odd Name" bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, jar_id int REFERENCES public.jar (id) ON DELETE RESTRICT)`,
		`CREATE UNIQUE INDEX jar_lower ON jar (lower(label))`,
		`CREATE UNIQUE INDEX jar_code ON jar (code)`,
		`CREATE INDEX jar_part ON jar (small) WHERE code IS NOT NULL`,
		`CREATE MATERIALIZED VIEW jar_count AS SELECT count(*) AS n FROM jar`,
		`CREATE TABLE reading (at date NOT NULL, v int) PARTITION BY RANGE (at)`,
		`CREATE TABLE reading_2026 PARTITION OF reading FOR VALUES FROM ('2026-01-01') TO ('2027-01-01')`,
	)
	c := readURL(t, url, "public", "stock")
	var names []string
	for _, table := range c.Tables {
		names = append(names, table.FullName())
	}
	assert.Equal(t, []string{"jar", "jar_count", "reading", "stock.jar"}, names, "a partition is part of its table")
	jar, _ := c.Table("", "jar")
	column := func(name string) catalog.Column { col, ok := jar.Column(name); require.True(t, ok, name); return *col }
	assert.Equal(t, catalog.Identity, column("id").Default.Kind)
	assert.Equal(t, catalog.Type{Kind: catalog.EnumKind, Enum: "stock.size"}, column("size").Type)
	assert.Equal(t, "it's big", column("size").Default.Text)
	assert.Equal(t, catalog.Type{Kind: catalog.Decimal, Precision: 8, Scale: 3}, column("w").Type, "a domain over a domain")
	assert.Equal(t, "1.5", column("half").Generated)
	assert.Equal(t, &catalog.Default{Kind: catalog.Constant, Text: "a'b"}, column("label").Default)
	assert.Equal(t, &catalog.Default{Kind: catalog.Constant, Text: "-5"}, column("small").Default)
	assert.Equal(t, catalog.Expression, column("taken").Default.Kind)
	assert.Equal(t, catalog.Type{Kind: catalog.Array, Element: &catalog.Type{Kind: catalog.Text}, Name: "text"}, column("tags").Type)
	assert.Equal(t, catalog.Geometric, column("spot").Type.Kind)
	assert.Equal(t, "honey_weight", column("w").Domain)
	assert.Equal(t, catalog.Type{Kind: catalog.Text, Size: 3}, column("code").Type)
	assert.Len(t, jar.Uniques, 2)
	assert.Equal(t, []catalog.Index{{Name: "jar_lower", Columns: []string{"(lower(label::text))"}, Unique: true}, {Name: "jar_part", Columns: []string{"small"}, Where: "(code IS NOT NULL)"}}, jar.Indexes)
	stock, _ := c.Table("stock", "jar")
	assert.Equal(t, []catalog.Reference{{Name: "jar_jar_id_fkey", Columns: []string{"jar_id"}, Table: "jar", Target: []string{"id"}, OnDelete: "restrict"}}, stock.References)
	assert.Equal(t, []catalog.Enum{{Schema: "stock", Name: "size", Labels: []string{"small", "it's big"}}}, c.Enums)
}

func TestMySQL(t *testing.T) {
	url, db := server(t, dialects.MySQL)
	exec(t, db,
		"CREATE TABLE `odd ``name` (id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, big BIGINT UNSIGNED, tiny TINYINT, yes TINYINT(1) DEFAULT 1, e ENUM('a','it''s') DEFAULT 'a', "+
			"s SET('x','y'), y YEAR, b BIT(3), d DATETIME(3) DEFAULT CURRENT_TIMESTAMP(3), t TIMESTAMP NULL, j JSON, txt TEXT, vc VARCHAR(20) DEFAULT 'it''s', half INT AS (big / 2) STORED, "+
			"UNIQUE KEY whole (vc), UNIQUE KEY part (txt(10)), CHECK (tiny > 3))",
		"CREATE TABLE child (a INT UNSIGNED, FOREIGN KEY up (a) REFERENCES `odd ``name` (id) ON DELETE SET NULL ON UPDATE CASCADE)",
		"CREATE FUNCTION twice(n INT) RETURNS INT DETERMINISTIC RETURN n * 2",
	)
	c := readURL(t, url)
	odd, ok := c.Table("", "odd `name")
	require.True(t, ok)
	types := map[string]catalog.Type{}
	for _, col := range odd.Columns {
		types[col.Name] = col.Type
	}
	assert.Equal(t, map[string]catalog.Type{
		"id": {Kind: catalog.Int, Bits: 32, Unsigned: true}, "big": {Kind: catalog.Int, Bits: 64, Unsigned: true}, "tiny": {Kind: catalog.Int, Bits: 8},
		"yes": {Kind: catalog.Bool}, "e": {Kind: catalog.EnumKind, Labels: []string{"a", "it's"}}, "s": {Kind: catalog.Set, Labels: []string{"x", "y"}}, "y": {Kind: catalog.Int, Bits: 16},
		"b": {Kind: catalog.Bytes, Size: 1}, "d": {Kind: catalog.Timestamp}, "t": {Kind: catalog.TimestampTZ}, "j": {Kind: catalog.JSON}, "txt": {Kind: catalog.Text},
		"vc": {Kind: catalog.Text, Size: 20}, "half": {Kind: catalog.Int, Bits: 32},
	}, types)
	yes, _ := odd.Column("yes")
	assert.Equal(t, &catalog.Default{Kind: catalog.Constant, Text: "true"}, yes.Default)
	vc, _ := odd.Column("vc")
	assert.Equal(t, &catalog.Default{Kind: catalog.Constant, Text: "it's"}, vc.Default)
	d, _ := odd.Column("d")
	assert.Equal(t, catalog.Expression, d.Default.Kind)
	half, _ := odd.Column("half")
	assert.NotEmpty(t, half.Generated)
	assert.Equal(t, []catalog.Key{{Name: "whole", Columns: []string{"vc"}}}, odd.Uniques, "a key over a prefix is none")
	require.Len(t, odd.Indexes, 1)
	assert.Equal(t, "part", odd.Indexes[0].Name)
	assert.Len(t, odd.Checks, 1)
	child, _ := c.Table("", "child")
	require.Len(t, child.References, 1)
	assert.Equal(t, []string{"a"}, child.References[0].Columns)
	assert.Equal(t, "odd `name", child.References[0].Table)
	assert.Equal(t, "set null", child.References[0].OnDelete)
	assert.Equal(t, "cascade", child.References[0].OnUpdate)
	require.Len(t, c.Routines, 1)
	assert.Equal(t, []catalog.Argument{{Name: "n", Declared: "int(11)"}}, c.Routines[0].Arguments)
}

func TestWrongPasswordAndRights(t *testing.T) {
	url, db := server(t, dialects.MySQL)
	exec(t, db, "CREATE USER IF NOT EXISTS widegate_guest@'127.0.0.1' IDENTIFIED BY 'right'")
	t.Cleanup(func() { exec(t, db, "DROP USER widegate_guest@'127.0.0.1'") })
	for password, want := range map[string]string{"wrong": "does not let", "right": "may not read database"} {
		guest := replaceUser(t, url, "widegate_guest:"+password)
		_, err := read.Read(t.Context(), read.Source{URL: guest})
		require.ErrorContains(t, err, want)
		assert.NotContains(t, err.Error(), "wrong@")
	}
}

func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"postgres://a@h/d": dialects.Postgres, "postgresql://h/d": dialects.Postgres, "mysql://h/d": dialects.MySQL, "MARIADB://h/d": dialects.MySQL,
		"sqlite:bees.db": dialects.SQLite, "bees.db": dialects.SQLite, `C:\bees.db`: dialects.SQLite, "schema.SQL": "", "schema.json": "", "schema/*.sql": "",
	} {
		s, err := read.Parse([]string{text}, "")
		require.NoError(t, err, text)
		assert.Equal(t, want, s.Engine, text)
	}
	for text, want := range map[string]string{"sqlite:a/b.db": "a/b.db", "sqlite:///a/b.db": "/a/b.db", "sqlite:/a.db": "/a.db", "a.db": "a.db"} {
		s := read.Source{URL: text}
		file, isFile := s.File()
		assert.True(t, isFile)
		assert.Equal(t, want, file)
	}
}

func replaceUser(t *testing.T, address, user string) string {
	t.Helper()
	_, host, found := strings.Cut(address, "@")
	require.True(t, found)
	return "mysql://" + user + "@" + host
}

// TestSchemasOfTheServer are refused on every engine, with the reason.
func TestSchemasOfTheServer(t *testing.T) {
	postgres, _ := server(t, dialects.Postgres)
	mysql, _ := server(t, dialects.MySQL)
	path := filepath.Join(t.TempDir(), "bees.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	script := writeScript(t, "CREATE TABLE hive (id serial PRIMARY KEY);")
	for _, c := range []struct {
		source read.Source
		want   string
	}{
		{read.Source{URL: postgres, Schemas: []string{"pg_catalog"}}, "schema of the server itself"},
		{read.Source{URL: postgres, Schemas: []string{"public", "information_schema"}}, "schema of the server itself"},
		{read.Source{URL: postgres, Schemas: []string{"pg_toast"}}, "schema of the server itself"},
		{read.Source{URL: mysql, Schemas: []string{"information_schema"}}, "schema of the server itself"},
		{read.Source{URL: mysql, Schemas: []string{"MySQL"}}, "schema of the server itself"},
		{read.Source{URL: strings.Replace(mysql, mysql[strings.LastIndex(mysql, "/"):], "/mysql", 1)}, "database of the server itself"},
		{read.Source{URL: path, Schemas: []string{"temp"}}, "no schema"},
		{read.Source{DDL: []string{script}, Engine: dialects.Postgres, Schemas: []string{"pg_catalog"}}, "schema of the server itself"},
	} {
		_, err := read.Read(t.Context(), c.source)
		require.ErrorContains(t, err, c.want, c.source.Schemas)
		assert.NotEmpty(t, fault.Next(err))
	}
	c, err := read.Read(t.Context(), read.Source{URL: path, Schemas: []string{"main"}})
	require.NoError(t, err)
	assert.Empty(t, c.Tables)
}
