package merge

import (
	"bytes"
	"context"
	"go/parser"
	"go/token"
	"maps"
	"path"
	"slices"
	"strings"
)

// Trees merges folders: base and theirs hold what was and is rendered, mine the
// folder as the developer has it, with files of their own.
func Trees(ctx context.Context, base, mine, theirs Tree, o *Options) *Result {
	g := &merger{options: o, known: map[string]*goFile{}, patterns: map[string]registered{}}
	w := newWork(base, mine, theirs)
	before := maps.Clone(w.m)
	g.hints(w)
	if len(g.conflicts) == 0 && g.anythingThere(w) {
		g.replay(ctx, w)
	}
	if len(g.conflicts) > 0 {
		return g.finish(w, mine) // more would only be said of what is not brought together
	}
	g.goFolders(w)
	for _, name := range w.names() {
		if !strings.HasSuffix(name, ".go") {
			g.other(w, name)
		}
	}
	if len(g.conflicts) == 0 {
		g.gate(ctx, w, before)
	}
	return g.finish(w, mine)
}

// Files merges one file; name tells its language.
//
// The record of a file is merged as the file is.
func Files(ctx context.Context, name string, base, mine, theirs []byte, o *Options) *Result {
	if plain, record := strings.CutSuffix(name, ".base"); record {
		result := Files(ctx, plain, base, mine, theirs, o)
		if text, changed := result.Changed[plain]; changed {
			result.Changed = Tree{name: text}
		}
		return result
	}
	one := func(text []byte) Tree {
		if text == nil {
			return Tree{}
		}
		return Tree{name: text}
	}
	single := *o
	single.alone = true
	return Trees(ctx, one(base), one(mine), one(theirs), &single)
}

// InTree merges one Go file at a path of a tree, whose other files are taken as they
// are: what comes out builds with them, or is refused. Places in options and result
// name the file without its folder.
func InTree(ctx context.Context, at string, base, mine, theirs []byte, around map[string]string, o *Options) *Result {
	tree := Tree{}
	for name, text := range around {
		tree[name] = []byte(text)
	}
	tree[at] = mine
	folder, name := path.Split(at)
	inside := *o
	inside.Outputs = []string{"-"}
	inside.Choices, inside.BringBack = nil, nil
	for _, c := range o.Choices {
		inside.Choices = append(inside.Choices, Choice{Place: folder + c.Place, Side: c.Side})
	}
	result := Trees(ctx, Tree{at: base}, tree, Tree{at: theirs}, &inside)
	for i := range result.Conflicts {
		result.Conflicts[i].File = strings.TrimPrefix(result.Conflicts[i].File, folder)
	}
	for i := range result.Notices {
		result.Notices[i].File = strings.TrimPrefix(result.Notices[i].File, folder)
	}
	if text, changed := result.Changed[at]; changed {
		result.Changed = Tree{name: text}
	}
	return result
}

// layout is what of a file's bytes the merge does not look at.
type layout struct{ bom, crlf bool }

const bom = "\ufeff"

// plain takes the layout off a text.
func plain(text []byte) (string, layout) {
	s := string(text)
	var l layout
	s, l.bom = strings.CutPrefix(s, bom)
	if crlf := strings.Count(s, "\r\n"); crlf > 0 {
		l.crlf = 2*crlf > strings.Count(s, "\n")
		s = strings.ReplaceAll(s, "\r\n", "\n")
	}
	return s, l
}

func (l layout) restored(s string) []byte {
	if l.crlf {
		s = strings.ReplaceAll(s, "\n", "\r\n")
	}
	if l.bom {
		s = bom + s
	}
	return []byte(s)
}

// work is the three trees as plain texts, and what becomes of mine.
type work struct {
	b, m, t map[string]string
	layouts map[string]layout
	moved   map[string]string // old path by new one, as hinted
}

