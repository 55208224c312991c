package rest

import (
	"errors"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"beekeeping/store/gate"
	"beekeeping/store/gate/cql2"
)

// readFilter turns the text of a filter into a condition on rows of the
// resource.
func (r *resource) readFilter(language, text string) (gate.Cond[any], error) {
	root, err := parseFilter(language, text)
	var cond gate.Cond[any]
	if err == nil {
		cond, err = condition(root, true, r.predicate)
	}
	var wrong *cql2.Error
	if errors.As(err, &wrong) {
		return cond, NewProblem(http.StatusBadRequest, "filter: %s", wrong.Error())
	}
	return cond, err
}

func parseFilter(language, text string) (*cql2.Node, error) {
	switch language {
	case "", "cql2-text":
		return cql2.Parse(text, cql2.DefaultLimits)
	case "cql2-json":
		return cql2.ParseJSON([]byte(text), cql2.DefaultLimits)
	}
	return nil, NewProblem(http.StatusBadRequest, "filter-lang wants cql2-text or cql2-json; got %q", language)
}

// condition is what a node means, by what its comparisons mean. Where it is
// positive, that is, not inside of a NOT, rows for which it is unknown may count
// as rows for which it is false.
func condition(n *cql2.Node, positive bool, predicate func(n *cql2.Node, positive bool) (gate.Cond[any], error)) (gate.Cond[any], error) {
	switch n.Op {
	case cql2.And, cql2.Or:
		conds := make([]gate.Cond[any], len(n.Args))
		for i, a := range n.Args {
			var err error
			if conds[i], err = condition(a, positive, predicate); err != nil {
				return gate.Cond[any]{}, err
			}
		}
		if n.Op == cql2.Or {
			return gate.Or(conds...), nil
		}
		return gate.And(conds...), nil
	case cql2.Not:
		cond, err := condition(n.Args[0], false, predicate)
		return gate.Not(cond), err
	case cql2.Boolean:
		if n.Value == "true" {
			return gate.And[any](), nil
		}
		return gate.Or[any](), nil
	}
	return predicate(n, positive)
}

// predicate is what a comparison means. One on rows behind a relation to
// several holds where it does for one of them.
func (r *resource) predicate(n *cql2.Node, positive bool) (gate.Cond[any], error) {
	steps, at, err := r.sharedPath(n, positive && n.Op != cql2.IsNull)
	if err != nil {
		return gate.Cond[any]{}, err
	}
	t := &typing{res: at, skip: len(steps)}
	cond, err := t.predicate(n)
	if err != nil {
		return cond, err
	}
	for i := len(steps) - 1; i >= 0; i-- {
		cond = steps[i].rel.Holding(cond)
	}
	return cond, nil
}

// sharedPath are the relations that a comparison is made behind: those that all
// of its properties lead through, up to the last one that leads to several
// rows, or where it makes no difference the last one at all.
func (r *resource) sharedPath(n *cql2.Node, whole bool) ([]*relation, *resource, error) {
	var properties []*cql2.Node
	gather(n, &properties)
	var shared []*relation
	for i, p := range properties {
		steps, _, err := r.walk(p)
		if err != nil {
			return nil, nil, err
		}
		if i == 0 {
			shared = steps
			continue
		}
		same := 0
		for same < min(len(shared), len(steps)) && shared[same] == steps[same] {
			same++
		}
		for _, rest := range [][]*relation{shared[same:], steps[same:]} {
			for _, s := range rest {
				if !s.rel.Single() {
					return nil, nil, p.Errorf("one comparison cannot span the rows of two relations; %s leads to several", s.name)
				}
			}
		}
		shared = shared[:same]
	}
	if !whole {
		for len(shared) > 0 && shared[len(shared)-1].rel.Single() {
			shared = shared[:len(shared)-1]
		}
	}
	at := r
	for _, s := range shared {
		at = s.to()
	}
	return shared, at, nil
}

func gather(n *cql2.Node, to *[]*cql2.Node) {
	if n.Op == cql2.Property {
		*to = append(*to, n)
	}
	for _, a := range n.Args {
		gather(a, to)
	}
}

