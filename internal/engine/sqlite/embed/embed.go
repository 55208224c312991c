// Package embed makes the tables of other engines in SQLite, with its nearest types,
// so that they can be looked at without a server.
package embed

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/engine/sqlite/dialect"
)

// Tables are the statements that make the tables of a catalog. What is no table is
// left out.
func Tables(c *catalog.Catalog) (statements, left []string) {
	e := &embedding{catalog: c, names: map[*catalog.Table]string{}}
	statements = e.statements()
	return statements, e.left
}

// embedding spells a catalog of another engine in SQLite.
type embedding struct {
	catalog *catalog.Catalog
	names   map[*catalog.Table]string
	left    []string // views
}

func (e *embedding) statements() []string {
	taken := map[string]bool{}
	for i := range e.catalog.Tables {
		t := &e.catalog.Tables[i]
		if t.Kind != catalog.BaseTable {
			e.left = append(e.left, t.Name)
			continue
		}
		name := t.Name
		if taken[strings.ToLower(name)] {
			name = t.Schema + "_" + t.Name
		}
		taken[strings.ToLower(name)] = true
		e.names[t] = name
	}
	var list []string
	for i := range e.catalog.Tables {
		if t := &e.catalog.Tables[i]; t.Kind == catalog.BaseTable && len(t.Columns) > 0 {
			list = append(list, e.table(t))
		}
	}
	return list
}

func (e *embedding) table(t *catalog.Table) string {
	var lines []string
	numbered := ""
	if k := t.PrimaryKey; k != nil && len(k.Columns) == 1 {
		if c, ok := t.Column(k.Columns[0]); ok && c.Type.Kind == catalog.Int {
			numbered = c.Name
		}
	}
	for i := range t.Columns {
		lines = append(lines, e.column(&t.Columns[i], numbered))
	}
	if t.PrimaryKey != nil && numbered == "" {
		lines = append(lines, "PRIMARY KEY ("+quotedNames(t.PrimaryKey.Columns)+")")
	}
	for _, k := range t.Uniques {
		if !slices.Contains(k.Columns, "(expression)") && k.Definition == "" {
			lines = append(lines, "UNIQUE ("+quotedNames(k.Columns)+")")
		}
	}
	for _, r := range t.References {
		if target, ok := e.catalog.Table(r.Schema, r.Table); ok && e.names[target] != "" {
			lines = append(lines, "FOREIGN KEY ("+quotedNames(r.Columns)+") REFERENCES "+dialect.SQLite.Quoted(e.names[target])+" ("+quotedNames(r.Target)+")"+action(" ON DELETE ", r.OnDelete)+action(" ON UPDATE ", r.OnUpdate))
		}
	}
	comment := ""
	if t.Comment != "" {
		comment = " -- " + strings.Join(strings.Fields(t.Comment), " ")
	}
	return "CREATE TABLE " + dialect.SQLite.Quoted(e.names[t]) + " (" + comment + "\n    " + strings.Join(lines, ",\n    ") + "\n)"
}

func action(words, what string) string {
	if what == "" {
		return ""
	}
	return words + strings.ToUpper(what)
}

// fixedTypes are the names of types that SQLite columns are declared with.
var fixedTypes = map[catalog.TypeKind]string{
	catalog.Int: "INTEGER", catalog.Float: "REAL", catalog.Bool: "BOOLEAN", catalog.Bytes: "BLOB", catalog.Date: "DATE", catalog.Time: "TIME",
	catalog.Timestamp: "TIMESTAMP", catalog.TimestampTZ: "TIMESTAMPTZ", catalog.UUID: "UUID", catalog.JSON: "JSON", catalog.Money: "DECIMAL",
}

func typeName(t catalog.Type) string {
	if name := fixedTypes[t.Kind]; name != "" {
		return name
	}
	switch {
	case t.Kind == catalog.Decimal && t.Precision > 0:
		return fmt.Sprintf("DECIMAL(%d,%d)", t.Precision, t.Scale)
	case t.Kind == catalog.Decimal:
		return "DECIMAL"
	case t.Kind == catalog.Text && t.Size > 0:
		return fmt.Sprintf("VARCHAR(%d)", t.Size)
	}
	return "TEXT"
}

func (e *embedding) column(c *catalog.Column, numbered string) string {
	text := dialect.SQLite.Quoted(c.Name) + " " + typeName(c.Type)
	if c.Name == numbered {
		return text + " PRIMARY KEY"
	}
	if !c.Nullable {
		text += " NOT NULL"
	}
	if value := defaultText(c); value != "" {
		text += " DEFAULT " + value
	}
	if labels := e.labels(c.Type); len(labels) > 0 {
		quoted := make([]string, len(labels))
		for i, l := range labels {
			quoted[i] = "'" + strings.ReplaceAll(l, "'", "''") + "'"
		}
		text += " CHECK (" + dialect.SQLite.Quoted(c.Name) + " IN (" + strings.Join(quoted, ", ") + "))"
	}
	return text
}

// labels are those of an enum.
func (e *embedding) labels(t catalog.Type) []string {
	if t.Kind != catalog.EnumKind {
		return nil
	}
	for _, enum := range e.catalog.Enums {
		if t.Enum == enum.Name || t.Enum == enum.Schema+"."+enum.Name {
			return enum.Labels
		}
	}
	return t.Labels
}

// currentTimes are the expressions of engines for the time at which a row is made,
// by which kind of value they give.
var currentTimes = map[catalog.TypeKind]string{
	catalog.Date: "CURRENT_DATE", catalog.Time: "CURRENT_TIME", catalog.Timestamp: "CURRENT_TIMESTAMP", catalog.TimestampTZ: "CURRENT_TIMESTAMP",
}

func defaultText(c *catalog.Column) string {
	d := c.Default
	switch {
	case d == nil || d.Kind == catalog.Identity:
		return ""
	case d.Kind == catalog.Expression:
		return currentTimes[c.Type.Kind] // anything else is another engine's to say
	case c.Type.Kind == catalog.Int || c.Type.Kind == catalog.Float || c.Type.Kind == catalog.Decimal:
		return d.Text
	case c.Type.Kind == catalog.Bool:
		return strings.ToUpper(d.Text)
	}
	return "'" + strings.ReplaceAll(d.Text, "'", "''") + "'"
}

func quotedNames(names []string) string {
	list := make([]string, len(names))
	for i, n := range names {
		list[i] = dialect.SQLite.Quoted(n)
	}
	return strings.Join(list, ", ")
}
