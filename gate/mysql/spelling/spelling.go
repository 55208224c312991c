// Package spelling is how MySQL and MariaDB write what engines write differently; see
// gate.Dialect.
package spelling

import (
	"fmt"
	"strconv"
)

// MySQL is the dialect.
type MySQL struct{}

func (MySQL) Number(text string) (value any, after string, err error) {
	v, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return nil, "", fmt.Errorf("the number %s: %w", text, err)
	}
	return v, "", nil
}

func (MySQL) Typed(any) string                     { return "" }
func (MySQL) Cast(string) string                   { return "" }
func (MySQL) Output(string) (before, after string) { return "", "" }
func (MySQL) Digits() bool                         { return false }

func (MySQL) Exactly(string, bool) (before, after string, shown bool) {
	return "CAST(CONVERT(", " USING utf8mb4) AS BINARY)", false
}

func (MySQL) Calculate(op string) (before, between string, guarded, fraction bool) {
	switch op {
	case "+", "-", "*":
		return "(", " " + op + " ", false, false
	case "^":
		return "power(", ", ", false, true
	case "div":
		return "(", " DIV ", true, true
	}
	return "(", " " + op + " ", true, true
}

func (MySQL) Fraction() (before, after string) { return "", "" }
func (MySQL) Quotient() string                 { return " DIV " }

// Length is not length, which counts bytes.
func (MySQL) Length() string { return "char_length" }

func (MySQL) Aggregate(name string, _ bool) string { return name }

func (MySQL) PathValue(_ []string, path string) (before, between string, arg any, after string) {
	return "json_unquote(json_extract(", ", ", path, "))"
}

func (MySQL) PathHas(_ []string, path string) (before, between string, arg any, after string) {
	return "json_contains_path(", ", 'one', ", path, ")"
}

func (MySQL) Nothing() string  { return "SELECT NULL FROM DUAL WHERE 1=0" }
func (MySQL) Defaults() string { return " () VALUES ()" }

func (MySQL) Upsert() (before, after, sentBefore, sentAfter string, keyed bool) {
	return " ON DUPLICATE KEY UPDATE ", "", "VALUES(", ")", false
}

func (MySQL) Literals() bool { return true }
