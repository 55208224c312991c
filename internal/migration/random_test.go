package migration_test

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	driver "github.com/go-sql-driver/mysql"
	_ "github.com/jackc/pgx/v5/stdlib" // the driver of the PostgreSQL databases here
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // the driver of the SQLite databases here

	gatemysql "widegate/gate/mysql"
	"widegate/internal/catalog"
	"widegate/internal/migration"
	"widegate/internal/read"
	"widegate/internal/testdb"
)

// schema is a random one, written as DDL by this test and by nobody else.
type schema struct {
	engine string
	tables []*table
	views  []string // names of tables that a view shows
	enum   []string
}

type table struct {
	name    string
	columns []*column
	unique  string // a column
	index   string
	check   string          // a column of numbers
	hangs   map[string]bool // what hangs on it, by the words of hangings
}

// hangings are what may hang on a table, for each engine as the statements that
// make it. T stands for the table in quotes, N for its bare name.
var hangings = map[string]map[string][]string{
	dialects.Postgres: {
		"trigger":    {"CREATE TRIGGER \"N_note\" AFTER UPDATE ON T FOR EACH ROW WHEN (OLD.id <> NEW.id) EXECUTE FUNCTION note()"},
		"disabled":   {"CREATE TRIGGER \"N_off\" BEFORE DELETE ON T FOR EACH ROW EXECUTE FUNCTION note()", "ALTER TABLE T DISABLE TRIGGER \"N_off\""},
		"policy":     {"CREATE POLICY \"N_own\" ON T FOR SELECT TO widegate_reader USING (id > 0)", "ALTER TABLE T ENABLE ROW LEVEL SECURITY"},
		"right":      {"GRANT SELECT, INSERT ON T TO widegate_reader", "GRANT UPDATE (id) ON T TO widegate_reader"},
		"storage":    {"ALTER TABLE T SET (fillfactor = 70)"},
		"comment":    {"COMMENT ON CONSTRAINT \"N_pkey\" ON T IS 'It''s the key'"},
		"rule":       {"CREATE RULE \"N_rule\" AS ON DELETE TO T WHERE OLD.id < 0 DO INSTEAD NOTHING"},
		"statistics": {"ALTER TABLE T ALTER COLUMN id SET STATISTICS 200"},
		"identity":   {"ALTER TABLE T REPLICA IDENTITY FULL"},
		"view":       {"CREATE VIEW \"N_view\" WITH (security_barrier) AS SELECT id FROM T WHERE id > 0", "GRANT SELECT ON \"N_view\" TO widegate_reader"},
		"sequence":   {"CREATE SEQUENCE \"N_numbers\" START WITH 7 INCREMENT BY 3"},
		"computed":   {"ALTER TABLE T ADD COLUMN twice bigint GENERATED ALWAYS AS (id * 2) STORED"},
	},
	dialects.MySQL: {
		"trigger": {"CREATE TRIGGER `N_note` AFTER UPDATE ON T FOR EACH ROW SET @seen = NEW.id"},
		"format":  {"ALTER TABLE T ROW_FORMAT = COMPRESSED"},
		"view":    {"CREATE SQL SECURITY INVOKER VIEW `N_view` AS SELECT id FROM T WHERE id > 0 WITH CASCADED CHECK OPTION"},
		"right":   {"GRANT SELECT ON T TO widegate_reader"},
	},
	dialects.SQLite: {
		"trigger":  {"CREATE TRIGGER \"N_note\" AFTER UPDATE ON T BEGIN SELECT NEW.id; END"},
		"index":    {"CREATE UNIQUE INDEX \"N_down\" ON T (id DESC)"},
		"partial":  {"CREATE INDEX \"N_part\" ON T (id) WHERE id > 3"},
		"computed": {"ALTER TABLE T ADD COLUMN twice INTEGER GENERATED ALWAYS AS (id * 2)"},
	},
}

// ready makes what hangings need.
var ready = map[string][]string{
	dialects.Postgres: {"DO $$ BEGIN CREATE ROLE widegate_reader; EXCEPTION WHEN duplicate_object OR unique_violation THEN NULL; END $$", "CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END'"},
	dialects.MySQL:    {"CREATE USER IF NOT EXISTS widegate_reader"},
}

