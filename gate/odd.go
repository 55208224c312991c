package gate

import (
	"bytes"
	"context"
	"encoding/base64"
	"maps"
	"math"
	"slices"
	"strconv"
	"sync"
	"time"
	"unicode/utf8"
)

// Odd holds the stored values of rows that do not fit their columns: other
// programs write too, and not every engine keeps them from it. While a context
// has one, such a value is no error; its field stays empty, and Odd knows what is
// stored there.
type Odd struct {
	mu     sync.Mutex
	values map[any]any // what is stored, by the pointer to the field
	noted  []string    // columns, as table.column

	zeroTimes bool // the engine stores the zero time as 0000-00-00
}

type oddKey struct{}

// WithOdd is a context in which stored values that do not fit are kept in an Odd.
func WithOdd(ctx context.Context, e *Engine) (context.Context, *Odd) {
	o := &Odd{zeroTimes: e != nil && e.ZeroTimes}
	return context.WithValue(ctx, oddKey{}, o), o
}

// OddOf is the Odd of a context; it may be nil, which has nothing.
func OddOf(ctx context.Context) *Odd {
	o, _ := ctx.Value(oddKey{}).(*Odd)
	return o
}

// Any reports whether rows hold a value that does not fit.
func (o *Odd) Any() bool {
	if o == nil {
		return false
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	return len(o.values) > 0
}

// Noted reports whether any value was found that does not fit its column.
func (o *Odd) Noted() bool {
	if o == nil {
		return false
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	return len(o.noted) > 0
}

// Check notes a value that its field took and that is none of its column.
func (o *Odd) Check(t *Info, i int, p any) {
	if o == nil {
		return
	}
	if _, known := o.stored(p); known {
		return // the field was left empty, which says nothing
	}
	if src, bad := o.misfit(&t.Columns[i], fieldOf(p)); bad {
		o.note(t, i, p, src)
	}
}

// Checks reports whether an engine gives such values: bytes that are not UTF-8,
// which SQLite keeps in any column; labels that an enum does not have, and days
// that no calendar has, which MySQL keeps.
func (e *Engine) Checks() bool { return e.Mixed != nil || e.ZeroTimes }

// misfit is what is stored where that is no value of the column.
func (o *Odd) misfit(c *Column, f field) (src any, bad bool) {
	switch c.Type {
	case TypeText, TypeOther, TypeUUID:
		text, _ := f.arg().(string)
		return text, !utf8.ValidString(text)
	case TypeEnum:
		text, there := f.arg().(string)
		return text, there && c.LabelFault(text) != ""
	case TypeDate:
		text, _ := f.arg().(string)
		return text, noDay(text)
	case TypeTimestamp, TypeTimestampTZ:
		at, there := f.arg().(time.Time)
		return zeroDate + " 00:00:00", there && at.IsZero() && o.zeroTimes
	}
	return nil, false
}

// Text is the text of what is stored in place of the field that p points to, if
// that does not fit; null is what a column has that should have a value.
func (o *Odd) Text(p any) (text string, null, odd bool) {
	src, odd := o.stored(p)
	if !odd {
		return "", false, false
	}
	return storedText(src), src == nil, true
}

// stored is what is stored in place of a field, if that does not fit.
func (o *Odd) stored(p any) (src any, odd bool) {
	if o == nil {
		return nil, false
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	src, odd = o.values[p]
	return src, odd
}

// Take takes over what another Odd has.
func (o *Odd) Take(other *Odd) {
	if o == nil || other == nil {
		return
	}
	other.mu.Lock()
	defer other.mu.Unlock()
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(other.noted) == 0 {
		return
	}
	if o.values == nil {
		o.values = map[any]any{}
	}
	maps.Copy(o.values, other.values)
	for _, name := range other.noted {
		if !slices.Contains(o.noted, name) {
			o.noted = append(o.noted, name)
		}
	}
}

// Forget forgets what was stored in place of a field that has a value now.
func (o *Odd) Forget(p any) {
	if o != nil {
		o.mu.Lock()
		defer o.mu.Unlock()
		delete(o.values, p)
	}
}

// Columns are those in which values were found that do not fit them, as
// table.column.
func (o *Odd) Columns() []string {
	if o == nil {
		return nil
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	return slices.Clone(o.noted)
}

// note remembers a value that does not fit.
func (o *Odd) note(t *Info, i int, p, src any) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if p != nil {
		if o.values == nil {
			o.values = map[any]any{}
		}
		o.values[p] = kept(src)
	}
	if name := t.Name + "." + t.Columns[i].Name; !slices.Contains(o.noted, name) {
		o.noted = append(o.noted, name)
	}
}

// kept is a value of a driver that stays as it is.
func kept(src any) any {
	if b, ok := src.([]byte); ok {
		return bytes.Clone(b)
	}
	return src
}

// storedText is the text of a value as a driver gives it.
func storedText(src any) string {
	switch v := src.(type) {
	case int64:
		return strconv.FormatInt(v, 10)
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64)
	case bool:
		return strconv.FormatBool(v)
	case string:
		return textOrBase64(v)
	case []byte:
		return textOrBase64(string(v))
	case time.Time:
		return v.Format(time.RFC3339Nano)
	}
	return ""
}

func textOrBase64(s string) string {
	if utf8.ValidString(s) {
		return s
	}
	return base64.StdEncoding.EncodeToString([]byte(s))
}

// oddField lets a value not fit its field.
type oddField struct {
	field
	p    any
	odd  *Odd
	info *Info
	i    int
}

func (f *oddField) set(src any) error {
	if err := f.field.set(src); err != nil {
		f.odd.note(f.info, f.i, f.p, src)
	}
	return nil
}

// OddField is the field of column i that p points to, which takes values that do
// not fit it; those are known to odd then.
func (t *Info) OddField(i int, p any, odd *Odd) any {
	return &oddField{fieldOf(p), p, odd, t, i}
}

// scanOdd scans a row again whose values did not fit their fields; err is what
// came of that. column says which of t each field is of, if it is one.
func scanOdd(ctx context.Context, rows Rows, t *Info, fields []any, column func(n int) int, err error) error {
	odd := OddOf(ctx)
	if odd == nil {
		return err
	}
	lenient := make([]any, len(fields))
	for n, p := range fields {
		lenient[n] = p
		switch p.(type) {
		case *Sink, *oddField:
			return err // which take everything
		}
		if i := column(n); i >= 0 {
			lenient[n] = t.OddField(i, p, odd)
		}
	}
	return rows.Scan(lenient)
}

// Julian days, as SQLite counts them; see its functions of date and time.
const (
	firstJulianDay = 1721425.5 // 0001-01-01
	lastJulianDay  = 5373484.5
	julianOfEpoch  = 2440587.5
	secondsOfDay   = 86400
	lastUnixSecond = 253402300799
)

// timeOfNumber reads a time that SQLite keeps as a number, as its modifier auto
// does: a Julian day, or seconds since 1970; larger ones are milliseconds. Numbers
// that would be days before the year 1 are none.
func timeOfNumber(v float64) (time.Time, bool) {
	switch {
	case math.IsNaN(v) || math.IsInf(v, 0) || math.Abs(v) > lastUnixSecond*1000:
		return time.Time{}, false
	case v >= 0 && v < firstJulianDay:
		return time.Time{}, false
	case v >= 0 && v < lastJulianDay:
		millis := math.Round((v - julianOfEpoch) * secondsOfDay * 1000)
		return time.UnixMilli(int64(millis)).UTC(), true
	case math.Abs(v) > lastUnixSecond:
		v /= 1000
	}
	whole, part := math.Modf(v)
	return time.Unix(int64(whole), int64(math.Round(part*1e6))*1000).UTC(), true
}

// Shown is a stored value of a column of a type in the form in which this package
// stores such values, so that those compare alike that look alike. What does not
// fit the type stays as it is.
func Shown(t Type, src any) any {
	var p any
	switch t {
	case TypeBool:
		p = new(bool)
	case TypeBytes:
		p = new([]byte)
	case TypeDate:
		p = new(Date)
	case TypeTimestamp, TypeTimestampTZ:
		p = new(time.Time)
	default:
		p = new(string)
	}
	f := fieldOf(p)
	if src == nil || f.set(src) != nil {
		return src
	}
	return f.arg()
}

// Several reports whether values of a type that look alike can be stored in
// several forms, on an engine whose columns take any.
func (t Type) Several() bool {
	switch t {
	case TypeBool, TypeBytes, TypeText, TypeUUID, TypeEnum, TypeOther, TypeDate, TypeTimestamp, TypeTimestampTZ, TypeTimeOfDay:
		return true
	}
	return false
}
