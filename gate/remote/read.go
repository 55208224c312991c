package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"widegate/gate"
	"widegate/gate/internal/jsonscan"
)

// at is the path of a row.
func (r *resource) at(parts []any) string {
	texts := make([]string, len(parts))
	for i, p := range parts {
		texts[i] = segment(shown(&r.info.Columns[r.info.Keys[i]], p))
	}
	return r.path + "/" + strings.Join(texts, ",")
}

// segment escapes a value of a key for a path.
func segment(text string) string {
	text = strings.ReplaceAll(url.PathEscape(text), ",", "%2C")
	if text == "." || text == ".." {
		text = strings.ReplaceAll(text, ".", "%2E")
	}
	return text
}

// shown is the text of a value as it stands in a path.
func shown(c *gate.Column, p any) string {
	text := c.AppendJSON(nil, p)
	var s string
	if len(text) > 0 && text[0] == '"' && json.Unmarshal(text, &s) == nil {
		return s
	}
	return string(text)
}

// keyOf is the key of a row, to find rows by.
func (r *resource) keyOf(row any) string {
	fields := r.info.Fields(nil, row)
	var b []byte
	for _, k := range r.info.Keys {
		b = append(r.info.Columns[k].AppendJSON(b, fields[k]), ',')
	}
	return string(b)
}

// keyParts are pointers to the values in the key of a row.
func (r *resource) keyParts(row any) []any {
	fields := r.info.Fields(nil, row)
	parts := make([]any, len(r.info.Keys))
	for i, k := range r.info.Keys {
		parts[i] = fields[k]
	}
	return parts
}

// page is an answer with rows.
type page struct {
	items   iter.Seq[[]byte]
	next    string
	matched int64
}

// pageOf reads an answer with rows.
func pageOf(text []byte) (p page, err error) {
	p.items = func(func([]byte) bool) {}
	err = eachMember(text, func(name string, raw []byte) error {
		switch name {
		case "items":
			p.items = elements(raw)
		case "next":
			if string(raw) != "null" {
				return json.Unmarshal(raw, &p.next)
			}
		case "matched", "count":
			return json.Unmarshal(raw, &p.matched)
		}
		return nil
	})
	return p, err
}

var errNotJSON = errors.New("the service did not answer with JSON; is this its address?")

// eachMember calls do with each member of an object.
func eachMember(text []byte, do func(name string, raw []byte) error) error {
	if !json.Valid(text) {
		return errNotJSON
	}
	s := jsonscan.Scanner{Text: text}
	if s.Next() != '{' {
		return errNotJSON
	}
	for c := s.Skip(); c == '"'; c = s.Skip() {
		name := nameOf(s.Value())
		s.Skip()
		if err := do(name, s.Value()); err != nil {
			return fmt.Errorf("reading %s of an answer: %w", name, err)
		}
	}
	return nil
}

// nameOf is the name of a member, which stands in quotes.
func nameOf(quoted []byte) (name string) {
	if inside := quoted[1 : len(quoted)-1]; jsonscan.Plain(inside) {
		return string(inside)
	}
	_ = json.Unmarshal(quoted, &name) // which is valid
	return name
}

// elements are those of an array.
func elements(text []byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		s := jsonscan.Scanner{Text: text}
		if s.Next() != '[' {
			return
		}
		for c := s.Skip(); c != ']'; c = s.Skip() {
			if !yield(s.Value()) {
				return
			}
		}
	}
}

// reader reads rows of a resource. The members of one row mostly stand where those of
// the row before did.
type reader struct {
	service *Service
	res     *resource
	order   []member
	fields  []any
	inner   map[*Relation]*reader
	pending *[]pending
}

// member is what stands at a place in the text of a row.
type member struct {
	name     string
	column   int // -1 for none
	link     bool
	relation *Relation
}

// pending are bytes that are elsewhere.
type pending struct {
	field   any
	address string
}

