package migration

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// Writing is a script that is being made.
type Writing struct {
	Engine        Engine
	SQL           *sqltext.Dialect
	Before, After *catalog.Catalog
	At            *catalog.Catalog // before with the new names
	given         *catalog.Catalog // after, without what only the other side knows
	Renames       []catalog.Rename
	Possible      []catalog.Rename // that nobody has settled
	decide        func(d *Decision) int
	Decided       func(d *Decision) // is told of each, where an engine has to do with it
	Script        *Script

	goneTables, freshTables []*catalog.Table // each in the order in which they go and come
	made                    map[string]bool  // names of what the script makes for itself
	All                     []*Pair
	Freed                   map[string]bool  // references of gone tables that were dropped ahead of them
	Kept                    []*catalog.Table // gone tables that may stay under another name
}

func newDraft(e Engine, before, after *catalog.Catalog, o Options) *Writing {
	given := after
	at, after := catalog.Completed(before.Renamed(o.Renames), after)
	d := &Writing{Engine: e, SQL: e.Dialect(), Before: before, After: after, given: given, At: at, Renames: o.Renames, Possible: o.Possible, decide: o.Decide}
	d.Script = &Script{Engine: e.Dialect().Name, ways: e}
	d.goneTables = byReferences(onlyIn(d.At, d.After))
	slices.Reverse(d.goneTables)
	d.freshTables = byReferences(onlyIn(d.After, d.At))
	return d
}

// Name is a name as a statement takes it.
func (d *Writing) Name(s string) string { return d.SQL.Ident(s) }

// Names is a list of names.
func (d *Writing) Names(list []string) string {
	quoted := make([]string, len(list))
	for i, s := range list {
		if quoted[i] = d.Name(s); strings.HasPrefix(s, "(") {
			quoted[i] = s // an expression
		}
	}
	return strings.Join(quoted, ", ")
}

// Table is the name of a table with its schema.
func (d *Writing) Table(schema, name string) string {
	if schema == "" {
		return d.Name(name)
	}
	return d.Name(schema) + "." + d.Name(name)
}

// TableOf is the name of a table with its schema.
func (d *Writing) TableOf(t *catalog.Table) string { return d.Table(t.Schema, t.Name) }

// Full is a full name in quotes where it needs them.
func (d *Writing) Full(name string) string { return d.Table(catalog.Split(name)) }

// Step adds statements.
func (d *Writing) Step(statements ...string) { d.Noted("", statements...) }

// Noted adds statements with a comment above them.
func (d *Writing) Noted(note string, statements ...string) {
	if len(statements) > 0 {
		d.Script.Steps = append(d.Script.Steps, Step{Note: note, SQL: statements})
	}
}

// Note says something in the head of the script, once.
func (d *Writing) Note(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); !slices.Contains(d.Script.Notes, text) {
		d.Script.Notes = append(d.Script.Notes, text)
	}
}

// Check adds a condition that is tested before anything changes.
func (d *Writing) Check(list ...Check) {
	for _, c := range list {
		if unsaid(d.Script.Checks, c) {
			d.Script.Checks = append(d.Script.Checks, c)
		}
	}
}

// Decision adds what a person must decide.
func (d *Writing) Decision(question string, proposals ...Proposal) *Decision {
	x := &Decision{Number: len(d.Script.Decisions) + 1, Question: question, Proposals: proposals, Taken: -1}
	if d.decide != nil {
		x.Taken = d.decide(x)
	}
	d.Script.Decisions = append(d.Script.Decisions, x)
	d.Script.Steps = append(d.Script.Steps, Step{Decision: x})
	if d.Decided != nil {
		d.Decided(x)
	}
	return x
}

