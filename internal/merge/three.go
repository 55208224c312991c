package merge

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// merger brings three versions of things together and collects what it cannot
// decide.
type merger struct {
	options   *Options
	conflicts []Conflict
	notices   []Notice
	known     map[string]*goFile // by path and text
	patterns  map[string]registered

	file string   // of mine
	decl string   // the declaration at hand
	path []string // into it
	line int      // of what is at hand in mine
}

func (g *merger) in(name string, do func()) {
	if name == "" {
		do()
		return
	}
	g.path = append(g.path, name)
	do()
	g.path = g.path[:len(g.path)-1]
}

func (g *merger) member() string { return strings.Join(g.path, ".") }

func (g *merger) at(line int) {
	if line > 0 {
		g.line = line
	}
}

// refuse records a conflict at the place at hand, unless the developer has
// said whose text is to stand there; it returns whose does.
func (g *merger) refuse(class, format string, args ...any) Side {
	c := Conflict{File: g.file, Decl: g.decl, Member: g.member(), Line: g.line, Class: class, Message: g.worded(format, args)}
	if side, ok := g.options.kept(c.Place()); ok && (c.Settled() || c.Breaks()) {
		return side
	}
	if !slices.Contains(g.conflicts, c) {
		g.conflicts = append(g.conflicts, c)
	}
	return Mine
}

// worded is a message; what theirs is depends on what is merged.
func (g *merger) worded(format string, args []any) string {
	theirs := g.options.Theirs
	if theirs == "" && g.options.Branches {
		theirs = "the other branch"
	}
	if theirs != "" {
		format = strings.ReplaceAll(format, "the new rendering", theirs)
	}
	return fmt.Sprintf(format, args...)
}

func (g *merger) notice(format string, args ...any) {
	n := Notice{File: g.file, Decl: g.decl, Member: g.member(), Line: g.line, Message: g.worded(format, args)}
	if !slices.Contains(g.notices, n) {
		g.notices = append(g.notices, n)
	}
}

// excerpt is a text short enough for a message.
func excerpt(text string) string { return apart(text)[0].(string) }

// The widths of excerpts, in characters.
const (
	excerptWidth = 70
	excerptLead  = 20 // shown of what is before the first difference
)

// apart are texts short enough for a message, each from a little before where they
// first differ.
func apart(texts ...string) []any {
	var runes [][]rune
	longest := 0
	for _, text := range texts {
		short := []rune(strings.Join(strings.Fields(text), " "))
		runes = append(runes, short)
		longest = max(longest, len(short))
	}
	from := 0
	if longest > excerptWidth && len(texts) > 1 {
		from = max(commonStart(runes)-excerptLead, 0)
	}
	var list []any
	for _, short := range runes {
		list = append(list, quotedExcerpt(short, from))
	}
	return list
}

func quotedExcerpt(text []rune, from int) string {
	if len(text) == 0 {
		return "nothing"
	}
	from = min(from, max(len(text)-excerptLead, 0))
	head, tail := "", ""
	if from > 0 {
		head = "…"
	}
	if len(text)-from > excerptWidth {
		text, tail = text[:from+excerptWidth-3], "…"
	}
	return "`" + head + strings.ReplaceAll(string(text[from:]), "`", "'") + tail + "`"
}

// commonStart is how many characters all texts begin with alike.
func commonStart(texts [][]rune) int {
	for i := 0; ; i++ {
		for _, text := range texts {
			if i >= len(text) || text[i] != texts[0][i] {
				return i
			}
		}
	}
}

// node merges one stretch. What neither side changed keeps the text of mine.
func (g *merger) node(b, m, t *node) string {
	switch {
	case b.text == t.text:
		return m.text
	case m.text == b.text:
		return t.text
	case m.text == t.text:
		return m.text
	}
	if text, ok := g.inside(b, m, t); ok {
		return text
	}
	switch {
	case b.sum == t.sum || m.sum == t.sum:
		return m.text
	case m.sum == b.sum:
		return t.text
	}
	if comments, ok := inlineComments(b, m); ok && !g.options.Branches {
		text := strings.TrimRight(t.text, " \t\n")
		return text + " " + strings.Join(comments, " ") + t.text[len(text):]
	}
	g.at(m.line)
	if g.refuse("both-changed", "%s: you changed %s to %s, and the new rendering has %s", append([]any{b.name}, apart(b.text, m.text, t.text)...)...) == New {
		return t.text
	}
	return m.text
}

