// Package remote reaches the service of a project with the verbs of its store: what
// Connect returns stands where the store has a database.
//
//	hives := remote.Connect("https://bees.example/api", client.Interface())
//	list, err := store.Hives.Where(store.Hives.Frames.More(9)).With(store.Hives.Apiary).All(ctx, hives)
//
// Requests and answers are those of the service's document: conditions travel as CQL2
// text, changes as patches with the ETag of the row, and new rows under an idempotency
// key where the service keeps them. What is refused comes back as the errors that the
// store has: gate.ErrNotFound, gate.ErrStale, gate.Faults, gate.ConstraintError,
// gate.ErrUnavailable; errors.As finds the Problem that the service sent. What only a
// database does, such as transactions and SQL, is gate.ErrNotOffered; see Service.Batch.
package remote

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"widegate/gate"
	"widegate/gate/cql2"
)

// Interface is what a client was made from.
type Interface struct {
	ETag      string // of the document
	Base      string // where the paths of the service begin
	Rows      int    // the most rows of a page
	Camel     bool   // names are in camel case
	Keeps     bool   // the service keeps idempotency keys
	Resources []Resource
}

// Resource is a table or view as the service shows it.
type Resource struct {
	path      string
	info      *gate.Info
	relations []Relation
	contents  []string // binary columns that are resources of their own
}

// Describe says under which path rows of E are.
//
//go:noinline
func Describe[E any](path string, t gate.Described[E], relations ...Relation) Resource {
	return Resource{path: path, info: gate.InfoOf(gate.QueryOf(t)), relations: relations}
}

// Contents names binary columns of which lists show where their bytes are.
func (r Resource) Contents(columns ...string) Resource {
	r.contents = columns
	return r
}

// Relation is a relation with its name outside.
type Relation struct {
	name, path string
	relation   gate.Relation
}

// Relate names a relation.
//
//go:noinline
func Relate[E any](name string, r gate.Related[E]) Relation {
	return RelateAt(name, strings.ReplaceAll(name, "_", "-"), r)
}

// RelateAt names a relation whose path does not follow from its name.
//
//go:noinline
func RelateAt[E any](name, path string, r gate.Related[E]) Relation {
	return Relation{name, path, gate.RelationOf(r)}
}

// Options say how a service is reached.
type Options struct {
	// Token has the bearer token of a request; empty is none.
	Token  func(ctx context.Context) (string, error)
	Header http.Header // more headers
	Client *http.Client
	// Retries is how often a request is sent again where that can do no harm: 3 times
	// where nothing is said, and never for 0.
	Retries int
	// Wait is the longest pause before a request is sent again; a minute.
	Wait time.Duration
	// Report is told once how the service's interface differs from the one that the
	// client was made from; nil logs it. Unchecked does not compare them.
	Report    func(differences []string)
	Unchecked bool
}

// Service is a service in front of a database. It is safe for use by several
// goroutines.
type Service struct {
	url     string
	made    *Interface
	options Options
	byInfo  map[*gate.Info]*resource
	names   map[gate.Relation]*Relation
	tags    tags
	check   sync.Once
	batch   *batch // where calls are gathered in place of being sent
}

// resource is a Resource with what follows from it.
type resource struct {
	Resource
	columns []string       // the names of the columns outside
	place   map[string]int // of columns, by these names
	links   map[string]int // of contents, by the names of their addresses
	related map[string]*Relation
	readers *sync.Pool // of *reader, for single rows
}

// Connect makes a service of its address, where the paths of its resources begin. It
// sends nothing yet.
func Connect(address string, made Interface, adjust ...func(*Options)) (*Service, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("connecting to %q: expected an address such as https://bees.example/api", address)
	}
	s := &Service{url: strings.TrimRight(address, "/"), made: &made, byInfo: map[*gate.Info]*resource{}, names: map[gate.Relation]*Relation{}, tags: tags{&sync.Map{}}}
	s.options = Options{Client: http.DefaultClient, Retries: 3, Wait: time.Minute}
	for _, do := range adjust {
		do(&s.options)
	}
	if s.options.Client == nil {
		s.options.Client = http.DefaultClient
	}
	for _, r := range made.Resources {
		s.byInfo[r.info] = s.add(r)
	}
	return s, nil
}

// hides reports whether column i is not shown.
func (r *resource) hides(i int) bool { return r.info.Columns[i].Is(gate.Hidden) }

