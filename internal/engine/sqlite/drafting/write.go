package drafting

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"widegate/internal/migration"

	"widegate/internal/catalog"
	"widegate/internal/engine/sqlite/dialect"
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
	*migration.Writing
	marks    []string // what each mark says when it is missing
	hidden   []string // the tables that a step changes, under their old names
	expected []string // conditions on the schema at the end
	last     string   // the mark behind all steps
}

func (d *sqlite) write() {
	d.Writing.Decided = d.decided
	pairs := d.Pairs()
	slices.SortStableFunc(pairs, func(a, b *migration.Pair) int { return len(a.Dropped) - len(b.Dropped) })
	for _, p := range pairs {
		d.RowChecks(p)
	}
	rebuilt := map[string]bool{}
	touched := d.Touched(pairs)
	for _, p := range pairs {
		if d.needsRebuild(p) {
			rebuilt[p.Now.Name] = true
			touched = append(touched, d.OldName(p.Now.Name))
		}
	}
	touched = append(touched, d.mayReceive(pairs)...)
	d.hide(pairs, rebuilt)
	off := len(rebuilt)+len(d.Gone()) > 0
	drop, remake := d.Views(touched)
	for _, v := range drop {
		d.Step("DROP VIEW " + d.Name(v.Name))
	}
	triggers := d.dropTriggers(touched)
	d.freeIndexes()
	d.rename()
	for _, t := range d.Fresh() {
		d.makeTable(t)
	}
	for _, p := range pairs {
		if rebuilt[p.Now.Name] {
			d.rebuild(p)
		} else {
			d.change(p)
		}
	}
	for _, t := range d.Gone() {
		d.DecideGone(t, "DROP TABLE "+d.Name(t.Name))
	}
	for _, v := range remake {
		d.Step(strings.TrimSpace(v.Definition))
	}
	d.makeTriggers(triggers)
	d.expect(drop)
	d.frame(off)
}

// mayReceive are the tables into which decisions may carry values: their triggers
// must not fire then.
func (d *sqlite) mayReceive(pairs []*migration.Pair) []string {
	loses := func(p *migration.Pair) bool {
		return slices.ContainsFunc(p.Dropped, func(c *catalog.Column) bool { return c.Generated == "" })
	}
	var list []string
	for _, p := range pairs {
		if len(p.Added) > 0 && slices.ContainsFunc(pairs, loses) {
			list = append(list, d.OldName(p.Now.Name))
		}
	}
	return list
}

// hide notes the tables that steps name, for the statements after a rollback.
func (d *sqlite) hide(pairs []*migration.Pair, rebuilt map[string]bool) {
	for _, t := range d.Gone() {
		d.hidden = append(d.hidden, t.Name)
	}
	for _, r := range d.Renames {
		if r.Thing == catalog.RenamedTable {
			d.hidden = append(d.hidden, r.From)
		}
	}
	for _, p := range pairs {
		changes := rebuilt[p.Now.Name] || len(p.Added)+len(p.Dropped)+len(p.AddUniques)+len(p.DropUniques)+len(p.AddIndexes)+len(p.DropIndexes)+len(d.RenamedIn(p.Now)) > 0
		if old := d.OldName(p.Now.Name); changes && !slices.Contains(d.hidden, old) {
			d.hidden = append(d.hidden, old)
		}
	}
}

