// Package typecheck checks templates of text/template against the Go types of their
// data before they run. It finds what cannot be in any run, also in branches that no
// data take: fields that do not exist, functions with too few values, ranges over what
// is no list.
package typecheck

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"text/template"
	"text/template/parse"

	"widegate/internal/catalog"
	"widegate/internal/fault"
)

// Func is a function that templates may call.
type Func struct {
	Call any
	Does string // one line for people
}

// FuncMap are functions as text/template takes them.
func FuncMap(functions map[string]Func) template.FuncMap {
	m := template.FuncMap{}
	for name, f := range functions {
		m[name] = f.Call
	}
	return m
}

// Checker checks the templates of a set.
type Checker struct {
	Set   *template.Template
	Funcs map[string]Func // those of the set, besides those of text/template

	// Fields are the fields of a struct that there are for this template; nil for all.
	Fields func(of reflect.Type) []string
	// Keys are the keys of maps of any values, with their types; nil for none.
	Keys map[string]reflect.Type
	// At is a place of a template of the set in the developer's file.
	At func(name, line, column string) string

	faults  []error
	checked map[string]bool // templates, with the type that they are run on
	tree    *parse.Tree
	scope   []variable
}

type variable struct {
	name string
	typ  reflect.Type
}

// anything is the type of what is not known before the run.
var anything = reflect.TypeFor[any]()

// seeData is what to do about a wrong name.
const seeData = "see the data by `widegate templates data`"

// Check checks a template of the set, and what it calls, on data of a type. It returns
// all that is wrong.
func (c *Checker) Check(name string, dot reflect.Type) []error {
	if c.checked == nil {
		c.checked = map[string]bool{}
	}
	c.faults = nil
	c.run(name, dot)
	return c.faults
}

func (c *Checker) run(name string, dot reflect.Type) {
	of := c.Set.Lookup(name)
	if of == nil || of.Tree == nil || c.checked[name+" "+dot.String()] {
		return
	}
	c.checked[name+" "+dot.String()] = true
	tree, scope := c.tree, c.scope
	c.tree, c.scope = of.Tree, []variable{{"$", dot}}
	c.node(of.Tree.Root, dot)
	c.tree, c.scope = tree, scope
}

// fault notes what is wrong at a node.
func (c *Checker) fault(n parse.Node, next, format string, args ...any) {
	where, _ := c.tree.ErrorContext(n)
	name, rest, _ := strings.Cut(where, ":")
	line, column, _ := strings.Cut(rest, ":")
	c.faults = append(c.faults, fault.New(next, "%s: %s", c.At(name, line, ":"+column), fmt.Sprintf(format, args...)))
}

func (c *Checker) node(n parse.Node, dot reflect.Type) {
	switch n := n.(type) {
	case *parse.ListNode:
		if n == nil {
			return
		}
		for _, one := range n.Nodes {
			c.node(one, dot)
		}
	case *parse.ActionNode:
		if typ := c.pipe(n.Pipe, dot); len(n.Pipe.Decl) == 0 && !printed(typ) {
			c.fault(n, "print fields of it, such as its Name", "%s cannot be printed: it is %s", n.Pipe, Named(typ))
		}
	case *parse.IfNode:
		c.branch(&n.BranchNode, dot, func(reflect.Type) reflect.Type { return dot })
	case *parse.WithNode:
		c.branch(&n.BranchNode, dot, func(with reflect.Type) reflect.Type { return with })
	case *parse.RangeNode:
		c.loop(n, dot)
	case *parse.TemplateNode:
		on := anything
		if n.Pipe != nil {
			on = c.pipe(n.Pipe, dot)
		}
		if c.Set.Lookup(n.Name) == nil {
			c.fault(n, "define it in the file", "there is no block %s", n.Name)
			return
		}
		c.run(n.Name, on)
	}
}

// printed reports whether a value has a text that is the same in each run.
func printed(t reflect.Type) bool {
	if t.Implements(reflect.TypeFor[fmt.Stringer]()) || reflect.PointerTo(t).Implements(reflect.TypeFor[fmt.Stringer]()) {
		return true
	}
	switch t.Kind() {
	case reflect.Slice, reflect.Array:
		return printed(t.Elem())
	case reflect.Struct, reflect.Pointer, reflect.Map, reflect.Func, reflect.Chan:
		return false
	}
	return true
}

