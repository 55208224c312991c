package sqlquery

import (
	"fmt"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// Rewrite writes stars out as columns, so that a column that is added later
// does not shift those behind it, and adds a cast to text where the runtime
// reads a value in that form.
func (q *Query) Rewrite(d *sqltext.Dialect, asText func(c catalog.Column) bool) error {
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
func rewritten(results []Result, was string, d *sqltext.Dialect, asText func(c catalog.Column) bool) string {
	star := strings.HasSuffix(was, "*")
	if !star {
		r := results[0]
		if !asText(r.Column) {
			return ""
		}
		expr, _ := outputName(sqltext.Scan(was, d))
		return fmt.Sprintf("(%s)%s AS %s", was[:expr[len(expr)-1].To], d.TextCast, d.Ident(r.Column.Name))
	}
	var list []string
	add := func(alias string, c catalog.Column) {
		text := d.Ident(alias) + "." + d.Ident(c.Name)
		if asText(c) {
			text += d.TextCast
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
