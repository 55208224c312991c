package rest

import (
	"encoding/base64"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"

	"widegate/gate"
)

// The bounds of a page.
const (
	defaultLimit = 50
	maxLimit     = 1000
)

// List is a request for rows of a collection. Its Query can be narrowed before
// the list is sent.
type List[E any] struct {
	Query *gate.Query[E]
	limit int
	after string
	count bool
	nodes []node
}

// The parameters of lists that are no columns.
var listParameters = []string{"limit", "after", "sortby", "with", "count"}

// ReadList reads the parameters of a request for a collection.
//
//go:noinline
func ReadList[E, K any](r *http.Request, s *Shape[E, K]) (*List[E], error) {
	return readList(r, s, s.query)
}

func readList[E, K any](r *http.Request, s *Shape[E, K], query *gate.Query[E]) (*List[E], error) {
	if err := acceptJSON(r); err != nil {
		return nil, err
	}
	values, err := url.ParseQuery(r.URL.RawQuery)
	if err != nil {
		return nil, NewProblem(http.StatusBadRequest, "the query cannot be read: %v", err)
	}
	l := &List[E]{Query: query, limit: defaultLimit}
	names := make([]string, 0, len(values))
	for name := range values {
		names = append(names, name)
	}
	slices.Sort(names) // so that the same request always fails alike
	for _, name := range names {
		if err := readParameter(l, &s.res, name, values[name]); err != nil {
			return nil, err
		}
	}
	setRelated(l, &s.res)
	return l, nil
}

func readParameter[E any](l *List[E], res *resource, name string, values []string) (err error) {
	last := values[len(values)-1]
	switch name {
	case "limit":
		l.limit, err = strconv.Atoi(last)
		if err != nil || l.limit < 1 || l.limit > maxLimit {
			return NewProblem(http.StatusBadRequest, "limit wants a whole number from 1 to %d; got %q", maxLimit, last)
		}
	case "after":
		l.after = last
	case "count":
		if l.count, err = strconv.ParseBool(last); err != nil {
			return NewProblem(http.StatusBadRequest, "count wants true or false; got %q", last)
		}
	case "with":
		l.nodes, err = res.parseWith(last)
		return err
	case "sortby":
		return readOrder(l, res, last)
	default:
		return readEquality(l, res, name, values)
	}
	return nil
}

func readOrder[E any](l *List[E], res *resource, text string) error {
	for _, step := range strings.Split(text, ",") {
		// A plus sign arrives as a space, unless it was encoded.
		name := strings.TrimLeft(step, "+ ")
		desc := strings.HasPrefix(name, "-")
		name = strings.TrimPrefix(name, "-")
		i, ok := res.find(name)
		if !ok {
			return NewProblem(http.StatusBadRequest, "sortby: %s have no column %q; they have %s", res.path, name, listOr(res.columnNames(), "none"))
		}
		if !res.info.Columns[i].Sortable() {
			return NewProblem(http.StatusBadRequest, "sortby: rows cannot be ordered by %s", name)
		}
		l.Query = gate.OrderByColumn(l.Query, name, desc)
	}
	return nil
}

// readEquality reads a column's name as a parameter: equality, or one of
// several values. An empty value means null, except for texts.
func readEquality[E any](l *List[E], res *resource, name string, values []string) error {
	i, ok := res.find(name)
	if !ok {
		known := slices.Concat(listParameters, res.columnNames())
		return NewProblem(http.StatusBadRequest, "there is no parameter %q; there are %s", name, strings.Join(known, ", "))
	}
	c := &res.info.Columns[i]
	if !c.Comparable() {
		return NewProblem(http.StatusBadRequest, "rows cannot be chosen by %s", name)
	}
	if c.Is(gate.Nullable) && c.Type != gate.TypeText && slices.Equal(values, []string{""}) {
		values = nil
	}
	if c.Type == gate.TypeEnum {
		for _, v := range values {
			if !slices.Contains(c.Labels, v) {
				return NewProblem(http.StatusBadRequest, "%s wants one of %s; got %q", name, strings.Join(c.Labels, ", "), v)
			}
		}
	}
	query, err := gate.WhereColumn(l.Query, name, values...)
	if err != nil {
		return NewProblem(http.StatusBadRequest, "%s: %v", name, err)
	}
	l.Query = query
	return nil
}

