package cql2

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Parse reads a filter in the text encoding. Its errors are of type *Error;
// places are counted in characters, from 1.
func Parse(text string, limits Limits) (*Node, error) {
	if !utf8.ValidString(text) {
		return nil, &Error{place(0), "the filter is not UTF-8"}
	}
	p := &parser{text: text, limits: limits}
	if err := p.next(); err != nil {
		return nil, err
	}
	if p.token.kind == endToken {
		return nil, p.expected("a condition, such as frames >= 10")
	}
	n, err := p.expression(0)
	if err != nil {
		return nil, err
	}
	if p.token.kind != endToken {
		return nil, p.expected("AND, OR or the end of the filter")
	}
	if !n.condition() {
		return nil, n.Errorf("expected a condition, such as frames >= 10; got only %s", n)
	}
	return n, nil
}

type tokenKind int

const (
	endToken tokenKind = iota
	wordToken
	nameToken // in double quotes
	textToken
	numberToken
	signToken
)

type token struct {
	kind tokenKind
	text string // without quotes
	at   int    // in bytes
}

type parser struct {
	text   string
	at     int // behind token
	token  token
	limits Limits
	depth  int
	nodes  int
}

// reserved are the words that are no names unless they stand in double quotes.
var reserved = map[string]bool{
	"AND": true, "OR": true, "NOT": true, "LIKE": true, "BETWEEN": true, "IN": true, "IS": true, "NULL": true, "TRUE": true, "FALSE": true,
	"CASEI": true, "ACCENTI": true, "DATE": true, "TIMESTAMP": true, "INTERVAL": true, "DIV": true,
	"A_EQUALS": true, "A_CONTAINS": true, "A_CONTAINEDBY": true, "A_OVERLAPS": true,
}

func nameStart(r rune) bool { return r == '_' || r == ':' || unicode.IsLetter(r) }
func namePart(r rune) bool {
	return nameStart(r) || r == '.' || unicode.IsDigit(r) || unicode.Is(unicode.M, r)
}

func plainName(s string) bool {
	for i, r := range s {
		if i == 0 && !nameStart(r) || !namePart(r) {
			return false
		}
	}
	return s != ""
}

// next reads the next token.
func (p *parser) next() error {
	for p.at < len(p.text) {
		r, size := utf8.DecodeRuneInString(p.text[p.at:])
		if !unicode.IsSpace(r) {
			break
		}
		p.at += size
	}
	start := p.at
	rest := p.text[start:]
	p.token = token{kind: endToken, at: start}
	if rest == "" {
		return nil
	}
	r, _ := utf8.DecodeRuneInString(rest)
	switch {
	case r == '\'':
		return p.readQuoted('\'', textToken, "text")
	case r == '"':
		return p.readQuoted('"', nameToken, "name")
	case nameStart(r):
		end := strings.IndexFunc(rest, func(r rune) bool { return !namePart(r) })
		if end < 0 {
			end = len(rest)
		}
		p.take(wordToken, end)
	case r >= '0' && r <= '9' || r == '.' && len(rest) > 1 && isDigit(rest[1]):
		p.take(numberToken, numberLength(rest))
	default:
		for _, sign := range []string{"<>", "<=", ">=", "=", "<", ">", "+", "-", "*", "/", "%", "^", "(", ")", ","} {
			if strings.HasPrefix(rest, sign) {
				p.take(signToken, len(sign))
				return nil
			}
		}
		return p.errorAt(start, "%q has no meaning here; texts stand in single quotes", r)
	}
	return nil
}

