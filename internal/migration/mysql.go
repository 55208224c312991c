package migration

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
	readmysql "widegate/internal/engine/mysql"
)

// mysql drafts for MySQL and MariaDB, where each change of the schema stands for
// itself and cannot be taken back. The checks come first; a session that has seen
// an error changes nothing any more; and every step may be run again.
type mysql struct{ *draft }

// What MariaDB may leave out or pass over when it runs a step again. MySQL takes
// these for comments.
const (
	ifExists    = "/*M! IF EXISTS */ "
	ifNotExists = "/*M! IF NOT EXISTS */ "
)

func (d *mysql) write() {
	pairs := d.pairs()
	d.begin()
	for _, p := range pairs {
		d.rowChecks(p)
	}
	drop, remake := d.views(d.touched(pairs))
	dropRoutines, makeRoutines := d.routines()
	for _, v := range drop {
		if now, stays := d.after.Table(v.Schema, v.Name); !stays || !now.IsView() {
			d.step("DROP VIEW IF EXISTS " + d.tableOf(v))
		}
	}
	d.renameTables()
	d.dropReferences(pairs)
	d.freeKeys(pairs)
	d.rename(pairs)
	d.makeSequences()
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
				d.decideLost(p, c, fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s%s", d.tableOf(p.now), ifExists, d.name(c.Name)))
			}
		}
	}
	d.dropTables()
	d.dropSequences()
	for _, r := range dropRoutines {
		if !hasRoutine(makeRoutines, r) {
			d.step(fmt.Sprintf("DROP %s IF EXISTS %s", strings.ToUpper(r.Kind), d.table(r.Schema, r.Name)))
		}
	}
	for _, r := range makeRoutines {
		if r.Definition == "" {
			d.note("the %s %s must be made by hand, since its text is not known", r.Kind, r.Signature())
			continue
		}
		d.remade(r.Session, fmt.Sprintf("DROP %s IF EXISTS %s", strings.ToUpper(r.Kind), d.table(r.Schema, r.Name)), r.Definition)
	}
	for _, v := range remake {
		d.makeView(v)
	}
	d.moveTriggers(pairs)
	d.moveExtras(pairs)
}

// workMode is the sql_mode of a script.
const workMode = "sql_mode = 'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION,NO_AUTO_VALUE_ON_ZERO'"

// remade makes a trigger or a routine under the settings that it keeps.
func (d *mysql) remade(session string, statements ...string) {
	if session != "" {
		statements = slices.Concat([]string{"SET SESSION " + session}, statements, []string{"SET SESSION " + workMode, "SET NAMES utf8mb4"})
	}
	d.step(statements...)
}

func (d *mysql) makeView(v *catalog.Table) {
	security, check := "", ""
	for _, o := range v.Options {
		if strings.HasPrefix(o, "sql security") {
			security = strings.ToUpper(o) + " "
		} else {
			check = " " + strings.ToUpper(o)
		}
	}
	d.step(fmt.Sprintf("CREATE OR REPLACE %sVIEW %s AS %s%s", security, d.tableOf(v), strings.TrimSpace(v.Definition), check))
}

// begin sets what the script relies on, and remembers what was set.
func (d *mysql) begin() {
	d.script.session.begin = []string{
		"SET @widegate_sql_mode = @@sql_mode, @widegate_time_zone = @@time_zone, @widegate_foreign_key_checks = @@foreign_key_checks, @widegate_unique_checks = @@unique_checks, @widegate_autocommit = @@autocommit,\n    @widegate_client = @@character_set_client, @widegate_results = @@character_set_results, @widegate_collation = @@collation_connection",
		"SET SESSION " + workMode + ", time_zone = '+00:00', foreign_key_checks = 1, unique_checks = 1, autocommit = 1",
		"SET NAMES utf8mb4",
	}
	d.script.session.end = []string{
		"SET SESSION TRANSACTION READ WRITE",
		"SET SESSION sql_mode = @widegate_sql_mode, time_zone = @widegate_time_zone, foreign_key_checks = @widegate_foreign_key_checks, unique_checks = @widegate_unique_checks, autocommit = @widegate_autocommit,\n    character_set_client = @widegate_client, character_set_results = @widegate_results, collation_connection = @widegate_collation",
	}
}

