package merge

import "strings"

// alignment is where each item of base is on a side, or -1.
type alignment []int

// align matches the items of a side with those of base in order: equal ones
// first, then between them those of one kind that are at least half alike.
func align(b, x []*item) alignment {
	sumsB, sumsX := sumsOf(b), sumsOf(x)
	partner := longestCommon(sumsB, sumsX)
	bags := map[*item][]string{}
	words := func(i *item) []string {
		if bags[i] == nil {
			bags[i] = bag(i.sum)
		}
		return bags[i]
	}
	for from, fromX := 0, 0; from <= len(b); {
		to := from
		for to < len(b) && partner[to] < 0 {
			to++
		}
		toX := len(x)
		if to < len(b) {
			toX = partner[to]
		}
		for _, p := range pairing(to-from, toX-fromX, func(i, j int) float64 {
			of, it := b[from+i], x[fromX+j]
			if of.kind != it.kind {
				return 0
			}
			return max(alike(words(of), words(it)), commentFree(of, it), sameRegistration(of, it))
		}) {
			partner[from+p[0]] = fromX + p[1]
		}
		from, fromX = to+1, toX+1
	}
	return partner
}

// commentFree is 1 for items that differ in their comments only.
func commentFree(a, b *item) float64 {
	if !a.comment() && a.bodySum() == b.bodySum() {
		return 1
	}
	return 0
}

// sameRegistration is 1 for calls that register something with one thing under one
// name.
func sameRegistration(a, b *item) float64 {
	with, under, ok := registration(a.bodySum())
	other, name, also := registration(b.bodySum())
	if ok && also && with == other && under == name {
		return 1
	}
	return 0
}

func sumsOf(items []*item) []string {
	sums := make([]string, len(items))
	for i, it := range items {
		sums[i] = it.sum
	}
	return sums
}

// sequence merges lists whose order counts.
func (g *merger) sequence(b, m, t *node) string {
	am, at := align(b.items, m.items), align(b.items, t.items)
	var items []*item
	for i := 0; ; {
		end := i // the removed stretch that starts here, on either side
		for end < len(b.items) && (am[end] < 0 || at[end] < 0) {
			end++
		}
		items = append(items, g.stretch(b, m, t, am, at, i, end)...)
		if end == len(b.items) {
			break
		}
		items = append(items, g.item(b.items[end], m.items[am[end]], t.items[at[end]]))
		i = end + 1
	}
	return m.written(items, g.tail(b, m, t))
}

// stretch merges what lies between two items that both sides have: items of
// base from i to end, each removed by a side, and what the sides put there.
func (g *merger) stretch(b, m, t *node, am, at alignment, i, end int) []*item {
	mine, theirs := between(m.items, am, i, end), between(t.items, at, i, end)
	base := b.items[i:end]
	switch {
	case sameItems(base, theirs):
		return mine
	case sameItems(base, mine):
		return theirs
	case sameItems(mine, theirs):
		return mine
	}
	if len(base) == 0 {
		return g.bothInserted(mine, theirs)
	}
	if noInserts(m.items, am, i, end) && noInserts(t.items, at, i, end) {
		return g.bothRemoved(b.items, m.items, t.items, am, at, i, end)
	}
	return g.bothReplaced(base, mine, theirs)
}

// between are the items of a side from what stands before item i of base to
// what stands before item end.
func between(items []*item, a alignment, i, end int) []*item {
	from, to := 0, len(items)
	for k := i - 1; k >= 0; k-- {
		if a[k] >= 0 {
			from = a[k] + 1
			break
		}
	}
	if end < len(a) {
		to = a[end]
	}
	return items[from:to]
}

// noInserts reports whether a side has only what it kept of a stretch.
func noInserts(items []*item, a alignment, i, end int) bool {
	kept := 0
	for _, p := range a[i:end] {
		if p >= 0 {
			kept++
		}
	}
	return kept == len(between(items, a, i, end))
}

// bothRemoved goes through a stretch that the sides only took from.
func (g *merger) bothRemoved(b, m, t []*item, am, at alignment, i, end int) []*item {
	var list []*item
	for k := i; k < end; k++ {
		switch {
		case at[k] >= 0 && t[at[k]].sum != b[k].sum:
			return g.bothReplaced(b[i:end], between(m, am, i, end), between(t, at, i, end))
		case am[k] >= 0 && m[am[k]].sum != b[k].sum:
			list = append(list, g.bothReplaced(b[k:k+1], m[am[k]:am[k]+1], nil)...)
		}
	}
	return list
}

func sameItems(a, b []*item) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i].sum != b[i].sum {
			return false
		}
	}
	return true
}

// bothInserted brings together what both sides put in one place.
func (g *merger) bothInserted(mine, theirs []*item) []*item {
	if onlyComments(mine) || onlyComments(theirs) || registrations(mine, theirs) {
		return append(append([]*item{}, theirs...), without(mine, theirs)...)
	}
	g.at(mine[0].line)
	if g.refuse("both-inserted", "you inserted %s where the new rendering inserts %s", apart(textOf(mine), textOf(theirs))...) == New {
		return theirs
	}
	return mine
}

