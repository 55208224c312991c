package migration

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// former is a table under the names that it has before anything changes.
type former struct {
	*draft
	p            *pair
	schema, name string
}

func (d *draft) former(p *pair) former {
	schema, name := catalog.Split(d.oldName(p.now.FullName()))
	return former{d, p, schema, name}
}

func (f former) table() string { return f.draft.table(f.schema, f.name) }

// column is the name of a column before, in quotes where it needs them.
func (f former) column(name string) string { return f.draft.name(f.bare(name)) }

func (f former) bare(name string) string { return f.oldColumn(f.p.now.FullName(), name) }

func (f former) columns(list []string) []string {
	out := make([]string, len(list))
	for i, c := range list {
		out[i] = f.bare(c)
	}
	return out
}

// place is what a message calls a column of the table.
func (f former) place(column string) string {
	full := catalog.Qualify(f.schema, f.name)
	if column == "" {
		return full
	}
	return full + "." + f.bare(column)
}

// where makes a check of a condition on single rows.
func (f former) where(column string, columns []string, fault, condition, help string) Check {
	from := " FROM " + f.table() + " WHERE " + condition
	return Check{Place: f.place(column), Fault: fault, Count: "SELECT count(*)" + from, List: "SELECT *" + from, Help: help,
		schema: f.schema, table: f.name, columns: f.columns(columns)}
}

// added reports whether a column is new.
func (p *pair) isAdded(name string) bool {
	return slices.ContainsFunc(p.added, func(c *catalog.Column) bool { return c.Name == name })
}

// notNull checks a column that must have a value from now on.
func (f former) notNull(column string) Check {
	return f.where(column, []string{column}, "rows have no value, and must have one", f.column(column)+" IS NULL",
		"give them a value, copy them aside, or delete them")
}

// unique checks columns whose values must differ from row to row. A column that
// is new has the same value in all rows.
func (f former) unique(columns []string, where, definition, what string) []Check {
	nullsToo := strings.Contains(definition, "NULLS NOT DISTINCT")
	var terms, known, filters []string
	for _, c := range columns {
		if strings.HasPrefix(c, "(") {
			terms = append(terms, f.expression(c))
			continue
		}
		if f.p.isAdded(c) {
			if added, ok := f.p.now.Column(c); ok && (added.Default == nil || added.Default.Kind != catalog.Constant) || f.computes(c) {
				return nil // nulls, or a value for each row
			}
			continue
		}
		known = append(known, c)
		terms = append(terms, f.converted(c))
		if !nullsToo {
			filters = append(filters, f.column(c)+" IS NOT NULL")
		}
	}
	if where != "" {
		filters = append(filters, "("+f.expression(where)+")")
	}
	from := " FROM " + f.table()
	if len(filters) > 0 {
		from += " WHERE " + strings.Join(filters, " AND ")
	}
	check := Check{Place: f.place(strings.Join(columns, ", ")), Fault: "values are there more than once, and " + what + " lets each be there once",
		Help: "change or delete the rows that are too many", held: true, schema: f.schema, table: f.name, columns: f.columns(known)}
	if len(terms) == 0 {
		check.Fault = "rows get the same value, and " + what + " lets each be there once"
		check.Count = "SELECT CASE WHEN count(*) > 1 THEN count(*) ELSE 0 END" + from
		check.List = "SELECT *" + from
		return []Check{check}
	}
	if of := indexTerms(definition); f.engine == catalog.SQLite && of != "" && !slices.ContainsFunc(columns, f.p.isAdded) {
		terms = []string{f.expression(of)}
	}
	group := strings.Join(terms, ", ")
	check.List = fmt.Sprintf("SELECT %s, count(*)%s GROUP BY %s HAVING count(*) > 1", group, from, group)
	check.Count = fmt.Sprintf("SELECT count(*) FROM (SELECT 1 AS one%s GROUP BY %s HAVING count(*) > 1) x", from, group)
	return []Check{check}
}

