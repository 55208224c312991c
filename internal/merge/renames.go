package merge

import (
	"context"
	"go/ast"
	"go/types"
	"maps"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"widegate/internal/gocheck"
)

// rename gives a symbol of a folder's package another name.
type rename struct {
	folder   string
	old, new string // Type, Type.Field, Type.Method or Func; new is only the name
	moves    bool   // something else has the old name in theirs
}

// replay renames in base and mine what theirs is known to name otherwise, and
// in base and theirs what the developer named otherwise.
func (g *merger) replay(ctx context.Context, w *work) {
	if hinted := g.hinted(w); len(hinted) > 0 {
		w.b = renamed(ctx, g.options, w.b, hinted, nil)
		generated := map[string]bool{}
		for name := range w.m {
			generated[name] = g.options.Renames.Uses || g.holdsGenerated(w, name)
		}
		g.leftBehind(ctx, w, hinted, generated)
		w.m = renamed(ctx, g.options, w.m, hinted, func(name string) bool { return generated[name] })
	}
	for range 4 { // a method can be known only when its type is
		own := g.own(w)
		if len(own) == 0 {
			return
		}
		w.b = renamed(ctx, g.options, w.b, own, nil)
		w.t = renamed(ctx, g.options, w.t, own, nil)
	}
}

// leftBehind refuses uses, in files that are not rewritten, of names that something
// else has in theirs: they would build, and mean that.
func (g *merger) leftBehind(ctx context.Context, w *work, hinted []rename, rewritten map[string]bool) {
	moving := slices.DeleteFunc(slices.Clone(hinted), func(r rename) bool { return !r.moves })
	if len(moving) == 0 {
		return
	}
	o := *g.options
	o.Renames.Uses = true // to be sure of what the files mean
	for _, r := range moving {
		edits := usesOf(ctx, &o, w.m, []rename{r}, func(name string) bool { return !rewritten[name] })
		for _, name := range slices.Sorted(maps.Keys(edits)) {
			lines := newSource(name, w.m[name])
			for e := range edits[name] {
				g.file, g.line = name, lines.lineAt(e.from)
				g.decl = declarationAt(w.m[name], g.line)
				g.refuse("breaks", "%s is another thing in the new rendering, and what this means is called %s", r.old, r.new)
			}
		}
	}
}

// hinted are the known renames, each in the folders that it fits.
func (g *merger) hinted(w *work) []rename {
	var list []rename
	if len(g.options.Renames.Symbols) == 0 {
		return nil
	}
	concerned := map[string]bool{}
	for old, now := range g.options.Renames.Symbols {
		concerned[lastName(old)], concerned[lastName(now)] = true, true
	}
	b, m, t := declaring(w.b, concerned), declaring(w.m, concerned), declaring(w.t, concerned)
	for _, old := range slices.Sorted(maps.Keys(g.options.Renames.Symbols)) {
		now := g.options.Renames.Symbols[old]
		now = now[strings.LastIndexByte(now, '.')+1:]
		for _, folder := range slices.Sorted(maps.Keys(b)) {
			if !b[folder][old] {
				continue
			}
			target := now
			if owner, _, member := strings.Cut(old, "."); member {
				target = owner + "." + now
			}
			if m[folder][target] && !b[folder][target] && m[folder][old] && t[folder][target] {
				g.file, g.line = declaredIn(w.m, folder, target)
				g.decl = target
				g.refuse("not-ours", "the new rendering names %s so, and you declare a %s of your own; rename yours and run again", old, target)
				continue
			}
			list = append(list, rename{folder, old, now, t[folder][old]})
		}
	}
	return list
}

// declaredIn is the file and line that a name of a folder is declared at.
func declaredIn(texts map[string]string, folder, key string) (file string, line int) {
	owner, _, _ := strings.Cut(key, ".")
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		if path.Dir(name) != folder || !strings.HasSuffix(name, ".go") {
			continue
		}
		if line := lineBefore(texts[name], owner, 0); line > 0 {
			return name, line
		}
	}
	return folder, 0
}

// Declared are the names that the Go files of each folder of a tree declare: Type,
// Func, Type.Method and Type.Field.
func Declared(tree Tree) map[string]map[string]bool {
	texts := map[string]string{}
	for name, text := range tree {
		texts[name] = string(text)
	}
	return folderKeys(texts)
}

// declaring is folderKeys of the files in which one of some words stands.
func declaring(texts map[string]string, any map[string]bool) map[string]map[string]bool {
	some := map[string]string{}
	for name, text := range texts {
		if strings.HasSuffix(name, ".go") && mentions(text, any) {
			some[name] = text
		}
	}
	return folderKeys(some)
}

