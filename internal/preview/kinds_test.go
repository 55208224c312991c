package preview

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"widegate/internal/model"
)

// TestEveryKindHasAShape holds the table to the list of kinds.
func TestEveryKindHasAShape(t *testing.T) {
	for _, k := range model.Kinds {
		assert.Contains(t, shapes, k)
	}
	assert.Len(t, shapes, len(model.Kinds))
}
