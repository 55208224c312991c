package migration

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// zero is a value of a type that stands for nothing in particular, as SQL.
func (d *Writing) zero(c *catalog.Column) string {
	if own := d.Engine.Zero(c); own != "" {
		return own
	}
	switch c.Type.Kind {
	case catalog.Int, catalog.Float, catalog.Decimal, catalog.Money:
		return "0"
	case catalog.Bool:
		return "0"
	case catalog.Date:
		return "CURRENT_DATE"
	case catalog.Time:
		return "'00:00:00'"
	case catalog.Timestamp, catalog.TimestampTZ:
		return "CURRENT_TIMESTAMP"
	case catalog.UUID:
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
		if e, ok := d.After.Enum(c.Type.Enum); ok {
			labels = e.Labels
		}
		if len(labels) > 0 {
			return d.SQL.Literal(labels[0])
		}
	}
	return "''"
}

// fill is what a new mandatory column may get: the default, a row that it refers
// to, or a value of its type.
func (d *Writing) fill(t *catalog.Table, c *catalog.Column) string {
	for _, r := range t.References {
		if len(r.Columns) == 1 && r.Columns[0] == c.Name && len(r.Target) == 1 {
			return fmt.Sprintf("(SELECT min(%s) FROM %s)", d.Name(r.Target[0]), d.Table(r.Schema, r.Table))
		}
	}
	if c.Default != nil && c.Default.Kind != catalog.Identity {
		return d.DefaultText(c)
	}
	return d.zero(c)
}

