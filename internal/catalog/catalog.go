// Package catalog holds a database schema as facts: what the engine knows,
// named as the engine names it, before any decision about code is taken.
//
// The readers fill a Catalog, the model is made from one, and two of them can
// be compared. Its JSON form is canonical: the same schema gives the same
// bytes, so that a snapshot kept in version control differs only where the
// schema does.
package catalog

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"widegate/internal/printable"
	"widegate/internal/sqltext"
)

// Version is that of the JSON form.
const Version = 1

// Scripts is the table in which a database keeps which scripts have run on it. It
// is the tool's, and no part of the schema.
const Scripts = "widegate_scripts"

// Catalog is one database, or the schemas of it that were read.
type Catalog struct {
	Version    int              `json:"version"`
	Engine     *sqltext.Dialect `json:"engine"`
	Schemas    []string         `json:"schemas,omitempty"`    // that were read besides the connection's own
	SearchPath []string         `json:"searchPath,omitempty"` // in which names are found that have no schema, where it is not only public
	Tables     []Table          `json:"tables"`
	Enums      []Enum           `json:"enums,omitempty"`
	Domains    []Domain         `json:"domains,omitempty"`
	Composites []Composite      `json:"composites,omitempty"`
	Sequences  []Sequence       `json:"sequences,omitempty"`
	Routines   []Routine        `json:"routines,omitempty"`
	Extras     []Extra          `json:"extras,omitempty"`   // of the schema as a whole
	Reading    int              `json:"reading,omitempty"`  // see Reading
	Complete   bool             `json:"complete,omitempty"` // a server said all of it; scripts leave out triggers and extras
	Notes      []Note           `json:"notes,omitempty"`
}

// Extra is what else an engine keeps for a table or for the whole schema, such
// as a policy, a right, a rule or a storage option. It is known by the
// statements that make it and that take it away.
type Extra struct {
	Kind string `json:"kind"`
	Name string `json:"name"`           // tells it from others of its kind in its place
	Make string `json:"make,omitempty"` // empty where no statement is known
	Undo string `json:"undo,omitempty"` // empty where it goes with what it belongs to

	Session string `json:"session,omitempty"` // settings that it keeps from the session that made it
}

// KnowsTriggers reports whether the triggers of the tables are all known.
func (c *Catalog) KnowsTriggers() bool { return c.Complete || c.Engine.ToldWhole }

// Note is something the reader could not carry over.
type Note struct {
	Table string `json:"table,omitempty"`
	Text  string `json:"text"`
}

// Kind tells tables from views.
type Kind string

// The kinds of tables.
const (
	BaseTable        Kind = "table"
	View             Kind = "view"
	MaterializedView Kind = "materialized view"
)

// Kinds are all kinds of tables.
var Kinds = []Kind{BaseTable, View, MaterializedView}

// Table is a table or a view.
type Table struct {
	Schema     string      `json:"schema,omitempty"` // empty in SQLite
	Name       string      `json:"name"`
	Kind       Kind        `json:"kind"`
	Comment    string      `json:"comment,omitempty"`
	Columns    []Column    `json:"columns"`
	PrimaryKey *Key        `json:"primaryKey,omitempty"`
	Uniques    []Key       `json:"uniques,omitempty"`
	References []Reference `json:"references,omitempty"`
	Checks     []Check     `json:"checks,omitempty"`
	Indexes    []Index     `json:"indexes,omitempty"`
	Definition string      `json:"definition,omitempty"` // of a view; in SQLite the statement that makes the table too
	Triggers   []Trigger   `json:"triggers,omitempty"`
	Extras     []Extra     `json:"extras,omitempty"`
	Updatable  bool        `json:"updatable,omitempty"` // a view through which rows can be changed
	Partition  string      `json:"partition,omitempty"` // how the rows are divided; the parts are not listed
	Inherits   []string    `json:"inherits,omitempty"`  // full names of the tables whose columns this one has too
	Options    []string    `json:"options,omitempty"`   // what else the engine says of the table, such as strict
	Rows       int64       `json:"-"`                   // the engine's estimate, -1 where it has none
}

