package migration

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// Former is a table under the names that it has before anything changes.
type Former struct {
	*Writing
	p            *Pair
	schema, name string
}

// Former is the table of a pair as it is before.
func (d *Writing) Former(p *Pair) Former {
	schema, name := catalog.Split(d.OldName(p.Now.FullName()))
	return Former{d, p, schema, name}
}

// Table is its name.
func (f Former) Table() string { return f.Writing.Table(f.schema, f.name) }

// Column is the name of a column before, in quotes where it needs them.
func (f Former) Column(name string) string { return f.Writing.Name(f.bare(name)) }

func (f Former) bare(name string) string { return f.oldColumn(f.p.Now.FullName(), name) }

func (f Former) columns(list []string) []string {
	out := make([]string, len(list))
	for i, c := range list {
		out[i] = f.bare(c)
	}
	return out
}

// place is what a message calls a column of the table.
func (f Former) place(column string) string {
	full := catalog.Qualify(f.schema, f.name)
	if column == "" {
		return full
	}
	return full + "." + f.bare(column)
}

// Where makes a check of a condition on single rows.
func (f Former) Where(column string, columns []string, fault, condition, help string) Check {
	from := " FROM " + f.Table() + " WHERE " + condition
	return Check{Place: f.place(column), Fault: fault, Count: "SELECT count(*)" + from, List: "SELECT *" + from, Help: help,
		Schema: f.schema, Table: f.name, Columns: f.columns(columns)}
}

// added reports whether a column is new.
func (p *Pair) IsAdded(name string) bool {
	return slices.ContainsFunc(p.Added, func(c *catalog.Column) bool { return c.Name == name })
}

// notNull checks a column that must have a value from now on.
func (f Former) notNull(column string) Check {
	return f.Where(column, []string{column}, "rows have no value, and must have one", f.Column(column)+" IS NULL",
		"give them a value, copy them aside, or delete them")
}

