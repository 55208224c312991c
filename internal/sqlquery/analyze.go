package sqlquery

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// Describer asks an engine about a statement, without running it. The places
// of arguments are those of the engine, numbered from 1 for PostgreSQL. Types
// that the engine cannot tell are Other, or missing altogether. at is where in
// the statement an error is, in bytes; -1 where the engine does not say.
type Describer interface {
	Describe(ctx context.Context, text string, args int, rows bool) (types []catalog.Type, columns []catalog.Column, at int, err error)
}

// described is what an engine said.
type described struct {
	types   []catalog.Type
	columns []catalog.Column
}

// placeError is an engine's error and where in the statement it is.
type placeError struct {
	at  int
	err error
}

func (e *placeError) Error() string { return e.err.Error() }
func (e *placeError) Unwrap() error { return e.err }

// Analyze finds the types of a query's arguments and results. The engine is
// asked where there is one; engine may be nil.
func (q *Query) Analyze(ctx context.Context, c *catalog.Catalog, engine Describer) error {
	a := &analysis{query: q, catalog: c}
	a.statement(q.tokens, nil)
	if a.err != nil {
		return a.err
	}
	found, err := q.describe(ctx, c, engine)
	if err != nil {
		if _, other := q.describeVariant(ctx, c.Engine, engine, variant{unordered: true}); other == nil {
			return q.checkOrders(ctx, a, engine, 0)
		}
		return a.explain(err)
	}
	if err := q.checkOrders(ctx, a, engine, 1); err != nil { // it has seen the first
		return err
	}
	if err := q.checkVariants(ctx, a, found, engine); err != nil {
		return err
	}
	if err := q.setArgs(a, found); err != nil {
		return err
	}
	return q.setResult(a, found)
}

// describe asks the engine about the whole text, with each argument in the
// room that its name had, so that places stay what they are.
func (q *Query) describe(ctx context.Context, c *catalog.Catalog, engine Describer) (*described, error) {
	if engine == nil {
		return nil, nil
	}
	return q.describeVariant(ctx, c.Engine, engine, variant{})
}

// variant is one of the statements that a query can be.
type variant struct {
	absent []int       // optional arguments that are left out
	keys   map[int]int // of orders, by argument: the key that is chosen; 0 is the first
	// unordered orders by the first output, whatever keys there are.
	unordered bool
}

func (q *Query) describeVariant(ctx context.Context, d *sqltext.Dialect, engine Describer, v variant) (*described, error) {
	text, args := q.variantText(d, v)
	types, columns, at, err := engine.Describe(ctx, text, args, q.Shape != Count && q.Shape != Nothing)
	if err != nil {
		return nil, &placeError{at, err}
	}
	return &described{types, columns}, nil
}

// variantText is the text of a variant with the engine's placeholders for its
// arguments, and how many values it takes. What drops out is blank.
func (q *Query) variantText(d *sqltext.Dialect, v variant) (text string, args int) {
	given := func(arg int) bool { return !slices.Contains(v.absent, arg) }
	numbers := map[int]int{}
	var b strings.Builder
	from := 0
	for _, p := range q.places {
		b.WriteString(q.blanked(from, p.from, given))
		from = p.to
		if !whenAt(q.spans, p.from).Holds(given) {
			b.WriteString(strings.Repeat(" ", p.to-p.from))
			continue
		}
		mark := "?"
		switch keys := q.Args[p.arg].Keys; {
		case keys != nil:
			mark = keys[v.keys[p.arg]].SQL
			if v.unordered {
				mark = "1"
			}
		case d.NumberedArgs:
			if numbers[p.arg] == 0 {
				numbers[p.arg] = len(numbers) + 1
				args++
			}
			mark = "$" + strconv.Itoa(numbers[p.arg])
		default:
			args++
		}
		b.WriteString(mark + strings.Repeat(" ", max(0, p.to-p.from-len(mark))))
	}
	b.WriteString(q.blanked(from, len(q.text), given))
	return b.String(), args
}

// blanked is a stretch of the text with blanks for what drops out.
func (q *Query) blanked(from, to int, given func(arg int) bool) string {
	text := []byte(q.text[from:to])
	for i := range text {
		if !whenAt(q.spans, from+i).Holds(given) && text[i] != '\n' {
			text[i] = ' '
		}
	}
	return string(text)
}

// checkOrders has the engine look at the keys of every order, from one on.
func (q *Query) checkOrders(ctx context.Context, a *analysis, engine Describer, from int) error {
	if engine == nil {
		return nil
	}
	for i, arg := range q.Args {
		for n := from; n < len(arg.Keys); n++ {
			key := arg.Keys[n]
			if _, err := q.describeVariant(ctx, a.catalog.Engine, engine, variant{keys: map[int]int{i: n}}); err != nil {
				message, next := a.said(err)
				return q.file.fault(key.at, next, "query %s: the key %s of the order %s: %s", q.Name, key.Name, arg.Name, message)
			}
		}
	}
	return nil
}

