package sqlquery

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// Rewrite writes stars out as columns, so that a column that is added later
// does not shift those behind it, and adds a cast to text where the runtime
// reads a value in that form.
func (q *Query) Rewrite(d sqltext.Dialect, asText func(c catalog.Column) bool) error {
	text := q.text
	for i := len(q.Result) - 1; i >= 0; {
		first := i
		for first > 0 && q.Result[first-1].from == q.Result[i].from {
			first-- // of one star
		}
		from, to := q.Result[i].from, q.Result[i].to
		if replaced := rewritten(q.Result[first:i+1], q.text[from:to], d, asText); replaced != "" {
			text = text[:from] + replaced + text[to:]
		}
		i = first - 1
	}
	if text == q.text {
		return nil
	}
	q.text, q.tokens, q.places = text, nil, nil
	return q.split(d)
}

// rewritten is what stands in place of an output; empty is what stood there.
func rewritten(results []Result, was string, d sqltext.Dialect, asText func(c catalog.Column) bool) string {
	star := strings.HasSuffix(was, "*")
	if !star {
		r := results[0]
		if !asText(r.Column) {
			return ""
		}
		expr, _ := outputName(sqltext.Scan(was, d))
		return fmt.Sprintf("(%s)::text AS %s", was[:expr[len(expr)-1].To], quote(d, r.Column.Name))
	}
	var list []string
	add := func(alias string, c catalog.Column) {
		text := quote(d, alias) + "." + quote(d, c.Name)
		if asText(c) {
			text += "::text"
		}
		list = append(list, text)
	}
	for _, r := range results {
		if r.Table == nil {
			add(r.Alias, r.Column)
			continue
		}
		for _, c := range r.Table.Columns {
			add(r.Alias, c)
		}
	}
	return strings.Join(list, ", ")
}

// quote quotes a name, unless it needs none.
func quote(d sqltext.Dialect, name string) string {
	bare := name != "" && strings.ToLower(name) == name && !slices.Contains(reserved, name) &&
		!strings.ContainsFunc(name, func(r rune) bool { return r != '_' && (r < 'a' || r > 'z') && (r < '0' || r > '9') }) && (name[0] < '0' || name[0] > '9')
	switch {
	case bare:
		return name
	case d == sqltext.MySQL:
		return "`" + strings.ReplaceAll(name, "`", "``") + "`"
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// reserved are the words of SQL that are likely names of columns or tables; to
// quote one too many does no harm.
var reserved = strings.Fields(`all and any array as asc between both case cast check collate column condition constraint create cross current
	database default delete desc distinct div do drop else end except exists false fetch float for foreign from full grant group groups having if in index inner
	insert int intersect interval into is join key keys kill lateral leading left like limit lock match mod natural not null of offset on only or order outer over
	partition primary range rank read references repeat replace returning right row rows schema select set show some table then to trailing trigger true
	union unique unsigned update use user using values when where while window with write year`)
