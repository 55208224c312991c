package gate

import (
	"database/sql/driver"
	"fmt"
	"strconv"
	"strings"
)

// Interval is a span of time whose months and days have no fixed length, as
// PostgreSQL keeps it. Its text form is a duration of ISO 8601, such as
// P1Y2M3DT4H5M6.5S, in which each number may have a sign of its own.
type Interval struct {
	Months       int32
	Days         int32
	Microseconds int64
}

const (
	secondMicros = 1_000_000
	minuteMicros = 60 * secondMicros
	hourMicros   = 60 * minuteMicros
)

// ParseInterval reads a duration of ISO 8601.
func ParseInterval(s string) (Interval, error) {
	wrong := fmt.Errorf("%q is not a duration such as P1Y2M3DT4H5M6.5S", s)
	rest, ok := strings.CutPrefix(s, "P")
	if !ok || rest == "" || rest == "T" {
		return Interval{}, wrong
	}
	var i Interval
	inTime := false
	for rest != "" {
		if rest[0] == 'T' && !inTime {
			inTime, rest = true, rest[1:]
			continue
		}
		n := strings.IndexFunc(rest, func(r rune) bool { return r >= 'A' && r <= 'Z' })
		if n <= 0 || !i.add(rest[:n], rest[n], inTime) {
			return Interval{}, wrong
		}
		rest = rest[n+1:]
	}
	return i, nil
}

// add adds a number of a unit.
func (i *Interval) add(number string, unit byte, inTime bool) bool {
	if inTime && unit == 'S' {
		micros, ok := parseMicros(number)
		i.Microseconds += micros
		return ok
	}
	n, err := strconv.ParseInt(number, 10, 32)
	if err != nil {
		return false
	}
	months, days, micros := int64(i.Months), int64(i.Days), int64(0)
	switch {
	case inTime && unit == 'H':
		micros = n * hourMicros
	case inTime && unit == 'M':
		micros = n * minuteMicros
	case inTime:
		return false
	case unit == 'Y':
		months += 12 * n
	case unit == 'M':
		months += n
	case unit == 'W':
		days += 7 * n
	case unit == 'D':
		days += n
	default:
		return false
	}
	i.Months, i.Days = int32(months), int32(days)
	i.Microseconds += micros
	return int64(i.Months) == months && int64(i.Days) == days
}

// parseMicros reads a number of seconds with at most six digits behind the
// point.
func parseMicros(s string) (int64, bool) {
	negative := strings.HasPrefix(s, "-")
	whole, fraction, hasPoint := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(s, "-"), "+"), ".")
	if !allDigits(whole) || whole == "" || hasPoint && fraction == "" || !allDigits(fraction) || len(fraction) > 6 {
		return 0, false
	}
	seconds, err := strconv.ParseInt(whole, 10, 43)
	micros, _ := strconv.ParseInt((fraction + "000000")[:6], 10, 64)
	micros += seconds * secondMicros
	if negative {
		micros = -micros
	}
	return micros, err == nil
}

// String returns the interval as a duration of ISO 8601.
func (i Interval) String() string { return string(i.append(nil)) }

func (i Interval) append(b []byte) []byte {
	b = append(b, 'P')
	empty := len(b)
	unit := func(n int64, name byte) {
		if n != 0 {
			b = append(strconv.AppendInt(b, n, 10), name)
		}
	}
	unit(int64(i.Months/12), 'Y')
	unit(int64(i.Months%12), 'M')
	unit(int64(i.Days), 'D')
	if i.Microseconds != 0 {
		b = append(b, 'T')
		unit(i.Microseconds/hourMicros, 'H')
		unit(i.Microseconds%hourMicros/minuteMicros, 'M')
		if rest := i.Microseconds % minuteMicros; rest != 0 {
			b = append(appendSeconds(b, rest), 'S')
		}
	}
	if len(b) == empty {
		b = append(b, "T0S"...)
	}
	return b
}

// appendSeconds writes microseconds as seconds, with no more digits than it
// takes.
func appendSeconds(b []byte, micros int64) []byte {
	if micros < 0 {
		b, micros = append(b, '-'), -micros
	}
	b = strconv.AppendInt(b, micros/secondMicros, 10)
	if fraction := micros % secondMicros; fraction != 0 {
		b = append(b, strings.TrimRight(fmt.Sprintf(".%06d", fraction), "0")...)
	}
	return b
}

// MarshalText implements encoding.TextMarshaler.
func (i Interval) MarshalText() ([]byte, error) { return i.append(nil), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (i *Interval) UnmarshalText(text []byte) error { return i.parseText(string(text)) }

// Scan implements sql.Scanner.
func (i *Interval) Scan(src any) error { return i.set(src) }

// Value implements driver.Valuer.
func (i Interval) Value() (driver.Value, error) { return i.String(), nil }

func (i *Interval) set(src any) error {
	s, ok := textOf(src)
	if !ok {
		return mismatch(src, "an interval")
	}
	if v, ok := spelledInterval(s); ok {
		*i = v
		return nil
	}
	return i.parseText(s)
}

// spelledUnits are the units in PostgreSQL's own form of intervals.
var spelledUnits = map[string]Interval{
	"year": {Months: 12}, "mon": {Months: 1}, "day": {Days: 1}, "hour": {Microseconds: hourMicros}, "min": {Microseconds: minuteMicros},
}

// spelledInterval reads 1 year 2 mons -3 days +04:05:06.5, which is how
// PostgreSQL writes intervals where a session is not told otherwise.
func spelledInterval(s string) (v Interval, ok bool) {
	words := strings.Fields(s)
	for len(words) > 1 {
		unit, known := spelledUnits[strings.TrimSuffix(words[1], "s")]
		n, err := strconv.ParseInt(words[0], 10, 32)
		if !known || err != nil {
			return v, false
		}
		v.Months += int32(n) * unit.Months
		v.Days += int32(n) * unit.Days
		v.Microseconds += n * unit.Microseconds
		words = words[2:]
	}
	if len(words) == 0 {
		return v, s != ""
	}
	clock := strings.TrimLeft(words[0], "+-")
	parts := strings.Split(clock, ":")
	if len(parts) != 3 {
		return v, false
	}
	hours, wrongHours := strconv.ParseInt(parts[0], 10, 32)
	minutes, wrongMinutes := strconv.ParseInt(parts[1], 10, 32)
	micros, ok := parseMicros(parts[2])
	micros += hours*hourMicros + minutes*minuteMicros
	if strings.HasPrefix(words[0], "-") {
		micros = -micros
	}
	v.Microseconds += micros
	return v, ok && wrongHours == nil && wrongMinutes == nil
}

func (i *Interval) arg() any   { return i.String() }
func (i *Interval) zero() bool { return *i == Interval{} }
func (i *Interval) appendJSON(b []byte) []byte {
	return append(i.append(append(b, '"')), '"')
}
func (i *Interval) appendText(b []byte) []byte { return i.append(b) }
func (i *Interval) parseJSON(raw []byte) error {
	s, ok := jsonText(raw)
	if !ok || i.parseText(s) != nil {
		return wrongJSON(raw, `a duration such as "P1DT12H"`)
	}
	return nil
}
func (i *Interval) parseText(s string) error {
	v, err := ParseInterval(s)
	*i = v
	return err
}
