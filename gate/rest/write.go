package rest

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"slices"
	"strings"

	"widegate/gate"
)

// Write stores a row within a transaction.
type Write[E any] func(ctx context.Context, tx gate.DB, row E) error

// Create makes a handler that stores a new row by store.
//
//go:noinline
func Create[E, K any](s *Shape[E, K], store Write[E]) Handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		row, err := readNew(r, s, nil)
		if err != nil {
			return err
		}
		return storeNew(s, w, r, row, store)
	}
}

// CreateUnder makes a handler that stores a new row which refers to a row of P.
//
//go:noinline
func CreateUnder[P, PK, E, K any](parent *Shape[P, PK], rel *gate.ToMany[P, E], s *Shape[E, K], store Write[E]) Handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		owner, err := readParent(r, parent)
		if err != nil {
			return err
		}
		row, err := readNew(r, s, gate.Referring(rel))
		if err != nil {
			return err
		}
		if err := gate.Attach(rel, owner, row); err != nil {
			return err
		}
		return storeNew(s, w, r, row, store)
	}
}

func storeNew[E, K any](s *Shape[E, K], w http.ResponseWriter, r *http.Request, row E, store Write[E]) error {
	err := s.res.inTx(r, func(tx gate.DB) error { return store(r.Context(), tx, row) })
	if err != nil {
		return withReferences(r.Context(), s, row, err)
	}
	if s.keyParts != nil {
		w.Header().Set("Location", s.res.location(row))
	}
	return sendRow(w, r, http.StatusCreated, &s.res, row)
}

// withReferences completes an error of an engine that does not tell which
// reference leads nowhere.
func withReferences[E, K any](ctx context.Context, s *Shape[E, K], row E, err error) error {
	var broken *gate.ConstraintError
	if !errors.As(err, &broken) || broken.Kind != gate.ReferenceBroken || len(broken.Columns) > 0 {
		return err
	}
	for _, r := range s.res.relations {
		if dangles, fault := r.rel.Dangles(ctx, s.res.api.config.DB, row); fault == nil && dangles {
			broken.Columns = append(broken.Columns, r.rel.Holds()...)
		}
	}
	return err
}

// inTx runs a write in a transaction. It may run more than once.
func (r *resource) inTx(req *http.Request, do func(tx gate.DB) error) error {
	return gate.InTx(req.Context(), r.api.config.DB, do)
}

// Replace makes a handler that replaces a row by update. A row that is not
// there is stored by create, where its key is the caller's to choose.
//
//go:noinline
func Replace[E, K any](s *Shape[E, K], update, create Write[E]) Handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		key, err := ReadKey(r, s)
		if err != nil {
			return err
		}
		row, err := readNew(r, s, s.res.keyNames())
		if err != nil {
			return err
		}
		if err := setKey(s, row, key); err != nil {
			return err
		}
		status := http.StatusOK
		err = s.res.inTx(r, func(tx gate.DB) error {
			if err := s.res.info.TakeVersion(r.Context(), tx, row); err != nil {
				return err
			}
			err := update(r.Context(), tx, row)
			if errors.Is(err, gate.ErrNotFound) && s.res.choosesKey() {
				status = http.StatusCreated
				return create(r.Context(), tx, row)
			}
			return err
		})
		if err != nil {
			return withReferences(r.Context(), s, row, err)
		}
		if status == http.StatusCreated {
			w.Header().Set("Location", s.res.location(row))
		}
		return sendRow(w, r, status, &s.res, row)
	}
}

// Change makes a handler that applies a JSON merge patch (RFC 7396). The row
// that update is given is as it will be; columns are those that the patch names.
//
//go:noinline
func Change[E, K any](s *Shape[E, K], update func(ctx context.Context, tx gate.DB, row E, columns ...gate.ColumnOf[E]) error) Handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		key, err := ReadKey(r, s)
		if err != nil {
			return err
		}
		members, err := readObject(r, "application/merge-patch+json")
		if err != nil {
			return err
		}
		var row E
		err = s.res.inTx(r, func(tx gate.DB) error {
			if row, err = find(r.Context(), tx, s, key); err != nil {
				return err
			}
			b := newBody(s, row, s.res.keyNames())
			if err := b.read(members); err != nil {
				return err
			}
			var columns []gate.ColumnOf[E]
			for _, i := range b.present {
				columns = append(columns, gate.ColumnAt[E](s.res.info, i))
			}
			if len(columns) == 0 {
				return nil
			}
			return update(r.Context(), tx, row, columns...)
		})
		if err != nil {
			return withReferences(r.Context(), s, row, err)
		}
		return sendRow(w, r, http.StatusOK, &s.res, row)
	}
}

