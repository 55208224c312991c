package ddl

import (
	"strings"

	"widegate/internal/catalog"
)

// A query is what a view is defined by, reduced to what the names and types of
// its columns follow from. Both grammars are brought to this form.
type query struct {
	with    []with
	from    []source
	outputs []output
	simple  bool // rows of one table, each once: a view of it can be updated
}

type with struct {
	name    string
	columns []string
	query   *query
}

// source is a table, a query or a function that rows come from.
type source struct {
	schema, name string
	query        *query
	columns      []catalog.Column // of a function
	alias        string
	renamed      []string // names given to the columns
	using        []string // columns joined on, which a star shows once
}

type output struct {
	name string
	expr expr
}

// exprKind says what an expression is.
type exprKind uint8

const (
	unknownExpr exprKind = iota
	columnExpr           // names: table and column
	starExpr             // names: table, or none
	callExpr             // names: the function; args
	typedExpr            // of a known type, such as a cast
	queryExpr            // the value of a query's only column
	choiceExpr           // one of args, as of CASE and coalesce
)

type expr struct {
	kind  exprKind
	names []string
	args  []expr
	query *query
	typed catalog.Column // Declared and Type of a typedExpr
}

// scope is where names in a query are looked up.
type scope struct {
	tables  func(schema, name string) ([]catalog.Column, bool)
	call    func(name string, args []catalog.Column) catalog.Column
	with    map[string][]catalog.Column
	outer   *scope
	sources []named

	comments bool // views have the comments of the columns they show
}

type named struct {
	alias   string
	columns []catalog.Column
	using   []string
}

// unknownColumn is a column whose type does not follow from the query.
func unknownColumn() catalog.Column { return catalog.Column{Type: catalog.Type{Kind: catalog.Other}} }

// columnsOf returns the columns that a query puts out.
func (s *scope) columnsOf(q *query) []catalog.Column {
	inner := &scope{tables: s.tables, call: s.call, with: map[string][]catalog.Column{}, outer: s, comments: s.comments}
	for name, columns := range s.with {
		inner.with[name] = columns
	}
	for _, w := range q.with {
		inner.with[strings.ToLower(w.name)] = rename(inner.columnsOf(w.query), w.columns)
	}
	for _, from := range q.from {
		inner.sources = append(inner.sources, named{from.alias, inner.sourceColumns(from), from.using})
	}
	var list []catalog.Column
	for _, o := range q.outputs {
		if o.expr.kind == starExpr {
			list = append(list, inner.star(o.expr.names)...)
			continue
		}
		c := inner.typeOf(o.expr)
		c.Name = o.name
		if c.Name == "" {
			c.Name = "?column?"
		}
		list = append(list, s.shown(c))
	}
	return list
}

// shown keeps of a column what a view's column has.
func (s *scope) shown(c catalog.Column) catalog.Column {
	if !s.comments {
		c.Comment = ""
	}
	return catalog.Column{Name: c.Name, Declared: c.Declared, Type: c.Type, Domain: c.Domain, Collation: c.Collation, Comment: c.Comment, Nullable: true}
}

func rename(columns []catalog.Column, names []string) []catalog.Column {
	for i := range columns {
		if i < len(names) {
			columns[i].Name = names[i]
		}
	}
	return columns
}

func (s *scope) sourceColumns(from source) []catalog.Column {
	switch {
	case from.query != nil:
		return rename(s.columnsOf(from.query), from.renamed)
	case from.columns != nil:
		return rename(from.columns, from.renamed)
	}
	columns, ok := s.with[strings.ToLower(from.name)]
	if !ok || from.schema != "" {
		columns, _ = s.tables(from.schema, from.name)
	}
	copied := make([]catalog.Column, len(columns))
	copy(copied, columns)
	return rename(copied, from.renamed)
}

// star lists the columns of one source, or of all; those that two sources are
// joined on come first, and once.
func (s *scope) star(names []string) []catalog.Column {
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
func (s *scope) find(table, name string) (catalog.Column, bool) {
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

func (s *scope) typeOf(e expr) catalog.Column {
	switch e.kind {
	case columnExpr:
		table := ""
		if n := len(e.names); n > 1 {
			table = e.names[n-2]
		}
		if c, ok := s.find(table, e.names[len(e.names)-1]); ok {
			return c
		}
	case typedExpr:
		return e.typed
	case queryExpr:
		if columns := s.columnsOf(e.query); len(columns) > 0 {
			return columns[0]
		}
	case choiceExpr:
		for _, a := range e.args {
			if c := s.typeOf(a); c.Declared != "" {
				return c
			}
		}
	case callExpr:
		args := make([]catalog.Column, len(e.args))
		for i, a := range e.args {
			args[i] = s.typeOf(a)
		}
		return s.call(e.names[len(e.names)-1], args)
	}
	return unknownColumn()
}