// inside merges what the stretch is made of; false means that it is not made
// alike on all sides, or is an atom.
func (g *merger) inside(b, m, t *node) (string, bool) {
	if b.name == "tag" && m.name == "tag" && t.name == "tag" {
		return g.tag(b.text, m.text, t.text)
	}
	if b.form != m.form || b.form != t.form {
		return "", false
	}
	switch b.form {
	case slots, single:
		if len(b.parts) != len(m.parts) || len(b.parts) != len(t.parts) {
			return "", false
		}
		for i := range b.parts {
			if b.parts[i].form.list() != m.parts[i].form.list() || b.parts[i].form.list() != t.parts[i].form.list() {
				return "", false
			}
		}
		if b.form == single && changedParts(b, m, t) > 1 {
			return "", false
		}
		var text strings.Builder
		for i := range b.parts {
			text.WriteString(g.node(b.parts[i], m.parts[i], t.parts[i]))
		}
		return text.String(), true
	case keyed:
		if !b.hasKeys() || !m.hasKeys() || !t.hasKeys() {
			return g.sequence(b, m, t), true
		}
		if b.name == "cases" {
			alignCases(b, m)
			alignCases(b, t)
		}
		if b.name == "literal" {
			followFields(b, m, t)
		}
		return g.keyedList(b, m, t), true
	case matched:
		return g.matchedList(b, m, t), true
	case ordered, rawLines:
		if b.name == "arguments" {
			if text, ok := g.byNames(b, m, t); ok {
				return text, true
			}
			if text, ok := g.byPlaces(b, m, t); ok {
				return text, true
			}
		}
		return g.sequence(b, m, t), true
	}
	return "", false
}

// changedParts counts the parts that a side changed.
func changedParts(b, m, t *node) int {
	n := 0
	for i := range b.parts {
		if of := codeOf(b.parts[i].sum); of != codeOf(m.parts[i].sum) || of != codeOf(t.parts[i].sum) {
			n++
		}
	}
	return n
}

// codeOf is a canonical text without its comments.
func codeOf(sum string) string {
	if !strings.Contains(sum, "//") && !strings.Contains(sum, "/*") {
		return sum
	}
	var b strings.Builder
	for token := range strings.SplitSeq(sum, tokenBreak) {
		if token != "" && !strings.HasPrefix(token, "//") && !strings.HasPrefix(token, "/*") {
			b.WriteString(token + tokenBreak)
		}
	}
	return b.String()
}

// inlineComments are the comments in a stretch of mine that differs from base by
// them only; false means that it differs in more, or by comments that need a line of
// their own.
func inlineComments(b, m *node) ([]string, bool) {
	if b.form != atom || m.form != atom || b.name == "line" || codeOf(b.sum) != codeOf(m.sum) {
		return nil, false
	}
	have := strings.Split(b.sum, tokenBreak)
	var list []string
	for token := range strings.SplitSeq(m.sum, tokenBreak) {
		switch {
		case !strings.HasPrefix(token, "//") && !strings.HasPrefix(token, "/*"):
		case strings.HasPrefix(token, "//") || strings.Contains(token, "\n"):
			return nil, false
		case !slices.Contains(have, token):
			list = append(list, token)
		}
	}
	return list, len(list) > 0
}

// hasKeys reports whether each item of a list has a key of its own.
func (n *node) hasKeys() bool {
	seen := map[string]bool{}
	for _, i := range n.items {
		if i.comment() {
			continue
		}
		if i.key == "" || seen[i.key] {
			return false
		}
		seen[i.key] = true
	}
	return true
}

// item merges an item that all three have.
func (g *merger) item(b, m, t *item) *item {
	g.at(m.line)
	if m.body == nil || t.body == nil || b.body == nil {
		return m
	}
	var body string
	g.in(m.label(), func() { body = g.node(b.body, m.body, t.body) })
	lead := m.lead
	if m.lead == b.lead {
		lead = t.lead
	}
	merged := m.retold(g.comments(b.doc, m.doc, t.doc), body, g.comments(b.trail, m.trail, t.trail), lead)
	if mid := g.comments(b.mid, m.mid, t.mid); mid != m.mid {
		merged.mid, merged.combo = mid, nil
	}
	return merged
}

