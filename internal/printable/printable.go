// Package printable shows texts that others chose.
//
// The names, comments and definitions of a schema, and what a server says, may
// hold characters that act on a terminal, that hide text from the reader or turn
// it around. Here they become escapes: \u and four hexadecimal digits, which is
// also how JSON spells them, so that JSON may pass through and stay the same
// value. Letters of any script, emoji and the joiners that they need are left.
package printable

import (
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// Acts reports whether a character acts on a terminal or on the order of the
// text, or is there without being seen; line ends and tabs do not count.
func Acts(r rune) bool {
	switch {
	case r == '\n' || r == '\t' || r == '\u200c' || r == '\u200d': // the last two join letters and emoji
		return false
	case r == '\u2028' || r == '\u2029':
		return true
	}
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r)
}

// Text replaces what acts on a terminal; line ends and tabs stay.
func Text(s string) string { return escaped(s, Acts) }

// Line is Text for what must stay in its line: line ends and tabs are replaced
// too.
func Line(s string) string {
	return escaped(s, func(r rune) bool { return r == '\n' || r == '\t' || Acts(r) })
}

func escaped(s string, acts func(rune) bool) string {
	if utf8.ValidString(s) && !strings.ContainsFunc(s, acts) {
		return s
	}
	var b strings.Builder
	for _, r := range s { // bytes that are no UTF-8 become U+FFFD
		switch {
		case !acts(r):
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&b, `\u%04x\u%04x`, high, low)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.String()
}

// Writer passes on what is written to it as Text does.
type Writer struct {
	to   io.Writer
	rest []byte // the beginning of a character whose end has not come yet
}

// NewWriter returns a writer in front of another one.
func NewWriter(to io.Writer) *Writer { return &Writer{to: to} }

// Behind is the writer that texts are passed on to.
func (w *Writer) Behind() io.Writer { return w.to }

// Write writes to the writer behind. It reports all of p as written, or an
// error.
func (w *Writer) Write(p []byte) (int, error) {
	all := append(w.rest, p...)
	end := len(all)
	for back := 1; back < utf8.UTFMax && back <= len(all); back++ {
		if at := len(all) - back; utf8.RuneStart(all[at]) {
			if !utf8.FullRune(all[at:]) {
				end = at
			}
			break
		}
	}
	w.rest = append([]byte(nil), all[end:]...)
	if _, err := io.WriteString(w.to, Text(string(all[:end]))); err != nil {
		return 0, err
	}
	return len(p), nil
}
