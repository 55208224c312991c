package migration

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// zero is a value of a type that stands for nothing in particular, as SQL.
func (d *draft) zero(c *catalog.Column) string {
	switch c.Type.Kind {
	case catalog.Int, catalog.Float, catalog.Decimal, catalog.Money:
		return "0"
	case catalog.Bool:
		if d.engine == catalog.Postgres {
			return "false"
		}
		return "0"
	case catalog.Date:
		return "CURRENT_DATE"
	case catalog.Time:
		return "'00:00:00'"
	case catalog.Timestamp, catalog.TimestampTZ:
		return "CURRENT_TIMESTAMP"
	case catalog.UUID:
		if d.engine == catalog.Postgres {
			return "gen_random_uuid()"
		}
		return "'00000000-0000-0000-0000-000000000000'"
	case catalog.JSON:
		return "'{}'"
	case catalog.Interval:
		return "'0'"
	case catalog.Array:
		return "'{}'"
	case catalog.Range:
		return "'empty'"
	case catalog.EnumKind:
		labels := c.Type.Labels
		if e, ok := d.after.Enum(c.Type.Enum); ok {
			labels = e.Labels
		}
		if len(labels) > 0 {
			return literal(d.engine, labels[0])
		}
	}
	return "''"
}

// fill is what a new mandatory column may get: the default, a row that it refers
// to, or a value of its type.
func (d *draft) fill(t *catalog.Table, c *catalog.Column) string {
	for _, r := range t.References {
		if len(r.Columns) == 1 && r.Columns[0] == c.Name && len(r.Target) == 1 {
			return fmt.Sprintf("(SELECT min(%s) FROM %s)", d.name(r.Target[0]), d.table(r.Schema, r.Table))
		}
	}
	if c.Default != nil && c.Default.Kind != catalog.Identity {
		return d.defaultText(c)
	}
	return d.zero(c)
}

// defaultText is a default as a statement takes it.
func (d *draft) defaultText(c *catalog.Column) string {
	def := c.Default
	if def.Kind == catalog.Expression {
		if d.engine != catalog.Postgres && strings.ContainsAny(def.Text, " +-*/|") && !strings.HasPrefix(def.Text, "(") && !strings.HasPrefix(strings.ToLower(def.Text), "current_timestamp") {
			return "(" + def.Text + ")"
		}
		return def.Text
	}
	switch c.Type.Kind {
	case catalog.Int, catalog.Float, catalog.Decimal:
		return def.Text
	case catalog.Bool:
		switch {
		case d.engine == catalog.Postgres:
			return def.Text
		case strings.HasPrefix(def.Text, "b'"):
			return def.Text
		case def.Text == "true":
			return "1"
		case def.Text == "false":
			return "0"
		}
	case catalog.Bytes:
		if strings.HasPrefix(def.Text, "x'") || strings.HasPrefix(def.Text, "b'") {
			return def.Text
		}
	}
	return literal(d.engine, def.Text)
}

// split is a text column that is gone while two or more have come: its words may
// belong into them.
func (p *pair) split() (from *catalog.Column, into []*catalog.Column) {
	for _, c := range p.dropped {
		if c.Type.Kind == catalog.Text && c.Generated == "" {
			from = c
		}
	}
	for _, c := range p.added {
		if c.Type.Kind == catalog.Text && c.Generated == "" {
			into = append(into, c)
		}
	}
	if from == nil || len(into) != 2 {
		return nil, nil
	}
	return from, into
}

// words are the text before the first space of a column, and behind it.
func (d *draft) words(column string) (head, tail string) {
	switch d.engine {
	case catalog.Postgres:
		return fmt.Sprintf("split_part(%s, ' ', 1)", column), fmt.Sprintf("ltrim(substr(%s, length(split_part(%[1]s, ' ', 1)) + 1))", column)
	case catalog.MySQL:
		return fmt.Sprintf("substring_index(%s, ' ', 1)", column), fmt.Sprintf("ltrim(substr(%s, char_length(substring_index(%[1]s, ' ', 1)) + 1))", column)
	}
	return fmt.Sprintf("substr(%s || ' ', 1, instr(%[1]s || ' ', ' ') - 1)", column), fmt.Sprintf("ltrim(substr(%s, instr(%[1]s || ' ', ' ')))", column)
}