// unique checks columns whose values must differ from row to row. A column that
// is new has the same value in all rows.
func (f Former) unique(columns []string, where, definition, what string) []Check {
	nullsToo := strings.Contains(definition, "NULLS NOT DISTINCT")
	var terms, known, filters []string
	for _, c := range columns {
		if strings.HasPrefix(c, "(") {
			terms = append(terms, f.expression(c))
			continue
		}
		if f.p.IsAdded(c) {
			if added, ok := f.p.Now.Column(c); ok && (added.Default == nil || added.Default.Kind != catalog.Constant) || f.computes(c) {
				return nil // nulls, or a value for each row
			}
			continue
		}
		known = append(known, c)
		terms = append(terms, f.converted(c))
		if !nullsToo {
			filters = append(filters, f.Column(c)+" IS NOT NULL")
		}
	}
	if where != "" {
		filters = append(filters, "("+f.expression(where)+")")
	}
	from := " FROM " + f.Table()
	if len(filters) > 0 {
		from += " WHERE " + strings.Join(filters, " AND ")
	}
	check := Check{Place: f.place(strings.Join(columns, ", ")), Fault: "values are there more than once, and " + what + " lets each be there once",
		Help: "change or delete the rows that are too many", Held: true, Schema: f.schema, Table: f.name, Columns: f.columns(known)}
	if len(terms) == 0 {
		check.Fault = "rows get the same value, and " + what + " lets each be there once"
		check.Count = "SELECT CASE WHEN count(*) > 1 THEN count(*) ELSE 0 END" + from
		check.List = "SELECT *" + from
		return []Check{check}
	}
	if of := indexTerms(definition); f.Engine.Traits().IndexesExpressions && of != "" && !slices.ContainsFunc(columns, f.p.IsAdded) {
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

func (f Former) computes(column string) bool {
	c, ok := f.p.Now.Column(column)
	return ok && c.Generated != ""
}

// converted is a column as its later type compares it.
func (f Former) converted(column string) string {
	name := f.Column(column)
	i := slices.IndexFunc(f.p.Altered, func(a Alteration) bool { return a.Now.Name == column && a.Retyped() })
	if i < 0 {
		return name
	}
	return f.Engine.Compared(f.p.Altered[i], name)
}

// cast is a column as its later type has it.
func (f Former) cast(column string) string {
	name := f.Column(column)
	i := slices.IndexFunc(f.p.Altered, func(a Alteration) bool { return a.Now.Name == column && a.Retyped() })
	if i < 0 {
		return name
	}
	return f.Engine.Cast(f.p.Altered[i].Was, f.p.Altered[i].Now, name)
}

// expression is one of the new schema in the names of before.
func (f Former) expression(expr string) string {
	for _, r := range f.RenamedIn(f.p.Now) {
		expr = catalog.ReplaceWord(expr, r.To, r.From)
	}
	if _, name := catalog.Split(f.p.Now.FullName()); name != f.name {
		expr = catalog.ReplaceWord(expr, name, f.name)
	}
	return expr
}

// Reference checks columns that must refer to rows of another table. One that is
// new itself, and one whose values come later, cannot be checked yet.
func (f Former) Reference(r catalog.Reference) []Check {
	target, there := f.At.Table(r.Schema, r.Table)
	if !there || target.IsView() || r.Unenforced || strings.Contains(r.Definition, "NOT VALID") || slices.ContainsFunc(r.Columns, f.p.IsAdded) {
		return nil
	}
	schema, name := catalog.Split(f.OldName(target.FullName()))
	var given, same []string
	for i, c := range r.Columns {
		if _, ok := target.Column(r.Target[min(i, len(r.Target)-1)]); !ok || len(r.Target) != len(r.Columns) {
			return nil
		}
		column := "w." + f.Column(c)
		given = append(given, column+" IS NOT NULL")
		to := "x." + f.targetColumn(target.FullName(), r.Target[i])
		column, to = f.comparable(c, target, r.Target[i], column, to)
		same = append(same, fmt.Sprintf("%s = %s", to, column))
	}
	from := fmt.Sprintf(" FROM %s w WHERE %s AND NOT EXISTS (SELECT 1 FROM %s x WHERE %s)", f.Table(), strings.Join(given, " AND "), f.Writing.Table(schema, name), strings.Join(same, " AND "))
	return []Check{{Place: f.place(strings.Join(r.Columns, ", ")), Fault: "rows refer to nothing in " + catalog.Qualify(schema, name), Count: "SELECT count(*)" + from, List: "SELECT w.*" + from,
		Help: "make what they refer to, set the reference to null, or delete them", Held: true, Schema: f.schema, Table: f.name, Columns: f.columns(r.Columns)}}
}

func (f Former) targetColumn(table, column string) string {
	return f.Writing.Name(f.oldColumn(table, column))
}

// comparable casts the two sides of a reference whose types differ before.
func (f Former) comparable(column string, target *catalog.Table, to, left, right string) (a, b string) {
	was, ok := f.p.Old.Column(column)
	other, there := target.Column(to)
	if !ok || !there {
		return left, right
	}
	return f.Engine.Comparable(was.Type.Kind, other.Type.Kind, left, right)
}

// holds checks a condition of the new schema.
func (f Former) holds(c catalog.Check) []Check {
	if strings.Contains(c.Options, "NOT VALID") || strings.Contains(c.Options, "NOT ENFORCED") {
		return nil
	}
	expr := f.expression(c.Expr)
	var columns []string
	for i := range f.p.Now.Columns {
		column := &f.p.Now.Columns[i]
		if !Mentions(c.Expr, column.Name) {
			continue
		}
		if !f.p.IsAdded(column.Name) {
			columns = append(columns, column.Name)
			if cast := f.cast(column.Name); cast != f.Column(column.Name) {
				expr = replaceColumn(expr, f.bare(column.Name), cast)
			}
			continue
		}
		switch def := column.Default; {
		case column.Generated != "" || def != nil && def.Kind != catalog.Constant || Mandatory(column):
			return nil // its values come later
		case def == nil:
			expr = replaceColumn(expr, column.Name, "NULL")
		default:
			expr = replaceColumn(expr, column.Name, f.DefaultText(column))
		}
	}
	if len(columns) == 0 {
		return nil
	}
	what := c.Name
	if what == "" {
		what = c.Expr
	}
	check := f.Where("", columns, "rows break the new check "+OneLine(what), "NOT ("+expr+")", "change or delete them")
	check.Held = true
	return []Check{check}
}

// replaceColumn puts an expression in place of a column, in quotes or not.
func replaceColumn(expr, column, with string) string {
	mark := "\x02"
	out := catalog.ReplaceWord(expr, column, mark)
	for _, q := range []string{`"`, "`"} {
		out = strings.ReplaceAll(out, q+mark+q, mark)
	}
	return strings.ReplaceAll(out, mark, with)
}

// RowChecks are the conditions under which the rows of a table fit its new form,
// but for those that a decision is about.
func (d *Writing) RowChecks(p *Pair) {
	f := d.Former(p)
	key := func(k catalog.Key, what string) {
		d.Check(f.unique(k.Columns, "", k.Definition, what)...)
	}
	if p.KeyChanged && p.Now.PrimaryKey != nil {
		for _, c := range p.Now.PrimaryKey.Columns {
			was, there := p.Old.Column(c)
			if there && was.Nullable {
				d.Check(f.notNull(c))
			}
		}
		key(*p.Now.PrimaryKey, "the primary key")
	}
	retypedKey := func(columns []string) bool {
		return slices.ContainsFunc(p.Altered, func(a Alteration) bool {
			return slices.Contains(columns, a.Now.Name) && a.Retyped() && (a.Was.Collation != a.Now.Collation || a.Was.Type.Kind != a.Now.Type.Kind || !Widens(a.Was.Type, a.Now.Type) || Coarser(a))
		})
	}
	for _, k := range p.Now.Uniques {
		if slices.ContainsFunc(p.AddUniques, func(x catalog.Key) bool { return x.Name == k.Name && slices.Equal(x.Columns, k.Columns) }) || retypedKey(k.Columns) {
			key(k, "a unique key")
		}
	}
	if !p.KeyChanged && p.Now.PrimaryKey != nil && retypedKey(p.Now.PrimaryKey.Columns) {
		key(*p.Now.PrimaryKey, "the primary key")
	}
	for _, in := range p.AddIndexes {
		if in.Unique && (!slices.Contains(in.Columns, "(expression)") || indexTerms(in.Definition) != "") {
			d.Check(f.unique(in.Columns, in.Where, in.Definition, "the unique index "+in.Name)...)
		}
	}
	for _, r := range p.AddReferences {
		held := slices.ContainsFunc(p.Old.References, func(x catalog.Reference) bool {
			return slices.Equal(x.Columns, r.Columns) && x.Schema == r.Schema && x.Table == r.Table && slices.Equal(x.Target, r.Target) && !x.Unenforced && !strings.Contains(x.Definition, "NOT VALID")
		})
		if !held || d.Engine.Traits().ChecksEveryRow {
			d.Check(f.Reference(r)...)
		}
	}
	for _, c := range p.AddChecks {
		d.Check(f.holds(c)...)
	}
}