// mostVariants is how many variants of a query the engine looks at, one for each
// set of arguments that are left out. Of a query that has more, it sees the one
// without any, and those in which one is left out or given.
const mostVariants = 64

func (q *Query) variants() [][]int {
	var optional []int
	for i, a := range q.Args {
		if a.Optional {
			optional = append(optional, i)
		}
	}
	if n := len(optional); n == 0 {
		return nil
	} else if 1<<n <= mostVariants {
		var list [][]int
		for set := 1; set < 1<<n; set++ {
			var absent []int
			for i, arg := range optional {
				if set&(1<<i) != 0 {
					absent = append(absent, arg)
				}
			}
			list = append(list, absent)
		}
		return list
	}
	list := [][]int{optional}
	for i, arg := range optional {
		list = append(list, []int{arg}, slices.Delete(slices.Clone(optional), i, i+1))
	}
	return list
}

// checkVariants has the engine look at the query without arguments that may be
// left out.
func (q *Query) checkVariants(ctx context.Context, a *analysis, whole *described, engine Describer) error {
	if engine == nil {
		return nil
	}
	for _, absent := range q.variants() {
		var names []string
		for _, arg := range absent {
			names = append(names, q.Args[arg].Name)
		}
		without := strings.Join(names, " and ")
		at := q.Args[absent[0]].at
		found, err := q.describeVariant(ctx, a.catalog.Engine, engine, variant{absent: absent})
		if err != nil {
			message, _ := a.said(err)
			return q.file.fault(at, "keep what the statement needs without it, put more lines between -- gate if and -- gate end, or take the ? away",
				"query %s cannot do without %s: %s", q.Name, without, message)
		}
		if len(found.columns) != len(whole.columns) {
			return q.file.fault(at, "let what it gives depend on no argument", "query %s gives %d columns without %s, and %d with it", q.Name, len(found.columns), without, len(whole.columns))
		}
	}
	return nil
}

// number is the place of an argument among those that are bound, from 1: in the
// order in which they stand in the text.
func (q *Query) number(arg int) int {
	var seen []int
	for _, p := range q.places {
		if q.Args[p.arg].Keys == nil && !slices.Contains(seen, p.arg) {
			seen = append(seen, p.arg)
		}
	}
	return slices.Index(seen, arg) + 1
}

// setArgs chooses the type of each argument: the one that the header names,
// that of the column it is compared with, or the one that the engine finds.
func (q *Query) setArgs(a *analysis, d *described) error {
	for i := range q.Args {
		arg := &q.Args[i]
		if arg.Keys != nil {
			continue
		}
		found := a.args[i]
		switch {
		case arg.Declared != "":
			t, ok := TypeNamed(a.catalog, arg.Declared)
			if !ok {
				return q.file.fault(arg.at, "use int, bigint, numeric, double, text, bool, date, time, timestamp, timestamptz, uuid, json, bytes, or an enum of the schema",
					"query %s: there is no type %q", q.Name, arg.Declared)
			}
			found.Type, found.Declared = t, arg.Declared
		case found.Type.Kind != "" && found.Type.Kind != catalog.Other:
		case d != nil && a.catalog.Engine.NumberedArgs && q.number(i)-1 < len(d.types):
			found.Type = d.types[q.number(i)-1]
			if arg.List && found.Type.Element != nil {
				found.Type = *found.Type.Element
			}
		}
		if found.Type.Kind == "" || found.Type.Kind == catalog.Other {
			return q.file.fault(arg.at, fmt.Sprintf("give it one where the query is headed, as in %s date", arg.Name), "query %s: the type of %s cannot be told", q.Name, arg.Name)
		}
		if arg.Declared == "" {
			arg.Source = a.origins[i]
		}
		arg.Nullable = found.Nullable && a.assigned[i]
		arg.Column = catalog.Column{Name: arg.Name, Declared: found.Declared, Type: found.Type}
	}
	return nil
}

// setResult joins what the analysis and the engine say of the columns.
func (q *Query) setResult(a *analysis, d *described) error {
	rows := q.Shape != Count && q.Shape != Nothing
	if !rows {
		return nil
	}
	if len(a.outputs) == 0 {
		return q.fault(0, "let it give count or nothing, or add a RETURNING", "it gives no rows")
	}
	if d != nil && len(d.columns) > 0 {
		if n := a.width(); n != len(d.columns) {
			return q.fault(0, "write the columns out", "its columns were not understood: %d found, and the engine has %d", n, len(d.columns))
		}
		a.merge(d.columns)
	}
	names := map[string]bool{}
	for i := range a.outputs {
		r := &a.outputs[i]
		if r.Table != nil {
			continue
		}
		if r.Column.Name == "" {
			return q.fault(r.from, "add one by AS", "this value has no name: %s", strings.TrimSpace(q.text[r.from:r.to]))
		}
		if names[strings.ToLower(r.Column.Name)] {
			return q.fault(r.from, "rename one of them by AS", "two columns are called %s", r.Column.Name)
		}
		names[strings.ToLower(r.Column.Name)] = true
		if r.Column.Type.Kind == "" || r.Column.Type.Kind == catalog.Other && r.Column.Declared == "" {
			next := "give it one by CAST"
			if d == nil {
				next += ", or write once with a database at hand"
			}
			return q.fault(r.from, next, "the type of %s cannot be told", r.Column.Name)
		}
	}
	q.Result = a.outputs
	return nil
}

