package read_test

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver of the PostgreSQL databases here
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // the driver of the SQLite databases here

	gatemysql "widegate/gate/mysql"
	"widegate/internal/catalog"
	"widegate/internal/read"
)

// torture is the text of a torture schema.
func torture(t *testing.T, engine string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("..", "generate", "testdata", "torture", engine+".sql"))
	require.NoError(t, err)
	return string(text)
}

func execAll(t *testing.T, db interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}, text string) {
	t.Helper()
	for _, statement := range strings.Split(text, ";\n") {
		if strings.TrimSpace(statement) != "" {
			_, err := db.ExecContext(t.Context(), statement)
			require.NoError(t, err, statement)
		}
	}
}

// facts are lines, one for each item of a schema, that both sides of a
// comparison can write.
type facts map[string]bool

func (f facts) add(format string, args ...any) { f[fmt.Sprintf(format, args...)] = true }

// equal reports each item that only one side has.
func (f facts) equal(t *testing.T, engine facts, what string) {
	t.Helper()
	for item := range f {
		assert.True(t, engine[item], "%s: read, but the engine has it not: %s", what, item)
	}
	for item := range engine {
		assert.True(t, f[item], "%s: in the engine, but not read: %s", what, item)
	}
	t.Logf("%s: %d items", what, len(f))
	assert.Greater(t, len(f), 300, "%s: too little was compared", what)
}

// factsOf lists the items of a catalog. Declared types are left to the caller
// where an engine writes them in more than one way.
func factsOf(c *catalog.Catalog, declared func(c catalog.Column) string) facts {
	f := facts{}
	for _, t := range c.Tables {
		name := t.FullName()
		f.add("%s %s", t.Kind, name)
		if t.Comment != "" {
			f.add("comment %s: %s", name, t.Comment)
		}
		for i, col := range t.Columns {
			f.add("column %s.%s at %d of %s null %v", name, col.Name, i+1, declared(col), col.Nullable)
			f.add("default %s.%s %v generated %v", name, col.Name, col.Default != nil, col.Generated != "")
			if c.Engine.Name != dialects.Postgres && col.Generated != "" {
				f.add("stored %s.%s %v", name, col.Name, col.Stored)
			}
			if col.Comment != "" {
				f.add("comment %s.%s: %s", name, col.Name, col.Comment)
			}
		}
		if t.PrimaryKey != nil {
			f.add("key %s(%s)", name, strings.Join(t.PrimaryKey.Columns, ","))
		}
		for _, u := range t.Uniques {
			f.add("unique %s %s(%s)", u.Name, name, strings.Join(u.Columns, ","))
		}
		for _, r := range t.References {
			f.add("reference %s %s(%s) to %s(%s) %s/%s", r.Name, name, strings.Join(r.Columns, ","), catalog.Qualify(r.Schema, r.Table), strings.Join(r.Target, ","), r.OnUpdate, r.OnDelete)
		}
		for _, k := range t.Checks {
			f.add("check %s of %s", k.Name, name)
		}
		for _, in := range t.Indexes {
			f.add("index %s of %s unique %v", in.Name, name, in.Unique)
		}
		for _, e := range t.Extras {
			if e.Kind == "exclusion constraint" { // which has an index of its name
				f.add("index %s of %s unique false", e.Name, name)
			}
		}
	}
	for _, e := range c.Enums {
		f.add("enum %s(%s)", catalog.Qualify(e.Schema, e.Name), strings.Join(e.Labels, "|"))
	}
	for _, s := range c.Sequences {
		f.add("sequence %s %s", catalog.Qualify(s.Schema, s.Name), s.Options)
	}
	for _, r := range c.Routines {
		f.add("%s %s with %d arguments", r.Kind, catalog.Qualify(r.Schema, r.Name), len(r.Arguments))
	}
	return f
}

// asker runs queries and adds a line for each row.
type asker struct {
	t  *testing.T
	db *sql.DB
	f  facts
}

// each formats every row of a query, whose columns are read as text.
func (a asker) each(format, query string, args ...any) {
	a.t.Helper()
	a.rows(query, args, func(cells []any) { a.f.add(format, cells...) })
}

