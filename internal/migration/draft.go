package migration

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// draft is a script that is being made.
type draft struct {
	engine        string
	before, after *catalog.Catalog
	at            *catalog.Catalog // before with the new names
	given         *catalog.Catalog // after, without what only the other side knows
	renames       []catalog.Rename
	possible      []catalog.Rename // that nobody has settled
	decide        func(d *Decision) int
	decided       func(d *Decision) // is told of each, where an engine has to do with it
	script        *Script

	goneTables, freshTables []*catalog.Table // each in the order in which they go and come
	made                    map[string]bool  // names of what the script makes for itself
	all                     []*pair
	freed                   map[string]bool  // references of gone tables that were dropped ahead of them
	kept                    []*catalog.Table // gone tables that may stay under another name
}

func newDraft(before, after *catalog.Catalog, o Options) *draft {
	given := after
	at, after := catalog.Completed(before.Renamed(o.Renames), after)
	d := &draft{engine: before.Engine, before: before, after: after, given: given, at: at, renames: o.Renames, possible: o.Possible, decide: o.Decide}
	d.script = &Script{Engine: before.Engine}
	d.goneTables = byReferences(onlyIn(d.at, d.after))
	slices.Reverse(d.goneTables)
	d.freshTables = byReferences(onlyIn(d.after, d.at))
	return d
}

// quoteAlways is a name of PostgreSQL in quotes.
func quoteAlways(name string) string { return postgresName(name) }

func (d *draft) name(s string) string { return quote(d.engine, s) }

// names is a list of names.
func (d *draft) names(list []string) string {
	quoted := make([]string, len(list))
	for i, s := range list {
		if quoted[i] = d.name(s); strings.HasPrefix(s, "(") {
			quoted[i] = s // an expression
		}
	}
	return strings.Join(quoted, ", ")
}

// table is the name of a table with its schema.
func (d *draft) table(schema, name string) string {
	if schema == "" {
		return d.name(name)
	}
	return d.name(schema) + "." + d.name(name)
}

func (d *draft) tableOf(t *catalog.Table) string { return d.table(t.Schema, t.Name) }

// full is a full name in quotes where it needs them.
func (d *draft) full(name string) string { return d.table(catalog.Split(name)) }

// step adds statements.
func (d *draft) step(statements ...string) { d.noted("", statements...) }

// noted adds statements with a comment above them.
func (d *draft) noted(note string, statements ...string) {
	if len(statements) > 0 {
		d.script.Steps = append(d.script.Steps, Step{Note: note, SQL: statements})
	}
}

func (d *draft) note(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); !slices.Contains(d.script.Notes, text) {
		d.script.Notes = append(d.script.Notes, text)
	}
}

// check adds a condition that is tested before anything changes.
func (d *draft) check(list ...Check) {
	for _, c := range list {
		if unsaid(d.script.Checks, c) {
			d.script.Checks = append(d.script.Checks, c)
		}
	}
}

// decision adds what a person must decide.
func (d *draft) decision(question string, proposals ...Proposal) *Decision {
	x := &Decision{Number: len(d.script.Decisions) + 1, Question: question, Proposals: proposals, Taken: -1}
	if d.decide != nil {
		x.Taken = d.decide(x)
	}
	d.script.Decisions = append(d.script.Decisions, x)
	d.script.Steps = append(d.script.Steps, Step{Decision: x})
	if d.decided != nil {
		d.decided(x)
	}
	return x
}

