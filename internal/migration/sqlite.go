package migration

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// sqlite drafts for SQLite, which changes little of a table in place. For the
// rest a new table takes the rows over.
//
// The shell goes on after an error, and so do many programs. A statement that
// fails therefore leaves its mark: each check and each copy puts a row into a
// temporary table if it succeeds, and at the end a statement that counts them
// rolls the transaction back if one is missing. Should the engine itself roll
// back on its way, as on a full disk, the statements that follow find empty
// temporary tables in place of the real ones, for these hide them whenever the
// transaction does not run.
type sqlite struct {
	*draft
	marks    []string // what each mark says when it is missing
	hidden   []string // the tables that a step changes, under their old names
	expected []string // conditions on the schema at the end
	last     string   // the mark behind all steps
}

func (d *sqlite) write() {
	d.draft.decided = d.decided
	pairs := d.pairs()
	slices.SortStableFunc(pairs, func(a, b *pair) int { return len(a.dropped) - len(b.dropped) })
	for _, p := range pairs {
		d.rowChecks(p)
	}
	rebuilt := map[string]bool{}
	touched := d.touched(pairs)
	for _, p := range pairs {
		if d.needsRebuild(p) {
			rebuilt[p.now.Name] = true
			touched = append(touched, d.oldName(p.now.Name))
		}
	}
	touched = append(touched, d.mayReceive(pairs)...)
	d.hide(pairs, rebuilt)
	off := len(rebuilt)+len(d.gone()) > 0
	drop, remake := d.views(touched)
	for _, v := range drop {
		d.step("DROP VIEW " + d.name(v.Name))
	}
	triggers := d.dropTriggers(touched)
	d.freeIndexes()
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
	for _, v := range remake {
		d.step(strings.TrimSpace(v.Definition))
	}
	d.makeTriggers(triggers)
	d.expect(drop)
	d.frame(off)
}

// mayReceive are the tables into which decisions may carry values: their triggers
// must not fire then.
func (d *sqlite) mayReceive(pairs []*pair) []string {
	loses := func(p *pair) bool {
		return slices.ContainsFunc(p.dropped, func(c *catalog.Column) bool { return c.Generated == "" })
	}
	var list []string
	for _, p := range pairs {
		if len(p.added) > 0 && slices.ContainsFunc(pairs, loses) {
			list = append(list, d.oldName(p.now.Name))
		}
	}
	return list
}

// hide notes the tables that steps name, for the statements after a rollback.
func (d *sqlite) hide(pairs []*pair, rebuilt map[string]bool) {
	for _, t := range d.gone() {
		d.hidden = append(d.hidden, t.Name)
	}
	for _, r := range d.renames {
		if r.Thing == catalog.RenamedTable {
			d.hidden = append(d.hidden, r.From)
		}
	}
	for _, p := range pairs {
		changes := rebuilt[p.now.Name] || len(p.added)+len(p.dropped)+len(p.addUniques)+len(p.dropUniques)+len(p.addIndexes)+len(p.dropIndexes)+len(d.renamedIn(p.now)) > 0
		if old := d.oldName(p.now.Name); changes && !slices.Contains(d.hidden, old) {
			d.hidden = append(d.hidden, old)
		}
	}
}

