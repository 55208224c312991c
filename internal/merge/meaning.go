package merge

import (
	"context"
	"fmt"
	"go/ast"
	"go/types"
	"maps"
	"slices"
	"strings"

	"widegate/internal/gocheck"
)

// retyped notices where the developer's own files use what the new rendering
// gives another type or value: they build, and may mean something else.
func (g *merger) retyped(ctx context.Context, checker *gocheck.Checker, now *gocheck.Program, w *work, before map[string]string, changed map[string]bool) {
	if !g.ownFiles(w, now) {
		return
	}
	was := checker.Check(ctx, before, map[string]bool{})
	differ := map[types.Object]string{}
	for folder := range changed {
		old, fresh := was.Packages[folder], now.Packages[folder]
		if old == nil || fresh == nil || old.Types == nil || fresh.Types == nil {
			continue
		}
		described := map[string]string{}
		for obj, name := range members(old.Types) {
			described[name] = describe(obj)
		}
		for _, checked := range fresh.All() {
			for obj, name := range members(checked) {
				if text, there := described[name]; there && text != describe(obj) {
					differ[obj] = fmt.Sprintf("%s was %s and is %s", name, text, describe(obj))
				}
			}
		}
	}
	for _, folder := range slices.Sorted(maps.Keys(now.Packages)) {
		for _, info := range now.Packages[folder].Infos() {
			for ident, obj := range info.Uses {
				if what, ok := differ[origin(obj)]; ok {
					g.noticeUse(w, now, ident, what)
				}
			}
		}
	}
}

func (g *merger) noticeUse(w *work, now *gocheck.Program, ident *ast.Ident, what string) {
	at := now.Fset.Position(ident.Pos())
	if !w.own(at.Filename) {
		return
	}
	g.file, g.line = at.Filename, at.Line
	g.decl = declarationAt(w.m[at.Filename], at.Line)
	g.notice("%s; see whether this use still means what it should", what)
}

// own reports whether a file is the developer's alone.
func (w *work) own(name string) bool {
	_, inB := w.b[name]
	_, inT := w.t[name]
	return !inB && !inT
}

// ownFiles reports whether any file that was checked in full is the
// developer's.
func (g *merger) ownFiles(w *work, now *gocheck.Program) bool {
	for folder := range now.Checked() {
		for name := range now.Packages[folder].Files {
			if w.own(name) {
				return true
			}
		}
	}
	return false
}

// members are the names of a package, with the fields and methods of its
// types.
func members(pkg *types.Package) map[types.Object]string {
	list := map[types.Object]string{}
	for _, name := range pkg.Scope().Names() {
		obj := pkg.Scope().Lookup(name)
		if _, isType := obj.(*types.TypeName); !isType {
			list[obj] = name
			continue
		}
		named, ok := obj.Type().(*types.Named)
		if !ok {
			continue
		}
		for m := range named.Methods() {
			list[m] = name + "." + m.Name()
		}
		if s, ok := named.Underlying().(*types.Struct); ok {
			for f := range s.Fields() {
				list[f] = name + "." + f.Name()
			}
		}
	}
	return list
}

// describe is the type of an object, and the value of a constant.
func describe(obj types.Object) string {
	text := types.TypeString(obj.Type(), func(p *types.Package) string { return p.Name() })
	if c, ok := obj.(*types.Const); ok {
		return strings.TrimPrefix(text, "untyped ") + " " + c.Val().String()
	}
	return text
}

// neverSet notices local variables that no statement sets any more: a side that was
// kept may have left them so. They build.
func (g *merger) neverSet(w *work, before map[string]string) {
	for _, name := range slices.Sorted(maps.Keys(w.m)) {
		_, generated := w.t[name]
		if !generated || !strings.HasSuffix(name, ".go") || before[name] == w.m[name] || w.m[name] == w.t[name] {
			continue
		}
		known := unsetIn(before[name])
		maps.Copy(known, unsetIn(w.t[name]))
		now := unsetIn(w.m[name])
		for _, key := range slices.Sorted(maps.Keys(now)) {
			if _, was := known[key]; !was {
				g.file, g.decl, g.line = name, strings.TrimSuffix(key, "."+lastName(key)), now[key]
				g.notice("the variable %s is declared here, and nothing sets it", lastName(key))
			}
		}
	}
}

// unsetIn are the local variables of a file that are declared without a value and never
// set, as FUNCTION.VARIABLE, with their lines.
func unsetIn(text string) map[string]int {
	found := map[string]int{}
	s, err := parseGo("", text)
	if err != nil {
		return found
	}
	for _, d := range s.file.Decls {
		f, ok := d.(*ast.FuncDecl)
		if !ok || f.Body == nil {
			continue
		}
		declared := map[string]int{}
		set := map[string]bool{}
		mark := func(x ast.Expr) {
			if id, ok := x.(*ast.Ident); ok {
				set[id.Name] = true
			}
		}
		ast.Inspect(f.Body, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.ValueSpec:
				for _, id := range n.Names {
					if len(n.Values) == 0 {
						declared[id.Name] = s.lineAt(s.offset(id.Pos()))
					}
				}
			case *ast.AssignStmt:
				for _, x := range n.Lhs {
					for index, ok := x.(*ast.IndexExpr); ok; index, ok = x.(*ast.IndexExpr) {
						x = index.X
					}
					for field, ok := x.(*ast.SelectorExpr); ok; field, ok = x.(*ast.SelectorExpr) {
						x = field.X
					}
					mark(x)
				}
			case *ast.IncDecStmt:
				mark(n.X)
			case *ast.UnaryExpr:
				mark(n.X)
			case *ast.RangeStmt:
				mark(n.Key)
				mark(n.Value)
			case *ast.CallExpr: // a method may set what it is called on
				if sel, ok := n.Fun.(*ast.SelectorExpr); ok {
					mark(sel.X)
				}
			}
			return true
		})
		for name, line := range declared {
			if !set[name] {
				found[(&goFile{goSource: s}).funcKey(f)+"."+name] = line
			}
		}
	}
	return found
}
