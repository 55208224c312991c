package generate

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/parser"
	"go/printer"
	"go/token"
	"maps"
	"path"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/impact"
	"widegate/internal/merge"
)

// functions tells which functions for named queries and routines come, go or
// have another signature, and likewise of the fields of their rows.
func (plan *Plan) functions() []impact.Line {
	was, now := merge.Tree{}, merge.Tree{}
	for name, text := range plan.ledger.Base {
		was[name] = text
	}
	for name, f := range plan.files {
		now[name] = f.Text
	}
	before, after := plan.signatures(was), plan.signatures(now)
	var lines []impact.Line
	add := func(kind catalog.ChangeKind, name, format string, args ...any) {
		lines = append(lines, impact.Line{Kind: kind, Thing: "function", Name: name, Text: fmt.Sprintf(format, args...), Breaks: kind != catalog.Added})
	}
	for _, name := range slices.Sorted(maps.Keys(before)) {
		switch text, there := after[name]; {
		case !there && (!strings.Contains(name, ".") || has(after, name)):
			add(catalog.Dropped, name, "%s is gone", name)
		case !there:
		case text != before[name]:
			add(catalog.Altered, name, "%s is %s now, was %s", name, text, before[name])
		}
	}
	for _, name := range slices.Sorted(maps.Keys(after)) {
		if _, there := before[name]; !there && (!strings.Contains(name, ".") || has(before, name)) {
			add(catalog.Added, name, "%s is new", name)
		}
	}
	return lines
}

// has reports whether there are fields of the type of one.
func has(all map[string]string, field string) bool {
	owner, _, _ := strings.Cut(field, ".")
	for name := range all {
		if strings.HasPrefix(name, owner+".") {
			return true
		}
	}
	return false
}

// signatures are those of the exported functions of queries and routines, and
// the types of the fields of their rows.
func (plan *Plan) signatures(tree merge.Tree) map[string]string {
	texts := map[string]string{}
	fset := token.NewFileSet()
	for name, text := range tree {
		own := strings.HasSuffix(name, "_queries.go") || path.Base(name) == "routines.go"
		if path.Dir(name) != path.Clean(plan.project.Code.Folder) || !own {
			continue
		}
		file, err := parser.ParseFile(fset, name, text, parser.SkipObjectResolution)
		if err != nil {
			continue // a record that two branches wrote
		}
		for _, decl := range file.Decls {
			switch d := decl.(type) {
			case *ast.FuncDecl:
				if d.Recv == nil && d.Name.IsExported() {
					texts[d.Name.Name] = printed(fset, d.Type)
				}
			case *ast.GenDecl:
				for _, spec := range d.Specs {
					addFields(texts, fset, spec)
				}
			}
		}
	}
	return texts
}

func addFields(texts map[string]string, fset *token.FileSet, spec ast.Spec) {
	t, ok := spec.(*ast.TypeSpec)
	if !ok || !t.Name.IsExported() {
		return
	}
	row, ok := t.Type.(*ast.StructType)
	if !ok {
		return
	}
	for _, field := range row.Fields.List {
		for _, name := range field.Names {
			if name.IsExported() {
				texts[t.Name.Name+"."+name.Name] = printed(fset, field.Type)
			}
		}
	}
}

// printed is a type on one line.
func printed(fset *token.FileSet, n ast.Node) string {
	var b bytes.Buffer
	if err := printer.Fprint(&b, fset, n); err != nil {
		return ""
	}
	line := strings.NewReplacer("( ", "(", ", )", ")").Replace(strings.Join(strings.Fields(b.String()), " "))
	for _, all := range []string{"func(ctx context.Context, db gate.DB, ", "func(ctx context.Context, db gate.DB"} { // have these
		if rest, ok := strings.CutPrefix(line, all); ok {
			return "func(" + rest
		}
	}
	return line
}