func setRelated[E any](l *List[E], res *resource) {
	l.Query = gate.WithRelations(l.Query, res.load(l.nodes)...)
}

// SendList answers with a page of the list.
//
//go:noinline
func SendList[E, K any](w http.ResponseWriter, r *http.Request, s *Shape[E, K], l *List[E]) error {
	db := s.res.api.config.DB
	query := gate.OrderByKey(l.Query)
	page, offset, err := pageOf(l, &s.res, query)
	if err != nil {
		return err
	}
	rows, err := page.Limit(l.limit+1).All(r.Context(), db)
	if err != nil {
		return err
	}
	next := ""
	if len(rows) > l.limit {
		rows = rows[:l.limit]
		if next, err = nextPlace(&s.res, query, rows[l.limit-1], offset+l.limit); err != nil {
			return err
		}
	}
	matched := int64(-1)
	if l.count {
		if matched, err = l.Query.Count(r.Context(), db); err != nil {
			return err
		}
	}
	b := buffers.Get().(*[]byte)
	defer putBuffer(b)
	*b = append((*b)[:0], `{"items":[`...)
	for i := range rows {
		if i > 0 {
			*b = append(*b, ',')
		}
		*b = s.res.appendRow(*b, rows[i], l.nodes)
	}
	*b = append(*b, ']')
	addLinks(w, r, next)
	if next != "" {
		*b = append(*b, `,"next":`...)
		*b = gate.AppendJSONString(*b, next)
	}
	if matched >= 0 {
		*b = append(*b, `,"matched":`...)
		*b = strconv.AppendInt(*b, matched, 10)
	}
	*b = append(*b, '}', '\n')
	sendJSON(w, http.StatusOK, *b)
	return nil
}

// nextPlace is where the page behind row begins.
func nextPlace[E any](res *resource, query *gate.Query[E], row E, offset int) (string, error) {
	if len(res.info.Keys) == 0 {
		return offsetCursor(offset), nil
	}
	return gate.Cursor(query, row)
}

// pageOf continues the query after the cursor. Rows without a key are paged by
// their number, for want of anything to tell them apart.
func pageOf[E any](l *List[E], res *resource, query *gate.Query[E]) (*gate.Query[E], int, error) {
	if l.after == "" {
		return query, 0, nil
	}
	bad := NewProblem(http.StatusBadRequest, "after wants the `next` of an answer to the same request")
	if len(res.info.Keys) == 0 {
		n, err := parseOffsetCursor(l.after)
		if err != nil {
			return query, 0, bad
		}
		return query.Offset(n), n, nil
	}
	page, err := gate.After(query, l.after)
	if errors.Is(err, gate.ErrCursor) {
		return query, 0, bad
	}
	return page, 0, err
}

func offsetCursor(n int) string {
	return base64.RawURLEncoding.EncodeToString([]byte("row " + strconv.Itoa(n)))
}

func parseOffsetCursor(text string) (int, error) {
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil {
		return 0, err
	}
	digits, ok := strings.CutPrefix(string(raw), "row ")
	n, err := strconv.Atoi(digits)
	if !ok || err != nil || n < 0 {
		return 0, gate.ErrCursor
	}
	return n, nil
}

// addLinks adds the links of RFC 8288 to the first and the next page.
func addLinks(w http.ResponseWriter, r *http.Request, next string) {
	values := r.URL.Query()
	link := func(rel string) {
		u := url.URL{Path: r.URL.Path, RawPath: r.URL.RawPath, RawQuery: values.Encode()}
		w.Header().Add("Link", fmt.Sprintf("<%s>; rel=%q", u.String(), rel))
	}
	values.Del("after")
	link("first")
	if next != "" {
		values.Set("after", next)
		link("next")
	}
}

