package rest

import (
	"context"
	"slices"

	"widegate/gate"
)

// A page with related rows is written as it is read, too: the rows of each level as
// bytes into a buffer of their own, which are put together by what they are related
// by once all levels are there. No row becomes an entity, but those that a page
// begins and ends with.

// splices reports whether rows related to those of a resource can be written as
// they are read.
func splices(r *resource, nodes []node) bool {
	for _, n := range nodes {
		if !r.relations[n.index].rel.Described() {
			return false
		}
		linked := slices.ContainsFunc(n.to.listed, func(m member) bool { return m.link != "" || m.column < 0 })
		if linked || n.to.whole() || !splices(n.to, n.children) {
			return false
		}
	}
	return true
}

// level is the rows of one table for an answer: their members, each with a comma
// before it.
type level struct {
	res      *resource
	shown    []member
	buffer   *[]byte
	ends     []int // of each row in the buffer
	columns  []int // that are read: those shown, then those that related rows hang on
	fields   []any // for a row that is only written
	branches []*branch

	whole []any // of an entity, by its columns
	list  []any // of those that are read
}

// branch is the rows of one relation, and how they hang on those of the level above.
type branch struct {
	relation *relation
	children *gate.Children
	links    []any // of a row of the level above that is only written
	rows     *level
	places   []int // of each row
	sorted   []int // rows by place
	from     []int // of each place in sorted
}

// newLevel prepares reading rows with the related rows that nodes name.
func newLevel(res *resource, shown []member, nodes []node, odd *gate.Odd) *level {
	l := &level{res: res, shown: shown, buffer: buffers.Get().(*[]byte)}
	*l.buffer = (*l.buffer)[:0]
	own := res.info.Fields(nil, res.info.New())
	for _, m := range shown {
		l.columns = append(l.columns, m.column)
		l.fields = append(l.fields, res.info.NewSink(res.api.engine(), m.column, own[m.column], l.buffer, m.prefix, odd))
	}
	var links []any // one for each column, whichever relations use it
	if len(nodes) > 0 {
		links = res.info.Fields(nil, res.info.New())
	}
	for _, n := range nodes {
		rel := &res.relations[n.index]
		of := rel.rel
		if n.query != nil {
			of = of.Narrowed(n.query)
		}
		b := &branch{relation: rel, children: of.Children(), rows: newLevel(n.to, n.to.listed, n.children, odd)}
		for _, i := range b.children.Links() {
			b.links = append(b.links, links[i])
			if !slices.Contains(l.columns[len(shown):], i) {
				l.columns = append(l.columns, i)
				l.fields = append(l.fields, res.info.OddField(i, links[i], odd))
			}
		}
		l.branches = append(l.branches, b)
	}
	return l
}

// done gives the buffers back.
func (l *level) done() {
	putBuffer(l.buffer)
	for _, b := range l.branches {
		b.rows.done()
	}
}

// entity are the fields of a row that is read whole, in the order of the columns.
func (l *level) entity(row any) []any {
	l.whole = l.res.info.Fields(l.whole[:0], row)
	l.list = l.list[:0]
	for _, i := range l.columns {
		l.list = append(l.list, l.whole[i])
	}
	return l.list
}

// wrote ends a row that was written as it was read.
func (l *level) wrote() {
	l.ends = append(l.ends, len(*l.buffer))
	for _, b := range l.branches {
		b.children.Add(b.links)
	}
}

// write writes a row that was read whole.
func (l *level) write(row any) {
	start := len(*l.buffer)
	text := l.res.appendMembers(*l.buffer, l.shown, row, nil)
	if len(l.shown) == 0 {
		text = text[:start]
	} else {
		text[start] = ','
		text = text[:len(text)-1]
	}
	*l.buffer = text
	l.ends = append(l.ends, len(text))
	for _, b := range l.branches {
		links := make([]any, 0, len(b.links))
		for _, i := range b.children.Links() {
			links = append(links, l.whole[i])
		}
		b.children.Add(links)
	}
}

// readRelated reads the related rows of all rows, and theirs.
func (l *level) readRelated(ctx context.Context, db gate.DB) error {
	for _, b := range l.branches {
		if err := b.read(ctx, db); err != nil {
			return err
		}
		if err := b.rows.readRelated(ctx, db); err != nil {
			return err
		}
	}
	return nil
}

func (b *branch) read(ctx context.Context, db gate.DB) error {
	rows := b.rows
	start := 0
	err := b.children.Read(ctx, db, rows.columns, func() []any { return rows.fields }, func(place int) {
		if place < 0 {
			*rows.buffer = (*rows.buffer)[:start]
			return
		}
		rows.wrote()
		start = len(*rows.buffer)
		b.places = append(b.places, place)
	})
	if err == nil {
		b.sort()
	}
	return err
}

// sort finds the rows of each place, in the order in which they were read.
func (b *branch) sort() {
	b.from = make([]int, b.children.Places()+1)
	for _, place := range b.places {
		b.from[place+1]++
	}
	for i := 1; i < len(b.from); i++ {
		b.from[i] += b.from[i-1]
	}
	next := slices.Clone(b.from)
	b.sorted = make([]int, len(b.places))
	for row, place := range b.places {
		b.sorted[next[place]] = row
		next[place]++
	}
}

// append writes a row with its related rows.
func (l *level) append(to []byte, row int) []byte {
	from := 0
	if row > 0 {
		from = l.ends[row-1]
	}
	start := len(to)
	to = append(to, (*l.buffer)[from:l.ends[row]]...)
	for _, b := range l.branches {
		to = append(to, b.relation.prefix...)
		to = b.append(to, b.children.Place(row))
	}
	if len(to) == start {
		return append(to, '{', '}')
	}
	to[start] = '{'
	return append(to, '}')
}

// append writes the rows of a place.
func (b *branch) append(to []byte, place int) []byte {
	var rows []int
	if place >= 0 {
		rows = b.sorted[b.from[place]:b.from[place+1]]
	}
	if b.relation.rel.Single() {
		if len(rows) == 0 {
			return append(to, "null"...)
		}
		return b.rows.append(to, rows[0])
	}
	to = append(to, '[')
	for n, row := range rows {
		if n > 0 {
			to = append(to, ',')
		}
		to = b.rows.append(to, row)
	}
	return append(to, ']')
}

// splice writes a page with related rows as they are read. It is not done where a
// value does not fit its column, which only entities can tell of.
func (s *rowSet) splice(ctx context.Context, db gate.DB, query *gate.Query[any]) (done bool, err error) {
	own, odd := gate.WithOdd(ctx, s.res.api.engine())
	top := newLevel(s.res, s.shown(), s.nodes, odd)
	defer top.done()
	for _, i := range gate.PlaceColumns(query) {
		if !slices.Contains(top.columns, i) {
			top.columns = append(top.columns, i)
			top.fields = append(top.fields, s.res.info.OddField(i, s.res.info.Fields(nil, s.res.info.New())[i], odd))
		}
	}
	fields := func(whole any) []any {
		if whole != nil {
			return top.entity(whole)
		}
		return top.fields
	}
	err = s.each(own, db, query, top.columns, fields, func(whole any) {
		if whole == nil {
			top.wrote()
			return
		}
		if s.res.api.engine().Checks() {
			s.res.checkValues(odd, []any{whole}, top.columns, nil)
		}
		top.write(whole)
	})
	if err != nil {
		return false, err
	}
	if err := top.readRelated(own, db); err != nil || odd.Noted() {
		return false, err
	}
	for row := range top.ends {
		s.separate()
		*s.buffer = top.append(*s.buffer, row)
	}
	return true, nil
}
