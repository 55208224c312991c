// Package live reads the schema of a SQLite database: of a file, or of DDL
// scripts that are run in an empty database in memory.
//
// Columns, keys, references and indexes come from the engine's pragma
// functions, joined over the whole schema. Checks, comments and the names of
// constraints are only in the text of the CREATE TABLE statements, from which
// a tolerant scan takes them.
package live

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/ncruces/go-sqlite3"
	"github.com/ncruces/go-sqlite3/driver"
	"github.com/ncruces/go-sqlite3/ext/fts5"
	"github.com/ncruces/go-sqlite3/ext/rtree"

	"widegate/internal/catalog"
	"widegate/internal/engine/sqlite/dialect"
	"widegate/internal/fault"
	"widegate/internal/sqltext"
)

// ReadFile reads the schema of the database file at path.
func ReadFile(ctx context.Context, path string) (*catalog.Catalog, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, fault.New("check the path; `widegate demo` makes a database to try things on", "there is no file %s", path)
	case errors.Is(err, os.ErrPermission):
		return nil, fault.New("give yourself the right to read the file and its folder", "%s may not be read", path)
	case err != nil:
		return nil, fault.New("check the path", "looking at %s: %w", path, err)
	case info.IsDir():
		return nil, fault.New("name the database file in it", "%s is a folder", path)
	}
	if err := checkJournal(path); err != nil {
		return nil, err
	}
	db, err := driver.Open(dataSource(path), addModules)
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", path, err)
	}
	defer db.Close()
	c, err := read(ctx, db)
	if err != nil {
		return nil, explain(path, err)
	}
	return c, nil
}

// dataSource opens a file for reading. One that may be written is opened so,
// though nothing is: else a connection would leave the side files of the
// write-ahead log behind.
func dataSource(path string) string {
	mode := "mode=ro"
	if f, err := os.OpenFile(path, os.O_RDWR, 0); err == nil {
		f.Close()
		mode = "mode=rw&_pragma=query_only(1)"
	}
	u := url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath(), RawQuery: mode}
	return u.String()
}

// addModules adds the tables for full-text and spatial search, which most builds
// of the engine have.
func addModules(c *sqlite3.Conn) error {
	return errors.Join(fts5.Register(c), rtree.Register(c))
}

func explain(path string, err error) error {
	var code sqlite3.ErrorCode
	if !errors.As(err, &code) {
		return fmt.Errorf("reading %s: %w", path, err)
	}
	switch code {
	case sqlite3.NOTADB:
		return fault.New("check the path, or give a DDL script the ending .sql", "%s is not a SQLite database", path)
	case sqlite3.CANTOPEN, sqlite3.PERM, sqlite3.READONLY:
		return fault.New("give yourself the right to read the file and its folder", "%s may not be read: %w", path, err)
	case sqlite3.BUSY, sqlite3.LOCKED:
		return fault.New("wait for the program that holds it, then run again", "%s is locked by another program", path)
	case sqlite3.CORRUPT:
		return fault.New("restore it from a backup; `PRAGMA integrity_check` tells more", "%s is damaged: %w", path, err)
	}
	return fmt.Errorf("reading %s: %w", path, err)
}

// ReadScripts runs DDL scripts in the order given, in an empty database in
// memory, and reads the schema they make.
func ReadScripts(ctx context.Context, files []*sqltext.File) (*catalog.Catalog, error) {
	db, err := inMemory()
	if err != nil {
		return nil, err
	}
	defer db.Close()
	notes, err := runScripts(ctx, db, files)
	if err != nil {
		return nil, err
	}
	c, err := read(ctx, db)
	if err != nil {
		return nil, err
	}
	c.Notes = append(c.Notes, notes...)
	return c, nil
}

func read(ctx context.Context, db *sql.DB) (*catalog.Catalog, error) {
	r := &reader{db: db, catalog: &catalog.Catalog{Engine: dialect.SQLite}, tables: map[string]int{}}
	for _, step := range []func(context.Context) error{
		r.readTables, r.leaveOutUnreadable, r.readColumns, r.readViews, r.readReferences, r.readIndexes, r.readTriggers, r.estimateRows,
	} {
		if err := step(ctx); err != nil {
			return nil, err
		}
	}
	r.typeViews()
	r.catalog.Sort()
	return r.catalog, nil
}

