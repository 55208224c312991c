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
	case *Sink:
		return p.int(v)
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
	case *Sink:
		return p.float(v)
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
	case *Sink:
		return p.bool(v)
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
	case *Sink:
		return p.time(v)
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
func SetNull(p any) error {
	if sink, ok := p.(*Sink); ok {
		return sink.null()
	}
	return fieldOf(p).set(nil)
}

// SetText stores a text, and what is carried as one: decimals, dates, times
// and JSON among them. It keeps no part of b.
func SetText(p any, b []byte) error {
	switch p := p.(type) {
	case *Sink:
		return p.text(b)
	case *JSON:
		*p = append(make([]byte, 0, len(b)), b...)
		return nil
	case *Maybe[JSON]:
		p.value, p.state = append(make([]byte, 0, len(b)), b...), maybeValue
		return nil
	}
	if known, err := setText(p, b); known {
		return err
	}
	return fieldOf(p).set(b)
}

// SetString is SetText for a string.
func SetString(p any, s string) error {
	if sink, ok := p.(*Sink); ok {
		return sink.text([]byte(s))
	}
	if known, err := setText(p, s); known {
		return err
	}
	return fieldOf(p).set(s)
}

// setText stores a text in a field of one of the commonest types.
func setText[T string | []byte](p any, s T) (known bool, err error) {
	switch p := p.(type) {
	case *string:
		*p = string(s)
	case *Maybe[string]:
		p.value, p.state = string(s), maybeValue
	case *Decimal:
		err = setDecimal(p, s)
	case *Maybe[Decimal]:
		p.state = maybeValue
		err = setDecimal(&p.value, s)
	case *Date:
		err = setDate(p, s)
	case *Maybe[Date]:
		p.state = maybeValue
		err = setDate(&p.value, s)
	case *time.Time:
		err = setTime(p, s)
	case *Maybe[time.Time]:
		p.state = maybeValue
		err = setTime(&p.value, s)
	default:
		return false, nil
	}
	return true, err
}

// setDecimal reads a number in the form that it is kept in, which is the one
// that engines write, at the cost of a look.
func setDecimal[T string | []byte](p *Decimal, s T) error {
	if plainDecimal(s) {
		p.digits = string(s)
		return nil
	}
	return (*decimalField)(p).set(string(s))
}

func plainDecimal[T string | []byte](s T) bool {
	at := 0
	if len(s) > 0 && s[0] == '-' {
		at = 1
	}
	first := at
	for at < len(s) && s[at]-'0' < 10 {
		at++
	}
	if at == first || at > first+1 && s[first] == '0' {
		return false
	}
	if at == len(s) {
		return true
	}
	point := at
	for at++; at < len(s); at++ {
		if s[at]-'0' >= 10 {
			return false
		}
	}
	return s[point] == '.' && len(s) > point+1
}

// setDate reads 2026-05-01; what is rarer takes the longer way.
func setDate[T string | []byte](p *Date, s T) error {
	if year, month, day, ok := plainDate(s); ok && len(s) == len(time.DateOnly) {
		*p = Date{year, time.Month(month), day}
		return nil
	}
	return (*dateField)(p).set(string(s))
}

// plainDate reads a date that begins a text and is surely one of the calendar.
func plainDate[T string | []byte](s T) (year, month, day int, ok bool) {
	if len(s) < len(time.DateOnly) || s[4] != '-' || s[7] != '-' {
		return 0, 0, 0, false
	}
	high, ok1 := twoDigits(s, 0)
	low, ok2 := twoDigits(s, 2)
	month, ok3 := twoDigits(s, 5)
	day, ok4 := twoDigits(s, 8)
	year = high*100 + low
	return year, month, day, ok1 && ok2 && ok3 && ok4 && year > 0 && month >= 1 && month <= 12 && day >= 1 && day <= 28
}

func twoDigits[T string | []byte](s T, at int) (int, bool) {
	x, y := s[at]-'0', s[at+1]-'0'
	return int(x)*10 + int(y), x < 10 && y < 10
}

// setTime reads 2026-05-01 08:00:00.123456, which is in UTC; what is rarer
// takes the longer way.
func setTime[T string | []byte](p *time.Time, s T) error {
	const whole = len(time.DateTime)
	year, month, day, ok := plainDate(s)
	if !ok || len(s) < whole || s[10] != ' ' || s[13] != ':' || s[16] != ':' {
		return (*timeField)(p).set(string(s))
	}
	hour, ok1 := twoDigits(s, 11)
	minute, ok2 := twoDigits(s, 14)
	second, ok3 := twoDigits(s, 17)
	nanos, ok4 := plainFraction(s, whole)
	if !ok1 || !ok2 || !ok3 || !ok4 || hour > 23 || minute > 59 || second > 59 {
		return (*timeField)(p).set(string(s))
	}
	*p = time.Date(year, time.Month(month), day, hour, minute, second, nanos, time.UTC)
	return nil
}

// plainFraction reads .123456 to the end, or nothing, as nanoseconds.
func plainFraction[T string | []byte](s T, at int) (int, bool) {
	if at == len(s) {
		return 0, true
	}
	if s[at] != '.' || len(s) < at+2 || len(s) > at+10 {
		return 0, false
	}
	n := 0
	for i := 1; i < 10; i++ {
		n *= 10
		if at+i < len(s) {
			digit := s[at+i] - '0'
			if digit >= 10 {
				return 0, false
			}
			n += int(digit)
		}
	}
	return n, true
}

// settle gives a value that was stored as it was the form in which it is read.
func settle(p any) error {
	switch p := p.(type) {
	case *int64, *string, *bool, *float64, *Decimal, *Date, *JSON:
		return nil
	case *time.Time:
		*p = p.UTC().Round(0)
		return nil
	}
	f := fieldOf(p)
	return f.set(f.arg())
}
