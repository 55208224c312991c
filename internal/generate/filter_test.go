package generate_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate/cql2"
)

// truth is what a condition can be for a row.
type truth int

const (
	isFalse truth = iota
	isUnknown
	isTrue
)

func truthOf(b bool) truth {
	if b {
		return isTrue
	}
	return isFalse
}

// filterMaker makes random filters on the hives of the demo.
type filterMaker struct{ *rand.Rand }

func (f filterMaker) pick(list ...string) string { return list[f.IntN(len(list))] }

func leaf(op cql2.Op, value string) *cql2.Node { return &cql2.Node{Op: op, Value: value} }

func branch(op cql2.Op, args ...*cql2.Node) *cql2.Node { return &cql2.Node{Op: op, Args: args} }

func (f filterMaker) condition(depth int) *cql2.Node {
	if depth > 0 {
		switch f.IntN(4) {
		case 0:
			return branch(cql2.And, f.condition(depth-1), f.condition(depth-1))
		case 1:
			return branch(cql2.Or, f.condition(depth-1), f.condition(depth-1), f.condition(depth-1))
		case 2:
			return branch(cql2.Not, f.condition(depth-1))
		}
	}
	return f.comparison()
}

var compareOps = []cql2.Op{cql2.Equal, cql2.NotEqual, cql2.Less, cql2.More, cql2.AtMost, cql2.AtLeast}

func (f filterMaker) comparison() *cql2.Node {
	op := compareOps[f.IntN(len(compareOps))]
	switch f.IntN(9) {
	case 0:
		return branch(op, f.number(), f.number())
	case 1:
		return branch(op, f.numeric(), leaf(cql2.Number, f.pick("1", "3", "10.5", "25", "-2", "30.16")))
	case 2:
		return branch(cql2.Between, f.numeric(), leaf(cql2.Number, f.pick("1", "8")), leaf(cql2.Number, f.pick("11", "30.16")))
	case 3:
		return branch(cql2.In, f.numeric(), branch(cql2.List, leaf(cql2.Number, "1"), leaf(cql2.Number, f.pick("9", "12")), leaf(cql2.Number, "4")))
	case 4:
		return branch(cql2.IsNull, leaf(cql2.Property, f.pick("weight_kg", "split_from_id", "queen.breed", "queen.id", "apiary.name", "split_from.weight_kg")))
	case 5:
		text := leaf(cql2.Property, f.pick("name", "apiary.name", "split_from.name"))
		return branch(cql2.Like, text, leaf(cql2.Text, f.pick("Hive 1%", "%e 2_", "North%", "%", "Hive _")))
	case 6:
		label := leaf(cql2.Text, f.pick("calm", "nervous", "fierce"))
		return branch(f.equality(), leaf(cql2.Property, f.pick("temperament", "split_from.temperament")), label)
	case 7:
		day := leaf(cql2.Date, f.pick("2024-12-25", "2025-01-10", "2025-06-06"))
		return branch(op, leaf(cql2.Property, f.pick("acquired_on", "inspections.done_on", "apiary.registered_on")), day)
	}
	return branch(f.equality(), leaf(cql2.Property, f.pick("is_active", "inspections.queen_seen")), leaf(cql2.Boolean, f.pick("true", "false")))
}

func (f filterMaker) equality() cql2.Op { return compareOps[f.IntN(2)] }

// numeric is a property that is a number; some lead to several rows.
func (f filterMaker) numeric() *cql2.Node {
	return leaf(cql2.Property, f.pick("id", "frames", "weight_kg", "split_from_id", "apiary.id", "apiary.keeper_id", "split_from.frames", "inspections.brood_frames", "queen.id"))
}

// number is a value of one row.
func (f filterMaker) number() *cql2.Node {
	own := func() *cql2.Node {
		return leaf(cql2.Property, f.pick("id", "frames", "weight_kg", "split_from_id", "apiary.keeper_id", "split_from.frames"))
	}
	switch f.IntN(4) {
	case 0:
		return branch(cql2.Plus, branch(cql2.Times, own(), leaf(cql2.Number, "2")), leaf(cql2.Number, "1"))
	case 1:
		return branch(cql2.Minus, own(), own())
	case 2:
		return branch(cql2.Over, own(), leaf(cql2.Number, f.pick("4", "2", "0")))
	}
	return own()
}

