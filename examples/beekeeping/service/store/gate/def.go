package gate

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Type is the kind of value a column holds, the same on every engine.
type Type uint8

// The types of columns. TypeOther is a type that is carried as the engine's
// own text form; Column.Cast then names it.
const (
	TypeOther Type = iota
	TypeInt16
	TypeInt32
	TypeInt64
	TypeUint64
	TypeFloat32
	TypeFloat64
	TypeNumeric
	TypeBool
	TypeText
	TypeBytes
	TypeDate
	TypeTimestamp   // without zone
	TypeTimestampTZ // a point in time
	TypeUUID
	TypeJSON
	TypeEnum
	TypeTimeOfDay
	TypeInterval
	TypeList
	TypeRange
)

// array reports whether a list of such values can be passed as one argument.
func (t Type) array() bool {
	switch t {
	case TypeInt16, TypeInt32, TypeInt64, TypeText, TypeUUID:
		return true
	}
	return false
}

// Flag says one thing about a column.
type Flag uint8

// The flags of columns.
const (
	Key        Flag = 1 << iota // part of the primary key
	Auto                        // the database numbers new rows
	HasDefault                  // the database has a value for new rows
	Generated                   // computed by the database, never written
	Nullable                    // NULL is allowed
	Hidden                      // not shown outside the program
)

// Column describes one column of a table. E is, here and in the whole package,
// the pointer type of an entity, such as *Hive: pointers share one compiled
// copy of the generic code, so that a program with hundreds of tables builds
// fast and stays small.
type Column[E any] struct {
	Name      string
	Type      Type
	Flags     Flag
	Max       int         // longest text in characters or bytes; 0 is no limit
	Precision int         // digits of a numeric column; 0 is no limit
	Scale     int         // of them, after the point
	Labels    []string    // of an enum
	Least     string      // smallest value allowed, as text
	Most      string      // largest value allowed, as text
	Above     string      // what the value must be greater than, as text
	Below     string      // what the value must be less than, as text
	Default   string      // a constant default, as text
	Cast      string      // the engine's name of a type that is carried as text
	Field     func(E) any // a pointer to the value in a row
}

// Unique describes a unique key: its name in the database and its columns.
type Unique struct {
	Name    string
	Columns []string
}

// Spec is what generated code says of one table or view.
type Spec[E any] struct {
	Schema  string // empty for the connection's own
	Name    string
	Columns []Column[E]
	Uniques []Unique
	New     func() E // a new, empty row
}

// Def is a described table, ready for use. Its exported part is what is known
// without the type of the rows.
type Def[E any] struct {
	Info
	fields []func(E) any
	create func() E
}

// Info is what the runtime knows of a table apart from its Go type.
type Info struct {
	Schema  string
	Name    string
	Columns []ColumnInfo
	Uniques []Unique
	Keys    []int // columns of the primary key, in its order of columns
	index   map[string]int
}

// ColumnInfo is a Column without the type of its entity.
type ColumnInfo struct {
	Name             string
	Type             Type
	Flags            Flag
	Max              int
	Precision, Scale int
	Labels           []string
	Least, Most      string
	Above, Below     string
	Default          string
	Cast             string
}

// Describe prepares the description of a table for use.
func Describe[E any](s Spec[E]) *Def[E] {
	d := &Def[E]{Info: Info{
		Schema:  s.Schema,
		Name:    s.Name,
		Columns: make([]ColumnInfo, len(s.Columns)),
		Uniques: s.Uniques,
		index:   make(map[string]int, len(s.Columns)),
	}, create: s.New}
	for i, c := range s.Columns {
		d.Columns[i] = ColumnInfo{
			Name: c.Name, Type: c.Type, Flags: c.Flags, Max: c.Max, Precision: c.Precision, Scale: c.Scale,
			Labels: c.Labels, Least: c.Least, Most: c.Most, Above: c.Above, Below: c.Below, Default: c.Default, Cast: c.Cast,
		}
		d.index[c.Name] = i
		d.fields = append(d.fields, c.Field)
		if c.Flags&Key != 0 {
			d.Keys = append(d.Keys, i)
		}
	}
	return d
}

// New returns a new, empty row.
func (d *Def[E]) New() E { return d.create() }

// Field returns a pointer to the value of column i in row.
func (d *Def[E]) Field(row E, i int) any { return d.fields[i](row) }

// appendFields appends pointers to all values of row, in order of columns.
func (d *Def[E]) appendFields(to []any, row E) []any {
	for _, f := range d.fields {
		to = append(to, f(row))
	}
	return to
}

