package live

import (
	"context"

	"github.com/jackc/pgx/v5"

	"widegate/internal/catalog"
)

// extrasOf are the queries for what else the server keeps: for each a kind of
// thing, the object id of its table or 0, its name, and the statements that
// make it and take it away. $1 is the list of schemas. What is called by its
// regclass or regprocedure is qualified only where the search path asks for it.
var extrasOf = []struct{ what, query string }{
	{"triggers", `
		SELECT 'trigger state', t.tgrelid, t.tgname,
			format('ALTER TABLE %s %s TRIGGER %I', c.oid::regclass, CASE t.tgenabled WHEN 'D' THEN 'DISABLE' WHEN 'R' THEN 'ENABLE REPLICA' ELSE 'ENABLE ALWAYS' END, t.tgname),
			format('ALTER TABLE %s ENABLE TRIGGER %I', c.oid::regclass, t.tgname)
		FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = ANY($1) AND NOT t.tgisinternal AND t.tgenabled <> 'O' AND NOT c.relispartition`},
	{"rules", `
		SELECT 'rule', r.ev_class, r.rulename, rtrim(pg_get_ruledef(r.oid, true), ';'), format('DROP RULE %I ON %s', r.rulename, c.oid::regclass)
		FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = ANY($1) AND r.rulename <> '_RETURN'`},
	{"policies", `
		SELECT 'policy', p.polrelid, p.polname,
			format('CREATE POLICY %I ON %s AS %s FOR %s TO %s', p.polname, c.oid::regclass, CASE WHEN p.polpermissive THEN 'PERMISSIVE' ELSE 'RESTRICTIVE' END,
				CASE p.polcmd WHEN 'r' THEN 'SELECT' WHEN 'a' THEN 'INSERT' WHEN 'w' THEN 'UPDATE' WHEN 'd' THEN 'DELETE' ELSE 'ALL' END,
				(SELECT string_agg(CASE WHEN u.o = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(u.o)) END, ', ' ORDER BY 1) FROM unnest(p.polroles) u(o)))
			|| coalesce(' USING (' || pg_get_expr(p.polqual, p.polrelid, true) || ')', '') || coalesce(' WITH CHECK (' || pg_get_expr(p.polwithcheck, p.polrelid, true) || ')', ''),
			format('DROP POLICY %I ON %s', p.polname, c.oid::regclass)
		FROM pg_policy p JOIN pg_class c ON c.oid = p.polrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = ANY($1)`},
	{"row security", `
		SELECT 'row security', c.oid, x.name, format('ALTER TABLE %s %s ROW LEVEL SECURITY', c.oid::regclass, x.make), format('ALTER TABLE %s %s ROW LEVEL SECURITY', c.oid::regclass, x.undo)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		CROSS JOIN LATERAL (VALUES (c.relrowsecurity, 'enabled', 'ENABLE', 'DISABLE'), (c.relforcerowsecurity, 'forced', 'FORCE', 'NO FORCE')) x(has, name, make, undo)
		WHERE n.nspname = ANY($1) AND x.has AND NOT c.relispartition`},
	{"rights", `
		WITH object AS (
			SELECT c.oid AS rel, CASE WHEN c.relkind = 'S' THEN 0 ELSE c.oid END AS id, format(CASE WHEN c.relkind = 'S' THEN 'SEQUENCE %s' ELSE '%s' END, c.oid::regclass) AS name, '' AS col, c.relowner AS owner, c.relacl AS acl,
				acldefault(CASE WHEN c.relkind = 'S' THEN 's' ELSE 'r' END::"char", c.relowner) AS usual
			FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = ANY($1) AND c.relkind IN ('r', 'p', 'f', 'v', 'm', 'S') AND c.relacl IS NOT NULL AND NOT c.relispartition
			UNION ALL
			SELECT c.oid, c.oid, c.oid::regclass::text, format('(%I)', a.attname), c.relowner, a.attacl, NULL::aclitem[]
			FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = ANY($1) AND a.attacl IS NOT NULL AND NOT a.attisdropped AND NOT c.relispartition
			UNION ALL
			SELECT 0, 0, format('%s %s', CASE WHEN p.prokind = 'p' THEN 'PROCEDURE' ELSE 'FUNCTION' END, p.oid::regprocedure), '', p.proowner, p.proacl, acldefault('f', p.proowner)
			FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname = ANY($1) AND p.proacl IS NOT NULL AND p.prokind IN ('f', 'p')
				AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_proc'::regclass AND d.objid = p.oid AND d.deptype IN ('e', 'i'))
			UNION ALL
			SELECT 0, 0, format('TYPE %s', t.oid::regtype), '', t.typowner, t.typacl, acldefault('T', t.typowner)
			FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE n.nspname = ANY($1) AND t.typacl IS NOT NULL
			UNION ALL
			SELECT 0, 0, format('SCHEMA %I', n.nspname), '', n.nspowner, n.nspacl, acldefault('n', n.nspowner)
			FROM pg_namespace n WHERE n.nspname = ANY($1) AND n.nspname <> 'public' AND n.nspacl IS NOT NULL
		), entry AS (
			SELECT o.*, e.grantee, e.privilege_type AS right_name, e.is_grantable, true AS given FROM object o, aclexplode(CASE WHEN cardinality(o.acl) > 0 THEN o.acl END) e
			WHERE e.grantee <> o.owner AND NOT EXISTS (SELECT 1 FROM aclexplode(o.usual) u WHERE u.grantee = e.grantee AND u.privilege_type = e.privilege_type AND u.is_grantable = e.is_grantable)
			UNION ALL
			SELECT o.*, u.grantee, u.privilege_type, u.is_grantable, false FROM object o, aclexplode(o.usual) u
			WHERE u.grantee <> o.owner AND NOT EXISTS (SELECT 1 FROM aclexplode(CASE WHEN cardinality(o.acl) > 0 THEN o.acl END) e WHERE e.grantee = u.grantee AND e.privilege_type = u.privilege_type)
		), line AS (
			SELECT id, name, col, given, is_grantable, CASE WHEN grantee = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(grantee)) END AS who,
				string_agg(right_name || CASE WHEN col = '' THEN '' ELSE ' ' || col END, ', ' ORDER BY right_name) AS rights
			FROM entry GROUP BY id, name, col, given, is_grantable, grantee
		)
		SELECT CASE WHEN given THEN 'right' ELSE 'withheld right' END, id, trim(CASE WHEN id = 0 THEN name || ' ' ELSE '' END || 'of ' || who || ' ' || col || CASE WHEN is_grantable THEN ' with grant option' ELSE '' END),
			CASE WHEN given THEN format('GRANT %s ON %s TO %s', rights, name, who) || CASE WHEN is_grantable THEN ' WITH GRANT OPTION' ELSE '' END ELSE format('REVOKE %s ON %s FROM %s', rights, name, who) END,
			CASE WHEN given THEN format('REVOKE %s ON %s FROM %s', rights, name, who) ELSE format('GRANT %s ON %s TO %s', rights, name, who) END
		FROM line`},
	{"owners", `
		SELECT 'owner', c.oid, '', format('ALTER %s %s OWNER TO %I', CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'f' THEN 'FOREIGN TABLE' ELSE 'TABLE' END, c.oid::regclass, pg_get_userbyid(c.relowner)), ''
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = ANY($1) AND c.relkind IN ('r', 'p', 'f', 'v', 'm') AND NOT c.relispartition AND pg_get_userbyid(c.relowner) <> current_user
		UNION ALL
		SELECT 'owner', 0, format('of %s', p.oid::regprocedure), format('ALTER %s %s OWNER TO %I', CASE WHEN p.prokind = 'p' THEN 'PROCEDURE' ELSE 'FUNCTION' END, p.oid::regprocedure, pg_get_userbyid(p.proowner)), ''
		FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
		WHERE n.nspname = ANY($1) AND p.prokind IN ('f', 'p') AND pg_get_userbyid(p.proowner) <> current_user
			AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_proc'::regclass AND d.objid = p.oid AND d.deptype IN ('e', 'i'))`},
	{"options", `
		SELECT CASE WHEN c.relkind = 'v' THEN 'view option' ELSE 'storage option' END, c.oid, split_part(o, '=', 1),
			format('ALTER %s %s SET (%s=%L)', x.word, c.oid::regclass, split_part(o, '=', 1), substr(o, strpos(o, '=') + 1)),
			format('ALTER %s %s RESET (%s)', x.word, c.oid::regclass, split_part(o, '=', 1))
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace LEFT JOIN pg_class toast ON toast.oid = c.reltoastrelid
		CROSS JOIN LATERAL (SELECT CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' ELSE 'TABLE' END) x(word)
		CROSS JOIN LATERAL (SELECT unnest(c.reloptions) UNION ALL SELECT 'toast.' || unnest(toast.reloptions)) y(o)
		WHERE n.nspname = ANY($1) AND c.relkind IN ('r', 'v', 'm', 'p') AND NOT c.relispartition`},
	{"storage", `
		SELECT 'tablespace', c.oid, '', format('ALTER %s %s SET TABLESPACE %I', CASE c.relkind WHEN 'm' THEN 'MATERIALIZED VIEW' ELSE 'TABLE' END, c.oid::regclass, s.spcname), format('ALTER TABLE %s SET TABLESPACE pg_default', c.oid::regclass)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_tablespace s ON s.oid = c.reltablespace
		WHERE n.nspname = ANY($1) AND c.relkind IN ('r', 'p', 'm') AND NOT c.relispartition
		UNION ALL
		SELECT 'replica identity', c.oid, '', format('ALTER TABLE %s REPLICA IDENTITY %s', c.oid::regclass, CASE c.relreplident WHEN 'f' THEN 'FULL' WHEN 'n' THEN 'NOTHING' ELSE
			'USING INDEX ' || (SELECT quote_ident(ic.relname) FROM pg_index i JOIN pg_class ic ON ic.oid = i.indexrelid WHERE i.indrelid = c.oid AND i.indisreplident) END),
			format('ALTER TABLE %s REPLICA IDENTITY DEFAULT', c.oid::regclass)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = ANY($1) AND c.relkind IN ('r', 'p') AND NOT c.relispartition AND c.relreplident <> 'd'
		UNION ALL
		SELECT 'clustering', i.indrelid, '', format('ALTER TABLE %s CLUSTER ON %I', i.indrelid::regclass, ic.relname), format('ALTER TABLE %s SET WITHOUT CLUSTER', i.indrelid::regclass)
		FROM pg_index i JOIN pg_class ic ON ic.oid = i.indexrelid JOIN pg_namespace n ON n.oid = ic.relnamespace WHERE n.nspname = ANY($1) AND i.indisclustered
		UNION ALL
		SELECT 'access method', c.oid, '', '', '' FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_am a ON a.oid = c.relam
		WHERE n.nspname = ANY($1) AND c.relkind IN ('r', 'm') AND a.amname <> 'heap' AND NOT c.relispartition`},
	{"columns' storage", `
		SELECT x.kind, a.attrelid, a.attname, format('ALTER TABLE %s ALTER COLUMN %I SET %s', c.oid::regclass, a.attname, x.make), format('ALTER TABLE %s ALTER COLUMN %I SET %s', c.oid::regclass, a.attname, x.undo)
		FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_type t ON t.oid = a.atttypid
		CROSS JOIN LATERAL (VALUES
			(a.attstorage <> t.typstorage, 'column storage', 'STORAGE ' || CASE a.attstorage WHEN 'p' THEN 'PLAIN' WHEN 'e' THEN 'EXTERNAL' WHEN 'm' THEN 'MAIN' ELSE 'EXTENDED' END, 'STORAGE ' || CASE t.typstorage WHEN 'p' THEN 'PLAIN' WHEN 'e' THEN 'EXTERNAL' WHEN 'm' THEN 'MAIN' ELSE 'EXTENDED' END),
			(coalesce(a.attstattarget, -1) >= 0, 'column statistics', 'STATISTICS ' || a.attstattarget, 'STATISTICS -1'),
			(coalesce(to_jsonb(a) ->> 'attcompression', '') <> '', 'column compression', 'COMPRESSION ' || CASE to_jsonb(a) ->> 'attcompression' WHEN 'l' THEN 'lz4' ELSE 'pglz' END, 'COMPRESSION default'),
			(array_to_string(a.attoptions, ', ') ~ '^n_distinct', 'column options', '(' || array_to_string(a.attoptions, ', ') || ')', '(n_distinct = 0)')) x(has, kind, make, undo)
		WHERE n.nspname = ANY($1) AND c.relkind IN ('r', 'p', 'm') AND NOT c.relispartition AND a.attnum > 0 AND NOT a.attisdropped AND x.has`},
	{"view defaults", `
		SELECT 'view default', a.attrelid, a.attname, format('ALTER VIEW %s ALTER COLUMN %I SET DEFAULT %s', c.oid::regclass, a.attname, pg_get_expr(d.adbin, d.adrelid)), format('ALTER VIEW %s ALTER COLUMN %I DROP DEFAULT', c.oid::regclass, a.attname)
		FROM pg_attrdef d JOIN pg_class c ON c.oid = d.adrelid AND c.relkind = 'v' JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_attribute a ON a.attrelid = d.adrelid AND a.attnum = d.adnum
		WHERE n.nspname = ANY($1)`},
	{"statistics", `
		SELECT 'statistics', s.stxrelid, s.stxname, pg_get_statisticsobjdef(s.oid), format('DROP STATISTICS %I.%I', n.nspname, s.stxname)
		FROM pg_statistic_ext s JOIN pg_namespace n ON n.oid = s.stxnamespace WHERE n.nspname = ANY($1)`},
	{"not null constraints", `
		SELECT 'not null constraint', k.conrelid, k.conname, format('ALTER TABLE %s ADD CONSTRAINT %I %s', k.conrelid::regclass, k.conname, pg_get_constraintdef(k.oid, true)), format('ALTER TABLE %s DROP CONSTRAINT %I', k.conrelid::regclass, k.conname)
		FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = ANY($1) AND k.contype = 'n' AND NOT k.convalidated AND NOT c.relispartition`},
	{"exclusion constraints", `
		SELECT 'exclusion constraint', k.conrelid, k.conname, format('ALTER TABLE %s ADD CONSTRAINT %I %s', k.conrelid::regclass, k.conname, pg_get_constraintdef(k.oid, true)), format('ALTER TABLE %s DROP CONSTRAINT %I', k.conrelid::regclass, k.conname)
		FROM pg_constraint k JOIN pg_namespace n ON n.oid = k.connamespace JOIN pg_class c ON c.oid = k.conrelid WHERE n.nspname = ANY($1) AND k.contype = 'x' AND NOT c.relispartition`},
	{"partitions", `
		SELECT 'partition', i.inhparent, c.oid::regclass::text, format('CREATE TABLE %s PARTITION OF %s %s', c.oid::regclass, i.inhparent::regclass, pg_get_expr(c.relpartbound, c.oid)) || CASE WHEN c.relkind = 'p' THEN ' PARTITION BY ' || pg_get_partkeydef(c.oid) ELSE '' END,
			format('ALTER TABLE %s DETACH PARTITION %s', i.inhparent::regclass, c.oid::regclass)
		FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_class p ON p.oid = i.inhparent JOIN pg_namespace n ON n.oid = p.relnamespace
		WHERE n.nspname = ANY($1) AND c.relispartition AND c.relkind IN ('r', 'p', 'f') AND NOT p.relispartition`},
	{"comments", `
		SELECT 'comment', x.rel, x.what, format('COMMENT ON %s IS %L', x.what, d.description), format('COMMENT ON %s IS NULL', x.what)
		FROM pg_description d JOIN (
			SELECT 'pg_constraint'::regclass, k.oid, k.conrelid, format('CONSTRAINT %I ON %s', k.conname, k.conrelid::regclass), k.connamespace FROM pg_constraint k WHERE k.conrelid <> 0
			UNION ALL SELECT 'pg_trigger'::regclass, t.oid, t.tgrelid, format('TRIGGER %I ON %s', t.tgname, t.tgrelid::regclass), c.relnamespace FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid WHERE NOT t.tgisinternal
			UNION ALL SELECT 'pg_policy'::regclass, p.oid, p.polrelid, format('POLICY %I ON %s', p.polname, p.polrelid::regclass), c.relnamespace FROM pg_policy p JOIN pg_class c ON c.oid = p.polrelid
			UNION ALL SELECT 'pg_rewrite'::regclass, r.oid, r.ev_class, format('RULE %I ON %s', r.rulename, r.ev_class::regclass), c.relnamespace FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class
			UNION ALL SELECT 'pg_class'::regclass, i.indexrelid, i.indrelid, format('INDEX %s', i.indexrelid::regclass), c.relnamespace FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid
			UNION ALL SELECT 'pg_class'::regclass, c.oid, 0, format('SEQUENCE %s', c.oid::regclass), c.relnamespace FROM pg_class c WHERE c.relkind = 'S'
			UNION ALL SELECT 'pg_statistic_ext'::regclass, s.oid, s.stxrelid, format('STATISTICS %I.%I', n.nspname, s.stxname), s.stxnamespace FROM pg_statistic_ext s JOIN pg_namespace n ON n.oid = s.stxnamespace
			UNION ALL SELECT 'pg_namespace'::regclass, n.oid, 0, format('SCHEMA %I', n.nspname), n.oid FROM pg_namespace n WHERE n.nspname <> 'public'
		) x(class, id, rel, what, space) ON d.classoid = x.class AND d.objoid = x.id AND d.objsubid = 0 JOIN pg_namespace n ON n.oid = x.space
		WHERE n.nspname = ANY($1)`},
	{"extensions", `
		SELECT 'extension', 0, e.extname, format('CREATE EXTENSION IF NOT EXISTS %I', e.extname) || CASE WHEN n.nspname = ANY($1) THEN '' ELSE format(' SCHEMA %I', n.nspname) END, ''
		FROM pg_extension e JOIN pg_namespace n ON n.oid = e.extnamespace WHERE e.extname <> 'plpgsql' AND cardinality($1::text[]) > 0`},
	{"other objects", `
		SELECT x.kind, 0, x.name, '', '' FROM (
			SELECT 'aggregate', p.oid::regprocedure::text, 'pg_proc'::regclass, p.oid, p.pronamespace FROM pg_proc p WHERE p.prokind IN ('a', 'w')
			UNION ALL SELECT 'range type', t.oid::regtype::text, 'pg_type'::regclass, t.oid, t.typnamespace FROM pg_type t WHERE t.typtype = 'r'
			UNION ALL SELECT 'collation', CASE WHEN pg_collation_is_visible(c.oid) THEN '' ELSE (SELECT quote_ident(s.nspname) || '.' FROM pg_namespace s WHERE s.oid = c.collnamespace) END || quote_ident(c.collname), 'pg_collation'::regclass, c.oid, c.collnamespace FROM pg_collation c
			UNION ALL SELECT 'operator', o.oid::regoperator::text, 'pg_operator'::regclass, o.oid, o.oprnamespace FROM pg_operator o
			UNION ALL SELECT 'operator class', o.opcname::text, 'pg_opclass'::regclass, o.oid, o.opcnamespace FROM pg_opclass o
			UNION ALL SELECT 'text search configuration', t.oid::regconfig::text, 'pg_ts_config'::regclass, t.oid, t.cfgnamespace FROM pg_ts_config t
			UNION ALL SELECT 'text search dictionary', t.oid::regdictionary::text, 'pg_ts_dict'::regclass, t.oid, t.dictnamespace FROM pg_ts_dict t
			UNION ALL SELECT 'default right', format('of %s for %s', pg_get_userbyid(a.defaclrole), a.defaclobjtype), 'pg_default_acl'::regclass, a.oid, a.defaclnamespace FROM pg_default_acl a
		) x(kind, name, class, id, space) JOIN pg_namespace n ON n.oid = x.space
		WHERE n.nspname = ANY($1) AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = x.class AND d.objid = x.id AND d.deptype IN ('e', 'i'))
		UNION ALL SELECT 'event trigger', 0, evtname::text, '', '' FROM pg_event_trigger WHERE cardinality($1::text[]) > 0
		UNION ALL SELECT 'publication', 0, pubname::text, '', '' FROM pg_publication WHERE cardinality($1::text[]) > 0`},
}

