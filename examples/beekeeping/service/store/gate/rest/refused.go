package rest

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"

	"beekeeping/store/gate"
	"beekeeping/store/gate/cql2"
)

// refused is an error about rows that were to be stored, as the database or a
// rule has it.
type refused struct {
	res     *resource
	drafts  []*draft // that one call was to store
	whole   []*draft // those of the whole request, in which they are embedded
	columns []int    // that were to be stored; nil is all
	err     error
}

// errNotTheirs says that a row which was stored is not its sender's to store.
var errNotTheirs = errors.New("the row would belong to another")

func (f *refused) Error() string { return f.err.Error() }
func (f *refused) Unwrap() error { return f.err }

// pointer is where the row stands in the body, if it is known which it is.
func (f *refused) pointer() string {
	if len(f.drafts) == 1 {
		return f.drafts[0].pointer
	}
	return ""
}

// explained finds out which references of the rows of a request lead nowhere. It
// is asked where the database says so, and where a rule forbids a row: what does
// not exist and what may not be seen have one answer.
func explained(ctx context.Context, db gate.DB, err error) error {
	var f *refused
	var broken *gate.ConstraintError
	switch {
	case !errors.As(err, &f):
		return err
	case errors.As(err, &broken) && broken.Kind == gate.ReferenceBroken:
	case !errors.Is(err, errNotTheirs):
		return err
	}
	reader := &draftReader{}
	reader.findDangling(ctx, db, f.whole, f.columns)
	if len(reader.faults) == 0 && broken == nil {
		f.res.findRuled(reader, f.drafts, f.columns)
	}
	if len(reader.faults) > 0 {
		p := noSuchReference()
		p.Errors = reader.faults
		return p
	}
	if broken != nil {
		return err
	}
	p := NewProblem(http.StatusForbidden, "to store this row of %s is not for you: it would belong to another", f.res.path)
	if at := f.pointer(); at != "" {
		p.Errors = []Fault{{"#" + at, "would belong to another"}}
	}
	return p
}

// findDangling finds references of rows, and of those embedded in them, to rows
// that are not there for the sender of the request.
func (d *draftReader) findDangling(ctx context.Context, db gate.DB, drafts []*draft, columns []int) {
	for _, row := range drafts {
		for i := range row.res.own.relations {
			rel := row.res.own.relations[i].rel
			seen := row.res.sameRelation(rel)
			if seen != nil {
				rel = seen.rel
			}
			names := row.res.sentColumns(row, rel.Holds(), columns)
			if len(names) == 0 || len(d.faults) >= maxFaults {
				continue
			}
			missing, fault := rel.Dangles(ctx, db, row.row)
			missing = missing && fault == nil || seen == nil && row.claimsDiffer(rel.Holds())
			if !missing {
				continue
			}
			for _, name := range names {
				d.add(row, name, noSuchRow)
			}
		}
		for _, n := range row.nested {
			d.findDangling(ctx, db, n.drafts, nil)
		}
	}
}

// claimsDiffer reports whether one of the columns should equal a claim of the
// sender, by a rule that binds them, and does not.
func (at *draft) claimsDiffer(columns []string) bool {
	r := at.res
	for role, rule := range r.rules {
		for i, claim := range rule.fill {
			if !holds([]string{role}, r.who) || !slices.Contains(columns, r.info.Columns[i].Name) {
				continue
			}
			want, known := claimText(r.who.claim(claim))
			field := r.info.Fields(nil, at.row)[i]
			if !known || want != string(gate.AppendText(nil, field)) {
				return true
			}
		}
	}
	return false
}

const noSuchRow = "there is no such row"

// sameRelation is a relation as the resource is seen; nil where it is not.
func (r *resource) sameRelation(rel gate.Relation) *relation {
	i := slices.IndexFunc(r.relations, func(x relation) bool { return x.rel.Same(rel) })
	if i < 0 {
		return nil
	}
	return &r.relations[i]
}

// sentColumns are the names of those columns that the sender of a row gave, and
// sees. There are none where one of them comes from elsewhere.
func (r *resource) sentColumns(row *draft, columns []string, stored []int) []string {
	var names []string
	for _, name := range columns {
		i, ok := r.info.Find(name)
		if !ok || slices.Contains(row.fixed, name) || slices.Contains(row.filled, i) && !slices.Contains(row.present, i) || stored != nil && !slices.Contains(stored, i) {
			return nil
		}
		if !r.facets[i].hidden {
			names = append(names, r.facets[i].name)
		}
	}
	return names
}

// findRuled finds the references that a rule speaks of and that lead to rows of
// which the sender of the request may see none.
func (r *resource) findRuled(d *draftReader, drafts []*draft, columns []int) {
	for i := range r.own.relations {
		rel := &r.own.relations[i]
		if r.sameRelation(rel.rel) != nil || rel.rel.Holds() == nil || !r.ruledBy(rel) {
			continue
		}
		for _, row := range drafts {
			for _, name := range r.sentColumns(row, rel.rel.Holds(), columns) {
				d.add(row, name, noSuchRow)
			}
		}
	}
}

// ruledBy reports whether a rule speaks of a reference, by its columns or by what
// it leads to.
func (r *resource) ruledBy(rel *relation) bool {
	for _, rule := range r.rules {
		var properties []*cql2.Node
		gather(rule.root, &properties)
		for _, p := range properties {
			first, _, _ := strings.Cut(p.Value, ".")
			if first == rel.name || slices.Contains(rel.rel.Holds(), p.Value) {
				return true
			}
		}
	}
	return false
}