// frame puts the transaction around the script, and the temporary tables that
// guard it.
func (d *sqlite) frame(off bool) {
	s := &d.script.session
	if off {
		s.begin = append(s.begin, "PRAGMA foreign_keys = OFF")
		d.note("foreign_keys is off while the script runs, for dropping a table would drop rows that refer to it, and on afterwards; every reference is checked")
	}
	for _, name := range d.hidden {
		s.begin = append(s.begin, fmt.Sprintf("CREATE TEMP TABLE %s (hidden)", d.name(name)))
	}
	s.begin = append(s.begin, "BEGIN IMMEDIATE")
	for _, name := range d.hidden {
		s.begin = append(s.begin, "DROP TABLE temp."+d.name(name))
	}
	if off {
		s.begin = append(s.begin, "PRAGMA legacy_alter_table = OFF")
	}
	open := off || len(d.script.Open()) > 0
	checks := d.script.checks()
	var messages []string
	for i, c := range checks {
		messages = append(messages, fmt.Sprintf("CONSTRAINT %s CHECK (n <> %d OR faults = 0)", quoteAlways(liteMessage(c)), i+1))
	}
	for i, m := range d.marks {
		messages = append(messages, fmt.Sprintf("CONSTRAINT %s CHECK (n <> %d OR faults = 0)", quoteAlways(m), markBase+i))
	}
	total := len(checks) + len(d.marks)
	messages = append(messages, fmt.Sprintf("CONSTRAINT %s CHECK (n <> 0 OR faults = 0)", quoteAlways("nothing was changed, since a check or a step failed or a decision is open")))
	s.begin = append(s.begin,
		fmt.Sprintf("CREATE TEMP TABLE widegate_check (n INTEGER PRIMARY KEY, faults INTEGER NOT NULL,\n    %s)", strings.Join(messages, ",\n    ")))
	if open {
		s.begin = append(s.begin, "CREATE TEMP TABLE widegate_open (place INTEGER)")
	}
	if off {
		s.begin = append(s.begin, "INSERT INTO widegate_open SELECT 0 FROM pragma_foreign_keys WHERE foreign_keys = 1")
	}
	gate := fmt.Sprintf("INSERT OR ROLLBACK INTO widegate_check\n    SELECT 0, %d - (SELECT count(*) FROM widegate_check)", total)
	if open {
		gate += " + (SELECT count(*) FROM widegate_open)"
	}
	for _, e := range d.expected {
		gate += "\n        + (NOT (" + e + "))"
	}
	s.end = append(given(d.last), gate, "DROP TABLE temp.widegate_check")
	if open {
		s.end = append(s.end, "DROP TABLE temp.widegate_open")
	}
	s.end = append(s.end, "COMMIT")
	if off {
		s.end = append(s.end, "PRAGMA foreign_keys = ON")
	}
}

// markBase is the number of the first mark of a step; the checks have those below.
const markBase = 100_000

func liteMessage(c Check) string {
	text := c.message()
	if c.List != "" {
		text += "; they are listed by " + oneLine(c.List)
	}
	return strings.NewReplacer(";", ",", "\n", " ", "\r", " ").Replace(text)
}

// liteDialect is how SQLite tests and stops.
type liteDialect struct{}

func (liteDialect) guard(string) []string { return nil }

func (liteDialect) stop(decide string) string {
	var n int
	fmt.Sscanf(decide, "DECIDE %d", &n)
	return fmt.Sprintf("INSERT INTO widegate_open VALUES (%d); %s", n, decide)
}

func (liteDialect) check(n int, c Check) []string {
	return []string{
		fmt.Sprintf("SELECT %s || n || ' found)' FROM (SELECT (%s) AS n) WHERE n > 0", literal(catalog.SQLite, strings.ReplaceAll(c.message(), ";", ",")+" ("), c.Count),
		fmt.Sprintf("INSERT INTO widegate_check SELECT %d, (%s)", n, c.Count),
	}
}

// mark adds a step that leaves a mark where a query finds no fault.
func (d *sqlite) mark(message, faults string) string {
	d.marks = append(d.marks, strings.ReplaceAll(message, ";", ","))
	return fmt.Sprintf("INSERT INTO widegate_check SELECT %d, %s", markBase+len(d.marks)-1, faults)
}

// holds marks what must be true when a decision was carried out.
func (d *sqlite) decided(x *Decision) {
	if x.Taken < 0 || x.Proposals[x.Taken].holds == "" {
		return
	}
	p := &x.Proposals[x.Taken]
	at := len(p.SQL)
	if at > 0 && strings.Contains(" "+strings.ToUpper(p.SQL[at-1]), " DROP ") || at > 0 && strings.HasPrefix(p.SQL[at-1], "DELETE ") {
		at-- // before what is then dropped
	}
	p.SQL = slices.Insert(slices.Clone(p.SQL), at, d.mark(fmt.Sprintf("decision %d was not carried out", x.Number), "NOT ("+p.holds+")"))
}

