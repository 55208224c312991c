// Package scripts reads DDL scripts of MySQL and MariaDB without a server; see package
// sqltext/ddl for what such a reading gives.
package scripts

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"widegate/internal/engine/mysql/dialect"
	"widegate/internal/sqltext/ddl"

	"github.com/pingcap/tidb/pkg/parser"
	"github.com/pingcap/tidb/pkg/parser/ast"
	_ "github.com/pingcap/tidb/pkg/parser/test_driver" // the values of literals

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// my is a MySQL or MariaDB database as far as its scripts have been read.
type my struct {
	parser  *parser.Parser
	mariaDB bool
	current string // the database in use; empty until one is named
	own     string // the first one, whose name is left out
	tables  map[string]*myTable
	routine []catalog.Routine
	notes   []catalog.Note

	sequences   map[string]*catalog.Sequence // by full name
	expressions map[string]string            // that stand for texts in the statement that is read; see rewrite
}

// myTable knows besides what the catalog keeps how many names were made up.
type myTable struct {
	catalog.Table
	collation string // of the columns that name none
	references,
	checks int
}

// Read reads the schemas that scripts of MySQL or MariaDB make.
func Read(ctx context.Context, files []*sqltext.File, _ []string) (*catalog.Catalog, error) {
	m := &my{parser: parser.New(), tables: map[string]*myTable{}, sequences: map[string]*catalog.Sequence{}}
	for _, f := range files {
		m.mariaDB = m.mariaDB || mariaDBSigns.MatchString(f.Text)
	}
	for _, f := range files {
		for _, s := range sqltext.Split(f, dialect.MySQL) {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			if err := m.run(s); err != nil {
				return nil, ddl.Locate(s, err)
			}
		}
	}
	return m.catalog(), nil
}

var mariaDBSigns = regexp.MustCompile(`(?i)mariadb|/\*M!|\binet[46]\b|` + "[`\\w]\\s+uuid\\b")

// conditional is how a drafted migration runs a statement that may have been run
// before.
var conditional = regexp.MustCompile(`(?s)^SET @widegate_do = if\(.*, '((?:[^']|'')*)', 'DO 0'\)$`)