func (a asker) rows(query string, args []any, do func(cells []any)) {
	a.t.Helper()
	rows, err := a.db.QueryContext(a.t.Context(), query, args...)
	require.NoError(a.t, err, query)
	defer rows.Close()
	names, err := rows.Columns()
	require.NoError(a.t, err)
	for rows.Next() {
		texts := make([]sql.NullString, len(names))
		targets := make([]any, len(names))
		for i := range texts {
			targets[i] = &texts[i]
		}
		require.NoError(a.t, rows.Scan(targets...))
		cells := make([]any, len(names))
		for i := range texts {
			cells[i] = texts[i].String
		}
		do(cells)
	}
	require.NoError(a.t, rows.Err())
}

// TestPostgresItemByItem compares with information_schema and the server's own
// printing functions, which the reader does not use.
func TestPostgresItemByItem(t *testing.T) {
	url, _ := server(t, dialects.Postgres)
	db, err := sql.Open("pgx", url)
	require.NoError(t, err)
	defer db.Close()
	execAll(t, db, torture(t, dialects.Postgres))
	c := readURL(t, url, "public", "stock")
	a := asker{t, db, facts{}}
	const own = `CASE WHEN %[1]s = 'public' THEN '' ELSE %[1]s || '.' END || `
	name := func(schema, table string) string { return fmt.Sprintf(own, schema) + table }
	in := ` IN ('public', 'stock') `
	parts := ` NOT IN ('reading_2026', 'by_list_rest') `
	a.each("%s %s", `SELECT CASE table_type WHEN 'VIEW' THEN 'view' ELSE 'table' END, `+name("table_schema", "table_name")+` FROM information_schema.tables WHERE table_schema`+in+`AND table_name`+parts)
	a.each("materialized view %s", `SELECT `+name("schemaname", "matviewname")+` FROM pg_matviews`)
	a.each("comment %s: %s", `SELECT `+name("table_schema", "table_name")+`, obj_description((quote_ident(table_schema) || '.' || quote_ident(table_name))::regclass) FROM information_schema.tables WHERE table_schema`+in+
		`AND obj_description((quote_ident(table_schema) || '.' || quote_ident(table_name))::regclass) IS NOT NULL`)
	columns := `FROM information_schema.columns c WHERE table_schema` + in + `AND table_name` + parts
	relation := `(quote_ident(table_schema) || '.' || quote_ident(table_name))::regclass`
	a.each("column %s.%s at %s of %s null %s", `SELECT `+name("table_schema", "table_name")+`, column_name, row_number() OVER (PARTITION BY table_schema, table_name ORDER BY ordinal_position),
		(SELECT format_type(atttypid, atttypmod) FROM pg_attribute WHERE attrelid = `+relation+` AND attname = column_name), CASE WHEN is_nullable = 'YES' AND NOT coalesce(domain_name IN ('label', 'short_label'), false) THEN 'true' ELSE 'false' END `+columns)
	a.each("default %s.%s %s generated %s", `SELECT `+name("table_schema", "table_name")+`, column_name,
		CASE WHEN (column_default IS NOT NULL OR is_identity = 'YES' OR coalesce(domain_name IN ('label', 'short_label'), false)) THEN 'true' ELSE 'false' END,
		CASE is_generated WHEN 'ALWAYS' THEN 'true' ELSE 'false' END `+columns)
	a.each("comment %s.%s: %s", `SELECT `+name("table_schema", "table_name")+`, column_name, col_description(`+relation+`, ordinal_position) `+columns+` AND col_description(`+relation+`, ordinal_position) IS NOT NULL`)
	a.each("key %s(%s)", `SELECT `+name("table_schema", "table_name")+`, string_agg(column_name, ',' ORDER BY ordinal_position) FROM information_schema.table_constraints JOIN information_schema.key_column_usage USING (constraint_schema, constraint_name, table_schema, table_name)
		WHERE constraint_type = 'PRIMARY KEY' AND table_schema`+in+`GROUP BY table_schema, table_name`)
	a.each("unique %s %s(%s)", `SELECT constraint_name, `+name("table_schema", "table_name")+`, string_agg(column_name, ',' ORDER BY ordinal_position) FROM information_schema.table_constraints JOIN information_schema.key_column_usage USING (constraint_schema, constraint_name, table_schema, table_name)
		WHERE constraint_type = 'UNIQUE' AND table_schema`+in+`GROUP BY constraint_name, table_schema, table_name`)
	a.each("reference %s %s(%s) to %s(%s) %s/%s", `SELECT k.constraint_name, `+name("k.table_schema", "k.table_name")+`, string_agg(k.column_name, ',' ORDER BY k.ordinal_position), `+name("u.table_schema", "u.table_name")+`, string_agg(u.column_name, ',' ORDER BY k.ordinal_position),
			CASE update_rule WHEN 'NO ACTION' THEN '' ELSE lower(update_rule) END, CASE delete_rule WHEN 'NO ACTION' THEN '' ELSE lower(delete_rule) END
		FROM information_schema.referential_constraints r JOIN information_schema.key_column_usage k USING (constraint_schema, constraint_name)
		JOIN information_schema.key_column_usage u ON u.constraint_schema = r.unique_constraint_schema AND u.constraint_name = r.unique_constraint_name AND u.ordinal_position = k.position_in_unique_constraint
		GROUP BY k.constraint_name, k.table_schema, k.table_name, u.table_schema, u.table_name, update_rule, delete_rule`)
	a.each("check %s of %s", `SELECT constraint_name, `+name("table_schema", "table_name")+` FROM information_schema.table_constraints WHERE constraint_type = 'CHECK' AND constraint_name !~ '_not_null$' AND table_schema`+in)
	a.each("index %s of %s unique %s", `SELECT indexname, `+name("schemaname", "tablename")+`, CASE WHEN indexdef LIKE 'CREATE UNIQUE%' THEN 'true' ELSE 'false' END FROM pg_indexes
		WHERE schemaname`+in+`AND indexname NOT IN (SELECT constraint_name FROM information_schema.table_constraints WHERE constraint_type IN ('PRIMARY KEY', 'UNIQUE')) AND tablename`+parts)
	a.each("enum %s(%s)", `SELECT `+name("n.nspname", "t.typname")+`, array_to_string(enum_range(NULL::"Mood Type")::text[], '|') FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE typname = 'Mood Type'`)
	a.each("enum %s(%s)", `SELECT 'stock.size', array_to_string(enum_range(NULL::stock.size)::text[], '|')`)
	a.each("%s %s with %s arguments", `SELECT lower(routine_type), routine_name, (SELECT count(*) FROM information_schema.parameters p WHERE p.specific_name = r.specific_name) FROM information_schema.routines r
		WHERE routine_schema = 'public' AND routine_name IN ('add_up', 'list_hives', 'some_moods', 'do_nothing', 'small_of')`)
	a.each("sequence %s %s", `SELECT s.sequence_name, trim(CASE WHEN increment <> '1' THEN 'INCREMENT BY ' || increment ELSE '' END || CASE WHEN maximum_value <> '9223372036854775807' THEN ' MAXVALUE ' || maximum_value ELSE '' END
			|| CASE WHEN start_value <> '1' THEN ' START WITH ' || start_value ELSE '' END || CASE WHEN cycle_option = 'YES' THEN ' CYCLE' ELSE '' END)
		FROM information_schema.sequences s WHERE sequence_schema = 'public' AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.objid = quote_ident(sequence_name)::regclass AND d.deptype IN ('a', 'i') AND d.refobjsubid > 0)`)
	got := factsOf(c, func(c catalog.Column) string { return c.Declared })
	dropItems(got, func(item string) bool { // information_schema knows neither of these
		return strings.Contains(item, "stock.sizes.") || strings.Contains(item, "totals.") || strings.HasPrefix(item, "function ") && (strings.Contains(item, "temperature_range") || strings.Contains(item, "_multirange"))
	})
	got.equal(t, a.f, "postgres")
}

