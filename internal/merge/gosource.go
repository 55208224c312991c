package merge

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/scanner"
	"go/token"
	"go/types"
	"slices"
	"strings"
)

// goSource is a parsed Go file with its tokens.
type goSource struct {
	source
	fset *token.FileSet
	file *ast.File
}

// parseGo parses a file whose line ends are plain.
func parseGo(path, text string) (*goSource, error) {
	s := &goSource{source: newSource(path, text), fset: token.NewFileSet()}
	var err error
	if s.file, err = parser.ParseFile(s.fset, path, text, parser.ParseComments); err != nil {
		return nil, err
	}
	s.scan()
	return s, nil
}

func (s *goSource) scan() {
	fset := token.NewFileSet()
	file := fset.AddFile("", -1, len(s.text))
	var sc scanner.Scanner
	sc.Init(file, []byte(s.text), nil, scanner.ScanComments)
	for {
		pos, tok, lit := sc.Scan()
		if tok == token.EOF {
			break
		}
		if tok == token.SEMICOLON && lit == "\n" {
			continue
		}
		if lit == "" {
			lit = tok.String()
		}
		s.add(tok, file.Offset(pos), lit)
	}
	s.trailingCommas()
}

func (s *goSource) offset(p token.Pos) int     { return s.fset.Position(p).Offset }
func (s *goSource) span(n ast.Node) (int, int) { return s.offset(n.Pos()), s.offset(n.End()) }

// field lists

func (s *goSource) fields(name string, list *ast.FieldList) *node {
	elements := make([]element, len(list.List))
	for i, f := range list.List {
		elements[i] = s.field(f)
	}
	return s.list(keyed, name, brackets(s.offset(list.Opening), s.offset(list.Closing)), false, elements)
}

func (s *goSource) field(f *ast.Field) element {
	from, to := s.offset(f.Pos()), s.offset(f.End())
	e := element{from: from, to: to, what: "field"}
	typeFrom := s.offset(f.Type.Pos())
	if len(f.Names) == 0 {
		e.key = embeddedName(f.Type)
		e.body = func() *node { return s.fieldBody(from, typeFrom, f) }
		return e
	}
	e.key = f.Names[0].Name
	if _, method := f.Type.(*ast.FuncType); method && s.offset(f.Type.Pos()) <= s.offset(f.Names[0].End()) {
		e.what = "method"
	}
	e.body = func() *node { return s.fieldBody(from, s.offset(f.Names[0].End()), f) }
	for _, name := range f.Names {
		e.names = append(e.names, name.Name)
	}
	e.each = func(i int) *node {
		return s.fieldBody(s.offset(f.Names[i].Pos()), s.offset(f.Names[i].End()), f)
	}
	return e
}

// fieldBody is the name, the type and the tag of a field. Of several names
// the one at from is taken, with the type that all share.
func (s *goSource) fieldBody(from, nameEnd int, f *ast.Field) *node {
	name := s.slice("name", from, nameEnd)
	typeFrom := nameEnd
	if k := len(f.Names); k > 1 {
		typeFrom = s.offset(f.Names[k-1].End())
	}
	typeTo := s.offset(f.Type.End())
	kind := s.exprNode("type", typeFrom, typeTo, f.Type)
	tag := &node{form: atom, name: "tag"}
	if f.Tag != nil {
		tag = s.slice("tag", typeTo, s.offset(f.Tag.End()))
	}
	return joined(slots, "field", name, kind, tag)
}

func embeddedName(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.StarExpr:
		return embeddedName(e.X)
	case *ast.SelectorExpr:
		return e.Sel.Name
	case *ast.IndexExpr:
		return embeddedName(e.X)
	case *ast.IndexListExpr:
		return embeddedName(e.X)
	case *ast.Ident:
		return e.Name
	case *ast.ParenExpr:
		return embeddedName(e.X)
	}
	return types.ExprString(e)
}

// expressions

// exprNode is an expression from the byte from on, cut where lists in it can
// be merged item by item.
func (s *goSource) exprNode(name string, from, to int, e ast.Node) *node {
	return s.cut(slots, name, from, to, s.inner(e))
}

