package scripts

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"widegate/internal/engine/postgres/dialect"
	"widegate/internal/sqltext/ddl"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

func scanPostgres(text string) []sqltext.Token { return sqltext.Scan(text, dialect.PostgreSQL) }

func (p *pg) createView(n node, text string) error {
	relation := n.at("view")
	if relation.text("relpersistence") == "t" {
		return nil
	}
	schema, name := p.target(relation)
	return p.addView(catalog.View, schema, name, n.names("aliases"), n.at("query"), text, relation, n.flag("replace"))
}

func (p *pg) addView(kind catalog.Kind, schema, name string, aliases []string, query node, text string, relation node, replace bool) error {
	q := p.query(query)
	t := &pgTable{Table: catalog.Table{Schema: schema, Name: name, Kind: kind, Definition: definition(text)}}
	if kind == catalog.BaseTable {
		t.Definition = ""
	}
	t.Columns = ddl.Rename(p.scope().ColumnsOf(q), aliases)
	t.Updatable = kind == catalog.View && q.Simple && p.canUpdate(q)
	if before := p.tables[t.FullName()]; before != nil && replace {
		t.Comment = before.Comment
		delete(p.tables, t.FullName())
	}
	_, err := p.add(t, relation, false)
	return err
}

// canUpdate reports whether a query reads one table, or a view that can be
// updated itself.
func (p *pg) canUpdate(q *ddl.Query) bool {
	if len(q.From) != 1 || q.From[0].Query != nil || q.From[0].Columns != nil {
		return false
	}
	t := p.find(q.From[0].Schema, q.From[0].Name)
	return t != nil && (t.Kind == catalog.BaseTable || t.Updatable)
}

// createRule takes the rules that old dumps make views of.
func (p *pg) createRule(n node, text string) error {
	actions := n.list("actions")
	if n.text("event") != "CMD_SELECT" || len(actions) != 1 {
		return nil
	}
	t, err := p.table(n.at("relation"))
	if err != nil {
		return err
	}
	t.Kind, t.Definition = catalog.View, definition(text)
	return nil
}

func (p *pg) createTableAs(n node, text string) error {
	into := n.at("into")
	relation := into.at("rel")
	if relation.text("relpersistence") == "t" {
		return nil
	}
	schema, name := p.target(relation)
	if p.tables[catalog.Qualify(schema, name)] != nil && n.flag("if_not_exists") {
		return nil
	}
	kind := catalog.BaseTable
	if n.text("objtype") == "OBJECT_MATVIEW" {
		kind = catalog.MaterializedView
	}
	return p.addView(kind, schema, name, into.names("colNames"), n.at("query"), text, relation, false)
}

// definition is the text behind the first AS.
func definition(text string) string {
	for _, t := range scanPostgres(text) {
		if t.Is("AS") {
			return strings.TrimSpace(text[t.To:])
		}
	}
	return text
}

func (p *pg) scope() *ddl.Scope {
	return &ddl.Scope{Call: p.callType, With: map[string][]catalog.Column{}, Tables: func(schema, name string) ([]catalog.Column, bool) {
		if t := p.find(schema, name); t != nil {
			return t.Columns, true
		}
		return nil, false
	}}
}

// query reduces a SelectStmt.
func (p *pg) query(n node) *ddl.Query {
	if n.kind != "SelectStmt" && n.kind != "" {
		return &ddl.Query{}
	}
	q := &ddl.Query{}
	for _, cte := range n.at("withClause").list("ctes") {
		q.With = append(q.With, ddl.With{Name: cte.text("ctename"), Columns: cte.names("aliascolnames"), Query: p.query(cte.at("ctequery"))})
	}
	if op := n.text("op"); op != "" && op != "SETOP_NONE" {
		left := p.query(node{"SelectStmt", n.at("larg").fields})
		left.With = append(q.With, left.With...)
		left.Simple = false
		return left
	}
	if values := n.list("valuesLists"); len(values) > 0 {
		for i, v := range values[0].list("items") {
			q.Outputs = append(q.Outputs, ddl.Output{Name: "column" + strconv.Itoa(i+1), Expr: p.expr(v)})
		}
		return q
	}
	for _, from := range n.list("fromClause") {
		p.addSources(q, from, nil)
	}
	for _, target := range n.list("targetList") {
		val := target.at("val")
		q.Outputs = append(q.Outputs, ddl.Output{Name: cmp.Or(target.text("name"), outputName(val)), Expr: p.expr(val)})
	}
	q.Simple = !n.has("distinctClause") && !n.has("groupClause") && !n.has("havingClause") && !n.has("limitCount") &&
		!n.has("limitOffset") && !n.has("withClause") && !slices.ContainsFunc(n.list("targetList"), func(t node) bool { return isAggregate(t.at("val")) })
	return q
}

