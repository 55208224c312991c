package golang

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"widegate/internal/model"
	"widegate/internal/printable"
	"widegate/internal/sqlquery"
)

// queries is what the template of a file of named queries sees.
func (r *renderer) queries(f *model.QueryFile) queriesView {
	return queriesView{Package: r.target.Package, Source: f.Source, Queries: f.Queries}
}

// queryDoc is the comment on a query's function.
func queryDoc(n *model.NamedQuery) string {
	text := comment(n.Doc)
	switch {
	case text == "":
		text = n.Name + " runs the query of that name."
	case !strings.HasPrefix(text, n.Name+" "):
		text = n.Name + ": " + lowerFirst(text)
	}
	switch n.Shape {
	case sqlquery.Row:
		return sentence(text) + " It returns gate.ErrNotFound where there is no row."
	case sqlquery.MaybeRow:
		return sentence(text) + " It reports whether there is a row."
	case sqlquery.Count:
		return sentence(text) + " It returns the number of rows that it touched."
	}
	return sentence(text)
}

// queryRow is the type of what a row is read to.
func queryRow(n *model.NamedQuery) string {
	switch {
	case n.Entity != nil:
		return n.Entity.Name
	case n.Value != nil:
		return FieldType(n.Value)
	}
	return n.Row
}

// queryResult are the results of a query's function.
func queryResult(n *model.NamedQuery) string {
	row := "*" + queryRow(n)
	if n.Value != nil {
		row = queryRow(n)
	}
	switch n.Shape {
	case sqlquery.Rows:
		return "([]" + row + ", error)"
	case sqlquery.Row:
		return "(" + row + ", error)"
	case sqlquery.MaybeRow:
		return "(" + row + ", bool, error)"
	case sqlquery.Count:
		return "(int64, error)"
	}
	return "error"
}

// queryReader is the runtime's function that reads the result, and fields what
// it is told of a row.
func queryReader(n *model.NamedQuery) string {
	if n.Out != "" {
		set := ""
		if len(n.In) > 0 {
			set = ", set"
		}
		return fmt.Sprintf("gate.ReadOut(ctx, db, q, %q, (*%s).fields%s)", n.Out, n.Row, set)
	}
	what := "Row"
	if n.Value != nil {
		what = "Value"
	}
	name := map[sqlquery.Shape]string{sqlquery.Rows: "Read" + what + "s", sqlquery.Row: "Read" + what, sqlquery.MaybeRow: "ReadMaybe" + what}[n.Shape]
	if n.Value != nil {
		return fmt.Sprintf("gate.%s(ctx, db, q, func(v *%s) any { return %s })", name, FieldType(n.Value), strings.ReplaceAll(pointerTo(n.Value, "(*v)"), "&(*v)", "v"))
	}
	if n.Entity != nil {
		return fmt.Sprintf("gate.%s(ctx, db, q, gate.FieldsOf(%sDef))", name, n.Entity.Local)
	}
	return fmt.Sprintf("gate.%s(ctx, db, q, (*%s).fields)", name, n.Row)
}

// rowFields are the steps that append the fields of a row.
func rowFields(n *model.NamedQuery) []string {
	var steps []string
	var plain []string
	flush := func() {
		if len(plain) > 0 {
			steps = append(steps, "to = append(to, "+strings.Join(plain, ", ")+")")
			plain = nil
		}
	}
	for _, f := range n.Fields {
		if f.Entity == nil {
			plain = append(plain, pointerTo(f, "row."+f.Name))
			continue
		}
		flush()
		kind := "AppendFields"
		if f.Nullable {
			kind = "AppendOptional"
		}
		steps = append(steps, fmt.Sprintf("to = gate.%s(%sDef, to, &row.%s)", kind, f.Entity.Local, f.Name))
	}
	if len(steps) == 0 {
		return []string{"return append(to, " + strings.Join(plain, ", ") + ")"}
	}
	flush()
	return append(steps, "return to")
}

// querySteps put the statement together, and the one that comes before it.
func querySteps(n *model.NamedQuery) []string {
	if len(n.In) == 0 {
		return statementSteps("q", n, n.Pieces)
	}
	return append(statementSteps("set", n, n.In), statementSteps("q", n, n.Pieces)...)
}

// statementSteps put a statement together in a variable.
func statementSteps(variable string, n *model.NamedQuery, pieces []sqlquery.Piece) []string {
	steps := []string{variable + " := gate.NewSQL(db)"}
	var chain []string
	var when sqlquery.Presence
	flush := func() {
		if len(chain) == 0 {
			return
		}
		line := variable + "." + strings.Join(chain, ".")
		if len(when) > 0 {
			line = "if " + present(n, when) + " {\n\t" + line + "\n}"
		}
		steps = append(steps, line)
		chain = nil
	}
	for _, p := range pieces {
		if !slices.EqualFunc(p.When, when, slices.Equal) {
			flush()
			when = p.When
		}
		arg := model.QueryArg{}
		if p.Arg >= 0 {
			arg = n.Args[p.Arg]
		}
		switch {
		case p.Arg < 0:
			chain = append(chain, "Text("+literal(p.Text)+")")
		case arg.Order != nil:
			texts := make([]string, len(arg.Order))
			for i, o := range arg.Order {
				texts[i] = strconv.Quote(o.SQL)
			}
			chain = append(chain, fmt.Sprintf("Choice(int(%s), %s)", arg.Name, strings.Join(texts, ", ")))
		case arg.List:
			flush()
			line := fmt.Sprintf("gate.In(%s, %t, %s)", variable, p.Not, arg.Name)
			if len(when) > 0 {
				line = "if " + present(n, when) + " {\n\t" + line + "\n}"
			}
			steps = append(steps, line)
		default:
			chain = append(chain, "Arg("+arg.Name+")")
		}
	}
	flush()
	return steps
}

// present is the condition under which a part of a statement stands there.
func present(n *model.NamedQuery, when sqlquery.Presence) string {
	var either []string
	for _, all := range when {
		var conds []string
		for _, i := range all {
			if a := n.Args[i]; a.List {
				conds = append(conds, "len("+a.Name+") > 0")
			} else {
				conds = append(conds, "!"+a.Name+".IsNull()")
			}
		}
		either = append(either, strings.Join(conds, " && "))
	}
	return strings.Join(either, " || ")
}

// literal is a text as a Go string, raw where that reads better.
func literal(text string) string {
	lines := strings.Contains(strings.TrimSuffix(text, "\n"), "\n")
	if (lines || strings.Contains(text, `"`)) && !strings.Contains(text, "`") && utf8.ValidString(text) && !strings.ContainsFunc(text, printable.Acts) {
		return "`" + text + "`"
	}
	return strconv.Quote(text)
}
