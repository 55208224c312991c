package live

import (
	"strings"

	"widegate/internal/engine/sqlite/dialect"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
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
	tokens := sqltext.Scan(source, dialect.SQLite)
	if len(tokens) > 1 && tokens[1].Is("VIRTUAL") {
		c.virtual = true
		return c
	}
	open := 0
	for open < len(tokens) && !tokens[open].Sign("(") {
		open++
	}
	end := closing(tokens, open)
	if open >= len(tokens) {
		return c
	}
	for _, t := range tokens[min(end, len(tokens)):] {
		c.withoutRowID = c.withoutRowID || t.Is("WITHOUT")
	}
	body := tokens[open+1 : end]
	if len(body) > 0 && body[0].Kind == sqltext.Comment && body[0].Line == tokens[open].Line {
		c.comment = body[0].Text
		body = body[1:]
	}
	for _, item := range splitItems(body) {
		c.addItem(source, item)
	}
	return c
}

// closing returns the place of the parenthesis that closes the one at open.
func closing(tokens []sqltext.Token, open int) int {
	depth := 0
	for i := open; i < len(tokens); i++ {
		switch {
		case tokens[i].Sign("("):
			depth++
		case tokens[i].Sign(")"):
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
	tokens  []sqltext.Token
	comment string
}

func splitItems(body []sqltext.Token) []tableItem {
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
		case t.Kind == sqltext.Comment && t.Line == lastLine && len(item.tokens) > 0:
			item.comment = t.Text
			continue
		case t.Kind == sqltext.Comment && t.Line == lastLine && len(list) > 0:
			list[len(list)-1].comment = t.Text
			continue
		case t.Kind == sqltext.Comment:
			above = append(above, t.Text)
			continue
		case t.Sign("("):
			depth++
		case t.Sign(")"):
			depth--
		case t.Sign(",") && depth == 0:
			flush()
			lastLine = t.Line
			continue
		}
		item.tokens = append(item.tokens, t)
		lastLine = t.Line
	}
	flush()
	return list
}

func (c *createTable) addItem(source string, item tableItem) {
	first := item.tokens[0]
	if first.Kind == sqltext.Word {
		switch strings.ToUpper(first.Text) {
		case "CONSTRAINT", "PRIMARY", "UNIQUE", "CHECK", "FOREIGN":
			c.addRules(source, item.tokens, "")
			return
		}
	}
	column := strings.ToLower(first.Text)
	facts := c.addRules(source, item.tokens[1:], column)
	facts.comment = item.comment
	c.columns[column] = facts
}

// addRules records the constraints among tokens. column is the one they are
// written behind; constraints of the table name their own.
func (c *createTable) addRules(source string, tokens []sqltext.Token, column string) columnFacts {
	var facts columnFacts
	name := ""
	for i := 0; i < len(tokens); i++ {
		t := tokens[i]
		switch {
		case t.Sign("("):
			i = closing(tokens, i)
			continue
		case t.Is("CONSTRAINT") && i+1 < len(tokens):
			i++
			name = tokens[i].Text
			continue
		case t.Is("CHECK"):
			text, end := inParentheses(source, tokens, i+1)
			c.checks = append(c.checks, catalog.Check{Name: name, Expr: text})
			i = end
		case t.Is("AS"):
			facts.generated, i = inParentheses(source, tokens, i+1)
		case t.Is("UNIQUE"):
			c.uniqueNames[ruleColumns(tokens, i+1, column)] = name
		case t.Is("PRIMARY"):
			c.keyName = name
		case t.Is("FOREIGN"):
			c.referenceNames[ruleColumns(tokens, i+2, column)] = name
			return facts
		case t.Is("REFERENCES") && column != "":
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
func inParentheses(source string, tokens []sqltext.Token, i int) (string, int) {
	if i >= len(tokens) || !tokens[i].Sign("(") {
		return "", i
	}
	end := closing(tokens, i)
	if end >= len(tokens) {
		return "", end
	}
	return strings.Join(strings.Fields(source[tokens[i].To:tokens[end].From]), " "), end
}

// ruleColumns returns the columns listed at i, or the one the rule stands
// behind.
func ruleColumns(tokens []sqltext.Token, i int, column string) string {
	if column != "" || i >= len(tokens) || !tokens[i].Sign("(") {
		return column
	}
	var names []string
	for _, t := range tokens[i+1 : closing(tokens, i)] {
		if t.Kind == sqltext.QuotedName || t.Kind == sqltext.Word && !t.Is("ASC") && !t.Is("DESC") {
			names = append(names, strings.ToLower(t.Text))
		}
	}
	return strings.Join(names, ",")
}