// frame puts the transaction around the script, and the temporary tables that
// guard it.
func (d *sqlite) frame(off bool) {
	s := &d.Script.Session
	if off {
		s.Begin = append(s.Begin, "PRAGMA foreign_keys = OFF")
		d.Note("foreign_keys is off while the script runs, for dropping a table would drop rows that refer to it, and on afterwards; every reference is checked")
	}
	for _, name := range d.hidden {
		s.Begin = append(s.Begin, fmt.Sprintf("CREATE TEMP TABLE %s (hidden)", d.Name(name)))
	}
	s.Begin = append(s.Begin, "BEGIN IMMEDIATE")
	for _, name := range d.hidden {
		s.Begin = append(s.Begin, "DROP TABLE temp."+d.Name(name))
	}
	if off {
		s.Begin = append(s.Begin, "PRAGMA legacy_alter_table = OFF")
	}
	open := off || len(d.Script.Open()) > 0
	checks := d.Script.AllChecks()
	var messages []string
	for i, c := range checks {
		messages = append(messages, fmt.Sprintf("CONSTRAINT %s CHECK (n <> %d OR faults = 0)", d.SQL.Quoted(liteMessage(c)), i+1))
	}
	for i, m := range d.marks {
		messages = append(messages, fmt.Sprintf("CONSTRAINT %s CHECK (n <> %d OR faults = 0)", d.SQL.Quoted(m), markBase+i))
	}
	total := len(checks) + len(d.marks)
	messages = append(messages, fmt.Sprintf("CONSTRAINT %s CHECK (n <> 0 OR faults = 0)", d.SQL.Quoted("nothing was changed, since a check or a step failed or a decision is open")))
	s.Begin = append(s.Begin,
		fmt.Sprintf("CREATE TEMP TABLE widegate_check (n INTEGER PRIMARY KEY, faults INTEGER NOT NULL,\n    %s)", strings.Join(messages, ",\n    ")))
	if open {
		s.Begin = append(s.Begin, "CREATE TEMP TABLE widegate_open (place INTEGER)")
	}
	if off {
		s.Begin = append(s.Begin, "INSERT INTO widegate_open SELECT 0 FROM pragma_foreign_keys WHERE foreign_keys = 1")
	}
	gate := fmt.Sprintf("INSERT OR ROLLBACK INTO widegate_check\n    SELECT 0, %d - (SELECT count(*) FROM widegate_check)", total)
	if open {
		gate += " + (SELECT count(*) FROM widegate_open)"
	}
	for _, e := range d.expected {
		gate += "\n        + (NOT (" + e + "))"
	}
	s.End = append(migration.Given(d.last), gate, "DROP TABLE temp.widegate_check")
	if open {
		s.End = append(s.End, "DROP TABLE temp.widegate_open")
	}
	s.End = append(s.End, "COMMIT")
	if off {
		s.End = append(s.End, "PRAGMA foreign_keys = ON")
	}
}

// markBase is the number of the first mark of a step; the checks have those below.
const markBase = 100_000

func liteMessage(c migration.Check) string {
	text := c.Message()
	if c.List != "" {
		text += "; they are listed by " + migration.OneLine(c.List)
	}
	return strings.NewReplacer(";", ",", "\n", " ", "\r", " ").Replace(text)
}

// liteDialect is how SQLite tests and stops.
func (Engine) Guard(string) []string { return nil }

func (Engine) Stop(decide string) string {
	var n int
	fmt.Sscanf(decide, "DECIDE %d", &n)
	return fmt.Sprintf("INSERT INTO widegate_open VALUES (%d); %s", n, decide)
}

func (Engine) Check(n int, c migration.Check) []string {
	return []string{
		fmt.Sprintf("SELECT %s || n || ' found)' FROM (SELECT (%s) AS n) WHERE n > 0", dialect.SQLite.Literal(strings.ReplaceAll(c.Message(), ";", ",")+" ("), c.Count),
		fmt.Sprintf("INSERT INTO widegate_check SELECT %d, (%s)", n, c.Count),
	}
}

// mark adds a step that leaves a mark where a query finds no fault.
func (d *sqlite) mark(message, faults string) string {
	d.marks = append(d.marks, strings.ReplaceAll(message, ";", ","))
	return fmt.Sprintf("INSERT INTO widegate_check SELECT %d, %s", markBase+len(d.marks)-1, faults)
}

// holds marks what must be true when a decision was carried out.
func (d *sqlite) decided(x *migration.Decision) {
	if x.Taken < 0 || x.Proposals[x.Taken].Holds == "" {
		return
	}
	p := &x.Proposals[x.Taken]
	at := len(p.SQL)
	if at > 0 && strings.Contains(" "+strings.ToUpper(p.SQL[at-1]), " DROP ") || at > 0 && strings.HasPrefix(p.SQL[at-1], "DELETE ") {
		at-- // before what is then dropped
	}
	p.SQL = slices.Insert(slices.Clone(p.SQL), at, d.mark(fmt.Sprintf("decision %d was not carried out", x.Number), "NOT ("+p.Holds+")"))
}

