package sqlquery

import (
	"slices"
	"strings"

	"widegate/internal/sqltext"
)

// What drops out with an optional argument is found by the structure of the
// statement: the condition in which it stands, together with what joins it to
// others; the assignment of an update; the step of an order; a limit. Where all
// conditions of a WHERE drop out, so does the WHERE.

// span is a part of the text that stands there for some arguments only.
type span struct {
	from, to int
	when     Presence
}

// optionalParts finds the parts of the text that drop out.
type optionalParts struct {
	query   *Query
	blocks  []span // by lines: -- gate if name … -- gate end
	spans   []span
	settled map[int]bool // places, by their index, whose part was found
	changes bool         // the statement changes rows that are there
}

// findOptional returns the parts of the text that drop out.
func (q *Query) findOptional() ([]span, error) {
	o := &optionalParts{query: q, settled: map[int]bool{}, changes: changesRows(q.tokens)}
	if err := o.findBlocks(); err != nil {
		return nil, err
	}
	o.spans = slices.Clone(o.blocks)
	if err := o.statement(q.tokens); err != nil {
		return nil, err
	}
	for i, p := range q.places {
		if q.Args[p.arg].Optional && !o.settled[i] && !o.inBlockOf(p) {
			return nil, q.fault(p.from, "put it in a condition, an assignment, an order or a limit; or put the lines that drop out between -- gate if "+q.Args[p.arg].Name+" and -- gate end; or take the ? away",
				"what drops out where %s is absent cannot be told: it stands in no part of the statement that can", q.Args[p.arg].Name)
		}
	}
	return o.spans, o.checkWheres()
}

// changesRows reports whether a statement updates or deletes rows, be it where an
// insert meets one that is there.
func changesRows(tokens []sqltext.Token) bool {
	for i, t := range tokens {
		if isOneOf(t, []string{"UPDATE", "DELETE", "MERGE"}) && !(i > 0 && isOneOf(tokens[i-1], []string{"FOR", "KEY", "ON"})) {
			return true
		}
	}
	return false
}

// findBlocks finds what stands between the lines gate if and gate end. The lines
// themselves are not part of any statement.
func (o *optionalParts) findBlocks() error {
	q := o.query
	var open []span
	for at := 0; at < len(q.text); {
		end := len(q.text)
		if n := strings.IndexByte(q.text[at:], '\n'); n >= 0 {
			end = at + n + 1
		}
		if m := inside.FindStringSubmatch(strings.TrimSpace(q.text[at:end])); m != nil {
			o.blocks = append(o.blocks, span{at, end, Presence{}})
			if m[2] == "" {
				if len(open) == 0 {
					return q.fault(at, "begin it by a line: -- gate if name", "here ends a part that did not begin")
				}
				block := open[len(open)-1]
				open = open[:len(open)-1]
				block.to = at
				o.blocks = append(o.blocks, block)
			} else {
				arg := slices.IndexFunc(q.Args, func(a Arg) bool { return a.Name == m[2] && a.Optional })
				if arg < 0 {
					return q.fault(at, "mark it by a ? in the line that heads the query", "there is no argument %s that may be left out", m[2])
				}
				open = append(open, span{from: end, when: Presence{{arg}}})
			}
		}
		at = end
	}
	if len(open) > 0 {
		return q.fault(len(q.text), "end it by a line: -- gate end", "the part that depends on %s has no end", q.Args[open[len(open)-1].when[0][0]].Name)
	}
	return nil
}

// inBlockOf reports whether a place stands in a block of its own argument.
func (o *optionalParts) inBlockOf(p place) bool {
	return slices.ContainsFunc(o.blocks, func(b span) bool {
		return b.from <= p.from && p.to <= b.to && b.when.equal(Presence{{p.arg}})
	})
}

// whenOf is the presence of tokens: of the optional arguments in them and of the
// blocks that they stand in.
func (o *optionalParts) whenOf(tokens []sqltext.Token) Presence {
	if len(tokens) == 0 {
		return nil
	}
	from, to := tokens[0].From, tokens[len(tokens)-1].To
	var args []int
	for i, p := range o.query.places {
		if from <= p.from && p.to <= to && o.query.Args[p.arg].Optional {
			args = append(args, p.arg)
			o.settled[i] = true
		}
	}
	for _, b := range o.blocks {
		if len(b.when) > 0 && b.from <= from && to <= b.to {
			args = append(args, b.when[0]...)
		}
	}
	return allOf(args)
}

// drops adds a part that stands there for some arguments only.
func (o *optionalParts) drops(from, to int, when Presence) {
	if when != nil && from < to {
		o.spans = append(o.spans, span{from, to, when})
	}
}

