package gate

import (
	"database/sql/driver"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// TimeOfDay is a time on the clock, as what has passed since midnight. MySQL
// also keeps spans of up to 838 hours in such columns, and negative ones. Its
// text form is 09:30:00, with a fraction where there is one.
type TimeOfDay time.Duration

// ParseTimeOfDay reads a time of the form 09:30, 09:30:00 or 09:30:00.5.
func ParseTimeOfDay(s string) (TimeOfDay, error) {
	wrong := fmt.Errorf("%q is not a time of the form 09:30:00", s)
	parts := strings.Split(strings.TrimPrefix(s, "-"), ":")
	if len(parts) == 2 {
		parts = append(parts, "00")
	}
	if len(parts) != 3 || len(parts[0]) < 2 || len(parts[0]) > 3 || len(parts[1]) != 2 {
		return 0, wrong
	}
	hours, err1 := strconv.ParseUint(parts[0], 10, 16)
	minutes, err2 := strconv.ParseUint(parts[1], 10, 8)
	micros, ok := parseMicros(parts[2])
	whole, _, _ := strings.Cut(parts[2], ".")
	if err1 != nil || err2 != nil || !ok || minutes > 59 || len(whole) != 2 || micros < 0 || micros >= minuteMicros {
		return 0, wrong
	}
	total := (int64(hours)*hourMicros + int64(minutes)*minuteMicros + micros) * int64(time.Microsecond)
	if strings.HasPrefix(s, "-") {
		total = -total
	}
	return TimeOfDay(total), nil
}

// String returns the time as 09:30:00.
func (t TimeOfDay) String() string { return string(t.append(nil)) }

func (t TimeOfDay) append(b []byte) []byte {
	micros := int64(t) / int64(time.Microsecond)
	if micros < 0 {
		b, micros = append(b, '-'), -micros
	}
	b = fmt.Appendf(b, "%02d:%02d:", micros/hourMicros, micros%hourMicros/minuteMicros)
	seconds := micros % minuteMicros
	if seconds < 10*secondMicros {
		b = append(b, '0')
	}
	return appendSeconds(b, seconds)
}

// MarshalText implements encoding.TextMarshaler.
func (t TimeOfDay) MarshalText() ([]byte, error) { return t.append(nil), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (t *TimeOfDay) UnmarshalText(text []byte) error { return t.parseText(string(text)) }

// Scan implements sql.Scanner.
func (t *TimeOfDay) Scan(src any) error { return t.set(src) }

// Value implements driver.Valuer.
func (t TimeOfDay) Value() (driver.Value, error) { return t.String(), nil }

func (t *TimeOfDay) set(src any) error {
	s, ok := textOf(src)
	if !ok {
		return mismatch(src, "a time of day")
	}
	return t.parseText(s)
}
func (t *TimeOfDay) arg() any   { return t.String() }
func (t *TimeOfDay) zero() bool { return *t == 0 }
func (t *TimeOfDay) appendJSON(b []byte) []byte {
	return append(t.append(append(b, '"')), '"')
}
func (t *TimeOfDay) appendText(b []byte) []byte { return t.append(b) }
func (t *TimeOfDay) parseJSON(raw []byte) error {
	s, ok := jsonText(raw)
	if !ok || t.parseText(s) != nil {
		return wrongJSON(raw, `a time such as "09:30:00"`)
	}
	return nil
}
func (t *TimeOfDay) parseText(s string) error {
	v, err := ParseTimeOfDay(s)
	*t = v
	return err
}
