package migration

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// mysql drafts for MySQL and MariaDB, where each change of the schema stands
// for itself: one statement a table does as much as it can.
type mysql struct{ *draft }

func (d *mysql) write() {
	pairs := d.pairs()
	drop, remake := d.views(d.touched(pairs))
	dropRoutines, makeRoutines := d.routines()
	for _, v := range drop {
		d.step("DROP VIEW " + d.tableOf(v))
	}
	for _, r := range dropRoutines {
		d.step(fmt.Sprintf("DROP %s %s", strings.ToUpper(r.Kind), d.table(r.Schema, r.Name)))
	}
	d.dropReferences(pairs)
	d.freeKeys(pairs)
	d.rename(pairs)
	for _, t := range d.fresh() {
		d.makeTable(t)
	}
	for _, p := range pairs {
		d.change(p)
	}
	d.addReferences(pairs)
	for _, p := range pairs {
		for _, c := range p.dropped {
			if c.Generated == "" {
				d.decideLost(p, c, fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", d.tableOf(p.now), d.name(c.Name)))
			}
		}
	}
	d.dropTables()
	for _, r := range makeRoutines {
		if r.Definition == "" {
			d.note("the %s %s, whose text is not known", r.Kind, r.Signature())
			continue
		}
		d.step(r.Definition)
	}
	for _, v := range remake {
		d.step(fmt.Sprintf("CREATE VIEW %s AS %s", d.tableOf(v), strings.TrimSpace(v.Definition)))
	}
}

func (d *mysql) dropReferences(pairs []*pair) {
	for _, p := range pairs {
		var clauses []string
		for _, r := range p.dropReferences {
			clauses = append(clauses, "DROP FOREIGN KEY "+d.name(r.Name))
		}
		if len(clauses) > 0 {
			schema, name := catalog.Split(d.oldName(p.old.FullName()))
			d.step(d.alter(d.table(schema, name), clauses))
		}
	}
}

func (d *mysql) alter(table string, clauses []string) string {
	if len(clauses) == 1 {
		return fmt.Sprintf("ALTER TABLE %s %s", table, clauses[0])
	}
	return fmt.Sprintf("ALTER TABLE %s\n    %s", table, strings.Join(clauses, ",\n    "))
}

// renamedIn are the columns of a table that have other names now.
func (d *draft) renamedIn(t *catalog.Table) []catalog.Rename {
	return slices.DeleteFunc(slices.Clone(d.renames), func(r catalog.Rename) bool {
		return r.Thing != catalog.RenamedColumn || r.In != t.FullName()
	})
}

// rename gives tables and columns their new names. The engine does not follow
// them into checks and computed columns, which are made again.
func (d *mysql) rename(pairs []*pair) {
	for _, r := range d.renames {
		if r.Thing == catalog.RenamedTable {
			if t, ok := d.after.Table(catalog.Split(r.To)); ok && !t.IsView() {
				d.step(fmt.Sprintf("RENAME TABLE %s TO %s", d.full(r.From), d.full(r.To)))
			}
		}
	}
	for _, p := range pairs {
		renames := d.renamedIn(p.now)
		if len(renames) == 0 {
			continue
		}
		d.freeNames(p, renames)
		var clauses []string
		for _, r := range renames {
			was, there := p.old.Column(r.To)
			if there && slices.ContainsFunc(p.old.Checks, func(c catalog.Check) bool { return c.Name == r.To }) {
				// Its own check has the name in it, and must come with it.
				clauses = append(clauses, fmt.Sprintf("CHANGE COLUMN %s %s", d.name(r.From), d.column(p.old, was, true)))
				continue
			}
			clauses = append(clauses, fmt.Sprintf("RENAME COLUMN %s TO %s", d.name(r.From), d.name(r.To)))
		}
		d.step(d.alter(d.tableOf(p.now), clauses))
	}
}

// freeNames drops what has the old names in it, so that it comes back with the
// new ones.
func (d *mysql) freeNames(p *pair, renames []catalog.Rename) {
	has := func(text string) bool {
		return slices.ContainsFunc(renames, func(r catalog.Rename) bool { return mentions(text, r.To) })
	}
	var clauses []string
	for _, c := range p.old.Checks {
		if !has(c.Expr) || slices.Contains(p.dropChecks, c) || d.columnCheck(p.old, c) {
			continue
		}
		clauses = append(clauses, "DROP CONSTRAINT "+d.name(c.Name))
		p.addChecks = append(p.addChecks, c)
	}
	for i := range p.old.Columns {
		was := &p.old.Columns[i]
		now, ok := p.now.Column(was.Name)
		if was.Generated == "" || !has(was.Generated) || !ok {
			continue
		}
		clauses = append(clauses, "DROP COLUMN "+d.name(was.Name))
		p.altered = slices.DeleteFunc(p.altered, func(a alteration) bool { return a.now == now })
		p.added = append(p.added, now)
	}
	if len(clauses) > 0 {
		d.step(d.alter(d.tableOf(p.now), clauses))
	}
}

// columnCheck reports whether a check is one of a column, which MariaDB names
// after it, and keeps with its declaration.
func (d *mysql) columnCheck(t *catalog.Table, c catalog.Check) bool {
	_, ok := t.Column(c.Name)
	return ok
}

// column is a column as it is declared.
func (d *mysql) column(t *catalog.Table, c *catalog.Column, notNull bool) string {
	declared := c.Declared
	if c.Type.Kind == catalog.JSON {
		declared = "json"
	}
	text := d.name(c.Name) + " " + declared
	if c.Collation != "" && c.Type.Kind != catalog.JSON {
		charset, _, _ := strings.Cut(c.Collation, "_")
		if c.Type.Kind != catalog.UUID && c.Type.Kind != catalog.Network {
			text += " CHARACTER SET " + charset + " COLLATE " + c.Collation
		}
	}
	if c.Generated != "" {
		kind := "VIRTUAL"
		if c.Stored {
			kind = "STORED"
		}
		text += fmt.Sprintf(" GENERATED ALWAYS AS (%s) %s", c.Generated, kind)
	} else {
		switch {
		case !c.Nullable && notNull:
			text += " NOT NULL"
		case c.Type.Kind == catalog.TimestampTZ:
			text += " NULL"
		}
		switch {
		case c.Default == nil:
		case c.Default.Kind == catalog.Identity:
			text += " AUTO_INCREMENT"
		default:
			text += " DEFAULT " + d.defaultText(c)
		}
		if c.OnUpdate != "" {
			text += " ON UPDATE " + c.OnUpdate
		}
	}
	if c.Comment != "" {
		text += " COMMENT " + literal(d.engine, c.Comment)
	}
	for _, check := range t.Checks {
		if check.Name == c.Name {
			text += fmt.Sprintf(" CHECK (%s)", check.Expr)
		}
	}
	return text
}

func (d *mysql) makeTable(t *catalog.Table) {
	var parts []string
	for i := range t.Columns {
		parts = append(parts, d.column(t, &t.Columns[i], true))
	}
	if t.PrimaryKey != nil {
		parts = append(parts, fmt.Sprintf("PRIMARY KEY (%s)", d.names(t.PrimaryKey.Columns)))
	}
	for _, k := range t.Uniques {
		parts = append(parts, fmt.Sprintf("UNIQUE KEY %s (%s)", d.name(k.Name), d.names(k.Columns)))
	}
	for _, in := range t.Indexes {
		parts = append(parts, d.indexText(in))
	}
	for _, c := range t.Checks {
		if !d.columnCheck(t, c) {
			parts = append(parts, fmt.Sprintf("CONSTRAINT %s CHECK (%s)", d.name(c.Name), c.Expr))
		}
	}
	for _, r := range t.References {
		if d.early(t, r) {
			parts = append(parts, fmt.Sprintf("CONSTRAINT %s %s", d.name(r.Name), d.referenceText(r)))
		}
	}
	tail := ""
	for _, o := range t.Options {
		if o == "system versioned" {
			tail += " WITH SYSTEM VERSIONING"
		} else {
			tail += " ENGINE=" + o
		}
	}
	if t.Comment != "" {
		tail += " COMMENT=" + literal(d.engine, t.Comment)
	}
	if t.Partition != "" {
		d.note("the partitions of the table %s, by %s", t.FullName(), t.Partition)
	}
	d.step(fmt.Sprintf("CREATE TABLE %s (\n    %s\n)%s", d.tableOf(t), strings.Join(parts, ",\n    "), tail))
}

// indexText is an index as a clause.
func (d *mysql) indexText(in catalog.Index) string {
	columns := "(" + d.names(in.Columns) + ")"
	if at := strings.Index(in.Definition, " ON "); at >= 0 {
		columns = in.Definition[strings.Index(in.Definition[at:], "(")+at:]
	}
	kind := "KEY"
	switch {
	case in.Unique:
		kind = "UNIQUE KEY"
	case in.Method == "fulltext" || in.Method == "spatial":
		kind = strings.ToUpper(in.Method) + " KEY"
	}
	return fmt.Sprintf("%s %s %s", kind, d.name(in.Name), columns)
}

// place says where a column stands.
func (d *mysql) place(t *catalog.Table, column string) string {
	for i := range t.Columns {
		if t.Columns[i].Name == column {
			if i == 0 {
				return " FIRST"
			}
			return " AFTER " + d.name(t.Columns[i-1].Name)
		}
	}
	return ""
}

// change brings a table from the old form to the new one: what is new comes
// first, then decisions on its values, then everything else.
func (d *mysql) change(p *pair) {
	table := d.tableOf(p.now)
	_, into := p.split()
	var first []string
	for _, c := range p.dropChecks {
		if !d.columnCheck(p.old, c) {
			first = append(first, "DROP CONSTRAINT "+d.name(c.Name))
		}
	}
	for _, c := range p.dropped {
		if c.Generated != "" {
			first = append(first, "DROP COLUMN "+d.name(c.Name))
		}
	}
	identity := ""
	var later []string
	for i := range p.now.Columns {
		c := &p.now.Columns[i]
		if !slices.Contains(p.added, c) {
			continue
		}
		if c.Default != nil && c.Default.Kind == catalog.Identity {
			identity = c.Name // which must be a key at once
			continue
		}
		wait := mandatory(c) || slices.Contains(into, c) && !c.Nullable
		if wait {
			later = append(later, c.Name)
		}
		first = append(first, "ADD COLUMN "+d.column(p.now, c, !wait)+d.place(p.now, c.Name))
	}
	if len(first) > 0 {
		d.noted(d.noteOnCopy(p), d.alter(table, first))
	}
	d.decideNew(p)
	d.decideNulls(p)
	for _, a := range p.altered {
		d.decideType(p, a)
	}
	if clauses := d.clauses(p, later, identity); len(clauses) > 0 {
		d.noted(d.noteOnCopy(p), d.alter(table, clauses))
	}
}

func (d *mysql) noteOnCopy(p *pair) string {
	if !big(p.old.Rows) || len(p.altered) == 0 && len(p.addUniques)+len(p.addIndexes) == 0 && !p.keyChanged {
		return ""
	}
	return "This may copy the table, for whose whole time writers wait. On a large table first try it with\nALGORITHM=INPLACE, LOCK=NONE, which fails at once where it cannot be done so."
}

// clauses are all that is left to change in a table.
func (d *mysql) clauses(p *pair, later []string, identity string) []string {
	var list []string
	modify := map[string]bool{}
	for _, name := range later {
		modify[name] = true
	}
	for _, a := range p.altered {
		modify[a.now.Name] = true
	}
	for i := range p.now.Columns {
		c := &p.now.Columns[i]
		was, ok := p.old.Column(c.Name)
		if ok && was.Comment != c.Comment || p.reordered {
			modify[c.Name] = true
		}
		for _, check := range slices.Concat(p.dropChecks, p.addChecks) {
			if check.Name == c.Name && ok {
				modify[c.Name] = true
			}
		}
	}
	if p.keyChanged && p.old.PrimaryKey != nil {
		list = append(list, "DROP PRIMARY KEY")
		for _, c := range p.dropped {
			if c.Default != nil && c.Default.Kind == catalog.Identity { // it is a key no more, and still there
				plain := *c
				plain.Default = nil
				list = append(list, "MODIFY COLUMN "+d.column(p.old, &plain, true))
			}
		}
	}
	for _, k := range p.dropUniques {
		list = append(list, "DROP INDEX "+d.name(k.Name))
	}
	for _, in := range p.dropIndexes {
		list = append(list, "DROP INDEX "+d.name(in.Name))
	}
	for i := range p.now.Columns {
		c := &p.now.Columns[i]
		switch {
		case c.Name == identity:
			list = append(list, "ADD COLUMN "+d.column(p.now, c, true)+d.place(p.now, c.Name))
		case modify[c.Name]:
			place := ""
			if p.reordered {
				place = d.place(p.now, c.Name)
			}
			list = append(list, "MODIFY COLUMN "+d.column(p.now, c, true)+place)
		}
	}
	if p.keyChanged && p.now.PrimaryKey != nil {
		list = append(list, fmt.Sprintf("ADD PRIMARY KEY (%s)", d.names(p.now.PrimaryKey.Columns)))
	}
	for _, k := range p.addUniques {
		list = append(list, fmt.Sprintf("ADD UNIQUE KEY %s (%s)", d.name(k.Name), d.names(k.Columns)))
	}
	for _, in := range p.addIndexes {
		list = append(list, "ADD "+d.indexText(in))
	}
	for _, c := range p.addChecks {
		if !d.columnCheck(p.now, c) {
			list = append(list, fmt.Sprintf("ADD CONSTRAINT %s CHECK (%s)", d.name(c.Name), c.Expr))
		}
	}
	if p.old.Comment != p.now.Comment {
		list = append(list, "COMMENT = "+literal(d.engine, p.now.Comment))
	}
	if a, b := strings.Join(p.old.Options, ","), strings.Join(p.now.Options, ","); a != b {
		d.note("%s is %s now, was %s", p.now.FullName(), orInnoDB(b), orInnoDB(a))
	}
	return list
}

func orInnoDB(s string) string {
	if s == "" {
		return "an ordinary InnoDB table"
	}
	return s
}

// textSizes are the types of texts and bytes without a length, from short to
// long.
var textSizes = map[string]int{"tinytext": 1, "text": 2, "mediumtext": 3, "longtext": 4, "tinyblob": 1, "blob": 2, "mediumblob": 3, "longblob": 4}

// decideType asks where not every value fits into the new type. The server's
// strict mode refuses most of what does not fit, but rounds without a word.
func (d *mysql) decideType(p *pair, a alteration) {
	if a.was.Generated != "" || a.now.Generated != "" || !a.retyped() {
		return
	}
	shorter := textSizes[a.now.Declared] > 0 && (textSizes[a.was.Declared] > textSizes[a.now.Declared] || textSizes[a.was.Declared] == 0 && a.was.Type.Size > 63 && a.now.Declared[0:4] == "tiny")
	if widens(a.was.Type, a.now.Type) && !coarser(a) && !shorter {
		return
	}
	if a.was.Type.Kind == catalog.EnumKind && a.now.Type.Kind == catalog.EnumKind {
		d.decideLabels(p, a)
		return
	}
	condition := d.changes(a)
	if condition == "" {
		d.decision(fmt.Sprintf("%s of %s becomes %s, which not every %s fits into. What becomes of the values?", a.now.Name, p.now.FullName(), a.now.Declared, a.was.Declared),
			Proposal{"the server converts them, and stops where it finds it cannot", nil})
		return
	}
	d.decision(fmt.Sprintf("%s of %s becomes %s, which not every %s fits into. What becomes of the values?", a.now.Name, p.now.FullName(), a.now.Declared, a.was.Declared),
		Proposal{"the script stops where one would not be the same afterwards", d.stopWhere(p.now, a.now.Name, condition)},
		Proposal{"they are rounded or cut where they must be", d.cut(p, a)})
}

// cut makes values fit that the server would stop at.
func (d *mysql) cut(p *pair, a alteration) []string {
	column := d.name(a.now.Name)
	if a.now.Type.Kind == catalog.Text && a.now.Type.Size > 0 {
		return []string{fmt.Sprintf("UPDATE %s SET %s = left(%[2]s, %d) WHERE char_length(%[2]s) > %[3]d", d.tableOf(p.now), column, a.now.Type.Size)}
	}
	return nil
}

// changes is a condition for values that the new type changes, or nothing where
// the server says it itself.
func (d *mysql) changes(a alteration) string {
	column := d.name(a.now.Name)
	switch now := a.now.Type; now.Kind {
	case catalog.Text:
		if now.Size > 0 && a.was.Type.Kind == catalog.Text {
			return fmt.Sprintf("char_length(%s) > %d", column, now.Size)
		}
	case catalog.Int:
		return fmt.Sprintf("NOT (%s <=> round(%[1]s))", column)
	case catalog.Decimal:
		return fmt.Sprintf("NOT (%s <=> round(%[1]s, %d))", column, now.Scale)
	case catalog.Date:
		return fmt.Sprintf("NOT (%s <=> date(%[1]s))", column)
	}
	return ""
}

// stopWhere are statements that fail if a row fulfils a condition: a check of a
// temporary table is what these engines have for that.
func (d *draft) stopWhere(t *catalog.Table, column, condition string) []string {
	temporary := "TEMPORARY"
	drop := "DROP TEMPORARY TABLE widegate_stop"
	if d.engine == catalog.SQLite {
		temporary, drop = "TEMP", "DROP TABLE widegate_stop"
	}
	return []string{
		fmt.Sprintf("CREATE %s TABLE widegate_stop (fits int, CONSTRAINT %s CHECK (fits = 1))", temporary, d.name(t.Name+"_"+column+"_fits")),
		fmt.Sprintf("INSERT INTO widegate_stop SELECT 0 FROM %s WHERE %s LIMIT 1", d.tableOf(t), condition),
		drop,
	}
}

// decideLabels asks about the labels of an enum that are gone.
func (d *mysql) decideLabels(p *pair, a alteration) {
	for _, label := range a.was.Type.Labels {
		if slices.Contains(a.now.Type.Labels, label) || len(a.now.Type.Labels) == 0 {
			continue
		}
		column := d.name(a.now.Name)
		proposals := []Proposal{{"the script stops if a row has it", d.stopWhere(p.now, a.now.Name, fmt.Sprintf("%s = %s", column, literal(d.engine, label)))}}
		for _, other := range a.now.Type.Labels {
			if slices.Contains(a.was.Type.Labels, other) {
				proposals = append(proposals, Proposal{"they get another one", []string{fmt.Sprintf("UPDATE %s SET %s = %s WHERE %[2]s = %[4]s", d.tableOf(p.now), column, literal(d.engine, other), literal(d.engine, label))}})
				break
			}
		}
		d.decision(fmt.Sprintf("The label %s of %s.%s is gone. What do rows get that have it?", label, p.now.FullName(), a.now.Name), proposals...)
	}
}

func (d *mysql) addReferences(pairs []*pair) {
	add := func(t *catalog.Table, list []catalog.Reference) {
		var clauses []string
		for _, r := range list {
			clauses = append(clauses, fmt.Sprintf("ADD CONSTRAINT %s %s", d.name(r.Name), d.referenceText(r)))
		}
		if len(clauses) > 0 {
			d.step(d.alter(d.tableOf(t), clauses))
		}
	}
	for _, p := range pairs {
		add(p.now, p.addReferences)
	}
	for _, t := range d.fresh() {
		add(t, slices.DeleteFunc(slices.Clone(t.References), func(r catalog.Reference) bool { return d.early(t, r) }))
	}
}

func (d *mysql) dropTables() {
	gone := d.gone()
	for _, t := range gone {
		for _, r := range t.References {
			if r.Table != t.Name && slices.ContainsFunc(gone, func(x *catalog.Table) bool { return x.Name == r.Table && x.Schema == r.Schema }) {
				d.step(fmt.Sprintf("ALTER TABLE %s DROP FOREIGN KEY %s", d.tableOf(t), d.name(r.Name)))
			}
		}
	}
	for _, t := range gone {
		d.decideGone(t, "DROP TABLE "+d.tableOf(t))
	}
}
