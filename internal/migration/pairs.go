package migration

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// Disturbs reports whether a text reads a column that changes under it.
func (p *Pair) Disturbs(text string) bool {
	for _, a := range p.Altered {
		if (a.Retyped() || a.Computed()) && Mentions(text, a.Now.Name) {
			return true
		}
	}
	return slices.ContainsFunc(p.Dropped, func(c *catalog.Column) bool { return Mentions(text, c.Name) })
}

// Remakes reports whether a text is about something of the table that is dropped
// and made again, which takes along what is said of it.
func (p *Pair) Remakes(text string) bool {
	list := PartNames(p.AddUniques, p.AddIndexes, p.AddChecks, p.AddReferences)
	if p.KeyChanged && p.Now.PrimaryKey != nil {
		list = append(list, p.Now.PrimaryKey.Name)
	}
	for _, c := range p.Added {
		list = append(list, c.Name)
	}
	for _, a := range p.Altered {
		if a.Computed() && !a.Freed() {
			list = append(list, a.Now.Name)
		}
	}
	for name := range p.Undone {
		list = append(list, name)
	}
	return slices.ContainsFunc(list, func(name string) bool { return Mentions(text, name) })
}

// Again has checks, computed columns, and indexes over expressions or with a
// condition made again where stale says so.
func (p *Pair) Again(stale func(text string) bool) {
	for _, c := range p.Now.Checks {
		was := slices.IndexFunc(p.Old.Checks, func(x catalog.Check) bool { return x.Name == c.Name && x.Expr == c.Expr && x.Options == c.Options })
		if was >= 0 && stale(c.Expr) && !slices.Contains(p.AddChecks, c) {
			p.DropChecks, p.AddChecks = append(p.DropChecks, p.Old.Checks[was]), append(p.AddChecks, c)
		}
	}
	for _, in := range p.Now.Indexes {
		text := in.Where + " " + strings.Join(slices.DeleteFunc(slices.Clone(in.Columns), func(c string) bool { return !strings.HasPrefix(c, "(") }), " ")
		was := slices.IndexFunc(p.Old.Indexes, func(x catalog.Index) bool { return x.Name == in.Name })
		listed := slices.ContainsFunc(p.AddIndexes, func(x catalog.Index) bool { return x.Name == in.Name })
		if was >= 0 && stale(text) && !listed {
			p.DropIndexes, p.AddIndexes = append(p.DropIndexes, p.Old.Indexes[was]), append(p.AddIndexes, in)
		}
	}
	for i := range p.Now.Columns {
		now := &p.Now.Columns[i]
		was, there := p.Old.Column(now.Name)
		if !there || now.Generated == "" || was.Generated == "" || !stale(now.Generated) || slices.ContainsFunc(p.Altered, func(a Alteration) bool { return a.Now == now }) || slices.Contains(p.Dropped, was) {
			continue
		}
		p.remake(was, now)
	}
}

// OnlyAdds reports whether all labels stay, in their order, and the script uses
// none of the new ones.
func (d *Writing) OnlyAdds(was, now catalog.Enum) bool {
	kept := slices.DeleteFunc(slices.Clone(now.Labels), func(l string) bool { return !slices.Contains(was.Labels, l) })
	return slices.Equal(kept, was.Labels) && !slices.ContainsFunc(now.Labels, func(l string) bool { return !slices.Contains(was.Labels, l) && d.usesLabel(l) })
}

// usesLabel reports whether a new label stands somewhere in the new schema.
func (d *Writing) usesLabel(label string) bool {
	text := d.SQL.Literal(label)
	return slices.ContainsFunc(d.After.Tables, func(t catalog.Table) bool {
		in := func(s string) bool { return strings.Contains(s, text) }
		return in(t.Definition) || slices.ContainsFunc(t.Checks, func(c catalog.Check) bool { return in(c.Expr) }) ||
			slices.ContainsFunc(t.Indexes, func(x catalog.Index) bool { return in(x.Where) || in(x.Definition) || in(strings.Join(x.Columns, " ")) }) ||
			slices.ContainsFunc(t.Extras, func(e catalog.Extra) bool { return in(e.Make) }) || slices.ContainsFunc(t.Triggers, func(x catalog.Trigger) bool { return in(x.Definition) }) ||
			slices.ContainsFunc(t.Columns, func(c catalog.Column) bool {
				return in(c.Generated) || c.Default != nil && (c.Default.Text == label && c.Type.Kind == catalog.EnumKind || in(c.Default.Text))
			})
	})
}

