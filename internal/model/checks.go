package model

import (
	"regexp"
	"strings"

	"widegate/internal/catalog"
)

// limits are what the checks of a table say about one column.
type limits struct {
	labels                    []string
	least, most, above, below string
}

var (
	cast        = regexp.MustCompile(`::(character varying|double precision|timestamp with(out)? time zone|time with(out)? time zone|"[^"]+"|[a-z_][a-z0-9_.]*)(\(\d+(,\s*\d+)?\))?(\[\])?`)
	labelList   = regexp.MustCompile(`(?is)^[("` + "`" + `\s]*([\pL\pN_$]+)[)"` + "`" + `\s]*(?:in\s*\(|=\s*any\s*\(+\s*array\s*\[)(.*?)[\])\s]*$`)
	textLiteral = regexp.MustCompile(`'((?:[^']|'')*)'`)
	listGarbage = regexp.MustCompile(`^[\s,]*$`)
	between     = regexp.MustCompile(`(?i)([\pL\pN_$]+)\s+between\s+(\S+)\s+and\s+(\S+)`)
	conjunction = regexp.MustCompile(`(?i)\s+and\s+`)
	disjunction = regexp.MustCompile(`(?i)(\bor\b|\bnot\b|\bcase\b)`)
	bound       = regexp.MustCompile(`^([\pL\pN_$]+)\s*(>=|<=|>|<)\s*'?(-?\d+(?:\.\d+)?)'?$`)
)

// readChecks takes from a table's checks what can be told about single columns:
// lists of labels and limits of numbers. Every part of a conjunction holds by
// itself, so parts that are not understood do no harm.
func readChecks(t *catalog.Table) map[string]limits {
	found := map[string]limits{}
	for _, check := range t.Checks {
		if strings.Contains(check.Options, "NOT ENFORCED") {
			continue
		}
		expr := stripCasts(check.Expr)
		if column, labels := readLabels(expr); column != "" {
			if c, ok := t.Column(column); ok && c.Type.Kind == catalog.Text {
				l := found[column]
				l.labels = labels
				found[column] = l
			}
			continue
		}
		readBounds(expr, found)
	}
	return found
}

// stripCasts takes away the casts that an engine adds when it prints a check
// back: two colons and a type's name, which may have spaces, a size and
// brackets.
func stripCasts(expr string) string {
	return cast.ReplaceAllString(expr, "")
}

// readLabels reads "column IN ('a', 'b')" in the forms of all engines.
func readLabels(expr string) (column string, labels []string) {
	m := labelList.FindStringSubmatch(expr)
	if m == nil || !listGarbage.MatchString(textLiteral.ReplaceAllString(m[2], "")) {
		return "", nil
	}
	for _, l := range textLiteral.FindAllStringSubmatch(m[2], -1) {
		labels = append(labels, strings.ReplaceAll(l[1], "''", "'"))
	}
	if len(labels) == 0 {
		return "", nil
	}
	return m[1], labels
}

func readBounds(expr string, found map[string]limits) {
	if disjunction.MatchString(expr) {
		return
	}
	plain := strings.NewReplacer("(", "", ")", "", "`", "", `"`, "").Replace(expr)
	plain = between.ReplaceAllString(plain, "$1 >= $2 AND $1 <= $3")
	for _, part := range conjunction.Split(plain, -1) {
		m := bound.FindStringSubmatch(strings.TrimSpace(part))
		if m == nil {
			continue
		}
		l := found[m[1]]
		switch m[2] {
		case ">=":
			l.least = m[3]
		case "<=":
			l.most = m[3]
		case ">":
			l.above = m[3]
		case "<":
			l.below = m[3]
		}
		found[m[1]] = l
	}
}
