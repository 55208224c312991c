// Package scripts reads DDL scripts of PostgreSQL without a server; see package
// sqltext/ddl for what such a reading gives.
package scripts

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"widegate/internal/engine/postgres/dialect"
	"widegate/internal/sqltext/ddl"

	"widegate/internal/catalog"
	"widegate/internal/engine/postgres/live"
	"widegate/internal/sqltext"
)

// ownSchema is where a new PostgreSQL database makes what is not qualified.
const ownSchema = "public"

// pg is a PostgreSQL database as far as its scripts have been read.
type pg struct {
	search     []string // the search path
	schemas    map[string]bool
	tables     map[string]*pgTable // by full name, likewise below
	types      map[string]userType
	enums      map[string]*catalog.Enum
	domains    map[string]*catalog.Domain
	composites map[string]*catalog.Composite
	sequences  map[string]*sequence
	indexes    map[string]string // full name of the table
	routines   []catalog.Routine
	notes      []catalog.Note
	extensions bool // some were made, so that unknown types may be theirs
}

type pgTable struct {
	catalog.Table
	partOf string // full name of the table that it is a partition of
}

// sequence knows the column that it belongs to, if any.
type sequence struct {
	schema, name, table, column string
	options                     map[string]string // that are given, by the parser's names
}

// Read reads the schemas that are named from scripts of PostgreSQL; none means those
// that a connection would see by itself.
func Read(ctx context.Context, files []*sqltext.File, schemas []string) (*catalog.Catalog, error) {
	p := &pg{
		search: []string{ownSchema}, schemas: map[string]bool{ownSchema: true}, tables: map[string]*pgTable{}, types: map[string]userType{},
		enums: map[string]*catalog.Enum{}, domains: map[string]*catalog.Domain{}, composites: map[string]*catalog.Composite{},
		sequences: map[string]*sequence{}, indexes: map[string]string{},
	}
	for _, f := range files {
		for _, s := range sqltext.Split(f, dialect.PostgreSQL) {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			if err := p.run(s); err != nil {
				return nil, ddl.Locate(s, err)
			}
		}
	}
	return p.catalog(schemas)
}

// rowStatements begin with words that change no schema. They are not parsed:
// dumps have many of them.
var rowStatements = []string{"INSERT", "UPDATE", "DELETE", "COPY", "GRANT", "REVOKE", "BEGIN", "COMMIT", "START", "END", "LOCK", "VACUUM", "ANALYZE", "REFRESH", "TRUNCATE", "MERGE", "CALL", "VALUES", "WITH"}

func (p *pg) run(s sqltext.Statement) error {
	first, _, _ := strings.Cut(s.Text, " ")
	first = strings.TrimSpace(first)
	if slices.ContainsFunc(rowStatements, func(w string) bool { return strings.EqualFold(first, w) }) || strings.EqualFold(first, "SELECT") && !strings.Contains(s.Text, "set_config") {
		return nil
	}
	n, err := parseTree(s.Text)
	if err != nil {
		return err
	}
	if pgUnread(n) {
		p.notes = append(p.notes, ddl.Unread(s, ddl.NotFromScripts))
		return nil
	}
	return p.statement(n, s.Text)
}

// pgOutside are the statements that begin like those that make things and change
// no part of a schema that a catalog keeps of scripts.
var pgOutside = strings.Fields(`CreateRoleStmt AlterRoleStmt AlterRoleSetStmt CreatedbStmt AlterDatabaseStmt AlterDatabaseSetStmt CreateTableSpaceStmt AlterTableSpaceOptionsStmt
	AlterOwnerStmt AlterDefaultPrivilegesStmt CreateUserMappingStmt AlterUserMappingStmt CreateForeignServerStmt AlterForeignServerStmt CreateFdwStmt AlterFdwStmt CreatePLangStmt
	CreateSubscriptionStmt AlterSubscriptionStmt AlterSystemStmt AlterExtensionStmt AlterExtensionContentsStmt AlterCollationStmt AlterObjectDependsStmt ImportForeignSchemaStmt`)

// pgRead are the statements that make or change something, and are read.
var pgRead = strings.Fields(`CreateSchemaStmt CreateStmt CreateForeignTableStmt CreateTableAsStmt CreateSeqStmt AlterSeqStmt CreateFunctionStmt CreateTrigStmt CreatePolicyStmt CreateExtensionStmt
	AlterTableStmt AlterObjectSchemaStmt CreateEnumStmt AlterEnumStmt CreateDomainStmt AlterDomainStmt CreateRangeStmt`)

