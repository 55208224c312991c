package scripts

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"widegate/internal/engine/mysql/dialect"
	"widegate/internal/sqltext/ddl"

	"github.com/pingcap/tidb/pkg/parser/ast"

	"widegate/internal/catalog"
	"widegate/internal/engine/mysql/live"
	"widegate/internal/sqltext"
)

func (m *my) createView(n *ast.CreateViewStmt, text string) {
	q := m.query(n.Select)
	t := &myTable{Table: catalog.Table{Schema: m.schemaOf(n.ViewName), Name: n.ViewName.Name.O, Kind: catalog.View, Rows: -1, Options: viewOptions(text)}}
	t.Definition = strings.TrimSpace(restore(n.Select))
	t.Columns = m.scope().ColumnsOf(q)
	for i, name := range n.Cols {
		if i < len(t.Columns) {
			t.Columns[i].Name = name.O
		}
	}
	if q.Simple && len(q.From) == 1 && q.From[0].Query == nil {
		source := m.tables[catalog.Qualify(q.From[0].Schema, q.From[0].Name)]
		t.Updatable = source != nil && (!source.IsView() || source.Updatable)
	}
	m.tables[t.FullName()] = t
}

func (m *my) scope() *ddl.Scope {
	return &ddl.Scope{Call: m.callType, Comments: true, With: map[string][]catalog.Column{}, Tables: func(schema, name string) ([]catalog.Column, bool) {
		full := catalog.Qualify(schema, name)
		for known, t := range m.tables {
			if strings.EqualFold(known, full) {
				return t.Columns, true
			}
		}
		return nil, false
	}}
}

// query reduces a SELECT or a union of them.
func (m *my) query(n ast.Node) *ddl.Query {
	switch n := n.(type) {
	case *ast.SetOprStmt:
		first := &ddl.Query{}
		if len(n.SelectList.Selects) > 0 {
			first = m.query(n.SelectList.Selects[0])
		}
		first.With = append(m.with(n.With), first.With...)
		first.Simple = false
		return first
	case *ast.SetOprSelectList:
		if len(n.Selects) > 0 {
			q := m.query(n.Selects[0])
			q.Simple = false
			return q
		}
	case *ast.SelectStmt:
		return m.selectQuery(n)
	case *ast.SubqueryExpr:
		return m.query(n.Query)
	}
	return &ddl.Query{}
}

func (m *my) with(clause *ast.WithClause) []ddl.With {
	var list []ddl.With
	if clause == nil {
		return nil
	}
	for _, cte := range clause.CTEs {
		w := ddl.With{Name: cte.Name.O, Query: m.query(cte.Query)}
		for _, c := range cte.ColNameList {
			w.Columns = append(w.Columns, c.O)
		}
		list = append(list, w)
	}
	return list
}

func (m *my) selectQuery(n *ast.SelectStmt) *ddl.Query {
	q := &ddl.Query{With: m.with(n.With)}
	if n.From != nil {
		m.addSources(q, n.From.TableRefs, nil)
	}
	if n.Fields == nil {
		return q
	}
	aggregate := false
	for _, f := range n.Fields.Fields {
		if f.WildCard != nil {
			e := ddl.Expr{Kind: ddl.StarExpr}
			if f.WildCard.Table.O != "" {
				e.Names = []string{f.WildCard.Table.O}
			}
			q.Outputs = append(q.Outputs, ddl.Output{Expr: e})
			continue
		}
		switch f.Expr.(type) {
		case *ast.AggregateFuncExpr, *ast.WindowFuncExpr:
			aggregate = true
		}
		q.Outputs = append(q.Outputs, ddl.Output{Name: fieldName(f), Expr: m.expr(f.Expr)})
	}
	q.Simple = !n.Distinct && n.GroupBy == nil && n.Having == nil && n.Limit == nil && n.With == nil && !aggregate
	return q
}

// fieldName is the alias, the column's name, or the text itself.
func fieldName(f *ast.SelectField) string {
	if f.AsName.O != "" {
		return f.AsName.O
	}
	if c, ok := f.Expr.(*ast.ColumnNameExpr); ok {
		return c.Name.Name.O
	}
	return strings.TrimSpace(f.Text())
}

