package cql2

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// ParseJSON reads a filter in the JSON encoding. Its errors are of type *Error;
// places are JSON pointers (RFC 6901).
func ParseJSON(text []byte, limits Limits) (*Node, error) {
	var raw any
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.UseNumber()
	if err := dec.Decode(&raw); err != nil {
		return nil, &Error{fmt.Sprintf("byte %d", dec.InputOffset()), "the filter is not JSON: " + strings.TrimPrefix(err.Error(), "json: ")}
	}
	if dec.More() {
		return nil, &Error{fmt.Sprintf("byte %d", dec.InputOffset()), "something follows the filter"}
	}
	r := &jsonReader{limits: limits}
	n, err := r.node(raw, "", 0)
	if err != nil {
		return nil, err
	}
	if !n.condition() {
		return nil, n.Errorf(`expected a condition, such as {"op":">=","args":[{"property":"frames"},10]}`)
	}
	return n, nil
}

type jsonReader struct {
	limits Limits
	nodes  int
}

// arities are the operators with the number of their arguments; -1 is two or
// more.
var arities = map[Op]int{
	And: -1, Or: -1, Not: 1, Equal: 2, NotEqual: 2, Less: 2, More: 2, AtMost: 2, AtLeast: 2, Like: 2, Between: 3, In: 2, IsNull: 1,
	Plus: 2, Minus: 2, Times: 2, Over: 2, Modulo: 2, Div: 2, Power: 2, CaseI: 1, Equals: 2, Contains: 2, ContainedBy: 2, Overlaps: 2,
}

func (r *jsonReader) node(raw any, pointer string, depth int) (*Node, error) {
	n := &Node{Place: orRoot(pointer)}
	if depth > r.limits.Depth {
		return nil, n.Errorf("the filter is too deep: more than %d levels", r.limits.Depth)
	}
	if r.nodes++; r.nodes > r.limits.Nodes {
		return nil, n.Errorf("the filter is too long: more than %d values and operators", r.limits.Nodes)
	}
	switch v := raw.(type) {
	case string:
		n.Op, n.Value = Text, v
	case json.Number:
		n.Op, n.Value = Number, v.String()
	case bool:
		n.Op, n.Value = Boolean, strconv.FormatBool(v)
	case []any:
		n.Op = List
		return n, r.arguments(n, v, pointer, depth)
	case map[string]any:
		return n, r.object(n, v, pointer, depth)
	default:
		return nil, n.Errorf("null is no value here; isNull asks for it")
	}
	return n, nil
}

func orRoot(pointer string) string {
	if pointer == "" {
		return "/"
	}
	return pointer
}

func (r *jsonReader) arguments(n *Node, list []any, pointer string, depth int) error {
	for i, raw := range list {
		a, err := r.node(raw, pointer+"/"+strconv.Itoa(i), depth+1)
		if err != nil {
			return err
		}
		n.Args = append(n.Args, a)
	}
	return n.check()
}

func (r *jsonReader) object(n *Node, object map[string]any, pointer string, depth int) error {
	for _, leaf := range []Op{Property, Date, Timestamp} {
		if value, ok := object[string(leaf)]; ok && len(object) == 1 {
			text, isText := value.(string)
			if !isText {
				return n.Errorf("%s wants a text", leaf)
			}
			n.Op, n.Value = leaf, text
			return nil
		}
	}
	op, isText := object["op"].(string)
	args, isList := object["args"].([]any)
	if !isText || !isList || len(object) != 2 {
		return n.Errorf(`expected {"op": …, "args": [ … ]}, {"property": …}, {"date": …} or {"timestamp": …}`)
	}
	want, ok := arities[Op(op)]
	if !ok {
		return n.Errorf("there is no operator %q", op)
	}
	if want >= 0 && len(args) != want || want < 0 && len(args) < 2 {
		return n.Errorf("%s takes %s; got %d", op, count(want), len(args))
	}
	n.Op = Op(op)
	if err := r.arguments(n, args, pointer+"/args", depth); err != nil {
		return err
	}
	if n.Op == In && n.Args[1].Op != List {
		return n.Args[1].Errorf("in wants a list")
	}
	return nil
}

func count(n int) string {
	switch n {
	case -1:
		return "two arguments or more"
	case 1:
		return "one argument"
	}
	return strconv.Itoa(n) + " arguments"
}
