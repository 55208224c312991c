package golang

import "bytes"

// sameButLayout reports whether a text that is not laid out yet is one that is, but
// for the space at the beginning and the end of lines and between words. It may
// report false for texts that are the same.
func sameButLayout(text, laidOut []byte) bool {
	a, b := layout{text: text}, layout{text: laidOut}
	for {
		x, y := a.next(), b.next()
		if x != y || a.unsure || b.unsure {
			return false
		}
		if x == 0 {
			return true
		}
	}
}

// layout goes through a Go text byte by byte. It takes all space between words for one,
// none of it at the ends of a line, and several empty lines for one.
type layout struct {
	text    []byte
	at      int
	inside  byte // the quote that the text is inside of, or '/' for a comment; 0 for code
	escaped bool // the next byte ends no quote
	lines   int  // line ends that come one after another
	unsure  bool // a raw string has several lines, or there is a comment of several
}

// next is the next byte that counts, or 0 at the end.
func (l *layout) next() byte {
	if l.inside == 0 && l.at < len(l.text) && blank(l.text[l.at]) {
		from := l.at
		for l.at < len(l.text) && blank(l.text[l.at]) {
			l.at++
		}
		ends := l.at == len(l.text) || l.text[l.at] == '\n'
		if begins := from == 0 || l.text[from-1] == '\n'; !begins && !ends {
			return ' '
		}
	}
	if l.at == len(l.text) {
		return 0
	}
	c := l.text[l.at]
	l.at++
	if c == '\n' {
		if l.lines++; l.lines > 2 && l.inside == 0 {
			return l.next()
		}
	} else {
		l.lines = 0
	}
	switch {
	case c == '\n':
		l.unsure = l.unsure || l.inside == '`'
		l.inside = 0
	case l.escaped:
		l.escaped = false
	case c == '\\' && (l.inside == '"' || l.inside == '\''):
		l.escaped = true
	case l.inside != 0 && c == l.inside && c != '/':
		l.inside = 0
	case l.inside != 0:
	case c == '"' || c == '`' || c == '\'':
		l.inside = c
	case c == '/' && bytes.HasPrefix(l.text[l.at:], []byte("/")):
		l.inside = '/'
	case c == '/' && bytes.HasPrefix(l.text[l.at:], []byte("*")):
		l.unsure = true
	}
	return c
}

func blank(c byte) bool { return c == ' ' || c == '\t' || c == '\r' }
