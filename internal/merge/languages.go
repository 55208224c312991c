package merge

import (
	"encoding/json"
	"fmt"
	"go/token"
	"path"
	"slices"
	"strings"
)

// text merges a file by the structure that its language gives it.
func (g *merger) text(name, b, m, t string) string {
	cut := cutters[strings.ToLower(path.Ext(name))]
	if cut == nil {
		return g.textLines(b, m, t)
	}
	nb, nm, nt := cut(b), cut(m), cut(t)
	if nm == nil && nb != nil {
		g.refuse("unreadable", "the file cannot be read as %s; mend it and run again", strings.TrimPrefix(path.Ext(name), "."))
		return m
	}
	if nb == nil || nm == nil || nt == nil {
		return g.textLines(b, m, t)
	}
	before := len(g.conflicts)
	merged := g.node(nb, nm, nt)
	if len(g.conflicts) == before && cut(merged) == nil {
		g.refuse("breaks", "the merged file could not be read")
	}
	return merged
}

// cutters make the tree of a file; nil means that it cannot be read.
var cutters = map[string]func(text string) *node{
	".json": cutJSON,
	".yaml": cutYAML,
	".yml":  cutYAML,
	".sql":  cutSQL,
	".ts":   cutTypeScript,
	".mts":  cutTypeScript,
}

// JSON

func cutJSON(text string) *node {
	if !json.Valid([]byte(text)) {
		return nil
	}
	s, ok := lex("", text, jsonDialect)
	if !ok || len(s.toks) == 0 {
		return nil
	}
	first, last := s.toks[0], s.toks[len(s.toks)-1]
	return joined(slots, "", s.slice("value", 0, first.from), s.jsonValue(s.toks), s.slice("value", last.to, len(text)))
}

func (s *source) jsonValue(toks []lexeme) *node {
	from, to := toks[0].from, toks[len(toks)-1].to
	inner := toks[1:max(len(toks)-1, 1)]
	comma := func(_ []lexeme, t lexeme) bool { return t.tok == token.COMMA }
	var n *node
	switch toks[0].tok {
	case token.LBRACE:
		var elements []element
		for _, part := range s.parts(inner, comma) {
			elements = append(elements, element{from: part[0].from, to: part[len(part)-1].to, key: part[0].text, what: "member", body: func() *node {
				return joined(slots, "member", s.slice("name", part[0].from, part[2].from), s.jsonValue(part[2:]))
			}})
		}
		n = s.list(keyed, "object", brackets(from, to-1), true, elements)
	case token.LBRACK:
		parts := s.parts(inner, comma)
		keys := jsonKeys(parts)
		var elements []element
		for i, part := range parts {
			e := element{from: part[0].from, to: part[len(part)-1].to, what: "element", kind: "element", body: func() *node { return s.jsonValue(part) }}
			if keys != nil {
				e.key, e.kind = keys[i], ""
			}
			elements = append(elements, e)
		}
		f := ordered
		if keys != nil || len(elements) == 0 {
			f = keyed
		}
		n = s.list(f, "array", brackets(from, to-1), true, elements)
	default:
		return s.slice("value", from, to)
	}
	n.bare = true
	return n
}

// jsonNames are the members that tell the objects of an array apart.
var jsonNames = []string{`"name"`, `"id"`, `"operationId"`, `"$ref"`, `"key"`, `"url"`}

// jsonKeys are keys for the elements of an array: scalars by their text,
// objects by what names them. Nil means that there are none.
func jsonKeys(parts [][]lexeme) []string {
	keys := make([]string, len(parts))
	seen := map[string]bool{}
	for i, part := range parts {
		if len(part) == 1 {
			keys[i] = part[0].text
		} else if part[0].tok == token.LBRACE {
			keys[i] = jsonName(part)
		}
		if keys[i] == "" || seen[keys[i]] {
			return nil
		}
		seen[keys[i]] = true
	}
	return keys
}

func jsonName(part []lexeme) string {
	var words []string
	for _, name := range jsonNames {
		depth := 0
		for i, t := range part {
			switch t.tok {
			case token.LBRACE, token.LBRACK:
				depth++
			case token.RBRACE, token.RBRACK:
				depth--
			}
			if depth == 1 && t.text == name && i+2 < len(part) && part[i+1].tok == token.COLON && part[i+2].tok != token.LBRACE {
				words = append(words, part[i+2].text)
			}
		}
	}
	if len(words) == 0 {
		return ""
	}
	return words[0]
}

// SQL

