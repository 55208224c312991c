package merge

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// cutYAML makes the tree of a file of one document: block mappings and
// sequences as lists of their entries, everything else as atoms.
func cutYAML(text string) *node {
	if strings.ContainsAny(text, "\r\u0085\u2028\u2029") || !utf8.ValidString(text) {
		return nil // other line breaks than ours, by which places are counted
	}
	decoder := yaml.NewDecoder(strings.NewReader(text))
	var doc, more yaml.Node
	if err := decoder.Decode(&doc); err != nil || len(doc.Content) != 1 {
		return nil
	}
	if decoder.Decode(&more) == nil {
		return nil
	}
	y := &yamlText{source: newSource("", text)}
	root := doc.Content[0]
	if !block(root) {
		return &node{name: "document", text: text, sum: text, line: 1}
	}
	return y.list(root, 0, 0, len(text))
}

type yamlText struct{ source }

// block reports whether a node is a mapping or sequence with its entries on
// lines of their own.
func block(n *yaml.Node) bool {
	return (n.Kind == yaml.MappingNode || n.Kind == yaml.SequenceNode) && n.Style&yaml.FlowStyle == 0 && len(n.Content) > 0
}

func (y *yamlText) offset(n *yaml.Node) int {
	at := y.starts[n.Line-1]
	for range n.Column - 1 { // columns are counted in characters
		at += len(string([]rune(y.text[at : at+min(4, len(y.text)-at)])[0]))
	}
	return at
}

// list is a mapping or sequence that stands between open and end.
func (y *yamlText) list(n *yaml.Node, head, open, end int) *node {
	list := &node{form: keyed, name: "entries", text: y.text[head:end], sum: strings.TrimSpace(y.text[head:end]), line: y.lineAt(head), open: y.text[head:open]}
	step := 1
	if n.Kind == yaml.MappingNode {
		step = 2
	}
	at := open
	for i := 0; i < len(n.Content); i += step {
		from := y.entryStart(n, i)
		next := end
		if i+step < len(n.Content) {
			next = y.entryStart(n, i+step)
		}
		to := y.entryEnd(from, next)
		doc := at + y.commentStart(y.text[at:from])
		it := &item{key: entryKey(n, i), what: "entry", kind: "named", lead: y.text[at:doc], doc: y.text[doc:from], line: y.lineAt(from)}
		if n.Kind == yaml.MappingNode {
			it.body = y.entry(n.Content[i], n.Content[i+1], from, to)
		} else {
			it.body = y.entry(nil, n.Content[i], from, to)
		}
		it.count()
		list.items = append(list.items, it)
		at = to
	}
	list.tail = y.text[at:end]
	return list
}

// entryStart is where an entry starts: its key, or its dash.
func (y *yamlText) entryStart(n *yaml.Node, i int) int {
	at := y.offset(n.Content[i])
	if n.Kind == yaml.MappingNode {
		return at
	}
	for at > 0 && y.text[at] != '-' || at > 0 && y.column(at) >= n.Column && y.text[at] != '-' {
		at--
	}
	for at > 0 && y.column(at) != n.Column {
		at--
	}
	return at
}

func (y *yamlText) column(at int) int { return at - y.starts[y.lineAt(at)-1] + 1 }

// entryEnd is where an entry ends: before the blank lines and comments that
// lead to the next one.
func (y *yamlText) entryEnd(from, next int) int {
	indent := y.column(from)
	lines := strings.SplitAfter(y.text[from:next], "\n")
	last := len(lines)
	for last > 1 {
		line := strings.TrimSpace(lines[last-1])
		depth := len(lines[last-1]) - len(strings.TrimLeft(lines[last-1], " "))
		if line != "" && !(strings.HasPrefix(line, "#") && depth < indent) {
			break
		}
		last--
	}
	return from + len(strings.TrimRight(strings.Join(lines[:last], ""), " \n"))
}

// commentStart is where in the space before an entry its comments start.
func (y *yamlText) commentStart(space string) int {
	if at := strings.IndexByte(space, '#'); at >= 0 {
		return at
	}
	return len(space)
}

// entry is a key with its value, or an element with its dash.
func (y *yamlText) entry(key, value *yaml.Node, from, to int) *node {
	name := "element"
	if key != nil {
		name = "value"
	}
	if !block(value) {
		return y.slice(name, from, to, strings.TrimSpace)
	}
	at := y.offset(value)
	if value.Kind == yaml.SequenceNode {
		at = y.entryStart(value, 0)
	}
	// The head goes up to the end of its line where the entries start below.
	open := at
	if line := y.starts[y.lineAt(at)-1]; line > from {
		open = from + len(strings.TrimRight(y.text[from:line], " \n"))
		if comment := strings.IndexByte(y.text[from:line], '\n'); comment >= 0 {
			open = from + comment
		}
	}
	return joined(slots, "entry", y.slice(name, from, open, strings.TrimSpace), y.list(value, open, open, to))
}

func (y *yamlText) slice(name string, from, to int, plain func(string) string) *node {
	return &node{name: name, text: y.text[from:to], sum: plain(y.text[from:to]), line: y.lineAt(from)}
}

// entryKey names an entry: by its key, or an element by its name, id or $ref,
// or by itself.
func entryKey(n *yaml.Node, i int) string {
	x := n.Content[i]
	if n.Kind == yaml.MappingNode {
		return x.Value
	}
	if x.Kind == yaml.ScalarNode {
		return x.Value
	}
	if x.Kind == yaml.MappingNode {
		for _, name := range []string{"name", "id", "operationId", "$ref", "key", "url"} {
			for k := 0; k+1 < len(x.Content); k += 2 {
				if x.Content[k].Value == name && x.Content[k+1].Kind == yaml.ScalarNode {
					return x.Content[k+1].Value
				}
			}
		}
	}
	text, err := yaml.Marshal(x)
	if err != nil {
		return fmt.Sprint(i)
	}
	return string(text)
}
