package starter_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render"
	"widegate/internal/render/starter"
)

// TestStartersAreKnown holds the files to the list by which the ledger knows them.
func TestStartersAreKnown(t *testing.T) {
	in := render.Input{Model: &model.Model{API: &project.API{}, Entities: []*model.Entity{{Path: "hives", Table: &catalog.Table{}}}}}
	in.Target = render.Target{Module: "bees", StoreFolder: "store", APIFolder: "api", Starters: true, Scripts: "schema", Database: render.Database{Title: "SQLite"}}
	files, err := starter.Starters{}.Files(in)
	require.NoError(t, err)
	var names []string
	for _, f := range files {
		assert.True(t, f.Starter)
		assert.NotEmpty(t, f.Text)
		names = append(names, f.Path)
	}
	assert.ElementsMatch(t, project.Starters, names)
}