// analysis reads the tokens of one statement. It follows names to the tables
// of the catalog; what it does not understand has no type.
type analysis struct {
	query    *Query
	catalog  *catalog.Catalog
	outputs  []Result // of the outermost query
	sources  []source // of all queries
	args     map[int]catalog.Column
	origins  map[int]*catalog.Column // of tables: what the arguments are compared with
	assigned map[int]bool            // stored in a column
	err      error
}

// source is what rows come from.
type source struct {
	alias   string
	table   *catalog.Table // nil where it is a query
	columns []catalog.Column
	outer   bool // may be missing
}

// scope is where names are looked up.
type scope struct {
	with    map[string][]catalog.Column
	sources []source
	grouped bool
	up      *scope
}

func (a *analysis) statement(tokens []sqltext.Token, up *scope) {
	a.args, a.origins, a.assigned = map[int]catalog.Column{}, map[int]*catalog.Column{}, map[int]bool{}
	a.outputs = a.selectOf(tokens, up)
	a.findArgs(tokens)
}

// width is the number of columns that the outputs have.
func (a *analysis) width() int {
	n := 0
	for _, r := range a.outputs {
		if r.Table != nil {
			n += len(r.Table.Columns)
		} else {
			n++
		}
	}
	return n
}

// merge takes the engine's types for the values of which it knows more.
func (a *analysis) merge(columns []catalog.Column) {
	at := 0
	for i := range a.outputs {
		r := &a.outputs[i]
		if r.Table != nil {
			at += len(r.Table.Columns)
			continue
		}
		c := columns[at]
		at++
		if r.Column.Name == "" && !generic(c.Name) {
			r.Column.Name = c.Name
		}
		known := r.Column.Type.Kind != "" && r.Column.Type.Kind != catalog.Other
		told := c.Type.Kind != "" && c.Type.Kind != catalog.Other
		if !known || told && r.Column.Declared == "" { // what a table declares stays
			r.Column.Type, r.Column.Declared = c.Type, c.Declared
		}
	}
}

// generic holds for names that engines give to what has none.
func generic(name string) bool {
	return name == "" || strings.ContainsAny(name, "?() *+-/|'") || strings.HasPrefix(name, "column")
}

// clauses end the list of sources, and each other.
var clauses = []string{"WHERE", "GROUP", "HAVING", "ORDER", "LIMIT", "OFFSET", "FETCH", "FOR", "WINDOW", "UNION", "INTERSECT", "EXCEPT", "RETURNING", "ON", "SET", "VALUES", "PROCEDURE", "INTO", "LOCK"}

func isOneOf(t sqltext.Token, words []string) bool {
	return t.Kind == sqltext.Word && slices.Contains(words, strings.ToUpper(t.Text))
}

// closing is the place of the parenthesis that closes the one at i.
func closing(tokens []sqltext.Token, i int) int {
	depth := 0
	for ; i < len(tokens); i++ {
		if tokens[i].Sign("(") {
			depth++
		} else if tokens[i].Sign(")") {
			depth--
			if depth == 0 {
				return i
			}
		}
	}
	return len(tokens) - 1
}

// topLevel calls see with the place of each token outside parentheses until it
// returns false.
func topLevel(tokens []sqltext.Token, see func(i int) bool) {
	for i := 0; i < len(tokens); i++ {
		if !see(i) {
			return
		}
		if tokens[i].Sign("(") {
			i = closing(tokens, i)
		}
	}
}

// selectOf reads a statement and returns what it puts out.
func (a *analysis) selectOf(tokens []sqltext.Token, up *scope) []Result {
	for len(tokens) > 1 && tokens[0].Sign("(") && closing(tokens, 0) == len(tokens)-1 {
		tokens = tokens[1 : len(tokens)-1]
	}
	s := &scope{with: map[string][]catalog.Column{}, up: up}
	tokens = a.readWith(tokens, s)
	if len(tokens) == 0 {
		return nil
	}
	if branches := a.branches(tokens); len(branches) > 1 {
		var list []Result
		for i, b := range branches {
			other := a.selectOf(b, s)
			if i == 0 {
				list = slices.Clone(other)
				continue
			}
			list = either(list, other)
		}
		return list
	}
	switch {
	case tokens[0].Is("SELECT"):
		return a.readSelect(tokens, s)
	case tokens[0].Is("VALUES"):
		return a.readValues(tokens, s)
	}
	return a.readChange(tokens, s)
}

