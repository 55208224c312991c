package gate

import (
	"database/sql/driver"
	"encoding/json"
)

// Maybe is a value that may be null, or absent. The zero Maybe is absent: an
// insert leaves an absent value to the column's default, and stores NULL where
// there is none. Reading a row never gives an absent value.
type Maybe[T any] struct {
	value T
	state maybeState
}

type maybeState uint8

const (
	maybeAbsent maybeState = iota
	maybeNull
	maybeValue
)

// Just returns a Maybe that holds v.
func Just[T any](v T) Maybe[T] { return Maybe[T]{value: v, state: maybeValue} }

// Null returns a Maybe that is null on purpose.
func Null[T any]() Maybe[T] { return Maybe[T]{state: maybeNull} }

// Get returns the value, and whether there is one.
func (m Maybe[T]) Get() (T, bool) { return m.value, m.state == maybeValue }

// Or returns the value, or other where there is none.
func (m Maybe[T]) Or(other T) T {
	if m.state == maybeValue {
		return m.value
	}
	return other
}

// IsNull reports whether there is no value, be it null or absent.
func (m Maybe[T]) IsNull() bool { return m.state != maybeValue }

// IsAbsent reports whether nothing was said about the value, not even null.
func (m Maybe[T]) IsAbsent() bool { return m.state == maybeAbsent }

// MarshalJSON writes the value, or null.
func (m Maybe[T]) MarshalJSON() ([]byte, error) {
	if m.state != maybeValue {
		return []byte("null"), nil
	}
	switch v := any(m.value).(type) {
	case float64:
		return appendJSONFloat(nil, v, 64), nil
	case float32:
		return appendJSONFloat(nil, float64(v), 32), nil
	}
	return json.Marshal(m.value)
}

// UnmarshalJSON reads a value or null; a member that is missing stays absent.
func (m *Maybe[T]) UnmarshalJSON(text []byte) error {
	if string(text) == "null" {
		*m = Null[T]()
		return nil
	}
	if err := unmarshal(text, &m.value); err != nil {
		return err
	}
	m.state = maybeValue
	return nil
}

// unmarshal reads JSON; for floating-point numbers also what JSON has no numbers
// for.
func unmarshal(text []byte, p any) error {
	switch p.(type) {
	case *float64, *float32:
		return fieldOf(p).parseJSON(text)
	}
	return json.Unmarshal(text, p)
}

// Float is a floating-point number in JSON, where "NaN", "Infinity" and
// "-Infinity" stand for what has no number there.
type Float float64

// MarshalJSON writes the number, or a text.
func (f Float) MarshalJSON() ([]byte, error) { return appendJSONFloat(nil, float64(f), 64), nil }

// UnmarshalJSON reads a number, or one of the texts.
func (f *Float) UnmarshalJSON(text []byte) error { return unmarshal(text, (*float64)(f)) }

// Float32 is a Float of less precision.
type Float32 float32

// MarshalJSON writes the number, or a text.
func (f Float32) MarshalJSON() ([]byte, error) {
	return appendJSONFloat(nil, float64(f), 32), nil
}

// UnmarshalJSON reads a number, or one of the texts.
func (f *Float32) UnmarshalJSON(text []byte) error { return unmarshal(text, (*float32)(f)) }

// Scan implements sql.Scanner.
func (m *Maybe[T]) Scan(src any) error {
	if src == nil {
		*m = Null[T]()
		return nil
	}
	if err := fieldOf(&m.value).set(src); err != nil {
		return err
	}
	m.state = maybeValue
	return nil
}

// Value implements driver.Valuer.
func (m Maybe[T]) Value() (driver.Value, error) {
	if m.state != maybeValue {
		return nil, nil
	}
	return fieldOf(&m.value).arg(), nil
}

func (m *Maybe[T]) set(src any) error { return m.Scan(src) }

func (m *Maybe[T]) arg() any {
	if m.state != maybeValue {
		return nil
	}
	return fieldOf(&m.value).arg()
}

func (m *Maybe[T]) zero() bool { return m.state == maybeAbsent }

func (m *Maybe[T]) appendJSON(b []byte) []byte {
	if m.state != maybeValue {
		return append(b, "null"...)
	}
	return fieldOf(&m.value).appendJSON(b)
}

func (m *Maybe[T]) parseJSON(raw []byte) error {
	if string(raw) == "null" {
		*m = Null[T]()
		return nil
	}
	if err := fieldOf(&m.value).parseJSON(raw); err != nil {
		return err
	}
	m.state = maybeValue
	return nil
}

func (m *Maybe[T]) parseText(s string) error {
	if err := fieldOf(&m.value).parseText(s); err != nil {
		return err
	}
	m.state = maybeValue
	return nil
}

func (m *Maybe[T]) appendText(b []byte) []byte {
	if m.state != maybeValue {
		return b
	}
	return fieldOf(&m.value).appendText(b)
}

// label makes an enum, whose Go type is a named string, a field of the
// runtime's without reflection.
type label[T ~string] struct{ p *T }

// Label points the runtime at a field that holds an enum's label.
func Label[T ~string](p *T) any { return label[T]{p} }

func (l label[T]) set(src any) error {
	var s string
	if err := (*textField)(&s).set(src); err != nil {
		return err
	}
	*l.p = T(s)
	return nil
}

func (l label[T]) arg() any                   { return string(*l.p) }
func (l label[T]) zero() bool                 { return *l.p == "" }
func (l label[T]) appendJSON(b []byte) []byte { return AppendJSONString(b, string(*l.p)) }
func (l label[T]) appendText(b []byte) []byte { return append(b, *l.p...) }

func (l label[T]) parseText(s string) error {
	*l.p = T(s)
	return nil
}

func (l label[T]) parseJSON(raw []byte) error {
	var s string
	if err := (*textField)(&s).parseJSON(raw); err != nil {
		return err
	}
	*l.p = T(s)
	return nil
}

// maybeLabel is label for a column that may be null.
type maybeLabel[T ~string] struct{ p *Maybe[T] }

// MaybeLabel points the runtime at a field that holds an enum's label or null.
func MaybeLabel[T ~string](p *Maybe[T]) any { return maybeLabel[T]{p} }

func (l maybeLabel[T]) inner() label[T] { return label[T]{&l.p.value} }

func (l maybeLabel[T]) set(src any) error {
	if src == nil {
		*l.p = Null[T]()
		return nil
	}
	l.p.state = maybeValue
	return l.inner().set(src)
}

func (l maybeLabel[T]) arg() any {
	if l.p.state != maybeValue {
		return nil
	}
	return l.inner().arg()
}

func (l maybeLabel[T]) zero() bool { return l.p.state == maybeAbsent }

func (l maybeLabel[T]) appendJSON(b []byte) []byte {
	if l.p.state != maybeValue {
		return append(b, "null"...)
	}
	return l.inner().appendJSON(b)
}

func (l maybeLabel[T]) appendText(b []byte) []byte {
	if l.p.state != maybeValue {
		return b
	}
	return l.inner().appendText(b)
}

func (l maybeLabel[T]) parseText(s string) error {
	*l.p = Just(T(s))
	return nil
}

func (l maybeLabel[T]) parseJSON(raw []byte) error {
	if string(raw) == "null" {
		*l.p = Null[T]()
		return nil
	}
	l.p.state = maybeValue
	return l.inner().parseJSON(raw)
}
