package sqltext

import (
	"strconv"
	"strings"
	"unicode/utf8"
)

// Kind tells the tokens of SQL apart, as far as splitting and the scans of
// declarations care.
type Kind uint8

// The kinds of tokens.
const (
	Word Kind = iota // a keyword, a bare name or a number
	QuotedName
	Text // a string
	Comment
	Sign // a single character
)

// Token is a token of SQL.
type Token struct {
	Kind     Kind
	Text     string // a name, string or comment without its quotes or signs
	From, To int    // in the source, in bytes
	Line     int    // on which it begins, from 1
}

// Is reports whether the token is a keyword or bare name, in any case.
func (t Token) Is(word string) bool { return t.Kind == Word && strings.EqualFold(t.Text, word) }

// Sign reports whether the token is the sign c.
func (t Token) Sign(c string) bool { return t.Kind == Sign && t.Text == c }

// Scan splits SQL into tokens. It takes any text: what is not closed ends with
// the text.
func Scan(source string, d *Dialect) []Token {
	var list []Token
	line := 1
	for at := 0; at < len(source); {
		t := Next(source, at, d)
		t.Line = line
		line += strings.Count(source[at:t.To], "\n")
		at = t.To
		if t.Text != "" || t.Kind == Text || t.Kind == QuotedName {
			list = append(list, t)
		}
	}
	return list
}

// Next returns the token at a place; white space is a sign without text.
func Next(source string, at int, d *Dialect) Token {
	rest := source[at:]
	c := rest[0]
	switch {
	case c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f':
		return Token{Kind: Sign, From: at, To: at + 1}
	case beginsLineComment(rest, d):
		end := len(rest)
		if at := strings.IndexAny(rest, d.lineEnds()); at >= 0 {
			end = at
		}
		return Token{Kind: Comment, Text: strings.TrimSpace(strings.TrimLeft(rest[:end], "-#")), From: at, To: at + end}
	case strings.HasPrefix(rest, "/*"):
		end := commentEnd(rest, d)
		return Token{Kind: Comment, Text: strings.TrimSpace(strings.TrimSuffix(rest[2:end], "*/")), From: at, To: at + end}
	case strings.IndexByte(d.TextQuotes, c) >= 0:
		text, n := quoted(rest, c, d.Escapes)
		return Token{Kind: Text, Text: text, From: at, To: at + n}
	case (c == 'E' || c == 'e') && d.MarkedEscapes != nil && strings.HasPrefix(rest[1:], "'"):
		text, n := quoted(rest[1:], '\'', d.MarkedEscapes)
		return Token{Kind: Text, Text: text, From: at, To: at + 1 + n}
	case c == '[' && strings.IndexByte(d.NameQuotes, c) >= 0:
		end := indexOr(rest, "]", len(rest))
		return Token{Kind: QuotedName, Text: rest[1:end], From: at, To: min(at+end+1, len(source))}
	case strings.IndexByte(d.NameQuotes, c) >= 0:
		text, n := quoted(rest, c, nil)
		return Token{Kind: QuotedName, Text: text, From: at, To: at + n}
	case c == '$' && d.DollarTexts:
		if text, n := dollarQuoted(rest); n > 0 {
			return Token{Kind: Text, Text: text, From: at, To: at + n}
		}
	case wordByte(c):
		n := 0
		for n < len(rest) && (wordByte(rest[n]) || rest[n] == '.' && numberDot(rest, n)) {
			n++
		}
		return Token{Kind: Word, Text: rest[:n], From: at, To: at + n}
	}
	_, n := utf8.DecodeRuneInString(rest)
	return Token{Kind: Sign, Text: rest[:n], From: at, To: at + n}
}

// beginsLineComment reports whether a comment begins that ends with the line.
func beginsLineComment(s string, d *Dialect) bool {
	if d.HashComments {
		return s[0] == '#' || strings.HasPrefix(s, "--") && (len(s) == 2 || s[2] <= ' ')
	}
	return strings.HasPrefix(s, "--")
}

// commentEnd returns where the comment that s begins with ends.
func commentEnd(s string, d *Dialect) int {
	depth := 0
	for at := 0; at < len(s)-1; at++ {
		switch s[at : at+2] {
		case "/*":
			if depth == 0 || d.NestedComments {
				depth++
			}
			at++
		case "*/":
			if depth--; depth == 0 {
				return at + 2
			}
			at++
		}
	}
	return len(s)
}

// dollarQuoted reads $tag$ text $tag$ and returns the text and its whole
// length, which is 0 where s begins with no such thing.
func dollarQuoted(s string) (string, int) {
	n := 1
	for n < len(s) && wordByte(s[n]) && s[n] != '$' {
		n++
	}
	if n >= len(s) || s[n] != '$' || n > 1 && s[1] >= '0' && s[1] <= '9' {
		return "", 0
	}
	tag := s[:n+1]
	end := strings.Index(s[len(tag):], tag)
	if end < 0 {
		return s[len(tag):], len(s)
	}
	return s[len(tag) : len(tag)+end], end + 2*len(tag)
}

// numberDot reports whether the dot at n stands inside a number such as 0.5.
func numberDot(s string, n int) bool {
	return s[0] >= '0' && s[0] <= '9' && !strings.Contains(s[:n], ".")
}

func wordByte(c byte) bool {
	return c == '_' || c == '$' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= utf8.RuneSelf
}

func indexOr(s, part string, other int) int {
	if at := strings.Index(s, part); at >= 0 {
		return at
	}
	return other
}

// coded reads the number of a character behind a backslash, as in \u00e9 and
// \x41, and returns how many bytes it takes.
func coded(s string) (rune, int) {
	for _, form := range []struct {
		sign   byte
		digits int
	}{{'u', 4}, {'U', 8}, {'x', 2}} {
		if len(s) > form.digits && s[0] == form.sign {
			if n, err := strconv.ParseUint(s[1:1+form.digits], 16, 32); err == nil {
				return rune(n), 1 + form.digits
			}
		}
	}
	return 0, 0
}

// quoted reads a text whose quotes are doubled inside it, or stand behind a
// backslash, and returns it with the number of bytes it takes in the source.
func quoted(s string, quote byte, behind *Escapes) (string, int) {
	var text strings.Builder
	for i := 1; i < len(s); i++ {
		switch {
		case behind != nil && s[i] == '\\' && i+1 < len(s):
			i++
			if r, n := coded(s[i:]); n > 0 && behind.Numbers {
				text.WriteRune(r)
				i += n - 1
			} else if escape, known := behind.Letters[s[i]]; known {
				text.WriteString(escape)
			} else {
				text.WriteByte(s[i])
			}
		case s[i] != quote:
			text.WriteByte(s[i])
		case i+1 < len(s) && s[i+1] == quote:
			i++
			text.WriteByte(quote)
		default:
			return text.String(), i + 1
		}
	}
	return text.String(), len(s)
}
