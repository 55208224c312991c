package scripts

import (
	"slices"
	"strconv"
	"strings"
)

// print prints an expression in the manner of the server, without the casts
// that it adds. What it does not know is printed as an empty text.
func (p *pg) print(n node) string {
	switch n.kind {
	case "":
		return ""
	case "A_Const":
		return constant(n)
	case "ColumnRef":
		var parts []string
		for _, f := range n.list("fields") {
			if f.kind == "A_Star" {
				parts = append(parts, "*")
				continue
			}
			parts = append(parts, quoteIdent(f.text("sval")))
		}
		return strings.Join(parts, ".")
	case "TypeCast":
		return p.printCast(n)
	case "A_Expr":
		return p.printOperation(n)
	case "BoolExpr":
		return p.printLogic(n)
	case "NullTest":
		if n.text("nulltesttype") == "IS_NULL" {
			return "(" + p.print(n.at("arg")) + " IS NULL)"
		}
		return "(" + p.print(n.at("arg")) + " IS NOT NULL)"
	case "BooleanTest":
		return "(" + p.print(n.at("arg")) + " " + strings.ReplaceAll(n.text("booltesttype"), "_", " ") + ")"
	case "FuncCall":
		return p.printCall(n)
	case "CoalesceExpr":
		return "COALESCE(" + p.printList(n.list("args")) + ")"
	case "MinMaxExpr":
		name := "GREATEST"
		if n.text("op") == "IS_LEAST" {
			name = "LEAST"
		}
		return name + "(" + p.printList(n.list("args")) + ")"
	case "SQLValueFunction":
		return strings.TrimSuffix(strings.TrimPrefix(n.text("op"), "SVFOP_"), "_N")
	case "A_ArrayExpr":
		return "ARRAY[" + p.printList(n.list("elements")) + "]"
	case "RowExpr":
		return "ROW(" + p.printList(n.list("args")) + ")"
	case "CaseExpr":
		return p.printCase(n)
	case "CollateClause":
		return "(" + p.print(n.at("arg")) + " COLLATE " + strings.Join(n.names("collname"), ".") + ")"
	case "A_Indirection":
		return p.printIndirection(n)
	case "List":
		return p.printList(n.list("items"))
	case "NamedArgExpr":
		return n.text("name") + " => " + p.print(n.at("arg"))
	case "SubLink":
		return "(SELECT …)"
	}
	return ""
}

func constant(n node) string {
	switch {
	case n.flag("isnull"):
		return "NULL"
	case n.has("ival"):
		return strconv.Itoa(n.at("ival").number("ival"))
	case n.has("fval"):
		return n.at("fval").text("fval")
	case n.has("boolval"):
		return strconv.FormatBool(n.at("boolval").flag("boolval"))
	case n.has("bsval"):
		text := n.at("bsval").text("bsval")
		return strings.ToUpper(text[:min(1, len(text))]) + "'" + text[min(1, len(text)):] + "'"
	}
	return "'" + strings.ReplaceAll(n.at("sval").text("sval"), "'", "''") + "'"
}

func (p *pg) printList(list []node) string {
	texts := make([]string, len(list))
	for i, n := range list {
		texts[i] = p.print(n)
	}
	return strings.Join(texts, ", ")
}

func (p *pg) printCast(n node) string {
	arg, to := n.at("arg"), p.typeOf(n.at("typeName"))
	text := p.print(arg)
	if to.declared == "boolean" && arg.kind == "A_Const" { // TRUE and FALSE
		switch strings.Trim(text, "'") {
		case "t", "true":
			return "true"
		case "f", "false":
			return "false"
		}
	}
	if arg.kind == "A_Const" && !strings.HasPrefix(text, "'") && text != "NULL" {
		text = "(" + text + ")"
	}
	return text + "::" + to.declared
}

