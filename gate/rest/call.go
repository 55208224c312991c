package rest

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"widegate/gate"
)

// MountCalls joins the routes of named queries and routines, which belong to no
// resource.
func MountCalls(routes []Route) Part { return Part{routes: routes} }

// DB is where a request reads and writes: within the transaction that it is part
// of, or the database.
func (a *API) DB(ctx context.Context) gate.DB { return a.db(ctx) }

// mayCall holds whoever sends a request for a named query or a routine to the
// roles that may.
func (a *API) mayCall(ctx context.Context, pattern string) error {
	if a.config.Identify == nil {
		return nil
	}
	_, path, _ := strings.Cut(pattern, " ")
	roles, id := a.config.Calls[strings.TrimPrefix(path, "/")], IdentityOf(ctx)
	switch {
	case holds(roles, id):
		return nil
	case id == nil:
		return a.config.unknown("to call %s", path)
	}
	return NewProblem(http.StatusForbidden, "to call %s one needs %s", path, needed(roles))
}

// Arguments are those of a call: parameters of the URL for GET, members of a
// JSON object for POST.
type Arguments struct {
	inURL  bool
	values url.Values
	body   map[string]json.RawMessage
	faults []Fault
}

// ReadArguments reads the arguments of a call, which has those names.
func ReadArguments(r *http.Request, names ...string) (*Arguments, error) {
	a := &Arguments{inURL: r.Method != http.MethodPost, body: map[string]json.RawMessage{}}
	var err error
	if a.values, err = readQuery(r); err != nil {
		return nil, err
	}
	known := append(slices.Clone(names), "f")
	if !a.inURL {
		known = []string{"f"}
		if err := a.readBody(r, names); err != nil {
			return nil, err
		}
	}
	for _, name := range sortedNames(a.values) {
		if !slices.Contains(known, name) {
			return nil, NewProblem(http.StatusBadRequest, "there is no parameter %q; there are %s", name, strings.Join(known, ", "))
		}
	}
	return a, nil
}

func (a *Arguments) readBody(r *http.Request, names []string) error {
	text, _, err := readBody(r, mediaJSON)
	if err != nil || len(names) == 0 && len(text) == 0 {
		return err
	}
	o, err := oneObject(text)
	if err != nil {
		return err
	}
	if name, twice := doubled(o.names()); twice {
		a.add(name, "is given twice")
	}
	for _, m := range o {
		if !slices.Contains(names, m.name) {
			a.add(m.name, "there is no such argument; there are "+listOr(names, "none"))
		}
		a.body[m.name] = m.raw
	}
	return nil
}

func (a *Arguments) add(name, text string) {
	a.faults = append(a.faults, Fault{pointer(name), text})
}

// Needed reads an argument that must be there into the value that p points to.
// The column says which values it takes.
func (a *Arguments) Needed(column gate.Column, p any) {
	if !a.read(column, p) {
		a.add(column.Name, "is missing")
	}
}

// Optional reads an argument that may be left out.
func (a *Arguments) Optional(column gate.Column, p any) { a.read(column, p) }

func (a *Arguments) read(c gate.Column, p any) (there bool) {
	var err error
	if a.inURL {
		if there = a.values.Has(c.Name); there {
			err = c.ReadText(p, a.values.Get(c.Name))
		}
	} else {
		raw, ok := a.body[c.Name]
		if there = ok && string(raw) != "null"; there {
			err = c.ReadJSON(p, raw)
		}
	}
	if err != nil {
		a.add(c.Name, err.Error())
		return true
	}
	if there {
		if fault := c.Fault(p); fault != "" {
			a.add(c.Name, fault)
		}
	}
	return there
}

// Several reads an argument of any number of values: a parameter that stands
// several times, or an array.
func Several[T any](a *Arguments, column gate.Column, to *[]T, at func(*T) any) {
	a.several(column, func(n int) { *to = make([]T, n) }, func(i int) any { return at(&(*to)[i]) })
}

func (a *Arguments) several(c gate.Column, grow func(n int), at func(i int) any) {
	var items []json.RawMessage
	texts := a.values[c.Name]
	n := len(texts)
	if !a.inURL {
		if raw, ok := a.body[c.Name]; ok {
			if err := json.Unmarshal(raw, &items); err != nil {
				a.add(c.Name, "wants an array")
				return
			}
		}
		n = len(items)
	}
	grow(n)
	for i := range n {
		var err error
		p := at(i)
		if a.inURL {
			err = c.ReadText(p, texts[i])
		} else {
			err = c.ReadJSON(p, items[i])
		}
		name := c.Name + "/" + strconv.Itoa(i)
		if err != nil {
			a.faults = append(a.faults, Fault{"#/" + name, err.Error()})
		} else if fault := c.Fault(p); fault != "" {
			a.faults = append(a.faults, Fault{"#/" + name, fault})
		}
	}
}

// Choice reads one of some words, and returns its place; the first is that of an
// argument that is left out.
func (a *Arguments) Choice(name string, words ...string) int {
	word := words[0]
	if a.inURL && a.values.Has(name) {
		word = a.values.Get(name)
	} else if raw, ok := a.body[name]; ok {
		word = string(raw)
		_ = json.Unmarshal(raw, &word) // what is no text is no such word either
	}
	i := slices.Index(words, word)
	if i < 0 {
		a.add(name, fmt.Sprintf("wants one of %s; got %s", strings.Join(words, ", "), word))
	}
	return max(i, 0)
}