func (c *Checker) branch(n *parse.BranchNode, dot reflect.Type, inner func(reflect.Type) reflect.Type) {
	depth := len(c.scope)
	typ := c.pipe(n.Pipe, dot)
	c.node(n.List, inner(typ))
	c.node(n.ElseList, dot)
	c.scope = c.scope[:depth]
}

func (c *Checker) loop(n *parse.RangeNode, dot reflect.Type) {
	depth := len(c.scope)
	over := c.pipeValue(n.Pipe, dot)
	item, index := anything, reflect.TypeFor[int]()
	switch over.Kind() {
	case reflect.Slice, reflect.Array:
		item = over.Elem()
	case reflect.Map:
		item, index = over.Elem(), over.Key()
	case reflect.Interface:
	default:
		c.fault(n.Pipe, "range over a list, such as .Entity.Fields", "there is nothing to range over: %s is %s", n.Pipe, Named(over))
	}
	switch len(n.Pipe.Decl) {
	case 1:
		c.scope = append(c.scope, variable{n.Pipe.Decl[0].Ident[0], item})
	case 2:
		c.scope = append(c.scope, variable{n.Pipe.Decl[0].Ident[0], index}, variable{n.Pipe.Decl[1].Ident[0], item})
	}
	c.node(n.List, item)
	c.scope = c.scope[:depth]
	c.node(n.ElseList, dot)
}

// pipe is the type of what a pipe gives; its variables are declared.
func (c *Checker) pipe(p *parse.PipeNode, dot reflect.Type) reflect.Type {
	typ := c.pipeValue(p, dot)
	for _, v := range p.Decl {
		if p.IsAssign {
			continue // the type is that of the declaration
		}
		c.scope = append(c.scope, variable{v.Ident[0], typ})
	}
	return typ
}

func (c *Checker) pipeValue(p *parse.PipeNode, dot reflect.Type) reflect.Type {
	if p == nil {
		return anything
	}
	var last reflect.Type
	for _, command := range p.Cmds {
		last = c.command(command, dot, last)
	}
	return last
}

// command is the type of what a command gives; last is what is piped into it, or nil.
func (c *Checker) command(n *parse.CommandNode, dot, last reflect.Type) reflect.Type {
	if first, ok := n.Args[0].(*parse.IdentifierNode); ok {
		return c.call(n, first.Ident, dot, last)
	}
	if len(n.Args) > 1 || last != nil {
		c.fault(n, "see the functions by `widegate templates data`", "%s is no function, and takes no values", n.Args[0])
	}
	return c.value(n.Args[0], dot)
}

// value is the type of an operand.
func (c *Checker) value(n parse.Node, dot reflect.Type) reflect.Type {
	switch n := n.(type) {
	case *parse.DotNode:
		return dot
	case *parse.FieldNode:
		return c.fields(n, dot, n.Ident)
	case *parse.VariableNode:
		for i := len(c.scope) - 1; i >= 0; i-- {
			if c.scope[i].name == n.Ident[0] {
				return c.fields(n, c.scope[i].typ, n.Ident[1:])
			}
		}
	case *parse.ChainNode:
		return c.fields(n, c.value(n.Node, dot), n.Field)
	case *parse.PipeNode:
		return c.pipe(n, dot)
	case *parse.IdentifierNode:
		return c.call(&parse.CommandNode{Args: []parse.Node{n}, Pos: n.Pos}, n.Ident, dot, nil)
	case *parse.StringNode:
		return reflect.TypeFor[string]()
	case *parse.BoolNode:
		return reflect.TypeFor[bool]()
	case *parse.NumberNode:
		if n.IsInt {
			return reflect.TypeFor[int]()
		}
		return reflect.TypeFor[float64]()
	}
	return anything
}

// fields follows names from a type.
func (c *Checker) fields(n parse.Node, typ reflect.Type, names []string) reflect.Type {
	for _, name := range names {
		next := c.member(n, typ, name)
		if next == nil {
			return anything
		}
		typ = next
	}
	return typ
}

