// Package live reads the schema of a live PostgreSQL database, of version
// 12 or later, by one query of the system catalogs for each kind of fact.
package live

import (
	"context"
	"errors"
	"fmt"
	"net"
	"regexp"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"widegate/internal/catalog"
	"widegate/internal/engine/postgres/dialect"
	"widegate/internal/fault"
)

// Read connects to the database at url and reads the schemas named; none means
// the connection's own. It tells progress what it reads.
func Read(ctx context.Context, url string, schemas []string, progress func(what string)) (*catalog.Catalog, error) {
	session, err := Open(ctx, url)
	if err != nil {
		return nil, err
	}
	defer session.Close()
	conn, config := session.conn, session.conn.Config()
	r := &reader{progress: progress, conn: conn, catalog: &catalog.Catalog{Engine: dialect.PostgreSQL}, tables: map[uint32]int{}, composites: map[uint32]int{}}
	if err := r.chooseSchemas(ctx, schemas); err != nil {
		return nil, err
	}
	for _, step := range []func(context.Context) error{
		r.readEnums, r.readDomains, r.readComposites, r.readSequences,
		r.readTables, r.readInheritance, r.readColumns, r.readNotNull, r.readConstraints, r.readIndexes, r.readRoutines, r.readExtras,
	} {
		if err := step(ctx); err != nil {
			return nil, explain(config, err)
		}
	}
	r.dropUnusedEnums()
	r.catalog.LeaveOut(r.own)
	r.catalog.Sort()
	return r.catalog, nil
}

// The codes of errors that a developer meets when connecting; see appendix A
// of the PostgreSQL manual.
const (
	invalidPassword      = "28P01"
	invalidAuthorization = "28000"
	noSuchDatabase       = "3D000"
	noPermission         = "42501"
)

func explain(config *pgx.ConnConfig, err error) error {
	at := net.JoinHostPort(config.Host, fmt.Sprint(config.Port))
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		switch refused.Code {
		case invalidPassword, invalidAuthorization:
			return fault.New("check user and password in the URL", "PostgreSQL at %s does not let %q in: %s", at, config.User, refused.Message)
		case noSuchDatabase:
			return fault.New("check the name behind the last slash of the URL; `psql -l` lists the databases", "PostgreSQL at %s has no database %q", at, config.Database)
		case noPermission:
			return fault.New("ask for the right to read the schema, or use another user", "user %q may not read database %q: %s", config.User, config.Database, refused.Message)
		}
		return fmt.Errorf("PostgreSQL at %s: %w", at, err)
	}
	var unknown *net.DNSError
	if errors.As(err, &unknown) {
		return fault.New("check the host in the URL", "there is no host %q", unknown.Name)
	}
	var away *net.OpError
	if errors.As(err, &away) {
		return fault.New("check host and port, and that the server runs", "nothing answers at %s: %w", at, away.Err)
	}
	return fmt.Errorf("PostgreSQL at %s: %w", at, err)
}

type reader struct {
	conn     *pgx.Conn
	catalog  *catalog.Catalog
	progress func(what string)
	tables   map[uint32]int // by object id, into catalog.Tables

	composites map[uint32]int // by object id of their relation, into catalog.Composites
	own        string         // the schema that is found without its name
}

// IsSystem reports whether a schema is one in which the server describes itself.
func IsSystem(schema string) bool {
	return strings.HasPrefix(schema, "pg_") || schema == "information_schema"
}

func (r *reader) schemas() []string { return r.catalog.Schemas }

func (r *reader) chooseSchemas(ctx context.Context, schemas []string) error {
	if err := r.conn.QueryRow(ctx, `SELECT coalesce(current_schema(), '')`).Scan(&r.own); err != nil {
		return fmt.Errorf("asking for the current schema: %w", err)
	}
	if err := r.conn.QueryRow(ctx, `SELECT current_schemas(false)::text[]`).Scan(&r.catalog.SearchPath); err != nil {
		return fmt.Errorf("asking for the search path: %w", err)
	}
	if slices.Equal(r.catalog.SearchPath, []string{"public"}) {
		r.catalog.SearchPath = nil
	}
	if len(schemas) == 0 && r.own == "" {
		return fault.New("name schemas: `database.schemas` in widegate.yaml, or --schema", "the connection's search path names no schema that exists")
	}
	if len(schemas) == 0 {
		schemas = []string{r.own}
	}
	rows, err := r.conn.Query(ctx, `SELECT nspname FROM pg_namespace WHERE nspname !~ '^pg_' AND nspname <> 'information_schema' ORDER BY 1`)
	if err != nil {
		return fmt.Errorf("listing the schemas: %w", err)
	}
	known, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return fmt.Errorf("listing the schemas: %w", err)
	}
	for _, s := range schemas {
		if !slices.Contains(known, s) {
			return fault.New("the database has "+strings.Join(known, ", "), "there is no schema %q", s)
		}
	}
	r.catalog.Schemas = slices.Clone(schemas)
	return nil
}