// label is how an item is called in a path; statements have no names.
func (i *item) label() string {
	switch i.what {
	case "statement", "line", "argument", "":
		return ""
	case "case":
		return strings.TrimSuffix(strings.Join(strings.Split(strings.TrimSuffix(i.key, tokenBreak), tokenBreak), " "), " :")
	}
	if i.kind == "element" || strings.Contains(i.key, tokenBreak) {
		return ""
	}
	return strings.Trim(i.key, `"`)
}

// comments merges comments by line. Where they clash, those of mine stay.
func (g *merger) comments(b, m, t string) string {
	pb, pm, pt := commentLines(b), commentLines(m), commentLines(t)
	switch {
	case slices.Equal(pb, pt) || slices.Equal(pm, pt):
		return m
	case slices.Equal(pb, pm):
		return t
	}
	lines, clash := mergeLines(pb, pm, pt)
	if clash >= 0 {
		if g.yields("both-changed", "the comment was changed by you and by the new rendering; yours stays, the new one is %s", excerpt(t)) {
			return t
		}
		return m
	}
	return layComment(lines, m, t)
}

// yields reports whether mine gives way where it otherwise stays with a notice:
// to what other people did, by the developer's choice.
func (g *merger) yields(class, format string, args ...any) bool {
	if g.options.Branches {
		return g.refuse(class, format, args...) == New
	}
	g.notice(format, args...)
	return false
}

func commentLines(doc string) []string {
	var lines []string
	for line := range strings.SplitSeq(strings.TrimSpace(doc), "\n") {
		if line = strings.TrimSpace(line); line != "" {
			lines = append(lines, line)
		}
	}
	return lines
}

// layComment lays the lines out as the comment of mine is, or as that of
// theirs where there is none.
func layComment(lines []string, m, t string) string {
	if len(lines) == 0 {
		return ""
	}
	like := m
	if strings.TrimSpace(like) == "" {
		like = t
	}
	head := like[:leading(like)]
	rest := strings.TrimRight(like, " \t\n")
	tail := like[len(rest):]
	indent := tail
	if !strings.Contains(indent, "\n") {
		indent = "\n"
	}
	return head + strings.Join(lines, indent) + tail
}

// outcome decides about an item of a keyed list by the table; nil means that it
// is not in the result.
func (g *merger) outcome(b, m, t *item) *item {
	switch {
	case b != nil && m != nil && t != nil:
		return g.item(b, m, t)
	case b != nil && m != nil: // dropped
		return g.dropped(b, m)
	case b != nil && t != nil: // removed by the developer
		if b.sum == t.sum || b.comment() {
			return nil
		}
		var back *item
		g.in(t.label(), func() {
			if g.yields("changed-dropped", "the %s stays removed, though the new rendering changes it", t.what) {
				back = t
			}
		})
		return back
	case m != nil && t != nil:
		return g.bothAdded(m, t)
	case m != nil:
		return m
	}
	return t
}

func (g *merger) dropped(b, m *item) *item {
	if m.sum == b.sum || m.comment() {
		return nil
	}
	side := Mine
	g.at(m.line)
	g.in(m.label(), func() {
		shown := apart(m.doc+m.body.text+m.trail, b.doc+b.body.text+b.trail)
		side = g.refuse("changed-dropped", "you changed the %s to %s, and the new rendering has it no more", m.what, shown[0])
	})
	if side == New {
		return nil
	}
	return m
}

// bothAdded brings together an item that both sides added.
func (g *merger) bothAdded(m, t *item) *item {
	if m.comment() || t.comment() {
		return m
	}
	if m.bodySum() == t.bodySum() {
		return m.retold(g.comments("", m.doc, t.doc), m.body.text, g.comments("", m.trail, t.trail), m.lead)
	}
	if body, ok := g.union(m.body, t.body); ok {
		return m.retold(g.comments("", m.doc, t.doc), body, g.comments("", m.trail, t.trail), m.lead)
	}
	side := Mine
	g.at(m.line)
	g.in(m.label(), func() {
		side = g.refuse("both-added", "you added the %s %s, and the new rendering adds %s", append([]any{m.what}, apart(m.body.text, t.body.text)...)...)
	})
	if side == New {
		return m.retold(t.doc, t.body.text, t.trail, m.lead)
	}
	return m
}

