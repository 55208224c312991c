package live

import (
	"context"
	"errors"
	"fmt"
	"unicode/utf8"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"widegate/internal/catalog"
)

// Describe prepares a statement, which does not run it, and returns the types
// of its arguments and of the columns it gives. at is where an error is in the
// text, in bytes; -1 where the server does not say.
func (s *Session) Describe(ctx context.Context, text string, _ int, _ bool) (args []catalog.Type, columns []catalog.Column, at int, err error) {
	d, err := s.conn.Prepare(ctx, "", text)
	if err != nil {
		return nil, nil, placeOf(text, err), message(err)
	}
	var ids []uint32
	ids = append(ids, d.ParamOIDs...)
	for _, f := range d.Fields {
		ids = append(ids, f.DataTypeOID)
	}
	types, err := s.types(ctx, ids)
	if err != nil {
		return nil, nil, -1, fmt.Errorf("reading the types of a statement: %w", err)
	}
	for _, id := range d.ParamOIDs {
		args = append(args, types[id].of(-1))
	}
	for _, f := range d.Fields {
		t := types[f.DataTypeOID]
		columns = append(columns, catalog.Column{Name: f.Name, Declared: t.declared, Type: t.of(f.TypeModifier), Nullable: true})
	}
	return args, columns, -1, nil
}

// typeEntry is an entry of pg_type.
type typeEntry struct {
	declared     string
	own, element Name
}

func (t typeEntry) of(modifier int32) catalog.Type {
	found := TypeOf(t.own, t.element, modifier)
	if found.Element != nil {
		found.Element.Name = t.element.Name
	}
	return found
}

func (s *Session) types(ctx context.Context, ids []uint32) (map[uint32]typeEntry, error) {
	rows, err := s.conn.Query(ctx, `
		WITH RECURSIVE base AS (
			SELECT t.oid AS asked, t.oid, t.typtype, t.typbasetype FROM pg_type t WHERE t.oid = ANY($1)
			UNION ALL
			SELECT b.asked, t.oid, t.typtype, t.typbasetype FROM base b JOIN pg_type t ON t.oid = b.typbasetype WHERE b.typtype = 'd'
		)
		SELECT b.asked, format_type(t.oid, NULL), CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname END, t.typname, t.typtype::text,
			CASE WHEN en.nspname IS NULL OR en.nspname = current_schema() THEN '' ELSE en.nspname END, coalesce(e.typname, ''), coalesce(e.typtype::text, '')
		FROM base b JOIN pg_type t ON t.oid = b.oid JOIN pg_namespace n ON n.oid = t.typnamespace
		LEFT JOIN pg_range rg ON rg.rngtypid = t.oid
		LEFT JOIN pg_type e ON e.oid = coalesce(rg.rngsubtype, CASE WHEN t.typcategory = 'A' THEN t.typelem END)
		LEFT JOIN pg_namespace en ON en.oid = e.typnamespace
		WHERE b.typtype <> 'd'`, ids)
	if err != nil {
		return nil, err
	}
	types := map[uint32]typeEntry{}
	var id uint32
	var t typeEntry
	_, err = pgx.ForEachRow(rows, []any{&id, &t.declared, &t.own.Schema, &t.own.Name, &t.own.Kind, &t.element.Schema, &t.element.Name, &t.element.Kind}, func() error {
		types[id] = t
		return nil
	})
	return types, err
}

func message(err error) error {
	var e *pgconn.PgError
	if errors.As(err, &e) {
		return errors.New(e.Message)
	}
	return err
}

// placeOf turns the server's place, in characters from 1, into bytes.
func placeOf(text string, err error) int {
	var e *pgconn.PgError
	if !errors.As(err, &e) || e.Position == 0 {
		return -1
	}
	at := 0
	for n := int32(1); n < e.Position && at < len(text); n++ {
		_, size := utf8.DecodeRuneInString(text[at:])
		at += size
	}
	return at
}