// pgUnread reports whether a statement makes or changes something that is not
// read.
func pgUnread(n node) bool {
	if n.kind == "DefineStmt" {
		return n.text("kind") != "OBJECT_TYPE"
	}
	makes := strings.HasPrefix(n.kind, "Create") || strings.HasPrefix(n.kind, "Alter")
	return makes && !slices.Contains(pgOutside, n.kind) && !slices.Contains(pgRead, n.kind)
}

func (p *pg) statement(n node, text string) error {
	switch n.kind {
	case "VariableSetStmt":
		if n.text("name") == "search_path" && n.text("kind") == "VAR_SET_VALUE" {
			p.setSearch(n.list("args"))
		}
	case "SelectStmt":
		p.selectConfig(n)
	case "CreateExtensionStmt":
		p.extensions = true
	case "CreateSchemaStmt":
		return p.createSchema(n, text)
	case "CreateStmt":
		return p.createTable(n)
	case "CreateForeignTableStmt":
		return p.createForeign(n)
	case "CreateTableAsStmt":
		return p.createTableAs(n, text)
	case "ViewStmt":
		return p.createView(n, text)
	case "RuleStmt":
		return p.createRule(n, text)
	case "AlterTableStmt":
		return p.alterTable(n)
	case "IndexStmt":
		return p.createIndex(n, text)
	case "RenameStmt":
		return p.rename(n)
	case "AlterObjectSchemaStmt":
		return p.moveTable(n)
	case "CommentStmt":
		p.comment(n)
	case "DropStmt":
		return p.drop(n)
	case "CreateSeqStmt":
		p.createSequence(n)
	case "AlterSeqStmt":
		p.ownSequence(n.at("sequence"), n.list("options"))
	case "CreateFunctionStmt":
		p.createRoutine(n, text)
	case "CreateTrigStmt":
		p.createTrigger(n, text)
	case "CreatePolicyStmt":
		p.createPolicy(n, text)
	case "DoStmt":
		if !makesThings.MatchString(text) {
			return nil // it looks at rows
		}
		p.notes = append(p.notes, catalog.Note{Text: "a DO block is not run: what it makes is not read; a database at `database: {scratch: URL}` would run it"})
	default:
		return p.typeStatement(n)
	}
	return nil
}

// makesThings finds the words of procedural code that may change a schema.
var makesThings = regexp.MustCompile(`(?i)\b(execute|create|alter|drop|perform|call)\b`)

func (p *pg) setSearch(args []node) {
	p.search = nil
	for _, a := range args {
		if name := a.at("sval").text("sval"); name != "" && name != "pg_catalog" && name != "$user" {
			p.search = append(p.search, name)
		}
	}
}

// selectConfig obeys what dumps write: SELECT set_config('search_path', …).
func (p *pg) selectConfig(n node) {
	for _, target := range n.list("targetList") {
		call := target.at("val")
		if call.kind != "FuncCall" || last(call.names("funcname")) != "set_config" {
			continue
		}
		if args := call.list("args"); len(args) > 1 && args[0].at("sval").text("sval") == "search_path" {
			p.search = nil
			for _, name := range strings.Split(args[1].at("sval").text("sval"), ",") {
				if name = strings.Trim(name, ` "`); name != "" {
					p.search = append(p.search, name)
				}
			}
		}
	}
}

func (p *pg) createSchema(n node, text string) error {
	name := n.text("schemaname")
	if name == "" {
		name = n.at("authrole").text("rolename")
	}
	p.schemas[name] = true
	before := p.search
	p.search = append([]string{name}, before...)
	defer func() { p.search = before }()
	for _, element := range n.list("schemaElts") {
		if err := p.statement(element, text); err != nil {
			return err
		}
	}
	return nil
}

// path lists the schemas in which a name is looked up.
func (p *pg) path(schema string) []string {
	if schema != "" {
		return []string{schema}
	}
	return p.search
}

// target is where a name that is being made goes.
func (p *pg) target(relation node) (schema, name string) {
	schema = relation.text("schemaname")
	if schema == "" {
		schema = ownSchema
		if len(p.search) > 0 {
			schema = p.search[0]
		}
	}
	p.schemas[schema] = true
	return schema, relation.text("relname")
}

func (p *pg) find(schema, name string) *pgTable {
	for _, s := range p.path(schema) {
		if t, ok := p.tables[catalog.Qualify(s, name)]; ok {
			return t
		}
	}
	return nil
}

