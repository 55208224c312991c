package model

import (
	"bytes"
	"encoding/json"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"widegate/internal/catalog"
)

// exactDigits is how many digits of a number every reader of JSON keeps.
const exactDigits = 15

// Quoted reports whether JSON carries the numbers of a field as strings.
func (f *Field) Quoted() bool {
	p := f.Column.Type.Precision
	return f.Kind == KindNumeric && (p == 0 || p > exactDigits)
}

// Given are the columns of the related rows that refer to the row.
func (r *Relation) Given() []string {
	var given []string
	for _, p := range r.Pairs {
		given = append(given, p[1])
	}
	return given
}

// Example is a property of a row that shows how one is sent.
type Example struct {
	Name  string
	Value json.RawMessage
}

// Example is a new row that the schema takes: what it must have, apart from the
// columns given.
func (e *Entity) Example(given []string) []Example {
	var row []Example
	year := 2026 // of later columns a later one: what ends comes behind what begins
	for _, f := range e.Fields {
		needed := !f.Hidden && !f.Computed && !f.Auto && !f.Nullable && !f.ByDefault && f.Role == NoRole
		if !needed || slices.Contains(given, f.Column.Name) {
			continue
		}
		value := exampleValue(e, f)
		if text, ok := value.(string); ok && strings.HasPrefix(text, "2026-") {
			value = strconv.Itoa(year) + text[4:]
			year++
		}
		row = append(row, Example{f.Column.Name, inJSON(value)})
	}
	return row
}

// ExampleKey is a key as it stands in a path.
func (e *Entity) ExampleKey() string {
	parts := make([]string, len(e.Key))
	for i, f := range e.Key {
		text := string(inJSON(exampleValue(e, f)))
		var s string
		if json.Unmarshal([]byte(text), &s) == nil {
			text = s
		}
		parts[i] = url.PathEscape(text)
	}
	return strings.Join(parts, ",")
}

// inJSON writes a value that can always be written.
func inJSON(value any) json.RawMessage {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if enc.Encode(value) != nil {
		return json.RawMessage("null")
	}
	return bytes.TrimSpace(b.Bytes())
}

// exampleValue is a value that a column takes.
func exampleValue(e *Entity, f *Field) any {
	switch f.Kind {
	case KindInt16, KindInt32, KindInt64, KindUint64, KindNumeric, KindFloat32, KindFloat64:
		if f.Quoted() {
			return exampleNumber(f)
		}
		return json.Number(exampleNumber(f))
	case KindBool:
		return true
	case KindDate:
		return "2026-05-01"
	case KindTimestamp:
		return "2026-05-01T09:30:00"
	case KindTimestampTZ:
		return "2026-05-01T09:30:00Z"
	case KindTimeOfDay:
		return "09:30:00"
	case KindInterval:
		return "PT30M"
	case KindUUID:
		return "6f1c2a34-0000-4000-8000-00000000abcd"
	case KindJSON, KindRecord:
		return map[string]any{}
	case KindBytes:
		return "aG9uZXk="
	case KindList:
		return []any{}
	case KindRange:
		return map[string]any{"from": nil, "to": nil, "bounds": "empty"}
	case KindEnum:
		return f.Enum.Labels[0].Text
	}
	text := []rune("A new " + e.Words)
	if f.Column.Type.Size > 0 && len(text) > f.Column.Type.Size {
		text = text[:f.Column.Type.Size]
	}
	return string(text)
}

// exampleNumber is the smallest number that the limits allow, or 1.
func exampleNumber(f *Field) string {
	switch {
	case f.Limits.Least != "":
		return f.Limits.Least
	case f.Limits.Above != "":
		if n, err := strconv.ParseFloat(f.Limits.Above, 64); err == nil {
			return strconv.FormatFloat(n+1, 'f', -1, 64)
		}
	case f.Column.Type.Kind == catalog.Decimal && f.Column.Type.Precision > 0 && f.Column.Type.Precision == f.Column.Type.Scale:
		return "0"
	}
	return "1"
}