// PairOf is the pair of a table that stays.
func (d *Writing) PairOf(old *catalog.Table) *Pair {
	i := slices.IndexFunc(d.All, func(p *Pair) bool { return p.Old.FullName() == old.FullName() })
	if i < 0 {
		return nil
	}
	return d.All[i]
}

// OldLabel is what a label of an enum was called before.
func (d *Writing) OldLabel(full, label string) string {
	for _, r := range d.Renames {
		if r.Thing == catalog.RenamedLabel && r.In == full && r.To == label {
			return r.From
		}
	}
	return label
}

// FreeKeys drops the references of tables that are gone to keys and columns that
// change, which they would hold.
func (d *Writing) FreeKeys(pairs []*Pair, drop func(t *catalog.Table, r catalog.Reference) []string) {
	for _, t := range d.Gone() {
		for _, r := range t.References {
			for _, p := range pairs {
				if p.Now.Schema == r.Schema && p.Now.Name == r.Table && (p.retypes(r.Target) || p.losesKey(r.Target)) {
					d.Step(drop(t, r)...)
					if d.Freed == nil {
						d.Freed = map[string]bool{}
					}
					d.Freed[t.FullName()+"."+r.Name] = true
				}
			}
		}
	}
}

// ReferenceText is a reference as a table declares it.
func (d *Writing) ReferenceText(r catalog.Reference) string {
	if r.Definition != "" {
		return r.Definition
	}
	text := fmt.Sprintf("FOREIGN KEY (%s) REFERENCES %s (%s)", d.Names(r.Columns), d.Table(r.Schema, r.Table), d.Names(r.Target))
	if r.OnUpdate != "" {
		text += " ON UPDATE " + strings.ToUpper(r.OnUpdate)
	}
	if r.OnDelete != "" {
		text += " ON DELETE " + strings.ToUpper(r.OnDelete)
	}
	if r.Deferrable && d.Engine.Traits().Defers {
		text += " DEFERRABLE"
	}
	return text
}

// Early reports whether what a new table refers to is there when it is made, with
// the key that it refers to.
func (d *Writing) Early(t *catalog.Table, r catalog.Reference) bool {
	if strings.Contains(r.Definition, "NOT VALID") { // which a new table would not keep
		return false
	}
	if r.Schema == t.Schema && r.Table == t.Name {
		return true
	}
	for _, other := range d.Fresh() {
		if other == t {
			break
		}
		if other.Schema == r.Schema && other.Name == r.Table {
			return true
		}
	}
	old, ok := d.At.Table(r.Schema, r.Table)
	if !ok || old.IsView() {
		return false
	}
	keyed := old.PrimaryKey != nil && slices.Equal(old.PrimaryKey.Columns, r.Target) || slices.ContainsFunc(old.Uniques, func(k catalog.Key) bool { return slices.Equal(k.Columns, r.Target) })
	now, ok := d.After.Table(r.Schema, r.Table)
	if !ok || !keyed {
		return false
	}
	p := d.pair(old, now)
	return !p.retypes(r.Target) && !p.losesKey(r.Target)
}

// Conversion checks that no value is changed by a change of its type.
func (f Former) Conversion(a Alteration, c Conversion) Check {
	fault := "values do not fit into " + a.Now.Declared + ", or would not be the same"
	help := "change them, or take another proposal"
	if c.Tries == "" {
		return f.Where(a.Now.Name, []string{a.Now.Name}, fault, c.Condition, help)
	}
	check := f.Where(a.Now.Name, []string{a.Now.Name}, fault, c.Tries, help)
	check.Column, check.From = f.Column(a.Now.Name), f.Table()
	check.Tries = replaceColumn(strings.ReplaceAll(c.Tries, f.Column(a.Now.Name), "\x03"), "\x03", "r.v")
	check.Tries = strings.ReplaceAll(check.Tries, "\x03", "r.v")
	return check
}