// Column is a column of a table, in the table's order.
type Column struct {
	Name      string   `json:"name"`
	Declared  string   `json:"declared"` // the engine's own name of the type
	Type      Type     `json:"type"`
	Nullable  bool     `json:"nullable,omitempty"`
	Default   *Default `json:"default,omitempty"`
	Domain    string   `json:"domain,omitempty"`    // full name of the domain that the type is
	Generated string   `json:"generated,omitempty"` // the expression it is computed by
	Stored    bool     `json:"stored,omitempty"`    // computed when written, where an engine usually computes when read
	Virtual   bool     `json:"virtual,omitempty"`   // computed when read, where an engine usually computes when written
	NotNull   string   `json:"notNull,omitempty"`   // name of the constraint that keeps it from being null, where that is not the usual one
	OnUpdate  string   `json:"onUpdate,omitempty"`  // the expression that it is set to when the row changes
	Comment   string   `json:"comment,omitempty"`
	Collation string   `json:"collation,omitempty"`
	Invisible bool     `json:"invisible,omitempty"` // left out of SELECT *
}

// TypeKind is a family of types that all engines share.
type TypeKind string

// TypeKinds are the families of types.
var TypeKinds = []TypeKind{
	Int, Float, Decimal, Bool, Text, Bytes, Date, Time, Timestamp, TimestampTZ, UUID, JSON, EnumKind, Array, Range, Interval, Set, Network, BitString, XML, Money,
	Geometric, FullText, Compound, Other,
}

// The families of types. Other is what none of them fits.
const (
	Int         TypeKind = "int"
	Float       TypeKind = "float"
	Decimal     TypeKind = "decimal"
	Bool        TypeKind = "bool"
	Text        TypeKind = "text"
	Bytes       TypeKind = "bytes"
	Date        TypeKind = "date"
	Time        TypeKind = "time"
	Timestamp   TypeKind = "timestamp"
	TimestampTZ TypeKind = "timestamptz"
	UUID        TypeKind = "uuid"
	JSON        TypeKind = "json"
	EnumKind    TypeKind = "enum"
	Array       TypeKind = "array"
	Range       TypeKind = "range"
	Interval    TypeKind = "interval"
	Set         TypeKind = "set"       // any of some labels, between commas
	Network     TypeKind = "network"   // addresses of networks and machines
	BitString   TypeKind = "bits"      // zeros and ones
	XML         TypeKind = "xml"       //
	Money       TypeKind = "money"     // written as the server's locale does
	Geometric   TypeKind = "geometric" //
	FullText    TypeKind = "fulltext"  // documents and queries of a text search
	Compound    TypeKind = "composite" // of several fields
	Other       TypeKind = "other"
)

// Type is a normalized type.
type Type struct {
	Kind      TypeKind `json:"kind"`
	Bits      int      `json:"bits,omitempty"` // of int and float
	Unsigned  bool     `json:"unsigned,omitempty"`
	Size      int      `json:"size,omitempty"`      // longest text in characters, bytes in bytes
	Precision int      `json:"precision,omitempty"` // digits of a decimal
	Scale     int      `json:"scale,omitempty"`     // of them, after the point
	Enum      string   `json:"enum,omitempty"`      // name of the enum type, qualified by its schema
	Labels    []string `json:"labels,omitempty"`    // of an enum without a type of its own
	Composite string   `json:"composite,omitempty"` // name of the composite type, qualified by its schema
	Element   *Type    `json:"element,omitempty"`   // of an array or range
	Name      string   `json:"name,omitempty"`      // of an element's type, as the engine declares it
}

// rename changes the names of the types that it is made of.
func (t *Type) rename(change func(name *string)) {
	for ; t != nil; t = t.Element {
		change(&t.Enum)
		change(&t.Composite)
	}
}

// DefaultKind says who makes the value of a column that an insert leaves out.
type DefaultKind string

// The kinds of defaults.
const (
	Constant   DefaultKind = "constant"
	Expression DefaultKind = "expression"
	Identity   DefaultKind = "identity" // the engine numbers the rows
)

