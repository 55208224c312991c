package postgres

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"widegate/gate"
)

// formats asks for the binary form of the types that are cheaper to read in
// it, for all others for text.
var formats = pgx.QueryResultFormatsByOID{
	pgtype.Int2OID: pgx.BinaryFormatCode, pgtype.Int4OID: pgx.BinaryFormatCode, pgtype.Int8OID: pgx.BinaryFormatCode,
	pgtype.Float4OID: pgx.BinaryFormatCode, pgtype.Float8OID: pgx.BinaryFormatCode, pgtype.BoolOID: pgx.BinaryFormatCode,
	pgtype.DateOID: pgx.BinaryFormatCode, pgtype.TimestampOID: pgx.BinaryFormatCode, pgtype.TimestamptzOID: pgx.BinaryFormatCode,
	pgtype.UUIDOID: pgx.BinaryFormatCode, pgtype.ByteaOID: pgx.BinaryFormatCode,
	pgtype.IntervalOID: pgx.BinaryFormatCode, // whose text depends on the session
}

// rows reads the values as they came over the wire, straight into the fields.
type rows struct {
	ctx     context.Context
	list    pgx.Rows
	decode  []func(field any, raw []byte) error
	raw     [][]byte
	spilled [][][]byte // rows that were read ahead
	ended   bool       // nothing is left to be read from the list
}

func (r *rows) Next() bool {
	if len(r.spilled) > 0 {
		r.raw, r.spilled = r.spilled[0], r.spilled[1:]
		return true
	}
	return !r.ended && r.advance()
}

// advance reads the next row from the driver.
func (r *rows) advance() bool {
	if !r.list.Next() {
		return false
	}
	r.raw = r.list.RawValues()
	return true
}

// spill reads the rows that are left into memory.
func (r *rows) spill() {
	if r.ended {
		return
	}
	r.decoders()
	current := cloneRaw(r.raw)
	for r.advance() {
		r.spilled = append(r.spilled, cloneRaw(r.raw))
	}
	r.raw, r.ended = current, true
	r.list.Close()
}

func cloneRaw(raw [][]byte) [][]byte {
	row := make([][]byte, len(raw))
	for i, v := range raw {
		row[i] = bytes.Clone(v)
	}
	return row
}

func (r *rows) Err() error { return explain(r.ctx, r.list.Err()) }

func (r *rows) Close() error {
	r.list.Close()
	r.spilled, r.ended = nil, true
	return nil
}

// decoders prepares the reading of the columns.
func (r *rows) decoders() {
	if r.decode != nil {
		return
	}
	fields := r.list.FieldDescriptions()
	r.decode = make([]func(field any, raw []byte) error, len(fields))
	for i, d := range fields {
		r.decode[i] = decoder(d.DataTypeOID, d.Format)
	}
}

func (r *rows) Scan(fields []any) error {
	r.decoders()
	if len(r.raw) != len(fields) {
		return fmt.Errorf("%d columns for %d values", len(r.raw), len(fields))
	}
	for i, field := range fields {
		if r.raw[i] == nil {
			if err := gate.SetNull(field); err != nil {
				return columnError(i, err)
			}
			continue
		}
		if err := r.decode[i](field, r.raw[i]); err != nil {
			return columnError(i, err)
		}
	}
	return nil
}

func columnError(i int, err error) error { return fmt.Errorf("column %d: %w", i+1, err) }

var errShort = errors.New("a value of another length than its type has")

// decoder reads values of a type in a form.
func decoder(oid uint32, format int16) func(field any, raw []byte) error {
	if format != pgx.BinaryFormatCode {
		return gate.SetText
	}
	if read := binaryDecoders[oid]; read != nil {
		return read
	}
	return assign
}

func assign(field any, raw []byte) error { return gate.Assign(field, raw) }

// binaryDecoders read the binary form of types; see the section on binary formats
// in the source of the server, send and recv functions of each type.
var binaryDecoders = map[uint32]func(field any, raw []byte) error{
	pgtype.Int2OID: sized(2, func(field any, raw []byte) error {
		return gate.SetInt(field, int64(int16(binary.BigEndian.Uint16(raw))))
	}),
	pgtype.Int4OID: sized(4, func(field any, raw []byte) error {
		return gate.SetInt(field, int64(int32(binary.BigEndian.Uint32(raw))))
	}),
	pgtype.Int8OID: sized(8, func(field any, raw []byte) error { return gate.SetInt(field, int64(binary.BigEndian.Uint64(raw))) }),
	pgtype.Float4OID: sized(4, func(field any, raw []byte) error {
		return gate.SetFloat(field, float64(math.Float32frombits(binary.BigEndian.Uint32(raw))))
	}),
	pgtype.Float8OID: sized(8, func(field any, raw []byte) error {
		return gate.SetFloat(field, math.Float64frombits(binary.BigEndian.Uint64(raw)))
	}),
	pgtype.BoolOID:        sized(1, func(field any, raw []byte) error { return gate.SetBool(field, raw[0] != 0) }),
	pgtype.DateOID:        sized(4, setDate),
	pgtype.TimestampOID:   sized(8, setTime),
	pgtype.TimestamptzOID: sized(8, setTime),
	pgtype.UUIDOID:        sized(16, setUUID),
	pgtype.IntervalOID:    sized(16, setInterval),
}

// sized makes sure that a value has the length of its type.
func sized(n int, set func(field any, raw []byte) error) func(field any, raw []byte) error {
	return func(field any, raw []byte) error {
		if len(raw) != n {
			return errShort
		}
		return set(field, raw)
	}
}

// The server counts from the beginning of the year 2000, in days and in
// microseconds.
const (
	epochDays    = 10957
	epochSeconds = epochDays * 24 * 60 * 60
)

func setDate(field any, raw []byte) error {
	days := int32(binary.BigEndian.Uint32(raw))
	switch days {
	case math.MaxInt32:
		return gate.SetTime(field, gate.FarFuture())
	case math.MinInt32:
		return gate.SetTime(field, gate.FarPast())
	}
	return gate.SetTime(field, time.Unix((int64(days)+epochDays)*24*60*60, 0).UTC())
}

func setTime(field any, raw []byte) error {
	micros := int64(binary.BigEndian.Uint64(raw))
	switch micros {
	case math.MaxInt64:
		return gate.SetTime(field, gate.FarFuture())
	case math.MinInt64:
		return gate.SetTime(field, gate.FarPast())
	}
	seconds, rest := micros/1e6, micros%1e6
	return gate.SetTime(field, time.Unix(seconds+epochSeconds, rest*1000).UTC())
}

func setInterval(field any, raw []byte) error {
	v := gate.Interval{
		Microseconds: int64(binary.BigEndian.Uint64(raw)),
		Days:         int32(binary.BigEndian.Uint32(raw[8:])),
		Months:       int32(binary.BigEndian.Uint32(raw[12:])),
	}
	return gate.SetString(field, v.String())
}

func setUUID(field any, raw []byte) error {
	const digits = "0123456789abcdef"
	var text [36]byte
	at := 0
	for i, c := range raw {
		if i == 4 || i == 6 || i == 8 || i == 10 {
			text[at] = '-'
			at++
		}
		text[at], text[at+1] = digits[c>>4], digits[c&15]
		at += 2
	}
	return gate.SetText(field, text[:])
}