// Coarser reports whether a time has fewer digits of the second.
func Coarser(a Alteration) bool {
	digit := func(declared string) string {
		_, after, ok := strings.Cut(declared, "(")
		if !ok {
			return ""
		}
		n, _, _ := strings.Cut(after, ")")
		return n
	}
	switch a.Was.Type.Kind {
	case catalog.Time, catalog.Timestamp, catalog.TimestampTZ, catalog.Interval:
		x, y := digit(a.Was.Declared), digit(a.Now.Declared)
		return x != y && y != "" && (x == "" || x > y)
	}
	return false
}

// InOrder sorts things so that each stands behind those that its text names.
func InOrder(list []Named) []Named {
	var sorted []Named
	for left := slices.Clone(list); len(left) > 0; {
		at := slices.IndexFunc(left, func(x Named) bool {
			return !slices.ContainsFunc(left, func(y Named) bool { return y.Name != x.Name && Mentions(x.Text, y.Name) })
		})
		at = max(at, 0)
		sorted = append(sorted, left[at])
		left = slices.Delete(left, at, at+1)
	}
	return sorted
}

// UsesEnum reports whether values of a type are those of an enum, or have some.
func UsesEnum(t catalog.Type, full string) bool {
	return t.Enum == full || t.Element != nil && UsesEnum(*t.Element, full)
}

// HasRoutine reports whether a routine is in a list.
func HasRoutine(list []catalog.Routine, r catalog.Routine) bool {
	return slices.ContainsFunc(list, func(x catalog.Routine) bool { return x.Signature() == r.Signature() })
}

// IndexNames are the names of all that has an index, and of references.
func IndexNames(t *catalog.Table) []string {
	list := PartNames(t.Uniques, t.Indexes, nil, t.References)
	if t.PrimaryKey != nil {
		list = append(list, t.PrimaryKey.Name)
	}
	for _, e := range t.Extras {
		if e.Kind == "exclusion constraint" {
			list = append(list, e.Name)
		}
	}
	return list
}

// KeyColumns are the columns of the primary key.
func KeyColumns(t *catalog.Table) []string {
	if t.PrimaryKey == nil {
		return nil
	}
	return t.PrimaryKey.Columns
}

// Big reports whether a table may be large; the engine does not always know.
func Big(rows int64) bool { return rows < 0 || rows >= large }

// FindExtra finds what is the same thing in a list.
func FindExtra(list []catalog.Extra, e catalog.Extra) (catalog.Extra, bool) {
	i := slices.IndexFunc(list, func(x catalog.Extra) bool { return x.Kind == e.Kind && x.Name == e.Name })
	if i < 0 {
		return catalog.Extra{}, false
	}
	return list[i], true
}

// Unmade are the kinds that no statement of a script makes.
func Unmade(e catalog.Extra) bool { return e.Make == "" }

// PartNames are the names of some parts of a table.
func PartNames(keys []catalog.Key, indexes []catalog.Index, checks []catalog.Check, references []catalog.Reference) []string {
	list := []string{}
	for _, k := range keys {
		list = append(list, k.Name)
	}
	for _, in := range indexes {
		list = append(list, in.Name)
	}
	for _, c := range checks {
		list = append(list, c.Name)
	}
	for _, r := range references {
		list = append(list, r.Name)
	}
	return list
}

// Literals are texts as constants, with commas.
func (d *Writing) Literals(list []string) string {
	quoted := make([]string, len(list))
	for i, s := range list {
		quoted[i] = d.SQL.Literal(s)
	}
	return strings.Join(quoted, ", ")
}

// RenamedIn are the columns of a table that have other names now.
func (d *Writing) RenamedIn(t *catalog.Table) []catalog.Rename {
	return slices.DeleteFunc(slices.Clone(d.Renames), func(r catalog.Rename) bool {
		return r.Thing != catalog.RenamedColumn || r.In != t.FullName()
	})
}

// Named is something with the text that makes it.
type Named struct{ Name, Text string }

// large is the number of rows from which on a lock or a rewrite hurts.
const large = 100_000