// table finds the table that a statement is about.
func (p *pg) table(relation node) (*pgTable, error) {
	schema, name := relation.text("schemaname"), relation.text("relname")
	if t := p.find(schema, name); t != nil {
		return t, nil
	}
	return nil, &ddl.Problem{
		At: relation.number("location"), Text: fmt.Sprintf("there is no table %q yet", catalog.Qualify(schema, name)),
		Next: "give the scripts in the order in which they run, all of them, or their folder",
	}
}

func (p *pg) add(t *pgTable, relation node, ifNotExists bool) (added bool, err error) {
	full := t.FullName()
	if _, there := p.tables[full]; there {
		if ifNotExists {
			return false, nil
		}
		return false, &ddl.Problem{At: relation.number("location"), Text: fmt.Sprintf("there is a table %q already", full)}
	}
	t.Rows = -1
	p.tables[full] = t
	return true, nil
}

func (p *pg) createTable(n node) error {
	relation := n.at("relation")
	if relation.text("relpersistence") == "t" {
		return nil // it goes with the session
	}
	schema, name := p.target(relation)
	t := &pgTable{Table: catalog.Table{Schema: schema, Name: name, Kind: catalog.BaseTable}}
	if relation.text("relpersistence") == "u" {
		t.Options = []string{"unlogged"}
	}
	if added, err := p.add(t, relation, n.flag("if_not_exists")); err != nil || !added {
		return err
	}
	for _, parent := range n.list("inhRelations") {
		from, err := p.table(parent)
		if err != nil {
			return err
		}
		if n.has("partbound") {
			t.partOf = from.FullName()
			return nil
		}
		p.inherit(t, from)
	}
	if n.has("ofTypename") {
		p.addFieldsOf(t, n.at("ofTypename"))
	}
	if spec := n.at("partspec"); n.has("partspec") {
		t.Partition = p.partitionKey(spec)
	}
	elements := n.list("tableElts")
	if len(elements) > 2*mostColumns {
		return errWide
	}
	if err := p.addElements(t, elements); err != nil {
		return err
	}
	if len(t.Columns) > mostColumns {
		return errWide
	}
	t.dropRedundant()
	return nil
}

// dropRedundant drops unique keys over the very columns of another one, of
// which the server makes no second index.
func (t *pgTable) dropRedundant() {
	var kept []catalog.Key
	for _, k := range t.Uniques {
		same := func(o catalog.Key) bool { return slices.Equal(o.Columns, k.Columns) }
		if t.PrimaryKey != nil && same(*t.PrimaryKey) || slices.ContainsFunc(kept, same) {
			continue
		}
		kept = append(kept, k)
	}
	t.Uniques = kept
}

// addElements adds columns first: constraints may stand before them.
func (p *pg) addElements(t *pgTable, elements []node) error {
	for _, e := range elements {
		switch e.kind {
		case "ColumnDef":
			p.addColumn(t, e)
		case "TableLikeClause":
			if err := p.like(t, e); err != nil {
				return err
			}
		}
	}
	for _, e := range elements {
		if e.kind == "ColumnDef" {
			p.addConstraints(t, e.list("constraints"), e.text("colname"))
		}
	}
	for _, e := range elements {
		if e.kind == "Constraint" {
			p.addConstraints(t, []node{e}, "")
		}
	}
	return nil
}

func (p *pg) partitionKey(spec node) string {
	var parts []string
	for _, part := range spec.list("partParams") {
		if name := part.text("name"); name != "" {
			parts = append(parts, quoteIdent(name))
			continue
		}
		parts = append(parts, p.print(part.at("expr")))
	}
	return strings.TrimPrefix(spec.text("strategy"), "PARTITION_STRATEGY_") + " (" + strings.Join(parts, ", ") + ")"
}

// inherit gives a table the columns and checks of another.
func (p *pg) inherit(t, parent *pgTable) {
	t.Inherits = append(t.Inherits, parent.FullName())
	for _, c := range parent.Columns {
		if _, there := t.Column(c.Name); there {
			continue
		}
		if c.Default != nil && c.Default.Kind == catalog.Identity {
			d := *c.Default
			if d.Sequence == "" && d.Serial {
				d.Sequence, d.Serial = p.sequenceOf(parent, c.Name), false
			}
			if c.Default = &d; d.Sequence == "" {
				c.Default = nil // an identity is not inherited
			}
		}
		c.Comment = ""
		t.Columns = append(t.Columns, c)
	}
	for _, check := range parent.Checks {
		if !slices.Contains(t.Checks, check) && !strings.Contains(check.Options, "NO INHERIT") {
			t.Checks = append(t.Checks, check)
		}
	}
}

