package sqlite

import (
	"strings"
	"unicode/utf8"
)

// tokenKind tells the tokens of SQLite's SQL apart, as far as the scans of this
// package care.
type tokenKind uint8

const (
	wordToken tokenKind = iota // a keyword, a bare name or a number
	nameToken                  // a quoted name
	textToken                  // a string
	commentToken
	signToken // a single character
)

type token struct {
	kind     tokenKind
	text     string // a name or comment without its quotes or signs
	from, to int    // in the source, in bytes
	line     int    // on which it begins, from 1
}

func (t token) is(word string) bool { return t.kind == wordToken && strings.EqualFold(t.text, word) }
func (t token) sign(c string) bool  { return t.kind == signToken && t.text == c }

// scanTokens splits SQL into tokens. It takes any text: what is not closed
// ends with the text.
func scanTokens(source string) []token {
	var list []token
	line := 1
	for at := 0; at < len(source); {
		t := nextToken(source, at)
		t.line = line
		line += strings.Count(source[at:t.to], "\n")
		at = t.to
		if t.text != "" || t.kind == textToken || t.kind == nameToken {
			list = append(list, t)
		}
	}
	return list
}

func nextToken(source string, at int) token {
	rest := source[at:]
	c := rest[0]
	switch {
	case c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f':
		return token{kind: signToken, from: at, to: at + 1}
	case strings.HasPrefix(rest, "--"):
		end := indexOr(rest, "\n", len(rest))
		return token{kind: commentToken, text: strings.TrimSpace(rest[2:end]), from: at, to: at + end}
	case strings.HasPrefix(rest, "/*"):
		end := indexOr(rest[2:], "*/", len(rest)-2) + 2
		return token{kind: commentToken, text: strings.TrimSpace(rest[2:end]), from: at, to: min(at+end+2, len(source))}
	case c == '\'':
		text, n := quotedText(rest, '\'')
		return token{kind: textToken, text: text, from: at, to: at + n}
	case c == '"' || c == '`':
		text, n := quotedText(rest, c)
		return token{kind: nameToken, text: text, from: at, to: at + n}
	case c == '[':
		end := indexOr(rest, "]", len(rest))
		return token{kind: nameToken, text: rest[1:end], from: at, to: min(at+end+1, len(source))}
	case wordByte(c):
		n := 0
		for n < len(rest) && (wordByte(rest[n]) || rest[n] == '.' && numberDot(rest, n)) {
			n++
		}
		return token{kind: wordToken, text: rest[:n], from: at, to: at + n}
	}
	_, n := utf8.DecodeRuneInString(rest)
	return token{kind: signToken, text: rest[:n], from: at, to: at + n}
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

// quotedText reads a text whose quotes are doubled inside it, and returns it
// with the number of bytes it takes in the source.
func quotedText(s string, quote byte) (string, int) {
	var text strings.Builder
	for i := 1; i < len(s); i++ {
		if s[i] != quote {
			text.WriteByte(s[i])
			continue
		}
		if i+1 < len(s) && s[i+1] == quote {
			i++
			text.WriteByte(quote)
			continue
		}
		return text.String(), i + 1
	}
	return text.String(), len(s)
}

// sqlStatement is one statement of a script.
type sqlStatement struct {
	text string
	line int
}

// splitStatements splits a script at the semicolons that end statements. Those
// in the body of a trigger do not.
func splitStatements(source string) []sqlStatement {
	var list []sqlStatement
	var words []token // of the statement so far
	depth := 0        // of BEGIN and CASE inside a trigger
	for _, t := range scanTokens(source) {
		if t.kind == commentToken {
			continue
		}
		if t.sign(";") && depth == 0 {
			if len(words) > 0 {
				list = append(list, sqlStatement{source[words[0].from:t.from], words[0].line})
			}
			words = nil
			continue
		}
		words = append(words, t)
		if !isTrigger(words) {
			continue
		}
		switch {
		case t.is("BEGIN"), t.is("CASE"):
			depth++
		case t.is("END"):
			depth = max(depth-1, 0)
		}
	}
	if len(words) > 0 {
		list = append(list, sqlStatement{source[words[0].from:words[len(words)-1].to], words[0].line})
	}
	return list
}

func isTrigger(words []token) bool {
	if !words[0].is("CREATE") {
		return false
	}
	for _, t := range words[1:min(len(words), 3)] {
		if t.is("TRIGGER") {
			return true
		}
	}
	return false
}
