package drafting

import (
	"fmt"
	"strings"

	"widegate/internal/migration"

	"widegate/internal/catalog"
)

// pgCast is an expression of one type as one of another.
func pgCast(was, now *catalog.Column, expr string) string {
	from, to := was.Type.Kind, now.Type.Kind
	direct := from == to && from != catalog.EnumKind && from != catalog.Compound && from != catalog.Other || migration.Number(from) && migration.Number(to) || from == catalog.Text || to == catalog.Text ||
		isDay(from) && isDay(to)
	switch {
	case from == catalog.Bool && migration.Number(to):
		return fmt.Sprintf("%s::integer::%s", expr, now.Declared)
	case migration.Number(from) && to == catalog.Bool:
		return fmt.Sprintf("(%s <> 0)", expr)
	case direct:
		return fmt.Sprintf("%s::%s", expr, now.Declared)
	}
	return fmt.Sprintf("%s::text::%s", expr, now.Declared)
}

// sameKindOnly reports whether two types of one kind are still not the same, as
// inet and cidr, or bit(5) and bit(8).
func sameKindOnly(a migration.Alteration) bool {
	if a.Was.Declared == a.Now.Declared || a.Was.Type.Kind != a.Now.Type.Kind {
		return false
	}
	switch a.Was.Type.Kind {
	case catalog.Network, catalog.Geometric, catalog.FullText, catalog.Money, catalog.XML, catalog.Interval:
		return true
	case catalog.BitString:
		return strings.HasPrefix(a.Now.Declared, "bit(")
	}
	return false
}

func isDay(k catalog.TypeKind) bool {
	return k == catalog.Date || k == catalog.Timestamp || k == catalog.TimestampTZ
}

// pgConversion tells what PostgreSQL does to the values of a column.
func pgConversion(d *migration.Writing, a migration.Alteration, column string) migration.Conversion {
	was, now := a.Was.Type, a.Now.Type
	switch {
	case migration.CrossesZone(a):
		return migration.Conversion{Anchored: true}
	case a.Was.Declared == "json" && a.Now.Declared == "jsonb":
		return migration.Conversion{Condition: fmt.Sprintf("(%s::jsonb)::text <> %[1]s::text", column)}
	case strings.HasPrefix(a.Now.Declared, "character(") && was.Kind == catalog.Text && now.Size > 0 && !strings.HasPrefix(a.Was.Declared, "character("):
		return migration.Conversion{Condition: fmt.Sprintf("char_length(%s) > %d OR %[1]s LIKE '%% '", column, now.Size)}
	case migration.Widens(was, now) && !migration.Coarser(a) && !sameKindOnly(a):
		return migration.Conversion{}
	case was.Kind == catalog.Int && now.Kind == catalog.Int:
		return migration.Conversion{Condition: migration.Outside(column, now)}
	case was.Kind == catalog.Text && now.Kind == catalog.Text && now.Size > 0:
		return migration.Conversion{Condition: fmt.Sprintf("char_length(%s) > %d", column, now.Size)}
	case migration.Number(was.Kind) && now.Kind == catalog.Bool:
		return migration.Conversion{Condition: column + " NOT IN (0, 1)"}
	case was.Kind == catalog.Text && now.Kind == catalog.Int:
		low, high := migration.IntRange(now)
		return migration.Conversion{Condition: fmt.Sprintf("CASE WHEN %s ~ '%s' THEN %[1]s::numeric NOT BETWEEN %[3]s AND %[4]s ELSE %[1]s IS NOT NULL END", column, migration.Whole, low, high)}
	case now.Kind == catalog.EnumKind && (was.Kind == catalog.EnumKind || was.Kind == catalog.Text):
		if e, ok := d.After.Enum(now.Enum); ok {
			return migration.Conversion{Condition: fmt.Sprintf("%s::text NOT IN (%s)", column, d.Literals(e.Labels))}
		}
	}
	there := pgCast(a.Was, a.Now, column)
	back := pgCast(a.Now, a.Was, "("+there+")")
	compare := "(%s)::text IS DISTINCT FROM (%s)::text"
	if migration.Number(was.Kind) || isDay(was.Kind) || was.Kind == catalog.Time {
		compare = "(%s) IS DISTINCT FROM (%s)"
	}
	return migration.Conversion{Tries: fmt.Sprintf(compare, back, column)}
}