// sequenceOf finds the sequence that belongs to a column.
func (p *pg) sequenceOf(t *pgTable, column string) string {
	for full, s := range p.sequences {
		if s.table == t.FullName() && s.column == column {
			return full
		}
	}
	return ""
}

func (p *pg) addFieldsOf(t *pgTable, typeName node) {
	names := typeName.names("names")
	schema := ""
	if len(names) > 1 {
		schema = names[0]
	}
	for _, s := range p.path(schema) {
		if c, ok := p.composites[catalog.Qualify(s, last(names))]; ok {
			for _, f := range c.Fields {
				if n, err := parseTree("SELECT NULL::" + f.Declared); err == nil {
					p.addTyped(t, f.Name, p.typeOf(n.list("targetList")[0].at("val").at("typeName")))
				}
			}
		}
	}
}

// The bits of TableLikeClause.options.
const (
	likeComments  = 1 << 0
	likeChecks    = 1 << 2
	likeDefaults  = 1 << 3
	likeGenerated = 1 << 4
	likeIdentity  = 1 << 5
	likeIndexes   = 1 << 6
)

func (p *pg) like(t *pgTable, e node) error {
	from, err := p.table(e.at("relation"))
	if err != nil {
		return err
	}
	options := e.number("options")
	has := func(bit int) bool { return options&bit != 0 }
	for _, c := range from.Columns {
		c.Default = p.likeDefault(t, from, c, has(likeIdentity), has(likeDefaults))
		if !has(likeGenerated) {
			c.Generated = ""
		}
		if !has(likeComments) {
			c.Comment = ""
		}
		t.Columns = append(t.Columns, c)
	}
	if has(likeIndexes) {
		if from.PrimaryKey != nil {
			t.PrimaryKey = &catalog.Key{Name: p.freeName(t, nil, "pkey"), Columns: slices.Clone(from.PrimaryKey.Columns)}
		}
		for _, u := range from.Uniques {
			label := "key"
			if u.Index {
				label = "idx"
			}
			t.Uniques = append(t.Uniques, catalog.Key{Name: p.freeName(t, u.Columns, label), Columns: slices.Clone(u.Columns), Index: u.Index, Deferrable: u.Deferrable, Definition: u.Definition})
		}
		for _, in := range from.Indexes {
			in.Name = p.freeName(t, indexWords(in.Columns), "idx")
			t.Indexes = append(t.Indexes, in)
			p.indexes[catalog.Qualify(t.Schema, in.Name)] = t.FullName()
		}
	}
	if has(likeChecks) {
		t.Checks = append(t.Checks, from.Checks...) // under their own names
	}
	return nil
}

var calledFirst = regexp.MustCompile(`^\(([a-z_][a-z0-9_]*)\(`)

// indexWords are the parts of an index's name for its columns. An expression stands
// there by the function that it calls, else as expr.
func indexWords(columns []string) []string {
	words := slices.Clone(columns)
	for i, c := range words {
		if call := calledFirst.FindStringSubmatch(c); call != nil {
			words[i] = call[1]
		} else if strings.HasPrefix(c, "(") {
			words[i] = "expr"
		}
	}
	return words
}

// likeDefault is the default of a column that is made like another one. An
// ordinary default that takes from a sequence takes from the same one.
func (p *pg) likeDefault(t, from *pgTable, c catalog.Column, identities, defaults bool) *catalog.Default {
	d := c.Default
	switch {
	case d == nil || d.Kind != catalog.Identity:
		if defaults || c.Generated != "" {
			return d
		}
		return nil
	case d.Sequence == "" && !d.Serial:
		if !identities {
			return nil
		}
		kept := *d
		p.identitySequence(t, c.Name)
		return &kept
	case !defaults:
		return nil
	}
	kept := *d
	if kept.Sequence == "" {
		kept.Sequence, kept.Serial = p.sequenceOf(from, c.Name), false
	}
	return &kept
}

func (p *pg) addColumn(t *pgTable, e node) {
	name := e.text("colname")
	if _, there := t.Column(name); there { // inherited, or of a typed table
		return
	}
	p.addTyped(t, name, p.typeOf(e.at("typeName")))
}

