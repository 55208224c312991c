package migration

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// copiedRows is how many rows of a table are copied for a proof.
const copiedRows = 1000

// CopyRows fills the tables of a database with rows of another one of the same
// schema, at most a thousand a table and those that they refer to among them. It
// says which tables stay empty, and why.
func CopyRows(ctx context.Context, e Engine, schema *catalog.Catalog, exec func(ctx context.Context, statement string) error, names func(ctx context.Context, query string) ([]string, error)) (empty []string, err error) {
	d := &Writing{Engine: e, SQL: e.Dialect(), At: schema, After: schema}
	var tables []*catalog.Table
	for i := range schema.Tables {
		if t := &schema.Tables[i]; !t.IsView() && !slices.Contains(t.Options, "foreign") && !slices.Contains(t.Options, "virtual") {
			tables = append(tables, t)
		}
	}
	for _, t := range byReferences(tables) {
		statements, err := names(ctx, d.rowStatements(t))
		if err != nil {
			return nil, fmt.Errorf("reading rows of %s: %w", t.FullName(), err)
		}
		var reason error
		taken, left := 0, 0
		for _, s := range statements {
			if fault := exec(ctx, s); fault != nil {
				reason, left = fault, left+1
			} else {
				taken++
			}
		}
		switch {
		case len(statements) == 0:
			empty = append(empty, t.FullName()+": it is empty there too")
		case taken == 0:
			empty = append(empty, fmt.Sprintf("%s: %v", t.FullName(), reason))
		case left > 0:
			empty = append(empty, fmt.Sprintf("%s: %d of %d rows, such as: %v", t.FullName(), left, len(statements), reason))
		}
	}
	return empty, nil
}

// rowStatements is the query that gives rows as the statements that make them.
func (d *Writing) rowStatements(t *catalog.Table) string {
	var columns, values []string
	always := ""
	for i := range t.Columns {
		c := &t.Columns[i]
		if c.Generated != "" {
			continue
		}
		if c.Default != nil && c.Default.Always {
			always = " OVERRIDING SYSTEM VALUE"
		}
		columns = append(columns, c.Name)
		values = append(values, d.Engine.Literal(c, d.Name(c.Name)))
	}
	head := fmt.Sprintf("INSERT INTO %s (%s)%s VALUES (", d.TableOf(t), d.Names(columns), always)
	limits := d.within(t)
	parts := []string{d.SQL.Literal(head)}
	for i, v := range values {
		if i > 0 {
			parts = append(parts, "', '")
		}
		parts = append(parts, v)
	}
	parts = append(parts, "')'")
	return fmt.Sprintf("SELECT %s FROM %s%s LIMIT %d", d.Engine.Join(parts), d.TableOf(t), limits, copiedRows)
}

// within keeps to the rows whose references lead to rows that are copied too.
func (d *Writing) within(t *catalog.Table) string {
	var list []string
	for _, r := range t.References {
		target, ok := d.At.Table(r.Schema, r.Table)
		if !ok || len(r.Columns) != 1 || len(r.Target) != 1 || target == t {
			continue
		}
		column, key := d.Name(r.Columns[0]), d.Name(r.Target[0])
		list = append(list, fmt.Sprintf("(%s IS NULL OR %[1]s IN (SELECT %s FROM (SELECT %[2]s FROM %s ORDER BY 1 LIMIT %d) x))", column, key, d.TableOf(target), copiedRows))
	}
	order := ""
	if t.PrimaryKey != nil {
		order = " ORDER BY " + d.Names(t.PrimaryKey.Columns)
	}
	if len(list) == 0 {
		return order
	}
	return " WHERE " + strings.Join(list, " AND ") + order
}
