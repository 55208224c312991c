package merge

import (
	"errors"
	"go/format"
	"go/scanner"
	"maps"
	"slices"
	"strings"
)

// unitsOf are the declarations that an item of a file holds.
func (f *goFile) unitsOf(it *item) []*unit {
	var list []*unit
	for _, u := range f.units {
		if u.item == it || u.group == it {
			list = append(list, u)
		}
	}
	return list
}

// neighbour is the item of a file of mine that holds the nearest neighbour of
// an item of theirs.
func (p *goMerge) neighbour(f *goFile, at, step int, path string) *item {
	for i := at + step; i >= 0 && i < len(f.list.items); i += step {
		for _, u := range f.unitsOf(f.list.items[i]) {
			for _, own := range p.m.units[u.key] {
				if own.file.path != path || p.removed(own.item) {
					continue
				}
				if own.group != nil {
					return own.group
				}
				return own.item
			}
		}
	}
	return nil
}

// standing merges the comments that stand alone at the top of a file.
func (p *goMerge) standing() {
	for _, path := range slices.Sorted(maps.Keys(p.m.files)) {
		b, m, t := p.b.files[path], p.m.files[path], p.t.files[path]
		if b == nil || t == nil {
			continue
		}
		if b.header != t.header || !slices.Equal(importTexts(b), importTexts(t)) {
			p.touched[path] = true
		}
		inB, inM, inT := byKey(b.list.items), byKey(m.list.items), byKey(t.list.items)
		var dropped []*item
		for _, it := range m.list.items {
			if it.comment() && inB[it.key] != nil && inT[it.key] == nil {
				p.edits[it] = nil
				p.touched[path] = true
				dropped = append(dropped, it)
			}
		}
		for at, it := range t.list.items {
			if !it.comment() || inB[it.key] != nil || inM[it.key] != nil {
				continue
			}
			if k := slices.IndexFunc(dropped, func(old *item) bool { return alike(bag(old.sum), bag(it.sum)) >= 0.5 }); k >= 0 {
				reworded := *dropped[k]
				reworded.doc = it.doc
				p.edits[dropped[k]] = &reworded
				dropped = slices.Delete(dropped, k, k+1)
				continue
			}
			p.add(t, at, it)
		}
	}
}

func importTexts(f *goFile) []string {
	var list []string
	for _, i := range importsOf(f.goSource) {
		list = append(list, i.text)
	}
	return list
}

// groupComments merges the comments above groups.
func (p *goMerge) groupComments() {
	for _, f := range p.m.files {
		for _, it := range f.list.items {
			if it.kind != "group" {
				continue
			}
			var b, t *item
			for _, u := range f.unitsOf(it) {
				b, t = firstGroup(b, p.b.units[u.key]), firstGroup(t, p.t.units[u.key])
			}
			if b == nil || t == nil {
				continue
			}
			p.file, p.decl, p.line = f.path, "", it.line
			if doc := p.comments(b.doc, it.doc, t.doc); doc != it.doc {
				p.groups[it] = doc
				p.touched[f.path] = true
			}
		}
	}
}

func firstGroup(found *item, units []*unit) *item {
	for _, u := range units {
		if found == nil {
			found = u.group
		}
	}
	return found
}

// droppedFiles removes files that are not rendered any more, unless something
// of the developer's is in them.
func (p *goMerge) droppedFiles() {
	for _, path := range slices.Sorted(maps.Keys(p.b.files)) {
		b, m := p.b.files[path], p.m.files[path]
		if _, rendered := p.t.texts[path]; rendered || m == nil {
			continue
		}
		delete(p.touched, path)
		before, stays := len(p.conflicts), false
		inB := byKey(b.list.items)
		for _, it := range m.list.items {
			p.file, p.decl, p.line = path, "", it.line
			if it.comment() && inB[it.key] == nil {
				stays = p.keepInDropped("you wrote a comment in the file, which the new rendering has no more; move it, or keep the file by --keep mine") || stays
			}
		}
		for _, u := range m.units {
			if p.removed(u.item) {
				continue
			}
			p.decl, p.line = u.key, u.item.line
			if p.b.units[u.key] != nil {
				stays = true
				continue
			}
			stays = p.keepInDropped("you added it to a file that the new rendering has no more; move it to a file of your own, or keep the file by --keep mine") || stays
		}
		if len(p.conflicts) > before {
			continue
		}
		if stays {
			p.touched[path] = true
			continue
		}
		p.result[path] = nil
	}
}

func (p *goMerge) keepInDropped(why string) bool {
	return p.refuse("changed-dropped", "%s", why) == Mine
}

// compose writes the files that change.
func (p *goMerge) compose() {
	for _, path := range slices.Sorted(maps.Keys(p.touched)) {
		if m := p.m.files[path]; m != nil {
			p.file, p.decl, p.line = path, "", 1
			p.composeFile(m)
		}
	}
	for _, path := range p.newFiles {
		p.file, p.decl, p.line = path, "", 1
		p.composeNew(p.t.files[path])
	}
}

