package rest

import (
	"context"
	"net/http"
	"slices"

	"widegate/gate"
)

// plan is how one row of a resource is read and written at once: its columns go
// from the database into the text of the answer, and no entity is made. Plans are
// used again and again, one request at a time.
type plan struct {
	*transfer
	text    []byte
	odd     *gate.Odd
	query   *gate.KeyQuery
	fields  []any // of a row, behind those shown its version
	version any   // nil where rows have none
}

// newPlan plans reading a row as it is shown by itself.
func (r *resource) newPlan() *plan {
	p := &plan{}
	_, p.odd = gate.WithOdd(context.Background(), r.api.engine())
	p.transfer = newTransfer(p.odd, &listing{res: r, alone: true}, &p.text, nil)
	p.fields = p.transfer.fields
	if i := slices.IndexFunc(r.info.Columns, func(c gate.Column) bool { return c.Is(gate.Version) }); i >= 0 {
		p.version = r.info.Fields(nil, r.info.New())[i]
		p.columns, p.fields = append(p.columns, i), append(p.fields, p.version)
	}
	p.query = r.info.KeyQuery(p.columns)
	return p
}

// sendPlanned answers with the row of a key by a plan. It is not done where the
// request asks for another form of the row, or where something needs the row as an
// entity: a hook, a computed property, a value that does not fit its column.
func (r *resource) sendPlanned(w http.ResponseWriter, req *http.Request, key []any, query func() *gate.Query[any]) (done bool, err error) {
	l, planned, err := r.planned(req)
	if !planned {
		return false, err
	}
	p, _ := r.plans.Get().(*plan)
	if p == nil {
		p = r.newPlan()
	}
	p.text = p.text[:0]
	db := r.api.readDB(req.Context())
	var found bool
	if len(r.rows) == 0 {
		found, err = p.query.Read(req.Context(), db, key, p.fields)
	} else {
		one := r.among(query()).Limit(1)
		err = gate.ReadInto(req.Context(), db, one, p.columns, func() []any { found = true; return p.fields }, func() error { return nil })
	}
	switch {
	case p.odd.Noted():
		return false, nil
	case err != nil:
		return false, err
	case !found:
		r.plans.Put(p)
		return false, gate.ErrNotFound
	}
	err = l.sendText(w, req, http.StatusOK, p.finish(), p.text)
	p.keep(r)
	return true, err
}

// planned reports whether a request is for a row as plans have it.
func (r *resource) planned(req *http.Request) (l listing, planned bool, err error) {
	if req.URL.RawQuery != "" || r.whole() {
		return l, false, nil
	}
	l = listing{res: r, alone: true}
	l.format, err = chooseFormat(req, "", rowFormats)
	return l, err == nil && l.format.name == asJSON.name, err
}

// finish ends the text of a row, and returns its ETag.
func (p *plan) finish() (tag string) {
	p.end()
	if p.version != nil {
		tag = versionTag(p.version)
	} else {
		tag = digest(p.text)
	}
	p.text = append(p.text, '\n')
	return tag
}

// keep keeps a plan for the next request.
func (p *plan) keep(r *resource) {
	if cap(p.text) <= maxKeptBuffer {
		r.plans.Put(p)
	}
}