func (s *Service) add(from Resource) *resource {
	r := &resource{Resource: from, place: map[string]int{}, links: map[string]int{}, related: map[string]*Relation{}}
	r.readers = &sync.Pool{New: func() any { return s.newReader(r) }}
	for i := range r.info.Columns {
		name := r.info.Columns[i].Name
		address := name + "_url"
		if s.made.Camel {
			name, address = gate.CamelCase(name), gate.CamelCase(address)
		}
		r.columns = append(r.columns, name)
		if !r.hides(i) {
			r.place[name] = i
		}
		if slices.Contains(r.contents, r.info.Columns[i].Name) {
			r.links[address] = i
		}
	}
	for i := range r.relations {
		rel := &r.relations[i]
		r.related[rel.name] = rel
		s.names[rel.relation.Root()] = rel
	}
	return r
}

// resourceOf is the resource of a table.
func (s *Service) resourceOf(t *gate.Info) (*resource, error) {
	if r, ok := s.byInfo[t]; ok {
		return r, nil
	}
	return nil, fmt.Errorf("the service does not show %s: %w", t.Name, gate.ErrNotOffered)
}

// ColumnName implements gate.Naming.
func (s *Service) ColumnName(t *gate.Info, i int) (string, error) {
	r, err := s.resourceOf(t)
	if err != nil {
		return "", err
	}
	if r.hides(i) {
		return "", fmt.Errorf("the service hides %s of %s: %w", t.Columns[i].Name, r.path, gate.ErrNotOffered)
	}
	return r.columns[i], nil
}

// RelationName implements gate.Naming.
func (s *Service) RelationName(r gate.Relation) (string, error) {
	rel, err := s.relation(r)
	if err != nil {
		return "", err
	}
	return rel.name, nil
}

// Word implements gate.Naming.
func (s *Service) Word(name string) string { return cql2.Name(name) }

// Quote implements gate.Naming.
func (s *Service) Quote(text string) string { return cql2.Quote(text) }

func (s *Service) relation(r gate.Relation) (*Relation, error) {
	if rel, ok := s.names[r.Root()]; ok {
		return rel, nil
	}
	return nil, fmt.Errorf("the service does not show the relation of %s to %s: %w", r.Parent().Name, r.Target().Name, gate.ErrNotOffered)
}

// Engine implements gate.DB. No statement is written for a service.
func (s *Service) Engine() *gate.Engine {
	return &gate.Engine{Name: "service", Dialect: noDialect{}, Quote: '"'}
}

var errNoSQL = fmt.Errorf("running SQL: %w", gate.ErrNotOffered)

// Query implements gate.DB; a service takes no statements.
func (s *Service) Query(context.Context, string, []any) (gate.Rows, error) { return nil, errNoSQL }

// Exec implements gate.DB; a service takes no statements.
func (s *Service) Exec(context.Context, string, []any) (gate.Result, error) {
	return gate.Result{}, errNoSQL
}

// InTx implements gate.DB. A service gives its callers no transactions; Batch makes
// several changes in one.
func (s *Service) InTx(context.Context, gate.TxOptions, func(tx gate.DB) error) error {
	return fmt.Errorf("a transaction: %w; several changes are made in one by Batch", gate.ErrNotOffered)
}

// Ping asks the service whether it is ready.
func (s *Service) Ping(ctx context.Context) error {
	answer, err := s.send(ctx, call{method: http.MethodGet, root: true, path: "/health/ready", safe: true})
	if err != nil {
		return err
	}
	return answer.close()
}

// Close implements gate.DB, and closes connections that nobody uses.
func (s *Service) Close() error {
	s.options.Client.CloseIdleConnections()
	return nil
}

// FindRow implements gate.Remote.
func (s *Service) FindRow(ctx context.Context, t *gate.Info, parts []any) (any, error) {
	if err := s.reading(); err != nil {
		return nil, err
	}
	r, err := s.resourceOf(t)
	if err != nil {
		return nil, err
	}
	a, err := s.send(ctx, call{method: http.MethodGet, path: r.at(parts), safe: true, about: r, row: true})
	if err != nil {
		return nil, err
	}
	text, err := a.text()
	if err != nil {
		return nil, err
	}
	row := t.New()
	if err := r.readOne(row, text); err != nil {
		return nil, err
	}
	s.tags.keep(row, a.header.Get("ETag"))
	return row, nil
}

// asked is what a query asks for, with the path and the parameters that say so.
type asked struct {
	gate.Asked
	res    *resource
	path   string
	values url.Values
}

