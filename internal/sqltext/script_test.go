package sqltext_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	mysql "widegate/internal/engine/mysql/dialect"
	postgres "widegate/internal/engine/postgres/dialect"
	sqlite "widegate/internal/engine/sqlite/dialect"
	"widegate/internal/sqltext"
	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/fault"
)

func heads(text string, d *sqltext.Dialect) []string {
	var list []string
	for _, s := range sqltext.Split(&sqltext.File{Path: "a.sql", Text: text}, d) {
		list = append(list, strings.Join(strings.Fields(s.Text), " "))
	}
	return list
}

func TestSplit(t *testing.T) {
	for name, c := range map[string]struct {
		dialect *sqltext.Dialect
		text    string
		want    []string
	}{
		"nothing":         {sqlite.SQLite, " ;; -- a;\n", nil},
		"quotes":          {sqlite.SQLite, "a ';' \";\" [;]; b", []string{"a ';' \";\" [;]", "b"}},
		"trigger":         {sqlite.SQLite, "create temp trigger x begin select 1; select case when 1 then 2 end; end; c", []string{"create temp trigger x begin select 1; select case when 1 then 2 end; end", "c"}},
		"a column named":  {sqlite.SQLite, "create table t (begin text, trigger text); b", []string{"create table t (begin text, trigger text)", "b"}},
		"dollars":         {postgres.PostgreSQL, "do $$ a; $b$ c; $b$ $$; select $1; x", []string{"do $$ a; $b$ c; $b$ $$", "select $1", "x"}},
		"escapes":         {postgres.PostgreSQL, `select E'it\'s;', 'back\'; b`, []string{`select E'it\'s;', 'back\'`, "b"}},
		"rule":            {postgres.PostgreSQL, "create rule r as on insert to v do instead (insert into a values (1); select 2;); b", []string{"create rule r as on insert to v do instead (insert into a values (1); select 2;)", "b"}},
		"nested comment":  {postgres.PostgreSQL, "/* a /* ; */ ; */ x; y", []string{"x", "y"}},
		"atomic":          {postgres.PostgreSQL, "create function f() returns int begin atomic select case when 1 then 2 end; end; y", []string{"create function f() returns int begin atomic select case when 1 then 2 end; end", "y"}},
		"shell":           {postgres.PostgreSQL, "\\restrict x;y\nset a = 1;\nCOPY hive (id) FROM stdin;\n1;\n2\n\\.\nb;", []string{"set a = 1", "b"}},
		"copy at the end": {postgres.PostgreSQL, "copy hive from stdin;\n1", nil},
		"backslashes": {mysql.MySQL, `a 'it\'s;' "x;" ` + "`;`" + `; # c; d
-- e;
f`, []string{`a 'it\'s;' "x;" ` + "`;`", "f"}},
		"two dashes":          {mysql.MySQL, "select 1--1; b", []string{"select 1--1", "b"}},
		"versioned":           {mysql.MySQL, "/*!40101 SET a = 1 */; /*M!100616 b */; /* c */ d", []string{"SET a = 1", "b", "d"}},
		"delimiter":           {mysql.MySQL, "delimiter //\ncreate trigger x begin a; b; end//\nDELIMITER ;\nc;", []string{"create trigger x begin a; b; end", "c"}},
		"delimiter in a word": {mysql.MySQL, "delimiter $$\ncreate procedure p() begin a; end$$\ncreate procedure q() begin if b then c; end if; end$$\ndelimiter ;\nd;", []string{"create procedure p() begin a; end", "create procedure q() begin if b then c; end if; end", "d"}},
		"several in one":      {mysql.MySQL, "delimiter $$\ndrop procedure if exists p; create procedure p() begin a; case b when 1 then c; end case; end; create table t (x int)$$\ndelimiter ;\ny", []string{"drop procedure if exists p", "create procedure p() begin a; case b when 1 then c; end case; end", "create table t (x int)", "y"}},
		"a column called end": {mysql.MySQL, "delimiter $$\ncreate procedure p() begin declare exit handler for sqlexception begin rollback; end; select t.end, begin from t where end > 1; l: begin update t set end = 2; end l; end$$\ndelimiter ;\nd;", []string{"create procedure p() begin declare exit handler for sqlexception begin rollback; end; select t.end, begin from t where end > 1; l: begin update t set end = 2; end l; end", "d"}},
		"a trigger on end":    {sqlite.SQLite, "create trigger x after update of end on t begin update t set begin = new.end where new.end > 1; end; c", []string{"create trigger x after update of end on t begin update t set begin = new.end where new.end > 1; end", "c"}},
		"without a body":      {mysql.MySQL, "delimiter //\ncreate function f() returns int return 1; a//", []string{"create function f() returns int return 1", "a"}},
		"other files":         {mysql.MySQL, "source a.sql\n\\. b.sql\ncreate table source (a int);", []string{"create table source (a int)"}},
		"the shell of sqlite": {sqlite.SQLite, "# a;\n.mode csv;\n.read b.sql\ncreate table t (a text); -- c\ninsert into t values ('\n.x;\n#y;');", []string{"create table t (a text)", "insert into t values (' .x; #y;')"}},
		"without delimiter":   {mysql.MySQL, "create procedure p() begin if a then b; end if; while c do d; end while; end; e", []string{"create procedure p() begin if a then b; end if; while c do d; end while; end", "e"}},
	} {
		assert.Equal(t, c.want, heads(c.text, c.dialect), name)
	}
}