func (m *my) addSources(q *ddl.Query, n ast.ResultSetNode, using []string) {
	switch n := n.(type) {
	case *ast.Join:
		m.addSources(q, n.Left, using)
		if n.Right != nil {
			var names []string
			for _, c := range n.Using {
				names = append(names, c.Name.O)
			}
			m.addSources(q, n.Right, names)
		}
	case *ast.TableSource:
		alias := n.AsName.O
		if name, ok := n.Source.(*ast.TableName); ok {
			q.From = append(q.From, ddl.Source{Schema: m.schemaOf(name), Name: name.Name.O, Alias: cmp.Or(alias, name.Name.O), Using: using})
			return
		}
		q.From = append(q.From, ddl.Source{Query: m.query(n.Source), Alias: alias, Using: using})
	}
}

func myKnown(dataType, declared string, size, precision, scale int64) ddl.Expr {
	return ddl.Expr{Kind: ddl.TypedExpr, Typed: catalog.Column{Declared: declared, Type: live.TypeOf(dataType, declared, size, precision, scale)}}
}

var (
	myBigint = myKnown("bigint", "bigint", 0, 0, 0)
	myInt    = myKnown("int", "int", 0, 0, 0)
	myDouble = myKnown("double", "double", 0, 0, 0)
	myText   = myKnown("longtext", "longtext", 0, 0, 0)
)

func (m *my) expr(n ast.ExprNode) ddl.Expr {
	switch n := n.(type) {
	case *ast.ColumnNameExpr:
		if n.Name.Table.O != "" {
			return ddl.Expr{Kind: ddl.ColumnExpr, Names: []string{n.Name.Table.O, n.Name.Name.O}}
		}
		return ddl.Expr{Kind: ddl.ColumnExpr, Names: []string{n.Name.Name.O}}
	case *ast.ParenthesesExpr:
		return m.expr(n.Expr)
	case *ast.SubqueryExpr:
		return ddl.Expr{Kind: ddl.QueryExpr, Query: m.query(n.Query)}
	case *ast.AggregateFuncExpr:
		return ddl.Expr{Kind: ddl.CallExpr, Names: []string{strings.ToLower(n.F)}, Args: m.exprs(n.Args)}
	case *ast.WindowFuncExpr:
		return ddl.Expr{Kind: ddl.CallExpr, Names: []string{strings.ToLower(n.Name)}, Args: m.exprs(n.Args)}
	case *ast.FuncCallExpr:
		name := n.FnName.L
		if name == "coalesce" || name == "ifnull" || name == "nullif" || name == "greatest" || name == "least" {
			return ddl.Expr{Kind: ddl.ChoiceExpr, Args: m.exprs(n.Args)}
		}
		if name == "if" && len(n.Args) == 3 {
			return ddl.Expr{Kind: ddl.ChoiceExpr, Args: m.exprs(n.Args[1:])}
		}
		return ddl.Expr{Kind: ddl.CallExpr, Names: []string{name}, Args: m.exprs(n.Args)}
	case *ast.FuncCastExpr:
		declared, typ := m.fieldType(n.Tp)
		return ddl.Expr{Kind: ddl.TypedExpr, Typed: catalog.Column{Declared: declared, Type: typ}}
	case *ast.CaseExpr:
		e := ddl.Expr{Kind: ddl.ChoiceExpr}
		for _, w := range n.WhenClauses {
			e.Args = append(e.Args, m.expr(w.Result))
		}
		if n.ElseClause != nil {
			e.Args = append(e.Args, m.expr(n.ElseClause))
		}
		return e
	case *ast.BinaryOperationExpr:
		return m.operation(n)
	case *ast.UnaryOperationExpr:
		return m.expr(n.V)
	case *ast.IsNullExpr, *ast.ExistsSubqueryExpr, *ast.PatternInExpr, *ast.BetweenExpr, *ast.PatternLikeOrIlikeExpr, *ast.IsTruthExpr, *ast.CompareSubqueryExpr:
		return myInt
	case ast.ValueExpr:
		switch n.GetValue().(type) {
		case int64, uint64:
			return myInt
		case string, []byte:
			return myText
		}
	}
	return ddl.Expr{}
}