// walk follows a property's name, such as apiary.keeper.name, to a column. A
// column whose own name has points in it is found first.
func (r *resource) walk(p *cql2.Node) (steps []*relation, column string, err error) {
	at, name := r, p.Value
	for {
		if _, ok := at.find(name); ok {
			return steps, name, nil
		}
		word, rest, more := strings.Cut(name, ".")
		rel := at.relation(word)
		switch {
		case rel == nil && len(steps) == 0 && !more:
			return nil, "", p.Errorf("%s have no property %q; they have %s", at.path, word, listOr(at.columnNames(), "none"))
		case rel == nil:
			return nil, "", p.Errorf("%s have no property and no relation %q; they have %s and, behind a point, those of %s",
				at.path, word, listOr(at.columnNames(), "none"), listOr(at.relationNames(), "none"))
		case !more:
			return nil, "", p.Errorf("%s is a relation; name a property of it, such as %s.%s", word, word, listFirst(rel.to().columnNames()))
		case len(steps) == maxDepth:
			return nil, "", p.Errorf("%s goes too deep; the limit is %d relations", p.Value, maxDepth)
		}
		steps = append(steps, rel)
		at, name = rel.to(), rest
	}
}

func (r *resource) relation(name string) *relation {
	for i := range r.relations {
		if r.relations[i].name == name {
			return &r.relations[i]
		}
	}
	return nil
}

func listFirst(names []string) string {
	if len(names) == 0 {
		return "id"
	}
	return names[0]
}

// typing gives the values of one comparison their types.
type typing struct {
	res  *resource // whose rows are compared
	skip int       // relations that lead there

	named map[string]value // what there is in place of columns
}

// family is what can be compared with each other.
type family string

const (
	numbers  family = "a number"
	texts    family = "a text"
	booleans family = "true or false"
	moments  family = "a time"
	days     family = "a date"
	lists    family = "a list"
)

func familyOf(c *gate.Column) family {
	switch c.Type {
	case gate.TypeInt16, gate.TypeInt32, gate.TypeInt64, gate.TypeUint64, gate.TypeFloat32, gate.TypeFloat64, gate.TypeNumeric:
		return numbers
	case gate.TypeText:
		return texts
	case gate.TypeBool:
		return booleans
	case gate.TypeTimestamp, gate.TypeTimestampTZ:
		return moments
	case gate.TypeDate:
		return days
	case gate.TypeList:
		return lists
	}
	// Values of other types are compared with those of the same type only, and
	// written as texts.
	if c.Cast != "" {
		return family("a value of the type " + c.Cast)
	}
	return orElse(others[c.Type], "a value of another type")
}

var others = map[gate.Type]family{gate.TypeEnum: "a label", gate.TypeUUID: "a UUID", gate.TypeTimeOfDay: "a time of day", gate.TypeInterval: "a duration"}

func orElse(f, other family) family {
	if f == "" {
		return other
	}
	return f
}

// value is a node with its type. A literal has no term before it is known what
// it is compared with.
type value struct {
	node    *cql2.Node
	term    gate.Term
	family  family
	column  *gate.Column // that it is of, to read literals by
	info    *gate.Info
	engine  *gate.Engine
	index   int
	literal bool
}

func (t *typing) value(n *cql2.Node) (value, error) {
	v := value{node: n}
	switch n.Op {
	case cql2.Property:
		return t.property(n)
	case cql2.Text, claimed:
		v.literal, v.family = true, texts
	case cql2.Number:
		if _, err := strconv.ParseFloat(n.Value, 64); err != nil {
			return v, n.Errorf("expected a number between -1.7e308 and 1.7e308; got %s", n)
		}
		v.literal, v.family = true, numbers
	case cql2.Boolean:
		v.literal, v.family = true, booleans
	case cql2.Date:
		v.literal, v.family = true, days
	case cql2.Timestamp:
		v.literal, v.family = true, moments
	case cql2.List:
		v.literal, v.family = true, lists
	case cql2.CaseI:
		return t.folded(n)
	default:
		return t.calculation(n)
	}
	return v, nil
}

