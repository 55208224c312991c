package migration

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// viewPlan says what becomes of the views of PostgreSQL. A view that the engine
// can replace where it stands keeps its rights, triggers and rules.
type viewPlan struct {
	drop    []*catalog.Table // under their new names, those that read others first
	replace []*catalog.Table // of the new schema
	fresh   []*catalog.Table // of the new schema: new ones, and those dropped before
}

// planViews finds the views that must go: what only the old schema has, what
// cannot be replaced, and what reads columns that change under it.
func (d *postgres) planViews(pairs []*pair) viewPlan {
	hard := d.inTheWay(pairs)
	gone := map[string]bool{}
	var old []*catalog.Table
	for i := range d.at.Tables {
		t := &d.at.Tables[i]
		if !t.IsView() {
			continue
		}
		old = append(old, t)
		now, ok := d.after.Table(t.Schema, t.Name)
		same := ok && catalog.SameText(t.Definition, now.Definition)
		switch {
		case !ok || now.Kind != t.Kind, t.Kind == catalog.MaterializedView && (!same || !slices.Equal(names(t), names(now))), !replaces(t, now):
			gone[t.FullName()] = true
		default:
			gone[t.FullName()] = slices.ContainsFunc(hard, func(full string) bool { return mentionsTable(t, full) })
		}
	}
	for again := true; again; {
		again = false
		for _, t := range old {
			for _, other := range old {
				if !gone[t.FullName()] && gone[other.FullName()] && other != t && mentionsTable(t, d.oldName(other.FullName())) {
					gone[t.FullName()], again = true, true
				}
			}
		}
	}
	plan := viewPlan{drop: slices.DeleteFunc(byMention(old), func(t *catalog.Table) bool { return !gone[t.FullName()] })}
	slices.Reverse(plan.drop)
	for i := range d.after.Tables {
		t := &d.after.Tables[i]
		was, there := d.at.Table(t.Schema, t.Name)
		switch {
		case !t.IsView():
		case !there || !was.IsView() || gone[t.FullName()]:
			plan.fresh = append(plan.fresh, t)
		case !catalog.SameText(was.Definition, t.Definition) || !slices.Equal(names(was), names(t)):
			plan.replace = append(plan.replace, t)
		}
	}
	return plan
}

// replaces reports whether a view can take the place of another one: it has its
// columns, in their order and of their types, and maybe more behind them.
func replaces(was, now *catalog.Table) bool {
	if len(now.Columns) < len(was.Columns) {
		return false
	}
	for i := range was.Columns {
		if was.Columns[i].Declared != now.Columns[i].Declared || was.Columns[i].Collation != now.Columns[i].Collation {
			return false
		}
	}
	return len(viewRenames(was, now)) >= 0 && permuted(was, now)
}

// permuted is false where the same names stand in another order, which is no
// renaming.
func permuted(was, now *catalog.Table) bool {
	for i := range was.Columns {
		_, stays := now.Column(was.Columns[i].Name)
		_, old := was.Column(now.Columns[i].Name)
		if was.Columns[i].Name != now.Columns[i].Name && (stays || old) {
			return false
		}
	}
	return true
}

// viewRenames are the columns of a view that are called otherwise.
func viewRenames(was, now *catalog.Table) [][2]string {
	var list [][2]string
	for i := range was.Columns {
		if i < len(now.Columns) && was.Columns[i].Name != now.Columns[i].Name {
			list = append(list, [2]string{was.Columns[i].Name, now.Columns[i].Name})
		}
	}
	return list
}

// inTheWay are the old names of the tables that change so that a view on them
// cannot stay: names alone do not count.
func (d *postgres) inTheWay(pairs []*pair) []string {
	var list []string
	for _, p := range pairs {
		retyped := slices.ContainsFunc(p.altered, func(a alteration) bool { return a.retyped() || a.computed() && !a.freed() })
		if len(p.dropped) > 0 || retyped || d.newLabels(p.now) {
			list = append(list, d.oldName(p.now.FullName()))
		}
	}
	for _, t := range d.gone() {
		list = append(list, d.oldName(t.FullName()))
	}
	for i := range d.at.Tables {
		t := &d.at.Tables[i]
		if now, ok := d.after.Table(t.Schema, t.Name); t.IsView() && ok && !now.IsView() {
			list = append(list, d.oldName(t.FullName()))
		}
	}
	return list
}

func (d *postgres) dropViews(list []*catalog.Table, routines []catalog.Routine) {
	var things []named
	drops := map[string]string{}
	for _, v := range list {
		x := named{v.Name, v.Definition + " /* view */"}
		things, drops[x.name+x.text] = append(things, x), "DROP "+strings.ToUpper(string(v.Kind))+" "+d.tableOf(v)
	}
	for _, r := range routines {
		x := named{r.Name, r.Definition + " /* " + r.Signature() + " */"}
		things, drops[x.name+x.text] = append(things, x), fmt.Sprintf("DROP %s %s%s", strings.ToUpper(r.Kind), d.table(r.Schema, r.Name), argumentTypes(r))
	}
	var statements []string
	for _, x := range inOrder(things) {
		statements = append(statements, drops[x.name+x.text])
	}
	slices.Reverse(statements)
	d.noted("Made again below, where they are still wanted, with all that belongs to them.", statements...)
}

// renameViewColumns gives the columns of views that stay their new names.
func (d *postgres) renameViewColumns(plan viewPlan) {
	for _, now := range plan.replace {
		was, ok := d.at.Table(now.Schema, now.Name)
		if !ok {
			continue
		}
		for _, n := range viewRenames(was, now) {
			d.step(fmt.Sprintf("ALTER VIEW %s RENAME COLUMN %s TO %s", d.tableOf(now), d.name(n[0]), d.name(n[1])))
		}
	}
}

// makeViews makes views and the routines that had to wait, each behind what it
// reads or calls.
func (d *postgres) makeViews(plan viewPlan, routines []catalog.Routine) {
	made := map[string]func(){}
	var list []named
	for _, v := range slices.Concat(plan.replace, plan.fresh) {
		list = append(list, named{v.Name, v.Definition})
		made[v.Name+"\x00"+v.Definition] = func() { d.makeView(v, slices.Contains(plan.replace, v)) }
	}
	for _, r := range routines {
		needs := r.Returns
		for _, a := range r.Arguments {
			needs += " " + a.Declared
		}
		if !strings.Contains(r.Definition, "$") && !strings.Contains(r.Definition, " AS '") { // its body is parsed when it is made
			needs = r.Definition
		}
		key := r.Signature()
		list = append(list, named{r.Name, needs + " /* " + key + " */"})
		made[r.Name+"\x00"+needs+" /* "+key+" */"] = func() { d.makeRoutines([]catalog.Routine{r}) }
	}
	for _, x := range inOrder(list) {
		made[x.name+"\x00"+x.text]()
	}
}

func (d *postgres) makeView(v *catalog.Table, replace bool) {
	head := "CREATE"
	if replace {
		head = "CREATE OR REPLACE"
	}
	d.step(fmt.Sprintf("%s %s %s AS\n%s", head, strings.ToUpper(string(v.Kind)), d.tableOf(v), strings.TrimSpace(v.Definition)))
	if replace {
		d.again = append(d.again, v.FullName())
		return
	}
	for _, k := range v.Uniques {
		d.step(d.keyIndex(v, k))
	}
	for _, in := range v.Indexes {
		d.step(d.index(v, in))
	}
	d.remade[v.FullName()] = true
}