// DefaultText is a default as a statement takes it.
func (d *Writing) DefaultText(c *catalog.Column) string {
	if own := d.Engine.Default(c); own != "" {
		return own
	}
	def := c.Default
	if def.Kind == catalog.Expression {
		if strings.ContainsAny(def.Text, " +-*/|") && !strings.HasPrefix(def.Text, "(") && !strings.HasPrefix(strings.ToLower(def.Text), "current_timestamp") {
			return "(" + def.Text + ")"
		}
		return def.Text
	}
	switch c.Type.Kind {
	case catalog.Int, catalog.Float, catalog.Decimal:
		return def.Text
	case catalog.Bool:
		switch {
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
	return d.SQL.Literal(def.Text)
}

// Split is a text column that is gone while two or more have come: its words may
// belong into them.
func (p *Pair) Split() (from *catalog.Column, into []*catalog.Column) {
	for _, c := range p.Dropped {
		if c.Type.Kind == catalog.Text && c.Generated == "" {
			from = c
		}
	}
	for _, c := range p.Added {
		if c.Type.Kind == catalog.Text && c.Generated == "" {
			into = append(into, c)
		}
	}
	if from == nil || len(into) != 2 {
		return nil, nil
	}
	return from, into
}

// Update sets values in rows that are there; see Rows.Update.
func (d *Writing) Update(p *Pair, sets, where string) []string {
	return d.Engine.Update(d, p, sets, where)
}

// UpdateText is an UPDATE; where may be empty.
func UpdateText(table, sets, where string) string {
	text := fmt.Sprintf("UPDATE %s SET %s", table, sets)
	if where != "" {
		text += " WHERE " + where
	}
	return text
}

// DecideSplit asks whether the words of a text that is gone go into two new
// columns. These are there by then, and may be null yet.
func (d *Writing) DecideSplit(p *Pair) {
	from, into := p.Split()
	if from == nil {
		return
	}
	head, tail := d.Engine.Words(d.Name(from.Name))
	set := func(values ...string) []string {
		return d.onlyWith(p.Now, []string{from.Name}, d.Update(p, fmt.Sprintf("%s = %s, %s = %s", d.Name(into[0].Name), values[0], d.Name(into[1].Name), values[1]), ""))
	}
	d.Decision(fmt.Sprintf("%s of %s is gone, and %s and %s are new. Do its words go into them?", from.Name, p.Now.FullName(), into[0].Name, into[1].Name),
		Proposal{Title: fmt.Sprintf("the first word of %s goes into %s, the rest into %s", from.Name, into[0].Name, into[1].Name),
			SQL: set("coalesce("+head+", '')", "coalesce("+tail+", '')")},
		Proposal{Title: fmt.Sprintf("all of it goes into %s, and %s stays empty", into[0].Name, into[1].Name), SQL: set("coalesce("+d.Name(from.Name)+", '')", "''")})
}

// DecideNew asks for the value of a new column that must have one. add makes the
// column with a value in all rows, addNow for an empty table.
func (d *Writing) DecideNew(p *Pair, c *catalog.Column, add func(value string) []string, addNow []string) {
	f := d.Former(p)
	value := d.fill(p.Now, c)
	same := Proposal{Title: "the same value in all", SQL: add(value)}
	if r, ok := d.filledBy(p.Now, c); ok {
		same.Title = "all refer to the first row of " + catalog.Qualify(r.Schema, r.Table)
		if target, there := d.At.Table(r.Schema, r.Table); there {
			schema, name := catalog.Split(d.OldName(target.FullName()))
			from := fmt.Sprintf(" FROM %s WHERE NOT EXISTS (SELECT 1 FROM %s)", f.Table(), d.Table(schema, name))
			same.Checks = []Check{{Place: f.place(""), Fault: "rows have nothing to refer to, since " + target.FullName() + " is empty", Count: "SELECT count(*)" + from, List: "SELECT *" + from, Schema: f.schema, Table: f.name}}
		}
	}
	d.Decision(fmt.Sprintf("%s of %s is new, must have a value and has no default. What do the rows get that are there?", c.Name, p.Now.FullName()),
		same,
		Proposal{Title: "the table is empty, and the script stops if it is not", SQL: addNow,
			Checks: []Check{f.Where("", nil, "rows are there, and "+c.Name+" has no value for them", "1 = 1", "give the column a value or a default")}})
}

// filledBy is the reference whose target gives a new column its value.
func (d *Writing) filledBy(t *catalog.Table, c *catalog.Column) (catalog.Reference, bool) {
	for _, r := range t.References {
		if len(r.Columns) == 1 && r.Columns[0] == c.Name && len(r.Target) == 1 {
			return r, true
		}
	}
	return catalog.Reference{}, false
}

// Mandatory reports whether rows that are there have nothing for a new column.
func Mandatory(c *catalog.Column) bool { return !c.Nullable && c.Default == nil && c.Generated == "" }

// DecideNulls asks for the values of columns that must have one from now on.
func (d *Writing) DecideNulls(p *Pair) {
	table := d.TableOf(p.Now)
	f := d.Former(p)
	for _, a := range p.Altered {
		if !a.Was.Nullable || a.Now.Nullable || a.Now.Generated != "" || a.Was.Generated != "" {
			continue
		}
		column := d.Name(a.Now.Name)
		missing := column + " IS NULL"
		kept := d.Table(p.Now.Schema, d.FreeName(p.Now.Schema, p.Now.Name+"_without_"+a.Now.Name))
		d.Decision(fmt.Sprintf("%s of %s must have a value now. What becomes of the rows without one?", a.Now.Name, p.Now.FullName()),
			Proposal{Title: "the script stops if there is one", Checks: []Check{f.notNull(a.Now.Name)}},
			Proposal{Title: "they get a value", SQL: d.Update(p, fmt.Sprintf("%s = %s", column, d.fillAs(p.Now, a)), missing)},
			Proposal{Title: "they are deleted", SQL: []string{fmt.Sprintf("DELETE FROM %s WHERE %s", table, missing)}},
			Proposal{Title: "they are moved into a table of their own", SQL: []string{d.Engine.CreateAs(kept, fmt.Sprintf("SELECT * FROM %s WHERE %s", table, missing)), fmt.Sprintf("DELETE FROM %s WHERE %s", table, missing)},
				Checks: d.Free(kept), Holds: fmt.Sprintf("(SELECT count(*) FROM %s) >= 0", kept)})
	}
}

// fillAs is a value of the type that a column still has.
func (d *Writing) fillAs(t *catalog.Table, a Alteration) string {
	if a.Retyped() && d.Engine.Traits().RetypesLast && a.Was.Type.Kind != a.Now.Type.Kind {
		if _, ok := d.filledBy(t, a.Now); !ok {
			return d.zero(a.Was)
		}
	}
	return d.fill(t, a.Now)
}

// Free checks that a name is not taken, where the engine would not stop by
// itself.
func (d *Writing) Free(table string) []Check { return d.Engine.Free(d.bareNames(table)) }

// Taken is a check that finds what has a name.
func Taken(name, from string) Check {
	return Check{Place: name, Fault: "something of this name is there, and the script needs the name", Count: "SELECT count(*)" + from, List: "SELECT *" + from, Help: "give it another name"}
}

func (d *Writing) bareNames(table string) (schema, name string) {
	unquote := func(s string) string { return strings.Trim(s, "`\"") }
	if i := strings.LastIndex(table, "."); i >= 0 {
		return unquote(table[:i]), unquote(table[i+1:])
	}
	return "", unquote(table)
}

// onlyWith keeps statements from being run again; see Rows.OnlyWith.
func (d *Writing) onlyWith(t *catalog.Table, columns, statements []string) []string {
	return d.Engine.OnlyWith(t.Schema, t.Name, columns, statements)
}

// Given leaves out statements that are none.
func Given(statements ...string) []string {
	return slices.DeleteFunc(statements, func(s string) bool { return s == "" })
}

// DecideLost asks before what rows hold is dropped. The proposals end in the
// statement that drops, if there is one.
func (d *Writing) DecideLost(p *Pair, c *catalog.Column, drop string) {
	table := d.TableOf(p.Now)
	kept := d.Table(p.Now.Schema, d.FreeName(p.Now.Schema, p.Now.Name+"_"+c.Name+"_kept"))
	columns := []string{c.Name}
	if p.Old.PrimaryKey != nil && !slices.Contains(p.Old.PrimaryKey.Columns, c.Name) {
		columns = append(slices.Clone(p.Old.PrimaryKey.Columns), c.Name)
	}
	if p.Old.PrimaryKey != nil && slices.Contains(p.Old.PrimaryKey.Columns, c.Name) {
		columns = slices.Clone(p.Old.PrimaryKey.Columns)
	}
	proposals := slices.Concat(d.renamed(p, c, drop), d.carriers(p, c, drop), d.movers(p, c, drop))
	proposals = append(proposals,
		Proposal{Title: "drop it, its values are not needed", SQL: Given(drop)},
		Proposal{Title: "keep its values in a table of their own",
			SQL:    append(d.onlyWith(p.Now, columns, []string{d.Engine.CreateAs(kept, fmt.Sprintf("SELECT %s FROM %s", d.Names(columns), table))}), Given(drop)...),
			Checks: d.Free(kept), Holds: fmt.Sprintf("(SELECT count(*) FROM %s) = (SELECT count(*) FROM %s)", kept, table)})
	d.Decision(fmt.Sprintf("%s of %s is gone. What becomes of its values?", c.Name, p.Now.FullName()), proposals...)
}

// renamed are the new columns of the table that may be the old one under another
// name: its values go there.
func (d *Writing) renamed(p *Pair, c *catalog.Column, drop string) []Proposal {
	var list []Proposal
	from, _ := p.Split()
	for _, r := range d.Possible {
		now, ok := p.Now.Column(r.To)
		if r.Thing != catalog.RenamedColumn || r.In != p.Now.FullName() || r.From != c.Name || !ok || !p.IsAdded(r.To) || now.Generated != "" || from == c {
			continue
		}
		value := d.Engine.Cast(c, now, d.Name(c.Name))
		list = append(list, Proposal{Title: fmt.Sprintf("it is called %s now: its values go there (--renamed %s renames it instead)", r.To, r),
			SQL:    append(d.onlyWith(p.Now, []string{c.Name}, d.Update(p, fmt.Sprintf("%s = %s", d.Name(r.To), value), d.Name(c.Name)+" IS NOT NULL")), Given(drop)...),
			Checks: d.fits(p, c, now),
			Holds:  fmt.Sprintf("NOT EXISTS (SELECT 1 FROM %s WHERE %s IS NOT NULL AND %s IS NULL)", d.TableOf(p.Now), d.Name(c.Name), d.Name(r.To))})
	}
	return list
}

// fits checks that the values of a column can be those of another one.
func (d *Writing) fits(p *Pair, c, now *catalog.Column) []Check {
	f := d.Former(p)
	column, a := f.Column(c.Name), Alteration{c, now}
	conversion := d.Engine.Conversion(d, a, column, slices.Contains(p.Now.Options, "strict"))
	if conversion.Harmless() {
		return nil
	}
	if conversion.Anchored || conversion.Unknown {
		conversion.Condition = column + " IS NOT NULL"
	}
	check := f.Conversion(a, conversion)
	check.Place, check.Columns = f.place(c.Name), []string{f.bare(c.Name)}
	return []Check{check}
}

// renamedTable are the new tables that may be the old one under another name.
func (d *Writing) renamedTable(t *catalog.Table, drop string) []Proposal {
	var list []Proposal
	for _, r := range d.Possible {
		if r.Thing != catalog.RenamedTable || r.From != d.OldName(t.FullName()) {
			continue
		}
		now, ok := d.After.Table(catalog.Split(r.To))
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
			case Mandatory(c):
				complete = false
			}
		}
		if len(same) == 0 || !complete {
			continue
		}
		insert := fmt.Sprintf("INSERT INTO %s (%s) SELECT %[2]s FROM %s", d.TableOf(now), d.Names(same), d.TableOf(t))
		sql := append(d.Engine.IfEmpty(t, d.TableOf(now), insert), drop)
		list = append(list, Proposal{Title: fmt.Sprintf("it is called %s now: its rows go there, with the columns that both have (--renamed %s renames it instead)", now.FullName(), r), SQL: sql,
			Holds: fmt.Sprintf("(SELECT count(*) FROM %s) >= (SELECT count(*) FROM %s)", d.TableOf(now), d.TableOf(t))})
	}
	return list
}

