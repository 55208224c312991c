package ddl

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

func readText(t testing.TB, d sqltext.Dialect, text string) (*catalog.Catalog, error) {
	t.Helper()
	return Read(t.Context(), d, []*sqltext.File{{Path: "schema.sql", Text: text}}, nil)
}

func TestObjectNames(t *testing.T) {
	assert.Equal(t, "hive_name_key", objectName("hive", "name", "key"))
	assert.Equal(t, "hive_pkey", objectName("hive", "", "pkey"))
	long := objectName(strings.Repeat("a", 60), strings.Repeat("b", 10), "fkey")
	assert.Len(t, long, 63)
	assert.True(t, strings.HasSuffix(long, "_bbbbbbbbbb_fkey"), "the longer part is cut: %s", long)
}

// TestPrinting holds expressions to the form in which the server prints them,
// but for the casts that it adds.
func TestPrinting(t *testing.T) {
	p := &pg{}
	for text, want := range map[string]string{
		"a > 0 AND b IS NOT NULL":            "((a > 0) AND (b IS NOT NULL))",
		"NOT a OR b IS NULL":                 "((NOT a) OR (b IS NULL))",
		"a IN ('x', 'it''s')":                "(a = ANY (ARRAY['x', 'it''s']))",
		"a NOT IN (1, 2)":                    "(a <> ALL (ARRAY[1, 2]))",
		"a BETWEEN -1 AND 1.5":               "((a >= -1) AND (a <= 1.5))",
		"lower(\"Name\") || 'x'::varchar(5)": "(lower(\"Name\") || 'x'::character varying(5))",
		"coalesce(a, now())":                 "COALESCE(a, now())",
		"CURRENT_TIMESTAMP":                  "CURRENT_TIMESTAMP",
		"CASE WHEN a THEN 1 ELSE 2 END":      "CASE WHEN a THEN 1 ELSE 2 END",
		"CASE a WHEN 1 THEN 'x' END":         "CASE a WHEN 1 THEN 'x' END",
		"ARRAY[1, 2]::int[]":                 "ARRAY[1, 2]::integer[]",
		"true AND 'f'::boolean":              "(true AND false)",
		"a IS DISTINCT FROM b":               "(a IS DISTINCT FROM b)",
		"greatest(a, b) = ANY (c)":           "(GREATEST(a, b) = ANY (c))",
		"(a).b[1]":                           "(a).b[1]",
		"a COLLATE \"C\"":                    "(a COLLATE C)",
		"nullif(a, '')":                      "NULLIF(a, '')",
		"pg_catalog.date_part('year', a)":    "date_part('year', a)",
		"a IS TRUE":                          "(a IS TRUE)",
		"- a":                                "(- a)",
		"B'101'":                             "B'101'",
		"NULL":                               "NULL",
		"count(*)":                           "count(*)",
		"EXISTS (SELECT 1)":                  "(SELECT …)",
		"a ~ 'x' AND b LIKE 'y%'":            "((a ~ 'x') AND (b ~~ 'y%'))",
		"make_interval(days => 3)":           "make_interval(days => 3)",
	} {
		n, err := parseTree("SELECT " + text)
		require.NoError(t, err, text)
		assert.Equal(t, want, strings.ReplaceAll(p.print(n.list("targetList")[0].at("val")), "'-1'", "-1"), text)
	}
}

func TestViewTypes(t *testing.T) {
	c, err := readText(t, sqltext.Postgres, `
		CREATE TABLE hive (id bigint PRIMARY KEY, name varchar(20), weight numeric(6,2), born date, tags text[], seen timestamptz, f real, j jsonb);
		CREATE VIEW every AS WITH heavy AS (SELECT id, weight AS w FROM hive WHERE weight > 10)
		SELECT h.*, x.w, count(*) AS n, sum(h.id) AS ids, avg(h.weight) AS mean, max(h.name) AS last_name, h.born - 1 AS before, h.seen - h.seen AS span,
			h.f * 2 AS twice, h.id + 1.5 AS more, h.name || '!' AS loud, h.j ->> 'a' AS a, h.j -> 'b' AS b, array_agg(h.name) AS names, unnest(h.tags) AS tag,
			EXISTS (SELECT 1) AS some, (SELECT min(born) FROM hive) AS first, CASE WHEN true THEN NULL ELSE 5 END AS five, nullif(h.name, '') AS named,
			row_number() OVER () AS place, CURRENT_DATE AS today, date_trunc('day', h.seen) AS day, extract(year FROM h.born) AS year, my.own AS own, nobody(1) AS unknown
		FROM hive h JOIN heavy x USING (id), (VALUES (1, 'x')) AS my (own, text) GROUP BY h.id, x.w, my.own;
		CREATE VIEW either AS SELECT id FROM hive UNION SELECT 2;
		CREATE VIEW plain (hive_id) AS SELECT id FROM hive;`)
	require.NoError(t, err)
	view, ok := c.Table("", "every")
	require.True(t, ok)
	got := map[string]string{}
	for _, column := range view.Columns {
		got[column.Name] = column.Declared
	}
	assert.Equal(t, map[string]string{
		"id": "bigint", "name": "character varying(20)", "weight": "numeric(6,2)", "born": "date", "tags": "text[]", "seen": "timestamp with time zone", "f": "real", "j": "jsonb",
		"w": "numeric(6,2)", "n": "bigint", "ids": "numeric", "mean": "numeric", "last_name": "character varying", "before": "date", "span": "interval",
		"twice": "double precision", "more": "numeric", "loud": "text", "a": "text", "b": "jsonb", "names": "character varying[]", "tag": "text",
		"some": "boolean", "first": "date", "five": "integer", "named": "character varying(20)", "place": "bigint", "today": "date", "day": "timestamp with time zone",
		"year": "numeric", "own": "integer", "unknown": "",
	}, got)
	assert.False(t, view.Updatable)
	plain, _ := c.Table("", "plain")
	assert.True(t, plain.Updatable)
	assert.Equal(t, "hive_id", plain.Columns[0].Name)
}