// isAggregate reports whether a call makes one row of many.
func isAggregate(n node) bool {
	return n.kind == "FuncCall" && (n.flag("agg_star") || n.has("over") || slices.Contains([]string{"count", "sum", "avg", "min", "max", "array_agg", "string_agg", "bool_and", "bool_or", "json_agg", "jsonb_agg"}, last(n.names("funcname"))))
}

func (p *pg) addSources(q *ddl.Query, n node, using []string) {
	alias := n.at("alias")
	switch n.kind {
	case "RangeVar":
		q.From = append(q.From, ddl.Source{
			Schema: n.text("schemaname"), Name: n.text("relname"), Alias: cmp.Or(alias.text("aliasname"), n.text("relname")),
			Renamed: alias.names("colnames"), Using: using,
		})
	case "RangeSubselect":
		q.From = append(q.From, ddl.Source{Query: p.query(n.at("subquery")), Alias: alias.text("aliasname"), Renamed: alias.names("colnames"), Using: using})
	case "RangeFunction":
		q.From = append(q.From, p.functionSource(n, alias))
	case "JoinExpr":
		p.addSources(q, n.at("larg"), using)
		p.addSources(q, n.at("rarg"), n.names("usingClause"))
	}
}

// functionSource gives a function in FROM its columns where they are declared.
func (p *pg) functionSource(n, alias node) ddl.Source {
	s := ddl.Source{Alias: alias.text("aliasname"), Renamed: alias.names("colnames"), Columns: []catalog.Column{}}
	for _, c := range n.list("coldeflist") {
		typ := p.typeOf(c.at("typeName"))
		s.Columns = append(s.Columns, catalog.Column{Name: c.text("colname"), Declared: typ.declared, Type: typ.typ})
	}
	functions := n.list("functions")
	if len(s.Columns) > 0 || len(functions) == 0 {
		return s
	}
	items := functions[0].list("items")
	if len(items) == 0 {
		return s
	}
	call := p.scope().TypeOf(p.expr(items[0]))
	call.Name = cmp.Or(s.Alias, outputName(items[0]))
	s.Columns = []catalog.Column{call}
	if s.Alias == "" {
		s.Alias = call.Name
	}
	return s
}

// outputName is what the server calls a column without an alias.
func outputName(n node) string {
	switch n.kind {
	case "ColumnRef":
		fields := n.list("fields")
		return fields[len(fields)-1].text("sval")
	case "FuncCall":
		return last(n.names("funcname"))
	case "TypeCast":
		if name := outputName(n.at("arg")); name != "" {
			return name
		}
		return last(n.at("typeName").names("names"))
	case "CoalesceExpr":
		return "coalesce"
	case "MinMaxExpr":
		return strings.ToLower(strings.TrimPrefix(n.text("op"), "IS_"))
	case "CaseExpr":
		if name := outputName(n.at("defresult")); name != "" {
			return name
		}
		return "case"
	case "A_ArrayExpr":
		return "array"
	case "CollateClause", "A_Indirection":
		return outputName(n.at("arg"))
	case "SQLValueFunction":
		return strings.ToLower(strings.TrimPrefix(n.text("op"), "SVFOP_"))
	case "SubLink":
		if n.text("subLinkType") == "EXISTS_SUBLINK" {
			return "exists"
		}
		for _, t := range n.at("subselect").list("targetList") {
			return cmp.Or(t.text("name"), outputName(t.at("val")))
		}
	}
	return ""
}

func (p *pg) known(name string) ddl.Expr {
	c := p.builtinType(name, nil)
	return ddl.Expr{Kind: ddl.TypedExpr, Typed: catalog.Column{Declared: c.declared, Type: c.typ}}
}

func (p *pg) exprs(list []node) []ddl.Expr {
	out := make([]ddl.Expr, len(list))
	for i, n := range list {
		out[i] = p.expr(n)
	}
	return out
}

