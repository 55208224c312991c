package migration

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// A conversion says what a change of type does to values.
type Conversion struct {
	Condition string // in SQL, of the column before: the value is changed, or does not fit; empty: no value is
	Tries     string // an expression that may raise an error for a value, and is not the value where it is changed
	Anchored  bool   // what it does depends on a time zone
	Unknown   bool   // it cannot be told
}

// Harmless reports whether no value is changed, and every one fits.
func (c Conversion) Harmless() bool {
	return c.Condition == "" && c.Tries == "" && !c.Anchored && !c.Unknown
}

// Or joins conditions, leaving empty ones out.
func Or(list ...string) string {
	list = slices.DeleteFunc(list, func(s string) bool { return s == "" })
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return "(" + strings.Join(list, ") OR (") + ")"
}

// IntRange are the least and the largest number of a type.
func IntRange(t catalog.Type) (low, high string) {
	signed := map[int][2]string{8: {"-128", "127"}, 16: {"-32768", "32767"}, 24: {"-8388608", "8388607"}, 32: {"-2147483648", "2147483647"}, 64: {"-9223372036854775808", "9223372036854775807"}}
	unsigned := map[int]string{8: "255", 16: "65535", 24: "16777215", 32: "4294967295", 64: "18446744073709551615"}
	bits := t.Bits
	if t.Kind == catalog.Bool {
		bits = 8
	}
	if bits == 0 {
		bits = 64
	}
	if t.Unsigned {
		return "0", unsigned[bits]
	}
	return signed[bits][0], signed[bits][1]
}

// Number reports whether a kind is one of numbers.
func Number(k catalog.TypeKind) bool {
	return k == catalog.Int || k == catalog.Decimal || k == catalog.Float
}

// whole is the pattern of whole numbers as they are printed, decimal that of
// others.
const (
	Whole   = "^(0|-?[1-9][0-9]{0,30})$"
	Decimal = "^-?(0|[1-9][0-9]{0,60})([.][0-9]{1,60})?$"
)

// Outside is a condition for numbers that a type does not hold.
func Outside(column string, now catalog.Type) string {
	low, high := IntRange(now)
	return fmt.Sprintf("%s NOT BETWEEN %s AND %s", column, low, high)
}

// Zoned reports whether a kind is of points in time.
func Zoned(k catalog.TypeKind) bool { return k == catalog.TimestampTZ }

// CrossesZone reports whether a time gets or loses its place in the world.
func CrossesZone(a Alteration) bool {
	was, now := a.Was.Type.Kind, a.Now.Type.Kind
	times := []catalog.TypeKind{catalog.Timestamp, catalog.Date, catalog.Time}
	timeZoned := func(c *catalog.Column) bool { return strings.Contains(c.Declared, "with time zone") }
	return Zoned(was) && slices.Contains(times, now) || Zoned(now) && slices.Contains(times, was) ||
		was == catalog.Time && now == catalog.Time && timeZoned(a.Was) != timeZoned(a.Now)
}
