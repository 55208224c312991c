package merge

import (
	"fmt"
	"go/ast"
	"go/token"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
)

// A table is described by two lists in one literal: its columns, by their names,
// and the fields of the entity that they are read into, in the same order. They
// must not get out of step.

// The keys of the two lists.
const (
	columnsKey = "Columns"
	fieldsKey  = "Fields"
)

// followFields has a column of base and of mine go by the name that theirs gives
// to the column of the same field: a column that was renamed is not another one.
func followFields(b, m, t *node) {
	fieldsB, fieldsT := fieldsOfColumns(b), fieldsOfColumns(t)
	if len(fieldsB) == 0 || len(fieldsT) == 0 {
		return
	}
	now := map[string]string{} // names by field
	for name, field := range fieldsT {
		if fieldsB[name] == "" {
			now[field] = name
		}
	}
	for name, field := range fieldsB {
		renamed := now[field]
		if renamed == "" || fieldsT[name] != "" {
			continue
		}
		for _, side := range []*node{b, m} {
			for _, it := range columnItems(side) {
				if !it.comment() && it.body.known == name {
					it.body.known = renamed
				}
			}
		}
	}
}

// fieldsOfColumns are the fields by the names of their columns, where the lists
// are in step.
func fieldsOfColumns(literal *node) map[string]string {
	var columns, fields []string
	for _, it := range columnItems(literal) {
		if !it.comment() {
			columns = append(columns, it.body.known)
		}
	}
	if list := listBelow(itemOf(literal, fieldsKey), "arguments"); list != nil {
		for _, it := range list.items {
			if !it.comment() && it.body.known != "" {
				fields = append(fields, it.body.known)
			}
		}
	}
	if len(columns) != len(fields) {
		return nil
	}
	pairs := map[string]string{}
	for i, name := range columns {
		if name != "" {
			pairs[name] = fields[i]
		}
	}
	return pairs
}

func columnItems(literal *node) []*item {
	if list := listBelow(itemOf(literal, columnsKey), "literal"); list != nil && list.form == matched {
		return list.items
	}
	return nil
}

func itemOf(list *node, key string) *node {
	for _, it := range list.items {
		if it.key == key && it.body != nil {
			return it.body
		}
	}
	return nil
}

// listBelow is the first list of a name in a stretch.
func listBelow(n *node, name string) *node {
	switch {
	case n == nil:
		return nil
	case n.form.list() && n.name == name:
		return n
	}
	for _, p := range n.parts {
		if found := listBelow(p, name); found != nil {
			return found
		}
	}
	for _, it := range n.items {
		if found := listBelow(it.body, name); found != nil {
			return found
		}
	}
	return nil
}

// columnList is such a literal in a file: the names of its columns, and the
// fields that stand at their places.
type columnList struct {
	file, decl      string
	line            int
	columns, fields []string
}

// fault says how the lists are out of step, given which field a column has been
// rendered with.
func (l columnList) fault(rendered map[string]string) string {
	if len(l.columns) != len(l.fields) {
		return fmt.Sprintf("%s and %s would be out of step: %d columns and %d fields; each column needs its field, at the same place", columnsKey, fieldsKey, len(l.columns), len(l.fields))
	}
	stand := map[string]bool{}
	for _, f := range l.fields {
		stand[f] = true
	}
	for i, name := range l.columns {
		if want := rendered[name]; want != "" && stand[want] && l.fields[i] != want && l.fields[i] != "" {
			return fmt.Sprintf("%s and %s would be out of step: the column %s stands where the field %s does, not %s", columnsKey, fieldsKey, name, l.fields[i], want)
		}
	}
	return ""
}

// inStep refuses columns without their fields, where the merge made them so.
func (g *merger) inStep(w *work, before map[string]string, folder string) {
	old := map[string]columnList{}
	rendered := map[string]map[string]string{}
	for _, texts := range []map[string]string{w.b, w.t} {
		for _, l := range columnListsIn(texts, folder) {
			if len(l.columns) != len(l.fields) {
				continue
			}
			if rendered[l.decl] == nil {
				rendered[l.decl] = map[string]string{}
			}
			for i, name := range l.columns {
				rendered[l.decl][name] = l.fields[i]
			}
		}
	}
	for _, l := range columnListsIn(before, folder) {
		old[l.decl] = l
	}
	for _, l := range columnListsIn(w.m, folder) {
		fault := l.fault(rendered[l.decl])
		if was, there := old[l.decl]; fault == "" || there && was.fault(rendered[l.decl]) != "" {
			continue
		}
		g.file, g.decl, g.line = l.file, l.decl, l.line
		if text, there := before[l.file]; there {
			g.line = lineBefore(text, l.decl, l.line)
		}
		g.refuse("out-of-step", "%s", fault)
	}
}

func columnListsIn(texts map[string]string, folder string) []columnList {
	var lists []columnList
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		text := texts[name]
		if path.Dir(name) != folder || !strings.HasSuffix(name, ".go") || !strings.Contains(text, columnsKey+":") || !strings.Contains(text, fieldsKey+":") {
			continue
		}
		s, err := parseGo(name, text)
		if err != nil {
			continue
		}
		for _, d := range s.file.Decls {
			ast.Inspect(d, func(n ast.Node) bool {
				if c, ok := n.(*ast.CompositeLit); ok {
					if l, ok := s.columnList(c); ok {
						l.file, l.line = name, s.lineAt(s.offset(c.Pos()))
						l.decl = declarationAt(text, l.line)
						lists = append(lists, l)
					}
				}
				return true
			})
		}
	}
	return lists
}

func (s *goSource) columnList(c *ast.CompositeLit) (columnList, bool) {
	var l columnList
	found := 0
	for _, x := range c.Elts {
		pair, ok := x.(*ast.KeyValueExpr)
		if !ok {
			return l, false
		}
		key, _ := pair.Key.(*ast.Ident)
		columns, isLiteral := pair.Value.(*ast.CompositeLit)
		read, isFunc := pair.Value.(*ast.FuncLit)
		switch {
		case key == nil:
		case key.Name == columnsKey && isLiteral:
			found++
			for _, e := range columns.Elts {
				name := s.nameOf(e)
				if text, err := strconv.Unquote(name); err == nil {
					name = text
				}
				l.columns = append(l.columns, name)
			}
		case key.Name == fieldsKey && isFunc:
			if args := appended(read); args != nil {
				found++
				for _, a := range args[1:] {
					l.fields = append(l.fields, s.argumentName(a))
				}
			}
		}
	}
	return l, found == 2
}

// appended are the arguments of the append that a function returns the result of,
// if that is all that it does.
func appended(f *ast.FuncLit) []ast.Expr {
	if len(f.Body.List) != 1 {
		return nil
	}
	ret, ok := f.Body.List[0].(*ast.ReturnStmt)
	if !ok || len(ret.Results) != 1 {
		return nil
	}
	call, ok := ret.Results[0].(*ast.CallExpr)
	if !ok || len(call.Args) == 0 || call.Ellipsis != token.NoPos {
		return nil
	}
	if name, ok := call.Fun.(*ast.Ident); !ok || name.Name != "append" {
		return nil
	}
	return call.Args
}
