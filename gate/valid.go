package gate

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// A Fault is one thing that the schema has against a row.
type Fault struct {
	Column string // as the database names it
	Text   string // what is wrong, in words for whoever made the row
}

// Faults are all that the schema has against a row.
type Faults []Fault

// Error lists the faults.
func (f Faults) Error() string {
	texts := make([]string, len(f))
	for i, fault := range f {
		texts[i] = fault.Column + ": " + fault.Text
	}
	return strings.Join(texts, "; ")
}

// validate checks row against the rules that the schema states about single
// columns: null, length, digits, labels and limits. It returns Faults, all at
// once, or nil.
func (t *Info) validate(row any) error {
	var faults Faults
	for i, p := range t.fieldsOf(row) {
		c := &t.Columns[i]
		if c.Is(Generated|Auto) || c.leftToDatabase(fieldOf(p)) || t.stamped(i) {
			continue
		}
		if text := c.Fault(p); text != "" {
			faults = append(faults, Fault{c.Name, text})
		}
	}
	if faults == nil {
		return nil
	}
	return faults
}

// Fault says what the schema has against the value that p points to, in words
// for whoever sent it; it is empty for a good value.
func (c *Column) Fault(p any) string {
	f := fieldOf(p)
	if IsNull(p) {
		if c.Is(Nullable) || f.zero() && !c.Required() {
			return ""
		}
		return "must not be null"
	}
	switch c.Type {
	case TypeText:
		if c.Max == 0 {
			return ""
		}
		if text, ok := p.(*string); ok {
			return c.lengthFault(utf8.RuneCountInString(*text), "characters")
		}
		return c.lengthFault(utf8.RuneCountInString(f.arg().(string)), "characters")
	case TypeBytes:
		return c.lengthFault(len(f.arg().([]byte)), "bytes")
	case TypeEnum:
		return c.LabelFault(f.arg().(string))
	case TypeOther:
		if text, isText := f.arg().(string); isText && len(c.Labels) > 0 {
			return c.setFault(text)
		}
	case TypeRecord:
		return partFault(p)
	case TypeNumeric:
		if fault := c.digitsFault(string(f.appendText(nil))); fault != "" {
			return fault
		}
	}
	if !c.limited() {
		return ""
	}
	return c.rangeFault(string(f.appendText(nil)))
}

// limited reports whether the schema bounds the values of the column.
func (c *Column) limited() bool {
	return c.Least != "" || c.Most != "" || c.Above != "" || c.Below != ""
}

// LabelFault says what is wrong with a label of an enum.
func (c *Column) LabelFault(label string) string {
	if len(c.Labels) == 0 || slices.Contains(c.Labels, label) {
		return ""
	}
	return fmt.Sprintf("must be one of %s; got %q", strings.Join(c.Labels, ", "), label)
}

// setFault says what is wrong with a value of labels between commas.
func (c *Column) setFault(value string) string {
	if value == "" || value == SetOf(c.Labels, strings.Split(value, ",")...) {
		return ""
	}
	return fmt.Sprintf("must be labels of %s, between commas and in this order; got %q", strings.Join(c.Labels, ", "), value)
}

func (c *Column) lengthFault(n int, unit string) string {
	if c.Max > 0 && n > c.Max {
		return fmt.Sprintf("at most %d %s; got %d", c.Max, unit, n)
	}
	return ""
}

func (c *Column) digitsFault(text string) string {
	d, err := ParseDecimal(text)
	if err != nil || c.Precision == 0 || !d.IsNumber() {
		return ""
	}
	whole, fraction := d.size()
	if whole > c.Precision-c.Scale || fraction > c.Scale {
		return fmt.Sprintf("at most %d digits, %d after the point; got %s", c.Precision, c.Scale, text)
	}
	return ""
}

// rangeFault compares numbers as numbers; the limits come from checks in the
// schema, which are on numbers only.
func (c *Column) rangeFault(text string) string {
	if !c.limited() {
		return ""
	}
	value, err := ParseDecimal(text)
	if err != nil {
		return ""
	}
	for _, rule := range []struct {
		limit, words string
		broken       func(cmp int) bool
	}{
		{c.Least, "at least", func(cmp int) bool { return cmp < 0 }},
		{c.Most, "at most", func(cmp int) bool { return cmp > 0 }},
		{c.Above, "greater than", func(cmp int) bool { return cmp <= 0 }},
		{c.Below, "less than", func(cmp int) bool { return cmp >= 0 }},
	} {
		if limit, err := ParseDecimal(rule.limit); err == nil && rule.broken(value.Cmp(limit)) {
			return fmt.Sprintf("must be %s %s; got %s", rule.words, rule.limit, text)
		}
	}
	return ""
}