// Default is what a column gets when an insert leaves it out.
type Default struct {
	Kind     DefaultKind `json:"kind"`
	Text     string      `json:"text,omitempty"`     // the bare value of a constant, or the expression
	Always   bool        `json:"always,omitempty"`   // the engine takes no other number
	Sequence string      `json:"sequence,omitempty"` // full name of the one that numbers, where it is not the column's own
	Own      string      `json:"own,omitempty"`      // name of the column's own sequence, where it is not TABLE_COLUMN_seq
	Serial   bool        `json:"serial,omitempty"`   // an ordinary default that takes from the column's own sequence
	Options  string      `json:"options,omitempty"`  // of the sequence, as SQL, where they are not the usual ones
}

// Key is a primary or unique key.
type Key struct {
	Name       string   `json:"name,omitempty"`
	Columns    []string `json:"columns"`
	Deferrable bool     `json:"deferrable,omitempty"`
	Index      bool     `json:"index,omitempty"`      // an index and no constraint, where the engine tells them apart
	Definition string   `json:"definition,omitempty"` // of the constraint, or the statement of the index, where the columns do not tell all
}

// Reference is a foreign key.
type Reference struct {
	Name     string   `json:"name,omitempty"`
	Columns  []string `json:"columns"`
	Schema   string   `json:"schema,omitempty"`
	Table    string   `json:"table"`
	Target   []string `json:"target"`
	OnUpdate string   `json:"onUpdate,omitempty"` // lower case; empty is no action
	OnDelete string   `json:"onDelete,omitempty"`

	Deferrable bool `json:"deferrable,omitempty"`
	Unenforced bool `json:"unenforced,omitempty"` // the engine takes the declaration and does not hold rows to it
	Period     bool `json:"period,omitempty"`     // the last column is a period that the target's rows must cover together

	Definition string `json:"definition,omitempty"` // of the constraint, where the rest does not tell all
}

// Check is a check constraint.
type Check struct {
	Name    string `json:"name,omitempty"`
	Expr    string `json:"expr"`
	Options string `json:"options,omitempty"` // what stands behind it, such as NOT VALID
}

// Index is an index that is not the one of a key.
type Index struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"` // an expression stands as its text in parentheses
	Unique  bool     `json:"unique,omitempty"`
	Method  string   `json:"method,omitempty"` // lower case; empty is the engine's ordinary one
	Where   string   `json:"where,omitempty"`

	Definition string `json:"definition,omitempty"` // the statement that makes it, where the columns do not tell all
}

// Trigger is a trigger of a table.
type Trigger struct {
	Name       string `json:"name"`
	Definition string `json:"definition"`
	Session    string `json:"session,omitempty"` // settings that it keeps from the session that made it
}

// Enum is an enum type.
type Enum struct {
	Schema  string   `json:"schema,omitempty"`
	Name    string   `json:"name"`
	Labels  []string `json:"labels"`
	Comment string   `json:"comment,omitempty"`
}

// Domain is a type with checks of its own.
type Domain struct {
	Schema   string   `json:"schema,omitempty"`
	Name     string   `json:"name"`
	Declared string   `json:"declared"` // what it is based on
	NotNull  bool     `json:"notNull,omitempty"`
	Default  *Default `json:"default,omitempty"`
	Checks   []Check  `json:"checks,omitempty"` // in which VALUE stands for the column
	Comment  string   `json:"comment,omitempty"`
}

// Composite is a type of several fields.
type Composite struct {
	Schema  string           `json:"schema,omitempty"`
	Name    string           `json:"name"`
	Fields  []CompositeField `json:"fields"`
	Comment string           `json:"comment,omitempty"`
}

// CompositeField is one of a composite type's.
type CompositeField struct {
	Name     string `json:"name"`
	Declared string `json:"declared"`
	Type     Type   `json:"type"`
}

// Sequence is a generator of numbers that stands by itself.
type Sequence struct {
	Schema  string `json:"schema,omitempty"`
	Name    string `json:"name"`
	Options string `json:"options,omitempty"` // as SQL, where they are not the usual ones
}

