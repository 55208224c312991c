package gate

import (
	"context"
	"errors"
	"slices"
)

// insertWithRelated stores row and the rows that hang on it and have no key yet.
func (t *Info) insertWithRelated(ctx context.Context, db DB, row any) error {
	return inTx(ctx, db, func(tx DB) error {
		g := graph{tx: tx, seen: map[any]bool{}}
		return g.insert(ctx, t, row)
	})
}

type graph struct {
	tx   DB
	seen map[any]bool
}

// insert stores what row refers to, then row, then what refers to it.
func (g *graph) insert(ctx context.Context, t *Info, row any) error {
	if g.seen[row] {
		return nil
	}
	g.seen[row] = true
	for _, e := range t.edges {
		if !e.up {
			continue
		}
		for _, up := range e.get(row) {
			if err := g.insertNew(ctx, e.link.child, up); err != nil {
				return err
			}
			if err := e.attachUp(row, up); err != nil {
				return err
			}
		}
	}
	if err := t.insert(ctx, g.tx, row, nil); err != nil {
		return err
	}
	for _, e := range t.edges {
		if e.up {
			continue
		}
		for _, down := range e.get(row) {
			if err := g.insertDown(ctx, e, row, down); err != nil {
				return err
			}
		}
	}
	return nil
}

func (g *graph) insertDown(ctx context.Context, e *edge, row, down any) error {
	if e.link.join != nil {
		if err := g.insertNew(ctx, e.link.child, down); err != nil {
			return err
		}
		return e.linkRows(ctx, g.tx, row, down)
	}
	if err := e.attach(row, down); err != nil {
		return err
	}
	if !g.seen[down] && !e.link.child.numbered(down) {
		return g.insert(ctx, e.link.child, down)
	}
	g.seen[down] = true
	return e.link.child.update(ctx, g.tx, down, e.link.to)
}

// insertNew stores a row unless it is there already.
func (g *graph) insertNew(ctx context.Context, t *Info, row any) error {
	if g.seen[row] {
		return nil
	}
	there := t.numbered(row)
	if !there && !t.numbers() {
		_, err := t.stored(ctx, g.tx, row, "")
		if err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		there = err == nil
	}
	if there {
		g.seen[row] = true
		return nil
	}
	return g.insert(ctx, t, row)
}

// numbers reports whether the database makes the keys of the table.
func (t *Info) numbers() bool {
	return slices.ContainsFunc(t.Keys, func(k int) bool { return t.Columns[k].Is(Auto | HasDefault) })
}

// numbered reports whether a row has a key that the database made.
func (t *Info) numbered(row any) bool {
	fields := t.fieldsOf(row)
	return slices.ContainsFunc(t.Keys, func(k int) bool {
		return t.Columns[k].Is(Auto|HasDefault) && !fieldOf(fields[k]).zero()
	})
}
