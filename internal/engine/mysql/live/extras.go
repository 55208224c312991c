package live

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"widegate/internal/catalog"
)

// readTriggers reads the triggers in the order in which they fire.
func (r *reader) readTriggers(ctx context.Context) error {
	return r.each(ctx, "triggers", `
		SELECT event_object_schema, event_object_table, trigger_name, action_timing, event_manipulation, action_statement, sql_mode, collation_connection
		FROM information_schema.triggers WHERE event_object_schema IN {schemas} ORDER BY event_object_schema, event_object_table, action_order`, func(row *sql.Rows) error {
		var schema, table, timing, event, statement, mode, collation string
		var trigger catalog.Trigger
		if err := row.Scan(&schema, &table, &trigger.Name, &timing, &event, &statement, &mode, &collation); err != nil {
			return err
		}
		if t := r.table(schema, table); t != nil {
			trigger.Definition = fmt.Sprintf("CREATE TRIGGER %s %s %s ON %s FOR EACH ROW %s", quoteName(trigger.Name), timing, event, r.name(schema, table), statement)
			trigger.Session = session(mode, collation)
			t.Triggers = append(t.Triggers, trigger)
		}
		return nil
	})
}

// session is what a trigger or a routine keeps from the session that made it.
func session(mode, collation string) string {
	return fmt.Sprintf("sql_mode = '%s', collation_connection = %s", mode, collation)
}

// name is that of a table, with its database where it is not the connection's.
func (r *reader) name(schema, table string) string {
	if strings.EqualFold(schema, r.own) {
		return quoteName(table)
	}
	return quoteName(schema) + "." + quoteName(table)
}

// readExtras reads what else the server keeps: options of tables, views and
// indexes, events, and rights.
func (r *reader) readExtras(ctx context.Context) error {
	for _, step := range []func(context.Context) error{r.readTableOptions, r.readViewOptions, r.readIgnoredIndexes, r.readEvents, r.readRights} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	r.catalog.Complete = true
	return nil
}

func (r *reader) readTableOptions(ctx context.Context) error {
	return r.each(ctx, "options of tables", `
		SELECT t.table_schema, t.table_name, coalesce(t.create_options, ''), coalesce(t.table_collation, ''), s.default_collation_name
		FROM information_schema.tables t JOIN information_schema.schemata s ON s.schema_name = t.table_schema
		WHERE t.table_schema IN {schemas} AND t.table_type = 'BASE TABLE'`, func(row *sql.Rows) error {
		var schema, table, options, collation, usual string
		if err := row.Scan(&schema, &table, &options, &collation, &usual); err != nil {
			return err
		}
		t := r.table(schema, table)
		if t == nil {
			return nil
		}
		alter := "ALTER TABLE " + r.name(schema, table) + " "
		for _, o := range strings.Fields(options) {
			if name, value, ok := strings.Cut(o, "="); ok && !strings.EqualFold(name, "partitioned") {
				t.Extras = append(t.Extras, catalog.Extra{Kind: "table option", Name: name, Make: alter + name + " = " + value, Undo: alter + name + " = DEFAULT"})
			}
		}
		if collation != usual && collation != "" {
			t.Extras = append(t.Extras, catalog.Extra{Kind: "default collation", Make: alter + "COLLATE = " + collation})
		}
		return nil
	})
}

func (r *reader) readViewOptions(ctx context.Context) error {
	return r.each(ctx, "options of views", `
		SELECT table_schema, table_name, lower(security_type), lower(check_option) FROM information_schema.views WHERE table_schema IN {schemas}`, func(row *sql.Rows) error {
		var schema, view, security, check string
		if err := row.Scan(&schema, &view, &security, &check); err != nil {
			return err
		}
		t := r.table(schema, view)
		if t == nil {
			return nil
		}
		if security == "invoker" {
			t.Options = append(t.Options, "sql security invoker")
		}
		if check != "none" && check != "" {
			t.Options = append(t.Options, "with "+check+" check option")
		}
		return nil
	})
}

