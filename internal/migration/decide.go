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
	return fmt.Sprintf("substr(%s || ' ', 1, instr(%[1]s || ' ', ' ') - 1)", column), fmt.Sprintf("ltrim(substr(%s || ' ', instr(%[1]s || ' ', ' ')))", column)
}

// decideNew asks for the values of new columns that must have one. The columns
// are there by then, and may be null yet.
func (d *draft) decideNew(p *pair) {
	table := d.tableOf(p.now)
	from, into := p.split()
	if from != nil {
		head, tail := d.words(d.name(from.Name))
		d.decision(fmt.Sprintf("%s of %s is gone, and %s and %s are new. Do its words go into them?", from.Name, p.now.FullName(), into[0].Name, into[1].Name),
			Proposal{fmt.Sprintf("the first word of %s goes into %s, the rest into %s", from.Name, into[0].Name, into[1].Name),
				[]string{fmt.Sprintf("UPDATE %s SET %s = coalesce(%s, ''), %s = coalesce(%s, '')", table, d.name(into[0].Name), head, d.name(into[1].Name), tail)}},
			Proposal{fmt.Sprintf("all of it goes into %s, and %s stays empty", into[0].Name, into[1].Name),
				[]string{fmt.Sprintf("UPDATE %s SET %s = coalesce(%s, ''), %s = ''", table, d.name(into[0].Name), d.name(from.Name), d.name(into[1].Name))}})
	}
	for _, c := range p.added {
		if !mandatory(c) || slices.Contains(into, c) {
			continue
		}
		value := d.fill(p.now, c)
		d.decision(fmt.Sprintf("%s of %s is new, must have a value and has no default. What do the rows get that are there?", c.Name, p.now.FullName()),
			Proposal{"the same value in all", []string{fmt.Sprintf("UPDATE %s SET %s = %s", table, d.name(c.Name), value)}},
			Proposal{"the table is empty, and the script stops if it is not", nil})
	}
}

// mandatory reports whether rows that are there have nothing for a new column.
func mandatory(c *catalog.Column) bool { return !c.Nullable && c.Default == nil && c.Generated == "" }

// decideNulls asks for the values of columns that must have one from now on.
func (d *draft) decideNulls(p *pair) {
	table := d.tableOf(p.now)
	for _, a := range p.altered {
		if !a.was.Nullable || a.now.Nullable || a.now.Generated != "" {
			continue
		}
		column := d.name(a.now.Name)
		d.decision(fmt.Sprintf("%s of %s must have a value now. What becomes of the rows without one?", a.now.Name, p.now.FullName()),
			Proposal{"the script stops if there is one", nil},
			Proposal{"they get a value", []string{fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s IS NULL", table, column, d.fill(p.now, a.now), column)}},
			Proposal{"they are deleted", []string{fmt.Sprintf("DELETE FROM %s WHERE %s IS NULL", table, column)}})
	}
}

// given leaves out statements that are none.
func given(statements ...string) []string {
	return slices.DeleteFunc(statements, func(s string) bool { return s == "" })
}

// decideLost asks before what rows hold is dropped. The proposals end in the
// statement that drops, if there is one.
func (d *draft) decideLost(p *pair, c *catalog.Column, drop string) {
	table := d.tableOf(p.now)
	keep := p.now.Name + "_" + c.Name + "_kept"
	columns := []string{c.Name}
	if p.old.PrimaryKey != nil {
		columns = append(slices.Clone(p.old.PrimaryKey.Columns), c.Name)
		columns = slices.Compact(columns)
	}
	proposals := d.carriers(p, c, drop)
	proposals = append(proposals,
		Proposal{"drop it, its values are not needed", given(drop)},
		Proposal{"keep its values in a table of their own", given(fmt.Sprintf("CREATE TABLE %s AS SELECT %s FROM %s", d.table(p.now.Schema, keep), d.names(columns), table), drop)})
	d.decision(fmt.Sprintf("%s of %s is gone. What becomes of its values?", c.Name, p.now.FullName()), proposals...)
}

// carriers are the new tables that can take over what a column refers to: a
// reference that has become a table of pairs.
func (d *draft) carriers(p *pair, c *catalog.Column, drop string) []Proposal {
	var list []Proposal
	for _, r := range p.old.References {
		if len(r.Columns) != 1 || r.Columns[0] != c.Name || p.old.PrimaryKey == nil {
			continue
		}
		for _, t := range d.fresh() {
			own := slices.IndexFunc(t.References, func(x catalog.Reference) bool {
				return x.Table == p.now.Name && x.Schema == p.now.Schema && slices.Equal(x.Target, p.old.PrimaryKey.Columns)
			})
			other := slices.IndexFunc(t.References, func(x catalog.Reference) bool {
				return x.Table == r.Table && x.Schema == r.Schema && len(x.Columns) == 1
			})
			if own < 0 || other < 0 || own == other || len(t.Columns) != len(t.References[own].Columns)+1 {
				continue
			}
			into := append(slices.Clone(t.References[own].Columns), t.References[other].Columns...)
			from := append(slices.Clone(p.old.PrimaryKey.Columns), c.Name)
			list = append(list, Proposal{"carry it into " + t.FullName() + ", and drop it then", given(
				fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s WHERE %s IS NOT NULL", d.tableOf(t), d.names(into), d.names(from), d.tableOf(p.now), d.name(c.Name)), drop)})
		}
	}
	return list
}

// decideGone asks before a table is dropped. A table that is kept gives its name
// to nobody else.
func (d *draft) decideGone(t *catalog.Table, drop string) {
	keep := d.name(t.Name + "_kept")
	rename := fmt.Sprintf("ALTER TABLE %s RENAME TO %s", d.tableOf(t), keep)
	d.decision(fmt.Sprintf("The table %s is gone. What becomes of its rows?", t.FullName()),
		Proposal{"drop it, its rows are not needed", []string{drop}},
		Proposal{"keep it under another name", []string{rename}})
}

// widens reports whether every value of one type is one of the other, so that
// nothing of it can be lost.
func widens(was, now catalog.Type) bool {
	switch {
	case was.Kind == now.Kind:
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
