package own

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"text/template/parse"

	"widegate/internal/fault"
)

// check finds what cannot be in any run: fields that there are not, functions with too
// few values, ranges over what is no list. It looks into branches that no table takes.
func (t *Template) check() []error {
	c := &checker{template: t, checked: map[string]bool{}}
	for _, part := range []string{whenPart, pathPart, bodyPart} {
		c.part(part, reflect.TypeFor[*Data]())
	}
	return c.faults
}

type checker struct {
	template *Template
	faults   []error
	checked  map[string]bool // parts, with the type that they are run on
	tree     *parse.Tree
	scope    []variable
}

type variable struct {
	name string
	typ  reflect.Type
}

// anything is the type of what is not known before the run.
var anything = reflect.TypeFor[any]()

// part checks a part or a block on a type.
func (c *checker) part(name string, dot reflect.Type) {
	of := c.template.text.Lookup(name)
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
func (c *checker) fault(n parse.Node, next, format string, args ...any) {
	where, _ := c.tree.ErrorContext(n)
	part, rest, _ := strings.Cut(where, ":")
	line, column, _ := strings.Cut(rest, ":")
	c.faults = append(c.faults, fault.New(next, "%s: %s", c.template.at(part, line, ":"+column), fmt.Sprintf(format, args...)))
}

func (c *checker) node(n parse.Node, dot reflect.Type) {
	switch n := n.(type) {
	case *parse.ListNode:
		if n == nil {
			return
		}
		for _, one := range n.Nodes {
			c.node(one, dot)
		}
	case *parse.ActionNode:
		c.pipe(n.Pipe, dot)
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
		if c.template.text.Lookup(n.Name) == nil {
			c.fault(n, "define it in the file", "there is no block %s", n.Name)
			return
		}
		c.part(n.Name, on)
	}
}

func (c *checker) branch(n *parse.BranchNode, dot reflect.Type, inner func(reflect.Type) reflect.Type) {
	depth := len(c.scope)
	typ := c.pipe(n.Pipe, dot)
	c.node(n.List, inner(typ))
	c.scope = c.scope[:depth]
	c.node(n.ElseList, dot)
}

func (c *checker) loop(n *parse.RangeNode, dot reflect.Type) {
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
		c.fault(n.Pipe, "range over a list, such as .Entity.Fields", "there is nothing to range over: %s is %s", n.Pipe, named(over))
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
func (c *checker) pipe(p *parse.PipeNode, dot reflect.Type) reflect.Type {
	typ := c.pipeValue(p, dot)
	for _, v := range p.Decl {
		if p.IsAssign {
			continue // whose type is that of its declaration
		}
		c.scope = append(c.scope, variable{v.Ident[0], typ})
	}
	return typ
}

func (c *checker) pipeValue(p *parse.PipeNode, dot reflect.Type) reflect.Type {
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
func (c *checker) command(n *parse.CommandNode, dot, last reflect.Type) reflect.Type {
	if first, ok := n.Args[0].(*parse.IdentifierNode); ok {
		return c.call(n, first.Ident, dot, last)
	}
	if len(n.Args) > 1 || last != nil {
		c.fault(n, "see the functions by `widegate templates data`", "%s is no function, and takes no values", n.Args[0])
	}
	return c.value(n.Args[0], dot)
}

// value is the type of an operand.
func (c *checker) value(n parse.Node, dot reflect.Type) reflect.Type {
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
func (c *checker) fields(n parse.Node, typ reflect.Type, names []string) reflect.Type {
	for _, name := range names {
		of := typ
		if of.Kind() == reflect.Pointer {
			of = of.Elem()
		}
		switch of.Kind() {
		case reflect.Struct:
			field, ok := of.FieldByName(name)
			list := c.fieldNames(of)
			if !ok || !slices.Contains(list, name) {
				c.fault(n, "take one of "+strings.Join(list, ", "), "%s has no %s%s", named(typ), name, near(name, list))
				return anything
			}
			typ = field.Type
		case reflect.Map:
			list := sorted(c.template.Head.Settings)
			setting, ok := c.template.Head.Settings[name]
			if !ok {
				c.fault(n, "add it to the settings of the head", "the template has no setting %s%s", name, near(name, list))
				return anything
			}
			typ = settingTypes[setting.Type]
		case reflect.Interface:
			return anything
		default:
			c.fault(n, "see the data by `widegate templates data`", "%s is %s, and has no %s", orElse(strings.TrimSuffix(n.String(), "."+name), "the value"), named(typ), name)
			return anything
		}
	}
	return typ
}

var settingTypes = map[string]reflect.Type{"text": reflect.TypeFor[string](), "number": reflect.TypeFor[int](), "boolean": reflect.TypeFor[bool](), "list": reflect.TypeFor[[]string]()}

// fieldNames are the fields of a view; of Data, those that there are for the unit.
func (c *checker) fieldNames(of reflect.Type) []string {
	var list []string
	for i := range of.NumField() {
		list = append(list, of.Field(i).Name)
	}
	if of == reflect.TypeFor[Data]() {
		return append([]string{"Project", "Notice", "Settings"}, present[c.template.Head.For]...)
	}
	return list
}

// named is a type in words.
func named(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Pointer:
		return named(t.Elem())
	case reflect.Slice:
		return "a list of " + named(t.Elem())
	case reflect.String:
		return "a text"
	case reflect.Bool:
		return "true or false"
	case reflect.Int:
		return "a number"
	case reflect.Interface:
		return "a value"
	case reflect.Map:
		return "the settings"
	}
	return t.Name()
}

// call checks a call of a function, into which last may be piped.
func (c *checker) call(n *parse.CommandNode, name string, dot, last reflect.Type) reflect.Type {
	args := make([]reflect.Type, 0, len(n.Args))
	for _, a := range n.Args[1:] {
		args = append(args, c.value(a, dot))
	}
	if last != nil {
		args = append(args, last)
	}
	f, own := described[name]
	if !own {
		return c.builtin(n, name, args)
	}
	typ := reflect.TypeOf(f.call)
	if typ.NumIn() != len(args) {
		c.fault(n, name+": "+f.does, "%s takes %d values, and has %d", name, typ.NumIn(), len(args))
		return typ.Out(0)
	}
	for i, a := range args {
		if in := typ.In(i); a.Kind() != reflect.Interface && !a.AssignableTo(in) {
			c.fault(n, name+": "+f.does, "value %d of %s is %s, and must be %s", i+1, name, named(a), named(in))
		}
	}
	return typ.Out(0)
}

// builtin is the type of what a function of text/template gives.
func (c *checker) builtin(n *parse.CommandNode, name string, args []reflect.Type) reflect.Type {
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
			c.fault(n, "take the length of a list or a text", "%s has no length", named(args[0]))
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