// freeName is a name for something that the script makes, which neither schema
// has yet.
func (d *draft) freeName(schema, name string) string {
	taken := func(name string) bool {
		for _, c := range []*catalog.Catalog{d.before, d.at, d.after} {
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
func (d *draft) onlyOrder() bool {
	if d.engine != catalog.MySQL {
		return false
	}
	return slices.ContainsFunc(d.pairs(), func(p *pair) bool { return p.reordered })
}

// pair is a table before, with the new names, and after, and what is different
// in it.
type pair struct {
	old, now *catalog.Table

	added, dropped []*catalog.Column
	altered        []alteration

	dropUniques, addUniques       []catalog.Key
	dropReferences, addReferences []catalog.Reference
	dropChecks, addChecks         []catalog.Check
	dropIndexes, addIndexes       []catalog.Index
	constraintNames               [][2]string // constraints that only have another name
	indexNames                    [][2]string
	keyChanged, reordered         bool

	quiet  bool            // its triggers must not fire
	undone map[string]bool // triggers that are dropped, and made again at the end
}

// alteration is a column before and after.
type alteration struct{ was, now *catalog.Column }

func (a alteration) retyped() bool {
	return a.was.Declared != a.now.Declared || a.was.Domain != a.now.Domain || a.was.Collation != a.now.Collation || !reflect.DeepEqual(a.was.Type, a.now.Type)
}

func (a alteration) computed() bool {
	return a.was.Generated != a.now.Generated || a.was.Generated != "" && (a.retyped() || a.was.Stored != a.now.Stored || a.was.Virtual != a.now.Virtual)
}

// freed reports whether a column was computed and holds values of its own now.
func (a alteration) freed() bool { return a.was.Generated != "" && a.now.Generated == "" }

// pairs are the tables that are in both schemas.
func (d *draft) pairs() []*pair {
	var list []*pair
	for i := range d.at.Tables {
		old := &d.at.Tables[i]
		now, ok := d.after.Table(old.Schema, old.Name)
		if !ok || old.IsView() || now.IsView() {
			continue
		}
		list = append(list, d.pair(old, now))
	}
	for _, p := range list {
		p.dependReferences(list)
		if d.engine == catalog.Postgres {
			p.dependComputed()
		}
	}
	if d.engine == catalog.Postgres {
		for _, p := range list {
			p.renameExtras()
		}
	}
	d.all = list
	return list
}

// renameExtras has what is said of constraints and indexes follow their new
// names.
func (p *pair) renameExtras() {
	for _, n := range slices.Concat(p.constraintNames, p.indexNames) {
		for i := range p.old.Extras {
			e := &p.old.Extras[i]
			for _, text := range []*string{&e.Make, &e.Undo, &e.Name} {
				*text = catalog.ReplaceWord(*text, n[0], n[1])
			}
		}
	}
}

// dependComputed has the computed columns made again that read one whose type
// changes, with what is over them.
func (p *pair) dependComputed() {
	retyped := slices.DeleteFunc(slices.Clone(p.altered), func(a alteration) bool { return !a.retyped() })
	for i := range p.now.Columns {
		now := &p.now.Columns[i]
		was, there := p.old.Column(now.Name)
		reads := slices.ContainsFunc(retyped, func(a alteration) bool { return mentions(now.Generated, a.now.Name) })
		if now.Generated == "" || !there || was.Generated == "" || !reads || slices.ContainsFunc(p.altered, func(a alteration) bool { return a.now == now }) {
			continue
		}
		p.remake(was, now)
	}
}

// remake has a computed column dropped and made again, with what is over it.
func (p *pair) remake(was, now *catalog.Column) {
	p.dropped = append(p.dropped, was)
	p.added = append(p.added, now)
	for _, k := range p.now.Uniques {
		if slices.Contains(k.Columns, now.Name) {
			p.addUniques = append(p.addUniques, k)
		}
	}
	for _, in := range p.now.Indexes {
		if (slices.Contains(in.Columns, now.Name) || mentions(in.Where, now.Name)) && !slices.ContainsFunc(p.addIndexes, func(x catalog.Index) bool { return x.Name == in.Name }) {
			p.addIndexes = append(p.addIndexes, in)
		}
	}
	for _, c := range p.now.Checks {
		if mentions(c.Expr, now.Name) && !slices.Contains(p.addChecks, c) {
			p.addChecks = append(p.addChecks, c)
		}
	}
}

func (d *draft) pair(old, now *catalog.Table) *pair {
	p := &pair{old: old, now: now}
	var kept, wanted []string
	for i := range old.Columns {
		if _, ok := now.Column(old.Columns[i].Name); !ok {
			p.dropped = append(p.dropped, &old.Columns[i])
		} else {
			kept = append(kept, old.Columns[i].Name)
		}
	}
	for i := range now.Columns {
		column := &now.Columns[i]
		was, ok := old.Column(column.Name)
		switch {
		case !ok:
			p.added = append(p.added, column)
			continue // it goes where it belongs
		case !sameColumn(was, column):
			p.altered = append(p.altered, alteration{was, column})
		}
		wanted = append(wanted, column.Name)
	}
	p.reordered = !slices.Equal(kept, wanted)
	p.keyChanged = !sameKey(old.PrimaryKey, now.PrimaryKey)
	if !p.keyChanged && now.PrimaryKey != nil && now.PrimaryKey.Name != old.PrimaryKey.Name && d.engine == catalog.Postgres {
		p.constraintNames = append(p.constraintNames, [2]string{old.PrimaryKey.Name, now.PrimaryKey.Name})
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
func (d *draft) renamesConstraints() bool { return d.engine == catalog.Postgres }

// sameName holds where the name does not matter or is the same. SQLite knows the
// names of indexes only.
func (d *draft) sameName(a, b string) bool { return a == b || d.engine == catalog.SQLite }

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

func (d *draft) pairKeys(p *pair) {
	drop, add, names := match(p.old.Uniques, p.now.Uniques, func(a, b *catalog.Key) bool {
		return slices.Equal(a.Columns, b.Columns) && a.Deferrable == b.Deferrable && a.Index == b.Index && sameDefinition(a.Definition, b.Definition, a.Name, b.Name)
	}, func(k *catalog.Key) string { return k.Name }, d.sameName, d.renamesConstraints())
	p.dropUniques, p.addUniques = drop, add
	for _, n := range names {
		index := slices.ContainsFunc(p.old.Uniques, func(k catalog.Key) bool { return k.Name == n[0] && k.Index })
		if index {
			p.indexNames = append(p.indexNames, n)
		} else {
			p.constraintNames = append(p.constraintNames, n)
		}
	}
}

// sameDefinition reports whether two statements that make an index differ in its
// name at most.
func sameDefinition(a, b, nameA, nameB string) bool {
	return a == b || nameA != nameB && catalog.SameText(catalog.ReplaceWord(a, nameA, nameB), b)
}

func (d *draft) pairChecks(p *pair) {
	drop, add, names := match(p.old.Checks, p.now.Checks, func(a, b *catalog.Check) bool { return a.Expr == b.Expr && a.Options == b.Options },
		func(c *catalog.Check) string { return c.Name }, d.sameName, d.renamesConstraints())
	p.dropChecks, p.addChecks = drop, add
	p.constraintNames = append(p.constraintNames, names...)
}

func (d *draft) pairReferences(p *pair) {
	drop, add, names := match(p.old.References, p.now.References, sameReference,
		func(r *catalog.Reference) string { return r.Name }, d.sameName, d.renamesConstraints())
	p.dropReferences, p.addReferences = drop, add
	p.constraintNames = append(p.constraintNames, names...)
}

func sameReference(a, b *catalog.Reference) bool {
	x, y := *a, *b
	x.Name, y.Name = "", ""
	return reflect.DeepEqual(x, y)
}

func (d *draft) pairIndexes(p *pair) {
	drop, add, names := match(p.old.Indexes, p.now.Indexes, func(a, b *catalog.Index) bool {
		x, y := *a, *b
		x.Name, y.Name, x.Definition, y.Definition = "", "", "", ""
		return reflect.DeepEqual(x, y) && sameDefinition(a.Definition, b.Definition, a.Name, b.Name)
	}, func(in *catalog.Index) string { return in.Name }, func(a, b string) bool { return a == b }, d.renamesConstraints())
	p.dropIndexes, p.addIndexes = drop, add
	p.indexNames = append(p.indexNames, names...)
}

// dependReferences has the references made again whose columns change their
// type on either side, or whose target loses its key.
func (p *pair) dependReferences(all []*pair) {
	for _, r := range p.now.References {
		if slices.ContainsFunc(p.addReferences, func(x catalog.Reference) bool { return sameReference(&x, &r) }) {
			continue
		}
		again := p.retypes(r.Columns)
		for _, other := range all {
			if other.now.Schema == r.Schema && other.now.Name == r.Table {
				again = again || other.retypes(r.Target) || other.losesKey(r.Target)
			}
		}
		if !again {
			continue
		}
		i := slices.IndexFunc(p.old.References, func(x catalog.Reference) bool { return sameReference(&x, &r) })
		if i < 0 {
			continue
		}
		p.dropReferences = append(p.dropReferences, p.old.References[i])
		p.addReferences = append(p.addReferences, r)
		p.constraintNames = slices.DeleteFunc(p.constraintNames, func(n [2]string) bool { return n[0] == p.old.References[i].Name })
	}
}

func (p *pair) retypes(columns []string) bool {
	return slices.ContainsFunc(p.altered, func(a alteration) bool { return slices.Contains(columns, a.now.Name) && a.retyped() })
}

func (p *pair) losesKey(columns []string) bool {
	if p.keyChanged && p.old.PrimaryKey != nil && slices.Equal(p.old.PrimaryKey.Columns, columns) {
		return true
	}
	return slices.ContainsFunc(p.dropUniques, func(k catalog.Key) bool { return slices.Equal(k.Columns, columns) })
}

// gone are the tables that are only in the old schema, those that refer to
// others first; fresh those only in the new one, those referred to first.
func (d *draft) gone() []*catalog.Table { return d.goneTables }

func (d *draft) fresh() []*catalog.Table { return d.freshTables }

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
				!slices.ContainsFunc(t.Columns, func(c catalog.Column) bool { return waits(catalog.Split(rowType(c.Type))) })
		})
		at = max(at, 0)
		sorted = append(sorted, left[at])
		delete(waiting, left[at].FullName())
		left = slices.Delete(left, at, at+1)
	}
	return sorted
}

// rowType is the full name of the type of several fields that a type is made of:
// a table's is one too.
func rowType(t catalog.Type) string {
	if t.Element != nil {
		return rowType(*t.Element)
	}
	return t.Composite
}

// views are the views to drop, and those to make: what only one side has, what
// reads differently, and what reads tables or views that change under it.
func (d *draft) views(touched []string) (drop, fresh []*catalog.Table) {
	remade := map[string]bool{}
	var old []*catalog.Table
	for i := range d.before.Tables {
		t := &d.before.Tables[i]
		if !t.IsView() {
			continue
		}
		old = append(old, t)
		now, ok := d.after.Table(t.Schema, t.Name)
		same := ok && now.Kind == t.Kind && catalog.SameText(t.Definition, now.Definition) && reflect.DeepEqual(names(t), names(now))
		remade[t.FullName()] = !same || slices.ContainsFunc(touched, func(full string) bool { return mentionsTable(t, full) })
	}
	for again := true; again; {
		again = false
		for _, t := range old {
			for _, other := range old {
				if !remade[t.FullName()] && remade[other.FullName()] && other != t && mentionsTable(t, other.FullName()) {
					remade[t.FullName()], again = true, true
				}
			}
		}
	}
	drop = slices.DeleteFunc(byMention(old), func(t *catalog.Table) bool { return !remade[t.FullName()] })
	slices.Reverse(drop)
	for i := range d.after.Tables {
		t := &d.after.Tables[i]
		was, there := d.before.Table(t.Schema, t.Name)
		if t.IsView() && (!there || !was.IsView() || remade[t.FullName()]) {
			fresh = append(fresh, t)
		}
	}
	return drop, byMention(fresh)
}

func names(t *catalog.Table) []string {
	var list []string
	for _, c := range t.Columns {
		list = append(list, c.Name+" "+c.Declared)
	}
	return list
}

func mentionsTable(view *catalog.Table, full string) bool {
	_, name := catalog.Split(full)
	return mentions(view.Definition, name)
}

// byMention sorts views so that each stands behind those that it reads.
func byMention(list []*catalog.Table) []*catalog.Table {
	texts := make([]named, len(list))
	for i, t := range list {
		texts[i] = named{t.Name, t.Definition}
	}
	sorted := slices.Clone(list)
	for i, x := range inOrder(texts) {
		at := slices.IndexFunc(list, func(t *catalog.Table) bool { return t.Name == x.name && t.Definition == x.text })
		sorted[i] = list[at]
	}
	return sorted
}

// touched are the old names of the tables that change so that a view on them
// cannot stay.
func (d *draft) touched(pairs []*pair) []string {
	var list []string
	for _, r := range d.renames {
		if r.Thing == catalog.RenamedTable {
			list = append(list, r.From)
		}
	}
	for _, p := range pairs {
		retyped := slices.ContainsFunc(p.altered, func(a alteration) bool { return a.retyped() || a.computed() })
		renamed := slices.ContainsFunc(d.renames, func(r catalog.Rename) bool {
			return r.Thing == catalog.RenamedColumn && r.In == p.now.FullName()
		})
		if len(p.dropped) > 0 || retyped || renamed || d.newLabels(p.now) {
			list = append(list, d.oldName(p.now.FullName()))
		}
	}
	for _, t := range d.gone() {
		list = append(list, d.oldName(t.FullName()))
	}
	return list
}

// newLabels reports whether a type of a table's columns must be replaced by
// another of its name.
func (d *draft) newLabels(t *catalog.Table) bool {
	return slices.ContainsFunc(d.after.Enums, func(now catalog.Enum) bool {
		full := catalog.Qualify(now.Schema, now.Name)
		was, ok := d.at.Enum(full)
		return ok && !d.onlyAdds(*was, now) && slices.ContainsFunc(t.Columns, func(c catalog.Column) bool { return usesEnum(c.Type, full) })
	})
}

// oldName is what a table was called.
func (d *draft) oldName(full string) string {
	for _, r := range d.renames {
		if r.Thing == catalog.RenamedTable && r.To == full {
			return r.From
		}
	}
	return full
}

// routines are those to drop, and those to make.
func (d *draft) routines() (drop, fresh []catalog.Routine) {
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
		a.Definition, b.Definition = oneLine(a.Definition), oneLine(b.Definition)
		return reflect.DeepEqual(a, b)
	}
	for _, r := range d.before.Routines {
		if now := find(d.after.Routines, r); now == nil || !same(*now, r) {
			drop = append(drop, r)
		}
	}
	for _, r := range d.after.Routines {
		if was := find(d.before.Routines, r); was == nil || !same(*was, r) {
			fresh = append(fresh, r)
		}
	}
	return drop, fresh
}