func dropItems(f facts, drop func(item string) bool) {
	for item := range f {
		if drop(item) {
			delete(f, item)
		}
	}
}

var showReference = regexp.MustCompile("CONSTRAINT `([^`]+)` FOREIGN KEY \\(([^)]+)\\) REFERENCES `([^`]+)` \\(([^)]+)\\)(.*)")

// TestMySQLItemByItem compares with what SHOW says of each table, which the
// reader does not use.
func TestMySQLItemByItem(t *testing.T) {
	url, _ := server(t, dialects.MySQL)
	config, err := gatemysql.ParseURL(url)
	require.NoError(t, err)
	db, err := sql.Open("mysql", config.FormatDSN())
	require.NoError(t, err)
	defer db.Close()
	execAll(t, db, torture(t, dialects.MySQL))
	c := readURL(t, url)
	a := asker{t, db, facts{}}
	var tables, sequences []string
	a.rows("SHOW FULL TABLES", nil, func(cells []any) {
		if cells[0] == "broken" { // which cannot be read, and is on the attention list
			return
		}
		if cells[1] == "SEQUENCE" {
			sequences = append(sequences, cells[0].(string))
			return
		}
		tables = append(tables, cells[0].(string))
		a.f.add("%s %s", map[any]string{"BASE TABLE": "table", "VIEW": "view"}[cells[1]], cells[0])
	})
	for _, table := range tables {
		a.showTable(table)
	}
	for _, name := range sequences {
		a.each("sequence "+name+" %s", "SELECT trim(concat(if(start_value <> 1, concat('START WITH ', start_value), ''), if(increment <> 1, concat(' INCREMENT BY ', increment), ''))) FROM "+name)
	}
	a.each("%s %s with %s arguments", `SELECT lower(type), name, CASE name WHEN 'nothing' THEN 0 WHEN 'never_negative' THEN 1 WHEN 'add_up' THEN 2 ELSE 3 END FROM mysql.proc WHERE db = database()`)
	got := factsOf(c, func(c catalog.Column) string { return c.Declared })
	dropItems(got, func(item string) bool { return strings.HasPrefix(item, "check ") })
	got.equal(t, a.f, "mysql")
	assert.True(t, slices.ContainsFunc(c.Notes, func(n catalog.Note) bool { return n.Table == "broken" }))
}