func (p *parser) take(kind tokenKind, length int) {
	p.token = token{kind, p.text[p.at : p.at+length], p.at}
	p.at += length
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// numberLength is how much of s, which begins with a digit or a point, is a
// number.
func numberLength(s string) int {
	i := 0
	digits := func() {
		for i < len(s) && isDigit(s[i]) {
			i++
		}
	}
	digits()
	if i < len(s) && s[i] == '.' {
		i++
		digits()
	}
	if i < len(s) && (s[i] == 'e' || s[i] == 'E') {
		mark := i
		i++
		if i < len(s) && (s[i] == '+' || s[i] == '-') {
			i++
		}
		if i == len(s) || !isDigit(s[i]) {
			return mark
		}
		digits()
	}
	return i
}

// readQuoted reads what stands in quotes; the quote itself is doubled in it, or
// in texts has a backslash before it.
func (p *parser) readQuoted(quote byte, kind tokenKind, what string) error {
	start := p.at
	var b strings.Builder
	for i := start + 1; i < len(p.text); i++ {
		c := p.text[i]
		switch {
		case c == quote && i+1 < len(p.text) && p.text[i+1] == quote:
			b.WriteByte(c)
			i++
		case c == '\\' && quote == '\'':
			i += p.backslashes(i, &b)
		case c == quote:
			p.token = token{kind, b.String(), start}
			p.at = i + 1
			return nil
		default:
			b.WriteByte(c)
		}
	}
	return p.errorAt(start, "the %s that begins here has no end; expected %c", what, quote)
}

// backslashes reads backslashes in a text, and returns how many bytes there are behind
// the first of them. Directly before a quote two stand for one, and the one that is
// left over for the quote itself: the standard has no other way to write a text in which
// a backslash stands before a quote. Anywhere else they stand for themselves.
func (p *parser) backslashes(at int, b *strings.Builder) int {
	n := 1
	for at+n < len(p.text) && p.text[at+n] == '\\' {
		n++
	}
	if at+n == len(p.text) || p.text[at+n] != '\'' {
		b.WriteString(p.text[at : at+n])
		return n - 1
	}
	b.WriteString(p.text[at : at+n/2])
	if n%2 == 0 {
		return n - 1
	}
	b.WriteByte('\'')
	return n
}

func (p *parser) errorAt(at int, format string, args ...any) error {
	n := Node{Place: place(utf8.RuneCountInString(p.text[:at]))}
	return n.Errorf(format, args...)
}

func (p *parser) expected(what string) error {
	got := "the end"
	if p.token.kind != endToken {
		got = p.text[p.token.at:p.at]
	}
	return p.errorAt(p.token.at, "expected %s; got %s", what, got)
}

// word reports whether the token is one of the words, whatever its case.
func (p *parser) word(words ...string) bool {
	return p.token.kind == wordToken && slices.ContainsFunc(words, func(w string) bool { return strings.EqualFold(w, p.token.text) })
}

func (p *parser) sign(s string) bool { return p.token.kind == signToken && p.token.text == s }

// skip goes on behind the sign.
func (p *parser) skip(s string) error {
	if !p.sign(s) {
		return p.expected(s)
	}
	return p.next()
}

// node makes a node that stands at a byte of the text.
func (p *parser) node(op Op, at int, args ...*Node) (*Node, error) {
	n := &Node{Op: op, Args: args, Place: place(utf8.RuneCountInString(p.text[:at]))}
	if p.nodes++; p.nodes > p.limits.Nodes {
		return nil, n.Errorf("the filter is too long: more than %d values and operators", p.limits.Nodes)
	}
	return n, n.check()
}

// The levels at which operators bind, the loosest first.
const (
	orLevel = iota
	andLevel
	comparisonLevel
	sumLevel
	productLevel
	powerLevel
)

var infixes = map[string]struct {
	op    Op
	level int
}{
	"OR": {Or, orLevel}, "AND": {And, andLevel},
	"=": {Equal, comparisonLevel}, "<>": {NotEqual, comparisonLevel}, "<": {Less, comparisonLevel},
	">": {More, comparisonLevel}, "<=": {AtMost, comparisonLevel}, ">=": {AtLeast, comparisonLevel},
	"+": {Plus, sumLevel}, "-": {Minus, sumLevel},
	"*": {Times, productLevel}, "/": {Over, productLevel}, "%": {Modulo, productLevel}, "DIV": {Div, productLevel},
	"^": {Power, powerLevel},
}

// expression reads operators that bind at least as tightly as level.
func (p *parser) expression(level int) (*Node, error) {
	if p.depth++; p.depth > 3*p.limits.Depth {
		return nil, p.errorAt(p.token.at, "the filter is too deep: more than %d levels", p.limits.Depth)
	}
	defer func() { p.depth-- }()
	left, err := p.prefix(level)
	for err == nil {
		if level <= comparisonLevel {
			next, found, err := p.comparison(left)
			if err != nil {
				return nil, err
			}
			if found {
				left = next
				continue
			}
		}
		in, ok := infixes[strings.ToUpper(p.token.text)]
		if !ok || p.token.kind != signToken && p.token.kind != wordToken || in.level < level {
			return left, nil
		}
		at := p.token.at
		if err := p.next(); err != nil {
			return nil, err
		}
		right, err := p.expression(in.level + 1)
		if err != nil {
			return nil, err
		}
		if left.Op == in.op && (in.op == And || in.op == Or) { // a chain is one node
			if !right.condition() {
				return nil, right.Errorf("expected a condition; got %s", right)
			}
			left.Args = append(left.Args, right)
			continue
		}
		if left, err = p.node(in.op, at, left, right); err != nil {
			return nil, err
		}
	}
	return nil, err
}

// prefix reads NOT, a sign, or a primary.
func (p *parser) prefix(level int) (*Node, error) {
	at := p.token.at
	switch {
	case p.word("NOT") && level <= comparisonLevel:
		if err := p.next(); err != nil {
			return nil, err
		}
		inner, err := p.expression(comparisonLevel)
		if err != nil {
			return nil, err
		}
		return p.node(Not, at, inner)
	case p.sign("-"), p.sign("+"):
		minus := p.sign("-")
		if err := p.next(); err != nil {
			return nil, err
		}
		inner, err := p.expression(powerLevel)
		switch {
		case err != nil:
			return nil, err
		case !minus:
			return inner, nil
		case inner.Op == Number && !strings.HasPrefix(inner.Value, "-"):
			inner.Value = "-" + inner.Value
			return inner, nil
		}
		zero, err := p.node(Number, at)
		if err != nil {
			return nil, err
		}
		zero.Value = "0"
		return p.node(Minus, at, zero, inner)
	}
	return p.primary()
}

// comparison reads what may follow a value, other than a sign.
func (p *parser) comparison(left *Node) (n *Node, found bool, err error) {
	at, not := p.token.at, p.word("NOT")
	if !not && !p.word("LIKE", "BETWEEN", "IN", "IS") {
		return nil, false, nil
	}
	if not {
		if err := p.next(); err != nil {
			return nil, false, err
		}
		if !p.word("LIKE", "BETWEEN", "IN") {
			return nil, false, p.expected("LIKE, BETWEEN or IN")
		}
	}
	word := strings.ToUpper(p.token.text)
	if err := p.next(); err != nil {
		return nil, false, err
	}
	switch word {
	case "LIKE":
		n, err = p.like(left, at)
	case "BETWEEN":
		n, err = p.between(left, at)
	case "IN":
		n, err = p.in(left, at)
	default:
		not = p.word("NOT")
		if not {
			if err := p.next(); err != nil {
				return nil, false, err
			}
		}
		if !p.word("NULL") {
			return nil, false, p.expected("NULL")
		}
		if err := p.next(); err != nil {
			return nil, false, err
		}
		n, err = p.node(IsNull, at, left)
	}
	if err == nil && not {
		n, err = p.node(Not, at, n)
	}
	return n, true, err
}

func (p *parser) like(left *Node, at int) (*Node, error) {
	pattern, err := p.expression(sumLevel)
	if err != nil {
		return nil, err
	}
	return p.node(Like, at, left, pattern)
}

func (p *parser) between(left *Node, at int) (*Node, error) {
	least, err := p.expression(sumLevel)
	if err != nil {
		return nil, err
	}
	if !p.word("AND") {
		return nil, p.expected("AND and the upper bound")
	}
	if err := p.next(); err != nil {
		return nil, err
	}
	most, err := p.expression(sumLevel)
	if err != nil {
		return nil, err
	}
	return p.node(Between, at, left, least, most)
}

func (p *parser) in(left *Node, at int) (*Node, error) {
	if !p.sign("(") {
		return nil, p.expected("a list in parentheses, such as ('calm', 'lively')")
	}
	list, err := p.list()
	if err != nil {
		return nil, err
	}
	return p.node(In, at, left, list)
}

// list reads values in parentheses.
func (p *parser) list() (*Node, error) {
	at := p.token.at
	if err := p.next(); err != nil {
		return nil, err
	}
	var args []*Node
	for !p.sign(")") {
		if len(args) > 0 {
			if err := p.skip(","); err != nil {
				return nil, err
			}
		}
		a, err := p.expression(sumLevel)
		if err != nil {
			return nil, err
		}
		args = append(args, a)
	}
	if err := p.next(); err != nil {
		return nil, err
	}
	return p.node(List, at, args...)
}

func (p *parser) leaf(op Op, value string) (*Node, error) {
	n, err := p.node(op, p.token.at)
	if err != nil {
		return nil, err
	}
	n.Value = value
	return n, p.next()
}

// calls are the functions of the language with the number of their arguments.
var calls = map[string]struct {
	op   Op
	args int
}{
	"CASEI": {CaseI, 1}, "A_EQUALS": {Equals, 2}, "A_CONTAINS": {Contains, 2}, "A_CONTAINEDBY": {ContainedBy, 2}, "A_OVERLAPS": {Overlaps, 2},
}

func (p *parser) primary() (*Node, error) {
	switch p.token.kind {
	case textToken:
		return p.leaf(Text, p.token.text)
	case numberToken:
		return p.leaf(Number, p.token.text)
	case nameToken:
		return p.leaf(Property, p.token.text)
	case wordToken:
		return p.wordly()
	}
	if p.sign("(") {
		return p.parenthesis()
	}
	return nil, p.expected("a property, a value or a parenthesis")
}

// wordly reads what begins with a word.
func (p *parser) wordly() (*Node, error) {
	word := strings.ToUpper(p.token.text)
	if _, ok := calls[word]; ok {
		return p.call(word)
	}
	switch word {
	case "TRUE", "FALSE":
		return p.leaf(Boolean, strings.ToLower(word))
	case "DATE", "TIMESTAMP":
		return p.instant(Op(strings.ToLower(word)))
	}
	if reserved[word] {
		return nil, p.expected("a property or a value; a property of this name stands in double quotes")
	}
	start := p.token
	n, err := p.leaf(Property, p.token.text)
	if err == nil && p.sign("(") {
		return nil, p.errorAt(start.at, "there is no function %s; there are CASEI, DATE, TIMESTAMP, A_EQUALS, A_CONTAINS, A_CONTAINEDBY and A_OVERLAPS", start.text)
	}
	return n, err
}

func (p *parser) call(word string) (*Node, error) {
	at, want := p.token.at, calls[word]
	if err := p.next(); err != nil {
		return nil, err
	}
	if !p.sign("(") {
		return nil, p.expected("( after " + word)
	}
	if err := p.next(); err != nil {
		return nil, err
	}
	var args []*Node
	for i := range want.args {
		if i > 0 {
			if err := p.skip(","); err != nil {
				return nil, err
			}
		}
		a, err := p.argument()
		if err != nil {
			return nil, err
		}
		args = append(args, a)
	}
	if err := p.skip(")"); err != nil {
		return nil, err
	}
	return p.node(want.op, at, args...)
}

// argument reads an argument of a function: a value, or a list in parentheses.
func (p *parser) argument() (*Node, error) {
	if p.sign("(") {
		return p.list()
	}
	return p.expression(sumLevel)
}

func (p *parser) instant(op Op) (*Node, error) {
	at := p.token.at
	if err := p.next(); err != nil {
		return nil, err
	}
	if err := p.skip("("); err != nil {
		return nil, err
	}
	if p.token.kind != textToken {
		return nil, p.expected("a text in single quotes")
	}
	text := p.token.text
	if err := p.next(); err != nil {
		return nil, err
	}
	if err := p.skip(")"); err != nil {
		return nil, err
	}
	n, err := p.node(op, at)
	if err != nil {
		return nil, err
	}
	n.Value = text
	return n, nil
}

func (p *parser) parenthesis() (*Node, error) {
	if err := p.next(); err != nil {
		return nil, err
	}
	n, err := p.expression(orLevel)
	if err != nil {
		return nil, err
	}
	if p.sign(",") {
		return nil, p.expected(") here; a list may follow IN only")
	}
	if err := p.skip(")"); err != nil {
		return nil, err
	}
	if n.Op == And || n.Op == Or { // that a chain does not run into it
		copied := *n
		copied.Args = slices.Clip(n.Args)
		return &copied, nil
	}
	return n, nil
}
