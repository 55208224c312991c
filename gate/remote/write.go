package remote

import (
	"bytes"
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

// step is a change, and what is done with the answer to it.
type step struct {
	call call
	take func(header http.Header, text []byte) error
}

// run makes changes: one as it is, several in one transaction.
func (s *Service) run(ctx context.Context, steps ...step) error {
	switch {
	case s.batch != nil:
		return s.batch.add(steps)
	case len(steps) == 0:
		return nil
	case len(steps) > 1:
		return s.runTogether(ctx, steps)
	}
	st := steps[0]
	if st.call.method == http.MethodPost {
		st.call = s.keyed(st.call)
	}
	a, err := s.send(ctx, st.call)
	if err != nil {
		return err
	}
	text, err := a.text()
	if err != nil {
		return err
	}
	return st.take(a.header, text)
}

// keyed is a call that is made once however often it is sent, where the service keeps
// idempotency keys.
func (s *Service) keyed(c call) call {
	if s.made.Keeps {
		header := c.header.Clone()
		if header == nil {
			header = http.Header{}
		}
		header.Set("Idempotency-Key", newKey())
		c.header, c.safe = header, true
	}
	return c
}

// reading refuses reads where calls are gathered, which have no answers yet.
func (s *Service) reading() error {
	if s.batch != nil {
		return fmt.Errorf("reading in a batch: %w; read before it", gate.ErrNotOffered)
	}
	return nil
}

// appendColumns writes columns of a row as a JSON object, without those left out.
func (r *resource) appendColumns(b []byte, row any, columns, without []int) []byte {
	fields := r.info.Fields(nil, row)
	b = append(b, '{')
	for _, i := range columns {
		if slices.Contains(without, i) {
			continue
		}
		if b[len(b)-1] != '{' {
			b = append(b, ',')
		}
		b = append(gate.AppendJSONString(b, r.columns[i]), ':')
		b = r.info.Columns[i].AppendJSON(b, fields[i])
	}
	return append(b, '}')
}

// stored has a row filled by what is stored of it now.
func (s *Service) stored(r *resource, row any) func(http.Header, []byte) error {
	return func(header http.Header, text []byte) error {
		if err := r.readOne(row, text); err != nil {
			return fmt.Errorf("reading what was stored: %w", err)
		}
		s.tags.keep(row, header.Get("ETag"))
		return nil
	}
}

// InsertRows implements gate.Remote.
func (s *Service) InsertRows(ctx context.Context, t *gate.Info, rows []any, zeroed func(row any) []int) error {
	r, err := s.resourceOf(t)
	if err != nil {
		return err
	}
	c := call{method: http.MethodPost, path: r.path, about: r}
	if len(rows) == 1 {
		c.body = r.appendColumns(nil, rows[0], t.Sent(rows[0], zeroed(rows[0])), nil)
		return s.run(ctx, step{c, s.stored(r, rows[0])})
	}
	c.body = []byte{'['}
	for i, row := range rows {
		if i > 0 {
			c.body = append(c.body, ',')
		}
		c.body = r.appendColumns(c.body, row, t.Sent(row, zeroed(row)), nil)
	}
	c.body = append(c.body, ']')
	return s.run(ctx, step{c, func(_ http.Header, text []byte) error {
		list, err := pageOf(text)
		if err != nil {
			return err
		}
		n, reader := 0, s.newReader(r)
		for item := range list.items {
			if n < len(rows) {
				err = errors.Join(err, reader.readValid(rows[n], item))
			}
			n++
		}
		if err == nil && n != len(rows) {
			err = fmt.Errorf("%d rows were sent, and %d came back", len(rows), n)
		}
		return err
	}})
}

// InsertGraph implements gate.Remote.
func (s *Service) InsertGraph(ctx context.Context, t *gate.Info, row any) error {
	r, err := s.resourceOf(t)
	if err != nil {
		return err
	}
	g := graph{service: s, seen: map[any]bool{}}
	body, err := g.append(nil, r, row, nil, "")
	if err != nil {
		return err
	}
	values := url.Values{}
	if g.with != nil {
		values.Set("with", strings.Join(g.with, ","))
	}
	c := call{method: http.MethodPost, path: r.path, values: values, about: r, body: body}
	return s.run(ctx, step{c, func(header http.Header, text []byte) error {
		stored := t.New()
		if err := s.newReader(r).read(stored, text); err != nil {
			return fmt.Errorf("reading what was stored: %w", err)
		}
		s.tags.keep(row, header.Get("ETag"))
		return g.fill(r, row, stored)
	}})
}

// graph is a row and the new rows that hang on it.
type graph struct {
	service *Service
	seen    map[any]bool
	with    []string // the relations of which it has rows
}

// children are the rows that a row has been given of a relation.
func children(r gate.Relation, row any) (list []any) {
	r.Each(row, func(child any) { list = append(list, child) })
	return list
}

// fill has a row, and those that hang on it, filled by what is stored of them.
func (g *graph) fill(r *resource, row, stored any) error {
	from, to := r.info.Fields(nil, stored), r.info.Fields(nil, row)
	for i := range from {
		if r.hides(i) {
			continue
		}
		if err := gate.Assign(to[i], gate.Argument(from[i])); err != nil {
			return fmt.Errorf("reading what was stored: %w", err)
		}
	}
	for _, rel := range r.relations {
		given := children(rel.relation, row)
		if given == nil {
			continue
		}
		target, err := g.service.resourceOf(rel.relation.Target())
		if err != nil {
			return err
		}
		left := children(rel.relation, stored)
		for _, child := range given {
			at := slices.IndexFunc(left, func(s any) bool { return target.storedOf(child, s) })
			if at < 0 {
				return fmt.Errorf("reading what was stored: a row of %s did not come back as it was sent; read it", target.path)
			}
			if err := g.fill(target, child, left[at]); err != nil {
				return err
			}
			left = slices.Delete(left, at, at+1)
		}
	}
	return nil
}

// storedOf reports whether a row may be what is stored of a new one.
func (r *resource) storedOf(row, stored any) bool {
	a, b := r.info.Fields(nil, row), r.info.Fields(nil, stored)
	for _, i := range r.info.Sent(row, nil) {
		c := &r.info.Columns[i]
		if !r.hides(i) && !r.refers(i) && !bytes.Equal(c.AppendJSON(nil, a[i]), c.AppendJSON(nil, b[i])) {
			return false
		}
	}
	return true
}

// refers reports whether a column is one by which a relation goes: the service fills
// it in. So does the database with what has digits of its own.
func (r *resource) refers(column int) bool {
	switch r.info.Columns[column].Type {
	case gate.TypeNumeric, gate.TypeFloat32, gate.TypeFloat64, gate.TypeJSON, gate.TypeTimestamp, gate.TypeTimestampTZ, gate.TypeOther:
		return true
	}
	return slices.ContainsFunc(r.relations, func(rel Relation) bool {
		from, _ := rel.relation.LinkColumns()
		return rel.relation.Holds() != nil && slices.Contains(from, column)
	})
}

// append writes a row with the rows that hang on it, each in the place of its relation,
// which before leads to.
func (g *graph) append(b []byte, r *resource, row any, without []int, before string) ([]byte, error) {
	if g.seen[row] {
		return nil, fmt.Errorf("a row of %s that hangs on several others: %w", r.path, gate.ErrNotOffered)
	}
	g.seen[row] = true
	for _, rel := range r.relations {
		from, _ := rel.relation.LinkColumns()
		if rel.relation.Holds() != nil && children(rel.relation, row) != nil {
			without = slices.Concat(without, from) // the service fills them in
		}
	}
	b = r.appendColumns(b, row, r.info.Sent(row, nil), without)
	for _, rel := range r.relations {
		list := children(rel.relation, row)
		if list == nil {
			continue
		}
		to, err := g.service.resourceOf(rel.relation.Target())
		if err != nil {
			return nil, err
		}
		if !slices.Contains(g.with, before+rel.name) {
			g.with = append(g.with, before+rel.name)
		}
		b = slices.Delete(b, len(b)-1, len(b))
		if b[len(b)-1] != '{' {
			b = append(b, ',')
		}
		b = append(gate.AppendJSONString(b, rel.name), ':')
		if !rel.relation.Single() {
			b = append(b, '[')
		}
		for i, child := range list {
			if i > 0 {
				b = append(b, ',')
			}
			var given []int
			if !rel.relation.Through() && rel.relation.Holds() == nil {
				_, given = rel.relation.LinkColumns()
			}
			if b, err = g.append(b, to, child, given, before+rel.name+"."); err != nil {
				return nil, err
			}
		}
		if !rel.relation.Single() {
			b = append(b, ']')
		}
		b = append(b, '}')
	}
	return b, nil
}

// UpdateRows implements gate.Remote.
func (s *Service) UpdateRows(ctx context.Context, t *gate.Info, rows []any, columns []int) error {
	r, err := s.resourceOf(t)
	if err != nil {
		return err
	}
	steps := make([]step, len(rows))
	for i, row := range rows {
		set := t.Settable(row, columns)
		if columns == nil {
			set = slices.DeleteFunc(set, func(c int) bool { return t.Columns[c].Is(gate.Hidden) && t.IsEmpty(row, c) })
		}
		c := call{method: http.MethodPatch, path: r.at(r.keyParts(row)), about: r, row: true}
		c.header, c.body = r.patch(row, set)
		if tag := s.tagOf(r, row); tag != "" {
			c.header.Set("If-Match", tag)
		} else {
			c.safe = true // it has the same effect twice
		}
		steps[i] = step{c, s.stored(r, row)}
	}
	return s.run(ctx, steps...)
}

// tagOf is the ETag of a row: of its version where it counts them, else of the row as it
// was read.
func (s *Service) tagOf(r *resource, row any) string {
	for i := range r.info.Columns {
		if r.info.Columns[i].Is(gate.Version) {
			return `"v` + string(gate.AppendText(nil, r.info.Fields(nil, row)[i])) + `"`
		}
	}
	return s.tags.of(row)
}

// patch says to set columns of a row: as a merge patch (RFC 7396), or where that would
// merge documents too as a JSON patch (RFC 6902).
func (r *resource) patch(row any, columns []int) (http.Header, []byte) {
	merges := func(i int) bool { return r.info.Columns[i].Type == gate.TypeJSON }
	if !slices.ContainsFunc(columns, merges) {
		return http.Header{"Content-Type": {"application/merge-patch+json"}}, r.appendColumns(nil, row, columns, nil)
	}
	fields := r.info.Fields(nil, row)
	b := []byte{'['}
	for n, i := range columns {
		if n > 0 {
			b = append(b, ',')
		}
		b = append(b, `{"op":"add","path":`...)
		b = gate.AppendJSONString(b, "/"+escapePointer.Replace(r.columns[i]))
		b = append(b, `,"value":`...)
		b = append(r.info.Columns[i].AppendJSON(b, fields[i]), '}')
	}
	return http.Header{"Content-Type": {"application/json-patch+json"}}, append(b, ']')
}

// DeleteRow implements gate.Remote.
func (s *Service) DeleteRow(ctx context.Context, t *gate.Info, parts []any) error {
	r, err := s.resourceOf(t)
	if err != nil {
		return err
	}
	return s.run(ctx, step{call{method: http.MethodDelete, path: r.at(parts), about: r, row: true}, nothing})
}

func nothing(http.Header, []byte) error { return nil }

// UpdateChosen implements gate.Remote.
func (s *Service) UpdateChosen(ctx context.Context, q *gate.Query[any], row any, columns []int) (int64, error) {
	r, err := s.resourceOf(gate.InfoOf(q))
	if err != nil {
		return 0, err
	}
	c := call{method: http.MethodPatch, about: r}
	if c.header, c.body = r.patch(row, columns); c.header.Get("Content-Type") != "application/merge-patch+json" {
		return 0, fmt.Errorf("setting documents of many rows: %w", gate.ErrNotOffered)
	}
	return s.change(ctx, q, c)
}

// DeleteChosen implements gate.Remote.
func (s *Service) DeleteChosen(ctx context.Context, q *gate.Query[any]) (int64, error) {
	r, err := s.resourceOf(gate.InfoOf(q))
	if err != nil {
		return 0, err
	}
	return s.change(ctx, q, call{method: http.MethodDelete, about: r})
}

// change changes all rows of a query, and returns how many.
func (s *Service) change(ctx context.Context, q *gate.Query[any], c call) (n int64, err error) {
	a, err := s.ask(q)
	if err != nil {
		return 0, err
	}
	if a.Parent != nil || a.Limit > 0 || a.Offset > 0 || len(a.With) > 0 {
		return 0, fmt.Errorf("changing rows that are chosen by more than conditions: %w", gate.ErrNotOffered)
	}
	if a.Filter == "" || a.Filter == "TRUE" {
		a.Filter = "TRUE"
	}
	c.path, c.values = a.path, url.Values{"filter": {a.Filter}}
	err = s.run(ctx, step{c, func(_ http.Header, text []byte) error {
		list, err := pageOf(text)
		n = list.matched
		return err
	}})
	return n, err
}

// ends are a relation and the resources of both sides.
func (s *Service) ends(of gate.Relation) (rel *Relation, from, to *resource, err error) {
	if rel, err = s.relation(of); err == nil {
		from, err = s.resourceOf(of.Parent())
	}
	if err == nil {
		to, err = s.resourceOf(of.Target())
	}
	return rel, from, to, err
}

// InsertUnder implements gate.Remote.
func (s *Service) InsertUnder(ctx context.Context, of gate.Relation, parent any, children []any) error {
	rel, from, to, err := s.ends(of)
	if err != nil {
		return err
	}
	if of.Through() {
		return fmt.Errorf("storing new rows of a many-to-many relation: %w; store them, and add them to it", gate.ErrNotOffered)
	}
	_, given := of.LinkColumns()
	steps := make([]step, len(children))
	for i, child := range children {
		body := to.appendColumns(nil, child, to.info.Sent(child, nil), given)
		steps[i] = step{call{method: http.MethodPost, path: from.at(from.keyParts(parent)) + "/" + rel.path, about: to, body: body}, s.stored(to, child)}
	}
	return s.run(ctx, steps...)
}

// LinkRows implements gate.Remote.
func (s *Service) LinkRows(ctx context.Context, of gate.Relation, parent any, children []any, linked bool) error {
	rel, from, to, err := s.ends(of)
	if err != nil {
		return err
	}
	method := http.MethodDelete
	if linked {
		method = http.MethodPut
	}
	under := from.at(from.keyParts(parent)) + "/" + rel.path + "/"
	steps := make([]step, len(children))
	for i, child := range children {
		key := to.at(to.keyParts(child))[len(to.path)+1:]
		steps[i] = step{call{method: method, path: under + key, safe: true, about: to}, nothing}
	}
	return s.run(ctx, steps...)
}

// batch is where changes are gathered.
type batch struct{ steps []step }

func (b *batch) add(steps []step) error {
	b.steps = append(b.steps, steps...)
	return nil
}

// callsPerBatch is how many changes a service makes in one transaction.
const callsPerBatch = 100

// Batch makes the changes that do asks its service for in one transaction when it
// returns: all of them, or none. Rows are filled in then, so that none can be stored
// with the key of another that is new; InsertWithRelated does that. A batch has no
// reads, and at most 100 changes; InsertAll counts as one.
func (s *Service) Batch(ctx context.Context, do func(batch gate.DB) error) error {
	if s.batch != nil {
		return do(s) // it is part of the one around it
	}
	inner := &Service{url: s.url, made: s.made, options: s.options, byInfo: s.byInfo, names: s.names, tags: s.tags, batch: &batch{}}
	if err := do(inner); err != nil {
		return err
	}
	if len(inner.batch.steps) == 0 {
		return nil
	}
	return s.runTogether(ctx, inner.batch.steps)
}

// batched is a call of a batch, as the service takes it.
type batched struct {
	Method  string            `json:"method"`
	Path    string            `json:"path"`
	Headers map[string]string `json:"headers,omitempty"`
	Body    json.RawMessage   `json:"body,omitempty"`
}

// runTogether makes changes in one transaction.
func (s *Service) runTogether(ctx context.Context, steps []step) error {
	if len(steps) > callsPerBatch {
		return fmt.Errorf("%d changes in one transaction: %w; a batch has %d at most", len(steps), gate.ErrNotOffered, callsPerBatch)
	}
	var calls struct {
		Calls []batched `json:"calls"`
	}
	for _, st := range steps {
		c := batched{Method: st.call.method, Path: "/" + st.call.path, Body: st.call.body, Headers: map[string]string{}}
		if len(st.call.values) > 0 {
			c.Path += "?" + st.call.values.Encode()
		}
		for name, values := range st.call.header {
			c.Headers[name] = values[0]
		}
		calls.Calls = append(calls.Calls, c)
	}
	body, err := json.Marshal(calls)
	if err != nil {
		return fmt.Errorf("writing a batch: %w", err)
	}
	a, err := s.send(ctx, s.keyed(call{method: http.MethodPost, path: "batch", body: body}))
	if err != nil {
		return ofCall(err, steps)
	}
	text, err := a.text()
	if err != nil {
		return err
	}
	var whole struct {
		Answers []struct {
			Headers map[string]string `json:"headers"`
			Body    json.RawMessage   `json:"body"`
		} `json:"answers"`
	}
	if err := json.Unmarshal(text, &whole); err != nil || len(whole.Answers) != len(steps) {
		return errNotJSON
	}
	for i, st := range steps {
		header := http.Header{}
		for name, value := range whole.Answers[i].Headers {
			header.Set(name, value)
		}
		if err := st.take(header, whole.Answers[i].Body); err != nil {
			return err
		}
	}
	return nil
}

// ofCall is the error of a batch, with the faults of the call that it tells of.
func ofCall(err error, steps []step) error {
	var p *Problem
	if !errors.As(err, &p) || len(p.Faults) == 0 {
		return err
	}
	own := *p
	own.Faults = nil
	var about call
	for _, f := range p.Faults {
		rest, ok := bytes.CutPrefix([]byte(f.Pointer), []byte("#/calls/"))
		number, rest, _ := bytes.Cut(rest, []byte("/body"))
		n, wrong := strconv.Atoi(string(number))
		if !ok || wrong != nil || n >= len(steps) {
			return err
		}
		about = steps[n].call
		if len(rest) > 0 {
			own.Faults = append(own.Faults, Fault{"#" + string(rest), f.Detail})
		}
	}
	own.err = own.meaning(about)
	return &own
}
