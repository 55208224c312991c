package preview

import (
	"net/http"

	"widegate/gate"
	"widegate/gate/rest"
	"widegate/internal/model"
	"widegate/internal/sqlquery"
)

// calls are the named queries and routines that have endpoints.
type calls struct {
	model  *model.Model
	tables map[*model.Entity]*table
	api    *rest.API // which serves them
}

func (c *calls) part() rest.Part {
	var routes []rest.Route
	for _, e := range c.model.Exposed {
		for _, method := range e.Methods() {
			routes = append(routes, rest.On(method+" /"+e.Path, c.handler(e)))
		}
	}
	return rest.MountCalls(routes)
}

// given is the value of an argument: the place of one value, a list of them, or
// the place of a choice.
type given struct {
	place  any
	list   []any
	choice int
}

// present reports whether an argument that may be left out is there.
func (g given) present(a model.QueryArg) bool {
	if a.List {
		return len(g.list) > 0
	}
	return !gate.IsNull(g.place)
}

// callRow is a row of a call: places of values, and rows of tables.
type callRow struct{ values []any }

func (c *calls) handler(e *model.Exposed) rest.Handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		values, err := c.read(r, e)
		if err != nil {
			return err
		}
		db, ctx := c.api.DB(r.Context()), r.Context()
		q := statement(db, e, e.Pieces, values)
		switch e.Shape {
		case sqlquery.Count:
			n, err := q.Run(ctx, db)
			if err != nil {
				return err
			}
			return rest.SendCount(w, n)
		case sqlquery.Nothing:
			if _, err := q.Run(ctx, db); err != nil {
				return err
			}
			return rest.SendNothing(w)
		}
		return c.send(w, r, e, db, q, values)
	}
}

// send reads the rows of a call and answers with them.
func (c *calls) send(w http.ResponseWriter, r *http.Request, e *model.Exposed, db gate.DB, q *gate.SQL, values []given) error {
	ctx, result, fields := r.Context(), c.result(e), c.fields(e)
	switch {
	case e.Out != "":
		var set []*gate.SQL
		if len(e.In) > 0 {
			set = append(set, statement(db, e, e.In, values))
		}
		row, err := gate.ReadOut(ctx, db, q, e.Out, fields, set...)
		if err != nil {
			return err
		}
		return result.Send(w, r, row)
	case e.Shape == sqlquery.Rows:
		rows, err := gate.ReadRows(ctx, db, q, fields)
		if err != nil {
			return err
		}
		return result.SendAll(w, r, rows)
	case e.Shape == sqlquery.Row:
		row, err := gate.ReadRow(ctx, db, q, fields)
		if err != nil {
			return err
		}
		return result.Send(w, r, row)
	}
	row, there, err := gate.ReadMaybeRow(ctx, db, q, fields)
	if err != nil {
		return err
	}
	return result.SendMaybe(w, r, row, there)
}

// read reads the arguments of a call.
func (c *calls) read(r *http.Request, e *model.Exposed) ([]given, error) {
	names := make([]string, len(e.Args))
	for i, a := range e.Args {
		names[i] = a.Field.Column.Name
	}
	args, err := rest.ReadArguments(r, names...)
	if err != nil {
		return nil, err
	}
	values := make([]given, len(e.Args))
	for i, a := range e.Args {
		if a.Order != nil {
			words := make([]string, len(a.Order))
			for k, o := range a.Order {
				words[k] = o.Key
			}
			values[i].choice = args.Choice(names[i], words...)
			continue
		}
		f := *a.Field
		f.Nullable = a.Maybe
		place, column := newField(&f), c.model.Facts(a.Field)
		switch {
		case a.List:
			rest.Several(args, column, &values[i].list, func(v *any) any {
				*v = place()
				return *v
			})
		case f.Nullable:
			values[i].place = place()
			args.Optional(column, values[i].place)
		default:
			values[i].place = place()
			args.Needed(column, values[i].place)
		}
	}
	return values, args.Problem()
}

