package remote

import "widegate/gate"

// noDialect spells nothing: no statement reaches a service. It is there for statements
// that are begun before that is known.
type noDialect struct{}

var _ gate.Dialect = noDialect{}

func (noDialect) Number(text string) (any, string, error)                  { return text, "", nil }
func (noDialect) Typed(any) string                                         { return "" }
func (noDialect) Cast(string) string                                       { return "" }
func (noDialect) Output(string) (before, after string)                     { return "", "" }
func (noDialect) Exactly(string, bool) (before, after string, shown bool)  { return "", "", false }
func (noDialect) Digits() bool                                             { return false }
func (noDialect) Calculate(op string) (string, string, bool, bool)         { return "(", op, false, false }
func (noDialect) Fraction() (before, after string)                         { return "", "" }
func (noDialect) Quotient() string                                         { return "/" }
func (noDialect) Length() string                                           { return "length" }
func (noDialect) Aggregate(name string, _ bool) string                     { return name }
func (noDialect) PathValue([]string, string) (string, string, any, string) { return "", "", nil, "" }
func (noDialect) PathHas([]string, string) (string, string, any, string)   { return "", "", nil, "" }
func (noDialect) Nothing() string                                          { return "" }
func (noDialect) Defaults() string                                         { return "" }
func (noDialect) Upsert() (string, string, string, string, bool)           { return "", "", "", "", false }
func (noDialect) Literals() bool                                           { return false }
