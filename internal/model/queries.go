package model

import (
	"path"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/sqlquery"
)

// QueryFile is a file of functions, one for each named query of a SQL file.
type QueryFile struct {
	Source  string // the SQL file
	File    string // without ending
	Queries []*NamedQuery
}

// NamedQuery is a query as a Go function.
type NamedQuery struct {
	Name   string
	Doc    string
	Shape  sqlquery.Shape
	Args   []QueryArg
	Pieces []sqlquery.Piece
	In     []sqlquery.Piece // sets the variables of parameters that are both in and out
	Out    string           // reads the variables that the statement left; empty where there are none
	Entity *Entity          // the rows are these; else
	Value  *Field           // there is one value a row; else
	Row    string           // the name of the rows' type
	Fields []*Field         // of the row

	Reads   bool // it changes nothing
	Routine bool // of the database
}

// QueryArg is an argument as a Go parameter.
type QueryArg struct {
	Name      string
	List      bool
	Optional  bool
	Maybe     bool         // it may be left out, or null
	Order     []QueryOrder // of an order
	OrderName string       // of its type
	Field     *Field       // as it comes from outside, by its own name
}

// QueryOrder is one order that a caller can choose.
type QueryOrder struct{ Name, Key, SQL string }

// AddQueries adds the functions of named queries. Their files are given by the
// paths of the SQL files.
func (m *Model) AddQueries(c *catalog.Catalog, source string, queries []*sqlquery.Query) error {
	b := newQueryBuilder(m, c)
	file := &QueryFile{Source: source, File: fileName(b.steady.Split(strings.TrimSuffix(path.Base(source), ".sql"))) + "_queries"}
	for _, q := range queries {
		named, err := b.query(q)
		if err != nil {
			return err
		}
		file.Queries = append(file.Queries, named)
	}
	m.Queries = append(m.Queries, file)
	return nil
}

func newQueryBuilder(m *Model, c *catalog.Catalog) *queryBuilder {
	b := &queryBuilder{model: m, catalog: c, global: newNamespace(storeReserved...), steady: m.steady}
	for _, e := range m.Entities {
		b.global.reserve(e.Name)
		b.global.reserve(e.Plural)
		b.global.reserve(inStore(e.Local)...)
	}
	for _, f := range m.Queries {
		for _, q := range f.Queries {
			b.global.reserve(q.Name)
			b.global.reserve(q.Row)
		}
	}
	return b
}

type queryBuilder struct {
	model   *Model
	catalog *catalog.Catalog
	global  *namespace
	steady  spelling
}

func (b *queryBuilder) query(q *sqlquery.Query) (*NamedQuery, error) {
	n := &NamedQuery{Name: b.steady.exported(b.steady.Split(q.Name)), Doc: q.Doc, Shape: q.Shape, Reads: q.Reads()}
	if !b.global.reserve(n.Name) {
		return nil, q.Fault("rename it in this line", "the store has something else called %s", n.Name)
	}
	if err := b.args(n, q); err != nil {
		return nil, err
	}
	b.result(n, q)
	if err := q.Rewrite(b.catalog.Engine, b.carriedAsText); err != nil {
		return nil, err
	}
	n.Pieces = q.Pieces
	return n, nil
}

// carriedAsText holds for PostgreSQL's types whose text form the runtime reads.
func (b *queryBuilder) carriedAsText(c catalog.Column) bool {
	return b.catalog.Engine.TextCast != "" && b.field(c, nil).AsText()
}

// AsText reports whether PostgreSQL is asked for the value as text.
func (f *Field) AsText() bool {
	switch f.Kind {
	case KindOther, KindTimeOfDay, KindInterval, KindList, KindRange, KindRecord:
		return true
	}
	return f.Kind == KindEnum && f.Column.Type.Kind == catalog.EnumKind
}

// field makes a field of a column that a query puts out.
func (b *queryBuilder) field(c catalog.Column, source *catalog.Column) *Field {
	f := &Field{Column: &c, Name: b.steady.exported(b.steady.Split(c.Name)), Nullable: c.Nullable}
	f.Kind = kindOf(c.Type)
	switch {
	case c.Type.Kind == catalog.Time && !b.catalog.Engine.Loose:
		f.Kind = KindTimeOfDay
	case c.Type.Element != nil:
		element := &Field{Column: &catalog.Column{Name: c.Name, Type: *c.Type.Element}}
		element.Kind = kindOf(*c.Type.Element)
		element.setComposite(b.model.composite(c.Type.Element.Composite))
		f.Element, f.Kind = element, KindList
		if c.Type.Kind == catalog.Range {
			f.Kind = KindRange
		}
	case c.Type.Kind == catalog.EnumKind:
		f.Kind = KindText
	case c.Type.Kind == catalog.Compound:
		f.setComposite(b.model.composite(c.Type.Composite))
	}
	if en := b.enum(c, source); en != nil && f.Kind == KindText {
		f.Enum, f.Kind = en, KindEnum
	}
	return f
}