func (p *pg) expr(n node) ddl.Expr {
	switch n.kind {
	case "ColumnRef":
		var names []string
		for _, f := range n.list("fields") {
			if f.kind == "A_Star" {
				return ddl.Expr{Kind: ddl.StarExpr, Names: names}
			}
			names = append(names, f.text("sval"))
		}
		return ddl.Expr{Kind: ddl.ColumnExpr, Names: names}
	case "TypeCast":
		c := p.typeOf(n.at("typeName"))
		return ddl.Expr{Kind: ddl.TypedExpr, Typed: catalog.Column{Declared: c.declared, Type: c.typ, Domain: c.domain}}
	case "A_Const":
		switch {
		case n.has("ival"):
			return p.known("int4")
		case n.has("fval"):
			return p.known("numeric")
		case n.has("boolval"):
			return p.known("bool")
		case n.has("sval"):
			return p.known("text")
		}
	case "FuncCall":
		return ddl.Expr{Kind: ddl.CallExpr, Names: n.names("funcname"), Args: p.exprs(n.list("args"))}
	case "CoalesceExpr", "MinMaxExpr":
		return ddl.Expr{Kind: ddl.ChoiceExpr, Args: p.exprs(n.list("args"))}
	case "CaseExpr":
		e := ddl.Expr{Kind: ddl.ChoiceExpr}
		for _, when := range n.list("args") {
			e.Args = append(e.Args, p.expr(when.at("result")))
		}
		e.Args = append(e.Args, p.expr(n.at("defresult")))
		return e
	case "BoolExpr", "NullTest", "BooleanTest":
		return p.known("bool")
	case "SQLValueFunction":
		switch n.text("op") {
		case "SVFOP_CURRENT_DATE":
			return p.known("date")
		case "SVFOP_CURRENT_TIMESTAMP", "SVFOP_CURRENT_TIMESTAMP_N":
			return p.known("timestamptz")
		}
		return p.known("name")
	case "CollateClause":
		return p.expr(n.at("arg"))
	case "SubLink":
		switch n.text("subLinkType") {
		case "EXISTS_SUBLINK", "ANY_SUBLINK", "ALL_SUBLINK":
			return p.known("bool")
		case "ARRAY_SUBLINK":
			return ddl.Expr{Kind: ddl.CallExpr, Names: []string{"array_agg"}, Args: []ddl.Expr{{Kind: ddl.QueryExpr, Query: p.query(n.at("subselect"))}}}
		}
		return ddl.Expr{Kind: ddl.QueryExpr, Query: p.query(n.at("subselect"))}
	case "A_ArrayExpr":
		return ddl.Expr{Kind: ddl.CallExpr, Names: []string{"array_agg"}, Args: p.exprs(n.list("elements"))}
	case "A_Expr":
		return p.operation(n)
	}
	return ddl.Expr{}
}

func (p *pg) operation(n node) ddl.Expr {
	if n.text("kind") == "AEXPR_NULLIF" {
		return p.expr(n.at("lexpr"))
	}
	operator := last(n.names("name"))
	if n.text("kind") != "AEXPR_OP" {
		return p.known("bool")
	}
	switch operator {
	case "=", "<>", "<", ">", "<=", ">=", "~", "~*", "!~", "!~*", "~~", "!~~", "@>", "<@", "&&", "?", "@@":
		return p.known("bool")
	case "->>", "#>>":
		return p.known("text")
	}
	args := []ddl.Expr{p.expr(n.at("rexpr"))}
	if n.has("lexpr") {
		args = append([]ddl.Expr{p.expr(n.at("lexpr"))}, args...)
	}
	return ddl.Expr{Kind: ddl.CallExpr, Names: []string{"operator " + operator}, Args: args}
}

// numberRank orders the types of numbers as the server widens them.
var numberRank = map[string]int{"smallint": 1, "integer": 2, "bigint": 3, "numeric": 4, "real": 5, "double precision": 6}

// resultTypes are the types of what functions give, whatever they are given.
var resultTypes = sqltext.ByName(map[string]string{
	"int8":        "count row_number rank dense_rank ntile",
	"int4":        "length char_length octet_length strpos position array_length cardinality ascii",
	"numeric":     "stddev variance stddev_pop stddev_samp extract date_part_numeric",
	"float8":      "date_part random similarity ts_rank",
	"timestamptz": "now to_timestamp clock_timestamp transaction_timestamp statement_timestamp",
	"date":        "to_date make_date",
	"interval":    "age make_interval justify_days",
	"bool":        "bool_and bool_or every exists starts_with has_table_privilege",
	"json":        "json_agg json_build_object row_to_json to_json json_object_agg json_build_array",
	"jsonb":       "jsonb_agg jsonb_build_object to_jsonb jsonb_object_agg jsonb_build_array",
	"uuid":        "gen_random_uuid uuid_generate_v4",
	"tsvector":    "to_tsvector",
	"text": `lower upper initcap substring substr concat concat_ws trim btrim ltrim rtrim replace format to_char string_agg left right lpad rpad md5 split_part
		regexp_replace array_to_string repeat reverse quote_ident`,
})

