package migration_test

import (
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"widegate/internal/migration"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

func TestUnsafeStatements(t *testing.T) {
	good := map[string][]string{
		dialects.Postgres: {`CREATE TABLE "a\!b" (id int)`, `COMMENT ON TABLE a IS 'x\! ; -- /*'`, `CREATE FUNCTION f() RETURNS int LANGUAGE sql AS $$ SELECT 1; \x $$`, `CREATE TABLE U&"a\000a" (id int)`, "DO $$ BEGIN PERFORM 1; END $$"},
		dialects.MySQL:    {"CREATE TABLE `a\\!b` (id int)", `ALTER TABLE a COMMENT = 'x\\! ; \' '`, "CREATE PROCEDURE p() BEGIN SELECT 1; SELECT 2; END", "CREATE VIEW v AS /*!50003 SELECT 1 */", `SELECT \N`},
		dialects.SQLite:   {"CREATE TABLE \"a\n.shell x\" (id int)", "CREATE TRIGGER t AFTER INSERT ON a BEGIN SELECT 1; SELECT 2; END", "CREATE VIEW v AS SELECT 4 / 2 AS go"},
	}
	bad := map[string][]string{
		dialects.Postgres: {"SELECT 1\n\\! touch x", "SELECT 1; DROP TABLE a", `CREATE TABLE "a (id int)`, "SELECT 'a", "CREATE VIEW v AS SELECT 1 -- x\r\\! touch x", "COPY a TO PROGRAM 'x'", "\\! x", "SELECT $a$ 1", "SELECT 1 /* x", "SELECT '\x1b'", "SELECT 'a\x00'", "", "SELECT E'\\'\\! x"},
		dialects.MySQL:    {"SELECT 1\n\\! touch x", "SELECT 1; SELECT 2", "SELECT 'a\\'", "CREATE VIEW v AS SELECT 1 /*! \\! touch x */", "CREATE VIEW v AS SELECT 1\ndelimiter //", "SELECT `a", "system touch x", "source x"},
		dialects.SQLite:   {".shell touch x", "SELECT 1; .shell x", "CREATE VIEW v AS SELECT 1\ngo\n.shell touch x", "CREATE VIEW v AS SELECT 1\n/\n.shell touch x", "ATTACH 'x' AS y", "SELECT \"a"},
	}
	for engine, list := range good {
		for _, text := range list {
			assert.Empty(t, migration.Unsafe(dialects.Of(engine), text), "%s: %s", engine, text)
		}
	}
	for engine, list := range bad {
		for _, text := range list {
			assert.NotEmpty(t, migration.Unsafe(dialects.Of(engine), text), "%s: %q", engine, text)
		}
	}
}

// TestSnapshotsOfOthers has statements in a snapshot that do something else
// than make what they are for.
func TestSnapshotsOfOthers(t *testing.T) {
	table := func(change func(t *catalog.Table)) *catalog.Catalog {
		one := catalog.Table{Name: "hive", Kind: catalog.BaseTable, Columns: []catalog.Column{{Name: "id", Declared: "integer", Type: catalog.Type{Kind: catalog.Int, Bits: 32}}}}
		change(&one)
		return &catalog.Catalog{Engine: dialects.Of(dialects.Postgres), Complete: true, Tables: []catalog.Table{one}}
	}
	for _, text := range []string{"COPY hive TO PROGRAM 'x'", "DO $$ BEGIN END $$", "SELECT 1", "\\! touch x", "DROP_TABLE", "CALL x()"} {
		for name, c := range map[string]*catalog.Catalog{
			"trigger": table(func(t *catalog.Table) { t.Triggers = []catalog.Trigger{{Name: "a", Definition: text}} }),
			"extra":   table(func(t *catalog.Table) { t.Extras = []catalog.Extra{{Kind: "right", Name: "a", Make: text}} }),
			"undo":    table(func(t *catalog.Table) { t.Extras = []catalog.Extra{{Kind: "right", Name: "a", Undo: text}} }),
			"routine": {Engine: dialects.Of(dialects.Postgres), Routines: []catalog.Routine{{Name: "f", Kind: "function", Definition: text}}},
			"session": {Engine: dialects.Of(dialects.MySQL), Routines: []catalog.Routine{{Name: "f", Kind: "function", Definition: "CREATE FUNCTION f() RETURNS int RETURN 1", Session: text}}},
		} {
			_, err := draft(&catalog.Catalog{Engine: c.Engine}, c, migration.Options{})
			require.ErrorContains(t, err, "no script is drafted", "%s: %s", name, text)
		}
	}
}

// FuzzQuoting writes names and constants, and reads them as a client does: one
// token each, with nothing behind it.
func FuzzQuoting(f *testing.F) {
	for _, s := range []string{"hive", "a\"b", "a'b", "a`b", "a\\", "a\n\\! x", "\u202e", "\x1b", "U&\"", "a\x00"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for _, engine := range []string{dialects.Postgres, dialects.MySQL, dialects.SQLite} {
			statement := "CREATE TABLE " + dialects.Of(engine).Ident(s) + " (a text DEFAULT " + dialects.Of(engine).Literal(s) + ")"
			if migration.Unsafe(dialects.Of(engine), statement) != "" {
				continue
			}
			var kinds []sqltext.Kind
			for _, token := range sqltext.Scan(statement, dialects.Of(engine)) {
				kinds = append(kinds, token.Kind)
			}
			require.GreaterOrEqual(t, len(kinds), 8, statement)
			assert.Equal(t, []sqltext.Kind{sqltext.Text, sqltext.Sign}, kinds[len(kinds)-2:], statement)
		}
	})
}

// FuzzScript drafts a script of a table whose names and comments are any text:
// what is drafted has no line that a client takes for a command.
func FuzzScript(f *testing.F) {
	f.Add("hive", "a comment")
	f.Add("x\n\\! touch x", "y\r.shell x")
	f.Fuzz(func(t *testing.T, name, comment string) {
		for _, engine := range []string{dialects.Postgres, dialects.MySQL, dialects.SQLite} {
			c := &catalog.Catalog{Engine: dialects.Of(engine), Tables: []catalog.Table{{Name: "t" + name, Kind: catalog.BaseTable, Comment: comment, Columns: []catalog.Column{{Name: "c" + name, Declared: "text", Type: catalog.Type{Kind: catalog.Text}, Comment: comment}}}}}
			s, err := draft(&catalog.Catalog{Engine: dialects.Of(engine)}, c, migration.Options{})
			if err != nil {
				continue
			}
			text := string(s.Text(name + comment))
			assert.False(t, strings.ContainsFunc(text, migration.Acts), "%q", text)
			for _, token := range sqltext.Scan(text, dialects.Of(engine)) {
				assert.False(t, token.Sign(`\`), "%q", text)
			}
		}
	})
}