func cutSQL(text string) *node {
	s, ok := lex("", text, sqlDialect)
	if !ok {
		return nil
	}
	var elements []element
	seen := map[string]int{}
	for _, part := range s.parts(s.toks, func(_ []lexeme, t lexeme) bool { return t.tok == token.SEMICOLON }) {
		key := unique(seen, sqlKey(code(part)))
		from, to := part[0].from, part[len(part)-1].to
		elements = append(elements, element{from: from, to: to, key: key, what: "definition", kind: "named", body: func() *node { return s.sqlStatement(part) }})
	}
	n := s.list(keyed, "statements", extent{0, 0, len(text), len(text)}, false, elements)
	n.ended = true
	return n
}

// unique numbers a key that was seen before.
func unique(seen map[string]int, key string) string {
	if seen[key]++; seen[key] > 1 {
		return fmt.Sprintf("%s %d", key, seen[key])
	}
	return key
}

// sqlKey names a statement by what it creates, or by itself.
func sqlKey(toks []lexeme) string {
	words := make([]string, len(toks))
	for i, t := range toks {
		words[i] = strings.ToLower(t.text)
	}
	if words[0] == "create" {
		for i, w := range words[1:] {
			switch w {
			case "table", "view", "index", "type", "domain", "sequence", "trigger", "function", "procedure", "schema", "extension":
				rest := words[i+2:]
				for len(rest) > 1 && (rest[0] == "if" || rest[0] == "not" || rest[0] == "exists" || rest[0] == "concurrently") {
					rest = rest[1:]
				}
				if len(rest) > 0 {
					return w + " " + strings.Trim(rest[0], "\"`")
				}
			}
		}
	}
	return strings.Join(words, " ")
}

// sqlStatement cuts the columns of a table; the lines of anything else are
// merged in their order.
func (s *source) sqlStatement(part []lexeme) *node {
	from, to := part[0].from, part[len(part)-1].to
	table := false
	for i, t := range part {
		table = table || strings.EqualFold(t.text, "table")
		if t.tok != token.LPAREN || !table || !strings.EqualFold(part[0].text, "create") {
			continue
		}
		end := s.match(part, i)
		var elements []element
		for _, column := range s.parts(part[i+1:end], func(_ []lexeme, t lexeme) bool { return t.tok == token.COMMA }) {
			at, stop := column[0].from, column[len(column)-1].to
			elements = append(elements, element{from: at, to: stop, key: columnKey(code(column)), what: "column", body: func() *node { return s.slice("column", at, stop) }})
		}
		columns := s.list(keyed, "columns", brackets(t.from, part[end].from), true, elements)
		columns.bare = true
		return joined(slots, "statement", s.slice("statement", from, t.from), columns, s.slice("options", part[end].to, to))
	}
	return s.lines("statement", from, to)
}

func columnKey(toks []lexeme) string {
	first := strings.ToLower(strings.Trim(toks[0].text, "\"`"))
	switch first {
	case "constraint":
		if len(toks) > 1 {
			return first + " " + toks[1].text
		}
	case "primary", "foreign", "unique", "check", "exclude", "key", "index":
		var words []string
		for _, t := range toks {
			words = append(words, strings.ToLower(t.text))
		}
		if first == "primary" {
			return first
		}
		return strings.Join(words, " ")
	}
	return first
}

// TypeScript

func cutTypeScript(text string) *node {
	s, ok := lex("", text, typeScriptDialect)
	if !ok {
		return nil
	}
	var elements []element
	seen := map[string]int{}
	for _, part := range s.parts(s.toks, s.newStatement) {
		key := unique(seen, typeScriptKey(code(part)))
		from, to := part[0].from, part[len(part)-1].to
		elements = append(elements, element{from: from, to: to, key: key, what: "declaration", kind: "named", body: func() *node { return s.typeScript(part) }})
	}
	return s.list(keyed, "declarations", extent{0, 0, len(text), len(text)}, false, elements)
}

var typeScriptStarts = []string{"export", "import", "const", "let", "var", "function", "class", "interface", "type", "enum", "declare", "async", "abstract", "namespace"}

// newStatement reports whether a token starts a statement, or is the semicolon
// before one.
func (s *source) newStatement(before []lexeme, t lexeme) bool {
	if t.tok == token.SEMICOLON {
		return true
	}
	toks := code(before)
	if len(toks) == 0 || t.comment() {
		return false
	}
	last := toks[len(toks)-1]
	if t.line == last.end {
		return false
	}
	if last.tok == token.RBRACE && t.tok == token.IDENT && t.text != "else" && t.text != "catch" && t.text != "finally" {
		return true
	}
	return slices.Contains(typeScriptStarts, t.text) && last.tok != token.ASSIGN && !slices.Contains(typeScriptStarts, last.text)
}

