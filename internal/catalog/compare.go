package catalog

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// Change is one thing that is different in a schema.
type Change struct {
	Kind  ChangeKind `json:"kind"`
	Thing string     `json:"thing"`          // table, column, key, reference and so on
	In    string     `json:"in,omitempty"`   // full name of the table or type that it belongs to, as it is called now
	Name  string     `json:"name,omitempty"` // its name now, or its last one
	Was   string     `json:"was,omitempty"`
	Now   string     `json:"now,omitempty"`
	Text  string     `json:"text"` // in plain words, without In
}

// ChangeKind says what happened to a thing.
type ChangeKind string

// The kinds of changes.
const (
	Added   ChangeKind = "added"
	Dropped ChangeKind = "dropped"
	Renamed ChangeKind = "renamed"
	Altered ChangeKind = "altered"
)

// String is the change as a line of its own.
func (c Change) String() string {
	if c.In == "" {
		return c.Text
	}
	return c.In + ": " + c.Text
}

// Compare tells what is different in a schema: what was renamed first, then a
// change for each thing in the order of the tables.
func Compare(before, after *Catalog, renames ...Rename) []Change {
	return (&comparison{fine: true}).compare(before, after, renames)
}

func (c *comparison) compare(before, after *Catalog, renames []Rename) []Change {
	for _, r := range renames {
		c.list = append(c.list, r.change())
	}
	before, after = Completed(before.Renamed(renames), after)
	for i := range before.Tables {
		old := &before.Tables[i]
		if now, ok := after.Table(old.Schema, old.Name); ok {
			c.table(old, now)
			c.attached(before, after, old, now)
			if c.fine {
				c.finer(old, now)
			}
		} else {
			c.whole(Dropped, string(old.Kind), old.FullName())
		}
	}
	for i := range after.Tables {
		now := &after.Tables[i]
		if _, ok := before.Table(now.Schema, now.Name); !ok {
			c.whole(Added, string(now.Kind), now.FullName())
		}
	}
	c.enums(before, after)
	c.others("domain", domainTexts(before), domainTexts(after))
	c.others("composite type", compositeTexts(before), compositeTexts(after))
	c.others("sequence", sequenceTexts(before), sequenceTexts(after))
	c.others("", routineTexts(before, after), routineTexts(after, before))
	if before.Complete && after.Complete {
		c.extras("", before.Extras, after.Extras)
	}
	if c.fine {
		c.finerOthers(before, after)
	}
	return c.list
}

// comparison gathers what is different.
type comparison struct {
	list []Change
	fine bool // all facts, also those that no migration makes
}

func (c *comparison) add(kind ChangeKind, thing, in, name, was, now, format string, args ...any) {
	c.list = append(c.list, Change{Kind: kind, Thing: thing, In: in, Name: name, Was: was, Now: now, Text: fmt.Sprintf(format, args...)})
}

// whole tells of something that came or went as a whole.
func (c *comparison) whole(kind ChangeKind, thing, name string) {
	word := "new"
	if kind == Dropped {
		word = "gone"
	}
	c.add(kind, thing, "", name, "", "", "the %s %s is %s", thing, name, word)
}

// altered tells of something of a table that is different.
func (c *comparison) altered(thing, table, name, was, now, format string, args ...any) {
	c.add(Altered, thing, table, name, was, now, format, args...)
}