// innerList is a list inside an expression.
type innerList struct {
	from, to int
	node     func() *node
}

// cut makes parts of a stretch: its lists, and the atoms between them.
func (s *goSource) cut(f form, name string, from, to int, lists []innerList) *node {
	if len(lists) == 0 {
		return s.slice(name, from, to)
	}
	n := &node{form: f, name: name, text: s.text[from:to], sum: s.sum(from, to), line: s.lineAt(from)}
	at := from
	for _, l := range lists {
		if l.from > at {
			n.parts = append(n.parts, s.slice(name, at, l.from))
		} else {
			n.parts = append(n.parts, &node{name: name})
		}
		n.parts = append(n.parts, l.node())
		at = l.to
	}
	n.parts = append(n.parts, s.slice(name, at, to))
	return n
}

// inner finds the outermost lists in an expression.
func (s *goSource) inner(e ast.Node) []innerList {
	var lists []innerList
	ast.Inspect(e, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.FuncLit:
			from, to := s.span(n.Body)
			lists = append(lists, s.inner(n.Type)...)
			lists = append(lists, innerList{from, to, func() *node { return s.block("body", n.Body) }})
			return false
		case *ast.CompositeLit:
			if n.Type != nil {
				lists = append(lists, s.inner(n.Type)...)
			}
			if l, ok := s.literal(n); ok {
				lists = append(lists, l)
				return false
			}
			for _, x := range n.Elts {
				lists = append(lists, s.inner(x)...)
			}
			return false
		case *ast.StructType:
			from, to := s.span(n.Fields)
			lists = append(lists, innerList{from, to, func() *node { return s.fields("fields", n.Fields) }})
			return false
		case *ast.InterfaceType:
			from, to := s.span(n.Methods)
			lists = append(lists, innerList{from, to, func() *node { return s.fields("methods", n.Methods) }})
			return false
		case *ast.CallExpr:
			if !s.isList(n) {
				return true
			}
			lists = append(lists, s.inner(n.Fun)...)
			from, to := s.offset(n.Lparen), s.offset(n.Rparen)+1
			lists = append(lists, innerList{from, to, func() *node { return s.arguments(n) }})
			return false
		case *ast.BasicLit:
			if n.Kind == token.STRING && strings.Contains(n.Value, "\n") {
				from, to := s.span(n)
				lists = append(lists, innerList{from, to, func() *node { return s.lines("raw string", from, to) }})
			}
		}
		return true
	})
	slices.SortFunc(lists, func(a, b innerList) int { return a.from - b.from })
	return lists
}

// isList reports whether the arguments of a call are merged one by one: they stand
// on several lines, or some of them carry names.
func (s *goSource) isList(c *ast.CallExpr) bool {
	if len(c.Args) == 0 {
		return false
	}
	return s.spread(c) || slices.ContainsFunc(c.Args, func(a ast.Expr) bool { _, place := address(a); return place })
}

// spread reports whether the arguments of a call stand on several lines, and
// not only the body of one of them does.
func (s *goSource) spread(c *ast.CallExpr) bool {
	line := s.lineAt(s.offset(c.Lparen))
	for _, a := range c.Args {
		from, to := s.span(a)
		if s.lineAt(from) != line {
			return true
		}
		line = s.lineAt(to)
	}
	return s.lineAt(s.offset(c.Rparen)) != line
}

func (s *goSource) arguments(c *ast.CallExpr) *node {
	elements := make([]element, len(c.Args))
	for i, a := range c.Args {
		from, to := s.span(a)
		if i == len(c.Args)-1 && c.Ellipsis.IsValid() {
			to = s.offset(c.Ellipsis) + 3
		}
		elements[i] = element{from: from, to: to, what: "argument", kind: fmt.Sprintf("%T", a),
			body: func() *node {
				n := s.cut(single, "argument", from, to, s.inner(a))
				n.known = s.argumentName(a)
				return n
			}}
	}
	return s.list(ordered, "arguments", brackets(s.offset(c.Lparen), s.offset(c.Rparen)), true, elements)
}

