package gate

import (
	"fmt"
	"strconv"
	"strings"
)

// statement builds the text of a statement and gathers its arguments.
type statement struct {
	strings.Builder
	engine *Engine
	args   []any
	alias  string // of the table whose columns are being written
	tables int    // aliases given so far
	err    error  // the first thing that cannot be written
}

// firstSize is room enough for most statements.
const firstSize = 512

func newStatement(e *Engine) *statement {
	s := &statement{engine: e}
	s.Grow(firstSize)
	return s
}

// add writes texts one after another.
func (s *statement) add(texts ...string) {
	for _, t := range texts {
		s.WriteString(t)
	}
}

// name writes a quoted name.
func (s *statement) name(name string) {
	q := s.engine.Quote
	if strings.IndexByte(name, q) >= 0 {
		s.add(s.engine.quote(name))
		return
	}
	s.WriteByte(q)
	s.WriteString(name)
	s.WriteByte(q)
}

// newAlias returns an alias that the statement does not use yet.
func (s *statement) newAlias() string {
	s.tables++
	return "t" + strconv.Itoa(s.tables)
}

// argument adds a value to those of the placeholders.
func (s *statement) argument(v any) {
	if s.args == nil {
		s.args = make([]any, 0, 16)
	}
	s.args = append(s.args, s.engine.arg(v))
}

// bind writes a placeholder for v.
func (s *statement) bind(v any) {
	s.argument(v)
	if s.engine.Numbered {
		var digits [20]byte
		s.WriteByte('$')
		s.Write(strconv.AppendInt(digits[:0], int64(len(s.args)), 10))
		return
	}
	s.WriteByte('?')
}

// asStored is a value as it is stored, be it of the type of its column or not.
type asStored struct{ value any }

// bindAs writes a placeholder for a value to compare with the column.
func (s *statement) bindAs(c *Column, v any) {
	if own, ok := v.(asStored); ok {
		s.bind(own.value)
		return
	}
	if _, text := v.(string); text && c != nil && c.Type == TypeNumeric && s.engine.Mixed != nil {
		s.add("CAST(") // columns of views do not tell how they compare
		s.bind(v)
		s.add(" AS NUMERIC)")
		return
	}
	s.bind(v)
	if c != nil && c.Cast != "" {
		s.add(s.engine.Dialect.Cast(c.Cast))
	}
}

// bindStored writes a placeholder for a value that the column is to store.
func (s *statement) bindStored(c *Column, v any) {
	s.bind(v)
	if c != nil && c.Cast != "" {
		s.add(s.engine.Dialect.Cast(c.Cast))
	}
	s.check(c, v)
}

// argumentStored adds a value that the column is to store to those of the
// placeholders.
func (s *statement) argumentStored(c *Column, v any) {
	s.argument(v)
	s.check(c, v)
}

// check refuses a value that the engine would change on its way in.
func (s *statement) check(c *Column, v any) {
	if s.engine.Check == nil || c == nil || v == nil {
		return
	}
	if broken := s.engine.Check(c, v); broken != nil {
		broken.Columns = []string{c.Name}
		s.fail(broken)
	}
}

// column writes column i of t, qualified by the alias.
func (s *statement) column(t *Info, i int) {
	if i < 0 || i >= len(t.Columns) {
		s.fail(fmt.Errorf("table %s is not described with all columns that are used", t.Name))
		return
	}
	if s.alias != "" {
		s.add(s.alias, ".")
	}
	s.name(t.Columns[i].Name)
}

// outputs writes the columns of t as they are read.
func (s *statement) outputs(t *Info) {
	key := textKey{s.engine, s.alias, 0}
	if s.again(t, key) {
		return
	}
	start := s.Len()
	for i := range t.Columns {
		if i > 0 {
			s.add(", ")
		}
		s.output(t, i)
	}
	s.remember(t, key, start)
}

// textKey names a part of a statement that is the same each time.
type textKey struct {
	engine *Engine
	alias  string
	sent   uint64 // the columns of an insert, a bit each; 0 for what is read
}

// mostTexts is how many parts of statements are kept for a table: what comes in
// from outside may choose among very many.
const mostTexts = 100

// again writes a part of a statement that was written before.
func (s *statement) again(t *Info, key textKey) bool {
	text, ok := t.texts.Load(key)
	if ok {
		s.WriteString(text.(string))
	}
	return ok
}

// remember keeps what was written since start.
func (s *statement) remember(t *Info, key textKey, start int) {
	if s.err == nil && t.kept.Add(1) <= mostTexts {
		t.texts.Store(key, strings.Clone(s.String()[start:]))
	}
}

func (s *statement) output(t *Info, i int) {
	if i < 0 || i >= len(t.Columns) || t.Columns[i].Cast == "" {
		s.column(t, i)
		return
	}
	before, after := s.engine.Dialect.Output(t.Columns[i].Cast)
	s.add(before)
	s.column(t, i)
	s.add(after)
}

// where writes the conditions, all of which must hold.
func (s *statement) where(conds []expr) {
	for i, c := range conds {
		if i == 0 {
			s.add(" WHERE ")
		} else {
			s.add(" AND ")
		}
		c.write(s)
	}
}

func (s *statement) fail(err error) {
	if s.err == nil {
		s.err = err
	}
}

// inAlias runs do with columns qualified by alias.
func (s *statement) inAlias(alias string, do func()) {
	before := s.alias
	s.alias = alias
	do()
	s.alias = before
}
