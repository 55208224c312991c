package merge

import (
	"context"
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"maps"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"

	"widegate/internal/gocheck"
)

// gate refuses a result that would not build, whose constants have values that
// nobody gave them, or whose routes clash.
func (g *merger) gate(ctx context.Context, w *work, before map[string]string) {
	changed := map[string]bool{}
	for name, text := range w.m {
		if was, there := before[name]; strings.HasSuffix(name, ".go") && (!there || was != text) {
			changed[path.Dir(name)] = true
		}
	}
	for name := range before {
		if _, there := w.m[name]; !there && strings.HasSuffix(name, ".go") {
			changed[path.Dir(name)] = true
		}
	}
	if len(changed) == 0 || w.rendered() && !g.options.Whole && !g.anyUnproven(w) {
		return
	}
	for name := range w.t {
		if _, there := w.m[name]; !there && strings.HasSuffix(name, ".go") {
			changed[path.Dir(name)] = true // it is left out, and others may need it
		}
	}
	reach := g.reach(w, before)
	checker := gocheck.New(g.options.Module, g.options.Root)
	if !g.options.alone && (g.options.Whole || !reach.none(w)) {
		g.builds(ctx, checker, w, before, changed, reach)
		for _, variant := range checker.Variants(w.m) {
			g.builds(ctx, variant, w, before, changed, reach)
		}
	}
	g.neverSet(w, before)
	for _, folder := range slices.Sorted(maps.Keys(changed)) {
		if g.options.Whole || reach.ownIn(folder) {
			g.constants(ctx, checker, w, before, folder)
			g.routes(w, before, folder)
		}
	}
}

func (g *merger) anyUnproven(w *work) bool {
	for name := range w.t {
		if strings.HasSuffix(name, ".go") && g.options.unproven(name) {
			return true
		}
	}
	return false
}

// rendered reports whether all Go is as it was rendered: a first write into an
// empty folder, which has nothing of the developer's to go wrong with.
func (w *work) rendered() bool {
	for name, text := range w.m {
		if strings.HasSuffix(name, ".go") && w.t[name] != text {
			return false
		}
	}
	for name := range w.t {
		if _, there := w.m[name]; !there && strings.HasSuffix(name, ".go") {
			return false
		}
	}
	return true
}

// builds refuses errors of type that were not there before.
func (g *merger) builds(ctx context.Context, checker *gocheck.Checker, w *work, before map[string]string, changed map[string]bool, r *reach) {
	checker.Bodies = func(name string) bool {
		return g.options.Whole || r.bodies(name, w.m[name]) || r.bodies(name, before[name])
	}
	now := checker.Check(ctx, w.m, changed)
	faults := now.Faults()
	if len(faults) == 0 {
		g.retyped(ctx, checker, now, w, before, changed)
		return
	}
	known := map[string]int{}
	for _, f := range checker.Check(ctx, before, now.Checked()).Faults() {
		known[f.File+"\x00"+f.Message]++
	}
	for _, f := range faults {
		_, generated := w.t[f.File]
		name := Missing(f.Message)
		deleted := name != "" && g.deleted(w, before, name)
		if k := f.File + "\x00" + f.Message; known[k] > 0 && !(generated && deleted) {
			known[k]--
			continue
		}
		g.file, g.decl, g.line = f.File, declarationAt(w.m[f.File], f.Line), f.Line
		class, why := "breaks", "with the new rendering this does not build: "+f.Message
		if deleted {
			class, why = "needs-deleted", fmt.Sprintf("the new rendering needs %s, which you deleted: %s; put it back, or bring its file back by --bring-back", name, f.Message)
		}
		if _, own := w.m[f.File]; own && before[f.File] != w.m[f.File] {
			g.line = lineBefore(before[f.File], g.decl, f.Line)
		}
		g.refuse(class, "%s", why)
	}
}