// literal is the list of a composite literal, if it is one to merge by items.
func (s *goSource) literal(c *ast.CompositeLit) (innerList, bool) {
	from, to := s.offset(c.Lbrace), s.offset(c.Rbrace)+1
	if len(c.Elts) == 0 {
		if c.Type == nil {
			return innerList{}, false
		}
		return innerList{from, to, func() *node { return s.list(keyed, "literal", brackets(from, to-1), true, nil) }}, true
	}
	if _, pairs := c.Elts[0].(*ast.KeyValueExpr); pairs {
		return innerList{from, to, func() *node { return s.keyedLiteral(c) }}, true
	}
	if !sliceOrMap(c.Type) && s.lineAt(from) == s.lineAt(to-1) {
		return innerList{}, false
	}
	return innerList{from, to, func() *node { return s.plainLiteral(c) }}, true
}

func sliceOrMap(e ast.Expr) bool {
	switch e.(type) {
	case *ast.ArrayType, *ast.MapType:
		return true
	}
	return false
}

func (s *goSource) keyedLiteral(c *ast.CompositeLit) *node {
	elements := make([]element, len(c.Elts))
	for i, x := range c.Elts {
		from, to := s.span(x)
		elements[i] = element{from: from, to: to, what: "element", key: s.text[from:to], body: func() *node { return s.exprNode("element", from, to, x) }}
		if pair, ok := x.(*ast.KeyValueExpr); ok {
			keyFrom, keyTo := s.span(pair.Key)
			elements[i].key = s.text[keyFrom:keyTo]
			elements[i].body = func() *node {
				return joined(slots, "element", s.slice("key", from, keyTo), s.exprNode("value", keyTo, to, pair.Value))
			}
		}
	}
	return s.list(keyed, "literal", brackets(s.offset(c.Lbrace), s.offset(c.Rbrace)), true, elements)
}

// plainLiteral is a literal without keys. The parts of an element that tell
// it from others are kept beside it, for matching.
func (s *goSource) plainLiteral(c *ast.CompositeLit) *node {
	elements := make([]element, len(c.Elts))
	for i, x := range c.Elts {
		from, to := s.span(x)
		elements[i] = element{from: from, to: to, what: "element", kind: "element", body: func() *node {
			n := s.row(from, to, x)
			n.marks, n.known = s.marks(x), s.nameOf(x)
			return n
		}}
	}
	return s.list(matched, "literal", brackets(s.offset(c.Lbrace), s.offset(c.Rbrace)), true, elements)
}

// row cuts an element at its own elements or arguments, so that two sides may
// change different ones.
func (s *goSource) row(from, to int, x ast.Expr) *node {
	switch x := x.(type) {
	case *ast.CallExpr:
		if len(x.Args) == 0 {
			break
		}
		left, right := s.offset(x.Lparen), s.offset(x.Rparen)+1
		return joined(slots, "element", s.exprNode("element", from, left, x.Fun), s.arguments(x), s.slice("element", right, to))
	case *ast.CompositeLit:
		if _, pairs := firstOf(x.Elts).(*ast.KeyValueExpr); pairs || len(x.Elts) < 2 || sliceOrMap(x.Type) {
			break
		}
		n := &node{form: slots, name: "element", text: s.text[from:to], sum: s.sum(from, to), line: s.lineAt(from)}
		at := from
		for _, p := range x.Elts {
			end := s.offset(p.End())
			n.parts = append(n.parts, s.exprNode("element", at, end, p))
			at = end
		}
		n.parts = append(n.parts, s.slice("element", at, to))
		return n
	}
	return s.exprNode("element", from, to, x)
}

func firstOf(list []ast.Expr) ast.Expr {
	if len(list) == 0 {
		return nil
	}
	return list[0]
}

// marks are the elements of a row, by which rows are matched.
func (s *goSource) marks(x ast.Expr) []string {
	var parts []ast.Expr
	switch x := x.(type) {
	case *ast.UnaryExpr:
		return s.marks(x.X)
	case *ast.CompositeLit:
		parts = x.Elts
	case *ast.CallExpr:
		parts = append([]ast.Expr{x.Fun}, x.Args...)
	default:
		parts = []ast.Expr{x}
	}
	marks := make([]string, len(parts))
	for i, p := range parts {
		marks[i] = codeOf(s.sum(s.span(p)))
	}
	return marks
}

