package migration

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/read/script"
)

// sqlite drafts for SQLite, which changes little of a table in place. For the
// rest a new table takes the rows over and then the name, as the engine's
// documentation advises, with references switched off meanwhile and checked at
// the end.
type sqlite struct{ *draft }

func (d *sqlite) write() {
	pairs := d.pairs()
	rebuilt := map[string]bool{}
	touched := d.touched(pairs)
	for _, p := range pairs {
		if d.needsRebuild(p) {
			rebuilt[p.now.Name] = true
			touched = append(touched, d.oldName(p.now.Name))
		}
	}
	off := len(rebuilt)+len(d.gone()) > 0
	if off {
		d.script.Steps = append(d.script.Steps, Step{Note: "Or dropping a table would drop rows that refer to it.", SQL: []string{"PRAGMA foreign_keys = OFF"}, Place: Ahead})
	}
	drop, remake := d.views(touched)
	for _, v := range drop {
		d.step("DROP VIEW " + d.name(v.Name))
	}
	triggers := d.dropTriggers(touched)
	d.rename()
	for _, t := range d.fresh() {
		d.makeTable(t)
	}
	for _, p := range pairs {
		if rebuilt[p.now.Name] {
			d.rebuild(p)
		} else {
			d.change(p)
		}
	}
	for _, t := range d.gone() {
		d.decideGone(t, "DROP TABLE "+d.name(t.Name))
	}
	if off {
		d.noted("Every reference leads somewhere.",
			"CREATE TEMP TABLE widegate_stop (leads int, CONSTRAINT every_reference_leads_somewhere CHECK (leads = 1))",
			"INSERT INTO widegate_stop SELECT 0 FROM pragma_foreign_key_check LIMIT 1", "DROP TABLE widegate_stop")
		d.script.Steps = append(d.script.Steps, Step{SQL: []string{"PRAGMA foreign_keys = ON"}, Place: Behind})
	}
	for _, v := range remake {
		d.step(strings.TrimSpace(v.Definition))
	}
	d.makeTriggers(triggers)
}

// dropTriggers drops those that are gone or read differently, and those that
// have to do with a table that is made again. It returns the names of the ones
// that stay as they are.
func (d *sqlite) dropTriggers(touched []string) map[string]bool {
	stay := map[string]bool{}
	for _, t := range d.before.Tables {
		now, ok := d.after.Table("", d.newName(t.Name))
		for _, trigger := range t.Triggers {
			same := ok && slices.ContainsFunc(now.Triggers, func(x catalog.Trigger) bool {
				return x.Name == trigger.Name && catalog.SameText(x.Definition, trigger.Definition)
			})
			same = same && !slices.ContainsFunc(touched, func(name string) bool { return mentions(trigger.Definition, name) })
			if same {
				stay[trigger.Name] = true
			} else {
				d.step("DROP TRIGGER " + d.name(trigger.Name))
			}
		}
	}
	return stay
}

func (d *sqlite) newName(old string) string {
	for _, r := range d.renames {
		if r.Thing == catalog.RenamedTable && r.From == old {
			return r.To
		}
	}
	return old
}

func (d *sqlite) makeTriggers(stay map[string]bool) {
	for _, t := range d.after.Tables {
		for _, trigger := range t.Triggers {
			if !stay[trigger.Name] {
				d.step(trigger.Definition)
			}
		}
	}
}

