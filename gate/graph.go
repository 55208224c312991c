package gate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// insertWithRelated stores row and the rows that hang on it and have no key yet.
func (t *Info) insertWithRelated(ctx context.Context, db DB, row any) error {
	if err := t.usable("inserting into", row); err != nil {
		return err
	}
	if to, ok := remoteOf(db); ok {
		if err := t.noHooks(BeforeInsert, AfterInsert); err != nil {
			return err
		}
		return wrapStoring("inserting into", t, to.InsertGraph(ctx, t, row))
	}
	return together(ctx, db, func(tx DB) error {
		g := graph{tx: tx, stored: map[any]bool{}}
		return g.insert(ctx, t, row)
	})
}

// graph is the rows of one call, on their way into the database.
type graph struct {
	tx     DB
	stored map[any]bool // false while what a row refers to is being stored
	way    []*Info      // the tables of the rows that wait, outermost first
}

// insert stores what row refers to, then row, then what refers to it.
func (g *graph) insert(ctx context.Context, t *Info, row any) error {
	keep(g.tx, row)
	g.stored[row] = false
	g.way = append(g.way, t)
	for _, e := range t.edges {
		if !e.link.up {
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
	if err := t.insert(ctx, g.tx, row); err != nil {
		return err
	}
	g.way = g.way[:len(g.way)-1]
	g.stored[row] = true
	for _, e := range t.edges {
		if e.link.up {
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
	child := e.link.child
	if err := child.usable("inserting into", down); err != nil {
		return err
	}
	if e.link.join != nil {
		if err := g.insertNew(ctx, child, down); err != nil {
			return err
		}
		return e.linkRows(ctx, g.tx, row, down)
	}
	keep(g.tx, down)
	if err := e.attach(row, down); err != nil {
		return err
	}
	stored, known := g.stored[down]
	switch {
	case known && !stored:
		return nil // it waits for row, and is stored after it
	case !known && !child.numbered(down):
		return g.insert(ctx, child, down)
	}
	g.stored[down] = true
	return child.update(ctx, g.tx, down, e.link.to)
}

// insertNew stores a row unless it is there already.
func (g *graph) insertNew(ctx context.Context, t *Info, row any) error {
	if err := t.usable("inserting into", row); err != nil {
		return err
	}
	if stored, known := g.stored[row]; known {
		if !stored {
			return g.circle(t)
		}
		return nil
	}
	there := t.numbered(row)
	if !there && !t.numbers() {
		_, err := t.stored(ctx, g.tx, row, "", true)
		if err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		there = err == nil
	}
	if there {
		g.stored[row] = true
		return nil
	}
	return g.insert(ctx, t, row)
}

// circle is the error of a row that waits for itself.
func (g *graph) circle(t *Info) error {
	names := make([]string, 0, len(g.way)+1)
	for _, waiting := range g.way[max(0, slices.Index(g.way, t)):] {
		names = append(names, waiting.Name)
	}
	return fmt.Errorf("the new rows refer to each other in a circle (%s), so that none of them can be stored first; leave one reference empty, and set it by an update",
		strings.Join(append(names, t.Name), " → "))
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