type column struct {
	name    string
	kind    int // into kinds
	notNull bool
	def     string
	refers  *table
	comment string
	fresh   bool // it was not there before, and is not renamed
}

// kinds are the types of columns, each list in an order in which values only
// become wider.
var kinds = map[string][]string{
	dialects.Postgres: {"smallint", "integer", "bigint", "numeric(30,2)", "character varying(40)", "character varying(80)", "text", "boolean", "date", "mood"},
	dialects.MySQL:    {"smallint", "int", "bigint", "decimal(30,2)", "varchar(40)", "varchar(80)", "text", "tinyint(1)", "date", "enum"},
	dialects.SQLite:   {"SMALLINT", "INTEGER", "BIGINT", "NUMERIC", "VARCHAR(40)", "VARCHAR(80)", "TEXT", "BOOLEAN", "DATE", "TEXT"},
}

const (
	kindNumber = 3 // up to which kinds are numbers
	kindText   = 6 // up to which kinds are texts
	kindBool   = 7
	kindDate   = 8
	kindEnum   = 9
)

var words = []string{"hive", "keeper", "apiary", "queen", "forage", "harvest", "batch", "order", "Weight Scale", "größe", "frame", "swarm", "comb", "smoker", "visit"}

func newSchema(r *rand.Rand, engine string) *schema {
	s := &schema{engine: engine, enum: []string{"calm", "nervous", "fierce"}}
	for i := range 2 + r.IntN(3) {
		s.addTable(r, words[i])
	}
	return s
}

func (s *schema) addTable(r *rand.Rand, name string) *table {
	t := &table{name: name, columns: []*column{{name: "id", kind: 2, notNull: true}}}
	for range 1 + r.IntN(4) {
		s.addColumn(r, t, false)
	}
	if len(s.tables) > 0 && r.IntN(2) == 0 {
		to := s.tables[r.IntN(len(s.tables))]
		t.columns = append(t.columns, &column{name: to.name + "_id", kind: 2, refers: to})
	}
	s.tables = append(s.tables, t)
	return t
}

func (s *schema) addColumn(r *rand.Rand, t *table, later bool) {
	name := fmt.Sprintf("%s %d", words[r.IntN(len(words))], r.IntN(100))
	if r.IntN(3) > 0 {
		name = strings.ReplaceAll(name, " ", "_")
	}
	if t.find(name) != nil {
		return
	}
	c := &column{name: name, kind: r.IntN(len(kinds[s.engine])), notNull: r.IntN(2) == 0}
	if r.IntN(3) == 0 {
		c.def = s.value(c.kind, 7, s.engine)
	}
	if r.IntN(4) == 0 && s.engine == dialects.Postgres {
		c.comment = "What it's for: " + name
	}
	at := len(t.columns)
	if later {
		c.fresh = true
		at = 1 + r.IntN(len(t.columns))
	}
	t.columns = slices.Insert(t.columns, at, c)
}

func (t *table) find(name string) *column {
	for _, c := range t.columns {
		if strings.EqualFold(c.name, name) {
			return c
		}
	}
	return nil
}

// value is a constant of a kind.
func (s *schema) value(kind, n int, engine string) string {
	switch {
	case kind <= kindNumber:
		return fmt.Sprint(n)
	case kind <= kindText:
		return fmt.Sprintf("'it''s %d'", n)
	case kind == kindBool:
		if engine == dialects.Postgres {
			return fmt.Sprint(n%2 == 0)
		}
		return fmt.Sprint(n % 2)
	case kind == kindDate:
		return fmt.Sprintf("'2026-03-%02d'", n%28+1)
	}
	return "'" + s.enum[n%len(s.enum)] + "'"
}

