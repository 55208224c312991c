package preview

import (
	"time"

	"widegate/gate"
	"widegate/internal/model"
)

// label is any label of any enum.
type label string

// shape makes places for the values of a kind: for one, and for several in a list or
// range.
type shape struct {
	one     func(nullable bool) func() any
	several func(isRange, nullable bool) func() any
}

func shapeOf[T any]() shape { return shape{place[T], several[T]} }

// shapes has an entry for each kind. What is a list, a range or a composite value of
// the schema has the shape of its parts, or is carried as text.
var shapes = map[model.Kind]shape{
	model.KindInt16: shapeOf[int16](), model.KindInt32: shapeOf[int32](), model.KindInt64: shapeOf[int64](), model.KindUint64: shapeOf[uint64](),
	model.KindFloat32: shapeOf[float32](), model.KindFloat64: shapeOf[float64](), model.KindNumeric: shapeOf[gate.Decimal](), model.KindBool: shapeOf[bool](),
	model.KindText: shapeOf[string](), model.KindBytes: shapeOf[[]byte](), model.KindUUID: shapeOf[string](), model.KindDate: shapeOf[gate.Date](),
	model.KindTimestamp: shapeOf[time.Time](), model.KindTimestampTZ: shapeOf[time.Time](), model.KindTimeOfDay: shapeOf[gate.TimeOfDay](),
	model.KindInterval: shapeOf[gate.Interval](), model.KindJSON: shapeOf[gate.JSON](), model.KindEnum: {oneLabel, several[label]},
	model.KindList: shapeOf[string](), model.KindRange: shapeOf[string](), model.KindRecord: shapeOf[string](), model.KindOther: shapeOf[string](),
}

// newField returns a function that makes a place for a value of a field, of the
// type that it has in generated code.
func newField(f *model.Field) func() any {
	if f.Element != nil {
		return shapes[f.Element.Kind].several(f.Kind == model.KindRange, f.Nullable)
	}
	return shapes[f.Kind].one(f.Nullable)
}

func place[T any](nullable bool) func() any {
	if nullable {
		return func() any { return new(gate.Maybe[T]) }
	}
	return func() any { return new(T) }
}

func oneLabel(nullable bool) func() any {
	if nullable {
		return func() any { return gate.MaybeLabel(new(gate.Maybe[label])) }
	}
	return func() any { return gate.Label(new(label)) }
}

func several[T any](isRange, nullable bool) func() any {
	if isRange {
		return place[gate.Range[T]](nullable)
	}
	return place[gate.List[T]](nullable)
}