// Remove makes a handler that removes a row by remove.
//
//go:noinline
func Remove[E, K any](s *Shape[E, K], remove func(ctx context.Context, tx gate.DB, key K) error) Handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		key, err := ReadKey(r, s)
		if err != nil {
			return err
		}
		err = s.res.inTx(r, func(tx gate.DB) error { return remove(r.Context(), tx, key) })
		if err != nil {
			return leftBehind(err)
		}
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
}

// leftBehind corrects an engine that does not tell the two ends of a reference
// apart: removing a row can only leave others without theirs.
func leftBehind(err error) error {
	var broken *gate.ConstraintError
	if errors.As(err, &broken) && broken.Kind == gate.ReferenceBroken {
		broken.Kind = gate.StillReferenced
	}
	return err
}

// Link makes a handler that relates two rows through a table between.
//
//go:noinline
func Link[P, PK, C, CK any](parent *Shape[P, PK], rel *gate.ManyToMany[P, C], child *Shape[C, CK]) Handler {
	return pair(parent, child, rel.Add)
}

// Unlink makes a handler that ends the relation of two rows.
//
//go:noinline
func Unlink[P, PK, C, CK any](parent *Shape[P, PK], rel *gate.ManyToMany[P, C], child *Shape[C, CK]) Handler {
	return pair(parent, child, rel.Remove)
}

func pair[P, PK, C, CK any](parent *Shape[P, PK], child *Shape[C, CK], do func(ctx context.Context, db gate.DB, p P, c ...C) error) Handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		p, err := readParent(r, parent)
		if err != nil {
			return err
		}
		key, err := parseKey(child, keySegment(r, "{other}"))
		if err != nil {
			return err
		}
		c, err := find(r.Context(), child.res.api.config.DB, child, key)
		if err != nil {
			return err
		}
		if err := parent.res.inTx(r, func(tx gate.DB) error { return do(r.Context(), tx, p, c) }); err != nil {
			return err
		}
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
}

func (r *resource) keyNames() []string {
	names := make([]string, len(r.info.Keys))
	for i, k := range r.info.Keys {
		names[i] = r.info.Columns[k].Name
	}
	return names
}

// setKey puts the key of the path into the row.
func setKey[E, K any](s *Shape[E, K], row E, key K) error {
	fields := s.res.info.Fields(nil, row)
	for i, p := range s.keyParts(&key) {
		if err := gate.ParseText(fields[s.res.info.Keys[i]], string(gate.AppendText(nil, p))); err != nil {
			return fmt.Errorf("storing the key: %w", err)
		}
	}
	return nil
}

// choosesKey reports whether callers choose the key of new rows.
func (r *resource) choosesKey() bool {
	return !slices.ContainsFunc(r.info.Keys, func(k int) bool {
		return r.info.Columns[k].Is(gate.Auto | gate.HasDefault)
	})
}

// readNew reads a whole row. The columns that are fixed come from the path.
func readNew[E, K any](r *http.Request, s *Shape[E, K], fixed []string) (E, error) {
	var none E
	members, err := readObject(r, "application/json")
	if err != nil {
		return none, err
	}
	row := s.res.info.New().(E)
	if err := s.res.info.SetDefaults(row); err != nil {
		return none, err
	}
	b := newBody(s, row, fixed)
	b.whole = true
	return row, b.read(members)
}

// jsonMember is a member of a JSON object.
type jsonMember struct {
	name string
	raw  json.RawMessage
}

// readObject reads the members of the request's JSON object, in their order.
func readObject(r *http.Request, mediaType string) ([]jsonMember, error) {
	if _, err := chooseFormat(r, "", jsonFormats); err != nil {
		return nil, err
	}
	sent, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err != nil || sent != mediaType && sent != "application/json" {
		return nil, NewProblem(http.StatusUnsupportedMediaType, "send the body as Content-Type: %s", mediaType)
	}
	text, err := io.ReadAll(r.Body)
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return nil, NewProblem(http.StatusRequestEntityTooLarge, "the body may have %d bytes at most", large.Limit)
	}
	if err != nil {
		return nil, NewProblem(http.StatusBadRequest, "the body did not arrive whole")
	}
	var whole json.RawMessage
	if err := json.Unmarshal(text, &whole); err != nil {
		return nil, notJSON(text, err)
	}
	if trimmed := bytes.TrimSpace(whole); trimmed[0] != '{' {
		return nil, NewProblem(http.StatusUnprocessableEntity, "the body must be a JSON object")
	}
	return members(text)
}