// readIgnoredIndexes reads which indexes the planner may not use. The two
// engines call it differently.
func (r *reader) readIgnoredIndexes(ctx context.Context) error {
	column, value, word, back := "ignored", "YES", "IGNORED", "NOT IGNORED"
	if !r.isMariaDB(ctx) {
		column, value, word, back = "is_visible", "NO", "INVISIBLE", "VISIBLE"
	}
	var known int
	err := r.db.QueryRowContext(ctx, `SELECT count(*) FROM information_schema.columns WHERE table_schema = 'information_schema' AND table_name = 'STATISTICS' AND column_name = ?`, column).Scan(&known)
	if err != nil {
		return fmt.Errorf("asking for ignored indexes: %w", err)
	}
	if known == 0 { // an older server
		return nil
	}
	return r.each(ctx, "ignored indexes", `
		SELECT DISTINCT table_schema, table_name, index_name FROM information_schema.statistics WHERE table_schema IN {schemas} AND `+column+` = '`+value+`'`, func(row *sql.Rows) error {
		var schema, table, index string
		if err := row.Scan(&schema, &table, &index); err != nil {
			return err
		}
		if t := r.table(schema, table); t != nil {
			alter := "ALTER TABLE " + r.name(schema, table) + " ALTER INDEX " + quoteName(index) + " "
			t.Extras = append(t.Extras, catalog.Extra{Kind: "index option", Name: index, Make: alter + word, Undo: alter + back})
		}
		return nil
	})
}

func (r *reader) readEvents(ctx context.Context) error {
	var names [][2]string
	err := r.each(ctx, "events", `SELECT event_schema, event_name FROM information_schema.events WHERE event_schema IN {schemas}`, func(row *sql.Rows) error {
		var at [2]string
		err := row.Scan(&at[0], &at[1])
		names = append(names, at)
		return err
	})
	if err != nil {
		return err
	}
	for _, at := range names {
		var name, mode, zone, charset, collation, own string
		var text sql.NullString
		full := quoteName(at[0]) + "." + quoteName(at[1])
		if err := r.db.QueryRowContext(ctx, "SHOW CREATE EVENT "+full).Scan(&name, &mode, &zone, &text, &charset, &collation, &own); err != nil {
			return fmt.Errorf("reading the event %s: %w", at[1], err)
		}
		r.catalog.Extras = append(r.catalog.Extras, catalog.Extra{Kind: "event", Name: at[1], Make: definer.ReplaceAllString(text.String, ""), Undo: "DROP EVENT IF EXISTS " + r.name(at[0], at[1]), Session: session(mode, collation)})
	}
	return nil
}

// readRights reads the rights on single tables and columns. Those on a whole
// database are the server's affair.
func (r *reader) readRights(ctx context.Context) error {
	add := func(row *sql.Rows) error {
		var schema, table, grantee, rights string
		var grantable bool
		if err := row.Scan(&schema, &table, &grantee, &rights, &grantable); err != nil {
			return err
		}
		t := r.table(schema, table)
		if t == nil {
			return nil
		}
		e := catalog.Extra{Kind: "right", Name: "of " + grantee, Make: "GRANT " + rights + " ON " + r.name(schema, table) + " TO " + grantee, Undo: "REVOKE " + rights + " ON " + r.name(schema, table) + " FROM " + grantee}
		if strings.Contains(rights, "(") {
			e.Name += " on columns"
		}
		if grantable {
			e.Name, e.Make = e.Name+" with grant option", e.Make+" WITH GRANT OPTION"
		}
		t.Extras = append(t.Extras, e)
		return nil
	}
	err := r.each(ctx, "rights", `
		SELECT table_schema, table_name, grantee, group_concat(privilege_type ORDER BY privilege_type SEPARATOR ', '), is_grantable = 'YES'
		FROM information_schema.table_privileges WHERE table_schema IN {schemas} GROUP BY table_schema, table_name, grantee, is_grantable`, add)
	if err != nil {
		return err
	}
	return r.each(ctx, "rights on columns", `
		SELECT table_schema, table_name, grantee, group_concat(concat(privilege_type, ' (`+"`', replace(column_name, '`', '``'), '`"+`)') ORDER BY column_name, privilege_type SEPARATOR ', '), is_grantable = 'YES'
		FROM information_schema.column_privileges WHERE table_schema IN {schemas} GROUP BY table_schema, table_name, grantee, is_grantable`, add)
}
