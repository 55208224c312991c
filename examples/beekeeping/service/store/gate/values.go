package gate

import (
	"cmp"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"time"
)

// Date is a day of the proleptic Gregorian calendar, without time or zone.
// Its text form is that of RFC 3339, 2026-05-01, and for years before 0 and
// after 9999 that of ISO 8601 with a sign: +12026-05-01. PostgreSQL's infinity
// is FarFuture, and MySQL's 0000-00-00 the zero Date.
type Date struct {
	Year  int
	Month time.Month
	Day   int
}

// The year of the times and dates that stand for PostgreSQL's infinities. It
// lies outside of what any engine can store.
const (
	infinityYear   = 999_999
	infinity       = "infinity"
	minusInfinity  = "-infinity"
	zeroDate       = "0000-00-00"
	yearDigits     = 4
	mostYearDigits = 6
	beforeChrist   = " BC"
	firstYearBC    = 1 // ISO 8601 has a year 0, which is 1 BC
)

// FarFuture stands for infinity, which is later than any other time.
func FarFuture() time.Time { return time.Date(infinityYear, 1, 1, 0, 0, 0, 0, time.UTC) }

// FarPast stands for -infinity, which is earlier than any other time.
func FarPast() time.Time { return time.Date(-infinityYear, 1, 1, 0, 0, 0, 0, time.UTC) }

// ParseDate reads a date of the form 2026-05-01, or one of the special forms.
func ParseDate(s string) (Date, error) {
	switch s {
	case infinity:
		return DateOf(FarFuture()), nil
	case minusInfinity:
		return DateOf(FarPast()), nil
	case zeroDate:
		return Date{}, nil
	}
	year, rest, ok := cutYear(s)
	if !ok {
		return Date{}, fmt.Errorf("%q is not a date of the form 2006-01-02", s)
	}
	// MySQL keeps dates whose day or month is not known.
	if d, ok := uncertainDate(year, rest); ok {
		return d, nil
	}
	t, err := time.Parse(time.DateOnly, "2000"+rest)
	if err != nil || t.AddDate(year-t.Year(), 0, 0).Day() != t.Day() {
		return Date{}, fmt.Errorf("%q is not a date of the form 2006-01-02", s)
	}
	return Date{year, t.Month(), t.Day()}, nil
}

// uncertainDate reads -05-00 and -00-00.
func uncertainDate(year int, rest string) (Date, bool) {
	if len(rest) != len("-00-00") || rest[4:] != "00" {
		return Date{}, false
	}
	month, err := strconv.Atoi(rest[1:3])
	return Date{year, time.Month(month), 0}, err == nil && month <= 12
}

// cutYear takes the year off a date: four digits, or a sign and more of them.
// PostgreSQL writes years before 1 with BC behind the date.
func cutYear(s string) (year int, rest string, ok bool) {
	s, isBC := strings.CutSuffix(s, beforeChrist)
	digits := strings.TrimLeft(s, "+-")
	at := strings.IndexByte(digits, '-')
	if at < yearDigits || at > mostYearDigits || len(s)-len(digits) > 1 {
		return 0, "", false
	}
	year, err := strconv.Atoi(digits[:at])
	if s[0] == '-' {
		year = -year
	}
	if isBC {
		year = firstYearBC - year
	}
	return year, digits[at:], err == nil && allDigits(digits[:at])
}

// appendYear writes a year as ISO 8601 does.
func appendYear(b []byte, year int) []byte {
	if year >= 0 && year <= 9999 {
		return append(b, digit(year/1000), digit(year/100%10), digit(year/10%10), digit(year%10))
	}
	sign := byte('+')
	if year < 0 {
		sign, year = '-', -year
	}
	return fmt.Appendf(append(b, sign), "%04d", year)
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
	switch d.Year {
	case infinityYear:
		return append(b, infinity...)
	case -infinityYear:
		return append(b, minusInfinity...)
	}
	return append(appendYear(b, d.Year), '-',
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
// Decimal is 0. PostgreSQL's NaN, Infinity and -Infinity are kept by these
// names.
type Decimal struct{ digits string }

// ParseDecimal reads a number such as -12.50. It keeps every digit, also
// trailing zeros; exponents are not part of the form.
func ParseDecimal(s string) (Decimal, error) {
	switch s {
	case "NaN", "Infinity", "-Infinity":
		return Decimal{s}, nil
	}
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

// IsNumber reports whether d is neither NaN nor infinite.
func (d Decimal) IsNumber() bool {
	return !strings.HasSuffix(d.digits, "N") && !strings.HasSuffix(d.digits, "y")
}

// Rat returns the number as a fraction, for exact arithmetic with math/big; it
// is nil for what is no number.
func (d Decimal) Rat() *big.Rat {
	r, _ := new(big.Rat).SetString(d.String())
	return r
}

// Float64 returns the nearest floating-point number.
func (d Decimal) Float64() float64 {
	if !d.IsNumber() {
		f, _ := strconv.ParseFloat(d.digits, 64)
		return f
	}
	f, _ := d.Rat().Float64()
	return f
}

// Cmp compares two numbers by value: -1, 0 or +1. 1.5 and 1.50 are equal. As in
// PostgreSQL, NaN equals itself and is greater than everything else.
func (d Decimal) Cmp(other Decimal) int {
	if d.IsNumber() && other.IsNumber() {
		return d.Rat().Cmp(other.Rat())
	}
	return cmp.Compare(d.rank(), other.rank())
}

// rank orders what is no number around the numbers.
func (d Decimal) rank() int {
	switch d.digits {
	case "-Infinity":
		return -1
	case "Infinity":
		return 1
	case "NaN":
		return 2
	}
	return 0
}

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

// MarshalJSON writes the number with all its digits; what is no number becomes
// a string.
func (d Decimal) MarshalJSON() ([]byte, error) { return d.appendJSON(nil), nil }

func (d Decimal) appendJSON(b []byte) []byte {
	if !d.IsNumber() {
		return AppendJSONString(b, d.digits)
	}
	return append(b, d.String()...)
}

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