func members(text []byte) ([]jsonMember, error) {
	dec := json.NewDecoder(bytes.NewReader(text))
	if _, err := dec.Token(); err != nil { // the opening brace
		return nil, notJSON(text, err)
	}
	var list []jsonMember
	for dec.More() {
		name, err := dec.Token()
		if err != nil {
			return nil, notJSON(text, err)
		}
		m := jsonMember{name: name.(string)}
		if err := dec.Decode(&m.raw); err != nil {
			return nil, notJSON(text, err)
		}
		list = append(list, m)
	}
	return list, nil
}

// notJSON tells where a text stops being JSON.
func notJSON(text []byte, err error) error {
	var syntax *json.SyntaxError
	at := len(text)
	if errors.As(err, &syntax) && int(syntax.Offset) <= len(text) {
		at = max(int(syntax.Offset)-1, 0)
	}
	line := 1 + bytes.Count(text[:at], []byte("\n"))
	column := at - bytes.LastIndexByte(text[:at], '\n')
	return NewProblem(http.StatusBadRequest, "the body is not JSON: line %d, column %d: %s", line, column, strings.TrimPrefix(err.Error(), "json: "))
}

// body reads members into a row and gathers what is wrong with them.
type body struct {
	res     *resource
	field   func(i int) any // a pointer to a value of the row
	empty   func(i int) any // the same of a row of its own
	fixed   []string        // columns whose values come from the path
	whole   bool            // what is absent must have a value from elsewhere
	present []int
	faults  []Fault
}

func newBody[E, K any](s *Shape[E, K], row E, fixed []string) *body {
	fields := s.res.info.Fields(nil, row)
	return &body{
		res:   &s.res,
		field: func(i int) any { return fields[i] },
		empty: func(i int) any { return s.res.info.Fields(nil, s.res.info.New())[i] },
		fixed: fixed,
	}
}

func (b *body) read(list []jsonMember) error {
	for _, m := range list {
		if fault := b.readMember(m); fault != "" {
			b.faults = append(b.faults, Fault{pointer(m.name), fault})
		}
	}
	if b.whole {
		b.checkMissing()
	}
	if len(b.faults) == 0 {
		return nil
	}
	p := NewProblem(http.StatusUnprocessableEntity, "%s", faultsText(b.faults))
	p.Errors = b.faults
	return p
}

func faultsText(faults []Fault) string {
	if len(faults) == 1 {
		return "one value of the body is not right"
	}
	return fmt.Sprintf("%d values of the body are not right", len(faults))
}

func (b *body) readMember(m jsonMember) string {
	i, ok := b.res.find(m.name)
	if !ok {
		return "there is no such property; there are " + strings.Join(b.res.columnNames(), ", ")
	}
	c := &b.res.info.Columns[i]
	if c.Is(gate.Generated) {
		return "is computed by the database"
	}
	field := b.field(i)
	if slices.Contains(b.fixed, m.name) {
		return b.checkFixed(i, m.raw)
	}
	if string(m.raw) == "null" && !c.Is(gate.Nullable) {
		return "must not be null"
	}
	if err := gate.ParseJSON(field, m.raw); err != nil {
		return err.Error()
	}
	if !slices.Contains(b.present, i) {
		b.present = append(b.present, i)
	}
	return c.Fault(field)
}

// checkFixed reads a value that the path has said already. A patch has the
// row at hand and can see whether it is the same; else the path wins.
func (b *body) checkFixed(i int, raw []byte) string {
	field := b.empty(i)
	if err := gate.ParseJSON(field, raw); err != nil {
		return err.Error()
	}
	if !b.whole && !bytes.Equal(gate.AppendText(nil, field), gate.AppendText(nil, b.field(i))) {
		return "is part of the key and cannot be changed"
	}
	return ""
}

func (b *body) checkMissing() {
	for i := range b.res.info.Columns {
		c := &b.res.info.Columns[i]
		if c.Required() && !slices.Contains(b.present, i) && !slices.Contains(b.fixed, c.Name) && !b.faulted(c.Name) {
			b.faults = append(b.faults, Fault{pointer(c.Name), "is missing"})
		}
	}
}

func (b *body) faulted(name string) bool {
	return slices.ContainsFunc(b.faults, func(f Fault) bool { return f.Pointer == pointer(name) })
}