func (a asker) showTable(table string) {
	quoted := "`" + strings.ReplaceAll(table, "`", "``") + "`"
	at := 0
	isView := a.f["view "+table]
	a.rows("SHOW FULL COLUMNS FROM "+quoted, nil, func(cells []any) {
		at++
		extra := strings.ToLower(cells[6].(string))
		generated := strings.Contains(extra, "generated")
		hasDefault := cells[5] != "" && cells[5] != "NULL" || strings.Contains(extra, "auto_increment")
		if table == "shift" && cells[0] == "name" || table == "every_type" && cells[0] == "e" {
			hasDefault = cells[5] != ""
		}
		a.f.add("column %s.%s at %d of %s null %v", table, cells[0], at, cells[1], cells[3] == "YES" || isView)
		a.f.add("default %s.%s %v generated %v", table, cells[0], hasDefault && !isView, generated)
		if generated {
			a.f.add("stored %s.%s %v", table, cells[0], strings.Contains(extra, "stored"))
		}
		if cells[8] != "" {
			a.f.add("comment %s.%s: %s", table, cells[0], cells[8])
		}
	})
	if isView {
		return
	}
	keys, order, partial, unique := map[string][]string{}, []string{}, map[string]bool{}, map[string]bool{}
	a.rows("SHOW INDEX FROM "+quoted, nil, func(cells []any) {
		name := cells[2].(string)
		if keys[name] == nil {
			order = append(order, name)
		}
		keys[name] = append(keys[name], cells[4].(string))
		partial[name] = partial[name] || cells[7] != "" && cells[10] != "SPATIAL"
		unique[name] = cells[1] == "0"
	})
	for _, name := range order {
		list := strings.Join(keys[name], ",")
		switch {
		case name == "PRIMARY":
			a.f.add("key %s(%s)", table, list)
		case unique[name] && !partial[name]:
			a.f.add("unique %s %s(%s)", name, table, list)
		default:
			a.f.add("index %s of %s unique %v", name, table, unique[name])
		}
	}
	a.rows("SHOW CREATE TABLE "+quoted, nil, func(cells []any) {
		text := cells[1].(string)
		for _, m := range showReference.FindAllStringSubmatch(text, -1) {
			plain := strings.NewReplacer("`", "", " ", "")
			onDelete := ""
			if strings.Contains(m[5], "ON DELETE CASCADE") {
				onDelete = "cascade"
			}
			a.f.add("reference %s %s(%s) to %s(%s) /%s", m[1], table, plain.Replace(m[2]), m[3], plain.Replace(m[4]), onDelete)
		}
	})
	a.each("comment %[2]s: %[1]s", "SELECT table_comment, table_name FROM information_schema.tables WHERE table_schema = database() AND table_name = ? AND table_comment <> ''", table)
}

