package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/examples/beekeeping"
	"widegate/internal/testdb"
)

// chapter is a change of the schema, and what becomes of the code around it.
type chapter struct {
	name    string
	schema  []string // pairs of texts of the schema, the second in place of the first
	flags   []string // of the script: what only a person can decide
	queries []string // likewise, of the named queries, which do not hold any more
	project []string // likewise, of the project file
	breaks  []string // lines of the developer's own code that break, as they are
	fixes   []string // pairs of texts of that code
}

// ownCode is a package of the developer's own.
const ownCode = `// Package report is ours.
package report

import (
	"fmt"

	"beekeeping/store"
)

// Card is the card of a member.
func Card(k *store.Keeper) string {
	phone := k.Phone.Or("none")
	name := k.Name
	return name + ", " + phone
}

// Place describes a place.
func Place(a *store.Apiary) string {
	return fmt.Sprint(a.Name, a.Details)
}

// Room is how many frames a hive has.
func Room(h *store.Hive) int64 {
	var frames int64 = h.Frames
	return frames
}

// Brood is how many frames of a hive have brood.
func Brood(i *store.Inspection) int64 {
	var brood int64 = i.BroodFrames
	return brood
}

// Visitor is who made a visit.
func Visitor(i *store.Inspection) int64 {
	return i.KeeperID
}

// Wild reports whether bees are to be left alone.
func Wild(h *store.Hive) bool {
	return h.Temperament == store.TemperamentFierce || h.Temperament == store.TemperamentNervous
}

// Reading is the key of a reading.
func Reading(r *store.SensorReading) any {
	return store.SensorReadingKey{HiveID: r.HiveID, ReadAt: r.ReadAt}
}

// Wait is how long to wait after a treatment.
func Wait(s *store.Substance) int64 {
	return s.WithdrawalDays
}

// Names are columns.
var Names = []any{store.Substances.Name, store.Forages.Name}
`

