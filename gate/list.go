package gate

import (
	"bytes"
	"database/sql/driver"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
)

// List is an array of the database, whose elements may be null there.
type List[T any] []Maybe[T]

// ListOf returns a list of values.
func ListOf[T any](values ...T) List[T] {
	l := make(List[T], len(values))
	for i, v := range values {
		l[i] = Just(v)
	}
	return l
}

// Values returns the elements that are not null.
func (l List[T]) Values() []T {
	values := make([]T, 0, len(l))
	for _, m := range l {
		if v, ok := m.Get(); ok {
			values = append(values, v)
		}
	}
	return values
}

// Scan implements sql.Scanner; it reads PostgreSQL's text form, {1,2}.
func (l *List[T]) Scan(src any) error { return l.set(src) }

// Value implements driver.Valuer.
func (l List[T]) Value() (driver.Value, error) { return l.arg(), nil }

// UnmarshalJSON reads an array.
func (l *List[T]) UnmarshalJSON(text []byte) error { return l.parseJSON(text) }

// MarshalJSON writes an array.
func (l List[T]) MarshalJSON() ([]byte, error) { return l.appendJSON(nil), nil }

func (l *List[T]) set(src any) error {
	s, ok := textOf(src)
	if !ok {
		return mismatch(src, "an array")
	}
	elements, err := splitArray(s)
	if err != nil {
		return err
	}
	list := make(List[T], len(elements))
	for i, e := range elements {
		if e.null {
			list[i] = Null[T]()
			continue
		}
		list[i].state = maybeValue
		if err := setElement(&list[i].value, e.text); err != nil {
			return fmt.Errorf("element %d: %w", i+1, err)
		}
	}
	*l = list
	return nil
}

func (l List[T]) arg() any {
	b := []byte{'{'}
	for i := range l {
		if i > 0 {
			b = append(b, ',')
		}
		if l[i].IsNull() {
			b = append(b, "NULL"...)
			continue
		}
		b = appendElement(b, elementText(&l[i].value))
	}
	return string(append(b, '}'))
}

// appendElement writes an element of an array in PostgreSQL's text form.
func appendElement(b, text []byte) []byte {
	b = append(b, '"')
	for _, c := range text {
		if c == '"' || c == '\\' {
			b = append(b, '\\')
		}
		b = append(b, c)
	}
	return append(b, '"')
}

func (l List[T]) zero() bool { return l == nil }

func (l List[T]) appendJSON(b []byte) []byte {
	b = append(b, '[')
	for i := range l {
		if i > 0 {
			b = append(b, ',')
		}
		if l[i].IsNull() {
			b = append(b, "null"...)
			continue
		}
		b = appendElementJSON(b, &l[i].value)
	}
	return append(b, ']')
}

func (l List[T]) appendText(b []byte) []byte { return l.appendJSON(b) }

func (l *List[T]) parseJSON(raw []byte) error {
	var elements []json.RawMessage
	if err := json.Unmarshal(raw, &elements); err != nil || bytes.Equal(raw, []byte("null")) {
		return wrongJSON(raw, "an array")
	}
	list := make(List[T], len(elements))
	for i, e := range elements {
		if string(e) == "null" {
			list[i] = Null[T]()
			continue
		}
		list[i].state = maybeValue
		if err := fieldOf(&list[i].value).parseJSON(e); err != nil {
			return fmt.Errorf("element %d %w", i+1, err)
		}
	}
	*l = list
	return nil
}

func (l *List[T]) parseText(s string) error { return l.parseJSON([]byte(s)) }

// appendElementJSON writes an element. Decimals become strings, which keep
// their digits with every reader.
func appendElementJSON(b []byte, p any) []byte {
	if d, ok := p.(*Decimal); ok {
		return AppendJSONString(b, d.String())
	}
	return fieldOf(p).appendJSON(b)
}

// setElement reads an element as it stands in an array or range.
func setElement(p any, text string) error {
	switch p := p.(type) {
	case *[]byte:
		v, err := hex.DecodeString(strings.TrimPrefix(text, `\x`))
		*p = v
		return err
	case *bool:
		*p = text == "t" || text == "true"
		return nil
	}
	return fieldOf(p).set(text)
}

// elementText writes an element as it stands in an array or range.
func elementText(p any) []byte {
	switch p := p.(type) {
	case *[]byte:
		return []byte(`\x` + hex.EncodeToString(*p))
	case *JSON:
		return *p
	}
	if s, ok := fieldOf(p).arg().(string); ok { // a date, say, in the form of the engine
		return []byte(s)
	}
	return fieldOf(p).appendText(nil)
}

// arrayElement is an element of an array in PostgreSQL's text form.
type arrayElement struct {
	text string
	null bool
}

var errArray = errors.New("an array in a form that is not known")

// splitArray reads {1,"two",NULL}; see the section on input and output of
// arrays in the PostgreSQL manual. Bounds before it are dropped.
func splitArray(s string) ([]arrayElement, error) {
	if strings.HasPrefix(s, "[") {
		if at := strings.IndexByte(s, '='); at > 0 {
			s = s[at+1:]
		}
	}
	if len(s) < 2 || s[0] != '{' || s[len(s)-1] != '}' {
		return nil, errArray
	}
	s = s[1 : len(s)-1]
	if s == "" {
		return nil, nil
	}
	var list []arrayElement
	for {
		e, rest, err := nextElement(s, ",")
		if err != nil {
			return nil, err
		}
		list = append(list, e)
		if rest == "" {
			return list, nil
		}
		s = rest[1:]
	}
}

// nextElement reads up to one of the separators and returns what begins there.
func nextElement(s, separators string) (e arrayElement, rest string, err error) {
	var text strings.Builder
	quoted, inside := false, false
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == '\\' && i+1 < len(s):
			i++
			text.WriteByte(s[i])
			quoted = true
		case c == '"' && inside && i+1 < len(s) && s[i+1] == '"':
			i++
			text.WriteByte('"')
		case c == '"':
			inside = !inside
			quoted = true
		case !inside && c == '{':
			return e, "", errors.New("an array of arrays in a column that is not declared so")
		case !inside && strings.IndexByte(separators, c) >= 0:
			return arrayElement{text.String(), !quoted && text.String() == "NULL"}, s[i:], nil
		default:
			text.WriteByte(c)
		}
	}
	if inside {
		return e, "", errArray
	}
	return arrayElement{text.String(), !quoted && text.String() == "NULL"}, "", nil
}

// textOf returns what a driver gave as text.
func textOf(src any) (string, bool) {
	switch v := src.(type) {
	case string:
		return v, true
	case []byte:
		return string(v), true
	}
	return "", false
}

// jsonText reads a JSON string.
func jsonText(raw []byte) (string, bool) {
	var s string
	if len(raw) == 0 || raw[0] != '"' || json.Unmarshal(raw, &s) != nil {
		return "", false
	}
	return s, true
}