func (p *pg) addTyped(t *pgTable, name string, typ column) {
	c := catalog.Column{Name: name, Declared: typ.declared, Type: typ.typ, Domain: typ.domain, Nullable: !typ.notNull, Default: typ.def}
	if !typ.known {
		p.notes = append(p.notes, catalog.Note{Table: t.FullName(), Text: fmt.Sprintf("the type %s of column %s is not in the scripts: carried as text", typ.declared, name)})
	}
	if typ.serial {
		c.Default = &catalog.Default{Kind: catalog.Identity, Serial: true}
		full := catalog.Qualify(t.Schema, objectName(t.Name, name, "seq"))
		p.sequences[full] = &sequence{schema: t.Schema, name: objectName(t.Name, name, "seq"), table: t.FullName(), column: name}
	}
	t.Columns = append(t.Columns, c)
}

var keyActions = map[string]string{"r": "restrict", "c": "cascade", "n": "set null", "d": "set default"}

// addConstraints adds those behind a column, or one of the table.
func (p *pg) addConstraints(t *pgTable, list []node, columnName string) {
	var undo *bool // where a later DEFERRABLE goes
	for _, k := range list {
		columns := k.names("keys")
		if columnName != "" {
			columns = []string{columnName}
		}
		c, _ := t.Column(columnName)
		switch k.text("contype") {
		case "CONSTR_NOTNULL":
			for _, name := range columns {
				p.setNullable(t, name, false)
			}
		case "CONSTR_NULL":
			p.setNullable(t, columnName, true)
		case "CONSTR_DEFAULT":
			p.setDefault(t, c, k.at("raw_expr"))
		case "CONSTR_GENERATED":
			c.Generated = p.print(k.at("raw_expr"))
		case "CONSTR_IDENTITY":
			c.Default = &catalog.Default{Kind: catalog.Identity, Always: k.text("generated_when") == "a"}
			c.Nullable = false
			p.setOptions(p.identitySequence(t, columnName), k.list("options"))
		case "CONSTR_CHECK":
			if columns = columnsIn(k.fields["raw_expr"]); len(columns) != 1 {
				columns = nil
			}
			t.Checks = append(t.Checks, catalog.Check{Name: p.constraintName(t, k, columns, "check"), Expr: p.print(k.at("raw_expr")), Options: checkOptions(k)})
		case "CONSTR_PRIMARY", "CONSTR_UNIQUE":
			undo = p.addKey(t, k, columns)
		case "CONSTR_FOREIGN":
			undo = p.addReference(t, k, columnName)
		case "CONSTR_EXCLUSION":
			p.addExclusion(t, k)
		case "CONSTR_ATTR_DEFERRABLE", "CONSTR_ATTR_DEFERRED":
			if undo != nil {
				*undo = true
			}
			if n := len(t.References); n > 0 && undo == &t.References[n-1].Deferrable && k.text("contype") == "CONSTR_ATTR_DEFERRED" {
				t.References[n-1].Definition = strings.TrimSpace(t.References[n-1].Definition + " " + deferred)
			}
		}
	}
}

func (p *pg) identitySequence(t *pgTable, column string) *sequence {
	name := objectName(t.Name, column, "seq")
	s := &sequence{schema: t.Schema, name: name, table: t.FullName(), column: column}
	p.sequences[catalog.Qualify(t.Schema, name)] = s
	return s
}

func (p *pg) setNullable(t *pgTable, name string, nullable bool) {
	if c, ok := t.Column(name); ok {
		c.Nullable = nullable
	}
}

func (p *pg) setDefault(t *pgTable, c *catalog.Column, value node) {
	text := p.print(value)
	c.Default = nil
	switch call, numbered := p.isNextval(value); {
	case numbered && c.Type.Kind == catalog.Int:
		c.Default = &catalog.Default{Kind: catalog.Identity, Sequence: p.sequenceNamed(call)}
	case text != "NULL":
		c.Default = asStored(live.DefaultOf(text), c.Type)
	}
}

// asStored writes a constant as the server does when it has been converted to
// the column's type.
func asStored(d *catalog.Default, t catalog.Type) *catalog.Default {
	if d == nil || d.Kind != catalog.Constant {
		return d
	}
	switch t.Kind {
	case catalog.Bool:
		switch strings.ToLower(d.Text) {
		case "t", "true", "y", "yes", "on", "1":
			d.Text = "true"
		case "f", "false", "n", "no", "off", "0":
			d.Text = "false"
		}
	case catalog.Float:
		if f, err := strconv.ParseFloat(d.Text, 64); err == nil {
			d.Text = strconv.FormatFloat(f, 'f', -1, 64)
		}
	case catalog.Bytes:
		if d.Text == "" {
			d.Text = `\x`
		}
	}
	return d
}

