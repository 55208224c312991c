package rest

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"beekeeping/store/gate"
)

// maxOffset is how many rows can be skipped; pages further on are reached by after.
const maxOffset = 100_000

// List is a request for rows of a collection. Its Query can be narrowed before
// the list is sent.
type List[E any] struct {
	Query *gate.Query[E]
	page  listing
}

// listing is what a request says about the rows that it wants, apart from
// which ones.
type listing struct {
	res    *resource
	format format
	limit  int // 0 is none
	offset int
	after  string
	count  bool
	only   []member // the columns to show; nil is all
	alone  bool     // it is one row, and no list
	nodes  []node

	language, filter string // which can be read only when both are known
}

// listParameters are those of lists that are no columns.
var listParameters = []string{"limit", "after", "offset", "sortby", "properties", "filter", "filter-lang", "q", "with", "count", "f"}

// ReadList reads the parameters of a request for a collection.
//
//go:noinline
func ReadList[E, K any](r *http.Request, s *Shape[E, K]) (*List[E], error) {
	res, err := s.res.in(r.Context(), toRead)
	if err != nil {
		return nil, err
	}
	page, query, err := readList(r, res, res.among(gate.Untyped(s.query)))
	if err != nil {
		return nil, err
	}
	return &List[E]{gate.Typed[E](query), page}, nil
}

// SendList answers with a page of the list.
//
//go:noinline
func SendList[E, K any](w http.ResponseWriter, r *http.Request, s *Shape[E, K], l *List[E]) error {
	return l.page.send(w, r, gate.Untyped(l.Query))
}

func readList(r *http.Request, res *resource, query *gate.Query[any]) (listing, *gate.Query[any], error) {
	l := listing{res: res, limit: res.api.config.Limits.Page}
	values, err := readQuery(r)
	if err != nil {
		return l, nil, err
	}
	if l.format, err = chooseFormat(r, values.Get("f"), rowFormats); err != nil {
		return l, nil, err
	}
	for _, name := range sortedNames(values) {
		if query, err = l.readParameter(query, name, values[name]); err != nil {
			return l, nil, err
		}
	}
	if l.filter != "" {
		cond, err := res.readFilter(l.language, l.filter)
		if err != nil {
			return l, nil, err
		}
		query = query.Where(cond)
	}
	return l, query, l.check()
}

// readQuery reads the parameters of a request.
func readQuery(r *http.Request) (url.Values, error) {
	// Semicolons stand in the options of with, and part no parameters.
	values, err := url.ParseQuery(strings.ReplaceAll(r.URL.RawQuery, ";", "%3B"))
	if err != nil {
		return nil, NewProblem(http.StatusBadRequest, "the query cannot be read: %v", err)
	}
	for name, texts := range values {
		for _, text := range append(texts, name) {
			if !utf8.ValidString(text) || strings.IndexByte(text, 0) >= 0 {
				return nil, NewProblem(http.StatusBadRequest, "the query cannot be read: %q is not UTF-8, or holds the character U+0000", text)
			}
		}
	}
	return values, nil
}

