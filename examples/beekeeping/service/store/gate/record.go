package gate

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Record is what the struct of a composite type of the database offers the
// runtime; generated code declares it.
type Record interface {
	// Parts describes the parts of the type in its order, and points at their
	// values.
	Parts() ([]Column, []any)
}

// recordField reads and writes a record: as an object in JSON, and in
// PostgreSQL's text form, (1,"two",), towards the database.
type recordField struct{ Record }

// holder is a Maybe, whatever it holds.
type holder interface {
	hold() any // marks the value as there, and points at it
	peek() any // points at the value
}

func (m *Maybe[T]) hold() any {
	m.state = maybeValue
	return &m.value
}

func (m *Maybe[T]) peek() any { return &m.value }

func (r recordField) set(src any) error {
	s, ok := textOf(src)
	if !ok {
		return mismatch(src, "a composite value")
	}
	texts, err := splitRecord(s)
	if err != nil {
		return err
	}
	columns, parts := r.Parts()
	if len(texts) != len(parts) {
		return fmt.Errorf("%d parts of a composite type that had %d when the code was written", len(texts), len(parts))
	}
	for i, p := range parts {
		if err := setPart(p, texts[i]); err != nil {
			return fmt.Errorf("%s: %w", columns[i].Name, err)
		}
	}
	return nil
}

func setPart(p any, text arrayElement) error {
	if text.null {
		return SetNull(p)
	}
	if h, ok := p.(holder); ok {
		p = h.hold()
	}
	return setElement(p, text.text)
}

func (r recordField) arg() any {
	_, parts := r.Parts()
	b := []byte{'('}
	for i, p := range parts {
		if i > 0 {
			b = append(b, ',')
		}
		if fieldOf(p).arg() == nil {
			continue
		}
		if h, ok := p.(holder); ok {
			p = h.peek()
		}
		b = append(b, '"')
		for _, c := range elementText(p) {
			if c == '"' || c == '\\' {
				b = append(b, c)
			}
			b = append(b, c)
		}
		b = append(b, '"')
	}
	return string(append(b, ')'))
}

func (r recordField) zero() bool {
	_, parts := r.Parts()
	return !slices.ContainsFunc(parts, func(p any) bool { return !fieldOf(p).zero() })
}

func (r recordField) appendJSON(b []byte) []byte {
	columns, parts := r.Parts()
	for i, p := range parts {
		b = append(b, "{,"[min(i, 1)])
		b = append(AppendJSONString(b, columns[i].Name), ':')
		b = columns[i].AppendJSON(b, p)
	}
	if len(parts) == 0 {
		b = append(b, '{')
	}
	return append(b, '}')
}

func (r recordField) appendText(b []byte) []byte { return r.appendJSON(b) }

func (r recordField) parseText(s string) error { return r.parseJSON([]byte(s)) }

func (r recordField) parseJSON(raw []byte) error {
	columns, parts := r.Parts()
	var members map[string]json.RawMessage
	if err := json.Unmarshal(raw, &members); err != nil || bytes.Equal(raw, []byte("null")) {
		return wrongJSON(raw, "an object of "+partNames(columns))
	}
	for i, p := range parts {
		text, given := members[columns[i].Name]
		delete(members, columns[i].Name)
		if !given {
			text = []byte("null")
		}
		if err := fieldOf(p).parseJSON(text); err != nil {
			return fmt.Errorf("%s %w", columns[i].Name, err)
		}
	}
	for name := range members {
		return fmt.Errorf("has no part %q; its parts are %s", name, partNames(columns))
	}
	return nil
}

func partNames(columns []Column) string {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.Name
	}
	return strings.Join(names, ", ")
}

// partFault says what the schema has against the parts of the record that p
// points to.
func partFault(p any) string {
	if h, ok := p.(holder); ok {
		p = h.peek()
	}
	r, ok := p.(Record)
	if !ok {
		return ""
	}
	columns, parts := r.Parts()
	var faults []string
	for i, part := range parts {
		if text := columns[i].Fault(part); text != "" {
			faults = append(faults, columns[i].Name+": "+text)
		}
	}
	return strings.Join(faults, "; ")
}

var errRecord = errors.New("a composite value in a form that is not known")

// splitRecord reads (1,"two",); see the section on input and output of
// composite types in the PostgreSQL manual. What is empty and not quoted is
// null.
func splitRecord(s string) ([]arrayElement, error) {
	if len(s) < 2 || s[0] != '(' || s[len(s)-1] != ')' {
		return nil, errRecord
	}
	s = s[1 : len(s)-1]
	var list []arrayElement
	var text strings.Builder
	quoted, inside := false, false
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == '\\' && i+1 < len(s):
			i++
			text.WriteByte(s[i])
			quoted = true
		case c == '"' && inside && i+1 < len(s) && s[i+1] == '"':
			i++
			text.WriteByte('"')
		case c == '"':
			inside, quoted = !inside, true
		case c == ',' && !inside:
			list = append(list, arrayElement{text.String(), !quoted && text.Len() == 0})
			text.Reset()
			quoted = false
		default:
			text.WriteByte(c)
		}
	}
	if inside {
		return nil, errRecord
	}
	return append(list, arrayElement{text.String(), !quoted && text.Len() == 0}), nil
}
