package gate

import (
	"encoding/json"
	"errors"
	"strconv"
	"time"
	"unicode/utf8"
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
	info   *Info
	index  int
	odd    *Odd // of values that do not fit the column
}

// sinkWay is how a sink writes what a driver gives as text.
type sinkWay uint8

const (
	byField sinkWay = iota
	asText
	asNumber
	asJSON
	asCheckedJSON // by the engine
)

// NewSink makes a sink of column i that appends to the buffer, first what is in
// prefix. It uses a field of the column, which is nobody else's. With an Odd, a
// value that does not fit the column is written as text.
func (t *Info) NewSink(e *Engine, i int, field any, to *[]byte, prefix string, odd *Odd) *Sink {
	c := &t.Columns[i]
	s := &Sink{to: to, prefix: prefix, column: c, field: field, info: t, index: i, odd: odd}
	s.inner = fieldOf(s.field)
	switch c.Type {
	case TypeText, TypeUUID, TypeEnum:
		s.way = asText
	case TypeNumeric, TypeInt16, TypeInt32, TypeInt64, TypeUint64:
		s.way = asNumber
	case TypeJSON:
		s.way = asJSON
		if e.ChecksJSON {
			s.way = asCheckedJSON
		}
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
		if s.odd != nil && (!utf8.Valid(v) || s.column.Type == TypeEnum && s.column.LabelFault(string(v)) != "") {
			return s.through(errMisfit, v)
		}
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
	case asCheckedJSON:
		*s.to = append(append(*s.to, s.prefix...), v...)
		return nil
	}
	if err := SetText(s.field, v); err != nil || s.mayMisfit() {
		return s.through(err, v)
	}
	return s.write()
}

// mayMisfit reports whether what was stored in the sink's own value must be looked
// at more closely.
func (s *Sink) mayMisfit() bool {
	if s.odd == nil {
		return false
	}
	switch s.column.Type {
	case TypeText, TypeOther, TypeUUID, TypeEnum:
		return true
	case TypeTimestamp, TypeTimestampTZ:
		switch p := s.field.(type) {
		case *time.Time:
			return s.odd.zeroTimes && p.IsZero()
		case *Maybe[time.Time]:
			return s.odd.zeroTimes && p.value.IsZero()
		}
		return s.odd.zeroTimes
	case TypeDate:
		d, ok := s.field.(*Date)
		if m, maybe := s.field.(*Maybe[Date]); maybe {
			d, ok = &m.value, true
		}
		return !ok || d.Month < 1 || d.Day < 1
	}
	return false
}

// write writes the sink's own value.
func (s *Sink) write() error {
	*s.to = s.column.AppendJSON(append(*s.to, s.prefix...), s.field)
	return nil
}

var errMisfit = errors.New("the value is none of the column")

func (s *Sink) float(v float64) error {
	if err := SetFloat(s.field, v); err != nil || s.mayMisfit() {
		return s.through(err, v)
	}
	return s.write()
}

func (s *Sink) bool(v bool) error {
	if err := SetBool(s.field, v); err != nil || s.mayMisfit() {
		return s.through(err, v)
	}
	return s.write()
}

func (s *Sink) time(v time.Time) error {
	if err := SetTime(s.field, v); err != nil || s.mayMisfit() {
		return s.through(err, v)
	}
	return s.write()
}

// through writes what was stored in the sink's own value, or the text of what
// does not fit it.
func (s *Sink) through(err error, src any) error {
	if err == nil && s.odd != nil {
		if own, bad := s.odd.misfit(s.column, s.inner); bad {
			err, src = errMisfit, own
		}
	}
	if err != nil && s.odd != nil {
		s.odd.note(s.info, s.index, nil, src)
		*s.to = AppendJSONString(append(*s.to, s.prefix...), storedText(src))
		return nil
	}
	if err != nil {
		return err
	}
	return s.write()
}

func (s *Sink) null() error {
	if s.odd != nil && !s.column.Is(Nullable) {
		s.odd.note(s.info, s.index, nil, nil)
	}
	*s.to = append(append(*s.to, s.prefix...), "null"...)
	return nil
}

// A Sink is a field, so that every engine can store into it; it gives nothing
// back.

func (s *Sink) set(src any) error {
	if src == nil {
		return s.null()
	}
	return s.through(s.inner.set(src), src)
}

func (s *Sink) arg() any                   { return nil }
func (s *Sink) zero() bool                 { return true }
func (s *Sink) appendJSON(b []byte) []byte { return b }
func (s *Sink) appendText(b []byte) []byte { return b }
func (s *Sink) parseJSON([]byte) error     { return errSink }
func (s *Sink) parseText(string) error     { return errSink }

var errSink = errors.New("a sink only takes what a database gives")
