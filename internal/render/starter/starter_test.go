package starter_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/project"
	"widegate/internal/render/starter"
)

// TestStartersAreKnown holds the files to the list by which the ledger knows them.
func TestStartersAreKnown(t *testing.T) {
	files, err := starter.Render(starter.Facts{Name: "bees", Command: "./cmd/bees", Engine: "SQLite", Scripts: "schema"})
	require.NoError(t, err)
	var names []string
	for _, f := range files {
		assert.True(t, f.Starter)
		assert.NotEmpty(t, f.Text)
		names = append(names, f.Path)
	}
	assert.ElementsMatch(t, project.Starters, names)
}
