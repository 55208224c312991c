package rest

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"widegate/gate"
)

// Handlers that write store rows as the store does, by the table of their shape. A
// developer can give one function of their own in its place, which runs in the
// transaction of the request.

// Update stores columns of a row that is there, all of them when none is named,
// within a transaction.
type Update[E any] func(ctx context.Context, tx gate.DB, row E, columns ...gate.ColumnOf[E]) error

// WriteAll stores rows within a transaction.
type WriteAll[E any] func(ctx context.Context, tx gate.DB, rows []E) error

// Delete removes the row of a key within a transaction.
type Delete[K any] func(ctx context.Context, tx gate.DB, key K) error

// Create makes a handler that stores new rows: one, many, and those that are
// embedded in others.
//
//go:noinline
func Create[E, K any](s *Shape[E, K], own ...WriteAll[E]) Repeatable {
	s.res.create, s.res.alone = s.res.info.InsertAll, true
	if s.res.ownFunction(len(own)) {
		s.res.create, s.res.alone = untyped(own[0]), false
	}
	return Repeatable(func(w http.ResponseWriter, r *http.Request) error {
		res, err := s.res.in(r.Context(), toCreate)
		if err != nil {
			return err
		}
		return res.storeNew(w, r, nil, func(any) error { return nil })
	})
}

// untyped is a function on rows without their type.
func untyped[E any](store WriteAll[E]) func(ctx context.Context, tx gate.DB, rows []any) error {
	return func(ctx context.Context, tx gate.DB, rows []any) error {
		list := make([]E, len(rows))
		for i, row := range rows {
			list[i] = row.(E)
		}
		return store(ctx, tx, list)
	}
}

// CreateUnder makes a handler that stores new rows which refer to a row of P.
//
//go:noinline
func CreateUnder[P, PK, E, K any](parent *Shape[P, PK], rel *gate.ToMany[P, E], s *Shape[E, K]) Repeatable {
	return Repeatable(func(w http.ResponseWriter, r *http.Request) error {
		res, err := s.res.in(r.Context(), toCreate)
		if err != nil {
			return err
		}
		owner, err := readParent(r, parent, toRead)
		if err != nil {
			return err
		}
		return res.storeNew(w, r, gate.Referring(rel), func(row any) error { return gate.Attach(rel, owner, row.(E)) })
	})
}

// storeNew stores the rows of a request. The columns that are fixed are filled
// in by attach.
func (r *resource) storeNew(w http.ResponseWriter, req *http.Request, fixed []string, attach func(row any) error) error {
	if given, err := r.giveAgain(w, req); given {
		return err
	}
	objects, many, err := readObjects(req, r)
	if err != nil {
		return err
	}
	draftAll := func() ([]*draft, error) { return r.draftAll(objects, many, fixed, attach) }
	drafts, err := draftAll() // what is wrong with them is told before anything is opened
	if err != nil {
		return err
	}
	if r.alone && len(drafts) == 1 && len(drafts[0].nested) == 0 && !many && !r.view.ruled {
		// A statement is a transaction by itself.
		if drafts, err = r.storeSingle(req.Context(), drafts, draftAll); err != nil {
			return r.refusal(req.Context(), drafts, err)
		}
		return r.sendNew(w, req, drafts, many)
	}
	fresh := true
	err = r.inTx(req, func(tx gate.DB) error {
		if !fresh { // a transaction before this one filled them in
			if drafts, err = draftAll(); err != nil {
				return err
			}
		}
		fresh = false
		return storeChecked(req.Context(), tx, r, drafts)
	})
	if err != nil {
		if many {
			return r.eachFault(req, err, draftAll)
		}
		return r.refusal(req.Context(), drafts, err)
	}
	return r.sendNew(w, req, drafts, many)
}

// storeSingle stores one row, together with those of other requests where that
// may be.
func (r *resource) storeSingle(ctx context.Context, drafts []*draft, draftAgain func() ([]*draft, error)) ([]*draft, error) {
	if drafts[0].zeroed() == nil && r.addsTogether(ctx) {
		many := r.own.adds.enter()
		defer r.own.adds.leave()
		if !many {
			return drafts, r.create(ctx, r.api.db(ctx), []any{drafts[0].row})
		}
		stored, err := r.addTogether(ctx, drafts[0].row)
		if err != nil || stored {
			return drafts, err
		}
		if drafts, err = draftAgain(); err != nil { // what was tried filled the row in
			return drafts, err
		}
	}
	return drafts, r.create(ctx, withZeros(r.api.db(ctx), drafts...), []any{drafts[0].row})
}

