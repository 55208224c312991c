package gate

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// Lists of values, and the keys of many rows, travel in a statement in one of
// several ways: each as an argument of its own while there are few; all as one
// argument where the engine has arrays or reads JSON; or within the text.

const (
	// manyValues is from how many values on they are no arguments of their own.
	manyValues = 1024
	// mostKeys is how many rows one statement looks for.
	mostKeys = 1 << 17
)

// exactKey reports whether two values of a column are the same for the engine
// if and only if they are the same in Go. Texts have collations and padding,
// numbers have zeros at their end.
func (e *Engine) exactKey(c *Column) bool {
	switch c.Type {
	case TypeInt16, TypeInt32, TypeInt64, TypeUint64, TypeBool, TypeEnum, TypeBytes:
		return true
	}
	return c.Type == TypeUUID && e.OwnUUIDs
}

// arrayText writes arguments as an array in PostgreSQL's text form.
func arrayText(values []any) (text string, ok bool) {
	b := []byte{'{'}
	for i, v := range values {
		if i > 0 {
			b = append(b, ',')
		}
		if v == nil {
			b = append(b, "NULL"...)
			continue
		}
		element, ok := arrayElementOf(v)
		if !ok {
			return "", false
		}
		b = appendElement(b, element)
	}
	return string(append(b, '}')), true
}

// arrayElementOf is an argument as it stands in an array.
func arrayElementOf(v any) (text []byte, ok bool) {
	switch v := v.(type) {
	case string:
		return []byte(v), true
	case int64:
		return strconv.AppendInt(nil, v, 10), true
	case float64:
		return strconv.AppendFloat(nil, v, 'g', -1, 64), true
	case bool:
		return strconv.AppendBool(nil, v), true
	case []byte:
		return hex.AppendEncode([]byte(`\x`), v), true
	case time.Time:
		return AppendEraTime(nil, v), true
	}
	return nil, false
}

// AppendEraTime writes a point in time as PostgreSQL reads it: years before 1 are
// counted backwards, and have BC behind them.
func AppendEraTime(b []byte, t time.Time) []byte {
	const layout = "-01-02 15:04:05.999999Z07:00"
	t = t.UTC()
	if year := t.Year(); year < 1 {
		return append(t.AppendFormat(fmt.Appendf(b, "%04d", firstYearBC-year), layout), beforeChrist...)
	}
	return t.AppendFormat(fmt.Appendf(b, "%04d", t.Year()), layout)
}

// jsonRows writes rows of arguments as a JSON array: of values where a row has
// one, else of arrays. Not every value survives that; ok is then false.
func jsonRows(rows [][]any) (text string, ok bool) {
	b := []byte{'['}
	for i, row := range rows {
		if i > 0 {
			b = append(b, ',')
		}
		if len(row) > 1 {
			b = append(b, '[')
		}
		for n, v := range row {
			if n > 0 {
				b = append(b, ',')
			}
			if b, ok = appendJSONArgument(b, v); !ok {
				return "", false
			}
		}
		if len(row) > 1 {
			b = append(b, ']')
		}
	}
	return string(append(b, ']')), true
}

func appendJSONArgument(b []byte, v any) (text []byte, ok bool) {
	switch v := v.(type) {
	case nil:
		return append(b, "null"...), true
	case int64:
		return strconv.AppendInt(b, v, 10), true
	case bool:
		if v {
			return append(b, '1'), true
		}
		return append(b, '0'), true
	case string:
		return AppendJSONString(b, v), utf8.ValidString(v) && strings.IndexByte(v, 0) < 0
	}
	return b, false
}