// expect says what the schema must have at the end, so that a statement that
// failed is noticed.
func (d *sqlite) expect(droppedViews []*catalog.Table) {
	there := func(kind string, names []string) {
		if len(names) > 0 {
			d.expected = append(d.expected, fmt.Sprintf("(SELECT count(*) FROM sqlite_schema WHERE type = '%s' AND name IN (%s)) = %d", kind, d.Literals(names), len(names)))
		}
	}
	var tables, views, indexes, triggers, gone []string
	for i := range d.After.Tables {
		t := &d.After.Tables[i]
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
		p := d.PairOf(t)
		changed := p != nil && slices.Contains(d.hidden, d.OldName(t.Name)) || p == nil && !t.IsView()
		if changed && !slices.Contains(t.Options, "virtual") {
			d.expected = append(d.expected, fmt.Sprintf("(SELECT group_concat(name, ' ') FROM (SELECT name FROM pragma_table_xinfo(%s) WHERE hidden <> 1 ORDER BY name)) = %s", d.SQL.Literal(t.Name), d.SQL.Literal(sortedNames(t))))
		}
	}
	for _, t := range d.Gone() {
		if _, again := d.After.Table("", t.Name); !again {
			gone = append(gone, t.Name)
		}
	}
	for _, v := range droppedViews {
		if _, again := d.After.Table("", v.Name); !again {
			gone = append(gone, v.Name)
		}
	}
	there("table", tables)
	there("view", views)
	there("index", indexes)
	there("trigger", triggers)
	if len(gone) > 0 {
		d.expected = append(d.expected, fmt.Sprintf("(SELECT count(*) FROM sqlite_schema WHERE name IN (%s)) = 0", d.Literals(gone)))
	}
	if len(d.hidden) > 0 {
		d.last = d.mark("a row refers to nothing, see PRAGMA foreign_key_check", d.orphans())
	}
}

// orphans counts the rows whose references lead nowhere in the tables that have
// changed, or refer to one of them: what was wrong elsewhere before stays so.
func (d *sqlite) orphans() string {
	var names []string
	for i := range d.After.Tables {
		t := &d.After.Tables[i]
		near := func(name string) bool { return slices.Contains(d.hidden, d.OldName(name)) }
		fresh := !t.IsView() && d.PairOf(t) == nil
		if !t.IsView() && (near(t.Name) || fresh || slices.ContainsFunc(t.References, func(r catalog.Reference) bool { return near(r.Table) })) {
			names = append(names, t.Name)
		}
	}
	if len(names) == 0 {
		return "0"
	}
	return fmt.Sprintf("(SELECT count(*) FROM pragma_foreign_key_check WHERE \"table\" IN (%s))", d.Literals(names))
}