// stopAfterError lets a session that has seen an error change nothing any more.
// It must not depend on comments, which some programs take out.
var stopAfterError = onlyIf("@@error_count > 0", "SET SESSION TRANSACTION READ ONLY")

// myDialect is how MySQL and MariaDB test and stop.
type myDialect struct{}

func (myDialect) guard(statement string) []string {
	if strings.HasPrefix(statement, "SET ") || strings.HasPrefix(statement, "PREPARE widegate ") {
		return nil // if it fails, what executes it does too
	}
	return stopAfterError
}

func (myDialect) stop(decide string) string {
	return decide + "\n" + strings.Join(stopAfterError, "; ") + ";"
}

// check counts the faults where the columns in question are there: a script that
// is run again may have renamed them. The message is a column that is not there,
// for an error must have the number of rows in it.
func (myDialect) check(_ int, c Check) []string {
	count := "SELECT (" + c.Count + ") INTO @widegate_rows"
	there := "1 = 1"
	if c.table != "" {
		there = (&draft{engine: catalog.MySQL}).present(c.schema, c.table, c.columns)
	}
	message := strings.NewReplacer("`", "'", "\n", " ", "\r", " ").Replace(c.message() + " (")
	fault := strings.NewReplacer("`", "'", "\n", " ", "\r", " ").Replace(" found); they are listed by " + oneLine(c.List))
	if runes := []rune(message + fault); len(runes) > 180 {
		fault = string([]rune(fault)[:max(20, 180-len([]rune(message)))]) + "..."
	}
	return append([]string{
		"SET @widegate_rows = NULL",
		fmt.Sprintf("SET @widegate_do = if(%s, %s, 'SET @widegate_rows = 0')", there, literal(catalog.MySQL, count)),
		"PREPARE widegate FROM @widegate_do",
		"EXECUTE widegate",
		fmt.Sprintf("SET @widegate_do = if(@widegate_rows = 0, 'DO 0', concat(%s, coalesce(@widegate_rows, '?'), %s))", literal(catalog.MySQL, "SELECT `"+message), literal(catalog.MySQL, fault+"`")),
		"PREPARE widegate FROM @widegate_do",
	}, stopAfterError...)
}

// present is a condition that holds while a table has some columns.
func (d *draft) present(schema, table string, columns []string) string {
	place := fmt.Sprintf("table_schema = %s AND table_name = %s", d.schemaText(schema), literal(d.engine, table))
	if len(columns) == 0 {
		return "(SELECT count(*) FROM information_schema.tables WHERE " + place + ") = 1"
	}
	unique := slices.Compact(slices.Sorted(slices.Values(columns)))
	return fmt.Sprintf("(SELECT count(*) FROM information_schema.columns WHERE %s AND column_name IN (%s)) = %d", place, d.literals(unique), len(unique))
}

// onlyIf are the statements that run another one only while a condition holds.
func onlyIf(condition, statement string) []string {
	return []string{
		fmt.Sprintf("SET @widegate_do = if(%s, %s, 'DO 0')", condition, literal(catalog.MySQL, statement)),
		"PREPARE widegate FROM @widegate_do",
		"EXECUTE widegate",
	}
}