// folderKeys are the names that the files of each folder declare, with the
// fields of structs.
func folderKeys(texts map[string]string) map[string]map[string]bool {
	keys := map[string]map[string]bool{}
	for name, text := range texts {
		if !strings.HasSuffix(name, ".go") {
			continue
		}
		f, err := cutGo(name, text)
		if err != nil {
			continue
		}
		folder := path.Dir(name)
		if keys[folder] == nil {
			keys[folder] = map[string]bool{}
		}
		for _, u := range f.units {
			keys[folder][u.key] = true
			for _, field := range fieldsOf(u.item) {
				keys[folder][u.key+"."+field.key] = true
			}
		}
	}
	return keys
}

// fieldsOf are the fields of a struct type.
func fieldsOf(it *item) []*item {
	if it.body == nil || it.body.name != "type" || len(it.body.parts) < 4 {
		return nil
	}
	kind := it.body.parts[3]
	if len(kind.parts) != 3 || kind.parts[1].name != "fields" || !strings.HasPrefix(kind.parts[0].sum, "struct") {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(kind.parts[1].items), (*item).comment)
}

// holdsGenerated reports whether a file of mine has declarations that were
// rendered, and so is renamed along.
func (g *merger) holdsGenerated(w *work, name string) bool {
	if _, ours := w.b[name]; ours {
		return true
	}
	f, err := cutGo(name, w.m[name])
	if err != nil || !strings.HasSuffix(name, ".go") {
		return false
	}
	folder := path.Dir(name)
	beside := map[string]string{}
	for other, text := range w.b {
		if path.Dir(other) == folder {
			beside[other] = text
		}
	}
	declared := map[string]bool{}
	for _, u := range f.units {
		declared[lastName(u.key)] = true
	}
	keys := declaring(beside, declared)[folder]
	return slices.ContainsFunc(f.units, func(u *unit) bool { return keys[u.key] })
}

// own finds what the developer renamed: what is missing in mine, where exactly
// one new declaration is it but for the name.
func (g *merger) own(w *work) []rename {
	var list []rename
	folders := map[string]bool{}
	for name, text := range w.b {
		if strings.HasSuffix(name, ".go") && w.m[name] != text {
			folders[path.Dir(name)] = true
		}
	}
	for _, folder := range slices.Sorted(maps.Keys(folders)) {
		if !g.namesMissing(w, folder) {
			continue
		}
		in := func(texts map[string]string) *goPackage { return g.cutPackage(w.packageIn(texts, folder, false)) }
		b, m, t := in(w.b), in(w.m), in(w.t)
		list = append(list, ownIn(folder, b, m, t)...)
	}
	return list
}

// namesMissing reports whether a file that the developer changed has lost a
// declaration or a field: without that nothing was renamed.
func (g *merger) namesMissing(w *work, folder string) bool {
	b, m := map[string]string{}, map[string]string{}
	for name, text := range w.b {
		if path.Dir(name) == folder && w.m[name] != text {
			b[name] = text
			if own, there := w.m[name]; there {
				m[name] = own
			}
		}
	}
	have := folderKeys(m)[folder]
	for key := range folderKeys(b)[folder] {
		if !have[key] {
			return true
		}
	}
	return false
}

func ownIn(folder string, b, m, t *goPackage) []rename {
	var fresh []*unit
	for _, path := range slices.Sorted(maps.Keys(m.files)) {
		for _, u := range m.files[path].units {
			if b.units[u.key] == nil && t.units[u.key] == nil && len(m.units[u.key]) == 1 {
				fresh = append(fresh, u)
			}
		}
	}
	var list []rename
	taken := map[string]bool{}
	for _, key := range slices.Sorted(maps.Keys(b.units)) {
		of := b.units[key][0]
		if strings.HasPrefix(key, "_") || key == "init" {
			continue
		}
		if len(m.units[key]) > 0 {
			list = append(list, ownFields(folder, of, m.units[key][0], t.units[key])...)
			continue
		}
		var found []*unit
		for _, u := range fresh {
			if u.kind == of.kind && sameOwner(u.key, key) && isRenamed(of, u, b, m) {
				found = append(found, u)
			}
		}
		if len(found) == 1 && !taken[found[0].key] {
			taken[found[0].key] = true
			list = append(list, rename{folder: folder, old: key, new: lastName(found[0].key)})
		}
	}
	return list
}

func lastName(key string) string { return key[strings.LastIndexByte(key, '.')+1:] }

func sameOwner(a, b string) bool {
	ownerA, _, methodA := strings.Cut(a, ".")
	ownerB, _, methodB := strings.Cut(b, ".")
	return methodA == methodB && (!methodA || ownerA == ownerB)
}