// update is a statement that sets values in rows that are there, with what keeps
// it from being noticed: triggers do not fire, and what is set when a row changes
// is not set.
func (d *draft) update(p *pair, sets, where string) []string {
	table := d.tableOf(p.now)
	if d.engine == catalog.MySQL {
		for _, c := range p.now.Columns {
			if was, ok := p.old.Column(c.Name); ok && was.OnUpdate != "" {
				sets += fmt.Sprintf(", %s = %[1]s", d.name(c.Name))
			}
		}
		p.quiet = true // its triggers go first, and come back at the end
	}
	text := fmt.Sprintf("UPDATE %s SET %s", table, sets)
	if where != "" {
		text += " WHERE " + where
	}
	if d.engine != catalog.Postgres {
		return []string{text}
	}
	var off, on []string
	for _, t := range p.old.Triggers {
		if p.undone[t.Name] || slices.ContainsFunc(p.old.Extras, func(e catalog.Extra) bool { return e.Kind == "trigger state" && e.Name == t.Name }) {
			continue
		}
		off = append(off, fmt.Sprintf("ALTER TABLE %s DISABLE TRIGGER %s", table, d.name(t.Name)))
		on = append(on, fmt.Sprintf("ALTER TABLE %s ENABLE TRIGGER %s", table, d.name(t.Name)))
	}
	return slices.Concat(off, []string{text}, on)
}

// decideSplit asks whether the words of a text that is gone go into two new
// columns. These are there by then, and may be null yet.
func (d *draft) decideSplit(p *pair) {
	from, into := p.split()
	if from == nil {
		return
	}
	head, tail := d.words(d.name(from.Name))
	set := func(values ...string) []string {
		return d.onlyWith(p.now, []string{from.Name}, d.update(p, fmt.Sprintf("%s = %s, %s = %s", d.name(into[0].Name), values[0], d.name(into[1].Name), values[1]), ""))
	}
	d.decision(fmt.Sprintf("%s of %s is gone, and %s and %s are new. Do its words go into them?", from.Name, p.now.FullName(), into[0].Name, into[1].Name),
		Proposal{Title: fmt.Sprintf("the first word of %s goes into %s, the rest into %s", from.Name, into[0].Name, into[1].Name),
			SQL: set("coalesce("+head+", '')", "coalesce("+tail+", '')")},
		Proposal{Title: fmt.Sprintf("all of it goes into %s, and %s stays empty", into[0].Name, into[1].Name), SQL: set("coalesce("+d.name(from.Name)+", '')", "''")})
}

// decideNew asks for the value of a new column that must have one. add makes the
// column with a value in all rows, addNow for an empty table.
func (d *draft) decideNew(p *pair, c *catalog.Column, add func(value string) []string, addNow []string) {
	f := d.former(p)
	value := d.fill(p.now, c)
	same := Proposal{Title: "the same value in all", SQL: add(value)}
	if r, ok := d.filledBy(p.now, c); ok {
		same.Title = "all refer to the first row of " + catalog.Qualify(r.Schema, r.Table)
		if target, there := d.at.Table(r.Schema, r.Table); there {
			schema, name := catalog.Split(d.oldName(target.FullName()))
			from := fmt.Sprintf(" FROM %s WHERE NOT EXISTS (SELECT 1 FROM %s)", f.table(), d.table(schema, name))
			same.checks = []Check{{Place: f.place(""), Fault: "rows have nothing to refer to, since " + target.FullName() + " is empty", Count: "SELECT count(*)" + from, List: "SELECT *" + from, schema: f.schema, table: f.name}}
		}
	}
	d.decision(fmt.Sprintf("%s of %s is new, must have a value and has no default. What do the rows get that are there?", c.Name, p.now.FullName()),
		same,
		Proposal{Title: "the table is empty, and the script stops if it is not", SQL: addNow,
			checks: []Check{f.where("", nil, "rows are there, and "+c.Name+" has no value for them", "1 = 1", "give the column a value or a default")}})
}