// statement puts a statement together, without the parts whose arguments are left
// out.
func statement(db gate.DB, e *model.Exposed, pieces []sqlquery.Piece, values []given) *gate.SQL {
	q := gate.NewSQL(db)
	for _, p := range pieces {
		if !p.When.Holds(func(i int) bool { return values[i].present(e.Args[i]) }) {
			continue
		}
		if p.Arg < 0 {
			q.Text(p.Text)
			continue
		}
		switch a, v := e.Args[p.Arg], values[p.Arg]; {
		case a.Order != nil:
			texts := make([]string, len(a.Order))
			for i, o := range a.Order {
				texts[i] = o.SQL
			}
			q.Choice(v.choice, texts...)
		case a.List:
			list := make([]any, len(v.list))
			for i, place := range v.list {
				list[i] = gate.Argument(place)
			}
			gate.In(q, p.Not, list)
		default:
			q.Arg(gate.Argument(v.place))
		}
	}
	return q
}

// fields are the places of a row of a call, which they make.
func (c *calls) fields(e *model.Exposed) func(r *callRow, to []any) []any {
	return func(r *callRow, to []any) []any {
		switch {
		case e.Entity != nil:
			own := c.tables[e.Entity]
			made := own.newRow()
			r.values = []any{made}
			return append(to, made.values...)
		case e.Value != nil:
			r.values = []any{newField(e.Value)()}
			return append(to, r.values[0])
		}
		r.values = make([]any, len(e.Fields))
		for i, f := range e.Fields {
			if f.Entity == nil {
				r.values[i] = newField(f)()
				to = append(to, r.values[i])
				continue
			}
			slot := new(*row)
			r.values[i] = slot
			if f.Nullable {
				to = gate.AppendOptional(c.tables[f.Entity].def, to, slot)
			} else {
				to = gate.AppendFields(c.tables[f.Entity].def, to, slot)
			}
		}
		return to
	}
}

// result says how the rows of a call look from outside.
func (c *calls) result(e *model.Exposed) sender {
	fields := func(to []any, r *callRow) []any {
		for _, v := range r.values {
			if slot, ok := v.(**row); ok {
				v = *slot
			}
			to = append(to, v)
		}
		return to
	}
	switch {
	case e.Entity != nil:
		return entities{rest.ResultOf(c.tables[e.Entity].shape)}
	case e.Value != nil:
		return valuesOnly{rest.ResultValue(c.model.Facts(e.Value), func(v *any) any { return *v })}
	}
	var members []rest.ResultMember
	for _, f := range e.Fields {
		if f.Entity != nil {
			members = append(members, rest.RowMember(f.Column.Name, c.tables[f.Entity].shape))
			continue
		}
		members = append(members, rest.ValueMember(c.model.Facts(f)))
	}
	return rest.NewResult(fields, members...)
}

// sender answers with rows of calls.
type sender interface {
	Send(w http.ResponseWriter, r *http.Request, row *callRow) error
	SendMaybe(w http.ResponseWriter, r *http.Request, row *callRow, there bool) error
	SendAll(w http.ResponseWriter, r *http.Request, rows []*callRow) error
}

// entities are rows that are those of a table.
type entities struct{ result *rest.Result[*row] }

func (s entities) Send(w http.ResponseWriter, r *http.Request, c *callRow) error {
	return s.result.Send(w, r, c.values[0].(*row))
}

func (s entities) SendMaybe(w http.ResponseWriter, r *http.Request, c *callRow, there bool) error {
	if !there {
		return s.result.SendMaybe(w, r, nil, false)
	}
	return s.Send(w, r, c)
}

func (s entities) SendAll(w http.ResponseWriter, r *http.Request, list []*callRow) error {
	rows := make([]*row, len(list))
	for i, c := range list {
		rows[i] = c.values[0].(*row)
	}
	return s.result.SendAll(w, r, rows)
}

// valuesOnly are rows of one value.
type valuesOnly struct{ result *rest.Result[any] }

func (s valuesOnly) Send(w http.ResponseWriter, r *http.Request, c *callRow) error {
	return s.result.Send(w, r, c.values[0])
}

func (s valuesOnly) SendMaybe(w http.ResponseWriter, r *http.Request, c *callRow, there bool) error {
	if !there {
		return s.result.SendMaybe(w, r, nil, false)
	}
	return s.Send(w, r, c)
}

func (s valuesOnly) SendAll(w http.ResponseWriter, r *http.Request, list []*callRow) error {
	values := make([]any, len(list))
	for i, c := range list {
		values[i] = c.values[0]
	}
	return s.result.SendAll(w, r, values)
}