func (s *Service) newReader(r *resource) *reader {
	return &reader{service: s, res: r, pending: new([]pending)}
}

// readOne reads a row that comes alone.
func (r *resource) readOne(row any, text []byte) error {
	reader := r.readers.Get().(*reader)
	defer func() {
		clear(reader.fields)
		r.readers.Put(reader)
	}()
	return reader.read(row, text)
}

// read reads a row.
func (r *reader) read(row any, text []byte) error {
	if !json.Valid(text) {
		return errNotJSON
	}
	return r.readValid(row, text)
}

func (r *reader) readValid(row any, text []byte) error {
	s := jsonscan.Scanner{Text: text}
	if s.Next() != '{' {
		return errNotJSON
	}
	r.fields = r.res.info.Fields(r.fields[:0], row)
	fields := r.fields
	at := 0
	for c := s.Skip(); c == '"'; c = s.Skip() {
		quoted := s.Value()
		s.Skip()
		raw := s.Value()
		m := r.member(at, quoted)
		at++
		var err error
		switch {
		case m.relation != nil:
			err = r.related(row, m.relation, raw)
			r.fields = fields // which may have been of another row meanwhile
		case m.column < 0:
			continue // a newer service has it
		case m.link:
			if string(raw) != "null" {
				*r.pending = append(*r.pending, pending{fields[m.column], nameOf(raw)})
			}
		default:
			err = gate.ParseJSON(fields[m.column], raw)
		}
		if err != nil {
			return fmt.Errorf("%s of a row of %s: %w", m.name, r.res.path, err)
		}
	}
	return nil
}

// member is the one of that name, at a place.
func (r *reader) member(at int, quoted []byte) *member {
	if at < len(r.order) && string(quoted[1:len(quoted)-1]) == r.order[at].name {
		return &r.order[at]
	}
	m := member{name: nameOf(quoted), column: -1}
	if i, ok := r.res.place[m.name]; ok {
		m.column = i
	} else if i, ok := r.res.links[m.name]; ok {
		m.column, m.link = i, true
	} else {
		m.relation = r.res.related[m.name]
	}
	if at < len(r.order) {
		r.order[at] = m
		return &r.order[at]
	}
	r.order = append(r.order, m)
	return &r.order[len(r.order)-1]
}

// related reads the rows of a relation.
func (r *reader) related(row any, rel *Relation, raw []byte) error {
	to, err := r.service.resourceOf(rel.relation.Target())
	if err != nil {
		return err
	}
	inner := r.inner[rel]
	if inner == nil {
		inner = &reader{service: r.service, res: to, pending: r.pending}
		if r.inner == nil {
			r.inner = map[*Relation]*reader{}
		}
		r.inner[rel] = inner
	}
	var children []any
	take := func(text []byte) error {
		child := to.info.New()
		children = append(children, child)
		return inner.readValid(child, text)
	}
	switch {
	case string(raw) == "null":
	case raw[0] == '{':
		err = take(raw)
	default:
		for item := range elements(raw) {
			if err = take(item); err != nil {
				break
			}
		}
	}
	rel.relation.Put(row, children)
	return err
}

// fetch reads the bytes that a row that was read has elsewhere.
func (s *Service) fetch(ctx context.Context, r *reader) error {
	for _, p := range *r.pending {
		if !strings.HasPrefix(p.address, "/") { // another host must not get the credentials
			return fmt.Errorf("reading a value of %s: the service says that it is at %q, which is no path", r.res.path, p.address)
		}
		c := call{method: http.MethodGet, root: true, path: p.address, header: http.Header{"Accept": {"*/*"}}, safe: true, about: r.res}
		a, err := s.send(ctx, c)
		if err != nil {
			return err
		}
		text, err := a.text()
		if err != nil {
			return err
		}
		if err := gate.Assign(p.field, text); err != nil {
			return err
		}
	}
	*r.pending = (*r.pending)[:0]
	return nil
}

