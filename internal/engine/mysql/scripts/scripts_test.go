package scripts

import (
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

func TestGrammarIsHelped(t *testing.T) {
	c, err := readText(t, "CREATE OR REPLACE TABLE groups (id UUID PRIMARY KEY, `rank` INT, ip INET6 NOT NULL, spot POINT SRID 4326, n INT AS (1) PERSISTENT, persistent INT, uuid INT, SPATIAL KEY s (spot)) ENGINE=Aria TRANSACTIONAL=1 PAGE_CHECKSUM=1 WITH SYSTEM VERSIONING;")
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

// TestNothingIsLeftOutWithoutAWord counts: of each statement something is there
// afterwards, or it is about rows, or a note names it.
func TestNothingIsLeftOutWithoutAWord(t *testing.T) {
	ddltest.CheckNotes(t, readText, "CREATE EVENT e ON SCHEDULE EVERY 1 DAY DO DELETE FROM t; CREATE /* so */ TABLE t (id INT); -- x\nCREATE -- y\nTABLE u (id INT); CREATE USER a; GRANT ALL ON t TO a; FROBNICATE t; CREATE PACKAGE p AS BEGIN END;",
		"1:1: CREATE EVENT e ON SCHEDULE …: is not read from scripts, only from a database", "3:55: FROBNICATE t: is not understood", "3:69: CREATE PACKAGE p AS BEGIN …: is not read from scripts, only from a database")
}

// TestMistakesHaveTheirPlace has mistakes behind what is rewritten for the grammar.
func TestMistakesHaveTheirPlace(t *testing.T) {
	for text, place := range map[string]string{
		"CREATE TABLE t (a INT DEFAULT (1 + 2),\n  b INT DEFALT 3)":                           ":2:9:",
		"CREATE TABLE t (a DATETIME DEFAULT (now() + INTERVAL 1 DAY), b UUID, c INT NOT NUL)": ":1:80:",
		"CREATE OR REPLACE TABLE t (a INT,\n b POINT SRID 4326,\n c INT PRIMRY KEY)":          ":3:8:",
	} {
		_, err := readText(t, text)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), place, text)
	}
}

func TestDefaultsThatAreExpressions(t *testing.T) {
	ddltest.Check(t, readText, []ddltest.Case{
		{"CREATE SEQUENCE s START 5; CREATE TABLE t (a INT DEFAULT (1 + 2), b DATETIME DEFAULT (now() + INTERVAL 1 DAY), c BIGINT DEFAULT nextval(s), d BIGINT DEFAULT NEXT VALUE FOR s, e BIT(1) DEFAULT b'1', f ENUM('a\\\\b'))",
			"table t(a int(11)? = (1+2), b datetime? = (date_add(now(), interval 1 day)), c bigint(20)? = nextval(`s`), d bigint(20)? = nextval(`s`), e bit(1)? = true, f enum('a\\\\b')?); sequence s"},
		{"CREATE SEQUENCE s; ALTER SEQUENCE s INCREMENT BY 3; DROP SEQUENCE IF EXISTS s; CREATE TABLE a (id INT); ALTER TABLE a ALTER id SET DEFAULT (2 * 3)", "table a(id int(11)? = 2*3)"},
		{"CREATE VIEW v AS SELECT 1 AS a; ALTER VIEW v AS SELECT 1 AS b", "view v(b int?)"},
	})
}

func FuzzRewrite(f *testing.F) {
	for _, s := range []string{"CREATE TABLE t (a UUID DEFAULT (1 + 2), b POINT SRID 1) WITH SYSTEM VERSIONING", "CREATE OR REPLACE TABLE t (a INT)", "DEFAULT (", "default nextval(", "default next value for s", "srid", "with system", "or replace table", ""} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		r := rewrite(text)
		last := 0
		for at := range len(r.text) + 1 {
			place := r.place(at)
			require.GreaterOrEqual(t, place, last, "places go on as the text does")
			require.LessOrEqual(t, place, len(text))
			last = place
		}
		headOf(text)
		_ = r.problem(errNoExpression)
	})
}

// TestWhatHangsOnNothing has what hangs on a table that is not there before it, and
// functions that are no SQL.
func TestWhatHangsOnNothing(t *testing.T) {
	got, err := readText(t, "CREATE TRIGGER x BEFORE INSERT ON gone FOR EACH ROW SET NEW.a = 1; CREATE FUNCTION f RETURNS STRING SONAME 'f.so'")
	require.NoError(t, err)
	require.Len(t, got.Notes, 2)
	all := got.Notes[0].Text + "\n" + got.Notes[1].Text
	for _, want := range []string{"CREATE TRIGGER x BEFORE INSERT …: is not read, since its table is not there", "CREATE FUNCTION f RETURNS STRING …: is not understood"} {
		assert.Contains(t, all, want)
	}
}

func TestStatements(t *testing.T) {
	const hive = "CREATE TABLE hive (id INT PRIMARY KEY, n INT); "
	ddltest.Check(t, readText, []ddltest.Case{
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

func FuzzScripts(f *testing.F) { ddltest.Fuzz(f, readText) }