// filledBy is the reference whose target gives a new column its value.
func (d *draft) filledBy(t *catalog.Table, c *catalog.Column) (catalog.Reference, bool) {
	for _, r := range t.References {
		if len(r.Columns) == 1 && r.Columns[0] == c.Name && len(r.Target) == 1 {
			return r, true
		}
	}
	return catalog.Reference{}, false
}

// mandatory reports whether rows that are there have nothing for a new column.
func mandatory(c *catalog.Column) bool { return !c.Nullable && c.Default == nil && c.Generated == "" }

// decideNulls asks for the values of columns that must have one from now on.
func (d *draft) decideNulls(p *pair) {
	table := d.tableOf(p.now)
	f := d.former(p)
	for _, a := range p.altered {
		if !a.was.Nullable || a.now.Nullable || a.now.Generated != "" || a.was.Generated != "" {
			continue
		}
		column := d.name(a.now.Name)
		missing := column + " IS NULL"
		kept := d.table(p.now.Schema, d.freeName(p.now.Schema, p.now.Name+"_without_"+a.now.Name))
		d.decision(fmt.Sprintf("%s of %s must have a value now. What becomes of the rows without one?", a.now.Name, p.now.FullName()),
			Proposal{Title: "the script stops if there is one", checks: []Check{f.notNull(a.now.Name)}},
			Proposal{Title: "they get a value", SQL: d.update(p, fmt.Sprintf("%s = %s", column, d.fillAs(p.now, a)), missing)},
			Proposal{Title: "they are deleted", SQL: []string{fmt.Sprintf("DELETE FROM %s WHERE %s", table, missing)}},
			Proposal{Title: "they are moved into a table of their own", SQL: []string{d.createAs(kept, fmt.Sprintf("SELECT * FROM %s WHERE %s", table, missing)), fmt.Sprintf("DELETE FROM %s WHERE %s", table, missing)},
				checks: d.free(kept), holds: fmt.Sprintf("(SELECT count(*) FROM %s) >= 0", kept)})
	}
}

// fillAs is a value of the type that a column still has.
func (d *draft) fillAs(t *catalog.Table, a alteration) string {
	if a.retyped() && d.engine == catalog.Postgres && a.was.Type.Kind != a.now.Type.Kind {
		if _, ok := d.filledBy(t, a.now); !ok {
			return d.zero(a.was)
		}
	}
	return d.fill(t, a.now)
}

// createAs makes a table of what a query gives.
func (d *draft) createAs(table, query string) string {
	if d.engine == catalog.MySQL {
		return fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s COMMENT = '%s' AS %s", table, keptComment, query)
	}
	return fmt.Sprintf("CREATE TABLE %s AS %s", table, query)
}

// keptComment marks what a script has put aside, so that running it again knows
// its own table.
const keptComment = "put aside by a migration"

// free checks that a name is not taken, where the engine would not stop by
// itself.
func (d *draft) free(table string) []Check {
	schema, name := d.bareNames(table)
	switch d.engine {
	case catalog.SQLite:
		from := fmt.Sprintf(" FROM sqlite_schema WHERE lower(name) = lower(%s)", literal(d.engine, name))
		return []Check{{Place: name, Fault: "something of this name is there, and the script needs the name", Count: "SELECT count(*)" + from, List: "SELECT *" + from, Help: "give it another name"}}
	case catalog.MySQL:
		from := fmt.Sprintf(" FROM information_schema.tables WHERE table_schema = %s AND table_name = %s AND table_comment <> %s", d.schemaText(schema), literal(d.engine, name), literal(d.engine, keptComment))
		return []Check{{Place: name, Fault: "something of this name is there, and the script needs the name", Count: "SELECT count(*)" + from, List: "SELECT *" + from, Help: "give it another name"}}
	}
	return nil
}

func (d *draft) bareNames(table string) (schema, name string) {
	unquote := func(s string) string { return strings.Trim(s, "`\"") }
	if i := strings.LastIndex(table, "."); i >= 0 {
		return unquote(table[:i]), unquote(table[i+1:])
	}
	return "", unquote(table)
}

func (d *draft) schemaText(schema string) string {
	if schema == "" {
		return "database()"
	}
	return literal(d.engine, schema)
}