// isRenamed reports whether a new declaration of mine is one of base but for
// the name, or a type with half of its fields that a generated function uses in
// its place.
func isRenamed(of, u *unit, b, m *goPackage) bool {
	old, now := lastName(of.key), lastName(u.key)
	if replaceToken(of.item.bodySum(), old, now) == u.item.bodySum() {
		return of.kind == "func" || of.kind == "type" || strings.Contains(of.item.bodySum(), "="+tokenBreak)
	}
	if of.kind != "type" {
		return false
	}
	fa, okA := structFields(of.item)
	fb, okB := structFields(u.item)
	if !okA || !okB || 2*shared(fa, fb) < len(fa) {
		return false
	}
	for key, units := range b.units {
		if units[0].kind != "func" || !strings.Contains(units[0].item.bodySum(), old+tokenBreak) {
			continue
		}
		if owner, method, ok := strings.Cut(key, "."); ok && owner == old {
			key = now + "." + method
		}
		for _, own := range m.units[key] {
			if replaceToken(units[0].item.bodySum(), old, now) == own.item.bodySum() || replaceToken(signature(units[0]), old, now) == signature(own) {
				return true
			}
		}
	}
	return false
}

// signature is a function without its body.
func signature(u *unit) string {
	var b strings.Builder
	for _, part := range u.item.body.parts {
		if part.name != "body" {
			b.WriteString(part.sum)
		}
	}
	return b.String()
}

func shared(a, b []string) int {
	n := 0
	for _, s := range a {
		if slices.Contains(b, s) {
			n++
		}
	}
	return n
}

func replaceToken(sum, old, now string) string {
	tokens := strings.Split(sum, tokenBreak)
	for i, tok := range tokens {
		if tok == old {
			tokens[i] = now
		}
	}
	return strings.Join(tokens, tokenBreak)
}

// ownFields finds the fields that the developer renamed: one is missing, and
// exactly one new one has its type and its tag.
func ownFields(folder string, b, m *unit, t []*unit) []rename {
	inB, inM := byKey(fieldsOf(b.item)), byKey(fieldsOf(m.item))
	inT := map[string]*item{}
	if len(t) > 0 {
		inT = byKey(fieldsOf(t[0].item))
	}
	var list []rename
	for _, field := range fieldsOf(b.item) {
		if inM[field.key] != nil || inT[field.key] == nil || len(field.body.parts) < 3 || field.body.parts[2].text == "" {
			continue
		}
		var found []string
		for key, own := range inM {
			if inB[key] == nil && inT[key] == nil && len(own.body.parts) == 3 && own.body.parts[1].sum == field.body.parts[1].sum && own.body.parts[2].sum == field.body.parts[2].sum {
				found = append(found, key)
			}
		}
		if len(found) == 1 {
			list = append(list, rename{folder: folder, old: b.key + "." + field.key, new: found[0]})
		}
	}
	return list
}

// renamed replays renames in texts, by the uses that the type checker finds, under
// every set of build tags and systems that files name; only in files that it is told
// to change, or in all for nil.
func renamed(ctx context.Context, o *Options, texts map[string]string, renames []rename, only func(name string) bool) map[string]string {
	result := maps.Clone(texts)
	for name, list := range usesOf(ctx, o, texts, renames, only) {
		result[name] = edited(texts[name], slices.Collect(maps.Keys(list)))
	}
	return result
}

// usesOf are the edits that renames ask for, by file.
func usesOf(ctx context.Context, o *Options, texts map[string]string, renames []rename, only func(name string) bool) map[string]map[textEdit]bool {
	root := ""
	if o.Renames.Uses {
		root = o.Root // code of the developer's own has more imports
	}
	edits := map[string]map[textEdit]bool{}
	old := map[string]bool{}
	for _, r := range renames {
		old[lastName(r.old)] = true
	}
	first := gocheck.New(o.Module, root)
	for _, checker := range append([]*gocheck.Checker{first}, first.Variants(texts)...) {
		checker.Bodies = func(name string) bool { return mentions(texts[name], old) } // there is no use in others
		findUses(checker.Check(ctx, texts, nil), texts, renames, only, edits)
	}
	return edits
}

// textEdit puts another text in the place of a stretch.
type textEdit struct {
	from, to int
	text     string
}

