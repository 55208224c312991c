package drafting

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/migration"

	"widegate/internal/catalog"
	"widegate/internal/engine/mysql/dialect"
	"widegate/internal/engine/mysql/live"
)

// mysql drafts for MySQL and MariaDB, where each change of the schema stands for
// itself and cannot be taken back. The checks come first; a session that has seen
// an error changes nothing any more; and every step may be run again.
type mysql struct{ *migration.Writing }

// What MariaDB may leave out or pass over when it runs a step again. MySQL takes
// these for comments.
const (
	ifExists    = "/*M! IF EXISTS */ "
	ifNotExists = "/*M! IF NOT EXISTS */ "
)

func (d *mysql) write() {
	pairs := d.Pairs()
	d.begin()
	for _, p := range pairs {
		d.RowChecks(p)
	}
	drop, remake := d.Views(d.Touched(pairs))
	dropRoutines, makeRoutines := d.Routines()
	for _, v := range drop {
		if now, stays := d.After.Table(v.Schema, v.Name); !stays || !now.IsView() {
			d.Step("DROP VIEW IF EXISTS " + d.TableOf(v))
		}
	}
	d.renameTables()
	d.dropReferences(pairs)
	d.FreeKeys(pairs, func(t *catalog.Table, r catalog.Reference) []string {
		return onlyIf(present(t.Schema, t.Name, nil), fmt.Sprintf("ALTER TABLE %s DROP %s %s", d.TableOf(t), strings.TrimSpace("FOREIGN KEY "+ifExists), d.Name(r.Name)))
	})
	d.rename(pairs)
	d.makeSequences()
	for _, t := range d.Fresh() {
		d.makeTable(t)
	}
	for _, p := range pairs {
		d.change(p)
	}
	d.addReferences(pairs)
	for _, p := range pairs {
		for _, c := range p.Dropped {
			if c.Generated == "" {
				d.DecideLost(p, c, fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s%s", d.TableOf(p.Now), ifExists, d.Name(c.Name)))
			}
		}
	}
	d.dropTables()
	d.dropSequences()
	for _, r := range dropRoutines {
		if !migration.HasRoutine(makeRoutines, r) {
			d.Step(fmt.Sprintf("DROP %s IF EXISTS %s", strings.ToUpper(r.Kind), d.Table(r.Schema, r.Name)))
		}
	}
	for _, r := range makeRoutines {
		if r.Definition == "" {
			d.Note("the %s %s must be made by hand, since its text is not known", r.Kind, r.Signature())
			continue
		}
		d.remade(r.Session, fmt.Sprintf("DROP %s IF EXISTS %s", strings.ToUpper(r.Kind), d.Table(r.Schema, r.Name)), r.Definition)
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
	d.Step(statements...)
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
	d.Step(fmt.Sprintf("CREATE OR REPLACE %sVIEW %s AS %s%s", security, d.TableOf(v), strings.TrimSpace(v.Definition), check))
}

// begin sets what the script relies on, and remembers what was set.
func (d *mysql) begin() {
	d.Script.Session.Begin = []string{
		"SET @widegate_sql_mode = @@sql_mode, @widegate_time_zone = @@time_zone, @widegate_foreign_key_checks = @@foreign_key_checks, @widegate_unique_checks = @@unique_checks, @widegate_autocommit = @@autocommit,\n    @widegate_client = @@character_set_client, @widegate_results = @@character_set_results, @widegate_collation = @@collation_connection",
		"SET SESSION " + workMode + ", time_zone = '+00:00', foreign_key_checks = 1, unique_checks = 1, autocommit = 1",
		"SET NAMES utf8mb4",
	}
	d.Script.Session.End = []string{
		"SET SESSION TRANSACTION READ WRITE",
		"SET SESSION sql_mode = @widegate_sql_mode, time_zone = @widegate_time_zone, foreign_key_checks = @widegate_foreign_key_checks, unique_checks = @widegate_unique_checks, autocommit = @widegate_autocommit,\n    character_set_client = @widegate_client, character_set_results = @widegate_results, collation_connection = @widegate_collation",
	}
}

// stopAfterError lets a session that has seen an error change nothing any more.
// It must not depend on comments, which some programs take out.
var stopAfterError = onlyIf("@@error_count > 0", "SET SESSION TRANSACTION READ ONLY")

func (Engine) Guard(statement string) []string {
	if strings.HasPrefix(statement, "SET ") || strings.HasPrefix(statement, "PREPARE widegate ") {
		return nil // if it fails, what executes it does too
	}
	return stopAfterError
}

func (Engine) Stop(decide string) string {
	return decide + "\n" + strings.Join(stopAfterError, "; ") + ";"
}

// Check counts the faults where the columns in question are there: a script that
// is run again may have renamed them. The message is a column that is not there,
// for an error must have the number of rows in it.
func (Engine) Check(_ int, c migration.Check) []string {
	count := "SELECT (" + c.Count + ") INTO @widegate_rows"
	there := "1 = 1"
	if c.Table != "" {
		there = present(c.Schema, c.Table, c.Columns)
	}
	message := strings.NewReplacer("`", "'", "\n", " ", "\r", " ").Replace(c.Message() + " (")
	fault := strings.NewReplacer("`", "'", "\n", " ", "\r", " ").Replace(" found); they are listed by " + migration.OneLine(c.List))
	if runes := []rune(message + fault); len(runes) > 180 {
		fault = string([]rune(fault)[:max(20, 180-len([]rune(message)))]) + "..."
	}
	return append([]string{
		"SET @widegate_rows = NULL",
		fmt.Sprintf("SET @widegate_do = if(%s, %s, 'SET @widegate_rows = 0')", there, dialect.MySQL.Literal(count)),
		"PREPARE widegate FROM @widegate_do",
		"EXECUTE widegate",
		fmt.Sprintf("SET @widegate_do = if(@widegate_rows = 0, 'DO 0', concat(%s, coalesce(@widegate_rows, '?'), %s))", dialect.MySQL.Literal("SELECT `"+message), dialect.MySQL.Literal(fault+"`")),
		"PREPARE widegate FROM @widegate_do",
	}, stopAfterError...)
}

// present is a condition that holds while a table has some columns.
func present(schema, table string, columns []string) string {
	place := fmt.Sprintf("table_schema = %s AND table_name = %s", schemaText(schema), dialect.MySQL.Literal(table))
	if len(columns) == 0 {
		return "(SELECT count(*) FROM information_schema.tables WHERE " + place + ") = 1"
	}
	unique := slices.Compact(slices.Sorted(slices.Values(columns)))
	return fmt.Sprintf("(SELECT count(*) FROM information_schema.columns WHERE %s AND column_name IN (%s)) = %d", place, strings.Join(migration.Quoted(dialect.MySQL, unique), ", "), len(unique))
}

// onlyIf are the statements that run another one only while a condition holds.
func onlyIf(condition, statement string) []string {
	return []string{
		fmt.Sprintf("SET @widegate_do = if(%s, %s, 'DO 0')", condition, dialect.MySQL.Literal(statement)),
		"PREPARE widegate FROM @widegate_do",
		"EXECUTE widegate",
	}
}

func (d *mysql) dropReferences(pairs []*migration.Pair) {
	for _, p := range pairs {
		var clauses []string
		for _, r := range p.DropReferences {
			clauses = append(clauses, "DROP FOREIGN KEY "+ifExists+d.Name(r.Name))
		}
		if len(clauses) > 0 {
			d.Step(d.alter(d.TableOf(p.Now), clauses))
		}
	}
}

func (d *mysql) alter(table string, clauses []string) string {
	if len(clauses) == 1 {
		return fmt.Sprintf("ALTER TABLE %s %s", table, clauses[0])
	}
	return fmt.Sprintf("ALTER TABLE %s\n    %s", table, strings.Join(clauses, ",\n    "))
}

func (d *mysql) renameTables() {
	for _, r := range d.Renames {
		if r.Thing == catalog.RenamedTable {
			if t, ok := d.After.Table(catalog.Split(r.To)); ok && !t.IsView() {
				d.Step(fmt.Sprintf("RENAME TABLE %s%s TO %s", ifExists, d.Full(r.From), d.Full(r.To)))
			}
		}
	}
}

// rename gives columns their new names. The engine does not follow them into
// checks and computed columns, which are made again.
func (d *mysql) rename(pairs []*migration.Pair) {
	for _, p := range pairs {
		renames := d.RenamedIn(p.Now)
		if len(renames) == 0 {
			continue
		}
		d.freeNames(p, renames)
		var clauses []string
		for _, r := range renames {
			was, there := p.Old.Column(r.To)
			if there && slices.ContainsFunc(p.Old.Checks, func(c catalog.Check) bool { return c.Name == r.To }) {
				// Its own check has the name in it, and must come with it.
				clauses = append(clauses, fmt.Sprintf("CHANGE COLUMN %s%s %s", ifExists, d.Name(r.From), d.column(p.Old, was, true)))
				continue
			}
			clauses = append(clauses, fmt.Sprintf("RENAME COLUMN %s%s TO %s", ifExists, d.Name(r.From), d.Name(r.To)))
		}
		d.Step(d.alter(d.TableOf(p.Now), clauses))
	}
}

// freeNames drops what has the old names in it, so that it comes back with the
// new ones.
func (d *mysql) freeNames(p *migration.Pair, renames []catalog.Rename) {
	has := func(text string) bool {
		return slices.ContainsFunc(renames, func(r catalog.Rename) bool { return migration.Mentions(text, r.To) })
	}
	var clauses []string
	for _, c := range p.Old.Checks {
		if !has(c.Expr) || slices.Contains(p.DropChecks, c) || d.columnCheck(p.Old, c) {
			continue
		}
		clauses = append(clauses, "DROP CONSTRAINT "+ifExists+d.Name(c.Name))
		p.AddChecks = append(p.AddChecks, c)
	}
	for i := range p.Old.Columns {
		was := &p.Old.Columns[i]
		now, ok := p.Now.Column(was.Name)
		if was.Generated == "" || !has(was.Generated) || !ok {
			continue
		}
		if now.Generated == "" {
			d.Note("%s.%s was computed, keeps its values, and reads a column that is renamed: rename it in a step of its own if this fails", p.Now.FullName(), now.Name)
			continue
		}
		clauses = append(clauses, "DROP COLUMN "+ifExists+d.Name(was.Name))
		p.Altered = slices.DeleteFunc(p.Altered, func(a migration.Alteration) bool { return a.Now == now })
		p.Added = append(p.Added, now)
	}
	if len(clauses) > 0 {
		d.Step(d.alter(d.TableOf(p.Now), clauses))
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
	text := d.Name(c.Name) + " " + declared
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
			text += " DEFAULT " + d.DefaultText(c)
		}
		if c.OnUpdate != "" {
			text += " ON UPDATE " + c.OnUpdate
		}
	}
	if c.Invisible {
		text += " INVISIBLE"
	}
	if c.Comment != "" {
		text += " COMMENT " + d.SQL.Literal(c.Comment)
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
		parts = append(parts, fmt.Sprintf("PRIMARY KEY (%s)", d.Names(t.PrimaryKey.Columns)))
	}
	for _, k := range t.Uniques {
		parts = append(parts, fmt.Sprintf("UNIQUE KEY %s (%s)", d.Name(k.Name), d.Names(k.Columns)))
	}
	for _, in := range t.Indexes {
		parts = append(parts, d.indexText(in, ""))
	}
	for _, c := range t.Checks {
		if !d.columnCheck(t, c) {
			parts = append(parts, fmt.Sprintf("CONSTRAINT %s CHECK (%s)", d.Name(c.Name), c.Expr))
		}
	}
	for _, r := range t.References {
		if d.Early(t, r) {
			parts = append(parts, fmt.Sprintf("CONSTRAINT %s %s", d.Name(r.Name), d.ReferenceText(r)))
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
		tail += " COMMENT=" + d.SQL.Literal(t.Comment)
	}
	if t.Partition != "" {
		d.Note("the partitions of the table %s, by %s, must be made by hand", t.FullName(), t.Partition)
	}
	d.Step(fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s (\n    %s\n)%s", d.TableOf(t), strings.Join(parts, ",\n    "), tail))
}

// indexText is an index as a clause.
func (d *mysql) indexText(in catalog.Index, sign string) string {
	columns := "(" + d.Names(in.Columns) + ")"
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
	return fmt.Sprintf("%s %s%s %s", kind, sign, d.Name(in.Name), columns)
}

// place says where a column stands.
func (d *mysql) place(t *catalog.Table, column string) string {
	for i := range t.Columns {
		if t.Columns[i].Name == column {
			if i == 0 {
				return " FIRST"
			}
			return " AFTER " + d.Name(t.Columns[i-1].Name)
		}
	}
	return ""
}

// change brings a table from the old form to the new one: what is new comes
// first, then decisions on its values, then everything else.
func (d *mysql) change(p *migration.Pair) {
	table := d.TableOf(p.Now)
	_, into := p.Split()
	var first []string
	for _, c := range p.DropChecks {
		if !d.columnCheck(p.Old, c) {
			first = append(first, "DROP CONSTRAINT "+ifExists+d.Name(c.Name))
		}
	}
	for _, c := range p.Dropped {
		if c.Generated != "" {
			first = append(first, "DROP COLUMN "+ifExists+d.Name(c.Name))
		}
	}
	flush := func() {
		if len(first) > 0 {
			d.Noted(d.noteOnCopy(p), d.alter(table, first))
		}
		first = nil
	}
	identity := ""
	var later []string
	for i := range p.Now.Columns {
		c := &p.Now.Columns[i]
		if !slices.Contains(p.Added, c) {
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
			first = append(first, add+d.column(p.Now, c, false)+d.place(p.Now, c.Name))
		case migration.Mandatory(c):
			flush()
			d.DecideNew(p, c, func(value string) []string { return d.addFilled(p, c, value) }, []string{d.alter(table, []string{add + d.column(p.Now, c, true) + d.place(p.Now, c.Name)})})
		default:
			first = append(first, add+d.column(p.Now, c, true)+d.place(p.Now, c.Name))
		}
	}
	flush()
	d.DecideSplit(p)
	d.DecideNulls(p)
	for _, a := range p.Altered {
		d.decideType(p, a)
	}
	d.recompute(p)
	d.changeRest(p, later, identity)
}

// readsLater reports whether a computed column reads one that changes after it is
// added.
func (d *mysql) readsLater(p *migration.Pair, c *catalog.Column) bool {
	return slices.ContainsFunc(p.Altered, func(a migration.Alteration) bool { return migration.Mentions(c.Generated, a.Now.Name) })
}

// addFilled adds a mandatory column with the same value in all rows, and no
// statement that touches them.
func (d *mysql) addFilled(p *migration.Pair, c *catalog.Column, value string) []string {
	table, column := d.TableOf(p.Now), d.Name(c.Name)
	add := "ALTER TABLE " + table + " ADD COLUMN " + ifNotExists
	if strings.HasPrefix(value, "(SELECT") {
		return slices.Concat([]string{add + d.column(p.Now, c, false) + d.place(p.Now, c.Name)},
			d.Update(p, column+" = "+value, column+" IS NULL"), []string{d.alter(table, []string{"MODIFY COLUMN " + d.column(p.Now, c, true)})})
	}
	if c.Type.Kind == catalog.Text && c.Type.Size == 0 || c.Type.Kind == catalog.Bytes || c.Type.Kind == catalog.JSON || value == "CURRENT_DATE" {
		value = "(" + value + ")"
	}
	bare := *c
	bare.Comment, bare.Default = "", &catalog.Default{Kind: catalog.Expression, Text: value}
	return []string{add + d.column(&catalog.Table{}, &bare, true) + d.place(p.Now, c.Name), d.alter(table, []string{"MODIFY COLUMN " + d.column(p.Now, c, true)})}
}

// recompute makes computed columns again whose expression changes, and gives
// columns that were computed values of their own.
func (d *mysql) recompute(p *migration.Pair) {
	table := d.TableOf(p.Now)
	for _, a := range p.Altered {
		if !a.Computed() {
			continue
		}
		is := func(generated string) string {
			return fmt.Sprintf("(SELECT count(*) FROM information_schema.columns WHERE table_schema = %s AND table_name = %s AND column_name = %s AND coalesce(generation_expression, '') %s '') = 1",
				schemaText(p.Now.Schema), d.SQL.Literal(p.Now.Name), d.SQL.Literal(a.Now.Name), generated)
		}
		if a.Freed() {
			spare := *a.Now
			spare.Name = d.FreeName(p.Now.Schema, a.Now.Name+"_kept")
			if len([]rune(spare.Name)) > 64 {
				spare.Name = "widegate_kept"
			}
			d.Step(slices.Concat(
				onlyIf(is("<>"), fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s%s", table, ifNotExists, d.column(&catalog.Table{}, &catalog.Column{Name: spare.Name, Declared: a.Was.Declared, Type: a.Was.Type, Collation: a.Was.Collation, Nullable: true}, true))),
				onlyIf(is("<>"), d.Update(p, fmt.Sprintf("%s = %s", d.Name(spare.Name), d.Name(a.Was.Name)), "")[0]),
				onlyIf(present(p.Now.Schema, p.Now.Name, []string{spare.Name}), fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s, CHANGE COLUMN %s %s%s", table, d.Name(a.Was.Name), d.Name(spare.Name), d.column(p.Now, a.Now, true), d.place(p.Now, a.Now.Name))))...)
		} else {
			if a.Was.Generated == "" {
				d.DecideLost(p, a.Was, "")
			}
			d.Step(fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s%s", table, ifExists, d.Name(a.Was.Name)),
				fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s%s%s", table, ifNotExists, d.column(p.Now, a.Now, true), d.place(p.Now, a.Now.Name)))
		}
		d.indexAgain(p, a.Now.Name)
	}
}

// indexAgain has the indexes over a column made again that was dropped meanwhile.
func (d *mysql) indexAgain(p *migration.Pair, column string) {
	for _, k := range p.Now.Uniques {
		if slices.Contains(k.Columns, column) && !slices.ContainsFunc(p.AddUniques, func(x catalog.Key) bool { return x.Name == k.Name }) {
			p.DropUniques, p.AddUniques = append(p.DropUniques, k), append(p.AddUniques, k)
		}
	}
	for _, in := range p.Now.Indexes {
		if slices.Contains(in.Columns, column) && !slices.ContainsFunc(p.AddIndexes, func(x catalog.Index) bool { return x.Name == in.Name }) {
			p.DropIndexes, p.AddIndexes = append(p.DropIndexes, in), append(p.AddIndexes, in)
		}
	}
}

// changeRest changes all that is left in a table: what goes first, in a statement
// of its own where its name comes back.
func (d *mysql) changeRest(p *migration.Pair, later []string, identity string) {
	drops, rest := d.clauses(p, later, identity)
	again := slices.ContainsFunc(drops, func(s string) bool {
		name := s[strings.LastIndex(s, " ")+1:]
		return slices.ContainsFunc(rest, func(r string) bool { return strings.Contains(r, "KEY "+ifNotExists+name+" ") })
	})
	if again {
		d.Noted(d.noteOnCopy(p), d.alter(d.TableOf(p.Now), drops))
		drops = nil
	}
	if clauses := append(drops, rest...); len(clauses) > 0 {
		d.Noted(d.noteOnCopy(p), d.alter(d.TableOf(p.Now), clauses))
	}
}

func (d *mysql) noteOnCopy(p *migration.Pair) string {
	if !migration.Big(p.Old.Rows) || len(p.Altered) == 0 && len(p.AddUniques)+len(p.AddIndexes) == 0 && !p.KeyChanged {
		return ""
	}
	return "This may copy the table, for whose whole time writers wait. On a large table first try it with\nALGORITHM=INPLACE, LOCK=NONE, which fails at once where it cannot be done so."
}

// clauses are all that is left to change in a table: what goes, and the rest.
func (d *mysql) clauses(p *migration.Pair, later []string, identity string) (drops, list []string) {
	modify := map[string]bool{}
	for _, name := range later {
		modify[name] = true
	}
	for _, a := range p.Altered {
		modify[a.Now.Name] = !a.Computed()
	}
	for i := range p.Now.Columns {
		c := &p.Now.Columns[i]
		was, ok := p.Old.Column(c.Name)
		if ok && was.Comment != c.Comment || p.Reordered && (ok || c.Generated == "") {
			modify[c.Name] = true
		}
		for _, check := range slices.Concat(p.DropChecks, p.AddChecks) {
			if check.Name == c.Name && ok {
				modify[c.Name] = true
			}
		}
	}
	if p.KeyChanged && p.Old.PrimaryKey == nil && p.Now.PrimaryKey != nil {
		list = append(list, "DROP INDEX "+ifExists+"`PRIMARY`")
	}
	if p.KeyChanged && p.Old.PrimaryKey != nil {
		list = append(list, "DROP INDEX "+ifExists+"`PRIMARY`")
		for _, c := range p.Dropped {
			if c.Default != nil && c.Default.Kind == catalog.Identity { // it is a key no more, and still there
				plain := *c
				plain.Default = nil
				list = append(list, "MODIFY COLUMN "+d.column(p.Old, &plain, true))
			}
		}
	}
	for _, k := range p.DropUniques {
		drops = append(drops, "DROP INDEX "+ifExists+d.Name(k.Name))
	}
	for _, in := range p.DropIndexes {
		drops = append(drops, "DROP INDEX "+ifExists+d.Name(in.Name))
	}
	for i := range p.Now.Columns {
		c := &p.Now.Columns[i]
		switch {
		case c.Name == identity, slices.Contains(later, c.Name) && c.Generated != "":
			list = append(list, "ADD COLUMN "+ifNotExists+d.column(p.Now, c, true)+d.place(p.Now, c.Name))
		case modify[c.Name]:
			place := ""
			if p.Reordered {
				place = d.place(p.Now, c.Name)
			}
			list = append(list, "MODIFY COLUMN "+d.column(p.Now, c, true)+place)
		}
	}
	if p.KeyChanged && p.Now.PrimaryKey != nil {
		list = append(list, fmt.Sprintf("ADD PRIMARY KEY (%s)", d.Names(p.Now.PrimaryKey.Columns)))
	}
	for _, k := range p.AddUniques {
		list = append(list, fmt.Sprintf("ADD UNIQUE KEY %s%s (%s)", ifNotExists, d.Name(k.Name), d.Names(k.Columns)))
	}
	for _, in := range p.AddIndexes {
		list = append(list, "ADD "+d.indexText(in, ifNotExists))
	}
	for _, c := range p.AddChecks {
		if !d.columnCheck(p.Now, c) {
			list = append(list, fmt.Sprintf("ADD CONSTRAINT %s%s CHECK (%s)", ifNotExists, d.Name(c.Name), c.Expr))
		}
	}
	if p.Old.Comment != p.Now.Comment {
		list = append(list, "COMMENT = "+d.SQL.Literal(p.Now.Comment))
	}
	if a, b := strings.Join(p.Old.Options, ","), strings.Join(p.Now.Options, ","); a != b {
		d.Note("%s must be made %s by hand, and is %s", p.Now.FullName(), orInnoDB(b), orInnoDB(a))
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
func (d *mysql) decideType(p *migration.Pair, a migration.Alteration) {
	if a.Was.Generated != "" || a.Now.Generated != "" || !a.Retyped() {
		return
	}
	if a.Was.Type.Kind == catalog.EnumKind && a.Now.Type.Kind == catalog.EnumKind {
		d.decideLabels(p, a)
		return
	}
	f := d.Former(p)
	column := f.Column(a.Now.Name)
	c := myConversion(d.Writing, a, column)
	some := func(fault string) []migration.Check {
		return []migration.Check{f.Where(a.Now.Name, []string{a.Now.Name}, fault, column+" IS NOT NULL", "take another proposal")}
	}
	question := fmt.Sprintf("%s of %s becomes %s, which not every %s fits into. What becomes of the values?", a.Now.Name, p.Now.FullName(), a.Now.Declared, a.Was.Declared)
	switch {
	case c.Harmless():
	case c.Anchored:
		d.Decision(fmt.Sprintf("%s of %s becomes %s, was %s. Which time zone are its values in?", a.Now.Name, p.Now.FullName(), a.Now.Declared, a.Was.Declared),
			migration.Proposal{Title: "UTC", Checks: d.anchoredChecks(f, a, column)},
			migration.Proposal{Title: "the script stops if there is a value", Checks: some("rows have a value, and its time zone is not known")})
	case c.Unknown:
		d.Decision(question,
			migration.Proposal{Title: "the script stops if there is a value", Checks: some("rows have a value, and it is not known what becomes of it")},
			migration.Proposal{Title: "the server converts them, and stops where it finds it cannot"})
	default:
		stop := migration.Proposal{Title: "the script stops where one would not be the same afterwards",
			Checks: []migration.Check{f.Where(a.Now.Name, []string{a.Now.Name}, "values do not fit into "+a.Now.Declared+", or would not be the same", c.Condition, "change them, or take another proposal")}}
		if len(d.RenamedIn(p.Now)) > 0 || d.OldName(p.Now.FullName()) != p.Now.FullName() {
			stop.SQL = d.checkAgain(p, a) // for a script that is run again the names are new ones
		}
		d.Decision(question, stop, migration.Proposal{Title: "they are rounded or cut where they must be", SQL: d.cut(p, a)})
	}
}

// checkAgain tests a column under its new name, right before it changes.
func (d *mysql) checkAgain(p *migration.Pair, a migration.Alteration) []string {
	c := myConversion(d.Writing, a, d.Name(a.Now.Name))
	list := Engine{}.Check(0, migration.Check{Place: p.Now.FullName() + "." + a.Now.Name, Fault: "values do not fit into " + a.Now.Declared,
		Count: fmt.Sprintf("SELECT count(*) FROM %s WHERE %s", d.TableOf(p.Now), c.Condition), List: fmt.Sprintf("SELECT * FROM %s WHERE %s", d.TableOf(p.Now), c.Condition)})
	return list
}

// anchoredChecks are for times that a timestamp does not hold.
func (d *mysql) anchoredChecks(f migration.Former, a migration.Alteration, column string) []migration.Check {
	if a.Now.Type.Kind != catalog.TimestampTZ {
		return nil
	}
	condition := fmt.Sprintf("%s < '1970-01-01 00:00:01' OR %[1]s > '2038-01-19 03:14:07'", column)
	if fraction(a.Was.Declared) > fraction(a.Now.Declared) {
		condition = migration.Or(condition, fmt.Sprintf("NOT (CAST(%s AS DATETIME(%d)) <=> %[1]s)", column, fraction(a.Now.Declared)))
	}
	return []migration.Check{f.Where(a.Now.Name, []string{a.Now.Name}, "times do not fit into "+a.Now.Declared, condition, "change them")}
}

// cut makes values fit that the server would stop at.
func (d *mysql) cut(p *migration.Pair, a migration.Alteration) []string {
	column := d.Name(a.Now.Name)
	switch {
	case a.Now.Type.Kind == catalog.Text && a.Now.Type.Size > 0 && a.Was.Type.Kind == catalog.Text:
		return d.Update(p, fmt.Sprintf("%s = left(%[1]s, %d)", column, a.Now.Type.Size), fmt.Sprintf("char_length(%s) > %d", column, a.Now.Type.Size))
	case a.Now.Type.Kind == catalog.Int && migration.Number(a.Was.Type.Kind):
		low, high := migration.IntRange(a.Now.Type)
		return d.Update(p, fmt.Sprintf("%s = least(greatest(%[1]s, %s), %s)", column, low, high), migration.Outside(column, a.Now.Type))
	}
	return nil
}

// decideLabels asks about the labels of an enum that are gone.
func (d *mysql) decideLabels(p *migration.Pair, a migration.Alteration) {
	f := d.Former(p)
	if set := recoded(a, f.Column(a.Now.Name)); set != "" {
		d.Check(f.Where(a.Now.Name, []string{a.Now.Name}, "labels have characters that the new character set lacks", set, "change the labels"))
	}
	for place, label := range a.Was.Type.Labels {
		if slices.Contains(a.Now.Type.Labels, label) || len(a.Now.Type.Labels) == 0 {
			continue
		}
		column := d.Name(a.Now.Name)
		proposals := []migration.Proposal{{Title: "the script stops if a row has it",
			Checks: []migration.Check{f.Where(a.Now.Name, []string{a.Now.Name}, "rows have the label "+label+", which is gone", fmt.Sprintf("CAST(%s AS BINARY) = %s", f.Column(a.Now.Name), d.SQL.Literal(label)), "give them another label")}}}
		if i := slices.IndexFunc(a.Now.Type.Labels, func(l string) bool { return slices.Contains(a.Was.Type.Labels, l) }); i >= 0 {
			other := a.Now.Type.Labels[i]
			proposals = append(proposals, migration.Proposal{Title: "they get " + other, SQL: d.Update(p, fmt.Sprintf("%s = %s", column, d.SQL.Literal(other)), fmt.Sprintf("%s = %s", column, d.SQL.Literal(label)))})
		}
		if len(a.Now.Type.Labels) == len(a.Was.Type.Labels) && !slices.Contains(a.Was.Type.Labels, a.Now.Type.Labels[place]) {
			fresh := a.Now.Type.Labels[place]
			wide := *a.Was
			wide.Type.Labels = append(slices.Clone(a.Was.Type.Labels), slices.DeleteFunc(slices.Clone(a.Now.Type.Labels), func(l string) bool { return slices.Contains(a.Was.Type.Labels, l) })...)
			wide.Declared = "enum(" + d.Literals(wide.Type.Labels) + ")"
			proposals = append(proposals, migration.Proposal{Title: "it is called " + fresh + " now",
				SQL: append(onlyIf(fmt.Sprintf("(SELECT count(*) FROM information_schema.columns WHERE table_schema = %s AND table_name = %s AND column_name = %s AND locate(%s, column_type) > 0) = 1",
					schemaText(p.Now.Schema), d.SQL.Literal(p.Now.Name), d.SQL.Literal(a.Now.Name), d.SQL.Literal(d.SQL.Literal(label))),
					d.alter(d.TableOf(p.Now), []string{"MODIFY COLUMN " + d.column(&catalog.Table{}, &wide, true)})),
					d.Update(p, fmt.Sprintf("%s = %s", column, d.SQL.Literal(fresh)), fmt.Sprintf("%s = %s", column, d.SQL.Literal(label)))...)})
		}
		d.Decision(fmt.Sprintf("The label %s of %s.%s is gone. What do rows get that have it?", label, p.Now.FullName(), a.Now.Name), proposals...)
	}
}

// moveTriggers drops the triggers that are gone, that change, or that must not
// fire, before anything else, and makes those of the new schema at the end.
func (d *mysql) moveTriggers(pairs []*migration.Pair) {
	var drops []migration.Step
	for _, p := range pairs {
		for _, t := range p.Old.Triggers {
			i := slices.IndexFunc(p.Now.Triggers, func(x catalog.Trigger) bool { return x.Name == t.Name })
			if i < 0 || p.Quiet || !catalog.SameText(p.Now.Triggers[i].Definition, t.Definition) {
				drops = append(drops, migration.Step{SQL: []string{"DROP TRIGGER IF EXISTS " + d.Table(p.Now.Schema, t.Name)}})
			}
		}
		d.makeTriggers(p.Old, p.Now, p.Quiet)
	}
	for _, t := range d.Fresh() {
		d.makeTriggers(&catalog.Table{}, t, false)
	}
	d.Script.Steps = append(drops, d.Script.Steps...)
}

func (d *mysql) makeTriggers(old, now *catalog.Table, all bool) {
	for _, t := range now.Triggers {
		i := slices.IndexFunc(old.Triggers, func(x catalog.Trigger) bool { return x.Name == t.Name })
		if all || i < 0 || !catalog.SameText(old.Triggers[i].Definition, t.Definition) {
			kept := t.Session
			if i >= 0 && old.Triggers[i].Session != "" {
				kept = old.Triggers[i].Session
			}
			d.remade(kept, "DROP TRIGGER IF EXISTS "+d.Table(now.Schema, t.Name), t.Definition)
		}
	}
}

// moveExtras changes options, events and, for tables that have another name,
// rights, which stay with the old name.
func (d *mysql) moveExtras(pairs []*migration.Pair) {
	move := func(old, now []catalog.Extra, renamed bool) {
		for _, e := range old {
			if x, stays := migration.FindExtra(now, e); (!stays || x.Make != e.Make && e.Kind == "event") && e.Undo != "" {
				d.Step(e.Undo)
			}
		}
		for _, e := range now {
			was, there := migration.FindExtra(old, e)
			if (!there || was.Make != e.Make || renamed && e.Kind == "right") && !migration.Unmade(e) {
				d.remade(e.Session, e.Make)
			}
		}
	}
	for _, p := range pairs {
		move(p.Old.Extras, p.Now.Extras, d.OldName(p.Now.FullName()) != p.Now.FullName())
	}
	for _, t := range d.Fresh() {
		move(nil, t.Extras, false)
	}
	for i := range d.After.Tables {
		if t := &d.After.Tables[i]; t.IsView() {
			was, ok := d.At.Table(t.Schema, t.Name)
			if !ok {
				was = &catalog.Table{}
			}
			move(was.Extras, t.Extras, false)
		}
	}
	move(d.At.Extras, d.After.Extras, false)
}

func (d *mysql) addReferences(pairs []*migration.Pair) {
	add := func(t *catalog.Table, list []catalog.Reference) {
		var clauses []string
		for _, r := range list {
			clauses = append(clauses, fmt.Sprintf("ADD CONSTRAINT %s %s", d.Name(r.Name), strings.Replace(d.ReferenceText(r), "FOREIGN KEY (", "FOREIGN KEY "+ifNotExists+"(", 1)))
		}
		if len(clauses) > 0 {
			d.Step(d.alter(d.TableOf(t), clauses))
		}
	}
	for _, p := range pairs {
		add(p.Now, p.AddReferences)
	}
	for _, t := range d.Fresh() {
		add(t, slices.DeleteFunc(slices.Clone(t.References), func(r catalog.Reference) bool { return d.Early(t, r) }))
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
	for _, now := range d.After.Sequences {
		was, there := findSequence(d.At, now)
		name := d.Table(now.Schema, now.Name)
		switch {
		case !there:
			d.Step(strings.TrimSpace("CREATE SEQUENCE IF NOT EXISTS " + name + " " + now.Options))
		case was.Options != now.Options:
			d.Step("ALTER SEQUENCE " + name + " " + live.AllSequenceOptions(now.Options))
		}
	}
}

func (d *mysql) dropSequences() {
	for _, was := range d.At.Sequences {
		if _, stays := findSequence(d.After, was); !stays {
			d.Step("DROP SEQUENCE IF EXISTS " + d.Table(was.Schema, was.Name))
		}
	}
}

func (d *mysql) dropTables() {
	gone := d.Gone()
	for _, t := range gone {
		for _, r := range t.References {
			if r.Table != t.Name && slices.ContainsFunc(gone, func(x *catalog.Table) bool { return x.Name == r.Table && x.Schema == r.Schema }) {
				d.Step(onlyIf(present(t.Schema, t.Name, nil), fmt.Sprintf("ALTER TABLE %s DROP FOREIGN KEY %s%s", d.TableOf(t), ifExists, d.Name(r.Name)))...)
			}
		}
	}
	for _, t := range gone {
		d.DecideGone(t, "DROP TABLE IF EXISTS "+d.TableOf(t))
	}
}