func TestPositions(t *testing.T) {
	f := &sqltext.File{Path: "a.sql", Text: "-- größe\nCREATE TABLE a (x);\n  /* b */ DROP äb c;"}
	list := sqltext.Split(f, postgres.PostgreSQL)
	require.Len(t, list, 2)
	assert.Equal(t, "größe", list[0].Comment)
	line, column := list[1].Position(0)
	assert.Equal(t, [2]int{3, 11}, [2]int{line, column})
	line, column = list[1].Position(strings.Index(list[1].Text, "c"))
	assert.Equal(t, [2]int{3, 19}, [2]int{line, column})
	assert.Equal(t, "DROP äb c", list[1].Head())
}

func write(t *testing.T, files map[string]string) string {
	t.Helper()
	folder := t.TempDir()
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	return folder
}

func found(t *testing.T, folder string, paths ...string) []string {
	t.Helper()
	for i := range paths {
		paths[i] = filepath.Join(folder, paths[i])
	}
	files, err := sqltext.Find(paths)
	require.NoError(t, err)
	var names []string
	for _, f := range files {
		below, err := filepath.Rel(folder, f.Path)
		require.NoError(t, err)
		names = append(names, filepath.ToSlash(below))
	}
	return names
}

func TestFind(t *testing.T) {
	folder := write(t, map[string]string{
		"m/10_queens.up.sql": "q", "m/2_hives.up.sql": "h", "m/2_hives.down.sql": "x", "m/9_lone.down.sql": "x", "m/readme.md": "r",
		"m/later/1.sql": "l", "pairs/1_up.sql": "", "pairs/1_down.sql": "", "pairs/2_lie_down.sql": "", "other/b.SQL": "", "other/a.sql": "",
		"20261231235959123456789012345_a.sql": "", "up/1.sql": "",
	})
	assert.Equal(t, []string{"m/2_hives.up.sql", "m/10_queens.up.sql", "m/later/1.sql"}, found(t, folder, "m"))
	assert.Equal(t, []string{"pairs/1_up.sql", "pairs/2_lie_down.sql"}, found(t, folder, "pairs/*.sql"))
	assert.Equal(t, []string{"other/a.sql", "other/b.SQL"}, found(t, folder, "other"))
	assert.Equal(t, []string{"other/b.SQL", "m/2_hives.up.sql"}, found(t, folder, "other/b.SQL", "m/2_hives.up.sql"), "files stay in the order given")
	for path, want := range map[string]string{
		"none.sql": "there is no file or folder", "none*.sql": "no file fits", "[": "cannot be read", "empty": "there are no scripts in",
	} {
		require.NoError(t, os.MkdirAll(filepath.Join(folder, "empty"), 0o755))
		_, err := sqltext.Find([]string{filepath.Join(folder, path)})
		require.ErrorContains(t, err, want)
		assert.NotEmpty(t, fault.Next(err))
	}
}

func TestHalvesInOneFile(t *testing.T) {
	for _, marks := range [][2]string{{"-- up", "-- down"}, {"-- +x Up", "-- +x Down"}, {"-- x:up", "--x:down"}} {
		text := sqltext.UpHalf(marks[0] + "\nCREATE TABLE a (x);\n-- to count down\n" + marks[1] + "\nDROP TABLE a;\n")
		assert.Equal(t, []string{"CREATE TABLE a (x)"}, heads(text, sqlite.SQLite), marks)
	}
}

func TestEncodings(t *testing.T) {
	for _, text := range []string{"\xef\xbb\xbfgröße", "\xff\xfeg\x00r\x00\xf6\x00\xdf\x00e\x00", "\xfe\xff\x00g\x00r\x00\xf6\x00\xdf\x00e", "größe"} {
		assert.Equal(t, "größe", sqltext.Decode([]byte(text)))
	}
}

