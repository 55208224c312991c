package ddl

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// brief writes a catalog as lines that are quick to compare.
func brief(c *catalog.Catalog) []string {
	var list []string
	add := func(format string, args ...any) { list = append(list, strings.TrimSpace(fmt.Sprintf(format, args...))) }
	for _, t := range c.Tables {
		var columns []string
		for _, col := range t.Columns {
			columns = append(columns, briefColumn(col))
		}
		add("%s %s(%s) %s", t.Kind, t.FullName(), strings.Join(columns, ", "), strings.Join(append(t.Options, t.Partition), " "))
		if t.PrimaryKey != nil {
			add("  key %s(%s)", t.PrimaryKey.Name, strings.Join(t.PrimaryKey.Columns, ","))
		}
		for _, u := range t.Uniques {
			add("  unique %s(%s)", u.Name, strings.Join(u.Columns, ","))
		}
		for _, r := range t.References {
			add("  %s(%s) to %s(%s) %s", r.Name, strings.Join(r.Columns, ","), catalog.Qualify(r.Schema, r.Table), strings.Join(r.Target, ","), strings.TrimSpace(r.OnUpdate+" "+r.OnDelete))
		}
		for _, k := range t.Checks {
			add("  check %s %s", k.Name, k.Expr)
		}
		for _, in := range t.Indexes {
			add("  index %s(%s) %s %s", in.Name, strings.Join(in.Columns, ","), in.Method, in.Where)
		}
	}
	for _, e := range c.Enums {
		add("enum %s(%s)", catalog.Qualify(e.Schema, e.Name), strings.Join(e.Labels, ","))
	}
	for _, d := range c.Domains {
		add("domain %s %s %v %d", catalog.Qualify(d.Schema, d.Name), d.Declared, d.NotNull, len(d.Checks))
	}
	for _, t := range c.Composites {
		fields, _ := json.Marshal(t.Fields)
		add("type %s %s", t.Name, fields)
	}
	for _, s := range c.Sequences {
		add("sequence %s", catalog.Qualify(s.Schema, s.Name))
	}
	for _, r := range c.Routines {
		var arguments []string
		for _, a := range r.Arguments {
			arguments = append(arguments, strings.TrimSpace(a.Mode+" "+a.Name+" "+a.Declared))
		}
		add("%s %s(%s) %s %s", r.Kind, r.Name, strings.Join(arguments, ", "), r.Returns, r.Volatility)
	}
	return list
}

func briefColumn(c catalog.Column) string {
	text := c.Name + " " + c.Declared
	if c.Nullable {
		text += "?"
	}
	switch {
	case c.Generated != "":
		text += " := " + c.Generated
	case c.Default != nil && c.Default.Kind == catalog.Identity:
		text += " #" + c.Default.Sequence
	case c.Default != nil:
		text += " = " + c.Default.Text
	}
	return text
}

type statementCase struct{ script, want string }

func checkStatements(t *testing.T, d sqltext.Dialect, cases []statementCase) {
	t.Helper()
	for _, c := range cases {
		got, err := readText(t, d, c.script)
		require.NoError(t, err, c.script)
		assert.Equal(t, c.want, strings.Join(brief(got), "; "), c.script)
	}
}