// indexTerms is what stands between the parentheses of an index, without its
// directions.
func indexTerms(definition string) string {
	m := indexHead.FindStringIndex(definition)
	if m == nil {
		return ""
	}
	depth, from := 1, m[1]
	for i := from; i < len(definition); i++ {
		switch definition[i] {
		case '(':
			depth++
		case ')':
			depth--
		}
		if depth == 0 {
			return direction.ReplaceAllString(definition[from:i], "")
		}
	}
	return ""
}

var (
	indexHead = regexp.MustCompile("(?is)^\\s*CREATE\\s+UNIQUE\\s+INDEX\\b.*?\\bON\\s+(?:\"(?:[^\"]|\"\")*\"|\\[[^\\]]*\\]|`[^`]*`|[^\\s(]+)\\s*\\(")
	direction = regexp.MustCompile(`(?i)\s+(ASC|DESC)\b`)
)

func (f former) computes(column string) bool {
	c, ok := f.p.now.Column(column)
	return ok && c.Generated != ""
}

// converted is a column as its later type compares it.
func (f former) converted(column string) string {
	name := f.column(column)
	i := slices.IndexFunc(f.p.altered, func(a alteration) bool { return a.now.Name == column && a.retyped() })
	if i < 0 {
		return name
	}
	a := f.p.altered[i]
	switch f.engine {
	case catalog.Postgres:
		if a.was.Declared != a.now.Declared {
			return pgCast(a.was, a.now, name)
		}
	case catalog.MySQL:
		if a.was.Collation != a.now.Collation && a.now.Collation != "" {
			return fmt.Sprintf("CONVERT(%s USING %s) COLLATE %s", name, charset(a.now.Collation), a.now.Collation)
		}
	}
	return name
}

// expression is one of the new schema in the names of before.
func (f former) expression(expr string) string {
	for _, r := range f.renamedIn(f.p.now) {
		expr = catalog.ReplaceWord(expr, r.To, r.From)
	}
	if _, name := catalog.Split(f.p.now.FullName()); name != f.name {
		expr = catalog.ReplaceWord(expr, name, f.name)
	}
	return expr
}

// reference checks columns that must refer to rows of another table. One that is
// new itself, and one whose values come later, cannot be checked yet.
func (f former) reference(r catalog.Reference) []Check {
	target, there := f.at.Table(r.Schema, r.Table)
	if !there || target.IsView() || r.Unenforced || strings.Contains(r.Definition, "NOT VALID") || slices.ContainsFunc(r.Columns, f.p.isAdded) {
		return nil
	}
	schema, name := catalog.Split(f.oldName(target.FullName()))
	var given, same []string
	for i, c := range r.Columns {
		if _, ok := target.Column(r.Target[min(i, len(r.Target)-1)]); !ok || len(r.Target) != len(r.Columns) {
			return nil
		}
		column := "w." + f.column(c)
		given = append(given, column+" IS NOT NULL")
		to := "x." + f.targetColumn(target.FullName(), r.Target[i])
		if f.engine == catalog.Postgres {
			column, to = f.comparable(c, target, r.Target[i], column, to)
		}
		same = append(same, fmt.Sprintf("%s = %s", to, column))
	}
	from := fmt.Sprintf(" FROM %s w WHERE %s AND NOT EXISTS (SELECT 1 FROM %s x WHERE %s)", f.table(), strings.Join(given, " AND "), f.draft.table(schema, name), strings.Join(same, " AND "))
	return []Check{{Place: f.place(strings.Join(r.Columns, ", ")), Fault: "rows refer to nothing in " + catalog.Qualify(schema, name), Count: "SELECT count(*)" + from, List: "SELECT w.*" + from,
		Help: "make what they refer to, set the reference to null, or delete them", held: true, schema: f.schema, table: f.name, columns: f.columns(r.Columns)}}
}

func (f former) targetColumn(table, column string) string {
	return f.draft.name(f.oldColumn(table, column))
}

// comparable casts the two sides of a reference whose types differ before.
func (f former) comparable(column string, target *catalog.Table, to, left, right string) (a, b string) {
	was, ok := f.p.old.Column(column)
	other, there := target.Column(to)
	if !ok || !there || was.Type.Kind == other.Type.Kind || number(was.Type.Kind) && number(other.Type.Kind) {
		return left, right
	}
	return left + "::text", right + "::text"
}

