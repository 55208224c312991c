package scripts

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"widegate/internal/sqltext/ddl"

	"widegate/internal/sqltext"
)

// PostgreSQL's parser calls itself for each level of nesting, on a stack of its
// own size. Statements that would use it up, which nobody writes by hand, are
// refused before.

// deepest is how deep a statement may nest, in the units of weights.
const deepest = 1200

// The weights of what makes the parser go deeper.
const (
	weightParen  = 3 // a pair of parentheses
	weightSelect = 9 // one around a query
	weightCase   = 6
	weightSign   = 3 // an operator or a join in a chain
	weightUnion  = 1 // a query in a chain of them
)

// parseTime is how long one statement may take.
const parseTime = 20 * time.Second

// level is what is open at a place: its own weight, that of the operators in a
// chain, and that of the queries and joins in one.
type level struct{ own, signs, queries int }

func (l level) weight() int { return l.own + l.signs + l.queries }

// nesting measures how deep a statement nests.
func nesting(tokens []sqltext.Token) int {
	open := []level{{}}
	below, most := 0, 0 // below is the weight of all levels but the last
	for i, t := range tokens {
		top := &open[len(open)-1]
		switch {
		case t.Sign("("), t.Is("CASE"):
			below += top.weight()
			open = append(open, level{own: weightOf(t, tokens[i+1:])})
		case t.Sign(")"), t.Is("END"):
			if len(open) > 1 {
				open = open[:len(open)-1]
				below -= open[len(open)-1].weight()
			}
		case t.Sign(","), t.Sign(";"), t.Kind == sqltext.Word && endsChain[strings.ToUpper(t.Text)]:
			top.signs = 0
		case t.Kind == sqltext.Word && goesOn[strings.ToUpper(t.Text)] > 0:
			top.queries += goesOn[strings.ToUpper(t.Text)]
		case t.Kind == sqltext.Sign && strings.Contains("+-*/<>=~!@#%^&|`?[:.", t.Text), t.Kind == sqltext.Word && operators[strings.ToUpper(t.Text)]:
			top.signs += weightSign
		}
		most = max(most, below+open[len(open)-1].weight())
	}
	return most
}

var (
	endsChain = map[string]bool{"AND": true, "OR": true, "FROM": true, "WHERE": true, "WHEN": true, "THEN": true, "ELSE": true}
	goesOn    = map[string]int{"UNION": weightUnion, "EXCEPT": weightUnion, "INTERSECT": weightUnion, "JOIN": weightSign, "ARRAY": weightParen}
	operators = map[string]bool{"NOT": true, "COLLATE": true, "BETWEEN": true, "IS": true, "AT": true, "LIKE": true, "ILIKE": true, "SIMILAR": true, "ISNULL": true, "NOTNULL": true}
)

// weightOf is that of a parenthesis or a CASE.
func weightOf(t sqltext.Token, behind []sqltext.Token) int {
	switch {
	case t.Is("CASE"):
		return weightCase
	case len(behind) > 0 && (behind[0].Is("SELECT") || behind[0].Is("WITH") || behind[0].Is("VALUES")):
		return weightSelect
	}
	return weightParen
}

// within runs a parse that may not end or may break down.
func within[T any](what func() (T, error)) (T, error) {
	type outcome struct {
		value T
		err   error
	}
	done := make(chan outcome, 1)
	go func() {
		var o outcome
		defer func() {
			if r := recover(); r != nil {
				o.err = errTooDeep
			}
			done <- o
		}()
		o.value, o.err = what()
	}()
	select {
	case o := <-done:
		return o.value, o.err
	case <-time.After(parseTime):
		var none T
		return none, errTooDeep
	}
}

// errTooDeep says that a statement cannot be parsed here.
var errTooDeep = &ddl.Problem{
	Text: "the statement nests too deep to be parsed without a server",
	Next: "split it, read the database itself, or have a server run the scripts: `database: {scratch: URL}` in widegate.yaml",
}

// checkDepth refuses a statement that nests too deep.
func checkDepth(text string) error {
	tokens := slices.DeleteFunc(scanPostgres(text), func(t sqltext.Token) bool { return t.Kind == sqltext.Comment })
	if nesting(tokens) > deepest {
		return errTooDeep
	}
	return nil
}

// mostText is how long a statement may be, in bytes.
const mostText = 16 << 20

func checkLength(text string) error {
	if len(text) > mostText {
		return &ddl.Problem{Text: fmt.Sprintf("the statement is longer than %d MB", mostText>>20), Next: errTooDeep.Next}
	}
	return nil
}

// checkBounds refuses what the parser should not be given.
func checkBounds(text string) error {
	if err := checkLength(text); err != nil {
		return err
	}
	return checkDepth(text)
}

// mostColumns is how many a table of PostgreSQL can have; see appendix K of its
// documentation.
const mostColumns = 1600

var errWide = &ddl.Problem{Text: fmt.Sprintf("a table has at most %d columns", mostColumns), Next: "split the table"}
