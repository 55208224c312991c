package ddl

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/sqltext"
)

// TestNothingIsLeftOutWithoutAWord counts: of each statement something is there
// afterwards, or it is about rows, or a note names it.
func TestNothingIsLeftOutWithoutAWord(t *testing.T) {
	for _, c := range []struct {
		dialect sqltext.Dialect
		text    string
		notes   []string
	}{
		{sqltext.MySQL, "CREATE EVENT e ON SCHEDULE EVERY 1 DAY DO DELETE FROM t; CREATE /* so */ TABLE t (id INT); -- x\nCREATE -- y\nTABLE u (id INT); CREATE USER a; GRANT ALL ON t TO a; FROBNICATE t; CREATE PACKAGE p AS BEGIN END;",
			[]string{"1:1: CREATE EVENT e ON SCHEDULE …: is not read from scripts, only from a database", "3:55: FROBNICATE t: is not understood", "3:69: CREATE PACKAGE p AS BEGIN …: is not read from scripts, only from a database"}},
		{sqltext.Postgres, "CREATE AGGREGATE a (int) (sfunc = int4pl, stype = int); CREATE ROLE r; CREATE TABLE t (id int); CREATE CAST (text AS int) WITH INOUT; ALTER TABLE t OWNER TO r; CREATE PUBLICATION p FOR TABLE t; SELECT 1; ANALYZE t;",
			[]string{"1:1: CREATE AGGREGATE a (int) (sfunc …: is not read from scripts, only from a database", "1:97: CREATE CAST (text AS int) …: is not read from scripts, only from a database", "1:161: CREATE PUBLICATION p FOR TABLE …: is not read from scripts, only from a database"}},
	} {
		got, err := Read(t.Context(), c.dialect, []*sqltext.File{{Path: "a.sql", Text: c.text}}, nil)
		require.NoError(t, err)
		var notes []string
		for _, n := range got.Notes {
			notes = append(notes, strings.TrimPrefix(n.Text, "a.sql:"))
		}
		assert.ElementsMatch(t, c.notes, notes, c.dialect)
		_, ok := got.Table("", "t")
		assert.True(t, ok)
	}
}

// TestMistakesHaveTheirPlace has mistakes behind what is rewritten for the grammar.
func TestMistakesHaveTheirPlace(t *testing.T) {
	for text, place := range map[string]string{
		"CREATE TABLE t (a INT DEFAULT (1 + 2),\n  b INT DEFALT 3)":                           ":2:9:",
		"CREATE TABLE t (a DATETIME DEFAULT (now() + INTERVAL 1 DAY), b UUID, c INT NOT NUL)": ":1:80:",
		"CREATE OR REPLACE TABLE t (a INT,\n b POINT SRID 4326,\n c INT PRIMRY KEY)":          ":3:8:",
	} {
		_, err := readText(t, sqltext.MySQL, text)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), place, text)
	}
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
	checkStatements(t, sqltext.MySQL, []statementCase{
		{"CREATE SEQUENCE s START 5; CREATE TABLE t (a INT DEFAULT (1 + 2), b DATETIME DEFAULT (now() + INTERVAL 1 DAY), c BIGINT DEFAULT nextval(s), d BIGINT DEFAULT NEXT VALUE FOR s, e BIT(1) DEFAULT b'1', f ENUM('a\\\\b'))",
			"table t(a int(11)? = (1+2), b datetime? = (date_add(now(), interval 1 day)), c bigint(20)? = nextval(`s`), d bigint(20)? = nextval(`s`), e bit(1)? = true, f enum('a\\\\b')?); sequence s"},
		{"CREATE SEQUENCE s; ALTER SEQUENCE s INCREMENT BY 3; DROP SEQUENCE IF EXISTS s; CREATE TABLE a (id INT); ALTER TABLE a ALTER id SET DEFAULT (2 * 3)", "table a(id int(11)? = 2*3)"},
		{"CREATE VIEW v AS SELECT 1 AS a; ALTER VIEW v AS SELECT 1 AS b", "view v(b int?)"},
	})
	checkStatements(t, sqltext.Postgres, []statementCase{
		{"CREATE SEQUENCE s; CREATE TABLE t (a text DEFAULT (nextval('s'))::text, b bigint DEFAULT nextval('s')::bigint, c interval year to month, d interval day to second(3))",
			"table t(a text? = nextval('s')::text, b bigint? #s, c interval year to month?, d interval day to second(3)?); sequence s"},
		{"CREATE TABLE a (n int CHECK (n > 0) NO INHERIT, CHECK (n < 9)); CREATE TABLE b () INHERITS (a)", "table a(n integer?); check a_n_check (n > 0); check a_n_check1 (n < 9); table b(n integer?); check a_n_check1 (n < 9)"},
		{"CREATE TABLE a (id int); CREATE FUNCTION f(x a.id%TYPE) RETURNS a.id%TYPE LANGUAGE sql AS ''", "table a(id integer?); function f(x integer) integer volatile"},
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

// TestWhatHangsOnNothing has triggers and policies whose table is not there before
// them, and functions that are no SQL.
func TestWhatHangsOnNothing(t *testing.T) {
	for d, c := range map[sqltext.Dialect]struct {
		text string
		want []string
	}{
		sqltext.MySQL:    {"CREATE TRIGGER x BEFORE INSERT ON gone FOR EACH ROW SET NEW.a = 1; CREATE FUNCTION f RETURNS STRING SONAME 'f.so'", []string{"CREATE TRIGGER x BEFORE INSERT …: is not read, since its table is not there", "CREATE FUNCTION f RETURNS STRING …: is not understood"}},
		sqltext.Postgres: {"CREATE TRIGGER x BEFORE INSERT ON gone EXECUTE FUNCTION f(); CREATE POLICY p ON gone", []string{`the trigger x: is not read, since there is no table "gone"`, `the policy p: is not read, since there is no table "gone"`}},
	} {
		got, err := Read(t.Context(), d, []*sqltext.File{{Path: "a.sql", Text: c.text}}, nil)
		require.NoError(t, err)
		require.Len(t, got.Notes, 2, d)
		all := got.Notes[0].Text + "\n" + got.Notes[1].Text
		for _, want := range c.want {
			assert.Contains(t, all, want)
		}
	}
}