func (s *schema) copy() *schema {
	out := &schema{engine: s.engine, views: slices.Clone(s.views), enum: slices.Clone(s.enum)}
	twin := map[*table]*table{}
	for _, t := range s.tables {
		x := *t
		x.columns, x.hangs = nil, maps.Clone(t.hangs)
		twin[t] = &x
		out.tables = append(out.tables, &x)
		for _, c := range t.columns {
			y := *c
			x.columns = append(x.columns, &y)
		}
	}
	for _, t := range out.tables {
		for _, c := range t.columns {
			if c.refers != nil {
				c.refers = twin[c.refers]
			}
		}
	}
	return out
}

// mutate changes a schema a few times and returns what it renamed.
func (s *schema) mutate(r *rand.Rand, times int) []catalog.Rename {
	var renames []catalog.Rename
	renamed := map[string]bool{}
	for i := range times {
		t := s.tables[r.IntN(len(s.tables))]
		c := t.columns[r.IntN(len(t.columns))]
		own := c.name != "id" && c.refers == nil && t.unique != c.name && t.index != c.name && t.check != c.name
		switch r.IntN(17) {
		case 13, 14, 15, 16:
			s.hang(r, t)
		case 0:
			s.addTable(r, fmt.Sprintf("extra%d", i))
		case 1:
			referred := slices.ContainsFunc(s.tables, func(x *table) bool {
				return x != t && slices.ContainsFunc(x.columns, func(c *column) bool { return c.refers == t })
			})
			if len(s.tables) > 1 && !referred && !renamed[t.name] && !strings.HasPrefix(t.name, "extra") {
				s.tables = slices.DeleteFunc(s.tables, func(x *table) bool { return x == t })
				s.views = slices.DeleteFunc(s.views, func(v string) bool { return v == t.name })
			}
		case 2, 3:
			s.addColumn(r, t, true)
		case 4:
			if own && len(t.columns) > 2 && !renamed[t.name+"."+c.name] && !renamed[t.name] {
				t.columns = slices.DeleteFunc(t.columns, func(x *column) bool { return x == c })
			}
		case 5: // rename a column that was there
			if c.name != "id" && c.refers == nil && t.check != c.name && !renamed[t.name+"."+c.name] && !renamed[t.name] && !strings.HasPrefix(t.name, "extra") && !c.fresh {
				to := fmt.Sprintf("renamed%d", i)
				c.fresh = true
				renamed[t.name+"."+to], renamed[t.name] = true, true
				renames = append(renames, catalog.Rename{Thing: catalog.RenamedColumn, In: t.name, From: c.name, To: to, Confidence: 1})
				if t.unique == c.name {
					t.unique = to
				}
				if t.index == c.name {
					t.index = to
				}
				c.name = to
			}
		case 6: // rename a table that was there
			if !renamed[t.name] && !strings.HasPrefix(t.name, "extra") {
				to := fmt.Sprintf("moved%d", i)
				renamed[to] = true
				renames = append(renames, catalog.Rename{Thing: catalog.RenamedTable, From: t.name, To: to, Confidence: 1})
				for k, v := range s.views {
					if v == t.name {
						s.views[k] = to
					}
				}
				t.name = to
			}
		case 7: // another type
			switch {
			case own && c.kind < kindNumber, own && c.kind > kindNumber && c.kind < kindText:
				c.kind, c.def = c.kind+1, ""
			case own && c.kind > 0 && c.kind <= kindNumber:
				c.kind, c.def = c.kind-1, ""
			}
		case 8:
			if own {
				c.notNull = !c.notNull
			}
		case 9:
			if own && c.def == "" {
				c.def = s.value(c.kind, 3, s.engine)
			} else {
				c.def = ""
			}
		case 10:
			s.toggle(t, c)
		case 11:
			if i := slices.Index(s.views, t.name); i >= 0 {
				s.views = slices.Delete(s.views, i, i+1)
			} else {
				s.views = append(s.views, t.name)
			}
		case 12:
			if len(s.enum) < 5 {
				s.enum = slices.Insert(s.enum, r.IntN(len(s.enum)+1), fmt.Sprintf("label%d", i))
			}
		}
	}
	for i := range renames { // the table may have got another name since
		for _, r := range renames {
			if r.Thing == catalog.RenamedTable && renames[i].In == r.From {
				renames[i].In = r.To
			}
		}
	}
	return renames
}

