// Package cql2 reads and writes filters in the Common Query Language (CQL2) of
// the Open Geospatial Consortium, standard 21-065r2, in both of its encodings:
// text, such as
//
//	frames >= 10 AND CASEI(name) LIKE 'sun%'
//
// and JSON. Of its conformance classes it knows Basic CQL2, Advanced Comparison
// Operators, Case-insensitive Comparison, Property-Property, Arithmetic
// Expressions and Array Functions. What a filter means for the rows of a table
// is not decided here.
package cql2

import (
	"fmt"
	"strconv"
	"strings"
)

// Op says what a node is.
type Op string

// The operators, as the JSON encoding calls them, and the leaves.
const (
	And         Op = "and"
	Or          Op = "or"
	Not         Op = "not"
	Equal       Op = "="
	NotEqual    Op = "<>"
	Less        Op = "<"
	More        Op = ">"
	AtMost      Op = "<="
	AtLeast     Op = ">="
	Like        Op = "like"
	Between     Op = "between"
	In          Op = "in" // the second argument is a List
	IsNull      Op = "isNull"
	Plus        Op = "+"
	Minus       Op = "-"
	Times       Op = "*"
	Over        Op = "/"
	Modulo      Op = "%"
	Div         Op = "div" // of whole numbers
	Power       Op = "^"
	CaseI       Op = "casei"
	Equals      Op = "a_equals"
	Contains    Op = "a_contains"
	ContainedBy Op = "a_containedBy"
	Overlaps    Op = "a_overlaps"

	Property  Op = "property" // Value is its name
	Text      Op = "text"
	Number    Op = "number"
	Boolean   Op = "boolean" // true or false
	Date      Op = "date"
	Timestamp Op = "timestamp"
	List      Op = "list"
)

// Node is a filter or a part of one.
type Node struct {
	Op    Op
	Args  []*Node
	Value string // of a leaf: its name or literal
	Place string // where it stands: "character 5" of the text, "/args/0" of the JSON
}

// Limits bound a filter, so that nobody can ask for too much at once.
type Limits struct {
	Depth int // of nodes within nodes
	Nodes int // in all
}

// DefaultLimits are enough for what people write.
var DefaultLimits = Limits{Depth: 16, Nodes: 300}

// An Error says what is wrong with a filter, and where.
type Error struct {
	Place string
	Text  string
}

// Error joins the place and the text.
func (e *Error) Error() string { return "at " + e.Place + ": " + e.Text }

// Errorf makes an error at the node.
func (n *Node) Errorf(format string, args ...any) error {
	return &Error{n.Place, fmt.Sprintf(format, args...)}
}

// Predicate reports whether the node is true or false by its operator.
func (n *Node) Predicate() bool {
	switch n.Op {
	case And, Or, Not, Equal, NotEqual, Less, More, AtMost, AtLeast, Like, Between, In, IsNull, Equals, Contains, ContainedBy, Overlaps:
		return true
	}
	return false
}

// condition reports whether the node can stand where a condition is wanted.
func (n *Node) condition() bool { return n.Predicate() || n.Op == Boolean || n.Op == Property }

// check holds a node to what its operator takes, apart from its arguments'
// own arguments.
func (n *Node) check() error {
	for i, a := range n.Args {
		switch n.Op {
		case And, Or, Not:
			if !a.condition() {
				return a.Errorf("expected a condition, such as name = 'Sunny Slope'; got %s", a)
			}
		default:
			if a.Predicate() {
				return a.Errorf("expected a value; got the condition %s", a)
			}
			if a.Op == List && !n.takesList(i) {
				return a.Errorf("expected one value; got a list")
			}
		}
	}
	if n.Op == CaseI && n.Args[0].Op != Property && n.Args[0].Op != Text && n.Args[0].Op != CaseI {
		return n.Args[0].Errorf("CASEI takes a text; got %s", n.Args[0])
	}
	return nil
}

func (n *Node) takesList(i int) bool {
	switch n.Op {
	case In:
		return i == 1
	case Equals, Contains, ContainedBy, Overlaps:
		return true
	}
	return false
}

// String writes the node in the text encoding, which Parse reads again.
func (n *Node) String() string {
	var b strings.Builder
	n.write(&b)
	return b.String()
}

// words are the operators that stand between their arguments, in the text.
var words = map[Op]string{
	And: "AND", Or: "OR", Like: "LIKE", Div: "DIV",
	Equal: "=", NotEqual: "<>", Less: "<", More: ">", AtMost: "<=", AtLeast: ">=", Plus: "+", Minus: "-", Times: "*", Over: "/", Modulo: "%", Power: "^",
}

func (n *Node) write(b *strings.Builder) {
	switch n.Op {
	case Property:
		b.WriteString(Name(n.Value))
	case Text:
		b.WriteString(Quote(n.Value))
	case Number:
		b.WriteString(n.Value)
	case Boolean:
		b.WriteString(strings.ToUpper(n.Value))
	case Date, Timestamp:
		b.WriteString(strings.ToUpper(string(n.Op)) + "(" + Quote(n.Value) + ")")
	case List:
		n.writeList(b, "(", ")")
	case CaseI, Equals, Contains, ContainedBy, Overlaps:
		n.writeList(b, strings.ToUpper(string(n.Op))+"(", ")")
	case Not:
		b.WriteString("NOT ")
		n.Args[0].writeInside(b)
	case IsNull:
		n.Args[0].writeInside(b)
		b.WriteString(" IS NULL")
	case Between:
		n.Args[0].writeInside(b)
		b.WriteString(" BETWEEN ")
		n.Args[1].writeInside(b)
		b.WriteString(" AND ")
		n.Args[2].writeInside(b)
	case In:
		n.Args[0].writeInside(b)
		b.WriteString(" IN ")
		n.Args[1].write(b)
	default:
		for i, a := range n.Args {
			if i > 0 {
				b.WriteString(" " + words[n.Op] + " ")
			}
			a.writeInside(b)
		}
	}
}

// writeInside writes the node as an argument of another.
func (n *Node) writeInside(b *strings.Builder) {
	_, infix := words[n.Op]
	if infix || n.Op == Not || n.Op == IsNull || n.Op == Between || n.Op == In {
		b.WriteByte('(')
		n.write(b)
		b.WriteByte(')')
		return
	}
	n.write(b)
}

func (n *Node) writeList(b *strings.Builder, open, end string) {
	b.WriteString(open)
	for i, a := range n.Args {
		if i > 0 {
			b.WriteString(", ")
		}
		a.writeInside(b)
	}
	b.WriteString(end)
}

// Quote writes a text in the text encoding, so that Parse reads it as it is.
func Quote(s string) string {
	b := []byte{'\''}
	run := 0 // of backslashes just before
	for i := 0; i <= len(s); i++ {
		if i == len(s) || s[i] == '\'' {
			b = append(b, strings.Repeat(`\`, run)...)
			b = append(b, '\'')
		}
		if i == len(s) {
			break
		}
		if run++; s[i] != '\\' {
			run = 0
		}
		b = append(b, s[i])
	}
	return string(b)
}

// Name writes the name of a property, in double quotes where it needs them.
func Name(name string) string {
	if plainName(name) && !reserved[strings.ToUpper(name)] {
		return name
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

func place(offset int) string { return "character " + strconv.Itoa(offset+1) }