func (d *sqlite) rename() {
	for _, r := range d.renames {
		if r.Thing == catalog.RenamedTable {
			if t, ok := d.after.Table("", r.To); ok && !t.IsView() {
				d.step(fmt.Sprintf("ALTER TABLE %s RENAME TO %s", d.name(r.From), d.name(r.To)))
			}
		}
	}
	for _, r := range d.renames {
		if r.Thing == catalog.RenamedColumn {
			d.step(fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s", d.name(r.In), d.name(r.From), d.name(r.To)))
		}
	}
}

// needsRebuild reports whether a table cannot be changed in place.
func (d *sqlite) needsRebuild(p *pair) bool {
	constraint := func(k catalog.Key) bool { return !k.Index }
	switch {
	case p.keyChanged, len(p.altered) > 0, len(p.dropReferences) > 0, len(p.dropChecks) > 0, len(p.addChecks) > 0, !slices.Equal(p.old.Options, p.now.Options),
		slices.ContainsFunc(p.dropUniques, constraint), slices.ContainsFunc(p.addUniques, constraint):
		return true
	}
	for _, c := range p.added {
		if !d.canAdd(p, c) {
			return true
		}
	}
	for _, r := range p.addReferences {
		if len(r.Columns) != 1 || !slices.ContainsFunc(p.added, func(c *catalog.Column) bool { return c.Name == r.Columns[0] }) {
			return true
		}
	}
	return slices.ContainsFunc(p.dropped, func(c *catalog.Column) bool { return !d.canDrop(p, c) })
}

// canAdd reports whether a column can be added in place: without a key, and with
// the same value in all rows.
func (d *sqlite) canAdd(p *pair, c *catalog.Column) bool {
	refers := slices.ContainsFunc(p.now.References, func(r catalog.Reference) bool { return slices.Contains(r.Columns, c.Name) })
	constant := c.Default == nil || c.Default.Kind == catalog.Constant
	return d.fragment(p.now, c.Name) != "" && !mandatory(c) && constant && c.Generated == "" && !(refers && c.Default != nil) && (c.Nullable || c.Default != nil) &&
		!slices.Contains(keyColumns(p.now), c.Name) && !slices.ContainsFunc(p.now.Uniques, func(k catalog.Key) bool { return !k.Index && slices.Contains(k.Columns, c.Name) })
}

// canDrop reports whether nothing else in the table has to do with a column.
func (d *sqlite) canDrop(p *pair, c *catalog.Column) bool {
	in := func(columns []string) bool { return slices.Contains(columns, c.Name) }
	return !in(keyColumns(p.old)) && !slices.ContainsFunc(p.old.Uniques, func(k catalog.Key) bool { return in(k.Columns) }) &&
		!slices.ContainsFunc(p.old.References, func(r catalog.Reference) bool { return in(r.Columns) }) &&
		!slices.ContainsFunc(p.old.Checks, func(x catalog.Check) bool { return mentions(x.Expr, c.Name) }) &&
		!slices.ContainsFunc(p.old.Columns, func(x catalog.Column) bool { return mentions(x.Generated, c.Name) }) &&
		!slices.ContainsFunc(p.old.Indexes, func(x catalog.Index) bool {
			return in(x.Columns) || mentions(x.Where, c.Name) || mentions(x.Definition, c.Name)
		})
}

// fragment is a column as the text of its table declares it.
func (d *sqlite) fragment(t *catalog.Table, column string) string {
	for _, item := range items(t.Definition) {
		if !strings.EqualFold(item[0].Text, column) {
			continue
		}
		text := t.Definition[item[0].From:item[len(item)-1].To]
		if strings.Contains(text, "--") || strings.Contains(text, "/*") {
			return ""
		}
		return oneLine(text)
	}
	return ""
}

// items are the columns and constraints in the text of a table, comments left
// out.
func items(definition string) [][]script.Token {
	var list [][]script.Token
	tokens := script.Scan(definition, script.SQLite)
	depth, first := 0, -1
	for i, token := range tokens {
		switch {
		case token.Sign("("):
			if depth++; depth == 1 {
				first = i + 1
			}
			continue
		case token.Sign(")"):
			depth--
		}
		if first < 0 || !(depth == 1 && token.Sign(",") || depth == 0) {
			continue
		}
		item := slices.DeleteFunc(slices.Clone(tokens[first:i]), func(t script.Token) bool { return t.Kind == script.Comment })
		if len(item) > 0 {
			list = append(list, item)
		}
		if first = i + 1; depth == 0 {
			break
		}
	}
	return list
}

// change changes a table in place.
func (d *sqlite) change(p *pair) {
	d.dropIndexes(p)
	for _, c := range p.added {
		d.step(fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", d.name(p.now.Name), d.fragment(p.now, c.Name)))
	}
	d.decideNew(p)
	for _, c := range p.dropped {
		drop := fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", d.name(p.now.Name), d.name(c.Name))
		if c.Generated != "" {
			d.step(drop)
		} else {
			d.decideLost(p, c, drop)
		}
	}
	for _, k := range p.addUniques {
		d.step(d.keyIndex(p.now, k))
	}
	for _, in := range p.addIndexes {
		d.step(d.index(p.now, in))
	}
}

func (d *sqlite) dropIndexes(p *pair) {
	for _, k := range p.dropUniques {
		if k.Index {
			d.step("DROP INDEX " + d.name(k.Name))
		}
	}
	for _, in := range p.dropIndexes {
		d.step("DROP INDEX " + d.name(in.Name))
	}
}

func (d *sqlite) keyIndex(t *catalog.Table, k catalog.Key) string {
	return fmt.Sprintf("CREATE UNIQUE INDEX %s ON %s (%s)", d.name(k.Name), d.name(t.Name), d.names(k.Columns))
}

func (d *sqlite) index(t *catalog.Table, in catalog.Index) string {
	if in.Definition != "" {
		return in.Definition
	}
	unique, where := "", ""
	if in.Unique {
		unique = "UNIQUE "
	}
	if in.Where != "" {
		where = " WHERE " + in.Where
	}
	return fmt.Sprintf("CREATE %sINDEX %s ON %s (%s)%s", unique, d.name(in.Name), d.name(t.Name), d.names(in.Columns), where)
}

var createHead = regexp.MustCompile("(?is)^\\s*CREATE\\s+TABLE\\s+(?:IF\\s+NOT\\s+EXISTS\\s+)?(?:\"(?:[^\"]|\"\")*\"|\\[[^\\]]*\\]|`[^`]*`|'(?:[^']|'')*'|[^\\s(]+)")

// tableText is the statement that makes a table, under another name.
func (d *sqlite) tableText(t *catalog.Table, name string) string {
	if at := createHead.FindStringIndex(t.Definition); at != nil {
		return "CREATE TABLE " + d.name(name) + t.Definition[at[1]:]
	}
	return d.tableFromFacts(t, name)
}

// tableFromFacts makes the statement where the text is not known.
func (d *sqlite) tableFromFacts(t *catalog.Table, name string) string {
	var parts []string
	single := t.PrimaryKey != nil && len(t.PrimaryKey.Columns) == 1
	for i := range t.Columns {
		c := &t.Columns[i]
		text := strings.TrimSpace(d.name(c.Name) + " " + c.Declared)
		if single && t.PrimaryKey.Columns[0] == c.Name {
			text += " PRIMARY KEY"
		} else if !c.Nullable {
			text += " NOT NULL"
		}
		switch {
		case c.Generated != "":
			text += fmt.Sprintf(" GENERATED ALWAYS AS (%s)", c.Generated)
		case c.Default != nil && c.Default.Kind != catalog.Identity:
			text += " DEFAULT " + d.defaultText(c)
		}
		for _, r := range t.References {
			if r.Name == "" && slices.Equal(r.Columns, []string{c.Name}) {
				text += strings.TrimPrefix(d.referenceText(r), "FOREIGN KEY ("+d.name(c.Name)+")")
			}
		}
		parts = append(parts, text)
	}
	named := func(name, text string) string {
		if name == "" {
			return text
		}
		return "CONSTRAINT " + d.name(name) + " " + text
	}
	if t.PrimaryKey != nil && !single {
		parts = append(parts, named(t.PrimaryKey.Name, fmt.Sprintf("PRIMARY KEY (%s)", d.names(t.PrimaryKey.Columns))))
	}
	for _, k := range t.Uniques {
		if !k.Index {
			parts = append(parts, named(k.Name, fmt.Sprintf("UNIQUE (%s)", d.names(k.Columns))))
		}
	}
	for _, c := range t.Checks {
		parts = append(parts, named(c.Name, fmt.Sprintf("CHECK (%s)", c.Expr)))
	}
	for _, r := range t.References {
		if r.Name != "" || len(r.Columns) > 1 {
			parts = append(parts, named(r.Name, d.referenceText(r)))
		}
	}
	return fmt.Sprintf("CREATE TABLE %s (\n    %s\n)%s", d.name(name), strings.Join(parts, ",\n    "), tableOptions(t))
}

func tableOptions(t *catalog.Table) string {
	options := slices.DeleteFunc(slices.Clone(t.Options), func(o string) bool { return o == "virtual" })
	if len(options) == 0 {
		return ""
	}
	return " " + strings.ToUpper(strings.Join(options, ", "))
}

func (d *sqlite) makeTable(t *catalog.Table) {
	if slices.Contains(t.Options, "virtual") {
		d.step(t.Definition)
		return
	}
	d.step(d.tableText(t, t.Name))
	d.makeIndexes(t)
}

func (d *sqlite) makeIndexes(t *catalog.Table) {
	for _, k := range t.Uniques {
		if k.Index {
			d.step(d.keyIndex(t, k))
		}
	}
	for _, in := range t.Indexes {
		d.step(d.index(t, in))
	}
}

// rebuild has a new table take the rows over.
func (d *sqlite) rebuild(p *pair) {
	table := d.name(p.now.Name)
	_, into := p.split()
	filled := map[string]bool{}
	for _, c := range p.added {
		if mandatory(c) || slices.Contains(into, c) && c.Generated == "" {
			d.step(fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s", table, d.name(c.Name), c.Declared))
			filled[c.Name] = true
		}
	}
	d.decideNew(p)
	d.decideNulls(p)
	for _, a := range p.altered {
		d.decideType(p, a)
	}
	for _, c := range p.dropped {
		if c.Generated == "" {
			d.decideLost(p, c, "")
		}
	}
	var columns []string
	for i := range p.now.Columns {
		c := &p.now.Columns[i]
		was, there := p.old.Column(c.Name)
		if c.Generated == "" && (there || filled[c.Name]) {
			columns = append(columns, c.Name)
		}
		if there && c.Generated != "" && was.Generated == "" {
			d.decideLost(p, was, "")
		}
	}
	fresh := p.now.Name + "_new"
	note := ""
	if big(p.old.Rows) {
		note = "All rows are copied, while nobody else can write."
	}
	statements := []string{d.tableText(p.now, fresh)}
	if len(columns) > 0 {
		statements = append(statements, fmt.Sprintf("INSERT INTO %s (%s) SELECT %[2]s FROM %s", d.name(fresh), d.names(columns), table))
	}
	if mentions(p.now.Definition, "AUTOINCREMENT") && mentions(p.old.Definition, "AUTOINCREMENT") {
		statements = append(statements, fmt.Sprintf("UPDATE sqlite_sequence SET seq = (SELECT seq FROM sqlite_sequence WHERE name = %s) WHERE name = %s", literal(d.engine, p.now.Name), literal(d.engine, fresh)))
	}
	statements = append(statements, "DROP TABLE "+table, fmt.Sprintf("ALTER TABLE %s RENAME TO %s", d.name(fresh), table))
	d.noted(note, statements...)
	d.makeIndexes(p.now)
}

// decideType asks where a value may become another one. A column of an ordinary
// table takes any value, but converts what looks like one of its type.
func (d *sqlite) decideType(p *pair, a alteration) {
	if a.was.Generated != "" || a.now.Generated != "" || !a.retyped() || widens(a.was.Type, a.now.Type) {
		return
	}
	column := d.name(a.now.Name)
	condition := ""
	switch now := a.now.Type; now.Kind {
	case catalog.Text:
		if now.Size == 0 || a.was.Type.Kind == catalog.Text {
			return // the engine does not cut
		}
		condition = fmt.Sprintf("typeof(%s) <> 'text'", column)
	case catalog.Int, catalog.Bool:
		condition = fmt.Sprintf("%s IS NOT NULL AND CAST(CAST(%[1]s AS INTEGER) AS TEXT) <> CAST(%[1]s AS TEXT)", column)
	case catalog.Float, catalog.Decimal:
		condition = fmt.Sprintf("%s IS NOT NULL AND CAST(%[1]s AS REAL) <> %[1]s", column)
	}
	question := fmt.Sprintf("%s of %s becomes %s, was %s. What becomes of values that are none?", a.now.Name, p.now.FullName(), a.now.Declared, a.was.Declared)
	if condition == "" {
		d.decision(question, Proposal{"they stay as they are", nil})
		return
	}
	d.decision(question,
		Proposal{"the script stops where one would not be the same afterwards", d.stopWhere(p.now, a.now.Name, condition)},
		Proposal{"they stay as they are, or are converted where the engine can", nil})
}