// hang takes away or gives something that hangs on a table.
func (s *schema) hang(r *rand.Rand, t *table) {
	words := slices.Sorted(maps.Keys(hangings[s.engine]))
	word := words[r.IntN(len(words))]
	if t.hangs == nil {
		t.hangs = map[string]bool{}
	}
	t.hangs[word] = !t.hangs[word]
}

// toggle takes away or gives an index, a unique key or a check.
func (s *schema) toggle(t *table, c *column) {
	switch {
	case t.index != "":
		t.index = ""
	case t.check != "":
		t.check = ""
	case t.unique != "":
		t.unique = ""
	case c.name == "id" || c.refers != nil:
	case c.kind <= kindNumber && c.kind > 0:
		t.check = c.name
	case c.kind == 4 && c.def == "" && !c.notNull:
		t.unique = c.name
	case c.kind != kindText:
		t.index = c.name
	}
}

func (s *schema) q(name string) string {
	if s.engine == dialects.MySQL {
		return "`" + name + "`"
	}
	return `"` + name + `"`
}

// ddl writes the schema out.
func (s *schema) ddl() []string {
	list := slices.Clone(ready[s.engine])
	if s.engine == dialects.Postgres {
		list = append(list, "CREATE TYPE mood AS ENUM ('"+strings.Join(s.enum, "', '")+"')")
	}
	var later []string
	for _, t := range s.tables {
		var parts []string
		for _, c := range t.columns {
			declared := kinds[s.engine][c.kind]
			if declared == "enum" {
				declared = "enum('" + strings.Join(s.enum, "','") + "')"
			}
			text := s.q(c.name) + " " + declared
			if c.name == "id" {
				text += map[string]string{dialects.Postgres: " GENERATED BY DEFAULT AS IDENTITY", dialects.MySQL: " AUTO_INCREMENT", dialects.SQLite: ""}[s.engine]
				if s.engine == dialects.SQLite {
					text = `"id" INTEGER`
				}
				text += " PRIMARY KEY"
			} else if c.notNull {
				text += " NOT NULL"
			}
			if c.def != "" {
				text += " DEFAULT " + c.def
			}
			parts = append(parts, text)
			if c.refers != nil {
				parts = append(parts, "")
				parts[len(parts)-1] = fmt.Sprintf("CONSTRAINT %s FOREIGN KEY (%s) REFERENCES %s (%s)", s.q(strings.ReplaceAll(c.name, " ", "")+"_ref_"+t.name), s.q(c.name), s.q(c.refers.name), s.q("id"))
			}
			if c.comment != "" {
				later = append(later, fmt.Sprintf("COMMENT ON COLUMN %s.%s IS '%s'", s.q(t.name), s.q(c.name), strings.ReplaceAll(c.comment, "'", "''")))
			}
		}
		slices.SortStableFunc(parts, func(a, b string) int {
			return map[bool]int{true: 1}[strings.HasPrefix(a, "CONSTRAINT")] - map[bool]int{true: 1}[strings.HasPrefix(b, "CONSTRAINT")]
		})
		if t.unique != "" {
			parts = append(parts, fmt.Sprintf("CONSTRAINT %s UNIQUE (%s)", s.q(t.name+"_once"), s.q(t.unique)))
		}
		if t.check != "" {
			parts = append(parts, fmt.Sprintf("CONSTRAINT %s CHECK (%s >= 0)", s.q(t.name+"_check"), s.q(t.check)))
		}
		list = append(list, fmt.Sprintf("CREATE TABLE %s (%s)", s.q(t.name), strings.Join(parts, ", ")))
		if t.index != "" {
			list = append(list, fmt.Sprintf("CREATE INDEX %s ON %s (%s)", s.q(t.name+"_at"), s.q(t.name), s.q(t.index)))
		}
	}
	for _, t := range s.tables {
		for _, word := range slices.Sorted(maps.Keys(hangings[s.engine])) {
			for _, statement := range hangings[s.engine][word] {
				if t.hangs[word] {
					list = append(list, strings.ReplaceAll(strings.ReplaceAll(statement, "N_", t.name+"_"), " T ", " "+s.q(t.name)+" "))
				}
			}
		}
	}
	for _, v := range s.views {
		list = append(list, fmt.Sprintf("CREATE VIEW %s AS SELECT * FROM %s", s.q("all_"+v), s.q(v)))
	}
	return append(list, later...)
}

