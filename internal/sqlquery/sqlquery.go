// Package sqlquery reads named queries: plain SQL in files, each headed by one
// line that says what it is called, takes and gives.
//
//	-- gate BestApiaries(since date) -> rows
//	-- BestApiaries ranks the apiaries by what they yielded since a day.
//	select a.name, sum(h.weight_kg) as total
//	from harvest h join hive on hive.id = h.hive_id join apiary a on a.id = hive.apiary_id
//	where h.harvested_on >= :since
//	group by a.name
//
// Parse splits files into queries. Analyze finds out, from the schema and from
// the engine where one is at hand, which types the arguments and results have
// and what may be null. No query is ever run.
package sqlquery

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/sqltext"
)

// Shape is how much a query gives.
type Shape string

// The shapes of results.
const (
	Row      Shape = "row"  // exactly one
	MaybeRow Shape = "row?" // one, or none
	Rows     Shape = "rows"
	Count    Shape = "count" // the number of rows touched
	Nothing  Shape = "nothing"
)

// File is a file of queries.
type File struct {
	Path string // as messages name it
	Text string
}

// Query is one named query.
type Query struct {
	Name   string
	Doc    string
	Args   []Arg
	Shape  Shape
	Pieces []Piece  // the text, in order
	Result []Result // what each row holds; none for Count and Nothing

	file   File
	head   int // where its name stands in the file
	body   int // where the text begins in the file
	text   string
	tokens []sqltext.Token
	places []place
	spans  []span // that drop out
}

// changing are words of statements that change something.
var changing = []string{"insert", "update", "delete", "merge", "into", "call", "truncate"}

// Reads reports whether the text is surely one that only reads, functions that
// it calls aside.
func (q *Query) Reads() bool {
	first := true
	for _, t := range q.tokens {
		if t.Kind != sqltext.Word {
			continue
		}
		if first && !slices.ContainsFunc([]string{"select", "with", "values", "table"}, t.Is) || slices.ContainsFunc(changing, t.Is) {
			return false
		}
		first = false
	}
	return !first
}

// Arg is an argument of a query.
type Arg struct {
	Name     string
	Declared string // the type that the header gives; empty where it gives none
	Optional bool   // what depends on it drops out where it is absent
	List     bool   // it stands in IN (:name)
	Nullable bool   // null can be passed
	Keys     []Key  // of an order; then there is no type
	Column   catalog.Column
	Source   *catalog.Column // of a table: the one that it is compared with
	at       int             // in the file
}

// Key is one of the orders that a caller can choose.
type Key struct {
	Name, SQL string
	at        int // in the file
}

// Piece is a part of a query's text.
type Piece struct {
	Text string
	Arg  int      // the argument that stands here; -1 is text
	Not  bool     // of a list: it stands in NOT IN
	When Presence // the optional arguments for which the piece stands there
}

// Result is one column of the rows, or all columns of a table.
type Result struct {
	Column catalog.Column  // Name is what the query calls it
	Source *catalog.Column // of a table: what the value is as it stands there
	Table  *catalog.Table  // set for all columns of a table, by name.* or *
	Alias  string          // of the table
	Outer  bool            // of a table that is joined so that it may be missing

	from, to int // in the text
}

// place is where an argument stands in the text.
type place struct {
	arg      int
	from, to int
	token    int // of the colon
}

var (
	mark   = regexp.MustCompile(`^--\s*gate\b`)
	header = regexp.MustCompile(`^--\s*gate\s+([A-Za-z_][A-Za-z0-9_]*)\s*\((.*)\)\s*->\s*(\S+)\s*$`)
	inside = regexp.MustCompile(`^\s*--\s*gate\s+(if\s+([A-Za-z_][A-Za-z0-9_]*)|end)\s*$`)
	argRE  = regexp.MustCompile(`^([A-Za-z_][A-Za-z0-9_]*)(\?)?(?:\s+(.+))?$`)
	order  = regexp.MustCompile(`(?is)^order\s*\((.*)\)$`)
)

const headerForm = "a query begins with a line such as: -- gate BestApiaries(since date) -> rows"

// Parse splits a file into its queries. All that is wrong is reported at once.
func Parse(f File, d *sqltext.Dialect) ([]*Query, []error) {
	var queries []*Query
	var faults []error
	var current *Query
	at, started := 0, false
	for line := range strings.SplitAfterSeq(f.Text, "\n") {
		trimmed := strings.TrimSpace(line)
		switch {
		case mark.MatchString(trimmed) && !inside.MatchString(trimmed):
			current, started = nil, false
			q, err := parseHeader(f, at, trimmed)
			if err != nil {
				faults = append(faults, err)
			} else {
				current = q
				queries = append(queries, q)
			}
		case current == nil:
			if trimmed != "" && !strings.HasPrefix(trimmed, "--") && len(faults) == 0 {
				faults = append(faults, f.fault(at, headerForm, "here is SQL that belongs to no query"))
			}
		case !started && strings.HasPrefix(trimmed, "--") && !inside.MatchString(trimmed):
			current.Doc = strings.TrimSpace(current.Doc + " " + strings.TrimSpace(strings.TrimLeft(trimmed, "-")))
		default:
			if !started {
				current.body, started = at, true
			}
			current.text += line
		}
		at += len(line)
	}
	for _, q := range queries {
		if err := q.split(d); err != nil {
			faults = append(faults, err)
		}
	}
	return queries, faults
}

