package drafting

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/migration"

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
func (d *postgres) planViews(pairs []*migration.Pair) viewPlan {
	hard := d.inTheWay(pairs)
	gone := map[string]bool{}
	var old []*catalog.Table
	for i := range d.At.Tables {
		t := &d.At.Tables[i]
		if !t.IsView() {
			continue
		}
		old = append(old, t)
		now, ok := d.After.Table(t.Schema, t.Name)
		same := ok && catalog.SameText(t.Definition, now.Definition)
		switch {
		case !ok || now.Kind != t.Kind, t.Kind == catalog.MaterializedView && (!same || !slices.Equal(migration.Names(t), migration.Names(now))), !replaces(t, now):
			gone[t.FullName()] = true
		default:
			gone[t.FullName()] = slices.ContainsFunc(hard, func(full string) bool { return migration.MentionsTable(t, full) })
		}
	}
	for again := true; again; {
		again = false
		for _, t := range old {
			for _, other := range old {
				if !gone[t.FullName()] && gone[other.FullName()] && other != t && migration.MentionsTable(t, d.OldName(other.FullName())) {
					gone[t.FullName()], again = true, true
				}
			}
		}
	}
	plan := viewPlan{drop: slices.DeleteFunc(migration.ByMention(old), func(t *catalog.Table) bool { return !gone[t.FullName()] })}
	slices.Reverse(plan.drop)
	for i := range d.After.Tables {
		t := &d.After.Tables[i]
		was, there := d.At.Table(t.Schema, t.Name)
		switch {
		case !t.IsView():
		case !there || !was.IsView() || gone[t.FullName()]:
			plan.fresh = append(plan.fresh, t)
		case !catalog.SameText(was.Definition, t.Definition) || !slices.Equal(migration.Names(was), migration.Names(t)):
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
func (d *postgres) inTheWay(pairs []*migration.Pair) []string {
	var list []string
	for _, p := range pairs {
		retyped := slices.ContainsFunc(p.Altered, func(a migration.Alteration) bool { return a.Retyped() || a.Computed() && !a.Freed() })
		if len(p.Dropped) > 0 || retyped || d.NewLabels(p.Now) {
			list = append(list, d.OldName(p.Now.FullName()))
		}
	}
	for _, t := range d.Gone() {
		list = append(list, d.OldName(t.FullName()))
	}
	for i := range d.At.Tables {
		t := &d.At.Tables[i]
		if now, ok := d.After.Table(t.Schema, t.Name); t.IsView() && ok && !now.IsView() {
			list = append(list, d.OldName(t.FullName()))
		}
	}
	return list
}

func (d *postgres) dropViews(list []*catalog.Table, routines []catalog.Routine) {
	var things []migration.Named
	drops := map[string]string{}
	for _, v := range list {
		x := migration.Named{Name: v.Name, Text: v.Definition + " /* view */"}
		things, drops[x.Name+x.Text] = append(things, x), "DROP "+strings.ToUpper(string(v.Kind))+" "+d.TableOf(v)
	}
	for _, r := range routines {
		x := migration.Named{Name: r.Name, Text: r.Definition + " /* " + r.Signature() + " */"}
		things, drops[x.Name+x.Text] = append(things, x), fmt.Sprintf("DROP %s %s%s", strings.ToUpper(r.Kind), d.Table(r.Schema, r.Name), argumentTypes(r))
	}
	var statements []string
	for _, x := range migration.InOrder(things) {
		statements = append(statements, drops[x.Name+x.Text])
	}
	slices.Reverse(statements)
	d.Noted("Made again below, where they are still wanted, with all that belongs to them.", statements...)
}

// renameViewColumns gives the columns of views that stay their new names.
func (d *postgres) renameViewColumns(plan viewPlan) {
	for _, now := range plan.replace {
		was, ok := d.At.Table(now.Schema, now.Name)
		if !ok {
			continue
		}
		for _, n := range viewRenames(was, now) {
			d.Step(fmt.Sprintf("ALTER VIEW %s RENAME COLUMN %s TO %s", d.TableOf(now), d.Name(n[0]), d.Name(n[1])))
		}
	}
}

// makeViews makes views and the routines that had to wait, each behind what it
// reads or calls.
func (d *postgres) makeViews(plan viewPlan, routines []catalog.Routine) {
	made := map[string]func(){}
	var list []migration.Named
	for _, v := range slices.Concat(plan.replace, plan.fresh) {
		list = append(list, migration.Named{Name: v.Name, Text: v.Definition})
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
		list = append(list, migration.Named{Name: r.Name, Text: needs + " /* " + key + " */"})
		made[r.Name+"\x00"+needs+" /* "+key+" */"] = func() { d.makeRoutines([]catalog.Routine{r}) }
	}
	for _, x := range migration.InOrder(list) {
		made[x.Name+"\x00"+x.Text]()
	}
}

func (d *postgres) makeView(v *catalog.Table, replace bool) {
	head := "CREATE"
	if replace {
		head = "CREATE OR REPLACE"
	}
	d.Step(fmt.Sprintf("%s %s %s AS\n%s", head, strings.ToUpper(string(v.Kind)), d.TableOf(v), strings.TrimSpace(v.Definition)))
	if replace {
		d.again = append(d.again, v.FullName())
		return
	}
	for _, k := range v.Uniques {
		d.Step(d.keyIndex(v, k))
	}
	for _, in := range v.Indexes {
		d.Step(d.index(v, in))
	}
	d.remade[v.FullName()] = true
}