const rowsEach = 7

// rows fills the tables.
func (s *schema) rows() []string {
	var list []string
	for _, t := range s.tables {
		var names []string
		for _, c := range t.columns {
			names = append(names, s.q(c.name))
		}
		for n := 1; n <= rowsEach; n++ {
			var values []string
			for _, c := range t.columns {
				switch {
				case c.name == "id" || c.refers != nil && c.notNull:
					values = append(values, fmt.Sprint(n))
				case c.refers != nil:
					values = append(values, map[bool]string{true: "1", false: "NULL"}[n%2 == 0])
				case !c.notNull && n == 4:
					values = append(values, "NULL")
				default:
					values = append(values, s.value(c.kind, n, s.engine))
				}
			}
			list = append(list, fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", s.q(t.name), strings.Join(names, ", "), strings.Join(values, ", ")))
		}
	}
	return list
}

// database is a new, empty one, on one connection: a script is a transaction.
type database struct {
	*sql.Conn
	url     string
	schemas []string
}

func open(t *testing.T, engine string) database {
	t.Helper()
	address := ""
	switch engine {
	case dialects.Postgres:
		address = testdb.Postgres(t)
	case dialects.MySQL:
		address = testdb.MySQL(t)
	default:
		address = "sqlite:" + filepath.Join(t.TempDir(), "bees.db")
	}
	return database{connect(t, connectTo(t, engine, address, false)), address, nil}
}

// connectTo opens a database; several statements at once are for those who want
// them.
func connectTo(t *testing.T, engine, address string, several bool) *sql.DB {
	t.Helper()
	var db *sql.DB
	var err error
	switch engine {
	case dialects.Postgres:
		mode := "exec"
		if several {
			mode = "simple_protocol"
		}
		db, err = sql.Open("pgx", address+"?default_query_exec_mode="+mode)
	case dialects.MySQL:
		config, err := gatemysql.ParseURL(address)
		require.NoError(t, err)
		config.MultiStatements = several
		config.Logger = &driver.NopLogger{}
		connector, err := driver.NewConnector(config)
		require.NoError(t, err)
		db = sql.OpenDB(connector)
	default:
		db, err = sql.Open("sqlite", "file:"+url.PathEscape(strings.TrimPrefix(address, "sqlite:"))+"?_pragma=foreign_keys(1)&_pragma=busy_timeout(2000)")
	}
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return db
}

func connect(t *testing.T, db *sql.DB) *sql.Conn {
	t.Helper()
	conn, err := db.Conn(t.Context())
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	return conn
}

func (d database) run(t *testing.T, statements []string) {
	t.Helper()
	for _, s := range statements {
		_, err := d.ExecContext(t.Context(), s)
		require.NoError(t, err, s)
	}
}

func (d database) read(t *testing.T) *catalog.Catalog {
	t.Helper()
	source, err := read.Parse([]string{d.url}, "")
	require.NoError(t, err)
	source.Schemas = d.schemas
	c, err := read.Read(t.Context(), source)
	require.NoError(t, err)
	return c
}

// plain is the canonical form without what scripts cannot or need not keep: the
// order of columns, but in MySQL, and the layout of SQLite's own texts.
func plain(t *testing.T, c *catalog.Catalog) string {
	t.Helper()
	c = c.Renamed([]catalog.Rename{{}}) // a copy
	for i := range c.Tables {
		x := &c.Tables[i]
		if c.Engine.Name != dialects.MySQL {
			slices.SortFunc(x.Columns, func(a, b catalog.Column) int { return strings.Compare(a.Name, b.Name) })
			x.Definition = strings.Join(sorted(strings.Split(migration.OneLine(x.Definition), ", ")), ", ")
		}
		if !x.IsView() {
			x.Definition = ""
		}
		if c.Engine.Name == dialects.SQLite { // which cannot rename a constraint
			for k := range x.Checks {
				x.Checks[k].Name = ""
			}
			for k := range x.References {
				x.References[k].Name = ""
			}
			for k := range x.Uniques {
				x.Uniques[k].Name = ""
			}
		}
		if x.IsView() && c.Engine.Name != dialects.MySQL {
			x.Definition = "…" // its columns are in the order of the table's
		}
	}
	text, err := c.Encode()
	require.NoError(t, err)
	return string(text)
}

func sorted(list []string) []string {
	slices.Sort(list)
	return list
}

// wants takes the proposal under which rows stay.
func wants(d *migration.Decision) int {
	for i, p := range d.Proposals {
		for _, title := range []string{"they get a value", "they get another one", "the same value in all", "the first word"} {
			if strings.HasPrefix(p.Title, title) {
				return i
			}
		}
	}
	return 0
}

func move(t *testing.T, db database, before, after *catalog.Catalog, renames []catalog.Rename) *migration.Script {
	t.Helper()
	script, err := draft(before, after, migration.Options{Renames: renames, Decide: wants})
	require.NoError(t, err)
	err = script.Run(t.Context(), func(ctx context.Context, statement string) error {
		_, err := db.ExecContext(ctx, statement)
		return err
	})
	require.NoError(t, err, "%s", script.Text("it"))
	return script
}

// contents are the values of columns by table and column, in the order of ids.
func (d database) contents(t *testing.T, s *schema) map[string][]string {
	t.Helper()
	all := map[string][]string{}
	for _, x := range s.tables {
		for _, c := range x.columns {
			rows, err := d.QueryContext(t.Context(), fmt.Sprintf("SELECT %s FROM %s ORDER BY %s", s.q(c.name), s.q(x.name), s.q("id")))
			require.NoError(t, err)
			var list []string
			for rows.Next() {
				var v sql.NullString
				require.NoError(t, rows.Scan(&v))
				text, _, _ := strings.Cut(v.String, ".00") // a number may have become a decimal
				list = append(list, text)
			}
			require.NoError(t, rows.Err())
			rows.Close()
			all[x.name+"."+c.name] = list
		}
	}
	return all
}

// kept compares the values of what is in both schemas, with its names in the
// second.
func kept(t *testing.T, before, after map[string][]string, renames []catalog.Rename, why string) {
	t.Helper()
	for name, values := range before {
		table, column, _ := strings.Cut(name, ".")
		for _, r := range renames {
			if r.Thing == catalog.RenamedTable && r.From == table {
				table = r.To
			}
		}
		for _, r := range renames {
			if r.Thing == catalog.RenamedColumn && r.In == table && r.From == column {
				column = r.To
			}
		}
		now, there := after[table+"."+column]
		if !there {
			continue
		}
		for i := range values {
			if values[i] != "" { // what had no value may have got one
				assert.Equal(t, values[i], now[i], "%s row %d\n%s", name, i+1, why)
			}
		}
	}
}

// TestThereAndBack moves random databases to random schemas and back.
// WIDEGATE_TEST_SEEDS is how many times as many are tried.
func TestThereAndBack(t *testing.T) {
	times, err := strconv.Atoi(cmp.Or(os.Getenv("WIDEGATE_TEST_SEEDS"), "1"))
	require.NoError(t, err)
	for engine, seeds := range map[string]int{dialects.Postgres: 20, dialects.MySQL: 15, dialects.SQLite: 60} {
		t.Run(engine, func(t *testing.T) {
			for seed := range seeds * times {
				require.True(t, t.Run(strconv.Itoa(seed), func(t *testing.T) { thereAndBack(t, engine, uint64(seed)) }))
			}
		})
	}
}

// sameDump has the engine's own program compare two databases.
func sameDump(t *testing.T, engine, want, got, why string) {
	t.Helper()
	a, ran, err := read.Dump(t.Context(), engine, want)
	require.NoError(t, err)
	require.True(t, ran, "the program that dumps a schema is not installed")
	b, _, err := read.Dump(t.Context(), engine, got)
	require.NoError(t, err)
	require.NotEmpty(t, a)
	plainly := func(lines []string) []string {
		for i := range lines {
			if engine == dialects.SQLite { // which has no names for constraints
				lines[i] = regexp.MustCompile(`CONSTRAINT \S+ `).ReplaceAllString(lines[i], "")
			}
			if strings.HasPrefix(lines[i], "CREATE VIEW ") { // its columns are in the order of the table's
				lines[i] = lines[i][:strings.Index(lines[i]+" AS ", " AS ")]
			}
			lines[i] = strings.TrimRight(lines[i], " ")
		}
		return lines
	}
	a, b = plainly(a), plainly(b)
	assert.Empty(t, migration.Without(a, b), "is not there\n%s", why)
	assert.Empty(t, migration.Without(b, a), "is there and should not\n%s", why)
}

func thereAndBack(t *testing.T, engine string, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 8))
	a := newSchema(r, engine)
	for range r.IntN(4) {
		x := a.tables[r.IntN(len(a.tables))]
		a.toggle(x, x.columns[r.IntN(len(x.columns))])
	}
	b := a.copy()
	renames := b.mutate(r, 1+r.IntN(8))
	db, other := open(t, engine), open(t, engine)
	db.run(t, a.ddl())
	db.run(t, a.rows())
	other.run(t, b.ddl())
	first, second := db.read(t), other.read(t)
	if len(catalog.Made(first, second, renames...)) == 0 {
		return
	}
	before := db.contents(t, a)
	script := move(t, db, first, second, renames)
	require.Equal(t, plain(t, second), plain(t, db.read(t)), "seed %d\n%s", seed, script.Text("there"))
	kept(t, before, db.contents(t, b), renames, string(script.Text("there")))
	sameDump(t, engine, other.url, db.url, string(script.Text("there")))

	offline(t, engine, a, b, script, second)

	between := db.contents(t, b)
	back := catalog.Reversed(renames)
	script = move(t, db, db.read(t), first, back)
	require.Equal(t, plain(t, first), plain(t, db.read(t)), "seed %d\n%s", seed, script.Text("back"))
	kept(t, between, db.contents(t, a), back, string(script.Text("back")))
}