type reader struct {
	db      *sql.DB
	catalog *catalog.Catalog
	tables  map[string]int // by name, into catalog.Tables
	created map[string]createTable
	but     string // a condition that keeps tables out that cannot be read
}

func (r *reader) table(name string) *catalog.Table { return &r.catalog.Tables[r.tables[name]] }

// each runs a query and calls scan for each row.
func (r *reader) each(ctx context.Context, query string, scan func(row *sql.Rows) error) error {
	rows, err := r.db.QueryContext(ctx, query)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := scan(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

func (r *reader) readTables(ctx context.Context) error {
	r.created = map[string]createTable{}
	return r.each(ctx, `SELECT m.type, m.name, m.sql, l.strict FROM sqlite_schema m JOIN pragma_table_list l ON l.name = m.name AND l.schema = 'main'
		WHERE m.type IN ('table', 'view') AND m.name NOT LIKE 'sqlite!_%' ESCAPE '!' AND l.type IN ('table', 'view', 'virtual')
		ORDER BY m.name`, func(row *sql.Rows) error {
		var kind, name, text string
		var strict bool
		if err := row.Scan(&kind, &name, &text, &strict); err != nil {
			return err
		}
		t := catalog.Table{Name: name, Kind: catalog.Kind(kind), Definition: text, Rows: -1}
		if strict {
			t.Options = append(t.Options, "strict")
		}
		if !t.IsView() {
			r.created[name] = scanCreateTable(text)
			t.Comment = r.created[name].comment
			t.Checks = r.created[name].checks
			if r.created[name].withoutRowID {
				t.Options = append(t.Options, "without rowid")
			}
			if r.created[name].virtual {
				t.Options = append(t.Options, "virtual")
			}
		}
		r.tables[name] = len(r.catalog.Tables)
		r.catalog.Tables = append(r.catalog.Tables, t)
		return nil
	})
}

// leaveOutUnreadable takes out the virtual tables whose module is not built in:
// one of them makes every query over all tables fail.
func (r *reader) leaveOutUnreadable(ctx context.Context) error {
	var unreadable []string
	for i := range r.catalog.Tables {
		t := &r.catalog.Tables[i]
		if !r.created[t.Name].virtual {
			continue
		}
		name := quoteText(t.Name)
		fault := r.each(ctx, `SELECT name FROM pragma_table_xinfo(`+name+`)`, func(*sql.Rows) error { return nil })
		if fault != nil {
			unreadable = append(unreadable, name)
			r.catalog.Notes = append(r.catalog.Notes, catalog.Note{Table: t.Name, Text: "the virtual table cannot be read: " + message(fault)})
		}
	}
	if len(unreadable) == 0 {
		return nil
	}
	r.but = ` AND m.name NOT IN (` + strings.Join(unreadable, ", ") + `)`
	r.keep(func(t catalog.Table) bool { return !slices.Contains(unreadable, quoteText(t.Name)) })
	return nil
}

// keep drops the tables for which want does not hold.
func (r *reader) keep(want func(t catalog.Table) bool) {
	r.catalog.Tables = slices.DeleteFunc(r.catalog.Tables, func(t catalog.Table) bool { return !want(t) })
	clear(r.tables)
	for i, t := range r.catalog.Tables {
		r.tables[t.Name] = i
	}
}

func quoteText(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

const columnsQuery = `SELECT m.name, x.name, x.type, x."notnull", x.dflt_value, x.pk, x.hidden
	FROM sqlite_schema m JOIN pragma_table_xinfo(m.name) x
	WHERE m.type = '%s' AND x.hidden <> 1 %s ORDER BY m.name, x.cid`

// hidden values of pragma_table_xinfo that stand for generated columns.
const (
	generatedVirtual = 2
	generatedStored  = 3
)

func (r *reader) readColumns(ctx context.Context) error {
	keys := map[string][]keyPart{}
	err := r.each(ctx, fmt.Sprintf(columnsQuery, "table", r.but), func(row *sql.Rows) error {
		var table string
		var c catalog.Column
		var notNull bool
		var def sql.NullString
		var pk, hidden int
		if err := row.Scan(&table, &c.Name, &c.Declared, &notNull, &def, &pk, &hidden); err != nil {
			return err
		}
		if _, ok := r.tables[table]; !ok {
			return nil
		}
		facts := r.created[table].columns[strings.ToLower(c.Name)]
		c.Type = columnType(c.Declared)
		c.Nullable = !notNull
		c.Comment = facts.comment
		c.Default = defaultOf(def, c.Type)
		if hidden == generatedVirtual || hidden == generatedStored {
			c.Generated, c.Stored = facts.generated, hidden == generatedStored
		}
		if pk > 0 {
			keys[table] = append(keys[table], keyPart{pk, c.Name})
		}
		t := r.table(table)
		t.Columns = append(t.Columns, c)
		return nil
	})
	if err != nil {
		return err
	}
	indexed, err := r.indexedKeys(ctx)
	for table, parts := range keys {
		r.setKey(r.table(table), parts, indexed[table])
	}
	return err
}

// indexedKeys are the tables whose primary key is an index: of the others it is
// the row's number.
func (r *reader) indexedKeys(ctx context.Context) (map[string]bool, error) {
	indexed := map[string]bool{}
	err := r.each(ctx, `SELECT m.name FROM sqlite_schema m JOIN pragma_index_list(m.name) l WHERE m.type = 'table' AND l.origin = 'pk'`+r.but, func(row *sql.Rows) error {
		var name string
		err := row.Scan(&name)
		indexed[name] = true
		return err
	})
	return indexed, err
}

type keyPart struct {
	place int
	name  string
}

// setKey sets the primary key. A key that is the row's number is numbered by the
// engine and never null. Other keys may be null unless they are declared not to
// be, or the table is STRICT or WITHOUT ROWID; see section 3.5 of
// https://www.sqlite.org/lang_createtable.html.
func (r *reader) setKey(t *catalog.Table, parts []keyPart, indexed bool) {
	slices.SortFunc(parts, func(a, b keyPart) int { return a.place - b.place })
	key := catalog.Key{Name: r.created[t.Name].keyName}
	for _, p := range parts {
		key.Columns = append(key.Columns, p.name)
		c, _ := t.Column(p.name)
		numbered := !indexed && len(parts) == 1 && !r.created[t.Name].virtual
		if numbered {
			c.Default = &catalog.Default{Kind: catalog.Identity}
		}
		if numbered || slices.Contains(t.Options, "strict") || r.created[t.Name].withoutRowID {
			c.Nullable = false
		}
	}
	t.PrimaryKey = &key
}

// readViews reads the columns of views. One view that fails, because something
// it reads is gone, makes the query fail; then each is asked for by itself.
func (r *reader) readViews(ctx context.Context) error {
	if r.readViewColumns(ctx, "") == nil {
		return nil
	}
	for i := range r.catalog.Tables {
		t := &r.catalog.Tables[i]
		if !t.IsView() {
			continue
		}
		t.Columns = nil
		if err := r.readViewColumns(ctx, "AND m.name = "+quoteText(t.Name)); err != nil {
			r.catalog.Notes = append(r.catalog.Notes, catalog.Note{Table: t.Name, Text: "the view cannot be read: " + message(err)})
		}
	}
	r.keep(func(t catalog.Table) bool { return !t.IsView() || len(t.Columns) > 0 })
	return nil
}

// Message is the engine's message without the name of its error code. It is false for
// an error of something else.
func Message(err error) (text string, known bool) {
	var e *sqlite3.Error
	if !errors.As(err, &e) {
		return "", false
	}
	return strings.TrimPrefix(strings.TrimPrefix(e.Error(), e.ExtendedCode().Error()+": "), "sqlite3: "), true
}

func message(err error) string {
	if text, known := Message(err); known {
		return text
	}
	return err.Error()
}

func place(statement string, err error) int {
	at, _ := Place(statement, err)
	return at
}

// Place is where in a statement its error is, in bytes; -1 where the engine does
// not tell. It is false for an error of something else.
func Place(statement string, err error) (at int, known bool) {
	var e *sqlite3.Error
	if !errors.As(err, &e) {
		return -1, false
	}
	if e.SQL() != "" && strings.HasSuffix(statement, e.SQL()) {
		return len(statement) - len(e.SQL()), true
	}
	return -1, true
}

func (r *reader) readViewColumns(ctx context.Context, only string) error {
	return r.each(ctx, fmt.Sprintf(columnsQuery, "view", only), func(row *sql.Rows) error {
		var table string
		var c catalog.Column
		var ignored any
		if err := row.Scan(&table, &c.Name, &c.Declared, &ignored, &ignored, &ignored, &ignored); err != nil {
			return err
		}
		c.Type = columnType(c.Declared)
		c.Nullable = true
		t := r.table(table)
		t.Columns = append(t.Columns, c)
		return nil
	})
}

func (r *reader) readReferences(ctx context.Context) error {
	at := map[string]int{}
	err := r.each(ctx, `SELECT m.name, f.id, f."table", f."from", f."to", f.on_update, f.on_delete
		FROM sqlite_schema m JOIN pragma_foreign_key_list(m.name) f WHERE m.type = 'table'`+r.but+` ORDER BY m.name, f.id, f.seq`,
		func(row *sql.Rows) error {
			var table, target, from, onUpdate, onDelete string
			var id int
			var to sql.NullString
			if err := row.Scan(&table, &id, &target, &from, &to, &onUpdate, &onDelete); err != nil {
				return err
			}
			if _, ok := r.tables[table]; !ok {
				return nil
			}
			t := r.table(table)
			slot := fmt.Sprintf("%s/%d", table, id)
			if _, ok := at[slot]; !ok {
				at[slot] = len(t.References)
				t.References = append(t.References, catalog.Reference{
					Table: r.realName(target), OnUpdate: action(onUpdate), OnDelete: action(onDelete),
				})
			}
			ref := &t.References[at[slot]]
			ref.Columns = append(ref.Columns, columnName(t, from))
			if to.Valid {
				ref.Target = append(ref.Target, to.String)
			}
			return nil
		})
	r.completeTargets()
	return err
}

// completeTargets gives references that name no columns of their target its
// primary key, and all of them the spelling of the target's declaration.
func (r *reader) completeTargets() {
	for i := range r.catalog.Tables {
		t := &r.catalog.Tables[i]
		for k := range t.References {
			ref := &t.References[k]
			ref.Name = r.created[t.Name].referenceNames[strings.ToLower(strings.Join(ref.Columns, ","))]
			target, ok := r.catalog.Table("", ref.Table)
			if !ok {
				continue
			}
			if len(ref.Target) == 0 && target.PrimaryKey != nil {
				ref.Target = target.PrimaryKey.Columns
			}
			ref.Target = slices.Clone(ref.Target)
			for n := range ref.Target {
				ref.Target[n] = columnName(target, ref.Target[n])
			}
		}
	}
}

// realName finds a table whatever the case it is referred to in.
func (r *reader) realName(name string) string {
	if _, ok := r.tables[name]; ok {
		return name
	}
	for t := range r.tables {
		if strings.EqualFold(t, name) {
			return t
		}
	}
	return name
}

func columnName(t *catalog.Table, name string) string {
	for _, c := range t.Columns {
		if strings.EqualFold(c.Name, name) {
			return c.Name
		}
	}
	return name
}

func action(s string) string {
	if s == "NO ACTION" {
		return ""
	}
	return strings.ToLower(s)
}

func (r *reader) readIndexes(ctx context.Context) error {
	type index struct {
		catalog.Index
		origin     string
		text       string
		partial    bool
		expression bool
	}
	var list []index
	tables := []string{}
	err := r.each(ctx, `SELECT m.name, l.name, l."unique", l.origin, l.partial, x.name, x."desc" OR x.coll <> 'BINARY', coalesce(s.sql, '')
		FROM sqlite_schema m JOIN pragma_index_list(m.name) l JOIN pragma_index_xinfo(l.name) x
		LEFT JOIN sqlite_schema s ON s.type = 'index' AND s.name = l.name
		WHERE m.type = 'table' AND x.key = 1`+r.but+` ORDER BY m.name, l.seq, x.seqno`,
		func(row *sql.Rows) error {
			var table string
			var column sql.NullString
			var in index
			var special bool
			if err := row.Scan(&table, &in.Name, &in.Unique, &in.origin, &in.partial, &column, &special, &in.text); err != nil {
				return err
			}
			if n := len(list); n == 0 || list[n-1].Name != in.Name || tables[n-1] != table {
				if in.partial {
					in.Where = partialCondition(in.text)
				}
				list = append(list, in)
				tables = append(tables, table)
			}
			last := &list[len(list)-1]
			last.expression = last.expression || !column.Valid
			if special || !column.Valid {
				last.Definition = last.text
			}
			last.Columns = append(last.Columns, cmp.Or(column.String, "(expression)"))
			return nil
		})
	for i, in := range list {
		if _, ok := r.tables[tables[i]]; !ok || in.origin == "pk" {
			continue
		}
		t := r.table(tables[i])
		if in.Unique && !in.partial && !in.expression {
			key := catalog.Key{Name: in.Name, Columns: in.Columns, Index: in.origin == "c"}
			if key.Index {
				key.Definition = in.Definition
			}
			if in.origin == "u" {
				key.Name = r.created[t.Name].uniqueNames[strings.ToLower(strings.Join(in.Columns, ","))]
			}
			t.Uniques = append(t.Uniques, key)
			continue
		}
		t.Indexes = append(t.Indexes, in.Index)
	}
	return err
}

func (r *reader) readTriggers(ctx context.Context) error {
	return r.each(ctx, `SELECT tbl_name, name, sql FROM sqlite_schema m WHERE type = 'trigger'`+r.but, func(row *sql.Rows) error {
		var table string
		var trigger catalog.Trigger
		if err := row.Scan(&table, &trigger.Name, &trigger.Definition); err != nil {
			return err
		}
		if _, ok := r.tables[table]; ok {
			r.table(table).Triggers = append(r.table(table).Triggers, trigger)
		}
		return nil
	})
}

// partialCondition returns what stands behind the last WHERE of an index.
func partialCondition(text string) string {
	if at := strings.LastIndex(strings.ToUpper(text), "WHERE"); at >= 0 {
		return strings.TrimSpace(text[at+len("WHERE"):])
	}
	return ""
}

// estimateChunk is how many tables one statement estimates.
const estimateChunk = 200

// rowNumber is a name of the row's number that no column has taken.
func rowNumber(t *catalog.Table) string {
	for _, name := range []string{"_rowid_", "rowid", "oid"} {
		if !slices.ContainsFunc(t.Columns, func(c catalog.Column) bool { return strings.EqualFold(c.Name, name) }) {
			return name
		}
	}
	return ""
}

// estimateRows takes the largest row number for the number of rows, which
// costs next to nothing. Tables without row numbers stay without an estimate.
func (r *reader) estimateRows(ctx context.Context) error {
	var names []string
	for _, t := range r.catalog.Tables {
		if t.Kind == catalog.BaseTable && !r.created[t.Name].withoutRowID && !r.created[t.Name].virtual && rowNumber(&t) != "" {
			names = append(names, t.Name)
		}
	}
	for part := range slices.Chunk(names, estimateChunk) {
		selects := make([]string, len(part))
		for i, name := range part {
			selects[i] = fmt.Sprintf(`SELECT '%s', (SELECT coalesce(max(%s), 0) FROM "%s")`,
				strings.ReplaceAll(name, "'", "''"), rowNumber(r.table(name)), strings.ReplaceAll(name, `"`, `""`))
		}
		err := r.each(ctx, strings.Join(selects, " UNION ALL "), func(row *sql.Rows) error {
			var name string
			var n int64
			if err := row.Scan(&name, &n); err != nil {
				return err
			}
			r.table(name).Rows = n
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}
