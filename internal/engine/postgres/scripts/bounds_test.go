package scripts

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"widegate/internal/sqltext"
)

// TestDeepStatements gives the parser statements that nest in every way, from
// harmless to hostile: each is parsed or refused, soon, and what a person may
// write is parsed.
func TestDeepStatements(t *testing.T) {
	list := func(n int, part, by string) string { return strings.TrimSuffix(strings.Repeat(part+by, n), by) }
	shapes := map[string]func(n int) string{
		"signs":   func(n int) string { return "SELECT " + list(n, "1", " + ") },
		"texts":   func(n int) string { return "SELECT " + list(n, "'a'", " || ") },
		"casts":   func(n int) string { return "SELECT 1" + strings.Repeat("::int", n) },
		"parens":  func(n int) string { return "SELECT " + strings.Repeat("(", n) + "1" + strings.Repeat(")", n) },
		"queries": func(n int) string { return "SELECT " + strings.Repeat("(SELECT ", n) + "1" + strings.Repeat(")", n) },
		"from": func(n int) string {
			return strings.Repeat("SELECT * FROM (", n) + "SELECT 1" + strings.Repeat(") x", n)
		},
		"cases": func(n int) string {
			return "SELECT " + strings.Repeat("CASE WHEN a THEN 1 ELSE ", n) + "1" + strings.Repeat(" END", n)
		},
		"calls":  func(n int) string { return "SELECT " + strings.Repeat("f(", n) + "1" + strings.Repeat(")", n) },
		"not":    func(n int) string { return "SELECT " + strings.Repeat("NOT ", n) + "true" },
		"minus":  func(n int) string { return "SELECT " + strings.Repeat("- ", n) + "1" },
		"joins":  func(n int) string { return "SELECT 1 FROM " + list(n, "a", " NATURAL JOIN ") },
		"unions": func(n int) string { return list(n, "SELECT id FROM hive WHERE id = 1", " UNION ALL ") },
		"and":    func(n int) string { return "SELECT 1 WHERE " + list(n, "a = 1", " AND ") },
		"in":     func(n int) string { return "SELECT 1 WHERE 1 IN (" + list(n, "1", ", ") + ")" },
		"arrays": func(n int) string { return "SELECT " + strings.Repeat("ARRAY[", n) + "1" + strings.Repeat("]", n) },
		"with": func(n int) string {
			return strings.Repeat("WITH x AS (", n) + "SELECT 1" + strings.Repeat(") SELECT 1", n)
		},
		"collate": func(n int) string { return "SELECT 'a'" + strings.Repeat(` COLLATE "C"`, n) },
		"index":   func(n int) string { return "SELECT a" + strings.Repeat("[1]", n) },
		"between": func(n int) string { return "SELECT 1" + strings.Repeat(" BETWEEN 1 AND 2", n) },
		"is":      func(n int) string { return "SELECT 1" + strings.Repeat(" IS NULL", n) },
		"zone":    func(n int) string { return "SELECT now()" + strings.Repeat(" AT TIME ZONE 'UTC'", n) },
		"like":    func(n int) string { return "SELECT 'a'" + strings.Repeat(" LIKE 'a'", n) },
		"dots":    func(n int) string { return "SELECT (a)" + strings.Repeat(".a", n) },
	}
	for name, shape := range shapes {
		for _, n := range []int{10, 30, 100, 300, 1000, 3000, 20000} {
			start := time.Now()
			_, err := Read(t.Context(), []*sqltext.File{{Path: "x.sql", Text: "CREATE VIEW v AS " + shape(n) + ";"}}, nil)
			if n <= 30 {
				require.False(t, err != nil && strings.Contains(err.Error(), "too deep"), "%s of %d: %v", name, n, err)
			}
			require.Less(t, time.Since(start), parseTime, "%s of %d hangs: %v", name, n, err)
		}
	}
}
