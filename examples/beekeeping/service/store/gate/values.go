package gate

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"time"
)

// Date is a day of the proleptic Gregorian calendar, without time or zone.
// Its text form is that of RFC 3339: 2026-05-01.
type Date struct {
	Year  int
	Month time.Month
	Day   int
}

// ParseDate reads a date of the form 2026-05-01.
func ParseDate(s string) (Date, error) {
	t, err := time.Parse(time.DateOnly, s)
	if err != nil {
		return Date{}, fmt.Errorf("%q is not a date of the form 2006-01-02", s)
	}
	return DateOf(t), nil
}

// DateOf returns the day on which t lies in its own zone.
func DateOf(t time.Time) Date {
	y, m, d := t.Date()
	return Date{y, m, d}
}

// Time returns the first instant of the day in zone.
func (d Date) Time(zone *time.Location) time.Time {
	return time.Date(d.Year, d.Month, d.Day, 0, 0, 0, 0, zone)
}

// String returns the date as 2026-05-01.
func (d Date) String() string { return string(d.append(make([]byte, 0, len(time.DateOnly)))) }

func (d Date) append(b []byte) []byte {
	if d.Year < 0 || d.Year > 9999 {
		return fmt.Appendf(b, "%04d-%02d-%02d", d.Year, d.Month, d.Day)
	}
	return append(b,
		digit(d.Year/1000), digit(d.Year/100%10), digit(d.Year/10%10), digit(d.Year%10), '-',
		digit(int(d.Month)/10), digit(int(d.Month)%10), '-',
		digit(d.Day/10), digit(d.Day%10))
}

func digit(n int) byte { return byte('0' + n) }

// MarshalText implements encoding.TextMarshaler.
func (d Date) MarshalText() ([]byte, error) { return d.append(nil), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (d *Date) UnmarshalText(text []byte) (err error) {
	*d, err = ParseDate(string(text))
	return err
}

// Scan implements sql.Scanner.
func (d *Date) Scan(src any) error { return (*dateField)(d).set(src) }

// Value implements driver.Valuer.
func (d Date) Value() (driver.Value, error) { return d.String(), nil }

// Decimal is an exact decimal number of any size, kept as its digits. The zero
// Decimal is 0.
type Decimal struct{ digits string }

// ParseDecimal reads a number such as -12.50. It keeps every digit, also
// trailing zeros; exponents are not part of the form.
func ParseDecimal(s string) (Decimal, error) {
	digits := strings.TrimPrefix(s, "-")
	whole, fraction, hasPoint := strings.Cut(digits, ".")
	if whole == "" || !allDigits(whole) || hasPoint && (fraction == "" || !allDigits(fraction)) {
		return Decimal{}, fmt.Errorf("%q is not a decimal number such as 12.50", s)
	}
	whole = strings.TrimLeft(whole[:len(whole)-1], "0") + whole[len(whole)-1:]
	text := whole
	if hasPoint {
		text += "." + fraction
	}
	if len(digits) < len(s) {
		text = "-" + text
	}
	return Decimal{text}, nil
}

func allDigits(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

// DecimalOf returns the whole number n.
func DecimalOf(n int64) Decimal { return Decimal{strconv.FormatInt(n, 10)} }

// DecimalFromRat returns r rounded to places digits after the point, halves
// away from zero.
func DecimalFromRat(r *big.Rat, places int) Decimal { return Decimal{r.FloatString(places)} }

// Rat returns the number as a fraction, for exact arithmetic with math/big.
func (d Decimal) Rat() *big.Rat {
	r, _ := new(big.Rat).SetString(d.String())
	return r
}

// Float64 returns the nearest floating-point number.
func (d Decimal) Float64() float64 {
	f, _ := d.Rat().Float64()
	return f
}

// Cmp compares two numbers by value: -1, 0 or +1. 1.5 and 1.50 are equal.
func (d Decimal) Cmp(other Decimal) int { return d.Rat().Cmp(other.Rat()) }

// String returns the digits as they were stored.
func (d Decimal) String() string {
	if d.digits == "" {
		return "0"
	}
	return d.digits
}

// size returns the digits before and after the point.
func (d Decimal) size() (whole, fraction int) {
	w, f, _ := strings.Cut(strings.TrimPrefix(d.String(), "-"), ".")
	return len(strings.TrimLeft(w, "0")), len(f)
}

// MarshalJSON writes the number with all its digits.
func (d Decimal) MarshalJSON() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalJSON reads a number, or a string that holds one.
func (d *Decimal) UnmarshalJSON(text []byte) error { return (*decimalField)(d).parseJSON(text) }

// MarshalText implements encoding.TextMarshaler.
func (d Decimal) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// Scan implements sql.Scanner.
func (d *Decimal) Scan(src any) error { return (*decimalField)(d).set(src) }

// Value implements driver.Valuer.
func (d Decimal) Value() (driver.Value, error) { return d.String(), nil }

// JSON is a JSON text as the database stores it.
type JSON json.RawMessage

// MarshalJSON writes the text as it is; an empty one is null.
func (j JSON) MarshalJSON() ([]byte, error) {
	if len(j) == 0 {
		return []byte("null"), nil
	}
	return j, nil
}

// UnmarshalJSON keeps the text.
func (j *JSON) UnmarshalJSON(text []byte) error {
	*j = append((*j)[:0], text...)
	return nil
}

// Scan implements sql.Scanner.
func (j *JSON) Scan(src any) error { return (*jsonField)(j).set(src) }

// Value implements driver.Valuer.
func (j JSON) Value() (driver.Value, error) { return string(j), nil }