// Missing is the name that an error says there is none of.
func Missing(message string) string {
	if name, ok := strings.CutPrefix(message, "undefined: "); ok {
		return name[strings.LastIndexByte(name, '.')+1:]
	}
	if _, after, ok := strings.Cut(message, "unknown field "); ok {
		name, _, _ := strings.Cut(after, " ")
		return name
	}
	if name, _, ok := strings.Cut(message, " is another thing in the new rendering"); ok {
		return name[strings.LastIndexByte(name, '.')+1:]
	}
	_, after, ok := strings.Cut(message, "has no field or method ")
	if !ok {
		return ""
	}
	name, _, _ := strings.Cut(after, ")")
	name, _, _ = strings.Cut(name, ",")
	return strings.TrimSpace(name)
}

// deleted reports whether a name was rendered last time and mine has it no
// more.
func (g *merger) deleted(w *work, before map[string]string, name string) bool {
	declares := func(texts map[string]string, only map[string]string) bool {
		for file, text := range texts {
			if _, ours := only[file]; !ours && only != nil || !strings.HasSuffix(file, ".go") || !strings.Contains(text, name) {
				continue
			}
			f, err := cutGo(file, text)
			if err != nil {
				continue
			}
			for _, u := range f.units {
				if u.key == name || strings.HasSuffix(u.key, "."+name) {
					return true
				}
			}
		}
		return false
	}
	return declares(w.b, nil) && !declares(before, nil)
}

// declarationAt is the key of the declaration that a line of a file lies in.
func declarationAt(text string, line int) string {
	f, err := cutGo("", text)
	if err != nil {
		return ""
	}
	found := ""
	for _, u := range f.units {
		if u.item.line <= line {
			found = u.key
		}
	}
	return found
}

// lineBefore is where a declaration starts in mine, or the line given.
func lineBefore(text, decl string, line int) int {
	f, err := cutGo("", text)
	if err != nil {
		return line
	}
	for _, u := range f.units {
		if u.key == decl {
			return u.item.line
		}
	}
	return line
}

// constants refuses constants whose value is not what the three versions make
// it: two names appended to one iota block, for instance, of which one moves.
func (g *merger) constants(ctx context.Context, checker *gocheck.Checker, w *work, before map[string]string, folder string) {
	values := func(texts map[string]string) map[string]string {
		files := map[string]string{}
		for name, text := range texts {
			if path.Dir(name) == folder && strings.HasSuffix(name, ".go") {
				files[name] = text
			}
		}
		return constantsOf(checker.Check(ctx, files, map[string]bool{}).Packages[folder])
	}
	now := values(w.m)
	if len(now) == 0 {
		return
	}
	b, m, t := values(w.b), values(before), values(w.t)
	if maps.Equal(b, m) {
		return
	}
	for _, name := range slices.Sorted(maps.Keys(now)) {
		wanted := m[name]
		if m[name] == b[name] && t[name] != "" {
			wanted = t[name]
		}
		if m[name] != b[name] && t[name] != b[name] && m[name] != t[name] {
			wanted = ""
		}
		if wanted == now[name] || m[name] == "" && now[name] == t[name] || strings.Contains(now[name], `\n`) { // the lines of a text are merged one by one
			continue
		}
		g.decl, g.line = name, 1
		for file, text := range before {
			if path.Dir(file) == folder && strings.Contains(text, name) && strings.HasSuffix(file, ".go") {
				if at := lineBefore(text, name, 0); at > 0 {
					g.file, g.line = file, at
				}
			}
		}
		g.refuse("constant", "the constant would become %s; you have %s, and the new rendering %s: give the constants of this block explicit values", now[name], orNone(m[name]), orNone(t[name]))
	}
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// constantsOf are the constants of a package as value and type.
func constantsOf(pkg *gocheck.Package) map[string]string {
	values := map[string]string{}
	if pkg == nil || pkg.Types == nil {
		return values
	}
	scope := pkg.Types.Scope()
	for _, name := range scope.Names() {
		if c, ok := scope.Lookup(name).(*types.Const); ok && c.Type() != types.Typ[types.Invalid] {
			values[name] = c.Val().ExactString() + " " + types.TypeString(c.Type(), types.RelativeTo(pkg.Types))
		}
	}
	return values
}

// route is a pattern registered with a call.
type route struct {
	pattern, file, decl string
	line                int
}

// routes refuses patterns that clash and did not before.
func (g *merger) routes(w *work, before map[string]string, folder string) {
	old := g.routesOf(before, folder)
	for group, list := range g.routesOf(w.m, folder) {
		if !clash(list...) {
			continue
		}
		left := map[string]int{}
		for _, r := range old[group] {
			left[r.pattern]++
		}
		for i, r := range list {
			if left[r.pattern]--; left[r.pattern] >= 0 {
				continue // it was there before
			}
			for k, other := range list {
				if k != i && clash(other, r) {
					g.refuseRoute(w, before, r, other)
				}
			}
		}
	}
}

func (g *merger) refuseRoute(w *work, before map[string]string, r, other route) {
	g.file, g.decl, g.line = r.file, r.decl, r.line
	if before[r.file] != w.m[r.file] {
		g.line = lineBefore(before[r.file], r.decl, r.line)
	}
	g.refuse("route-clash", "the pattern %q clashes with %q in %s", r.pattern, other.pattern, other.file)
}

// registered are the patterns of a text, by what they are registered with.
type registered struct {
	text   string
	routes map[string][]route
}

// routesOf finds the patterns of a folder, by what they are registered with: a
// package, or a variable of one function.
func (g *merger) routesOf(texts map[string]string, folder string) map[string][]route {
	routes := map[string][]route{}
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		if path.Dir(name) != folder || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			continue
		}
		found := g.patterns[name]
		if found.routes == nil || found.text != texts[name] {
			found = registered{texts[name], routesIn(name, texts[name])}
			g.patterns[name] = found
		}
		for with, list := range found.routes {
			routes[with] = append(routes[with], list...)
		}
	}
	return routes
}