// holds is what a condition is for a row that was read with all that belongs to
// it, worked out without a database.
func holds(n *cql2.Node, row map[string]any) truth {
	switch n.Op {
	case cql2.And, cql2.Or:
		result := isTrue
		if n.Op == cql2.Or {
			result = isFalse
		}
		for _, a := range n.Args {
			if n.Op == cql2.And {
				result = min(result, holds(a, row))
			} else {
				result = max(result, holds(a, row))
			}
		}
		return result
	case cql2.Not:
		return isTrue - holds(n.Args[0], row)
	}
	if children, ok := several(n); ok {
		list, _ := row[children].([]any)
		for _, child := range list {
			if compares(n, map[string]any{children: child}) == isTrue {
				return isTrue
			}
		}
		return isFalse
	}
	return compares(n, row)
}

// several is the relation to several rows that a comparison is about.
func several(n *cql2.Node) (string, bool) {
	if n.Op == cql2.Property && strings.HasPrefix(n.Value, "inspections.") {
		return "inspections", true
	}
	for _, a := range n.Args {
		if name, ok := several(a); ok {
			return name, true
		}
	}
	return "", false
}

func compares(n *cql2.Node, row map[string]any) truth {
	a := valueOf(n.Args[0], row)
	if n.Op == cql2.IsNull {
		return truthOf(a == nil)
	}
	if a == nil {
		return isUnknown
	}
	switch n.Op {
	case cql2.Like:
		return truthOf(isLike([]rune(a.(string)), []rune(n.Args[1].Value)))
	case cql2.In:
		return truthOf(slices.ContainsFunc(n.Args[1].Args, func(item *cql2.Node) bool { return valueOf(item, row) == a }))
	case cql2.Between:
		return truthOf(order(a, valueOf(n.Args[1], row)) >= 0 && order(a, valueOf(n.Args[2], row)) <= 0)
	}
	b := valueOf(n.Args[1], row)
	if b == nil {
		return isUnknown
	}
	o := order(a, b)
	return truthOf(map[cql2.Op]bool{cql2.Equal: o == 0, cql2.NotEqual: o != 0, cql2.Less: o < 0, cql2.More: o > 0, cql2.AtMost: o <= 0, cql2.AtLeast: o >= 0}[n.Op])
}

func order(a, b any) int {
	switch x := a.(type) {
	case float64:
		switch y := b.(float64); {
		case x < y-1e-9:
			return -1
		case x > y+1e-9:
			return 1
		}
		return 0
	case bool:
		return strings.Compare(fmt.Sprint(x), fmt.Sprint(b))
	}
	return strings.Compare(a.(string), b.(string))
}

func isLike(text, pattern []rune) bool {
	switch {
	case len(pattern) == 0:
		return len(text) == 0
	case pattern[0] == '%':
		return isLike(text, pattern[1:]) || len(text) > 0 && isLike(text[1:], pattern)
	}
	return len(text) > 0 && (pattern[0] == '_' || pattern[0] == text[0]) && isLike(text[1:], pattern[1:])
}

func valueOf(n *cql2.Node, row map[string]any) any {
	switch n.Op {
	case cql2.Property:
		var at any = row
		for _, word := range strings.Split(n.Value, ".") {
			object, _ := at.(map[string]any)
			if at = object[word]; at == nil {
				return nil
			}
		}
		return at
	case cql2.Number:
		var v float64
		_, _ = fmt.Sscan(n.Value, &v)
		return v
	case cql2.Boolean:
		return n.Value == "true"
	case cql2.Text, cql2.Date:
		return n.Value
	}
	a, b := valueOf(n.Args[0], row), valueOf(n.Args[1], row)
	if a == nil || b == nil {
		return nil
	}
	x, y := a.(float64), b.(float64)
	switch n.Op {
	case cql2.Plus:
		return x + y
	case cql2.Minus:
		return x - y
	case cql2.Times:
		return x * y
	}
	if y == 0 {
		return nil
	}
	return x / y
}

// testFilters compares what random filters choose over HTTP with what they mean.
func testFilters(t *testing.T, s *service) {
	rows := s.get("/api/hives?limit=1000&with=apiary,split_from,queen,inspections").is(200).items()
	require.Greater(t, len(rows), 40)
	made := filterMaker{rand.New(rand.NewPCG(7, 11))}
	some := 0
	for range 200 {
		filter := made.condition(3)
		var want []any
		for _, row := range rows {
			if holds(filter, row) == isTrue {
				want = append(want, row["id"])
			}
		}
		got := s.get("/api/hives" + query("limit", "1000", "properties", "id", "filter", filter.String())).is(200)
		assert.ElementsMatch(t, want, pluck(got.items(), "id"), filter.String())
		if len(want) > 0 && len(want) < len(rows) {
			some++
		}
	}
	assert.Greater(t, some, 70, "most filters choose some rows and not others")
}