// FreeName is a name for something that the script makes, which neither schema
// has yet.
func (d *Writing) FreeName(schema, name string) string {
	taken := func(name string) bool {
		for _, c := range []*catalog.Catalog{d.Before, d.At, d.After} {
			for i := range c.Tables {
				t := &c.Tables[i]
				has := func(x string) bool { return strings.EqualFold(x, name) }
				if t.Schema == schema && (has(t.Name) || slices.ContainsFunc(t.Indexes, func(in catalog.Index) bool { return has(in.Name) }) || slices.ContainsFunc(t.Uniques, func(k catalog.Key) bool { return has(k.Name) })) {
					return true
				}
			}
			if _, there := c.Enum(catalog.Qualify(schema, name)); there {
				return true
			}
		}
		return d.made[catalog.Qualify(schema, name)]
	}
	free := name
	for n := 2; taken(free); n++ {
		free = fmt.Sprintf("%s%d", name, n)
	}
	if d.made == nil {
		d.made = map[string]bool{}
	}
	d.made[catalog.Qualify(schema, free)] = true
	return free
}

// onlyOrder reports whether the columns of a table stand in another order,
// where an engine can do something about it.
func (d *Writing) onlyOrder() bool {
	if !d.Engine.Traits().OrderCounts {
		return false
	}
	return slices.ContainsFunc(d.Pairs(), func(p *Pair) bool { return p.Reordered })
}

// Pair is a table before, with the new names, and after, and what is different
// in it.
type Pair struct {
	Old, Now *catalog.Table

	Added, Dropped []*catalog.Column
	Altered        []Alteration

	DropUniques, AddUniques       []catalog.Key
	DropReferences, AddReferences []catalog.Reference
	DropChecks, AddChecks         []catalog.Check
	DropIndexes, AddIndexes       []catalog.Index
	ConstraintNames               [][2]string // constraints that only have another name
	IndexNames                    [][2]string
	KeyChanged, Reordered         bool

	Quiet  bool            // its triggers must not fire
	Undone map[string]bool // triggers that are dropped, and made again at the end
}

// Alteration is a column before and after.
type Alteration struct{ Was, Now *catalog.Column }

// Retyped reports whether the type is another one.
func (a Alteration) Retyped() bool {
	return a.Was.Declared != a.Now.Declared || a.Was.Domain != a.Now.Domain || a.Was.Collation != a.Now.Collation || !reflect.DeepEqual(a.Was.Type, a.Now.Type)
}

// Computed reports whether what is computed changes.
func (a Alteration) Computed() bool {
	return a.Was.Generated != a.Now.Generated || a.Was.Generated != "" && (a.Retyped() || a.Was.Stored != a.Now.Stored || a.Was.Virtual != a.Now.Virtual)
}

// Freed reports whether a column was computed and holds values of its own now.
func (a Alteration) Freed() bool { return a.Was.Generated != "" && a.Now.Generated == "" }

// Pairs are the tables that are in both schemas.
func (d *Writing) Pairs() []*Pair {
	var list []*Pair
	for i := range d.At.Tables {
		old := &d.At.Tables[i]
		now, ok := d.After.Table(old.Schema, old.Name)
		if !ok || old.IsView() || now.IsView() {
			continue
		}
		list = append(list, d.pair(old, now))
	}
	for _, p := range list {
		p.dependReferences(list)
		if d.Engine.Traits().ComputedFollow {
			p.dependComputed()
		}
	}
	if d.renamesConstraints() {
		for _, p := range list {
			p.renameExtras()
		}
	}
	d.All = list
	return list
}

// renameExtras has what is said of constraints and indexes follow their new
// names.
func (p *Pair) renameExtras() {
	for _, n := range slices.Concat(p.ConstraintNames, p.IndexNames) {
		for i := range p.Old.Extras {
			e := &p.Old.Extras[i]
			for _, text := range []*string{&e.Make, &e.Undo, &e.Name} {
				*text = catalog.ReplaceWord(*text, n[0], n[1])
			}
		}
	}
}

