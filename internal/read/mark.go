package read

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
	"widegate/internal/engine/sqlite"
)

// Mark is a text that differs when the schema of a source may have changed, and
// costs little to get.
func Mark(ctx context.Context, s Source) (string, error) {
	if err := s.complete(); err != nil {
		return "", err
	}
	switch {
	case s.Snapshot != "":
		return FileMark(s.Snapshot), nil
	case len(s.DDL) > 0:
		var marks []string
		for _, path := range s.DDL {
			marks = append(marks, FileMark(path))
		}
		return strings.Join(marks, " "), nil
	}
	db, err := openSession(ctx, s)
	if err != nil {
		return "", err
	}
	defer db.Close()
	marks, err := db.Names(ctx, MarkQuery(s.Engine))
	if err != nil {
		return "", fmt.Errorf("looking at the schema: %w", err)
	}
	return strings.Join(slices.Compact(marks), " "), nil
}

func openSession(ctx context.Context, s Source) (Session, error) {
	if s.Engine == catalog.SQLite {
		return sqlite.Open(s.Path())
	}
	return scratchServers[sqltext.Dialect(s.Engine)].open(ctx, s.URL)
}

// FileMark tells when files were written: one, those of a folder and below it,
// or those of a pattern.
func FileMark(path string) string {
	var marks []string
	files, err := filepath.Glob(path)
	if err != nil || len(files) == 0 {
		files = []string{path}
	}
	for _, root := range files {
		// What cannot be looked at is not there.
		_ = filepath.WalkDir(root, func(at string, entry os.DirEntry, err error) error {
			if err != nil {
				return nil
			}
			if info, err := entry.Info(); err == nil && !entry.IsDir() {
				marks = append(marks, fmt.Sprint(at, info.ModTime().UnixNano(), info.Size()))
			}
			return nil
		})
	}
	return strings.Join(marks, " ")
}

// MarkQuery gives texts that differ when the schema of a live database does.
func MarkQuery(engine string) string { return markQueries[engine] }

// markQueries are those of MarkQuery.
var markQueries = map[string]string{
	catalog.SQLite: "SELECT CAST(schema_version AS TEXT) FROM pragma_schema_version",
	catalog.Postgres: `SELECT count(*)::text || ' ' || coalesce(max(xmin::text::bigint), 0)::text FROM pg_class WHERE relnamespace NOT IN (SELECT oid FROM pg_namespace WHERE nspname LIKE 'pg\_%' OR nspname = 'information_schema')
		UNION ALL SELECT count(*)::text || ' ' || coalesce(max(xmin::text::bigint), 0)::text FROM pg_attribute WHERE attrelid >= 16384
		UNION ALL SELECT count(*)::text || ' ' || coalesce(max(xmin::text::bigint), 0)::text FROM pg_constraint
		UNION ALL SELECT count(*)::text || ' ' || coalesce(max(xmin::text::bigint), 0)::text FROM pg_enum
		UNION ALL SELECT count(*)::text || ' ' || coalesce(max(xmin::text::bigint), 0)::text FROM pg_description WHERE objoid >= 16384`,
	catalog.MySQL: `SELECT CONCAT(COUNT(*), ' ', COALESCE(SUM(CRC32(CONCAT_WS('|', table_name, column_name, ordinal_position, column_type, is_nullable, column_default, column_comment, column_key, extra))), 0)) FROM information_schema.columns WHERE table_schema = DATABASE()
		UNION ALL SELECT CONCAT(COUNT(*), ' ', COALESCE(SUM(CRC32(CONCAT_WS('|', constraint_name, table_name, column_name, referenced_table_name, referenced_column_name))), 0)) FROM information_schema.key_column_usage WHERE table_schema = DATABASE()
		UNION ALL SELECT CONCAT(COUNT(*), ' ', COALESCE(SUM(CRC32(CONCAT_WS('|', table_name, table_comment))), 0)) FROM information_schema.tables WHERE table_schema = DATABASE()`,
}