// branches are the queries that UNION and the like join.
func (a *analysis) branches(tokens []sqltext.Token) [][]sqltext.Token {
	var list [][]sqltext.Token
	from := 0
	topLevel(tokens, func(i int) bool {
		if isOneOf(tokens[i], []string{"UNION", "INTERSECT", "EXCEPT"}) {
			list = append(list, tokens[from:i])
			from = i + 1
			if from < len(tokens) && isOneOf(tokens[from], []string{"ALL", "DISTINCT"}) {
				from++
			}
		}
		return true
	})
	return append(list, tokens[from:])
}

// either is what two queries put out together.
func either(a, b []Result) []Result {
	if len(a) != len(b) {
		return a
	}
	for i := range a {
		if a[i].Table != nil && a[i].Table == b[i].Table {
			a[i].Outer = a[i].Outer || b[i].Outer
			continue
		}
		both := widest([]catalog.Column{a[i].Column, b[i].Column})
		a[i].Column.Nullable, a[i].Column.Type, a[i].Column.Declared = both.Nullable, both.Type, both.Declared
	}
	return a
}

// readWith reads the queries before the statement and returns what follows.
func (a *analysis) readWith(tokens []sqltext.Token, s *scope) []sqltext.Token {
	if len(tokens) == 0 || !tokens[0].Is("WITH") {
		return tokens
	}
	i := 1
	if i < len(tokens) && tokens[i].Is("RECURSIVE") {
		i++
	}
	for i < len(tokens) {
		name := strings.ToLower(tokens[i].Text)
		i++
		var names []string
		if i < len(tokens) && tokens[i].Sign("(") {
			end := closing(tokens, i)
			for _, t := range tokens[i+1 : end] {
				if !t.Sign(",") {
					names = append(names, t.Text)
				}
			}
			i = end + 1
		}
		for i < len(tokens) && !tokens[i].Sign("(") {
			i++
		}
		if i == len(tokens) {
			return nil
		}
		end := closing(tokens, i)
		body := tokens[i+1 : end]
		if branches := a.branches(body); len(branches) > 1 { // the first makes the columns, as for a recursive one
			s.with[name] = renamed(columnsOf(a.selectOf(branches[0], s)), names)
		}
		s.with[name] = renamed(columnsOf(a.selectOf(body, s)), names)
		i = end + 1
		if i >= len(tokens) || !tokens[i].Sign(",") {
			return tokens[min(i, len(tokens)):]
		}
		i++
	}
	return nil
}

func renamed(columns []catalog.Column, names []string) []catalog.Column {
	for i := range columns {
		if i < len(names) {
			columns[i].Name = names[i]
		}
	}
	return columns
}

// columnsOf are the columns of what a query puts out.
func columnsOf(list []Result) []catalog.Column {
	var columns []catalog.Column
	for _, r := range list {
		if r.Table == nil {
			columns = append(columns, r.Column)
			continue
		}
		for _, c := range r.Table.Columns {
			c.Nullable = c.Nullable || r.Outer
			columns = append(columns, c)
		}
	}
	return columns
}

func (a *analysis) readSelect(tokens []sqltext.Token, s *scope) []Result {
	from, end := len(tokens), len(tokens)
	topLevel(tokens, func(i int) bool {
		t := tokens[i]
		switch {
		case t.Is("FROM") && from == len(tokens) && !(i > 0 && tokens[i-1].Is("DISTINCT") && i > 1 && isOneOf(tokens[i-2], []string{"IS", "NOT"})):
			from = i
		case t.Is("GROUP") && !(i > 0 && tokens[i-1].Is("WITHIN")):
			s.grouped = true
		}
		if i > 0 && end == len(tokens) && isOneOf(t, clauses) && !t.Is("ON") && !t.Is("SET") && !tokens[i-1].Is("WITHIN") {
			end = i
		}
		return true
	})
	list := tokens[1:min(from, end)]
	if len(list) > 0 && isOneOf(list[0], []string{"DISTINCT", "ALL"}) {
		list = list[1:]
		if len(list) > 1 && list[0].Is("ON") {
			list = list[closing(list, 1)+1:]
		}
	}
	if from < len(tokens) {
		a.readSources(tokens[from+1:], s)
	}
	a.readNested(tokens, s)
	return a.readOutputs(list, s)
}

// readNested finds the sources of queries within conditions, for the sake of
// arguments that are compared there.
func (a *analysis) readNested(tokens []sqltext.Token, s *scope) {
	for i := range tokens {
		if tokens[i].Sign("(") && i+1 < len(tokens) && (tokens[i+1].Is("SELECT") || tokens[i+1].Is("WITH")) {
			a.selectOf(tokens[i+1:closing(tokens, i)], s)
		}
	}
}