var (
	queryWords = []string{"SELECT", "WITH", "VALUES", "INSERT", "UPDATE", "DELETE", "REPLACE", "TABLE"}
	// clauseEnds end a condition, a list of assignments or an order.
	clauseEnds = []string{"WHERE", "GROUP", "HAVING", "ORDER", "LIMIT", "OFFSET", "FETCH", "FOR", "WINDOW", "UNION", "INTERSECT", "EXCEPT", "RETURNING", "LOCK", "PROCEDURE", "INTO", "SELECT", "DO"}
	// sourceEnds end the condition of a join too.
	sourceEnds = slices.Concat(clauseEnds, []string{"JOIN", "LEFT", "RIGHT", "FULL", "INNER", "CROSS", "NATURAL", "STRAIGHT_JOIN", "SET", "ON"})
)

// statement looks through a statement, or a query in it, clause by clause.
func (o *optionalParts) statement(tokens []sqltext.Token) error {
	for i := 0; i < len(tokens); i++ {
		t := tokens[i]
		var err error
		switch {
		case t.Sign("("):
			end := closing(tokens, i)
			err = o.statement(tokens[i+1 : end])
			i = end
		case t.Is("WHERE"), t.Is("HAVING"):
			end := clauseEnd(tokens, i+1, append([]string{"ON"}, clauseEnds...))
			o.conditions(t, tokens[i+1:end])
			i = end - 1
		case t.Is("ON") && i+1 < len(tokens) && !isOneOf(tokens[i+1], []string{"CONFLICT", "DUPLICATE"}) && !(i > 0 && tokens[i-1].Is("DISTINCT")):
			end := clauseEnd(tokens, i+1, sourceEnds)
			err = o.joinConditions(tokens[i+1 : end])
			i = end - 1
		case o.assigns(tokens, i):
			end := clauseEnd(tokens, i+1, append([]string{"FROM"}, clauseEnds...))
			err = o.assignments(tokens[i+1 : end])
			i = end - 1
		case (t.Is("ORDER") || t.Is("GROUP")) && i+1 < len(tokens) && tokens[i+1].Is("BY"):
			end := clauseEnd(tokens, i+2, clauseEnds)
			o.list(t, tokens[i+2:end])
			i = end - 1
		case t.Is("LIMIT"), t.Is("OFFSET"), t.Is("FETCH"):
			end := clauseEnd(tokens, i+1, clauseEnds)
			o.drops(t.From, tokens[end-1].To, o.whenOf(tokens[i+1:end]))
			i = end - 1
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// assigns reports whether the assignments of an update begin behind token i.
func (o *optionalParts) assigns(tokens []sqltext.Token, i int) bool {
	t := tokens[i]
	return t.Is("SET") && i > 0 || t.Is("UPDATE") && i > 0 && tokens[i-1].Is("KEY")
}

// clauseEnd is the place of the first of some words outside parentheses, from a
// place on.
func clauseEnd(tokens []sqltext.Token, from int, words []string) int {
	cases := 0
	for i := from; i < len(tokens); i++ {
		t := tokens[i]
		switch {
		case t.Sign("("):
			i = closing(tokens, i)
		case t.Is("CASE"):
			cases++
		case t.Is("END") && cases > 0:
			cases--
		case cases == 0 && isOneOf(t, words) && !(i+1 < len(tokens) && tokens[i+1].Sign("(") && isOneOf(t, []string{"LEFT", "RIGHT", "REPLACE"})) && !(i > from && tokens[i-1].Sign(".")):
			return i
		}
	}
	return len(tokens)
}

// conditions finds the conditions behind WHERE or HAVING, which drops out
// together with the last of them.
func (o *optionalParts) conditions(word sqltext.Token, tokens []sqltext.Token) {
	when := o.condition(tokens)
	if len(tokens) > 0 {
		o.drops(word.From, tokens[0].From, when)
	}
}

// joinConditions finds the conditions of a join, which needs one.
func (o *optionalParts) joinConditions(tokens []sqltext.Token) error {
	if when := o.condition(tokens); when != nil && !o.inBlock(tokens) {
		return o.needed(tokens, when, "a condition", "the join would have no condition")
	}
	return nil
}

// inBlock reports whether tokens stand in a block, which says itself what drops
// out.
func (o *optionalParts) inBlock(tokens []sqltext.Token) bool {
	return len(tokens) > 0 && slices.ContainsFunc(o.blocks, func(b span) bool { return b.from <= tokens[0].From && tokens[len(tokens)-1].To <= b.to })
}

// needed is the error of a part of which something must always stay.
func (o *optionalParts) needed(tokens []sqltext.Token, when Presence, part, why string) error {
	q := o.query
	var names []string
	for _, arg := range when.args() {
		names = append(names, q.Args[arg].Name)
	}
	at := tokens[0].From
	for _, p := range q.places {
		if q.Args[p.arg].Optional && tokens[0].From <= p.from && p.to <= tokens[len(tokens)-1].To {
			at = p.from
			break
		}
	}
	return q.fault(at, "add "+part+" that needs no optional argument, or make an argument required by taking its ? away", "without %s %s", strings.Join(names, " and "), why)
}

// condition finds the parts of a condition that drop out, and returns when any
// of it stands.
func (o *optionalParts) condition(tokens []sqltext.Token) Presence {
	if parts := splitBy(tokens, "OR"); len(parts) > 1 {
		return o.joined(parts, o.condition)
	}
	if parts := splitBy(tokens, "AND"); len(parts) > 1 {
		return o.joined(parts, o.condition)
	}
	inner := tokens
	for len(inner) > 0 && inner[0].Is("NOT") {
		inner = inner[1:]
	}
	if len(inner) > 2 && inner[0].Sign("(") && closing(inner, 0) == len(inner)-1 && isCondition(inner[1:len(inner)-1]) {
		when := o.condition(inner[1 : len(inner)-1])
		o.drops(tokens[0].From, tokens[len(tokens)-1].To, when)
		return when
	}
	when := o.whenOf(tokens)
	if len(tokens) > 0 {
		o.drops(tokens[0].From, tokens[len(tokens)-1].To, when)
	}
	return when
}

// isCondition reports whether what stands in parentheses is a condition, and no
// query or row of values.
func isCondition(tokens []sqltext.Token) bool {
	if len(tokens) == 0 || isOneOf(tokens[0], queryWords) {
		return false
	}
	return len(splitBy(tokens, ",")) == 1
}

// joined finds what drops out of parts that are joined by words. A word stands
// where the part behind it and one before it do.
func (o *optionalParts) joined(parts [][]sqltext.Token, find func([]sqltext.Token) Presence) Presence {
	var before Presence
	for i, part := range parts {
		when := find(part)
		if i == 0 {
			before = when
			continue
		}
		if len(part) > 0 && len(parts[i-1]) > 0 {
			o.drops(parts[i-1][len(parts[i-1])-1].To, part[0].From, when.and(before))
		}
		before = before.or(when)
	}
	return before
}

// splitBy splits at a word or sign that stands in no parentheses, in no CASE and
// belongs to no BETWEEN.
func splitBy(tokens []sqltext.Token, word string) (parts [][]sqltext.Token) {
	cases, from, between := 0, 0, 0
	for i := 0; i < len(tokens); i++ {
		t := tokens[i]
		switch {
		case t.Sign("("):
			i = closing(tokens, i)
		case t.Is("CASE"):
			cases++
		case t.Is("END") && cases > 0:
			cases--
		case cases > 0:
		case t.Is("BETWEEN"):
			between++
		case t.Is("AND") && between > 0:
			between--
		case t.Is(word), t.Sign(word):
			parts = append(parts, tokens[from:i])
			from = i + 1
		}
	}
	return append(parts, tokens[from:])
}

// assignments finds the assignments of an update that drop out.
func (o *optionalParts) assignments(tokens []sqltext.Token) error {
	when := o.joined(splitBy(tokens, ","), o.item)
	if when != nil && len(tokens) > 0 && !o.inBlock(tokens) {
		return o.needed(tokens, when, "an assignment", "the update would set nothing")
	}
	return nil
}

// item is an element of a list, which drops out as a whole.
func (o *optionalParts) item(tokens []sqltext.Token) Presence {
	when := o.whenOf(tokens)
	if len(tokens) > 0 {
		o.drops(tokens[0].From, tokens[len(tokens)-1].To, when)
	}
	return when
}

// list finds the steps of an order or of groups that drop out, and the words
// before them together with the last.
func (o *optionalParts) list(word sqltext.Token, tokens []sqltext.Token) {
	if when := o.joined(splitBy(tokens, ","), o.item); len(tokens) > 0 {
		o.drops(word.From, tokens[0].From, when)
	}
}

// whenAt is the presence of a byte of the text.
func whenAt(spans []span, at int) Presence {
	var when Presence
	for _, s := range spans {
		if s.from <= at && at < s.to {
			if len(s.when) == 0 {
				return Presence{}
			}
			when = when.and(s.when)
		}
	}
	return when
}

// checkWheres makes sure that a statement which changes rows never does without
// a WHERE that it has.
func (o *optionalParts) checkWheres() error {
	if !o.changes {
		return nil
	}
	for i, t := range o.query.tokens {
		if !t.Is("WHERE") {
			continue
		}
		if when := whenAt(o.spans, t.From); when != nil {
			return o.needed(o.query.tokens[i:], when, "a condition", "the statement would change all rows")
		}
	}
	return nil
}