// member is the type of a field, of what a method without values gives, or of a key;
// nil where it is not known, or wrong.
func (c *Checker) member(n parse.Node, typ reflect.Type, name string) reflect.Type {
	of := typ
	if of.Kind() == reflect.Pointer {
		of = of.Elem()
	}
	if of.Kind() == reflect.Interface {
		return nil
	}
	if m, ok := reflect.PointerTo(of).MethodByName(name); ok && m.Type.NumIn() == 1 && m.Type.NumOut() > 0 {
		return m.Type.Out(0)
	}
	switch of.Kind() {
	case reflect.Struct:
		field, ok := of.FieldByName(name)
		list := c.fieldNames(of)
		if !ok || !slices.Contains(list, name) {
			c.fault(n, "use one of "+strings.Join(list, ", "), "%s has no %s%s", Named(typ), name, Near(name, list))
			return nil
		}
		return field.Type
	case reflect.Map:
		if of.Elem().Kind() != reflect.Interface {
			return of.Elem()
		}
		if c.Keys[name] == nil {
			c.fault(n, "add it to the settings of the head", "the template has no setting %s%s", name, Near(name, slices.Sorted(maps.Keys(c.Keys))))
			return nil
		}
		return c.Keys[name]
	}
	value := strings.TrimSuffix(n.String(), "."+name)
	if value == "" {
		value = "the value"
	}
	c.fault(n, seeData, "%s is %s, and has no %s", value, Named(typ), name)
	return nil
}

// fieldNames are the fields of a struct, those of embedded ones among them.
func (c *Checker) fieldNames(of reflect.Type) []string {
	if c.Fields != nil {
		if list := c.Fields(of); list != nil {
			return list
		}
	}
	var list []string
	for _, f := range reflect.VisibleFields(of) {
		if f.IsExported() {
			list = append(list, f.Name)
		}
	}
	return list
}

// Named is a type in words.
func Named(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Pointer:
		return Named(t.Elem())
	case reflect.Slice, reflect.Array:
		return "a list of " + Named(t.Elem())
	case reflect.String:
		return "a text"
	case reflect.Bool:
		return "true or false"
	case reflect.Int, reflect.Int64:
		return "a number"
	case reflect.Interface:
		return "a value"
	case reflect.Map:
		if t.Elem().Kind() == reflect.Interface {
			return "the settings"
		}
		return "a map of " + Named(t.Elem())
	}
	return t.Name()
}

// call checks a call of a function, into which last may be piped.
func (c *Checker) call(n *parse.CommandNode, name string, dot, last reflect.Type) reflect.Type {
	args := make([]reflect.Type, 0, len(n.Args))
	for _, a := range n.Args[1:] {
		args = append(args, c.value(a, dot))
	}
	if last != nil {
		args = append(args, last)
	}
	f, own := c.Funcs[name]
	if !own {
		return c.builtin(n, name, args)
	}
	typ := reflect.TypeOf(f.Call)
	if typ.NumIn() != len(args) {
		c.fault(n, name+": "+f.Does, "%s takes %d values, and has %d", name, typ.NumIn(), len(args))
		return typ.Out(0)
	}
	for i, a := range args {
		if in := typ.In(i); !fits(a, in) {
			c.fault(n, name+": "+f.Does, "value %d of %s is %s, and must be %s", i+1, name, Named(a), Named(in))
		}
	}
	return typ.Out(0)
}

// fits reports whether text/template passes a value of a type as one of another.
func fits(a, in reflect.Type) bool {
	return a.Kind() == reflect.Interface || a.AssignableTo(in) ||
		a.Kind() == reflect.Pointer && a.Elem().AssignableTo(in) || reflect.PointerTo(a).AssignableTo(in)
}

// builtin is the type of what a function of text/template gives.
func (c *Checker) builtin(n *parse.CommandNode, name string, args []reflect.Type) reflect.Type {
	switch name {
	case "and", "or":
		same := len(args) > 0
		for _, a := range args {
			same = same && a == args[0]
		}
		if same {
			return args[0]
		}
		return anything
	case "not", "eq", "ne", "lt", "le", "gt", "ge":
		return reflect.TypeFor[bool]()
	case "len":
		if len(args) == 1 && !slices.Contains([]reflect.Kind{reflect.Slice, reflect.Map, reflect.String, reflect.Array, reflect.Interface}, args[0].Kind()) {
			c.fault(n, "take the length of a list or a text", "%s has no length", Named(args[0]))
		}
		return reflect.TypeFor[int]()
	case "index":
		if len(args) > 1 && args[0].Kind() == reflect.Slice {
			return args[0].Elem()
		}
		return anything
	case "slice":
		if len(args) > 0 {
			return args[0]
		}
		return anything
	case "print", "printf", "println", "html", "js", "urlquery":
		return reflect.TypeFor[string]()
	}
	return anything
}

// Near asks for the name in a list that is nearest to a word, behind a message.
func Near(word string, list []string) string {
	if n := catalog.Nearest(word, list); n != "" {
		return "; did you mean " + n + "?"
	}
	return ""
}
