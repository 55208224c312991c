package rest

import (
	"cmp"
	"context"
	"net/http"
	"slices"

	"widegate/gate"
)

// rowSet is rows as they are read for an answer. In JSON they are written as
// they arrive, unless something needs them whole.
type rowSet struct {
	*listing
	buffer  *[]byte
	rows    []any // where they are kept
	written bool  // one of them, at least
	count   int
	more    bool // there is a row behind the limit
	first   any
	last    any
	loose   bool // rows are compared with each other
}

// show has the rows shown with what is stored in place of values that do not fit
// their columns, if there are some.
func (l *listing) show(ctx context.Context, rows ...any) { l.showRead(ctx, nil, rows...) }

// showRead is show for rows of which only some columns were read; nil is all.
func (l *listing) showRead(ctx context.Context, columns []int, rows ...any) {
	odd := gate.OddOf(ctx)
	if l.res.api.engine().Checks() {
		l.res.checkValues(odd, rows, columns, l.nodes)
	}
	if odd.Any() && l.res.odd == nil {
		l.res, l.nodes = l.res.showing(odd), showingAll(l.nodes, odd)
	}
}

// checkValues notes values of rows, and of those related to them, that do not fit.
func (r *resource) checkValues(odd *gate.Odd, rows []any, columns []int, nodes []node) {
	for _, row := range rows {
		for i, p := range r.info.Fields(nil, row) {
			if columns == nil || slices.Contains(columns, i) {
				odd.Check(r.info, i, p)
			}
		}
		for _, n := range nodes {
			r.relations[n.index].rel.Each(row, func(child any) { n.to.checkValues(odd, []any{child}, nil, n.children) })
		}
	}
}

// showing is the resource with what is stored in place of such values.
func (r *resource) showing(odd *gate.Odd) *resource {
	if !odd.Any() {
		return r
	}
	own := *r
	own.odd = odd
	return &own
}

func showingAll(nodes []node, odd *gate.Odd) []node {
	list := slices.Clone(nodes)
	for i, n := range list {
		list[i].to, list[i].children = n.to.showing(odd), showingAll(n.children, odd)
	}
	return list
}

// shown are the columns to show.
func (l *listing) shown() []member {
	switch {
	case l.only != nil:
		return l.only
	case l.alone:
		return l.res.members
	}
	return l.res.listed
}

// linked reports whether URLs stand in the place of values.
func (l *listing) linked() bool {
	return l.only == nil && !l.alone && len(l.res.contents) > 0
}

// brief has only the beginnings of values read that are not shown, which tells
// whether there are any.
func (l *listing) brief(query *gate.Query[any]) *gate.Query[any] {
	if !l.linked() || l.res.whole() {
		return query
	}
	return gate.Beginnings(query, l.res.contents)
}

// read reads the page of a query whose limit is one more than that of the
// page.
func (s *rowSet) read(ctx context.Context, db gate.DB, query *gate.Query[any], backwards bool) error {
	if s.format.whole || backwards || s.loose || s.res.whole() || s.linked() || !splices(s.res, s.nodes) {
		return s.keep(ctx, db, query, backwards)
	}
	if len(s.nodes) > 0 {
		start := len(*s.buffer)
		done, err := s.splice(ctx, db, query)
		if done || err != nil {
			return err
		}
		*s.buffer = (*s.buffer)[:start] // some value does not fit its column
		*s = rowSet{listing: s.listing, buffer: s.buffer, loose: s.loose}
		return s.keep(ctx, db, query, backwards)
	}
	return s.stream(ctx, db, query)
}

// keep reads the rows as entities.
func (s *rowSet) keep(ctx context.Context, db gate.DB, query *gate.Query[any], backwards bool) error {
	rows, err := gate.WithRelations(s.brief(query), s.res.load(s.nodes)...).All(ctx, db)
	if err != nil {
		return err
	}
	if s.more = len(rows) > s.limit; s.more {
		rows = rows[:s.limit]
	}
	if backwards {
		slices.Reverse(rows)
	}
	s.rows, s.count = rows, len(rows)
	if len(rows) > 0 {
		s.first, s.last = rows[0], rows[len(rows)-1]
	}
	s.show(ctx, rows...)
	if s.format.whole {
		return nil
	}
	for _, row := range rows {
		s.separate()
		*s.buffer = s.appendRow(*s.buffer, row)
	}
	return nil
}

// separate writes what stands before a row.
func (s *rowSet) separate() {
	if s.written {
		*s.buffer = append(*s.buffer, s.format.between...)
	}
	s.written = true
}

func (s *rowSet) appendRow(b []byte, row any) []byte {
	return s.res.appendMembers(b, s.shown(), row, s.nodes)
}

// stream writes the rows as they come over the wire. Only the first and the
// last become entities, to tell where the page begins and ends.
func (s *rowSet) stream(ctx context.Context, db gate.DB, query *gate.Query[any]) error {
	t := newTransfer(gate.OddOf(ctx), s.listing, s.buffer, gate.PlaceColumns(query))
	fields := func(whole any) []any {
		if whole != nil {
			return t.entity(whole)
		}
		s.separate()
		return t.fields
	}
	return s.each(ctx, db, query, t.columns, fields, func(whole any) {
		if whole == nil {
			t.end()
			return
		}
		s.separate()
		s.showRead(ctx, t.columns, whole)
		*s.buffer = s.appendRow(*s.buffer, whole)
	})
}

