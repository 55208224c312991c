package gate

import (
	"bytes"
	"database/sql"
	"database/sql/driver"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"reflect"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// A field is a value inside an entity, reached by its pointer. The named
// pointer types below give each supported Go type these methods, so that
// fieldOf neither allocates nor reflects.
type field interface {
	set(src any) error          // from what a driver gives; src may be used only during the call
	arg() any                   // for a driver: int64, float64, bool, string, []byte, time.Time or nil
	zero() bool                 // nothing was put in
	appendJSON(b []byte) []byte // the value in a JSON document
	parseJSON(raw []byte) error // from a JSON document, with an error for its author
	parseText(s string) error   // from a path or a query parameter
	appendText(b []byte) []byte // the inverse of parseText
}

// fieldOf returns the methods of the value that p points to.
func fieldOf(p any) field {
	switch p := p.(type) {
	case *int64:
		return (*int64Field)(p)
	case *string:
		return (*textField)(p)
	case *int32:
		return (*int32Field)(p)
	case *bool:
		return (*boolField)(p)
	case *time.Time:
		return (*timeField)(p)
	case *Date:
		return (*dateField)(p)
	case *Decimal:
		return (*decimalField)(p)
	case *float64:
		return (*float64Field)(p)
	case *int16:
		return (*int16Field)(p)
	case *uint64:
		return (*uint64Field)(p)
	case *float32:
		return (*float32Field)(p)
	case *TimeOfDay:
		return p
	case *Interval:
		return p
	case *[]byte:
		return (*bytesField)(p)
	case *JSON:
		return (*jsonField)(p)
	case field:
		return p
	case Record:
		return recordField{p}
	}
	// A named text, such as an enum. Generated code wraps those by Label, so
	// that reflection stays off the way of rows.
	if v := reflect.ValueOf(p); v.Kind() == reflect.Pointer && v.Elem().Kind() == reflect.String {
		return (*textField)(v.Convert(reflect.TypeFor[*string]()).Interface().(*string))
	}
	return foreignField{p}
}

// Assign stores what a driver gave into the field that p points to.
func Assign(p, src any) error { return fieldOf(p).set(src) }

// AppendJSON appends the field that p points to as JSON.
func AppendJSON(b []byte, p any) []byte { return fieldOf(p).appendJSON(b) }

// ParseJSON reads a JSON value into the field that p points to. Its error is
// written for the author of the document.
func ParseJSON(p any, raw []byte) error { return fieldOf(p).parseJSON(raw) }

// ParseText reads the text form of a value, as it stands in a path or a query
// parameter, into the field that p points to.
func ParseText(p any, s string) error { return fieldOf(p).parseText(s) }

// AppendText appends the text form of the field that p points to; null gives
// nothing.
func AppendText(b []byte, p any) []byte { return fieldOf(p).appendText(b) }

// Argument is what the field that p points to is handed to a driver as: int64,
// float64, bool, string, []byte, time.Time or nil.
func Argument(p any) any { return fieldOf(p).arg() }

// IsNull reports whether the field that p points to would be stored as NULL.
func IsNull(p any) bool {
	switch p := p.(type) {
	case *int64, *string, *int32, *bool, *time.Time, *Date, *Decimal, *float64, *int16:
		return false
	case *Maybe[int64]:
		return p.IsNull()
	case *Maybe[string]:
		return p.IsNull()
	}
	return fieldOf(p).arg() == nil
}

var errNull = errors.New("null in a column that should have none")

func mismatch(src any, want string) error {
	if src == nil {
		return errNull
	}
	return fmt.Errorf("cannot read %T as %s", src, want)
}

func wrongJSON(raw []byte, want string) error {
	got := string(raw)
	if len(got) > 40 {
		got = strings.ToValidUTF8(got[:40], "") + "…"
	}
	return fmt.Errorf("wants %s; got %s", want, got)
}

func wrongText(s, want string) error { return fmt.Errorf("wants %s; got %q", want, s) }

// setInt reads a whole number of the given width in bits.
func setInt(src any, bits int) (int64, error) {
	switch v := src.(type) {
	case int64:
		if bits < 64 && (v>>(bits-1) != 0 && v>>(bits-1) != -1) {
			return 0, fmt.Errorf("%d does not fit into %d bits", v, bits)
		}
		return v, nil
	case []byte:
		return strconv.ParseInt(string(v), 10, bits)
	case string:
		return strconv.ParseInt(v, 10, bits)
	case float64:
		if v == math.Trunc(v) {
			return setInt(int64(v), bits)
		}
	case bool:
		if v {
			return 1, nil
		}
		return 0, nil
	}
	return 0, mismatch(src, "a whole number")
}

func parseJSONInt(raw []byte, bits int) (int64, error) {
	n, err := strconv.ParseInt(string(raw), 10, bits)
	if err != nil {
		return 0, wrongJSON(raw, wantInt(bits))
	}
	return n, nil
}

func parseTextInt(s string, bits int) (int64, error) {
	n, err := strconv.ParseInt(s, 10, bits)
	if err != nil {
		return 0, wrongText(s, wantInt(bits))
	}
	return n, nil
}

func wantInt(bits int) string {
	return fmt.Sprintf("a whole number from %d to %d", int64(-1)<<(bits-1), int64(1)<<(bits-1)-1)
}

type int64Field int64

func (f *int64Field) set(src any) error {
	n, err := setInt(src, 64)
	*f = int64Field(n)
	return err
}
func (f *int64Field) arg() any                   { return int64(*f) }
func (f *int64Field) zero() bool                 { return *f == 0 }
func (f *int64Field) appendJSON(b []byte) []byte { return strconv.AppendInt(b, int64(*f), 10) }
func (f *int64Field) appendText(b []byte) []byte { return strconv.AppendInt(b, int64(*f), 10) }
func (f *int64Field) parseJSON(raw []byte) error {
	n, err := parseJSONInt(raw, 64)
	*f = int64Field(n)
	return err
}
func (f *int64Field) parseText(s string) error {
	n, err := parseTextInt(s, 64)
	*f = int64Field(n)
	return err
}

type int32Field int32

func (f *int32Field) set(src any) error {
	n, err := setInt(src, 32)
	*f = int32Field(n)
	return err
}
func (f *int32Field) arg() any                   { return int64(*f) }
func (f *int32Field) zero() bool                 { return *f == 0 }
func (f *int32Field) appendJSON(b []byte) []byte { return strconv.AppendInt(b, int64(*f), 10) }
func (f *int32Field) appendText(b []byte) []byte { return strconv.AppendInt(b, int64(*f), 10) }
func (f *int32Field) parseJSON(raw []byte) error {
	n, err := parseJSONInt(raw, 32)
	*f = int32Field(n)
	return err
}
func (f *int32Field) parseText(s string) error {
	n, err := parseTextInt(s, 32)
	*f = int32Field(n)
	return err
}

type int16Field int16

func (f *int16Field) set(src any) error {
	n, err := setInt(src, 16)
	*f = int16Field(n)
	return err
}
func (f *int16Field) arg() any                   { return int64(*f) }
func (f *int16Field) zero() bool                 { return *f == 0 }
func (f *int16Field) appendJSON(b []byte) []byte { return strconv.AppendInt(b, int64(*f), 10) }
func (f *int16Field) appendText(b []byte) []byte { return strconv.AppendInt(b, int64(*f), 10) }
func (f *int16Field) parseJSON(raw []byte) error {
	n, err := parseJSONInt(raw, 16)
	*f = int16Field(n)
	return err
}
func (f *int16Field) parseText(s string) error {
	n, err := parseTextInt(s, 16)
	*f = int16Field(n)
	return err
}

type uint64Field uint64

const wantUint = "a whole number from 0 to 18446744073709551615"

func (f *uint64Field) set(src any) error {
	switch v := src.(type) {
	case int64:
		if v < 0 {
			return fmt.Errorf("%d is negative", v)
		}
		*f = uint64Field(v)
		return nil
	case uint64:
		*f = uint64Field(v)
		return nil
	case []byte:
		return f.parseText(string(v))
	case string:
		return f.parseText(v)
	}
	return mismatch(src, "a whole number")
}
func (f *uint64Field) arg() any {
	if *f > math.MaxInt64 {
		return strconv.FormatUint(uint64(*f), 10)
	}
	return int64(*f)
}
func (f *uint64Field) zero() bool                 { return *f == 0 }
func (f *uint64Field) appendJSON(b []byte) []byte { return strconv.AppendUint(b, uint64(*f), 10) }
func (f *uint64Field) appendText(b []byte) []byte { return strconv.AppendUint(b, uint64(*f), 10) }
func (f *uint64Field) parseJSON(raw []byte) error {
	n, err := strconv.ParseUint(string(raw), 10, 64)
	if err != nil {
		return wrongJSON(raw, wantUint)
	}
	*f = uint64Field(n)
	return nil
}
func (f *uint64Field) parseText(s string) error {
	n, err := strconv.ParseUint(s, 10, 64)
	if err != nil {
		return wrongText(s, wantUint)
	}
	*f = uint64Field(n)
	return nil
}

type float64Field float64

func (f *float64Field) set(src any) error {
	switch v := src.(type) {
	case float64:
		*f = float64Field(v)
		return nil
	case float32:
		*f = float64Field(v)
		return nil
	case int64:
		*f = float64Field(v)
		return nil
	case []byte:
		return f.parseText(string(v))
	case string:
		return f.parseText(v)
	}
	return mismatch(src, "a number")
}
func (f *float64Field) arg() any                   { return float64(*f) }
func (f *float64Field) zero() bool                 { return *f == 0 }
func (f *float64Field) appendJSON(b []byte) []byte { return appendJSONFloat(b, float64(*f), 64) }
func (f *float64Field) appendText(b []byte) []byte {
	return strconv.AppendFloat(b, float64(*f), 'g', -1, 64)
}
func (f *float64Field) parseJSON(raw []byte) error {
	n, err := parseJSONFloat(raw, 64)
	*f = float64Field(n)
	return err
}
func (f *float64Field) parseText(s string) error {
	n, err := strconv.ParseFloat(s, 64)
	if err != nil {
		return wrongText(s, "a number")
	}
	*f = float64Field(n)
	return nil
}

type float32Field float32

func (f *float32Field) set(src any) error {
	var wide float64Field
	err := wide.set(src)
	*f = float32Field(wide)
	return err
}
func (f *float32Field) arg() any                   { return float64(*f) }
func (f *float32Field) zero() bool                 { return *f == 0 }
func (f *float32Field) appendJSON(b []byte) []byte { return appendJSONFloat(b, float64(*f), 32) }
func (f *float32Field) appendText(b []byte) []byte {
	return strconv.AppendFloat(b, float64(*f), 'g', -1, 32)
}
func (f *float32Field) parseJSON(raw []byte) error {
	n, err := parseJSONFloat(raw, 32)
	*f = float32Field(n)
	return err
}
func (f *float32Field) parseText(s string) error {
	n, err := strconv.ParseFloat(s, 32)
	if err != nil {
		return wrongText(s, "a number")
	}
	*f = float32Field(n)
	return nil
}

// appendJSONFloat writes what JSON has no number for as a string.
func appendJSONFloat(b []byte, f float64, bits int) []byte {
	switch {
	case math.IsNaN(f):
		return append(b, `"NaN"`...)
	case math.IsInf(f, 1):
		return append(b, `"Infinity"`...)
	case math.IsInf(f, -1):
		return append(b, `"-Infinity"`...)
	}
	format := byte('f')
	if abs := math.Abs(f); abs != 0 && (abs < 1e-6 || abs >= 1e21) {
		format = 'e'
	}
	return strconv.AppendFloat(b, f, format, -1, bits)
}

func parseJSONFloat(raw []byte, bits int) (float64, error) {
	switch string(raw) {
	case `"NaN"`:
		return math.NaN(), nil
	case `"Infinity"`:
		return math.Inf(1), nil
	case `"-Infinity"`:
		return math.Inf(-1), nil
	}
	if !isJSONNumber(raw) {
		return 0, wrongJSON(raw, "a number")
	}
	n, err := strconv.ParseFloat(string(raw), bits)
	if err != nil {
		return 0, wrongJSON(raw, "a number in range")
	}
	return n, nil
}

func isJSONNumber(raw []byte) bool {
	return len(raw) > 0 && (raw[0] == '-' || raw[0] >= '0' && raw[0] <= '9')
}

type boolField bool

func (f *boolField) set(src any) error {
	switch v := src.(type) {
	case bool:
		*f = boolField(v)
		return nil
	case int64:
		*f = v != 0
		return nil
	case []byte:
		if len(v) == 1 && v[0] <= 1 { // a bit
			*f = v[0] == 1
			return nil
		}
		return f.parseText(string(v))
	case string:
		return f.parseText(v)
	}
	return mismatch(src, "true or false")
}
func (f *boolField) arg() any                   { return bool(*f) }
func (f *boolField) zero() bool                 { return !bool(*f) }
func (f *boolField) appendJSON(b []byte) []byte { return strconv.AppendBool(b, bool(*f)) }
func (f *boolField) appendText(b []byte) []byte { return strconv.AppendBool(b, bool(*f)) }
func (f *boolField) parseJSON(raw []byte) error {
	switch string(raw) {
	case "true":
		*f = true
	case "false":
		*f = false
	default:
		return wrongJSON(raw, "true or false")
	}
	return nil
}
func (f *boolField) parseText(s string) error {
	v, err := strconv.ParseBool(s)
	if err != nil {
		return wrongText(s, "true or false")
	}
	*f = boolField(v)
	return nil
}

type textField string

func (f *textField) set(src any) error {
	switch v := src.(type) {
	case string:
		*f = textField(v)
	case []byte:
		*f = textField(v)
	case int64:
		*f = textField(strconv.FormatInt(v, 10))
	case float64:
		*f = textField(strconv.FormatFloat(v, 'g', -1, 64))
	case bool:
		*f = textField(strconv.FormatBool(v))
	case time.Time:
		*f = textField(v.Format(time.RFC3339Nano))
	default:
		return mismatch(src, "text")
	}
	return nil
}
func (f *textField) arg() any                   { return string(*f) }
func (f *textField) zero() bool                 { return *f == "" }
func (f *textField) appendJSON(b []byte) []byte { return AppendJSONString(b, string(*f)) }
func (f *textField) appendText(b []byte) []byte { return append(b, *f...) }
func (f *textField) parseJSON(raw []byte) error {
	if len(raw) == 0 || raw[0] != '"' || !unquote(raw, (*string)(f)) {
		return wrongJSON(raw, "a string")
	}
	if strings.IndexByte(string(*f), 0) >= 0 {
		return errors.New("wants a string without the character U+0000")
	}
	return nil
}
func (f *textField) parseText(s string) error {
	*f = textField(s)
	return nil
}

// unquote reads a JSON string.
func unquote(raw []byte, to *string) bool {
	if n := len(raw); n >= 2 && raw[0] == '"' && raw[n-1] == '"' && unescaped(raw[1:n-1]) {
		*to = string(raw[1 : n-1])
		return true
	}
	return json.Unmarshal(raw, to) == nil
}

// unescaped reports whether a text stands in a JSON string as it is: no escapes, and
// no sign that would have to be one.
func unescaped(text []byte) bool {
	for _, c := range text {
		if c == '"' || c == '\\' || c < ' ' || c >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

type bytesField []byte

func (f *bytesField) set(src any) error {
	switch v := src.(type) {
	case []byte:
		*f = append(make([]byte, 0, len(v)), v...)
	case string:
		*f = []byte(v)
	default:
		return mismatch(src, "bytes")
	}
	return nil
}
func (f *bytesField) arg() any {
	if *f == nil {
		return []byte{}
	}
	return []byte(*f)
}
func (f *bytesField) zero() bool { return *f == nil }
func (f *bytesField) appendJSON(b []byte) []byte {
	b = append(b, '"')
	b = base64.StdEncoding.AppendEncode(b, *f)
	return append(b, '"')
}
func (f *bytesField) appendText(b []byte) []byte { return base64.URLEncoding.AppendEncode(b, *f) }
func (f *bytesField) parseJSON(raw []byte) error {
	var s string
	if json.Unmarshal(raw, &s) != nil {
		return wrongJSON(raw, "a base64 string")
	}
	v, err := base64.StdEncoding.DecodeString(s)
	if err != nil {
		return wrongJSON(raw, "a base64 string")
	}
	*f = v
	return nil
}
func (f *bytesField) parseText(s string) error {
	v, err := base64.URLEncoding.DecodeString(s)
	if err != nil {
		v, err = base64.StdEncoding.DecodeString(s) // as it stands in JSON
	}
	if err != nil {
		return wrongText(s, "base64")
	}
	*f = v
	return nil
}

type timeField time.Time

// timeLayouts are the forms in which engines hand out a point in time as text.
var timeLayouts = []string{
	"2006-01-02 15:04:05.999999999",
	"2006-01-02 15:04:05.999999999Z07:00",
	"2006-01-02 15:04:05.999999999Z07",
	"2006-01-02T15:04:05.999999999",
	time.DateOnly,
}

func parseTime(s string) (time.Time, error) {
	switch {
	case s == infinity:
		return FarFuture(), nil
	case s == minusInfinity:
		return FarPast(), nil
	case strings.HasPrefix(s, zeroDate):
		return time.Time{}, nil
	}
	if year, rest, ok := cutYear(s); ok && (year < 0 || year > 9999 || strings.HasSuffix(s, beforeChrist)) {
		rest = strings.TrimSuffix(rest, beforeChrist)
		// The calendar repeats itself after 400 years.
		near := 2000 + ((year%400)+400)%400
		t, err := parseTime(fmt.Sprintf("%04d%s", near, rest))
		return t.AddDate(year-near, 0, 0), err
	}
	if len(s) > len(time.DateOnly) && s[len(time.DateOnly)] == 'T' {
		if t, err := time.Parse("2006-01-02T15:04:05.999999999Z07:00", s); err == nil {
			return t.UTC(), nil
		}
	}
	for _, layout := range timeLayouts {
		if t, err := time.Parse(layout, s); err == nil {
			return t.UTC(), nil
		}
	}
	return time.Time{}, wrongText(s, "a time such as 2026-05-01T09:30:00Z")
}

func (f *timeField) set(src any) error {
	switch v := src.(type) {
	case time.Time:
		*f = timeField(v.UTC())
		return nil
	case []byte:
		return f.parseText(string(v))
	case string:
		return f.parseText(v)
	case int64:
		return f.setNumber(float64(v))
	case float64:
		return f.setNumber(v)
	}
	return mismatch(src, "a time")
}
func (f *timeField) setNumber(v float64) error {
	t, ok := timeOfNumber(v)
	if !ok {
		return fmt.Errorf("cannot read the number %v as a time", v)
	}
	*f = timeField(t)
	return nil
}
func (f *timeField) arg() any {
	switch time.Time(*f).Year() {
	case infinityYear:
		return infinity
	case -infinityYear:
		return minusInfinity
	}
	return time.Time(*f).UTC()
}
func (f *timeField) zero() bool { return time.Time(*f).IsZero() }
func (f *timeField) appendJSON(b []byte) []byte {
	b = append(b, '"')
	b = f.appendText(b)
	return append(b, '"')
}
func (f *timeField) appendText(b []byte) []byte {
	t := time.Time(*f).UTC()
	year, month, day := t.Date()
	switch year {
	case infinityYear:
		return append(b, infinity...)
	case -infinityYear:
		return append(b, minusInfinity...)
	}
	hour, minute, second := t.Clock()
	b = append(appendYear(b, year), '-', digit(int(month)/10), digit(int(month)%10), '-', digit(day/10), digit(day%10),
		'T', digit(hour/10), digit(hour%10), ':', digit(minute/10), digit(minute%10), ':', digit(second/10), digit(second%10))
	return append(appendFraction(b, t.Nanosecond()), 'Z')
}

// appendFraction writes the part of a second, as short as it can be.
func appendFraction(b []byte, nanoseconds int) []byte {
	if nanoseconds == 0 {
		return b
	}
	b = append(b, '.')
	for place := 100_000_000; nanoseconds > 0; place /= 10 {
		b = append(b, digit(nanoseconds/place))
		nanoseconds %= place
	}
	return b
}
func (f *timeField) parseJSON(raw []byte) error {
	var s string
	if !unquote(raw, &s) || f.parseText(s) != nil {
		return wrongJSON(raw, `a time such as "2026-05-01T09:30:00Z"`)
	}
	return nil
}
func (f *timeField) parseText(s string) error {
	t, err := parseTime(s)
	*f = timeField(t)
	return err
}

type dateField Date

func (f *dateField) set(src any) error {
	switch v := src.(type) {
	case time.Time:
		*f = dateField(DateOf(v))
		return nil
	case []byte:
		return f.setText(string(v))
	case string:
		return f.setText(v)
	case int64:
		return f.setNumber(float64(v))
	case float64:
		return f.setNumber(v)
	}
	return mismatch(src, "a date")
}

func (f *dateField) setNumber(v float64) error {
	t, ok := timeOfNumber(v)
	if !ok {
		return fmt.Errorf("cannot read the number %v as a date", v)
	}
	*f = dateField(DateOf(t))
	return nil
}

// setText also takes a date that a text column continues with a time.
func (f *dateField) setText(s string) error {
	if at := strings.IndexAny(s, " T"); at > 0 && !strings.HasSuffix(s, beforeChrist) {
		s = s[:at]
	}
	return f.parseText(s)
}
func (f *dateField) arg() any {
	if f.Year < 1 && f.Year != -infinityYear && f.Month > 0 {
		return fmt.Sprintf("%04d-%02d-%02d%s", firstYearBC-f.Year, f.Month, f.Day, beforeChrist)
	}
	if f.Year > 9999 && f.Year != infinityYear {
		return fmt.Sprintf("%d-%02d-%02d", f.Year, f.Month, f.Day)
	}
	return Date(*f).String()
}
func (f *dateField) zero() bool { return *f == dateField{} }
func (f *dateField) appendJSON(b []byte) []byte {
	b = append(b, '"')
	b = Date(*f).append(b)
	return append(b, '"')
}
func (f *dateField) appendText(b []byte) []byte { return Date(*f).append(b) }
func (f *dateField) parseJSON(raw []byte) error {
	var s string
	if !unquote(raw, &s) || f.parseText(s) != nil {
		return wrongJSON(raw, `a date such as "2026-05-01"`)
	}
	return nil
}
func (f *dateField) parseText(s string) error {
	d, err := ParseDate(s)
	*f = dateField(d)
	return err
}

type decimalField Decimal

func (f *decimalField) set(src any) error {
	switch v := src.(type) {
	case []byte:
		return f.parseText(string(v))
	case string:
		return f.parseText(v)
	case int64:
		*f = decimalField(DecimalOf(v))
		return nil
	case float64:
		switch {
		case math.IsInf(v, 1):
			return f.parseText("Infinity")
		case math.IsInf(v, -1):
			return f.parseText("-Infinity")
		}
		return f.parseText(strconv.FormatFloat(v, 'f', -1, 64))
	}
	return mismatch(src, "a decimal number")
}
func (f *decimalField) arg() any                   { return Decimal(*f).String() }
func (f *decimalField) zero() bool                 { return f.digits == "" }
func (f *decimalField) appendJSON(b []byte) []byte { return Decimal(*f).appendJSON(b) }
func (f *decimalField) appendText(b []byte) []byte { return append(b, Decimal(*f).String()...) }
func (f *decimalField) parseJSON(raw []byte) error {
	s := string(raw)
	if len(raw) > 1 && raw[0] == '"' {
		s = string(raw[1 : len(raw)-1])
	}
	if f.parseText(s) != nil {
		return wrongJSON(raw, "a decimal number such as 12.50")
	}
	return nil
}
func (f *decimalField) parseText(s string) error {
	d, err := ParseDecimal(s)
	*f = decimalField(d)
	return err
}

type jsonField JSON

func (f *jsonField) set(src any) error {
	switch v := src.(type) {
	case []byte:
		*f = append(make([]byte, 0, len(v)), v...)
	case string:
		*f = []byte(v)
	case int64: // SQLite keeps a number as one
		*f = strconv.AppendInt(nil, v, 10)
	case float64:
		*f = appendJSONFloat(nil, v, 64)
	case bool:
		*f = strconv.AppendBool(nil, v)
	default:
		return mismatch(src, "JSON")
	}
	return nil
}
func (f *jsonField) arg() any   { return string(*f) }
func (f *jsonField) zero() bool { return len(*f) == 0 }
func (f *jsonField) appendJSON(b []byte) []byte {
	if !json.Valid(*f) {
		return AppendJSONString(b, string(*f))
	}
	return append(b, *f...)
}
func (f *jsonField) appendText(b []byte) []byte { return append(b, *f...) }
func (f *jsonField) parseJSON(raw []byte) error {
	var compact bytes.Buffer
	if err := json.Compact(&compact, raw); err != nil {
		return wrongJSON(raw, "JSON")
	}
	*f = compact.Bytes()
	return nil
}
func (f *jsonField) parseText(s string) error {
	*f = jsonField(s)
	return nil
}

// foreignField serves a type of the developer's own by the interfaces that
// database/sql and encoding/json ask of it.
type foreignField struct{ p any }

func (f foreignField) set(src any) error {
	s, ok := f.p.(sql.Scanner)
	if !ok {
		return fmt.Errorf("%T is not a sql.Scanner", f.p)
	}
	return s.Scan(src)
}
func (f foreignField) arg() any {
	v, ok := f.p.(driver.Valuer)
	if !ok {
		return f.p
	}
	value, err := v.Value()
	if err != nil {
		return nil
	}
	return value
}
func (f foreignField) zero() bool { return f.arg() == nil }
func (f foreignField) appendJSON(b []byte) []byte {
	text, err := json.Marshal(f.p)
	if err != nil {
		return append(b, "null"...)
	}
	return append(b, text...)
}
func (f foreignField) parseJSON(raw []byte) error { return json.Unmarshal(raw, f.p) }
func (f foreignField) parseText(s string) error {
	return f.parseJSON(AppendJSONString(nil, s))
}
func (f foreignField) appendText(b []byte) []byte { return fmt.Append(b, f.arg()) }

const hexDigits = "0123456789abcdef"

// AppendJSONString appends s as a JSON string. What is not UTF-8 becomes the
// replacement character.
func AppendJSONString(b []byte, s string) []byte { return appendQuoted(b, s) }

func appendQuoted[T string | []byte](b []byte, s T) []byte {
	b = append(b, '"')
	from, wrong := 0, -1 // the latter is behind what was no UTF-8
	for i := 0; i < len(s); i++ {
		c := s[i]
		if plainInJSON[c] {
			continue
		}
		if c >= utf8.RuneSelf {
			r, size := utf8.DecodeRuneInString(string(s[i:min(len(s), i+utf8.UTFMax)]))
			if r != utf8.RuneError || size > 1 {
				i += size - 1
				continue
			}
			if b = append(b, s[from:i]...); wrong < i { // once for a run of them
				b = append(b, "\ufffd"...)
			}
			from, wrong = i+1, i+1
			continue
		}
		b = append(b, s[from:i]...)
		from = i + 1
		switch c {
		case '"', '\\':
			b = append(b, '\\', c)
		case '\n':
			b = append(b, '\\', 'n')
		case '\r':
			b = append(b, '\\', 'r')
		case '\t':
			b = append(b, '\\', 't')
		default:
			b = append(b, '\\', 'u', '0', '0', hexDigits[c>>4], hexDigits[c&15])
		}
	}
	b = append(b, s[from:]...)
	return append(b, '"')
}

// plainInJSON holds for the bytes that stand for themselves in a JSON string.
var plainInJSON = func() (plain [256]bool) {
	for c := 0x20; c < utf8.RuneSelf; c++ {
		plain[c] = c != '"' && c != '\\'
	}
	return plain
}()