func (m *my) exprs(list []ast.ExprNode) []ddl.Expr {
	out := make([]ddl.Expr, len(list))
	for i, n := range list {
		out[i] = m.expr(n)
	}
	return out
}

func (m *my) operation(n *ast.BinaryOperationExpr) ddl.Expr {
	operator := n.Op.String()
	if slices.Contains([]string{"plus", "minus", "mul", "div", "intdiv", "mod"}, operator) {
		return ddl.Expr{Kind: ddl.CallExpr, Names: []string{"operator " + operator}, Args: []ddl.Expr{m.expr(n.L), m.expr(n.R)}}
	}
	return myInt
}

// resultTypes are the types of what functions give, whatever they are given.
var resultTypes = sqltext.ByName(map[string]string{
	"bigint": "count row_number rank dense_rank length char_length bit_and bit_or unix_timestamp floor ceil ceiling mod",
	"int":    "year month day dayofmonth hour minute second datediff quarter week dayofyear locate sign timestampdiff to_days",
	"double": "sqrt pow power rand std stddev variance log exp",
	"text": `concat concat_ws group_concat lower upper lcase ucase substring substr trim ltrim rtrim replace left right lpad rpad date_format hex md5 sha1 sha2
		reverse format substring_index json_unquote`,
	"date":     "date curdate current_date last_day str_to_date makedate",
	"datetime": "now current_timestamp sysdate localtime utc_timestamp from_unixtime date_add date_sub timestamp",
	"json":     "json_object json_array json_extract json_arrayagg json_objectagg",
})

// resultColumns are the columns of those types.
var resultColumns = map[string]catalog.Column{
	"bigint": myBigint.Typed, "int": myInt.Typed, "double": myDouble.Typed, "text": myText.Typed,
	"date":     {Declared: "date", Type: catalog.Type{Kind: catalog.Date}},
	"datetime": {Declared: "datetime", Type: catalog.Type{Kind: catalog.Timestamp}},
	"json":     {Declared: "json", Type: catalog.Type{Kind: catalog.JSON}},
}

// callType knows what the functions return that views use most.
func (m *my) callType(name string, args []catalog.Column) catalog.Column {
	if typ, ok := resultTypes[name]; ok {
		return resultColumns[typ]
	}
	first := ddl.UnknownColumn()
	if len(args) > 0 {
		first = args[0]
	}
	switch name {
	case "min", "max", "any_value", "first_value", "last_value", "lag", "lead", "abs":
		return first
	case "sum":
		return widened(sumType(args), args, 22, 0)
	case "avg":
		return widened(sumType(args), args, 4, 4)
	case "operator plus", "operator minus", "operator mul":
		if !slices.ContainsFunc(args, func(c catalog.Column) bool { return c.Type.Kind != catalog.Int }) {
			return myBigint.Typed
		}
		return sumType(args)
	case "round", "truncate", "operator div":
		return sumType(args)
	case "operator intdiv", "operator mod":
		return myBigint.Typed
	}
	return ddl.UnknownColumn()
}

// sumType is a floating-point number where one argument is, else a decimal.
func sumType(args []catalog.Column) catalog.Column {
	for _, a := range args {
		if a.Type.Kind == catalog.Float || isText(a.Type) {
			return myDouble.Typed
		}
	}
	return catalog.Column{Declared: "decimal", Type: catalog.Type{Kind: catalog.Decimal}}
}

// widened has more digits, before and after the point, than the decimal that
// is summed.
func widened(c catalog.Column, args []catalog.Column, digits, scale int) catalog.Column {
	if c.Type.Kind != catalog.Decimal || len(args) != 1 || args[0].Type.Kind != catalog.Decimal {
		return c
	}
	c.Type.Precision, c.Type.Scale = min(args[0].Type.Precision+digits, 65), args[0].Type.Scale+scale
	c.Declared = fmt.Sprintf("decimal(%d,%d)", c.Type.Precision, c.Type.Scale)
	return c
}