func routesIn(name, text string) map[string][]route {
	routes := map[string][]route{}
	if !strings.Contains(text, "On(") && !strings.Contains(text, "Handle") {
		return routes
	}
	s, err := parseGo(name, text)
	if err != nil {
		return routes
	}
	packages := map[string]bool{}
	for _, i := range importsOf(s) {
		packages[i.locals()[0]] = true
	}
	for _, d := range s.file.Decls {
		decl := ""
		if f, ok := d.(*ast.FuncDecl); ok {
			decl = (&goFile{goSource: s}).funcKey(f)
		}
		ast.Inspect(d, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) < 2 {
				return true
			}
			pattern, with := patternOf(call), registrar(call)
			if pattern == "" || with == "" {
				return true
			}
			if !packages[with] {
				with += " in " + decl
			}
			from, _ := s.span(call)
			routes[with] = append(routes[with], route{pattern, name, decl, s.lineAt(from)})
			return true
		})
	}
	return routes
}

// patternOf is the first argument of a call if it is a pattern as
// http.ServeMux takes it.
func patternOf(call *ast.CallExpr) string {
	lit, ok := call.Args[0].(*ast.BasicLit)
	if !ok || lit.Kind != token.STRING {
		return ""
	}
	pattern, err := strconv.Unquote(lit.Value)
	if err != nil {
		return ""
	}
	rest := pattern
	if method, after, ok := strings.Cut(pattern, " "); ok {
		if method == "" || strings.ToUpper(method) != method {
			return ""
		}
		rest = strings.TrimLeft(after, " ")
	}
	if !strings.HasPrefix(rest, "/") || strings.ContainsAny(rest, " \t\n") {
		return ""
	}
	return pattern
}

// registrar is what a method that registers a handler is called on.
func registrar(call *ast.CallExpr) string {
	sel, ok := call.Fun.(*ast.SelectorExpr)
	if !ok {
		return ""
	}
	switch sel.Sel.Name {
	case "On", "Handle", "HandleFunc":
		if x, ok := sel.X.(*ast.Ident); ok {
			return x.Name
		}
	}
	return ""
}

// clash asks a ServeMux, which panics.
func clash(routes ...route) (clashes bool) {
	mux := http.NewServeMux()
	defer func() { clashes = recover() != nil }()
	for _, r := range routes {
		mux.Handle(r.pattern, http.NotFoundHandler())
	}
	return false
}
