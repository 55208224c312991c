package merge

import "strings"

// form says how the changes of two sides to one thing are brought together.
type form int

const (
	atom     form = iota // one side may change it
	slots                // each part by itself
	single               // part by part, but all changes must lie in one of them
	keyed                // a list whose items are known by their keys
	matched              // a list without keys, its items known by what is in them
	ordered              // a list whose order counts
	rawLines             // the lines of a raw string, in order
)

func (f form) list() bool { return f >= keyed }

// tokenBreak separates the tokens of a canonical text.
const tokenBreak = "\x00"

// node is a stretch of a file: an atom, or parts, or the items of a list.
type node struct {
	form form
	name string // what it is to what it lies in: "type", "body", …
	text string // as it stands in the file
	sum  string // its tokens with comments: equal sums mean equal but for layout
	line int

	parts []*node  // of slots and single: their texts make up text
	items []*item  // of a list
	open  string   // of a list: the text before the first item …
	tail  string   // … and after the last
	comma bool     // items of the list are separated by commas …
	ended bool     // a semicolon ends each item but perhaps the last
	bare  bool     // … and none stands behind the last
	marks []string // of an element of a list without keys: its parts, for likeness
	known string   // of an element or argument: the name that it carries, if it does
}

// item is one thing in a list, with the comments that belong to it.
type item struct {
	key   string
	kind  string // of a statement: items of different kinds are never paired
	what  string // for messages: "field", "parameter", …
	lead  string // white space before it
	doc   string // comments above it, up to where it starts
	body  *node  // nil: a comment that stands alone, which is then in doc
	mid   string // comments between it and its separator, with the space before
	sep   string
	trail string // comments behind it on its line, with the space between
	sum   string // of doc, body and trail
	line  int
	combo *combo // set if it shares its text with others
}

// combo is one text that declares several items: A, B int.
type combo struct {
	text string
	size int
}

func (i *item) comment() bool { return i.body == nil }

// count sets what the item is compared by.
func (i *item) count() {
	i.sum = plainComment(strings.TrimSpace(i.doc)) + tokenBreak + i.body.sum + tokenBreak + strings.TrimSpace(i.mid+i.trail)
}

func (i *item) bodySum() string {
	if i.body == nil {
		return ""
	}
	return i.body.sum
}

// text is the item as it stands in a list, without the space before it.
func (i *item) text() string {
	if i.body == nil {
		return i.doc
	}
	return i.doc + i.body.text + i.mid + i.sep + i.trail
}

// retold is the item with another text in its body.
func (i *item) retold(doc, body, trail, lead string) *item {
	changed := *i
	if i.body != nil {
		n := *i.body
		n.text = body
		changed.body = &n
	}
	changed.doc, changed.trail, changed.lead = doc, trail, lead
	if i.text() != changed.text() {
		changed.combo = nil
	}
	return &changed
}

func (n *node) broken() bool {
	if strings.Contains(n.tail, "\n") {
		return true
	}
	for _, i := range n.items {
		if strings.Contains(i.lead, "\n") {
			return true
		}
	}
	return false
}

// written lays the items of a merged list out between its ends.
func (n *node) written(items []*item, tail string) string {
	var b strings.Builder
	b.WriteString(n.open)
	items = combined(items)
	multi := strings.Contains(tail, "\n")
	for _, i := range items {
		multi = multi || strings.Contains(i.lead, "\n")
	}
	bracketed := strings.TrimSpace(tail) != ""
	if multi && bracketed && len(items) > 0 && !strings.Contains(tail, "\n") && !n.broken() {
		tail = "\n" + tail
	}
	last := len(items) - 1
	for last >= 0 && items[last].comment() {
		last--
	}
	lineComment := false
	for at, i := range items {
		lead := i.lead
		if at > 0 && !strings.Contains(lead, "\n") && (lineComment || multi && !n.comma && n.form != rawLines) {
			lead = "\n"
		}
		if at == 0 && lead != "" && !strings.Contains(lead, "\n") && n.comma && !multi {
			lead = strings.TrimLeft(lead, " ")
		}
		if at > 0 && lead == "" && n.comma {
			lead = " "
		}
		b.WriteString(lead)
		if i.body == nil {
			b.WriteString(i.doc)
			lineComment = strings.HasPrefix(i.doc, "//")
			continue
		}
		b.WriteString(i.doc + i.body.text + i.mid + n.separator(items, at, last, tail) + i.trail)
		lineComment = strings.Contains(i.trail, "//")
	}
	if lineComment && bracketed && !strings.Contains(tail, "\n") {
		tail = "\n" + tail
	}
	b.WriteString(tail)
	return b.String()
}

// separator is what must stand behind an item where it now is.
func (n *node) separator(items []*item, at, last int, tail string) string {
	if !n.comma {
		if at < last && !strings.Contains(items[at+1].lead, "\n") && n.form != rawLines {
			return ";"
		}
		if n.ended && at < last {
			return ";"
		}
		return items[at].sep
	}
	if at == last && (n.bare || !strings.Contains(tail, "\n") && (at == len(items)-1 || !strings.Contains(items[at+1].lead, "\n"))) {
		return ""
	}
	return ","
}

// combined puts the shared text of items that are all there and unchanged in
// their place.
func combined(items []*item) []*item {
	var list []*item
	for at := 0; at < len(items); at++ {
		i := items[at]
		if i.combo == nil {
			list = append(list, i)
			continue
		}
		end := at
		for end < len(items) && items[end].combo == i.combo {
			end++
		}
		if end-at < i.combo.size {
			for ; at < end; at++ {
				alone := *items[at]
				alone.combo = nil
				if len(list) > 0 && alone.lead == "" {
					alone.lead = i.lead
				}
				list = append(list, &alone)
			}
			at--
			continue
		}
		whole := *i
		body := *i.body
		body.text = i.combo.text
		whole.body = &body
		whole.mid, whole.trail, whole.sep = items[end-1].mid, items[end-1].trail, items[end-1].sep
		list = append(list, &whole)
		at = end - 1
	}
	return list
}