// readSources reads what stands behind FROM.
func (a *analysis) readSources(tokens []sqltext.Token, s *scope) {
	var side string // of the join that brings the next source
	first := len(s.sources)
	for i := 0; i < len(tokens); {
		t := tokens[i]
		switch {
		case isOneOf(t, []string{"LEFT", "RIGHT", "FULL"}):
			side = strings.ToUpper(t.Text)
			i++
		case t.Sign(","), isOneOf(t, []string{"JOIN", "INNER", "OUTER", "CROSS", "NATURAL", "LATERAL", "ONLY", "STRAIGHT_JOIN"}):
			i++
		case t.Is("ON"):
			i++
			for i < len(tokens) && !tokens[i].Sign(",") && !isOneOf(tokens[i], clauses) && !isOneOf(tokens[i], []string{"LEFT", "RIGHT", "FULL", "JOIN", "INNER", "CROSS", "NATURAL"}) {
				if tokens[i].Sign("(") {
					i = closing(tokens, i)
				}
				i++
			}
		case t.Is("USING"):
			i = closing(tokens, i+1) + 1
		case isOneOf(t, clauses):
			return
		case i > 0 && !tokens[i-1].Sign(",") && !isOneOf(tokens[i-1], sourceWords):
			return // which is for the engine to say
		default:
			var list []source
			list, i = a.readSource(tokens, i, s)
			if side == "LEFT" || side == "FULL" {
				for k := range list {
					list[k].outer = true
				}
			}
			if side == "RIGHT" || side == "FULL" {
				for k := first; k < len(s.sources); k++ {
					s.sources[k].outer = true
				}
			}
			side = ""
			s.sources = append(s.sources, list...)
			a.sources = append(a.sources, list...)
		}
	}
}

// sourceWords stand before a source.
var sourceWords = []string{"JOIN", "LATERAL", "ONLY", "STRAIGHT_JOIN"}

// readSource reads one source, or several in parentheses, and its alias.
func (a *analysis) readSource(tokens []sqltext.Token, i int, s *scope) ([]source, int) {
	var src source
	start := tokens[i]
	switch {
	case start.Sign("("):
		end := closing(tokens, i)
		inner := tokens[i+1 : end]
		if len(inner) > 0 && !inner[0].Is("SELECT") && !inner[0].Is("WITH") && !inner[0].Is("VALUES") && !inner[0].Sign("(") {
			nested := &scope{with: s.with, up: s}
			a.readSources(inner, nested)
			return nested.sources, end + 1
		}
		src.columns = columnsOf(a.selectOf(inner, s))
		i = end + 1
	case start.Kind == sqltext.Word || start.Kind == sqltext.QuotedName:
		schema, name := "", start.Text
		i++
		if i+1 < len(tokens) && tokens[i].Sign(".") {
			schema, name = name, tokens[i+1].Text
			i += 2
		}
		src.alias = name
		if i < len(tokens) && tokens[i].Sign("(") { // a function
			i = closing(tokens, i) + 1
			src.columns = []catalog.Column{{Name: name}}
			break
		}
		a.lookup(&src, schema, name, s, start)
	default:
		return nil, i + 1
	}
	return a.readAlias(tokens, i, src)
}

// lookup finds the columns of a table, or of a query that is named before.
func (a *analysis) lookup(src *source, schema, name string, s *scope, at sqltext.Token) {
	for up := s; up != nil && schema == ""; up = up.up {
		if columns, ok := up.with[strings.ToLower(name)]; ok {
			src.columns = columns
			return
		}
	}
	for i := range a.catalog.Tables {
		t := &a.catalog.Tables[i]
		if strings.EqualFold(t.Name, name) && (schema == "" || strings.EqualFold(t.Schema, schema) || t.Schema == "") {
			src.table = t
			src.columns = t.Columns
			return
		}
	}
	if a.err == nil && !strings.EqualFold(schema, "information_schema") && !strings.HasPrefix(strings.ToLower(name), "pg_") {
		a.err = a.query.fault(at.From, a.nearTable(name), "there is no table %s", name)
	}
}

func (a *analysis) nearTable(name string) string {
	var names []string
	for i := range a.catalog.Tables {
		names = append(names, a.catalog.Tables[i].Name)
	}
	if near := catalog.Nearest(strings.ToLower(name), names); near != "" {
		return fmt.Sprintf("did you mean %s?", near)
	}
	return "`widegate read` lists the tables"
}

var joinWords = []string{"LEFT", "RIGHT", "FULL", "INNER", "CROSS", "NATURAL", "JOIN", "USING", "STRAIGHT_JOIN", "FORCE", "USE", "IGNORE", "AS", "TABLESAMPLE", "NOT", "INDEXED"}