// TestSQLiteItemByItem compares with the pragmas of each table by itself.
func TestSQLiteItemByItem(t *testing.T) {
	path := filepath.Join(t.TempDir(), "odd.db")
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(torture(t, dialects.SQLite))
	require.NoError(t, err)
	c, err := read.Read(t.Context(), read.Source{URL: path})
	require.NoError(t, err)
	a := asker{t, db, facts{}}
	var tables, kinds []string
	a.rows(`SELECT name, type FROM pragma_table_list WHERE schema = 'main' AND type IN ('table', 'view', 'virtual') AND name NOT LIKE 'sqlite_%'`, nil, func(cells []any) {
		if cells[0] == "broken" {
			return
		}
		tables, kinds = append(tables, cells[0].(string)), append(kinds, strings.Replace(cells[1].(string), "virtual", "table", 1))
	})
	for i, table := range tables {
		a.f.add("%s %s", kinds[i], table)
		a.pragmas(t, table, kinds[i] == "view", c)
	}
	got := factsOf(c, func(c catalog.Column) string { return c.Declared })
	dropItems(got, func(item string) bool { return strings.HasPrefix(item, "check ") })
	got.equal(t, a.f, "sqlite")
}

// takesNull finds out whether a column of a key keeps a null, by a copy of the table
// that has nothing but the key.
func (a asker) takesNull(table, column string) (takes bool) {
	a.t.Helper()
	tx, err := a.db.BeginTx(a.t.Context(), nil)
	require.NoError(a.t, err)
	defer tx.Rollback()
	_, err = tx.ExecContext(a.t.Context(), `PRAGMA ignore_check_constraints = 1`)
	require.NoError(a.t, err)
	quoted := `"` + strings.ReplaceAll(table, `"`, `""`) + `"`
	name := `"` + strings.ReplaceAll(column, `"`, `""`) + `"`
	_, err = tx.ExecContext(a.t.Context(), "UPDATE "+quoted+" SET "+name+" = NULL WHERE rowid = (SELECT min(rowid) FROM "+quoted+")")
	if err != nil {
		return false // it has no row numbers, or the key is one, or is never null
	}
	require.NoError(a.t, tx.QueryRowContext(a.t.Context(), "SELECT count(*) > 0 FROM "+quoted+" WHERE "+name+" IS NULL").Scan(&takes))
	return takes
}

func (a asker) pragmas(t *testing.T, table string, isView bool, c *catalog.Catalog) {
	read, ok := c.Table("", table)
	require.True(t, ok, table)
	var key []string
	at := 0
	a.rows("SELECT name, type, \"notnull\", dflt_value, pk, hidden FROM pragma_table_xinfo(?) WHERE hidden <> 1 ORDER BY cid", []any{table}, func(cells []any) {
		at++
		isKey := cells[4] != "0"
		col, _ := read.Column(cells[0].(string))
		numbered := col != nil && col.Default != nil && col.Default.Kind == catalog.Identity && isKey
		null := cells[2] == "0"
		if null && isKey {
			null = a.takesNull(table, cells[0].(string))
		}
		a.f.add("column %s.%s at %d of %s null %v", table, cells[0], at, cells[1], null)
		if cells[5] != "0" && !isView {
			a.f.add("stored %s.%s %v", table, cells[0], cells[5] == "3")
		}
		a.f.add("default %s.%s %v generated %v", table, cells[0], cells[3] != "" || numbered, cells[5] != "0")
	})
	a.rows("SELECT name FROM pragma_table_xinfo(?) WHERE pk > 0 ORDER BY pk", []any{table}, func(cells []any) { key = append(key, cells[0].(string)) })
	if len(key) > 0 && !isView {
		a.f.add("key %s(%s)", table, strings.Join(key, ","))
	}
	a.rows(`SELECT id, "table", group_concat("from", ','), coalesce(group_concat("to", ','), ''), lower(replace(on_update, 'NO ACTION', '')), lower(replace(on_delete, 'NO ACTION', '')) FROM pragma_foreign_key_list(?) GROUP BY id`, []any{table}, func(cells []any) {
		target := cells[3].(string)
		if to, ok := c.Table("", cells[1].(string)); ok && target == "" && to.PrimaryKey != nil {
			target = strings.Join(to.PrimaryKey.Columns, ",")
		}
		a.f.add("reference  %s(%s) to %s(%s) %s/%s", table, cells[2], cells[1], target, cells[4], cells[5])
	})
	a.rows(`SELECT name, "unique", origin, partial, (SELECT group_concat(coalesce(name, '(expression)'), ',') FROM pragma_index_info(l.name)) FROM pragma_index_list(?) l WHERE origin <> 'pk'`, []any{table}, func(cells []any) {
		name := cells[0].(string)
		if strings.HasPrefix(name, "sqlite_autoindex") {
			name = ""
		}
		if cells[1] == "1" && cells[3] == "0" {
			a.f.add("unique %s %s(%s)", name, table, cells[4])
			return
		}
		a.f.add("index %s of %s unique %v", name, table, cells[1] == "1")
	})
}
