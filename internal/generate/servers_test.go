package generate_test

import (
	"bytes"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/examples/beekeeping"
	"widegate/gate"
	"widegate/gate/mysql"
	"widegate/gate/postgres"
	"widegate/internal/catalog"
	"widegate/internal/cli"
	"widegate/internal/read"
	"widegate/internal/sqltext"
	"widegate/internal/testdb"
)

// postgresVersions are those that are tested besides the one that is installed: the
// oldest that is supported and the newest, or all.
func postgresVersions() []string {
	if os.Getenv("WIDEGATE_SERVERS") == "all" {
		return []string{"12", "13", "14", "15", "16", "17", "18"}
	}
	return []string{"12", "18"}
}

// newerFacts are what single versions of PostgreSQL have, and the versions that
// have it.
var newerFacts = map[string][]string{
	"13": {"CREATE TABLE since_13 (id uuid PRIMARY KEY DEFAULT gen_random_uuid())"},
	"14": {"CREATE TABLE since_14 (id int PRIMARY KEY, spans int4multirange, note text COMPRESSION pglz)"},
	"15": {"CREATE TABLE since_15 (id int PRIMARY KEY, code text UNIQUE NULLS NOT DISTINCT)", "CREATE VIEW asked_by_15 WITH (security_invoker = true) AS SELECT code FROM since_15"},
	"16": {"CREATE TABLE since_16 (id int PRIMARY KEY, big text STORAGE EXTERNAL)"},
	"17": {"CREATE TABLE since_17 (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, at timestamptz) PARTITION BY HASH (id)"},
	"18": {
		"CREATE EXTENSION btree_gist",
		"CREATE TABLE since_18 (id uuid PRIMARY KEY DEFAULT uuidv7(), name text CONSTRAINT name_is_needed NOT NULL, upper_name text GENERATED ALWAYS AS (upper(name)) VIRTUAL, lower_name text GENERATED ALWAYS AS (lower(name)) STORED, n int, CHECK (n > 0) NOT ENFORCED)",
		"CREATE TABLE stand (hive int, valid daterange, PRIMARY KEY (hive, valid WITHOUT OVERLAPS))",
		"CREATE TABLE stay (id int PRIMARY KEY, hive int, during daterange, FOREIGN KEY (hive, PERIOD during) REFERENCES stand (hive, PERIOD valid))",
		"CREATE TABLE loose (id int PRIMARY KEY, stay_id int REFERENCES stay NOT ENFORCED, later int)",
		"ALTER TABLE loose ADD CONSTRAINT later_is_needed NOT NULL later NOT VALID",
	},
}

// TestOtherServers reads the demo from other versions of PostgreSQL, serves it there
// by one and the same program, and changes its schema.
func TestOtherServers(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "beekeeping")
	var first *catalog.Catalog
	for _, version := range postgresVersions() {
		t.Run(version, func(t *testing.T) {
			address := testdb.PostgresOf(t, version)
			db, err := postgres.Open(t.Context(), address)
			require.NoError(t, err)
			t.Cleanup(func() { db.Close() })
			require.NoError(t, beekeeping.CreateTables(t.Context(), db))
			c := readServer(t, address)
			if first == nil {
				first = c
				var out bytes.Buffer
				require.Equal(t, 0, cli.Run([]string{"new", "--url", address, "--folder", folder, "--module", "beekeeping"}, nil, &out, &out), out.String())
				require.Equal(t, 0, cli.Run([]string{"write", "--config", filepath.Join(folder, "widegate.yaml")}, nil, &out, &out), out.String())
				run(t, folder, "go", "build", "-o", "bin/", "./cmd/beekeeping")
			}
			assert.Empty(t, catalog.Compare(withoutViews(first), withoutViews(c)), "each version tells the same of the demo")
			serveDemo(t, folder, address)
			changeDemo(t, db, address)
			readNewerFacts(t, db, address, version)
			renameOn(t, testdb.PostgresOf(t, version))
		})
	}
}

func readServer(t *testing.T, address string) *catalog.Catalog {
	t.Helper()
	c, err := read.Read(t.Context(), read.Source{URL: address})
	require.NoError(t, err)
	return c
}

// withoutViews leaves out the texts of views, which versions print differently.
func withoutViews(c *catalog.Catalog) *catalog.Catalog {
	plain := *c
	plain.Tables = nil
	for _, t := range c.Tables {
		t.Definition = ""
		plain.Tables = append(plain.Tables, t)
	}
	return &plain
}

