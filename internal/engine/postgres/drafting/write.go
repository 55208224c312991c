package drafting

import (
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"widegate/internal/migration"

	"widegate/internal/catalog"
	"widegate/internal/engine/postgres/dialect"
)

// postgres drafts for PostgreSQL, in one transaction: an error anywhere undoes
// everything, whatever the client does after it.
type postgres struct {
	*migration.Writing
	replaced         []catalog.Enum    // whose old types are in the way until what uses them is gone
	replacedRoutines []catalog.Routine // that are dropped and made again
	later            []catalog.Extra   // what comes back at the end
	remade           map[string]bool   // views that were made again
	again            []string          // views that were replaced where they stand
	spare            map[string]string // the names that old types have meanwhile
}

func (d *postgres) write() {
	d.remade, d.spare = map[string]bool{}, map[string]string{}
	pairs := d.Pairs()
	for _, p := range pairs {
		d.leaveInherited(p)
	}
	d.begin(pairs)
	for _, p := range pairs {
		d.RowChecks(p)
	}
	dropRoutines, makeRoutines := d.Routines()
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
	last = slices.DeleteFunc(last, func(r catalog.Routine) bool { return migration.HasRoutine(onViews, r) })
	d.dropViews(plan.drop, onViews)
	early, rows, late := d.whenMade(makeRoutines)
	forTypes := slices.DeleteFunc(slices.Clone(early), func(r catalog.Routine) bool {
		return migration.HasRoutine(d.replacedRoutines, r) || d.takesType(r, d.After, d.At)
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
	d.FreeKeys(pairs, func(t *catalog.Table, r catalog.Reference) []string {
		return []string{fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", d.TableOf(t), d.Name(r.Name))}
	})
	d.freeNames(pairs)
	d.relabel()
	d.makeRoutines(slices.DeleteFunc(early, func(r catalog.Routine) bool { return migration.HasRoutine(forTypes, r) }))
	for _, t := range d.Fresh() {
		d.makeTable(t)
	}
	d.makeRoutines(rows)
	for _, t := range d.Fresh() {
		d.makeIndexes(t)
	}
	for _, p := range pairs {
		d.columns(p)
	}
	for _, p := range pairs {
		d.addKeys(p)
	}
	for _, p := range pairs {
		for _, r := range p.AddReferences {
			d.addReference(p.Now, r, p.Old.Rows)
		}
	}
	d.lateReferences()
	for _, p := range pairs {
		d.lose(p)
	}
	last = d.dropRowRoutines(last)
	d.dropTables()
	d.dropRoutines(slices.DeleteFunc(slices.Clone(last), func(r catalog.Routine) bool { return !d.takesType(r, d.At, d.After) }))
	d.dropTypes()
	d.dropRoutines(slices.DeleteFunc(last, func(r catalog.Routine) bool { return d.takesType(r, d.At, d.After) }))
	d.makeViews(plan, late)
	d.makeExtras(pairs)
	d.comments()
}

// leaveInherited leaves out the columns and checks of a table that come from the
// tables that it inherits from: the engine has them follow.
func (d *postgres) leaveInherited(p *migration.Pair) {
	if len(p.Old.Inherits) == 0 || !slices.Equal(p.Old.Inherits, p.Now.Inherits) {
		return
	}
	from := func(c *catalog.Catalog, name string) bool {
		return slices.ContainsFunc(p.Old.Inherits, func(full string) bool {
			parent, ok := c.Table(catalog.Split(full))
			if !ok {
				return false
			}
			_, has := parent.Column(name)
			return has
		})
	}
	check := func(c *catalog.Catalog, x catalog.Check) bool {
		return !strings.Contains(x.Options, "NO INHERIT") && slices.ContainsFunc(p.Old.Inherits, func(full string) bool {
			parent, ok := c.Table(catalog.Split(full))
			return ok && slices.Contains(parent.Checks, x)
		})
	}
	p.Added = slices.DeleteFunc(p.Added, func(c *catalog.Column) bool { return from(d.After, c.Name) })
	p.Dropped = slices.DeleteFunc(p.Dropped, func(c *catalog.Column) bool { return from(d.At, c.Name) })
	p.Altered = slices.DeleteFunc(p.Altered, func(a migration.Alteration) bool {
		return from(d.At, a.Was.Name) && from(d.After, a.Now.Name) && (a.Retyped() || a.Was.Nullable != a.Now.Nullable)
	})
	p.AddChecks = slices.DeleteFunc(p.AddChecks, func(x catalog.Check) bool { return check(d.After, x) })
	p.DropChecks = slices.DeleteFunc(p.DropChecks, func(x catalog.Check) bool { return check(d.At, x) })
}

// begin opens the transaction and sets what the script relies on, for as long as
// it lasts.
func (d *postgres) begin(pairs []*migration.Pair) {
	path := d.Before.SearchPath
	if len(path) == 0 {
		path = d.After.SearchPath
	}
	if len(path) == 0 {
		path = []string{"public"}
	}
	d.Script.Session.Begin = []string{
		"BEGIN READ WRITE",
		"SET LOCAL search_path = " + d.Names(path),
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
		if slices.ContainsFunc(p.Altered, func(a migration.Alteration) bool {
			return a.Retyped() && !pgConversion(d.Writing, a, a.Was.Name).Harmless()
		}) {
			d.Script.Session.Begin = append(d.Script.Session.Begin, fmt.Sprintf("LOCK TABLE %s IN SHARE ROW EXCLUSIVE MODE", d.Former(p).Table()))
		}
	}
	d.Script.Session.End = []string{"COMMIT"}
}

// Check raises an error, which is all it takes: the transaction is over then.
func (Engine) Check(_ int, c migration.Check) []string {
	fails := fmt.Sprintf("    IF faults > 0 THEN\n        RAISE EXCEPTION USING MESSAGE = %s || faults || ' found)', DETAIL = %s, HINT = %s;\n    END IF;\n",
		dialect.PostgreSQL.Literal(c.Message()+" ("), dialect.PostgreSQL.Literal("They are listed by: "+c.List), dialect.PostgreSQL.Literal(c.Help))
	if c.Held { // it may call what is new; then only the engine can tell, and does
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
%sEND`, c.Count, c.Column, c.From, c.Tries, fails))}
}

// viewsOnRoutines adds to the views that go those that call a routine that is
// dropped.
func (d *postgres) viewsOnRoutines(plan viewPlan) viewPlan {
	for again := true; again; {
		again = false
		for i := range d.At.Tables {
			t := &d.At.Tables[i]
			calls := t.IsView() && !slices.Contains(plan.drop, t) && (d.callsReplaced(t.Definition) ||
				slices.ContainsFunc(plan.drop, func(v *catalog.Table) bool { return migration.MentionsTable(t, d.OldName(v.FullName())) }))
			if !calls {
				continue
			}
			again = true
			plan.drop = append([]*catalog.Table{t}, plan.drop...)
			if now, ok := d.After.Table(t.Schema, t.Name); ok {
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
		name := func(text string) bool { return migration.Mentions(text, v.Name) }
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
	for _, r := range d.At.Routines {
		if !d.takesView(r, plan) || migration.HasRoutine(drop, r) {
			continue
		}
		drop = append(drop, r)
		d.replacedRoutines = append(d.replacedRoutines, r)
		if i := slices.IndexFunc(d.After.Routines, func(x catalog.Routine) bool { return x.Signature() == r.Signature() }); i >= 0 && !migration.HasRoutine(fresh, r) {
			fresh = append(fresh, d.After.Routines[i])
		}
	}
	return drop, fresh
}

// replacedWith adds the routines on replaced types, and finds those that are
// dropped and made again.
func (d *postgres) replacedWith(drop, fresh []catalog.Routine) (a, b []catalog.Routine) {
	again := d.onReplacedTypes()
	for _, r := range again {
		if !migration.HasRoutine(drop, r) {
			drop = append(drop, r)
		}
		if i := slices.IndexFunc(d.After.Routines, func(x catalog.Routine) bool { return x.Signature() == r.Signature() }); i >= 0 && !migration.HasRoutine(fresh, r) {
			fresh = append(fresh, d.After.Routines[i])
		}
	}
	drop = slices.DeleteFunc(drop, func(r catalog.Routine) bool { return replaceable(r, fresh) && !migration.HasRoutine(again, r) })
	for _, r := range drop {
		if migration.HasRoutine(fresh, r) {
			d.replacedRoutines = append(d.replacedRoutines, r)
		}
	}
	return drop, fresh
}

// dependRoutines has the parts of a table made again that call a routine that is
// dropped and made again.
func (d *postgres) dependRoutines(p *migration.Pair) {
	p.Again(d.callsReplaced)
}

// dependEnums has the parts made again that name a column whose enum another one
// takes the place of.
func (d *postgres) dependEnums(p *migration.Pair) {
	if !d.NewLabels(p.Now) {
		return
	}
	var columns []string
	for _, c := range p.Now.Columns {
		if slices.ContainsFunc(d.After.Enums, func(e catalog.Enum) bool {
			full := catalog.Qualify(e.Schema, e.Name)
			was, ok := d.At.Enum(full)
			return ok && !d.OnlyAdds(*was, e) && migration.UsesEnum(c.Type, full)
		}) {
			columns = append(columns, c.Name)
		}
	}
	p.Again(func(text string) bool {
		return slices.ContainsFunc(columns, func(c string) bool { return migration.Mentions(text, c) })
	})
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
	for _, now := range d.After.Enums {
		was, ok := d.At.Enum(catalog.Qualify(now.Schema, now.Name))
		if !ok || d.OnlyAdds(*was, now) {
			continue
		}
		for _, r := range d.Before.Routines {
			uses := migration.Mentions(r.Returns, now.Name) || slices.ContainsFunc(r.Arguments, func(a catalog.Argument) bool { return migration.Mentions(a.Declared, now.Name) })
			if uses && !slices.ContainsFunc(list, func(x catalog.Routine) bool { return x.Signature() == r.Signature() }) {
				list = append(list, r)
			}
		}
	}
	return list
}

func (d *postgres) dropRoutines(list []catalog.Routine) {
	for _, r := range list {
		d.Step(fmt.Sprintf("DROP %s %s%s", strings.ToUpper(r.Kind), d.Table(r.Schema, r.Name), argumentTypes(r)))
	}
}

// whenDropped tells the routines that must go before others of their name come
// from those that can wait until nothing uses them any longer.
func (d *postgres) whenDropped(drop, fresh []catalog.Routine) (now, last []catalog.Routine) {
	for _, r := range drop {
		if migration.HasRoutine(fresh, r) || migration.HasRoutine(d.onReplacedTypes(), r) {
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
		return slices.ContainsFunc(d.After.Tables, func(t catalog.Table) bool { return !t.IsView() && tableCalls(&t, name) }) ||
			slices.ContainsFunc(d.After.Domains, func(x catalog.Domain) bool {
				return slices.ContainsFunc(x.Checks, func(c catalog.Check) bool { return migration.Mentions(c.Expr, name) })
			})
	}
	early, late = nil, slices.Clone(list)
	for again := true; again; { // what they call comes with them
		again = false
		for i, r := range late {
			by := slices.ContainsFunc(early, func(x catalog.Routine) bool {
				return migration.Mentions(x.Definition, r.Name) && x.Signature() != r.Signature()
			})
			if called(r.Name) || by {
				early, late, again = append([]catalog.Routine{r}, early...), slices.Delete(late, i, i+1), true
				break
			}
		}
	}
	takes := func(r catalog.Routine) bool {
		return slices.ContainsFunc(d.Fresh(), func(t *catalog.Table) bool {
			return migration.Mentions(r.Returns, t.Name) || slices.ContainsFunc(r.Arguments, func(a catalog.Argument) bool { return migration.Mentions(a.Declared, t.Name) }) || parsedBody(r) && migration.Mentions(r.Definition, t.Name)
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
		for _, t := range d.Gone() {
			takes = takes || migration.Mentions(r.Returns, t.Name) || slices.ContainsFunc(r.Arguments, func(a catalog.Argument) bool { return migration.Mentions(a.Declared, t.Name) })
		}
		if !takes {
			others = append(others, r)
			continue
		}
		for _, t := range d.Gone() {
			for _, in := range t.Indexes {
				if migration.Mentions(strings.Join(in.Columns, " ")+" "+in.Where+" "+in.Definition, r.Name) {
					d.Step("DROP INDEX " + d.Table(t.Schema, in.Name))
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
	uses := func(name string, there bool) bool { return !there && migration.Mentions(text, name) }
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
	return slices.ContainsFunc(t.Checks, func(c catalog.Check) bool { return migration.Mentions(c.Expr, name) }) ||
		slices.ContainsFunc(t.Indexes, func(in catalog.Index) bool {
			return migration.Mentions(in.Where, name) || migration.Mentions(in.Definition, name) || migration.Mentions(strings.Join(in.Columns, " "), name)
		}) ||
		slices.ContainsFunc(t.Columns, func(c catalog.Column) bool {
			return migration.Mentions(c.Generated, name) || c.Default != nil && migration.Mentions(c.Default.Text, name)
		})
}

func (d *postgres) makeRoutines(list []catalog.Routine) {
	for _, r := range list {
		if r.Definition == "" {
			d.Note("the %s %s, whose text is not known", r.Kind, r.Signature())
			continue
		}
		d.Step(createRoutine.ReplaceAllString(r.Definition, "CREATE OR REPLACE $1"))
	}
}

// createRoutine is the head of a routine that may be there already.
var createRoutine = regexp.MustCompile(`(?i)^\s*CREATE\s+(?:OR\s+REPLACE\s+)?(FUNCTION|PROCEDURE)\b`)

func (d *postgres) makeSchemas() {
	known := map[string]bool{"": true}
	for _, t := range d.Before.Tables {
		known[t.Schema] = true
	}
	for _, s := range append(d.Before.Schemas, "pg_catalog") {
		known[s] = true
	}
	want := slices.Clone(d.After.Schemas)
	for _, t := range d.After.Tables {
		want = append(want, t.Schema)
	}
	for _, e := range d.After.Enums {
		want = append(want, e.Schema)
	}
	for _, s := range want {
		if !known[s] {
			known[s] = true
			d.Step("CREATE SCHEMA IF NOT EXISTS " + d.Name(s))
		}
	}
}

func (d *postgres) rename(pairs []*migration.Pair) {
	for _, r := range d.Renames {
		switch r.Thing {
		case catalog.RenamedTable:
			d.renameTable(r)
		case catalog.RenamedEnum:
			d.renameThing("TYPE", r)
		}
	}
	for _, r := range d.Renames {
		switch r.Thing {
		case catalog.RenamedColumn:
			if t, ok := d.After.Table(catalog.Split(r.In)); ok && !t.IsView() {
				d.Step(fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s", d.Full(r.In), d.Name(r.From), d.Name(r.To)))
			}
		case catalog.RenamedLabel:
			d.Step(fmt.Sprintf("ALTER TYPE %s RENAME VALUE %s TO %s", d.Full(r.In), d.SQL.Literal(r.From), d.SQL.Literal(r.To)))
		}
	}
	for _, p := range pairs {
		for _, n := range p.ConstraintNames {
			d.Step(fmt.Sprintf("ALTER TABLE %s RENAME CONSTRAINT %s TO %s", d.TableOf(p.Now), d.Name(n[0]), d.Name(n[1])))
		}
		for _, n := range p.IndexNames {
			d.Step(fmt.Sprintf("ALTER INDEX %s RENAME TO %s", d.Table(p.Now.Schema, n[0]), d.Name(n[1])))
		}
	}
}

func (d *postgres) renameTable(r catalog.Rename) {
	kind := "TABLE"
	if t, ok := d.After.Table(catalog.Split(r.To)); ok && t.IsView() {
		kind = strings.ToUpper(string(t.Kind))
	}
	d.renameThing(kind, r)
}

func (d *postgres) renameThing(kind string, r catalog.Rename) {
	schema, name := catalog.Split(r.From)
	newSchema, newName := catalog.Split(r.To)
	if schema != newSchema {
		d.Step(fmt.Sprintf("ALTER %s %s SET SCHEMA %s", kind, d.Table(schema, name), d.schemaName(newSchema)))
	}
	if name != newName {
		d.Step(fmt.Sprintf("ALTER %s %s RENAME TO %s", kind, d.Table(newSchema, name), d.Name(newName)))
	}
}

// schemaName is a schema where one must be named; the connection's own is the
// public one unless somebody set it otherwise.
func (d *postgres) schemaName(schema string) string {
	if schema == "" {
		return "public"
	}
	return d.Name(schema)
}

func (d *postgres) makeTypes() {
	for _, e := range d.After.Enums {
		if _, there := d.At.Enum(catalog.Qualify(e.Schema, e.Name)); !there {
			d.Step(d.enumText(e, e.Name))
		}
	}
	d.sequences()
	var made []migration.Named
	for _, c := range d.After.Composites {
		if !slices.ContainsFunc(d.At.Composites, func(x catalog.Composite) bool { return x.Schema == c.Schema && x.Name == c.Name }) {
			fields := make([]string, len(c.Fields))
			for i, f := range c.Fields {
				fields[i] = d.Name(f.Name) + " " + f.Declared
			}
			made = append(made, migration.Named{Name: c.Name, Text: fmt.Sprintf("CREATE TYPE %s AS (%s)", d.Table(c.Schema, c.Name), strings.Join(fields, ", "))})
		}
	}
	for _, x := range d.After.Domains {
		if !slices.ContainsFunc(d.At.Domains, func(y catalog.Domain) bool { return y.Schema == x.Schema && y.Name == x.Name }) {
			made = append(made, migration.Named{Name: x.Name, Text: d.domainText(x)})
		}
	}
	for _, x := range migration.InOrder(made) {
		d.Step(x.Text)
	}
	d.alterDomains()
	d.alterComposites()
}

func (d *postgres) enumText(e catalog.Enum, name string) string {
	labels := make([]string, len(e.Labels))
	for i, l := range e.Labels {
		labels[i] = d.SQL.Literal(l)
	}
	return fmt.Sprintf("CREATE TYPE %s AS ENUM (%s)", d.Table(e.Schema, name), strings.Join(labels, ", "))
}

func (d *postgres) domainText(x catalog.Domain) string {
	text := fmt.Sprintf("CREATE DOMAIN %s AS %s", d.Table(x.Schema, x.Name), x.Declared)
	if x.Default != nil {
		text += " DEFAULT " + d.domainDefault(x.Default)
	}
	if x.NotNull {
		text += " NOT NULL"
	}
	for _, c := range x.Checks {
		text += fmt.Sprintf(" CONSTRAINT %s CHECK (%s)", d.Name(c.Name), c.Expr)
	}
	return text
}

func (d *postgres) domainDefault(def *catalog.Default) string {
	if def.Kind == catalog.Expression {
		return def.Text
	}
	return d.SQL.Literal(def.Text)
}

func (d *postgres) alterDomains() {
	for _, now := range d.After.Domains {
		i := slices.IndexFunc(d.At.Domains, func(y catalog.Domain) bool { return y.Schema == now.Schema && y.Name == now.Name })
		if i < 0 {
			continue
		}
		was := d.At.Domains[i]
		name := d.Table(now.Schema, now.Name)
		if was.Declared != now.Declared {
			d.Note("the domain %s becoming %s: make a new one, change the columns, drop the old one", now.Name, now.Declared)
		}
		for _, c := range was.Checks {
			if !slices.Contains(now.Checks, c) {
				d.Step(fmt.Sprintf("ALTER DOMAIN %s DROP CONSTRAINT %s", name, d.Name(c.Name)))
			}
		}
		for _, c := range now.Checks {
			if !slices.Contains(was.Checks, c) {
				d.Step(fmt.Sprintf("ALTER DOMAIN %s ADD CONSTRAINT %s CHECK (%s)", name, d.Name(c.Name), c.Expr))
			}
		}
		switch {
		case reflect.DeepEqual(was.Default, now.Default):
		case now.Default == nil:
			d.Step(fmt.Sprintf("ALTER DOMAIN %s DROP DEFAULT", name))
		default:
			d.Step(fmt.Sprintf("ALTER DOMAIN %s SET DEFAULT %s", name, d.domainDefault(now.Default)))
		}
		switch {
		case was.NotNull && !now.NotNull:
			d.Step(fmt.Sprintf("ALTER DOMAIN %s DROP NOT NULL", name))
		case !was.NotNull && now.NotNull:
			d.Step(fmt.Sprintf("ALTER DOMAIN %s SET NOT NULL", name))
		}
	}
}

func (d *postgres) alterComposites() {
	for _, now := range d.After.Composites {
		i := slices.IndexFunc(d.At.Composites, func(x catalog.Composite) bool { return x.Schema == now.Schema && x.Name == now.Name })
		if i < 0 {
			continue
		}
		was := d.At.Composites[i]
		find := func(list []catalog.CompositeField, name string) *catalog.CompositeField {
			k := slices.IndexFunc(list, func(f catalog.CompositeField) bool { return f.Name == name })
			if k < 0 {
				return nil
			}
			return &list[k]
		}
		alter := "ALTER TYPE " + d.Table(now.Schema, now.Name)
		for _, f := range was.Fields {
			if find(now.Fields, f.Name) == nil {
				drop := fmt.Sprintf("%s DROP ATTRIBUTE %s", alter, d.Name(f.Name))
				d.Decision(fmt.Sprintf("The field %s of the type %s is gone. What becomes of its values?", f.Name, now.Name), migration.Proposal{Title: "drop it, its values are not needed", SQL: []string{drop}})
			}
		}
		for _, f := range now.Fields {
			switch old := find(was.Fields, f.Name); {
			case old == nil:
				d.Step(fmt.Sprintf("%s ADD ATTRIBUTE %s %s", alter, d.Name(f.Name), f.Declared))
			case old.Declared != f.Declared && d.inUse(now):
				d.Note("the field %s of the type %s becoming %s, since tables use the type: make a new type, change the columns, drop the old one", f.Name, now.Name, f.Declared)
			case old.Declared != f.Declared:
				d.Step(fmt.Sprintf("%s ALTER ATTRIBUTE %s TYPE %s", alter, d.Name(f.Name), f.Declared))
			}
		}
	}
}

// inUse reports whether a column is of the type.
func (d *postgres) inUse(c catalog.Composite) bool {
	full := catalog.Qualify(c.Schema, c.Name)
	return slices.ContainsFunc(d.At.Tables, func(t catalog.Table) bool {
		return slices.ContainsFunc(t.Columns, func(x catalog.Column) bool { return migration.RowType(x.Type) == full })
	})
}

// relabel changes the labels of enums. New ones are added where they belong;
// one that is gone, another order, or a new one that the script uses itself,
// which its transaction could not do yet, needs a new type in place of the old
// one.
func (d *postgres) relabel() {
	for _, now := range d.After.Enums {
		was, ok := d.At.Enum(catalog.Qualify(now.Schema, now.Name))
		switch {
		case !ok || slices.Equal(was.Labels, now.Labels):
		case d.OnlyAdds(*was, now):
			d.addLabels(*was, now)
		default:
			d.replaceEnum(*was, now)
		}
	}
}

func (d *postgres) addLabels(was, now catalog.Enum) {
	var statements []string
	name := d.Table(now.Schema, now.Name)
	for i, l := range now.Labels {
		if slices.Contains(was.Labels, l) {
			continue
		}
		place := ""
		switch {
		case i > 0:
			place = " AFTER " + d.SQL.Literal(now.Labels[i-1])
		case len(was.Labels) > 0:
			place = " BEFORE " + d.SQL.Literal(was.Labels[0])
		}
		statements = append(statements, fmt.Sprintf("ALTER TYPE %s ADD VALUE %s%s", name, d.SQL.Literal(l), place))
	}
	d.Step(statements...)
}

// enumColumns are the columns of a type that keep it.
func (d *postgres) enumColumns(full string) []migration.Alteration {
	var list []migration.Alteration
	for i := range d.At.Tables {
		t := &d.At.Tables[i]
		now, ok := d.After.Table(t.Schema, t.Name)
		if !ok || t.IsView() {
			continue
		}
		for k := range t.Columns {
			is, there := now.Column(t.Columns[k].Name)
			if there && migration.UsesEnum(t.Columns[k].Type, full) && migration.UsesEnum(is.Type, full) {
				list = append(list, migration.Alteration{Was: &t.Columns[k], Now: is})
			}
		}
	}
	return list
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
	fresh := d.Table(now.Schema, now.Name)
	d.spare[full] = d.FreeName(now.Schema, now.Name+oldType)
	d.Step(fmt.Sprintf("ALTER TYPE %s RENAME TO %s", fresh, d.Name(d.spare[full])), d.enumText(now, now.Name))
	var rewrites []string
	for _, c := range columns {
		table, column := d.TableOf(d.tableWith(c.Was, d.At)), d.Name(c.Was.Name)
		suffix, text := "", "text"
		if c.Was.Type.Kind == catalog.Array {
			suffix, text = "[]", "text[]"
		}
		if c.Was.Generated != "" {
			continue // it was dropped, and is made again
		}
		if c.Was.Default != nil {
			rewrites = append(rewrites, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s DROP DEFAULT", table, column))
		}
		rewrites = append(rewrites, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s TYPE %s%s USING %[2]s::%[5]s::%[3]s%[4]s", table, column, fresh, suffix, text))
		if c.Now.Default != nil && reflect.DeepEqual(c.Was.Default, c.Now.Default) {
			rewrites = append(rewrites, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET DEFAULT %s", table, column, d.DefaultText(c.Now)))
		}
	}
	d.Noted("This rewrites the tables, which nobody can read or write meanwhile.", rewrites...)
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
func (d *postgres) decideLabel(label, other, full string, columns []migration.Alteration) {
	var moves []string
	var checks []migration.Check
	for _, c := range columns {
		p := d.PairOf(d.tableWith(c.Was, d.At))
		if p == nil {
			continue
		}
		f := d.Former(p)
		column, condition := d.Name(c.Was.Name), ""
		switch c.Was.Type.Kind {
		case catalog.EnumKind:
			condition = fmt.Sprintf("%s = %s", f.Column(c.Was.Name), d.SQL.Literal(d.OldLabel(full, label)))
			if other != "" {
				moves = append(moves, d.Update(p, fmt.Sprintf("%s = %s", column, d.SQL.Literal(other)), fmt.Sprintf("%s = %s", column, d.SQL.Literal(label)))...)
			}
		default:
			condition = fmt.Sprintf("%s = ANY (%s)", d.SQL.Literal(d.OldLabel(full, label)), f.Column(c.Was.Name))
		}
		checks = append(checks, f.Where(c.Was.Name, []string{c.Was.Name}, "rows have the label "+label+", which is gone", condition, "give them another label"))
	}
	proposals := []migration.Proposal{{Title: "the script stops if a row has it", Checks: checks}}
	if len(moves) > 0 {
		proposals = append(proposals, migration.Proposal{Title: "they get " + other, SQL: moves})
	}
	d.Decision(fmt.Sprintf("The label %s of %s is gone. What do rows get that have it?", label, full), proposals...)
}

// oldType stands behind the name of a type that another takes the place of.
const oldType = "_old"

// dropParts drops constraints, indexes and computed columns that change.
func (d *postgres) dropParts(p *migration.Pair) {
	table := d.TableOf(p.Now)
	drop := func(name string) { d.Step(fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", table, d.Name(name))) }
	for _, r := range p.DropReferences {
		if !d.goes(p, r.Name, r.Columns) {
			drop(r.Name)
		}
	}
	for _, c := range p.DropChecks {
		drop(c.Name)
	}
	for _, in := range p.DropIndexes {
		if d.goes(p, in.Name, in.Columns) {
			continue
		}
		d.Step("DROP INDEX " + d.Table(p.Now.Schema, in.Name))
	}
	for _, a := range p.Altered {
		switch {
		case a.Freed():
			d.Step(fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s DROP EXPRESSION", table, d.Name(a.Was.Name)))
		case a.Computed() && a.Was.Generated != "":
			d.Step(fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", table, d.Name(a.Was.Name)))
		}
	}
	for _, c := range p.Dropped {
		if c.Generated != "" {
			d.Step(fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", table, d.Name(c.Name)))
		}
	}
}

// goes reports whether one of the columns is dropped, which takes along what is
// over it: so the table is locked only then, and not while its values are carried
// elsewhere. What gives its name to something new must go before.
func (d *postgres) goes(p *migration.Pair, name string, columns []string) bool {
	return !d.claimed(p.Now.Schema, name) && slices.ContainsFunc(p.Dropped, func(c *catalog.Column) bool { return c.Generated == "" && slices.Contains(columns, c.Name) })
}

// claimed reports whether the new schema has something of this name, which
// indexes and keys share in a schema.
func (d *postgres) claimed(schema, name string) bool {
	return slices.ContainsFunc(d.After.Tables, func(t catalog.Table) bool {
		return t.Schema == schema && slices.Contains(migration.IndexNames(&t), name)
	})
}

// freeNames takes names from the indexes of tables that go at the end where
// something new has them.
func (d *postgres) freeNames(pairs []*migration.Pair) {
	for _, t := range d.Gone() {
		named := migration.PartNames(t.Uniques, t.Indexes, nil, nil)
		if t.PrimaryKey != nil {
			named = append(named, t.PrimaryKey.Name)
		}
		for _, name := range named {
			if name != "" && d.claimed(t.Schema, name) {
				d.Step(fmt.Sprintf("ALTER INDEX %s RENAME TO %s", d.Table(t.Schema, name), d.Name(d.FreeName(t.Schema, name+"_before"))))
			}
		}
	}
}

// dropKeys comes behind the references of all tables.
func (d *postgres) dropKeys(p *migration.Pair) {
	table := d.TableOf(p.Now)
	for _, k := range p.DropUniques {
		if d.goes(p, k.Name, k.Columns) {
			continue
		}
		if k.Index {
			d.Step("DROP INDEX " + d.Table(p.Now.Schema, k.Name))
		} else {
			d.Step(fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", table, d.Name(k.Name)))
		}
	}
	if p.KeyChanged && p.Old.PrimaryKey != nil {
		d.Step(fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", table, d.Name(p.Old.PrimaryKey.Name)))
	}
}

// column is a column as it is declared; mandatory ones may be left nullable for
// now.
func (d *postgres) column(c *catalog.Column, notNull bool) string {
	declared := c.Declared
	if numbered, ok := d.numbered(c); ok {
		declared = numbered
	}
	text := d.Name(c.Name) + " " + declared
	if c.Collation != "" {
		text += " COLLATE " + d.SQL.Quoted(c.Collation)
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
			text += " DEFAULT " + d.DefaultText(c)
		}
	case def.Sequence != "":
		text += fmt.Sprintf(" DEFAULT nextval(%s)", d.SQL.Literal(d.Full(def.Sequence)))
	}
	if notNull && !c.Nullable && !d.domainNotNull(c) && !strings.Contains(declared, "serial") {
		text += " NOT NULL"
	}
	return text
}

func (d *postgres) domain(c *catalog.Column) (catalog.Domain, bool) {
	i := slices.IndexFunc(d.After.Domains, func(x catalog.Domain) bool { return c.Domain != "" && catalog.Qualify(x.Schema, x.Name) == c.Domain })
	if i < 0 {
		return catalog.Domain{}, false
	}
	return d.After.Domains[i], true
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
			late = append(late, fmt.Sprintf("ALTER TABLE %s ADD %s", d.TableOf(t), d.checkText(c)))
			continue
		}
		parts = append(parts, d.checkText(c))
	}
	for _, r := range t.References {
		if d.Early(t, r) && !d.plainly(t, r.Name, r.Columns, "fkey") {
			parts = append(parts, fmt.Sprintf("CONSTRAINT %s %s", d.Name(r.Name), d.ReferenceText(r)))
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
		if !d.After.Complete {
			d.Note("the partitions of the table %s must be made by hand, since they are not read from scripts", t.FullName())
		}
	}
	if slices.Contains(t.Options, "foreign") {
		d.Note("the foreign table %s must be made by hand, since its server is not known", t.FullName())
		return
	}
	d.Step(fmt.Sprintf("CREATE %sTABLE %s (\n    %s\n)%s", unlogged, d.TableOf(t), strings.Join(parts, ",\n    "), tail))
	d.Step(late...)
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
			d.Step(d.keyIndex(t, k))
		}
	}
	for _, in := range t.Indexes {
		d.Step(d.index(t, in))
	}
}

func (d *postgres) checkText(c catalog.Check) string {
	return strings.TrimSpace(fmt.Sprintf("CONSTRAINT %s CHECK (%s) %s", d.Name(c.Name), c.Expr, c.Options))
}

func (d *postgres) fullNames(list []string) string {
	quoted := make([]string, len(list))
	for i, full := range list {
		quoted[i] = d.Full(full)
	}
	return strings.Join(quoted, ", ")
}

func (d *postgres) inherited(t *catalog.Table, column string) bool {
	return slices.ContainsFunc(t.Inherits, func(full string) bool {
		parent, ok := d.After.Table(catalog.Split(full))
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
		if own(r.Columns) && d.Early(t, r) && d.plainly(t, r.Name, r.Columns, "fkey") {
			text += strings.TrimPrefix(d.ReferenceText(r), "FOREIGN KEY ("+d.Name(c.Name)+")")
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
		return "CONSTRAINT " + d.Name(k.Name) + " " + k.Definition
	}
	text := fmt.Sprintf("CONSTRAINT %s %s (%s)", d.Name(k.Name), kind, d.Names(k.Columns))
	if k.Deferrable {
		text += " DEFERRABLE"
	}
	return text
}

func (d *postgres) keyIndex(t *catalog.Table, k catalog.Key) string {
	if k.Definition != "" {
		return k.Definition
	}
	return fmt.Sprintf("CREATE UNIQUE INDEX %s ON %s (%s)", d.Name(k.Name), d.TableOf(t), d.Names(k.Columns))
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
	return fmt.Sprintf("CREATE %sINDEX %s ON %s%s (%s)%s", unique, d.Name(in.Name), d.TableOf(t), method, d.Names(in.Columns), where)
}

// lateReferences are those of new tables that had to wait.
func (d *postgres) lateReferences() {
	for _, t := range d.Fresh() {
		for _, r := range t.References {
			if !d.Early(t, r) {
				d.addReference(t, r, 0)
			}
		}
	}
}

func (d *postgres) addReference(t *catalog.Table, r catalog.Reference, rows int64) {
	note := ""
	if migration.Big(rows) {
		note = fmt.Sprintf("Every row is looked at, and writers of both tables wait. On a large table add it with\nNOT VALID, and behind the transaction ALTER TABLE %s VALIDATE CONSTRAINT %s.", d.TableOf(t), d.Name(r.Name))
	}
	if rows == 0 && t.Rows <= 0 {
		note = ""
	}
	d.Noted(note, fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s %s", d.TableOf(t), d.Name(r.Name), d.ReferenceText(r)))
}

// columns adds, changes and fills.
func (d *postgres) columns(p *migration.Pair) {
	table := d.TableOf(p.Now)
	_, into := p.Split()
	var later []string
	for _, c := range p.Added {
		add := fmt.Sprintf("ALTER TABLE %s ADD COLUMN ", table)
		switch {
		case c.Generated != "":
		case needsSequence(c):
			bare := *c
			bare.Default = nil
			d.Step(add + d.column(&bare, false))
			d.makeNumbers(p.Now, c, false)
			d.Step(d.Update(p, fmt.Sprintf("%s = DEFAULT", d.Name(c.Name)), "")...)
			if !c.Nullable {
				later = append(later, c.Name)
			}
		case slices.Contains(into, c):
			d.Step(add + d.column(c, false))
			if !c.Nullable {
				later = append(later, c.Name)
			}
		case migration.Mandatory(c) && !d.domainHas(c):
			d.DecideNew(p, c, func(value string) []string { return d.addFilled(p, c, value) }, []string{add + d.column(c, true)})
		default:
			d.Noted(d.noteOnDefault(p, c), add+d.column(c, true))
		}
	}
	d.DecideSplit(p)
	for _, name := range later {
		d.setNotNull(p, name)
	}
	d.DecideNulls(p)
	for _, a := range p.Altered {
		d.alter(p, a)
	}
	for _, c := range p.Added {
		if c.Generated != "" {
			d.computed(p, c)
		}
	}
	for _, a := range p.Altered {
		if a.Computed() && a.Now.Generated != "" {
			d.computed(p, a.Now)
		}
	}
}

// addFilled adds a mandatory column with the same value in all rows, without
// touching them where the value is a constant.
func (d *postgres) addFilled(p *migration.Pair, c *catalog.Column, value string) []string {
	table, column := d.TableOf(p.Now), d.Name(c.Name)
	if strings.HasPrefix(value, "(SELECT") {
		return slices.Concat([]string{fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", table, d.column(c, false))},
			d.Update(p, column+" = "+value, ""), []string{fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET NOT NULL", table, column)})
	}
	filled := fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s DEFAULT %s", table, d.column(c, false), value)
	if !d.domainNotNull(c) {
		filled += " NOT NULL"
	}
	return []string{filled, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s DROP DEFAULT", table, column)}
}

func (d *postgres) computed(p *migration.Pair, c *catalog.Column) {
	note := ""
	if migration.Big(p.Old.Rows) {
		note = "This rewrites the table, which nobody can read or write meanwhile."
	}
	d.Noted(note, fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", d.TableOf(p.Now), d.column(c, true)))
}

// volatile are functions whose values the engine must compute for each row.
var volatile = []string{"random", "gen_random_uuid", "uuid_generate_v4", "clock_timestamp", "nextval", "timeofday"}

func (d *postgres) noteOnDefault(p *migration.Pair, c *catalog.Column) string {
	if !migration.Big(p.Old.Rows) || c.Default == nil {
		return ""
	}
	each := c.Default.Kind == catalog.Identity || slices.ContainsFunc(volatile, func(f string) bool { return migration.Mentions(c.Default.Text, f) })
	if !each {
		return ""
	}
	return "Each row gets a value of its own, so this rewrites the table, which nobody can read or\nwrite meanwhile. On a large table add the column without the default, set it, and fill\nthe rows in portions."
}

func (d *postgres) setNotNull(p *migration.Pair, column string) {
	note := ""
	if migration.Big(p.Old.Rows) {
		note = fmt.Sprintf("All rows are looked at under a lock. On a large table first ADD CONSTRAINT … CHECK (%s IS NOT NULL)\nNOT VALID, then VALIDATE it in a transaction of its own; this then takes no time.", d.Name(column))
	}
	d.Noted(note, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET NOT NULL", d.TableOf(p.Now), d.Name(column)))
}

// alter changes a column that stays.
func (d *postgres) alter(p *migration.Pair, a migration.Alteration) {
	if a.Computed() && !a.Freed() {
		if a.Was.Generated == "" {
			d.DecideLost(p, a.Was, fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", d.TableOf(p.Now), d.Name(a.Was.Name)))
		}
		return
	}
	alter := fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s ", d.TableOf(p.Now), d.Name(a.Now.Name))
	otherDefault := !reflect.DeepEqual(a.Was.Default, a.Now.Default)
	retyped := a.Retyped()
	ordinary := a.Was.Default != nil && !ownNumbers(a.Was.Default)
	if ordinary && (otherDefault || retyped) {
		d.Step(alter + "DROP DEFAULT")
	}
	if retyped {
		d.retype(p, a, alter)
	}
	switch {
	case a.Was.Nullable && !a.Now.Nullable:
		if !d.domainNotNull(a.Now) {
			d.setNotNull(p, a.Now.Name)
		}
	case !a.Was.Nullable && a.Now.Nullable && !slices.Contains(migration.KeyColumns(p.Now), a.Now.Name):
		d.Step(alter + "DROP NOT NULL")
	}
	if ownNumbers(a.Was.Default) || ownNumbers(a.Now.Default) {
		if otherDefault || retyped {
			if ordinary {
				a.Was = &catalog.Column{Name: a.Was.Name, Declared: a.Was.Declared}
			}
			if d.renumber(p, a) {
				return
			}
		} else {
			return
		}
	}
	if a.Now.Default != nil && (otherDefault || retyped) {
		d.setDefault(a, alter)
	}
}

func (d *postgres) setDefault(a migration.Alteration, alter string) {
	switch def := a.Now.Default; {
	case def.Kind == catalog.Identity:
		d.Step(alter + fmt.Sprintf("SET DEFAULT nextval(%s)", d.SQL.Literal(d.Full(def.Sequence))))
	case !d.domainHas(a.Now):
		d.Step(alter + "SET DEFAULT " + d.DefaultText(a.Now))
	}
}

// retype changes a type, after a decision where values could be lost.
func (d *postgres) retype(p *migration.Pair, a migration.Alteration, alter string) {
	column := d.Name(a.Now.Name)
	change := func(using string) string {
		text := alter + "TYPE " + a.Now.Declared
		if a.Now.Collation != "" {
			text += " COLLATE " + d.SQL.Quoted(a.Now.Collation)
		}
		if using != "" {
			text += " USING " + using
		}
		return text
	}
	using := ""
	if a.Was.Type.Kind != a.Now.Type.Kind || a.Was.Type.Enum != a.Now.Type.Enum || a.Was.Type.Composite != a.Now.Type.Composite || a.Now.Type.Kind == catalog.Array {
		using = pgCast(a.Was, a.Now, column)
	}
	note := ""
	if migration.Big(p.Old.Rows) && !inPlace(a) {
		note = "This rewrites the table, which nobody can read or write meanwhile. On a large table add a\nsecond column, fill it in portions, and change their names in a short transaction."
	}
	f := d.Former(p)
	conversion := pgConversion(d.Writing, a, f.Column(a.Now.Name))
	if conversion.Harmless() {
		d.Noted(note, change(using))
		return
	}
	question := fmt.Sprintf("%s of %s becomes %s, which not every %s fits into. What becomes of the values?", a.Now.Name, p.Now.FullName(), a.Now.Declared, a.Was.Declared)
	dropped := migration.Proposal{Title: "they are dropped", SQL: []string{change("NULL::" + a.Now.Declared)}}
	if conversion.Anchored {
		some := f.Where(a.Now.Name, []string{a.Now.Name}, "rows have a value, and its time zone is not known", f.Column(a.Now.Name)+" IS NOT NULL", "take another proposal")
		d.Decision(fmt.Sprintf("%s of %s becomes %s, was %s. Which time zone are its values in?", a.Now.Name, p.Now.FullName(), a.Now.Declared, a.Was.Declared),
			migration.Proposal{Title: "UTC", SQL: []string{change(inUTC(a, column))}},
			migration.Proposal{Title: "the script stops if there is a value", SQL: []string{change(inUTC(a, column))}, Checks: []migration.Check{some}}, dropped)
	} else {
		d.Decision(question,
			migration.Proposal{Title: "the script stops where one would not be the same afterwards", SQL: []string{change(using)}, Checks: []migration.Check{f.Conversion(a, conversion)}},
			migration.Proposal{Title: "they are rounded or cut where they must be", SQL: []string{change(pgCast(a.Was, a.Now, column))}}, dropped)
	}
	if note != "" {
		d.Script.Steps[len(d.Script.Steps)-1].Note = note
	}
}

// inUTC is an expression of a time of which the zone comes or goes.
func inUTC(a migration.Alteration, column string) string {
	was, now := a.Was.Type.Kind, a.Now.Type.Kind
	switch {
	case was == catalog.TimestampTZ:
		return fmt.Sprintf("(%s AT TIME ZONE 'UTC')::%s", column, a.Now.Declared)
	case now == catalog.TimestampTZ && was != catalog.Time:
		return fmt.Sprintf("%s::timestamp AT TIME ZONE 'UTC'", column)
	}
	return column + "::" + a.Now.Declared
}

// dollars quotes a body by a tag that is not in it.
func dollars(body string) string {
	tag := "$$"
	for strings.Contains(body, tag) {
		tag = "$x" + tag[1:]
	}
	return tag + "\n" + body + "\n" + tag
}

// inPlace reports whether the server changes the type without touching the rows.
func inPlace(a migration.Alteration) bool {
	sized := func(t catalog.Type) bool { return t.Kind == catalog.Text || t.Kind == catalog.Decimal }
	if a.Was.Type.Kind != a.Now.Type.Kind || !sized(a.Was.Type) || !migration.Widens(a.Was.Type, a.Now.Type) {
		return false
	}
	return a.Was.Type.Kind == catalog.Text && !strings.HasPrefix(a.Was.Declared+a.Now.Declared, "character(") || a.Was.Type.Scale == a.Now.Type.Scale
}

// addKeys adds keys, checks and indexes.
func (d *postgres) addKeys(p *migration.Pair) {
	table := d.TableOf(p.Now)
	big := migration.Big(p.Old.Rows)
	if p.KeyChanged && p.Now.PrimaryKey != nil {
		d.Noted(d.noteOnKey(big, p, *p.Now.PrimaryKey, "PRIMARY KEY"), fmt.Sprintf("ALTER TABLE %s ADD %s", table, d.keyText("PRIMARY KEY", *p.Now.PrimaryKey)))
	}
	for _, k := range p.AddUniques {
		if k.Index {
			d.Noted(d.noteOnIndex(big), d.keyIndex(p.Now, k))
		} else {
			d.Noted(d.noteOnKey(big, p, k, "UNIQUE"), fmt.Sprintf("ALTER TABLE %s ADD %s", table, d.keyText("UNIQUE", k)))
		}
	}
	for _, c := range p.AddChecks {
		note := ""
		if big {
			note = fmt.Sprintf("Every row is looked at under a lock. On a large table add it with NOT VALID, and behind the\ntransaction ALTER TABLE %s VALIDATE CONSTRAINT %s.", table, d.Name(c.Name))
		}
		d.Noted(note, fmt.Sprintf("ALTER TABLE %s ADD %s", table, d.checkText(c)))
	}
	for _, in := range p.AddIndexes {
		d.Noted(d.noteOnIndex(big), d.index(p.Now, in))
	}
}

func (d *postgres) noteOnIndex(big bool) string {
	if !big {
		return ""
	}
	return "Writers wait until the index is built. On a large table take it out of the transaction, and\nsay CREATE INDEX CONCURRENTLY."
}

func (d *postgres) noteOnKey(big bool, p *migration.Pair, k catalog.Key, kind string) string {
	if !big {
		return ""
	}
	return fmt.Sprintf("The table is locked until the index is built. On a large table first, outside of a transaction,\nCREATE UNIQUE INDEX CONCURRENTLY %s ON %s (%s),\nthen ADD CONSTRAINT … %s USING INDEX.", d.Name(k.Name), d.TableOf(p.Now), d.Names(k.Columns), kind)
}

// lose drops the columns that are gone, each after a decision.
func (d *postgres) lose(p *migration.Pair) {
	for _, c := range p.Dropped {
		if c.Generated == "" {
			d.DecideLost(p, c, fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", d.TableOf(p.Now), d.Name(c.Name)))
		}
	}
}

func (d *postgres) dropTables() {
	gone := d.Gone()
	for _, t := range gone { // which may refer to each other in a circle
		for _, r := range t.References {
			if d.Freed[t.FullName()+"."+r.Name] {
				continue
			}
			if r.Table != t.Name && slices.ContainsFunc(gone, func(x *catalog.Table) bool { return x.Name == r.Table && x.Schema == r.Schema }) {
				d.Step(fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", d.TableOf(t), d.Name(r.Name)))
			}
		}
	}
	for _, t := range gone {
		kind := "TABLE"
		if slices.Contains(t.Options, "foreign") {
			kind = "FOREIGN TABLE"
		}
		d.DecideGone(t, fmt.Sprintf("DROP %s %s", kind, d.TableOf(t)))
	}
}

func (d *postgres) dropTypes() {
	for _, e := range d.replaced {
		d.Step("DROP TYPE " + d.Table(e.Schema, d.spare[catalog.Qualify(e.Schema, e.Name)]))
	}
	for _, x := range d.At.Domains {
		if !slices.ContainsFunc(d.After.Domains, func(y catalog.Domain) bool { return y.Schema == x.Schema && y.Name == x.Name }) {
			d.dropType("DOMAIN", x.Schema, x.Name)
		}
	}
	for _, c := range d.At.Composites {
		if !slices.ContainsFunc(d.After.Composites, func(x catalog.Composite) bool { return x.Schema == c.Schema && x.Name == c.Name }) {
			d.dropType("TYPE", c.Schema, c.Name)
		}
	}
	for _, e := range d.At.Enums {
		if _, there := d.After.Enum(catalog.Qualify(e.Schema, e.Name)); !there {
			d.dropType("TYPE", e.Schema, e.Name)
		}
	}
	for _, s := range d.At.Sequences {
		if !slices.ContainsFunc(d.After.Sequences, func(x catalog.Sequence) bool { return x.Schema == s.Schema && x.Name == s.Name }) {
			d.Step("DROP SEQUENCE " + d.Table(s.Schema, s.Name))
		}
	}
}

// dropType drops a type, but for one that a table uses which may stay under
// another name.
func (d *postgres) dropType(kind, schema, name string) {
	full := catalog.Qualify(schema, name)
	uses := func(t *catalog.Table) bool {
		return slices.ContainsFunc(t.Columns, func(c catalog.Column) bool {
			return migration.UsesEnum(c.Type, full) || migration.RowType(c.Type) == full || c.Domain == full
		})
	}
	if slices.ContainsFunc(d.Kept, uses) {
		d.Note("the type %s stays, since a table uses it that stays under another name", full)
		return
	}
	d.Step("DROP " + kind + " " + d.Table(schema, name))
}

// comments sets what is said of tables and columns where it is different; a view
// that was made again has none.
func (d *postgres) comments() {
	for i := range d.After.Tables {
		now := &d.After.Tables[i]
		was, ok := d.At.Table(now.Schema, now.Name)
		if !ok || was.IsView() != now.IsView() || d.remade[now.FullName()] {
			was = &catalog.Table{}
		}
		if was.Comment != now.Comment {
			d.Step(fmt.Sprintf("COMMENT ON %s %s IS %s", strings.ToUpper(string(now.Kind)), d.TableOf(now), d.commentText(now.Comment)))
		}
		for k := range now.Columns {
			c := &now.Columns[k]
			old := ""
			if x, there := was.Column(c.Name); there && !d.madeAgain(now, c) {
				old = x.Comment
			}
			if old != c.Comment {
				d.Step(fmt.Sprintf("COMMENT ON COLUMN %s.%s IS %s", d.TableOf(now), d.Name(c.Name), d.commentText(c.Comment)))
			}
		}
	}
	was, now := d.commented(d.At), d.commented(d.After)
	for _, on := range slices.Sorted(maps.Keys(now)) {
		if was[on] != now[on] {
			d.Step(fmt.Sprintf("COMMENT ON %s IS %s", on, d.commentText(now[on])))
		}
	}
}

// madeAgain reports whether a computed column was dropped and made again.
func (d *postgres) madeAgain(t *catalog.Table, c *catalog.Column) bool {
	p := d.PairOf(t)
	return p != nil && (p.IsAdded(c.Name) || slices.ContainsFunc(p.Altered, func(a migration.Alteration) bool { return a.Now == c && a.Computed() && !a.Freed() }))
}

// commented are the comments on types and routines.
func (d *postgres) commented(c *catalog.Catalog) map[string]string {
	texts := map[string]string{}
	for _, e := range c.Enums {
		texts["TYPE "+d.Table(e.Schema, e.Name)] = e.Comment
	}
	for _, t := range c.Composites {
		texts["TYPE "+d.Table(t.Schema, t.Name)] = t.Comment
	}
	for _, x := range c.Domains {
		texts["DOMAIN "+d.Table(x.Schema, x.Name)] = x.Comment
	}
	for _, r := range c.Routines {
		texts[strings.ToUpper(r.Kind)+" "+d.Table(r.Schema, r.Name)+argumentTypes(r)] = r.Comment
	}
	return texts
}

func (d *postgres) commentText(s string) string {
	if s == "" {
		return "NULL"
	}
	return d.SQL.Literal(s)
}
