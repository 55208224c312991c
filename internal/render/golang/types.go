package golang

import (
	"fmt"
	"strings"

	"widegate/internal/model"
)

// goKind is what a kind of values is in Go.
type goKind struct {
	typ   string // empty where it has a name or an element
	class string // of gate's columns: which conditions there are on it
}

// goKinds has an entry for each kind.
var goKinds = map[model.Kind]goKind{
	model.KindInt16: {"int16", "Ordered"}, model.KindInt32: {"int32", "Ordered"}, model.KindInt64: {"int64", "Ordered"}, model.KindUint64: {"uint64", "Ordered"},
	model.KindFloat32: {"float32", "Ordered"}, model.KindFloat64: {"float64", "Ordered"}, model.KindNumeric: {"gate.Decimal", "Ordered"},
	model.KindBool: {"bool", "Value"}, model.KindText: {"string", "Text"}, model.KindBytes: {"[]byte", "Value"}, model.KindUUID: {"string", "Ordered"},
	model.KindDate: {"gate.Date", "Ordered"}, model.KindTimestamp: {"time.Time", "Ordered"}, model.KindTimestampTZ: {"time.Time", "Ordered"},
	model.KindTimeOfDay: {"gate.TimeOfDay", "Ordered"}, model.KindInterval: {"gate.Interval", "Ordered"}, model.KindJSON: {"gate.JSON", "Document"},
	model.KindEnum: {"", "Enum"}, model.KindList: {"", "Array"}, model.KindRange: {"", "Span"}, model.KindRecord: {"", "Value"}, model.KindOther: {"string", "Value"},
}

// baseType is the type of a field's values, but for the name of a domain.
func baseType(f *model.Field) string {
	switch {
	case f.Set != nil:
		return f.Set.Name
	case f.Kind == model.KindEnum:
		return f.Enum.Name
	case f.Kind == model.KindRecord:
		return f.Composite.Name
	case f.Kind == model.KindList:
		return "gate.List[" + valueType(f.Element) + "]"
	case f.Kind == model.KindRange:
		return "gate.Range[" + valueType(f.Element) + "]"
	}
	return goKinds[f.Kind].typ
}

// valueType is the type of a field's values.
func valueType(f *model.Field) string {
	switch {
	case f.Entity != nil:
		return "*" + f.Entity.Name
	case f.Domain != nil:
		return f.Domain.Name
	}
	return baseType(f)
}

// FieldType is the type of a field.
func FieldType(f *model.Field) string {
	if f.Nullable && f.Entity == nil {
		return "gate.Maybe[" + valueType(f) + "]"
	}
	return valueType(f)
}

// KeyType is the type of an entity's key: of one column its type, of several a struct.
func KeyType(e *model.Entity) string {
	if e.KeyName != "" || len(e.Key) == 0 {
		return e.KeyName
	}
	return baseType(e.Key[0])
}

// argType is the type of a query's parameter.
func argType(a model.QueryArg) string {
	switch {
	case a.Order != nil:
		return a.OrderName
	case a.List:
		return "[]" + valueType(a.Field)
	case a.Maybe:
		return "gate.Maybe[" + valueType(a.Field) + "]"
	}
	return valueType(a.Field)
}

// signature are the parameters of a query's function behind ctx and db.
func signature(n *model.NamedQuery) string {
	var b strings.Builder
	for _, a := range n.Args {
		fmt.Fprintf(&b, ", %s %s", a.Name, argType(a))
	}
	return b.String()
}