// readExtras reads what hangs on the tables and what belongs to the whole.
func (r *reader) readExtras(ctx context.Context) error {
	for _, e := range extrasOf {
		if err := r.each(ctx, e.what, e.query, r.addExtra); err != nil {
			return err
		}
	}
	r.catalog.Complete = true
	return r.readTriggers(ctx)
}

func (r *reader) addExtra(row pgx.Rows) error {
	var id uint32
	var e catalog.Extra
	if err := row.Scan(&e.Kind, &id, &e.Name, &e.Make, &e.Undo); err != nil {
		return err
	}
	if id == 0 {
		r.catalog.Extras = append(r.catalog.Extras, e)
	} else if t := r.table(id); t != nil {
		t.Extras = append(t.Extras, e)
	}
	return nil
}

func (r *reader) readTriggers(ctx context.Context) error {
	return r.each(ctx, "triggers", `
		SELECT t.tgrelid, t.tgname, pg_get_triggerdef(t.oid, true) FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = ANY($1) AND NOT t.tgisinternal AND NOT c.relispartition`, func(row pgx.Rows) error {
		var id uint32
		var trigger catalog.Trigger
		if err := row.Scan(&id, &trigger.Name, &trigger.Definition); err != nil {
			return err
		}
		if t := r.table(id); t != nil {
			t.Triggers = append(t.Triggers, trigger)
		}
		return nil
	})
}

