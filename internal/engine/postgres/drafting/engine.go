// Package drafting spells the scripts of migration for PostgreSQL.
package drafting

import (
	"fmt"
	"slices"

	"widegate/internal/migration"

	"widegate/internal/catalog"
	"widegate/internal/engine/postgres/dialect"
	"widegate/internal/sqltext"
)

// Engine spells scripts for PostgreSQL.
type Engine struct{}

func (Engine) Dialect() *sqltext.Dialect { return dialect.PostgreSQL }

func (Engine) Traits() migration.Traits {
	return migration.Traits{
		Runner:         "psql -f FILE",
		Promise:        "It is one transaction: all of it is done, or nothing.",
		ComputedFollow: true, NamesConstraints: true, Defers: true, RetypesLast: true,
	}
}

func (Engine) Write(d *migration.Writing) { (&postgres{Writing: d}).write() }

func (Engine) ProofSession() (unhelpful, usual []string) {
	return []string{"SET TimeZone = 'Pacific/Chatham'", "SET DateStyle = 'SQL, DMY'", "SET search_path = pg_catalog"}, []string{"RESET ALL"}
}

func (Engine) Zero(c *catalog.Column) string {
	return map[catalog.TypeKind]string{catalog.Bool: "false", catalog.UUID: "gen_random_uuid()"}[c.Type.Kind]
}

func (Engine) Default(c *catalog.Column) string {
	if c.Default.Kind == catalog.Expression || c.Type.Kind == catalog.Bool {
		return c.Default.Text
	}
	return ""
}

func (Engine) Words(column string) (head, tail string) {
	return fmt.Sprintf("split_part(%s, ' ', 1)", column), fmt.Sprintf("ltrim(substr(%s, length(split_part(%[1]s, ' ', 1)) + 1))", column)
}

func (Engine) Sample(t catalog.Type, n int) string {
	switch t.Kind {
	case catalog.Bool:
		return fmt.Sprint(n%2 == 0)
	case catalog.Bytes:
		return fmt.Sprintf(`'\x%02d'`, n)
	}
	return ""
}

func (Engine) Join(parts []string) string { return migration.Bars(parts) }

func (Engine) Text(column string) string { return "coalesce(" + column + "::text, 'null')" }

func (Engine) Literal(_ *catalog.Column, name string) string {
	return "quote_nullable(" + name + "::text)"
}

func (Engine) Update(d *migration.Writing, p *migration.Pair, sets, where string) []string {
	table := d.TableOf(p.Now)
	var off, on []string
	for _, t := range p.Old.Triggers {
		if p.Undone[t.Name] || slices.ContainsFunc(p.Old.Extras, func(e catalog.Extra) bool { return e.Kind == "trigger state" && e.Name == t.Name }) {
			continue
		}
		off = append(off, fmt.Sprintf("ALTER TABLE %s DISABLE TRIGGER %s", table, d.Name(t.Name)))
		on = append(on, fmt.Sprintf("ALTER TABLE %s ENABLE TRIGGER %s", table, d.Name(t.Name)))
	}
	return slices.Concat(off, []string{migration.UpdateText(table, sets, where)}, on)
}

func (Engine) CreateAs(table, query string) string {
	return fmt.Sprintf("CREATE TABLE %s AS %s", table, query)
}

func (Engine) Free(string, string) []migration.Check { return nil }

func (Engine) OnlyWith(_, _ string, _, statements []string) []string { return statements }

func (Engine) Once(insert, _, _, _, _, _ string) string { return insert }

func (Engine) IfEmpty(_ *catalog.Table, _, insert string) []string { return []string{insert} }

func (Engine) GoOn(t *catalog.Table, c *catalog.Column) string {
	if !ownNumbers(c.Default) {
		return ""
	}
	return (&postgres{Writing: &migration.Writing{Engine: Engine{}, SQL: dialect.PostgreSQL}}).goOn(t, c)
}

func (Engine) RenameTable(d *migration.Writing, t *catalog.Table, name string) string {
	return fmt.Sprintf("ALTER TABLE %s RENAME TO %s", d.TableOf(t), d.Name(name))
}

func (Engine) Cast(was, now *catalog.Column, expr string) string {
	if was.Declared == now.Declared {
		return expr
	}
	return pgCast(was, now, expr)
}

func (e Engine) Compared(a migration.Alteration, column string) string {
	return e.Cast(a.Was, a.Now, column)
}

func (Engine) Comparable(was, target catalog.TypeKind, left, right string) (a, b string) {
	if was == target || migration.Number(was) && migration.Number(target) {
		return left, right
	}
	return left + "::text", right + "::text"
}

func (Engine) Conversion(d *migration.Writing, a migration.Alteration, column string, _ bool) migration.Conversion {
	return pgConversion(d, a, column)
}

func (Engine) Declared(word, inside string, _ []string) string {
	if inside != "" {
		return map[string]string{"text": "character varying", "decimal": "numeric"}[word] + "(" + inside + ")"
	}
	return map[string]string{
		"text": "text", "int": "integer", "bigint": "bigint", "float": "double precision", "bool": "boolean", "date": "date", "time": "time without time zone",
		"timestamp": "timestamp with time zone", "uuid": "uuid", "json": "jsonb", "bytes": "bytea",
	}[word]
}

func (Engine) Options(*catalog.Catalog) []string { return nil }

func (Engine) KeyName(t *catalog.Table) string { return t.Name + "_pkey" }

func (Engine) Enum(c *catalog.Catalog, t *catalog.Table, column string, labels []string) (string, catalog.Type) {
	name := t.Name + "_" + column
	c.Enums = append(c.Enums, catalog.Enum{Schema: t.Schema, Name: name, Labels: labels})
	full := catalog.Qualify(t.Schema, name)
	return full, catalog.Type{Kind: catalog.EnumKind, Enum: full, Labels: labels}
}

func (Engine) Extended(*catalog.Table, func(string) bool) {}

func (Engine) Guard(string) []string     { return nil }
func (Engine) Stop(decide string) string { return decide }
