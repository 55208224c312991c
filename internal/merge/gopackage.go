package merge

import (
	"maps"
	"slices"
	"strings"
)

// goPackage is one version of the Go files of a folder.
type goPackage struct {
	texts  map[string]string
	files  map[string]*goFile
	units  map[string][]*unit // by key, in the order of files
	broken map[string]error   // files that do not parse
}

func (g *merger) cutPackage(texts map[string]string) *goPackage {
	p := &goPackage{texts: texts, files: map[string]*goFile{}, units: map[string][]*unit{}, broken: map[string]error{}}
	for _, path := range slices.Sorted(maps.Keys(texts)) {
		f, err := g.cut(path, texts[path])
		if err != nil {
			p.broken[path] = err
			continue
		}
		p.files[path] = f
		for _, u := range f.units {
			p.units[u.key] = append(p.units[u.key], u)
		}
	}
	return p
}

// cut is cutGo, done once for each text: most files are the same in all three
// versions.
func (g *merger) cut(path, text string) (*goFile, error) {
	key := path + tokenBreak + text
	if f := g.known[key]; f != nil {
		return f, nil
	}
	f, err := cutGo(path, text)
	if err == nil {
		g.known[key] = f
	}
	return f, err
}

// goMerge merges one package.
type goMerge struct {
	*merger
	b, m, t  *goPackage
	result   map[string]*string // new texts by path; nil removes
	edits    map[*item]*item    // of mine: what stands there instead, nil if nothing does
	inserts  map[string][]insertion
	gone     map[string]bool // files the developer deleted
	touched  map[string]bool // files of mine to write anew
	skipNew  map[*item]bool  // of theirs: not to stand in a new file
	newFiles []string
	groups   map[*item]string // the merged comments of groups of mine
}

// insertion is an item of theirs to put into a file of mine: behind an item, or
// before one, or at the end.
type insertion struct {
	item          *item
	behind, ahead *item
	group         *item // of mine, to insert into
}

// goPackage merges the Go files of a folder; the texts are by path.
func (g *merger) goPackage(b, m, t map[string]string) map[string]*string {
	p := &goMerge{merger: g, result: map[string]*string{}, edits: map[*item]*item{}, inserts: map[string][]insertion{},
		gone: map[string]bool{}, touched: map[string]bool{}, skipNew: map[*item]bool{}, groups: map[*item]string{}}
	changed := changedFiles(b, t)
	for _, path := range slices.Sorted(maps.Keys(t)) {
		if _, there := m[path]; !there && b[path] == t[path] && g.options.broughtBack(path) {
			changed = append(changed, path)
		}
	}
	if len(changed) == 0 {
		return p.result
	}
	if p.untouched(b, m, t, changed) {
		return p.result
	}
	if !p.admit(b, m, t, changed) {
		return p.result
	}
	b, t = followImportNames(b, m, t)
	p.b, p.m, p.t = g.cutPackage(b), g.cutPackage(m), g.cutPackage(t)
	if !p.readable() {
		return p.result
	}
	p.deletedFiles()
	p.duplicates()
	for _, key := range p.keys() {
		p.declaration(key)
	}
	for _, path := range slices.Sorted(maps.Keys(p.t.files)) {
		p.additions(p.t.files[path])
	}
	p.standing()
	p.groupComments()
	p.droppedFiles()
	p.compose()
	return p.result
}

func changedFiles(b, t map[string]string) []string {
	var list []string
	for path, text := range b {
		if other, ok := t[path]; !ok || other != text {
			list = append(list, path)
		}
	}
	for path := range t {
		if _, ok := b[path]; !ok {
			list = append(list, path)
		}
	}
	slices.Sort(list)
	return list
}

// untouched takes the new texts as they are where the developer has no text of
// his own in the folder.
func (p *goMerge) untouched(b, m, t map[string]string, changed []string) bool {
	if !maps.Equal(b, m) {
		return false
	}
	for _, path := range changed {
		p.result[path] = nil
		if text, ok := t[path]; ok {
			p.result[path] = &text
		}
	}
	return true
}

