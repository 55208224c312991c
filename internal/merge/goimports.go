package merge

import (
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// imported is an import of a file.
type imported struct {
	path  string
	name  string // given, or ""
	text  string // name and path as they stand there
	group int    // imports between blank lines are of one group
}

func (i imported) blank() bool { return i.name == "_" || i.name == "." }

var versionPart = regexp.MustCompile(`^v[0-9]+$`)

// locals are the names that code may know the package by. A path does not
// always tell; where the name is given there is one.
func (i imported) locals() []string {
	if i.name != "" {
		return []string{i.name}
	}
	parts := strings.Split(i.path, "/")
	last := parts[len(parts)-1]
	if versionPart.MatchString(last) && len(parts) > 1 {
		last = parts[len(parts)-2]
	}
	last, _, _ = strings.Cut(last, ".")
	return []string{last, strings.TrimPrefix(last, "go-"), strings.TrimSuffix(last, "-go"), strings.ReplaceAll(last, "-", ""), strings.ReplaceAll(last, "-", "_")}
}

func (i imported) usedIn(used map[string]bool) bool {
	return slices.ContainsFunc(i.locals(), func(name string) bool { return used[name] })
}

func importsOf(s *goSource) []imported {
	var list []imported
	group, line := 0, 0
	for _, spec := range s.file.Imports {
		path, err := strconv.Unquote(spec.Path.Value)
		if err != nil {
			continue
		}
		from, to := s.span(spec)
		if at := s.lineAt(from); at > line+1 {
			group++
		}
		line = s.lineAt(to)
		i := imported{path: path, text: s.text[s.offset(specStart(spec)):s.offset(spec.Path.End())], group: group}
		if spec.Name != nil {
			i.name = spec.Name.Name
		}
		list = append(list, i)
	}
	return list
}

func specStart(spec *ast.ImportSpec) token.Pos {
	if spec.Name != nil {
		return spec.Name.Pos()
	}
	return spec.Path.Pos()
}

// usedNames are the names that a file uses and does not declare: those of
// packages, and those of the package's other files.
func usedNames(text string) map[string]bool {
	used := map[string]bool{}
	file, err := parser.ParseFile(token.NewFileSet(), "", text, 0)
	if err != nil {
		return nil
	}
	for _, name := range file.Unresolved { // the resolution within a file is just what is asked for
		used[name.Name] = true
	}
	return used
}

// imports gives the merged text of a file of mine the imports that it uses.
func (p *goMerge) imports(m *goFile, text string) string {
	usedNow, usedBefore := usedNames(text), usedNames(m.text)
	if usedNow == nil {
		return text // the gate says so
	}
	mine := importsOf(m.goSource)
	inB := p.importsNear(p.b, m.path)
	inT := p.importsNear(p.t, m.path)
	drop, add := map[string]bool{}, []imported{}
	for _, i := range mine {
		switch {
		case i.blank():
			drop[i.text] = has(p.importsAt(p.b, m.path), i) && p.t.files[m.path] != nil && !has(p.importsAt(p.t, m.path), i)
		case i.path == "C":
		case !i.usedIn(usedNow):
			drop[i.text] = i.usedIn(usedBefore) || has(inB, i) && !has(inT, i)
		}
	}
	for _, i := range inT {
		switch {
		case has(mine, i) || has(add, i):
		case i.blank():
			if has(p.importsAt(p.t, m.path), i) && !has(inB, i) {
				add = append(add, i)
			}
		case i.usedIn(usedNow):
			if rival, ok := rivalOf(i, mine, drop); ok {
				if p.rivalry(m, i, rival, inB, usedBefore) {
					drop[rival.text] = true
					add = append(add, i)
				}
				continue
			}
			if !slices.ContainsFunc(mine, func(own imported) bool { return own.path == i.path && !own.blank() && !drop[own.text] }) {
				add = append(add, i)
			}
		}
	}
	return withImports(text, drop, add, inT)
}

// rivalOf finds an import of mine that has the name of one of theirs.
func rivalOf(t imported, mine []imported, drop map[string]bool) (imported, bool) {
	for _, own := range mine {
		if !own.blank() && !drop[own.text] && own.path != t.path && own.locals()[0] == t.locals()[0] {
			return own, true
		}
	}
	return imported{}, false
}

// rivalry decides which of two packages has a name; true means theirs.
func (p *goMerge) rivalry(m *goFile, t, own imported, inB []imported, usedBefore map[string]bool) bool {
	switch {
	case has(inB, t): // the developer put another in its place
		return false
	case has(inB, own):
		return true
	case own.usedIn(usedBefore):
		p.decl = "import " + own.locals()[0]
		return p.refuse("import-clash", "%s is %s in your code and %s in the new rendering; import yours by another name", own.locals()[0], own.path, t.path) == New
	}
	return true
}

func has(list []imported, of imported) bool {
	return slices.ContainsFunc(list, func(i imported) bool { return i.path == of.path && i.name == of.name })
}

func (p *goMerge) importsAt(side *goPackage, path string) []imported {
	if f := side.files[path]; f != nil {
		return importsOf(f.goSource)
	}
	return nil
}

// importsNear are the imports of a file of a side, and then those of the
// package's other files, from which declarations may have been moved.
func (p *goMerge) importsNear(side *goPackage, path string) []imported {
	list := p.importsAt(side, path)
	for _, other := range slices.Sorted(maps.Keys(side.files)) {
		for _, i := range p.importsAt(side, other) {
			if !has(list, i) && !i.blank() && !slices.ContainsFunc(list, func(l imported) bool { return l.locals()[0] == i.locals()[0] }) {
				i.group = -1
				list = append(list, i)
			}
		}
	}
	return list
}

// withImports takes imports out of a text and puts others in, each beside its
// nearest neighbour of the order given.
func withImports(text string, drop map[string]bool, add, order []imported) string {
	if len(add) > 0 || slices.Contains(slices.Collect(maps.Values(drop)), true) {
		text = spreadImports(text)
	}
	for spec := range drop {
		if drop[spec] {
			text = withoutImport(text, spec)
		}
	}
	for _, i := range add {
		text = withImport(text, i, order)
	}
	return text
}

// spreadImports puts imports that stand on one line in parentheses on lines of
// their own.
func spreadImports(text string) string {
	s, err := parseGo("", text)
	if err != nil {
		return text
	}
	for _, d := range slices.Backward(s.file.Decls) {
		d, ok := d.(*ast.GenDecl)
		if !ok || d.Tok != token.IMPORT || !d.Lparen.IsValid() {
			continue
		}
		line, crowded := s.lineAt(s.offset(d.Lparen)), false
		for _, x := range d.Specs {
			from, to := s.span(x)
			crowded = crowded || s.lineAt(from) == line
			line = s.lineAt(to)
		}
		from, to := s.span(d)
		if crowded || s.lineAt(to-1) == line && len(d.Specs) > 0 {
			const head = "package p\n\n"
			text = text[:from] + strings.TrimSpace(strings.TrimPrefix(formatted(head+text[from:to]), head)) + text[to:]
		}
	}
	return text
}

// withoutImport removes an import with its comments.
func withoutImport(text, spec string) string {
	s, err := parseGo("", text)
	if err != nil {
		return text
	}
	for _, d := range s.file.Decls {
		d, ok := d.(*ast.GenDecl)
		if !ok || d.Tok != token.IMPORT {
			continue
		}
		for _, x := range d.Specs {
			x := x.(*ast.ImportSpec)
			if s.text[s.offset(specStart(x)):s.offset(x.Path.End())] != spec {
				continue
			}
			from, to := s.offset(specStart(x)), s.offset(x.Path.End())
			if x.Doc != nil {
				from = s.offset(x.Doc.Pos())
			}
			if x.Comment != nil {
				to = s.offset(x.Comment.End())
			}
			if len(d.Specs) == 1 {
				from, to = s.span(d)
				if d.Doc != nil {
					from = s.offset(d.Doc.Pos())
				}
				if x.Comment != nil {
					to = max(to, s.offset(x.Comment.End()))
				}
			}
			return cutLine(text, from, to)
		}
	}
	return text
}

// cutLine removes a stretch with the line that it leaves empty.
func cutLine(text string, from, to int) string {
	start := strings.LastIndexByte(text[:from], '\n') + 1
	if strings.TrimSpace(text[start:from]) == "" {
		from = start
		if to < len(text) && text[to] == ';' {
			to++
		}
		if to < len(text) && text[to] == '\n' {
			to++
		}
		if strings.HasSuffix(text[:from], "\n\n") && to < len(text) && (text[to] == '\n' || text[to] == ')') {
			if text[to] == '\n' {
				to++
			}
		}
	}
	return text[:from] + text[to:]
}

// withImport adds an import.
func withImport(text string, i imported, order []imported) string {
	s, err := parseGo("", text)
	if err != nil {
		return text
	}
	have := map[string]*ast.ImportSpec{}
	for _, x := range s.file.Imports {
		have[s.text[s.offset(specStart(x)):s.offset(x.Path.End())]] = x
	}
	at := slices.IndexFunc(order, func(o imported) bool { return o.text == i.text })
	grouped := groupedSpecs(s)
	for _, near := range []bool{true, false} {
		for _, step := range []int{-1, 1} {
			for k := at + step; k >= 0 && k < len(order); k += step {
				x := have[order[k].text]
				if x == nil || !grouped[x] || near && order[k].group != i.group {
					continue
				}
				start := strings.LastIndexByte(text[:s.offset(specStart(x))], '\n') + 1
				end := start + strings.IndexByte(text[start:]+"\n", '\n')
				switch {
				case step < 0 && near:
					return text[:end] + "\n\t" + i.text + text[end:]
				case step < 0:
					return text[:end] + "\n\n\t" + i.text + text[end:]
				case near:
					return text[:start] + "\t" + i.text + "\n" + text[start:]
				}
				return text[:start] + "\t" + i.text + "\n\n" + text[start:]
			}
		}
	}
	return withFirstImport(s, i)
}

func groupedSpecs(s *goSource) map[*ast.ImportSpec]bool {
	grouped := map[*ast.ImportSpec]bool{}
	for _, d := range s.file.Decls {
		if d, ok := d.(*ast.GenDecl); ok && d.Tok == token.IMPORT && d.Lparen.IsValid() {
			for _, x := range d.Specs {
				grouped[x.(*ast.ImportSpec)] = true
			}
		}
	}
	return grouped
}

// withFirstImport adds an import that has no neighbour: to the first group, or
// as a statement of its own.
func withFirstImport(s *goSource, i imported) string {
	for _, d := range s.file.Decls {
		d, ok := d.(*ast.GenDecl)
		if !ok || d.Tok != token.IMPORT {
			continue
		}
		if d.Lparen.IsValid() {
			at := s.offset(d.Lparen) + 1
			return s.text[:at] + "\n\t" + i.text + s.text[at:]
		}
		at := s.offset(d.End())
		end := at + strings.IndexByte(s.text[at:]+"\n", '\n')
		return s.text[:end] + "\nimport " + i.text + s.text[end:]
	}
	at := s.offset(s.file.Name.End())
	end := at + strings.IndexByte(s.text[at:]+"\n", '\n')
	return s.text[:end] + "\n\nimport " + i.text + s.text[end:]
}

func withoutUnusedImports(text string) string {
	s, err := parseGo("", text)
	used := usedNames(text)
	if err != nil || used == nil {
		return text
	}
	for _, i := range importsOf(s) {
		if !i.blank() && i.path != "C" && !i.usedIn(used) {
			text = withoutImport(text, i.text)
		}
	}
	return text
}

// followImportNames renames packages in base and theirs as the developer did.
func followImportNames(b, m, t map[string]string) (renamedB, renamedT map[string]string) {
	renamedB, renamedT = maps.Clone(b), maps.Clone(t)
	for path, text := range m {
		sb, errB := parseGo(path, b[path])
		sm, errM := parseGo(path, text)
		if errB != nil || errM != nil {
			continue
		}
		mine := importsOf(sm)
		for _, i := range importsOf(sb) {
			if i.blank() || has(mine, i) {
				continue
			}
			at := slices.IndexFunc(mine, func(own imported) bool { return own.path == i.path && !own.blank() })
			if at < 0 {
				continue
			}
			from, to := i.locals()[0], mine[at].locals()[0]
			renamedB[path] = withQualifier(renamedB[path], i, mine[at], from, to)
			renamedT[path] = withQualifier(renamedT[path], i, mine[at], from, to)
		}
	}
	return renamedB, renamedT
}

// withQualifier gives a package another local name in a file.
func withQualifier(text string, old, now imported, from, to string) string {
	file, err := parser.ParseFile(token.NewFileSet(), "", text, parser.ParseComments)
	if err != nil || len(text) == 0 {
		return text
	}
	type edit struct {
		at       int
		old, new string
	}
	var edits []edit
	offset := func(p token.Pos) int { return int(p - file.FileStart) }
	known := false
	for _, spec := range file.Imports {
		end := offset(spec.Path.End())
		if start := offset(specStart(spec)); text[start:end] == old.text {
			known = true
			edits = append(edits, edit{start, old.text, now.text})
		}
	}
	if !known {
		return text
	}
	if from != to {
		for _, name := range file.Unresolved {
			if name.Name == from {
				edits = append(edits, edit{offset(name.Pos()), from, to})
			}
		}
	}
	slices.SortFunc(edits, func(a, b edit) int { return b.at - a.at })
	for _, e := range edits {
		text = text[:e.at] + e.new + text[e.at+len(e.old):]
	}
	return text
}
