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

// postgres drafts for PostgreSQL, in one transaction: an error anywhere undoes
// everything, whatever the client does after it.
type postgres struct {
	*draft
	replaced         []catalog.Enum    // whose old types are in the way until what uses them is gone
	replacedRoutines []catalog.Routine // that are dropped and made again
	later            []catalog.Extra   // what comes back at the end
	remade           map[string]bool   // views that were made again
	again            []string          // views that were replaced where they stand
	spare            map[string]string // the names that old types have meanwhile
}

func (d *postgres) write() {
	d.remade, d.spare = map[string]bool{}, map[string]string{}
	pairs := d.pairs()
	for _, p := range pairs {
		d.leaveInherited(p)
	}
	d.begin(pairs)
	for _, p := range pairs {
		d.rowChecks(p)
	}
	dropRoutines, makeRoutines := d.routines()
	dropRoutines, makeRoutines = d.replacedWith(dropRoutines, makeRoutines)
	for _, p := range pairs {
		d.dependRoutines(p)
		d.dependEnums(p)
	}
	plan := d.planViews(pairs)
	plan = d.viewsOnRoutines(plan)
	dropRoutines, makeRoutines = d.routinesOnViews(plan, dropRoutines, makeRoutines)

	d.makeExtensions()
	d.makeSchemas()
	d.rename(pairs)
	d.renameViewColumns(plan)
	d.undoExtras(pairs, plan)
	now, last := d.whenDropped(dropRoutines, makeRoutines)
	onViews := slices.DeleteFunc(slices.Concat(now, last), func(r catalog.Routine) bool { return !d.takesView(r, plan) })
	last = slices.DeleteFunc(last, func(r catalog.Routine) bool { return hasRoutine(onViews, r) })
	d.dropViews(plan.drop, onViews)
	early, rows, late := d.whenMade(makeRoutines)
	forTypes := slices.DeleteFunc(slices.Clone(early), func(r catalog.Routine) bool {
		return hasRoutine(d.replacedRoutines, r) || d.takesType(r, d.after, d.at)
	})
	d.makeRoutines(forTypes)
	d.makeTypes()
	for _, p := range pairs {
		d.dropParts(p)
	}
	for _, p := range pairs {
		d.dropKeys(p)
	}
	d.dropRoutines(slices.DeleteFunc(now, func(r catalog.Routine) bool { return d.takesView(r, plan) }))
	d.freeKeys(pairs)
	d.freeNames(pairs)
	d.relabel()
	d.makeRoutines(slices.DeleteFunc(early, func(r catalog.Routine) bool { return hasRoutine(forTypes, r) }))
	for _, t := range d.fresh() {
		d.makeTable(t)
	}
	d.makeRoutines(rows)
	for _, t := range d.fresh() {
		d.makeIndexes(t)
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
	last = d.dropRowRoutines(last)
	d.dropTables()
	d.dropRoutines(slices.DeleteFunc(slices.Clone(last), func(r catalog.Routine) bool { return !d.takesType(r, d.at, d.after) }))
	d.dropTypes()
	d.dropRoutines(slices.DeleteFunc(last, func(r catalog.Routine) bool { return d.takesType(r, d.at, d.after) }))
	d.makeViews(plan, late)
	d.makeExtras(pairs)
	d.comments()
}

// leaveInherited leaves out the columns and checks of a table that come from the
// tables that it inherits from: the engine has them follow.
func (d *postgres) leaveInherited(p *pair) {
	if len(p.old.Inherits) == 0 || !slices.Equal(p.old.Inherits, p.now.Inherits) {
		return
	}
	from := func(c *catalog.Catalog, name string) bool {
		return slices.ContainsFunc(p.old.Inherits, func(full string) bool {
			parent, ok := c.Table(catalog.Split(full))
			if !ok {
				return false
			}
			_, has := parent.Column(name)
			return has
		})
	}
	check := func(c *catalog.Catalog, x catalog.Check) bool {
		return !strings.Contains(x.Options, "NO INHERIT") && slices.ContainsFunc(p.old.Inherits, func(full string) bool {
			parent, ok := c.Table(catalog.Split(full))
			return ok && slices.Contains(parent.Checks, x)
		})
	}
	p.added = slices.DeleteFunc(p.added, func(c *catalog.Column) bool { return from(d.after, c.Name) })
	p.dropped = slices.DeleteFunc(p.dropped, func(c *catalog.Column) bool { return from(d.at, c.Name) })
	p.altered = slices.DeleteFunc(p.altered, func(a alteration) bool {
		return from(d.at, a.was.Name) && from(d.after, a.now.Name) && (a.retyped() || a.was.Nullable != a.now.Nullable)
	})
	p.addChecks = slices.DeleteFunc(p.addChecks, func(x catalog.Check) bool { return check(d.after, x) })
	p.dropChecks = slices.DeleteFunc(p.dropChecks, func(x catalog.Check) bool { return check(d.at, x) })
}

// begin opens the transaction and sets what the script relies on, for as long as
// it lasts.
func (d *postgres) begin(pairs []*pair) {
	path := d.before.SearchPath
	if len(path) == 0 {
		path = d.after.SearchPath
	}
	if len(path) == 0 {
		path = []string{"public"}
	}
	d.script.session.begin = []string{
		"BEGIN READ WRITE",
		"SET LOCAL search_path = " + d.names(path),
		"SET LOCAL client_encoding = 'UTF8'",
		"SET LOCAL standard_conforming_strings = on",
		"SET LOCAL TimeZone = 'UTC'",
		"SET LOCAL DateStyle = 'ISO, YMD'",
		"SET LOCAL IntervalStyle = 'postgres'",
		"SET LOCAL extra_float_digits = 1",
		"SET LOCAL bytea_output = 'hex'",
		"SET LOCAL check_function_bodies = off",
		"SET LOCAL row_security = off",
		"SET LOCAL default_tablespace = ''",
		"SET LOCAL lock_timeout = '1min'",
		"SET LOCAL statement_timeout = 0",
		"SET CONSTRAINTS ALL IMMEDIATE",
	}
	for _, p := range pairs { // so that no value comes between a check and the change
		if slices.ContainsFunc(p.altered, func(a alteration) bool { return a.retyped() && !d.pgConversion(a, a.was.Name).harmless() }) {
			d.script.session.begin = append(d.script.session.begin, fmt.Sprintf("LOCK TABLE %s IN SHARE ROW EXCLUSIVE MODE", d.former(p).table()))
		}
	}
	d.script.session.end = []string{"COMMIT"}
}

// pgDialect is how PostgreSQL tests and stops. An error is all it takes: the
// transaction is over then.
type pgDialect struct{}

func (pgDialect) guard(string) []string     { return nil }
func (pgDialect) stop(decide string) string { return decide }

func (pgDialect) check(_ int, c Check) []string {
	fails := fmt.Sprintf("    IF faults > 0 THEN\n        RAISE EXCEPTION USING MESSAGE = %s || faults || ' found)', DETAIL = %s, HINT = %s;\n    END IF;\n",
		literal(catalog.Postgres, c.message()+" ("), literal(catalog.Postgres, "They are listed by: "+c.List), literal(catalog.Postgres, c.Help))
	if c.held { // it may call what is new; then only the engine can tell, and does
		return []string{"DO " + dollars("#variable_conflict use_column\nDECLARE faults bigint;\nBEGIN\n    BEGIN\n        faults := ("+c.Count+
			");\n    EXCEPTION WHEN undefined_function OR undefined_object OR undefined_column OR undefined_table OR datatype_mismatch OR invalid_text_representation THEN\n        faults := 0;\n    END;\n"+fails+"END")}
	}
	if c.Tries == "" {
		return []string{"DO " + dollars("#variable_conflict use_column\nDECLARE faults bigint;\nBEGIN\n    faults := ("+c.Count+");\n"+fails+"END")}
	}
	// Where one value raises an error, each is tried by itself.
	return []string{"DO " + dollars(fmt.Sprintf(`#variable_conflict use_column
DECLARE faults bigint := 0; r record;
BEGIN
    BEGIN
        faults := (%s);
    EXCEPTION WHEN OTHERS THEN
        faults := 0;
        FOR r IN SELECT %s AS v FROM %s LOOP
            BEGIN
                IF %s THEN faults := faults + 1; END IF;
            EXCEPTION WHEN OTHERS THEN faults := faults + 1;
            END;
        END LOOP;
    END;
%sEND`, c.Count, c.column, c.from, c.Tries, fails))}
}

// viewsOnRoutines adds to the views that go those that call a routine that is
// dropped.
func (d *postgres) viewsOnRoutines(plan viewPlan) viewPlan {
	for again := true; again; {
		again = false
		for i := range d.at.Tables {
			t := &d.at.Tables[i]
			calls := t.IsView() && !slices.Contains(plan.drop, t) && (d.callsReplaced(t.Definition) ||
				slices.ContainsFunc(plan.drop, func(v *catalog.Table) bool { return mentionsTable(t, d.oldName(v.FullName())) }))
			if !calls {
				continue
			}
			again = true
			plan.drop = append([]*catalog.Table{t}, plan.drop...)
			if now, ok := d.after.Table(t.Schema, t.Name); ok {
				plan.replace = slices.DeleteFunc(plan.replace, func(v *catalog.Table) bool { return v == now })
				plan.fresh = append(plan.fresh, now)
			}
		}
	}
	return plan
}

// takesView reports whether a routine takes or returns the rows of a view that is
// dropped.
func (d *postgres) takesView(r catalog.Routine, plan viewPlan) bool {
	return slices.ContainsFunc(plan.drop, func(v *catalog.Table) bool {
		name := func(text string) bool { return mentions(text, v.Name) }
		return name(r.Returns) || slices.ContainsFunc(r.Arguments, func(a catalog.Argument) bool { return name(a.Declared) }) || parsedBody(r) && name(r.Definition)
	})
}

// parsedBody reports whether the body of a routine is SQL that the engine knows,
// and not a text.
func parsedBody(r catalog.Routine) bool {
	return strings.Contains(strings.ToUpper(r.Definition), "BEGIN ATOMIC") || regexp.MustCompile(`(?i)\n\s*RETURN\s`).MatchString(r.Definition) && !strings.Contains(r.Definition, "$")
}

// routinesOnViews adds the routines that stand in the way of views that go.
func (d *postgres) routinesOnViews(plan viewPlan, drop, fresh []catalog.Routine) (a, b []catalog.Routine) {
	for _, r := range d.at.Routines {
		if !d.takesView(r, plan) || hasRoutine(drop, r) {
			continue
		}
		drop = append(drop, r)
		d.replacedRoutines = append(d.replacedRoutines, r)
		if i := slices.IndexFunc(d.after.Routines, func(x catalog.Routine) bool { return x.Signature() == r.Signature() }); i >= 0 && !hasRoutine(fresh, r) {
			fresh = append(fresh, d.after.Routines[i])
		}
	}
	return drop, fresh
}

func hasRoutine(list []catalog.Routine, r catalog.Routine) bool {
	return slices.ContainsFunc(list, func(x catalog.Routine) bool { return x.Signature() == r.Signature() })
}

// replacedWith adds the routines on replaced types, and finds those that are
// dropped and made again.
func (d *postgres) replacedWith(drop, fresh []catalog.Routine) (a, b []catalog.Routine) {
	again := d.onReplacedTypes()
	for _, r := range again {
		if !hasRoutine(drop, r) {
			drop = append(drop, r)
		}
		if i := slices.IndexFunc(d.after.Routines, func(x catalog.Routine) bool { return x.Signature() == r.Signature() }); i >= 0 && !hasRoutine(fresh, r) {
			fresh = append(fresh, d.after.Routines[i])
		}
	}
	drop = slices.DeleteFunc(drop, func(r catalog.Routine) bool { return replaceable(r, fresh) && !hasRoutine(again, r) })
	for _, r := range drop {
		if hasRoutine(fresh, r) {
			d.replacedRoutines = append(d.replacedRoutines, r)
		}
	}
	return drop, fresh
}

// dependRoutines has the parts of a table made again that call a routine that is
// dropped and made again.
func (d *postgres) dependRoutines(p *pair) {
	p.again(d.callsReplaced)
}

// dependEnums has the parts made again that name a column whose enum another one
// takes the place of.
func (d *postgres) dependEnums(p *pair) {
	if !d.newLabels(p.now) {
		return
	}
	var columns []string
	for _, c := range p.now.Columns {
		if slices.ContainsFunc(d.after.Enums, func(e catalog.Enum) bool {
			full := catalog.Qualify(e.Schema, e.Name)
			was, ok := d.at.Enum(full)
			return ok && !d.onlyAdds(*was, e) && usesEnum(c.Type, full)
		}) {
			columns = append(columns, c.Name)
		}
	}
	p.again(func(text string) bool {
		return slices.ContainsFunc(columns, func(c string) bool { return mentions(text, c) })
	})
}

// again has checks, computed columns, and indexes over expressions or with a
// condition made again where stale says so.
func (p *pair) again(stale func(text string) bool) {
	for _, c := range p.now.Checks {
		was := slices.IndexFunc(p.old.Checks, func(x catalog.Check) bool { return x.Name == c.Name && x.Expr == c.Expr && x.Options == c.Options })
		if was >= 0 && stale(c.Expr) && !slices.Contains(p.addChecks, c) {
			p.dropChecks, p.addChecks = append(p.dropChecks, p.old.Checks[was]), append(p.addChecks, c)
		}
	}
	for _, in := range p.now.Indexes {
		text := in.Where + " " + strings.Join(slices.DeleteFunc(slices.Clone(in.Columns), func(c string) bool { return !strings.HasPrefix(c, "(") }), " ")
		was := slices.IndexFunc(p.old.Indexes, func(x catalog.Index) bool { return x.Name == in.Name })
		listed := slices.ContainsFunc(p.addIndexes, func(x catalog.Index) bool { return x.Name == in.Name })
		if was >= 0 && stale(text) && !listed {
			p.dropIndexes, p.addIndexes = append(p.dropIndexes, p.old.Indexes[was]), append(p.addIndexes, in)
		}
	}
	for i := range p.now.Columns {
		now := &p.now.Columns[i]
		was, there := p.old.Column(now.Name)
		if !there || now.Generated == "" || was.Generated == "" || !stale(now.Generated) || slices.ContainsFunc(p.altered, func(a alteration) bool { return a.now == now }) || slices.Contains(p.dropped, was) {
			continue
		}
		p.remake(was, now)
	}
}

// argumentTypes are those that tell a routine from others of its name.
func argumentTypes(r catalog.Routine) string {
	return "(" + strings.Join(r.ArgumentTypes(), ", ") + ")"
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

func (d *postgres) dropRoutines(list []catalog.Routine) {
	for _, r := range list {
		d.step(fmt.Sprintf("DROP %s %s%s", strings.ToUpper(r.Kind), d.table(r.Schema, r.Name), argumentTypes(r)))
	}
}

// whenDropped tells the routines that must go before others of their name come
// from those that can wait until nothing uses them any longer.
func (d *postgres) whenDropped(drop, fresh []catalog.Routine) (now, last []catalog.Routine) {
	for _, r := range drop {
		if hasRoutine(fresh, r) || hasRoutine(d.onReplacedTypes(), r) {
			now = append(now, r)
		} else {
			last = append(last, r)
		}
	}
	return now, last
}

// whenMade tells the routines that a table or a type calls, those of them that
// take rows of a new table, and those that can wait until the tables are there.
func (d *postgres) whenMade(list []catalog.Routine) (early, rows, late []catalog.Routine) {
	called := func(name string) bool {
		return slices.ContainsFunc(d.after.Tables, func(t catalog.Table) bool { return !t.IsView() && tableCalls(&t, name) }) ||
			slices.ContainsFunc(d.after.Domains, func(x catalog.Domain) bool {
				return slices.ContainsFunc(x.Checks, func(c catalog.Check) bool { return mentions(c.Expr, name) })
			})
	}
	early, late = nil, slices.Clone(list)
	for again := true; again; { // what they call comes with them
		again = false
		for i, r := range late {
			by := slices.ContainsFunc(early, func(x catalog.Routine) bool { return mentions(x.Definition, r.Name) && x.Signature() != r.Signature() })
			if called(r.Name) || by {
				early, late, again = append([]catalog.Routine{r}, early...), slices.Delete(late, i, i+1), true
				break
			}
		}
	}
	takes := func(r catalog.Routine) bool {
		return slices.ContainsFunc(d.fresh(), func(t *catalog.Table) bool {
			return mentions(r.Returns, t.Name) || slices.ContainsFunc(r.Arguments, func(a catalog.Argument) bool { return mentions(a.Declared, t.Name) }) || parsedBody(r) && mentions(r.Definition, t.Name)
		})
	}
	for _, r := range slices.Clone(early) {
		if takes(r) {
			rows = append(rows, r)
		}
	}
	early = slices.DeleteFunc(early, takes)
	return early, rows, late
}

// dropRowRoutines drops the routines that take rows of tables that go, with the
// indexes there that call them, and returns the others.
func (d *postgres) dropRowRoutines(list []catalog.Routine) []catalog.Routine {
	var others []catalog.Routine
	for _, r := range list {
		takes := false
		for _, t := range d.gone() {
			takes = takes || mentions(r.Returns, t.Name) || slices.ContainsFunc(r.Arguments, func(a catalog.Argument) bool { return mentions(a.Declared, t.Name) })
		}
		if !takes {
			others = append(others, r)
			continue
		}
		for _, t := range d.gone() {
			for _, in := range t.Indexes {
				if mentions(strings.Join(in.Columns, " ")+" "+in.Where+" "+in.Definition, r.Name) {
					d.step("DROP INDEX " + d.table(t.Schema, in.Name))
				}
			}
		}
		d.dropRoutines([]catalog.Routine{r})
	}
	return others
}

// takesType reports whether a routine takes or returns a type that only the first
// of two schemas has.
func (d *postgres) takesType(r catalog.Routine, has, other *catalog.Catalog) bool {
	text := r.Returns
	for _, a := range r.Arguments {
		text += " " + a.Declared
	}
	uses := func(name string, there bool) bool { return !there && mentions(text, name) }
	return slices.ContainsFunc(has.Enums, func(e catalog.Enum) bool {
		_, there := other.Enum(catalog.Qualify(e.Schema, e.Name))
		return uses(e.Name, there)
	}) || slices.ContainsFunc(has.Composites, func(c catalog.Composite) bool {
		return uses(c.Name, slices.ContainsFunc(other.Composites, func(x catalog.Composite) bool { return x.Schema == c.Schema && x.Name == c.Name }))
	}) || slices.ContainsFunc(has.Domains, func(c catalog.Domain) bool {
		return uses(c.Name, slices.ContainsFunc(other.Domains, func(x catalog.Domain) bool { return x.Schema == c.Schema && x.Name == c.Name }))
	})
}

// tableCalls reports whether a routine is called by the declaration of a table.
func tableCalls(t *catalog.Table, name string) bool {
	return slices.ContainsFunc(t.Checks, func(c catalog.Check) bool { return mentions(c.Expr, name) }) ||
		slices.ContainsFunc(t.Indexes, func(in catalog.Index) bool {
			return mentions(in.Where, name) || mentions(in.Definition, name) || mentions(strings.Join(in.Columns, " "), name)
		}) ||
		slices.ContainsFunc(t.Columns, func(c catalog.Column) bool {
			return mentions(c.Generated, name) || c.Default != nil && mentions(c.Default.Text, name)
		})
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
			if t, ok := d.after.Table(catalog.Split(r.In)); ok && !t.IsView() {
				d.step(fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s", d.full(r.In), d.name(r.From), d.name(r.To)))
			}
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
		kind = strings.ToUpper(string(t.Kind))
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
	d.sequences()
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
				d.decision(fmt.Sprintf("The field %s of the type %s is gone. What becomes of its values?", f.Name, now.Name), Proposal{Title: "drop it, its values are not needed", SQL: []string{drop}})
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
// one that is gone, another order, or a new one that the script uses itself,
// which its transaction could not do yet, needs a new type in place of the old
// one.
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

// onlyAdds reports whether all labels stay, in their order, and the script uses
// none of the new ones.
func (d *draft) onlyAdds(was, now catalog.Enum) bool {
	kept := slices.DeleteFunc(slices.Clone(now.Labels), func(l string) bool { return !slices.Contains(was.Labels, l) })
	return slices.Equal(kept, was.Labels) && !slices.ContainsFunc(now.Labels, func(l string) bool { return !slices.Contains(was.Labels, l) && d.usesLabel(l) })
}

// usesLabel reports whether a new label stands somewhere in the new schema.
func (d *draft) usesLabel(label string) bool {
	text := literal(d.engine, label)
	return slices.ContainsFunc(d.after.Tables, func(t catalog.Table) bool {
		in := func(s string) bool { return strings.Contains(s, text) }
		return in(t.Definition) || slices.ContainsFunc(t.Checks, func(c catalog.Check) bool { return in(c.Expr) }) ||
			slices.ContainsFunc(t.Indexes, func(x catalog.Index) bool { return in(x.Where) || in(x.Definition) || in(strings.Join(x.Columns, " ")) }) ||
			slices.ContainsFunc(t.Extras, func(e catalog.Extra) bool { return in(e.Make) }) || slices.ContainsFunc(t.Triggers, func(x catalog.Trigger) bool { return in(x.Definition) }) ||
			slices.ContainsFunc(t.Columns, func(c catalog.Column) bool {
				return in(c.Generated) || c.Default != nil && (c.Default.Text == label && c.Type.Kind == catalog.EnumKind || in(c.Default.Text))
			})
	})
}

func (d *postgres) addLabels(was, now catalog.Enum) {
	var statements []string
	name := d.table(now.Schema, now.Name)
	for i, l := range now.Labels {
		if slices.Contains(was.Labels, l) {
			continue
		}
		place := ""
		switch {
		case i > 0:
			place = " AFTER " + literal(d.engine, now.Labels[i-1])
		case len(was.Labels) > 0:
			place = " BEFORE " + literal(d.engine, was.Labels[0])
		}
		statements = append(statements, fmt.Sprintf("ALTER TYPE %s ADD VALUE %s%s", name, literal(d.engine, l), place))
	}
	d.step(statements...)
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
		d.decideLabel(label, d.otherLabel(was, now), full, columns)
	}
	fresh := d.table(now.Schema, now.Name)
	d.spare[full] = d.freeName(now.Schema, now.Name+oldType)
	d.step(fmt.Sprintf("ALTER TYPE %s RENAME TO %s", fresh, d.name(d.spare[full])), d.enumText(now, now.Name))
	var rewrites []string
	for _, c := range columns {
		table, column := d.tableOf(d.tableWith(c.was, d.at)), d.name(c.was.Name)
		suffix, text := "", "text"
		if c.was.Type.Kind == catalog.Array {
			suffix, text = "[]", "text[]"
		}
		if c.was.Generated != "" {
			continue // it was dropped, and is made again
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

func (d *postgres) otherLabel(was, now catalog.Enum) string {
	for _, l := range now.Labels {
		if slices.Contains(was.Labels, l) {
			return l
		}
	}
	return ""
}

// decideLabel asks what rows get that have a label that is gone.
func (d *postgres) decideLabel(label, other, full string, columns []alteration) {
	var moves []string
	var checks []Check
	for _, c := range columns {
		p := d.pairOf(d.tableWith(c.was, d.at))
		if p == nil {
			continue
		}
		f := d.former(p)
		column, condition := d.name(c.was.Name), ""
		switch c.was.Type.Kind {
		case catalog.EnumKind:
			condition = fmt.Sprintf("%s = %s", f.column(c.was.Name), literal(d.engine, d.oldLabel(full, label)))
			if other != "" {
				moves = append(moves, d.update(p, fmt.Sprintf("%s = %s", column, literal(d.engine, other)), fmt.Sprintf("%s = %s", column, literal(d.engine, label)))...)
			}
		default:
			condition = fmt.Sprintf("%s = ANY (%s)", literal(d.engine, d.oldLabel(full, label)), f.column(c.was.Name))
		}
		checks = append(checks, f.where(c.was.Name, []string{c.was.Name}, "rows have the label "+label+", which is gone", condition, "give them another label"))
	}
	proposals := []Proposal{{Title: "the script stops if a row has it", checks: checks}}
	if len(moves) > 0 {
		proposals = append(proposals, Proposal{Title: "they get " + other, SQL: moves})
	}
	d.decision(fmt.Sprintf("The label %s of %s is gone. What do rows get that have it?", label, full), proposals...)
}

// pairOf is the pair of a table that stays.
func (d *draft) pairOf(old *catalog.Table) *pair {
	i := slices.IndexFunc(d.all, func(p *pair) bool { return p.old.FullName() == old.FullName() })
	if i < 0 {
		return nil
	}
	return d.all[i]
}

func (d *draft) oldLabel(full, label string) string {
	for _, r := range d.renames {
		if r.Thing == catalog.RenamedLabel && r.In == full && r.To == label {
			return r.From
		}
	}
	return label
}

// oldType stands behind the name of a type that another takes the place of.
const oldType = "_old"

// dropParts drops constraints, indexes and computed columns that change.
func (d *postgres) dropParts(p *pair) {
	table := d.tableOf(p.now)
	drop := func(name string) { d.step(fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", table, d.name(name))) }
	for _, r := range p.dropReferences {
		if !d.goes(p, r.Name, r.Columns) {
			drop(r.Name)
		}
	}
	for _, c := range p.dropChecks {
		drop(c.Name)
	}
	for _, in := range p.dropIndexes {
		if d.goes(p, in.Name, in.Columns) {
			continue
		}
		d.step("DROP INDEX " + d.table(p.now.Schema, in.Name))
	}
	for _, a := range p.altered {
		switch {
		case a.freed():
			d.step(fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s DROP EXPRESSION", table, d.name(a.was.Name)))
		case a.computed() && a.was.Generated != "":
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
func (d *postgres) goes(p *pair, name string, columns []string) bool {
	return !d.claimed(p.now.Schema, name) && slices.ContainsFunc(p.dropped, func(c *catalog.Column) bool { return c.Generated == "" && slices.Contains(columns, c.Name) })
}

// claimed reports whether the new schema has something of this name, which
// indexes and keys share in a schema.
func (d *postgres) claimed(schema, name string) bool {
	return slices.ContainsFunc(d.after.Tables, func(t catalog.Table) bool {
		return t.Schema == schema && slices.Contains(indexNames(&t), name)
	})
}

// indexNames are the names of all that has an index, and of references.
func indexNames(t *catalog.Table) []string {
	list := partNames(t.Uniques, t.Indexes, nil, t.References)
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

// freeNames takes names from the indexes of tables that go at the end where
// something new has them.
func (d *postgres) freeNames(pairs []*pair) {
	for _, t := range d.gone() {
		named := partNames(t.Uniques, t.Indexes, nil, nil)
		if t.PrimaryKey != nil {
			named = append(named, t.PrimaryKey.Name)
		}
		for _, name := range named {
			if name != "" && d.claimed(t.Schema, name) {
				d.step(fmt.Sprintf("ALTER INDEX %s RENAME TO %s", d.table(t.Schema, name), d.name(d.freeName(t.Schema, name+"_before"))))
			}
		}
	}
}

// freeKeys drops the references of tables that are gone to keys and columns that
// change, which they would hold.
func (d *draft) freeKeys(pairs []*pair) {
	word := "CONSTRAINT"
	if d.engine == catalog.MySQL {
		word = strings.TrimSpace("FOREIGN KEY " + ifExists)
	}
	for _, t := range d.gone() {
		for _, r := range t.References {
			for _, p := range pairs {
				if p.now.Schema == r.Schema && p.now.Name == r.Table && (p.retypes(r.Target) || p.losesKey(r.Target)) {
					drop := []string{fmt.Sprintf("ALTER TABLE %s DROP %s %s", d.tableOf(t), word, d.name(r.Name))}
					if d.engine == catalog.MySQL {
						drop = onlyIf(d.present(t.Schema, t.Name, nil), drop[0])
					}
					d.step(drop...)
					if d.freed == nil {
						d.freed = map[string]bool{}
					}
					d.freed[t.FullName()+"."+r.Name] = true
				}
			}
		}
	}
}

// dropKeys comes behind the references of all tables.
func (d *postgres) dropKeys(p *pair) {
	table := d.tableOf(p.now)
	for _, k := range p.dropUniques {
		if d.goes(p, k.Name, k.Columns) {
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
	declared := c.Declared
	if numbered, ok := d.numbered(c); ok {
		declared = numbered
	}
	text := d.name(c.Name) + " " + declared
	if c.Collation != "" {
		text += " COLLATE " + quoteAlways(c.Collation)
	}
	switch def := c.Default; {
	case c.Generated != "":
		kind := "STORED"
		if c.Virtual {
			kind = "VIRTUAL"
		}
		text += fmt.Sprintf(" GENERATED ALWAYS AS (%s) %s", c.Generated, kind)
	case def == nil:
	case def.Kind != catalog.Identity:
		if c.Domain == "" || !d.domainHas(c) {
			text += " DEFAULT " + d.defaultText(c)
		}
	case def.Sequence != "":
		text += fmt.Sprintf(" DEFAULT nextval(%s)", literal(d.engine, d.full(def.Sequence)))
	}
	if notNull && !c.Nullable && !d.domainNotNull(c) && !strings.Contains(declared, "serial") {
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
	var late []string
	for _, c := range t.Checks {
		if strings.Contains(c.Options, "NOT VALID") {
			late = append(late, fmt.Sprintf("ALTER TABLE %s ADD %s", d.tableOf(t), d.checkText(c)))
			continue
		}
		parts = append(parts, d.checkText(c))
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
		if !d.after.Complete {
			d.note("the partitions of the table %s must be made by hand, since they are not read from scripts", t.FullName())
		}
	}
	if slices.Contains(t.Options, "foreign") {
		d.note("the foreign table %s must be made by hand, since its server is not known", t.FullName())
		return
	}
	d.step(fmt.Sprintf("CREATE %sTABLE %s (\n    %s\n)%s", unlogged, d.tableOf(t), strings.Join(parts, ",\n    "), tail))
	d.step(late...)
	for i := range t.Columns {
		if c := &t.Columns[i]; needsSequence(c) && !d.inherited(t, c.Name) {
			d.makeNumbers(t, c, false)
		}
	}
}

// makeIndexes makes those of a new table.
func (d *postgres) makeIndexes(t *catalog.Table) {
	if slices.Contains(t.Options, "foreign") {
		return
	}
	for _, k := range t.Uniques {
		if k.Index {
			d.step(d.keyIndex(t, k))
		}
	}
	for _, in := range t.Indexes {
		d.step(d.index(t, in))
	}
}

func (d *postgres) checkText(c catalog.Check) string {
	return strings.TrimSpace(fmt.Sprintf("CONSTRAINT %s CHECK (%s) %s", d.name(c.Name), c.Expr, c.Options))
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
	key := t.PrimaryKey != nil && own(t.PrimaryKey.Columns) && !t.PrimaryKey.Deferrable && t.PrimaryKey.Definition == "" && d.plainly(t, t.PrimaryKey.Name, t.PrimaryKey.Columns, "pkey")
	text := d.column(c, !key)
	if key {
		text += " PRIMARY KEY"
	}
	for _, k := range t.Uniques {
		if own(k.Columns) && !k.Index && !k.Deferrable && k.Definition == "" && d.plainly(t, k.Name, k.Columns, "key") {
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
	if k := t.PrimaryKey; k != nil && (k.Deferrable || k.Definition != "" || !d.plainly(t, k.Name, k.Columns, "pkey")) {
		parts = append(parts, d.keyText("PRIMARY KEY", *k))
	}
	for _, k := range t.Uniques {
		if !k.Index && (k.Deferrable || k.Definition != "" || !d.plainly(t, k.Name, k.Columns, "key")) {
			parts = append(parts, d.keyText("UNIQUE", k))
		}
	}
	return parts
}

func (d *postgres) keyText(kind string, k catalog.Key) string {
	if k.Definition != "" {
		return "CONSTRAINT " + d.name(k.Name) + " " + k.Definition
	}
	text := fmt.Sprintf("CONSTRAINT %s %s (%s)", d.name(k.Name), kind, d.names(k.Columns))
	if k.Deferrable {
		text += " DEFERRABLE"
	}
	return text
}

func (d *postgres) keyIndex(t *catalog.Table, k catalog.Key) string {
	if k.Definition != "" {
		return k.Definition
	}
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
	if r.Definition != "" {
		return r.Definition
	}
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
	if strings.Contains(r.Definition, "NOT VALID") { // which a new table would not keep
		return false
	}
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
	table := d.tableOf(p.now)
	_, into := p.split()
	var later []string
	for _, c := range p.added {
		add := fmt.Sprintf("ALTER TABLE %s ADD COLUMN ", table)
		switch {
		case c.Generated != "":
		case needsSequence(c):
			bare := *c
			bare.Default = nil
			d.step(add + d.column(&bare, false))
			d.makeNumbers(p.now, c, false)
			d.step(d.update(p, fmt.Sprintf("%s = DEFAULT", d.name(c.Name)), "")...)
			if !c.Nullable {
				later = append(later, c.Name)
			}
		case slices.Contains(into, c):
			d.step(add + d.column(c, false))
			if !c.Nullable {
				later = append(later, c.Name)
			}
		case mandatory(c) && !d.domainHas(c):
			d.decideNew(p, c, func(value string) []string { return d.addFilled(p, c, value) }, []string{add + d.column(c, true)})
		default:
			d.noted(d.noteOnDefault(p, c), add+d.column(c, true))
		}
	}
	d.decideSplit(p)
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

// addFilled adds a mandatory column with the same value in all rows, without
// touching them where the value is a constant.
func (d *postgres) addFilled(p *pair, c *catalog.Column, value string) []string {
	table, column := d.tableOf(p.now), d.name(c.Name)
	if strings.HasPrefix(value, "(SELECT") {
		return slices.Concat([]string{fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", table, d.column(c, false))},
			d.update(p, column+" = "+value, ""), []string{fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET NOT NULL", table, column)})
	}
	filled := fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s DEFAULT %s", table, d.column(c, false), value)
	if !d.domainNotNull(c) {
		filled += " NOT NULL"
	}
	return []string{filled, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s DROP DEFAULT", table, column)}
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
	if a.computed() && !a.freed() {
		if a.was.Generated == "" {
			d.decideLost(p, a.was, fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", d.tableOf(p.now), d.name(a.was.Name)))
		}
		return
	}
	alter := fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s ", d.tableOf(p.now), d.name(a.now.Name))
	otherDefault := !reflect.DeepEqual(a.was.Default, a.now.Default)
	retyped := a.retyped()
	ordinary := a.was.Default != nil && !ownNumbers(a.was.Default)
	if ordinary && (otherDefault || retyped) {
		d.step(alter + "DROP DEFAULT")
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
	if ownNumbers(a.was.Default) || ownNumbers(a.now.Default) {
		if otherDefault || retyped {
			if ordinary {
				a.was = &catalog.Column{Name: a.was.Name, Declared: a.was.Declared}
			}
			if d.renumber(p, a) {
				return
			}
		} else {
			return
		}
	}
	if a.now.Default != nil && (otherDefault || retyped) {
		d.setDefault(a, alter)
	}
}

func keyColumns(t *catalog.Table) []string {
	if t.PrimaryKey == nil {
		return nil
	}
	return t.PrimaryKey.Columns
}

func (d *postgres) setDefault(a alteration, alter string) {
	switch def := a.now.Default; {
	case def.Kind == catalog.Identity:
		d.step(alter + fmt.Sprintf("SET DEFAULT nextval(%s)", literal(d.engine, d.full(def.Sequence))))
	case !d.domainHas(a.now):
		d.step(alter + "SET DEFAULT " + d.defaultText(a.now))
	}
}

// retype changes a type, after a decision where values could be lost.
func (d *postgres) retype(p *pair, a alteration, alter string) {
	column := d.name(a.now.Name)
	change := func(using string) string {
		text := alter + "TYPE " + a.now.Declared
		if a.now.Collation != "" {
			text += " COLLATE " + quoteAlways(a.now.Collation)
		}
		if using != "" {
			text += " USING " + using
		}
		return text
	}
	using := ""
	if a.was.Type.Kind != a.now.Type.Kind || a.was.Type.Enum != a.now.Type.Enum || a.was.Type.Composite != a.now.Type.Composite || a.now.Type.Kind == catalog.Array {
		using = pgCast(a.was, a.now, column)
	}
	note := ""
	if big(p.old.Rows) && !inPlace(a) {
		note = "This rewrites the table, which nobody can read or write meanwhile. On a large table add a\nsecond column, fill it in portions, and change their names in a short transaction."
	}
	f := d.former(p)
	conversion := d.pgConversion(a, f.column(a.now.Name))
	if conversion.harmless() {
		d.noted(note, change(using))
		return
	}
	question := fmt.Sprintf("%s of %s becomes %s, which not every %s fits into. What becomes of the values?", a.now.Name, p.now.FullName(), a.now.Declared, a.was.Declared)
	dropped := Proposal{Title: "they are dropped", SQL: []string{change("NULL::" + a.now.Declared)}}
	if conversion.anchored {
		some := f.where(a.now.Name, []string{a.now.Name}, "rows have a value, and its time zone is not known", f.column(a.now.Name)+" IS NOT NULL", "take another proposal")
		d.decision(fmt.Sprintf("%s of %s becomes %s, was %s. Which time zone are its values in?", a.now.Name, p.now.FullName(), a.now.Declared, a.was.Declared),
			Proposal{Title: "UTC", SQL: []string{change(inUTC(a, column))}},
			Proposal{Title: "the script stops if there is a value", SQL: []string{change(inUTC(a, column))}, checks: []Check{some}}, dropped)
	} else {
		d.decision(question,
			Proposal{Title: "the script stops where one would not be the same afterwards", SQL: []string{change(using)}, checks: []Check{f.conversion(a, conversion)}},
			Proposal{Title: "they are rounded or cut where they must be", SQL: []string{change(pgCast(a.was, a.now, column))}}, dropped)
	}
	if note != "" {
		d.script.Steps[len(d.script.Steps)-1].Note = note
	}
}

// conversion checks that no value is changed by a change of its type.
func (f former) conversion(a alteration, c conversion) Check {
	fault := "values do not fit into " + a.now.Declared + ", or would not be the same"
	help := "change them, or take another proposal"
	if c.tries == "" {
		return f.where(a.now.Name, []string{a.now.Name}, fault, c.condition, help)
	}
	check := f.where(a.now.Name, []string{a.now.Name}, fault, c.tries, help)
	check.column, check.from = f.column(a.now.Name), f.table()
	check.Tries = replaceColumn(f.engine, strings.ReplaceAll(c.tries, f.column(a.now.Name), "\x03"), "\x03", "r.v")
	check.Tries = strings.ReplaceAll(check.Tries, "\x03", "r.v")
	return check
}

// inUTC is an expression of a time of which the zone comes or goes.
func inUTC(a alteration, column string) string {
	was, now := a.was.Type.Kind, a.now.Type.Kind
	switch {
	case was == catalog.TimestampTZ:
		return fmt.Sprintf("(%s AT TIME ZONE 'UTC')::%s", column, a.now.Declared)
	case now == catalog.TimestampTZ && was != catalog.Time:
		return fmt.Sprintf("%s::timestamp AT TIME ZONE 'UTC'", column)
	}
	return column + "::" + a.now.Declared
}

// dollars quotes a body by a tag that is not in it.
func dollars(body string) string {
	tag := "$$"
	for strings.Contains(body, tag) {
		tag = "$x" + tag[1:]
	}
	return tag + "\n" + body + "\n" + tag
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
		d.noted(note, fmt.Sprintf("ALTER TABLE %s ADD %s", table, d.checkText(c)))
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
			if d.freed[t.FullName()+"."+r.Name] {
				continue
			}
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
		d.step("DROP TYPE " + d.table(e.Schema, d.spare[catalog.Qualify(e.Schema, e.Name)]))
	}
	for _, x := range d.at.Domains {
		if !slices.ContainsFunc(d.after.Domains, func(y catalog.Domain) bool { return y.Schema == x.Schema && y.Name == x.Name }) {
			d.dropType("DOMAIN", x.Schema, x.Name)
		}
	}
	for _, c := range d.at.Composites {
		if !slices.ContainsFunc(d.after.Composites, func(x catalog.Composite) bool { return x.Schema == c.Schema && x.Name == c.Name }) {
			d.dropType("TYPE", c.Schema, c.Name)
		}
	}
	for _, e := range d.at.Enums {
		if _, there := d.after.Enum(catalog.Qualify(e.Schema, e.Name)); !there {
			d.dropType("TYPE", e.Schema, e.Name)
		}
	}
	for _, s := range d.at.Sequences {
		if !slices.ContainsFunc(d.after.Sequences, func(x catalog.Sequence) bool { return x.Schema == s.Schema && x.Name == s.Name }) {
			d.step("DROP SEQUENCE " + d.table(s.Schema, s.Name))
		}
	}
}

// dropType drops a type, but for one that a table uses which may stay under
// another name.
func (d *postgres) dropType(kind, schema, name string) {
	full := catalog.Qualify(schema, name)
	uses := func(t *catalog.Table) bool {
		return slices.ContainsFunc(t.Columns, func(c catalog.Column) bool {
			return usesEnum(c.Type, full) || rowType(c.Type) == full || c.Domain == full
		})
	}
	if slices.ContainsFunc(d.kept, uses) {
		d.note("the type %s stays, since a table uses it that stays under another name", full)
		return
	}
	d.step("DROP " + kind + " " + d.table(schema, name))
}

// comments sets what is said of tables and columns where it is different; a view
// that was made again has none.
func (d *postgres) comments() {
	for i := range d.after.Tables {
		now := &d.after.Tables[i]
		was, ok := d.at.Table(now.Schema, now.Name)
		if !ok || was.IsView() != now.IsView() || d.remade[now.FullName()] {
			was = &catalog.Table{}
		}
		if was.Comment != now.Comment {
			d.step(fmt.Sprintf("COMMENT ON %s %s IS %s", strings.ToUpper(string(now.Kind)), d.tableOf(now), d.commentText(now.Comment)))
		}
		for k := range now.Columns {
			c := &now.Columns[k]
			old := ""
			if x, there := was.Column(c.Name); there && !d.madeAgain(now, c) {
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

// madeAgain reports whether a computed column was dropped and made again.
func (d *postgres) madeAgain(t *catalog.Table, c *catalog.Column) bool {
	p := d.pairOf(t)
	return p != nil && (p.isAdded(c.Name) || slices.ContainsFunc(p.altered, func(a alteration) bool { return a.now == c && a.computed() && !a.freed() }))
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
