package project

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
)

func TestRenamed(t *testing.T) {
	text := `# Our bees.
database: {url: "sqlite:bees.db"}
tables:
  take: [hive, queen] # hive stays a word in a comment
api:
  versions:
    v1:
      entities:
        hive: {columns: {title: {name: label}}}
entities:
  hive: # boxes
    key: [id]
    tells: title
    order: ["title", frames]
    columns:
      title: {label: The title}
    allow:
      rows: {keeper: "title = 'x' and subtitle = 1"}
  queen:
    columns:
      title: {}
relations:
  - {table: queen, columns: [hive_title], to: hive, target: [title]}
`
	renames := []catalog.Rename{
		{Thing: catalog.RenamedTable, From: "hive", To: "bee box"},
		{Thing: catalog.RenamedColumn, In: "bee box", From: "title", To: "name"},
	}
	got, err := Renamed([]byte(text), renames)
	require.NoError(t, err)
	assert.Equal(t, `# Our bees.
database: {url: "sqlite:bees.db"}
tables:
  take: ["bee box", queen] # hive stays a word in a comment
api:
  versions:
    v1:
      entities:
        "bee box": {columns: {name: {name: label}}}
entities:
  "bee box": # boxes
    key: [id]
    tells: name
    order: ["name", frames]
    columns:
      name: {label: The title}
    allow:
      rows: {keeper: "name = 'x' and subtitle = 1"}
  queen:
    columns:
      title: {}
relations:
  - {table: queen, columns: [hive_title], to: "bee box", target: [name]}
`, string(got))
	same, err := Renamed([]byte(text), nil)
	require.NoError(t, err)
	assert.Equal(t, text, string(same))
}