// expect says what the schema must have at the end, so that a statement that
// failed is noticed.
func (d *sqlite) expect(droppedViews []*catalog.Table) {
	there := func(kind string, names []string) {
		if len(names) > 0 {
			d.expected = append(d.expected, fmt.Sprintf("(SELECT count(*) FROM sqlite_schema WHERE type = '%s' AND name IN (%s)) = %d", kind, d.literals(names), len(names)))
		}
	}
	var tables, views, indexes, triggers, gone []string
	for i := range d.after.Tables {
		t := &d.after.Tables[i]
		if t.IsView() {
			views = append(views, t.Name)
		} else {
			tables = append(tables, t.Name)
		}
		for _, k := range t.Uniques {
			if k.Index {
				indexes = append(indexes, k.Name)
			}
		}
		for _, in := range t.Indexes {
			indexes = append(indexes, in.Name)
		}
		for _, x := range t.Triggers {
			triggers = append(triggers, x.Name)
		}
		p := d.pairOf(t)
		changed := p != nil && slices.Contains(d.hidden, d.oldName(t.Name)) || p == nil && !t.IsView()
		if changed && !slices.Contains(t.Options, "virtual") {
			d.expected = append(d.expected, fmt.Sprintf("(SELECT group_concat(name, ' ') FROM (SELECT name FROM pragma_table_xinfo(%s) WHERE hidden <> 1 ORDER BY name)) = %s", literal(d.engine, t.Name), literal(d.engine, sortedNames(t))))
		}
	}
	for _, t := range d.gone() {
		if _, again := d.after.Table("", t.Name); !again {
			gone = append(gone, t.Name)
		}
	}
	for _, v := range droppedViews {
		if _, again := d.after.Table("", v.Name); !again {
			gone = append(gone, v.Name)
		}
	}
	there("table", tables)
	there("view", views)
	there("index", indexes)
	there("trigger", triggers)
	if len(gone) > 0 {
		d.expected = append(d.expected, fmt.Sprintf("(SELECT count(*) FROM sqlite_schema WHERE name IN (%s)) = 0", d.literals(gone)))
	}
	if len(d.hidden) > 0 {
		d.last = d.mark("a row refers to nothing, see PRAGMA foreign_key_check", d.orphans())
	}
}

// orphans counts the rows whose references lead nowhere in the tables that have
// changed, or refer to one of them: what was wrong elsewhere before stays so.
func (d *sqlite) orphans() string {
	var names []string
	for i := range d.after.Tables {
		t := &d.after.Tables[i]
		near := func(name string) bool { return slices.Contains(d.hidden, d.oldName(name)) }
		fresh := !t.IsView() && d.pairOf(t) == nil
		if !t.IsView() && (near(t.Name) || fresh || slices.ContainsFunc(t.References, func(r catalog.Reference) bool { return near(r.Table) })) {
			names = append(names, t.Name)
		}
	}
	if len(names) == 0 {
		return "0"
	}
	return fmt.Sprintf("(SELECT count(*) FROM pragma_foreign_key_check WHERE \"table\" IN (%s))", d.literals(names))
}

// orphanChecks find the references that lead nowhere before anything changes, so
// that they are named and no rebuild is blamed for them.
func (d *sqlite) orphanChecks(p *pair) {
	f := d.former(p)
	for _, r := range p.old.References {
		stays := slices.ContainsFunc(p.now.References, func(x catalog.Reference) bool { return slices.Equal(x.Columns, r.Columns) && x.Table == r.Table })
		if stays {
			d.check(f.reference(r)...)
		}
	}
}

func sortedNames(t *catalog.Table) string {
	var list []string
	for _, c := range t.Columns {
		list = append(list, c.Name)
	}
	slices.Sort(list)
	return strings.Join(list, " ")
}