// union joins two fields of one name and type whose tags do not contradict.
func (g *merger) union(m, t *node) (string, bool) {
	if m.name != "field" || t.name != "field" || m.parts[1].sum != t.parts[1].sum {
		return "", false
	}
	tag := m.parts[2].text
	switch {
	case m.parts[2].text == "":
		tag = t.parts[2].text
	case t.parts[2].text == "":
	default:
		joined, ok := unionTags(m.parts[2].text, t.parts[2].text)
		if !ok {
			return "", false
		}
		tag = joined
	}
	return m.parts[0].text + m.parts[1].text + tag, true
}

// keyedList merges lists whose items are known by their keys.
func (g *merger) keyedList(b, m, t *node) string {
	inB, inM, inT := byKey(b.items), byKey(m.items), byKey(t.items)
	result := map[string]*item{}
	for _, i := range m.items {
		if r := g.outcome(inB[i.key], i, inT[i.key]); r != nil {
			result[i.key] = r
		}
	}
	for _, i := range t.items {
		if inM[i.key] == nil {
			if r := g.outcome(inB[i.key], nil, i); r != nil {
				result[i.key] = r
			}
		}
	}
	keysB, first, second := keysOf(b.items), keysOf(m.items), keysOf(t.items)
	if !sameOrder(keysB, second) && sameOrder(keysB, first) {
		first, second = second, first
	}
	order := interleave(first, second, result)
	items := make([]*item, len(order))
	for i, k := range order {
		items[i] = result[k]
	}
	return m.written(items, g.tail(b, m, t))
}

func (g *merger) tail(b, m, t *node) string {
	if m.tail == b.tail {
		return t.tail
	}
	return m.tail
}

func byKey(items []*item) map[string]*item {
	m := make(map[string]*item, len(items))
	for _, i := range items {
		m[i.key] = i
	}
	return m
}

func keysOf(items []*item) []string {
	keys := make([]string, len(items))
	for i, it := range items {
		keys[i] = it.key
	}
	return keys
}

// sameOrder reports whether what two lists have in common stands in one order.
func sameOrder(a, b []string) bool {
	place := map[string]int{}
	for i, k := range a {
		place[k] = i
	}
	last := -1
	for _, k := range b {
		if at, ok := place[k]; ok {
			if at < last {
				return false
			}
			last = at
		}
	}
	return true
}

// interleave puts what only the second list has right after its nearest
// neighbour above that is there, or before the one below. Only keys that are
// in count, or all for nil.
func interleave(first, second []string, in map[string]*item) []string {
	var order []string
	have := map[string]bool{}
	for _, k := range first {
		if (in == nil || in[k] != nil) && !have[k] {
			order = append(order, k)
			have[k] = true
		}
	}
	for at, k := range second {
		if in != nil && in[k] == nil || have[k] {
			continue
		}
		have[k] = true
		order = slices.Insert(order, neighbourPlace(order, second, at), k)
	}
	return order
}

func neighbourPlace(order, list []string, at int) int {
	for i := at - 1; i >= 0; i-- {
		if p := slices.Index(order, list[i]); p >= 0 {
			return p + 1
		}
	}
	for i := at + 1; i < len(list); i++ {
		if p := slices.Index(order, list[i]); p >= 0 {
			return p
		}
	}
	return 0 // before what stands there by itself
}

// matchedList merges lists without keys: items of mine and theirs are known as
// those of base that they equal or are most like, whatever their order.
func (g *merger) matchedList(b, m, t *node) string {
	for i, it := range b.items {
		it.key = fmt.Sprintf("b%d", i)
	}
	matchItems(b, m, "m", false)
	matchItems(b, t, "t", true)
	for _, it := range t.items {
		if !strings.HasPrefix(it.key, "t") || it.comment() {
			continue
		}
		for _, own := range m.items {
			if strings.HasPrefix(own.key, "m") && !own.comment() && rivals(own, it) {
				own.key = it.key
				break
			}
		}
	}
	return g.keyedList(b, m, t)
}

