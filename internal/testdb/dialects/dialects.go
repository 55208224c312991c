// Package dialects names the engines that tests run on.
package dialects

import (
	mysql "widegate/internal/engine/mysql/dialect"
	postgres "widegate/internal/engine/postgres/dialect"
	sqlite "widegate/internal/engine/sqlite/dialect"
	"widegate/internal/sqltext"
)

// The engines that tests run on.
const (
	Postgres = "postgres"
	MySQL    = "mysql" // MariaDB too
	SQLite   = "sqlite"
)

// All are those of the engines.
var All = []*sqltext.Dialect{sqlite.SQLite, postgres.PostgreSQL, mysql.MySQL}

// Of is that of an engine; nil for another name.
func Of(engine string) *sqltext.Dialect {
	for _, d := range All {
		if d.Name == engine {
			return d
		}
	}
	return nil
}