// dependComputed has the computed columns made again that read one whose type
// changes, with what is over them.
func (p *Pair) dependComputed() {
	retyped := slices.DeleteFunc(slices.Clone(p.Altered), func(a Alteration) bool { return !a.Retyped() })
	for i := range p.Now.Columns {
		now := &p.Now.Columns[i]
		was, there := p.Old.Column(now.Name)
		reads := slices.ContainsFunc(retyped, func(a Alteration) bool { return Mentions(now.Generated, a.Now.Name) })
		if now.Generated == "" || !there || was.Generated == "" || !reads || slices.ContainsFunc(p.Altered, func(a Alteration) bool { return a.Now == now }) {
			continue
		}
		p.remake(was, now)
	}
}

// remake has a computed column dropped and made again, with what is over it.
func (p *Pair) remake(was, now *catalog.Column) {
	p.Dropped = append(p.Dropped, was)
	p.Added = append(p.Added, now)
	for _, k := range p.Now.Uniques {
		if slices.Contains(k.Columns, now.Name) {
			p.AddUniques = append(p.AddUniques, k)
		}
	}
	for _, in := range p.Now.Indexes {
		if (slices.Contains(in.Columns, now.Name) || Mentions(in.Where, now.Name)) && !slices.ContainsFunc(p.AddIndexes, func(x catalog.Index) bool { return x.Name == in.Name }) {
			p.AddIndexes = append(p.AddIndexes, in)
		}
	}
	for _, c := range p.Now.Checks {
		if Mentions(c.Expr, now.Name) && !slices.Contains(p.AddChecks, c) {
			p.AddChecks = append(p.AddChecks, c)
		}
	}
}

func (d *Writing) pair(old, now *catalog.Table) *Pair {
	p := &Pair{Old: old, Now: now}
	var kept, wanted []string
	for i := range old.Columns {
		if _, ok := now.Column(old.Columns[i].Name); !ok {
			p.Dropped = append(p.Dropped, &old.Columns[i])
		} else {
			kept = append(kept, old.Columns[i].Name)
		}
	}
	for i := range now.Columns {
		column := &now.Columns[i]
		was, ok := old.Column(column.Name)
		switch {
		case !ok:
			p.Added = append(p.Added, column)
			continue // it goes where it belongs
		case !sameColumn(was, column):
			p.Altered = append(p.Altered, Alteration{was, column})
		}
		wanted = append(wanted, column.Name)
	}
	p.Reordered = !slices.Equal(kept, wanted)
	p.KeyChanged = !sameKey(old.PrimaryKey, now.PrimaryKey)
	if !p.KeyChanged && now.PrimaryKey != nil && now.PrimaryKey.Name != old.PrimaryKey.Name && d.renamesConstraints() {
		p.ConstraintNames = append(p.ConstraintNames, [2]string{old.PrimaryKey.Name, now.PrimaryKey.Name})
	}
	d.pairKeys(p)
	d.pairChecks(p)
	d.pairReferences(p)
	d.pairIndexes(p)
	return p
}

// sameColumn leaves comments aside.
func sameColumn(a, b *catalog.Column) bool {
	x, y := *a, *b
	x.Comment, y.Comment = "", ""
	return reflect.DeepEqual(x, y)
}

func sameKey(a, b *catalog.Key) bool {
	if a == nil || b == nil {
		return a == b
	}
	return slices.Equal(a.Columns, b.Columns) && a.Deferrable == b.Deferrable && a.Definition == b.Definition
}

// renamesConstraints reports whether a constraint can get another name.
func (d *Writing) renamesConstraints() bool { return d.Engine.Traits().NamesConstraints }

// sameName holds where the name does not matter or is the same.
func (d *Writing) sameName(a, b string) bool { return a == b || d.Engine.Traits().NamesIndexesOnly }

// match takes each of two lists apart: what only one of them has, and the names
// of what is in both but is called otherwise.
func match[T any](old, now []T, same func(a, b *T) bool, name func(x *T) string, sameName func(a, b string) bool, rename bool) (drop, add []T, names [][2]string) {
	taken := make([]bool, len(now))
	for pass := range 2 {
		var left []T
		for i := range old {
			at := -1
			for k := range now {
				if !taken[k] && same(&old[i], &now[k]) && (sameName(name(&old[i]), name(&now[k])) || pass == 1 && rename) {
					at = k
					break
				}
			}
			switch {
			case at < 0:
				left = append(left, old[i])
				continue
			case !sameName(name(&old[i]), name(&now[at])):
				names = append(names, [2]string{name(&old[i]), name(&now[at])})
			}
			taken[at] = true
		}
		old = left
	}
	for k := range now {
		if !taken[k] {
			add = append(add, now[k])
		}
	}
	return old, add, names
}

