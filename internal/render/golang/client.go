package golang

import (
	"fmt"
	"path"
	"strconv"
	"strings"

	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render"
	"widegate/internal/render/openapi"
	"widegate/internal/sqlquery"
)

// mostRows is how many rows a page has at most where the project file says nothing.
const mostRows = 1000

// client is what the template of the client in Go sees.
func (r *renderer) client() clientView {
	t, api := r.target, r.model.API
	v := clientView{
		Package: path.Base(t.Client), Store: t.Package, Command: t.Command(), ETag: openapi.Tag(r.document()), Base: r.model.Base,
		Rows: mostRows, Camel: api.Names == project.Camel, Keeps: api.Repeats != "",
	}
	if api.Limits != nil && api.Limits.Rows > 0 {
		v.Rows = api.Limits.Rows
	}
	for _, e := range r.model.Entities {
		v.Resources = append(v.Resources, r.clientResource(e))
	}
	return v
}

// document is the document of the service.
func (r *renderer) document() []byte {
	if text := r.again(path.Join(r.target.APIFolder, render.DocumentFile(""))); text != nil {
		return text
	}
	return openapi.Render(r.model.Seen(), r.target.Command())
}

func (r *renderer) clientResource(e *model.Entity) clientResource {
	c := clientResource{Entity: e}
	for _, f := range e.Fields {
		if f.Content != nil && !f.Hidden {
			c.Contents = append(c.Contents, f.Column.Name)
		}
	}
	for _, rel := range e.Relations {
		end := clientRelation{Name: r.model.Outward(rel.JSON), Var: rel.Var}
		if strings.ReplaceAll(end.Name, "_", "-") != rel.Path {
			end.Path = rel.Path
		}
		c.Ends = append(c.Ends, end)
	}
	return c
}

// clientCalls is what the template of the client's calls sees.
func (r *renderer) clientCalls() callsView {
	v := r.calls()
	v.Package = path.Base(r.target.Client)
	return v
}

// callNames are names that arguments of a call cannot have.
var callNames = []string{"call", "ctx", "gate", "remote", "row", "service", "v", "time", "context"}

func argName(store string, a model.QueryArg) string {
	for _, name := range append(callNames, store) {
		if a.Name == name {
			return a.Name + "Value"
		}
	}
	return a.Name
}

// clientParams are the parameters of a call, behind db.
func clientParams(store string, e *model.Exposed) string {
	var b strings.Builder
	for _, a := range e.Args {
		declared := inStore(store, a.Field, valueType(a.Field))
		switch {
		case a.Order != nil:
			declared = store + "." + a.OrderName
		case a.List:
			declared = "[]" + declared
		case a.Maybe:
			declared = "gate.Maybe[" + declared + "]"
		}
		b.WriteString(", " + argName(store, a) + " " + declared)
	}
	return b.String()
}

// clientRow is the type of a row of a call.
func clientRow(store string, e *model.Exposed) string {
	switch {
	case e.Value != nil:
		declared := inStore(store, e.Value, valueType(e.Value))
		if e.Value.Nullable {
			declared = "gate.Maybe[" + declared + "]"
		}
		return declared
	case e.Entity != nil:
		return "*" + store + "." + e.Entity.Type
	}
	return "*" + store + "." + e.Row
}

// clientResult are the results of a call.
func clientResult(store string, e *model.Exposed) string {
	switch e.Shape {
	case sqlquery.Rows:
		return "([]" + clientRow(store, e) + ", error)"
	case sqlquery.Row:
		return "(" + clientRow(store, e) + ", error)"
	case sqlquery.MaybeRow:
		return "(" + clientRow(store, e) + ", bool, error)"
	case sqlquery.Count:
		return "(int64, error)"
	}
	return "error"
}

// clientSteps add the arguments to a call, make it, and read the result.
func (r *renderer) clientSteps(store string, e *model.Exposed) []string {
	var steps []string
	for _, a := range e.Args {
		steps = append(steps, r.clientArgument(store, a))
	}
	switch e.Shape {
	case sqlquery.Count:
		return append(steps, "return remote.Count(ctx, service, call)")
	case sqlquery.Rows, sqlquery.Row, sqlquery.MaybeRow:
		name := map[sqlquery.Shape]string{sqlquery.Rows: "AllRows", sqlquery.Row: "OneRow", sqlquery.MaybeRow: "MaybeRow"}[e.Shape]
		return append(steps, fmt.Sprintf("return remote.%s(ctx, service, call, func(row *%s) []remote.Member {\n%s\n})", name, clientRow(store, e), clientScan(store, e)))
	}
	return append(steps, "return remote.Do(ctx, service, call)")
}

// clientArgument adds an argument to a call.
func (r *renderer) clientArgument(store string, a model.QueryArg) string {
	name := argName(store, a)
	if a.Order != nil {
		words := make([]string, len(a.Order))
		for i, o := range a.Order {
			words[i] = o.Key
		}
		return fmt.Sprintf("call.Choice(%q, int(%s), %s)", a.Field.Column.Name, name, quoteList(words))
	}
	column := "gate.Column{" + strings.TrimSuffix(r.columnFacts(a.Field), ", ") + "}"
	if a.List {
		pointer := "v"
		if a.Field.Enum != nil {
			pointer = "gate.Label(v)"
		}
		return fmt.Sprintf("remote.List(call, %s, %s, func(v *%s) any { return %s })", column, name, inStore(store, a.Field, valueType(a.Field)), pointer)
	}
	field := *a.Field
	field.Nullable = a.Maybe
	return fmt.Sprintf("call.Arg(%s, %s)", column, pointerTo(&field, name))
}

// clientScan says where the values of a row go.
func clientScan(store string, e *model.Exposed) string {
	switch {
	case e.Value != nil:
		return `return []remote.Member{remote.Value("", ` + strings.ReplaceAll(pointerTo(e.Value, "(*row)"), "&(*row)", "row") + ")}"
	case e.Entity != nil:
		return `return []remote.Member{remote.Row("", ` + store + "." + e.Entity.Plural + ", row)}"
	}
	var members []string
	for _, f := range e.Fields {
		name := strconv.Quote(f.Column.Name)
		if f.Entity != nil {
			members = append(members, fmt.Sprintf("remote.Row(%s, %s.%s, &r.%s)", name, store, f.Entity.Plural, f.Name))
			continue
		}
		members = append(members, fmt.Sprintf("remote.Value(%s, %s)", name, pointerTo(f, "r."+f.Name)))
	}
	return fmt.Sprintf("r := new(%s.%s)\n*row = r\nreturn []remote.Member{\n%s,\n}", store, e.Row, strings.Join(members, ",\n"))
}