// carriers are the new tables that can take over what a column holds: a
// reference that has become a table of pairs, or a part of a table that stands
// by itself now.
func (d *Writing) carriers(p *Pair, c *catalog.Column, drop string) []Proposal {
	var list []Proposal
	if p.Old.PrimaryKey == nil {
		return nil
	}
	for _, t := range d.Fresh() {
		own := slices.IndexFunc(t.References, func(x catalog.Reference) bool {
			return x.Table == p.Now.Name && x.Schema == p.Now.Schema && slices.Equal(x.Target, p.Old.PrimaryKey.Columns)
		})
		if own < 0 {
			continue
		}
		into, from := slices.Clone(t.References[own].Columns), slices.Clone(p.Old.PrimaryKey.Columns)
		for _, r := range p.Old.References {
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
func (d *Writing) carryParts(p *Pair, t *catalog.Table, into, from []string, c *catalog.Column, drop string) []Proposal {
	var parts []string
	for _, x := range p.Dropped {
		now, ok := t.Column(x.Name)
		if ok && x.Generated == "" && now.Generated == "" && now.Type.Kind == x.Type.Kind && !slices.Contains(into, x.Name) {
			parts = append(parts, x.Name)
		}
	}
	if len(parts) == 0 || !slices.Contains(parts, c.Name) {
		return nil
	}
	if parts[0] != c.Name {
		return []Proposal{{Title: "its values were carried into " + t.FullName() + " with " + parts[0] + ", drop it", SQL: Given(drop)}}
	}
	for i := range t.Columns { // what the new table wants besides
		x := &t.Columns[i]
		if Mandatory(x) && !slices.Contains(parts, x.Name) && !slices.Contains(into, x.Name) {
			return nil
		}
	}
	return []Proposal{d.carry(p, t, slices.Concat(into, parts), slices.Concat(from, parts), parts, drop)}
}

// carry puts values of rows into a new table.
func (d *Writing) carry(p *Pair, t *catalog.Table, into, from, values []string, drop string) Proposal {
	var some []string
	for _, v := range values {
		some = append(some, d.Name(v)+" IS NOT NULL")
	}
	where := strings.Join(some, " OR ")
	insert := fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s WHERE %s", d.TableOf(t), d.Names(into), d.Names(from), d.TableOf(p.Now), where)
	insert = d.Engine.Once(insert, where, d.TableOf(t), d.Name(into[0]), d.TableOf(p.Now), d.Name(from[0]))
	var checks []Check
	for i, name := range into[len(into)-len(values):] {
		was, _ := p.Old.Column(values[i])
		now, _ := t.Column(name)
		if was != nil && now != nil {
			checks = append(checks, d.fits(p, was, now)...)
		}
	}
	return Proposal{Title: "carry it into " + t.FullName() + ", and drop it then", Checks: checks, SQL: append(d.onlyWith(p.Now, values, []string{insert}), Given(drop)...),
		Holds: fmt.Sprintf("(SELECT count(*) FROM %s) >= (SELECT count(*) FROM %s WHERE %s)", d.TableOf(t), d.TableOf(p.Now), where)}
}

// movers are the tables in which a column of the same name and type is new, and
// whose rows can be told from the rows of this one.
func (d *Writing) movers(p *Pair, c *catalog.Column, drop string) []Proposal {
	var list []Proposal
	for _, q := range d.All {
		i := slices.IndexFunc(q.Added, func(x *catalog.Column) bool {
			return x.Name == c.Name && x.Type.Kind == c.Type.Kind && x.Generated == ""
		})
		if q == p || i < 0 {
			continue
		}
		column := d.Name(c.Name)
		mine, other := d.TableOf(p.Now), d.TableOf(q.Now)
		for _, r := range q.Now.References { // each of its rows refers to one here
			if r.Table != p.Now.Name || r.Schema != p.Now.Schema || len(r.Columns) != 1 || len(r.Target) != 1 || q.IsAdded(r.Columns[0]) {
				continue
			}
			where := fmt.Sprintf("%s.%s = %s.%s", mine, d.Name(r.Target[0]), other, d.Name(r.Columns[0]))
			list = append(list, d.moved(p, q, c, drop, fmt.Sprintf("(SELECT %s.%s FROM %[1]s WHERE %[3]s)", mine, column, where), where, nil))
		}
		for _, r := range p.Old.References { // each row here refers to one of its own
			if r.Table != q.Now.Name || r.Schema != q.Now.Schema || len(r.Columns) != 1 || len(r.Target) != 1 {
				continue
			}
			f := d.Former(p)
			ref := f.Column(r.Columns[0])
			from := fmt.Sprintf(" FROM %s WHERE %s IS NOT NULL GROUP BY %[2]s HAVING count(DISTINCT %s) > 1", f.Table(), ref, f.Column(c.Name))
			check := Check{Place: f.place(c.Name), Fault: "rows of " + q.Now.FullName() + " would get more than one value", Count: "SELECT count(*) FROM (SELECT 1 AS one" + from + ") x",
				List: "SELECT " + ref + from, Schema: f.schema, Table: f.name, Columns: f.columns([]string{c.Name, r.Columns[0]})}
			where := fmt.Sprintf("%s.%s = %s.%s", mine, d.Name(r.Columns[0]), other, d.Name(r.Target[0]))
			list = append(list, d.moved(p, q, c, drop, fmt.Sprintf("(SELECT max(%s.%s) FROM %[1]s WHERE %[3]s)", mine, column, where), where, []Check{check}))
		}
	}
	return list
}

func (d *Writing) moved(p, q *Pair, c *catalog.Column, drop, value, where string, checks []Check) Proposal {
	into, _ := q.Now.Column(c.Name)
	checks = append(checks, d.fits(p, c, into)...)
	update := d.Update(q, fmt.Sprintf("%s = %s", d.Name(c.Name), value), fmt.Sprintf("EXISTS (SELECT 1 FROM %s WHERE %s)", d.TableOf(p.Now), where))
	return Proposal{Title: "carry its values into " + q.Now.FullName() + "." + c.Name + ", and drop it then", SQL: append(d.onlyWith(p.Now, []string{c.Name}, update), Given(drop)...), Checks: checks,
		Holds: fmt.Sprintf("NOT EXISTS (SELECT 1 FROM %s, %s WHERE %s AND %[1]s.%[4]s IS NOT NULL AND %[2]s.%[4]s IS NULL)", d.TableOf(p.Now), d.TableOf(q.Now), where, d.Name(c.Name))}
}

// DecideGone asks before a table is dropped. A table that is kept gives its name
// to nobody else.
func (d *Writing) DecideGone(t *catalog.Table, drop string) {
	keep := d.FreeName(t.Schema, t.Name+"_kept")
	rename := d.Engine.RenameTable(d, t, keep)
	proposals := append(d.renamedTable(t, drop),
		Proposal{Title: "drop it, its rows are not needed", SQL: []string{drop}},
		Proposal{Title: "keep it under another name", SQL: []string{rename}, Checks: d.Free(d.Name(keep)), Holds: fmt.Sprintf("(SELECT count(*) FROM %s) >= 0", d.Name(keep))})
	x := d.Decision(fmt.Sprintf("The table %s is gone. What becomes of its rows?", t.FullName()), proposals...)
	if x.Taken < 0 || x.Taken == len(proposals)-1 {
		d.Kept = append(d.Kept, t)
	}
}

// Widens reports whether every value of one type is one of the other, so that
// nothing of it can be lost.
func Widens(was, now catalog.Type) bool {
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
