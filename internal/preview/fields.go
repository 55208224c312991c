package preview

import (
	"time"

	"widegate/gate"
	"widegate/internal/model"
)

// label is any label of any enum.
type label string

// newField returns a function that makes a place for a value of a field, of the
// type that it has in generated code.
func newField(f *model.Field) func() any {
	if f.Element != nil {
		return elements(f.Element)(f.Kind == model.KindRange, f.Nullable)
	}
	switch f.Kind {
	case model.KindInt16:
		return place[int16](f.Nullable)
	case model.KindInt32:
		return place[int32](f.Nullable)
	case model.KindInt64:
		return place[int64](f.Nullable)
	case model.KindUint64:
		return place[uint64](f.Nullable)
	case model.KindFloat32:
		return place[float32](f.Nullable)
	case model.KindFloat64:
		return place[float64](f.Nullable)
	case model.KindNumeric:
		return place[gate.Decimal](f.Nullable)
	case model.KindBool:
		return place[bool](f.Nullable)
	case model.KindBytes:
		return place[[]byte](f.Nullable)
	case model.KindDate:
		return place[gate.Date](f.Nullable)
	case model.KindTimestamp, model.KindTimestampTZ:
		return place[time.Time](f.Nullable)
	case model.KindTimeOfDay:
		return place[gate.TimeOfDay](f.Nullable)
	case model.KindInterval:
		return place[gate.Interval](f.Nullable)
	case model.KindJSON:
		return place[gate.JSON](f.Nullable)
	case model.KindEnum:
		if f.Nullable {
			return func() any { return gate.MaybeLabel(new(gate.Maybe[label])) }
		}
		return func() any { return gate.Label(new(label)) }
	}
	return place[string](f.Nullable) // texts, and what is carried as text
}

func place[T any](nullable bool) func() any {
	if nullable {
		return func() any { return new(gate.Maybe[T]) }
	}
	return func() any { return new(T) }
}

// elements makes places for lists and ranges of values of a field.
func elements(f *model.Field) func(isRange, nullable bool) func() any {
	switch f.Kind {
	case model.KindInt16:
		return several[int16]
	case model.KindInt32:
		return several[int32]
	case model.KindInt64:
		return several[int64]
	case model.KindUint64:
		return several[uint64]
	case model.KindFloat32:
		return several[float32]
	case model.KindFloat64:
		return several[float64]
	case model.KindNumeric:
		return several[gate.Decimal]
	case model.KindBool:
		return several[bool]
	case model.KindBytes:
		return several[[]byte]
	case model.KindDate:
		return several[gate.Date]
	case model.KindTimestamp, model.KindTimestampTZ:
		return several[time.Time]
	case model.KindTimeOfDay:
		return several[gate.TimeOfDay]
	case model.KindInterval:
		return several[gate.Interval]
	case model.KindJSON:
		return several[gate.JSON]
	case model.KindEnum:
		return several[label]
	}
	return several[string]
}

func several[T any](isRange, nullable bool) func() any {
	if isRange {
		return place[gate.Range[T]](nullable)
	}
	return place[gate.List[T]](nullable)
}
