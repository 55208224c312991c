package rest

import (
	"net/http"
	"strings"
	"sync"

	"widegate/gate"
)

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
	res, err := s.res.in(r.Context(), toRead)
	if err != nil {
		return err
	}
	parts := s.keyParts(&key)
	if finds := res.own.finds; finds != nil {
		many := finds.enter()
		defer finds.leave()
		if many {
			if done, err := res.findTogether(w, r, parts); done || err != nil {
				return err
			}
		}
	}
	if done, err := res.sendPlanned(w, r, parts, func() *gate.Query[any] { return gate.Untyped(s.query.Where(s.withKey(key))) }); done || err != nil {
		return err
	}
	return res.sendFirst(w, r, res.among(gate.Untyped(s.query.Where(s.withKey(key)))))
}

// rowParameters are those of requests for one row.
var rowParameters = []string{"with", "properties", "f"}

// sendFirst answers with the first row of a query.
func (r *resource) sendFirst(w http.ResponseWriter, req *http.Request, query *gate.Query[any]) error {
	l := listing{res: r, limit: 1, alone: true}
	values, err := readQuery(req)
	if err != nil {
		return err
	}
	if l.format, err = chooseFormat(req, values.Get("f"), rowFormats); err != nil {
		return err
	}
	for _, name := range sortedNames(values) {
		switch name {
		case "with", "properties", "f":
			query, err = l.readParameter(query, name, values[name])
		default:
			err = NewProblem(http.StatusBadRequest, "there is no parameter %q here; there are %s", name, strings.Join(rowParameters, ", "))
		}
		if err != nil {
			return err
		}
	}
	if err := l.check(); err != nil {
		return err
	}
	row, err := gate.WithRelations(query, r.load(l.nodes)...).First(req.Context(), r.api.readDB(req.Context()))
	if err != nil {
		return err
	}
	return l.sendOne(w, req, http.StatusOK, row)
}

// sendOne sends one row, unless the caller has it as it is.
func (l *listing) sendOne(w http.ResponseWriter, r *http.Request, status int, row any) error {
	l.alone = true
	l.show(r.Context(), row)
	b := buffers.Get().(*[]byte)
	defer putBuffer(b)
	*b = (*b)[:0]
	switch l.format.name {
	case asCSV.name, asSafe.name:
		l.format.begin(b, l.shown(), l.res)
		*b = l.format.appendRow(*b, l, row)
	case "xml":
		*b = l.res.appendElement(append(*b, `<?xml version="1.0" encoding="UTF-8"?>`+"\n"...), "item", row, l.shown(), l.nodes)
		*b = append(*b, '\n')
	default:
		*b = append(l.res.appendMembers(*b, l.shown(), row, l.nodes), '\n')
	}
	tag := l.tag(row, *b)
	if r.Method != http.MethodGet && r.Method != http.MethodHead && (len(l.nodes) > 0 || l.only != nil || l.format.name != asJSON.name) {
		tag = l.res.tagOf(row) // whatever was embedded: it is for If-Match
	}
	return l.sendText(w, r, status, tag, *b)
}

// sendText sends the text of a row, unless the caller has it as it is.
func (l *listing) sendText(w http.ResponseWriter, r *http.Request, status int, tag string, text []byte) error {
	w.Header().Set("ETag", tag)
	if status == http.StatusOK && (r.Method == http.MethodGet || r.Method == http.MethodHead) && matches(r.Header.Values("If-None-Match"), tag) {
		w.WriteHeader(http.StatusNotModified)
		return nil
	}
	send(w, status, l.format.media, text)
	return nil
}

// ListUnder lists the rows related to one row of P.
//
//go:noinline
func ListUnder[P, PK, C, CK any](parent *Shape[P, PK], of func(P) *gate.Query[C], child *Shape[C, CK]) Handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		res, err := child.res.in(r.Context(), toRead)
		if err != nil {
			return err
		}
		row, err := readParent(r, parent, toRead)
		if err != nil {
			return err
		}
		l, query, err := readList(r, res, res.among(gate.Untyped(of(row))))
		if err != nil {
			return err
		}
		return l.send(w, r, query)
	}
}

// GetUnder sends the one row related to a row of P.
//
//go:noinline
func GetUnder[P, PK, C, CK any](parent *Shape[P, PK], of func(P) *gate.Query[C], child *Shape[C, CK]) Handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		res, err := child.res.in(r.Context(), toRead)
		if err != nil {
			return err
		}
		row, err := readParent(r, parent, toRead)
		if err != nil {
			return err
		}
		return res.sendFirst(w, r, res.among(gate.Untyped(of(row))))
	}
}

// readParent reads the row at the beginning of a path, with which the caller
// must be allowed to do this.
func readParent[P, K any](r *http.Request, s *Shape[P, K], v verb) (P, error) {
	var none P
	res, err := s.res.in(r.Context(), v)
	if err != nil {
		return none, err
	}
	key, err := ReadKey(r, s)
	if err != nil {
		return none, err
	}
	db := res.api.db(r.Context())
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		db = res.api.readDB(r.Context())
	}
	return one(s, res, key).First(r.Context(), db)
}

// one is the query for the row of a key, if the caller may deal with it.
func one[E, K any](s *Shape[E, K], res *resource, key K) *gate.Query[E] {
	return gate.Typed[E](res.among(gate.Untyped(s.query.Where(s.withKey(key)))))
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

// sendRow sends a row that was stored.
func sendRow(w http.ResponseWriter, r *http.Request, status int, res *resource, row any, nodes []node) error {
	l := listing{res: res, format: asJSON, nodes: nodes}
	if prefers(r, "return=minimal") {
		w.Header().Set("Preference-Applied", "return=minimal")
		w.Header().Set("ETag", res.showing(gate.OddOf(r.Context())).tagOf(row))
		if status == http.StatusOK {
			status = http.StatusNoContent
		}
		w.WriteHeader(status)
		return nil
	}
	return l.sendOne(w, r, status, row)
}

// prefers reports whether a request has a preference of RFC 7240.
func prefers(r *http.Request, what string) bool {
	for _, line := range r.Header.Values("Prefer") {
		for _, part := range strings.FieldsFunc(line, func(c rune) bool { return c == ',' || c == ';' }) {
			if strings.EqualFold(strings.ReplaceAll(strings.TrimSpace(part), " ", ""), what) {
				return true
			}
		}
	}
	return false
}
