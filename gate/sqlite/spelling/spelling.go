// Package spelling is how SQLite writes what engines write differently; see
// gate.Dialect.
package spelling

import (
	"fmt"
	"strconv"
	"strings"
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

func (SQLite) PathValue(path []string) (before, between string, arg any, after string) {
	return "CAST(json_extract(", ", ", jsonPath(path), ") AS TEXT)" // a number compares with no text otherwise
}

func (SQLite) PathHas(path []string) (before, between string, arg any, after string) {
	return "json_type(", ", ", jsonPath(path), ") IS NOT NULL"
}

// jsonPath writes a path as $."name"[0].
func jsonPath(path []string) string {
	var b strings.Builder
	b.WriteByte('$')
	for _, step := range path {
		if n, err := strconv.Atoi(step); err == nil && n >= 0 {
			b.WriteString("[" + step + "]")
			continue
		}
		b.WriteString(`."` + strings.ReplaceAll(strings.ReplaceAll(step, `\`, `\\`), `"`, `\"`) + `"`)
	}
	return b.String()
}

func (SQLite) Nothing() string  { return "SELECT NULL WHERE 1=0" }
func (SQLite) Defaults() string { return " DEFAULT VALUES" }

func (SQLite) Upsert() (before, after, sentBefore, sentAfter string, keyed bool) {
	return " ON CONFLICT (", ") DO UPDATE SET ", "excluded.", "", true
}

func (SQLite) Literals() bool { return false }