// onlyWith keeps MySQL from running statements again whose columns are gone by
// then.
func (d *draft) onlyWith(t *catalog.Table, columns, statements []string) []string {
	if d.engine != catalog.MySQL {
		return statements
	}
	var list []string
	for _, s := range statements {
		list = append(list, onlyIf(d.present(t.Schema, t.Name, columns), s)...)
	}
	return list
}

// given leaves out statements that are none.
func given(statements ...string) []string {
	return slices.DeleteFunc(statements, func(s string) bool { return s == "" })
}

// decideLost asks before what rows hold is dropped. The proposals end in the
// statement that drops, if there is one.
func (d *draft) decideLost(p *pair, c *catalog.Column, drop string) {
	table := d.tableOf(p.now)
	kept := d.table(p.now.Schema, d.freeName(p.now.Schema, p.now.Name+"_"+c.Name+"_kept"))
	columns := []string{c.Name}
	if p.old.PrimaryKey != nil && !slices.Contains(p.old.PrimaryKey.Columns, c.Name) {
		columns = append(slices.Clone(p.old.PrimaryKey.Columns), c.Name)
	}
	if p.old.PrimaryKey != nil && slices.Contains(p.old.PrimaryKey.Columns, c.Name) {
		columns = slices.Clone(p.old.PrimaryKey.Columns)
	}
	proposals := slices.Concat(d.renamed(p, c, drop), d.carriers(p, c, drop), d.movers(p, c, drop))
	proposals = append(proposals,
		Proposal{Title: "drop it, its values are not needed", SQL: given(drop)},
		Proposal{Title: "keep its values in a table of their own",
			SQL:    append(d.onlyWith(p.now, columns, []string{d.createAs(kept, fmt.Sprintf("SELECT %s FROM %s", d.names(columns), table))}), given(drop)...),
			checks: d.free(kept), holds: fmt.Sprintf("(SELECT count(*) FROM %s) = (SELECT count(*) FROM %s)", kept, table)})
	d.decision(fmt.Sprintf("%s of %s is gone. What becomes of its values?", c.Name, p.now.FullName()), proposals...)
}

// renamed are the new columns of the table that may be the old one under another
// name: its values go there.
func (d *draft) renamed(p *pair, c *catalog.Column, drop string) []Proposal {
	var list []Proposal
	from, _ := p.split()
	for _, r := range d.possible {
		now, ok := p.now.Column(r.To)
		if r.Thing != catalog.RenamedColumn || r.In != p.now.FullName() || r.From != c.Name || !ok || !p.isAdded(r.To) || now.Generated != "" || from == c {
			continue
		}
		value := d.name(c.Name)
		if d.engine == catalog.Postgres && c.Declared != now.Declared {
			value = pgCast(c, now, value)
		}
		list = append(list, Proposal{Title: fmt.Sprintf("it is called %s now: its values go there (--renamed %s renames it instead)", r.To, r),
			SQL:    append(d.onlyWith(p.now, []string{c.Name}, d.update(p, fmt.Sprintf("%s = %s", d.name(r.To), value), d.name(c.Name)+" IS NOT NULL")), given(drop)...),
			checks: d.fits(p, c, now),
			holds:  fmt.Sprintf("NOT EXISTS (SELECT 1 FROM %s WHERE %s IS NOT NULL AND %s IS NULL)", d.tableOf(p.now), d.name(c.Name), d.name(r.To))})
	}
	return list
}

// fits checks that the values of a column can be those of another one.
func (d *draft) fits(p *pair, c, now *catalog.Column) []Check {
	f := d.former(p)
	column, a := f.column(c.Name), alteration{c, now}
	var conversion conversion
	switch d.engine {
	case catalog.Postgres:
		conversion = d.pgConversion(a, column)
	case catalog.MySQL:
		conversion = d.myConversion(a, column)
	default:
		conversion = d.liteConversion(a, column, slices.Contains(p.now.Options, "strict"))
	}
	if conversion.harmless() {
		return nil
	}
	if conversion.anchored || conversion.unknown {
		conversion.condition = column + " IS NOT NULL"
	}
	check := f.conversion(a, conversion)
	check.Place, check.columns = f.place(c.Name), []string{f.bare(c.Name)}
	return []Check{check}
}