// without leaves out the items that are in the other list.
func without(items, others []*item) []*item {
	seen := map[string]bool{}
	for _, o := range others {
		seen[o.sum] = true
	}
	var list []*item
	for _, i := range items {
		if !seen[i.sum] {
			list = append(list, i)
		}
	}
	return list
}

func onlyComments(items []*item) bool {
	for _, i := range items {
		if !i.comment() {
			return false
		}
	}
	return true
}

func textOf(items []*item) string {
	var b strings.Builder
	for _, i := range items {
		b.WriteString(i.lead + i.text())
	}
	return b.String()
}

// registrations reports whether all items are calls of one function that
// register something under a name of its own.
func registrations(lists ...[]*item) bool {
	callee := ""
	seen := map[string]bool{}
	for _, list := range lists {
		for _, i := range list {
			if i.comment() {
				continue
			}
			name, literal, ok := registration(i.body.sum)
			if !ok || callee != "" && callee != name || seen[literal] {
				return false
			}
			callee = name
			seen[literal] = true
		}
	}
	return callee != ""
}

// registration cuts a call whose first argument is a string.
func registration(sum string) (callee, literal string, ok bool) {
	tokens := strings.Split(sum, tokenBreak)
	for i, tok := range tokens {
		switch tok {
		case "(":
			if i+1 < len(tokens) && i > 0 && strings.HasPrefix(tokens[i+1], `"`) {
				return strings.Join(tokens[:i], ""), tokens[i+1], true
			}
			return "", "", false
		case "=", ":=", "{", "return", "if", "for":
			return "", "", false
		}
	}
	return "", "", false
}

// bothReplaced is for a stretch of base that one side removed from or both
// did, and that the other changed or inserted into.
func (g *merger) bothReplaced(base, mine, theirs []*item) []*item {
	if registrations(base, nil) && registrations(additions(base, mine), additions(base, theirs)) && untouched(base, mine) && untouched(base, theirs) {
		return weave(base, mine, theirs)
	}
	if kept, ok := commentEdits(base, mine); ok {
		g.at(kept[0].line)
		g.notice("the new rendering replaced what your comment %s belongs to; the comment stays", excerpt(kept[0].doc))
		return append(kept, theirs...)
	}
	line := 0
	for _, i := range mine {
		if line == 0 || !contains(base, i) {
			line = i.line
		}
	}
	g.at(line)
	if g.refuse("both-changed", "you changed %s to %s, where the new rendering has %s", apart(textOf(base), textOf(mine), textOf(theirs))...) == New {
		return theirs
	}
	return mine
}

func contains(items []*item, of *item) bool {
	for _, i := range items {
		if i.sum == of.sum {
			return true
		}
	}
	return false
}

func additions(base, items []*item) []*item { return without(items, base) }

// untouched reports whether the items that a side did not add are those of
// base in their order.
func untouched(base, items []*item) bool {
	at := 0
	for _, i := range items {
		if !contains(base, i) {
			continue
		}
		for at < len(base) && base[at].sum != i.sum {
			at++
		}
		if at == len(base) {
			return false
		}
	}
	return true
}

// weave takes what both sides removed out, and puts what they added in.
func weave(base, mine, theirs []*item) []*item {
	var list []*item
	for _, i := range mine {
		if !contains(base, i) || contains(theirs, i) {
			list = append(list, i)
		}
	}
	added := without(additions(base, theirs), list)
	return append(append([]*item{}, added...), list...)
}

// commentEdits returns the comments of mine, as items that stand alone, if it
// differs from base in comments only.
func commentEdits(base, mine []*item) ([]*item, bool) {
	var code, own []*item
	for _, i := range mine {
		if !i.comment() {
			code = append(code, i)
		}
		if i.comment() && !contains(base, i) {
			own = append(own, i)
		}
	}
	at := 0
	for _, b := range base {
		if b.comment() {
			continue
		}
		if at == len(code) || codeOf(code[at].bodySum()) != codeOf(b.bodySum()) {
			return nil, false
		}
		for token := range strings.SplitSeq(code[at].bodySum(), tokenBreak) {
			if (strings.HasPrefix(token, "//") || strings.HasPrefix(token, "/*")) && !strings.Contains(b.bodySum(), token) {
				own = append(own, &item{key: "//" + token, kind: "comment", what: "comment", lead: code[at].lead, doc: token, sum: token, line: code[at].line})
			}
		}
		for _, text := range []struct{ old, new string }{{b.doc, code[at].doc}, {b.trail, code[at].trail}} {
			if strings.TrimSpace(text.new) != strings.TrimSpace(text.old) && strings.TrimSpace(text.new) != "" {
				comment := strings.TrimSpace(text.new)
				own = append(own, &item{key: "//" + comment, kind: "comment", what: "comment", lead: code[at].lead, doc: comment, sum: comment, line: code[at].line})
			}
		}
		at++
	}
	return own, at == len(code) && len(own) > 0
}