func (a *analysis) readAlias(tokens []sqltext.Token, i int, src source) ([]source, int) {
	if i < len(tokens) && tokens[i].Is("AS") {
		i++
		if i < len(tokens) {
			src.alias = tokens[i].Text
			i++
		}
	} else if i < len(tokens) && (tokens[i].Kind == sqltext.Word || tokens[i].Kind == sqltext.QuotedName) && !isOneOf(tokens[i], clauses) && !isOneOf(tokens[i], joinWords) {
		src.alias = tokens[i].Text
		i++
	}
	if i < len(tokens) && tokens[i].Sign("(") && (src.table == nil || tokens[i-1].Text == src.alias) && src.columns != nil {
		end := closing(tokens, i)
		var names []string
		for _, t := range tokens[i+1 : end] {
			if !t.Sign(",") {
				names = append(names, t.Text)
			}
		}
		src.columns = renamed(slices.Clone(src.columns), names)
		src.table = nil
		i = end + 1
	}
	return []source{src}, i
}

// readChange reads an INSERT, UPDATE or DELETE.
func (a *analysis) readChange(tokens []sqltext.Token, s *scope) []Result {
	returning := len(tokens)
	target := -1
	topLevel(tokens, func(i int) bool {
		switch t := tokens[i]; {
		case t.Is("RETURNING"):
			returning = i
		case target < 0 && i > 0 && (tokens[i-1].Is("INTO") || tokens[i-1].Is("UPDATE") || tokens[i-1].Is("FROM")) && (t.Kind == sqltext.Word || t.Kind == sqltext.QuotedName):
			target = i
		}
		return true
	})
	if target >= 0 {
		inserts := tokens[0].Is("INSERT") || tokens[0].Is("REPLACE")
		end := returning
		if inserts { // what follows in parentheses are columns, and no new names
			for end = target; end < returning && !tokens[end].Sign("("); end++ {
				continue
			}
		}
		list, _ := a.readSource(tokens[:end], target, s)
		s.sources = append(s.sources, list...)
		a.sources = append(a.sources, list...)
		if inserts {
			a.readInsert(tokens[:returning], target, list)
		}
		topLevel(tokens[:returning], func(k int) bool {
			if k > target && (tokens[k].Is("FROM") || tokens[k].Is("USING")) {
				a.readSources(tokens[k+1:returning], s)
				return false
			}
			return true
		})
	}
	a.readNested(tokens, s)
	topLevel(tokens[:returning], func(i int) bool {
		if i > 0 && tokens[i].Is("SELECT") {
			a.selectOf(tokens[i:returning], s)
			return false
		}
		return true
	})
	if returning == len(tokens) {
		return nil
	}
	return a.readOutputs(tokens[returning+1:], s)
}

// readInsert gives the arguments among the values the types of the columns.
func (a *analysis) readInsert(tokens []sqltext.Token, target int, list []source) {
	if len(list) != 1 || list[0].table == nil {
		return
	}
	columns := list[0].table.Columns
	var pointers []*catalog.Column
	at := target + 1
	for at < len(tokens) && !tokens[at].Sign("(") && !tokens[at].Is("VALUES") && !tokens[at].Is("SELECT") {
		at++
	}
	if at < len(tokens) && tokens[at].Sign("(") {
		columns = nil
		for _, t := range tokens[at+1 : closing(tokens, at)] {
			if c, ok := list[0].table.Column(t.Text); ok {
				columns = append(columns, *c)
				pointers = append(pointers, c)
			}
		}
		at = closing(tokens, at) + 1
	}
	for ; at < len(tokens); at++ {
		if tokens[at].Sign("(") {
			for n, part := range splitTokens(tokens[at+1 : closing(tokens, at)]) {
				if arg, ok := a.argOf(part); ok && n < len(columns) {
					a.setArg(arg, columns[n], true)
					if n < len(pointers) {
						a.origins[arg] = pointers[n]
					}
				}
			}
			at = closing(tokens, at)
		}
	}
}

func splitTokens(tokens []sqltext.Token) [][]sqltext.Token {
	var list [][]sqltext.Token
	from := 0
	topLevel(tokens, func(i int) bool {
		if tokens[i].Sign(",") {
			list = append(list, tokens[from:i])
			from = i + 1
		}
		return true
	})
	return append(list, tokens[from:])
}

// argOf is the argument that tokens are, and nothing else.
func (a *analysis) argOf(tokens []sqltext.Token) (int, bool) {
	if len(tokens) != 2 || !tokens[0].Sign(":") {
		return 0, false
	}
	for _, p := range a.query.places {
		if p.from == tokens[0].From {
			return p.arg, true
		}
	}
	return 0, false
}

func (a *analysis) setArg(arg int, c catalog.Column, assigned bool) {
	if _, known := a.args[arg]; known && !assigned || c.Type.Kind == "" || c.Type.Kind == catalog.Other && c.Declared == "" {
		return
	}
	a.args[arg] = c
	a.assigned[arg] = a.assigned[arg] || assigned
}

func (a *analysis) readValues(tokens []sqltext.Token, s *scope) []Result {
	if len(tokens) < 2 || !tokens[1].Sign("(") {
		return nil
	}
	var list []Result
	for i, part := range splitTokens(tokens[2:closing(tokens, 1)]) {
		c := a.typeOf(part, s)
		c.Name = "column" + strconv.Itoa(i+1)
		list = append(list, Result{Column: c})
	}
	return list
}

