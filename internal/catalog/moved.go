package catalog

import (
	"slices"
	"strings"
)

// A name can move on: the column total becomes net_total, and a new column is called
// total. A label can also belong to a check of a column whose type is not an enum.
// Comparing the two schemas shows neither rename, so a person has to declare it.

// movedOn are the renames that were given, of things whose old name is taken again or
// whose new name was taken before, by something that moves on itself. They are in the
// order in which they can be carried out.
func (f *finder) movedOn(thing, in string, olds, nows []string) []Rename {
	var list []Rename
	for _, r := range f.given {
		if r.Thing == thing && f.newName(r.In) == in && r.To != "" && slices.Contains(olds, r.From) && slices.Contains(nows, r.To) {
			r.In, r.Confidence, r.Why = in, 1, "as you said"
			list = append(list, r)
		}
	}
	list = inOrder(list, olds)
	if !slices.ContainsFunc(list, func(r Rename) bool { return slices.Contains(nows, r.From) || slices.Contains(olds, r.To) }) {
		return nil // the usual comparison finds these
	}
	return list
}

// inOrder puts each rename behind the one that frees its new name, and leaves out
// those whose new name nothing frees.
func inOrder(list []Rename, taken []string) []Rename {
	taken = slices.Clone(taken)
	var sorted []Rename
	for {
		at := slices.IndexFunc(list, func(r Rename) bool { return !slices.Contains(taken, r.To) })
		if at < 0 {
			return sorted
		}
		r := list[at]
		sorted = append(sorted, r)
		list = slices.Delete(slices.Clone(list), at, at+1)
		taken = slices.DeleteFunc(taken, func(name string) bool { return name == r.From })
		taken = append(taken, r.To)
	}
}

// take adds renames to what was found, and reports which names they settle.
func (f *finder) take(list []Rename) (froms, tos map[string]bool) {
	froms, tos = map[string]bool{}, map[string]bool{}
	for _, r := range list {
		froms[r.From], tos[r.To] = true, true
	}
	f.found = append(f.found, list...)
	return froms, tos
}

func columnNames(t *Table) []string {
	names := make([]string, len(t.Columns))
	for i := range t.Columns {
		names[i] = t.Columns[i].Name
	}
	return names
}

// tableNames are full names.
func tableNames(c *Catalog) []string {
	names := make([]string, len(c.Tables))
	for i := range c.Tables {
		names[i] = c.Tables[i].FullName()
	}
	return names
}

// LabelColumn splits what a label is said to be in, where that is a column: TABLE.COLUMN.
func (c *Catalog) LabelColumn(in string) (*Table, *Column, bool) {
	at := strings.LastIndexByte(in, '.')
	if at < 0 {
		return nil, nil, false
	}
	t, there := c.Table(Split(in[:at]))
	if !there {
		return nil, nil, false
	}
	column, there := t.Column(in[at+1:])
	return t, column, there
}

// hasLabel reports whether a column takes a label: by its type, or by a check.
func (t *Table) hasLabel(column *Column, label string) bool {
	if slices.Contains(column.Type.Labels, label) {
		return true
	}
	return slices.ContainsFunc(t.Checks, func(c Check) bool { return t.lists(c, column.Name, label) })
}

// lists reports whether a check names a column and a label.
func (t *Table) lists(c Check, column, label string) bool {
	return replaceWord(c.Expr, column, column+"x") != c.Expr && strings.Contains(c.Expr, quotedLabel(label))
}

func quotedLabel(label string) string { return "'" + strings.ReplaceAll(label, "'", "''") + "'" }

// columnLabels takes the given renames of labels of columns.
func (f *finder) columnLabels(moved *Catalog) {
	for _, r := range f.given {
		if r.Thing != RenamedLabel || r.To == "" {
			continue
		}
		was, before, there := moved.LabelColumn(f.columnNow(r.In))
		now, after, still := f.after.LabelColumn(f.columnNow(r.In))
		if !there || !still || !was.hasLabel(before, r.From) || was.hasLabel(before, r.To) || now.hasLabel(after, r.From) || !now.hasLabel(after, r.To) {
			continue
		}
		r.In, r.Confidence, r.Why = f.columnNow(r.In), 1, "as you said"
		f.found = append(f.found, r)
	}
}

// columnNow is TABLE.COLUMN by the names of now.
func (f *finder) columnNow(in string) string {
	at := strings.LastIndexByte(in, '.')
	if at < 0 {
		return in
	}
	table, column := f.newName(in[:at]), in[at+1:]
	for _, r := range f.found {
		if r.Thing == RenamedColumn && r.In == table && r.From == column {
			column = r.To
		}
	}
	return table + "." + column
}

// renameColumnLabel renames a label of a column, in its type, its checks and its
// default.
func (c *Catalog) renameColumnLabel(r Rename) {
	t, column, there := c.LabelColumn(r.In)
	if !there {
		return
	}
	column.Type.Labels = slices.Clone(column.Type.Labels)
	for i, l := range column.Type.Labels {
		if l == r.From {
			column.Type.Labels[i] = r.To
		}
	}
	column.Declared = strings.ReplaceAll(column.Declared, quotedLabel(r.From), quotedLabel(r.To))
	for i := range t.Checks {
		if t.lists(t.Checks[i], column.Name, r.From) {
			t.Checks[i].Expr = strings.ReplaceAll(t.Checks[i].Expr, quotedLabel(r.From), quotedLabel(r.To))
		}
	}
	if column.Default != nil && column.Default.Kind == Constant && column.Default.Text == r.From {
		column.Default.Text = r.To
	}
}

// Done reports whether a rename that a person names was carried out before: a schema
// has the new name and not the old one.
func Done(before *Catalog, old, now string) bool {
	if now == "" {
		return false
	}
	has := func(name string) bool {
		if slices.ContainsFunc(tableNames(before), func(t string) bool { return strings.EqualFold(t, name) }) {
			return true
		}
		if _, there := before.Enum(name); there {
			return true
		}
		at := strings.LastIndexByte(name, '.')
		if at < 0 {
			return false
		}
		if t, there := before.Table(Split(name[:at])); there {
			_, there = t.Column(name[at+1:])
			return there
		}
		if e, there := before.Enum(name[:at]); there {
			return slices.Contains(e.Labels, name[at+1:])
		}
		t, column, there := before.LabelColumn(name[:at])
		return there && t.hasLabel(column, name[at+1:])
	}
	if at := strings.LastIndexByte(old, '.'); at >= 0 && !strings.Contains(now, ".") {
		now = old[:at+1] + now
	}
	return has(now) && !has(old)
}

// Stays reports whether a schema and a later one both have the old name of a rename and
// the new one: what was called so is so since before.
func Stays(before, after *Catalog, r Rename) bool {
	both := func(c *Catalog) bool {
		if r.Thing != RenamedColumn {
			return false
		}
		t, there := c.Table(Split(r.In))
		if !there {
			return false
		}
		_, old := t.Column(r.From)
		_, now := t.Column(r.To)
		return old && now
	}
	return both(before) && both(after)
}