// renamedTable are the new tables that may be the old one under another name.
func (d *draft) renamedTable(t *catalog.Table, drop string) []Proposal {
	var list []Proposal
	for _, r := range d.possible {
		if r.Thing != catalog.RenamedTable || r.From != d.oldName(t.FullName()) {
			continue
		}
		now, ok := d.after.Table(catalog.Split(r.To))
		if !ok {
			continue
		}
		var same []string
		complete := true
		for i := range now.Columns {
			c := &now.Columns[i]
			was, there := t.Column(c.Name)
			switch {
			case there && was.Declared == c.Declared && c.Generated == "":
				same = append(same, c.Name)
			case mandatory(c):
				complete = false
			}
		}
		if len(same) == 0 || !complete {
			continue
		}
		insert := fmt.Sprintf("INSERT INTO %s (%s) SELECT %[2]s FROM %s", d.tableOf(now), d.names(same), d.tableOf(t))
		sql := []string{insert, drop}
		if d.engine == catalog.MySQL {
			sql = append(onlyIf(d.present(t.Schema, t.Name, nil)+fmt.Sprintf(" AND NOT EXISTS (SELECT 1 FROM %s)", d.tableOf(now)), insert), drop)
		}
		list = append(list, Proposal{Title: fmt.Sprintf("it is called %s now: its rows go there, with the columns that both have (--renamed %s renames it instead)", now.FullName(), r), SQL: sql,
			holds: fmt.Sprintf("(SELECT count(*) FROM %s) >= (SELECT count(*) FROM %s)", d.tableOf(now), d.tableOf(t))})
	}
	return list
}

// carriers are the new tables that can take over what a column holds: a
// reference that has become a table of pairs, or a part of a table that stands
// by itself now.
func (d *draft) carriers(p *pair, c *catalog.Column, drop string) []Proposal {
	var list []Proposal
	if p.old.PrimaryKey == nil {
		return nil
	}
	for _, t := range d.fresh() {
		own := slices.IndexFunc(t.References, func(x catalog.Reference) bool {
			return x.Table == p.now.Name && x.Schema == p.now.Schema && slices.Equal(x.Target, p.old.PrimaryKey.Columns)
		})
		if own < 0 {
			continue
		}
		into, from := slices.Clone(t.References[own].Columns), slices.Clone(p.old.PrimaryKey.Columns)
		for _, r := range p.old.References {
			other := slices.IndexFunc(t.References, func(x catalog.Reference) bool {
				return x.Table == r.Table && x.Schema == r.Schema && len(x.Columns) == 1
			})
			if len(r.Columns) == 1 && r.Columns[0] == c.Name && other >= 0 && own != other && len(t.Columns) == len(into)+1 {
				list = append(list, d.carry(p, t, slices.Concat(into, t.References[other].Columns), append(slices.Clone(from), c.Name), []string{c.Name}, drop))
			}
		}
		list = append(list, d.carryParts(p, t, into, from, c, drop)...)
	}
	return list
}

// carryParts carries all the columns that a new table has taken over, once.
func (d *draft) carryParts(p *pair, t *catalog.Table, into, from []string, c *catalog.Column, drop string) []Proposal {
	var parts []string
	for _, x := range p.dropped {
		now, ok := t.Column(x.Name)
		if ok && x.Generated == "" && now.Generated == "" && now.Type.Kind == x.Type.Kind && !slices.Contains(into, x.Name) {
			parts = append(parts, x.Name)
		}
	}
	if len(parts) == 0 || !slices.Contains(parts, c.Name) {
		return nil
	}
	if parts[0] != c.Name {
		return []Proposal{{Title: "its values were carried into " + t.FullName() + " with " + parts[0] + ", drop it", SQL: given(drop)}}
	}
	for i := range t.Columns { // what the new table wants besides
		x := &t.Columns[i]
		if mandatory(x) && !slices.Contains(parts, x.Name) && !slices.Contains(into, x.Name) {
			return nil
		}
	}
	return []Proposal{d.carry(p, t, slices.Concat(into, parts), slices.Concat(from, parts), parts, drop)}
}