// sequenceOptions is the SQL of what is not usual about a sequence s (of
// pg_sequence), whose type is the usual one or the one of its column.
const sequenceOptions = `trim(
	CASE WHEN s.seqtypid = %[1]s THEN '' ELSE ' AS ' || format_type(s.seqtypid, NULL) END ||
	CASE WHEN s.seqincrement = 1 THEN '' ELSE ' INCREMENT BY ' || s.seqincrement END ||
	CASE WHEN s.seqmin = CASE WHEN s.seqincrement > 0 THEN 1 ELSE (CASE s.seqtypid WHEN 20 THEN -9223372036854775808 WHEN 23 THEN -2147483648 ELSE -32768 END) END THEN '' ELSE ' MINVALUE ' || s.seqmin END ||
	CASE WHEN s.seqmax = CASE WHEN s.seqincrement < 0 THEN -1 ELSE (CASE s.seqtypid WHEN 20 THEN 9223372036854775807 WHEN 23 THEN 2147483647 ELSE 32767 END) END THEN '' ELSE ' MAXVALUE ' || s.seqmax END ||
	CASE WHEN s.seqstart = CASE WHEN s.seqincrement > 0 THEN s.seqmin ELSE s.seqmax END THEN '' ELSE ' START WITH ' || s.seqstart END ||
	CASE WHEN s.seqcache = 1 THEN '' ELSE ' CACHE ' || s.seqcache END ||
	CASE WHEN s.seqcycle THEN ' CYCLE' ELSE '' END)`
