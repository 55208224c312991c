package live

import (
	"strings"

	"widegate/internal/engine/sqlite/dialect"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// typeViews finds types for the view columns to which the engine gives none:
// those that are expressions. It knows the aggregates, and subqueries that
// select one; anything else stays as it was and is carried as text.
func (r *reader) typeViews() {
	for i := range r.catalog.Tables {
		t := &r.catalog.Tables[i]
		if !t.IsView() {
			continue
		}
		var outputs [][]sqltext.Token
		var sources map[string]*catalog.Table
		for k := range t.Columns {
			if t.Columns[k].Declared != "" {
				continue
			}
			if outputs == nil {
				outputs, sources = r.selectParts(viewBody(sqltext.Scan(t.Definition, dialect.SQLite)))
			}
			if k < len(outputs) && len(outputs) == len(t.Columns) {
				t.Columns[k].Type = r.expressionType(outputs[k], sources)
			}
		}
	}
}

// viewBody returns the tokens of a view's query.
func viewBody(tokens []sqltext.Token) []sqltext.Token {
	for i, t := range tokens {
		if t.Is("SELECT") {
			return tokens[i:]
		}
	}
	return nil
}

// selectParts returns what a SELECT puts out, one expression a column, and the
// tables it reads by their aliases.
func (r *reader) selectParts(tokens []sqltext.Token) (outputs [][]sqltext.Token, sources map[string]*catalog.Table) {
	sources = map[string]*catalog.Table{}
	depth, inOutputs := 0, false
	var output []sqltext.Token
	for i, t := range tokens {
		switch {
		case t.Kind == sqltext.Comment:
			continue
		case t.Sign("("):
			depth++
		case t.Sign(")"):
			depth--
		case depth > 0:
		case i == 0 && t.Is("SELECT"):
			inOutputs = true
			continue
		case inOutputs && (t.Sign(",") || t.Is("FROM")):
			outputs = append(outputs, output)
			output = nil
			inOutputs = !t.Is("FROM")
			if inOutputs {
				continue
			}
		}
		if inOutputs {
			output = append(output, t)
		}
		if depth == 0 && (t.Is("FROM") || t.Is("JOIN")) {
			r.addSource(tokens[i+1:], sources)
		}
	}
	return outputs, sources
}

// addSource records "table alias" or "table AS alias".
func (r *reader) addSource(tokens []sqltext.Token, sources map[string]*catalog.Table) {
	if len(tokens) == 0 {
		return
	}
	name := r.realName(tokens[0].Text)
	if _, ok := r.tables[name]; !ok {
		return
	}
	t := r.table(name)
	sources[strings.ToLower(name)] = t
	rest := tokens[1:]
	if len(rest) > 0 && rest[0].Is("AS") {
		rest = rest[1:]
	}
	if len(rest) > 0 && (rest[0].Kind == sqltext.Word || rest[0].Kind == sqltext.QuotedName) {
		sources[strings.ToLower(rest[0].Text)] = t
	}
}

func (r *reader) expressionType(expr []sqltext.Token, sources map[string]*catalog.Table) catalog.Type {
	unknown := catalog.Type{Kind: catalog.Other}
	if n := len(expr); n > 2 && expr[n-2].Is("AS") {
		expr = expr[:n-2]
	}
	if len(expr) == 0 {
		return unknown
	}
	if expr[0].Sign("(") && closing(expr, 0) == len(expr)-1 {
		inner := expr[1 : len(expr)-1]
		if len(inner) > 0 && inner[0].Is("SELECT") {
			outputs, from := r.selectParts(inner)
			if len(outputs) == 1 {
				return r.expressionType(outputs[0], from)
			}
			return unknown
		}
		return r.expressionType(inner, sources)
	}
	if expr[0].Kind == sqltext.Word && len(expr) > 2 && expr[1].Sign("(") && closing(expr, 1) == len(expr)-1 {
		return r.callType(strings.ToLower(expr[0].Text), expr[2:len(expr)-1], sources)
	}
	return columnOf(expr, sources)
}

func (r *reader) callType(function string, args []sqltext.Token, sources map[string]*catalog.Table) catalog.Type {
	switch function {
	case "count", "length", "row_number", "rank", "dense_rank":
		return catalog.Type{Kind: catalog.Int, Bits: 64}
	case "avg", "total":
		return catalog.Type{Kind: catalog.Float, Bits: 64}
	case "min", "max":
		return r.expressionType(args, sources)
	case "coalesce", "ifnull":
		for i, t := range args {
			if t.Sign(",") {
				return r.expressionType(args[:i], sources)
			}
		}
	case "sum":
		t := r.expressionType(args, sources)
		t.Precision, t.Scale = 0, 0
		return t
	case "group_concat", "lower", "upper", "substr", "trim", "printf", "replace", "date", "datetime", "strftime":
		return catalog.Type{Kind: catalog.Text}
	}
	return catalog.Type{Kind: catalog.Other}
}

// columnOf finds the type of "column" or "alias.column".
func columnOf(expr []sqltext.Token, sources map[string]*catalog.Table) catalog.Type {
	switch {
	case len(expr) == 3 && expr[1].Sign("."):
		if t, ok := sources[strings.ToLower(expr[0].Text)]; ok {
			if c, ok := t.Column(columnName(t, expr[2].Text)); ok {
				return c.Type
			}
		}
	case len(expr) == 1:
		for _, t := range sources {
			if c, ok := t.Column(columnName(t, expr[0].Text)); ok {
				return c.Type
			}
		}
	}
	return catalog.Type{Kind: catalog.Other}
}