// carry puts values of rows into a new table.
func (d *draft) carry(p *pair, t *catalog.Table, into, from, values []string, drop string) Proposal {
	var some []string
	for _, v := range values {
		some = append(some, d.name(v)+" IS NOT NULL")
	}
	where := strings.Join(some, " OR ")
	insert := fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s WHERE %s", d.tableOf(t), d.names(into), d.names(from), d.tableOf(p.now), where)
	if d.engine == catalog.MySQL { // which may run it again
		insert += fmt.Sprintf(" AND NOT EXISTS (SELECT 1 FROM %s x WHERE x.%s = %s.%s)", d.tableOf(t), d.name(into[0]), d.tableOf(p.now), d.name(from[0]))
		if len(some) > 1 {
			insert = strings.Replace(insert, " WHERE "+where, " WHERE ("+where+")", 1)
		}
	}
	var checks []Check
	for i, name := range into[len(into)-len(values):] {
		was, _ := p.old.Column(values[i])
		now, _ := t.Column(name)
		if was != nil && now != nil {
			checks = append(checks, d.fits(p, was, now)...)
		}
	}
	return Proposal{Title: "carry it into " + t.FullName() + ", and drop it then", checks: checks, SQL: append(d.onlyWith(p.now, values, []string{insert}), given(drop)...),
		holds: fmt.Sprintf("(SELECT count(*) FROM %s) >= (SELECT count(*) FROM %s WHERE %s)", d.tableOf(t), d.tableOf(p.now), where)}
}

// movers are the tables in which a column of the same name and type is new, and
// whose rows can be told from the rows of this one.
func (d *draft) movers(p *pair, c *catalog.Column, drop string) []Proposal {
	var list []Proposal
	for _, q := range d.all {
		i := slices.IndexFunc(q.added, func(x *catalog.Column) bool {
			return x.Name == c.Name && x.Type.Kind == c.Type.Kind && x.Generated == ""
		})
		if q == p || i < 0 {
			continue
		}
		column := d.name(c.Name)
		mine, other := d.tableOf(p.now), d.tableOf(q.now)
		for _, r := range q.now.References { // each of its rows refers to one here
			if r.Table != p.now.Name || r.Schema != p.now.Schema || len(r.Columns) != 1 || len(r.Target) != 1 || q.isAdded(r.Columns[0]) {
				continue
			}
			where := fmt.Sprintf("%s.%s = %s.%s", mine, d.name(r.Target[0]), other, d.name(r.Columns[0]))
			list = append(list, d.moved(p, q, c, drop, fmt.Sprintf("(SELECT %s.%s FROM %[1]s WHERE %[3]s)", mine, column, where), where, nil))
		}
		for _, r := range p.old.References { // each row here refers to one of its own
			if r.Table != q.now.Name || r.Schema != q.now.Schema || len(r.Columns) != 1 || len(r.Target) != 1 {
				continue
			}
			f := d.former(p)
			ref := f.column(r.Columns[0])
			from := fmt.Sprintf(" FROM %s WHERE %s IS NOT NULL GROUP BY %[2]s HAVING count(DISTINCT %s) > 1", f.table(), ref, f.column(c.Name))
			check := Check{Place: f.place(c.Name), Fault: "rows of " + q.now.FullName() + " would get more than one value", Count: "SELECT count(*) FROM (SELECT 1 AS one" + from + ") x",
				List: "SELECT " + ref + from, schema: f.schema, table: f.name, columns: f.columns([]string{c.Name, r.Columns[0]})}
			where := fmt.Sprintf("%s.%s = %s.%s", mine, d.name(r.Columns[0]), other, d.name(r.Target[0]))
			list = append(list, d.moved(p, q, c, drop, fmt.Sprintf("(SELECT max(%s.%s) FROM %[1]s WHERE %[3]s)", mine, column, where), where, []Check{check}))
		}
	}
	return list
}

