package drafting

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/migration"

	"widegate/internal/catalog"
)

// affinity is what a declared type makes of values; see section 3.1 of
// "Datatypes In SQLite".
func affinity(declared string) string {
	s := strings.ToUpper(declared)
	has := func(words ...string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(s, w) })
	}
	switch {
	case has("INT"):
		return "INTEGER"
	case has("CHAR", "CLOB", "TEXT"):
		return "TEXT"
	case has("BLOB") || s == "" || s == "ANY":
		return "BLOB"
	case has("REAL", "FLOA", "DOUB"):
		return "REAL"
	}
	return "NUMERIC"
}

// liteConversion tells what SQLite does to the values of a column when they are
// copied.
func liteConversion(d *migration.Writing, a migration.Alteration, column string, strict bool) migration.Conversion {
	now := affinity(a.Now.Declared)
	if strict {
		return migration.Conversion{Condition: strictly(a.Now.Declared, column)}
	}
	if affinity(a.Was.Declared) == now {
		return migration.Conversion{}
	}
	wantsNumber := migration.Number(a.Now.Type.Kind) || a.Now.Type.Kind == catalog.Bool
	text := fmt.Sprintf("typeof(%s) = 'text' AND CAST(CAST(%[1]s AS NUMERIC) AS TEXT) <> %[1]s", column)
	if !wantsNumber {
		text += fmt.Sprintf(" AND %s NOT GLOB '*[^0-9.+eE -]*'", column)
	}
	switch now {
	case "TEXT":
		return migration.Conversion{Condition: fmt.Sprintf("typeof(%s) = 'real' AND CAST(CAST(%[1]s AS TEXT) AS REAL) <> %[1]s", column)}
	case "INTEGER", "NUMERIC":
		broken := ""
		if a.Now.Type.Kind == catalog.Int || a.Now.Type.Kind == catalog.Bool {
			broken = fmt.Sprintf("typeof(%s) = 'real' AND %[1]s <> CAST(%[1]s AS INTEGER)", column)
		}
		return migration.Conversion{Condition: migration.Or(text, broken)}
	case "REAL":
		return migration.Conversion{Condition: migration.Or(text, fmt.Sprintf("typeof(%s) = 'integer' AND CAST(CAST(%[1]s AS REAL) AS INTEGER) <> %[1]s", column))}
	}
	return migration.Conversion{}
}

// strictly is a condition for values that a column of a strict table refuses or
// changes.
func strictly(declared, column string) string {
	switch strings.ToUpper(declared) {
	case "INT", "INTEGER":
		return fmt.Sprintf("%s IS NOT NULL AND NOT (typeof(%[1]s) = 'integer' OR typeof(%[1]s) = 'real' AND %[1]s = CAST(%[1]s AS INTEGER) OR typeof(%[1]s) = 'text' AND CAST(CAST(%[1]s AS INTEGER) AS TEXT) = %[1]s)", column)
	case "REAL":
		return fmt.Sprintf("%s IS NOT NULL AND NOT (typeof(%[1]s) = 'real' OR typeof(%[1]s) = 'integer' AND CAST(CAST(%[1]s AS REAL) AS INTEGER) = %[1]s OR typeof(%[1]s) = 'text' AND CAST(CAST(%[1]s AS NUMERIC) AS TEXT) = %[1]s)", column)
	case "TEXT":
		return fmt.Sprintf("typeof(%s) = 'blob' OR typeof(%[1]s) = 'real' AND CAST(CAST(%[1]s AS TEXT) AS REAL) <> %[1]s", column)
	case "BLOB":
		return fmt.Sprintf("%s IS NOT NULL AND typeof(%[1]s) <> 'blob'", column)
	}
	return ""
}