func (p *goMerge) composeFile(m *goFile) {
	var items []*item
	put := func(fits func(in insertion) bool) {
		for _, in := range p.inserts[m.path] {
			if in.group == nil && fits(in) {
				items = append(items, in.item)
			}
		}
	}
	for _, it := range m.list.items {
		put(func(in insertion) bool { return in.ahead == it })
		if r := p.resolved(m.path, it); r != nil {
			items = append(items, r)
		}
		put(func(in insertion) bool { return in.behind == it })
	}
	put(func(in insertion) bool { return in.ahead == nil && in.behind == nil })
	text := p.header(m) + m.list.written(items, m.list.tail)
	text = p.imports(m, text)
	if gofmtClean(m.text) {
		text = formatted(text)
	}
	if text != m.text {
		p.result[m.path] = &text
	}
}

// resolved is what stands in the place of an item of mine.
func (p *goMerge) resolved(path string, it *item) *item {
	if it.kind != "group" {
		r, edited := p.edits[it]
		if !edited {
			return it
		}
		return r
	}
	list := it.group()
	var specs []*item
	put := func(fits func(in insertion) bool) {
		for _, in := range p.inserts[path] {
			if in.group == it && fits(in) {
				specs = append(specs, in.item)
			}
		}
	}
	count := 0
	for _, spec := range list.items {
		put(func(in insertion) bool { return in.ahead == spec })
		r, edited := p.edits[spec]
		if !edited {
			r = spec
		}
		if r != nil {
			specs = append(specs, r)
		}
		put(func(in insertion) bool { return in.behind == spec })
	}
	for _, spec := range specs {
		if !spec.comment() {
			count++
		}
	}
	if count == 0 && len(list.items) > 0 {
		return nil
	}
	doc := it.doc
	if merged, ok := p.groups[it]; ok {
		doc = merged
	}
	return it.retold(doc, it.body.parts[0].text+list.written(specs, list.tail), it.trail, it.lead)
}

// header merges what stands before the package clause by line.
func (p *goMerge) header(m *goFile) string {
	b, t := p.b.files[m.path], p.t.files[m.path]
	if b == nil || t == nil || b.header == t.header {
		return m.header
	}
	lines := func(s string) []string { return strings.SplitAfter(s, "\n") }
	merged, clash := mergeHeaderLines(lines(b.header), lines(m.header), lines(t.header))
	if clash < 0 {
		return strings.Join(merged, "")
	}
	if m.file.Name.Name != t.file.Name.Name && m.file.Name.Name != b.file.Name.Name {
		p.line = clash + 1
		p.refuse("both-changed", "you changed the package clause, and the new rendering has package %s", t.file.Name.Name)
		return m.header
	}
	if p.yields("both-changed", "the comment above the package clause was changed by you and by the new rendering; yours stays") {
		return t.header
	}
	clause := "package " + m.file.Name.Name
	return strings.TrimSuffix(m.header, clause) + "package " + t.file.Name.Name
}

func (p *goMerge) composeNew(t *goFile) {
	var items []*item
	for _, it := range t.list.items {
		switch {
		case it.kind == "group":
			if r := p.withoutSkipped(it); r != nil {
				items = append(items, r)
			}
		case it.comment() || !p.skipNew[it]:
			items = append(items, it)
		}
	}
	text := t.text
	if len(items) < len(t.list.items) {
		text = formatted(withoutUnusedImports(t.header + t.list.written(items, t.list.tail)))
	}
	p.result[t.path] = &text
}

func (p *goMerge) withoutSkipped(it *item) *item {
	list := it.group()
	specs := slices.DeleteFunc(slices.Clone(list.items), func(i *item) bool { return p.skipNew[i] })
	if len(specs) == len(list.items) {
		return it
	}
	if onlyComments(specs) {
		return nil
	}
	return it.retold(it.doc, it.body.parts[0].text+list.written(specs, list.tail), it.trail, it.lead)
}

func gofmtClean(text string) bool { return formatted(text) == text }

// formatted is the text as gofmt lays it out, or as it is where it does not
// parse.
func formatted(text string) string {
	clean, err := format.Source([]byte(text))
	if err != nil {
		return text
	}
	return string(clean)
}

// likelyRenamed finds a new declaration of mine that looks like one that is
// gone.
func (p *goMerge) likelyRenamed(b *unit) *unit {
	receiver, _, method := strings.Cut(b.key, ".")
	for _, path := range slices.Sorted(maps.Keys(p.m.files)) {
		for _, own := range p.m.files[path].units {
			if own.kind != b.kind || p.b.units[own.key] != nil || p.t.units[own.key] != nil || own.kind != "func" && own.kind != "type" {
				continue
			}
			ownReceiver, _, ownMethod := strings.Cut(own.key, ".")
			if method != ownMethod || method && receiver != ownReceiver {
				continue
			}
			if likeness(b, own) >= 0.6 {
				return own
			}
		}
	}
	return nil
}

// likeness of two declarations; of two structs that of their fields.
func likeness(a, b *unit) float64 {
	fa, okA := structFields(a.item)
	fb, okB := structFields(b.item)
	if okA && okB {
		return alike(fa, fb)
	}
	return alike(bag(a.item.bodySum()), bag(b.item.bodySum()))
}

// structFields are the fields of a struct type as name and type.
func structFields(it *item) ([]string, bool) {
	list := fieldsOf(it)
	fields := make([]string, len(list))
	for i, f := range list {
		fields[i] = f.body.parts[0].sum + f.body.parts[1].sum
	}
	return fields, len(fields) > 0
}

// errorLine is the line of a syntax error, or 0.
func errorLine(err error) int {
	var list scanner.ErrorList
	if errors.As(err, &list) && len(list) > 0 {
		return list[0].Pos.Line
	}
	return 0
}