// typeScriptKey is the name that a statement declares, or the statement.
func typeScriptKey(toks []lexeme) string {
	kinds := map[string]bool{"const": true, "let": true, "var": true, "function": true, "class": true, "interface": true, "type": true, "enum": true, "namespace": true}
	if toks[0].text == "import" {
		return "import " + toks[len(toks)-1].text
	}
	for i, t := range toks {
		if kinds[t.text] && i+1 < len(toks) && toks[i+1].tok == token.IDENT {
			return toks[i+1].text
		}
		if t.text != "export" && t.text != "default" && t.text != "declare" && t.text != "async" && t.text != "abstract" {
			break
		}
	}
	var words []string
	for _, t := range toks {
		words = append(words, t.text)
	}
	return strings.Join(words, " ")
}

// typeScript cuts the members of a declaration; the bodies of functions are
// merged by lines.
func (s *source) typeScript(part []lexeme) *node {
	from, to := part[0].from, part[len(part)-1].to
	for i, t := range part {
		if t.tok != token.LBRACE {
			continue
		}
		end := s.match(part, i)
		if functionBody(part[:i]) {
			return joined(slots, "declaration", s.slice("header", from, t.from), s.lines("body", t.from, part[end].to), s.slice("end", part[end].to, to))
		}
		return joined(slots, "declaration", s.slice("header", from, t.from), s.members(part[i:end+1]), s.slice("end", part[end].to, to))
	}
	return s.slice("declaration", from, to)
}

// functionBody reports whether braces after these tokens hold statements.
func functionBody(before []lexeme) bool {
	toks := code(before)
	if len(toks) == 0 {
		return false
	}
	last := toks[len(toks)-1]
	if last.text == ">" && len(toks) > 1 && toks[len(toks)-2].tok == token.ASSIGN {
		return true // =>
	}
	for _, t := range toks {
		if t.text == "interface" || t.text == "class" || t.text == "enum" || t.text == "type" || t.text == "import" || t.tok == token.ASSIGN && last.tok == token.ASSIGN {
			return false
		}
	}
	return slices.ContainsFunc(toks, func(t lexeme) bool { return t.tok == token.RPAREN })
}

// members are those of braces: fields, methods, labels, elements.
func (s *source) members(toks []lexeme) *node {
	comma := false
	parts := s.parts(toks[1:len(toks)-1], func(before []lexeme, t lexeme) bool {
		comma = comma || t.tok == token.COMMA
		if t.tok == token.COMMA || t.tok == token.SEMICOLON {
			return true
		}
		c := code(before)
		if len(c) == 0 || t.comment() || t.line == c[len(c)-1].end {
			return false
		}
		return t.tok == token.IDENT || t.tok == token.STRING || t.tok == token.LBRACK
	})
	var elements []element
	for _, part := range parts {
		from, to := part[0].from, part[len(part)-1].to
		elements = append(elements, element{from: from, to: to, key: memberKey(code(part)), what: "member", body: func() *node { return s.member(part) }})
	}
	n := s.list(keyed, "members", brackets(toks[0].from, toks[len(toks)-1].from), comma, elements)
	n.bare = comma && !s.trailing(toks)
	return n
}

// trailing reports whether a comma stands before the closing brace.
func (s *source) trailing(toks []lexeme) bool {
	c := code(toks)
	return len(c) > 2 && c[len(c)-2].tok == token.COMMA
}

func memberKey(toks []lexeme) string {
	for _, t := range toks {
		switch t.text {
		case "readonly", "public", "private", "protected", "static", "async", "get", "set", "abstract", "override":
			continue
		}
		return strings.Trim(t.text, `"'`)
	}
	return ""
}

func (s *source) member(part []lexeme) *node {
	from, to := part[0].from, part[len(part)-1].to
	for i, t := range part {
		if t.tok != token.LBRACE || i == 0 {
			continue
		}
		end := s.match(part, i)
		inner := s.lines("body", t.from, part[end].to)
		if !functionBody(part[:i]) {
			inner = s.members(part[i : end+1])
		}
		return joined(slots, "member", s.slice("member", from, t.from), inner, s.slice("member", part[end].to, to))
	}
	return s.slice("member", from, to)
}
