package sqlquery

import (
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

var (
	integer  = catalog.Type{Kind: catalog.Int, Bits: 64}
	decimal  = catalog.Type{Kind: catalog.Decimal}
	float    = catalog.Type{Kind: catalog.Float, Bits: 64}
	text     = catalog.Type{Kind: catalog.Text}
	boolean  = catalog.Type{Kind: catalog.Bool}
	document = catalog.Type{Kind: catalog.JSON}
)

// typeNames are the types that a header or a cast can name.
var typeNames = map[string]catalog.Type{
	"int": {Kind: catalog.Int, Bits: 32}, "integer": {Kind: catalog.Int, Bits: 32}, "int4": {Kind: catalog.Int, Bits: 32},
	"smallint": {Kind: catalog.Int, Bits: 16}, "int2": {Kind: catalog.Int, Bits: 16}, "bigint": integer, "int8": integer, "signed": integer,
	"numeric": decimal, "decimal": decimal, "dec": decimal, "real": {Kind: catalog.Float, Bits: 32}, "float": float, "double": float, "float8": float,
	"text": text, "varchar": text, "char": text, "character": text, "string": text, "bool": boolean, "boolean": boolean,
	"date": {Kind: catalog.Date}, "time": {Kind: catalog.Time}, "timestamp": {Kind: catalog.Timestamp}, "datetime": {Kind: catalog.Timestamp},
	"timestamptz": {Kind: catalog.TimestampTZ}, "uuid": {Kind: catalog.UUID}, "json": document, "jsonb": document,
	"bytes": {Kind: catalog.Bytes}, "bytea": {Kind: catalog.Bytes}, "blob": {Kind: catalog.Bytes}, "binary": {Kind: catalog.Bytes}, "interval": {Kind: catalog.Interval},
}

// TypeNamed is the type that a header, a cast or a declaration names.
func TypeNamed(c *catalog.Catalog, name string) (catalog.Type, bool) {
	name = strings.ToLower(strings.TrimSpace(name))
	if e, ok := c.Enum(name); ok {
		return catalog.Type{Kind: catalog.EnumKind, Enum: catalog.Qualify(e.Schema, e.Name)}, true
	}
	for _, composite := range c.Composites {
		if full := catalog.Qualify(composite.Schema, composite.Name); name == strings.ToLower(full) {
			return catalog.Type{Kind: catalog.Compound, Composite: full}, true
		}
	}
	if base, _, sized := strings.Cut(name, "("); sized {
		name = strings.TrimSpace(base)
	}
	if c.Engine.WideIntegers && (name == "int" || name == "integer") {
		return integer, true
	}
	t, ok := typeNames[strings.TrimSuffix(strings.TrimSuffix(name, " precision"), " unsigned")]
	return t, ok
}

// of is a value of a type.
func of(t catalog.Type, nullable bool) catalog.Column {
	return catalog.Column{Type: t, Nullable: nullable}
}

var unknown = catalog.Column{Nullable: true}

// typeOf finds the type of an expression, and whether it may be null.
func (a *analysis) typeOf(expr []sqltext.Token, s *scope) catalog.Column {
	for len(expr) > 2 && expr[0].Sign("(") && closing(expr, 0) == len(expr)-1 {
		expr = expr[1 : len(expr)-1]
		if expr[0].Is("SELECT") || expr[0].Is("WITH") {
			if columns := columnsOf(a.selectOf(expr, s)); len(columns) == 1 {
				columns[0].Nullable = !countsAll(expr) // there may be no row
				return columns[0]
			}
			return unknown
		}
	}
	if len(expr) == 0 {
		return unknown
	}
	if c, ok := a.operation(expr, s); ok {
		return c
	}
	return a.primary(expr, s)
}

// countsAll holds for a query of a count of all rows, which has a row always.
func countsAll(query []sqltext.Token) bool {
	grouped := false
	topLevel(query, func(i int) bool {
		grouped = grouped || isOneOf(query[i], []string{"GROUP", "HAVING", "LIMIT", "OFFSET", "UNION", "INTERSECT", "EXCEPT"})
		return true
	})
	return !grouped && len(query) > 2 && query[0].Is("SELECT") && query[1].Is("COUNT") && query[2].Sign("(")
}

// levels are the operators that bind least first.
var levels = []struct {
	words  []string
	signs  string
	result func(left, right catalog.Column) catalog.Column
}{
	{words: []string{"OR", "AND", "XOR"}, result: truth},
	{words: []string{"NOT"}, result: truth},
	{words: []string{"IS"}, result: func(catalog.Column, catalog.Column) catalog.Column { return of(boolean, false) }},
	{words: []string{"LIKE", "ILIKE", "IN", "BETWEEN", "REGEXP", "RLIKE", "GLOB", "SIMILAR"}, signs: "=<>!~@", result: truth},
	{signs: "|", result: func(l, r catalog.Column) catalog.Column { return of(text, l.Nullable || r.Nullable) }},
	{signs: "+-", result: arithmetic},
	{words: []string{"DIV", "MOD"}, signs: "*/%", result: arithmetic},
}

func truth(l, r catalog.Column) catalog.Column { return of(boolean, l.Nullable || r.Nullable) }

func arithmetic(l, r catalog.Column) catalog.Column {
	nullable := l.Nullable || r.Nullable
	rank := func(c catalog.Column) int {
		return slices.Index([]catalog.TypeKind{catalog.Int, catalog.Decimal, catalog.Float}, c.Type.Kind)
	}
	switch x, y := rank(l), rank(r); {
	case x < 0 || y < 0: // of dates, say, the engine knows more
		return of(catalog.Type{}, nullable)
	case x == 0 && y == 0:
		return of(integer, nullable)
	case max(x, y) == 1:
		return of(decimal, nullable)
	}
	return of(float, nullable)
}

// operation splits an expression at its outermost operator.
func (a *analysis) operation(expr []sqltext.Token, s *scope) (catalog.Column, bool) {
	for _, level := range levels {
		at := -1
		inCase := 0
		topLevel(expr, func(i int) bool {
			t := expr[i]
			switch {
			case t.Is("CASE"):
				inCase++
			case t.Is("END"):
				inCase--
			case inCase > 0:
			case isOneOf(t, level.words), t.Kind == sqltext.Sign && strings.Contains(level.signs, t.Text) && !arrow(expr, i):
				if i > 0 || t.Is("NOT") {
					at = i
				}
			}
			return true
		})
		if at < 0 || len(expr) == 1 {
			continue
		}
		left := of(boolean, false)
		if at > 0 {
			left = a.typeOf(trimSigns(expr[:at]), s)
		}
		right := of(boolean, false)
		switch {
		case at+1 == len(expr), expr[at].Is("IS"):
		case expr[at].Is("IN"):
			right.Nullable = a.listNullable(expr[at+1:], s)
		default:
			right = a.typeOf(expr[at+1:], s)
		}
		result := level.result(left, right)
		if divides(expr[at]) && !a.catalog.Engine.ZeroDivision && !isNumber(expr[at+1:]) {
			result.Nullable = true // by zero gives null
		}
		return result, true
	}
	return unknown, false
}

// listNullable reports whether a value behind IN may be null.
func (a *analysis) listNullable(expr []sqltext.Token, s *scope) bool {
	if len(expr) < 2 || !expr[0].Sign("(") {
		return true
	}
	list := expr[1:closing(expr, 0)]
	if len(list) > 0 && isOneOf(list[0], queryWords) {
		columns := columnsOf(a.selectOf(list, s))
		return len(columns) == 0 || slices.ContainsFunc(columns, func(c catalog.Column) bool { return c.Nullable })
	}
	return slices.ContainsFunc(splitTokens(list), func(part []sqltext.Token) bool { return a.typeOf(part, s).Nullable })
}

func divides(t sqltext.Token) bool { return t.Sign("/") || t.Sign("%") || t.Is("DIV") || t.Is("MOD") }

// isNumber holds for a number that is not zero.
func isNumber(expr []sqltext.Token) bool {
	return len(expr) == 1 && expr[0].Kind == sqltext.Word && expr[0].Text[0] >= '0' && expr[0].Text[0] <= '9' && strings.Trim(expr[0].Text, "0.") != ""
}

// trimSigns takes off the first half of an operator of two signs, and NOT.
func trimSigns(expr []sqltext.Token) []sqltext.Token {
	for len(expr) > 1 {
		last := expr[len(expr)-1]
		if !last.Is("NOT") && (last.Kind != sqltext.Sign || !strings.Contains("=<>!~@|", last.Text)) {
			break
		}
		expr = expr[:len(expr)-1]
	}
	return expr
}

// arrow reports whether the sign at i is part of -> or ->>.
func arrow(expr []sqltext.Token, i int) bool {
	minus := func(k int) bool { return k >= 0 && k < len(expr) && expr[k].Sign("-") }
	more := func(k int) bool { return k >= 0 && k < len(expr) && expr[k].Sign(">") }
	return minus(i) && more(i+1) || more(i) && (minus(i-1) || more(i-1) && minus(i-2))
}

func (a *analysis) primary(expr []sqltext.Token, s *scope) catalog.Column {
	last := len(expr) - 1
	switch {
	case last >= 3 && expr[last-1].Sign(":") && expr[last-2].Sign(":"), last >= 3 && castAt(expr) > 0:
		at := castAt(expr)
		inner := a.typeOf(expr[:at], s)
		if t, ok := TypeNamed(a.catalog, words(expr[at+2:])); ok {
			return of(t, inner.Nullable)
		}
		return of(catalog.Type{}, inner.Nullable)
	case last == 0:
		return a.single(expr[0], s)
	case isColumnRef(expr):
		if c, ok := a.column(expr, s); ok {
			return c
		}
	case expr[0].Sign("-") || expr[0].Sign("+"):
		return a.typeOf(expr[1:], s)
	case expr[0].Is("CASE"):
		return a.caseOf(expr, s)
	case expr[0].Is("EXISTS"):
		return of(boolean, false)
	case expr[0].Kind == sqltext.Word && expr[1].Sign("(") && !arrowAt(expr):
		return a.call(strings.ToLower(expr[0].Text), expr[2:closing(expr, 1)], expr[closing(expr, 1)+1:], s)
	case arrowsText(expr):
		return of(text, true)
	case arrowAt(expr):
		return of(catalog.Type{Kind: catalog.JSON}, true)
	}
	if arg, ok := a.argOf(expr); ok {
		return a.args[arg]
	}
	return unknown
}

// castAt is where a cast by :: begins, the last one; 0 is none.
func castAt(expr []sqltext.Token) int {
	at := 0
	topLevel(expr, func(i int) bool {
		if i > 0 && i+2 < len(expr) && expr[i].Sign(":") && expr[i+1].Sign(":") {
			at = i
		}
		return true
	})
	return at
}

func words(tokens []sqltext.Token) string {
	var list []string
	for _, t := range tokens {
		if t.Sign("(") {
			break
		}
		list = append(list, t.Text)
	}
	return strings.Join(list, " ")
}

// arrowsText holds for document ->> path.
func arrowsText(expr []sqltext.Token) bool {
	for i := 2; i < len(expr); i++ {
		if expr[i].Sign(">") && expr[i-1].Sign(">") && expr[i-2].Sign("-") {
			return true
		}
	}
	return false
}

// arrowAt holds for document -> path.
func arrowAt(expr []sqltext.Token) bool {
	for i := 1; i < len(expr); i++ {
		if expr[i].Sign(">") && expr[i-1].Sign("-") {
			return true
		}
	}
	return false
}

func (a *analysis) single(t sqltext.Token, s *scope) catalog.Column {
	switch {
	case t.Kind == sqltext.Text:
		return of(text, false)
	case t.Is("NULL"):
		return unknown
	case t.Is("TRUE"), t.Is("FALSE"):
		return of(boolean, false)
	case t.Is("CURRENT_DATE"):
		return of(catalog.Type{Kind: catalog.Date}, false)
	case t.Is("CURRENT_TIMESTAMP"):
		return of(catalog.Type{Kind: catalog.TimestampTZ}, false)
	case t.Kind == sqltext.Word && t.Text[0] >= '0' && t.Text[0] <= '9':
		if strings.ContainsAny(t.Text, ".eE") {
			return of(decimal, false)
		}
		return of(integer, false)
	}
	if c, ok := a.column([]sqltext.Token{t}, s); ok {
		return c
	}
	return unknown
}

// caseOf is the type of the results; without ELSE it may be null.
func (a *analysis) caseOf(expr []sqltext.Token, s *scope) catalog.Column {
	var parts [][]sqltext.Token
	hasElse, depth, from := false, 0, -1
	take := func(end int) {
		if from >= 0 {
			parts = append(parts, expr[from:end])
		}
		from = -1
	}
	topLevel(expr, func(i int) bool {
		t := expr[i]
		switch {
		case t.Is("CASE"):
			depth++
		case t.Is("END"):
			depth--
			if depth == 0 {
				take(i)
			}
		case depth != 1:
		case t.Is("WHEN"):
			take(i)
		case t.Is("THEN"):
			from = i + 1
		case t.Is("ELSE"):
			take(i)
			hasElse, from = true, i+1
		}
		return true
	})
	result := a.eitherOf(parts, s)
	result.Nullable = result.Nullable || !hasElse
	return result
}

func (a *analysis) castCall(args []sqltext.Token, s *scope) catalog.Column {
	result := unknown
	topLevel(args, func(i int) bool {
		if !args[i].Is("AS") {
			return true
		}
		inner := a.typeOf(args[:i], s)
		to, _ := TypeNamed(a.catalog, words(args[i+1:]))
		result = of(to, inner.Nullable)
		return false
	})
	return result
}

// findArgs gives arguments the types of what they are compared with.
func (a *analysis) findArgs(tokens []sqltext.Token) {
	q := a.query
	all := &scope{sources: a.sources}
	for _, p := range q.places {
		i := p.token
		if c, assigned, ok := a.beside(tokens, p.arg, i, all); ok {
			a.setArg(p.arg, c, assigned)
		}
	}
}

// beside finds the type that the argument at token i must have.
func (a *analysis) beside(tokens []sqltext.Token, arg, i int, s *scope) (c catalog.Column, assigned, ok bool) {
	next := i + 2
	switch {
	case next+2 < len(tokens) && tokens[next].Sign(":") && tokens[next+1].Sign(":"):
		t, known := TypeNamed(a.catalog, tokens[next+2].Text)
		return of(t, false), false, known
	case next+1 < len(tokens) && tokens[next].Is("AS") && i > 1 && tokens[i-2].Is("CAST"):
		t, known := TypeNamed(a.catalog, tokens[next+1].Text)
		return of(t, false), false, known
	case i > 0 && (tokens[i-1].Is("LIMIT") || tokens[i-1].Is("OFFSET")):
		return of(integer, false), false, true
	}
	at := i - 1
	if at >= 1 && tokens[at].Sign("(") && tokens[at-1].Is("IN") {
		at--
		if at > 0 && tokens[at-1].Is("NOT") {
			at--
		}
		at--
	} else {
		at = a.operatorBefore(tokens, i)
	}
	if at >= 0 {
		operand := operandEnding(tokens, at)
		if c := a.typeOf(operand, s); c.Type.Kind != "" {
			a.origins[arg] = a.sourceColumn(operand, s)
			return c, isAssignment(tokens, at), true
		}
	}
	if at := operatorAfter(tokens, next); at > 0 {
		operand := operandBeginning(tokens, at)
		if c := a.typeOf(operand, s); c.Type.Kind != "" {
			a.origins[arg] = a.sourceColumn(operand, s)
			return c, false, true
		}
	}
	if call := enclosingCall(tokens, i); call >= 0 && isOneOf(tokens[call], []string{"COALESCE", "IFNULL", "NULLIF", "GREATEST", "LEAST"}) {
		for _, part := range splitTokens(tokens[call+2 : closing(tokens, call+1)]) {
			if c := a.typeOf(part, s); c.Type.Kind != "" {
				return c, false, true
			}
		}
	}
	return unknown, false, false
}

// operatorBefore is the end of the operand on the other side of an operator
// that stands before token i; -1 is none.
func (a *analysis) operatorBefore(tokens []sqltext.Token, i int) int {
	at := i - 1
	switch {
	case at < 0:
		return -1
	case isOneOf(tokens[at], []string{"LIKE", "ILIKE", "GLOB", "REGEXP"}):
		if at > 0 && tokens[at-1].Is("NOT") {
			at--
		}
		return at - 1
	case tokens[at].Is("BETWEEN"):
		if at > 0 && tokens[at-1].Is("NOT") {
			at--
		}
		return at - 1
	case tokens[at].Is("AND"):
		for k := at - 1; k > 0; k-- {
			if tokens[k].Is("BETWEEN") {
				if tokens[k-1].Is("NOT") {
					k--
				}
				return k - 1
			}
			if tokens[k].Is("AND") || tokens[k].Is("OR") || tokens[k].Is("WHERE") {
				return -1
			}
		}
		return -1
	}
	start := at
	for at >= 0 && tokens[at].Kind == sqltext.Sign && strings.Contains("=<>!+-*/%~|", tokens[at].Text) {
		at--
	}
	if at == start || at < 0 || tokens[at].Sign("(") || tokens[at].Sign(",") {
		return -1
	}
	return at
}

// operandEnding is the operand whose last token is at.
func operandEnding(tokens []sqltext.Token, at int) []sqltext.Token {
	from := at
	if tokens[at].Sign(")") {
		depth := 0
		for from = at; from >= 0; from-- {
			if tokens[from].Sign(")") {
				depth++
			} else if tokens[from].Sign("(") {
				depth--
				if depth == 0 {
					break
				}
			}
		}
		if from > 0 && tokens[from-1].Kind == sqltext.Word && !isOneOf(tokens[from-1], []string{"AND", "OR", "WHERE", "ON", "NOT", "WHEN", "IN"}) {
			from--
		}
		return tokens[max(from, 0) : at+1]
	}
	for from >= 2 && tokens[from-1].Sign(".") {
		from -= 2
	}
	return tokens[from : at+1]
}

// operatorAfter is where the operand behind an operator at token i begins; 0
// is none.
func operatorAfter(tokens []sqltext.Token, i int) int {
	at := i
	for at < len(tokens) && (tokens[at].Kind == sqltext.Sign && strings.Contains("=<>!+-*/%|", tokens[at].Text) || isOneOf(tokens[at], []string{"BETWEEN"})) {
		at++
	}
	if at == i || at >= len(tokens) {
		return 0
	}
	return at
}

func operandBeginning(tokens []sqltext.Token, at int) []sqltext.Token {
	end := at
	for end+2 < len(tokens) && tokens[end+1].Sign(".") {
		end += 2
	}
	if end+1 < len(tokens) && tokens[end+1].Sign("(") {
		end = closing(tokens, end+1)
	}
	if tokens[at].Sign("(") {
		end = closing(tokens, at)
	}
	return tokens[at : end+1]
}

// isAssignment reports whether the operand that ends at a token is a column
// that is set.
func isAssignment(tokens []sqltext.Token, at int) bool {
	from := at
	for from >= 2 && tokens[from-1].Sign(".") {
		from -= 2
	}
	for k := from - 1; k >= 0; k-- {
		switch {
		case tokens[k].Is("SET"):
			return true
		case tokens[k].Is("WHERE"), tokens[k].Is("SELECT"), tokens[k].Is("FROM"), tokens[k].Is("AND"), tokens[k].Is("OR"):
			return false
		}
	}
	return false
}

// enclosingCall is the place of the function whose argument token i is; -1 is
// none.
func enclosingCall(tokens []sqltext.Token, i int) int {
	depth := 0
	for k := i - 1; k > 0; k-- {
		switch {
		case tokens[k].Sign(")"):
			depth++
		case tokens[k].Sign("("):
			if depth == 0 {
				return k - 1
			}
			depth--
		}
	}
	return -1
}