// serveDemo writes, reads, changes and deletes through the service.
func serveDemo(t *testing.T, folder, address string) {
	t.Helper()
	s := startBuilt(t, folder, "-database", address)
	s.call("POST", "/api/keepers", `{"name":"Ada","member_no":"M-1","email":"ada@example.org","joined_on":"2026-05-01"}`).is(201)
	s.call("POST", "/api/apiaries", `{"name":"Hillside","keeper_id":1,"registered_on":"2026-05-01","details":{"shade":true}}`).is(201)
	s.call("POST", "/api/apiaries/1/hives", `[{"name":"A-1","acquired_on":"2026-05-01"},{"name":"A-2","weight_kg":12.50}]`).is(201)
	s.get("/api/hives?with=apiary&sortby=-name&count=true").is(200)
	s.get("/api/hives?filter=name%20LIKE%20'A%25'").is(200)
	s.get("/api/hives/summary?by=apiary_id&measure=count").is(200)
	s.call("PATCH", "/api/hives/1", `{"name":"A-9"}`).is(200)
	s.call("POST", "/api/hives", `{"name":"A-9","apiary_id":1}`).is(409)
	s.call("POST", "/api/hives", `{"name":"B-1","apiary_id":99}`).is(422)
	s.call("DELETE", "/api/hives/2", "").is(204)
	s.get("/api/hives/2").is(404)
}

// changeDemo drafts a migration from what the server says to a changed script, runs
// it, and reads again.
func changeDemo(t *testing.T, db gate.DB, address string) {
	t.Helper()
	text, err := beekeeping.Schema(dialects.Postgres)
	require.NoError(t, err)
	goal := filepath.Join(t.TempDir(), "goal.sql")
	require.NoError(t, os.WriteFile(goal, []byte(text+"\nALTER TABLE keeper ADD COLUMN motto varchar(40) DEFAULT 'bees';\nCREATE INDEX keeper_motto ON keeper (motto);\nCREATE TABLE visitor (id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, keeper_id bigint NOT NULL REFERENCES keeper (id), words text NOT NULL);\nALTER TABLE visitor ADD CHECK (length(words) > 2);\n"), 0o644))
	var out, notes bytes.Buffer
	require.Equal(t, 0, cli.Run([]string{"migration", address, goal, "--engine", "postgres", "--scratch", address, "--trust-scripts"}, nil, &out, &notes), notes.String())
	for _, statement := range sqltext.Pieces(out.String(), dialects.Of(dialects.Postgres)) {
		_, err := db.Exec(t.Context(), statement, nil)
		require.NoError(t, err, statement)
	}
	c := readServer(t, address)
	keeper, _ := c.Table("", "keeper")
	_, added := keeper.Column("motto")
	assert.True(t, added)
	visitor, made := c.Table("", "visitor")
	require.True(t, made)
	assert.Len(t, visitor.References, 1)
	assert.Len(t, visitor.Checks, 1)
	out.Reset()
	require.Equal(t, 0, cli.Run([]string{"migration", address, goal, "--engine", "postgres", "--scratch", address, "--trust-scripts"}, nil, &out, &notes), notes.String())
	assert.NotContains(t, out.String(), "ALTER TABLE", "nothing is left to change")
}

// renameOn moves a table and a column to other names, with what hangs on them.
func renameOn(t *testing.T, address string) {
	t.Helper()
	db, err := postgres.Open(t.Context(), address)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	_, err = db.Exec(t.Context(), "CREATE TABLE hive (id int PRIMARY KEY, name text NOT NULL, code text CONSTRAINT code_is_needed NOT NULL UNIQUE, frames int CHECK (frames > 0))", nil)
	require.NoError(t, err)
	goal := filepath.Join(t.TempDir(), "goal.sql")
	require.NoError(t, os.WriteFile(goal, []byte("CREATE TABLE box (id int PRIMARY KEY, title text NOT NULL, code text CONSTRAINT code_is_needed NOT NULL UNIQUE, frames int NOT NULL DEFAULT 10 CHECK (frames > 0));"), 0o644))
	move := []string{"migration", address, goal, "--engine", "postgres", "--scratch", address, "--trust-scripts"}
	var out, notes bytes.Buffer
	require.Equal(t, 0, cli.Run(append(slices.Clone(move), "--renamed", "hive=box", "--renamed", "box.name=title", "--decide", "all=a"), nil, &out, &notes), notes.String())
	for _, statement := range sqltext.Pieces(out.String(), dialects.Of(dialects.Postgres)) {
		_, err := db.Exec(t.Context(), statement, nil)
		require.NoError(t, err, statement)
	}
	out.Reset()
	require.Equal(t, 0, cli.Run(move, nil, &out, &notes), notes.String())
	assert.Contains(t, out.String()+notes.String(), "Nothing to move")
}