// each runs a query whose first argument is the list of schemas.
func (r *reader) each(ctx context.Context, what, query string, scan func(row pgx.Rows) error) error {
	r.progress(what)
	rows, err := r.conn.Query(ctx, query, r.schemas())
	if err != nil {
		return fmt.Errorf("reading %s: %w", what, err)
	}
	defer rows.Close()
	for rows.Next() {
		if err := scan(rows); err != nil {
			return fmt.Errorf("reading %s: %w", what, err)
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("reading %s: %w", what, err)
	}
	return nil
}

// table returns the table of an object id, or nil for one that is not read.
func (r *reader) table(id uint32) *catalog.Table {
	at, ok := r.tables[id]
	if !ok {
		return nil
	}
	return &r.catalog.Tables[at]
}

// readEnums reads those of all schemas, for a column may use one of a schema
// that is not read.
func (r *reader) readEnums(ctx context.Context) error {
	return r.each(ctx, "enum types", `
		SELECT n.nspname, t.typname, array_agg(e.enumlabel::text ORDER BY e.enumsortorder), coalesce(obj_description(t.oid, 'pg_type'), '')
		FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace JOIN pg_enum e ON e.enumtypid = t.oid
		WHERE cardinality($1::text[]) > 0 GROUP BY n.nspname, t.typname, t.oid`, func(row pgx.Rows) error {
		var e catalog.Enum
		err := row.Scan(&e.Schema, &e.Name, &e.Labels, &e.Comment)
		r.catalog.Enums = append(r.catalog.Enums, e)
		return err
	})
}

// dropUnusedEnums drops the enums of schemas that are not read, but for those
// that a column uses.
func (r *reader) dropUnusedEnums() {
	used := map[string]bool{}
	for _, t := range r.catalog.Tables {
		for _, c := range t.Columns {
			for kind := &c.Type; kind != nil; kind = kind.Element {
				used[kind.Enum] = true
			}
		}
	}
	r.catalog.Enums = slices.DeleteFunc(r.catalog.Enums, func(e catalog.Enum) bool {
		return !slices.Contains(r.schemas(), e.Schema) && !used[catalog.Qualify(e.Schema, e.Name)]
	})
}

func (r *reader) readDomains(ctx context.Context) error {
	return r.each(ctx, "domains", `
		SELECT n.nspname, t.typname, format_type(t.typbasetype, t.typtypmod), t.typnotnull, coalesce(t.typdefault, ''),
			coalesce(obj_description(t.oid, 'pg_type'), ''),
			ARRAY(SELECT k.conname::text FROM pg_constraint k WHERE k.contypid = t.oid AND k.contype = 'c' ORDER BY k.conname),
			ARRAY(SELECT coalesce(pg_get_expr(k.conbin, 0), '') FROM pg_constraint k WHERE k.contypid = t.oid AND k.contype = 'c' ORDER BY k.conname)
		FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
		WHERE n.nspname = ANY($1) AND t.typtype = 'd'`, func(row pgx.Rows) error {
		var d catalog.Domain
		var def string
		var names, exprs []string
		if err := row.Scan(&d.Schema, &d.Name, &d.Declared, &d.NotNull, &def, &d.Comment, &names, &exprs); err != nil {
			return err
		}
		d.Default = DefaultOf(def)
		for i, name := range names {
			d.Checks = append(d.Checks, catalog.Check{Name: name, Expr: exprs[i]})
		}
		r.catalog.Domains = append(r.catalog.Domains, d)
		return nil
	})
}

func (r *reader) readComposites(ctx context.Context) error {
	return r.each(ctx, "composite types", `
		SELECT c.oid, n.nspname, t.typname, coalesce(obj_description(t.oid, 'pg_type'), '')
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_type t ON t.typrelid = c.oid
		WHERE n.nspname = ANY($1) AND c.relkind = 'c'`, func(row pgx.Rows) error {
		var id uint32
		c := catalog.Composite{Fields: []catalog.CompositeField{}}
		if err := row.Scan(&id, &c.Schema, &c.Name, &c.Comment); err != nil {
			return err
		}
		r.composites[id] = len(r.catalog.Composites)
		r.catalog.Composites = append(r.catalog.Composites, c)
		return nil
	})
}

// readSequences leaves out those that belong to a column.
func (r *reader) readSequences(ctx context.Context) error {
	return r.each(ctx, "sequences", `
		SELECT n.nspname, c.relname, `+fmt.Sprintf(sequenceOptions, "20")+` FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_sequence s ON s.seqrelid = c.oid
		WHERE n.nspname = ANY($1) AND c.relkind = 'S' AND NOT EXISTS (SELECT 1 FROM pg_depend d
			WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.refclassid = 'pg_class'::regclass AND d.refobjsubid > 0 AND d.deptype IN ('a', 'i'))`,
		func(row pgx.Rows) error {
			var s catalog.Sequence
			err := row.Scan(&s.Schema, &s.Name, &s.Options)
			r.catalog.Sequences = append(r.catalog.Sequences, s)
			return err
		})
}

var kinds = map[string]catalog.Kind{
	"r": catalog.BaseTable, "p": catalog.BaseTable, "f": catalog.BaseTable,
	"v": catalog.View, "m": catalog.MaterializedView,
}

// viewUpdates are the bits of pg_relation_is_updatable for UPDATE and DELETE.
const viewUpdates = 4 | 16

// readTables leaves the partitions of a table out; the table stands for them.
func (r *reader) readTables(ctx context.Context) error {
	return r.each(ctx, "tables", `
		SELECT c.oid, n.nspname, c.relname, c.relkind::text, coalesce(obj_description(c.oid, 'pg_class'), ''),
			CASE WHEN c.relkind IN ('v', 'm') THEN coalesce(pg_get_viewdef(c.oid), '') ELSE '' END, c.reltuples::bigint,
			CASE WHEN c.relkind = 'v' THEN pg_relation_is_updatable(c.oid, false) ELSE 0 END,
			CASE WHEN c.relkind = 'p' THEN pg_get_partkeydef(c.oid) ELSE '' END, c.relpersistence = 'u'
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = ANY($1) AND c.relkind IN ('r', 'p', 'f', 'v', 'm') AND NOT c.relispartition
		ORDER BY n.nspname, c.relname`, func(row pgx.Rows) error {
		var id uint32
		var kind string
		var updates int
		var unlogged bool
		var t catalog.Table
		if err := row.Scan(&id, &t.Schema, &t.Name, &kind, &t.Comment, &t.Definition, &t.Rows, &updates, &t.Partition, &unlogged); err != nil {
			return err
		}
		t.Kind = kinds[kind]
		if t.IsView() {
			t.Rows = -1
		}
		t.Updatable = updates&viewUpdates == viewUpdates
		if kind == "f" {
			t.Options = append(t.Options, "foreign")
		}
		if unlogged {
			t.Options = append(t.Options, "unlogged")
		}
		r.tables[id] = len(r.catalog.Tables)
		r.catalog.Tables = append(r.catalog.Tables, t)
		return nil
	})
}

func (r *reader) readInheritance(ctx context.Context) error {
	return r.each(ctx, "inheritance", `
		SELECT i.inhrelid, pn.nspname, p.relname
		FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		JOIN pg_class p ON p.oid = i.inhparent JOIN pg_namespace pn ON pn.oid = p.relnamespace
		WHERE n.nspname = ANY($1) AND NOT c.relispartition AND c.relkind IN ('r', 'f') ORDER BY i.inhrelid, i.inhseqno`, func(row pgx.Rows) error {
		var id uint32
		var schema, parent string
		if err := row.Scan(&id, &schema, &parent); err != nil {
			return err
		}
		if t := r.table(id); t != nil {
			t.Inherits = append(t.Inherits, catalog.Qualify(schema, parent))
		}
		return nil
	})
}

// readColumns reads the columns of tables and the fields of composite types.
// It reads domains as their base types, whose names go beside them. A
// default that takes its number from a sequence counts as an identity; the
// sequence is named where it belongs to no column, or to another.
func (r *reader) readColumns(ctx context.Context) error {
	return r.each(ctx, "columns", `
		WITH RECURSIVE base AS (
			SELECT t.oid AS domain, t.typbasetype AS oid, t.typtypmod AS typmod, t.typnotnull AS needed, t.typdefault AS def FROM pg_type t WHERE t.typtype = 'd'
			UNION ALL
			SELECT b.domain, t.typbasetype, CASE WHEN b.typmod >= 0 THEN b.typmod ELSE t.typtypmod END, b.needed OR t.typnotnull, coalesce(b.def, t.typdefault)
			FROM base b JOIN pg_type t ON t.oid = b.oid WHERE t.typtype = 'd'
		), basic AS (
			SELECT b.* FROM base b JOIN pg_type t ON t.oid = b.oid WHERE t.typtype <> 'd'
		)
		SELECT a.attrelid, a.attname, format_type(a.atttypid, a.atttypmod), t.typname, tn.nspname, t.typtype::text,
			CASE WHEN a.atttypmod >= 0 THEN a.atttypmod ELSE coalesce(b.typmod, -1) END,
			CASE WHEN b.domain IS NOT NULL THEN dn.nspname || '.' || dt.typname ELSE '' END,
			coalesce(e.typname, ''), coalesce(en.nspname, ''), coalesce(e.typtype::text, ''),
			coalesce(format_type(coalesce(rg.rngsubtype, nullif(t.typelem, 0)), CASE WHEN rg.rngtypid IS NULL THEN a.atttypmod END), ''),
			coalesce(eb.typmod, -1), a.attndims,
			a.attnotnull AND NOT EXISTS (SELECT 1 FROM pg_constraint k WHERE k.conrelid = a.attrelid AND k.contype = 'n' AND k.conkey = ARRAY[a.attnum] AND NOT k.convalidated) OR coalesce(b.needed, false), a.attidentity::text, a.attgenerated::text,
			coalesce(pg_get_expr(d.adbin, d.adrelid), b.def, ''), coalesce(sn.nspname || '.' || sq.relname, ''),
			coalesce(col_description(a.attrelid, a.attnum), ''),
			CASE WHEN a.attcollation <> t.typcollation THEN coalesce(co.collname, '') ELSE '' END,
			coalesce(CASE WHEN oc.relname <> c.relname || '_' || a.attname || '_seq' THEN oc.relname END, ''),
			coalesce(`+fmt.Sprintf(sequenceOptions, "a.atttypid")+`, ''),
			coalesce(es.typname, ''), coalesce(esn.nspname, ''), coalesce(es.typtype::text, ''), coalesce(format_type(es.oid, NULL), '')
		FROM pg_attribute a
		JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		LEFT JOIN basic b ON b.domain = a.atttypid
		LEFT JOIN pg_type dt ON dt.oid = b.domain LEFT JOIN pg_namespace dn ON dn.oid = dt.typnamespace
		JOIN pg_type t ON t.oid = coalesce(b.oid, a.atttypid) JOIN pg_namespace tn ON tn.oid = t.typnamespace
		LEFT JOIN pg_range rg ON rg.rngtypid = t.oid
		LEFT JOIN basic eb ON eb.domain = t.typelem AND t.typcategory = 'A'
		LEFT JOIN pg_type e ON e.oid = coalesce(rg.rngsubtype, eb.oid, CASE WHEN t.typcategory = 'A' THEN t.typelem END)
		LEFT JOIN pg_namespace en ON en.oid = e.typnamespace
		LEFT JOIN pg_range er ON er.rngtypid = e.oid
		LEFT JOIN pg_type es ON es.oid = er.rngsubtype LEFT JOIN pg_namespace esn ON esn.oid = es.typnamespace
		LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
		LEFT JOIN LATERAL (SELECT q.oid, q.relname, q.relnamespace FROM pg_depend y JOIN pg_class q ON q.oid = y.refobjid AND q.relkind = 'S'
			WHERE y.classid = 'pg_attrdef'::regclass AND y.objid = d.oid AND y.refclassid = 'pg_class'::regclass
				AND NOT EXISTS (SELECT 1 FROM pg_depend o WHERE o.classid = 'pg_class'::regclass AND o.objid = q.oid
					AND o.refclassid = 'pg_class'::regclass AND o.refobjid = a.attrelid AND o.refobjsubid = a.attnum)
			LIMIT 1) sq ON true
		LEFT JOIN pg_namespace sn ON sn.oid = sq.relnamespace
		LEFT JOIN pg_collation co ON co.oid = a.attcollation
		LEFT JOIN LATERAL (SELECT y.objid FROM pg_depend y JOIN pg_class q ON q.oid = y.objid AND q.relkind = 'S'
			WHERE y.classid = 'pg_class'::regclass AND y.refclassid = 'pg_class'::regclass AND y.refobjid = a.attrelid AND y.refobjsubid = a.attnum AND y.deptype IN ('a', 'i')
			ORDER BY y.deptype DESC, y.objid LIMIT 1) own ON c.relkind IN ('r', 'p')
		LEFT JOIN pg_class oc ON oc.oid = own.objid LEFT JOIN pg_sequence s ON s.seqrelid = own.objid
		WHERE n.nspname = ANY($1) AND c.relkind IN ('r', 'p', 'f', 'v', 'm', 'c') AND NOT c.relispartition
			AND a.attnum > 0 AND NOT a.attisdropped
		ORDER BY a.attrelid, a.attnum`, r.addColumn)
}

// readNotNull reads the names of the constraints that keep columns from being null,
// which servers have since version 18.
func (r *reader) readNotNull(ctx context.Context) error {
	return r.each(ctx, "not null constraints", `
		SELECT k.conrelid, a.attname, k.conname
		FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.conkey[1]
		WHERE n.nspname = ANY($1) AND k.contype = 'n' AND k.convalidated AND k.conislocal AND k.conname <> c.relname || '_' || a.attname || '_not_null' AND length(c.relname || a.attname) < 54`, func(row pgx.Rows) error {
		var id uint32
		var column, name string
		if err := row.Scan(&id, &column, &name); err != nil {
			return err
		}
		if t := r.table(id); t != nil {
			if c, ok := t.Column(column); ok {
				c.NotNull = name
			}
		}
		return nil
	})
}

func (r *reader) addColumn(row pgx.Rows) error {
	var id uint32
	var c catalog.Column
	var own, element, bound Name
	var elementDeclared, boundDeclared, identity, generated, def, sequence, ownSequence, options string
	var modifier, elementModifier int32
	var dimensions int
	var notNull bool
	if err := row.Scan(&id, &c.Name, &c.Declared, &own.Name, &own.Schema, &own.Kind, &modifier, &c.Domain,
		&element.Name, &element.Schema, &element.Kind, &elementDeclared, &elementModifier, &dimensions,
		&notNull, &identity, &generated, &def, &sequence, &c.Comment, &c.Collation, &ownSequence, &options,
		&bound.Name, &bound.Schema, &bound.Kind, &boundDeclared); err != nil {
		return err
	}
	if elementModifier >= 0 {
		modifier = elementModifier
	}
	c.Type = TypeOf(own, element, modifier)
	if c.Type.Element != nil {
		c.Type.Name = elementDeclared
	}
	if bound.Name != "" && c.Type.Element != nil { // an array of ranges
		inner := TypeOf(element, bound, -1)
		inner.Name = boundDeclared
		c.Type.Element = &inner
	}
	if dimensions > 1 { // which the engine does not hold rows to, but their author meant it
		c.Type = catalog.Type{Kind: catalog.Other}
	}
	if i, ok := r.composites[id]; ok {
		known := &r.catalog.Composites[i]
		known.Fields = append(known.Fields, catalog.CompositeField{Name: c.Name, Declared: c.Declared, Type: c.Type})
		return nil
	}
	t := r.table(id)
	if t == nil {
		return nil
	}
	c.Nullable = !notNull
	switch {
	case generated != "":
		c.Generated, c.Virtual = def, generated == "v"
	case identity != "":
		c.Default = &catalog.Default{Kind: catalog.Identity, Always: identity == "a", Own: ownSequence, Options: options}
	case strings.HasPrefix(def, "nextval(") && sequence == "":
		c.Default = &catalog.Default{Kind: catalog.Identity, Own: ownSequence, Options: options, Serial: true}
	case strings.HasPrefix(def, "nextval("):
		c.Default = &catalog.Default{Kind: catalog.Identity, Sequence: sequence}
	default:
		c.Default = DefaultOf(def)
	}
	t.Columns = append(t.Columns, c)
	return nil
}

var (
	castedText   = regexp.MustCompile(`^'((?:[^']|'')*)'(?:::[a-zA-Z_"][\w ".]*(?:\([\d,]+\))?(?:\[\])?)?$`)
	castedNumber = regexp.MustCompile(`^\(?(-?\d+(?:\.\d+)?)\)?(?:::[a-z][\w ]*(?:\([\d,]+\))?)?$`)
)

// DefaultOf tells constants from expressions in a default as the server prints
// it back; an empty text gives nil.
func DefaultOf(text string) *catalog.Default {
	switch {
	case text == "" || strings.HasPrefix(text, "NULL::"):
		return nil
	case text == "true" || text == "false":
		return &catalog.Default{Kind: catalog.Constant, Text: text}
	}
	if m := castedText.FindStringSubmatch(text); m != nil {
		return &catalog.Default{Kind: catalog.Constant, Text: strings.ReplaceAll(m[1], "''", "'")}
	}
	if m := castedNumber.FindStringSubmatch(text); m != nil {
		return &catalog.Default{Kind: catalog.Constant, Text: m[1]}
	}
	return &catalog.Default{Kind: catalog.Expression, Text: text}
}

// What a constraint may have besides its columns and actions, as the server
// prints it.
var (
	specialConstraint = regexp.MustCompile(`(NULLS NOT DISTINCT|\bINCLUDE \(|\bMATCH (FULL|PARTIAL)|\bINITIALLY DEFERRED|\bNOT VALID|\bNOT ENFORCED|\bSET (NULL|DEFAULT) \(|\bWITHOUT OVERLAPS|\bPERIOD )`)
	temporal          = regexp.MustCompile(`^FOREIGN KEY \([^)]*\bPERIOD `)
	checkOptions      = regexp.MustCompile(`( NO INHERIT| NOT VALID| NOT ENFORCED)+$`)
)

var actions = map[string]string{"a": "", "r": "restrict", "c": "cascade", "n": "set null", "d": "set default", "": "", " ": ""}

// readConstraints leaves out the references to single partitions that the
// server keeps beside the one to their table.
func (r *reader) readConstraints(ctx context.Context) error {
	return r.each(ctx, "constraints", `
		SELECT k.conrelid, k.conname, k.contype::text, coalesce(fn.nspname, ''), coalesce(f.relname, ''),
			k.confupdtype::text, k.confdeltype::text, coalesce(pg_get_expr(k.conbin, k.conrelid), ''),
			ARRAY(SELECT a.attname::text FROM unnest(k.conkey) WITH ORDINALITY u(n, i) JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = u.n ORDER BY u.i),
			ARRAY(SELECT a.attname::text FROM unnest(k.confkey) WITH ORDINALITY u(n, i) JOIN pg_attribute a ON a.attrelid = k.confrelid AND a.attnum = u.n ORDER BY u.i),
			k.condeferrable, pg_get_constraintdef(k.oid, true), coalesce(ic.reloptions IS NOT NULL, false)
		FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		LEFT JOIN pg_class f ON f.oid = k.confrelid LEFT JOIN pg_namespace fn ON fn.oid = f.relnamespace
		LEFT JOIN pg_class ic ON ic.oid = k.conindid AND k.contype IN ('p', 'u')
		WHERE n.nspname = ANY($1) AND k.contype IN ('p', 'u', 'f', 'c') AND (k.conparentid = 0 OR k.contype <> 'f')
		ORDER BY k.conrelid, k.conname`, func(row pgx.Rows) error {
		var id uint32
		var name, kind, schema, table, onUpdate, onDelete, expr string
		var columns, target []string
		var definition string
		var deferrable, stored bool
		if err := row.Scan(&id, &name, &kind, &schema, &table, &onUpdate, &onDelete, &expr, &columns, &target, &deferrable, &definition, &stored); err != nil {
			return err
		}
		t := r.table(id)
		if t == nil {
			return nil
		}
		special := ""
		if stored || specialConstraint.MatchString(definition) {
			special = definition
		}
		switch kind {
		case "p":
			t.PrimaryKey = &catalog.Key{Name: name, Columns: columns, Deferrable: deferrable, Definition: special}
		case "u":
			t.Uniques = append(t.Uniques, catalog.Key{Name: name, Columns: columns, Deferrable: deferrable, Definition: special})
		case "f":
			t.References = append(t.References, catalog.Reference{
				Name: name, Columns: columns, Schema: schema, Table: table, Target: target,
				OnUpdate: actions[onUpdate], OnDelete: actions[onDelete], Deferrable: deferrable, Definition: special,
				Unenforced: strings.Contains(special, "NOT ENFORCED"), Period: temporal.MatchString(special),
			})
		case "c":
			t.Checks = append(t.Checks, catalog.Check{Name: name, Expr: expr, Options: strings.TrimSpace(checkOptions.FindString(definition))})
		}
		return nil
	})
}

// readIndexes leaves out those that stand behind a key. A unique index over
// plain columns is a key too.
func (r *reader) readIndexes(ctx context.Context) error {
	return r.each(ctx, "indexes", `
		SELECT i.indrelid, ic.relname, i.indisunique, coalesce(pg_get_expr(i.indpred, i.indrelid), ''), i.indexprs IS NOT NULL OR NOT i.indisvalid, CASE WHEN am.amname = 'btree' THEN '' ELSE am.amname END,
			ARRAY(SELECT coalesce(a.attname::text, '(' || pg_get_indexdef(i.indexrelid, u.i::int, true) || ')')
				FROM unnest(i.indkey::int2[]) WITH ORDINALITY u(n, i) LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = u.n AND u.n > 0
				WHERE u.i <= i.indnkeyatts ORDER BY u.i),
			CASE WHEN i.indnatts > i.indnkeyatts OR EXISTS (SELECT 1 FROM unnest(i.indoption::int2[]) o WHERE o <> 0)
				OR EXISTS (SELECT 1 FROM unnest(i.indclass::oid[]) o JOIN pg_opclass c ON c.oid = o WHERE NOT c.opcdefault)
				OR EXISTS (SELECT 1 FROM unnest(i.indkey::int2[], i.indcollation::oid[]) o(n, l) JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = o.n WHERE o.l <> 0 AND o.l <> a.attcollation)
				OR EXISTS (SELECT 1 FROM pg_attribute a WHERE a.attrelid = i.indexrelid AND a.attoptions IS NOT NULL)
				OR ic.reloptions IS NOT NULL OR ic.reltablespace <> 0 OR coalesce((to_jsonb(i) ->> 'indnullsnotdistinct')::boolean, false)
				THEN pg_get_indexdef(i.indexrelid, 0, true) ELSE '' END
		FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		JOIN pg_class ic ON ic.oid = i.indexrelid JOIN pg_am am ON am.oid = ic.relam
		WHERE n.nspname = ANY($1) AND NOT EXISTS (SELECT 1 FROM pg_constraint k WHERE k.conindid = i.indexrelid AND k.contype IN ('p', 'u', 'x'))
		ORDER BY i.indrelid, ic.relname`, func(row pgx.Rows) error {
		var id uint32
		var in catalog.Index
		var expressions bool
		if err := row.Scan(&id, &in.Name, &in.Unique, &in.Where, &expressions, &in.Method, &in.Columns, &in.Definition); err != nil {
			return err
		}
		t := r.table(id)
		switch {
		case t == nil:
		case in.Unique && in.Where == "" && !expressions:
			t.Uniques = append(t.Uniques, catalog.Key{Name: in.Name, Columns: in.Columns, Index: true, Definition: in.Definition})
		default:
			t.Indexes = append(t.Indexes, in)
		}
		return nil
	})
}

var volatilities = map[string]string{"i": "immutable", "s": "stable", "v": "volatile"}

// readRoutines leaves out what extensions and range types bring, and
// aggregates.
func (r *reader) readRoutines(ctx context.Context) error {
	modes := map[string]string{"i": "", "o": "out", "b": "inout", "v": "variadic", "t": "table"}
	return r.each(ctx, "routines", `
		SELECT n.nspname, p.proname, p.prokind::text, p.provolatile::text, coalesce(pg_get_function_result(p.oid), ''),
			coalesce(obj_description(p.oid, 'pg_proc'), ''), coalesce(p.proargnames, '{}'),
			coalesce(p.proargmodes::text[], '{}'),
			ARRAY(SELECT format_type(u.t, NULL) FROM unnest(coalesce(p.proallargtypes, p.proargtypes::oid[])) WITH ORDINALITY u(t, i) ORDER BY u.i),
			pg_get_functiondef(p.oid)
		FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
		WHERE n.nspname = ANY($1) AND p.prokind IN ('f', 'p')
			AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_proc'::regclass AND d.objid = p.oid AND d.deptype IN ('e', 'i'))`, func(row pgx.Rows) error {
		var f catalog.Routine
		var kind, volatility string
		var names, argModes, types []string
		if err := row.Scan(&f.Schema, &f.Name, &kind, &volatility, &f.Returns, &f.Comment, &names, &argModes, &types, &f.Definition); err != nil {
			return err
		}
		f.Kind = map[string]string{"f": "function", "p": "procedure"}[kind]
		f.Volatility = volatilities[volatility]
		for i, declared := range types {
			a := catalog.Argument{Declared: declared}
			if i < len(names) {
				a.Name = names[i]
			}
			if i < len(argModes) {
				a.Mode = modes[argModes[i]]
			}
			f.Arguments = append(f.Arguments, a)
		}
		r.catalog.Routines = append(r.catalog.Routines, f)
		return nil
	})
}

// basicTypes maps the names of pg_type to types.
var basicTypes = map[string]catalog.Type{
	"int2":        {Kind: catalog.Int, Bits: 16},
	"int4":        {Kind: catalog.Int, Bits: 32},
	"int8":        {Kind: catalog.Int, Bits: 64},
	"float4":      {Kind: catalog.Float, Bits: 32},
	"float8":      {Kind: catalog.Float, Bits: 64},
	"numeric":     {Kind: catalog.Decimal},
	"bool":        {Kind: catalog.Bool},
	"text":        {Kind: catalog.Text},
	"varchar":     {Kind: catalog.Text},
	"bpchar":      {Kind: catalog.Text},
	"name":        {Kind: catalog.Text},
	"citext":      {Kind: catalog.Text},
	"bytea":       {Kind: catalog.Bytes},
	"date":        {Kind: catalog.Date},
	"time":        {Kind: catalog.Time},
	"timestamp":   {Kind: catalog.Timestamp},
	"timestamptz": {Kind: catalog.TimestampTZ},
	"uuid":        {Kind: catalog.UUID},
	"json":        {Kind: catalog.JSON},
	"jsonb":       {Kind: catalog.JSON},
	"interval":    {Kind: catalog.Interval},
	"inet":        {Kind: catalog.Network},
	"cidr":        {Kind: catalog.Network},
	"macaddr":     {Kind: catalog.Network},
	"macaddr8":    {Kind: catalog.Network},
	"bit":         {Kind: catalog.BitString},
	"varbit":      {Kind: catalog.BitString},
	"xml":         {Kind: catalog.XML},
	"money":       {Kind: catalog.Money},
	"point":       {Kind: catalog.Geometric},
	"line":        {Kind: catalog.Geometric},
	"lseg":        {Kind: catalog.Geometric},
	"box":         {Kind: catalog.Geometric},
	"path":        {Kind: catalog.Geometric},
	"polygon":     {Kind: catalog.Geometric},
	"circle":      {Kind: catalog.Geometric},
	"tsvector":    {Kind: catalog.FullText},
	"tsquery":     {Kind: catalog.FullText},
	"oid":         {Kind: catalog.Int, Bits: 64},
}

// A Name is that of a type, with its schema and its kind in pg_type.
type Name struct{ Schema, Name, Kind string }

// TypeOf normalizes a type by its entry in pg_type, that of its elements, which
// is empty but for arrays and ranges, and the modifier of the column, whose
// first four bytes are a header.
func TypeOf(own, element Name, modifier int32) catalog.Type {
	switch {
	case own.Kind == "e":
		return catalog.Type{Kind: catalog.EnumKind, Enum: catalog.Qualify(own.Schema, own.Name)}
	case own.Kind == "c":
		return catalog.Type{Kind: catalog.Compound, Composite: catalog.Qualify(own.Schema, own.Name)}
	case own.Kind == "r" && element.Name != "":
		inner := TypeOf(element, Name{}, -1)
		return catalog.Type{Kind: catalog.Range, Element: &inner}
	case element.Name != "":
		inner := TypeOf(element, Name{}, modifier)
		return catalog.Type{Kind: catalog.Array, Element: &inner}
	}
	t, ok := basicTypes[own.Name]
	if !ok {
		return catalog.Type{Kind: catalog.Other}
	}
	if modifier < 0 {
		return t
	}
	m := int(modifier - 4)
	switch own.Name {
	case "numeric":
		t.Precision, t.Scale = m>>16, m&0x7ff
		if t.Scale >= 1024 { // eleven bits with a sign
			t.Scale -= 2048
		}
	case "varchar", "bpchar":
		t.Size = m
	case "bit", "varbit":
		t.Size = int(modifier)
	}
	return t
}