var chapters = []chapter{
	{name: "a column is added",
		schema: []string{"  weight_kg NUMERIC(6,2) CHECK (weight_kg >= 0),\n", "  weight_kg NUMERIC(6,2) CHECK (weight_kg >= 0),\n  paint VARCHAR(20),\n"}},
	{name: "a column is renamed",
		schema: []string{"  phone VARCHAR(30)", "  telephone VARCHAR(30)"},
		breaks: []string{`k.Phone.Or("none")`},
		fixes:  []string{"k.Phone", "k.Telephone"}},
	{name: "a column is split",
		schema: []string{"  name VARCHAR(80) NOT NULL,\n  email", "  first_name VARCHAR(80) NOT NULL,\n  last_name VARCHAR(80) NOT NULL,\n  email"},
		flags:  []string{"--renamed", "keeper.name=", "--decide", "all=a"},
		breaks: []string{"name := k.Name"},
		fixes:  []string{"k.Name", `k.FirstName + " " + k.LastName`}},
	{name: "columns are dropped",
		schema: []string{"  details JSONB,\n", "", "COMMENT ON COLUMN apiary.details IS 'What the land owner wants known.';\n", "",
			"(weight_kg > 0),\n  moisture_pct NUMERIC(4,1) CHECK (moisture_pct BETWEEN 0 AND 100)\n", "(weight_kg > 0)\n"},
		flags:   []string{"--decide", "all=a"},
		queries: []string{", max(h.moisture_pct) as wettest", ""},
		breaks:  []string{"a.Details"},
		fixes:   []string{", a.Details", ""}},
	{name: "columns get another type",
		schema: []string{"  frames BIGINT NOT NULL", "  frames INTEGER NOT NULL", "  brood_frames BIGINT NOT NULL", "  brood_frames INTEGER NOT NULL"},
		flags:  []string{"--decide", "all=a"},
		breaks: []string{"var frames int64 = h.Frames", "var brood int64 = i.BroodFrames"},
		fixes:  []string{"var frames int64 = h.Frames", "frames := int64(h.Frames)", "var brood int64 = i.BroodFrames", "brood := int64(i.BroodFrames)"}},
	{name: "a new relation",
		schema: []string{"  is_clipped BOOLEAN NOT NULL DEFAULT FALSE\n", "  is_clipped BOOLEAN NOT NULL DEFAULT FALSE,\n  marked_by_id BIGINT REFERENCES keeper (id)\n"}},
	{name: "one-to-many becomes many-to-many",
		schema: []string{"  keeper_id BIGINT NOT NULL REFERENCES keeper (id),\n  done_on", "  done_on", "CREATE INDEX inspection_keeper_id_idx ON inspection (keeper_id);\n",
			"CREATE TABLE inspection_keeper (\n  inspection_id BIGINT NOT NULL REFERENCES inspection (id) ON DELETE CASCADE,\n  keeper_id BIGINT NOT NULL REFERENCES keeper (id),\n  PRIMARY KEY (inspection_id, keeper_id)\n);\n"},
		flags:  []string{"--decide", "1=a"},
		breaks: []string{"return i.KeeperID"},
		fixes:  []string{"return i.KeeperID", "return int64(len(i.Keepers))"}},
	{name: "a label is added to an enum",
		schema: []string{"('calm', 'nervous', 'fierce')", "('calm', 'gentle', 'nervous', 'fierce')"}},
	{name: "a label is taken from an enum",
		schema: []string{"('calm', 'gentle', 'nervous', 'fierce')", "('calm', 'gentle', 'fierce')"},
		flags:  []string{"--decide", "1=b"},
		breaks: []string{"store.TemperamentNervous"},
		fixes:  []string{" || h.Temperament == store.TemperamentNervous", ""}},
	{name: "a view is added",
		schema: []string{"CREATE VIEW hive_overview AS", "CREATE VIEW keeper_list AS SELECT k.id AS keeper_id, k.last_name, count(a.id) AS apiaries FROM keeper k LEFT JOIN apiary a ON a.keeper_id = k.id GROUP BY k.id;\n\nCREATE VIEW hive_overview AS"}},
	{name: "a key is changed",
		schema: []string{"CREATE TABLE sensor_reading (\n", "CREATE TABLE sensor_reading (\n  id BIGINT GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY,\n", "  weight_kg NUMERIC(6,2),\n  PRIMARY KEY (hive_id, read_at)", "  weight_kg NUMERIC(6,2),\n  CONSTRAINT sensor_reading_once UNIQUE (hive_id, read_at)"},
		breaks: []string{"store.SensorReadingKey{"},
		fixes:  []string{"store.SensorReadingKey{HiveID: r.HiveID, ReadAt: r.ReadAt}", "r.ID"}},
	{name: "a table is renamed",
		schema: []string{"CREATE TABLE substance (", "CREATE TABLE remedy (", "TABLE substance IS", "TABLE remedy IS", "COLUMN substance.", "COLUMN remedy.", "REFERENCES substance", "REFERENCES remedy"},
		breaks: []string{"func Wait(s *store.Substance)", "store.Substances.Name"},
		fixes:  []string{"*store.Substance)", "*store.Remedy)", "store.Substances", "store.Remedies"}},
	{name: "tables move to another schema",
		schema:  []string{"CREATE TABLE forage (", "CREATE SCHEMA flora;\nCREATE TABLE flora.forage (", "TABLE forage IS", "TABLE flora.forage IS", "COLUMN forage.blooms_from", "COLUMN flora.forage.blooms_from", "COLUMN forage.blooms_to", "COLUMN flora.forage.blooms_to", "REFERENCES forage", "REFERENCES flora.forage"},
		project: []string{"\ntables:", "  schemas: [public, flora]\n\ntables:"}},
}

// book is the project that lives through the chapters.
type book struct {
	t           *testing.T
	folder, url string
	schema      string
	conn        *pgx.Conn
	code        string
}

func (b *book) run(args ...string) (out string, status int) {
	b.t.Helper()
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Dir = b.folder
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	if err := cmd.Run(); err != nil {
		b.t.Logf("%s: %s", strings.Join(args, " "), stderr.String())
	}
	return stdout.String(), cmd.ProcessState.ExitCode()
}

func (b *book) path(name string) string { return filepath.Join(b.folder, filepath.FromSlash(name)) }

func (b *book) read(name string) string {
	b.t.Helper()
	text, err := os.ReadFile(b.path(name))
	require.NoError(b.t, err)
	return string(text)
}

func (b *book) write(name, text string) {
	b.t.Helper()
	require.NoError(b.t, os.MkdirAll(filepath.Dir(b.path(name)), 0o755))
	require.NoError(b.t, os.WriteFile(b.path(name), []byte(text), 0o644))
}

// edit puts texts in place of others, in pairs.
func (b *book) edit(text string, pairs []string) string {
	b.t.Helper()
	for i := 0; i < len(pairs); i += 2 {
		require.Contains(b.t, text, pairs[i])
		text = strings.Replace(text, pairs[i], pairs[i+1], 1)
	}
	return text
}