// admit looks at the files of mine that would change.
func (p *goMerge) admit(b, m, t map[string]string, changed []string) bool {
	before := len(p.conflicts)
	for _, path := range changed {
		text, there := m[path]
		if !there {
			continue
		}
		p.file, p.decl, p.line = path, "", 1
		if line := conflictMarkers(text); line > 0 {
			p.line = line
			p.refuse("markers", "there are conflict markers in the file; settle them and run again")
			continue
		}
		if _, ours := b[path]; ours && b[path] != "" {
			continue
		}
		if rendered, ok := t[path]; ok && text != rendered && !equalGo(text, rendered) {
			if p.refuse("not-ours", "%s", p.thereAlready()) == New {
				m[path] = rendered
				p.result[path] = &rendered
			}
		}
		b[path] = text // adopted, or kept: nothing in it changes
		t[path] = text
		if r := p.result[path]; r != nil {
			b[path], t[path] = *r, *r
		}
	}
	return len(p.conflicts) == before
}

// thereAlready says what is wrong with a file that has no base.
func (g *merger) thereAlready() string {
	if g.options.Branches {
		return "both branches added the file, and it is not the same"
	}
	return "the file is there already and was not written by widegate; move it away, or keep it or take the new one by --keep"
}

// Markers returns the line of the first marker of a merge that was not finished, or 0.
func Markers(text []byte) int { return conflictMarkers(string(text)) }

// conflictMarkers returns the line of the first marker of a merge that was not
// finished, or 0.
func conflictMarkers(text string) int {
	first := 0
	for i, line := range strings.Split(text, "\n") {
		switch {
		case first == 0 && strings.HasPrefix(line, "<<<<<<< "):
			first = i + 1
		case first > 0 && strings.HasPrefix(line, ">>>>>>> "):
			return first
		}
	}
	return 0
}

func equalGo(a, b string) bool {
	sa, errA := parseGo("a", a)
	sb, errB := parseGo("b", b)
	return errA == nil && errB == nil && sa.sum(0, len(a)) == sb.sum(0, len(b))
}

// readable refuses files of mine that would have to be read and cannot be.
func (p *goMerge) readable() bool {
	ok := true
	for _, path := range slices.Sorted(maps.Keys(p.m.broken)) {
		p.file, p.decl, p.line = path, "", errorLine(p.m.broken[path])
		before := len(p.conflicts)
		if p.b.texts[path] != p.t.texts[path] || p.mayHide() {
			p.refuse("unreadable", "the file does not parse: %v; mend it and run again", p.m.broken[path])
		}
		ok = ok && len(p.conflicts) == before
	}
	for _, side := range []*goPackage{p.b, p.t} {
		for path, err := range side.broken {
			p.file, p.decl, p.line = path, "", errorLine(err)
			if p.b.texts[path] != p.t.texts[path] {
				p.refuse("unreadable", "the recorded or the new text does not parse: %v", err)
				ok = false
			}
		}
	}
	return ok
}

// mayHide reports whether declarations that are missing may be in a file that
// cannot be read.
func (p *goMerge) mayHide() bool {
	for key, units := range p.b.units {
		if len(p.m.units[key]) == 0 && p.m.broken[units[0].file.path] == nil {
			return true
		}
	}
	return false
}

