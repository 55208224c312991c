package model

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/sqlquery"
)

// AddRoutines adds a function for each function and procedure of the database
// that the patterns choose, all when there are none. Those whose types are not
// known are left out, and said so.
func (m *Model) AddRoutines(c *catalog.Catalog, patterns []string) {
	b := newQueryBuilder(m, c)
	file := &QueryFile{Source: "the functions and procedures of the database", File: "routines"}
	for i := range c.Routines {
		r := &c.Routines[i]
		if r.ForTriggers() || !chosen(r, patterns) {
			continue
		}
		named, fault := b.routine(r)
		if fault != "" {
			m.Attention = append(m.Attention, Attention{Table: catalog.Qualify(r.Schema, r.Name), Text: fault, Why: "it can still be called by SQL, as in a named query", rank: rankFeature})
			continue
		}
		file.Queries = append(file.Queries, named)
	}
	if len(file.Queries) > 0 {
		m.Queries = append(m.Queries, file)
	}
}

func chosen(r *catalog.Routine, patterns []string) bool {
	if len(patterns) == 0 {
		return true
	}
	return slices.ContainsFunc(patterns, func(p string) bool {
		plain, err := path.Match(p, r.Name)
		full, errFull := path.Match(p, catalog.Qualify(r.Schema, r.Name))
		return plain && err == nil || full && errFull == nil
	})
}

func (b *queryBuilder) routine(r *catalog.Routine) (n *NamedQuery, fault string) {
	words := b.steady.Split(r.Name)
	n = &NamedQuery{Doc: r.Comment, Shape: sqlquery.Nothing, Routine: true, Reads: r.Reads()}
	call := fmt.Sprintf("%s(", b.catalog.Engine.Full(r.Schema, r.Name))
	pieces := []sqlquery.Piece{{Text: call, Arg: -1}}
	var outputs []catalog.Column
	names := newNamespace("ctx", "db", "q", "set", "to", "row", "v")
	given := 0
	for i, a := range r.Arguments {
		t, ok := sqlquery.TypeNamed(b.catalog, a.Declared)
		if !ok || a.Mode == "variadic" {
			return nil, fmt.Sprintf("the %s is not callable from the store: its argument %d has the type %s", r.Kind, i+1, a.Declared)
		}
		name := cmp.Or(a.Name, fmt.Sprintf("arg%d", i+1))
		column := catalog.Column{Name: name, Declared: a.Declared, Type: t, Nullable: true}
		if a.Mode != "" {
			outputs = append(outputs, column)
		}
		if a.Mode == "table" || a.Mode == "out" && r.Kind != "procedure" {
			continue
		}
		if given > 0 {
			pieces = append(pieces, sqlquery.Piece{Text: ", ", Arg: -1})
		}
		given++
		variable := "NULL"
		if b.catalog.Engine.OutVariables && a.Mode != "" {
			variable = fmt.Sprintf("@gate_out_%d", len(outputs))
			n.Out += ", " + variable
		}
		if a.Mode == "out" {
			pieces = append(pieces, sqlquery.Piece{Text: variable, Arg: -1})
			continue
		}
		f := b.field(catalog.Column{Name: name, Type: t}, nil)
		n.Args = append(n.Args, QueryArg{Name: names.give(b.steady.unexported(b.steady.Split(name))), Field: f.named(name)})
		if n.Out != "" && a.Mode == "inout" {
			n.In = append(n.In, sqlquery.Piece{Text: ", " + variable + " = ", Arg: -1}, sqlquery.Piece{Arg: len(n.Args) - 1})
			pieces = append(pieces, sqlquery.Piece{Text: variable, Arg: -1})
			continue
		}
		pieces = append(pieces, sqlquery.Piece{Arg: len(n.Args) - 1})
		if cast := b.catalog.Engine.TextCast; cast != "" {
			text := "::"
			if f.AsText() {
				text = cast + text
			}
			pieces = append(pieces, sqlquery.Piece{Text: text + a.Declared, Arg: -1})
		}
	}
	pieces = append(pieces, sqlquery.Piece{Text: ")", Arg: -1})
	if fault := b.routineResult(n, r, outputs, &pieces); fault != "" {
		return nil, fault
	}
	n.Name = b.global.give(b.steady.exported(words), "Call"+b.steady.exported(words))
	n.Row = ""
	if len(n.Fields) > 0 {
		n.Row = b.global.give(n.Name+"Row", n.Name+"Result")
	}
	n.Pieces = joined(pieces)
	if n.Out != "" {
		n.Out = "SELECT " + strings.TrimPrefix(n.Out, ", ")
	}
	if len(n.In) > 0 {
		n.In[0].Text = "SET " + strings.TrimPrefix(n.In[0].Text, ", ")
	}
	return n, ""
}

