package migration_test

import (
	"testing"

	"widegate/internal/catalog"
	"widegate/internal/engine/registry"
	"widegate/internal/migration"
)

// draft drafts a script in the way of the engine that the first schema is of.
func draft(before, after *catalog.Catalog, o migration.Options) (*migration.Script, error) {
	e, err := registry.Drafting(before.Engine)
	if err != nil {
		return nil, err
	}
	return migration.Draft(e, before, after, o)
}

// extend does so for a table that is wanted.
func extend(c *catalog.Catalog, table string, wanted []string) (*catalog.Catalog, error) {
	e, err := registry.Drafting(c.Engine)
	if err != nil {
		return nil, err
	}
	return migration.Extend(e, c, table, wanted)
}

// made makes a schema in an empty database and reads it back.
func made(t *testing.T, db migration.Database, schema *catalog.Catalog) (*catalog.Catalog, error) {
	e, err := registry.Drafting(schema.Engine)
	if err != nil {
		return nil, err
	}
	return migration.Made(t.Context(), e, db, schema)
}