// createRoutine reads the head of a function or procedure, which the grammar does not
// know, and reports whether there was one.
func (m *my) createRoutine(text string) bool {
	tokens := sqltext.Scan(text, dialect.MySQL)
	r := catalog.Routine{Volatility: "contains sql", Definition: text}
	open := -1
	for i, t := range tokens {
		if t.Is("FUNCTION") || t.Is("PROCEDURE") {
			r.Kind = strings.ToLower(t.Text)
		}
		if r.Kind != "" && t.Sign("(") {
			open = i
			break
		}
	}
	if open < 1 {
		return false
	}
	r.Name = tokens[open-1].Text
	depth, start := 0, open+1
	end := len(tokens)
	for i := open; i < len(tokens) && end == len(tokens); i++ {
		switch t := tokens[i]; {
		case t.Sign("("):
			depth++
		case t.Sign(",") && depth == 1:
			r.Arguments = appendArgument(r.Arguments, text, tokens[start:i])
			start = i + 1
		case t.Sign(")"):
			if depth--; depth == 0 {
				r.Arguments = appendArgument(r.Arguments, text, tokens[start:i])
				end = i + 1
			}
		}
	}
	m.readTail(&r, text, tokens[end:])
	m.dropNamed(r.Name)
	m.routine = append(m.routine, r)
	return true
}

func appendArgument(list []catalog.Argument, text string, tokens []sqltext.Token) []catalog.Argument {
	if len(tokens) < 2 {
		return list
	}
	a := catalog.Argument{}
	if mode := strings.ToLower(tokens[0].Text); tokens[0].Kind == sqltext.Word && (mode == "in" || mode == "out" || mode == "inout") && len(tokens) > 2 {
		if mode != "in" {
			a.Mode = mode
		}
		tokens = tokens[1:]
	}
	a.Name = tokens[0].Text
	a.Declared = typeText(text[tokens[1].From:tokens[len(tokens)-1].To])
	return append(list, a)
}

// typeText writes a declared type as the server does.
func typeText(s string) string {
	s = strings.ReplaceAll(strings.ToLower(s), ", ", ",")
	if s == "bool" || s == "boolean" {
		return "tinyint(1)"
	}
	return s
}

// readTail reads what stands between the arguments and the body.
func (m *my) readTail(r *catalog.Routine, text string, tokens []sqltext.Token) {
	for i, t := range tokens {
		next := func(n int, word string) bool { return i+n < len(tokens) && tokens[i+n].Is(word) }
		switch {
		case t.Is("RETURNS") && i+1 < len(tokens):
			last := i + 1
			if last+1 < len(tokens) && tokens[last+1].Sign("(") {
				last += 1 + closing(tokens[last+1:])
			}
			for last+1 < len(tokens) && (tokens[last+1].Is("unsigned") || tokens[last+1].Is("zerofill")) {
				last++
			}
			r.Returns = typeText(text[tokens[i+1].From:tokens[last].To])
		case t.Is("READS") && next(1, "SQL"):
			r.Volatility = "reads sql data"
		case t.Is("MODIFIES") && next(1, "SQL"):
			r.Volatility = "modifies sql data"
		case t.Is("NO") && next(1, "SQL"):
			r.Volatility = "no sql"
		case t.Is("COMMENT") && i+1 < len(tokens):
			r.Comment = tokens[i+1].Text
		case t.Is("BEGIN"), t.Is("RETURN"), t.Is("SELECT"):
			return
		}
	}
}

// alterRoutine changes the characteristics of a routine.
func (m *my) alterRoutine(text string) {
	tokens := sqltext.Scan(text, dialect.MySQL)
	for i := range m.routine {
		at := slices.IndexFunc(tokens, func(t sqltext.Token) bool { return strings.EqualFold(t.Text, m.routine[i].Name) })
		if at > 0 {
			m.readTail(&m.routine[i], text, tokens[at+1:])
		}
	}
}

func (m *my) dropRoutine(text string) {
	tokens := sqltext.Scan(text, dialect.MySQL)
	m.dropNamed(tokens[len(tokens)-1].Text)
}

func (m *my) dropNamed(name string) {
	m.routine = slices.DeleteFunc(m.routine, func(r catalog.Routine) bool { return strings.EqualFold(r.Name, name) })
}