// readOutputs reads the list behind SELECT or RETURNING.
func (a *analysis) readOutputs(tokens []sqltext.Token, s *scope) []Result {
	var list []Result
	if len(tokens) == 0 {
		return nil
	}
	for _, part := range splitTokens(tokens) {
		if len(part) == 0 {
			continue
		}
		from, to := part[0].From, part[len(part)-1].To
		if part[len(part)-1].Sign("*") && (len(part) == 1 || part[len(part)-2].Sign(".")) {
			list = append(list, a.star(part, s, from, to)...)
			continue
		}
		expr, name := outputName(part)
		c := a.typeOf(expr, s)
		if name != "" {
			c.Name = name
		} else if len(expr) > 1 && !isColumnRef(expr) {
			c.Name = ""
		}
		list = append(list, Result{Column: catalog.Column{Name: c.Name, Declared: c.Declared, Type: c.Type, Nullable: c.Nullable, Comment: c.Comment, Domain: c.Domain}, Source: a.sourceColumn(expr, s), from: from, to: to})
	}
	return list
}

// sourceColumn is the column of a table that an expression is, and nothing
// else.
func (a *analysis) sourceColumn(expr []sqltext.Token, s *scope) *catalog.Column {
	if len(expr) == 0 || !isColumnRef(expr) {
		return nil
	}
	alias := ""
	if len(expr) >= 3 {
		alias = expr[len(expr)-3].Text
	}
	for _, src := range slices.Concat(s.sources, a.sources) {
		if src.table == nil || alias != "" && !strings.EqualFold(src.alias, alias) {
			continue
		}
		for i := range src.table.Columns {
			if strings.EqualFold(src.table.Columns[i].Name, expr[len(expr)-1].Text) {
				return &src.table.Columns[i]
			}
		}
	}
	return nil
}

// star is all columns of one source, or of all.
func (a *analysis) star(part []sqltext.Token, s *scope, from, to int) []Result {
	var list []Result
	for _, src := range s.sources {
		if len(part) > 1 && !strings.EqualFold(src.alias, part[0].Text) {
			continue
		}
		if src.table != nil {
			list = append(list, Result{Table: src.table, Alias: src.alias, Outer: src.outer, from: from, to: to})
			continue
		}
		for _, c := range src.columns {
			c.Nullable = c.Nullable || src.outer
			list = append(list, Result{Column: c, Alias: src.alias, from: from, to: to})
		}
	}
	if list == nil && len(part) > 1 && a.err == nil {
		a.err = a.query.fault(from, a.nearAlias(part[0].Text, s), "nothing here is called %s", part[0].Text)
	}
	return list
}

func (a *analysis) nearAlias(name string, s *scope) string {
	var names []string
	for _, src := range s.sources {
		names = append(names, src.alias)
	}
	if near := catalog.Nearest(name, names); near != "" {
		return fmt.Sprintf("did you mean %s?", near)
	}
	return "rows come from " + strings.Join(names, ", ")
}

// outputName takes the name off an expression: AS name, or a name alone.
func outputName(part []sqltext.Token) (expr []sqltext.Token, name string) {
	n := len(part)
	last := part[n-1]
	if n > 2 && part[n-2].Is("AS") {
		return part[:n-2], last.Text
	}
	if n < 2 || last.Kind != sqltext.Word && last.Kind != sqltext.QuotedName || last.Is("END") {
		return part, ""
	}
	before := part[n-2]
	ends := before.Sign(")") || before.Kind == sqltext.Text || before.Is("END") || before.Kind == sqltext.QuotedName ||
		before.Kind == sqltext.Word && !isOneOf(before, []string{"AND", "OR", "NOT", "IS", "LIKE", "ILIKE", "IN", "BETWEEN", "DISTINCT", "CASE", "WHEN", "THEN", "ELSE", "SELECT", "DIV", "MOD", "INTERVAL", "ZONE"})
	if !ends || last.Is("NULL") || last.Is("ZONE") {
		return part, ""
	}
	return part[:n-1], last.Text
}

// isColumnRef holds for name and table.name.
func isColumnRef(expr []sqltext.Token) bool {
	word := func(t sqltext.Token) bool {
		return t.Kind == sqltext.QuotedName || t.Kind == sqltext.Word && (t.Text[0] < '0' || t.Text[0] > '9')
	}
	switch len(expr) {
	case 1:
		return word(expr[0])
	case 3:
		return word(expr[0]) && expr[1].Sign(".") && word(expr[2])
	case 5:
		return word(expr[0]) && expr[1].Sign(".") && word(expr[2]) && expr[3].Sign(".") && word(expr[4])
	}
	return false
}

// column finds a column by its name; an alias may stand before it.
func (a *analysis) column(expr []sqltext.Token, s *scope) (catalog.Column, bool) {
	name, alias := expr[len(expr)-1].Text, ""
	if len(expr) >= 3 {
		alias = expr[len(expr)-3].Text
	}
	for up := s; up != nil; up = up.up {
		if c, ok := columnIn(up.sources, alias, name); ok {
			return c, true
		}
	}
	return columnIn(a.sources, alias, name)
}