func (p *pg) printOperation(n node) string {
	left, right := n.at("lexpr"), n.at("rexpr")
	operator := last(n.names("name"))
	switch n.text("kind") {
	case "AEXPR_IN":
		if operator == "<>" {
			return "(" + p.print(left) + " <> ALL (ARRAY[" + p.print(right) + "]))"
		}
		return "(" + p.print(left) + " = ANY (ARRAY[" + p.print(right) + "]))"
	case "AEXPR_OP_ANY":
		return "(" + p.print(left) + " " + operator + " ANY (" + p.print(right) + "))"
	case "AEXPR_OP_ALL":
		return "(" + p.print(left) + " " + operator + " ALL (" + p.print(right) + "))"
	case "AEXPR_BETWEEN", "AEXPR_BETWEEN_SYM":
		if bounds := right.list("items"); len(bounds) == 2 {
			l := p.print(left)
			return "((" + l + " >= " + p.print(bounds[0]) + ") AND (" + l + " <= " + p.print(bounds[1]) + "))"
		}
	case "AEXPR_DISTINCT":
		return "(" + p.print(left) + " IS DISTINCT FROM " + p.print(right) + ")"
	case "AEXPR_NOT_DISTINCT":
		return "(" + p.print(left) + " IS NOT DISTINCT FROM " + p.print(right) + ")"
	case "AEXPR_NULLIF":
		return "NULLIF(" + p.print(left) + ", " + p.print(right) + ")"
	}
	if left.kind == "" {
		if operator == "-" && right.kind == "A_Const" {
			return "'-" + p.print(right) + "'"
		}
		return "(" + operator + " " + p.print(right) + ")"
	}
	return "(" + p.print(left) + " " + operator + " " + p.print(right) + ")"
}

func (p *pg) printLogic(n node) string {
	args := n.list("args")
	if n.text("boolop") == "NOT_EXPR" {
		return "(NOT " + p.printList(args) + ")"
	}
	word := " AND "
	if n.text("boolop") == "OR_EXPR" {
		word = " OR "
	}
	texts := make([]string, len(args))
	for i, a := range args {
		texts[i] = p.print(a)
	}
	return "(" + strings.Join(texts, word) + ")"
}

func (p *pg) printCall(n node) string {
	names := slices.DeleteFunc(n.names("funcname"), func(s string) bool { return s == "pg_catalog" || s == ownSchema })
	for i := range names {
		names[i] = quoteIdent(names[i])
	}
	args := p.printList(n.list("args"))
	if n.flag("agg_star") {
		args = "*"
	}
	return strings.Join(names, ".") + "(" + args + ")"
}

func (p *pg) printCase(n node) string {
	var b strings.Builder
	b.WriteString("CASE")
	if n.has("arg") {
		b.WriteString(" " + p.print(n.at("arg")))
	}
	for _, when := range n.list("args") {
		b.WriteString(" WHEN " + p.print(when.at("expr")) + " THEN " + p.print(when.at("result")))
	}
	if n.has("defresult") {
		b.WriteString(" ELSE " + p.print(n.at("defresult")))
	}
	return b.String() + " END"
}

func (p *pg) printIndirection(n node) string {
	text := "(" + p.print(n.at("arg")) + ")"
	for _, part := range n.list("indirection") {
		switch part.kind {
		case "String":
			text += "." + quoteIdent(part.text("sval"))
		case "A_Indices":
			text += "[" + p.print(part.at("uidx")) + "]"
		}
	}
	return text
}

// columnsIn lists the columns that an expression names, each once.
func columnsIn(v any) []string {
	var names []string
	var walk func(v any)
	walk = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			if ref, ok := v["ColumnRef"]; ok {
				fields := nodeOf(ref).list("fields")
				if name := fields[len(fields)-1].text("sval"); name != "" && !slices.Contains(names, name) {
					names = append(names, name)
				}
				return
			}
			for _, key := range sortedKeys(v) {
				walk(v[key])
			}
		case []any:
			for _, item := range v {
				walk(item)
			}
		}
	}
	walk(v)
	return names
}

func sortedKeys(m map[string]any) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