func newWork(base, mine, theirs Tree) *work {
	w := &work{layouts: map[string]layout{}, moved: map[string]string{}}
	texts := func(tree Tree, like map[string]string, keep bool) map[string]string {
		plainTexts := make(map[string]string, len(tree))
		for name, text := range tree {
			if same, there := like[name]; there && same == string(text) { // most files are the same in all three
				plainTexts[name] = same
				continue
			}
			s, l := plain(text)
			plainTexts[name] = s
			if keep {
				w.layouts[name] = l
			}
		}
		return plainTexts
	}
	w.b = texts(base, nil, false)
	w.m, w.t = texts(mine, w.b, true), texts(theirs, w.b, false)
	return w
}

// names are the files that were or are rendered.
func (w *work) names() []string {
	names := slices.Collect(maps.Keys(w.b))
	for name := range w.t {
		if _, ok := w.b[name]; !ok {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// set changes a file of mine; nil removes it.
func (w *work) set(name string, text *string) {
	if text == nil {
		delete(w.m, name)
		return
	}
	w.m[name] = *text
}

// finish compares what mine became with what it was.
func (g *merger) finish(w *work, mine Tree) *Result {
	r := &Result{Changed: Tree{}, Conflicts: g.conflicts, Notices: g.notices}
	for name := range mine {
		if _, there := w.m[name]; !there {
			r.Changed[name] = nil
		}
	}
	for name, text := range w.m {
		was, there := mine[name]
		if there && string(was) == text {
			continue
		}
		now := w.layouts[name].restored(text)
		if !there || !bytes.Equal(was, now) {
			if s, _ := plain(was); there && s == text {
				continue
			}
			r.Changed[name] = now
		}
	}
	order := func(fileA, fileB string, lineA, lineB int) int {
		if c := strings.Compare(fileA, fileB); c != 0 {
			return c
		}
		return lineA - lineB
	}
	slices.SortStableFunc(r.Conflicts, func(a, b Conflict) int { return order(a.File, b.File, a.Line, b.Line) })
	slices.SortStableFunc(r.Notices, func(a, b Notice) int { return order(a.File, b.File, a.Line, b.Line) })
	return r
}

// hints replays the renames of files that are known.
func (g *merger) hints(w *work) {
	for _, old := range slices.Sorted(maps.Keys(g.options.Renames.Files)) {
		now := g.options.Renames.Files[old]
		if _, ours := w.b[old]; !ours || old == now {
			continue
		}
		if _, taken := w.m[now]; taken {
			if _, there := w.m[old]; there {
				g.file, g.decl, g.line = now, "", 1
				g.refuse("not-ours", "%s is renamed to this file, which is there already; move it away and run again", old)
			}
			continue
		}
		w.b[now] = w.b[old]
		delete(w.b, old)
		if text, there := w.m[old]; there {
			w.m[now], w.layouts[now] = text, w.layouts[old]
			delete(w.m, old)
			w.moved[now] = old
		}
	}
}

// anythingThere refuses to take an output that is missing as a whole for one
// that the developer deleted file by file.
func (g *merger) anythingThere(w *work) bool {
	outputs := g.options.Outputs
	if len(outputs) == 0 {
		outputs = []string{"."}
	}
	ok := true
	for _, folder := range outputs {
		missing, there := 0, 0
		for name := range w.b {
			if folder != "." && !strings.HasPrefix(name, folder+"/") || g.options.broughtBack(name) {
				continue
			}
			if _, has := w.m[name]; has {
				there++
			} else {
				missing++
			}
		}
		if there > 0 || missing == 0 || w.elsewhere(folder) {
			continue
		}
		g.file, g.decl, g.line = folder, "", 0
		before := len(g.conflicts)
		g.refuse("all-missing", "none of the %d files written here is left: if this is a fresh checkout or the wrong folder, make them again with --bring-back %s; if you removed them, --keep mine %s leaves them out", missing, folder, folder)
		ok = ok && len(g.conflicts) == before
	}
	return ok
}

// elsewhere reports whether declarations that were rendered below a folder are
// in files of other names there.
func (w *work) elsewhere(folder string) bool {
	b, m := folderKeys(w.b), folderKeys(w.m)
	for at, keys := range b {
		if folder != "." && at != folder && !strings.HasPrefix(at, folder+"/") {
			continue
		}
		for key := range keys {
			if m[at][key] {
				return true
			}
		}
	}
	return false
}

func (g *merger) goFolders(w *work) {
	folders := map[string]bool{}
	for _, name := range w.names() {
		if strings.HasSuffix(name, ".go") {
			folders[path.Dir(name)] = true
		}
	}
	for _, folder := range slices.Sorted(maps.Keys(folders)) {
		for _, beside := range []bool{false, true} {
			for name, text := range g.parsing(w.packageIn(w.b, folder, beside), w.packageIn(w.m, folder, beside), w.packageIn(w.t, folder, beside)) {
				w.set(name, text)
			}
		}
	}
}

// packageIn are the texts of a folder's package, or of the tests beside it, which are
// a package of their own.
func (w *work) packageIn(texts map[string]string, folder string, beside bool) map[string]string {
	list := map[string]string{}
	for name, text := range texts {
		if path.Dir(name) == folder && strings.HasSuffix(name, ".go") && w.beside(name) == beside {
			list[name] = text
		}
	}
	return list
}

// beside reports whether a file is of the tests beside a package, in any version.
func (w *work) beside(name string) bool {
	if !strings.HasSuffix(name, "_test.go") {
		return false
	}
	for _, texts := range []map[string]string{w.m, w.t, w.b} {
		if text, there := texts[name]; there {
			if file, err := parser.ParseFile(token.NewFileSet(), name, text, parser.PackageClauseOnly); err == nil {
				return strings.HasSuffix(file.Name.Name, "_test")
			}
		}
	}
	return false
}

// parsing merges a folder, and refuses what then does not parse. Files that are laid
// out as gofmt never does are laid out anew first, if that helps.
func (g *merger) parsing(b, m, t map[string]string) map[string]*string {
	conflicts, notices := g.conflicts, g.notices
	result := g.goPackage(maps.Clone(b), maps.Clone(m), maps.Clone(t))
	wrong := notParsing(result, m)
	if len(wrong) == 0 {
		return result
	}
	g.conflicts, g.notices = conflicts, notices
	laidOut := maps.Clone(m)
	for name := range wrong {
		laidOut[name] = formatted(m[name])
	}
	result = g.goPackage(maps.Clone(b), maps.Clone(laidOut), maps.Clone(t))
	wrong = notParsing(result, laidOut)
	for _, name := range slices.Sorted(maps.Keys(wrong)) {
		g.file, g.decl, g.path, g.line = name, "", nil, 1
		g.refuse("unreadable", "brought together with the new rendering the file would not parse (%v); lay it out with gofmt, or write it more simply, and run again", wrong[name])
		delete(result, name)
	}
	return result
}

// notParsing are the errors of texts that do not parse, unless those of mine they
// come from do not either.
func notParsing(texts map[string]*string, m map[string]string) map[string]error {
	wrong := map[string]error{}
	for name, text := range texts {
		if text == nil {
			continue
		}
		if _, err := parseGo(name, *text); err != nil && *text != m[name] {
			wrong[name] = err
		}
	}
	return wrong
}

// other merges a file that is not Go.
func (g *merger) other(w *work, name string) {
	b, inB := w.b[name]
	m, inM := w.m[name]
	t, inT := w.t[name]
	inB = inB && b != ""
	g.file, g.decl, g.line = name, "", 1
	switch {
	case inB && !inM && inT && g.options.broughtBack(name):
		w.set(name, &t)
	case inB && inT && b == t:
	case !inB && !inM && inT:
		w.set(name, &t)
	case !inB && inM && inT:
		if m != t && g.refuse("not-ours", "%s", g.thereAlready()) == New {
			w.set(name, &t)
		}
	case inB && !inM && inT:
		g.line = 0
		g.notice("the file stays deleted; --bring-back %s makes it again", name)
	case inB && inM && !inT:
		if m == b || g.refuse("changed-dropped", "you changed the file, and the new rendering has it no more; remove it, or keep it as your own with --keep mine") == New {
			w.set(name, nil)
		}
	case inB && inM:
		if m == b {
			w.set(name, &t)
			return
		}
		if line := conflictMarkers(m); line > 0 {
			g.line = line
			g.refuse("markers", "there are conflict markers in the file; settle them and run again")
			return
		}
		merged := g.text(name, b, m, t)
		w.set(name, &merged)
	}
}