// freeIndexes drops the indexes whose names move to another table.
func (d *sqlite) freeIndexes() {
	for _, t := range d.gone() {
		for _, name := range indexNames(t) {
			taken := slices.ContainsFunc(d.after.Tables, func(x catalog.Table) bool { return x.Name != t.Name && slices.Contains(indexNames(&x), name) })
			if name != "" && taken {
				d.step("DROP INDEX " + d.name(name))
			}
		}
	}
	for _, p := range d.all {
		d.dropIndexes(p)
	}
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
				from := r.From
				if strings.EqualFold(r.From, r.To) { // which the engine takes for the same
					from = d.freeName("", r.To+"_renamed")
					d.step(fmt.Sprintf("ALTER TABLE %s RENAME TO %s", d.name(r.From), d.name(from)))
				}
				d.step(fmt.Sprintf("ALTER TABLE %s RENAME TO %s", d.name(from), d.name(r.To)))
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
		own := len(r.Columns) == 1 && p.isAdded(r.Columns[0]) && mentions(d.fragment(p.now, r.Columns[0]), "REFERENCES")
		if !own { // one that stands behind the columns does not come with its column
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
		return oneSpace(text)
	}
	return ""
}

// oneSpace is a text of SQL on one line, with what stands in quotes as it is.
func oneSpace(text string) string {
	var b strings.Builder
	last := 0
	for i, t := range sqltext.Scan(text, sqltext.SQLite) {
		if i > 0 && t.From > last {
			b.WriteByte(' ')
		}
		b.WriteString(text[t.From:t.To])
		last = t.To
	}
	return b.String()
}

