package scripts

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/sqltext/ddl/ddltest"
)

func readText(t testing.TB, text string) (*catalog.Catalog, error) {
	t.Helper()
	return Read(t.Context(), ddltest.Files(text), nil)
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
	c, err := readText(t, `
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

func TestWhatIsNotThereIsSaid(t *testing.T) {
	c, err := readText(t, "CREATE TABLE hive (id int, place geometry(Point,4326)); DO $$ BEGIN CREATE TABLE x (id int); END $$;")
	require.NoError(t, err)
	require.Len(t, c.Notes, 2)
	assert.Contains(t, c.Notes[0].Text+c.Notes[1].Text, "geometry(0,4326) of column place is not in the scripts")
	assert.Contains(t, c.Notes[0].Text+c.Notes[1].Text, "a DO block is not run")
	c, err = readText(t, "CREATE EXTENSION postgis; CREATE TABLE hive (id int, place geometry)")
	require.NoError(t, err)
	assert.Empty(t, c.Notes)
}

// TestNothingIsLeftOutWithoutAWord counts: of each statement something is there
// afterwards, or it is about rows, or a note names it.
func TestNothingIsLeftOutWithoutAWord(t *testing.T) {
	ddltest.CheckNotes(t, readText, "CREATE AGGREGATE a (int) (sfunc = int4pl, stype = int); CREATE ROLE r; CREATE TABLE t (id int); CREATE CAST (text AS int) WITH INOUT; ALTER TABLE t OWNER TO r; CREATE PUBLICATION p FOR TABLE t; SELECT 1; ANALYZE t;",
		"1:1: CREATE AGGREGATE a (int) (sfunc …: is not read from scripts, only from a database", "1:97: CREATE CAST (text AS int) …: is not read from scripts, only from a database", "1:161: CREATE PUBLICATION p FOR TABLE …: is not read from scripts, only from a database")
}

// TestTheGrammarIsKept looks for the compiled grammar in the user's cache folder, which
// others must not be able to write.
func TestTheGrammarIsKept(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	require.NotNil(t, machineCode())
	base, err := os.UserCacheDir()
	require.NoError(t, err)
	folder := filepath.Join(base, "widegate", "grammar")
	assert.DirExists(t, folder)
	assert.True(t, onlyOurs(folder))
	require.NoError(t, os.Chmod(folder, 0o777))
	assert.False(t, onlyOurs(folder))
	_, err = grammarJSON("SELECT 'a\x00'")
	require.ErrorContains(t, err, "zero byte")
}

func TestDefaultsThatAreExpressions(t *testing.T) {
	ddltest.Check(t, readText, []ddltest.Case{
		{"CREATE SEQUENCE s; CREATE TABLE t (a text DEFAULT (nextval('s'))::text, b bigint DEFAULT nextval('s')::bigint, c interval year to month, d interval day to second(3))",
			"table t(a text? = nextval('s')::text, b bigint? #s, c interval year to month?, d interval day to second(3)?); sequence s"},
		{"CREATE TABLE a (n int CHECK (n > 0) NO INHERIT, CHECK (n < 9)); CREATE TABLE b () INHERITS (a)", "table a(n integer?); check a_n_check (n > 0); check a_n_check1 (n < 9); table b(n integer?); check a_n_check1 (n < 9)"},
		{"CREATE TABLE a (id int); CREATE FUNCTION f(x a.id%TYPE) RETURNS a.id%TYPE LANGUAGE sql AS ''", "table a(id integer?); function f(x integer) integer volatile"},
	})
}

// TestWhatHangsOnNothing has what hangs on a table that is not there before it, and
// functions that are no SQL.
func TestWhatHangsOnNothing(t *testing.T) {
	got, err := readText(t, "CREATE TRIGGER x BEFORE INSERT ON gone EXECUTE FUNCTION f(); CREATE POLICY p ON gone")
	require.NoError(t, err)
	require.Len(t, got.Notes, 2)
	all := got.Notes[0].Text + "\n" + got.Notes[1].Text
	for _, want := range []string{`the trigger x: is not read, since there is no table "gone"`, `the policy p: is not read, since there is no table "gone"`} {
		assert.Contains(t, all, want)
	}
}

func TestStatements(t *testing.T) {
	const hive = "CREATE TABLE hive (id int PRIMARY KEY, n int); "
	ddltest.Check(t, readText, []ddltest.Case{
		{"CREATE TABLE hive (id serial PRIMARY KEY, n smallint DEFAULT 1)", "table hive(id integer #, n smallint? = 1); key hive_pkey(id)"},
		{hive + "ALTER TABLE hive ADD UNIQUE (n), ADD UNIQUE (n, id)", "table hive(id integer, n integer?); key hive_pkey(id); unique hive_n_id_key(n,id); unique hive_n_key(n)"},
		{hive + "ALTER TABLE hive ADD CHECK (n > 0); ALTER TABLE hive ADD CHECK (n < 9); ALTER TABLE hive ADD CHECK (n < id)",
			"table hive(id integer, n integer?); key hive_pkey(id); check hive_check (n < id); check hive_n_check (n > 0); check hive_n_check1 (n < 9)"},
		{hive + "ALTER TABLE hive DROP CONSTRAINT hive_pkey, DROP COLUMN n", "table hive(id integer)"},
		{hive + "DROP TABLE hive", ""},
		{hive + "DROP TABLE IF EXISTS other, hive", ""},
		{hive + "CREATE TABLE visit (hive_id int REFERENCES hive ON DELETE CASCADE); DROP TABLE hive CASCADE", "table visit(hive_id integer?)"},
		{hive + "CREATE TABLE visit (a int, FOREIGN KEY (a) REFERENCES hive ON UPDATE SET DEFAULT ON DELETE SET NULL)",
			"table hive(id integer, n integer?); key hive_pkey(id); table visit(a integer?); visit_a_fkey(a) to hive(id) set default set null"},
		{"CREATE TABLE visit (hive_id int REFERENCES hive); " + hive, "table hive(id integer, n integer?); key hive_pkey(id); table visit(hive_id integer?); visit_hive_id_fkey(hive_id) to hive(id)"},
		{hive + "CREATE INDEX ON hive (n); CREATE INDEX ON hive (lower(n::text)); CREATE INDEX part ON hive USING hash (n) WHERE n > 0; CREATE UNIQUE INDEX one ON hive (n)",
			"table hive(id integer, n integer?); key hive_pkey(id); unique one(n); index hive_lower_idx((lower(n::text))); index hive_n_idx(n); index part(n) hash (n > 0)"},
		{hive + "CREATE INDEX i ON hive (n); DROP INDEX i", "table hive(id integer, n integer?); key hive_pkey(id)"},
		{"CREATE TABLE hive (a int GENERATED ALWAYS AS IDENTITY, b int GENERATED ALWAYS AS (a * 2) STORED); ALTER TABLE hive ALTER b DROP EXPRESSION", "table hive(a integer #, b integer?)"},
		{"CREATE TYPE mood AS ENUM ('a'); ALTER TYPE mood ADD VALUE 'b' AFTER 'a'; ALTER TYPE mood ADD VALUE IF NOT EXISTS 'a'; CREATE TABLE hive (m mood[])", "table hive(m mood[]?); enum mood(a,b)"},
		{"CREATE DOMAIN w AS numeric(4,1) NOT NULL CHECK (VALUE > 0); CREATE TABLE hive (w w)", "table hive(w w); domain w numeric(4,1) true 1"},
		{"CREATE DOMAIN w AS int; ALTER DOMAIN w SET NOT NULL; ALTER DOMAIN w DROP NOT NULL; ALTER DOMAIN w SET DEFAULT 5; DROP DOMAIN w; CREATE TABLE hive (id int)", "table hive(id integer?)"},
		{"CREATE TYPE spot AS (x int, y text); ALTER TYPE spot DROP ATTRIBUTE y, ALTER ATTRIBUTE x TYPE bigint; CREATE TABLE hive (s spot)", `table hive(s spot?); type spot [{"name":"x","declared":"bigint","type":{"kind":"int","bits":64}}]`},
		{"CREATE SEQUENCE n; CREATE TABLE hive (id int DEFAULT nextval('n'), b int DEFAULT nextval('m'::text))", "table hive(id integer? #n, b integer? #); sequence n"},
		{"CREATE SEQUENCE n; CREATE TABLE hive (id int DEFAULT nextval('n')); ALTER SEQUENCE n OWNED BY hive.id; ALTER SEQUENCE n RENAME TO m", "table hive(id integer? #)"},
		{"CREATE TABLE a (id int, x int CHECK (x > 0)); CREATE TABLE b (y int) INHERITS (a)", "table a(id integer?, x integer?); check a_x_check (x > 0); table b(id integer?, x integer?, y integer?); check a_x_check (x > 0)"},
		{"CREATE TABLE a (id int) PARTITION BY HASH (id); CREATE TABLE b PARTITION OF a FOR VALUES WITH (MODULUS 2, REMAINDER 0); CREATE TABLE c PARTITION OF b DEFAULT", "table a(id integer?) HASH (id)"},
		{"CREATE TABLE a (id int, n int DEFAULT 3 NOT NULL); CREATE TABLE b (LIKE a); CREATE TABLE c (LIKE a INCLUDING DEFAULTS)", "table a(id integer?, n integer = 3); table b(id integer?, n integer); table c(id integer?, n integer = 3)"},
		{"CREATE TABLE a (id int, n text); CREATE TABLE b AS SELECT id, n || '!' AS m FROM a", "table a(id integer?, n text?); table b(id integer?, m text?)"},
		{"CREATE TEMP TABLE a (id int); CREATE TEMP VIEW v AS SELECT 1", ""},
		{"CREATE UNLOGGED TABLE a (id int); ALTER TABLE a SET LOGGED; ALTER TABLE a SET UNLOGGED", "table a(id integer?) unlogged"},
		{"CREATE TABLE a (id int); ALTER TABLE a OWNER TO x; ALTER TABLE a ENABLE ROW LEVEL SECURITY; CREATE POLICY p ON a; CREATE TRIGGER t BEFORE INSERT ON a EXECUTE FUNCTION f()", "table a(id integer?)"},
		{"CREATE SCHEMA yard; SET search_path = yard; CREATE TABLE a (id int); CREATE TABLE public.b (id int)", "table b(id integer?)"},
		{"CREATE SCHEMA yard CREATE TABLE a (id int) CREATE VIEW v AS SELECT id FROM a", "table yard.a(id integer?); view yard.v(id integer?)"},
		{"CREATE SCHEMA yard; CREATE TABLE yard.a (id int); CREATE TABLE b (id int); DROP SCHEMA yard CASCADE", "table b(id integer?)"},
		{"CREATE FUNCTION f(a int, OUT b text, OUT c int) LANGUAGE sql AS ''; CREATE FUNCTION g(VARIADIC a text[]) RETURNS SETOF record STABLE LANGUAGE sql AS ''; CREATE FUNCTION t() RETURNS trigger LANGUAGE plpgsql AS ''",
			"function f(a integer, out b text, out c integer) record volatile; function g(variadic a text[]) SETOF record stable; function t() trigger volatile"},
		{"CREATE FUNCTION f(a int) RETURNS int LANGUAGE sql AS ''; CREATE OR REPLACE FUNCTION f(b int) RETURNS text LANGUAGE sql AS ''; CREATE PROCEDURE p() LANGUAGE sql AS ''; DROP PROCEDURE p", "function f(b integer) text volatile"},
		{"CREATE TABLE v (a int); CREATE RULE \"_RETURN\" AS ON SELECT TO v DO INSTEAD SELECT 1 AS a", "view v(a integer?)"},
		{"CREATE TABLE a (during tsrange, EXCLUDE USING gist (during WITH &&) WHERE (during IS NOT NULL))", "table a(during tsrange?)"},
		{"CREATE TABLE \"A b\" (\"x\"\"y\" int CONSTRAINT \"k k\" NOT NULL, PRIMARY KEY (\"x\"\"y\"))", `table A b(x"y integer); key A b_pkey(x"y)`},
		{"CREATE TABLE a (i interval(3), t time(2) with time zone, b bit varying(5), c char, n numeric(5), f float(20), d dec(4,2), ch \"char\", x national character varying(7))",
			`table a(i interval(3)?, t time(2) with time zone?, b bit varying(5)?, c character(1)?, n numeric(5,0)?, f real?, d numeric(4,2)?, ch "char"?, x character varying(7)?)`},
	})
}

func FuzzScripts(f *testing.F) { ddltest.Fuzz(f, readText) }
