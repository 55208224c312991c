package gate

import (
	"encoding/json"
	"errors"
	"strconv"
	"time"
)

// Sink takes one column of rows as they are read and writes it as JSON, so that
// no entity need be built only to be written again. It stands among the fields
// of a row; see ReadInto.
type Sink struct {
	to     *[]byte
	prefix string
	column *Column
	field  any // a value of the column's own, for what needs one
	inner  field
	way    sinkWay
}

// sinkWay is how a sink writes what a driver gives as text.
type sinkWay uint8

const (
	byField sinkWay = iota
	asText
	asNumber
	asJSON
)

// NewSink makes a sink of column i that appends to the buffer, first what is in
// prefix.
func (t *Info) NewSink(i int, to *[]byte, prefix string) *Sink {
	c := &t.Columns[i]
	s := &Sink{to: to, prefix: prefix, column: c, field: t.fieldsOf(t.create())[i]}
	s.inner = fieldOf(s.field)
	switch c.Type {
	case TypeText, TypeUUID, TypeEnum:
		s.way = asText
	case TypeNumeric, TypeInt16, TypeInt32, TypeInt64, TypeUint64:
		s.way = asNumber
	case TypeJSON:
		s.way = asJSON
	}
	return s
}

func (s *Sink) int(v int64) error {
	switch s.inner.(type) {
	case *int64Field, *int32Field, *int16Field, *Maybe[int64], *Maybe[int32], *Maybe[int16]:
		*s.to = strconv.AppendInt(append(*s.to, s.prefix...), v, 10)
		return nil
	}
	return s.set(v)
}

func (s *Sink) text(v []byte) error {
	switch s.way {
	case asText:
		*s.to = appendQuoted(append(*s.to, s.prefix...), v)
		return nil
	case asNumber:
		if plainDecimal(v) {
			*s.to = append(*s.to, s.prefix...)
			if s.column.Quoted() {
				*s.to = append(append(append(*s.to, '"'), v...), '"')
			} else {
				*s.to = append(*s.to, v...)
			}
			return nil
		}
	case asJSON:
		if json.Valid(v) {
			*s.to = append(append(*s.to, s.prefix...), v...)
			return nil
		}
	}
	return s.through(SetText(s.field, v))
}

func (s *Sink) float(v float64) error  { return s.through(SetFloat(s.field, v)) }
func (s *Sink) bool(v bool) error      { return s.through(SetBool(s.field, v)) }
func (s *Sink) time(v time.Time) error { return s.through(SetTime(s.field, v)) }

// through writes what was stored in the sink's own value.
func (s *Sink) through(err error) error {
	if err != nil {
		return err
	}
	*s.to = s.column.AppendJSON(append(*s.to, s.prefix...), s.field)
	return nil
}

func (s *Sink) null() error {
	*s.to = append(append(*s.to, s.prefix...), "null"...)
	return nil
}

// A Sink is a field, so that every engine can store into it; it gives nothing
// back.

func (s *Sink) set(src any) error {
	if src == nil {
		return s.null()
	}
	return s.through(s.inner.set(src))
}

func (s *Sink) arg() any                   { return nil }
func (s *Sink) zero() bool                 { return true }
func (s *Sink) appendJSON(b []byte) []byte { return b }
func (s *Sink) appendText(b []byte) []byte { return b }
func (s *Sink) parseJSON([]byte) error     { return errSink }
func (s *Sink) parseText(string) error     { return errSink }

var errSink = errors.New("a sink only takes what a database gives")