// items are the columns and constraints in the text of a table, comments left
// out.
func items(definition string) [][]sqltext.Token {
	var list [][]sqltext.Token
	tokens := sqltext.Scan(definition, sqltext.SQLite)
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
		item := slices.DeleteFunc(slices.Clone(tokens[first:i]), func(t sqltext.Token) bool { return t.Kind == sqltext.Comment })
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
	for _, c := range p.added {
		d.step(fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", d.name(p.now.Name), d.fragment(p.now, c.Name)))
	}
	d.decideSplit(p)
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
	if k.Definition != "" {
		return k.Definition
	}
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
		numbered := c.Default != nil && c.Default.Kind == catalog.Identity
		if single && t.PrimaryKey.Columns[0] == c.Name {
			text += " PRIMARY KEY"
			if strings.EqualFold(c.Declared, "INTEGER") && !numbered {
				text += " DESC" // with which the column is no name of the row's number
			}
		}
		if !c.Nullable && !numbered {
			text += " NOT NULL"
		}
		switch {
		case c.Generated != "":
			text += fmt.Sprintf(" GENERATED ALWAYS AS (%s)", c.Generated)
			if c.Stored {
				text += " STORED"
			}
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

// rebuild has a new table take the rows over. The old one has another name while
// it is there, so that no statement that drops it can meet the new one, or the
// old one after a rollback.
func (d *sqlite) rebuild(p *pair) {
	table := d.name(p.now.Name)
	d.orphanChecks(p)
	_, into := p.split()
	filled := map[string]bool{}
	for _, c := range p.added {
		text := fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s", table, d.name(c.Name), c.Declared)
		switch {
		case c.Generated != "":
		case slices.Contains(into, c):
			d.step(text)
			filled[c.Name] = true
		case mandatory(c):
			d.step(text)
			filled[c.Name] = true
			d.decideNew(p, c, func(value string) []string {
				return []string{fmt.Sprintf("UPDATE %s SET %s = %s", table, d.name(c.Name), value)}
			}, nil)
		case d.receives(p, c):
			d.step(strings.TrimSpace(text + d.defaultClause(c)))
			filled[c.Name] = true
		}
	}
	d.decideSplit(p)
	d.decideNulls(p)
	for _, a := range p.altered {
		d.decideType(p, a)
	}
	d.checkStrict(p)
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
	fresh, before := d.freeName("", p.now.Name+"_new"), d.freeName("", p.now.Name+"_before")
	for _, name := range []string{fresh, before} {
		d.check(d.free(d.name(name))...)
	}
	note := ""
	if big(p.old.Rows) {
		note = "All rows are copied, while nobody else can write."
	}
	statements := []string{d.tableText(p.now, fresh)}
	if len(columns) > 0 {
		statements = append(statements, fmt.Sprintf("INSERT INTO %s (%s) SELECT %[2]s FROM %s", d.name(fresh), d.names(columns), table))
	}
	statements = append(statements, d.mark("not all rows of "+p.now.Name+" could be copied", fmt.Sprintf("(SELECT count(*) FROM %s) - (SELECT count(*) FROM %s)", table, d.name(fresh))))
	if mentions(p.now.Definition, "AUTOINCREMENT") && mentions(p.old.Definition, "AUTOINCREMENT") {
		statements = append(statements, fmt.Sprintf("DELETE FROM sqlite_sequence WHERE name = %s", literal(d.engine, fresh)),
			fmt.Sprintf("INSERT INTO sqlite_sequence (name, seq) SELECT %s, seq FROM sqlite_sequence WHERE name = %s", literal(d.engine, fresh), literal(d.engine, p.now.Name)))
	}
	statements = append(statements,
		"PRAGMA legacy_alter_table = ON", // references to it stay as they are
		fmt.Sprintf("ALTER TABLE %s RENAME TO %s", table, d.name(before)),
		fmt.Sprintf("ALTER TABLE %s RENAME TO %s", d.name(fresh), table),
		"PRAGMA legacy_alter_table = OFF",
		"DROP TABLE "+d.name(before))
	d.noted(note, statements...)
	d.makeIndexes(p.now)
}

// receives reports whether values of another table may go into a new column.
func (d *sqlite) receives(p *pair, c *catalog.Column) bool {
	for _, r := range d.possible {
		if r.Thing == catalog.RenamedColumn && r.In == p.now.FullName() && r.To == c.Name {
			return true
		}
	}
	return slices.ContainsFunc(d.all, func(q *pair) bool {
		return q != p && slices.ContainsFunc(q.dropped, func(x *catalog.Column) bool { return x.Name == c.Name && x.Type.Kind == c.Type.Kind })
	})
}

func (d *sqlite) defaultClause(c *catalog.Column) string {
	if c.Default == nil || c.Default.Kind != catalog.Constant {
		return ""
	}
	return " DEFAULT " + d.defaultText(c)
}

// checkStrict checks the columns that stay as they are where a table becomes
// strict.
func (d *sqlite) checkStrict(p *pair) {
	if !slices.Contains(p.now.Options, "strict") || slices.Contains(p.old.Options, "strict") {
		return
	}
	f := d.former(p)
	for i := range p.now.Columns {
		c := &p.now.Columns[i]
		_, there := p.old.Column(c.Name)
		if condition := strictly(c.Declared, f.column(c.Name)); there && c.Generated == "" && condition != "" {
			d.check(f.where(c.Name, []string{c.Name}, "values are not of the type "+c.Declared, condition, "change them"))
		}
	}
}

// decideType asks where a value may become another one. A column of an ordinary
// table takes any value, but converts what looks like one of its type.
func (d *sqlite) decideType(p *pair, a alteration) {
	if a.was.Generated != "" || a.now.Generated != "" || !a.retyped() {
		return
	}
	f := d.former(p)
	strict := slices.Contains(p.now.Options, "strict")
	c := d.liteConversion(a, f.column(a.now.Name), strict)
	if c.harmless() {
		return
	}
	if affinity(a.was.Declared) == "INTEGER" && affinity(a.now.Declared) == "TEXT" && !strict { // other values are rare there
		d.check(f.where(a.now.Name, []string{a.now.Name}, "values would not be the same as texts", c.condition, "change them"))
		return
	}
	d.decision(fmt.Sprintf("%s of %s becomes %s, was %s. What becomes of values that are none?", a.now.Name, p.now.FullName(), a.now.Declared, a.was.Declared),
		Proposal{Title: "the script stops where one would not be the same afterwards",
			checks: []Check{f.where(a.now.Name, []string{a.now.Name}, "values do not fit into "+a.now.Declared+", or would not be the same", c.condition, "change them, or take another proposal")}},
		Proposal{Title: "they stay as they are, or are converted where the engine can"})
}