func TestMySQLGrammarIsHelped(t *testing.T) {
	c, err := readText(t, sqltext.MySQL, "CREATE OR REPLACE TABLE groups (id UUID PRIMARY KEY, `rank` INT, ip INET6 NOT NULL, spot POINT SRID 4326, n INT AS (1) PERSISTENT, persistent INT, uuid INT, SPATIAL KEY s (spot)) ENGINE=Aria TRANSACTIONAL=1 PAGE_CHECKSUM=1 WITH SYSTEM VERSIONING;")
	require.NoError(t, err)
	groups, ok := c.Table("", "groups")
	require.True(t, ok)
	var kinds []catalog.TypeKind
	for _, column := range groups.Columns {
		kinds = append(kinds, column.Type.Kind)
	}
	assert.Equal(t, []catalog.TypeKind{catalog.UUID, catalog.Int, catalog.Network, catalog.Bytes, catalog.Int, catalog.Int, catalog.Int}, kinds)
	assert.Equal(t, "spatial", groups.Indexes[0].Method)
	assert.Contains(t, groups.Options, "system versioned")
}

func TestWhatIsNotThereIsSaid(t *testing.T) {
	c, err := readText(t, sqltext.Postgres, "CREATE TABLE hive (id int, place geometry(Point,4326)); DO $$ BEGIN CREATE TABLE x (id int); END $$;")
	require.NoError(t, err)
	require.Len(t, c.Notes, 2)
	assert.Contains(t, c.Notes[0].Text+c.Notes[1].Text, "geometry(0,4326) of column place is not in the scripts")
	assert.Contains(t, c.Notes[0].Text+c.Notes[1].Text, "a DO block is not run")
	c, err = readText(t, sqltext.Postgres, "CREATE EXTENSION postgis; CREATE TABLE hive (id int, place geometry)")
	require.NoError(t, err)
	assert.Empty(t, c.Notes)
}

var seeds = []string{
	"", "CREATE TABLE a (b int PRIMARY KEY, c text DEFAULT 'x' CHECK (c <> ''))", "ALTER TABLE a ADD FOREIGN KEY (b) REFERENCES a",
	"CREATE VIEW v AS SELECT a.*, count(*) FROM a JOIN b USING (c) GROUP BY 1", "CREATE TYPE t AS ENUM ('a'); CREATE TABLE x (y t[])",
	"CREATE TABLE `a` (b INT UNSIGNED AUTO_INCREMENT KEY, c ENUM('x'), KEY (c))", "CREATE FUNCTION f(a INT) RETURNS INT RETURN 1",
	"CREATE TABLE a (b int); ALTER TABLE a RENAME b TO c; DROP TABLE a", "CREATE TABLE a PARTITION OF b DEFAULT", "CREATE TABLE a () INHERITS (b)",
}

// FuzzPostgres and FuzzMySQL hold any text to an answer: a catalog that can be
// encoded, or an error.
func FuzzPostgres(f *testing.F) { fuzzDialect(f, sqltext.Postgres) }

func FuzzMySQL(f *testing.F) { fuzzDialect(f, sqltext.MySQL) }

func fuzzDialect(f *testing.F, d sqltext.Dialect) {
	for _, s := range seeds {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		c, err := readText(t, d, text)
		if err != nil {
			return
		}
		_, err = c.Encode()
		require.NoError(t, err)
	})
}