// sortedNames are the names of parameters, sorted so that the same request
// always fails alike.
func sortedNames(values url.Values) []string {
	names := make([]string, 0, len(values))
	for name := range values {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

func (l *listing) readParameter(query *gate.Query[any], name string, values []string) (*gate.Query[any], error) {
	res, last := l.res, values[len(values)-1]
	var err error
	switch name {
	case "f":
	case "limit":
		l.limit, err = readLimit(last, res.api.config.Limits.Rows)
	case "offset":
		l.offset, err = readWhole("offset", last, maxOffset)
	case "after":
		l.after = last
	case "count":
		if l.count, err = strconv.ParseBool(last); err != nil {
			err = NewProblem(http.StatusBadRequest, "count wants true or false; got %q", last)
		}
	case "with":
		l.nodes, err = res.parseWith(strings.Join(values, ","))
	case "properties":
		l.only, err = res.parseProperties(strings.Join(values, ","))
	case "filter":
		l.filter = last
		if last == "" {
			err = NewProblem(http.StatusBadRequest, "filter is empty; leave it out, or say something such as id = 1")
		}
	case "filter-lang":
		l.language = last
	case "q":
		cond, err := res.contains(last)
		return query.Where(cond), err
	case "sortby":
		return res.readOrder(query, last)
	default:
		return readEquality(query, res, name, values)
	}
	return query, err
}

// readLimit reads how many rows a page has; 0 is all.
func readLimit(text string, most int) (int, error) {
	if text == "none" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > most {
		return 0, NewProblem(http.StatusBadRequest, "limit wants a whole number from 1 to %d, or none for an export; got %q", most, text)
	}
	return n, nil
}

func readWhole(name, text string, most int) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > most {
		return 0, NewProblem(http.StatusBadRequest, "%s wants a whole number from 0 to %d; got %q", name, most, text)
	}
	return n, nil
}

// check refuses what does not go together.
func (l *listing) check() error {
	switch {
	case l.limit == 0 && !l.format.streams:
		return NewProblem(http.StatusBadRequest, "limit=none is for exports: ask for f=ndjson or f=csv")
	case l.limit == 0 && l.count:
		return NewProblem(http.StatusBadRequest, "count goes with pages, not with limit=none")
	case l.after != "" && l.offset > 0:
		return NewProblem(http.StatusBadRequest, "after and offset exclude each other")
	case len(l.nodes) > 0 && l.format.flat:
		return NewProblem(http.StatusBadRequest, "f=%s has no place for related rows; leave out with", l.format.name)
	}
	return nil
}

// parseProperties reads the columns to show, in the order named.
func (r *resource) parseProperties(text string) ([]member, error) {
	only := []member{}
	for _, name := range strings.Split(text, ",") {
		at := slices.IndexFunc(r.members, func(m member) bool { return r.nameOf(m) == name })
		if at < 0 {
			return nil, NewProblem(http.StatusBadRequest, "properties: %s have no property %q; they have %s", r.path, name, listOr(r.columnNames(), "none"))
		}
		if !slices.Contains(only, r.members[at]) {
			only = append(only, r.members[at])
		}
	}
	return only, nil
}

// readOrder reads -done_on,+name,apiary.name.
func (r *resource) readOrder(query *gate.Query[any], text string) (*gate.Query[any], error) {
	for _, step := range strings.Split(text, ",") {
		// A plus sign arrives as a space, unless it was encoded.
		name := strings.TrimLeft(step, "+ ")
		desc := strings.HasPrefix(name, "-")
		name = strings.TrimPrefix(name, "-")
		term, err := r.orderTerm(name)
		if err != nil {
			return nil, err
		}
		query = gate.OrderByTerm(query, term, desc)
	}
	return query, nil
}

func (r *resource) orderTerm(name string) (gate.Term, error) {
	words := strings.Split(name, ".")
	at := r
	var steps []*relation
	for _, word := range words[:len(words)-1] {
		rel := at.relation(word)
		if rel == nil || !rel.rel.Single() || len(steps) == maxDepth {
			return gate.Term{}, NewProblem(http.StatusBadRequest, "sortby: %s have no relation %q to one row; they have %s", at.path, word, listOr(at.singleNames(), "none"))
		}
		steps = append(steps, rel)
		at = rel.to()
	}
	column := words[len(words)-1]
	i, ok := at.find(column)
	if !ok {
		return gate.Term{}, NewProblem(http.StatusBadRequest, "sortby: %s have no column %q; they have %s", at.path, column, listOr(at.columnNames(), "none"))
	}
	if !at.info.Columns[i].Sortable() {
		return gate.Term{}, NewProblem(http.StatusBadRequest, "sortby: rows cannot be ordered by %s", name)
	}
	term := at.info.Term(i)
	for k := len(steps) - 1; k >= 0; k-- {
		term = steps[k].rel.Term(term)
	}
	return term, nil
}

// singleNames are the relations that lead to one row.
func (r *resource) singleNames() []string {
	var names []string
	for _, rel := range r.relations {
		if rel.rel.Single() {
			names = append(names, rel.name)
		}
	}
	return names
}

// readEquality reads a column's name as a parameter: equality, or one of
// several values. An empty value means null, except for texts.
func readEquality(query *gate.Query[any], res *resource, name string, values []string) (*gate.Query[any], error) {
	i, ok := res.find(name)
	if !ok {
		known := slices.Concat(listParameters, res.columnNames())
		return nil, NewProblem(http.StatusBadRequest, "there is no parameter %q; there are %s", name, strings.Join(known, ", "))
	}
	c := &res.info.Columns[i]
	if !c.Comparable() {
		return nil, NewProblem(http.StatusBadRequest, "rows cannot be chosen by %s", name)
	}
	term := res.info.Term(i)
	if c.Is(gate.Nullable) && c.Type != gate.TypeText && slices.Equal(values, []string{""}) {
		return query.Where(term.Null()), nil
	}
	args := make([]any, len(values))
	for k, v := range values {
		if c.Type == gate.TypeEnum && c.LabelFault(v) != "" {
			return nil, NewProblem(http.StatusBadRequest, "%s wants one of %s; got %q%s", name, strings.Join(c.Labels, ", "), v, nullHint(c, name, v))
		}
		var err error
		if args[k], err = res.info.Argument(i, v); err != nil {
			return nil, NewProblem(http.StatusBadRequest, "%s: %v%s", name, err, nullHint(c, name, v))
		}
		if fault := res.api.engine().OwnForm(c, v); fault != "" {
			return nil, NewProblem(http.StatusBadRequest, "%s: %s", name, fault)
		}
	}
	if len(args) == 1 {
		return query.Where(term.Compare("=", args[0])), nil
	}
	return query.Where(term.In(args)), nil
}

// nullHint says how rows without a value are asked for.
func nullHint(c *gate.Column, name, value string) string {
	if value != "null" || !c.Is(gate.Nullable) {
		return ""
	}
	return "; for rows without a value write " + name + "= and nothing behind it, or filter=" + name + " IS NULL"
}

// send answers with the rows of the query.
func (l *listing) send(w http.ResponseWriter, r *http.Request, query *gate.Query[any]) error {
	if l.limit == 0 {
		return l.export(w, r, query)
	}
	p := &pager{listing: l, ctx: r.Context(), db: l.res.api.readDB(r.Context()), scope: l.scope(r)}
	start, err := p.begin(query)
	if err != nil {
		return err
	}
	b := buffers.Get().(*[]byte)
	defer putBuffer(b)
	*b = append((*b)[:0], l.format.open...)
	set := &rowSet{listing: l, buffer: b, loose: p.loose}
	if err := set.read(p.ctx, p.db, start.Limit(l.limit+1), p.from.Backwards); err != nil {
		return err
	}
	around, err := p.around(set)
	if err != nil {
		return err
	}
	if l.count {
		if around.matched, err = query.Count(p.ctx, p.db); err != nil {
			return err
		}
	}
	l.addLinks(w, r, around)
	return l.format.sendPage(w, set, around)
}

// addLinks adds the links of RFC 8288 to the first, the next, the previous and the
// last page.
func (l *listing) addLinks(w http.ResponseWriter, r *http.Request, p page) {
	values, _ := readQuery(r) // which was read before
	values.Del("after")
	values.Del("offset")
	link := func(rel, name, value string) {
		if value != "" {
			values.Set(name, value)
		}
		u := url.URL{Path: r.URL.Path, RawPath: r.URL.RawPath, RawQuery: values.Encode()}
		w.Header().Add("Link", fmt.Sprintf("<%s>; rel=%q", u.String(), rel))
		values.Del(name)
	}
	link("first", "after", "")
	if p.next != "" {
		link("next", "after", p.next)
	}
	switch before := l.offset - l.limit; {
	case p.prev != "":
		link("prev", "after", p.prev)
	case l.offset > 0 && before > 0:
		link("prev", "offset", strconv.Itoa(before))
	case l.offset > 0:
		link("prev", "offset", "")
	}
	if p.last != "" {
		link("last", "after", p.last)
	}
}
