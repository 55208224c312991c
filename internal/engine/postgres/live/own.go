package live

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"

	"widegate/internal/fault"
)

// A database can hold functions and operators that PostgreSQL prefers to its own
// when a query of ours calls one by name: because their schema comes first in the
// search path, or because they take the very types of a call. They would run with
// the rights of the developer who only wants to read the schema; see section
// 10.3 of PostgreSQL's documentation, and its CVE-2018-1058. So a connection
// finds PostgreSQL's own first, and where others could still stand in for them
// nothing is read.

type trusting struct{}

// Trusting returns a context in which functions of a database may stand in for
// PostgreSQL's own.
func Trusting(ctx context.Context) context.Context {
	return context.WithValue(ctx, trusting{}, true)
}

// ownFunctions makes a connection safe to ask.
func ownFunctions(ctx context.Context, conn *pgx.Conn) error {
	var path string
	var schemas []string
	// These two calls are of the types that the functions have, in their own schema.
	err := conn.QueryRow(ctx, "SELECT pg_catalog.current_setting('search_path'), pg_catalog.current_schemas(false)::pg_catalog.text[]").Scan(&path, &schemas)
	if err != nil {
		return err
	}
	own := withoutCatalog(path)
	if ctx.Value(trusting{}) == nil {
		if err := setPath(ctx, conn, "pg_catalog"); err != nil {
			return err
		}
		if err := refuseStandIns(ctx, conn, schemas); err != nil {
			return err
		}
		return setPath(ctx, conn, own)
	}
	if own != path {
		return setPath(ctx, conn, own)
	}
	return nil
}

// withoutCatalog is a search path that does not name pg_catalog, which then comes
// first.
func withoutCatalog(path string) string {
	var kept []string
	for _, schema := range strings.Split(path, ",") {
		schema = strings.TrimSpace(schema)
		if name := strings.Trim(schema, `"`); name != "pg_catalog" {
			kept = append(kept, schema)
		}
	}
	return strings.Join(kept, ", ")
}

func setPath(ctx context.Context, conn *pgx.Conn, path string) error {
	_, err := conn.Exec(ctx, "SELECT pg_catalog.set_config('search_path', $1::pg_catalog.text, false)", path)
	return err
}

// called are the functions that queries of this package call; a test holds the
// list to the queries.
var called = strings.Fields(`pg_get_constraintdef pg_get_expr pg_get_function_identity_arguments pg_get_function_result pg_get_functiondef pg_get_indexdef
	pg_get_partkeydef pg_get_ruledef pg_get_statisticsobjdef pg_get_triggerdef pg_get_userbyid pg_get_viewdef pg_collation_is_visible pg_has_role pg_relation_is_updatable pg_terminate_backend
	acldefault aclexplode array_agg array_length array_position array_to_string btrim cardinality col_description count current_schema current_schemas current_setting format format_type jsonb_agg jsonb_build_object left length lower max min obj_description quote_ident quote_literal regexp_replace
	replace rtrim set_config split_part starts_with string_agg strpos substr substring sum to_jsonb unnest upper`)

// operators are those that the queries use, by their names or as LIKE and IN.
var operators = strings.Fields("= <> < > <= >= || ~ !~ ~* !~* ~~ !~~ + - * / & |")

// standIns lists what could run in place of PostgreSQL's own. What extensions
// bring is not counted: who installed them looked at them.
const standIns = `
	SELECT format('%I.%I(%s)', n.nspname, p.proname, pg_get_function_identity_arguments(p.oid)) FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
	WHERE n.nspname <> 'pg_catalog' AND n.nspname::text = ANY ($1::text[]) AND p.proname::text = ANY ($2::text[])
		AND NOT EXISTS (SELECT 1 FROM unnest(p.proargtypes) a (id) JOIN pg_type t ON t.oid = a.id WHERE t.typnamespace <> 'pg_catalog'::regnamespace)
		AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_proc'::regclass AND d.objid = p.oid AND d.deptype = 'e')
	UNION ALL
	SELECT format('the operator %I.%s', n.nspname, o.oprname) FROM pg_operator o JOIN pg_namespace n ON n.oid = o.oprnamespace
	WHERE n.nspname <> 'pg_catalog' AND n.nspname::text = ANY ($1::text[]) AND o.oprname::text = ANY ($3::text[])
		AND NOT EXISTS (SELECT 1 FROM pg_type t WHERE t.oid IN (o.oprleft, o.oprright) AND t.typnamespace <> 'pg_catalog'::regnamespace)
		AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_operator'::regclass AND d.objid = o.oid AND d.deptype = 'e')
	ORDER BY 1 LIMIT 5`

func refuseStandIns(ctx context.Context, conn *pgx.Conn, schemas []string) error {
	rows, err := conn.Query(ctx, standIns, schemas, called, operators)
	if err != nil {
		return err
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil || len(list) == 0 {
		return err
	}
	return fault.New("look at them; if you trust the database, run again with --trust-database, as a user with few rights",
		"the database is not read: functions of it would run in place of PostgreSQL's own, with your rights: %s", strings.Join(list, ", "))
}