func (d *mysql) dropReferences(pairs []*pair) {
	for _, p := range pairs {
		var clauses []string
		for _, r := range p.dropReferences {
			clauses = append(clauses, "DROP FOREIGN KEY "+ifExists+d.name(r.Name))
		}
		if len(clauses) > 0 {
			d.step(d.alter(d.tableOf(p.now), clauses))
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

func (d *mysql) renameTables() {
	for _, r := range d.renames {
		if r.Thing == catalog.RenamedTable {
			if t, ok := d.after.Table(catalog.Split(r.To)); ok && !t.IsView() {
				d.step(fmt.Sprintf("RENAME TABLE %s%s TO %s", ifExists, d.full(r.From), d.full(r.To)))
			}
		}
	}
}

// rename gives columns their new names. The engine does not follow them into
// checks and computed columns, which are made again.
func (d *mysql) rename(pairs []*pair) {
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
				clauses = append(clauses, fmt.Sprintf("CHANGE COLUMN %s%s %s", ifExists, d.name(r.From), d.column(p.old, was, true)))
				continue
			}
			clauses = append(clauses, fmt.Sprintf("RENAME COLUMN %s%s TO %s", ifExists, d.name(r.From), d.name(r.To)))
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
		clauses = append(clauses, "DROP CONSTRAINT "+ifExists+d.name(c.Name))
		p.addChecks = append(p.addChecks, c)
	}
	for i := range p.old.Columns {
		was := &p.old.Columns[i]
		now, ok := p.now.Column(was.Name)
		if was.Generated == "" || !has(was.Generated) || !ok {
			continue
		}
		if now.Generated == "" {
			d.note("%s.%s was computed, keeps its values, and reads a column that is renamed: rename it in a step of its own if this fails", p.now.FullName(), now.Name)
			continue
		}
		clauses = append(clauses, "DROP COLUMN "+ifExists+d.name(was.Name))
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
	if c.Invisible {
		text += " INVISIBLE"
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
		parts = append(parts, d.indexText(in, ""))
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
		d.note("the partitions of the table %s, by %s, must be made by hand", t.FullName(), t.Partition)
	}
	d.step(fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s (\n    %s\n)%s", d.tableOf(t), strings.Join(parts, ",\n    "), tail))
}

// indexText is an index as a clause.
func (d *mysql) indexText(in catalog.Index, sign string) string {
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
	return fmt.Sprintf("%s %s%s %s", kind, sign, d.name(in.Name), columns)
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
			first = append(first, "DROP CONSTRAINT "+ifExists+d.name(c.Name))
		}
	}
	for _, c := range p.dropped {
		if c.Generated != "" {
			first = append(first, "DROP COLUMN "+ifExists+d.name(c.Name))
		}
	}
	flush := func() {
		if len(first) > 0 {
			d.noted(d.noteOnCopy(p), d.alter(table, first))
		}
		first = nil
	}
	identity := ""
	var later []string
	for i := range p.now.Columns {
		c := &p.now.Columns[i]
		if !slices.Contains(p.added, c) {
			continue
		}
		add := "ADD COLUMN " + ifNotExists
		switch {
		case c.Default != nil && c.Default.Kind == catalog.Identity:
			identity = c.Name // which must be a key at once
		case c.Generated != "" && d.readsLater(p, c):
			later = append(later, c.Name)
		case slices.Contains(into, c) && !c.Nullable:
			later = append(later, c.Name)
			first = append(first, add+d.column(p.now, c, false)+d.place(p.now, c.Name))
		case mandatory(c):
			flush()
			d.decideNew(p, c, func(value string) []string { return d.addFilled(p, c, value) }, []string{d.alter(table, []string{add + d.column(p.now, c, true) + d.place(p.now, c.Name)})})
		default:
			first = append(first, add+d.column(p.now, c, true)+d.place(p.now, c.Name))
		}
	}
	flush()
	d.decideSplit(p)
	d.decideNulls(p)
	for _, a := range p.altered {
		d.decideType(p, a)
	}
	d.recompute(p)
	d.changeRest(p, later, identity)
}

// readsLater reports whether a computed column reads one that changes after it is
// added.
func (d *mysql) readsLater(p *pair, c *catalog.Column) bool {
	return slices.ContainsFunc(p.altered, func(a alteration) bool { return mentions(c.Generated, a.now.Name) })
}

// addFilled adds a mandatory column with the same value in all rows, and no
// statement that touches them.
func (d *mysql) addFilled(p *pair, c *catalog.Column, value string) []string {
	table, column := d.tableOf(p.now), d.name(c.Name)
	add := "ALTER TABLE " + table + " ADD COLUMN " + ifNotExists
	if strings.HasPrefix(value, "(SELECT") {
		return slices.Concat([]string{add + d.column(p.now, c, false) + d.place(p.now, c.Name)},
			d.update(p, column+" = "+value, column+" IS NULL"), []string{d.alter(table, []string{"MODIFY COLUMN " + d.column(p.now, c, true)})})
	}
	if c.Type.Kind == catalog.Text && c.Type.Size == 0 || c.Type.Kind == catalog.Bytes || c.Type.Kind == catalog.JSON || value == "CURRENT_DATE" {
		value = "(" + value + ")"
	}
	bare := *c
	bare.Comment, bare.Default = "", &catalog.Default{Kind: catalog.Expression, Text: value}
	return []string{add + d.column(&catalog.Table{}, &bare, true) + d.place(p.now, c.Name), d.alter(table, []string{"MODIFY COLUMN " + d.column(p.now, c, true)})}
}

// recompute makes computed columns again whose expression changes, and gives
// columns that were computed values of their own.
func (d *mysql) recompute(p *pair) {
	table := d.tableOf(p.now)
	for _, a := range p.altered {
		if !a.computed() {
			continue
		}
		is := func(generated string) string {
			return fmt.Sprintf("(SELECT count(*) FROM information_schema.columns WHERE table_schema = %s AND table_name = %s AND column_name = %s AND coalesce(generation_expression, '') %s '') = 1",
				d.schemaText(p.now.Schema), literal(d.engine, p.now.Name), literal(d.engine, a.now.Name), generated)
		}
		if a.freed() {
			spare := *a.now
			spare.Name = d.freeName(p.now.Schema, a.now.Name+"_kept")
			if len([]rune(spare.Name)) > 64 {
				spare.Name = "widegate_kept"
			}
			d.step(slices.Concat(
				onlyIf(is("<>"), fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s%s", table, ifNotExists, d.column(&catalog.Table{}, &catalog.Column{Name: spare.Name, Declared: a.was.Declared, Type: a.was.Type, Collation: a.was.Collation, Nullable: true}, true))),
				onlyIf(is("<>"), d.update(p, fmt.Sprintf("%s = %s", d.name(spare.Name), d.name(a.was.Name)), "")[0]),
				onlyIf(d.present(p.now.Schema, p.now.Name, []string{spare.Name}), fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s, CHANGE COLUMN %s %s%s", table, d.name(a.was.Name), d.name(spare.Name), d.column(p.now, a.now, true), d.place(p.now, a.now.Name))))...)
		} else {
			if a.was.Generated == "" {
				d.decideLost(p, a.was, "")
			}
			d.step(fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s%s", table, ifExists, d.name(a.was.Name)),
				fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s%s%s", table, ifNotExists, d.column(p.now, a.now, true), d.place(p.now, a.now.Name)))
		}
		d.indexAgain(p, a.now.Name)
	}
}

// indexAgain has the indexes over a column made again that was dropped meanwhile.
func (d *mysql) indexAgain(p *pair, column string) {
	for _, k := range p.now.Uniques {
		if slices.Contains(k.Columns, column) && !slices.ContainsFunc(p.addUniques, func(x catalog.Key) bool { return x.Name == k.Name }) {
			p.dropUniques, p.addUniques = append(p.dropUniques, k), append(p.addUniques, k)
		}
	}
	for _, in := range p.now.Indexes {
		if slices.Contains(in.Columns, column) && !slices.ContainsFunc(p.addIndexes, func(x catalog.Index) bool { return x.Name == in.Name }) {
			p.dropIndexes, p.addIndexes = append(p.dropIndexes, in), append(p.addIndexes, in)
		}
	}
}

// changeRest changes all that is left in a table: what goes first, in a statement
// of its own where its name comes back.
func (d *mysql) changeRest(p *pair, later []string, identity string) {
	drops, rest := d.clauses(p, later, identity)
	again := slices.ContainsFunc(drops, func(s string) bool {
		name := s[strings.LastIndex(s, " ")+1:]
		return slices.ContainsFunc(rest, func(r string) bool { return strings.Contains(r, "KEY "+ifNotExists+name+" ") })
	})
	if again {
		d.noted(d.noteOnCopy(p), d.alter(d.tableOf(p.now), drops))
		drops = nil
	}
	if clauses := append(drops, rest...); len(clauses) > 0 {
		d.noted(d.noteOnCopy(p), d.alter(d.tableOf(p.now), clauses))
	}
}

func (d *mysql) noteOnCopy(p *pair) string {
	if !big(p.old.Rows) || len(p.altered) == 0 && len(p.addUniques)+len(p.addIndexes) == 0 && !p.keyChanged {
		return ""
	}
	return "This may copy the table, for whose whole time writers wait. On a large table first try it with\nALGORITHM=INPLACE, LOCK=NONE, which fails at once where it cannot be done so."
}

// clauses are all that is left to change in a table: what goes, and the rest.
func (d *mysql) clauses(p *pair, later []string, identity string) (drops, list []string) {
	modify := map[string]bool{}
	for _, name := range later {
		modify[name] = true
	}
	for _, a := range p.altered {
		modify[a.now.Name] = !a.computed()
	}
	for i := range p.now.Columns {
		c := &p.now.Columns[i]
		was, ok := p.old.Column(c.Name)
		if ok && was.Comment != c.Comment || p.reordered && (ok || c.Generated == "") {
			modify[c.Name] = true
		}
		for _, check := range slices.Concat(p.dropChecks, p.addChecks) {
			if check.Name == c.Name && ok {
				modify[c.Name] = true
			}
		}
	}
	if p.keyChanged && p.old.PrimaryKey == nil && p.now.PrimaryKey != nil {
		list = append(list, "DROP INDEX "+ifExists+"`PRIMARY`")
	}
	if p.keyChanged && p.old.PrimaryKey != nil {
		list = append(list, "DROP INDEX "+ifExists+"`PRIMARY`")
		for _, c := range p.dropped {
			if c.Default != nil && c.Default.Kind == catalog.Identity { // it is a key no more, and still there
				plain := *c
				plain.Default = nil
				list = append(list, "MODIFY COLUMN "+d.column(p.old, &plain, true))
			}
		}
	}
	for _, k := range p.dropUniques {
		drops = append(drops, "DROP INDEX "+ifExists+d.name(k.Name))
	}
	for _, in := range p.dropIndexes {
		drops = append(drops, "DROP INDEX "+ifExists+d.name(in.Name))
	}
	for i := range p.now.Columns {
		c := &p.now.Columns[i]
		switch {
		case c.Name == identity, slices.Contains(later, c.Name) && c.Generated != "":
			list = append(list, "ADD COLUMN "+ifNotExists+d.column(p.now, c, true)+d.place(p.now, c.Name))
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
		list = append(list, fmt.Sprintf("ADD UNIQUE KEY %s%s (%s)", ifNotExists, d.name(k.Name), d.names(k.Columns)))
	}
	for _, in := range p.addIndexes {
		list = append(list, "ADD "+d.indexText(in, ifNotExists))
	}
	for _, c := range p.addChecks {
		if !d.columnCheck(p.now, c) {
			list = append(list, fmt.Sprintf("ADD CONSTRAINT %s%s CHECK (%s)", ifNotExists, d.name(c.Name), c.Expr))
		}
	}
	if p.old.Comment != p.now.Comment {
		list = append(list, "COMMENT = "+literal(d.engine, p.now.Comment))
	}
	if a, b := strings.Join(p.old.Options, ","), strings.Join(p.now.Options, ","); a != b {
		d.note("%s must be made %s by hand, and is %s", p.now.FullName(), orInnoDB(b), orInnoDB(a))
	}
	return drops, list
}

func orInnoDB(s string) string {
	if s == "" {
		return "an ordinary InnoDB table"
	}
	return s
}

// decideType asks where not every value fits into the new type.
func (d *mysql) decideType(p *pair, a alteration) {
	if a.was.Generated != "" || a.now.Generated != "" || !a.retyped() {
		return
	}
	if a.was.Type.Kind == catalog.EnumKind && a.now.Type.Kind == catalog.EnumKind {
		d.decideLabels(p, a)
		return
	}
	f := d.former(p)
	column := f.column(a.now.Name)
	c := d.myConversion(a, column)
	some := func(fault string) []Check {
		return []Check{f.where(a.now.Name, []string{a.now.Name}, fault, column+" IS NOT NULL", "take another proposal")}
	}
	question := fmt.Sprintf("%s of %s becomes %s, which not every %s fits into. What becomes of the values?", a.now.Name, p.now.FullName(), a.now.Declared, a.was.Declared)
	switch {
	case c.harmless():
	case c.anchored:
		d.decision(fmt.Sprintf("%s of %s becomes %s, was %s. Which time zone are its values in?", a.now.Name, p.now.FullName(), a.now.Declared, a.was.Declared),
			Proposal{Title: "UTC", checks: d.anchoredChecks(f, a, column)},
			Proposal{Title: "the script stops if there is a value", checks: some("rows have a value, and its time zone is not known")})
	case c.unknown:
		d.decision(question,
			Proposal{Title: "the script stops if there is a value", checks: some("rows have a value, and it is not known what becomes of it")},
			Proposal{Title: "the server converts them, and stops where it finds it cannot"})
	default:
		stop := Proposal{Title: "the script stops where one would not be the same afterwards",
			checks: []Check{f.where(a.now.Name, []string{a.now.Name}, "values do not fit into "+a.now.Declared+", or would not be the same", c.condition, "change them, or take another proposal")}}
		if len(d.renamedIn(p.now)) > 0 || d.oldName(p.now.FullName()) != p.now.FullName() {
			stop.SQL = d.checkAgain(p, a) // for a script that is run again the names are new ones
		}
		d.decision(question, stop, Proposal{Title: "they are rounded or cut where they must be", SQL: d.cut(p, a)})
	}
}

// checkAgain tests a column under its new name, right before it changes.
func (d *mysql) checkAgain(p *pair, a alteration) []string {
	c := d.myConversion(a, d.name(a.now.Name))
	list := myDialect{}.check(0, Check{Place: p.now.FullName() + "." + a.now.Name, Fault: "values do not fit into " + a.now.Declared,
		Count: fmt.Sprintf("SELECT count(*) FROM %s WHERE %s", d.tableOf(p.now), c.condition), List: fmt.Sprintf("SELECT * FROM %s WHERE %s", d.tableOf(p.now), c.condition)})
	return list
}

// anchoredChecks are for times that a timestamp does not hold.
func (d *mysql) anchoredChecks(f former, a alteration, column string) []Check {
	if a.now.Type.Kind != catalog.TimestampTZ {
		return nil
	}
	condition := fmt.Sprintf("%s < '1970-01-01 00:00:01' OR %[1]s > '2038-01-19 03:14:07'", column)
	if fraction(a.was.Declared) > fraction(a.now.Declared) {
		condition = or(condition, fmt.Sprintf("NOT (CAST(%s AS DATETIME(%d)) <=> %[1]s)", column, fraction(a.now.Declared)))
	}
	return []Check{f.where(a.now.Name, []string{a.now.Name}, "times do not fit into "+a.now.Declared, condition, "change them")}
}

// cut makes values fit that the server would stop at.
func (d *mysql) cut(p *pair, a alteration) []string {
	column := d.name(a.now.Name)
	switch {
	case a.now.Type.Kind == catalog.Text && a.now.Type.Size > 0 && a.was.Type.Kind == catalog.Text:
		return d.update(p, fmt.Sprintf("%s = left(%[1]s, %d)", column, a.now.Type.Size), fmt.Sprintf("char_length(%s) > %d", column, a.now.Type.Size))
	case a.now.Type.Kind == catalog.Int && number(a.was.Type.Kind):
		low, high := intRange(a.now.Type)
		return d.update(p, fmt.Sprintf("%s = least(greatest(%[1]s, %s), %s)", column, low, high), outside(column, a.now.Type))
	}
	return nil
}

// decideLabels asks about the labels of an enum that are gone.
func (d *mysql) decideLabels(p *pair, a alteration) {
	f := d.former(p)
	if set := d.recoded(a, f.column(a.now.Name)); set != "" {
		d.check(f.where(a.now.Name, []string{a.now.Name}, "labels have characters that the new character set lacks", set, "change the labels"))
	}
	for place, label := range a.was.Type.Labels {
		if slices.Contains(a.now.Type.Labels, label) || len(a.now.Type.Labels) == 0 {
			continue
		}
		column := d.name(a.now.Name)
		proposals := []Proposal{{Title: "the script stops if a row has it",
			checks: []Check{f.where(a.now.Name, []string{a.now.Name}, "rows have the label "+label+", which is gone", fmt.Sprintf("CAST(%s AS BINARY) = %s", f.column(a.now.Name), literal(d.engine, label)), "give them another label")}}}
		if i := slices.IndexFunc(a.now.Type.Labels, func(l string) bool { return slices.Contains(a.was.Type.Labels, l) }); i >= 0 {
			other := a.now.Type.Labels[i]
			proposals = append(proposals, Proposal{Title: "they get " + other, SQL: d.update(p, fmt.Sprintf("%s = %s", column, literal(d.engine, other)), fmt.Sprintf("%s = %s", column, literal(d.engine, label)))})
		}
		if len(a.now.Type.Labels) == len(a.was.Type.Labels) && !slices.Contains(a.was.Type.Labels, a.now.Type.Labels[place]) {
			fresh := a.now.Type.Labels[place]
			wide := *a.was
			wide.Type.Labels = append(slices.Clone(a.was.Type.Labels), slices.DeleteFunc(slices.Clone(a.now.Type.Labels), func(l string) bool { return slices.Contains(a.was.Type.Labels, l) })...)
			wide.Declared = "enum(" + d.literals(wide.Type.Labels) + ")"
			proposals = append(proposals, Proposal{Title: "it is called " + fresh + " now",
				SQL: append(onlyIf(fmt.Sprintf("(SELECT count(*) FROM information_schema.columns WHERE table_schema = %s AND table_name = %s AND column_name = %s AND locate(%s, column_type) > 0) = 1",
					d.schemaText(p.now.Schema), literal(d.engine, p.now.Name), literal(d.engine, a.now.Name), literal(d.engine, literal(d.engine, label))),
					d.alter(d.tableOf(p.now), []string{"MODIFY COLUMN " + d.column(&catalog.Table{}, &wide, true)})),
					d.update(p, fmt.Sprintf("%s = %s", column, literal(d.engine, fresh)), fmt.Sprintf("%s = %s", column, literal(d.engine, label)))...)})
		}
		d.decision(fmt.Sprintf("The label %s of %s.%s is gone. What do rows get that have it?", label, p.now.FullName(), a.now.Name), proposals...)
	}
}

// moveTriggers drops the triggers that are gone, that change, or that must not
// fire, before anything else, and makes those of the new schema at the end.
func (d *mysql) moveTriggers(pairs []*pair) {
	var drops []Step
	for _, p := range pairs {
		for _, t := range p.old.Triggers {
			i := slices.IndexFunc(p.now.Triggers, func(x catalog.Trigger) bool { return x.Name == t.Name })
			if i < 0 || p.quiet || !catalog.SameText(p.now.Triggers[i].Definition, t.Definition) {
				drops = append(drops, Step{SQL: []string{"DROP TRIGGER IF EXISTS " + d.table(p.now.Schema, t.Name)}})
			}
		}
		d.makeTriggers(p.old, p.now, p.quiet)
	}
	for _, t := range d.fresh() {
		d.makeTriggers(&catalog.Table{}, t, false)
	}
	d.script.Steps = append(drops, d.script.Steps...)
}

func (d *mysql) makeTriggers(old, now *catalog.Table, all bool) {
	for _, t := range now.Triggers {
		i := slices.IndexFunc(old.Triggers, func(x catalog.Trigger) bool { return x.Name == t.Name })
		if all || i < 0 || !catalog.SameText(old.Triggers[i].Definition, t.Definition) {
			kept := t.Session
			if i >= 0 && old.Triggers[i].Session != "" {
				kept = old.Triggers[i].Session
			}
			d.remade(kept, "DROP TRIGGER IF EXISTS "+d.table(now.Schema, t.Name), t.Definition)
		}
	}
}

// moveExtras changes options, events and, for tables that have another name,
// rights, which stay with the old name.
func (d *mysql) moveExtras(pairs []*pair) {
	move := func(old, now []catalog.Extra, renamed bool) {
		for _, e := range old {
			if x, stays := findExtra(now, e); (!stays || x.Make != e.Make && e.Kind == "event") && e.Undo != "" {
				d.step(e.Undo)
			}
		}
		for _, e := range now {
			was, there := findExtra(old, e)
			if (!there || was.Make != e.Make || renamed && e.Kind == "right") && !unmade(e) {
				d.remade(e.Session, e.Make)
			}
		}
	}
	for _, p := range pairs {
		move(p.old.Extras, p.now.Extras, d.oldName(p.now.FullName()) != p.now.FullName())
	}
	for _, t := range d.fresh() {
		move(nil, t.Extras, false)
	}
	for i := range d.after.Tables {
		if t := &d.after.Tables[i]; t.IsView() {
			was, ok := d.at.Table(t.Schema, t.Name)
			if !ok {
				was = &catalog.Table{}
			}
			move(was.Extras, t.Extras, false)
		}
	}
	move(d.at.Extras, d.after.Extras, false)
}

func (d *mysql) addReferences(pairs []*pair) {
	add := func(t *catalog.Table, list []catalog.Reference) {
		var clauses []string
		for _, r := range list {
			clauses = append(clauses, fmt.Sprintf("ADD CONSTRAINT %s %s", d.name(r.Name), strings.Replace(d.referenceText(r), "FOREIGN KEY (", "FOREIGN KEY "+ifNotExists+"(", 1)))
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

func findSequence(c *catalog.Catalog, s catalog.Sequence) (catalog.Sequence, bool) {
	i := slices.IndexFunc(c.Sequences, func(x catalog.Sequence) bool { return x.Schema == s.Schema && x.Name == s.Name })
	if i < 0 {
		return catalog.Sequence{}, false
	}
	return c.Sequences[i], true
}

// makeSequences makes and changes those of MariaDB, before the columns whose
// defaults take from them.
func (d *mysql) makeSequences() {
	for _, now := range d.after.Sequences {
		was, there := findSequence(d.at, now)
		name := d.table(now.Schema, now.Name)
		switch {
		case !there:
			d.step(strings.TrimSpace("CREATE SEQUENCE IF NOT EXISTS " + name + " " + now.Options))
		case was.Options != now.Options:
			d.step("ALTER SEQUENCE " + name + " " + readmysql.AllSequenceOptions(now.Options))
		}
	}
}

func (d *mysql) dropSequences() {
	for _, was := range d.at.Sequences {
		if _, stays := findSequence(d.after, was); !stays {
			d.step("DROP SEQUENCE IF EXISTS " + d.table(was.Schema, was.Name))
		}
	}
}

func (d *mysql) dropTables() {
	gone := d.gone()
	for _, t := range gone {
		for _, r := range t.References {
			if r.Table != t.Name && slices.ContainsFunc(gone, func(x *catalog.Table) bool { return x.Name == r.Table && x.Schema == r.Schema }) {
				d.step(onlyIf(d.present(t.Schema, t.Name, nil), fmt.Sprintf("ALTER TABLE %s DROP FOREIGN KEY %s%s", d.tableOf(t), ifExists, d.name(r.Name)))...)
			}
		}
	}
	for _, t := range gone {
		d.decideGone(t, "DROP TABLE IF EXISTS "+d.tableOf(t))
	}
}
