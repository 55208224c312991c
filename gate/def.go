package gate

import (
	"bytes"
	"context"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"unicode"
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
	TypeRecord // a composite type of the database
)

// array reports whether a list of such values can be passed as numbers.
func (t Type) array() bool { return t == TypeInt16 || t == TypeInt32 || t == TypeInt64 }

// Flag says one thing about a column.
type Flag uint16

// The flags of columns.
const (
	Key          Flag = 1 << iota // part of the primary key
	Auto                          // the database numbers new rows
	HasDefault                    // the database has a value for new rows
	Generated                     // computed by the database, never written
	Nullable                      // NULL is allowed
	Hidden                        // not shown outside the program
	CreatedAt                     // when the row was inserted
	UpdatedAt                     // when the row was last stored
	DeletedAt                     // when the row was deleted; it stays
	Opaque                        // the database cannot tell whether two values are the same
	Version                       // counts the updates, and so tells that another came between
	WholeSeconds                  // of a time: no fraction is kept
)

// Column describes one column of a table.
type Column struct {
	Name      string
	Type      Type
	Flags     Flag
	Max       int      // longest text in characters or bytes; 0 is no limit
	Precision int      // digits of a numeric column; 0 is no limit
	Scale     int      // of them, after the point; of a time, of its seconds, where there are fewer than 6
	Labels    []string // of an enum
	Least     string   // smallest value allowed, as text
	Most      string   // largest value allowed, as text
	Above     string   // what the value must be greater than, as text
	Below     string   // what the value must be less than, as text
	Default   string   // a constant default, as text
	Cast      string   // the engine's name of a type that is carried as text
}

// exactDigits is how many digits of a number every reader of JSON keeps.
const exactDigits = 15

// Quoted reports whether JSON carries the column's numbers as strings, so that
// every reader keeps all their digits.
func (c *Column) Quoted() bool {
	return c.Type == TypeNumeric && (c.Precision == 0 || c.Precision > exactDigits)
}

// AppendJSON appends the value that p points to as JSON, in the form that a
// column of this type has there.
func (c *Column) AppendJSON(b []byte, p any) []byte {
	f := fieldOf(p)
	switch {
	case c.Quoted() && f.arg() != nil:
		return append(f.appendText(append(b, '"')), '"')
	case c.Type == TypeTimestamp:
		if b = f.appendJSON(b); bytes.HasSuffix(b, []byte(`Z"`)) { // it has no zone
			b = append(b[:len(b)-2], '"')
		}
		return b
	}
	return f.appendJSON(b)
}

// CamelCase is a name of words that underscores part, such as keeper_id, in the
// form keeperId.
func CamelCase(name string) string {
	words := strings.Split(name, "_")
	if words[0] == "" {
		return name // what an underscore begins is told apart by it
	}
	for i, w := range words[1:] {
		first, n := utf8.DecodeRuneInString(w)
		if n > 0 {
			words[i+1] = string(unicode.ToUpper(first)) + w[n:]
		}
	}
	return strings.Join(words, "")
}

// Unique describes a unique key: its name in the database and its columns.
type Unique struct {
	Name    string
	Columns []string
}

// Spec is what generated code says of one table or view. E is, here and in the
// whole package, the pointer type of an entity, such as *Hive: pointers share
// one compiled copy of the generic code, so that a program with hundreds of
// tables builds fast and stays small.
type Spec[E any] struct {
	Schema  string // empty for the connection's own
	Name    string
	Uniques []Unique
	New     func() E // a new, empty row
	Fields  []Field[E]
}

// Field describes a column of rows of E, as Column does, and says where its
// value is.
type Field[E any] struct {
	Name                  string
	Type                  Type
	Flags                 Flag
	Max, Precision, Scale int
	Labels                []string
	Least, Most           string
	Above, Below          string
	Default               string
	Cast                  string
	// In returns a pointer to the value in a row.
	In func(row E) any
}

// FieldOf describes a column whose value is where in says.
func FieldOf[E any](c Column, in func(row E) any) Field[E] {
	return Field[E]{
		Name: c.Name, Type: c.Type, Flags: c.Flags, Max: c.Max, Precision: c.Precision, Scale: c.Scale, Labels: c.Labels,
		Least: c.Least, Most: c.Most, Above: c.Above, Below: c.Below, Default: c.Default, Cast: c.Cast, In: in,
	}
}

func (f *Field[E]) column() Column {
	return Column{
		Name: f.Name, Type: f.Type, Flags: f.Flags, Max: f.Max, Precision: f.Precision, Scale: f.Scale, Labels: f.Labels,
		Least: f.Least, Most: f.Most, Above: f.Above, Below: f.Below, Default: f.Default, Cast: f.Cast,
	}
}

// Def is a described table, ready for use.
type Def[E any] struct{ info *Info }

// Info is what the runtime knows of a table apart from its Go type.
type Info struct {
	Schema  string
	Name    string
	Columns []Column
	Uniques []Unique
	Keys    []int // columns of the primary key, in its order of columns

	texts  sync.Map     // of textKey, strings
	kept   atomic.Int32 // how many
	index  map[string]int
	create func() any
	fields func(to []any, row any) []any
	isNil  func(row any) bool
	edges  []*edge // its relations
	hooks  map[Event][]func(ctx context.Context, tx DB, row any) error
	stamps stamps

	defaults []int // columns with a default that is known here

	fault error // why the table cannot be used
}

