package gate

import (
	"database/sql/driver"
	"encoding/json"
	"errors"
	"strings"
)

// Range is what lies between two values, as PostgreSQL keeps it. A side without
// a value has no end.
type Range[T any] struct {
	From, To   Maybe[T]
	FromInside bool // From belongs to the range
	ToInside   bool // To belongs to the range
	Empty      bool // nothing lies in it; the other fields say nothing
}

// RangeOf returns the range of the values from one on, up to and without
// another.
func RangeOf[T any](from, to T) Range[T] {
	return Range[T]{From: Just(from), To: Just(to), FromInside: true}
}

// Scan implements sql.Scanner; it reads PostgreSQL's text form, [1,5).
func (r *Range[T]) Scan(src any) error { return r.set(src) }

// Value implements driver.Valuer.
func (r Range[T]) Value() (driver.Value, error) { return r.arg(), nil }

// UnmarshalJSON reads {"from":1,"to":5,"bounds":"[)"}.
func (r *Range[T]) UnmarshalJSON(text []byte) error { return r.parseJSON(text) }

// MarshalJSON writes {"from":1,"to":5,"bounds":"[)"}; the bounds of an empty
// range are "empty".
func (r Range[T]) MarshalJSON() ([]byte, error) { return r.appendJSON(nil), nil }

const (
	emptyRange    = "empty"
	defaultBounds = "[)"
)

var errRange = errors.New("a range in a form that is not known")

func (r *Range[T]) set(src any) error {
	s, ok := textOf(src)
	if !ok {
		return mismatch(src, "a range")
	}
	if s == emptyRange {
		*r = Range[T]{Empty: true}
		return nil
	}
	if len(s) < 3 || !strings.Contains("[(", s[:1]) || !strings.Contains("])", s[len(s)-1:]) {
		return errRange
	}
	next := Range[T]{FromInside: s[0] == '[', ToInside: s[len(s)-1] == ']'}
	from, rest, err := nextElement(s[1:], ",")
	if err != nil || rest == "" {
		return errRange
	}
	to, _, err := nextElement(rest[1:len(rest)-1], ",")
	if err != nil {
		return errRange
	}
	if err := setBound(&next.From, from.text); err != nil {
		return err
	}
	if err := setBound(&next.To, to.text); err != nil {
		return err
	}
	*r = next
	return nil
}

// setBound reads a bound; an empty text is none.
func setBound[T any](m *Maybe[T], text string) error {
	*m = Null[T]()
	if text == "" {
		return nil
	}
	m.state = maybeValue
	return setElement(&m.value, text)
}

func (r Range[T]) bounds() string {
	if r.Empty {
		return emptyRange
	}
	b := []byte(`()`)
	if r.FromInside {
		b[0] = '['
	}
	if r.ToInside {
		b[1] = ']'
	}
	return string(b)
}

func (r Range[T]) arg() any {
	if r.Empty {
		return emptyRange
	}
	bounds := r.bounds()
	b := []byte{bounds[0]}
	b = append(appendBound(b, &r.From), ',')
	b = appendBound(b, &r.To)
	return string(append(b, bounds[1]))
}

func appendBound[T any](b []byte, m *Maybe[T]) []byte {
	if m.IsNull() {
		return b
	}
	return append(append(append(b, '"'), elementText(&m.value)...), '"')
}

func (r Range[T]) zero() bool {
	return !r.Empty && r.From.IsAbsent() && r.To.IsAbsent() && !r.FromInside && !r.ToInside
}

func (r Range[T]) appendJSON(b []byte) []byte {
	side := func(name string, m *Maybe[T]) {
		b = append(b, name...)
		if m.IsNull() || r.Empty {
			b = append(b, "null"...)
			return
		}
		b = appendElementJSON(b, &m.value)
	}
	side(`{"from":`, &r.From)
	side(`,"to":`, &r.To)
	return append(append(append(b, `,"bounds":"`...), r.bounds()...), `"}`...)
}

func (r Range[T]) appendText(b []byte) []byte { return r.appendJSON(b) }

const wantRange = `a range such as {"from":1,"to":5,"bounds":"[)"}`

func (r *Range[T]) parseJSON(raw []byte) error {
	parts := struct {
		From, To json.RawMessage
		Bounds   string
	}{Bounds: defaultBounds}
	if len(raw) == 0 || raw[0] != '{' || json.Unmarshal(raw, &parts) != nil {
		return wrongJSON(raw, wantRange)
	}
	if parts.Bounds == emptyRange {
		*r = Range[T]{Empty: true}
		return nil
	}
	if len(parts.Bounds) != 2 || !strings.Contains("[(", parts.Bounds[:1]) || !strings.Contains("])", parts.Bounds[1:]) {
		return wrongJSON(raw, `bounds that are one of "[)", "[]", "(]", "()" or "empty"`)
	}
	next := Range[T]{FromInside: parts.Bounds[0] == '[', ToInside: parts.Bounds[1] == ']'}
	if err := parseBound(&next.From, parts.From); err != nil {
		return err
	}
	if err := parseBound(&next.To, parts.To); err != nil {
		return err
	}
	*r = next
	return nil
}

func parseBound[T any](m *Maybe[T], raw json.RawMessage) error {
	*m = Null[T]()
	if len(raw) == 0 || string(raw) == "null" {
		return nil
	}
	m.state = maybeValue
	return fieldOf(&m.value).parseJSON(raw)
}

func (r *Range[T]) parseText(s string) error { return r.parseJSON([]byte(s)) }