// readNewerFacts makes what the versions up to this one have, and reads it.
func readNewerFacts(t *testing.T, db gate.DB, address, version string) {
	t.Helper()
	for since, statements := range newerFacts {
		if since > version {
			continue
		}
		for _, s := range statements {
			_, err := db.Exec(t.Context(), s, nil)
			require.NoError(t, err, s)
		}
	}
	c := readServer(t, address)
	for since := range newerFacts {
		_, ok := c.Table("", "since_"+since)
		assert.Equal(t, since <= version, ok, since)
	}
	if version < "18" {
		return
	}
	newest, _ := c.Table("", "since_18")
	column := func(name string) *catalog.Column { c, ok := newest.Column(name); require.True(t, ok); return c }
	assert.True(t, column("upper_name").Virtual)
	assert.False(t, column("lower_name").Virtual)
	assert.Equal(t, "uuidv7()", column("id").Default.Text)
	assert.Equal(t, "NOT ENFORCED", newest.Checks[0].Options)
	assert.Equal(t, "name_is_needed", column("name").NotNull)
	assert.Contains(t, loose(t, c).Extras[0].Make, "later_is_needed")
	stand, _ := c.Table("", "stand")
	assert.Contains(t, stand.PrimaryKey.Definition, "WITHOUT OVERLAPS")
	stay, _ := c.Table("", "stay")
	assert.True(t, stay.References[0].Period)
	assert.True(t, loose(t, c).References[0].Unenforced)
	later, _ := loose(t, c).Column("later")
	assert.True(t, later.Nullable, "rows from before may be null")
	var out bytes.Buffer
	require.Equal(t, 0, cli.Run([]string{"names", address, "stay"}, nil, &out, &out), out.String())
	assert.NotContains(t, strings.ToLower(out.String()), "→ stand", "rows that cover a period together are no relation by equality")
}

func loose(t *testing.T, c *catalog.Catalog) *catalog.Table {
	t.Helper()
	table, ok := c.Table("", "loose")
	require.True(t, ok)
	return table
}

// TestMySQL8 reads and serves the demo on a server in memory that speaks the dialect
// of MySQL 8 and has its catalog: it knows no RETURNING, and no savepoints. It is
// built for this test, which takes minutes.
func TestMySQL8(t *testing.T) {
	if os.Getenv("WIDEGATE_SERVERS") != "all" {
		testdb.LeftOut(t, "it takes long", "make servers runs it")
	}
	program := filepath.Join(t.TempDir(), "mysql8")
	build := exec.Command("go", "build", "-tags", "gms_pure_go", "-o", program, ".")
	build.Dir = filepath.Join("..", "testdb", "mysql8")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := listener.Addr().String()
	require.NoError(t, listener.Close())
	server := exec.Command(program, at)
	require.NoError(t, server.Start())
	t.Cleanup(func() {
		require.NoError(t, server.Process.Kill())
		_ = server.Wait()
	})
	address := "mysql://root@" + at + "/bees"
	var db gate.DB
	require.Eventually(t, func() bool { db, err = mysql.Open(t.Context(), address); return err == nil }, patience, 50*time.Millisecond)
	t.Cleanup(func() { db.Close() })
	require.NoError(t, beekeeping.CreateTables(t.Context(), db))
	c := readServer(t, address)
	assert.Len(t, c.Tables, 17)
	hive, _ := c.Table("", "hive")
	assert.Len(t, hive.References, 2)
	assert.NotEmpty(t, hive.Checks)
	folder := filepath.Join(t.TempDir(), "beekeeping")
	var said bytes.Buffer
	require.Equal(t, 0, cli.Run([]string{"new", "--url", address, "--folder", folder, "--module", "beekeeping"}, nil, &said, &said), said.String())
	require.Equal(t, 0, cli.Run([]string{"write", "--config", filepath.Join(folder, "widegate.yaml")}, nil, &said, &said), said.String())
	s := startService(t, folder)
	s.call("POST", "/api/keepers", `{"name":"Ada","member_no":"M-1","email":"ada@example.org","joined_on":"2026-05-01"}`).is(201)
	s.call("POST", "/api/apiaries", `{"name":"Hillside","keeper_id":1,"registered_on":"2026-05-01","details":{"shade":true}}`).is(201)
	s.call("POST", "/api/hives", `{"name":"A-1","apiary_id":1,"weight_kg":12.50}`).is(201)
	s.call("PATCH", "/api/hives/1", `{"name":"A-9"}`).is(200)
	s.call("POST", "/api/hives", `{"name":"B-1","apiary_id":99}`).is(422)
	s.get("/api/apiaries/1/hives?sortby=-name&count=true").is(200)
	s.get("/api/hives/summary?by=apiary_id&measure=count").is(200)
	s.call("DELETE", "/api/hives/1", "").is(204)
}