func (d *Writing) pairKeys(p *Pair) {
	drop, add, names := match(p.Old.Uniques, p.Now.Uniques, func(a, b *catalog.Key) bool {
		return slices.Equal(a.Columns, b.Columns) && a.Deferrable == b.Deferrable && a.Index == b.Index && sameDefinition(a.Definition, b.Definition, a.Name, b.Name)
	}, func(k *catalog.Key) string { return k.Name }, d.sameName, d.renamesConstraints())
	p.DropUniques, p.AddUniques = drop, add
	for _, n := range names {
		index := slices.ContainsFunc(p.Old.Uniques, func(k catalog.Key) bool { return k.Name == n[0] && k.Index })
		if index {
			p.IndexNames = append(p.IndexNames, n)
		} else {
			p.ConstraintNames = append(p.ConstraintNames, n)
		}
	}
}

// sameDefinition reports whether two statements that make an index differ in its
// name at most.
func sameDefinition(a, b, nameA, nameB string) bool {
	return a == b || nameA != nameB && catalog.SameText(catalog.ReplaceWord(a, nameA, nameB), b)
}

func (d *Writing) pairChecks(p *Pair) {
	drop, add, names := match(p.Old.Checks, p.Now.Checks, func(a, b *catalog.Check) bool { return a.Expr == b.Expr && a.Options == b.Options },
		func(c *catalog.Check) string { return c.Name }, d.sameName, d.renamesConstraints())
	p.DropChecks, p.AddChecks = drop, add
	p.ConstraintNames = append(p.ConstraintNames, names...)
}

func (d *Writing) pairReferences(p *Pair) {
	drop, add, names := match(p.Old.References, p.Now.References, sameReference,
		func(r *catalog.Reference) string { return r.Name }, d.sameName, d.renamesConstraints())
	p.DropReferences, p.AddReferences = drop, add
	p.ConstraintNames = append(p.ConstraintNames, names...)
}

func sameReference(a, b *catalog.Reference) bool {
	x, y := *a, *b
	x.Name, y.Name = "", ""
	return reflect.DeepEqual(x, y)
}

func (d *Writing) pairIndexes(p *Pair) {
	drop, add, names := match(p.Old.Indexes, p.Now.Indexes, func(a, b *catalog.Index) bool {
		x, y := *a, *b
		x.Name, y.Name, x.Definition, y.Definition = "", "", "", ""
		return reflect.DeepEqual(x, y) && sameDefinition(a.Definition, b.Definition, a.Name, b.Name)
	}, func(in *catalog.Index) string { return in.Name }, func(a, b string) bool { return a == b }, d.renamesConstraints())
	p.DropIndexes, p.AddIndexes = drop, add
	p.IndexNames = append(p.IndexNames, names...)
}

// dependReferences has the references made again whose columns change their
// type on either side, or whose target loses its key.
func (p *Pair) dependReferences(all []*Pair) {
	for _, r := range p.Now.References {
		if slices.ContainsFunc(p.AddReferences, func(x catalog.Reference) bool { return sameReference(&x, &r) }) {
			continue
		}
		again := p.retypes(r.Columns)
		for _, other := range all {
			if other.Now.Schema == r.Schema && other.Now.Name == r.Table {
				again = again || other.retypes(r.Target) || other.losesKey(r.Target)
			}
		}
		if !again {
			continue
		}
		i := slices.IndexFunc(p.Old.References, func(x catalog.Reference) bool { return sameReference(&x, &r) })
		if i < 0 {
			continue
		}
		p.DropReferences = append(p.DropReferences, p.Old.References[i])
		p.AddReferences = append(p.AddReferences, r)
		p.ConstraintNames = slices.DeleteFunc(p.ConstraintNames, func(n [2]string) bool { return n[0] == p.Old.References[i].Name })
	}
}