// appendLiteral writes an argument of a column into the text of a statement of
// MySQL. Texts are written by their bytes, so that nothing in them can end one.
func appendLiteral(b []byte, c *Column, v any) (text []byte, ok bool) {
	switch v := v.(type) {
	case nil:
		return append(b, "NULL"...), true
	case int64:
		return strconv.AppendInt(b, v, 10), true
	case bool:
		return strconv.AppendBool(b, v), true
	case string:
		if c != nil && c.Type == TypeNumeric && plainDecimal(v) {
			return append(b, v...), true
		}
		return append(hex.AppendEncode(append(b, "_utf8mb4 X'"...), []byte(v)), '\''), true
	case []byte:
		return append(hex.AppendEncode(append(b, "X'"...), v), '\''), true
	}
	return b, false
}

// literal writes an argument of a column into the text.
func (s *statement) literal(c *Column, v any) {
	text, ok := appendLiteral(nil, c, s.engine.arg(v))
	if !ok {
		s.fail(fmt.Errorf("%T cannot stand among as many values; use fewer at a time", v))
	}
	s.Write(text)
}

// writeList writes that what stands before it is one of the values, or with not,
// none of them.
func writeList(s *statement, c *Column, not bool, values []any) {
	if s.engine.ArrayArgs && writeArray(s, c, not, values) {
		return
	}
	if not {
		s.add(" NOT")
	}
	s.add(" IN (")
	switch many := len(values) > manyValues; {
	case len(values) == 0:
		s.add(s.engine.Dialect.Nothing())
	case many && s.engine.Dialect.Literals():
		for i, v := range values {
			if i > 0 {
				s.add(", ")
			}
			s.literal(c, v)
		}
	case many && writeJSONList(s, values):
	default:
		for i := range listSize(len(values)) {
			if i > 0 {
				s.add(", ")
			}
			s.bindAs(c, values[min(i, len(values)-1)])
		}
	}
	s.add(")")
}

// writeJSONList writes the values as one argument.
func writeJSONList(s *statement, values []any) bool {
	rows := make([][]any, len(values))
	for i, v := range values {
		rows[i] = []any{s.engine.arg(v)}
	}
	text, ok := jsonRows(rows)
	if ok {
		s.add("SELECT value FROM json_each(")
		s.bind(text)
		s.add(")")
	}
	return ok
}

// writeArray writes that what stands before it is an element of an array, or
// none of it, whose type is that of the column or, where there is none, of what
// stands before it.
func writeArray(s *statement, c *Column, not bool, values []any) bool {
	var array any
	numbers, ok := sameType[int64](values)
	if ok && len(numbers) > 0 && (c == nil || c.Type.array()) {
		array = numbers
	} else if array, ok = arrayText(values); !ok {
		return false
	}
	if not {
		s.add(" <> ALL(")
	} else {
		s.add(" = ANY(")
	}
	s.bind(array)
	if c != nil && c.Cast != "" {
		s.add("::text::", c.Cast, "[]")
	}
	s.add(")")
	return true
}

// listSize rounds the length of a list up to a power of two, so that lists of
// any length make few statement texts; the last value is repeated.
func listSize(n int) int {
	size := 1
	for size < n {
		size *= 2
	}
	return size
}

// sameType is a list of values that are all of one type.
func sameType[T any](values []any) ([]T, bool) {
	list := make([]T, len(values))
	for i, v := range values {
		t, ok := v.(T)
		if !ok {
			return nil, false
		}
		list[i] = t
	}
	return list, true
}

// keyTable is rows of values as a table in a statement, whose columns have the
// types and collations of columns of another: v0, v1 and so on, and place,
// which counts the rows from 1.
type keyTable struct {
	like    *Info
	columns []int
	keys    [][]any
}

// write writes the table, to stand in FROM, under an alias.
func (k keyTable) write(s *statement, alias string) {
	switch {
	case s.engine.ArrayArgs:
		k.writeArrays(s, alias)
	default:
		s.add("(SELECT ")
		for n, i := range k.columns {
			s.column(k.like, i)
			s.add(" AS ", keyColumn(n), ", ")
		}
		s.add("0 AS place FROM ", s.engine.table(k.like.Schema, k.like.Name), " WHERE 1=0 UNION ALL ")
		if s.engine.Dialect.Literals() || !k.writeJSON(s) {
			k.writeValues(s)
		}
		s.add(") AS ", alias)
	}
}

