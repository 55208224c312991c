package golang

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"widegate/internal/model"
	"widegate/internal/sqlquery"
)

// calls is what the template of the endpoints of queries and routines sees.
func (r *renderer) calls() callsView {
	return callsView{Package: path.Base(r.target.APIFolder), Store: r.target.Package, Base: r.model.Base, Exposed: r.model.Exposed}
}

// callSteps read the arguments, call the function, and send its result.
func (r *renderer) callSteps(store string, e *model.Exposed) []string {
	var steps []string
	args := []string{"r.Context()", "s.DB(r.Context())"}
	for _, a := range e.Args {
		if slices.Contains([]string{"args", "count", "err", "gate", "http", "r", "rest", "result", "row", "rows", "s", "there", "w", store}, a.Name) {
			a.Name += "Value"
		}
		steps = append(steps, r.argumentSteps(store, a)...)
		args = append(args, a.Name)
	}
	if len(e.Args) > 0 {
		steps = append(steps, "if err := args.Problem(); err != nil {\n\treturn err\n}")
	}
	call := fmt.Sprintf("%s.%s(%s)", store, e.Name, strings.Join(args, ", "))
	failed := "if err != nil {\n\treturn err\n}"
	describe, result := r.resultValue(store, e)
	switch e.Shape {
	case sqlquery.Rows:
		return append(append(steps, "rows, err := "+call, failed), describe+"return "+result+".SendAll(w, r, rows)")
	case sqlquery.Row:
		return append(append(steps, "row, err := "+call, failed), describe+"return "+result+".Send(w, r, row)")
	case sqlquery.MaybeRow:
		return append(append(steps, "row, there, err := "+call, failed), describe+"return "+result+".SendMaybe(w, r, row, there)")
	case sqlquery.Count:
		return append(steps, "count, err := "+call, failed, "return rest.SendCount(w, count)")
	}
	return append(steps, "if err := "+call+"; err != nil {\n\treturn err\n}", "return rest.SendNothing(w)")
}

// argumentSteps declare a variable for an argument, and read it.
func (r *renderer) argumentSteps(store string, a model.QueryArg) []string {
	if a.Order != nil {
		words := make([]string, len(a.Order))
		for i, o := range a.Order {
			words[i] = o.Key
		}
		return []string{fmt.Sprintf("%s := %s.%s(args.Choice(%q, %s))", a.Name, store, a.OrderName, a.Field.Column.Name, quoteList(words))}
	}
	column := "gate.Column{" + strings.TrimSuffix(r.columnFacts(a.Field), ", ") + "}"
	value := inStore(store, a.Field, valueType(a.Field))
	if a.List {
		pointer := "v"
		if a.Field.Enum != nil {
			pointer = "gate.Label(v)"
		}
		return []string{
			fmt.Sprintf("var %s []%s", a.Name, value),
			fmt.Sprintf("rest.Several(args, %s, &%s, func(v *%s) any { return %s })", column, a.Name, value, pointer),
		}
	}
	maybe := a.Maybe
	how, declared := "Needed", value
	if maybe {
		how, declared = "Optional", "gate.Maybe["+value+"]"
	}
	field := *a.Field
	field.Nullable = maybe
	return []string{fmt.Sprintf("var %s %s", a.Name, declared), fmt.Sprintf("args.%s(%s, %s)", how, column, pointerTo(&field, a.Name))}
}

// inStore is a type of the store as the endpoints name it.
func inStore(store string, f *model.Field, value string) string {
	if f.Enum != nil || f.Domain != nil || f.Composite != nil && value == f.Composite.Name {
		return store + "." + value
	}
	if f.Composite != nil || f.Element != nil && f.Element.Composite != nil {
		return strings.Replace(value, "[", "["+store+".", 1)
	}
	return value
}

// resultValue describes the rows of a call: by a statement, where that is long,
// and an expression.
func (r *renderer) resultValue(store string, e *model.Exposed) (describe, result string) {
	if e.Entity != nil {
		return "", fmt.Sprintf("rest.ResultOf(s.%s)", e.Entity.Local)
	}
	if v := e.Value; v != nil {
		declared := inStore(store, v, valueType(v))
		if v.Nullable {
			declared = "gate.Maybe[" + declared + "]"
		}
		return "", fmt.Sprintf("rest.ResultValue(gate.Column{%s}, func(v *%s) any { return %s })",
			strings.TrimSuffix(r.columnFacts(v), ", "), declared, strings.ReplaceAll(pointerTo(v, "(*v)"), "&(*v)", "v"))
	}
	var fields, members []string
	for _, f := range e.Fields {
		if f.Entity != nil {
			fields = append(fields, "row."+f.Name)
			members = append(members, fmt.Sprintf("rest.RowMember(%s, s.%s)", strconv.Quote(f.Column.Name), f.Entity.Local))
			continue
		}
		fields = append(fields, pointerTo(f, "row."+f.Name))
		members = append(members, "rest.ValueMember(gate.Column{"+strings.TrimSuffix(r.columnFacts(f), ", ")+"})")
	}
	describe = fmt.Sprintf("result := rest.NewResult(\nfunc(to []any, row *%s.%s) []any { return append(to, %s) },\n%s,\n)\n", store, e.Row, strings.Join(fields, ", "), strings.Join(members, ",\n"))
	return describe, "result"
}
