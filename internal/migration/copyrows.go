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
func CopyRows(ctx context.Context, schema *catalog.Catalog, exec func(ctx context.Context, statement string) error, names func(ctx context.Context, query string) ([]string, error)) (empty []string, err error) {
	d := &draft{engine: schema.Engine, at: schema, after: schema}
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
func (d *draft) rowStatements(t *catalog.Table) string {
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
		values = append(values, d.asLiteral(c))
	}
	head := fmt.Sprintf("INSERT INTO %s (%s)%s VALUES (", d.tableOf(t), d.names(columns), always)
	limits := d.within(t)
	if d.engine == catalog.MySQL {
		return fmt.Sprintf("SELECT concat(%s, %s, ')') FROM %s%s LIMIT %d", literal(d.engine, head), strings.Join(values, ", ', ', "), d.tableOf(t), limits, copiedRows)
	}
	return fmt.Sprintf("SELECT %s || %s || ')' FROM %s%s LIMIT %d", literal(d.engine, head), strings.Join(values, " || ', ' || "), d.tableOf(t), limits, copiedRows)
}

// asLiteral is a value as the text of a statement.
func (d *draft) asLiteral(c *catalog.Column) string {
	name := d.name(c.Name)
	switch d.engine {
	case catalog.Postgres:
		return "quote_nullable(" + name + "::text)"
	case catalog.MySQL:
		if c.Type.Kind == catalog.Bytes {
			return fmt.Sprintf("if(%s IS NULL, 'NULL', concat('x''', hex(%[1]s), ''''))", name)
		}
		return "quote(" + name + ")"
	}
	return "quote(" + name + ")"
}

// within keeps to the rows whose references lead to rows that are copied too.
func (d *draft) within(t *catalog.Table) string {
	var list []string
	for _, r := range t.References {
		target, ok := d.at.Table(r.Schema, r.Table)
		if !ok || len(r.Columns) != 1 || len(r.Target) != 1 || target == t {
			continue
		}
		column, key := d.name(r.Columns[0]), d.name(r.Target[0])
		list = append(list, fmt.Sprintf("(%s IS NULL OR %[1]s IN (SELECT %s FROM (SELECT %[2]s FROM %s ORDER BY 1 LIMIT %d) x))", column, key, d.tableOf(target), copiedRows))
	}
	order := ""
	if t.PrimaryKey != nil {
		order = " ORDER BY " + d.names(t.PrimaryKey.Columns)
	}
	if len(list) == 0 {
		return order
	}
	return " WHERE " + strings.Join(list, " AND ") + order
}