func (r *resource) draftAll(objects []object, many bool, fixed []string, attach func(row any) error) ([]*draft, error) {
	reader := &draftReader{}
	drafts := make([]*draft, len(objects))
	for i, o := range objects {
		pointer := ""
		if many {
			pointer = "/" + strconv.Itoa(i)
		}
		var err error
		if drafts[i], err = reader.newRow(r, o, fixed, pointer); err != nil {
			return nil, err
		}
		if err := attach(drafts[i].row); err != nil {
			return nil, err
		}
		reader.checkClaims(drafts[i])
	}
	return drafts, reader.problem()
}

// refusal says what is wrong with rows that could not be stored.
func (r *resource) refusal(ctx context.Context, drafts []*draft, err error) error {
	var f *refused
	if !errors.As(err, &f) {
		f = &refused{res: r, drafts: drafts, err: err}
	}
	f.whole = drafts
	return explained(ctx, r.api.db(ctx), f)
}

// storeChecked stores rows of a resource, if they are the caller's to store.
func storeChecked(ctx context.Context, tx gate.DB, r *resource, drafts []*draft) error {
	var stored []written
	if err := storeAll(ctx, tx, r, drafts, &stored); err != nil {
		return err
	}
	for _, w := range stored {
		if err := w.check(ctx, tx); err != nil {
			return err
		}
	}
	return nil
}

