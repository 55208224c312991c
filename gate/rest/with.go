package rest

import (
	"net/http"
	"strconv"
	"strings"

	"widegate/gate"
)

// node is a relation to load, and what to load of the rows behind it.
type node struct {
	index    int
	to       *resource
	query    *gate.Query[any] // which of the related rows; nil is all of them
	children []node
}

// The bounds of what is loaded along with rows.
const (
	maxDepth = 4
	maxNodes = 20
)

// parseWith reads "apiary,inspections(limit:5;sortby:-done_on).treatments".
func (r *resource) parseWith(text string) ([]node, error) {
	var nodes []node
	if text == "" {
		return nil, nil
	}
	paths := splitOutside(text, ',')
	if len(paths) > maxNodes {
		return nil, NewProblem(http.StatusBadRequest, "with: at most %d relations", maxNodes)
	}
	for _, path := range paths {
		words := splitOutside(path, '.')
		if len(words) > maxDepth {
			return nil, NewProblem(http.StatusBadRequest, "with=%s goes %d relations deep; the limit is %d", path, len(words), maxDepth)
		}
		var err error
		if nodes, err = r.addPath(nodes, words); err != nil {
			return nil, err
		}
	}
	return nodes, nil
}

// splitOutside splits at a separator that stands outside of parentheses and quotes.
func splitOutside(text string, separator byte) []string { return splitAt(text, separator, 1) }

// splitAt splits at a separator that stands outside of parentheses. Quotes count where
// parentheses are deep enough: names may have them.
func splitAt(text string, separator byte, quotesFrom int) []string {
	var parts []string
	depth, from := 0, 0
	quote := byte(0)
	for i := range len(text) {
		switch {
		case quote != 0:
			if text[i] == quote {
				quote = 0
			}
		case depth >= quotesFrom && (text[i] == '\'' || text[i] == '"'):
			quote = text[i]
		case text[i] == '(':
			depth++
		case text[i] == ')':
			depth--
		case text[i] == separator && depth == 0:
			parts = append(parts, text[from:i])
			from = i + 1
		}
	}
	return append(parts, text[from:])
}

func (r *resource) addPath(nodes []node, words []string) ([]node, error) {
	name, options, bounded := strings.Cut(words[0], "(")
	at := -1
	for i, rel := range r.relations {
		if rel.name == name {
			at = i
		}
	}
	if at < 0 {
		return nil, NewProblem(http.StatusBadRequest, "with: %s have no relation %q; they have %s", r.path, name, listOr(r.relationNames(), "none"))
	}
	place := -1
	for i, n := range nodes {
		if n.index == at {
			place = i
		}
	}
	if place < 0 {
		place = len(nodes)
		nodes = append(nodes, node{index: at, to: r.relations[at].to()})
	}
	if bounded {
		inside, closed := strings.CutSuffix(options, ")")
		if !closed {
			return nil, NewProblem(http.StatusBadRequest, "with: %s wants a ) at its end", words[0])
		}
		query, err := r.relations[at].narrow(inside)
		if err != nil {
			return nil, err
		}
		nodes[place].query = query
	}
	if len(words) > 1 {
		children, err := nodes[place].to.addPath(nodes[place].children, words[1:])
		if err != nil {
			return nil, err
		}
		nodes[place].children = children
	}
	return nodes, nil
}

// narrow reads limit:5;sortby:-done_on;filter:brood_frames > 2.
func (r *relation) narrow(options string) (*gate.Query[any], error) {
	if r.rel.Single() {
		return nil, NewProblem(http.StatusBadRequest, "with: %s is one row and takes no options", r.name)
	}
	query := r.rel.Rows()
	for _, option := range splitAt(options, ';', 0) {
		key, value, _ := strings.Cut(option, ":")
		switch key {
		case "limit":
			n, err := strconv.Atoi(value)
			if err != nil || n < 1 || n > r.at.api.config.Limits.Rows {
				return nil, NewProblem(http.StatusBadRequest, "with: limit wants a whole number from 1 to %d; got %q", r.at.api.config.Limits.Rows, value)
			}
			query = query.Limit(n)
		case "sortby":
			var err error
			if query, err = r.to().readOrder(query, value); err != nil {
				return nil, err
			}
		case "filter":
			cond, err := r.to().readFilter("", value)
			if err != nil {
				return nil, err
			}
			query = query.Where(cond)
		default:
			return nil, NewProblem(http.StatusBadRequest, "with: there is no option %q; there are limit, sortby and filter, as in %s(limit:5;sortby:-%s)", key, r.name, listFirst(r.to().columnNames()))
		}
	}
	return gate.OrderByKey(query), nil
}
