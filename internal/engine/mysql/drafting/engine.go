// Package drafting spells the scripts of migration for MySQL and MariaDB.
package drafting

import (
	"fmt"
	"strings"

	"widegate/internal/migration"

	"widegate/internal/catalog"
	"widegate/internal/engine/mysql/dialect"
	"widegate/internal/sqltext"
)

// Engine spells scripts for MySQL and MariaDB.
type Engine struct{}

func (Engine) Dialect() *sqltext.Dialect { return dialect.MySQL }

func (Engine) Traits() migration.Traits {
	return migration.Traits{
		Runner: "mariadb DATABASE < FILE",
		Promise: "The server ends a transaction at each change of a schema, so the script first tests the rows, " +
			"changes nothing if a test fails, and stops at the first step that fails. After an interruption run it again from the start: " +
			"steps that are done are passed over. (MySQL, unlike MariaDB, stops at them: delete the steps that are done first.)",
		Bodies: true, OrderCounts: true, TriggersStay: true, IndexesReferences: true, NamelessEnums: true,
	}
}

func (Engine) Write(d *migration.Writing) { (&mysql{Writing: d}).write() }

func (Engine) ProofSession() (unhelpful, usual []string) {
	return []string{"SET SESSION sql_mode = ''", "SET SESSION time_zone = '+12:45'", "SET SESSION foreign_key_checks = 0"},
		[]string{"SET SESSION sql_mode = DEFAULT, SESSION time_zone = DEFAULT, SESSION foreign_key_checks = 1"}
}

func (Engine) Zero(*catalog.Column) string { return "" }

func (Engine) Default(*catalog.Column) string { return "" }

func (Engine) Words(column string) (head, tail string) {
	return fmt.Sprintf("substring_index(%s, ' ', 1)", column), fmt.Sprintf("ltrim(substr(%s, char_length(substring_index(%[1]s, ' ', 1)) + 1))", column)
}

func (Engine) Sample(catalog.Type, int) string { return "" }

func (Engine) Join(parts []string) string { return "concat(" + strings.Join(parts, ", ") + ")" }

func (Engine) Text(column string) string { return "coalesce(cast(" + column + " AS char), 'null')" }

func (Engine) Literal(c *catalog.Column, name string) string {
	if c.Type.Kind == catalog.Bytes {
		return fmt.Sprintf("if(%s IS NULL, 'NULL', concat('x''', hex(%[1]s), ''''))", name)
	}
	return "quote(" + name + ")"
}

// Update has the triggers of the table go first, and come back at the end.
func (Engine) Update(d *migration.Writing, p *migration.Pair, sets, where string) []string {
	for _, c := range p.Now.Columns {
		if was, ok := p.Old.Column(c.Name); ok && was.OnUpdate != "" {
			sets += fmt.Sprintf(", %s = %[1]s", d.Name(c.Name))
		}
	}
	p.Quiet = true
	return []string{migration.UpdateText(d.TableOf(p.Now), sets, where)}
}

// keptComment marks what a script has put aside, so that running it again knows
// its own table.
const keptComment = "put aside by a migration"

func (Engine) CreateAs(table, query string) string {
	return fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s COMMENT = '%s' AS %s", table, keptComment, query)
}

func (e Engine) Free(schema, name string) []migration.Check {
	return []migration.Check{migration.Taken(name, fmt.Sprintf(" FROM information_schema.tables WHERE table_schema = %s AND table_name = %s AND table_comment <> %s", schemaText(schema), e.Dialect().Literal(name), e.Dialect().Literal(keptComment)))}
}

func (Engine) OnlyWith(schema, table string, columns, statements []string) []string {
	var list []string
	for _, s := range statements {
		list = append(list, onlyIf(present(schema, table, columns), s)...)
	}
	return list
}

func (Engine) Once(insert, where, table, into, source, from string) string {
	if strings.Contains(where, " OR ") {
		insert = strings.Replace(insert, " WHERE "+where, " WHERE ("+where+")", 1)
	}
	return insert + fmt.Sprintf(" AND NOT EXISTS (SELECT 1 FROM %s x WHERE x.%s = %s.%s)", table, into, source, from)
}

func (Engine) IfEmpty(t *catalog.Table, table, insert string) []string {
	return onlyIf(present(t.Schema, t.Name, nil)+fmt.Sprintf(" AND NOT EXISTS (SELECT 1 FROM %s)", table), insert)
}

func (Engine) GoOn(*catalog.Table, *catalog.Column) string { return "" }

func (Engine) RenameTable(d *migration.Writing, t *catalog.Table, name string) string {
	return fmt.Sprintf("RENAME TABLE %s%s TO %s", ifExists, d.TableOf(t), d.Table(t.Schema, name))
}

func (Engine) Cast(_, _ *catalog.Column, expr string) string { return expr }

func (Engine) Compared(a migration.Alteration, column string) string {
	if a.Was.Collation != a.Now.Collation && a.Now.Collation != "" {
		return fmt.Sprintf("CONVERT(%s USING %s) COLLATE %s", column, charset(a.Now.Collation), a.Now.Collation)
	}
	return column
}

func (Engine) Comparable(_, _ catalog.TypeKind, left, right string) (a, b string) { return left, right }

func (Engine) Conversion(d *migration.Writing, a migration.Alteration, column string, _ bool) migration.Conversion {
	return myConversion(d, a, column)
}

func (Engine) Declared(word, inside string, _ []string) string {
	if inside != "" {
		return map[string]string{"text": "varchar", "decimal": "decimal"}[word] + "(" + inside + ")"
	}
	return map[string]string{
		"text": "text", "int": "int", "bigint": "bigint", "float": "double", "bool": "tinyint(1)", "date": "date", "time": "time",
		"timestamp": "timestamp", "uuid": "uuid", "json": "json", "bytes": "longblob",
	}[word]
}

func (Engine) Options(*catalog.Catalog) []string { return nil }

func (Engine) KeyName(*catalog.Table) string { return "PRIMARY" }

func (e Engine) Enum(_ *catalog.Catalog, _ *catalog.Table, _ string, labels []string) (string, catalog.Type) {
	return "enum(" + strings.Join(migration.Quoted(e.Dialect(), labels), ",") + ")", catalog.Type{Kind: catalog.EnumKind, Labels: labels}
}

func (Engine) Extended(*catalog.Table, func(string) bool) {}

func schemaText(schema string) string {
	if schema == "" {
		return "database()"
	}
	return dialect.MySQL.Literal(schema)
}