// storeAll stores rows of a resource: first the embedded ones that they refer
// to, then they themselves, then the embedded ones that refer to them.
func storeAll(ctx context.Context, tx gate.DB, r *resource, drafts []*draft, stored *[]written) error {
	if len(drafts) == 0 {
		return nil
	}
	if err := eachRelation(drafts, func(rel *relation, parents, children []*draft) error {
		if rel.rel.Holds() == nil {
			return nil
		}
		if err := storeAll(ctx, tx, rel.to(), children, stored); err != nil {
			return err
		}
		for i, parent := range parents {
			if err := rel.rel.Refer(parent.row, children[i].row); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	rows := make([]any, len(drafts))
	for i, d := range drafts {
		rows[i] = d.row
	}
	if err := r.create(ctx, withZeros(tx, drafts...), rows); err != nil {
		return &refused{res: r, drafts: drafts, err: err}
	}
	if r.view.ruled {
		*stored = append(*stored, written{res: r, drafts: drafts, verb: toCreate})
	}
	return eachRelation(drafts, func(rel *relation, parents, children []*draft) error {
		if rel.rel.Holds() != nil {
			return nil
		}
		reader := &draftReader{}
		for i, child := range children {
			if rel.rel.ReferredBy() != nil {
				if err := rel.rel.Attach(parents[i].row, child.row); err != nil {
					return err
				}
				reader.checkClaims(child)
			}
		}
		if err := reader.problem(); err != nil {
			return err
		}
		if err := storeAll(ctx, tx, rel.to(), children, stored); err != nil || rel.rel.ReferredBy() != nil {
			return err
		}
		for i, child := range children {
			if err := rel.rel.Add(ctx, tx, parents[i].row, child.row); err != nil {
				return err
			}
		}
		return nil
	})
}

// eachRelation calls do for each relation under which rows are embedded, with
// all of them and the row that each is embedded in.
func eachRelation(drafts []*draft, do func(rel *relation, parents, children []*draft) error) error {
	relations := drafts[0].res.relations
	for i := range relations {
		parents, children := embedded(drafts, i)
		if len(children) == 0 {
			continue
		}
		if err := do(&relations[i], parents, children); err != nil {
			return err
		}
	}
	return nil
}

// embedded are the rows under one relation, and the row that each is in.
func embedded(drafts []*draft, relation int) (parents, children []*draft) {
	for _, d := range drafts {
		for _, n := range d.nested {
			if n.index != relation {
				continue
			}
			for _, child := range n.drafts {
				parents, children = append(parents, d), append(children, child)
			}
		}
	}
	return parents, children
}

// errUndo takes back what was only tried.
var errUndo = errors.New("only tried")

// eachFault finds which of many rows the database refuses, by storing each for
// itself and taking that back. err is what it said about all of them.
func (r *resource) eachFault(req *http.Request, err error, draftAll func() ([]*draft, error)) error {
	var broken *gate.ConstraintError
	if !errors.As(err, &broken) && !errors.Is(err, errNotTheirs) {
		return err
	}
	whole := noSuchReference()
	if broken != nil {
		whole = r.api.problemOf(req.Context(), r, err)
	}
	whole.Errors = nil
	ctx := req.Context()
	tried := gate.InTx(ctx, r.api.db(ctx), func(tx gate.DB) error {
		whole.Errors = nil
		drafts, err := draftAll()
		if err != nil {
			return err
		}
		for i, d := range drafts {
			err := gate.InTx(ctx, tx, func(tx gate.DB) error { return storeChecked(ctx, tx, r, []*draft{d}) })
			if err == nil {
				continue
			}
			if !errors.As(err, &broken) && !errors.Is(err, errNotTheirs) {
				return err
			}
			var f *refused
			if errors.As(err, &f) {
				f.whole = []*draft{d}
			}
			p := r.api.problemOf(ctx, r, explained(ctx, tx, err))
			if len(whole.Errors) == 0 && broken == nil {
				whole = NewProblem(p.Status, "%s", p.Detail)
			}
			whole.Errors = append(whole.Errors, faultsAt(i, p)...)
			if len(whole.Errors) >= maxFaults {
				break
			}
		}
		return errUndo
	})
	if !errors.Is(tried, errUndo) {
		return tried
	}
	return whole
}

// faultsAt are the faults of a row of many.
func faultsAt(i int, p *Problem) []Fault {
	at := "#/" + strconv.Itoa(i)
	if len(p.Errors) == 0 {
		return []Fault{{at, p.Detail}}
	}
	return p.Errors
}

// sendNew answers with rows that were stored, and what was embedded in them.
func (r *resource) sendNew(w http.ResponseWriter, req *http.Request, drafts []*draft, many bool) error {
	nodes := nodesOf(r, drafts)
	rows := make([]any, len(drafts))
	for i, d := range drafts {
		rows[i] = d.row
	}
	if err := gate.LoadRelations(req.Context(), r.api.db(req.Context()), rows, r.load(nodes)...); err != nil {
		return err
	}
	if !many {
		if len(r.info.Keys) > 0 {
			w.Header().Set("Location", r.location(rows[0]))
		}
		return sendRow(w, req, http.StatusCreated, r, rows[0], nodes)
	}
	if prefers(req, "return=minimal") {
		w.Header().Set("Preference-Applied", "return=minimal")
		w.WriteHeader(http.StatusCreated)
		return nil
	}
	b := buffers.Get().(*[]byte)
	defer putBuffer(b)
	*b = append((*b)[:0], asJSON.open...)
	odd := gate.OddOf(req.Context())
	shown, nodes := r.showing(odd), showingAll(nodes, odd)
	for i, row := range rows {
		if i > 0 {
			*b = append(*b, ',')
		}
		*b = shown.appendRow(*b, row, nodes)
	}
	send(w, http.StatusCreated, asJSON.media, append(*b, ']', '}', '\n'))
	return nil
}

// nodesOf are the relations under which rows were embedded.
func nodesOf(r *resource, drafts []*draft) []node {
	var nodes []node
	for i := range r.relations {
		if _, children := embedded(drafts, i); len(children) > 0 {
			to := r.relations[i].to()
			nodes = append(nodes, node{index: i, to: to, children: nodesOf(to, children)})
		}
	}
	return nodes
}

// inTx runs a write in a transaction. It may run more than once.
func (r *resource) inTx(req *http.Request, do func(tx gate.DB) error) error {
	return gate.InTx(req.Context(), r.api.db(req.Context()), do)
}

// ownFunction reports whether a handler is given a function of a developer's own.
// More than one is an error that New returns.
func (r *resource) ownFunction(n int) bool {
	if n > 1 {
		r.fault = fmt.Errorf("a route of %s is given %d functions of your own; give it one, which calls the others", r.path, n)
	}
	return n > 0
}

// updating stores columns of a row whose type is not known.
type updating func(ctx context.Context, tx gate.DB, row any, columns []int) error

// updatingBy is a developer's own function, or else what the table does.
func updatingBy[E any](r *resource, own []Update[E]) updating {
	t := r.info
	if !r.ownFunction(len(own)) {
		return t.Update
	}
	return func(ctx context.Context, tx gate.DB, row any, columns []int) error {
		return own[0](ctx, tx, row.(E), columnsOf[E](t, columns)...)
	}
}

// deleting is a developer's own function, or else what the table of a shape does.
func deleting[E, K any](s *Shape[E, K], own []Delete[K]) Delete[K] {
	if s.res.ownFunction(len(own)) {
		return own[0]
	}
	return func(ctx context.Context, tx gate.DB, key K) error {
		return s.res.info.Delete(ctx, tx, s.keyParts(&key))
	}
}

// Replace makes a handler that replaces a row. A row that is not there is stored
// as a new one, where its key is the caller's to choose.
//
//go:noinline
func Replace[E, K any](s *Shape[E, K], own ...Update[E]) Repeatable {
	update := updatingBy(&s.res, own)
	return Repeatable(func(w http.ResponseWriter, r *http.Request) error {
		res, err := s.res.in(r.Context(), toChange)
		if err != nil {
			return err
		}
		key, err := ReadKey(r, s)
		if err != nil {
			return err
		}
		if given, err := res.giveAgain(w, r); given {
			return err
		}
		o, _, err := readObject(r, mediaJSON)
		if err != nil {
			return err
		}
		var row *draft
		status := http.StatusOK
		draftRow := func() (err error) {
			reader := &draftReader{}
			if row, err = reader.newRow(res, o, res.keyNames(), ""); err != nil {
				return err
			}
			if len(row.nested) > 0 {
				reader.add(row, res.relations[row.nested[0].index].name, "related rows are not replaced along; write to their own path")
			}
			if err := setKey(s, row.row.(E), key); err != nil {
				return err
			}
			reader.checkClaims(row)
			return reader.problem()
		}
		if err := draftRow(); err != nil {
			return err
		}
		err = s.res.inTx(r, func(tx gate.DB) error {
			if err := draftRow(); err != nil {
				return err
			}
			status, err = replace(r, tx, s, res, key, row, update)
			return err
		})
		if err != nil {
			return res.refusal(r.Context(), []*draft{row}, err)
		}
		if status == http.StatusCreated {
			w.Header().Set("Location", res.location(row.row))
		}
		return sendRow(w, r, status, res, row.row, nil)
	})
}

func replace[E, K any](r *http.Request, tx gate.DB, s *Shape[E, K], res *resource, key K, d *draft, update updating) (status int, err error) {
	ctx := r.Context()
	found, err := checkConditions(r, tx, s, res, key)
	if err != nil {
		return 0, err
	}
	row := d.row.(E)
	err = gate.ErrNotFound
	done := written{res: res, drafts: []*draft{d}, verb: toChange}
	if found != rowMissing {
		if !d.saysVersion() {
			if err := res.info.TakeVersion(ctx, tx, row); err != nil {
				return 0, err
			}
		}
		done.columns = res.replaceable()
		err = update(ctx, tx, row, done.columns)
	}
	if errors.Is(err, gate.ErrNotFound) && res.choosesKey() && res.create != nil {
		status, done.verb, done.columns = http.StatusCreated, toCreate, nil
		err = res.create(ctx, withZeros(tx, d), []any{row})
	} else {
		status = http.StatusOK
	}
	if err != nil {
		return status, err
	}
	return status, done.check(ctx, tx)
}

// replaceable are the columns that a whole row replaces; nil is all. What the
// caller does not see, or may not change, stays as it is.
func (r *resource) replaceable() []int {
	var list []int
	all := true
	for i, f := range r.facets {
		c := &r.info.Columns[i]
		switch {
		case c.Is(gate.Key | gate.Generated | gate.Version | gate.DeletedAt):
		case f.hidden, f.change != nil:
			all = false
		default:
			list = append(list, i)
		}
	}
	if all {
		return nil
	}
	return list
}

func columnsOf[E any](t *gate.Info, columns []int) []gate.ColumnOf[E] {
	list := make([]gate.ColumnOf[E], len(columns))
	for n, i := range columns {
		list[n] = gate.ColumnAt[E](t, i)
	}
	return list
}

// presence is what is known of a row.
type presence int

const (
	notAsked presence = iota
	rowMissing
	rowThere
)

// checkConditions holds the row of a key to the conditions of the request; it
// is read, and locked, only where there are some.
func checkConditions[E, K any](r *http.Request, tx gate.DB, s *Shape[E, K], res *resource, key K) (presence, error) {
	match, none := r.Header.Values("If-Match"), r.Header.Values("If-None-Match")
	if len(match) == 0 && s.res.api.config.RequireIfMatch && len(none) == 0 {
		return notAsked, NewProblem(http.StatusPreconditionRequired, "say with If-Match which version of the row you have read; its ETag is in the answer to GET")
	}
	if len(match) == 0 && len(none) == 0 && len(res.rows) == 0 {
		return notAsked, nil
	}
	row, err := one(s, res, key).Lock(gate.ForUpdate).First(r.Context(), tx)
	switch {
	case errors.Is(err, gate.ErrNotFound) && len(match) > 0:
		return rowMissing, NewProblem(http.StatusPreconditionFailed, "the row that If-Match speaks of is not there")
	case errors.Is(err, gate.ErrNotFound):
		return rowMissing, nil
	case err != nil:
		return notAsked, err
	case len(none) > 0 && matches(none, res.showing(gate.OddOf(r.Context())).tagOf(row)):
		return rowThere, NewProblem(http.StatusPreconditionFailed, "there is such a row already, which If-None-Match rules out")
	}
	return rowThere, res.checkMatch(r, row)
}

// Change makes a handler that applies a JSON merge patch (RFC 7396) or a JSON
// patch (RFC 6902). The row that an own function is given is as it will be; columns
// are those that the patch changes.
//
//go:noinline
func Change[E, K any](s *Shape[E, K], own ...Update[E]) Repeatable {
	update := updatingBy(&s.res, own)
	return Repeatable(func(w http.ResponseWriter, r *http.Request) error {
		res, err := s.res.in(r.Context(), toChange)
		if err != nil {
			return err
		}
		key, err := ReadKey(r, s)
		if err != nil {
			return err
		}
		if given, err := res.giveAgain(w, r); given {
			return err
		}
		text, sent, err := readBody(r, mediaMerge, mediaPatch, mediaJSON)
		if err != nil {
			return err
		}
		patch, err := readPatch(sent, text)
		if err != nil {
			return err
		}
		var row E
		err = s.res.inTx(r, func(tx gate.DB) error {
			if _, err := checkConditions(r, tx, s, res, key); err != nil {
				return err
			}
			if row, err = one(s, res, key).First(r.Context(), tx); err != nil {
				return err
			}
			return patchRow(r.Context(), tx, res, patch, row, update)
		})
		if err != nil {
			return explained(r.Context(), res.api.db(r.Context()), err)
		}
		return sendRow(w, r, http.StatusOK, res, row, nil)
	})
}

// patchRow changes a row by a patch and stores what that changes, if the row is
// the caller's to change like this.
func patchRow(ctx context.Context, tx gate.DB, res *resource, p patch, row any, update updating) error {
	columns, err := res.apply(ctx, p, row)
	if err != nil || len(columns) == 0 {
		return err
	}
	fields := res.info.Fields(nil, row)
	for _, i := range columns {
		gate.OddOf(ctx).Forget(fields[i])
	}
	changed := []*draft{{res: res, row: row}}
	if err := update(ctx, tx, row, columns); err != nil {
		return &refused{res: res, drafts: changed, whole: changed, columns: columns, err: err}
	}
	return written{res: res, drafts: changed, verb: toChange, columns: columns}.check(ctx, tx)
}

// apply changes a row by a patch, and returns the columns that it names.
func (r *resource) apply(ctx context.Context, patch patch, row any) ([]int, error) {
	if r.api.engine().Checks() {
		r.checkValues(gate.OddOf(ctx), []any{row}, nil, nil)
	}
	o, err := patch.members(r.showing(gate.OddOf(ctx)), row)
	if err != nil {
		return nil, err
	}
	reader := &draftReader{}
	d := &draft{res: r, row: row, fields: r.info.Fields(nil, row), fixed: r.keyNames(), merges: patch.steps == nil, odd: gate.OddOf(ctx)}
	if err := reader.read(d, o); err != nil {
		return nil, err
	}
	return d.present, reader.problem()
}

// Remove makes a handler that removes a row.
//
//go:noinline
func Remove[E, K any](s *Shape[E, K], own ...Delete[K]) Repeatable {
	remove, alone := deleting(s, own), len(own) == 0
	return Repeatable(func(w http.ResponseWriter, r *http.Request) error {
		res, err := s.res.in(r.Context(), toDelete)
		if err != nil {
			return err
		}
		key, err := ReadKey(r, s)
		if err != nil {
			return err
		}
		if given, err := res.giveAgain(w, r); given {
			return err
		}
		removeIn := func(tx gate.DB) error {
			if found, err := checkConditions(r, tx, s, res, key); err != nil || found == rowMissing {
				return cmp.Or(err, gate.ErrNotFound)
			}
			return remove(r.Context(), tx, key)
		}
		if alone && len(res.rows) == 0 && len(r.Header.Values("If-Match")) == 0 && len(r.Header.Values("If-None-Match")) == 0 {
			err = removeIn(s.res.api.db(r.Context())) // a statement is a transaction by itself
		} else {
			err = s.res.inTx(r, removeIn)
		}
		if err = leftBehind(err); err != nil {
			return blocked(r.Context(), s, res, key, err)
		}
		w.WriteHeader(http.StatusNoContent)
		return nil
	})
}

// blocked names the resources whose rows keep one from being removed. An engine
// tells one of them at most.
func blocked[E, K any](ctx context.Context, s *Shape[E, K], res *resource, key K, err error) error {
	var broken *gate.ConstraintError
	if !errors.As(err, &broken) || broken.Kind != gate.StillReferenced || broken.Table != "" {
		return err
	}
	db := s.res.api.db(ctx)
	row, missing := one(s, res, key).First(ctx, db)
	if missing != nil {
		return err
	}
	var paths []string
	for i := range res.relations {
		rel := &res.relations[i]
		if rel.rel.Holds() != nil || slices.Contains(paths, rel.at.path) {
			continue
		}
		if f := db.Engine().Follows; f != nil && f(ctx, db, rel.target.Name, res.info.Name) {
			continue
		}
		if _, none := rel.rel.Of(row).Limit(1).First(ctx, db); none == nil {
			paths = append(paths, rel.at.path)
		}
	}
	if len(paths) == 0 {
		return err
	}
	return NewProblem(http.StatusConflict, "the row is still referred to by %s; delete those first, or have them refer to another", strings.Join(paths, ", "))
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
func Link[P, PK, C, CK any](parent *Shape[P, PK], rel *gate.ManyToMany[P, C], child *Shape[C, CK]) Repeatable {
	return pair(parent, child, rel.Add)
}

// Unlink makes a handler that ends the relation of two rows.
//
//go:noinline
func Unlink[P, PK, C, CK any](parent *Shape[P, PK], rel *gate.ManyToMany[P, C], child *Shape[C, CK]) Repeatable {
	return pair(parent, child, rel.Remove)
}

func pair[P, PK, C, CK any](parent *Shape[P, PK], child *Shape[C, CK], do func(ctx context.Context, db gate.DB, p P, c ...C) error) Repeatable {
	return Repeatable(func(w http.ResponseWriter, r *http.Request) error {
		res, err := child.res.in(r.Context(), toRead)
		if err != nil {
			return err
		}
		p, err := readParent(r, parent, toChange)
		if err != nil {
			return err
		}
		key, err := parseKey(child, keySegment(r, "{other}"))
		if err != nil {
			return err
		}
		c, err := one(child, res, key).First(r.Context(), child.res.api.db(r.Context()))
		if err != nil {
			return err
		}
		if given, err := res.giveAgain(w, r); given {
			return err
		}
		if err := refuseBody(r); err != nil {
			return err
		}
		if err := parent.res.inTx(r, func(tx gate.DB) error { return do(r.Context(), tx, p, c) }); err != nil {
			return err
		}
		w.WriteHeader(http.StatusNoContent)
		return nil
	})
}

// refuseBody refuses a body that nobody would read.
func refuseBody(r *http.Request) error {
	if n, _ := io.CopyN(io.Discard, r.Body, 1); n > 0 {
		return NewProblem(http.StatusUnprocessableEntity, "a link has nothing but its two keys; send it without a body")
	}
	return nil
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
