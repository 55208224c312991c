package merge

import (
	"go/token"
	"sort"
	"strings"
)

// source is a text with its tokens, of Go or of another language. The kinds of
// tokens are Go's; only comments, brackets, commas and semicolons are told
// apart.
type source struct {
	path   string
	text   string
	toks   []lexeme
	starts []int // of lines
}

func newSource(path, text string) source {
	s := source{path: path, text: text, starts: []int{0}}
	for i := range len(text) {
		if text[i] == '\n' {
			s.starts = append(s.starts, i+1)
		}
	}
	return s
}

type lexeme struct {
	from, to int
	line     int // of the first byte
	end      int // line of the last byte
	tok      token.Token
	text     string // as it counts for equality
	raw      bool   // a comma before a closing bracket: layout
}

func (t lexeme) comment() bool { return t.tok == token.COMMENT }

func (s *source) add(tok token.Token, from int, text string) {
	t := lexeme{from: from, to: from + len(text), tok: tok, text: text, line: s.lineAt(from)}
	t.end = t.line + strings.Count(text, "\n")
	if tok == token.COMMENT {
		t.text = plainComment(text)
	}
	s.toks = append(s.toks, t)
}

// trailingCommas marks the commas that are layout.
func (s *source) trailingCommas() {
	for i := range s.toks {
		s.toks[i].raw = s.toks[i].tok == token.COMMA && s.closes(i+1)
	}
}

func (s *source) closes(at int) bool {
	for ; at < len(s.toks); at++ {
		switch s.toks[at].tok {
		case token.COMMENT:
		case token.RPAREN, token.RBRACK, token.RBRACE:
			return true
		default:
			return false
		}
	}
	return false
}

// plainComment is a comment without its layout.
func plainComment(text string) string {
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		lines[i] = strings.TrimSpace(line)
	}
	return strings.Join(lines, "\n")
}

// between are the tokens that start in [from, to).
func (s *source) between(from, to int) []lexeme {
	low := sort.Search(len(s.toks), func(i int) bool { return s.toks[i].from >= from })
	high := sort.Search(len(s.toks), func(i int) bool { return s.toks[i].from >= to })
	return s.toks[low:max(low, high)]
}

// sum is the canonical text of a stretch: its tokens with comments, without
// layout.
func (s *source) sum(from, to int) string {
	var b strings.Builder
	for _, t := range s.between(from, to) {
		if !t.raw {
			b.WriteString(t.text)
			b.WriteString(tokenBreak)
		}
	}
	return b.String()
}

// lineAt is the line of an offset, from 1.
func (s *source) lineAt(offset int) int { return sort.SearchInts(s.starts, offset+1) }

func (s *source) slice(name string, from, to int) *node {
	return &node{form: atom, name: name, text: s.text[from:to], sum: s.sum(from, to), line: s.lineAt(from)}
}

// element is what a list is told of one of its items.
type element struct {
	from, to int
	key      string
	kind     string
	what     string
	body     func() *node
	names    []string // of several things declared at once
	each     func(i int) *node
}

// extent is where a list is: its own text from head to stop, what it holds
// from open to end. Between them are the brackets.
type extent struct{ head, open, end, stop int }

func brackets(left, right int) extent { return extent{left, left + 1, right, right + 1} }

// list cuts a stretch into items.
func (s *source) list(f form, name string, x extent, comma bool, elements []element) *node {
	n := &node{form: f, name: name, comma: comma, line: s.lineAt(x.head), open: s.text[x.head:x.open],
		text: s.text[x.head:x.stop], sum: s.sum(x.head, x.stop)}
	at, end := x.open, x.end
	for i, e := range elements {
		var doc int
		at, doc = s.above(n, at, e.from)
		it := &item{key: e.key, kind: e.kind, what: e.what, line: s.lineAt(e.from)}
		it.lead, it.doc = s.text[at:doc], s.text[doc:e.from]
		next := end
		if i+1 < len(elements) {
			next = elements[i+1].from
		}
		at = s.behind(it, e.to, next, i+1 < len(elements))
		if len(e.names) > 1 {
			s.split(n, it, e)
			continue
		}
		it.body = e.body()
		it.count()
		n.items = append(n.items, it)
	}
	at, doc := s.above(n, at, end)
	if doc < end && strings.TrimSpace(s.text[doc:end]) != "" {
		n.items = append(n.items, s.standing(at, doc, doc+len(strings.TrimRight(s.text[doc:end], " \t\n"))))
		at = doc + len(strings.TrimRight(s.text[doc:end], " \t\n"))
	}
	n.tail = s.text[at:x.stop]
	return n
}

