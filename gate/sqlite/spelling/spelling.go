// Package spelling is how SQLite writes what engines write differently; see
// gate.Dialect.
package spelling

import (
	"fmt"
	"strconv"
)

// SQLite is the dialect.
type SQLite struct{}

func (SQLite) Number(text string) (value any, after string, err error) {
	v, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return nil, "", fmt.Errorf("the number %s: %w", text, err)
	}
	return v, "", nil
}

func (SQLite) Typed(any) string                     { return "" }
func (SQLite) Cast(string) string                   { return "" }
func (SQLite) Output(string) (before, after string) { return "", "" }
func (SQLite) Digits() bool                         { return false }

func (SQLite) Exactly(_ string, several bool) (before, after string, shown bool) {
	if several {
		return "", " COLLATE BINARY", true
	}
	return "CAST(", " AS TEXT)", false
}

// Calculate takes a function of this package, which keeps decimal numbers as they are
// written.
func (SQLite) Calculate(op string) (before, between string, guarded, fraction bool) {
	return "gate_calculate('" + op + "', ", ", ", false, false
}

func (SQLite) Fraction() (before, after string) { return "", "" }
func (SQLite) Quotient() string                 { return " / " }

func (SQLite) Length() string { return "length" }

// Aggregate takes functions of this package for decimal numbers.
func (SQLite) Aggregate(name string, decimal bool) string {
	if decimal && (name == "sum" || name == "avg") {
		return "gate_" + name
	}
	return name
}

func (SQLite) PathValue(_ []string, path string) (before, between string, arg any, after string) {
	return "CAST(json_extract(", ", ", path, ") AS TEXT)" // a number compares with no text otherwise
}

func (SQLite) PathHas(_ []string, path string) (before, between string, arg any, after string) {
	return "json_type(", ", ", path, ") IS NOT NULL"
}

func (SQLite) Nothing() string  { return "SELECT NULL WHERE 1=0" }
func (SQLite) Defaults() string { return " DEFAULT VALUES" }

func (SQLite) Upsert() (before, after, sentBefore, sentAfter string, keyed bool) {
	return " ON CONFLICT (", ") DO UPDATE SET ", "excluded.", "", true
}

func (SQLite) Literals() bool { return false }
