package rest

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"

	"widegate/gate"
)

// Shape says how rows of E, the pointer type of an entity, with keys of K look
// from outside.
type Shape[E, K any] struct {
	res      resource
	query    *gate.Query[E] // of all rows
	keyParts func(*K) []any
	withKey  func(K) gate.Cond[E]
}

// NoKey is the key type of rows that cannot be told apart.
type NoKey struct{}

// Relation is a relation of E with its name outside.
type Relation[E any] struct{ named relation }

// Relate names a relation.
//
//go:noinline
func Relate[E any](name string, r gate.Related[E]) Relation[E] {
	rel := gate.RelationOf(r)
	return Relation[E]{relation{
		name: name, rel: rel, target: rel.Target(), referring: rel.Holds() == nil,
		prefix: memberPrefix(name),
	}}
}

// resource is a shape without its types.
type resource struct {
	own        *resource // as the shape has it
	path       string
	base       string // before the path
	info       *gate.Info
	api        *API
	facets     []facet // of each column
	relations  []relation
	members    []member // the columns that are shown, and behind them what is computed
	listed     []member // the same in lists, where URLs stand in the place of large values
	computed   []computed
	places     map[string]int // of these, by their names
	contents   []int          // binary columns that are resources of their own
	referredBy []*resource
	rules      map[string]*rule // by the role that they bind

	odd  *gate.Odd // what is stored in place of values that do not fit
	view *view
	ctx  context.Context  // of the request, where the view differs from one caller to the next
	who  *Identity        // the same
	rows []gate.Cond[any] // all that may be dealt with

	all   *gate.Query[any]
	plans *sync.Pool // of *plan
	fault error      // why it cannot be served
	finds *gatherer  // nil where rows are read each by itself
	adds  *gatherer  // the same for storing them

	create func(ctx context.Context, tx gate.DB, rows []any) error // nil where rows are not stored
	alone  bool                                                    // create stores a row by one statement
}

// member is a column as a JSON member, or -1-i for what is computed, number i.
type member struct {
	column int
	prefix string // ,"name":
	link   string // of a binary column whose URL stands in its place: the last word of that
}

// relation is a Relation without its types.
type relation struct {
	name      string
	rel       gate.Relation
	target    *gate.Info
	referring bool // the rows at the other end hold the reference
	at        *resource
	prefix    string

	ctx   context.Context // of a request
	who   *Identity       // who sent it
	bound bool            // to it
	seen  *resource       // at, bound like this
}

// NewShape makes the shape of a table or view with a key.
//
//go:noinline
func NewShape[E, K any](path string, t gate.Keyed[E, K], relations ...Relation[E]) *Shape[E, K] {
	s := newShape[E, K](path, gate.QueryOf(t), relations)
	s.keyParts = func(key *K) []any { return gate.KeyParts(t, key) }
	s.withKey = func(key K) gate.Cond[E] { return gate.WithKey(t, key) }
	return s
}

// NewKeylessShape makes the shape of a view or table without a key.
//
//go:noinline
func NewKeylessShape[E any](path string, t gate.Described[E], relations ...Relation[E]) *Shape[E, NoKey] {
	return newShape[E, NoKey](path, gate.QueryOf(t), relations)
}

func newShape[E, K any](path string, all *gate.Query[E], relations []Relation[E]) *Shape[E, K] {
	info := gate.InfoOf(all)
	s := &Shape[E, K]{query: all, res: resource{path: path, info: info, all: gate.Untyped(all)}}
	for i := range info.Columns {
		c := &info.Columns[i]
		s.res.facets = append(s.res.facets, facet{name: c.Name, hidden: c.Is(gate.Hidden), secret: c.Is(gate.Hidden) && c.Required()})
	}
	s.res.own = &s.res
	s.res.index()
	for _, r := range relations {
		s.res.relations = append(s.res.relations, r.named)
	}
	return s
}

func (s *Shape[E, K]) resource() *resource { return &s.res }

// load builds the relations to load of the nodes of a tree.
func (r *resource) load(nodes []node) []gate.Relation {
	list := make([]gate.Relation, len(nodes))
	for i, n := range nodes {
		rel := r.relations[n.index].rel
		if n.query != nil {
			rel = rel.Narrowed(n.query)
		}
		list[i] = rel.With(n.to.load(n.children)...)
	}
	return list
}

// appendRow writes a row with the related rows that the nodes name.
func (r *resource) appendRow(b []byte, row any, nodes []node) []byte {
	return r.appendMembers(b, r.members, row, nodes)
}

// appendMembers writes some members of a row.
func (r *resource) appendMembers(b []byte, shown []member, row any, nodes []node) []byte {
	start := len(b)
	fields := fieldLists.Get().(*[]any)
	*fields = r.info.Fields((*fields)[:0], row)
	for _, m := range shown {
		b = append(b, m.prefix...)
		if m.column < 0 {
			b = r.appendComputed(b, m, row)
			continue
		}
		if m.link != "" {
			b = r.appendLink(b, m, (*fields)[m.column], row)
			continue
		}
		if text, null, odd := r.odd.Text((*fields)[m.column]); odd && null {
			b = append(b, "null"...)
			continue
		} else if odd {
			b = gate.AppendJSONString(b, text)
			continue
		}
		b = r.info.Columns[m.column].AppendJSON(b, (*fields)[m.column])
	}
	clear(*fields)
	fieldLists.Put(fields)
	for _, n := range nodes {
		rel := &r.relations[n.index]
		b = append(b, rel.prefix...)
		b = appendRelated(b, rel.rel, row, n)
	}
	if len(b) == start {
		return append(b, '{', '}')
	}
	b[start] = '{'
	return append(b, '}')
}