// orphanChecks find the references that lead nowhere before anything changes, so
// that they are named and no rebuild is blamed for them.
func (d *sqlite) orphanChecks(p *migration.Pair) {
	f := d.Former(p)
	for _, r := range p.Old.References {
		stays := slices.ContainsFunc(p.Now.References, func(x catalog.Reference) bool { return slices.Equal(x.Columns, r.Columns) && x.Table == r.Table })
		if stays {
			d.Check(f.Reference(r)...)
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
	for _, t := range d.Gone() {
		for _, name := range migration.IndexNames(t) {
			taken := slices.ContainsFunc(d.After.Tables, func(x catalog.Table) bool { return x.Name != t.Name && slices.Contains(migration.IndexNames(&x), name) })
			if name != "" && taken {
				d.Step("DROP INDEX " + d.Name(name))
			}
		}
	}
	for _, p := range d.All {
		d.dropIndexes(p)
	}
}

// dropTriggers drops those that are gone or read differently, and those that
// have to do with a table that is made again. It returns the names of the ones
// that stay as they are.
func (d *sqlite) dropTriggers(touched []string) map[string]bool {
	stay := map[string]bool{}
	for _, t := range d.Before.Tables {
		now, ok := d.After.Table("", d.newName(t.Name))
		for _, trigger := range t.Triggers {
			same := ok && slices.ContainsFunc(now.Triggers, func(x catalog.Trigger) bool {
				return x.Name == trigger.Name && catalog.SameText(x.Definition, trigger.Definition)
			})
			same = same && !slices.ContainsFunc(touched, func(name string) bool { return migration.Mentions(trigger.Definition, name) })
			if same {
				stay[trigger.Name] = true
			} else {
				d.Step("DROP TRIGGER " + d.Name(trigger.Name))
			}
		}
	}
	return stay
}

func (d *sqlite) newName(old string) string {
	for _, r := range d.Renames {
		if r.Thing == catalog.RenamedTable && r.From == old {
			return r.To
		}
	}
	return old
}

func (d *sqlite) makeTriggers(stay map[string]bool) {
	for _, t := range d.After.Tables {
		for _, trigger := range t.Triggers {
			if !stay[trigger.Name] {
				d.Step(trigger.Definition)
			}
		}
	}
}

func (d *sqlite) rename() {
	for _, r := range d.Renames {
		if r.Thing == catalog.RenamedTable {
			if t, ok := d.After.Table("", r.To); ok && !t.IsView() {
				from := r.From
				if strings.EqualFold(r.From, r.To) { // which the engine takes for the same
					from = d.FreeName("", r.To+"_renamed")
					d.Step(fmt.Sprintf("ALTER TABLE %s RENAME TO %s", d.Name(r.From), d.Name(from)))
				}
				d.Step(fmt.Sprintf("ALTER TABLE %s RENAME TO %s", d.Name(from), d.Name(r.To)))
			}
		}
	}
	for _, r := range d.Renames {
		if r.Thing == catalog.RenamedColumn {
			d.Step(fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s", d.Name(r.In), d.Name(r.From), d.Name(r.To)))
		}
	}
}

// needsRebuild reports whether a table cannot be changed in place.
func (d *sqlite) needsRebuild(p *migration.Pair) bool {
	constraint := func(k catalog.Key) bool { return !k.Index }
	switch {
	case p.KeyChanged, len(p.Altered) > 0, len(p.DropReferences) > 0, len(p.DropChecks) > 0, len(p.AddChecks) > 0, !slices.Equal(p.Old.Options, p.Now.Options),
		slices.ContainsFunc(p.DropUniques, constraint), slices.ContainsFunc(p.AddUniques, constraint):
		return true
	}
	for _, c := range p.Added {
		if !d.canAdd(p, c) {
			return true
		}
	}
	for _, r := range p.AddReferences {
		own := len(r.Columns) == 1 && p.IsAdded(r.Columns[0]) && migration.Mentions(d.fragment(p.Now, r.Columns[0]), "REFERENCES")
		if !own { // one that stands behind the columns does not come with its column
			return true
		}
	}
	return slices.ContainsFunc(p.Dropped, func(c *catalog.Column) bool { return !d.canDrop(p, c) })
}

// canAdd reports whether a column can be added in place: without a key, and with
// the same value in all rows.
func (d *sqlite) canAdd(p *migration.Pair, c *catalog.Column) bool {
	refers := slices.ContainsFunc(p.Now.References, func(r catalog.Reference) bool { return slices.Contains(r.Columns, c.Name) })
	constant := c.Default == nil || c.Default.Kind == catalog.Constant
	return d.fragment(p.Now, c.Name) != "" && !migration.Mandatory(c) && constant && c.Generated == "" && !(refers && c.Default != nil) && (c.Nullable || c.Default != nil) &&
		!slices.Contains(migration.KeyColumns(p.Now), c.Name) && !slices.ContainsFunc(p.Now.Uniques, func(k catalog.Key) bool { return !k.Index && slices.Contains(k.Columns, c.Name) })
}

// canDrop reports whether nothing else in the table has to do with a column.
func (d *sqlite) canDrop(p *migration.Pair, c *catalog.Column) bool {
	in := func(columns []string) bool { return slices.Contains(columns, c.Name) }
	return !in(migration.KeyColumns(p.Old)) && !slices.ContainsFunc(p.Old.Uniques, func(k catalog.Key) bool { return in(k.Columns) }) &&
		!slices.ContainsFunc(p.Old.References, func(r catalog.Reference) bool { return in(r.Columns) }) &&
		!slices.ContainsFunc(p.Old.Checks, func(x catalog.Check) bool { return migration.Mentions(x.Expr, c.Name) }) &&
		!slices.ContainsFunc(p.Old.Columns, func(x catalog.Column) bool { return migration.Mentions(x.Generated, c.Name) }) &&
		!slices.ContainsFunc(p.Old.Indexes, func(x catalog.Index) bool {
			return in(x.Columns) || migration.Mentions(x.Where, c.Name) || migration.Mentions(x.Definition, c.Name)
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
	for i, t := range sqltext.Scan(text, dialect.SQLite) {
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
	tokens := sqltext.Scan(definition, dialect.SQLite)
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
func (d *sqlite) change(p *migration.Pair) {
	for _, c := range p.Added {
		d.Step(fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", d.Name(p.Now.Name), d.fragment(p.Now, c.Name)))
	}
	d.DecideSplit(p)
	for _, c := range p.Dropped {
		drop := fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", d.Name(p.Now.Name), d.Name(c.Name))
		if c.Generated != "" {
			d.Step(drop)
		} else {
			d.DecideLost(p, c, drop)
		}
	}
	for _, k := range p.AddUniques {
		d.Step(d.keyIndex(p.Now, k))
	}
	for _, in := range p.AddIndexes {
		d.Step(d.index(p.Now, in))
	}
}

func (d *sqlite) dropIndexes(p *migration.Pair) {
	for _, k := range p.DropUniques {
		if k.Index {
			d.Step("DROP INDEX " + d.Name(k.Name))
		}
	}
	for _, in := range p.DropIndexes {
		d.Step("DROP INDEX " + d.Name(in.Name))
	}
}

func (d *sqlite) keyIndex(t *catalog.Table, k catalog.Key) string {
	if k.Definition != "" {
		return k.Definition
	}
	return fmt.Sprintf("CREATE UNIQUE INDEX %s ON %s (%s)", d.Name(k.Name), d.Name(t.Name), d.Names(k.Columns))
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
	return fmt.Sprintf("CREATE %sINDEX %s ON %s (%s)%s", unique, d.Name(in.Name), d.Name(t.Name), d.Names(in.Columns), where)
}

var createHead = regexp.MustCompile("(?is)^\\s*CREATE\\s+TABLE\\s+(?:IF\\s+NOT\\s+EXISTS\\s+)?(?:\"(?:[^\"]|\"\")*\"|\\[[^\\]]*\\]|`[^`]*`|'(?:[^']|'')*'|[^\\s(]+)")

// tableText is the statement that makes a table, under another name.
func (d *sqlite) tableText(t *catalog.Table, name string) string {
	if at := createHead.FindStringIndex(t.Definition); at != nil {
		return "CREATE TABLE " + d.Name(name) + t.Definition[at[1]:]
	}
	return d.tableFromFacts(t, name)
}

// tableFromFacts makes the statement where the text is not known.
func (d *sqlite) tableFromFacts(t *catalog.Table, name string) string {
	var parts []string
	single := t.PrimaryKey != nil && len(t.PrimaryKey.Columns) == 1
	for i := range t.Columns {
		c := &t.Columns[i]
		text := strings.TrimSpace(d.Name(c.Name) + " " + c.Declared)
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
			text += " DEFAULT " + d.DefaultText(c)
		}
		for _, r := range t.References {
			if r.Name == "" && slices.Equal(r.Columns, []string{c.Name}) {
				text += strings.TrimPrefix(d.ReferenceText(r), "FOREIGN KEY ("+d.Name(c.Name)+")")
			}
		}
		parts = append(parts, text)
	}
	named := func(name, text string) string {
		if name == "" {
			return text
		}
		return "CONSTRAINT " + d.Name(name) + " " + text
	}
	if t.PrimaryKey != nil && !single {
		parts = append(parts, named(t.PrimaryKey.Name, fmt.Sprintf("PRIMARY KEY (%s)", d.Names(t.PrimaryKey.Columns))))
	}
	for _, k := range t.Uniques {
		if !k.Index {
			parts = append(parts, named(k.Name, fmt.Sprintf("UNIQUE (%s)", d.Names(k.Columns))))
		}
	}
	for _, c := range t.Checks {
		parts = append(parts, named(c.Name, fmt.Sprintf("CHECK (%s)", c.Expr)))
	}
	for _, r := range t.References {
		if r.Name != "" || len(r.Columns) > 1 {
			parts = append(parts, named(r.Name, d.ReferenceText(r)))
		}
	}
	return fmt.Sprintf("CREATE TABLE %s (\n    %s\n)%s", d.Name(name), strings.Join(parts, ",\n    "), tableOptions(t))
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
		d.Step(t.Definition)
		return
	}
	d.Step(d.tableText(t, t.Name))
	d.makeIndexes(t)
}

func (d *sqlite) makeIndexes(t *catalog.Table) {
	for _, k := range t.Uniques {
		if k.Index {
			d.Step(d.keyIndex(t, k))
		}
	}
	for _, in := range t.Indexes {
		d.Step(d.index(t, in))
	}
}

// rebuild has a new table take the rows over. The old one has another name while
// it is there, so that no statement that drops it can meet the new one, or the
// old one after a rollback.
func (d *sqlite) rebuild(p *migration.Pair) {
	table := d.Name(p.Now.Name)
	d.orphanChecks(p)
	_, into := p.Split()
	filled := map[string]bool{}
	for _, c := range p.Added {
		text := fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s", table, d.Name(c.Name), c.Declared)
		switch {
		case c.Generated != "":
		case slices.Contains(into, c):
			d.Step(text)
			filled[c.Name] = true
		case migration.Mandatory(c):
			d.Step(text)
			filled[c.Name] = true
			d.DecideNew(p, c, func(value string) []string {
				return []string{fmt.Sprintf("UPDATE %s SET %s = %s", table, d.Name(c.Name), value)}
			}, nil)
		case d.receives(p, c):
			d.Step(strings.TrimSpace(text + d.defaultClause(c)))
			filled[c.Name] = true
		}
	}
	d.DecideSplit(p)
	d.DecideNulls(p)
	for _, a := range p.Altered {
		d.decideType(p, a)
	}
	d.checkStrict(p)
	for _, c := range p.Dropped {
		if c.Generated == "" {
			d.DecideLost(p, c, "")
		}
	}
	var columns []string
	for i := range p.Now.Columns {
		c := &p.Now.Columns[i]
		was, there := p.Old.Column(c.Name)
		if c.Generated == "" && (there || filled[c.Name]) {
			columns = append(columns, c.Name)
		}
		if there && c.Generated != "" && was.Generated == "" {
			d.DecideLost(p, was, "")
		}
	}
	fresh, before := d.FreeName("", p.Now.Name+"_new"), d.FreeName("", p.Now.Name+"_before")
	for _, name := range []string{fresh, before} {
		d.Check(d.Free(d.Name(name))...)
	}
	note := ""
	if migration.Big(p.Old.Rows) {
		note = "All rows are copied, while nobody else can write."
	}
	statements := []string{d.tableText(p.Now, fresh)}
	if len(columns) > 0 {
		statements = append(statements, fmt.Sprintf("INSERT INTO %s (%s) SELECT %[2]s FROM %s", d.Name(fresh), d.Names(columns), table))
	}
	statements = append(statements, d.mark("not all rows of "+p.Now.Name+" could be copied", fmt.Sprintf("(SELECT count(*) FROM %s) - (SELECT count(*) FROM %s)", table, d.Name(fresh))))
	if migration.Mentions(p.Now.Definition, "AUTOINCREMENT") && migration.Mentions(p.Old.Definition, "AUTOINCREMENT") {
		statements = append(statements, fmt.Sprintf("DELETE FROM sqlite_sequence WHERE name = %s", d.SQL.Literal(fresh)),
			fmt.Sprintf("INSERT INTO sqlite_sequence (name, seq) SELECT %s, seq FROM sqlite_sequence WHERE name = %s", d.SQL.Literal(fresh), d.SQL.Literal(p.Now.Name)))
	}
	statements = append(statements,
		"PRAGMA legacy_alter_table = ON", // references to it stay as they are
		fmt.Sprintf("ALTER TABLE %s RENAME TO %s", table, d.Name(before)),
		fmt.Sprintf("ALTER TABLE %s RENAME TO %s", d.Name(fresh), table),
		"PRAGMA legacy_alter_table = OFF",
		"DROP TABLE "+d.Name(before))
	d.Noted(note, statements...)
	d.makeIndexes(p.Now)
}

// receives reports whether values of another table may go into a new column.
func (d *sqlite) receives(p *migration.Pair, c *catalog.Column) bool {
	for _, r := range d.Possible {
		if r.Thing == catalog.RenamedColumn && r.In == p.Now.FullName() && r.To == c.Name {
			return true
		}
	}
	return slices.ContainsFunc(d.All, func(q *migration.Pair) bool {
		return q != p && slices.ContainsFunc(q.Dropped, func(x *catalog.Column) bool { return x.Name == c.Name && x.Type.Kind == c.Type.Kind })
	})
}

func (d *sqlite) defaultClause(c *catalog.Column) string {
	if c.Default == nil || c.Default.Kind != catalog.Constant {
		return ""
	}
	return " DEFAULT " + d.DefaultText(c)
}

// checkStrict checks the columns that stay as they are where a table becomes
// strict.
func (d *sqlite) checkStrict(p *migration.Pair) {
	if !slices.Contains(p.Now.Options, "strict") || slices.Contains(p.Old.Options, "strict") {
		return
	}
	f := d.Former(p)
	for i := range p.Now.Columns {
		c := &p.Now.Columns[i]
		_, there := p.Old.Column(c.Name)
		if condition := strictly(c.Declared, f.Column(c.Name)); there && c.Generated == "" && condition != "" {
			d.Check(f.Where(c.Name, []string{c.Name}, "values are not of the type "+c.Declared, condition, "change them"))
		}
	}
}

// decideType asks where a value may become another one. A column of an ordinary
// table takes any value, but converts what looks like one of its type.
func (d *sqlite) decideType(p *migration.Pair, a migration.Alteration) {
	if a.Was.Generated != "" || a.Now.Generated != "" || !a.Retyped() {
		return
	}
	f := d.Former(p)
	strict := slices.Contains(p.Now.Options, "strict")
	c := liteConversion(d.Writing, a, f.Column(a.Now.Name), strict)
	if c.Harmless() {
		return
	}
	if affinity(a.Was.Declared) == "INTEGER" && affinity(a.Now.Declared) == "TEXT" && !strict { // other values are rare there
		d.Check(f.Where(a.Now.Name, []string{a.Now.Name}, "values would not be the same as texts", c.Condition, "change them"))
		return
	}
	d.Decision(fmt.Sprintf("%s of %s becomes %s, was %s. What becomes of values that are none?", a.Now.Name, p.Now.FullName(), a.Now.Declared, a.Was.Declared),
		migration.Proposal{Title: "the script stops where one would not be the same afterwards",
			Checks: []migration.Check{f.Where(a.Now.Name, []string{a.Now.Name}, "values do not fit into "+a.Now.Declared+", or would not be the same", c.Condition, "change them, or take another proposal")}},
		migration.Proposal{Title: "they stay as they are, or are converted where the engine can"})
}

// columnText is a column with the reference and the check that belong to it.
func (d *sqlite) columnText(t *catalog.Table, c *catalog.Column) string {
	text := d.Name(c.Name) + " " + c.Declared
	if !c.Nullable {
		text += " NOT NULL"
	}
	if c.Default != nil {
		text += " DEFAULT " + d.DefaultText(c)
	}
	for _, check := range t.Checks {
		if strings.HasPrefix(check.Expr, d.Name(c.Name)+" IN ") {
			text += " CHECK (" + check.Expr + ")"
		}
	}
	for _, r := range t.References {
		if slices.Equal(r.Columns, []string{c.Name}) {
			text += strings.TrimPrefix(d.ReferenceText(r), "FOREIGN KEY ("+d.Name(c.Name)+")")
		}
	}
	return text
}
