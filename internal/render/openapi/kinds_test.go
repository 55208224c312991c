package openapi

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"widegate/internal/model"
)

// TestEveryKindHasASchema holds the table to the list of kinds.
func TestEveryKindHasASchema(t *testing.T) {
	for _, k := range model.Kinds {
		assert.Contains(t, schemas, k)
	}
	assert.Len(t, schemas, len(model.Kinds))
}
