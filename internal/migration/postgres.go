package migration

import (
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// postgres drafts for PostgreSQL, in one transaction.
type postgres struct {
	*draft
	replaced []catalog.Enum // whose old types are in the way until what uses them is gone
}

func (d *postgres) write() {
	pairs := d.pairs()
	drop, remake := d.views(d.touched(pairs))
	dropRoutines, makeRoutines := d.routines()
	for _, r := range d.onReplacedTypes() {
		if !slices.ContainsFunc(dropRoutines, func(x catalog.Routine) bool { return x.Signature() == r.Signature() }) {
			dropRoutines, makeRoutines = append(dropRoutines, r), append(makeRoutines, r)
		}
	}
	drop, remake = d.viewsOnRoutines(drop, remake, dropRoutines)
	d.dropViews(drop)
	d.dropRoutines(dropRoutines, makeRoutines)
	d.makeSchemas()
	d.rename(pairs)
	d.makeTypes()
	for _, p := range pairs {
		d.dropParts(p)
	}
	d.freeKeys(pairs)
	d.relabel()
	early, late := d.whenMade(makeRoutines)
	d.makeRoutines(early)
	for _, t := range d.fresh() {
		d.makeTable(t)
	}
	for _, p := range pairs {
		d.columns(p)
	}
	for _, p := range pairs {
		d.addKeys(p)
	}
	for _, p := range pairs {
		for _, r := range p.addReferences {
			d.addReference(p.now, r, p.old.Rows)
		}
	}
	d.lateReferences()
	for _, p := range pairs {
		d.lose(p)
	}
	d.dropTables()
	d.dropTypes()
	d.makeRoutines(late)
	for _, v := range remake {
		d.makeView(v)
	}
	d.comments()
}

// viewsOnRoutines adds the views that call a routine that is dropped.
func (d *postgres) viewsOnRoutines(drop, remake []*catalog.Table, routines []catalog.Routine) (a, b []*catalog.Table) {
	for i := range d.before.Tables {
		t := &d.before.Tables[i]
		calls := t.IsView() && slices.ContainsFunc(routines, func(r catalog.Routine) bool { return mentions(t.Definition, r.Name) })
		if !calls || slices.Contains(drop, t) {
			continue
		}
		drop = append([]*catalog.Table{t}, drop...)
		if now, ok := d.after.Table(t.Schema, t.Name); ok {
			remake = append(remake, now)
		}
	}
	return drop, remake
}

func (d *postgres) dropViews(list []*catalog.Table) {
	var statements []string
	for _, v := range list {
		statements = append(statements, "DROP "+strings.ToUpper(string(v.Kind))+" "+d.tableOf(v))
	}
	d.noted("Made again below, where they are still wanted. Rights granted on them must be granted again.", statements...)
}

// argumentTypes are those that tell a routine from others of its name.
func argumentTypes(r catalog.Routine) string {
	_, types, _ := strings.Cut(r.Signature(), "(")
	return "(" + types
}

// replaceable reports whether a routine can be replaced where it stands.
func replaceable(old catalog.Routine, list []catalog.Routine) bool {
	return slices.ContainsFunc(list, func(r catalog.Routine) bool {
		return r.Kind == old.Kind && r.Signature() == old.Signature() && r.Returns == old.Returns && reflect.DeepEqual(r.Arguments, old.Arguments)
	})
}

// onReplacedTypes are the routines that take or give an enum of which another
// takes the place.
func (d *postgres) onReplacedTypes() []catalog.Routine {
	var list []catalog.Routine
	for _, now := range d.after.Enums {
		was, ok := d.at.Enum(catalog.Qualify(now.Schema, now.Name))
		if !ok || d.onlyAdds(*was, now) {
			continue
		}
		for _, r := range d.before.Routines {
			uses := mentions(r.Returns, now.Name) || slices.ContainsFunc(r.Arguments, func(a catalog.Argument) bool { return mentions(a.Declared, now.Name) })
			if uses && !slices.ContainsFunc(list, func(x catalog.Routine) bool { return x.Signature() == r.Signature() }) {
				list = append(list, r)
			}
		}
	}
	return list
}

func (d *postgres) dropRoutines(drop, fresh []catalog.Routine) {
	again := d.onReplacedTypes()
	for _, r := range drop {
		if !replaceable(r, fresh) || slices.ContainsFunc(again, func(x catalog.Routine) bool { return x.Signature() == r.Signature() }) {
			d.step(fmt.Sprintf("DROP %s %s%s", strings.ToUpper(r.Kind), d.table(r.Schema, r.Name), argumentTypes(r)))
		}
	}
}

// whenMade tells the routines that a table or a type calls from those that can
// wait until the tables are there.
func (d *postgres) whenMade(list []catalog.Routine) (early, late []catalog.Routine) {
	for _, r := range list {
		called := slices.ContainsFunc(d.after.Tables, func(t catalog.Table) bool {
			return !t.IsView() && (slices.ContainsFunc(t.Checks, func(c catalog.Check) bool { return mentions(c.Expr, r.Name) }) ||
				slices.ContainsFunc(t.Columns, func(c catalog.Column) bool {
					return mentions(c.Generated, r.Name) || c.Default != nil && mentions(c.Default.Text, r.Name)
				}))
		})
		if called {
			early = append(early, r)
		} else {
			late = append(late, r)
		}
	}
	return early, late
}

func (d *postgres) makeRoutines(list []catalog.Routine) {
	for _, r := range list {
		if r.Definition == "" {
			d.note("the %s %s, whose text is not known", r.Kind, r.Signature())
			continue
		}
		d.step(createRoutine.ReplaceAllString(r.Definition, "CREATE OR REPLACE $1"))
	}
}

// createRoutine is the head of a routine that may be there already.
var createRoutine = regexp.MustCompile(`(?i)^\s*CREATE\s+(?:OR\s+REPLACE\s+)?(FUNCTION|PROCEDURE)\b`)

func (d *postgres) makeSchemas() {
	known := map[string]bool{"": true}
	for _, t := range d.before.Tables {
		known[t.Schema] = true
	}
	for _, s := range append(d.before.Schemas, "pg_catalog") {
		known[s] = true
	}
	want := slices.Clone(d.after.Schemas)
	for _, t := range d.after.Tables {
		want = append(want, t.Schema)
	}
	for _, e := range d.after.Enums {
		want = append(want, e.Schema)
	}
	for _, s := range want {
		if !known[s] {
			known[s] = true
			d.step("CREATE SCHEMA IF NOT EXISTS " + d.name(s))
		}
	}
}

func (d *postgres) rename(pairs []*pair) {
	for _, r := range d.renames {
		switch r.Thing {
		case catalog.RenamedTable:
			d.renameTable(r)
		case catalog.RenamedEnum:
			d.renameThing("TYPE", r)
		}
	}
	for _, r := range d.renames {
		switch r.Thing {
		case catalog.RenamedColumn:
			d.step(fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s", d.full(r.In), d.name(r.From), d.name(r.To)))
		case catalog.RenamedLabel:
			d.step(fmt.Sprintf("ALTER TYPE %s RENAME VALUE %s TO %s", d.full(r.In), literal(d.engine, r.From), literal(d.engine, r.To)))
		}
	}
	for _, p := range pairs {
		for _, n := range p.constraintNames {
			d.step(fmt.Sprintf("ALTER TABLE %s RENAME CONSTRAINT %s TO %s", d.tableOf(p.now), d.name(n[0]), d.name(n[1])))
		}
		for _, n := range p.indexNames {
			d.step(fmt.Sprintf("ALTER INDEX %s RENAME TO %s", d.table(p.now.Schema, n[0]), d.name(n[1])))
		}
	}
}

func (d *postgres) renameTable(r catalog.Rename) {
	kind := "TABLE"
	if t, ok := d.after.Table(catalog.Split(r.To)); ok && t.IsView() {
		return // views are made again
	}
	d.renameThing(kind, r)
}

func (d *postgres) renameThing(kind string, r catalog.Rename) {
	schema, name := catalog.Split(r.From)
	newSchema, newName := catalog.Split(r.To)
	if schema != newSchema {
		d.step(fmt.Sprintf("ALTER %s %s SET SCHEMA %s", kind, d.table(schema, name), d.schemaName(newSchema)))
	}
	if name != newName {
		d.step(fmt.Sprintf("ALTER %s %s RENAME TO %s", kind, d.table(newSchema, name), d.name(newName)))
	}
}

// schemaName is a schema where one must be named; the connection's own is the
// public one unless somebody set it otherwise.
func (d *postgres) schemaName(schema string) string {
	if schema == "" {
		return "public"
	}
	return d.name(schema)
}

func (d *postgres) makeTypes() {
	for _, e := range d.after.Enums {
		if _, there := d.at.Enum(catalog.Qualify(e.Schema, e.Name)); !there {
			d.step(d.enumText(e, e.Name))
		}
	}
	for _, s := range d.after.Sequences {
		if !slices.Contains(d.at.Sequences, s) {
			d.step("CREATE SEQUENCE " + d.table(s.Schema, s.Name))
		}
	}
	var made []named
	for _, c := range d.after.Composites {
		if !slices.ContainsFunc(d.at.Composites, func(x catalog.Composite) bool { return x.Schema == c.Schema && x.Name == c.Name }) {
			fields := make([]string, len(c.Fields))
			for i, f := range c.Fields {
				fields[i] = d.name(f.Name) + " " + f.Declared
			}
			made = append(made, named{c.Name, fmt.Sprintf("CREATE TYPE %s AS (%s)", d.table(c.Schema, c.Name), strings.Join(fields, ", "))})
		}
	}
	for _, x := range d.after.Domains {
		if !slices.ContainsFunc(d.at.Domains, func(y catalog.Domain) bool { return y.Schema == x.Schema && y.Name == x.Name }) {
			made = append(made, named{x.Name, d.domainText(x)})
		}
	}
	for _, x := range inOrder(made) {
		d.step(x.text)
	}
	d.alterDomains()
	d.alterComposites()
}

// named is something with the text that makes it.
type named struct{ name, text string }

// inOrder sorts things so that each stands behind those that its text names.
func inOrder(list []named) []named {
	var sorted []named
	for left := slices.Clone(list); len(left) > 0; {
		at := slices.IndexFunc(left, func(x named) bool {
			return !slices.ContainsFunc(left, func(y named) bool { return y.name != x.name && mentions(x.text, y.name) })
		})
		at = max(at, 0)
		sorted = append(sorted, left[at])
		left = slices.Delete(left, at, at+1)
	}
	return sorted
}

func (d *postgres) enumText(e catalog.Enum, name string) string {
	labels := make([]string, len(e.Labels))
	for i, l := range e.Labels {
		labels[i] = literal(d.engine, l)
	}
	return fmt.Sprintf("CREATE TYPE %s AS ENUM (%s)", d.table(e.Schema, name), strings.Join(labels, ", "))
}

func (d *postgres) domainText(x catalog.Domain) string {
	text := fmt.Sprintf("CREATE DOMAIN %s AS %s", d.table(x.Schema, x.Name), x.Declared)
	if x.Default != nil {
		text += " DEFAULT " + d.domainDefault(x.Default)
	}
	if x.NotNull {
		text += " NOT NULL"
	}
	for _, c := range x.Checks {
		text += fmt.Sprintf(" CONSTRAINT %s CHECK (%s)", d.name(c.Name), c.Expr)
	}
	return text
}

func (d *postgres) domainDefault(def *catalog.Default) string {
	if def.Kind == catalog.Expression {
		return def.Text
	}
	return literal(d.engine, def.Text)
}

func (d *postgres) alterDomains() {
	for _, now := range d.after.Domains {
		i := slices.IndexFunc(d.at.Domains, func(y catalog.Domain) bool { return y.Schema == now.Schema && y.Name == now.Name })
		if i < 0 {
			continue
		}
		was := d.at.Domains[i]
		name := d.table(now.Schema, now.Name)
		if was.Declared != now.Declared {
			d.note("the domain %s becoming %s: make a new one, change the columns, drop the old one", now.Name, now.Declared)
		}
		for _, c := range was.Checks {
			if !slices.Contains(now.Checks, c) {
				d.step(fmt.Sprintf("ALTER DOMAIN %s DROP CONSTRAINT %s", name, d.name(c.Name)))
			}
		}
		for _, c := range now.Checks {
			if !slices.Contains(was.Checks, c) {
				d.step(fmt.Sprintf("ALTER DOMAIN %s ADD CONSTRAINT %s CHECK (%s)", name, d.name(c.Name), c.Expr))
			}
		}
		switch {
		case reflect.DeepEqual(was.Default, now.Default):
		case now.Default == nil:
			d.step(fmt.Sprintf("ALTER DOMAIN %s DROP DEFAULT", name))
		default:
			d.step(fmt.Sprintf("ALTER DOMAIN %s SET DEFAULT %s", name, d.domainDefault(now.Default)))
		}
		switch {
		case was.NotNull && !now.NotNull:
			d.step(fmt.Sprintf("ALTER DOMAIN %s DROP NOT NULL", name))
		case !was.NotNull && now.NotNull:
			d.step(fmt.Sprintf("ALTER DOMAIN %s SET NOT NULL", name))
		}
	}
}

func (d *postgres) alterComposites() {
	for _, now := range d.after.Composites {
		i := slices.IndexFunc(d.at.Composites, func(x catalog.Composite) bool { return x.Schema == now.Schema && x.Name == now.Name })
		if i < 0 {
			continue
		}
		was := d.at.Composites[i]
		find := func(list []catalog.CompositeField, name string) *catalog.CompositeField {
			k := slices.IndexFunc(list, func(f catalog.CompositeField) bool { return f.Name == name })
			if k < 0 {
				return nil
			}
			return &list[k]
		}
		alter := "ALTER TYPE " + d.table(now.Schema, now.Name)
		for _, f := range was.Fields {
			if find(now.Fields, f.Name) == nil {
				drop := fmt.Sprintf("%s DROP ATTRIBUTE %s", alter, d.name(f.Name))
				d.decision(fmt.Sprintf("The field %s of the type %s is gone. What becomes of its values?", f.Name, now.Name), Proposal{"drop it, its values are not needed", []string{drop}})
			}
		}
		for _, f := range now.Fields {
			switch old := find(was.Fields, f.Name); {
			case old == nil:
				d.step(fmt.Sprintf("%s ADD ATTRIBUTE %s %s", alter, d.name(f.Name), f.Declared))
			case old.Declared != f.Declared && d.inUse(now):
				d.note("the field %s of the type %s becoming %s, since tables use the type: make a new type, change the columns, drop the old one", f.Name, now.Name, f.Declared)
			case old.Declared != f.Declared:
				d.step(fmt.Sprintf("%s ALTER ATTRIBUTE %s TYPE %s", alter, d.name(f.Name), f.Declared))
			}
		}
	}
}

// inUse reports whether a column is of the type.
func (d *postgres) inUse(c catalog.Composite) bool {
	full := catalog.Qualify(c.Schema, c.Name)
	return slices.ContainsFunc(d.at.Tables, func(t catalog.Table) bool {
		return slices.ContainsFunc(t.Columns, func(x catalog.Column) bool { return rowType(x.Type) == full })
	})
}

// relabel changes the labels of enums. New ones are added where they belong;
// one that is gone, or another order, needs a new type in place of the old one.
func (d *postgres) relabel() {
	for _, now := range d.after.Enums {
		was, ok := d.at.Enum(catalog.Qualify(now.Schema, now.Name))
		switch {
		case !ok || slices.Equal(was.Labels, now.Labels):
		case d.onlyAdds(*was, now):
			d.addLabels(*was, now)
		default:
			d.replaceEnum(*was, now)
		}
	}
}

// onlyAdds reports whether all labels stay, in their order.
func (d *draft) onlyAdds(was, now catalog.Enum) bool {
	kept := slices.DeleteFunc(slices.Clone(now.Labels), func(l string) bool { return !slices.Contains(was.Labels, l) })
	return slices.Equal(kept, was.Labels)
}

// addLabels comes before anything is renamed, and uses the old names.
func (d *postgres) addLabels(was, now catalog.Enum) {
	var statements []string
	full := catalog.Qualify(now.Schema, now.Name)
	label := func(l string) string {
		for _, r := range d.renames {
			if r.Thing == catalog.RenamedLabel && r.In == full && r.To == l {
				l = r.From
			}
		}
		return literal(d.engine, l)
	}
	name := d.full(d.oldEnum(full))
	for i, l := range now.Labels {
		if slices.Contains(was.Labels, l) {
			continue
		}
		place := ""
		switch {
		case i > 0:
			place = " AFTER " + label(now.Labels[i-1])
		case len(was.Labels) > 0:
			place = " BEFORE " + label(was.Labels[0])
		}
		statements = append(statements, fmt.Sprintf("ALTER TYPE %s ADD VALUE %s%s", name, literal(d.engine, l), place))
	}
	// A new label can be used only when its transaction has ended.
	d.script.Steps = append(d.script.Steps, Step{Note: "Before the transaction, in which a new label could not be used yet.", SQL: statements, Place: Ahead})
}

func (d *postgres) oldEnum(full string) string {
	for _, r := range d.renames {
		if r.Thing == catalog.RenamedEnum && r.To == full {
			return r.From
		}
	}
	return full
}

// enumColumns are the columns of a type that keep it.
func (d *postgres) enumColumns(full string) []alteration {
	var list []alteration
	for i := range d.at.Tables {
		t := &d.at.Tables[i]
		now, ok := d.after.Table(t.Schema, t.Name)
		if !ok || t.IsView() {
			continue
		}
		for k := range t.Columns {
			is, there := now.Column(t.Columns[k].Name)
			if there && usesEnum(t.Columns[k].Type, full) && usesEnum(is.Type, full) {
				list = append(list, alteration{&t.Columns[k], is})
			}
		}
	}
	return list
}

func usesEnum(t catalog.Type, full string) bool {
	return t.Enum == full || t.Element != nil && usesEnum(*t.Element, full)
}

func (d *postgres) tableWith(c *catalog.Column, in *catalog.Catalog) *catalog.Table {
	for i := range in.Tables {
		for k := range in.Tables[i].Columns {
			if &in.Tables[i].Columns[k] == c {
				return &in.Tables[i]
			}
		}
	}
	return &catalog.Table{}
}

func (d *postgres) replaceEnum(was, now catalog.Enum) {
	full := catalog.Qualify(now.Schema, now.Name)
	columns := d.enumColumns(full)
	for _, label := range was.Labels {
		if slices.Contains(now.Labels, label) || len(now.Labels) == 0 {
			continue
		}
		var other string
		for _, l := range now.Labels {
			if slices.Contains(was.Labels, l) {
				other = l
				break
			}
		}
		var moves []string
		for _, c := range columns {
			if c.was.Type.Kind == catalog.EnumKind && other != "" {
				moves = append(moves, fmt.Sprintf("UPDATE %s SET %s = %s WHERE %[2]s = %[4]s", d.tableOf(d.tableWith(c.was, d.at)), d.name(c.was.Name), literal(d.engine, other), literal(d.engine, label)))
			}
		}
		proposals := []Proposal{{"the script stops if a row has it", nil}}
		if len(moves) > 0 {
			proposals = append(proposals, Proposal{"they get another one", moves})
		}
		d.decision(fmt.Sprintf("The label %s of %s is gone. What do rows get that have it?", label, full), proposals...)
	}
	fresh := d.table(now.Schema, now.Name)
	d.step(fmt.Sprintf("ALTER TYPE %s RENAME TO %s", fresh, d.name(now.Name+oldType)), d.enumText(now, now.Name))
	var rewrites []string
	for _, c := range columns {
		table, column := d.tableOf(d.tableWith(c.was, d.at)), d.name(c.was.Name)
		suffix, text := "", "text"
		if c.was.Type.Kind == catalog.Array {
			suffix, text = "[]", "text[]"
		}
		if c.was.Default != nil {
			rewrites = append(rewrites, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s DROP DEFAULT", table, column))
		}
		rewrites = append(rewrites, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s TYPE %s%s USING %[2]s::%[5]s::%[3]s%[4]s", table, column, fresh, suffix, text))
		if c.now.Default != nil && reflect.DeepEqual(c.was.Default, c.now.Default) {
			rewrites = append(rewrites, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET DEFAULT %s", table, column, d.defaultText(c.now)))
		}
	}
	d.noted("This rewrites the tables, which nobody can read or write meanwhile.", rewrites...)
	d.replaced = append(d.replaced, now)
}

// oldType stands behind the name of a type that another takes the place of.
const oldType = "_old"

// dropParts drops constraints, indexes and computed columns that change.
func (d *postgres) dropParts(p *pair) {
	table := d.tableOf(p.now)
	drop := func(name string) { d.step(fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", table, d.name(name))) }
	for _, r := range p.dropReferences {
		if !p.goes(r.Name, r.Columns) {
			drop(r.Name)
		}
	}
	for _, c := range p.dropChecks {
		drop(c.Name)
	}
	for _, in := range p.dropIndexes {
		if p.goes(in.Name, in.Columns) {
			continue
		}
		d.step("DROP INDEX " + d.table(p.now.Schema, in.Name))
	}
	for _, a := range p.altered {
		if a.computed() && a.was.Generated != "" {
			d.step(fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", table, d.name(a.was.Name)))
		}
	}
	for _, c := range p.dropped {
		if c.Generated != "" {
			d.step(fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", table, d.name(c.Name)))
		}
	}
}

// goes reports whether one of the columns is dropped, which takes along what is
// over it: so the table is locked only then, and not while its values are carried
// elsewhere. What gives its name to something new must go before.
func (p *pair) goes(name string, columns []string) bool {
	again := slices.ContainsFunc(p.addReferences, func(r catalog.Reference) bool { return r.Name == name }) ||
		slices.ContainsFunc(p.addUniques, func(k catalog.Key) bool { return k.Name == name }) ||
		slices.ContainsFunc(p.addIndexes, func(in catalog.Index) bool { return in.Name == name })
	return !again && slices.ContainsFunc(p.dropped, func(c *catalog.Column) bool { return c.Generated == "" && slices.Contains(columns, c.Name) })
}

// freeKeys drops the references of tables that are gone to keys and columns that
// change, which they would hold.
func (d *draft) freeKeys(pairs []*pair) {
	word := "CONSTRAINT"
	if d.engine == catalog.MySQL {
		word = "FOREIGN KEY"
	}
	for _, t := range d.gone() {
		for _, r := range t.References {
			for _, p := range pairs {
				if p.now.Schema == r.Schema && p.now.Name == r.Table && (p.retypes(r.Target) || p.losesKey(r.Target)) {
					d.step(fmt.Sprintf("ALTER TABLE %s DROP %s %s", d.tableOf(t), word, d.name(r.Name)))
				}
			}
		}
	}
}

// dropKeys comes behind the references of all tables.
func (d *postgres) dropKeys(p *pair) {
	table := d.tableOf(p.now)
	for _, k := range p.dropUniques {
		if p.goes(k.Name, k.Columns) {
			continue
		}
		if k.Index {
			d.step("DROP INDEX " + d.table(p.now.Schema, k.Name))
		} else {
			d.step(fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", table, d.name(k.Name)))
		}
	}
	if p.keyChanged && p.old.PrimaryKey != nil {
		d.step(fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", table, d.name(p.old.PrimaryKey.Name)))
	}
}

// column is a column as it is declared; mandatory ones may be left nullable for
// now.
func (d *postgres) column(c *catalog.Column, notNull bool) string {
	text := d.name(c.Name) + " " + c.Declared
	if c.Collation != "" {
		text += ` COLLATE "` + c.Collation + `"`
	}
	switch def := c.Default; {
	case c.Generated != "":
		text += fmt.Sprintf(" GENERATED ALWAYS AS (%s) STORED", c.Generated)
	case def == nil:
	case def.Kind != catalog.Identity:
		if c.Domain == "" || !d.domainHas(c) {
			text += " DEFAULT " + d.defaultText(c)
		}
	case def.Sequence != "":
		text += fmt.Sprintf(" DEFAULT nextval(%s)", literal(d.engine, d.full(def.Sequence)))
	case def.Always:
		text += " GENERATED ALWAYS AS IDENTITY"
	default:
		text += " GENERATED BY DEFAULT AS IDENTITY"
	}
	if notNull && !c.Nullable && !d.domainNotNull(c) {
		text += " NOT NULL"
	}
	return text
}

func (d *postgres) domain(c *catalog.Column) (catalog.Domain, bool) {
	i := slices.IndexFunc(d.after.Domains, func(x catalog.Domain) bool { return c.Domain != "" && catalog.Qualify(x.Schema, x.Name) == c.Domain })
	if i < 0 {
		return catalog.Domain{}, false
	}
	return d.after.Domains[i], true
}

func (d *postgres) domainHas(c *catalog.Column) bool {
	x, ok := d.domain(c)
	return ok && reflect.DeepEqual(x.Default, c.Default)
}

func (d *postgres) domainNotNull(c *catalog.Column) bool {
	x, ok := d.domain(c)
	return ok && x.NotNull
}

// makeTable makes a table with all that is in it, but for references to tables
// that are not there yet.
func (d *postgres) makeTable(t *catalog.Table) {
	var parts []string
	for i := range t.Columns {
		if c := &t.Columns[i]; !d.inherited(t, c.Name) {
			parts = append(parts, d.inline(t, c))
		}
	}
	parts = append(parts, d.keys(t)...)
	for _, c := range t.Checks {
		parts = append(parts, fmt.Sprintf("CONSTRAINT %s CHECK (%s)", d.name(c.Name), c.Expr))
	}
	for _, r := range t.References {
		if d.early(t, r) && !d.plainly(t, r.Name, r.Columns, "fkey") {
			parts = append(parts, fmt.Sprintf("CONSTRAINT %s %s", d.name(r.Name), d.referenceText(r)))
		}
	}
	unlogged, tail := "", ""
	if slices.Contains(t.Options, "unlogged") {
		unlogged = "UNLOGGED "
	}
	if len(t.Inherits) > 0 {
		tail = " INHERITS (" + d.fullNames(t.Inherits) + ")"
	}
	if t.Partition != "" {
		tail += " PARTITION BY " + t.Partition
		d.note("the parts of the table %s, which must be made by hand", t.FullName())
	}
	if slices.Contains(t.Options, "foreign") {
		d.note("the foreign table %s, whose server must be named", t.FullName())
		return
	}
	d.step(fmt.Sprintf("CREATE %sTABLE %s (\n    %s\n)%s", unlogged, d.tableOf(t), strings.Join(parts, ",\n    "), tail))
	for _, k := range t.Uniques {
		if k.Index {
			d.step(d.keyIndex(t, k))
		}
	}
	for _, in := range t.Indexes {
		d.step(d.index(t, in))
	}
}

func (d *postgres) fullNames(list []string) string {
	quoted := make([]string, len(list))
	for i, full := range list {
		quoted[i] = d.full(full)
	}
	return strings.Join(quoted, ", ")
}

func (d *postgres) inherited(t *catalog.Table, column string) bool {
	return slices.ContainsFunc(t.Inherits, func(full string) bool {
		parent, ok := d.after.Table(catalog.Split(full))
		if !ok {
			return false
		}
		_, has := parent.Column(column)
		return has
	})
}

// plainly reports whether a constraint can stand behind its column: the server
// then gives it the name that it has.
func (d *postgres) plainly(t *catalog.Table, name string, columns []string, label string) bool {
	if len(columns) != 1 || d.inherited(t, columns[0]) || len(name) > 60 { // a longer one may be shortened
		return false
	}
	return name == t.Name+"_"+columns[0]+"_"+label || label == "pkey" && name == t.Name+"_pkey"
}

// inline is a column of a new table, with the constraints that are its own.
func (d *postgres) inline(t *catalog.Table, c *catalog.Column) string {
	own := func(columns []string) bool { return len(columns) == 1 && columns[0] == c.Name }
	key := t.PrimaryKey != nil && own(t.PrimaryKey.Columns) && !t.PrimaryKey.Deferrable && d.plainly(t, t.PrimaryKey.Name, t.PrimaryKey.Columns, "pkey")
	text := d.column(c, !key)
	if key {
		text += " PRIMARY KEY"
	}
	for _, k := range t.Uniques {
		if own(k.Columns) && !k.Index && !k.Deferrable && d.plainly(t, k.Name, k.Columns, "key") {
			text += " UNIQUE"
		}
	}
	for _, r := range t.References {
		if own(r.Columns) && d.early(t, r) && d.plainly(t, r.Name, r.Columns, "fkey") {
			text += strings.TrimPrefix(d.referenceText(r), "FOREIGN KEY ("+d.name(c.Name)+")")
		}
	}
	return text
}

// keys are the keys of a new table that stand by themselves.
func (d *postgres) keys(t *catalog.Table) []string {
	var parts []string
	if k := t.PrimaryKey; k != nil && (k.Deferrable || !d.plainly(t, k.Name, k.Columns, "pkey")) {
		parts = append(parts, d.keyText("PRIMARY KEY", *k))
	}
	for _, k := range t.Uniques {
		if !k.Index && (k.Deferrable || !d.plainly(t, k.Name, k.Columns, "key")) {
			parts = append(parts, d.keyText("UNIQUE", k))
		}
	}
	return parts
}

func (d *postgres) keyText(kind string, k catalog.Key) string {
	text := fmt.Sprintf("CONSTRAINT %s %s (%s)", d.name(k.Name), kind, d.names(k.Columns))
	if k.Deferrable {
		text += " DEFERRABLE"
	}
	return text
}

func (d *postgres) keyIndex(t *catalog.Table, k catalog.Key) string {
	return fmt.Sprintf("CREATE UNIQUE INDEX %s ON %s (%s)", d.name(k.Name), d.tableOf(t), d.names(k.Columns))
}

func (d *postgres) index(t *catalog.Table, in catalog.Index) string {
	if in.Definition != "" {
		return in.Definition
	}
	unique, method, where := "", "", ""
	if in.Unique {
		unique = "UNIQUE "
	}
	if in.Method != "" {
		method = " USING " + in.Method
	}
	if in.Where != "" {
		where = " WHERE " + in.Where
	}
	return fmt.Sprintf("CREATE %sINDEX %s ON %s%s (%s)%s", unique, d.name(in.Name), d.tableOf(t), method, d.names(in.Columns), where)
}

func (d *draft) referenceText(r catalog.Reference) string {
	text := fmt.Sprintf("FOREIGN KEY (%s) REFERENCES %s (%s)", d.names(r.Columns), d.table(r.Schema, r.Table), d.names(r.Target))
	if r.OnUpdate != "" {
		text += " ON UPDATE " + strings.ToUpper(r.OnUpdate)
	}
	if r.OnDelete != "" {
		text += " ON DELETE " + strings.ToUpper(r.OnDelete)
	}
	if r.Deferrable && d.engine == catalog.Postgres {
		text += " DEFERRABLE"
	}
	return text
}

// early reports whether what a new table refers to is there when it is made, with
// the key that it refers to.
func (d *draft) early(t *catalog.Table, r catalog.Reference) bool {
	if r.Schema == t.Schema && r.Table == t.Name {
		return true
	}
	for _, other := range d.fresh() {
		if other == t {
			break
		}
		if other.Schema == r.Schema && other.Name == r.Table {
			return true
		}
	}
	old, ok := d.at.Table(r.Schema, r.Table)
	if !ok || old.IsView() {
		return false
	}
	keyed := old.PrimaryKey != nil && slices.Equal(old.PrimaryKey.Columns, r.Target) || slices.ContainsFunc(old.Uniques, func(k catalog.Key) bool { return slices.Equal(k.Columns, r.Target) })
	now, ok := d.after.Table(r.Schema, r.Table)
	if !ok || !keyed {
		return false
	}
	p := d.pair(old, now)
	return !p.retypes(r.Target) && !p.losesKey(r.Target)
}

// lateReferences are those of new tables that had to wait.
func (d *postgres) lateReferences() {
	for _, t := range d.fresh() {
		for _, r := range t.References {
			if !d.early(t, r) {
				d.addReference(t, r, 0)
			}
		}
	}
}

// large is the number of rows from which on a lock or a rewrite hurts.
const large = 100_000

// big reports whether a table may be large; the engine does not always know.
func big(rows int64) bool { return rows < 0 || rows >= large }

func (d *postgres) addReference(t *catalog.Table, r catalog.Reference, rows int64) {
	note := ""
	if big(rows) {
		note = fmt.Sprintf("Every row is looked at, and writers of both tables wait. On a large table add it with\nNOT VALID, and behind the transaction ALTER TABLE %s VALIDATE CONSTRAINT %s.", d.tableOf(t), d.name(r.Name))
	}
	if rows == 0 && t.Rows <= 0 {
		note = ""
	}
	d.noted(note, fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s %s", d.tableOf(t), d.name(r.Name), d.referenceText(r)))
}

// columns adds, changes and fills.
func (d *postgres) columns(p *pair) {
	d.dropKeys(p)
	table := d.tableOf(p.now)
	_, into := p.split()
	var later []string
	for _, c := range p.added {
		if c.Generated != "" {
			continue
		}
		wait := mandatory(c) || slices.Contains(into, c) && !c.Nullable
		d.noted(d.noteOnDefault(p, c), fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", table, d.column(c, !wait)))
		if wait {
			later = append(later, c.Name)
		}
	}
	d.decideNew(p)
	for _, name := range later {
		d.setNotNull(p, name)
	}
	d.decideNulls(p)
	for _, a := range p.altered {
		d.alter(p, a)
	}
	for _, c := range p.added {
		if c.Generated != "" {
			d.computed(p, c)
		}
	}
	for _, a := range p.altered {
		if a.computed() && a.now.Generated != "" {
			d.computed(p, a.now)
		}
	}
}

func (d *postgres) computed(p *pair, c *catalog.Column) {
	note := ""
	if big(p.old.Rows) {
		note = "This rewrites the table, which nobody can read or write meanwhile."
	}
	d.noted(note, fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", d.tableOf(p.now), d.column(c, true)))
}

// volatile are functions whose values the engine must compute for each row.
var volatile = []string{"random", "gen_random_uuid", "uuid_generate_v4", "clock_timestamp", "nextval", "timeofday"}

func (d *postgres) noteOnDefault(p *pair, c *catalog.Column) string {
	if !big(p.old.Rows) || c.Default == nil {
		return ""
	}
	each := c.Default.Kind == catalog.Identity || slices.ContainsFunc(volatile, func(f string) bool { return mentions(c.Default.Text, f) })
	if !each {
		return ""
	}
	return "Each row gets a value of its own, so this rewrites the table, which nobody can read or\nwrite meanwhile. On a large table add the column without the default, set it, and fill\nthe rows in portions."
}

func (d *postgres) setNotNull(p *pair, column string) {
	note := ""
	if big(p.old.Rows) {
		note = fmt.Sprintf("All rows are looked at under a lock. On a large table first ADD CONSTRAINT … CHECK (%s IS NOT NULL)\nNOT VALID, then VALIDATE it in a transaction of its own; this then takes no time.", d.name(column))
	}
	d.noted(note, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET NOT NULL", d.tableOf(p.now), d.name(column)))
}

// alter changes a column that stays.
func (d *postgres) alter(p *pair, a alteration) {
	if a.computed() {
		if a.now.Generated == "" { // it was computed, and is a column of its own now
			d.step(fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", d.tableOf(p.now), d.column(a.now, a.now.Nullable || a.now.Default != nil)))
			if mandatory(a.now) {
				alone := &pair{old: p.old, now: p.now, added: []*catalog.Column{a.now}}
				d.decideNew(alone)
				d.setNotNull(p, a.now.Name)
			}
		} else if a.was.Generated == "" {
			d.decideLost(p, a.was, fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", d.tableOf(p.now), d.name(a.was.Name)))
		}
		return
	}
	alter := fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s ", d.tableOf(p.now), d.name(a.now.Name))
	otherDefault := !reflect.DeepEqual(a.was.Default, a.now.Default)
	retyped := a.retyped()
	if a.was.Default != nil && (otherDefault || retyped && a.was.Default.Kind != catalog.Identity) {
		d.dropDefault(alter, a.was.Default)
	}
	if retyped {
		d.retype(p, a, alter)
	}
	switch {
	case a.was.Nullable && !a.now.Nullable:
		if !d.domainNotNull(a.now) {
			d.setNotNull(p, a.now.Name)
		}
	case !a.was.Nullable && a.now.Nullable && !slices.Contains(keyColumns(p.now), a.now.Name):
		d.step(alter + "DROP NOT NULL")
	}
	if a.now.Default != nil && (otherDefault || retyped && a.now.Default.Kind != catalog.Identity) {
		d.setDefault(p, a, alter)
	}
}

func keyColumns(t *catalog.Table) []string {
	if t.PrimaryKey == nil {
		return nil
	}
	return t.PrimaryKey.Columns
}

func (d *postgres) dropDefault(alter string, def *catalog.Default) {
	if def.Kind == catalog.Identity {
		d.step(alter+"DROP IDENTITY IF EXISTS", alter+"DROP DEFAULT")
		return
	}
	d.step(alter + "DROP DEFAULT")
}

func (d *postgres) setDefault(p *pair, a alteration, alter string) {
	def := a.now.Default
	switch {
	case def.Kind != catalog.Identity:
		if !d.domainHas(a.now) {
			d.step(alter + "SET DEFAULT " + d.defaultText(a.now))
		}
	case def.Sequence != "":
		d.step(alter + fmt.Sprintf("SET DEFAULT nextval(%s)", literal(d.engine, d.full(def.Sequence))))
	default:
		kind := "BY DEFAULT"
		if def.Always {
			kind = "ALWAYS"
		}
		table, column := d.tableOf(p.now), d.name(a.now.Name)
		d.step(alter+"ADD GENERATED "+kind+" AS IDENTITY",
			fmt.Sprintf("SELECT setval(pg_get_serial_sequence(%s, %s), coalesce(max(%s), 0) + 1, false) FROM %s", literal(d.engine, table), literal(d.engine, a.now.Name), column, table))
	}
}

// retype changes a type, after a decision where values could be lost.
func (d *postgres) retype(p *pair, a alteration, alter string) {
	change := alter + "TYPE " + a.now.Declared
	if a.now.Collation != "" {
		change += ` COLLATE "` + a.now.Collation + `"`
	}
	column := d.name(a.now.Name)
	if a.was.Type.Kind != a.now.Type.Kind || a.was.Type.Enum != a.now.Type.Enum {
		text := ""
		if a.was.Type.Kind == catalog.EnumKind && a.now.Type.Kind == catalog.EnumKind {
			text = "::text"
		}
		change += fmt.Sprintf(" USING %s%s::%s", column, text, a.now.Declared)
	}
	note := ""
	if big(p.old.Rows) && !inPlace(a) {
		note = "This rewrites the table, which nobody can read or write meanwhile. On a large table add a\nsecond column, fill it in portions, and change their names in a short transaction."
	}
	if widens(a.was.Type, a.now.Type) && !coarser(a) {
		d.noted(note, change)
		return
	}
	table := d.tableOf(p.now)
	message := literal(d.engine, fmt.Sprintf("a value of %s.%s does not fit into %s", p.now.FullName(), a.now.Name, a.now.Declared))
	d.decision(fmt.Sprintf("%s of %s becomes %s, which not every %s fits into. What becomes of the values?", a.now.Name, p.now.FullName(), a.now.Declared, a.was.Declared),
		Proposal{"the script stops where one would not be the same afterwards", []string{"DO " + dollars(fmt.Sprintf(`BEGIN
    IF EXISTS (SELECT 1 FROM %s WHERE %s::%s::%s::text IS DISTINCT FROM %[2]s::text) THEN
        RAISE EXCEPTION USING MESSAGE = %[5]s;
    END IF;
END`, table, column, a.now.Declared, a.was.Declared, message)), change}},
		Proposal{"they are rounded or cut where they must be", []string{fmt.Sprintf("%sTYPE %s USING %s::%[2]s", alter, a.now.Declared, column)}},
		Proposal{"they are dropped", []string{fmt.Sprintf("%sTYPE %s USING NULL::%[2]s", alter, a.now.Declared)}})
	if note != "" {
		d.script.Steps[len(d.script.Steps)-1].Note = note
	}
}

// dollars quotes a body by a tag that is not in it.
func dollars(body string) string {
	tag := "$$"
	for strings.Contains(body, tag) {
		tag = "$x" + tag[1:]
	}
	return tag + " " + body + " " + tag
}

// coarser reports whether a time has fewer digits of the second.
func coarser(a alteration) bool {
	digit := func(declared string) string {
		_, after, ok := strings.Cut(declared, "(")
		if !ok {
			return ""
		}
		n, _, _ := strings.Cut(after, ")")
		return n
	}
	switch a.was.Type.Kind {
	case catalog.Time, catalog.Timestamp, catalog.TimestampTZ, catalog.Interval:
		x, y := digit(a.was.Declared), digit(a.now.Declared)
		return x != y && y != "" && (x == "" || x > y)
	}
	return false
}

// inPlace reports whether the server changes the type without touching the rows.
func inPlace(a alteration) bool {
	sized := func(t catalog.Type) bool { return t.Kind == catalog.Text || t.Kind == catalog.Decimal }
	if a.was.Type.Kind != a.now.Type.Kind || !sized(a.was.Type) || !widens(a.was.Type, a.now.Type) {
		return false
	}
	return a.was.Type.Kind == catalog.Text && !strings.HasPrefix(a.was.Declared+a.now.Declared, "character(") || a.was.Type.Scale == a.now.Type.Scale
}

// addKeys adds keys, checks and indexes.
func (d *postgres) addKeys(p *pair) {
	table := d.tableOf(p.now)
	big := big(p.old.Rows)
	if p.keyChanged && p.now.PrimaryKey != nil {
		d.noted(d.noteOnKey(big, p, *p.now.PrimaryKey, "PRIMARY KEY"), fmt.Sprintf("ALTER TABLE %s ADD %s", table, d.keyText("PRIMARY KEY", *p.now.PrimaryKey)))
	}
	for _, k := range p.addUniques {
		if k.Index {
			d.noted(d.noteOnIndex(big), d.keyIndex(p.now, k))
		} else {
			d.noted(d.noteOnKey(big, p, k, "UNIQUE"), fmt.Sprintf("ALTER TABLE %s ADD %s", table, d.keyText("UNIQUE", k)))
		}
	}
	for _, c := range p.addChecks {
		note := ""
		if big {
			note = fmt.Sprintf("Every row is looked at under a lock. On a large table add it with NOT VALID, and behind the\ntransaction ALTER TABLE %s VALIDATE CONSTRAINT %s.", table, d.name(c.Name))
		}
		d.noted(note, fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s CHECK (%s)", table, d.name(c.Name), c.Expr))
	}
	for _, in := range p.addIndexes {
		d.noted(d.noteOnIndex(big), d.index(p.now, in))
	}
}

func (d *postgres) noteOnIndex(big bool) string {
	if !big {
		return ""
	}
	return "Writers wait until the index is built. On a large table take it out of the transaction, and\nsay CREATE INDEX CONCURRENTLY."
}

func (d *postgres) noteOnKey(big bool, p *pair, k catalog.Key, kind string) string {
	if !big {
		return ""
	}
	return fmt.Sprintf("The table is locked until the index is built. On a large table first, outside of a transaction,\nCREATE UNIQUE INDEX CONCURRENTLY %s ON %s (%s),\nthen ADD CONSTRAINT … %s USING INDEX.", d.name(k.Name), d.tableOf(p.now), d.names(k.Columns), kind)
}

// lose drops the columns that are gone, each after a decision.
func (d *postgres) lose(p *pair) {
	for _, c := range p.dropped {
		if c.Generated == "" {
			d.decideLost(p, c, fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", d.tableOf(p.now), d.name(c.Name)))
		}
	}
}

func (d *postgres) dropTables() {
	gone := d.gone()
	for _, t := range gone { // which may refer to each other in a circle
		for _, r := range t.References {
			if r.Table != t.Name && slices.ContainsFunc(gone, func(x *catalog.Table) bool { return x.Name == r.Table && x.Schema == r.Schema }) {
				d.step(fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", d.tableOf(t), d.name(r.Name)))
			}
		}
	}
	for _, t := range gone {
		kind := "TABLE"
		if slices.Contains(t.Options, "foreign") {
			kind = "FOREIGN TABLE"
		}
		d.decideGone(t, fmt.Sprintf("DROP %s %s", kind, d.tableOf(t)))
	}
}

func (d *postgres) dropTypes() {
	for _, e := range d.replaced {
		d.step("DROP TYPE " + d.table(e.Schema, e.Name+oldType))
	}
	for _, x := range d.at.Domains {
		if !slices.ContainsFunc(d.after.Domains, func(y catalog.Domain) bool { return y.Schema == x.Schema && y.Name == x.Name }) {
			d.step("DROP DOMAIN " + d.table(x.Schema, x.Name))
		}
	}
	for _, c := range d.at.Composites {
		if !slices.ContainsFunc(d.after.Composites, func(x catalog.Composite) bool { return x.Schema == c.Schema && x.Name == c.Name }) {
			d.step("DROP TYPE " + d.table(c.Schema, c.Name))
		}
	}
	for _, e := range d.at.Enums {
		if _, there := d.after.Enum(catalog.Qualify(e.Schema, e.Name)); !there {
			d.step("DROP TYPE " + d.table(e.Schema, e.Name))
		}
	}
	for _, s := range d.at.Sequences {
		if !slices.Contains(d.after.Sequences, s) {
			d.step("DROP SEQUENCE " + d.table(s.Schema, s.Name))
		}
	}
}

func (d *postgres) makeView(v *catalog.Table) {
	d.step(fmt.Sprintf("CREATE %s %s AS\n%s", strings.ToUpper(string(v.Kind)), d.tableOf(v), strings.TrimSpace(v.Definition)))
	for _, k := range v.Uniques {
		d.step(d.keyIndex(v, k))
	}
	for _, in := range v.Indexes {
		d.step(d.index(v, in))
	}
}

// comments sets what is said of tables and columns where it is different; a view
// that was made again has none.
func (d *postgres) comments() {
	_, remade := d.views(d.touched(d.pairs()))
	for i := range d.after.Tables {
		now := &d.after.Tables[i]
		was, ok := d.at.Table(now.Schema, now.Name)
		if !ok || slices.Contains(remade, now) {
			was = &catalog.Table{}
		}
		if was.Comment != now.Comment {
			d.step(fmt.Sprintf("COMMENT ON %s %s IS %s", strings.ToUpper(string(now.Kind)), d.tableOf(now), d.commentText(now.Comment)))
		}
		for k := range now.Columns {
			c := &now.Columns[k]
			old := ""
			if x, there := was.Column(c.Name); there && !(x.Generated != "" && x.Generated != c.Generated) {
				old = x.Comment
			}
			if old != c.Comment {
				d.step(fmt.Sprintf("COMMENT ON COLUMN %s.%s IS %s", d.tableOf(now), d.name(c.Name), d.commentText(c.Comment)))
			}
		}
	}
	was, now := d.commented(d.at), d.commented(d.after)
	for _, on := range slices.Sorted(maps.Keys(now)) {
		if was[on] != now[on] {
			d.step(fmt.Sprintf("COMMENT ON %s IS %s", on, d.commentText(now[on])))
		}
	}
}

// commented are the comments on types and routines.
func (d *postgres) commented(c *catalog.Catalog) map[string]string {
	texts := map[string]string{}
	for _, e := range c.Enums {
		texts["TYPE "+d.table(e.Schema, e.Name)] = e.Comment
	}
	for _, t := range c.Composites {
		texts["TYPE "+d.table(t.Schema, t.Name)] = t.Comment
	}
	for _, x := range c.Domains {
		texts["DOMAIN "+d.table(x.Schema, x.Name)] = x.Comment
	}
	for _, r := range c.Routines {
		texts[strings.ToUpper(r.Kind)+" "+d.table(r.Schema, r.Name)+argumentTypes(r)] = r.Comment
	}
	return texts
}

func (d *postgres) commentText(s string) string {
	if s == "" {
		return "NULL"
	}
	return literal(d.engine, s)
}