// fieldLists are slices for the pointers to the values of a row.
var fieldLists = sync.Pool{New: func() any { return new([]any) }}

func appendRelated(b []byte, rel gate.Relation, row any, n node) []byte {
	if rel.Single() {
		start := len(b)
		rel.Each(row, func(child any) { b = n.to.appendMembers(b, n.to.listed, child, n.children) })
		if len(b) == start {
			b = append(b, "null"...)
		}
		return b
	}
	b = append(b, '[')
	start := len(b)
	rel.Each(row, func(child any) {
		if len(b) > start {
			b = append(b, ',')
		}
		b = n.to.appendMembers(b, n.to.listed, child, n.children)
	})
	return append(b, ']')
}

func (r *resource) relationNames() []string {
	names := make([]string, len(r.relations))
	for i, rel := range r.relations {
		names[i] = rel.name
	}
	return names
}

// columnNames are those that are not hidden.
func (r *resource) columnNames() []string {
	names := make([]string, len(r.stored()))
	for i, m := range r.stored() {
		names[i] = r.facets[m.column].name
	}
	return names
}

// find returns the column of that name, unless it is hidden.
func (r *resource) find(name string) (int, bool) {
	i, ok := r.places[name]
	return i, ok
}

// findSent is find for a property of a body, which may be a secret that is taken
// and never shown.
func (r *resource) findSent(name string) (int, bool) {
	if i, ok := r.find(name); ok {
		return i, true
	}
	i := slices.IndexFunc(r.facets, func(f facet) bool { return f.secret && f.name == name })
	return max(i, 0), i >= 0
}

// outward is the name of a column from outside; there is none for one that is
// not shown.
func (r *resource) outward(column string) string {
	i, ok := r.info.Find(column)
	if !ok || r.facets[i].hidden {
		return ""
	}
	return r.facets[i].name
}

// outwards are the names of those columns that are shown.
func (r *resource) outwards(columns []string) []string {
	var names []string
	for _, c := range columns {
		if name := r.outward(c); name != "" {
			names = append(names, name)
		}
	}
	return names
}

func listOr(names []string, none string) string {
	if len(names) == 0 {
		return none
	}
	return strings.Join(names, ", ")
}

// keySegment is the segment of the request's path that stands for a wildcard
// of the route, as it was sent: a key is split before it is decoded.
func keySegment(r *http.Request, wildcard string) string {
	_, pattern, _ := strings.Cut(r.Pattern, " ")
	sent := strings.Split(r.URL.EscapedPath(), "/")
	for i, word := range strings.Split(pattern, "/") {
		if word == wildcard && i < len(sent) {
			return sent[i]
		}
	}
	return ""
}

// parseKey reads a key from a path: the values in the order of the key's
// columns, joined by commas, each percent-encoded.
func parseKey[E, K any](s *Shape[E, K], segment string) (K, error) {
	var key K
	parts := s.keyParts(&key)
	texts := []string{segment}
	if len(parts) > 1 {
		texts = strings.Split(segment, ",")
	} else if plain, ended := strings.CutSuffix(segment, keyEnd); ended && awkwardKey(plain) {
		texts[0] = plain
	}
	if len(texts) != len(parts) {
		var names []string
		for _, k := range s.res.info.Keys {
			names = append(names, s.res.info.Columns[k].Name)
		}
		return key, NewProblem(http.StatusNotFound, "a key of %s is %s, joined by commas", s.res.path, strings.Join(names, " and "))
	}
	for i, p := range parts {
		c := &s.res.info.Columns[s.res.info.Keys[i]]
		text, err := url.PathUnescape(texts[i])
		if err == nil {
			err = c.ReadText(p, text)
		}
		if fault := s.res.api.engine().OwnForm(c, text); err == nil && fault != "" {
			err = errors.New(fault)
		}
		if err != nil {
			return key, NewProblem(http.StatusNotFound, "no %s has this key: it %v", s.res.path, err)
		}
	}
	return key, nil
}

// keyEnd stands behind a key that could not be a segment of a path by itself. In
// values of keys it is percent-encoded.
const keyEnd = ";"

// awkwardKey reports whether a key, as it is written in a path, would be no
// segment of it, or be the word of another path.
func awkwardKey(segment string) bool {
	return segment == "" || segment == "." || segment == ".." || segment == "summary" || isSlash(segment)
}

// isSlash reports whether a segment is a slash, percent-encoded. net/http takes it
// for the end of a path.
func isSlash(segment string) bool { return segment == "%2F" || segment == "%2f" }

// markSlashes marks the ends of such segments of a path.
func markSlashes(u *url.URL) *url.URL {
	if !strings.Contains(u.RawPath, "/%2F") && !strings.Contains(u.RawPath, "/%2f") {
		return u
	}
	words := strings.Split(u.RawPath, "/")
	for i, word := range words {
		if isSlash(word) {
			words[i] += keyEnd
		}
	}
	marked := *u
	marked.RawPath = strings.Join(words, "/")
	marked.Path, _ = url.PathUnescape(marked.RawPath) // which is an encoding, as it was before
	return &marked
}

// KeySegment is a key as it stands in a path: the texts of its values.
func KeySegment(texts ...string) string {
	parts := make([]string, len(texts))
	for i, text := range texts {
		parts[i] = url.PathEscape(text)
	}
	segment := strings.Join(parts, ",")
	if awkwardKey(segment) {
		return segment + keyEnd
	}
	return segment
}

// location is the path of a row.
func (r *resource) location(row any) string {
	fields := r.info.Fields(nil, row)
	texts := make([]string, len(r.info.Keys))
	for i, k := range r.info.Keys {
		texts[i] = string(gate.AppendText(nil, fields[k]))
	}
	return fmt.Sprintf("%s/%s/%s", r.base, r.path, KeySegment(texts...))
}