func (t *typing) property(n *cql2.Node) (value, error) {
	if t.named != nil {
		v, ok := t.named[n.Value]
		if !ok {
			return v, n.Errorf("there is no %q here; there are %s", n.Value, listOr(slices.Sorted(maps.Keys(t.named)), "none"))
		}
		v.node = n
		return v, nil
	}
	at := t.res
	name := n.Value
	for range t.skip {
		_, name, _ = strings.Cut(name, ".")
	}
	steps, column, err := at.walk(&cql2.Node{Op: n.Op, Value: name, Place: n.Place})
	if err != nil {
		return value{}, err
	}
	for _, s := range steps {
		at = s.to()
	}
	i, _ := at.find(column)
	term := at.info.Term(i)
	for k := len(steps) - 1; k >= 0; k-- {
		term = steps[k].rel.Term(term)
	}
	c := &at.info.Columns[i]
	return value{node: n, term: term, family: familyOf(c), column: c, info: at.info, engine: at.api.engine(), index: i}, nil
}

func (t *typing) folded(n *cql2.Node) (value, error) {
	v, err := t.value(n.Args[0])
	if err != nil {
		return v, err
	}
	if v.family != texts {
		return v, n.Errorf("CASEI takes a text; %s is none", n.Args[0])
	}
	if v.literal {
		return value{node: n, family: texts, literal: true}, nil
	}
	return value{node: n, term: gate.LowerTerm(v.term), family: texts}, nil
}

func (t *typing) calculation(n *cql2.Node) (value, error) {
	var terms [2]gate.Term
	for i, a := range n.Args {
		v, err := t.value(a)
		if err != nil {
			return v, err
		}
		if v.family != numbers {
			return v, a.Errorf("%s calculates with numbers; %s is none", n.Op, a)
		}
		if terms[i] = v.term; v.literal {
			terms[i] = gate.NumberTerm(a.Value)
		}
	}
	return value{node: n, term: gate.Calculate(string(n.Op), terms[0], terms[1]), family: numbers}, nil
}

// predicate is the condition of a comparison.
func (t *typing) predicate(n *cql2.Node) (gate.Cond[any], error) {
	var none gate.Cond[any]
	switch n.Op {
	case cql2.Property:
		v, err := t.value(n)
		if err == nil && v.family != booleans {
			err = n.Errorf("expected a condition; %s is not true or false", n)
		}
		if err != nil {
			return none, err
		}
		return t.compare("=", v, value{node: &cql2.Node{Op: cql2.Boolean, Value: "true", Place: n.Place}, literal: true, family: booleans})
	case cql2.IsNull:
		v, err := t.value(n.Args[0])
		if err != nil {
			return none, err
		}
		if v.literal {
			return none, n.Args[0].Errorf("IS NULL asks of a property; got %s", n.Args[0])
		}
		return v.term.Null(), nil
	case cql2.Like:
		return t.like(n)
	case cql2.In:
		return t.in(n)
	}
	values := make([]value, len(n.Args))
	for i, a := range n.Args {
		var err error
		if values[i], err = t.value(a); err != nil {
			return none, err
		}
	}
	switch n.Op {
	case cql2.Between:
		least, err := t.compare(">=", values[0], values[1])
		if err != nil {
			return none, err
		}
		most, err := t.compare("<=", values[0], values[2])
		return gate.And(least, most), err
	case cql2.Equals, cql2.Contains, cql2.ContainedBy, cql2.Overlaps:
		return t.compareLists(n, values[0], values[1])
	}
	return t.compare(string(n.Op), values[0], values[1])
}

// mirrored are the operators with their sides exchanged.
var mirrored = map[string]string{"=": "=", "<>": "<>", "<": ">", ">": "<", "<=": ">=", ">=": "<=", "@>": "<@", "<@": "@>", "&&": "&&"}

func (t *typing) compare(op string, a, b value) (gate.Cond[any], error) {
	var none gate.Cond[any]
	if a.literal && !b.literal {
		a, b, op = b, a, mirrored[op]
	}
	for _, v := range []value{a, b} {
		if v.column == nil {
			continue
		}
		if !v.column.Comparable() {
			return none, v.node.Errorf("rows cannot be chosen by %s", v.node)
		}
		if op != "=" && op != "<>" && (!v.column.Sortable() || v.column.Type == gate.TypeEnum) {
			return none, v.node.Errorf("%s has no order; compare it by =, <> or IN", v.node)
		}
	}
	if !b.literal {
		if a.family != b.family {
			return none, b.node.Errorf("%s is %s and cannot be compared with %s, which is %s", b.node, b.family, a.node, a.family)
		}
		return a.term.CompareTo(op, b.term), nil
	}
	if a.column != nil {
		arg, err := a.argument(b.node)
		if err != nil {
			return t.byNumber(op, a, b, err)
		}
		return a.term.Compare(op, arg), nil
	}
	if a.family != b.family {
		return none, b.node.Errorf("expected %s to compare with %s; got %s", a.family, a.node, b.node)
	}
	switch {
	case a.literal && a.family != numbers:
		return none, a.node.Errorf("expected a property on one side; got %s and %s", a.node, b.node)
	case a.literal:
		return gate.NumberTerm(a.node.Value).CompareTo(op, gate.NumberTerm(b.node.Value)), nil
	case a.family == texts: // in small letters
		return a.term.CompareTo(op, literalText(b.node)), nil
	}
	return a.term.CompareTo(op, gate.NumberTerm(b.node.Value)), nil
}