// Problem tells all that is wrong with the arguments, or is nil.
func (a *Arguments) Problem() error {
	if len(a.faults) == 0 {
		return nil
	}
	status := http.StatusUnprocessableEntity
	if a.inURL {
		status = http.StatusBadRequest
	}
	p := NewProblem(status, "%d arguments are not right", len(a.faults))
	if len(a.faults) == 1 {
		p.Detail = "one argument is not right: " + a.faults[0].Pointer[2:] + " " + a.faults[0].Detail
	}
	p.Errors = a.faults
	return p
}

// Result says how the rows of a named query look from outside.
type Result[R any] struct {
	fields  func(to []any, row R) []any
	members []ResultMember
	alone   bool // the rows are what their only member is
}

// ResultMember is a value of a row, or a row of a resource in it.
type ResultMember struct {
	name   string
	column gate.Column
	row    *resource
	none   func(any) bool // that there is no row
}

// NewResult describes rows of R by what fields gives of them: pointers to
// values, and rows of resources.
func NewResult[R any](fields func(to []any, row R) []any, members ...ResultMember) *Result[R] {
	return &Result[R]{fields: fields, members: members}
}

// ResultOf describes rows of a resource.
func ResultOf[E comparable, K any](s *Shape[E, K]) *Result[E] {
	return &Result[E]{fields: func(to []any, row E) []any { return append(to, row) }, members: []ResultMember{RowMember("", s)}, alone: true}
}

// ResultValue describes rows of one value.
func ResultValue[V any](column gate.Column, at func(*V) any) *Result[V] {
	return &Result[V]{fields: func(to []any, v V) []any { return append(to, at(&v)) }, members: []ResultMember{ValueMember(column)}, alone: true}
}

// ValueMember is a value, whose column says how it is written.
func ValueMember(column gate.Column) ResultMember {
	return ResultMember{name: column.Name, column: column}
}

// RowMember is a row of a resource, or null.
func RowMember[E comparable, K any](name string, s *Shape[E, K]) ResultMember {
	return ResultMember{name: name, row: &s.res, none: func(row any) bool {
		var zero E
		return row == any(zero)
	}}
}

// Send answers with one row. The value of a routine is in an object.
func (res *Result[R]) Send(w http.ResponseWriter, r *http.Request, row R) error {
	if _, err := chooseFormat(r, r.URL.Query().Get("f"), jsonFormats); err != nil {
		return err
	}
	b := res.append(nil, r.Context(), row)
	if res.alone && res.members[0].row == nil {
		b = append(append([]byte(`{"value":`), b...), '}')
	}
	send(w, http.StatusOK, mediaJSON, append(b, '\n'))
	return nil
}

// SendMaybe answers with one row, if there is one.
func (res *Result[R]) SendMaybe(w http.ResponseWriter, r *http.Request, row R, there bool) error {
	if !there {
		return gate.ErrNotFound
	}
	return res.Send(w, r, row)
}

// SendAll answers with rows.
func (res *Result[R]) SendAll(w http.ResponseWriter, r *http.Request, rows []R) error {
	format, err := chooseFormat(r, r.URL.Query().Get("f"), []format{asJSON, asNDJSON})
	if err != nil {
		return err
	}
	b := buffers.Get().(*[]byte)
	defer putBuffer(b)
	*b = append((*b)[:0], format.open...)
	for i, row := range rows {
		if i > 0 {
			*b = append(*b, format.between...)
		}
		*b = res.append(*b, r.Context(), row)
	}
	switch {
	case format.name == "json":
		*b = append(*b, ']', '}', '\n')
	case len(rows) > 0:
		*b = append(*b, '\n')
	}
	send(w, http.StatusOK, format.media, *b)
	return nil
}

func (res *Result[R]) append(b []byte, ctx context.Context, row R) []byte {
	fields := res.fields(nil, row)
	for i, m := range res.members {
		if !res.alone {
			b = append(b, "{,"[min(i, 1)])
			b = append(gate.AppendJSONString(b, m.name), ':')
		}
		switch {
		case m.row == nil:
			b = m.column.AppendJSON(b, fields[i])
		case m.none(fields[i]):
			b = append(b, "null"...)
		default:
			b = m.row.seen(ctx).appendRow(b, fields[i], nil)
		}
	}
	if !res.alone {
		b = append(b, '}')
	}
	return b
}

// SendCount answers with the number of rows that a call touched.
func SendCount(w http.ResponseWriter, n int64) error {
	send(w, http.StatusOK, mediaJSON, append(strconv.AppendInt([]byte(`{"count":`), n, 10), '}', '\n'))
	return nil
}

// SendNothing answers that all is done.
func SendNothing(w http.ResponseWriter) error {
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// checkCalls finds roles for calls that are not there.
func (a *API) checkCalls(parts []Part) error {
	for path := range a.config.Calls {
		there := slices.ContainsFunc(parts, func(p Part) bool {
			return p.resource == nil && slices.ContainsFunc(p.routes, func(r Route) bool { return strings.HasSuffix(r.pattern, " /"+path) })
		})
		if !there {
			return errors.New("access is configured for " + path + ", which is no call")
		}
	}
	return nil
}