// keyColumn is the name of a column of a keyTable.
func keyColumn(n int) string { return "v" + strconv.Itoa(n) }

// writeArrays writes an array for each column, which takes its type from an
// empty array of the column.
func (k keyTable) writeArrays(s *statement, alias string) {
	s.add("unnest(")
	for n, i := range k.columns {
		if n > 0 {
			s.add(", ")
		}
		values := make([]any, len(k.keys))
		for r, key := range k.keys {
			values[r] = key[n]
		}
		text, ok := arrayText(values)
		if !ok {
			s.fail(fmt.Errorf("table %s: values of %s cannot be keys", k.like.Name, k.like.Columns[i].Name))
		}
		s.add("array_cat((SELECT array_agg(")
		s.column(k.like, i)
		s.add(") FROM ", s.engine.table(k.like.Schema, k.like.Name), " WHERE false), ")
		s.bind(text)
		if cast := k.like.Columns[i].Cast; cast != "" {
			s.add("::text::", cast, "[]")
		}
		s.add(")")
	}
	s.add(") WITH ORDINALITY AS ", alias, " (")
	for n := range k.columns {
		s.add(keyColumn(n), ", ")
	}
	s.add("place)")
}

// writeJSON writes the rows as one argument.
func (k keyTable) writeJSON(s *statement) bool {
	rows := make([][]any, len(k.keys))
	for r, key := range k.keys {
		rows[r] = make([]any, len(key))
		for n, v := range key {
			rows[r][n] = s.engine.arg(v)
		}
	}
	text, ok := jsonRows(rows)
	if !ok {
		return false
	}
	s.add("SELECT ")
	for n := range k.columns {
		if len(k.columns) == 1 {
			s.add("value, ")
		} else {
			s.add("json_extract(value, '$[", strconv.Itoa(n), "]'), ")
		}
	}
	s.add("key + 1 FROM json_each(")
	s.bind(text)
	s.add(")")
	return true
}

// writeValues writes each value by itself. Rows of nulls, which equal nothing,
// make few statement texts of it.
func (k keyTable) writeValues(s *statement) {
	many := len(k.keys)*len(k.columns) > manyValues && s.engine.Dialect.Literals()
	size := len(k.keys)
	if !many {
		size = listSize(size)
	}
	none := make([]any, len(k.columns))
	s.add("VALUES ")
	for r := range size {
		key := none
		if r < len(k.keys) {
			key = k.keys[r]
		}
		if r > 0 {
			s.add(", ")
		}
		s.add(s.engine.RowWord, "(")
		for n, v := range key {
			if c := &k.like.Columns[k.columns[n]]; many {
				s.literal(c, v)
			} else {
				s.bindAs(c, v)
			}
			s.add(", ")
		}
		s.add(strconv.Itoa(r+1), ")")
	}
}

// keysIn holds for the rows of keys of several columns.
type keysIn struct{ keyTable }

func (k keysIn) write(s *statement) {
	if len(k.keys) == 0 {
		group{joiner: " OR "}.write(s)
		return
	}
	s.add("(")
	s.columnList(k.like, k.columns)
	s.add(") IN (SELECT ")
	alias := s.newAlias()
	for n := range k.columns {
		if n > 0 {
			s.add(", ")
		}
		s.add(alias, ".", keyColumn(n))
	}
	s.add(" FROM ")
	s.inAlias("", func() { k.keyTable.write(s, alias) })
	s.add(")")
}

// hasKeys holds for the rows of keys.
func (t *Info) hasKeys(keys [][]any) expr {
	values := make([][]any, len(keys))
	for i, parts := range keys {
		for _, p := range parts {
			values[i] = append(values[i], fieldOf(p).arg())
		}
	}
	if len(t.Keys) != 1 {
		return keysIn{keyTable{t, t.Keys, values}}
	}
	return inList{columnRef{t, t.Keys[0]}, slices.Concat(values...)}
}