// routineResult chooses the result, and what stands around the call.
func (b *queryBuilder) routineResult(n *NamedQuery, r *catalog.Routine, outputs []catalog.Column, pieces *[]sqlquery.Piece) (fault string) {
	around := func(before, after string) {
		*pieces = append([]sqlquery.Piece{{Text: before, Arg: -1}}, append(*pieces, sqlquery.Piece{Text: after, Arg: -1})...)
	}
	returns, isSet := strings.CutPrefix(r.Returns, "SETOF ")
	isSet = isSet || strings.HasPrefix(returns, "TABLE(")
	n.Shape = sqlquery.Row
	if isSet {
		n.Shape = sqlquery.Rows
	}
	switch {
	case r.Kind == "procedure":
		around("CALL ", "")
		n.Shape = sqlquery.Nothing
		if len(outputs) > 0 {
			n.Shape = sqlquery.Row
			b.routineFields(n, outputs)
		}
	case len(outputs) > 1 || strings.HasPrefix(returns, "TABLE("):
		list := b.routineFields(n, outputs)
		around("SELECT "+list+" FROM ", "")
	case returns == "void" || returns == "":
		around("SELECT ", "")
		n.Shape = sqlquery.Nothing
	default:
		if e := b.tableNamed(returns); e != nil {
			var list []string
			for _, f := range e.Fields {
				list = append(list, b.output(f))
			}
			n.Entity = e
			around("SELECT "+strings.Join(list, ", ")+" FROM ", "")
			return ""
		}
		t, ok := sqlquery.TypeNamed(b.catalog, returns)
		if !ok {
			return fmt.Sprintf("the %s is not callable from the store: it returns %s", r.Kind, returns)
		}
		n.Value = b.field(catalog.Column{Name: r.Name, Declared: returns, Type: t, Nullable: true}, nil)
		cast := ""
		if n.Value.AsText() {
			cast = b.catalog.Engine.TextCast
		}
		around("SELECT ", cast)
	}
	return ""
}

// routineFields makes the fields of a row, and returns what is selected.
func (b *queryBuilder) routineFields(n *NamedQuery, outputs []catalog.Column) string {
	fields := newNamespace()
	var list []string
	for _, c := range outputs {
		f := b.field(c, nil)
		f.Name = fields.give(f.Name)
		n.Fields = append(n.Fields, f)
		list = append(list, b.output(f))
	}
	return strings.Join(list, ", ")
}

func (b *queryBuilder) output(f *Field) string {
	text := b.catalog.Engine.Quoted(f.Column.Name)
	if f.AsText() {
		text += b.catalog.Engine.TextCast
	}
	return text
}

func (b *queryBuilder) tableNamed(name string) *Entity {
	for _, e := range b.model.Entities {
		if e.Table.FullName() == name || e.Table.Name == name {
			return e
		}
	}
	return nil
}

// joined puts neighbouring texts together.
func joined(pieces []sqlquery.Piece) []sqlquery.Piece {
	var list []sqlquery.Piece
	for _, p := range pieces {
		if n := len(list); p.Arg < 0 && n > 0 && list[n-1].Arg < 0 {
			list[n-1].Text += p.Text
			continue
		}
		if p.Arg >= 0 || p.Text != "" {
			list = append(list, p)
		}
	}
	return list
}
