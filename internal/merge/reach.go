package merge

import (
	"maps"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// reach is what a new rendering can break: the developer's code that speaks of
// something that is declared otherwise now, and new texts that speak of something
// that the developer declares otherwise. What is as it was rendered fits together
// by itself, so that nothing else has to be looked at.
type reach struct {
	changed map[string]bool // files that are other ones now
	own     map[string]bool // files of the developer's, with edits of theirs, or rendered by templates of theirs
	missing map[string]bool // rendered files that the developer left out, or took something out of
	names   map[string]bool // declared otherwise now, or made of that
	edited  map[string]bool // that the developer declares otherwise than they are rendered, or beside that
}

// reach finds what the merge can have broken.
func (g *merger) reach(w *work, before map[string]string) *reach {
	r := &reach{changed: map[string]bool{}, own: map[string]bool{}, missing: map[string]bool{}, names: map[string]bool{}, edited: map[string]bool{}}
	folders := map[string]bool{} // with rendered files: only there rendered code sees the developer's
	for name := range w.t {
		if strings.HasSuffix(name, ".go") {
			folders[path.Dir(name)] = true
		}
	}
	for name := range goNames(before, w.m, w.t) {
		text, there := w.m[name]
		rendered, ours := w.t[name]
		if was, had := before[name]; had != there || was != text {
			r.changed[name] = true
		}
		if there && (!ours || text != rendered || g.options.unproven(name)) {
			r.own[name] = true
		}
		if ours && (!there || g.lacks(name, text, rendered)) {
			r.missing[name] = true
		}
		if folders[path.Dir(name)] && (there != ours || text != rendered) {
			for key := range g.differing(name, rendered, text) {
				r.edited[strings.TrimPrefix(key, ".")] = true
			}
		}
	}
	declared := map[string]bool{} // without members
	for name := range r.changed {
		for key := range g.differing(name, before[name], w.m[name]) {
			r.names[strings.TrimPrefix(key, ".")] = true
			if !strings.HasPrefix(key, ".") {
				declared[key] = true
			}
		}
	}
	g.follow(w, r, declared)
	return r
}

// follow adds the names of what uses the declared names: fields, methods, functions
// and variables. It goes on to what uses those functions and variables.
func (g *merger) follow(w *work, r *reach, declared map[string]bool) {
	for len(declared) > 0 {
		further := map[string]bool{}
		for name, text := range w.m {
			if r.own[name] || !strings.HasSuffix(name, ".go") || !mentions(text, declared) {
				continue
			}
			for key := range g.madeOf(name, text, declared) {
				if short := lastName(key); !r.names[short] {
					r.names[short] = true
					further[key] = !strings.Contains(key, ".")
				}
			}
		}
		declared = maps.Clone(further)
		maps.DeleteFunc(declared, func(_ string, ofPackage bool) bool { return !ofPackage })
	}
}

// lacks reports whether a file has less declarations than it was rendered with.
func (g *merger) lacks(name, text, rendered string) bool {
	if text == rendered {
		return false
	}
	have := g.summed(name, text)
	for key := range g.summed(name, rendered) {
		if _, there := have[key]; !there {
			return true
		}
	}
	return false
}

// goNames are the Go files of some trees.
func goNames(trees ...map[string]string) map[string]bool {
	names := map[string]bool{}
	for _, tree := range trees {
		for name := range tree {
			if strings.HasSuffix(name, ".go") {
				names[name] = true
			}
		}
	}
	return names
}

// none reports whether nothing can be broken. Where something that is rendered is
// missing, what needs it is looked for at each write.
func (r *reach) none(w *work) bool {
	if len(r.missing) > 0 {
		return false
	}
	for name := range r.changed {
		if r.own[name] || mentions(w.m[name], r.edited) {
			return false
		}
	}
	for name := range r.own {
		if mentions(w.m[name], r.names) {
			return false
		}
	}
	return true
}

// ownIn reports whether a folder has anything of the developer's, or lacks something.
func (r *reach) ownIn(folder string) bool {
	for _, names := range []map[string]bool{r.own, r.missing} {
		for name := range names {
			if path.Dir(name) == folder {
				return true
			}
		}
	}
	return false
}

// bodies reports whether the functions of a file can be broken.
func (r *reach) bodies(name, text string) bool {
	return r.changed[name] || r.own[name] || mentions(text, r.names) || mentions(text, r.edited)
}

// differing are the names of what is declared otherwise in two texts of a file: those
// of the package, and behind a dot those of fields and methods. A function is what
// its first lines say; constants are as their group counts them.
func (g *merger) differing(name, was, now string) map[string]bool {
	old, fresh := g.summed(name, was), g.summed(name, now)
	names := map[string]bool{}
	for _, pair := range [][2]map[string]string{{old, fresh}, {fresh, old}} {
		for key, sum := range pair[0] {
			if other, there := pair[1][key]; there && other == sum {
				continue
			}
			owner, member, inside := strings.Cut(key, ".")
			names[owner] = true
			if inside {
				names["."+member] = true
			}
		}
	}
	return names
}

// summed are the declarations of a text, and the fields of structs, by what they are
// compared by. Where a text cannot be read, every word of it is one.
func (g *merger) summed(name, text string) map[string]string {
	sums := map[string]string{}
	if text == "" {
		return sums
	}
	f, err := g.cut(name, text)
	if err != nil {
		for word := range words(text) {
			sums[word] = text
		}
		return sums
	}
	constants := ""
	for _, u := range f.units {
		if u.kind == "const" {
			constants += u.key + tokenBreak + u.item.bodySum() + tokenBreak
		}
	}
	for _, u := range f.units {
		switch u.kind {
		case "func":
			sums[u.key] = signature(u)
		case "const":
			sums[u.key] = constants
		default:
			sums[u.key] = u.item.bodySum()
			for _, field := range fieldsOf(u.item) {
				sums[u.key+"."+field.key] = field.bodySum()
			}
		}
	}
	return sums
}

// madeOf are the declarations of a file that speak of one of some names, those of
// structs by their fields, with the type before a dot: who has none of them has nothing
// that is made of it.
func (g *merger) madeOf(name, text string, of map[string]bool) map[string]bool {
	names := map[string]bool{}
	f, err := g.cut(name, text)
	if err != nil {
		return words(text)
	}
	for _, u := range f.units {
		fields := fieldsOf(u.item)
		for _, field := range fields {
			if mentionsSum(field.bodySum(), of) {
				names[u.key+"."+field.key] = true
			}
		}
		sum := u.item.bodySum()
		if u.kind == "func" {
			sum = signature(u)
		}
		if fields == nil && mentionsSum(sum, of) {
			names[u.key] = true
		}
	}
	return names
}

func mentionsSum(sum string, names map[string]bool) bool {
	return slices.ContainsFunc(strings.Split(sum, tokenBreak), func(token string) bool { return names[token] })
}

// mentions reports whether one of some names stands in a text as a word.
func mentions(text string, names map[string]bool) bool {
	if len(names) == 0 {
		return false
	}
	for word := range eachWord(text) {
		if names[word] {
			return true
		}
	}
	return false
}

// words are all of a text.
func words(text string) map[string]bool {
	list := map[string]bool{}
	for word := range eachWord(text) {
		list[word] = true
	}
	return list
}

// eachWord visits the identifiers of a text, those in comments and strings too.
func eachWord(text string) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		from := -1
		for i, r := range text {
			inside := r == '_' || r < utf8.RuneSelf && (r|0x20 >= 'a' && r|0x20 <= 'z' || r >= '0' && r <= '9') || r >= utf8.RuneSelf && (unicode.IsLetter(r) || unicode.IsDigit(r))
			switch {
			case inside && from < 0:
				from = i
			case !inside && from >= 0:
				if !yield(text[from:i]) {
					return
				}
				from = -1
			}
		}
		if from >= 0 {
			yield(text[from:])
		}
	}
}
