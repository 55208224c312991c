package merge

import (
	"go/ast"
	"go/token"
	"net/http"
	"slices"
	"strings"
)

// Elements of lists are known by the names that they carry: a name, a path, a
// method and path, a first argument that is a string, or the field whose address
// they are. What else is in them may change as it likes.

// namingKeys are the keys of a literal that name it, the best first; of two, both
// together do.
var namingKeys = [][]string{{"name"}, {"method", "path"}, {"method", "pattern"}, {"path"}, {"pattern"}, {"id"}, {"key"}, {"url"}, {"columns"}}

// nameOf is the name that an element carries, or nothing.
func (s *goSource) nameOf(x ast.Expr) string {
	switch x := x.(type) {
	case *ast.ParenExpr:
		return s.nameOf(x.X)
	case *ast.UnaryExpr:
		if name, ok := address(x); ok {
			return name
		}
		return s.nameOf(x.X)
	case *ast.BasicLit:
		if x.Kind == token.STRING {
			return x.Value
		}
	case *ast.CompositeLit:
		return s.literalName(x)
	case *ast.CallExpr:
		if name, ok := address(x); ok {
			return name
		}
		if lit, ok := firstOf(x.Args).(*ast.BasicLit); ok && lit.Kind == token.STRING {
			return lit.Value
		}
	}
	return ""
}

func (s *goSource) literalName(c *ast.CompositeLit) string {
	values := map[string]string{}
	for _, x := range c.Elts {
		if pair, ok := x.(*ast.KeyValueExpr); ok {
			if key, ok := pair.Key.(*ast.Ident); ok {
				values[strings.ToLower(key.Name)] = s.sum(s.span(pair.Value))
			}
		}
	}
	for _, keys := range namingKeys {
		if slices.ContainsFunc(keys, func(k string) bool { return values[k] == "" }) {
			continue
		}
		var name strings.Builder
		for _, k := range keys {
			name.WriteString(values[k])
		}
		return strings.TrimSuffix(name.String(), tokenBreak)
	}
	var words []string
	for _, x := range c.Elts {
		lit, ok := x.(*ast.BasicLit)
		if !ok || lit.Kind != token.STRING {
			break
		}
		words = append(words, lit.Value)
	}
	switch {
	case len(words) == 0:
		return ""
	case len(words) > 1 && isMethod(strings.Trim(words[0], "\"`")):
		return words[0] + tokenBreak + words[1]
	}
	return words[0]
}

func isMethod(word string) bool {
	return slices.Contains([]string{http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions}, word)
}

// address is the field whose address an expression is, by itself or as the only
// argument of a call.
func address(x ast.Expr) (field string, ok bool) {
	switch x := x.(type) {
	case *ast.ParenExpr:
		return address(x.X)
	case *ast.UnaryExpr:
		if sel, ok := x.X.(*ast.SelectorExpr); ok && x.Op == token.AND {
			return sel.Sel.Name, true
		}
	case *ast.CallExpr:
		if len(x.Args) == 1 {
			return address(x.Args[0])
		}
	}
	return "", false
}

// argumentName is the name of an argument, which counts only where it is the
// address of a field or a call that registers something under a name.
func (s *goSource) argumentName(x ast.Expr) string {
	if name, ok := address(x); ok {
		return name
	}
	if call, ok := x.(*ast.CallExpr); ok {
		return s.nameOf(call)
	}
	return ""
}

// byNames merges arguments of which those that a side adds, removes or changes
// carry names; false means that some do not.
func (g *merger) byNames(b, m, t *node) (string, bool) {
	var plain [3][]string
	for i, side := range []*node{b, m, t} {
		seen := map[string]bool{}
		for _, it := range side.items {
			switch {
			case it.comment():
				continue
			case it.body.known == "":
				plain[i] = append(plain[i], it.sum)
				it.key = "=" + it.sum
			default:
				it.key = it.body.known
			}
			if seen[it.key] {
				return "", false
			}
			seen[it.key] = true
		}
	}
	if !slices.Equal(plain[0], plain[1]) || !slices.Equal(plain[0], plain[2]) {
		return "", false
	}
	return g.keyedList(b, m, t), true
}

// byPlaces merges as many arguments on each side by their places; false means
// that a place was changed by both.
func (g *merger) byPlaces(b, m, t *node) (string, bool) {
	if len(b.items) != len(m.items) || len(b.items) != len(t.items) {
		return "", false
	}
	for i, it := range b.items {
		if it.comment() || m.items[i].comment() || t.items[i].comment() {
			return "", false
		}
		if m.items[i].sum != it.sum && t.items[i].sum != it.sum && m.items[i].sum != t.items[i].sum {
			return "", false
		}
	}
	items := make([]*item, len(b.items))
	for i := range b.items {
		items[i] = g.item(b.items[i], m.items[i], t.items[i])
	}
	return m.written(items, g.tail(b, m, t)), true
}