// Routine is a function or procedure.
type Routine struct {
	Schema     string     `json:"schema,omitempty"`
	Name       string     `json:"name"`
	Kind       string     `json:"kind"` // function or procedure
	Arguments  []Argument `json:"arguments,omitempty"`
	Returns    string     `json:"returns,omitempty"` // the declared type
	Volatility string     `json:"volatility,omitempty"`
	Comment    string     `json:"comment,omitempty"`
	Definition string     `json:"definition,omitempty"` // the statement that makes it
	Session    string     `json:"session,omitempty"`    // settings that it keeps from the session that made it
}

// Reads reports whether the routine says that it changes nothing.
func (r *Routine) Reads() bool {
	switch strings.ToLower(r.Volatility) {
	case "immutable", "stable", "reads sql data", "no sql":
		return r.Kind == "function"
	}
	return false
}

// ForTriggers reports whether only a trigger can call the routine.
func (r *Routine) ForTriggers() bool { return r.Returns == "trigger" || r.Returns == "event_trigger" }

// Argument is one of a routine's.
type Argument struct {
	Name     string `json:"name,omitempty"`
	Mode     string `json:"mode,omitempty"` // empty is in
	Declared string `json:"declared"`
}

// Column returns the column of that name.
func (t *Table) Column(name string) (*Column, bool) {
	for i := range t.Columns {
		if t.Columns[i].Name == name {
			return &t.Columns[i], true
		}
	}
	return nil, false
}

// IsView reports whether the table is a view of either kind.
func (t *Table) IsView() bool { return t.Kind != BaseTable }

// FullName is the name qualified by the schema, where there is one.
func (t *Table) FullName() string { return Qualify(t.Schema, t.Name) }

// Qualify joins a schema and a name.
func Qualify(schema, name string) string {
	if schema == "" {
		return name
	}
	return schema + "." + name
}

// Table returns the table of that schema and name.
func (c *Catalog) Table(schema, name string) (*Table, bool) {
	for i := range c.Tables {
		if c.Tables[i].Schema == schema && c.Tables[i].Name == name {
			return &c.Tables[i], true
		}
	}
	return nil, false
}

// Enum returns the enum type of a qualified name.
func (c *Catalog) Enum(fullName string) (*Enum, bool) {
	for i := range c.Enums {
		if Qualify(c.Enums[i].Schema, c.Enums[i].Name) == fullName {
			return &c.Enums[i], true
		}
	}
	return nil, false
}

// LeaveOut takes the name of the connection's own schema out of the catalog. It
// differs between installations, and names are found without it.
func (c *Catalog) LeaveOut(own string) {
	drop := func(schema *string) {
		if strings.EqualFold(*schema, own) {
			*schema = ""
		}
	}
	bare := func(fullName *string) { *fullName = strings.TrimPrefix(*fullName, own+".") }
	for i := range c.Tables {
		t := &c.Tables[i]
		drop(&t.Schema)
		for k := range t.References {
			drop(&t.References[k].Schema)
		}
		for k := range t.Inherits {
			bare(&t.Inherits[k])
		}
		for k := range t.Columns {
			column := &t.Columns[k]
			bare(&column.Domain)
			if column.Default != nil {
				bare(&column.Default.Sequence)
			}
			column.Type.rename(bare)
		}
	}
	for i := range c.Enums {
		drop(&c.Enums[i].Schema)
	}
	for i := range c.Domains {
		drop(&c.Domains[i].Schema)
	}
	for i := range c.Composites {
		drop(&c.Composites[i].Schema)
		for k := range c.Composites[i].Fields {
			c.Composites[i].Fields[k].Type.rename(bare)
		}
	}
	for i := range c.Sequences {
		drop(&c.Sequences[i].Schema)
	}
	for i := range c.Routines {
		drop(&c.Routines[i].Schema)
	}
	c.Schemas = slices.DeleteFunc(c.Schemas, func(s string) bool { return strings.EqualFold(s, own) })
}