var brokenLine = regexp.MustCompile(`(?m)^(report/\S+\.go:\d+):\d+: `)

// broken are the places of the developer's code that the compiler refuses.
func (b *book) broken() []string {
	b.t.Helper()
	cmd := exec.Command("go", "build", "-gcflags=-e", "./report")
	cmd.Dir = b.folder
	out, _ := cmd.CombinedOutput() // its errors are what is looked for
	var places []string
	for _, m := range brokenLine.FindAllStringSubmatch(string(out), -1) {
		places = append(places, m[1])
	}
	if len(places) == 0 {
		require.Empty(b.t, string(out), "only the developer's own code breaks")
	}
	slices.Sort(places)
	return slices.Compact(places)
}

// foretold are the places that a report of changes names.
func foretold(t *testing.T, report string) []string {
	t.Helper()
	var r struct {
		Uses []struct {
			File string
			Line int
		}
		Conflicts []any
	}
	require.NoError(t, json.Unmarshal([]byte(report), &r), report)
	require.Empty(t, r.Conflicts)
	var places []string
	for _, u := range r.Uses {
		places = append(places, fmt.Sprintf("%s:%d", u.File, u.Line))
	}
	slices.Sort(places)
	return slices.Compact(places)
}

// lines are the places of the code that hold one of the texts.
func lines(code string, texts []string) []string {
	var places []string
	for i, line := range strings.Split(code, "\n") {
		if slices.ContainsFunc(texts, func(s string) bool { return strings.Contains(line, s) }) {
			places = append(places, fmt.Sprintf("report/report.go:%d", i+1))
		}
	}
	return places
}

// generated are edits of the developer in generated files: what is put in place
// of what, and what must be there to the end.
var generated = []struct{ file, old, now, last, stays string }{
	{"store/keeper.go", "`json:\"phone\"`", "`json:\"phone\" xml:\"tel\"`", "store/keeper.go", `xml:"tel"`},
	{"store/hive.go", "// Hive is a box of bees", "// Ours: we paint them.\n//\n// Hive is a box of bees", "store/hive.go", "// Ours: we paint them."},
	{"store/substance.go", "// Substance is", "// Ours: keep it locked.\n//\n// Substance is", "store/remedy.go", "// Ours: keep it locked."},
	{"api/substance.go", "\treturn rest.SendRow(w, r, s.substance, key)\n", "\tw.Header().Set(\"X-Ours\", \"yes\")\n\treturn rest.SendRow(w, r, s.substance, key)\n", "api/remedy.go", `w.Header().Set("X-Ours", "yes")`},
	{"api/forage.go", "// listForages", "// Ours: plants.\n//\n// listForages", "api/forage.go", "// Ours: plants."},
}

// storyRows is how many inspections the database of the story has.
func storyRows() string {
	if rows := os.Getenv("WIDEGATE_TEST_STORY_ROWS"); rows != "" {
		return rows
	}
	return "400"
}

// TestAStoryOfChanges has the demo live through changes of its schema, each
// carried out by the script that is drafted for it. What `changes` foretells is
// what the compiler finds, and no edit and no row is lost.
// WIDEGATE_TEST_STORY_ROWS is how many inspections there are.
func TestAStoryOfChanges(t *testing.T) {
	schema, err := beekeeping.Schema("postgres")
	require.NoError(t, err)
	b := &book{t: t, folder: filepath.Join(t.TempDir(), "bees"), url: testdb.Postgres(t), schema: schema, code: ownCode}
	out, err := exec.Command("widegate", "demo", "--folder", b.folder, "--url", b.url, "--rows", storyRows(), "--no-start", "--quiet").CombinedOutput()
	require.NoError(t, err, string(out))
	b.conn, err = pgx.Connect(t.Context(), b.url)
	require.NoError(t, err)
	defer b.conn.Close(t.Context())
	require.NoError(t, os.RemoveAll(b.path("cmd/tour")))
	b.write("report/report.go", b.code)
	for _, e := range generated {
		b.write(e.file, b.edit(b.read(e.file), []string{e.old, e.now}))
	}
	b.write("widegate.yaml", b.read("widegate.yaml")+"\nentities:\n  substance: # locked\n    label: Remedies\n")
	_, status := b.run("widegate", "write")
	require.Zero(t, status)
	require.Empty(t, b.broken())
	for _, c := range chapters {
		if !t.Run(c.name, func(t *testing.T) { b.t = t; b.tell(c) }) {
			return
		}
	}
	b.t = t
	for _, e := range generated {
		assert.Contains(t, b.read(e.last), e.stays)
	}
	assert.Contains(t, b.read("widegate.yaml"), "  remedy: # locked\n    label: Remedies\n")
	_, status = b.run("go", "vet", "./...")
	assert.Zero(t, status)
}

