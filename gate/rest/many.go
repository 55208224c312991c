package rest

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"widegate/gate"
)

// ChangeMany makes a handler that applies one JSON merge patch (RFC 7396) to all
// rows that a request chooses, of which there may be most.
//
//go:noinline
func ChangeMany[E, K any](s *Shape[E, K], most int, own ...Update[E]) Repeatable {
	update := updatingBy(&s.res, own)
	return Repeatable(func(w http.ResponseWriter, r *http.Request) error {
		res, err := s.res.in(r.Context(), toChange)
		if err != nil {
			return err
		}
		if given, err := giveCount(w, r); given {
			return err
		}
		chosen, err := res.readChoice(r, gate.Untyped(s.query))
		if err != nil {
			return err
		}
		text, sent, err := readBody(r, mediaMerge, mediaJSON)
		if err != nil {
			return err
		}
		patch, err := readPatch(sent, text)
		if err != nil {
			return err
		}
		if _, err := res.apply(r.Context(), patch, res.info.New()); err != nil {
			return err // which is told even where no row is chosen
		}
		return res.eachChosen(w, r, chosen, most, func(tx gate.DB, row any) error {
			return patchRow(r.Context(), tx, res, patch, row, update)
		})
	})
}

// RemoveMany makes a handler that removes all rows that a request chooses, of
// which there may be most.
//
//go:noinline
func RemoveMany[E, K any](s *Shape[E, K], most int, own ...Delete[K]) Repeatable {
	remove := deleting(s, own)
	return Repeatable(func(w http.ResponseWriter, r *http.Request) error {
		res, err := s.res.in(r.Context(), toDelete)
		if err != nil {
			return err
		}
		if given, err := giveCount(w, r); given {
			return err
		}
		chosen, err := res.readChoice(r, gate.Untyped(s.query))
		if err != nil {
			return err
		}
		return res.eachChosen(w, r, chosen, most, func(tx gate.DB, row any) error {
			key, err := keyOf(s, row)
			if err != nil {
				return err
			}
			return leftBehind(remove(r.Context(), tx, key))
		})
	})
}

// giveCount gives the number of before to a request that is made again.
func giveCount(w http.ResponseWriter, r *http.Request) (given bool, err error) {
	kept := repeatedAnswer(r.Context())
	if kept != nil {
		kept.send(w)
	}
	return kept != nil, nil
}

// choosing are the parameters that choose rows, beside the columns.
var choosing = []string{"filter", "filter-lang", "q"}

// readChoice reads which rows a request is for. It must say so: a request that
// chooses nothing is more likely a mistake than meant for all rows.
func (r *resource) readChoice(req *http.Request, all *gate.Query[any]) (*gate.Query[any], error) {
	values, err := readQuery(req)
	if err != nil {
		return nil, err
	}
	for _, name := range sortedNames(values) {
		if slices.Contains(listParameters, name) && !slices.Contains(choosing, name) {
			return nil, NewProblem(http.StatusBadRequest, "there is no parameter %q here; there are %s", name, strings.Join(append(slices.Clone(choosing), r.columnNames()...), ", "))
		}
	}
	if len(values) == 0 || len(values) == 1 && values.Has("filter-lang") {
		return nil, NewProblem(http.StatusBadRequest, "say which rows are meant, as in ?filter=id IN (1, 2)")
	}
	_, query, err := readList(req, r, r.among(all))
	return query, err
}

// eachChosen does something with each of the rows that were chosen, in one
// transaction, and answers with their number.
func (r *resource) eachChosen(w http.ResponseWriter, req *http.Request, chosen *gate.Query[any], most int, do func(tx gate.DB, row any) error) error {
	var rows []any
	err := r.inTx(req, func(tx gate.DB) (err error) {
		if rows, err = gate.OrderByKey(chosen).Lock(gate.ForUpdate).Limit(most+1).All(req.Context(), tx); err != nil {
			return err
		}
		if len(rows) > most {
			return NewProblem(http.StatusBadRequest, "more than %d rows are chosen, which is the most at once; choose fewer", most)
		}
		for _, row := range rows {
			if err := do(tx, row); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return explained(req.Context(), r.api.db(req.Context()), err)
	}
	return SendCount(w, int64(len(rows)))
}

// keyOf is the key of a row.
func keyOf[E, K any](s *Shape[E, K], row any) (K, error) {
	var key K
	fields := s.res.info.Fields(nil, row)
	for i, p := range s.keyParts(&key) {
		if err := gate.ParseText(p, string(gate.AppendText(nil, fields[s.res.info.Keys[i]]))); err != nil {
			return key, fmt.Errorf("reading the key of a row of %s: %w", s.res.info.Name, err)
		}
	}
	return key, nil
}