func (c *comparison) table(old, now *Table) {
	name := now.FullName()
	if old.Kind != now.Kind {
		c.altered("kind", name, "", string(old.Kind), string(now.Kind), "is a %s now, was a %s", now.Kind, old.Kind)
	}
	for i := range old.Columns {
		column := &old.Columns[i]
		if _, ok := now.Column(column.Name); !ok {
			c.add(Dropped, "column", name, column.Name, column.Declared, "", "the column %s is gone", column.Name)
		}
	}
	for i := range now.Columns {
		column := &now.Columns[i]
		was, ok := old.Column(column.Name)
		if !ok {
			c.add(Added, "column", name, column.Name, "", column.Declared, "the column %s is new, %s", column.Name, described(column))
			continue
		}
		c.column(name, was, column)
	}
	if a, b := keyText(old.PrimaryKey), keyText(now.PrimaryKey); a != b {
		c.altered("key", name, "", a, b, "the key is %s now, was %s", b, a)
	}
	c.sets(name, "unique key", uniqueTexts(old), uniqueTexts(now))
	c.sets(name, "reference", referenceTexts(old), referenceTexts(now))
	c.sets(name, "check", checkTexts(old), checkTexts(now))
	c.sets(name, "index", indexTexts(old), indexTexts(now))
	if a, b := strings.Join(old.Options, ", "), strings.Join(now.Options, ", "); a != b {
		c.altered("options", name, "", a, b, "it is %s now, was %s", orPlain(b), orPlain(a))
	}
	if now.IsView() && !SameText(old.Definition, now.Definition) {
		c.altered("definition", name, "", "", "", "its definition has changed")
	}
	if old.Comment != now.Comment {
		c.altered("comment", name, "", old.Comment, now.Comment, "its comment has changed")
	}
}

// attached compares what hangs on a table, where both sides know it.
func (c *comparison) attached(before, after *Catalog, old, now *Table) {
	name := now.FullName()
	if before.KnowsTriggers() && after.KnowsTriggers() && (!before.Engine.TableTexts || old.Definition != "" && now.Definition != "") {
		c.triggers(name, old, now)
	}
	if before.Complete && after.Complete {
		c.extras(name, old.Extras, now.Extras)
	}
}

func (c *comparison) triggers(table string, old, now *Table) {
	c.sets(table, "trigger", triggerTexts(old), triggerTexts(now))
	for _, was := range old.Triggers {
		i := slices.IndexFunc(now.Triggers, func(x Trigger) bool { return x.Name == was.Name })
		if i >= 0 && !SameText(now.Triggers[i].Definition, was.Definition) {
			c.altered("trigger", table, was.Name, "", "", "the trigger %s has changed", was.Name)
		}
	}
}

// extras tells what came, went and changed of what else an engine keeps.
func (c *comparison) extras(in string, old, now []Extra) {
	find := func(list []Extra, e Extra) int {
		return slices.IndexFunc(list, func(x Extra) bool { return x.Kind == e.Kind && x.Name == e.Name })
	}
	for _, e := range old {
		switch i := find(now, e); {
		case i < 0:
			c.add(Dropped, e.Kind, in, e.Name, e.Make, "", "%s is gone", e.label())
		case now[i].Make != e.Make:
			c.add(Altered, e.Kind, in, e.Name, e.Make, now[i].Make, "%s has changed", e.label())
		}
	}
	for _, e := range now {
		if find(old, e) < 0 {
			c.add(Added, e.Kind, in, e.Name, "", e.Make, "%s is new", e.label())
		}
	}
}

func (e Extra) label() string {
	return strings.TrimSpace("the " + e.Kind + " " + e.Name)
}

func orPlain(options string) string {
	if options == "" {
		return "an ordinary table"
	}
	return options
}

// SameText reports whether two definitions differ at most in their layout.
func SameText(a, b string) bool {
	return strings.Join(strings.Fields(a), " ") == strings.Join(strings.Fields(b), " ")
}

// described is what a new column is, for those who must fill it.
func described(c *Column) string {
	text := c.Declared
	switch {
	case c.Generated != "":
		text += ", computed"
	case !c.Nullable && c.Default == nil:
		text += ", must have a value"
	}
	return text
}