// ReadValues implements gate.Remote: by the summary of a resource, or where every row
// counts by its list.
func (s *Service) ReadValues(ctx context.Context, q *gate.Query[any], picks []gate.Term, distinct bool, having gate.Cond[any], next func() []any, done func() bool) error {
	a, err := s.ask(q)
	if err != nil {
		return err
	}
	if a.Parent != nil {
		return fmt.Errorf("values of the rows of a relation: %w", gate.ErrNotOffered)
	}
	var by, measures, names []string
	for _, p := range picks {
		name, measure, err := s.measure(a.res, p)
		if err != nil {
			return err
		}
		names = append(names, name)
		if measure == "" {
			by = append(by, name)
		} else {
			measures = append(measures, measure)
		}
	}
	condition, err := gate.AskCondition(a.res.info, having, s)
	if err != nil {
		return err
	}
	if condition != "TRUE" {
		a.values.Set("having", condition)
	}
	a.values.Del("with")
	take := func(item []byte) (bool, error) {
		fields := next()
		err := eachMember(item, func(name string, raw []byte) error {
			for i := range names {
				if names[i] == name {
					return gate.ParseJSON(fields[i], raw)
				}
			}
			return nil
		})
		return err == nil && done(), err
	}
	if len(measures) == 0 && !distinct {
		a.values.Set("properties", strings.Join(by, ","))
		return s.streamItems(ctx, a, take)
	}
	if by != nil {
		a.values.Set("by", strings.Join(by, ","))
	}
	if measures != nil {
		a.values.Set("measure", strings.Join(measures, ","))
	}
	a.values.Del("properties")
	return s.readItems(ctx, a, a.res.path+"/summary", take)
}

// measure is the name of a value in a summary, and how it is asked for; a value of
// columns is asked for by its name.
func (s *Service) measure(r *resource, t gate.Term) (name, measure string, err error) {
	function, distinct, column, ok := t.Measure()
	if !ok {
		return "", "", fmt.Errorf("reading what the database computes: %w", gate.ErrNotOffered)
	}
	if column < 0 {
		return "count", "count", nil
	}
	if name, err = s.ColumnName(r.info, column); err != nil || function == "" {
		return name, "", err
	}
	if distinct {
		function = "distinct"
	}
	measure = function + "(" + name + ")"
	if name = function + "_" + name; s.made.Camel {
		name = gate.CamelCase(name)
	}
	return name, measure, nil
}

// MeasureName implements gate.Naming.
func (s *Service) MeasureName(t *gate.Info, x gate.Term) (string, error) {
	r, err := s.resourceOf(t)
	if err != nil {
		return "", err
	}
	name, _, err := s.measure(r, x)
	return name, err
}

// streamItems reads the items of an answer as they come.
func (s *Service) streamItems(ctx context.Context, a *asked, take func(item []byte) (bool, error)) error {
	left := a.Limit
	return s.lines(ctx, a, func(line []byte) error {
		more, err := take(line)
		if left--; err == nil && (!more || left == 0) {
			return errEnough
		}
		return err
	})
}

// readItems reads the items of an answer, page by page, as far as the query goes.
func (s *Service) readItems(ctx context.Context, a *asked, path string, take func(item []byte) (bool, error)) error {
	offset, left := a.Offset, a.Limit
	for {
		size := s.made.Rows
		if left > 0 {
			size = min(size, left)
		}
		a.values.Set("limit", strconv.Itoa(size))
		a.values.Set("offset", strconv.Itoa(offset))
		text, err := s.get(ctx, path, a.values, a.res)
		if err != nil {
			return err
		}
		list, err := pageOf(text)
		if err != nil {
			return err
		}
		n := 0
		for item := range list.items {
			n++
			if more, err := take(item); err != nil || !more {
				return err
			}
		}
		offset += n
		if n < size || left > 0 && left == n {
			return nil
		}
		if left > 0 {
			left -= n
		}
	}
}