func columnIn(sources []source, alias, name string) (catalog.Column, bool) {
	for _, src := range sources {
		if alias != "" && !strings.EqualFold(src.alias, alias) {
			continue
		}
		for _, c := range src.columns {
			if strings.EqualFold(c.Name, name) {
				c.Nullable = c.Nullable || src.outer
				return c, true
			}
		}
	}
	return catalog.Column{}, false
}

// explain adds to an engine's error where it is, and the nearest known name.
func (a *analysis) explain(err error) error {
	q := a.query
	message, next := a.said(err)
	at := -1
	var placed *placeError
	if errors.As(err, &placed) {
		at = placed.at
	}
	if at < 0 {
		at = a.placeOf(referenceIn(message))
	}
	if m := nearText.FindStringSubmatch(message); at < 0 && m != nil && m[1] != "" {
		at = strings.LastIndex(q.text, strings.SplitN(m[1], "?", 2)[0])
	}
	if at < 0 && ended.MatchString(message) {
		at = len(q.text)
	}
	return q.fault(max(at, 0), next, "%s", message)
}

// placeOf is where a name stands that an error names, perhaps with the alias of
// a table before it; -1 is nowhere. A table is only meant where no column is.
func (a *analysis) placeOf(name string) int {
	parts := strings.Split(name, ".")
	last := parts[len(parts)-1]
	table := -1
	for i, t := range a.query.tokens {
		if last == "" || !strings.EqualFold(t.Text, last) || t.Kind == sqltext.Text {
			continue
		}
		tokens := a.query.tokens
		aliased := i >= 2 && tokens[i-1].Sign(".")
		switch {
		case aliased && len(parts) > 1 && strings.EqualFold(tokens[i-2].Text, parts[len(parts)-2]):
			return tokens[i-2].From
		case len(parts) > 1 && aliased:
		case i > 0 && isOneOf(tokens[i-1], []string{"FROM", "JOIN", "UPDATE", "INTO"}):
			table = max(table, t.From)
		case len(parts) == 1 || i+1 < len(tokens) && tokens[i+1].Sign("("):
			return t.From
		}
	}
	return table
}

// said is an engine's error, and what to do about it.
func (a *analysis) said(err error) (message, next string) {
	message = scratchName.ReplaceAllString(syntaxError.ReplaceAllString(err.Error(), "syntax error near '$1'"), "")
	message = numbered.ReplaceAllStringFunc(message, func(mark string) string {
		for i, arg := range a.query.Args {
			if mark == "$"+strconv.Itoa(a.query.number(i)) {
				return ":" + arg.Name // as the developer wrote it
			}
		}
		return mark
	})
	next = "mend the query, or the schema"
	if name := namedIn(message); name != "" {
		names := a.columnNames()
		switch near := catalog.Nearest(strings.ToLower(name), names); {
		case near != "":
			next = fmt.Sprintf("did you mean %s?", near)
		case strings.Contains(message, "column") && len(names) > 0:
			next = "the columns here are " + strings.Join(names, ", ")
		}
	}
	return message, next
}

var (
	syntaxError = regexp.MustCompile(`(?s)You have an error in your SQL syntax; check the manual .* to use near '(.*)' at line \d+`)
	scratchName = regexp.MustCompile(`\bwidegate_scratch_\w+\.`)
	nearText    = regexp.MustCompile(`(?s)^syntax error near '(.*)'$`)
	ended       = regexp.MustCompile(`near ''$|incomplete input|end of input`)
	numbered    = regexp.MustCompile(`\$[0-9]+`)
	quotedName  = regexp.MustCompile("[\"'`]([^\"'`]+)[\"'`]")
	namedName   = regexp.MustCompile(`column named ([A-Za-z_][A-Za-z0-9_]*)`)
	dottedName  = regexp.MustCompile(`(?:column|no such column:?|table:?|function:?|FUNCTION) ([A-Za-z_][A-Za-z0-9_]*(?:\.[A-Za-z_][A-Za-z0-9_]*)*)`)
)

// namedIn is the name that a message complains about, without what stands
// before its last point.
func namedIn(message string) string {
	name := referenceIn(message)
	return name[strings.LastIndexByte(name, '.')+1:]
}

// referenceIn is the name that a message complains about.
func referenceIn(message string) string {
	for _, form := range []*regexp.Regexp{namedName, dottedName, quotedName} {
		if m := form.FindStringSubmatch(message); m != nil {
			return m[1]
		}
	}
	return ""
}

// columnNames are those of all sources, each once.
func (a *analysis) columnNames() []string {
	var names []string
	for _, src := range a.sources {
		for _, c := range src.columns {
			if !slices.Contains(names, c.Name) {
				names = append(names, c.Name)
			}
		}
	}
	return names
}
