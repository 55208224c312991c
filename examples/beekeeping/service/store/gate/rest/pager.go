package rest

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"net/http"
	"slices"
	"strings"

	"beekeeping/store/gate"
)

// page is a page of rows that are read or written already.
type page struct {
	next, prev, last string
	matched          int64 // -1 where it was not counted
}

// pager finds the pages around one.
type pager struct {
	*listing
	ctx   context.Context
	db    gate.DB
	scope string // what a cursor is for

	ordered *gate.Query[any]
	loose   bool // rows may be equal in the order
	from    gate.Resumption
}

// scopeless are the parameters that a cursor has nothing to do with.
var scopeless = []string{"after", "offset", "limit", "count", "f", "properties", "with"}

// scope is a digest of the resource, the order and the choice of rows: a cursor
// goes with the same only.
func (l *listing) scope(r *http.Request) string {
	values, _ := readQuery(r) // which was read before
	for _, name := range scopeless {
		values.Del(name)
	}
	sum := sha256.Sum256([]byte(r.URL.EscapedPath() + "?" + values.Encode()))
	return base64.RawURLEncoding.EncodeToString(sum[:6])
}

// begin is the query of the page that was asked for.
func (p *pager) begin(query *gate.Query[any]) (*gate.Query[any], error) {
	p.ordered = gate.OrderByKey(query)
	var err error
	if p.loose, err = p.isLoose(); err != nil {
		return nil, err
	}
	if p.loose {
		p.ordered = gate.OrderByAll(p.ordered, p.db.Engine())
	}
	switch {
	case p.offset > 0:
		return p.ordered.Offset(p.offset), nil
	case p.after == "":
		return p.ordered, nil
	}
	place, scope, ok := strings.Cut(p.after, ".")
	if !ok || scope != p.scope {
		return nil, errOtherCursor()
	}
	start, from, err := gate.Resume(p.ctx, p.db, p.ordered, place)
	if errors.Is(err, gate.ErrCursor) {
		return nil, errOtherCursor()
	}
	p.from = from
	return start, err
}

func errOtherCursor() *Problem {
	return NewProblem(http.StatusBadRequest, "after wants the `next` of an answer to the same request, with the same filter and order")
}

// isLoose reports whether the key does not tell all rows apart.
func (p *pager) isLoose() (bool, error) {
	if len(p.res.info.Keys) == 0 {
		return true, nil
	}
	return gate.HasEmptyKey(p.ctx, p.db, p.res.info)
}

// around finds where the pages around the one that was read begin.
func (p *pager) around(set *rowSet) (page, error) {
	found := page{matched: -1}
	if set.count == 0 {
		return found, nil
	}
	var err error
	back := p.from.Backwards
	if !back && set.more || back && !p.from.Last {
		if found.next, err = p.next(set); err != nil {
			return found, err
		}
		found.last = p.cursor(gate.EndPlace(p.ordered))
	}
	if back && set.more || !back && p.after != "" {
		found.prev, err = p.prev(set)
	}
	return found, err
}

func (p *pager) cursor(place string) string { return place + "." + p.scope }

func (p *pager) place(row any, before bool, skip int) (string, error) {
	return gate.PlaceAmong(p.ctx, p.db, p.ordered, row, before, skip)
}

// next is the place behind the last row.
func (p *pager) next(set *rowSet) (string, error) {
	if p.from.Backwards { // from where this page was asked for
		place, _, _ := strings.Cut(p.after, ".")
		return p.cursor(gate.Forwards(place)), nil
	}
	skip := 0
	if p.loose {
		same, bare, err := p.equals(set.rows, len(set.rows)-1)
		if err != nil {
			return "", err
		}
		switch skip = same; {
		case same < len(set.rows):
		case p.from.Place == bare:
			skip += p.from.Skip
		case p.offset > 0:
			before, err := gate.CountBefore(p.ctx, p.db, p.ordered, bare)
			if err != nil {
				return "", err
			}
			skip = p.offset + same - int(before)
		}
	}
	place, err := p.place(set.last, false, skip)
	return p.cursor(place), err
}

// prev is the place before the first row.
func (p *pager) prev(set *rowSet) (string, error) {
	skip := 0
	if p.loose {
		same, bare, err := p.equals(set.rows, 0)
		switch {
		case err != nil:
			return "", err
		case !p.from.Backwards && bare == p.from.Place:
			skip = p.from.Skip
		case bare == p.from.Place:
			skip = p.from.Skip - same
		case p.from.Backwards:
			all, err := gate.CountEqual(p.ctx, p.db, p.ordered, bare)
			if err != nil {
				return "", err
			}
			skip = int(all) - same
		}
	}
	place, err := p.place(set.first, true, max(skip, 0))
	return p.cursor(place), err
}

// equals is how many rows are equal to the one at an end of a page, it among them,
// and the place of them all.
func (p *pager) equals(rows []any, at int) (n int, bare string, err error) {
	if at == 0 {
		rows = slices.Clone(rows)
		slices.Reverse(rows)
	}
	return gate.EqualAtEnd(p.ctx, p.db, p.ordered, rows)
}