func (m *my) run(s sqltext.Statement) error {
	if c := conditional.FindStringSubmatch(s.Text); c != nil {
		s.Text = strings.ReplaceAll(strings.ReplaceAll(c[1], "''", "'"), `\\`, `\`)
	}
	h := headOf(s.Text)
	switch {
	case h.verb == "use":
		m.use(h.name)
		return nil
	case h.passOver():
		return nil
	}
	change, ok := m.changes()[h.verb+" "+h.object]
	if !ok {
		m.notes = append(m.notes, ddl.Unread(s, why(h)))
		return nil
	}
	return change(s)
}

func why(h head) string {
	if h.object == "" {
		return ddl.NotUnderstood
	}
	return ddl.NotFromScripts
}

// changes are the statements that change a schema, by their verb and object.
func (m *my) changes() map[string]func(sqltext.Statement) error {
	text := func(do func(text string)) func(sqltext.Statement) error {
		return func(s sqltext.Statement) error { do(s.Text); return nil }
	}
	list := map[string]func(sqltext.Statement) error{
		"create function": m.makeRoutine, "create procedure": m.makeRoutine,
		"drop function": text(m.dropRoutine), "drop procedure": text(m.dropRoutine), "alter function": text(m.alterRoutine), "alter procedure": text(m.alterRoutine),
		"create trigger": m.makeTrigger, "drop trigger": text(m.removeTrigger),
		"create sequence": text(m.createSequence), "alter sequence": text(m.alterSequence), "drop sequence": text(m.dropSequences),
		"create database": text(func(string) {}), "create schema": text(func(string) {}), "alter database": text(func(string) {}), "alter schema": text(func(string) {}),
		"drop database": text(m.dropDatabase), "drop schema": text(m.dropDatabase), "alter view": m.alterView,
	}
	for _, parsed := range []string{"create table", "alter table", "drop table", "rename table", "create view", "drop view", "create index", "drop index"} {
		list[parsed] = m.runParsed
	}
	return list
}

// alterView takes the statement for the one that makes the view anew.
func (m *my) alterView(s sqltext.Statement) error {
	s.Text = "CREATE OR REPLACE" + s.Text[len("ALTER"):]
	return m.runParsed(s)
}

func (m *my) makeRoutine(s sqltext.Statement) error {
	if !m.createRoutine(s.Text) {
		m.notes = append(m.notes, ddl.Unread(s, ddl.NotUnderstood))
	}
	return nil
}

// dropDatabase drops the tables of a database.
func (m *my) dropDatabase(text string) {
	tokens := sqltext.Scan(text, dialect.MySQL)
	name := tokens[len(tokens)-1].Text
	schema := name
	if name == m.own {
		schema = ""
	}
	for full, t := range m.tables {
		if t.Schema == schema {
			delete(m.tables, full)
		}
	}
}

func (m *my) makeTrigger(s sqltext.Statement) error {
	if !m.createTrigger(s.Text) {
		m.notes = append(m.notes, ddl.Unread(s, "is not read, since its table is not there before it"))
	}
	return nil
}

func (m *my) removeTrigger(text string) {
	if gone := triggerGone.FindStringSubmatch(text); gone != nil {
		m.dropTrigger(strings.Trim(gone[1], "`"))
	}
}

func (m *my) runParsed(s sqltext.Statement) error {
	r := rewrite(s.Text)
	m.expressions = r.expressions
	nodes, err := m.parse(r.text)
	if err != nil {
		return r.problem(err)
	}
	for _, n := range nodes {
		if err := m.statement(n, s.Text); err != nil {
			return err
		}
	}
	return nil
}

// newlyReserved are words that MySQL 8 reserves and that were, or in MariaDB
// are, ordinary names.
var newlyReserved = []string{
	"groups", "rank", "rows", "row", "system", "window", "function", "lateral", "recursive", "row_number", "of", "except", "cube", "empty",
	"lead", "lag", "first_value", "last_value", "nth_value", "ntile", "over", "percent_rank", "cume_dist", "dense_rank", "grouping", "intersect", "json_table", "array", "member", "manual", "parallel", "qualify", "tablesample",
}

// parse parses a statement; where that fails, once more without the table
// options that the grammar does not know, and with names in quotes that are
// reserved in newer servers only.
func (m *my) parse(text string) ([]ast.StmtNode, error) {
	nodes, _, err := m.parser.ParseSQL(text)
	if err == nil {
		return nodes, nil
	}
	for _, other := range []string{withoutOptions(text), quoteNewlyReserved(text), withoutOptions(quoteNewlyReserved(text))} {
		if nodes, _, again := m.parser.ParseSQL(other); again == nil {
			return nodes, nil
		}
	}
	return nil, err
}

func quoteNewlyReserved(text string) string {
	var b strings.Builder
	at := 0
	for _, t := range sqltext.Scan(text, dialect.MySQL) {
		if t.Kind == sqltext.Word && slices.Contains(newlyReserved, strings.ToLower(t.Text)) {
			b.WriteString(text[at:t.From] + "`" + t.Text + "`")
			at = t.To
		}
	}
	return b.String() + text[at:]
}

func (m *my) use(name string) {
	if m.own == "" {
		m.own = name
	}
	m.current = name
}

// The types that the grammar does not know are written as binary columns of
// sizes that nobody declares, and known by them.
var foreignTypes = map[string]int{
	"uuid": 65501, "inet6": 65502, "inet4": 65503,
	"geometry": 65511, "point": 65512, "linestring": 65513, "polygon": 65514,
	"multipoint": 65515, "multilinestring": 65516, "multipolygon": 65517, "geometrycollection": 65518, "geomcollection": 65519,
}

// endsType reports whether a type can stand before the tokens.
func endsType(next []sqltext.Token) bool {
	return len(next) == 0 || next[0].Sign(",") || next[0].Sign(")") || slices.ContainsFunc(afterType, next[0].Is)
}

// withoutOptions drops what stands behind the columns of a CREATE TABLE: the
// options of engines that the grammar does not know.
func withoutOptions(text string) string {
	depth := 0
	for _, t := range sqltext.Scan(text, dialect.MySQL) {
		switch {
		case t.Sign("("):
			depth++
		case t.Sign(")"):
			if depth--; depth == 0 {
				return text[:t.To]
			}
		}
	}
	return text
}

func (m *my) statement(n ast.StmtNode, text string) error {
	switch n := n.(type) {
	case *ast.CreateTableStmt:
		return m.createTable(n, text)
	case *ast.AlterTableStmt:
		return m.alterTable(n)
	case *ast.CreateIndexStmt:
		return m.createIndex(n)
	case *ast.DropIndexStmt:
		t, err := m.find(n.Table)
		if err == nil {
			t.dropIndex(n.IndexName)
		}
		return err
	case *ast.CreateViewStmt:
		m.createView(n, text)
	case *ast.DropTableStmt:
		for _, name := range n.Tables {
			if _, err := m.find(name); err != nil && !n.IfExists {
				return err
			}
			delete(m.tables, m.full(name))
		}
	case *ast.RenameTableStmt:
		for _, pair := range n.TableToTables {
			t, err := m.find(pair.OldTable)
			if err != nil {
				return err
			}
			m.replaceTable(t, pair.NewTable)
		}
	}
	return nil
}

// full is the name under which a table is kept.
func (m *my) full(name *ast.TableName) string {
	return catalog.Qualify(m.schemaOf(name), name.Name.O)
}

func (m *my) schemaOf(name *ast.TableName) string {
	schema := name.Schema.O
	if schema == "" {
		schema = m.current
	}
	if schema == m.own {
		return ""
	}
	return schema
}

func (m *my) find(name *ast.TableName) (*myTable, error) {
	full := m.full(name)
	if t, ok := m.tables[full]; ok {
		return t, nil
	}
	for known, t := range m.tables {
		if strings.EqualFold(known, full) {
			return t, nil
		}
	}
	return nil, &ddl.Problem{
		Text: fmt.Sprintf("there is no table %q yet", full),
		Next: "give the scripts in the order in which they run, all of them, or their folder",
	}
}

var orReplace = regexp.MustCompile(`(?i)^create\s+or\s+replace`)

func (m *my) createTable(n *ast.CreateTableStmt, text string) error {
	if n.TemporaryKeyword != ast.TemporaryNone {
		return nil
	}
	full := m.full(n.Table)
	if m.tables[full] != nil {
		if n.IfNotExists {
			return nil
		}
		if !orReplace.MatchString(text) {
			return &ddl.Problem{Text: fmt.Sprintf("there is a table %q already", full)}
		}
	}
	t := &myTable{Table: catalog.Table{Schema: m.schemaOf(n.Table), Name: n.Table.Name.O, Kind: catalog.BaseTable, Rows: -1}}
	if n.ReferTable != nil {
		return m.copyTable(t, n.ReferTable)
	}
	m.tables[full] = t
	m.setOptions(t, n.Options)
	if strings.Contains(strings.ToLower(text), "with system versioning") {
		t.Options = append(t.Options, "system versioned")
	}
	if n.Partition != nil {
		t.Partition = partitionKey(n.Partition)
	}
	for _, c := range n.Cols {
		m.addColumn(t, c, -1)
	}
	for _, k := range n.Constraints {
		m.addConstraint(t, k)
	}
	if n.Select != nil {
		for _, c := range m.scope().ColumnsOf(m.query(n.Select)) {
			if _, there := t.Column(c.Name); !there {
				t.Columns = append(t.Columns, c)
			}
		}
	}
	return nil
}

func (m *my) copyTable(t *myTable, from *ast.TableName) error {
	source, err := m.find(from)
	if err != nil {
		return err
	}
	schema, name := t.Schema, t.Name
	t.Table = source.Table
	t.Indexes = slices.Clone(source.Indexes)
	t.indexReferences() // those stay, though the references do not come along
	t.Schema, t.Name, t.References, t.collation = schema, name, nil, source.collation
	t.Columns = slices.Clone(source.Columns)
	m.tables[t.FullName()] = t
	return nil
}

func partitionKey(p *ast.PartitionOptions) string {
	method := p.Tp.String()
	var columns []string
	for _, c := range p.ColumnNames {
		columns = append(columns, c.Name.O)
	}
	if p.Expr != nil {
		return method + " (" + strings.ReplaceAll(restore(p.Expr), "`", "") + ")"
	}
	if len(columns) > 0 && method != "KEY" {
		method += " COLUMNS"
	}
	return method + " (" + strings.Join(columns, ",") + ")"
}

func (m *my) setOptions(t *myTable, options []*ast.TableOption) {
	for _, o := range options {
		switch o.Tp {
		case ast.TableOptionComment:
			t.Comment = o.StrValue
		case ast.TableOptionCollate:
			t.collation = o.StrValue
		case ast.TableOptionEngine:
			t.Options = slices.DeleteFunc(t.Options, func(s string) bool { return s != "system versioned" })
			if engine := strings.ToLower(o.StrValue); engine != "innodb" {
				t.Options = append(t.Options, engine)
			}
		}
	}
}

func (m *my) addConstraint(t *myTable, k *ast.Constraint) {
	switch k.Tp {
	case ast.ConstraintPrimaryKey:
		t.setPrimary(partNames(k.Keys))
	case ast.ConstraintUniq, ast.ConstraintUniqKey, ast.ConstraintUniqIndex:
		t.addIndex(k.Name, k.Keys, true, "")
	case ast.ConstraintKey, ast.ConstraintIndex:
		t.addIndex(k.Name, k.Keys, false, methodOf(k.Option))
	case ast.ConstraintFulltext:
		t.addIndex(k.Name, k.Keys, false, "fulltext")
	case ast.ConstraintForeignKey:
		m.addReference(t, k.Name, partNames(k.Keys), k.Refer, false)
	case ast.ConstraintCheck:
		m.addCheck(t, k.Name, "", restore(k.Expr))
	}
}

func methodOf(o *ast.IndexOption) string {
	if o != nil {
		return strings.ToLower(o.Tp.String())
	}
	return ""
}

func partNames(parts []*ast.IndexPartSpecification) []string {
	var names []string
	for _, p := range parts {
		if p.Column != nil {
			names = append(names, p.Column.Name.O)
			continue
		}
		names = append(names, "(expression)")
	}
	return names
}

func (t *myTable) setPrimary(columns []string) {
	t.PrimaryKey = &catalog.Key{Name: "PRIMARY", Columns: t.spelled(columns)}
	for _, name := range t.PrimaryKey.Columns {
		if c, ok := t.Column(name); ok {
			c.Nullable = false
		}
	}
}

// spelled gives columns the spelling of their declaration.
func (t *myTable) spelled(columns []string) []string {
	names := slices.Clone(columns)
	for i, name := range names {
		for _, c := range t.Columns {
			if strings.EqualFold(c.Name, name) {
				names[i] = c.Name
			}
		}
	}
	return names
}

// addIndex adds a key, or an index where only a part of a column is unique.
func (t *myTable) addIndex(name string, parts []*ast.IndexPartSpecification, unique bool, method string) {
	columns := t.spelled(partNames(parts))
	if name == "" && len(columns) > 0 {
		name = t.freeIndex(strings.Trim(columns[0], "()"))
	}
	if c, ok := t.Column(strings.Join(columns, ",")); ok && slices.Contains(shapes, c.Declared) && method == "fulltext" {
		method = "spatial"
	}
	switch {
	case method == "btree":
		method = ""
	case method == "" && slices.Contains(t.Options, "memory"):
		method = "hash"
	}
	whole := !slices.ContainsFunc(parts, t.isPrefix)
	if unique && whole {
		t.Uniques = append(t.Uniques, catalog.Key{Name: name, Columns: columns})
		return
	}
	t.Indexes = append(t.Indexes, catalog.Index{Name: name, Columns: columns, Unique: unique, Method: method})
}

// isPrefix reports whether a part of an index is not a whole column.
func (t *myTable) isPrefix(p *ast.IndexPartSpecification) bool {
	if p.Column == nil {
		return true
	}
	c, ok := t.Column(t.spelled([]string{p.Column.Name.O})[0])
	return p.Length > 0 && (!ok || c.Type.Size == 0 || p.Length < c.Type.Size)
}

// freeIndex is a column's name, with a number behind it where there is one.
func (t *myTable) freeIndex(column string) string {
	name := column
	for n := 2; t.hasIndex(name); n++ {
		name = column + "_" + strconv.Itoa(n)
	}
	return name
}

func (t *myTable) hasIndex(name string) bool {
	return slices.ContainsFunc(t.Uniques, func(k catalog.Key) bool { return strings.EqualFold(k.Name, name) }) ||
		slices.ContainsFunc(t.Indexes, func(i catalog.Index) bool { return strings.EqualFold(i.Name, name) })
}

func (t *myTable) dropIndex(name string) {
	t.Uniques = slices.DeleteFunc(t.Uniques, func(k catalog.Key) bool { return strings.EqualFold(k.Name, name) })
	t.Indexes = slices.DeleteFunc(t.Indexes, func(i catalog.Index) bool { return strings.EqualFold(i.Name, name) })
	if strings.EqualFold(name, "PRIMARY") {
		t.PrimaryKey = nil
	}
}

var referOptions = map[ast.ReferOptionType]string{
	ast.ReferOptionCascade: "cascade", ast.ReferOptionSetNull: "set null", ast.ReferOptionSetDefault: "set default",
}

// addReference adds a reference. MySQL before version 9 takes one behind a
// column and does not enforce it.
func (m *my) addReference(t *myTable, name string, columns []string, to *ast.ReferenceDef, behindColumn bool) {
	if name == "" {
		t.references++
		name = t.Name + "_ibfk_" + strconv.Itoa(t.references)
	} else if made := strings.TrimPrefix(name, t.Name+"_ibfk_"); made != name {
		if n, err := strconv.Atoi(made); err == nil {
			t.references = max(t.references, n)
		}
	}
	columns = t.spelled(columns)
	ref := catalog.Reference{Name: name, Columns: columns, Schema: m.schemaOf(to.Table), Table: to.Table.Name.O, Target: partNames(to.IndexPartSpecifications), Unenforced: behindColumn && !m.mariaDB}
	if target, err := m.find(to.Table); err == nil {
		ref.Table = target.Name
		ref.Target = target.spelled(ref.Target)
	}
	if to.OnDelete != nil {
		ref.OnDelete = referOptions[to.OnDelete.ReferOpt]
	}
	if to.OnUpdate != nil {
		ref.OnUpdate = referOptions[to.OnUpdate.ReferOpt]
	}
	if slices.ContainsFunc(t.Options, func(o string) bool { return o == "myisam" || o == "aria" || o == "memory" }) {
		return // such an engine takes references and forgets them
	}
	t.References = append(t.References, ref)
}

// addCheck names a check as the server would. MariaDB names one behind a
// column after it.
func (m *my) addCheck(t *myTable, name, column, text string) {
	if c, ok := strings.CutPrefix(strings.ToLower(text), "json_valid("); ok && m.mariaDB {
		if column, found := t.Column(t.spelled([]string{strings.Trim(c, "`)")})[0]); found && column.Type.Kind == catalog.Text {
			column.Type = catalog.Type{Kind: catalog.JSON}
			return
		}
	}
	if name == "" {
		t.checks++
		switch {
		case m.mariaDB && column != "":
			name = column
			t.checks--
		case m.mariaDB:
			name = "CONSTRAINT_" + strconv.Itoa(t.checks)
		default:
			name = t.Name + "_chk_" + strconv.Itoa(t.checks)
		}
	}
	t.Checks = append(t.Checks, catalog.Check{Name: name, Expr: text})
}

func (m *my) createIndex(n *ast.CreateIndexStmt) error {
	t, err := m.find(n.Table)
	if err != nil {
		return err
	}
	if n.IfNotExists && t.hasIndex(n.IndexName) {
		return nil
	}
	method := methodOf(n.IndexOption)
	switch n.KeyType {
	case ast.IndexKeyTypeFulltext:
		method = "fulltext"
	case ast.IndexKeyTypeSpatial:
		method = "spatial"
	}
	t.addIndex(n.IndexName, n.IndexPartSpecifications, n.KeyType == ast.IndexKeyTypeUnique, method)
	return nil
}

// replaceTable gives a table another name, in the references to it too.
func (m *my) replaceTable(t *myTable, to *ast.TableName) {
	before := t.FullName()
	schema, name := m.schemaOf(to), to.Name.O
	for _, other := range m.tables {
		ddl.MoveReferences(&other.Table, before, schema, name)
	}
	delete(m.tables, before)
	for i := range t.References { // whose made-up names follow the table's
		if number, made := strings.CutPrefix(t.References[i].Name, t.Name+"_ibfk_"); made {
			t.References[i].Name = name + "_ibfk_" + number
		}
	}
	t.Schema, t.Name = schema, name
	m.tables[t.FullName()] = t
}

func (m *my) alterTable(n *ast.AlterTableStmt) error {
	t, err := m.find(n.Table)
	if err != nil {
		return err
	}
	for _, spec := range n.Specs {
		if err := m.alter(t, spec); err != nil {
			return err
		}
	}
	return nil
}

func (m *my) alter(t *myTable, spec *ast.AlterTableSpec) error {
	switch spec.Tp {
	case ast.AlterTableOption:
		m.setOptions(t, spec.Options)
	case ast.AlterTableAddColumns:
		for _, c := range spec.NewColumns {
			if _, there := t.Column(c.Name.Name.O); there {
				if spec.IfNotExists {
					continue
				}
				return &ddl.Problem{Text: fmt.Sprintf("table %q has a column %q already", t.FullName(), c.Name.Name.O)}
			}
			m.addColumn(t, c, t.place(spec.Position))
		}
		for _, k := range spec.NewConstraints {
			m.addConstraint(t, k)
		}
	case ast.AlterTableAddConstraint:
		m.addConstraint(t, spec.Constraint)
	case ast.AlterTableDropColumn:
		return m.needs(t, spec.OldColumnName, spec.IfExists, func(name string) { m.dropColumn(t, name) })
	case ast.AlterTableDropPrimaryKey:
		t.PrimaryKey = nil
	case ast.AlterTableDropIndex:
		t.dropIndex(spec.Name)
	case ast.AlterTableDropForeignKey:
		t.References = slices.DeleteFunc(t.References, func(r catalog.Reference) bool { return strings.EqualFold(r.Name, spec.Name) })
	case ast.AlterTableDropCheck:
		t.Checks = slices.DeleteFunc(t.Checks, func(c catalog.Check) bool { return strings.EqualFold(c.Name, spec.Constraint.Name) })
	case ast.AlterTableModifyColumn:
		return m.needs(t, spec.NewColumns[0].Name, spec.IfExists, func(name string) { m.replaceColumn(t, name, spec) })
	case ast.AlterTableChangeColumn:
		return m.needs(t, spec.OldColumnName, spec.IfExists, func(name string) {
			m.renameColumn(t, name, spec.NewColumns[0].Name.Name.O)
			m.replaceColumn(t, spec.NewColumns[0].Name.Name.O, spec)
		})
	case ast.AlterTableRenameColumn:
		return m.needs(t, spec.OldColumnName, false, func(name string) { m.renameColumn(t, name, spec.NewColumnName.Name.O) })
	case ast.AlterTableRenameTable:
		m.replaceTable(t, spec.NewTable)
	case ast.AlterTableAlterColumn:
		return m.needs(t, spec.NewColumns[0].Name, false, func(name string) {
			c, _ := t.Column(name)
			c.Default = nil
			for _, o := range spec.NewColumns[0].Options {
				c.Default = m.defaultOf(o.Expr, c.Type)
			}
		})
	case ast.AlterTableRenameIndex:
		for i := range t.Uniques {
			if strings.EqualFold(t.Uniques[i].Name, spec.FromKey.O) {
				t.Uniques[i].Name = spec.ToKey.O
			}
		}
		for i := range t.Indexes {
			if strings.EqualFold(t.Indexes[i].Name, spec.FromKey.O) {
				t.Indexes[i].Name = spec.ToKey.O
			}
		}
	case ast.AlterTablePartition:
		t.Partition = partitionKey(spec.Partition)
	case ast.AlterTableRemovePartitioning:
		t.Partition = ""
	}
	return nil
}

// needs runs do with the column's name as it is declared.
func (m *my) needs(t *myTable, column *ast.ColumnName, ifExists bool, do func(name string)) error {
	name := t.spelled([]string{column.Name.O})[0]
	if _, ok := t.Column(name); ok {
		do(name)
		return nil
	}
	if ifExists {
		return nil
	}
	return &ddl.Problem{Text: fmt.Sprintf("table %q has no column %q", t.FullName(), name)}
}

// place is where a column goes: -1 is the end.
func (t *myTable) place(p *ast.ColumnPosition) int {
	switch {
	case p == nil || p.Tp == ast.ColumnPositionNone:
		return -1
	case p.Tp == ast.ColumnPositionFirst:
		return 0
	}
	return slices.IndexFunc(t.Columns, func(c catalog.Column) bool { return strings.EqualFold(c.Name, p.RelativeColumn.Name.O) }) + 1
}

func (m *my) replaceColumn(t *myTable, name string, spec *ast.AlterTableSpec) {
	at := slices.IndexFunc(t.Columns, func(c catalog.Column) bool { return c.Name == name })
	t.Columns = slices.Delete(t.Columns, at, at+1)
	if place := t.place(spec.Position); place >= 0 {
		at = place
	}
	m.addColumn(t, spec.NewColumns[0], at)
	if c, ok := t.Column(spec.NewColumns[0].Name.Name.O); ok && t.PrimaryKey != nil && slices.Contains(t.PrimaryKey.Columns, c.Name) {
		c.Nullable = false
	}
}

func (m *my) dropColumn(t *myTable, name string) {
	t.Columns = slices.DeleteFunc(t.Columns, func(c catalog.Column) bool { return c.Name == name })
	without := func(columns []string) []string {
		return slices.DeleteFunc(columns, func(s string) bool { return s == name })
	}
	if t.PrimaryKey != nil {
		if t.PrimaryKey.Columns = without(t.PrimaryKey.Columns); len(t.PrimaryKey.Columns) == 0 {
			t.PrimaryKey = nil
		}
	}
	for i := range t.Uniques {
		t.Uniques[i].Columns = without(t.Uniques[i].Columns)
	}
	for i := range t.Indexes {
		t.Indexes[i].Columns = without(t.Indexes[i].Columns)
	}
	t.Uniques = slices.DeleteFunc(t.Uniques, func(k catalog.Key) bool { return len(k.Columns) == 0 })
	t.Indexes = slices.DeleteFunc(t.Indexes, func(i catalog.Index) bool { return len(i.Columns) == 0 })
	t.References = slices.DeleteFunc(t.References, func(r catalog.Reference) bool { return slices.Contains(r.Columns, name) })
	t.Checks = slices.DeleteFunc(t.Checks, func(c catalog.Check) bool { return strings.Contains(c.Expr, "`"+name+"`") })
}

func (m *my) renameColumn(t *myTable, from, to string) {
	ddl.RenameColumn(&t.Table, from, to)
	for i := range t.Checks {
		t.Checks[i].Expr = strings.ReplaceAll(t.Checks[i].Expr, "`"+from+"`", "`"+to+"`")
	}
	for _, other := range m.tables {
		ddl.RenameTarget(&other.Table, &t.Table, from, to)
	}
}

func (m *my) catalog() *catalog.Catalog {
	c := &catalog.Catalog{Engine: dialect.MySQL, Notes: m.notes, Routines: m.routine}
	for _, name := range slices.Sorted(maps.Keys(m.tables)) {
		t := m.tables[name]
		if t.Schema != "" && !slices.Contains(c.Schemas, t.Schema) {
			c.Schemas = append(c.Schemas, t.Schema)
		}
		t.indexReferences()
		c.Tables = append(c.Tables, t.Table)
	}
	for _, name := range slices.Sorted(maps.Keys(m.sequences)) {
		c.Sequences = append(c.Sequences, *m.sequences[name])
	}
	if len(c.Routines) == 0 {
		c.Routines = nil
	}
	c.Sort()
	return c
}

// indexReferences adds the indexes that the server makes for references that
// no other begins with the columns of.
func (t *myTable) indexReferences() {
	for i, r := range t.References {
		begins := func(columns []string) bool {
			return len(columns) >= len(r.Columns) && slices.Equal(columns[:len(r.Columns)], r.Columns)
		}
		if t.PrimaryKey != nil && begins(t.PrimaryKey.Columns) ||
			slices.ContainsFunc(t.Uniques, func(k catalog.Key) bool { return begins(k.Columns) }) ||
			slices.ContainsFunc(t.Indexes, func(i catalog.Index) bool { return i.Method == "" && begins(i.Columns) }) ||
			slices.ContainsFunc(t.References[i+1:], func(later catalog.Reference) bool { return begins(later.Columns) }) {
			continue
		}
		name := r.Name
		if strings.HasPrefix(name, t.Name+"_ibfk_") {
			name = t.freeIndex(r.Columns[0])
		}
		t.Indexes = append(t.Indexes, catalog.Index{Name: name, Columns: r.Columns})
	}
}

var errNoExpression = errors.New("an expression that cannot be printed")
