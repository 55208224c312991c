package ddl

import (
	"strings"

	"widegate/internal/catalog"
)

// A query is what a view is defined by, reduced to what the names and types of
// its columns follow from. Both grammars are brought to this form.
type Query struct {
	With    []With
	From    []Source
	Outputs []Output
	Simple  bool // rows of one table, each once: a view of it can be updated
}

// With is a query that others name.
type With struct {
	Name    string
	Columns []string
	Query   *Query
}

// Source is a table, a query or a function that rows come from.
type Source struct {
	Schema, Name string
	Query        *Query
	Columns      []catalog.Column // of a function
	Alias        string
	Renamed      []string // names given to the columns
	Using        []string // columns joined on, which a star shows once
}

// Output is a column that a query puts out.
type Output struct {
	Name string
	Expr Expr
}

// exprKind says what an expression is.
type exprKind uint8

const (
	unknownExpr exprKind = iota
	ColumnExpr           // names: table and column
	StarExpr             // names: table, or none
	CallExpr             // names: the function; args
	TypedExpr            // of a known type, such as a cast
	QueryExpr            // the value of a query's only column
	ChoiceExpr           // one of args, as of CASE and coalesce
)

// Expr is an expression, as far as its type follows from it.
type Expr struct {
	Kind  exprKind
	Names []string
	Args  []Expr
	Query *Query
	Typed catalog.Column // Declared and Type of a typedExpr
}

// Scope is where names in a query are looked up.
type Scope struct {
	Tables  func(schema, name string) ([]catalog.Column, bool)
	Call    func(name string, args []catalog.Column) catalog.Column
	With    map[string][]catalog.Column
	outer   *Scope
	sources []named

	Comments bool // views have the comments of the columns they show
}

type named struct {
	alias   string
	columns []catalog.Column
	using   []string
}

// UnknownColumn is a column whose type does not follow from the query.
func UnknownColumn() catalog.Column { return catalog.Column{Type: catalog.Type{Kind: catalog.Other}} }

// ColumnsOf returns the columns that a query puts out.
func (s *Scope) ColumnsOf(q *Query) []catalog.Column {
	inner := &Scope{Tables: s.Tables, Call: s.Call, With: map[string][]catalog.Column{}, outer: s, Comments: s.Comments}
	for name, columns := range s.With {
		inner.With[name] = columns
	}
	for _, w := range q.With {
		inner.With[strings.ToLower(w.Name)] = Rename(inner.ColumnsOf(w.Query), w.Columns)
	}
	for _, from := range q.From {
		inner.sources = append(inner.sources, named{from.Alias, inner.sourceColumns(from), from.Using})
	}
	var list []catalog.Column
	for _, o := range q.Outputs {
		if o.Expr.Kind == StarExpr {
			list = append(list, inner.star(o.Expr.Names)...)
			continue
		}
		c := inner.TypeOf(o.Expr)
		c.Name = o.Name
		if c.Name == "" {
			c.Name = "?column?"
		}
		list = append(list, s.shown(c))
	}
	return list
}

// shown keeps of a column what a view's column has.
func (s *Scope) shown(c catalog.Column) catalog.Column {
	if !s.Comments {
		c.Comment = ""
	}
	return catalog.Column{Name: c.Name, Declared: c.Declared, Type: c.Type, Domain: c.Domain, Collation: c.Collation, Comment: c.Comment, Nullable: true}
}

// Rename gives columns other names, as far as there are some.
func Rename(columns []catalog.Column, names []string) []catalog.Column {
	for i := range columns {
		if i < len(names) {
			columns[i].Name = names[i]
		}
	}
	return columns
}

func (s *Scope) sourceColumns(from Source) []catalog.Column {
	switch {
	case from.Query != nil:
		return Rename(s.ColumnsOf(from.Query), from.Renamed)
	case from.Columns != nil:
		return Rename(from.Columns, from.Renamed)
	}
	columns, ok := s.With[strings.ToLower(from.Name)]
	if !ok || from.Schema != "" {
		columns, _ = s.Tables(from.Schema, from.Name)
	}
	copied := make([]catalog.Column, len(columns))
	copy(copied, columns)
	return Rename(copied, from.Renamed)
}

// star lists the columns of one source, or of all; those that two sources are
// joined on come first, and once.
func (s *Scope) star(names []string) []catalog.Column {
	var list []catalog.Column
	shared := map[string]bool{}
	if len(names) == 0 {
		for _, from := range s.sources {
			for _, name := range from.using {
				if c, ok := s.find("", name); ok && !shared[strings.ToLower(name)] {
					shared[strings.ToLower(name)] = true
					list = append(list, s.shown(c))
				}
			}
		}
	}
	for _, from := range s.sources {
		if len(names) > 0 && !strings.EqualFold(from.alias, names[len(names)-1]) {
			continue
		}
		for _, c := range from.columns {
			if !shared[strings.ToLower(c.Name)] {
				list = append(list, s.shown(c))
			}
		}
	}
	return list
}

// find looks a column up, in the queries around too.
func (s *Scope) find(table, name string) (catalog.Column, bool) {
	for at := s; at != nil; at = at.outer {
		for _, from := range at.sources {
			if table != "" && !strings.EqualFold(from.alias, table) {
				continue
			}
			for _, c := range from.columns {
				if strings.EqualFold(c.Name, name) {
					return c, true
				}
			}
		}
	}
	return catalog.Column{}, false
}

// TypeOf is the type of an expression, as a column.
func (s *Scope) TypeOf(e Expr) catalog.Column {
	switch e.Kind {
	case ColumnExpr:
		table := ""
		if n := len(e.Names); n > 1 {
			table = e.Names[n-2]
		}
		if c, ok := s.find(table, e.Names[len(e.Names)-1]); ok {
			return c
		}
	case TypedExpr:
		return e.Typed
	case QueryExpr:
		if columns := s.ColumnsOf(e.Query); len(columns) > 0 {
			return columns[0]
		}
	case ChoiceExpr:
		for _, a := range e.Args {
			if c := s.TypeOf(a); c.Declared != "" {
				return c
			}
		}
	case CallExpr:
		args := make([]catalog.Column, len(e.Args))
		for i, a := range e.Args {
			args[i] = s.TypeOf(a)
		}
		return s.Call(e.Names[len(e.Names)-1], args)
	}
	return UnknownColumn()
}