// fault is an error at a place of the file.
func (f File) fault(at int, next, format string, args ...any) error {
	before := f.Text[:min(at, len(f.Text))]
	start := strings.LastIndexByte(before, '\n') + 1
	where := fmt.Sprintf("%s:%d:%d: ", f.Path, strings.Count(before, "\n")+1, utf8.RuneCountInString(before[start:])+1)
	return fault.New(next, "%s%s", where, fmt.Sprintf(format, args...))
}

// fault is an error at a place of the query's text.
func (q *Query) fault(at int, next, format string, args ...any) error {
	return q.file.fault(q.body+at, next, "query "+q.Name+": "+format, args...)
}

// Fault is an error about the query as a whole, at the place of its name.
func (q *Query) Fault(next, format string, args ...any) error {
	return q.file.fault(q.head, next, "query "+q.Name+": "+format, args...)
}

func parseHeader(f File, at int, line string) (*Query, error) {
	m := header.FindStringSubmatch(line)
	if m == nil {
		return nil, f.fault(at, headerForm, "this line does not head a query: %s", line)
	}
	q := &Query{Name: m[1], Shape: Shape(m[3]), file: f, head: at + strings.Index(line, m[1]+"(")}
	if q.head < at {
		q.head = at
	}
	shapes := []string{string(Row), string(MaybeRow), string(Rows), string(Count), string(Nothing)}
	if !slices.Contains(shapes, m[3]) {
		next := "a query gives one of " + strings.Join(shapes, ", ")
		if near := catalog.Nearest(m[3], shapes); near != "" {
			next = fmt.Sprintf("did you mean %s? %s", near, next)
		}
		return nil, f.fault(at+strings.LastIndex(line, m[3]), next, "query %s: there is no result %q", q.Name, m[3])
	}
	from := strings.Index(line, "(") + 1
	for _, text := range splitList(m[2]) {
		arg, err := parseArg(text)
		from += max(0, strings.Index(line[from:], text))
		place := at + from
		from += len(text)
		if err != "" {
			return nil, f.fault(place, "an argument is a name, a ? where it may be left out, and a type where the engine cannot tell it: since? date", "query %s: %s", q.Name, err)
		}
		if slices.ContainsFunc(q.Args, func(a Arg) bool { return a.Name == arg.Name }) {
			return nil, f.fault(place, "take one away", "query %s: the argument %s is there twice", q.Name, arg.Name)
		}
		arg.at = place
		after := 0
		for i := range arg.Keys {
			k := &arg.Keys[i]
			after = strings.Index(text[after:], k.Name) + after
			if k.at = place + after; k.SQL != k.Name {
				k.at += strings.Index(text[after:], k.SQL)
			}
		}
		q.Args = append(q.Args, arg)
	}
	return q, nil
}

func parseArg(text string) (a Arg, fault string) {
	m := argRE.FindStringSubmatch(text)
	if m == nil {
		return a, fmt.Sprintf("%q is no argument", text)
	}
	a = Arg{Name: m[1], Optional: m[2] != "", Declared: strings.TrimSpace(m[3])}
	keys := order.FindStringSubmatch(a.Declared)
	if keys == nil {
		if base, ok := strings.CutSuffix(a.Declared, "[]"); ok {
			a.Declared, a.List = base, true
		}
		return a, ""
	}
	if a.Optional {
		return a, fmt.Sprintf("the order %s has a first key, which is taken where none is named: it needs no ?", a.Name)
	}
	a.Declared = ""
	for _, part := range splitList(keys[1]) {
		name, text, named := strings.Cut(part, "=")
		name = strings.TrimSpace(name)
		if !named {
			text = name
		}
		if !argRE.MatchString(name) || strings.ContainsAny(name, " ?") {
			return a, fmt.Sprintf("%q is no key of an order; write name, or name = expression", part)
		}
		a.Keys = append(a.Keys, Key{Name: name, SQL: strings.TrimSpace(text)})
	}
	if len(a.Keys) == 0 {
		return a, fmt.Sprintf("the order %s has no keys", a.Name)
	}
	return a, ""
}

// splitList splits at commas that stand in no parentheses.
func splitList(text string) []string {
	var list []string
	depth, from := 0, 0
	for i, c := range text {
		switch c {
		case '(':
			depth++
		case ')':
			depth--
		case ',':
			if depth == 0 {
				list = append(list, strings.TrimSpace(text[from:i]))
				from = i + 1
			}
		}
	}
	if last := strings.TrimSpace(text[from:]); last != "" || len(list) > 0 {
		list = append(list, last)
	}
	return list
}