// enum is the type of a column that has one: of its own in the schema, or made
// of a check on the column that it comes from.
func (b *queryBuilder) enum(c catalog.Column, source *catalog.Column) *Enum {
	for _, e := range b.model.Entities {
		for _, f := range e.Fields {
			if f.Enum == nil {
				continue
			}
			sameType := c.Type.Kind == catalog.EnumKind && c.Type.Enum != "" && c.Type.Enum == f.Column.Type.Enum
			sameLabels := len(c.Type.Labels) > 0 && slices.Equal(c.Type.Labels, f.Column.Type.Labels)
			if sameType || sameLabels || source == f.Column {
				return f.Enum
			}
		}
	}
	return nil
}

// named is the field under another name.
func (f *Field) named(name string) *Field {
	own, column := *f, *f.Column
	column.Name = name
	own.Column = &column
	return &own
}

func (b *queryBuilder) args(n *NamedQuery, q *sqlquery.Query) error {
	names := newNamespace("ctx", "db", "q", "to", "row", "v", "list", "err")
	for _, a := range q.Args {
		arg := QueryArg{Name: names.give(b.steady.unexported(b.steady.Split(a.Name))), List: a.List, Optional: a.Optional}
		arg.Field = &Field{Column: &catalog.Column{Name: a.Name}}
		if a.Keys != nil {
			arg.OrderName = b.global.give(n.Name + b.steady.exported(b.steady.Split(a.Name)))
			for _, k := range a.Keys {
				arg.Order = append(arg.Order, QueryOrder{b.global.give(arg.OrderName + "By" + b.steady.exported(b.steady.Split(k.Name))), k.Name, k.SQL})
			}
			n.Args = append(n.Args, arg)
			continue
		}
		f := b.field(a.Column, a.Source)
		arg.Field = f.named(a.Name)
		arg.Maybe = a.Optional || a.Nullable
		n.Args = append(n.Args, arg)
	}
	return nil
}

// result chooses what the rows are: an entity, one value, or a type of their
// own.
func (b *queryBuilder) result(n *NamedQuery, q *sqlquery.Query) {
	if len(q.Result) == 0 {
		return
	}
	if len(q.Result) == 1 {
		if e := b.entity(q.Result[0].Table); e != nil && !q.Result[0].Outer {
			n.Entity = e
			return
		}
		if q.Result[0].Table == nil {
			n.Value = b.field(q.Result[0].Column, q.Result[0].Source)
			return
		}
	}
	n.Row = b.global.give(n.Name+"Row", n.Name+"Result")
	fields := newNamespace()
	for _, r := range q.Result {
		if e := b.entity(r.Table); e != nil {
			name := b.steady.exported(b.steady.Split(r.Alias))
			if strings.EqualFold(r.Alias, e.Table.Name) || len(r.Alias) == 1 {
				name = e.Name
			}
			n.Fields = append(n.Fields, &Field{
				Name: fields.give(name, e.Name), Nullable: r.Outer,
				Column: &catalog.Column{Name: strings.Join(b.steady.Split(name), "_")}, Entity: e,
			})
			continue
		}
		columns := []catalog.Column{r.Column}
		if r.Table != nil {
			columns = slices.Clone(r.Table.Columns)
		}
		for i, c := range columns {
			source := r.Source
			if r.Table != nil {
				source = &r.Table.Columns[i]
			}
			c.Nullable = c.Nullable || r.Outer
			f := b.field(c, source)
			f.Name = fields.give(f.Name, b.steady.exported(b.steady.Split(r.Alias))+f.Name)
			n.Fields = append(n.Fields, f)
		}
	}
}

func (b *queryBuilder) entity(t *catalog.Table) *Entity {
	for _, e := range b.model.Entities {
		if t != nil && e.Table == t {
			return e
		}
	}
	return nil
}