// argumentTypes are the functions whose result depends on their arguments.
var argumentTypes = sqltext.ByName(map[string]string{
	likeFirst: "min max first_value last_value lag lead nth_value generate_series abs mode any_value",
	rounded:   "round trunc ceil ceiling floor mod",
	summed:    "sum",
	averaged:  "avg",
	listed:    "array_agg",
	unlisted:  "unnest",
	truncated: "date_trunc",
})

const (
	likeFirst = "first"
	rounded   = "rounded"
	summed    = "sum"
	averaged  = "average"
	listed    = "list"
	unlisted  = "element"
	truncated = "second"
)

// callType knows what the functions and operators return that views use most.
func (p *pg) callType(name string, args []catalog.Column) catalog.Column {
	if typ, ok := resultTypes[name]; ok {
		return p.known(typ).Typed
	}
	if of, ok := argumentTypes[name]; ok {
		return p.typeOfArguments(of, args)
	}
	if operator, ok := strings.CutPrefix(name, "operator "); ok {
		return p.operatorType(operator, args)
	}
	for _, r := range p.routines {
		if r.Name == name && r.Returns != "" {
			if n, err := parseTree("SELECT NULL::" + strings.TrimPrefix(r.Returns, "SETOF ")); err == nil && n.kind == "SelectStmt" {
				c := p.typeOf(n.list("targetList")[0].at("val").at("typeName"))
				return catalog.Column{Declared: c.declared, Type: c.typ}
			}
		}
	}
	return ddl.UnknownColumn()
}

// typeOfArguments is the type of a result that depends on the arguments.
func (p *pg) typeOfArguments(of string, args []catalog.Column) catalog.Column {
	first := ddl.UnknownColumn()
	if len(args) > 0 {
		first = args[0]
	}
	isFloat := first.Type.Kind == catalog.Float
	switch {
	case of == likeFirst:
		return withoutModifier(first)
	case of == truncated && len(args) > 1:
		return withoutModifier(args[1])
	case of == listed:
		return arrayOf(first)
	case of == unlisted && first.Type.Element != nil:
		return catalog.Column{Declared: strings.TrimSuffix(first.Declared, "[]"), Type: *first.Type.Element}
	case of == unlisted || of == truncated:
		return ddl.UnknownColumn()
	case of == summed && (first.Declared == "smallint" || first.Declared == "integer"):
		return p.known("int8").Typed
	case of == summed && (isFloat || first.Declared == "interval" || first.Declared == "money"), of == averaged && first.Type.Kind == catalog.Interval:
		return first
	case of != summed && isFloat:
		return p.known("float8").Typed
	}
	return p.known("numeric").Typed
}

// withoutModifier drops sizes and digits, which a computed value has not.
func withoutModifier(c catalog.Column) catalog.Column {
	c.Declared = bareType(c.Declared)
	c.Type.Precision, c.Type.Scale, c.Type.Size = 0, 0, 0
	c.Domain = ""
	return c
}

func arrayOf(c catalog.Column) catalog.Column {
	if c.Declared == "" {
		return ddl.UnknownColumn()
	}
	element := withoutModifier(c)
	return catalog.Column{Declared: element.Declared + "[]", Type: catalog.Type{Kind: catalog.Array, Element: &element.Type, Name: element.Declared}}
}

func (p *pg) operatorType(operator string, args []catalog.Column) catalog.Column {
	known := func(typ string) catalog.Column { return p.known(typ).Typed }
	if len(args) == 1 {
		return withoutModifier(args[0])
	}
	a, b := withoutModifier(args[0]), withoutModifier(args[1])
	rankA, rankB := numberRank[a.Declared], numberRank[b.Declared]
	switch {
	case operator == "||":
		if a.Type.Kind == catalog.Array || a.Declared == "jsonb" || a.Declared == "tsvector" {
			return a
		}
		return known("text")
	case operator == "->", operator == "#>":
		return a
	case rankA > 0 && rankB > 0 && (rankA == 5 || rankB == 5) && rankA != rankB:
		return known("float8")
	case rankA > 0 && rankB > 0 && rankA >= rankB:
		return a
	case rankA > 0 && rankB > 0:
		return b
	case operator == "-" && a.Type.Kind == catalog.Date && b.Type.Kind == catalog.Date:
		return known("int4")
	case operator == "-" && (a.Type.Kind == catalog.Timestamp || a.Type.Kind == catalog.TimestampTZ) && b.Type.Kind == a.Type.Kind:
		return known("interval")
	case a.Type.Kind == catalog.Date && b.Type.Kind == catalog.Interval:
		return known("timestamp")
	case a.Type.Kind == catalog.Interval && b.Type.Kind != catalog.Interval && rankB == 0:
		return b
	case a.Declared != "":
		return a
	}
	return b
}