// split finds the arguments in the text, and cuts it at them.
func (q *Query) split(d *sqltext.Dialect) error {
	q.text = strings.TrimRight(q.text, " \t\r\n;")
	if strings.TrimSpace(q.text) == "" {
		return q.file.fault(q.body, "write the SQL below the line that heads it", "query %s has no text", q.Name)
	}
	if err := q.findPlaces(d); err != nil {
		return err
	}
	if q.Shape == Count && q.Reads() {
		return q.file.fault(q.body, "let it give rows, or a row with count(*) in it", "query %s: count is how many rows a statement changed, and this one only reads", q.Name)
	}
	return q.cut()
}

func (q *Query) findPlaces(d *sqltext.Dialect) error {
	for _, t := range sqltext.Scan(q.text, d) {
		if t.Kind != sqltext.Comment {
			q.tokens = append(q.tokens, t)
		}
	}
	if err := q.checkParentheses(); err != nil {
		return err
	}
	used := make([]bool, len(q.Args))
	for i, t := range q.tokens {
		if t.Sign(";") {
			return q.fault(t.From, "make two queries of it", "here a second statement begins")
		}
		if !t.Sign(":") || i+1 == len(q.tokens) || i > 0 && q.tokens[i-1].Sign(":") && q.tokens[i-1].To == t.From {
			continue
		}
		name := q.tokens[i+1]
		if name.Kind != sqltext.Word || name.From != t.To || name.Text[0] >= '0' && name.Text[0] <= '9' {
			continue
		}
		arg := slices.IndexFunc(q.Args, func(a Arg) bool { return a.Name == name.Text })
		if arg < 0 {
			return q.fault(t.From, q.nearArg(name.Text), "there is no argument %s in the line that heads the query", name.Text)
		}
		used[arg] = true
		q.places = append(q.places, place{arg, t.From, name.To, i})
		if q.listAt(i) {
			q.Args[arg].List = true
		}
	}
	for i, a := range q.Args {
		if !used[i] {
			return q.file.fault(a.at, "use it as :"+a.Name+", or take it away", "query %s: the argument %s is not used", q.Name, a.Name)
		}
	}
	return nil
}

// checkParentheses makes sure that each is closed, on which all that reads the
// tokens rests.
func (q *Query) checkParentheses() error {
	var open []int
	for _, t := range q.tokens {
		switch {
		case t.Sign("("):
			open = append(open, t.From)
		case t.Sign(")") && len(open) == 0:
			return q.fault(t.From, "take it away", "this parenthesis closes nothing")
		case t.Sign(")"):
			open = open[:len(open)-1]
		}
	}
	if len(open) > 0 {
		return q.fault(open[len(open)-1], "close it", "this parenthesis is not closed")
	}
	return nil
}

func (q *Query) nearArg(name string) string {
	var names []string
	for _, a := range q.Args {
		names = append(names, a.Name)
	}
	if near := catalog.Nearest(name, names); near != "" {
		return fmt.Sprintf("did you mean :%s?", near)
	}
	return "name it there, as in " + q.Name + "(" + name + ")"
}

// listAt reports whether the argument whose colon is token i stands alone in
// the parentheses of IN.
func (q *Query) listAt(i int) bool {
	return i >= 2 && q.tokens[i-1].Sign("(") && q.tokens[i-2].Is("IN") && i+2 < len(q.tokens) && q.tokens[i+2].Sign(")")
}

// cut makes pieces of the text: at arguments, and at parts that drop out.
func (q *Query) cut() error {
	spans, err := q.findOptional()
	if err != nil {
		return err
	}
	q.spans = spans
	q.Pieces = nil
	at := 0
	for _, p := range q.places {
		from, to := p.from, p.to
		piece := Piece{Arg: p.arg, When: whenAt(spans, p.from)}
		if q.Args[p.arg].List && q.listAt(p.token) {
			from, to = q.tokens[p.token-2].From, q.tokens[p.token+2].To
			if piece.Not = p.token >= 3 && q.tokens[p.token-3].Is("NOT"); piece.Not {
				from = q.tokens[p.token-3].From
			}
		}
		q.cutText(at, from)
		if len(piece.When) > 0 || piece.When == nil {
			q.Pieces = append(q.Pieces, piece)
		}
		at = to
	}
	q.cutText(at, len(q.text))
	return nil
}

// cutText adds the pieces of text without arguments.
func (q *Query) cutText(from, to int) {
	for from < to {
		when := whenAt(q.spans, from)
		end := to
		for _, s := range q.spans {
			for _, edge := range []int{s.from, s.to} {
				if edge > from && edge < end {
					end = edge
				}
			}
		}
		n := len(q.Pieces)
		switch {
		case when != nil && len(when) == 0: // a line that is no SQL
		case n > 0 && q.Pieces[n-1].Arg < 0 && q.Pieces[n-1].When.equal(when):
			q.Pieces[n-1].Text += q.text[from:end]
		default:
			q.Pieces = append(q.Pieces, Piece{Text: q.text[from:end], Arg: -1, When: when})
		}
		from = end
	}
}