// ask says what a query asks for.
func (s *Service) ask(q *gate.Query[any]) (*asked, error) {
	if err := s.reading(); err != nil {
		return nil, err
	}
	r, err := s.resourceOf(gate.InfoOf(q))
	if err != nil {
		return nil, err
	}
	a := &asked{res: r, path: r.path, values: url.Values{}}
	if a.Asked, err = gate.Ask(q, s); err != nil {
		return nil, err
	}
	if a.Deleted {
		return nil, fmt.Errorf("reading rows that are marked as deleted: %w", gate.ErrNotOffered)
	}
	if a.Parent != nil {
		if a.path, err = s.pathOf(a.Of, a.Parent); err != nil {
			return nil, err
		}
	}
	set := func(name, value string) {
		if value != "" {
			a.values.Set(name, value)
		}
	}
	set("filter", a.Filter)
	set("sortby", a.Order)
	with, err := s.with(a.With, "")
	if err != nil {
		return nil, err
	}
	set("with", strings.Join(with, ","))
	properties, err := s.properties(r, a.Columns)
	set("properties", properties)
	return a, err
}

// pathOf is the path of the rows related to one row, given by the values that tell it.
func (s *Service) pathOf(of gate.Relation, values []any) (string, error) {
	rel, err := s.relation(of)
	if err != nil {
		return "", err
	}
	parent, err := s.resourceOf(of.Parent())
	if err != nil {
		return "", err
	}
	from, _ := of.LinkColumns()
	if !slices.Equal(from, of.Parent().Keys) {
		return "", fmt.Errorf("the rows of a relation that does not go by the key of %s: %w", parent.path, gate.ErrNotOffered)
	}
	fields := of.Parent().Fields(nil, of.Parent().New())
	parts := make([]any, len(from))
	for i, c := range from {
		if err := gate.Assign(fields[c], values[i]); err != nil {
			return "", fmt.Errorf("the key of %s: %w", parent.path, err)
		}
		parts[i] = fields[c]
	}
	return parent.at(parts) + "/" + rel.path, nil
}

// properties are the names of columns to read; empty is all.
func (s *Service) properties(r *resource, columns []int) (string, error) {
	if columns == nil {
		return "", nil
	}
	names := make([]string, len(columns))
	for i, c := range columns {
		var err error
		if names[i], err = s.ColumnName(r.info, c); err != nil {
			return "", err
		}
	}
	return strings.Join(names, ","), nil
}

// with names relations to load, with what narrows them, and those behind them.
func (s *Service) with(list []gate.Relation, before string) ([]string, error) {
	var paths []string
	for _, r := range list {
		name, err := s.RelationName(r)
		if err != nil {
			return nil, err
		}
		a, err := gate.Ask(r.Rows(), s)
		if err != nil {
			return nil, err
		}
		var bounds []string
		if a.Limit > 0 && !r.Single() {
			bounds = append(bounds, fmt.Sprintf("limit:%d", a.Limit))
		}
		if a.Order != "" {
			bounds = append(bounds, "sortby:"+a.Order)
		}
		if a.Filter != "" {
			bounds = append(bounds, "filter:"+a.Filter)
		}
		path := before + name
		if bounds != nil {
			path += "(" + strings.Join(bounds, ";") + ")"
		}
		inner, err := s.with(a.With, before+name+".")
		if err != nil {
			return nil, err
		}
		paths = append(append(paths, path), inner...)
	}
	return paths, nil
}

// ReadRows implements gate.Remote. All rows are read from one answer as they come; a
// bounded number is read in pages.
func (s *Service) ReadRows(ctx context.Context, q *gate.Query[any], each func(row any) bool) error {
	a, err := s.ask(q)
	if err != nil {
		return err
	}
	if a.Limit == 0 {
		return s.stream(ctx, a, each)
	}
	left, after := a.Limit, ""
	for {
		n := 0
		after, err = s.page(ctx, a, after, min(left, s.made.Rows), func(row any) bool {
			n++
			return each(row)
		})
		if left -= n; err != nil || after == "" || left <= 0 {
			return err
		}
	}
}

// errEnough ends a reading whose caller wants no more.
var errEnough = errors.New("no more rows are wanted")

// stream reads all rows of one answer.
func (s *Service) stream(ctx context.Context, a *asked, each func(row any) bool) error {
	reader := s.newReader(a.res)
	return s.lines(ctx, a, func(line []byte) error {
		row := a.res.info.New()
		if err := reader.read(row, line); err != nil {
			return err
		}
		if err := s.fetch(ctx, reader); err != nil {
			return err
		}
		if !each(row) {
			return errEnough
		}
		return nil
	})
}

// lines calls do with each row of one answer, until it returns errEnough.
func (s *Service) lines(ctx context.Context, a *asked, do func(line []byte) error) error {
	a.values.Set("limit", "none")
	if a.Offset > 0 {
		a.values.Set("offset", strconv.Itoa(a.Offset))
	}
	header := http.Header{"Accept": {"application/x-ndjson"}}
	answer, err := s.send(ctx, call{method: http.MethodGet, path: a.path, values: a.values, header: header, safe: true, about: a.res})
	if err != nil {
		return err
	}
	if err := answer.lines(do); !errors.Is(err, errEnough) {
		return err
	}
	return nil
}