// findUses adds the edits that renames ask for in the files of a program.
func findUses(program *gocheck.Program, texts map[string]string, renames []rename, only func(name string) bool, edits map[string]map[textEdit]bool) {
	names := map[types.Object]string{}
	for _, r := range renames {
		if pkg := program.Packages[r.folder]; pkg != nil {
			for _, checked := range pkg.All() {
				if obj := lookup(checked, r.old); obj != nil {
					names[obj] = r.new
				}
			}
		}
	}
	for _, pkg := range program.Packages {
		for _, info := range pkg.Infos() {
			addEmbedded(info, names)
		}
	}
	for _, pkg := range program.Packages {
		for name, file := range pkg.Files {
			if only != nil && !only(name) {
				continue
			}
			for _, info := range pkg.Infos() {
				for _, e := range uses(program, info, file, texts[name], names) {
					if edits[name] == nil {
						edits[name] = map[textEdit]bool{}
					}
					edits[name][e] = true
				}
			}
		}
	}
}

// lookup finds Type, Type.Member or Func in a package.
func lookup(pkg *types.Package, key string) types.Object {
	owner, member, ok := strings.Cut(key, ".")
	obj := pkg.Scope().Lookup(owner)
	if !ok || obj == nil {
		return obj
	}
	found, _, _ := types.LookupFieldOrMethod(types.NewPointer(obj.Type()), true, pkg, member)
	if found == nil {
		found, _, _ = types.LookupFieldOrMethod(obj.Type(), true, pkg, member)
	}
	return found
}

// addEmbedded adds the fields that are named by a renamed type.
func addEmbedded(info *types.Info, names map[types.Object]string) {
	for ident, obj := range info.Defs {
		field, ok := obj.(*types.Var)
		if !ok || !field.Embedded() {
			continue
		}
		if now, ok := names[info.Uses[ident]]; ok {
			names[obj] = now
		}
	}
}

// origin is the object that an instance of a generic one stands for.
func origin(obj types.Object) types.Object {
	switch obj := obj.(type) {
	case *types.Var:
		return obj.Origin()
	case *types.Func:
		return obj.Origin()
	}
	return obj
}

// uses are the edits of a file: each use of what is renamed, and the first word of
// its doc comment.
func uses(program *gocheck.Program, info *types.Info, file *ast.File, text string, names map[types.Object]string) []textEdit {
	var edits []textEdit
	offset := func(n ast.Node) int { return program.Fset.Position(n.Pos()).Offset }
	ast.Inspect(file, func(n ast.Node) bool {
		if ident, ok := n.(*ast.Ident); ok {
			for _, obj := range []types.Object{info.Uses[ident], info.Defs[ident]} {
				if now, ok := names[origin(obj)]; ok && obj != nil {
					edits = append(edits, textEdit{offset(ident), offset(ident) + len(ident.Name), now})
					break
				}
			}
		}
		for doc, ident := range documented(n) {
			now, ok := names[info.Defs[ident]]
			if !ok || doc == nil {
				continue
			}
			at := offset(doc)
			if rest, ok := strings.CutPrefix(text[at:], "// "+ident.Name); ok && !strings.HasPrefix(rest, "'") && wordEnds(rest) {
				edits = append(edits, textEdit{at + 3, at + 3 + len(ident.Name), now})
			}
		}
		return true
	})
	return edits
}

// wordEnds reports whether no word goes on here.
func wordEnds(rest string) bool {
	r, _ := utf8.DecodeRuneInString(rest)
	return rest == "" || !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '_'
}

// documented are the doc comments of what a node declares.
func documented(n ast.Node) map[*ast.CommentGroup]*ast.Ident {
	switch n := n.(type) {
	case *ast.FuncDecl:
		return map[*ast.CommentGroup]*ast.Ident{n.Doc: n.Name}
	case *ast.GenDecl:
		docs := map[*ast.CommentGroup]*ast.Ident{}
		for _, spec := range n.Specs {
			var doc *ast.CommentGroup
			var name *ast.Ident
			switch spec := spec.(type) {
			case *ast.TypeSpec:
				doc, name = spec.Doc, spec.Name
			case *ast.ValueSpec:
				doc, name = spec.Doc, spec.Names[0]
			default:
				continue
			}
			if doc == nil && len(n.Specs) == 1 {
				doc = n.Doc
			}
			docs[doc] = name
		}
		return docs
	case *ast.Field:
		if len(n.Names) > 0 {
			return map[*ast.CommentGroup]*ast.Ident{n.Doc: n.Names[0]}
		}
	}
	return nil
}

// edited is a text with edits carried out; of two that overlap the later one is.
func edited(text string, edits []textEdit) string {
	slices.SortFunc(edits, func(a, b textEdit) int { return b.from - a.from })
	last := len(text) + 1
	for _, e := range edits {
		if e.to <= last {
			text = text[:e.from] + e.text + text[e.to:]
			last = e.from
		}
	}
	return text
}