func (c *comparison) column(table string, was, now *Column) {
	at := now.Name
	if was.Declared != now.Declared || !reflect.DeepEqual(was.Type, now.Type) {
		a, b := was.Declared, now.Declared
		if a == b {
			a, b = typeText(was), typeText(now)
		}
		c.altered("type", table, at, a, b, "%s is %s now, was %s", at, b, a)
	}
	switch {
	case was.Nullable && !now.Nullable:
		c.altered("null", table, at, "nullable", "mandatory", "%s must have a value now", at)
	case !was.Nullable && now.Nullable:
		c.altered("null", table, at, "mandatory", "nullable", "%s may be null now", at)
	}
	if !reflect.DeepEqual(was.Default, now.Default) {
		a, b := defaultText(was.Default), defaultText(now.Default)
		c.altered("default", table, at, a, b, "the default of %s is %s now, was %s", at, b, a)
	}
	if was.Generated != now.Generated || was.Stored != now.Stored || was.Virtual != now.Virtual || was.OnUpdate != now.OnUpdate {
		c.altered("computed", table, at, was.Generated, now.Generated, "what computes %s has changed", at)
	}
	if was.Collation != now.Collation {
		c.altered("collation", table, at, was.Collation, now.Collation, "%s is sorted by %s now, was %s", at, orNone(now.Collation), orNone(was.Collation))
	}
	if was.Invisible != now.Invisible {
		word := map[bool]string{true: "invisible", false: "visible"}
		c.altered("visibility", table, at, word[was.Invisible], word[now.Invisible], "%s is %s now", at, word[now.Invisible])
	}
	if was.Comment != now.Comment {
		c.altered("comment", table, at, was.Comment, now.Comment, "the comment of %s has changed", at)
	}
}

// typeText tells types apart that are declared alike.
func typeText(c *Column) string {
	if len(c.Type.Labels) > 0 {
		return c.Declared + " of " + strings.Join(c.Type.Labels, ", ")
	}
	return fmt.Sprintf("%s (%s)", c.Declared, c.Type.Kind)
}

// sets tells what came and what went of things that are known by their text.
// One that is there twice counts twice.
func (c *comparison) sets(in, thing string, old, now []string) {
	for _, text := range without(old, now) {
		c.add(Dropped, thing, in, "", text, "", "the %s %s is gone", thing, text)
	}
	for _, text := range without(now, old) {
		c.add(Added, thing, in, "", "", text, "the %s %s is new", thing, text)
	}
}

// without is a list without what another one has, each as often as it is there.
func without(list, other []string) []string {
	left := slices.Clone(other)
	return slices.DeleteFunc(slices.Clone(list), func(text string) bool {
		i := slices.Index(left, text)
		if i >= 0 {
			left = slices.Delete(left, i, i+1)
		}
		return i >= 0
	})
}

func (c *comparison) enums(before, after *Catalog) {
	for _, old := range before.Enums {
		full := Qualify(old.Schema, old.Name)
		now, ok := after.Enum(full)
		if !ok {
			c.whole(Dropped, "enum", full)
			continue
		}
		c.sets(full, "label", old.Labels, now.Labels)
		if !slices.Equal(old.Labels, now.Labels) && len(old.Labels) == len(now.Labels) && equalSets(old.Labels, now.Labels) {
			c.altered("labels", full, "", "", "", "its labels have another order")
		}
	}
	for _, now := range after.Enums {
		full := Qualify(now.Schema, now.Name)
		if _, ok := before.Enum(full); !ok {
			c.whole(Added, "enum", full)
		}
	}
}

func equalSets(a, b []string) bool {
	return !slices.ContainsFunc(a, func(s string) bool { return !slices.Contains(b, s) })
}

// named is a thing that is known by its name, and what else there is to it.
type named struct{ thing, name, text string }

// others compares things by name. An empty word leaves it to each what it is.
func (c *comparison) others(thing string, old, now []named) {
	find := func(list []named, n named) int {
		return slices.IndexFunc(list, func(x named) bool { return x.name == n.name && x.thing == n.thing })
	}
	for _, n := range old {
		switch i := find(now, n); {
		case i < 0:
			c.whole(Dropped, n.thing, n.name)
		case !SameText(now[i].text, n.text):
			c.add(Altered, n.thing, "", n.name, "", "", "the %s %s has changed", n.thing, n.name)
		}
	}
	for _, n := range now {
		if find(old, n) < 0 {
			c.whole(Added, n.thing, n.name)
		}
	}
}

func domainTexts(c *Catalog) []named {
	var list []named
	for _, d := range c.Domains {
		list = append(list, named{"domain", Qualify(d.Schema, d.Name), fmt.Sprint(d.Declared, d.NotNull, inJSON(d.Default), d.Checks)})
	}
	return list
}