// page reads a page of rows, and returns where the next one begins.
func (s *Service) page(ctx context.Context, a *asked, after string, size int, each func(row any) bool) (next string, err error) {
	a.values.Set("limit", strconv.Itoa(size))
	a.values.Del("offset")
	a.values.Del("after")
	if after != "" {
		a.values.Set("after", after)
	} else if a.Offset > 0 {
		a.values.Set("offset", strconv.Itoa(a.Offset))
	}
	text, err := s.get(ctx, a.path, a.values, a.res)
	if err != nil {
		return "", err
	}
	list, err := pageOf(text)
	if err != nil {
		return "", err
	}
	reader := s.newReader(a.res)
	for item := range list.items {
		row := a.res.info.New()
		if err := reader.read(row, item); err != nil {
			return "", err
		}
		if err := s.fetch(ctx, reader); err != nil {
			return "", err
		}
		if !each(row) {
			return "", nil
		}
	}
	return list.next, nil
}

// ReadPage implements gate.Remote.
func (s *Service) ReadPage(ctx context.Context, q *gate.Query[any], after string, size int, each func(row any) bool) (next string, err error) {
	a, err := s.ask(q)
	if err != nil {
		return "", err
	}
	if size < 1 || size > s.made.Rows {
		return "", fmt.Errorf("a page of %d rows: the service gives 1 to %d", size, s.made.Rows)
	}
	return s.page(ctx, a, after, size, each)
}

// CountRows implements gate.Remote.
func (s *Service) CountRows(ctx context.Context, q *gate.Query[any]) (int64, error) {
	a, err := s.ask(q)
	if err != nil {
		return 0, err
	}
	a.values.Set("limit", "1")
	a.values.Set("count", "true")
	a.values.Del("sortby")
	a.values.Del("with")
	text, err := s.get(ctx, a.path, a.values, a.res)
	if err != nil {
		return 0, err
	}
	list, err := pageOf(text)
	return list.matched, err
}

// LoadRelation implements gate.Remote.
func (s *Service) LoadRelation(ctx context.Context, r gate.Relation, parents []any) error {
	if err := s.reading(); err != nil {
		return err
	}
	res, err := s.resourceOf(r.Parent())
	if err != nil {
		return err
	}
	if len(res.info.Keys) == 0 {
		return fmt.Errorf("loading relations of %s, which has no key: %w", res.path, gate.ErrNotOffered)
	}
	with, err := s.with([]gate.Relation{r}, "")
	if err != nil {
		return err
	}
	properties, err := s.properties(res, res.info.Keys)
	if err != nil {
		return err
	}
	for part := range slices.Chunk(parents, parentsPerRequest) {
		if err := s.loadSome(ctx, res, r, part, strings.Join(with, ","), properties); err != nil {
			return err
		}
	}
	return nil
}

// parentsPerRequest is of how many rows a relation is loaded by one request. Their keys
// stand in its address.
const parentsPerRequest = 50

func (s *Service) loadSome(ctx context.Context, res *resource, r gate.Relation, parents []any, with, properties string) error {
	byKey := map[string][]any{}
	var keys []string
	for _, p := range parents {
		key := res.keyOf(p)
		if byKey[key] == nil {
			keys = append(keys, key)
		}
		byKey[key] = append(byKey[key], p)
	}
	cond, err := s.anyOf(res, parents)
	if err != nil {
		return err
	}
	a := &asked{res: res, path: res.path, values: url.Values{"filter": {cond}, "with": {with}, "properties": {properties}}}
	_, err = s.page(ctx, a, "", len(keys), func(row any) bool {
		var children []any
		r.Each(row, func(child any) { children = append(children, child) })
		for _, p := range byKey[res.keyOf(row)] {
			r.Put(p, children)
		}
		delete(byKey, res.keyOf(row))
		return true
	})
	for _, gone := range byKey { // they are not there any more, or not for this caller
		for _, p := range gone {
			r.Put(p, nil)
		}
	}
	return err
}

// anyOf is the condition that a row has the key of one of some rows.
func (s *Service) anyOf(res *resource, rows []any) (string, error) {
	conds := make([]gate.Cond[any], len(rows))
	for i, row := range rows {
		conds[i] = gate.SameKey(res.info, row)
	}
	return gate.AskCondition(res.info, gate.Or(conds...), s)
}
