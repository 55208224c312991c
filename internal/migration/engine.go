package migration

import (
	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// Engine is how an engine spells and runs a script.
type Engine interface {
	Dialect() *sqltext.Dialect
	Traits() Traits
	Values
	Rows
	Columns

	// Write drafts the session and the steps.
	Write(d *Writing)
	// Check are the statements that fail where a check does; n is its number.
	Check(n int, c Check) []string
	// Guard stands behind each statement of a step.
	Guard(statement string) []string
	// Stop is the line of an open decision, at which the script must stop.
	Stop(decide string) string
	// ProofSession are settings that a script must not depend on, and the usual ones.
	ProofSession() (unhelpful, usual []string)
}

// Traits are what the order of the steps depends on.
type Traits struct {
	Runner  string // how a script is run
	Promise string // what it does when something goes wrong

	Bodies              bool // the client wants another delimiter around what has semicolons in it
	OrderCounts         bool // columns can be put into another order
	ComputedFollow      bool // a computed column must be made again when one that it reads gets another type
	NamesConstraints    bool // constraints have names that can change
	NamesIndexesOnly    bool // only the names of indexes count
	NamelessEnums       bool // an enum is a part of its column
	ChecksEveryRow      bool // references are tested though they were there before
	RetypesLast         bool // rows get values before their column gets its new type
	TriggersStay        bool // a trigger stays as it is when something in it is renamed
	Defers              bool // references can be deferred
	IndexesExpressions  bool // the text of an index tells its expressions
	IndexesReferences   bool // a reference brings its index
	AnonymousReferences bool // references have no names
	UniqueIndexes       bool // a unique key is an index
}

// Values spells values.
type Values interface {
	// Zero is a value of a column's type that stands for nothing in particular; empty
	// where it is as in all engines.
	Zero(c *catalog.Column) string
	// Default is a default as a statement takes it; empty where it is as in all
	// engines.
	Default(c *catalog.Column) string
	// Words are the text before the first space of a column, and what is behind it.
	Words(column string) (head, tail string)
	// Sample is a value for a row that is made up; empty where it is as in all
	// engines.
	Sample(t catalog.Type, n int) string
	// Join puts parts of text together.
	Join(parts []string) string
	// Text is a column as a text that is never null.
	Text(column string) string
	// Literal is the expression that gives a column's value as it stands in a
	// statement.
	Literal(c *catalog.Column, name string) string
}

// Rows spells what happens to rows.
type Rows interface {
	// Update sets values in rows that are there without being noticed: triggers do not
	// fire, and what is set when a row changes is not set.
	Update(d *Writing, p *Pair, sets, where string) []string
	// CreateAs makes a table of what a query gives.
	CreateAs(table, query string) string
	// Free checks that a name is not taken, where the engine would not stop by itself.
	Free(schema, name string) []Check
	// OnlyWith keeps statements from being run again when the columns of a table that
	// they need are gone by then; of no columns, the table.
	OnlyWith(schema, table string, columns, statements []string) []string
	// Once adds to an insert from a table what keeps it from being run again; into is
	// the first column of the table that it fills, and from its source.
	Once(insert, where, table, into, source, from string) string
	// IfEmpty has an insert run only while a table has no rows.
	IfEmpty(t *catalog.Table, table, insert string) []string
	// RenameTable gives a table another name.
	RenameTable(d *Writing, t *catalog.Table, name string) string
	// GoOn has the numbers of a column go on behind the rows that are there.
	GoOn(t *catalog.Table, c *catalog.Column) string
}

// Columns spells columns, and what a change of type does to their values.
type Columns interface {
	// Cast is an expression of one column as another one has it.
	Cast(was, now *catalog.Column, expr string) string
	// Compared is a column as its later type compares it.
	Compared(a Alteration, column string) string
	// Comparable casts the two sides of a reference whose types differ before.
	Comparable(was, target catalog.TypeKind, left, right string) (a, b string)
	Conversion(d *Writing, a Alteration, column string, strict bool) Conversion

	// Declared is the engine's way to write one of TypeWords, without what stands in
	// its parentheses, and inside with that; for a table with some options.
	Declared(word, inside string, options []string) string
	// Options are those of a new table.
	Options(c *catalog.Catalog) []string
	// KeyName is the name of a table's primary key.
	KeyName(t *catalog.Table) string
	// Enum makes the type of a column with labels, and what it needs.
	Enum(c *catalog.Catalog, t *catalog.Table, column string, labels []string) (declared string, typ catalog.Type)
	// Extended brings new columns into the text of a table, where it is kept.
	Extended(t *catalog.Table, isNew func(column string) bool)
}