// sequenceNamed reads the name in nextval('name'::regclass).
func (p *pg) sequenceNamed(call node) string {
	args := call.list("args")
	if len(args) == 0 {
		return ""
	}
	text := args[0]
	if text.kind == "TypeCast" {
		if last(text.at("typeName").names("names")) != "regclass" {
			return "" // looked up at each insert, by a name that may change its meaning
		}
		text = text.at("arg")
	}
	parts := strings.Split(text.at("sval").text("sval"), ".")
	for i := range parts {
		parts[i] = strings.Trim(parts[i], `"`)
	}
	schema := ""
	if len(parts) > 1 {
		schema = parts[0]
	}
	for _, s := range p.path(schema) {
		if full := catalog.Qualify(s, last(parts)); p.sequences[full] != nil {
			return full
		}
	}
	return catalog.Qualify(schema, last(parts))
}

func (p *pg) addKey(t *pgTable, k node, columns []string) *bool {
	key := catalog.Key{Columns: columns, Deferrable: k.flag("deferrable")}
	primary := k.text("contype") == "CONSTR_PRIMARY"
	if index := k.text("indexname"); index != "" { // made of an index that is there
		key.Columns = p.takeIndex(t, index)
		key.Name = cmp.Or(k.text("conname"), index)
	} else if primary {
		key.Name = p.constraintName(t, k, nil, "pkey")
	} else {
		key.Name = p.constraintName(t, k, columns, "key")
	}
	key.Definition = keyDefinition(k, key.Columns)
	p.indexes[catalog.Qualify(t.Schema, key.Name)] = t.FullName()
	if primary {
		for _, name := range key.Columns {
			p.setNullable(t, name, false)
		}
		t.PrimaryKey = &key
		return &t.PrimaryKey.Deferrable
	}
	t.Uniques = append(t.Uniques, key)
	return &t.Uniques[len(t.Uniques)-1].Deferrable
}

// takeIndex removes an index that becomes a constraint and returns its columns.
func (p *pg) takeIndex(t *pgTable, name string) []string {
	for i, u := range t.Uniques {
		if u.Name == name {
			t.Uniques = slices.Delete(t.Uniques, i, i+1)
			return u.Columns
		}
	}
	return nil
}

func (p *pg) addReference(t *pgTable, k node, columnName string) *bool {
	columns := k.names("fk_attrs")
	if columnName != "" {
		columns = []string{columnName}
	}
	to := k.at("pktable")
	ref := catalog.Reference{
		Columns: columns, Schema: to.text("schemaname"), Table: to.text("relname"), Target: k.names("pk_attrs"),
		OnUpdate: keyActions[k.text("fk_upd_action")], OnDelete: keyActions[k.text("fk_del_action")], Deferrable: k.flag("deferrable"), Definition: marks(k),
	}
	if target := p.find(ref.Schema, ref.Table); target != nil {
		ref.Schema = target.Schema
		if len(ref.Target) == 0 && target.PrimaryKey != nil {
			ref.Target = slices.Clone(target.PrimaryKey.Columns)
		}
	} else if ref.Schema == "" {
		ref.Schema = ownSchema
	}
	ref.Name = p.constraintName(t, k, columns, "fkey")
	t.References = append(t.References, ref)
	return &t.References[len(t.References)-1].Deferrable
}

func (p *pg) addExclusion(t *pgTable, k node) {
	var columns []string
	for _, pair := range k.list("exclusions") {
		columns = append(columns, p.indexColumn(pair.list("items")[0]))
	}
	name := p.constraintName(t, k, plainColumns(columns), "excl")
	p.indexes[catalog.Qualify(t.Schema, name)] = t.FullName()
	t.Extras = append(t.Extras, catalog.Extra{Kind: "exclusion constraint", Name: name})
}

func (p *pg) indexColumn(e node) string {
	if name := e.text("name"); name != "" {
		return name
	}
	text := p.print(e.at("expr"))
	if strings.HasPrefix(text, "(") {
		return text
	}
	return "(" + text + ")"
}