// inJSON is all that there is to a value.
func inJSON(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		return err.Error()
	}
	return string(text)
}

func compositeTexts(c *Catalog) []named {
	var list []named
	for _, d := range c.Composites {
		text := ""
		for _, f := range d.Fields {
			text += f.Name + " " + f.Declared + " " + inJSON(f.Type) + ", "
		}
		list = append(list, named{"composite type", Qualify(d.Schema, d.Name), text})
	}
	return list
}

func sequenceTexts(c *Catalog) []named {
	var list []named
	for _, s := range c.Sequences {
		list = append(list, named{"sequence", Qualify(s.Schema, s.Name), s.Options})
	}
	return list
}

// routineTexts leave out the bodies where the other side does not know its own, as
// a snapshot of an earlier version of this tool.
func routineTexts(c, other *Catalog) []named {
	var list []named
	for _, r := range c.Routines {
		text := r.Returns + r.Volatility
		if known := slices.ContainsFunc(other.Routines, func(x Routine) bool { return x.Signature() == r.Signature() && x.Definition != "" }); known {
			text += r.Definition
		}
		list = append(list, named{r.Kind, r.Signature(), text})
	}
	return list
}

// Signature is the full name with the types of the arguments that are given.
func (r *Routine) Signature() string {
	return Qualify(r.Schema, r.Name) + "(" + strings.Join(r.ArgumentTypes(), ", ") + ")"
}

// ArgumentTypes are those of the arguments that go in, as they are declared.
func (r *Routine) ArgumentTypes() []string {
	var types []string
	for _, a := range r.Arguments {
		if a.Mode != "out" && a.Mode != "table" {
			types = append(types, a.Declared)
		}
	}
	return types
}

func keyText(k *Key) string {
	if k == nil {
		return "none"
	}
	return strings.Join(k.Columns, ", ") + k.suffix()
}

// suffix is what a key has besides its columns.
func (k *Key) suffix() string {
	switch {
	case k.Definition != "":
		return ", as in " + k.Definition
	case k.Deferrable:
		return ", deferrable"
	}
	return ""
}

func uniqueTexts(t *Table) []string {
	var list []string
	for _, u := range t.Uniques {
		list = append(list, "("+strings.Join(u.Columns, ", ")+")"+u.suffix())
	}
	return list
}

func referenceTexts(t *Table) []string {
	var list []string
	for _, r := range t.References {
		text := fmt.Sprintf("of %s to %s", strings.Join(r.Columns, ", "), Qualify(r.Schema, r.Table))
		if r.OnDelete != "" {
			text += ", on delete " + r.OnDelete
		}
		if r.OnUpdate != "" {
			text += ", on update " + r.OnUpdate
		}
		switch {
		case r.Definition != "":
			text += ", as in " + r.Definition
		case r.Deferrable:
			text += ", deferrable"
		}
		list = append(list, text)
	}
	return list
}

func checkTexts(t *Table) []string {
	var list []string
	for _, c := range t.Checks {
		list = append(list, strings.TrimSpace(c.Expr+" "+c.Options))
	}
	return list
}

func indexTexts(t *Table) []string {
	var list []string
	for _, in := range t.Indexes {
		text := in.Name + " (" + strings.Join(in.Columns, ", ") + ")"
		if in.Unique {
			text = "unique " + text
		}
		if in.Where != "" {
			text += " where " + in.Where
		}
		if in.Definition != "" {
			text += ", as in " + in.Definition
		}
		list = append(list, text)
	}
	return list
}

func triggerTexts(t *Table) []string {
	var list []string
	for _, trigger := range t.Triggers {
		list = append(list, trigger.Name)
	}
	return list
}

func defaultText(d *Default) string {
	switch {
	case d == nil:
		return "none"
	case d.Kind == Identity:
		text := "numbered by the engine"
		for _, more := range []string{map[bool]string{true: "always"}[d.Always], d.Sequence, d.Own, map[bool]string{true: "by an ordinary default"}[d.Serial], d.Options} {
			if more != "" {
				text += ", " + more
			}
		}
		return text
	case d.Text == "":
		return "an empty text"
	}
	return d.Text
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}