// rivals reports whether two new elements stand for one thing: one method and
// path with two handlers, for instance.
func rivals(m, t *item) bool {
	if m.body.sum == t.body.sum {
		return true
	}
	if m.body.known != "" && t.body.known != "" {
		return m.body.known == t.body.known
	}
	of, it := literals(m), literals(t)
	if len(of)+len(it) > 0 {
		return slices.Equal(of, it)
	}
	return len(m.body.marks) > 1 && markLikeness(m, t) >= 0.5
}

// literals are the strings among the parts of an element.
func literals(i *item) []string {
	var list []string
	for _, mark := range i.body.marks {
		if strings.HasPrefix(mark, `"`) || strings.HasPrefix(mark, "`") {
			list = append(list, mark)
		}
	}
	return list
}

// namedOnce are the places of the items whose name no other item of the list has.
func namedOnce(items []*item) map[string]int {
	places := map[string]int{}
	for i, it := range items {
		if it.comment() || it.body.known == "" {
			continue
		}
		if _, twice := places[it.body.known]; twice {
			places[it.body.known] = -1
			continue
		}
		places[it.body.known] = i
	}
	maps.DeleteFunc(places, func(_ string, i int) bool { return i < 0 })
	return places
}

// literal reports whether an element is a literal whose fields have keys, one of
// which names it.
func (n *node) literal() bool {
	return n.known != "" && slices.ContainsFunc(n.parts, func(p *node) bool { return p.form == keyed && p.name == "literal" })
}

func markLikeness(a, b *item) float64 { return alike(a.body.marks, b.body.marks) }

// sameLiteral reports whether the first string of two rows is the same.
func sameLiteral(a, b *item) bool {
	la, lb := firstLiteral(a), firstLiteral(b)
	return la != "" && la == lb
}

func firstLiteral(i *item) string {
	if list := literals(i); len(list) > 0 {
		return list[0]
	}
	return ""
}

// matchItems gives the items of a list the keys of those of base that they
// stand for: the ones of their names, then equal ones, then the most alike ones.
// Strict is for renderings, in which a literal with another name is another one.
func matchItems(b, x *node, prefix string, strict bool) {
	taken := map[int]bool{}
	given := make([]bool, len(x.items))
	inB := namedOnce(b.items)
	for name, i := range namedOnce(x.items) {
		if j, both := inB[name]; both {
			x.items[i].key, given[i], taken[j] = b.items[j].key, true, true
		}
	}
	match := func(fits func(of, it *item) float64, least float64) {
		for i, it := range x.items {
			if given[i] {
				continue
			}
			best, likeness := -1, least
			for j, of := range b.items {
				if taken[j] || of.comment() != it.comment() {
					continue
				}
				if l := fits(of, it); l > likeness {
					best, likeness = j, l
				}
			}
			if best >= 0 {
				it.key, given[i], taken[best] = b.items[best].key, true, true
			}
		}
	}
	match(func(of, it *item) float64 {
		if of.sum == it.sum {
			return 1
		}
		return 0
	}, 0.5)
	match(func(of, it *item) float64 {
		if of.comment() || !(of.bodySum() == it.bodySum()) {
			return 0
		}
		return 1
	}, 0.5)
	match(func(of, it *item) float64 {
		if of.comment() || strict && of.body.literal() && it.body.literal() && of.body.known != it.body.known {
			return 0
		}
		l := markLikeness(of, it)
		if sameLiteral(of, it) {
			l = max(l, 0.51)
		}
		return l
	}, 0.5)
	for i, it := range x.items {
		if !given[i] {
			it.key = fmt.Sprintf("%s%d", prefix, i)
			if it.comment() {
				it.key = "//" + it.sum
			}
		}
	}
}

// alignCases gives a case of x that has no counterpart in b the key of the one
// that it is most like.
func alignCases(b, x *node) {
	inB, inX := byKey(b.items), byKey(x.items)
	for _, it := range x.items {
		if it.comment() || inB[it.key] != nil {
			continue
		}
		var best *item
		likeness := 0.5
		for _, of := range b.items {
			if of.comment() || inX[of.key] != nil {
				continue
			}
			if l := alike(bag(of.body.sum), bag(it.body.sum)); l >= likeness {
				best, likeness = of, l
			}
		}
		if best != nil {
			it.key = best.key
			inX[best.key] = it
		}
	}
}
