package rollout

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"widegate/internal/engine"
	"widegate/internal/engine/registry"
	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/migration"
	"widegate/internal/read"
	"widegate/internal/testdb"
)

// fresh is a source with an empty database of an engine, and a folder of scripts.
func fresh(t *testing.T, engine string) read.Source {
	t.Helper()
	s := read.Source{Engine: engine, DDL: []string{t.TempDir()}}
	switch engine {
	case dialects.Postgres:
		s.URL = testdb.Postgres(t)
	case dialects.MySQL:
		s.URL = testdb.MySQL(t)
	default:
		s.URL = filepath.Join(t.TempDir(), "bees.db")
		require.NoError(t, read.MakeDatabase(t.Context(), s))
	}
	return s
}

func write(t *testing.T, s read.Source, files map[string]string) {
	t.Helper()
	for name, text := range files {
		path := filepath.Join(s.DDL[0], name)
		if text == "" {
			require.NoError(t, os.Remove(path))
			continue
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
}

func load(t *testing.T, s read.Source) []*Script {
	t.Helper()
	list, err := Load(s)
	require.NoError(t, err)
	return list
}

func states(t *testing.T, s read.Source) map[string]State {
	t.Helper()
	status, err := Look(t.Context(), s, load(t, s))
	require.NoError(t, err)
	list := map[string]State{}
	for _, e := range status.Entries {
		list[e.Name] = e.State
	}
	return list
}

func onEach(t *testing.T, do func(t *testing.T, s read.Source)) {
	for _, engine := range read.Engines {
		t.Run(engine, func(t *testing.T) { do(t, fresh(t, engine)) })
	}
}

func rows(t *testing.T, s read.Source, query string) []string {
	t.Helper()
	list, err := read.Names(t.Context(), s, query)
	require.NoError(t, err)
	return list
}

const keeper = "CREATE TABLE keeper (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(60) NOT NULL);\nINSERT INTO keeper VALUES (1, 'it''s; one');"

func TestEachScriptRunsOnce(t *testing.T) {
	onEach(t, func(t *testing.T, s read.Source) {
		write(t, s, map[string]string{
			"1_keeper.up.sql": keeper, "1_keeper.down.sql": "DROP TABLE keeper;",
			"2_hive.up.sql": "CREATE TABLE hive (id INTEGER NOT NULL PRIMARY KEY);", "10_rows.up.sql": "INSERT INTO hive VALUES (1); INSERT INTO hive VALUES (2);",
		})
		ran, err := Run(t.Context(), s, load(t, s), Options{})
		require.NoError(t, err)
		assert.Equal(t, []string{"1_keeper.up.sql", "2_hive.up.sql", "10_rows.up.sql"}, ran)
		ran, err = Run(t.Context(), s, load(t, s), Options{})
		require.NoError(t, err)
		assert.Empty(t, ran)
		assert.Equal(t, []string{"it's; one"}, rows(t, s, "SELECT name FROM keeper"))

		c, err := read.Read(t.Context(), read.Source{Engine: s.Engine, URL: s.URL})
		require.NoError(t, err)
		assert.Len(t, c.Tables, 2, "the table of the record is no part of the schema")
	})
}

func TestFailuresKeepNothingOrGoOn(t *testing.T) {
	onEach(t, func(t *testing.T, s read.Source) {
		write(t, s, map[string]string{"1.sql": keeper, "2.sql": "CREATE TABLE hive (id INTEGER NOT NULL PRIMARY KEY);\nINSERT INTO hive VALUES (1);\nINSERT INTO nowhere VALUES (1);\nINSERT INTO hive VALUES (3);"})
		ran, err := Run(t.Context(), s, load(t, s), Options{})
		require.ErrorContains(t, err, "2.sql:3:")
		assert.Equal(t, []string{"1.sql"}, ran)
		if s.Engine == dialects.MySQL {
			require.ErrorContains(t, err, "2 of its 4 statements are done")
			assert.Equal(t, Begun, states(t, s)["2.sql"])
		} else {
			require.ErrorContains(t, err, "nothing of the script was kept")
			assert.Equal(t, Waiting, states(t, s)["2.sql"])
		}
		write(t, s, map[string]string{"2.sql": "CREATE TABLE hive (id INTEGER NOT NULL PRIMARY KEY);\nINSERT INTO hive VALUES (1);\nINSERT INTO hive VALUES (2);\nINSERT INTO hive VALUES (3);"})
		_, err = Run(t.Context(), s, load(t, s), Options{})
		require.NoError(t, err)
		assert.Equal(t, []string{"1", "2", "3"}, rows(t, s, "SELECT concat(id, '') FROM hive ORDER BY id"))
	})
}

func TestWhatStopsARun(t *testing.T) {
	onEach(t, func(t *testing.T, s read.Source) {
		write(t, s, map[string]string{"1.sql": keeper, "3.sql": "CREATE TABLE hive (id INTEGER NOT NULL PRIMARY KEY);"})
		_, err := Run(t.Context(), s, load(t, s), Options{})
		require.NoError(t, err)

		write(t, s, map[string]string{"2.sql": "CREATE TABLE queen (id INTEGER NOT NULL PRIMARY KEY);"})
		assert.Equal(t, Late, states(t, s)["2.sql"])
		_, err = Run(t.Context(), s, load(t, s), Options{})
		require.ErrorContains(t, err, "scripts behind it have")
		ran, err := Run(t.Context(), s, load(t, s), Options{Late: true})
		require.NoError(t, err)
		assert.Equal(t, []string{"2.sql"}, ran)

		write(t, s, map[string]string{"1.sql": "-- a comment, and other line ends, change nothing\r\n" + strings.ReplaceAll(keeper, "\n", "\r\n")})
		assert.Equal(t, Done, states(t, s)["1.sql"])
		write(t, s, map[string]string{"1.sql": keeper + "INSERT INTO keeper VALUES (2, 'two');"})
		_, err = Run(t.Context(), s, load(t, s), Options{})
		require.ErrorContains(t, err, "has changed since it was run")
		require.NoError(t, Accept(t.Context(), s, load(t, s), "1.sql"))

		write(t, s, map[string]string{"3.sql": ""})
		_, err = Run(t.Context(), s, load(t, s), Options{})
		require.ErrorContains(t, err, "there is no such script now")
		require.NoError(t, Accept(t.Context(), s, load(t, s), "3.sql"))
		require.Error(t, Accept(t.Context(), s, load(t, s), "3.sql"))
		assert.Equal(t, map[string]State{"1.sql": Done, "2.sql": Done}, states(t, s))
		assert.Len(t, rows(t, s, "SELECT name FROM keeper"), 1, "nothing was run for that")
	})
}

func TestTablesOfOthersAreAdoptedOrLeftAlone(t *testing.T) {
	onEach(t, func(t *testing.T, s read.Source) {
		write(t, s, map[string]string{"1.sql": "CREATE TABLE keeper (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(60) NOT NULL);"})
		db, err := read.Connect(t.Context(), s)
		require.NoError(t, err)
		defer db.Close()
		require.NoError(t, db.Exec(t.Context(), "CREATE TABLE keeper (id INTEGER NOT NULL PRIMARY KEY)"))
		_, err = Run(t.Context(), s, load(t, s), Options{})
		require.ErrorContains(t, err, "the database has 1 table already, and no record")
		require.ErrorContains(t, Adopt(t.Context(), s, load(t, s)), "name")
		require.NoError(t, db.Exec(t.Context(), "ALTER TABLE keeper ADD COLUMN name VARCHAR(60) NOT NULL DEFAULT ''"))
		if s.Engine != dialects.SQLite { // which cannot drop a default
			require.NoError(t, db.Exec(t.Context(), "ALTER TABLE keeper ALTER COLUMN name DROP DEFAULT"))
		} else {
			require.NoError(t, db.Exec(t.Context(), "DROP TABLE keeper"))
			require.NoError(t, db.Exec(t.Context(), "CREATE TABLE keeper (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(60) NOT NULL)"))
		}
		require.NoError(t, Adopt(t.Context(), s, load(t, s)))
		ran, err := Run(t.Context(), s, load(t, s), Options{})
		require.NoError(t, err)
		assert.Empty(t, ran)
		require.ErrorContains(t, Adopt(t.Context(), s, load(t, s)), "already")
	})
}

// TestDraftsRun has the scripts that are drafted here, which begin transactions
// of their own and set what they rely on.
func TestDraftsRun(t *testing.T) {
	onEach(t, func(t *testing.T, s read.Source) {
		empty := &catalog.Catalog{Engine: dialects.Of(s.Engine)}
		e, err := s.Known()
		require.NoError(t, err)
		first, err := migration.Extend(e.Drafting(), empty, "hive", []string{"name:text(60)", "frames:int,default=10"})
		require.NoError(t, err)
		second, err := migration.Extend(e.Drafting(), first, "hive", []string{"paint:enum(white|blue),default=white"})
		require.NoError(t, err)
		third := first // the column goes again
		before := empty
		for i, after := range []*catalog.Catalog{first, second, third} {
			draft, err := migration.Draft(e.Drafting(), before, after, migration.Options{Decide: func(*migration.Decision) int { return 0 }})
			require.NoError(t, err)
			text := string(draft.Text("next"))
			if i == 0 {
				text += "\nINSERT INTO hive (name) VALUES ('one');"
			}
			write(t, s, map[string]string{fmt.Sprintf("%04d.sql", i+1): text})
			before = after
			ran, err := Run(t.Context(), s, load(t, s), Options{})
			require.NoError(t, err)
			assert.Len(t, ran, 1)
		}
		assert.Equal(t, []string{"one"}, rows(t, s, "SELECT name FROM hive"))
		c, err := read.Read(t.Context(), read.Source{Engine: s.Engine, URL: s.URL})
		require.NoError(t, err)
		assert.Len(t, c.Tables[0].Columns, 3)
	})
}

// TestInterruptions ends a run after each number of statements, as a kill would,
// and runs again.
func TestInterruptions(t *testing.T) {
	scripts := map[string]string{
		"plain":  "CREATE TABLE hive (id INTEGER NOT NULL PRIMARY KEY);\nINSERT INTO hive VALUES (1);\nCREATE TABLE queen (id INTEGER NOT NULL PRIMARY KEY);\nINSERT INTO queen VALUES (1);\nINSERT INTO hive VALUES (2);",
		"begins": "BEGIN;\nCREATE TABLE hive (id INTEGER NOT NULL PRIMARY KEY);\nINSERT INTO hive VALUES (1);\nCOMMIT;\nBEGIN;\nCREATE TABLE queen (id INTEGER NOT NULL PRIMARY KEY);\nINSERT INTO queen VALUES (1);\nINSERT INTO hive VALUES (2);\nCOMMIT;",
	}
	for what, text := range scripts {
		t.Run(what, func(t *testing.T) {
			onEach(t, func(t *testing.T, s read.Source) {
				write(t, s, map[string]string{"1.sql": text})
				for limit := 1; ; limit++ {
					require.Less(t, limit, 80)
					if interruptedAfter(t, s, limit) {
						break
					}
				}
				assert.Equal(t, []string{"1", "2"}, rows(t, s, "SELECT concat(id, '') FROM hive ORDER BY id"))
				assert.Equal(t, []string{"1"}, rows(t, s, "SELECT concat(id, '') FROM queen"))
				assert.Equal(t, map[string]State{"1.sql": Done}, states(t, s))
			})
		})
	}
}

// TestOneInterruption ends the first run after each number of statements, before the
// server has done the last one and after, and lets the next run go to its end.
func TestOneInterruption(t *testing.T) {
	for _, engine := range read.Engines {
		for limit := 1; limit < 40; limit++ {
			for _, after := range []bool{false, true} {
				s := fresh(t, engine)
				write(t, s, map[string]string{"1.sql": "CREATE TABLE hive (id INTEGER NOT NULL PRIMARY KEY);\nINSERT INTO hive VALUES (1);\nALTER TABLE hive ADD COLUMN name VARCHAR(20);\nINSERT INTO hive VALUES (2, 'two');"})
				count := &counter{left: limit, after: after}
				_, err := Run(t.Context(), s, load(t, s), Options{connect: func(ctx context.Context, s read.Source) (read.Session, error) {
					db, err := read.Connect(ctx, s)
					return &dying{db, count}, err
				}})
				if err == nil {
					limit = 40 // it needs no more statements
					break
				}
				require.True(t, count.dead, "%s %d: %v", engine, limit, err)
				_, err = Run(t.Context(), s, load(t, s), Options{})
				require.NoError(t, err, "%s %d", engine, limit)
				assert.Equal(t, []string{"1", "2"}, rows(t, s, "SELECT concat(id, '') FROM hive ORDER BY id"), "%s %d", engine, limit)
			}
		}
	}
}

// interruptedAfter runs the scripts on sessions that die at the statement of that
// number, before or after the server has done it, and reports whether the run
// came to its end all the same.
func interruptedAfter(t *testing.T, s read.Source, limit int) (ended bool) {
	t.Helper()
	count := &counter{left: limit, after: limit%2 == 0}
	connect := func(ctx context.Context, s read.Source) (read.Session, error) {
		db, err := read.Connect(ctx, s)
		return &dying{db, count}, err
	}
	_, err := Run(t.Context(), s, load(t, s), Options{connect: connect})
	if count.dead {
		require.Error(t, err)
		return false
	}
	require.NoError(t, err)
	return true
}

type counter struct {
	left  int
	after bool // the server has done the last statement
	dead  bool
}

var errDied = fmt.Errorf("the program was killed")

// dying is a session of a program that is killed.
type dying struct {
	read.Session
	count *counter
}

func (d *dying) Exec(ctx context.Context, statement string) error {
	if d.count.dead {
		return errDied
	}
	if d.count.left--; d.count.left > 0 {
		return d.Session.Exec(ctx, statement)
	}
	d.count.dead = true
	if d.count.after {
		_ = d.Session.Exec(ctx, statement) // nobody hears of it
	}
	return errDied
}

func TestRunsAtTheSameTime(t *testing.T) {
	onEach(t, func(t *testing.T, s read.Source) {
		files := map[string]string{"0.sql": "CREATE TABLE hive (id INTEGER NOT NULL PRIMARY KEY);"}
		for i := 1; i <= 6; i++ {
			files[fmt.Sprintf("%d.sql", i)] = fmt.Sprintf("BEGIN;\nINSERT INTO hive VALUES (%d);\nCOMMIT;\nINSERT INTO hive VALUES (%d);", i, i+10)
		}
		write(t, s, files)
		scripts := load(t, s)
		var group sync.WaitGroup
		for range 4 {
			group.Go(func() {
				assert.Eventually(t, func() bool {
					_, err := Run(t.Context(), s, scripts, Options{})
					return err == nil
				}, 2*time.Minute, 20*time.Millisecond, "a run does not come to its end")
			})
		}
		group.Wait()
		assert.Len(t, rows(t, s, "SELECT concat(id, '') FROM hive"), 12)
	})
}

func TestScriptsForShellsAreRefused(t *testing.T) {
	for engine, text := range map[string]string{
		dialects.Postgres: "CREATE TABLE a (b int);\nCOPY a (b) FROM stdin;\n1\n\\.\n", dialects.MySQL: "CREATE TABLE a (b int);\nsource other.sql\n", dialects.SQLite: "CREATE TABLE a (b int);\n.read other.sql\n",
	} {
		s := read.Source{Engine: engine, DDL: []string{t.TempDir()}}
		write(t, s, map[string]string{"1.sql": text})
		_, err := Load(s)
		require.ErrorContains(t, err, "1.sql:2:1: ", engine)
	}
	s := read.Source{Engine: dialects.Postgres, DDL: []string{t.TempDir()}}
	write(t, s, map[string]string{"1.sql": "\\restrict abc\nCREATE TABLE a (b text DEFAULT E'\n\\\\i x\n');\nCREATE FUNCTION f() RETURNS int LANGUAGE sql AS $$\n\\i x\nSELECT 1 $$;\n\\unrestrict abc\n", "2.sql": "DECIDE 1;"})
	_, err := Load(s)
	require.ErrorContains(t, err, "2.sql:1:1: the script waits for a decision")
}

func TestDatabasesAreMade(t *testing.T) {
	for _, engine := range read.Engines {
		s := fresh(t, engine)
		if engine != dialects.SQLite {
			at := strings.LastIndex(s.URL, "/")
			rest := strings.SplitN(s.URL[at:], "?", 2)
			s.URL = s.URL[:at] + rest[0] + "_made"
			if len(rest) > 1 {
				s.URL += "?" + rest[1]
			}
		} else {
			s.URL = filepath.Join(t.TempDir(), "below", "made.db")
		}
		missing, err := read.Missing(t.Context(), s)
		require.NoError(t, err)
		require.True(t, missing, engine)
		require.NoError(t, read.MakeDatabase(t.Context(), s))
		missing, err = read.Missing(t.Context(), s)
		require.NoError(t, err)
		require.False(t, missing, engine)
		write(t, s, map[string]string{"1.sql": keeper})
		_, err = Run(t.Context(), s, load(t, s), Options{})
		require.NoError(t, err)
		if engine != dialects.SQLite {
			require.NoError(t, dropDatabase(t, s))
		}
	}
}

func dropDatabase(t *testing.T, s read.Source) error {
	name := s.URL[strings.LastIndex(s.URL, "/")+1:]
	name, _, _ = strings.Cut(name, "?")
	other := s
	other.URL = strings.Replace(s.URL, "/"+name, "/"+strings.TrimSuffix(name, "_made"), 1)
	db, err := read.Connect(t.Context(), other)
	if err != nil {
		return err
	}
	defer db.Close()
	return db.Exec(t.Context(), "DROP DATABASE "+name)
}

// TestAnInterruptedStatementIsLookedFor has what a kill leaves at a statement that
// MySQL cannot take back.
func TestAnInterruptedStatementIsLookedFor(t *testing.T) {
	for _, done := range []bool{true, false} {
		s := fresh(t, dialects.MySQL)
		write(t, s, map[string]string{"1.sql": "CREATE TABLE hive (id INTEGER NOT NULL PRIMARY KEY);\nALTER TABLE hive ADD COLUMN name VARCHAR(60);\nALTER TABLE hive ADD COLUMN n INTEGER;"})
		db, err := open(t.Context(), s)
		require.NoError(t, err)
		defer db.Close()
		script := load(t, s)[0]
		require.NoError(t, db.makeRecord(t.Context()))
		require.NoError(t, db.insert(t.Context(), script))
		require.NoError(t, db.Exec(t.Context(), script.statements[0].text))
		if done {
			require.NoError(t, db.Exec(t.Context(), script.statements[1].text))
		}
		require.NoError(t, db.save(t.Context(), script, record{hash: script.hash(1), done: 1, doing: 2}))
		_, err = Run(t.Context(), s, load(t, s), Options{})
		require.NoError(t, err)
		c, err := read.Read(t.Context(), read.Source{Engine: s.Engine, URL: s.URL})
		require.NoError(t, err)
		assert.Len(t, c.Tables[0].Columns, 3)
	}
	s := fresh(t, dialects.MySQL)
	write(t, s, map[string]string{"1.sql": "CREATE TABLE hive (id INTEGER NOT NULL PRIMARY KEY);\nANALYZE TABLE hive;"})
	db, err := open(t.Context(), s)
	require.NoError(t, err)
	defer db.Close()
	script := load(t, s)[0]
	require.NoError(t, db.makeRecord(t.Context()))
	require.NoError(t, db.insert(t.Context(), script))
	require.NoError(t, db.Exec(t.Context(), script.statements[0].text))
	require.NoError(t, db.save(t.Context(), script, record{hash: script.hash(1), done: 1, doing: 2}))
	_, err = Run(t.Context(), s, load(t, s), Options{})
	require.ErrorContains(t, err, "1.sql:2:1: ANALYZE TABLE hive: a run was interrupted here")
	require.NoError(t, Settle(t.Context(), s, load(t, s), true))
	_, err = Run(t.Context(), s, load(t, s), Options{})
	require.NoError(t, err)
}

func TestRanks(t *testing.T) {
	of := func(text, name string) engine.Rank {
		e, err := registry.Of(name)
		require.NoError(t, err)
		return rankOf(text, e)
	}
	for text, want := range map[string]engine.Rank{
		"CREATE INDEX CONCURRENTLY a ON b (c)": engine.Final, "ALTER TYPE mood ADD VALUE 'x'": engine.Final, "ALTER TABLE a ADD VALUE int": engine.Work, "SET search_path = x": engine.Settles,
		"END": engine.Ends, "ROLLBACK TO x": engine.Drops, "CREATE TEMP TABLE x (y int)": engine.Settles, "UPDATE a SET b = 'vacuum'": engine.Work, "VACUUM": engine.Final,
	} {
		assert.Equal(t, want, of(text, "postgres"), text)
	}
	assert.Equal(t, engine.Final, of("ALTER TABLE a ADD b int", "mysql"))
	assert.Equal(t, engine.Work, of("INSERT INTO a VALUES (1)", "mysql"))
	assert.Equal(t, engine.Settles, of("PRAGMA foreign_keys = OFF", "sqlite"))
}