func plainColumns(columns []string) []string {
	plain := slices.Clone(columns)
	for i, c := range plain {
		if strings.HasPrefix(c, "(") {
			plain[i] = "expr"
		}
	}
	return plain
}

// constraintName is the one given, or the one that the server would choose.
func (p *pg) constraintName(t *pgTable, k node, columns []string, label string) string {
	if name := k.text("conname"); name != "" {
		return name
	}
	return p.freeName(t, columns, label)
}

// freeName chooses as the server does: table_columns_label, with a number
// behind it where that is taken.
func (p *pg) freeName(t *pgTable, columns []string, label string) string {
	for n := 0; ; n++ {
		suffix := label
		if n > 0 {
			suffix += strconv.Itoa(n)
		}
		name := objectName(t.Name, strings.Join(columns, "_"), suffix)
		if !p.nameTaken(t, name) {
			return name
		}
	}
}

func (p *pg) nameTaken(t *pgTable, name string) bool {
	full := catalog.Qualify(t.Schema, name)
	_, isIndex := p.indexes[full]
	_, isTable := p.tables[full]
	return isIndex || isTable || p.sequences[full] != nil || t.PrimaryKey != nil && t.PrimaryKey.Name == name ||
		slices.ContainsFunc(t.Uniques, func(k catalog.Key) bool { return k.Name == name }) ||
		slices.ContainsFunc(t.References, func(r catalog.Reference) bool { return r.Name == name }) ||
		slices.ContainsFunc(t.Checks, func(c catalog.Check) bool { return c.Name == name })
}

// longestName is how many bytes of a name the server keeps.
const longestName = 63

// objectName joins names and cuts the longer of the first two until the whole
// fits, as makeObjectName of the server does.
func objectName(first, second, label string) string {
	overhead := 1 + len(label)
	if second != "" {
		overhead++
	}
	a, b := len(first), len(second)
	for a+b+overhead > longestName {
		if a > b {
			a--
		} else {
			b--
		}
	}
	name := strings.ToValidUTF8(first[:a], "")
	if second != "" {
		name += "_" + strings.ToValidUTF8(second[:b], "")
	}
	return name + "_" + label
}

func (p *pg) createForeign(n node) error {
	base := n.at("base")
	if err := p.createTable(base); err != nil {
		return err
	}
	if t, err := p.table(base.at("relation")); err == nil {
		t.Options = append(t.Options, "foreign")
	}
	return nil
}

func (p *pg) createIndex(n node, text string) error {
	t, err := p.table(n.at("relation"))
	if err != nil {
		return err
	}
	in := catalog.Index{Name: n.text("idxname"), Unique: n.flag("unique"), Where: p.print(n.at("whereClause"))}
	if method := n.text("accessMethod"); method != "btree" {
		in.Method = method
	}
	expressions, special := false, n.has("indexIncludingParams")
	var words []string // of a name, where the index has none
	for _, e := range n.list("indexParams") {
		in.Columns = append(in.Columns, p.indexColumn(e))
		words = append(words, cmp.Or(e.text("name"), cmp.Or(outputName(e.at("expr")), "expr")))
		expressions = expressions || e.text("name") == ""
		special = special || e.text("ordering") != "SORTBY_DEFAULT" || e.has("opclass") || e.has("collation")
	}
	if in.Name == "" {
		in.Name = p.freeName(t, words, "idx")
	}
	full := catalog.Qualify(t.Schema, in.Name)
	if _, there := p.indexes[full]; there && n.flag("if_not_exists") {
		return nil
	}
	p.indexes[full] = t.FullName()
	if in.Unique && in.Where == "" && !expressions {
		key := catalog.Key{Name: in.Name, Columns: in.Columns, Index: true}
		if special || n.flag("nulls_not_distinct") {
			key.Definition = text
		}
		t.Uniques = append(t.Uniques, key)
		return nil
	}
	if special {
		in.Definition = text
	}
	t.Indexes = append(t.Indexes, in)
	return nil
}

func (p *pg) createSequence(n node) {
	relation := n.at("sequence")
	schema, name := p.target(relation)
	full := catalog.Qualify(schema, name)
	if p.sequences[full] == nil {
		p.sequences[full] = &sequence{schema: schema, name: name}
	}
	p.setOptions(p.sequences[full], n.list("options"))
	p.ownSequence(relation, n.list("options"))
}