func (b *book) tell(c chapter) {
	t := b.t
	b.schema = b.edit(b.schema, c.schema)
	b.write("schema.sql", b.schema)
	b.write("widegate.yaml", b.edit(b.read("widegate.yaml"), c.project))
	before := b.rows()
	script, status := b.run(append([]string{"widegate", "migration", b.url, "schema.sql", "--scratch", b.url, "--trust-scripts"}, c.flags...)...)
	require.Zero(t, status, "every place is decided on\n%s", script)
	took := b.carryOut(script)
	after := b.rows()
	for table, n := range before {
		if now, there := after[table]; there {
			assert.Equal(t, n, now, table)
		}
	}
	renamed := slices.DeleteFunc(slices.Clone(c.flags), func(f string) bool {
		return strings.HasPrefix(f, "--decide") || !strings.Contains(f, ".") && !strings.HasPrefix(f, "--")
	})
	changes := append([]string{"widegate", "changes", "--json"}, renamed...)
	report, _ := b.run(changes...)
	if len(c.queries) > 0 {
		assert.Contains(t, report, "query BestApiaries: ", "a query that does not hold is told")
		b.write("queries/cooperative.sql", b.edit(b.read("queries/cooperative.sql"), c.queries))
		report, _ = b.run(changes...)
	}
	assert.Contains(t, report, `"queries": []`)
	told := foretold(t, report)
	assert.Equal(t, lines(b.code, c.breaks), told, "what is foretold")
	_, status = b.run(append([]string{"widegate", "write", "--yes"}, renamed...)...)
	require.Zero(t, status)
	assert.Equal(t, told, b.broken(), "what breaks is what was foretold")
	b.code = b.edit(b.code, c.fixes)
	b.write("report/report.go", b.code)
	require.Empty(t, b.broken())
	_, status = b.run("widegate", "check")
	assert.Zero(t, status)
	t.Logf("the script took %v", took)
}

// carryOut runs a script, and a reader and a writer of the largest table beside
// it, of which it tells how long they had to wait.
func (b *book) carryOut(script string) string {
	t := b.t
	t.Helper()
	stop := make(chan struct{})
	reads, writes := make(chan time.Duration, 1), make(chan time.Duration, 1)
	go func() { reads <- b.longestWait(stop, "SELECT 1 FROM inspection LIMIT 1") }()
	go func() { writes <- b.longestWait(stop, "UPDATE inspection SET notes = notes WHERE id = 1") }()
	time.Sleep(20 * time.Millisecond)
	start := time.Now()
	_, err := b.conn.PgConn().Exec(t.Context(), script).ReadAll()
	took := time.Since(start)
	close(stop)
	require.NoError(t, err, script)
	return fmt.Sprintf("%v; a reader of inspections waited %v at most, a writer %v", took.Round(time.Millisecond), (<-reads).Round(time.Millisecond), (<-writes).Round(time.Millisecond))
}

// longestWait runs a statement again and again.
func (b *book) longestWait(stop chan struct{}, statement string) time.Duration {
	conn, err := pgx.Connect(b.t.Context(), b.url)
	if err != nil {
		return 0
	}
	defer conn.Close(b.t.Context())
	var longest time.Duration
	for {
		start := time.Now()
		if _, err := conn.Exec(b.t.Context(), statement); err != nil {
			return longest
		}
		longest = max(longest, time.Since(start))
		select {
		case <-stop:
			return longest
		case <-time.After(time.Millisecond):
		}
	}
}

// rows counts the rows of each table.
func (b *book) rows() map[string]int {
	b.t.Helper()
	rows, err := b.conn.Query(b.t.Context(), `SELECT relname::text FROM pg_stat_user_tables`)
	require.NoError(b.t, err)
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(b.t, err)
	counts := map[string]int{}
	for _, name := range names {
		var n int
		err := b.conn.QueryRow(b.t.Context(), `SELECT count(*) FROM `+name).Scan(&n)
		if err == nil { // it is found without its schema
			counts[name] = n
		}
	}
	return counts
}