// statements

func (s *goSource) block(name string, b *ast.BlockStmt) *node {
	return s.statements(name, brackets(s.offset(b.Lbrace), s.offset(b.Rbrace)), b.List)
}

func (s *goSource) statements(name string, x extent, list []ast.Stmt) *node {
	var elements []element
	for _, st := range list {
		if _, empty := st.(*ast.EmptyStmt); empty {
			continue
		}
		from, to := s.span(st)
		elements = append(elements, element{from: from, to: to, what: "statement", kind: statementKind(st), body: func() *node { return s.statement(from, to, st) }})
	}
	return s.list(ordered, name, x, false, elements)
}

func statementKind(st ast.Stmt) string {
	if assign, ok := st.(*ast.AssignStmt); ok && assign.Tok == token.DEFINE {
		return "*ast.DefineStmt"
	}
	return fmt.Sprintf("%T", st)
}

func (s *goSource) statement(from, to int, st ast.Stmt) *node {
	switch st := st.(type) {
	case *ast.BlockStmt:
		return s.block("block", st)
	case *ast.LabeledStmt:
		at := s.offset(st.Stmt.Pos())
		return joined(slots, "statement", s.slice("label", from, at), s.statement(at, to, st.Stmt))
	case *ast.IfStmt:
		return s.ifStatement(from, to, st)
	case *ast.ForStmt:
		return s.headed(from, st.Body)
	case *ast.RangeStmt:
		return s.headed(from, st.Body)
	case *ast.SwitchStmt:
		return s.cases(from, st.Body)
	case *ast.TypeSwitchStmt:
		return s.cases(from, st.Body)
	case *ast.SelectStmt:
		return s.cases(from, st.Body)
	}
	return s.cut(single, "statement", from, to, s.inner(st))
}

func (s *goSource) headed(from int, body *ast.BlockStmt) *node {
	return joined(slots, "statement", s.slice("header", from, s.offset(body.Lbrace)), s.block("body", body))
}

func (s *goSource) ifStatement(from, to int, st *ast.IfStmt) *node {
	bodyEnd := s.offset(st.Body.End())
	otherwise := &node{name: "else"}
	if st.Else != nil {
		at := s.offset(st.Else.Pos())
		otherwise = joined(slots, "else", s.slice("else", bodyEnd, at), s.statement(at, to, st.Else))
	}
	return joined(slots, "statement", s.slice("condition", from, s.offset(st.Body.Lbrace)), s.block("body", st.Body), otherwise)
}

func (s *goSource) cases(from int, body *ast.BlockStmt) *node {
	open, end := s.offset(body.Lbrace)+1, s.offset(body.Rbrace)
	elements := make([]element, len(body.List))
	for i, st := range body.List {
		at, _ := s.span(st)
		head, list := caseHead(st)
		colon := s.offset(head) + 1
		to := end
		if i+1 < len(body.List) {
			to = s.offset(body.List[i+1].Pos())
		}
		to = s.caseEnd(colon, to, list)
		elements[i] = element{from: at, to: to, what: "case", kind: "case", key: s.sum(at, colon), body: func() *node {
			return joined(slots, "case", s.slice("case", at, colon), s.statements("body", extent{colon, colon, to, to}, list))
		}}
	}
	return joined(slots, "statement", s.slice("header", from, open-1), s.list(keyed, "cases", brackets(open-1, end), false, elements))
}

// caseEnd is where the statements of a case end, with the comments that are
// indented like them.
func (s *goSource) caseEnd(colon, next int, list []ast.Stmt) int {
	at := colon
	if len(list) > 0 {
		at = s.offset(list[len(list)-1].End())
	}
	line := s.lineAt(max(at-1, 0))
	for _, t := range s.between(at, next) {
		if t.comment() && t.line == line {
			at = t.to
		}
	}
	return at
}

func caseHead(st ast.Stmt) (colon token.Pos, list []ast.Stmt) {
	switch st := st.(type) {
	case *ast.CaseClause:
		return st.Colon, st.Body
	case *ast.CommClause:
		return st.Colon, st.Body
	}
	return st.Pos(), nil
}