// holds checks a condition of the new schema.
func (f former) holds(c catalog.Check) []Check {
	if strings.Contains(c.Options, "NOT VALID") || strings.Contains(c.Options, "NOT ENFORCED") {
		return nil
	}
	expr := f.expression(c.Expr)
	var columns []string
	for i := range f.p.now.Columns {
		column := &f.p.now.Columns[i]
		if !mentions(c.Expr, column.Name) {
			continue
		}
		if !f.p.isAdded(column.Name) {
			columns = append(columns, column.Name)
			if cast := f.converted(column.Name); cast != f.column(column.Name) && f.engine == catalog.Postgres {
				expr = replaceColumn(f.engine, expr, f.bare(column.Name), cast)
			}
			continue
		}
		switch def := column.Default; {
		case column.Generated != "" || def != nil && def.Kind != catalog.Constant || mandatory(column):
			return nil // its values come later
		case def == nil:
			expr = replaceColumn(f.engine, expr, column.Name, "NULL")
		default:
			expr = replaceColumn(f.engine, expr, column.Name, f.defaultText(column))
		}
	}
	if len(columns) == 0 {
		return nil
	}
	what := c.Name
	if what == "" {
		what = c.Expr
	}
	check := f.where("", columns, "rows break the new check "+oneLine(what), "NOT ("+expr+")", "change or delete them")
	check.held = true
	return []Check{check}
}

// replaceColumn puts an expression in place of a column, in quotes or not.
func replaceColumn(engine, expr, column, with string) string {
	mark := "\x02"
	out := catalog.ReplaceWord(expr, column, mark)
	for _, q := range []string{`"`, "`"} {
		out = strings.ReplaceAll(out, q+mark+q, mark)
	}
	return strings.ReplaceAll(out, mark, with)
}

// rowChecks are the conditions under which the rows of a table fit its new form,
// but for those that a decision is about.
func (d *draft) rowChecks(p *pair) {
	f := d.former(p)
	key := func(k catalog.Key, what string) {
		d.check(f.unique(k.Columns, "", k.Definition, what)...)
	}
	if p.keyChanged && p.now.PrimaryKey != nil {
		for _, c := range p.now.PrimaryKey.Columns {
			was, there := p.old.Column(c)
			if there && was.Nullable {
				d.check(f.notNull(c))
			}
		}
		key(*p.now.PrimaryKey, "the primary key")
	}
	retypedKey := func(columns []string) bool {
		return slices.ContainsFunc(p.altered, func(a alteration) bool {
			return slices.Contains(columns, a.now.Name) && a.retyped() && (a.was.Collation != a.now.Collation || a.was.Type.Kind != a.now.Type.Kind || !widens(a.was.Type, a.now.Type) || coarser(a))
		})
	}
	for _, k := range p.now.Uniques {
		if slices.ContainsFunc(p.addUniques, func(x catalog.Key) bool { return x.Name == k.Name && slices.Equal(x.Columns, k.Columns) }) || retypedKey(k.Columns) {
			key(k, "a unique key")
		}
	}
	if !p.keyChanged && p.now.PrimaryKey != nil && retypedKey(p.now.PrimaryKey.Columns) {
		key(*p.now.PrimaryKey, "the primary key")
	}
	for _, in := range p.addIndexes {
		if in.Unique && (!slices.Contains(in.Columns, "(expression)") || indexTerms(in.Definition) != "") {
			d.check(f.unique(in.Columns, in.Where, in.Definition, "the unique index "+in.Name)...)
		}
	}
	for _, r := range p.addReferences {
		held := slices.ContainsFunc(p.old.References, func(x catalog.Reference) bool {
			return slices.Equal(x.Columns, r.Columns) && x.Schema == r.Schema && x.Table == r.Table && slices.Equal(x.Target, r.Target) && !x.Unenforced && !strings.Contains(x.Definition, "NOT VALID")
		})
		if !held || d.engine == catalog.SQLite {
			d.check(f.reference(r)...)
		}
	}
	for _, c := range p.addChecks {
		d.check(f.holds(c)...)
	}
}