// Find returns the index of a column by its name in the database.
func (t *Info) Find(name string) (int, bool) {
	i, ok := t.index[name]
	return i, ok
}

// indexes returns the columns of the given names; one that is not there, which
// only an edit of the generated code brings about, is -1 and fails the
// statement that uses it.
func (t *Info) indexes(names []string) []int {
	list := make([]int, len(names))
	for i, name := range names {
		at, ok := t.Find(name)
		if !ok {
			at = -1
		}
		list[i] = at
	}
	return list
}

// names returns the names of columns.
func (t *Info) names(columns []int) []string {
	list := make([]string, len(columns))
	for i, c := range columns {
		if c >= 0 {
			list[i] = t.Columns[c].Name
		}
	}
	return list
}

// Is reports whether the column has the flag.
func (c *ColumnInfo) Is(f Flag) bool { return c.Flags&f != 0 }

// Sortable reports whether rows can be ordered by the column on every engine.
func (c *ColumnInfo) Sortable() bool { return c.Comparable() && c.Type != TypeOther }

// Comparable reports whether rows can be chosen by a value of the column that
// stands in a URL.
func (c *ColumnInfo) Comparable() bool {
	switch c.Type {
	case TypeJSON, TypeBytes, TypeList, TypeRange:
		return false
	}
	return true
}

// leftToDatabase reports whether an insert leaves the column out, so that the
// database fills it: always where it computes it, and where the field is empty
// and the database has something better. A constant default is not better than
// a zero that the caller may have meant, unless zero is no value of the type.
func (c *ColumnInfo) leftToDatabase(f field) bool {
	switch {
	case c.Is(Generated):
		return true
	case !c.Is(Auto | HasDefault), !f.zero():
		return false
	case c.Is(Auto), c.Default == "", c.Is(Nullable):
		return true
	}
	switch c.Type {
	case TypeEnum, TypeDate, TypeTimestamp, TypeTimestampTZ, TypeUUID, TypeJSON, TypeOther, TypeTimeOfDay, TypeInterval, TypeList, TypeRange:
		return true
	}
	return false
}

// Required reports whether a new row must bring a value for the column.
func (c *ColumnInfo) Required() bool { return !c.Is(Auto | HasDefault | Generated | Nullable) }

// Fault says what the schema has against the value that p points to, in words
// for whoever sent it; it is empty for a good value.
func (c *ColumnInfo) Fault(p any) string {
	f := fieldOf(p)
	value := f.arg()
	if value == nil {
		if c.Is(Nullable) || f.zero() && !c.Required() {
			return ""
		}
		return "must not be null"
	}
	switch c.Type {
	case TypeText:
		return c.lengthFault(utf8.RuneCountInString(value.(string)), "characters")
	case TypeBytes:
		return c.lengthFault(len(value.([]byte)), "bytes")
	case TypeEnum:
		if label := value.(string); len(c.Labels) > 0 && !slices.Contains(c.Labels, label) {
			return fmt.Sprintf("must be one of %s; got %q", strings.Join(c.Labels, ", "), label)
		}
		return ""
	case TypeNumeric:
		if fault := c.digitsFault(string(f.appendText(nil))); fault != "" {
			return fault
		}
	}
	return c.rangeFault(string(f.appendText(nil)))
}

func (c *ColumnInfo) lengthFault(n int, unit string) string {
	if c.Max > 0 && n > c.Max {
		return fmt.Sprintf("at most %d %s; got %d", c.Max, unit, n)
	}
	return ""
}

func (c *ColumnInfo) digitsFault(text string) string {
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
func (c *ColumnInfo) rangeFault(text string) string {
	if c.Least == "" && c.Most == "" && c.Above == "" && c.Below == "" {
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

// Column returns column i as one that Update can be told to store.
func (d *Def[E]) Column(i int) ColumnOf[E] { return anyColumn[E]{columnRef{&d.Info, i}} }

type anyColumn[E any] struct{ ref columnRef }

func (c anyColumn[E]) of(E) columnRef { return c.ref }

// SetDefaults gives row the constant defaults of its columns.
func (d *Def[E]) SetDefaults(row E) error {
	for i := range d.Columns {
		c := &d.Columns[i]
		if c.Default == "" || c.Is(Generated|Auto) {
			continue
		}
		if err := fieldOf(d.Field(row, i)).set(c.Default); err != nil {
			return fmt.Errorf("default of %s.%s: %w", d.Name, c.Name, err)
		}
	}
	return nil
}
