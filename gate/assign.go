package gate

import (
	"math"
	"time"
)

// The functions below store what a driver gave into the field that p points
// to, like Assign. That they take no interface value keeps the numbers and
// texts of a row off the heap; the commonest types are reached without a call.

// SetInt stores a whole number.
func SetInt(p any, v int64) error {
	switch p := p.(type) {
	case *int64:
		*p = v
	case *Maybe[int64]:
		p.value, p.state = v, maybeValue
	case *bool:
		*p = v != 0
	case *int32:
		if v < math.MinInt32 || v > math.MaxInt32 {
			return (*int32Field)(p).set(v)
		}
		*p = int32(v)
	default:
		return fieldOf(p).set(v)
	}
	return nil
}

// SetFloat stores a binary fraction.
func SetFloat(p any, v float64) error {
	switch p := p.(type) {
	case *float64:
		*p = v
	case *Maybe[float64]:
		p.value, p.state = v, maybeValue
	default:
		return fieldOf(p).set(v)
	}
	return nil
}

// SetBool stores a truth value.
func SetBool(p any, v bool) error {
	switch p := p.(type) {
	case *bool:
		*p = v
	case *Maybe[bool]:
		p.value, p.state = v, maybeValue
	default:
		return fieldOf(p).set(v)
	}
	return nil
}

// SetTime stores a point in time.
func SetTime(p any, v time.Time) error {
	switch p := p.(type) {
	case *time.Time:
		*p = v.UTC()
	case *Maybe[time.Time]:
		p.value, p.state = v.UTC(), maybeValue
	case *Date:
		*p = DateOf(v)
	case *Maybe[Date]:
		p.value, p.state = DateOf(v), maybeValue
	default:
		return fieldOf(p).set(v)
	}
	return nil
}

// SetNull stores NULL.
func SetNull(p any) error { return fieldOf(p).set(nil) }

// SetText stores a text, and what is carried as one: decimals, dates, times
// and JSON among them. It keeps no part of b.
func SetText(p any, b []byte) (err error) {
	switch p := p.(type) {
	case *string:
		*p = string(b)
	case *Maybe[string]:
		p.value, p.state = string(b), maybeValue
	case *Decimal:
		return setDecimal(p, b)
	case *Maybe[Decimal]:
		p.state = maybeValue
		return setDecimal(&p.value, b)
	case *JSON:
		*p = append(make([]byte, 0, len(b)), b...)
	case *Maybe[JSON]:
		p.value, p.state = append(make([]byte, 0, len(b)), b...), maybeValue
	case *Date:
		return setDate(p, b)
	case *Maybe[Date]:
		p.state = maybeValue
		return setDate(&p.value, b)
	case *time.Time:
		return setTime(p, b)
	case *Maybe[time.Time]:
		p.state = maybeValue
		return setTime(&p.value, b)
	default:
		return fieldOf(p).set(b)
	}
	return nil
}

// setDecimal reads a number in the form that it is kept in, which is the one
// that engines write, at the cost of a look.
func setDecimal(p *Decimal, b []byte) error {
	if plainDecimal(b) {
		p.digits = string(b)
		return nil
	}
	return (*decimalField)(p).set(b)
}

func plainDecimal(b []byte) bool {
	if len(b) > 0 && b[0] == '-' {
		b = b[1:]
	}
	whole := 0
	for whole < len(b) && b[whole]-'0' < 10 {
		whole++
	}
	if whole == 0 || whole > 1 && b[0] == '0' {
		return false
	}
	if whole == len(b) {
		return true
	}
	for _, c := range b[whole+1:] {
		if c-'0' >= 10 {
			return false
		}
	}
	return b[whole] == '.' && len(b) > whole+1
}

// setDate reads 2026-05-01; what is rarer takes the longer way.
func setDate(p *Date, b []byte) error {
	if year, month, day, ok := plainDate(b); ok && len(b) == len(time.DateOnly) {
		*p = Date{year, time.Month(month), day}
		return nil
	}
	return (*dateField)(p).set(b)
}

// plainDate reads a date that begins a text and is surely one of the calendar.
func plainDate(b []byte) (year, month, day int, ok bool) {
	if len(b) < len(time.DateOnly) || b[4] != '-' || b[7] != '-' {
		return 0, 0, 0, false
	}
	high, ok1 := twoDigits(b[0:])
	low, ok2 := twoDigits(b[2:])
	month, ok3 := twoDigits(b[5:])
	day, ok4 := twoDigits(b[8:])
	year = high*100 + low
	return year, month, day, ok1 && ok2 && ok3 && ok4 && year > 0 && month >= 1 && month <= 12 && day >= 1 && day <= 28
}

func twoDigits(b []byte) (int, bool) {
	x, y := b[0]-'0', b[1]-'0'
	return int(x)*10 + int(y), x < 10 && y < 10
}

// setTime reads 2026-05-01 08:00:00.123456, which is in UTC; what is rarer
// takes the longer way.
func setTime(p *time.Time, b []byte) error {
	const whole = len(time.DateTime)
	year, month, day, ok := plainDate(b)
	if !ok || len(b) < whole || b[10] != ' ' || b[13] != ':' || b[16] != ':' {
		return (*timeField)(p).set(b)
	}
	hour, ok1 := twoDigits(b[11:])
	minute, ok2 := twoDigits(b[14:])
	second, ok3 := twoDigits(b[17:])
	nanos, ok4 := plainFraction(b[whole:])
	if !ok1 || !ok2 || !ok3 || !ok4 || hour > 23 || minute > 59 || second > 59 {
		return (*timeField)(p).set(b)
	}
	*p = time.Date(year, time.Month(month), day, hour, minute, second, nanos, time.UTC)
	return nil
}

// plainFraction reads .123456, or nothing, as nanoseconds.
func plainFraction(b []byte) (int, bool) {
	if len(b) == 0 {
		return 0, true
	}
	if b[0] != '.' || len(b) < 2 || len(b) > 10 {
		return 0, false
	}
	n := 0
	for i := 1; i < 10; i++ {
		n *= 10
		if i < len(b) {
			if b[i]-'0' >= 10 {
				return 0, false
			}
			n += int(b[i] - '0')
		}
	}
	return n, true
}