// each reads the rows of a page: some columns into the fields that are given for a
// row. The rows that tell where the page begins and ends are entities, the others
// are nil. done is called behind each row of the page.
func (s *rowSet) each(ctx context.Context, db gate.DB, query *gate.Query[any], columns []int, fields func(whole any) []any, done func(whole any)) error {
	var whole any
	next := func() []any {
		whole = nil
		switch s.count++; s.count {
		case 1, s.limit, s.limit + 1:
			whole = s.res.info.New()
		}
		return fields(whole)
	}
	err := gate.ReadInto(ctx, db, query, columns, next, func() error {
		if s.count > s.limit {
			s.more = true
			return nil
		}
		if whole != nil {
			s.first, s.last = cmp.Or(s.first, whole), whole
		}
		done(whole)
		return nil
	})
	if s.more {
		s.count--
	}
	if err == nil && !s.more && s.count > 0 && s.count < s.limit {
		s.last = nil // no page follows, so nobody asks
	}
	return err
}

// transfer writes rows into a buffer column by column.
type transfer struct {
	res     *resource
	columns []int // as they are read: those shown, then what else is needed
	fields  []any
	hidden  []any // of a row that only takes what is not shown
	all     []any
	buffer  *[]byte
	empty   bool // nothing is shown
}

func newTransfer(odd *gate.Odd, l *listing, buffer *[]byte, needed []int) *transfer {
	t := &transfer{res: l.res, buffer: buffer, empty: len(l.shown()) == 0}
	unseen := l.res.info.Fields(nil, l.res.info.New())
	for i, m := range l.shown() {
		prefix := m.prefix
		if i == 0 {
			prefix = "{" + prefix[1:]
		}
		t.columns = append(t.columns, m.column)
		t.fields = append(t.fields, l.res.info.NewSink(l.res.api.engine(), m.column, unseen[m.column], buffer, prefix, odd))
	}
	for _, i := range needed {
		if !slices.Contains(t.columns, i) {
			t.columns = append(t.columns, i)
			t.fields = append(t.fields, l.res.info.OddField(i, unseen[i], odd))
		}
	}
	return t
}

// entity are the fields of a row in the order in which they are read.
func (t *transfer) entity(row any) []any {
	t.all = t.res.info.Fields(t.all[:0], row)
	t.hidden = t.hidden[:0]
	for _, i := range t.columns {
		t.hidden = append(t.hidden, t.all[i])
	}
	return t.hidden
}

// end ends a row.
func (t *transfer) end() {
	if t.empty {
		*t.buffer = append(*t.buffer, '{')
	}
	*t.buffer = append(*t.buffer, '}')
}

// flushAt is when an export sends what it has.
const flushAt = 32 << 10

// export streams all rows of a query at flat memory.
func (l *listing) export(w http.ResponseWriter, r *http.Request, query *gate.Query[any]) error {
	if l.after != "" || l.offset > 0 {
		return NewProblem(http.StatusBadRequest, "limit=none has no pages; leave out after and offset")
	}
	query = gate.OrderByKey(query)
	b := buffers.Get().(*[]byte)
	defer putBuffer(b)
	*b = (*b)[:0]
	out := &exporter{w: w, format: l.format, buffer: b}
	l.format.begin(b, l.shown(), l.res)
	err := l.exportRows(r, query, out)
	if err == nil {
		err = out.flush()
	}
	if err != nil && out.begun {
		panic(http.ErrAbortHandler) // so that nobody takes a part for the whole
	}
	return err
}

func (l *listing) exportRows(r *http.Request, query *gate.Query[any], out *exporter) error {
	db := l.res.api.exportDB(r.Context())
	if l.format.whole || len(l.nodes) > 0 || l.res.whole() || l.linked() {
		for row, err := range gate.WithRelations(l.brief(query), l.res.load(l.nodes)...).Each(r.Context(), db) {
			if err != nil {
				return err
			}
			l.show(r.Context(), row)
			*out.buffer = l.format.appendRow(*out.buffer, l, row)
			if err := out.rowDone(); err != nil {
				return err
			}
		}
		return nil
	}
	t := newTransfer(gate.OddOf(r.Context()), l, out.buffer, nil)
	if t.empty {
		return NewProblem(http.StatusBadRequest, "there are no properties to export")
	}
	return gate.ReadInto(r.Context(), db, query, t.columns, func() []any { return t.fields }, func() error {
		*out.buffer = append(*out.buffer, '}', '\n')
		return out.rowDone()
	})
}

// exporter sends what is in a buffer from time to time.
type exporter struct {
	w      http.ResponseWriter
	format format
	buffer *[]byte
	begun  bool
}

func (e *exporter) rowDone() error {
	if len(*e.buffer) < flushAt {
		return nil
	}
	return e.flush()
}

func (e *exporter) flush() error {
	if !e.begun {
		e.w.Header().Set("Content-Type", e.format.media)
		e.begun = true
	}
	err := writeInTime(e.w, *e.buffer)
	*e.buffer = (*e.buffer)[:0]
	return err
}