// keys are those of all declarations that are or were rendered.
func (p *goMerge) keys() []string {
	keys := slices.Collect(maps.Keys(p.b.units))
	for key := range p.t.units {
		if p.b.units[key] == nil {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	return keys
}

// deletedFiles finds the files that the developer took out with all that was
// in them.
func (p *goMerge) deletedFiles() {
	for _, path := range slices.Sorted(maps.Keys(p.b.files)) {
		if _, there := p.m.texts[path]; there || p.options.broughtBack(path) {
			continue
		}
		if p.t.files[path] == nil || slices.ContainsFunc(p.b.files[path].units, func(u *unit) bool { return len(p.m.units[u.key]) > 0 }) {
			continue
		}
		p.gone[path] = true
		if p.b.texts[path] != p.t.texts[path] {
			p.file, p.decl, p.line = path, "", 0
			p.notice("the file stays deleted, and what the new rendering adds to it is left out; --bring-back %s makes it again", path)
		}
	}
}

func (p *goMerge) duplicates() {
	for _, path := range slices.Sorted(maps.Keys(p.m.files)) {
		seen := map[string]bool{}
		for _, u := range p.m.files[path].units {
			if u.key == "init" || strings.HasPrefix(u.key, "_") {
				continue
			}
			if seen[u.key] && (p.b.units[u.key] != nil || p.t.units[u.key] != nil) {
				p.file, p.decl, p.line = path, u.key, u.item.line
				p.refuse("declared-twice", "the name is declared twice in the file; take one out and run again")
			}
			seen[u.key] = true
		}
	}
}

// declaration decides about one name of the package.
func (p *goMerge) declaration(key string) {
	b, m, t := p.b.units[key], p.m.units[key], p.t.units[key]
	p.decl, p.line = key, 0
	if key == "init" {
		p.inits(b, m, t)
		return
	}
	switch {
	case len(b) > 0 && len(m) == 0:
		p.missing(key, b, t)
	case len(b) > 0 && len(t) == 0:
		for _, own := range m {
			p.drop(b[0], own)
		}
	case len(b) > 0:
		for _, own := range m {
			p.merge(pick(b, own), own, pick(t, own))
		}
	case len(m) > 0:
		for _, own := range m {
			p.clash(own, pick(t, own))
		}
	}
}

// pick is the one of several declarations of a name that stands in the file
// that own stands in, or the first.
func pick(units []*unit, own *unit) *unit {
	for _, u := range units {
		if u.file.path == own.file.path {
			return u
		}
	}
	return units[0]
}

// missing is for a declaration that the developer took out.
func (p *goMerge) missing(key string, b, t []*unit) {
	if len(t) == 0 {
		return
	}
	for _, u := range t {
		if !p.options.broughtBack(u.file.path) {
			p.skipNew[u.item] = true
		}
	}
	if p.gone[b[0].file.path] || b[0].sum() == t[0].sum() {
		return
	}
	p.file = b[0].file.path
	if own := p.likelyRenamed(b[0]); own != nil {
		p.file, p.line = own.file.path, own.item.line
		p.refuse("maybe-renamed", "%s is gone, the new rendering changes it, and %s looks like it; if it was renamed, give the new one the change by hand and --keep mine %s, else --keep mine as well", key, own.key, place(b[0].file.path, key, ""))
		return
	}
	if p.yields("changed-dropped", "%s stays deleted, though the new rendering changes it", key) {
		for _, u := range t {
			delete(p.skipNew, u.item)
		}
	}
}

func (p *goMerge) drop(b, own *unit) {
	p.file, p.line = own.file.path, own.item.line
	if own.sum() != b.sum() {
		if p.refuse("changed-dropped", "you changed it, and the new rendering has it no more; take it out, or keep it as your own with --keep mine") != New {
			return
		}
	}
	p.remove(own)
}

func (p *goMerge) remove(u *unit) {
	p.edits[u.item] = nil
	p.touched[u.file.path] = true
}

// clash is for a name that both sides added.
func (p *goMerge) clash(own, t *unit) {
	for _, u := range p.t.units[own.key] {
		p.skipNew[u.item] = true
	}
	p.file, p.line = own.file.path, own.item.line
	if own.item.bodySum() == t.item.bodySum() {
		p.unite(own, t)
		return
	}
	if p.refuse("both-added", "you added %s, and the new rendering adds another; rename yours, or choose one with --keep", own.key) == New {
		p.edits[own.item] = own.item.retold(t.item.doc, t.item.body.text, t.item.trail, own.item.lead)
		p.touched[own.file.path] = true
	}
}

// unite brings the comments of one declaration that both sides added together.
func (p *goMerge) unite(own, t *unit) {
	i := own.item
	if !p.options.Branches || i.sum == t.item.sum {
		return
	}
	if both := i.retold(p.comments("", i.doc, t.item.doc), i.body.text, p.comments("", i.trail, t.item.trail), i.lead); both.text() != i.text() {
		p.edits[i] = both
		p.touched[own.file.path] = true
	}
}

// merge is for a declaration that all three have.
func (p *goMerge) merge(b, own, t *unit) {
	p.file, p.line = own.file.path, own.item.line
	moved := b.file.path != t.file.path && own.file.path == b.file.path
	if moved && own.sum() == b.sum() && !p.gone[t.file.path] {
		p.remove(own)
		return
	}
	for _, u := range p.t.units[own.key] {
		p.skipNew[u.item] = true
	}
	if b.item.text() == t.item.text() && b.kind == t.kind {
		return
	}
	merged := p.unit(b, own, t)
	if merged.text() != own.item.text() {
		p.edits[own.item] = merged
		p.touched[own.file.path] = true
	}
}

// unit merges part by part even what mine left alone, since the parts of one
// that stands in a group are not those of one that stands alone.
func (p *goMerge) unit(b, own, t *unit) *item {
	body, ok := p.inside(b.item.body, own.item.body, t.item.body)
	if !ok {
		switch {
		case own.item.bodySum() == b.item.bodySum() && (own.group == nil) == (t.group == nil):
			body = t.item.body.text
		case b.item.bodySum() == t.item.bodySum():
			body = own.item.body.text
		default:
			body = own.item.body.text
			if p.refuse("both-changed", "you changed it, and the new rendering makes it a %s", t.item.what) == New {
				body = t.item.body.text
			}
		}
	}
	i := own.item
	return i.retold(p.comments(b.item.doc, i.doc, t.item.doc), body, p.comments(b.item.trail, i.trail, t.item.trail), i.lead)
}

// inits matches the init functions: equal ones first, then alike ones in order.
func (p *goMerge) inits(b, m, t []*unit) {
	items := func(units []*unit) []*item {
		list := make([]*item, len(units))
		for i, u := range units {
			list[i] = u.item
		}
		return list
	}
	am, at := align(items(b), items(m)), align(items(b), items(t))
	for i := range b {
		switch {
		case am[i] < 0 && at[i] >= 0:
			p.skipNew[t[at[i]].item] = true
		case am[i] >= 0 && at[i] < 0:
			p.drop(b[i], m[am[i]])
		case am[i] >= 0:
			p.skipNew[t[at[i]].item] = true
			own := m[am[i]]
			p.file, p.line = own.file.path, own.item.line
			if merged := p.unit(b[i], own, t[at[i]]); merged.text() != own.item.text() {
				p.edits[own.item] = merged
				p.touched[own.file.path] = true
			}
		}
	}
	for _, u := range t {
		if slices.ContainsFunc(m, func(own *unit) bool { return own.item.bodySum() == u.item.bodySum() }) {
			p.skipNew[u.item] = true
		}
	}
}

// additions puts the new declarations of a file of theirs where they belong.
func (p *goMerge) additions(f *goFile) {
	if p.gone[f.path] {
		return
	}
	_, there := p.m.texts[f.path]
	for at, it := range f.list.items {
		switch {
		case it.comment() || it.kind == "import":
		case it.kind == "group":
			p.addGroup(f, at, it)
		case !p.skipNew[it]:
			p.add(f, at, it)
		}
	}
	if !there && p.home(f) == "" && p.hasNew(f) {
		p.newFiles = append(p.newFiles, f.path)
	}
}

func (p *goMerge) hasNew(f *goFile) bool {
	return p.b.files[f.path] == nil || p.options.broughtBack(f.path) || slices.ContainsFunc(f.units, func(u *unit) bool { return !p.skipNew[u.item] })
}

// add puts one item of theirs into a file of mine.
func (p *goMerge) add(f *goFile, at int, it *item) {
	path := p.target(f, at)
	if path == "" {
		return
	}
	alone := *it
	if !strings.Contains(alone.lead, "\n") {
		alone.lead = "\n\n"
	}
	in := insertion{item: &alone}
	if n := p.neighbour(f, at, -1, path); n != nil {
		in.behind = n
	} else if n := p.neighbour(f, at, 1, path); n != nil {
		in.ahead = n
	}
	p.inserts[path] = append(p.inserts[path], in)
	p.touched[path] = true
}

// addGroup puts the new specs of a group where the others of it are, or the
// group with what is new of it.
func (p *goMerge) addGroup(f *goFile, at int, it *item) {
	list := it.group()
	fresh := slices.DeleteFunc(slices.Clone(list.items), func(i *item) bool { return i.comment() || p.skipNew[i] })
	if len(fresh) == 0 {
		return
	}
	for k, spec := range list.items {
		if spec.comment() || p.skipNew[spec] {
			continue
		}
		if p.addSpec(list, k, spec) {
			fresh = slices.DeleteFunc(fresh, func(i *item) bool { return i == spec })
		}
	}
	if len(fresh) == 0 {
		return
	}
	whole := *it
	body := *it.body
	body.text = it.body.parts[0].text + list.written(fresh, list.tail)
	whole.body = &body
	if len(fresh) == len(list.items) {
		whole = *it
	}
	p.add(f, at, &whole)
}

// addSpec puts a spec beside its nearest neighbour of the group that stands in
// a group of mine too.
func (p *goMerge) addSpec(list *node, at int, spec *item) bool {
	for _, step := range []int{-1, 1} {
		for i := at + step; i >= 0 && i < len(list.items); i += step {
			for _, own := range p.m.units[list.items[i].key] {
				if own.group == nil || p.removed(own.item) {
					continue
				}
				in := insertion{item: spec, group: own.group}
				if step < 0 {
					in.behind = own.item
				} else {
					in.ahead = own.item
				}
				p.inserts[own.file.path] = append(p.inserts[own.file.path], in)
				p.touched[own.file.path] = true
				return true
			}
		}
	}
	return false
}

func (p *goMerge) removed(it *item) bool {
	r, edited := p.edits[it]
	return edited && r == nil
}

// target is the file of mine that a new item of theirs goes to: the one of its
// name, or the one that both its neighbours live in.
func (p *goMerge) target(f *goFile, at int) string {
	above, below := p.nearest(f, at, -1), p.nearest(f, at, 1)
	_, there := p.m.texts[f.path]
	switch {
	case above != "" && above == below:
		return above
	case there:
		return f.path
	case p.b.files[f.path] == nil:
		return "" // it comes with its new file
	}
	return p.home(f)
}

// home is the file of mine that most of a file that is not there any more
// lives in.
func (p *goMerge) home(f *goFile) string {
	if p.b.files[f.path] == nil || p.options.broughtBack(f.path) {
		return ""
	}
	count := map[string]int{}
	best := ""
	for _, u := range f.units {
		for _, own := range p.m.units[u.key] {
			count[own.file.path]++
			if count[own.file.path] > count[best] {
				best = own.file.path
			}
		}
	}
	return best
}

// nearest is the file of mine that the nearest neighbour lives in.
func (p *goMerge) nearest(f *goFile, at, step int) string {
	for i := at + step; i >= 0 && i < len(f.list.items); i += step {
		for _, u := range f.unitsOf(f.list.items[i]) {
			for _, own := range p.m.units[u.key] {
				if !p.removed(own.item) {
					return own.file.path
				}
			}
		}
	}
	return ""
}
