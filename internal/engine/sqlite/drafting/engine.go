// Package drafting spells the scripts of migration for SQLite.
package drafting

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/migration"

	"widegate/internal/catalog"
	"widegate/internal/engine/sqlite/dialect"
	"widegate/internal/sqltext"
)

// Engine spells scripts for SQLite.
type Engine struct{}

func (Engine) Dialect() *sqltext.Dialect { return dialect.SQLite }

func (Engine) Traits() migration.Traits {
	return migration.Traits{
		Runner:           "sqlite3 DATABASE < FILE",
		Promise:          "It is one transaction: all of it is done, or nothing. Do not run it inside of another transaction.",
		NamesIndexesOnly: true, ChecksEveryRow: true, IndexesExpressions: true, AnonymousReferences: true, UniqueIndexes: true,
	}
}

func (Engine) Write(d *migration.Writing) { (&sqlite{Writing: d}).write() }

func (Engine) ProofSession() (unhelpful, usual []string) {
	return []string{"PRAGMA foreign_keys = ON"}, nil
}

func (Engine) Zero(*catalog.Column) string { return "" }

func (Engine) Default(*catalog.Column) string { return "" }

func (Engine) Words(column string) (head, tail string) {
	return fmt.Sprintf("substr(%s || ' ', 1, instr(%[1]s || ' ', ' ') - 1)", column), fmt.Sprintf("ltrim(substr(%s, instr(%[1]s || ' ', ' ')))", column)
}

func (Engine) Sample(catalog.Type, int) string { return "" }

func (Engine) Join(parts []string) string { return migration.Bars(parts) }

func (Engine) Text(column string) string { return "coalesce(CAST(" + column + " AS TEXT), 'null')" }

func (Engine) Literal(_ *catalog.Column, name string) string { return "quote(" + name + ")" }

func (Engine) Update(d *migration.Writing, p *migration.Pair, sets, where string) []string {
	return []string{migration.UpdateText(d.TableOf(p.Now), sets, where)}
}

func (Engine) CreateAs(table, query string) string {
	return fmt.Sprintf("CREATE TABLE %s AS %s", table, query)
}

func (e Engine) Free(_, name string) []migration.Check {
	return []migration.Check{migration.Taken(name, fmt.Sprintf(" FROM sqlite_schema WHERE lower(name) = lower(%s)", e.Dialect().Literal(name)))}
}

func (Engine) OnlyWith(_, _ string, _, statements []string) []string { return statements }

func (Engine) Once(insert, _, _, _, _, _ string) string { return insert }

func (Engine) IfEmpty(_ *catalog.Table, _, insert string) []string { return []string{insert} }

func (Engine) GoOn(*catalog.Table, *catalog.Column) string { return "" }

func (Engine) RenameTable(d *migration.Writing, t *catalog.Table, name string) string {
	return fmt.Sprintf("ALTER TABLE %s RENAME TO %s", d.TableOf(t), d.Name(name))
}

func (Engine) Cast(_, _ *catalog.Column, expr string) string { return expr }

func (Engine) Compared(_ migration.Alteration, column string) string { return column }

func (Engine) Comparable(_, _ catalog.TypeKind, left, right string) (a, b string) { return left, right }

func (Engine) Conversion(d *migration.Writing, a migration.Alteration, column string, strict bool) migration.Conversion {
	return liteConversion(d, a, column, strict)
}

// Declared knows that a strict table takes only a few types.
func (Engine) Declared(word, inside string, options []string) string {
	strict := slices.Contains(options, "strict")
	switch {
	case inside != "" && strict:
		return map[string]string{"text": "TEXT", "decimal": "ANY"}[word]
	case inside != "":
		return map[string]string{"text": "VARCHAR", "decimal": "DECIMAL"}[word] + "(" + inside + ")"
	case strict && slices.Contains([]string{"date", "time", "timestamp", "uuid", "json"}, word):
		return "TEXT"
	case strict && word == "bool":
		return "INTEGER"
	}
	return map[string]string{
		"text": "TEXT", "int": "INTEGER", "bigint": "INTEGER", "float": "REAL", "bool": "BOOLEAN", "date": "DATE", "time": "TIME",
		"timestamp": "TIMESTAMP", "uuid": "UUID", "json": "JSON", "bytes": "BLOB",
	}[word]
}

// Options are strict where all other tables are.
func (Engine) Options(c *catalog.Catalog) []string {
	strict := func(t catalog.Table) bool { return t.IsView() || slices.Contains(t.Options, "strict") }
	if len(c.Tables) > 0 && !slices.ContainsFunc(c.Tables, func(t catalog.Table) bool { return !strict(t) }) {
		return []string{"strict"}
	}
	return nil
}

func (Engine) KeyName(*catalog.Table) string { return "" }

func (e Engine) Enum(_ *catalog.Catalog, t *catalog.Table, column string, labels []string) (string, catalog.Type) {
	t.Checks = append(t.Checks, catalog.Check{Expr: e.Dialect().Ident(column) + " IN (" + strings.Join(migration.Quoted(e.Dialect(), labels), ", ") + ")"})
	return "TEXT", catalog.Type{Kind: catalog.Text, Labels: labels}
}

// Extended puts new columns behind the last one that is there.
func (e Engine) Extended(t *catalog.Table, isNew func(string) bool) {
	d := &sqlite{Writing: &migration.Writing{Engine: e, SQL: e.Dialect()}}
	var added []string
	for i := range t.Columns {
		if c := &t.Columns[i]; isNew(c.Name) {
			added = append(added, ",\n  "+d.columnText(t, c))
		}
	}
	end := 0
	for _, item := range items(t.Definition) {
		if !slices.ContainsFunc([]string{"CONSTRAINT", "PRIMARY", "UNIQUE", "CHECK", "FOREIGN"}, item[0].Is) {
			end = item[len(item)-1].To
		}
	}
	if end > 0 {
		t.Definition = t.Definition[:end] + strings.Join(added, "") + t.Definition[end:]
	} else {
		t.Definition = ""
	}
}
