package scripts

import (
	"encoding/json"
	"errors"
	"sync"
	"unicode"
	"unicode/utf8"

	"widegate/internal/sqltext/ddl"

	"github.com/wasilibs/go-pgquery/parser"
)

// node is a node of the tree that PostgreSQL's parser gives as JSON: its kind,
// such as CreateStmt, where the parser tells it, and its fields. The kinds and
// fields are those of the server's parsenodes.h and primnodes.h.
type node struct {
	kind   string
	fields map[string]any
}

// startParser makes the parser ready, which takes seconds the first time: they do
// not count as time for a statement.
var startParser = sync.OnceFunc(func() { _, _ = grammarJSON("SELECT 1") })

// parseTree parses one statement.
func parseTree(text string) (node, error) {
	if err := checkBounds(text); err != nil {
		return node{}, err
	}
	startParser()
	encoded, err := within(func() (string, error) { return grammarJSON(text) })
	var fault *parser.Error
	if errors.As(err, &fault) {
		return node{}, &ddl.Problem{At: byteOffset(text, fault.Cursorpos-1), Text: fault.Message}
	}
	if err != nil {
		return node{}, err
	}
	var tree struct {
		Stmts []struct {
			Stmt map[string]any `json:"stmt"`
		} `json:"stmts"`
	}
	if err := json.Unmarshal([]byte(encoded), &tree); err != nil {
		return node{}, err
	}
	if len(tree.Stmts) == 0 {
		return node{}, nil
	}
	return nodeOf(tree.Stmts[0].Stmt), nil
}

// byteOffset turns a place counted in characters into one in bytes.
func byteOffset(text string, characters int) int {
	at := 0
	for ; characters > 0 && at < len(text); characters-- {
		_, n := utf8.DecodeRuneInString(text[at:])
		at += n
	}
	return at
}

// nodeOf unwraps {"Kind": {…}}; what is not wrapped has no kind.
func nodeOf(v any) node {
	fields, _ := v.(map[string]any)
	if len(fields) == 1 {
		for kind, inner := range fields {
			if first, _ := utf8.DecodeRuneInString(kind); unicode.IsUpper(first) {
				inside, _ := inner.(map[string]any)
				return node{kind, inside}
			}
		}
	}
	return node{"", fields}
}

func (n node) has(field string) bool { _, ok := n.fields[field]; return ok }

func (n node) at(field string) node { return nodeOf(n.fields[field]) }

func (n node) text(field string) string {
	s, _ := n.fields[field].(string)
	return s
}

func (n node) flag(field string) bool {
	b, _ := n.fields[field].(bool)
	return b
}

func (n node) number(field string) int {
	f, _ := n.fields[field].(float64)
	return int(f)
}

func (n node) list(field string) []node {
	items, _ := n.fields[field].([]any)
	list := make([]node, len(items))
	for i, item := range items {
		list[i] = nodeOf(item)
	}
	return list
}

// names reads a list of strings.
func (n node) names(field string) []string {
	var names []string
	for _, item := range n.list(field) {
		names = append(names, item.text("sval"))
	}
	return names
}

// items are the names in a node that is a list of strings, or a string.
func (n node) items() []string {
	if n.kind == "String" {
		return []string{n.text("sval")}
	}
	return n.names("items")
}

func last(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return names[len(names)-1]
}
