package golang

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"widegate/internal/model"
)

// TestEveryKindHasAType holds the table to the list of kinds.
func TestEveryKindHasAType(t *testing.T) {
	named := []model.Kind{model.KindEnum, model.KindList, model.KindRange, model.KindRecord}
	for _, k := range model.Kinds {
		assert.NotEmpty(t, goKinds[k].class, k)
		if goKinds[k].typ == "" {
			assert.Contains(t, named, k)
		}
	}
	assert.Len(t, goKinds, len(model.Kinds))
}