func TestGuess(t *testing.T) {
	for text, want := range map[string]*sqltext.Dialect{
		"CREATE TABLE hive (id INTEGER PRIMARY KEY)":                sqlite.SQLite,
		"CREATE TABLE hive (id serial PRIMARY KEY, a text[])":       postgres.PostgreSQL,
		"CREATE TABLE `hive` (id INT AUTO_INCREMENT) ENGINE=InnoDB": mysql.MySQL,
		"CREATE TABLE hive (id INTEGER PRIMARY KEY AUTOINCREMENT)":  sqlite.SQLite,
		"# the hives\nCREATE TABLE hive (id INT)":                   mysql.MySQL,
		"": sqlite.SQLite,
		"CREATE TABLE `hive` (`id` INTEGER PRIMARY KEY AUTOINCREMENT, `at` DATETIME, `a` DOUBLE, `b` DOUBLE);":                            sqlite.SQLite,
		"-- serial, jsonb, timestamptz and AUTO_INCREMENT\nCREATE TABLE hive (id INTEGER PRIMARY KEY, t TEXT DEFAULT 'serial $$ ::int');": sqlite.SQLite,
		"CREATE TABLE hive (id INTEGER PRIMARY KEY, at DATETIME DEFAULT CURRENT_TIMESTAMP) WITHOUT ROWID;":                                sqlite.SQLite,
		"CREATE TABLE [hive box] (id INTEGER PRIMARY KEY, [name] TEXT COLLATE NOCASE);":                                                   sqlite.SQLite,
		"INSERT OR IGNORE INTO hive VALUES (1); CREATE TABLE hive (id INTEGER, unsigned INTEGER);":                                        sqlite.SQLite,
		"CREATE TABLE hive (id INT(11) NOT NULL, name VARCHAR(20), KEY `n` (name));":                                                      mysql.MySQL,
		"CREATE TABLE hive (id bigint unsigned, at timestamp DEFAULT now() ON UPDATE CURRENT_TIMESTAMP);":                                 mysql.MySQL,
		"CREATE TABLE hive (id uuid DEFAULT gen_random_uuid(), at timestamp without time zone, note character varying(20));":              postgres.PostgreSQL,
		"CREATE TABLE hive (id int, tags text[]); CREATE INDEX i ON hive USING gin (tags);":                                               postgres.PostgreSQL,
	} {
		assert.Equal(t, want, sqltext.Guess([]*sqltext.File{{Text: text}}, dialects.All), text)
	}
}

func TestOtherFilesAreFound(t *testing.T) {
	for d, text := range map[*sqltext.Dialect]string{postgres.PostgreSQL: "a;\n\\i b.sql\n\\ir c.sql\n", mysql.MySQL: "source b.sql\n\\. c.sql\n", sqlite.SQLite: ".read b.sql\n.read c.sql\n"} {
		list := sqltext.Included(&sqltext.File{Text: text}, d)
		require.Len(t, list, 2, d)
		assert.Contains(t, list[1].Text, "c.sql")
	}
	assert.Empty(t, sqltext.Included(&sqltext.File{Text: "SELECT 'source b.sql'"}, mysql.MySQL))
}

func FuzzSplit(f *testing.F) {
	for _, s := range []string{"", "CREATE TABLE a (b)", "'it''s", "\"a\"\"b\" [c] `d`", "-- x\n/* y", "a.b 1.5 <> ;", "\xff\x00", "$$a;$$;$a$", "\\x\ncopy a from stdin;\n\\.\n", "/*!1 a */;delimiter //\nb//", "create function begin atomic end"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for _, d := range []*sqltext.Dialect{sqlite.SQLite, postgres.PostgreSQL, mysql.MySQL} {
			at, line := 0, 1
			for _, token := range sqltext.Scan(s, d) {
				require.LessOrEqual(t, at, token.From, "tokens do not overlap")
				require.Less(t, token.From, token.To)
				require.LessOrEqual(t, token.To, len(s))
				require.GreaterOrEqual(t, token.Line, line)
				at, line = token.To, token.Line
			}
			last := 0
			for _, statement := range sqltext.Split(&sqltext.File{Text: s}, d) {
				require.GreaterOrEqual(t, statement.From, last)
				last = statement.From + len(statement.Text)
				require.LessOrEqual(t, last, len(s))
				statement.Position(len(statement.Text))
			}
		}
		sqltext.UpHalf(s)
	})
}

func FuzzNatural(f *testing.F) {
	f.Add("2_a", "10_a", "b")
	f.Add("01", "1", "1a")
	f.Fuzz(func(t *testing.T, a, b, c string) {
		require.Zero(t, sqltext.Natural(a, a))
		require.Equal(t, sqltext.Natural(a, b), -sqltext.Natural(b, a))
		if sqltext.Natural(a, b) <= 0 && sqltext.Natural(b, c) <= 0 {
			require.LessOrEqual(t, sqltext.Natural(a, c), 0)
		}
	})
}

func FuzzGuess(f *testing.F) {
	for _, s := range []string{"", "-- a\n/* b */ 'c''d' # e\n# f", "/*!1 a */ /*M! b", "'", "/*", "\\i a\n.read b\nsource c", "CREATE TABLE a (b serial)"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		file := &sqltext.File{Text: s}
		list := sqltext.Guesses([]*sqltext.File{file}, dialects.All)
		require.NotEmpty(t, list)
		for _, d := range list {
			for _, statement := range sqltext.Included(file, d) {
				statement.Position(len(statement.Text))
			}
		}
	})
}