// Sort puts everything that has no order of its own into the canonical one.
func (c *Catalog) Sort() {
	slices.SortFunc(c.Tables, func(a, b Table) int { return byName(a.Schema, a.Name, b.Schema, b.Name) })
	slices.SortFunc(c.Enums, func(a, b Enum) int { return byName(a.Schema, a.Name, b.Schema, b.Name) })
	slices.SortFunc(c.Domains, func(a, b Domain) int { return byName(a.Schema, a.Name, b.Schema, b.Name) })
	slices.SortFunc(c.Composites, func(a, b Composite) int { return byName(a.Schema, a.Name, b.Schema, b.Name) })
	slices.SortFunc(c.Sequences, func(a, b Sequence) int { return byName(a.Schema, a.Name, b.Schema, b.Name) })
	slices.SortFunc(c.Routines, func(a, b Routine) int {
		return cmp.Or(strings.Compare(a.Schema, b.Schema), strings.Compare(a.Name, b.Name),
			slices.CompareFunc(a.Arguments, b.Arguments, func(x, y Argument) int { return strings.Compare(x.Declared, y.Declared) }))
	})
	sortExtras(c.Extras)
	slices.SortFunc(c.Notes, func(a, b Note) int {
		return cmp.Or(strings.Compare(a.Table, b.Table), strings.Compare(a.Text, b.Text))
	})
	for i := range c.Tables {
		if c.Tables[i].Columns == nil { // a list without columns, not none
			c.Tables[i].Columns = []Column{}
		}
		c.Tables[i].sort()
	}
}

func sortExtras(list []Extra) {
	slices.SortFunc(list, func(a, b Extra) int {
		return cmp.Or(strings.Compare(a.Kind, b.Kind), strings.Compare(a.Name, b.Name), strings.Compare(a.Make, b.Make))
	})
}

func byName(schemaA, nameA, schemaB, nameB string) int {
	return cmp.Or(strings.Compare(schemaA, schemaB), strings.Compare(nameA, nameB))
}

func (t *Table) sort() {
	byColumns := func(a, b []string) int { return slices.Compare(a, b) }
	slices.SortFunc(t.Uniques, func(a, b Key) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), byColumns(a.Columns, b.Columns))
	})
	slices.SortFunc(t.References, func(a, b Reference) int {
		return cmp.Or(t.position(a.Columns)-t.position(b.Columns), byColumns(a.Columns, b.Columns), strings.Compare(a.Table, b.Table), strings.Compare(a.Name, b.Name))
	})
	slices.SortFunc(t.Checks, func(a, b Check) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Expr, b.Expr))
	})
	slices.SortFunc(t.Triggers, func(a, b Trigger) int { return strings.Compare(a.Name, b.Name) })
	sortExtras(t.Extras)
	slices.SortFunc(t.Indexes, func(a, b Index) int { return strings.Compare(a.Name, b.Name) })
}

// position is the place of the first of the columns in the table.
func (t *Table) position(columns []string) int {
	if len(columns) == 0 {
		return -1
	}
	return slices.IndexFunc(t.Columns, func(c Column) bool { return c.Name == columns[0] })
}

// Encode returns the canonical JSON form.
func (c *Catalog) Encode() ([]byte, error) {
	c.Version = Version
	if c.Tables == nil {
		c.Tables = []Table{}
	}
	c.Sort()
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	if err := enc.Encode(c); err != nil {
		return nil, fmt.Errorf("encoding the catalog: %w", err)
	}
	return []byte(printable.Text(text.String())), nil
}

// plain is a catalog without its ways to be encoded.
type plain Catalog

// Decode reads the JSON form of a catalog of one of the engines.
func Decode(text []byte, known []*sqltext.Dialect) (*Catalog, error) {
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.DisallowUnknownFields()
	var form struct {
		*plain
		Engine string `json:"engine"`
	}
	form.plain = &plain{}
	if err := dec.Decode(&form); err != nil {
		return nil, fmt.Errorf("reading the catalog: %w", err)
	}
	c := (*Catalog)(form.plain)
	if c.Version != Version {
		return nil, fmt.Errorf("reading the catalog: its form is version %d, this program knows %d", c.Version, Version)
	}
	i := slices.IndexFunc(known, func(d *sqltext.Dialect) bool { return d.Name == form.Engine })
	if i < 0 {
		return nil, fmt.Errorf("reading the catalog: there is no engine %q", form.Engine)
	}
	c.Engine = known[i]
	if err := c.check(); err != nil {
		return nil, fmt.Errorf("reading the catalog: %w", err)
	}
	for i := range c.Tables {
		c.Tables[i].Rows = -1
	}
	return c, nil
}