// stamps are the columns that the runtime itself takes care of; -1 is none.
type stamps struct{ created, updated, deleted, version int }

var noStamps = stamps{-1, -1, -1, -1}

// Describe prepares the description of a table for use.
//
//go:noinline
func Describe[E any](s Spec[E]) *Def[E] {
	info := &Info{
		Schema: s.Schema, Name: s.Name, Uniques: s.Uniques,
		index:  make(map[string]int, len(s.Fields)),
		create: func() any { return s.New() },
		fields: func(to []any, row any) []any {
			e := row.(E)
			for i := range s.Fields {
				to = append(to, s.Fields[i].In(e))
			}
			return to
		},
		isNil: func(row any) bool {
			var none E
			return row == any(none)
		},
		stamps: noStamps,
	}
	for i := range s.Fields {
		info.Columns = append(info.Columns, s.Fields[i].column())
		info.add(i)
		if s.Fields[i].In == nil {
			info.fault = fmt.Errorf("table %s: the column %s is described without In", s.Name, s.Fields[i].Name)
		}
	}
	if s.New == nil {
		info.fault = fmt.Errorf("table %s is described without New", s.Name)
	}
	return &Def[E]{info}
}

func (t *Info) add(i int) {
	c := &t.Columns[i]
	t.index[c.Name] = i
	for _, role := range []struct {
		flag Flag
		set  *int
	}{{CreatedAt, &t.stamps.created}, {UpdatedAt, &t.stamps.updated}, {DeletedAt, &t.stamps.deleted}, {Version, &t.stamps.version}} {
		if c.Is(role.flag) {
			*role.set = i
		}
	}
	if c.Is(Key) {
		t.Keys = append(t.Keys, i)
	}
	if c.hasPlainDefault() && !c.Is(Generated|Auto) {
		t.defaults = append(t.defaults, i)
	}
}

// New returns a new, empty row.
func (t *Info) New() any { return t.create() }

// Fields appends pointers to the values of row, one a column, to a slice.
func (t *Info) Fields(to []any, row any) []any { return t.fields(to, row) }

// fieldsOf is Fields into a new slice.
func (t *Info) fieldsOf(row any) []any { return t.fields(make([]any, 0, len(t.Columns)), row) }

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
		list[i] = t.indexOf(name)
	}
	return list
}

func (t *Info) indexOf(name string) int {
	if i, ok := t.index[name]; ok {
		return i
	}
	return -1
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
func (c *Column) Is(f Flag) bool { return c.Flags&f != 0 }

// keepsSent reports whether a value is stored as it was sent, where nothing but
// the type of the column changes it.
func (c *Column) keepsSent() bool {
	switch c.Type {
	case TypeNumeric, TypeOther, TypeFloat32, TypeFloat64, TypeJSON: // of JSON, numbers
		return false
	}
	return !c.Is(Generated)
}

// Sortable reports whether rows can be ordered by the column on every engine.
func (c *Column) Sortable() bool { return c.Comparable() && c.Type != TypeOther }

// Comparable reports whether rows can be chosen by a value of the column that
// stands in a URL.
func (c *Column) Comparable() bool {
	switch c.Type {
	case TypeJSON, TypeBytes, TypeList, TypeRange, TypeRecord:
		return false
	}
	return !c.Is(Opaque)
}

// leftToDatabase reports whether an insert leaves the column out, so that the
// database fills it: always where it computes it, and where the field is empty
// and the database has a value for it.
func (c *Column) leftToDatabase(f field) bool {
	return c.Is(Generated) || c.Is(Auto|HasDefault) && f.zero()
}

// emptyIsNone reports whether an empty field of the column is no value of its
// type, so that it says nothing.
func (c *Column) emptyIsNone() bool {
	if c.Is(Auto | Nullable) {
		return true
	}
	switch c.Type {
	case TypeEnum, TypeDate, TypeTimestamp, TypeTimestampTZ, TypeUUID, TypeJSON, TypeOther, TypeList, TypeRange, TypeRecord:
		return true
	}
	return false
}

// Required reports whether a new row must bring a value for the column.
func (c *Column) Required() bool {
	return !c.Is(Auto | HasDefault | Generated | Nullable | CreatedAt | UpdatedAt | Version)
}

// SetDefaults gives row those constant defaults of its columns that are the same
// here as in the database. All others are left to it.
func (t *Info) SetDefaults(row any) {
	if len(t.defaults) == 0 {
		return
	}
	fields := t.fieldsOf(row)
	for _, i := range t.defaults {
		_ = ParseText(fields[i], t.Columns[i].Default) // which was tried
	}
}

// hasPlainDefault reports whether the default of a column is a number, a truth
// value or a text that is read here as it is written in the schema.
func (c *Column) hasPlainDefault() bool {
	switch c.Type {
	case TypeInt16, TypeInt32, TypeInt64:
		if c.Default == "" {
			return false
		}
		_, err := strconv.ParseInt(c.Default, 10, 64)
		return err == nil
	case TypeBool:
		return c.Default == "true" || c.Default == "false"
	case TypeNumeric:
		return plainDecimal([]byte(c.Default)) && c.digitsFault(c.Default) == ""
	case TypeText, TypeEnum:
		return c.Default != "" && !strings.ContainsAny(c.Default, "\\\r\n\t\x00") && c.Cast == "" && c.lengthFault(utf8.RuneCountInString(c.Default), "") == ""
	}
	return false
}