// ReadKey reads the key of the row that a request is for.
//
//go:noinline
func ReadKey[E, K any](r *http.Request, s *Shape[E, K]) (K, error) {
	return parseKey(s, keySegment(r, "{key}"))
}

// SendRow answers with the row of a key.
//
//go:noinline
func SendRow[E, K any](w http.ResponseWriter, r *http.Request, s *Shape[E, K], key K) error {
	return sendFirst(w, r, s, s.query.Where(s.withKey(key)))
}

// sendFirst answers with the first row of a query.
func sendFirst[E, K any](w http.ResponseWriter, r *http.Request, s *Shape[E, K], query *gate.Query[E]) error {
	if err := acceptJSON(r); err != nil {
		return err
	}
	l := &List[E]{Query: query}
	for name, values := range r.URL.Query() {
		if name != "with" {
			return NewProblem(http.StatusBadRequest, "there is no parameter %q here; there is with", name)
		}
		nodes, err := s.res.parseWith(values[len(values)-1])
		if err != nil {
			return err
		}
		l.nodes = nodes
	}
	setRelated(l, &s.res)
	row, err := l.Query.First(r.Context(), s.res.api.config.DB)
	if err != nil {
		return err
	}
	sendRow(w, http.StatusOK, &s.res, row, l.nodes)
	return nil
}

// ListUnder lists the rows related to one row of P.
//
//go:noinline
func ListUnder[P, PK, C, CK any](parent *Shape[P, PK], of func(P) *gate.Query[C], child *Shape[C, CK]) Handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		row, err := readParent(r, parent)
		if err != nil {
			return err
		}
		l, err := readList(r, child, of(row))
		if err != nil {
			return err
		}
		return SendList(w, r, child, l)
	}
}

// GetUnder sends the one row related to a row of P.
//
//go:noinline
func GetUnder[P, PK, C, CK any](parent *Shape[P, PK], of func(P) *gate.Query[C], child *Shape[C, CK]) Handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		row, err := readParent(r, parent)
		if err != nil {
			return err
		}
		return sendFirst(w, r, child, of(row))
	}
}

func readParent[P, K any](r *http.Request, s *Shape[P, K]) (P, error) {
	key, err := ReadKey(r, s)
	if err != nil {
		var none P
		return none, err
	}
	return find(r.Context(), s.res.api.config.DB, s, key)
}

// buffers are those in which answers are written. Ones that grew large are
// given up, so that one large answer does not hold its memory for ever.
var buffers = sync.Pool{New: func() any { b := make([]byte, 0, 4<<10); return &b }}

const maxKeptBuffer = 1 << 20

func putBuffer(b *[]byte) {
	if cap(*b) <= maxKeptBuffer {
		buffers.Put(b)
	}
}

func sendRow(w http.ResponseWriter, status int, res *resource, row any, nodes []node) {
	b := buffers.Get().(*[]byte)
	defer putBuffer(b)
	*b = res.appendRow((*b)[:0], row, nodes)
	*b = append(*b, '\n')
	sendJSON(w, status, *b)
}

func sendJSON(w http.ResponseWriter, status int, b []byte) {
	h := w.Header()
	h.Set("Content-Type", "application/json")
	h.Set("Content-Length", strconv.Itoa(len(b)))
	w.WriteHeader(status)
	w.Write(b) // an error means that nobody listens any more
}

// acceptJSON refuses requests that want no JSON.
func acceptJSON(r *http.Request) error {
	accept := r.Header.Values("Accept")
	if len(accept) == 0 {
		return nil
	}
	for _, part := range strings.Split(strings.Join(accept, ","), ",") {
		media, params, err := mime.ParseMediaType(part)
		if err != nil || params["q"] == "0" {
			continue
		}
		if media == "*/*" || media == "application/*" || media == "application/json" {
			return nil
		}
	}
	return NewProblem(http.StatusNotAcceptable, "answers here are application/json; Accept wants %s", strings.Join(accept, ", "))
}