// split makes one item of each name of an element that declares several.
func (s *source) split(n *node, whole *item, e element) {
	shared := &combo{text: s.text[e.from:e.to], size: len(e.names)}
	for i, name := range e.names {
		part := *whole
		part.key, part.combo = name, shared
		part.body = e.each(i)
		if i > 0 {
			part.doc = ""
			part.lead = " "
			if at := strings.LastIndexByte(whole.lead, '\n'); at >= 0 {
				part.lead = whole.lead[at:]
			}
		}
		if i < len(e.names)-1 {
			part.mid, part.trail = "", ""
		}
		part.count()
		n.items = append(n.items, &part)
	}
}

// above takes the comments between at and from that stand alone into the list
// and returns where the rest starts and where what belongs to the next item
// does.
func (s *source) above(n *node, at, from int) (rest, doc int) {
	var groups [][2]int
	var lines [][2]int
	for _, t := range s.between(at, from) {
		if !t.comment() {
			continue
		}
		if k := len(groups) - 1; k >= 0 && t.line <= lines[k][1]+1 {
			groups[k][1], lines[k][1] = t.to, t.end
			continue
		}
		groups = append(groups, [2]int{t.from, t.to})
		lines = append(lines, [2]int{t.line, t.end})
	}
	below := s.lineAt(from)
	for k, g := range groups {
		if k == len(groups)-1 && lines[k][1] >= below-1 {
			return at, g[0]
		}
		n.items = append(n.items, s.standing(at, g[0], g[1]))
		at = g[1]
	}
	return at, at + leading(s.text[at:from])
}

// leading is the length of the white space before an item, all that there is.
func leading(s string) int { return len(s) - len(strings.TrimLeft(s, " \t\n")) }

func (s *source) standing(at, from, to int) *item {
	sum := s.sum(from, to)
	return &item{key: "//" + sum, kind: "comment", what: "comment", lead: s.text[at:from], doc: s.text[from:to], sum: sum, line: s.lineAt(from)}
}

// behind takes the separator and the comments behind an item on its line.
func (s *source) behind(it *item, to, next int, more bool) int {
	at := to
	line := s.lineAt(max(to-1, 0))
	toks := s.between(to, next)
	ahead := 0 // where the separator must stand: behind nothing but comments
	for ahead < len(toks) && toks[ahead].comment() {
		ahead++
	}
	separated := ahead < len(toks) && (toks[ahead].tok == token.COMMA || toks[ahead].tok == token.SEMICOLON)
	for i, t := range toks {
		switch {
		case separated && i < ahead: // comes with the separator
		case (t.tok == token.COMMA || t.tok == token.SEMICOLON) && it.sep == "" && i == ahead:
			it.mid, it.sep = s.text[to:t.from], t.text
			at = t.to
			line = s.lineAt(t.from)
		case t.comment() && t.line == line && !(more && i == len(toks)-1 && s.lineAt(next) == t.end):
			start := at
			if it.trail != "" {
				start -= len(it.trail)
			}
			it.trail = s.text[start:t.to]
			at = t.to
		default:
			return at
		}
	}
	return at
}

func joined(f form, name string, parts ...*node) *node {
	n := &node{form: f, name: name, parts: parts}
	var text, sum strings.Builder
	for _, p := range parts {
		text.WriteString(p.text)
		sum.WriteString(p.sum)
		if n.line == 0 {
			n.line = p.line
		}
	}
	n.text, n.sum = text.String(), sum.String()
	return n
}

func (s *source) lines(name string, from, to int) *node {
	n := &node{form: rawLines, name: name, text: s.text[from:to], sum: s.sum(from, to), line: s.lineAt(from)}
	line := n.line
	for i, text := range strings.Split(n.text, "\n") {
		it := &item{kind: "line", what: "line", sum: text, line: line + i, body: &node{name: "line", text: text, sum: text, line: line + i}}
		if i > 0 {
			it.lead = "\n"
		}
		n.items = append(n.items, it)
	}
	return n
}
