package sqlite

import (
	"strings"

	"widegate/internal/catalog"
)

// createTable is what only the text of a CREATE TABLE statement tells. Names
// of columns are in lower case, lists of them joined by commas.
type createTable struct {
	comment        string
	columns        map[string]columnFacts
	checks         []catalog.Check
	keyName        string
	uniqueNames    map[string]string
	referenceNames map[string]string
	withoutRowID   bool
	virtual        bool
}

type columnFacts struct {
	comment   string
	generated string
}

// scanCreateTable takes what it can from the text; the engine has accepted the
// statement, so what it does not understand does not matter here.
func scanCreateTable(source string) createTable {
	c := createTable{columns: map[string]columnFacts{}, uniqueNames: map[string]string{}, referenceNames: map[string]string{}}
	tokens := scanTokens(source)
	if len(tokens) > 1 && tokens[1].is("VIRTUAL") {
		c.virtual = true
		return c
	}
	open := 0
	for open < len(tokens) && !tokens[open].sign("(") {
		open++
	}
	end := closing(tokens, open)
	if open >= len(tokens) {
		return c
	}
	for _, t := range tokens[min(end, len(tokens)):] {
		c.withoutRowID = c.withoutRowID || t.is("WITHOUT")
	}
	body := tokens[open+1 : end]
	if len(body) > 0 && body[0].kind == commentToken && body[0].line == tokens[open].line {
		c.comment = body[0].text
		body = body[1:]
	}
	for _, item := range splitItems(body) {
		c.addItem(source, item)
	}
	return c
}

// closing returns the place of the parenthesis that closes the one at open.
func closing(tokens []token, open int) int {
	depth := 0
	for i := open; i < len(tokens); i++ {
		switch {
		case tokens[i].sign("("):
			depth++
		case tokens[i].sign(")"):
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return len(tokens)
}

// tableItem is a column or constraint, with the comment that belongs to it:
// the one behind it on its line, else the ones above it.
type tableItem struct {
	tokens  []token
	comment string
}

func splitItems(body []token) []tableItem {
	var list []tableItem
	var item tableItem
	var above []string
	depth, lastLine := 0, -1
	flush := func() {
		if len(item.tokens) > 0 {
			if item.comment == "" {
				item.comment = strings.Join(above, " ")
			}
			list = append(list, item)
			above = nil
		}
		item = tableItem{}
	}
	for _, t := range body {
		switch {
		case t.kind == commentToken && t.line == lastLine && len(item.tokens) > 0:
			item.comment = t.text
			continue
		case t.kind == commentToken && t.line == lastLine && len(list) > 0:
			list[len(list)-1].comment = t.text
			continue
		case t.kind == commentToken:
			above = append(above, t.text)
			continue
		case t.sign("("):
			depth++
		case t.sign(")"):
			depth--
		case t.sign(",") && depth == 0:
			flush()
			lastLine = t.line
			continue
		}
		item.tokens = append(item.tokens, t)
		lastLine = t.line
	}
	flush()
	return list
}

func (c *createTable) addItem(source string, item tableItem) {
	first := item.tokens[0]
	if first.kind == wordToken {
		switch strings.ToUpper(first.text) {
		case "CONSTRAINT", "PRIMARY", "UNIQUE", "CHECK", "FOREIGN":
			c.addRules(source, item.tokens, "")
			return
		}
	}
	column := strings.ToLower(first.text)
	facts := c.addRules(source, item.tokens[1:], column)
	facts.comment = item.comment
	c.columns[column] = facts
}

// addRules records the constraints among tokens. column is the one they are
// written behind; constraints of the table name their own.
func (c *createTable) addRules(source string, tokens []token, column string) columnFacts {
	var facts columnFacts
	name := ""
	for i := 0; i < len(tokens); i++ {
		t := tokens[i]
		switch {
		case t.sign("("):
			i = closing(tokens, i)
			continue
		case t.is("CONSTRAINT") && i+1 < len(tokens):
			i++
			name = tokens[i].text
			continue
		case t.is("CHECK"):
			text, end := inParentheses(source, tokens, i+1)
			c.checks = append(c.checks, catalog.Check{Name: name, Expr: text})
			i = end
		case t.is("AS"):
			facts.generated, i = inParentheses(source, tokens, i+1)
		case t.is("UNIQUE"):
			c.uniqueNames[ruleColumns(tokens, i+1, column)] = name
		case t.is("PRIMARY"):
			c.keyName = name
		case t.is("FOREIGN"):
			c.referenceNames[ruleColumns(tokens, i+2, column)] = name
			return facts
		case t.is("REFERENCES") && column != "":
			c.referenceNames[column] = name
		default:
			continue
		}
		name = ""
	}
	return facts
}

// inParentheses returns the text between the parenthesis at i and the one that
// closes it, and the place of the latter.
func inParentheses(source string, tokens []token, i int) (string, int) {
	if i >= len(tokens) || !tokens[i].sign("(") {
		return "", i
	}
	end := closing(tokens, i)
	if end >= len(tokens) {
		return "", end
	}
	return strings.Join(strings.Fields(source[tokens[i].to:tokens[end].from]), " "), end
}

// ruleColumns returns the columns listed at i, or the one the rule stands
// behind.
func ruleColumns(tokens []token, i int, column string) string {
	if column != "" || i >= len(tokens) || !tokens[i].sign("(") {
		return column
	}
	var names []string
	for _, t := range tokens[i+1 : closing(tokens, i)] {
		if t.kind == nameToken || t.kind == wordToken && !t.is("ASC") && !t.is("DESC") {
			names = append(names, strings.ToLower(t.text))
		}
	}
	return strings.Join(names, ",")
}