// literalText is a text, in small letters where CASEI stands around it.
func literalText(n *cql2.Node) gate.Term {
	if n.Op == cql2.CaseI {
		return gate.LowerTerm(literalText(n.Args[0]))
	}
	return gate.TextTerm(n.Value)
}

// byNumber compares a column of numbers with one that it cannot hold, such as
// whole ones with 10.5; err is what that gave.
func (t *typing) byNumber(op string, a, b value, err error) (gate.Cond[any], error) {
	if a.family == numbers && b.family == numbers {
		return a.term.CompareTo(op, gate.NumberTerm(b.node.Value)), nil
	}
	return gate.Cond[any]{}, err
}

// argument reads a literal as a value of the column.
func (v value) argument(n *cql2.Node) (any, error) {
	text := n.Value
	wrong := func(err error) error { return n.Errorf("%s %v", v.node, err) }
	switch {
	case n.Op == cql2.CaseI:
		arg, err := v.argument(n.Args[0])
		if s, ok := arg.(string); ok && v.family == texts {
			return strings.ToLower(s), nil
		}
		return arg, err
	case n.Op == cql2.Date && v.family == moments:
		text += "T00:00:00"
		if v.column.Type == gate.TypeTimestampTZ {
			text += "Z"
		}
	case n.Op == cql2.Timestamp && v.column.Type == gate.TypeTimestamp:
		text = strings.TrimSuffix(text, "Z") // which such literals have in CQL2, whatever they are compared with
	case n.Op == cql2.Timestamp && v.family == days:
		return nil, n.Errorf("%s is a date; compare it with DATE('2026-05-01')", v.node)
	case n.Op == cql2.Number && v.family != numbers, n.Op == cql2.Boolean && v.family != booleans, n.Op == cql2.Text && (v.family == numbers && !gate.NonFinite(text) || v.family == booleans), n.Op == cql2.List:
		return nil, n.Errorf("expected %s to compare with %s; got %s", v.wanted(), v.node, n)
	}
	if v.column.Type == gate.TypeEnum {
		if fault := v.column.LabelFault(text); fault != "" {
			return nil, n.Errorf("%s %s", v.node, fault)
		}
	}
	arg, err := v.info.Argument(v.index, text)
	if err != nil {
		return nil, wrong(err)
	}
	if fault := v.engine.OwnForm(v.column, text); fault != "" {
		return nil, wrong(errors.New(fault))
	}
	return arg, nil
}

// wanted says what the value is compared with.
func (v value) wanted() string {
	if v.column != nil && v.column.Type == gate.TypeEnum {
		return "one of " + strings.Join(v.column.Labels, ", ")
	}
	switch v.family {
	case numbers, booleans:
		return string(v.family)
	}
	return string(v.family) + " in single quotes"
}

func (t *typing) like(n *cql2.Node) (gate.Cond[any], error) {
	var none gate.Cond[any]
	v, err := t.value(n.Args[0])
	if err != nil {
		return none, err
	}
	pattern := n.Args[1]
	fold := pattern.Op == cql2.CaseI
	for pattern.Op == cql2.CaseI {
		pattern = pattern.Args[0]
	}
	if pattern.Op != cql2.Text {
		return none, pattern.Errorf("expected a pattern in single quotes, such as 'Sun%%'; got %s", pattern)
	}
	if v.family != texts || v.literal {
		return none, n.Args[0].Errorf("LIKE asks of a property that is a text; got %s", n.Args[0])
	}
	if len(pattern.Value) > mostPattern {
		return none, pattern.Errorf("a pattern has at most %d bytes; this one has %d", mostPattern, len(pattern.Value))
	}
	switch {
	case fold && n.Args[0].Op == cql2.CaseI:
		return v.term.MatchesFold(pattern.Value), nil
	case fold: // a text as it is, against a pattern in small letters
		return v.term.Matches(strings.ToLower(pattern.Value)), nil
	}
	return v.term.Matches(pattern.Value), nil
}

