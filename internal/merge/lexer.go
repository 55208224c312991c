package merge

import (
	"go/token"
	"strings"
	"unicode"
	"unicode/utf8"
)

// dialect is what the lexer must know of a language.
type dialect struct {
	lineComment  []string
	blockComment bool
	quotes       string // characters that start and end a string
	doubled      bool   // a quote inside a string is written twice
	escapes      bool   // a backslash escapes
	dollar       bool   // $tag$ … $tag$ is a string
}

var (
	jsonDialect       = dialect{quotes: `"`, escapes: true}
	sqlDialect        = dialect{lineComment: []string{"--"}, blockComment: true, quotes: "'\"`", doubled: true, dollar: true}
	typeScriptDialect = dialect{lineComment: []string{"//"}, blockComment: true, quotes: "'\"`", escapes: true}
)

var brackets2tokens = map[byte]token.Token{
	'(': token.LPAREN, ')': token.RPAREN, '[': token.LBRACK, ']': token.RBRACK, '{': token.LBRACE, '}': token.RBRACE,
	',': token.COMMA, ';': token.SEMICOLON, ':': token.COLON, '=': token.ASSIGN,
}

// lex cuts a text into tokens. False means that a string or comment has no
// end, or brackets do not match.
func lex(path, text string, d dialect) (*source, bool) {
	s := newSource(path, text)
	var open []byte
	for at := 0; at < len(text); {
		length, tok := d.token(text[at:])
		if length <= 0 {
			return nil, false
		}
		if tok != token.ILLEGAL {
			s.add(tok, at, text[at:at+length])
		}
		switch c := text[at]; tok {
		case token.LPAREN, token.LBRACK, token.LBRACE:
			open = append(open, c)
		case token.RPAREN, token.RBRACK, token.RBRACE:
			if len(open) == 0 || !pairs(open[len(open)-1], c) {
				return nil, false
			}
			open = open[:len(open)-1]
		}
		at += length
	}
	s.trailingCommas()
	return &s, len(open) == 0
}

func pairs(open, closing byte) bool {
	return open == '(' && closing == ')' || open == '[' && closing == ']' || open == '{' && closing == '}'
}

// token is the length of the token at the start of a text; ILLEGAL stands for
// white space. No length means that the token has no end.
func (d dialect) token(s string) (int, token.Token) {
	c := s[0]
	for _, mark := range d.lineComment {
		if strings.HasPrefix(s, mark) {
			if end := strings.IndexByte(s, '\n'); end >= 0 {
				return end, token.COMMENT
			}
			return len(s), token.COMMENT
		}
	}
	switch {
	case d.blockComment && strings.HasPrefix(s, "/*"):
		return strings.Index(s[2:], "*/") + 4 - missing(s[2:], "*/")*len(s), token.COMMENT
	case strings.IndexByte(d.quotes, c) >= 0:
		return d.quoted(s), token.STRING
	case d.dollar && c == '$':
		if n := dollarQuoted(s); n > 0 {
			return n, token.STRING
		}
	case c == ' ' || c == '\t' || c == '\n' || c == '\r':
		return 1, token.ILLEGAL
	}
	if tok, ok := brackets2tokens[c]; ok {
		return 1, tok
	}
	n := 0
	for n < len(s) {
		r, size := utf8.DecodeRuneInString(s[n:])
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '_' && r != '$' && r != '.' {
			break
		}
		n += size
	}
	if n > 0 {
		return n, token.IDENT
	}
	_, size := utf8.DecodeRuneInString(s)
	return size, token.QUO
}

func missing(s, part string) int {
	if strings.Contains(s, part) {
		return 0
	}
	return 1
}

// quoted is the length of a string, or 0.
func (d dialect) quoted(s string) int {
	for i := 1; i < len(s); i++ {
		switch {
		case d.escapes && s[i] == '\\':
			i++
		case s[i] != s[0]:
		case d.doubled && i+1 < len(s) && s[i+1] == s[0]:
			i++
		default:
			return i + 1
		}
	}
	return 0
}

func dollarQuoted(s string) int {
	end := strings.IndexByte(s[1:], '$')
	if end < 0 || strings.ContainsAny(s[1:end+1], " \t\n;,()'") {
		return 0
	}
	tag := s[:end+2]
	rest := strings.Index(s[len(tag):], tag)
	if rest < 0 {
		return 0
	}
	return rest + 2*len(tag)
}

// match is the token that closes the bracket at a token, by their places.
func (s *source) match(toks []lexeme, open int) int {
	depth := 0
	for i := open; i < len(toks); i++ {
		switch toks[i].tok {
		case token.LPAREN, token.LBRACK, token.LBRACE:
			depth++
		case token.RPAREN, token.RBRACK, token.RBRACE:
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return len(toks) - 1
}

// parts are stretches of tokens between separators outside of brackets; a
// separator is told by the function, and belongs to none.
func (s *source) parts(toks []lexeme, separates func(before []lexeme, t lexeme) bool) [][]lexeme {
	var list [][]lexeme
	var part []lexeme
	for i := 0; i < len(toks); i++ {
		t := toks[i]
		if separates(part, t) {
			list, part = appendPart(list, part), nil
			if t.tok == token.COMMA || t.tok == token.SEMICOLON {
				continue
			}
		}
		switch t.tok {
		case token.LPAREN, token.LBRACK, token.LBRACE:
			end := s.match(toks, i)
			part = append(part, toks[i:end+1]...)
			i = end
		default:
			part = append(part, t)
		}
	}
	return appendPart(list, part)
}

// appendPart adds a part without the comments at its ends.
func appendPart(list [][]lexeme, part []lexeme) [][]lexeme {
	for len(part) > 0 && part[0].comment() {
		part = part[1:]
	}
	for len(part) > 0 && part[len(part)-1].comment() {
		part = part[:len(part)-1]
	}
	if len(part) == 0 {
		return list
	}
	return append(list, part)
}

func code(part []lexeme) []lexeme {
	var list []lexeme
	for _, t := range part {
		if !t.comment() {
			list = append(list, t)
		}
	}
	return list
}