func (d *draft) moved(p, q *pair, c *catalog.Column, drop, value, where string, checks []Check) Proposal {
	into, _ := q.now.Column(c.Name)
	checks = append(checks, d.fits(p, c, into)...)
	update := d.update(q, fmt.Sprintf("%s = %s", d.name(c.Name), value), fmt.Sprintf("EXISTS (SELECT 1 FROM %s WHERE %s)", d.tableOf(p.now), where))
	return Proposal{Title: "carry its values into " + q.now.FullName() + "." + c.Name + ", and drop it then", SQL: append(d.onlyWith(p.now, []string{c.Name}, update), given(drop)...), checks: checks,
		holds: fmt.Sprintf("NOT EXISTS (SELECT 1 FROM %s, %s WHERE %s AND %[1]s.%[4]s IS NOT NULL AND %[2]s.%[4]s IS NULL)", d.tableOf(p.now), d.tableOf(q.now), where, d.name(c.Name))}
}

// decideGone asks before a table is dropped. A table that is kept gives its name
// to nobody else.
func (d *draft) decideGone(t *catalog.Table, drop string) {
	keep := d.freeName(t.Schema, t.Name+"_kept")
	rename := fmt.Sprintf("ALTER TABLE %s RENAME TO %s", d.tableOf(t), d.name(keep))
	if d.engine == catalog.MySQL {
		rename = fmt.Sprintf("RENAME TABLE %s%s TO %s", ifExists, d.tableOf(t), d.table(t.Schema, keep))
	}
	proposals := append(d.renamedTable(t, drop),
		Proposal{Title: "drop it, its rows are not needed", SQL: []string{drop}},
		Proposal{Title: "keep it under another name", SQL: []string{rename}, checks: d.free(d.name(keep)), holds: fmt.Sprintf("(SELECT count(*) FROM %s) >= 0", d.name(keep))})
	x := d.decision(fmt.Sprintf("The table %s is gone. What becomes of its rows?", t.FullName()), proposals...)
	if x.Taken < 0 || x.Taken == len(proposals)-1 {
		d.kept = append(d.kept, t)
	}
}

// widens reports whether every value of one type is one of the other, so that
// nothing of it can be lost.
func widens(was, now catalog.Type) bool {
	switch {
	case was.Kind == now.Kind:
	case now.Kind == catalog.Text && now.Size >= printed[was.Kind] && printed[was.Kind] > 0:
		return true
	case now.Kind == catalog.Text && now.Size == 0:
		switch was.Kind {
		case catalog.Int, catalog.Bool, catalog.UUID, catalog.EnumKind, catalog.Date, catalog.Network, catalog.Decimal:
			return true
		}
		return false
	case now.Kind == catalog.Decimal && was.Kind == catalog.Int:
		return now.Precision == 0 || now.Precision-now.Scale >= digits(was.Bits)
	case now.Kind == catalog.Int && was.Kind == catalog.Bool:
		return true
	default:
		return false
	}
	if now.Unsigned && !was.Unsigned {
		return false
	}
	switch was.Kind {
	case catalog.Int:
		return now.Bits >= was.Bits && was.Unsigned == now.Unsigned || was.Unsigned && !now.Unsigned && now.Bits > was.Bits
	case catalog.Float:
		return now.Bits >= was.Bits
	case catalog.Decimal:
		return now.Precision == 0 || was.Precision > 0 && now.Scale >= was.Scale && now.Precision-now.Scale >= was.Precision-was.Scale
	case catalog.Text, catalog.Bytes, catalog.BitString:
		return now.Size == 0 || was.Size > 0 && now.Size >= was.Size
	case catalog.EnumKind, catalog.Set:
		return was.Enum == now.Enum && !slices.ContainsFunc(was.Labels, func(l string) bool { return !slices.Contains(now.Labels, l) })
	case catalog.Other, catalog.Array, catalog.Range, catalog.Compound:
		return false
	}
	return true
}

// printed is how long values of a type are at most as texts.
var printed = map[catalog.TypeKind]int{catalog.Int: 20, catalog.Bool: 5, catalog.UUID: 36}

// digits is how many of them a whole number of so many bits has at most.
func digits(bits int) int {
	switch {
	case bits <= 16:
		return 5
	case bits <= 32:
		return 10
	}
	return 19
}