func (p *Pair) retypes(columns []string) bool {
	return slices.ContainsFunc(p.Altered, func(a Alteration) bool { return slices.Contains(columns, a.Now.Name) && a.Retyped() })
}

func (p *Pair) losesKey(columns []string) bool {
	if p.KeyChanged && p.Old.PrimaryKey != nil && slices.Equal(p.Old.PrimaryKey.Columns, columns) {
		return true
	}
	return slices.ContainsFunc(p.DropUniques, func(k catalog.Key) bool { return slices.Equal(k.Columns, columns) })
}

// Gone are the tables that are only in the old schema, those that refer to
// others first; fresh those only in the new one, those referred to first.
func (d *Writing) Gone() []*catalog.Table { return d.goneTables }

// Fresh are the new tables, in the order in which they come.
func (d *Writing) Fresh() []*catalog.Table { return d.freshTables }

func onlyIn(c, other *catalog.Catalog) []*catalog.Table {
	var list []*catalog.Table
	for i := range c.Tables {
		t := &c.Tables[i]
		if x, there := other.Table(t.Schema, t.Name); !t.IsView() && (!there || x.IsView()) {
			list = append(list, t)
		}
	}
	return list
}

// byReferences sorts tables so that each stands behind those that it refers to,
// as far as there is no circle.
func byReferences(list []*catalog.Table) []*catalog.Table {
	var sorted []*catalog.Table
	left := slices.Clone(list)
	waiting := map[string]*catalog.Table{}
	for _, t := range list {
		waiting[t.FullName()] = t
	}
	for len(left) > 0 {
		at := slices.IndexFunc(left, func(t *catalog.Table) bool {
			waits := func(schema, name string) bool {
				x := waiting[catalog.Qualify(schema, name)]
				return x != nil && x != t
			}
			return !slices.ContainsFunc(t.References, func(r catalog.Reference) bool { return waits(r.Schema, r.Table) }) &&
				!slices.ContainsFunc(t.Inherits, func(full string) bool { return waits(catalog.Split(full)) }) &&
				!slices.ContainsFunc(t.Columns, func(c catalog.Column) bool { return waits(catalog.Split(RowType(c.Type))) })
		})
		at = max(at, 0)
		sorted = append(sorted, left[at])
		delete(waiting, left[at].FullName())
		left = slices.Delete(left, at, at+1)
	}
	return sorted
}

// RowType is the full name of the type of several fields that a type is made of:
// a table's is one too.
func RowType(t catalog.Type) string {
	if t.Element != nil {
		return RowType(*t.Element)
	}
	return t.Composite
}

// Views are the views to drop, and those to make: what only one side has, what
// reads differently, and what reads tables or views that change under it.
func (d *Writing) Views(touched []string) (drop, fresh []*catalog.Table) {
	remade := map[string]bool{}
	var old []*catalog.Table
	for i := range d.Before.Tables {
		t := &d.Before.Tables[i]
		if !t.IsView() {
			continue
		}
		old = append(old, t)
		now, ok := d.After.Table(t.Schema, t.Name)
		same := ok && now.Kind == t.Kind && catalog.SameText(t.Definition, now.Definition) && reflect.DeepEqual(Names(t), Names(now))
		remade[t.FullName()] = !same || slices.ContainsFunc(touched, func(full string) bool { return MentionsTable(t, full) })
	}
	for again := true; again; {
		again = false
		for _, t := range old {
			for _, other := range old {
				if !remade[t.FullName()] && remade[other.FullName()] && other != t && MentionsTable(t, other.FullName()) {
					remade[t.FullName()], again = true, true
				}
			}
		}
	}
	drop = slices.DeleteFunc(ByMention(old), func(t *catalog.Table) bool { return !remade[t.FullName()] })
	slices.Reverse(drop)
	for i := range d.After.Tables {
		t := &d.After.Tables[i]
		was, there := d.Before.Table(t.Schema, t.Name)
		if t.IsView() && (!there || !was.IsView() || remade[t.FullName()]) {
			fresh = append(fresh, t)
		}
	}
	return drop, ByMention(fresh)
}