// ownSequence obeys OWNED BY.
func (p *pg) ownSequence(relation node, options []node) {
	for _, s := range p.path(relation.text("schemaname")) {
		seq := p.sequences[catalog.Qualify(s, relation.text("relname"))]
		if seq == nil {
			continue
		}
		p.setOptions(seq, options)
		for _, o := range options {
			if o.text("defname") != "owned_by" {
				continue
			}
			owner := o.at("arg").items()
			seq.table, seq.column = "", ""
			if len(owner) < 2 {
				continue
			}
			schema := ""
			if len(owner) > 2 {
				schema = owner[0]
			}
			if t := p.find(schema, owner[len(owner)-2]); t != nil {
				seq.table, seq.column = t.FullName(), last(owner)
			}
		}
		return
	}
}

// catalog gives what was made in the schemas that are asked for.
func (p *pg) catalog(schemas []string) (*catalog.Catalog, error) {
	schemas, err := p.choose(schemas)
	if err != nil {
		return nil, err
	}
	chosen := func(s string) bool { return slices.Contains(schemas, s) }
	c := &catalog.Catalog{Engine: dialect.PostgreSQL, Schemas: schemas, Notes: p.notes}
	usedEnums := map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(p.tables)) {
		t := p.tables[name]
		if !chosen(t.Schema) || t.partOf != "" {
			continue
		}
		p.completeReferences(t)
		p.completeSequences(t)
		for _, column := range t.Columns {
			for kind := &column.Type; kind != nil; kind = kind.Element {
				usedEnums[kind.Enum] = true
			}
		}
		c.Tables = append(c.Tables, t.Table)
	}
	for name, e := range p.enums {
		if chosen(e.Schema) || usedEnums[name] {
			c.Enums = append(c.Enums, *e)
		}
	}
	for _, d := range p.domains {
		if chosen(d.Schema) {
			c.Domains = append(c.Domains, *d)
		}
	}
	for _, t := range p.composites {
		if chosen(t.Schema) {
			c.Composites = append(c.Composites, *t)
		}
	}
	for _, s := range p.sequences {
		if chosen(s.schema) && s.table == "" {
			c.Sequences = append(c.Sequences, catalog.Sequence{Schema: s.schema, Name: s.name, Options: s.optionsText("bigint")})
		}
	}
	for _, r := range p.routines {
		if chosen(r.Schema) {
			c.Routines = append(c.Routines, r)
		}
	}
	c.LeaveOut(ownSchema)
	c.Sort()
	return c, nil
}

// choose takes the schemas asked for, else the one that a connection finds by
// itself, else, where that is empty, all.
func (p *pg) choose(schemas []string) ([]string, error) {
	made := slices.Sorted(maps.Keys(p.schemas))
	for _, s := range schemas {
		if !p.schemas[s] {
			return nil, ddl.NoSchema(s, made)
		}
	}
	if len(schemas) > 0 {
		return slices.Clone(schemas), nil
	}
	others := map[string]int{}
	own := false
	for _, t := range p.tables {
		if t.Schema == ownSchema {
			own = true
		} else if t.partOf == "" {
			others[t.Schema]++
		}
	}
	if !own && len(others) > 0 {
		return slices.Sorted(maps.Keys(others)), nil
	}
	return []string{ownSchema}, nil
}

// completeReferences gives references made before their target its key.
func (p *pg) completeReferences(t *pgTable) {
	for i := range t.References {
		ref := &t.References[i]
		if target := p.tables[catalog.Qualify(ref.Schema, ref.Table)]; len(ref.Target) == 0 && target != nil && target.PrimaryKey != nil {
			ref.Target = slices.Clone(target.PrimaryKey.Columns)
		}
		if ref.Target == nil {
			ref.Target = []string{}
		}
	}
	p.completeDefinitions(t)
}

// completeSequences forgets the names of sequences that are the columns' own,
// but for those that are not called after the column.
func (p *pg) completeSequences(t *pgTable) {
	for i := range t.Columns {
		d := t.Columns[i].Default
		if d == nil || d.Kind != catalog.Identity {
			continue
		}
		if s := p.sequences[d.Sequence]; s != nil && s.table == t.FullName() && s.column == t.Columns[i].Name {
			d.Sequence, d.Serial = "", true
		}
		for _, s := range p.ownSequences(t, &t.Columns[i]) {
			if d.Sequence != "" {
				continue
			}
			if s.name != t.Name+"_"+t.Columns[i].Name+"_seq" {
				d.Own = s.name
			}
			d.Options = s.optionsText(t.Columns[i].Declared)
		}
	}
}
