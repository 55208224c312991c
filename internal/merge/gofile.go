package merge

import (
	"go/ast"
	"go/token"
	"strings"
)

// goFile is a file cut into its declarations.
type goFile struct {
	*goSource
	header string // up to the package clause's end
	list   *node  // the rest: declarations, groups of them, comments
	units  []*unit
}

// unit is a declaration at package level.
type unit struct {
	key   string
	kind  string // func, type, const, var
	item  *item
	group *item // what it stands in, if in parentheses with others
	file  *goFile
}

func (u *unit) sum() string { return u.kind + tokenBreak + u.item.sum }

func cutGo(path, text string) (*goFile, error) {
	s, err := parseGo(path, text)
	if err != nil {
		return nil, err
	}
	f := &goFile{goSource: s}
	open := s.offset(s.file.Name.End())
	f.header = text[:open]
	elements := make([]element, len(s.file.Decls))
	for i, d := range s.file.Decls {
		elements[i] = f.declaration(d)
	}
	f.list = s.list(ordered, "file", extent{open, open, len(text), len(text)}, false, elements)
	f.index()
	return f, nil
}

// index lists the declarations of the file.
func (f *goFile) index() {
	for _, it := range f.list.items {
		if it.comment() || it.kind == "import" {
			continue
		}
		if it.kind != "group" {
			f.units = append(f.units, &unit{key: it.key, kind: it.kind, item: it, file: f})
			continue
		}
		for _, spec := range it.group().items {
			if !spec.comment() {
				f.units = append(f.units, &unit{key: spec.key, kind: spec.kind, item: spec, group: it, file: f})
			}
		}
	}
}

// group is the list of specs of a group.
func (i *item) group() *node { return i.body.parts[1] }

func (f *goFile) declaration(d ast.Decl) element {
	from, to := f.span(d)
	switch d := d.(type) {
	case *ast.FuncDecl:
		return element{from: f.offset(d.Type.Func), to: to, kind: "func", what: "function", key: f.funcKey(d), body: func() *node { return f.function(d) }}
	case *ast.GenDecl:
		if d.Tok == token.IMPORT {
			return element{from: from, to: to, kind: "import", key: "import", what: "import", body: func() *node { return f.slice("import", from, to) }}
		}
		if d.Lparen.IsValid() {
			return element{from: from, to: to, kind: "group", key: "group", what: "group", body: func() *node { return f.specs(d) }}
		}
		return f.spec(d, d.Specs[0], from)
	}
	return element{from: from, to: to, body: func() *node { return f.slice("declaration", from, to) }}
}

func (f *goFile) specs(d *ast.GenDecl) *node {
	left, right := f.offset(d.Lparen), f.offset(d.Rparen)
	elements := make([]element, len(d.Specs))
	for i, spec := range d.Specs {
		elements[i] = f.spec(d, spec, f.offset(spec.Pos()))
	}
	return joined(slots, "group", f.slice("keyword", f.offset(d.TokPos), left), f.goSource.list(keyed, "specs", brackets(left, right), false, elements))
}

// spec is one declaration of a const, var or type statement; from is where the
// keyword is, or the spec in a group.
func (f *goFile) spec(d *ast.GenDecl, spec ast.Spec, from int) element {
	to := f.offset(spec.End())
	kind := d.Tok.String()
	word := f.slice("keyword", from, f.offset(spec.Pos()))
	word.sum = kind + tokenBreak
	e := element{from: from, to: to, kind: kind, what: kind}
	switch spec := spec.(type) {
	case *ast.TypeSpec:
		e.key = spec.Name.Name
		e.body = func() *node {
			nameEnd, typeAt := f.offset(spec.Name.End()), f.offset(spec.Type.Pos())
			return joined(slots, "type", word, f.slice("name", f.offset(spec.Pos()), nameEnd), f.slice("type parameters", nameEnd, typeAt),
				f.exprNode("type", typeAt, to, spec.Type))
		}
	case *ast.ValueSpec:
		e.key = spec.Names[0].Name
		if e.key == "_" {
			e.key = "_ " + f.sum(f.offset(spec.Pos()), to)
		}
		e.body = func() *node { return f.value(word, spec, f.offset(spec.Pos()), f.offset(spec.Names[0].End()), 0) }
		if len(spec.Names) == 1 {
			break
		}
		if len(spec.Values) != 0 && len(spec.Values) != len(spec.Names) {
			e.key = strings.ReplaceAll(f.text[f.offset(spec.Pos()):f.offset(spec.Names[len(spec.Names)-1].End())], " ", "")
			e.body = func() *node {
				return f.value(word, spec, f.offset(spec.Pos()), f.offset(spec.Names[len(spec.Names)-1].End()), -1)
			}
			break
		}
		for _, name := range spec.Names {
			e.names = append(e.names, name.Name)
		}
		e.each = func(i int) *node {
			return f.value(word, spec, f.offset(spec.Names[i].Pos()), f.offset(spec.Names[i].End()), i)
		}
	}
	return e
}

// value is a const or var: the name, the type, and the value that is its own,
// or all of them for -1.
func (f *goFile) value(word *node, spec *ast.ValueSpec, nameFrom, nameTo, which int) *node {
	at := f.offset(spec.Names[len(spec.Names)-1].End())
	kind := &node{name: "type"}
	if spec.Type != nil {
		end := f.offset(spec.Type.End())
		kind = f.exprNode("type", at, end, spec.Type)
		at = end
	}
	value := &node{name: "value"}
	switch {
	case len(spec.Values) == 0:
	case which < 0 || len(spec.Names) == 1:
		var lists []innerList
		for _, v := range spec.Values {
			lists = append(lists, f.inner(v)...)
		}
		value = f.cut(slots, "value", at, f.offset(spec.End()), lists)
	default:
		from, to := f.span(spec.Values[which])
		value = f.slice("value", from, to)
		value.text, value.sum = " = "+value.text, "="+tokenBreak+value.sum
	}
	return joined(slots, "value", word, f.slice("name", nameFrom, nameTo), kind, value)
}

func (f *goFile) funcKey(d *ast.FuncDecl) string {
	switch {
	case d.Recv != nil && len(d.Recv.List) > 0:
		return embeddedName(d.Recv.List[0].Type) + "." + d.Name.Name
	case d.Name.Name == "_":
		return "_ " + f.sum(f.span(d))
	}
	return d.Name.Name
}

func (f *goFile) function(d *ast.FuncDecl) *node {
	params := d.Type.Params
	from, nameAt, nameEnd := f.offset(d.Type.Func), f.offset(d.Name.Pos()), f.offset(d.Name.End())
	left, right := f.offset(params.Opening), f.offset(params.Closing)
	end := f.offset(d.End())
	body, resultsEnd := &node{name: "body"}, end
	if d.Body != nil {
		resultsEnd = f.offset(d.Body.Lbrace)
		body = f.block("body", d.Body)
	}
	return joined(slots, "function", f.slice("receiver", from, nameAt), f.slice("name", nameAt, nameEnd), f.slice("type parameters", nameEnd, left),
		f.parameters(params, left, right), f.slice("results", right+1, resultsEnd), body)
}

func (f *goFile) parameters(params *ast.FieldList, left, right int) *node {
	elements := make([]element, len(params.List))
	for i, p := range params.List {
		elements[i] = f.field(p)
		elements[i].what = "parameter"
		if len(p.Names) == 0 {
			elements[i].key = ""
		}
	}
	return f.goSource.list(keyed, "parameters", brackets(left, right), true, elements)
}
