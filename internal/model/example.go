package model

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

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

// Sent reports whether new rows must bring a value of a column that is hidden.
func (f *Field) Sent() bool {
	return f.Hidden && !f.Computed && !f.Auto && !f.Nullable && !f.ByDefault && f.Role == NoRole
}

// Example is a property of a row that shows how one is sent.
type Example struct {
	Name  string
	Value json.RawMessage
}

// Example is a new row that the schema takes: what it must have, apart from the
// columns given.
func (e *Entity) Example(given []string) []Example { return e.example(given, nil, nil, 1) }

// ExampleNumber is the n-th of several examples, counted from 1. They differ in what
// must be unique, so that one can be stored beside another. A row that must refer
// to one of its own has that embedded.
func (e *Entity) ExampleNumber(given []string, n int) []Example {
	fresh, embedded := e.freshColumns(given)
	return e.example(given, fresh, embedded, n)
}

func (e *Entity) example(given []string, fresh map[string]bool, embedded map[string]*Relation, n int) []Example {
	var row []Example
	year := 2026 // of later columns a later one: what ends comes behind what begins
	for _, f := range e.Fields {
		needed := (!f.Hidden || f.Sent()) && !f.Computed && !f.Auto && !f.Nullable && !f.ByDefault && f.Role == NoRole
		if !needed || slices.Contains(given, f.Column.Name) {
			continue
		}
		if r := embedded[f.Column.Name]; r != nil {
			inner := map[string]json.RawMessage{}
			for _, v := range r.To.ExampleNumber(nil, n+embeddedApart) {
				inner[v.Name] = v.Value
			}
			row = append(row, Example{r.JSON, inJSON(inner)})
			continue
		}
		value := exampleValue(e, f)
		if fresh[f.Column.Name] {
			value = numbered(f, value, n)
		}
		if text, ok := value.(string); ok && strings.HasPrefix(text, "2026-") {
			value = strconv.Itoa(year) + text[4:]
			year++
		}
		row = append(row, Example{f.Column.Name, inJSON(value)})
	}
	return row
}

// embeddedApart keeps the numbers of embedded examples from those of others.
const embeddedApart = 20

// freshColumns are columns of the unique keys that must have new values, and those
// in whose place a new row is embedded.
func (e *Entity) freshColumns(given []string) (fresh map[string]bool, embedded map[string]*Relation) {
	fresh, embedded = map[string]bool{}, map[string]*Relation{}
	keys := e.Uniques
	if e.Table.PrimaryKey != nil {
		keys = append(slices.Clone(keys), *e.Table.PrimaryKey)
	}
	for _, key := range keys {
		var references []*Relation
		found := false
		for _, name := range key.Columns {
			f := e.Field(name)
			if f == nil || slices.Contains(given, name) || found {
				continue
			}
			if r := e.referenceBy(name); r != nil {
				references = append(references, r)
				continue
			}
			found = f.Auto || f.ByDefault || f.Nullable || numberable(f) && !e.refers(name)
			fresh[name] = found
		}
		if last := len(references) - 1; !found && last >= 0 && references[last].To != e && references[last].To.Verbs != ReadOnly {
			embedded[references[last].Pairs[0][0]] = references[last]
		}
	}
	return fresh, embedded
}

// refers reports whether a column is part of a reference, be there a relation for
// it or not.
func (e *Entity) refers(column string) bool {
	return slices.ContainsFunc(e.Table.References, func(k catalog.Reference) bool { return slices.Contains(k.Columns, column) })
}

// referenceBy is the relation to one row that a column alone is the reference of.
func (e *Entity) referenceBy(column string) *Relation {
	for _, r := range e.Relations {
		if r.Kind == ToOne && r.Owned && len(r.Pairs) == 1 && r.Pairs[0][0] == column {
			return r
		}
	}
	return nil
}

// numberable reports whether the values of a column can be numbered.
func numberable(f *Field) bool {
	switch f.Kind {
	case KindText, KindDate, KindTimestamp, KindTimestampTZ, KindUUID, KindInt32, KindInt64:
		return f.Limits.Most == "" && f.Limits.Below == ""
	}
	return false
}

// firstNumber is where keys of examples begin, above those of most tables.
const firstNumber = 100_000

// numbered is the n-th value like one.
func numbered(f *Field, value any, n int) any {
	text, _ := value.(string)
	switch f.Kind {
	case KindInt32, KindInt64:
		return json.Number(strconv.Itoa(firstNumber + n))
	case KindDate:
		return time.Date(2026, 5, n, 0, 0, 0, 0, time.UTC).Format(time.DateOnly)
	case KindTimestamp, KindTimestampTZ:
		return text[:len("2026-05-01T09:")] + fmt.Sprintf("%02d", (29+n)%60) + text[len("2026-05-01T09:30"):]
	case KindUUID:
		return text[:len(text)-4] + fmt.Sprintf("%04x", n)
	}
	if n == 1 {
		return value
	}
	mark, most := " "+strconv.Itoa(n), f.Column.Type.Size
	letters := []rune(text)
	if most > 0 && len(letters)+len(mark) > most {
		letters = letters[:max(most-len(mark), 0)]
	}
	return string(letters) + mark
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