// Names are the columns of a table with their types.
func Names(t *catalog.Table) []string {
	var list []string
	for _, c := range t.Columns {
		list = append(list, c.Name+" "+c.Declared)
	}
	return list
}

// MentionsTable reports whether a view may read a table.
func MentionsTable(view *catalog.Table, full string) bool {
	_, name := catalog.Split(full)
	return Mentions(view.Definition, name)
}

// ByMention sorts views so that each stands behind those that it reads.
func ByMention(list []*catalog.Table) []*catalog.Table {
	texts := make([]Named, len(list))
	for i, t := range list {
		texts[i] = Named{t.Name, t.Definition}
	}
	sorted := slices.Clone(list)
	for i, x := range InOrder(texts) {
		at := slices.IndexFunc(list, func(t *catalog.Table) bool { return t.Name == x.Name && t.Definition == x.Text })
		sorted[i] = list[at]
	}
	return sorted
}

// Touched are the old names of the tables that change so that a view on them
// cannot stay.
func (d *Writing) Touched(pairs []*Pair) []string {
	var list []string
	for _, r := range d.Renames {
		if r.Thing == catalog.RenamedTable {
			list = append(list, r.From)
		}
	}
	for _, p := range pairs {
		retyped := slices.ContainsFunc(p.Altered, func(a Alteration) bool { return a.Retyped() || a.Computed() })
		renamed := slices.ContainsFunc(d.Renames, func(r catalog.Rename) bool {
			return r.Thing == catalog.RenamedColumn && r.In == p.Now.FullName()
		})
		if len(p.Dropped) > 0 || retyped || renamed || d.NewLabels(p.Now) {
			list = append(list, d.OldName(p.Now.FullName()))
		}
	}
	for _, t := range d.Gone() {
		list = append(list, d.OldName(t.FullName()))
	}
	return list
}

// NewLabels reports whether a type of a table's columns must be replaced by
// another of its name.
func (d *Writing) NewLabels(t *catalog.Table) bool {
	return slices.ContainsFunc(d.After.Enums, func(now catalog.Enum) bool {
		full := catalog.Qualify(now.Schema, now.Name)
		was, ok := d.At.Enum(full)
		return ok && !d.OnlyAdds(*was, now) && slices.ContainsFunc(t.Columns, func(c catalog.Column) bool { return UsesEnum(c.Type, full) })
	})
}

// OldName is what a table was called.
func (d *Writing) OldName(full string) string {
	for _, r := range d.Renames {
		if r.Thing == catalog.RenamedTable && r.To == full {
			return r.From
		}
	}
	return full
}

// Routines are those to drop, and those to make.
func (d *Writing) Routines() (drop, fresh []catalog.Routine) {
	find := func(list []catalog.Routine, r catalog.Routine) *catalog.Routine {
		i := slices.IndexFunc(list, func(x catalog.Routine) bool { return x.Kind == r.Kind && x.Signature() == r.Signature() })
		if i < 0 {
			return nil
		}
		return &list[i]
	}
	same := func(a, b catalog.Routine) bool {
		a.Comment, b.Comment, a.Session, b.Session = "", "", "", ""
		if a.Definition == "" || b.Definition == "" { // it is not known
			a.Definition, b.Definition = "", ""
		}
		a.Definition, b.Definition = OneLine(a.Definition), OneLine(b.Definition)
		return reflect.DeepEqual(a, b)
	}
	for _, r := range d.Before.Routines {
		if now := find(d.After.Routines, r); now == nil || !same(*now, r) {
			drop = append(drop, r)
		}
	}
	for _, r := range d.After.Routines {
		if was := find(d.Before.Routines, r); was == nil || !same(*was, r) {
			fresh = append(fresh, r)
		}
	}
	return drop, fresh
}