// workspace is a database as a proof takes it.
type workspace struct {
	database
	t *testing.T
}

func (w workspace) Exec(ctx context.Context, statement string) error {
	_, err := w.ExecContext(ctx, statement)
	return err
}

func (w workspace) Names(ctx context.Context, query string) ([]string, error) {
	rows, err := w.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var names []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	return names, rows.Err()
}

func (w workspace) Shell(context.Context, []byte) (bool, error) { return false, nil }

func (w workspace) Dump(ctx context.Context) ([]string, bool, error) {
	return read.Dump(ctx, w.engine(), w.url)
}

func (w workspace) engine() string {
	for engine, prefix := range map[string]string{dialects.Postgres: "postgres", dialects.MySQL: "mysql", dialects.SQLite: "sqlite"} {
		if strings.HasPrefix(w.url, prefix) {
			return engine
		}
	}
	return ""
}

func (w workspace) Read(context.Context) (*catalog.Catalog, error) { return w.database.read(w.t), nil }

// offline reads the scripts without a server: a folder of migrations must give
// what the database has.
func offline(t *testing.T, engine string, a, b *schema, script *migration.Script, live *catalog.Catalog) {
	t.Helper()
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "0001_first.sql"), []byte(strings.Join(a.ddl(), ";\n")+";\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "0002_then.sql"), script.Text("then"), 0o644))
	c, err := read.Read(t.Context(), read.Source{Engine: engine, DDL: []string{folder}})
	require.NoError(t, err, "%s", script.Text("then"))
	var differ []string
	for _, change := range catalog.Made(live, c) {
		switch change.Thing {
		case "definition", "comment", "collation", "type", "check", "default": // which scripts write differently
		default:
			differ = append(differ, change.String())
		}
	}
	assert.Empty(t, differ, "%s", script.Text("then"))
}