func TestPostgresStatements(t *testing.T) {
	const hive = "CREATE TABLE hive (id int PRIMARY KEY, n int); "
	checkStatements(t, sqltext.Postgres, []statementCase{
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

func TestMySQLStatements(t *testing.T) {
	const hive = "CREATE TABLE hive (id INT PRIMARY KEY, n INT); "
	checkStatements(t, sqltext.MySQL, []statementCase{
		{"CREATE TABLE hive (id SERIAL, n TINYINT UNSIGNED NOT NULL DEFAULT '1')", "table hive(id bigint unsigned #, n tinyint unsigned = 1); unique id(id)"},
		{"CREATE TABLE hive (a BOOL DEFAULT TRUE, b BIT(3), c YEAR, d ENUM('x','y') DEFAULT 'x', e SET('p'), f NUMERIC, g DOUBLE(8,2), h NCHAR(4), i DATETIME(3) DEFAULT NOW(3))",
			"table hive(a tinyint(1)? = true, b bit(3)?, c year?, d enum('x','y')? = x, e set('p')?, f decimal(10,0)?, g double(8,2)?, h char(4)?, i datetime(3)? = current_timestamp(3))"},
		{hive + "ALTER TABLE hive ADD UNIQUE (n), ADD UNIQUE KEY (n), ADD KEY k (n, id), ADD FULLTEXT (n)", "table hive(id int, n int?); key PRIMARY(id); unique n(n); unique n_2(n); index k(n,id); index n_3(n) fulltext"},
		{hive + "ALTER TABLE hive DROP PRIMARY KEY, MODIFY id BIGINT NULL, ADD PRIMARY KEY (n)", "table hive(id bigint?, n int); key PRIMARY(n)"},
		{hive + "ALTER TABLE hive CHANGE n m TEXT FIRST; ALTER TABLE hive ADD x INT AFTER m; ALTER TABLE hive DROP id", "table hive(m text?, x int?)"},
		{hive + "ALTER TABLE hive ALTER n SET DEFAULT 5; ALTER TABLE hive ALTER n DROP DEFAULT; ALTER TABLE hive RENAME COLUMN n TO m; ALTER TABLE hive RENAME AS box", "table box(id int, m int?); key PRIMARY(id)"},
		{hive + "CREATE TABLE visit (a INT, CONSTRAINT c FOREIGN KEY (a) REFERENCES hive (id) ON DELETE CASCADE); ALTER TABLE visit DROP FOREIGN KEY c; ALTER TABLE visit ADD FOREIGN KEY (a) REFERENCES hive (id)",
			"table hive(id int, n int?); key PRIMARY(id); table visit(a int?); visit_ibfk_1(a) to hive(id); index a(a)"},
		{hive + "CREATE INDEX i USING HASH ON hive (n); DROP INDEX i ON hive; DROP TABLE IF EXISTS nothing", "table hive(id int, n int?); key PRIMARY(id)"},
		{hive + "CREATE UNIQUE INDEX i ON hive (n DESC); ALTER TABLE hive RENAME INDEX i TO j", "table hive(id int, n int?); key PRIMARY(id); unique j(n)"},
		{"CREATE TABLE t (a VARCHAR(20), UNIQUE KEY p (a(5)), KEY w (a(20)))", "table t(a varchar(20)?); index p(a); index w(a)"},
		{"CREATE TABLE t (a INT CHECK (a > 0), b INT, CONSTRAINT named CHECK (b > a)); ALTER TABLE t DROP CHECK named", "table t(a int?, b int?); check t_chk_1 `a`>0"},
		{"CREATE TABLE t (a INT, g INT GENERATED ALWAYS AS (a * 2) VIRTUAL)", "table t(a int?, g int? := `a`*2)"},
		{"CREATE TABLE t (id INT) ENGINE=MyISAM; ALTER TABLE t ENGINE=InnoDB; ALTER TABLE t ENGINE=MEMORY", "table t(id int?) memory"},
		{"CREATE TABLE t (id INT, at DATE) PARTITION BY KEY (id) PARTITIONS 2", "table t(id int?, at date?) KEY (id)"},
		{"CREATE TABLE t (id INT, a INT); CREATE VIEW v AS SELECT id, a + 1 AS b, COUNT(*) OVER () AS n FROM t; CREATE OR REPLACE ALGORITHM=MERGE DEFINER=`x`@`y` SQL SECURITY INVOKER VIEW v AS SELECT a FROM t", "table t(id int?, a int?); view v(a int?) sql security invoker"},
		{"CREATE TABLE t (id INT); CREATE TABLE u AS SELECT id, 'x' AS word FROM t; DROP VIEW IF EXISTS v", "table t(id int?); table u(id int?, word longtext?)"},
		{"USE bees; CREATE TABLE t (id INT); CREATE TABLE other.t (id INT); USE other; CREATE TABLE u (id INT)", "table t(id int?); table other.t(id int?); table other.u(id int?)"},
		{"CREATE TEMPORARY TABLE t (id INT); CREATE TABLE IF NOT EXISTS u (id INT); CREATE TABLE IF NOT EXISTS u (x INT)", "table u(id int?)"},
		{"CREATE FUNCTION f(a INT, b VARCHAR(5)) RETURNS BOOL DETERMINISTIC MODIFIES SQL DATA RETURN 1; CREATE PROCEDURE p(IN a INT, INOUT b INT) COMMENT 'x' BEGIN END; DROP FUNCTION f", "procedure p(a int, inout b int)  contains sql"},
		{"CREATE TABLE t (id INT); INSERT INTO t VALUES (1); LOCK TABLES t WRITE; SET NAMES utf8; UPDATE t SET id = 2; CREATE TRIGGER x BEFORE INSERT ON t FOR EACH ROW SET NEW.id = 1; CREATE EVENT e ON SCHEDULE EVERY 1 DAY DO DELETE FROM t", "table t(id int?)"},
	})
}