func (t *typing) in(n *cql2.Node) (gate.Cond[any], error) {
	var none gate.Cond[any]
	v, err := t.value(n.Args[0])
	if err != nil {
		return none, err
	}
	if v.literal {
		return none, n.Args[0].Errorf("IN asks of a property; got %s", n.Args[0])
	}
	if v.column != nil && !v.column.Comparable() {
		return none, v.node.Errorf("rows cannot be chosen by %s", v.node)
	}
	if list := n.Args[1]; len(list.Args) == 0 && list.Value != fromClaims {
		return none, list.Errorf("IN wants one value at least in its list")
	}
	var args []any
	var conds []gate.Cond[any]
	for _, item := range n.Args[1].Args {
		other, err := t.value(item)
		if err != nil {
			return none, err
		}
		if v.column != nil && other.literal {
			if arg, err := v.argument(item); err == nil {
				args = append(args, arg)
				continue
			}
		}
		cond, err := t.compare("=", v, other)
		if err != nil {
			return none, err
		}
		conds = append(conds, cond)
	}
	if len(args) > 0 || len(conds) == 0 {
		conds = append(conds, v.term.In(args))
	}
	return gate.Or(conds...), nil
}

// listOps are the operators of arrays in the database.
var listOps = map[cql2.Op]string{cql2.Equals: "=", cql2.Contains: "@>", cql2.ContainedBy: "<@", cql2.Overlaps: "&&"}

func (t *typing) compareLists(n *cql2.Node, a, b value) (gate.Cond[any], error) {
	var none gate.Cond[any]
	op := listOps[n.Op]
	if a.literal && !b.literal {
		a, b, op = b, a, mirrored[op]
	}
	for _, v := range []value{a, b} {
		if v.family != lists || v.literal && v.node == a.node {
			return none, v.node.Errorf("%s asks of a property that is a list; got %s", strings.ToUpper(string(n.Op)), v.node)
		}
	}
	if !b.literal {
		return a.term.CompareTo(op, b.term), nil
	}
	text := []byte{'['}
	for i, item := range b.node.Args {
		if i > 0 {
			text = append(text, ',')
		}
		switch item.Op {
		case cql2.Number, cql2.Boolean:
			text = append(text, item.Value...)
		case cql2.Text, cql2.Date, cql2.Timestamp:
			text = gate.AppendJSONString(text, item.Value)
		default:
			return none, item.Errorf("a list to compare with holds values; got %s", item)
		}
	}
	arg, err := a.info.Argument(a.index, string(append(text, ']')))
	if err != nil {
		return none, b.node.Errorf("%s: %v", a.node, err)
	}
	return a.term.Compare(op, arg), nil
}

// contains holds where each word of the text stands in one of the text columns.
func (r *resource) contains(text string) (gate.Cond[any], error) {
	var columns []gate.Term
	for _, m := range r.stored() {
		if r.info.Columns[m.column].Type == gate.TypeText {
			columns = append(columns, r.info.Term(m.column))
		}
	}
	if len(columns) == 0 {
		return gate.Cond[any]{}, NewProblem(http.StatusBadRequest, "q: %s have no texts to search", r.path)
	}
	if len(text) > mostPattern {
		return gate.Cond[any]{}, NewProblem(http.StatusBadRequest, "q: at most %d bytes; got %d", mostPattern, len(text))
	}
	words := strings.Fields(text)
	if len(words) > maxWords {
		return gate.Cond[any]{}, NewProblem(http.StatusBadRequest, "q: at most %d words", maxWords)
	}
	var all []gate.Cond[any]
	for _, word := range words {
		var some []gate.Cond[any]
		for _, c := range columns {
			some = append(some, c.HoldsText(word))
		}
		all = append(all, gate.Or(some...))
	}
	return gate.And(all...), nil
}

// The bounds of searches: words, and bytes of them and of patterns.
const (
	maxWords    = 10
	mostPattern = 1000
)
