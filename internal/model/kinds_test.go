package model

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"widegate/internal/catalog"
)

// TestEveryKindIsKnown holds the tables to the lists of kinds: of types of the
// database, and of fields.
func TestEveryKindIsKnown(t *testing.T) {
	for _, k := range catalog.TypeKinds {
		assert.Contains(t, kinds, k)
	}
	assert.Len(t, kinds, len(catalog.TypeKinds))
	for _, k := range Kinds {
		assert.Contains(t, kindTypes, k)
	}
	assert.Len(t, kindTypes, len(Kinds))
}
